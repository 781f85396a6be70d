package xsd

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"testbench/internal/excerpt"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd/datatype"
	"testbench/internal/xsd/pattern"
)

// Variety says what a simple type's values are made of.
type Variety uint8

// The varieties.
const (
	Atomic Variety = iota
	List
	Union
)

// Whitespace says what happens to blanks before a value is read (Part 2, 4.3.6).
type Whitespace uint8

// The ways of the facet whiteSpace.
const (
	Preserve Whitespace = iota
	Replace
	Collapse
)

// SimpleType is a simple type definition (Part 1, 3.14). Its facets are all
// that hold for it, those of its base among them.
type SimpleType struct {
	Name          Name
	Base          Type // a *SimpleType, or the ur-type
	Variety       Variety
	Item          *SimpleType   // of a List
	Members       []*SimpleType // of a Union
	Documentation string

	Length, MinLength, MaxLength *int
	Whitespace                   Whitespace
	// Patterns must all hold, each by one of its alternatives.
	Patterns                    [][]*pattern.Pattern
	Enumeration                 []EnumerationValue
	MinInclusive, MaxInclusive  *Bound
	MinExclusive, MaxExclusive  *Bound
	TotalDigits, FractionDigits *int

	Primitive  datatype.Primitive
	lexical    func(string) bool // what a built-in type asks of its texts beyond its primitive type
	glance     func([]byte) bool // the same for most texts, without making anything; nil where there is no such way
	identifies bool              // it is ID, IDREF or ENTITY, or derived from one
	words      string            // what a value of it is, for messages
	fixed      map[string]bool   // facets that may not be changed
	values     map[string]bool   // of the enumeration, by identity
	texts      map[string]bool   // of an enumeration of texts
	final      derivation
	Missing    bool // stands in for a type that could not be loaded
	at         Problem
}

// EnumerationValue is one of the values that an enumeration allows.
type EnumerationValue struct {
	Text          string
	Documentation string
	value         datatype.Value
}

// Bound is a value that a range ends at.
type Bound struct {
	Text  string
	value datatype.Value
	float float64 // a decimal as a floating-point number
	exact bool    // which is one of its own, for the decimal has few digits
}

func boundOf(text string, v datatype.Value) *Bound {
	b := &Bound{Text: text, value: v}
	if d, ok := v.Decimal(); ok && len(text) <= exactDigits {
		b.float, _ = strconv.ParseFloat(d, 64)
		b.exact = true
	}
	return b
}

// TypeName implements Type.
func (t *SimpleType) TypeName() Name { return t.Name }

// BaseType implements Type.
func (t *SimpleType) BaseType() Type { return t.Base }

func (t *SimpleType) About() string { return t.Documentation }

// Normalize treats the blanks of a text as the type asks.
func (t *SimpleType) Normalize(text string) string {
	if t.Variety == Union {
		return text // each member does it its own way
	}
	switch t.Whitespace {
	case Replace:
		if strings.ContainsAny(text, "\t\n\r") {
			return strings.NewReplacer("\t", " ", "\n", " ", "\r", " ").Replace(text)
		}
	case Collapse:
		return collapse(text)
	}
	return text
}

func collapse(text string) string {
	blanks, before := false, true // a blank at the start counts
	for i := range len(text) {
		blank := text[i] == ' '
		if text[i] == '\t' || text[i] == '\n' || text[i] == '\r' || blank && before {
			blanks = true
			break
		}
		before = blank
	}
	if !blanks && (text == "" || !before) {
		return text
	}
	return strings.Join(strings.FieldsFunc(text, isBlank), " ")
}

func isBlank(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }

// Check says whether the text is a value of the type; the error says in words
// why not. Names resolves the prefixes of qualified names and may be nil.
func (t *SimpleType) Check(text string, names interface {
	Lookup(prefix string) (space string, known bool)
},
) error {
	_, err := t.Parse(text, names)
	return err
}

