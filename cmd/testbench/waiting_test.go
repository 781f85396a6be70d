package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stages is a server that goes on by one stage each time it is asked: /queued,done is
// queued at first, and done from then on; a number is a status.
func stages(t *testing.T, asked func(path string)) *httptest.Server {
	t.Helper()
	var mutex sync.Mutex
	counts := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		all := strings.Split(strings.TrimPrefix(r.URL.Path, "/"), ",")
		stage := all[min(counts[r.URL.String()], len(all)-1)]
		counts[r.URL.String()]++
		mutex.Unlock()
		if asked != nil {
			asked(r.URL.Path)
		}
		w.Header().Set("Content-Type", "application/json")
		if len(stage) == 3 && stage[0] >= '2' && stage[0] <= '5' {
			status, _ := strconv.Atoi(stage)
			w.Header().Set("Retry-After", map[string]string{"504": "86400"}[stage])
			w.WriteHeader(status)
			fmt.Fprint(w, `{"state": "no"}`)
			return
		}
		if stage == "cut" {
			panic(http.ErrAbortHandler)
		}
		fmt.Fprintf(w, `{"state": %q, "at": "here"}`, stage)
	}))
	t.Cleanup(server.Close)
	return server
}

// What is waited for comes, or is told not to; states come in their order; what goes
// wrong is tried again as far as the step says.
func TestWaiting(t *testing.T) {
	t.Parallel()
	server := stages(t, nil)
	const order = "\n    states: {of: state, allowed: [queued, running, [done, checked]], failed: [failed]}"
	const skips = "\n    states: {of: state, allowed: [queued, running, done], skips: true}"
	const until = "\n    until: {state: done}\n    every: 1 ms"
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	for i, c := range []struct {
		path, rest string
		status     int
		says       string
	}{
		{"queued,queued,running,done", until + order, 0, "polled 4 times in"},
		{
			"queued,running,done", until + order + "\n    fields: {at: here}\n    keep: {place: at}", 0,
			"4 checks passed",
		},
		{"done", until, 0, "2 checks passed"},
		{"queued,done", until + order, 1, `"done" came after "queued", and running must come between`},
		{"queued,done", until + skips, 0, "queued at first, done after"},
		{"running,done", until + order, 1, `it began with "running", and must begin with queued`},
		{"queued,running,queued", until + order, 1, `"queued" came after "running", and may only come before it`},
		{"queued,running,checked,done", until + order, 1, `"done" came after "checked", and only one of them may come`},
		{"queued,lost", until + order, 1, `"lost" is none of the states that are allowed`},
		{"queued,running,failed", until + order, 1, "expected not failed, got failed"},
		{
			"queued", "\n    until: {state: done}\n    every: 1 ms\n    within: 20 ms", 1,
			`until state expected done, got "queued" not so within 20 ms`,
		},
		{"queued,500", until, 1, "expect status expected 2xx, got 500"},
		{"queued,cut", until, 3, "unreachable"},
		{"queued,done", until + "\n    states: {of: stage, allowed: [queued]}", 1, `expected queued, missing`},
		{"503,429,x", "\n    again: {times: 3, pause: 1 ms}", 0, "tried 3 times: 503, 429, 200"},
		{"503", "\n    again: {times: 2, pause: 1 ms, grow: 1}", 1, "tried 2 times: 503, 503"},
		{"404,x", "\n    again: {times: 2, pause: 1 ms}", 1, "got 404"},
		{"404,x", "\n    again: {times: 2, pause: 1 ms, on: 4xx}", 0, "tried 2 times: 404, 200"},
		{"cut,x", "\n    again: {times: 2, pause: 1 ms, on: refused}", 0, "tried 2 times: no answer, 200"},
		{"cut,x", "\n    again: {times: 2, pause: 1 ms, on: [503]}", 3, "unreachable"},
		{"a,b", "\n    again: {times: 2, pause: 1 ms, on: failed}\n    fields: {state: b}", 0, "2 checks passed"},
		{"504,x", "\n    again: 5", 1, "tried once: 504; the service asks to be left alone for 24h0m0s"},
		{"queued,504", until + "\n    within: 20 ms\n    expect: {status: 200 or 504}", 1, "not so within 20 ms"},
		{"a", "\n    until: {state: a}\n    every: 0 s", 2, "between askings there must be a pause"},
		{"a", "\n    again: 0", 2, "times must be a whole number from 1"},
		{"a", "\n    again: {times: 2, on: never}", 2, `"never" says nothing that a step could be tried again on`},
		{"a", "\n    every: 1 s", 2, "waits, and does not say until when"},
		{"a", "\n    until: {state: a}\n    every: 5 s to 1 s", 2, "the pauses are to grow"},
		{"a", "\n    until: {state: a}\n    states: {of: state}", 2, "states needs of: and allowed:"},
	} {
		name := fmt.Sprintf("s%d.yaml", i)
		p.write(name, fmt.Sprintf("sheet: s\nsteps:\n  - step: it\n    request: GET ${base}/%s?n=%d%s\n", c.path, i,
			c.rest))
		o := p.run("run", name)
		assert.Equal(t, c.status, o.status, "%s %s: %s", c.path, c.rest, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, "%s %s", c.path, c.rest)
	}
}

