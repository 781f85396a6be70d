package contract

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// Overlay is what a bench says of fields of a body beyond the contract: each by its path, names with dots between
// that lead through lists, too. An empty path is the value itself.
type Overlay []Parameter

// Amend gives the operation with what a bench says of it beyond its contract: by is by the places and names of the
// contract. A field that the contract does not have is an error.
func (o *Endpoint) Amend(by *Endpoint) (Operation, error) {
	out := *o
	if by.About != "" {
		out.About = by.About
	}
	out.Deprecated = out.Deprecated || by.Deprecated
	out.Parameters = slices.Clone(o.Parameters)
	for _, p := range by.Parameters {
		i := slices.IndexFunc(o.Parameters,
			func(own Parameter) bool { return own.In == p.In && (own.Wire == p.Wire || own.Name == p.Wire) })
		switch {
		case i >= 0:
			out.Parameters[i].amend(p)
		case o.Body == nil || p.In != InBody && p.In != InForm:
			return nil, unknownIn(o.Name, p, o.FieldNames())
		default:
			out.Overlay = append(out.Overlay, p)
		}
	}
	if len(out.Overlay) == 0 {
		return &out, nil
	}
	body := *o.Body
	body.Contents = slices.Clone(body.Contents)
	var rows []schema.Row
	for i, c := range body.Contents {
		if c.Schema != nil {
			rows = append(rows, c.Schema.Outline(0)...)
			body.Contents[i].Schema = amended{c.Schema, out.Overlay}
		}
	}
	out.Body = &body
	return &out, out.Overlay.Within(o.Name, rows)
}

// Within says which field of an overlay an operation does not have; nil where it has all.
func (l Overlay) Within(operation string, rows []schema.Row) error {
	var names []string
	for _, row := range rows {
		names = append(names, plainPath(row.Path))
	}
	for _, p := range l {
		if !slices.Contains(names, p.Wire) {
			return unknownIn(operation, p, names)
		}
	}
	return nil
}

// unknownIn tells of a field of an overlay that the contract does not have.
func unknownIn(operation string, p Parameter, names []string) error {
	return &OverlayError{
		Message: fmt.Sprintf("%s has no field %q in its contract (%s)", operation, p.Wire, placeWords[p.In]),
		Try:     suggest.DidYouMean(p.Wire, names),
	}
}

// OverlayError tells of a field that the contract does not have.
type OverlayError struct{ Message, Try string }

func (e *OverlayError) Error() string { return strings.TrimSuffix(e.Message+"; "+e.Try, "; ") }

// plainPath is a path without places in lists.
func plainPath(path string) string {
	var out strings.Builder
	for path != "" {
		before, rest, _ := strings.Cut(path, "[")
		out.WriteString(before)
		_, path, _ = strings.Cut(rest, "]")
	}
	return out.String()
}

// amend adds what a bench says of a parameter.
func (p *Parameter) amend(by Parameter) {
	if p.Schema != nil {
		root := by
		root.Wire = ""
		p.Schema = amended{p.Schema, Overlay{root}}
	}
	if by.Name != by.Wire {
		p.Name = by.Name
	}
	if by.Kind != "" {
		p.Kind = by.Kind
	}
	if len(by.OneOf) > 0 {
		p.OneOf = by.OneOf
	}
	if by.Style != "" {
		p.Style, p.Joined = by.Style, by.Joined
	}
	p.Required, p.Deprecated = p.Required || by.Required, p.Deprecated || by.Deprecated
	p.About = or(by.About, p.About)
	p.Computed = or(by.Computed, p.Computed)
	for _, one := range []struct{ from, into **document.Node }{
		{&by.Default, &p.Default}, {&by.Fixed, &p.Fixed}, {&by.Example, &p.Example},
	} {
		if *one.from != nil {
			*one.into = *one.from
		}
	}
}

func or(first, second string) string {
	if first != "" {
		return first
	}
	return second
}

// Fill puts fixed and default values to the fields that are given, and tells what is wrong with those. A field is
// required within what holds it, where that is given.
func (l Overlay) Fill(fields *document.Node, isKind func(kind string, v *document.Node) bool) (*document.Node,
	[]Problem,
) {
	var problems []Problem
	for _, p := range l {
		fields = p.fillAt(fields, strings.Split(p.Wire, "."), isKind, &problems)
	}
	return fields, problems
}

