package history_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/history"
	"testbench/internal/secret"
)

var three = time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)

// share is one of two shares of a run that passed; change makes it another one.
func share(number int, change func(*history.Run)) history.Finished {
	run := &history.Run{
		ID: fmt.Sprint("r", number), Bench: "b", Share: fmt.Sprintf("%d/2", number), Of: "tonight", Ended: true,
		Outcome: "passed", Started: three.Add(time.Duration(number) * time.Minute), Seconds: 30,
		Notes: []secret.Text{"note"}, Counts: history.Counts{Rows: 2, Sheets: 1},
		Order: history.RunRequest{
			Files: []string{"s.yaml"}, Site: "live", Steps: []string{"a"},
			Rows: [][2]int{{1, 9}}, Repeat: 1, Inputs: map[string]string{"bench.yaml": "1", "s.yaml": "2"},
		},
		Sheets: []*history.Sheet{{
			Sheet: "s", File: "s.yaml", Site: "live", Outcome: "passed", Seconds: 20,
			Counts: history.Counts{Rows: 2, Sheets: 1}, Started: three, Running: 5,
		}},
	}
	if change != nil {
		change(run)
	}
	var rows []*history.Row
	for turn := 1; turn <= 2; turn++ {
		rows = append(rows, &history.Row{Iteration: turn, Number: number, Outcome: "passed"})
	}
	return &history.MemoryRun{Head: run, Each: [][]*history.Row{rows, nil}}
}

// Shares are put together only where all that decides what is run and judged was the same.
func TestSharesOfOneRun(t *testing.T) {
	for _, c := range []struct {
		name, wrong string
		change      func(*history.Run)
	}{
		{"the same", "", nil},
		{"another run", `they belong to "tonight" and "last night"`, func(r *history.Run) { r.Of = "last night" }},
		{"another bench", "the bench is another", func(r *history.Run) { r.Bench = "c" }},
		{"other sheets", "the sheets are others", func(r *history.Run) { r.Order.Files = []string{"t.yaml"} }},
		{"another site", `the site is "live" and "local"`, func(r *history.Run) { r.Order.Site = "local" }},
		{"other steps", "other steps or rows were chosen", func(r *history.Run) { r.Order.Steps = nil }},
		{"other rows", "other steps or rows were chosen", func(r *history.Run) { r.Order.Rows = [][2]int{{1, 8}} }},
		{"other turns", "the rows were repeated in another way", func(r *history.Run) { r.Order.Repeat = 2 }},
		{"another time", "the rows were repeated in another way", func(r *history.Run) { r.Order.For = time.Second }},
		{"a changed file", "s.yaml was not the same", func(r *history.Run) { r.Order.Inputs["s.yaml"] = "3" }},
		{"a further file", "more.csv was not the same", func(r *history.Run) { r.Order.Inputs["more.csv"] = "3" }},
		{"a file less", "s.yaml was not the same", func(r *history.Run) { delete(r.Order.Inputs, "s.yaml") }},
		{"a contract that only one fetched", "", func(r *history.Run) { r.Order.Inputs["http://127.0.0.1/c"] = "3" }},
		{"another number of shares", "the number of shares is another", func(r *history.Run) { r.Share = "2/3" }},
		{"twice", "share 1 is there twice: run r1 and run r2", func(r *history.Run) { r.Share = "1/2" }},
		{"no share", "is not a share of one", func(r *history.Run) { r.Share = "" }},
		{"a share of none", "is not a share of one", func(r *history.Run) { r.Share = "0/2" }},
		{"a share beyond", "is not a share of one", func(r *history.Run) { r.Share = "3/2" }},
		{"too many", "is not a share of one", func(r *history.Run) { r.Share = "2/10001" }},
	} {
		t.Run(c.name, func(t *testing.T) {
			g, err := history.Gather([]history.Finished{share(1, nil), share(2, c.change)})
			if c.wrong != "" {
				assert.ErrorContains(t, err, c.wrong)
				return
			}
			require.NoError(t, err)
			assert.True(t, g.Run().Ended)
			assert.Empty(t, g.Run().Broken)
		})
	}
	one, other := share(1, nil), share(2, nil)
	one.Run().Order.Inputs["http://127.0.0.1/c"], other.Run().Order.Inputs["http://127.0.0.1/c"] = "1", "2"
	_, err := history.Gather([]history.Finished{one, other})
	assert.ErrorContains(t, err, "http://127.0.0.1/c was not the same")
}

