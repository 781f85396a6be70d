package odata

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/suggest"
)

// primitive is the Edm type that values of a named type have, and its
// enumeration where it is one.
func (m *model) primitive(name string) (edm string, enum *typeDef, f facets) {
	f = noFacets
	for range 20 {
		if strings.HasPrefix(name, "Edm.") {
			return name, nil, f
		}
		t := m.find(name)
		switch {
		case t == nil:
			return "", nil, f
		case t.kind == enumKind:
			return "", t, f
		case t.kind == definitionKind:
			name, f = t.underlying, t.facets
		default:
			return "", nil, f
		}
	}
	return "", nil, f
}

// bounds are the facets that hold for a property, with those of its type.
func (m *model) bounds(p *property) facets {
	_, _, f := m.primitive(p.typeName)
	if p.maxLength > 0 {
		f.maxLength = p.maxLength
	}
	if p.precision >= 0 {
		f.precision = p.precision
	}
	if p.facets.scale >= 0 {
		f.scale = p.facets.scale
	}
	return f
}

// integers are the Edm types of whole numbers with the bits beside the sign.
var integers = map[string]int{"Edm.Byte": 8, "Edm.SByte": 7, "Edm.Int16": 15, "Edm.Int32": 31, "Edm.Int64": 63}

var decimals = []string{"Edm.Decimal", "Edm.Double", "Edm.Single"}

func isNumeric(edm string) bool { return integers[edm] > 0 || slices.Contains(decimals, edm) }

// literal writes a value as addresses do (OData URL Conventions 4.01, 5.1.1.14;
// OData 2.0 Overview, 6).
func (m *model) literal(typeName, text string) string {
	edm, enum, _ := m.primitive(typeName)
	quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if enum != nil {
		return enum.name + quoted
	}
	if m.isV2() {
		switch edm {
		case "Edm.DateTime":
			return "datetime'" + strings.TrimSuffix(dateTime(text), "Z") + "'"
		case "Edm.DateTimeOffset":
			return "datetimeoffset" + quoted
		case "Edm.Time":
			return "time" + quoted
		case "Edm.Guid":
			return "guid" + quoted
		case "Edm.Decimal":
			return text + "M"
		case "Edm.Int64":
			return text + "L"
		case "Edm.Double":
			return text + "d"
		case "Edm.Single":
			return text + "f"
		case "Edm.Binary":
			if data, err := base64.StdEncoding.DecodeString(text); err == nil {
				return "X'" + strings.ToUpper(hex.EncodeToString(data)) + "'"
			}
		}
	}
	switch {
	case edm == "Edm.Duration":
		return "duration" + quoted
	case edm == "Edm.Binary":
		return "binary" + quoted
	case edm == "Edm.String" || edm == "":
		return quoted
	}
	return text
}

// dateTime gives a day a time of day, which Edm.DateTime must have.
func dateTime(text string) string {
	if _, err := time.Parse(time.DateOnly, text); err == nil {
		return text + "T00:00:00"
	}
	return text
}

