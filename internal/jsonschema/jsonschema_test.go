package jsonschema_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
)

// open compiles a schema that is written in YAML's flow style or in JSON.
func open(t testing.TB, dialect jsonschema.Dialect, direction jsonschema.Direction, source string) *jsonschema.Schema {
	t.Helper()
	root, err := jsonschema.ReadData("schema.yaml", []byte(source))
	require.NoError(t, err, source)
	docs := &jsonschema.Documents{}
	s, err := jsonschema.NewSet(docs, dialect, direction).Open(docs.Add("schema.yaml", root))
	require.NoError(t, err, source)
	return s
}

func read(t testing.TB, source string) *document.Node {
	t.Helper()
	n, err := document.ReadJSON([]byte(source))
	require.NoError(t, err, source)
	return n
}

// What each keyword refuses, in words.
func TestFaults(t *testing.T) {
	t.Parallel()
	pet := `oneOf: [{$ref: '#/$defs/frame'}, {$ref: '#/$defs/queen'}]
$defs:
  frame: {type: object, required: [kind, kilos], properties: {kind: {const: frame}, kilos: {type: number}}}
  queen: {type: object, required: [kind, born], properties: {kind: {const: queen}, born: {type: string, format: date}}}
`
	for _, c := range []struct{ schema, value, want string }{
		{"{type: integer}", `1.5`, "must be an integer, and is 1.5"},
		{"{type: integer}", `1.0`, ""},
		{"{type: [string, 'null']}", `5`, "must be null or text, and is 5"},
		{"{type: object}", `[]`, "must be an object, and is an empty list"},
		{"{enum: [A, B, 3, null]}", `"C"`, `must be one of A, B, 3, null, and is "C"`},
		{"{const: {a: 1}}", `{"a": 2}`, `must be {"a":1}, and is`},
		{"{const: 1}", `1.0`, ""},
		{"{properties: {a: {const: x}}}", `{"a": "y"}`, `a must be "x", and is "y"`},
		{"{not: {type: string}}", `"x"`, `is what the schema excludes: "x"`},
		{"{properties: {a: false}}", `{"a": 1}`, "a may not be there"},
		{"{minProperties: 2}", `{"a": 1}`, "must have at least 2 members, and has 1"},
		{"{maxProperties: 1}", `{"a": 1, "b": 2}`, "must have at most 1 members, and has 2"},
		{"{minItems: 2}", `[1]`, "must have at least 2 items, and has 1"},
		{"{properties: {lots: {maxItems: 1}}}", `{"lots": [1, 2]}`, "lots must have at most 1 items, and has 2"},
		{"{uniqueItems: true}", `[1, 2, 1.0]`, "holds the same item twice: [0] and [2]"},
		{"{contains: {type: string}}", `[1]`, "does not hold the items that the schema asks for"},
		{
			"{contains: {type: string}, maxContains: 1}", `["a", "b"]`,
			"does not hold the items that the schema asks for",
		},
		{"{prefixItems: [{type: string}], items: false}", `["a", 1]`, "may not be there"},
		{
			"{$schema: 'http://json-schema.org/draft-07/schema#', items: [{type: string}], additionalItems: false}",
			`["a", 1]`, "has 1 items more than the schema takes",
		},
		{"{minLength: 2}", `"蜂"`, "must have at least 2 characters, and has 1"},
		{"{maxLength: 2}", `"🐝🐝🐝"`, "must have at most 2 characters, and has 3"},
		{`{pattern: '^L-\d{4}$'}`, `"L-22"`, `must match ^L-\d{4}$, and is "L-22"`},
		{`{pattern: '^\p{Lu}'}`, `"Ähre"`, ""},
		{`{pattern: '^(?!no)'}`, `"nothing"`, `must match ^(?!no), and is "nothing"`},
		{"{minimum: 10}", `9.99`, "must be at least 10, and is 9.99"},
		{"{maximum: 0.3}", `0.30000000000000000001`, "must be at most 0.3, and is 0.30000000000000000001"},
		{"{exclusiveMinimum: 10}", `10.0`, "must be over 10, and is 10.0"},
		{"{exclusiveMaximum: 10}", `10`, "must be under 10, and is 10"},
		{"{multipleOf: 0.01}", `0.07`, ""},
		{"{multipleOf: 0.01}", `0.075`, "must be a multiple of 0.01, and is 0.075"},
		{
			"{dependentRequired: {card: [until, owner]}}", `{"card": 1, "owner": 2}`,
			"has card, and then needs until too",
		},
		{
			"{$schema: 'http://json-schema.org/draft-07/schema#', dependencies: {card: [until]}}", `{"card": 1}`,
			"has card, and then needs until too",
		},
		{
			"{propertyNames: {pattern: '^[a-z]+$'}}", `{"A1": 1}`,
			`has a member "A1", whose name the schema does not take`,
		},
		{"{required: [moisture]}", `{"moistur": 1}`, "moisture is missing (there is moistur)"},
		{"{required: [a, b]}", `{}`, "a is missing; b is missing"},
		{
			"{properties: {a: {}}, additionalProperties: false}", `{"b": 1}`,
			"b is not in the schema, which takes no others",
		},
		{"{properties: {a: {}}, unevaluatedProperties: false}", `{"b": 1}`, "b may not be there"},
		{"{items: {required: [id]}}", `[{"id": 1}, {}]`, "[1].id is missing"},
		{
			"{properties: {'a.b': {type: string}, 'c d': {type: string}}}", `{"a.b": 1, "c d": 2}`,
			`["a.b"] must be text, and is 1; ["c d"] must be text, and is 2`,
		},
		{"{format: date}", `"2026-02-30"`, `is not a date`},
		{"{format: date-time}", `"2026-11-23"`, `is not a date-time (2026-11-23T08:00:00Z): "2026-11-23"`},
		{"{format: time}", `"8"`, `is not a time (08:00:00Z): "8"`},
		{"{format: email}", `"x"`, `is not an email`},
		{"{format: uuid}", `"x"`, `is not a uuid`},
		{"{format: int32}", `3000000000`, `is not an int32`},
		{"{format: nobody-knows-it}", `"x"`, ``},
		{
			"{if: {properties: {a: {const: 1}}}, then: {required: [b]}, else: {required: [c]}}", `{"a": 1}`,
			"b is missing",
		},
		{
			"{allOf: [{required: [a]}, {minProperties: 2}]}", `{"b": 1}`,
			"a is missing; must have at least 2 members, and has 1",
		},
		{"{anyOf: [{type: string}, {type: boolean}]}", `5`, "must be text or true or false, and is 5"},
		{
			"{oneOf: [{type: number}, {type: integer}]}", `5`,
			"fits more than one of the alternatives, and must fit just one",
		},
		{"{anyOf: [false, false]}", `5`, "may not be there"},
		{pet, `{"kind": "queen", "born": "x"}`, `born is not a date`},
		{pet, `{"kind": "frame"}`, `kilos is missing`},
		{"{type: array, items: {$ref: '#'}}", `[[[], [1]]]`, "[0][1][0] must be a list, and is 1"},
		{"{type: string, enum: [A], minimum: 9, allOf: [{minimum: 8}]}", `5`, "^must be text, and is 5$"},
		{"{enum: [A], minimum: 9}", `5`, "^must be one of A, and is 5$"},
	} {
		s := open(t, jsonschema.Alone, jsonschema.Both, c.schema)
		var said []string
		for _, f := range s.Check(read(t, c.value)) {
			said = append(said, f.Message)
		}
		if got := strings.Join(said, "; "); c.want == "" {
			assert.Empty(t, got, "%s %s", c.schema, c.value)
		} else if whole, ok := strings.CutPrefix(c.want, "^"); ok {
			assert.Equal(t, strings.TrimSuffix(whole, "$"), got, "%s %s", c.schema, c.value)
		} else {
			assert.Contains(t, got, c.want, "%s %s", c.schema, c.value)
		}
	}
}

