package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A call shows where what it made is, and a text in whatever character set it came.
func TestWhatACallShows(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", r.URL.Query().Get("type"))
		w.Header().Set("Location", "/lots/17")
		w.WriteHeader(http.StatusCreated)
		fmt.Fprint(w, "\"sp\xe4t\"")
	})
	for _, kind := range []string{"application/json;charset=iso-8859-1", "text/plain;charset=iso-8859-1", "text/plain"} {
		o := newPlace(t).run("call", "POST", server.URL+"/lots?type="+url.QueryEscape(kind))
		assert.Contains(t, o.stderr, "201 Created")
		assert.Contains(t, o.stderr, "Location: /lots/17")
		assert.Equal(t, "\"spät\"\n", o.stdout, kind)
	}
}

// Answers that are neither JSON nor XML are under the same paths and rules.
func TestAnswersOfOtherKinds(t *testing.T) {
	t.Parallel()
	p := answering(t, map[string]fixedAnswer{
		"csv":   {200, "text/csv", "lot;kilos\nL-1;12.50\nL-2;3\n"},
		"bare":  {200, "text/csv; header=absent", "L-1,12.50\nL-2,3\n"},
		"lines": {200, "application/x-ndjson", "{\"lot\": \"L-1\"}\n{\"lot\": \"L-2\"}\n"},
		"form":  {200, "application/x-www-form-urlencoded", "token=abc&scope=a+b&scope=c"},
		"text":  {200, "text/plain", "the order ||PO-7|| is booked"},
		"page": {
			200, "text/html",
			`<title>Lots</title><a href="/lots/1">one</a><table><tr><th>lot</th><th>kilos</th></tr><tr><td>L-1</td><td>12.50</td></tr></table><form action="/in"><input name="user" value="clerk"></form>`,
		},
		"parts": {
			200, "multipart/mixed; boundary=b",
			"--b\r\nContent-Type: application/json\r\n\r\n{\"lot\": \"L-1\"}\r\n--b\r\nContent-Type: text/plain\r\n\r\nok\r\n--b--\r\n",
		},
		"paper":   {200, "application/octet-stream", "%PDF-1.7\n%\xe2\xe3\xcf\xd3\n1 0 obj"},
		"picture": {200, "", "\x89PNG\r\n\x1a\n0000"},
		"texts": {
			200, "application/json",
			`{"lots": ["{\"lot\": \"L-1\", \"kilos\": 12.50}", "{\"lot\": \"L-2\"}"], "one": "{\"lot\": \"L-9\"}"}`,
		},
		"mistaken":  {200, "application/json", `{"lot": `},
		"empty.csv": {200, "text/csv", ""},
	})
	for i, c := range []struct {
		path, says, step string
		status           int
	}{
		{
			"csv", "4 checks passed",
			"fields:\n      answer[1].kilos: 3\n      answer[*].lot: is unique\n      answer: count 2",
			0,
		},
		{"bare", "2 checks passed", "fields:\n      answer[0][1]: 12.50", 0},
		{"lines", "2 checks passed", "fields:\n      answer[-1].lot: L-2", 0},
		{"form", "3 checks passed", "fields:\n      token: abc\n      scope[1]: c", 0},
		{"text", "2 checks passed", `keep:
      order: answer | inside "||" "||"
  - step: kept
    request: GET ${base}/csv?${order}
    where:
      - kept.order == 'PO-7'`, 0},
		{"page", "5 checks passed", `fields:
      title: Lots
      links[0].href: /lots/1
      tables[0][0].kilos: 12.50
      forms[0].fields.user: clerk`, 0},
		{"parts", "3 checks passed", "fields:\n      answer[0].content.lot: L-1\n      answer[1].content: ok", 0},
		{"paper", "4 checks passed", `fields:
      reply.kind: application/pdf
      reply.size: under 1 kB
      reply.sha256: matches [0-9a-f]{64}`, 0},
		{"picture", "2 checks passed", "fields:\n      reply.kind: image/png", 0},
		{"texts", "2 checks passed", `keep:
      one: one | parse json
  - step: opened
    set: {lot: '${one.lot}'}
  - step: kept
    request: GET ${base}/csv
    where:
      - kept.lot == 'L-9'`, 0},
		{"texts", "2 checks passed", `keep:
      lots: lots | parse json
  - step: opened
    for each: ${lots}
    set: {lot: '${each.lot}'}
  - step: kept
    request: GET ${base}/csv
    where:
      - kept.lot == ['L-1', 'L-2']`, 0},
		{"csv", "answer has no [7]: it is a list of 2", "fields:\n      answer[7].lot: L-1", 1},
		{"mistaken", "expected well-formed JSON", "fields:\n      lot: L-1", 1},
		{"page", "did you mean \"title\"?", "fields:\n      titel: Lots", 1},
	} {
		name := fmt.Sprintf("s%d.yaml", i)
		p.write(name, "sheet: s\nsteps:\n  - step: it\n    request: GET ${base}/"+c.path+"\n    "+c.step+"\n")
		o := p.run("run", name)
		assert.Equal(t, c.status, o.status, "%s: %s", c.path, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, c.path)
	}
}

