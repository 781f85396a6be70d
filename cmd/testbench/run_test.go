package main_test

import (
	"encoding/json"
	"encoding/xml"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
)

var update = flag.Bool("update", false, "write the golden files anew")

var changing = []struct {
	from *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`http://127\.0\.0\.1:\d+`), "http://127.0.0.1:8720"},
	{regexp.MustCompile(` +\d+(\.\d+)? ms`), "  TIME"},
	{regexp.MustCompile(`TIME {4,}`), "TIME    "},
	{regexp.MustCompile(`· run \d\S*`), "· run ID"},
	{regexp.MustCompile(`(?m)^run \d+`), "run ID"},
	{regexp.MustCompile(`(?m)^(  .*?)  +\d+  +\d+\.\d(  TIME)+$`), "$1  TIMES"},
	{regexp.MustCompile(`(expected \S+ \S+( s)?), got \S+   passed`), "$1, got SOME   passed"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC`), "MOMENT"},
	{regexp.MustCompile(`/\S*testbench-demo-\d+|/tmp/\S*/honey|[A-Z]:\\\S*\\honey`), "DIR"},
	{regexp.MustCompile(`DIR\\`), "DIR/"},
}

// golden holds output against a file, with all that changes from run to run
// taken out.
func golden(t *testing.T, name, got string) {
	t.Helper()
	for _, c := range changing {
		got = c.from.ReplaceAllString(got, c.to)
	}
	file := filepath.Join("testdata", name)
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

func TestDemo(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	o := p.run("demo", "-dir", filepath.Join(p.dir, "honey"))
	assert.Equal(t, 0, o.status, o.all())
	assert.Less(t, o.took, 30*time.Second)
	golden(t, "demo.txt", o.stdout)
	report := p.read("honey/report.html")
	assert.Contains(t, report, "moisture must not exceed 20")
	assert.NotRegexp(t, `(src|href)="?https?:`, report, "no outside references")
	info, err := os.Stat(filepath.Join(p.dir, "identity", "identity.txt"))
	require.NoError(t, err)
	if runtime.GOOS != "windows" {
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}

	// What the demo wrote works from another shell, with its sealed secrets.
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	defer server.Close()
	o = p.run("run", "-bench", "honey", "-set", "base=http://"+server.Address, "honey/sheets/01-search.yaml")
	assert.Equal(t, 0, o.status, o.all())

	// A folder with somebody's own bench is left alone.
	p.write("mine/bench.yaml", "bench: mine\n")
	o = p.run("demo", "-dir", "mine")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "another bench")
	assert.Equal(t, "bench: mine\n", p.read("mine/bench.yaml"))
}

func TestNewBench(t *testing.T) {
	t.Parallel()
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	defer server.Close()
	p := newPlace(t)
	o := p.run("new", "honey", "http://"+server.Address+"/index/prices.xml?fd=1&fm=11&fy=2026")
	require.Equal(t, 0, o.status, o.all())
	for _, file := range []string{"honey/bench.yaml", "honey/sheets/first.yaml", "honey/.gitignore"} {
		assert.Contains(t, o.stdout, file)
	}
	o = p.run("vet", "-bench", "honey")
	assert.Equal(t, 0, o.status, o.all())
	o = p.run("run", "honey/sheets/first.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 0, p.run("new", "empty").status)
	assert.Equal(t, 0, p.run("vet", "-bench", "empty").status)
	assert.Equal(t, 2, p.run("new", "wrong", "ftp://x").status)
	o = p.run("new", "honey")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "a bench in honey already")
}

