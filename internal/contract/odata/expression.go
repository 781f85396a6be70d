package odata

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/suggest"
)

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
	e := expressionChecker{queryChecker: q, of: t, words: words, variables: map[string]*typeDef{}}
	e.check()
	return e.says
}

// expressionChecker goes through the words of a filter, or of another expression.
type expressionChecker struct {
	queryChecker
	of        *typeDef
	words     []string
	variables map[string]*typeDef // of any and all, with what they stand for
	says      []string            // what is wrong
}

func (e *expressionChecker) sayf(format string, args ...any) { e.fail(&e.says, format, args...) }

// at is a word by its number; empty where there is none.
func (e *expressionChecker) at(i int) string {
	if i < 0 || i >= len(e.words) {
		return ""
	}
	return e.words[i]
}

func (e *expressionChecker) check() {
	depth := 0
	for i, word := range e.words {
		next := e.at(i + 1)
		switch {
		case word == "(":
			depth++
		case word == ")":
			depth--
			if depth < 0 {
				e.sayf("closes a parenthesis that was not opened")
				depth = 0
			}
		case word == "=" || word == "==":
			e.sayf("has = where eq is meant")
		case strings.HasPrefix(word, "'"):
		case slices.Contains(operators, word) && next != "(" || word == "not" || word == "in":
			e.operator(i)
		case isLambda(word) && next == "(":
			e.lambda(i)
		case next == "(":
			e.function(word)
		case next == ":": // a variable is introduced
		case isWord(word):
			e.name(i)
		}
	}
	if depth > 0 {
		e.sayf("opens a parenthesis that is not closed")
	}
}

// operator checks what an operator stands between.
func (e *expressionChecker) operator(i int) {
	word, left, right := e.at(i), e.at(i-1), e.at(i+1)
	if slices.Contains(comparisons, word) {
		e.compared(left, word, right)
		e.compared(right, word, left)
	}
	if word != "in" || right != "(" {
		return
	}
	for _, item := range e.words[i+2:] {
		if item == ")" {
			break
		}
		e.compared(left, word, item)
	}
}

// lambda notes the variable of lines/any(l: …): it stands for an item of the list.
func (e *expressionChecker) lambda(i int) {
	word := e.at(i)
	p := e.resolve(word[:strings.LastIndexByte(word, '/')], &e.says)
	if p == nil || e.at(i+3) != ":" {
		return
	}
	item := e.m.find(p.typeName)
	if item == nil {
		item = &typeDef{open: true}
	}
	e.variables[e.at(i+2)] = item
}

func (e *expressionChecker) function(word string) {
	known := functions4
	if e.m.isV2() {
		known = functions2
	}
	name := word[strings.LastIndexByte(word, '/')+1:]
	if !slices.Contains(known, name) && !strings.Contains(name, ".") {
		e.sayf("calls %s, which is not a function; %s", name, suggest.Instead(name, known))
	}
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
func (e *expressionChecker) name(i int) {
	word := e.at(i)
	if slices.Contains(constantsOf, word) || strings.HasPrefix(word, "@") ||
		strings.Contains(word, ".") && e.m.find(word) != nil || strings.HasPrefix(word, "Edm.") {
		return
	}
	if slices.Contains(comparisons, e.at(i-1)) && e.at(i+1) != "/" {
		if at := e.m.property(e.of, word); at == nil && e.variables[strings.Split(word, "/")[0]] == nil {
			e.sayf("compares with %s, which is not a value; a text is written '%s'", word, word)
			return
		}
	}
	p := e.resolve(word, &e.says)
	if p != nil && (p.marks.unfilterable || slices.Contains(e.marks.notFilterable, word)) {
		e.sayf("names %s, which cannot be filtered by", word)
	}
}

// resolve finds what a path leads to, from a variable or from the type.
func (e *expressionChecker) resolve(path string, says *[]string) *property {
	path = strings.TrimPrefix(path, "$it/")
	first, rest, has := strings.Cut(path, "/")
	if v, ok := e.variables[first]; ok {
		if !has {
			return nil
		}
		return e.find(v, rest, says)
	}
	return e.find(e.of, path, says)
}

// compared says so where a property is checked against a value of another kind.
func (e *expressionChecker) compared(left, operator, right string) {
	if left == "" || right == "" || !isWord(left) || slices.Contains(constantsOf, left) ||
		strings.ContainsAny(right, "(),[]{}") {
		return
	}
	var ignored []string
	p := e.resolve(left, &ignored)
	if p == nil || operator == "has" {
		return
	}
	switch {
	case right == "null" || right == "true" || right == "false":
	case strings.HasPrefix(right, "'"):
		e.comparedWithText(p, left, right)
	default:
		e.comparedWithOther(p, left, right)
	}
}

// unquoted are types of which a value is no text, and written without quotes (OData 4.0 URL Conventions, 5.1.1.6.1).
var unquoted = []string{"Edm.Date", "Edm.DateTimeOffset", "Edm.Guid", "Edm.TimeOfDay"}

func (e *expressionChecker) comparedWithText(p *property, name, quoted string) {
	edm, enum, _ := e.m.primitive(p.typeName)
	isV2 := e.m.isV2()
	switch {
	case isNumeric(edm):
		e.sayf("compares %s, which is %s, with the text %s; take the quotes away", name, edmWords(edm), quoted)
	case slices.Contains(unquoted, edm):
		e.sayf("compares %s, which is a %s, with the text %s; take the quotes away", name, edmWords(edm), quoted)
	case isV2 && (edm == "Edm.DateTime" || edm == "Edm.Time"):
		e.sayf("compares %s with the text %s; write %s", name, quoted,
			e.m.literal(p.typeName, strings.Trim(quoted, "'")))
	case !isV2 && edm == "Edm.Boolean":
		e.sayf("compares %s, which is true or false, with %s", name, quoted)
	case enum != nil:
		if wrong := wrongMember(enum, document.NewText(strings.Trim(quoted, "'"))); wrong != "" {
			e.sayf("compares %s, which %s", name, wrong)
		}
	}
}

func (e *expressionChecker) comparedWithOther(p *property, name, literal string) {
	edm, _, _ := e.m.primitive(p.typeName)
	isNumber := document.IsNumber(strings.TrimRight(literal, "MmLlDdFf"))
	switch {
	case isNumber && edm == "Edm.String":
		e.sayf("compares %s, which is text, with the number %s; write '%s'", name, literal, literal)
	case e.m.isV2():
	case isNumber && edm == "Edm.Boolean":
		e.sayf("compares %s, which is true or false, with %s", name, literal)
	case !isWord(literal) && forms[edm].form != nil:
		if wrong := wrongText(edm, noFacets, document.NewText(literal)); wrong != "" {
			e.sayf("compares %s with %s, which %s", name, literal, wrong)
		}
	}
}
