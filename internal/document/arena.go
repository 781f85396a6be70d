package document

import (
	"slices"
	"strings"
)

// arena is what trees are made of. Large answers have millions of nodes, so nodes, lists and
// texts are made many at a time and taken one by one.
type arena struct {
	made    int // nodes so far
	most    int // how many are made at a time, for a document of the size
	nodes   []Node
	inners  []inner
	tagged  []taggedNode
	unread  []unreadPiece
	lists   []*Node
	members []Member
	texts   strings.Builder // what was taken from it stays where it is
	names   map[string]string
}

// The sizes of the arena; what is kept of a tree keeps no more than these alive.
const (
	nodesAtOnce = 64
	itemsAtOnce = 256
	bytesAtOnce = 4096
)

// bytesToANode is how many bytes of a small document there are to a node of the arena: it has a few times as many.
const bytesToANode = 48

// newArena returns one for a document of so many bytes: a small one takes little more than it needs.
func newArena(size int) arena {
	a := arena{most: min(max(size/bytesToANode, 4), nodesAtOnce)}
	if a.most == nodesAtOnce {
		a.names = map[string]string{}
	}
	return a
}

func (a *arena) node(kind Kind) *Node {
	a.made++
	if len(a.nodes) == 0 {
		a.nodes = make([]Node, a.most)
	}
	made := &a.nodes[0]
	a.nodes = a.nodes[1:]
	made.Kind = kind
	return made
}

func (a *arena) scalar(kind Kind, text string) *Node {
	made := a.node(kind)
	made.Text = text
	return made
}

// taggedNode is an element with what is in it, in one piece.
type taggedNode struct {
	node  Node
	inner inner
	tag   tag
}

// unreadPiece is a list, an object or an element that is left unread, in one piece.
type unreadPiece struct {
	node   Node
	inner  inner
	unread unread
}

// unreadNode makes a node that is left unread; it is counted as so many.
func (a *arena) unreadNode(kind Kind, nodes int) *unreadPiece {
	a.made += nodes
	if len(a.unread) == 0 {
		a.unread = make([]unreadPiece, a.most)
	}
	made := &a.unread[0]
	a.unread = a.unread[1:]
	made.inner.unread = &made.unread
	made.node.Kind, made.node.inner = kind, &made.inner
	return made
}

// element makes an element or an instruction.
func (a *arena) element(kind Kind, name *Name, attributes []Attribute) *Node {
	a.made++
	if len(a.tagged) == 0 {
		a.tagged = make([]taggedNode, a.most)
	}
	made := &a.tagged[0]
	a.tagged = a.tagged[1:]
	made.tag = tag{name, attributes}
	made.inner.tag = &made.tag
	made.node.Kind, made.node.inner = kind, &made.inner
	return &made.node
}

// fill puts copies of the items and members into the node, if there are any.
func (a *arena) fill(n *Node, items []*Node, members []Member) {
	if len(items) == 0 && len(members) == 0 {
		return
	}
	if n.inner == nil {
		if len(a.inners) == 0 {
			a.inners = make([]inner, a.most)
		}
		n.inner, a.inners = &a.inners[0], a.inners[1:]
	}
	n.inner.items = take(&a.lists, items, a.most*itemsAtOnce/nodesAtOnce)
	n.inner.members = take(&a.members, members, a.most)
}

// push is append for a list that may grow to millions: append leaves five times as much behind.
func push(list []*Node, item *Node) []*Node {
	if len(list) == cap(list) {
		list = slices.Grow(list, max(len(list), 16))
	}
	return append(list, item)
}

func take[T any](from *[]T, items []T, most int) []T {
	if len(items) == 0 {
		return nil
	}
	if len(items) > most/4 {
		return slices.Clone(items)
	}
	if len(items) > len(*from) {
		*from = make([]T, most)
	}
	made := (*from)[:len(items):len(items)]
	*from = (*from)[len(items):]
	copy(made, items)
	return made
}

func (a *arena) string(text []byte) string {
	most := a.most * bytesAtOnce / nodesAtOnce
	if len(text) > most/4 {
		return string(text)
	}
	if a.texts.Cap()-a.texts.Len() < len(text) {
		a.texts.Reset()
		a.texts.Grow(most)
	}
	from := a.texts.Len()
	a.texts.Write(text)
	return a.texts.String()[from:]
}

// name is a text that comes again and again in a document of some size: a key.
func (a *arena) name(text []byte) string {
	if a.names == nil {
		return a.string(text)
	}
	if same, ok := a.names[string(text)]; ok {
		return same
	}
	made := string(text)
	if len(a.names) < mostNames {
		a.names[made] = made
	}
	return made
}

// mostNames bounds what is kept of the keys of a document that uses each but once.
const mostNames = 4096
