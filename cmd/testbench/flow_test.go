package main_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Steps are carried out for each item, in groups, and not at all where something before
// them stops the row or the sheet.
func TestFlow(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/lots":
			fmt.Fprint(w, `{"lots": [{"no": "L-1", "kilos": 3}, {"no": "L-2", "kilos": 4.50}], "one": {"no": "L-9"}, "none": []}`)
		case "/lot/L-3":
			w.WriteHeader(404)
			fmt.Fprint(w, `{"error": "no such lot"}`)
		default:
			_ = json.NewEncoder(w).Encode(map[string]string{
				"no":    strings.TrimPrefix(r.URL.Path, "/lot/"),
				"twice": strings.Repeat(r.URL.Query().Get("k"), 2),
			})
		}
	}))
	t.Cleanup(server.Close)
	const lots = "  - step: lots\n    request: GET ${base}/lots\n    keep: {lots: lots, one: one, none: none}\n"
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	for i, c := range []struct {
		steps  string
		status int
		says   []string
	}{
		{
			lots + `  - step: lot
    for each: ${lots}
    request: GET ${base}/lot/${each.no}?k=${each.kilos}
    keep: {twice: twice}
  - step: all
    calculate: {n: size(kept.twice), last: "kept.twice[1]"}
  - step: last
    request: GET ${base}/lot/${last}
    fields: {no: 4.504.50}
`,
			0,
			[]string{"lot (1 of 2)", "lot (2 of 2)", "last GET ${base}/lot/${last} 200"},
		},
		{lots + `  - step: lot
    for each: {item: '${one}'}
    request: GET ${base}/lot/${item.no}
    fields: {no: L-9}
`, 0, []string{"lot (1 of 1)"}},
		{lots + `  - step: lot
    for each: ${none}
    request: GET ${base}/lot/${each.no}
    keep: {x: no}
  - step: all
    calculate: {n: size(kept.x)}
`, 0, []string{"lot not run: for each: there is no item", "all calculate done"}},
		{
			`  - step: lot
    for each: [L-1, L-3]
    request: GET ${base}/lot/${each}
    keep: {x: no}
  - step: after
    request: GET ${base}/lot/${x}
  - step: sum
    calculate: {n: size(kept.x)}
`, 1,
			[]string{
				"lot (2 of 2) GET ${base}/lot/${each} 404",
				"after not run: x was not kept for each item (lot failed)", "sum not run: x was not kept",
			},
		},
		{
			lots + `  - step: each lot
    for each: ${lots}
    steps:
      - step: get
        request: GET ${base}/lot/${each.no}
        keep: {no: no}
      - step: again
        request: GET ${base}/lot/${no}
        fields: {no: '${each.no}'}
  - step: both
    calculate: {n: "size(kept.no) == 2 ? 'L-1' : 'L-3'"}
  - step: sum
    request: GET ${base}/lot/${n}
`,
			0,
			[]string{"each lot (1 of 2): get", "each lot (2 of 2): again", "sum GET ${base}/lot/${n} 200"},
		},
		{
			"  - step: group\n    when: 1 > 2\n    steps:\n      - step: get\n        request: GET ${base}/lot/L-3\n",
			1,
			[]string{"group not run: condition is false: 1 > 2"},
		},
		{
			`  - step: get
    request: GET ${base}/lot/L-3
    stop: row
  - step: rest
    request: GET ${base}/lot/L-1
finally:
  - step: end
    request: GET ${base}/lot/L-1
`, 1,
			[]string{"rest not run: get failed, and stops the row", "end GET ${base}/lot/L-1 200"},
		},
		{
			"  - step: get\n    request: GET ${base}/lot/L-${n}\n    stop: sheet\nrows: {numbers: 2 to 5, as: n}\n", 1,
			[]string{"row 2 of 4 (n 3)", "2 rows · 1 passed · 1 failed"},
		},
		{
			`  - step: get
    request: GET ${base}/lot/L-3
  - step: rest
    request: GET ${base}/lot/L-1
finally:
  - step: end
    stop: sheet
    for each: [1, 2]
    steps:
      - step: it
        request: GET ${base}/lot/L-3
last:
  - step: all
    steps:
      - step: over
        request: GET ${base}/lot/L-1
`, 1,
			[]string{
				"rest GET ${base}/lot/L-1 200", "end (2 of 2): it GET ${base}/lot/L-3 404",
				"all: over GET ${base}/lot/L-1 200",
			},
		},
		{`  - step: group
    expect: {status: 200}
    steps:
      - step: get
        request: GET ${base}/lots
`, 2, []string{`a group has no expect`}},
		{`  - step: get
    request: GET ${base}/lots
    steps:
      - step: get
        request: GET ${base}/lots
`, 2, []string{`does more than one thing: request and steps`}},
		{
			"  - step: get\n    for each: [1]\n    set: {x: '${each}'}\n  - step: after\n    set: {y: '${each}'}\n", 2,
			[]string{"nothing defines ${each}"},
		},
		{"  - step: get\n    for each: {a: [1], b: [2]}\n    pause: 1 ms\n", 2, []string{"for each names one list"}},
		{"  - step: get\n    pause: -1 s\n", 2, []string{`"-1 s" is less than nothing`}},
		{"  - step: get\n    steps: []\n", 2, []string{`the group "get" has no steps`}},
		{`  - step: all
    batch: b
    parts:
      - step: one
        request: b GET /x
        until: {a: 1}
`, 2, []string{"a part of a batch has no until"}},
		{"  - step: get\n    stop: all\n    set: {x: 1}\n", 2, []string{`there are: row, sheet`}},
	} {
		name := fmt.Sprintf("s%d.yaml", i)
		p.write(name, "sheet: s\nsteps:\n"+c.steps)
		if dry := p.run("run", name, "-dry"); c.status != 2 {
			assert.NotContains(t, dry.all(), "done", "what would be sent is told once")
		}
		o := p.run("run", name)
		assert.Equal(t, c.status, o.status, "%s: %s", c.steps, o.all())
		for _, says := range c.says {
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), says, c.steps)
		}
	}
}

