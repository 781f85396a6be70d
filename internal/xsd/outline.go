package xsd

import (
	"strings"

	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// Row is one line of an outline: a field of an element with what its schema says.
type Row = schema.Row

// Outline lists the fields of an element, in the order of its schema, down to a
// depth (0: all).
func (s *Schema) Outline(e *Element, depth int) []Row {
	o := &outliner{schema: s, most: depth, open: map[Type]bool{}}
	o.inside(e.Type, 0, "")
	return o.rows
}

type outliner struct {
	schema *Schema
	most   int
	open   map[Type]bool
	rows   []Row
}

// mostRows bounds an outline: a schema can name the same types over and over.
const mostRows = 20_000

func (o *outliner) inside(t Type, depth int, path string) {
	c, ok := t.(*ComplexType)
	if !ok || o.most > 0 && depth >= o.most || len(o.rows) > mostRows {
		return
	}
	if c.ArrayOf != nil {
		if item := o.schema.Type(c.ArrayOf.Item); item != nil && !o.open[item] {
			o.inside(item, depth, strings.TrimSuffix(path, "[0]")+"[0]")
		}
		return
	}
	for _, use := range c.Attributes {
		row := Row{
			Depth: depth, Path: below(path, use.Name.Local), Name: "@" + use.Name.Local,
			Type: use.Type.FacetWords(), Required: use.Required, About: use.Documentation,
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
	if c == anyType {
		return
	}
	o.open[t] = true
	o.particle(c.Particle, depth, path, true, "")
	delete(o.open, t)
}

func (o *outliner) particle(p *Particle, depth int, path string, required bool, choice string) {
	if p == nil {
		return
	}
	required = required && p.Min > 0
	switch term := p.Term.(type) {
	case *Group:
		if term.Kind == Choice && len(term.Particles) > 1 {
			var words []string
			for _, inner := range term.Particles {
				words = append(words, particleWords(inner))
			}
			choice = suggest.OneOf(words, 12)
		}
		for _, inner := range term.Particles {
			o.particle(&Particle{Min: inner.Min, Max: widest(p.Max, inner.Max), Term: inner.Term}, depth, path,
				required && term.Kind != Choice, choice)
		}
	case *Wildcard:
		o.rows = append(o.rows,
			Row{
				Depth: depth, Path: path, Name: "…", Type: term.String(), Occurs: OccursWords(p), Required: required,
				Choice: choice, About: term.Documentation,
			})
	case *Element:
		o.element(term, p, depth, path, required, choice)
	}
}

func widest(outer, inner int) int {
	switch {
	case outer == Unbounded || inner == Unbounded:
		return Unbounded
	case outer > 1:
		return outer * inner
	}
	return inner
}

func (o *outliner) element(e *Element, p *Particle, depth int, path string, required bool, choice string) {
	row := Row{
		Depth: depth, Path: below(path, e.Name.Local), Name: e.Name.Local, Occurs: OccursWords(p),
		Required: required, Choice: choice, Nillable: e.Nillable, About: e.Documentation,
	}
	if row.About == "" && e.Type != nil && e.Type.TypeName().Space != Namespace {
		row.About = e.Type.documentation()
	}
	if e.Default != nil {
		row.Default = *e.Default
	}
	if e.Fixed != nil {
		row.Fixed = *e.Fixed
	}
	switch t := e.Type.(type) {
	case *SimpleType:
		row.Type = t.FacetWords()
	case *ComplexType:
		switch {
		case t == anyType:
			row.Type = "anything"
		case t.ArrayOf != nil:
			row.Type = "array of " + t.ArrayOf.Item.Local
		case t.Content == SimpleContent:
			row.Type = t.Simple.FacetWords()
		case t.Content == MixedContent:
			row.Type = "text with elements in it"
		}
		if t.Abstract {
			row.Type = strings.TrimPrefix(row.Type+"; @xsi:type says which: "+suggest.OneOf(o.schema.derivedNames(t), 8),
				"; ")
		}
	}
	if names := o.schema.substituteNames(e); len(names) > 0 {
		row.Type = strings.TrimPrefix(row.Type+"; in its place: "+suggest.OneOf(names, 8), "; ")
	}
	row.Again = o.open[e.Type]
	o.rows = append(o.rows, row)
	if !row.Again {
		inner := row.Path
		if p.Max > 1 || p.Max == Unbounded {
			inner += "[0]"
		}
		o.inside(e.Type, depth+1, inner)
		if c, ok := e.Type.(*ComplexType); ok && c.Abstract && (o.most == 0 || depth+1 < o.most) {
			o.derived(c, depth+1, inner)
		}
	}
}

// derived lists what the types add that may stand in for an abstract one.
func (o *outliner) derived(base *ComplexType, depth int, path string) {
	known := map[string]bool{}
	for _, name := range base.FieldNames() {
		known[name] = true
	}
	for _, d := range o.schema.Derived(base) {
		if o.open[d] {
			continue
		}
		o.rows = append(o.rows,
			Row{Depth: depth, Path: below(path, "@xsi:type"), Name: d.Name.Local + ":", About: d.Documentation})
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
