package bench_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
)

const hives = `{"openapi": "3.0.3", "info": {"title": "t", "version": "1"}, "paths": {"/hives/{id}": {"get": {"operationId": "hive",
"parameters": [{"name": "id", "in": "path", "required": true, "schema": {"type": "string"}}, {"name": "day", "in": "query", "schema": {"type": "string"}}],
"responses": {"default": {"description": "any"}}}, "post": {"operationId": "change",
"parameters": [{"name": "id", "in": "path", "required": true, "schema": {"type": "string"}}],
"requestBody": {"content": {"application/json": {"schema": {"type": "object", "properties": {"lot": {"type": "string"}, "part": {"type": "string"}}}}}}, "responses": {"default": {"description": "any"}}}}}}`

// operations reads the operations of a service, and gives what is found wrong with them, in its order.
func operations(t *testing.T, service, text string) (*bench.Service, []string) {
	t.Helper()
	dir := t.TempDir()
	for name, data := range map[string]string{"hives.json": hives, "lot.json": `{"type": "object"}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o600))
	}
	var indented strings.Builder
	for line := range strings.Lines(strings.TrimSpace(text) + "\n") {
		indented.WriteString("      " + line)
	}
	b := bench.Read(dir, "bench.yaml", []byte("bench: x\nsites: {here: {set: {base: \"http://s.example\", depot: north}}}\nservices:\n  s:\n    address: ${base}\n"+service+
		"    operations:\n"+indented.String()))
	b.CheckContracts()
	var wrong []string
	for _, p := range b.Problems() {
		wrong = append(wrong, strings.ReplaceAll(p.Message+" | "+p.Try, filepath.ToSlash(dir), "DIR"))
	}
	return b.Service("s"), wrong
}

// Each thing that a description of an operation says has its effect, or is a mistake with what to write instead.
func TestMistakesOfOperations(t *testing.T) {
	t.Parallel()
	const byContract = "    contract: hives.json\n"
	for _, c := range []struct {
		name, service, text string
		wrong               []string
	}{
		{"all is well", "", "lot: {request: \"GET /lots/{id}\", query: {day: {kind: date, example: 2026-05-01}, n: optional}}", nil},
		{"fixed beside default", "", "lot: {request: GET /lot, query: {a: {fixed: 1, default: 2}}}", []string{
			"a is always the same: default:, one of: and example: have no effect beside fixed: | keep one of them",
		}},
		{"fixed beside one of", "", "lot: {request: GET /lot, query: {a: {fixed: 1, one of: [1, 2]}}}", []string{
			"a is always the same: default:, one of: and example: have no effect beside fixed: | keep one of them",
		}},
		{"fixed beside example", "", "lot: {request: GET /lot, query: {a: {fixed: 1, example: 1}}}", []string{
			"a is always the same: default:, one of: and example: have no effect beside fixed: | keep one of them",
		}},
		{"one of alone", "", "lot: {request: GET /lot, query: {a: {one of: [1, 2], example: 2}}}", nil},
		{"an example of another kind", "", "lot: {request: GET /lot, query: {a: {kind: integer, example: x}}}", []string{
			`a must be an integer, and is "x" | `,
		}},
		{"a default of another kind", "", "lot: {request: GET /lot, query: {a: {kind: integer, default: x}}}", []string{
			`a must be an integer, and is "x" | `,
		}},
		{"a default that is not one of", "", "lot: {request: GET /lot, query: {a: {one of: [b, c], default: d}}}", []string{
			`a must be one of b, c, and is "d" | `,
		}},
		{"a default of a site", "", "lot: {request: GET /lot, query: {a: {kind: integer, default: \"${depot}\"}}}", nil},
		{"a parameter of no kind", "", "lot: {request: GET /lot, query: {a: {kind: int}}}", []string{
			`"int" is not a kind | did you mean "integer"?`,
		}},
		{"a parameter that is a list", "", "lot: {request: GET /lot, query: {a: [optional]}}", []string{
			"a parameter is described by a mapping | write required, optional, or keys below it: name, required, kind, " +
				"one of, default, fixed, about, example, deprecated, …",
		}},
		{"a parameter of another word", "", "lot: {request: GET /lot, path: {}, headers: {A: maybe}}", []string{
			"a parameter is described by a mapping | write required, optional, or keys below it: name, required, kind, " +
				"one of, default, fixed, about, example, deprecated",
		}},
		{"a list in a query", "", "lot: {request: GET /lot, query: {a: {list: commas}}}", nil},
		{"a list in a header", "", "lot: {request: GET /lot, headers: {A: {list: commas}}}", []string{
			`a parameter has no key "list" | there are: name, required, kind, one of, default, fixed, about, example, deprecated`,
		}},
		{"made of an input", "", "lot: {request: GET /lot, inputs: {lot: required}, query: {a: {default: \"${fields.lot}-x\"}}}", nil},
		{"made of another parameter", "", "lot: {request: GET /lot, query: {a: {default: \"${fields.b}\"}, b: optional}}", nil},
		{"made of itself", "", "lot: {request: GET /lot, query: {a: {default: \"${fields.a}\"}}}", []string{
			"${fields.a} in a of lot: there is no such field; write it below inputs: | ",
		}},
		{"made of nothing that is there", "", "lot: {request: GET /lot, inputs: {lot: required}, query: {a: {fixed: \"${fields.lit}\"}}}", []string{
			`${fields.lit} in a of lot: there is no such field; write it below inputs: | did you mean "lot"?`,
			"the input lot of lot has no effect: no parameter is made of it | write ${fields.lot} in default: or fixed: of a parameter",
		}},
		{"made of a name that is nowhere", "", "lot: {request: GET /lot, query: {a: {default: \"${depto}\"}}}", nil}, // vet tells
		{"a template", "", "lot: {request: POST /lot, body: {lot: required}, template: {a: \"${fields.lot}\"}}", nil},
		{"a template as text", "", "lot: {request: POST /lot, body: {lot: required}, template: '{\"a\": \"${fields.lit}\"}'}", []string{
			`${fields.lit} in the template of lot: there is no such field; write it below body: | did you mean "lot"?`,
		}},
		{"a template of a query", "", "lot: {request: POST /lot, query: {lot: required}, body: {a: optional}, template: {a: \"${fields.lot}\"}}", []string{
			"${fields.lot} in the template of lot: there is no such field; write it below body: | ",
		}},
		{"a template of a form", "", "lot: {request: POST /lot, form: {lot: required}, template: {a: \"${fields.lot}\"}}", []string{
			"form: has no effect beside template: | keep one of them",
		}},
		{"statuses", "", "lot: {request: GET /lot, statuses: {404: none, 5XX: broken}}", nil},
		{"statuses that are none", "", "lot: {request: GET /lot, statuses: {40: none, ok: fine}}", []string{
			`"40" is not a status | write it like 404 or 5xx`, `"ok" is not a status | write it like 404 or 5xx`,
		}},
		{"no statuses", "", "lot: {request: GET /lot, statuses: {}}", []string{
			"statuses is empty, and has no effect | write what belongs there, or take it out",
		}},
		{"short names", "", "lot: {request: GET /lot, paths: {first: lots.first, n: \"lots[0].n\"}}", nil},
		{"a short name of a header", "", "lot: {request: GET /lot, paths: {first: reply.status}}", []string{
			"first: a short name stands for a path in the answer | write names with dots between",
		}},
		{"no short names", "", "lot: {request: GET /lot, paths: {}}", []string{
			"paths is empty, and has no effect | write what belongs there, or take it out",
		}},
		{"needs", "", "lot: {request: GET /lot, query: {a: optional, b: optional}, needs: [a, b]}", nil},
		{"needs of several", "", "lot: {request: GET /lot, query: {a: optional, b: optional}, needs: [[a, b], [b]]}", nil},
		{"needs that are nowhere", "", "lot: {request: GET /lot, query: {a: optional}, exactly one of: [[a, c]]}", []string{
			`exactly one of: names "c", which is not a parameter of lot | `,
		}},
		{"an answer that is nowhere", "", "lot: {request: GET /lot, answer: none.json}", []string{
			"there is no file DIR/none.json | ",
		}},
		{"a method at a service without a protocol", "", "lot: {request: GET /lot, method: x}", []string{
			"method: has no effect: the service's methods are not called by name | write request: GET /path, or protocol: json-rpc at the service",
		}},
		{"keys of a method by name", "    protocol: json-rpc\n", "lot: {method: x, request: GET /lot, form: {b: optional}}", []string{
			"request: has no effect: the service's methods are called by name | write the parameters under body:",
			"form: has no effect: the service's methods are called by name | write the parameters under body:",
		}},
		{"SOAP by another method", "    soap: 1.1\n", "lot: {request: PUT /lot, payload: \"x:Lot\"}", []string{
			"SOAP is sent by POST | write request: POST /path, or take it out",
		}},
		{"SOAP by POST", "    soap: 1.1\n", "lot: {request: POST /lot, action: \"urn:lot\"}", nil},
		{"two fields of one name", "", "lot: {request: GET /lot, query: {a: {name: x}, b: {name: x}}}", []string{
			`s/lot has two fields named "x" | give one of them another name:`,
		}},
		{"one name in two places", "", "lot: {request: GET /lot, query: {x: optional}, headers: {x: optional}}", nil},
		{"beside a contract", byContract, "hive: {reads: true, query: {day: required}}", nil},
		{"what a contract has", byContract, "hive: {statuses: {404: none}}", []string{
			"statuses: has no effect: the contract describes hive | take it out, or write request: to describe the operation here",
		}},
		{"an operation that the contract does not have", byContract, "hove: {reads: true}", []string{
			`there is no operation of s "hove" | did you mean "hive"?`,
		}},
		{"optional by the contract", byContract, "hive: {query: {day: optional}}", []string{
			"day of hive: the contract says what may be left out, and it stays so | take it out",
		}},
		{"not required by the contract", byContract, "change: {body: {lot: {required: false}, part: {required: true}}}", []string{
			"lot of change: the contract says what may be left out, and it stays so | take it out",
		}},
		{"a name of a field of a body", byContract, "change: {body: {lot: {name: l}}}", []string{
			"name: has no effect: fields of a body are called as the contract has them | take it out",
		}},
		{"a field that a template alone has", "", "lot: {request: POST /lot, body: {a: optional}, template: {x: \"${fields.b}\"}}", []string{
			"${fields.b} in the template of lot: there is no such field; write it below body: | ",
		}},
		{"a field that a template has beside others", "", "lot: {request: POST /lot, query: {q: optional}, body: {a: optional}, template: {x: \"${fields.a}\", y: \"${fields.q}\"}}", []string{
			"${fields.q} in the template of lot: there is no such field; write it below body: | ",
		}},
		{"a template without fields", "", "lot: {request: POST /lot, body: {a: optional}, template: {x: \"${base}\", y: \"${fields}\"}}", nil},
		{"a template of an open body", "", "lot: {request: POST /lot, template: {x: \"${fields.b}\"}}", nil},
		{"a template in text", "", "lot: {request: POST /lot, body: {a: optional}, template: '{\"x\": ${fields.a}}'}", nil},
		{"a template that is a value", "", "lot: {request: POST /lot, body: {a: optional}, template: \"${fields.a}\"}", nil},
		{"a name of a parameter", byContract, "hive: {query: {day: {name: d}}}", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, wrong := operations(t, c.service, c.text)
			assert.Equal(t, c.wrong, wrong)
		})
	}
}

// What is read of an operation is what its description says.
func TestOperationsAreRead(t *testing.T) {
	t.Parallel()
	s, wrong := operations(t, "", `
lot:
  request: POST /lots/{id}/{part}
  about: One lot.
  path: {id: {kind: integer 1 to 9, about: the number}}
  inputs: {keeper: optional}
  query:
    plain: required
    may: optional
    given: {name: g, default: 3, kind: integer, deprecated: true}
    made: {fixed: "by ${fields.keeper}"}
    many: {list: commas, one of: [a, b], required: true}
    bars: {list: bars}
    each: {list: repeated}
  body: {lot: {example: L-1}}
  template: {lot: "${fields.lot}"}
  success: 200 or 404
  paths: {first: lots.first}
  stream: {end: done}
  exactly one of: [may, bars]
  needs: [[plain, may]]
  reads: true
  deprecated: true
plain: {request: GET /plain}
soap: {action: "urn:x", payload: "x:L"}
`)
	require.Empty(t, wrong)
	op := s.Operation("lot")
	assert.Equal(t, []any{"POST", "/lots/{id}/{part}", "One lot.", true, true, false}, []any{
		op.Method, op.Path, op.About, op.Reads, op.Deprecated, op.SOAP,
	})
	assert.Equal(t, [][]string{{"may", "bars"}, {"plain", "may"}}, op.Needs)
	assert.Equal(t, [][]string{{"may", "bars"}}, op.Apart)
	of := map[string]contract.Parameter{}
	for _, p := range op.Parameters {
		of[string(p.In)+" "+p.Wire] = p
	}
	assert.Len(t, of, 11)
	assert.True(t, of["path id"].Required && of["path part"].Required, "all of a path is required")
	assert.Equal(t, "integer 1 to 9", of["path id"].Kind)
	assert.Equal(t, "the number", of["path id"].About)
	assert.True(t, of["query plain"].Required)
	assert.False(t, of["query may"].Required)
	given := of["query given"]
	assert.Equal(t, []any{"g", "3", true, ""}, []any{given.Name, given.Default.Text, given.Deprecated, given.Computed})
	made := of["query made"]
	assert.NotNil(t, made.Fixed)
	assert.Nil(t, made.Default)
	assert.Contains(t, made.Computed, "fields.keeper")
	assert.Equal(t, []any{[]string{"a", "b"}, true, "form", true}, []any{
		of["query many"].OneOf, of["query many"].Joined, of["query many"].Style, of["query many"].Required,
	})
	assert.Equal(t, []any{"pipeDelimited", true}, []any{of["query bars"].Style, of["query bars"].Joined})
	assert.Equal(t, []any{"form", false}, []any{of["query each"].Style, of["query each"].Joined})
	assert.Equal(t, document.NewText("L-1").Text, of["body lot"].Example.Text)
	assert.NotNil(t, s.Templates["lot"])
	assert.Len(t, s.Filled["lot"], 1)
	assert.NotNil(t, s.Streams["lot"])
	assert.True(t, s.Good["lot"].Holds(404))
	assert.NotNil(t, s.Short["lot"]["first"])
	for _, none := range []bool{
		s.Templates["plain"] == nil, s.Filled["plain"] == nil, s.Streams["plain"] == nil, s.Good["plain"] == nil,
		s.Short["plain"] == nil, s.Outcomes["plain"] == nil, s.Outcomes["lot"] == nil,
	} {
		assert.True(t, none)
	}
	soap := s.Operation("soap")
	assert.Equal(t, []any{"POST", true, "urn:x", "x:L"}, []any{soap.Method, soap.SOAP, soap.Action, soap.Payload})
	assert.Equal(t, "1.1", string(s.SOAP), "a payload says that it is SOAP")
}
