package xsd

import (
	"slices"
	"strings"
	"sync"

	"testbench/internal/excerpt"
	"testbench/internal/suggest"
)

// allowance is what may be in an element of a schema.
type allowance struct{ attributes, elements []string }

// grammar is what may be where in a schema (the schema for schemas, Part 1, appendix A).
var grammar = sync.OnceValue(func() map[string]allowance {
	const (
		occurs = " minOccurs maxOccurs"
		models = "sequence choice all group"
		attrs  = " attribute attributeGroup anyAttribute"
		facets = " length minLength maxLength pattern enumeration whiteSpace minInclusive maxInclusive minExclusive " +
			"maxExclusive totalDigits fractionDigits simpleType"
	)
	words := map[string][2]string{
		"schema": {
			"targetNamespace elementFormDefault attributeFormDefault blockDefault finalDefault version",
			"include import redefine simpleType complexType element attribute attributeGroup group notation",
		},
		"include":  {"schemaLocation", ""},
		"import":   {"schemaLocation namespace", ""},
		"redefine": {"schemaLocation", "simpleType complexType group attributeGroup"},
		"notation": {"name public system", ""},
		"element": {
			"name ref type substitutionGroup nillable abstract default fixed block final form" + occurs,
			"simpleType complexType key keyref unique",
		},
		"attribute":      {"name ref type use default fixed form", "simpleType"},
		"attributeGroup": {"name ref", strings.TrimSpace(attrs)},
		"group":          {"name ref" + occurs, "sequence choice all"},
		"complexType":    {"name mixed abstract block final", models + " simpleContent complexContent" + attrs},
		"simpleContent":  {"", "restriction extension"},
		"complexContent": {"mixed", "restriction extension"},
		"extension":      {"base", models + attrs},
		"restriction":    {"base", models + attrs + facets},
		"simpleType":     {"name final", "restriction list union"},
		"list":           {"itemType", "simpleType"},
		"union":          {"memberTypes", "simpleType"},
		"sequence":       {strings.TrimSpace(occurs), "element group choice sequence any"},
		"choice":         {strings.TrimSpace(occurs), "element group choice sequence any"},
		"all":            {strings.TrimSpace(occurs), "element"},
		"any":            {"namespace processContents" + occurs, ""},
		"anyAttribute":   {"namespace processContents", ""},
		"key":            {"name", "selector field"},
		"unique":         {"name", "selector field"},
		"keyref":         {"name refer", "selector field"},
		"selector":       {"xpath", ""},
		"field":          {"xpath", ""},
	}
	for _, facet := range strings.Fields(facets) {
		if facet != "simpleType" {
			words[facet] = [2]string{"value fixed", ""}
		}
	}
	g := make(map[string]allowance, len(words))
	for name, allowed := range words {
		g[name] = allowance{strings.Fields(allowed[0]), strings.Fields(allowed[1])}
	}
	return g
})

// vet checks that everything in a document is where it may be, for a misspelt
// attribute would otherwise be passed over.
func (b *builder) vet(x xnode) {
	if oldNamespaces[x.Node.Name().Space] {
		return // the drafts had other attributes too
	}
	allowed := grammar()[x.Name().Local]
	for _, a := range x.Attributes() {
		if a.Name.Space == "" && !a.IsDeclaration() && a.Name.Local != "id" &&
			!slices.Contains(allowed.attributes, a.Name.Local) {
			b.fail(x, "%s has no attribute %s%s", x.Name().Local, a.Name.Local,
				suggest.Ending(a.Name.Local, allowed.attributes))
		}
	}
	for c := range x.children() {
		if !slices.Contains(allowed.elements, c.Name().Local) {
			b.fail(c, "%s is not allowed in %s%s", c.Name().Local, x.Name().Local,
				suggest.Ending(c.Name().Local, allowed.elements))
			continue
		}
		b.vet(c)
	}
	b.vetOrder(x)
	for _, item := range x.Items() {
		if item.IsScalar() && strings.TrimSpace(item.Text) != "" {
			b.fail(x, "the text %s is not allowed in %s", excerpt.Quote(strings.TrimSpace(item.Text)), x.Name().Local)
		}
	}
}

// models are the particles that a type or a derivation begins with.
var models = []string{"sequence", "choice", "all", "group", "simpleContent", "complexContent"}

// apart are facets of which a restriction may have one (XML Schema 1.0 Part 2, 4.3.1.4,
// 4.3.7.4 and 4.3.8.4).
var apart = [][2]string{
	{"minInclusive", "minExclusive"}, {"maxInclusive", "maxExclusive"}, {"length", "minLength"},
	{"length", "maxLength"},
}

// vetOrder tells what is in the wrong place or together with what excludes it.
func (b *builder) vetOrder(x xnode) {
	has := map[string]bool{}
	attribute := ""
	for c := range x.children() {
		name := c.Name().Local
		has[name] = true
		switch {
		case x.Name().Local == "schema":
			for _, local := range []string{"minOccurs", "maxOccurs", "use", "form", "ref"} {
				if _, there := c.attr(local); there { // Part 1, 3.2.3 and 3.3.3
					b.refused(c, "%s is not allowed at the top of a schema, and has no effect", local)
				}
			}
		case name == "attribute" || name == "attributeGroup" || name == "anyAttribute":
			attribute = name
		case attribute != "" && slices.Contains(models, name): // Part 1, 3.4.2
			b.refused(c, "%s is after %s, and must be before it", name, attribute)
		}
	}
	for _, two := range apart {
		if x.Name().Local == "restriction" && has[two[0]] && has[two[1]] {
			b.refused(x, "a restriction has %s and %s, and may have one of them", two[0], two[1])
		}
	}
}

