package document

import (
	"slices"
	"strings"
)

// Undotted puts members below one another together again where their names, joined by
// dots, are one of the names: page.size is a field before it is the size of a page. A tree
// without such a member is returned as it is.
func (n *Node) Undotted(names []string) *Node {
	for _, name := range names {
		first, rest, isDotted := strings.Cut(name, ".")
		if !isDotted || slices.Contains(names, first) || n.Get(name) != nil {
			continue
		}
		if v, left := n.takeOut(first, rest); v != nil {
			left.AppendMembers(Member{Key: name, Value: v})
			n = left
		}
	}
	return n
}

// takeOut gives what is at a path of names below a tree, and the tree without it; nil where
// nothing is there.
func (n *Node) takeOut(first, rest string) (v, left *Node) {
	below := n.Get(first)
	if below == nil {
		return nil, nil
	}
	left = &Node{Kind: Object, Secret: n.Secret}
	for _, m := range n.Members() {
		if m.Key != first {
			left.AppendMembers(m)
		}
	}
	if rest == "" {
		return below, left
	}
	if below.Kind != Object {
		return nil, nil
	}
	next, after, _ := strings.Cut(rest, ".")
	v, inner := below.takeOut(next, after)
	if v == nil {
		return nil, nil
	}
	if len(inner.Members()) > 0 {
		left.AppendMembers(Member{Key: first, Value: inner})
	}
	return v, left
}
