package compare

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// Operation is one step of a JSON Patch (RFC 6902, 4).
type Operation struct {
	Op    string          `json:"op"`
	From  string          `json:"from,omitempty"`
	Path  string          `json:"path"`
	Value json.RawMessage `json:"value,omitempty"`
}

// Patch makes the JSON Patch that turns one JSON document into another, up to how
// numbers are written.
func Patch(a, b *document.Node) []Operation {
	p := &patching{out: []Operation{}}
	p.node(a, b, "")
	return p.out
}

type patching struct{ out []Operation }

func (p *patching) add(op, from, at string, value *document.Node) {
	one := Operation{Op: op, From: from, Path: at}
	if value != nil {
		one.Value = json.RawMessage(document.WriteJSON(value, document.Style{}))
	}
	p.out = append(p.out, one)
}

// pointer adds a name to a JSON Pointer (RFC 6901, 3).
func pointer(at, name string) string {
	return at + "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
}

func (p *patching) node(a, b *document.Node, at string) {
	switch {
	case a.Kind == document.Object && b.Kind == document.Object:
		for _, m := range a.Members() {
			if b.Get(m.Key) == nil {
				p.add("remove", "", pointer(at, m.Key), nil)
			}
		}
		for _, m := range b.Members() {
			if other := a.Get(m.Key); other != nil {
				p.node(other, m.Value, pointer(at, m.Key))
			} else {
				p.add("add", "", pointer(at, m.Key), m.Value)
			}
		}
	case a.Kind == document.List && b.Kind == document.List:
		p.list(a, b, at)
	case a.Kind == b.Kind && a.IsScalar() &&
		(a.Text == b.Text || a.Kind == document.Number && Same(a, b) || a.Kind == document.Null):
	default:
		p.add("replace", "", at, b)
	}
}

// list takes out what is gone, then puts each element of the second where it belongs,
// and last changes those that were matched.
func (p *patching) list(a, b *document.Node, at string) {
	m := match(a.Items(), b.Items(), "")
	place := func(i int) string { return at + "/" + strconv.Itoa(i) }
	var now []int // which element of the first is at each place; -1 for a new one
	for i := range a.Items() {
		now = append(now, i)
	}
	for i := len(a.Items()) - 1; i >= 0; i-- {
		if m.ofA[i] < 0 {
			p.add("remove", "", place(i), nil)
			now = slices.Delete(now, i, i+1)
		}
	}
	for j, i := range m.ofB {
		if i < 0 {
			p.add("add", "", place(j), b.Items()[j])
			now = slices.Insert(now, j, -1)
			continue
		}
		if from := slices.Index(now, i); from != j {
			p.add("move", place(from), place(j), nil)
			now = slices.Insert(slices.Delete(now, from, from+1), j, i)
		}
	}
	for j, i := range m.ofB {
		if i >= 0 {
			p.node(a.Items()[i], b.Items()[j], place(j))
		}
	}
}
