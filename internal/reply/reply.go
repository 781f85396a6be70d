// Package reply reads what an exchange brought back into the trees that paths
// start from: the payload, and everything else about the reply. It judges
// nothing.
package reply

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/rpc"
	"testbench/internal/soap"
)

// Reply is a record with its answer read.
type Reply struct {
	Record  *exchange.Record
	Format  document.Format
	Body    *document.Node // the whole body as a tree; nil where it could not be read
	Problem error          // why it could not
	Message *soap.Message  // of a SOAP answer
	Payload *document.Node // what paths start from
	// Attachments travelled beside the envelope, or whatever the root is.
	Attachments []soap.Attachment
	// Failed is an error that the protocol itself told, where one did, or the service as the bench says.
	Failed *Error
	// Short are paths by the short names that the bench gives them; nil for none.
	Short map[string]*path.Path

	index       path.Index
	tree        *document.Node
	readError   *Error
	isErrorRead bool
	// isFine says that the bench knows how errors are told here, and that this is none; isSuccess that it is a
	// success whatever its status is.
	isFine, isSuccess bool
}

// Decide says what the answer is where the bench knows how the service tells it: an error, a success whatever
// its status is, or neither.
func (r *Reply) Decide(failed *Error, isSuccess bool) {
	r.Failed, r.isFine, r.isSuccess = failed, failed == nil, isSuccess
	r.isErrorRead, r.tree = false, nil // what was read of it before is not so
}

// IsSuccess says whether the service tells a success, as the bench knows it, whatever the status is.
func (r *Reply) IsSuccess() bool { return r.isSuccess }

// Read reads the answer of a record. A record without an answer gives a reply
// without a payload.
func Read(record *exchange.Record) *Reply {
	r := &Reply{Record: record}
	if record == nil || record.Answer == nil {
		return r
	}
	a := record.Answer
	contentType, body := a.MediaType(), a.Body
	r.Format = document.FormatOf(contentType, body)
	if len(a.Body) == 0 {
		return r
	}
	if root, rest, packed, err := soap.Unpack(contentType, body); packed {
		contentType, body, r.Attachments = root.Type, root.Content, rest
		r.Format = document.FormatOf(contentType, body)
		if err != nil {
			r.Problem = err
			return r
		}
	}
	r.Body, r.Problem = document.ReadAs(r.Format, contentType, body)
	soap.Restore(r.Body, r.Attachments)
	r.Payload = r.Body
	if r.Format == document.XML && r.Problem == nil {
		if message, ok := soap.Read(r.Body); ok {
			r.Message = message
			r.Payload = message.Payload
		}
	}
	return r
}

// Of makes a reply of something that no exchange brought: what it says, and what is
// known around it, which may be nil.
func Of(payload, around *document.Node) *Reply {
	return &Reply{Record: &exchange.Record{}, Payload: payload, Body: payload, tree: around}
}

// OfCall makes a reply of a call that came in: paths start from its body, or from its
// query where it has none; below reply are method, path, query, headers, text and so on.
func OfCall(method string, address *url.URL, header http.Header, body []byte) *Reply {
	r := Read(&exchange.Record{Answer: &exchange.Answer{Header: header, Body: body}})
	query := document.NewObject()
	for name, values := range address.Query() {
		list := document.NewList()
		for _, v := range values {
			list.AppendItems(document.NewUntyped(v))
		}
		if query.Set(name, list); len(values) == 1 {
			query.Set(name, list.Items()[0])
		}
	}
	if r.Payload == nil && len(body) == 0 {
		r.Payload = query
	}
	if tree := r.Tree(); tree != nil {
		tree.Set("method", document.NewText(method)).Set("path", document.NewText(address.Path)).Set("query", query)
	}
	return r
}

// SeeRPC takes the result of a call by JSON-RPC or XML-RPC out of the answer; what
// the protocol itself tells of an error becomes the answer's error. An error says
// that the answer is none of the protocol's.
func (r *Reply) SeeRPC(kind rpc.Kind) error {
	if r.Problem != nil || r.Body == nil || r.Record.Answer == nil {
		return nil
	}
	if r.Record.Answer.Status >= 400 && !kind.Is(r.Body) {
		return nil // it was refused before the protocol came to speak
	}
	result, fault, err := kind.Answer(r.Body)
	if result != nil {
		r.Payload = result
	}
	if fault == nil {
		return err
	}
	r.Payload = &document.Node{Kind: document.Null}
	r.Failed = &Error{Code: fault.Code, Text: fault.Text}
	switch data := fault.Data; {
	case data == nil:
	case data.IsScalar():
		if data.Kind != document.Null {
			r.Failed.Details = []Error{{Text: data.Text}}
		}
	default:
		r.Failed.Target = pathOf(findTarget(data))
		if kind != rpc.XML {
			for _, name := range detailNames {
				if v := data.Get(name); v != nil {
					r.Failed.Details = detailsOf(v)
				}
			}
		}
	}
	return nil
}

// Fault returns the SOAP fault of the answer, or nil.
func (r *Reply) Fault() *soap.Fault {
	if r.Message == nil {
		return nil
	}
	return r.Message.Fault
}

