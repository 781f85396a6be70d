// Package datatype reads and compares values of the primitive types of XML Schema
// (Part 2, 3.2): what a text means, without the restrictions of types derived from them.
package datatype

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"

	"testbench/internal/excerpt"
	"testbench/internal/xmlstream"
)

// Primitive is one of the primitive datatypes (Part 2, 3.2).
type Primitive uint8

// The primitive types, those with numbers before those of time, which are in order.
const (
	AnySimple Primitive = iota // a text of which no more is known
	String
	Boolean
	Decimal
	Float
	Double
	Duration
	DateTime
	Time
	Date
	GYearMonth
	GYear
	GMonthDay
	GDay
	GMonth
	HexBinary
	Base64Binary
	AnyURI
	QName
	Notation
)

// Value is a value of a simple type: what its text means. Two values are equal
// when their identities are.
type Value struct {
	primitive Primitive
	key       string // of types whose values are texts, bytes or names
	decimal   decimal
	float     float64
	moment    *moment
	duration  *duration
	length    int     // in the unit of the length facets
	items     []Value // of a list
	isList    bool
}

// TextValue is the value of a text of a type that is not known.
func TextValue(text string) Value { return Value{key: text} }

// ListOf is a list of values (Part 2, 2.5.1.2).
func ListOf(items []Value) Value { return Value{items: items, isList: true, length: len(items)} }

// Length counts items of a list and bytes of binary data; it is 0 for all else.
func (v Value) Length() int { return v.length }

// Text is the value itself of the types string and anyURI.
func (v Value) Text() string { return v.key }

// Decimal writes a decimal number in its shortest form; ok is false for all other values.
func (v Value) Decimal() (text string, ok bool) {
	if v.primitive != Decimal || v.isList {
		return "", false
	}
	return v.decimal.String(), true
}

// Digits tells how many digits a decimal number has in all and after the point.
func (v Value) Digits() (total, fraction int) { return v.decimal.digits() }

// Same tells equality as enumerations, fixed values and keys need it.
func (v Value) Same(other Value) bool { return v.Identity() == other.Identity() }

// Identity writes the value so that equal values, and no others, have equal texts.
func (v Value) Identity() string {
	if v.isList {
		parts := make([]string, len(v.items))
		for i, item := range v.items {
			parts[i] = item.Identity()
		}
		return "list\x00" + strings.Join(parts, "\x00")
	}
	key := v.key
	switch {
	case v.primitive == Decimal:
		key = v.decimal.String()
	case v.primitive == Float || v.primitive == Double:
		key = strconv.FormatFloat(v.float+0, 'g', -1, 64)
	case v.primitive == Duration:
		key = v.duration.key()
	case v.primitive >= DateTime && v.primitive <= GMonth:
		key = v.moment.key()
	}
	return string(rune('A'+v.primitive)) + key
}

// Compare orders two values of one primitive type; ok is false where they
// cannot be ordered.
func (v Value) Compare(other Value) (order int, ok bool) {
	switch v.primitive {
	case Decimal:
		return v.decimal.compare(other.decimal), true
	case Float, Double:
		switch {
		case math.IsNaN(v.float) || math.IsNaN(other.float):
			return 0, math.IsNaN(v.float) && math.IsNaN(other.float)
		case v.float < other.float:
			return -1, true
		case v.float > other.float:
			return 1, true
		}
		return 0, true
	case Duration:
		return v.duration.compare(*other.duration)
	case DateTime, Time, Date, GYearMonth, GYear, GMonthDay, GDay, GMonth:
		return v.moment.compare(*other.moment)
	}
	return 0, false
}

// Namespaces resolves the prefixes of qualified names.
type Namespaces interface {
	Lookup(prefix string) (space string, known bool)
}

// Parse reads text whose blanks are normalized. The error says in
// words what it is not.
func Parse(p Primitive, text string, names Namespaces) (Value, error) {
	v := Value{primitive: p, key: text}
	var err error
	switch p {
	case AnySimple, String:
		v.length = -1 // counted when a facet asks
		return v, nil
	case Boolean:
		switch text {
		case "true", "1":
			v.key = "true"
		case "false", "0":
			v.key = "false"
		default:
			return v, fmt.Errorf("%s is not a boolean: true, false, 1 or 0", excerpt.Quote(text))
		}
	case Decimal:
		var ok bool
		if v.decimal, ok = parseDecimal(text); !ok {
			return v, fmt.Errorf("%s is not a decimal number", excerpt.Quote(text))
		}
	case Float, Double:
		if v.float, err = parseFloat(p, text); err != nil {
			return v, err
		}
	case Duration:
		d, err := parseDuration(text)
		if err != nil {
			return v, err
		}
		v.duration = &d
	case DateTime, Time, Date, GYearMonth, GYear, GMonthDay, GDay, GMonth:
		m, err := parseMoment(p, text)
		if err != nil {
			return v, err
		}
		v.moment = &m
	case HexBinary:
		decoded, err := hex.DecodeString(text)
		if err != nil {
			return v, fmt.Errorf("%s is not hexadecimal: pairs of 0 to 9 and A to F", excerpt.Quote(text))
		}
		v.key, v.length = string(decoded), len(decoded)
	case Base64Binary:
		decoded, err := base64.StdEncoding.Strict().DecodeString(strings.ReplaceAll(text, " ", ""))
		if err != nil {
			return v, fmt.Errorf("%s is not Base64", excerpt.Quote(text))
		}
		v.key, v.length = string(decoded), len(decoded)
	case AnyURI:
		v.length = -1
		if !isURI(text) {
			return v, fmt.Errorf("%s is not a URI reference", excerpt.Quote(text))
		}
	case QName, Notation:
		prefix, local, qualified := strings.Cut(text, ":")
		if !qualified {
			prefix, local = "", text
		}
		if !xmlstream.IsNCName(local) || qualified && !xmlstream.IsNCName(prefix) {
			return v, fmt.Errorf("%s is not a qualified name", excerpt.Quote(text))
		}
		space := ""
		if names != nil {
			var known bool
			if space, known = names.Lookup(prefix); !known {
				return v, fmt.Errorf("the prefix of %s is not declared there", excerpt.Quote(text))
			}
		}
		v.key = space + "\x00" + local
	}
	return v, nil
}