// The alternative that a discriminator names is the one that is judged.
func TestDiscriminator(t *testing.T) {
	t.Parallel()
	source := `oneOf: [{$ref: '#/components/schemas/Frame'}, {$ref: '#/components/schemas/Queen'}]
discriminator: {propertyName: kind, mapping: {f: '#/components/schemas/Frame'}}
components:
  schemas:
    Frame: {type: object, required: [kind], properties: {kind: {type: string}, kilos: {type: number, minimum: 1}}}
    Queen: {type: object, required: [kind, born], properties: {kind: {type: string}, born: {type: string}}}
`
	s := open(t, jsonschema.OpenAPI30, jsonschema.Both, source)
	for value, want := range map[string]string{
		`{"kind": "f", "kilos": 0}`: "kilos must be at least 1, and is 0",
		`{"kind": "Queen"}`:         "born is missing",
		`{"kind": "Drone"}`:         "kind",
		`{"kilos": 0}`:              "must say by kind what it is",
	} {
		faults := s.Check(read(t, value))
		if assert.NotEmpty(t, faults, value) {
			assert.Contains(t, faults[0].Message, want, value)
		}
	}
	assert.Empty(t, s.Check(read(t, `{"kind": "f", "born": "May"}`)), "both fit, and it says which is meant")
	assert.NotEmpty(t, open(t, jsonschema.OpenAPI31, jsonschema.Both, source).
		Check(read(t, `{"kind": "f", "born": "May"}`)), "in 3.1 it does not change what is valid")
}

