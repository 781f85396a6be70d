package judge_test

import (
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/safefile/safefiletest"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/vet"
)

var update = flag.Bool("update", false, "write what came as what is expected")

// answersOf are what a service answers to a step, one after the other; the last one stays.
// Each is a status, headers and a body: 200 X-A=1 {"n": 1}
type judgedCase struct {
	name    string
	step    string // what is below its request
	answers []string
}

const (
	fault11 = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no lot</faultstring></s:Fault></s:Body></s:Envelope>`
	fault12 = `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code><s:Reason><s:Text xml:lang="en">no lot</s:Text></s:Reason></s:Fault></s:Body></s:Envelope>`
	good11  = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><r><n>1</n></r></s:Body></s:Envelope>`
	waits   = "every: 1 ms\nwithin: 30 s\n"
)

// absences are checks that hold where nothing is.
const absences = "fields:\n  error: is absent\n  lots[*].n: if any over 3\n  n: optional over 3\nwhere:\n" +
	"  - absent(answer.error)\n  - \"!present(answer.lots[0].n)\"\n  - has(answer.error)\n  - answer[\"error\"] == null"

var judgedCases = []judgedCase{
	{"nothing said", "", []string{`200 {"n": 1}`}},
	{"nothing said, refused", "", []string{`404 {"message": "gone"}`}},
	{"a success that the body tells of", "", []string{`404 {"success": true}`}},
	{"no success by the body", "", []string{`200 {"success": false}`}},
	{"a success that the body tells of, and a status", "expect:\n  status: 404", []string{`404 {"success": true}`}},
	{"no success is success", "", []string{`302 Location=/x`}},
	{"299", "", []string{`299 {}`}},
	{
		"an answer to another message", "soap: 1.2\naddressing: true",
		[]string{`200 Content-Type=application/soap+xml <e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Header><a:RelatesTo xmlns:a="http://www.w3.org/2005/08/addressing">urn:other</a:RelatesTo></e:Header><e:Body><r/></e:Body></e:Envelope>`},
	},
	{"status and error", "expect:\n  status: 404\n  error: gone", []string{`404 {"code": "gone"}`}},
	{"status of another, fields are not judged", "fields:\n  n: 1\nkeep:\n  k: n", []string{`500 {"n": 1}`}},
	{"error none where there is none", "expect:\n  error: none", []string{`200 {"n": 1}`}},
	{"an error without a code is present", "expect:\n  error: is present", []string{`200 {"error": "no"}`}},
	{"no error is present", "expect:\n  error: is present", []string{`200 {"n": 1}`}},
	{"error none where there is one", "expect:\n  error: none", []string{`200 {"error": "no"}`}},
	{"an error that nobody asked for", "", []string{`200 {"error": "no"}`}},
	{"an error expected and none", "expect:\n  error: E", []string{`200 {"n": 1}`}},
	{
		"an error's parts", "expect:\n  error:\n    code: E1\n    text: contains no\n    target: lot",
		[]string{`400 {"code": "E1", "message": "no lot", "field": "lot"}`},
	},
	{"an error's details", `expect:
  status: 422
  error:
    text: two
    details: count 2
    details[1].target: b
    details[0].text: x`, []string{`422 {"message": "two", "errors": [{"field": "a", "message": "x"}, {"field": "b", "message": "y"}]}`}},
	{
		"an error in XML under a success", "expect:\n  error:\n    code: 17\n    text: no",
		[]string{`200 Content-Type=text/xml <r ok="false" code="17"><errorMessage>no</errorMessage></r>`},
	},
	{
		"an error without details",
		"expect:\n  status: 422\n  error:\n    details: is absent\n    target: is absent\n    code: is absent",
		[]string{`422 {"message": "two"}`},
	},
	{"fault under a success", "soap: 1.1", []string{`200 Content-Type=text/xml ` + fault11}},
	{"fault of 1.1", "soap: 1.1\nexpect:\n  fault: Client", []string{`500 Content-Type=text/xml ` + fault11}},
	{
		"fault of 1.2 under 500", "soap: 1.2\nexpect:\n  fault: Sender",
		[]string{`500 Content-Type=application/soap+xml ` + fault12},
	},
	{
		"fault of 1.2 under 400", "soap: 1.2\nexpect:\n  fault: Sender",
		[]string{`400 Content-Type=application/soap+xml ` + fault12},
	},
	{"another version", "soap: 1.2\nexpect:\n  fault: none", []string{`200 Content-Type=text/xml ` + good11}},
	{"another type", "soap: 1.1", []string{`200 Content-Type=application/soap+xml ` + good11}},
	{
		"fault none where there is one", "soap: 1.1\nexpect:\n  fault: none\n  status: 500",
		[]string{`500 Content-Type=text/xml ` + fault11},
	},
	{"fault expected and none", "soap: 1.1\nexpect:\n  fault: Client", []string{`200 Content-Type=text/xml ` + good11}},
	{
		"a status that is not a success allows a fault", "soap: 1.1\nexpect:\n  status: 500",
		[]string{`500 Content-Type=text/xml ` + fault11},
	},
	{"no envelope", "soap: 1.1", []string{`200 {"n": 1}`}},
	{"an envelope under 202", "soap: 1.1\nexpect:\n  status: 202", []string{`202 Content-Type=text/xml ` + good11}},
	{"nothing under 202", "soap: 1.1\nexpect:\n  status: 202", []string{`202 `}},
	{"something under 202", "soap: 1.1\nexpect:\n  status: 202", []string{`202 Content-Type=text/plain taken`}},
	{"not well-formed", "fields:\n  n: 1", []string{`200 {"n": `}},
	{"type without parameters", "expect:\n  type: text/plain", []string{`200 Content-Type=text/plain;charset=utf-8 x`}},
	{
		"type with parameters", "expect:\n  type: text/plain; charset=x",
		[]string{`200 Content-Type=text/plain;charset=utf-8 x`},
	},
	{
		"a header that is not there", "expect:\n  headers:\n    X-Lots: is present\n    X-Lot: one",
		[]string{`200 X-Lot=one {}`},
	},
	{"a header that must be absent", "expect:\n  headers:\n    X-Lots: is absent", []string{`200 X-Lot=one {}`}},
	{
		"a count and a length in a mapping",
		"fields:\n  lots:\n    count: 2\n  name:\n    length: 3\n  kinds:\n    count: 3\n  depot:\n    length: 4",
		[]string{`200 {"lots": [7, 8], "name": "abc", "kinds": ["x"], "depot": "north"}`},
	},
	{
		"null, and the word in quotes and in a block", "fields:\n  a: null\n  b: \"null\"\n  c: |-\n    null",
		[]string{`200 {"a": null, "b": "null", "c": "null"}`},
	},
	{"a place deep in", "fields:\n  lots[*].n: under 3", []string{`200 {"lots": [{"n": 1}, {"n": 3}]}`}},
	{"where", "where:\n  - answer.n > 1\n  - answer.n > 2", []string{`200 {"n": 2}`}},
	{"JSON that is called text", absences, []string{`200 Content-Type=text/plain {"n": 1}`}},
	{"JSON that is called a page", absences, []string{`200 Content-Type=text/html {"n": 1}`}},
	{"bytes", absences, []string{`200 Content-Type=application/pdf %PDF`}},
	{"nothing", absences, []string{`204 Content-Type=text/plain `}},
	{"read as JSON", "answer as: json\n" + absences, []string{`200 Content-Type=text/html {"n": 4}`}},
	{"read as text", "answer as: text\nfields:\n  answer: contains 4\n  n: is absent", []string{`200 {"n": 4}`}},
	{
		"read as JSON, and it is a page", "answer as: json\nfields:\n  n: is absent",
		[]string{`200 Content-Type=text/html <p>no</p>`},
	},
	{"XPath into JSON", "fields:\n  //error: is absent\n  //n: optional is number", []string{`200 {"n": 4}`}},
	{"JSONPath into XML", "fields:\n  $..error: is absent", []string{`200 Content-Type=text/xml <r/>`}},
	{
		"XPath without the namespace", "fields:\n  //error: is absent\n  //n: is absent\n  //m: is absent",
		[]string{`200 Content-Type=text/xml <r xmlns:x="urn:x"><x:error/><n/><x:n/></r>`},
	},
	{"keep", "keep:\n  k: n\n  l: list\n  m: n | upper\n  o: n | number", []string{`200 {"n": "a", "list": [1]}`}},
	{
		"keep, with filters after brackets", "keep:\n  k: list[0] | number\n  l: 'lots[name=\"a|b\"].n | number'",
		[]string{`200 {"list": ["1"], "lots": [{"name": "a|b", "n": "2"}]}`},
	},
	{"keep, of XML", `keep:
  k: n
  l: answer
  m: n.@unit`, []string{`200 Content-Type=text/xml <r><n unit="kg">7</n></r>`}},
	{"keep, with a filter that cannot do it", `keep:
  k: n | number
  l: m | number
  o: list | number`, []string{`200 {"n": "abc", "list": [1]}`}},
	{"keep what is not there", "keep:\n  k: m", []string{`200 {"n": "a"}`}},
	{"keep a secret", "keep:\n  k:\n    at: n\n    secret: true\nfields:\n  n: zebra", []string{`200 {"n": "hidden"}`}},
	{"until", "until:\n  n: 3\n" + waits, []string{`200 {"n": 1}`, `200 {"n": 2}`, `200 {"n": 3}`, `200 {"n": 4}`}},
	{
		"until, and an answer between that is none", "until:\n  n: 3\n" + waits,
		[]string{`200 {"n": 1}`, `500 {"n": 2}`, `200 {"n": 3}`},
	},
	{
		"until, and an answer between that cannot be read", "until:\n  n: 3\n" + waits,
		[]string{`200 {"n": 1}`, `200 {"n": `, `200 {"n": 3}`},
	},
	{
		"until, and a fault between", "soap: 1.1\nuntil:\n  n: 1\n" + waits,
		[]string{
			`200 Content-Type=text/xml ` + strings.Replace(good11, "<n>1", "<n>0", 1),
			`200 Content-Type=text/xml ` + fault11, `200 Content-Type=text/xml ` + good11,
		},
	},
	{
		"until, and an error between that nobody asked for", "expect:\n  error: none\nuntil:\n  n: 3\n" + waits,
		[]string{`200 {"n": 1}`, `200 {"error": "no"}`, `200 {"n": 3}`},
	},
	{"a refusal that is expected tells of its error", "expect:\n  status: 400", []string{`400 {"error": "no"}`}},
	{"a success that tells of an error, expected as it is", "expect:\n  status: 200", []string{`200 {"error": "no"}`}},
	{"until, too late", "until:\n  n: 3\nevery: 5 s\nwithin: 1 s\n", []string{`200 {"n": 1}`}},
	{
		"until, too late by a part of a second", "until:\n  n: 3\nevery: 5 s\nwithin: 1500 ms\n",
		[]string{`200 {"n": 1}`},
	},
	{"until, too late by more", "until:\n  n: 3\nevery: 15 s\nwithin: 10500 ms\n", []string{`200 {"n": 1}`}},
	{"states in order", "until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - open or half\n    - done\n" +
		waits, []string{`200 {"s": "new"}`, `200 {"s": "open"}`, `200 {"s": "open"}`, `200 {"s": "done"}`}},
	{
		"a state that was missed",
		"until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - open\n    - done\n" + waits,
		[]string{`200 {"s": "new"}`, `200 {"s": "done"}`},
	},
	{
		"a state that may be missed",
		"until:\n  s: done\nstates:\n  of: s\n  skips: true\n  allowed:\n    - new\n    - open\n    - done\n" + waits,
		[]string{`200 {"s": "new"}`, `200 {"s": "done"}`},
	},
	{
		"a beginning in the middle",
		"until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - open\n    - done\n" + waits,
		[]string{`200 {"s": "open"}`, `200 {"s": "done"}`},
	},
	{
		"states and nothing else to wait for", "states:\n  of: s\n  allowed:\n    - new\n    - done\n" + waits,
		[]string{`200 {"s": "new"}`, `200 {"s": "done"}`},
	},
	{
		"a way back", "until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - open\n    - done\n" + waits,
		[]string{`200 {"s": "new"}`, `200 {"s": "open"}`, `200 {"s": "new"}`},
	},
	{
		"two of one place", "until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - [new, young]\n    - done\n" + waits,
		[]string{`200 {"s": "new"}`, `200 {"s": "young"}`},
	},
	{
		"a state that is none", "until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - done\n" + waits,
		[]string{`200 {"s": "old"}`},
	},
	{
		"a state that is not told", "until:\n  s: done\nstates:\n  of: s\n  allowed:\n    - new\n    - done\n" + waits,
		[]string{`200 {"t": "old"}`},
	},
	{"a state that fails", `until:
  s: done
states:
  of: s
  allowed:
    - new
    - done
  failed:
    - lost
` + waits, []string{`200 {"s": "new"}`, `200 {"s": "lost"}`, `200 {"s": "done"}`}},
	{"again, and it goes well", "again:\n  times: 3\n  pause: 1 ms", []string{`503 `, `502 `, `200 {}`}},
	{"again, and it does not", "again:\n  times: 2\n  pause: 1 ms", []string{`503 `, `503 `, `200 {}`}},
	{"again, of another status", "again:\n  times: 3\n  pause: 1 ms", []string{`500 `, `200 {}`}},
	{"again on a status that is named", "again:\n  times: 3\n  pause: 1 ms\n  on: 401", []string{`401 `, `200 {}`}},
	{
		"again on two statuses", "again:\n  times: 3\n  pause: 1 ms\n  on:\n    - 401\n    - 5xx",
		[]string{`500 `, `401 `, `200 {}`},
	},
	{
		"again where it fails", "again:\n  times: 3\n  pause: 1 ms\n  on: failed\nfields:\n  n: 2",
		[]string{`200 {"n": 1}`, `200 {"n": 2}`},
	},
	{
		"again where it fails, by what stays", "again:\n  times: 3\n  pause: 1 ms\n  on: failed",
		[]string{`403 `, `200 {}`},
	},
	{"again where it holds", "again:\n  times: 3\n  pause: 1 ms\n  on: 200", []string{`200 {}`, `500 `}},
	{"again when", "again:\n  times: 3\n  pause: 1 ms\n  when: answer.n < 2", []string{`200 {"n": 1}`, `200 {"n": 2}`}},
	{"again, left alone for long", "again:\n  times: 3\n  pause: 1 ms", []string{`503 Retry-After=600 `, `200 {}`}},
	{"again, left alone for no time", "again:\n  times: 3\n  pause: 1 ms", []string{`503 Retry-After=0 `, `200 {}`}},
	{
		"again, until a time that is over", "again:\n  times: 3\n  pause: 1 ms",
		[]string{`503 Retry-After=Mon,_02_Jan_2006_15:04:05_GMT `, `200 {}`},
	},
	{"a status that is not", "expect:\n  status: not 404", []string{`500 {}`}},
	{"one of two statuses", "expect:\n  status: 201 or 4xx", []string{`404 {}`}},
	{"a refusal that does not come", "expect:\n  refused: connection", []string{`200 {}`}},
	{"a value that the row lacks", "fields:\n  n: ${kept.nothing}", []string{`200 {"n": 1}`}},
	{
		"a fault of 1.2 that the service has on itself", "soap: 1.2\nexpect:\n  fault: Receiver",
		[]string{`400 Content-Type=application/soap+xml ` + strings.Replace(fault12, "Sender", "Receiver", 1)},
	},
	{"success as the service says", "expect:\n  time: under 1 min", []string{`200 {"n": 1}`}},
	{"a type alone", "expect:\n  type: application/json", []string{`200 {"n": 1}`}},
	{"a type that is a word", "expect:\n  type: json", []string{`200 {"n": 1}`}},
	{"a size alone", "expect:\n  size: under 2 kB", []string{`200 {"n": 1}`}},
	{"a value that nothing is known of", "expect:\n  headers:\n    X-Lot: is absent\nfields:\n  lot: is absent", []string{`200 {"n": 1}`}},
	{
		"keep, with a filter that is given the list", "keep:\n  k: list | json\n  l: list | first",
		[]string{`200 {"list": [1, 2]}`},
	},
	{"until, just at the end of the time", "until:\n  n: 3\nevery: 20 s\nwithin: 10 s\n", []string{`200 {"n": 1}`}},
	{"size and time", "expect:\n  size: over 2 kB\n  time: under 1 min", []string{`200 {"n": 1}`}},
}