// Refused are the warnings of what others refuse a schema for.
func (s *Schema) Refused() []Problem {
	return slices.DeleteFunc(slices.Clone(s.Warnings()), func(p Problem) bool { return !p.Refused })
}

// Warnings tell what is wrong in the schema, but does not keep it from use, in the order
// of their places. What is ambiguous is among them: it still works, for the first that
// fits is taken.
func (s *Schema) Warnings() []Problem {
	s.warnings.Do(func() {
		met := map[Name]bool{}
		for _, t := range s.complexTypes() {
			if clear(met); s.namesOnce(t.Particle, met) {
				continue
			}
			m := s.model(t)
			if m.all != nil {
				s.distinctElements(t, m.all)
				continue
			}
			if words, found := s.ambiguous(m, true); found {
				s.warned = appendWarning(s.warned, refusedAt(t.at),
					"the content of %s is ambiguous: %s (unique particle attribution)", nameOr(t.Name, "a type"), words)
			}
			s.consistentElements(t, m)
		}
		byPlace(s.warned)
	})
	return s.warned
}

// namesOnce says that no two elements of a content model have one name, and that it has no wildcard: which of them
// an element is for is plain then. The names are put among those that were met.
func (s *Schema) namesOnce(p *Particle, met map[Name]bool) bool {
	if p == nil {
		return true
	}
	switch term := p.Term.(type) {
	case *Element:
		isNew := !met[term.Name]
		met[term.Name] = true
		return isNew && s.substitutes[term] == nil
	case *Group:
		for _, inner := range term.Particles {
			if !s.namesOnce(inner, met) {
				return false
			}
		}
		return true
	}
	return false
}

func refusedAt(at Problem) Problem {
	at.Refused = true
	return at
}

// distinctElements checks that in an all group a name stands once: which of two
// particles an element is for could not be told.
func (s *Schema) distinctElements(t *ComplexType, all []*Particle) {
	met := map[Name]bool{}
	for _, p := range all {
		e, ok := p.Term.(*Element)
		if !ok {
			continue
		}
		if met[e.Name] {
			s.warned = appendWarning(s.warned, refusedAt(t.at),
				"the content of %s is ambiguous: %s is in all twice (unique particle attribution)",
				nameOr(t.Name, "a type"), e.Name)
		}
		met[e.Name] = true
	}
}

// consistentElements checks that elements of one name have one type (Part 1,
// 3.8.6: Element Declarations Consistent).
func (s *Schema) consistentElements(t *ComplexType, m *model) {
	types := map[Name]Type{}
	for i := range m.positions {
		e := m.positions[i].element
		if e == nil {
			continue
		}
		if other, met := types[e.Name]; met && other != e.Type {
			s.warned = appendWarning(s.warned, refusedAt(t.at), "%s is in %s with two types", e.Name,
				nameOr(t.Name, "a type"))
		}
		types[e.Name] = e.Type
	}
}

// complexTypes finds all complex types, those without names too.
func (s *Schema) complexTypes() []*ComplexType {
	var all []*ComplexType
	seen := map[*ComplexType]bool{anyType: true}
	var visit func(t Type)
	visit = func(t Type) {
		c, ok := t.(*ComplexType)
		if !ok || seen[c] {
			return
		}
		seen[c] = true
		all = append(all, c)
		c.Particle.Elements(func(e *Element) { visit(e.Type) })
	}
	for _, t := range s.Types {
		visit(t)
	}
	for _, e := range s.Elements {
		visit(e.Type)
	}
	return all
}

// checkRestriction checks that a restriction allows nothing that its base does
// not (Part 1, 3.9.6), by walking both content models side by side.
func (b *builder) checkRestriction(t, base *ComplexType, form xnode) {
	if base.Content == EmptyContent && t.Particle != nil {
		b.warn(form, "%s restricts %s, which is empty, and has content", nameOr(t.Name, "the type"), base.Name)
		return
	}
	own, wide := b.schema.model(t), b.schema.model(base)
	if own.all != nil || wide.all != nil || own.several || wide.several {
		return
	}
	type pair struct{ own, wide int } // positions, -1 for the beginning
	seen := map[pair]bool{}
	queue := []pair{{-1, -1}}
	for len(queue) > 0 && len(seen) < 10_000 {
		at := queue[0]
		queue = queue[1:]
		if seen[at] {
			continue
		}
		seen[at] = true
		ownState, wideState := stateAt(at.own), stateAt(at.wide)
		if own.mayEnd(&ownState) && !wide.mayEnd(&wideState) {
			b.warn(form, "%s allows less than its base %s asks for: it may end too early", nameOr(t.Name, "the type"),
				base.Name)
			return
		}
		for _, set := range own.sets(&ownState) {
			for _, e := range set.edges {
				p := &own.positions[e.to]
				to, ok := b.accepts(wide, &wideState, p)
				if !ok {
					b.warn(form, "%s allows %s where its base %s does not", nameOr(t.Name, "the type"), wordOf(p),
						base.Name)
					return
				}
				queue = append(queue, pair{e.to, to})
			}
		}
	}
}

func stateAt(position int) state { return state{begun: position >= 0, at: position} }

// accepts says whether the wider model takes what a position of the narrower does.
func (b *builder) accepts(wide *model, st *state, p *position) (int, bool) {
	for _, set := range wide.sets(st) {
		for _, e := range set.edges {
			other := &wide.positions[e.to]
			switch {
			case p.wildcard != nil:
				if other.wildcard != nil {
					return e.to, true
				}
			default:
				decl, ok := b.schema.holds(other, p.element.Name)
				if ok && (decl == nil || DerivedFrom(p.element.Type, decl.Type, 0)) {
					return e.to, true
				}
			}
		}
	}
	return 0, false
}
