package main_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A run that is killed at any moment leaves a record that opens and has every row that
// was told as finished; going on with it runs the others, and none of these again.
func TestKilled(t *testing.T) {
	slow(t)
	needsUnix(t, "a kill that closes connections at once")
	t.Parallel()
	const rows = 80
	const kills = 50
	var mutex sync.Mutex
	asked := &tally{}
	var gate chan struct{} // the last row is not answered before it is closed
	server := httptest.NewUnstartedServer(pathEcho(func(n string) {
		asked.add(n)
		mutex.Lock()
		passed := gate
		mutex.Unlock()
		if n == fmt.Sprint(rows) && passed != nil {
			<-passed
		}
	}))
	connections, closed := 0, sync.NewCond(&mutex)
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		mutex.Lock()
		defer mutex.Unlock()
		switch state {
		case http.StateNew:
			connections++
		case http.StateClosed:
			connections--
			closed.Broadcast()
		}
	}
	server.Start()
	t.Cleanup(server.Close)
	p := newEcho(t, server)
	killed := func(after int, args ...string) []int {
		here := make(chan struct{})
		mutex.Lock()
		gate = here
		mutex.Unlock()
		done := p.killedAfter(after, args...)
		mutex.Lock()
		gate = nil
		mutex.Unlock()
		close(here)
		// What the killed process sent may still wait at the server, and would be counted with
		// what the next one asks. Connections are taken in order: this one is the last.
		last, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL+"/last", nil)
		require.NoError(t, err)
		last.Close = true
		answer, err := http.DefaultClient.Do(last)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		mutex.Lock()
		defer mutex.Unlock()
		for connections > 0 {
			closed.Wait()
		}
		return done
	}
	p.write("sheets/test.yaml",
		fmt.Sprintf(`sheet: killed
rows: {numbers: 1 to %d, as: n}
first:
  - step: first
    request: GET ${base}/first
    keep: {base_of_all: n}
`+
			`steps:
  - step: get
    request: GET ${base}/${n}
    fields: {n: '${n}'}
  - step: with it
    request: GET ${base}/${base_of_all}-${n}
    fields: {n: 'first-${n}'}
`, rows))
	random := rand.New(rand.NewPCG(6, 26))
	for range kills {
		asked.reset()
		done := killed(random.IntN(rows-4), "run", "sheets/test.yaml", "-json", "-jobs", fmt.Sprint(1+random.IntN(4)))
		o := p.run("report", "last", "-out", "r.json")
		require.Equal(t, 130, o.status, o.all())
		before := p.report("r.json")
		require.False(t, before.Ended)
		finished := map[int]bool{}
		for _, row := range before.Sheets[0].Rows {
			finished[row.Row] = true
		}
		for _, n := range done {
			require.True(t, finished[n], "row %d was told as finished: %v", n, finished)
		}
		asked.reset()
		// Some are killed once more on their way.
		if random.IntN(3) == 0 && len(finished) < rows-1 {
			killed(0, "run", "-resume", "last", "-json")
			asked.reset()
			p.run("report", "last", "-out", "r.json")
			for _, row := range p.report("r.json").Sheets[0].Rows {
				finished[row.Row] = true
			}
		}
		o = p.run("run", "-resume", "last", "-out", "r.json")
		require.Equal(t, 0, o.status, o.all())
		require.Contains(t, o.stdout, fmt.Sprintf("%d passed", rows))
		whole := p.report("r.json")
		require.True(t, whole.Ended)
		require.Len(t, whole.Sheets[0].Rows, rows+1)
		for i, row := range whole.Sheets[0].Rows {
			require.Equal(t, i, row.Row)
			require.Equal(t, "passed", row.Outcome)
		}
		for n := 1; n <= rows; n++ {
			expected := 1
			if finished[n] {
				expected = 0
			}
			require.Equal(t, expected, asked.of(fmt.Sprint(n)), "row %d", n)
		}
		if finished[0] {
			require.Zero(t, asked.of("first"))
		}
	}
	o := p.run("run", "-resume", "last")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "ended by itself")
	// Rows that are not what they were are not gone on with.
	killed(3, "run", "sheets/test.yaml", "-json")
	p.write("sheets/test.yaml", p.read("sheets/test.yaml")+"\n# other\n")
	o = p.run("run", "-resume", "last")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "sheets/test.yaml is not what it was in run")
}

