package secret

import (
	"bytes"
	"encoding/binary"
	"html"
	"mime"
	"slices"
	"strconv"
	"strings"
	"testbench/internal/lazy"
	"unicode/utf16"
	"unicode/utf8"
)

// depth is how many encodings may lie around a secret, one inside another: three, and that of
// the message which they stand in.
const depth = 4

// plain is a text that was decoded, or one as it came, which has no place.
type plain struct {
	text    string
	place   func(span) span // where what lies there stood before
	changed func(span) bool // whether something of it was written in another way; the rest was looked at before
}

// part is a piece of a decoded text: length bytes at at, which stood from from to to. Where
// both are of one length each byte is the one that stood there.
type part struct{ at, length, from, to int }

func (p part) same() bool { return p.length == p.to-p.from }

// partAt gives which part holds the byte at i.
func partAt(parts []part, i int) int {
	n, found := slices.BinarySearchFunc(parts, i, func(one part, i int) int { return one.at - i })
	if !found {
		n--
	}
	return n
}

func ofParts(text string, parts []part) *plain {
	return &plain{text: text, place: func(s span) span {
		first, last := parts[partAt(parts, s.from)], parts[partAt(parts, s.to-1)]
		out := span{first.from, last.to}
		if first.same() {
			out.from += s.from - first.at
		}
		if last.same() {
			out.to = last.from + s.to - last.at
		}
		return out
	}, changed: func(s span) bool {
		first := partAt(parts, s.from)
		for n := first; n < len(parts) && parts[n].at < s.to; n++ {
			if !parts[n].same() || n > first && parts[n].from != parts[n-1].to {
				return true
			}
		}
		return false
	}}
}

// writer puts a decoded text together.
type writer struct {
	text  strings.Builder
	parts []part
	from  int // up to where the source was taken
	s     string
}

// put says that what stands from from to to means text; what lies before it means itself.
func (w *writer) put(from, to int, text string) {
	w.asItIs(from)
	if text != "" {
		w.parts = append(w.parts, part{w.text.Len(), len(text), from, to})
		w.text.WriteString(text)
	}
	w.from = to
}

func (w *writer) asItIs(to int) {
	if to > w.from {
		w.parts = append(w.parts, part{w.text.Len(), to - w.from, w.from, to})
		w.text.WriteString(w.s[w.from:to])
	}
}

// done gives what was decoded, and nil where nothing was.
func (w *writer) done() *plain {
	if w.from == 0 && len(w.parts) == 0 {
		return nil
	}
	w.asItIs(len(w.s))
	return ofParts(w.text.String(), w.parts)
}

// decoded gives where secrets are in a text that are encoded in one of the ways in use, and in
// what those decode to, to a depth.
func (m *Masker) decoded(in *plain, depth int) [][]span {
	s := in.text
	if depth == 0 || len(s) < m.shortest {
		return nil
	}
	var all [][]span
	look := func(p *plain) {
		if p == nil || len(p.text) < m.shortest {
			return
		}
		spans := m.search(p.text, nil)
		for _, found := range m.decoded(p, depth-1) {
			spans = append(spans, found...)
		}
		for i := range spans {
			spans[i] = p.place(spans[i])
		}
		if len(spans) > 0 {
			all = append(all, spans)
		}
	}
	for _, decode := range decoders {
		look(decode(s))
	}
	if m.blanks && strings.Contains(s, "+") {
		look(formed(s))
	}
	m.runs(in, look)
	return all
}

// decoders undo what leaves most letters as they were. Each gives nil where there is
// nothing to undo.
var decoders = []func(string) *plain{percent, jsonEscapes, references, quotedPrintable, encodedWords}

// percent undoes RFC 3986, section 2.1.
func percent(s string) *plain { return hexPairs(s, false) }

// formed undoes that and the plus that forms write for a blank.
func formed(s string) *plain { return hexPairs(s, true) }

