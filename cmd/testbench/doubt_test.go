package main_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/doubt"
	"testbench/internal/standin"
)

// What a green is worth is told in a number, fails a CI job where it is too little, and grows with the rules that are
// proposed; nothing is sent for it, and nothing secret is told.
func TestDoubtCommand(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	p.write("odd.yaml", "sheet: odd\nsteps:\n  - step: it\n    call: stores/search\n    expect:\n      status: 404\n")
	p.cases([]commandCase{
		{"doubt", 2, []string{"the history has no run of a sheet", "run one first: testbench run SHEET"}},
		{"run sheets/02-grading.yaml sheets/03-intake.yaml -doubt -out r.html", 0, []string{"sheets/03-intake.yaml · site local · noticed"}},
		{"doubt sheets/01-search.yaml", 2, []string{"no run in the history has the sheet sheets/01-search.yaml"}},
		{"doubt last -least 95%", 1, []string{"sheets/02-grading.yaml: noticed", "-least asks for 95 %"}},
		{"doubt 1 -least 1", 0, nil},
		{"doubt 7", 2, []string{"there is no run 7 in the history"}},
		{"doubt 0", 2, []string{"runs have numbers from 1"}},
		{"doubt -least 0", 2, []string{"-least takes a part from 1% to 100%"}},
		{"doubt -most 0", 2, []string{"-most takes a number from 1"}},
		{"run odd.yaml -doubt", 1, []string{"the checks of odd.yaml were not doubted: no row of it passed"}},
		{"doubt sheets/02-grading.yaml -into sheets/03-intake.yaml", 2, []string{"is not a sheet that was doubted"}},
	})
	assert.Contains(t, p.read("r.html"), "What the checks would notice")
	server.Close() // nothing of what follows asks it
	doubted := func(args ...string) *doubt.Result {
		o := p.run(append([]string{"doubt", "-json"}, args...)...)
		var found []*doubt.Result
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &found), o.all())
		for _, secret := range standin.Secrets {
			assert.NotContains(t, o.all(), secret)
		}
		require.Len(t, found, 1)
		return found[0]
	}
	before := doubted("sheets/03-intake.yaml")
	assert.Less(t, before.Share(), 0.5)
	o := p.run("doubt", "sheets/03-intake.yaml", "-into", "sheets/03-intake.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "put into step")
	assert.Equal(t, 0, p.run("vet", "sheets/03-intake.yaml").status)
	after := doubted("sheets/03-intake.yaml")
	assert.InDelta(t, float64(before.Noticed+before.ByRules), float64(after.Noticed), 3, "as was said")
	assert.Empty(t, after.Notes, "the rules hold for what was recorded")
	sample := doubted("sheets/03-intake.yaml", "-most", "20")
	assert.Equal(t, []int{20, before.Of}, []int{sample.Tried, sample.Of})
	assert.Contains(t, strings.Join(strings.Fields(p.run("doubt", "sheets/03-intake.yaml", "-most", "20").stdout), " "), "a sample of 20 of")
}

// What came and is not described is put into bench.yaml, where that describes the operation.
func TestCoverInto(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("bench.yaml", p.read("bench.yaml")[:strings.Index(p.read("bench.yaml"), "services:")]+`services:
  echo:
    address: ${base}
    operations:
      one:
        request: GET /{id}
        path: {id: {kind: integer}}
        statuses:
          404: no such one   # as they say
        reads: true
`)
	p.write("sheets/s.yaml", "sheet: s\nsteps:\n  - step: one\n    call: echo/one\n    contract: off\n    fill: {id: 7}\n")
	p.cases([]commandCase{
		{"run sheets/s.yaml", 0, nil},
		{"cover -into sheets/s.yaml", 2, []string{"cover puts something into bench.yaml alone"}},
		{"cover echo -into bench.yaml", 0, []string{"one 200: is not described   1.1", "1 put into bench.yaml"}},
		{"vet", 0, nil},
		{"cover echo -into bench.yaml", 0, []string{"0 put into bench.yaml", "1 of 2"}},
	})
	assert.Contains(t, p.read("bench.yaml"), "          404: no such one   # as they say\n          200: OK, seen in 1.1\n        reads: true\n")
}

