package xmlstream

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
)

var byteOrderMark = []byte("\ufeff")

// family is what the first bytes tell of an encoding (XML 1.0, appendix F).
type family uint8

const (
	byBytes family = iota // one byte a character at least for ASCII
	bigPair               // UTF-16, high byte first
	littlePair
)

// begin reads the first bytes, finds the encoding and puts a decoder before
// the source where it is not UTF-8. A byte-order mark wins over what the
// transport says, and that over the declaration (RFC 7303, section 3).
func (r *Reader) begin() error {
	r.begun = true
	if err := r.fill(); err != nil {
		return err
	}
	head := r.buf[:r.end]
	marked, group := true, byBytes
	switch {
	case bytes.HasPrefix(head, byteOrderMark):
		r.pos = len(byteOrderMark)
	case bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		group, r.pos = bigPair, 2
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}):
		group, r.pos = littlePair, 2
	case bytes.HasPrefix(head, []byte{0, '<'}):
		marked, group = false, bigPair
	case bytes.HasPrefix(head, []byte{'<', 0}):
		marked, group = false, littlePair
	default:
		marked = false
	}
	if err := r.wholeDeclaration(); err != nil {
		return err
	}
	head = r.buf[:r.end]
	charset := strings.ToLower(r.options.Charset)
	transport := charset != "" && !marked
	if group == byBytes && !transport {
		charset = strings.ToLower(declaredEncoding(head[r.pos:]))
	}
	switch {
	case group != byBytes:
		r.encoding = "UTF-16"
		r.decode(&pairReader{big: group == bigPair})
	case strings.HasPrefix(charset, "utf-16") || charset == "iso-10646-ucs-2":
		if !transport {
			return r.failf(0, "it declares itself as %s, but is not written so", strings.ToUpper(charset))
		}
		r.encoding = "UTF-16"
		r.decode(&pairReader{big: charset != "utf-16le"})
	case charset == "" || charset == "utf-8" || charset == "utf8":
		r.encoding = "UTF-8"
		r.dropMark()
		return nil
	case marked:
		r.dropMark()
		return r.failf(0, "it declares itself as %s, but begins with the mark of UTF-8", charset)
	default:
		table, err := singleBytes(charset)
		if err != nil {
			return r.failf(0, "%s", err)
		}
		r.encoding = strings.ToUpper(charset)
		r.decode(&byteReader{charset: charset, table: table})
	}
	r.declaredMustMatch = !transport
	return r.fill()
}

// wholeDeclaration gets the whole of an XML declaration into the buffer.
func (r *Reader) wholeDeclaration() error {
	for bytes.HasPrefix(r.buf[r.pos:r.end], []byte("<?xml")) && !bytes.Contains(r.buf[r.pos:r.end], []byte("?>")) {
		pos := r.pos
		r.pos = 0 // what was read stays where it is
		more, err := r.more()
		r.pos = pos
		if err != nil || !more {
			return err
		}
	}
	return nil
}

// dropMark forgets a byte-order mark: it is not part of the document.
func (r *Reader) dropMark() {
	if r.pos > 0 {
		r.base, r.buf, r.end, r.pos = r.base+int64(r.pos), r.buf[r.pos:], r.end-r.pos, 0
		r.mark.offset = r.base
	}
}

// decode puts a decoder before the source; what was read already goes through it.
func (r *Reader) decode(d decoder) {
	read := append([]byte(nil), r.buf[r.pos:r.end]...)
	source := io.Reader(bytes.NewReader(read))
	if r.source != nil {
		source = io.MultiReader(source, r.source)
	}
	d.from(source)
	r.source = d
	r.buf, r.pos, r.end, r.eof = make([]byte, r.chunk), 0, 0, false
}

// declaredEncoding finds the encoding in the XML declaration, without judging it.
func declaredEncoding(head []byte) string {
	if !bytes.HasPrefix(head, []byte("<?xml")) {
		return ""
	}
	head = head[:min(len(head), 512)]
	if end := bytes.Index(head, []byte("?>")); end >= 0 {
		head = head[:end]
	}
	_, rest, found := bytes.Cut(head, []byte("encoding"))
	if !found {
		return ""
	}
	rest = bytes.TrimLeft(rest, " \t\r\n=")
	if len(rest) == 0 || rest[0] != '"' && rest[0] != '\'' {
		return ""
	}
	name, _, _ := bytes.Cut(rest[1:], rest[:1])
	return string(name)
}

