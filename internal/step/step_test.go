package step

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// sender answers what is asked by the end of its path, and notes it.
type sender struct {
	asked   []string
	answers map[string][]answer // one after the other; the last one again and again
}

type answer struct {
	status int
	body   string
}

func (s *sender) Do(_ context.Context, r *exchange.Request) *exchange.Record {
	line := r.Method + " " + r.URL.RequestURI() + strings.TrimSuffix(" "+string(r.Body), " ")
	if version := r.GetHeader("If-Match"); version != "" {
		line += " of " + version
	}
	s.asked = append(s.asked, line)
	record := &exchange.Record{Request: r, Started: time.Now()}
	path := r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:]
	left := s.answers[path]
	if len(left) == 0 {
		record.Failure = &exchange.Failure{Kind: exchange.Refused, Message: "nobody is there"}
		return record
	}
	if len(left) > 1 {
		s.answers[path] = left[1:]
	}
	body := strings.ReplaceAll(left[0].body, "\n", "\r\n")
	header := http.Header{"Content-Type": {"application/json"}}
	if strings.HasPrefix(body, "--b") {
		header.Set("Content-Type", "multipart/mixed; boundary=b")
	}
	record.Answer = &exchange.Answer{Status: left[0].status, Proto: "HTTP/1.1", Header: header, Body: []byte(body)}
	return record
}

func (s *sender) Single() exchange.Sender { return s }

func (s *sender) Close() {}

// row is one in which steps of a test run. Each part that is not said otherwise is that of a
// row on its own.
type row struct {
	t       *testing.T
	of      *session.Session
	kept    map[string]*document.Node
	results []*result.Step
	sites   []string // that were asked for
	leftOut string
	dry     bool
	would   []string
	over    func() bool
	inner   func(given map[string]*document.Node) (*document.Node, result.Outcome)
}

func newBench(t *testing.T) (*bench.Bench, string) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"bench.yaml": `bench: b
sites:
  here: {}
  there: {}
services:
  hives:
    address: http://hives.example/v1
    operations:
      weigh:
        request: GET /hives/{hive}
` +
			`  ledger:
    address: http://ledger.example/odata
    contract: ledger.xml
databases:
  stock:
    kind: folder
    address: stock
`,
		"ledger.xml": `<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices><Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="L">
<EntityType Name="Hive"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.String" Nullable="false"/><Property Name="kilos" Type="Edm.Int32"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="Hives" EntityType="L.Hive"/><EntitySet Name="Jars" EntityType="L.Hive"><Annotation Term="Org.OData.Core.V1.OptimisticConcurrency"><Collection/></Annotation></EntitySet></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`,
		"stock/jars.json":    `{"jars": 12}`,
		"stock/lids.xml":     `<lids><lid no="7"/></lids>`,
		"sheets/inner.yaml":  "sheet: inner\ntakes:\n  hive: required\nsteps:\n  - step: one\n    pause: 1 ms\n",
		"sheets/away.yaml":   "sheet: away\nsite: there\nsteps:\n  - step: one\n    pause: 1 ms\n",
		"sheets/broken.yaml": "sheet: broken\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	text, err := os.ReadFile(filepath.Join(dir, "bench.yaml"))
	require.NoError(t, err)
	b := bench.Read(dir, "bench.yaml", text)
	require.Empty(t, b.Problems().Serious())
	return b, dir
}

func newRow(t *testing.T, s *sender) *row {
	t.Helper()
	b, _ := newBench(t)
	of, err := session.NewSession(b,
		session.Options{Store: &secret.Store{}, Now: time.Now, Around: func(exchange.Sender) exchange.Sender {
			return s
		}})
	require.NoError(t, err)
	return &row{t: t, of: of, kept: map[string]*document.Node{}}
}

func (r *row) At(site string) (*session.Session, error) {
	r.sites = append(r.sites, site)
	return r.of.At(site)
}

func (r *row) Begin(_ *sheet.Step, of *session.Session) (*session.Values, string) {
	return of.Scope(nil, r.kept), r.leftOut
}