// Parse reads a text as a value of the type (Part 1, 3.14.4: String Valid).
func (t *SimpleType) Parse(text string, names datatype.Namespaces) (datatype.Value, error) {
	if t.Missing {
		return datatype.TextValue(text), nil
	}
	text = t.Normalize(text)
	var v datatype.Value
	var err error
	switch t.Variety {
	case Atomic:
		v, err = datatype.Parse(t.Primitive, text, names)
		if err == nil && t.lexical != nil && !t.lexical(text) || err != nil && t.Primitive <= datatype.Double {
			err = fmt.Errorf("%s is not %s", excerpt.Quote(text), t.Words())
		}
	case List:
		var items []datatype.Value
		for _, item := range strings.FieldsFunc(text, isBlank) {
			one, itemErr := t.Item.Parse(item, names)
			if itemErr != nil {
				return v, itemErr
			}
			items = append(items, one)
		}
		v = datatype.ListOf(items)
	case Union:
		var first error
		found := false
		for _, member := range t.Members {
			if v, err = member.Parse(text, names); err == nil {
				found = true
				break
			} else if first == nil {
				first = err
			}
		}
		if !found {
			if len(t.Members) == 1 {
				return v, first
			}
			return v, fmt.Errorf("%s is none of what is allowed there: %s", excerpt.Quote(text), t.memberWords())
		}
	}
	if err != nil {
		return v, err
	}
	return v, t.facets(text, v)
}

func (t *SimpleType) memberWords() string {
	words := make([]string, len(t.Members))
	for i, m := range t.Members {
		words[i] = m.Words()
		if len(m.Enumeration) > 0 {
			words[i] = "one of " + m.EnumerationWords(8)
		}
	}
	return strings.Join(words, ", or ")
}

// facets checks what the type asks of a value beyond its primitive type (Part 2, 4.3).
func (t *SimpleType) facets(text string, v datatype.Value) error {
	for _, alternatives := range t.Patterns {
		passed := false
		for _, p := range alternatives {
			if p.Match(text) {
				passed = true
				break
			}
		}
		if !passed {
			return fmt.Errorf("%s does not match the pattern %s", excerpt.Quote(text), pattern.Words(alternatives))
		}
	}
	if t.values != nil && !t.isEnumerated(text, v) {
		if len(t.Enumeration) == 1 {
			return fmt.Errorf("%s is not %s", excerpt.Quote(text), excerpt.Quote(t.Enumeration[0].Text))
		}
		return fmt.Errorf("%s is not one of %s", excerpt.Quote(text), t.EnumerationWords(12))
	}
	if t.Length != nil || t.MinLength != nil || t.MaxLength != nil {
		if err := t.checkLength(text, v); err != nil {
			return err
		}
	}
	if t.MinInclusive != nil || t.MaxInclusive != nil || t.MinExclusive != nil || t.MaxExclusive != nil {
		if err := t.checkRange(text, v); err != nil {
			return err
		}
	}
	if t.TotalDigits != nil || t.FractionDigits != nil {
		total, fraction := v.Digits()
		if t.FractionDigits != nil && fraction > *t.FractionDigits {
			return fmt.Errorf("%s has %s after the point, %s allowed", excerpt.Quote(text), count(fraction, "digit"),
				only(*t.FractionDigits))
		}
		if t.TotalDigits != nil && total > *t.TotalDigits {
			return fmt.Errorf("%s has %s, %s allowed", excerpt.Quote(text), count(total, "digit"), only(*t.TotalDigits))
		}
	}
	return nil
}

