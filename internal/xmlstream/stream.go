// Package xmlstream reads and writes XML 1.0 (fifth edition) with Namespaces
// 1.0 (third edition). Its Reader is strict, pulls one token at a time over
// any io.Reader with bounded memory, and knows where everything is; its
// Writer escapes so that a reader gets back the same characters. It checks
// that a document is well-formed, builds no tree and knows no schema. It
// expands no entities: a DOCTYPE is refused.
package xmlstream

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"
)

// Kind says what a token is.
type Kind uint8

// The kinds of tokens.
const (
	None        Kind = iota
	Start            // a start tag, or the start of an empty element
	End              // an end tag; an empty element has one too
	Text             // character data, references resolved; may come in several pieces
	Comment          // only when asked for
	Instruction      // a processing instruction, only when asked for
)

// Position is a place in the document. Line and Column count from 1, columns in
// characters; Offset counts bytes from 0, of the document as UTF-8.
type Position struct {
	Line, Column int
	Offset       int64
}

// Error tells where and why a document is not well-formed.
type Error struct {
	Position
	Message string
	// Doctype says that the document has a DOCTYPE: it may be well-formed, but
	// is refused.
	Doctype bool
	// Limit says that the document goes beyond a limit of the reader's.
	Limit bool
}

func (e *Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
}

// Options of a Reader. The zero value is what most need.
type Options struct {
	// Charset is the encoding that the transport names, as in the
	// Content-Type; it wins over the document's declaration.
	Charset string
	// Comments and Instructions ask for those tokens.
	Comments, Instructions bool
	// MaxDepth bounds the nesting of elements; 0 means 1,000.
	MaxDepth int
	// MaxToken bounds in bytes what must be in memory as a whole: a tag with its
	// attributes, a comment, an instruction; 0 means 16 MiB. Character
	// data has no bound: it comes in pieces.
	MaxToken int
}

// chunkSize is how much is read at once.
const chunkSize = 64 << 10

// Attr is an attribute of a start tag. Value is normalized (XML 1.0, 3.3.3),
// and like all bytes of a token valid until the next call of Next.
type Attr struct {
	Name   Name
	Value  []byte
	Offset int64 // of the name; for Position
	entry  *entry
}

// IsDeclaration says whether the attribute declares a namespace.
func (a *Attr) IsDeclaration() bool { return a.entry != nil && a.entry.declares }

type openElement struct {
	entry    *entry
	name     *Name
	bindings int      // of the stack, outside of the element
	start    int64    // the offset of its tag
	at       Position // of its tag, once the mark is after it
}

// Reader pulls tokens from an XML document.
type Reader struct {
	options  Options
	source   io.Reader
	chunk    int
	buf      []byte // buf[pos:end] is still to be read
	pos, end int
	base     int64 // offset of buf[0] in the document
	eof      bool
	begun    bool
	encoding string

	declaredMustMatch bool
	failure           error

	// What the current token is.
	start   int64 // its offset
	name    *Name
	attrs   []Attr
	text    []byte
	scratch []byte

	names    names
	outside  []binding // what holds outside of the element that is read alone
	bindings []binding
	open     []openElement
	closing  bool // an empty element's end is still to be told
	leaving  bool // the element that ended still holds its bindings
	inCDATA  bool
	rooted   bool // the root element was met

	mark struct { // the last place whose line and column were counted
		offset         int64
		number, column int // column from 0
	}
	counted  int                   // how many of the open elements have their place
	expanded map[expandedName]bool // of the attributes of one tag
}

// NewReader returns a Reader of the document that source gives.
func NewReader(source io.Reader, options Options) *Reader {
	return newReader(source, options, chunkSize)
}

// NewBytes returns a Reader of a document in memory, which is not copied and
// must not change until it is read.
func NewBytes(document []byte, options Options) *Reader {
	r := &Reader{options: options, chunk: chunkSize, buf: document, end: len(document), eof: true}
	r.init()
	return r
}

func newReader(source io.Reader, options Options, chunk int) *Reader {
	r := &Reader{options: options, source: source, chunk: chunk, buf: make([]byte, chunk)}
	r.init()
	return r
}

func (r *Reader) init() {
	r.name = &Name{}
	if r.options.MaxDepth == 0 {
		r.options.MaxDepth = 1000
	}
	if r.options.MaxToken == 0 {
		r.options.MaxToken = 16 << 20
	}
	r.mark.number = 1
	r.names.reset()
}

