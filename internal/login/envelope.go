package login

import (
	"bytes"
	"mime"
	"slices"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
)

// stampLife is how long a time stamp is good unless said otherwise.
const stampLife = 5 * time.Minute

// protect changes the envelope of a request: what goes into the Security block goes into the one for the actor.
func protect(r *exchange.Request, actor string, change func(m *wssecurity.Message) error) error {
	start, end := envelopeOf(r.GetHeader("Content-Type"), r.Body)
	m, ok := r.Protected.(*wssecurity.Message)
	if !ok {
		var err error
		if m, err = wssecurity.Parse(r.Body[start:end]); err != nil {
			return &Error{
				Message: "the login puts something into a SOAP envelope: " + err.Error(),
				Try:     "use the login at a SOAP service, or set soap: at the service",
			}
		}
		r.Protected = m
	}
	m.For(actor)
	if err := change(m); err != nil {
		return &Error{Message: err.Error()}
	}
	shown := m.Shown(value.Mask)
	if r.ShownBody != "" {
		shown = shownEnvelope(r.ShownBody, m)
	}
	written := m.Bytes()
	if start == 0 && end == len(r.Body) {
		const declaration = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
		written, shown = append([]byte(declaration), written...), declaration+strings.TrimPrefix(shown, declaration)
	}
	r.Body = slices.Concat(r.Body[:start], written, r.Body[end:])
	r.ShownBody = shown
	return nil
}

// shownEnvelope puts the new Security block into the shown form of the envelope,
// in which secrets are hidden already.
func shownEnvelope(before string, m *wssecurity.Message) string {
	// What was attached is described after the envelope.
	xml, attached, _ := strings.Cut(before, "\n(attached:")
	if attached != "" {
		attached = "\n(attached:" + attached
	}
	shown, err := wssecurity.Parse([]byte(xml))
	if err != nil {
		return value.Mask
	}
	if m.IsEncrypted() {
		return m.Shown(value.Mask) + attached
	}
	shown.TakeSecurity(m)
	shown.TakeBlocks(m)
	return shown.Shown(value.Mask) + attached
}

// envelopeOf finds the envelope in a body: all of it, or the first part of a
// package with attachments.
func envelopeOf(contentType string, body []byte) (start, end int) {
	mediaType, parameters, err := mime.ParseMediaType(contentType)
	if err != nil || mediaType != "multipart/related" {
		return 0, len(body)
	}
	start = bytes.Index(body, []byte("\r\n\r\n"))
	if start < 0 {
		return 0, len(body)
	}
	start += 4
	end = bytes.Index(body[start:], []byte("\r\n--"+parameters["boundary"]))
	if end < 0 {
		return 0, len(body)
	}
	return start, start + end
}
