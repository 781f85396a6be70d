package run_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/callback"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/standin"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// check is something that a step says of an answer, with a value for which it must pass and
// one for which it must fail. VALUE stands for where the value comes from, CEL for the same
// in a condition; what has neither is written twice.
type check struct {
	name, text string
	pass, fail string
	failed     string // another text that fails, where no value makes it so
	say        string // headers that make the service answer in another way
	alone      bool   // needs a request of its own: not for parts of a batch
}

var checksOfReplies = []check{
	{name: "status", text: "expect:\n  status: VALUE", pass: "200", fail: "201"},
	{name: "status that is not", text: "expect:\n  status: not VALUE", pass: "500", fail: "200"},
	{name: "time", text: "expect:\n  time: under VALUE", pass: "30 s", fail: "0 ms", alone: true},
	{name: "size", text: "expect:\n  size: over VALUE", pass: "1", fail: "999999"},
	{
		name: "same as file", text: "expect:\n  same as file: VALUE\n  except: [path, body]",
		pass: "same.json", fail: "other.json", alone: true,
	},
	{name: "type", text: "expect:\n  type: VALUE", pass: "application/json", fail: "text/plain"},
	{
		name: "headers", text: "expect:\n  headers:\n    Content-Type: starts with VALUE", pass: "application",
		fail: "text",
	},
	{
		name: "fault", text: "expect:\n  fault:\n    code: VALUE", pass: "Client", fail: "Server", say: "fault",
		alone: true,
	},
	{
		name: "fault by its code", text: "expect:\n  fault: VALUE", pass: "Client", fail: "Server", say: "fault",
		alone: true,
	},
	{
		name: "no fault", text: "expect:\n  fault: none\n  status: 200 or 500",
		failed: "expect:\n  fault:\n    code: is present\n  status: 200 or 500", alone: true,
	},
	{name: "error", text: "expect:\n  error:\n    code: VALUE", pass: "E1", fail: "E2", say: "error", alone: true},
	{name: "error by its code", text: "expect:\n  error: VALUE", pass: "E1", fail: "E2", say: "error", alone: true},
	{
		name: "error that nobody understands", text: "expect:\n  error: VALUE", pass: "418", fail: "419", say: "teapot",
		alone: true,
	},
	{name: "no error", text: "expect:\n  error: none", failed: "expect:\n  error: is present", alone: true},
	{name: "fields", text: "fields:\n  n: VALUE", pass: "3", fail: "4", alone: true},
	{name: "fields of a list", text: "fields:\n  list[*]: between 1 and VALUE", pass: "2", fail: "1", alone: true},
	{name: "list of rules", text: "fields:\n  n:\n    - over 2\n    - under VALUE", pass: "4", fail: "3", alone: true},
	{name: "any of", text: "fields:\n  n:\n    any of:\n      - 9\n      - VALUE", pass: "3", fail: "4", alone: true},
	{
		name: "all of", text: "fields:\n  n:\n    all of:\n      - over 2\n      - under VALUE", pass: "4", fail: "3",
		alone: true,
	},
	{name: "where", text: "where:\n  - answer.n < number(CEL)", pass: "4", fail: "3", alone: true},
	{name: "where of a batch", text: "where:\n  - reply.status < number(CEL)", pass: "201", fail: "200"},
	{name: "keep", text: "keep:\n  k: n", failed: "keep:\n  k: m", alone: true},
	{name: "until", text: "until:\n  n: VALUE\nevery: 5 ms\nwithin: 20 ms", pass: "3", fail: "4", alone: true},
	{
		name: "states", text: "until:\n  n: 3\nstates:\n  of: n\n  allowed:\n    - 3",
		failed: "until:\n  n: 3\nstates:\n  of: n\n  allowed:\n    - 4", alone: true,
	},
}

var said = map[string]string{
	"":       "",
	"fault":  "headers:\n  X-Say: fault",
	"error":  "headers:\n  X-Say: error",
	"teapot": "headers:\n  X-Say: teapot",
}

