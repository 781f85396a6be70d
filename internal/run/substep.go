package run

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"testbench/internal/document"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// sub runs another sheet as a step. Its steps stand in the row under the step's name;
// what it kept is what the step answers with.
func (x *rowRun) sub(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	if reason := x.leftOut(step); reason != "" {
		return x.skip(step, name, result.NotRun, reason)
	}
	inner := step.Sub.Sheet
	res := &result.Step{Name: name, Target: session.TargetOf(step), About: step.About, Outcome: result.Held}
	session, err := x.session.At(inner.Site)
	if x.session.Options.Site != "" {
		session, err = x.session, nil // whoever asked for a site means all of it
	}
	var given map[string]*document.Node
	if err == nil {
		given, err = x.fillSub(step, inner)
	}
	if err != nil {
		x.failed(ctx, res, err)
		x.noteMissing(step, string(res.Outcome))
		x.tell(res)
		return res.Outcome
	}
	r := &runner{scheduler: x.scheduler, session: session, sheet: inner, work: &Job{Session: session, Sheet: inner}, index: x.index, result: x.result, outside: given}
	s := &subRun{outer: x, runner: r, name: name, kept: document.NewObject()}
	outcome := s.run(ctx)
	if x.options.Dry {
		return outcome
	}
	j := x.judgingOf(session, step, x.scope(x.session), s.kept, nil)
	if outcome == result.Held {
		j.FinishPayload(res)
	} else {
		res.Outcome, res.Reason = result.NotRun, "the sheet "+string(outcome)
	}
	x.noteMissing(step, string(outcome))
	x.tell(res)
	return result.Worst(outcome, res.Outcome)
}

func (x *rowRun) fillSub(step *sheet.Step, inner *sheet.Sheet) (map[string]*document.Node, error) {
	scope := x.scope(x.session)
	fill := map[string]*document.Node{}
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			node, err := f.Value.Node(scope)
			if err != nil {
				return nil, fmt.Errorf("fill %s: %w", f.Name, err)
			}
			fill[f.Name] = node
		}
	}
	return inner.Given(fill)
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
	phase := func(ctx context.Context, values *document.Node, kept map[string]*document.Node, steps, finally []*sheet.Step, undos []undoing, words string) *rowRun {
		x := &rowRun{runner: s.runner, events: s.outer.events, row: &result.Row{Number: s.outer.row.Number, Iteration: s.outer.row.Iteration, Phase: words}, values: values, kept: kept, prefix: s.name + ": ", undos: undos, outer: s.outer}
		x.run(ctx, s.kill, steps, finally)
		outcome = result.Worst(outcome, x.row.Outcome)
		return x
	}
	var undos []undoing
	if len(s.sheet.First) > 0 {
		undos = phase(ctx, nil, s.outside, s.sheet.First, nil, nil, "first").undos
	}
	rows := 0
	for row := range s.iteration() {
		if ctx.Err() != nil || s.isStopped() || s.outer.isOver(ctx) {
			break
		}
		if row.wrong != "" {
			s.outer.tell(&result.Step{Name: s.name + ": rows", Target: "rows", Outcome: result.Faulty, Reason: row.wrong})
			outcome = result.Worst(outcome, result.Faulty)
			continue
		}
		kept := maps.Clone(s.outside)
		phase(ctx, row.values, kept, s.sheet.Steps, s.sheet.Finally, nil, "")
		rows++
		s.collect(kept, rows)
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
