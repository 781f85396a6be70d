package workbench

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/callback"
	"testbench/internal/hint"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/table"
	"testbench/internal/vet"
)

// Share is one of several parts of the rows, I of N; the zero value is all of them.
type Share = run.Share

// RunOptions say how sheets are run.
type RunOptions struct {
	Options
	Steps []string // only these; empty for all
	Tags  []string // only steps with one of them, or of a sheet with one; empty for all
	// From is a step to go on from, with the values that the last run kept.
	From   string
	Rows   [][2]int // only these, from and to, from 1; empty for all
	Stop   bool     // at the first step that fails
	Dry    bool     // nothing is sent; what would be is reported
	Accept bool     // answers are what they must be: same as file: writes its files
	Out    []string // the files that reports go into, which must not be those that rows come from
	Jobs   int      // rows and sheets at work side by side; 0 is 1
	Rate   float64  // rows begun in a second; 0 for as many as can be
	Repeat int      // how often the rows are run; 0 is once
	For    time.Duration
	Share  Share
	// Of names the run that the share belongs to: the same on each machine, another for
	// each run. It must be given with a share of more than one.
	Of string
	// Listen is where calls back come in (127.0.0.1 and a free port where empty), Public
	// the address under which others reach that.
	Listen, Public string
	// Observer is told how the run goes on; it may be nil.
	Observer Observer
	// Forget deletes the rows' results when they are told and recorded; they are
	// found through Result.Finished then. Otherwise the result holds them all.
	Forget bool
	// Doubted is told of each sheet, when all were run, what its checks notice; nil where nothing is doubted.
	Doubted func(*Doubted)
	// Unrecorded keeps the run out of the bench's history.
	Unrecorded bool
	// Kill, once done, cuts short what an interrupted run still does to end in
	// order. It may be nil.
	Kill context.Context

	before func(ctx context.Context, session *session.Session, step *sheet.Step, scope *session.Values)
}

// Run runs sheets. Mistakes in the bench or in a sheet are returned as Problems, before
// anything is sent. A cancelled context ends the run in order; the result is complete to
// that point. Unless the options say otherwise, the run is in the history of the
// bench, each row from the moment on when it is finished. The caller closes the result.
func (b *Bench) Run(ctx context.Context, files []string, o RunOptions) (*Result, error) {
	return runSheets(ctx, b, files, o, nil)
}

// Resume goes on with an interrupted run of the history: with the rows that it did
// not finish, as it was asked for then.
func (b *Bench) Resume(ctx context.Context, number int, o RunOptions) (*Result, error) {
	store, err := b.History()
	if err != nil {
		return nil, err
	}
	stored, err := store.Get(number)
	if err != nil {
		_ = store.Close()
		return nil, err
	}
	return runSheets(ctx, b, stored.Run().Order.Files, o, &resuming{store, stored})
}

// resuming is a run that is gone on with.
type resuming struct {
	store  *history.Store
	stored *history.Stored
}

// running is a run under way.
type running struct {
	bench   *Bench
	options RunOptions
	result  *Result
	head    *history.Run
	store   *history.Store
	writer  *history.Writer
	work    []*run.Job
	state   *state
	resumes *resuming
	lost    error // why rows were not recorded any more
}

