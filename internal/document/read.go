package document

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
)

// MaxDepth bounds the nesting of everything that is read, and MaxNodes the values and elements of
// one document: the smallest take two letters there, and a hundred bytes and more in a tree.
const (
	MaxDepth = 1000
	MaxNodes = 4 << 20
)

var (
	errTooMany = fmt.Errorf("it holds more than %d values", MaxNodes)
	errTooDeep = fmt.Errorf("nested deeper than %d", MaxDepth)
)

// Error tells where a text stops being what it should be.
type Error struct {
	Format       string // "JSON", "XML"
	Line, Column int    // from 1; the column counts characters
	Offset       int    // bytes
	Message      string
	// IsLimit says that there is nothing wrong with the text but its size or depth.
	IsLimit bool
}

func (e *Error) Error() string {
	if e.IsLimit {
		return fmt.Sprintf("%s that is too much to read, at line %d, column %d: %s", e.Format, e.Line, e.Column, e.Message)
	}
	return fmt.Sprintf("not well-formed %s at line %d, column %d: %s", e.Format, e.Line, e.Column, e.Message)
}

// Position returns line and column, both from 1, of a byte offset.
func Position(data []byte, offset int) (line, column int) {
	offset = min(max(offset, 0), len(data))
	line = 1 + bytes.Count(data[:offset], []byte("\n"))
	start := bytes.LastIndexByte(data[:offset], '\n') + 1
	return line, 1 + utf8.RuneCount(data[start:offset])
}

// Format is a way of writing a document.
type Format string

// The formats that are told apart.
const (
	JSON   Format = "JSON"
	XML    Format = "XML"
	Form   Format = "form"
	Plain  Format = "text"
	HTML   Format = "HTML"
	Binary Format = "binary"

	CSV       Format = "CSV"
	Lines     Format = "lines of JSON"
	Multipart Format = "multipart"
	Events    Format = "events"
)

// FormatOf tells the format from the media type; an unknown or missing type
// is guessed from the first character.
func FormatOf(contentType string, data []byte) Format {
	mediaType, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		mediaType = strings.ToLower(strings.TrimSpace(strings.Split(contentType, ";")[0]))
	}
	switch {
	case mediaType == "application/json", strings.HasSuffix(mediaType, "+json"), mediaType == "text/json":
		return JSON
	case mediaType == "application/xml", mediaType == "text/xml",
		strings.HasSuffix(mediaType, "+xml") && mediaType != "application/xhtml+xml":
		return XML
	case mediaType == "application/x-www-form-urlencoded":
		return Form
	case mediaType == "text/csv", mediaType == "application/csv", mediaType == "text/tab-separated-values":
		return CSV
	case mediaType == "application/x-ndjson", mediaType == "application/jsonl", mediaType == "application/jsonlines",
		mediaType == "application/json-seq":
		return Lines
	case mediaType == "text/event-stream":
		return Events
	case strings.HasPrefix(mediaType, "multipart/"):
		return Multipart
	case mediaType == "text/html", mediaType == "application/xhtml+xml":
		return HTML
	case isOf(mediaType, "json"): // application/json-rpc, application/x-amz-json-1.1
		return JSON
	case isOf(mediaType, "xml") && mediaType != "application/xml-dtd":
		return XML
	case strings.HasPrefix(mediaType, "text/"):
		return Plain
	case mediaType != "" && mediaType != "application/octet-stream":
		return Binary
	}
	return Guess(data)
}

// isOf says whether a word is one of those that a media type is made of.
func isOf(mediaType, word string) bool {
	words := strings.FieldsFunc(mediaType, func(r rune) bool { return strings.ContainsRune("/.-+", r) })
	return slices.Contains(words, word)
}

// Guess tells the format from how the data begins.
func Guess(data []byte) Format {
	trimmed := bytes.TrimLeft(data, " \t\r\n\ufeff")
	switch {
	case len(trimmed) == 0:
		return Plain
	case trimmed[0] == '{' || trimmed[0] == '[':
		return JSON
	case trimmed[0] == '<':
		if head := bytes.ToLower(trimmed[:min(len(trimmed), 14)]); bytes.HasPrefix(head, []byte("<!doctype html")) ||
			bytes.HasPrefix(head, []byte("<html")) {
			return HTML
		}
		return XML
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}), bytes.HasPrefix(data, []byte{0xFF, 0xFE}):
		return XML
	case bytes.IndexByte(data, 0) >= 0 || !utf8.Valid(data):
		return Binary
	}
	return Plain
}

