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

// tokenForm cuts a condition into its words.
var tokenForm = lazy.Regexp(
	`^(?:'(?:[^']|'')*'` + // a text
		`|[A-Za-z_@$][\w.$@]*(?:/[A-Za-z_$][\w.$]*)*'(?:[^']|'')*'` + // a literal with its type before it
		`|[0-9]{4}-[0-9]{2}-[0-9]{2}(?:T[0-9:.]+(?:Z|[+-][0-9:]+)?)?` + // a day, a moment
		`|[0-9]{2}:[0-9]{2}(?::[0-9.]+)?` + // a time of day
		`|[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}` + // a GUID
		`|-?[0-9]+(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?[MmLlDdFf]?` + // a number
		`|[\p{L}_@$][\p{L}\p{N}_.$@-]*(?:/[\p{L}_$][\p{L}\p{N}_.$]*)*` + // a name or a path
		`|[(),:=\[\]{}"*-])`)

var comparisons = []string{"eq", "ne", "gt", "ge", "lt", "le", "in", "has"}

var operators = append([]string{"and", "or", "not", "add", "sub", "mul", "div", "divby", "mod"}, comparisons...)

var functions4 = []string{
	"contains", "startswith", "endswith", "length", "indexof", "substring", "tolower", "toupper", "trim", "concat",
	"matchesPattern", "year", "month", "day",
	"hour", "minute", "second", "fractionalseconds", "date", "time", "totaloffsetminutes", "now", "maxdatetime",
	"mindatetime", "totalseconds", "round", "floor", "ceiling",
	"cast", "isof", "geo.distance", "geo.length", "geo.intersects", "any", "all", "hassubset", "hassubsequence", "case",
}

