package judge

import (
	"slices"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/soap"
)

// Case is a step that was sent, with what its answer is judged by.
type Case struct {
	Session  *session.Session
	Step     *sheet.Step
	Prepared *session.Prepared
	Scope    *session.Values
	Names    map[string]string // the prefixes of XML that the sheet has
}

// Judge holds an answer against its step, and puts what comes of it into the result.
func (c *Case) Judge(sent *login.Sent, re *reply.Reply, res *result.Step) {
	record := sent.Record()
	res.Reply = re
	j := c.Judging(re)
	j.Checks = c.Prepared.Checks
	j.judge()
	for _, f := range sent.Findings {
		j.add(result.Check{Kind: "protection", Subject: f.Subject, Passed: f.Passed, Expected: f.Expected, Got: f.Got})
	}
	record.Notes = append(record.Notes, j.departures(soap.Version(c.Prepared.SOAPVersion()))...)
	res.Checks = j.Checks
	res.Kept = append(res.Kept, j.kept()...)
	switch {
	case record.Failure != nil && record.Failure.Kind == exchange.Interrupted:
		res.Outcome, res.Reason = result.Interrupted, "interrupted"
	case record.Failure != nil && (j.expect == nil || j.expect.Refused == ""):
		res.Outcome, res.Reason = result.Unreachable, record.Failure.Message
		if record.Failure.Kind == exchange.NotAllowed || record.Failure.Kind == exchange.Unwritable {
			res.Outcome = result.Errored
		}
	case j.Err != nil:
		res.Outcome, res.Reason = result.Errored, j.Err.Error()
	case res.ChecksFailed() > 0:
		res.Outcome = result.Failed
	}
}

// Judging prepares what a reply is checked against.
func (c *Case) Judging(re *reply.Reply) *Judging {
	p := c.Prepared
	names := request.MergeNames(p.Prefixes(), c.Session.Bench.Names, session.ServiceNames(p.Service), c.Names,
		c.Step.Names)
	j := &Judging{
		Step: c.Step, Operation: p.Operation, MessageID: p.MessageID, elsewhere: p.AnsweredElsewhere,
		Reply: re, Roots: re.Roots(names), Scope: c.Scope, session: c.Session,
		Checks: make([]result.Check, 0, len(c.Step.Fields)+len(c.Step.Where)+1),
	}
	if len(c.Step.Where) > 0 {
		j.Data = c.Session.Data(c.Scope, c.Scope.Row, c.Scope.Kept, re, names)
	}
	if p.Service != nil {
		j.good = p.Service.GoodOf(p.OperationName())
	}
	return j
}

// kept are the names of what was kept.
func (j *Judging) kept() []string {
	var names []string
	for _, c := range j.Checks {
		if c.Kind == "keep" && c.Passed {
			names = append(names, c.Subject)
		}
	}
	return names
}

// FinishPayload judges fields and conditions, and keeps what is to be kept.
func (j *Judging) FinishPayload(res *result.Step) {
	isThere := !slices.ContainsFunc(j.Checks, func(c result.Check) bool { return !c.Passed })
	start := len(j.Checks)
	j.fields()
	j.Where()
	if isThere {
		j.keep()
	} else {
		// What was waited for did not come: nothing can be said of it.
		for i := range j.Checks[start:] {
			j.Checks[start+i].Judged = false
		}
	}
	res.Checks = j.Checks
	res.Kept = append(res.Kept, j.kept()...)
	switch {
	case j.Err != nil:
		res.Outcome, res.Reason = result.Errored, j.Err.Error()
	case res.ChecksFailed() > 0:
		res.Outcome = result.Failed
	}
	res.Got = shownPayload(j.Reply.Payload)
}

// shownPayload is what was found, cut, for the record of a step without an exchange.
func shownPayload(n *document.Node) string {
	if n == nil {
		return ""
	}
	if hidesSecret(n) {
		return secret.Mask
	}
	text := document.WriteJSON(n, document.Style{})
	if n.Kind == document.Element {
		text = document.WriteXML(n, document.Style{})
	}
	return text
}

func hidesSecret(n *document.Node) bool {
	found := n.Secret
	n.Scalars(func(s *document.Node) { found = found || s.Secret })
	return found
}
