package cli

import (
	"bytes"
	"context"
	"flag"
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

	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

// ways are command lines for each form of each command, without options but for the one
// that makes the form.
var ways = map[string][]string{
	"new": {"NEW"}, "demo": {}, "vet": {}, "schema": {"sheet"}, "help": {"call"}, "completion": {"bash"}, "version": {},
	"validate":               {"stores/lot", "lot.json"},
	"add":                    {"lab2", "contracts/lab.wsdl"},
	"add with -from-shell":   {"seen", "-from-shell", "curl http://127.0.0.1:1/x?a=b"},
	"add with -from-sample":  {"pasted", "http://127.0.0.1:1/x", "-from-sample", "lot.json"},
	"add with -from-har":     {"recorded", "-from-har", "recorded.har"},
	"add with -example":      {"shown", "http://127.0.0.1:1/x?a=b", "-example"},
	"survey of an operation": {"lab", "GradeLot"}, "survey of a whole contract": {"lab"},
	"survey of a schema":                     {"contracts/lab.xsd", "GradeLot"},
	"survey over all contracts of the bench": {"-find", "moisture"}, "survey with -logins": {"stores", "-logins"},
	"token": {"clerk"}, "token with -forget": {"clerk", "-forget"}, "token with -bare": {"clerk", "-bare"},
	"secret list": {"list"}, "secret lock and unlock": {"lock"}, "secret share of all secrets": {"share", "age1x"},
	"secret share":  {"share", "age1x", "clerk"},
	"secret remove": {"remove", "nothing"}, "secret set": {"set", "one"},
	"draft": {"lab", "GradeLot"}, "draft of a schema": {"contracts/lab.xsd", "GradeLot"},
	"draft with -json": {"lab", "GradeLot", "-json"},
	"call":             {"stores/search", "grade=A"}, "call with -dry": {"stores/search", "grade=A", "-dry"},
	"call with -json": {"stores/search", "grade=A", "-json"},
	"call with -pick": {"stores/search", "grade=A", "-pick", "depot"},
	"fields":          {"lot.json"}, "fields with -json": {"lot.json", "-json"},
	"fields with -as":          {"lot.json", "-as", "keep"},
	"propose of saved answers": {"lot.json"},
	"propose with -into":       {"lot.json", "-into", "sheets/01-search.yaml", "-step", "details"},
	"propose with -times":      {"stores/search", "grade=A", "-times", "2"},
	"propose with -times and -into": {
		"stores/search", "grade=A", "-times", "2", "-into", "sheets/01-search.yaml",
		"-step", "details",
	},
	"compare of contracts": {"contracts/stores.yaml", "contracts/stores-next.yaml"}, "compare of runs": {"1", "2"},
	"compare of answers":              {"lot.json", "lot2.json"},
	"compare of answers at two sites": {"stores/search", "grade=A", "-site", "local", "-site", "south"},
	"watch":                           {"stores/search", "grade=A", "-times", "1"},
	"run with -resume":                {"-resume", "99"}, "run with -dry": {"sheets/01-search.yaml", "-dry"},
	"run with -json": {"sheets/01-search.yaml", "-json"}, "run without -show": {"sheets/01-search.yaml"},
	"run":                             {"sheets/01-search.yaml", "-show", "sent"},
	"probe":                           {"stores/search", "grade=A", "-only", "missing"},
	"probe with -json":                {"stores/search", "grade=A", "-only", "missing", "-json"},
	"probe of a step":                 {"sheets/01-search.yaml", "details", "-only", "missing"},
	"probe with -as sheet":            {"stores/search", "grade=A", "-as", "sheet", "-only", "missing"},
	"probe with -as sheet, of a step": {"sheets/01-search.yaml", "the lots", "-as", "sheet"},
	"cover":                           {"stores"}, "cover with -json": {"stores", "-json"},
	"doubt": {"sheets/01-search.yaml"}, "doubt with -json": {"sheets/01-search.yaml", "-json"},
	"history": {}, "history with -prune": {"-prune", "99"}, "history with -steps": {"-steps"},
	"history with -values": {"-values", "total"}, "history with -import": {"-import", "s1.json"}, "history with -export": {"-export", "nights"},
	"history of a run": {"1"}, "history of an exchange": {"1.1"},
	"report": {"1"}, "report with -json": {"1", "-json"}, "report with -merge": {"-merge", "s1.json", "s2.json"},
	"handover of a past exchange": {"1.1"}, "handover of a step": {"sheets/01-search.yaml", "the lots"},
	"handover":          {"stores/search", "grade=A"},
	"bridge with -role": {"lab", "-role", "grader"}, "bridge with -issue-key": {"lab", "-issue-key", "orchard"},
	"bridge with -withdraw-key": {"lab", "-withdraw-key", "orchard"}, "bridge with -list-keys": {"lab", "-list-keys"},
	"bridge":                    {"lab", "-listen", "x"},
	"standin with -contract":    {"-contract", "contracts/lab.wsdl", "-listen", "x"},
	"standin without -contract": {"-listen", "x"},
}

// values are options as they are given where they are not expected.
var values = map[string]string{
	"size": "640x320", "timeout": "1s", "within": "1s", "every": "1s", "for": "1s", "until": "1h", "wait": "1s", "offset": "1h",
	"most": "5", "pages": "2", "depth": "1", "jobs": "2", "repeat": "2", "times": "2", "seed": "2",
	"prune": "1", "lifetime": "1", "refuse": "1", "max-request": "5", "set": "a=b", "key": "a=b", "keep": "a=b",
	"rate": "5", "share": "1/2", "row": "2",
}

// workplace is a bench with a stand-in behind a proxy that counts.
type workplace struct {
	dir   string
	mutex sync.Mutex
	asked []string
}

func newWorkplace(t *testing.T) *workplace {
	t.Helper()
	w := &workplace{dir: t.TempDir()}
	inner, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	target, err := url.Parse("http://" + inner.Address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		w.mutex.Lock()
		w.asked = append(w.asked,
			fmt.Sprintf("%s %s %v %s", r.Method, r.RequestURI, lasting(fmt.Sprint(r.Header)), body))
		w.mutex.Unlock()
		proxy.ServeHTTP(rw, r)
	}))
	t.Cleanup(func() {
		server.Close()
		inner.Close()
	})
	require.NoError(t, demo.Write(w.dir, server.URL))
	for name, text := range standin.Secrets {
		t.Setenv("TESTBENCH_SEALED_"+strings.ToUpper(name), text)
	}
	t.Setenv("TESTBENCH_IDENTITY", filepath.Join(w.dir, "identity.txt"))
	t.Chdir(w.dir)
	for name, text := range map[string]string{
		"lot.json":  `{"id": "L-2201", "list": [{"id": 1, "at": "2026-11-01"}]}`,
		"lot2.json": `{"id": "L-2202", "list": [{"id": 1, "at": "2026-11-02"}]}`, "fill.yaml": "kind: heather\n",
		"raw.txt": "raw",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	for _, args := range [][]string{
		{"call", "stores/search", "grade=A"},
		{"call", "stores/search", "grade=B"},
		{"run", "sheets/04-rows.yaml", "-share", "1/2", "-of", "n", "-out", "s1.json"},
		{"run", "sheets/04-rows.yaml", "-share", "2/2", "-of", "n", "-out", "s2.json"},
		{"run", "sheets/01-search.yaml"},
	} {
		said := w.run(t, args...)
		require.True(t, strings.HasPrefix(said, "0\n"), "%v: %s", args, said)
	}
	return w
}

