package xsd

import (
	"math"
	"sort"
	"strconv"
	"strings"
)

// builder turns the documents of a loader into components. Components may refer
// to one another in circles, so each is made when it is first named and filled
// afterwards; only what a type is derived from must be complete before it.
type builder struct {
	loader    *Loader
	schema    *Schema
	globals   map[global]xnode
	originals map[global]xnode // what was redefined
	working   map[global]bool  // is being completed: asking for it again is a circle
	groups    map[global]*Group
	attrs     map[global]*attributeSet
	filling   map[*ComplexType]func() // how to complete a type that is not yet
	pending   []func()
	checks    []func() // when all is complete
	keys      map[Name]*Constraint
}

// global names a component of the whole schema.
type global struct {
	kind string
	Name
}

// attributeSet is what an attribute group, or the inside of a type, declares.
type attributeSet struct {
	uses       []*AttributeUse
	prohibited map[Name]bool
	any        *Wildcard
	arrayOf    *ArrayType
}

func (b *builder) fail(x xnode, format string, args ...any) { b.loader.fail(x.at(), format, args...) }
func (b *builder) warn(x xnode, format string, args ...any) { b.loader.warn(x.at(), format, args...) }

func (b *builder) build() {
	b.globals, b.originals, b.working = map[global]xnode{}, map[global]xnode{}, map[global]bool{}
	b.groups, b.attrs, b.filling = map[global]*Group{}, map[global]*attributeSet{}, map[*ComplexType]func(){}
	b.keys = map[Name]*Constraint{}
	b.collect()
	names := make([]global, 0, len(b.globals))
	for g := range b.globals {
		names = append(names, g)
	}
	sort.Slice(names, func(i, j int) bool {
		if names[i].kind != names[j].kind {
			return names[i].kind < names[j].kind
		}
		return names[i].Full() < names[j].Full()
	})
	for _, g := range names {
		x := b.globals[g]
		switch g.kind {
		case "type":
			b.globalType(g.Name, x)
		case "element":
			b.globalElement(g.Name)
		case "attribute":
			b.globalAttribute(g.Name, x)
		case "group":
			b.group(x, g.Name)
		case "attributeGroup":
			b.attributeGroup(x, g.Name)
		case "notation":
			b.schema.Notations[g.Name] = true
		}
	}
	b.settle()
	b.substitutionGroups()
	for _, check := range b.checks {
		check()
	}
	b.checkModels()
}

// settle fills what was named and not yet filled.
func (b *builder) settle() {
	for len(b.pending) > 0 {
		next := b.pending[len(b.pending)-1]
		b.pending = b.pending[:len(b.pending)-1]
		next()
	}
}

// collect finds all global components.
func (b *builder) collect() {
	for _, d := range b.loader.documents {
		b.vet(d.root)
		for _, x := range d.root.children() {
			kind := kindOf(x.Name.Local)
			switch kind {
			case "include", "import", "redefine":
				continue
			}
			name := x.value("name")
			if !isNCName(name) {
				b.fail(x, "%s at the top of a schema needs a name", x.Name.Local)
				continue
			}
			g := global{kind, Name{d.namespace, name}}
			if anew, ok := d.redefines[redefinition{kind, name}]; ok {
				b.originals[g] = x
				b.vet(anew)
				x = anew
			}
			if before, twice := b.globals[g]; twice {
				if before.Node == x.Node || before.doc.location == d.location && before.Line == x.Line && before.Column == x.Column {
					continue
				}
				b.fail(x, "%s %s is declared twice, first at %s:%d", kind, name, before.doc.location, before.Line)
				continue
			}
			b.globals[g] = x
		}
	}
}

// qname resolves a qualified name as it stands in an attribute.
func (b *builder) qname(x xnode, text string) (Name, bool) {
	text = strings.TrimSpace(text)
	prefix, local, qualified := strings.Cut(text, ":")
	if !qualified {
		prefix, local = "", text
	}
	space, known := x.scope.Lookup(prefix)
	if !known {
		b.fail(x, "the prefix of %s is not declared there", text)
		return Name{}, false
	}
	if !isNCName(local) {
		b.fail(x, "%q is not a name", text)
		return Name{}, false
	}
	if space == "" && x.doc.chameleon {
		space = x.doc.namespace
	}
	return Name{today(space), local}, true
}