func (p *Parameter) fillAt(v *document.Node, path []string, isKind func(kind string, v *document.Node) bool,
	problems *[]Problem,
) *document.Node {
	if v != nil && v.Kind == document.List {
		items := make([]*document.Node, len(v.Items()))
		for i, item := range v.Items() {
			items[i] = p.fillAt(item, path, isKind, problems)
		}
		return document.NewList(items...)
	}
	if v == nil || v.Kind != document.Object {
		return v // not known yet, or the contract says what is wrong with it
	}
	given, put := v.Get(path[0]), (*document.Node)(nil)
	switch {
	case len(path) > 1:
		put = p.fillAt(given, path[1:], isKind, problems)
	case given == nil && p.Fixed != nil:
		put = p.Fixed
	case given == nil && p.Default != nil:
		put = p.Default
	case given == nil && p.Required:
		*problems = append(*problems, Problem{Missing: p.Wire, Message: p.Wire + " is missing"})
	case given != nil && p.Fixed != nil && !document.Equal(given, p.Fixed) && given != schema.Unknown:
		*problems = append(*problems, Problem{
			Field: p.Wire, OfValue: true, Message: fmt.Sprintf("%s is always %q", p.Wire,
				p.Fixed.Text), Try: "take it out",
		})
	case given != nil && isKind != nil:
		if wrong := p.Check(given, isKind); wrong != "" {
			*problems = append(*problems, Problem{Field: p.Wire, OfValue: true, Message: wrong})
		}
	}
	if put == nil || put == given {
		return v
	}
	return v.Copy().Set(path[0], put)
}

// Rows are those of an outline with what the overlay adds.
func (l Overlay) Rows(rows []schema.Row) []schema.Row {
	out := slices.Clone(rows)
	for i := range out {
		for _, p := range l {
			if row := &out[i]; plainPath(row.Path) == p.Wire {
				p.amendRow(row)
			}
		}
	}
	return out
}

func (p *Parameter) amendRow(row *schema.Row) {
	by := p.row()
	row.Type = or(by.Type, row.Type)
	if p.Required {
		row.Required, row.Occurs = true, strings.TrimPrefix(row.Occurs, "may be left out")
	}
	row.Default, row.Fixed = or(by.Default, row.Default), or(by.Fixed, row.Fixed)
	row.Example, row.About = or(by.Example, row.Example), or(by.About, row.About)
}

// Sample makes a sample with the values of the overlay, and with the fields that it requires.
func (l Overlay) Sample(o schema.SampleOptions, sample func(o schema.SampleOptions) *schema.Sample) *schema.Sample {
	made := sample(o)
	if !o.Optional && slices.ContainsFunc(l, func(p Parameter) bool { return p.Required || p.Fixed != nil }) {
		o.Optional = true
		whole := sample(o)
		for n, remark := range made.Remarks {
			whole.Remarks[n] = remark
		}
		made.Root, made.Remarks = l.joined(made.Root, whole.Root, ""), whole.Remarks
	}
	for _, p := range l {
		if v := p.sampled(); v != nil {
			p.put(made, made.Root, p.Wire)
		}
	}
	return made
}

// sampled is the value that the overlay gives a field of a sample; nil for none of its own.
func (p *Parameter) sampled() *document.Node {
	switch {
	case p.Fixed != nil:
		return p.Fixed
	case p.Example == nil && p.Default == nil && len(p.OneOf) == 0 && p.Kind == "":
		return nil
	}
	return p.sample(schema.SampleOptions{})
}

// put puts the value where the path leads to.
func (p *Parameter) put(made *schema.Sample, n *document.Node, path string) {
	if path == "" {
		v := p.sampled()
		if n.Kind == document.Element {
			n.SetItems([]*document.Node{document.NewText(v.Text)})
		} else if n.IsScalar() || n.Kind == document.Object && len(n.Members()) == 0 {
			n.Become(v.Copy())
		}
		if words := p.words(); words != "" {
			made.Remarks[n] = words
		}
		return
	}
	name, rest, _ := strings.Cut(path, ".")
	for _, item := range n.Items() {
		if n.Kind == document.List {
			p.put(made, item, path)
		}
	}
	for _, part := range partsOf(n) {
		if part.Key == name {
			p.put(made, part.Value, rest)
		}
	}
}

