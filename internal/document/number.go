package document

import (
	"strconv"
	"strings"

	"github.com/cockroachdb/apd/v3"
)

// maxExponent bounds the numbers that are computed with: aligning two decimals
// costs memory in proportion to the distance of their exponents.
const maxExponent = 10_000

// mostDigits bounds how long a number is that is computed with: reading the digits costs more than their number.
const mostDigits = 100_000

// IsNumber says whether s is a number by JSON's grammar (RFC 8259, section 6).
// It decides everywhere whether a text without a type is a number: 00123,
// 1_000, +5 and NaN are not.
func IsNumber(s string) bool {
	i := 0
	digits := func() bool {
		start := i
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
		return i > start
	}
	if i < len(s) && s[i] == '-' {
		i++
	}
	start := i
	if !digits() || i-start > 1 && s[start] == '0' {
		return false
	}
	if i < len(s) && s[i] == '.' {
		i++
		if !digits() {
			return false
		}
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if !digits() {
			return false
		}
	}
	return i == len(s)
}

// Decimal returns the exact value of a number by JSON's grammar. It returns
// false for anything else, for exponents beyond ±10,000 and for more than 100,000 digits.
func Decimal(s string) (*apd.Decimal, bool) {
	if len(s) > mostDigits || !IsNumber(s) {
		return nil, false
	}
	d, _, err := apd.NewFromString(s)
	if err != nil || d.Exponent > maxExponent || d.Exponent < -maxExponent {
		return nil, false
	}
	return d, true
}

// Decimal returns the exact value of a node that is a number or a text that
// reads as one.
func (n *Node) Decimal() (*apd.Decimal, bool) {
	v := n.Value()
	switch {
	case v == nil:
		return nil, false
	case v.Kind == Number || v.Kind == Text:
		return Decimal(v.Text)
	case v.Kind == Untyped:
		return Decimal(strings.TrimSpace(v.Text))
	}
	return nil, false
}

// FormatDecimal writes a decimal without an exponent where that stays short.
func FormatDecimal(d *apd.Decimal) string {
	if d.Exponent > 40 || d.Exponent < -400 {
		return d.String()
	}
	return d.Text('f')
}

// Equal compares two values by the rules of the grammar's equality: untyped
// against number as decimals; untyped against text exactly; two untyped as
// decimals where both are numbers; a typed text never equals a typed number.
// Objects have the same keys, lists the same items in order; an element equals
// an object by the values of its fields.
func Equal(a, b *Node) bool {
	a, b = a.Value(), b.Value()
	if a == nil || b == nil {
		return a == b
	}
	if a.IsScalar() && b.IsScalar() {
		return equalScalars(a, b)
	}
	switch {
	case a.Kind == List && b.Kind == List:
		if len(a.Items()) != len(b.Items()) {
			return false
		}
		for i := range a.Items() {
			if !Equal(a.Items()[i], b.Items()[i]) {
				return false
			}
		}
		return true
	case a.Kind == List && b.Kind == Element, a.Kind == Element && b.Kind == List:
		return false
	case isFields(a) && isFields(b):
		am, bm := a.fields(), b.fields()
		if len(am) != len(bm) {
			return false
		}
		other := make(map[string]*Node, len(bm))
		for _, m := range bm {
			other[m.Key] = m.Value
		}
		for _, m := range am {
			value, ok := other[m.Key]
			if !ok {
				return false
			}
			// In XML one element alone stands for a list with one item.
			if m.Value.Kind == List && value.Kind != List {
				value = NewList(value)
			} else if m.Value.Kind != List && value.Kind == List && len(value.Items()) == 1 {
				value = value.Items()[0]
			}
			if !Equal(m.Value, value) {
				return false
			}
		}
		return true
	}
	return false
}

func isFields(n *Node) bool { return n.Kind == Object || n.Kind == Element }

// fields gives an element's children and attributes as members; a repeated
// element becomes a list, as it does for paths.
func (n *Node) fields() []Member {
	if n.Kind == Object {
		return n.Members()
	}
	object := NewFields()
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() && a.Name.Space != SchemaInstance {
			object.Set(a.Name.Local, NewUntyped(a.Value))
		}
	}
	repeated := map[string]bool{}
	for _, child := range n.Children() {
		key := child.Name().Local
		switch before := object.Get(key); {
		case before == nil:
			object.Set(key, child)
		case repeated[key]:
			before.AppendItems(child)
		default:
			repeated[key] = true
			object.Set(key, NewList(before, child))
		}
	}
	return object.Object().Members()
}

func equalScalars(a, b *Node) bool {
	if a.Kind == b.Kind && a.Text == b.Text {
		return true
	}
	if b.Kind == Untyped && a.Kind != Untyped {
		a, b = b, a
	}
	if a.Kind == Untyped {
		switch b.Kind {
		case Text:
			return a.Text == b.Text
		case Boolean, Null:
			return strings.TrimSpace(a.Text) == b.scalarText()
		}
	} else if a.Kind != Number || b.Kind != Number {
		return false
	}
	da, ok := a.Decimal()
	if !ok {
		return false
	}
	db, ok := b.Decimal()
	return ok && da.Cmp(db) == 0
}

func (n *Node) scalarText() string {
	if n.Kind == Null {
		return "null"
	}
	return n.Text
}

func itoa(i int) string { return strconv.Itoa(i) }
