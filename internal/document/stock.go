package document

import (
	"slices"
	"strings"
)

// stock is what trees are made of. Large answers have millions of nodes, so nodes, lists and
// texts are made many at a time and taken one by one.
type stock struct {
	made    int // nodes so far
	most    int // how many are made at a time, for a document of the size
	nodes   []Node
	lists   []*Node
	members []Member
	texts   strings.Builder // what was taken from it stays where it is
	names   map[string]string
}

// The sizes of the stock; what is kept of a tree keeps no more than these alive.
const (
	stockOfNodes = 64
	stockOfLists = 256
	stockOfTexts = 4096
)

// bytesToANode is how many bytes of a small document there are to a node of stock: it has a few times as many.
const bytesToANode = 48

// newStock returns stock for a document of so many bytes: a small one takes little more than it needs.
func newStock(size int) stock {
	s := stock{most: min(max(size/bytesToANode, 4), stockOfNodes)}
	if s.most == stockOfNodes {
		s.names = map[string]string{}
	}
	return s
}

func (s *stock) node(kind Kind) *Node {
	s.made++
	if len(s.nodes) == 0 {
		s.nodes = make([]Node, s.most)
	}
	made := &s.nodes[0]
	s.nodes = s.nodes[1:]
	made.Kind = kind
	return made
}

func (s *stock) scalar(kind Kind, text string) *Node {
	made := s.node(kind)
	made.Text = text
	return made
}

// list is the items as a list of their own, members those of an object.
func (s *stock) list(items []*Node) []*Node {
	return take(&s.lists, items, s.most*stockOfLists/stockOfNodes)
}

func (s *stock) object(members []Member) []Member { return take(&s.members, members, s.most) }

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

func (s *stock) string(text []byte) string {
	most := s.most * stockOfTexts / stockOfNodes
	if len(text) > most/4 {
		return string(text)
	}
	if s.texts.Cap()-s.texts.Len() < len(text) {
		s.texts.Reset()
		s.texts.Grow(most)
	}
	from := s.texts.Len()
	s.texts.Write(text)
	return s.texts.String()[from:]
}

// name is a text that comes again and again in a document of some size: a key.
func (s *stock) name(text []byte) string {
	if s.names == nil {
		return s.string(text)
	}
	if same, ok := s.names[string(text)]; ok {
		return same
	}
	made := string(text)
	if len(s.names) < mostNames {
		s.names[made] = made
	}
	return made
}

// mostNames bounds what is kept of the keys of a document that uses each but once.
const mostNames = 4096
