package history_test

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/history"
)

func entry(turn, row int, outcome string) history.Entry {
	return history.Entry{
		Iteration: turn, Row: row, Outcome: outcome,
		Body: fmt.Appendf(nil, `{"row":%d,"turn":%d,"outcome":%q,"steps":[{"step":"a","outcome":%q,"response":%q}]}`,
			row,
			turn, outcome, outcome, bytes.Repeat([]byte("x"), 900*(row%2))),
	}
}

// What was done of a run is measured from its rows: each step's times, the delay of a row with
// its first step, and how long the rows took in all.
func TestMeasured(t *testing.T) {
	store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
	require.NoError(t, err)
	defer func() { _ = store.Close() }()
	w, err := store.Begin(&history.Run{ID: "a", Bench: "b"})
	require.NoError(t, err)
	require.NoError(t, w.Head(&history.Run{ID: "a", Bench: "b", Sheets: []*history.Sheet{{Sheet: "s"}}}))
	step := func(name string, at int, took float64) string {
		return fmt.Sprintf(`{"step":%q,"outcome":"passed","target":"a/b","started":"2026-11-30T08:00:%02dZ","milliseconds":%v}`, name, at, took)
	}
	require.NoError(t, w.Add([]history.Entry{
		{
			Iteration: 1, Row: 1, Outcome: "passed",
			Body: []byte(`{"row":1,"outcome":"passed","late":100,"steps":[` + step("get (1 of 2)", 0, 10) + `,` +
				step("put", 1, 1000) + `]}`),
		},
		{
			Iteration: 1, Row: 2, Outcome: "passed",
			Body: []byte(`{"row":2,"outcome":"passed","steps":[` + step("get", 4, 30) +
				`,{"step":"set","outcome":"passed","target":"set"}]}`),
		},
	}))
	run, err := store.Get(w.Number)
	require.NoError(t, err)
	measured, over, err := run.Measured(0)
	require.NoError(t, err)
	require.Len(t, measured, 2)
	get, put := measured[0].Times(over), measured[1].Times(over)
	assert.Equal(t, []any{"get", int64(2), "put", int64(1)}, []any{get.Step, get.Count, put.Step, put.Count})
	assert.InDelta(t, 110, get.Max, 1)
	assert.InDelta(t, 1000, put.Max, 10)
	assert.Equal(t, 4030*time.Millisecond, over)
}

// Rows come back in their order, whatever the order in which they were finished.
func TestStore(t *testing.T) {
	name := "history?#%.db"
	if runtime.GOOS == "windows" {
		name = "history#%.db"
	}
	file := filepath.Join(t.TempDir(), "a folder", name)
	store, err := history.Open(file)
	require.NoError(t, err)
	_, err = store.Get(1)
	assert.EqualError(t, err, "there is no run in the history")
	w, err := store.Begin(&history.Run{ID: "a", Bench: "b"})
	require.NoError(t, err)
	require.NoError(t, w.Head(&history.Run{ID: "a", Bench: "b", Sheets: []*history.Sheet{{Sheet: "s"}, {Sheet: "t"}}}))
	require.NoError(t, w.Add([]history.Entry{
		entry(2, 1, "passed"),
		{Phase: "last", Outcome: "passed", Body: []byte(`{"phase":"last","outcome":"passed","steps":[]}`)},
		entry(1, 70, "interrupted"), entry(1, 2, "passed"),
	}))
	require.NoError(t, w.Add([]history.Entry{{
		Phase: "first", Outcome: "passed",
		Body: []byte(`{"phase":"first","outcome":"passed","steps":[]}`),
	}, entry(1, 1, "failed")}))
	// The file is read while it is written, as after a power cut.
	other, err := history.Open(file)
	require.NoError(t, err)
	run, err := other.Get(w.Number)
	require.NoError(t, err)
	assert.Equal(t, "interrupted", run.Run().Outcome)
	assert.Equal(t, history.Counts{
		Sheets: 1, Rows: 4, RowsPassed: 2, RowsFailed: 2, Steps: 4, StepsPassed: 2,
		StepsFailed: 2,
	},
		run.Run().Counts)
	var names []string
	for row, err := range run.Rows(0) {
		require.NoError(t, err)
		names = append(names, row.Name())
	}
	assert.Equal(t, []string{"first", "row 1 · turn 1", "row 2 · turn 1", "row 70 · turn 1", "row 1 · turn 2", "last"},
		names)
	done, err := run.Done(0)
	require.NoError(t, err)
	assert.Equal(t, []bool{true, true, false, true, false, true},
		[]bool{
			done.Has("first", 0, 0), done.Has("", 1, 2), done.Has("", 1, 70), done.Has("", 2, 1), done.Has("", 3, 1),
			done.Has("last", 0, 0),
		})
	require.NoError(t, other.Close())
	require.NoError(t, store.Close())
}