// Before 3.1 a discriminator of a base names the schema that inherits from it.
func TestInherited(t *testing.T) {
	t.Parallel()
	const schemas = `Hive: {type: object, required: [kind], DISCRIMINATOR, properties: {kind: {type: string}, near: {$ref: 'WHEREHive'}}}
    Skep: {allOf: [{$ref: 'WHEREHive'}, {type: object, required: [straw], properties: {straw: {type: integer}}}]}
    Box: {allOf: [{$ref: 'WHEREHive'}, {type: object, properties: {frames: {type: integer}}}]}
`
	for dialect, source := range map[jsonschema.Dialect]string{
		jsonschema.OpenAPI20: "$ref: '#/definitions/Hive'\ndefinitions:\n    " + strings.NewReplacer("WHERE", "#/definitions/",
			"DISCRIMINATOR", "discriminator: kind").Replace(schemas),
		jsonschema.OpenAPI30: "$ref: '#/components/schemas/Hive'\ncomponents:\n  schemas:\n    " + strings.NewReplacer("WHERE",
			"#/components/schemas/", "DISCRIMINATOR",
			"discriminator: {propertyName: kind, mapping: {b: Box, s: '#/components/schemas/Skep'}}").Replace(schemas),
	} {
		s := open(t, dialect, jsonschema.Both, source)
		for value, want := range map[string]string{
			`{"kind": "Skep", "straw": 1}`:                 "",
			`{"kind": "Skep"}`:                             "straw is missing",
			`{"kind": "Hive"}`:                             "",
			`{"kind": "Unheard"}`:                          "",
			`{"kind": "Box", "near": {"kind": "Skep"}}`:    "near.straw is missing",
			`{"kind": "Box", "frames": "x", "straw": "y"}`: "frames must be an integer",
		} {
			var said []string
			for _, f := range s.Check(read(t, value)) {
				said = append(said, f.Message)
			}
			assert.Contains(t, strings.Join(said, "; "), want, "%s %s", dialect, value)
			assert.Equal(t, want == "", len(said) == 0, "%s %s %s", dialect, value, said)
		}
	}
	mapped := open(t, jsonschema.OpenAPI30, jsonschema.Both, "$ref: '#/components/schemas/Hive'\ncomponents:\n  schemas:\n    "+
		strings.NewReplacer("WHERE", "#/components/schemas/", "DISCRIMINATOR",
			"discriminator: {propertyName: kind, mapping: {b: Box, s: '#/components/schemas/Skep'}}").Replace(schemas))
	assert.NotEmpty(t, mapped.Check(read(t, `{"kind": "s"}`)))
	assert.NotEmpty(t, mapped.Check(read(t, `{"kind": "b", "frames": "x"}`)))
}

