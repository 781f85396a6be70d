package soap

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"strings"

	"testbench/internal/document"
)

// XOPNamespace is that of XML-binary Optimized Packaging (XOP, section 2.1).
const XOPNamespace = "http://www.w3.org/2004/08/xop/include"

// Attachment is a part that travels beside an envelope.
type Attachment struct {
	ID      string // the Content-ID without its brackets
	Name    string // the file name, if one is told
	Type    string // media type
	Content []byte
}

const rootID = "envelope@attached.invalid"

// AttachmentID is the Content-ID of the n-th attachment of a request, from 1.
func AttachmentID(n int) string { return fmt.Sprintf("part%d@attached.invalid", n) }

// Include is the element that stands for an attachment in a payload (XOP,
// section 2.1; RFC 2392 for the address).
func Include(id string) *document.Node {
	include := document.NewElement(document.Name{Space: XOPNamespace, Local: "Include"})
	include.AppendAttributes(document.Attribute{Name: document.Name{Local: "href"}, Value: "cid:" + url.PathEscape(id)})
	return include
}

// Package puts an envelope and its attachments into one body. With xop the
// payload refers to them (MTOM, section 4); without it they just travel along
// (SOAP Messages with Attachments, section 3). The content type replaces that of
// the envelope.
func Package(version Version, action string, envelope []byte, attachments []Attachment,
	xop bool,
) (contentType string, body []byte, err error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	plain, _, _ := strings.Cut(version.ContentType(""), ";")
	rootType := plain + "; charset=utf-8"
	parameters := map[string]string{"boundary": w.Boundary(), "type": plain, "start": "<" + rootID + ">"}
	if version == V12 && action != "" {
		rootType += `; action="` + action + `"`
	}
	if xop {
		parameters["type"], parameters["start-info"] = "application/xop+xml", plain
		rootType = fmt.Sprintf("application/xop+xml; charset=utf-8; type=%q", plain)
		if version == V12 && action != "" {
			rootType += fmt.Sprintf("; action=%q", action)
			parameters["action"] = action
		}
	}
	write := func(id, contentType, name string, content []byte) error {
		header := textproto.MIMEHeader{
			"Content-Id": {"<" + id + ">"}, "Content-Type": {contentType},
			"Content-Transfer-Encoding": {"binary"},
		}
		if name != "" {
			header.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
		}
		part, err := w.CreatePart(header)
		if err == nil {
			_, err = part.Write(content)
		}
		return err
	}
	if err := write(rootID, rootType, "", envelope); err != nil {
		return "", nil, err
	}
	for _, a := range attachments {
		if err := write(a.ID, a.Type, a.Name, a.Content); err != nil {
			return "", nil, err
		}
	}
	if err := w.Close(); err != nil {
		return "", nil, err
	}
	return mime.FormatMediaType("multipart/related", parameters), out.Bytes(), nil
}

// mostParts bounds how many parts a message may have.
const mostParts = 1000

// Unpack takes a multipart/related body apart: the root, with its content type, and
// what travels beside it. ok is false for other content types.
func Unpack(contentType string, body []byte) (root Attachment, rest []Attachment, ok bool, err error) {
	mediaType, parameters, typeErr := mime.ParseMediaType(contentType)
	if typeErr != nil || mediaType != "multipart/related" {
		return root, nil, false, nil
	}
	if parameters["boundary"] == "" {
		return root, nil, true, fmt.Errorf("the content type multipart/related names no boundary")
	}
	start := strings.Trim(parameters["start"], "<>")
	r := multipart.NewReader(bytes.NewReader(body), parameters["boundary"])
	found := false
	for n := 0; ; n++ {
		part, err := r.NextRawPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return root, rest, true, fmt.Errorf("the parts of multipart/related: %w", err)
		}
		if n >= mostParts {
			return root, rest, true, fmt.Errorf("there are more than %d parts", mostParts)
		}
		a := Attachment{
			ID: strings.Trim(part.Header.Get("Content-Id"), "<>"), Type: part.Header.Get("Content-Type"),
			Name: part.FileName(),
		}
		var in io.Reader = part
		if strings.EqualFold(part.Header.Get("Content-Transfer-Encoding"), "base64") {
			in = base64.NewDecoder(base64.StdEncoding, part)
		}
		if a.Content, err = io.ReadAll(in); err != nil {
			return root, rest, true, fmt.Errorf("the part %s: %w", a.ID, err)
		}
		// Without start, the first part is the root (RFC 2387, 3.2).
		if !found && (start == "" || a.ID == start) {
			root, found = a, true
			continue
		}
		rest = append(rest, a)
	}
	if !found && len(rest) > 0 {
		root, rest, found = rest[0], rest[1:], true
	}
	if !found {
		return root, rest, true, fmt.Errorf("multipart/related has no parts")
	}
	if inner, parameters, err := mime.ParseMediaType(root.Type); err == nil && inner == "application/xop+xml" {
		root.Type = parameters["type"]
		if charset := parameters["charset"]; charset != "" {
			root.Type += "; charset=" + charset
		}
	}
	return root, rest, true, nil
}

// Restore puts the content of attachments back where a payload refers to them, as
// Base64 (XOP, section 3.2), so that it is what the schema says.
func Restore(n *document.Node, attachments []Attachment) {
	if n == nil || len(attachments) == 0 {
		return
	}
	for i, item := range n.Items() {
		if item.Kind != document.Element {
			continue
		}
		if item.Name().Space != XOPNamespace || item.Name().Local != "Include" {
			Restore(item, attachments)
			continue
		}
		href, _ := item.Attribute("href")
		id, err := url.PathUnescape(strings.TrimPrefix(href, "cid:"))
		for _, a := range attachments {
			if err == nil && a.ID == id {
				n.Items()[i] = document.NewUntyped(base64.StdEncoding.EncodeToString(a.Content))
			}
		}
	}
}
