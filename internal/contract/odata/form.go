package odata

import (
	"slices"

	"testbench/internal/schema"
)

// widerEdm lists the primitive types that take all values of one (CSDL XML 4.01, 3.3).
var widerEdm = map[string][]string{
	"Edm.Byte": {"Edm.Int16", "Edm.Int32", "Edm.Int64"}, "Edm.SByte": {"Edm.Int16", "Edm.Int32", "Edm.Int64"},
	"Edm.Int16": {"Edm.Int32", "Edm.Int64"}, "Edm.Int32": {"Edm.Int64"}, "Edm.Single": {"Edm.Double"},
}

// Shape says what the object takes.
func (o *object) Shape() *schema.Shape {
	if o.t == nil {
		if o.single == nil {
			return &schema.Shape{}
		}
		return o.property(o.single)
	}
	shape := o.typed(o.t)
	if !o.list {
		return shape
	}
	return &schema.Shape{Kinds: []string{"list"}, Items: func() *schema.Shape { return shape }}
}

// typed is the shape of an entity or a complex value. Whoever reads has to be ready for
// properties that were added (OData 4.01, Part 1, 5.2).
func (o *object) typed(t *typeDef) *schema.Shape {
	out := &schema.Shape{ID: t, Kinds: []string{"object"}, Members: schema.Closed}
	if o.use == forAnswer || o.m.isOpen(t) {
		out.Members = schema.Open
	}
	out.Fields = func() []schema.ShapeField {
		var fields []schema.ShapeField
		properties, key := o.m.all(t)
		for _, p := range properties {
			if !o.isSettable(p, key) || p.navigation && o.use != forAnswer {
				continue
			}
			fields = append(fields,
				schema.ShapeField{
					Name: p.name, Required: o.isRequired(p, key), Default: p.fallback,
					Shape: func() *schema.Shape { return o.property(p) },
				})
		}
		return fields
	}
	return out
}

func (o *object) property(p *property) *schema.Shape {
	single := &schema.Shape{}
	edm, enum, _ := o.m.primitive(p.typeName)
	f := o.m.bounds(p)
	switch inner := o.m.find(p.typeName); {
	case enum != nil:
		single.Kinds, single.Only = []string{"text"}, []string{}
		for _, member := range enum.members {
			single.Only = append(single.Only, member.name)
		}
	case edm != "":
		single.Kinds = []string{"text"}
		switch {
		case edm == "Edm.Boolean":
			single.Kinds = []string{"boolean"}
		case isNumeric(edm) || edm == "Edm.Double" || edm == "Edm.Single":
			single.Kinds = []string{"number"}
		}
		single.Formats = append([]string{edm}, widerEdm[edm]...)
	case inner != nil:
		single = o.typed(inner)
	}
	single.Words = o.m.words(&property{typeName: p.typeName, facets: p.facets, navigation: p.navigation})
	positive := func(n int) *int {
		if n <= 0 {
			return nil
		}
		return &n
	}
	single.MaxLength = positive(f.maxLength)
	if edm == "Edm.Decimal" {
		single.TotalDigits = positive(f.precision)
		if f.scale >= 0 {
			single.FractionDigits = &f.scale
		}
	}
	if p.collection {
		return &schema.Shape{Words: o.m.words(p), Kinds: []string{"list"}, Items: func() *schema.Shape {
			return single
		}}
	}
	if p.nullable && !p.navigation {
		single.Kinds = append(slices.Clone(single.Kinds), "null")
	}
	return single
}
