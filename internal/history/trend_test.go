package history_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/history"
	"testbench/internal/secret"
)

// nights are made runs: each of two sites, one of them shared by four machines, with seeded events.
type nights struct {
	*testing.T
	store  *history.Store
	random *rand.Rand
}

const (
	allNights  = 30
	nightsRows = 8
)

// event is what becomes of a step in a row of a night; the time is in milliseconds.
func (n *nights) event(site, step string, night int) history.Step {
	is := history.Step{
		Step: step, Service: "depot", Target: "depot/" + step, Outcome: "passed",
		Millis: 40 * math.Exp(0.08*n.random.NormFloat64()), Started: three,
	}
	south := site == "south"
	fail := func(when bool) {
		if when {
			is.Outcome = "failed"
		}
	}
	switch step {
	case "blip":
		fail(night == 9)
	case "flaky":
		fail(n.random.Float64() < 0.05)
	case "breaks":
		fail(night >= 28 || night == 3)
	case "mended":
		fail(night >= 10 && night <= 14)
	case "never":
		fail(south)
	case "slow":
		if night >= 26 {
			is.Millis *= 1.2
		}
	case "again":
		if night%10 == 0 {
			is.Tries = 2
		}
	case "scales":
		is.Service = "scales"
		if south && night == 17 {
			is = history.Step{
				Step: step, Service: "scales", Target: is.Target, Outcome: "unreachable",
				Reason: "connection refused",
			}
		}
	}
	return is
}

var nightSteps = append([]string{"blip", "flaky", "breaks", "mended", "never", "slow", "again", "scales"},
	func() (steady []string) {
		for i := range 30 {
			steady = append(steady, fmt.Sprint("steady ", i))
		}
		return steady
	}()...)

// run makes the part of a night's run that is one machine's.
func (n *nights) run(site string, night, machine, machines int) *history.MemoryRun {
	started := three.AddDate(0, 0, night)
	head := &history.Run{
		ID: fmt.Sprintf("%s-%d-%d", site, night, machine), Bench: "b", Started: started, Ended: true, Outcome: "passed",
		Order:  history.RunRequest{Files: []string{"s.yaml"}, Site: site},
		Sheets: []*history.Sheet{{Sheet: "s", File: "s.yaml", Site: site, Outcome: "passed", Started: started, Running: 1}},
	}
	if machines > 1 {
		head.Share, head.Of = fmt.Sprintf("%d/%d", machine, machines), fmt.Sprint("night ", night)
	}
	var rows []*history.Row
	for number := machine; number <= nightsRows; number += machines {
		row := &history.Row{Number: number, Outcome: "passed"}
		for _, step := range nightSteps {
			one := n.event(site, step, night)
			row.Steps = append(row.Steps, &one)
			row.Outcome = history.Worst(row.Outcome, one.Outcome)
		}
		rows = append(rows, row)
		head.Sheets[0].Outcome = history.Worst(head.Sheets[0].Outcome, row.Outcome)
	}
	head.Outcome = head.Sheets[0].Outcome
	return &history.MemoryRun{Head: head, Each: [][]*history.Row{rows}}
}

func (n *nights) enter(run history.Finished) {
	_, isNew, err := n.store.Import(n.Context(), run, false)
	require.NoError(n, err)
	require.True(n, isNew)
}

func newNights(t *testing.T, seed uint64) *nights {
	store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	n := &nights{t, store, rand.New(rand.NewPCG(seed, 0))}
	// The nights come in any order: they are carried in from elsewhere.
	for _, night := range n.random.Perm(allNights) {
		var shares []history.Finished
		for machine := range 4 {
			shares = append(shares, n.run("north", night+1, machine+1, 4))
		}
		whole, err := history.Gather(shares)
		require.NoError(t, err)
		n.enter(whole)
		n.enter(n.run("south", night+1, 1, 1))
	}
	n.enter(n.run("north", allNights, 1, 4)) // a share that was merged: it is in there already
	return n
}

// Thirty nights on two sites and four machines: each event is told as what it is, and nothing else is.
func TestNightAfterNight(t *testing.T) {
	for _, seed := range []uint64{5, 10} {
		n := newNights(t, seed)
		for i, q := range []history.RunQuery{{Sites: []string{"north"}}, {Sites: []string{"south"}}} {
			trends, err := n.store.Trends(q)
			require.NoError(t, err)
			require.Len(t, trends.Runs, allNights)
			assert.Equal(t, []int{1, 0}[i], trends.Shares)
			// night gives the day of a run: runs have their numbers by when they were carried in.
			night := map[int]int{}
			for _, run := range trends.Runs {
				night[run.Number] = int(run.Started.Sub(three).Hours() / 24)
			}
			var told []string
			for _, step := range trends.Steps {
				for _, f := range step.Findings {
					since := night[f.Since]
					if f.Kind == history.Slower { // with noise, the night may be the one before or after
						assert.InDelta(t, 26, since, 1)
						assert.Equal(t, allNights+1-since, f.Count)
						since, f.Count = 26, 5
						assert.InDelta(t, 1.2, f.Slower.Now/f.Slower.Before, 0.06)
						assert.InDelta(t, 1.2, f.Slower.NowP95/f.Slower.BeforeP95, 0.12)
						assert.Less(t, f.Slower.Noise, 0.1)
					}
					told = append(told, fmt.Sprintf("%s: %s, night %d, %d of %d", step.Step, f.Kind, since, f.Count, f.Of))
				}
				for _, one := range step.Nights {
					assert.Equal(t, nightsRows*map[bool]int{false: 1}[one.Outcome == "not run"], one.Rows, step.Step)
				}
			}
			flaky := slices.IndexFunc(told, func(line string) bool { return strings.HasPrefix(line, "flaky: flaky, night ") })
			require.GreaterOrEqual(t, flaky, 0, told)
			told = slices.Delete(told, flaky, flaky+1)
			expected := []string{
				"blip: failed once, night 9, 1 of 30", "breaks: newly failing, night 28, 3 of 30",
				"mended: passes again, night 15, 5 of 30", "slow: slower, night 26, 5 of 30",
				"again: second try, night 30, 3 of 30",
			}
			var down []string
			for _, one := range trends.Down {
				down = append(down, fmt.Sprintf("%s %s at %s, night %d, %d steps: %s", one.Service, one.Outcome, one.Site,
					night[one.Run], one.Steps, one.Why))
			}
			if q.Sites[0] == "south" {
				expected = slices.Insert(expected, 3, "never: failing, night 1, 30 of 30")
				assert.Equal(t, []string{"scales unreachable at south, night 17, 8 steps: connection refused"}, down)
			} else {
				assert.Empty(t, down)
			}
			assert.Equal(t, expected, told, "seed %d, %v", seed, q.Sites)
		}
		// What was calculated once is kept, and says the same.
		first, err := n.store.Trends(history.RunQuery{})
		require.NoError(t, err)
		again, err := n.store.Trends(history.RunQuery{})
		require.NoError(t, err)
		assert.Equal(t, first, again)
		assert.Len(t, first.Runs, 2*allNights)
		last, err := n.store.Last()
		require.NoError(t, err)
		run, err := n.store.Get(last)
		require.NoError(t, err)
		assert.Equal(t, three.AddDate(0, 0, allNights), run.Run().Started)
	}
}

