package xsd

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/xmlstream"
	"testbench/internal/xsd/datatype"
)

// Elements and attributes.

func (b *builder) globalElement(name Name) *Element {
	if e := b.schema.Elements[name]; e != nil {
		return e
	}
	x := b.globals[global{"element", name}]
	e := &Element{Name: name, Global: true}
	b.schema.Elements[name] = e
	b.fillElement(e, x)
	return e
}

func (b *builder) fillElement(e *Element, x xnode) {
	e.at, e.Documentation = x.at(), x.documentation()
	e.Nillable, e.Abstract = b.boolean(x, "nillable"), b.boolean(x, "abstract")
	e.block = b.loader.derivations(x, "block", byExtension|byRestriction|bySubstitution)
	if _, own := x.attr("block"); !own {
		e.block = x.doc.block
	}
	e.final = b.loader.derivations(x, "final", byExtension|byRestriction)
	if _, own := x.attr("final"); !own {
		e.final = x.doc.final & (byExtension | byRestriction)
	}
	e.Default, e.Fixed = b.defaults(x)
	if head := x.value("substitutionGroup"); head != "" && e.Global {
		if name, ok := b.qname(x, head); ok {
			if _, declared := b.globals[global{"element", name}]; declared {
				if name == e.Name {
					b.fail(x, "%s is in its own substitution group", e.Name)
				} else {
					e.Head = b.globalElement(name)
				}
			} else {
				b.missing(x, "element", name)
			}
		}
	}
	inner, anonymous := x.child("simpleType", "complexType")
	switch named := x.value("type"); {
	case named != "" && anonymous:
		b.fail(x, "the element %s has both a type attribute and a type inside", e.Name)
		e.Type = b.typeNamed(x, named)
	case named != "":
		e.Type = b.typeNamed(x, named)
	case anonymous && inner.Name().Local == "simpleType":
		e.Type = b.simpleType(inner)
	case anonymous:
		t := &ComplexType{at: inner.at()}
		e.Type = t
		b.later(t, inner)
	case e.Head != nil:
		e.Type = e.Head.Type
		if e.Type == nil { // the head is being filled just now
			b.pending = append([]func(){func() { e.Type = e.Head.Type }}, b.pending...)
			e.Type = anyType
		}
	default:
		e.Type = anyType
	}
	for c := range x.children() {
		switch c.Name().Local {
		case "key", "unique", "keyref":
			if constraint := b.constraint(c); constraint != nil {
				e.Constraints = append(e.Constraints, constraint)
			}
		}
	}
	b.checks = append(b.checks, func() { b.checkElement(e, x) })
}

func (b *builder) boolean(x xnode, name string) bool {
	switch v := x.value(name); v {
	case "true", "1":
		return true
	case "", "false", "0":
		return false
	default:
		b.fail(x, "%s can be true or false, not %q", name, v)
		return false
	}
}

func (b *builder) defaults(x xnode) (byDefault, fixed *string) {
	if v, ok := x.attr("default"); ok {
		byDefault = &v
	}
	if v, ok := x.attr("fixed"); ok {
		fixed = &v
	}
	if byDefault != nil && fixed != nil {
		b.fail(x, "default and fixed are not allowed together")
	}
	return byDefault, fixed
}

func (b *builder) globalAttribute(name Name, x xnode) *Attribute {
	if a := b.schema.Attributes[name]; a != nil {
		return a
	}
	a := b.attribute(x, name)
	b.schema.Attributes[name] = a
	return a
}

func (b *builder) attribute(x xnode, name Name) *Attribute {
	a := &Attribute{Name: name, Documentation: x.documentation(), at: x.at(), Type: builtins["anySimpleType"]}
	if name.Local == "xmlns" {
		b.fail(x, "an attribute cannot be called xmlns")
	}
	a.Default, a.Fixed = b.defaults(x)
	if named := x.value("type"); named != "" {
		a.Type = b.simpleNamed(x, named)
	} else if inner, ok := x.child("simpleType"); ok {
		a.Type = b.simpleType(inner)
	}
	b.checkDefault(x, "attribute "+name.Local, a.Type, a.Default, a.Fixed)
	return a
}

// attributes reads the attributes, attribute groups and wildcard of a type or group.
func (b *builder) attributes(x xnode) *attributeSet {
	set := &attributeSet{prohibited: map[Name]bool{}}
	var groupAny *Wildcard
	for c := range x.children() {
		switch c.Name().Local {
		case "attribute":
			b.attributeUse(set, c)
		case "attributeGroup":
			name, ok := b.qname(c, c.value("ref"))
			if !ok {
				continue
			}
			declared, known := b.globals[global{"attributeGroup", name}]
			if !known {
				b.missing(c, "attributeGroup", name)
				continue
			}
			inner := b.attributeGroup(declared, name)
			if inner == nil {
				b.fail(c, "the attribute group %s holds itself", name)
				continue
			}
			for _, use := range inner.uses {
				set.add(b, c, use)
			}
			if groupAny == nil {
				groupAny = inner.any
			} else if inner.any != nil {
				groupAny = groupAny.intersect(inner.any)
			}
		case "anyAttribute":
			set.any = b.wildcard(c)
		}
	}
	if set.any == nil {
		set.any = groupAny
	} else if groupAny != nil {
		set.any = set.any.intersect(groupAny)
	}
	return set
}

