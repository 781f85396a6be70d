package workbench

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"testbench/internal/cover"
	"testbench/internal/doubt"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// Doubted tells what the checks of a sheet notice.
type Doubted = doubt.Result

// MostChanges is how many changes are tried of a sheet unless something else is asked for.
const MostChanges = doubt.MostChanges

// DoubtOptions say whose recorded answers are doubted.
type DoubtOptions struct {
	Options
	Sheets []string // empty for those of the run, or of the last one
	Run    int      // in the history; 0 for the last run of each sheet
	Most   int      // changes of a sheet; 0 for MostChanges
}

// How many rows of a sheet are doubted, and how many earlier runs are looked at for what is new each time.
const (
	mostRows    = 3
	mostOthers  = 30 // rows from which is learnt what varies
	mostEarlier = 4
)

// Doubt changes the answers that the history has of sheets, and tells what their checks notice. Nothing is sent.
func (b *Bench) Doubt(ctx context.Context, o DoubtOptions) ([]*Doubted, error) {
	o.Options = completeOptions(b, o.Options)
	store, err := b.History()
	if err != nil {
		return nil, err
	}
	defer func() { _ = store.Close() }()
	files, err := b.SheetNames(o.Sheets)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		if _, err := openSheet(b, file); err != nil {
			return nil, err
		}
	}
	if o.Run > 0 {
		if _, err := store.Get(o.Run); err != nil {
			return nil, err
		}
	}
	q := history.RunQuery{Files: files}
	if o.Site != "" {
		q.Sites = []string{o.Site}
	}
	runs, err := store.Runs(q)
	if err != nil {
		return nil, err
	}
	if o.Run > 0 {
		at := slices.IndexFunc(runs, func(r *history.Stored) bool { return r.Run().Number == o.Run })
		if at < 0 {
			return nil, fmt.Errorf("run %d is not a whole run of such sheets", o.Run)
		}
		runs = runs[at:]
	}
	if len(runs) == 0 {
		return nil, session.WithTry("the history has no run of a sheet", "run one first: testbench run SHEET")
	}
	if len(files) == 0 {
		for _, of := range runs[0].Run().Sheets {
			if of.File != "" && !slices.Contains(files, of.File) {
				files = append(files, of.File)
			}
		}
	}
	var out []*Doubted
	for _, file := range files {
		one, err := doubtSheet(ctx, b, o, runs, file)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// doubtSheet doubts the newest answers of a sheet that are recorded in full.
func doubtSheet(ctx context.Context, b *Bench, o DoubtOptions, runs []*history.Stored, file string) (*Doubted, error) {
	subject := &doubt.Subject{Bench: b.inner, Options: o.Options}
	of, hadSet := 0, false // the number of the run, and whether it was given values
	for _, stored := range runs {
		order := stored.Run().Order
		if isPart := len(order.Steps)+len(order.Tags) > 0; isPart && stored.Run().Number != o.Run {
			continue
		}
		for i, one := range stored.Run().Sheets {
			if one.File != file || subject.Options.Site != "" && one.Site != subject.Options.Site {
				continue
			}
			rows, others, err := recordedRows(stored, i)
			subject.Others = append(subject.Others, others...)
			switch {
			case err != nil:
				return nil, err
			case len(rows) > 0 && len(subject.Rows) == 0:
				of, subject.Rows, subject.Options.Site = stored.Run().Number, rows, one.Site
				subject.RunID = stored.Run().ID
				subject.Steps, subject.Tags, hadSet = order.Steps, order.Tags, order.Set
			default:
				subject.Earlier = append(subject.Earlier, rows...)
			}
		}
		if len(subject.Earlier) >= mostEarlier*max(len(subject.Rows), 1) {
			break
		}
	}
	if len(subject.Rows) == 0 {
		return nil, session.WithTry(fmt.Sprintf("no row of %s passed and is recorded with its answers", file),
			"run it first: testbench run "+file)
	}
	var err error
	if subject.Sheet, err = openSheet(b, file); err != nil {
		return nil, err
	}
	subject.Only = onlyValues(b, subject.Sheet, o.Options)
	doubted, err := doubt.Doubt(ctx, subject, doubtLimits(o.Most))
	if err != nil {
		return nil, err
	}
	doubted.Run = of
	if hadSet && len(o.Set) == 0 {
		doubted.Notes = append(doubted.Notes, "the run was given values by -set; give them again")
	}
	return doubted, nil
}

// onlyValues are the values that the contracts of steps take alone in fields of their answers: by the step, and by the
// path without elements. A contract that cannot be read gives none; judging tells of it.
func onlyValues(b *Bench, s *sheet.Sheet, o Options) map[string]map[string][]string {
	out := map[string]map[string][]string{}
	b.inner.Kept = keptContracts(b, o)
	defer func() { b.inner.Kept = nil }()
	s.EveryStep(func(_ *sheet.Sheet, one *sheet.Step) {
		call, ok := one.Action.(*step.Call)
		if !ok {
			return
		}
		service := b.inner.Service(call.Service)
		if service == nil || service.Contract == nil {
			return
		}
		c, err := b.inner.Offline(service) // nothing is sent for it
		if err != nil || c == nil || !c.HasOperations() {
			return
		}
		op, err := c.Operation(call.Operation, service.Binding())
		if err != nil || op == nil {
			return
		}
		only := map[string][]string{}
		for _, answer := range op.Parts(true).Answers {
			for _, row := range answer.Rows {
				if len(row.Only) > 1 {
					only[cover.Key(row.Path)] = row.Only
				}
			}
		}
		out[one.Name] = only
	})
	return out
}

func doubtLimits(most int) doubt.Options {
	if most == 0 {
		most = doubt.MostChanges
	}
	return doubt.Options{Most: most, Time: doubt.MostTime}
}

// recordedRows are rows of a sheet that passed and whose answers are there, each with the steps before and after the
// rows; and others, whatever became of them.
func recordedRows(stored *history.Stored, index int) (recorded, others []*doubt.Recorded, err error) {
	var around, rows []*history.Row
	for row, err := range stored.Rows(index) {
		if err != nil {
			return nil, nil, err
		}
		switch {
		case row.Phase != "":
			around = append(around, row)
		case row.Outcome == string(Passed) && row.Iteration <= 1 && len(rows) < mostRows &&
			slices.ContainsFunc(row.Steps, func(s *history.Step) bool { return len(s.Exchanges) > 0 || s.Got != "" }):
			rows = append(rows, row)
		case len(others) < mostOthers:
			others = append(others, doubt.OfHistory(row))
		}
	}
	for _, row := range rows {
		recorded = append(recorded, doubt.OfHistory(append(slices.Clone(around), row)...))
	}
	return recorded, others, nil
}

// rowKeeper passes a run on to its observer, and keeps the first rows of each sheet, with the steps before and
// after the rows.
type rowKeeper struct {
	run.Observer
	kept map[*result.Sheet][]*result.Row
}

// RowDone keeps the row if it is one of the first, and passes it on.
func (k *rowKeeper) RowDone(s *result.Sheet, row *result.Row) {
	if row.Phase != "" || row.Iteration <= 1 && len(k.kept[s]) < mostRows+mostOthers {
		kept := *row // whoever forgets the row forgets what it leads to
		k.kept[s] = append(k.kept[s], &kept)
	}
	k.Observer.RowDone(s, row)
}

// doubt doubts the answers of the run that were kept.
func (r *running) doubt(ctx context.Context, kept map[*result.Sheet][]*result.Row) error {
	for _, of := range r.result.Sheets {
		at := slices.IndexFunc(r.work, func(j *run.Job) bool { return j.File() == of.File })
		subject := &doubt.Subject{
			Bench: r.bench.inner, Options: r.options.Options, Sheet: r.work[at].Sheet,
			RunID: r.result.Run, Steps: r.options.Steps, Tags: r.options.Tags,
		}
		subject.Options.Site = of.Site
		var around []*result.Row
		for _, row := range kept[of] {
			if row.Phase != "" {
				around = append(around, row)
			}
		}
		for _, row := range kept[of] {
			switch {
			case row.Phase != "":
			case row.Outcome == Passed && len(subject.Rows) < mostRows:
				subject.Rows = append(subject.Rows, doubt.OfResult(append(slices.Clone(around), row)...))
			default:
				subject.Others = append(subject.Others, doubt.OfResult(row))
			}
		}
		if len(subject.Rows) == 0 {
			r.result.Notes = append(r.result.Notes, "the checks of "+of.File+" were not doubted: no row of it passed")
			continue
		}
		subject.Only = onlyValues(r.bench, subject.Sheet, r.options.Options)
		doubted, err := doubt.Doubt(ctx, subject, doubtLimits(0))
		if errors.Is(err, context.Canceled) {
			return nil
		}
		if err != nil {
			return err
		}
		r.options.Doubted(doubted)
	}
	return nil
}
