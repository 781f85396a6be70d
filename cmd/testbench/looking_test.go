package main_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/compare"
	"testbench/internal/standin"
)

// Fields are found in files, from a pipe and in the history, by text and kind, and can be
// pasted into a step, where they hold.
func TestFieldsCommand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	require.Equal(t, 0, p.run("call", "stores/search", "grade=A", "-save", "lots.json").status)
	p.write("lots.csv", "lot,kilos\nL-1,12.50\nL-2,7\n")
	p.write("odd.json", `{"a b": {"0": 1}, "answer": [null, {"x.y": "2026-11-23"}], "reply": "${x} # ", "total": 3}`)
	p.cases([]commandCase{
		{
			"fields lots.json", 0,
			[]string{
				"lots list 5 elements", `lots[*].id text 5/5 "L-2201", "L-2202"`,
				"lots[*].barrels[*].number integer 7/7 1, 2", "lots[*].harvested date 5/5",
			},
		},
		{"fields last", 0, []string{"total integer 9"}},
		{"fields stores/search", 2, []string{"there is no file stores/search", "testbench call stores/search"}},
		{"fields 1.1 -find della", 0, []string{"lots[*].keeper"}},
		{"fields lots.json -kind number", 0, []string{"lots[*].kilos", "total integer"}},
		{"fields lots.json -tree -find kilos", 0, []string{"kilos"}},
		{"fields lots.csv", 0, []string{"answer list 2 elements", "answer[*].kilos number 2/2 12.50, 7"}},
		{"fields odd.json", 0, []string{
			`["a b"]["0"] integer 1`, `["answer"][*]["x.y"] date 1/2`,
			`["reply"] text "${x} #`,
		}},
		{"fields lots.json -find nosuch", 1, []string{"no field is like that"}},
		{"fields none.json", 2, []string{"there is no file none.json", "an exchange of the history as 18.3"}},
		{"fields 7.1", 2, []string{"there is no run 7 in the history; the newest is 1"}},
		{"fields 1.9", 2, []string{"run 1 has no exchange 9", "from 1.1 to 1."}},
		{"fields", 2, []string{"the fields of what?"}},
		{"fields lots.json -kind nmber", 2, []string{"-kind does not take"}},
		{"fields lots.json -as step", 2, []string{"there are: keep, fields"}},
		{"fields sheets", 2, []string{"sheets is a folder"}},
	})
	p.stdin = `{"a": [1, 2`
	o := p.run("fields", "-")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "it ends too early")
	// What is to be pasted holds for the answer that it was made of.
	for i, file := range []string{"lots.json", "odd.json", "lots.csv"} {
		mediaType := map[string]string{"lots.csv": "text/csv"}[file]
		if mediaType == "" {
			mediaType = "application/json"
		}
		keep, rules := p.run("fields", file, "-as", "keep"), p.run("fields", file, "-as", "fields")
		require.Equal(t, []int{0, 0}, []int{keep.status, rules.status}, file)
		server := serving(t, mediaType, p.read(file))
		p.write(fmt.Sprintf("sheets/p%d.yaml", i),
			"sheet: p\nsteps:\n  - step: get\n    request: GET "+server.URL+"\n    "+
				strings.ReplaceAll(strings.TrimSpace(keep.stdout), "\n", "\n    ")+"\n    "+
				strings.ReplaceAll(strings.TrimSpace(rules.stdout), "\n", "\n    ")+"\n")
		o := p.run("run", fmt.Sprintf("sheets/p%d.yaml", i), "-allow", strings.TrimPrefix(server.URL, "http://"))
		assert.Equal(t, 0, o.status, "%s%s%s", keep.stdout, rules.stdout, o.all())
	}
	var found []struct{ Path, Kind string }
	require.NoError(t, json.Unmarshal([]byte(p.run("fields", "lots.json", "-json").stdout), &found))
	assert.Equal(t, "depot", found[0].Path)
}