// What is read-only is not asked of a request, what is write-only not of an answer; null and
// exclusive bounds are written differently before 3.1.
func TestDialects(t *testing.T) {
	t.Parallel()
	source := "{type: object, required: [id, pin, name], properties: {id: {type: string, readOnly: true}, pin: {type: string, writeOnly: true}, name: {type: string, nullable: true}, kilos: {type: number, minimum: 0, exclusiveMinimum: true}}}"
	for _, c := range []struct {
		dialect   jsonschema.Dialect
		direction jsonschema.Direction
		value     string
		want      string
	}{
		{jsonschema.OpenAPI30, jsonschema.Request, `{"pin": "1", "name": null, "kilos": 1}`, ""},
		{jsonschema.OpenAPI30, jsonschema.Answer, `{"id": "1", "name": "x"}`, ""},
		{jsonschema.OpenAPI30, jsonschema.Answer, `{"name": "x"}`, "id is missing"},
		{jsonschema.OpenAPI30, jsonschema.Request, `{"name": "x"}`, "pin is missing"},
		{
			jsonschema.OpenAPI30, jsonschema.Request, `{"pin": "1", "name": "x", "kilos": 0}`,
			"kilos must be over 0, and is 0",
		},
		{
			jsonschema.OpenAPI20, jsonschema.Answer, `{"id": "1", "pin": "2", "name": null}`,
			"name must be text, and is null; pin is write-only, and is in the answer",
		},
	} {
		var said []string
		for _, f := range open(t, c.dialect, c.direction, source).Check(read(t, c.value)) {
			said = append(said, f.Message)
		}
		assert.Equal(t, c.want, strings.Join(said, "; "), "%s %s", c.dialect, c.value)
	}
}

