package probe

import (
	"math/rand/v2"
	"slices"
	"strings"
	"unicode"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/lazy"
	"testbench/internal/schema"
)

// wrong is a value that does not belong where it is, or that is hard to take.
type wrong struct {
	kind  Kind
	what  string
	value *document.Node
	// raw is in the body as it is, of JSON and of XML.
	raw, rawXML string
}

// sort is what sort of value a shape takes.
type sort uint8

const (
	anySort sort = iota
	textSort
	integerSort
	numberSort
	booleanSort
	dateSort
	momentSort
	clockSort
	bytesSort
	listSort
	objectSort
)

// formatSorts are the sorts of formats, as XML Schema, OpenAPI, OData and a bench by hand
// name them.
var formatSorts = map[string]sort{
	"decimal": numberSort, "double": numberSort, "float": numberSort, "integer": integerSort, "boolean": booleanSort,
	"date": dateSort, "dateTime": momentSort, "date-time": momentSort, "time stamp": momentSort, "time": clockSort,
	"base64Binary": bytesSort, "hexBinary": bytesSort, "byte": bytesSort,
	"Edm.Decimal": numberSort, "Edm.Double": numberSort, "Edm.Single": numberSort, "Edm.Byte": integerSort,
	"Edm.SByte": integerSort, "Edm.Int16": integerSort,
	"Edm.Int32": integerSort, "Edm.Int64": integerSort, "Edm.Boolean": booleanSort, "Edm.Date": dateSort,
	"Edm.DateTime": momentSort, "Edm.DateTimeOffset": momentSort,
	"Edm.TimeOfDay": clockSort, "Edm.Binary": bytesSort,
}

func sortOf(s *schema.Shape) sort {
	kind := anySort
	for _, k := range s.Kinds {
		if k != "null" {
			kind = map[string]sort{
				"text": textSort, "integer": integerSort, "number": numberSort,
				"boolean": booleanSort, "list": listSort, "object": objectSort,
			}[k]
			break
		}
	}
	if kind == listSort || kind == objectSort || kind == booleanSort || kind == integerSort {
		return kind
	}
	for i := len(s.Formats) - 1; i >= 0; i-- {
		if found, ok := formatSorts[s.Formats[i]]; ok {
			kind = found
		}
	}
	return kind
}

// builtinEnds are the ends of types that have some by themselves.
var builtinEnds = map[string][2]string{
	"byte": {"-128", "127"}, "short": {"-32768", "32767"}, "int": {"-2147483648", "2147483647"},
	"long":         {"-9223372036854775808", "9223372036854775807"},
	"unsignedByte": {"0", "255"}, "unsignedShort": {"0", "65535"}, "unsignedInt": {"0", "4294967295"},
	"unsignedLong":       {"0", "18446744073709551615"},
	"nonNegativeInteger": {"0", ""}, "positiveInteger": {"1", ""}, "nonPositiveInteger": {"", "0"},
	"negativeInteger": {"", "-1"},
	"int32":           {"-2147483648", "2147483647"}, "int64": {"-9223372036854775808", "9223372036854775807"},
	"Edm.Byte": {"0", "255"}, "Edm.SByte": {"-128", "127"}, "Edm.Int16": {"-32768", "32767"},
	"Edm.Int32": {"-2147483648", "2147483647"}, "Edm.Int64": {"-9223372036854775808", "9223372036854775807"},
}

// values gathers wrong values of one place.
type values struct {
	*place
	random *rand.Rand
	out    []wrong
}

