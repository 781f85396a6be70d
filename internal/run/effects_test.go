package run_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/callback"
	"testbench/internal/mapping"
	"testbench/internal/run"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// watched is the stand-in behind a proxy that writes down what it is sent. Headers of a
// request make it do more: X-Moved redirects it, X-Flaky refuses its first try, X-Pages
// links to a second page.
type watched struct {
	*httptest.Server
	mutex sync.Mutex
	seen  []string
	tries int
}

// volatile is what differs from one run to another though nothing else does.
var volatile = regexp.MustCompile(
	`[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f-]{22}|eyJ[\w.-]+|[0-9a-f]{40,}|PO-[0-9]+|\d{4}-\d\d-\d\dT[0-9:.]+(Z|[+-]\d\d:\d\d)|J-[0-9]+|127\.0\.0\.1:[0-9]+|[0-9.]+ m?s\b|in-\d+|callback/[^ "]+`)

func watch(t *testing.T) *watched {
	t.Helper()
	inner, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	target, err := url.Parse("http://" + inner.Address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	w := &watched{}
	var calls sync.WaitGroup
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		first := w.add(r, body)
		moved := strings.HasPrefix(r.URL.Path, "/moved")
		r.URL.Path = strings.TrimPrefix(r.URL.Path, "/moved")
		switch {
		case r.Header.Get("X-Moved") != "" && !moved:
			http.Redirect(rw, r, "/moved"+r.URL.RequestURI(), http.StatusTemporaryRedirect)
		case r.Header.Get("X-Flaky") != "" && first:
			rw.WriteHeader(http.StatusServiceUnavailable)
		case r.Header.Get("X-Pages") != "" && !strings.Contains(r.URL.RawQuery, "page=2"):
			rw.Header().Set("Link", "<"+r.URL.Path+"?page=2>; rel=\"next\"")
			rw.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(rw, `[{"n": 1}]`)
		case r.Header.Get("X-Say") == "fault":
			rw.Header().Set("Content-Type", "text/xml")
			rw.WriteHeader(http.StatusInternalServerError)
			_, _ = io.WriteString(rw,
				`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no</faultstring></s:Fault></s:Body></s:Envelope>`)
		case r.Header.Get("X-Say") == "error":
			rw.Header().Set("Content-Type", "application/json")
			rw.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(rw, `{"Error": {"Code": "E1", "Message": "no"}}`)
		case r.Header.Get("X-Say") == "busy":
			rw.WriteHeader(http.StatusServiceUnavailable)
		case r.Header.Get("X-Say") == "slow":
			select {
			case <-r.Context().Done():
			case <-time.After(200 * time.Millisecond):
			}
		case r.Header.Get("X-Say") == "teapot":
			rw.WriteHeader(http.StatusTeapot)
		case strings.HasPrefix(r.URL.Path, "/echo"):
			rw.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(rw).Encode(map[string]any{
				"path": r.URL.Path, "body": string(body), "n": 3,
				"list": []int{1, 2},
			})
		case r.URL.Path == "/callme":
			var asked struct{ URL, Body string }
			_ = json.Unmarshal(body, &asked)
			rw.WriteHeader(http.StatusAccepted)
			calls.Go(func() {
				if answer, err := http.Post(asked.URL, "application/json", strings.NewReader(asked.Body)); err == nil {
					_ = answer.Body.Close()
				}
			})
		default:
			proxy.ServeHTTP(rw, r)
		}
	}))
	t.Cleanup(func() {
		calls.Wait()
		w.Close()
		inner.Close()
	})
	return w
}

// add writes a request down, and says whether it is the first since the last look.
func (w *watched) add(r *http.Request, body []byte) bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if strings.HasPrefix(r.URL.Path, "/gate") {
		return false // how a token is got is not a step's doing
	}
	var head []string
	for _, name := range slices.Sorted(maps.Keys(r.Header)) {
		if name != "Authorization" || r.Header.Get(name) == "" {
			head = append(head, fmt.Sprintf("%s: %v", name, r.Header[name]))
		} else {
			head = append(head, "Authorization")
		}
	}
	w.seen = append(w.seen, fmt.Sprintf("%s %s %s %v %s", r.Method, r.RequestURI, r.Proto, head, body))
	w.tries++
	return w.tries == 1
}

func (w *watched) take() []string {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	seen := w.seen
	w.seen, w.tries = nil, 0
	return seen
}

