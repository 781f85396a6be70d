package odata

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// option is a query option to those that use schemas: a text. It is checked beside the
// others.
type option struct{ words string }

// Words says what is to be written.
func (o *option) Words() string { return o.words }

// Outline has no fields.
func (o *option) Outline(int) []schema.Row { return nil }

// Fill joins a list.
func (o *option) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	if v == schema.Unknown {
		return v, nil
	}
	if v.Kind == document.List {
		var parts []string
		for _, item := range v.Items() {
			parts = append(parts, item.Text)
		}
		v = &document.Node{Kind: document.Untyped, Text: strings.Join(parts, ","), Secret: v.Secret}
	}
	if !v.IsScalar() {
		return v, []schema.FillError{{Message: "must be text, and is " + v.Describe()}}
	}
	return v, nil
}

// Check says nothing: options do not come back.
func (o *option) Check(*document.Node) []schema.Fault { return nil }

// Sample gives nothing that would narrow an answer.
func (o *option) Sample(schema.SampleOptions) *schema.Sample {
	return &schema.Sample{Root: document.NewText("")}
}

// counting is a number of entities: whole, and never less than none (OData 4.01, Part 1,
// 11.2.6.3; OData 2.0, URI Conventions 4.3).
type counting struct{ *object }

// Words says what may be written.
func (c counting) Words() string { return "integer, 0 or more" }

// Fill reads the number.
func (c counting) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	filled, short := c.object.Fill(v)
	if n, ok := filled.Decimal(); ok && len(short) == 0 && n.Sign() < 0 {
		short = []schema.FillError{{Message: "must be 0 or more, and is " + v.Describe()}}
	}
	return filled, short
}

// Shape says what it takes.
func (c counting) Shape() *schema.Shape {
	shape := c.object.Shape()
	shape.Words, shape.Least = c.Words(), &schema.Limit{Text: "0"}
	return shape
}

// queryChecker holds query options against the type that they speak of.
type queryChecker struct {
	m     *model
	t     *typeDef
	marks marks
}

func (q queryChecker) fail(says *[]string, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(*says, text) {
		*says = append(*says, text)
	}
}

// find follows a path of property names from a type; what is wrong with it is said.
func (q queryChecker) find(t *typeDef, path string, says *[]string) *property {
	var p *property
	for _, name := range strings.Split(path, "/") {
		if t == nil {
			q.fail(says, "names %s, and %s has no properties", path, p.name)
			return nil
		}
		if strings.HasPrefix(name, "$") || strings.HasPrefix(name, "@") {
			return p
		}
		if strings.Contains(name, ".") { // a cast to a derived type
			if derived := q.m.find(name); derived != nil {
				t = derived
				continue
			}
			q.fail(says, "names the type %s, which is not in the metadata", name)
			return nil
		}
		next := q.m.property(t, name)
		if next == nil {
			if !q.m.isOpen(t) {
				q.unknown(t, name, says)
			}
			return nil
		}
		p = next
		t = q.m.find(p.typeName)
		if t != nil && t.kind > complexKind {
			t = nil
		}
	}
	return p
}

func (q queryChecker) unknown(t *typeDef, name string, says *[]string) {
	names := q.m.propertyNames(t)
	q.fail(says, "names %s, which %s does not have; %s", name, local(t.name), suggest.Instead(name, names))
}

// split cuts at a separator that is outside of parentheses and quotes.
func split(text string, separator byte) []string {
	var parts []string
	depth, start, quoted := 0, 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == separator && depth == 0:
			parts = append(parts, strings.TrimSpace(text[start:i]))
			start = i + 1
		}
	}
	return append(parts, strings.TrimSpace(text[start:]))
}

func (q queryChecker) selected(text string) []string {
	var says []string
	for _, name := range split(text, ',') {
		switch {
		case name == "":
			q.fail(&says, "has an empty name")
		case name != "*" && !strings.HasSuffix(name, ".*"):
			q.find(q.t, name, &says)
		}
	}
	return says
}

func (q queryChecker) ordered(text string) []string {
	var says []string
	for _, one := range split(text, ',') {
		words := strings.Fields(one)
		switch {
		case len(words) == 0:
			q.fail(&says, "has an empty name")
			continue
		case len(words) == 2 && words[1] != "asc" && words[1] != "desc":
			q.fail(&says, "has %s after %s; asc and desc are there", words[1], words[0])
		}
		if strings.Contains(words[0], "(") {
			says = append(says, q.expression(q.t, strings.TrimSuffix(strings.TrimSuffix(one, " desc"), " asc"))...)
			continue
		}
		p := q.find(q.t, words[0], &says)
		if p != nil && (p.marks.unsortable || slices.Contains(q.marks.notSortable, words[0])) {
			q.fail(&says, "names %s, which cannot be sorted by", words[0])
		}
	}
	return says
}