// missing tells of a name that nothing declares. Where its document could not
// be loaded that is remarked already, and the schema goes on without.
func (b *builder) missing(x xnode, kind string, name Name) {
	if b.loader.unreached[name.Space] {
		b.warn(x, "%s %s is in a document that could not be loaded; what it says is not checked", kind, name.Full())
		return
	}
	var known []string
	for g := range b.globals {
		if g.kind == kindOf(kind) && g.Space == name.Space {
			known = append(known, g.Local)
		}
	}
	if kind == "type" && name.Space == Namespace {
		for local := range builtins {
			known = append(known, local)
		}
	}
	hint := nearestName(name.Local, known)
	if len(known) == 0 && name.Space != "" && !x.doc.imports[name.Space] && name.Space != x.doc.namespace {
		hint = "; its namespace is not imported"
	}
	b.fail(x, "there is no %s %s%s", kind, name.Full(), hint)
}

// Types.

// typeNamed gives the type of that name; a complex type may be still to be filled.
func (b *builder) typeNamed(x xnode, text string) Type {
	name, ok := b.qname(x, text)
	if !ok {
		return anyType
	}
	if name.Space == Namespace {
		if t := builtinNamed(name.Local); t != nil {
			return t
		}
	}
	declared, ok := b.globals[global{"type", name}]
	if !ok {
		b.missing(x, "type", name)
		return missingType(name)
	}
	return b.globalType(name, declared)
}

// missingType stands in for a type that is not there: everything is a value of it.
func missingType(name Name) Type {
	return &ComplexType{Name: name, Base: anyType, Content: MixedContent, AnyAttribute: anyType.AnyAttribute, Particle: anyType.Particle}
}

// builtinNamed knows the names of the drafts too.
func builtinNamed(local string) Type {
	switch local {
	case "anyType", "ur-type":
		return anyType
	case "timeInstant":
		local = "dateTime"
	case "timeDuration":
		local = "duration"
	case "uriReference", "uri":
		local = "anyURI"
	case "CDATA":
		local = "normalizedString"
	case "binary":
		local = "base64Binary"
	case "recurringDate":
		local = "gMonthDay"
	case "recurringDay":
		local = "gDay"
	case "month":
		local = "gYearMonth"
	case "year", "century":
		local = "gYear"
	}
	if t := builtins[local]; t != nil {
		return t
	}
	return nil
}

func (b *builder) globalType(name Name, x xnode) Type {
	if t := b.schema.Types[name]; t != nil {
		return t
	}
	g := global{"type", name}
	if x.Name.Local == "complexType" {
		t := &ComplexType{Name: name, at: x.at()}
		b.schema.Types[name] = t
		b.later(t, x)
		return t
	}
	if b.working[g] {
		b.fail(x, "the type %s is derived from itself", name)
		return builtins["anySimpleType"]
	}
	b.working[g] = true
	t := b.simpleType(x)
	delete(b.working, g)
	t.Name = name
	if before := b.schema.Types[name]; before != nil {
		return before
	}
	b.schema.Types[name] = t
	return t
}

// later queues a complex type for filling; complete does it at once.
func (b *builder) later(t *ComplexType, x xnode) {
	b.filling[t] = func() { b.fillComplex(t, x) }
	b.pending = append(b.pending, func() { b.complete(t, x) })
}

// complete fills a type that others are derived from. It returns false for a
// type that is derived from itself.
func (b *builder) complete(t *ComplexType, from xnode) bool {
	fill, waiting := b.filling[t]
	if !waiting {
		return true
	}
	if fill == nil {
		b.fail(from, "the type %s is derived from itself", t.Name)
		return false
	}
	b.filling[t] = nil
	fill()
	delete(b.filling, t)
	return true
}

// simpleNamed gives a simple type by name.
func (b *builder) simpleNamed(x xnode, text string) *SimpleType {
	switch t := b.typeNamed(x, text).(type) {
	case *SimpleType:
		return t
	case *ComplexType:
		if t == anyType || b.filling[t] == nil && t.Base == Type(anyType) && t.Particle == anyType.Particle {
			return untyped(t.Name)
		}
		b.fail(x, "%s is a complex type; a simple one is needed", text)
	}
	return untyped(Name{})
}

// untyped stands in for a simple type that is not there.
func untyped(name Name) *SimpleType {
	return &SimpleType{Name: name, Base: builtins["anySimpleType"], missing: true}
}