// effects is a bench whose runs are looked at.
type effects struct {
	*watched
	dir   string
	bench *bench.Bench
	tags  []string  // by which steps are chosen
	share run.Share // which part of the rows is run
}

func newEffects(t *testing.T) *effects {
	t.Helper()
	e := &effects{watched: watch(t), dir: t.TempDir()}
	require.NoError(t, demo.Write(e.dir, e.URL))
	file, err := os.OpenFile(filepath.Join(e.dir, "bench.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString("checks:\n  truism:\n    where: 1 == 1\nfills:\n  seven:\n    id: 7\n  of_lot:\n    lot: L-7\n")
	require.NoError(t, errors.Join(err, file.Close()))
	e.addToBench(t, `services:
  echo:
    address: ${base}/echo
    operations:
      post:
        request: POST /it
      get:
        request: GET /it/{id}
        query:
          grade: optional
`)
	for name, text := range map[string]string{
		"same.json": `{"list": [1, 2], "n": 3.0}`, "other.json": `{"list": [1, 2], "n": 4}`,
		"b.txt": "plain", "b.json": `{"a": 1}`, "data/south.csv": "a\n1\n", "data/two.csv": "n,m\n1,a\n2,b\n",
		"sheets/inner.yaml": `sheet: inner
takes:
  lot: L-0
steps:
  - step: ask
    request: GET ${base}/echo/${lot}
    keep:
      came: path
`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(e.dir, filepath.FromSlash(name)), []byte(text), 0o600))
	}
	return e
}

// addToBench puts entries below the first line of theirs into the bench file.
func (e *effects) addToBench(t *testing.T, text string) {
	t.Helper()
	name := filepath.Join(e.dir, "bench.yaml")
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	head, rest, _ := strings.Cut(text, "\n")
	changed := strings.Replace(string(data), "\n"+head+"\n", "\n"+text, 1)
	require.NotEqual(t, string(data), changed)
	_ = rest
	require.NoError(t, os.WriteFile(name, []byte(changed), 0o600))
}

// of runs a sheet and gives all that could be seen of it: the mistakes that were found
// before, else what the services were sent and what came of the steps.
func (e *effects) of(t *testing.T, text string) (said string, problems []string) {
	t.Helper()
	opened := e.bench
	if opened == nil { // where it is the same for all, it is read once
		var err error
		opened, err = bench.Open(e.dir)
		require.NoError(t, err)
		for _, p := range slices.Concat(opened.Problems().Serious(), vet.Bench(opened, vet.Options{}).Serious()) {
			problems = append(problems, p.Message)
		}
	}
	read := sheet.Read(opened, filepath.Join(e.dir, "sheets", "test.yaml"), []byte(text), step.Kinds)
	for _, p := range vet.Sheet(read, vet.Options{}).Serious() {
		problems = append(problems, p.Message)
	}
	if len(problems) > 0 {
		return strings.Join(problems, "\n"), problems
	}
	receiver := &callback.Receiver{}
	defer func() { _ = receiver.Close() }()
	session, err := session.NewSession(opened,
		session.Options{
			Site: read.Site, Receiver: receiver,
			Store: &secret.Store{Environ: func(name string) (string, bool) {
				text, ok := standin.Secrets[strings.ToLower(strings.TrimPrefix(name, "TESTBENCH_SEALED_"))]
				return text, ok
			}},
		})
	if err != nil {
		return err.Error(), nil
	}
	e.take()
	results := run.Run(t.Context(), nil, []*run.Job{{Session: session, Sheet: read}}, run.RunOptions{Tags: e.tags, Share: e.share})
	require.NoError(t, session.Close(t.Context()))
	out := slices.Clone(session.Notes)
	for _, one := range results {
		for _, row := range one.Rows {
			for _, step := range row.Steps {
				out = append(out, fmt.Sprintf("%s %s | %s | %s | %s | %q | kept %v | %v", row.Label, step.Name,
					step.Target, step.About, step.Outcome, step.Reason, step.Kept, step.Notes))
				for _, c := range step.Checks {
					out = append(out, fmt.Sprintf("  %s %s %v %v expected %s got %s", c.Kind, c.Subject, c.Passed,
						c.Judged,
						c.Expected, c.Got))
				}
				for _, record := range step.Exchanges {
					out = append(out, fmt.Sprintf("  notes %v", record.Notes))
				}
			}
		}
		for _, c := range one.Checks {
			out = append(out, fmt.Sprintf("of the sheet: %s %v", c.Subject, c.Passed))
		}
	}
	return volatile.ReplaceAllString(strings.Join(append(out, e.take()...), "\n"), "…"), nil
}