func (s *attributeSet) add(b *builder, x xnode, use *AttributeUse) {
	for _, before := range s.uses {
		if before.Name == use.Name {
			b.fail(x, "the attribute %s is declared twice", use.Name)
			return
		}
	}
	s.uses = append(s.uses, use)
}

func (b *builder) attributeUse(set *attributeSet, c xnode) {
	var a *Attribute
	ref := c.value("ref")
	if ref != "" {
		name, ok := b.qname(c, ref)
		if !ok {
			return
		}
		declared, known := b.globals[global{"attribute", name}]
		if !known {
			b.missing(c, "attribute", name)
			a = &Attribute{Name: name, Type: untyped(Name{})}
		} else {
			a = b.globalAttribute(name, declared)
		}
		if name.Local == "arrayType" {
			set.arrayOf = b.arrayType(c)
		}
	} else {
		local := c.value("name")
		if !xmlstream.IsNCName(local) {
			b.fail(c, "an attribute needs a name or a ref")
			return
		}
		name := Name{Local: local}
		if form, own := c.attr("form"); own && form == "qualified" || !own && c.doc.qualifyAttrs {
			name.Space = c.doc.namespace
		}
		a = b.attribute(c, name)
	}
	use := &AttributeUse{Attribute: a, Default: a.Default, Fixed: a.Fixed}
	if ref != "" {
		if d, f := b.defaults(c); d != nil || f != nil {
			use.Default, use.Fixed = d, f
			b.checkDefault(c, "attribute "+a.Name.Local, a.Type, d, f)
		}
	}
	switch c.value("use") {
	case "required":
		use.Required = true
		if use.Default != nil {
			b.fail(c, "a required attribute cannot have a default")
		}
	case "prohibited":
		set.prohibited[a.Name] = true
		return
	case "", "optional":
	default:
		b.fail(c, "use can be optional, required or prohibited, not %q", c.value("use"))
	}
	set.add(b, c, use)
}

func (b *builder) attributeGroup(x xnode, name Name) *attributeSet {
	g := global{"attributeGroup", name}
	if set, met := b.attrs[g]; met {
		if original, redefined := b.originals[g]; set == nil && redefined {
			return b.attributes(original)
		}
		return set // nil while it is being read
	}
	b.attrs[g] = nil
	b.attrs[g] = b.attributes(x)
	return b.attrs[g]
}

// Wildcards.

func (b *builder) wildcard(x xnode) *Wildcard {
	w := &Wildcard{Documentation: x.documentation()}
	switch p := x.value("processContents"); p {
	case "lax":
		w.Process = Lax
	case "skip":
		w.Process = Skip
	case "", "strict":
	default:
		b.fail(x, "processContents can be strict, lax or skip, not %q", p)
	}
	switch spaces := x.value("namespace"); spaces {
	case "", "##any":
		w.any = true
	case "##other":
		target := x.doc.namespace
		w.not = &target
	default:
		for _, space := range strings.Fields(spaces) {
			switch space {
			case "##targetNamespace":
				space = x.doc.namespace
			case "##local":
				space = ""
			}
			w.spaces = append(w.spaces, space)
		}
	}
	return w
}

// intersect allows what both allow (Part 1, 3.10.6).
func (w *Wildcard) intersect(other *Wildcard) *Wildcard {
	out := *w
	switch {
	case w.any:
		out = *other
		out.Process = w.Process
	case other.any:
	case w.not != nil && other.not != nil:
		// Two different negations cannot be expressed; the first stands.
	case w.not != nil:
		out = *other
		out.Process, out.spaces = w.Process, nil
		for _, s := range other.spaces {
			if w.Allows(s) {
				out.spaces = append(out.spaces, s)
			}
		}
	default:
		out.spaces = nil
		for _, s := range w.spaces {
			if other.Allows(s) {
				out.spaces = append(out.spaces, s)
			}
		}
	}
	return &out
}

// unites says whether what either of two wildcards allows can be written as one: all but one
// namespace, together with what is in none, cannot (Part 1, 3.10.6, 5.3).
func (w *Wildcard) unites(other *Wildcard) bool {
	if w.any || other.any || (w.not == nil) == (other.not == nil) {
		return true
	}
	negated, listed := w, other
	if w.not == nil {
		negated, listed = other, w
	}
	return *negated.not == "" || !slices.Contains(listed.spaces, "") || slices.Contains(listed.spaces, *negated.not)
}

