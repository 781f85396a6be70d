package instance

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
)

// pool are the fields that are still to be placed.
type pool struct {
	order  []string
	values map[string]*document.Node
}

func newPool(given *document.Node) *pool {
	p := &pool{values: map[string]*document.Node{}}
	for _, m := range given.Members() {
		if m.Key == "@xsi:type" || m.Key == "xsi:type" {
			continue
		}
		p.order = append(p.order, m.Key)
		p.values[m.Key] = m.Value
	}
	return p
}

func (p *pool) take(key string) *document.Node {
	v := p.values[key]
	delete(p.values, key)
	return v
}

// key is how the fields name an element: plainly, or with a prefix.
func (p *pool) key(name xsd.Name, prefixes map[string]string) (string, bool) {
	if _, ok := p.values[name.Local]; ok {
		return name.Local, true
	}
	for key := range p.values {
		if prefix, local, qualified := strings.Cut(key, ":"); qualified && local == name.Local &&
			prefixes[prefix] == name.Space && prefixes[prefix] != "" {
			return key, true
		}
	}
	return "", false
}

// particle places fields in the order of the content model. It tells how many
// elements it placed; mandatory says that what is missing is to be told.
func (f *filler) particle(n *document.Node, p *xsd.Particle, pool *pool, path string, mandatory bool) int {
	if p == nil {
		return 0
	}
	switch term := p.Term.(type) {
	case *xsd.Element:
		return f.place(n, p, term, pool, path, mandatory && p.Min > 0)
	case *xsd.Wildcard:
		return f.any(n, p, term, pool, path)
	case *xsd.Group:
		placed := 0
		for round := 0; p.Max == xsd.Unbounded || round < p.Max; round++ {
			if round >= p.Min && !f.wants(term, pool) {
				break
			}
			before := placed
			placed += f.group(n, term, pool, path, mandatory && (round < p.Min || f.wants(term, pool)))
			if placed == before {
				break
			}
		}
		return placed
	}
	return 0
}

// wants says whether some field belongs into the group.
func (f *filler) wants(g *xsd.Group, pool *pool) bool {
	for _, p := range g.Particles {
		switch term := p.Term.(type) {
		case *xsd.Element:
			for _, e := range f.alternatives(term) {
				if _, ok := pool.key(e.Name, f.options.Prefixes); ok {
					return true
				}
			}
		case *xsd.Group:
			if f.wants(term, pool) {
				return true
			}
		case *xsd.Wildcard:
			if f.anyKey(term, pool) != "" {
				return true
			}
		}
	}
	return false
}

func (f *filler) alternatives(e *xsd.Element) []*xsd.Element {
	all := []*xsd.Element{e}
	if e.Global {
		all = append(all, f.schema.SubstitutionGroup(e)...)
	}
	return all
}

func (f *filler) group(n *document.Node, g *xsd.Group, pool *pool, path string, mandatory bool) int {
	if g.Kind != xsd.Choice {
		placed := 0
		for _, p := range g.Particles {
			placed += f.particle(n, p, pool, path, mandatory)
		}
		return placed
	}
	for _, p := range g.Particles {
		if f.wants(&xsd.Group{Particles: []*xsd.Particle{p}}, pool) {
			return f.particle(n, p, pool, path, mandatory)
		}
	}
	if mandatory && len(g.Particles) > 0 {
		var words []string
		for _, p := range g.Particles {
			if p.Min == 0 {
				return 0
			}
			words = append(words, xsd.ParticleWords(p))
		}
		f.complain(path, "needs one of %s", suggest.OneOf(words, 12))
	}
	return 0
}

// place puts in the elements that are given for a particle.
func (f *filler) place(n *document.Node, p *xsd.Particle, declared *xsd.Element, pool *pool, path string,
	mandatory bool,
) int {
	placed := 0
	for _, e := range f.alternatives(declared) {
		key, ok := pool.key(e.Name, f.options.Prefixes)
		if !ok {
			continue
		}
		value := pool.values[key]
		items := []*document.Node{value}
		many := p.Max == xsd.Unbounded || p.Max > 1
		if value.Kind == document.List && !f.takesList(e, value, many) {
			items = value.Items()
		}
		room := len(items)
		if p.Max != xsd.Unbounded {
			room = min(room, p.Max-placed)
		}
		for i, item := range items[:room] {
			at := below(path, e.Name.Local)
			if many {
				at = fmt.Sprintf("%s[%d]", at, i)
			}
			n.AppendItems(f.element(e, item, at))
			placed++
		}
		if room == len(items) {
			pool.take(key)
		} else {
			pool.values[key] = document.NewList(items[room:]...)
		}
		if !many && placed > 0 {
			break
		}
	}
	if mandatory && placed < p.Min {
		at := below(path, declared.Name.Local)
		if f.options.Encoded && declared.Nillable && path != "" {
			// What a value does not say is null (SOAP 1.1, section 5.1, rule 9); a call has all its parameters.
			n.AppendItems(f.element(declared, &document.Node{Kind: document.Null}, at))
			return placed + 1
		}
		switch t := declared.Type.(type) {
		case *xsd.SimpleType:
			f.complain(at, "is missing: it is mandatory%s", withWords(t.FacetWords()))
		default:
			if placed > 0 {
				f.complain(at, "is there %d times, at least %d needed", placed, p.Min)
			} else {
				f.complain(at, "is missing: it is mandatory")
			}
		}
	}
	return placed
}