func (b *builder) simpleType(x xnode) *SimpleType {
	form, ok := x.child("restriction", "list", "union")
	t := untyped(Name{})
	if !ok {
		b.fail(x, "simpleType needs restriction, list or union")
		return t
	}
	switch form.Name.Local {
	case "restriction":
		base := b.simpleBase(form)
		t = base.derive()
		if base.final&byRestriction != 0 {
			b.fail(form, "the type %s is final: it cannot be restricted", base.Name)
		}
		b.facets(t, base, form)
	case "list":
		t = &SimpleType{Base: builtins["anySimpleType"], Variety: List, Whitespace: Collapse, fixed: map[string]bool{"whiteSpace": true}}
		if item := form.value("itemType"); item != "" {
			t.Item = b.simpleNamed(form, item)
		} else if inner, ok := form.child("simpleType"); ok {
			t.Item = b.simpleType(inner)
		} else {
			b.fail(form, "list needs an itemType or a simpleType inside")
			t.Item = builtins["string"]
		}
		if t.Item.Variety == List || t.Item.Variety == Union && t.Item.hasList() {
			b.fail(form, "a list cannot have lists as its items")
		}
		if t.Item.final&byList != 0 {
			b.fail(form, "the type %s is final: it cannot be the item of a list", t.Item.Name)
		}
	case "union":
		t = &SimpleType{Base: builtins["anySimpleType"], Variety: Union}
		for _, member := range strings.Fields(form.value("memberTypes")) {
			t.Members = append(t.Members, b.simpleNamed(form, member))
		}
		for _, inner := range form.children() {
			if inner.Name.Local == "simpleType" {
				t.Members = append(t.Members, b.simpleType(inner))
			}
		}
		if len(t.Members) == 0 {
			b.fail(form, "union needs memberTypes or a simpleType inside")
			t.Members = []*SimpleType{builtins["string"]}
		}
	}
	t.Documentation, t.at = x.documentation(), x.at()
	t.final = b.loader.derivations(x, "final", byRestriction|byList|byUnion)
	if _, own := x.attr("final"); !own {
		t.final = x.doc.final
	}
	return t
}

func (t *SimpleType) hasList() bool {
	for _, m := range t.Members {
		if m.Variety == List || m.Variety == Union && m.hasList() {
			return true
		}
	}
	return false
}

