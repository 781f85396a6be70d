package instance

import (
	"strings"

	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
)

// Outline lists the fields of an element, in the order of its schema, down to a
// depth (0: all).
func Outline(s *xsd.Schema, e *xsd.Element, depth int) []schema.Row {
	o := &outliner{schema: s, most: depth, open: map[xsd.Type]bool{}}
	o.inside(e.Type, 0, "")
	return o.rows
}

// OutlineBlock lists an element that is a field itself, with its fields below it: a header block.
func OutlineBlock(s *xsd.Schema, e *xsd.Element, depth int) []schema.Row {
	o := &outliner{schema: s, most: depth, open: map[xsd.Type]bool{}}
	o.particle(&xsd.Particle{Min: 1, Max: 1, Term: e}, 0, "", true, "")
	return o.rows
}

type outliner struct {
	schema *xsd.Schema
	most   int
	open   map[xsd.Type]bool
	rows   []schema.Row
}

// mostRows bounds an outline: a schema can name the same types over and over.
const mostRows = 20_000

func (o *outliner) inside(t xsd.Type, depth int, path string) {
	c, ok := t.(*xsd.ComplexType)
	if !ok || o.most > 0 && depth >= o.most || len(o.rows) > mostRows {
		return
	}
	if c.ArrayOf != nil {
		if item := o.schema.ItemType(c.ArrayOf); !o.open[item] {
			o.inside(item, depth, strings.TrimSuffix(path, "[0]")+"[0]")
		}
		return
	}
	for _, use := range c.Attributes {
		row := schema.Row{
			Depth: depth, Path: below(path, use.Name.Local), Name: "@" + use.Name.Local,
			Type: use.Type.FacetWords(), Required: use.Required, About: use.Documentation, Only: only(use.Type),
		}
		if !use.Required {
			row.Occurs = "may be left out"
		}
		if use.Default != nil {
			row.Default = *use.Default
		}
		if use.Fixed != nil {
			row.Fixed = *use.Fixed
		}
		o.rows = append(o.rows, row)
	}
	if c == xsd.AnyType() {
		return
	}
	o.open[t] = true
	o.particle(c.Particle, depth, path, true, "")
	delete(o.open, t)
}

func (o *outliner) particle(p *xsd.Particle, depth int, path string, required bool, choice string) {
	if p == nil {
		return
	}
	required = required && p.Min > 0
	switch term := p.Term.(type) {
	case *xsd.Group:
		if term.Kind == xsd.Choice && len(term.Particles) > 1 {
			var words []string
			for _, inner := range term.Particles {
				words = append(words, xsd.ParticleWords(inner))
			}
			choice = suggest.OneOf(words, 12)
		}
		for _, inner := range term.Particles {
			o.particle(&xsd.Particle{Min: inner.Min, Max: widest(p.Max, inner.Max), Term: inner.Term}, depth, path,
				required && term.Kind != xsd.Choice, choice)
		}
	case *xsd.Wildcard:
		o.rows = append(o.rows,
			schema.Row{
				Depth: depth, Path: path, Name: "…", Type: term.String(), Occurs: xsd.OccursWords(p),
				Required: required,
				Choice:   choice, About: term.Documentation,
			})
	case *xsd.Element:
		o.element(term, p, depth, path, required, choice)
	}
}

func widest(outer, inner int) int {
	switch {
	case outer == xsd.Unbounded || inner == xsd.Unbounded:
		return xsd.Unbounded
	case outer > 1:
		return outer * inner
	}
	return inner
}

func (o *outliner) element(e *xsd.Element, p *xsd.Particle, depth int, path string, required bool, choice string) {
	row := schema.Row{
		Depth: depth, Path: below(path, e.Name.Local), Name: e.Name.Local, Occurs: xsd.OccursWords(p),
		Required: required, Choice: choice, Nillable: e.Nillable, About: e.Documentation,
	}
	if row.About == "" && e.Type != nil && e.Type.TypeName().Space != xsd.Namespace {
		row.About = e.Type.About()
	}
	if e.Default != nil {
		row.Default = *e.Default
	}
	if e.Fixed != nil {
		row.Fixed = *e.Fixed
	}
	switch t := e.Type.(type) {
	case *xsd.SimpleType:
		row.Type, row.Only = t.FacetWords(), only(t)
	case *xsd.ComplexType:
		switch {
		case t == xsd.AnyType():
			row.Type = "anything"
		case t.ArrayOf != nil:
			row.Type = "array of " + t.ArrayOf.String()
		case t.Content == xsd.SimpleContent:
			row.Type, row.Only = t.Simple.FacetWords(), only(t.Simple)
		case t.Content == xsd.MixedContent:
			row.Type = "text with elements in it"
		}
		if t.Abstract {
			row.Type = strings.TrimPrefix(row.Type+"; @xsi:type says which: "+suggest.OneOf(o.schema.DerivedNames(t),
				8),
				"; ")
		}
	}
	if names := o.schema.SubstituteNames(e); len(names) > 0 {
		row.Type = strings.TrimPrefix(row.Type+"; in its place: "+suggest.OneOf(names, 8), "; ")
	}
	row.Again = o.open[e.Type]
	o.rows = append(o.rows, row)
	if !row.Again {
		inner := row.Path
		if p.Max > 1 || p.Max == xsd.Unbounded {
			inner += "[0]"
		}
		o.inside(e.Type, depth+1, inner)
		if c, ok := e.Type.(*xsd.ComplexType); ok && c.Abstract && (o.most == 0 || depth+1 < o.most) {
			o.derived(c, depth+1, inner)
		}
	}
}

// derived lists what the types add that may be in for an abstract one.
func (o *outliner) derived(base *xsd.ComplexType, depth int, path string) {
	known := map[string]bool{}
	for _, name := range base.FieldNames() {
		known[name] = true
	}
	for _, d := range o.schema.Derived(base) {
		if o.open[d] {
			continue
		}
		o.rows = append(o.rows,
			schema.Row{Depth: depth, Path: below(path, "@xsi:type"), Name: d.Name.Local + ":", About: d.Documentation})
		from := len(o.rows)
		o.inside(d, depth+1, path)
		added := o.rows[from:from]
		for _, row := range o.rows[from:] {
			if row.Depth > depth+1 || !known[strings.TrimPrefix(row.Name, "@")] {
				added = append(added, row)
			}
		}
		o.rows = o.rows[:from+len(added)]
	}
}

// only are the values that a simple type has alone; nil where it has others.
func only(t *xsd.SimpleType) []string {
	var values []string
	for _, one := range t.Enumeration {
		values = append(values, one.Text)
	}
	return values
}