var checksOfLookups = []check{
	{name: "fields", text: "fields:\n  answer: count VALUE", pass: "1", fail: "2"},
	{name: "where", text: "where:\n  - size(answer) < number(CEL)", pass: "2", fail: "1"},
	{name: "time", text: "expect:\n  time: under VALUE", pass: "30 s", fail: "0 ms"},
	{name: "until", text: "until:\n  answer: count VALUE\nevery: 5 ms\nwithin: 20 ms", pass: "1", fail: "2"},
	{
		name: "states", text: "until:\n  answer: count 1\nstates:\n  of: answer[0].name\n  allowed:\n    - two.csv",
		failed: "until:\n  answer: count 1\nstates:\n  of: answer[0].name\n  allowed:\n    - three.csv",
	},
	{name: "keep", text: "keep:\n  k: answer[0].name", failed: "keep:\n  k: answer[1].name"},
}

var checksOfCalls = []check{
	{name: "fields", text: "fields:\n  n: VALUE", pass: "3", fail: "4"},
	{name: "where", text: "where:\n  - answer.n < number(CEL)", pass: "4", fail: "3"},
	{name: "until", text: "until:\n  n: VALUE\nwithin: 100 ms", pass: "3", fail: "4"},
	{name: "states", text: "states:\n  of: n\n  allowed:\n    - 3", failed: "states:\n  of: n\n  allowed:\n    - 4"},
	{name: "match", text: "within: 100 ms", failed: "within: 100 ms", pass: "", fail: ""},
	{name: "keep", text: "keep:\n  k: n", failed: "keep:\n  k: m"},
}

// contexts are the places in which a step may be: each makes a sheet of it.
var contexts = []struct {
	name, value, cel string
	sheet            func(step, value string) string
}{
	{"a row", "${row.v}", "row.v", func(step, value string) string { return rowsOf(value) + "steps:\n" + step }},
	{"a set value", "${v}", "kept.v", func(step, value string) string {
		return fmt.Sprintf("sheet: s\nsteps:\n  - step: given\n    set:\n      v: %s\n", quoted(value)) + step
	}},
	{"each item", "${each}", "kept.each", func(step, value string) string {
		return "sheet: s\nrows:\n  list:\n    - v:\n        - " + quoted(value) + "\nsteps:\n" + step +
			"    for each: ${row.v}\n"
	}},
	{"a group", "${row.v}", "row.v", func(step, value string) string {
		return rowsOf(value) + "steps:\n  - step: group\n    steps:\n" + deeper(step, "    ")
	}},
	{"finally", "${row.v}", "row.v", func(step, value string) string {
		return rowsOf(value) + "steps:\n  - step: before\n    pause: 1 ms\nfinally:\n" + step
	}},
	{"an undo", "${row.v}", "row.v", func(step, value string) string {
		return rowsOf(value) + "steps:\n  - step: before\n    request: echo GET /it\n    undo:\n" +
			deeper(strings.Replace(step, "  - step", "    step", 1), "  ")
	}},
}

// quoted writes a value as YAML; a number stays one.
func quoted(text string) string {
	if text == "" || strings.Contains(text, ":") {
		return fmt.Sprintf("%q", text)
	}
	return text
}

func rowsOf(value string) string { return "sheet: s\nrows:\n  list:\n    - v: " + quoted(value) + "\n" }

func deeper(text, lead string) string {
	return lead + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n"+lead) + "\n"
}

func (c *check) texts(value, cel string) (pass, fail string) {
	text := strings.NewReplacer("VALUE", value, "CEL", cel).Replace(c.text)
	if c.failed != "" {
		return text, c.failed
	}
	return text, text
}

// outcome runs a sheet and gives what came of it.
func (e *effects) outcome(t *testing.T, text string, chosen ...string) result.Outcome {
	t.Helper()
	return e.result(t, text, run.RunOptions{Steps: chosen}).Outcome
}