func runSheets(ctx context.Context, b *Bench, files []string, o RunOptions, resumes *resuming) (_ *Result, err error) {
	r := &running{bench: b, resumes: resumes}
	defer func() {
		if err != nil {
			r.close()
		}
	}()
	o.Options = completeOptions(b, o.Options)
	if resumes != nil {
		r.store = resumes.store
		if err := r.asBefore(&o); err != nil {
			return nil, err
		}
	}
	if o.Accept {
		o.Accepted = &session.Accepted{}
	}
	o.Receiver = &callback.Receiver{Listen: o.Listen, Public: o.Public}
	r.options = o
	if err := r.prepare(files); err != nil {
		return nil, err
	}
	if err := r.record(); err != nil {
		return nil, err
	}
	exits := &exitChooser{Observer: o.Observer, exits: b.inner.Exits, chosen: len(b.inner.Exits)}
	if exits.Observer == nil {
		exits.Observer = run.NoObserver{}
	}
	keeper := &rowKeeper{Observer: exits, kept: map[*result.Sheet][]*result.Row{}}
	options := run.RunOptions{
		Steps: o.Steps, Tags: o.Tags, From: o.From, Rows: o.Rows, Stop: o.Stop, Dry: o.Dry, Jobs: o.Jobs, Rate: o.Rate,
		Repeat: o.Repeat, For: o.For, Share: o.Share,
		Observer: exits, Explain: hint.Explain, Before: o.before, Forget: o.Forget && r.writer != nil,
	}
	if r.writer != nil {
		options.Record = func(entries []history.Entry) error {
			r.lost = r.writer.Add(entries)
			return r.lost
		}
	}
	if o.Doubted != nil {
		options.Observer = keeper
	}
	r.result.Sheets = run.Run(ctx, o.Kill, r.work, options)
	for _, one := range r.result.Sheets {
		r.result.Outcome = result.Worst(r.result.Outcome, one.Outcome)
	}
	switch {
	case ctx.Err() != nil:
		r.result.Outcome = Interrupted
	case r.result.Outcome == NotRun && o.Share.N > 1:
		r.result.Outcome = Passed // nothing of it is this machine's
	}
	exits.give(r.result)
	if o.Doubted != nil {
		if err := r.doubt(ctx, keeper.kept); err != nil {
			r.result.Notes = append(r.result.Notes, "the checks were not doubted: "+err.Error())
		}
	}
	return r.finish()
}

// prepare reads and vets the sheets.
func (r *running) prepare(files []string) error {
	b, o := r.bench, r.options
	if _, err := b.inner.At(o.Site); err != nil {
		return err
	}
	problems := b.inner.Problems().Serious()
	var sheets []*sheet.Sheet
	files, err := sheetFiles(b, files)
	if err != nil {
		return err
	}
	for _, file := range files {
		s, err := openSheet(b, file)
		if err != nil {
			return err
		}
		problems = append(problems, vet.Sheet(s, vetOptions(b, o.Options, true)).Serious()...)
		sheets = append(sheets, s)
	}
	if problems = append(problems, vet.SameNames(sheets)...); len(problems) > 0 {
		return problems
	}
	arguments := arguments(o.Options)
	arguments.Rows, arguments.Listen, arguments.Steps = len(o.Rows) > 0 && o.before == nil, o.Listen != "" ||
		o.Public != "", o.Steps
	arguments.Tags, arguments.Shared = o.Tags, o.Share.N > 1
	if o.From != "" {
		arguments.Steps = append(slices.Clone(o.Steps), o.From)
	}
	if err := vet.CheckArguments(b.inner, arguments, sheets, nil); err != nil {
		return err
	}
	if err := checkOut(b, o.Out, sheets); err != nil {
		return err
	}
	if o.Accept && !slices.ContainsFunc(sheets, expectsFile) {
		return errors.New("-accept has no effect: no step of these sheets expects what a file holds (same as file)")
	}
	if len(o.Tags) > 0 {
		sheets = slices.DeleteFunc(sheets, func(s *sheet.Sheet) bool { return !s.HasTag(o.Tags) })
	}
	r.result = &Result{Bench: b.inner.Name, Started: time.Now(), Outcome: NotRun, Masker: o.Masker}
	sessions := map[string]*session.Session{}
	for _, s := range sheets {
		options := o.Options
		options.Jobs = o.Jobs
		if options.Site == "" {
			options.Site = s.Site
		}
		sess, ok := sessions[options.Site]
		if !ok {
			var err error
			if sess, err = session.NewSession(b.inner, options); err != nil {
				return err
			}
			sessions[options.Site] = sess
			if r.result.Run == "" {
				r.result.Run = sess.RunID
			}
			sess.RunID = r.result.Run
		}
		r.work = append(r.work, &run.Job{Session: sess, Sheet: s})
	}
	return nil
}

