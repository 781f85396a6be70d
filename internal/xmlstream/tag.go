package xmlstream

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"

	"testbench/internal/excerpt"
)

// scanEnd reads an end tag (XML 1.0, production 42).
func (r *Reader) scanEnd(b []byte) (Kind, int, error) {
	if len(r.open) > 0 {
		// The usual case: exactly the name that is open, and >.
		raw := r.open[len(r.open)-1].entry.raw
		if end := 2 + len(raw); len(b) > end && b[end] == '>' && string(b[2:end]) == raw {
			return r.close(), end + 1, nil
		}
	}
	end := bytes.IndexByte(b, '>')
	if end < 0 {
		return None, 0, nil
	}
	name := strings.TrimRight(string(b[2:end]), " \t\r\n")
	switch {
	case !IsName(name):
		return None, 0, r.failf(0, "%s is not an end tag", excerpt.Quote("</"+name+">"))
	case len(r.open) == 0:
		return None, 0, r.failf(0, "</%s> closes nothing", name)
	case r.open[len(r.open)-1].entry.raw != name:
		return None, 0, r.failf(0, "</%s> found where </%s> is expected", name, r.open[len(r.open)-1].entry.raw)
	}
	return r.close(), end + 1, nil
}

// scanName reads a name from b[i:] on and finds its entry. It returns the index
// after the name, -1 where the buffer ends within it.
func (r *Reader) scanName(b []byte, i int) (*entry, int, error) {
	from, hash := i, uint32(2166136261)
	for i < len(b) && (class[b[i]]&inName != 0 || b[i] >= utf8.RuneSelf) {
		hash = (hash ^ uint32(b[i])) * 16777619
		i++
	}
	if i == len(b) {
		return nil, -1, nil
	}
	if e := r.names.find(b[from:i], hash); e != nil {
		return e, i, nil
	}
	e, err := r.newName(b[from:i], from)
	if err != nil {
		return nil, 0, err
	}
	e.hash = hash
	r.names.add(e)
	return e, i, nil
}

// newName checks a name that was not met before (Namespaces in XML 1.0, section 4).
func (r *Reader) newName(raw []byte, at int) (*entry, error) {
	name := string(raw)
	if !IsName(name) {
		if !utf8.Valid(raw) {
			if _, err := r.checked(raw, at); err != nil {
				return nil, err
			}
		}
		return nil, r.failf(at, "%s is not a name", excerpt.Quote(string(raw)))
	}
	e := &entry{raw: name, local: name}
	before, after, qualified := strings.Cut(name, ":")
	if qualified {
		if !IsNCName(before) || !IsNCName(after) {
			return nil, r.failf(at, "the name %s can hold one colon, between a prefix and a name (Namespaces in XML)",
				name)
		}
		e.prefix, e.local = r.names.prefix(before), after
	}
	e.declares = name == "xmlns" || before == "xmlns" && qualified
	return e, nil
}

// scanStart reads a start tag or an empty element (XML 1.0, productions 40 and 44).
func (r *Reader) scanStart(b []byte) (Kind, int, error) {
	if class[b[1]]&starts == 0 && b[1] < utf8.RuneSelf {
		return None, 0, r.failf(0, "< must be written &lt; where it does not begin a tag")
	}
	if r.names.count > mostNames {
		r.names.reset(slices.Concat(r.outside, r.bindings)...)
	}
	element, i, err := r.scanName(b, 1)
	if err != nil || i < 0 {
		return None, 0, err
	}
	r.attrs = r.attrs[:0]
	r.scratch = r.scratch[:0]
	declares, empty := false, false
	for {
		before := i
		i = blanks(b, i)
		if i == len(b) {
			return None, 0, nil
		}
		if b[i] == '>' {
			i++
			break
		}
		if b[i] == '/' {
			if i+1 == len(b) {
				return None, 0, nil
			}
			if b[i+1] != '>' {
				return None, 0, r.failf(i, "/ is allowed in a tag only before its >")
			}
			i, empty = i+2, true
			break
		}
		if before == i {
			return None, 0, r.failf(i, "%q is not allowed here in the tag <%s>", b[i:i+1], element.raw)
		}
		var a Attr
		if a, i, err = r.scanAttribute(b, i, element); err != nil || i < 0 {
			return None, 0, err
		}
		declares = declares || a.entry.declares
		r.attrs = append(r.attrs, a)
	}
	if len(r.open) == 0 && r.rooted {
		return None, 0, r.failf(0, "<%s> is a second root element", element.raw)
	}
	if len(r.open) >= r.options.MaxDepth {
		return None, 0, r.limit("elements are nested deeper than %d", r.options.MaxDepth)
	}
	return r.enter(element, i, declares, empty)
}

// enter opens the element whose tag was read and resolves its names.
func (r *Reader) enter(element *entry, used int, declares, empty bool) (Kind, int, error) {
	outside := len(r.bindings)
	if declares {
		if err := r.declare(); err != nil {
			return None, 0, err
		}
	}
	p := element.prefix
	if p == nil {
		p = r.names.none
	} else if !p.bound {
		return None, 0, r.failf(1, "the prefix %s of <%s> is not declared", p.text, element.raw)
	}
	if element.name == nil || element.name.Space != p.space {
		element.name = &Name{Space: p.space, Prefix: p.text, Local: element.local}
	}
	r.name = element.name
	for i := range r.attrs {
		a := &r.attrs[i]
		switch p := a.entry.prefix; {
		case a.entry.declares:
			a.Name = Name{Space: XMLNSSpace, Local: a.entry.local}
			if p != nil {
				a.Name.Prefix = "xmlns"
			}
		case p == nil:
			a.Name = Name{Local: a.entry.local}
		case !p.bound:
			return None, 0, r.failf(int(a.Offset-r.start), "the prefix %s of the attribute %s is not declared", p.text,
				a.entry.raw)
		default:
			a.Name = Name{Space: p.space, Prefix: p.text, Local: a.entry.local}
		}
	}
	if len(r.attrs) > 1 {
		if err := r.repeated(); err != nil {
			return None, 0, err
		}
	}
	r.rooted = true
	r.open = append(r.open, openElement{entry: element, name: r.name, bindings: outside, start: r.start})
	r.closing = empty
	return Start, used, nil
}

