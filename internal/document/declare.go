package document

import (
	"fmt"
	"maps"
	"slices"
)

// Declare writes the namespaces of an element and all below it as
// declarations: the root's own as the default, others by prefix where needed.
func Declare(root *Node) {
	declare(root, "", map[string]string{})
}

func declare(n *Node, inherited string, prefixes map[string]string) {
	if n.Kind != Element {
		return
	}
	for _, a := range n.Attributes() {
		// What was read from text brings its declarations along.
		if a.IsDeclaration() && a.Name.Prefix == "" {
			inherited = a.Value
		} else if a.IsDeclaration() {
			prefixes = withPrefix(prefixes, a.Name.Local, a.Value)
		}
	}
	if n.Name().Prefix == "" && n.Name().Space != inherited {
		n.SetAttributes(append([]Attribute{{Name: Name{Local: "xmlns"}, Value: n.Name().Space}}, n.Attributes()...))
		inherited = n.Name().Space
	}
	scope := prefixes
	if p := n.Name().Prefix; p != "" && p != "xml" && scope[p] != n.Name().Space {
		scope = withPrefix(scope, p, n.Name().Space)
		n.SetAttributes(append([]Attribute{{Name: Name{Prefix: "xmlns", Local: p}, Value: n.Name().Space}},
			n.Attributes()...))
	}
	for i := range n.Attributes() {
		if a := &n.Attributes()[i]; a.Name.Prefix == "" && a.Name.Space != "" && !a.IsDeclaration() {
			a.Name.Prefix = prefixFor(scope, a.Name.Space) // the default namespace is not one of attributes
		}
	}
	for _, a := range n.Attributes() {
		if a.Name.Prefix == "" || a.IsDeclaration() || a.Name.Prefix == "xml" || scope[a.Name.Prefix] == a.Name.Space {
			continue
		}
		scope = withPrefix(scope, a.Name.Prefix, a.Name.Space)
		n.AppendAttributes(Attribute{Name: Name{Prefix: "xmlns", Local: a.Name.Prefix}, Value: a.Name.Space})
	}
	for _, item := range n.Items() {
		declare(item, inherited, scope)
	}
}

// prefixFor is a prefix that a namespace has, else one that none has.
func prefixFor(scope map[string]string, space string) string {
	if space == xmlNamespace {
		return "xml" // no other prefix may be bound to it (Namespaces in XML 1.0, section 3)
	}
	for _, prefix := range slices.Sorted(maps.Keys(scope)) {
		if scope[prefix] == space && prefix != "" {
			return prefix
		}
	}
	for i := 1; ; i++ {
		if prefix := fmt.Sprintf("a%d", i); scope[prefix] == "" {
			return prefix
		}
	}
}

// withPrefix returns the prefixes with one more; the given map stays as it is.
func withPrefix(prefixes map[string]string, prefix, space string) map[string]string {
	copied := maps.Clone(prefixes)
	copied[prefix] = space
	return copied
}
