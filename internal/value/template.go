// Package value reads and fills the placeholders of bench and sheet files:
// ${name}, ${row.lot | upper}, ${today | add 30 d | format dd.MM.yyyy}. It
// escapes what it puts in for the place it is put into. Where names lead is
// the caller's knowledge, given as a Scope.
package value

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/syntax"
)

// Error is a mistake in the text of a template.
type Error = syntax.Error

// Template is text with placeholders. The zero value is the empty text.
type Template struct {
	Source string
	parts  []part
}

type part struct {
	literal     string
	placeholder *Placeholder
}

// Placeholder is one placeholder.
type Placeholder struct {
	Ref
	Filters []Filter
	Source  string   // as written, with ${ and }
	Offset  int      // bytes from the start of the template
	place   Escaping // set in bodies, where each placeholder has a place of its own

	fixed  *string   // a secret text, in place of a name
	joined *Template // a text with placeholders of its own, in place of a name
}

// Ref says what a placeholder asks for.
type Ref struct {
	Space string // "" for a plain name, or one of Spaces
	Name  string // empty for now, today, uuid and a bare callback
	Tail  []Step // the way into a value that is a tree
}

// Step is one step of a tail: a key, or an index where IsIndex is set.
type Step struct {
	Key     string
	Index   int
	IsIndex bool
}

// Filter is one filter with its arguments.
type Filter struct {
	Name   string
	Args   []string
	Offset int
}

// Spaces are the words that say where a name is looked up.
var Spaces = []string{"row", "site", "kept", "sealed", "machine", "run"}

// moments stand for a value of their own, without a name after them.
var moments = []string{"now", "today", "uuid"}

// Parse reads a template. Errors are of type *Error.
func Parse(source string) (*Template, error) {
	t := &Template{Source: source}
	var literal strings.Builder
	for i := 0; i < len(source); {
		switch {
		case strings.HasPrefix(source[i:], "$${"):
			literal.WriteString("${")
			i += 3
		case strings.HasPrefix(source[i:], "${"):
			placeholder, length, err := parsePlaceholder(source[i:], i)
			if err != nil {
				return nil, err
			}
			if literal.Len() > 0 {
				t.parts = append(t.parts, part{literal: literal.String()})
				literal.Reset()
			}
			t.parts = append(t.parts, part{placeholder: placeholder})
			i += length
		default:
			literal.WriteByte(source[i])
			i++
		}
	}
	if literal.Len() > 0 {
		t.parts = append(t.parts, part{literal: literal.String()})
	}
	return t, nil
}

// Literal returns a template that is just the text.
func Literal(text string) *Template {
	if text == "" {
		return &Template{}
	}
	return &Template{Source: strings.ReplaceAll(text, "${", "$${"), parts: []part{{literal: text}}}
}

// Shift moves the offsets of placeholders by so many bytes, where their template is a part of a
// longer text. It is for whoever made the template, before others have it.
func Shift(placeholders []*Placeholder, by int) {
	for _, h := range placeholders {
		h.Offset += by
	}
}

// Placeholders returns the placeholders in order.
func (t *Template) Placeholders() []*Placeholder {
	var placeholders []*Placeholder
	for _, p := range t.parts {
		switch {
		case p.placeholder == nil || p.placeholder.fixed != nil:
		case p.placeholder.joined != nil:
			placeholders = append(placeholders, p.placeholder.joined.Placeholders()...)
		default:
			placeholders = append(placeholders, p.placeholder)
		}
	}
	return placeholders
}

// IsLiteral says whether the template has no placeholders.
func (t *Template) IsLiteral() bool {
	return len(t.parts) == 0 || len(t.parts) == 1 && t.parts[0].placeholder == nil
}

// Whole returns the placeholder of a template that is nothing but one placeholder, or nil.
func (t *Template) Whole() *Placeholder {
	if len(t.parts) == 1 {
		return t.parts[0].placeholder
	}
	return nil
}

// LiteralText returns the text of a template without placeholders.
func (t *Template) LiteralText() string {
	if len(t.parts) == 0 {
		return ""
	}
	return t.parts[0].literal
}

// placeholderReader reads one placeholder; pos runs over text, base is text's own offset.
type placeholderReader struct {
	text string
	pos  int
	base int
}

func parsePlaceholder(text string, base int) (*Placeholder, int, error) {
	r := &placeholderReader{text: text, pos: 2, base: base}
	placeholder := &Placeholder{Offset: base}
	r.blanks()
	var err error
	if placeholder.Ref, err = r.ref(); err != nil {
		return nil, 0, err
	}
	for {
		r.blanks()
		switch r.peek() {
		case '}':
			r.pos++
			placeholder.Source = text[:r.pos]
			return placeholder, r.pos, nil
		case '|':
			r.pos++
			filter, err := r.filter()
			if err != nil {
				return nil, 0, err
			}
			placeholder.Filters = append(placeholder.Filters, filter)
		case 0:
			return nil, 0, &Error{
				Offset: base, Message: "${ is not closed",
				Try: "write } after the name, or $${ for the two characters themselves",
			}
		default:
			return nil, 0, r.fail("%q is not allowed in a placeholder here", "write | before a filter, or } to close",
				r.rest())
		}
	}
}

