// Package run runs sheets, and finds before that what is wrong with them at a
// site. scheduler.go has rows side by side, with repeat.go for which and recorder.go for
// their record; flow.go is one row, run.go one step; plan.go makes the request
// of a step, session.go has what steps share, judge.go says what holds.
// vet.go does as much of it as needs nothing sent. callstep.go makes steps of
// command lines. It shows nothing; results go to an Observer.
package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/value"
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

// planSheet lists the steps that there are.
func planSheet(res *result.Sheet, lead string, steps []*sheet.Step) {
	for _, step := range steps {
		name := lead + step.Name
		if step.Each != nil {
			name += " (10 of 10)" // about so long; how many there are is not known yet
		}
		if len(step.Group) > 0 {
			planSheet(res, name+": ", step.Group)
			continue
		}
		if step.Sub != nil {
			planSheet(res, name+": ", step.Sub.Sheet.AllSteps())
		}
		res.Plan = append(res.Plan, result.Planned{Name: name, Target: targetOf(step)})
		if step.Undo != nil {
			res.Plan = append(res.Plan, result.Planned{Name: "undo " + name, Target: targetOf(step.Undo)})
		}
		if step.Batch != nil {
			for _, part := range step.Batch.Parts {
				res.Plan = append(res.Plan, result.Planned{Name: lead + step.Name + ": " + part.Name, Target: targetOf(part)})
			}
		}
	}
}

