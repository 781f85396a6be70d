package main_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	_ "modernc.org/sqlite"

	"testbench/internal/compare"
	"testbench/internal/history"
)

// quay is a service that is another one night after night, and writes down what it did.
type quay struct {
	mutex  sync.Mutex
	night  int
	random *rand.Rand
	asked  int            // in the night
	wrong  map[string]int // answers in the night that are not what is expected, by the step
}

func (q *quay) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	q.asked++
	step, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	state, depth := "in order", ""
	switch {
	case step == "blip" && q.night == 9, step == "breaks" && q.night >= 28, step == "flaky" && q.random.Float64() < 0.05:
		state = "broken"
		q.wrong[step]++
	}
	if q.night == 30 {
		depth = `, "depth": 7`
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = fmt.Fprintf(w, `{"state": %q, "berths": [{"id": 1%s}, {"id": 2%s}]}`, state, depth, depth)
}

// begin begins a night.
func (q *quay) begin(night int) {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	q.night, q.asked, q.wrong = night, 0, map[string]int{}
}

// serveAt answers at an address until it is stopped.
func serveAt(t *testing.T, address string, handler http.Handler) (at string, stop func()) {
	t.Helper()
	listener, err := net.Listen("tcp", address)
	require.NoError(t, err)
	server := &http.Server{Handler: handler}
	var running sync.WaitGroup
	running.Go(func() { _ = server.Serve(listener) })
	return listener.Addr().String(), func() {
		_ = server.Close()
		running.Wait()
	}
}

