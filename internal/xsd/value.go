package xsd

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

// primitive is one of the primitive datatypes (Part 2, 3.2).
type primitive uint8

const (
	anySimple primitive = iota
	stringType
	booleanType
	decimalType
	floatType
	doubleType
	durationType
	dateTimeType
	timeType
	dateType
	gYearMonthType
	gYearType
	gMonthDayType
	gDayType
	gMonthType
	hexBinaryType
	base64BinaryType
	anyURIType
	qnameType
	notationType
)

// Value is a value of a simple type: what its text means. Two values are equal
// when their identities are.
type Value struct {
	primitive primitive
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
	if v.primitive != decimalType || v.isList {
		return "", false
	}
	return v.decimal.String(), true
}

// Digits tells how many digits a decimal number has in all and after the point.
func (v Value) Digits() (total, fraction int) { return v.decimal.digits() }

// same tells equality as enumerations, fixed values and keys need it.
func (v Value) same(other Value) bool { return v.identity() == other.identity() }

func (v Value) identity() string {
	if v.isList {
		parts := make([]string, len(v.items))
		for i, item := range v.items {
			parts[i] = item.identity()
		}
		return "list\x00" + strings.Join(parts, "\x00")
	}
	key := v.key
	switch {
	case v.primitive == decimalType:
		key = v.decimal.String()
	case v.primitive == floatType || v.primitive == doubleType:
		key = strconv.FormatFloat(v.float+0, 'g', -1, 64)
	case v.primitive == durationType:
		key = v.duration.key()
	case v.primitive >= dateTimeType && v.primitive <= gMonthType:
		key = v.moment.key()
	}
	return string(rune('A'+v.primitive)) + key
}

// compare orders two values of one primitive type; ok is false where they
// cannot be ordered.
func (v Value) compare(other Value) (order int, ok bool) {
	switch v.primitive {
	case decimalType:
		return v.decimal.compare(other.decimal), true
	case floatType, doubleType:
		switch {
		case math.IsNaN(v.float) || math.IsNaN(other.float):
			return 0, math.IsNaN(v.float) && math.IsNaN(other.float)
		case v.float < other.float:
			return -1, true
		case v.float > other.float:
			return 1, true
		}
		return 0, true
	case durationType:
		return v.duration.compare(*other.duration)
	case dateTimeType, timeType, dateType, gYearMonthType, gYearType, gMonthDayType, gDayType, gMonthType:
		return v.moment.compare(*other.moment)
	}
	return 0, false
}

// scope resolves the prefixes of qualified names.
type scope interface {
	Lookup(prefix string) (space string, known bool)
}

// parsePrimitive reads text whose blanks are normalized. The error says in
// words what it is not.
func parsePrimitive(p primitive, text string, names scope) (Value, error) {
	v := Value{primitive: p, key: text}
	var err error
	switch p {
	case anySimple, stringType:
		v.length = -1 // counted when a facet asks
		return v, nil
	case booleanType:
		switch text {
		case "true", "1":
			v.key = "true"
		case "false", "0":
			v.key = "false"
		default:
			return v, fmt.Errorf("%s is not a boolean: true, false, 1 or 0", excerpt.Quote(text))
		}
	case decimalType:
		var ok bool
		if v.decimal, ok = parseDecimal(text); !ok {
			return v, fmt.Errorf("%s is not a decimal number", excerpt.Quote(text))
		}
	case floatType, doubleType:
		if v.float, err = parseFloat(p, text); err != nil {
			return v, err
		}
	case durationType:
		d, err := parseDuration(text)
		if err != nil {
			return v, err
		}
		v.duration = &d
	case dateTimeType, timeType, dateType, gYearMonthType, gYearType, gMonthDayType, gDayType, gMonthType:
		m, err := parseMoment(p, text)
		if err != nil {
			return v, err
		}
		v.moment = &m
	case hexBinaryType:
		decoded, err := hex.DecodeString(text)
		if err != nil {
			return v, fmt.Errorf("%s is not hexadecimal: pairs of 0 to 9 and A to F", excerpt.Quote(text))
		}
		v.key, v.length = string(decoded), len(decoded)
	case base64BinaryType:
		decoded, err := base64.StdEncoding.Strict().DecodeString(strings.ReplaceAll(text, " ", ""))
		if err != nil {
			return v, fmt.Errorf("%s is not Base64", excerpt.Quote(text))
		}
		v.key, v.length = string(decoded), len(decoded)
	case anyURIType:
		v.length = -1
		if !isURI(text) {
			return v, fmt.Errorf("%s is not a URI reference", excerpt.Quote(text))
		}
	case qnameType, notationType:
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

func parseFloat(p primitive, text string) (float64, error) {
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
		if len(exponent)-len(digits) > 1 || !isDigits(digits) {
			mantissa = ""
		}
	}
	if !isDecimal(mantissa) {
		return 0, fmt.Errorf("%s is not a floating-point number", excerpt.Quote(text))
	}
	bits := 64
	if p == floatType {
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

func isDigits(s string) bool {
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

// digits tells how many digits the number has in all and behind the point
// (Part 2, 4.3.11: |i| < 10^total, value = i × 10^-n with n not above total).
func (d decimal) digits() (total, fraction int) {
	total = len(d.whole) + len(d.fraction)
	if d.whole == "" {
		total = max(len(strings.TrimLeft(d.fraction, "0")), len(d.fraction))
	}
	return total, len(d.fraction)
}
