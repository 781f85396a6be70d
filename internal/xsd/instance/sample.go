package instance

import (
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
)

// Sample makes an instance of an element.
func Sample(s *xsd.Schema, e *xsd.Element, o schema.SampleOptions) *schema.Sample {
	if o.MaxDepth == 0 {
		o.MaxDepth = 60
	}
	m := &sampler{
		schema: s, options: o, sample: &schema.Sample{Remarks: map[*document.Node]string{}},
		onStack: map[xsd.Type]int{},
	}
	m.sample.Root = m.element(e, &xsd.Particle{Min: 1, Max: 1, Term: e})
	return m.sample
}

type sampler struct {
	schema  *xsd.Schema
	options schema.SampleOptions
	sample  *schema.Sample
	onStack map[xsd.Type]int
	depth   int
	parts   int
}

func (m *sampler) element(e *xsd.Element, p *xsd.Particle) *document.Node {
	if e.Abstract {
		if members := m.schema.Substitutes(e); len(members) > 0 {
			e = members[0]
		}
	}
	m.parts++
	n := document.NewElement(document.Name{Space: e.Name.Space, Local: e.Name.Local})
	t := e.Type
	if c, ok := t.(*xsd.ComplexType); ok && c.Abstract {
		if derived := m.schema.Derived(c); len(derived) > 0 {
			t = derived[0]
			setType(n, derived[0].Name)
		}
	}
	remarks := []string{xsd.OccursWords(p)}
	if _, isComplex := t.(*xsd.ComplexType); isComplex && e.Nillable && m.onStack[t] > 0 {
		setNil(n) // it would hold itself without end
		m.remark(n, append(remarks, "holds the same fields again, or is null")...)
		return n
	}
	m.depth++
	m.onStack[t]++
	switch t := t.(type) {
	case *xsd.SimpleType:
		remarks = append(remarks, notJustText(t))
		m.text(n, t, e.Default, e.Fixed)
	case *xsd.ComplexType:
		if t.ArrayOf != nil {
			m.array(n, t, &remarks)
			break
		}
		defer func() { m.attributes(n, t, &remarks); m.remark(n, remarks...) }()
		switch t.Content {
		case xsd.SimpleContent:
			remarks = append(remarks, notJustText(t.Simple))
			m.text(n, t.Simple, e.Default, e.Fixed)
		case xsd.ElementContent, xsd.MixedContent:
			switch {
			case t == xsd.AnyType():
				remarks = append(remarks, "anything")
			case t.Content == xsd.MixedContent && e.Fixed != nil:
				n.AppendItems(document.NewUntyped(*e.Fixed))
			default:
				m.particle(n, t.Particle)
			}
		}
	}
	m.onStack[t]--
	m.depth--
	if e.Nillable {
		remarks = append(remarks, "may be null")
	}
	if names := m.schema.SubstituteNames(e); len(names) > 0 {
		remarks = append(remarks, "possible in its place: "+suggest.OneOf(names, 8))
	}
	if c, ok := t.(*xsd.ComplexType); !ok || c.ArrayOf != nil {
		m.remark(n, remarks...)
	}
	return n
}

// array puts one item into an array of the SOAP encoding.
func (m *sampler) array(n *document.Node, t *xsd.ComplexType, remarks *[]string) {
	*remarks = append(*remarks, "array of "+t.ArrayOf.String())
	if item := m.schema.ItemType(t.ArrayOf); m.onStack[item] == 0 {
		n.AppendItems(m.element(&xsd.Element{Name: xsd.Name{Local: "item"}, Type: item}, &xsd.Particle{Min: 1, Max: 1}))
	}
}

// notJustText leaves out what goes without saying.
func notJustText(t *xsd.SimpleType) string {
	if words := t.FacetWords(); words != "text" {
		return words
	}
	return ""
}

func (m *sampler) remark(n *document.Node, words ...string) {
	all := []string{}
	if before := m.sample.Remarks[n]; before != "" {
		all = append(all, before)
	}
	for _, w := range words {
		if w != "" {
			all = append(all, w)
		}
	}
	if len(all) > 0 {
		m.sample.Remarks[n] = strings.Join(all, "; ")
	}
}

// setType writes xsi:type; whoever writes the tree declares the prefix.
func setType(n *document.Node, name xsd.Name) {
	n.AppendAttributes(document.Attribute{
		Name:  document.Name{Space: xsd.InstanceNamespace, Prefix: "xsi", Local: "type"},
		Value: "{" + name.Space + "}" + name.Local,
	})
}

// setNil writes xsi:nil.
func setNil(n *document.Node) {
	n.AppendAttributes(document.Attribute{
		Name: document.Name{Space: xsd.InstanceNamespace, Prefix: "xsi", Local: "nil"}, Value: "true",
	})
}

func (m *sampler) text(n *document.Node, t *xsd.SimpleType, byDefault, fixed *string) {
	text := ""
	switch {
	case fixed != nil:
		text = *fixed
	case byDefault != nil:
		text = *byDefault
	default:
		text = t.Sample()
	}
	if text != "" {
		n.AppendItems(document.NewUntyped(text))
	}
}