// passing is what differs from one run to the next though nothing else does.
var passing = regexp.MustCompile(
	`[0-9.]+ m?s\b|[0-9-]{10}[T ][0-9:.]+(Z| UTC)?|[0-9]{8}-[0-9]{6}-[0-9a-f]+|run \d+|\d+:\d+:\d+|127\.0\.0\.1:\d+|[A-Za-z0-9+/_-]{24,}|in \d+ seconds|"(milliseconds|seconds|number|started|p\d+|max|per second|millis)": ?"?[^,}]*|Bearer [^\]]*|\d+ (runs?|exchanges?)|\b\d+\b +[0-9-]{10}`)

func lasting(text string) string { return passing.ReplaceAllString(text, "…") }

// run carries a command out and gives its status, what it said and what was asked.
func (w *workplace) run(t *testing.T, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	var out, err bytes.Buffer
	status := Main(ctx, ctx, args, strings.NewReader("x"), &out, &err)
	w.mutex.Lock()
	asked := w.asked
	w.asked = nil
	w.mutex.Unlock()
	return fmt.Sprintf("%d\n%s%s%s", status, lasting(out.String()), lasting(err.String()), strings.Join(asked, "\n"))
}

// Each option of each command is used by the form at hand, or refused: all that a form does
// not name are.
func TestOptionsWithoutEffectAreRefused(t *testing.T) {
	w := newWorkplace(t)
	for _, c := range commands() {
		require.NotEmpty(t, forms[c.name], "the command %s has no forms", c.name)
		flags, _ := (&session{}).flags(c)
		var options []string
		flags.VisitAll(func(f *flag.Flag) { options = append(options, f.Name) })
		for _, f := range forms[c.name] {
			for _, option := range f.options {
				assert.Contains(t, options, option, "%s %s", c.name, f.name)
			}
			name := strings.TrimSpace(c.name + " " + f.name)
			args, ok := ways[name]
			if !assert.True(t, ok, "no way to use %q is tried here", name) {
				continue
			}
			for _, option := range options {
				if slices.Contains(f.options, option) || option == "plain" || option == "quiet" ||
					makesForm(c, f, args, option) {
					continue
				}
				t.Run(name+" -"+option, func(t *testing.T) {
					given := "-" + option
					if is, ok := flags.Lookup(option).Value.(interface{ IsBoolFlag() bool }); !ok || !is.IsBoolFlag() {
						given += "=" + firstOf(values[option], "x")
					}
					said := w.run(t, slices.Concat([]string{c.name}, args, []string{given})...)
					assert.True(t, strings.HasPrefix(said, "2\n"), said)
					assert.Contains(t, said, "-"+option+" has no effect in "+c.name)
				})
			}
		}
		for _, option := range options {
			assert.True(t, option == "plain" || option == "quiet" || c.has(option),
				"the option -%s of %s is in none of its forms", option,
				c.name)
		}
	}
}

