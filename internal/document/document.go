// Package document holds one tree for everything that is sent and received:
// JSON, XML, forms and plain text are read into it and written from it, so
// that paths, rules and templates need to know only one shape. It judges
// well-formedness, not contracts, and knows nothing of HTTP or SOAP.
package document

import (
	"strings"

	"testbench/internal/excerpt"
	"testbench/internal/xmlstream"
)

// Kind says what a Node is. The difference between Text and Untyped decides
// equality: a JSON string is a text and never equals a number, while XML text,
// form values, header values and CSV cells carry no type of their own.
type Kind uint8

// The kinds of a node.
const (
	Null    Kind = iota
	Boolean      // Text is "true" or "false"
	Number       // Text is the number as its source wrote it
	Text         // a text that its source says is a text
	Untyped      // a text whose source does not say what it is
	List
	Object
	Element // an XML element
	// What stands in an element beside its content:
	Layout      // blanks between elements
	Comment     // Text
	Instruction // a processing instruction: Name and Text
)

var kindNames = [...]string{"null", "boolean", "number", "text", "text", "list", "object", "element", "blanks", "comment", "processing instruction"}

func (k Kind) String() string { return kindNames[k] }

// Name is an XML name: namespace, prefix as written, local part.
type Name = xmlstream.Name

// Attribute is an XML attribute; namespace declarations are kept among them
// (prefix xmlns, or local name xmlns), for a written tree must keep its scope.
type Attribute struct {
	Name   Name
	Value  string
	Secret bool
}

// IsDeclaration says whether the attribute declares a namespace.
func (a Attribute) IsDeclaration() bool {
	return a.Name.Prefix == "xmlns" || a.Name.Prefix == "" && a.Name.Local == "xmlns"
}

// Member is one name with its value in an Object, in the order as written.
type Member struct {
	Key   string
	Value *Node
}

// Node is one node of the tree. Which fields are used depends on Kind.
type Node struct {
	Kind       Kind
	Secret     bool        // comes from a secret; written only masked
	FoldCase   bool        // Object: keys are found without regard to case (header fields)
	Text       string      // Boolean, Number, Text, Untyped
	Name       Name        // Element
	Attributes []Attribute // Element
	Members    []Member    // Object
	// Items are a List's items, or an Element's child elements and Untyped texts
	// in order, with Layout, Comment and Instruction among them.
	Items []*Node
	// Line and Column tell where an Element was read, from 1; 0 for others.
	Line, Column int32
}

// NewText returns a typed text.
func NewText(s string) *Node { return &Node{Kind: Text, Text: s} }

// NewUntyped returns a text without a type of its own.
func NewUntyped(s string) *Node { return &Node{Kind: Untyped, Text: s} }

// NewNumber returns a number with the given source text.
func NewNumber(s string) *Node { return &Node{Kind: Number, Text: s} }

// NewBoolean returns a boolean.
func NewBoolean(b bool) *Node {
	if b {
		return &Node{Kind: Boolean, Text: "true"}
	}
	return &Node{Kind: Boolean, Text: "false"}
}

// NewList returns a list of the items.
func NewList(items ...*Node) *Node { return &Node{Kind: List, Items: items} }

// NewObject returns an empty object.
func NewObject() *Node { return &Node{Kind: Object} }

// Set puts value under key, in place of what was there.
func (n *Node) Set(key string, value *Node) *Node {
	for i := range n.Members {
		if n.Members[i].Key == key {
			n.Members[i].Value = value
			return n
		}
	}
	n.Members = append(n.Members, Member{key, value})
	return n
}

// Get returns the value under key in an object, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for i := range n.Members {
		if n.Members[i].Key == key || n.FoldCase && strings.EqualFold(n.Members[i].Key, key) {
			return n.Members[i].Value
		}
	}
	return nil
}

// IsScalar says whether the node is a single value.
func (n *Node) IsScalar() bool { return n.Kind <= Untyped }

