package xsd

import (
	"cmp"
	"slices"
	"strings"

	"testbench/internal/suggest"
	"testbench/internal/xmlstream"
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
	complexes []*ComplexType          // all that were begun
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

// refused warns of what the Recommendation forbids, and what does no harm here.
func (b *builder) refused(x xnode, format string, args ...any) {
	at := x.at()
	at.Refused = true
	b.loader.warn(at, format, args...)
}

func (b *builder) warn(x xnode, format string, args ...any) { b.loader.warn(x.at(), format, args...) }

func (b *builder) build() {
	b.globals, b.originals, b.working = map[global]xnode{}, map[global]xnode{}, map[global]bool{}
	b.groups, b.attrs, b.filling = map[global]*Group{}, map[global]*attributeSet{}, map[*ComplexType]func(){}
	b.keys = map[Name]*Constraint{}
	for _, d := range slices.Clone(b.loader.documents) {
		b.loader.addUsed(d.root)
	}
	b.collect()
	names := make([]global, 0, len(b.globals))
	for g := range b.globals {
		names = append(names, g)
	}
	slices.SortFunc(names, func(a, b global) int {
		return cmp.Or(cmp.Compare(a.kind, b.kind), compareNames(a.Name, b.Name))
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
		}
	}
	b.settle()
	known := map[*Group]int{}
	for _, t := range b.complexes {
		if contentSize(t.Particle, known) > mostContent {
			b.loader.fail(t.at, "the content of %s unfolds to more than %d parts", nameOr(t.Name, "a type"),
				mostContent)
			t.Particle = nil
		}
	}
	b.substitutionGroups()
	for _, check := range b.checks {
		check()
	}
}

func compareNames(a, b Name) int {
	return cmp.Or(cmp.Compare(a.Space, b.Space), cmp.Compare(a.Local, b.Local))
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
		for x := range d.root.children() {
			kind := kindOf(x.Name().Local)
			switch kind {
			case "include", "import", "redefine":
				continue
			}
			name := x.value("name")
			if !xmlstream.IsNCName(name) {
				b.fail(x, "%s at the top of a schema needs a name", x.Name().Local)
				continue
			}
			g := global{kind, Name{d.namespace, name}}
			if anew, ok := d.redefines[redefinition{kind, name}]; ok {
				b.originals[g] = x
				b.vet(anew)
				x = anew
			}
			if before, twice := b.globals[g]; twice {
				if before.Node == x.Node ||
					before.doc.location == d.location && before.Line == x.Line && before.Column == x.Column {
					continue
				}
				switch { // a schema's own declaration counts before one that everybody knows
				case d.isBuiltIn():
					continue
				case before.doc.isBuiltIn():
				default:
					b.fail(x, "%s %s is declared twice, first at %s:%d", kind, name, before.doc.location, before.Line)
					continue
				}
			}
			b.globals[g] = x
		}
	}
}

// qname resolves a qualified name as it is in an attribute.
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
	if !xmlstream.IsNCName(local) {
		b.fail(x, "%q is not a name", text)
		return Name{}, false
	}
	if space == "" && x.doc.chameleon {
		space = x.doc.namespace
	}
	return Name{Current(space), local}, true
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
	hint := suggest.Ending(name.Local, known)
	if len(known) == 0 && name.Space != "" && !x.doc.imports[name.Space] && name.Space != x.doc.namespace {
		hint = "; its namespace is not imported"
	}
	b.fail(x, "there is no %s %s%s", kind, name.Full(), hint)
}

// constraint reads key, unique and keyref.
func (b *builder) constraint(x xnode) *Constraint {
	local := x.value("name")
	if !xmlstream.IsNCName(local) {
		b.fail(x, "%s needs a name", x.Name().Local)
		return nil
	}
	c := &Constraint{Name: Name{x.doc.namespace, local}, Kind: x.Name().Local}
	if before := b.keys[c.Name]; before != nil {
		b.fail(x, "the name %s is taken by another key", local)
		return nil
	}
	b.keys[c.Name] = c
	for part := range x.children() {
		paths, err := compileFieldPaths(part.value("xpath"), part.Name().Local == "field", part.scope)
		if err != nil {
			b.fail(part, "%s: %s", part.Name().Local, err)
			return nil
		}
		if part.Name().Local == "selector" {
			c.selector = paths
		} else {
			c.fields = append(c.fields, paths)
			c.fieldTexts = append(c.fieldTexts, part.value("xpath"))
		}
	}
	if c.selector == nil || len(c.fields) == 0 {
		b.fail(x, "%s needs a selector and at least one field", x.Name().Local)
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
				b.fail(x, "%s refers to %s, which is not a key", local, name)
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

// substitutionGroups finds who may be in for whom (Part 1, 3.3.6).
func (b *builder) substitutionGroups() {
	for _, e := range b.schema.Elements {
		seen := map[*Element]bool{e: true}
		for head := e.Head; head != nil; head = head.Head {
			if seen[head] {
				b.loader.fail(e.at, "%s is in its own substitution group", e.Name)
				break
			}
			seen[head] = true
			if !DerivedFrom(e.Type, head.Type, 0) {
				b.loader.fail(e.at, "%s cannot replace %s: its type is not derived from that one's", e.Name,
					head.Name)
				break
			}
			if !DerivedFrom(e.Type, head.Type, head.final) {
				b.loader.fail(e.at, "%s cannot replace %s, which is final for such a type", e.Name, head.Name)
				break
			}
			if head.block&bySubstitution == 0 && DerivedFrom(e.Type, head.Type,
				head.block&^bySubstitution|blockOf(head.Type)) {
				b.schema.substitutes[head] = append(b.schema.substitutes[head], e)
			}
		}
	}
	for _, members := range b.schema.substitutes {
		slices.SortFunc(members, func(a, b *Element) int { return compareNames(a.Name, b.Name) })
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
			b.fail(x, "the default of the %s is not a value of its type: %s", what, err)
		}
	}
}