// checkOut refuses a report in the place of the rows that are run.
func checkOut(b *Bench, out []string, sheets []*sheet.Sheet) error {
	for _, s := range sheets {
		if s.Rows == nil || !s.Rows.IsFile() {
			continue
		}
		rows, err := os.Stat(filepath.Join(b.Dir, s.Rows.From))
		if err != nil {
			continue // which is told where it is read
		}
		for _, name := range out {
			at, sheet, isSheet := table.SheetOf(name)
			if file, err := os.Stat(at); err != nil || !os.SameFile(file, rows) || isSheet && !s.Rows.IsOf(at, sheet) {
				continue
			}
			try := "name another file: -out results.csv"
			if strings.EqualFold(filepath.Ext(at), ".xlsx") {
				try = "name another sheet of it: -out " + at + "#results"
			}
			return session.WithTry(fmt.Sprintf("-out %s would overwrite the rows of %s", name, s.Source.Name), try)
		}
	}
	return nil
}

// historyFile is the history of the bench.
func historyFile(b *Bench) string { return filepath.Join(b.Dir, ".testbench", "history.db") }

// History opens the history of the bench. The caller closes it.
func (b *Bench) History() (*history.Store, error) {
	if b.Dir == "" {
		return nil, errors.New("only a bench has a history; `testbench new DIR` starts one")
	}
	return history.Open(historyFile(b))
}

// Import takes a run into the history that was written elsewhere (see history.Store.Import). A run of another
// bench is refused: trends would mix the two.
func (b *Bench) Import(ctx context.Context, to *history.Store, run history.Finished, replace bool) (
	number int, isNew bool, err error,
) {
	if of := run.Run().Bench; of != b.inner.Name {
		return 0, false, session.WithTry(fmt.Sprintf("it is a run of the bench %s, and this bench is %s", of,
			b.inner.Name), "name the bench with -bench DIR")
	}
	return to.Import(ctx, run, replace)
}

// record begins the record of the run. One that cannot be written does not keep the run
// from going on.
func (r *running) record() error {
	b, o := r.bench, r.options
	if b.Dir == "" || o.Dry || o.Unrecorded {
		return nil
	}
	var err error
	if r.store == nil {
		if r.store, err = b.History(); err != nil {
			if r.resumes != nil {
				return err
			}
			r.result.Notes = append(r.result.Notes, "the run is not recorded: "+err.Error())
			r.store = nil
		}
	}
	if r.store != nil && r.store.Note != "" {
		r.result.Notes = append(r.result.Notes, r.store.Note)
	}
	if r.store != nil {
		// What cannot make room now can do so next time.
		if gone, err := r.store.Bound(history.MostBytes); err == nil && len(gone) > 0 {
			r.result.Notes = append(r.result.Notes,
				fmt.Sprintf("the history was larger than %d MiB; its oldest runs, up to %d, were taken away",
					history.MostBytes>>20, gone[len(gone)-1]))
		}
	}
	if o.From != "" {
		if err := r.goOnFrom(); err != nil {
			return err
		}
	}
	if r.store == nil {
		return nil
	}
	order, err := r.order()
	if err != nil {
		return err
	}
	r.head = r.result.Record()
	r.head.Order, r.head.Share, r.head.Of = order, o.Share.String(), o.Of
	r.head.Outcome = ""
	for _, w := range r.work {
		r.head.Sheets = append(r.head.Sheets, w.Head())
	}
	if r.resumes != nil {
		err = r.resume()
	} else if r.writer, err = r.store.Begin(r.head); err == nil {
		err = r.writer.Head(r.head)
	}
	if err != nil {
		if r.resumes != nil {
			return err
		}
		r.result.Notes = append(r.result.Notes, "the run is not recorded: "+err.Error())
		r.writer = nil
		return nil
	}
	r.result.Number = r.writer.Number
	r.saveKept()
	return nil
}

// callSheet is in the history where a run has its sheet.
const callSheet = "call"