// makesForm says whether an option turns a command line into another form.
func makesForm(c *command, f form, args []string, option string) bool {
	flags, _ := (&session{}).flags(c)
	positional, err := parse(flags, args)
	if err != nil {
		return false
	}
	u := newUsed(flags, positional)
	u.given[option] = true
	for _, other := range forms[c.name] {
		if other.is(u) {
			return other.name != f.name
		}
	}
	return false
}

// added are options of a form with a value that must make a difference: in what is said,
// asked or written.
var added = map[string][]string{
	"bench": {"-bench", "nowhere"}, "site": {"-site", "south"}, "set": {"-set", "depot=west"},
	"insecure": {"-insecure"}, "allow": nil, "fresh": nil, "log": {"-log", "log.txt"}, "timeout": {"-timeout", "1us"},
	"most":  {"-most", "0"},
	"write": {"-write", "live"}, "json": {"-json"},
}

// differing has those that a command or form alone has.
var differing = map[string][]string{
	"call in": {"-in", "query.odd=1"}, "call fill": {"-fill", "fill.yaml"}, "call body": {"-body", "lot.json"},
	"call bytes": {"-bytes", "raw.txt"}, "call login": {"-login", "none"}, "call soap": {"-soap", "1.1"}, "call port": {"-port", "LabPort12"},
	"call action": {"-action", "urn:x"}, "call contract": nil, "call spoil": {"-spoil", "tampered", "-login", "clerk"},
	"call http": {"-http", "2"}, "call as": {"-as", "text"}, "call pages": nil, "call stay": nil,
	"call headers": {"-headers"}, "call show": {"-show", "all"}, "call full": nil, "call save": {"-save", "saved.json"},
	"call keep": {"-keep", "k=depot"}, "call into": {"-into", "sheets/new.yaml"}, "call pick": {"-pick", "total"},
	"call dry": {"-dry"}, "vet set": {"-set", "x=1"}, "vet site": {"-site", "nowhere"},
	"fields find": {"-find", "at"}, "fields kind": {"-kind", "date"}, "fields tree": {"-tree"},
	"fields as": {"-as", "keep"}, "compare ignore": {"-ignore", "id"}, "compare key": {"-key", "list=id"},
	"compare as": {"-as", "answers"}, "compare root": {"-root", "list"}, "compare out": {"-out", "sides.html"}, "compare full": {"-full"},
	"survey find": {"-find", "moisture"}, "survey depth": {"-depth", "1"}, "survey port": {"-port", "Nowhere"},
	"survey soap": {"-soap", "1.2"}, "survey logins": nil,
	"draft as": {"-as", "step"}, "draft only": {"-only", "required"}, "draft soap": {"-soap", "1.2"},
	"draft port": {"-port", "Nowhere"}, "draft answer": {"-answer"},
	"validate all": nil, "validate operation": {"-operation", "search"}, "validate status": {"-status", "404"},
	"validate request": {"-request"},
	"watch every":      nil, "watch for": nil, "watch times": nil, "watch until": {"-until", "depot: south"},
	"watch pick": {"-pick", "depot"}, "watch alarm": {"-alarm", "depot: north"}, "watch out": {"-out", "w.csv"}, "watch size": nil, "history size": nil, "watch login": {"-login", "none"},
	"run step": {"-step", "details"}, "run tag": {"-tag", "lookout"}, "run rows": {"-rows", "2"}, "run stop": nil, "run accept": nil,
	"run dry": {"-dry"}, "run doubt": {"-doubt"}, "doubt least": {"-least", "99%"}, "doubt most": {"-most", "5"},
	"doubt all": {"-all"}, "doubt out": {"-out", "d.html"}, "cover out": {"-out", "c.html"}, "cover runs": {"-runs", "1"}, "cover least": {"-least", "99%"},
	"cover all": {"-all"}, "cover into": {"-into", "bench.yaml"}, "doubt into": {"-into", "sheets/01-search.yaml"},
	"run out": {"-out", "r.csv"}, "run show": {"-show", "sent"}, "run full": nil, "run detail": {"-detail", "failures"},
	"run jobs": nil, "run rate": nil,
	"run repeat": {"-repeat", "2"}, "run for": {"-for", "1ms"}, "run share": nil, "run of": {"-of", "x"},
	"run from": {"-from", "details"}, "run listen": {"-listen", "127.0.0.1:0"},
	"run callback": {"-callback", "http://h.example/"}, "run resume": nil,
	"history most": {"-most", "1"}, "history steps": nil, "history prune": nil, "history full": nil,
	"report out": {"-out", "rep.md"}, "report merge": nil, "report all": nil, "history import": nil, "history values": nil, "history out": nil, "history export": nil, "report full": {"-out", "rep.har", "-full"},
	"handover as": {"-as", "go"}, "handover out": {"-out", "prog.sh"}, "handover pick": {"-pick", "depot"},
	"handover row": nil, "handover in": {"-in", "query.odd=1"}, "handover login": {"-login", "none"}, "token verify": {"-verify"},
	"token spoil": {"-spoil", "tampered"},
}

