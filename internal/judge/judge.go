// Package judge holds what came back against what a step expects of it: the status, errors,
// the contract, fields, conditions, what is kept, and what is waited for.
package judge

import (
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/suggest"
	"testbench/internal/value"
)

// Judging is one reply that is checked against a step.
type Judging struct {
	Step      *sheet.Step
	Reply     *reply.Reply
	Roots     path.Roots
	Scope     *session.Values
	Data      *rule.Data
	Checks    []result.Check
	Operation contract.Operation // nil for a request without one
	good      *rule.Status       // the statuses that the operation calls good; nil for 2xx
	MessageID string             // of WS-Addressing, "" without
	elsewhere bool               // the answer is asked for at another address
	Err       error              // a rule's own values are not there
	expect    *sheet.Expect      // with the values of the row
	session   *session.Session   // nil where nothing was sent
}

func (j *Judging) add(c result.Check) {
	c.Judged = true
	j.Checks = append(j.Checks, c)
}

// judge holds a reply against everything that a step says of it, and keeps
// what the step keeps. Where the reply as such is not what was expected, its
// fields are not judged: they would only say the same again.
func (j *Judging) judge() {
	e, err := j.Step.Expect.FilledIn(j.Scope)
	if err != nil {
		j.Err = err
		return
	}
	j.expect = e
	failure := j.Reply.Record.Failure
	if e.Refused != "" || failure != nil {
		j.refusal(e.Refused, failure)
		return
	}
	j.status(e)
	j.fault(e)
	j.errorForm(e)
	pointless := false
	for _, c := range j.Checks {
		pointless = pointless || !c.Passed
	}
	start := len(j.Checks)
	j.readable()
	j.contract()
	j.relation()
	j.replyRules(e)
	j.fields()
	j.Where()
	j.sameAsFile(e)
	if j.Err != nil {
		return
	}
	if !pointless {
		j.keep()
		return
	}
	// Out of a reply of another kind than expected nothing is kept.
	for _, k := range j.Step.Keep {
		j.add(result.Check{Kind: "keep", Subject: k.Name, Expected: k.Source})
	}
	for i := range j.Checks[start:] {
		j.Checks[start+i].Judged = false
	}
}

// contract holds the answer against what the contract says of it.
func (j *Judging) contract() {
	if j.Operation == nil || !session.HoldsAnswer(j.Step) {
		return
	}
	answer := j.Reply.Record.Answer
	if j.elsewhere && answer.Status == http.StatusAccepted && len(answer.Body) == 0 {
		return // WS-Addressing 1.0 SOAP Binding, 5.1.2: what comes on the connection is empty
	}
	judgement := j.Operation.Judge(contract.Got{
		Status: answer.Status, Header: answer.Header, Empty: len(answer.Body) == 0, What: whatItIs(j.Reply),
		Body: j.Reply.Payload, Message: j.Reply.Message, Lines: j.Reply.Format == document.Lines,
	})
	if judgement.Judged {
		j.broken(j.Operation.Facts().Name, judgement.Wrong)
	}
	if j.Reply.Message != nil {
		j.Reply.Message.Departures = append(j.Reply.Message.Departures, judgement.Notes...)
	}
}

// broken adds what came of checking the answer against its contract.
func (j *Judging) broken(operation string, found []string) {
	c := result.Check{
		Kind: "contract", Subject: "answer", Expected: "as " + operation + " is described",
		Passed: len(found) == 0, Got: "so",
	}
	const most = 5
	if len(found) > 0 {
		c.Got = strings.Join(found[:min(len(found), most)], "; ")
		if len(found) > most {
			c.Got += fmt.Sprintf("; and %d more", len(found)-most)
		}
	}
	j.add(c)
}