func hexPairs(s string, plus bool) *plain {
	w := writer{s: s}
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '+' && plus:
			w.put(i, i+1, " ")
		case s[i] == '%' && i+2 < len(s):
			if b, ok := hexByte(s[i+1 : i+3]); ok {
				w.put(i, i+3, string([]byte{b}))
				i += 2
			}
		}
	}
	return w.done()
}

func hexByte(pair string) (byte, bool) {
	n, err := strconv.ParseUint(pair, 16, 8)
	return byte(n), err == nil
}

var letterEscapes = map[byte]string{
	'n': "\n", 't': "\t", 'r': "\r", 'b': "\b", 'f': "\f", 'a': "\a", 'v': "\v",
	'0': "\x00",
}

// jsonEscapes undoes RFC 8259, section 7, and what programming languages add to it.
func jsonEscapes(s string) *plain {
	w := writer{s: s}
	for i := 0; ; {
		next := strings.IndexByte(s[i:], '\\')
		if next < 0 || i+next+1 >= len(s) {
			return w.done()
		}
		i += next
		end, text := i+2, s[i+1:i+2]
		switch letter := s[i+1]; {
		case letter == 'u' && i+6 <= len(s):
			unit, err := strconv.ParseUint(s[i+2:i+6], 16, 16)
			if err != nil {
				break
			}
			end, text = i+6, string(rune(unit))
			if utf16.IsSurrogate(rune(unit)) && i+12 <= len(s) && s[i+6] == '\\' && s[i+7] == 'u' {
				if low, err := strconv.ParseUint(s[i+8:i+12], 16, 16); err == nil {
					end, text = i+12, string(utf16.DecodeRune(rune(unit), rune(low)))
				}
			}
		case letter == 'x' && i+4 <= len(s):
			if b, ok := hexByte(s[i+2 : i+4]); ok {
				end, text = i+4, string([]byte{b})
			}
		case letterEscapes[letter] != "":
			text = letterEscapes[letter]
		}
		w.put(i, end, text)
		i = end
	}
}

// reference is a character reference of XML or HTML.
var reference = lazy.Regexp(`&(?:#[0-9]{1,7}|#[xX][0-9a-fA-F]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});`)

func references(s string) *plain {
	if !strings.Contains(s, "&") {
		return nil
	}
	w := writer{s: s}
	for _, at := range reference().FindAllStringIndex(s, -1) {
		if text := html.UnescapeString(s[at[0]:at[1]]); text != s[at[0]:at[1]] {
			w.put(at[0], at[1], text)
		}
	}
	return w.done()
}

// softBreak is the end of a line that is none (RFC 2045, section 6.7, rule 5).
var softBreak = lazy.Regexp(`=[ \t]*\r?\n`)

func quotedPrintable(s string) *plain {
	if !strings.Contains(s, "=") {
		return nil
	}
	w := writer{s: s}
	for i := 0; i < len(s); i++ {
		if s[i] != '=' {
			continue
		}
		if i+2 < len(s) {
			if b, ok := hexByte(s[i+1 : i+3]); ok {
				w.put(i, i+3, string([]byte{b}))
				i += 2
				continue
			}
		}
		if at := softBreak().FindStringIndex(s[i:min(i+80, len(s))]); at != nil && at[0] == 0 {
			w.put(i, i+at[1], "")
			i += at[1] - 1
		}
	}
	return w.done()
}

// encodedWord is that of RFC 2047, section 2, with the blanks after it that do not count
// where another follows.
var encodedWord = lazy.Regexp(`=\?[^?\s]{1,40}\?[QqBb]\?[^?\s]{0,400}\?=(?:\s+(=\?))?`)

func encodedWords(s string) *plain {
	if !strings.Contains(s, "=?") {
		return nil
	}
	w := writer{s: s}
	decoder := mime.WordDecoder{}
	for i := 0; ; {
		at := encodedWord().FindStringSubmatchIndex(s[i:])
		if at == nil {
			return w.done()
		}
		from, to := i+at[0], i+at[1]
		word := to
		if at[2] >= 0 {
			to = i + at[2]
			word = from + len(strings.TrimSpace(s[from:to]))
		}
		if text, err := decoder.Decode(s[from:word]); err == nil {
			w.put(from, to, text)
		}
		i = to
	}
}

