// Package secret keeps what must not be seen: a store of sealed files, and the
// one place where output is masked. It knows nothing of logins or requests.
package secret

import (
	"bytes"
	"cmp"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"testbench/internal/excerpt"
	"testbench/internal/value"
)

// Mask is in every output where a secret would be.
const Mask = value.Mask

// Masker knows the secrets of a run and takes them out of texts: as they are, and in each
// encoding in use, one inside another to a depth of three. The zero value is ready and
// masks nothing. It is safe for use by several goroutines.
type Masker struct {
	mutex sync.RWMutex
	known map[string]bool
	// forms are what is searched for, by their first letters, the longest
	// first; pairs marks the two letters that any of them begins with, so that
	// almost every place of a text is passed over at once.
	forms map[[lead]byte][]string
	pairs [1 << 16 / 64]uint64
	// shortest is the length of the shortest secret: no shorter run of letters hides one.
	shortest int
	blanks   bool // a secret has a blank, which a form writes as a plus
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
	// Messages may leave blanks out that do not count where it stood.
	for _, text := range []string{strings.TrimSpace(secret), strings.Join(strings.Fields(secret), " ")} {
		if !value.IsShort(text) {
			m.add(text)
		}
	}
	if IsJWT(secret) { // each part of it may be told alone
		for part := range strings.SplitSeq(secret, ".") {
			if len(part) >= longLine {
				m.add(part)
			}
		}
	}
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
		m.known, m.forms, m.shortest = map[string]bool{}, map[[lead]byte][]string{}, len(secret)
	}
	m.known[secret] = true
	m.shortest = min(m.shortest, len(secret))
	m.blanks = m.blanks || strings.Contains(secret, " ")
	for _, form := range forms(secret) {
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
	found := m.search(s, nil)
	for _, piece := range m.decoded(&plain{text: s, changed: everything}, depth) {
		found = append(found, piece...)
	}
	if len(found) == 0 {
		return s
	}
	slices.SortFunc(found, func(a, b span) int { return cmp.Or(a.from-b.from, b.to-a.to) })
	var out strings.Builder
	copied := 0
	for i := 0; i < len(found); {
		from, to := found[i].from, found[i].to
		for i++; i < len(found) && found[i].from < to; i++ {
			to = max(to, found[i].to)
		}
		out.WriteString(s[copied:from])
		out.WriteString(Mask)
		copied = to
	}
	out.WriteString(s[copied:])
	return out.String()
}

// longest is how many bytes of a secret that was cut may be left of it.
const longest = excerpt.Most / 4

// Text is a text in which every known secret is masked. Masker makes it; what cuts, folds or
// shows a text takes one, so that none is cut before it was masked.
type Text string

// Plain is a text of our own words and numbers and of names in files, in which there is no
// secret. Who may say so is checked by a test.
func Plain(s string) Text { return Text(s) }

// Show gives a text as it may be shown. A nil Masker knows no secret.
func (m *Masker) Show(s string) Text { return Text(m.Text(s)) }

// ShowStart gives the first bytes of a text as they may be shown, and whether there are more.
func (m *Masker) ShowStart(s []byte, most int) (start Text, more bool) {
	if len(s) <= most {
		return m.Show(string(s)), false
	}
	masked := m.Text(string(s[:min(len(s), most+excerpt.Most)]))
	if len(s) > most+excerpt.Most {
		// A secret that is cut here is never shown, however much before it is masked.
		masked = masked[:max(len(masked)-longest, 0)]
	}
	return Text(strings.ToValidUTF8(masked[:min(most, len(masked))], "")), true
}

// Message gives a message as it may be shown, with the texts that it quotes shortened.
func (m *Masker) Message(s string) Text { return Text(excerpt.Shorten(m.Text(s))) }

// Messages and ShowAll do so with several; they give nil for none.
func (m *Masker) Messages(all []string) []Text { return each(all, m.Message) }

func (m *Masker) ShowAll(all []string) []Text { return each(all, m.Show) }

func each(all []string, show func(string) Text) []Text {
	var out []Text
	for _, s := range all {
		out = append(out, show(s))
	}
	return out
}

// Join puts texts together.
func Join(texts []Text, between Text) Text {
	var out Text
	for i, text := range texts {
		if i > 0 {
			out += between
		}
		out += text
	}
	return out
}

// Map is what a function makes of the text, and of nothing else.
func (t Text) Map(change func(string) string) Text { return Text(change(string(t))) }

// OneLine is the text with each run of blanks as one.
func (t Text) OneLine() Text { return Text(strings.Join(strings.Fields(string(t)), " ")) }

// Cut is the text, of at most so many characters.
func (t Text) Cut(most int) Text {
	if utf8.RuneCountInString(string(t)) <= most {
		return t
	}
	return Text([]rune(t)[:most-1]) + "…"
}

// span is a part of a text, in bytes.
type span struct{ from, to int }

// search adds to found where a form is in s.
func (m *Masker) search(s string, found []span) []span {
	for i := 0; i+lead <= len(s); i++ {
		pair := uint(s[i])<<8 | uint(s[i+1])
		if m.pairs[pair/64]&(1<<(pair%64)) == 0 {
			continue
		}
		for _, form := range m.forms[[lead]byte{s[i], s[i+1], s[i+2], s[i+3]}] {
			if strings.HasPrefix(s[i:], form) {
				found = append(found, span{i, i + len(form)})
				break
			}
		}
	}
	return found
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
