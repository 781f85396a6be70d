package jsonschema

import (
	"encoding/json"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
)

// distinct says that no item is in a list twice (JSON Schema Validation 2020-12, 6.4.3). The
// library compares each with each, which takes minutes for a list of some thousands.
type distinct struct{}

// Validate finds the first item that stood there before.
func (distinct) Validate(ctx *js.ValidatorContext, v any) {
	list, ok := v.([]any)
	if !ok {
		return
	}
	met := make(map[string]int, len(list))
	for i, item := range list {
		var text strings.Builder
		canonical(&text, item)
		if before, twice := met[text.String()]; twice {
			ctx.AddError(&kind.UniqueItems{Duplicates: [2]int{before, i}})
			return
		}
		met[text.String()] = i
	}
}

// mostExponent is the exponent up to which numbers that are written otherwise are the same.
const mostExponent = 400

// canonical writes a value so that values that are equal are written alike.
func canonical(out *strings.Builder, v any) {
	switch v := v.(type) {
	case json.Number:
		text := v.String()
		_, exponent, _ := strings.Cut(strings.ToLower(text), "e")
		if n, err := strconv.Atoi(exponent); exponent == "" || err == nil && n <= mostExponent && n >= -mostExponent {
			if number, ok := new(big.Rat).SetString(text); ok {
				text = number.RatString()
			}
		}
		out.WriteString(text)
	case []any:
		out.WriteByte('[')
		for _, item := range v {
			canonical(out, item)
			out.WriteByte(',')
		}
		out.WriteByte(']')
	case map[string]any:
		out.WriteByte('{')
		for _, name := range slices.Sorted(maps.Keys(v)) {
			out.WriteString(strconv.Quote(name) + ":")
			canonical(out, v[name])
			out.WriteByte(',')
		}
		out.WriteByte('}')
	case string:
		out.WriteString(strconv.Quote(v))
	default: // null, true and false
		text, _ := json.Marshal(v)
		out.Write(text)
	}
}

func isUnique(s *js.Schema) bool { return slices.Contains(s.Extensions, js.SchemaExt(distinct{})) }

// linear has the lists of a schema, and of all that was compiled with it, checked against distinct.
func (s *Set) linear(one *js.Schema) {
	if one == nil || s.seen[one] {
		return
	}
	s.seen[one] = true
	if one.UniqueItems {
		one.UniqueItems = false
		one.Extensions = append(one.Extensions, distinct{})
	}
	for _, inner := range []*js.Schema{
		one.Ref, one.RecursiveRef, one.Not, one.If, one.Then, one.Else,
		one.PropertyNames, one.UnevaluatedProperties, one.Contains, one.Items2020, one.UnevaluatedItems,
		one.ContentSchema,
	} {
		s.linear(inner)
	}
	if one.DynamicRef != nil {
		s.linear(one.DynamicRef.Ref)
	}
	for _, list := range [][]*js.Schema{one.AllOf, one.AnyOf, one.OneOf, one.PrefixItems} {
		for _, inner := range list {
			s.linear(inner)
		}
	}
	for _, inner := range one.Properties {
		s.linear(inner)
	}
	for _, inner := range one.PatternProperties {
		s.linear(inner)
	}
	for _, inner := range one.DependentSchemas {
		s.linear(inner)
	}
	for _, inner := range one.Dependencies {
		s.linearAny(inner)
	}
	for _, inner := range []any{one.AdditionalProperties, one.Items, one.AdditionalItems} {
		s.linearAny(inner)
	}
}

func (s *Set) linearAny(v any) {
	switch v := v.(type) {
	case *js.Schema:
		s.linear(v)
	case []*js.Schema:
		for _, one := range v {
			s.linear(one)
		}
	}
}
