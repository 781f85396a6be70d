package doubt_test

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/doubt"
	"testbench/internal/exchange"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
	"testbench/internal/workbench"
)

// newBench makes a bench of a sheet that asks a server of one answer.
func newBench(t testing.TB, sheet string, serve http.HandlerFunc) *workbench.Bench {
	t.Helper()
	server := httptest.NewServer(serve)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	for name, text := range map[string]string{
		"bench.yaml": "bench: t\nsites:\n  local:\n    set:\n      base: " + server.URL + "\nservices: {}\n",
		"sheet.yaml": sheet,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	bench, err := workbench.Open(dir)
	require.NoError(t, err)
	return bench
}

// doubted runs a sheet and doubts its answers.
func doubted(t *testing.T, bench *workbench.Bench, sheet string) *doubt.Result {
	t.Helper()
	var found *doubt.Result
	result, err := bench.Run(t.Context(), []string{filepath.Join(bench.Dir, sheet)}, workbench.RunOptions{
		Doubted: func(d *workbench.Doubted) { found = d },
	})
	require.NoError(t, err)
	require.NoError(t, result.Close())
	require.Equal(t, workbench.Passed, result.Outcome, sheet)
	require.NotNil(t, found)
	return found
}

// serves answers with a JSON document.
func serves(body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, body)
	}
}

// field is one of a made answer: how it is written, and the rules that notice every change of it.
type field struct {
	json, is, equals string
	any              string // what is said where its kind alone is looked at
}

// Of fifty sheets that were made with holes each hole is found, and no other.
func TestHoles(t *testing.T) {
	kinds := []func(r *rand.Rand) field{
		func(r *rand.Rand) field {
			n := fmt.Sprintf("%d.%02d", 1+r.IntN(500), 1+r.IntN(99))
			return field{n, "is number", "equals " + n, "any number passes"}
		},
		func(r *rand.Rand) field {
			n := fmt.Sprint(2 + r.IntN(90))
			return field{n, "is number", "equals " + n, "any integer passes"}
		},
		func(r *rand.Rand) field {
			text := []string{"heather", "Île d’Yeu", "acht Kisten", "L-2201", "в улье"}[r.IntN(5)]
			return field{`"` + text + `"`, "is text", `equals "` + text + `"`, "any text passes"}
		},
		func(*rand.Rand) field { return field{"true", "is boolean", "equals true", "any boolean passes"} },
		func(r *rand.Rand) field {
			day := fmt.Sprintf("2019-0%d-1%d", 1+r.IntN(9), r.IntN(10))
			return field{`"` + day + `"`, "is date", `equals "` + day + `"`, "any date passes"}
		},
	}
	for seed := range uint64(50) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 24))
			var members, rules []string
			holes := map[string][]string{}
			add := func(at, name string, f field, guard int) string {
				put := func(rule string) { rules = append(rules, fmt.Sprintf("      %s: %s", at, rule)) }
				both := func(lead string) { put(fmt.Sprintf("[%s%s, %s%s]", lead, f.is, lead, f.equals)) }
				switch guard {
				case 0:
					holes[at] = []string{"nobody looks"}
				case 1:
					put(f.is)
					holes[at] = []string{f.any}
				case 2: // that it may be absent or null is said, and no hole
					both("optional null or ")
				default:
					both("")
				}
				if f.json[0] == '"' && guard == 1 { // an empty text is a text; what is empty is not a date
					if f.is == "is text" {
						holes[at] = append(holes[at], "it may be empty")
					}
				}
				return fmt.Sprintf("%q: %s", name, f.json)
			}
			members = append(members, add("id", "id", kinds[0](r), 3))
			for i := range 4 + r.IntN(6) {
				name := fmt.Sprintf("f%d", i)
				members = append(members, add(name, name, kinds[r.IntN(len(kinds))](r), r.IntN(6)))
			}
			inner := add("depot.name", "name", kinds[2](r), 3) + ", " + add("depot.crates", "crates", kinds[1](r), r.IntN(4))
			members = append(members, `"depot": {`+inner+`}`)
			sheet := "sheet: s\nsteps:\n  - step: get\n    request: GET ${base}/x\n    fields:\n" + strings.Join(rules, "\n") + "\n"
			found := doubted(t, newBench(t, sheet, serves("{"+strings.Join(members, ", ")+"}")), "sheet.yaml")
			told := map[string][]string{}
			for _, f := range found.Findings() {
				told[f.Path] = f.Words
			}
			assert.Equal(t, holes, told, sheet)
			assert.Equal(t, len(holes) == 0, found.Missed == 0)
			assert.Empty(t, found.Notes)
			assert.Empty(t, found.Idle)
		})
	}
}

