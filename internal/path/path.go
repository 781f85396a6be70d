// Package path points at fields of an answer: lines[0].sku, lines.0.sku,
// lines[*].price, actions[ID=Address].type, reply.headers.ETag. A path leads to
// the same place whether the answer is JSON or XML, and one that finds nothing
// says how far it got and what was there. It reads trees and judges nothing.
package path

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path/jsonpath"
	"testbench/internal/path/xpath"
	"testbench/internal/syntax"
	"testbench/internal/value"
)

// Error is a mistake in a path's text.
type Error = syntax.Error

// Path is a compiled path. It is safe for use by several goroutines.
type Path struct {
	Source string
	reply  bool // starts at reply, not at the answer
	steps  []step
	xpath  *xpath.Expr // of a path that begins with /
	// jsonpath is that of a path that begins with $.
	jsonpath *jsonpath.Query
	stages   []stage // after the bars
	isRooted bool    // it says answer or reply itself
}

// Plain is one step of a path that anybody can follow: a member by its name, or an
// element of a list by its place.
type Plain struct {
	Name  string
	Index int // where Name is empty
}

// PlainSteps gives the steps of a path that is nothing but names and places from the
// start of a list, and whether it starts at the reply; ok is false for any other.
func (p *Path) PlainSteps() (steps []Plain, fromReply, ok bool) {
	if p.xpath != nil || p.jsonpath != nil {
		return nil, false, false
	}
	for i, s := range p.steps {
		switch {
		case i == 0 && s.kind == byName && s.name == "answer" && !p.reply:
		case s.kind == byName || s.kind == byKey:
			steps = append(steps, Plain{Name: s.name})
		case s.kind == byIndex && s.index >= 0:
			steps = append(steps, Plain{Index: s.index})
		default:
			return nil, false, false
		}
	}
	return steps, p.reply, true
}

type stepKind uint8

const (
	byName  stepKind = iota // .name or .0
	byIndex                 // [0], [-1]
	byKey                   // ["a key"]
	each                    // [*]
	span                    // [2:5]
	where                   // [name=literal]
)

type step struct {
	kind  stepKind
	name  string // byName, byKey
	index int
	span  [2]*int         // span: from and to, nil where it is open (RFC 9535, 2.3.4)
	inner *Path           // where: the left side
	equal *value.Template // where: the right side
	typed bool            // where: the right side stood in quotes
}

// text returns the step as it is written after others.
func (s step) text() string {
	switch s.kind {
	case byName:
		return "." + s.name
	case byKey:
		return "[" + strconv.Quote(s.name) + "]"
	case byIndex:
		return "[" + strconv.Itoa(s.index) + "]"
	case each:
		return "[*]"
	case span:
		var bounds [2]string
		for i, bound := range s.span {
			if bound != nil {
				bounds[i] = strconv.Itoa(*bound)
			}
		}
		return "[" + bounds[0] + ":" + bounds[1] + "]"
	default:
		return "[" + s.inner.Source + "=" + s.equal.Source + "]"
	}
}

// Segment writes a name as one step of a path, in brackets and quotes where it could be
// read as something else.
func Segment(name string) string {
	plain := name != "" && !strings.ContainsAny(name, " .[]\"|=(){}\t\r\n") &&
		!strings.ContainsRune("/$*@-", rune(name[0]))
	if plain && strings.Trim(name, "0123456789") != "" && name != "answer" && name != "reply" {
		return name
	}
	return "[" + document.QuoteJSON(name) + "]"
}

// Below is the path of what has a name in what is at a path; the empty path is the root.
func Below(at, name string) string {
	segment := Segment(name)
	if at == "" || strings.HasPrefix(segment, "[") {
		return at + segment
	}
	return at + "." + segment
}

// Compile reads a path. Errors are of type *Error.
func Compile(source string) (*Path, error) {
	switch {
	case strings.TrimSpace(source) == "":
		return nil, &Error{Message: "the path is empty", Try: "write answer for the whole answer"}
	case source[0] == '/':
		return compileXPath(source)
	case source[0] == '$':
		return compileJSONPath(source)
	}
	r := &reader{text: source}
	p, err := r.path(func(c byte) bool { return c == 0 })
	if err != nil {
		return nil, err
	}
	p.setRoot()
	rest := strings.TrimLeft(source[r.pos:], " ")
	if after, isPiped := strings.CutPrefix(rest, "|"); isPiped {
		p.Source = source
		return p, p.addStages(after, len(source)-len(after))
	}
	if rest != "" {
		return nil, r.fail("%q is not allowed in a path here", strings.TrimSpace(rest))
	}
	return p, nil
}

