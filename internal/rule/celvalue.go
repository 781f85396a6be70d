package rule

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/path"
)

// nodeValue is a node of a tree inside CEL; a nil node is what is absent. It
// implements the traits of a map and a list one by one, not as traits.Mapper or
// traits.Lister: only so may a field that is not there be absent in place of
// an error, and an element alone be a list of one.
type nodeValue struct {
	node    *document.Node
	*budget // nil for what is absent
}

var (
	nodeType = types.NewObjectType("testbench.Value", traits.IndexerType, traits.FieldTesterType, traits.SizerType,
		traits.IterableType, traits.ContainerType)

	_ traits.Indexer     = nodeValue{}
	_ traits.FieldTester = nodeValue{}
	_ traits.Sizer       = nodeValue{}
	_ traits.Iterable    = nodeValue{}
	_ traits.Container   = nodeValue{}
)

// wrap makes a CEL value of a node: booleans, nulls and typed texts are CEL's
// own, numbers are decimals.
func (b *budget) wrap(node *document.Node) ref.Val {
	v := node.Value()
	if v == nil {
		return nodeValue{}
	}
	switch v.Kind {
	case document.Null:
		return types.NullValue
	case document.Boolean:
		return types.Bool(v.Text == "true")
	case document.Text:
		return types.String(v.Text)
	case document.Number:
		if d, ok := document.Decimal(v.Text); ok {
			return decimalValue{d}
		}
	}
	return nodeValue{node, b}
}

func (v nodeValue) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("%s cannot become %v", v.node.Describe(), t)
}

func (v nodeValue) ConvertToType(t ref.Type) ref.Val {
	if t == types.StringType && v.node != nil && v.node.Value().IsScalar() {
		return types.String(v.node.Value().Text)
	}
	return types.NewErr("%s cannot become a %s", v.node.Describe(), t.TypeName())
}

func (v nodeValue) Equal(other ref.Val) ref.Val { return types.Bool(same(v, other)) }
func (v nodeValue) Type() ref.Type              { return nodeType }
func (v nodeValue) Value() any                  { return v.node }

// items are the elements of a list; an element alone is a list of itself.
func (v nodeValue) items() []*document.Node {
	if v.node == nil {
		return nil
	}
	switch v.node.Kind {
	case document.List:
		return v.node.Items()
	case document.Object:
		keys := make([]*document.Node, len(v.node.Members()))
		for i, m := range v.node.Members() {
			keys[i] = document.NewText(m.Key)
		}
		return keys
	}
	return []*document.Node{v.node}
}

// Get finds a field by name or an element by index, as paths do.
func (v nodeValue) Get(index ref.Val) ref.Val {
	if v.node == nil {
		return v
	}
	if !v.spend(1 + len(v.node.Items())/itemsToAStep + len(v.node.Members())/membersToAStep) {
		return types.NewErr(errTooMany)
	}
	if name, ok := index.(types.String); ok {
		field := path.Child(v.node, string(name))
		if field == nil && v.node == v.answer && v.shapeless != "" {
			return types.NewErr("%s cannot be in the answer: it is %s", string(name), v.shapeless)
		}
		return v.wrap(field)
	}
	d, ok := toDecimal(index)
	if !ok {
		return types.NewErr("%v is neither a name nor a number", index)
	}
	i, err := d.Int64()
	if err != nil {
		return types.NewErr("%s is not an index", d)
	}
	items := v.items()
	if i < 0 {
		i += int64(len(items))
	}
	if v.node.Kind == document.Object || i < 0 || i >= int64(len(items)) {
		return nodeValue{}
	}
	return v.wrap(items[i])
}

func (v nodeValue) IsSet(field ref.Val) ref.Val {
	switch found := v.Get(field).(type) {
	case nodeValue:
		return types.Bool(found.node != nil)
	case *types.Err:
		return found
	}
	return types.True
}

func (v nodeValue) Size() ref.Val {
	if v.node != nil && v.node.Kind == document.Object {
		return types.Int(len(v.node.Members()))
	}
	return types.Int(len(v.items()))
}

func (v nodeValue) Contains(value ref.Val) ref.Val {
	for _, item := range v.items() {
		if same(v.wrap(item), value) {
			return types.True
		}
	}
	return types.False
}