func (m *sampler) attributes(n *document.Node, t *xsd.ComplexType, remarks *[]string) {
	for _, use := range t.Attributes {
		if !use.Required && !m.options.Optional || m.options.Encoded && IsOfEncoding(use.Name) {
			continue
		}
		text := ""
		switch {
		case use.Fixed != nil:
			text = *use.Fixed
		case use.Default != nil:
			text = *use.Default
		default:
			text = use.Type.Sample()
		}
		n.AppendAttributes(document.Attribute{
			Name:  document.Name{Space: use.Name.Space, Local: use.Name.Local},
			Value: text,
		})
		words := notJustText(use.Type)
		if !use.Required {
			words = strings.TrimSuffix("may be left out; "+words, "; ")
		}
		if words != "" {
			*remarks = append(*remarks, use.Name.Local+": "+words)
		}
	}
}

// IsOfEncoding says whether an attribute tells how values are written, and is none itself (SOAP 1.1, section 5.4.1).
func IsOfEncoding(name xsd.Name) bool {
	return name.Space == "" && (name.Local == "id" || name.Local == "href") || name.Space == soapEncodingNamespace
}

// particle adds what a content model asks for.
func (m *sampler) particle(parent *document.Node, p *xsd.Particle) {
	if p == nil {
		return
	}
	times := p.Min
	if times == 0 && m.options.Optional && !m.recurs(p, map[any]bool{}) && m.depth < m.options.MaxDepth/2 {
		times = 1
	}
	if times > 0 && m.depth >= m.options.MaxDepth {
		m.sample.Cut = append(m.sample.Cut, parent.Name().Local)
		return
	}
	for range min(times, 1000) {
		if m.parts >= schema.MostParts {
			m.sample.TooLarge = true
			return
		}
		switch term := p.Term.(type) {
		case *xsd.Element:
			parent.AppendItems(m.element(term, p))
		case *xsd.Wildcard:
			if times > 0 && p.Min > 0 {
				m.wildcard(parent, term)
			}
		case *xsd.Group:
			m.group(parent, term)
		}
	}
}

func (m *sampler) group(parent *document.Node, g *xsd.Group) {
	if g.Kind != xsd.Choice {
		for _, p := range g.Particles {
			m.particle(parent, p)
		}
		return
	}
	if len(g.Particles) == 0 {
		return
	}
	// The first branch, unless it leads back to where it comes from, or is a wildcard: of what
	// stands for that little is known.
	branch := g.Particles[0]
	for _, p := range g.Particles {
		if _, wild := p.Term.(*xsd.Wildcard); !wild && !m.recurs(p, map[any]bool{}) {
			branch = p
			break
		}
	}
	if _, wild := branch.Term.(*xsd.Wildcard); wild && branch.Min == 0 {
		return
	}
	before := len(parent.Items())
	once := *branch
	once.Min = max(1, once.Min)
	m.particle(parent, &once)
	if len(parent.Items()) > before && len(g.Particles) > 1 {
		var words []string
		for _, p := range g.Particles {
			words = append(words, xsd.ParticleWords(p))
		}
		first := parent.Items()[before]
		m.sample.Remarks[first] = strings.TrimSuffix("one of these: "+suggest.OneOf(words, 12)+"; "+
			m.sample.Remarks[first],
			"; ")
	}
}

// recurs says whether a particle needs a type that is being written just now.
func (m *sampler) recurs(p *xsd.Particle, seen map[any]bool) bool {
	switch term := p.Term.(type) {
	case *xsd.Element:
		if m.onStack[term.Type] > 0 && term.Type != xsd.Type(xsd.AnyType()) {
			if _, complex := term.Type.(*xsd.ComplexType); complex {
				return true
			}
		}
		c, ok := term.Type.(*xsd.ComplexType)
		if !ok || seen[c] || c.Particle == nil {
			return false
		}
		seen[c] = true
		return c.Particle.Min > 0 && m.recurs(c.Particle, seen)
	case *xsd.Group:
		for _, inner := range term.Particles {
			needs := inner.Min > 0 && m.recurs(inner, seen)
			if term.Kind == xsd.Choice && !needs {
				return false
			}
			if term.Kind != xsd.Choice && needs {
				return true
			}
		}
		return term.Kind == xsd.Choice && len(term.Particles) > 0
	}
	return false
}

// wildcard puts in an element that the wildcard allows.
func (m *sampler) wildcard(parent *document.Node, w *xsd.Wildcard) {
	if w.Process == xsd.Strict {
		names := make([]xsd.Name, 0, len(m.schema.Elements))
		for name := range m.schema.Elements {
			names = append(names, name)
		}
		xsd.SortNames(names)
		for _, name := range names {
			e := m.schema.Elements[name]
			p := &xsd.Particle{Min: 1, Max: 1, Term: e}
			if w.Allows(name.Space) && !e.Abstract && !m.recurs(p, map[any]bool{}) {
				n := m.element(e, p)
				m.remark(n, "stands for "+w.String())
				parent.AppendItems(n)
				return
			}
		}
	}
	n := document.NewElement(document.Name{Space: w.Namespace(), Local: "any"})
	m.remark(n, "stands for "+w.String())
	parent.AppendItems(n)
}