// Thirty nights at two sites, one of which four machines share: what the service did wrong is told as what it
// was, and every number is that of the service.
func TestThirtyNights(t *testing.T) {
	slow(t)
	t.Parallel()
	q := &quay{random: rand.New(rand.NewPCG(3, 0))}
	q.begin(1)
	at, stop := serveAt(t, "127.0.0.1:0", q)
	defer stop()
	scales, stopScales := serveAt(t, "127.0.0.1:0", q)
	p := newPlace(t)
	p.write("bench.yaml", fmt.Sprintf("bench: quay\nsites:\n  north:\n    services:\n      crane: http://%s\n      "+
		"scales: http://%s\n  south:\n    like: north\nservices:\n  crane: http://%s\n  scales: http://%s\n", at, scales, at, scales))
	var sheet strings.Builder
	sheet.WriteString("sheet: crates\nrows:\n  numbers: 1 to 8\nsteps:\n")
	for _, step := range []string{"steady", "blip", "flaky", "breaks", "weigh"} {
		service := map[bool]string{true: "scales", false: "crane"}[step == "weigh"]
		_, _ = fmt.Fprintf(&sheet, "  - step: %s\n    request: %s GET /%s/${row.number}\n    fields:\n      state: in order\n", step,
			service, step)
	}
	p.write("sheets/crates.yaml", sheet.String())
	fails := map[string]map[string]int{"north": {}, "south": {}} // nights in which a step failed
	var merged []int                                             // runs of the north
	for night := 1; night <= 30; night++ {
		q.begin(night)
		var files []string
		for i := 1; i <= 4; i++ {
			files = append(files, fmt.Sprintf("shares/%d-%d.json", night, i))
			p.run("run", "sheets/crates.yaml", "-site", "north", "-share", fmt.Sprintf("%d/4", i), "-of",
				fmt.Sprint("night ", night), "-out", files[i-1])
		}
		asked, wrong := q.asked, q.wrong
		o := p.run(append([]string{"report", "-json", "-merge"}, files...)...)
		var run history.Run
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &run), o.all())
		failed := 0
		for step, count := range wrong {
			failed += count
			fails["north"][step]++
		}
		assert.Equal(t, []int{asked, failed, 8, 40}, []int{
			run.Counts.Exchanges, run.Counts.StepsFailed, run.Counts.Rows, run.Counts.Steps,
		}, "night %d as the service has it", night)
		merged = append(merged, run.Number)

		q.begin(night)
		if night == 17 {
			stopScales()
		}
		o = p.run("run", "sheets/crates.yaml", "-site", "south", "-detail", "summary")
		if night == 17 {
			_, stopScales = serveAt(t, scales, q)
			assert.Equal(t, 3, o.status, o.all())
			assert.Equal(t, 1, strings.Count(o.stdout, "refused the connection"), "a service that is down is told once: %s", o.stdout)
			assert.Contains(t, o.stdout, "8 rows: row 1")
		}
		for step := range q.wrong {
			fails["south"][step]++
		}
	}
	defer stopScales()

	trends := func(site string) *history.Trends {
		o := p.run("history", "-steps", "-site", site, "-json")
		found := &history.Trends{}
		require.NoError(t, json.Unmarshal([]byte(o.stdout), found), o.all())
		require.Len(t, found.Runs, 30)
		return found
	}
	for _, site := range []string{"north", "south"} {
		found := trends(site)
		told := map[string]history.Finding{}
		for _, step := range found.Steps {
			for _, f := range step.Findings {
				if f.Kind != history.Slower { // these times are those of this machine
					told[step.Step] = f
				}
			}
		}
		number := func(night int) int { return found.Runs[night-1].Number }
		assert.Equal(t, history.Finding{Kind: history.FailedOnce, Since: number(9), Count: 1, Of: 30}, told["blip"])
		assert.Equal(t, history.Finding{Kind: history.NewlyFailing, Since: number(28), Count: 3, Of: 30}, told["breaks"])
		flaky := told["flaky"]
		assert.Equal(t, history.Flaky, flaky.Kind)
		assert.Equal(t, []int{fails[site]["flaky"], 30}, []int{flaky.Count, flaky.Of}, "as the service has it")
		assert.Len(t, told, 3, "nothing else is told")
		if site == "north" {
			assert.Empty(t, found.Down)
			assert.Equal(t, 120, found.Shares)
			continue
		}
		require.Len(t, found.Down, 1)
		down := found.Down[0]
		assert.Equal(t, history.Down{
			Run: number(17), Site: "south", Service: "scales", Outcome: "unreachable", Why: down.Why, Steps: 8,
		}, down)
	}

	// The morning after the field was added: one change, whatever number of steps.
	o := p.run("compare", fmt.Sprint(merged[28]), fmt.Sprint(merged[29]), "-json")
	var changes compare.Changes
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &changes), o.all())
	var fields []string
	for _, c := range changes.List {
		if c.Kind == compare.OtherField {
			fields = append(fields, fmt.Sprintf("%s %s %d", c.What, c.Path, c.Steps))
		}
	}
	assert.Equal(t, []string{"added berths[*].depth 5"}, fields)

	// What is carried into an empty bench tells the same.
	before := trends("south")
	assert.Contains(t, p.run("history", "-export", "nights", "-most", "500").stderr, "180 runs written into nights\n")
	assert.Contains(t, p.run("history", "-export", "nights", "-most", "500").stderr, "0 runs written into nights; there already: 180")
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".testbench")))
	assert.Contains(t, p.run("history", "-import", "nights").stderr, "180 runs taken in\n")
	assert.Contains(t, p.run("history", "-import", "nights").stderr, "0 runs taken in; here already: 180")
	other := newPlace(t)
	other.write("bench.yaml", "bench: other\nservices: {}\n")
	other.cases([]commandCase{{
		"history -import " + filepath.Join(p.dir, "nights"), 2, []string{"it is a run of the bench", "and this bench is other"},
	}})
	after := trends("south")
	for i := range before.Steps {
		assert.Equal(t, len(before.Steps[i].Findings), len(after.Steps[i].Findings), before.Steps[i].Step)
	}
	assert.Equal(t, before.Down[0].Why, after.Down[0].Why)
}

