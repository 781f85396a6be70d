// Package request holds requests as files write them, with placeholders, and
// fills them in to requests that can be sent. Steps of sheets and login calls
// are both made of it.
package request

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/xmlstream"
)

// Tree is a value with placeholders: a text, a list, or fields.
type Tree struct {
	Scalar *value.Template
	Typed  bool // the scalar stood in quotes, so it is a text
	Null   bool
	Fields []Field
	Items  []*Tree
	IsList bool
	// Encode is "json" or "xml" where the tree below becomes the text of a field.
	Encode string
	// Where the tree is in its file.
	Line, Column int

	fixed *document.Node // a value that needs no filling in
}

// Field is one named part of a Tree.
type Field struct {
	Name  string
	Value *Tree
	Line  int
}

// Text returns a tree that is one text.
func Text(t *value.Template, typed bool) *Tree { return &Tree{Scalar: t, Typed: typed} }

// Get returns the field with the name, or nil.
func (t *Tree) Get(name string) *Tree {
	if t == nil {
		return nil
	}
	for _, f := range t.Fields {
		if f.Name == name {
			return f.Value
		}
	}
	return nil
}

// Set puts a value at a path of names and indexes with dots: lines.0.sku.
func (t *Tree) Set(path string, v *Tree) error {
	name, rest, deeper := strings.Cut(path, ".")
	if path == "." {
		name, rest, deeper = ".", "", false // an element's own text
	}
	var index int
	if _, err := fmt.Sscanf(name, "%d", &index); err == nil && fmt.Sprint(index) == name &&
		(t.IsList || len(t.Fields) == 0 && t.Scalar == nil) {
		t.IsList = true
		if index > len(t.Items) {
			return fmt.Errorf("%s: the list has %d items so far; the next is %d", path, len(t.Items), len(t.Items))
		}
		if index == len(t.Items) {
			t.Items = append(t.Items, &Tree{})
		}
		if !deeper {
			t.Items[index] = v
			return nil
		}
		return t.Items[index].Set(rest, v)
	}
	if t.IsList {
		return fmt.Errorf("%s: a list takes numbers here", path)
	}
	if t.Scalar != nil {
		return fmt.Errorf("%s: a value is already there", path)
	}
	if !deeper {
		for i := range t.Fields {
			if t.Fields[i].Name == name {
				t.Fields[i].Value = v
				return nil
			}
		}
		t.Fields = append(t.Fields, Field{Name: name, Value: v})
		return nil
	}
	inner := t.Get(name)
	if inner == nil {
		inner = &Tree{}
		t.Fields = append(t.Fields, Field{Name: name, Value: inner})
	}
	return inner.Set(rest, v)
}

// Joined returns the tree with one more value: a list of both, or the list and it. A nil
// tree gives the value alone.
func (t *Tree) Joined(v *Tree) *Tree {
	switch {
	case t == nil:
		return v
	case t.IsList:
		return &Tree{IsList: true, Items: append(slices.Clip(t.Items), v)}
	}
	return &Tree{IsList: true, Items: []*Tree{t, v}}
}

// With returns the tree with the fields of another, which win over those of the same name.
// Either may be nil.
func (t *Tree) With(other *Tree) *Tree {
	if t == nil || other == nil {
		return cmp.Or(t, other)
	}
	merged := *t
	merged.Fields = nil
	for _, f := range t.Fields {
		if other.Get(f.Name) == nil {
			merged.Fields = append(merged.Fields, f)
		}
	}
	merged.Fields = append(merged.Fields, other.Fields...)
	return &merged
}

// Placeholders returns the placeholders of the tree.
func (t *Tree) Placeholders() []*value.Placeholder {
	if t == nil {
		return nil
	}
	var placeholders []*value.Placeholder
	if t.Scalar != nil {
		placeholders = t.Scalar.Placeholders()
	}
	for _, f := range t.Fields {
		placeholders = append(placeholders, f.Value.Placeholders()...)
	}
	for _, item := range t.Items {
		placeholders = append(placeholders, item.Placeholders()...)
	}
	return placeholders
}