// The changes that matter in lists, in later steps, in whole answers, and what is new each time.
func TestFindings(t *testing.T) {
	const lots = `{"lots": [{"id": 7, "grade": "A"}, {"id": 9, "grade": "B"}, {"id": 12, "grade": "A"}], "at": "NOW", "key": "UUID"}`
	serve := func(w http.ResponseWriter, r *http.Request) {
		id, _ := strings.CutPrefix(r.URL.Path, "/lots/")
		switch r.URL.Path {
		case "/lots":
			// A moment of today and a UUID are other ones in each answer: no value of theirs is missed.
			serves(strings.NewReplacer("NOW", time.Now().UTC().Format(time.RFC3339),
				"UUID", "0b1c7d52-9d0f-4a55-9f0e-2a3d8c1b7e66").Replace(lots))(w, r)
		case "/echo":
			body, _ := io.ReadAll(r.Body)
			serves(string(body))(w, r)
		default:
			serves(`{"id": `+id+`, "state": "ripe"}`)(w, r)
		}
	}
	for _, c := range []struct {
		name, steps string
		told        map[string]string // step and path: what is said of it
	}{
		{"a list of which the count alone is looked at", `
  - step: list
    request: GET ${base}/lots
    fields: {lots: count 3}`, map[string]string{
			"list lots": "its elements may come in another order", "list lots[*].id": "nobody looks",
			"list lots[*].grade": "nobody looks", "list at": "nobody looks", "list key": "nobody looks",
		}},
		{"the first element alone is looked at", `
  - step: list
    request: GET ${base}/lots
    fields:
      lots: count 3
      lots[0].id: [is number, 7]
      lots[*].grade: [is text, one of A or B]
      at: is datetime
      key: is uuid`, map[string]string{
			"list lots[*].id": "other values pass: 7 in place of 12, 13 in place of 12; it may be missing; it may be null; " +
				"it may be of another type",
		}},
		{"a later step asks for what was kept, and what it would get is not known", `
  - step: list
    request: GET ${base}/lots
    fields:
      lots[*].id: is number
      at: is datetime
      key: is uuid
      lots[*].grade: [is text, one of A or B]
      lots: count 3
    keep: {id: "lots[0].id"}
  - step: one
    request: GET ${base}/lots/${id}
    fields: {id: "equals ${id}", state: [is text, ripe]}`, map[string]string{
			"list lots[*].id": "other values pass: 7 in place of 12, 13 in place of 12",
		}},
		{"values that the row itself makes anew come back", `
  - step: echo
    request: POST ${base}/echo
    body: {id: "${uuid}", at: "${now}", day: "${today}", run: "${run.id}"}
    fields:
      id: is uuid
      at: is datetime
      run: [is text, "${run.id}"]
      day: [is text, "${today}"]`, map[string]string{}},
		{"an error is asked for", `
  - step: none
    request: GET ${base}/none
    where: [kept.x == null]`, nil},
		{"conditions see what was changed", `
  - step: one
    request: GET ${base}/lots/3
    where: ['answer.state == "ripe"', answer.id == 3]`, map[string]string{}},
		{"a soft step notices nothing", `
  - step: one
    request: GET ${base}/lots/3
    soft: true
    fields: {id: [is number, 3], state: [is text, ripe]}`, map[string]string{
			"one ": "status 404 in place of 200: passes; status 500 in place of 200: passes; a page to sign in, status 200: " +
				"passes; Content-Type text/html; charset=utf-8 in place of application/json: passes; no body: passes; an error, " +
				"with the same status: passes",
			"one id": "nobody looks", "one state": "nobody looks",
		}},
	} {
		if c.told == nil {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			found := doubted(t, newBench(t, "sheet: s\nsteps:"+c.steps+"\n", serve), "sheet.yaml")
			told := map[string]string{}
			for _, f := range found.Findings() {
				told[f.Step+" "+f.Path] = strings.Join(f.Words, "; ")
			}
			assert.Equal(t, c.told, told)
			assert.Empty(t, found.Notes)
		})
	}
}

// A page is not changed into what it is.
func TestAnotherType(t *testing.T) {
	found := doubted(t, newBench(t, "sheet: s\nsteps:\n  - step: page\n    request: GET ${base}/\n",
		func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte("<!doctype html><title>Lots</title><p>12</p>"))
		}), "sheet.yaml")
	words := strings.Join(found.Findings()[0].Words, "; ")
	assert.Contains(t, words, "Content-Type application/octet-stream in place of text/html; charset=utf-8: passes")
	assert.NotContains(t, words, "Content-Type text/html")
}

// ask is one of several requests that are alike.
type ask struct {
	line string
	nth  int
}

