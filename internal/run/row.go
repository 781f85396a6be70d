package run

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/value"
)

// MostItems bounds the items of one step.
const MostItems = 100_000

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
	calls   *step.Calls       // where calls come in that the row waits for
	prefix  string            // before the names of steps, in a sheet within another
	cookies *exchange.Cookies // those of the row; nil where none are kept
	// versions are those that the row was told, and the steps before the rows.
	versions *session.Versions
	outer    *rowRun // the row of the sheet that this one runs in; nil for none
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
	switch {
	case x.outer != nil && x.outer.cookies != nil:
		x.cookies = x.outer.cookies
	case x.sheet.KeepsCookies:
		x.cookies = x.opening.Copy()
	}
	if x.outer != nil {
		x.versions = x.outer.versions
	} else {
		x.versions = x.seen.Copy()
	}
	x.calls = step.NewCalls(x, x.sheet, x.session, func() *session.Values { return x.scope(x.session) }, x.prefix)
	defer x.calls.Shut()
	x.waiting = x.options.From != "" && slices.ContainsFunc(steps, func(s *sheet.Step) bool {
		return s.Name == x.options.From
	})
	for _, step := range steps {
		if x.IsOver(ctx) && x.stopped == "" {
			break
		}
		x.step(ctx, step)
	}
	x.stopped, x.ending = "", true
	for _, step := range finally {
		x.step(kill, step)
	}
	// What was done before the rows is taken back after them.
	if x.row.Phase != "first" {
		x.undo(kill)
	}
	x.row.Took = time.Since(start)
}

// scope is where the names of the row lead, for a session.
func (x *rowRun) scope(s *session.Session) *session.Values {
	scope := s.Scope(x.values, x.kept)
	scope.Cookies, scope.Versions = x.cookies, x.versions
	if x.calls != nil {
		scope.Listening = x.calls.AddressOf
	}
	return scope
}

// IsOver says whether nothing more is to be begun.
func (x *rowRun) IsOver(ctx context.Context) bool {
	return ctx.Err() != nil || !x.ending && (x.isStopped() || x.stopped != "")
}

// step carries out a step of the sheet, unless it is left out.
func (x *rowRun) step(ctx context.Context, step *sheet.Step) {
	x.waiting = x.waiting && step.Name != x.options.From
	switch {
	case x.waiting, x.outer == nil && !x.options.isChosen(step, x.sheet):
		x.noteMissing(step, "left out")
	case x.stopped != "":
		x.Skip(step, x.prefix+step.Name, result.NotRun, x.stopped)
	default:
		x.Carry(ctx, step, x.prefix+step.Name)
	}
}

// Carry carries out a step under a name, once or for each item, and says what came of
// it as a whole.
func (x *rowRun) Carry(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	carry := x.once
	if step.Each != nil {
		carry = x.each
	}
	outcome := carry(ctx, step, name)
	if step.Stop != "" && !x.ending && outcome != result.Passed && outcome != result.NotRun &&
		outcome != result.Interrupted {
		x.stopped = fmt.Sprintf("%s %s, and stops the %s", name, outcome, step.Stop)
		if step.Stop == "sheet" {
			x.stop()
		}
	}
	return outcome
}

// once carries a step out.
func (x *rowRun) once(ctx context.Context, s *sheet.Step, name string) result.Outcome {
	return step.Of(s).Run(ctx, x, s, name)
}

// soften lets steps pass whose checks failed, and keeps what failed as notes.
func soften(came result.Outcome, results []*result.Step) result.Outcome {
	for _, one := range results {
		if one.Outcome != result.Failed {
			continue
		}
		one.Outcome = result.Passed
		for i := range one.Checks {
			if c := &one.Checks[i]; c.Judged && !c.Passed {
				c.Judged = false
				one.Notes = append(one.Notes,
					fmt.Sprintf("soft: %s: %s", c.Subject, history.Compared(c.Expected, c.Got)))
			}
		}
	}
	if came == result.Failed {
		return result.Passed
	}
	return came
}

// End takes what came of a step into the row.
func (x *rowRun) End(s *sheet.Step, came result.Outcome, results ...*result.Step) result.Outcome {
	if s.Soft {
		came = soften(came, results)
	}
	x.noteMissing(s, string(came))
	first := results[0]
	if s.Undo != nil && (wasDone(first) || x.options.Dry && first.Outcome == result.Passed) {
		x.undos = append(x.undos,
			undoing{x.prefix + "undo " + strings.TrimPrefix(first.Name, x.prefix), s.Undo, maps.Clone(x.kept)})
	}
	outcome := result.NotRun
	for _, one := range results {
		outcome = result.Worst(outcome, one.Outcome)
		x.Tell(one)
	}
	return outcome
}

// At is the session for a site, that of the row for "".
func (x *rowRun) At(site string) (*session.Session, error) { return x.session.At(site) }

// Begin gives what names lead to, and says why the step is left out.
func (x *rowRun) Begin(s *sheet.Step, of *session.Session) (*session.Values, string) {
	scope := x.scope(of)
	if s.Skip != "" {
		return scope, "skipped: " + s.Skip
	}
	if reason := missing(s, scope, x.lost); reason != "" {
		return scope, reason
	}
	if s.When == nil || x.options.Dry {
		return scope, ""
	}
	return scope, unless(s, of.Data(scope, x.values, x.kept, nil, nil))
}

// IsDry says whether nothing is sent.
func (x *rowRun) IsDry() bool { return x.options.Dry }

// Names are the prefixes of XML of the sheet.
func (x *rowRun) Names() map[string]string { return x.sheet.Names }