// String writes the tree in a short form, for messages.
func (t *Tree) String() string {
	switch {
	case t.Scalar != nil && t.Typed:
		return document.QuoteJSON(t.Scalar.Source)
	case t.Scalar != nil:
		return t.Scalar.Source
	case t.Null:
		return "null"
	case t.IsList:
		return fmt.Sprintf("a list of %d", len(t.Items))
	}
	names := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		names[i] = f.Name
	}
	return "an object with " + suggest.FewNames(names)
}

// Node fills the tree in.
func (t *Tree) Node(scope value.Scope) (*document.Node, error) {
	switch {
	case t.fixed != nil:
		return t.fixed, nil
	case t.Encode != "":
		inner := *t
		inner.Encode = ""
		node, err := inner.Node(scope)
		if err != nil {
			return nil, err
		}
		if t.Encode == "xml" {
			elements, err := Elements(node, "", nil)
			if err != nil {
				return nil, err
			}
			var text strings.Builder
			for _, e := range elements {
				text.WriteString(document.WriteXML(e, document.Style{}))
			}
			return &document.Node{Kind: document.Text, Text: text.String(), Secret: hasSecret(node)}, nil
		}
		return &document.Node{
			Kind: document.Text, Text: document.WriteJSON(node, document.Style{}),
			Secret: hasSecret(node),
		}, nil
	case t.Null:
		return &document.Node{Kind: document.Null}, nil
	case t.Scalar != nil:
		return t.Scalar.Node(scope, t.Typed)
	case t.IsList:
		list := document.NewList()
		for _, item := range t.Items {
			node, err := item.Node(scope)
			if err != nil {
				return nil, err
			}
			list.AppendItems(node)
		}
		return list, nil
	}
	object := document.NewObject()
	for _, f := range t.Fields {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		object.AppendMembers(document.Member{Key: f.Name, Value: node})
	}
	return object, nil
}

func hasSecret(n *document.Node) bool {
	found := false
	n.Scalars(func(n *document.Node) { found = found || n.Secret })
	return found
}

// Elements turns the fields of an object into XML elements: a field prefix:name
// takes its namespace from names, one without a prefix the given namespace; @name
// is an attribute of the element it is in; "." its own text; a list repeats
// the element; null is xsi:nil.
func Elements(object *document.Node, namespace string, names map[string]string) ([]*document.Node, error) {
	if object.Kind != document.Object {
		return nil, fmt.Errorf("XML is made of named fields, and this is %s", object.Describe())
	}
	var elements []*document.Node
	for _, m := range object.Members() {
		items := []*document.Node{m.Value}
		if m.Value.Kind == document.List {
			items = m.Value.Items()
		}
		for _, item := range items {
			element, err := newElement(m.Key, item, namespace, names)
			if err != nil {
				return nil, err
			}
			elements = append(elements, element)
		}
	}
	return elements, nil
}