// onlyStep runs a sheet of one step and gives what came of it, and what hides the secrets.
func onlyStep(t *testing.T, bench *bench.Bench, read *sheet.Sheet) (*result.Step, *secret.Masker) {
	t.Helper()
	session, err := session.NewSession(bench, session.Options{Store: &secret.Store{}})
	require.NoError(t, err)
	results := run.Run(t.Context(), nil, []*run.Job{{Session: session, Sheet: read}}, run.RunOptions{})
	require.NoError(t, session.Close(t.Context()))
	return results[0].Rows[0].Steps[0], session.Masker()
}

// What comes of a step is told as it always was: which checks there are, what passed, what
// was expected, what came and where, and what is kept.
func TestJudged(t *testing.T) {
	var mutex sync.Mutex
	asked := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var c judgedCase
		for i := range judgedCases {
			if fmt.Sprintf("/%d", i) == r.URL.Path {
				c = judgedCases[i]
			}
		}
		mutex.Lock()
		n := asked[r.URL.Path]
		asked[r.URL.Path]++
		mutex.Unlock()
		words := strings.Split(c.answers[min(n, len(c.answers)-1)], " ")
		w.Header().Set("Content-Type", "application/json")
		i := 1
		for ; i < len(words); i++ {
			name, text, ok := strings.Cut(words[i], "=")
			if !ok || !headerName.MatchString(name) {
				break
			}
			w.Header().Set(name, strings.ReplaceAll(text, "_", " "))
		}
		var status int
		_, _ = fmt.Sscan(words[0], &status)
		w.WriteHeader(status)
		_, _ = w.Write([]byte(strings.Join(words[i:], " ")))
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bench.yaml"),
		[]byte("bench: b\nsites:\n  local:\n    set:\n      base: "+server.URL+
			"\nservices:\n  s:\n    address: ${base}\n"), 0o600))
	bench, err := bench.Open(dir)
	require.NoError(t, err)
	require.Empty(t, bench.Problems().Serious())
	var out strings.Builder
	for i, c := range judgedCases {
		method, body := "GET", ""
		if strings.Contains(c.step, "soap:") {
			method, body = "POST", "body:\n  q: 1\n"
		}
		read := sheet.Read(bench, filepath.Join(dir, "sheets", "test.yaml"),
			[]byte(fmt.Sprintf("sheet: test\nsteps:\n  - step: it\n    request: s %s /%d\n%s", method, i,
				indented("redirects: off\n"+body+c.step))), step.Kinds)
		fmt.Fprintf(&out, "-- %s --\n", c.name)
		if problems := vet.Sheet(read, vet.Options{}).Serious(); len(problems) > 0 {
			fmt.Fprintf(&out, "mistake: %s; %s\n", problems[0].Message, problems[0].Try)
			continue
		}
		step, masker := onlyStep(t, bench, read)
		assert.Equal(t, strings.Contains(c.step, "secret: true"), masker.Text("hidden") != "hidden", c.name)
		fmt.Fprintf(&out, "%s; asked %d times; kept %v; %s\n", step.Outcome, asked[fmt.Sprintf("/%d", i)], step.Kept,
			step.Reason)
		for _, check := range step.Checks {
			word := map[bool]string{true: "+", false: "-"}[check.Passed]
			if !check.Judged {
				word = "?"
			}
			fmt.Fprintf(&out, "  %s %s %s: expected %s, got %s", word, check.Kind, check.Subject, check.Expected,
				check.Got)
			for _, more := range []string{check.Where, check.Note} {
				if more != "" {
					out.WriteString(" | " + more)
				}
			}
			out.WriteString("\n")
		}
		for _, note := range append(step.Notes, step.Last().Notes...) {
			fmt.Fprintf(&out, "  note: %s\n", note)
		}
	}
	said := spans.ReplaceAllString(out.String(), "in …")
	if *update {
		require.NoError(t, os.WriteFile("testdata/judged.golden", []byte(said), 0o644))
	}
	golden, err := os.ReadFile("testdata/judged.golden")
	require.NoError(t, err)
	assert.Equal(t, string(golden), said, "go test ./internal/judge -run TestJudged -update writes it anew")
}

