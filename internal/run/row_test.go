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
		fell        string // the checks of the sheet as a whole that fell short
	}{
		{
			name:  "one after the other",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n  - step: b\n    request: s GET /b-${k}\n",
			asked: "a b-a", told: "a held; b held",
		},
		{
			name:  "what was not kept is not asked for",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    keep: {k: n}\n  - step: b\n    request: s GET /b-${k}\n  - step: c\n    request: s GET /c\n    where:\n      - kept.k == 'x'\n  - step: d\n    request: s GET /d-${kept.k | default e}\n",
			asked: "lost d-e", told: "a fell short; b not run: k was not kept (a fell short); c not run: k was not kept (a fell short); d held",
		},
		{
			name:  "what is kept again is there again",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    keep: {k: n}\n  - step: b\n    request: s GET /b\n    keep: {k: n}\n  - step: c\n    request: s GET /c-${k}\n",
			asked: "lost b c-b", told: "a fell short; b held; c held",
		},
		{
			name:  "rules see what was kept before",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n  - step: b\n    request: s GET /b\n    keep: {k: n}\n    fields: {n: 'not equals ${k}'}\n    where:\n      - kept.k == 'a'\n  - step: c\n    request: s GET /b\n    fields: {n: '${k}'}\n",
			asked: "a b b", told: "a held; b held; c held",
		},
		{
			name:  "what cannot be worked out of what was lost",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    keep: {k: n}\n  - step: b\n    work out: {l: kept.k + 'x'}\n  - step: c\n    request: s GET /${l}\n",
			asked: "lost", told: "a fell short; b not run: k was not kept (a fell short); c not run: l was not kept (b not run)",
		},
		{
			name:  "a condition on two, of which one was lost",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    keep: {j: n}\n  - step: b\n    request: s GET /lost\n    keep: {k: n}\n  - step: c\n    request: s GET /c\n    where:\n      - kept.j == 'a' && kept.k == 'b'\n",
			asked: "a lost", told: "a held; b fell short; c not run: k was not kept (b fell short)",
		},
		{
			name:  "what was lost and is kept again is not there for the step itself",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    keep: {k: n}\n  - step: b\n    request: s GET /b\n    keep: {k: n}\n    fields: {n: 'not equals ${k}'}\n  - step: c\n    set: {k: 1, l: '${k}'}\n  - step: d\n    request: s GET /d-${l}\n",
			asked: "lost d-1", told: "a fell short; b not run: k was not kept (a fell short); c held; d held",
		},
		{
			name:  "a condition",
			sheet: "steps:\n  - step: a\n    when: 1 > 2\n    request: s GET /a\n  - step: b\n    when: 2 > 1\n    request: s GET /b\n",
			asked: "b", told: "a not run: when does not hold: 1 > 2 (left is 1, right is 2); b held",
		},
		{
			name:  "the row is stopped",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    stop: row\n  - step: b\n    request: s GET /b\nfinally:\n  - step: c\n    request: s GET /c\n",
			asked: "lost c", told: "a fell short; b not run: a fell short, and stops the row; c held",
		},
		{
			name:  "nothing is stopped where it holds, or is left out",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    stop: row\n  - step: b\n    when: 1 > 2\n    request: s GET /b\n    stop: sheet\n  - step: c\n    request: s GET /c\n",
			asked: "a c", told: "a held; b not run: when does not hold: 1 > 2 (left is 1, right is 2); c held",
		},
		{
			name:  "the sheet is stopped",
			sheet: "rows: {numbers: 1 to 3, as: n}\nsteps:\n  - step: a\n    request: s GET /lost-${n}\n    stop: sheet\nlast:\n  - step: z\n    request: s GET /z\n",
			asked: "lost-1 z", told: "a fell short | z held",
		},
		{
			name:    "the run is stopped",
			sheet:   "rows: {numbers: 1 to 3, as: n}\nsteps:\n  - step: a\n    request: s GET /lost-${n}\n  - step: b\n    request: s GET /b\nfinally:\n  - step: c\n    request: s GET /lost-c\n  - step: d\n    request: s GET /d\n",
			options: run.RunOptions{Stop: true},
			asked:   "lost-1 lost-c d", told: "a fell short; c fell short; d held",
		},
		{
			name:  "for each of a list, and what is kept of it",
			sheet: "steps:\n  - step: all\n    request: s GET /all\n    keep: {list: list}\n  - step: a\n    for each: ${list}\n    request: s GET /${each.id}\n    keep: {k: n}\n  - step: b\n    set: {l: '${k}'}\n    where:\n      - size(kept.k) == 2 && kept.k[1] == 'b'\n",
			asked: "all a b", told: "all held; a (1 of 2) held; a (2 of 2) held; b held",
		},
		{
			name:  "for each of a value alone, of nothing, and of null",
			sheet: "steps:\n  - step: all\n    request: s GET /all\n    keep: {one: one}\n  - step: a\n    for each: {it: '${one}'}\n    request: s GET /${it.id}\n  - step: b\n    for each: []\n    request: s GET /b\n    keep: {k: n}\n  - step: c\n    for each: null\n    request: s GET /c\n  - step: d\n    work out: {n: size(kept.k)}\n",
			asked: "all c", told: "all held; a (1 of 1) held; b not run: for each: there is no item; c not run: for each: there is no item; d held",
		},
		{
			name:  "for each, of which one falls short",
			sheet: "steps:\n  - step: a\n    for each: [lost, y]\n    request: s GET /${each}\n    keep: {k: n}\n  - step: b\n    request: s GET /b-${k}\n",
			asked: "lost y", told: "a (1 of 2) fell short; a (2 of 2) held; b not run: k was not kept for each item (a fell short)",
		},
		{
			name:  "for each, of which the last falls short",
			sheet: "steps:\n  - step: a\n    for each: [y, lost]\n    request: s GET /${each}\n    keep: {k: n}\n  - step: b\n    request: s GET /b-${k}\n",
			asked: "y lost", told: "a (1 of 2) held; a (2 of 2) fell short; b not run: k was not kept for each item (a fell short)",
		},
		{
			name:  "for each of what was not kept",
			sheet: "steps:\n  - step: a\n    request: s GET /lost\n    keep: {k: n}\n  - step: b\n    for each: ${k}\n    request: s GET /b\n  - step: c\n    steps:\n      - step: d\n        request: s GET /d\n    when: kept.k == 'x'\n",
			asked: "lost", told: "a fell short; b not run: k was not kept (a fell short); c not run: k was not kept (a fell short)",
		},
		{
			name:  "the name of an item that is a kept one too",
			sheet: "steps:\n  - step: a\n    set: {it: before}\n  - step: b\n    for each: {it: [x, y]}\n    request: s GET /${it}\n  - step: c\n    request: s GET /${it}\n",
			asked: "x y before", told: "a held; b (1 of 2) held; b (2 of 2) held; c held",
		},
		{
			name:  "a group for each",
			sheet: "steps:\n  - step: g\n    for each: [x, y]\n    steps:\n      - step: a\n        request: s GET /${each}\n        keep: {k: n}\n      - step: b\n        request: s GET /b-${k}\n",
			asked: "x b-x y b-y", told: "g (1 of 2): a held; g (1 of 2): b held; g (2 of 2): a held; g (2 of 2): b held",
		},
		{
			name:  "what is taken back, the last first, and only what was done",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n    undo: {request: 's DELETE /${k}'}\n  - step: b\n    for each: [x, y]\n    request: s GET /${each}\n    undo: {request: 's DELETE /${each}'}\n  - step: c\n    request: s GET /lost\n    undo: {request: s DELETE /c}\n  - step: d\n    when: 1 > 2\n    request: s GET /d\n    undo: {request: s DELETE /d}\nfinally:\n  - step: e\n    request: s GET /e\n",
			asked: "a x y lost e DELETE y DELETE x DELETE a",
			told:  "a held; b (1 of 2) held; b (2 of 2) held; c fell short; d not run: when does not hold: 1 > 2 (left is 1, right is 2); e held; undo b (2 of 2) held; undo b (1 of 2) held; undo a held",
		},
		{
			name:  "what was done before the rows is taken back behind them",
			sheet: "rows: {numbers: 1 to 2, as: n}\nfirst:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n    undo: {request: 's DELETE /${k}'}\nsteps:\n  - step: b\n    request: s GET /${k}-${n}\n",
			asked: "a a-1 a-2 DELETE a", told: "a held | b held | b held | undo a held",
		},
		{name: "no rows", sheet: "rows: {numbers: 1 to 3, as: n, when: row.n > 5}\nsteps:\n  - step: a\n    request: s GET /a\n", fell: "rows"},
		{
			name:    "no rows of those that are chosen",
			sheet:   "rows: {numbers: 1 to 3, as: n}\nsteps:\n  - step: a\n    request: s GET /a\n",
			options: run.RunOptions{Rows: [][2]int{{5, 6}}},
		},
		{
			name:  "a sheet within",
			sheet: "steps:\n  - step: in\n    sheet: inner.yaml\n    fill: {hive: h}\n    keep: {k: got}\n  - step: b\n    request: s GET /b-${k}\n",
			asked: "h b-h", told: "in: one held; in held; b held",
		},
		{
			name:  "a sheet within that falls short",
			sheet: "steps:\n  - step: in\n    sheet: inner.yaml\n    fill: {hive: lost}\n    keep: {k: got}\n  - step: b\n    request: s GET /b-${k}\n",
			asked: "lost", told: "in: one fell short; in not run: the sheet fell short; b not run: k was not kept (in fell short)",
		},
		{
			name:  "a sheet within with rows keeps lists",
			sheet: "steps:\n  - step: in\n    sheet: rows.yaml\n    keep: {k: got}\n  - step: b\n    request: s GET /${k[1]}-${k[0]}\n",
			asked: "r1 r2 r2-r1", told: "in: one held; in: one held; in held; b held",
		},
		{
			name:  "a sheet within that has no rows",
			sheet: "steps:\n  - step: in\n    sheet: empty.yaml\n  - step: b\n    request: s GET /b\n",
			asked: "b", told: "in: rows fell short; in not run: the sheet fell short; b held",
		},
		{
			name:  "a sheet within that has no rows, after steps before them",
			sheet: "steps:\n  - step: in\n    sheet: before.yaml\n",
			asked: "z", told: "in: z held; in: rows fell short; in not run: the sheet fell short",
		},
		{
			name:    "only some rows, of the sheet and not of the one within",
			sheet:   "rows: {numbers: 1 to 5, as: m}\nsteps:\n  - step: in\n    sheet: rows.yaml\n",
			options: run.RunOptions{Rows: [][2]int{{5, 5}}},
			asked:   "r1 r2", told: "in: one held; in: one held; in held",
		},
		{
			name:    "only one step, which runs a sheet",
			sheet:   "steps:\n  - step: in\n    sheet: rows.yaml\n  - step: b\n    request: s GET /b\n",
			options: run.RunOptions{Steps: []string{"in"}},
			asked:   "r1 r2", told: "in: one held; in: one held; in held",
		},
		{
			name:    "only one step",
			sheet:   "steps:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n  - step: b\n    request: s GET /b\n  - step: c\n    request: s GET /c-${k}\n",
			options: run.RunOptions{Steps: []string{"b", "c"}},
			asked:   "b", told: "b held; c not run: k was not kept (a left out)",
		},
		{
			name:    "from a step that is before the rows",
			sheet:   "first:\n  - step: y\n    request: s GET /y\n  - step: z\n    request: s GET /z\nsteps:\n  - step: a\n    request: s GET /a\n",
			options: run.RunOptions{From: "z"},
			asked:   "z a", told: "z held | a held",
		},
		{
			name:    "from a step on",
			sheet:   "first:\n  - step: z\n    request: s GET /z\nsteps:\n  - step: a\n    request: s GET /a\n  - step: b\n    request: s GET /b\n  - step: c\n    request: s GET /c\n",
			options: run.RunOptions{From: "b"},
			asked:   "b c", told: "b held; c held",
		},
		{
			name:  "interrupted: what is at the end is done",
			sheet: "steps:\n  - step: a\n    request: s GET /a\n    undo: {request: s DELETE /a}\n  - step: b\n    request: s GET /b\nfinally:\n  - step: c\n    request: s GET /c\nlast:\n  - step: d\n    request: s GET /d\n",
			change: func(a *apiary, stop func()) {
				a.on = func(path string) {
					if path == "a" {
						stop()
					}
				}
			},
			asked: "a c DELETE a d", told: "a held; c held; undo a held | d held",
		},
		{
			name:    "a dry run sends nothing",
			sheet:   "steps:\n  - step: a\n    request: s GET /a\n    keep: {k: n}\n  - step: b\n    when: 1 > 2\n    request: s GET /b\n  - step: c\n    sheet: inner.yaml\n    fill: {hive: h}\n",
			options: run.RunOptions{Dry: true},
			told:    "a held; b held; c: one held",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			for name, text := range map[string]string{
				"bench.yaml":  "bench: b\nservices:\n  s:\n    address: http://s.example\n",
				"inner.yaml":  "sheet: inner\ntakes: {hive: required}\nsteps:\n  - step: one\n    request: s GET /${hive}\n    keep: {got: n}\n",
				"empty.yaml":  "sheet: empty\nrows: {numbers: 1 to 2, as: n, when: row.n > 2}\nsteps:\n  - step: one\n    request: s GET /r${n}\n",
				"before.yaml": "sheet: before\nrows: {numbers: 1 to 2, as: n, when: row.n > 2}\nfirst:\n  - step: z\n    request: s GET /z\nsteps:\n  - step: one\n    request: s GET /r${n}\n",
				"rows.yaml":   "sheet: rows\nrows: {numbers: 1 to 2, as: n}\nsteps:\n  - step: one\n    request: s GET /r${n}\n    keep: {got: n}\n",
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
			var fell []string
			for _, check := range results[0].Checks {
				if !check.Held {
					fell = append(fell, string(check.Subject))
				}
			}
			assert.Equal(t, c.fell, strings.Join(fell, " "))
		})
	}
}