// relation checks that the answer says it belongs to the request (WS-Addressing
// 1.0 Core, 3.4: an answer carries the request's message id).
func (j *Judging) relation() {
	if j.MessageID == "" || j.Reply.Message == nil {
		return
	}
	got, there := j.Reply.Message.Property("RelatesTo")
	switch {
	case !there:
		j.Reply.Message.Departures = append(j.Reply.Message.Departures,
			"the answer does not say which message it relates to (WS-Addressing: RelatesTo)")
	default:
		j.add(result.Check{
			Kind: "expect", Subject: "relation", Expected: j.MessageID, Got: got,
			Passed: got == j.MessageID,
		})
	}
}

// whatItIs says in a few words what an answer is that should have been another thing.
func whatItIs(re *reply.Reply) string {
	answer := re.Record.Answer
	switch {
	case len(answer.Body) == 0:
		return "empty"
	case re.Format == document.XML && re.Body != nil:
		return "the XML element " + re.Body.Name().String()
	case re.Format == document.XML:
		return "XML that is not well-formed"
	}
	return string(re.Format)
}

// departures tells where an answer to a SOAP request departs from the books.
// Real services do; it is said, and does not count as failing.
func (j *Judging) departures(asked soap.Version) []string {
	answer := j.Reply.Record.Answer
	if asked == "" || answer == nil {
		return nil
	}
	m := j.Reply.Message
	if m == nil {
		oneWay := j.Operation != nil && j.Operation.Facts().OneWay || answer.Status == 202 || answer.Status == 204
		if oneWay && len(answer.Body) == 0 {
			return nil
		}
		if oneWay {
			return []string{"nothing was to come back, and here is " + whatItIs(j.Reply)}
		}
		return []string{fmt.Sprintf("a SOAP request was answered with %s, not with an envelope", whatItIs(j.Reply))}
	}
	out := append([]string(nil), m.Departures...)
	if m.Version != asked {
		out = append(out, fmt.Sprintf("SOAP %s was sent, and SOAP %s came back", asked, m.Version))
	}
	if told := soap.VersionOf(answer.ContentType()); told != m.Version {
		out = append(out, fmt.Sprintf("the content type %s does not go with an envelope of SOAP %s",
			answer.ContentType(), m.Version))
	}
	if f := m.Fault; f != nil {
		expected := 500
		// SOAP 1.1, 6.2; SOAP 1.2 Part 2, 7.5.2.2.
		if m.Version == soap.V12 && f.Code == "Sender" {
			expected = 400
		}
		if answer.Status != expected {
			out = append(out, fmt.Sprintf("a fault came under the status %d; SOAP %s gives it %d", answer.Status,
				m.Version, expected))
		}
	} else if answer.Status == 202 && m.Payload != nil {
		out = append(out, "the status 202 says that nothing is answered, and here is "+m.Payload.Name().Local)
	}
	return out
}

// refusal judges an exchange that failed, or one that should have.
func (j *Judging) refusal(expected string, failure *exchange.Failure) {
	if expected == "" {
		return // the run shows why no answer came
	}
	c := result.Check{Kind: "expect", Subject: "refused", Expected: expected, Got: "an answer"}
	if failure != nil {
		c.Got = failure.Refusal()
		if c.Got == "" {
			c.Got = string(failure.Kind)
		}
		c.Note = failure.Message
		c.Passed = c.Got == expected
	} else {
		c.Got = fmt.Sprintf("the answer %d", j.Reply.Record.Answer.Status)
	}
	j.add(c)
}

func (j *Judging) status(e *sheet.Expect) {
	answer := j.Reply.Record.Answer
	got := fmt.Sprint(answer.Status)
	switch {
	case e.Status != nil:
		j.add(result.Check{
			Kind: "expect", Subject: "status", Expected: e.Status.Source, Got: got,
			Passed: e.Status.Holds(answer.Status),
		})
	case e.HasError:
		// An error comes under whatever status; only the error is asked for.
	case e.HasFault:
		// A fault comes under a status of its own; only the fault is asked for.
	case j.good == nil && j.Reply.IsSuccess():
		j.add(result.Check{
			Kind: "expect", Subject: "status", Expected: "a success, as success: of the service says",
			Got: got, Passed: true,
		})
	case j.good != nil:
		j.add(result.Check{
			Kind: "expect", Subject: "status", Expected: j.good.Source, Got: got,
			Passed: j.good.Holds(answer.Status),
		})
	default:
		j.add(result.Check{
			Kind: "expect", Subject: "status", Expected: "2xx", Got: got,
			Passed: answer.Status >= 200 && answer.Status <= 299,
		})
	}
}