func (e *effects) result(t *testing.T, text string, o run.RunOptions) *result.Sheet {
	t.Helper()
	bench, err := bench.Open(e.dir)
	require.NoError(t, err)
	read := sheet.Read(bench, filepath.Join(e.dir, "sheets", "test.yaml"), []byte(text), step.Kinds)
	require.Empty(t, vet.Sheet(read, vet.Options{}).Serious(), text)
	receiver := &callback.Receiver{}
	defer func() { _ = receiver.Close() }()
	session, err := session.NewSession(bench,
		session.Options{Receiver: receiver, Store: &secret.Store{Environ: func(name string) (string, bool) {
			text, ok := standin.Secrets[strings.ToLower(strings.TrimPrefix(name, "TESTBENCH_SEALED_"))]
			return text, ok
		}}})
	require.NoError(t, err)
	results := run.Run(t.Context(), nil, []*run.Job{{Session: session, Sheet: read}}, o)
	require.NoError(t, session.Close(t.Context()))
	require.Len(t, results, 1)
	return results[0]
}

// Limits of steps that the command line leaves out are not judged; those within a step are
// judged with it.
func TestLimitsOfChosenSteps(t *testing.T) {
	e := newEffects(t)
	text := func(limited, rule string) string {
		return "sheet: s\nexpect:\n  steps:\n    \"" + limited + "\":\n      max: " + rule +
			`
steps:
  - step: one
    request: echo POST /it
  - step: two
    steps:
      - step: inner
        request: echo POST /it
`
	}
	for _, c := range []struct {
		limited, rule string
		chosen        []string
		want          result.Outcome
	}{
		{"one", "under 0 ms", nil, result.Failed},
		{"one", "under 0 ms", []string{"one"}, result.Failed},
		{"one", "under 0 ms", []string{"two"}, result.Passed},
		{"two: inner", "under 0 ms", nil, result.Failed},
		{"two: inner", "under 0 ms", []string{"two"}, result.Failed},
		{"two: inner", "under 0 ms", []string{"one"}, result.Passed},
		{"two: inner", "under 1 min", []string{"two"}, result.Passed},
	} {
		assert.Equal(t, c.want, e.outcome(t, text(c.limited, c.rule), c.chosen...), "%+v", c)
	}
	// Where nothing is sent, or only a part of the rows is run, nothing can be said of times.
	for name, o := range map[string]run.RunOptions{"dry": {Dry: true}, "a share": {Share: run.Share{I: 1, N: 2}}} {
		assert.Empty(t, e.result(t, text("one", "under 0 ms"), o).Checks, name)
	}
}

// What is in an operation described in bench.yaml decides what is sent, and which of them only
// read.
func TestOperationsByHand(t *testing.T) {
	e := newEffects(t)
	e.addToBench(t, `services:
  hand:
    address: ${base}/echo
    operations:
      look: {request: HEAD /it}
      ask: {request: OPTIONS /it}
      get: {request: GET /it}
      defaulted: {request: GET /it, query: {a: {default: "${site.depot}"}, b: {default: 5}}, headers: {a: {default: h}}}
      given: {request: GET /it, query: {lot: required, depot: optional}}
      put: {request: PUT /it}
      search: {request: POST /it, reads: true}
      wrapped:
        request: POST /it
        template: {request: "${fields}", desk: "${site.depot}", day: 2026-11-30}
      soap: {action: "urn:heatherfold:lab#Grade", payload: "GradeLot"}
`)
	for name, want := range map[string]string{
		"look": "HEAD /echo/it ", "ask": "OPTIONS /echo/it ", "get": "GET /echo/it ", "put": "PUT /echo/it ",
		"search":  "POST /echo/it ",
		"wrapped": `{"request":{"lot":"L-1"},"desk":"north","day":"2026-11-30"}`, "soap": "POST /echo ",
	} {
		fields := ""
		if name == "wrapped" {
			fields = "    fill:\n      lot: L-1\n"
		}
		sent, _ := e.of(t, "sheet: s\nsteps:\n  - step: it\n    call: hand/"+name+"\n"+fields)
		assert.Contains(t, sent, want, name)
		guarded, _ := e.of(t, "sheet: s\nsite: live\nsteps:\n  - step: it\n    call: hand/"+name+"\n"+fields)
		reads := name != "put" && name != "wrapped" && name != "soap"
		assert.Equal(t, !reads, strings.Contains(guarded, "guard"), "%s: %s", name, guarded)
	}
	sent, problems := e.of(t, "sheet: s\nsteps:\n  - step: it\n    call: echo/get\n")
	assert.NotContains(t, sent, "GET /echo/it", "a path wants what is in it: %v", problems)
	assert.Contains(t, sent, "echo/get needs id")
	sent, _ = e.of(t, "sheet: s\nsteps:\n  - step: it\n    call: hand/given\n    fill: {depot: north}\n")
	assert.Contains(t, sent, "hand/given needs lot")
	sent, _ = e.of(t, "sheet: s\nsteps:\n  - step: it\n    call: hand/given\n    fill: {lot: L-1}\n")
	assert.Contains(t, sent, "GET /echo/it?lot=L-1")
	sent, _ = e.of(t, "sheet: s\nsteps:\n  - step: it\n    call: hand/defaulted\n")
	assert.Contains(t, sent, "GET /echo/it?a=north&b=5")
	sent, _ = e.of(t, "sheet: s\nsteps:\n  - step: it\n    request: echo POST /it\n    body: {a: \"1\", b: 1, c: x}\n")
	assert.Contains(t, sent, `{"a":"1","b":1,"c":"x"}`, "what is in quotes is a text")
	sent, _ = e.of(t, "sheet: s\nsteps:\n  - step: it\n    request: echo POST /it\n    body:\n      a: |-\n        1\n")
	assert.Contains(t, sent, `{"a":"1"}`, "and so is what is in lines of its own")
}

