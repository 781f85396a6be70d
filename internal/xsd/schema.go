// Package xsd is XML Schema 1.0 (Parts 1 and 2, second edition): it loads schemas from
// any number of documents and validates instances in one pass. It fetches nothing itself,
// and knows nothing of WSDL and SOAP.
package xsd

import (
	"fmt"
	"sort"
	"sync"
	"sync/atomic"

	"testbench/internal/document"
)

// Namespaces that schemas live in.
const (
	Namespace         = "http://www.w3.org/2001/XMLSchema"
	InstanceNamespace = document.SchemaInstance
)

// Name is an expanded name.
type Name struct{ Space, Local string }

// String writes the name for a message: the local part, as people say it.
func (n Name) String() string { return n.Local }

// Full writes the name with its namespace.
func (n Name) Full() string {
	if n.Space == "" {
		return n.Local
	}
	return "{" + n.Space + "}" + n.Local
}

// Unbounded is a particle's maximum without a bound.
const Unbounded = -1

// Schema is a set of components that belong together, complete and checked.
type Schema struct {
	Elements   map[Name]*Element
	Attributes map[Name]*Attribute
	Types      map[Name]Type

	// warned are the warnings of reading it; warnings adds those that its content
	// models give, which only those who ask for warnings wait for.
	warned   []Problem
	warnings sync.Once
	// substitutes are the elements that may be in place of a head, itself
	// not among them.
	substitutes map[*Element][]*Element
	unusable    map[global]Problem // what was set aside, with what is wrong there
	// referred are the keys that a keyref asks for.
	referred map[*Constraint]bool
}

// Problem is a remark on a schema document.
type Problem struct {
	Location     string // file or address
	Line, Column int
	Message      string
	// Refused says that the Recommendation forbids it: it does no harm here, and others
	// refuse the whole schema for it.
	Refused bool
}

func (p Problem) String() string {
	words := p.Message
	if p.Refused {
		words += "; other toolkits refuse the schema because of it"
	}
	if p.Line == 0 {
		return p.Location + ": " + words
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.Location, p.Line, p.Column, words)
}

// Type is a *SimpleType or a *ComplexType.
type Type interface {
	// TypeName is the type's name; its local part is empty for a type without one.
	TypeName() Name
	// BaseType is what the type is derived from, nil for the ur-type.
	BaseType() Type
	About() string
}

// Element is an element declaration (Part 1, 3.3).
type Element struct {
	Name          Name
	Type          Type
	Nillable      bool
	Abstract      bool
	Global        bool
	Default       *string
	Fixed         *string
	Head          *Element // of the substitution group
	Constraints   []*Constraint
	Documentation string

	block, final derivation
	at           Problem // where it is declared, for messages
}

// Attribute is an attribute declaration (Part 1, 3.2).
type Attribute struct {
	Name          Name
	Type          *SimpleType
	Default       *string
	Fixed         *string
	Documentation string
	at            Problem
}

// AttributeUse is an attribute as a complex type uses it (Part 1, 3.5).
type AttributeUse struct {
	*Attribute
	Required bool
	Default  *string
	Fixed    *string
}

// ContentKind says what may be inside an element.
type ContentKind uint8

// The kinds of content.
const (
	EmptyContent ContentKind = iota
	SimpleContent
	ElementContent
	MixedContent
)

// ComplexType is a complex type definition (Part 1, 3.4).
type ComplexType struct {
	Name          Name
	Base          Type
	Extension     bool // derived by extension, not by restriction
	Abstract      bool
	Content       ContentKind
	Simple        *SimpleType // of SimpleContent
	Particle      *Particle   // of ElementContent and MixedContent; nil for nothing but text
	Attributes    []*AttributeUse
	AnyAttribute  *Wildcard
	Documentation string

	block, final derivation
	// ArrayOf says, for an array of the SOAP encoding, what its items are.
	ArrayOf *ArrayType

	prohibited map[Name]bool // attributes that this restriction takes away
	uses       map[Name]*AttributeUse
	automaton  atomic.Pointer[model] // made when it is first needed
	at         Problem
}

// TypeName implements Type.
func (t *ComplexType) TypeName() Name { return t.Name }

// BaseType implements Type.
func (t *ComplexType) BaseType() Type { return t.Base }

func (t *ComplexType) About() string { return t.Documentation }

// Particle is a part of a content model (Part 1, 3.9). Term is an *Element, a
// *Group or a *Wildcard.
type Particle struct {
	Min, Max int // Max may be Unbounded
	Term     any
}

// Elements visits the elements that a content model names, in their order.
func (p *Particle) Elements(visit func(*Element)) {
	if p == nil {
		return
	}
	switch term := p.Term.(type) {
	case *Element:
		visit(term)
	case *Group:
		for _, inner := range term.Particles {
			inner.Elements(visit)
		}
	}
}

// GroupKind says how the particles of a group follow one another.
type GroupKind uint8

// The kinds of groups.
const (
	Sequence GroupKind = iota
	Choice
	All
)

func (k GroupKind) String() string { return [...]string{"sequence", "choice", "all"}[k] }

// Group is a model group (Part 1, 3.8).
type Group struct {
	Kind          GroupKind
	Particles     []*Particle
	Documentation string
}

