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

// Quotes of a cookie belong to its value, and a name that promises what the cookie does not keep is not a cookie.
func TestCookiesAsTheyAre(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if r.URL.Path == "/open" {
			for _, cookie := range []string{
				`quoted="a b"; Path=/`, "plain=a/b=c; Path=/", "__Host-right=1; Path=/; Secure", "__Host-wrong=1; Path=/",
				"__Secure-wrong=1; Path=/", "__Host-deep=1; Path=/cookies; Secure",
			} {
				w.Header().Add("Set-Cookie", cookie)
			}
		}
		w.Header().Set("Content-Type", "text/plain")
		_, _ = io.WriteString(w, strings.Join(r.Header.Values("Cookie"), " | "))
	})
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: \""+server.URL+"\"}}}\nservices:\n  bees: {address: \"${base}\"}\n"+
		"logins:\n  desk: {kind: session, open: \"POST ${base}/open\"}\n")
	const want = `where: ['reply.text == "quoted=\"a b\"; plain=a/b=c; __Host-right=1"']`
	p.write("sheets/s.yaml", "sheet: s\nkeep cookies: true\nsteps:\n  - step: by a login\n    request: bees GET /cookies\n"+
		"    login: desk\n    expect: {status: 200}\n  - step: open\n    request: bees POST /open\n  - step: of the row\n"+
		"    request: bees GET /cookies\n    "+want+"\n")
	o := p.run("run", "sheets/s.yaml")
	require.Equal(t, 0, o.status, o.all())
	p.write("sheets/s.yaml", "sheet: s\nsteps:\n  - step: by a login\n    request: bees GET /cookies\n    login: desk\n    "+want+"\n")
	o = p.run("run", "sheets/s.yaml")
	assert.Equal(t, 0, o.status, o.all())
}
