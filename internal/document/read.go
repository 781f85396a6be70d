package document

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
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

var errTooMany = fmt.Errorf("it holds more than %d values", MaxNodes)

// Error tells where a text stops being what it should be.
type Error struct {
	Format       string // "JSON", "XML"
	Line, Column int    // from 1; the column counts characters
	Offset       int    // bytes
	Message      string
}

func (e *Error) Error() string {
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
	case strings.HasPrefix(mediaType, "text/"):
		return Plain
	case mediaType != "" && mediaType != "application/octet-stream":
		return Binary
	}
	return Guess(data)
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

// ReadAs reads data in the given format.
func ReadAs(format Format, contentType string, data []byte) (*Node, error) {
	switch format {
	case JSON:
		return ReadJSON(textOfJSON(data, charset(contentType)))
	case XML:
		return ReadXML(data, charset(contentType))
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

func newJSONReader(size int) *jsonReader {
	buffer := new(bytes.Buffer)
	return &jsonReader{buffer: buffer, decoder: jsontext.NewDecoder(buffer), arena: newArena(size)}
}

// document reads one document; what it is made of may be shared with those before it.
func (r *jsonReader) document(data []byte) (*Node, error) {
	r.data, r.at, r.line, r.column = data, 0, 0, 0
	*r.buffer = *bytes.NewBuffer(data)
	r.decoder.Reset(r.buffer)
	node, err := r.value(0)
	if err != nil {
		return nil, r.explain(err)
	}
	if _, err := r.decoder.ReadToken(); err != io.EOF {
		if err == nil {
			err = errors.New("something follows the value; a document is one value")
		}
		return nil, r.explain(err)
	}
	return node, nil
}

type jsonReader struct {
	buffer  *bytes.Buffer
	data    []byte
	decoder *jsontext.Decoder
	placed  bool // nodes carry their places
	at      int  // the offset up to which lines are counted
	line    int  // before it, from 0
	column  int  // characters of the line before at

	arena    arena
	items    []*Node  // of the open lists, put into each when it ends and their number is known
	members  []Member // of the open objects, as well
	unquoted []byte
}

// place gives a value the line and column where it begins.
func (r *jsonReader) place(n *Node, before int64) {
	begin := int(before)
	for begin < len(r.data) && strings.IndexByte(" \t\r\n,:", r.data[begin]) >= 0 {
		begin++
	}
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
	r.place(mark, r.decoder.InputOffset())
	n, err := r.read(depth)
	if n != nil {
		n.Line, n.Column = mark.Line, mark.Column
	}
	return n, err
}

func (r *jsonReader) read(depth int) (*Node, error) {
	if depth > MaxDepth {
		return nil, fmt.Errorf("nested deeper than %d", MaxDepth)
	}
	if r.arena.made > MaxNodes {
		return nil, errTooMany
	}
	switch r.decoder.PeekKind() {
	case '[':
		return r.list(depth)
	case '{':
		return r.object(depth)
	}
	// What is not a value ends here with an error that tells where.
	raw, err := r.decoder.ReadValue()
	if err != nil {
		return nil, err
	}
	switch raw.Kind() {
	case 'n':
		return r.arena.node(Null), nil
	case 't', 'f':
		if raw.Kind() == 't' {
			return r.arena.scalar(Boolean, "true"), nil
		}
		return r.arena.scalar(Boolean, "false"), nil
	case '0':
		return r.arena.scalar(Number, r.arena.string(raw)), nil
	}
	text, err := r.unquote(raw)
	return r.arena.scalar(Text, r.arena.string(text)), err
}

// unquote gives what a string stands for; it is valid until the next one.
func (r *jsonReader) unquote(raw jsontext.Value) ([]byte, error) {
	if bytes.IndexByte(raw, '\\') < 0 {
		return raw[1 : len(raw)-1], nil
	}
	var err error
	r.unquoted, err = jsontext.AppendUnquote(r.unquoted[:0], raw)
	return r.unquoted, err
}

func (r *jsonReader) list(depth int) (*Node, error) {
	list, first := r.arena.node(List), len(r.items)
	if _, err := r.decoder.ReadToken(); err != nil {
		return nil, err
	}
	for r.decoder.PeekKind() != ']' {
		item, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		r.items = push(r.items, item)
	}
	r.arena.fill(list, r.items[first:], nil)
	r.items = r.items[:first]
	_, err := r.decoder.ReadToken()
	return list, err
}

func (r *jsonReader) object(depth int) (*Node, error) {
	object, first := r.arena.node(Object), len(r.members)
	if _, err := r.decoder.ReadToken(); err != nil {
		return nil, err
	}
	for r.decoder.PeekKind() != '}' {
		raw, err := r.decoder.ReadValue()
		if err != nil {
			return nil, err
		}
		key, err := r.unquote(raw)
		if err != nil {
			return nil, err
		}
		name := r.arena.name(key)
		value, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		r.members = append(r.members, Member{name, value})
	}
	r.arena.fill(object, nil, r.members[first:])
	r.members = r.members[:first]
	_, err := r.decoder.ReadToken()
	return object, err
}

func (r *jsonReader) explain(err error) error {
	offset := int(r.decoder.InputOffset())
	message := err.Error()
	var syntactic *jsontext.SyntacticError
	switch {
	case errors.As(err, &syntactic):
		offset = int(syntactic.ByteOffset)
		if syntactic.Err != nil {
			message = syntactic.Err.Error()
		}
		if errors.Is(syntactic.Err, io.ErrUnexpectedEOF) {
			message = "it ends too early"
		}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		offset, message = len(r.data), "it ends too early"
		if len(bytes.TrimSpace(r.data)) == 0 {
			message = "it is empty"
		}
	}
	line, column := Position(r.data, offset)
	return &Error{
		Format: "JSON", Line: line, Column: column, Offset: offset,
		Message: strings.TrimPrefix(message, "jsontext: "),
	}
}
