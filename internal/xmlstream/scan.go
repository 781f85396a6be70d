package xmlstream

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// The scanning functions look at what is in the buffer from the current token
// on. Where that is not enough they return 0 bytes used and no error, change
// nothing that lasts, and are called again with more. Tags are short beside
// the buffer, so this is rare, and it keeps all of them simple.

// scan reads one token. Kind None with bytes used is something that is passed over.
func (r *Reader) scan(b []byte) (Kind, int, error) {
	switch {
	case len(b) == 0:
		return None, 0, nil
	case r.inCDATA:
		return r.scanCDATA(b)
	case b[0] != '<':
		return r.scanText(b)
	case len(b) < 2:
		return None, 0, nil
	}
	switch b[1] {
	case '/':
		return r.scanEnd(b)
	case '?':
		return r.scanInstruction(b)
	case '!':
		return r.scanDeclaration(b)
	}
	return r.scanStart(b)
}

// scanDeclaration reads what begins with <!.
func (r *Reader) scanDeclaration(b []byte) (Kind, int, error) {
	const cdata, doctype = "<![CDATA[", "<!DOCTYPE"
	switch {
	case bytes.HasPrefix(b, []byte("<!--")):
		return r.scanComment(b)
	case bytes.HasPrefix(b, []byte(cdata)) && len(r.open) > 0:
		r.inCDATA = true
		return None, len(cdata), nil
	case bytes.HasPrefix(b, []byte(doctype)):
		err := r.failf(0, "it has a DOCTYPE, which is refused: entities are never expanded, and what a DOCTYPE declares is never fetched").(*Error)
		err.Doctype = true
		return None, 0, err
	case len(b) < len(cdata) && !r.eof:
		return None, 0, nil
	case bytes.HasPrefix(b, []byte(cdata)):
		return None, 0, r.failf(0, "a CDATA section cannot stand outside of the root element")
	}
	return None, 0, r.failf(0, "<! begins a comment (<!--) or a CDATA section (<![CDATA[) here, and this is neither")
}

// scanText reads character data up to the next markup (XML 1.0, production 14).
func (r *Reader) scanText(b []byte) (Kind, int, error) {
	if len(r.open) == 0 {
		return r.scanOutside(b)
	}
	i, clean := 0, 0
	out := r.scratch[:0]
	copied := false
loop:
	for {
		for i < len(b) && class[b[i]]&inText != 0 {
			i++
		}
		if i == len(b) {
			break
		}
		switch c := b[i]; {
		case c == '<':
			break loop
		case c == ']':
			if len(b) < i+3 && !r.eof {
				return r.pieceOf(b, i, clean, out, copied)
			}
			if bytes.HasPrefix(b[i:], []byte("]]>")) {
				return None, 0, r.failf(i, "]]> cannot stand in text; write ]]&gt;")
			}
			i++
		case c == '\r':
			if len(b) < i+2 && !r.eof {
				return r.pieceOf(b, i, clean, out, copied)
			}
			out, copied = append(append(out, b[clean:i]...), '\n'), true
			if i++; i < len(b) && b[i] == '\n' {
				i++
			}
			clean = i
		case c == '&':
			char, used, err := r.reference(b[i:], i)
			if err != nil {
				return None, 0, err
			}
			if used == 0 {
				return r.pieceOf(b, i, clean, out, copied)
			}
			out, copied = utf8.AppendRune(append(out, b[clean:i]...), char), true
			i += used
			clean = i
		case c >= utf8.RuneSelf:
			size, err := r.character(b[i:], i)
			if err != nil {
				return None, 0, err
			}
			if size == 0 {
				return r.pieceOf(b, i, clean, out, copied)
			}
			i += size
		default:
			return None, 0, r.badCharacter(rune(c), i)
		}
	}
	if i == len(b) && !r.eof {
		return r.pieceOf(b, i, clean, out, copied)
	}
	return r.piece(b, i, clean, out, copied)
}

// pieceOf gives out text that goes on behind the buffer, if the buffer is full.
func (r *Reader) pieceOf(b []byte, i, clean int, out []byte, copied bool) (Kind, int, error) {
	if copied {
		r.scratch = out
	}
	if i == 0 || r.eof || len(b) < r.chunk/2 {
		return None, 0, nil
	}
	return r.piece(b, i, clean, out, copied)
}

func (r *Reader) piece(b []byte, i, clean int, out []byte, copied bool) (Kind, int, error) {
	r.text = b[:i]
	if copied {
		r.scratch = append(out, b[clean:i]...)
		r.text = r.scratch
	}
	return Text, i, nil
}