// indented puts a text below the dash of a step.
func indented(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n    ") + "\n"
}

// bases are steps of each kind that hold, without any other key.
var bases = map[string]string{
	"call":      "call: echo/post",
	"request":   "request: echo POST /it",
	"follow":    "follow: ${base}/echo/it",
	"set":       "set:\n  x: 1",
	"calculate": "calculate:\n  x: 1 + 1",
	"pause":     "pause: 1 ms",
	"steps":     "steps:\n  - step: inside\n    request: GET ${base}/echo/in",
	"lookup":    "lookup: inbox\nfind: two.csv",
	"sheet":     "sheet: sheets/inner.yaml",
	"listen":    "listen: POST",
	"batch":     "batch: ledger\nparts:\n  - step: part\n    call: ledger/Suppliers.list",
}

// soapBases are those that are SOAP, for the keys that only SOAP has.
var soapBases = map[string]string{
	"call":    "call: lab/GradeLot\ntext: <GradeLot xmlns=\"urn:heatherfold:lab\"><lot>L-2201</lot><moisture>17</moisture></GradeLot>",
	"request": "request: lab POST\ntext: <GradeLot xmlns=\"urn:heatherfold:lab\"><lot>L-2201</lot><moisture>17</moisture></GradeLot>",
	"follow":  "follow: ${base}/lab\nservice: lab\ntext: <GradeLot xmlns=\"urn:heatherfold:lab\"><lot>L-2201</lot><moisture>17</moisture></GradeLot>",
}

// effect is a key of a step with what shows that it has one: a step with it must come out
// in another way than one without it.
type effect struct {
	with    string            // the key
	without string            // what is there in its place; empty for nothing
	beside  string            // what else both have
	bases   map[string]string // other steps than the usual ones, by kind
}

var effectsOfKeys = map[string]effect{
	"about":    {with: "about: shown"},
	"when":     {with: "when: 1 == 2"},
	"stop":     {with: "stop: row", bases: failing},
	"skip":     {with: "skip: not now"},
	"once":     {with: "once: true"}, // on the second of two machines, before the rows
	"tags":     {with: "tags: [chosen, other]", without: "tags: other"},
	"soft":     {with: "soft: true", bases: failing},
	"timeout":  {with: "timeout: 0.001 ms"},
	"for each": {with: "for each: ${row.list}"},
	"site":     {with: "site: south", bases: atSites},
	"login": {
		with: "login: none",
		bases: map[string]string{
			"call": "call: stores/search", "request": "request: stores GET /lots",
			"follow": "follow: ${base}/stores/lots\nservice: stores",
		},
	},
	"http":       {with: "http: 2"},
	"stream":     {with: "stream: {most: 1}"},
	"answer as":  {with: "answer as: text", beside: "fields:\n  n: is present"},
	"redirects":  {with: "redirects: off", beside: "headers:\n  X-Moved: yes"},
	"headers":    {with: "headers:\n  X-Odd: a"},
	"query":      {with: "query:\n  q: a"},
	"cookies":    {with: "cookies:\n  c: a"},
	"soap":       {with: "soap: 1.2", bases: soapBases},
	"port":       {with: "port: LabPort12", bases: map[string]string{"call": "call: lab/GradeLot\nfill:\n  lot: L-2201\n  moisture: 17"}},
	"action":     {with: "action: urn:odd", bases: soapBases},
	"addressing": {with: "addressing: true", bases: soapBases},
	"blocks":     {with: "blocks:\n  lab:Odd: a", bases: soapBases},
	"attach":     {with: "attach:\n  - file: b.txt", bases: soapBases},
	"body":       {with: "body:\n  a: 1"},
	"text":       {with: "text: a"},
	"file":       {with: "file: b.json"},
	"bytes":      {with: "bytes: b.txt"},
	"form":       {with: "form:\n  a: 1"},
	"parts":      {with: "parts:\n  - name: a\n    value: b"},
	"drop empty": {with: "drop empty: true", beside: "query:\n  a: \"\""},
	"pages":      {with: "pages: 2", beside: "headers:\n  X-Pages: yes"},
	"until":      {with: "until:\n  n: over 99", beside: "", bases: nil},
	"every":      {with: "every: 10 ms", beside: "until:\n  n: over 99\nwithin: 500 ms", without: "every: 10 s"},
	"within":     {with: "within: 1 ms", beside: "until:\n  n: over 99\nevery: 10 ms", without: "within: 500 ms"},
	"states":     {with: "states:\n  of: n\n  allowed:\n    - 3", beside: "until:\n  n: 3"},
	"again":      {with: "again: 2", beside: "headers:\n  X-Flaky: yes"},
	"undo":       {with: "undo:\n  request: GET ${base}/echo/undone"},
	"keep":       {with: "keep:\n  k: path"},
	"expect":     {with: "expect:\n  time: under 1 min"},
	"fields":     {with: "fields:\n  answer: is present"},
	"where":      {with: "where:\n  - 1 == 1"},
	"checks":     {with: "checks: truism"},
	"fills": {
		with: "fills: seven",
		bases: map[string]string{
			"call": "call: echo/get", "sheet": "sheet: sheets/inner.yaml",
			"lookup": "lookup: books\nsql: select :id as n",
		},
	},
	"fill": {
		with: "fill:\n  id: 7",
		bases: map[string]string{
			"call": "call: echo/get", "sheet": "sheet: sheets/inner.yaml",
			"lookup": "lookup: books\nsql: select :id as n",
		},
	},
	"contract": {with: "contract: off", bases: map[string]string{"call": "call: stores/search\nfill:\n  grade: Z"}},
	"service":  {with: "service: stores", bases: map[string]string{"follow": "follow: ${base}/stores/lots"}},
	"sql":      {with: "sql: select 1 as n", without: "", bases: map[string]string{"lookup": "lookup: books"}},
	"find":     {with: "find: two.csv", bases: map[string]string{"lookup": "lookup: inbox"}},
	"open":     {with: "open: two.csv", bases: map[string]string{"lookup": "lookup: inbox"}},
	"as":       {with: "as: json"},
	"together": {
		with: "together: true",
		bases: map[string]string{"batch": `batch: ledger
parts:
  - step: part
    call: ledger/Suppliers.create
    fill:
      name: Moor
      city: Heatherfold
      since: 2020-01-01`},
	},
	"step": {with: "step: another"},
}

