package compare_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/compare"
	"testbench/internal/history"
	"testbench/internal/secret"
)

// runOf is a run of one sheet, whose rows change makes others.
func runOf(rows int, change func(row *history.Row, step *history.Step)) history.Finished {
	random := rand.New(rand.NewPCG(5, 0))
	var all []*history.Row
	for i := range rows {
		row := &history.Row{Number: i + 1, Label: fmt.Sprint("L-", i)}
		for _, name := range []string{"ask", "book"} {
			step := &history.Step{
				Step: name, Target: "x/" + name, Outcome: "passed", Status: 200, Judged: 2,
				Started: time.Unix(1_700_000_000, 0), Millis: 20 + 2*random.Float64(),
				Exchanges: []history.Exchange{{
					Status:  200,
					Headers: map[string][]secret.Text{"Content-Type": {"application/json"}},
					Body:    `{"berths": [{"id": 1}, {"id": 2}], "total": 2}`,
				}},
			}
			if change != nil {
				change(row, step)
			}
			row.Steps = append(row.Steps, step)
		}
		all = append(all, row)
	}
	return &history.MemoryRun{
		Head: &history.Run{Sheets: []*history.Sheet{{Sheet: "s", File: "s.yaml"}}}, Each: [][]*history.Row{all},
	}
}

// What changed from one run to another is told once, with how often; only what is better is not a difference.
func TestRuns(t *testing.T) {
	failing := func(why string) func(*history.Row, *history.Step) {
		return func(row *history.Row, s *history.Step) {
			if s.Step == "ask" {
				s.Outcome, s.Reason = "failed", secret.Text(fmt.Sprint(why, row.Number))
			}
		}
	}
	body := func(text string) func(*history.Row, *history.Step) {
		return func(_ *history.Row, s *history.Step) { s.Exchanges[0].Body = secret.Text(text) }
	}
	times := func(factor float64) func(*history.Row, *history.Step) {
		return func(_ *history.Row, s *history.Step) {
			if s.Step == "ask" {
				s.Millis *= factor
			}
		}
	}
	for _, c := range []struct {
		name          string
		before, after history.Finished
		values        bool
		told          []string
		better        bool
	}{
		{"nothing", runOf(9, nil), runOf(9, nil), true, nil, true},
		{"newly failing", runOf(9, nil), runOf(9, failing("row ")), false, []string{"newly failing: fails now, 9 times, 1 of 1"}, false},
		{"passes now", runOf(9, failing("x")), runOf(9, nil), false, []string{"passes now: passes now, 9 times, 1 of 1"}, true},
		{
			"a field more", runOf(9, nil), runOf(9, body(`{"berths": [{"id": 1, "depth": 7}, {"id": 2, "depth": 7}], "total": 2}`)),
			false,
			[]string{"field: added berths[*].depth, 36 times, 2 of 1"},
			false,
		},
		{
			"a field of another kind", runOf(9, nil), runOf(9, body(`{"berths": [{"id": 1}, {"id": 2}], "total": "2"}`)), false,
			[]string{"field: kind total, 18 times, 2 of 1"},
			false,
		},
		{"a value", runOf(9, nil), runOf(9, body(`{"berths": [{"id": 1}, {"id": 2}], "total": 3}`)), false, nil, true},
		{
			"a value, asked for", runOf(9, nil), runOf(9, body(`{"berths": [{"id": 1}, {"id": 2}], "total": 3}`)), true,
			[]string{"value: changed total, 18 times, 2 of 1"},
			false,
		},
		{"slower", runOf(30, nil), runOf(30, times(1.3)), false, []string{"slower: slower: median +30 %, 1 times, 1 of 1"}, false},
		{"faster", runOf(30, nil), runOf(30, times(0.7)), false, []string{"faster: faster: median -30 %, 1 times, 1 of 1"}, true},
		{"hardly slower", runOf(30, nil), runOf(30, times(1.05)), false, nil, true},
		{"too few to tell", runOf(6, nil), runOf(6, times(3)), false, nil, true},
		{
			"fewer checks", runOf(9, nil), runOf(9, func(_ *history.Row, s *history.Step) { s.Judged = 1 }), false,
			[]string{"checks: 2 checks judged before, 1 now, 18 times, 2 of 1"},
			false,
		},
		{"another status of another answer", runOf(9, nil), runOf(9, func(_ *history.Row, s *history.Step) {
			s.Status, s.Exchanges[0].Body = 500, `{"error": 1}`
		}), false, []string{"status: status 200 before, 500 now, 18 times, 2 of 1"}, false},
		{"rows less", runOf(9, nil), runOf(7, nil), false, []string{"was not run: the whole row was not run, 2 times, 0 of 1"}, false},
		{
			"rows that are new and fail", runOf(7, nil), runOf(9, func(row *history.Row, s *history.Step) {
				if row.Number > 7 && s.Step == "book" {
					s.Outcome = "failed"
				}
			}), false, []string{"newly failing: is new, and fails, 2 times, 1 of 1", "new: the whole row is new, 2 times, 0 of 1"}, false,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			changes, err := compare.Runs(c.before, c.after, compare.RunOptions{Values: c.values})
			require.NoError(t, err)
			var told []string
			for _, one := range changes.List {
				what := one.What
				if one.Path != "" {
					what += " " + one.Path
				}
				told = append(told, fmt.Sprintf("%s: %s, %d times, %d of %d", one.Kind, what, one.Count, one.Steps, one.Sheets))
			}
			assert.Equal(t, c.told, told)
			assert.Equal(t, c.better, changes.Better())
			assert.Equal(t, map[bool]int{true: 2}[c.name == "too few to tell"], changes.Untimed)
		})
	}
}
