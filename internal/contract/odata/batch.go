package odata

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/excerpt"
)

// BatchPart is one request of a batch.
type BatchPart struct {
	ID, Method string
	Address    string // below the service's root, or $ID of an earlier part and what is below it
	Header     http.Header
	Body       []byte
}

// writes says whether a part changes something, so that it is in a change set.
func (p *BatchPart) writes() bool {
	return p.Method != http.MethodGet && p.Method != http.MethodHead
}

// startsFrom is the ID of the part that a part's address starts from. Such a part
// must say in JSON that it depends on the other (OData JSON 4.01, 19.1).
func (p *BatchPart) startsFrom() string {
	first, _, _ := strings.Cut(p.Address, "/")
	id, _ := strings.CutPrefix(first, "$")
	return id
}

// BatchAnswer is what came back for one part; ID is empty where the service does
// not say which it is.
type BatchAnswer struct {
	ID     string
	Status int
	Reason string
	Header http.Header
	Body   []byte
}

// IsV2 says whether the service speaks a version before 4.
func (c *Contract) IsV2() bool { return c.model.isV2() }

// WriteMultipart writes a batch as multipart/mixed (OData 4.01, 11.7.7; OData 2.0
// Batch Processing, 2.2). Together puts neighbouring changes into one change set,
// which is done as a whole or not at all; before version 4 a change must be in
// one in any case.
func WriteMultipart(parts []BatchPart, together, older bool) (contentType string, body []byte) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	for i := 0; i < len(parts); i++ {
		if !parts[i].writes() || !together && !older {
			writePart(w, &parts[i])
			continue
		}
		set := parts[i : i+1]
		for together && i+1 < len(parts) && parts[i+1].writes() {
			i++
			set = set[:len(set)+1]
		}
		var inner bytes.Buffer
		changes := multipart.NewWriter(&inner)
		for j := range set {
			writePart(changes, &set[j])
		}
		_ = changes.Close()
		to, _ := w.CreatePart(textproto.MIMEHeader{"Content-Type": {"multipart/mixed; boundary=" + changes.Boundary()}})
		_, _ = to.Write(inner.Bytes())
	}
	_ = w.Close()
	return "multipart/mixed; boundary=" + w.Boundary(), out.Bytes()
}

func writePart(w *multipart.Writer, p *BatchPart) {
	header := textproto.MIMEHeader{
		"Content-Type": {"application/http"}, "Content-Transfer-Encoding": {"binary"},
		"Content-ID": {p.ID},
	}
	to, _ := w.CreatePart(header)
	fmt.Fprintf(to, "%s %s HTTP/1.1\r\n", p.Method, p.Address)
	names := make([]string, 0, len(p.Header))
	for name := range p.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, value := range p.Header[name] {
			fmt.Fprintf(to, "%s: %s\r\n", name, value)
		}
	}
	if len(p.Body) > 0 {
		fmt.Fprintf(to, "Content-Length: %d\r\n", len(p.Body))
	}
	_, _ = io.WriteString(to, "\r\n")
	_, _ = to.Write(p.Body)
}

// WriteJSON writes a batch in JSON (OData JSON 4.01, 19.1). Together puts all of it
// into one atomicity group.
func WriteJSON(parts []BatchPart, together bool) (contentType string, body []byte) {
	requests := document.NewList()
	for i, p := range parts {
		one := document.NewObject().Set("id", document.NewText(p.ID)).Set("method",
			document.NewText(p.Method)).Set("url", document.NewText(p.Address))
		if together && p.writes() {
			one.Set("atomicityGroup", document.NewText("g1"))
		}
		if needed := p.startsFrom(); slices.ContainsFunc(parts[:i], func(other BatchPart) bool {
			return other.ID == needed
		}) {
			one.Set("dependsOn", document.NewList(document.NewText(needed)))
		}
		headers := document.NewObject()
		for name, values := range p.Header {
			headers.Set(strings.ToLower(name), document.NewText(strings.Join(values, ", ")))
		}
		slices.SortFunc(headers.Members(), func(a, b document.Member) int { return strings.Compare(a.Key, b.Key) })
		one.Set("headers", headers)
		if len(p.Body) > 0 {
			if node, err := document.ReadJSON(p.Body); err == nil {
				one.Set("body", node)
			} else {
				one.Set("body", document.NewText(string(p.Body)))
			}
		}
		requests.AppendItems(one)
	}
	return jsonType, []byte(document.WriteJSON(document.NewObject().Set("requests", requests), document.Style{}))
}

// mostBatchAnswers bounds how many answers one batch may hold.
const mostBatchAnswers = 10_000