// How many rows there are to run is known beforehand, unless a database says so.
func TestRowsToRun(t *testing.T) {
	e := newEffects(t)
	for rows, want := range map[string]int{
		"list: [{n: 1}, {n: 2}, {n: 3}]":              3,
		"list: [{n: 1}, {n: 2}, {n: 3}]\n  sample: 2": 2, "list: [{n: 1}, {n: 2}, {n: 3}]\n  limit: 1": 1,
		"list: [{n: 1}, {n: 2}]\n  sample: 5\n  limit: 9": 2,
	} {
		result := e.result(t, "sheet: s\nrows:\n  "+rows+"\nsteps:\n  - step: it\n    request: echo POST /it\n",
			run.RunOptions{})
		assert.Equal(t, want, result.Total, rows)
		assert.Equal(t, want, result.Counts.Rows, rows)
	}
}

// Rows are those for which their condition holds; one for which it comes to neither yes nor
// no is not a row that was left out, but one that failed.
func TestConditionsOfRows(t *testing.T) {
	e := newEffects(t)
	text := func(when, rule string) string {
		return "sheet: s\nrows:\n  list:\n    - n: 1\n    - n: x\n  when: " + when + "\nsteps:\n" +
			"  - step: it\n    request: echo POST /${row.n}\n    fields:\n      path: ends with " + rule + "\n"
	}
	assert.Equal(t, result.Passed, e.outcome(t, text("row.n == '1'", "1")))
	assert.Equal(t, result.Failed, e.outcome(t, text("row.n == 'x'", "1")))
	assert.NotEqual(t, result.Passed, e.outcome(t, text("number(row.n) == 1", "1")), "x is not a number")
}

