package main_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// echoing answers with what is in the path, after whatever before does.
func echoing(t *testing.T, before func(n string)) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(pathEcho(before))
	t.Cleanup(server.Close)
	return server
}

// pathEcho answers with the path that is asked for, as n, after telling it.
func pathEcho(before func(n string)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		n := strings.TrimPrefix(r.URL.Path, "/")
		before(n)
		w.Header().Set("Content-Type", "application/json")
		if _, err := strconv.Atoi(n); err != nil {
			n = strconv.Quote(n)
		}
		_, _ = fmt.Fprintf(w, `{"n": %s}`, n)
	}
}

// tally counts how often each path was asked for.
type tally struct {
	mutex sync.Mutex
	asked map[string]int
}

func (a *tally) add(n string) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if a.asked == nil {
		a.asked = map[string]int{}
	}
	a.asked[n]++
}

func (a *tally) of(n string) int {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	return a.asked[n]
}

func (a *tally) total() int {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	total := 0
	for _, times := range a.asked {
		total += times
	}
	return total
}

func (a *tally) reset() {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	clear(a.asked)
}

// lines are written by a server and read by the test.
type lines struct {
	mutex sync.Mutex
	all   []string
}

func (l *lines) add(line string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.all = append(l.all, line)
}

func (l *lines) reset() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.all = nil
}

func (l *lines) read() []string {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return slices.Clone(l.all)
}

// counting is a server that echoes and counts.
func counting(t *testing.T) (*httptest.Server, *tally) {
	t.Helper()
	asked := &tally{}
	return echoing(t, asked.add), asked
}

// newEcho is a bench for a server that echoes.
func newEcho(t *testing.T, server *httptest.Server) *place {
	t.Helper()
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	return p
}

const echoSheet = `sheet: echo
rows: {numbers: 1 to ROWS, as: n}
steps:
  - step: get
    request: GET ${base}/${n}
    fields: {n: 'equals ${n}'}
    keep: {mine: n}
  - step: again
    request: GET ${base}/again-${mine}
    fields: {n: 'equals again-${n}'}
`

// Rows are at work side by side, each with its own names, and are told in their order.
func TestSideBySide(t *testing.T) {
	t.Parallel()
	var waiting atomic.Int32
	all := make(chan struct{})
	server := echoing(t, func(n string) {
		if strings.HasPrefix(n, "again") || waiting.Load() >= 4 {
			return
		}
		if waiting.Add(1) == 4 {
			close(all)
		}
		select {
		case <-all: // four of them are here at once
		case <-time.After(10 * time.Second):
		}
	})
	p := newEcho(t, server)
	o := p.sheet(strings.ReplaceAll(echoSheet, "ROWS", "12"), "-jobs", "4")
	assert.Equal(t, 0, o.status, o.all())
	assert.EqualValues(t, 4, waiting.Load())
	at := 0
	for n := 1; n <= 12; n++ {
		next := strings.Index(o.stdout[at:], fmt.Sprintf("row %d of 12 (n %d)", n, n))
		require.GreaterOrEqual(t, next, 0, o.stdout)
		at += next
	}
	assert.Contains(t, o.stdout, "12 rows · 12 passed · 24 exchanges")
	// Sheets too, and what they tell does not mix.
	for i := range 3 {
		p.write(fmt.Sprintf("s%d.yaml", i),
			strings.Replace(strings.ReplaceAll(echoSheet, "ROWS", "30"), "sheet: echo", fmt.Sprintf("sheet: echo%d", i),
				1))
	}
	o = p.run("run", "s0.yaml", "s1.yaml", "s2.yaml", "-jobs", "5", "-detail", "rows")
	assert.Equal(t, 0, o.status, o.all())
	assert.Less(t, strings.LastIndex(o.stdout, "echo0 ·"), strings.Index(o.stdout, "echo1 ·"))
	assert.Less(t, strings.LastIndex(o.stdout, "echo1 ·"), strings.Index(o.stdout, "echo2 ·"))
	assert.Contains(t, o.stdout, "3 sheets · 90 rows · 90 passed · 180 exchanges")
}

type timesJSON struct {
	Step           string
	Count          int
	P50, P99, Max  float64
	PerSecondValue float64 `json:"per second"`
}

// timesOf runs a sheet and gives the times of its first step.
func timesOf(t *testing.T, o outcome) timesJSON {
	t.Helper()
	for _, line := range strings.Split(o.stdout, "\n") {
		var event struct {
			Event string
			Times []timesJSON
		}
		if json.Unmarshal([]byte(line), &event) == nil && event.Event == "sheet done" {
			require.NotEmpty(t, event.Times, o.stdout)
			return event.Times[0]
		}
	}
	t.Fatal(o.all())
	return timesJSON{}
}