// scanOutside passes over the blanks before and after the root element.
func (r *Reader) scanOutside(b []byte) (Kind, int, error) {
	i := blanks(b, 0)
	if i < len(b) && b[i] != '<' {
		if len(b)-i < 100 && !r.eof {
			return None, i, nil
		}
		if r.rooted {
			return None, 0, r.failf(i, "text after the root element")
		}
		return None, 0, r.failf(i, "it does not begin with < as XML does, but with %q", short(b[i:]))
	}
	return None, i, nil
}

func short(b []byte) string {
	if line := bytes.IndexAny(b, "\r\n"); line > 0 {
		b = b[:line]
	}
	if runes := []rune(string(b[:min(len(b), 100)])); len(runes) > 20 {
		return string(runes[:20]) + "…"
	}
	return string(b)
}

func blanks(b []byte, i int) int {
	for i < len(b) && class[b[i]]&isBlank != 0 {
		i++
	}
	return i
}

// character checks one character that is not ASCII; size 0 asks for more.
func (r *Reader) character(b []byte, at int) (size int, err error) {
	char, size := utf8.DecodeRune(b)
	if char == utf8.RuneError && size <= 1 {
		if !utf8.FullRune(b) {
			if !r.eof {
				return 0, nil
			}
			return 0, r.failf(at, "it ends in the middle of a character")
		}
		return 0, r.failf(at, "the byte %02X is not UTF-8 here; if the text is in another encoding, it must say so", b[0])
	}
	if char == 0xFFFE || char == 0xFFFF {
		return 0, r.badCharacter(char, at)
	}
	return size, nil
}

func (r *Reader) badCharacter(char rune, at int) error {
	return r.failf(at, "the character U+%04X cannot stand in XML, not even as a reference", char)
}

// reference reads a character reference or one of the five entities
// (XML 1.0, 4.1 and 4.6); used 0 asks for more.
func (r *Reader) reference(b []byte, at int) (char rune, used int, err error) {
	end := bytes.IndexByte(b[:min(len(b), 64)], ';')
	if end < 0 {
		if len(b) < 64 && !r.eof {
			return 0, 0, nil
		}
		// A reference may have any number of leading zeros.
		if digits := bytes.TrimLeft(b[min(len(b), 2):], "x0"); bytes.HasPrefix(b, []byte("&#")) && len(b) >= 64 && len(digits) < len(b)-40 {
			if end = bytes.IndexByte(b, ';'); end < 0 && !r.eof {
				return 0, 0, nil
			}
		}
		if end < 0 {
			return 0, 0, r.failf(at, "& begins a reference like &amp; and this one has no end; for the sign itself write &amp;")
		}
	}
	name := string(b[1:end])
	if digits, numeric := strings.CutPrefix(name, "#"); numeric {
		char, ok := codePoint(digits)
		if !ok {
			return 0, 0, r.failf(at, "&%s; is not a reference to a character", name)
		}
		if !IsChar(char) {
			return 0, 0, r.badCharacter(char, at)
		}
		return char, end + 1, nil
	}
	switch name {
	case "amp":
		return '&', end + 1, nil
	case "lt":
		return '<', end + 1, nil
	case "gt":
		return '>', end + 1, nil
	case "quot":
		return '"', end + 1, nil
	case "apos":
		return '\'', end + 1, nil
	}
	if !IsName(name) {
		return 0, 0, r.failf(at, "& must be written &amp; where it does not begin a reference")
	}
	return 0, 0, r.failf(at, "the entity &%s; is not declared; XML knows amp, lt, gt, quot and apos without a DOCTYPE", name)
}

func codePoint(digits string) (rune, bool) {
	base := rune(10)
	if hex, ok := strings.CutPrefix(digits, "x"); ok {
		base, digits = 16, hex
	}
	char := rune(0)
	for _, c := range []byte(digits) {
		var digit rune
		switch {
		case c >= '0' && c <= '9':
			digit = rune(c - '0')
		case base == 16 && c >= 'a' && c <= 'f':
			digit = rune(c-'a') + 10
		case base == 16 && c >= 'A' && c <= 'F':
			digit = rune(c-'A') + 10
		default:
			return 0, false
		}
		if char = char*base + digit; char > utf8.MaxRune {
			return 0, false
		}
	}
	return char, digits != ""
}

// scanCDATA reads the inside of a CDATA section, in pieces if it is long.
func (r *Reader) scanCDATA(b []byte) (Kind, int, error) {
	end, used := bytes.Index(b, []byte("]]>")), 0
	switch {
	case end >= 0:
		used = end + 3
	case r.eof || len(b) < r.chunk/2:
		if r.eof {
			if _, err := r.checked(b, 0); err != nil {
				return None, 0, err
			}
		}
		return None, 0, nil
	default:
		// Keep what may belong to the end, to a line break or to a character.
		end = len(b) - 2
		for end > 0 && (!utf8.RuneStart(b[end]) || b[end-1] == '\r') {
			end--
		}
		used = end
	}
	text, err := r.checked(b[:end], 0)
	if err != nil {
		return None, 0, err
	}
	if used == end+3 {
		r.inCDATA = false
	}
	r.text, r.isCDATA = text, true
	return Text, used, nil
}