// What of the demo's contracts two sheets touch, counted by hand.
func TestCoverCommand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.cases([]commandCase{
		{"cover stores", 0, []string{"no sheet was run yet"}},
		{"run sheets/01-search.yaml sheets/02-grading.yaml", 0, nil},
		{"cover stores -least 90%", 1, []string{"move: never called", "testbench draft stores move -as step", "-least asks for 90 %"}},
		{"cover stores -least 10", 0, []string{"by run 1"}},
		{"cover nothing", 2, []string{`there is no service "nothing"`}},
		{"cover -runs 0", 2, []string{"-runs takes a number from 1"}},
		{"cover stores -site moon", 2, []string{"no run in the history has the site moon"}},
		{"draft stores move -as step", 0, []string{"call: stores/move"}},
	})
	var found []struct {
		Service    string
		Operations []struct {
			Operation string
			Calls     int
			Things    []struct {
				Kind  string
				Count int
			}
		}
	}
	o := p.run("cover", "stores", "lab", "-json")
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &found), o.all())
	counts := map[string][6][2]int{}
	for _, s := range found {
		for _, op := range s.Operations {
			var row [6][2]int
			for _, thing := range op.Things {
				at := map[string]int{"answer": 0, "given": 1, "left out": 2, "value": 3, "came": 4, "judged": 5}
				if i, is := at[thing.Kind]; is {
					row[i][1]++
					if thing.Count > 0 {
						row[i][0]++
					}
				}
			}
			counts[s.Service+"/"+op.Operation] = row
		}
	}
	assert.Equal(t, map[string][6][2]int{
		// answers, given, left out, values, came, judged
		"stores/search":        {{1, 4}, {3, 7}, {4, 6}, {3, 14}, {15, 15}, {7, 15}},
		"stores/lot":           {{1, 5}, {2, 2}, {0, 0}, {1, 2}, {10, 10}, {5, 10}},
		"stores/move":          {{0, 7}, {0, 1}, {0, 0}, {0, 0}, {0, 0}, {0, 0}},
		"lab/GradeLot":         {{1, 2}, {5, 5}, {3, 3}, {0, 0}, {8, 8}, {4, 7}},
		"lab/ConvertIndex":     {{1, 2}, {1, 1}, {0, 0}, {0, 0}, {2, 2}, {1, 2}},
		"lab/RegisterAnalysis": {{1, 2}, {12, 15}, {3, 8}, {2, 3}, {4, 4}, {3, 4}},
		"lab/FileCertificate":  {{1, 2}, {2, 2}, {0, 0}, {0, 0}, {3, 3}, {2, 3}},
	}, counts)
}

