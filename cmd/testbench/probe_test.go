package main_test

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

// probed is a probe as programs read it.
type probed struct {
	Run    int
	Counts map[string]int
	Cases  []struct {
		Kind, Field, Changed, Said, Verdict, Why string
		Breaks                                   []string
		Allowed                                  bool
	}
}

func (p *place) probe(args ...string) (probed, outcome) {
	p.t.Helper()
	o := p.run(append([]string{"probe", "-json"}, args...)...)
	var out probed
	require.NoError(p.t, json.Unmarshal([]byte(o.stdout), &out), o.all())
	return out, o
}

// verdicts are the verdicts of cases whose change holds a text.
func (r probed) verdicts(changed string) []string {
	var out []string
	for _, c := range r.Cases {
		if strings.Contains(c.Changed, changed) {
			out = append(out, c.Verdict)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// The stand-in refuses what is wrong, and says why; of what it takes, the contract forbids
// nothing.
func TestProbe(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	for _, c := range []struct {
		args  string
		least int      // how many wrong requests there are at least
		kinds []string // that there are among them
		leave []string // of what it takes or refuses unclearly, what is known
	}{
		{"stores/search grade=A", 25, []string{"credentials", "method", "missing", "type", "limits", "text"}, nil},
		{"stores/lot id=L-2201", 15, []string{"identity"}, nil},
		{
			"lab/GradeLot lot=L-2201 moisture=17", 30,
			[]string{"envelope", "missing", "type", "limits", "null", "doubled", "unknown", "text", "identity"},
			nil,
		},
		{"lab/GradeLot lot=L-2201 moisture=17 -soap 1.2", 30, []string{"envelope"}, nil},
		{"lab_digested/GradeLot lot=L-2201 moisture=17", 30, []string{"credentials"}, nil},
		{"lab_signed/GradeLot lot=L-2201 moisture=17", 30, []string{"credentials"}, nil},
		{
			"lab_sealed/GradeLot lot=L-2201 moisture=17", 30,
			[]string{"credentials"},
			[]string{"what it says is encrypted"},
		},
		{
			"scale/Weigh load.plate=AB-123 load.gross=900 load.tare=100 -write local", 40,
			[]string{"content", "type"},
			nil,
		},
		{
			"ledger/Suppliers.create name=Moor city=Heatherfold since=2026-05-04 -write local", 40,
			[]string{
				"credentials", "content", "envelope", "missing", "type", "limits", "null", "doubled", "unknown",
				"text",
			},
			nil,
		},
		{"sheets/01-search.yaml details", 15, []string{"credentials", "identity"}, nil},
		{"sheets/02-grading.yaml register -write local", 55, []string{"list", "unknown"}, nil},
	} {
		got, o := p.probe(strings.Fields(c.args)...)
		assert.Equal(t, 0, o.status, "%s: %s", c.args, o.all())
		assert.GreaterOrEqual(t, len(got.Cases), c.least, c.args)
		kinds := map[string]bool{}
		for _, one := range got.Cases {
			kinds[one.Kind] = true
			known := slices.ContainsFunc(c.leave, func(why string) bool { return strings.Contains(one.Why, why) })
			isFine := one.Verdict == "refused clearly" || one.Verdict == "accepted" && one.Allowed ||
				one.Verdict == "not sent"
			assert.True(t, isFine || known, "%s: %s: %s %s: %s %s", c.args, one.Changed, one.Verdict, one.Said, one.Why,
				one.Breaks)
		}
		assert.Subset(t, slices.Collect(maps.Keys(kinds)), c.kinds, c.args)
	}

	// Nothing that could change anything goes out unasked, and the same seed asks the same.
	got, o := p.probe("stores/search", "grade=A", "-only", "method")
	assert.Equal(t, 0, o.status)
	assert.Equal(t, 3, got.Counts["not sent"], o.stdout)
	first, _ := p.probe("stores/lot", "id=L-2201", "-only", "identity", "-seed", "7")
	again, _ := p.probe("stores/lot", "id=L-2201", "-only", "identity", "-seed", "7")
	other, _ := p.probe("stores/lot", "id=L-2201", "-only", "identity", "-seed", "8")
	assert.Equal(t, first.Cases, again.Cases)
	assert.NotEqual(t, first.Cases, other.Cases)

	// It is in the history, and has every report.
	o = p.run("probe", "stores/lot", "id=L-2201", "-bad", "-out", "probe.html", "-out", "probe.xml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, p.read("probe.html"), "probe stores/lot")
	assert.Contains(t, p.read("probe.xml"), "credentials: without credentials")
	assert.NotContains(t, o.all()+p.read("probe.html"), standin.Secrets["clerk"])
	assert.Contains(t, p.run("history").stdout, "probe stores/lot")

	p.write("sheets/late.yaml",
		`sheet: late
steps:
  - step: wait
    call: stores/search
    fill: { grade: A }
    until: { total: over 0 }
  - step: never
    when: 1 == 2
    call: stores/search
    fill: { grade: A }
`)
	p.cases([]commandCase{
		{"probe stores/search", 0, []string{"as it is right: 200", "passed: nothing broke it"}},
		{
			"probe stores/search grade=Z -contract answer", 1,
			[]string{"the request is not taken as it is right", "grade must be A, B or C"},
		},
		{"probe stores/lot id=L-0000", 1, []string{"the request is not taken as it is right"}},
		{
			"probe stores/move lot=L-2201 to=south", 2,
			[]string{"it changes something where it is taken", "-write SITE sends it"},
		},
		{"probe", 2, []string{"probe which operation?"}},
		{"probe stores/search -only lmits", 2, []string{`did you mean "limits"?`}},
		{"probe stores/search -rate fast", 2, []string{"-rate 20/s"}},
		{"probe stores/search -within 0s", 2, []string{"-within 5s"}},
		{"probe stores/search -as program", 2, []string{"-as sheet"}},
		{"probe stores/serach", 2, []string{`did you mean "search"?`}},
		{"probe sheets/01-search.yaml", 2, []string{"probe which step"}},
		{"probe sheets/01-search.yaml nosuch", 2, []string{"nosuch"}},
		{"probe sheets/late.yaml wait", 2, []string{"waits for nothing"}},
		{"probe sheets/late.yaml never", 2, []string{"was not reached"}},
		{"probe mishaps GET /cut", 3, []string{"the request is not taken as it is right"}},
	})
}

// What the stand-in does wrong where it is asked to be weak, a probe finds.
func TestProbeFindsWeaknesses(t *testing.T) {
	slow(t)
	t.Parallel()
	p := newPlace(t)
	server, err := standin.Start("127.0.0.1:0",
		standin.Options{Books: filepath.Join(p.dir, demo.BooksFile), Weak: true})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	require.NoError(t, demo.Write(p.dir, "http://"+server.Address))
	p.seal(standin.Secrets)
	created := p.run("call", "ledger/Suppliers.create", "name=Moor", "since=2026-05-04", "-pick", "number")
	require.Equal(t, 0, created.status, created.all())
	found := map[string]bool{}
	for _, c := range []struct{ weakness, args, changed, verdict string }{
		{"stores: a token that has expired is let in", "stores/search grade=A", "has expired", "let in"},
		{"stores/search: a page below 1 breaks it", "stores/search grade=A", "page just below its least", "broke"},
		{
			"stores/lot: an id of more than 1,000 characters is never answered",
			"stores/lot id=L-2201 -within 2s -only text", "id very long", "broke",
		},
		{
			"lab/GradeLot: letters for a number break it", "lab/GradeLot lot=L-2201 moisture=17",
			"moisture with letters",
			"broke",
		},
		{
			"lab/GradeLot: a lot that is null cuts the connection", "lab/GradeLot lot=L-2201 moisture=17", "lot null",
			"broke",
		},
		{
			"ledger/Suppliers.create: a name that is left out is taken",
			"ledger/Suppliers.create name=Moor since=2026-05-04 -write local", "without name", "accepted",
		},
		{
			"ledger/Suppliers.change: any version is taken",
			"ledger/Suppliers.change number=" + strings.TrimSpace(created.stdout) + " city=Moor -write local",
			"for a version that there is not", "accepted",
		},
	} {
		got, o := p.probe(strings.Fields(c.args)...)
		assert.Equal(t, []string{c.verdict}, got.verdicts(c.changed), "%s: %s", c.args, o.stdout)
		want := 0
		if c.verdict != "accepted" {
			want = 1
		}
		assert.Equal(t, want, o.status, c.args)
		found[c.weakness] = true
	}
	assert.ElementsMatch(t, standin.Weaknesses, slices.Collect(maps.Keys(found)))
}

// The wrong requests can be kept as a sheet, which holds no secret and is run like any other.
func TestProbeAsSheet(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	for _, c := range []string{
		"stores/search grade=A", "lab/GradeLot lot=L-2201 moisture=17", "lab_signed/GradeLot lot=L-2201 moisture=17",
		"ledger/Suppliers.create name=Moor city=${x} since=2026-05-04",
	} {
		o := p.run(append(append([]string{"probe"}, strings.Fields(strings.ReplaceAll(c, "${x}", "$${x}"))...), "-as",
			"sheet", "-out", "sheets/kept.yaml")...)
		require.Equal(t, 0, o.status, o.all())
		sheet := p.read("sheets/kept.yaml")
		for name, text := range standin.Secrets {
			assert.NotContains(t, sheet, text, name)
		}
		o = p.run("run", "sheets/kept.yaml", "-write", "local")
		assert.Equal(t, 0, o.status, "%s: %s", c, o.all())
		assert.Contains(t, o.stdout, "1 passed")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "sheets/kept.yaml")))
	}
	o := p.run("probe", "sheets/02-grading.yaml", "grade by 1.1", "-as", "sheet")
	assert.Contains(t, o.stdout, "request: lab POST", o.all())
}
