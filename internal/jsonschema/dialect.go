package jsonschema

import (
	"slices"

	"testbench/internal/document"
)

// Dialect is the way in which schemas of a description are written.
type Dialect string

// The dialects.
const (
	Alone     Dialect = "JSON Schema" // says itself which draft it is; 2020-12 where it does not
	OpenAPI20 Dialect = "OpenAPI 2.0" // the Schema Object of 2.0
	OpenAPI30 Dialect = "OpenAPI 3.0" // that of 3.0
	OpenAPI31 Dialect = "OpenAPI 3.1" // JSON Schema 2020-12, or what jsonSchemaDialect says
)

// Direction says which way a value goes: what is read-only is not required of a
// request, what is write-only not of an answer (OpenAPI 3.0.3, 4.7.24.1).
type Direction uint8

// The directions.
const (
	Both Direction = iota
	Request
	Answer
)

// known30 are the keywords of the Schema Object before 3.1; others say nothing
// there (OpenAPI 3.0.3, 4.7.24; 2.0, Schema Object).
var known30 = []string{
	"title", "multipleOf", "maximum", "exclusiveMaximum", "minimum", "exclusiveMinimum", "maxLength", "minLength",
	"pattern",
	"maxItems", "minItems", "uniqueItems", "maxProperties", "minProperties", "required", "enum", "type", "allOf",
	"oneOf", "anyOf", "not", "items",
	"properties", "additionalProperties", "description", "format", "default", "nullable", "discriminator", "readOnly",
	"writeOnly", "deprecated", "$ref",
}

// isOld says whether schemas are those of OpenAPI before 3.1.
func (s *Set) isOld() bool { return s.dialect == OpenAPI20 || s.dialect == OpenAPI30 }

// modern reads what was said otherwise before 3.1 as it is said now.
func (r *reader) modern() {
	r.exclusiveBounds()
	k := r.into
	// It adds to the type alone: without one it says nothing, and an enum without null goes on forbidding it (3.0.3,
	// 4.7.24.1 as clarified).
	isNullable := r.set.dialect == OpenAPI30 && isTrue(r.node.Get("nullable")) || isTrue(r.node.Get("x-nullable"))
	if isNullable && len(k.types) == 1 && k.types[0] != "null" {
		k.types = append([]string{"null"}, k.types...)
	}
	// A discriminator says which of the alternatives is meant, though others may fit, too (3.0.3, 4.7.25).
	if r.node.Get("discriminator").Get("propertyName") != nil && k.oneOf != nil && k.anyOf == nil {
		k.anyOf, k.oneOf = k.oneOf, nil
	}
}

// direct leaves out of required what does not go this way.
func (r *reader) direct() {
	if r.set.direction == Both {
		return
	}
	word := map[Direction]string{Request: "readOnly", Answer: "writeOnly"}[r.set.direction]
	properties := r.node.Get("properties")
	r.into.required = slices.DeleteFunc(r.into.required, func(name string) bool {
		return r.set.says(r.into.at.Location, properties.Get(name), word)
	})
}

// says tells whether a schema, or what it refers to, has a flag.
func (s *Set) says(location string, n *document.Node, word string) bool {
	for range 10 {
		if n == nil || isTrue(n.Get(word)) {
			return n != nil
		}
		ref := n.Get("$ref")
		if ref == nil {
			return false
		}
		place, err := s.docs.Resolve(location, "", ref.Text)
		if err != nil {
			return false
		}
		location, n = place.Location, place.Node
	}
	return false
}

func isTrue(n *document.Node) bool {
	return n != nil && n.Kind == document.Boolean && n.Text == "true"
}
