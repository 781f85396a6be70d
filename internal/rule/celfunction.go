package rule

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/path"
)

// quotientDigits is how many digits a quotient that never ends is given.
const quotientDigits = 34

var (
	computing = apd.BaseContext.WithPrecision(1000)
	dividing  = apd.BaseContext.WithPrecision(quotientDigits)
)

type function struct {
	arities []int
	call    func(args []ref.Val) (ref.Val, error)
	cost    func(args []ref.Val) int // beside one step; nil for what the arguments hold
}

func overloadID(name string, arity int) string {
	id := fmt.Sprintf("testbench_%s_%d", strings.TrimPrefix(name, "@"), arity)
	if strings.HasPrefix(name, "@") {
		return "own_" + id
	}
	return id
}

// FunctionNames lists the functions that conditions may call, beside CEL's own.
func FunctionNames() []string {
	var names []string
	for name := range functions() {
		if !strings.HasPrefix(name, "@") {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func functions() map[string]function {
	return map[string]function{
		"@same": {[]int{2}, func(a []ref.Val) (ref.Val, error) {
			return types.Bool(same(a[0], a[1])), nil
		}, costOfComparing},
		"@differ": {[]int{2}, func(a []ref.Val) (ref.Val, error) {
			return types.Bool(!same(a[0], a[1])), nil
		}, costOfComparing},
		"@less":         {[]int{2}, ordering(func(order int) bool { return order < 0 }), nil},
		"@less_or_same": {[]int{2}, ordering(func(order int) bool { return order <= 0 }), nil},
		"@more":         {[]int{2}, ordering(func(order int) bool { return order > 0 }), nil},
		"@more_or_same": {[]int{2}, ordering(func(order int) bool { return order >= 0 }), nil},
		"@add":          {[]int{2}, add, nil},
		"@subtract":     {[]int{2}, subtract, nil},
		"@multiply":     {[]int{2}, arithmetic(computing.Mul), nil},
		"@divide":       {[]int{2}, arithmetic(quotient), nil},
		"@modulo":       {[]int{2}, arithmetic(computing.Rem), nil},
		"@negate": {[]int{1}, numeric(func(d *apd.Decimal) (*apd.Decimal, error) {
			return new(apd.Decimal).Neg(d), nil
		}), nil},
		"@dec":        {[]int{1}, number, nil},
		"@int":        {[]int{1}, numeric(truncated), nil},
		"@size":       {[]int{1}, size, costOfSize},
		"@within":     {[]int{2}, within, costOfComparing},
		"@index":      {[]int{2}, index, nil},
		"@startsWith": {[]int{2}, textual(strings.HasPrefix), nil},
		"@endsWith":   {[]int{2}, textual(strings.HasSuffix), nil},
		"@contains":   {[]int{2}, containing, costOfComparing},
		"@matches":    {[]int{2}, matchingText, costOfMatching},
		"@duration":   {[]int{1}, duration, nil},
		"number":      {[]int{1}, number, nil},
		"text":        {[]int{1}, asText, nil},
		"sum":         {[]int{1}, folded(sum), nil},
		"avg":         {[]int{1}, folded(average), nil},
		"min":         {[]int{1, 2, 3}, extreme(-1), nil},
		"max":         {[]int{1, 2, 3}, extreme(1), nil},
		"abs": {[]int{1}, numeric(func(d *apd.Decimal) (*apd.Decimal, error) {
			return new(apd.Decimal).Abs(d), nil
		}), nil},
		"round":    {[]int{1, 2}, round, nil},
		"date":     {[]int{1}, date, nil},
		"datetime": {[]int{1}, datetime, nil},
		"days":     {[]int{1}, days, nil},
		"absent":   {[]int{1}, func(a []ref.Val) (ref.Val, error) { return types.Bool(isAbsent(a[0])), nil }, nil},
		"present":  {[]int{1}, func(a []ref.Val) (ref.Val, error) { return types.Bool(!isAbsent(a[0])), nil }, nil},
		"at":       {[]int{2}, at, nil},
		"first":    {[]int{1}, chosen(func(int) int { return 0 }), costOfSize},
		"last":     {[]int{1}, chosen(func(count int) int { return count - 1 }), costOfSize},
		"least":    {[]int{2}, extremeBy(-1), costOfComparing},
		"most":     {[]int{2}, extremeBy(1), costOfComparing},
		"placed":   {[]int{1}, placed, costOfComparing},
	}
}

// functionOptions declares every function on values of any type: the types of
// an answer are known only when it is there.
func functionOptions() []cel.EnvOption {
	var options []cel.EnvOption
	for name, f := range functions() {
		binding := func(args ...ref.Val) ref.Val {
			for _, arg := range args {
				if types.IsError(arg) {
					return arg
				}
			}
			result, err := f.call(args)
			if err != nil {
				return types.NewErr("%s", err.Error())
			}
			return result
		}
		var overloads []cel.FunctionOpt
		for _, arity := range f.arities {
			args := make([]*cel.Type, arity)
			for i := range args {
				args[i] = cel.DynType
			}
			overloads = append(overloads,
				cel.Overload(overloadID(name, arity), args, cel.DynType, cel.FunctionBinding(binding)))
		}
		options = append(options, cel.Function(name, overloads...))
	}
	return options
}

func isAbsent(v ref.Val) bool {
	node, ok := v.(nodeValue)
	return ok && node.node == nil
}

// describe names a value in messages.
func describe(v ref.Val) string {
	if isAbsent(v) {
		return "what is not there"
	}
	node, err := unwrap(v)
	if err != nil {
		return "a " + v.Type().TypeName()
	}
	return node.Describe()
}

func needNumber(v ref.Val) (*apd.Decimal, error) {
	if d, ok := toDecimal(v); ok {
		return d, nil
	}
	return nil, fmt.Errorf("%s is not a number", describe(v))
}

func arithmetic(operation func(result, x, y *apd.Decimal) (apd.Condition, error)) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		x, err := needNumber(args[0])
		if err != nil {
			return nil, err
		}
		y, err := needNumber(args[1])
		if err != nil {
			return nil, err
		}
		result := new(apd.Decimal)
		if _, err := operation(result, x, y); err != nil {
			return nil, fmt.Errorf("it cannot be calculated: %w", err)
		}
		return decimalValue{result}, nil
	}
}

// quotient divides, and drops the zeros at the end that dividing fills up with.
func quotient(result, x, y *apd.Decimal) (apd.Condition, error) {
	if y.IsZero() {
		return 0, errors.New("division by zero")
	}
	condition, err := dividing.Quo(result, x, y)
	result.Reduce(result)
	return condition, err
}

func numeric(operation func(*apd.Decimal) (*apd.Decimal, error)) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		d, err := needNumber(args[0])
		if err != nil {
			return nil, err
		}
		result, err := operation(d)
		return decimalValue{result}, err
	}
}