var (
	guidForm    = lazy.Regexp(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
	dateForm    = lazy.Regexp(`^-?[0-9]{4,}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])$`)
	timeForm    = lazy.Regexp(`^([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9](\.[0-9]{1,12})?)?$`)
	instantForm = lazy.Regexp(
		`^-?[0-9]{4,}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.([0-9]{1,12}))?)?(Z|[+-][0-9]{2}:[0-9]{2})$`)
	localForm    = lazy.Regexp(`^[0-9]{4}-[0-9]{2}-[0-9]{2}(T[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,7})?)?)?Z?$`)
	durationForm = lazy.Regexp(`^-?P([0-9]+D)?(T([0-9]+H)?([0-9]+M)?([0-9]+(\.[0-9]+)?S)?)?$`)
)

// wrong says what is wrong with a single value, or "".
func (m *model) wrong(p *property, v *document.Node) string {
	edm, enum, _ := m.primitive(p.typeName)
	if enum != nil {
		return wrongMember(enum, v)
	}
	f := m.bounds(p)
	is := v.Describe()
	switch {
	case edm == "Edm.String":
		if v.Kind != document.Text {
			return "must be text, and is " + is
		}
		if n := len([]rune(v.Text)); f.maxLength > 0 && n > f.maxLength {
			return fmt.Sprintf("must have at most %d characters, and has %d", f.maxLength, n)
		}
	case edm == "Edm.Boolean":
		if v.Kind != document.Boolean {
			return "must be true or false, and is " + is
		}
	case integers[edm] > 0:
		return wrongInteger(edm, v)
	case edm == "Edm.Decimal":
		return wrongDecimal(f, v)
	case edm == "Edm.Double" || edm == "Edm.Single":
		if v.Kind != document.Number && !slices.Contains([]string{"INF", "-INF", "NaN"}, v.Text) {
			return "must be a number, and is " + is
		}
	case strings.HasPrefix(edm, "Edm.Geo") || edm == "Edm.Stream" || edm == "Edm.Untyped" ||
		edm == "Edm.PrimitiveType" || edm == "Edm.ComplexType" || edm == "Edm.EntityType" || edm == "":
		return ""
	default:
		return wrongText(edm, f, v)
	}
	return ""
}

// forms are those of types that are written as texts.
var forms = map[string]struct {
	form func() *regexp.Regexp
	says string
}{
	"Edm.Guid": {guidForm, "a GUID"}, "Edm.Date": {dateForm, "a date (2026-11-23)"},
	"Edm.TimeOfDay":      {timeForm, "a time (08:00:00)"},
	"Edm.DateTimeOffset": {instantForm, "a time stamp with a zone (2026-11-23T08:00:00Z)"},
	"Edm.Duration":       {durationForm, "a duration (P1DT2H)"},
	"Edm.DateTime":       {localForm, "a time stamp (2026-11-23T08:00:00)"},
	"Edm.Time":           {durationForm, "a time (PT8H30M)"},
}

func wrongText(edm string, f facets, v *document.Node) string {
	if edm == "Edm.Binary" {
		text := strings.TrimRight(strings.NewReplacer("-", "+", "_", "/").Replace(v.Text), "=")
		if _, err := base64.RawStdEncoding.DecodeString(text); err != nil || v.Kind != document.Text {
			return "must be Base64, and is " + v.Describe()
		}
		return ""
	}
	known, ok := forms[edm]
	if !ok {
		return ""
	}
	if v.Kind != document.Text || !known.form().MatchString(v.Text) || strings.HasSuffix(v.Text, "P") ||
		strings.HasSuffix(v.Text, "T") {
		return "must be " + known.says + ", and is " + v.Describe()
	}
	if edm == "Edm.Date" {
		if _, err := time.Parse(time.DateOnly, v.Text); err != nil && len(v.Text) == 10 {
			return "is not a day that there is: " + v.Describe()
		}
	}
	if edm == "Edm.DateTimeOffset" && f.precision >= 0 {
		fraction := strings.TrimRight(instantForm().FindStringSubmatch(v.Text)[3], "0")
		if len(fraction) > f.precision {
			return fmt.Sprintf("must have at most %d digits of a second, and is %s", f.precision, v.Describe())
		}
	}
	return ""
}

func wrongInteger(edm string, v *document.Node) string {
	// Int64 may come as a text (OData JSON 4.01, 3.2), and always does in 2.0.
	if v.Kind != document.Number && (edm != "Edm.Int64" || !document.IsNumber(v.Text)) {
		return "must be a whole number, and is " + v.Describe()
	}
	n, ok := new(big.Int).SetString(v.Text, 10)
	if !ok {
		return "must be a whole number, and is " + v.Describe()
	}
	limit := new(big.Int).Lsh(big.NewInt(1), uint(integers[edm]))
	low := new(big.Int).Neg(limit)
	if edm == "Edm.Byte" {
		low = new(big.Int)
	}
	if n.Cmp(low) < 0 || n.Cmp(limit) >= 0 {
		return "is out of the range of " + strings.TrimPrefix(edm, "Edm.") + ": " + v.Describe()
	}
	return ""
}

func wrongDecimal(f facets, v *document.Node) string {
	if v.Kind != document.Number && !document.IsNumber(v.Text) {
		return "must be a decimal number, and is " + v.Describe()
	}
	d, ok := document.Decimal(v.Text)
	if !ok {
		return "must be a decimal number, and is " + v.Describe()
	}
	text := document.FormatDecimal(d)
	whole, fraction, _ := strings.Cut(strings.TrimPrefix(text, "-"), ".")
	whole, fraction = strings.TrimLeft(whole, "0"), strings.TrimRight(fraction, "0")
	if f.scale >= 0 && len(fraction) > f.scale {
		return fmt.Sprintf("must have at most %d digits after the point, and is %s", f.scale, v.Describe())
	}
	if f.precision >= 0 && len(whole)+len(fraction) > f.precision {
		return fmt.Sprintf("must have at most %d digits, and is %s", f.precision, v.Describe())
	}
	return ""
}

func wrongMember(enum *typeDef, v *document.Node) string {
	var names []string
	for _, member := range enum.members {
		names = append(names, member.name)
	}
	words := []string{v.Text}
	if enum.flags {
		words = strings.Split(v.Text, ",")
	}
	for _, word := range words {
		word = strings.TrimSpace(word)
		if slices.Contains(names, word) {
			continue
		}
		if _, err := strconv.ParseInt(word, 10, 64); err == nil { // a number stands for a value that has no name
			continue
		}
		says := "must be one of " + suggest.FewNames(names) + ", and is " + v.Describe()
		if try := suggest.DidYouMean(word, names); try != "" {
			says += "; " + try
		}
		return says
	}
	return ""
}