// Place names the row in its source; "" where there are no rows.
func (x *rowRun) Place() string {
	if x.values == nil || x.row.Number == 0 {
		return ""
	}
	return fmt.Sprintf("%s row %d", x.sheet.Rows.From, x.row.Number)
}

// Before is called with a step before its request is made.
func (x *rowRun) Before(ctx context.Context, of *session.Session, s *sheet.Step, scope *session.Values) {
	if x.options.Before != nil {
		x.options.Before(ctx, of, s, scope)
	}
}

// Calls are where the calls for the row come in.
func (x *rowRun) Calls() *step.Calls { return x.calls }

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

// Tell adds what came of a step to the row.
func (x *rowRun) Tell(res *result.Step) {
	x.noteValues(res)
	if x.options.Explain != nil && x.outer == nil {
		x.options.Explain(res)
	}
	res.Of = x.nameOf(res.Name)
	if x.outer != nil {
		x.row.Outcome = result.Worst(x.row.Outcome, res.Outcome)
		x.outer.Tell(res) // it is in the row that all of this happens in
		return
	}
	x.row.Steps = append(x.row.Steps, res)
	x.row.Outcome = result.Worst(x.row.Outcome, res.Outcome)
	x.events.add(event{step: res})
	if x.options.Stop && !x.ending && res.Outcome != result.Passed && res.Outcome != result.NotRun {
		x.stop()
	}
}

// noteValues puts what a step kept into its result.
func (x *rowRun) noteValues(res *result.Step) {
	if len(res.Kept) == 0 || res.Values != nil {
		return // it is told once more to the row of the sheet around
	}
	res.Values = map[string]*document.Node{}
	for _, name := range res.Kept {
		if node := x.kept[name]; node != nil {
			res.Values[name] = node
		}
	}
}

// nameOf is the name of a step without which item of a list it was carried out for.
func (x *rowRun) nameOf(name string) string {
	if !strings.HasSuffix(name, ")") && !strings.Contains(name, "): ") {
		return name
	}
	return history.StepOf(name)
}

// Skip tells that a step is not carried out.
func (x *rowRun) Skip(step *sheet.Step, name string, outcome result.Outcome, reason string) result.Outcome {
	x.Tell(&result.Step{Name: name, Target: step.Target(), About: step.About, Outcome: outcome, Reason: reason})
	x.noteMissing(step, string(outcome))
	return outcome
}

// each carries a step out once for each item. What is kept is a list then, with one
// value for each item.
func (x *rowRun) each(ctx context.Context, step *sheet.Step, name string) result.Outcome {
	scope := x.scope(x.session)
	if reason := missing(step, scope, x.lost); reason != "" {
		return x.Skip(step, name, result.NotRun, reason)
	}
	list, err := step.Each.List.Node(scope)
	if err != nil {
		return x.Skip(step, name, result.Errored, "for each: "+err.Error())
	}
	items := itemsOf(list)
	switch {
	case len(items) > MostItems:
		return x.Skip(step, name, result.Errored,
			fmt.Sprintf("for each: there are %d items, and at most %d are gone through", len(items), MostItems))
	case len(items) == 0:
		for _, n := range step.KeptNames() {
			x.kept[n] = document.NewList()
		}
		return x.Skip(step, name, result.NotRun, "for each: there is no item")
	}
	collected := map[string]*document.Node{}
	for _, n := range step.KeptNames() {
		collected[n] = document.NewList()
	}
	before, had := x.kept[step.Each.Name]
	outcome := result.NotRun
	for i, item := range items {
		if x.IsOver(ctx) {
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
	delete(x.kept, step.Each.Name)
	if had {
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

// noteMissing notes which names of a step did not come to be.
func (x *rowRun) noteMissing(step *sheet.Step, why string) {
	for _, name := range step.KeptNames() {
		if _, ok := x.kept[name]; !ok {
			x.lost[name] = fmt.Sprintf("%s was not kept (%s %s)", name, step.Name, why)
		} else {
			delete(x.lost, name)
		}
	}
}

// WouldSend tells what a dry run would send.
func (x *rowRun) WouldSend(res *result.Step, request *exchange.Request, reason string) {
	if x.options.Dry {
		now := *res // it goes on to change
		now.Of = x.nameOf(res.Name)
		x.events.add(event{step: &now, request: request, reason: reason, would: true})
	}
}

// unless says why the condition of a step leaves it out, or "".
func unless(s *sheet.Step, data *rule.Data) string {
	verdict := s.When.Judge(data)
	if verdict.Passed {
		return ""
	}
	reason := "condition is false: " + s.When.Source
	if verdict.Note != "" {
		reason += " (" + verdict.Note + ")"
	}
	return reason
}

// missing says which name a step asks for that an earlier step should have
// kept and did not, or "".
func missing(step *sheet.Step, scope *session.Values, lost map[string]string) string {
	own := map[string]bool{} // what it sets itself is there before it is asked for
	if step.Action != nil {
		for _, name := range step.Action.Sets() {
			own[name] = true
		}
	}
	for _, u := range step.Uses {
		if u.Placeholder.Space != "" && u.Placeholder.Space != "kept" || own[u.Placeholder.Name] {
			continue
		}
		reason, isLost := lost[u.Placeholder.Name]
		if _, err := scope.Lookup(u.Placeholder.Space, u.Placeholder.Name); isLost && errors.Is(err, value.ErrNothing) {
			if !slices.ContainsFunc(u.Placeholder.Filters, func(f value.Filter) bool { return f.Name == "default" }) {
				return reason
			}
		}
	}
	for _, c := range step.Conditions() {
		for _, name := range c.KeptNames() {
			if reason, isLost := lost[name]; isLost && !own[name] {
				return reason
			}
		}
	}
	return ""
}