// A whole run is what its shares came to together.
func TestGathered(t *testing.T) {
	g, err := history.Gather([]history.Finished{
		share(2, func(r *history.Run) {
			r.Outcome, r.Sheets[0].Outcome, r.Seconds = "failed", "failed", 90
			r.Sheets[0].Seconds, r.Sheets[0].Started = 40, three.Add(time.Minute)
			r.Sheets = append(r.Sheets, &history.Sheet{Sheet: "s", File: "s.yaml", Site: "other", Outcome: "passed"})
		}),
		share(1, nil),
	})
	require.NoError(t, err)
	run := g.Run()
	assert.Equal(t, []any{"failed", true, "", 0}, []any{run.Outcome, run.Ended, run.Share, run.Number})
	assert.Equal(t, three.Add(time.Minute), run.Started, "the first that began")
	assert.InDelta(t, 150, run.Seconds, 0.001, "until the last that ended")
	assert.Equal(t, 4, run.Counts.Rows)
	for _, order := range [][]int{{1, 2}, {2, 1}} {
		var shares []history.Finished
		for _, number := range order {
			shares = append(shares, share(number, func(r *history.Run) { r.Seconds = 300 / float64(number) }))
		}
		long, err := history.Gather(shares)
		require.NoError(t, err)
		assert.InDelta(t, 300, long.Run().Seconds, 0.001, "the share that began first ended last: %v", order)
	}
	assert.Equal(t, []secret.Text{"share 2/2: note", "share 1/2: note"}, run.Notes)
	require.Len(t, run.Sheets, 2)
	assert.Equal(t, 2, run.Counts.Sheets)
	s := run.Sheets[0]
	assert.Equal(t, []any{"failed", 40.0, 4, 1}, []any{s.Outcome, s.Seconds, s.Counts.Rows, s.Counts.Sheets})
	assert.Equal(t, three, s.Started)
	assert.InDelta(t, 65, s.Running, 0.001)
	var order []string
	for row, err := range g.Rows(0) {
		require.NoError(t, err)
		order = append(order, fmt.Sprintf("%d/%d", row.Iteration, row.Number))
	}
	assert.Equal(t, []string{"1/1", "1/2", "2/1", "2/2"}, order)

	g, err = history.Gather([]history.Finished{share(2, nil)})
	require.NoError(t, err)
	assert.False(t, g.Run().Ended)
	assert.Equal(t, "interrupted", g.Run().Outcome)
	assert.Equal(t, []string{"of 2 shares these are missing: 1/2"}, g.Run().Broken)
	g, err = history.Gather([]history.Finished{share(1, nil)})
	require.NoError(t, err)
	assert.Equal(t, []string{"of 2 shares these are missing: 2/2"}, g.Run().Broken)

	g, err = history.Gather([]history.Finished{share(1, func(r *history.Run) { r.Ended = false }), share(2, nil)})
	require.NoError(t, err)
	assert.Equal(t, []string{"share 1/2 was not run to its end"}, g.Run().Broken)
	assert.Equal(t, "interrupted", g.Run().Outcome)
}

// The time of an exchange counts, not that of a step that was not run or was called.
func TestWhatIsMeasured(t *testing.T) {
	for _, c := range []struct {
		step history.Step
		want bool
	}{
		{history.Step{Outcome: "passed", Target: "a/b", Started: three}, true},
		{history.Step{Outcome: "failed", Target: "a/b", Started: three}, true},
		{history.Step{Outcome: "not run", Target: "a/b", Started: three}, false},
		{history.Step{Outcome: "passed", Target: "listen", Started: three}, false},
		{history.Step{Outcome: "passed", Target: "set"}, false},
	} {
		assert.Equal(t, c.want, c.step.IsMeasured(), "%+v", c.step)
	}
}

// A limit is checked against each step that it is for, by the figure that it names.
func TestLimits(t *testing.T) {
	watch := history.NewHistogram("get")
	for i := range 100 {
		watch.Add(history.Measure{Took: time.Duration(i+1) * time.Millisecond, Exchanges: 2})
	}
	quick := history.NewHistogram("quick")
	quick.Add(history.Measure{Took: 40 * time.Microsecond})
	times := []*history.Times{watch.Times(10 * time.Second)}
	for _, c := range []struct {
		limit  history.Limit
		got    string
		passed bool
	}{
		{history.Limit{Word: "p50", Rule: "at most 50 ms"}, "50", true},
		{history.Limit{Word: "p50", Rule: "under 49 ms"}, "50", false},
		{history.Limit{Word: "p90", Rule: "under 91.5 ms"}, "90", true},
		{history.Limit{Word: "p90", Rule: "under 88 ms"}, "90", false},
		{history.Limit{Word: "p99", Rule: "under 98 ms"}, "99", false},
		{history.Limit{Word: "max", Rule: "at most 100 ms"}, "100", true},
		{history.Limit{Word: "max", Rule: "under 100 ms"}, "100", false},
		{history.Limit{Word: "per second", Rule: "at least 10"}, "10.0", true},
		{history.Limit{Word: "per second", Rule: "over 10"}, "10.0", false},
		{history.Limit{Step: "quick", Word: "p50", Rule: "under 0.03 ms"}, "0.040 ms", false},
		{history.Limit{Step: "quick", Word: "per second", Rule: "at least 100"}, "99.999", false},
		{history.Limit{Step: "get", Word: "max", Rule: "under 1 s"}, "100", true},
		{history.Limit{Step: "put", Word: "max", Rule: "under 1 s"}, "nothing was measured", false},
		{history.Limit{Word: "mean", Rule: "under 1 s"}, "a limit that cannot be read", false},
		{history.Limit{Word: "max", Rule: "betwen 1 and 2"}, "a limit that cannot be read", false},
	} {
		of := times
		if c.limit.Step == "quick" {
			of = []*history.Times{quick.Times(time.Second * 100001 / 10000000)}
		}
		checks := (&history.Sheet{Sheet: "s", Times: of, Limits: []history.Limit{c.limit}}).JudgeLimits()
		require.Len(t, checks, 1)
		assert.Equal(t, c.passed, checks[0].Passed, "%+v", checks[0])
		assert.True(t, checks[0].Judged)
		assert.Contains(t, checks[0].Got, c.got)
	}
	checks := (&history.Sheet{Sheet: "s", Limits: []history.Limit{{Word: "max", Rule: "under 1 s"}}}).JudgeLimits()
	assert.EqualValues(t, "s max", checks[0].Subject)
	assert.Equal(t, "ask: of", history.StepOf("ask (1 of 12): of (3 of 4)"))
}