// Children returns the child elements of an element, without the text between.
func (n *Node) Children() []*Node {
	var children []*Node
	for _, item := range n.Items {
		if item.Kind == Element {
			children = append(children, item)
		}
	}
	return children
}

// Child returns the first child element with the local name, or nil.
func (n *Node) Child(local string) *Node {
	if n == nil {
		return nil
	}
	for _, item := range n.Items {
		if item.Kind == Element && item.Name.Local == local {
			return item
		}
	}
	return nil
}

// Attribute returns the value of the attribute with the local name.
func (n *Node) Attribute(local string) (string, bool) {
	for _, a := range n.Attributes {
		if a.Name.Local == local && !a.IsDeclaration() {
			return a.Value, true
		}
	}
	return "", false
}

// OwnText returns the text directly inside an element, or a scalar's text.
func (n *Node) OwnText() string {
	if n == nil {
		return ""
	}
	if n.Kind != Element {
		return n.Text
	}
	if len(n.Items) == 1 && n.Items[0].Kind == Untyped {
		return n.Items[0].Text
	}
	var text strings.Builder
	for _, item := range n.Items {
		if item.Kind == Untyped {
			text.WriteString(item.Text)
		}
	}
	return text.String()
}

// IsNil says whether an element carries xsi:nil="true" (XML Schema 1.0 Part 1, 2.6.2).
func (n *Node) IsNil() bool {
	for _, a := range n.Attributes {
		if a.Name.Space == SchemaInstance && a.Name.Local == "nil" {
			return a.Value == "true" || a.Value == "1"
		}
	}
	return false
}

// Value returns the node as rules see it: an element without child elements is
// its own text, one with xsi:nil is null; everything else is itself.
func (n *Node) Value() *Node {
	if n == nil || n.Kind != Element {
		return n
	}
	if n.IsNil() {
		return &Node{Kind: Null}
	}
	for _, item := range n.Items {
		if item.Kind == Element {
			return n
		}
	}
	return &Node{Kind: Untyped, Text: n.OwnText(), Secret: n.Secret}
}

// Names lists what can be asked of the node: keys, or child elements and
// attributes, each once and in order.
func (n *Node) Names() []string {
	var names []string
	seen := map[string]bool{}
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	switch n.Kind {
	case Object:
		for _, m := range n.Members {
			add(m.Key)
		}
	case Element:
		for _, child := range n.Children() {
			add(child.Name.Local)
		}
		for _, a := range n.Attributes {
			if !a.IsDeclaration() {
				add(a.Name.Local)
			}
		}
	}
	return names
}

// Describe says in a few words what the node is, for messages: `the text "A"`,
// `a list of 3`, `an object with lot, grade`.
func (n *Node) Describe() string {
	if n == nil {
		return "nothing"
	}
	v := n.Value()
	if v.Secret && v.IsScalar() && v.Kind != Null {
		return "a secret value"
	}
	switch v.Kind {
	case Null:
		return "null"
	case Boolean, Number:
		return v.Text
	case Text, Untyped:
		return excerpt.Quote(v.Text)
	case List:
		if len(v.Items) == 0 {
			return "an empty list"
		}
		return "a list of " + itoa(len(v.Items))
	case Object:
		if len(v.Members) == 0 {
			return "an empty object"
		}
		return "an object with " + FewNames(v.Names())
	default:
		return "an element with " + FewNames(v.Names())
	}
}

// FewNames joins names for a message, the first eight of them.
func FewNames(names []string) string {
	const most = 8
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}

// MarkSecret marks the node and all below it as secret.
func (n *Node) MarkSecret() *Node {
	n.Secret = true
	for _, m := range n.Members {
		m.Value.MarkSecret()
	}
	for _, item := range n.Items {
		item.MarkSecret()
	}
	return n
}

// Scalars calls visit for every single value of the tree.
func (n *Node) Scalars(visit func(*Node)) {
	if n.IsScalar() {
		visit(n)
	}
	for _, m := range n.Members {
		m.Value.Scalars(visit)
	}
	for _, item := range n.Items {
		item.Scalars(visit)
	}
}