func truncated(d *apd.Decimal) (*apd.Decimal, error) {
	whole, fraction := new(apd.Decimal), new(apd.Decimal)
	d.Modf(whole, fraction)
	return whole, nil
}

func number(args []ref.Val) (ref.Val, error) {
	d, err := needNumber(args[0])
	return decimalValue{d}, err
}

func asText(args []ref.Val) (ref.Val, error) {
	text, ok := toText(args[0])
	if !ok {
		return nil, fmt.Errorf("%s is not a single value", describe(args[0]))
	}
	return types.String(text), nil
}

// add adds numbers, joins texts and lists, and moves instants by durations.
// Two texts are joined, unless neither has a type of its own and both read as
// numbers.
func add(args []ref.Val) (ref.Val, error) {
	a, b := args[0], args[1]
	_, textA := a.(types.String)
	_, textB := b.(types.String)
	if !textA && !textB {
		x, okX := toDecimal(a)
		y, okY := toDecimal(b)
		if okX && okY {
			result := new(apd.Decimal)
			_, err := computing.Add(result, x, y)
			return decimalValue{result}, err
		}
	}
	if adder, ok := a.(traits.Adder); ok && a.Type() == b.Type() {
		return adder.Add(b), nil
	}
	if span, ok := b.(types.Duration); ok {
		if moment, ok := toMoment(a); ok {
			return moment.Add(span), nil
		}
	}
	x, okX := toText(a)
	y, okY := toText(b)
	if okX && okY && (textA || textB) {
		return types.String(x + y), nil
	}
	first, okFirst := elements(a)
	second, okSecond := elements(b)
	if okFirst && okSecond && !okX && !okY {
		return types.NewRefValList(types.DefaultTypeAdapter, append(first, second...)), nil
	}
	return nil, fmt.Errorf("%s and %s cannot be added", describe(a), describe(b))
}