func only(n int) string {
	if n == 0 {
		return "none is"
	}
	if n == 1 {
		return "1 is"
	}
	return strconv.Itoa(n) + " are"
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

func (t *SimpleType) isEnumerated(text string, v datatype.Value) bool {
	if t.texts != nil {
		return t.texts[text]
	}
	return t.values[v.Identity()]
}

func (t *SimpleType) checkLength(text string, v datatype.Value) error {
	unit := "character"
	length := v.Length()
	switch {
	case t.Variety == List:
		unit = "item"
	case t.Primitive == datatype.HexBinary || t.Primitive == datatype.Base64Binary:
		unit = "byte"
	case t.Primitive == datatype.QName || t.Primitive == datatype.Notation:
		return nil // without meaning for names (Part 2, 4.3.1.3)
	default:
		length = utf8.RuneCountInString(text)
	}
	switch {
	case t.Length != nil && length != *t.Length:
		return fmt.Errorf("%s has %s, not exactly %d", excerpt.Quote(text), count(length, unit), *t.Length)
	case t.MinLength != nil && length < *t.MinLength:
		if length == 0 && t.Variety == Atomic {
			return fmt.Errorf("it is empty, at least %s is needed", count(*t.MinLength, unit))
		}
		return fmt.Errorf("%s has %s, at least %d needed", excerpt.Quote(text), count(length, unit), *t.MinLength)
	case t.MaxLength != nil && length > *t.MaxLength:
		return fmt.Errorf("%s has %s, at most %d allowed", excerpt.Quote(text), count(length, unit), *t.MaxLength)
	}
	return nil
}

func (t *SimpleType) checkRange(text string, v datatype.Value) error {
	for _, b := range []struct {
		bound *Bound
		holds func(order int) bool
		words string
	}{
		{t.MinInclusive, func(o int) bool { return o >= 0 }, "is under the least allowed, "},
		{t.MinExclusive, func(o int) bool { return o > 0 }, "must be over "},
		{t.MaxInclusive, func(o int) bool { return o <= 0 }, "is over the most allowed, "},
		{t.MaxExclusive, func(o int) bool { return o < 0 }, "must be under "},
	} {
		if b.bound == nil {
			continue
		}
		if order, ok := v.Compare(b.bound.value); !ok || !b.holds(order) {
			return fmt.Errorf("%s %s%s", excerpt.Quote(text), b.words, b.bound.Text)
		}
	}
	return nil
}

// EnumerationWords lists the allowed values, the first most of them.
func (t *SimpleType) EnumerationWords(most int) string {
	var words []string
	for i, e := range t.Enumeration {
		if i == most {
			words = append(words, fmt.Sprintf("and %d more", len(t.Enumeration)-most))
			break
		}
		text := e.Text
		if text == "" {
			text = "empty"
		}
		words = append(words, text)
	}
	return strings.Join(words, ", ")
}

// Words says what a value of the type is: "a date", "an integer".
func (t *SimpleType) Words() string {
	for s := t; s != nil; s, _ = s.Base.(*SimpleType) {
		if s.words != "" {
			return s.words
		}
		if s.Variety == List {
			if len(s.Item.Enumeration) > 0 {
				return "a list, each item one of " + s.Item.EnumerationWords(8)
			}
			return "a list, each item " + s.Item.Words()
		}
		if s.Variety == Union {
			return s.memberWords()
		}
	}
	return "a text"
}

// Builtin gives the built-in type that the type is or is derived from.
func (t *SimpleType) Builtin() *SimpleType {
	for s := t; s != nil; s, _ = s.Base.(*SimpleType) {
		if s.Name.Space == Namespace {
			return s
		}
	}
	return t
}

// derive makes a type that has all that the base asks for.
func (t *SimpleType) derive() *SimpleType {
	derived := *t
	derived.Base, derived.Name, derived.Documentation, derived.words = t, Name{}, "", ""
	derived.final = 0
	derived.Patterns = append([][]*pattern.Pattern(nil), t.Patterns...)
	derived.fixed = map[string]bool{}
	for name, is := range t.fixed {
		derived.fixed[name] = is
	}
	return &derived
}

// index prepares the enumeration for look-up.
func (t *SimpleType) index() {
	t.values, t.texts = nil, nil
	if len(t.Enumeration) == 0 {
		return
	}
	t.values = map[string]bool{}
	if t.Variety == Atomic &&
		(t.Primitive == datatype.String || t.Primitive == datatype.AnyURI || t.Primitive == datatype.AnySimple) {
		t.texts = map[string]bool{}
	}
	for _, e := range t.Enumeration {
		t.values[e.value.Identity()] = true
		if t.texts != nil {
			t.texts[e.value.Text()] = true
		}
	}
}

// The built-in types (Part 2, 3).
var builtins = func() map[string]*SimpleType {
	all := map[string]*SimpleType{}
	name := func(local string) Name { return Name{Namespace, local} }
	ur := &SimpleType{Name: name("anySimpleType"), Base: anyType, words: "a text"}
	all["anySimpleType"] = ur
	for _, p := range []struct {
		local, words string
		primitive    datatype.Primitive
	}{
		{"string", "a text", datatype.String},
		{"boolean", "a boolean", datatype.Boolean},
		{"decimal", "a decimal number", datatype.Decimal},
		{"float", "a floating-point number", datatype.Float},
		{"double", "a floating-point number", datatype.Double},
		{"duration", "a duration", datatype.Duration},
		{"dateTime", "a date with time", datatype.DateTime},
		{"time", "a time", datatype.Time},
		{"date", "a date", datatype.Date},
		{"gYearMonth", "a year with month", datatype.GYearMonth},
		{"gYear", "a year", datatype.GYear},
		{"gMonthDay", "a month with day", datatype.GMonthDay},
		{"gDay", "a day of the month", datatype.GDay},
		{"gMonth", "a month", datatype.GMonth},
		{"hexBinary", "hexadecimal bytes", datatype.HexBinary},
		{"base64Binary", "Base64 bytes", datatype.Base64Binary},
		{"anyURI", "a URI reference", datatype.AnyURI},
		{"QName", "a qualified name", datatype.QName},
		{"NOTATION", "a notation", datatype.Notation},
	} {
		t := &SimpleType{
			Name: name(p.local), Base: ur, Primitive: p.primitive, words: p.words, Whitespace: Collapse,
			fixed: map[string]bool{"whiteSpace": true},
		}
		if p.primitive == datatype.String {
			t.Whitespace, t.fixed = Preserve, nil
		}
		all[p.local] = t
	}
	derive := func(local, base, words string, change func(*SimpleType)) {
		t := all[base].derive()
		t.Name, t.words = name(local), words
		if change != nil {
			change(t)
		}
		all[local] = t
	}
	derive("normalizedString", "string", "", func(t *SimpleType) { t.Whitespace = Replace })
	derive("token", "normalizedString", "", func(t *SimpleType) { t.Whitespace = Collapse })
	derive("language", "token", "a language like en or de-AT", func(t *SimpleType) { t.lexical = isLanguage })
	derive("NMTOKEN", "token", "a name token", func(t *SimpleType) {
		t.lexical, t.glance = isNameToken, isPlainToken
	})
	derive("Name", "token", "an XML name", func(t *SimpleType) { t.lexical = xmlstream.IsName })
	derive("NCName", "Name", "an XML name without a colon", func(t *SimpleType) { t.lexical = xmlstream.IsNCName })
	for _, local := range []string{"ID", "IDREF", "ENTITY"} {
		derive(local, "NCName", "an XML name without a colon", func(t *SimpleType) { t.identifies = true })
	}
	for list, item := range map[string]string{"NMTOKENS": "NMTOKEN", "IDREFS": "IDREF", "ENTITIES": "ENTITY"} {
		one := 1
		all[list] = &SimpleType{
			Name: name(list), Base: ur, Variety: List, Item: all[item], Whitespace: Collapse,
			MinLength: &one,
		}
	}
	zero := 0
	derive("integer", "decimal", "an integer", func(t *SimpleType) {
		t.FractionDigits, t.lexical = &zero, func(s string) bool { return !strings.Contains(s, ".") }
		t.glance = func(text []byte) bool { return bytes.IndexByte(text, '.') < 0 }
		t.fixed["fractionDigits"] = true
	})
	bounded := func(local, base, least, most string) {
		words := "an integer"
		switch {
		case len(most) > 6 && least != "0": // who writes int means any number of the usual size
		case len(most) > 6:
			words = "an integer from 0 up"
		case least != "" && most != "":
			words = fmt.Sprintf("an integer from %s to %s", least, most)
		case least != "":
			words = "an integer from " + least + " up"
		case most != "":
			words = "an integer up to " + most
		}
		derive(local, base, words, func(t *SimpleType) {
			if least != "" {
				t.MinInclusive = newBound(datatype.Decimal, least)
			}
			if most != "" {
				t.MaxInclusive = newBound(datatype.Decimal, most)
			}
		})
	}
	bounded("nonPositiveInteger", "integer", "", "0")
	bounded("negativeInteger", "nonPositiveInteger", "", "-1")
	bounded("nonNegativeInteger", "integer", "0", "")
	bounded("positiveInteger", "nonNegativeInteger", "1", "")
	bounded("long", "integer", "-9223372036854775808", "9223372036854775807")
	bounded("int", "long", "-2147483648", "2147483647")
	bounded("short", "int", "-32768", "32767")
	bounded("byte", "short", "-128", "127")
	bounded("unsignedLong", "nonNegativeInteger", "0", "18446744073709551615")
	bounded("unsignedInt", "unsignedLong", "0", "4294967295")
	bounded("unsignedShort", "unsignedInt", "0", "65535")
	bounded("unsignedByte", "unsignedShort", "0", "255")
	return all
}()

func newBound(p datatype.Primitive, text string) *Bound {
	v, err := datatype.Parse(p, text, nil)
	if err != nil {
		panic(err) // of the table above
	}
	return boundOf(text, v)
}

func isLanguage(s string) bool {
	for i, part := range strings.Split(s, "-") {
		if len(part) < 1 || len(part) > 8 {
			return false
		}
		for j := range len(part) {
			c := part[j] | 0x20
			if (c < 'a' || c > 'z') && (i == 0 || part[j] < '0' || part[j] > '9') {
				return false
			}
		}
	}
	return true
}

// isPlainToken says whether a text is a name token of the letters of English and digits.
func isPlainToken(text []byte) bool {
	for _, c := range text {
		if l := c | 0x20; (l < 'a' || l > 'z') && (c < '0' || c > '9') && c != '-' && c != '_' && c != '.' {
			return false
		}
	}
	return len(text) > 0
}

func isNameToken(s string) bool {
	for _, r := range s {
		if !xmlstream.IsNameChar(r) {
			return false
		}
	}
	return s != ""
}
