package fields

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/go-json-experiment/json/jsontext"

	"testbench/internal/document"
	"testbench/internal/soap"
	"testbench/internal/xmlstream"
)

// sniffed is how much is looked at to tell the format.
const sniffed = 64 << 10

// mostRead bounds documents of formats that are read as a whole.
const mostRead = 256 << 20

// Read learns of a document. The media type may be empty; then the content tells. JSON
// and XML go by token by token, other formats are read as a whole.
func Read(from io.Reader, contentType string) (*Gatherer, document.Format, error) {
	g := NewGatherer()
	format, err := g.add(from, contentType)
	if err != nil {
		return nil, format, err
	}
	return g, format, nil
}

// add learns of one more document.
func (g *Gatherer) add(from io.Reader, contentType string) (document.Format, error) {
	g.docs++
	buffered := bufio.NewReaderSize(from, sniffed)
	head, err := buffered.Peek(sniffed)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	format := document.FormatOf(contentType, head)
	switch {
	case len(bytes.TrimSpace(head)) == 0:
		return format, errors.New("there is nothing in it")
	case format == document.JSON:
		return format, g.readJSON(buffered)
	case format == document.XML:
		return format, g.readXML(buffered)
	case format == document.Binary:
		return format, errors.New("it is binary, and has no fields")
	}
	data, err := io.ReadAll(io.LimitReader(buffered, mostRead+1))
	if err != nil {
		return format, err
	}
	if len(data) > mostRead {
		return format, fmt.Errorf("it is larger than %d MiB", mostRead>>20)
	}
	root, err := document.ReadAs(format, contentType, data)
	if err != nil {
		return format, err
	}
	g.tree(g.root, root)
	return format, nil
}

// Tree learns of a tree.
func (g *Gatherer) Tree(root *document.Node) {
	g.docs++
	g.tree(g.root, root)
}

func (g *Gatherer) tree(n *node, v *document.Node) {
	n.count++
	switch v.Kind {
	case document.Null:
		n.nulls++
	case document.Object:
		n.objects++
		for _, m := range v.Members() {
			g.tree(g.child(n, m.Key, false), m.Value)
		}
	case document.List:
		n.listed(len(v.Items()))
		for _, item := range v.Items() {
			g.tree(n.item(), item)
		}
	case document.Element:
		g.element(n, v)
	default:
		g.value(n, v)
	}
}

// element learns of an element of a tree.
func (g *Gatherer) element(n *node, v *document.Node) {
	inside := &frame{node: n}
	for _, a := range v.Attributes() {
		if !a.IsDeclaration() {
			c := g.child(n, a.Name.Local, true)
			c.count++
			g.value(c, document.NewUntyped(a.Value))
			inside.attributes = true
		}
	}
	for _, child := range v.Children() {
		c := g.child(n, child.Name().Local, false)
		inside.count(c)
		g.tree(c, child)
	}
	inside.text.WriteString(v.OwnText())
	g.end(inside)
}

// frame is an element that is open.
type frame struct {
	node       *node
	counts     map[*node]int
	attributes bool
	text       bytes.Buffer
}

func (f *frame) count(c *node) {
	if f.counts == nil {
		f.counts = map[*node]int{}
	}
	f.counts[c]++
}

// end learns what an element was, when all of it is known.
func (g *Gatherer) end(f *frame) {
	for c, times := range f.counts {
		c.occurred(times)
	}
	switch {
	case f.counts != nil:
		f.node.objects++
	case f.text.Len() == 0 && f.attributes:
		f.node.objects++
	default:
		g.value(f.node, document.NewUntyped(f.text.String()))
	}
}

// readJSON goes through JSON.
func (g *Gatherer) readJSON(from io.Reader) error {
	d := jsontext.NewDecoder(from)
	if err := g.json(d, g.root); err != nil {
		return explainJSON(err)
	}
	if _, err := d.ReadToken(); !errors.Is(err, io.EOF) {
		if err == nil {
			err = errors.New("there is something after the document")
		}
		return explainJSON(err)
	}
	return nil
}

func explainJSON(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("it is not well-formed JSON: it ends too early")
	}
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		where := string(syntax.JSONPointer)
		if where == "" {
			where = "its beginning"
		}
		return fmt.Errorf("it is not well-formed JSON: %w (byte %d, at %s)", syntax.Err, syntax.ByteOffset, where)
	}
	return fmt.Errorf("it is not well-formed JSON: %w", err)
}

func (g *Gatherer) json(d *jsontext.Decoder, n *node) error {
	token, err := d.ReadToken()
	if err != nil {
		return err
	}
	n.count++
	switch token.Kind() {
	case '{':
		n.objects++
		for d.PeekKind() != '}' {
			name, err := d.ReadToken()
			if err != nil {
				return err
			}
			if err := g.json(d, g.child(n, name.String(), false)); err != nil {
				return err
			}
		}
		_, err = d.ReadToken()
	case '[':
		count := 0
		for d.PeekKind() != ']' {
			if err := g.json(d, n.item()); err != nil {
				return err
			}
			count++
		}
		n.listed(count)
		_, err = d.ReadToken()
	case 'n':
		n.nulls++
	case 't', 'f':
		g.value(n, document.NewBoolean(token.Kind() == 't'))
	case '0':
		g.value(n, document.NewNumber(token.String()))
	default:
		g.value(n, document.NewText(token.String()))
	}
	return err
}

// longestText bounds what is kept of the text of one element.
const longestText = 64 << 10

// readXML goes through XML. Of an envelope, what is in its Body is the answer.
func (g *Gatherer) readXML(from io.Reader) error {
	r := xmlstream.NewReader(from, xmlstream.Options{})
	var open []*frame
	skipped, envelope := 0, false // elements around the payload
	for {
		kind, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch kind {
		case xmlstream.Start:
			name := r.Name()
			switch {
			case len(open) == 0 && skipped == 0 && soap.IsEnvelope(name):
				envelope = true
				skipped++
				continue
			case envelope && len(open) == 0 && skipped < 2:
				if name.Local == "Body" {
					skipped++
					continue
				}
				if err := skip(r); err != nil {
					return err
				}
				continue
			}
			n := g.root
			if len(open) > 0 {
				parent := open[len(open)-1]
				n = g.child(parent.node, name.Local, false)
				parent.count(n)
			}
			n.count++
			f := &frame{node: n}
			for _, a := range r.Attrs() {
				if a.IsDeclaration() {
					continue
				}
				c := g.child(n, a.Name.Local, true)
				c.count++
				g.value(c, document.NewUntyped(string(a.Value)))
				f.attributes = true
			}
			open = append(open, f)
		case xmlstream.End:
			if len(open) == 0 {
				continue
			}
			g.end(open[len(open)-1])
			open = open[:len(open)-1]
		case xmlstream.Text:
			if len(open) > 0 {
				if f := open[len(open)-1]; f.text.Len() < longestText {
					f.text.Write(r.Text())
				}
			}
		}
	}
}

// skip passes over an element that was begun.
func skip(r *xmlstream.Reader) error {
	for depth := 1; depth > 0; {
		kind, err := r.Next()
		if err != nil {
			return err
		}
		switch kind {
		case xmlstream.Start:
			depth++
		case xmlstream.End:
			depth--
		}
	}
	return nil
}
