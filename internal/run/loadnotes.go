package run

import (
	"fmt"
	"math"
	"os"
	"runtime/metrics"
	"strconv"
	"strings"
	"time"

	"testbench/internal/history"
)

// begins are when the rows of a sheet were begun, and when they were due by the rate.
type begins struct {
	rows                int
	firstDue, lastDue   time.Time
	firstBegun, lastOne time.Time
	recording           time.Duration // how long rows waited until others were recorded and shown
	took                time.Duration // all rows together
	finished            int
}

// add notes that a row was begun.
func (b *begins) add(due, now time.Time) {
	if b.rows == 0 {
		b.firstDue, b.firstBegun = due, now
	}
	b.rows++
	b.lastDue, b.lastOne = due, now
}

// What is said of times.
const (
	leastRows     = 10
	rateReached   = 0.95 // of the rate that was asked for
	placesAreFull = 0.9  // of the time that there is
	ownDiffers    = 1.1  // times from the due moment, of those from the beginning
)

// rateNote says that a rate was not reached, and why; "" where it was. Of several sheets side by side each
// has its part of the rate.
func (b *begins) rateNote(jobs int) string {
	due, begun := b.lastDue.Sub(b.firstDue).Seconds(), b.lastOne.Sub(b.firstBegun).Seconds()
	if b.rows < leastRows || due <= 0 || begun <= 0 {
		return ""
	}
	asked, reached := float64(b.rows-1)/due, float64(b.rows-1)/begun
	if reached >= asked*rateReached {
		return ""
	}
	note := fmt.Sprintf("the rate was not reached: %.4g rows a second were asked for, and %.4g were begun", asked,
		reached)
	mean := b.took.Seconds() / float64(max(b.finished, 1))
	switch needed := asked * mean; {
	case needed > placesAreFull*float64(jobs):
		return note + fmt.Sprintf("; all places were busy: with -jobs %d and %s for a row, %.4g a second can be done; "+
			"-jobs %d is enough for the rate", jobs, inMillis(mean), float64(jobs)/mean,
			max(int(math.Ceil(needed*1.2)), jobs+1))
	case b.recording.Seconds() > begun/10:
		return note + fmt.Sprintf("; rows waited %.1f s until others were recorded and shown", b.recording.Seconds())
	}
	return note + "; places were free, so this machine was too busy to begin the rows"
}

func inMillis(seconds float64) string { return fmt.Sprintf("%.1f ms", seconds*1000) }

// dueNote explains times from the due moment where they differ from those of the service; "" for none.
func dueNote(times []*history.Times) string {
	for _, t := range times {
		if t.Own != nil && t.P95 > t.Own.P95*ownDiffers && t.P95 > t.Own.P95+1 {
			return fmt.Sprintf("times count from when a row was due, as those who wait see them: p95 of %s is "+
				"%.1f ms; from when it was sent it is %.1f ms (p50 %.1f ms, max %.1f ms)", t.Step, t.P95, t.Own.P95, t.Own.P50,
				t.Own.Max)
		}
	}
	return ""
}

// schedulerLatencies is how long work of this program that was ready waited for a processor.
const schedulerLatencies = "/sched/latencies:seconds"

// machineLoad is what was read of this machine at one moment.
type machineLoad struct {
	buckets     []float64 // seconds, the lower ends
	counts      []uint64  // how often work of this program waited so long for a processor
	busy, total float64   // what all processors did, of all programs; 0 where that is not told
}

// readMachine reads how busy this machine has been since it was started.
func readMachine() machineLoad {
	sample := []metrics.Sample{{Name: schedulerLatencies}}
	metrics.Read(sample)
	m := machineLoad{}
	if sample[0].Value.Kind() == metrics.KindFloat64Histogram {
		h := sample[0].Value.Float64Histogram()
		m.buckets, m.counts = h.Buckets, h.Counts
	}
	// Linux tells what all processors did: user, nice, system, idle, waiting for a disk, and more.
	stat, _ := os.ReadFile("/proc/stat")
	line, _, _ := strings.Cut(string(stat), "\n")
	for i, field := range strings.Fields(line) {
		ticks, err := strconv.ParseFloat(field, 64)
		if err != nil {
			continue
		}
		m.total += ticks
		if i != 4 && i != 5 {
			m.busy += ticks
		}
	}
	return m
}

// since gives how long one in twenty of what was ready has waited at least since an earlier moment, in
// seconds, and what part of the time all processors were busy; 0 where nothing is told.
func (m machineLoad) since(before machineLoad) (waited, busy float64) {
	if m.total-before.total >= leastTicks {
		busy = (m.busy - before.busy) / (m.total - before.total)
	}
	if len(m.counts) != len(before.counts) {
		return 0, busy
	}
	all, longer := uint64(0), uint64(0)
	for i, count := range m.counts {
		all += count - before.counts[i]
	}
	for i := len(m.counts) - 1; i >= 0 && all > 0; i-- {
		if longer += m.counts[i] - before.counts[i]; longer*20 >= all {
			return m.buckets[i], busy
		}
	}
	return 0, busy
}

// From when on the machine is called the bottleneck: how long work waited, in seconds and as a part of the
// times, or how busy all processors were.
const (
	leastWait   = 0.001
	partOfTimes = 0.1
	leastBusy   = 0.9
	leastTicks  = 50 // of all processors, each a hundredth of a second
	// leastRunning is how long something must go on: a burst tells nothing of the machine.
	leastRunning = time.Second
)

// machineNote warns where the times are those of this machine as well; "" for not.
func machineNote(times []*history.Times, waited, busy float64) string {
	fastest := math.Inf(1)
	for _, t := range times {
		fastest = min(fastest, t.P50)
	}
	why := ""
	switch {
	case len(times) == 0:
		return ""
	case waited >= leastWait && waited*1000 >= fastest*partOfTimes:
		why = fmt.Sprintf("one in twenty pieces of work waited %s or longer for a processor", inMillis(waited))
	case busy >= leastBusy:
		why = fmt.Sprintf("its processors were busy for %.0f %% of the time", busy*100)
	default:
		return ""
	}
	return "this machine was the bottleneck: " + why + ", and the times hold that; take fewer jobs, or more machines " +
		"with -share"
}

// noteTimes says what is to be known of the times of the sheet.
func (r *runner) noteTimes(machine machineLoad) {
	if !r.result.Repeated && r.result.Counts.Rows <= rowsWithTimes {
		return
	}
	var notes []string
	if r.pace != nil {
		notes = append(notes, r.begins.rateNote(r.options.Jobs), dueNote(r.result.Times))
	}
	if r.result.Running >= leastRunning {
		waited, busy := readMachine().since(machine)
		notes = append(notes, machineNote(r.result.Times, waited, busy))
	}
	for _, note := range notes {
		if note != "" {
			r.result.Notes = append(r.result.Notes, note)
		}
	}
}

// rowsWithTimes is up to how many rows a sheet is not a measurement, unless its rows are repeated.
const rowsWithTimes = 25
