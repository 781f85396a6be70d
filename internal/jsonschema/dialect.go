package jsonschema

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

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

// data are keywords whose values are values and not schemas.
var data = []string{
	"enum", "const", "default", "example", "examples", "required", "type", "discriminator", "xml",
	"externalDocs", "dependentRequired", "$vocabulary",
}

// named are keywords whose values hold schemas by name.
var named = []string{"properties", "patternProperties", "$defs", "definitions", "dependentSchemas"}

// writer writes schemas out as the compiler takes them.
type writer struct {
	set *Set
	at  Location // of the schema that is written
}

// schema writes one schema; below is its pointer in the source.
func (w *writer) schema(n *document.Node, id string) any {
	switch n.Kind {
	case document.Boolean:
		return n.Text == "true"
	case document.List:
		list := make([]any, len(n.Items()))
		for i, item := range n.Items() {
			list[i] = w.schema(item, id)
		}
		return list
	case document.Object:
	default:
		return value(n)
	}
	old := w.set.dialect == OpenAPI20 || w.set.dialect == OpenAPI30
	if own := n.Get("$id"); own != nil && own.Kind == document.Text && !old {
		id = resolveID(id, own.Text)
	}
	out := make(map[string]any, len(n.Members()))
	if ref := n.Get("$ref"); ref != nil && ref.Kind == document.Text {
		w.refer(out, id, ref.Text)
		if old { // what is beside a reference says nothing (3.0.3, 4.7.23)
			return out
		}
	}
	for _, m := range n.Members() {
		switch key := m.Key; {
		case key == "$ref" || key == "$id" || strings.HasPrefix(key, "x-") || old && !slices.Contains(known30, key):
		case key == "$dynamicRef" && m.Value.Kind == document.Text:
			if n.Get("$ref") == nil {
				w.refer(out, id, m.Value.Text)
			}
		case key == "required" && m.Value.Kind != document.List: // of a parameter of 2.0, or of draft 3
		case slices.Contains(data, key):
			out[key] = value(m.Value)
		case slices.Contains(named, key) && m.Value.Kind == document.Object:
			inner := make(map[string]any, len(m.Value.Members()))
			for _, one := range m.Value.Members() {
				inner[one.Key] = w.schema(one.Value, id)
			}
			out[key] = inner
		default:
			out[key] = w.schema(m.Value, id)
		}
	}
	if old {
		w.modern(n, out)
	}
	w.direct(n, out)
	return out
}

// refer writes a reference; one that leads to nowhere fails when it is compiled.
func (w *writer) refer(out map[string]any, id, reference string) {
	place, err := w.set.docs.Resolve(w.at.Location, id, reference)
	if err != nil {
		w.set.lost = append(w.set.lost, err)
		out["$ref"] = "tb:/nowhere"
		return
	}
	out[laterKeyword] = strconv.Itoa(w.set.number(place))
}

// modern writes what was said otherwise before 3.1 as it is said now.
func (w *writer) modern(n *document.Node, out map[string]any) {
	for _, pair := range [][2]string{{"minimum", "exclusiveMinimum"}, {"maximum", "exclusiveMaximum"}} {
		if exclusive, ok := out[pair[1]].(bool); ok {
			delete(out, pair[1])
			if bound, has := out[pair[0]]; has && exclusive {
				out[pair[1]] = bound
				delete(out, pair[0])
			}
		}
	}
	kind, typed := out["type"].(string)
	if kind == "file" {
		delete(out, "type")
	}
	// It adds to the type alone: without one it says nothing, and an enum without null goes on forbidding it (3.0.3,
	// 4.7.24.1 as clarified).
	if nullable, _ := out["nullable"].(bool); nullable && typed && w.set.dialect == OpenAPI30 ||
		typed && isTrue(n.Get("x-nullable")) {
		out["type"] = []any{kind, "null"}
	}
	delete(out, "nullable")
	// A discriminator says which of the alternatives is meant, though others may fit, too (3.0.3, 4.7.25).
	alternatives, hasAny := out["oneOf"], out["anyOf"] != nil
	if n.Get("discriminator").Get("propertyName") != nil && alternatives != nil && !hasAny {
		out["anyOf"] = alternatives
		delete(out, "oneOf")
	}
}

// direct leaves out of required what does not go this way.
func (w *writer) direct(n *document.Node, out map[string]any) {
	required, ok := out["required"].([]any)
	if !ok || w.set.direction == Both {
		return
	}
	word := map[Direction]string{Request: "readOnly", Answer: "writeOnly"}[w.set.direction]
	properties := n.Get("properties")
	left := slices.DeleteFunc(slices.Clone(required), func(name any) bool {
		text, _ := name.(string)
		return w.set.says(w.at.Location, properties.Get(text), word)
	})
	out["required"] = left
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

// value turns a tree into what encoding/json would make of it; numbers keep
// their text.
func value(n *document.Node) any {
	n = n.Value()
	switch n.Kind {
	case document.Null:
		return nil
	case document.Boolean:
		return n.Text == "true"
	case document.Number:
		return json.Number(n.Text)
	case document.List:
		list := make([]any, len(n.Items()))
		for i, item := range n.Items() {
			list[i] = value(item)
		}
		return list
	case document.Object:
		object := make(map[string]any, len(n.Members()))
		for _, m := range n.Members() {
			object[m.Key] = value(m.Value)
		}
		return object
	case document.Untyped:
		if document.IsNumber(n.Text) {
			return json.Number(n.Text)
		}
		if n.Text == "true" || n.Text == "false" {
			return n.Text == "true"
		}
	}
	return n.Text
}
