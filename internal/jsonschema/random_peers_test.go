//go:build peers

package jsonschema_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
)

// chance makes schemas and values, of few names and small numbers, so that they meet.
type chance struct {
	*rand.Rand
	draft string
	depth int
}

func (c *chance) name() string { return []string{"a", "b", "c", "honey"}[c.IntN(4)] }

func (c *chance) value(depth int) any {
	kind := c.IntN(8)
	if depth == 0 {
		kind = c.IntN(6)
	}
	switch kind {
	case 0:
		return nil
	case 1:
		return c.IntN(2) == 0
	case 2:
		return []string{"", "a", "b", "honey", "Ähre", "😀😀", "a b", "aa1"}[c.IntN(8)]
	case 3, 4:
		return c.IntN(7) - 2
	case 5:
		return []float64{0.5, 1.5, -1.25, 2.75}[c.IntN(4)]
	case 6:
		list := []any{}
		for range c.IntN(4) {
			list = append(list, c.value(depth-1))
		}
		return list
	}
	object := map[string]any{}
	for range c.IntN(4) {
		object[c.name()] = c.value(depth - 1)
	}
	return object
}

// schema makes a schema of a few keywords of the draft.
func (c *chance) schema() any {
	if c.depth++; c.depth > 4 || c.draft != "4" && c.IntN(12) == 0 {
		c.depth--
		if c.draft == "4" {
			return map[string]any{}
		}
		return c.IntN(4) > 0
	}
	defer func() { c.depth-- }()
	one := func() any { return c.schema() }
	some := func() any {
		list := []any{c.schema()}
		for range c.IntN(3) {
			list = append(list, c.schema())
		}
		return list
	}
	named := func() any {
		object := map[string]any{}
		for range 1 + c.IntN(3) {
			object[c.name()] = c.schema()
		}
		return object
	}
	count := func() any { return c.IntN(4) }
	number := func() any { return c.IntN(7) - 2 }
	names := func() any { return []string{c.name()} }
	keywords := map[string]func() any{
		"type": func() any {
			return []string{"null", "boolean", "integer", "number", "string", "array", "object"}[c.IntN(7)]
		},
		"enum":  func() any { return []any{c.value(1), c.value(0)} },
		"allOf": some, "anyOf": some, "oneOf": some, "not": one,
		"properties": named, "additionalProperties": one, "items": one, "required": names,
		"patternProperties": func() any { return map[string]any{[]string{"^a", "[b-h]", "^.$"}[c.IntN(3)]: c.schema()} },
		"minProperties":     count, "maxProperties": count, "minItems": count, "maxItems": count,
		"uniqueItems": func() any { return true }, "minLength": count, "maxLength": count,
		"minimum": number, "maximum": number, "multipleOf": func() any { return 1 + c.IntN(3) },
		"pattern": func() any { return []string{`^\w+$`, `^(?!a)`, `\s`, `^..$`, `[^a]$`, `\p{Lu}`}[c.IntN(6)] },
		"$ref":    func() any { return []string{"#", "#/properties/a", "#/properties/nested"}[2*c.IntN(2)] },
	}
	if c.draft != "4" {
		keywords["const"] = func() any { return c.value(1) }
		keywords["contains"], keywords["propertyNames"] = one, one
		keywords["if"], keywords["then"], keywords["else"] = one, one, one
		keywords["exclusiveMinimum"], keywords["exclusiveMaximum"] = number, number
	}
	switch c.draft {
	case "4", "7":
		keywords["dependencies"] = func() any { return map[string]any{c.name(): c.schema(), "x": []string{c.name()}} }
	default:
		keywords["dependentSchemas"] = named
		keywords["dependentRequired"] = func() any { return map[string]any{c.name(): names()} }
		keywords["unevaluatedProperties"] = one // unevaluatedItems the other judge reads otherwise than the suite
		keywords["minContains"], keywords["maxContains"] = count, count
	}
	if c.draft == "2020-12" {
		keywords["prefixItems"] = some
	} else {
		keywords["items"] = []func() any{one, some}[c.IntN(2)]
		keywords["additionalItems"] = one
	}
	all := make([]string, 0, len(keywords))
	for name := range keywords {
		all = append(all, name)
	}
	// The same seed makes the same schemas.
	slices.Sort(all)
	out := map[string]any{}
	for range 1 + c.IntN(4) {
		name := all[c.IntN(len(all))]
		if name == "$ref" && (c.draft == "4" || c.draft == "7") {
			// What is beside it says nothing, which the other judge does not know.
			return map[string]any{name: keywords[name]()}
		}
		out[name] = keywords[name]()
	}
	if _, ok := out["items"].([]any); ok {
		delete(out, "contains") // beside a list of items the other judge takes an empty list
	}
	return out
}