// Wildcard is any or anyAttribute (Part 1, 3.10).
type Wildcard struct {
	any           bool     // every namespace
	not           *string  // every namespace but this one and none
	spaces        []string // or just these; "" is not a namespace
	Process       Process
	Documentation string
}

// Process says how what is in place of a wildcard is validated.
type Process uint8

// The ways of processContents.
const (
	Strict Process = iota
	Lax
	Skip
)

// Allows says whether the namespace may be there.
func (w *Wildcard) Allows(space string) bool {
	switch {
	case w.any:
		return true
	case w.not != nil:
		return space != "" && space != *w.not
	}
	for _, s := range w.spaces {
		if s == space {
			return true
		}
	}
	return false
}

// Namespace gives one that the wildcard allows: the first that it names, else one that is made up.
func (w *Wildcard) Namespace() string {
	if !w.any && w.not == nil && len(w.spaces) > 0 {
		return w.spaces[0]
	}
	return "urn:example:any"
}

func (w *Wildcard) String() string {
	switch {
	case w.any:
		return "any element"
	case w.not != nil:
		return "any element of a namespace other than " + *w.not
	}
	return fmt.Sprintf("any element of %q", w.spaces)
}

// derivation is a set of ways to derive, for block and final.
type derivation uint8

const (
	byExtension derivation = 1 << iota
	byRestriction
	bySubstitution
	byList
	byUnion
)

// Element returns the global declaration, or nil.
func (s *Schema) Element(space, local string) *Element { return s.Elements[Name{space, local}] }

// SubstitutionGroup returns the elements that may be in place of the head, abstract ones too.
func (s *Schema) SubstitutionGroup(head *Element) []*Element { return s.substitutes[head] }

// Substitutes returns the elements that may be in place of the head, without abstract ones.
func (s *Schema) Substitutes(head *Element) []*Element {
	var usable []*Element
	for _, e := range s.substitutes[head] {
		if !e.Abstract {
			usable = append(usable, e)
		}
	}
	return usable
}

// SubstituteNames are the names of those that may be in place of the head.
func (s *Schema) SubstituteNames(head *Element) []string {
	var names []string
	for _, e := range s.Substitutes(head) {
		names = append(names, e.Name.Local)
	}
	return names
}

// Derived returns the complex types with a name that are derived from the type,
// without abstract ones, by name.
func (s *Schema) Derived(base Type) []*ComplexType {
	var found []*ComplexType
	for _, t := range s.Types {
		if c, ok := t.(*ComplexType); ok && Type(c) != base && !c.Abstract && DerivedFrom(c, base, 0) {
			found = append(found, c)
		}
	}
	sort.Slice(found, func(i, j int) bool { return found[i].Name.Full() < found[j].Name.Full() })
	return found
}

// DerivedNames are the names of the types that xsi:type may give in place of an
// abstract one.
func (s *Schema) DerivedNames(base Type) []string {
	var names []string
	for _, t := range s.Derived(base) {
		names = append(names, t.Name.Local)
	}
	return names
}

// DerivedFrom says whether t is base or derived from it in ways that are not
// blocked (Part 1, 3.4.6 and 3.14.6: Type Derivation OK).
func DerivedFrom(t, base Type, blocked derivation) bool {
	for steps := 0; t != nil && steps < 10_000; steps++ {
		if t == base || base == Type(anyType) {
			return true
		}
		switch t := t.(type) {
		case *ComplexType:
			if t.Extension && blocked&byExtension != 0 || !t.Extension && blocked&byRestriction != 0 {
				return false
			}
		case *SimpleType:
			if union, ok := base.(*SimpleType); ok && union.Variety == Union {
				for _, member := range union.Members {
					if DerivedFrom(t, member, blocked) {
						return true
					}
				}
			}
			if blocked&byRestriction != 0 {
				return false
			}
		}
		if t.BaseType() == nil {
			return false
		}
		t = t.BaseType()
	}
	return false
}

// anyType is the ur-type (Part 1, 3.4.7): everything, validated where it can be.
var anyType = func() *ComplexType {
	everything := &Wildcard{any: true, Process: Lax}
	return &ComplexType{
		Name: Name{Namespace, "anyType"}, Content: MixedContent, AnyAttribute: everything,
		Particle: &Particle{
			Min: 1, Max: 1,
			Term: &Group{Particles: []*Particle{{Min: 0, Max: Unbounded, Term: everything}}},
		},
	}
}()

// AnyType returns the ur-type.
func AnyType() *ComplexType { return anyType }

// SortNames puts names in the order of their namespaces and local parts.
func SortNames(names []Name) {
	sort.Slice(names, func(i, j int) bool { return names[i].Full() < names[j].Full() })
}

// BuiltinType finds a type of XML Schema itself by its local name; nil for none.
func BuiltinType(local string) *SimpleType {
	t, _ := (&Schema{}).Type(Name{Space: Namespace, Local: local}).(*SimpleType)
	return t
}

// FieldNames lists the names that Fill knows for a type: child elements, then
// attributes.
func (t *ComplexType) FieldNames() []string {
	var names []string
	seen := map[string]bool{}
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
	}
	t.Particle.Elements(func(e *Element) { add(e.Name.Local) })
	for _, use := range t.Attributes {
		add(use.Name.Local)
	}
	return names
}
