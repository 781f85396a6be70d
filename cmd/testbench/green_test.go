package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// moor is a service that no demo knows: its paths say how it answers. It writes down what
// it is asked.
func moor(t *testing.T, answer func(w http.ResponseWriter, r *http.Request, body string)) (*httptest.Server, *lines) {
	t.Helper()
	var seen lines
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		seen.add(r.Method + " " + r.RequestURI + " " + string(body))
		if answer != nil {
			answer(w, r, string(body))
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"n": 3}`)
	}))
	t.Cleanup(server.Close)
	return server, &seen
}

func moorBench(t *testing.T, server *httptest.Server, more string) *place {
	t.Helper()
	p := newPlace(t)
	p.write("bench.yaml", "bench: moor\nsites:\n  local:\n    set:\n      base: "+server.URL+
		"\n  other:\n    like: local\n    set:\n      kind: b\n"+more)
	return p
}

// A contract that could not be fetched is fetched again, by each row that wants it, and each
// try is an exchange of its own.
func TestContractIsFetchedAgain(t *testing.T) {
	t.Parallel()
	var fetched atomic.Int32
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.URL.Path == "/api.json" && fetched.Add(1) < 3:
			w.WriteHeader(http.StatusServiceUnavailable)
		case r.URL.Path == "/api.json":
			_, _ = fmt.Fprintf(w, `{"openapi": "3.0.3", "info": {"title": "moor", "version": "1"}, "paths": {"/lots": {"get": {"operationId": "lots", "responses": {"200": {"description": "ok"}}}}}}`)
		default:
			_, _ = io.WriteString(w, `{}`)
		}
	})
	p := moorBench(t, server, "services:\n  moor:\n    contract: ${base}/api.json\n    address: ${base}\n")
	p.write("sheets/test.yaml",
		`sheet: s
rows:
  numbers: 1 to 4
steps:
  - step: get
    call: moor/lots
    again:
      times: 4
      pause: 1 ms
`)
	o := p.run("run", "sheets/test.yaml", "-jobs", "2", "-out", "r.json")
	assert.Equal(t, 0, o.status, o.all())
	asked := map[string]int{}
	for _, line := range seen.take() {
		asked[strings.Fields(line)[1]]++
	}
	assert.Equal(t, map[string]int{"/api.json": 3, "/lots": 4}, asked)
	var report struct {
		Counts struct{ Exchanges int }
	}
	require.NoError(t, json.Unmarshal([]byte(p.read("r.json")), &report))
	assert.Equal(t, 4+2, report.Counts.Exchanges, "the two that failed are recorded once each")
}

// The time of a sheet is its own, however long others take before it is shown; -for runs
// each sheet for its time.
func TestTimesOfSeveralSheets(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if strings.HasPrefix(r.URL.Path, "/slow") {
			time.Sleep(150 * time.Millisecond) // it is the service that takes so long
		} else {
			time.Sleep(10 * time.Millisecond)
		}
		w.WriteHeader(http.StatusNoContent)
	})
	p := moorBench(t, server, "")
	p.write("sheets/a.yaml", "sheet: a\nsteps:\n  - step: get\n    request: GET ${base}/slow\n")
	p.write("sheets/b.yaml",
		`sheet: b
rows:
  numbers: 1 to 3
expect:
  per second: under 301
steps:
  - step: get
    request: GET ${base}/quick
`)
	o := p.run("run", "sheets/a.yaml", "sheets/b.yaml", "-jobs", "2")
	assert.Equal(t, 0, o.status, o.all())
	o = p.run("run", "sheets/a.yaml", "sheets/b.yaml", "-for", "60ms", "-out", "r.json")
	assert.Equal(t, 0, o.status, o.all())
	var report struct {
		Sheets []struct {
			Sheet  string
			Counts struct{ Rows int }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.read("r.json")), &report))
	require.Len(t, report.Sheets, 2)
	assert.Positive(t, report.Sheets[1].Counts.Rows)
}

// A run that was interrupted is gone on with, and its limits are judged over all of it.
func TestLimitsOverAResumedRun(t *testing.T) {
	t.Parallel()
	asked := make(chan struct{}, 100)
	var fast atomic.Bool
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if !fast.Load() {
			asked <- struct{}{}
			time.Sleep(60 * time.Millisecond)
		}
		w.WriteHeader(http.StatusNoContent)
	})
	p := moorBench(t, server, "")
	p.write("sheets/test.yaml",
		`sheet: s
rows:
  numbers: 1 to 6
expect:
  max: under 50 ms
steps:
  - step: get
    request: GET ${base}/x
`)
	c := p.start("run", "sheets/test.yaml", "-out", "first.xml")
	for range 3 {
		<-asked
	}
	interrupt(t, c.Process)
	assert.Error(t, c.Wait())
	assert.Contains(t, p.read("first.xml"), "the run was interrupted")
	assert.Contains(t, p.read("first.xml"), `errors="`)
	fast.Store(true)
	o := p.run("run", "-resume", "1")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, o.stdout, "get max  expected under 50 ms")
	assert.Contains(t, p.run("report", "1").stdout, "get max")
}