// What doubt finds in the demo is acted on until nine changes of ten are noticed: by the rules that it proposes, and by
// conditions that hold a whole answer against another one.
func TestDemoActedOn(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	sheets, err := filepath.Glob(filepath.Join(p.dir, "sheets", "*.yaml"))
	require.NoError(t, err)
	total := func() (noticed, all int) {
		p.run("run", "sheets", "-detail", "summary")
		o := p.run("doubt", "last", "-json")
		var found []*doubt.Result
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &found), o.all())
		require.Len(t, found, len(sheets))
		for _, one := range found {
			noticed, all = noticed+one.Noticed, all+one.Noticed+one.Missed
		}
		return noticed, all
	}
	noticed, all := total()
	assert.Less(t, noticed, all/2)

	edit := func(file string, pairs ...string) {
		text := p.read(file)
		for i := 0; i < len(pairs); i += 2 {
			require.Contains(t, text, pairs[i], file)
			text = strings.Replace(text, pairs[i], pairs[i+1], 1)
		}
		p.write(file, text)
	}
	const same = "    where:\n      - answer == kept.lots\n"
	edit("bench.yaml", "request: DELETE /Intakes/{number}\n      balance", "request: DELETE /Intakes/{number}\n        statuses: {204: it is gone}\n      balance")
	edit("sheets/07-getting-in.yaml",
		"    login: clerk\n", "    login: clerk\n    keep:\n      lots: answer\n",
		"    login: clerk_by_key\n", "    login: clerk_by_key\n"+same,
		"    login: clerk_bound\n", "    login: clerk_bound\n"+same,
		"    login: clerk_on_behalf\n", "    login: clerk_on_behalf\n"+same)
	const lines = `      - answer.lines.all(l, l.kilos == answer.kilos)
      - answer.lines[0].kind == "honey" && answer.lines[1].kind == "levy"
      - answer.lines.all(l, l.amount == round(l.kilos * l.price, 2) || l.kind == "levy")
      - answer.total == sum(answer.lines.map(l, l.amount))
`
	edit("sheets/03-intake.yaml",
		"    keep:\n      number: number\n", "    keep:\n      booked: answer\n      number: number\n",
		"      - answer.total == sum(answer.lines.map(l, l.amount))\n", lines,
		"    follow: ${place}\n    service: ledger\n", "    follow: ${place}\n    service: ledger\n    where:\n      - answer == kept.booked\n",
		"    fields:\n      grade: B\n", "    fields:\n      grade: B\n    where:\n"+lines)
	edit("sheets/04-rows.yaml", "      note: ${row.remark}\nfinally", "      note: ${row.remark}\n    where:\n"+lines+
		"      - string(answer.lot) == string(row.lot) && answer.kilos == number(row.kilos)\nfinally")
	edit("sheets/06-too-moist.yaml", "    keep:\n      number: number\n", "    keep:\n      booked: answer\n      number: number\n    where:\n"+lines,
		"      lot: ${row.lot}\nfinally", "      lot: ${row.lot}\n    where:\n      - answer == kept.booked\nfinally")
	assert.Equal(t, 0, p.run("vet").status, p.run("vet").all())
	total()
	for _, file := range sheets {
		name := "sheets/" + filepath.Base(file)
		o := p.run("doubt", name, "-into", name)
		assert.Equal(t, 0, o.status, o.all())
	}
	noticed, all = total()
	assert.GreaterOrEqual(t, noticed, all*9/10, "%d of %d", noticed, all)
	o := p.run("run", "sheets", "-detail", "summary")
	assert.Contains(t, o.stdout, "17 passed · 1 failed", "as before")
}

// Rules go into steps of groups too; where fields are written in braces they are told, to be written by the tester.
func TestDoubtInto(t *testing.T) {
	t.Parallel()
	p := newEcho(t, echoing(t, func(string) {}))
	p.write("sheets/s.yaml", `sheet: s
first:
  - step: before
    request: GET ${base}/1
steps:
  - step: group
    steps:
      - step: inside
        request: GET ${base}/2
  - step: braces
    request: GET ${base}/3
    fields: {reply.status: 200}
`)
	require.Equal(t, 0, p.run("run", "sheets/s.yaml").status)
	o := p.run("doubt", "sheets/s.yaml", "-into", "sheets/s.yaml")
	assert.Equal(t, 0, o.status, o.all())
	for _, says := range []string{`step "before" of sheets/s.yaml`, `step "group: inside" of sheets/s.yaml`, `step "braces": `, "write the entries yourself"} {
		assert.Contains(t, o.stderr, says)
	}
	assert.Contains(t, p.read("sheets/s.yaml"), "        request: GET ${base}/2\n        fields:\n          ")
	assert.Equal(t, 0, p.run("run", "sheets/s.yaml").status)
}
