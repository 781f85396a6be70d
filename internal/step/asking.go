package step

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// asking is what the actions that send a request and judge its answer have in common: Call,
// Request and Follow.
type asking struct{ single }

// Run sends the request, again as the step says, and judges the answer.
func (asking) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(ctx context.Context, at *place, res *result.Step) {
		at.Before(ctx, at.session, s, at.scope)
		at.tries(ctx, s, res)
		res.Context.Row = at.Place()
	})
}

// vetService looks for a service of the bench; it is nil where there is none, which is
// reported.
func vetService(v *Vetting, name string, at *yamlfile.Node) *bench.Service {
	b := v.Sheet.Bench
	found := b.Service(name)
	if found == nil {
		v.notThere(at, "service", name, b.ServiceNames())
	}
	return found
}

// vetSOAP reports what a step says of SOAP and cannot have.
func vetSOAP(v *Vetting, s *sheet.Step, p *session.Prepared, method string) {
	spec := s.Spec
	spec.Method = method
	err := p.AddSOAP(s, &spec)
	if wrong := (*session.TryError)(nil); errors.As(err, &wrong) {
		v.report(s.At, wrong.Try, "%s", wrong.Message)
	} else if err != nil {
		v.report(s.At, "", "%v", err)
	}
}

// longestPause is how long is waited before another try, whatever grows or a service
// asks for: longer ones are for somebody to come back to.
const longestPause = 2 * time.Minute

// nextPause is the pause after one that was made; nothing was before the first.
func nextPause(a *sheet.Again, before time.Duration) time.Duration {
	if before == 0 {
		return min(a.Pause, longestPause)
	}
	return time.Duration(min(float64(before)*a.Grow, float64(longestPause)))
}

// final are statuses after which the same request does not come out better: another try
// could lock an account, and is made only where the status is named.
var final = []int{400, 401, 402, 403, 405, 406, 410, 411, 413, 414, 415, 417, 422, 426, 428, 431, 451, 501, 505}

// wantsAgain says whether what came of a try asks for another one; data is what the condition
// sees.
func wantsAgain(a *sheet.Again, res *result.Step, data func() *rule.Data) bool {
	if a.When != nil && res.Reply != nil && res.Outcome != result.Interrupted && a.When.Judge(data()).Passed {
		return true
	}
	switch last := res.Last(); {
	case res.Outcome == result.Interrupted || res.Outcome == result.Errored || last == nil:
		return false
	case last.Failure != nil:
		return a.Refused
	case last.Answer == nil:
		return false
	case res.Outcome == result.Failed && a.Failed && !slices.Contains(final, last.Answer.Status):
		return true
	case res.Outcome != result.Passed:
		return slices.ContainsFunc(a.On, func(status *rule.Status) bool {
			return status.Holds(last.Answer.Status)
		})
	}
	return false
}

// tries carries a step out, and again as it says.
func (at *place) tries(ctx context.Context, s *sheet.Step, res *result.Step) {
	pause := time.Duration(0)
	var said []string
	for try := 1; ; try++ {
		before := *res
		at.ask(ctx, s, res)
		a := s.Again
		if a == nil || at.IsDry() {
			return
		}
		said = append(said, cameOf(res))
		expected := wantsAgain(a, res, func() *rule.Data {
			return at.session.Data(at.scope, at.scope.Row, at.scope.Kept, res.Reply, at.Names())
		}) && try < a.Times
		asked := at.session.RetryAfter(res.Last())
		if !expected || asked > longestPause {
			note := fmt.Sprintf("tried %s: %s", session.HowOften(try), strings.Join(said, ", "))
			if expected {
				note += fmt.Sprintf("; the service asks to be left alone for %s", asked)
			}
			if try > 1 {
				res.Tries = try
			}
			if last := res.Last(); last != nil && (try > 1 || expected) {
				last.Notes = append(last.Notes, note)
			}
			return
		}
		pause = nextPause(a, pause)
		// A tenth by chance, so that many do not come back at the same moment.
		wait := max(pause+time.Duration(rand.Int64N(int64(pause/10)+1)), asked)
		if exchange.Sleep(ctx, wait) != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
			return
		}
		exchanges, logins := res.Exchanges, res.Logins
		*res = before
		res.Exchanges, res.Logins = exchanges, logins
	}
}

// cameOf says in a word what came of a try.
func cameOf(res *result.Step) string {
	last := res.Last()
	switch {
	case last == nil:
		return string(res.Outcome)
	case last.Answer == nil:
		return "no answer"
	}
	return strconv.Itoa(last.Answer.Status)
}

