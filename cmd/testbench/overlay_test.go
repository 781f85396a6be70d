package main_test

import (
	"net/http"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a bench says of an operation beyond its contract holds for calls, drafts, the survey and vet.
func TestOverlayOnContracts(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, _ *http.Request, _ string) { w.WriteHeader(http.StatusNoContent) })
	p := newPlace(t)
	p.write("api.json", `{"openapi": "3.1.0", "info": {"title": "a", "version": "1"}, "paths": {"/lots/{id}": {"post": {
 "operationId": "book", "parameters": [{"in": "path", "name": "id", "required": true, "schema": {"type": "string"}},
  {"in": "query", "name": "g", "schema": {"type": "string"}}, {"in": "query", "name": "depot", "schema": {"type": "string"}}],
 "requestBody": {"required": true, "content": {"application/json": {"schema": {"type": "object", "required": ["kilos"], "properties": {
  "kilos": {"type": "number"}, "note": {"type": "string"}, "unit": {"type": "string"}, "day": {"type": "string"},
  "jars": {"type": "array", "items": {"type": "object", "properties": {"size": {"type": "integer"}, "label": {"type": "string"}}}}}}}}},
 "responses": {"204": {"description": "booked"}}}}}}`)
	data, err := os.ReadFile("testdata/php/hive.wsdl")
	require.NoError(t, err)
	p.write("hive.wsdl", string(data))
	bench := `bench: b
sites: {here: {set: {base: ` + server.URL + `, depot: north, frames: 5}}}
services:
  hive:
    contract: hive.wsdl
    address: ${base}
    operations:
      Weigh:
        about: Weighs a hive.
        body: {hive: {one of: [H1, H2], about: where it is}, frames: {default: "${frames}"}, Keeper: {fixed: Bryony}}
  api:
    contract: api.json
    address: ${base}
    operations:
      book:
        query: {g: {name: grade, required: true, one of: [A, B]}, depot: {default: "${depot}-${fields.grade | lower}"}}
        body:
          note: {required: true, example: by hand, about: why}
          unit: {fixed: kg}
          day: {kind: date, default: 2026-11-28}
          jars.size: {one of: [250, 500], required: true}
`
	write := func(old, now string) { p.write("bench.yaml", replaced(bench, old, now)) }
	write("", "")
	p.cases([]commandCase{
		{"call api/book id=1 grade=A kilos=3 note=x", 0, nil},
		{"call api/book id=1 grade=B kilos=3 note=x day=2026-12-01 depot=south jars.0.size=500 jars.0.label=b", 0, nil},
		{"call api/book id=1 grade=A kilos=3", 2, []string{"api/book needs note"}},
		{"call api/book id=1 kilos=3 note=x", 2, []string{"api/book needs grade"}},
		{"call api/book id=1 grade=C kilos=3 note=x", 2, []string{"grade must be one of A, B"}},
		{"call api/book id=1 grade=A kilos=3 note=x unit=g", 2, []string{`unit is always "kg"`}},
		{"call api/book id=1 grade=A kilos=3 note=x day=soon", 2, []string{"day must be a date"}},
		{"call api/book id=1 grade=A kilos=3 note=x jars.0.label=b", 2, []string{"api/book needs jars.size"}},
		{"call api/book id=1 grade=A kilos=3 note=x jars.0.size=300", 2, []string{"jars.size must be one of 250, 500"}},
		{"survey api book", 0, []string{"one of A, B", "note   text; for example by hand – why", "always kg", "default \"${depot}-${fields.grade | lower}\""}},
		{"draft api book -as step -only required", 0, []string{"grade: A", "note: by hand", "unit: kg"}},
		{"draft api book", 0, []string{`"size": 250`, `"day": "2026-11-28"`, "g=A"}},
		{"call hive/Weigh hive=H1", 1, []string{"the answer is not a SOAP envelope"}},
		{"call hive/Weigh hive=H3", 2, []string{"hive must be one of H1, H2"}},
		{"call hive/Weigh hive=H1 Keeper=x", 2, []string{`Keeper is always "Bryony"`}},
		{"survey hive Weigh", 0, []string{"Weighs a hive.", "one of H1, H2 – where it is", "default ", "always Bryony"}},
		{"draft hive Weigh", 0, []string{"<hive>H1</hive> <!-- one of H1, H2", "<Keeper xmlns"}},
	})
	got := seen.take()
	require.Len(t, got, 3)
	assert.Equal(t, `POST /lots/1?g=A&depot=north-a {"kilos":3,"note":"x","unit":"kg","day":"2026-11-28"}`, got[0])
	assert.Equal(t, `POST /lots/1?g=B&depot=south {"kilos":3,"note":"x","day":"2026-12-01","jars":[{"size":500,"label":"b"}],"unit":"kg"}`, got[1])
	for _, part := range []string{"<hive>H1</hive>", "<frames>5</frames>", ">Bryony</Keeper>"} {
		assert.Contains(t, got[2], part)
	}
	for _, c := range []struct{ old, now, says string }{
		{"note: {required: true,", "nte: {required: true,", `book has no field "nte" in its contract (in the body)`},
		{"g: {name: grade", "gg: {name: grade", `book has no field "gg" in its contract (in the query)`},
		{"hive: {one of", "hve: {one of", `Weigh has no field "hve" in its contract`},
		{"note: {required: true,", "note: {required: false,", "the contract says what may be left out"},
		{"note: {required: true,", "note: {name: n,", "name: has no effect"},
		{"fields.grade", "fields.kilos", "name that field of the contract here, too"},
		{"      Weigh:", "      Weight:", `did you mean "Weigh"`},
	} {
		write(c.old, c.now)
		o := p.run("vet")
		assert.Equal(t, 2, o.status, c.says)
		assert.Contains(t, o.stdout, c.says)
	}
}
