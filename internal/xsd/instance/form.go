package instance

import (
	"slices"

	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
	"testbench/internal/xsd/pattern"
)

// Shape says what the element takes.
func (e ElementType) Shape() *schema.Shape {
	if e.Declared == nil {
		return &schema.Shape{}
	}
	return (&shaper{e.Schema}).element(e.Declared)
}

// Shape says what the type takes.
func (t ValueType) Shape() *schema.Shape { return simpleShape(t.Simple) }

// Form is the shape of an element of the schema.
func Form(s *xsd.Schema, e *xsd.Element) *schema.Shape { return (&shaper{s}).element(e) }

// simpleShape is what a simple type takes.
func simpleShape(t *xsd.SimpleType) *schema.Shape {
	out := &schema.Shape{
		Words: t.FacetWords(), TotalDigits: t.TotalDigits, FractionDigits: t.FractionDigits,
		MinLength: t.MinLength, MaxLength: t.MaxLength,
	}
	if t.Missing {
		return out
	}
	if t.Length != nil {
		out.MinLength, out.MaxLength = t.Length, t.Length
	}
	b := t.Builtin()
	for s := b; s != nil; s, _ = s.Base.(*xsd.SimpleType) {
		if s.Name.Local != "" {
			out.Formats = append(out.Formats, s.Name.Local)
		}
	}
	switch t.Variety {
	case xsd.List:
		out.Kinds = []string{"list"}
		out.Items = func() *schema.Shape { return simpleShape(t.Item) }
	case xsd.Union:
		out.Choices = func() []*schema.Shape {
			var choices []*schema.Shape
			for _, member := range t.Members {
				choices = append(choices, simpleShape(member))
			}
			return choices
		}
	}
	if len(t.Enumeration) > 0 {
		out.Only = []string{}
		for _, v := range t.Enumeration {
			out.Only = append(out.Only, v.Text)
		}
	}
	for _, alternatives := range t.Patterns {
		if words := pattern.Words(alternatives); t.Name.Space != xsd.Namespace &&
			!slices.ContainsFunc(b.Patterns, func(own []*pattern.Pattern) bool { return pattern.Words(own) == words }) {
			out.Patterns = append(out.Patterns, words)
		}
	}
	// Bounds that the built-in type has by itself are told by its name.
	bound := func(mine, builtin *xsd.Bound, exclusive bool) *schema.Limit {
		if mine == nil || builtin != nil && mine.Text == builtin.Text {
			return nil
		}
		return &schema.Limit{Text: mine.Text, Exclusive: exclusive}
	}
	if out.Least = bound(t.MinInclusive, b.MinInclusive, false); out.Least == nil {
		out.Least = bound(t.MinExclusive, b.MinExclusive, true)
	}
	if out.Most = bound(t.MaxInclusive, b.MaxInclusive, false); out.Most == nil {
		out.Most = bound(t.MaxExclusive, b.MaxExclusive, true)
	}
	if t.FractionDigits != nil && b.FractionDigits != nil && *t.FractionDigits == *b.FractionDigits {
		out.FractionDigits = nil
	}
	return out
}

// shaper makes shapes of elements, which need the schema for what may be in place of
// a type.
type shaper struct{ schema *xsd.Schema }

func (s *shaper) element(e *xsd.Element) *schema.Shape {
	out := s.typed(e.Type)
	if e.Fixed != nil {
		out.Only = []string{*e.Fixed}
	}
	if e.Nillable {
		out.Kinds = append(slices.Clone(out.Kinds), "null")
	}
	if names := s.schema.SubstituteNames(e); len(names) > 0 {
		out.Variants = append(slices.Clone(out.Variants), names...)
		if !e.Abstract {
			out.Variants = append(out.Variants, e.Name.Local)
		}
	}
	return out
}

func (s *shaper) typed(t xsd.Type) *schema.Shape {
	if simple, ok := t.(*xsd.SimpleType); ok {
		out := simpleShape(simple)
		if len(out.Kinds) == 0 {
			out.Kinds = []string{"text"}
		}
		return out
	}
	c, ok := t.(*xsd.ComplexType)
	if !ok || c == xsd.AnyType() {
		return &schema.Shape{Words: "anything"}
	}
	if c.ArrayOf != nil {
		out := &schema.Shape{ID: c, Words: "array of " + c.ArrayOf.String(), Kinds: []string{"list"}}
		if item := s.schema.ItemType(c.ArrayOf); item != xsd.Type(xsd.AnyType()) {
			out.Items = func() *schema.Shape { return s.typed(item) }
		}
		return out
	}
	out := &schema.Shape{Kinds: []string{"object"}, Members: schema.Closed}
	switch c.Content {
	case xsd.SimpleContent:
		out = simpleShape(c.Simple)
		out.Kinds, out.Members = []string{"text"}, schema.Closed
	case xsd.MixedContent:
		out.Words, out.Kinds = "text with elements in it", []string{"object", "text"}
	}
	out.ID = c
	if c.AnyAttribute != nil {
		out.Rest = "any attribute"
	}
	if names := s.schema.DerivedNames(c); len(names) > 0 {
		if out.Variants = names; !c.Abstract {
			out.Variants = append(slices.Clone(names), c.Name.Local)
		}
	}
	w := &fieldWalk{shaper: s, index: map[string]int{}}
	out.Ordered = true
	if c.Particle != nil {
		if g, ok := c.Particle.Term.(*xsd.Group); ok && g.Kind == xsd.All {
			out.Ordered = false
		}
	}
	w.particle(c.Particle, true, "", 1)
	if w.isOpen {
		out.Members = schema.Open
	}
	out.Fields = func() []schema.ShapeField {
		var fields []schema.ShapeField
		for _, use := range c.Attributes {
			f := schema.ShapeField{Name: "@" + use.Name.Local, Required: use.Required, Shape: func() *schema.Shape {
				shape := simpleShape(use.Type)
				if use.Fixed != nil {
					shape.Only = []string{*use.Fixed}
				}
				return shape
			}}
			if use.Default != nil {
				f.Default = *use.Default
			}
			fields = append(fields, f)
		}
		return append(fields, w.fields...)
	}
	return out
}

// fieldWalk lists the elements of a content model, each name once.
type fieldWalk struct {
	*shaper
	fields []schema.ShapeField
	index  map[string]int
	isOpen bool
}

func (w *fieldWalk) particle(p *xsd.Particle, required bool, choice string, times int) {
	if p == nil || p.Max == 0 {
		return
	}
	required = required && p.Min > 0
	times = widest(times, p.Max)
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
			w.particle(inner, required && (term.Kind != xsd.Choice || len(term.Particles) == 1), choice, times)
		}
	case *xsd.Wildcard:
		w.isOpen = true
	case *xsd.Element:
		w.element(term, p, required, choice, times)
	}
}

func (w *fieldWalk) element(e *xsd.Element, p *xsd.Particle, required bool, choice string, times int) {
	f := schema.ShapeField{
		Name: e.Name.Local, Required: required, Min: p.Min, Max: times, Choice: choice,
		Shape: func() *schema.Shape { return w.shaper.element(e) },
	}
	if !required {
		f.Min = 0
	}
	if e.Default != nil {
		f.Default = *e.Default
	}
	if at, twice := w.index[f.Name]; twice {
		w.fields[at].Required = w.fields[at].Required || required
		if w.fields[at].Max = xsd.Unbounded; choice != w.fields[at].Choice {
			w.fields[at].Choice = ""
		}
		return
	}
	w.index[f.Name] = len(w.fields)
	w.fields = append(w.fields, f)
}