// A proxy between the program and the stand-in that changes the same thing of the same answer is noticed in the same
// way.
func TestSameAsAProxy(t *testing.T) {
	dir := t.TempDir()
	server, err := standin.Start("127.0.0.1:0", standin.Options{Books: filepath.Join(dir, demo.BooksFile)})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	var mutex sync.Mutex
	var changed ask // the exchange whose answer is changed
	var instead func() *exchange.Answer
	came := map[string][]time.Time{}
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		arrived := time.Now()
		body, _ := io.ReadAll(r.Body)
		again, _ := http.NewRequestWithContext(r.Context(), r.Method, "http://"+server.Address+r.URL.String(), bytes.NewReader(body))
		again.Header = r.Header
		answer, err := http.DefaultTransport.RoundTrip(again)
		if err != nil {
			panic(err)
		}
		defer func() { _ = answer.Body.Close() }()
		content, _ := io.ReadAll(answer.Body)
		header, status := answer.Header, answer.StatusCode
		mutex.Lock()
		line := r.Method + r.URL.RequestURI() + string(body)
		came[line] = append(came[line], arrived)
		if line == changed.line && len(came[line]) == changed.nth {
			other := instead()
			header, status, content = other.Header, other.Status, other.Body
		}
		mutex.Unlock()
		maps.Copy(w.Header(), header)
		w.Header().Del("Content-Length")
		w.Header().Del("Content-Encoding")
		w.WriteHeader(status)
		_, _ = w.Write(content)
	}))
	t.Cleanup(proxy.Close)
	require.NoError(t, demo.Write(dir, proxy.URL))
	for name, text := range standin.Secrets {
		t.Setenv("TESTBENCH_SEALED_"+strings.ToUpper(name), text)
	}
	bench, err := workbench.Open(dir)
	require.NoError(t, err)
	judged := 0
	for _, name := range []string{"sheets/01-search.yaml", "sheets/05-refused.yaml", "sheets/12-much-at-once.yaml"} {
		mutex.Lock()
		came, changed = map[string][]time.Time{}, ask{}
		mutex.Unlock()
		found := doubted(t, bench, name)
		recorded := came
		for i, tried := range found.AllTried() {
			if tried.Verdict == "unknown" || i%3 != 0 && len(found.AllTried()) > 150 {
				continue
			}
			judged++
			mutex.Lock()
			line := tried.Asked.Request.Method + tried.Asked.Request.URL.RequestURI() + string(tried.Asked.Request.Body)
			nth := 1
			for _, at := range recorded[line] {
				if at.Before(tried.Asked.Started) {
					nth++
				}
			}
			instead, changed, came = tried.Answer, ask{line, nth}, map[string][]time.Time{}
			mutex.Unlock()
			result, err := bench.Run(t.Context(), []string{filepath.Join(dir, name)}, workbench.RunOptions{Unrecorded: true})
			require.NoError(t, err)
			verdict := map[bool]string{true: "missed", false: "noticed"}[result.Outcome == workbench.Passed]
			assert.Equal(t, tried.Verdict, verdict, "%s: %s %s %s", name, tried.Step, tried.Path, tried.What)
		}
	}
	assert.Greater(t, judged, 150)
}

// The rules that are proposed were seen to notice what is missed, hold for what was recorded, and are put into the
// sheet; a sample says that it is one.
func TestRulesOfTheHistory(t *testing.T) {
	const sheet = "sheet: s\nsteps:\n  - step: get\n    request: GET ${base}/x\n    fields:\n      total: is number\n"
	bench := newBench(t, sheet, serves(`{"total": 12.5, "lines": [{"n": 1, "what": "comb"}, {"n": 2, "what": "frame"}]}`))
	for range 3 {
		result, err := bench.Run(t.Context(), []string{filepath.Join(bench.Dir, "sheet.yaml")}, workbench.RunOptions{})
		require.NoError(t, err)
		require.NoError(t, result.Close())
	}
	all, err := bench.Doubt(t.Context(), workbench.DoubtOptions{})
	require.NoError(t, err)
	require.Len(t, all, 1)
	rules := map[string][]string{}
	for _, f := range all[0].Findings() {
		rules[f.Path] = f.Rules
	}
	assert.Equal(t, []string{"equals 12.5"}, rules["total"])
	assert.Equal(t, []string{"is list", "count 2"}, rules["lines"])
	assert.Greater(t, all[0].ByRules, all[0].Missed/2)
	assert.Less(t, all[0].ByRules, all[0].Missed, "the order of the lines has no rule")
	few, err := bench.Doubt(t.Context(), workbench.DoubtOptions{Most: 10, Sheets: []string{"sheet.yaml"}})
	require.NoError(t, err)
	assert.Equal(t, []int{10, all[0].Of}, []int{few[0].Tried, few[0].Of})
	for _, o := range []workbench.DoubtOptions{{Run: 9}, {Sheets: []string{"none.yaml"}}, {Options: workbench.Options{Site: "moon"}}} {
		_, err := bench.Doubt(t.Context(), o)
		assert.Error(t, err)
	}
	assert.True(t, slices.ContainsFunc(all[0].Fields, func(f *doubt.Field) bool { return f.Path == "" && f.Noticed > 0 }))
}