// checked gives the text with its line breaks as one character (XML 1.0,
// 2.11), or an error where a character is none. The text stands at the given
// place behind the current token's start.
func (r *Reader) checked(b []byte, at int) ([]byte, error) {
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c >= utf8.RuneSelf:
			char, size := utf8.DecodeRune(b[i:])
			if char == utf8.RuneError && size == 1 {
				return nil, r.failf(at+i, "the byte %02X is not UTF-8 here; if the text is in another encoding, it must say so", c)
			}
			if char == 0xFFFE || char == 0xFFFF {
				return nil, r.badCharacter(char, at+i)
			}
			i += size
		case c < 0x20 && class[c]&isBlank == 0:
			return nil, r.badCharacter(rune(c), at+i)
		default:
			i++
		}
	}
	if bytes.IndexByte(b, '\r') < 0 {
		return b, nil
	}
	r.scratch = append(r.scratch[:0], b...)
	r.scratch = bytes.ReplaceAll(r.scratch, []byte("\r\n"), []byte("\n"))
	return bytes.ReplaceAll(r.scratch, []byte("\r"), []byte("\n")), nil
}

// scanComment reads a comment (XML 1.0, production 15).
func (r *Reader) scanComment(b []byte) (Kind, int, error) {
	end := bytes.Index(b[4:], []byte("--"))
	if end < 0 || len(b) < end+7 {
		if r.eof {
			if _, err := r.checked(b[4:], 4); err != nil {
				return None, 0, err
			}
		}
		return None, 0, nil
	}
	if b[end+6] != '>' {
		return None, 0, r.failf(end+4, "-- cannot stand inside a comment")
	}
	text, err := r.checked(b[4:end+4], 4)
	if err != nil || !r.options.Comments {
		return None, end + 7, err
	}
	r.text = text
	return Comment, end + 7, nil
}

// scanInstruction reads a processing instruction (XML 1.0, production 16).
func (r *Reader) scanInstruction(b []byte) (Kind, int, error) {
	end := bytes.Index(b, []byte("?>"))
	if end < 2 {
		if end < 0 || len(b) < 4 {
			return None, 0, nil
		}
		return None, 0, r.failf(0, "a processing instruction needs a name")
	}
	target := 2
	for target < end && class[b[target]]&isBlank == 0 {
		target++
	}
	name := string(b[2:target])
	switch {
	case strings.EqualFold(name, "xml"):
		return None, 0, r.failf(0, "<?%s can stand only once and only at the very beginning", name)
	case !IsName(name):
		return None, 0, r.failf(2, "%q is not a name for a processing instruction", name)
	case strings.Contains(name, ":"):
		return None, 0, r.failf(2, "the name %s of a processing instruction cannot hold a colon (Namespaces in XML)", name)
	}
	data := blanks(b[:end], target)
	text, err := r.checked(b[data:end], data)
	if err != nil || !r.options.Instructions {
		return None, end + 2, err
	}
	r.name, r.text = Name{Local: name}, text
	return Instruction, end + 2, nil
}

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
		return None, 0, r.failf(0, "</%s> is not an end tag", short([]byte(name)))
	case len(r.open) == 0:
		return None, 0, r.failf(0, "</%s> closes nothing", name)
	case r.open[len(r.open)-1].entry.raw != name:
		return None, 0, r.failf(0, "</%s> stands where </%s> should close", name, r.open[len(r.open)-1].entry.raw)
	}
	return r.close(), end + 1, nil
}

// scanName reads a name from b[i:] on and finds its entry. It returns the index
// behind the name, -1 where the buffer ends within it.
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
		return nil, r.failf(at, "%q is not a name", short(raw))
	}
	e := &entry{raw: name, local: name}
	before, after, qualified := strings.Cut(name, ":")
	if qualified {
		if !IsNCName(before) || !IsNCName(after) {
			return nil, r.failf(at, "the name %s can hold one colon, between a prefix and a name (Namespaces in XML)", name)
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
		r.names.reset(r.bindings)
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
				return None, 0, r.failf(i, "/ can stand in a tag only before its >")
			}
			i, empty = i+2, true
			break
		}
		if before == i {
			return None, 0, r.failf(i, "%q cannot stand here in the tag <%s>", short(b[i:i+1]), element.raw)
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
		p = r.names.prefixes[""]
	} else if !p.bound {
		return None, 0, r.failf(1, "the prefix %s of <%s> is not declared", p.text, element.raw)
	}
	r.name = Name{Space: p.space, Prefix: p.text, Local: element.local}
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
			return None, 0, r.failf(int(a.Offset-r.start), "the prefix %s of the attribute %s is not declared", p.text, a.entry.raw)
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
	r.open = append(r.open, openElement{entry: element, name: r.name, bindings: outside})
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

