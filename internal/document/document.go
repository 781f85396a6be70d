// Package document holds one tree for everything that is sent and received:
// JSON, XML, forms and plain text are read into it and written from it, so
// that paths, rules and templates need to know only one shape. It judges
// well-formedness, not contracts, and knows nothing of HTTP or SOAP.
package document

import (
	"slices"
	"strings"

	"testbench/internal/excerpt"
	"testbench/internal/suggest"
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
	// What is in an element beside its content:
	Layout      // blanks between elements
	Comment     // Text
	Instruction // a processing instruction: Name and Text
)

var kindNames = [...]string{
	"null", "boolean", "number", "text", "text", "list", "object", "element", "spaces",
	"comment", "processing instruction",
}

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

// Node is one node of the tree. Most nodes of a large answer are single values:
// what lists, objects and elements alone have is kept apart. A Node is not
// copied as a value, for the copy would share it: see Copy.
type Node struct {
	_        noCopy
	Kind     Kind
	Secret   bool // comes from a secret; written only masked
	FoldCase bool // Object: keys are found without regard to case (header fields)
	// Line and Column tell where an Element was read, from 1; 0 for others.
	Line, Column int32
	Text         string // Boolean, Number, Text, Untyped
	inner        *inner // nil until there is something in it
}

// inner is what is in a node that is not a single value.
type inner struct {
	items   []*Node
	members []Member
	tag     *tag    // nil for all but an Element and an Instruction
	unread  *unread // what is still to be read into it; nil for nothing
}

// content is what is in the node, read; nil where there is nothing.
func (n *Node) content() *inner {
	if n.inner != nil && n.inner.unread != nil {
		n.inner.unread.read(n)
	}
	return n.inner
}

type tag struct {
	name       *Name // elements of the same name share it; not written to
	attributes []Attribute
}

// noCopy makes go vet refuse a copy of the value.
type noCopy struct{}

func (*noCopy) Lock()   {}
func (*noCopy) Unlock() {}

// Items are a List's items, or an Element's child elements and Untyped texts
// in order, with Layout, Comment and Instruction among them. It may be written
// to; nil if there are none, and for other kinds.
func (n *Node) Items() []*Node {
	if in := n.content(); in != nil {
		return in.items
	}
	return nil
}

// Members are those of an Object. It may be written to; nil if there are none, and for other kinds.
func (n *Node) Members() []Member {
	if in := n.content(); in != nil {
		return in.members
	}
	return nil
}

// Name is that of an Element or an Instruction, and empty for other kinds.
func (n *Node) Name() Name {
	if n.inner == nil || n.inner.tag == nil {
		return Name{}
	}
	return *n.inner.tag.name
}

// Attributes are those of an Element. It may be written to; nil if there are none, and for other kinds.
func (n *Node) Attributes() []Attribute {
	if in := n.content(); in != nil && in.tag != nil {
		return in.tag.attributes
	}
	return nil
}

func (n *Node) inside() *inner {
	if n.inner == nil {
		n.inner = &inner{}
	}
	return n.content()
}

func (n *Node) tagged() *tag {
	in := n.inside()
	if in.tag == nil {
		in.tag = &tag{name: &Name{}}
	}
	return in.tag
}

// SetItems puts the items in place of those that were there.
func (n *Node) SetItems(items []*Node) { n.inside().items = items }

// SetMembers puts the members in place of those that were there.
func (n *Node) SetMembers(members []Member) { n.inside().members = members }

// SetName gives an element its name.
func (n *Node) SetName(name Name) { n.tagged().name = &name }

// SetAttributes puts the attributes in place of those that were there.
func (n *Node) SetAttributes(attributes []Attribute) { n.tagged().attributes = attributes }

// AppendItems adds the items after those that are there.
func (n *Node) AppendItems(items ...*Node) {
	in := n.inside()
	in.items = append(in.items, items...)
}

// AppendMembers adds the members after those that are there, whatever their keys are.
func (n *Node) AppendMembers(members ...Member) {
	in := n.inside()
	in.members = append(in.members, members...)
}

// AppendAttributes adds the attributes after those that are there.
func (n *Node) AppendAttributes(attributes ...Attribute) {
	t := n.tagged()
	t.attributes = append(t.attributes, attributes...)
}