func (j *Judging) fault(e *sheet.Expect) {
	fault := j.Reply.Fault()
	if e.HasFault {
		got := ""
		if fault != nil {
			got = fault.String()
		}
		j.told("fault", got, fault != nil, e.Fault)
		return
	}
	if !e.NoFault && e.Status != nil && !e.Status.WantsSuccess() {
		return
	}
	if fault != nil {
		j.add(result.Check{Kind: "expect", Subject: "fault", Expected: "none", Got: fault.String()})
	} else if e.NoFault || j.Reply.Message != nil {
		j.add(result.Check{Kind: "expect", Subject: "fault", Expected: "none", Got: "none", Passed: true})
	}
}

// told judges a fault or an error that is expected, and what it says.
func (j *Judging) told(word, got string, isThere bool, rules []sheet.FieldRule) {
	article := map[string]string{"fault": "a ", "error": "an "}[word]
	if !isThere {
		j.add(result.Check{Kind: "expect", Subject: word, Expected: article + word, Got: "no " + word})
		return
	}
	j.add(result.Check{Kind: "expect", Subject: word, Expected: article + word, Got: got, Passed: true})
	for _, f := range rules {
		j.Rule("expect", word+" "+f.Source, f.Path, f.Rule)
	}
}

// errorForm judges what the answer says of an error, in whatever form.
func (j *Judging) errorForm(e *sheet.Expect) {
	said := j.Reply.AnyError()
	switch {
	case e.HasError:
		got := ""
		if said != nil {
			got = said.String()
		}
		j.told("error", got, said != nil, e.Error)
	case e.NoError && said != nil:
		j.add(result.Check{Kind: "expect", Subject: "error", Expected: "none", Got: said.String()})
	case e.NoError:
		j.add(result.Check{Kind: "expect", Subject: "error", Expected: "none", Got: "none", Passed: true})
	case j.Reply.Failed != nil && (e.Status == nil || e.Status.WantsSuccess()):
		// The protocol itself tells an error: that is none of the answers that were asked for.
		j.add(result.Check{Kind: "expect", Subject: "error", Expected: "none", Got: said.String()})
	case said != nil && j.Reply.Message == nil && j.Reply.Record.Answer.Status < 400:
		j.Reply.Record.Notes = append(j.Reply.Record.Notes,
			fmt.Sprintf("the status is %d, and the answer tells of an error: %s", j.Reply.Record.Answer.Status, said))
	}
}

// readable judges that the answer can be read at all, where that matters.
func (j *Judging) readable() {
	if j.Reply.Problem != nil {
		expected := "well-formed " + string(j.Reply.Format)
		if j.Reply.Body != nil {
			expected = "an answer of the protocol"
		}
		j.add(result.Check{Kind: "expect", Subject: "answer", Expected: expected, Got: j.Reply.Problem.Error()})
	}
}

func (j *Judging) replyRules(e *sheet.Expect) {
	if e.Time == nil && e.Size == nil && e.Type == nil && len(e.Headers) == 0 {
		return
	}
	tree := j.Reply.Tree()
	one := func(subject string, node *document.Node, r *rule.Rule) {
		if r == nil {
			return
		}
		match := path.Match{Where: subject, Node: node}
		if node == nil {
			names := tree.Get("headers").Names()
			slices.Sort(names)
			match.Miss = &path.Miss{
				Reached: "the reply", Missing: "header " + subject,
				There: "one with " + suggest.FewNames(names), Try: suggest.DidYouMean(subject, names),
			}
		}
		j.Verdict("expect", subject, path.Selection{Matches: []path.Match{match}}, r)
	}
	one("time", tree.Get("time"), e.Time)
	one("size", tree.Get("size"), e.Size)
	if e.Type != nil {
		mediaType := j.Reply.Record.Answer.ContentType()
		if !strings.Contains(e.Type.Source, ";") {
			// Parameters such as charset count only where the rule names some.
			if parsed, _, err := mime.ParseMediaType(mediaType); err == nil {
				mediaType = parsed
			}
		}
		one("type", document.NewUntyped(mediaType), e.Type)
	}
	for _, h := range e.Headers {
		one(h.Name, tree.Get("headers").Get(h.Name), h.Rule)
	}
}

