package run

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/vet"
)

// mostItems bounds the items of one step.
const mostItems = 100_000

// rowRun is one row under way.
type rowRun struct {
	*runner
	events  *events
	row     *result.Row
	values  *document.Node
	kept    map[string]*document.Node
	lost    map[string]string // a name that was to be kept: why it was not
	stopped string            // why the rest of the row is not run
	ending  bool              // what comes at the end is run whatever happens
	waiting bool              // for the step that the run goes on from
	undos   []undoing         // in the order of the steps
	boxes   *boxes            // where calls come in that the row waits for
	prefix  string            // before the names of steps, in a sheet within another
	outer   *rowRun           // the row of the sheet that this one runs in; nil for none
}

// undoing is a step that takes back what another did, with what was known then.
type undoing struct {
	name string
	step *sheet.Step
	kept map[string]*document.Node
}

// run runs the steps of the row, then those that always come at its end.
func (x *rowRun) run(ctx, kill context.Context, steps, finally []*sheet.Step) {
	start := time.Now()
	x.row.Outcome = result.NotRun
	x.lost = map[string]string{}
	if x.boxes == nil {
		x.boxes = &boxes{x: x}
		defer x.boxes.shut()
	}
	x.waiting = x.options.From != "" && slices.ContainsFunc(steps, func(s *sheet.Step) bool { return s.Name == x.options.From })
	for _, step := range steps {
		if x.isOver(ctx) && x.stopped == "" {
			break
		}
		x.step(ctx, step)
	}
	x.stopped, x.ending = "", true
	for _, step := range finally {
		x.step(kill, step)
	}
	// What was done before the rows is taken back behind them.
	if x.row.Phase != "first" {
		x.undo(kill)
	}
	x.row.Took = time.Since(start)
}

// scope is where the names of the row lead, for a session.
func (x *rowRun) scope(s *session.Session) *session.Values {
	scope := s.Scope(x.values, x.kept)
	if x.boxes != nil {
		scope.Listening = x.boxes.addressOf
	}
	return scope
}

// isOver says whether nothing more is to be begun.
func (x *rowRun) isOver(ctx context.Context) bool {
	return ctx.Err() != nil || !x.ending && (x.isStopped() || x.stopped != "")
}

// step carries out a step of the sheet, unless it is left out.
func (x *rowRun) step(ctx context.Context, step *sheet.Step) {
	x.waiting = x.waiting && step.Name != x.options.From
	switch {
	case x.waiting, len(x.options.Steps) > 0 && !slices.Contains(x.options.Steps, step.Name):
		x.noteMissing(step, "left out")
	case x.stopped != "":
		x.skip(step, x.prefix+step.Name, result.NotRun, x.stopped)
	default:
		x.carry(ctx, step, x.prefix+step.Name)
	}
}

// carry carries out a step under a name, once or for each item, and says what came of
// it as a whole.
func (x *rowRun) carry(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	carry := x.once
	if step.Each != nil {
		carry = x.each
	}
	outcome := carry(ctx, step, name)
	if step.Stop != "" && !x.ending && outcome != result.Held && outcome != result.NotRun && outcome != result.Interrupted {
		x.stopped = fmt.Sprintf("%s %s, and stops the %s", name, outcome, step.Stop)
		if step.Stop == "sheet" {
			x.stop()
		}
	}
	return outcome
}

// once carries a step out.
func (x *rowRun) once(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	switch {
	case len(step.Group) > 0:
		return x.group(ctx, step, name)
	case step.Sub != nil:
		return x.sub(ctx, step, name)
	}
	var results []*result.Step
	if step.Batch != nil {
		if reason := x.leftOut(step); reason != "" {
			return x.skip(step, name, result.NotRun, reason)
		}
		results = x.batchStep(ctx, step)
	} else {
		results = []*result.Step{x.do(ctx, step, name)}
	}
	results[0].Name = name
	x.noteMissing(step, string(results[0].Outcome))
	if step.Undo != nil && (wasDone(results[0]) || x.options.Dry && results[0].Outcome == result.Held) {
		x.undos = append(x.undos, undoing{x.prefix + "undo " + strings.TrimPrefix(name, x.prefix), step.Undo, maps.Clone(x.kept)})
	}
	outcome := result.NotRun
	for _, one := range results {
		outcome = result.Worst(outcome, one.Outcome)
		x.tell(one)
	}
	return outcome
}

// undo takes back what was done, the last of it first.
func (x *rowRun) undo(ctx context.Context) {
	for _, u := range slices.Backward(x.undos) {
		x.kept = u.kept
		x.once(ctx, u.step, u.name)
	}
}