// recordSteps puts steps that no sheet has into the history of the bench, as a run of
// their own, and gives its number; 0 without a bench.
func recordSteps(b *Bench, session *session.Session, name string, steps ...*StepResult) (int, error) {
	if b.Dir == "" {
		return 0, nil
	}
	store, err := b.History()
	if err != nil {
		return 0, err
	}
	defer func() { _ = store.Close() }()
	one := &SheetResult{Name: name, Site: session.Site.Name}
	for _, step := range steps {
		one.Took += step.Took
		one.Outcome = result.Worst(one.Outcome, step.Outcome)
	}
	var entry history.Entry
	entry, one.Counts = result.LooseEntry(steps, one.Outcome, session.Masker())
	result := &Result{
		Run: session.RunID, Bench: b.inner.Name, Started: time.Now().Add(-one.Took), Took: one.Took,
		Outcome: one.Outcome, Sheets: []*SheetResult{one},
	}
	head := result.Record()
	writer, err := store.Begin(head)
	if err != nil {
		return 0, err
	}
	if err := writer.Add([]history.Entry{entry}); err != nil {
		return 0, err
	}
	head.Ended = true
	return writer.Number, writer.Head(head)
}

// order is what is asked for, so that it can be gone on with.
func (r *running) order() (history.RunRequest, error) {
	o := r.options
	order := history.RunRequest{
		Site: o.Site, Write: o.Write, Steps: o.Steps, Tags: o.Tags, Rows: o.Rows, Repeat: o.Repeat,
		For: o.For, Rate: o.Rate, Jobs: o.Jobs, Set: len(o.Set) > 0, Inputs: map[string]string{},
	}
	for _, w := range r.work {
		order.Files = append(order.Files, w.File())
		for name, file := range w.Inputs() {
			if w.File() == standardInput && file == standardInput {
				continue // what came from there is no file that could have changed
			}
			digest, err := digestOf(file)
			if err != nil {
				return order, err
			}
			order.Inputs[name] = digest
		}
	}
	if len(o.Set) > 0 {
		// In a digest alone: they may be secret.
		sum := sha256.New()
		for _, name := range slices.Sorted(maps.Keys(o.Set)) {
			fmt.Fprintf(sum, "%q=%q\n", name, o.Set[name])
		}
		order.Inputs["the values of -set"] = hex.EncodeToString(sum.Sum(nil))
	}
	return order, nil
}