// Machines take rows of a database by their number: the order must be said, and what came must be the same.
func TestSharesOfADatabase(t *testing.T) {
	t.Parallel()
	var seen tally
	p := newEcho(t, echoing(t, seen.add))
	db, err := sql.Open("sqlite", filepath.Join(p.dir, "crates.db"))
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	for _, statement := range []string{
		"create table crate (number integer)",
		"with recursive n(i) as (values (1) union all select i + 1 from n where i < 21) insert into crate select i from n",
	} {
		_, err = db.Exec(statement)
		require.NoError(t, err)
	}
	p.write("bench.yaml", p.read("bench.yaml")+"databases:\n  crates:\n    kind: sqlite\n    address: crates.db\n")
	sheet := func(query, more string) {
		p.write("sheets/test.yaml", "sheet: crates\nrows:\n  sql: "+query+"\n  database: crates\n"+more+
			"steps:\n  - step: get\n    request: GET ${base}/${number}\n    fields:\n      n: ${number}\n")
	}
	share := func(i int, more ...string) outcome {
		return p.run(append([]string{
			"run", "sheets/test.yaml", "-share", fmt.Sprintf("%d/4", i), "-of", "n", "-out", fmt.Sprintf("s%d.json", i),
		}, more...)...)
	}
	sheet("select number from crate", "")
	o := share(1)
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "does not say in which order the rows come")
	assert.Zero(t, seen.total())

	once := "first:\n  - step: open\n    request: GET ${base}/900\n    once: true\n  - step: each\n    request: GET ${base}/901\n" +
		"last:\n  - step: shut\n    request: GET ${base}/902\n    once: true\n"
	sheet("select number from crate order by number", once)
	for i := 1; i <= 4; i++ {
		assert.Equal(t, 0, share(i, "-repeat", "3").status)
	}
	o = p.run("report", "-merge", "s1.json", "s2.json", "s3.json", "s4.json")
	assert.Contains(t, o.stdout, "63 rows · 63 passed")
	for number := 1; number <= 21; number++ {
		assert.Equal(t, 3, seen.of(fmt.Sprint(number)), number)
	}
	assert.Equal(t, []int{1, 4, 1}, []int{seen.of("900"), seen.of("901"), seen.of("902")})
	for i := 1; i <= 4; i++ {
		rows := p.report(fmt.Sprintf("s%d.json", i)).Counts.Rows
		assert.InDelta(t, 63.0/4, rows, 3, "no machine has much more than another")
	}

	// A table that changed between two machines.
	require.Equal(t, 0, share(1).status)
	_, err = db.Exec("delete from crate where number = 3")
	require.NoError(t, err)
	require.Equal(t, 0, share(2).status)
	o = p.run("report", "-merge", "s1.json", "s2.json")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "the answer of sql://crates for sheets/test.yaml was not the same")

	// What one machine alone knows can be asked for by steps that it alone runs.
	sheet("select number from crate order by number", "first:\n  - step: open\n    request: GET ${base}/900\n    once: true\n"+
		"    keep:\n      key: n\n  - step: open it\n    request: GET ${base}/${key}\n    once: true\n")
	assert.Equal(t, 0, share(1).status)
	assert.Equal(t, 0, share(2).status)
	// What one machine alone would know cannot be asked for by all.
	sheet("select number from crate order by number", "first:\n  - step: open\n    request: GET ${base}/900\n    once: true\n"+
		"    keep:\n      key: n\n")
	p.write("sheets/test.yaml", strings.Replace(p.read("sheets/test.yaml"), "n: ${number}", "n: under ${key}", 1))
	assert.Equal(t, 0, p.run("run", "sheets/test.yaml").status)
	o = share(2)
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, `key is kept by "open", which the first machine alone runs`)
}

// The same failure in 2,000 rows is one entry with its count, on the screen, in Markdown and on the page; a summary
// has at most 40 lines, whatever fails.
func TestSameFailureIsToldOnce(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("sheets/many.yaml", "sheet: many\nrows:\n  numbers: 1 to 2000\nsteps:\n  - step: get\n    request: GET ${base}/${row.number}\n"+
		"    fields:\n      n: under 3\n")
	o := p.run("run", "sheets/many.yaml", "-jobs", "8", "-out", "out/of/many.md", "-out", "out/many.html")
	assert.Equal(t, 1, o.status)
	assert.Less(t, strings.Count(o.stdout, "\n"), 15, o.stdout)
	const rows = "1998 rows: row 3 · 3, row 4 · 4, row 5 · 5, row 6 · 6, row 7 · 7, …"
	flat := strings.Join(strings.Fields(o.stdout), " ")
	assert.Contains(t, flat, rows)
	assert.Contains(t, p.read("out/of/many.md"), rows)
	assert.Equal(t, 1, strings.Count(p.read("out/of/many.md"), "```text"))
	assert.Equal(t, 1, strings.Count(p.read("out/many.html"), `<article class="failure">`))
	assert.Less(t, strings.Count(p.run("report", "last").stdout, "\n"), 12)

	var files []string
	for i := range 60 {
		name := fmt.Sprintf("sheets/one-%d.yaml", i)
		files = append(files, name)
		p.write(name, fmt.Sprintf("sheet: one %d\nsteps:\n  - step: get it\n    request: GET ${base}/7\n    fields:\n      n: under 3\n", i)+
			strings.Repeat("      none: a text that is long enough to be folded, and once more\n", 1))
	}
	o = p.run(append([]string{"run", "-detail", "summary"}, files...)...)
	assert.LessOrEqual(t, strings.Count(o.all(), "\n"), 40, o.all())
	assert.Contains(t, o.stdout, "53 sheets more that did not pass")
	assert.Contains(t, o.stdout, "failures of other kinds; -all shows them")
	assert.Equal(t, 60, strings.Count(p.run("report", "last", "-all").stdout, "get it GET"))
}

