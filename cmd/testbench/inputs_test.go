package main_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Fields that a tester fills in and that are not sent themselves: others are made of them.
func TestInputs(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, _ *http.Request, _ string) { w.WriteHeader(http.StatusNoContent) })
	p := newPlace(t)
	const bench = `bench: b
sites: {here: {set: {base: BASE}}}
services:
  index:
    address: ${base}
    operations:
      prices:
        request: GET /prices/{year}
        inputs:
          from: {kind: date, required: true}
          to: {kind: date, default: "${fields.from | add 6 d}"}
          note: optional
        path:
          year: {fixed: "${fields.from | year}"}
        query:
          fd: {fixed: "${fields.from | day}"}
          td: {fixed: "${fields.to | day}"}
          tm: {default: "${fields.to | month}"}
          note: {name: nt, fixed: "${fields.note | upper}"}
        headers:
          X-Day: {name: x_day, fixed: "${fields.from | format ddMMyyyy}"}
      several:
        request: GET /several
        query:
          bars: {list: bars, kind: integer}
          commas: {list: commas, name: c, one of: [a, b, d], deprecated: true}
          each: {kind: integer}
          tabs: {list: tabs}
          blanks: {list: spaces}
      find:
        deprecated: true
        request: GET /find
        query: {id: {example: L-2201}, word: optional}
        statuses: {200: found, 404: no such lot, 5xx: closed}
        exactly one of: [id, word]
`
	write := func(old, now string) { p.write("bench.yaml", replaced(bench, "BASE", server.URL, old, now)) }
	write("", "")
	p.cases([]commandCase{
		{"call index/prices from=2026-11-28", 0, nil},
		{"call index/prices from=2026-11-28 to=2026-12-24 note=a~b tm=7", 0, nil},
		{"call index/prices", 2, []string{"index/prices needs from"}},
		{"call index/prices from=soon", 2, []string{"from must be a date"}},
		{"call index/prices from=2026-11-28 fd=3", 2, []string{"fd"}},
		{"survey index prices", 0, []string{"of which others are made", `always "${fields.from | day}"`, `default "${fields.from | add 6 d}"`}},
	})
	got := seen.take()
	p.cases([]commandCase{
		{"call index/several bars=1 bars=2 c=a c=b each=1 each=2 tabs=x tabs=y blanks=x blanks=y", 0, nil},
		{"call index/several bars=1 bars=b", 2, []string{"bars must be an integer"}},
		{"call index/several c=a c=e", 2, []string{"must be one of a, b, d"}},
		{"survey index several", 0, []string{"one of a, b, d, a list is one value", "deprecated"}},
	})
	lists := seen.take()
	if assert.Len(t, lists, 1) {
		assert.Contains(t, lists[0], "GET /several?bars=1%7C2&commas=a,b&each=1&each=2&tabs=x%09y&blanks=x%20y ")
	}
	p.cases([]commandCase{
		{"call index/find", 2, []string{"index/find needs id or word"}},
		{"call index/find id=1 word=x", 2, []string{"give only one of id, word"}},
		{"call index/find word=x", 1, []string{"the status 204 is not described; described are 200, 404, 5XX"}},
		{"survey index find", 0, []string{"exactly one of id, word", "deprecated", "for example L-2201", "answer 404\n  no such lot\n"}},
		{"draft index find", 0, []string{"GET /find?id=L-2201"}},
	})
	if assert.Len(t, got, 2) {
		assert.Contains(t, got[0], "GET /prices/2026?fd=28&td=4&tm=12 ")
		assert.Contains(t, got[1], "GET /prices/2026?fd=28&td=24&tm=7&note=A%20B ")
	}
	write("          note: optional\n", "          note: optional\n          unused: optional\n")
	p.cases([]commandCase{{"call index/prices from=2026-11-28", 2, []string{"the input unused of prices has no effect"}}})
	write("{list: bars,", "{list: bar,")
	p.cases([]commandCase{{"call index/find word=x", 2, []string{`"bar" is not a way to write a list`}}})
	write("exactly one of: [id, word]", "exactly one of: [id, wrd]")
	p.cases([]commandCase{{"call index/find word=x", 2, []string{`exactly one of: names "wrd"`}}})
	write("fields.note", "fields.nte")
	o := p.run("vet")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, "there is no such field")
}

// replaced replaces pairs of texts; empty ones are passed by.
func replaced(text string, pairs ...string) string {
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i] != "" {
			text = strings.ReplaceAll(text, pairs[i], pairs[i+1])
		}
	}
	return text
}