// A run that was carried while it was not at its end is replaced by the whole one, and no other is; a file that is no
// run is told from one that is cut off.
func TestCarriedAgain(t *testing.T) {
	store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, store.Close()) }()
	dir := filepath.Join(t.TempDir(), "nights")
	run := func(ended bool, rows int) *history.MemoryRun {
		head := &history.Run{ID: "night/1", Ended: ended, Sheets: []*history.Sheet{{Sheet: "s", File: "s.yaml"}}}
		var each []*history.Row
		for i := range rows {
			each = append(each, &history.Row{Number: i + 1, Outcome: "passed"})
		}
		return &history.MemoryRun{Head: head, Each: [][]*history.Row{each}}
	}
	for i, c := range []struct {
		ended       bool
		rows, there int
		isNew       bool
	}{{false, 2, 2, true}, {false, 3, 2, false}, {true, 4, 4, true}, {true, 5, 4, false}, {false, 1, 4, false}} {
		number, isNew, err := store.Import(t.Context(), run(c.ended, c.rows), false)
		require.NoError(t, err)
		name, isNewThere, err := history.Export(run(c.ended, c.rows), dir)
		require.NoError(t, err)
		assert.Equal(t, []bool{c.isNew, c.isNew}, []bool{isNew, isNewThere}, i)
		stored, err := store.Get(number)
		require.NoError(t, err)
		file, err := history.OpenFile(name)
		require.NoError(t, err)
		assert.Equal(t, 0, file.Run().Number)
		for _, one := range []history.Finished{stored, file} {
			rows := 0
			for _, err := range one.Rows(0) {
				require.NoError(t, err)
				rows++
			}
			assert.Equal(t, c.there, rows, i)
		}
	}
	for text, says := range map[string]string{
		"<p>": "it is not a run", `{"a": 1}`: "it is not a run", `{"kind": "run", "id": "x"`: "unexpected EOF",
	} {
		file := filepath.Join(t.TempDir(), "x.json")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := history.OpenFile(file)
		assert.ErrorContains(t, err, says)
	}
}

// What grows too large loses its oldest runs, and never its newest.
func TestBound(t *testing.T) {
	store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
	require.NoError(t, err)
	defer func() { _ = store.Close() }()
	noise := make([]byte, 40_000)
	_, _ = rand.Read(noise)
	for i := range 30 {
		w, err := store.Begin(&history.Run{ID: fmt.Sprint(i)})
		require.NoError(t, err)
		require.NoError(t, w.Head(&history.Run{ID: fmt.Sprint(i), Sheets: []*history.Sheet{{Sheet: "s"}}}))
		require.NoError(t, w.Add([]history.Entry{{
			Row: 1, Outcome: "passed",
			Body: []byte(`{"outcome":"passed","steps":[],"label":"` + hex.EncodeToString(noise) + `"}`),
		}}))
	}
	gone, err := store.Bound(100 << 20)
	require.NoError(t, err)
	assert.Empty(t, gone)
	gone, err = store.Bound(1 << 20)
	require.NoError(t, err)
	assert.Equal(t, 1, gone[0])
	assert.Less(t, len(gone), 20)
	left, err := store.Recent(100)
	require.NoError(t, err)
	assert.Len(t, left, 30-len(gone))
	gone, err = store.Bound(1)
	require.NoError(t, err)
	assert.NotEmpty(t, gone)
	left, err = store.Recent(100)
	require.NoError(t, err)
	assert.Len(t, left, 10)
	assert.Equal(t, 30, left[0].Number)
}

// The file of a newer or an older program is left alone.
func TestOtherVersions(t *testing.T) {
	file := filepath.Join(t.TempDir(), "history.db")
	store, err := history.Open(file)
	require.NoError(t, err)
	require.NoError(t, store.Close())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	for version, says := range map[byte]string{9: "newer version", 1: "older version"} {
		data[63] = version // user_version, SQLite file format 1.3.15
		require.NoError(t, os.WriteFile(file, data, 0o600))
		_, err = history.Open(file)
		assert.ErrorContains(t, err, says)
	}
}

