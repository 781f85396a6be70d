// Package run runs sheets: scheduler.go has rows side by side, with repeat.go for which and
// recorder.go for their record; flow.go is one row, run.go one step. callstep.go makes steps
// of command lines. It shows nothing; results go to an Observer.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/vet"
)

// Observer is told how a run goes on. The calls come one after the other, and those of
// each row together; RowDone comes when the row stands in the record.
type Observer interface {
	SheetStarted(*result.Sheet)
	RowStarted(*result.Sheet, *result.Row)
	StepDone(*result.Sheet, *result.Row, *result.Step)
	RowDone(*result.Sheet, *result.Row)
	SheetDone(*result.Sheet)
	// WouldSend is told of each request of a dry run; planned is nil where it
	// cannot be known beforehand, and then reason says why.
	WouldSend(row *result.Row, step *result.Step, planned *exchange.Request, reason string)
	// RecordLost is told, once, that rows are not recorded from here on.
	RecordLost(err error)
}

// noObserver is told everything and says nothing.
type noObserver struct{}

func (noObserver) SheetStarted(*result.Sheet) {}

func (noObserver) RowStarted(*result.Sheet, *result.Row) {}

func (noObserver) StepDone(*result.Sheet, *result.Row, *result.Step) {}

func (noObserver) RowDone(*result.Sheet, *result.Row) {}

func (noObserver) SheetDone(*result.Sheet) {}

func (noObserver) RecordLost(error) {}

func (noObserver) WouldSend(*result.Row, *result.Step, *exchange.Request, string) {}

// noteMissing notes which names of a step did not come to be.
func (x *rowRun) noteMissing(step *sheet.Step, why string) {
	for _, name := range vet.KeptBy(step) {
		if _, ok := x.kept[name]; !ok {
			x.lost[name] = fmt.Sprintf("%s was not kept (%s %s)", name, step.Name, why)
		} else {
			delete(x.lost, name)
		}
	}
}

// do carries out one step under a name.
func (x *rowRun) do(ctx context.Context, step *sheet.Step, name string) *result.Step {
	start := time.Now()
	res := &result.Step{Name: name, Target: session.TargetOf(step), About: step.About, Outcome: result.Held}
	defer func() { res.Took = time.Since(start) }()
	sess, err := x.session.At(step.Site)
	if err != nil {
		res.Outcome, res.Reason = result.Faulty, err.Error()
		return res
	}
	scope := x.scope(sess)
	if reason := missing(step, scope, x.lost); reason != "" {
		res.Outcome, res.Reason = result.NotRun, reason
		x.wouldSend(res, nil, reason)
		return res
	}
	if step.When != nil && !x.options.Dry {
		if reason := unless(step, sess.Data(scope, x.values, x.kept, nil, nil)); reason != "" {
			res.Outcome, res.Reason = result.NotRun, reason
			return res
		}
	}
	switch {
	case len(step.Set) > 0 || len(step.WorkOut) > 0:
		data := sess.Data(scope, x.values, x.kept, nil, nil)
		if err := calculate(step, scope, data); err != nil {
			res.Outcome, res.Reason = result.Faulty, err.Error()
			break
		}
		res.Kept = vet.KeptBy(step)
		j := &judge.Judging{Step: step, Scope: scope, Data: data}
		j.Where()
		if res.Checks = j.Checks; res.Fell() > 0 {
			res.Outcome = result.FellShort
		}
	case step.Pause > 0:
		if !x.options.Dry && session.Sleep(ctx, step.Pause) != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
		}
	case step.Lookup != nil:
		x.lookup(ctx, sess, step, scope, res)
	case step.Listen != nil:
		x.listen(ctx, sess, step, scope, res)
	default:
		if x.options.Before != nil {
			x.options.Before(ctx, sess, step, scope)
		}
		x.tries(ctx, sess, step, scope, res)
		if x.values != nil && x.row.Number > 0 {
			res.Context.Row = fmt.Sprintf("%s row %d", x.sheet.Rows.From, x.row.Number)
		}
	}
	return res
}

// wouldSend tells what a dry run would send.
func (x *rowRun) wouldSend(result *result.Step, request *exchange.Request, reason string) {
	if x.options.Dry {
		now := *result // it goes on to change
		now.Of = x.nameOf(result.Name)
		x.events.add(event{step: &now, request: request, reason: reason, would: true})
	}
}

// unless says why the condition of a step leaves it out, or "".
func unless(s *sheet.Step, data *rule.Data) string {
	verdict := s.When.Judge(data)
	if verdict.Held {
		return ""
	}
	reason := "when does not hold: " + s.When.Source
	if verdict.Note != "" {
		reason += " (" + verdict.Note + ")"
	}
	return reason
}