var (
	headerName = regexp.MustCompile(`^[A-Z][A-Za-z-]+$`)
	spans      = regexp.MustCompile(`\bin [0-9]+ ms|after [0-9.]+ m?s|"[0-9.]+ ms"|urn:uuid:[0-9a-f-]+`)
)

// An error that the protocol itself tells is none of the answers that were asked for, unless
// another status is.
func TestErrorsOfTheProtocol(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(404)
		_, _ = w.Write([]byte(`{"jsonrpc": "2.0", "id": 1, "error": {"code": -3, "message": "no lot"}}`))
	}))
	t.Cleanup(server.Close)
	opened := bench.Read(t.TempDir(), "bench.yaml",
		[]byte("bench: b\nsites:\n  local:\n    set:\n      base: "+server.URL+
			"\nservices:\n  s:\n    address: ${base}\n    protocol: json-rpc\n"))
	require.Empty(t, opened.Problems().Serious())
	for expect, failed := range map[string]string{
		"": "status error", "expect: {status: 2xx}": "status error", "expect: {status: 404}": "",
		"expect: {error: '-3'}": "", "expect: {error: none}": "status error",
		"expect: {status: 404, error: none}": "error",
	} {
		t.Run(expect, func(t *testing.T) {
			read := sheet.Read(opened, "s.yaml",
				[]byte("sheet: s\nsite: local\nsteps:\n  - step: it\n"+indented("call: s/look\n"+expect)), step.Kinds)
			require.Empty(t, read.Problems())
			came, _ := onlyStep(t, opened, read)
			var words []string
			for _, c := range came.Checks {
				if !c.Passed {
					words = append(words, c.Subject)
				}
			}
			assert.Equal(t, failed, strings.Join(words, " "))
		})
	}
}

