package rule

import (
	"errors"
	"fmt"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/value"
)

func within(args []ref.Val) (ref.Val, error) {
	items, ok := elements(args[1])
	if !ok {
		if container, ok := args[1].(traits.Container); ok {
			return container.Contains(args[0]), nil
		}
		return nil, fmt.Errorf("%s is not a list", describe(args[1]))
	}
	for _, item := range items {
		if same(args[0], item) {
			return types.True, nil
		}
	}
	return types.False, nil
}

func folded(fold func([]*apd.Decimal) (*apd.Decimal, error)) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		items, ok := elements(args[0])
		if !ok {
			return nil, fmt.Errorf("%s is not a list", describe(args[0]))
		}
		numbers := make([]*apd.Decimal, len(items))
		for i, item := range items {
			var err error
			if numbers[i], err = needNumber(item); err != nil {
				return nil, fmt.Errorf("[%d]: %w", i, err)
			}
		}
		result, err := fold(numbers)
		return decimalValue{result}, err
	}
}

func sum(numbers []*apd.Decimal) (*apd.Decimal, error) {
	total := new(apd.Decimal)
	for _, n := range numbers {
		if _, err := computing.Add(total, total, n); err != nil {
			return nil, err
		}
	}
	return total, nil
}

func average(numbers []*apd.Decimal) (*apd.Decimal, error) {
	if len(numbers) == 0 {
		return nil, errors.New("an empty list has no average")
	}
	total, err := sum(numbers)
	if err == nil {
		_, err = quotient(total, total, apd.New(int64(len(numbers)), 0))
	}
	return total, err
}

// extreme gives the smallest (-1) or largest (1) of a list or of its arguments.
func extreme(sign int) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		items := args
		if len(args) == 1 {
			var ok bool
			if items, ok = elements(args[0]); !ok || len(items) == 0 {
				return nil, fmt.Errorf("%s has no smallest or largest", describe(args[0]))
			}
		}
		best := items[0]
		for _, item := range items[1:] {
			order, err := compareValues(item, best)
			if err != nil {
				return nil, err
			}
			if order*sign > 0 {
				best = item
			}
		}
		return best, nil
	}
}

// chosen gives the item of a list at a place; of an empty list it gives what is absent.
func chosen(place func(count int) int) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		items, ok := elements(args[0])
		switch {
		case !ok && !isAbsent(args[0]):
			return nil, fmt.Errorf("%s is not a list", describe(args[0]))
		case len(items) == 0:
			return nodeValue{}, nil
		}
		return items[place(len(items))], nil
	}
}

// extremeBy gives the item of a list whose field is the smallest (-1) or the largest (1); what is absent, where none
// has the field.
func extremeBy(sign int) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		items, ok := elements(args[0])
		field, isName := toText(args[1])
		if !ok && !isAbsent(args[0]) || !isName {
			return nil, errors.New(`it takes a list, and the name of a field in quotes: least(answer.lots, "kilos")`)
		}
		nodes := make([]*document.Node, len(items))
		for i, item := range items {
			var err error
			if nodes[i], err = unwrap(item); err != nil {
				return nil, err
			}
		}
		i, err := value.Extreme(nodes, field, sign)
		if err != nil || i < 0 {
			return nodeValue{}, err
		}
		return items[i], nil
	}
}

// placed gives each item of a list with its place and its neighbours, which are absent at the ends.
func placed(args []ref.Val) (ref.Val, error) {
	items, ok := elements(args[0])
	if !ok && !isAbsent(args[0]) {
		return nil, fmt.Errorf("%s is not a list", describe(args[0]))
	}
	neighbour := func(i int) ref.Val {
		if i < 0 || i >= len(items) {
			return nodeValue{}
		}
		return items[i]
	}
	out := make([]ref.Val, len(items))
	for i, item := range items {
		out[i] = types.NewRefValMap(types.DefaultTypeAdapter, map[ref.Val]ref.Val{
			types.String("index"): types.Int(i), types.String("it"): item,
			types.String("previous"): neighbour(i - 1), types.String("next"): neighbour(i + 1),
		})
	}
	return types.NewRefValList(types.DefaultTypeAdapter, out), nil
}
