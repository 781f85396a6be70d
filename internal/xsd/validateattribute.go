package xsd

import (
	"strings"

	"testbench/internal/excerpt"
	"testbench/internal/suggest"
)

// Attributes.

func (v *Validator) simpleAttributes(element Name, attrs attributesOf) {
	for i := range attrs.len() {
		name, _, declares := attrs.at(i)
		if !declares && name.Space != InstanceNamespace && !v.Ignore[name.Space] {
			v.faultAt(v.placeOf(attrs, i), v.path(), "%s has no attribute %s", element.Local, name.Local)
		}
	}
}

func (v *Validator) attributes(t *ComplexType, attrs attributesOf) {
	found, next := 0, 0
	for i := range attrs.len() {
		name, declares := attrs.name(i)
		if declares || name.Space == InstanceNamespace && isInstanceAttribute(name.Local) {
			continue
		}
		var use *AttributeUse
		if next < len(t.Attributes) && t.Attributes[next].Name == name { // most are written in their order
			use = t.Attributes[next]
		} else {
			use = t.uses[name]
		}
		next++
		if use != nil {
			if use.Required {
				found++
			}
			if attrs.tree != nil || use.Fixed != nil || !use.Type.surely(attrs.stream[i].Value) ||
				use.Type.mayIdentify() {
				v.attribute(attrs, i, use.Attribute, use.Fixed, attrs.text(i))
			}
			continue
		}
		if t.AnyAttribute != nil && t.AnyAttribute.Allows(name.Space) {
			v.anyAttribute(t.AnyAttribute, attrs, i, name, attrs.text(i))
			continue
		}
		if v.Ignore[name.Space] {
			continue
		}
		var known []string
		for _, use := range t.Attributes {
			known = append(known, use.Name.Local)
		}
		v.faultAt(v.placeOf(attrs, i), v.path(), "%s has no attribute %s%s", v.names[len(v.names)-1].Local, name.Local,
			suggest.Ending(name.Local, known))
	}
	required := 0
	for _, use := range t.Attributes {
		if use.Required {
			required++
		}
	}
	if found < required {
		v.missingAttributes(t, attrs)
	}
}

func isInstanceAttribute(local string) bool {
	return local == "type" || local == "nil" || local == "schemaLocation" || local == "noNamespaceSchemaLocation"
}

func (v *Validator) missingAttributes(t *ComplexType, attrs attributesOf) {
	for _, use := range t.Attributes {
		if !use.Required {
			continue
		}
		there := false
		for i := range attrs.len() {
			if name, _, declares := attrs.at(i); !declares && name == use.Name {
				there = true
			}
		}
		if !there {
			v.fault("the attribute %s is missing", use.Name.Local)
		}
	}
}

func (v *Validator) attribute(attrs attributesOf, i int, a *Attribute, fixed *string, text string) {
	value, err := a.Type.Parse(text, v.lookup)
	if err != nil {
		v.faultAt(v.placeOf(attrs, i), v.path()+"."+a.Name.Local, "%s", err)
		return
	}
	if fixed != nil {
		if expected, err := a.Type.Parse(*fixed, nil); err == nil && !expected.Same(value) {
			v.faultAt(v.placeOf(attrs, i), v.path()+"."+a.Name.Local, "%s must be %s", excerpt.Quote(text),
				excerpt.Quote(*fixed))
		}
	}
	if a.Type.mayIdentify() {
		v.identifier(a.Type, a.Type.Normalize(text), v.placeOf(attrs, i), v.path()+"."+a.Name.Local)
	}
}

func (v *Validator) anyAttribute(w *Wildcard, attrs attributesOf, i int, name Name, text string) {
	if w.Process == Skip {
		return
	}
	a := v.schema.Attributes[name]
	switch {
	case a != nil:
		v.attribute(attrs, i, a, a.Fixed, text)
	case w.Process == Strict:
		v.faultAt(v.placeOf(attrs, i), v.path(), "the attribute %s is not declared, and must be", name.Local)
	}
}

// mayIdentify says whether values of the type could be IDs or refer to them.
func (t *SimpleType) mayIdentify() bool {
	return t.identifies || t.Variety == List && t.Item.mayIdentify()
}

// identifier notes values of ID and IDREF (Part 1, 3.3.4: Validation Root Valid).
func (v *Validator) identifier(t *SimpleType, text string, at place, path string) {
	if t.Variety == List && t.Item != nil {
		for _, item := range strings.Fields(text) {
			v.identifier(t.Item, item, at, path)
		}
		return
	}
	switch {
	case t.isA("ID"):
		if v.ids[text] {
			v.faultAt(at, path, "the ID %s is there twice in the document", text)
		}
		v.ids[text] = true
	case t.isA("IDREF"):
		v.idrefs = append(v.idrefs, keyRef{key: text, words: path, at: at})
	}
}