func (r *placeholderReader) fail(format, try string, args ...any) error {
	return &Error{Offset: r.base + r.pos, Message: fmt.Sprintf(format, args...), Try: try}
}

func (r *placeholderReader) peek() byte {
	if r.pos >= len(r.text) {
		return 0
	}
	return r.text[r.pos]
}

func (r *placeholderReader) rest() string {
	rest := r.text[r.pos:]
	if end := strings.IndexAny(rest, " }\n"); end > 0 {
		rest = rest[:end]
	}
	const most = 30
	if len(rest) > most {
		rest = strings.ToValidUTF8(rest[:most], "")
	}
	return rest
}

func (r *placeholderReader) blanks() {
	for r.peek() == ' ' {
		r.pos++
	}
}

// IsIdentifier says whether s can be the name of a kept or set value.
func IsIdentifier(s string) bool {
	for i, c := range s {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != ""
}

// IsReserved says whether a name means something of its own in placeholders,
// so that no value can have it.
func IsReserved(name string) bool {
	return contains(Spaces, name) || contains(moments, name) || name == "callback" || name == "file"
}

func (r *placeholderReader) ident() string {
	start := r.pos
	for r.pos < len(r.text) && IsIdentifier(r.text[start:r.pos+1]) {
		r.pos++
	}
	return r.text[start:r.pos]
}

func (r *placeholderReader) ref() (Ref, error) {
	start := r.pos
	word := r.ident()
	switch {
	case word == "" && (r.peek() == '}' || r.peek() == 0):
		return Ref{}, r.fail("the placeholder names nothing", "write ${name}")
	case word == "":
		return Ref{}, r.fail("%q is not a name",
			"a name has letters (A to Z, a to z), digits and _, and starts with a letter or _", r.rest())
	case word == "file" && r.peek() == ':':
		r.pos++
		begin := r.pos
		for c := r.peek(); c != 0 && c != '|' && c != '}'; c = r.peek() {
			r.pos++
		}
		name := strings.TrimSpace(r.text[begin:r.pos])
		if name == "" {
			return Ref{}, r.fail("file: names no file", "write ${file:notes.txt}")
		}
		return Ref{Space: "file", Name: name}, nil
	case contains(moments, word):
		return Ref{Space: word}, nil
	case word == "callback":
		ref := Ref{Space: word}
		if r.peek() == '.' {
			r.pos++
			begin := r.pos
			for c := r.peek(); c != 0 && c != '|' && c != '}'; c = r.peek() {
				r.pos++
			}
			ref.Name = strings.TrimSpace(r.text[begin:r.pos])
		}
		return ref, nil
	}
	ref := Ref{Name: word}
	tail, err := r.tail()
	if err != nil {
		return Ref{}, err
	}
	if contains(Spaces, word) {
		if len(tail) == 0 || tail[0].IsIndex {
			r.pos = start
			return Ref{}, r.fail("%s needs a name after it", "write ${"+word+".name}", word)
		}
		return Ref{Space: word, Name: tail[0].Key, Tail: tail[1:]}, nil
	}
	ref.Tail = tail
	return ref, nil
}

func (r *placeholderReader) tail() ([]Step, error) {
	var tail []Step
	for {
		switch r.peek() {
		case '.':
			r.pos++
			begin := r.pos
			for c := r.peek(); c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' ||
				c >= 'A' && c <= 'Z'; c = r.peek() {
				r.pos++
			}
			word := r.text[begin:r.pos]
			if word == "" {
				return nil, r.fail("a name or a number is missing after the dot", "")
			}
			step := Step{Key: word}
			if index, err := strconv.Atoi(word); err == nil {
				step = Step{Key: word, Index: index, IsIndex: true}
			}
			tail = append(tail, step)
		case '[':
			r.pos++
			if r.peek() == '"' {
				key, err := r.quoted()
				if err != nil {
					return nil, err
				}
				tail = append(tail, Step{Key: key})
			} else {
				begin := r.pos
				for c := r.peek(); c >= '0' && c <= '9'; c = r.peek() {
					r.pos++
				}
				index, err := strconv.Atoi(r.text[begin:r.pos])
				if err != nil {
					return nil, r.fail("between [ and ] there must be a number or a name in double quotes",
						`write [0] or ["a name"]`)
				}
				tail = append(tail, Step{Index: index, IsIndex: true})
			}
			if r.peek() != ']' {
				return nil, r.fail("] is missing", "")
			}
			r.pos++
		default:
			return tail, nil
		}
	}
}

// quoted reads a text in double quotes, in which \" and \\ stand for themselves
// and \n for a line break.
func (r *placeholderReader) quoted() (string, error) {
	start := r.pos
	r.pos++
	var text strings.Builder
	for r.pos < len(r.text) {
		switch c := r.text[r.pos]; {
		case c == '"':
			r.pos++
			return text.String(), nil
		case c == '\\' && r.pos+1 < len(r.text):
			r.pos++
			if next := r.text[r.pos]; next == 'n' {
				text.WriteByte('\n')
			} else {
				text.WriteByte(next)
			}
		default:
			text.WriteByte(c)
		}
		r.pos++
	}
	r.pos = start
	return "", r.fail("the double quotes are not closed", "")
}

func (r *placeholderReader) filter() (Filter, error) {
	r.blanks()
	filter := Filter{Offset: r.base + r.pos}
	start := r.pos
	filter.Name = r.ident()
	save := r.pos
	r.blanks()
	if name := filter.Name + " " + r.ident(); filters[name].usage != "" { // one of two words
		filter.Name = name
	} else {
		r.pos = save
	}
	if filter.Name == "format" {
		begin := r.pos
		for c := r.peek(); c != 0 && c != '|' && c != '}'; c = r.peek() {
			r.pos++
		}
		if pattern := strings.TrimSpace(r.text[begin:r.pos]); pattern != "" {
			filter.Args = []string{strings.Trim(pattern, `"`)}
		}
	}
	for {
		r.blanks()
		c := r.peek()
		if c == '}' || c == '|' || c == 0 {
			break
		}
		if c == '"' {
			arg, err := r.quoted()
			if err != nil {
				return Filter{}, err
			}
			filter.Args = append(filter.Args, arg)
			continue
		}
		begin := r.pos
		for c := r.peek(); c != 0 && c != ' ' && c != '|' && c != '}' && c != '"'; c = r.peek() {
			r.pos++
		}
		filter.Args = append(filter.Args, r.text[begin:r.pos])
	}
	r.pos = max(r.pos, start)
	if err := checkFilter(filter); err != nil {
		return Filter{}, err
	}
	return filter, nil
}

func checkFilter(f Filter) error {
	known, ok := filters[f.Name]
	if !ok {
		names := FilterNames()
		message := fmt.Sprintf("%q is not a filter", f.Name)
		if f.Name == "" {
			message = "a filter's name is missing after |"
		}
		try := suggest.DidYouMean(f.Name, names)
		if try == "" {
			try = "there are: " + strings.Join(names, ", ")
		}
		return &Error{Offset: f.Offset, Message: message, Try: try}
	}
	if len(f.Args) < known.least || len(f.Args) > known.most {
		return &Error{
			Offset: f.Offset, Message: f.Name + " is not written like this",
			Try: "write | " + known.usage,
		}
	}
	if known.check != nil {
		if err := known.check(f.Args); err != nil {
			return &Error{Offset: f.Offset, Message: f.Name + ": " + err.Error(), Try: "write | " + known.usage}
		}
	}
	return nil
}

func contains(words []string, word string) bool {
	for _, w := range words {
		if w == word {
			return true
		}
	}
	return false
}

// Follow goes down the tail into a tree; it returns nil where nothing is.
func Follow(node *document.Node, tail []Step) *document.Node {
	for _, step := range tail {
		if node == nil {
			return nil
		}
		next := (*document.Node)(nil)
		if !step.IsIndex || step.Key != "" {
			if next = node.Get(step.Key); next == nil && node.Kind == document.Element {
				if next = node.Child(step.Key); next == nil {
					if text, ok := node.Attribute(step.Key); ok {
						next = document.NewUntyped(text)
					}
				}
			}
		}
		if next == nil && step.IsIndex && node.Kind == document.List && step.Index < len(node.Items()) {
			next = node.Items()[step.Index]
		}
		if next != nil && node.Secret && !next.Secret {
			next = next.Copy()
			next.Secret = true
		}
		node = next
	}
	return node
}

func runeAt(s string, offset int) rune {
	r, _ := utf8.DecodeRuneInString(s[offset:])
	return r
}

// Alone returns a template that is just the placeholder.
func (h *Placeholder) Alone() *Template {
	return &Template{Source: h.Source, parts: []part{{placeholder: h}}}
}

// SecretLiteral returns a template that is just the text, which is masked
// wherever it goes: a credential that somebody wrote into a file.
func SecretLiteral(text string) *Template {
	t := &Template{Source: Mask}
	t.parts = []part{{placeholder: &Placeholder{Source: Mask, fixed: &text}}}
	return t
}

// Unreadable stands for a template that could not be read: it is not a literal, so
// that nothing more is said of its text.
func Unreadable() *Template {
	empty := ""
	return &Template{parts: []part{{placeholder: &Placeholder{fixed: &empty}}}}
}

// IsUnreadable says whether it stands for one that could not be read, which was told.
func (t *Template) IsUnreadable() bool {
	if len(t.parts) != 1 || t.parts[0].placeholder == nil {
		return false
	}
	fixed := t.parts[0].placeholder.fixed
	return fixed != nil && *fixed == ""
}

// BasicPair returns the template of an Authorization field with user and
// password in the Basic form (RFC 7617).
func BasicPair(user, password *Template) *Template {
	t := &Template{Source: "Basic " + user.Source + ":" + password.Source}
	pair := &Template{parts: append(append(append([]part{}, user.parts...), part{literal: ":"}), password.parts...)}
	t.parts = []part{
		{literal: "Basic "},
		{placeholder: &Placeholder{Source: "user and password", joined: pair, Filters: []Filter{{Name: "base64"}}}},
	}
	return t
}
