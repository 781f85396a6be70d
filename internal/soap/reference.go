package soap

import (
	"slices"
	"strings"

	"testbench/internal/document"
)

// Encoding12 is the namespace of the encoding of SOAP 1.2 (Part 2, section 3).
const Encoding12 = "http://www.w3.org/2003/05/soap-encoding"

// mostCopies bounds what references may multiply to.
const mostCopies = 100_000

// resolve gives the payload with the values that are beside it, and are referred to from inside it, in their
// places; the message stays as it is (SOAP 1.1, 5.2.1: multi-reference values; SOAP 1.2 Part 2, 3.1.5). A value
// that holds itself is left a reference there.
func resolve(body *document.Node) []*document.Node {
	children := body.Children()
	if len(children) < 2 {
		return children
	}
	r := resolver{values: map[string]*document.Node{}, open: map[string]bool{}}
	for _, child := range children[1:] {
		if id, ok := plainAttribute(child, "id"); ok {
			r.values[id] = child
		}
	}
	if len(r.values) > 0 {
		children[0] = children[0].Copy()
		r.inside(children[0])
	}
	return children
}

type resolver struct {
	values map[string]*document.Node
	open   map[string]bool
	copies int
}

// plainAttribute finds an attribute without a namespace, or one of SOAP 1.2's encoding.
func plainAttribute(n *document.Node, local string) (string, bool) {
	for _, a := range n.Attributes() {
		if a.Name.Local == local && (a.Name.Space == "" || a.Name.Space == Encoding12) && !a.IsDeclaration() {
			return a.Value, true
		}
	}
	return "", false
}

// refersTo gives the id that an element refers to.
func refersTo(n *document.Node) (string, bool) {
	if href, ok := plainAttribute(n, "href"); ok && strings.HasPrefix(href, "#") {
		return href[1:], true
	}
	for _, a := range n.Attributes() {
		if a.Name.Local == "ref" && a.Name.Space == Encoding12 {
			return a.Value, true
		}
	}
	return "", false
}

// inside works on a copy of an element and copies what it changes.
func (r *resolver) inside(n *document.Node) {
	for i, item := range n.Items() {
		if item.Kind != document.Element {
			continue
		}
		id, refers := refersTo(item)
		value := r.values[id]
		if !refers || value == nil {
			copied := item.Copy()
			n.Items()[i] = copied
			r.inside(copied)
			continue
		}
		if r.open[id] || r.copies >= mostCopies {
			continue
		}
		r.copies++
		// The accessor keeps its name; the value lends its type and content.
		placed := document.NewElement(item.Name(), slices.Clone(value.Items())...)
		placed.Line, placed.Column = value.Line, value.Column
		for _, a := range value.Attributes() {
			if a.Name.Local != "id" {
				placed.AppendAttributes(a)
			}
		}
		n.Items()[i] = placed
		r.open[id] = true
		r.inside(placed)
		delete(r.open, id)
	}
}
