package document

import (
	"strings"

	"testbench/internal/xmlstream"
)

// Style says how a tree is written.
type Style struct {
	Indent string // "" writes on one line
	Hide   string // if not empty, is in place of every secret value
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
		for i, item := range n.Items() {
			if i > 0 {
				w.out.WriteByte(',')
			}
			w.line(depth + 1)
			w.value(item, depth+1)
		}
		if len(n.Items()) > 0 {
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

// WriteXML writes an element with its prefixes and declarations as they are,
// and without the blanks that laid it out. The prefixes in use must be declared
// on it or above it.
func WriteXML(n *Node, style Style) string {
	var out strings.Builder
	w := xmlstream.NewWriter(&out)
	w.Indent = style.Indent
	writeElement(w, n, style)
	// A tree that could not be read again, as of a name with a blank in it, is
	// shown as far as it goes.
	_ = w.Close()
	return out.String()
}

func writeElement(w *xmlstream.Writer, n *Node, style Style) {
	w.Start(n.Name().String())
	for _, a := range n.Attributes() {
		value := a.Value
		if a.Secret && style.Hide != "" {
			value = style.Hide
		}
		w.Attribute(a.Name.String(), value)
	}
	for _, item := range n.Items() {
		if item.IsScalar() {
			w.Mixed()
		}
	}
	for _, item := range n.Items() {
		switch item.Kind {
		case Element:
			writeElement(w, item, style)
		case Comment:
			w.Comment(item.Text)
		case Instruction:
			w.Instruction(item.Name().Local, item.Text)
		case Layout:
		default:
			if item.Secret && style.Hide != "" {
				w.Text(style.Hide)
			} else {
				w.Text(item.Text)
			}
		}
	}
	w.End()
}