// Errors are one form, whatever they look like and under whatever status they come.
func TestErrorsOfAllForms(t *testing.T) {
	t.Parallel()
	p := answering(t, map[string]fixedAnswer{
		"well": {
			200, "application/json",
			`{"error": {"code": "locked", "message": "the lot is locked", "field": "lot"}}`,
		},
		"string": {400, "application/json", `"the lot is locked"`},
		"plain":  {500, "text/plain", "the lot is locked\n"},
		"page":   {503, "text/html", "<html><title>Down</title><h1>the lot is locked</h1></html>"},
		"many": {
			400, "application/problem+json",
			`{"title": "2 mistakes", "errors": [{"detail": "kilos is too small", "pointer": "#/kilos"}, {"detail": "lot is missing", "pointer": "#/lot"}]}`,
		},
		"details": {
			422, "application/json",
			`{"error": {"code": "bad", "message": "2 mistakes", "details": [{"message": "kilos is too small", "target": "kilos"}]}}`,
		},
	})
	for i, c := range []struct {
		path, expect, says string
		status             int
	}{
		{"well", "error: {code: locked, text: contains locked, target: lot}", "4 checks passed", 0},
		{"well", "error: none", `expected none, got locked: the lot is locked (field lot)`, 1},
		{"well", "status: 200", "note: the status is 200, and the answer tells of an error", 0},
		{"string", "error: {text: the lot is locked}", "2 checks passed", 0},
		{"plain", "error: {text: the lot is locked}", "2 checks passed", 0},
		{"page", "error: {text: contains the lot is locked}", "2 checks passed", 0},
		{"many", "error: {text: 2 mistakes, 'details[1].target': lot}", "3 checks passed", 0},
		{"details", "error: {code: bad, 'details[0].text': contains small}", "3 checks passed", 0},
		{"details", "error: {code: good}", `error code expected good, got "bad"`, 1},
	} {
		name := fmt.Sprintf("s%d.yaml", i)
		p.write(name, "sheet: s\nsteps:\n  - step: it\n    request: GET ${base}/"+c.path+"\n    expect:\n      "+
			c.expect+"\n")
		o := p.run("run", name)
		assert.Equal(t, c.status, o.status, "%s: %s", c.path, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, c.path)
	}
}

// fixedAnswer is what a server answers under a path, whatever it is asked.
type fixedAnswer struct {
	status     int
	kind, body string
}

// answering is a bench for a server of fixed answers.
func answering(t *testing.T, answers map[string]fixedAnswer) *place {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		answer := answers[strings.TrimPrefix(r.URL.Path, "/")]
		w.Header()["Content-Type"] = []string{answer.kind}
		w.WriteHeader(answer.status)
		fmt.Fprint(w, answer.body)
	}))
	t.Cleanup(server.Close)
	return newEcho(t, server)
}

// What is written for programs is as its published schema says: whole, as lines, and as
// it happens.
func TestResultSchema(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("schema", "result")
	require.Equal(t, 0, o.status, o.all())
	root, err := jsonschema.UnmarshalJSON(strings.NewReader(o.stdout))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	require.NoError(t, compiler.AddResource("result.json", root))
	valid := func(where, what, text string) {
		t.Helper()
		schema, err := compiler.Compile("result.json#/$defs/" + what)
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err)
		assert.NoError(t, schema.Validate(v), where)
	}
	sheets, err := filepath.Glob(filepath.Join(p.dir, "sheets", "*.yaml"))
	require.NoError(t, err)
	args := append([]string{"run", "-json", "-out", "r.json", "-out", "r.ndjson"}, sheets...)
	o = p.run(args...)
	require.Equal(t, 1, o.status, o.stderr)
	valid("r.json", "report", p.read("r.json"))
	for _, of := range [][2]string{{"line", p.read("r.ndjson")}, {"event", o.stdout}} {
		for line := range strings.Lines(of[1]) {
			valid(line[:min(len(line), 80)], of[0], line)
		}
	}
	for line := range strings.Lines(p.run("run", "sheets/01-search.yaml", "-dry", "-json").stdout) {
		valid("dry", "event", line)
	}
	p.cases([]commandCase{
		{"schema", 2, []string{"the schema of what? There are: bench (of bench.yaml), sheet"}},
		{"schema resul", 2, []string{`there is no schema "resul"`, "result"}},
	})
}