// Ask carries out a step that sends something outside of a sheet, with the values of a row, nil for none. What is
// kept goes into kept.
func Ask(ctx context.Context, of *session.Session, s *sheet.Step, row *document.Node,
	kept map[string]*document.Node,
) *result.Step {
	start := time.Now()
	res := &result.Step{Name: s.Name, Target: s.Target(), Outcome: result.Passed}
	at := &place{noRow{}, of, of.Scope(row, kept)}
	at.ask(ctx, s, res)
	res.Took = time.Since(start)
	return res
}

// noRow is where a step is outside of a sheet. It has no more than what ask wants to know.
type noRow struct{ Row }

func (noRow) IsDry() bool { return false }

func (noRow) Names() map[string]string { return nil }

func (noRow) WouldSend(*result.Step, *exchange.Request, string) {}

// ask plans, sends and judges a step that talks.
func (at *place) ask(ctx context.Context, s *sheet.Step, res *result.Step) {
	of := at.session
	ctx, logins := session.GatherLogins(ctx)
	planned, err := of.Prepare(ctx, s, at.scope, at.Names())
	if err != nil {
		unplanned(res, err)
		at.WouldSend(res, nil, err.Error())
		return
	}
	res.Context = of.ContextOf(s, planned)
	if at.IsDry() {
		of.ShowLogin(planned)
		res.Outcome = result.Passed
		at.WouldSend(res, planned.Request, "")
		return
	}
	if err := of.Guarded(planned); err != nil {
		res.Outcome, res.Reason = result.Errored, err.Error()
		return
	}
	by := &judge.Case{Session: of, Step: s, Prepared: planned, Scope: at.scope, Names: at.Names()}
	of.SetIfMatch(ctx, s, planned, at.scope, res)
	var fresh *exchange.Request // what is asked again
	if s.Wait != nil {
		fresh = planned.Request.Clone()
	}
	sent, err := of.Send(ctx, s, planned, res)
	if err == nil {
		sent, err = of.WaitFor(ctx, s, planned, sent, res)
	}
	if err == nil && s.Wait != nil {
		sent, err = await(ctx, by, fresh, sent, res)
	}
	var re *reply.Reply
	if err == nil {
		re = planned.Read(sent.Record())
		of.RecordETag(planned, at.scope, sent.Record(), re)
		sent, re = of.Pages(ctx, s, planned, sent, re, res)
	}
	res.Logins = append(res.Logins, logins()...)
	if err != nil {
		if last := res.Last(); last != nil { // a token was refused, and none was to be had in its place
			res.Reply = reply.Read(last)
		}
		res.NotSent(ctx, err)
		return
	}
	record := sent.Record()
	record.Notes = append(planned.Notes, record.Notes...)
	by.Judge(sent, re, res)
}

// unplanned says why no request came of a step.
func unplanned(res *result.Step, err error) {
	res.Outcome, res.Reason = result.Errored, err.Error()
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
		// The row's own values break the contract: the step failed, unsent.
		res.Outcome, res.Reason = result.Failed, "not sent"
		if broken.Described {
			res.Hints = append(res.Hints, "contract: answer at the step sends it all the same")
		}
		for _, problem := range broken.Problems {
			res.Checks = append(res.Checks,
				result.Check{
					Kind: "contract", Subject: "request", Judged: true,
					Expected: "as the operation is described", Got: problem,
				})
		}
	}
}

// await asks again until what a step waits for is there, or it is clear that it will
// not be. What came of the waiting is among the checks of the plan.
func await(ctx context.Context, by *judge.Case, fresh *exchange.Request, sent *login.Sent,
	res *result.Step,
) (*login.Sent, error) {
	p := by.Prepared
	hold := func() *judge.Judging { return by.Judging(p.Read(sent.Record())) }
	ask := func(ctx context.Context) (*judge.Judging, error) {
		p.Request = fresh.Clone()
		again, err := by.Session.Send(ctx, by.Step, p, res)
		if err != nil {
			return nil, err
		}
		sent = again
		return hold(), nil
	}
	left := func() time.Duration { return by.Session.RetryAfter(sent.Record()) }
	_, checks, note, err := judge.UntilMet(ctx, by.Step.Wait, exchange.Now(ctx), hold(), ask, left)
	p.Checks = append(p.Checks, checks...)
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	return sent, err
}