// partsOf are the members of an object, or the children of an element.
func partsOf(n *document.Node) []document.Member {
	if n.Kind != document.Element {
		return n.Members()
	}
	var parts []document.Member
	for _, child := range n.Children() {
		parts = append(parts, document.Member{Key: child.Name().Local, Value: child})
	}
	return parts
}

// joined is a sample with the parts of the whole one that the overlay requires, in the order of that.
func (l Overlay) joined(made, whole *document.Node, path string) *document.Node {
	if made.Kind == document.List && len(made.Items()) > 0 && len(whole.Items()) > 0 {
		return document.NewList(l.joined(made.Items()[0], whole.Items()[0], path))
	}
	own := partsOf(made)
	if made.IsScalar() || made.Kind == document.List || len(own) == 0 && len(partsOf(whole)) == 0 {
		return made
	}
	var parts []document.Member
	for _, part := range partsOf(whole) {
		inner := schema.Below(path, part.Key)
		i := slices.IndexFunc(own, func(m document.Member) bool { return m.Key == part.Key })
		switch {
		case i >= 0:
			part.Value = l.joined(own[i].Value, part.Value, inner)
			own = slices.Delete(slices.Clone(own), i, i+1)
		case !slices.ContainsFunc(l,
			func(p Parameter) bool { return p.Wire == inner && (p.Required || p.Fixed != nil) }):
			continue
		}
		parts = append(parts, part)
	}
	out := made.Copy()
	if made.Kind == document.Object {
		out.SetMembers(parts)
		return out
	}
	items := make([]*document.Node, len(parts))
	for i, part := range parts {
		items[i] = part.Value
	}
	out.SetItems(items)
	return out
}

// Shape is what is known of a value, with what the overlay adds; nil for nil.
func (l Overlay) Shape(s *schema.Shape) *schema.Shape { return l.shapeAt(s, "") }

func (l Overlay) shapeAt(s *schema.Shape, path string) *schema.Shape {
	if s == nil || !slices.ContainsFunc(l,
		func(p Parameter) bool { return path == "" || p.Wire == path || strings.HasPrefix(p.Wire, path+".") }) {
		return s
	}
	out := *s
	out.ID = nil
	for _, p := range l {
		if p.Wire == path && len(p.OneOf) > 0 {
			out.Only = p.OneOf
		}
	}
	if s.Items != nil {
		out.Items = func() *schema.Shape { return l.shapeAt(s.Items(), path) }
	}
	if s.Fields != nil {
		out.Fields = func() []schema.ShapeField {
			fields := slices.Clone(s.Fields())
			for i, f := range fields {
				at := schema.Below(path, strings.TrimPrefix(f.Name, "@"))
				fields[i].Shape = func() *schema.Shape { return l.shapeAt(f.Shape(), at) }
				for _, p := range l {
					fields[i].Required = fields[i].Required || p.Wire == at && p.IsMandatory()
				}
			}
			return fields
		}
	}
	return &out
}

// amended is a type with an overlay.
type amended struct {
	schema.Type
	overlay Overlay
}

// Words say what the value is.
func (a amended) Words() string {
	for _, p := range a.overlay {
		if p.Wire == "" && (len(p.OneOf) > 0 || p.Kind != "") {
			return p.words()
		}
	}
	return a.Type.Words()
}

// Outline lists the fields.
func (a amended) Outline(depth int) []schema.Row { return a.overlay.Rows(a.Type.Outline(depth)) }

// Sample makes a valid value.
func (a amended) Sample(o schema.SampleOptions) *schema.Sample {
	return a.overlay.Sample(o, a.Type.Sample)
}

// Shape is what the type takes; nil where its own is not known.
func (a amended) Shape() *schema.Shape {
	if shaped, ok := a.Type.(schema.Shaped); ok {
		return a.overlay.Shape(shaped.Shape())
	}
	return nil
}

// DefaultText is the default of the type, "" for none.
func (a amended) DefaultText() string {
	if d, ok := a.Type.(interface{ DefaultText() string }); ok {
		return d.DefaultText()
	}
	return ""
}
