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

// RunOptions say how sheets are run.
type RunOptions struct {
	Steps    []string          // only these; empty for all
	Rows     [][2]int          // only these, from and to, from 1; empty for all
	Stop     bool              // at the first step that falls short
	Dry      bool              // nothing is sent; what would be is reported
	Observer Observer          // may be nil
	Explain  func(*StepResult) // adds hints to a finished step; may be nil
}

// Observer is told how a run goes on. The calls come one after the other.
type Observer interface {
	SheetStarted(*SheetResult)
	RowStarted(*SheetResult, *RowResult)
	StepDone(*SheetResult, *RowResult, *StepResult)
	RowDone(*SheetResult, *RowResult)
	SheetDone(*SheetResult)
	// WouldSend is told of each request of a dry run; planned is nil where it
	// cannot be known beforehand, and then reason says why.
	WouldSend(row *RowResult, step *StepResult, planned *exchange.Request, reason string)
}

// noObserver is told everything and says nothing.
type noObserver struct{}

func (noObserver) SheetStarted(*SheetResult)                                    {}
func (noObserver) RowStarted(*SheetResult, *RowResult)                          {}
func (noObserver) StepDone(*SheetResult, *RowResult, *StepResult)               {}
func (noObserver) RowDone(*SheetResult, *RowResult)                             {}
func (noObserver) SheetDone(*SheetResult)                                       {}
func (noObserver) WouldSend(*RowResult, *StepResult, *exchange.Request, string) {}

// runner runs one sheet.
type runner struct {
	session  *Session
	sheet    *Sheet
	options  RunOptions
	observer Observer
	stopped  bool
}

// Run runs a sheet and returns what came of it. A cancelled context ends the
// run in order: the exchange at work is cancelled and the finally and last
// steps are run; kill, where it is not nil, cuts those short too.
func (s *Session) Run(ctx context.Context, sh *Sheet, options RunOptions, kill context.Context) *SheetResult {
	r := &runner{session: s, sheet: sh, options: options, observer: options.Observer}
	if r.observer == nil {
		r.observer = noObserver{}
	}
	if kill == nil {
		kill = context.Background()
	}
	result := &SheetResult{Name: sh.Name, File: s.Bench.inside(sh.File()), About: sh.About, Site: s.Site.Name, Outcome: NotRun}
	rows := r.rows()
	if sh.Rows != nil {
		result.RowCount = len(sh.Rows.table.Rows)
	}
	for _, step := range slices.Concat(sh.First, sh.Steps, sh.Finally, sh.Last) {
		result.Plan = append(result.Plan, Planned{step.Name, step.target()})
		if step.Batch != nil {
			for _, part := range step.Batch.Parts {
				result.Plan = append(result.Plan, Planned{step.Name + ": " + part.Name, part.target()})
			}
		}
	}
	start := time.Now()
	r.observer.SheetStarted(result)
	outside := map[string]*document.Node{}
	finish := func(row *RowResult) {
		result.Rows = append(result.Rows, row)
		result.Outcome = worst(result.Outcome, row.Outcome)
	}
	if len(sh.First) > 0 {
		finish(r.row(ctx, kill, result, &RowResult{Phase: "first"}, nil, outside, sh.First, nil))
	}
	for _, row := range rows {
		if ctx.Err() != nil || r.stopped {
			break
		}
		kept := map[string]*document.Node{}
		for name, node := range outside {
			kept[name] = node
		}
		finish(r.row(ctx, kill, result, row.result, row.values, kept, sh.Steps, sh.Finally))
	}
	if len(sh.Last) > 0 {
		finish(r.row(kill, kill, result, &RowResult{Phase: "last"}, nil, outside, sh.Last, nil))
	}
	if ctx.Err() != nil {
		result.Outcome = Interrupted
	}
	result.Took = time.Since(start)
	r.observer.SheetDone(result)
	return result
}

type inputRow struct {
	result *RowResult
	values *document.Node
}

// rows gives the rows to run; a sheet without rows has one, without values.
func (r *runner) rows() []inputRow {
	input := r.sheet.Rows
	if input == nil {
		return []inputRow{{result: &RowResult{}}}
	}
	column := input.Label
	if column == "" && len(input.table.Columns) > 0 {
		column = input.table.Columns[0]
	}
	var rows []inputRow
	for i, values := range input.table.Rows {
		number := i + 1
		if input.Limit > 0 && number > input.Limit {
			break
		}
		if len(r.options.Rows) > 0 && !slices.ContainsFunc(r.options.Rows, func(span [2]int) bool { return number >= span[0] && number <= span[1] }) {
			continue
		}
		rows = append(rows, inputRow{values: values, result: &RowResult{Number: number, Column: column, Label: values.Get(column).Text}})
	}
	return rows
}

