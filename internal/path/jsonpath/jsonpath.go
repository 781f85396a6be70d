// Package jsonpath reads and follows JSONPath (RFC 9535) over the tree of
// package document. A query is compiled once, and used by several goroutines.
package jsonpath

import (
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
// selected several times (2.1.2).
func (q *Query) Find(root *document.Node) []Located {
	e := &evaluation{root: root, left: mostSteps}
	return e.follow(q.segments, []Located{{"$", root}})
}

// mostSteps bounds what one query looks at: descending within descending grows
// without bound.
const mostSteps = 20_000_000

type evaluation struct {
	root *document.Node
	left int
}

func (e *evaluation) follow(segments []segment, nodes []Located) []Located {
	for _, s := range segments {
		var next []Located
		for _, at := range nodes {
			if s.descends {
				next = e.descend(s, at, next)
			} else {
				next = e.apply(s, at, next)
			}
		}
		nodes = next
	}
	return nodes
}

// descend selects below a node and all that it holds (2.5.2).
func (e *evaluation) descend(s segment, at Located, out []Located) []Located {
	if e.left--; e.left < 0 {
		return out
	}
	out = e.apply(s, at, out)
	for _, child := range children(at) {
		out = e.descend(s, child, out)
	}
	return out
}

// children are the members of an object or the items of a list.
func children(at Located) []Located {
	var out []Located
	for _, m := range at.Node.Members() {
		out = append(out, Located{at.Path + "[" + quoted(m.Key) + "]", m.Value})
	}
	for i, item := range at.Node.Items() {
		out = append(out, Located{at.Path + "[" + strconv.Itoa(i) + "]", item})
	}
	return out
}

func (e *evaluation) apply(s segment, at Located, out []Located) []Located {
	for i := range s.selectors {
		out = e.choose(&s.selectors[i], at, out)
	}
	return out
}

func (e *evaluation) choose(s *selector, at Located, out []Located) []Located {
	isList := at.Node.Kind == document.List
	if !isList && at.Node.Kind != document.Object {
		return out
	}
	switch s.kind {
	case byName:
		if v := at.Node.Get(s.name); v != nil && !isList {
			out = append(out, Located{at.Path + "[" + quoted(s.name) + "]", v})
		}
	case byIndex:
		index := s.index
		if index < 0 {
			index += len(at.Node.Items())
		}
		if isList && index >= 0 && index < len(at.Node.Items()) {
			out = append(out, Located{at.Path + "[" + strconv.Itoa(index) + "]", at.Node.Items()[index]})
		}
	case wildcard:
		out = append(out, children(at)...)
	case slice:
		if isList {
			for _, i := range s.indexes(len(at.Node.Items())) {
				out = append(out, Located{at.Path + "[" + strconv.Itoa(i) + "]", at.Node.Items()[i]})
			}
		}
	case filter:
		for _, child := range children(at) {
			if e.left--; e.left < 0 {
				return out
			}
			if s.condition.holds(e, child.Node) {
				out = append(out, child)
			}
		}
	}
	return out
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