func TestReports(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("run", "sheets/06-too-moist.yaml", "sheets/03-intake.yaml", "-out", "r.xml", "-out", "r.json", "-out",
		"r.html")
	assert.Equal(t, 1, o.status, o.all())

	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Name    string `xml:"name,attr"`
			Skipped int    `xml:"skipped,attr"`
			Cases   []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Message string `xml:"message,attr"`
					Text    string `xml:",chardata"`
				} `xml:"failure"`
				Skipped *string `xml:"skipped"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(p.read("r.xml")), &suites))
	assert.Equal(t, []int{14, 1, 2}, []int{suites.Tests, suites.Failures, suites.Suites[0].Skipped})
	book := suites.Suites[0].Cases[5]
	assert.Equal(t, "book, row 2 L-2208", book.Name)
	require.NotNil(t, book.Failure)
	assert.Contains(t, book.Failure.Text, `response from ledger: "moisture must not exceed 20"`)
	require.NotNil(t, suites.Suites[0].Cases[6].Skipped)
	assert.Equal(t, "number was not kept (book failed)", *suites.Suites[0].Cases[6].Skipped)

	var run struct {
		Outcome string
		Counts  struct{ Steps, StepsFailed, StepsNotRun int }
		Sheets  []struct {
			Rows []struct {
				Steps []struct {
					Step, Outcome string
					Hints         []string
					Exchanges     []struct {
						Status  int
						Request struct{ Method, Address, Body string }
						Body    string
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.read("r.json")), &run))
	assert.Equal(t, "failed", run.Outcome)
	assert.Equal(t, []int{14, 1, 2}, []int{run.Counts.Steps, run.Counts.StepsFailed, run.Counts.StepsNotRun})
	step := run.Sheets[0].Rows[1].Steps[1]
	assert.Equal(t, 422, step.Exchanges[0].Status)
	assert.JSONEq(t, `{"lot":"L-2208","grade":"C","kilos":60,"moisture":23.1}`, step.Exchanges[0].Request.Body)
	assert.Equal(t, []string{"moisture was sent as 23.1 from data/moist.csv row 2"}, step.Hints)
	assert.Contains(t, p.read("r.html"), "1 of 14 steps failed: ")

	o = p.run("run", "sheets/03-intake.yaml", "-json")
	assert.Equal(t, 0, o.status)
	lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
	assert.Len(t, lines, 10)
	for _, line := range lines {
		assert.True(t, json.Valid([]byte(line)), line)
	}
	o = p.run("run", "sheets/03-intake.yaml", "-out", "r.pdf")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, ".html, .xml (JUnit), .har")
}

func TestRunOptions(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("run", "sheets/04-rows.yaml", "-rows", "2", "-step", "grade", "-step", "dearer")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "row 2 of 3 (lot L-2202)")
	assert.NotContains(t, o.stdout, "L-2205")
	assert.NotContains(t, o.stdout, "book")

	o = p.run("run", "sheets/04-rows.yaml", "-step", "boook")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, `did you mean "book"?`)

	o = p.run("run", "sheets/06-too-moist.yaml", "sheets/03-intake.yaml", "-stop")
	assert.Equal(t, 1, o.status)
	assert.NotContains(t, o.stdout, "intake to stock")
	assert.NotContains(t, o.stdout, "read it back  not run", "stopped before it")
	assert.Contains(t, o.stdout, "tidy up", "finally comes all the same")

	o = p.run("run", "sheets/03-intake.yaml", "-dry")
	assert.Equal(t, 0, o.status)
	assert.Contains(t, o.stdout, "POST http://127.0.0.1:")
	assert.Contains(t, o.stdout, "Ledger-Key: [masked]")
	assert.Contains(t, o.stdout, "not known yet: ")
	o = p.run("call", "ledger/Intakes.count", "-pick", "answer")
	assert.Equal(t, "0\n", o.stdout, "a dry run sends nothing")

	o = p.run("run", "sheets/01-search.yaml", "-site", "south", "-set", "depot=north")
	assert.Equal(t, 0, o.status, "-set is the strongest: %s", o.all())
	o = p.run("run", "sheets/01-search.yaml", "-show", "all")
	assert.Contains(t, o.stdout, "Authorization: Bearer [masked]")
	assert.Contains(t, o.stdout, `"keeper": "Ansel Thripp"`)
}

// A call becomes a step of a sheet; the rest of the file stays byte for byte.
func TestCallInto(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	const before = `# mine
sheet: mine   # by hand
steps:
  - step: first
    call: stores/search
    # the end of it

last:
  - step: z
    call: stores/search