// What was run and called is in the history: in a list, a run, an exchange, and over
// time; without what is secret.
func TestHistoryCommand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	assert.Contains(t, p.run("history").stderr, "nothing was run yet")
	assert.Contains(t, p.run("history", "-steps").stderr, "no sheet was run yet")
	p.run("call", "stores/search", "grade=A")
	sheet := func(status string) string {
		return "sheet: s\nsteps:\n  - step: search\n    call: stores/search\n    login: clerk\n    expect: {status: " +
			status + "}\n  - step: steady\n    request: stores GET /lots\n"
	}
	for _, status := range []string{"200", "200", "404"} {
		p.sheet(sheet(status))
	}
	text := func(args ...string) string {
		o := p.run(append([]string{"history"}, args...)...)
		assert.Equal(t, 0, o.status, o.all())
		return strings.Join(strings.Fields(o.all()), " ")
	}
	list := text()
	for _, says := range []string{"4 20", "failed 1 3", "sheets/test.yaml 3 20", "call stores/search"} {
		assert.Contains(t, list, says)
	}
	assert.Contains(t, text("4"), "4.1 search stores/search 200 failed 4.2 steady stores GET /lots 200 passed")
	assert.Regexp(t, `1 sheet · 1 row · 1 passed · \d exchange`, p.run("report", "1").stdout,
		"a call is counted as a row")
	exchange := text("4.2")
	assert.Contains(t, exchange, "Authorization: Bearer [masked]")
	assert.Contains(t, exchange, "HTTP/1.1 200 OK")
	assert.Contains(t, exchange, `"depot": "north"`)
	steps := text("-steps")
	assert.Contains(t, steps, "search ••✗")
	assert.Contains(t, steps, "newly failing")
	assert.Contains(t, steps, "steady •••")
	assert.Contains(t, text("-json"), `"run"`)
	p.sheet(sheet("200"))
	assert.Contains(t, text("-steps"), "failed in run 4, and in no other of 4 runs")
	assert.Contains(t, text("-prune", "2"), "3 runs taken away")
	assert.NotContains(t, text(), "call stores/search")
	p.cases([]commandCase{
		{"history x", 2, []string{`"x" is neither a run nor an exchange`}},
		{"history 1", 2, []string{"there is no run 1 in the history; the newest is 5"}},
		{"history 1 2", 2, []string{"one run or exchange at a time"}},
		{"history -most 0", 2, []string{"-most takes a number from 1"}},
		{"history -prune x", 2, []string{`-prune takes how many runs are kept`}},
		{"history -steps=x", 2, []string{`-steps takes true or false, not "x"`}},
		{"watch stores/search -every 5", 2, []string{`-every takes a time, as 500ms, 90s or 2m, not "5"`}},
	})
	for _, secret := range standin.Secrets {
		assert.NotContains(t, p.read(".testbench/history.db"), secret)
	}
}