// Read reads data as its media type says. JSON and XML that are not
// well-formed give an *Error; text and binary never fail.
func Read(contentType string, data []byte) (*Node, Format, error) {
	format := FormatOf(contentType, data)
	node, err := ReadAs(format, contentType, data)
	return node, format, err
}

// ReadAs reads data in the given format. The tree goes on reading in it: it must not change any more.
func ReadAs(format Format, contentType string, data []byte) (*Node, error) {
	switch format {
	case JSON:
		return readMessageJSON(textOfJSON(data, charset(contentType)), ofMessages)
	case XML:
		return readMessageXML(data, charset(contentType), ofMessages)
	case Form:
		return ReadForm(string(data)), nil
	case Binary:
		return NewUntyped(string(data)), nil
	case Lines:
		return ReadLines(textOfJSON(data, charset(contentType)))
	case Multipart:
		return ReadMultipart(contentType, data)
	}
	text, err := decodeText(data, charset(contentType))
	if err != nil {
		return nil, err
	}
	switch format {
	case CSV:
		_, parameters, _ := mime.ParseMediaType(contentType)
		return ReadCSV(text, parameters["header"])
	case HTML:
		return ReadHTML(text)
	case Events:
		return ReadEvents(text)
	}
	return NewUntyped(text), nil
}

func charset(contentType string) string {
	_, parameters, err := mime.ParseMediaType(contentType)
	if err != nil {
		return ""
	}
	return parameters["charset"]
}

// textOfJSON is JSON without its byte order mark, which may be passed over; a charset has no effect (RFC 8259, 8.1
// and 11) but on what cannot be UTF-8. What is in no character set stays as it is.
func textOfJSON(data []byte, charset string) []byte {
	marked := bytes.HasPrefix(data, []byte("\xff\xfe")) || bytes.HasPrefix(data, []byte("\xfe\xff"))
	switch {
	case marked:
		charset = "utf-16"
	case charset == "" || utf8.Valid(data) && bytes.IndexByte(data, 0) < 0:
		charset = "utf-8"
	}
	if decoded, err := decode(data, charset); err == nil {
		return decoded
	}
	return data
}

// decodeText turns text in a named encoding into UTF-8. Without a name it is
// taken as UTF-8, and as windows-1252 where it cannot be that.
func decodeText(data []byte, charset string) (string, error) {
	if charset == "" {
		if utf8.Valid(data) {
			return string(bytes.TrimPrefix(data, []byte("\ufeff"))), nil
		}
		charset = "windows-1252"
	}
	decoded, err := decode(data, charset)
	return string(decoded), err
}

func decode(data []byte, charset string) ([]byte, error) {
	if strings.EqualFold(charset, "utf-8") || strings.EqualFold(charset, "us-ascii") {
		return bytes.TrimPrefix(data, []byte("\ufeff")), nil
	}
	var found encoding.Encoding
	if strings.EqualFold(charset, "utf-16") {
		found = unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	} else {
		var err error
		if found, err = htmlindex.Get(charset); err != nil {
			return nil, fmt.Errorf("the character set %q is not known", charset)
		}
	}
	return found.NewDecoder().Bytes(data)
}

// ReadForm reads application/x-www-form-urlencoded text; a repeated name gives a list.
func ReadForm(text string) *Node {
	object := NewFields()
	for pair := range strings.SplitSeq(strings.TrimSpace(text), "&") {
		if pair == "" {
			continue
		}
		name, value, _ := strings.Cut(pair, "=")
		if decoded, err := url.QueryUnescape(name); err == nil {
			name = decoded
		}
		if decoded, err := url.QueryUnescape(value); err == nil {
			value = decoded
		}
		object.Append(name, NewUntyped(value))
	}
	return object.Object()
}

// ReadJSON reads exactly one JSON value (RFC 8259). Repeated names, lone
// surrogates, invalid UTF-8, anything after the value and nesting deeper than
// MaxDepth are errors of type *Error.
func ReadJSON(data []byte) (*Node, error) { return readJSON(data, false) }

// ReadPlacedJSON is ReadJSON with the line and column of each value.
func ReadPlacedJSON(data []byte) (*Node, error) { return readJSON(data, true) }

func readJSON(data []byte, placed bool) (*Node, error) {
	reader := newJSONReader(len(data))
	reader.placed = placed
	return reader.document(data)
}

func readMessageJSON(data []byte, how leaving) (*Node, error) {
	reader := newJSONReader(len(data))
	reader.leaving = how
	return reader.document(data)
}