// killedAfter kills a run when so many rows are told as finished, and gives these.
func (p *place) killedAfter(rows int, args ...string) []int {
	p.t.Helper()
	c := p.command(args...)
	out, err := c.StdoutPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, c.Start())
	var done []int
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var event struct {
			Event string
			Row   int
		}
		if json.Unmarshal(lines.Bytes(), &event) == nil && event.Event == "row done" {
			if done = append(done, event.Row); len(done) == rows+1 {
				require.NoError(p.t, c.Process.Kill())
			}
		}
	}
	_ = c.Wait()
	return done
}

// A run goes on from a step with what the last one kept, secrets too, which are in no
// file in the open.
func TestFromStep(t *testing.T) {
	t.Parallel()
	server, asked := counting(t)
	p := newEcho(t, server)
	text := `sheet: s
rows: {numbers: 1 to 3, as: n}
first:
  - step: open
    request: GET ${base}/opened
    keep: {opened: n}
steps:
  - step: one
    request: GET ${base}/secret-of-${n}-${opened}
    keep:
      word: {at: n, secret: true}
` +
		`  - step: two
    request: GET ${base}/two-${n}-${word}
    fields: {n: 'WANTED-${n}-${word}'}
    keep: {two: n}
  - step: three
    request: GET ${base}/three-${two}
`
	p.write("sheets/test.yaml", strings.ReplaceAll(text, "WANTED", "tow"))
	assert.Equal(t, 1, p.run("run", "sheets/test.yaml").status)
	p.write("sheets/test.yaml", strings.ReplaceAll(text, "WANTED", "two"))
	o := p.run("run", "sheets/test.yaml", "-from", "two", "-set", "base="+server.URL)
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "3 rows · 3 passed · 6 exchanges")
	assert.Equal(t, 1, asked.of("opened"))
	assert.Equal(t, 1, asked.of("secret-of-2-opened"))
	assert.Equal(t, 2, asked.of("two-2-secret-of-2-opened"))
	o = p.run("run", "sheets/test.yaml", "-from", "three", "-rows", "2", "-show", "all")
	assert.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, o.all(), "secret-of", "what was kept as secret is masked in what comes of it")
	require.NoError(t, filepath.WalkDir(filepath.Join(p.dir, ".testbench"),
		func(name string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				data, err := os.ReadFile(name)
				require.NoError(t, err)
				assert.NotContains(t, string(data), "secret-of-2", name)
			}
			return err
		}))
}

// A history that is damaged is put aside, and one that cannot be written keeps nothing
// from being run.
func TestHistoryFile(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	sheet := strings.ReplaceAll(echoSheet, "ROWS", "2")
	p.write(".testbench/history.db", "this is not a database, and somebody may still want to look at it")
	o := p.sheet(sheet)
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "the history was damaged and cannot be read; it is put aside as")
	assert.Contains(t, o.stdout, "run 1")
	aside, err := filepath.Glob(filepath.Join(p.dir, ".testbench", "history-damaged-*.db"))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	data, err := os.ReadFile(aside[0])
	require.NoError(t, err)
	assert.Contains(t, string(data), "somebody may still want")
	// Several runs at once.
	var group sync.WaitGroup
	for range 6 {
		group.Add(1)
		go func() {
			defer group.Done()
			o := p.run("run", "sheets/test.yaml")
			assert.Equal(t, 0, o.status, o.all())
			assert.Empty(t, o.stderr)
		}()
	}
	group.Wait()
	assert.Contains(t, p.run("report", "7").stdout, "2 rows")
	q := newEcho(t, echoing(t, func(string) {}))
	q.write(".testbench", "a file where a folder should be")
	o = q.sheet(sheet, "-out", "r.json")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "the run is not recorded")
	assert.Len(t, q.report("r.json").Sheets[0].Rows, 2)
}