// What was done is taken back, the last of it first, also where the row failed; what
// was refused is not.
func TestUndo(t *testing.T) {
	t.Parallel()
	var mutex sync.Mutex
	var asked lines
	number := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		asked.add(r.Method + " " + r.URL.Path)
		w.Header().Set("Content-Type", "application/json")
		if strings.HasSuffix(r.URL.Path, "/refused") {
			w.WriteHeader(422)
		}
		number++
		fmt.Fprintf(w, `{"no": %d}`, number)
	}))
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	const undo = "    undo:\n      request: DELETE ${base}/it/${no}\n"
	p.write("s.yaml", `sheet: s
rows: {numbers: 1 to 2, as: count}
first:
  - step: before
    request: POST ${base}/before
    keep: {no: no}
`+undo+
		"steps:\n  - step: some\n    for each: [a, b]\n    request: POST ${base}/${each}\n    keep: {no: no}\n"+undo+
		"  - step: refused\n    request: POST ${base}/refused\n    undo:\n      request: DELETE ${base}/refused\n"+
		"finally:\n  - step: end\n    request: GET ${base}/end\n")
	o := p.run("run", "s.yaml")
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, "POST /before POST /a POST /b POST /refused GET /end DELETE /it/3 DELETE /it/2 "+
		"POST /a POST /b POST /refused GET /end DELETE /it/9 DELETE /it/8 DELETE /it/1",
		strings.Join(asked.read(), " "))
	assert.Contains(t, o.all(), "undo some (2 of 2)")
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "),
		"s · site local · last undo before DELETE ${base}/it/${no} 200")
	p.write("x.yaml", `sheet: s
steps:
  - step: a
    request: GET ${base}/a
    undo:
      request: GET ${base}/x/${lost}
  - step: b
    request: GET ${base}/b
    undo: no
`)
	o = p.run("run", "x.yaml")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.all(), "nothing defines ${lost}")
	assert.Contains(t, o.all(), "a step must be a mapping")
}

// What comes at the end is run whole, also where the run was to stop before.
func TestEndAfterStop(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	p.write("s.yaml", `sheet: s
rows: {numbers: 1 to 2}
steps:
  - step: falls
    request: GET ${base}
  - step: never
    pause: 1 ms
`+
		`finally:
  - step: group
    for each: [a, b]
    steps:
      - step: end
        request: GET ${base}/${each}
last:
  - step: last
    pause: 1 ms
`)
	o := p.run("run", "s.yaml", "-stop")
	assert.Equal(t, 1, o.status, o.all())
	for says, times := range map[string]int{
		"falls": 1, "never": 0, "(1 of 2): end": 1, "(2 of 2): end": 1, "row 2": 0,
		"  last": 1,
	} {
		assert.Equal(t, times, strings.Count(o.stdout, says), "%s in %s", says, o.stdout)
	}
}

// A run that accepts what comes writes the files that answers are held against afterwards.
func TestAccept(t *testing.T) {
	t.Parallel()
	var kilos atomic.Int64
	kilos.Store(40)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"lot": %q, "kilos": %d}`, r.URL.Path, kilos.Load())
	}))
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\n")
	const sheet = "sheet: s\nrows: {list: [{lot: a}, {lot: b}]}\nsteps:\n  - request: GET ${base}/${lot}\n    expect: {same as file: \"expected/NAME.json\"}\n"
	p.write("s.yaml", strings.Replace(sheet, "NAME", "${lot}", 1))
	o := p.run("run", "s.yaml", "-accept")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.all(), "accepted: expected/a.json is written")
	assert.Equal(t, "{\n  \"lot\": \"/b\",\n  \"kilos\": 40\n}\n", p.read("expected/b.json"))
	assert.Equal(t, 0, p.run("run", "s.yaml").status)
	kilos.Store(41)
	o = p.run("run", "s.yaml")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.all(), "kilos: 41, not 40")
	p.write("s.yaml", strings.Replace(sheet, "NAME", "lot", 1))
	o = p.run("run", "s.yaml", "-accept")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), "another answer of this run is in lot.json: put a value of the row into its name")
	p.write("s.yaml", "sheet: s\nsteps:\n  - request: GET ${base}/a\n")
	o = p.run("run", "s.yaml", "-accept")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "-accept has no effect: no step of these sheets expects what a file holds (same as file)")
}
