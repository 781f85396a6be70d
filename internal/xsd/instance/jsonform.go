package instance

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/datatype"
)

// JSONForm says in JSON Schema (2020-12) what Fields gives, and Fill takes. Types with a
// name go into defs, under names that are theirs alone.
type JSONForm struct {
	schema *xsd.Schema
	defs   *document.Node
	names  map[xsd.Type]string
	taken  map[string]bool
}

// NewJSONForm begins a set of definitions.
func NewJSONForm(s *xsd.Schema) *JSONForm {
	return &JSONForm{schema: s, defs: document.NewObject(), names: map[xsd.Type]string{}, taken: map[string]bool{}}
}

// Definitions are those that the schemas made so far refer to.
func (j *JSONForm) Definitions() *document.Node { return j.defs }

func text(s string) *document.Node { return document.NewText(s) }

func number(n int) *document.Node { return document.NewNumber(fmt.Sprint(n)) }

func typeIs(t string) *document.Node { return document.NewObject().Set("type", text(t)) }

// Element is the schema of what is in an element.
func (j *JSONForm) Element(e *xsd.Element) *document.Node {
	out := j.typed(e.Type)
	if names := j.schema.Derived(e.Type); len(names) > 0 {
		if _, ok := e.Type.(*xsd.ComplexType); ok {
			any := document.NewList()
			if c := e.Type.(*xsd.ComplexType); !c.Abstract {
				any.AppendItems(out)
			}
			for _, d := range names {
				any.AppendItems(j.typedAs(d))
			}
			out = document.NewObject().Set("anyOf", any)
		}
	}
	if e.Nillable {
		out = document.NewObject().Set("anyOf", document.NewList(out, typeIs("null")))
	}
	if e.Fixed != nil {
		if simple, ok := e.Type.(*xsd.SimpleType); ok {
			out = document.NewObject().Set("const", simpleField(simple, *e.Fixed))
		}
	}
	if about := e.Documentation; about != "" {
		wrapped := document.NewObject()
		if out.Get("$ref") == nil && out.Get("description") == nil {
			wrapped = out
		} else {
			wrapped.Set("allOf", document.NewList(out))
		}
		out = wrapped.Set("description", text(strings.Join(strings.Fields(about), " ")))
	}
	return out
}

// typedAs is a type that is named beside what it holds.
func (j *JSONForm) typedAs(c *xsd.ComplexType) *document.Node {
	named := document.NewObject().Set("type", text("object")).
		Set("properties", document.NewObject().Set("@xsi:type", document.NewObject().Set("const", text(c.Name.Local)))).
		Set("required", document.NewList(text("@xsi:type")))
	return document.NewObject().Set("allOf", document.NewList(named, j.typed(c)))
}

func (j *JSONForm) typed(t xsd.Type) *document.Node {
	switch t := t.(type) {
	case *xsd.SimpleType:
		return j.simple(t)
	case *xsd.ComplexType:
		switch {
		case t == xsd.AnyType():
			return document.NewObject()
		case t.Name.Local == "":
			return j.complex(t)
		}
		name, known := j.names[t]
		if !known {
			name = j.name(t.Name.Local)
			j.names[t] = name
			j.defs.Set(name, document.NewObject()) // it may hold itself
			j.defs.Set(name, j.complex(t))
		}
		return document.NewObject().Set("$ref", text("#/components/schemas/"+name))
	}
	return document.NewObject()
}

func (j *JSONForm) name(local string) string {
	name := local
	for i := 2; j.taken[name]; i++ {
		name = fmt.Sprintf("%s%d", local, i)
	}
	j.taken[name] = true
	return name
}

func (j *JSONForm) complex(t *xsd.ComplexType) *document.Node {
	if t.ArrayOf != nil {
		items := document.NewObject()
		if item := j.schema.ItemType(t.ArrayOf); item != xsd.Type(xsd.AnyType()) {
			items = j.typed(item)
		}
		return typeIs("array").Set("items", items)
	}
	if t.Content == xsd.SimpleContent && len(t.Attributes) == 0 && t.AnyAttribute == nil {
		return j.simple(t.Simple)
	}
	w := &fieldWalk{shaper: &shaper{j.schema}, index: map[string]int{}}
	w.particle(t.Particle, true, "", 1)
	form := objectForm{document.NewObject(), document.NewList()}
	j.attributes(t, w, form)
	switch t.Content {
	case xsd.SimpleContent:
		form.add(".", j.simple(t.Simple), true)
	case xsd.MixedContent:
		form.add(".", typeIs("string"), false)
	}
	together := repeatsTogether(t.Particle)
	j.elements(t, w, form, together)
	if together {
		one := typeIs("object").Set("properties", form.properties).Set("minProperties", number(1)).Set("maxProperties",
			number(1))
		return typeIs("array").Set("items", one)
	}
	out := typeIs("object").Set("properties", form.properties)
	if len(form.required.Items()) > 0 {
		out.Set("required", form.required)
	}
	if !w.isOpen && t.AnyAttribute == nil {
		if c, ok := t.Base.(*xsd.ComplexType); t.Name.Local != "" &&
			(ok && c != xsd.AnyType() || len(j.schema.Derived(t)) > 0) {
			form.add("@xsi:type", typeIs("string"), false) // the name of a derived type is beside its fields
		}
		out.Set("additionalProperties", document.NewBoolean(false))
	}
	if t.Documentation != "" {
		out.Set("description", text(strings.Join(strings.Fields(t.Documentation), " ")))
	}
	return out
}