func newJSONReader(size int) *jsonReader {
	buffer := new(bytes.Buffer)
	return &jsonReader{buffer: buffer, decoder: jsontext.NewDecoder(buffer), arena: newArena(size)}
}

// document reads one document; what it is made of may be shared with those before it.
func (r *jsonReader) document(data []byte) (*Node, error) {
	*r.buffer = *bytes.NewBuffer(data)
	r.decoder.Reset(r.buffer)
	_, err := r.decoder.ReadValue()
	if err == nil {
		if _, err = r.decoder.ReadToken(); err == io.EOF {
			err = nil
		} else if err == nil {
			err = errors.New("something follows the value; a document is one value")
		}
	}
	if err != nil {
		return nil, explainJSON(data, int(r.decoder.InputOffset()), err)
	}
	node, err := r.wellFormed(data)
	if err != nil {
		return nil, explainJSON(data, r.next, err)
	}
	return node, nil
}

// wellFormed reads a value of which that is known.
func (r *jsonReader) wellFormed(data []byte) (*Node, error) {
	r.data, r.next, r.at, r.line, r.column, r.parts = data, 0, 0, 0, 0, nil
	return r.value(0)
}

// part reads a list or an object that was left unread.
func (r *jsonReader) part(u *unread, n *Node) error {
	r.into = n
	_, err := r.wellFormed(u.message.text[u.from:u.to])
	return err
}

// container makes the node of a list or an object.
func (r *jsonReader) container(kind Kind) *Node {
	if n := r.into; n != nil { // the part's own is there
		r.into = nil
		return n
	}
	return r.arena.node(kind)
}

// jsonReader makes a tree of JSON. A library checks it first.
type jsonReader struct {
	buffer  *bytes.Buffer
	decoder *jsontext.Decoder
	data    []byte
	next    int // the offset of what is read next
	leaving leaving
	parts   *message // what is left unread of the document; nil where nothing is yet
	into    *Node    // what a part is read into; nil for a whole document
	placed  bool     // nodes carry their places
	at      int      // the offset up to which lines are counted
	line    int      // before it, from 0
	column  int      // characters of the line before at

	arena    arena
	items    []*Node  // of the open lists, put into each when it ends and their number is known
	members  []Member // of the open objects, as well
	unquoted []byte
}

// peek gives the next byte that is not blank.
func (r *jsonReader) peek() byte {
	for {
		switch c := r.data[r.next]; c {
		case ' ', '\t', '\r', '\n':
			r.next++
		default:
			return c
		}
	}
}

// comes passes over a byte, if it comes next.
func (r *jsonReader) comes(c byte) bool {
	if r.peek() != c {
		return false
	}
	r.next++
	return true
}

// place gives a value the line and column where it begins.
func (r *jsonReader) place(n *Node, begin int) {
	// What was passed is counted once: a line can be as long as the document.
	passed := r.data[r.at:begin]
	if last := bytes.LastIndexByte(passed, '\n'); last >= 0 {
		r.line += bytes.Count(passed, []byte("\n"))
		r.column, passed = 0, passed[last+1:]
	}
	r.column += utf8.RuneCount(passed)
	r.at = begin
	n.Line, n.Column = int32(r.line+1), int32(r.column+1)
}

func (r *jsonReader) value(depth int) (*Node, error) {
	if !r.placed {
		return r.read(depth)
	}
	// The place is counted before what is inside, which counts on from there.
	mark := &Node{}
	r.peek()
	r.place(mark, r.next)
	n, err := r.read(depth)
	if n != nil {
		n.Line, n.Column = mark.Line, mark.Column
	}
	return n, err
}

func (r *jsonReader) read(depth int) (*Node, error) {
	if depth > MaxDepth {
		return nil, errTooDeep
	}
	if r.arena.made > MaxNodes && !r.leaving.isPart {
		return nil, errTooMany
	}
	switch r.peek() {
	case '[':
		return r.list(depth)
	case '{':
		return r.object(depth)
	case '"':
		text, err := r.text()
		return r.arena.scalar(Text, r.arena.string(text)), err
	case 'n':
		r.next += len("null")
		return r.arena.node(Null), nil
	case 't':
		r.next += len("true")
		return r.arena.scalar(Boolean, "true"), nil
	case 'f':
		r.next += len("false")
		return r.arena.scalar(Boolean, "false"), nil
	}
	begin := r.next
	for r.next < len(r.data) && strings.IndexByte("+-.0123456789Ee", r.data[r.next]) >= 0 {
		r.next++
	}
	return r.arena.scalar(Number, r.arena.string(r.data[begin:r.next])), nil
}