// A sample holds, with what may be left out and without.
func TestSamples(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ schema, least, all string }{
		{"{}", `"text"`, `"text"`},
		{"{type: 'null'}", `null`, `null`},
		{"{type: boolean}", `true`, `true`},
		{"{enum: [B, A]}", `"B"`, `"B"`},
		{"{const: [1]}", `[1]`, `[1]`},
		{"{minLength: 8, maxLength: 9}", `"textxxxx"`, `"textxxxx"`},
		{"{type: string, maxLength: 2}", `"te"`, `"te"`},
		{"{minimum: 5, exclusiveMinimum: 7}", `8`, `8`},
		{"{exclusiveMaximum: 0}", `-1`, `-1`},
		{"{type: integer, multipleOf: 7, minimum: 10}", `14`, `14`},
		{"{type: number, minimum: 0.1, maximum: 0.2}", `0.15`, `0.15`},
		{"{required: [a], properties: {a: {type: integer}, b: {type: string}}}", `{"a":1}`, `{"a":1,"b":"text"}`},
		{"{type: object, minProperties: 2}", `{"name1":"text","name2":"text"}`, `{"name1":"text","name2":"text"}`},
		{"{type: object, required: [x], additionalProperties: {type: integer}}", `{"x":1}`, `{"x":1}`},
		{"{type: object, minProperties: 1, additionalProperties: {type: integer}}", `{"name1":1}`, `{"name1":1}`},
		{
			"{type: array, minItems: 2, uniqueItems: true, items: {type: string}}", `["text","text2"]`,
			`["text","text2"]`,
		},
		{"{prefixItems: [{type: integer}, {type: boolean}], minItems: 2}", `[1,true]`, `[1,true]`},
		{"{minItems: 1}", `["item 1"]`, `["item 1"]`},
		{"{type: string, format: date}", "", ""},
		{"{type: string, format: date-time}", "", ""},
		{"{type: string, format: uuid}", "", ""},
		{"{type: string, format: ipv4}", "", ""},
		{"{type: string, format: email}", "", ""},
		{"{type: string, format: uri}", "", ""},
		{"{type: string, format: byte}", "", ""},
		{"{type: string, pattern: '^L-[0-9]{4}$'}", "", ""},
		{"{type: string, examples: [Clover], default: Lime}", "", `"Lime"`},
		{"{type: string, examples: [17], default: Lime}", "", `"Lime"`},
		{
			"{allOf: [{required: [a], properties: {a: {minimum: 3}}}, {properties: {a: {type: integer, maximum: 3}}}]}",
			`{"a":3}`, `{"a":3}`,
		},
		{
			"{oneOf: [{required: [a], properties: {a: {const: 1}}}, {required: [b], properties: {b: {const: 2}}}]}",
			`{"a":1}`, `{"a":1}`,
		},
		{"{type: object, properties: {next: {$ref: '#'}}}", `{}`, ""},
	} {
		s := open(t, jsonschema.Alone, jsonschema.Both, c.schema)
		for _, one := range []struct {
			optional bool
			want     string
		}{{false, c.least}, {true, c.all}} {
			made := s.Sample(schema.SampleOptions{Optional: one.optional})
			got := document.WriteJSON(made.Root, document.Style{})
			assert.Empty(t, s.Check(made.Root), "%s: %s", c.schema, got)
			if one.want != "" {
				assert.Equal(t, one.want, got, "%s, %t", c.schema, one.optional)
			}
		}
	}
	made := open(t, jsonschema.Alone, jsonschema.Both,
		"{type: object, required: [next], properties: {next: {$ref: '#'}}}").Sample(schema.SampleOptions{})
	assert.NotEmpty(t, made.Cut, "what holds itself is never whole")
}

// Values get the types that the schema wants; what does not fit is told.
func TestFill(t *testing.T) {
	t.Parallel()
	s := open(t, jsonschema.OpenAPI31, jsonschema.Request,
		`{type: object, required: [lot, kilos], additionalProperties: false, properties: {lot: {type: string}, kilos: {type: number}, count: {type: integer}, organic: {type: boolean}, tags: {type: array, items: {type: string}}, note: {type: [string, 'null']}, id: {type: string, readOnly: true}, owner: {type: object, properties: {age: {type: integer}}}}}`)
	for _, c := range []struct{ value, want, short string }{
		{`lot=2201 kilos=12.50 organic=true`, `{"lot":"2201","kilos":12.50,"organic":true}`, ""},
		{`lot=x kilos=heavy`, `{"lot":"x","kilos":"heavy"}`, `kilos must be a number, and is "heavy"`},
		{`lot=x kilos=1 count=1.5`, `{"lot":"x","kilos":1,"count":1.5}`, `count must be an integer, and is 1.5`},
		{
			`lot=x kilos=1 organic=yes`, `{"lot":"x","kilos":1,"organic":"yes"}`,
			`organic must be true or false, and is "yes"`,
		},
		{`lot=x kilo=1`, "", `kilo is unknown; did you mean "kilos"?`},
		{`kilos=1`, `{"kilos":1}`, `lot is missing`},
		{`lot=x kilos=1 owner.age=41`, `{"lot":"x","kilos":1,"owner":{"age":41}}`, ""},
		{`lot=x kilos=1 note=null`, `{"lot":"x","kilos":1,"note":"null"}`, ""},
		{`lot=x kilos=1 tags=a`, "", `tags must be a list, and is "a"`},
	} {
		values := document.NewObject()
		for pair := range strings.FieldsSeq(c.value) {
			name, text, _ := strings.Cut(pair, "=")
			if outer, inner, nested := strings.Cut(name, "."); nested {
				values.Set(outer, document.NewObject().Set(inner, document.NewUntyped(text)))
				continue
			}
			values.Set(name, document.NewUntyped(text))
		}
		filled, short := s.Fill(values)
		if c.want != "" {
			assert.Equal(t, c.want, document.WriteJSON(filled, document.Style{}), c.value)
		}
		var said []string
		for _, one := range short {
			said = append(said, one.Path+" "+one.Message)
		}
		if c.short == "" {
			assert.Empty(t, said, c.value)
		} else {
			assert.Contains(t, strings.Join(said, "; "), c.short, c.value)
		}
	}
}