func subtract(args []ref.Val) (ref.Val, error) {
	a, b := args[0], args[1]
	if x, ok := toDecimal(a); ok {
		if y, ok := toDecimal(b); ok {
			result := new(apd.Decimal)
			_, err := computing.Sub(result, x, y)
			return decimalValue{result}, err
		}
	}
	if moment, ok := toMoment(a); ok {
		if span, ok := b.(types.Duration); ok {
			return moment.Subtract(span), nil
		}
		if other, ok := toMoment(b); ok {
			return moment.Subtract(other), nil
		}
	}
	if subtractor, ok := a.(traits.Subtractor); ok && a.Type() == b.Type() {
		return subtractor.Subtract(b), nil
	}
	return nil, fmt.Errorf("%s cannot be taken from %s", describe(b), describe(a))
}

func ordering(expected func(order int) bool) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		order, err := compareValues(args[0], args[1])
		return types.Bool(err == nil && expected(order)), err
	}
}

func compareValues(a, b ref.Val) (int, error) {
	if x, ok := toDecimal(a); ok {
		if y, ok := toDecimal(b); ok {
			return x.Cmp(y), nil
		}
	}
	if x, ok := toMoment(a); ok {
		if y, ok := toMoment(b); ok {
			return x.Time.Compare(y.Time), nil
		}
	}
	if hasNumberType(a) && hasNumberType(b) {
		return 0, errors.New("a number with more than 100,000 digits, or with an exponent beyond 10,000, cannot be " +
			"compared")
	}
	x, okX := toText(a)
	y, okY := toText(b)
	if okX && okY {
		if mx, err := readMeasure(x); err == nil {
			if my, err := readMeasure(y); err == nil {
				return compare(mx, my)
			}
		}
		if hasNumberType(a) == hasNumberType(b) {
			return strings.Compare(x, y), nil
		}
	} else if comparer, ok := a.(traits.Comparer); ok && a.Type() == b.Type() {
		if order, ok := comparer.Compare(b).(types.Int); ok {
			return int(order), nil
		}
	}
	return 0, fmt.Errorf("%s cannot be compared with %s", describe(a), describe(b))
}

// hasNumberType says whether a value is a number by its type. A number has no order with a text
// that reads as none; what has no type of its own may be compared as a text.
func hasNumberType(v ref.Val) bool {
	switch v := v.(type) {
	case decimalValue, types.Int, types.Uint, types.Double:
		return true
	case nodeValue:
		return v.node != nil && v.node.Value().Kind == document.Number
	}
	return false
}

func size(args []ref.Val) (ref.Val, error) {
	if node, ok := args[0].(nodeValue); ok && node.node != nil && node.node.Kind == document.Untyped {
		return types.Int(utf8.RuneCountInString(node.node.Text)), nil
	}
	if isAbsent(args[0]) {
		return types.Int(0), nil
	}
	if sizer, ok := args[0].(traits.Sizer); ok {
		return sizer.Size(), nil
	}
	return nil, fmt.Errorf("%s has no size", describe(args[0]))
}

func index(args []ref.Val) (ref.Val, error) {
	if node, ok := args[0].(nodeValue); ok {
		return node.Get(args[1]), nil
	}
	indexer, ok := args[0].(traits.Indexer)
	if !ok {
		return nil, fmt.Errorf("%s has no [ ]", describe(args[0]))
	}
	at := args[1]
	if d, ok := toDecimal(at); ok {
		if i, err := d.Int64(); err == nil {
			at = types.Int(i)
		}
	}
	return indexer.Get(at), nil
}

func textual(operation func(s, part string) bool) func([]ref.Val) (ref.Val, error) {
	return func(args []ref.Val) (ref.Val, error) {
		x, okX := toText(args[0])
		y, okY := toText(args[1])
		if !okX || !okY {
			return nil, fmt.Errorf("%s is not text", describe(args[0]))
		}
		return types.Bool(operation(x, y)), nil
	}
}

