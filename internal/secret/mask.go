// Package secret keeps what must not be seen: a store of sealed files, and the
// one place where output is masked. It knows nothing of logins or requests.
package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"io"
	"net/url"
	"slices"
	"strings"
	"sync"

	"testbench/internal/document"
	"testbench/internal/value"
)

// Mask stands in every output where a secret would stand.
const Mask = value.Mask

// Masker knows the secrets of a run and takes them out of text, in plain and
// in encoded form. The zero value is ready and masks nothing. It is safe for
// use by several goroutines.
type Masker struct {
	mutex    sync.Mutex
	known    map[string]bool
	replacer *strings.Replacer // nil when there is something new
}

// Hide remembers a secret. Secrets too short to be searched for are left to
// those who put them somewhere; see value.IsShort.
func (m *Masker) Hide(secret string) {
	if value.IsShort(secret) {
		return
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if m.known[secret] {
		return
	}
	if m.known == nil {
		m.known = map[string]bool{}
	}
	m.known[secret] = true
	// A key of many lines may be quoted in part, and output is masked by line.
	for line := range strings.Lines(secret) {
		if line = strings.TrimSpace(line); line != secret && len(line) >= longLine {
			m.known[line] = true
		}
	}
	m.replacer = nil
}

// longLine is the length from which a single line of a secret is one itself.
const longLine = 16

// Text returns s with every known secret masked.
func (m *Masker) Text(s string) string {
	if m == nil {
		return s
	}
	m.mutex.Lock()
	if len(m.known) == 0 {
		m.mutex.Unlock()
		return s
	}
	if m.replacer == nil {
		m.replacer = m.build()
	}
	replacer := m.replacer
	m.mutex.Unlock()
	return replacer.Replace(s)
}

func (m *Masker) build() *strings.Replacer {
	forms := map[string]bool{}
	for secret := range m.known {
		for _, form := range encodedForms(secret) {
			forms[form] = true
		}
	}
	ordered := make([]string, 0, len(forms))
	for form := range forms {
		ordered = append(ordered, form)
	}
	// The replacer prefers the pair that comes first: the longest form.
	slices.SortFunc(ordered, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	pairs := make([]string, 0, 2*len(ordered))
	for _, form := range ordered {
		pairs = append(pairs, form, Mask)
	}
	return strings.NewReplacer(pairs...)
}

// encodedForms lists the ways in which a secret may stand in a text.
func encodedForms(secret string) []string {
	quoted := document.QuoteJSON(secret)
	inJSON := quoted[1 : len(quoted)-1]
	query := url.QueryEscape(secret)
	percent := strings.ReplaceAll(query, "+", "%20")
	forms := []string{
		secret,
		inJSON,
		strings.ReplaceAll(inJSON, "/", `\/`),
		strings.NewReplacer("<", `\u003c`, ">", `\u003e`, "&", `\u0026`).Replace(inJSON),
		document.EscapeXML(secret, false),
		document.EscapeXML(secret, true),
		strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;").Replace(secret),
		strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(secret),
		strings.ReplaceAll(document.EscapeXML(secret, true), "'", "&#39;"),
		query, percent, url.PathEscape(secret), lowerEscapes(query), lowerEscapes(percent),
		hex.EncodeToString([]byte(secret)), strings.ToUpper(hex.EncodeToString([]byte(secret))),
	}
	// In Base64 the same bytes look different by where in a group of three they
	// begin. The letters that depend on the secret alone are searched for, at
	// each of the three places, so that user:password in a Basic header is found.
	for lead := range 3 {
		padded := append(make([]byte, lead), secret...)
		for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			encoded := encoding.EncodeToString(padded)
			first := (lead*8 + 5) / 6
			last := len(padded) * 8 / 6
			forms = append(forms, encoded[first:last])
		}
	}
	whole := base64.StdEncoding.EncodeToString([]byte(secret))
	forms = append(forms, whole, base64.URLEncoding.EncodeToString([]byte(secret)), url.QueryEscape(whole))
	return forms
}

// lowerEscapes writes %2F as %2f.
func lowerEscapes(s string) string {
	out := []byte(s)
	for i := 0; i+2 < len(out); i++ {
		if out[i] == '%' {
			copy(out[i+1:i+3], bytes.ToLower(out[i+1:i+3]))
		}
	}
	return string(out)
}

// Writer masks what is written through it, line by line, as the last safeguard
// in front of terminals and logs. Close writes a line that has no end yet.
type Writer struct {
	to      io.Writer
	masker  *Masker
	mutex   sync.Mutex
	pending []byte
}

// NewWriter returns a Writer in front of to.
func NewWriter(to io.Writer, masker *Masker) *Writer {
	return &Writer{to: to, masker: masker}
}

// Write keeps what follows the last line break until the line is complete.
func (w *Writer) Write(p []byte) (int, error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.pending = append(w.pending, p...)
	end := bytes.LastIndexByte(w.pending, '\n') + 1
	if end == 0 {
		return len(p), nil
	}
	if _, err := io.WriteString(w.to, w.masker.Text(string(w.pending[:end]))); err != nil {
		return 0, err
	}
	w.pending = append(w.pending[:0], w.pending[end:]...)
	return len(p), nil
}

// Close writes what is left. It does not close what it writes to.
func (w *Writer) Close() error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if len(w.pending) == 0 {
		return nil
	}
	_, err := io.WriteString(w.to, w.masker.Text(string(w.pending)))
	w.pending = nil
	return err
}

// Unmasked writes past the masker, for what was asked for in so many words.
func (w *Writer) Unmasked(p []byte) (int, error) {
	if err := w.Close(); err != nil {
		return 0, err
	}
	return w.to.Write(p)
}