// What a step finds in a folder is changed as an answer is; it has no status.
func TestWhatIsFound(t *testing.T) {
	bench := newBench(t, "sheet: s\nsteps:\n  - step: list\n    lookup: inbox\n    open: lots.csv\n    fields:\n      answer: count 2\n"+
		"      answer[*].lot: is unique\n", serves("{}"))
	for name, text := range map[string]string{
		"bench.yaml":     "bench: t\nsites: {local: {}}\nservices: {}\ndatabases:\n  inbox: {kind: folder, address: inbox}\n",
		"inbox/lots.csv": "lot,kilos\nL-1,40\nL-2,12.5\n",
	} {
		full := filepath.Join(bench.Dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o700))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o600))
	}
	bench, err := workbench.Open(bench.Dir)
	require.NoError(t, err)
	found := doubted(t, bench, "sheet.yaml")
	told := map[string]string{}
	for _, f := range found.Findings() {
		told[f.Path] = strings.Join(f.Words, "; ")
	}
	assert.Equal(t, "nobody looks", told["answer[*].kilos"])
	assert.NotContains(t, told, "")
	assert.Contains(t, told["answer[*].lot"], "it may be of another type")
	assert.Positive(t, found.Noticed)
}

// A sheet of fifty steps with an answer of twenty fields each.
func BenchmarkFiftySteps(b *testing.B) {
	var steps, members strings.Builder
	for i := range 20 {
		fmt.Fprintf(&members, `, "f%d": %d.5`, i, i)
	}
	for i := range 50 {
		fmt.Fprintf(&steps, "  - step: s%d\n    request: GET ${base}/x\n    fields: {f0: 0.5, f1: is number}\n", i)
	}
	bench := newBench(b, "sheet: s\nsteps:\n"+steps.String(), serves(`{"id": 7`+members.String()+`}`))
	result, err := bench.Run(b.Context(), []string{filepath.Join(bench.Dir, "sheet.yaml")}, workbench.RunOptions{})
	require.NoError(b, err)
	require.NoError(b, result.Close())
	for b.Loop() {
		all, err := bench.Doubt(b.Context(), workbench.DoubtOptions{})
		require.NoError(b, err)
		b.ReportMetric(float64(all[0].Tried), "changes")
	}
}

// Another value of an enumeration is tried by the contract, and values of other rows.
func TestValuesOfOthers(t *testing.T) {
	const contract = `openapi: 3.0.3
info: {title: t, version: "1"}
paths:
  /lots/{id}:
    get:
      operationId: lot
      parameters: [{name: id, in: path, required: true, schema: {type: integer}}]
      responses:
        "200":
          description: ok
          content: {application/json: {schema: {type: object, required: [grade, keeper], properties: {
            grade: {type: string, enum: [A, B, C]}, keeper: {type: string}, n: {type: integer}}}}}
`
	bench := newBench(t, "sheet: s\nrows:\n  list: [{id: 1}, {id: 2}]\nsteps:\n  - step: lot\n    call: s/lot\n    fill: {id: \"${row.id}\"}\n    fields: {n: \"${row.id}\"}\n",
		func(w http.ResponseWriter, r *http.Request) {
			id := strings.TrimPrefix(r.URL.Path, "/lots/")
			serves(`{"grade": "A", "keeper": "Keeper `+id+`", "n": `+id+`}`)(w, r)
		})
	data, err := os.ReadFile(filepath.Join(bench.Dir, "bench.yaml"))
	require.NoError(t, err)
	text := strings.Replace(string(data), "services: {}", "services:\n  s: {contract: c.yaml, address: \"${base}\"}", 1)
	require.NoError(t, os.WriteFile(filepath.Join(bench.Dir, "bench.yaml"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(bench.Dir, "c.yaml"), []byte(contract), 0o600))
	bench, err = workbench.Open(bench.Dir)
	require.NoError(t, err)
	found := doubted(t, bench, "sheet.yaml")
	told := map[string]string{}
	for _, f := range found.Findings() {
		told[f.Path] = strings.Join(f.Words, "; ")
	}
	assert.Equal(t, map[string]string{
		"grade":  "other values pass: B in place of A",
		"keeper": "any text passes; it may be empty",
	}, told)
	assert.True(t, slices.ContainsFunc(found.AllTried(), func(tried doubt.Tried) bool {
		return tried.What == "Keeper 2 in place of Keeper 1"
	}), "of the other row")
}