func (v nodeValue) Iterator() traits.Iterator { return &nodeIterator{nodeValue: v, items: v.items()} }

type nodeIterator struct {
	nodeValue
	items []*document.Node
	next  int
}

func (it *nodeIterator) HasNext() ref.Val { return types.Bool(it.next < len(it.items)) }
func (it *nodeIterator) Next() ref.Val {
	it.next++
	return it.wrap(it.items[it.next-1])
}

// decimalValue is an exact number.
type decimalValue struct {
	decimal *apd.Decimal
}

var decimalType = types.NewObjectType("testbench.Number")

func (v decimalValue) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a number cannot become %v", t)
}

func (v decimalValue) ConvertToType(t ref.Type) ref.Val {
	if t == types.StringType {
		return types.String(document.FormatDecimal(v.decimal))
	}
	return types.NewErr("a number cannot become a %s", t.TypeName())
}

func (v decimalValue) Equal(other ref.Val) ref.Val { return types.Bool(same(v, other)) }
func (v decimalValue) Type() ref.Type              { return decimalType }
func (v decimalValue) Value() any                  { return v.decimal }

// evaluation carries the data of one evaluation to the function at.
type evaluation struct {
	nodeValue
	data  *Data
	found map[string]*document.Node // by paths: in a loop each is followed once
}

// toDecimal gives the number that a value is or, as a text, reads as.
func toDecimal(v ref.Val) (*apd.Decimal, bool) {
	switch v := v.(type) {
	case decimalValue:
		return v.decimal, true
	case types.Int:
		return apd.New(int64(v), 0), true
	case types.Uint:
		return document.Decimal(strconv.FormatUint(uint64(v), 10))
	case types.Double:
		return document.Decimal(strconv.FormatFloat(float64(v), 'f', -1, 64))
	case types.String:
		return document.Decimal(string(v))
	case nodeValue:
		if v.node != nil && v.node.Value().IsScalar() {
			return v.node.Decimal()
		}
	}
	return nil, false
}

// toText gives the text of a single value.
func toText(v ref.Val) (string, bool) {
	if text, ok := v.(types.String); ok {
		return string(text), true
	}
	node, err := unwrap(v)
	if err != nil || node == nil || !node.Value().IsScalar() {
		return "", false
	}
	return node.Value().Text, true
}

// toMoment gives the instant that a value is or, as a text, reads as.
func toMoment(v ref.Val) (types.Timestamp, bool) {
	if moment, ok := v.(types.Timestamp); ok {
		return moment, true
	}
	if text, ok := toText(v); ok {
		if m, err := readMeasure(text); err == nil && m.number == nil {
			return types.Timestamp{Time: m.moment}, true
		}
	}
	return types.Timestamp{}, false
}

// elements gives the items of any list.
func elements(v ref.Val) ([]ref.Val, bool) {
	if node, ok := v.(nodeValue); ok && node.node == nil {
		return nil, false
	}
	list, ok := v.(traits.Iterable)
	if !ok {
		return nil, false
	}
	if _, isMap := v.(traits.Mapper); isMap {
		return nil, false
	}
	var items []ref.Val
	for it := list.Iterator(); it.HasNext() == types.True; {
		items = append(items, it.Next())
	}
	return items, true
}

// same is equality by the grammar's decisions, for every pair of values.
func same(a, b ref.Val) bool {
	left, errLeft := unwrap(a)
	right, errRight := unwrap(b)
	if errLeft != nil || errRight != nil {
		return types.Equal(a, b) == types.True
	}
	if left == nil || right == nil {
		return left == nil && right == nil
	}
	_, isMomentA := a.(types.Timestamp)
	_, isMomentB := b.(types.Timestamp)
	if isMomentA || isMomentB {
		x, okX := toMoment(a)
		y, okY := toMoment(b)
		return okX && okY && x.Time.Equal(y.Time)
	}
	return document.Equal(left, right)
}

func formatMoment(t time.Time) string {
	if t.Equal(t.Truncate(24*time.Hour)) && t.Location() == time.UTC {
		return t.Format(time.DateOnly)
	}
	return t.Format(time.RFC3339Nano)
}

func formatSpan(d time.Duration) string {
	seconds := strings.TrimRight(strings.TrimRight(strconv.FormatFloat(d.Seconds(), 'f', 9, 64), "0"), ".")
	return seconds + " s"
}
