package request

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/value"
)

// setParts writes a multipart/form-data body (RFC 7578).
func (s *Spec) setParts(scope value.Scope, r *exchange.Request) error {
	var body bytes.Buffer
	writer := multipart.NewWriter(&body)
	shown := false
	for _, p := range s.Parts {
		header := textproto.MIMEHeader{}
		disposition := fmt.Sprintf(`form-data; name="%s"`, quoteParameter(p.Name))
		fileName := p.FileName
		if fileName == "" && p.File != "" {
			fileName = filepath.Base(p.File)
		}
		if fileName != "" {
			disposition += fmt.Sprintf(`; filename="%s"`, quoteParameter(fileName))
		}
		header.Set("Content-Disposition", disposition)
		content, contentType, secret, err := p.content(scope)
		if err != nil {
			return fmt.Errorf("part %s: %w", p.Name, err)
		}
		shown = shown || secret
		if contentType != "" {
			header.Set("Content-Type", contentType)
		}
		err = s.each(scope, "header", p.Headers, func(name string, text value.Text) error {
			shown = shown || text.Shown != text.Sent
			header[name] = append(header[name], text.Sent)
			return CheckHeader(name, text.Sent)
		})
		if err != nil {
			return fmt.Errorf("part %s: %w", p.Name, err)
		}
		part, err := writer.CreatePart(header)
		if err != nil {
			return err
		}
		if _, err := part.Write(content); err != nil {
			return err
		}
	}
	if err := writer.Close(); err != nil {
		return err
	}
	r.Body = body.Bytes()
	if shown {
		r.ShownBody = fmt.Sprintf("(%d parts, of which some hold secrets)", len(s.Parts))
	}
	if r.GetHeader("Content-Type") == "" {
		r.SetHeader("Content-Type", writer.FormDataContentType())
	}
	return nil
}

func (p *Part) content(scope value.Scope) (content []byte, contentType string, secret bool, err error) {
	contentType = p.Type
	if p.File != "" {
		content, err = os.ReadFile(p.File)
		if contentType == "" {
			contentType = "application/octet-stream"
		}
		return content, contentType, false, err
	}
	node, err := p.Value.Node(scope)
	if err != nil {
		return nil, "", false, err
	}
	secret = hasSecret(node)
	if node.Value().IsScalar() {
		return []byte(node.Value().Text), contentType, secret, nil
	}
	if contentType == "" {
		contentType = "application/json"
	}
	return []byte(document.WriteJSON(node, document.Style{})), contentType, secret, nil
}

func quoteParameter(text string) string {
	return strings.NewReplacer(`"`, "%22", "\r", "%0D", "\n", "%0A").Replace(text)
}
