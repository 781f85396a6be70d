package ledger

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"strings"
)

// batch answers several requests at once, as multipart/mixed or in JSON (OData
// 4.01, 11.7; JSON 4.01, 19). What is in a change set is all done or not at
// all.
func (f *face) batch(w http.ResponseWriter, r *http.Request, data []byte) {
	mediaType, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	switch {
	case r.Method != http.MethodPost:
		f.send(w, f.failed(refuse(405, "bad_method", "", "$batch wants POST")))
	case err == nil && mediaType == "multipart/mixed":
		b := &batch{face: f, locations: map[string]string{}}
		var out bytes.Buffer
		writer := multipart.NewWriter(&out)
		if err := b.parts(data, parameters["boundary"], writer); err != nil {
			f.send(w, f.failed(refuse(400, "bad_batch", "", "the batch cannot be read: %s", err)))
			return
		}
		_ = writer.Close()
		w.Header().Set("Content-Type", "multipart/mixed; boundary="+writer.Boundary())
		status := 200
		if f.older {
			status = 202 // OData 2.0 Batch Processing, 2.4
		}
		w.WriteHeader(status)
		_, _ = w.Write(out.Bytes())
	case err == nil && mediaType == "application/json" && !f.older:
		f.jsonBatch(w, data)
	default:
		f.send(w, f.failed(refuse(415, "wrong_type", "", "a batch is multipart/mixed or application/json")))
	}
}

type batch struct {
	face      *face
	locations map[string]string // content id: where what was made stands
	failed    *outcome          // the first mistake of the change set
}

func (b *batch) parts(data []byte, boundary string, out *multipart.Writer) error {
	reader := multipart.NewReader(bytes.NewReader(data), boundary)
	for {
		part, err := reader.NextRawPart()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		content, err := io.ReadAll(part)
		if err != nil {
			return err
		}
		mediaType, parameters, _ := mime.ParseMediaType(part.Header.Get("Content-Type"))
		if mediaType == "multipart/mixed" {
			var inner bytes.Buffer
			writer := multipart.NewWriter(&inner)
			restore := b.face.books.snapshot()
			b.failed = nil
			if err := b.parts(content, parameters["boundary"], writer); err != nil {
				return err
			}
			_ = writer.Close()
			if b.failed != nil { // one answer stands for the whole change set
				restore()
				to, _ := out.CreatePart(textproto.MIMEHeader{
					"Content-Type":              {"application/http"},
					"Content-Transfer-Encoding": {"binary"},
				})
				_, _ = to.Write(b.face.written(b.failed))
				b.failed = nil
				continue
			}
			to, _ := out.CreatePart(
				textproto.MIMEHeader{"Content-Type": {"multipart/mixed; boundary=" + writer.Boundary()}})
			_, _ = to.Write(inner.Bytes())
			continue
		}
		if mediaType != "application/http" {
			return fmt.Errorf("a part is %s, and must be application/http", mediaType)
		}
		o, err := b.request(content, part.Header.Get("Content-ID"))
		if err != nil {
			return err
		}
		header := textproto.MIMEHeader{"Content-Type": {"application/http"}, "Content-Transfer-Encoding": {"binary"}}
		if id := part.Header.Get("Content-ID"); id != "" {
			header.Set("Content-ID", id)
		}
		to, _ := out.CreatePart(header)
		_, _ = to.Write(b.face.written(o))
	}
}

// request carries one request of a batch out.
func (b *batch) request(content []byte, id string) (*outcome, error) {
	head, body, _ := bytes.Cut(content, []byte("\r\n\r\n"))
	lines := bufio.NewReader(bytes.NewReader(append(head, "\r\n\r\n"...)))
	first, err := lines.ReadString('\n')
	if err != nil {
		return nil, err
	}
	words := strings.Fields(first)
	if len(words) != 3 {
		return nil, fmt.Errorf("%q is not a request line", strings.TrimSpace(first))
	}
	header, err := textproto.NewReader(lines).ReadMIMEHeader()
	if err != nil && err != io.EOF {
		return nil, err
	}
	return b.do(words[0], words[1], http.Header(header), bytes.TrimSuffix(body, []byte("\r\n")), id)
}

func (b *batch) do(method, address string, header http.Header, body []byte, id string) (*outcome, error) {
	// $1 stands for what the request with that id made.
	if rest, ok := strings.CutPrefix(address, "$"); ok {
		name, below, _ := strings.Cut(rest, "/")
		location, known := b.locations[name]
		if !known {
			return b.face.failed(refuse(424, "no_such_reference", "",
				"there is no request %s before this one that made something", name)), nil
		}
		address = location
		if below != "" {
			address += "/" + below
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	path := strings.TrimPrefix(strings.TrimPrefix(u.EscapedPath(), b.face.root), "/")
	o := b.face.handle(&call{method, path, u.Query(), header, body})
	if location := o.header.Get("Location"); location != "" {
		b.locations[id] = location
	}
	if o.status >= 400 && b.failed == nil {
		b.failed = o
	}
	return o, nil
}

// written is an outcome as HTTP has it.
func (f *face) written(o *outcome) []byte {
	var out bytes.Buffer
	body := []byte(o.text)
	if o.body != nil {
		body, _ = json.Marshal(o.body)
		o.header.Set("Content-Type", f.mediaType())
	}
	fmt.Fprintf(&out, "HTTP/1.1 %d %s\r\n", o.status, http.StatusText(o.status))
	o.header.Set("Content-Length", fmt.Sprint(len(body)))
	_ = o.header.Write(&out)
	out.WriteString("\r\n")
	out.Write(body)
	return out.Bytes()
}

func (f *face) jsonBatch(w http.ResponseWriter, data []byte) {
	var expected struct {
		Requests []struct {
			ID, Method, URL string
			Headers         map[string]string
			Body            json.RawMessage
		}
	}
	if err := json.Unmarshal(data, &expected); err != nil {
		f.send(w, f.failed(refuse(400, "bad_batch", "", "the batch cannot be read: %s", err)))
		return
	}
	b := &batch{face: f, locations: map[string]string{}}
	answers := []any{}
	for _, one := range expected.Requests {
		header := http.Header{}
		for name, value := range one.Headers {
			header.Set(name, value)
		}
		if header.Get("Content-Type") == "" && len(one.Body) > 0 {
			header.Set("Content-Type", "application/json")
		}
		o, err := b.do(strings.ToUpper(one.Method), one.URL, header, one.Body, one.ID)
		if err != nil {
			o = f.failed(refuse(400, "bad_request", "", "%s", err))
		}
		answer := entity{"id": one.ID, "status": o.status}
		headers := entity{}
		for name := range o.header {
			headers[strings.ToLower(name)] = o.header.Get(name)
		}
		if o.body != nil {
			answer["body"] = o.body
			headers["content-type"] = f.mediaType()
		} else if o.text != "" {
			answer["body"] = o.text
		}
		answer["headers"] = headers
		answers = append(answers, answer)
	}
	f.send(w, &outcome{status: 200, header: http.Header{"OData-Version": {"4.0"}}, body: entity{"responses": answers}})
}

// snapshot remembers the books as they are.
func (b *books) snapshot() (restore func()) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	var all []func()
	for _, t := range b.tables {
		all = append(all, t.snapshot())
	}
	return func() {
		b.mutex.Lock()
		defer b.mutex.Unlock()
		for _, restore := range all {
			restore()
		}
	}
}