func containing(args []ref.Val) (ref.Val, error) {
	if _, ok := toText(args[0]); ok {
		return textual(strings.Contains)(args)
	}
	return within([]ref.Val{args[1], args[0]})
}

func matchingText(args []ref.Val) (ref.Val, error) {
	x, okX := toText(args[0])
	y, okY := toText(args[1])
	if !okX || !okY {
		return nil, fmt.Errorf("%s is not text", describe(args[0]))
	}
	re, err := regexp.Compile(y)
	if err != nil {
		return nil, err
	}
	// CEL counts when all is done, and this alone may take a minute.
	if costOfMatching(args) > costLimit {
		return nil, errors.New(errTooMany)
	}
	return types.Bool(re.MatchString(x)), nil
}

// round rounds half away from zero, to whole numbers or to n digits.
func round(args []ref.Val) (ref.Val, error) {
	d, err := needNumber(args[0])
	if err != nil {
		return nil, err
	}
	places := int64(0)
	if len(args) == 2 {
		count, err := needNumber(args[1])
		if err != nil {
			return nil, err
		}
		if places, err = count.Int64(); err != nil || places < -100 || places > 100 {
			return nil, errors.New("round takes from -100 to 100 digits")
		}
	}
	result := new(apd.Decimal)
	if _, err := computing.Quantize(result, d, int32(-places)); err != nil {
		return nil, err
	}
	return decimalValue{result}, nil
}

func datetime(args []ref.Val) (ref.Val, error) {
	moment, ok := toMoment(args[0])
	if !ok {
		return nil, fmt.Errorf("%s is not a date or time", describe(args[0]))
	}
	return moment, nil
}

func date(args []ref.Val) (ref.Val, error) {
	moment, err := datetime(args)
	if err != nil {
		return nil, err
	}
	year, month, day := moment.(types.Timestamp).Date()
	return types.Timestamp{Time: time.Date(year, month, day, 0, 0, 0, 0, time.UTC)}, nil
}

func duration(args []ref.Val) (ref.Val, error) {
	text, ok := toText(args[0])
	if !ok {
		return nil, fmt.Errorf("%s is not a duration", describe(args[0]))
	}
	if d, err := time.ParseDuration(text); err == nil {
		return types.Duration{Duration: d}, nil
	}
	m, err := readMeasure(text)
	if err != nil || m.kind != aDuration {
		return nil, fmt.Errorf("%q is not a duration (800 ms, 5 s, 2 min, PT5S)", text)
	}
	return span(m.number, time.Second)
}

// span is so much of a unit. CEL's durations end at 292 years.
func span(count *apd.Decimal, unit time.Duration) (ref.Val, error) {
	number, err := count.Float64()
	if err != nil || math.Abs(number) >= float64(math.MaxInt64)/float64(unit) {
		return nil, fmt.Errorf("%s times %s is too long for a duration", count, unit)
	}
	return types.Duration{Duration: time.Duration(number * float64(unit))}, nil
}

func days(args []ref.Val) (ref.Val, error) {
	d, err := needNumber(args[0])
	if err != nil {
		return nil, err
	}
	return span(d, 24*time.Hour)
}

// at follows a path, and so reaches whatever fields and keep can reach.
func at(args []ref.Val) (ref.Val, error) {
	source, ok := args[0].(types.String)
	current, isEvaluation := args[1].(evaluation)
	if !ok || !isEvaluation {
		return nil, errors.New(`at takes a path in quotes: at("lines[0].sku")`)
	}
	if found, known := current.found[string(source)]; known {
		return current.wrap(found), nil
	}
	if !current.spend(stepsToAPath) {
		return nil, errors.New(errTooMany)
	}
	compiled, err := path.Compile(string(source))
	if err != nil {
		return nil, err
	}
	selection, err := compiled.Find(current.data.Roots, current.data.Scope)
	if err != nil {
		return nil, err
	}
	found := selection.Whole()
	current.found[string(source)] = found
	return current.wrap(found), nil
}