// Answers are compared by what is in them: files of any kind, past exchanges, and one
// call at two sites.
func TestCompareCommand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("a.json", `{"lots": [{"id": "L-1", "kilos": 12.50, "at": "2026-11-23T08:30:00Z"}, {"id": "L-2", "kilos": 7}], "total": 2}`)
	p.write("b.json", `{"lots": [{"id": "L-2", "kilos": 7.0}, {"id": "L-1", "kilos": 13, "at": "2026-11-24T08:30:00Z"}], "total": "2"}`)
	p.write("a.xml", `<r><lots id="L-1" kilos="12.5" at="2026-11-23T08:30:00Z"/><lots id="L-2" kilos="7"/><total>2</total></r>`)
	p.cases([]commandCase{
		{
			"compare a.json b.json", 1,
			[]string{
				"changed lots[id=L-1].kilos 12.50 13", "moved lots[id=L-1] at 0 at 1", "kind total 2 \"2\"",
				"4 differences",
			},
		},
		{
			"compare a.json b.json -ignore total -ignore lots[*].kilos -ignore is~datetime", 1,
			[]string{"moved", "1 difference"},
		},
		{"compare a.json a.xml", 0, []string{"no difference"}},
		{"compare a.json b.json -key lots=kilos", 1, []string{"removed lots[kilos=12.50]"}},
		{
			"compare stores/search grade=A -site local -site south", 1,
			[]string{"path local south", `changed depot "north" "south"`, `removed lots[0]`},
		},
		{"compare stores/search grade=A -site local -site local", 0, []string{"no difference"}},
		{"compare 1.1 2.1 -ignore lots", 1, []string{`changed depot "north" "south"`}},
		{
			"compare GET ${base} -site local -site live -set base=http://127.0.0.1:9 -allow 127.0.0.1", 3,
			[]string{"at local: 127.0.0.1:9 refused the connection"},
		},
		{"report last -out bench.yaml/x.html", 2, []string{"bench.yaml is not a folder"}},
		{"compare a.json", 2, []string{"compare which two answers?"}},
		{"compare a.json c.json", 2, []string{"there is no file c.json"}},
		{
			"compare stores/search -site local -site south -site live", 2,
			[]string{"two sites are compared, and 3 are named"},
		},
		{"compare stores/search -site local -site sout", 2, []string{`there is no site "sout"`}},
		{"compare a.json b.json -key lots", 2, []string{"-key takes list=field"}},
		{"compare a.json b.json -ignore is~dat", 2, []string{"-ignore does not take"}},
	})
	var patch []struct{ Op, From, Path string }
	require.NoError(t, json.Unmarshal([]byte(p.run("compare", "a.json", "b.json", "-json").stdout), &patch))
	assert.Equal(t, "move", patch[0].Op)
	p.write("c.json", `{"a": `)
	o := p.run("compare", "a.json", "c.json")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "c.json: ")
}