// Ctrl-C ends waiting and pauses at once, and what comes at the end is still done.
func TestWaitingInterrupted(t *testing.T) {
	t.Parallel()
	for _, step := range []string{`request: GET ${base}/queued
    until: {state: done}
    every: 30 s
    within: 5 min`, "pause: 5 min"} {
		asked := make(chan string, 10)
		server := stages(t, func(path string) { asked <- path })
		p := newPlace(t)
		p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
		p.write("s.yaml", "sheet: s\nsteps:\n  - step: first\n    request: GET ${base}/first\n  - step: it\n    "+step+
			"\nfinally:\n  - step: end\n    request: GET ${base}/end\n")
		command := p.command("run", "s.yaml")
		var out strings.Builder
		command.Stdout, command.Stderr = &out, &out
		require.NoError(t, command.Start())
		<-asked
		if strings.Contains(step, "queued") {
			<-asked
		}
		interrupt(t, command.Process)
		err := command.Wait()
		assert.Equal(t, 130, command.ProcessState.ExitCode(), "%v %s", err, out.String())
		assert.Equal(t, "/end", <-asked)
	}
}

// A job of the press hall is followed until it is done.
func TestPressHall(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("run", "sheets/09-pressing.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.all(), "done after")
	p.cases([]commandCase{
		{
			"call press/submit lot=L-2201 kilos=0", 1,
			[]string{`response from press: "kilos must be over 0" (field kilos)`},
		},
		{"call press/submit lot=L-2201", 2, []string{"needs kilos"}},
		{"call press/job number=99", 1, []string{"there is no job 99"}},
		{"call press/change number=1 state=cancelled", 1, []string{"the job is done, and cannot become cancelled"}},
	})
	p.write("x.yaml", strings.Replace(p.read("sheets/09-pressing.yaml"), "L-2201", "L-1901", 1))
	o = p.run("run", "x.yaml")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, o.all(), "expected not failed, got failed")
}

// Of every order in which states can be seen, those hold that go on step by step to the
// last, or, where some may be missed, forward.
func TestEveryOrderOfStates(t *testing.T) {
	t.Parallel()
	allowed := []string{"queued", "running", "done"}
	all := append(slices.Clone(allowed), "failed", "melted")
	var orders [][]string
	var extend func(order []string)
	extend = func(order []string) {
		if len(order) > 0 {
			orders = append(orders, order)
		}
		if len(order) < 3 {
			for _, state := range all {
				if len(order) == 0 || order[len(order)-1] != state {
					extend(append(slices.Clone(order), state))
				}
			}
		}
	}
	extend(nil)
	holds := func(order []string, skips bool) bool {
		at := -1
		for _, state := range order {
			next := slices.Index(allowed, state)
			if next <= at || !skips && next > at+1 {
				return false // failed and melted are nowhere, and so before all others
			}
			if at = next; state == "done" {
				return true
			}
		}
		return false
	}
	p := newEcho(t, stages(t, nil))
	for _, skips := range []bool{false, true} {
		var rows strings.Builder
		for _, order := range orders {
			fmt.Fprintf(&rows, "  - order: %s\n", strings.Join(order, ","))
		}
		o := p.sheet(fmt.Sprintf(
			`sheet: orders
rows:
%ssteps:
  - step: ask
    request: GET ${base}/${order}?skips=%t
    until: {state: done}
    every: 1 ms
    within: 200 ms
`+
				"    states: {of: state, allowed: [queued, running, done], failed: [failed], skips: %t}\n",
			rows.String(), skips, skips), "-jobs", "16", "-out", "r.json")
		assert.Equal(t, 1, o.status)
		run := p.report("r.json")
		require.Len(t, run.Sheets[0].Rows, len(orders))
		passed := 0
		for i, row := range run.Sheets[0].Rows {
			expected := map[bool]string{true: "passed", false: "failed"}[holds(orders[i], skips)]
			assert.Equal(t, expected, row.Outcome, "%v, skips: %t", orders[i], skips)
			if expected == "passed" {
				passed++
			}
		}
		assert.Equal(t, map[bool]int{false: 1, true: 32}[skips], passed)
	}
}

// A file that is to appear in a folder is waited for.
func TestFileAppears(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	server := echoing(t, func(n string) {
		time.AfterFunc(100*time.Millisecond, func() {
			_ = os.WriteFile(filepath.Join(dir, ".part"), []byte("lot,kilos\n"+n+",12.50\n"), 0o600)
			_ = os.Rename(filepath.Join(dir, ".part"), filepath.Join(dir, "stock-"+n+".csv"))
		})
	})
	p := newEcho(t, server)
	p.write("bench.yaml", p.read("bench.yaml")+"databases:\n  exports:\n    kind: folder\n    address: "+dir+"\n")
	sheet := `sheet: s
steps:
  - step: ask
    request: GET ${base}/7
  - step: came
    lookup: exports
    find: stock-WANTED.csv
    until: {answer: count 1}
    every: 20 ms
    within: 5 s
` +
		`    keep: {name: 'answer[0].name'}
  - step: read
    lookup: exports
    open: ${name}
    until: {'[0].lot': 7}
    fields: {answer: count 1, '[0].kilos': at least 12.5}
`
	o := p.sheet(strings.Replace(sheet, "WANTED", "7", 1))
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "note: polled ")
	o = p.sheet(strings.NewReplacer("WANTED", "8", "5 s", "100 ms").Replace(sheet))
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.stdout, "not so within 100 ms")
	assert.Contains(t, o.stdout, "not run: name was not kept")
}