// wrongValues are values that a place cannot take, or that are hard to take.
func wrongValues(p *place, random *rand.Rand) []wrong {
	v := &values{place: p, random: random}
	switch sortOf(p.shape) {
	case integerSort:
		v.text(Typed, "with letters for a number", "abc")
		v.number(Typed, "with a fraction", "1.5")
		v.ends("1")
		if p.inPath {
			v.number(Identity, "that nobody has", "9"+v.strange("00000000"))
		}
	case numberSort:
		v.text(Typed, "with letters for a number", "abc")
		v.ends(v.least())
		v.digits()
	case booleanSort:
		v.text(Typed, "neither true nor false", "perhaps")
	case dateSort:
		v.text(Typed, "with no date", "soon")
		v.text(Typed, "on a day that there is not", "2026-02-30")
		v.text(Typed, "with a date in another form", "30.11.2026")
	case momentSort:
		v.text(Typed, "with no time stamp", "soon")
		v.text(Typed, "on a day that there is not", "2026-02-30T10:00:00Z")
		v.text(Typed, "with a zone that there is not", "2026-11-26T10:00:00+25:00")
	case clockSort:
		v.text(Typed, "with no time", "soon")
		v.text(Typed, "at an hour that there is not", "25:00:00")
	case bytesSort:
		v.text(Typed, "with what is not encoded", "§ not encoded §")
	case listSort:
		if p.typed {
			v.text(Typed, "with a text for a list", "text")
		}
	case objectSort:
		if len(p.path) > 0 && p.good != nil {
			v.text(Typed, "with a text for its fields", "text")
		}
	case textSort, anySort:
		v.texts()
	}
	if p.typed {
		switch sortOf(p.shape) {
		case textSort, dateSort, momentSort:
			v.add(wrong{kind: Typed, what: "with a number for a text", value: document.NewNumber("5")})
		case integerSort, numberSort, booleanSort:
			if p.good != nil && p.good.Kind == document.Number {
				v.text(Typed, "with its number as a text", p.good.Text)
			}
		}
	}
	if len(p.shape.Only) > 0 {
		v.text(Limits, "with none of its values", "none-of-these")
		if other := otherCase(p.shape.Only[0]); !slices.Contains(p.shape.Only, other) {
			v.text(Limits, "with a value in the other case", other)
		}
	}
	return v.out
}

func (v *values) add(w wrong) { v.out = append(v.out, w) }

func (v *values) text(kind Kind, what, text string) {
	node := document.NewUntyped(text)
	if v.typed {
		node = document.NewText(text)
	}
	v.add(wrong{kind: kind, what: what + ": " + excerpt.Quote(text), value: node})
}

// number is a value that is one; where numbers travel as texts, it does too.
func (v *values) number(kind Kind, what, text string) {
	if v.typed && (v.good == nil || v.good.Kind == document.Number) {
		v.add(wrong{kind: kind, what: what + ": " + text, value: document.NewNumber(text)})
		return
	}
	v.text(kind, what, text)
}

// least is the smallest step of a number.
func (v *values) least() string {
	if v.shape.FractionDigits != nil && *v.shape.FractionDigits > 0 {
		return "0." + strings.Repeat("0", *v.shape.FractionDigits-1) + "1"
	}
	if v.shape.FractionDigits != nil {
		return "1"
	}
	return "0.01"
}

// ends goes just beyond the ends of a range.
func (v *values) ends(by string) {
	beyond := func(limit *schema.Limit, builtin string, sign int, what string) {
		text := builtin
		if limit != nil {
			text = limit.Text
		}
		if text == "" {
			return
		}
		if limit == nil || !limit.Exclusive {
			text = moved(text, by, sign)
		}
		if text != "" {
			v.number(Limits, what, text)
		}
	}
	var builtin [2]string
	for _, format := range v.shape.Formats {
		if ends, ok := builtinEnds[format]; ok {
			builtin = ends
			break
		}
	}
	beyond(v.shape.Least, builtin[0], -1, "just below its least")
	beyond(v.shape.Most, builtin[1], 1, "just above its greatest")
}

