// Package probing sends the wrong requests that package probe makes of a step, with the credentials of
// the step, and writes them as steps of a sheet.
package probing

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
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/step"
)

// Subject is a step that is probed.
type Subject struct {
	Target *probe.Target
	plan   *session.Prepared
	step   *sheet.Step
	// Service is the one that is asked.
	Service string
	// Notes say what of the request is not changed.
	Notes []string
}

// New fills a step in as it is right, and gathers what is known of its request. A nil
// scope is that of a step outside of a sheet.
func New(ctx context.Context, s *session.Session, one *sheet.Step, scope *session.Values) (*Subject, error) {
	if scope == nil {
		scope = s.Scope(nil, map[string]*document.Node{})
	}
	if _, asks := one.Action.(session.Planner); !asks || one.Wait != nil {
		return nil, errors.New("a probe needs a step that makes one request, and waits for nothing")
	}
	if err := step.CheckCall(ctx, s, one); err != nil {
		return nil, err
	}
	planned, err := s.Prepare(ctx, one, scope, nil)
	if err != nil {
		return nil, err
	}
	p := &Subject{
		plan: planned, step: one,
		Target: &probe.Target{
			Request: planned.Request, SOAP: soap.Version(planned.SOAPVersion()),
			Writes: planned.Writes,
		},
	}
	if planned.Service != nil {
		p.Service = planned.Service.Name
	}
	for _, name := range planned.Logins {
		l := probe.Login{Name: name}
		if found := s.Bench.Login(name); found != nil {
			l.Ways = login.WaysOf(found.Kind)
			placed, isPlaced := found.Kind.(login.Placed)
			l.Protects = isPlaced && placed.Place() != login.Beside && placed.Place() != login.Sealing
		}
		p.Target.Logins = append(p.Target.Logins, l)
	}
	addContractFacts(ctx, s, p, scope)
	return p, nil
}

// addContractFacts adds what is known of the operation.
func addContractFacts(ctx context.Context, s *session.Session, p *Subject, scope *session.Values) {
	t, planned := p.Target, p.plan
	if planned.Operation == nil {
		return
	}
	facts := planned.Operation.Facts()
	t.Operation, t.BothVersions, t.Payload = facts.Endpoint, facts.BothVersions, planned.Operation.Shape()
	if facts.Endpoint != nil && facts.Endpoint.SOAP {
		return
	}
	held := planned.Operation
	rebuilt := map[*exchange.Request][]string{} // what of those breaks the description
	if !planned.Contracted && planned.Service.Templates[facts.Name] != nil {
		// Where in the body of a template a field ends up only the template knows.
		outside := *facts.Endpoint
		outside.Parameters = slices.DeleteFunc(slices.Clone(outside.Parameters), func(p contract.Parameter) bool {
			return p.In == contract.InBody || p.In == contract.InForm
		})
		held = &outside
		rebuilt = p.rebuilding(ctx, s, scope)
	}
	t.Hold = func(r *exchange.Request) []string {
		if breaks, known := rebuilt[r]; known {
			return breaks
		}
		return held.Hold(r.URL, &contract.Received{Header: canonical(r.Header), Body: r.Body, IsKind: rule.IsKind})
	}
	for _, other := range operationsBeside(ctx, s, planned) {
		if facts.Path != "" && other.Path == facts.Path {
			t.Methods = append(t.Methods, other.Method)
		}
	}
}

// rebuilding lets a body that a template makes be made of other fields. What of each request breaks the
// description is in what it returns.
func (p *Subject) rebuilding(ctx context.Context, s *session.Session,
	scope *session.Values,
) map[*exchange.Request][]string {
	breaks := map[*exchange.Request][]string{}
	given := &request.Tree{}
	if p.step.Fill != nil {
		given = p.step.Fill
	}
	p.Target.Fields = given.Known(schema.Unknown)
	if known, err := given.Node(scope); err == nil {
		p.Target.Fields = known
	}
	p.Target.Rebuild = func(field string, v *document.Node) *exchange.Request {
		changed := *p.step
		changed.Unchecked = true
		changed.Fill = &request.Tree{}
		for _, f := range p.step.FillFields() {
			if f.Name != field {
				changed.Fill.Fields = append(changed.Fill.Fields, f)
			}
		}
		if v != nil {
			changed.Fill.Fields = append(changed.Fill.Fields, request.Field{Name: field, Value: request.Fixed(v)})
		}
		planned, err := s.Prepare(ctx, &changed, scope, nil)
		if err != nil {
			return nil
		}
		var wrong []string
		_, problems := session.KnownRequest(s.Bench, &changed, planned.Service, planned.Operation)
		for _, one := range problems {
			wrong = append(wrong, one.Message)
		}
		breaks[planned.Request] = wrong
		return planned.Request
	}
	return breaks
}

// operationsBeside are those that are beside the one of a plan, where it is described.
func operationsBeside(ctx context.Context, s *session.Session, p *session.Prepared) []contract.Facts {
	var all []contract.Facts
	if !p.Contracted {
		for _, op := range p.Service.Operations {
			all = append(all, op.Facts())
		}
		return all
	}
	c, err := s.Contract(ctx, p.Service)
	if err != nil {
		return nil
	}
	for _, name := range c.Names(p.Service.Binding()) {
		if op, err := c.Operation(name, p.Service.Binding()); err == nil && op != nil {
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
func Probe(ctx context.Context, s *session.Session, p *Subject, c *probe.Case) *result.Step {
	start := time.Now()
	planned := *p.plan
	planned.Notes = nil
	use := login.Use{Names: planned.Logins}
	res := &result.Step{Name: "as it is right", Target: p.step.Target(), Outcome: result.Passed}
	if c == nil {
		planned.Request = p.Target.Request.Clone()
	} else {
		res.Name = string(c.Kind) + ": " + c.Changed
		planned.Request = c.Request.Clone()
		if l := c.Login; l != nil && l.None {
			use.Names = nil
		} else if l != nil {
			use.Spoil, use.SpoilOf = l.Way, l.Login
		}
	}
	res.Context = s.ContextOf(p.step, &planned)
	res.Context.Spoilt = use.Spoil
	if c == nil || !c.Versioned {
		s.SetIfMatch(ctx, p.step, &planned, nil, res)
	}
	res.Exchanges = nil
	gathering, logins := session.GatherLogins(ctx)
	sent, err := s.Logins.Send(gathering, planned.Request, use)
	res.Logins = logins()
	if sent != nil {
		res.Exchanges, res.Context.Token = sent.Records, sent.Token
	}
	res.Took = time.Since(start)
	if err != nil {
		res.NotSent(ctx, err)
		return res
	}
	res.Reply = planned.Read(sent.Record())
	s.RecordETag(&planned, nil, sent.Record(), res.Reply)
	return res
}

// Judged notes a verdict as the check of its step.
func Judged(r *result.Step, j probe.Judged) {
	if j.Verdict == probe.NotSent {
		r.Outcome, r.Reason = result.NotRun, j.Why
		return
	}
	check := result.Check{
		Kind: "expect", Subject: "how it is taken", Judged: true, Passed: !j.Verdict.IsBad(),
		Expected: "refused clearly", Got: strings.TrimSpace(string(j.Verdict) + ", " + j.Said), Note: j.Why,
	}
	if !check.Passed {
		r.Outcome = result.Failed
	}
	r.Checks = append(r.Checks, check)
}
