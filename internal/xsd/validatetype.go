package xsd

import (
	"strings"

	"testbench/internal/excerpt"
)

// instanceType takes the type that xsi:type names (Part 1, 3.3.4).
func (v *Validator) instanceType(f *frame, text string) {
	prefix, local, qualified := strings.Cut(text, ":")
	if !qualified {
		prefix, local = "", text
	}
	space, known := v.lookup.Lookup(prefix)
	if !known {
		v.fault("xsi:type is %q, whose prefix is not declared", text)
		return
	}
	named := v.schema.Type(Name{Current(space), local})
	switch {
	case named == nil:
		v.fault("xsi:type names the type %s, which is not declared", Name{space, local}.Full())
	case v.Encoded && isArrayOf(f.typ) && DerivedFrom(f.typ, named, 0):
	case f.typ != nil && !DerivedFrom(named, f.typ, blockFor(f)):
		why := "is not derived from"
		if DerivedFrom(named, f.typ, 0) {
			why = "may not replace"
		}
		v.fault("the type %s that xsi:type names %s %s", local, why, nameOr(f.typ.TypeName(), "the declared type"))
	default:
		f.typ = named
	}
}

func isArrayOf(t Type) bool {
	c, ok := t.(*ComplexType)
	return ok && c.ArrayOf != nil
}

func blockFor(f *frame) derivation {
	block := blockOf(f.typ)
	if f.decl != nil {
		block |= f.decl.block &^ bySubstitution
	}
	return block
}

// Type finds a type by name, built-in ones too; nil when there is none.
func (s *Schema) Type(name Name) Type {
	if t := s.Types[name]; t != nil {
		return t
	}
	if name.Space == Namespace {
		return builtinNamed(name.Local)
	}
	return nil
}

func (v *Validator) instanceNil(f *frame, text string) {
	switch {
	case text != "true" && text != "1" && text != "false" && text != "0":
		v.fault("xsi:nil is %q; it can be true or false", text)
	case f.decl == nil:
	case !f.decl.Nillable:
		v.fault("%s cannot be nil", f.decl.Name.Local)
	case text == "true" || text == "1":
		f.isNil = true
		if f.decl.Fixed != nil {
			v.fault("%s has the fixed value %s and cannot be nil", f.decl.Name.Local, excerpt.Quote(*f.decl.Fixed))
		}
	}
}