// decoder turns another encoding into UTF-8, and refuses what has no meaning in it.
type decoder interface {
	io.Reader
	from(io.Reader)
}

// source collects bytes of the encoded text for a decoder.
type source struct {
	in      io.Reader
	buf     [8192]byte
	pos     int
	end     int
	failure error
}

func (s *source) from(in io.Reader) { s.in = in }

func (s *source) fill() {
	copy(s.buf[:], s.buf[s.pos:s.end])
	s.end, s.pos = s.end-s.pos, 0
	n, err := s.in.Read(s.buf[s.end:])
	s.end += n
	if err != nil {
		s.failure = err
	}
}

var errEncoding = errors.New("encoding")

// pairReader decodes UTF-16 (RFC 2781); a lone surrogate is an error.
type pairReader struct {
	source
	big bool
}

func (p *pairReader) unit(at int) rune {
	if p.big {
		return rune(p.buf[at])<<8 | rune(p.buf[at+1])
	}
	return rune(p.buf[at+1])<<8 | rune(p.buf[at])
}

func (p *pairReader) Read(to []byte) (int, error) {
	n := 0
	for n+utf8.UTFMax <= len(to) {
		left := p.end - p.pos
		if left < 4 && p.failure == nil {
			p.fill()
			continue
		}
		switch {
		case left == 0:
			return n, p.failure
		case left == 1:
			return n, fmt.Errorf("%w: it is UTF-16 and ends in the middle of a character", errEncoding)
		}
		first := p.unit(p.pos)
		p.pos += 2
		switch {
		case first < 0xD800 || first > 0xDFFF:
			n += utf8.EncodeRune(to[n:], first)
			continue
		case first <= 0xDBFF && left >= 4:
			if second := p.unit(p.pos); second >= 0xDC00 && second <= 0xDFFF {
				p.pos += 2
				n += utf8.EncodeRune(to[n:], (first-0xD800)<<10|(second-0xDC00)+0x10000)
				continue
			}
		}
		return n, fmt.Errorf("%w: it is UTF-16 and holds half a surrogate pair", errEncoding)
	}
	return n, nil
}

// byteReader decodes an encoding of one byte a character.
type byteReader struct {
	source
	charset string
	table   [256]rune
}

func (b *byteReader) Read(to []byte) (int, error) {
	n := 0
	for n+utf8.UTFMax <= len(to) {
		if b.pos == b.end {
			if b.failure != nil {
				return n, b.failure
			}
			b.fill()
			continue
		}
		c := b.buf[b.pos]
		b.pos++
		if b.table[c] < 0 {
			return n, fmt.Errorf("%w: the byte %02X is not a character of %s", errEncoding, c, b.charset)
		}
		n += utf8.EncodeRune(to[n:], b.table[c])
	}
	return n, nil
}

// singleBytes gives the characters of an encoding; -1 where a byte is none.
func singleBytes(charset string) (table [256]rune, err error) {
	switch charset {
	case "us-ascii", "ascii":
		for c := range table {
			table[c] = rune(c)
			if c >= 0x80 {
				table[c] = -1
			}
		}
		return table, nil
	case "iso-8859-1", "latin1":
		// htmlindex would give windows-1252 for it, as browsers do.
		for c := range table {
			table[c] = rune(c)
		}
		return table, nil
	}
	found, err := htmlindex.Get(charset)
	single, ok := found.(*charmap.Charmap)
	if err != nil || !ok {
		return table, fmt.Errorf(
			"the character set %q is not one that can be read; UTF-8, UTF-16 and those of one byte a character can",
			charset)
	}
	for c := range table {
		table[c] = single.DecodeByte(byte(c))
		if table[c] == utf8.RuneError {
			table[c] = -1
		}
	}
	return table, nil
}

func encodingMessage(err error) string {
	return strings.TrimPrefix(err.Error(), errEncoding.Error()+": ")
}
