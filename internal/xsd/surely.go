package xsd

import (
	"strconv"
	"unicode/utf8"

	"testbench/internal/xsd/datatype"
)

// surely says whether bytes are a value of the type, as far as that can be told
// at a glance and without making anything: nearly all values are valid, and most
// types are simple. False means only that a closer look is needed.
func (t *SimpleType) surely(text []byte) bool {
	if t.Variety != Atomic || t.Missing || t.lexical != nil || t.values != nil && t.texts == nil ||
		t.TotalDigits != nil {
		return false
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
	case datatype.DateTime, datatype.Date:
		if t.MinInclusive != nil || t.MaxInclusive != nil || t.MinExclusive != nil || t.MaxExclusive != nil {
			return false
		}
		return datatype.IsMoment(t.Primitive, string(text))
	}
	return false
}

// tidyText says that normalizing would change nothing.
func tidyText(text []byte, whitespace Whitespace) bool {
	before := byte(' ')
	for _, c := range text {
		if c == '\t' || c == '\n' || c == '\r' || whitespace == Collapse && c == ' ' && before == ' ' {
			return false
		}
		before = c
	}
	return whitespace == Replace || len(text) == 0 || before != ' '
}

// exactDigits is how many digits a float64 keeps apart from all others of as many.
const exactDigits = 15

// surelyDecimal compares as floating-point numbers, which is exact for numbers of
// few digits: two of them are in the order of the decimals they were read from.
func (t *SimpleType) surelyDecimal(text []byte) bool {
	if len(text) == 0 || len(text) > exactDigits || text[0] == '+' {
		return false
	}
	fraction := -1
	for i, c := range text {
		switch {
		case c >= '0' && c <= '9':
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
	if fraction == 0 || fraction > 0 && text[0] == '.' || t.FractionDigits != nil && fraction > *t.FractionDigits {
		return false
	}
	if t.MinInclusive == nil && t.MaxInclusive == nil && t.MinExclusive == nil && t.MaxExclusive == nil {
		return true
	}
	n, err := strconv.ParseFloat(string(text), 64)
	if err != nil {
		return false
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