// What a letter can be part of, in runs.
const (
	inBase64 = 1 << iota
	inBase32
	inHex
)

var alphabet = func() (table [256]byte) {
	for set, letters := range map[byte]string{
		inBase64: "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_",
		inBase32: "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz234567", inHex: "0123456789abcdefABCDEF:",
	} {
		for _, letter := range []byte(letters) {
			table[letter] |= set
		}
	}
	return table
}()

// runOf gives where the letters of a set end that begin at i.
func runOf(s string, i int, set byte) int {
	for i < len(s) && alphabet[s[i]]&set != 0 {
		i++
	}
	return i
}

// foldedLine is the length from which a line of Base64 may go on in the next.
const foldedLine = 48

// letters are a run of them, and where each stood.
type letters struct {
	text   string
	from   int
	places []int // nil where they stood side by side, from from on
}

func (l letters) at(i int) int {
	if l.places != nil {
		return l.places[i]
	}
	return l.from + i
}

// part is what lies from from to to in the run.
func (l letters) part(from, to int) letters {
	l.text, l.from = l.text[from:to], l.from+from
	if l.places != nil {
		l.places = l.places[from:to]
	}
	return l
}

// joined makes one run of what is on several lines.
func joined(s string, lines []span) letters {
	var text strings.Builder
	var l letters
	for _, line := range lines {
		text.WriteString(s[line.from:line.to])
		for i := line.from; i < line.to; i++ {
			l.places = append(l.places, i)
		}
	}
	l.text = text.String()
	return l
}

// runs looks into what could be Base64, Base32 or hexadecimal around something that is
// encoded itself. What is encoded only so is found by its forms.
func (m *Masker) runs(in *plain, look func(*plain)) {
	s := in.text
	for i := 0; i < len(s); i++ {
		from := i
		if i = runOf(s, i, inBase64); i-from < min(m.shortest*8/6, foldedLine) {
			continue
		}
		run := letters{text: s[from:i], from: from}
		var lines []span
		for length := i - from; length >= foldedLine; {
			next := i
			for next < len(s) && strings.IndexByte(" \t\r\n", s[next]) >= 0 {
				next++
			}
			end := runOf(s, next, inBase64)
			if next == i || end == next {
				break
			}
			if lines == nil {
				lines = []span{{from, i}}
			}
			lines, i, length = append(lines, span{next, end}), end, end-next
		}
		if lines != nil {
			run = joined(s, lines)
		}
		if len(run.text) >= m.shortest*8/6 && in.changed(span{max(from-1, 0), min(i+1, len(s))}) {
			m.run(run, look)
		}
	}
	for i := 0; i < len(s); i++ {
		from := i
		if i = runOf(s, i, inHex); i-from >= 2*m.shortest && in.changed(span{max(from-1, 0), min(i+1, len(s))}) {
			m.pairs16(s, span{from, i}, look)
		}
	}
}

// run looks into one run of letters: from its beginning, and from after each sign in it
// that may also stand between two words.
func (m *Masker) run(l letters, look func(*plain)) {
	var done [4]bool // groups of four that begin in one place end in the same ones
	for begin := 0; len(l.text)-begin >= m.shortest*8/6; begin++ {
		if !done[begin%4] {
			done[begin%4] = true
			m.group(l.part(begin, len(l.text)), 6, digits64, look)
		}
		next := strings.IndexAny(l.text[begin:], "/-_+")
		if next < 0 {
			break
		}
		begin += next
	}
	for begin := 0; begin < len(l.text); begin++ {
		end := runOf(l.text, begin, inBase32)
		if end-begin >= m.shortest*8/5 {
			m.group(l.part(begin, end), 5, digits32, look)
		}
		begin = end
	}
}