// Steps whose times only go up and down, however much, are not called slower.
func TestNoiseIsNotSlower(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 0))
	told, tried := 0, 0
	for _, sigma := range []float64{0.02, 0.1, 0.3, 0.8} {
		for runs := 6; runs <= 30; runs += 4 {
			store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
			require.NoError(t, err)
			for night := range runs {
				var row history.Row
				for i := range 100 {
					row.Steps = append(row.Steps, &history.Step{
						Step: fmt.Sprint(i), Outcome: "passed",
						Millis: 50 * math.Exp(sigma*random.NormFloat64()),
					})
				}
				head := &history.Run{
					ID: fmt.Sprint(night), Started: three.AddDate(0, 0, night), Ended: true,
					Sheets: []*history.Sheet{{File: "s.yaml"}},
				}
				_, _, err := store.Import(t.Context(), &history.MemoryRun{Head: head, Each: [][]*history.Row{{&row}}}, false)
				require.NoError(t, err)
			}
			trends, err := store.Trends(history.RunQuery{})
			require.NoError(t, err)
			for _, step := range trends.Steps {
				tried++
				told += len(step.Findings)
			}
			require.NoError(t, store.Close())
		}
	}
	assert.Equal(t, 2800, tried)
	assert.Less(t, told, 3, "more than one in a thousand is called slower")
}

// The outcomes of a step, the newest last (p passed, f failed, - not run, u reached nobody), and what is told.
func TestFindings(t *testing.T) {
	for _, c := range []struct{ outcomes, told string }{
		{"pppppp", ""},
		{"p", ""},
		{"f", "failing since 1, 1 of 1"},
		{"ff", "failing since 1, 2 of 2"},
		{"pf", "newly failing since 2, 1 of 2"},
		{"ppppppf", "newly failing since 7, 1 of 7"},
		{"pppppff", "newly failing since 6, 2 of 7"},
		{"fpppppppppppppppppppppf", "newly failing since 23, 1 of 23, earlier 1"}, // a blip long ago does not hide it
		{"fppf", "flaky since 4, 2 of 4"},
		{"pfpfpfpff", "flaky since 9, 5 of 9"},
		{"pfppppfpppp", "flaky since 7, 2 of 11"},
		{"ppfppp", "failed once since 3, 1 of 6"},
		{"pfffp", "passes again since 5, 3 of 5"},
		{"-pp-", ""},
		{"u", ""},
		{"ppuup", ""},
		{"ppuf", "newly failing since 4, 1 of 3"},
		{"pf-u", "newly failing since 2, 1 of 2"},
	} {
		t.Run(c.outcomes, func(t *testing.T) {
			store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
			require.NoError(t, err)
			defer func() { assert.NoError(t, store.Close()) }()
			for i, letter := range c.outcomes {
				outcome := map[rune]string{'p': "passed", 'f': "failed", '-': "not run", 'u': "unreachable"}[letter]
				head := &history.Run{
					ID: fmt.Sprint(i), Started: three.Add(time.Duration(i) * time.Hour), Ended: true,
					Sheets: []*history.Sheet{{File: "s.yaml"}},
				}
				row := &history.Row{Steps: []*history.Step{{Step: "a (1 of 2)", Outcome: outcome, Reason: secret.Text("r")}}}
				_, _, err := store.Import(t.Context(), &history.MemoryRun{Head: head, Each: [][]*history.Row{{row}}}, false)
				require.NoError(t, err)
			}
			trends, err := store.Trends(history.RunQuery{})
			require.NoError(t, err)
			require.Len(t, trends.Steps, 1)
			assert.Equal(t, "a", trends.Steps[0].Step)
			told := ""
			for _, f := range trends.Steps[0].Findings {
				told = fmt.Sprintf("%s since %d, %d of %d", f.Kind, f.Since, f.Count, f.Of)
				if f.Earlier > 0 {
					told += fmt.Sprintf(", earlier %d", f.Earlier)
				}
			}
			assert.Equal(t, c.told, told)
		})
	}
}
