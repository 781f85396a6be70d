// Package instance works with messages of a schema and the fields that people give and read:
// it makes an instance of fields, draws the fields out of one, outlines what fields there are,
// makes samples, and gives types in the forms in which contracts are compared and described.
package instance

import (
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd"
)

// ElementType is an element to those that use schemas of every language: a
// request is filled into it, an answer checked against it.
type ElementType struct {
	Schema *xsd.Schema
	// Declared is nil where the root of the message says which element it is.
	Declared *xsd.Element
}

// Words says what the element's own text is, "" where it holds others.
func (e ElementType) Words() string {
	if e.Declared == nil {
		return ""
	}
	if simple, ok := e.Declared.Type.(*xsd.SimpleType); ok {
		return simple.FacetWords()
	}
	return ""
}

// Outline lists the fields.
func (e ElementType) Outline(depth int) []schema.Row {
	if e.Declared == nil {
		return nil
	}
	return Outline(e.Schema, e.Declared, depth)
}

// Fill makes the element.
func (e ElementType) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	if e.Declared == nil || v.Kind == document.Element {
		return v, nil
	}
	return Fill(e.Schema, e.Declared, v, FillOptions{})
}

// Check holds an element against its declaration.
func (e ElementType) Check(v *document.Node) []schema.Fault {
	if v.Kind != document.Element {
		return []schema.Fault{{Message: "is not XML, but " + v.Describe()}}
	}
	decl := e.Declared
	if name := (xsd.Name{Space: v.Name().Space, Local: v.Name().Local}); decl == nil {
		decl = e.Schema.Elements[name]
		if decl == nil {
			return []schema.Fault{{
				Line: int(v.Line), Column: int(v.Column),
				Message: name.Full() + " is not an element of the schema",
			}}
		}
	} else if decl.Name != name {
		return []schema.Fault{{
			Line: int(v.Line), Column: int(v.Column),
			Message: "is " + name.Full() + ", and must be " + decl.Name.Full(),
		}}
	}
	var faults []schema.Fault
	validator := xsd.NewValidator(e.Schema)
	validator.Report = func(f xsd.Fault) { faults = append(faults, f) }
	validator.Tree(v, decl, nil)
	return faults
}

// Sample makes the element.
func (e ElementType) Sample(o schema.SampleOptions) *schema.Sample {
	if e.Declared == nil {
		return &schema.Sample{Root: document.NewObject()}
	}
	return Sample(e.Schema, e.Declared, o)
}

// ValueType is a simple type to those that use schemas of every language.
type ValueType struct{ Simple *xsd.SimpleType }

// Words says what values it takes.
func (t ValueType) Words() string { return t.Simple.FacetWords() }

// Outline has no fields.
func (t ValueType) Outline(int) []schema.Row { return nil }

// Fill holds a text against the type.
func (t ValueType) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	if v == schema.Unknown {
		return v, nil
	}
	value := v.Value()
	if !value.IsScalar() {
		return v, []schema.FillError{{Message: "must be a single value, and is " + v.Describe()}}
	}
	if err := t.Simple.Check(value.Text, xsd.NoPrefix{}); err != nil {
		return v, []schema.FillError{{Message: err.Error()}}
	}
	return v, nil
}

// Check holds a text against the type.
func (t ValueType) Check(v *document.Node) []schema.Fault {
	var faults []schema.Fault
	_, short := t.Fill(v)
	for _, s := range short {
		faults = append(faults, schema.Fault{Message: s.Message})
	}
	return faults
}

// Sample gives a value.
func (t ValueType) Sample(schema.SampleOptions) *schema.Sample {
	return &schema.Sample{Root: document.NewUntyped(t.Simple.Sample())}
}