// Shares belong together by their name and by all that decides; what is missing or was cut
// off is an error in every report.
func TestSharesThatDoNotBelongTogether(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, nil)
	p := moorBench(t, server, "")
	text := `sheet: s
rows:
  numbers: 1 to 40
expect:
  max: under 0 ms
steps:
  - step: get
    request: GET ${base}/x
  - step: inner
    sheet: sheets/inner.yaml
`
	p.write("sheets/inner.yaml", "sheet: inner\nsteps:\n  - step: nothing\n    pause: 0.1 ms\n")
	p.write("sheets/test.yaml", text)
	share := func(i int, out string, more ...string) {
		t.Helper()
		o := p.run(append([]string{"run", "sheets/test.yaml", "-share", fmt.Sprintf("%d/2", i), "-out", out},
			more...)...)
		require.Equal(t, 0, o.status, o.all())
	}
	share(1, "s1.json", "-of", "tonight")
	share(2, "s2.json", "-of", "tonight")
	share(2, "last.json", "-of", "last night")
	share(2, "site.json", "-of", "tonight", "-site", "other")
	share(2, "rows.json", "-of", "tonight", "-rows", "1-20")
	share(2, "repeat.json", "-of", "tonight", "-repeat", "2")
	p.write("sheets/inner.yaml", "sheet: inner\nsteps:\n  - step: nothing\n    pause: 0.2 ms\n")
	share(2, "inner.json", "-of", "tonight")
	p.write("sheets/inner.yaml", "sheet: inner\nsteps:\n  - step: nothing\n    pause: 0.1 ms\n")
	p.write("bench.yaml", p.read("bench.yaml")+"# another\n")
	share(2, "bench.json", "-of", "tonight")
	for file, why := range map[string]string{
		"last.json": `they belong to "tonight" and "last night"`, "site.json": "the site is",
		"rows.json": "other steps or rows were chosen", "repeat.json": "repeated in another way",
		"inner.json": "sheets/inner.yaml was not the same", "bench.json": "bench.yaml was not the same",
	} {
		o := p.run("report", "-merge", "s1.json", file)
		assert.Equal(t, 2, o.status, o.all())
		assert.Contains(t, o.stderr, why)
	}
	o := p.run("report", "-merge", "s1.json", "s2.json")
	assert.Equal(t, 1, o.status, "the limit is judged over both")
	assert.Contains(t, o.stdout, "get max")
	for _, ending := range []string{"xml", "md", "csv", "json", "ndjson", "html"} {
		o = p.run("report", "-merge", "s1.json", "-out", "whole."+ending)
		assert.Equal(t, 130, o.status, o.all())
		assert.Contains(t, p.read("whole."+ending), "of 2 shares these are missing: 2/2", ending)
	}
	assert.Contains(t, p.read("whole.xml"), `errors="1"`)
	assert.Equal(t, 2, p.run("run", "sheets/test.yaml", "-share", "1/2").status, "a share names its run")
}

// What is told of a report that cannot be written comes before anything is sent.
func TestReportsThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, nil)
	p := moorBench(t, server, "")
	p.write("sheets/test.yaml", "sheet: s\nsteps:\n  - step: get\n    request: GET ${base}/x\n")
	files := []string{"bench.yaml/r.json", "folder.json"}
	if runtime.GOOS == "linux" {
		files = append(files, "/proc/r.json")
	}
	for _, file := range files {
		require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "folder.json"), 0o755))
		o := p.run("run", "sheets/test.yaml", "-out", file)
		assert.Equal(t, 2, o.status, o.all())
	}
	assert.Empty(t, seen.take())
}

