package jsonschema

import (
	"math/big"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// kindWords are the types of JSON Schema as schema.Shape names them.
var kindWords = map[string]string{"string": "text", "array": "list"}

// unjudged are keywords of which can be told that they changed, and not what that means.
var unjudged = []string{
	"not", "if", "then", "else", "dependentRequired", "dependentSchemas", "dependencies", "contains", "minContains",
	"maxContains",
	"propertyNames", "patternProperties", "minProperties", "maxProperties", "prefixItems", "discriminator",
}

// Only are the values that the schema takes alone, or takes as the elements of a list; nil where there are others.
func (s *Schema) Only() []string {
	h := shapeOf(s.compiled)
	if only := h.only(); only != nil || !h.takes("array") {
		return only
	}
	if items := s.items(); items != nil {
		return shapeOf(items.compiled).only()
	}
	return nil
}

// Shape says what the schema takes.
func (s *Schema) Shape() *schema.Shape {
	h := shapeOf(s.compiled)
	out := &schema.Shape{ID: resolved(s.compiled), Words: s.Words()}
	for _, t := range h.types() {
		if word := kindWords[t]; word != "" {
			t = word
		}
		out.Kinds = append(out.Kinds, t)
	}
	if allowed := h.allowed(); allowed != nil {
		out.Only = []string{}
		for _, v := range allowed {
			out.Only = append(out.Only, bare(v))
		}
	}
	var rest []string
	for _, one := range h.all {
		s.narrow(out, one)
		source := one.at.Node
		for _, keyword := range unjudged {
			if said := source.Get(keyword); said != nil {
				rest = append(rest, keyword+": "+document.WriteJSON(said, document.Style{}))
			}
		}
	}
	slices.Sort(rest)
	out.Rest = strings.Join(slices.Compact(rest), "; ")
	out.Fields = func() []schema.ShapeField { return s.shapeFields(h) }
	if h.takes("array") {
		out.Items = func() *schema.Shape {
			if items := s.items(); items != nil {
				return items.Shape()
			}
			return nil
		}
	}
	if len(h.alternatives) > 0 {
		out.Choices = func() []*schema.Shape {
			var choices []*schema.Shape
			for _, one := range h.alternatives[0] {
				inner := &Schema{set: s.set, compiled: one}
				shape := inner.Shape()
				if name := s.nameOf(one); name != "" {
					shape.Words = name
				}
				choices = append(choices, shape)
			}
			return choices
		}
	}
	return out
}

// narrow adds what one schema says to a shape: the narrower of two counts.
func (s *Schema) narrow(out *schema.Shape, one *keywords) {
	out.Least = narrower(out.Least, limit(one.minimum, false), 1)
	out.Least = narrower(out.Least, limit(one.over, true), 1)
	out.Most = narrower(out.Most, limit(one.maximum, false), -1)
	out.Most = narrower(out.Most, limit(one.under, true), -1)
	for _, length := range []*int{one.minLength, one.minItems} {
		if length != nil && *length > 0 && (out.MinLength == nil || *length > *out.MinLength) {
			out.MinLength = length
		}
	}
	for _, length := range []*int{one.maxLength, one.maxItems} {
		if length != nil && (out.MaxLength == nil || *length < *out.MaxLength) {
			out.MaxLength = length
		}
	}
	if one.multipleOf != nil {
		out.MultipleOf = one.multipleOf.String()
	}
	if one.pattern != nil {
		out.Patterns = append(out.Patterns, one.pattern.String())
	}
	if format := one.at.Node.Get("format"); format != nil && len(out.Formats) == 0 {
		out.Formats = formatChain(format.Text)
	}
	out.Unique = out.Unique || one.uniqueItems
	if one.additionalProperties != nil {
		out.Members = schema.Open
	}
	if one.additionalProperties.isNothing() || one.unevaluatedProperties.isNothing() {
		out.Members = schema.Closed
	}
}

// formatChain names a format with those that take all its values.
func formatChain(format string) []string {
	switch format {
	case "int32":
		return []string{"int32", "int64"}
	case "float":
		return []string{"float", "double"}
	}
	return []string{format}
}

func limit(b *bound, exclusive bool) *schema.Limit {
	if b == nil {
		return nil
	}
	return &schema.Limit{Text: b.String(), Exclusive: exclusive}
}

// narrower is the one of two limits that allows less; sign is 1 where more does.
func narrower(a, b *schema.Limit, sign int) *schema.Limit {
	if a == nil || b == nil {
		if a == nil {
			return b
		}
		return a
	}
	x, _ := new(big.Rat).SetString(a.Text)
	y, _ := new(big.Rat).SetString(b.Text)
	if x == nil || y == nil {
		return a
	}
	if c := y.Cmp(x) * sign; c > 0 || c == 0 && b.Exclusive {
		return b
	}
	return a
}

// shapeFields are the members that are said outside of alternatives, those that have
// any other name as "*".
func (s *Schema) shapeFields(h *shape) []schema.ShapeField {
	var out []schema.ShapeField
	for _, p := range s.properties() {
		if p.maybe || p.readOnly && s.set.direction == Request || p.writeOnly && s.set.direction == Answer {
			continue
		}
		out = append(out, schema.ShapeField{
			Name: p.name, Required: p.required, Default: p.schema.DefaultText(),
			Deprecated: p.schema.isDeprecated(), Shape: p.schema.Shape,
		})
	}
	for _, one := range h.all {
		if inner := one.additionalProperties; inner != nil && inner.always == nil {
			out = append(out, schema.ShapeField{Name: "*", Shape: (&Schema{set: s.set, compiled: inner}).Shape})
			break
		}
	}
	return out
}