// isURI checks what is left to check of a URI reference after everything else
// may be escaped (Part 2, 3.2.17; RFC 2396, appendix A).
func isURI(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] == '%' && (i+2 >= len(text) || !isHex(text[i+1]) || !isHex(text[i+2])) {
			return false
		}
	}
	if strings.Count(text, "#") > 1 {
		return false
	}
	if end := strings.IndexAny(text, ":/?#"); end >= 0 && text[end] == ':' {
		for i := range end {
			c := text[i] | 0x20
			letter := c >= 'a' && c <= 'z'
			if !letter && (i == 0 ||
				(text[i] < '0' || text[i] > '9') && text[i] != '+' && text[i] != '-' && text[i] != '.') {
				return false
			}
		}
		return end > 0
	}
	return true
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f'
}

func parseFloat(p Primitive, text string) (float64, error) {
	switch text {
	case "INF":
		return math.Inf(1), nil
	case "-INF":
		return math.Inf(-1), nil
	case "NaN":
		return math.NaN(), nil
	}
	mantissa, exponent := text, ""
	if e := strings.IndexAny(text, "eE"); e >= 0 {
		mantissa, exponent = text[:e], text[e+1:]
		digits := strings.TrimLeft(exponent, "+-")
		if len(exponent)-len(digits) > 1 || !IsDigits(digits) {
			mantissa = ""
		}
	}
	if !isDecimal(mantissa) {
		return 0, fmt.Errorf("%s is not a floating-point number", excerpt.Quote(text))
	}
	bits := 64
	if p == Float {
		bits = 32
	}
	n, _ := strconv.ParseFloat(text, bits) // what is too large is infinite
	return n, nil
}

// decimal is an exact decimal number of any length.
type decimal struct {
	negative        bool
	whole, fraction string // without needless zeros
}

// IsDigits says whether a text is digits only, one at least.
func IsDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

func isDecimal(text string) bool {
	if text != "" && (text[0] == '+' || text[0] == '-') {
		text = text[1:]
	}
	digits, point := 0, false
	for i := range len(text) {
		switch {
		case text[i] >= '0' && text[i] <= '9':
			digits++
		case text[i] == '.' && !point:
			point = true
		default:
			return false
		}
	}
	return digits > 0
}

func parseDecimal(text string) (d decimal, ok bool) {
	if !isDecimal(text) {
		return d, false
	}
	if text[0] == '+' || text[0] == '-' {
		d.negative, text = text[0] == '-', text[1:]
	}
	d.whole, d.fraction, _ = strings.Cut(text, ".")
	d.whole = strings.TrimLeft(d.whole, "0")
	d.fraction = strings.TrimRight(d.fraction, "0")
	if d.whole == "" && d.fraction == "" {
		d.negative = false
	}
	return d, true
}

// String writes the canonical form, but for integers without a point.
func (d decimal) String() string {
	text := d.whole
	if text == "" {
		text = "0"
	}
	if d.fraction != "" {
		text += "." + d.fraction
	}
	if d.negative {
		text = "-" + text
	}
	return text
}

func (d decimal) compare(other decimal) int {
	if d.negative != other.negative {
		if d.negative {
			return -1
		}
		return 1
	}
	order := len(d.whole) - len(other.whole)
	if order == 0 {
		order = strings.Compare(d.whole, other.whole)
	}
	if order == 0 {
		order = strings.Compare(d.fraction, other.fraction)
	}
	switch {
	case order == 0:
		return 0
	case (order < 0) != d.negative:
		return -1
	}
	return 1
}

// digits tells how many digits the number has in all and after the point
// (Part 2, 4.3.11: |i| < 10^total, value = i × 10^-n with n not above total).
func (d decimal) digits() (total, fraction int) {
	total = len(d.whole) + len(d.fraction)
	if d.whole == "" {
		total = max(len(strings.TrimLeft(d.fraction, "0")), len(d.fraction))
	}
	return total, len(d.fraction)
}
