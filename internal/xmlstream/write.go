package xmlstream

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Writer writes an XML document piece by piece. It closes what it opened,
// escapes what needs it, and refuses what no reader could take. The first error stays and
// is told by Close; nothing is written after it.
type Writer struct {
	// Indent lays the document out: each element and comment begins a line of its own
	// unless text is beside it.
	Indent string

	out   io.Writer
	line  []byte
	open  []writtenElement
	state writing
	err   error
}

type writtenElement struct {
	name  string
	mixed bool // text is in it, so no blanks may be added
	holds bool // something was written inside
}

type writing uint8

const (
	between writing = iota
	inTag
)

// NewWriter returns a Writer to out.
func NewWriter(out io.Writer) *Writer { return &Writer{out: out} }

// Declaration writes the XML declaration, for a document in UTF-8.
func (w *Writer) Declaration() {
	w.line = append(w.line, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"...)
}

// Start opens an element; the name has its prefix with it.
func (w *Writer) Start(name string) {
	if !IsName(name) {
		w.fail(fmt.Errorf("%q is not a name that an element can have", name))
	}
	w.breakLine()
	w.line = append(append(w.line, '<'), name...)
	w.open = append(w.open, writtenElement{name: name})
	w.state = inTag
}

// Attribute adds an attribute or a declaration to the element just opened.
func (w *Writer) Attribute(name, value string) {
	if w.state != inTag {
		w.fail(fmt.Errorf("the attribute %s comes after the tag", name))
		return
	}
	if !IsName(name) {
		w.fail(fmt.Errorf("%q is not a name that an attribute can have", name))
	}
	w.line = append(append(append(w.line, ' '), name...), '=', '"')
	w.line = append(AppendEscaped(w.line, value, true), '"')
}

// Text writes character data.
func (w *Writer) Text(text string) {
	if text == "" {
		return
	}
	if len(w.open) == 0 {
		w.fail(errors.New("text is outside of the root element"))
		return
	}
	w.endTag()
	top := &w.open[len(w.open)-1]
	top.mixed, top.holds = true, true
	w.line = AppendEscaped(w.line, text, false)
	w.flush(1 << 15)
}

// Mixed says that the open element holds text, so that nothing in it is laid out.
func (w *Writer) Mixed() {
	if len(w.open) > 0 {
		w.open[len(w.open)-1].mixed = true
	}
}

// Comment writes a comment. What is not allowed in one is written as near as can be.
func (w *Writer) Comment(text string) {
	for strings.Contains(text, "--") {
		text = strings.ReplaceAll(text, "--", "- -")
	}
	if strings.HasSuffix(text, "-") {
		text += " "
	}
	w.breakLine()
	w.line = append(w.line, "<!--"...)
	for _, r := range text {
		if !IsChar(r) {
			r = utf8.RuneError
		}
		w.line = utf8.AppendRune(w.line, r)
	}
	w.line = append(w.line, "-->"...)
}

// Remark writes a comment after what was written last, on the same line.
func (w *Writer) Remark(text string) {
	indent := w.Indent
	w.endTag()
	if len(w.open) > 0 {
		w.open[len(w.open)-1].holds = true
	}
	w.line = append(w.line, ' ')
	mixed := false
	if len(w.open) > 0 {
		mixed = w.open[len(w.open)-1].mixed
		w.open[len(w.open)-1].mixed = true
	}
	w.Indent = ""
	w.Comment(" " + text + " ")
	w.Indent = indent
	if len(w.open) > 0 {
		w.open[len(w.open)-1].mixed = mixed
	}
}

// Instruction writes a processing instruction.
func (w *Writer) Instruction(name, text string) {
	if !IsNCName(name) || strings.EqualFold(name, "xml") || strings.Contains(text, "?>") {
		w.fail(fmt.Errorf("<?%s %s?> is not a processing instruction", name, text))
	}
	w.breakLine()
	w.line = append(append(w.line, "<?"...), name...)
	if text != "" {
		w.line = append(append(w.line, ' '), text...)
	}
	w.line = append(w.line, "?>"...)
}

// End closes the innermost element.
func (w *Writer) End() {
	if len(w.open) == 0 {
		w.fail(errors.New("no element is open"))
		return
	}
	top := w.open[len(w.open)-1]
	w.open = w.open[:len(w.open)-1]
	if !top.holds {
		w.line = append(w.line, "/>"...)
	} else {
		if !top.mixed {
			w.layOut()
		}
		w.line = append(append(append(w.line, "</"...), top.name...), '>')
	}
	w.state = between
	w.flush(1 << 15)
}

// Close ends the document: it writes what is left and returns the first error.
func (w *Writer) Close() error {
	if len(w.open) > 0 {
		w.fail(fmt.Errorf("<%s> is not closed", w.open[len(w.open)-1].name))
	}
	w.flush(0)
	return w.err
}

func (w *Writer) endTag() {
	if w.state == inTag {
		w.line = append(w.line, '>')
		w.state = between
	}
}

// breakLine begins a line where the layout asks for one.
func (w *Writer) breakLine() {
	w.endTag()
	if len(w.open) == 0 {
		if w.Indent != "" && len(w.line) > 0 && w.line[len(w.line)-1] == '>' {
			w.line = append(w.line, '\n')
		}
		return
	}
	top := &w.open[len(w.open)-1]
	top.holds = true
	if !top.mixed {
		w.layOut()
	}
}

func (w *Writer) layOut() {
	if w.Indent == "" {
		return
	}
	w.line = append(w.line, '\n')
	for range w.open {
		w.line = append(w.line, w.Indent...)
	}
}

func (w *Writer) fail(err error) {
	if w.err == nil {
		w.err = err
	}
}

func (w *Writer) flush(above int) {
	if len(w.line) <= above || w.err != nil {
		return
	}
	if _, err := w.out.Write(w.line); err != nil {
		w.fail(err)
	}
	w.line = w.line[:0]
}

// Escape escapes s for an element's text, or for an attribute in double
// quotes, so that a reader gets back the same characters (XML 1.0, 2.11 and
// 3.3.3: a carriage return, and in attributes every line break, would be
// changed). Characters that XML cannot carry at all become U+FFFD; see IsText.
func Escape(s string, attribute bool) string {
	if !strings.ContainsAny(s, "<>&\"\r\n\t") && IsText(s) {
		return s
	}
	return string(AppendEscaped(make([]byte, 0, len(s)+16), s, attribute))
}

// AppendEscaped appends what Escape returns.
func AppendEscaped(to []byte, s string, attribute bool) []byte {
	for i := 0; i < len(s); {
		c := s[i]
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRuneInString(s[i:])
			if !IsChar(r) {
				r = utf8.RuneError
			}
			to = utf8.AppendRune(to, r)
			i += size
			continue
		}
		i++
		switch {
		case c == '<':
			to = append(to, "&lt;"...)
		case c == '>':
			to = append(to, "&gt;"...)
		case c == '&':
			to = append(to, "&amp;"...)
		case c == '"' && attribute:
			to = append(to, "&quot;"...)
		case c == '\r':
			to = append(to, "&#13;"...)
		case c == '\n' && attribute:
			to = append(to, "&#10;"...)
		case c == '\t' && attribute:
			to = append(to, "&#9;"...)
		case c < 0x20 && c != '\n' && c != '\t':
			to = utf8.AppendRune(to, utf8.RuneError)
		default:
			to = append(to, c)
		}
	}
	return to
}

// IsText says whether XML can carry every character of s.
func IsText(s string) bool {
	for i, r := range s {
		if !IsChar(r) || r == utf8.RuneError && !isReplacement(s[i:]) {
			return false
		}
	}
	return true
}