// What the bench says of success and errors counts at services whose methods are called by name, too.
func TestSuccessOfMethods(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"jsonrpc": "2.0", "id": 1, "result": {"state": "odd", "why": "no lot"}}`))
	}))
	t.Cleanup(server.Close)
	for protocol, says := range map[string]string{
		"json-rpc\n    success: answer.state == \"odd\"":                                    "",
		"json-rpc\n    success: answer.state == \"fine\"":                                   "the answer is not a success",
		"json-rpc 1.0\n    error: {when: answer.state == \"odd\", text: why}":               "no lot",
		"json-rpc 1.0\n    error: {when: answer.state == \"bad\", text: why}":               "",
		"json-rpc\n    operations: {look: {success: answer.state == \"fine\"}}":             "the answer is not a success",
		"json-rpc\n    operations: {look: {error: {when: present(answer.why), text: why}}}": "no lot",
	} {
		t.Run(protocol, func(t *testing.T) {
			opened := bench.Read(t.TempDir(), "bench.yaml",
				[]byte("bench: b\nsites:\n  local:\n    set:\n      base: "+server.URL+
					"\nservices:\n  s:\n    address: ${base}\n    protocol: "+protocol+"\n"))
			require.Empty(t, opened.Problems().Serious())
			read := sheet.Read(opened, "s.yaml",
				[]byte("sheet: s\nsite: local\nsteps:\n  - step: it\n    call: s/look\n"), step.Kinds)
			require.Empty(t, read.Problems())
			came, _ := onlyStep(t, opened, read)
			said := ""
			for _, c := range came.Checks {
				if !c.Passed {
					said += c.Got
				}
			}
			assert.Equal(t, says, said)
		})
	}
}

// What an operation calls good is expected of it, unless the step says something else; and a
// host that nobody names is not asked.
func TestGoodStatuses(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/gone" {
			w.WriteHeader(404)
		}
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	opened := bench.Read(dir, "bench.yaml",
		[]byte("bench: b\nsites:\n  local:\n    set:\n      base: "+server.URL+
			`