// What cannot be judged is a fault, also where the schema negates it.
func TestCannotBeJudged(t *testing.T) {
	t.Parallel()
	value, err := document.ReadPlacedJSON([]byte(` "` + strings.Repeat("a", 40) + `!"`))
	require.NoError(t, err)
	for source, want := range map[string]string{
		"{not: {$ref: '#/definitions/a'}, definitions: {a: {type: strin}}}":                      "type must be one of null",
		"{oneOf: [{$ref: '#/definitions/a'}, {type: string}], definitions: {a: {pattern: '('}}}": "is not a regular expression",
		"{not: {$ref: '#/definitions/a'}, definitions: {a: {$ref: '#/definitions/a'}}}":          "leads to itself",
		`{not: {pattern: '^(?=a)(a+)+$'}}`:                                                       "takes too long",
	} {
		faults := open(t, jsonschema.OpenAPI30, jsonschema.Both, source).Check(value)
		if assert.Len(t, faults, 1, source) {
			assert.Contains(t, faults[0].Message, "cannot be judged: ", source)
			assert.Contains(t, faults[0].Message, want, source)
			assert.Equal(t, 2, faults[0].Column, source)
		}
	}
	one := "{anyOf: [{$ref: '#/definitions/a'}, {type: string}], definitions: {a: {type: strin}}}"
	assert.Empty(t, open(t, jsonschema.OpenAPI30, jsonschema.Both, one).Check(value), "one that fits is enough")
}

// What a schema takes, in words.
func TestWords(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		"{type: string}": "text",
		"{type: string, minLength: 2, maxLength: 4}":                           "text, 2 to 4 characters",
		"{type: string, enum: [A, B]}":                                         "one of A, B",
		"{type: [integer, 'null'], minimum: 1}":                                "integer, 1 or more",
		"{type: number, exclusiveMinimum: 0, maximum: 10}":                     "number, at most 10, over 0",
		"{type: array, items: {type: string}, maxItems: 3}":                    "a list of text, at most 3 items",
		"{type: string, format: date}":                                         "text, date",
		"{const: 5}":                                                           "always 5",
		"{oneOf: [{type: string}, {type: integer}]}":                           "text or integer",
		"{type: string, pattern: '^L'}":                                        "text, matches ^L",
		"{title: ring, oneOf: [{$ref: '#'}, {type: 'null'}, {type: integer}]}": "ring or integer",
		"{oneOf: [{type: object}, {minimum: 3}, {not: {}}]}":                   "an object or 3 or more or anything",
	} {
		assert.Equal(t, want, open(t, jsonschema.Alone, jsonschema.Both, source).Words(), source)
	}
}

// Lists that hold themselves end, whatever depth is asked for.
func TestOutlineOfListsOfThemselves(t *testing.T) {
	t.Parallel()
	for source, want := range map[string][]string{
		"{type: array, items: {$ref: '#'}}":                                        nil,
		"{type: array, items: {type: array, items: {$ref: '#'}}}":                  nil,
		"{items: {properties: {lots: {type: array, items: {$ref: '#'}}}}}":         {"[0].lots"},
		"{properties: {a: {items: {$ref: '#/properties/a'}}, b: {type: integer}}}": {"a", "b"},
	} {
		var paths []string
		for _, row := range open(t, jsonschema.Alone, jsonschema.Both, source).Outline(0) {
			paths = append(paths, row.Path)
		}
		assert.Equal(t, want, paths, source)
	}
}