// Reset goes on with one element alone, of a document in UTF-8 that another Reader found well-formed, and where it
// begins there.
func (r *Reader) Reset(element []byte, at Position) {
	if r.leaving {
		r.leave()
	}
	r.buf, r.pos, r.end, r.base, r.eof = element, 0, len(element), at.Offset, true
	r.begun, r.rooted, r.failure, r.encoding = true, false, nil, "UTF-8"
	r.mark.offset, r.mark.number, r.mark.column, r.counted = at.Offset, at.Line, at.Column-1, 0
}

// Declare says what prefixes stand for outside of the elements that are read alone.
func (r *Reader) Declare(prefixes map[string]string) {
	for _, b := range r.outside {
		b.prefix.space, b.prefix.bound = "", false
	}
	r.outside = r.outside[:0]
	for text, space := range prefixes {
		p := r.names.prefix(text)
		p.space, p.bound = space, true
		r.outside = append(r.outside, binding{prefix: p})
	}
}

// Name is the name of the current start tag, end tag or instruction.
func (r *Reader) Name() Name { return *r.name }

// SharedName is Name, the same for elements that are called alike; it is not written to.
func (r *Reader) SharedName() *Name { return r.name }

// Attrs are the attributes of the current start tag in their order, namespace
// declarations among them.
func (r *Reader) Attrs() []Attr { return r.attrs }

// Text is the content of the current token: character data, a comment, an
// instruction's data.
func (r *Reader) Text() []byte { return r.text }

// Depth is the number of open elements, the one just started or ended among them.
func (r *Reader) Depth() int {
	if r.leaving {
		return len(r.open) + 1
	}
	return len(r.open)
}

// EndOffset is the offset of the byte after the current token.
func (r *Reader) EndOffset() int64 { return r.base + int64(r.pos) }

// Position is the place of the current token.
func (r *Reader) Position() Position { return r.At(r.start) }

// IsInPlace says whether the document is UTF-8, and so read as it is: offsets are those of its bytes.
func (r *Reader) IsInPlace() bool { return r.encoding == "UTF-8" }

// Lookup tells what namespace a prefix stands for at the current token. The
// empty prefix is always known.
func (r *Reader) Lookup(text string) (space string, known bool) {
	p := r.names.prefixes[text]
	if p == nil || !p.bound && text != "" {
		return "", false
	}
	return p.space, true
}

// At gives the place of an offset within the current token.
func (r *Reader) At(offset int64) Position {
	if offset < r.mark.offset {
		// Only offsets before the current token end here; the mark is the best there is.
		offset = r.mark.offset
	}
	r.advance(min(offset, r.start))
	at := Position{Line: r.mark.number, Column: r.mark.column + 1, Offset: offset}
	after := r.buf[r.mark.offset-r.base : offset-r.base]
	if lines := bytes.Count(after, []byte{'\n'}); lines > 0 {
		at.Line += lines
		at.Column = 1
		after = after[bytes.LastIndexByte(after, '\n')+1:]
	}
	at.Column += utf8.RuneCount(after)
	return at
}

// Opened is the place of the start tag of the element that the current token, an End, ends.
func (r *Reader) Opened() Position {
	e := &r.open[:len(r.open)+1][len(r.open)]
	if e.at.Line > 0 {
		return e.at
	}
	return r.At(e.start)
}

// advance moves the mark to an offset that is still in the buffer, so that
// nothing is counted twice, however long a line is. Elements that are open and
// begin before it get their places on the way.
func (r *Reader) advance(offset int64) {
	open := r.open
	if r.leaving {
		open = open[:len(open)+1]
	}
	for ; r.counted < len(open) && open[r.counted].start < offset; r.counted++ {
		e := &open[r.counted]
		r.count(e.start)
		e.at = Position{Line: r.mark.number, Column: r.mark.column + 1, Offset: e.start}
	}
	r.count(offset)
}

// count counts the lines and columns from the mark to an offset.
func (r *Reader) count(offset int64) {
	if offset <= r.mark.offset {
		return
	}
	passed := r.buf[r.mark.offset-r.base : offset-r.base]
	if lines := bytes.Count(passed, []byte{'\n'}); lines > 0 {
		r.mark.number += lines
		r.mark.column = 0
		passed = passed[bytes.LastIndexByte(passed, '\n')+1:]
	}
	r.mark.column += utf8.RuneCount(passed)
	r.mark.offset = offset
}

// fill reads until the buffer is full or the source ends.
func (r *Reader) fill() error {
	for !r.eof && r.end+utf8.UTFMax <= len(r.buf) {
		n, err := r.source.Read(r.buf[r.end:])
		r.end += n
		if err == io.EOF {
			r.eof = true
		} else if errors.Is(err, errEncoding) {
			// What is before the fault is judged first.
			r.source, r.failure = nil, err
			r.eof = true
		} else if err != nil {
			return err
		}
	}
	return nil
}