// What two people changed is told as that, wherever it stands; so are two sheets of one name.
func TestConflictsAndNames(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(n string) { t.Error("nothing is to be sent: " + n) }))
	const conflict = "<<<<<<< ours\na\n=======\nb\n>>>>>>> theirs\n"
	p.write("data.csv", "n\n1\n"+conflict)
	p.write("body.txt", "x\n"+conflict)
	p.write("api.json", "{\n"+conflict+"}")
	p.write("sheets/rows.yaml", "sheet: rows\nrows: data.csv\nsteps:\n  - step: get\n    request: GET ${base}/1\n")
	p.write("sheets/file.yaml", "sheet: file\nsteps:\n  - step: get\n    request: POST ${base}/1\n    text: ${file:body.txt}\n")
	p.write("sheets/own.yaml", "sheet: own\nsteps:\n"+conflict)
	p.write("sheets/a.yaml", "sheet: a\nsteps:\n  - step: get\n    request: GET ${base}/1\n")
	p.write("sheets/b.yaml", "sheet: a\nsteps:\n  - step: get\n    request: GET ${base}/1\n")
	const says = "the file has a merge conflict here"
	for _, c := range []commandCase{
		{"run sheets/own.yaml", 2, []string{"sheets/own.yaml:3:1", says, "decide between the two sides"}},
		{"run sheets/rows.yaml", 2, []string{"data.csv: line 3: " + says}},
		{"run sheets/file.yaml", 2, []string{"body.txt:2: " + says}},
		{"survey api.json", 2, []string{"api.json:2: " + says}},
		{"run sheets/a.yaml sheets/b.yaml", 2, []string{`sheets/a.yaml has the name "a" too`, "give one of them another name"}},
		{"vet sheets/a.yaml sheets/b.yaml", 2, []string{`sheets/a.yaml has the name "a" too`}},
		{"vet sheets/a.yaml sheets/a.yaml", 0, nil},
	} {
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, c.args)
		for _, text := range c.says {
			assert.Contains(t, o.all(), text, c.args)
		}
	}
}

// What the program writes into a new bench is not taken for something to check in.
func TestNothingToCheckIn(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		needsUnix(t, "git, where it is not installed")
	}
	p := newPlace(t)
	server := echoing(t, func(string) {})
	require.Equal(t, 0, p.run("new", ".", server.URL+"/7").status)
	git := func(args ...string) string {
		c := exec.CommandContext(t.Context(), "git", append([]string{"-c", "user.name=a", "-c", "user.email=a@b.example"}, args...)...)
		c.Dir, c.Env = p.dir, p.env
		text, err := c.CombinedOutput()
		require.NoError(t, err, string(text))
		return string(text)
	}
	git("init", "-q")
	git("add", "-A", ".", ":!identity")
	git("commit", "-q", "-m", "a bench")
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "identity")))
	p.env = append(p.env, "TESTBENCH_IDENTITY="+filepath.Join(t.TempDir(), "identity.txt"))
	for _, args := range []string{
		"run sheets/first.yaml -out reports/a.html -out reports/deep/b.xml -out c.html -out d.har -out junit.xml -out report.md -log run.log",
		"run sheets/first.yaml -share 1/2 -of n -out share-1.json", "call GET " + server.URL + "/7 -allow 127.0.0.1",
		"history -export nights", "history -steps", "vet",
	} {
		o := p.run(strings.Fields(args)...)
		assert.Equal(t, 0, o.status, "%s: %s", args, o.all())
	}
	p.write(".bench.yaml.4711-123456", "what a program that was killed left")
	assert.Empty(t, git("status", "--porcelain"))
	ignored := regexp.MustCompile(`(?m)^!! `).FindAllString(git("status", "--porcelain", "--ignored"), -1)
	assert.GreaterOrEqual(t, len(ignored), 8)
}