// text gives what a string stands for; it is valid until the next one.
func (r *jsonReader) text() ([]byte, error) {
	end := endOfText(r.data, r.next)
	raw := r.data[r.next:end]
	r.next = end
	if bytes.IndexByte(raw, '\\') < 0 {
		return raw[1 : len(raw)-1], nil
	}
	var err error
	r.unquoted, err = jsontext.AppendUnquote(r.unquoted[:0], raw)
	return r.unquoted, err
}

// endOfText is the offset after the string that begins at one.
func endOfText(data []byte, begin int) int {
	for i := begin + 1; ; i++ {
		i += bytes.IndexByte(data[i:], '"')
		escapes := 0
		for data[i-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
			return i + 1
		}
	}
}

func (r *jsonReader) list(depth int) (*Node, error) {
	list, first := r.container(List), len(r.items)
	leaves := r.leaving.applies(len(r.data))
	r.next++
	for !r.comes(']') {
		r.comes(',')
		read := (*jsonReader).value
		if leaves && len(r.items) > first { // more of the same are in the list
			read = (*jsonReader).leave
		}
		item, err := read(r, depth+1)
		if err != nil {
			return nil, err
		}
		r.items = push(r.items, item)
	}
	r.arena.fill(list, r.items[first:], nil)
	r.items = r.items[:first]
	return list, nil
}

// leave counts what is in an item of a list, and leaves it unread.
func (r *jsonReader) leave(depth int) (*Node, error) {
	kind := List
	switch r.peek() {
	case '[':
	case '{':
		kind = Object
	default:
		return r.value(depth)
	}
	from := r.next
	values, inner, to := extent(r.data, from)
	switch {
	case depth+inner > MaxDepth:
		return nil, errTooDeep
	case to-from < r.leaving.least:
		return r.value(depth)
	}
	if r.parts == nil {
		r.parts = &message{text: r.data, json: &jsonReader{leaving: r.leaving.forParts(), arena: newArena(len(r.data))}}
	}
	made := r.arena.unreadNode(kind, values)
	made.unread.message, made.unread.from, made.unread.to = r.parts, from, to
	if r.next = to; r.arena.made > MaxNodes && !r.leaving.isPart {
		return nil, errTooMany
	}
	return &made.node, nil
}

// extent counts the values of the list or object that begins at an offset, itself among them, how deep they are below
// it, and where it ends.
func extent(data []byte, begin int) (values, depth, end int) {
	values = 1
	open, last := 0, byte(0)
	for i := begin; ; i++ {
		switch c := data[i]; c {
		case ' ', '\t', '\n', '\r':
			continue
		case ',':
			values++
		case '{', '[':
			values++
			depth = max(depth, open)
			open++
		case '}', ']':
			if last == '{' || last == '[' {
				values--
			}
			if open--; open == 0 {
				return values, depth, i + 1
			}
		case '"':
			depth = max(depth, open)
			i = endOfText(data, i) - 1
		default:
			depth = max(depth, open)
		}
		last = data[i]
	}
}

func (r *jsonReader) object(depth int) (*Node, error) {
	object, first := r.container(Object), len(r.members)
	r.next++
	for !r.comes('}') {
		r.comes(',')
		r.peek()
		key, err := r.text()
		if err != nil {
			return nil, err
		}
		name := r.arena.name(key)
		r.comes(':')
		value, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		r.members = append(r.members, Member{name, value})
	}
	r.arena.fill(object, nil, r.members[first:])
	r.members = r.members[:first]
	return object, nil
}

func explainJSON(data []byte, offset int, err error) error {
	message := err.Error()
	var syntactic *jsontext.SyntacticError
	switch {
	case errors.As(err, &syntactic):
		offset = int(syntactic.ByteOffset)
		if syntactic.Err != nil {
			message = syntactic.Err.Error()
		}
		switch {
		case errors.Is(syntactic.Err, io.ErrUnexpectedEOF):
			message = "it ends too early"
		case strings.HasSuffix(message, "max depth"): // the library has no name for it
			err, message = errTooDeep, errTooDeep.Error()
		}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		offset, message = len(data), "it ends too early"
		if len(bytes.TrimSpace(data)) == 0 {
			message = "it is empty"
		}
	}
	line, column := Position(data, offset)
	return &Error{
		Format: "JSON", Line: line, Column: column, Offset: offset,
		Message: strings.TrimPrefix(message, "jsontext: "), IsLimit: err == errTooMany || err == errTooDeep,
	}
}