// Two versions of a contract are compared by whom each change breaks, and two runs by what
// became of their steps.
func TestCompareContractsAndRuns(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	contract := p.read("contracts/stores.yaml")
	p.write("stores-2.yaml", strings.NewReplacer("name: grade", "name: class").Replace(contract))
	p.write("schema.json", `{"type": "object", "properties": {"a": {"type": "string"}}}`)
	p.write("schema-2.json", `{"type": "object", "properties": {"a": {"type": "number"}}}`)
	p.write("scale.xml", `<?xml version="1.0"?><!-- what it weighed --><kilos>3</kilos>`)
	changes := []commandCase{
		{
			"compare stores stores-2.yaml", 1,
			[]string{
				"breaks callers request query.grade is gone",
				"breaks nobody request query.class is new and may be left out", "1 breaks callers, 1 breaks nobody",
			},
		},
		{"compare contracts/stores.yaml stores-2.yaml -breaks", 1, []string{"query.grade is gone"}},
		{"compare stores contracts/stores.yaml", 0, []string{"no difference"}},
		{"compare contracts/lab.wsdl contracts/lab.wsdl", 0, []string{"no difference"}},
		{
			"compare contracts/lab.wsdl contracts/stores.yaml", 2,
			[]string{"the first is WSDL 1.1 and the second is OpenAPI 3.1.0"},
		},
		{"compare contracts/lab.wsdl gone.wsdl", 2, []string{"there is no file gone.wsdl"}},
		{
			"compare contracts/lab.wsdl scale.xml", 2,
			[]string{"contracts/lab.wsdl is one of two contracts, and scale.xml of two answers", "-as answers"},
		},
		{"compare contracts/ledger.xml contracts/ledger.xml", 0, []string{"no difference"}},
		{"compare schema.json schema-2.json", 1, []string{"changed properties.a.type"}},
		{
			"compare schema.json schema-2.json -as contracts", 1,
			[]string{"breaks both document a is of another kind: text before, number now", "1 change: 1 breaks both"},
		},
		{"compare schema.json schema-2.json -as schemas", 2, []string{`-as does not take "schemas"`}},
		{"compare schema.json -as contracts", 2, []string{"compare which two contracts?"}},
		{"compare schema.json none.json -as contracts", 2, []string{"none.json"}},
	}
	p.cases(changes)
	assert.NotContains(t, p.run("compare", "stores", "stores-2.yaml", "-breaks").stdout, "query.class")
	var found []struct {
		Path    string
		Callers bool `json:"breaks callers"`
	}
	require.NoError(t, json.Unmarshal([]byte(p.run("compare", "stores", "stores-2.yaml", "-json", "-breaks").stdout),
		&found))
	assert.True(t, found[0].Callers)
	const sheet = `sheet: s
rows:
  list:
    ROWS
steps:
  - step: search
    call: stores/search
    fill:
      grade: ${value}
    fields:
      total: RULE
  - step: LAST
    request: stores GET /lots/L-2201
`
	for _, with := range [][]string{
		{"- A\n    - B", "at least 1", "one"},
		{"- A\n    - B", "at least 2", "one"},
		{"- A", "at least 100", "two"},
		{"- A\n    - B", "at least 1", "one"},
	} {
		p.sheet(strings.NewReplacer("ROWS", with[0], "RULE", with[1], "LAST", with[2]).Replace(sheet))
	}
	p.sheet("sheet: other\nsteps:\n  - step: search\n    call: stores/search\n")
	p.cases([]commandCase{
		{"compare 1 2", 0, []string{"no difference"}},
		{"compare 1 3", 1, []string{
			"newly failing field total: expected at least 100, got", "search, A, sheets/test.yaml",
			"was not run one, A, sheets/test.yaml the whole row was not run B", "new is new two, A",
			"4 differences", "now: 1 sheet, 1 row, 2 steps, 4 checks, 3 exchanges",
		}},
		{"compare 3 4", 1, []string{"the whole row is new B", "passes now search, A", "5 differences"}},
		{"compare 4 1 -values -ignore lots", 0, []string{"no difference"}},
		{"compare 1 2.1", 2, []string{"1 is one of two runs, and 2.1 of two answers"}},
		{"compare 1 99", 2, []string{"there is no run 99 in the history"}},
	})
	var told struct {
		Changes []compare.Change
	}
	require.NoError(t, json.Unmarshal([]byte(p.run("compare", "1", "3", "-json").stdout), &told))
	assert.Equal(t, compare.FailsNow, told.Changes[0].Kind)
	assert.Equal(t, "search", told.Changes[0].Places[0].Step)
}

