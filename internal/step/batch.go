package step

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/contract/odata"
	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/lazy"
	"testbench/internal/login"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Batch sends several requests as one, to a service of OData.
type Batch struct {
	single
	Service  string
	JSON     bool // in JSON, not as multipart/mixed
	Together bool // changes are done as a whole or not at all
	Parts    []*sheet.Step

	At *yamlfile.Node
}

var batchKind = sheet.Kind{
	Word: "batch", What: "a batch",
	Common: mapping.KeysOf("site, login, http, timeout, redirects, headers, query, cookies, undo, keep, expect, "+
		"checks, fields, where, soft",
		anyStep),
	Own: []mapping.Key[sheet.Step]{
		own("batch", "a service: the parts are sent to it as one request",
			func(r *mapping.Reader, _ *sheet.Step, b *Batch, n *yamlfile.Node) {
				b.Service, b.At = r.PlainText(n), n
			}),
		own("as", "of a batch: multipart or json; multipart unless said",
			func(r *mapping.Reader, _ *sheet.Step, b *Batch, n *yamlfile.Node) {
				b.JSON = r.Choice(n, "form of a batch", "multipart", "json") == "json"
			}),
		own("together", "of a batch: true where its changes are done as a whole or not at all",
			func(r *mapping.Reader, _ *sheet.Step, b *Batch, n *yamlfile.Node) {
				b.Together = r.Yes(n)
			}),
		own("parts", "of a batch: its steps", func(r *mapping.Reader, s *sheet.Step, b *Batch, n *yamlfile.Node) {
			b.Parts = s.ReadSteps(r, n)
			for _, part := range b.Parts {
				checkPart(r, part)
			}
		}),
	},
	New: func() sheet.Action { return &Batch{} },
}

// ofPart are the keys of a part of a batch: all else is said of the batch as a whole.
var ofPart = mapping.KeysOf(
	"step, about, call, request, follow, service, fill, contract, headers, query, body, text, file, bytes, form, " +
		"parts, " +
		"drop empty, keep, expect, checks, fields, where")

// checkPart reports a part of a batch that is not a request, or says what only steps have.
func checkPart(r *mapping.Reader, part *sheet.Step) {
	if _, isRequest := part.Action.(session.Planner); !isRequest && part.Action != nil {
		r.File.Report(part.At, "", "a part of a batch is a call, a request, or follows a place")
		return
	}
	for _, e := range part.At.Entries {
		if !slices.Contains(ofPart, e.Key.Text) && part.HasKey(e.Key.Text) {
			r.File.Report(e.Key, "put it at the batch as a whole, or make a step of the part",
				"a part of a batch has no %s", e.Key.Text)
		}
	}
}

// Check wants a service and parts.
func (b *Batch) Check(r *mapping.Reader, s *sheet.Step) bool {
	if len(b.Parts) == 0 {
		r.File.Report(s.At, "write parts: with a list of steps", "the batch has no parts")
	}
	return b.Service != ""
}

// Target names the service.
func (b *Batch) Target() string { return "batch " + b.Service }

// Inner are its parts.
func (b *Batch) Inner() ([]*sheet.Step, *sheet.Sheet) { return b.Parts, nil }

// Results are that of the batch, then one for each part.
func (b *Batch) Results(s *sheet.Step, name string) []result.Planned {
	planned := b.single.Results(s, name)
	for _, part := range b.Parts {
		planned = append(planned, result.Planned{Name: name + ": " + part.Name, Target: part.Target()})
	}
	return planned
}

// Vet looks whether the service takes batches, and whether all parts are for it.
func (b *Batch) Vet(v *Vetting, _ *sheet.Step) {
	service := vetService(v, b.Service, b.At)
	if service == nil {
		return
	}
	if service.Contract == nil {
		v.report(b.At, "give the service its metadata by contract:",
			"a batch is a thing of OData, and %s has no contract", service.Name)
	} else if c, err := v.Sheet.Bench.Offline(service); err == nil && c != nil {
		if odata.Of(c) == nil {
			v.report(b.At, "", "a batch is a thing of OData, and %s is described otherwise", service.Name)
		}
	}
	for _, part := range b.Parts {
		if name, isRequest := serviceOf(part); isRequest && name != b.Service {
			v.report(part.At, "", "the batch is sent to %s, and its part %s is for %q", b.Service, part.Name, name)
		}
	}
}

// serviceOf is the service that a request is made to, "" where it says none; it says no of a step
// that makes none.
func serviceOf(s *sheet.Step) (name string, isRequest bool) {
	switch to := s.Action.(type) {
	case *Call:
		return to.Service, true
	case *Request:
		return to.Service, true
	case *Follow:
		return to.Service, true
	}
	return "", false
}