// wasDone says whether a step did something that could be taken back: it was sent, and
// not refused.
func wasDone(result *result.Step) bool {
	last := result.Last()
	return last != nil && last.Answer != nil && last.Answer.Status < 400
}

// tell adds what came of a step to the row.
func (x *rowRun) tell(res *result.Step) {
	if x.options.Explain != nil && x.outer == nil {
		x.options.Explain(res)
	}
	res.Of = x.nameOf(res.Name)
	if x.outer != nil {
		x.row.Outcome = result.Worst(x.row.Outcome, res.Outcome)
		x.outer.tell(res) // it stands in the row that all of this happens in
		return
	}
	x.row.Steps = append(x.row.Steps, res)
	x.row.Outcome = result.Worst(x.row.Outcome, res.Outcome)
	x.events.add(event{step: res})
	if x.options.Stop && !x.ending && res.Outcome != result.Held && res.Outcome != result.NotRun {
		x.stop()
	}
}

// nameOf is the name of a step without which item of a list it was carried out for.
func (x *rowRun) nameOf(name string) string {
	if !strings.HasSuffix(name, ")") && !strings.Contains(name, "): ") {
		return name
	}
	return history.StepOf(name)
}

// group carries out the steps of a group, one after the other.
func (x *rowRun) group(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	if reason := x.leftOut(step); reason != "" {
		return x.skip(step, name, result.NotRun, reason)
	}
	outcome := result.NotRun
	for _, inner := range step.Group {
		if x.isOver(ctx) {
			break
		}
		outcome = result.Worst(outcome, x.carry(ctx, inner, name+": "+inner.Name))
	}
	return outcome
}

// skip tells that a step is not carried out.
func (x *rowRun) skip(step *sheet.Step, name string, outcome result.Outcome, reason string) result.Outcome {
	x.tell(&result.Step{Name: name, Target: session.TargetOf(step), About: step.About, Outcome: outcome, Reason: reason})
	x.noteMissing(step, string(outcome))
	return outcome
}

// leftOut says why a group or a batch is not carried out, or "".
func (x *rowRun) leftOut(step *sheet.Step) string {
	scope := x.scope(x.session)
	if reason := missing(step, scope, x.lost); reason != "" {
		return reason
	}
	if step.When == nil || x.options.Dry {
		return ""
	}
	return unless(step, x.session.Data(scope, x.values, x.kept, nil, nil))
}

// each carries a step out once for each item. What is kept is a list then, with one
// value for each item.
func (x *rowRun) each(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	scope := x.scope(x.session)
	if reason := missing(step, scope, x.lost); reason != "" {
		return x.skip(step, name, result.NotRun, reason)
	}
	list, err := step.Each.List.Node(scope)
	if err != nil {
		return x.skip(step, name, result.Faulty, "for each: "+err.Error())
	}
	items := itemsOf(list)
	switch {
	case len(items) > mostItems:
		return x.skip(step, name, result.Faulty, fmt.Sprintf("for each: there are %d items, and at most %d are gone through", len(items), mostItems))
	case len(items) == 0:
		for _, n := range vet.KeptBy(step) {
			x.kept[n] = document.NewList()
		}
		return x.skip(step, name, result.NotRun, "for each: there is no item")
	}
	collected := map[string]*document.Node{}
	for _, n := range vet.KeptBy(step) {
		collected[n] = document.NewList()
	}
	before, had := x.kept[step.Each.Name]
	outcome := result.NotRun
	for i, item := range items {
		if x.isOver(ctx) {
			break
		}
		x.kept[step.Each.Name] = item
		for n := range collected {
			delete(x.kept, n)
		}
		outcome = result.Worst(outcome, x.once(ctx, step, fmt.Sprintf("%s (%d of %d)", name, i+1, len(items))))
		for n, all := range collected {
			if v := x.kept[n]; v != nil {
				all.AppendItems(v)
			}
		}
	}
	if delete(x.kept, step.Each.Name); had {
		x.kept[step.Each.Name] = before
	}
	for n, all := range collected {
		if len(all.Items()) == len(items) {
			x.kept[n] = all
			delete(x.lost, n)
			continue
		}
		delete(x.kept, n)
		x.lost[n] = fmt.Sprintf("%s was not kept for each item (%s %s)", n, name, outcome)
	}
	return outcome
}

// itemsOf are the items of a list; a value alone is one item, as in XML, and null none.
func itemsOf(n *document.Node) []*document.Node {
	switch n.Kind {
	case document.List:
		return n.Items()
	case document.Null:
		return nil
	}
	return []*document.Node{n}
}