// A call is repeated until something is so, or for as often as is asked; what changed is
// said.
func TestWatch(t *testing.T) {
	t.Parallel()
	p := newEcho(t, stages(t, nil))
	p.cases([]commandCase{
		{
			"watch GET ${base}/queued,running,done -pick state -every 10ms -until state:~done", 0,
			[]string{`200`, `state "queued"`, `state "running" changed: state`, `state "done" changed: state`},
		},
		{"watch GET ${base}/a,404,b -every 10ms -times 3 -plain", 0, []string{"404", "changed: status"}},
		{"watch GET ${base}/a -every 10ms -times 2 -until stat:~done", 1, []string{
			`note: -until: answer has no stat: it is an object with state, at; did you mean "state"?`,
			"stat: done did not become true",
		}},
		{"call GET http://127.0.0.1:9/ -allow 127.0.0.1 -into sheets/none.yaml", 3, []string{
			"nothing is written into sheets/none.yaml: the call could not be made",
		}},
		{"vet sheets/none.yaml", 2, []string{`there is no sheet "sheets/none.yaml"`}},
		{"watch GET ${base}/a,404 -every 10ms -times 2 -pick none", 1, []string{"none -", "note: answer has no none"}},
		{"watch GET ${base}/a -every 10ms -times 2 -until state:~b", 1, []string{"state: b did not become true"}},
		{"watch GET ${base}/z -every 20ms -for 50ms", 0, []string{"200"}},
		{"watch GET http://127.0.0.1:9/ -allow 127.0.0.1 -every 10ms -times 1", 3, []string{" - ", "refused"}},
		{"watch GET ${base}/a -every 1ms", 2, []string{"there must be a pause"}},
		{"watch GET ${base}/a -until state", 2, []string{"a path, a colon, a space and a rule"}},
		{"watch GET ${base}/a -until state:~is~nmber", 2, []string{"-until state: is nmber"}},
		{"watch GET ${base}/a -times -1", 2, []string{"less than nothing"}},
		{"watch", 2, []string{"watch what?"}},
	})
	o := p.run("watch", "GET", "${base}/low,high,high,low", "-pick", "state", "-pick", "at", "-every", "10ms", "-times", "4",
		"-alarm", "state: high", "-out", "series/w.csv", "-out", "series/w.svg")
	assert.Equal(t, 1, o.status, o.all())
	assert.Regexp(t, `(?s)state "low".*state "high".*alarm: state: high.*state "high".*state "low".*alarm over: state: high`,
		o.stdout)
	table := p.read("series/w.csv")
	assert.Regexp(t, `(?s)^call,at,status,milliseconds,outcome,state,at,alarm\r\n1,2.*,200,[0-9.]+,passed,low,.*,false\r\n2,.*,high,.*,true`,
		table)
	assert.Equal(t, 5, strings.Count(table, "\r\n"))
	assert.Contains(t, p.read("series/w.svg"), `xmlns="http://www.w3.org/2000/svg"`)
	p.cases([]commandCase{
		{"watch GET ${base}/a -alarm state", 2, []string{"-alarm takes a path, a colon, a space and a rule"}},
		{"watch GET ${base}/a -out w.pdf", 2, []string{"-out: w.pdf: the ending says the format, and there are .csv, .svg"}},
		{"watch GET ${base}/a -every 10ms -times 2 -alarm state:~b", 0, nil},
	})
	o = p.run("watch", "GET", "${base}/x,y", "-pick", "state", "-every", "10ms", "-times", "2", "-json")
	var last struct {
		Call    int
		Values  map[string]string
		Changed []string
	}
	lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
	require.Len(t, lines, 2)
	require.NoError(t, json.Unmarshal([]byte(lines[1]), &last))
	assert.Equal(t, []string{"state"}, last.Changed)
}

// serving is a server that has one answer.
func serving(t *testing.T, mediaType, body string) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", mediaType)
		_, _ = fmt.Fprint(w, body)
	}))
	t.Cleanup(server.Close)
	return server
}