// Schemas and values made by chance are judged as another judge does, and what is made by them is valid.
func TestRandomSchemas(t *testing.T) {
	type line struct {
		Draft  string `json:"draft"`
		Schema any    `json:"schema"`
		Values []any  `json:"values"`
	}
	c := &chance{Rand: rand.New(rand.NewPCG(25, 1))}
	var lines []line
	var in bytes.Buffer
	for range 400 {
		for _, draft := range []string{"4", "7", "2019-09", "2020-12"} {
			c.draft = draft
			one := line{Draft: draft}
			root := map[string]any{"properties": map[string]any{"nested": c.schema(), "a": c.schema()}}
			if made, ok := c.schema().(map[string]any); ok {
				for key, value := range made {
					if key != "properties" && key != "$ref" {
						root[key] = value
					}
				}
			}
			one.Schema = root
			for range 12 {
				one.Values = append(one.Values, c.value(3))
			}
			lines = append(lines, one)
			data, err := json.Marshal(one)
			require.NoError(t, err)
			in.Write(append(data, '\n'))
		}
	}
	judge := exec.Command("node", "../../cmd/testbench/testdata/node/verdicts.cjs", "../../scripts/peers")
	judge.Stdin = &in
	out, err := judge.Output()
	require.NoError(t, err)
	verdicts := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, verdicts, len(lines))
	compared, samples := map[byte]int{}, 0
	for i, one := range lines {
		written, err := json.Marshal(one.Schema)
		require.NoError(t, err)
		where := fmt.Sprintf("draft %s: %s", one.Draft, written)
		if strings.Trim(verdicts[i], "01") != "" {
			continue // it does not compile there
		}
		node, err := document.ReadJSON(written)
		require.NoError(t, err)
		node = withDraft(node, "draft"+one.Draft)
		docs := &jsonschema.Documents{}
		s, err := jsonschema.NewSet(docs, jsonschema.Alone, jsonschema.Both).Open(docs.Add("schema.json", node))
		if !assert.NoError(t, err, where) {
			continue
		}
		s.Outline(6) // it ends
		for j, value := range one.Values {
			data, err := json.Marshal(value)
			require.NoError(t, err)
			node, err := document.ReadJSON(data)
			require.NoError(t, err)
			faults := s.Check(node)
			if len(faults) > 0 && strings.Contains(faults[0].Message, "leads to itself") {
				continue // what that means is left open (2020-12, 9.4.1)
			}
			assert.Equal(t, verdicts[i][j] == '1', len(faults) == 0, "%s\n%s\n%v", where, data, faults)
			compared[verdicts[i][j]]++
		}
		if len(s.Check(s.Sample(schema.SampleOptions{}).Root)) == 0 {
			samples++
		}
	}
	t.Logf("%d schemas, %d valid and %d invalid values, %d samples", len(lines), compared['1'], compared['0'], samples)
	assert.Greater(t, compared['1'], 5_000)
	assert.Greater(t, compared['0'], 5_000)
}
