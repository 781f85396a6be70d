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
	}), len(data))
}

func readXML(r *xmlstream.Reader, size int) (*Node, error) {
	b := xmlBuilder{layouts: map[string]*Node{}, arena: newArena(size)}
	for {
		kind, err := r.Next()
		if err != nil {
			if err == io.EOF {
				return b.root, nil
			}
			var syntax *xmlstream.Error
			if errors.As(err, &syntax) {
				err = &Error{
					Format: "XML", Line: syntax.Line, Column: syntax.Column, Offset: int(syntax.Offset),
					Message: syntax.Message,
				}
			}
			return nil, err
		}
		switch kind {
		case xmlstream.Start:
			if b.start(r); b.arena.made > MaxNodes {
				return nil, &Error{Format: "XML", Message: errTooMany.Error()}
			}
		case xmlstream.End:
			b.end()
		case xmlstream.Text:
			b.text = append(b.text, r.Text()...)
		case xmlstream.Comment:
			b.add(b.arena.scalar(Comment, string(r.Text())))
		case xmlstream.Instruction:
			instruction := b.arena.element(Instruction, Name{Local: r.Name().Local}, nil)
			instruction.Text = string(r.Text())
			b.add(instruction)
		}
	}
}

// xmlBuilder makes a tree of tokens.
type xmlBuilder struct {
	root    *Node
	open    []*Node
	first   []int            // where the items of each open element begin in items
	items   []*Node          // of the open elements, put into each when it ends and their number is known
	text    []byte           // character data not yet put into the tree: CDATA and references do not split it
	layouts map[string]*Node // blanks between elements are the same few texts over and over
	arena   arena
}

// add puts a node into the open element; outside of the root nothing is kept.
func (b *xmlBuilder) add(made *Node) {
	b.flush()
	if len(b.open) > 0 {
		b.items = push(b.items, made)
	}
}

func (b *xmlBuilder) flush() {
	if len(b.text) == 0 {
		return
	}
	if xmlstream.IsBlank(b.text) {
		b.items = push(b.items, b.layout())
	} else {
		b.items = push(b.items, b.arena.scalar(Untyped, b.arena.string(b.text)))
	}
	b.text = b.text[:0]
}

// layout is the node of blanks, one for all that are alike.
func (b *xmlBuilder) layout() *Node {
	same := b.layouts[string(b.text)]
	if same == nil {
		same = &Node{Kind: Layout, Text: string(b.text)}
		b.layouts[same.Text] = same
	}
	return same
}

func (b *xmlBuilder) start(r *xmlstream.Reader) {
	at := r.Position()
	var attributes []Attribute
	if read := r.Attrs(); len(read) > 0 {
		attributes = make([]Attribute, len(read))
		for i, a := range read {
			attributes[i] = Attribute{Name: a.Name, Value: b.arena.string(a.Value)}
		}
	}
	element := b.arena.element(Element, r.Name(), attributes)
	element.Line, element.Column = int32(at.Line), int32(at.Column)
	b.add(element)
	if b.root == nil {
		b.root = element
	}
	b.open, b.first = append(b.open, element), append(b.first, len(b.items))
}

// end closes the element. Blanks between elements lay a document out and carry
// no content: they are kept apart from texts, for those who count every node.
func (b *xmlBuilder) end() {
	b.flush()
	last := len(b.open) - 1
	element, items := b.open[last], b.items[b.first[last]:]
	elements, texts := false, false
	for _, item := range items {
		elements = elements || item.Kind == Element
		texts = texts || item.Kind == Untyped
	}
	if !elements || texts {
		for i, item := range items {
			if item.Kind == Layout {
				items[i] = b.arena.scalar(Untyped, item.Text)
			}
		}
	}
	b.arena.fill(element, items, nil)
	b.open, b.items, b.first = b.open[:last], b.items[:b.first[last]], b.first[:last]
}
