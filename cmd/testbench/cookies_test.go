package main_test

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Cookies that answers set go with the later steps of the row, where the sheet says so, and with those of no other.
func TestCookiesOfARow(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if r.URL.Path == "/desk" {
			http.SetCookie(w, &http.Cookie{Name: "desk", Value: r.URL.Query().Get("n"), Path: "/"})
			http.SetCookie(w, &http.Cookie{Name: "deep", Value: "x", Path: "/deep"})
		}
		var got []string
		for _, c := range r.Cookies() {
			got = append(got, c.Name+"="+c.Value)
		}
		w.Header().Set("Content-Type", "text/plain")
		_, _ = io.WriteString(w, strings.Join(got, "; "))
	})
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nservices:\n  bees: {address: "+server.URL+"}\n  other: {address: "+
		strings.Replace(server.URL, "127.0.0.1", "localhost", 1)+"}\n")
	p.write("data/two.csv", "n\n1\n2\n")
	p.write("sheets/inner.yaml", "sheet: inner\nsteps:\n  - step: in it\n    request: bees GET /in\n    fields: {reply.text: \"contains desk=\"}\n")
	sheet := `sheet: s
keep cookies: true
rows: data/two.csv
first:
  - step: before
    request: bees GET /desk?n=first
steps:
  - step: carried on
    request: bees GET /a
    fields: {reply.text: desk=first}
  - step: take
    request: bees GET /desk?n=${row.n}
  - step: back
    request: bees GET /deep/b
    fields: {reply.text: "deep=x; desk=${row.n}"}
  - step: own
    request: bees GET /c
    cookies: {desk: mine}
    fields: {reply.text: desk=mine}
  - step: elsewhere
    request: other GET /d
    fields: {reply.text: is empty}
  - step: within
    sheet: sheets/inner.yaml
`
	p.write("sheets/s.yaml", sheet)
	o := p.run("run", "sheets/s.yaml", "-show", "all")
	require.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "cookies of the row went with it: deep, desk")
	seen.take()
	p.write("sheets/s.yaml", replaced(sheet, "keep cookies: true\n", "", "sheets/inner.yaml", "sheets/other.yaml"))
	p.write("sheets/other.yaml", "sheet: other\nkeep cookies: true\nfirst:\n  - step: f\n    request: bees GET /desk?n=7\nsteps:\n"+
		"  - step: in it\n    request: bees GET /in\n    fields: {reply.text: desk=7}\n")
	o = p.run("run", "sheets/s.yaml")
	assert.Equal(t, 1, o.status)
	assert.Equal(t, 2, strings.Count(o.stdout, "carried on"), o.stdout)
	assert.NotContains(t, o.stdout, "in it failed")
	assert.NotContains(t, o.stdout, "elsewhere failed")
}