// What rows kept is in results and in the history, masked where it must be, and goes out over the runs.
func TestValuesOverRuns(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	for _, n := range []string{"7", "12"} {
		p.sheet("sheet: s\nrows:\n  list:\n    - crate: a\n    - crate: b\nsteps:\n  - step: get\n    request: GET ${base}/"+n+
			"\n    keep:\n      total: n\n      word: {at: reply.text, secret: true}\n  - step: more\n    calculate:\n      twice: kept.total * 2.0\n",
			"-out", "r.json")
	}
	assert.Contains(t, p.read("r.json"), `"values":{"total":"12","word":"[masked]"}`)
	o := p.run("history", "-values", "total", "-values", "twice", "-values", "word", "-out", "v/values.csv", "-out", "v/values.svg",
		"sheets/test.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 4, strings.Count(o.stdout, "word [masked]"))
	assert.Regexp(t, `1 .*total 7 · twice 14.0 · word \[masked\] · row 1 · a · sheets/test.yaml · local`,
		strings.Join(strings.Fields(o.stdout), " "))
	assert.Contains(t, p.read("v/values.csv"), ",row 2 · b,passed,12,24.0,[masked]\r\n")
	assert.Contains(t, p.read("v/values.svg"), ">twice, row 2 · b</text>", "a line for each row")
	assert.Equal(t, 0, p.run("history", "-values", "total", "-out", "v/total.png", "-size", "640x320").status)
	drawn, err := png.Decode(strings.NewReader(p.read("v/total.png")))
	require.NoError(t, err)
	assert.Equal(t, image.Pt(640, 320), drawn.Bounds().Size())
	var found history.Values
	require.NoError(t, json.Unmarshal([]byte(p.run("history", "-values", "total", "-json").stdout), &found))
	assert.Len(t, found.Rows, 4)
	p.cases([]commandCase{
		{"history -values none", 2, []string{"no run in the history has the value none; there are: total, twice, word"}},
		{"history -values total -site norht", 2, []string{"no run in the history has the site norht; there are: local"}},
		{"history -steps sheets/tset.yaml", 2, []string{"no run in the history has the sheet sheets/tset.yaml; did you mean"}},
		{"history -values total -out v.pdf", 2, []string{"v.pdf: the ending says the format"}},
		{"history -values total -steps", 2, []string{"-values has no effect in history with -steps"}},
	})
}

// Results are a table: inputs, what was kept, what came of it; numbers stay numbers, and texts are no formulas.
func TestResultsAsATable(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("data/crates.csv", "crate,outcome,remark\n7,x,=1+1\n8,y,\"a, b\"\n")
	const sheet = "sheet: s\nrows: data/crates.csv\nsteps:\n  - step: get\n    request: GET ${base}/${row.crate}\n    keep:\n" +
		"      n: n\n    fields:\n      n: under 8\n"
	o := p.sheet(sheet, "-out", "r/results.csv", "-out", "r/results.xlsx", "-out", "r/results.json", "-out", "r/results.ndjson",
		"-out", "r/checks.csv")
	assert.Equal(t, 1, o.status, o.all())
	lines := strings.Split(p.read("r/results.csv"), "\r\n")
	assert.Equal(t, "row,crate,outcome,remark,n,outcome (2),message,milliseconds,run,moment", lines[0])
	assert.Regexp(t, `^1,7,x,'=1\+1,7,passed,,[0-9.]+,1,2.*Z$`, lines[1])
	assert.Regexp(t, `^2,8,y,"a, b",8,failed,"get: n   expected under 8, got 8",[0-9.]+,1,2.*Z$`, lines[2])
	var rows []map[string]any
	require.NoError(t, json.Unmarshal([]byte(p.read("r/results.json")), &rows))
	assert.Equal(t, []any{7.0, "=1+1", "passed", 1.0}, []any{rows[0]["crate"], rows[0]["remark"], rows[0]["outcome (2)"], rows[0]["run"]})
	assert.Equal(t, 2, strings.Count(p.read("r/results.ndjson"), "\n"))
	assert.Contains(t, p.read("r/checks.csv"), "field,n,failed,under 8,8,")
	// The spreadsheet is one that the program itself takes rows from.
	p.write("sheets/again.yaml", "sheet: again\nrows: {from: r/results.xlsx, label: crate}\nsteps:\n  - step: get\n    request: GET ${base}/${row.crate}\n"+
		"    fields:\n      n: ${row.n}\n")
	assert.Equal(t, 0, p.run("run", "sheets/again.yaml").status)

	o = p.sheet(sheet+"table: {Crate: row.crate, Came: n, Result: outcome}\n", "-out", "r/results.csv")
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, "Crate,Came,Result\r\n7,7,passed\r\n8,8,failed\r\n", p.read("r/results.csv"))
	// Tokens that a step kept leave the machine only where that is asked for.
	const token = "q9Zx7-Kp2mV4tR8sLw3N"
	secretive := strings.NewReplacer("n: n\n    fields", "token: n\n    fields", "${row.crate}", token, "under 8", token).Replace(sheet)
	for _, name := range []string{"r/results.csv", "r/results.ndjson"} {
		p.sheet(secretive, "-out", name)
		assert.NotContains(t, p.read(name), token, name)
		assert.Contains(t, p.read(name), "[masked]", name)
	}
	p.run("report", "last", "-out", "r/results.csv", "-full")
	assert.Contains(t, p.read("r/results.csv"), token)
	p.cases([]commandCase{
		{"run sheets/test.yaml -out data/crates.csv", 2, []string{"-out data/crates.csv would overwrite the rows of sheets/test.yaml"}},
		{"run sheets/test.yaml -out report.xlsx", 2, []string{"the ending says the format"}},
	})
	assert.Contains(t, p.read("data/crates.csv"), "crate,outcome,remark\n")
}