// repeated finds an attribute that stands twice, also under two prefixes for
// one namespace (Namespaces in XML 1.0, section 6.3).
func (r *Reader) repeated() error {
	if len(r.attrs) > 12 {
		type key struct{ space, local string }
		seen := make(map[key]bool, len(r.attrs))
		for i := range r.attrs {
			a := &r.attrs[i]
			k := key{a.Name.Space, a.Name.Local}
			if a.Name.Prefix == "" && a.entry.declares {
				k.space = "" // xmlns itself is not xmlns:xmlns
				k.local = "xmlns"
			}
			if seen[k] {
				return r.twice(a)
			}
			seen[k] = true
		}
		return nil
	}
	for i := range r.attrs {
		a := &r.attrs[i]
		for j := range i {
			b := &r.attrs[j]
			if a.entry == b.entry || a.entry.local == b.entry.local && a.Name.Space == b.Name.Space && a.Name.Space != XMLNSSpace {
				return r.twice(a)
			}
		}
	}
	return nil
}

func (r *Reader) twice(a *Attr) error {
	return r.failf(int(a.Offset-r.start), "the attribute %s stands twice on <%s>", a.entry.raw, r.name)
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
		return Attr{}, 0, r.failf(i, "the value of the attribute %s must stand in quotes", name.raw)
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

// declaration reads the XML declaration, if there is one (XML 1.0, production 23).
func (r *Reader) declaration() error {
	if err := r.wholeDeclaration(); err != nil {
		return err
	}
	b := r.buf[r.pos:r.end]
	if !bytes.HasPrefix(b, []byte("<?xml")) || len(b) < 6 || class[b[5]]&isBlank == 0 {
		return nil
	}
	r.start = r.base + int64(r.pos)
	end := bytes.Index(b, []byte("?>"))
	if end < 0 {
		return r.failf(0, "the XML declaration has no end")
	}
	d := declaration{reader: r, text: b[:end], at: 5}
	version, err := d.pseudo("version")
	if err != nil {
		return err
	}
	// A document of a later 1.x is read as 1.0 (fifth edition, 2.8).
	if digits, ok := strings.CutPrefix(version, "1."); !ok || digits == "" || strings.Trim(digits, "0123456789") != "" {
		return r.failf(0, "the XML declaration must say version 1.0, not %q", version)
	}
	encoding, err := d.pseudo("encoding")
	if err != nil {
		return err
	}
	if d.found && !isEncodingName(encoding) {
		return r.failf(0, "%q is not the name of an encoding", encoding)
	}
	if d.found && r.declaredMustMatch && r.encoding == "UTF-16" && !strings.HasPrefix(strings.ToLower(encoding), "utf-16") && !strings.EqualFold(encoding, "iso-10646-ucs-2") {
		return r.failf(0, "it declares itself as %s, but is written as UTF-16", encoding)
	}
	standalone, err := d.pseudo("standalone")
	if err != nil {
		return err
	}
	if d.found && standalone != "yes" && standalone != "no" {
		return r.failf(0, "standalone can be yes or no, not %q", standalone)
	}
	if rest := blanks(d.text, d.at); rest < len(d.text) {
		return r.failf(rest, "%q cannot stand in the XML declaration: it has version, encoding and standalone, in this order", short(d.text[rest:]))
	}
	r.pos += end + 2
	return nil
}

type declaration struct {
	reader *Reader
	text   []byte
	at     int
	found  bool
}

// pseudo reads one part of the declaration, if it is there.
func (d *declaration) pseudo(name string) (string, error) {
	i := blanks(d.text, d.at)
	d.found = i > d.at && bytes.HasPrefix(d.text[i:], []byte(name))
	if !d.found {
		if name == "version" {
			return "", d.reader.failf(i, "the XML declaration must begin with version")
		}
		return "", nil
	}
	i = blanks(d.text, i+len(name))
	if i == len(d.text) || d.text[i] != '=' {
		return "", d.reader.failf(i, "%s in the XML declaration needs = and a value", name)
	}
	i = blanks(d.text, i+1)
	if i == len(d.text) || d.text[i] != '"' && d.text[i] != '\'' {
		return "", d.reader.failf(i, "the value of %s in the XML declaration must stand in quotes", name)
	}
	value, _, closed := bytes.Cut(d.text[i+1:], d.text[i:i+1])
	if !closed {
		return "", d.reader.failf(i, "the value of %s in the XML declaration has no end", name)
	}
	d.at = i + 1 + len(value) + 1
	return string(value), nil
}

// isEncodingName checks production 81.
func isEncodingName(name string) bool {
	for i, c := range []byte(name) {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || (c < '0' || c > '9') && c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return name != ""
}