func (r *row) End(_ *sheet.Step, _ result.Outcome, results ...*result.Step) result.Outcome {
	outcome := result.NotRun
	for _, one := range results {
		r.Tell(one)
		outcome = result.Worst(outcome, one.Outcome)
	}
	return outcome
}

func (r *row) Tell(res *result.Step) { r.results = append(r.results, res) }

func (r *row) Skip(s *sheet.Step, name string, outcome result.Outcome, reason string) result.Outcome {
	return r.End(s, outcome, &result.Step{Name: name, Outcome: outcome, Reason: reason})
}

func (r *row) Carry(ctx context.Context, inner *sheet.Step, name string) result.Outcome {
	return Of(inner).Run(ctx, r, inner, name)
}

func (r *row) Sheet(_ context.Context, _ *session.Session, _ *sheet.Sheet, given map[string]*document.Node,
	_ string,
) (*document.Node, result.Outcome) {
	return r.inner(given)
}

func (r *row) IsOver(ctx context.Context) bool { return ctx.Err() != nil || r.over != nil && r.over() }

func (r *row) IsDry() bool { return r.dry }

func (r *row) WouldSend(res *result.Step, request *exchange.Request, reason string) {
	if r.dry && request != nil {
		reason = request.Method + " " + request.URL.String()
	}
	if r.dry {
		r.would = append(r.would, res.Name+": "+reason)
	}
}

func (r *row) Names() map[string]string { return nil }

func (r *row) Place() string { return "" }

func (r *row) Before(context.Context, *session.Session, *sheet.Step, *session.Values) {}

func (r *row) Calls() *Calls { return nil }

// told is what came of steps, a line each.
func (r *row) told() string {
	var out strings.Builder
	for _, res := range r.results {
		fmt.Fprintf(&out, "%s: %s", res.Name, res.Outcome)
		if res.Reason != "" {
			fmt.Fprintf(&out, " (%s)", res.Reason)
		}
		for _, c := range res.Checks {
			if c.Judged && !c.Passed {
				fmt.Fprintf(&out, "; %s expected %s, got %s", c.Subject, c.Expected, c.Got)
			}
		}
		if last := res.Last(); last != nil {
			for _, note := range last.Notes {
				fmt.Fprintf(&out, "; %s", note)
			}
		}
		out.WriteString("\n")
	}
	return out.String()
}

// Pauses before another try grow, to two minutes at most.
func TestPauses(t *testing.T) {
	for _, c := range []struct {
		pause  time.Duration
		grow   float64
		before time.Duration
		want   time.Duration
	}{
		{time.Second, 2, 0, time.Second},
		{time.Second, 2, time.Second, 2 * time.Second},
		{time.Second, 1, 3 * time.Second, 3 * time.Second},
		{time.Hour, 2, 0, 2 * time.Minute},
		{time.Second, 10, time.Minute, 2 * time.Minute},
	} {
		assert.Equal(t, c.want, nextPause(&sheet.Again{Pause: c.pause, Grow: c.grow}, c.before), "%v", c)
	}
}

// What could not be sent, or was interrupted, is not tried again, whatever the step says.
func TestWantsAgain(t *testing.T) {
	answered := &exchange.Record{Answer: &exchange.Answer{Status: 503}}
	all, err := rule.ParseStatus("5xx")
	require.NoError(t, err)
	a := &sheet.Again{Times: 9, On: []*rule.Status{all}, Refused: true, Failed: true}
	for name, c := range map[string]struct {
		outcome result.Outcome
		record  *exchange.Record
		want    bool
	}{
		"failed": {result.Failed, answered, true}, "passed": {result.Passed, answered, false},
		"interrupted": {result.Interrupted, answered, false}, "error": {result.Errored, answered, false},
		"not sent":     {result.Failed, nil, false},
		"refused":      {result.Unreachable, &exchange.Record{Failure: &exchange.Failure{}}, true},
		"not answered": {result.Failed, &exchange.Record{}, false},
	} {
		res := &result.Step{Outcome: c.outcome}
		if c.record != nil {
			res.Exchanges = []*exchange.Record{c.record}
		}
		assert.Equal(t, c.want, wantsAgain(a, res, nil), name)
	}
	assert.False(t, wantsAgain(&sheet.Again{Failed: true},
		&result.Step{Outcome: result.Unreachable, Exchanges: []*exchange.Record{{Failure: &exchange.Failure{}}}}, nil))
}

