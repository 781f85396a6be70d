package run

import (
	"context"
	"iter"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// What is recorded of exchanges in full: of rows that passed, the first ones, and of each
// step of each sheet some, so that runs can be compared; of those that did not, more.
const (
	fullPassed = 1_000
	fullEach   = 20
	fullFailed = 10_000
)

// scheduler runs the rows of several sheets side by side. Rows are recorded when they are
// finished and shown in their order.
type scheduler struct {
	options RunOptions
	// kill cuts short what a run that is interrupted still does to end in order.
	kill     context.Context
	slots    chan struct{} // one for each row at work
	over     atomic.Bool   // nothing more is to be begun
	full     atomic.Int64  // exchanges of rows that passed, recorded in full
	failed   atomic.Int64
	recorder *recorder
	pace     *pace
}

// runner runs one sheet.
type runner struct {
	*scheduler
	session *session.Session
	sheet   *sheet.Sheet
	work    *Job
	index   int
	result  *result.Sheet
	queue   chan *task // rows in their order, as they are begun
	// ahead bounds the rows that are begun and not shown yet. Nothing waits for it
	// while it holds a place among those at work.
	ahead   chan struct{}
	load    *load
	begins  begins
	ended   atomic.Bool
	until   time.Time // the end of For, of each sheet its own; zero for none
	begun   bool      // told by the queue, as all times of the runner
	from    time.Time // when the sheet was begun
	rowsEnd time.Time
	end     time.Time
	undos   []undoing         // of the steps before the rows
	seen    *session.Versions // those that the steps before the rows were told; nil for none
	opening *exchange.Cookies // those of the steps before the rows; nil where none are kept
	inFull  inFull
	outside map[string]*document.Node
}

// task is a row with what is told of it.
type task struct {
	row    *result.Row
	events *events
	kept   map[string]*document.Node
	size   int // of what its exchanges hold, when it is finished
}

// Run runs sheets and returns what came of them. A cancelled context ends the run in
// order: the exchanges at work are cancelled and the finally and last steps are run;
// kill, where it is not nil, cuts those short too.
func Run(ctx, kill context.Context, work []*Job, options RunOptions) []*result.Sheet {
	if kill == nil {
		kill = context.Background()
	}
	if options.Observer == nil {
		options.Observer = NoObserver{}
	}
	options.Jobs = max(options.Jobs, 1)
	c := &scheduler{options: options, kill: kill, slots: make(chan struct{}, options.Jobs)}
	if options.Record != nil && !options.Dry {
		c.recorder = &recorder{record: options.Record, rows: make(chan finished, 1024), ended: make(chan struct{})}
		go c.recorder.run()
	}
	if options.Rate > 0 {
		c.pace = &pace{every: time.Duration(float64(time.Second) / options.Rate)}
	}
	window := 4*options.Jobs + rowsAhead
	runners := make([]*runner, len(work))
	for i, w := range work {
		runners[i] = &runner{
			scheduler: c, session: w.Session, sheet: w.Sheet, work: w, index: i, queue: make(chan *task, window+2),
			ahead: make(chan struct{}, window), load: newLoad(), outside: map[string]*document.Node{},
			result: &result.Sheet{
				Name: w.Sheet.Name, File: w.File(), About: w.Sheet.About, Site: w.Session.Site.Name,
				Outcome:  result.NotRun,
				Table:    w.table(),
				RowCount: w.Sheet.RowCount(), Total: totalRows(w.Sheet, options),
				Repeated: options.Repeat > 1 || options.For > 0 || options.Rate > 0,
				Limits:   limitsWithValues(w.Sheet.Limits, w.Session.Scope(nil, nil)),
			},
		}
		runners[i].result.Plan = step.List("", w.Sheet.AllSteps())
	}
	go func() {
		// So many sheets side by side; with one job each begins when the one before
		// is over.
		sheets := make(chan struct{}, options.Jobs)
		for _, r := range runners {
			sheets <- struct{}{}
			go func() {
				defer func() { <-sheets }()
				r.run(ctx)
			}()
		}
	}()
	var results []*result.Sheet
	for _, r := range runners {
		if r.show(ctx) {
			results = append(results, r.result)
		}
	}
	if c.recorder != nil {
		close(c.recorder.rows)
		<-c.recorder.ended
	}
	return results
}

// isOver says whether no more rows are to be begun.
func (r *runner) isOver(ctx context.Context) bool { return ctx.Err() != nil || r.isStopped() }

func (r *runner) isStopped() bool { return r.ended.Load() || r.over.Load() }

// stop ends the sheet, or all of them where the run is to stop.
func (r *runner) stop() {
	r.ended.Store(true)
	if r.options.Stop {
		r.over.Store(true)
	}
}

// run begins the rows of the sheet, one after the other, and waits for their end.
func (r *runner) run(ctx context.Context) {
	defer close(r.queue)
	if r.isOver(ctx) {
		return
	}
	for _, t := range r.sheet.Takes {
		if t.Default != nil {
			r.outside[t.Name] = t.Default
		}
	}
	if r.options.For > 0 {
		r.until = time.Now().Add(r.options.For)
	}
	next, stop := iter.Pull(r.rows(ctx))
	defer stop()
	row, any := next()
	first, last := r.options.Share.around(r.sheet, any)
	if !any && r.options.Share.N > 1 && len(first)+len(last) == 0 {
		return // nothing of this sheet is ours
	}
	r.begun, r.from = true, time.Now()
	defer func() { r.end = time.Now() }()
	if len(first) > 0 {
		r.outsideRow(ctx, "first", first)
		if r.options.For > 0 {
			r.until = time.Now().Add(r.options.For) // the time is that of the rows
		}
	}
	at := newPool(cap(r.slots))
	r.result.Started = time.Now()
	for ; any; row, any = next() {
		late, ok := r.waitForPlace(ctx)
		if !ok {
			break
		}
		t := &task{row: row.result, events: newEvents(), kept: maps.Clone(r.outside)}
		t.row.Late = late
		maps.Copy(t.kept, r.kept(row.result))
		r.queue <- t
		if row.wrong != "" {
			r.unclear(t, row.wrong)
			<-r.slots
			continue
		}
		x := &rowRun{runner: r, events: t.events, row: t.row, values: row.values, kept: t.kept}
		at.begin(func() {
			x.run(ctx, r.kill, r.sheet.Steps, r.sheet.Finally)
			<-r.slots
			r.finish(t)
		})
	}
	at.wait()
	r.rowsEnd = time.Now()
	if len(last) > 0 || len(r.undos) > 0 {
		r.outsideRow(ctx, "last", last)
	}
}

// waitForPlace waits until the next row may begin, and holds a place among those at work for
// it; late is how long after its moment that is. It says no where no more are to begin.
func (r *runner) waitForPlace(ctx context.Context) (late time.Duration, ok bool) {
	from := time.Now()
	r.ahead <- struct{}{}
	r.load.wait()
	r.begins.recording += time.Since(from)
	var due time.Time
	if r.pace != nil {
		due = r.pace.due()
		if exchange.Sleep(ctx, time.Until(due)) != nil {
			return 0, false
		}
	}
	r.slots <- struct{}{}
	if r.isOver(ctx) || !r.until.IsZero() && !time.Now().Before(r.until) {
		<-r.slots
		return 0, false
	}
	if !due.IsZero() {
		now := time.Now()
		late = max(now.Sub(due), 0)
		r.begins.add(due, now)
	}
	return late, true
}

// kept is what an earlier run kept in a row before the step that this one goes on from.
func (r *runner) kept(row *result.Row) map[string]*document.Node {
	if r.work.Kept == nil {
		return nil
	}
	return r.work.Kept(row.Phase, row.Iteration, row.Number)
}

// outsideRow runs the steps before or after the rows.
func (r *runner) outsideRow(ctx context.Context, phase string, steps []*sheet.Step) {
	t := &task{row: &result.Row{Phase: phase}, events: newEvents(), kept: r.outside}
	if phase == "first" {
		maps.Copy(t.kept, r.kept(t.row))
		isFromHere := r.options.From == "" || slices.ContainsFunc(steps, func(s *sheet.Step) bool {
			return s.Name == r.options.From
		})
		if r.work.Done.Has(phase, 0, 0) || !isFromHere {
			return
		}
	}
	r.queue <- t
	x := &rowRun{runner: r, events: t.events, row: t.row, kept: t.kept}
	if phase == "last" {
		ctx, x.undos, x.ending = r.kill, r.undos, true
	}
	r.slots <- struct{}{}
	x.run(ctx, r.kill, steps, nil)
	<-r.slots
	if phase == "first" {
		r.undos, r.opening, r.seen = x.undos, x.cookies, x.versions
		if r.work.Keep != nil {
			r.work.Keep(t.row, t.kept) // before it counts as done: the rows hang on it
		}
	}
	r.finish(t)
}

// inFull counts the exchanges of each step that were recorded in full.
type inFull struct {
	mutex  sync.Mutex
	counts map[string]int
}

// wants says whether a step of a row has not been recorded in full often enough, and counts
// the row as recorded then.
func (f *inFull) wants(row *result.Row) bool {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	expected := false
	for _, step := range row.Steps {
		expected = expected || len(step.Exchanges) > 0 && f.counts[step.Of] < fullEach
	}
	if !expected {
		return false
	}
	if f.counts == nil {
		f.counts = map[string]int{}
	}
	for _, step := range row.Steps {
		if len(step.Exchanges) > 0 {
			f.counts[step.Of]++
		}
	}
	return true
}

// finish records a row.
func (r *runner) finish(t *task) {
	t.size = size(t.row)
	r.load.add(t.size)
	if r.recorder == nil {
		t.events.close()
		return
	}
	exchanges := int64(0)
	for _, step := range t.row.Steps {
		exchanges += int64(len(step.Exchanges))
	}
	brief := t.row.Outcome == result.Passed && r.full.Add(exchanges) > fullPassed && !r.inFull.wants(t.row) ||
		t.row.Outcome != result.Passed && r.failed.Add(exchanges) > fullFailed
	r.recorder.rows <- finished{t.row, r.index, brief, r.session.Masker(), t.events}
}

// unclear is a row that cannot be read, or of which it cannot be told whether it is
// expected.
func (r *runner) unclear(t *task, why string) {
	step := &result.Step{Name: "rows", Of: "rows", Target: "rows", Outcome: result.Errored, Reason: why}
	t.row.Steps, t.row.Outcome = []*result.Step{step}, result.Errored
	t.events.add(event{step: step})
	r.finish(t)
}

// show tells the observer of the sheet, as its rows go on, and sums it up. It says
// whether the sheet was begun at all.
func (r *runner) show(ctx context.Context) bool {
	o, res := r.options.Observer, r.result
	machine := readMachine()
	watches := map[string]*history.Histogram{}
	for _, w := range r.work.Before {
		watches[w.Step()] = w
	}
	told := false
	for t := range r.queue {
		if !told {
			o.SheetStarted(res)
			told = true
		}
		o.RowStarted(res, t.row)
		for e := range t.events.all() {
			switch {
			case e.lost != nil:
				o.RecordLost(e.lost)
			case e.would:
				o.WouldSend(t.row, e.step, e.request, e.reason)
			default:
				o.StepDone(res, t.row, e.step)
			}
		}
		o.RowDone(res, t.row)
		res.Counts.Add(t.row.Counts())
		res.Outcome = result.Worst(res.Outcome, t.row.Outcome)
		if t.row.Phase == "" {
			r.begins.took += t.row.Took
			r.begins.finished++
		}
		r.watch(watches, t.row)
		if r.work.Keep != nil && t.row.Phase == "" {
			r.work.Keep(t.row, t.kept)
		}
		if !r.options.Forget {
			res.Rows = append(res.Rows, t.row)
		}
		if t.row.Phase == "" {
			<-r.ahead
		}
		r.load.add(-t.size)
	}
	if !r.begun {
		return false
	}
	if !told {
		o.SheetStarted(res)
	}
	res.Counts.Sheets = 1
	res.Took = r.end.Sub(r.from)
	res.Running = r.rowsEnd.Sub(res.Started) + r.work.BeforeTook
	r.sum(watches)
	r.noteTimes(machine)
	r.judgeLimits(ctx)
	r.judgeRows(ctx)
	if ctx.Err() != nil {
		res.Outcome = result.Interrupted
	}
	o.SheetDone(res)
	return true
}

// watch takes the times of a row's exchanges. The first one of a row that was begun
// late counts from when it should have been.
func (r *runner) watch(watches map[string]*history.Histogram, row *result.Row) {
	late := row.Late
	for _, step := range row.Steps {
		last := step.Last()
		if last == nil || step.Outcome == result.NotRun || step.Target == "listen" {
			continue
		}
		w := watches[step.Of]
		if w == nil {
			w = history.NewHistogram(step.Of)
			watches[step.Of] = w
		}
		w.Add(history.Measure{
			Took: last.Phases.Total, Late: late, Exchanges: len(step.Exchanges), Tries: step.Tries,
		})
		late = 0
	}
}

// sum calculates the times of the steps, in the order of the sheet.
func (r *runner) sum(watches map[string]*history.Histogram) {
	add := func(name string) {
		if w := watches[name]; w != nil {
			r.result.Times = append(r.result.Times, w.Times(r.result.Running))
			delete(watches, name)
		}
	}
	for _, p := range r.result.Plan {
		add(history.StepOf(p.Name))
	}
	for _, name := range slices.Sorted(maps.Keys(watches)) {
		add(name)
	}
}
