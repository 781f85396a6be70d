package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"testbench/internal/history"
)

// A rate that was not reached is told with what kept it from that.
func TestRateNote(t *testing.T) {
	begun := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	// paced are 41 rows, due every 20 ms and begun every so many.
	paced := func(every, row, recording time.Duration) *begins {
		b := &begins{recording: recording, took: 41 * row, finished: 41}
		for i := range time.Duration(41) {
			b.add(begun.Add(i*20*time.Millisecond), begun.Add(i*every))
		}
		return b
	}
	for _, c := range []struct {
		name string
		of   *begins
		jobs int
		note string
	}{
		{"reached", paced(20*time.Millisecond, time.Second, 0), 4, ""},
		{"nearly reached", paced(21*time.Millisecond, time.Second, 0), 4, ""},
		{
			"all places busy", paced(50*time.Millisecond, 100*time.Millisecond, 0), 2,
			"the rate was not reached: 50 rows a second were asked for, and 20 were begun; all places were busy: " +
				"with -jobs 2 and 100.0 ms for a row, 20 a second can be done; -jobs 6 is enough for the rate",
		},
		{
			"nobody records", paced(50*time.Millisecond, time.Millisecond, 1500*time.Millisecond), 8,
			"the rate was not reached: 50 rows a second were asked for, and 20 were begun; rows waited 1.5 s until " +
				"others were recorded and shown",
		},
		{
			"the machine", paced(50*time.Millisecond, time.Millisecond, 0), 8,
			"the rate was not reached: 50 rows a second were asked for, and 20 were begun; places were free, so this " +
				"machine was too busy to begin the rows",
		},
		{"no rate", &begins{}, 1, ""},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.note, c.of.rateNote(c.jobs)) })
	}
}

// Times from the due moment are explained where those of the service differ.
func TestDueNote(t *testing.T) {
	timely, late := history.NewHistogram("timely"), history.NewHistogram("late")
	for range 100 {
		timely.Add(history.Measure{Took: 5 * time.Millisecond, Late: time.Microsecond, Exchanges: 1})
		late.Add(history.Measure{Took: 5 * time.Millisecond, Exchanges: 3, Tries: 2})
	}
	for range 100 {
		late.Add(history.Measure{Took: 5 * time.Millisecond, Late: 95 * time.Millisecond, Exchanges: 3, Tries: 2})
	}
	times := []*history.Times{timely.Times(time.Second), late.Times(time.Second)}
	assert.Equal(t, "times count from when a row was due, as those who wait see them: p95 of late is 100.0 ms; "+
		"from when it was sent it is 5.0 ms (p50 5.0 ms, max 5.0 ms)", dueNote(times))
	assert.Empty(t, dueNote(times[:1]))
	assert.Equal(t, []int64{200, 600, 400}, []int64{times[1].Count, times[1].Exchanges, times[1].Tries})
	// The same over two machines, one of which was never late.
	whole := history.NewHistogram("late")
	assert.NoError(t, whole.Merge(timely.Times(0)))
	assert.NoError(t, whole.Merge(times[1]))
	assert.InDelta(t, 5, whole.Times(0).Own.Max, 0.1)
	assert.InDelta(t, 100, whole.Times(0).Max, 0.5)
}

func TestMachineNote(t *testing.T) {
	times := []*history.Times{{P50: 10}, {P50: 30}}
	for _, c := range []struct {
		waited, busy float64
		note         string
	}{
		{0.0009, 0.5, ""},
		{0.0011, 0.5, "one in twenty pieces of work waited 1.1 ms or longer for a processor"},
		{0, 0.93, "its processors were busy for 93 % of the time"},
	} {
		note := machineNote(times, c.waited, c.busy)
		assert.Contains(t, note, c.note)
		assert.Equal(t, c.note == "", note == "")
	}
	assert.Empty(t, machineNote(nil, 1, 1))
	before := machineLoad{buckets: []float64{0, 1, 2}, counts: []uint64{5, 5, 5}, busy: 100, total: 200}
	waited, busy := machineLoad{buckets: before.buckets, counts: []uint64{100, 7, 8}, busy: 190, total: 300}.since(before)
	assert.Equal(t, []float64{1, 0.9}, []float64{waited, busy})
	now := readMachine()
	assert.NotEmpty(t, now.counts)
}
