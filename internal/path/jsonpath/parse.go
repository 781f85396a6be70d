package jsonpath

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/syntax"
)

// Error is a mistake in a query's text.
type Error = syntax.Error

type segment struct {
	descends  bool
	selectors []selector
}

type selectorKind uint8

const (
	byName selectorKind = iota
	byIndex
	wildcard
	slice
	filter
)

type selector struct {
	kind             selectorKind
	name             string
	index            int
	start, end, step *int
	condition        logical
}

// mostDepth bounds the nesting of a query.
const mostDepth = 100

// Compile reads a query. Errors are of type *Error.
func Compile(source string) (*Query, error) {
	p := &parser{text: source}
	q := &Query{Source: source}
	err := p.catch(func() {
		if !p.take("$") {
			p.fail("a JSONPath begins with $")
		}
		q.segments = p.segments()
		if p.at < len(p.text) {
			p.fail("%q is not allowed in a JSONPath here", rest(p.text[p.at:]))
		}
	})
	if err != nil {
		return nil, err
	}
	return q, nil
}

func rest(text string) string {
	if len(text) > 20 {
		return strings.ToValidUTF8(text[:20], "") + "…"
	}
	return text
}

type parser struct {
	text  string
	at    int
	depth int
}

// failure carries a mistake up to where it is caught.
type failure struct{ err *Error }

func (p *parser) catch(read func()) (err error) {
	defer func() {
		if r := recover(); r != nil {
			f, ok := r.(failure)
			if !ok {
				panic(r)
			}
			err = f.err
		}
	}()
	read()
	return nil
}

func (p *parser) fail(format string, args ...any) {
	panic(failure{&Error{Offset: p.at, Message: fmt.Sprintf(format, args...)}})
}

func (p *parser) deeper() func() {
	if p.depth++; p.depth > mostDepth {
		p.fail("the JSONPath is nested deeper than %d", mostDepth)
	}
	return func() { p.depth-- }
}