func (j *Judging) fields() {
	for _, f := range j.Step.Fields {
		j.Rule("field", f.Source, f.Path, f.Rule)
	}
}

// Rule holds what a path finds against a rule.
func (j *Judging) Rule(kind, subject string, p *path.Path, r *rule.Rule) {
	found, err := p.Find(j.Roots, j.Scope)
	if err != nil {
		j.Err = fmt.Errorf("%s: %w", subject, err)
		return
	}
	j.Verdict(kind, subject, found, r)
}

// Verdict holds what was found against a rule.
func (j *Judging) Verdict(kind, subject string, found path.Selection, r *rule.Rule) {
	verdict, err := r.Judge(found, j.Roots, j.Scope)
	if err != nil {
		j.Err = fmt.Errorf("%s: %w", subject, err)
		return
	}
	c := result.Check{
		Kind: kind, Subject: subject, Passed: verdict.Passed, Expected: verdict.Expected, Got: verdict.Got,
		Note: verdict.Note,
	}
	if verdict.Secret || found.First() != nil && found.First().Secret {
		c.Got = secret.Mask
	}
	if verdict.Where != "" && verdict.Where != subject {
		c.Where = verdict.Where
	}
	if c.Note == c.Got {
		c.Note = ""
	}
	j.add(c)
}

// Where judges the conditions of the step.
func (j *Judging) Where() {
	for _, c := range j.Step.Where {
		verdict := c.Judge(j.Data)
		j.add(result.Check{
			Kind: "where", Subject: c.Source, Passed: verdict.Passed, Expected: "condition is true", Got: verdict.Got,
			Note: verdict.Note,
		})
	}
}

// keep takes values out of the reply. One that finds nothing fails.
func (j *Judging) keep() {
	for _, k := range j.Step.Keep {
		found, err := k.Path.Find(j.Roots, j.Scope)
		if err != nil {
			j.Err = fmt.Errorf("keep %s: %w", k.Name, err)
			return
		}
		node := found.Whole()
		if v := node.Value(); v != nil && v.IsScalar() {
			node = v
		}
		if k.Filters != nil {
			node, err = k.Filters.Node(keptScope{j.Scope, node}, false)
		}
		if node == nil || err != nil {
			c := result.Check{Kind: "keep", Subject: k.Name, Expected: k.Source, Got: "missing"}
			if miss := found.Missed(); miss != nil {
				c.Note = miss.String()
			}
			if err != nil && found.First() != nil {
				c.Got, c.Note = found.First().Describe(), strings.Replace(err.Error(), k.Filters.Source+": ", "", 1)
			}
			j.add(c)
			continue
		}
		if k.Secret {
			node = node.MarkSecret()
			node.Scalars(func(n *document.Node) { j.Scope.Hide(n.Text) })
		}
		j.Scope.Kept[k.Name] = node
		j.add(result.Check{Kind: "keep", Subject: k.Name, Expected: k.Source, Passed: true, Got: node.Describe()})
	}
}

// keptScope lets the filters of a keep work on what the path found.
type keptScope struct {
	*session.Values
	it *document.Node
}

func (s keptScope) Lookup(space, name string) (*document.Node, error) {
	if space == "" && name == "it" {
		if s.it == nil {
			return nil, value.ErrNothing
		}
		return s.it, nil
	}
	return s.Values.Lookup(space, name)
}