// Run sends the batch: one result comes of it, and one of each part.
func (b *Batch) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	start := time.Now()
	res := &result.Step{Name: name, Target: s.Target(), About: s.About, Outcome: result.Passed}
	parts := b.send(ctx, row, s, res)
	res.Took = time.Since(start)
	return row.End(s, res.Outcome, append([]*result.Step{res}, parts...)...)
}

// send sends the batch and judges it; it gives what came of the parts, where they were
// answered.
func (b *Batch) send(ctx context.Context, row Row, s *sheet.Step, res *result.Step) []*result.Step {
	fail := func(outcome result.Outcome, reason string) []*result.Step {
		res.Outcome, res.Reason = outcome, reason
		return nil
	}
	at := begin(row, s, res)
	if at == nil {
		return nil
	}
	of := at.session
	sending := &batching{place: at, batch: b, step: s, name: res.Name, numbers: map[string]*document.Node{}}
	defer sending.forgetNumbers()
	if err := sending.plan(ctx); err != nil {
		var broken *session.ContractError
		if errors.As(err, &broken) {
			res.Checks = append(res.Checks,
				result.Check{
					Kind: "contract", Subject: "request", Judged: true,
					Expected: "as the operations are described", Got: err.Error(),
				})
			return fail(result.Failed, "not sent")
		}
		return fail(result.Errored, err.Error())
	}
	res.Context = result.Context{Service: b.Service, Sources: map[string]string{}}
	if at.IsDry() {
		of.ShowLogin(sending.whole)
		at.WouldSend(res, sending.whole.Request, "")
		return nil
	}
	if err := of.Guarded(sending.whole); err != nil {
		return fail(result.Errored, err.Error())
	}
	gathering, logins := session.GatherLogins(ctx)
	sent, err := of.Send(gathering, s, sending.whole, res)
	res.Logins = logins()
	if err != nil {
		res.NotSent(ctx, err)
		return nil
	}
	whole := judge.Case{Session: of, Step: s, Prepared: sending.whole, Scope: at.scope, Names: at.Names()}
	whole.Judge(sent, sending.whole.Read(sent.Record()), res)
	if res.Outcome != result.Passed {
		return nil
	}
	answers, err := odata.ReadBatch(sent.Record().Answer.ContentType(), sent.Record().Answer.Body)
	if err != nil {
		res.Checks = append(res.Checks,
			result.Check{Kind: "expect", Subject: "answer", Judged: true, Expected: "a batch", Got: err.Error()})
		return fail(result.Failed, "")
	}
	return sending.judge(answers, sent.Record())
}

// batching is a batch under way.
type batching struct {
	*place
	batch *Batch
	step  *sheet.Step
	name  string
	whole *session.Prepared
	plans []*session.Prepared
	parts []odata.BatchPart
	// numbers are kept values that are known by the number of their part only, until the batch is answered.
	numbers map[string]*document.Node
}

// forgetNumbers takes out of the kept values what was known by a number only.
func (b *batching) forgetNumbers() {
	for name, number := range b.numbers {
		if b.scope.Kept[name] == number {
			delete(b.scope.Kept, name)
		}
	}
}

func (b *batching) plan(ctx context.Context) error {
	batch := b.batch
	service := b.session.Bench.Service(batch.Service)
	if service == nil {
		return &bench.NotFoundError{What: "service", Name: batch.Service, Known: b.session.Bench.ServiceNames()}
	}
	if service.Contract == nil {
		return fmt.Errorf("a batch is a thing of OData, and %s has no contract", service.Name)
	}
	c, err := b.session.Contract(ctx, service)
	if err != nil {
		return err
	}
	metadata := odata.Of(c)
	if metadata == nil {
		return fmt.Errorf("a batch is a thing of OData, and %s is described otherwise", service.Name)
	}
	address, err := b.session.Address(ctx, service)
	if err != nil {
		return err
	}
	root, err := address.Text(b.scope, value.Address)
	if err != nil {
		return err
	}
	writes := false
	for i, part := range batch.Parts {
		p, err := b.session.Prepare(ctx, part, b.scope, b.Names())
		if err != nil {
			return fmt.Errorf("%s: %w", part.Name, err)
		}
		writes = writes || p.Writes
		id := strconv.Itoa(i + 1)
		b.plans = append(b.plans, p)
		b.parts = append(b.parts, partOf(p, id, strings.TrimSuffix(root.Sent, "/")))
		for _, k := range part.Keep {
			if isMade(k) {
				b.numbers[k.Name] = document.NewUntyped("$" + id) // as the protocol calls it
				b.scope.Kept[k.Name] = b.numbers[k.Name]
			}
		}
	}
	spec := b.step.Spec
	spec.Method, spec.HasBytes = http.MethodPost, true
	if spec.Address, err = session.JoinPath(address, value.Literal("/$batch"), b.scope); err != nil {
		return err
	}
	spec.StayOnRedirect, spec.HTTP, spec.Timeout = b.step.Stay, b.step.HTTP, b.step.Timeout
	contentType := ""
	if batch.JSON {
		contentType, spec.Bytes = odata.WriteJSON(b.parts, batch.Together)
	} else {
		contentType, spec.Bytes = odata.WriteMultipart(b.parts, batch.Together, metadata.IsV2())
	}
	own := []request.Pair{{Name: "Content-Type", Value: request.Fixed(document.NewUntyped(contentType))}}
	if batch.JSON {
		own = append(own, request.Pair{Name: "Accept", Value: request.Fixed(document.NewUntyped("application/json"))})
	}
	spec.Headers = session.MergeHeaders(own, spec.Headers)
	b.whole = &session.Prepared{Service: service, Writes: writes}
	b.session.AddService(b.whole, &spec)
	b.session.ChooseLogins(b.whole, b.step)
	b.whole.Request, err = spec.Build(b.scope)
	return err
}