func (p *parser) peek() byte {
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

func (p *parser) take(word string) bool {
	if strings.HasPrefix(p.text[p.at:], word) {
		p.at += len(word)
		return true
	}
	return false
}

// blanks passes over what may be between parts (2.1.1).
func (p *parser) blanks() {
	for p.at < len(p.text) && strings.IndexByte(" \t\n\r", p.text[p.at]) >= 0 {
		p.at++
	}
}

func (p *parser) segments() []segment {
	var out []segment
	for {
		before := p.at
		p.blanks()
		switch {
		case p.take(".."):
			s := segment{descends: true}
			if p.peek() == '[' {
				s.selectors = p.bracketed()
			} else {
				s.selectors = []selector{p.shorthand()}
			}
			out = append(out, s)
		case p.take("."):
			out = append(out, segment{selectors: []selector{p.shorthand()}})
		case p.peek() == '[':
			out = append(out, segment{selectors: p.bracketed()})
		default:
			p.at = before
			return out
		}
	}
}

// shorthand reads .name or .* (2.5.1).
func (p *parser) shorthand() selector {
	if p.take("*") {
		return selector{kind: wildcard}
	}
	start := p.at
	for p.at < len(p.text) {
		r, size := utf8.DecodeRuneInString(p.text[p.at:])
		first := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80 && r != utf8.RuneError
		if !first && (p.at == start || r < '0' || r > '9') {
			break
		}
		p.at += size
	}
	if p.at == start {
		p.fail("a name is expected after the dot; others than plain names are in brackets: ['a-b']")
	}
	return selector{kind: byName, name: p.text[start:p.at]}
}

func (p *parser) bracketed() []selector {
	defer p.deeper()()
	p.at++ // the bracket
	var out []selector
	for {
		p.blanks()
		out = append(out, p.selector())
		p.blanks()
		switch {
		case p.take(","):
		case p.take("]"):
			return out
		default:
			p.fail("a comma or ] is expected")
		}
	}
}

func (p *parser) selector() selector {
	switch c := p.peek(); {
	case c == '\'' || c == '"':
		return selector{kind: byName, name: p.quotedText()}
	case c == '*':
		p.at++
		return selector{kind: wildcard}
	case c == '?':
		p.at++
		p.blanks()
		return selector{kind: filter, condition: p.either()}
	case c == ':' || c == '-' || c >= '0' && c <= '9':
		return p.indexOrSlice()
	}
	p.fail("a name in quotes, an index, a slice, * or ? is expected in brackets")
	return selector{}
}

func (p *parser) indexOrSlice() selector {
	optional := func() *int {
		if c := p.peek(); c == '-' || c >= '0' && c <= '9' {
			n := p.integer()
			return &n
		}
		return nil
	}
	start := optional()
	before := p.at
	p.blanks()
	if !p.take(":") {
		p.at = before
		return selector{kind: byIndex, index: *start}
	}
	s := selector{kind: slice, start: start}
	p.blanks()
	s.end = optional()
	before = p.at
	p.blanks()
	if !p.take(":") {
		p.at = before
		return s
	}
	p.blanks()
	s.step = optional()
	return s
}

// limit is the largest whole number that is exact everywhere (2.1: I-JSON).
const limit = 1<<53 - 1

func (p *parser) integer() int {
	start := p.at
	p.take("-")
	digits := p.at
	for c := p.peek(); c >= '0' && c <= '9'; c = p.peek() {
		p.at++
	}
	text := p.text[digits:p.at]
	n, err := strconv.ParseInt(p.text[start:p.at], 10, 64)
	switch {
	case text == "" || len(text) > 1 && text[0] == '0' || text == "0" && digits > start:
		p.at = start
		p.fail("%q is not an index: a whole number without leading zeros is expected", rest(p.text[start:]))
	case err != nil || n > limit || n < -limit:
		p.at = start
		p.fail("the number %s is too large", p.text[start:digits+len(text)])
	}
	return int(n)
}

// quotedText reads a text in single or double quotes (2.3.1.1).
func (p *parser) quotedText() string {
	quote := p.peek()
	start := p.at
	p.at++
	var out strings.Builder
	for {
		if p.at >= len(p.text) {
			p.at = start
			p.fail("the text is not closed")
		}
		r, size := utf8.DecodeRuneInString(p.text[p.at:])
		switch {
		case p.text[p.at] == quote:
			p.at++
			return out.String()
		case r < 0x20 || r == utf8.RuneError && size == 1:
			p.fail("a character is in the text that must be escaped")
		case r == '\\':
			p.at++
			out.WriteRune(p.escaped(quote))
			continue
		}
		out.WriteRune(r)
		p.at += size
	}
}

func (p *parser) escaped(quote byte) rune {
	c := p.peek()
	if at := strings.IndexByte("bfnrt/\\", c); c != 0 && at >= 0 {
		p.at++
		return rune("\b\f\n\r\t/\\"[at])
	}
	if c == quote {
		p.at++
		return rune(c)
	}
	if c != 'u' {
		p.fail(`\%s is not an escape`, string(c))
	}
	first := p.hex()
	switch {
	case utf16.IsSurrogate(first) && first < 0xdc00 && strings.HasPrefix(p.text[p.at:], `\u`):
		p.at++
		if both := utf16.DecodeRune(first, p.hex()); both != utf8.RuneError {
			return both
		}
		p.fail("half of a surrogate pair is alone")
	case utf16.IsSurrogate(first):
		p.fail("half of a surrogate pair is alone")
	}
	return first
}

func (p *parser) hex() rune {
	p.at++ // the u
	if p.at+4 > len(p.text) {
		p.fail(`\u takes four digits`)
	}
	n, err := strconv.ParseUint(p.text[p.at:p.at+4], 16, 32)
	if err != nil {
		p.fail(`\u takes four digits`)
	}
	p.at += 4
	return rune(n)
}

// either, both and basic read conditions (2.3.5.1): or, and, and what they join.
func (p *parser) either() logical {
	defer p.deeper()()
	out := anyOf{p.both()}
	for {
		before := p.at
		p.blanks()
		if !p.take("||") {
			p.at = before
			break
		}
		p.blanks()
		out = append(out, p.both())
	}
	if len(out) == 1 {
		return out[0]
	}
	return out
}

func (p *parser) both() logical {
	out := allOf{p.basic()}
	for {
		before := p.at
		p.blanks()
		if !p.take("&&") {
			p.at = before
			break
		}
		p.blanks()
		out = append(out, p.basic())
	}
	if len(out) == 1 {
		return out[0]
	}
	return out
}

var comparisons = []string{"==", "!=", "<=", ">=", "<", ">"}

func (p *parser) basic() logical {
	negated := false
	if p.peek() == '!' {
		p.at++
		p.blanks()
		negated = true
	}
	if p.peek() == '(' {
		p.at++
		p.blanks()
		inner := p.either()
		p.blanks()
		if !p.take(")") {
			p.fail(") is expected")
		}
		if negated {
			return not{inner}
		}
		return inner
	}
	start := p.at
	left := p.operand()
	before := p.at
	p.blanks()
	for _, sign := range comparisons {
		if !p.take(sign) {
			continue
		}
		if negated {
			p.at = start
			p.fail("! belongs to what follows it alone; put the comparison into parentheses")
		}
		p.blanks()
		p.comparable(left, start)
		at := p.at
		right := p.operand()
		p.comparable(right, at)
		return &comparison{sign, left, right}
	}
	if p.peek() == '=' {
		p.fail("= is not a comparison; write ==")
	}
	p.at = before
	test := p.test(left, start)
	if negated {
		return not{test}
	}
	return test
}

// comparable makes sure that an operand is a value, and not a list of nodes.
func (p *parser) comparable(o operand, at int) {
	switch o := o.(type) {
	case *subquery:
		if !isSingular(o.segments) {
			p.at = at
			p.fail("only a query for a single value can be compared; this one may find several")
		}
	case *call:
		if o.function.result != valueType {
			p.at = at
			p.fail("%s gives true or false, and cannot be compared", o.name)
		}
	}
}

// test makes a condition of an operand alone.
func (p *parser) test(o operand, at int) logical {
	switch o := o.(type) {
	case *subquery:
		return exists{o}
	case *call:
		if o.function.result == logicalType {
			return truth{o}
		}
		p.at = at
		p.fail("%s gives a value, which must be compared with something", o.name)
	}
	p.at = at
	p.fail("a value alone is not a condition; compare it with something")
	return nil
}

// operand reads a literal, a query or a call.
func (p *parser) operand() operand {
	start := p.at
	switch c := p.peek(); {
	case c == '\'' || c == '"':
		return literal{document.NewText(p.quotedText())}
	case c == '@' || c == '$':
		p.at++
		return &subquery{relative: c == '@', segments: p.segments()}
	case c == '-' || c >= '0' && c <= '9':
		return literal{p.number()}
	}
	for c := p.peek(); c >= 'a' && c <= 'z' || c == '_' || p.at > start && c >= '0' && c <= '9'; c = p.peek() {
		p.at++
	}
	word := p.text[start:p.at]
	if p.peek() == '(' && word != "" {
		return p.call(word, start)
	}
	switch word {
	case "true", "false":
		return literal{document.NewBoolean(word == "true")}
	case "null":
		return literal{&document.Node{Kind: document.Null}}
	}
	p.at = start
	p.fail("a query (@.name), a literal or a function is expected, and not %q", rest(p.text[start:]))
	return nil
}

func (p *parser) number() *document.Node {
	start := p.at
	for c := p.peek(); c >= '0' && c <= '9' || c != 0 && strings.IndexByte("+-.eE", c) >= 0; c = p.peek() {
		p.at++
	}
	text := p.text[start:p.at]
	if !document.IsNumber(text) {
		p.at = start
		p.fail("%q is not a number", text)
	}
	return document.NewNumber(text)
}

func (p *parser) call(name string, start int) operand {
	defer p.deeper()()
	f, ok := functions[name]
	if !ok {
		var names []string
		for known := range functions {
			names = append(names, known)
		}
		p.at = start
		try := suggest.DidYouMean(name, names)
		if try == "" {
			try = "there are: length, count, value, match, search"
		}
		panic(failure{&Error{Offset: start, Message: "there is no function " + name, Try: try}})
	}
	p.at++
	c := &call{name: name, function: f}
	p.blanks()
	for p.peek() != ')' {
		at := p.at
		o := p.operand()
		p.argument(f, len(c.arguments), o, at, name)
		c.arguments = append(c.arguments, o)
		p.blanks()
		if !p.take(",") {
			break
		}
		p.blanks()
	}
	if !p.take(")") {
		p.fail(") is expected")
	}
	if len(c.arguments) != len(f.takes) {
		p.at = start
		p.fail("%s takes %d arguments, and has %d", name, len(f.takes), len(c.arguments))
	}
	return c
}

// argument makes sure that a call is well-typed (2.4.3).
func (p *parser) argument(f function, index int, o operand, at int, name string) {
	if index >= len(f.takes) {
		return
	}
	query, isQuery := o.(*subquery)
	if f.takes[index] == nodesType {
		if !isQuery {
			p.at = at
			p.fail("%s takes a query here", name)
		}
		return
	}
	inner, isCall := o.(*call)
	if isQuery && !isSingular(query.segments) || isCall && inner.function.result != valueType {
		p.at = at
		p.fail("%s takes a single value here; value(...) makes one of a query", name)
	}
}
