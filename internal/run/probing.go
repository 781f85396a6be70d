package run

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/probe"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/soap"
)

// Probing is a step that is probed.
type Probing struct {
	Target *probe.Target
	plan   *plan
	step   *sheet.Step
	// Service is the one that is asked.
	Service string
	// Notes say what of the request is not changed.
	Notes []string
}

// Probing fills a step in as it is right, and gathers what is known of its request. A nil
// scope is that of a step outside of a sheet.
func (s *Session) Probing(ctx context.Context, step *sheet.Step, scope *Values) (*Probing, error) {
	if scope == nil {
		scope = s.Scope(nil, map[string]*document.Node{})
	}
	if step.Wait != nil || step.Batch != nil || step.Group != nil || step.Sub != nil || step.Listen != nil || step.Lookup != nil || step.Call == "" && step.Request == nil && step.Follow == nil {
		return nil, errors.New("a probe needs a step that makes one request, and waits for nothing")
	}
	if err := s.CheckCall(ctx, step); err != nil {
		return nil, err
	}
	planned, err := s.plan(ctx, step, scope, nil)
	if err != nil {
		return nil, err
	}
	p := &Probing{plan: planned, step: step, Target: &probe.Target{Request: planned.request, SOAP: soap.Version(planned.soapVersion()), Writes: planned.writes}}
	if planned.service != nil {
		p.Service = planned.service.Name
	}
	for _, name := range planned.logins {
		l := probe.Login{Name: name}
		if found := s.Bench.Login(name); found != nil {
			l.Ways = login.WaysOf(found.Kind)
			placed, isPlaced := found.Kind.(login.Placed)
			l.Protects = isPlaced && placed.Place() != login.Beside && placed.Place() != login.Sealing
		}
		p.Target.Logins = append(p.Target.Logins, l)
	}
	s.addContractFacts(ctx, p)
	return p, nil
}

// addContractFacts adds what is known of the operation.
func (s *Session) addContractFacts(ctx context.Context, p *Probing) {
	t, planned := p.Target, p.plan
	if planned.op == nil {
		return
	}
	facts := planned.op.Facts()
	t.Operation, t.BothVersions, t.Payload = facts.Endpoint, facts.BothVersions, planned.op.Shape()
	if facts.Endpoint != nil && facts.Endpoint.SOAP {
		return
	}
	held := planned.op
	if !planned.contracted && planned.service.Templates[facts.Name] != nil {
		// Where in the body of a template a field ends up only the template knows.
		outside := *facts.Endpoint
		outside.Parameters = slices.DeleteFunc(slices.Clone(outside.Parameters), func(p contract.Parameter) bool { return p.In == contract.InBody || p.In == contract.InForm })
		t.Operation, held = &outside, &outside
		p.Notes = append(p.Notes, "the body of "+facts.Name+" is made by its template:, and its fields are not changed one by one")
	}
	t.Hold = func(r *exchange.Request) []string {
		return held.Hold(r.URL, &contract.Received{Header: canonical(r.Header), Body: r.Body, IsKind: rule.IsKind})
	}
	for _, other := range s.operations(ctx, planned) {
		if facts.Path != "" && other.Path == facts.Path {
			t.Methods = append(t.Methods, other.Method)
		}
	}
}

// operations are those that stand beside the one of a plan, where it is described.
func (s *Session) operations(ctx context.Context, p *plan) []contract.Facts {
	var all []contract.Facts
	if !p.contracted {
		for _, op := range p.service.Operations {
			all = append(all, op.Facts())
		}
		return all
	}
	c, err := s.Contract(ctx, p.service)
	if err != nil {
		return nil
	}
	for _, name := range c.Names(p.service.Binding()) {
		if op, err := c.Operation(name, p.service.Binding()); err == nil && op != nil {
			all = append(all, op.Facts())
		}
	}
	return all
}

// canonical are header fields as the contract looks for them.
func canonical(h http.Header) http.Header {
	out := http.Header{}
	for name, values := range h {
		out[http.CanonicalHeaderKey(name)] = values
	}
	return out
}

// Probe sends a wrong request, with the credentials that go with it, and gives what came
// of it. Good sends the right one.
func (s *Session) Probe(ctx context.Context, p *Probing, c *probe.Case) *result.Step {
	start := time.Now()
	planned := *p.plan
	planned.notes = nil
	use := login.Use{Names: planned.logins}
	res := &result.Step{Name: "as it is right", Target: targetOf(p.step), Outcome: result.Held}
	if c == nil {
		planned.request = p.Target.Request.Clone()
	} else {
		res.Name = string(c.Kind) + ": " + c.Changed
		planned.request = c.Request.Clone()
		if l := c.Login; l != nil && l.None {
			use.Names = nil
		} else if l != nil {
			use.Spoil, use.SpoilOf = l.Way, l.Login
		}
	}
	res.Context = s.context(p.step, &planned)
	res.Context.Spoilt = use.Spoil
	if c == nil || !c.Versioned {
		s.setIfMatch(ctx, p.step, &planned, res)
	}
	res.Exchanges = nil
	gathering, logins := gatherLogins(ctx)
	sent, err := s.Logins.Send(gathering, planned.request, use)
	res.Logins = logins()
	if sent != nil {
		res.Exchanges, res.Context.Token = sent.Records, sent.Token
	}
	res.Took = time.Since(start)
	if err != nil {
		res.Outcome, res.Reason = result.Unreachable, err.Error()
		if ctx.Err() != nil {
			res.Outcome = result.Interrupted
		}
		_ = errors.As(err, &res.Context.LoginFail)
		return res
	}
	res.Reply = planned.read(sent.Record())
	s.recordETag(&planned, sent.Record(), res.Reply)
	return res
}

// Judged notes a verdict as the check of its step.
func Judged(r *result.Step, j probe.Judged) {
	if j.Verdict == probe.NotSent {
		r.Outcome, r.Reason = result.NotRun, j.Why
		return
	}
	check := result.Check{Kind: "expect", Subject: "how it is taken", Judged: true, Held: !j.Verdict.IsBad(), Wanted: "refused clearly", Got: strings.TrimSpace(string(j.Verdict) + ", " + j.Said), Note: j.Why}
	if !check.Held {
		r.Outcome = result.FellShort
	}
	r.Checks = append(r.Checks, check)
}
