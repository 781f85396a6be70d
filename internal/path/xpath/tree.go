package xpath

import (
	"strings"

	"testbench/internal/document"
)

// Tree is a document prepared for evaluation: every node with its number in
// document order, its parent, and where what is inside of it ends. It is made
// once for a document, in time and memory proportional to its nodes, and not
// changed afterwards.
type Tree struct {
	nodes []node
	// declared are the prefixes that the document declares, each as it is met first.
	declared map[string]string
}

type nodeKind uint8

const (
	rootNode nodeKind = iota
	elementNode
	attributeNode
	textNode
	commentNode
	instructionNode
)

type node struct {
	source    *document.Node // of an attribute, its element
	parent    int32
	end       int32 // the number after the last node inside
	attribute int32 // of an attribute, its index
	kind      nodeKind
}

// NewTree prepares the document whose root element is given.
func NewTree(root *document.Node) *Tree {
	t := &Tree{declared: map[string]string{}}
	t.nodes = append(make([]node, 0, 1+size(root)), node{parent: -1})
	t.add(root, 0)
	t.nodes[0].end = int32(len(t.nodes))
	return t
}

// size is how many nodes there are from one on. They are counted first: a list that grows to
// millions leaves five times as much memory behind.
func size(source *document.Node) int {
	n := 1 + len(source.Attributes())
	for _, item := range source.Items() {
		n += size(item)
	}
	return n
}

func (t *Tree) add(source *document.Node, parent int32) {
	id := int32(len(t.nodes))
	n := node{source: source, parent: parent, kind: textNode}
	switch source.Kind {
	case document.Comment:
		n.kind = commentNode
	case document.Instruction:
		n.kind = instructionNode
	case document.Element:
		n.kind = elementNode
	}
	t.nodes = append(t.nodes, n)
	if n.kind == elementNode {
		for i, a := range source.Attributes() {
			if a.IsDeclaration() {
				if _, met := t.declared[a.Name.Local]; !met && a.Name.Prefix == "xmlns" {
					t.declared[a.Name.Local] = a.Value
				}
				continue
			}
			t.nodes = append(t.nodes,
				node{
					source: source, parent: id, kind: attributeNode, attribute: int32(i),
					end: int32(len(t.nodes)) + 1,
				})
		}
		for _, item := range source.Items() {
			t.add(item, id)
		}
	}
	t.nodes[id].end = int32(len(t.nodes))
}

// firstChild gives the number of the first child, or the node's end.
func (t *Tree) firstChild(id int32) int32 {
	child := id + 1
	for child < t.nodes[id].end && t.nodes[child].kind == attributeNode {
		child++
	}
	return child
}

// text is a node's string-value (section 5).
func (t *Tree) text(id int32) string {
	n := &t.nodes[id]
	switch n.kind {
	case attributeNode:
		return n.source.Attributes()[n.attribute].Value
	case textNode, commentNode, instructionNode:
		return n.source.Text
	}
	first, several := "", false
	var all strings.Builder
	for i := id + 1; i < n.end; i++ {
		if t.nodes[i].kind != textNode {
			continue
		}
		switch text := t.nodes[i].source.Text; {
		case several:
			all.WriteString(text)
		case first == "":
			first = text
		default:
			several = true
			all.WriteString(first)
			all.WriteString(text)
		}
	}
	if several {
		return all.String()
	}
	return first
}

// name is a node's expanded name; ok is false for nodes without one.
func (t *Tree) name(id int32) (name document.Name, ok bool) {
	n := &t.nodes[id]
	switch n.kind {
	case elementNode, instructionNode:
		return n.source.Name(), true
	case attributeNode:
		return n.source.Attributes()[n.attribute].Name, true
	}
	return document.Name{}, false
}

// value gives a node as package document has it.
func (t *Tree) value(id int32) *document.Node {
	n := &t.nodes[id]
	switch n.kind {
	case rootNode:
		return t.nodes[1].source
	case elementNode:
		return n.source
	case attributeNode:
		a := n.source.Attributes()[n.attribute]
		return &document.Node{Kind: document.Untyped, Text: a.Value, Secret: a.Secret || n.source.Secret}
	}
	return &document.Node{Kind: document.Untyped, Text: n.source.Text, Secret: n.source.Secret}
}

// Declared tells what namespace the document declares first for a prefix.
func (t *Tree) Declared(prefix string) (space string, known bool) {
	space, known = t.declared[prefix]
	return space, known
}