var failing = map[string]string{
	"call": bases["call"] + "\nexpect:\n  status: 500", "request": bases["request"] + "\nexpect:\n  status: 500",
	"follow": bases["follow"] + "\nexpect:\n  status: 500",
	"set":    bases["set"] + "\nwhere:\n  - 1 == 2", "calculate": bases["calculate"] + "\nwhere:\n  - 1 == 2",
	"steps":  "steps:\n  - step: inside\n    request: GET ${base}/echo/in\n    expect:\n      status: 500",
	"lookup": bases["lookup"] + "\nwhere:\n  - 1 == 2",
	"sheet":  bases["sheet"] + "\nwhere:\n  - 1 == 2", "listen": bases["listen"] + "\nwhere:\n  - 1 == 2",
	"batch": bases["batch"] + "\nexpect:\n  status: 500",
}

var atSites = map[string]string{
	"call": "call: stores/search", "request": "request: stores GET /lots",
	"follow":    "follow: ${base}/stores/lots\nservice: stores",
	"set":       "set:\n  x: ${site.depot}\nwhere:\n  - kept.x == 'north'",
	"calculate": "calculate:\n  x: site.depot\nwhere:\n  - kept.x == 'north'",
	"lookup":    "lookup: inbox\nfind: ${site.depot}.csv\nfields:\n  answer: count 0\nexpect:\n  time: under 1 min",
	"batch": `batch: ledger
headers:
  X-Depot: ${site.depot}
parts:
  - step: part
    call: ledger/Suppliers.list`,
}