// What a letter stands for, in Base64 and URL-safe Base64 and in Base32 of either case.
var digits64, digits32 = digitsOf("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/", "-_", 62),
	digitsOf("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567", "abcdefghijklmnopqrstuvwxyz", 0)

func digitsOf(letters, others string, first byte) *[256]byte {
	var table [256]byte
	for i, letter := range []byte(letters) {
		table[letter] = byte(i)
	}
	for i, letter := range []byte(others) {
		table[letter] = first + byte(i)
	}
	return &table
}

// group decodes letters that stand for so many bits each, and looks into what of it is text.
func (m *Masker) group(l letters, bits int, digits *[256]byte, look func(*plain)) {
	var small [64]byte
	out := small[:0]
	var held uint
	have := 0
	for i := range len(l.text) {
		held, have = held<<bits|uint(digits[l.text[i]]), have+bits
		if have >= 8 {
			have -= 8
			out = append(out, byte(held>>have))
		}
	}
	m.bytes(out, func(i int) span { return span{l.at(i * 8 / bits), l.at(((i+1)*8-1)/bits) + 1} }, look)
}

// pairs16 looks into a run of hexadecimal digits, with or without colons between its pairs.
func (m *Masker) pairs16(s string, run span, look func(*plain)) {
	l := letters{places: make([]int, 0, run.to-run.from)}
	for i := run.from; i < run.to; i++ {
		if s[i] != ':' {
			l.places = append(l.places, i)
		}
	}
	for begin := range 2 { // a digit that belongs to a word may be before them
		l.places = l.places[begin:]
		out := make([]byte, len(l.places)/2)
		for i := range out {
			out[i], _ = hexByte(string([]byte{s[l.at(2*i)], s[l.at(2*i+1)]}))
		}
		m.bytes(out, func(i int) span { return span{l.at(2 * i), l.at(2*i+1) + 1} }, look)
	}
}

// bytes looks into what of decoded bytes is text, in UTF-8 or UTF-16. letters gives what a
// byte was.
func (m *Masker) bytes(decoded []byte, letters func(i int) span, look func(*plain)) {
	found := texts(decoded, m.shortest)
	for _, t := range found {
		text := string(decoded[t.from:t.to])
		look(&plain{text: text, changed: everything, place: func(at span) span {
			return span{letters(t.from + at.from).from, letters(t.from + at.to - 1).to}
		}})
	}
	// Of UTF-16 in languages with an alphabet most of every other byte is the same.
	if zeros := bytes.Count(decoded, []byte{0}); zeros < len(decoded)/4 || zeros == 0 {
		return
	}
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		w := writer{s: string(decoded)}
		for i := 0; i+1 < len(decoded); i += 2 {
			unit, end := rune(order.Uint16(decoded[i:])), i+2
			if utf16.IsSurrogate(unit) && i+3 < len(decoded) {
				unit, end = utf16.DecodeRune(unit, rune(order.Uint16(decoded[i+2:]))), i+4
			}
			w.put(i, end, string(unit))
			i = end - 2
		}
		p := w.done()
		units := p.place
		p.changed, p.place = everything, func(at span) span {
			at = units(at)
			return span{letters(at.from).from, letters(at.to - 1).to}
		}
		look(p)
	}
}

func everything(span) bool { return true }

// texts gives the pieces of decoded bytes that are letters, of at least so many bytes. What
// is decoded from the wrong place is noise and has none.
func texts(decoded []byte, least int) []span {
	var found []span
	from := 0
	for i := 0; i <= len(decoded); {
		size := 1
		if i < len(decoded) {
			switch b := decoded[i]; {
			case b >= ' ' && b < 0x7f || b == 0 || b == '\t' || b == '\n' || b == '\r':
				i++
				continue
			case b >= utf8.RuneSelf:
				if _, size = utf8.DecodeRune(decoded[i:]); size > 1 {
					i += size
					continue
				}
			}
		}
		if i-from >= least {
			found = append(found, span{from, i})
		}
		i += size
		from = i
	}
	return found
}
