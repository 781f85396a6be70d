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
	return newXMLReader(data, charset).document()
}

func readMessageXML(data []byte, charset string, how leaving) (*Node, error) {
	reader := newXMLReader(data, charset)
	reader.leaving = how
	return reader.document()
}

// xmlReader makes a tree of tokens.
type xmlReader struct {
	data    []byte // what offsets are of
	size    int    // of what is read
	tokens  *xmlstream.Reader
	leaving leaving
	parts   *message // what is left unread of the document; nil where nothing is yet
	into    *Node    // what a part is read into; nil for a whole document
	scope   *scope   // of the innermost open element
	root    *Node
	open    []openElement
	items   []*Node          // of the open elements, put into each when it ends and their number is known
	text    []byte           // character data not yet put into the tree: CDATA and references do not split it
	layouts map[string]*Node // blanks between elements are the same few texts over and over
	arena   arena
}

// openElement is one that is not yet closed.
type openElement struct {
	node  *Node
	first int   // where its items begin among those of the open elements
	child int64 // the offset after the tag of the last element that began in it
}

func newXMLReader(data []byte, charset string) *xmlReader {
	return &xmlReader{
		data: data, size: len(data),
		tokens: xmlstream.NewBytes(data, xmlstream.Options{
			Charset: charset, Comments: true, Instructions: true, MaxDepth: MaxDepth, MaxToken: len(data),
		}),
		layouts: map[string]*Node{}, arena: newArena(len(data)),
	}
}

// document reads one document.
func (b *xmlReader) document() (*Node, error) {
	err := b.readTokens()
	var syntax *xmlstream.Error
	switch {
	case err == io.EOF:
		return b.root, nil
	case errors.As(err, &syntax):
		err = &Error{
			Format: "XML", Line: syntax.Line, Column: syntax.Column, Offset: int(syntax.Offset),
			Message: syntax.Message, IsLimit: syntax.Limit,
		}
	}
	return nil, err
}

// readTokens puts all tokens into the tree; it ends with io.EOF.
func (b *xmlReader) readTokens() error {
	for {
		kind, err := b.tokens.Next()
		if err == nil && kind == xmlstream.Start && b.leaves() {
			err = b.leave()
		} else if err == nil {
			err = b.token(kind)
		}
		if err != nil {
			return err
		}
	}
}

// token puts one into the tree.
func (b *xmlReader) token(kind xmlstream.Kind) error {
	switch kind {
	case xmlstream.Start:
		b.start()
		return b.checkCount()
	case xmlstream.End:
		b.end()
	case xmlstream.Text:
		b.text = append(b.text, b.tokens.Text()...)
	case xmlstream.Comment:
		b.add(b.arena.scalar(Comment, string(b.tokens.Text())))
	case xmlstream.Instruction:
		instruction := b.arena.element(Instruction, &Name{Local: b.tokens.Name().Local}, nil)
		instruction.Text = string(b.tokens.Text())
		b.add(instruction)
	}
	return nil
}

func (b *xmlReader) checkCount() error {
	if b.arena.made > MaxNodes && !b.leaving.isPart {
		at := b.tokens.Position()
		return &Error{
			Format: "XML", Line: at.Line, Column: at.Column, Offset: int(at.Offset), Message: errTooMany.Error(),
			IsLimit: true,
		}
	}
	return nil
}

// leaves says whether the element that starts is left unread: one like it was just before it.
func (b *xmlReader) leaves() bool {
	if len(b.open) == 0 || !b.leaving.applies(b.size) || !b.tokens.IsInPlace() {
		return false
	}
	in := b.open[len(b.open)-1]
	if b.tokens.EndOffset()-in.child < int64(b.leaving.least) {
		return false
	}
	for items := b.items[in.first:]; len(items) > 0; items = items[:len(items)-1] {
		if before := items[len(items)-1]; before.Kind == Element {
			return before.inner.tag.name == b.tokens.SharedName()
		}
	}
	return false
}

// leave checks an element, and leaves it unread.
func (b *xmlReader) leave() error {
	at, name := b.tokens.Position(), b.tokens.SharedName()
	b.open[len(b.open)-1].child = b.tokens.EndOffset()
	nodes := 1
	for depth := 1; depth > 0; {
		kind, err := b.tokens.Next()
		switch {
		case err != nil:
			return err
		case kind == xmlstream.Start:
			depth++
			nodes++
		case kind == xmlstream.End:
			depth--
		case !xmlstream.IsBlank(b.tokens.Text()):
			nodes++
		}
	}
	if b.parts == nil {
		part := newXMLReader(nil, "")
		part.leaving = b.leaving.forParts()
		b.parts = &message{text: b.data, xml: part}
	}
	made := b.arena.unreadNode(Element, nodes)
	made.node.Line, made.node.Column = int32(at.Line), int32(at.Column)
	made.inner.tag = &tag{name: name}
	made.unread = unread{message: b.parts, from: int(at.Offset), to: int(b.tokens.EndOffset()), scope: b.scope}
	b.add(&made.node)
	return b.checkCount()
}

// part reads an element that was left unread.
func (b *xmlReader) part(u *unread, n *Node) error {
	if u.scope != b.scope {
		b.tokens.Declare(u.scope.prefixes())
	}
	b.tokens.Reset(u.message.text[u.from:u.to],
		xmlstream.Position{Line: int(n.Line), Column: int(n.Column), Offset: int64(u.from)})
	b.data, b.size, b.root, b.scope, b.parts, b.into = u.message.text, u.to-u.from, nil, u.scope, nil, n
	_, err := b.document()
	return err
}

// add puts a node into the open element; outside of the root nothing is kept.
func (b *xmlReader) add(made *Node) {
	b.flush()
	if len(b.open) > 0 {
		b.items = push(b.items, made)
	}
}

func (b *xmlReader) flush() {
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
func (b *xmlReader) layout() *Node {
	same := b.layouts[string(b.text)]
	if same == nil {
		same = &Node{Kind: Layout, Text: string(b.text)}
		b.layouts[same.Text] = same
	}
	return same
}

func (b *xmlReader) start() {
	at := b.tokens.Position()
	var attributes []Attribute
	declares := false
	if read := b.tokens.Attrs(); len(read) > 0 {
		attributes = make([]Attribute, len(read))
		for i, a := range read {
			attributes[i] = Attribute{Name: a.Name, Value: b.arena.string(a.Value)}
			declares = declares || a.IsDeclaration()
		}
	}
	element := b.into
	if element != nil { // the part's own is there
		b.into, element.inner.tag.attributes = nil, attributes
	} else {
		element = b.arena.element(Element, b.tokens.SharedName(), attributes)
		element.Line, element.Column = int32(at.Line), int32(at.Column)
		b.add(element)
	}
	if len(b.open) > 0 {
		b.open[len(b.open)-1].child = b.tokens.EndOffset()
	}
	if b.root == nil {
		b.root = element
	}
	b.open = append(b.open, openElement{node: element, first: len(b.items)})
	if declares {
		b.scope = &scope{outer: b.scope, of: element, attributes: attributes}
	}
}

// end closes the element. Blanks between elements lay a document out and carry
// no content: they are kept apart from texts, for those who count every node.
func (b *xmlReader) end() {
	b.flush()
	last := len(b.open) - 1
	element, items := b.open[last].node, b.items[b.open[last].first:]
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
	b.open, b.items = b.open[:last], b.items[:b.open[last].first]
	if b.scope != nil && b.scope.of == element {
		b.scope = b.scope.outer
	}
}
