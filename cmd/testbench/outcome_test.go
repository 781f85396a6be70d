package main_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

// How a service tells success and errors is said once, at the service or at an operation, and everything that
// looks at answers heeds it.
func TestSuccessSaidOnce(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answers := map[string]string{
			"/found": `{"Response": "True", "error": "none of yours", "kilos": 5}`,
			"/lost":  `{"Response": "False", "Error": "no such lot", "Type": "X7", "Field": "lot"}`,
			"/state": `{"X_STATUS": "E", "messageText": "closed"}`,
			"/xml":   `<r><outcome>FAILED</outcome><cod>404</cod></r>`,
		}
		if r.URL.Path == "/xml" {
			w.Header().Set("Content-Type", "text/xml")
		} else {
			w.Header().Set("Content-Type", "application/json")
		}
		if r.URL.RawQuery == "gone" {
			w.WriteHeader(http.StatusNotFound)
		}
		_, _ = io.WriteString(w, answers[r.URL.Path])
	}))
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: "+server.URL+`}}}
services:
  hives:
    address: ${base}
    success: answer.Response == "True"
    error: {code: Type, text: Error, target: Field}
    operations:
      found: {request: GET /found}
      lost: {request: GET /lost}
      state: {request: GET /state, error: {when: answer.X_STATUS == "E", text: messageText}}
      gone: {request: GET /found, query: {gone: {default: ""}}, success: [404]}
  old:
    address: ${base}
    success: [200, 404]
    operations:
      xml: {request: GET /xml, error: {when: answer.outcome == "FAILED", code: cod}}
      lost: {request: GET /lost}
`)
	p.cases([]commandCase{
		{"call hives/found", 0, []string{"kilos"}},
		{"call hives/lost", 1, []string{"expected none, got X7: no such lot", `response from hives: "no such lot"`}},
		{"call hives/state", 1, []string{"expected none, got closed"}},
		{"call old/xml", 1, []string{"expected none, got 404"}},
		{"call old/lost", 0, []string{"the answer tells of an error"}},
		{"call hives GET /found?gone", 0, []string{"404 Not Found", "kilos"}},
	})
	o := p.sheet(`sheet: s
steps:
  - step: refused
    call: hives/lost
    expect:
      error: {code: X7, text: no such lot, target: lot}
  - step: fine
    call: hives/found
    expect: {error: none}
  - step: until it is there
    call: hives/found
    until: {kilos: 5}
  - step: again
    call: hives/lost
    again: {times: 2, pause: 1 ms, on: failed}
    soft: true
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.all(), "expected none, got X7")
	o = p.sheet("sheet: s\nsteps:\n  - step: a\n    call: hives/found\n    expect: {error: X7}\n")
	assert.Equal(t, 1, o.status, o.all())
	p.write("bench.yaml", "bench: b\nservices:\n  s:\n    address: http://127.0.0.1:1\n    error: {when: answer.}\n    operations: {a: {request: GET /}}\n")
	o = p.run("vet")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, "the condition cannot be read here")
}
