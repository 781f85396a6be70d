// Package secret keeps what must not be seen: a store of sealed files, and the
// one place where output is masked. It knows nothing of logins or requests.
package secret

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"io"
	"net/url"
	"slices"
	"strings"
	"sync"

	"testbench/internal/document"
	"testbench/internal/value"
	"testbench/internal/xmlstream"
)

// Mask stands in every output where a secret would stand.
const Mask = value.Mask

// Masker knows the secrets of a run and takes them out of text, in plain and
// in encoded form. The zero value is ready and masks nothing. It is safe for
// use by several goroutines.
type Masker struct {
	mutex sync.RWMutex
	known map[string]bool
	// forms are what is searched for, by their first letters, the longest
	// first; pairs marks the two letters that any of them begins with, so that
	// almost every place of a text is passed over at once.
	forms map[[lead]byte][]string
	pairs [1 << 16 / 64]uint64
}

// lead is how many letters of a form are looked up; no form is shorter.
const lead = 4

// longLine is the length from which a single line of a secret is one itself.
const longLine = 16

// Hide remembers a secret. Secrets too short to be searched for are left to
// those who put them somewhere; see value.IsShort.
func (m *Masker) Hide(secret string) {
	if value.IsShort(secret) {
		return
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.add(secret)
	// A key of many lines may be quoted in part, and output is masked by line.
	for line := range strings.Lines(secret) {
		if line = strings.TrimSpace(line); len(line) >= longLine {
			m.add(line)
		}
	}
}

func (m *Masker) add(secret string) {
	if m.known[secret] {
		return
	}
	if m.known == nil {
		m.known, m.forms = map[string]bool{}, map[[lead]byte][]string{}
	}
	m.known[secret] = true
	for _, form := range encodedForms(secret) {
		if len(form) < lead {
			continue
		}
		first := [lead]byte([]byte(form[:lead]))
		if slices.Contains(m.forms[first], form) {
			continue
		}
		m.forms[first] = append(m.forms[first], form)
		slices.SortFunc(m.forms[first], func(a, b string) int { return len(b) - len(a) })
		pair := uint(form[0])<<8 | uint(form[1])
		m.pairs[pair/64] |= 1 << (pair % 64)
	}
}

// Text returns s with every known secret masked.
func (m *Masker) Text(s string) string {
	if m == nil {
		return s
	}
	m.mutex.RLock()
	defer m.mutex.RUnlock()
	if len(m.known) == 0 {
		return s
	}
	var out strings.Builder
	copied := 0
	for i := 0; i+lead <= len(s); i++ {
		pair := uint(s[i])<<8 | uint(s[i+1])
		if m.pairs[pair/64]&(1<<(pair%64)) == 0 {
			continue
		}
		for _, form := range m.forms[[lead]byte{s[i], s[i+1], s[i+2], s[i+3]}] {
			if strings.HasPrefix(s[i:], form) {
				out.WriteString(s[copied:i])
				out.WriteString(Mask)
				copied = i + len(form)
				i = copied - 1
				break
			}
		}
	}
	if copied == 0 {
		return s
	}
	out.WriteString(s[copied:])
	return out.String()
}

// encodedForms lists the ways in which a secret may stand in a text.
func encodedForms(secret string) []string {
	texts := escapedForms(secret)
	// What is escaped for its place is escaped once more where the whole is
	// quoted, as a JSON body inside of a JSON text is.
	for _, text := range slices.Clone(texts) {
		texts = append(texts, jsonText(text), jsonEscape.Replace(jsonText(text)), xmlstream.Escape(text, false), htmlEscape.Replace(text))
	}
	slices.Sort(texts)
	texts = slices.Compact(texts)
	forms := slices.Clone(texts)
	for _, text := range texts {
		forms = append(forms, hex.EncodeToString([]byte(text)), strings.ToUpper(hex.EncodeToString([]byte(text))))
		forms = append(forms, base64Forms(text)...)
	}
	whole := base64.StdEncoding.EncodeToString([]byte(secret))
	return append(forms, whole, base64.URLEncoding.EncodeToString([]byte(secret)), url.QueryEscape(whole))
}

// htmlEscape is how html/template and others write XML's five signs.
var htmlEscape = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;")

// jsonEscape is how some write three signs in JSON that may come to stand in a page.
var jsonEscape = strings.NewReplacer("<", `\u003c`, ">", `\u003e`, "&", `\u0026`)

// escapedForms writes a text as the places it may stand in want it.
func escapedForms(text string) []string {
	inJSON := jsonText(text)
	query := url.QueryEscape(text)
	percent := strings.ReplaceAll(query, "+", "%20")
	return []string{
		text,
		inJSON,
		strings.ReplaceAll(inJSON, "/", `\/`),
		jsonEscape.Replace(inJSON),
		xmlstream.Escape(text, false),
		xmlstream.Escape(text, true),
		htmlEscape.Replace(text),
		strings.NewReplacer("\t", "&#x9;", "\n", "&#xA;", "\r", "&#xD;").Replace(htmlEscape.Replace(text)),
		strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(text),
		strings.ReplaceAll(xmlstream.Escape(text, true), "'", "&#39;"),
		query, percent, url.PathEscape(text), lowerEscapes(query), lowerEscapes(percent),
	}
}

func jsonText(text string) string {
	quoted := document.QuoteJSON(text)
	return quoted[1 : len(quoted)-1]
}

// base64Forms gives what a text looks like inside of Base64. The same bytes
// look different by where in a group of three they begin; the letters that
// depend on the text alone are searched for, at each of the three places, so
// that user:password in a Basic header is found.
func base64Forms(text string) []string {
	var forms []string
	for offset := range 3 {
		padded := append(make([]byte, offset), text...)
		for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			encoded := encoding.EncodeToString(padded)
			forms = append(forms, encoded[(offset*8+5)/6:len(padded)*8/6])
		}
	}
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
	failed  error // the first time that it could not be written to
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
	_, err := io.WriteString(w.to, w.masker.Text(string(w.pending[:end])))
	w.pending = append(w.pending[:0], w.pending[end:]...)
	if err != nil {
		w.failed = cmp.Or(w.failed, err)
		return 0, err
	}
	return len(p), nil
}

// Close writes what is left, and says whether anything could not be written. It does not
// close what it writes to.
func (w *Writer) Close() error {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if len(w.pending) > 0 {
		_, err := io.WriteString(w.to, w.masker.Text(string(w.pending)))
		w.failed = cmp.Or(w.failed, err)
		w.pending = nil
	}
	return w.failed
}

// Unmasked writes past the masker, for what was asked for in so many words.
func (w *Writer) Unmasked(p []byte) (int, error) {
	if err := w.Close(); err != nil {
		return 0, err
	}
	return w.to.Write(p)
}