// A rate says when rows are begun, whatever those before them do: what one slow answer
// delays counts as slow too. Times are summed up, and limits of them are checks.
func TestTimes(t *testing.T) {
	t.Parallel()
	var slow atomic.Bool
	server := echoing(t, func(n string) {
		if n == "1" && slow.CompareAndSwap(true, false) {
			time.Sleep(300 * time.Millisecond) // this is the slow answer that is measured
		}
	})
	p := newEcho(t, server)
	one := "sheet: times\nEXPECTrows: {numbers: 1 to 20, as: n}\nsteps:\n  - step: get\n    request: GET ${base}/${n}\n"
	plain := strings.Replace(one, "EXPECT", "", 1)
	slow.Store(true)
	closed := timesOf(t, p.sheet(plain, "-json"))
	slow.Store(true)
	open := timesOf(t, p.sheet(plain, "-json", "-rate", "100/s"))
	assert.Equal(t, 20, closed.Count)
	assert.GreaterOrEqual(t, closed.Max, 300.0)
	assert.Less(t, closed.P50, 100.0, "one of twenty was slow")
	assert.Greater(t, open.P50, 100.0, "most were due while the first was slow")
	o := p.sheet(plain, "-rate", "50/s", "-detail", "failures")
	assert.GreaterOrEqual(t, o.took, 19*20*time.Millisecond)
	assert.Contains(t, o.stdout, "steps    per s       p50")
	for _, c := range []struct {
		expect string
		args   []string
		status int
		says   string
	}{
		{"  p95: under 20 s\n  per second: over 0\n", nil, 0, "get per second expected over 0"},
		{"  max: under 0.000001 ms\n", nil, 1, "get max expected under 0.000001 ms, got"},
		{
			"  steps:\n    get:\n      p50: under 0.000001 ms\n",
			[]string{"-out", "r.xml", "-out", "r.html"},
			1,
			"1 limit of times failed",
		},
		{"", []string{"-repeat", "3"}, 0, "60 rows · 60 passed"},
		{"", []string{"-for", "300ms"}, 0, "get"},
		{"", []string{"-rows", "2-3", "-repeat", "2", "-detail", "steps"}, 0, "row 3 of 20 (n 3), turn 2"},
	} {
		expect := ""
		if c.expect != "" {
			expect = "expect:\n" + c.expect
		}
		o := p.sheet(strings.Replace(one, "EXPECT", expect, 1), c.args...)
		assert.Equal(t, c.status, o.status, "%s %v: %s", c.expect, c.args, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "), c.says, "%s %v", c.expect, c.args)
	}
	assert.Contains(t, p.read("r.xml"), `<testcase name="times: get p50"`)
	assert.Contains(t, p.read("r.html"), "limit of times")
}

// runJSON is a report as it is read back.
type runJSON struct {
	Outcome string
	Ended   bool
	Notes   []string
	Counts  struct{ Rows, RowsPassed, RowsFailed, Exchanges int }
	Sheets  []struct {
		Times []timesJSON
		Rows  []struct {
			Row, Iteration int
			Phase          string
			Outcome        string
			Steps          []struct {
				Step, Outcome, Reason string
				Sent                  int
				Exchanges             []struct {
					Failure string
					Notes   []string
				}
			}
		}
	}
}

func (p *place) report(name string) runJSON {
	p.t.Helper()
	var run runJSON
	require.NoError(p.t, json.Unmarshal([]byte(p.read(name)), &run))
	return run
}

// Each machine takes its share of the rows without asking the others, and together they
// are all of them, each once.
func TestShares(t *testing.T) {
	t.Parallel()
	server, seen := counting(t)
	p := newEcho(t, server)
	p.write("sheets/test.yaml",
		`sheet: shares
rows: {numbers: 1 to 60, as: n}
first:
  - step: first
    request: GET ${base}/first
steps:
  - step: get
    request: GET ${base}/${n}
    fields: {n: not equals 7}
`)
	for i := 1; i <= 3; i++ {
		o := p.run("run", "sheets/test.yaml", "-share", fmt.Sprintf("%d/3", i), "-of", "night", "-out",
			fmt.Sprintf("s%d.json", i))
		assert.LessOrEqual(t, o.status, 1, o.all())
		assert.Greater(t, p.report(fmt.Sprintf("s%d.json", i)).Counts.Rows, 5)
	}
	for n := 1; n <= 60; n++ {
		assert.Equal(t, 1, seen.of(fmt.Sprint(n)), n)
	}
	o := p.run("report", "-merge", "s3.json", "s1.json", "s2.json", "-out", "all.json", "-out", "all.html", "-out",
		"all.xml")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, o.stdout, "60 rows · 59 passed · 1 failed · 63 exchanges")
	assert.Contains(t, o.stdout, "shares, row 7 · 7")
	all := p.report("all.json")
	require.Len(t, all.Sheets[0].Rows, 63)
	for i, row := range all.Sheets[0].Rows[3:] {
		assert.Equal(t, i+1, row.Row)
	}
	assert.Equal(t, 60, all.Sheets[0].Times[1].Count)
	p.cases([]commandCase{
		{"report -merge s1.json s3.json", 130, []string{"of 3 shares these are missing: 2/3"}},
		{"report -merge s1.json s1.json s2.json", 2, []string{"share 1 is there twice"}},
		{"report -merge s1.json all.json", 2, []string{"is not a share of one"}},
		{"report -merge bench.yaml", 2, []string{"bench.yaml: "}},
		{"report -merge", 2, []string{"merge which shares?"}},
	})
	p.write("sheets/test.yaml", strings.Replace(p.read("sheets/test.yaml"), "not equals 7", "not equals 8", 1))
	assert.LessOrEqual(t, p.run("run", "sheets/test.yaml", "-share", "2/3", "-of", "night", "-out",
		"other.json").status, 1)
	o = p.run("report", "-merge", "s1.json", "other.json", "s3.json")
	assert.Contains(t, o.all(), "sheets/test.yaml was not the same")
	// More machines than rows: those with nothing to do hold.
	p.write("sheets/test.yaml", "sheet: one\nsteps:\n  - step: get\n    request: GET ${base}/1\n")
	statuses := []int{
		p.run("run", "sheets/test.yaml", "-share", "1/2", "-of", "x").status,
		p.run("run", "sheets/test.yaml", "-share", "2/2", "-of", "x").status,
	}
	assert.Equal(t, []int{0, 0}, statuses)
}