// breaking is a server between the program and what it asks, which does to each exchange
// what its number says.
type breaking struct{ asked tally }

// What is done to exchanges, and what must come of them.
var faults = []struct{ name, outcome string }{
	{"well", "passed"},
	{"well", "passed"},
	{"well", "passed"},
	{"delayed", "passed"},
	{"twice", "passed"},
	{"reset", "unreachable"},
	{"reset within", "unreachable"},
	{"cut", "unreachable"},
	{"head only", "unreachable"},
	{"in pieces", "passed"},
	{"closed", "unreachable"},
	{"garbage", "unreachable"},
}

func (f *breaking) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n := strings.TrimPrefix(r.URL.Path, "/")
	f.asked.add(n)
	var number int
	_, _ = fmt.Sscan(n, &number)
	connection, buffered, err := w.(http.Hijacker).Hijack()
	if err != nil {
		return
	}
	defer func() { _ = connection.Close() }()
	body := fmt.Sprintf(`{"n": %d, "text": %q}`, number, strings.Repeat("x", 300))
	answer := fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", len(body), body)
	switch faults[number%len(faults)].name {
	case "twice":
		answer += answer
	case "reset":
		reset(connection)
		return
	case "reset within":
		_, _ = buffered.WriteString(answer[:len(answer)/2])
		_ = buffered.Flush()
		reset(connection)
		return
	case "cut":
		answer = answer[:len(answer)-100]
	case "head only":
		answer = answer[:60]
	case "closed":
		answer = ""
	case "garbage":
		answer = "\x16\x03\x01 this is not HTTP\r\n\r\n"
	case "in pieces":
		for i := 0; i < len(answer); i += 90 {
			_, _ = buffered.WriteString(answer[i:min(i+90, len(answer))])
			_ = buffered.Flush()
		}
		return
	}
	_, _ = buffered.WriteString(answer)
	_ = buffered.Flush()
}

func reset(connection net.Conn) {
	if tcp, ok := connection.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
}

// Whatever happens to exchanges on their way, each is accounted for once.
func TestEveryExchangeIsAccountedFor(t *testing.T) {
	t.Parallel()
	rows := 10_000
	if testing.Short() {
		rows = 2_000
	}
	f := &breaking{}
	server := httptest.NewServer(f)
	t.Cleanup(server.Close)
	p := newEcho(t, server)
	o := p.sheet(fmt.Sprintf(
		`sheet: s
rows: {numbers: 1 to %d, as: n}
steps:
  - step: get
    request: GET ${base}/${n}
    fields: {n: '${n}'}
`, rows), "-jobs", "8", "-out", "r.json", "-out", "r.xml")
	assert.Equal(t, 3, o.status)
	run := p.report("r.json")
	assert.Equal(t, "unreachable", run.Outcome)
	require.Len(t, run.Sheets[0].Rows, rows)
	passed, exchanges, again := 0, 0, 0
	for i, row := range run.Sheets[0].Rows {
		expected := faults[(i+1)%len(faults)]
		require.Equal(t, i+1, row.Row)
		require.Equal(t, expected.outcome, row.Outcome, "row %d, %s: %+v", row.Row, expected.name, row.Steps)
		if row.Outcome == "passed" {
			passed++
		}
		step := row.Steps[0]
		exchanges += step.Sent + len(step.Exchanges)
		for _, e := range step.Exchanges {
			if len(e.Notes) > 0 && strings.Contains(e.Notes[0], "it went out") {
				again++
			}
		}
		require.Equal(t, 1, step.Sent+len(step.Exchanges))
	}
	assert.Equal(t, rows, exchanges)
	assert.Equal(t, []int{rows, passed, rows - passed, rows},
		[]int{run.Counts.Rows, run.Counts.RowsPassed, run.Counts.RowsFailed, run.Counts.Exchanges})
	assert.Equal(t, rows+again, f.asked.total(), "none is lost, and none goes out twice without a word")
	assert.Contains(t, p.read("r.xml"), fmt.Sprintf(`tests="%d" failures="0" errors="%d"`, rows, rows-passed))
}
