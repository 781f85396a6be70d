package main_test

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Short names stand for long paths of an operation's answers, wherever a path is.
func TestShortNames(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, func(w http.ResponseWriter, _ *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"properties": {"series": [{"data": {"air": {"temperature": 7.5, "wind": [3, 5]}}}]},
			"payload": "{\"lot\": {\"grade\": \"A\"}}", "wind": "own"}`)
	})
	p := newPlace(t)
	bench := `bench: b
services:
  sky:
    address: ` + server.URL + `
    operations:
      forecast:
        request: GET /forecast
        paths:
          temperature: properties.series[0].data.air.temperature
          wind: properties.series[0].data.air.wind
          gusts: properties.series[*].data.air.wind[-1]
          lot: payload | parse json | .lot
`
	p.write("bench.yaml", bench)
	p.write("data/two.csv", "n\n1\n2\n")
	p.write("sheets/s.yaml", `sheet: s
rows: data/two.csv
steps:
  - step: it
    call: sky/forecast
    fields:
      temperature: between 7 and 8
      "wind[1]": 5
      answer.wind: own
      gusts: 5
      lot.grade: A
      lot.grade | lower: a
    where:
      - at("temperature") == 7.5
    keep:
      t: temperature
      grade: lot.grade
  - step: shown
    set: {x: "${t} ${grade}"}
    where: ['kept.x == "7.5 A"']
`)
	p.cases([]commandCase{
		{"run sheets/s.yaml", 0, nil},
		{"call sky/forecast -pick temperature -pick lot.grade", 0, []string{"7.5\nA\n"}},
		{"call sky/forecast -keep t=temperature -quiet", 0, nil},
		{"watch sky/forecast -times 1 -pick temperature", 0, []string{"7.5"}},
		{"call sky/forecast -pick temperatur", 1, []string{"answer has no temperatur"}},
	})
	p.write("bench.yaml", replaced(bench, "payload | parse json | .lot", "$.payload"))
	o := p.run("vet")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, "a short name stands for a path in the answer")
}
