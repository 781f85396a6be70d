package request

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// blocks makes the header blocks, those of the contract as it describes them.
func (s *Spec) blocks(scope value.Scope) ([]*document.Node, error) {
	blocks := slices.Clone(s.SOAP.Made)
	if s.SOAP.Blocks == nil {
		return blocks, nil
	}
	node, err := s.SOAP.Blocks.Node(scope)
	if err != nil {
		return nil, fmt.Errorf("blocks: %w", err)
	}
	for _, m := range node.Members() {
		if s.SOAP.BlockOf != nil {
			if block := s.SOAP.BlockOf(m.Key, m.Value); block != nil {
				blocks = append(blocks, block)
				continue
			}
		}
		made, err := Elements(document.NewObject(m), "", s.Names)
		if err != nil {
			return nil, fmt.Errorf("blocks: %w", err)
		}
		blocks = append(blocks, made...)
	}
	return blocks, nil
}

// attach puts the envelope and the files into one multipart body.
func (s *Spec) attach(scope value.Scope, r *exchange.Request) error {
	if len(s.Attach) == 0 {
		return nil
	}
	var attachments []soap.Attachment
	var lines []string
	for i, a := range s.Attach {
		content, err := os.ReadFile(a.File)
		if err != nil {
			return fmt.Errorf("attach: %w", err)
		}
		contentType := a.Type
		if contentType == "" {
			contentType = "application/octet-stream"
		}
		attachments = append(attachments,
			soap.Attachment{ID: soap.AttachmentID(i + 1), Name: a.Name, Type: contentType, Content: content})
		lines = append(lines, fmt.Sprintf("(attached: %s, %s, %d bytes)", a.Name, contentType, len(content)))
	}
	action := ""
	if s.SOAP.Action != nil {
		text, err := s.SOAP.Action.Text(scope, value.Header)
		if err != nil {
			return fmt.Errorf("action: %w", err)
		}
		action = text.Sent
	}
	contentType, body, err := soap.Package(s.SOAP.Version, action, r.Body, attachments, s.XOP)
	if err != nil {
		return err
	}
	shown := string(r.Body)
	if r.ShownBody != "" {
		shown = r.ShownBody
	}
	r.ShownBody = strings.TrimRight(shown, "\n") + "\n" + strings.Join(lines, "\n")
	r.Body = body
	r.SetHeader("Content-Type", contentType)
	return nil
}

// setEnvelope puts the payload, written as a tree or as text, into an envelope
// of the version asked for, with the headers that the version wants.
func (s *Spec) setEnvelope(scope value.Scope, r *exchange.Request) error {
	action := value.Text{}
	var err error
	if s.SOAP.Action != nil {
		if action, err = s.SOAP.Action.Text(scope, value.Header); err != nil {
			return fmt.Errorf("action: %w", err)
		}
	}
	if r.GetHeader("Content-Type") == "" {
		r.SetHeader("Content-Type", s.SOAP.Version.ContentType(action.Sent))
	}
	if s.SOAP.Version == soap.V11 && r.GetHeader("SOAPAction") == "" {
		r.SetHeader("SOAPAction", soap.ActionHeader(action.Sent))
	}
	blocks, err := s.blocks(scope)
	if err != nil {
		return err
	}
	if a := s.SOAP.Addressing; a != nil {
		if err := s.SOAP.Addressed.fill(scope, a); err != nil {
			return err
		}
		a.To = r.URL.String()
		if a.Action == "" {
			a.Action = action.Sent
		}
		blocks = append(a.Blocks(), blocks...)
	}
	if s.HasBytes {
		r.Body = s.Bytes
		return nil
	}
	payload, shownPayload, isWhole, err := s.envelopePayload(scope, r, len(blocks) > 0)
	if isWhole || err != nil {
		return err
	}
	envelope := soap.Envelope(s.SOAP.Version, blocks, payload)
	for _, item := range envelope.Items() {
		for _, child := range item.Items() {
			document.Declare(child)
		}
	}
	const declaration = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	r.Body = []byte(declaration + document.WriteXML(envelope, document.Style{Indent: "  "}))
	if shown := declaration + document.WriteXML(envelope,
		document.Style{Indent: "  ", Hide: value.Mask}); shown != string(r.Body) {
		r.ShownBody = shown
	}
	if shownPayload != "" {
		r.ShownBody = strings.Replace(string(r.Body), document.WriteXML(payload[0], document.Style{}), shownPayload, 1)
		if r.ShownBody == string(r.Body) {
			r.ShownBody = value.Mask
		}
	}
	return nil
}

// envelopePayload makes what goes into the Body. A text that is an envelope itself is the body of the request, as it
// is: isWhole says so. Shown is how a text is shown where that differs.
func (s *Spec) envelopePayload(scope value.Scope, r *exchange.Request, hasBlocks bool) (payload []*document.Node,
	shown string, isWhole bool, err error,
) {
	switch {
	case s.Text != nil:
		text, err := s.Text.Text(scope, value.Raw)
		if err != nil {
			return nil, "", false, fmt.Errorf("text: %w", err)
		}
		root, err := document.ReadXML([]byte(text.Sent), "utf-8")
		if err != nil {
			return nil, "", false, fmt.Errorf("text: the payload is %w", err)
		}
		if message, ok := soap.Read(root); ok {
			return nil, "", true, s.wholeEnvelope(r, message, text, hasBlocks)
		}
		if text.Shown != text.Sent {
			shown = text.Shown
		}
		return []*document.Node{root}, shown, false, nil
	case s.Payload != nil:
		return s.Payload, "", false, nil
	case s.SOAP.Payload != "":
		node := document.NewObject()
		if s.Body != nil {
			if node, err = s.Body.Node(scope); err != nil {
				return nil, "", false, fmt.Errorf("body: %w", err)
			}
		}
		if s.DropEmpty {
			node = DropEmpty(node)
		}
		wrapped := document.NewObject().Set(s.SOAP.Payload, node)
		if payload, err = Elements(wrapped, "", s.Names); err != nil {
			err = fmt.Errorf("body: %w", err)
		}
	case s.Body != nil:
		payload, err = s.xmlOf(s.Body, scope, "body")
	}
	return payload, "", false, err
}

// wholeEnvelope sends an envelope that was written as it is.
func (s *Spec) wholeEnvelope(r *exchange.Request, message *soap.Message, text value.Text, hasBlocks bool) error {
	switch {
	case message.Version != s.SOAP.Version:
		return fmt.Errorf("text: the envelope is SOAP %s, and SOAP %s was to be sent: set soap: %s",
			message.Version, s.SOAP.Version, message.Version)
	case hasBlocks:
		return errors.New("text: it is a whole envelope, so that blocks and addressing cannot be added; " +
			"write the payload alone, or take them out")
	}
	r.Body = []byte(text.Sent)
	if text.Shown != text.Sent {
		r.ShownBody = text.Shown
	}
	return nil
}

func (s *Spec) xmlOf(tree *Tree, scope value.Scope, what string) ([]*document.Node, error) {
	node, err := tree.Node(scope)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	elements, err := Elements(node, "", s.Names)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	return elements, nil
}