var functions2 = []string{
	"substringof", "startswith", "endswith", "length", "indexof", "replace", "substring", "tolower", "toupper", "trim",
	"concat", "day", "hour", "minute",
	"month", "second", "year", "round", "floor", "ceiling", "isof", "cast", "any", "all",
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
	p := q.resolve(q.t, nil, name, &ignored)
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

func tokens(text string) (words []string, wrong string) {
	rest := text
	for {
		rest = strings.TrimLeft(rest, " \t\r\n")
		if rest == "" {
			return words, ""
		}
		word := tokenForm().FindString(rest)
		switch {
		case word == "" && rest[0] == '\'':
			return words, "opens a text that is not closed"
		case word == "":
			return words, fmt.Sprintf("cannot be read from %q on", rest)
		}
		words = append(words, word)
		rest = rest[len(word):]
	}
}

func (q queryChecker) expression(t *typeDef, text string) []string {
	words, wrong := tokens(text)
	if wrong != "" {
		return []string{wrong}
	}
	var says []string
	depth := 0
	variables := map[string]*typeDef{}
	known := functions4
	if q.m.isV2() {
		known = functions2
	}
	before := func(i int) string {
		if i > 0 {
			return words[i-1]
		}
		return ""
	}
	for i, word := range words {
		next := ""
		if i+1 < len(words) {
			next = words[i+1]
		}
		switch {
		case word == "(":
			depth++
		case word == ")":
			depth--
			if depth < 0 {
				q.fail(&says, "closes a parenthesis that was not opened")
				depth = 0
			}
		case word == "=" || word == "==":
			q.fail(&says, "has = where eq is meant")
		case strings.HasPrefix(word, "'"):
		case slices.Contains(operators, word) && next != "(" || word == "not" || word == "in":
			if slices.Contains(comparisons, word) {
				q.compared(t, variables, before(i), word, next, &says)
				q.compared(t, variables, next, word, before(i), &says)
			}
			if word == "in" && next == "(" {
				for _, item := range words[i+2:] {
					if item == ")" {
						break
					}
					q.compared(t, variables, before(i), word, item, &says)
				}
			}
		case isLambda(word) && next == "(":
			// lines/any(l: …): the variable stands for an item of the list.
			path := word[:strings.LastIndexByte(word, '/')]
			p := q.resolve(t, variables, path, &says)
			if p != nil && i+3 < len(words) && words[i+3] == ":" {
				variables[words[i+2]] = q.m.find(p.typeName)
				if variables[words[i+2]] == nil {
					variables[words[i+2]] = &typeDef{open: true}
				}
			}
		case next == "(":
			name := word[strings.LastIndexByte(word, '/')+1:]
			if !slices.Contains(known, name) && !strings.Contains(name, ".") {
				q.fail(&says, "calls %s, which is not a function; %s", name, suggest.Instead(name, known))
			}
		case next == ":": // a variable is introduced
		case isWord(word):
			q.name(t, variables, word, before(i), next, &says)
		}
	}
	if depth > 0 {
		q.fail(&says, "opens a parenthesis that is not closed")
	}
	return says
}

func isLambda(word string) bool {
	return strings.HasSuffix(word, "/any") || strings.HasSuffix(word, "/all")
}

func isWord(word string) bool {
	c := word[0]
	return !strings.HasSuffix(word, "'") &&
		(c == '_' || c == '$' || c == '@' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80)
}

// constantsOf are words that are values.
var constantsOf = []string{"true", "false", "null", "INF", "NaN", "asc", "desc", "$it", "$root", "$this"}

// name checks a word that should be a property, or the path to one.
func (q queryChecker) name(t *typeDef, variables map[string]*typeDef, word, before, next string, says *[]string) {
	if slices.Contains(constantsOf, word) || strings.HasPrefix(word, "@") ||
		strings.Contains(word, ".") && q.m.find(word) != nil || strings.HasPrefix(word, "Edm.") {
		return
	}
	if slices.Contains(comparisons, before) && next != "/" {
		if at := q.m.property(t, word); at == nil && variables[strings.Split(word, "/")[0]] == nil {
			q.fail(says, "compares with %s, which is not a value; a text is written '%s'", word, word)
			return
		}
	}
	p := q.resolve(t, variables, word, says)
	if p != nil && (p.marks.unfilterable || slices.Contains(q.marks.notFilterable, word)) {
		q.fail(says, "names %s, which cannot be filtered by", word)
	}
}

// resolve finds what a path leads to, from a variable or from the type.
func (q queryChecker) resolve(t *typeDef, variables map[string]*typeDef, path string, says *[]string) *property {
	path = strings.TrimPrefix(path, "$it/")
	first, rest, has := strings.Cut(path, "/")
	if v, ok := variables[first]; ok {
		if !has {
			return nil
		}
		return q.find(v, rest, says)
	}
	return q.find(t, path, says)
}

// compared says so where a property is checked against a value of another kind.
func (q queryChecker) compared(t *typeDef, variables map[string]*typeDef, left, operator, right string,
	says *[]string,
) {
	var ignored []string
	if left == "" || right == "" || !isWord(left) || slices.Contains(constantsOf, left) ||
		strings.ContainsAny(right, "(),[]{}") {
		return
	}
	p := q.resolve(t, variables, left, &ignored)
	if p == nil || operator == "has" {
		return
	}
	edm, enum, _ := q.m.primitive(p.typeName)
	isText := strings.HasPrefix(right, "'")
	isNumber := document.IsNumber(strings.TrimRight(right, "MmLlDdFf"))
	switch {
	case right == "null" || right == "true" || right == "false":
	case isText && isNumeric(edm):
		q.fail(says, "compares %s, which is %s, with the text %s; take the quotes away", left, edmWords(edm), right)
	case isNumber && edm == "Edm.String":
		q.fail(says, "compares %s, which is text, with the number %s; write '%s'", left, right, right)
	case isText && (edm == "Edm.Date" || edm == "Edm.DateTimeOffset" || edm == "Edm.Guid" || edm == "Edm.TimeOfDay"):
		q.fail(says, "compares %s, which is a %s, with the text %s; take the quotes away", left, edmWords(edm), right)
	case isText && q.m.isV2() && (edm == "Edm.DateTime" || edm == "Edm.Guid" || edm == "Edm.Time"):
		q.fail(says, "compares %s with the text %s; write %s", left, right,
			q.m.literal(p.typeName, strings.Trim(right, "'")))
	case !q.m.isV2() && edm == "Edm.Boolean" && (isText || isNumber):
		q.fail(says, "compares %s, which is true or false, with %s", left, right)
	case !q.m.isV2() && !isText && !isWord(right) && forms[edm].form != nil:
		if wrong := wrongText(edm, noFacets, document.NewText(right)); wrong != "" {
			q.fail(says, "compares %s with %s, which %s", left, right, wrong)
		}
	case isText && enum != nil:
		if wrong := wrongMember(enum, document.NewText(strings.Trim(right, "'"))); wrong != "" {
			q.fail(says, "compares %s, which %s", left, wrong)
		}
	}
}