// more gets more of the document after what is in the buffer from pos on. It
// returns false when there is no more.
func (r *Reader) more() (bool, error) {
	if r.eof {
		return false, nil
	}
	if r.pos > 0 {
		r.advance(r.base + int64(r.pos))
		copy(r.buf, r.buf[r.pos:r.end])
		r.base += int64(r.pos)
		r.end, r.pos = r.end-r.pos, 0
	}
	if r.end > len(r.buf)/2 {
		if len(r.buf) > r.options.MaxToken {
			return false, r.limit("something begins here that is longer than %d MiB and cannot be taken in pieces",
				r.options.MaxToken>>20)
		}
		r.buf = append(r.buf, make([]byte, len(r.buf))...)
	}
	before := r.end
	if err := r.fill(); err != nil {
		return false, err
	}
	return r.end > before || r.eof, nil // an end changes what can be said of the rest
}

func (r *Reader) failf(at int, format string, args ...any) error {
	return &Error{Position: r.At(r.base + int64(r.pos+at)), Message: fmt.Sprintf(format, args...)}
}

func (r *Reader) limit(format string, args ...any) error {
	err := r.failf(0, format, args...).(*Error)
	err.Limit = true
	return err
}

// Next goes to the next token. At the end of a well-formed document it
// returns io.EOF; a document that is not well-formed gives an *Error, the
// source's own errors come as they are. After an error Next repeats it.
func (r *Reader) Next() (Kind, error) {
	if r.failure != nil && !errors.Is(r.failure, errEncoding) {
		return None, r.failure
	}
	kind, err := r.next()
	if err != nil {
		r.failure = err
	}
	return kind, err
}

func (r *Reader) next() (Kind, error) {
	if !r.begun {
		if err := r.begin(); err != nil {
			return None, err
		}
		if err := r.declaration(); err != nil {
			return None, err
		}
	}
	r.attrs, r.text = r.attrs[:0], nil
	if r.leaving {
		r.leave()
	}
	if r.closing {
		r.closing = false
		return r.close(), nil
	}
	for {
		r.start = r.base + int64(r.pos)
		kind, used, err := r.scan(r.buf[r.pos:r.end])
		if err != nil {
			return None, err
		}
		if used > 0 {
			r.pos += used
			if kind != None {
				return kind, nil
			}
			continue
		}
		more, err := r.more()
		if err != nil {
			return None, err
		}
		if !more {
			return None, r.ended()
		}
	}
}

// ended judges the end of the source: io.EOF where the document may end.
func (r *Reader) ended() error {
	if r.failure != nil {
		return r.failf(r.end-r.pos, "%s", encodingMessage(r.failure))
	}
	switch rest := r.end - r.pos; {
	case r.inCDATA:
		return r.failf(rest, "it ends inside a CDATA section")
	case rest > 0:
		return r.failf(rest, "it ends inside %s", r.unfinished(r.buf[r.pos:r.end]))
	case len(r.open) > 0:
		return r.failf(0, "it ends before </%s>", r.open[len(r.open)-1].entry.raw)
	case !r.rooted && r.EndOffset() == 0:
		return r.failf(0, "it is empty")
	case !r.rooted:
		return r.failf(0, "there is no element in it")
	}
	return io.EOF
}

func (r *Reader) unfinished(rest []byte) string {
	switch {
	case bytes.HasPrefix(rest, []byte("<!--")):
		return "a comment"
	case bytes.HasPrefix(rest, []byte("<?")):
		return "a processing instruction"
	case bytes.HasPrefix(rest, []byte("</")):
		return "an end tag"
	case rest[0] == '<':
		return "a tag"
	case rest[0] == '&':
		return "a reference"
	}
	return "a character"
}

// close ends the innermost element.
func (r *Reader) close() Kind {
	top := r.open[len(r.open)-1]
	r.name = top.name
	r.leaving = true
	r.open = r.open[:len(r.open)-1]
	return End
}

// leave gives back the prefixes that the ended element declared.
func (r *Reader) leave() {
	r.leaving = false
	r.counted = min(r.counted, len(r.open))
	outside := r.open[:len(r.open)+1][len(r.open)].bindings
	for i := len(r.bindings) - 1; i >= outside; i-- {
		b := r.bindings[i]
		b.prefix.space, b.prefix.bound = b.space, b.bound
	}
	r.bindings = r.bindings[:outside]
}
