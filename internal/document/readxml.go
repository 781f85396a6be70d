package document

import (
	"errors"
	"io"

	"testbench/internal/xmlstream"
)

// SchemaInstance is the namespace of xsi:nil and xsi:type, which the tree
// itself has to know (XML Schema 1.0 Part 1, 2.6).
const SchemaInstance = "http://www.w3.org/2001/XMLSchema-instance"

// ReadXML reads an XML 1.0 document with namespaces into an Element. The
// character set of the HTTP header, if not empty, wins over the declaration in
// the document (RFC 7303, section 3). A DOCTYPE is refused: nothing is
// expanded. Errors are of type *Error.
func ReadXML(data []byte, charset string) (*Node, error) {
	return readXML(xmlstream.NewBytes(data, xmlstream.Options{
		Charset: charset, Comments: true, Instructions: true, MaxDepth: MaxDepth, MaxToken: len(data),
	}))
}

func readXML(r *xmlstream.Reader) (*Node, error) {
	b := xmlBuilder{layouts: map[string]*Node{}}
	for {
		kind, err := r.Next()
		if err != nil {
			if err == io.EOF {
				return b.root, nil
			}
			var syntax *xmlstream.Error
			if errors.As(err, &syntax) {
				err = &Error{Format: "XML", Line: syntax.Line, Column: syntax.Column, Offset: int(syntax.Offset), Message: syntax.Message}
			}
			return nil, err
		}
		switch kind {
		case xmlstream.Start:
			b.start(r)
		case xmlstream.End:
			b.end()
		case xmlstream.Text:
			b.text = append(b.text, r.Text()...)
		case xmlstream.Comment:
			b.add(Node{Kind: Comment, Text: string(r.Text())})
		case xmlstream.Instruction:
			b.add(Node{Kind: Instruction, Name: Name{Local: r.Name().Local}, Text: string(r.Text())})
		}
	}
}

// xmlBuilder makes a tree of tokens.
type xmlBuilder struct {
	root    *Node
	open    []*Node
	text    []byte           // character data not yet put into the tree: CDATA and references do not split it
	layouts map[string]*Node // blanks between elements are the same few texts over and over
	slab    []Node           // nodes are made many at a time
}

func (b *xmlBuilder) node(n Node) *Node {
	if len(b.slab) == 0 {
		b.slab = make([]Node, 64)
	}
	made := &b.slab[0]
	b.slab = b.slab[1:]
	*made = n
	return made
}

// add puts a node into the open element; outside of the root nothing is kept.
func (b *xmlBuilder) add(n Node) *Node {
	b.flush()
	made := b.node(n)
	if len(b.open) > 0 {
		top := b.open[len(b.open)-1]
		top.Items = append(top.Items, made)
	}
	return made
}

func (b *xmlBuilder) flush() {
	if len(b.text) > 0 {
		top := b.open[len(b.open)-1]
		top.Items = append(top.Items, b.node(Node{Kind: Untyped, Text: string(b.text)}))
		b.text = b.text[:0]
	}
}

func (b *xmlBuilder) start(r *xmlstream.Reader) {
	at := r.Position()
	element := b.add(Node{Kind: Element, Name: r.Name(), Line: int32(at.Line), Column: int32(at.Column)})
	if attributes := r.Attrs(); len(attributes) > 0 {
		element.Attributes = make([]Attribute, len(attributes))
		for i, a := range attributes {
			element.Attributes[i] = Attribute{Name: a.Name, Value: string(a.Value)}
		}
	}
	if b.root == nil {
		b.root = element
	}
	b.open = append(b.open, element)
}

// end closes the element. Blanks between elements lay a document out and carry
// no content: they are kept apart from texts, for those who count every node.
func (b *xmlBuilder) end() {
	b.flush()
	element := b.open[len(b.open)-1]
	b.open = b.open[:len(b.open)-1]
	elements, blank := false, true
	for _, item := range element.Items {
		switch item.Kind {
		case Element:
			elements = true
		case Untyped:
			blank = blank && xmlstream.IsBlank(item.Text)
		}
	}
	if !elements || !blank {
		return
	}
	for i, item := range element.Items {
		if item.Kind == Untyped {
			same := b.layouts[item.Text]
			if same == nil {
				same = &Node{Kind: Layout, Text: item.Text}
				b.layouts[item.Text] = same
			}
			element.Items[i] = same
		}
	}
}
