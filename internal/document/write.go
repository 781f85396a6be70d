package document

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Style says how a tree is written.
type Style struct {
	Indent string // "" writes on one line
	Hide   string // if not empty, stands in place of every secret value
}

// WriteJSON writes the tree as JSON. An untyped value is a number, true, false
// or null where it reads as one by JSON's grammar, and a text otherwise.
// Elements become objects; what is repeated becomes a list.
func WriteJSON(n *Node, style Style) string {
	w := jsonWriter{style: style}
	w.value(n, 0)
	return w.out.String()
}

type jsonWriter struct {
	out   strings.Builder
	style Style
}

func (w *jsonWriter) line(depth int) {
	if w.style.Indent != "" {
		w.out.WriteByte('\n')
		for range depth {
			w.out.WriteString(w.style.Indent)
		}
	}
}

func (w *jsonWriter) value(n *Node, depth int) {
	n = n.Value()
	if n == nil {
		w.out.WriteString("null")
		return
	}
	if n.Secret && w.style.Hide != "" && n.IsScalar() {
		w.out.WriteString(QuoteJSON(w.style.Hide))
		return
	}
	switch n.Kind {
	case Null:
		w.out.WriteString("null")
	case Boolean, Number:
		w.out.WriteString(n.Text)
	case Text:
		w.out.WriteString(QuoteJSON(n.Text))
	case Untyped:
		if n.Text == "true" || n.Text == "false" || n.Text == "null" || IsNumber(n.Text) {
			w.out.WriteString(n.Text)
		} else {
			w.out.WriteString(QuoteJSON(n.Text))
		}
	case List:
		w.out.WriteByte('[')
		for i, item := range n.Items {
			if i > 0 {
				w.out.WriteByte(',')
			}
			w.line(depth + 1)
			w.value(item, depth+1)
		}
		if len(n.Items) > 0 {
			w.line(depth)
		}
		w.out.WriteByte(']')
	case Object, Element:
		w.out.WriteByte('{')
		fields := n.fields()
		for i, m := range fields {
			if i > 0 {
				w.out.WriteByte(',')
			}
			w.line(depth + 1)
			w.out.WriteString(QuoteJSON(m.Key))
			w.out.WriteByte(':')
			if w.style.Indent != "" {
				w.out.WriteByte(' ')
			}
			w.value(m.Value, depth+1)
		}
		if len(fields) > 0 {
			w.line(depth)
		}
		w.out.WriteByte('}')
	}
}

// QuoteJSON writes s as a JSON string (RFC 8259, section 7). Invalid UTF-8
// becomes U+FFFD, for JSON knows no other encoding.
func QuoteJSON(s string) string {
	const hex = "0123456789abcdef"
	var out strings.Builder
	out.Grow(len(s) + 2)
	out.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			out.WriteByte('\\')
			out.WriteRune(r)
		case r == '\n':
			out.WriteString(`\n`)
		case r == '\r':
			out.WriteString(`\r`)
		case r == '\t':
			out.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			out.WriteString(`\u00`)
			out.WriteByte(hex[r>>4])
			out.WriteByte(hex[r&0xF])
		default:
			out.WriteRune(r)
		}
	}
	out.WriteByte('"')
	return out.String()
}

// WriteXML writes an element with its prefixes and declarations as they are.
// The prefixes in use must be declared on it or above it.
func WriteXML(n *Node, style Style) string {
	w := xmlWriter{style: style}
	w.element(n, 0)
	return w.out.String()
}

type xmlWriter struct {
	out   strings.Builder
	style Style
}

func (w *xmlWriter) element(n *Node, depth int) {
	name := n.Name.String()
	w.out.WriteByte('<')
	w.out.WriteString(name)
	for _, a := range n.Attributes {
		value := a.Value
		if a.Secret && w.style.Hide != "" {
			value = w.style.Hide
		}
		w.out.WriteByte(' ')
		w.out.WriteString(a.Name.String())
		w.out.WriteString(`="`)
		w.out.WriteString(EscapeXML(value, true))
		w.out.WriteByte('"')
	}
	if len(n.Items) == 0 {
		w.out.WriteString("/>")
		return
	}
	w.out.WriteByte('>')
	// Blanks may be added only where no text stands beside the elements.
	layout := w.style.Indent != ""
	for _, item := range n.Items {
		if item.Kind != Element {
			layout = false
		}
	}
	for _, item := range n.Items {
		if layout {
			w.line(depth + 1)
		}
		switch {
		case item.Kind == Element:
			w.element(item, depth+1)
		case item.Secret && w.style.Hide != "":
			w.out.WriteString(EscapeXML(w.style.Hide, false))
		default:
			w.out.WriteString(EscapeXML(item.Text, false))
		}
	}
	if layout {
		w.line(depth)
	}
	w.out.WriteString("</")
	w.out.WriteString(name)
	w.out.WriteByte('>')
}

func (w *xmlWriter) line(depth int) {
	w.out.WriteByte('\n')
	for range depth {
		w.out.WriteString(w.style.Indent)
	}
}

// EscapeXML escapes s for an element's text or an attribute in double quotes,
// so that a reader gets back the same characters (XML 1.0, 2.11 and 3.3.3:
// a carriage return, and in attributes every line break, would be changed).
// Characters that XML cannot carry at all become U+FFFD; see ValidXML.
func EscapeXML(s string, attribute bool) string {
	if !strings.ContainsAny(s, "<>&\"\r\n\t") && ValidXML(s) {
		return s
	}
	var out strings.Builder
	out.Grow(len(s) + 16)
	for _, r := range s {
		switch {
		case r == '<':
			out.WriteString("&lt;")
		case r == '>':
			out.WriteString("&gt;")
		case r == '&':
			out.WriteString("&amp;")
		case r == '"' && attribute:
			out.WriteString("&quot;")
		case r == '\r', attribute && (r == '\n' || r == '\t'):
			out.WriteString("&#" + strconv.Itoa(int(r)) + ";")
		case !validXMLRune(r):
			out.WriteRune(utf8.RuneError)
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// ValidXML says whether XML 1.0 can carry every character of s (section 2.2).
func ValidXML(s string) bool {
	if !utf8.ValidString(s) {
		return false
	}
	for _, r := range s {
		if !validXMLRune(r) {
			return false
		}
	}
	return true
}

func validXMLRune(r rune) bool {
	return r == '\t' || r == '\n' || r == '\r' || r >= 0x20 && r <= 0xD7FF || r >= 0xE000 && r <= 0xFFFD || r >= 0x10000
}