// unite allows what either allows (Part 1, 3.10.6).
func (w *Wildcard) unite(other *Wildcard) *Wildcard {
	out := *w
	switch {
	case w.any || other.any:
		out = Wildcard{any: true, Process: w.Process}
	case w.not != nil && other.not != nil:
		if *w.not != *other.not {
			empty := ""
			out.not = &empty
		}
	case w.not != nil || other.not != nil:
		negated, listed := w, other
		if w.not == nil {
			negated, listed = other, w
		}
		hasNot, hasNone := false, false
		for _, s := range listed.spaces {
			hasNot = hasNot || s == *negated.not
			hasNone = hasNone || s == ""
		}
		switch {
		case hasNot && hasNone:
			out = Wildcard{any: true, Process: w.Process}
		case hasNot:
			empty := ""
			out = Wildcard{not: &empty, Process: w.Process}
		default:
			out = Wildcard{not: negated.not, Process: w.Process}
		}
	default:
		out.spaces = append(append([]string(nil), w.spaces...), other.spaces...)
	}
	return &out
}

// Model groups and particles.

func (b *builder) group(x xnode, name Name) *Group {
	g := global{"group", name}
	if group, met := b.groups[g]; met {
		return group // nil while it is being read
	}
	b.groups[g] = nil
	group := b.groupBody(x)
	b.groups[g] = group
	return group
}

func (b *builder) groupBody(x xnode) *Group {
	inner, ok := x.child("sequence", "choice", "all")
	if !ok {
		b.fail(x, "a group needs sequence, choice or all")
		return &Group{}
	}
	group := b.modelGroup(inner)
	if group.Documentation == "" {
		group.Documentation = x.documentation()
	}
	return group
}

func (b *builder) modelGroup(x xnode) *Group {
	group := &Group{
		Kind:          map[string]GroupKind{"sequence": Sequence, "choice": Choice, "all": All}[x.Name().Local],
		Documentation: x.documentation(),
	}
	for c := range x.children() {
		if p := b.particle(c); p != nil {
			if inner, isGroup := p.Term.(*Group); isGroup && inner.Kind == All {
				b.fail(c, "all is allowed only alone as the content of a type")
				continue
			}
			if group.Kind == All {
				if _, isElement := p.Term.(*Element); !isElement {
					b.fail(c, "all can hold elements only")
					continue
				}
				if p.Max > 1 || p.Max == Unbounded {
					b.fail(c, "an element of all can occur once at most")
				}
			}
			group.Particles = append(group.Particles, p)
		}
	}
	return group
}

// particle reads one part of a content model; nil for one that cannot occur.
func (b *builder) particle(x xnode) *Particle {
	p := &Particle{Min: b.occurs(x, "minOccurs"), Max: b.occurs(x, "maxOccurs")}
	if p.Max != Unbounded && p.Max < p.Min {
		if _, said := x.attr("maxOccurs"); said || p.Min > 1 {
			b.fail(x, "maxOccurs is under minOccurs")
		}
		p.Max = p.Min
	}
	switch x.Name().Local {
	case "element":
		p.Term = b.localElement(x)
	case "group":
		name, ok := b.qname(x, x.value("ref"))
		if !ok {
			return nil
		}
		declared, known := b.globals[global{"group", name}]
		if !known {
			b.missing(x, "group", name)
			return nil
		}
		group := b.group(declared, name)
		if original, redefined := b.originals[global{"group", name}]; group == nil && redefined {
			group = b.groupBody(original)
		}
		if group == nil {
			b.fail(x, "the group %s holds itself", name)
			return nil
		}
		p.Term = group
	case "any":
		p.Term = b.wildcard(x)
	case "sequence", "choice", "all":
		p.Term = b.modelGroup(x)
	default:
		return nil
	}
	if p.Max == 0 || p.Term == nil || p.Term == (*Element)(nil) {
		return nil
	}
	return p
}

// occurs reads minOccurs or maxOccurs. What is beyond counting is cut there.
func (b *builder) occurs(x xnode, name string) int {
	text := x.value(name)
	switch {
	case text == "":
		return 1
	case text == "unbounded" && name == "maxOccurs" ||
		text == "*" && name == "maxOccurs" && oldNamespaces[x.Name().Space]:
		return Unbounded
	case !datatype.IsDigits(text):
		b.fail(x, "%s is a number, not %q", name, text)
		return 1
	}
	if n, err := strconv.Atoi(text); err == nil && n < math.MaxInt32 {
		return n
	}
	return math.MaxInt32
}

func (b *builder) localElement(x xnode) *Element {
	if ref := x.value("ref"); ref != "" {
		name, ok := b.qname(x, ref)
		if !ok {
			return nil
		}
		if _, known := b.globals[global{"element", name}]; !known {
			if name == (Name{Namespace, "schema"}) { // a schema, then what it describes: a data set
				return &Element{Name: name, Type: anyType, at: x.at()}
			}
			b.missing(x, "element", name)
			return &Element{Name: name, Type: missingType(Name{}), at: x.at()}
		}
		return b.globalElement(name)
	}
	local := x.value("name")
	if !xmlstream.IsNCName(local) {
		b.fail(x, "an element needs a name or a ref")
		return nil
	}
	e := &Element{Name: Name{Local: local}}
	if form, own := x.attr("form"); own && form == "qualified" || !own && x.doc.qualifyElements {
		e.Name.Space = x.doc.namespace
	}
	b.fillElement(e, x)
	return e
}