// Rules come of files and calls, can be pasted or put into a step, where they hold, and
// what stood there stays.
func TestProposeCommand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	for grade, file := range map[string]string{"A": "a.json", "B": "b.json"} {
		require.Equal(t, 0, p.run("call", "stores/search", "grade="+grade, "-save", file).status)
	}
	const sheet = `sheet: derived
steps:
  - step: of calls # by propose
    call: stores/search
    fill:
      grade: A
    fields:
      total: at least 1 # stays
` +
		`
  # the lab
  - step: of the lab
    call: lab/GradeLot
    fill: {lot: L-2201, moisture: 17.4, hmf: 12.5, diastase: 9}
  - step: none in store
    call: stores/search
    fill:
      grade: B
`
	p.write("sheets/derived.yaml", sheet)
	p.cases([]commandCase{
		{
			"propose a.json b.json", 0,
			[]string{
				"fields: depot: equals \"north\" # lots: it was empty in 1 of 2 answers; what is below it holds where it has elements",
				"lots: - is list - count between 0 and 7 lots[*].id: - if any is text - if any is unique",
			},
		},
		{"propose 1.1 last", 0, []string{"depot: equals \"north\""}},
		{"propose a.json", 0, []string{"depot: is text", "note: what stays the same shows only in several answers"}},
		{"propose stores/search grade=A -times 2", 0, []string{"total: equals 9", "lots[*].harvested: is date"}},
		{
			"propose lab/GradeLot lot=L-2201 moisture=17.4 hmf=12.5 diastase=9 -times 2", 0,
			[]string{"gradedAt: is datetime", "measures.measure[*]: - is number"},
		},
		{"propose stores/lot id=L-9999 -times 2", 1, []string{"call 1 is not a good answer to learn from", "404"}},
		{"propose stores/search grade=A -times 1", 2, []string{"at least twice"}},
		{"propose a.json -into sheets/derived.yaml", 2, []string{"-into and -step go together"}},
		{
			"propose a.json -into sheets/derived.yaml -step nosuch", 2,
			[]string{"has no step \"nosuch\"", "of calls, of the lab"},
		},
		{"propose a.json -into sheets/none.yaml -step x", 2, []string{"there is no sheet sheets/none.yaml"}},
		{"propose none.json", 2, []string{"there is no file none.json"}},
		{"propose", 2, []string{"rules from which answers?"}},
		{
			"propose stores/search grade=A -times 2 -into sheets/derived.yaml -step of~calls", 0,
			[]string{"1 field had rules and kept them"},
		},
		{"propose lab/GradeLot lot=L-2201 moisture=17.4 hmf=12.5 diastase=9 -times 2 -into sheets/derived.yaml -step of~the~lab", 0, []string{"put into step \"of the lab\""}},
		{
			"propose a.json b.json -into sheets/derived.yaml -step none~in~store", 0,
			[]string{"put into step \"none in store\""},
		},
	})
	o := p.run("run", "sheets/derived.yaml")
	assert.Equal(t, 0, o.status, o.all())
	after := p.read("sheets/derived.yaml")
	for line := range strings.Lines(sheet) {
		assert.Contains(t, after, line)
	}
	assert.Less(t, strings.Index(after, "total: at least 1 # stays\n      depot: equals \"north\""),
		strings.Index(after, "# the lab"))
	var proposals []struct {
		Path  string
		Rules []string
	}
	require.NoError(t, json.Unmarshal([]byte(p.run("propose", "a.json", "b.json", "-json").stdout), &proposals))
	assert.Equal(t, []string{`equals "north"`}, proposals[0].Rules)
}

// Version 1 and 2 of one thing, each below a root of its own: what is at another place is told as that, with both
// sides on a page.
func TestCompareSides(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("v1.json", `{"data": {"lot": {"id": "L-2201", "keeper": "Ansel Thripp", "kilos": 40.5, "state": "open", "key": "x7"}}}`)
	p.write("v2.json", `{"lot": {"id": "L-2201", "first": "Ansel", "last": "Thripp", "weight": {"kilos": 40.5}, "status": "open"}}`)
	p.cases([]commandCase{
		{"compare v1.json v2.json -root 1=data.lot -root 2=lot -out sides.html", 1, []string{
			"4 differences: 1 renamed, 1 split, 1 wrapped, 1 removed", "first, last", "written: sides.html",
		}},
		{"compare v1.json v2.json -root data.lot", 2, []string{"-root data.lot: in v2.json there is no such place"}},
		{"compare v1.json v2.json -root 1=data.lot -root lot", 2, []string{"that side has a root already"}},
		{"compare v1.json v2.json -out sides.md", 2, []string{"the page is .html"}},
		{"compare v1.json v1.json -out same.html", 0, []string{"no difference"}},
		{"compare v1.json v2.json -full -json", 2, []string{"-full has no effect"}},
		{"compare lab/ConvertIndex refractiveIndex=1.4940 -soap 1.2 -site local -site local", 0, []string{"no difference"}},
		{"compare lab/ConvertIndex refractiveIndex=1.4940 -soap 1.9 -site local -site south", 2, []string{"is not a version of SOAP"}},
		{"compare v1.json v2.json -soap 1.2", 2, []string{"-soap has no effect in compare of answers"}},
	})
	assert.Contains(t, p.read("sides.html"), "Ansel Thripp")
	o := p.run("compare", "v1.json", "v2.json", "-root", "1=data.lot", "-root", "2=lot", "-ignore", "key", "-json")
	assert.Contains(t, o.stdout, `"into": "first, last"`)
}