func digestOf(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer func() { _ = file.Close() }()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// asBefore takes over what the run to go on with was asked for.
func (r *running) asBefore(o *RunOptions) error {
	before := r.resumes.stored.Run()
	if before.Ended && before.Outcome != string(Interrupted) {
		return fmt.Errorf("run %d ended by itself; there is nothing to go on with", before.Number)
	}
	if before.Order.For > 0 {
		return fmt.Errorf("run %d was to go on for a time, and cannot be resumed; run it anew", before.Number)
	}
	o.Site, o.Write, o.Steps, o.Tags, o.Rows, o.Repeat, o.Rate = before.Order.Site, before.Order.Write,
		before.Order.Steps,
		before.Order.Tags, before.Order.Rows, before.Order.Repeat, before.Order.Rate
	if o.Jobs == 0 {
		o.Jobs = before.Order.Jobs
	}
	o.Of = before.Of
	if before.Share != "" {
		_, _ = fmt.Sscanf(before.Share, "%d/%d", &o.Share.I, &o.Share.N)
	}
	r.state = readState(r.bench, before.Number)
	if before.Order.Set && len(o.Set) == 0 {
		if r.state == nil {
			return fmt.Errorf("run %d was given values by -set, and they cannot be read back; give them again",
				before.Number)
		}
		o.Set = r.state.Set
	}
	return nil
}

// resume prepares going on with a run: which rows are done, and what was kept.
func (r *running) resume() error {
	before := r.resumes.stored.Run()
	for name, digest := range before.Order.Inputs {
		if now, ok := r.head.Order.Inputs[name]; (!ok || now != digest) && !strings.Contains(name, "://") {
			return fmt.Errorf("%s is not what it was in run %d, so its rows may be others; run it anew", name,
				before.Number)
		}
	}
	for i, w := range r.work {
		done, err := r.resumes.stored.Done(i)
		if err != nil {
			return err
		}
		w.Done = done
		if w.Before, w.BeforeTook, err = r.resumes.stored.Measured(i); err != nil {
			return err
		}
		if r.state != nil {
			outside := r.state.kept(w.File(), "first", 0, 0)
			w.Kept = func(phase string, _, _ int) kept {
				if phase == "first" {
					return outside
				}
				return nil
			}
		}
	}
	var err error
	r.writer, err = r.store.Resume(before.Number)
	r.head.Started, r.head.ID = before.Started, before.ID
	r.result.Run = before.ID
	return err
}

// finish ends the run: tokens are given back, and the record is completed.
func (r *running) finish() (*Result, error) {
	result := r.result
	_ = r.options.Receiver.Close()
	closed := map[*session.Session]bool{}
	for _, w := range r.work {
		if closed[w.Session] {
			continue
		}
		closed[w.Session] = true
		if err := closeInTime(w.Session); err != nil {
			result.Notes = append(result.Notes, "a token could not be given back: "+err.Error())
		}
		for _, note := range w.Session.Notes {
			if !slices.Contains(result.Notes, note) {
				result.Notes = append(result.Notes, note)
			}
		}
	}
	if r.options.Accepted != nil {
		for _, file := range r.options.Accepted.Files() {
			result.Notes = append(result.Notes, "accepted: "+bench.DisplayName(file)+" is written")
		}
	}
	result.Took = time.Since(result.Started)
	if r.writer == nil {
		result.Finished = result.Memory()
		r.close()
		return result, nil
	}
	r.saveKept()
	lost := r.lost
	if lost == nil { // else it stays one that was not run to its end
		lost = r.complete()
	}
	if lost != nil {
		result.Lost = lost.Error()
		result.Finished = result.Memory()
		if stored, err := r.store.Get(result.Number); err == nil && r.options.Forget {
			result.Finished = &partly{open{stored, r.store}, result.Record()}
			return result, nil
		}
		r.close()
		return result, nil
	}
	stored, err := r.store.Get(result.Number)
	if err != nil {
		r.close()
		return result, err
	}
	result.Finished = &open{stored, r.store}
	return result, nil
}

// open is a run of the history with what must be closed after it.
type open struct {
	*history.Stored
	store *history.Store
}

func (o *open) Close() error { return o.store.Close() }

// partly is a run of which rows were recorded up to where that was not possible any more.
type partly struct {
	open
	head *history.Run
}

func (p *partly) Run() *history.Run { return p.head }

// complete writes the head of the run. What an earlier part of it came to is summed up
// from the rows.
func (r *running) complete() error {
	head := r.result.Record()
	head.Order, head.Share, head.Of, head.ID, head.Started = r.head.Order, r.head.Share, r.head.Of, r.head.ID,
		r.head.Started
	for _, w := range r.work {
		maps.Copy(head.Order.Inputs, w.Fetched())
	}
	for i, s := range r.head.Sheets {
		if i < len(head.Sheets) && head.Sheets[i].File == s.File {
			continue
		}
		if r.resumes != nil && i < len(r.resumes.stored.Run().Sheets) {
			s = r.resumes.stored.Run().Sheets[i] // all of it was done before
		}
		head.Sheets = slices.Insert(head.Sheets, min(i, len(head.Sheets)), s)
	}
	if head.Ended = r.result.Outcome != Interrupted; !head.Ended {
		head.Broken = append(head.Broken, "the run was interrupted")
	}
	if r.resumes != nil {
		stored := r.resumes.stored
		if err := stored.Sum(head); err != nil {
			return err
		}
		r.result.Total = head
		r.result.Outcome = result.Worst(r.result.Outcome, Outcome(head.Outcome))
	}
	return r.writer.Head(head)
}

// note says something at the end of the run.
func (r *running) note(text string) {
	if !slices.Contains(r.result.Notes, text) {
		r.result.Notes = append(r.result.Notes, text)
	}
}

func (r *running) close() {
	if r.store != nil {
		_ = r.store.Close()
	}
}
