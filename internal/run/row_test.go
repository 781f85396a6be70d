package run_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/exchange"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// apiary answers GET /NAME with {"n": "NAME"}, and with 404 where the name begins with lost. It
// notes what it is asked.
type apiary struct {
	mutex sync.Mutex
	asked []string
	on    func(path string)
}

func (a *apiary) Do(_ context.Context, r *exchange.Request) *exchange.Record {
	a.mutex.Lock()
	name := strings.TrimPrefix(r.URL.Path, "/")
	a.asked = append(a.asked, strings.TrimPrefix(r.Method+" ", "GET ")+name)
	a.mutex.Unlock()
	if a.on != nil {
		a.on(name)
	}
	status := 200
	if strings.HasPrefix(name, "lost") {
		status = 404
	}
	return &exchange.Record{Request: r, Started: time.Now(), Answer: &exchange.Answer{
		Status: status, Proto: "HTTP/1.1", Header: http.Header{"Content-Type": {"application/json"}},
		Body: fmt.Appendf(nil, `{"n": %q, "list": [{"id": "a"}, {"id": "b"}], "one": {"id": "c"}}`, name),
	}}
}

func (a *apiary) Single() exchange.Sender { return a }

func (a *apiary) Close() {}

// How a row goes on from step to step: what is left out, stopped, repeated, kept, taken back and
// run whatever happens.
func TestRows(t *testing.T) {
	for _, c := range []struct {
		name, sheet string
		options     run.RunOptions
		change      func(a *apiary, stop func())
		asked       string
		told        string
		failed      string // the checks of the sheet as a whole that failed
	}{
		{
			name: "one after the other",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {k: n}
  - step: b
    request: s GET /b-${k}
`,
			asked: "a b-a", told: "a passed; b passed",
		},
		{
			name: "what was not kept is not asked for",
			sheet: `steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    request: s GET /b-${k}
  - step: c
    request: s GET /c
    where:
      - kept.k == 'x'
  - step: d
    request: s GET /d-${kept.k | default e}
`,
			asked: "lost d-e", told: "a failed; b not run: k was not kept (a failed); c not run: k was not kept (a failed); d passed",
		},
		{
			name: "what was not kept is the row's own",
			sheet: `rows: {list: [{k: z}]}
steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    request: s GET /b-${k}
`,
			asked: "lost b-z", told: "a failed; b passed",
		},
		{
			name: "what is kept again is there again",
			sheet: `steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    request: s GET /b
    keep: {k: n}
  - step: c
    request: s GET /c-${k}
`,
			asked: "lost b c-b", told: "a failed; b passed; c passed",
		},
		{
			name: "rules see what was kept before",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {k: n}
  - step: b
    request: s GET /b
    keep: {k: n}
    fields: {n: 'not equals ${k}'}
    where:
      - kept.k == 'a'
  - step: c
    request: s GET /b
    fields: {n: '${k}'}
`,
			asked: "a b b", told: "a passed; b passed; c passed",
		},
		{
			name: "what cannot be calculated of what was lost",
			sheet: `steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    calculate: {l: kept.k + 'x'}
  - step: c
    request: s GET /${l}
`,
			asked: "lost", told: "a failed; b not run: k was not kept (a failed); c not run: l was not kept (b not run)",
		},
		{
			name: "a condition on two, of which one was lost",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {j: n}
  - step: b
    request: s GET /lost
    keep: {k: n}
  - step: c
    request: s GET /c
    where:
      - kept.j == 'a' && kept.k == 'b'
`,
			asked: "a lost", told: "a passed; b failed; c not run: k was not kept (b failed)",
		},
		{
			name: "what was lost and is kept again is not there for the step itself",
			sheet: `steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    request: s GET /b
    keep: {k: n}
    fields: {n: 'not equals ${k}'}
  - step: c
    set: {k: 1, l: '${k}'}
  - step: d
    request: s GET /d-${l}
`,
			asked: "lost d-1", told: "a failed; b not run: k was not kept (a failed); c passed; d passed",
		},
		{
			name: "a condition",
			sheet: `steps:
  - step: a
    when: 1 > 2
    request: s GET /a
  - step: b
    when: 2 > 1
    request: s GET /b
`,
			asked: "b", told: "a not run: condition is false: 1 > 2 (left is 1, right is 2); b passed",
		},
		{
			name: "the row is stopped",
			sheet: `steps:
  - step: a
    request: s GET /lost
    stop: row
  - step: b
    request: s GET /b
finally:
  - step: c
    request: s GET /c
`,
			asked: "lost c", told: "a failed; b not run: a failed, and stops the row; c passed",
		},
		{
			name: "nothing is stopped where it holds, or is left out",
			sheet: `steps:
  - step: a
    request: s GET /a
    stop: row
  - step: b
    when: 1 > 2
    request: s GET /b
    stop: sheet
  - step: c
    request: s GET /c
`,
			asked: "a c", told: "a passed; b not run: condition is false: 1 > 2 (left is 1, right is 2); c passed",
		},
		{
			name: "the sheet is stopped",
			sheet: `rows: {numbers: 1 to 3, as: n}
steps:
  - step: a
    request: s GET /lost-${n}
    stop: sheet
last:
  - step: z
    request: s GET /z
`,
			asked: "lost-1 z", told: "a failed | z passed",
		},
		{
			name: "the run is stopped",
			sheet: `rows: {numbers: 1 to 3, as: n}
steps:
  - step: a
    request: s GET /lost-${n}
  - step: b
    request: s GET /b
finally:
  - step: c
    request: s GET /lost-c
  - step: d
    request: s GET /d
`,
			options: run.RunOptions{Stop: true},
			asked:   "lost-1 lost-c d", told: "a failed; c failed; d passed",
		},
		{
			name: "for each of a list, and what is kept of it",
			sheet: `steps:
  - step: all
    request: s GET /all
    keep: {list: list}
  - step: a
    for each: ${list}
    request: s GET /${each.id}
    keep: {k: n}
  - step: b
    set: {l: '${k}'}
    where:
      - size(kept.k) == 2 && kept.k[1] == 'b'
`,
			asked: "all a b", told: "all passed; a (1 of 2) passed; a (2 of 2) passed; b passed",
		},
		{
			name: "for each of a value alone, of nothing, and of null",
			sheet: `steps:
  - step: all
    request: s GET /all
    keep: {one: one}
  - step: a
    for each: {it: '${one}'}
    request: s GET /${it.id}
  - step: b
    for each: []
    request: s GET /b
    keep: {k: n}
  - step: c
    for each: null
    request: s GET /c
  - step: d
    calculate: {n: size(kept.k)}
`,
			asked: "all c", told: "all passed; a (1 of 1) passed; b not run: for each: there is no item; c not run: for each: there is no item; d passed",
		},
		{
			name: "for each, of which one fails",
			sheet: `steps:
  - step: a
    for each: [lost, y]
    request: s GET /${each}
    keep: {k: n}
  - step: b
    request: s GET /b-${k}
`,
			asked: "lost y", told: "a (1 of 2) failed; a (2 of 2) passed; b not run: k was not kept for each item (a failed)",
		},
		{
			name: "for each, of which the last fails",
			sheet: `steps:
  - step: a
    for each: [y, lost]
    request: s GET /${each}
    keep: {k: n}
  - step: b
    request: s GET /b-${k}
`,
			asked: "y lost", told: "a (1 of 2) passed; a (2 of 2) failed; b not run: k was not kept for each item (a failed)",
		},
		{
			name: "for each of what was not kept",
			sheet: `steps:
  - step: a
    request: s GET /lost
    keep: {k: n}
  - step: b
    for each: ${k}
    request: s GET /b
  - step: c
    steps:
      - step: d
        request: s GET /d
    when: kept.k == 'x'
`,
			asked: "lost", told: "a failed; b not run: k was not kept (a failed); c not run: k was not kept (a failed)",
		},
		{
			name: "the name of an item that is a kept one too",
			sheet: `steps:
  - step: a
    set: {it: before}
  - step: b
    for each: {it: [x, y]}
    request: s GET /${it}
  - step: c
    request: s GET /${it}
`,
			asked: "x y before", told: "a passed; b (1 of 2) passed; b (2 of 2) passed; c passed",
		},
		{
			name: "a group for each",
			sheet: `steps:
  - step: g
    for each: [x, y]
    steps:
      - step: a
        request: s GET /${each}
        keep: {k: n}
      - step: b
        request: s GET /b-${k}
`,
			asked: "x b-x y b-y", told: "g (1 of 2): a passed; g (1 of 2): b passed; g (2 of 2): a passed; g (2 of 2): b passed",
		},
		{
			name: "what is taken back, the last first, and only what was done",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {k: n}
    undo: {request: 's DELETE /${k}'}
  - step: b
    for each: [x, y]
    request: s GET /${each}
    undo: {request: 's DELETE /${each}'}
  - step: c
    request: s GET /lost
    undo: {request: s DELETE /c}
  - step: d
    when: 1 > 2
    request: s GET /d
    undo: {request: s DELETE /d}
finally:
  - step: e
    request: s GET /e
`,
			asked: "a x y lost e DELETE y DELETE x DELETE a",
			told:  "a passed; b (1 of 2) passed; b (2 of 2) passed; c failed; d not run: condition is false: 1 > 2 (left is 1, right is 2); e passed; undo b (2 of 2) passed; undo b (1 of 2) passed; undo a passed",
		},
		{
			name: "what was done before the rows is taken back after them",
			sheet: `rows: {numbers: 1 to 2, as: n}
first:
  - step: a
    request: s GET /a
    keep: {k: n}
    undo: {request: 's DELETE /${k}'}
steps:
  - step: b
    request: s GET /${k}-${n}
`,
			asked: "a a-1 a-2 DELETE a", told: "a passed | b passed | b passed | undo a passed",
		},
		{name: "no rows", sheet: `rows: {numbers: 1 to 3, as: n, when: row.n > 5}
steps:
  - step: a
    request: s GET /a
`, failed: "rows"},
		{
			name:    "no rows of those that are chosen",
			sheet:   "rows: {numbers: 1 to 3, as: n}\nsteps:\n  - step: a\n    request: s GET /a\n",
			options: run.RunOptions{Rows: [][2]int{{5, 6}}}, failed: "rows",
		},
		{
			name: "a sheet within",
			sheet: `steps:
  - step: in
    sheet: inner.yaml
    fill: {hive: h}
    keep: {k: got}
  - step: b
    request: s GET /b-${k}
`,
			asked: "h b-h", told: "in: one passed; in passed; b passed",
		},
		{
			name: "a sheet within that fails",
			sheet: `steps:
  - step: in
    sheet: inner.yaml
    fill: {hive: lost}
    keep: {k: got}
  - step: b
    request: s GET /b-${k}
`,
			asked: "lost", told: "in: one failed; in not run: the sheet failed; b not run: k was not kept (in failed)",
		},
		{
			name: "a sheet within with rows keeps lists",
			sheet: `steps:
  - step: in
    sheet: rows.yaml
    keep: {k: got}
  - step: b
    request: s GET /${k[1]}-${k[0]}
`,
			asked: "r1 r2 r2-r1", told: "in: one passed; in: one passed; in passed; b passed",
		},
		{
			name:  "a sheet within that has no rows",
			sheet: "steps:\n  - step: in\n    sheet: empty.yaml\n  - step: b\n    request: s GET /b\n",
			asked: "b", told: "in: rows failed; in not run: the sheet failed; b passed",
		},
		{
			name:  "a sheet within that has no rows, after steps before them",
			sheet: "steps:\n  - step: in\n    sheet: before.yaml\n",
			asked: "z", told: "in: z passed; in: rows failed; in not run: the sheet failed",
		},
		{
			name:    "only some rows, of the sheet and not of the one within",
			sheet:   "rows: {numbers: 1 to 5, as: m}\nsteps:\n  - step: in\n    sheet: rows.yaml\n",
			options: run.RunOptions{Rows: [][2]int{{5, 5}}},
			asked:   "r1 r2", told: "in: one passed; in: one passed; in passed",
		},
		{
			name:    "only one step, which runs a sheet",
			sheet:   "steps:\n  - step: in\n    sheet: rows.yaml\n  - step: b\n    request: s GET /b\n",
			options: run.RunOptions{Steps: []string{"in"}},
			asked:   "r1 r2", told: "in: one passed; in: one passed; in passed",
		},
		{
			name: "only one step",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {k: n}
  - step: b
    request: s GET /b
  - step: c
    request: s GET /c-${k}
`,
			options: run.RunOptions{Steps: []string{"b", "c"}},
			asked:   "b", told: "b passed; c not run: k was not kept (a left out)",
		},
		{
			name: "from a step that is before the rows",
			sheet: `first:
  - step: y
    request: s GET /y
  - step: z
    request: s GET /z
steps:
  - step: a
    request: s GET /a
`,
			options: run.RunOptions{From: "z"},
			asked:   "z a", told: "z passed | a passed",
		},
		{
			name: "from a step on",
			sheet: `first:
  - step: z
    request: s GET /z
steps:
  - step: a
    request: s GET /a
  - step: b
    request: s GET /b
  - step: c
    request: s GET /c
`,
			options: run.RunOptions{From: "b"},
			asked:   "b c", told: "b passed; c passed",
		},
		{
			name: "interrupted: what is at the end is done",
			sheet: `steps:
  - step: a
    request: s GET /a
    undo: {request: s DELETE /a}
  - step: b
    request: s GET /b
finally:
  - step: c
    request: s GET /c
last:
  - step: d
    request: s GET /d
`,
			change: func(a *apiary, stop func()) {
				a.on = func(path string) {
					if path == "a" {
						stop()
					}
				}
			},
			asked: "a c DELETE a d", told: "a passed; c passed; undo a passed | d passed",
		},
		{
			name: "a dry run sends nothing",
			sheet: `steps:
  - step: a
    request: s GET /a
    keep: {k: n}
  - step: b
    when: 1 > 2
    request: s GET /b
  - step: c
    sheet: inner.yaml
    fill: {hive: h}
`,
			options: run.RunOptions{Dry: true},
			told:    "a passed; b passed; c: one passed",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			for name, text := range map[string]string{
				"bench.yaml": "bench: b\nservices:\n  s:\n    address: http://s.example\n",
				"inner.yaml": `sheet: inner
takes: {hive: required}
steps:
  - step: one
    request: s GET /${hive}
    keep: {got: n}
`,
				"empty.yaml": `sheet: empty
rows: {numbers: 1 to 2, as: n, when: row.n > 2}
steps:
  - step: one
    request: s GET /r${n}
`,
				"before.yaml": `sheet: before
rows: {numbers: 1 to 2, as: n, when: row.n > 2}
first:
  - step: z
    request: s GET /z
steps:
  - step: one
    request: s GET /r${n}
`,
				"rows.yaml": `sheet: rows
rows: {numbers: 1 to 2, as: n}
steps:
  - step: one
    request: s GET /r${n}
    keep: {got: n}
`,
			} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
			}
			opened, err := bench.Open(dir)
			require.NoError(t, err)
			read := sheet.Read(opened, filepath.Join(dir, "s.yaml"), []byte("sheet: s\n"+c.sheet), step.Kinds)
			require.Empty(t, vet.Sheet(read, vet.Options{}).Serious())
			hives := &apiary{}
			of, err := session.NewSession(opened, session.Options{
				Store: &secret.Store{}, Around: func(exchange.Sender) exchange.Sender { return hives },
			})
			require.NoError(t, err)
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			if c.change != nil {
				c.change(hives, cancel)
			}
			var before []string
			c.options.Before = func(_ context.Context, _ *session.Session, s *sheet.Step, _ *session.Values) {
				before = append(before, s.Name)
			}
			results := run.Run(ctx, nil, []*run.Job{{Session: of, Sheet: read}}, c.options)
			if !c.options.Dry {
				assert.Len(t, before, len(hives.asked), "each request is announced")
			}
			var rows []string
			for _, row := range results[0].Rows {
				var steps []string
				for _, s := range row.Steps {
					text := s.Name + " " + string(s.Outcome)
					if s.Outcome == result.NotRun {
						text += ": " + s.Reason
					}
					steps = append(steps, text)
				}
				rows = append(rows, strings.Join(steps, "; "))
			}
			assert.Equal(t, c.told, strings.Join(rows, " | "))
			assert.Equal(t, c.asked, strings.Join(hives.asked, " "))
			var failed []string
			for _, check := range results[0].Checks {
				if !check.Passed {
					failed = append(failed, string(check.Subject))
				}
			}
			assert.Equal(t, c.failed, strings.Join(failed, " "))
		})
	}
}