// row runs the steps of one row, then those that always come at its end.
func (r *runner) row(ctx, kill context.Context, sheet *SheetResult, row *RowResult, values *document.Node, kept map[string]*document.Node, steps, finally []*Step) *RowResult {
	start := time.Now()
	row.Outcome = NotRun
	r.observer.RowStarted(sheet, row)
	lost := map[string]string{} // a name that was to be kept: why it was not
	do := func(ctx context.Context, step *Step) {
		if len(r.options.Steps) > 0 && !slices.Contains(r.options.Steps, step.Name) {
			r.forget(step, kept, lost, "left out")
			return
		}
		var results []*StepResult
		if step.Batch != nil {
			results = r.batchStep(ctx, step, row.Number, values, kept, lost)
		} else {
			results = []*StepResult{r.step(ctx, step, row.Number, values, kept, lost)}
		}
		for i, result := range results {
			if r.options.Explain != nil {
				r.options.Explain(result)
			}
			row.Steps = append(row.Steps, result)
			row.Outcome = worst(row.Outcome, result.Outcome)
			if i == 0 {
				r.forget(step, kept, lost, string(result.Outcome))
			}
			r.observer.StepDone(sheet, row, result)
			if r.options.Stop && result.Outcome != Held && result.Outcome != NotRun {
				r.stopped = true
			}
		}
	}
	for _, step := range steps {
		if ctx.Err() != nil || r.stopped {
			break
		}
		do(ctx, step)
	}
	stopped := r.stopped
	for _, step := range finally {
		do(kill, step)
	}
	r.stopped = r.stopped || stopped
	row.Took = time.Since(start)
	r.observer.RowDone(sheet, row)
	return row
}

// forget notes which names of a step did not come to be.
func (r *runner) forget(step *Step, kept map[string]*document.Node, lost map[string]string, why string) {
	for _, name := range step.names() {
		if _, ok := kept[name]; !ok {
			lost[name] = fmt.Sprintf("%s was not kept (%s %s)", name, step.Name, why)
		} else {
			delete(lost, name)
		}
	}
}

// step runs one step.
func (r *runner) step(ctx context.Context, step *Step, number int, row *document.Node, kept map[string]*document.Node, lost map[string]string) *StepResult {
	start := time.Now()
	result := &StepResult{Name: step.Name, Target: step.target(), About: step.About, Outcome: Held}
	defer func() { result.Took = time.Since(start) }()
	session, err := r.session.at(step.Site)
	if err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		return result
	}
	scope := session.Scope(row, kept)
	if reason := missing(step, scope, lost); reason != "" {
		result.Outcome, result.Reason = NotRun, reason
		if r.options.Dry {
			r.observer.WouldSend(nil, result, nil, reason)
		}
		return result
	}
	data := session.data(scope, row, kept, nil, nil)
	if step.When != nil && !r.options.Dry {
		if verdict := step.When.Judge(data); !verdict.Held {
			result.Outcome, result.Reason = NotRun, "when does not hold: "+step.When.Source
			if verdict.Note != "" {
				result.Reason += " (" + verdict.Note + ")"
			}
			return result
		}
	}
	if len(step.Set) > 0 || len(step.WorkOut) > 0 {
		if err := step.workOut(scope, data); err != nil {
			result.Outcome, result.Reason = Faulty, err.Error()
		}
		result.Kept = step.names()
		return result
	}
	session.exchange(ctx, step, scope, r.sheet.Names, result, r)
	if row != nil && number > 0 {
		result.Context.Row = fmt.Sprintf("%s row %d", r.sheet.Rows.From, number)
	}
	return result
}

func (s *Step) target() string {
	switch {
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
	for _, c := range step.Where {
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
func (s *Session) exchange(ctx context.Context, step *Step, scope *Scope, names map[string]string, result *StepResult, r *runner) {
	planned, err := s.plan(ctx, step, scope, names)
	if err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		var unreached *FetchError
		if errors.As(err, &unreached) {
			result.Outcome = Unreachable
			result.Exchanges = append(result.Exchanges, unreached.Record)
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
		if r != nil && r.options.Dry {
			r.observer.WouldSend(nil, result, nil, err.Error())
		}
		return
	}
	result.Context = s.context(step, planned)
	if r != nil && r.options.Dry {
		s.showLogin(planned)
		result.Outcome = Held
		r.observer.WouldSend(nil, result, planned.request, "")
		return
	}
	if err := s.guarded(planned); err != nil {
		result.Outcome, result.Reason = Faulty, err.Error()
		return
	}
	s.version(ctx, step, planned, result)
	sent, err := s.send(ctx, step, planned, result)
	if err == nil {
		sent, err = s.waitFor(ctx, step, planned, sent, result)
	}
	var re *reply.Reply
	if err == nil {
		re = planned.read(sent.Record())
		s.remember(sent.Record(), re)
		sent, re = s.pages(ctx, step, planned, sent, re, result)
	}
	result.Logins = s.takeObserved()
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
	use := login.Use{Names: planned.logins}
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
	all := map[string]string{}
	for _, m := range []map[string]string{planned.prefixes(), s.Bench.Names, serviceNames(planned.service), names, step.Names} {
		for prefix, space := range m {
			all[prefix] = space
		}
	}
	data := s.data(scope, scope.row, scope.kept, re, all)
	j := &judging{step: step, described: planned.described, op: planned.op, messageID: planned.messageID, reply: re, roots: re.Roots(all), scope: scope, data: data}
	if planned.service != nil && planned.op != nil {
		j.good = planned.service.good[planned.op.Name]
	}
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
	case record.Failure != nil && step.Expect.Refused == "":
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
	if planned.op != nil && planned.op.Versioned {
		switch planned.request.GetHeader("If-Match") {
		case "":
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
func (s *Session) Plan(step *Step) (*exchange.Request, error) {
	planned, err := s.plan(context.Background(), step, s.Scope(nil, map[string]*document.Node{}), nil)
	if err != nil {
		return nil, err
	}
	s.showLogin(planned)
	return planned.request, nil
}