// A check that cannot fail says nothing: each is checked against an answer for which it must
// pass and one for which it must fail, wherever a step may be.
func TestEachCheckCanPassAndFail(t *testing.T) {
	e := newEffects(t)
	both := func(t *testing.T, pass, fail string) {
		t.Helper()
		assert.Equal(t, result.Passed, e.outcome(t, pass), pass)
		assert.Equal(t, result.Failed, e.outcome(t, fail), fail)
	}
	step := func(parts ...string) string {
		text := "  - step: it\n"
		for _, part := range parts {
			if part != "" {
				text += indented(part)
			}
		}
		return text
	}
	for _, at := range contexts {
		for _, c := range checksOfReplies {
			t.Run("of a reply, in "+at.name+": "+c.name, func(t *testing.T) {
				pass, fail := c.texts(at.value, at.cel)
				base := "request: echo POST /it"
				both(t, at.sheet(step(base, said[c.say], pass), c.pass),
					at.sheet(step(base, said[c.say], fail), c.fail))
			})
		}
		for _, c := range checksOfLookups {
			t.Run("of a lookup, in "+at.name+": "+c.name, func(t *testing.T) {
				pass, fail := c.texts(at.value, at.cel)
				both(t, at.sheet(step(bases["lookup"], pass), c.pass), at.sheet(step(bases["lookup"], fail), c.fail))
			})
		}
	}
	for _, c := range checksOfReplies {
		pass, fail := c.texts("${v}", "kept.v")
		if !c.alone {
			t.Run("of a part of a batch: "+c.name, func(t *testing.T) {
				batch := func(text, value string) string {
					part := deeper(step("call: ledger/Suppliers.list",
						strings.NewReplacer("${v}", "${row.v}", "kept.v", "row.v").Replace(text)), "    ")
					return rowsOf(value) + "steps:\n  - step: all\n    batch: ledger\n    parts:\n" + part
				}
				both(t, batch(pass, c.pass), batch(fail, c.fail))
			})
		}
		t.Run("in a sheet that a sheet runs: "+c.name, func(t *testing.T) {
			outer := func(text, value string) string {
				inner := "sheet: inner\ntakes:\n  v: required\nsteps:\n" + step("request: echo POST /it", said[c.say],
					text)
				require.NoError(t, os.WriteFile(filepath.Join(e.dir, "sheets", "checked.yaml"), []byte(inner), 0o600))
				return "sheet: s\nsteps:\n  - step: other\n    sheet: sheets/checked.yaml\n    fill:\n      v: " +
					quoted(value) + "\n"
			}
			first := outer(pass, c.pass)
			assert.Equal(t, result.Passed, e.outcome(t, first))
			assert.Equal(t, result.Failed, e.outcome(t, outer(fail, c.fail)))
		})
	}
	for _, c := range checksOfCalls {
		t.Run("of a call back: "+c.name, func(t *testing.T) {
			pass, fail := c.texts("${row.v}", "row.v")
			called := func(text, value, match string) string {
				return rowsOf(value) + `steps:
  - step: ask for a call
    request: POST ${base}/callme
    body:
      url: ${callback.it}
      body: "{\"n\": 3}"
` +
					step("listen:\n  method: POST\n  match:\n    n: "+match, text)
			}
			match := "3"
			if c.name == "match" {
				match = "4"
			}
			both(t, called(pass, c.pass, "3"), called(fail, c.fail, match))
		})
	}
	t.Run("that a connection is refused", func(t *testing.T) {
		refused := func(value string) string {
			return rowsOf(value) + "steps:\n" + step("request: GET http://127.0.0.1:1/", "expect:\n  refused: ${row.v}")
		}
		both(t, refused("connection"), refused("tls"))
	})
	t.Run("of what was set", func(t *testing.T) {
		set := func(value string) string {
			return rowsOf(value) + "steps:\n" + step("set:\n  x: ${row.v}", "where:\n  - kept.x == 3")
		}
		both(t, set("3"), set("4"))
	})
	for word, values := range map[string][2]string{
		"p50": {"under 30 s", "under 0 ms"}, "p90": {"under 30 s", "under 0 ms"}, "p95": {"under 30 s", "under 0 ms"},
		"p99": {"under 30 s", "under 0 ms"},
		"max": {"under 30 s", "under 0 ms"}, "per second": {"over 0.001", "over 999999"},
	} {
		for name, text := range map[string]string{
			"each step": "expect:\n  %s: %s\n",
			"one step":  "expect:\n  steps:\n    it:\n      %s: %s\n",
		} {
			t.Run("of the times of "+name+": "+word, func(t *testing.T) {
				limited := func(rule string) string {
					return "sheet: s\n" + fmt.Sprintf(text, quoted(word), quoted(rule)) + "steps:\n" +
						step("request: echo POST /it")
				}
				both(t, limited(values[0]), limited(values[1]))
			})
		}
	}
	t.Run("of times that nobody measured", func(t *testing.T) {
		assert.Equal(t, result.Failed,
			e.outcome(t, "sheet: s\nexpect:\n  p95: under 30 s\nsteps:\n"+step("pause: 1 ms")))
	})
}