// declare binds the prefixes that the tag declares (Namespaces in XML 1.0, section 3).
func (r *Reader) declare() error {
	for i := range r.attrs {
		a := &r.attrs[i]
		if !a.entry.declares {
			continue
		}
		text := ""
		if a.entry.prefix != nil {
			text = a.entry.local
		}
		space := r.names.space(a.Value)
		at := int(a.Offset - r.start)
		switch {
		case text == "xmlns":
			return r.failf(at, "the prefix xmlns cannot be declared")
		case (text == "xml") != (space == XMLSpace):
			return r.failf(at, "the prefix xml and the namespace %s belong together and to nothing else", XMLSpace)
		case space == XMLNSSpace:
			return r.failf(at, "the namespace %s cannot be declared", XMLNSSpace)
		case text != "" && space == "":
			return r.failf(at, "the prefix %s is declared as empty", text)
		}
		p := r.names.prefix(text)
		r.bindings = append(r.bindings, binding{prefix: p, space: p.space, bound: p.bound})
		p.space, p.bound = space, true
	}
	return nil
}

// repeated finds an attribute that is there twice, also under two prefixes for
// one namespace (Namespaces in XML 1.0, section 6.3).
func (r *Reader) repeated() error {
	tag, qualified := r.start+1, 0
	for i := range r.attrs {
		a := &r.attrs[i]
		if a.entry.tag == tag {
			return r.twice(a)
		}
		a.entry.tag = tag
		if a.isQualified() {
			qualified++
		}
	}
	if qualified < 2 {
		return nil
	}
	if r.expanded == nil {
		r.expanded = map[expandedName]bool{}
	}
	clear(r.expanded)
	for i := range r.attrs {
		a := &r.attrs[i]
		if name := (expandedName{a.Name.Space, a.Name.Local}); a.isQualified() {
			if r.expanded[name] {
				return r.twice(a)
			}
			r.expanded[name] = true
		}
	}
	return nil
}

// expandedName is what tells the names of a tag's attributes apart.
type expandedName struct{ space, local string }

// isQualified says whether the name has a prefix that stands for a namespace.
func (a *Attr) isQualified() bool { return a.entry.prefix != nil && !a.entry.declares }

func (r *Reader) twice(a *Attr) error {
	return r.failf(int(a.Offset-r.start), "the attribute %s is there twice on <%s>", a.entry.raw, r.name)
}

// scanAttribute reads one attribute (XML 1.0, production 41). The index behind
// it is -1 where the buffer ends within it.
func (r *Reader) scanAttribute(b []byte, i int, element *entry) (Attr, int, error) {
	from := i
	name, i, err := r.scanName(b, i)
	if err != nil || i < 0 {
		return Attr{}, i, err
	}
	i = blanks(b, i)
	if i == len(b) {
		return Attr{}, -1, nil
	}
	if b[i] != '=' {
		return Attr{}, 0, r.failf(i, "the attribute %s of <%s> has no value: = is missing", name.raw, element.raw)
	}
	i = blanks(b, i+1)
	if i == len(b) {
		return Attr{}, -1, nil
	}
	quote := b[i]
	if quote != '"' && quote != '\'' {
		return Attr{}, 0, r.failf(i, "the value of the attribute %s must be in quotes", name.raw)
	}
	i++
	value, i, err := r.scanValue(b, i, quote)
	return Attr{Value: value, Offset: r.start + int64(from), entry: name}, i, err
}

// scanValue reads a value up to its quote and normalizes it (XML 1.0, 3.3.3).
func (r *Reader) scanValue(b []byte, i int, quote byte) ([]byte, int, error) {
	from, clean, copied := i, i, len(r.scratch)
	changed := false
	for {
		for i < len(b) && class[b[i]]&inValue != 0 {
			i++
		}
		if i == len(b) {
			return nil, -1, nil
		}
		switch c := b[i]; {
		case c == quote:
			if !changed {
				return b[from:i:i], i + 1, nil
			}
			r.scratch = append(r.scratch, b[clean:i]...)
			return r.scratch[copied:len(r.scratch):len(r.scratch)], i + 1, nil
		case c == '"' || c == '\'':
			i++
		case c == '<':
			return nil, 0, r.failf(i, "< must be written &lt; in the value of an attribute")
		case c == '&':
			char, used, err := r.reference(b[i:], i)
			if err != nil {
				return nil, 0, err
			}
			if used == 0 {
				return nil, -1, nil
			}
			r.scratch, changed = utf8.AppendRune(append(r.scratch, b[clean:i]...), char), true
			i += used
			clean = i
		case c == '\t' || c == '\n' || c == '\r':
			if c == '\r' && i+1 == len(b) {
				return nil, -1, nil
			}
			r.scratch, changed = append(append(r.scratch, b[clean:i]...), ' '), true
			if i++; c == '\r' && b[i] == '\n' {
				i++
			}
			clean = i
		case c >= utf8.RuneSelf:
			size, err := r.character(b[i:], i)
			if err != nil {
				return nil, 0, err
			}
			if size == 0 {
				return nil, -1, nil
			}
			i += size
		default:
			return nil, 0, r.badCharacter(rune(c), i)
		}
	}
}