// partOf writes a planned request as a part, its address below the service's.
func partOf(p *session.Prepared, id, root string) odata.BatchPart {
	part := odata.BatchPart{ID: id, Method: p.Request.Method, Header: p.Request.Header, Body: p.Request.Body}
	address := p.Request.URL.String()
	if match := partAddress().FindStringSubmatch(p.Request.URL.Path); match != nil {
		part.Address = match[1] + match[2]
		return part
	}
	part.Address = strings.TrimPrefix(strings.TrimPrefix(address, root), "/")
	return part
}

// judge holds each answer against its part. A change set that is refused is answered once for
// all of its parts (OData Protocol 4.01, 11.7.7.5).
func (b *batching) judge(answers []odata.BatchAnswer, whole *exchange.Record) []*result.Step {
	var refusal *odata.BatchAnswer
	byID := map[string]*odata.BatchAnswer{}
	for i := range answers {
		switch a := &answers[i]; {
		case a.ID != "":
			byID[a.ID] = a
		case a.Status >= 400:
			refusal = a
		}
	}
	inOrder := len(byID) == 0 && len(answers) == len(b.parts)
	b.forgetNumbers()
	var results []*result.Step
	for i, part := range b.batch.Parts {
		res := &result.Step{
			Name: b.name + ": " + part.Name, Target: part.Target(), About: part.About,
			Outcome: result.Passed,
		}
		results = append(results, res)
		answer := byID[b.parts[i].ID]
		if inOrder {
			answer = &answers[i]
		}
		var notes []string
		if answer == nil && refusal != nil {
			answer, notes = refusal, []string{"the change set was refused as a whole, with one answer"}
		}
		if answer == nil {
			unanswered(res, answers)
			continue
		}
		record := &exchange.Record{
			Request: b.plans[i].Request, Started: whole.Started, Notes: notes,
			Answer: &exchange.Answer{
				Status: answer.Status, Reason: answer.Reason, Proto: whole.Answer.Proto,
				Header: answer.Header, Body: answer.Body, Wire: int64(len(answer.Body)),
			},
		}
		record.Phases.Total = whole.Phases.Total
		res.Exchanges = []*exchange.Record{record}
		res.Context = b.session.ContextOf(part, b.plans[i])
		res.Context.Row = b.Place()
		of := judge.Case{Session: b.session, Step: part, Prepared: b.plans[i], Scope: b.scope, Names: b.Names()}
		of.Judge(&login.Sent{Records: res.Exchanges}, b.plans[i].Read(record), res)
	}
	return results
}

// unanswered says why a part has no answer. It was not run where the batch ended at another
// part, which is judged there; else the service owes the answer.
func unanswered(res *result.Step, answers []odata.BatchAnswer) {
	for _, a := range answers {
		if a.Status >= 400 {
			res.Outcome = result.NotRun
			res.Reason = fmt.Sprintf("the batch ended at an answer %d: %s", a.Status,
				excerpt.Quote(strings.TrimSpace(string(a.Body))))
			return
		}
	}
	res.Outcome, res.Reason = result.Failed, "the service did not answer it"
	res.Checks = append(res.Checks,
		result.Check{Kind: "expect", Subject: "answer", Judged: true, Expected: "an answer to the part", Got: "none"})
}

// partAddress finds what an earlier part makes at the end of an address.
var partAddress = lazy.Regexp(`/(\$[0-9]+)(/.*)?$`)

// isMade says whether a kept value is the address of what a part makes. It is known by the
// number of the part until the batch is answered.
func isMade(k sheet.Keep) bool {
	return k.Filters == nil &&
		(strings.EqualFold(k.Source, "reply.headers.Location") || strings.HasSuffix(k.Source, "@odata.id"))
}
