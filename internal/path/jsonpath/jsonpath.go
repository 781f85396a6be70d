// Package jsonpath reads and follows JSONPath (RFC 9535) over the tree of
// package document. A query is compiled once, and used by several goroutines.
package jsonpath

import (
	"errors"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// Query is a compiled query.
type Query struct {
	Source   string
	segments []segment
}

// Located is a node with where it was found, as a normalized path (section 2.7).
type Located struct {
	Path string
	Node *document.Node
}

// IsSingular says whether the query finds at most one node (2.3.5.1).
func (q *Query) IsSingular() bool { return isSingular(q.segments) }

func isSingular(segments []segment) bool {
	for _, s := range segments {
		if s.descends || len(s.selectors) != 1 {
			return false
		}
		if kind := s.selectors[0].kind; kind != byName && kind != byIndex {
			return false
		}
	}
	return true
}

// Find gives the nodes that the query selects, in order; the same node may be
// selected several times (2.1.2). The error is ErrTooMuch.
func (q *Query) Find(root *document.Node) ([]Located, error) { return q.find(root, MostSteps) }

func (q *Query) find(root *document.Node, steps int) ([]Located, error) {
	e := &evaluation{root: root, left: steps}
	var found []Located
	var path []byte
	e.follow(q.segments, &place{node: root}, func(at *place) bool {
		path = at.path(path[:0])
		found = append(found, Located{string(path), at.node})
		return e.spend(len(path) / bytesToAStep)
	})
	if e.left < 0 {
		return nil, ErrTooMuch
	}
	return found, nil
}

// ErrTooMuch is a query that grows without bound on the document: what it found is not all.
var ErrTooMuch = errors.New(
	"the path visits too many values of this answer; ask for less with .. or with queries in filters")

// MostSteps bounds what one query looks at: descending within descending grows
// without bound. bytesToAStep is how many bytes of text are as much work as a node.
const (
	MostSteps    = 20_000_000
	bytesToAStep = 8
)

type evaluation struct {
	root *document.Node
	left int // of the steps
}

// spend takes steps; false ends the evaluation.
func (e *evaluation) spend(steps int) bool {
	e.left -= steps
	return e.left >= 0
}

// place is a node with the way to it.
type place struct {
	node  *document.Node
	above *place // nil for the root
	name  string // in an object
	index int    // in a list
}

// path appends the normalized path (2.7).
func (p *place) path(out []byte) []byte {
	if p.above == nil {
		return append(out, '$')
	}
	out = append(p.above.path(out), '[')
	if p.above.node.Kind == document.List {
		out = strconv.AppendInt(out, int64(p.index), 10)
	} else {
		out = append(out, quoted(p.name)...)
	}
	return append(out, ']')
}

// visitor is shown each place that is selected; false ends the evaluation.
type visitor func(*place) bool

// follow goes one way to its end before the next, which gives the order of RFC 9535
// and keeps nothing in between.
func (e *evaluation) follow(segments []segment, at *place, visit visitor) bool {
	if len(segments) == 0 {
		return visit(at)
	}
	s, onward := &segments[0], visit
	if len(segments) > 1 {
		onward = func(next *place) bool { return e.follow(segments[1:], next, visit) }
	}
	if s.descends {
		return e.descend(s, at, onward)
	}
	return e.apply(s, at, onward)
}

// descend selects below a node and all that it holds (2.5.2).
func (e *evaluation) descend(s *segment, at *place, visit visitor) bool {
	return e.apply(s, at, visit) && e.children(at, func(child *place) bool { return e.descend(s, child, visit) })
}

// children shows the members of an object or the items of a list.
func (e *evaluation) children(at *place, visit visitor) bool {
	for _, m := range at.node.Members() {
		if !e.spend(1) || !visit(&place{node: m.Value, above: at, name: m.Key}) {
			return false
		}
	}
	for i := range at.node.Items() {
		if !e.item(at, i, visit) {
			return false
		}
	}
	return true
}

func (e *evaluation) item(at *place, i int, visit visitor) bool {
	return e.spend(1) && visit(&place{node: at.node.Items()[i], above: at, index: i})
}

func (e *evaluation) apply(s *segment, at *place, visit visitor) bool {
	for i := range s.selectors {
		if !e.choose(&s.selectors[i], at, visit) {
			return false
		}
	}
	return true
}

func (e *evaluation) choose(s *selector, at *place, visit visitor) bool {
	items := at.node.Items()
	switch s.kind {
	case byName:
		if !e.spend(1 + len(at.node.Members())/bytesToAStep) {
			return false
		}
		if v := at.node.Get(s.name); v != nil {
			return visit(&place{node: v, above: at, name: s.name})
		}
	case byIndex:
		index := s.index
		if index < 0 {
			index += len(items)
		}
		if index >= 0 && index < len(items) {
			return e.item(at, index, visit)
		}
	case wildcard:
		return e.children(at, visit)
	case slice:
		for _, i := range s.indexes(len(items)) {
			if !e.item(at, i, visit) {
				return false
			}
		}
	case filter:
		return e.children(at, func(child *place) bool { return !s.condition.holds(e, child.node) || visit(child) })
	}
	return true
}

// indexes are those of a slice (2.3.4.2).
func (s *selector) indexes(length int) []int {
	step := 1
	if s.step != nil {
		step = *s.step
	}
	if step == 0 {
		return nil
	}
	normal := func(i int) int {
		if i < 0 {
			return length + i
		}
		return i
	}
	start, end := 0, length
	if step < 0 {
		start, end = length-1, -length-1
	}
	if s.start != nil {
		start = *s.start
	}
	if s.end != nil {
		end = *s.end
	}
	start, end = normal(start), normal(end)
	var out []int
	if step > 0 {
		for i := min(max(start, 0), length); i < min(max(end, 0), length); i += step {
			out = append(out, i)
			if step > length {
				break
			}
		}
		return out
	}
	for i := min(max(start, -1), length-1); i > min(max(end, -1), length-1); i += step {
		out = append(out, i)
		if step < -length {
			break
		}
	}
	return out
}

// quoted writes a name as normalized paths have it (2.7).
func quoted(name string) string {
	var out strings.Builder
	out.WriteByte('\'')
	for _, c := range name {
		switch c {
		case '\b':
			out.WriteString(`\b`)
		case '\t':
			out.WriteString(`\t`)
		case '\n':
			out.WriteString(`\n`)
		case '\f':
			out.WriteString(`\f`)
		case '\r':
			out.WriteString(`\r`)
		case '\'':
			out.WriteString(`\'`)
		case '\\':
			out.WriteString(`\\`)
		default:
			if c < 0x20 {
				out.WriteString(`\u00` + string("0123456789abcdef"[c>>4]) + string("0123456789abcdef"[c&15]))
				continue
			}
			out.WriteRune(c)
		}
	}
	out.WriteByte('\'')
	return out.String()
}
