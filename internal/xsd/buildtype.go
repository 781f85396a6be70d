package xsd

import (
	"slices"
	"strings"
)

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
	return &ComplexType{
		Name: name, Base: anyType, Content: MixedContent, AnyAttribute: anyType.AnyAttribute,
		Particle: anyType.Particle,
	}
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
	if x.Name().Local == "complexType" {
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
	b.complexes = append(b.complexes, t)
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
	return &SimpleType{Name: name, Base: builtins["anySimpleType"], Missing: true}
}

func (b *builder) simpleType(x xnode) *SimpleType {
	form, ok := x.child("restriction", "list", "union")
	t := untyped(Name{})
	if !ok {
		b.fail(x, "simpleType needs restriction, list or union")
		return t
	}
	switch form.Name().Local {
	case "restriction":
		base := b.simpleBase(form)
		t = base.derive()
		if base.final&byRestriction != 0 {
			b.fail(form, "the type %s is final: it cannot be restricted", base.Name)
		}
		b.facets(t, base, form)
	case "list":
		t = &SimpleType{
			Base: builtins["anySimpleType"], Variety: List, Whitespace: Collapse,
			fixed: map[string]bool{"whiteSpace": true},
		}
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
			m := b.simpleNamed(form, member)
			if m.final&byUnion != 0 { // Part 2, 4.1.6
				b.refused(form, "the type %s is final, and cannot be a member of a union", m.Name)
			}
			t.addMember(m)
		}
		for inner := range form.children() {
			if inner.Name().Local == "simpleType" {
				t.addMember(b.simpleType(inner))
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
		b.fail(content, "%s needs extension or restriction", content.Name().Local)
		return
	}
	t.Extension = form.Name().Local == "extension"
	base := b.baseOf(t, form)
	t.Base = base
	if c, isComplex := base.(*ComplexType); isComplex {
		if t.Extension && c.final&byExtension != 0 || !t.Extension && c.final&byRestriction != 0 {
			b.fail(form, "the type %s is final: %s of it is not allowed", c.Name, form.Name().Local)
		}
	}
	set := b.attributes(form)
	if content.Name().Local == "simpleContent" {
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
		b.fail(form, "%s needs a base", form.Name().Local)
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
		b.fail(form, "complexContent needs a complex type to derive from; for the simple type %s write simpleContent",
			base.TypeName())
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
		b.warn(form, "a type and what it extends must both be mixed or both not; %s is taken as mixed",
			nameOr(t.Name, "the type"))
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
					b.fail(x, "the attribute %s is required in %s and cannot be optional here", inherited.Name,
						base.Name)
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
			if !t.AnyAttribute.unites(base.AnyAttribute) {
				b.warn(x, "the anyAttribute of %s and that of %s, which it extends, come to none that could be written",
					nameOr(t.Name, "a type"), base.Name)
			}
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
	Item  Name
	Inner string // the dimensions of the items where they are arrays themselves: "[]", "[][]"; empty where not
	Dims  string // "[]", "[,]", "[5]"
}

// String is what the items are, in words: int, or int[] where they are arrays.
func (a *ArrayType) String() string { return a.Item.Local + a.Inner }

// ItemType is the type of the items, which are arrays themselves in an array of arrays (SOAP 1.1, section 5.4.2).
func (s *Schema) ItemType(a *ArrayType) Type {
	if a.Inner == "" {
		if t := s.Type(a.Item); t != nil {
			return t
		}
		return anyType
	}
	at := strings.LastIndexByte(a.Inner, '[')
	return &ComplexType{
		Base: anyType, Content: ElementContent,
		ArrayOf: &ArrayType{Item: a.Item, Inner: a.Inner[:at], Dims: a.Inner[at:]},
	}
}

func isArray(t *ComplexType) bool {
	return t.Name.Local == "Array" && wellKnown[t.Name.Space] != ""
}

func (b *builder) arrayType(c xnode) *ArrayType {
	for _, a := range c.Attributes() {
		if a.Name.Local != "arrayType" || a.Name.Space == "" {
			continue
		}
		item, dims, _ := strings.Cut(strings.TrimSpace(a.Value), "[")
		// An array of arrays: int[][5] has items int[].
		if last := strings.LastIndexByte(a.Value, '['); last >= 0 {
			item, dims = a.Value[:last], a.Value[last:]
		}
		inner := ""
		if at := strings.IndexByte(item, '['); at >= 0 {
			item, inner = item[:at], item[at:]
		}
		if name, ok := b.qname(c, item); ok {
			return &ArrayType{Item: name, Inner: inner, Dims: dims}
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

// addMember adds a type to a union; for another union without facets of its own its members stand
// (Structures, 3.14.2), each once.
func (t *SimpleType) addMember(member *SimpleType) {
	if member.Variety != Union || member.Base != builtins["anySimpleType"] {
		if !slices.Contains(t.Members, member) {
			t.Members = append(t.Members, member)
		}
		return
	}
	for _, inner := range member.Members {
		if !slices.Contains(t.Members, inner) {
			t.Members = append(t.Members, inner)
		}
	}
}

// mostContent is how many parts the content of an element may unfold to: groups that refer to
// groups double with each.
const mostContent = 100_000

// contentSize counts the parts that a particle unfolds to, up to mostContent. known holds what
// was counted.
func contentSize(p *Particle, known map[*Group]int) int {
	if p == nil {
		return 0
	}
	g, ok := p.Term.(*Group)
	if !ok {
		return 1
	}
	if size, ok := known[g]; ok {
		return size
	}
	known[g] = mostContent + 1 // a group that holds itself has no end
	size := 1
	for _, inner := range g.Particles {
		size = min(size+contentSize(inner, known), mostContent+1)
	}
	known[g] = size
	return size
}