// ReadBatch reads the answers of a batch, of either form, in their order.
func ReadBatch(contentType string, body []byte) ([]BatchAnswer, error) {
	mediaType, parameters, err := mime.ParseMediaType(contentType)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the content type %q of the batch cannot be read", contentType)
	case mediaType == "multipart/mixed":
		return readParts(body, parameters["boundary"], 0)
	case mediaType == jsonType:
		return readJSONBatch(body)
	}
	return nil, fmt.Errorf("a batch is answered by multipart/mixed or application/json, and this is %s", mediaType)
}

func readParts(body []byte, boundary string, depth int) ([]BatchAnswer, error) {
	if depth > 3 {
		return nil, fmt.Errorf("the change sets of the batch are inside one another")
	}
	var out []BatchAnswer
	reader := multipart.NewReader(bytes.NewReader(body), boundary)
	for {
		part, err := reader.NextRawPart()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, fmt.Errorf("the batch cannot be read: %w", err)
		}
		content, err := io.ReadAll(part)
		if err != nil {
			return out, fmt.Errorf("the batch cannot be read: %w", err)
		}
		mediaType, parameters, _ := mime.ParseMediaType(part.Header.Get("Content-Type"))
		if mediaType == "multipart/mixed" {
			inner, err := readParts(content, parameters["boundary"], depth+1)
			if err != nil {
				return out, err
			}
			out = append(out, inner...)
			continue
		}
		answer, err := readInner(content)
		if err != nil {
			return out, err
		}
		if answer.ID = part.Header.Get("Content-ID"); answer.ID == "" {
			answer.ID = answer.Header.Get("Content-ID")
		}
		if out = append(out, *answer); len(out) > mostBatchAnswers {
			return out, fmt.Errorf("the batch holds more than %d answers", mostBatchAnswers)
		}
	}
}

// readInner reads an answer that is in a part.
func readInner(content []byte) (*BatchAnswer, error) {
	line, rest, _ := bytes.Cut(content, []byte("\n"))
	words := strings.SplitN(strings.TrimSpace(string(line)), " ", 3)
	a := &BatchAnswer{Header: http.Header{}}
	if len(words) < 2 || !strings.HasPrefix(words[0], "HTTP/") {
		return nil, fmt.Errorf("a part of the batch is not an HTTP answer, but begins with %s",
			excerpt.Quote(string(line)))
	}
	if _, err := fmt.Sscan(words[1], &a.Status); err != nil {
		return nil, fmt.Errorf("a part of the batch has no status, but %q", words[1])
	}
	if len(words) == 3 {
		a.Reason = words[2]
	}
	for {
		line, rest, _ = bytes.Cut(rest, []byte("\n"))
		text := strings.TrimRight(string(line), "\r")
		name, value, ok := strings.Cut(text, ":")
		if text == "" || !ok {
			break
		}
		a.Header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
	}
	a.Body = rest
	// What belongs to the boundary is not the body's.
	var length int
	if n, err := fmt.Sscan(a.Header.Get("Content-Length"), &length); n == 1 && err == nil && length >= 0 &&
		length <= len(rest) {
		a.Body = rest[:length]
	} else {
		a.Body = bytes.TrimRight(rest, "\r\n")
	}
	return a, nil
}

func readJSONBatch(body []byte) ([]BatchAnswer, error) {
	var read struct {
		Responses []struct {
			ID      string
			Status  int
			Headers map[string]string
			Body    json.RawMessage
		}
	}
	if err := json.Unmarshal(body, &read); err != nil {
		return nil, fmt.Errorf("the batch cannot be read: %w", err)
	}
	if read.Responses == nil { // it must be there (OData JSON Format 4.01, 19.4)
		return nil, errors.New("a batch is answered by an object with responses, and this has none")
	}
	var out []BatchAnswer
	for _, r := range read.Responses {
		a := BatchAnswer{
			ID: r.ID, Status: r.Status, Reason: http.StatusText(r.Status), Header: http.Header{},
			Body: r.Body,
		}
		for name, value := range r.Headers {
			a.Header.Set(name, value)
		}
		a.readBody()
		out = append(out, a)
	}
	return out, nil
}

// readBody takes a body as the headers say that it is there: without a content
// type it is JSON, text is a string, and all else a string in base64url (OData JSON
// 4.01, 19.2).
func (a *BatchAnswer) readBody() {
	mediaType := a.Header.Get("Content-Type")
	if len(a.Body) > 0 && mediaType == "" {
		a.Header.Set("Content-Type", "application/json")
	}
	var text string
	if mediaType == "" || strings.Contains(mediaType, "json") || json.Unmarshal(a.Body, &text) != nil {
		return
	}
	a.Body = []byte(text)
	if strings.HasPrefix(mediaType, "text/") {
		return
	}
	if binary, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "=")); err == nil {
		a.Body = binary
	}
}