// Times of several machines are those of all their exchanges, not a mean of means.
func TestTimesTogether(t *testing.T) {
	whole := history.NewHistogram("get")
	var shares []history.Finished
	begun := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	for share := range 3 {
		w := history.NewHistogram("get")
		for i := range 1000 {
			took := time.Duration(1+i*(1+share*share)) * time.Millisecond
			w.Add(history.Measure{Took: took})
			whole.Add(history.Measure{Took: took})
		}
		run := &history.Run{
			ID: fmt.Sprint(share), Share: fmt.Sprintf("%d/3", share+1), Ended: true, Outcome: "passed",
			Sheets: []*history.Sheet{{
				Sheet: "s", File: "s.yaml", Outcome: "passed", Times: []*history.Times{w.Times(10 * time.Second)},
				Started: begun.Add(time.Duration(share) * 10 * time.Second), Running: 10,
				Limits: []history.Limit{
					{Word: "per second", Rule: "at least 200"},
					{Step: "put", Word: "max", Rule: "under 5 s"},
				},
			}},
		}
		shares = append(shares,
			&history.MemoryRun{Head: run, Each: [][]*history.Row{{{Number: share + 1, Outcome: "passed"}}}})
	}
	g, err := history.Gather(shares)
	require.NoError(t, err)
	got, want := g.Run().Sheets[0].Times[0], whole.Times(10*time.Second)
	assert.Equal(t, []float64{want.P50, want.P90, want.P99, want.Max}, []float64{got.P50, got.P90, got.P99, got.Max})
	assert.EqualValues(t, 3000, got.Count)
	assert.InDelta(t, 100, got.PerSecond, 0.001, "they ran one after the other")
	checks := g.Run().Sheets[0].Checks
	require.Len(t, checks, 2)
	assert.Equal(t, []any{"get per second", false, "100.000"},
		[]any{string(checks[0].Subject), checks[0].Passed, string(checks[0].Got)})
	assert.Equal(t, []any{"put max", false, "nothing was measured"},
		[]any{string(checks[1].Subject), checks[1].Passed, string(checks[1].Got)})
	assert.Equal(t, "failed", g.Run().Outcome)
}

func FuzzOpenFile(f *testing.F) {
	var out bytes.Buffer
	w := history.NewHistogram("a")
	w.Add(history.Measure{Took: time.Second})
	run := &history.MemoryRun{
		Head: &history.Run{
			ID: "x", Share: "1/2",
			Sheets: []*history.Sheet{{Sheet: "s", Times: []*history.Times{w.Times(time.Second)}}},
		},
		Each: [][]*history.Row{{{Number: 1, Steps: []*history.Step{{Step: "a"}}}}},
	}
	if err := history.WriteJSON(&out, run); err != nil {
		f.Fatal(err)
	}
	f.Add(out.Bytes())
	f.Add([]byte(`{"run":"x","sheets":[{"rows":[null]},null]}`))
	name := filepath.Join(f.TempDir(), "r.json")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		file, err := history.OpenFile(name)
		if err != nil {
			return
		}
		for i := range min(3, len(file.Run().Sheets)) { // each goes through the file once more
			for row, err := range file.Rows(i) {
				if err == nil {
					_, _ = row.Name(), row.Counts()
				}
			}
		}
		if g, err := history.Gather([]history.Finished{file}); err == nil {
			_ = g.Run()
		}
	})
}

func BenchmarkRecent(b *testing.B) {
	store, err := history.Open(filepath.Join(b.TempDir(), "history.db"))
	require.NoError(b, err)
	defer func() { _ = store.Close() }()
	for i := range 1_000 {
		head := &history.Run{
			ID: fmt.Sprint(i), Bench: "b", Ended: true,
			Sheets: []*history.Sheet{{Sheet: "s", File: "s.yaml"}, {Sheet: "t", File: "t.yaml"}},
		}
		w, err := store.Begin(head)
		require.NoError(b, err)
		require.NoError(b, w.Head(head))
		require.NoError(b, w.Add([]history.Entry{entry(1, 1, "passed"), entry(1, 2, "passed"), entry(1, 3, "failed")}))
	}
	b.Run("list", func(b *testing.B) {
		for b.Loop() {
			runs, err := store.Recent(1_000)
			require.NoError(b, err)
			require.Len(b, runs, 1_000)
		}
	})
	b.Run("trends", func(b *testing.B) {
		for b.Loop() {
			_, err := store.Trends(history.RunQuery{Most: 1_000})
			require.NoError(b, err)
		}
	})
}

// A row that was packed to unfold to more than a row can be is not unfolded.
func TestRowThatUnfolds(t *testing.T) {
	store, err := history.Open(filepath.Join(t.TempDir(), "history.db"))
	require.NoError(t, err)
	defer func() { _ = store.Close() }()
	w, err := store.Begin(&history.Run{ID: "a"})
	require.NoError(t, err)
	require.NoError(t, w.Head(&history.Run{ID: "a", Sheets: []*history.Sheet{{Sheet: "s"}}}))
	body := []byte(`{"row":1,"outcome":"passed","steps":[],"label":"` + strings.Repeat("0", history.MostRow) + `"}`)
	require.NoError(t, w.Add([]history.Entry{{Sheet: 0, Row: 1, Outcome: "passed", Body: body}}))
	run, err := store.Get(w.Number)
	if err == nil {
		for _, wrong := range run.Rows(0) {
			err = wrong
		}
	}
	assert.ErrorContains(t, err, "is larger than 64 MiB")
}