// setRoot takes the root word off the steps.
func (p *Path) setRoot() {
	if len(p.steps) == 0 || p.steps[0].kind != byName {
		return
	}
	switch p.steps[0].name {
	case "reply":
		p.reply = true
	case "answer":
	default:
		return
	}
	p.isRooted = true
	p.steps = p.steps[1:]
}

// IsPlain says whether the path is neither JSONPath nor XPath, and begins at the answer.
func (p *Path) IsPlain() bool { return p.xpath == nil && p.jsonpath == nil && !p.reply }

// lengthened is the path with a short name at its beginning as the path that the name stands for; a path without one is
// returned as it is.
func (p *Path) lengthened(short map[string]*Path) *Path {
	if p.isRooted || len(p.steps) == 0 || p.steps[0].kind != byName {
		return p
	}
	long := short[p.steps[0].name]
	if long == nil {
		return p
	}
	out := *long
	rest := p.steps[1:]
	if len(long.stages) == 0 {
		out.steps = slices.Concat(long.steps, rest)
	} else if len(rest) > 0 {
		out.stages = append(slices.Clip(out.stages), stage{path: &Path{steps: rest}, source: p.Source})
	}
	out.stages = slices.Concat(out.stages, p.stages)
	out.Source = p.Source
	return &out
}

// HasEach says whether the path holds [*], so that rules hold for each.
func (p *Path) HasEach() bool {
	if p.jsonpath != nil {
		return !p.jsonpath.IsSingular()
	}
	return slices.ContainsFunc(p.steps, func(s step) bool { return s.kind == each || s.kind == span }) ||
		slices.ContainsFunc(p.stages, func(s stage) bool { return s.path != nil && s.path.HasEach() })
}

// HasAll says whether the path is one of names that holds [*], so that a list without elements can be told from one
// that is not there.
func (p *Path) HasAll() bool {
	return slices.ContainsFunc(p.steps, func(s step) bool { return s.kind == each })
}

// Placeholders returns the placeholders in the path's conditions.
func (p *Path) Placeholders() []*value.Placeholder {
	var placeholders []*value.Placeholder
	for _, s := range p.steps {
		if s.kind == where {
			placeholders = append(placeholders, s.equal.Placeholders()...)
		}
	}
	return placeholders
}

type reader struct {
	text string
	pos  int
}

func (r *reader) fail(format string, args ...any) error {
	return &Error{Offset: r.pos, Message: fmt.Sprintf(format, args...)}
}

func (r *reader) peek() byte {
	if r.pos >= len(r.text) {
		return 0
	}
	return r.text[r.pos]
}

// path reads steps up to a character that ends it.
func (r *reader) path(ends func(byte) bool) (*Path, error) {
	start := r.pos
	p := &Path{}
	for first := true; !ends(r.peek()); first = false {
		switch {
		case r.peek() == '[':
			s, err := r.index()
			if err != nil {
				return nil, err
			}
			p.steps = append(p.steps, s)
			continue
		case !first && r.peek() == '.':
			r.pos++
		case !first:
			p.Source = r.text[start:r.pos]
			return p, nil
		}
		name, err := r.name()
		if err != nil {
			return nil, err
		}
		p.steps = append(p.steps, step{kind: byName, name: name})
	}
	p.Source = r.text[start:r.pos]
	if len(p.steps) == 0 {
		return nil, r.fail("a name is missing")
	}
	return p, nil
}

func (r *reader) name() (string, error) {
	start := r.pos
	if r.peek() == '@' {
		r.pos++
	}
	for r.pos < len(r.text) && !strings.ContainsRune(" \t\n.[]\"|=", rune(r.text[r.pos])) {
		r.pos++
	}
	name := r.text[start:r.pos]
	if name == "" || name == "@" {
		return "", r.fail("a name is missing")
	}
	switch {
	case strings.TrimPrefix(name, "@") == "*":
		return "", &Error{
			Offset: start, Message: "* is not a name",
			Try: "[*] is each element of a list; a field of any name is for JSONPath ($.*.kilos) and XPath (//kilos); " +
				"the name itself is " + Segment(name),
		}
	case strings.ContainsAny(name, "()"):
		return "", &Error{
			Offset: start, Message: fmt.Sprintf("%q is not a name", name),
			Try: "functions are for conditions (where:) and filters (PATH | FILTER); a name with brackets in it is " +
				Segment(name),
		}
	}
	return name, nil
}

func (r *reader) index() (step, error) {
	open := r.pos
	r.pos++
	s, err := r.insideBrackets()
	if err != nil {
		return step{}, err
	}
	if r.peek() != ']' {
		if r.pos >= len(r.text) {
			r.pos = open
			return step{}, r.fail("[ is not closed")
		}
		return step{}, r.fail("%q is not allowed between [ and ] here", r.text[r.pos:])
	}
	r.pos++
	return s, nil
}