services:
  s:
    address: ${base}
    operations:
      gone: {request: GET /gone, success: 404 or 410}
      there: {request: GET /there, success: 404 or 410}
`))
	require.Empty(t, opened.Problems().Serious())
	for _, c := range []struct {
		step     string
		outcome  result.Outcome
		expected string
	}{
		{"call: s/gone", result.Passed, "404 or 410"},
		{"call: s/there", result.Failed, "404 or 410"},
		{"call: s/there\nexpect: {status: 200}", result.Passed, "200"},
		{"request: GET http://elsewhere.example/", result.Errored, ""},
	} {
		t.Run(c.step, func(t *testing.T) {
			read := sheet.Read(opened, filepath.Join(dir, "s.yaml"),
				[]byte("sheet: s\nsite: local\nsteps:\n  - step: it\n"+indented(c.step)), step.Kinds)
			step, _ := onlyStep(t, opened, read)
			assert.Equal(t, c.outcome, step.Outcome, step.Reason)
			if c.expected != "" {
				assert.Equal(t, c.expected, step.Checks[0].Expected)
			}
		})
	}
}

// Answers are checked against their contract: what is wrong is told, five of it at most; an
// operation without an answer needs none.
func TestJudgedByContract(t *testing.T) {
	const wsdl = `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t">