// Values are what they are told to be, wherever they come from, and empty ones go where they
// are expected.
func TestKindsAndEmptyValues(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, nil)
	p := moorBench(t, server,
		`services:
  moor:
    address: ${base}
    operations:
      put:
        request: POST /lots
        query:
          nt:
            default: ""
          of:
            default: ${site.kind}
`+
			`        body:
          name:
            kind: text
          size:
            kind: integer
          good:
            kind: boolean
            default: true
          code:
            kind: text
            fixed: ""
`)
	p.write("data/rows.csv", "name,size\n3,4\n00123,\n")
	p.write("sheets/test.yaml",
		`sheet: s
site: other
rows: data/rows.csv
steps:
  - step: put
    call: moor/put
    drop empty: true
    fill:
      name: ${row.name}
      size: ${row.size}
`)
	require.Equal(t, 0, p.run("call", "moor/put", "name=3", "size=5", "-site", "other").status)
	assert.Equal(t, []string{`POST /lots?nt=&of=b {"name":"3","size":5,"good":true,"code":""}`}, seen.take())
	o := p.run("run", "sheets/test.yaml")
	require.Equal(t, 0, o.status, o.all())
	sent := seen.take()
	require.Len(t, sent, 2)
	assert.Contains(t, sent[0], `"name":"3","size":4,"good":true`)
	assert.Contains(t, sent[1], `"name":"00123","good":true`)
	o = p.run("add", "shown", server.URL+"/weights?nt=&day=2", "-example")
	require.Equal(t, 0, o.status, o.all())
	require.Equal(t, 0, p.run("call", "shown/weights").status)
	assert.Contains(t, strings.Join(seen.take(), "\n"), "nt=&day=2")
}

// Two changes of one record in a row, and one of a record that a list told, send the version
// that there is.
func TestVersionsOfRecords(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("sheets/test.yaml", `sheet: versions
steps:
  - step: order
    call: ledger/PurchaseOrders.create
    fill:
      supplierNumber: S-101
      orderedOn: 2026-11-20
      currency: EUR
      lines:
        - article: HON-1
          quantity: 4
          price: 2.50
    keep:
      number: number
  - step: change
    call: ledger/PurchaseOrders.change
    fill:
      number: ${number}
      note: a
  - step: change again
    call: ledger/PurchaseOrders.change
    fill:
      number: ${number}
      note: b
  - step: list
    call: ledger/PurchaseOrders.list
    fill:
      filter: number eq '${number}'
  - step: after the list
    call: ledger/PurchaseOrders.change
    fill:
      number: ${number}
      note: c
  - step: without
    call: ledger/PurchaseOrders.change
    headers:
      If-Match: null
    fill:
      number: ${number}
      note: d
    expect:
      status: 428
`)
	o := p.run("run", "sheets/test.yaml", "-show", "sent")
	assert.Equal(t, 0, o.status, o.all())
}