// What is wrong on the command line of a run is told before anything is sent.
func TestRunIsAskedWrongly(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(n string) { t.Error("nothing is to be sent: " + n) }))
	p.write("s.yaml", strings.ReplaceAll(echoSheet, "ROWS", "2"))
	p.cases([]commandCase{
		{"run s.yaml -jobs 0", 2, []string{"-jobs takes a number from 1 to 1000"}},
		{"run s.yaml -repeat 0", 2, []string{"-repeat takes a number from 1"}},
		{"run s.yaml -rate fast", 2, []string{`"fast" is not a rate`}},
		{"run s.yaml -rate 0/s", 2, []string{"is not a rate"}},
		{"run s.yaml -rate 5/day", 2, []string{"is not a rate"}},
		{"run s.yaml -share 3", 2, []string{`"3" is not a share`}},
		{"run s.yaml -share 3/2", 2, []string{"there is no share 3/2"}},
		{"run s.yaml -for -1s", 2, []string{"less than nothing"}},
		{"run s.yaml -for 1s -repeat 2", 2, []string{"both say how often"}},
		{"run s.yaml -detail stpes", 2, []string{`did you mean "steps"?`}},
		{"run s.yaml -resume 1", 2, []string{"-resume goes on with the sheets of the run"}},
		{"run s.yaml -callback nowhere", 2, []string{"-callback takes an address"}},
		{"run s.yaml -listen 8799", 2, []string{"-listen takes host:port"}},
		{"run s.yaml -from gett", 2, []string{`there is no step "gett"`}},
		{"run s.yaml -from again", 2, []string{"s.yaml was not run before"}},
		{"run -resume 7", 2, []string{"there is no run in the history"}},
		{"run -resume x", 2, []string{`"x" is not a run of the history`}},
		{"report last", 2, []string{"there is no run in the history"}},
		{"report", 2, []string{"report which run?"}},
		{"report 1 -out x.doc", 2, []string{"the ending says the format"}},
	})
}

// On a terminal a bar says how far a run is; a pipe sees nothing of it.
func TestProgress(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("s.yaml", `sheet: s
rows: {numbers: 1 to 40, as: n}
steps:
  - step: get
    request: GET ${base}/${n}
    fields: {n: not equals 7}
`)
	shown := p.onTerminal("", "", "testbench run s.yaml -rate 100/s -detail failures")
	assert.Contains(t, shown, "s · 1 failed")
	assert.Regexp(t, `\d+%.*\(\d+/40\)`, shown)
	assert.Contains(t, shown[strings.LastIndex(shown, "/40)"):], "\r", "the bar is gone at the end")
	o := p.run("run", "s.yaml", "-detail", "failures")
	assert.Empty(t, o.stderr)
	assert.NotContains(t, o.stdout, "%")
}