<w:types><x:schema targetNamespace="urn:t" elementFormDefault="qualified"><x:element name="Q"><x:complexType/></x:element>
<x:element name="R"><x:complexType><x:sequence><x:element name="n" type="x:int" maxOccurs="9"/></x:sequence></x:complexType></x:element></x:schema></w:types>
<w:message name="Q"><w:part name="p" element="t:Q"/></w:message><w:message name="R"><w:part name="p" element="t:R"/></w:message>
<w:portType name="P"><w:operation name="Ask"><w:input message="t:Q"/><w:output message="t:R"/></w:operation><w:operation name="Tell"><w:input message="t:Q"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Ask"><s:operation soapAction="a"/><w:input><s:body use="literal"/></w:input><w:output><s:body use="literal"/></w:output></w:operation><w:operation name="Tell"><s:operation soapAction="b"/><w:input><s:body use="literal"/></w:input></w:operation></w:binding>
<w:service name="S"><w:port name="P" binding="t:B"><s:address location="http://127.0.0.1:1/"/></w:port></w:service></w:definitions>`
	envelope := func(n string) string {
		return `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><R xmlns="urn:t">` + n +
			`</R></s:Body></s:Envelope>`
	}
	status, kind, body := 0, "", ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "w.wsdl"), []byte(wsdl), 0o600))
	text := "bench: b\nsites:\n  local:\n    set:\n      base: " + server.URL +
		"\nservices:\n  w:\n    contract: w.wsdl\n    address: ${base}\n"
	opened := bench.Read(dir, "bench.yaml", []byte(text))
	require.Empty(t, vet.Bench(opened, vet.Options{}).Serious())
	for _, c := range []struct {
		operation string
		status    int
		kind      string
		body      string
		want      string // what is wrong; empty for nothing
		note      string
	}{
		{"Ask", 200, "text/xml", envelope("<n>1</n>"), "", ""},
		{"Ask", 200, "text/xml", envelope("<n>a</n>"), "n[0]: ", ""},
		{"Ask", 200, "text/xml", envelope(strings.Repeat("<n>a</n>", 5)), "n[4]: ", ""},
		{"Ask", 200, "text/xml", envelope(strings.Repeat("<n>a</n>", 8)), "; and 3 more", ""},
		{
			"Ask", 200, "application/json", `{"n": 1}`, "the answer is not a SOAP envelope, but JSON",
			"a SOAP request was answered with JSON, not with an envelope",
		},
		{"Ask", 200, "text/xml", `<x/>`, "but the XML element x", "with the XML element x"},
		{"Ask", 200, "text/xml", ``, "but empty", "with empty"},
		{"Ask", 202, "text/xml", ``, "but empty", ""},
		{"Tell", 202, "", ``, "", ""},
		{"Tell", 200, "application/json", `{}`, "", "nothing was to come back, and here is JSON"},
		{
			"Tell", 202, "text/xml", envelope("<n>1</n>"), "R",
			"the status 202 says that nothing is answered, and here is R",
		},
	} {
		t.Run(fmt.Sprintf("%s %d %s", c.operation, c.status, c.body), func(t *testing.T) {
			status, kind, body = c.status, c.kind, c.body
			read := sheet.Read(opened, "s.yaml",
				[]byte("sheet: s\nsteps:\n  - step: it\n    call: w/"+c.operation+"\n"), step.Kinds)
			require.Empty(t, vet.Sheet(read, vet.Options{}).Serious())
			step, _ := onlyStep(t, opened, read)
			wrong := ""
			for _, check := range step.Checks {
				if !check.Passed {
					wrong += check.Got
				}
			}
			assert.Equal(t, c.want == "", step.Outcome == result.Passed, wrong)
			assert.Contains(t, wrong, c.want)
			if c.want != "; and 3 more" {
				assert.NotContains(t, wrong, "more")
			}
			assert.Contains(t, strings.Join(step.Last().Notes, "\n"), c.note)
		})
	}
	wrong := vet.Bench(bench.Read(dir, "bench.yaml",
		[]byte(text+"    operations:\n      Aks:\n        success: 2xx\n")),
		vet.Options{}).Serious()
	require.Len(t, wrong, 1)
	assert.Contains(t, wrong[0].Message+wrong[0].Try, `"Ask"`)
	right := vet.Bench(bench.Read(dir, "bench.yaml",
		[]byte(text+"    operations:\n      Ask:\n        success: 2xx\n")),
		vet.Options{}).Serious()
	assert.Empty(t, right)
}

// What a contract says beside its operations is told before anything is sent: that one is
// deprecated, and that a file's own address is not trusted.
func TestToldByContract(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lab.json"), []byte(`{"openapi": "3.0.3", "info": {"title": "lab", "version": "1"}, "servers": [{"url": "http://127.0.0.1:1"}],
"paths": {"/lots": {"get": {"operationId": "lots", "deprecated": true, "responses": {"200": {"description": "all"}}}, "post": {"operationId": "add", "responses": {"200": {"description": "one"}}}}}}`), 0o600))
	vetted := func(address, call string) string {
		opened := bench.Read(dir, "bench.yaml", []byte("bench: b\nservices:\n  lab:\n    contract: lab.json\n"+address))
		return vet.Sheet(sheet.Read(opened, "s.yaml", []byte("sheet: s\nsteps:\n  - step: it\n    call: "+call+"\n"),
			step.Kinds), vet.Options{}).Error()
	}
	const address = "    address: http://127.0.0.1:1\n"
	assert.Contains(t, vetted(address, "lab/lots"), "lab/lots is deprecated by its contract")
	assert.NotContains(t, vetted(address, "lab/add"), "deprecated")
	assert.Contains(t, vetted("", "lab/add"),
		"the contract of lab comes from a file, and where that sends is not trusted")
	assert.NotContains(t, vetted(address, "lab/add"), "not trusted")
}

// A file is read from the bench folder.
func TestFilesStayInTheBench(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.txt"), []byte("x"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "..in"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "..in", "b.txt"), []byte("x"), 0o600))
	large, err := os.Create(filepath.Join(dir, "large.txt"))
	require.NoError(t, err)
	require.NoError(t, large.Truncate(256<<20+1))
	require.NoError(t, large.Close())
	filesInTheBench(t, dir, map[string]string{
		"in.txt": "", "large.txt": "is larger than 256 MiB", "..in/b.txt": "", "../x.txt": "leads out of the bench folder",
		"/etc/passwd": "are named relative to the bench folder",
	})
}

// A link does not lead out of the bench folder.
func TestLinksStayInTheBench(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "a.txt"), []byte("x"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.txt"), []byte("x"), 0o600))
	safefiletest.Link(t, filepath.Join(outside, "a.txt"), filepath.Join(dir, "out.txt"))
	safefiletest.Link(t, outside, filepath.Join(dir, "far"))
	safefiletest.Link(t, filepath.Join(dir, "in.txt"), filepath.Join(dir, "near.txt"))
	filesInTheBench(t, dir, map[string]string{
		"near.txt": "", "out.txt": "is a link that leads out of the bench folder",
		"far/a.txt": "is a link that leads out of the bench folder",
	})
}

// filesInTheBench looks at files that a step names, each with what is wrong with it.
func filesInTheBench(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	bench := bench.Read(dir, "bench.yaml", []byte("bench: b\n"))
	for name, wrong := range files {
		read := sheet.Read(bench, "s.yaml",
			[]byte("sheet: s\nsteps:\n  - step: it\n    request: POST http://127.0.0.1:1/\n    file: "+name+"\n"),
			step.Kinds)
		untouched := sheet.Read(bench, "s.yaml",
			[]byte("sheet: s\nsteps:\n  - step: it\n    request: POST http://127.0.0.1:1/\n    bytes: "+name+"\n"),
			step.Kinds)
		assert.Equal(t, []string{name, name}, slices.Concat(read.Reads, untouched.Reads),
			"what the sheet came to hangs on it")
		problems := vet.Sheet(read, vet.Options{}).Serious()
		if wrong == "" {
			assert.Empty(t, problems, name)
			continue
		}
		require.NotEmpty(t, problems, name)
		assert.Contains(t, problems[0].Message, wrong)
	}
}

func indented(text string) string { return "    " + strings.ReplaceAll(text, "\n", "\n    ") + "\n" }