// What a form names has an effect there. An option without one that can be seen here (what
// it changes is time, or a terminal) is named with nothing, and has a test of its own.
func TestOptionsHaveAnEffect(t *testing.T) {
	w := newWorkplace(t)
	for _, name := range []string{
		"call", "vet", "fields", "compare of answers", "survey", "draft", "validate", "watch",
		"run without -show", "doubt", "cover", "history", "report", "handover", "token",
	} {
		command, formName, _ := strings.Cut(name, " ")
		for _, f := range forms[command] {
			if f.name != formName {
				continue
			}
			for _, option := range f.options {
				given, ok := differing[command+" "+option]
				if !ok && slices.Contains(ofCall, option) {
					given, ok = differing["call "+option]
				}
				if !ok {
					given, ok = added[option]
				}
				if !assert.True(t, ok, "-%s of %s has no effect that is tried here", option, name) || given == nil ||
					command == "token" && (option == "site" || option == "set") ||
					command == "survey" && slices.Contains(atSite[1:], option) ||
					slices.Contains([]string{"draft", "validate", "history", "report"},
						command) && option != "bench" && option != "json" && len(differing[command+" "+option]) == 0 ||
					command == "survey" && slices.Contains(fetching, option) ||
					(option == "set" || option == "site") && command != "call" && command != "vet" {
					continue
				}
				t.Run(name+" -"+option, func(t *testing.T) {
					base := slices.Concat([]string{command}, ways[name])
					before := w.files(t)
					a := w.run(t, base...)
					b := w.run(t, slices.Concat(base, given)...)
					if a == b {
						assert.NotEqual(t, before, w.files(t), "nothing is said, asked or written in another way")
					}
				})
			}
		}
	}
}

