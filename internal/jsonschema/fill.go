package jsonschema

import (
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// Fill gives the values of a request the types that the schema wants, and tells
// what is wrong with them. Where nothing is said of a value, it becomes what JSON
// would read it as.
func (s *Schema) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	f := &filler{direction: s.set.direction}
	filled := f.fill(s, v, "", 0)
	for _, fault := range s.Check(filled) {
		if !f.concernsUnknown(fault) {
			f.short = append(f.short,
				schema.FillError{Path: fault.Path, Message: strings.TrimPrefix(fault.Message, fault.Path+" ")})
		}
	}
	return filled, f.short
}

// Type gives a single value the type that the schema wants.
func (s *Schema) Type(v *document.Node) *document.Node { return typed(shapeOf(s.compiled), v) }

type filler struct {
	direction Direction
	short     []schema.FillError
	unknown   []string // paths of values that are not known yet
}

// concernsUnknown says whether what is wrong may be right once all is known.
func (f *filler) concernsUnknown(fault schema.Fault) bool {
	return slices.ContainsFunc(f.unknown, func(path string) bool {
		rest, below := strings.CutPrefix(path, fault.Path)
		return below && (fault.Path == "" || rest == "" || rest[0] == '.' || rest[0] == '[')
	})
}

func (f *filler) fill(s *Schema, v *document.Node, path string, depth int) *document.Node {
	if v == schema.Unknown {
		f.unknown = append(f.unknown, path)
		return v
	}
	if s == nil || depth > document.MaxDepth {
		return v
	}
	switch v.Kind {
	case document.Object:
		return f.object(s, v, path, depth)
	case document.List:
		list := &document.Node{Kind: document.List, Secret: v.Secret}
		for i, item := range v.Items() {
			list.AppendItems(f.fill(s.item(i), item, path+"["+strconv.Itoa(i)+"]", depth+1))
		}
		return list
	}
	return typed(shapeOf(s.compiled), v)
}

func (f *filler) object(s *Schema, v *document.Node, path string, depth int) *document.Node {
	out := &document.Node{Kind: document.Object, Secret: v.Secret}
	properties := s.properties()
	names := make([]string, len(properties))
	known := map[string]property{}
	for i, p := range properties {
		names[i] = p.name
		known[p.name] = p
	}
	for _, m := range v.Undotted(names).Members() {
		p, named := known[m.Key]
		below := schema.Below(path, m.Key)
		inner := p.schema
		if !named {
			inner = s.property(m.Key)
		}
		switch {
		case named && p.readOnly && f.direction == Request:
			f.short = append(f.short, schema.FillError{Path: below, Message: "is read-only: the service sets it"})
		case !named && inner == nil && !s.isOpen():
			if near := suggest.Closest(m.Key, names); near != "" && v.Get(near) == nil {
				f.short = append(f.short,
					schema.FillError{Path: below, Message: "is unknown; " + suggest.DidYouMean(m.Key, names)})
			}
		}
		out.AppendMembers(document.Member{Key: m.Key, Value: f.fill(inner, m.Value, below, depth+1)})
	}
	return out
}

// typed gives a scalar without a type of its own one that is taken.
func typed(h *shape, v *document.Node) *document.Node {
	if v.Kind != document.Untyped || v == schema.Unknown {
		return v
	}
	as := func(kind document.Kind, text string) *document.Node {
		return &document.Node{Kind: kind, Text: text, Secret: v.Secret}
	}
	allowed := h.allowed()
	// A text of the list of those that are allowed is that text, also 007.
	if slices.ContainsFunc(allowed,
		func(a *document.Node) bool { return a.Kind == document.Text && a.Text == v.Text }) {
		return as(document.Text, v.Text)
	}
	isAllowed := func(kind document.Kind) bool {
		return allowed == nil || slices.ContainsFunc(allowed, func(a *document.Node) bool {
			return a.Kind == kind && a.Text == v.Text
		})
	}
	types := h.types()
	untold := types == nil
	switch {
	case document.IsNumber(v.Text) && (h.takes("number") || h.takes("integer")) && isAllowed(document.Number):
		return as(document.Number, v.Text)
	case (v.Text == "true" || v.Text == "false") && (untold || slices.Contains(types, "boolean")) &&
		isAllowed(document.Boolean):
		return as(document.Boolean, v.Text)
	case v.Text == "null" && !untold && slices.Contains(types, "null") && !slices.Contains(types, "string"):
		return as(document.Null, "")
	}
	return as(document.Text, v.Text)
}