// Roots returns the trees for paths.
func (r *Reply) Roots(names map[string]string) path.Roots {
	return path.Roots{
		Answer: r.Payload, Later: r.Tree, Prefixes: names, Index: &r.index, Short: r.Short, Shapeless: r.shapeless(),
	}
}

// LooksLike is JSON, XML or lines of JSON where an answer looks like that and is read as another form: one without
// fields, or one that it is not. It is empty for others.
func (r *Reply) LooksLike() document.Format {
	if r.Record == nil || r.Record.Answer == nil || r.Record.Answer.ReadAs != "" {
		return ""
	}
	guessed := document.Guess(r.Record.Answer.Body)
	switch {
	case r.Problem != nil && guessed == document.JSON && beginsWithLines(r.Record.Answer.Body):
		return document.Lines
	case guessed == r.Format, guessed != document.JSON && guessed != document.XML,
		guessed == document.XML && r.Format == document.HTML, r.Problem == nil && r.shapeless() == "":
		return ""
	}
	return guessed
}

// beginsWithLines says whether the first two lines of a body are JSON values.
func beginsWithLines(body []byte) bool {
	lines := bytes.SplitAfterN(body, []byte("\n"), 3)
	read, err := document.ReadLines(bytes.Join(lines[:min(2, len(lines))], nil))
	return err == nil && len(read.Items()) == 2
}

// shapeless says of an answer without fields what it is. It is empty for others.
func (r *Reply) shapeless() string {
	if r.Payload == nil || r.Record == nil || r.Record.Answer == nil {
		return ""
	}
	kind := ""
	switch r.Format {
	case document.Plain:
		kind = "text without fields"
	case document.Binary:
		kind = "binary data"
	case document.HTML:
		kind = "a page"
	default:
		return ""
	}
	if mediaType := r.Record.Answer.ContentType(); mediaType != "" {
		kind += " (" + mediaType + ")"
	}
	return kind
}

// Tree returns the tree under `reply`: status, reason, time, size, type, text,
// headers, cookies, and for SOAP soap and fault. It is nil without an answer.
func (r *Reply) Tree() *document.Node {
	if r.tree != nil || r.Record == nil || r.Record.Answer == nil {
		return r.tree
	}
	a := r.Record.Answer
	tree := document.NewObject()
	tree.Set("status", document.NewNumber(strconv.Itoa(a.Status)))
	if len(r.Attachments) > 0 {
		list := document.NewList()
		for _, attachment := range r.Attachments {
			sum := sha256.Sum256(attachment.Content)
			list.AppendItems(document.NewObject().
				Set("name", document.NewUntyped(attachment.Name)).
				Set("id", document.NewUntyped(attachment.ID)).
				Set("type", document.NewUntyped(attachment.Type)).
				Set("size", document.NewNumber(strconv.Itoa(len(attachment.Content)))).
				Set("sha256", document.NewUntyped(hex.EncodeToString(sum[:]))))
		}
		tree.Set("attachments", list)
	}
	tree.Set("reason", document.NewUntyped(a.Reason))
	tree.Set("time", document.NewUntyped(Milliseconds(r.Record.Phases.Total)))
	tree.Set("size", document.NewNumber(strconv.Itoa(len(a.Body))))
	tree.Set("type", document.NewUntyped(a.ContentType()))
	sum := sha256.Sum256(a.Body)
	tree.Set("sha256", document.NewUntyped(hex.EncodeToString(sum[:])))
	// What the body is by its own first bytes, whatever the service calls it.
	kind, _, _ := strings.Cut(http.DetectContentType(a.Body), ";")
	tree.Set("kind", document.NewUntyped(kind))
	if media := document.Media(a.Body); r.Format == document.Binary && media != nil {
		for _, m := range media.Members() {
			tree.Set(m.Key, m.Value)
		}
	}
	tree.Set("protocol", document.NewUntyped(a.Proto))
	headers := document.NewFields()
	headers.Object().FoldCase = true
	for name, values := range a.Header {
		for _, v := range values {
			headers.Append(name, document.NewUntyped(v))
		}
	}
	tree.Set("headers", headers.Object())
	cookies := document.NewObject()
	for _, c := range a.Cookies {
		cookies.Set(c.Name, document.NewUntyped(c.Value))
	}
	tree.Set("cookies", cookies)
	tree.Set("text", document.NewUntyped(r.text()))
	if r.Message != nil {
		message := document.NewObject().Set("version", document.NewUntyped(string(r.Message.Version)))
		blocks := document.NewFields()
		for _, block := range r.Message.Blocks {
			blocks.Append(block.Name().Local, block)
		}
		tree.Set("soap", message.Set("header", blocks.Object()))
		if fault := r.Message.Fault; fault != nil {
			tree.Set("fault", fault.Node())
		}
	}
	if e := r.AnyError(); e != nil {
		tree.Set("error", e.Node())
	}
	r.tree = tree
	return tree
}

// text is the body as text, whatever its format.
func (r *Reply) text() string {
	node, err := document.ReadAs(document.Plain, r.Record.Answer.ContentType(), r.Record.Answer.Body)
	if err != nil {
		return strings.ToValidUTF8(string(r.Record.Answer.Body), "\ufffd")
	}
	return node.Text
}

// Milliseconds writes a duration as rules read it: 14.2 ms.
func Milliseconds(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
}