func newElement(name string, content *document.Node, namespace string,
	names map[string]string,
) (*document.Node, error) {
	prefix, local, ok := strings.Cut(name, ":")
	if !ok {
		prefix, local = "", name
	}
	if !xmlstream.IsNCName(local) {
		return nil, fmt.Errorf("%q cannot be the name of an XML element", name)
	}
	if prefix != "" {
		space, known := names[prefix]
		if !known {
			return nil, fmt.Errorf("the prefix %s of %s is not declared; the key names declares prefixes", prefix, name)
		}
		namespace = space
	}
	element := document.NewElement(document.Name{Space: namespace, Local: local})
	if content.Kind == document.Element {
		element.SetItems([]*document.Node{content})
		return element, nil
	}
	if content.Kind == document.Null {
		element.AppendAttributes(document.Attribute{Name: document.Name{
			Space: document.SchemaInstance, Prefix: "xsi",
			Local: "nil",
		}, Value: "true"})
		return element, nil
	}
	if content.IsScalar() {
		if !xmlstream.IsText(content.Text) {
			return nil, fmt.Errorf("%s: it holds a character that XML cannot carry", name)
		}
		if content.Text != "" {
			element.SetItems([]*document.Node{{Kind: document.Untyped, Text: content.Text, Secret: content.Secret}})
		}
		return element, nil
	}
	// A list of one-key maps is content in exactly that order.
	fields := []*document.Node{content}
	if content.Kind == document.List {
		fields = content.Items()
	}
	for _, part := range fields {
		if part.IsScalar() {
			element.AppendItems(&document.Node{Kind: document.Untyped, Text: part.Text, Secret: part.Secret})
			continue
		}
		for _, m := range part.Members() {
			switch {
			case m.Key == ".":
				element.AppendItems(&document.Node{Kind: document.Untyped, Text: m.Value.Text, Secret: m.Value.Secret})
				continue
			case strings.HasPrefix(m.Key, "@"):
				a, err := newAttribute(m.Key[1:], m.Value, names)
				if err != nil {
					return nil, err
				}
				element.AppendAttributes(a)
				continue
			}
			children, err := Elements(document.NewObject(m), namespace, names)
			if err != nil {
				return nil, err
			}
			element.AppendItems(children...)
		}
	}
	return element, nil
}

func newAttribute(name string, v *document.Node, names map[string]string) (document.Attribute, error) {
	a := document.Attribute{Name: document.Name{Local: name}, Value: v.Text, Secret: v.Secret}
	if prefix, local, ok := strings.Cut(name, ":"); ok {
		a.Name = document.Name{Prefix: prefix, Local: local}
		switch space, known := names[prefix]; {
		case known:
			a.Name.Space = space
		case prefix == "xsi":
			a.Name.Space = document.SchemaInstance
		case prefix != "xml":
			return a, fmt.Errorf("the prefix %s of @%s is not declared; the key names declares prefixes", prefix, name)
		}
	}
	if !xmlstream.IsNCName(a.Name.Local) {
		return a, fmt.Errorf("%q cannot be the name of an XML attribute", name)
	}
	return a, nil
}

// FieldName returns the field's name.
func (f Field) FieldName() string { return f.Name }

// Fixed returns a tree that is a value already.
func Fixed(node *document.Node) *Tree { return &Tree{fixed: node} }

// Written returns the tree as a file would have it: a value that is known already becomes
// the text, list or fields that it is.
func (t *Tree) Written() *Tree {
	if t.fixed == nil {
		return t
	}
	out := &Tree{}
	switch v := t.fixed; v.Kind {
	case document.Null:
		out.Null = true
	case document.List:
		out.IsList = true
		for _, item := range v.Items() {
			out.Items = append(out.Items, Fixed(item))
		}
	case document.Object:
		for _, m := range v.Members() {
			out.Fields = append(out.Fields, Field{Name: m.Key, Value: Fixed(m.Value)})
		}
	default:
		out.Scalar, out.Typed = value.Literal(v.Text), v.Kind == document.Text
	}
	return out
}

// Known returns the tree as far as it is known without filling anything in:
// what holds a placeholder is given as the unknown node.
func (t *Tree) Known(unknown *document.Node) *document.Node {
	switch {
	case t.fixed != nil:
		return t.fixed
	case t.Encode != "" || t.Scalar != nil && !t.Scalar.IsLiteral():
		return unknown
	case t.Null:
		return &document.Node{Kind: document.Null}
	case t.Scalar != nil && t.Typed:
		return document.NewText(t.Scalar.LiteralText())
	case t.Scalar != nil:
		return document.NewUntyped(t.Scalar.LiteralText())
	case t.IsList:
		list := document.NewList()
		for _, item := range t.Items {
			list.AppendItems(item.Known(unknown))
		}
		return list
	}
	object := document.NewObject()
	for _, f := range t.Fields {
		object.AppendMembers(document.Member{Key: f.Name, Value: f.Value.Known(unknown)})
	}
	return object
}