// Copy returns a node of its own with the same children: one that is added or
// taken away in the one is not in the other.
func (n *Node) Copy() *Node {
	made := &Node{}
	made.Become(n)
	return made
}

// Become makes the node what the other is, as Copy does.
func (n *Node) Become(other *Node) {
	n.Kind, n.Secret, n.FoldCase, n.Line, n.Column, n.Text, n.inner = other.Kind, other.Secret, other.FoldCase,
		other.Line, other.Column, other.Text, nil
	in := other.content()
	if in == nil {
		return
	}
	n.inner = &inner{items: slices.Clone(in.items), members: slices.Clone(in.members)}
	if t := in.tag; t != nil {
		n.inner.tag = &tag{t.name, slices.Clone(t.attributes)}
	}
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
func NewList(items ...*Node) *Node { return &Node{Kind: List, inner: &inner{items: items}} }

// NewElement returns an element without attributes.
func NewElement(name Name, items ...*Node) *Node {
	return &Node{Kind: Element, inner: &inner{items: items, tag: &tag{name: &name}}}
}

// NewObject returns an object with the members.
func NewObject(members ...Member) *Node {
	if len(members) == 0 {
		return &Node{Kind: Object}
	}
	return &Node{Kind: Object, inner: &inner{members: members}}
}

// Set puts value under key, in place of what was there.
func (n *Node) Set(key string, value *Node) *Node {
	members := n.Members()
	for i := range members {
		if members[i].Key == key {
			members[i].Value = value
			return n
		}
	}
	n.AppendMembers(Member{key, value})
	return n
}

// Get returns the value under key in an object, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	members := n.Members()
	for i := range members {
		if members[i].Key == key || n.FoldCase && strings.EqualFold(members[i].Key, key) {
			return members[i].Value
		}
	}
	return nil
}

// IsScalar says whether the node is a single value.
func (n *Node) IsScalar() bool { return n.Kind <= Untyped }

// Children returns the child elements of an element, without the text between.
func (n *Node) Children() []*Node {
	var children []*Node
	for _, item := range n.Items() {
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
	for _, item := range n.Items() {
		if item.Kind == Element && item.Name().Local == local {
			return item
		}
	}
	return nil
}

// Attribute returns the value of the attribute with the local name.
func (n *Node) Attribute(local string) (string, bool) {
	for _, a := range n.Attributes() {
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
	if len(n.Items()) == 1 && n.Items()[0].Kind == Untyped {
		return n.Items()[0].Text
	}
	var text strings.Builder
	for _, item := range n.Items() {
		if item.Kind == Untyped {
			text.WriteString(item.Text)
		}
	}
	return text.String()
}

// IsNil says whether an element carries xsi:nil="true" (XML Schema 1.0 Part 1, 2.6.2).
func (n *Node) IsNil() bool {
	for _, a := range n.Attributes() {
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
	for _, item := range n.Items() {
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
		for _, m := range n.Members() {
			add(m.Key)
		}
	case Element:
		for _, child := range n.Children() {
			add(child.Name().Local)
		}
		for _, a := range n.Attributes() {
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
		return "missing"
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
		if len(v.Items()) == 0 {
			return "an empty list"
		}
		return "a list of " + itoa(len(v.Items()))
	case Object:
		if len(v.Members()) == 0 {
			return "an empty object"
		}
		return "an object with " + suggest.FewNames(v.Names())
	default:
		return "an element with " + suggest.FewNames(v.Names())
	}
}

// MarkSecret marks the node and all below it as secret.
func (n *Node) MarkSecret() *Node {
	n.Secret = true
	for _, m := range n.Members() {
		m.Value.MarkSecret()
	}
	for _, item := range n.Items() {
		item.MarkSecret()
	}
	return n
}

// Scalars calls visit for every single value of the tree.
func (n *Node) Scalars(visit func(*Node)) {
	if n.IsScalar() {
		visit(n)
	}
	for _, m := range n.Members() {
		m.Value.Scalars(visit)
	}
	for _, item := range n.Items() {
		item.Scalars(visit)
	}
}