// missing says which name a step asks for that an earlier step should have
// kept and did not, or "".
func missing(step *sheet.Step, scope *session.Values, lost map[string]string) string {
	own := map[string]bool{}
	for _, k := range step.Keep {
		own[k.Name] = true
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
	conditions := []*rule.Condition{}
	if step.When != nil {
		conditions = append(conditions, step.When)
	}
	for _, e := range step.WorkOut {
		conditions = append(conditions, e.Condition)
	}
	for _, c := range step.Where {
		conditions = append(conditions, c.Condition)
	}
	for _, c := range conditions {
		for _, name := range c.KeptNames() {
			if reason, isLost := lost[name]; isLost && !own[name] {
				return reason
			}
		}
	}
	return ""
}

// calculate sets values from templates and from CEL.
func calculate(s *sheet.Step, scope *session.Values, data *rule.Data) error {
	for _, f := range s.Set {
		node, err := f.Value.Node(scope)
		if err != nil {
			return fmt.Errorf("set %s: %w", f.Name, err)
		}
		scope.Kept[f.Name] = node
		data.Kept.Set(f.Name, node)
	}
	for _, e := range s.WorkOut {
		node, err := e.Condition.WorkOut(data)
		if err != nil {
			return fmt.Errorf("work out %s: %w", e.Name, err)
		}
		scope.Kept[e.Name] = node
		data.Kept.Set(e.Name, node)
	}
	return nil
}

// carryOut plans, sends and judges a step that talks.
func carryOut(ctx context.Context, s *session.Session, step *sheet.Step, scope *session.Values, names map[string]string, res *result.Step, x *rowRun) {
	ctx, logins := session.GatherLogins(ctx)
	planned, err := s.Prepare(ctx, step, scope, names)
	if err != nil {
		res.Outcome, res.Reason = result.Faulty, err.Error()
		var unreached *bench.FetchError
		if errors.As(err, &unreached) {
			res.Outcome = result.Unreachable
			res.Exchanges = append(res.Exchanges, unreached.Record)
			if unreached.Record.Answer != nil {
				res.Reply = reply.Read(unreached.Record)
			}
		}
		var broken *session.ContractError
		if errors.As(err, &broken) {
			// The row's own values break the contract: the step fell short, unsent.
			res.Outcome, res.Reason = result.FellShort, "not sent"
			if broken.Described {
				res.Hints = append(res.Hints, "contract: answer at the step sends it all the same")
			}
			for _, problem := range broken.Problems {
				res.Checks = append(res.Checks, result.Check{Kind: "contract", Subject: "request", Judged: true, Wanted: "as the operation is described", Got: problem})
			}
		}
		if x != nil {
			x.wouldSend(res, nil, err.Error())
		}
		return
	}
	res.Context = s.ContextOf(step, planned)
	if x != nil && x.options.Dry {
		s.ShowLogin(planned)
		res.Outcome = result.Held
		x.wouldSend(res, planned.Request, "")
		return
	}
	if err := s.Guarded(planned); err != nil {
		res.Outcome, res.Reason = result.Faulty, err.Error()
		return
	}
	of := &judge.Case{Session: s, Step: step, Prepared: planned, Scope: scope, Names: names}
	s.SetIfMatch(ctx, step, planned, res)
	fresh := planned.Request.Clone()
	sent, err := s.Send(ctx, step, planned, res)
	if err == nil {
		sent, err = s.WaitFor(ctx, step, planned, sent, res)
	}
	if err == nil && step.Wait != nil {
		sent, err = await(ctx, of, fresh, sent, res)
	}
	var re *reply.Reply
	if err == nil {
		re = planned.Read(sent.Record())
		s.RecordETag(planned, sent.Record(), re)
		sent, re = s.Pages(ctx, step, planned, sent, re, res)
	}
	res.Logins = append(res.Logins, logins()...)
	if err != nil {
		if last := res.Last(); last != nil { // a token was refused, and none was to be had in its place
			res.Reply = reply.Read(last)
		}
		res.Outcome, res.Reason = result.Unreachable, err.Error()
		if ctx.Err() != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
		}
		if errors.As(err, &res.Context.LoginFail) && res.Context.LoginFail.Record == nil && !res.Context.LoginFail.Asked && res.Outcome == result.Unreachable {
			res.Outcome = result.Faulty // nobody was asked: a secret or a setting is wrong
		}
		return
	}
	record := sent.Record()
	record.Notes = append(planned.Notes, record.Notes...)
	of.Judge(sent, re, res)
}

// CarryOut carries out one step outside of a sheet.
func CarryOut(ctx context.Context, s *session.Session, step *sheet.Step, kept map[string]*document.Node) *result.Step {
	start := time.Now()
	result := &result.Step{Name: step.Name, Target: session.TargetOf(step), Outcome: result.Held}
	carryOut(ctx, s, step, s.Scope(nil, kept), nil, result, nil)
	result.Took = time.Since(start)
	return result
}
