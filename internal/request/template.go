package request

import (
	"errors"
	"fmt"

	"testbench/internal/document"
	"testbench/internal/value"
)

// EachName is what an element is known as where nobody names it.
const EachName = "each"

// forEach is the key that has an item of a list, or an element of XML, stand once for each element.
const forEach = "for each"

// Template is what the body of an operation is made of. It is a tree, in which a part whose value is missing
// is left out and an item with `for each:` stands once for each element of a list; or it is a text in JSON or XML,
// in which values are escaped for where they are.
type Template struct {
	Tree   *Tree
	Text   *value.Template // nil for a tree
	Format document.Format // of the text
}

// Placeholders are those of the template.
func (t *Template) Placeholders() []*value.Placeholder {
	if t.Text != nil {
		return t.Text.Placeholders()
	}
	return t.Tree.Placeholders()
}

// Elements are the names that elements of lists are known as in the template.
func (t *Template) Elements() []string {
	var names []string
	if t.Tree != nil {
		t.Tree.elements(&names)
	}
	return names
}

func (t *Tree) elements(names *[]string) {
	for _, f := range t.Fields {
		if f.Name == forEach {
			name, _, _ := eachOf(f.Value)
			*names = append(*names, name)
		}
		f.Value.elements(names)
	}
	for _, item := range t.Items {
		item.elements(names)
	}
}

// Node makes the body.
func (t *Template) Node(scope value.Scope) (*document.Node, error) {
	if t.Text == nil {
		node, err := t.Tree.filled(scope)
		if node == nil && err == nil {
			node = document.NewObject()
		}
		return node, err
	}
	text, err := t.Text.Text(scope, value.Raw)
	if err != nil {
		return nil, err
	}
	node, err := document.ReadAs(t.Format, "", []byte(text.Sent))
	if err != nil {
		return nil, fmt.Errorf("filled in, it is not well-formed: %w", err)
	}
	if text.Secret {
		node.Scalars(func(n *document.Node) { n.Secret = true })
	}
	return node, nil
}

// filled is Node of a tree in a template: nil where all of it is left out.
func (t *Tree) filled(scope value.Scope) (*document.Node, error) {
	switch {
	case t.Scalar != nil && t.Scalar.Whole() != nil:
		node, err := t.Scalar.Node(scope, t.Typed)
		if errors.Is(err, value.ErrNothing) {
			return nil, nil
		}
		return node, err
	case t.IsList:
		list := document.NewList()
		for _, item := range t.Items {
			if err := item.fillItems(scope, list); err != nil {
				return nil, err
			}
		}
		if len(t.Items) > 0 && len(list.Items()) == 0 {
			return nil, nil
		}
		return list, nil
	case t.Encode != "" || t.Scalar != nil || t.Null || t.fixed != nil:
		return t.Node(scope)
	}
	object := document.NewObject()
	for _, f := range t.Fields {
		node, err := f.Value.filled(scope)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		if node != nil {
			object.AppendMembers(document.Member{Key: f.Name, Value: node})
		}
	}
	if len(t.Fields) > 0 && len(object.Members()) == 0 {
		return nil, nil
	}
	return object, nil
}

// fillItems adds an item of a list: once, or once for each element of another list.
func (t *Tree) fillItems(scope value.Scope, list *document.Node) error {
	each := t.Get(forEach)
	if each == nil {
		node, err := t.filled(scope)
		if node != nil {
			list.AppendItems(node)
		}
		return err
	}
	name, from, err := eachOf(each)
	if err != nil {
		return err
	}
	elements, err := from.filled(scope)
	if err != nil || elements == nil {
		return err
	}
	items := elements.Items()
	if elements.Kind != document.List {
		items = []*document.Node{elements}
	}
	one := &Tree{}
	for _, f := range t.Fields {
		if f.Name != forEach {
			one.Fields = append(one.Fields, f)
		}
	}
	if own := one.Get("."); own != nil && len(one.Fields) == 1 {
		one = own // it is no more than its own value
	}
	for _, item := range items {
		node, err := one.filled(elementScope{scope, name, item})
		if err != nil {
			return err
		}
		if node != nil {
			list.AppendItems(node)
		}
	}
	return nil
}

// eachOf reads ${list}, or a name with ${list} below it.
func eachOf(t *Tree) (name string, list *Tree, err error) {
	switch {
	case t.Scalar != nil && t.Scalar.Whole() != nil:
		return EachName, t, nil
	case len(t.Fields) == 1:
		return t.Fields[0].Name, t.Fields[0].Value, nil
	}
	return "", nil, errors.New("write for each: ${fields.lots}, or for each: and below it lot: ${fields.lots}")
}

// elementScope knows one element beside all else.
type elementScope struct {
	value.Scope
	name string
	node *document.Node
}

func (s elementScope) Lookup(space, name string) (*document.Node, error) {
	if space == "" && name == s.name {
		return s.node, nil
	}
	return s.Scope.Lookup(space, name)
}