// What could lock an account is not tried again, unless it is named; a condition on the
// answer says when to.
func TestAgainWhereItCanBecomeRight(t *testing.T) {
	t.Parallel()
	var count atomic.Int32
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		switch r.URL.Path {
		case "/busy":
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"busy": %t}`, count.Add(1) < 3)
		default:
			w.WriteHeader(map[string]int{"/401": 401, "/404": 404}[r.URL.Path])
		}
	})
	p := moorBench(t, server, "")
	for text, tries := range map[string]int{
		"request: GET ${base}/401\n    again:\n      times: 3\n      pause: 1 ms\n      on: failed":                 1,
		"request: GET ${base}/401\n    again:\n      times: 3\n      pause: 1 ms\n      on: 401":                    3,
		"request: GET ${base}/404\n    again:\n      times: 3\n      pause: 1 ms\n      on: failed":                 3,
		"request: GET ${base}/busy\n    again:\n      times: 5\n      pause: 1 ms\n      when: answer.busy == true": 3,
	} {
		p.write("sheets/test.yaml", "sheet: s\nsteps:\n  - step: get\n    "+text+"\n")
		p.run("run", "sheets/test.yaml")
		assert.Len(t, seen.take(), tries, text)
	}
}

// A dry call that fetches its contract can be interrupted.
func TestDryCallCanBeInterrupted(t *testing.T) {
	t.Parallel()
	fetching := make(chan struct{})
	var once sync.Once
	server, _ := moor(t, func(_ http.ResponseWriter, r *http.Request, _ string) {
		once.Do(func() { close(fetching) })
		<-r.Context().Done()
	})
	p := moorBench(t, server, "services:\n  moor: ${base}/api.json\n")
	c := p.start("call", "moor/lots", "-dry")
	<-fetching
	begun := time.Now()
	interrupt(t, c.Process)
	assert.Error(t, c.Wait())
	assert.Equal(t, 130, c.ProcessState.ExitCode())
	assert.Less(t, time.Since(begun), 10*time.Second)
}

// Runs are compared by what was recorded of each step of each sheet, and what was not is told.
func TestCompareOfLongRuns(t *testing.T) {
	slow(t)
	t.Parallel()
	var more atomic.Bool
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		if more.Load() && strings.HasPrefix(r.URL.Path, "/later") {
			_, _ = io.WriteString(w, `{"n": 1, "depth": 2}`)
			return
		}
		_, _ = io.WriteString(w, `{"n": 1}`)
	})
	p := moorBench(t, server, "")
	p.write("sheets/a.yaml",
		"sheet: a\nrows:\n  numbers: 1 to 1100\nsteps:\n  - step: get\n    request: GET ${base}/first\n")
	p.write("sheets/b.yaml",
		"sheet: b\nrows:\n  numbers: 1 to 30\nsteps:\n  - step: get\n    request: GET ${base}/later\n")
	require.Equal(t, 0, p.run("run", "sheets/a.yaml", "sheets/b.yaml").status)
	more.Store(true)
	require.Equal(t, 0, p.run("run", "sheets/a.yaml", "sheets/b.yaml").status)
	o := p.run("compare", "1", "2")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, o.stdout, "added depth: 2 (20 times)")
	assert.Contains(t, o.stderr, "note: what was in 90 answers was not recorded in full, and could not be compared")
	o = p.run("compare", "1", "2", "-ignore", "deptth")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stderr, `-ignore deptth matches nothing; did you mean "depth"?`)
}

// A green of vet is a green of what it looked at.
func TestVetTellsWhatItDidNotLookAt(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, nil)
	p := moorBench(t, server,
		"services:\n  moor: ${base}/api.json\ndatabases:\n  books:\n    kind: sqlite\n    address: books.db\n")
	o := p.run("vet")
	assert.Contains(t, o.stderr, "not looked at: sheets: there are none")
	p.write("sheets/test.yaml",
		`sheet: s
rows:
  sql: select 1 as a
  database: books
steps:
  - step: one
    call: moor/lots
    fill:
      x: ${row.a}
`)
	o = p.run("vet")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "no mistakes in what was looked at")
	assert.Contains(t, o.stderr, "not looked at: the operations of moor and their fields")
	assert.Contains(t, o.stderr, "not looked at: the columns of the rows of s")
	p.write("sheets/test.yaml", "sheet: s\nsteps: []\n")
	o = p.run("vet")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stdout, "the sheet has no steps")
}

// The demo keeps what its owner changed.
func TestDemoKeepsWhatWasChanged(t *testing.T) {
	slow(t)
	t.Parallel()
	p := newPlace(t)
	require.Equal(t, 0, p.run("demo", "-dir", "honey").status)
	p.write("honey/sheets/01-search.yaml", "sheet: mine\nsteps:\n  - step: nothing\n    pause: 1 ms\n")
	o := p.run("demo", "-dir", "honey")
	assert.Contains(t, o.stderr, "sheets/01-search.yaml was changed here, and stays as it is")
	assert.Contains(t, p.read("honey/sheets/01-search.yaml"), "sheet: mine")
}

// take gives the lines and begins anew.
func (l *lines) take() []string {
	taken := l.read()
	l.reset()
	return taken
}

// start begins a run of the program.
func (p *place) start(args ...string) *exec.Cmd {
	p.t.Helper()
	c := p.command(args...)
	require.NoError(p.t, c.Start())
	return c
}