func (r *reader) insideBrackets() (step, error) {
	switch c := r.peek(); {
	case c == '*':
		r.pos++
		return step{kind: each}, nil
	case c == '"':
		key, err := r.quoted()
		return step{kind: byKey, name: key}, err
	case c == ']':
		return step{}, &Error{
			Offset: r.pos, Message: "nothing is between [ and ]",
			Try: "write [*] for every element, [0] for the first",
		}
	}
	start := r.pos
	if r.peek() == '-' {
		r.pos++
	}
	for c := r.peek(); c >= '0' && c <= '9'; c = r.peek() {
		r.pos++
	}
	index, err := strconv.Atoi(r.text[start:r.pos])
	if err == nil && r.peek() == ']' {
		return step{kind: byIndex, index: index}, nil
	}
	if (err == nil || r.pos == start) && r.peek() == ':' {
		return r.span(start)
	}
	r.pos = start
	inner, err := r.path(func(c byte) bool { return c == '=' || c == ']' || c == 0 })
	if err != nil {
		return step{}, err
	}
	inner.setRoot()
	if r.peek() != '=' {
		r.pos = start
		return step{}, &Error{
			Offset: start, Message: fmt.Sprintf("[%s] is neither an index nor a condition", inner.Source),
			Try: "write [0], [*], [name=value] or [\"" + inner.Source + "\"]",
		}
	}
	r.pos++
	s := step{kind: where, inner: inner}
	if r.peek() == '"' {
		text, err := r.quoted()
		if err != nil {
			return step{}, err
		}
		s.equal, s.typed = value.Literal(text), true
		return s, nil
	}
	// A placeholder may itself hold ] and quotes: step over it whole.
	start = r.pos
	for r.pos < len(r.text) && r.text[r.pos] != ']' && r.text[r.pos] != '"' {
		if strings.HasPrefix(r.text[r.pos:], "${") {
			if end := strings.IndexByte(r.text[r.pos:], '}'); end > 0 {
				r.pos += end
			}
		}
		r.pos++
	}
	template, err := value.Parse(r.text[start:r.pos])
	if err != nil {
		return step{}, &Error{Offset: start, Message: err.Error()}
	}
	value.Shift(template.Placeholders(), start)
	s.equal = template
	return s, nil
}

// span reads the bounds of [2:5], of which each may be left out.
func (r *reader) span(start int) (step, error) {
	s := step{kind: span}
	text, _, _ := strings.Cut(r.text[start:], "]")
	from, to, _ := strings.Cut(text, ":")
	for i, bound := range []string{from, to} {
		if bound == "" {
			continue
		}
		n, err := strconv.Atoi(bound)
		if err != nil {
			return step{}, &Error{
				Offset: start, Message: fmt.Sprintf("[%s] is not a span", text),
				Try: "write [2:5], [2:], [:5] or [-2:]",
			}
		}
		s.span[i] = &n
	}
	r.pos = start + len(text)
	return s, nil
}

func (r *reader) quoted() (string, error) {
	start := r.pos
	r.pos++
	var text strings.Builder
	for r.pos < len(r.text) {
		c := r.text[r.pos]
		r.pos++
		switch {
		case c == '"':
			return text.String(), nil
		case c == '\\' && r.pos < len(r.text):
			text.WriteByte(r.text[r.pos])
			r.pos++
		default:
			text.WriteByte(c)
		}
	}
	r.pos = start
	return "", r.fail("the double quotes are not closed")
}

// Roots are the trees that paths start from. Either may be nil.
type Roots struct {
	Answer, Reply *document.Node
	// Later makes Reply when it is first asked for, where it is nil; it may be nil too.
	Later func() *document.Node
	// Index, if not nil, keeps what XPath expressions need to know of the answer,
	// so that several of them need not each find it out.
	Index *Index
	// Prefixes maps the prefixes that paths may use to namespaces; others are
	// taken as the message itself declares them.
	Prefixes map[string]string
	// Shapeless says of an answer that has no fields, such as text, what it is; empty for others. That something is
	// absent there says nothing of the service.
	Shapeless string
	// Short are paths by the names that may stand for them at the beginning of others.
	Short map[string]*Path
}

func (r Roots) of(p *Path) (root *document.Node, name string) {
	if p.reply {
		return r.Around(), "reply"
	}
	return r.Answer, "answer"
}

// Around is the tree below reply.
func (r Roots) Around() *document.Node {
	if r.Reply == nil && r.Later != nil {
		return r.Later()
	}
	return r.Reply
}
