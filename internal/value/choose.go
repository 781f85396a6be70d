package value

import (
	"fmt"
	"strings"

	"testbench/internal/document"
)

// Extreme is the place of the item whose field is the least (sign -1) or the greatest (1), the first of several; -1
// where none has the field, which is a name, or names with dots. Numbers are compared by their value, then dates and
// times, then texts. Items that lack the field are passed over.
func Extreme(items []*document.Node, field string, sign int) (int, error) {
	best := -1
	var least *document.Node
	for i, item := range items {
		v := fieldIn(item, field)
		switch {
		case v == nil:
			continue
		case !v.IsScalar():
			return 0, fmt.Errorf("%s is %s, and not a single value", field, v.Describe())
		case least == nil || order(v, least)*sign > 0:
			best, least = i, v
		}
	}
	return best, nil
}

// fieldIn is the value of a field of an item; nil where it has none.
func fieldIn(item *document.Node, field string) *document.Node {
	for name := range strings.SplitSeq(field, ".") {
		switch {
		case item == nil:
			return nil
		case item.Kind != document.Element:
			item = item.Get(name)
			continue
		}
		child := item.Child(name)
		if text, isAttribute := item.Attribute(name); child == nil && isAttribute {
			child = document.NewUntyped(text)
		}
		item = child
	}
	return item.Value()
}

func order(a, b *document.Node) int {
	if x, ok := a.Decimal(); ok {
		if y, ok := b.Decimal(); ok {
			return x.Cmp(y)
		}
	}
	x, _, errX := Moment(a.Text)
	y, _, errY := Moment(b.Text)
	if errX == nil && errY == nil {
		return x.Compare(y)
	}
	return strings.Compare(a.Text, b.Text)
}

// chosen makes a filter that gives one item of a list.
func chosen(choose func(items []*document.Node, args []string) (int, error),
) func(*document.Node, []string) (*document.Node, error) {
	return func(node *document.Node, args []string) (*document.Node, error) {
		items := []*document.Node{node} // one alone is a list of itself
		if node.Kind == document.List {
			items = node.Items()
		}
		i, err := choose(items, args)
		switch {
		case err != nil:
			return nil, err
		case i < 0 && len(items) == 0:
			return nil, fmt.Errorf("the list is empty")
		case i < 0:
			return nil, fmt.Errorf("no item has the field %s", strings.Join(args, " "))
		}
		return items[i], nil
	}
}

func extremeBy(sign int) func([]*document.Node, []string) (int, error) {
	return func(items []*document.Node, args []string) (int, error) { return Extreme(items, args[0], sign) }
}
