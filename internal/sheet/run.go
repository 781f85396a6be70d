package sheet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/rule"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// Observer is told how a run goes on. The calls come one after the other, and those of
// each row together; RowDone comes when the row stands in the record.
type Observer interface {
	SheetStarted(*SheetResult)
	RowStarted(*SheetResult, *RowResult)
	StepDone(*SheetResult, *RowResult, *StepResult)
	RowDone(*SheetResult, *RowResult)
	SheetDone(*SheetResult)
	// WouldSend is told of each request of a dry run; planned is nil where it
	// cannot be known beforehand, and then reason says why.
	WouldSend(row *RowResult, step *StepResult, planned *exchange.Request, reason string)
	// RecordLost is told, once, that rows are not recorded from here on.
	RecordLost(err error)
}

// noObserver is told everything and says nothing.
type noObserver struct{}

func (noObserver) SheetStarted(*SheetResult)                                    {}
func (noObserver) RowStarted(*SheetResult, *RowResult)                          {}
func (noObserver) StepDone(*SheetResult, *RowResult, *StepResult)               {}
func (noObserver) RowDone(*SheetResult, *RowResult)                             {}
func (noObserver) SheetDone(*SheetResult)                                       {}
func (noObserver) RecordLost(error)                                             {}
func (noObserver) WouldSend(*RowResult, *StepResult, *exchange.Request, string) {}

// plan lists the steps that there are.
func (result *SheetResult) plan(lead string, steps []*Step) {
	for _, step := range steps {
		name := lead + step.Name
		if step.Each != nil {
			name += " (10 of 10)" // about so long; how many there are is not known yet
		}
		if len(step.Group) > 0 {
			result.plan(name+": ", step.Group)
			continue
		}
		if step.Sub != nil {
			result.plan(name+": ", step.Sub.Sheet.allSteps())
		}
		result.Plan = append(result.Plan, Planned{name, step.target()})
		if step.Undo != nil {
			result.Plan = append(result.Plan, Planned{"undo " + name, step.Undo.target()})
		}
		if step.Batch != nil {
			for _, part := range step.Batch.Parts {
				result.Plan = append(result.Plan, Planned{lead + step.Name + ": " + part.Name, part.target()})
			}
		}
	}
}

// forget notes which names of a step did not come to be.
func (x *rowRun) forget(step *Step, why string) {
	for _, name := range step.names() {
		if _, ok := x.kept[name]; !ok {
			x.lost[name] = fmt.Sprintf("%s was not kept (%s %s)", name, step.Name, why)
		} else {
			delete(x.lost, name)
		}
	}
}

// do carries out one step under a name.
func (x *rowRun) do(ctx context.Context, step *Step, name string) *StepResult {
	start := time.Now()
	result := &StepResult{Name: name, Target: step.target(), About: step.About, Outcome: Held}
	defer func() { result.Took = time.Since(start) }()
	session, err := x.session.at(step.Site)
	if err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		return result
	}
	scope := x.scope(session)
	if reason := missing(step, scope, x.lost); reason != "" {
		result.Outcome, result.Reason = NotRun, reason
		x.wouldSend(result, nil, reason)
		return result
	}
	if step.When != nil && !x.options.Dry {
		if reason := step.unless(session.data(scope, x.values, x.kept, nil, nil)); reason != "" {
			result.Outcome, result.Reason = NotRun, reason
			return result
		}
	}
	switch {
	case len(step.Set) > 0 || len(step.WorkOut) > 0:
		data := session.data(scope, x.values, x.kept, nil, nil)
		if err := step.workOut(scope, data); err != nil {
			result.Outcome, result.Reason = Faulty, err.Error()
			break
		}
		result.Kept = step.names()
		j := &judging{step: step, scope: scope, data: data}
		j.where()
		if result.Checks = j.out; result.Fell() > 0 {
			result.Outcome = FellShort
		}
	case step.Pause > 0:
		if !x.options.Dry && sleep(ctx, step.Pause) != nil {
			result.Outcome, result.Reason = Interrupted, "interrupted"
		}
	case step.Lookup != nil:
		x.lookup(ctx, session, step, scope, result)
	case step.Listen != nil:
		x.listen(ctx, session, step, scope, result)
	default:
		if x.options.Before != nil {
			x.options.Before(ctx, session, step, scope)
		}
		x.tries(ctx, session, step, scope, result)
		if x.values != nil && x.row.Number > 0 {
			result.Context.Row = fmt.Sprintf("%s row %d", x.sheet.Rows.From, x.row.Number)
		}
	}
	return result
}

// wouldSend tells what a dry run would send.
func (x *rowRun) wouldSend(result *StepResult, request *exchange.Request, reason string) {
	if x.options.Dry {
		now := *result // it goes on to change
		now.Of = x.nameOf(result.Name)
		x.events.add(event{step: &now, request: request, reason: reason, would: true})
	}
}