// files are those of the bench, with their sizes, but for its own records.
func (w *workplace) files(t *testing.T) string {
	t.Helper()
	found := map[string]int64{}
	require.NoError(t, filepath.WalkDir(w.dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(name, "history.db") ||
			strings.Contains(name, filepath.Join(".testbench", "tokens")) {
			return nil
		}
		info, err := d.Info()
		if err == nil {
			found[name] = info.Size()
		}
		return nil
	}))
	return fmt.Sprint(slices.Sorted(maps.Keys(found)), slices.Collect(maps.Values(found)))
}

// What is called, in each way of naming it, with a call that the contract breaks.
var targets = map[string]struct{ good, bad []string }{
	"an operation by WSDL": {
		[]string{"lab/GradeLot", "lot=L-2201", "moisture=17"},
		[]string{"lab/GradeLot", "lot=L-2201"},
	},
	"an operation by OpenAPI": {[]string{"stores/search", "grade=A"}, []string{"stores/search", "grade=Z"}},
	"an operation by OData":   {[]string{"ledger/Suppliers.list", "top=2"}, []string{"ledger/Suppliers.list", "top=x"}},
	"an operation by WADL": {
		[]string{"index/prices", "fd=1", "fm=11", "fy=2026", "td=2", "tm=11", "ty=2026"},
		[]string{"index/prices", "fd=x"},
	},
	"an operation by hand": {[]string{"press/submit", "lot=L-2201", "kilos=5"}, []string{"press/submit", "lot=L-2201"}},
	"a method by name":     {[]string{"ledger_json/find", "name=Moor"}, []string{"ledger_json/find"}},
	"SERVICE METHOD PATH":  {[]string{"stores", "GET", "/lots"}, nil},
	"SERVICE POST PATH":    {[]string{"press", "POST", "/jobs"}, nil},
	"METHOD ADDRESS":       {[]string{"POST", "BASE/press/jobs"}, nil},
}

// Each option that says what is sent changes the request, whatever is called and however it
// is named, or is refused.
func TestEachOptionOfACallForEachTarget(t *testing.T) {
	w := newWorkplace(t)
	data, err := os.ReadFile("bench.yaml")
	require.NoError(t, err)
	base := regexp.MustCompile(`http://127\.0\.0\.1:\d+`).FindString(string(data))
	for name, target := range targets {
		for option, given := range map[string][]string{
			"in query": {"-in", "query.odd=1"}, "in header": {"-in", "header.X-Odd=1"},
			"in cookie": {"-in", "cookie.odd=1"}, "in form": {"-in", "form.odd=1"}, "in path": {"-in", "path.odd=1"},
			"fill": {"-fill", "fill.yaml"}, "body": {"-body", "lot.json"}, "bytes": {"-bytes", "raw.txt"},
			"login": {"-login", "courier"}, "spoil": {"-spoil", "tampered", "-login", "clerk"},
			"soap 1.1": {"-soap", "1.1"}, "soap 1.2": {"-soap", "1.2"}, "port": {"-port", "LabPort12"}, "action": {"-action", "urn:odd"},
			"contract": {"-contract", "off"}, "http": {"-http", "2"}, "as": {"-as", "text"}, "a field": {"odd=http://x/y"},
			"site": {"-site", "other"}, "set": {"-set", "base=http://127.0.0.1:1"},
		} {
			t.Run(name+" "+option, func(t *testing.T) {
				args := target.good
				if option == "contract" && target.bad != nil {
					args = target.bad
				}
				call := []string{"call"}
				for _, arg := range args {
					call = append(call, strings.Replace(arg, "BASE", base, 1))
				}
				before := w.run(t, call...)
				after := w.run(t, slices.Concat(call, given)...)
				if name == "METHOD ADDRESS" && (option == "set" || option == "spoil") ||
					name == "an operation by WSDL" && option == "soap 1.1" || strings.HasPrefix(after, "2\n") {
					return // an address is what it is; SOAP 1.1 is what the service has
				}
				assert.NotEqual(t, before, after)
			})
		}
	}
}