// objectForm is what an object holds.
type objectForm struct{ properties, required *document.Node }

func (f objectForm) add(key string, value *document.Node, isRequired bool) {
	f.properties.Set(key, value)
	if isRequired {
		f.required.AppendItems(text(key))
	}
}

// attributes adds those of a type; @ is before the name where an element is called so too.
func (j *JSONForm) attributes(t *xsd.ComplexType, w *fieldWalk, form objectForm) {
	for _, use := range t.Attributes {
		key := use.Name.Local
		if _, both := w.index[key]; both {
			key = "@" + key
		}
		one := j.simple(use.Type)
		if use.Fixed != nil {
			one = document.NewObject().Set("const", simpleField(use.Type, *use.Fixed))
		}
		form.add(key, one, use.Required)
	}
}

// elements adds those of a type, and the ones that may be in their place. Where they repeat together, each is one
// item of a list, and not a list itself.
func (j *JSONForm) elements(t *xsd.ComplexType, w *fieldWalk, form objectForm, together bool) {
	declared := map[string]*xsd.Element{}
	t.Particle.Elements(func(e *xsd.Element) {
		if declared[e.Name.Local] == nil {
			declared[e.Name.Local] = e
		}
	})
	for _, f := range w.fields {
		e := declared[f.Name]
		others := j.schema.Substitutes(e)
		for _, one := range append([]*xsd.Element{e}, others...) {
			if one.Abstract {
				continue
			}
			value := j.Element(one)
			if f.Max != 1 && !together {
				value = listForm(value, f)
			}
			form.add(one.Name.Local, value, one == e && f.Required && len(others) == 0)
		}
	}
}

func listForm(item *document.Node, f schema.ShapeField) *document.Node {
	list := typeIs("array").Set("items", item)
	if f.Min > 1 || f.Min == 1 && f.Required {
		list.Set("minItems", number(f.Min))
	}
	if f.Max > 1 {
		list.Set("maxItems", number(f.Max))
	}
	return list
}

// plainPattern are patterns that mean the same in XML Schema and in ECMA-262: without the
// classes and the subtractions that only the former has.
var plainPattern = lazy.Regexp(
	`^(?:[A-Za-z0-9 ,:;_@#/%=|()?*+{}.-]|\[\^?(?:[A-Za-z0-9_.@+]|[A-Za-z0-9]-[A-Za-z0-9])+\]|\\[d.*+?()\[\]{}|-])*$`)

func (j *JSONForm) simple(t *xsd.SimpleType) *document.Node {
	out := document.NewObject()
	kind := kindOfValue(t)
	if len(t.Enumeration) > 0 {
		values := document.NewList()
		for _, v := range t.Enumeration {
			values.AppendItems(simpleField(t, v.Text))
		}
		return out.Set("enum", values)
	}
	bound := func(key string, length *int) {
		if length != nil {
			out.Set(key, number(*length))
		}
	}
	switch kind {
	case document.List:
		out.Set("type", text("array")).Set("items", j.simple(t.Item))
		bound("minItems", t.MinLength)
		bound("maxItems", t.MaxLength)
		return out
	case document.Boolean:
		return out.Set("type", text("boolean"))
	case document.Number:
		name := "number"
		if t.FractionDigits != nil && *t.FractionDigits == 0 {
			name = "integer"
		}
		if t.Primitive != datatype.Decimal { // INF and NaN are not numbers in JSON
			return out.Set("anyOf",
				document.NewList(typeIs("number"),
					document.NewObject().Set("enum", document.NewList(text("INF"), text("-INF"), text("NaN")))))
		}
		out.Set("type", text(name))
		for _, b := range []struct {
			key   string
			bound *xsd.Bound
		}{
			{"minimum", t.MinInclusive},
			{"maximum", t.MaxInclusive},
			{"exclusiveMinimum", t.MinExclusive},
			{"exclusiveMaximum", t.MaxExclusive},
		} {
			if b.bound != nil && jsonNumber(b.bound.Text) != "" {
				out.Set(b.key, document.NewNumber(jsonNumber(b.bound.Text)))
			}
		}
		return out
	}
	if t.Missing {
		return out
	}
	out.Set("type", text("string"))
	if t.Primitive == datatype.String {
		bound("minLength", t.MinLength)
		bound("maxLength", t.MaxLength)
		bound("minLength", t.Length)
		bound("maxLength", t.Length)
	}
	if len(t.Patterns) == 1 && len(t.Patterns[0]) == 1 && plainPattern().MatchString(t.Patterns[0][0].Source) {
		out.Set("pattern", text("^(?:"+t.Patterns[0][0].Source+")$"))
	}
	if t.Primitive == datatype.Base64Binary {
		out.Set("contentEncoding", text("base64"))
	}
	if words := t.FacetWords(); words != "" && words != "text" {
		out.Set("description", text(words))
	}
	return out
}
