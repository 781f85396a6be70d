package xmlstream

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"testbench/internal/excerpt"
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
		err := r.failf(0, "it has a DOCTYPE, which is refused: entities are never expanded, and what a DOCTYPE "+
			"declares is never fetched").(*Error)
		err.Doctype = true
		return None, 0, err
	case len(b) < len(cdata) && !r.eof:
		return None, 0, nil
	case bytes.HasPrefix(b, []byte(cdata)):
		return None, 0, r.failf(0, "a CDATA section is not allowed outside of the root element")
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
				return None, 0, r.failf(i, "]]> is not allowed in text; write ]]&gt;")
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

// pieceOf gives out text that goes on after the buffer, if the buffer is full.
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
		if len(b)-i < excerpt.Most && !r.eof {
			return None, i, nil
		}
		if r.rooted {
			return None, 0, r.failf(i, "text after the root element")
		}
		return None, 0, r.failf(i, "it does not begin with < as XML does, but with %s",
			excerpt.Quote(string(b[i:min(len(b), i+excerpt.Most)])))
	}
	return None, i, nil
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
		return 0, r.failf(at, "the byte %02X is not UTF-8 here; if the text is in another encoding, it must say so",
			b[0])
	}
	if char == 0xFFFE || char == 0xFFFF {
		return 0, r.badCharacter(char, at)
	}
	return size, nil
}

func (r *Reader) badCharacter(char rune, at int) error {
	return r.failf(at, "the character U+%04X is not allowed in XML, not even as a reference", char)
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
		if digits := bytes.TrimLeft(b[min(len(b), 2):], "x0"); bytes.HasPrefix(b,
			[]byte("&#")) && len(b) >= 64 && len(digits) < len(b)-40 {
			if end = bytes.IndexByte(b, ';'); end < 0 && !r.eof {
				return 0, 0, nil
			}
		}
		if end < 0 {
			return 0, 0, r.failf(at,
				"& begins a reference like &amp; and this one has no end; for the sign itself write &amp;")
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
	return 0, 0, r.failf(at, "the entity &%s; is not declared; XML knows amp, lt, gt, quot and apos without a DOCTYPE",
		name)
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
	r.text = text
	return Text, used, nil
}

// checked gives the text with its line breaks as one character (XML 1.0,
// 2.11), or an error where a character is none. The text is at the given
// place after the current token's start.
func (r *Reader) checked(b []byte, at int) ([]byte, error) {
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c >= utf8.RuneSelf:
			char, size := utf8.DecodeRune(b[i:])
			if char == utf8.RuneError && size == 1 {
				return nil, r.failf(at+i,
					"the byte %02X is not UTF-8 here; if the text is in another encoding, it must say so", c)
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
		return None, 0, r.failf(end+4, "-- is not allowed inside a comment")
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
	const open = len("<?")
	length := bytes.Index(b[open:], []byte("?>"))
	if length < 0 {
		return None, 0, nil
	}
	end, target := open+length, open
	for target < end && class[b[target]]&isBlank == 0 {
		target++
	}
	name := string(b[open:target])
	switch {
	case name == "":
		return None, 0, r.failf(0, "a processing instruction needs a name")
	case strings.EqualFold(name, "xml"):
		return None, 0, r.failf(0, "<?%s is allowed only once and only at the very beginning", name)
	case !IsName(name):
		return None, 0, r.failf(2, "%q is not a name for a processing instruction", name)
	case strings.Contains(name, ":"):
		return None, 0, r.failf(2, "the name %s of a processing instruction cannot hold a colon (Namespaces in XML)",
			name)
	}
	data := blanks(b[:end], target)
	text, err := r.checked(b[data:end], data)
	if err != nil || !r.options.Instructions {
		return None, end + 2, err
	}
	r.name, r.text = &Name{Local: name}, text
	return Instruction, end + 2, nil
}