`
	p.write("sheets/mine.yaml", before)
	calls := [][]string{
		{"stores/search", "grade=A", "-keep", "lot=lots.0.id"},
		{"stores/lot", "id=kept:lot"},
		{"stores", "GET", "/lots/kept:lot", "-in", "header.X-Depot=north", "-in", "query.a b=x # y"},
		{"ledger", "POST", "/Intakes", "lot=L-2204", "grade=A", "kilos=10", "moisture=17", "note=a: \"b\""},
		{"lab/GradeLot", "lot=L-2201", "moisture=17.4", "-soap", "1.2"},
		{"stores/search", "-login", "clerk_in_person"},
	}
	for _, call := range calls {
		p.run(append(append([]string{"call"}, call...), "-into", "sheets/mine.yaml")...)
	}
	got := p.read("sheets/mine.yaml")
	golden(t, "into.yaml", got)
	assert.True(t, strings.HasPrefix(got, "# mine\nsheet: mine   # by hand\nsteps:\n  - step: first\n"))
	assert.True(t, strings.HasSuffix(got, "\nlast:\n  - step: z\n    call: stores/search\n"))
	assert.Equal(t, 0, p.run("vet", "sheets/mine.yaml").status)
	o := p.run("run", "sheets/mine.yaml", "-step", "stores/search", "-step", "stores/lot", "-step", "lab/GradeLot",
		"-step", "stores/search 2")
	assert.Equal(t, 0, o.status, o.all())
	p.write("sheets/flow.yaml", "sheet: x\nsteps: [{step: a, call: stores/search}]\n")
	o = p.run("call", "stores/search", "-into", "sheets/flow.yaml")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "write the item yourself")
}

func TestGuard(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	bench := p.read("bench.yaml")
	p.write("bench.yaml", strings.Replace(bench, "base: https://services.heatherfold.example\n    guard",
		"depot: north\n    guard", 1))
	p.write("bench.yaml", strings.ReplaceAll(p.read("bench.yaml"), "      base: https://services.heatherfold.example\n",
		"      depot: north\n"))
	o := p.run("run", "sheets/03-intake.yaml", "-site", "live")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stdout, "the site live is guarded")
	assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "), "-write live")
	o = p.run("run", "sheets/02-grading.yaml", "-step", "grade by 1.2", "-site", "live")
	assert.Equal(t, 0, o.status, "reading is let through: %s", o.all())
	o = p.run("run", "sheets/03-intake.yaml", "-site", "live", "-write", "live")
	assert.Equal(t, 0, o.status, o.all())
	// One part that writes makes a batch of writing.
	const parts = "sheet: b\nsteps:\n  - step: all\n    batch: ledger\n    parts:\n      - {step: look, call: ledger/Suppliers.list, fill: {top: 1}}\n"
	o = p.sheet(parts, "-site", "live")
	assert.Equal(t, 0, o.status, o.all())
	o = p.sheet(parts+"      - {step: order, call: ledger/PurchaseOrders.create, fill: {supplierNumber: S-101, orderedOn: 2026-11-23}, "+
		"expect: {status: 201}}\n      - {step: again, call: ledger/Suppliers.list, fill: {top: 1}}\n", "-site", "live")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stdout, "the site live is guarded")
}

func TestPhasesAndConditions(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.sheet(`sheet: phases
site: local
rows: data/intakes.csv
first:
  - step: prepare
    set:
      tag: run-${run.id | sha256}
      month: ${today | format yyyy-MM}
steps:
  - step: only dry ones
    when: number(row.moisture) < 17
    call: lab/GradeLot
    fill:
      lot: ${row.lot}
      moisture: ${row.moisture}
      remark: ${tag}
    fields:
      remark: ${tag}
last:
  - step: at the end
    call: ledger/balance
    fill:
      request:
        lot: L-2201
    fields:
      response.kilos: 0.00
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 2, strings.Count(o.stdout, "not run: condition is false"), o.stdout)
	assert.Contains(t, o.stdout, "· first")
	assert.Contains(t, o.stdout, "· last")
}

// A run that is interrupted cancels what it waits for, still runs the finally
// steps, and says so by its exit status.
func TestInterrupt(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	p.write("sheets/test.yaml", `sheet: interrupted
steps:
  - step: book
    call: ledger/book
    fill:
      lot: L-2201
      grade: A
      kilos: 5
      moisture: 17
    expect:
      status: 201
    keep:
      number: number
  - step: wait
    request: mishaps GET /hang
  - step: never
    call: ledger/balance
    fill:
      request:
        lot: L-2201
finally:
  - step: tidy up
    call: ledger/remove
    fill:
      number: ${number}
`)
	c := p.command("run", "sheets/test.yaml", "-json", "-out", "r.json")
	stdout, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	decoder := json.NewDecoder(stdout)
	var steps []string
	for {
		var event struct {
			Event string
			Step  struct{ Step, Outcome string }
		}
		if decoder.Decode(&event) != nil {
			break
		}
		if event.Event == "step done" {
			steps = append(steps, event.Step.Step+" "+event.Step.Outcome)
			if event.Step.Step == "book" {
				interrupt(t, c.Process)
			}
		}
	}
	_ = c.Wait()
	assert.Equal(t, 130, c.ProcessState.ExitCode())
	assert.Equal(t, "tidy up passed", steps[len(steps)-1], "%v", steps)
	assert.NotContains(t, strings.Join(steps, " "), "never")
	assert.Contains(t, p.read("r.json"), `"outcome":"interrupted"`)
	_ = server
	o := p.run("call", "ledger/Intakes.count", "-pick", "answer")
	assert.Equal(t, "0\n", o.stdout, "the finally step took the intake back")
}

// A service that is down is explained once, and counted after.
func TestServiceThatIsDown(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\n")
	p.write("s.yaml", "sheet: s\nrows: {numbers: 1 to 3, as: n}\nsteps:\n  - {step: a, request: \"GET http://127.0.0.1:1/x\"}\n  - {step: b, request: \"GET http://127.0.0.1:1/y\"}\n")
	o := p.run("run", "s.yaml", "-allow", "127.0.0.1")
	assert.Equal(t, 3, o.status)
	assert.Equal(t, 1, strings.Count(o.stdout, "try: is the service running"), o.stdout)
	assert.Equal(t, 6, strings.Count(o.stdout, "unreachable"))
	assert.Contains(t, o.stdout, "6 steps: 127.0.0.1:1 refused the connection: nothing listens there\n")
}
