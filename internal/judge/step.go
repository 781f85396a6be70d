package judge

import (
	"slices"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/soap"
)

// Judge holds an answer against its step, and puts what comes of it into the result.
func Judge(s *session.Session, step *sheet.Step, planned *session.Prepared, scope *session.Values, names map[string]string, sent *login.Sent, re *reply.Reply, res *result.Step) {
	record := sent.Record()
	res.Reply = re
	j := New(s, step, planned, scope, names, re)
	j.Checks = planned.Checks
	j.judge()
	for _, f := range sent.Findings {
		j.add(result.Check{Kind: "protection", Subject: f.Subject, Held: f.Held, Wanted: f.Wanted, Got: f.Got})
	}
	record.Notes = append(record.Notes, j.departures(soap.Version(planned.SOAPVersion()))...)
	res.Checks = j.Checks
	for _, c := range j.Checks {
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
	case j.Err != nil:
		res.Outcome, res.Reason = result.Faulty, j.Err.Error()
	case res.Fell() > 0:
		res.Outcome = result.FellShort
	}
}

// New prepares what a reply is held against.
func New(s *session.Session, step *sheet.Step, planned *session.Prepared, scope *session.Values, names map[string]string, re *reply.Reply) *Judging {
	all := map[string]string{}
	for _, m := range []map[string]string{planned.Prefixes(), s.Bench.Names, session.ServiceNames(planned.Service), names, step.Names} {
		for prefix, space := range m {
			all[prefix] = space
		}
	}
	j := &Judging{Step: step, Operation: planned.Operation, MessageID: planned.MessageID, Reply: re, Roots: re.Roots(all), Scope: scope}
	if len(step.Where) > 0 {
		j.Data = s.Data(scope, scope.Row, scope.Kept, re, all)
	}
	if planned.Service != nil {
		j.good = planned.Service.Good[planned.OperationName()]
	}
	return j
}

// FinishPayload judges fields and conditions, and keeps what is to be kept.
func (j *Judging) FinishPayload(res *result.Step) {
	isThere := !slices.ContainsFunc(j.Checks, func(c result.Check) bool { return !c.Held })
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
	for _, c := range j.Checks {
		if c.Kind == "keep" && c.Held {
			res.Kept = append(res.Kept, c.Subject)
		}
	}
	switch {
	case j.Err != nil:
		res.Outcome, res.Reason = result.Faulty, j.Err.Error()
	case res.Fell() > 0:
		res.Outcome = result.FellShort
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