// Results go beside the inputs: into another sheet of the spreadsheet that the rows come from, which stays as it is.
func TestResultsBesideTheRows(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	file := filepath.Join(p.dir, "crates.xlsx")
	book := excelize.NewFile()
	require.NoError(t, book.SetSheetName("Sheet1", "Crates"))
	for at, value := range map[string]any{"A1": "crate", "B1": "kilos", "A2": 7, "B2": 12.5, "A3": 8, "B3": 40} {
		require.NoError(t, book.SetCellValue("Crates", at, value))
	}
	_, err := book.NewSheet("Sums")
	require.NoError(t, err)
	require.NoError(t, book.SetCellFormula("Sums", "A1", "SUM(Crates!B2:B3)"))
	require.NoError(t, book.SaveAs(file))
	require.NoError(t, book.Close())
	p.write("sheets/s.yaml", "sheet: s\nrows: {from: crates.xlsx, sheet: Crates}\nsteps:\n  - step: get\n    request: GET ${base}/${row.crate}\n"+
		"    keep:\n      n: n\n")
	p.cases([]commandCase{
		{"run sheets/s.yaml -out crates.xlsx", 2, []string{"the ending says the format"}},
		{"run sheets/s.yaml -out crates.xlsx#Crates", 2, []string{"would overwrite the rows", "crates.xlsx#results"}},
		{"run sheets/s.yaml -out crates.xlsx#crates", 2, []string{"would overwrite the rows"}},
		{"run sheets/s.yaml -out crates.xlsx#a/b", 2, []string{"that is not the name of a sheet"}},
		{"run sheets/s.yaml -out sheets/s.yaml#results", 2, []string{"the ending says the format"}},
		{"run sheets/s.yaml -out crates.xlsx#results -out new/other.xlsx#tonight", 0, []string{"written: crates.xlsx#results"}},
		{"report last -out crates.xlsx#results", 0, nil},
		{"run sheets/s.yaml", 0, nil}, // the rows are what they were
	})
	for name, sheets := range map[string][]string{"crates.xlsx": {"Crates", "Sums", "results"}, "new/other.xlsx": {"tonight"}} {
		book, err := excelize.OpenFile(filepath.Join(p.dir, name))
		require.NoError(t, err)
		assert.Equal(t, sheets, book.GetSheetList())
		rows, err := book.GetRows(sheets[len(sheets)-1])
		require.NoError(t, err)
		assert.Equal(t, [][]string{{"row", "crate", "kilos", "n", "outcome"}, {"1", "7", "12.5", "7", "passed"}, {"2", "8", "40", "8", "passed"}},
			[][]string{rows[0][:5], rows[1][:5], rows[2][:5]})
		if len(sheets) > 1 {
			formula, err := book.GetCellFormula("Sums", "A1")
			require.NoError(t, err)
			assert.Equal(t, "SUM(Crates!B2:B3)", formula)
			kilos, err := book.GetCellType("results", "C2")
			require.NoError(t, err)
			assert.Contains(t, []excelize.CellType{excelize.CellTypeNumber, excelize.CellTypeUnset}, kilos, "a number")
		}
		require.NoError(t, book.Close())
	}
}