// takesList says whether a list is one value of the element: a list type, or
// content in order of an element that stands only once.
func (f *filler) takesList(e *xsd.Element, list *document.Node, many bool) bool {
	switch t := e.Type.(type) {
	case *xsd.SimpleType:
		return t.Variety == xsd.List && allScalars(list)
	case *xsd.ComplexType:
		if !many && (t.Content == xsd.MixedContent || t.Content == xsd.ElementContent) && len(list.Items()) > 0 {
			return true
		}
		return f.options.Encoded && t.ArrayOf != nil ||
			t.Content == xsd.SimpleContent && t.Simple.Variety == xsd.List && allScalars(list)
	}
	return false
}

func allScalars(list *document.Node) bool {
	for _, item := range list.Items() {
		if !item.IsScalar() {
			return false
		}
	}
	return true
}

// anyKey finds a field that is allowed only in place of a wildcard: its name has
// a prefix, or it is an element as a whole.
func (f *filler) anyKey(w *xsd.Wildcard, pool *pool) string {
	for _, key := range pool.order {
		if pool.values[key] == nil {
			continue
		}
		if prefix, _, qualified := strings.Cut(key, ":"); qualified {
			if space, known := f.options.Prefixes[prefix]; known && w.Allows(space) {
				return key
			}
		}
	}
	return ""
}

func (f *filler) any(n *document.Node, p *xsd.Particle, w *xsd.Wildcard, pool *pool, path string) int {
	placed := 0
	for p.Max == xsd.Unbounded || placed < p.Max {
		key := f.anyKey(w, pool)
		if key == "" {
			break
		}
		prefix, local, _ := strings.Cut(key, ":")
		name := xsd.Name{Space: f.options.Prefixes[prefix], Local: local}
		value := pool.take(key)
		items := []*document.Node{value}
		if value.Kind == document.List {
			items = value.Items()
		}
		for _, item := range items {
			e := f.schema.Elements[name]
			if e == nil {
				e = &xsd.Element{Name: name, Type: xsd.AnyType()}
			}
			n.AppendItems(f.element(e, item, below(path, key)))
			placed++
		}
	}
	return placed
}

// inOrder makes content of a list of objects with one key each, and texts
// between them, in exactly that order.
func (f *filler) inOrder(n *document.Node, t *xsd.ComplexType, given *document.Node, path string) {
	attributes := document.NewObject()
	for i, item := range given.Items() {
		at := fmt.Sprintf("%s[%d]", path, i)
		if item.IsScalar() {
			n.AppendItems(&document.Node{Kind: document.Untyped, Text: item.Text, Secret: item.Secret})
			continue
		}
		if item.Kind != document.Object || len(item.Members()) != 1 {
			f.complain(at, "content in order is a list of texts and of maps with one key each")
			continue
		}
		key, value := item.Members()[0].Key, item.Members()[0].Value
		if strings.HasPrefix(key, "@") {
			attributes.Set(key, value)
			continue
		}
		if e := f.named(t, key); e != nil {
			n.AppendItems(f.element(e, value, below(path, key)))
		} else {
			f.complain(below(path, key), "is unknown%s", suggest.Ending(key, t.FieldNames()))
		}
	}
	f.attributes(n, t, newPool(attributes), path)
}

// named finds an element of a type's content by the name in a field; nil for none.
func (f *filler) named(t *xsd.ComplexType, key string) (found *xsd.Element) {
	t.Particle.Elements(func(e *xsd.Element) {
		for _, alternative := range f.alternatives(e) {
			p := &pool{values: map[string]*document.Node{key: {}}}
			if _, ok := p.key(alternative.Name, f.options.Prefixes); ok && found == nil {
				found = alternative
			}
		}
	})
	return found
}

// leftOver deals with fields that no part of the type takes: they are told, and
// put in all the same, for a tester may want to send them.
func (f *filler) leftOver(n *document.Node, t *xsd.ComplexType, pool *pool, path string) {
	open := t == xsd.AnyType()
	for _, key := range pool.order {
		value := pool.values[key]
		if value == nil {
			continue
		}
		local, isAttribute := strings.CutPrefix(key, "@")
		if isAttribute {
			f.complain(below(path, key), "is unknown%s", suggest.Ending(local, t.FieldNames()))
			f.setAttribute(n, xsd.Name{Local: local}, value.Text, value.Secret)
			continue
		}
		e := f.named(t, key)
		switch {
		case e != nil && value.Kind == document.List:
			f.complain(below(path, key), "is there too often")
		case e != nil:
			f.complain(below(path, key), "is not allowed beside what else is given")
		case !open:
			f.complain(below(path, key), "is unknown%s", fieldTry(key, t.FieldNames()))
		}
		if e == nil {
			e = &xsd.Element{Name: xsd.Name{Space: n.Name().Space, Local: local}, Type: xsd.AnyType(), Nillable: true}
			if prefix, rest, qualified := strings.Cut(key, ":"); qualified {
				e.Name = xsd.Name{Space: f.options.Prefixes[prefix], Local: rest}
			}
		}
		items := []*document.Node{value}
		if value.Kind == document.List {
			items = value.Items()
		}
		for _, item := range items {
			n.AppendItems(f.element(e, item, below(path, key)))
		}
	}
}

func fieldTry(key string, names []string) string {
	if try := suggest.Ending(key, names); try != "" {
		return try
	}
	if len(names) == 0 {
		return "; there are no fields"
	}
	return "; its fields are " + strings.Join(suggest.First(names, 12), ", ")
}
