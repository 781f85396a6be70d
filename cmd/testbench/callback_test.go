package main_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const manners = `sheet: manners
rows:
  list: [MANNERS]
steps:
  - step: submit
    call: press/submit
    fill:
      lot: L-1901
      kilos: 42.5
      tell: ${callback.pressed}
      manner: ${row.manner}
    keep: {job: number}
  - step: pressed
    listen:
      match: {job: '${job}'}
      signed:
        header: Press-Signature
        before: sha256=
        key: ${sealed.press}
      quiet: 300 ms
    until: {state: done}
    within: 2 s
    states:
      of: state
      allowed: [queued, running, done]
      failed: [failed]
    fields: {honey: 34.00}
`

// Calls that come early, twice, in a false order, late, from others or never: each is
// what it is, and said as that.
func TestCalledBack(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	expected := map[string]struct {
		outcome string
		says    []string
	}{
		"usual":     {"passed", []string{"callback received 3 times: queued at first, running after", "done after"}},
		"at once":   {"passed", []string{"callback received 3 times"}},
		"twice":     {"passed", []string{"the same call came again"}},
		"backwards": {"failed 1 of 4", []string{`it began with "running", and must begin with queued`}},
		"skipping":  {"failed 1 of 5", []string{`"done" came after "queued", and running must come between`}},
		"never": {
			"failed 1 of 1",
			[]string{
				"expect call expected a call by POST within 2 s, got none",
				"the address that was given out: http://127.0.0.1:",
			},
		},
		"lost": {"failed 1 of 4", []string{`until state expected done, got "running"`, "not so within 2 s"}},
		"late": {
			"failed 1 of 6",
			[]string{
				"expect quiet expected no more calls for 300 ms, got one more",
				`false: "running" came after "done"`,
			},
		},
		"failing": {"failed 1 of 5", []string{"expected not failed, got failed"}},
		"unsigned": {
			"failed 1 of 1",
			[]string{"a call with a false signature came and was refused (header Press-Signature)"},
		},
		"others": {"passed", []string{"a call that does not match came: job expected", "callback received 3 times"}},
	}
	var list, names []string
	for name := range expected {
		list, names = append(list, fmt.Sprintf("{manner: %q}", name)), append(names, name)
	}
	o := p.sheet(strings.Replace(manners, "MANNERS", strings.Join(list, ", "), 1), "-jobs", "11")
	assert.Equal(t, 1, o.status)
	rows := strings.Split(o.stdout, "manners · ")[1:]
	require.Len(t, rows, len(expected), o.all())
	for i, row := range rows {
		text := strings.Join(strings.Fields(row), " ")
		assert.Contains(t, text, expected[names[i]].outcome, "%s: %s", names[i], row)
		for _, says := range expected[names[i]].says {
			assert.Contains(t, text, says, "%s: %s", names[i], row)
		}
	}
	assert.NotContains(t, o.all(), "stone-weir-118")
}

// Whoever calls is answered as the step says, whatever they send; what is not waited for
// is refused, and what came unasked is told at the end.
func TestCallsOfOthers(t *testing.T) {
	t.Parallel()
	var answers lines
	call := func(method, address, body string, header ...string) {
		request, err := http.NewRequest(method, address, strings.NewReader(body))
		if err != nil {
			return
		}
		for i := 0; i+1 < len(header); i += 2 {
			request.Header.Set(header[i], header[i+1])
		}
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			answers.add(err.Error())
			return
		}
		defer func() { _ = answer.Body.Close() }()
		said, _ := io.ReadAll(answer.Body)
		answers.add(fmt.Sprintf("%d %s%s", answer.StatusCode, answer.Header.Get("X-From"), bytes.TrimSpace(said)))
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		address := r.URL.Query().Get("tell")
		answers.reset()
		switch r.URL.Path {
		case "/xml":
			call("POST", address+"/done", `<n:lot xmlns:n="urn:x"><n:state>done</n:state></n:lot>`, "Content-Type",
				"text/xml")
		case "/query":
			call("GET", address+"?state=done&lot=L-1", "")
		case "/wrong":
			call("GET", address+"/done", "")
			call("POST", address+"/dine", "")
			call("POST", strings.TrimSuffix(address, address[len(address)-5:])+"aaaaa/done", "")
			call("POST", address+"/done", strings.Repeat("x", 11<<20))
			call("POST", address+"/done", `{"state": "done"`, "Content-Type", "application/json")
		case "/late":
			call("POST", address+"/done", `{"state": "done"}`, "Content-Type", "application/json")
			call("POST", address+"/done", `{"state": "more"}`, "Content-Type", "application/json")
		}
		w.WriteHeader(204)
	}))
	t.Cleanup(server.Close)
	p := newEcho(t, server)
	sheet := func(path, listen, rest string) string {
		return "sheet: s\nsteps:\n  - step: ask\n    request: GET ${base}/" + path +
			"?tell=${callback}\n  - step: told\n    listen: " + listen + "\n" + rest
	}
	done := "{path: done, answer: {status: 202, headers: {X-From: '${base}'}, body: {ok: true}}}"
	for _, c := range []struct {
		sheet   string
		status  int
		says    []string
		answers []string
	}{
		{sheet("xml", done, "    fields: {state: done, reply.path: ends with /done, reply.method: POST}\n    keep: {state: state}\n"), 0, []string{"told listen 202 4 checks passed"}, []string{"202 " + server.URL + `{"ok":true}`}},
		{
			sheet("query", "GET", "    fields: {state: done, reply.query.lot: L-1}\n"), 0,
			[]string{"told listen 204 2 checks passed"},
			[]string{"204 "},
		},
		{
			sheet("wrong", done, "    within: 300 ms\n    fields: {state: done}\n"), 1,
			[]string{
				"a call by GET came and was refused: POST is waited for",
				"a call to /dine came and was refused: /done is waited for", "a call was larger than 10 MiB",
			},
			[]string{
				"405 Method Not Allowed", "404 Not Found", "410 nobody waits for a call here, or not any more",
				"413 too large", "202 " + server.URL + `{"ok":true}`,
			},
		},
		{
			sheet("late", "{path: done}", "    fields: {state: done}\n"), 0,
			[]string{"told listen 204 1 check passed", "listen 204 done", "a call came late"},
			[]string{"204 ", "204 "},
		},
		{
			sheet("none", done, "    within: 100 ms\n    stop: row\n"), 1,
			[]string{"expected a call by POST within 100 ms, got none"},
			nil,
		},
		{
			sheet("none", "{path: done}",
				"    until: {a: 1}\n    within: 50 ms\n  - step: after\n    when: 1 > 2\n    listen: POST\n"), 2,
			[]string{"several steps wait for a callback"},
			nil,
		},
	} {
		o := p.sheet(c.sheet)
		assert.Equal(t, c.status, o.status, "%s: %s", c.sheet, o.all())
		for _, says := range c.says {
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), says, c.sheet)
		}
		if c.status != 2 {
			assert.Equal(t, c.answers, answers.read(), c.sheet)
		}
	}
	// Under another name, and where somebody listens already.
	o := p.sheet(sheet("none", "POST", "    within: 50 ms\n"), "-callback", "https://tests.heatherfold.example/back/")
	assert.Contains(t, o.all(), "https://tests.heatherfold.example/back/")
	o = p.sheet(sheet("none", "POST", "    within: 50 ms\n"), "-listen", strings.TrimPrefix(server.URL, "http://"))
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "nobody can call back: listen tcp 127.0.0.1:")
}