// simpleBase is what a restriction restricts.
func (b *builder) simpleBase(form xnode) *SimpleType {
	if base := form.value("base"); base != "" {
		name, ok := b.qname(form, base)
		original, redefined := b.originals[global{"type", name}]
		if ok && redefined && b.working[global{"type", name}] {
			return b.simpleType(original)
		}
		return b.simpleNamed(form, base)
	}
	if inner, ok := form.child("simpleType"); ok {
		return b.simpleType(inner)
	}
	b.fail(form, "restriction needs a base or a simpleType inside")
	return untyped(Name{})
}

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
					b.fail(x, "%s stands in its own substitution group", e.Name)
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
	case anonymous && inner.Name.Local == "simpleType":
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
	for _, c := range x.children() {
		switch c.Name.Local {
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
		b.fail(x, "default and fixed cannot stand together")
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
	for _, c := range x.children() {
		switch c.Name.Local {
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
		if !isNCName(local) {
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
	b.schema.Groups[name] = group
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
	group := &Group{Kind: map[string]GroupKind{"sequence": Sequence, "choice": Choice, "all": All}[x.Name.Local], Documentation: x.documentation()}
	for _, c := range x.children() {
		if p := b.particle(c); p != nil {
			if inner, isGroup := p.Term.(*Group); isGroup && inner.Kind == All {
				b.fail(c, "all can stand only alone as the content of a type")
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
	switch x.Name.Local {
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
	case text == "unbounded" && name == "maxOccurs" || text == "*" && name == "maxOccurs" && oldNamespaces[x.Name.Space]:
		return Unbounded
	case !isDigits(text):
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
			b.missing(x, "element", name)
			return &Element{Name: name, Type: missingType(Name{}), at: x.at()}
		}
		return b.globalElement(name)
	}
	local := x.value("name")
	if !isNCName(local) {
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

// Complex types.

func (b *builder) fillComplex(t *ComplexType, x xnode) {
	t.Documentation = x.documentation()
	t.Abstract = b.boolean(x, "abstract")
	t.block = b.loader.derivations(x, "block", byExtension|byRestriction)
	if _, own := x.attr("block"); !own {
		t.block = x.doc.block & (byExtension | byRestriction)
	}
	t.final = b.loader.derivations(x, "final", byExtension|byRestriction)
	if _, own := x.attr("final"); !own {
		t.final = x.doc.final & (byExtension | byRestriction)
	}
	mixed := b.boolean(x, "mixed")
	t.Base = anyType
	content, derived := x.child("simpleContent", "complexContent")
	if !derived {
		b.ownContent(t, x, mixed)
		b.takeAttributes(t, b.attributes(x), x)
		return
	}
	if _, own := content.attr("mixed"); own {
		mixed = b.boolean(content, "mixed")
	}
	form, ok := content.child("extension", "restriction")
	if !ok {
		b.fail(content, "%s needs extension or restriction", content.Name.Local)
		return
	}
	t.Extension = form.Name.Local == "extension"
	base := b.baseOf(t, form)
	t.Base = base
	if c, isComplex := base.(*ComplexType); isComplex {
		if t.Extension && c.final&byExtension != 0 || !t.Extension && c.final&byRestriction != 0 {
			b.fail(form, "the type %s is final: %s of it is not allowed", c.Name, form.Name.Local)
		}
	}
	set := b.attributes(form)
	if content.Name.Local == "simpleContent" {
		b.simpleContent(t, base, form)
	} else {
		b.complexContent(t, base, form, mixed)
	}
	b.takeAttributes(t, set, form)
}

// baseOf gives the complete type that another is derived from.
func (b *builder) baseOf(t *ComplexType, form xnode) Type {
	text := form.value("base")
	if text == "" {
		b.fail(form, "%s needs a base", form.Name.Local)
		return anyType
	}
	name, ok := b.qname(form, text)
	if ok && name == t.Name {
		if original, redefined := b.originals[global{"type", name}]; redefined {
			before := &ComplexType{Name: name, at: original.at()}
			b.fillComplex(before, original)
			return before
		}
	}
	base := b.typeNamed(form, text)
	if c, isComplex := base.(*ComplexType); isComplex {
		if !b.complete(c, form) {
			return anyType
		}
	}
	return base
}

// ownContent reads the content of a type that is derived from nothing named.
func (b *builder) ownContent(t *ComplexType, x xnode, mixed bool) {
	t.Particle = b.contentParticle(x)
	switch {
	case mixed:
		t.Content = MixedContent
	case t.Particle != nil:
		t.Content = ElementContent
	}
}

func (b *builder) contentParticle(x xnode) *Particle {
	c, ok := x.child("sequence", "choice", "all", "group")
	if !ok {
		return nil
	}
	p := b.particle(c)
	if p == nil {
		return nil
	}
	group, isGroup := p.Term.(*Group)
	if isGroup && len(group.Particles) == 0 && group.Kind != Choice {
		return nil // an empty sequence is empty content (Part 1, 3.4.2)
	}
	return p
}

func (b *builder) simpleContent(t *ComplexType, base Type, form xnode) {
	t.Content = SimpleContent
	switch base := base.(type) {
	case *SimpleType:
		t.Simple = base
		if !t.Extension {
			b.fail(form, "a simple type cannot be restricted in simpleContent; write simpleType, or extension")
		}
		return
	case *ComplexType:
		switch {
		case base.Content == SimpleContent:
			t.Simple = base.Simple
		case base.Content == MixedContent:
			t.Simple = builtins["string"]
		default:
			b.fail(form, "%s has no simple content to derive from", base.Name)
			t.Simple = untyped(Name{})
			return
		}
	}
	if t.Extension {
		return
	}
	from := t.Simple
	if inner, ok := form.child("simpleType"); ok {
		from = b.simpleType(inner)
	}
	t.Simple = from.derive()
	b.facets(t.Simple, from, form)
}

func (b *builder) complexContent(t *ComplexType, base Type, form xnode, mixed bool) {
	c, isComplex := base.(*ComplexType)
	if !isComplex {
		b.fail(form, "complexContent needs a complex type to derive from; for the simple type %s write simpleContent", base.TypeName())
		c = anyType
	}
	own := b.contentParticle(form)
	if !t.Extension {
		b.ownContent(t, form, mixed)
		// An array of SOAP is described by its attribute alone.
		if isArray(c) && own == nil {
			t.Content, t.Particle = c.Content, c.Particle
		} else if c != anyType {
			b.checks = append(b.checks, func() { b.checkRestriction(t, c, form) })
		}
		return
	}
	switch {
	case c.Content == SimpleContent:
		if own != nil {
			b.fail(form, "%s has simple content; elements cannot be added to it", c.Name)
		}
		t.Content, t.Simple = SimpleContent, c.Simple
		return
	case own == nil:
		t.Content, t.Particle = c.Content, c.Particle
		if c.Content == EmptyContent && mixed {
			t.Content = MixedContent
		}
		return
	case c.Particle == nil:
		t.Particle = own
	default:
		for _, p := range []*Particle{c.Particle, own} {
			if g, ok := p.Term.(*Group); ok && g.Kind == All {
				b.fail(form, "a type whose content is all cannot be extended, nor extend with all")
				return
			}
		}
		t.Particle = &Particle{Min: 1, Max: 1, Term: &Group{Particles: []*Particle{c.Particle, own}}}
	}
	t.Content = ElementContent
	if mixed || c.Content == MixedContent {
		t.Content = MixedContent
	}
	if c.Content != EmptyContent && (c.Content == MixedContent) != mixed && c != anyType {
		b.warn(form, "a type and what it extends must both be mixed or both not; %s is taken as mixed", nameOr(t.Name, "the type"))
	}
}

func nameOr(name Name, otherwise string) string {
	if name.Local == "" {
		return otherwise
	}
	return name.Local
}

// takeAttributes puts together what a type inherits and declares (Part 1, 3.4.2).
func (b *builder) takeAttributes(t *ComplexType, set *attributeSet, x xnode) {
	t.uses = map[Name]*AttributeUse{}
	t.prohibited = set.prohibited
	base, _ := t.Base.(*ComplexType)
	if base == anyType {
		base = nil
	}
	own := map[Name]*AttributeUse{}
	for _, use := range set.uses {
		own[use.Name] = use
	}
	if base != nil {
		for _, inherited := range base.Attributes {
			anew := own[inherited.Name]
			switch {
			case t.Extension && anew != nil:
				b.fail(x, "the attribute %s is in %s already", inherited.Name, base.Name)
			case !t.Extension && set.prohibited[inherited.Name]:
				if inherited.Required {
					b.fail(x, "the attribute %s is required in %s and cannot be prohibited", inherited.Name, base.Name)
				}
				continue
			case anew != nil:
				if inherited.Required && !anew.Required {
					b.fail(x, "the attribute %s is required in %s and cannot be optional here", inherited.Name, base.Name)
				}
				continue
			}
			t.Attributes = append(t.Attributes, inherited)
		}
	}
	t.Attributes = append(t.Attributes, set.uses...)
	for _, use := range t.Attributes {
		t.uses[use.Name] = use
	}
	t.AnyAttribute = set.any
	if base != nil && t.Extension && base.AnyAttribute != nil {
		if t.AnyAttribute == nil {
			t.AnyAttribute = base.AnyAttribute
		} else {
			t.AnyAttribute = t.AnyAttribute.unite(base.AnyAttribute)
		}
	}
	if base == nil && t.Extension && t.Base == Type(anyType) {
		t.AnyAttribute = anyType.AnyAttribute
	}
	t.ArrayOf = set.arrayOf
	if t.ArrayOf == nil && base != nil {
		t.ArrayOf = base.ArrayOf
	}
	ids := 0
	for _, use := range t.Attributes {
		if use.Type.isA("ID") {
			ids++
		}
	}
	if ids > 1 {
		b.fail(x, "a type cannot have two attributes of type ID")
	}
}

// ArrayType is the item of an array of the SOAP encoding, as the attribute
// wsdl:arrayType says it (WSDL 1.1, 2.2).
type ArrayType struct {
	Item Name
	Dims string // "[]", "[,]", "[5]"
}

func isArray(t *ComplexType) bool {
	return t.Name.Local == "Array" && wellKnown[t.Name.Space] != ""
}

func (b *builder) arrayType(c xnode) *ArrayType {
	for _, a := range c.Attributes {
		if a.Name.Local != "arrayType" || a.Name.Space == "" {
			continue
		}
		item, dims, _ := strings.Cut(strings.TrimSpace(a.Value), "[")
		// An array of arrays: int[][5] has items int[].
		if last := strings.LastIndexByte(a.Value, '['); last >= 0 {
			item, dims = a.Value[:last], a.Value[last:]
		}
		if at := strings.IndexByte(item, '['); at >= 0 {
			item = item[:at]
		}
		if name, ok := b.qname(c, item); ok {
			return &ArrayType{Item: name, Dims: dims}
		}
	}
	return nil
}

// isA says whether the type is the built-in type or derived from it.
func (t *SimpleType) isA(local string) bool {
	for s := t; s != nil; s, _ = s.Base.(*SimpleType) {
		if s.Name.Space == Namespace && s.Name.Local == local {
			return true
		}
	}
	return false
}

// Facets.

func (b *builder) facets(t, base *SimpleType, form xnode) {
	var patterns []*Pattern
	var values []EnumerationValue
	seen := map[string]bool{}
	for _, f := range form.children() {
		name := f.Name.Local
		text, given := f.attr("value")
		switch name {
		case "simpleType", "attribute", "attributeGroup", "anyAttribute", "sequence", "choice", "all", "group":
			continue
		case "encoding", "precision", "scale", "duration", "period": // of the drafts
			if oldNamespaces[f.Name.Space] {
				continue
			}
		}
		if !given {
			b.fail(f, "the facet %s has no value", name)
			continue
		}
		if seen[name] && name != "pattern" && name != "enumeration" {
			b.fail(f, "the facet %s stands twice", name)
		}
		seen[name] = true
		if base.fixed[name] && name != "fractionDigits" {
			b.checkFixedFacet(base, f, name, text)
		}
		if b.boolean(f, "fixed") {
			t.fixed[name] = true
		}
		switch name {
		case "pattern":
			p, err := CompilePattern(text)
			if err != nil {
				b.fail(f, "%s", err)
				continue
			}
			patterns = append(patterns, p)
		case "enumeration":
			v, err := base.parse(text, f.scope)
			if err != nil && !base.missing {
				b.fail(f, "the value cannot stand in the enumeration: %s", err)
				continue
			}
			values = append(values, EnumerationValue{Text: base.Normalize(text), Documentation: f.documentation(), value: v})
		case "whiteSpace":
			b.whitespace(t, base, f, text)
		case "length", "minLength", "maxLength", "totalDigits", "fractionDigits":
			b.numericFacet(t, f, name, strings.TrimSpace(text))
		case "minInclusive", "maxInclusive", "minExclusive", "maxExclusive":
			b.bound(t, base, f, name, text)
		default:
			b.fail(f, "%s is not a facet", name)
		}
	}
	if patterns != nil {
		t.Patterns = append(t.Patterns, patterns)
	}
	if values != nil {
		t.Enumeration = values
		t.index()
	}
	b.consistent(t, form)
}

func (b *builder) checkFixedFacet(base *SimpleType, f xnode, name, text string) {
	same := true
	equal := func(bound *Bound) bool {
		v, err := base.parse(text, nil)
		return bound != nil && err == nil && v.same(bound.value)
	}
	number, _ := strconv.Atoi(strings.TrimSpace(text))
	switch name {
	case "whiteSpace":
		same = text == [...]string{"preserve", "replace", "collapse"}[base.Whitespace]
	case "minInclusive":
		same = equal(base.MinInclusive)
	case "maxInclusive":
		same = equal(base.MaxInclusive)
	case "minExclusive":
		same = equal(base.MinExclusive)
	case "maxExclusive":
		same = equal(base.MaxExclusive)
	case "length":
		same = base.Length != nil && *base.Length == number
	case "minLength":
		same = base.MinLength != nil && *base.MinLength == number
	case "maxLength":
		same = base.MaxLength != nil && *base.MaxLength == number
	case "totalDigits":
		same = base.TotalDigits != nil && *base.TotalDigits == number
	}
	if !same {
		b.fail(f, "the facet %s is fixed in %s and cannot be changed", name, nameOr(base.Name, "the base type"))
	}
}

func (b *builder) whitespace(t, base *SimpleType, f xnode, text string) {
	kinds := map[string]Whitespace{"preserve": Preserve, "replace": Replace, "collapse": Collapse}
	kind, ok := kinds[text]
	switch {
	case !ok:
		b.fail(f, "whiteSpace can be preserve, replace or collapse, not %q", text)
	case kind < base.Whitespace:
		b.fail(f, "whiteSpace cannot be %s where the base type has more done to blanks", text)
	default:
		t.Whitespace = kind
	}
}

func (b *builder) numericFacet(t *SimpleType, f xnode, name, text string) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || name == "totalDigits" && n == 0 {
		b.fail(f, "%s is a number, not %q", name, text)
		return
	}
	digits := name == "totalDigits" || name == "fractionDigits"
	lengthy := t.Variety == List || t.Variety == Atomic && (t.primitive == stringType || t.primitive == hexBinaryType || t.primitive == base64BinaryType || t.primitive == anyURIType || t.primitive == qnameType || t.primitive == notationType)
	if !t.missing && (digits && (t.Variety != Atomic || t.primitive != decimalType) || !digits && !lengthy) {
		b.fail(f, "the facet %s cannot be used with this type", name)
		return
	}
	switch name {
	case "length":
		if t.Length != nil && *t.Length != n {
			b.fail(f, "length is %d in the base type and cannot be %d", *t.Length, n)
		}
		t.Length = &n
	case "minLength":
		if t.MinLength != nil && n < *t.MinLength {
			b.fail(f, "minLength %d is under the %d of the base type", n, *t.MinLength)
		}
		t.MinLength = &n
	case "maxLength":
		if t.MaxLength != nil && n > *t.MaxLength {
			b.fail(f, "maxLength %d is over the %d of the base type", n, *t.MaxLength)
		}
		t.MaxLength = &n
	case "totalDigits":
		if t.TotalDigits != nil && n > *t.TotalDigits {
			b.fail(f, "totalDigits %d is over the %d of the base type", n, *t.TotalDigits)
		}
		t.TotalDigits = &n
	case "fractionDigits":
		if t.FractionDigits != nil && n > *t.FractionDigits {
			b.fail(f, "fractionDigits %d is over the %d of the base type", n, *t.FractionDigits)
		}
		t.FractionDigits = &n
	}
}

func (b *builder) bound(t, base *SimpleType, f xnode, name, text string) {
	if base.missing {
		return
	}
	ordered := t.Variety == Atomic && t.primitive >= decimalType && t.primitive <= gMonthType
	if !ordered {
		b.fail(f, "the facet %s cannot be used with this type", name)
		return
	}
	// A bound must be a value of the base type, but for those exclusive ones that
	// repeat its own.
	v, err := parsePrimitive(base.primitive, collapse(text), f.scope)
	if err == nil {
		if rangeErr := base.facets(collapse(text), v); rangeErr != nil && !repeatsBound(base, name, v) {
			err = rangeErr
		}
	}
	if err != nil {
		b.fail(f, "%s: %s", name, err)
		return
	}
	bound := &Bound{Text: collapse(text), value: v}
	switch name {
	case "minInclusive":
		t.MinInclusive, t.MinExclusive = bound, nil
	case "minExclusive":
		t.MinExclusive, t.MinInclusive = bound, nil
	case "maxInclusive":
		t.MaxInclusive, t.MaxExclusive = bound, nil
	case "maxExclusive":
		t.MaxExclusive, t.MaxInclusive = bound, nil
	}
}

func repeatsBound(base *SimpleType, name string, v Value) bool {
	return name == "minExclusive" && base.MinExclusive != nil && base.MinExclusive.value.same(v) ||
		name == "maxExclusive" && base.MaxExclusive != nil && base.MaxExclusive.value.same(v)
}

// consistent checks facets against one another (Part 2, 4.3).
func (b *builder) consistent(t *SimpleType, form xnode) {
	if t.MinLength != nil && t.MaxLength != nil && *t.MinLength > *t.MaxLength {
		b.fail(form, "minLength %d is over maxLength %d", *t.MinLength, *t.MaxLength)
	}
	if t.Length != nil && (t.MinLength != nil && *t.MinLength > *t.Length || t.MaxLength != nil && *t.MaxLength < *t.Length) {
		b.fail(form, "length %d contradicts minLength or maxLength", *t.Length)
	}
	if t.TotalDigits != nil && t.FractionDigits != nil && *t.FractionDigits > *t.TotalDigits {
		b.fail(form, "fractionDigits %d is over totalDigits %d", *t.FractionDigits, *t.TotalDigits)
	}
	low, high := t.MinInclusive, t.MaxInclusive
	strict := t.MinExclusive != nil && t.MaxInclusive != nil || t.MaxExclusive != nil && t.MinInclusive != nil
	if t.MinExclusive != nil {
		low = t.MinExclusive
	}
	if t.MaxExclusive != nil {
		high = t.MaxExclusive
	}
	if low != nil && high != nil {
		if order, ok := low.value.compare(high.value); ok && (order > 0 || order == 0 && strict) {
			b.fail(form, "the least value %s is not under the most, %s", low.Text, high.Text)
		}
	}
}

func nearestName(name string, known []string) string {
	if try := nearestTry(name, known); try != "" {
		return "; " + try
	}
	return ""
}

// constraint reads key, unique and keyref.
func (b *builder) constraint(x xnode) *Constraint {
	local := x.value("name")
	if !isNCName(local) {
		b.fail(x, "%s needs a name", x.Name.Local)
		return nil
	}
	c := &Constraint{Name: Name{x.doc.namespace, local}, Kind: x.Name.Local}
	if before := b.keys[c.Name]; before != nil {
		b.fail(x, "the name %s is taken by another key", local)
		return nil
	}
	b.keys[c.Name] = c
	for _, part := range x.children() {
		paths, err := compileFieldPaths(part.value("xpath"), part.Name.Local == "field", part.scope)
		if err != nil {
			b.fail(part, "%s: %s", part.Name.Local, err)
			return nil
		}
		if part.Name.Local == "selector" {
			c.selector = paths
		} else {
			c.fields = append(c.fields, paths)
			c.fieldTexts = append(c.fieldTexts, part.value("xpath"))
		}
	}
	if c.selector == nil || len(c.fields) == 0 {
		b.fail(x, "%s needs a selector and at least one field", x.Name.Local)
		return nil
	}
	if c.Kind == "keyref" {
		name, ok := b.qname(x, x.value("refer"))
		if !ok {
			return nil
		}
		b.checks = append(b.checks, func() {
			c.refer = b.keys[name]
			switch {
			case c.refer == nil || c.refer.Kind == "keyref":
				b.fail(x, "%s refers to %s, which is no key", local, name)
				c.refer = nil
			case len(c.refer.fields) != len(c.fields):
				b.fail(x, "%s has %d fields, the key %s has %d", local, len(c.fields), name, len(c.refer.fields))
				c.refer = nil
			default:
				b.schema.referred[c.refer] = true
			}
		})
	}
	return c
}

// substitutionGroups finds who may stand in for whom (Part 1, 3.3.6).
func (b *builder) substitutionGroups() {
	for _, e := range b.schema.Elements {
		seen := map[*Element]bool{e: true}
		for head := e.Head; head != nil; head = head.Head {
			if seen[head] {
				b.loader.fail(e.at, "%s stands in its own substitution group", e.Name)
				break
			}
			seen[head] = true
			if !derivedFrom(e.Type, head.Type, 0) {
				b.loader.fail(e.at, "%s cannot stand in for %s: its type is not derived from that one's", e.Name, head.Name)
				break
			}
			if !derivedFrom(e.Type, head.Type, head.final) {
				b.loader.fail(e.at, "%s cannot stand in for %s, which is final for such a type", e.Name, head.Name)
				break
			}
			if head.block&bySubstitution == 0 && derivedFrom(e.Type, head.Type, head.block&^bySubstitution|blockOf(head.Type)) {
				b.schema.substitutes[head] = append(b.schema.substitutes[head], e)
			}
		}
	}
	for _, members := range b.schema.substitutes {
		sort.Slice(members, func(i, j int) bool { return members[i].Name.Full() < members[j].Name.Full() })
	}
}

func blockOf(t Type) derivation {
	if c, ok := t.(*ComplexType); ok {
		return c.block
	}
	return 0
}

// checkElement checks what can be checked only with a complete type.
func (b *builder) checkElement(e *Element, x xnode) {
	if e.Default == nil && e.Fixed == nil {
		return
	}
	switch t := e.Type.(type) {
	case *SimpleType:
		b.checkDefault(x, "element "+e.Name.Local, t, e.Default, e.Fixed)
	case *ComplexType:
		switch {
		case t.Content == SimpleContent:
			b.checkDefault(x, "element "+e.Name.Local, t.Simple, e.Default, e.Fixed)
		case t.Content != MixedContent:
			b.fail(x, "the element %s has a default, but its type holds no text", e.Name)
		}
	}
}

func (b *builder) checkDefault(x xnode, what string, t *SimpleType, values ...*string) {
	for _, v := range values {
		if v == nil {
			continue
		}
		if t.isA("ID") {
			b.fail(x, "the %s is an ID and cannot have a default", what)
			continue
		}
		if err := t.Check(*v, x.scope); err != nil {
			b.fail(x, "the default of the %s is no value of its type: %s", what, err)
		}
	}
}