// A schema that cannot be used says why and where.
func TestBadSchemas(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		"{type: nonsense}":                           "type",
		"{minLength: -1}":                            "minLength",
		"{pattern: '['}":                             "pattern",
		"{$ref: '#/$defs/nobody'}":                   "nobody",
		"{$ref: 'elsewhere.yaml'}":                   "elsewhere.yaml",
		"{$schema: 'https://example.org/own-draft'}": "own-draft",
		"{properties: [1]}":                          "properties",
		"{required: a}":                              "required",
		"{allOf: []}":                                "allOf",
		"{$defs: {a: {properties: {b: {type: x}}}}}": `$defs.a.properties.b.type`, // though nothing refers to it
		"{title: 5}":                                 "title must be text, and is 5",
		"{$schema: 'http://json-schema.org/draft-07/schema#', enum: [A, A]}": "enum holds the same item twice",
	} {
		root, err := jsonschema.ReadData("schema.yaml", []byte(source))
		require.NoError(t, err)
		docs := &jsonschema.Documents{}
		s, err := jsonschema.NewSet(docs, jsonschema.Alone, jsonschema.Both).Open(docs.Add("schema.yaml", root))
		if err == nil {
			if faults := s.Check(document.NewText("x")); assert.NotEmpty(t, faults, source) {
				assert.Contains(t, faults[0].Message, want, source)
			}
			continue
		}
		assert.Contains(t, err.Error(), want, source)
	}
}

// Whatever a schema says and a value is, both are read, or refused, in bounded time.
func FuzzSchema(f *testing.F) {
	for _, schema := range []string{
		`{"$schema": "http://json-schema.org/draft-04/schema#", "minimum": 1, "exclusiveMinimum": true, "id": "a#b"}`,
		`{"$ref": "#/$defs/a", "$defs": {"a": {"$anchor": "b", "anyOf": [{"$ref": "#b"}, {"pattern": "^(a|b)*$"}]}}}`,
		`{"$dynamicAnchor": "n", "properties": {"a": {"$dynamicRef": "#n"}}, "unevaluatedProperties": false}`,
		`{"prefixItems": [true], "items": false, "contains": {"const": 1e400}, "minContains": 2, "uniqueItems": true}`,
		`{"oneOf": [{"$ref": "#"}, {"type": "integer"}], "properties": {"a": {"anyOf": [{"$ref": "#"}, {"type": "null"}, {"$ref": "#/properties/a"}]}}}`,
		`{"items": {"$ref": "#"}, "properties": {"a": {"$ref": "#"}}}`,
		`{"if": {"format": "date-time"}, "then": {"maxLength": 3}, "else": {"multipleOf": 0.01}, "enum": [[], {}]}`,
		`{"$schema": "https://json-schema.org/draft/2019-09/schema", "$recursiveAnchor": true, "items": [{"$recursiveRef": "#"}]}`,
	} {
		f.Add([]byte(schema), []byte(`{"a": [1, {"b": null}], "c": "ä"}`))
		f.Add([]byte(schema), []byte(`[1, "2026-11-23T08:00:00Z", 0.5]`))
	}
	f.Fuzz(func(t *testing.T, schemaText, valueText []byte) {
		root, err := document.ReadJSON(schemaText)
		if err != nil {
			return
		}
		value, err := document.ReadJSON(valueText)
		if err != nil {
			return
		}
		for _, dialect := range []jsonschema.Dialect{jsonschema.Alone, jsonschema.OpenAPI30, jsonschema.OpenAPI31} {
			docs := &jsonschema.Documents{Fetch: func(_, location string) (string, []byte, error) {
				return "", nil, fmt.Errorf("%s is not there", location)
			}}
			s, err := jsonschema.NewSet(docs, dialect, jsonschema.Request).Open(docs.Add("schema.json", root))
			if err != nil {
				continue
			}
			s.Check(value)
			s.Fill(value)
			s.Outline(4)
			s.Sample(schema.SampleOptions{Optional: true})
		}
	})
}
