package xsd

import (
	"bytes"
	"slices"
	"unicode/utf8"

	"testbench/internal/xsd/datatype"
)

// surely says whether bytes are a value of the type, as far as that can be told
// at a glance and without making anything: nearly all values are valid, and most
// types are simple. False means only that a closer look is needed.
func (t *SimpleType) surely(text []byte) bool {
	switch {
	case t.Missing, t.values != nil && t.texts == nil, t.lexical != nil && (t.glance == nil || !t.glance(text)):
		return false
	case t.Variety == List:
		return t.surelyList(text)
	case t.Variety == Union:
		return t.Patterns == nil && slices.ContainsFunc(t.Members, func(m *SimpleType) bool { return m.surely(text) })
	}
	if t.Whitespace != Preserve && !tidyText(text, t.Whitespace) {
		return false
	}
	for _, alternatives := range t.Patterns {
		if len(alternatives) != 1 || !alternatives[0].MatchBytes(text) {
			return false
		}
	}
	if t.texts != nil && !t.texts[string(text)] {
		return false
	}
	switch t.Primitive {
	case datatype.String:
		if t.Length == nil && t.MinLength == nil && t.MaxLength == nil {
			return true
		}
		length := utf8.RuneCount(text)
		return t.Length == nil && (t.MinLength == nil || length >= *t.MinLength) &&
			(t.MaxLength == nil || length <= *t.MaxLength)
	case datatype.Decimal:
		return t.surelyDecimal(text)
	case datatype.Boolean:
		return len(text) == 1 && (text[0] == '0' || text[0] == '1') || string(text) == "true" || string(text) == "false"
	case datatype.DateTime, datatype.Date:
		return !t.isBounded() && datatype.IsMoment(t.Primitive, text)
	case datatype.Duration:
		return !t.isBounded() && datatype.IsDuration(text)
	case datatype.Float, datatype.Double:
		return !t.isBounded() && t.surelyDecimal(text)
	}
	return false
}

// isBounded says whether values have a least or a most.
func (t *SimpleType) isBounded() bool {
	return t.MinInclusive != nil || t.MaxInclusive != nil || t.MinExclusive != nil || t.MaxExclusive != nil
}

// surelyList looks at the items one by one.
func (t *SimpleType) surelyList(text []byte) bool {
	if t.Patterns != nil || t.values != nil {
		return false
	}
	count := 0
	for item := range bytes.FieldsFuncSeq(text, isBlank) {
		if count++; !t.Item.surely(item) {
			return false
		}
	}
	return (t.Length == nil || count == *t.Length) && (t.MinLength == nil || count >= *t.MinLength) &&
		(t.MaxLength == nil || count <= *t.MaxLength)
}

// tidyText says that normalizing would change nothing.
func tidyText(text []byte, whitespace Whitespace) bool {
	before := byte(' ')
	for _, c := range text {
		if c <= ' ' && (c != ' ' || whitespace == Collapse && before == ' ') {
			return false // of those up to the space XML has the tab and the line breaks alone
		}
		before = c
	}
	return whitespace == Replace || len(text) == 0 || before != ' '
}

// exactDigits is how many digits a float64 keeps apart from all others of as many.
const exactDigits = 15

var powersOfTen = [exactDigits + 1]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// surelyDecimal compares as floating-point numbers, which is exact for numbers of
// few digits: two of them are in the order of the decimals they were read from.
func (t *SimpleType) surelyDecimal(text []byte) bool {
	if len(text) == 0 || len(text) > exactDigits || text[0] == '+' {
		return false
	}
	fraction, digits, whole := -1, 0, 0
	for i, c := range text {
		switch {
		case c >= '0' && c <= '9':
			digits++
			whole = whole*10 + int(c-'0')
			if fraction >= 0 {
				fraction++
			}
		case c == '.' && fraction < 0:
			fraction = 0
		case c == '-' && i == 0 && len(text) > 1:
		default:
			return false
		}
	}
	if fraction == 0 || fraction > 0 && text[0] == '.' || t.FractionDigits != nil && fraction > *t.FractionDigits ||
		t.TotalDigits != nil && digits > *t.TotalDigits {
		return false
	}
	if !t.isBounded() {
		return true
	}
	// Both are exact, so the quotient is the nearest there is.
	n := float64(whole) / powersOfTen[max(fraction, 0)]
	if text[0] == '-' {
		n = -n
	}
	return t.MinInclusive.near(func(b float64) bool {
		return n >= b
	}) && t.MaxInclusive.near(func(b float64) bool { return n <= b }) &&
		t.MinExclusive.near(func(b float64) bool { return n > b }) && t.MaxExclusive.near(func(b float64) bool {
		return n < b
	})
}

// near holds a number against a bound, if there is one and it has few digits.
func (b *Bound) near(holds func(bound float64) bool) bool {
	if b == nil {
		return true
	}
	return b.exact && holds(b.float)
}