// particular are effects of a key that one kind alone shows in another way.
var particular = map[string]effect{
	"lookup until": {
		with: "until:\n  answer: count 9", beside: "within: 20 ms\nevery: 5 ms",
		without: "until:\n  answer: count 1",
	},
	"lookup every": {
		with: "every: 5 ms", beside: "until:\n  answer: count 9\nwithin: 500 ms",
		without: "every: 10 s",
	},
	"lookup within": {
		with: "within: 1 ms", beside: "until:\n  answer: count 9\nevery: 5 ms",
		without: "within: 500 ms",
	},
	"lookup states": {
		with:   "states:\n  of: answer[0].name\n  allowed:\n    - two.csv",
		beside: "until:\n  answer: count 1",
	},
	"lookup keep":   {with: "keep:\n  k: answer"},
	"sheet keep":    {with: "keep:\n  k: came"},
	"listen until":  {with: "until:\n  n: over 99", beside: "within: 50 ms"},
	"listen within": {with: "within: 1 min", beside: "until:\n  n: 3", without: "within: 1 ms"},
	"listen states": {with: "states:\n  of: n\n  allowed:\n    - 3"},
	"listen keep":   {with: "keep:\n  k: n"},
	"listen when":   {with: "when: 1 == 2", beside: "within: 500 ms"},
	"batch parts": {
		with:  bases["batch"][strings.Index(bases["batch"], "parts:"):],
		bases: map[string]string{"batch": "batch: ledger"},
	},
	"sheet fills":    {with: "fills: of_lot"},
	"sheet fill":     {with: "fill:\n  lot: L-7"},
	"batch keep":     {with: "keep:\n  k: reply.status"},
	"call until":     {with: "until:\n  n: over 99", beside: "within: 50 ms\nevery: 10 ms", without: "until:\n  n: 3"},
	"request until":  {with: "until:\n  n: over 99", beside: "within: 50 ms\nevery: 10 ms", without: "until:\n  n: 3"},
	"follow until":   {with: "until:\n  n: over 99", beside: "within: 50 ms\nevery: 10 ms", without: "until:\n  n: 3"},
	"pause for each": {with: "for each: ${row.list}"},
}

// Each key of a step has an effect at each kind of step that takes it, and is a mistake at
// all others: the tables themselves say which these are.
func TestEachKeyOfAStepHasAnEffectOrIsRefused(t *testing.T) {
	e := newEffects(t)
	var err error
	e.bench, err = bench.Open(e.dir)
	require.NoError(t, err)
	before := "sheet: test\nrows:\n  list:\n    - list:\n        - 1\n        - 2\nsteps:\n"
	call := `  - step: ask for a call
    request: POST ${base}/callme
    body:
      url: ${callback.NAME}
      body: "{\"n\": 3}"
`
	after := "  - step: after\n    request: GET ${base}/echo/after\n"
	written := func(kind, name string, parts ...string) string {
		lead := before
		if kind == "listen" {
			lead += strings.ReplaceAll(call, "NAME", name)
		}
		text := "  - step: " + name + "\n"
		for _, part := range parts {
			if part != "" {
				text += indented(part)
			}
		}
		return lead + text + after
	}
	for _, kind := range step.Kinds {
		word, allowed := kind.Word, kind.Keys()
		for _, name := range mapping.KeyNames(sheet.StepKeys(step.Kinds)) {
			if name == word {
				continue
			}
			t.Run(word+" "+name, func(t *testing.T) {
				c, ok := particular[word+" "+name]
				if !ok {
					c, ok = effectsOfKeys[name]
				}
				base := bases[word]
				if other, has := c.bases[word]; has {
					base = other
				}
				if !slices.Contains(allowed, name) {
					if with := kindsStep(name); with != "" {
						c.with = with
					}
					require.NotEmpty(t, c.with, "the key %s has no effect that is tried here", name)
					_, problems := e.of(t, written(word, "it", bases[word], c.with))
					said := strings.Join(problems, "\n")
					if bases[name] != "" {
						assert.Contains(t, said, "does more than one thing")
					} else {
						assert.Contains(t, said, kind.What+" has no "+name)
					}
					return
				}
				require.True(t, ok, "the key %s has no effect that is tried here", name)
				if e.tags = nil; name == "tags" {
					e.tags = []string{"chosen"}
				}
				place := func(text string) string { return text }
				if e.share = (run.Share{}); name == "once" {
					e.share = run.Share{I: 2, N: 2}
					place = func(text string) string {
						text = strings.Replace(text, "steps:\n", "first:\n", 1)
						text = strings.Replace(text, after, "steps:\n"+after, 1)
						return strings.Replace(text, "list:\n", "list:\n    - list: [1]\n    - list: [1]\n", 1)
					}
				}
				step := "it"
				with := c.with
				if name == "step" {
					step, with = "another", ""
				}
				one, _ := e.of(t, place(written(word, "it", base, c.beside, c.without)))
				other, problems := e.of(t, place(written(word, step, base, c.beside, with)))
				assert.Empty(t, problems, "with it")
				assert.NotEqual(t, one, other, "the key %s has no effect at %s", name, word)
			})
		}
	}
}

// kindsStep is the key of a kind as it is written, "" for what is not a kind.
func kindsStep(name string) string {
	if base, ok := bases[name]; ok {
		first, _, _ := strings.Cut(base, "\nfind:")
		return first
	}
	return ""
}