// What each kind of step does in its row: what it asks, keeps and says.
func TestKinds(t *testing.T) {
	batched := `--b
Content-Type: application/http

HTTP/1.1 201 Created
Content-Type: application/json

{"id": "H-1"}
--b--
`
	for _, c := range []struct {
		name, step string
		answers    map[string][]answer
		change     func(r *row)
		asked      []string
		kept       string
		told       string
		got        string // where it is looked at
	}{
		{
			name: "a call", step: "call: hives/weigh\nfill: {hive: H 1}\nkeep: {kilos: kilos}",
			answers: map[string][]answer{"H 1": {{200, `{"kilos": 31}`}}},
			asked:   []string{"GET /v1/hives/H%201"}, kept: "kilos=31", told: "it: passed\n",
		},
		{
			name: "a change asks for the version that it is meant for", step: "call: ledger/Jars.change\nfill: {id: H, kilos: 3}",
			answers: map[string][]answer{"Jars('H')": {{200, `{"@odata.etag": "W/\"7\"", "id": "H"}`}, {204, ""}}},
			asked:   []string{"GET /odata/Jars('H')", `PATCH /odata/Jars('H') {"kilos":3} of W/"7"`},
			told:    "it: passed; read first for its version: W/\"7\"\n",
		},
		{
			name: "a call that is told otherwise", step: "call: hives/weigh\nfill: {hive: H}\nfields: {kilos: over 40}",
			answers: map[string][]answer{"H": {{200, `{"kilos": 31}`}}},
			asked:   []string{"GET /v1/hives/H"}, told: "it: failed; kilos expected over 40, got 31\n",
		},
		{
			name: "a call that breaks the contract", step: "call: ledger/Hives.create\nfill: {id: H-1, kilos: many}",
			told: "it: failed (not sent); request expected as the operation is described, got kilos must be",
		},
		{
			name: "a call that breaks the contract, and is shown only", step: "call: ledger/Hives.create\nfill: {id: H-1, kilos: many}",
			change: func(r *row) { r.dry = true },
			told:   "it: failed (not sent); request expected as the operation is described, got kilos must be a whole number, and is \"many\"\nwould it: ",
		},
		{
			name: "a call that is shown only", step: "call: hives/weigh\nfill: {hive: H 1}",
			change: func(r *row) { r.dry = true },
			told:   "it: passed\nwould it: GET http://hives.example/v1/hives/H%201\n",
		},
		{
			name: "nobody is there", step: "request: hives GET /x", asked: []string{"GET /v1/x"},
			told: "it: unreachable (nobody is there)\n",
		},
		{
			name: "a refusal that a value wants", step: "request: hives GET /x\nexpect: {refused: '${why}'}",
			change: func(r *row) { r.kept["why"] = document.NewText("connection") }, told: "it: passed\n",
		},
		{
			name: "an answer that a value wants", step: "request: hives GET /x\nexpect: {refused: '${why}'}",
			change: func(r *row) {
				r.kept["why"] = document.NewText("")
			}, answers: map[string][]answer{"x": {{200, `{}`}}}, told: "it: passed\n",
		},
		{
			name: "a refusal of no kind", step: "request: hives GET /x\nexpect: {refused: '${why}'}",
			change: func(r *row) {
				r.kept["why"] = document.NewText("closed")
			}, answers: map[string][]answer{"x": {{200, `{}`}}},
			told: "it: error (refused: \"closed\" is not a kind of refusal",
		},
		{name: "what is left out", step: "request: hives GET /x", change: func(r *row) {
			r.leftOut = "kilos was not kept"
		}, told: "it: not run (kilos was not kept)\n"},
		{name: "a dry run", step: "request: hives GET /x", change: func(r *row) {
			r.dry = true
		}, told: "it: passed\nwould it: GET http://hives.example/v1/x\n"},
		{
			name: "again until it is well", step: "request: hives GET /x\nagain: {times: 4, pause: 1 ms}",
			answers: map[string][]answer{"x": {{503, `{}`}, {429, `{}`}, {200, `{}`}}},
			asked:   []string{"GET /v1/x", "GET /v1/x", "GET /v1/x"},
			told:    "it: passed; tried 3 times: 503, 429, 200\n",
		},
		{
			name: "again, and never well", step: "request: hives GET /x\nagain: {times: 2, pause: 1 ms}",
			answers: map[string][]answer{"x": {{503, `{}`}}},
			asked:   []string{"GET /v1/x", "GET /v1/x"},
			told:    "it: failed; status expected 2xx, got 503; tried 2 times: 503, 503\n",
		},
		{
			name:    "not again, as it may lock an account",
			step:    "request: hives GET /x\nagain: {times: 3, on: failed}",
			answers: map[string][]answer{"x": {{403, `{}`}}},
			asked:   []string{"GET /v1/x"}, told: "it: failed; status expected 2xx, got 403\n",
		},
		{
			name: "again, as it is named", step: "request: hives GET /x\nagain: {times: 2, on: 403, pause: 1 ms}",
			answers: map[string][]answer{"x": {{403, `{}`}, {200, `{}`}}},
			asked:   []string{"GET /v1/x", "GET /v1/x"}, told: "it: passed; tried 2 times: 403, 200\n",
		},
		{
			name:    "again by a condition",
			step:    "request: hives GET /x\nagain: {times: 3, when: answer.n < 2, pause: 1 ms}",
			answers: map[string][]answer{"x": {{200, `{"n": 1}`}, {200, `{"n": 2}`}}},
			asked:   []string{"GET /v1/x", "GET /v1/x"}, told: "it: passed; tried 2 times: 200, 200\n",
		},
		{
			name: "a path that holds an address", step: "request: hives GET /x?u=http://n.example/",
			answers: map[string][]answer{"x": {{200, `{}`}}},
			asked:   []string{"GET /v1/x?u=http://n.example/"}, told: "it: passed\n",
		},
		{
			name: "until something is so", step: "request: hives GET /x\nuntil: {n: 2}\nevery: 1 ms",
			answers: map[string][]answer{"x": {{200, `{"n": 1}`}, {200, `{"n": 2}`}}},
			asked:   []string{"GET /v1/x", "GET /v1/x"}, told: "it: passed",
		},
		{
			name: "an address that an answer gave", step: "follow: ${next}\nservice: hives", change: func(r *row) {
				r.kept["next"] = document.NewText("more?page=2")
			}, answers: map[string][]answer{"more": {{200, `{}`}}},
			asked: []string{"GET /v1/more?page=2"}, told: "it: passed\n",
		},
		{
			name: "an address that leads nowhere", step: "follow: ${next}", change: func(r *row) {
				r.kept["next"] = document.NewText("more")
			},
			told: "it: error (follow: \"more\" is not a whole address; name the service: it belongs to)\n",
		},
		{
			name: "values that build on one another", step: "set:\n  a: 2\n  b: ${a}1", kept: "a=2 b=21",
			told: "it: passed\n",
		},
		{
			name: "values that are not as they must be", step: "set:\n  a: 2\nwhere:\n  - kept.a > 3", kept: "a=2",
			told: "it: failed",
		},
		{
			name: "values that cannot be set", step: "set:\n  a: 2\n  b: ${none}", kept: "a=2",
			told: "it: error (set b: ",
		},
		{
			name: "values that are calculated", step: "calculate:\n  a: 1 + 1\n  b: kept.a * 2", kept: "a=2 b=4",
			told: "it: passed\n",
		},
		{name: "values that cannot be calculated", step: "calculate:\n  a: 1 / 0", told: "it: error (calculate a: "},
		{name: "a pause", step: "pause: 1 ms", told: "it: passed\n"},
		{name: "a pause that is interrupted", step: "pause: 1 h", change: func(r *row) {
			r.over = func() bool { return true }
		}, told: "it: interrupted (interrupted)\n"},
		{
			name: "a group", step: "steps:\n  - step: a\n    pause: 1 ms\n  - step: b\n    set: {x: 1}", kept: "x=1",
			told: "it: a: passed\nit: b: passed\n",
		},
		{
			name: "a group in a row that is over",
			step: "steps:\n  - step: a\n    set: {x: 1}\n  - step: b\n    set: {y: 1}", change: func(r *row) {
				r.over = func() bool { return len(r.results) > 0 }
			},
			kept: "x=1", told: "it: a: passed\n",
		},
		{
			name: "a file", step: "lookup: stock\nopen: jars.json\nfields: {jars: 12}", told: "it: passed\n",
			got: `{"jars":12}`,
		},
		{
			name: "a file in XML", step: "lookup: stock\nopen: lids.xml\nfields: {lid.@no: 7}", told: "it: passed\n",
			got: `<lids><lid no="7"/></lids>`,
		},
		{
			name: "a file that does not come in time",
			step: "lookup: stock\nopen: none.json\nuntil: {jars: 12}\nevery: 1 ms\nwithin: 20 ms",
			told: "it: failed",
		},
		{
			name: "a lookup that takes too long", step: "lookup: stock\nopen: jars.json\nexpect: {time: under 0 ms}",
			told: "it: failed; time expected under 0 ms",
		},
		{name: "a file that is not there", step: "lookup: stock\nopen: lids.json", told: "it: error"},
		{name: "files", step: "lookup: stock\nfind: '*.json'\nfields: {answer: count 2}", told: "it: failed"},
		{name: "a lookup in a dry run", step: "lookup: stock\nopen: jars.json", change: func(r *row) {
			r.dry = true
		}, told: "it: not run (a dry run looks nothing up)\n"},
		{
			name: "a sheet", step: "sheet: sheets/inner.yaml\nfill: {hive: H}\nkeep: {kilos: kilos}",
			change: func(r *row) {
				r.inner = func(given map[string]*document.Node) (*document.Node, result.Outcome) {
					assert.Equal(r.t, "H", given["hive"].Text)
					return document.NewObject().Set("kilos", document.NewNumber("7")), result.Passed
				}
			}, kept: "kilos=7", told: "it: passed\n",
		},
		{
			name: "a sheet at a site of its own", step: "sheet: sheets/away.yaml", change: func(r *row) {
				r.inner = func(map[string]*document.Node) (*document.Node, result.Outcome) {
					assert.Contains(r.t, r.sites, "there")
					return document.NewObject(), result.Passed
				}
			}, told: "it: passed\n",
		},
		{
			name: "a sheet that keeps a secret", step: "sheet: sheets/inner.yaml\nfill: {hive: H}",
			change: func(r *row) {
				r.inner = func(map[string]*document.Node) (*document.Node, result.Outcome) {
					key := document.NewText("honey-key")
					key.MarkSecret()
					return document.NewObject().Set("lot", document.NewText("L")).Set("key", key), result.Passed
				}
			}, told: "it: passed\n", got: secret.Mask,
		},
		{
			name: "a sheet that fails", step: "sheet: sheets/inner.yaml\nfill: {hive: H}\nkeep: {kilos: kilos}",
			change: func(r *row) {
				r.inner = func(map[string]*document.Node) (*document.Node, result.Outcome) {
					return document.NewObject(), result.Failed
				}
			}, told: "it: not run (the sheet failed)\n",
		},
		{
			name: "a sheet without what it takes", step: "sheet: sheets/inner.yaml",
			told: "it: error (the sheet inner must be given hive",
		},
		{
			name: "a batch", step: `batch: ledger
parts:
  - step: put
    request: ledger POST /Hives
    body: {id: H-1}
    expect: {status: 201}
    keep: {id: id}`,
			answers: map[string][]answer{"$batch": {{200, batched}}}, kept: "id=H-1",
			told: "it: passed\nit: put: passed\n",
		},
		{
			name: "a batch with a part that breaks the contract",
			step: `batch: ledger
parts:
  - step: put
    call: ledger/Hives.create
    fill: {id: H-1, kilos: many}`,
			told: "it: failed (not sent); request expected as the operations are described, got put: kilos",
		},
		{
			name:    "a batch that is refused",
			step:    "batch: ledger\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}",
			answers: map[string][]answer{"$batch": {{400, `{}`}}}, told: "it: failed; status expected 2xx, got 400\n",
		},
		{
			name:    "a batch that is answered by something else",
			step:    "batch: ledger\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}",
			answers: map[string][]answer{"$batch": {{200, `{}`}}},
			told:    "it: failed; answer expected a batch, got a batch is answered by an object with responses",
		},
		{
			name: "a batch with a part that is not answered",
			step: `batch: ledger
as: json
parts:
  - step: get
    request: ledger GET /Hives
  - step: put
    request: ledger POST /Hives
    body: {id: H-1}`,
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 200}]}`}}},
			told: `it: passed
