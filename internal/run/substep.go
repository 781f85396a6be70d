package run

import (
	"context"
	"maps"
	"slices"

	"testbench/internal/document"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// Sheet runs another sheet with what it is given. Its steps are in the row under the name of
// the step that runs it.
func (x *rowRun) Sheet(ctx context.Context, of *session.Session, inner *sheet.Sheet, given map[string]*document.Node,
	name string) (
	*document.Node, result.Outcome,
) {
	r := &runner{
		scheduler: x.scheduler, session: of, sheet: inner, work: &Job{Session: of, Sheet: inner},
		index: x.index, result: x.result, outside: given,
	}
	s := &subRun{outer: x, runner: r, name: name, kept: document.NewObject()}
	outcome := s.run(ctx)
	return s.kept, outcome
}

// subRun is a sheet under way within a row of another one.
type subRun struct {
	*runner
	outer *rowRun
	name  string
	kept  *document.Node
}

func (s *subRun) run(ctx context.Context) result.Outcome {
	outcome := result.NotRun
	phase := func(ctx context.Context, values *document.Node, kept map[string]*document.Node,
		steps, finally []*sheet.Step, undos []undoing, words string,
	) *rowRun {
		x := &rowRun{
			runner: s.runner, events: s.outer.events,
			row:    &result.Row{Number: s.outer.row.Number, Iteration: s.outer.row.Iteration, Phase: words},
			values: values, kept: kept, prefix: s.name + ": ", undos: undos, outer: s.outer,
		}
		x.run(ctx, s.kill, steps, finally)
		outcome = result.Worst(outcome, x.row.Outcome)
		return x
	}
	var undos []undoing
	if len(s.sheet.First) > 0 {
		first := phase(ctx, nil, s.outside, s.sheet.First, nil, nil, "first")
		undos, s.opening = first.undos, first.cookies
	}
	rows, wrong := 0, 0
	for row := range s.iteration(ctx) {
		if ctx.Err() != nil || s.isStopped() || s.outer.IsOver(ctx) {
			break
		}
		if row.wrong != "" {
			s.outer.Tell(&result.Step{
				Name: s.name + ": rows", Target: "rows", Outcome: result.Errored,
				Reason: row.wrong,
			})
			outcome = result.Worst(outcome, result.Errored)
			wrong++
			continue
		}
		kept := maps.Clone(s.outside)
		phase(ctx, row.values, kept, s.sheet.Steps, s.sheet.Finally, nil, "")
		rows++
		s.collect(kept, rows)
	}
	if s.sheet.Rows != nil && rows+wrong == 0 && !s.options.Dry && !s.isStopped() && !s.outer.IsOver(ctx) {
		outcome = result.Worst(outcome, result.Failed)
		s.outer.Tell(&result.Step{
			Name: s.name + ": rows", Target: "rows", Outcome: result.Failed,
			Checks: []result.Check{{Kind: "expect", Subject: "rows", Judged: true, Expected: someRows, Got: noRows}},
		})
	}
	if len(s.sheet.Last) > 0 || len(undos) > 0 {
		phase(s.kill, nil, s.outside, s.sheet.Last, nil, undos, "last")
	}
	return outcome
}

// collect adds what a row of the sheet kept: of one row the values, of several lists.
func (s *subRun) collect(kept map[string]*document.Node, rows int) {
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		switch before := s.kept.Get(name); {
		case s.sheet.Rows == nil:
			s.kept.Set(name, kept[name])
		case before == nil:
			list := document.NewList()
			for range rows - 1 {
				list.AppendItems(&document.Node{Kind: document.Null})
			}
			list.AppendItems(kept[name])
			s.kept.Set(name, list)
		default:
			before.AppendItems(kept[name])
		}
	}
}