// noteMissing notes which names of a step did not come to be.
func (x *rowRun) noteMissing(step *sheet.Step, why string) {
	for _, name := range stepNames(step) {
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
	res := &result.Step{Name: name, Target: targetOf(step), About: step.About, Outcome: result.Held}
	defer func() { res.Took = time.Since(start) }()
	session, err := x.session.at(step.Site)
	if err != nil {
		res.Outcome, res.Reason = result.Faulty, err.Error()
		return res
	}
	scope := x.scope(session)
	if reason := missing(step, scope, x.lost); reason != "" {
		res.Outcome, res.Reason = result.NotRun, reason
		x.wouldSend(res, nil, reason)
		return res
	}
	if step.When != nil && !x.options.Dry {
		if reason := unless(step, session.data(scope, x.values, x.kept, nil, nil)); reason != "" {
			res.Outcome, res.Reason = result.NotRun, reason
			return res
		}
	}
	switch {
	case len(step.Set) > 0 || len(step.WorkOut) > 0:
		data := session.data(scope, x.values, x.kept, nil, nil)
		if err := calculate(step, scope, data); err != nil {
			res.Outcome, res.Reason = result.Faulty, err.Error()
			break
		}
		res.Kept = stepNames(step)
		j := &judging{step: step, scope: scope, data: data}
		j.where()
		if res.Checks = j.out; res.Fell() > 0 {
			res.Outcome = result.FellShort
		}
	case step.Pause > 0:
		if !x.options.Dry && sleep(ctx, step.Pause) != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
		}
	case step.Lookup != nil:
		x.lookup(ctx, session, step, scope, res)
	case step.Listen != nil:
		x.listen(ctx, session, step, scope, res)
	default:
		if x.options.Before != nil {
			x.options.Before(ctx, session, step, scope)
		}
		x.tries(ctx, session, step, scope, res)
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

func targetOf(s *sheet.Step) string {
	switch {
	case len(s.Group) > 0:
		return "group"
	case s.Call != "":
		return s.Call
	case s.Request != nil:
		return s.Request.Source
	case s.Follow != nil:
		return "follow " + s.Follow.Source
	case len(s.Set) > 0:
		return "set"
	case s.Batch != nil:
		return "batch " + s.Batch.Service
	case s.Sub != nil:
		return "sheet " + s.Sub.File
	case s.Listen != nil:
		return "listen"
	case s.Lookup != nil:
		return "lookup " + s.Lookup.Database
	case s.Pause > 0:
		return "pause " + s.At.Get("pause").Text
	}
	return "work out"
}

// missing says which name a step asks for that an earlier step should have
// kept and did not, or "".
func missing(step *sheet.Step, scope *Values, lost map[string]string) string {
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
func calculate(s *sheet.Step, scope *Values, data *rule.Data) error {
	for _, f := range s.Set {
		node, err := f.Value.Node(scope)
		if err != nil {
			return fmt.Errorf("set %s: %w", f.Name, err)
		}
		scope.kept[f.Name] = node
		data.Kept.Set(f.Name, node)
	}
	for _, e := range s.WorkOut {
		node, err := e.Condition.WorkOut(data)
		if err != nil {
			return fmt.Errorf("work out %s: %w", e.Name, err)
		}
		scope.kept[e.Name] = node
		data.Kept.Set(e.Name, node)
	}
	return nil
}

// data gathers what conditions see.
func (s *Session) data(scope *Values, row *document.Node, kept map[string]*document.Node, re *reply.Reply, names map[string]string) *rule.Data {
	data := &rule.Data{Row: row, Scope: scope, Kept: document.NewObject(), Site: document.NewObject()}
	for _, name := range s.options.KeptNames {
		if node, ok := s.options.Kept(name); ok {
			data.Kept.Set(name, node)
		}
	}
	for name, node := range kept {
		data.Kept.Set(name, node)
	}
	for _, f := range s.Site.Set {
		if node, err := scope.Lookup("site", f.Name); err == nil {
			data.Site.Set(f.Name, node)
		}
	}
	if re != nil {
		data.Roots = re.Roots(names)
	}
	return data
}

// exchange plans, sends and judges a step that talks.
func (s *Session) exchange(ctx context.Context, step *sheet.Step, scope *Values, names map[string]string, res *result.Step, x *rowRun) {
	ctx, logins := gatherLogins(ctx)
	planned, err := s.plan(ctx, step, scope, names)
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
		var broken *ContractError
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
	res.Context = s.context(step, planned)
	if x != nil && x.options.Dry {
		s.showLogin(planned)
		res.Outcome = result.Held
		x.wouldSend(res, planned.request, "")
		return
	}
	if err := s.guarded(planned); err != nil {
		res.Outcome, res.Reason = result.Faulty, err.Error()
		return
	}
	s.setIfMatch(ctx, step, planned, res)
	fresh := planned.request.Clone()
	sent, err := s.send(ctx, step, planned, res)
	if err == nil {
		sent, err = s.waitFor(ctx, step, planned, sent, res)
	}
	if err == nil && step.Wait != nil {
		sent, err = s.await(ctx, step, planned, scope, names, fresh, sent, res)
	}
	var re *reply.Reply
	if err == nil {
		re = planned.read(sent.Record())
		s.recordETag(planned, sent.Record(), re)
		sent, re = s.pages(ctx, step, planned, sent, re, res)
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
	record.Notes = append(planned.notes, record.Notes...)
	s.judge(step, planned, scope, names, sent, re, res)
}

// send puts the credentials in and sends the request.
func (s *Session) send(ctx context.Context, step *sheet.Step, planned *plan, result *result.Step) (*login.Sent, error) {
	use := login.Use{Names: planned.logins, Wanted: planned.refusal}
	if step.Login != nil {
		use.Spoil = step.Login.Spoil
	}
	sent, err := s.Logins.Send(ctx, planned.request, use)
	if sent != nil {
		result.Exchanges = append(result.Exchanges, sent.Records...)
		result.Context.Token = sent.Token
		planned.notes = append(planned.notes, sent.Notes...)
	}
	return sent, err
}

func (s *Session) judge(step *sheet.Step, planned *plan, scope *Values, names map[string]string, sent *login.Sent, re *reply.Reply, res *result.Step) {
	record := sent.Record()
	res.Reply = re
	j := s.judging(step, planned, scope, names, re)
	j.out = planned.checks
	j.judge()
	for _, f := range sent.Findings {
		j.add(result.Check{Kind: "protection", Subject: f.Subject, Held: f.Held, Wanted: f.Wanted, Got: f.Got})
	}
	record.Notes = append(record.Notes, j.departures(soap.Version(planned.soapVersion()))...)
	res.Checks = j.out
	for _, c := range j.out {
		if c.Kind == "keep" && c.Held {
			res.Kept = append(res.Kept, c.Subject)
		}
	}
	switch {
	case record.Failure != nil && record.Failure.Kind == exchange.Interrupted:
		res.Outcome, res.Reason = result.Interrupted, "interrupted"
	case record.Failure != nil && (j.expect == nil || j.expect.Refused == ""):
		res.Outcome, res.Reason = result.Unreachable, record.Failure.Message
		if record.Failure.Kind == exchange.NotAllowed {
			res.Outcome = result.Faulty
		}
	case j.err != nil:
		res.Outcome, res.Reason = result.Faulty, j.err.Error()
	case res.Fell() > 0:
		res.Outcome = result.FellShort
	}
}

// judging prepares what a reply is held against.
func (s *Session) judging(step *sheet.Step, planned *plan, scope *Values, names map[string]string, re *reply.Reply) *judging {
	all := map[string]string{}
	for _, m := range []map[string]string{planned.prefixes(), s.Bench.Names, serviceNames(planned.service), names, step.Names} {
		for prefix, space := range m {
			all[prefix] = space
		}
	}
	j := &judging{step: step, op: planned.op, messageID: planned.messageID, reply: re, roots: re.Roots(all), scope: scope}
	if len(step.Where) > 0 {
		j.data = s.data(scope, scope.row, scope.kept, re, all)
	}
	if planned.service != nil {
		j.good = planned.service.Good[planned.operation()]
	}
	return j
}

// context gathers what explains the exchange.
func (s *Session) context(step *sheet.Step, planned *plan) result.Context {
	c := result.Context{SOAP: planned.soapVersion(), Filled: planned.filled, Sources: map[string]string{}}
	if planned.service != nil {
		c.Service = planned.service.Name
		c.Paths = s.Bench.PathsOf(planned.service)
	}
	if len(planned.logins) > 0 {
		c.Login = planned.logins[0]
		if l := s.Bench.Login(c.Login); l != nil {
			c.LoginKind = strings.ToLower(strings.TrimPrefix(fmt.Sprintf("%T", l.Kind), "*login."))
		}
	}
	if step.Login != nil {
		c.Spoilt = step.Login.Spoil
	}
	if len(step.Contents) > 0 {
		c.BodyKind = step.Contents[0]
	}
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			if f.Value.Scalar == nil {
				continue
			}
			for _, h := range f.Value.Scalar.Placeholders() {
				c.Sources[f.Name] = h.Source
			}
		}
	}
	return c
}

// showLogin puts a mark into a request of a dry run where credentials would go.
func (s *Session) showLogin(planned *plan) {
	if planned.op != nil && planned.op.Facts().TakesVersion && !planned.withoutVersion {
		switch planned.request.GetHeader("If-Match") {
		case "":
			if !planned.op.Facts().Versioned {
				break // whether an answer named one is not known yet
			}
			planned.request.SetHeader("If-Match", "[the version that is read first]")
		case "none":
			planned.request.DeleteHeader("If-Match")
		}
	}
	s.Logins.Preview(context.Background(), planned.request, planned.logins)
}

// Exchange carries out one step outside of a sheet.
func (s *Session) Exchange(ctx context.Context, step *sheet.Step, kept map[string]*document.Node) *result.Step {
	start := time.Now()
	result := &result.Step{Name: step.Name, Target: targetOf(step), Outcome: result.Held}
	s.exchange(ctx, step, s.Scope(nil, kept), nil, result, nil)
	result.Took = time.Since(start)
	return result
}

// Plan fills one step in without sending it; credentials are shown as marks.
func (s *Session) Plan(ctx context.Context, step *sheet.Step) (*exchange.Request, error) {
	planned, err := s.plan(ctx, step, s.Scope(nil, map[string]*document.Node{}), nil)
	if err != nil {
		return nil, err
	}
	s.showLogin(planned)
	return planned.request, nil
}