// expanded checks what is to be expanded, with the options of each in parentheses
// in version 4.
func (q queryChecker) expanded(text string) []string {
	var says []string
	for _, one := range split(text, ',') {
		name, options, has := strings.Cut(one, "(")
		name = strings.TrimSpace(name)
		if name == "" {
			q.fail(&says, "has an empty name")
			continue
		}
		if name == "*" || strings.HasPrefix(name, "*/") {
			continue
		}
		path := strings.TrimSuffix(strings.TrimSuffix(name, "/$ref"), "/$count")
		p := q.find(q.t, path, &says)
		switch {
		case p == nil:
			continue
		case !p.navigation && p.typeName != "Edm.Stream":
			q.fail(&says, "names %s, which is part of the entity and leads nowhere", path)
			continue
		case slices.Contains(q.marks.notExpandable, path):
			q.fail(&says, "names %s, which cannot be expanded", path)
		}
		if !has {
			continue
		}
		if q.m.isV2() || !strings.HasSuffix(one, ")") {
			q.fail(&says, "has %q, which is not allowed there", "("+options)
			continue
		}
		says = append(says, q.nested(p, strings.TrimSuffix(options, ")"))...)
	}
	return says
}

// nested checks the options within an expand.
func (q queryChecker) nested(p *property, text string) []string {
	inner := queryChecker{m: q.m, t: q.m.find(p.typeName)}
	given := map[string]*document.Node{}
	var says []string
	for _, one := range split(text, ';') {
		name, value, ok := strings.Cut(one, "=")
		name = strings.TrimSpace(name)
		if !strings.HasPrefix(name, "$") {
			name = "$" + name
		}
		if !ok || !slices.Contains(nestedOptions, name) {
			q.fail(&says, "has %q in the parentheses of %s, which is not an option there", one, p.name)
			continue
		}
		given[name] = document.NewText(strings.TrimSpace(value))
	}
	wrong := inner.together(given)
	for _, name := range nestedOptions {
		says = append(says, wrong[name]...)
	}
	return says
}

// nestedOptions are those that may be in the parentheses of an expand (OData 4.01 Part 2, 5.1.3).
var nestedOptions = []string{
	"$select", "$expand", "$orderby", "$filter", "$top", "$skip", "$count", "$search", "$levels", "$compute", "$apply",
}

// filter checks a condition: that it can be read, that its properties are there
// and may be filtered, and that what is compared fits.
func (q queryChecker) filter(text string) []string {
	says := q.expression(q.t, text)
	for _, needed := range q.marks.filterNeeded {
		if !regexp.MustCompile(`\b` + regexp.QuoteMeta(needed) + `\b`).MatchString(text) {
			q.fail(&says, "must name %s", needed)
		}
	}
	return says
}

// bareForm matches values that stand without quotes and without a letter of their type.
var bareForm = lazy.Regexp(`^-?[0-9][0-9:.TZ+-]*$|^[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}$`)

// written gives the literals of a condition the form that the version wants for the
// type of what they are compared with: datetime'2026-11-23T00:00:00' and 12.5M in 2.0,
// the name of an enumeration before its members in 4.0 (OData 2.0 Overview, 6; URL
// Conventions 4.0, 5.1.1.6.1).
func (q queryChecker) written(text string) string {
	words, wrong := tokens(text)
	if wrong != "" {
		return text
	}
	var out strings.Builder
	rest := text
	for i, word := range words {
		at := strings.Index(rest, word)
		out.WriteString(rest[:at])
		rest = rest[at+len(word):]
		switch {
		case i > 1 && slices.Contains(comparisons, words[i-1]):
			word = q.literalBeside(words[i-2], word)
		case i+2 < len(words) && slices.Contains(comparisons, words[i+1]):
			word = q.literalBeside(words[i+2], word)
		}
		out.WriteString(word)
	}
	return out.String() + rest
}

// literalBeside is a literal as it is beside a property.
func (q queryChecker) literalBeside(name, word string) string {
	var ignored []string
	if !isWord(name) || slices.Contains(constantsOf, name) {
		return word
	}
	p := q.find(q.t, strings.TrimPrefix(name, "$it/"), &ignored)
	if p == nil {
		return word
	}
	edm, enum, _ := q.m.primitive(p.typeName)
	switch {
	case enum != nil && strings.HasPrefix(word, "'"):
		return enum.name + word
	case q.m.isV2() && edm != "" && edm != "Edm.String" && bareForm().MatchString(word):
		return q.m.literal(p.typeName, word)
	}
	return word
}