// moved adds a step to a number, exactly.
func moved(text, by string, sign int) string {
	number, ok := document.Decimal(text)
	step, okStep := document.Decimal(by)
	if !ok || !okStep {
		return ""
	}
	out := new(apd.Decimal)
	exact := apd.BaseContext.WithPrecision(100)
	var err error
	if sign < 0 {
		_, err = exact.Sub(out, number, step)
	} else {
		_, err = exact.Add(out, number, step)
	}
	if err != nil {
		return ""
	}
	return document.FormatDecimal(out)
}

// digits has more digits than are allowed.
func (v *values) digits() {
	whole := "1"
	if v.good != nil && document.IsNumber(v.good.Text) {
		whole, _, _ = strings.Cut(v.good.Text, ".")
	}
	if f := v.shape.FractionDigits; f != nil {
		v.number(Limits, "too precise", whole+"."+strings.Repeat("0", *f)+"1")
	}
	if t := v.shape.TotalDigits; t != nil {
		fraction := 0
		if v.shape.FractionDigits != nil {
			fraction = *v.shape.FractionDigits
		}
		v.number(Limits, "with a digit too many", "1"+strings.Repeat("0", max(*t-fraction, 0)))
	}
	if m, ok := document.Decimal(v.shape.MultipleOf); ok {
		v.number(Limits, "between two multiples", moved(document.FormatDecimal(m), "0.0001", 1))
	}
}

// longTexts are how long a text is that is very long.
const longText = 20_000

// texts are texts that are too short, too long, of another form, or hard to take.
func (v *values) texts() {
	good := "text"
	if v.good != nil && v.good.IsScalar() && v.good.Text != "" {
		good = v.good.Text
	}
	if least := v.shape.MinLength; least != nil && *least > 0 {
		what := "too short"
		if *least == 1 {
			what = "empty"
		}
		v.text(Limits, what, string([]rune(padded(good, *least-1))[:*least-1]))
	}
	if most := v.shape.MaxLength; most != nil && *most < 100_000 {
		v.text(Limits, "too long", padded(good, *most+1))
	}
	if len(v.shape.Patterns) > 0 {
		v.text(Limits, "of another form", good+"!")
	}
	if len(v.shape.Only) > 0 {
		return
	}
	if v.good != nil && isIdentity().MatchString(good) && sortOf(v.shape) == textSort {
		v.text(Identity, "that nobody has", v.strange(good))
	}
	v.text(Texts, "with quotes", `O'Brien said "x"; -- \ {}`)
	v.text(Texts, "with markup", `<b onclick="1">&amp;</b> ]]>`)
	v.text(Texts, "in other scripts", "蜂蜜 مرحبا 🐝 Ǆ")
	v.out[len(v.out)-1].what = "in other scripts" // signs of other widths would tear tables apart
	v.text(Texts, "very long", strings.Repeat("honey", longText/5))
	v.add(wrong{
		kind: Texts, what: "with a zero byte", raw: `a\u0000b`, rawXML: "a&#0;b",
		value: document.NewText("a\x00b"),
	})
}

func padded(text string, length int) string {
	runes := []rune(text)
	last := 'x'
	if len(runes) > 0 {
		last = runes[len(runes)-1]
	}
	for len(runes) < length {
		runes = append(runes, last)
	}
	return string(runes[:max(length, 0)])
}

// isIdentity are texts that look like a name of something: letters, then digits, or a UUID.
var isIdentity = lazy.Regexp(
	`^([A-Za-z]{0,6}[-_/]?[0-9]{2,}|[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})$`)

// strange is an id of the same form with other digits.
func (v *values) strange(id string) string {
	out := []rune(id)
	for i, r := range out {
		if unicode.IsDigit(r) {
			out[i] = rune('0' + v.random.IntN(10))
		}
	}
	if string(out) == id {
		out[len(out)-1] = map[bool]rune{true: '8', false: '9'}[out[len(out)-1] == '9']
	}
	return string(out)
}

func otherCase(text string) string {
	if upper := strings.ToUpper(text); upper != text {
		return upper
	}
	return strings.ToLower(text)
}