// unless says why the condition of a step leaves it out, or "".
func (s *Step) unless(data *rule.Data) string {
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

func (s *Step) target() string {
	switch {
	case len(s.Group) > 0:
		return "group"
	case s.Call != "":
		return s.Call
	case s.Request != nil:
		return s.Request.source
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
		return "lookup " + s.Lookup.database
	case s.Pause > 0:
		return "pause " + s.at.Get("pause").Text
	}
	return "work out"
}

// missing says which name a step asks for that an earlier step should have
// kept and did not, or "".
func missing(step *Step, scope *Scope, lost map[string]string) string {
	own := map[string]bool{}
	for _, k := range step.Keep {
		own[k.Name] = true
	}
	for _, u := range step.uses {
		if u.hole.Space != "" && u.hole.Space != "kept" || own[u.hole.Name] {
			continue
		}
		reason, isLost := lost[u.hole.Name]
		if _, err := scope.Lookup(u.hole.Space, u.hole.Name); isLost && errors.Is(err, value.ErrNothing) {
			if !slices.ContainsFunc(u.hole.Filters, func(f value.Filter) bool { return f.Name == "default" }) {
				return reason
			}
		}
	}
	conditions := []*rule.Condition{}
	if step.When != nil {
		conditions = append(conditions, step.When)
	}
	for _, e := range step.WorkOut {
		conditions = append(conditions, e.condition)
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

// workOut sets values from templates and from CEL.
func (s *Step) workOut(scope *Scope, data *rule.Data) error {
	for _, f := range s.Set {
		node, err := f.Value.Node(scope)
		if err != nil {
			return fmt.Errorf("set %s: %w", f.Name, err)
		}
		scope.kept[f.Name] = node
		data.Kept.Set(f.Name, node)
	}
	for _, e := range s.WorkOut {
		node, err := e.condition.WorkOut(data)
		if err != nil {
			return fmt.Errorf("work out %s: %w", e.name, err)
		}
		scope.kept[e.name] = node
		data.Kept.Set(e.name, node)
	}
	return nil
}

// data gathers what conditions see.
func (s *Session) data(scope *Scope, row *document.Node, kept map[string]*document.Node, re *reply.Reply, names map[string]string) *rule.Data {
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
func (s *Session) exchange(ctx context.Context, step *Step, scope *Scope, names map[string]string, result *StepResult, x *rowRun) {
	logins := &asked{}
	ctx = context.WithValue(ctx, askedKey{}, logins)
	planned, err := s.plan(ctx, step, scope, names)
	if err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		var unreached *FetchError
		if errors.As(err, &unreached) {
			result.Outcome = Unreachable
			result.Exchanges = append(result.Exchanges, unreached.Record)
			if unreached.Record.Answer != nil {
				result.Reply = reply.Read(unreached.Record)
			}
		}
		var broken *ContractError
		if errors.As(err, &broken) {
			// The row's own values break the contract: the step fell short, unsent.
			result.Outcome, result.Reason = FellShort, "not sent"
			if broken.Described {
				result.Hints = append(result.Hints, "contract: answer at the step sends it all the same")
			}
			for _, problem := range broken.Problems {
				result.Checks = append(result.Checks, Check{Kind: "contract", Subject: "request", Judged: true, Wanted: "as the operation is described", Got: problem})
			}
		}
		if x != nil {
			x.wouldSend(result, nil, err.Error())
		}
		return
	}
	result.Context = s.context(step, planned)
	if x != nil && x.options.Dry {
		s.showLogin(planned)
		result.Outcome = Held
		x.wouldSend(result, planned.request, "")
		return
	}
	if err := s.guarded(planned); err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		return
	}
	s.version(ctx, step, planned, result)
	fresh := planned.request.Clone()
	sent, err := s.send(ctx, step, planned, result)
	if err == nil {
		sent, err = s.waitFor(ctx, step, planned, sent, result)
	}
	if err == nil && step.Wait != nil {
		sent, err = s.await(ctx, step, planned, scope, names, fresh, sent, result)
	}
	var re *reply.Reply
	if err == nil {
		re = planned.read(sent.Record())
		s.remember(planned, sent.Record(), re)
		sent, re = s.pages(ctx, step, planned, sent, re, result)
	}
	result.Logins = append(result.Logins, logins.take()...)
	if err != nil {
		if last := result.Last(); last != nil { // a token was refused, and none was to be had in its place
			result.Reply = reply.Read(last)
		}
		result.Outcome, result.Reason = Unreachable, err.Error()
		if ctx.Err() != nil {
			result.Outcome, result.Reason = Interrupted, "interrupted"
		}
		if errors.As(err, &result.Context.LoginFail) && result.Context.LoginFail.Record == nil && !result.Context.LoginFail.Asked && result.Outcome == Unreachable {
			result.Outcome = Faulty // nobody was asked: a secret or a setting is wrong
		}
		return
	}
	record := sent.Record()
	record.Notes = append(planned.notes, record.Notes...)
	s.judge(step, planned, scope, names, sent, re, result)
}

// send puts the credentials in and sends the request.
func (s *Session) send(ctx context.Context, step *Step, planned *plan, result *StepResult) (*login.Sent, error) {
	use := login.Use{Names: planned.logins, Wanted: planned.refusal}
	if step.Login != nil {
		use.Spoil = step.Login.spoil
	}
	sent, err := s.Logins.Send(ctx, planned.request, use)
	if sent != nil {
		result.Exchanges = append(result.Exchanges, sent.Records...)
		result.Context.Token = sent.Token
		planned.notes = append(planned.notes, sent.Notes...)
	}
	return sent, err
}

func (s *Session) judge(step *Step, planned *plan, scope *Scope, names map[string]string, sent *login.Sent, re *reply.Reply, result *StepResult) {
	record := sent.Record()
	result.Reply = re
	j := s.judging(step, planned, scope, names, re)
	j.out = planned.checks
	j.judge()
	for _, f := range sent.Findings {
		j.add(Check{Kind: "protection", Subject: f.Subject, Held: f.Held, Wanted: f.Wanted, Got: f.Got})
	}
	record.Notes = append(record.Notes, j.departures(soap.Version(planned.soapVersion()))...)
	result.Checks = j.out
	for _, c := range j.out {
		if c.Kind == "keep" && c.Held {
			result.Kept = append(result.Kept, c.Subject)
		}
	}
	switch {
	case record.Failure != nil && record.Failure.Kind == exchange.Interrupted:
		result.Outcome, result.Reason = Interrupted, "interrupted"
	case record.Failure != nil && (j.expect == nil || j.expect.Refused == ""):
		result.Outcome, result.Reason = Unreachable, record.Failure.Message
		if record.Failure.Kind == exchange.NotAllowed {
			result.Outcome = Faulty
		}
	case j.err != nil:
		result.Outcome, result.Reason = Faulty, j.err.Error()
	case result.Fell() > 0:
		result.Outcome = FellShort
	}
}

// judging prepares what a reply is held against.
func (s *Session) judging(step *Step, planned *plan, scope *Scope, names map[string]string, re *reply.Reply) *judging {
	all := map[string]string{}
	for _, m := range []map[string]string{planned.prefixes(), s.Bench.Names, serviceNames(planned.service), names, step.Names} {
		for prefix, space := range m {
			all[prefix] = space
		}
	}
	j := &judging{step: step, described: planned.described, op: planned.op, messageID: planned.messageID, reply: re, roots: re.Roots(all), scope: scope}
	if len(step.Where) > 0 {
		j.data = s.data(scope, scope.row, scope.kept, re, all)
	}
	if planned.service != nil {
		j.good = planned.service.good[planned.operation()]
	}
	return j
}

// context gathers what explains the exchange.
func (s *Session) context(step *Step, planned *plan) Context {
	c := Context{SOAP: planned.soapVersion(), Filled: planned.filled, Sources: map[string]string{}}
	if planned.service != nil {
		c.Service = planned.service.Name
		c.Paths = s.Bench.pathsOf(planned.service)
	}
	if len(planned.logins) > 0 {
		c.Login = planned.logins[0]
		if l := s.Bench.Login(c.Login); l != nil {
			c.LoginKind = strings.ToLower(strings.TrimPrefix(fmt.Sprintf("%T", l.Kind), "*login."))
		}
	}
	if step.Login != nil {
		c.Spoilt = step.Login.spoil
	}
	if len(step.contents) > 0 {
		c.BodyKind = step.contents[0]
	}
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			if f.Value.Scalar == nil {
				continue
			}
			for _, h := range f.Value.Scalar.Holes() {
				c.Sources[f.Name] = h.Source
			}
		}
	}
	return c
}

// showLogin puts a mark into a request of a dry run where credentials would go.
func (s *Session) showLogin(planned *plan) {
	if planned.op != nil && planned.op.TakesVersion && !planned.withoutVersion {
		switch planned.request.GetHeader("If-Match") {
		case "":
			if !planned.op.Versioned {
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
func (s *Session) Exchange(ctx context.Context, step *Step, kept map[string]*document.Node) *StepResult {
	start := time.Now()
	result := &StepResult{Name: step.Name, Target: step.target(), Outcome: Held}
	s.exchange(ctx, step, s.Scope(nil, kept), nil, result, nil)
	result.Took = time.Since(start)
	return result
}

// Plan fills one step in without sending it; credentials are shown as marks.
func (s *Session) Plan(ctx context.Context, step *Step) (*exchange.Request, error) {
	planned, err := s.plan(ctx, step, s.Scope(nil, map[string]*document.Node{}), nil)
	if err != nil {
		return nil, err
	}
	s.showLogin(planned)
	return planned.request, nil
}