// A sheet can run others, with values of its own, and go on with what they kept.
func TestSheetsWithinSheets(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("sheets/book.yaml", `sheet: book
takes:
  lot: required
  grade: A
first:
  - step: open
    request: GET ${base}/open-${lot}
    undo:
      request: GET ${base}/close-${lot}
steps:
  - step: one
    request: GET ${base}/${lot}-${grade}
    keep: {booked: n}
`)
	p.write("sheets/many.yaml",
		`sheet: many
takes: {before: required}
rows: {numbers: 1 to 3, as: n}
steps:
  - step: get
    request: GET ${base}/${before}-${n}
    keep: {one: n}
`)
	p.write("sheets/ring.yaml", "sheet: ring\nsteps:\n  - step: again\n    sheet: sheets/ring.yaml\n")
	use := func(rest string) string {
		return "sheet: outer\nrows: {numbers: 1 to 2, as: n}\nsteps:\n  - step: booking\n    " +
			strings.ReplaceAll(rest, "\n", "\n    ") + "\n"
	}
	for _, c := range []struct {
		sheet  string
		args   []string
		status int
		says   []string
	}{
		{
			use("sheet: sheets/book.yaml\nfill: {lot: 'L${n}'}\nkeep: {it: booked}\nfields: {booked: 'L${n}-A'}") +
				"  - step: after\n    request: GET ${base}/after-${it}\n    fields: {n: 'after-L${n}-A'}\n", nil, 0,
			[]string{
				"booking: open GET ${base}/open-${lot} 200", "booking: one GET ${base}/${lot}-${grade} 200",
				"booking: undo open GET ${base}/close-${lot} 200", "booking sheet sheets/book.yaml 2 checks passed",
				"2 rows · 2 passed · 8 exchanges",
			},
		},
		{
			use("sheet: sheets/many.yaml\nfill: {before: x}\nkeep: {all: one}") +
				"  - step: after\n    for each: ${all}\n    request: GET ${base}/${each}\n", nil, 0,
			[]string{"after (3 of 3)", "12 exchanges"},
		},
		{
			use("sheet: sheets/book.yaml\nfill: {lot: x}\nfor each: [1, 2]\nkeep: {all: booked}") +
				"  - step: after\n    calculate: {n: size(kept.all)}\n", nil, 0,
			[]string{"booking (2 of 2): one", "12 exchanges"},
		},
		{
			use("sheet: sheets/book.yaml\nfill: {lot: x}\nfields: {booked: y}"), nil, 1,
			[]string{`booked expected y, got "x-A"`},
		},
		{use("sheet: sheets/book.yaml"), nil, 2, []string{"sheets/book.yaml must be given lot"}},
		{
			use("sheet: sheets/book.yaml\nfill: {lot: 1, grad: B}"), nil, 2,
			[]string{`there is no value that sheets/book.yaml takes "grad"`, `did you mean "grade"?`},
		},
		{use("sheet: sheets/bok.yaml"), nil, 2, []string{"there is no file sheets/bok.yaml"}},
		{use("sheet: sheets/ring.yaml"), nil, 2, []string{"the sheets run one another in a circle"}},
		{
			use("sheet: sheets/book.yaml\nfill: {lot: 1}\nexpect: {status: 200}"), nil, 2,
			[]string{"a step that runs a sheet has no expect"},
		},
	} {
		o := p.sheet(c.sheet, c.args...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.sheet, o.all())
		for _, says := range c.says {
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), says, c.sheet)
		}
	}
	o := p.run("run", "sheets/book.yaml")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "the sheet must be given lot")
	o = p.run("run", "sheets/book.yaml", "-set", "lot=L-1")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 0, p.run("vet", "sheets/book.yaml").status)
}