it: get: passed
it: put: failed (the service did not answer it); answer expected an answer to the part, got none
`,
		},
		{
			name: "a batch that ends at a part",
			step: `batch: ledger
as: json
parts:
  - step: get
    request: ledger GET /Hives
  - step: put
    request: ledger POST /Hives
    body: {id: H-1}`,
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 404}]}`}}},
			told:    "it: passed\nit: get: failed; status expected 2xx, got 404\nit: put: not run (the batch ended at an answer 404",
		},
		{
			name:    "a batch that ends at the least of refusals",
			step:    "batch: ledger\nas: json\nparts:\n  - step: get\n    request: ledger GET /Hives\n    expect: {status: 400}\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}",
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 400}]}`}}},
			asked:   []string{`POST /odata/$batch {"requests":[{"id":"1","method":"GET","url":"Hives","headers":{}},{"id":"2","method":"POST","url":"Hives","headers":{"content-type":"application/json"},"body":{"id":"H-1"}}]}`},
			told:    "it: passed\nit: get: passed\nit: put: not run (the batch ended at an answer 400",
		},
		{
			name:    "a batch as a whole",
			step:    "batch: ledger\nas: json\ntogether: true\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}",
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 201}]}`}}},
			asked:   []string{`POST /odata/$batch {"requests":[{"id":"1","method":"POST","url":"Hives","atomicityGroup":"g1","headers":{"content-type":"application/json"},"body":{"id":"H-1"}}]}`},
			told:    "it: passed\nit: put: passed\n",
		},
		{
			name:    "a batch whose part asks for what another makes",
			step:    "batch: ledger\nas: json\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}\n    keep: {made: reply.headers.location, other: id, whole: \"@odata.id\"}\n  - step: get\n    request: ledger GET /${made}/kilos\n  - step: whole\n    request: ledger GET /${whole}",
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 201, "headers": {"Location": "/odata/Hives('H-1')"}, "body": {"id": "H-1", "@odata.id": "Hives('H-1')"}}, {"id": "2", "status": 200}, {"id": "3", "status": 200}]}`}}},
			kept:    "made=/odata/Hives('H-1') other=H-1 whole=Hives('H-1')",
			told:    "it: passed\nit: put: passed\nit: get: passed\nit: whole: passed\n",
		},
		{
			name:    "a batch whose part does not say what it made",
			step:    "batch: ledger\nas: json\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}\n    keep: {made: reply.headers.location}",
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 201}]}`}}},
			told:    "it: passed\nit: put: failed; made expected reply.headers.location, got missing\n",
		},
		{
			name:    "a batch with one part too few, and a refusal",
			step:    "batch: ledger\nas: json\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}\n  - step: other\n    request: ledger POST /Hives\n    body: {id: H-2}",
			answers: map[string][]answer{"$batch": {{200, `{"responses": [{"id": "1", "status": 201}, {"status": 500}]}`}}},
			told:    "it: passed\nit: put: passed\nit: other: failed; status expected 2xx, got 500; the change set was refused as a whole, with one answer\n",
		},
		{
			name: "a batch for a service without metadata",
			step: "batch: hives\nparts:\n  - step: get\n    request: hives GET /x",
			told: "it: error (a batch is a thing of OData, and hives has no contract)\n",
		},
		{
			name: "a batch that cannot be sent keeps no numbers",
			step: "batch: ledger\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}\n    keep: {made: reply.headers.location}\n  - step: get\n    request: ledger GET /${gone}",
			told: "it: error (get: ",
		},
		{
			name: "a batch with a part that cannot be filled in",
			step: "batch: ledger\nparts:\n  - step: get\n    request: ledger GET /${gone}",
			told: "it: error (get: ",
		},
		{
			name:   "a batch that is not sent",
			step:   "batch: ledger\nparts:\n  - step: put\n    request: ledger POST /Hives\n    body: {id: H-1}",
			change: func(r *row) { r.dry = true },
			told:   "it: passed\nwould it: POST http://ledger.example/odata/$batch\n",
		},
		{
			name: "a batch to nobody", step: "batch: ledger\nparts:\n  - step: get\n    request: ledger GET /Hives",
			told: "it: unreachable (nobody is there)\n",
		},
		{
			name: "a batch whose change set is refused as one",
			step: `batch: ledger
parts:
  - step: put
    request: ledger POST /Hives
    body: {id: H-1}
  - step: other
    request: ledger POST /Hives
    body: {id: H-2}`,
			answers: map[string][]answer{"$batch": {{
				200,
				strings.Replace(batched, "201 Created", "400 Bad Request", 1),
			}}},
			told: "it: passed\nit: put: failed; status expected 2xx, got 400; the change set was refused as a whole, with one answer\nit: other: failed; status expected 2xx, got 400",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := &sender{answers: c.answers}
			r := newRow(t, s)
			read := sheet.Read(r.of.Bench, filepath.Join(r.of.Bench.Dir, "s.yaml"),
				[]byte("sheet: s\nsteps:\n  - step: it\n    "+strings.ReplaceAll(c.step, "\n", "\n    ")+"\n"), Kinds)
			require.Empty(t, read.Problems().Serious())
			if c.change != nil {
				c.change(r)
			}
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			if c.name == "a pause that is interrupted" {
				cancel()
			}
			Of(read.Steps[0]).Run(ctx, r, read.Steps[0], "it")
			told := r.told()
			for _, would := range r.would {
				told += "would " + would + "\n"
			}
			assert.True(t, strings.HasPrefix(told, c.told), told)
			if c.asked != nil {
				assert.Equal(t, c.asked, s.asked)
			}
			var kept []string
			for _, name := range bench.Names(read.Steps[0].KeptNames(), func(n string) string { return n }) {
				if v := r.kept[name]; v != nil {
					kept = append(kept, name+"="+v.Text)
				}
			}
			assert.Equal(t, c.kept, strings.Join(kept, " "))
			if c.got != "" {
				assert.Equal(t, c.got, r.results[0].Got)
			}
		})
	}
}

// A problem is told where its field is, and not at another whose name begins alike.
func TestIsWithin(t *testing.T) {
	for _, c := range []struct {
		field, name string
		want        bool
	}{
		{"lot", "lot", true},
		{"lot.id", "lot", true},
		{"lot[0].id", "lot", true},
		{"lot.id", "lot.id", true},
		{"lots", "lot", false},
		{"lot", "lots", false},
		{"lot_no", "lot", false},
		{"depot", "lot", false},
	} {
		assert.Equal(t, c.want, isWithin(c.field, c.name), "%s in %s", c.field, c.name)
	}
}
