package run

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/contract/odata"
	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// batchStep runs a batch: one result for it, and one for each part.
func (x *rowRun) batchStep(ctx context.Context, step *sheet.Step) []*result.Step {
	start := time.Now()
	res := &result.Step{Name: step.Name, Target: "batch " + step.Batch.Service, About: step.About, Outcome: result.Held}
	defer func() { res.Took = time.Since(start) }()
	fail := func(outcome result.Outcome, reason string) []*result.Step {
		res.Outcome, res.Reason = outcome, reason
		return []*result.Step{res}
	}
	sess, err := x.session.At(step.Site)
	if err != nil {
		return fail(result.Faulty, err.Error())
	}
	scope := x.scope(sess)
	b := &batching{session: sess, step: step, sheet: x.sheet, scope: scope}
	if err := b.plan(ctx); err != nil {
		var broken *session.ContractError
		if errors.As(err, &broken) {
			res.Checks = append(res.Checks, result.Check{Kind: "contract", Subject: "request", Judged: true, Wanted: "as the operations are described", Got: err.Error()})
			return fail(result.FellShort, "not sent")
		}
		return fail(result.Faulty, err.Error())
	}
	res.Context = result.Context{Service: step.Batch.Service, Sources: map[string]string{}}
	if x.options.Dry {
		sess.ShowLogin(b.whole)
		x.wouldSend(res, b.whole.Request, "")
		return []*result.Step{res}
	}
	if err := sess.Guarded(b.whole); err != nil {
		return fail(result.Faulty, err.Error())
	}
	gathering, logins := session.GatherLogins(ctx)
	sent, err := sess.Send(gathering, step, b.whole, res)
	res.Logins = logins()
	if err != nil {
		return fail(result.Unreachable, err.Error())
	}
	whole := judge.Case{Session: sess, Step: step, Prepared: b.whole, Scope: scope, Names: x.sheet.Names}
	whole.Judge(sent, b.whole.Read(sent.Record()), res)
	if res.Outcome != result.Held {
		return []*result.Step{res}
	}
	answers, err := odata.ReadBatch(sent.Record().Answer.ContentType(), sent.Record().Answer.Body)
	if err != nil {
		res.Checks = append(res.Checks, result.Check{Kind: "expect", Subject: "answer", Judged: true, Wanted: "a batch", Got: err.Error()})
		return fail(result.FellShort, "")
	}
	return append([]*result.Step{res}, b.judge(answers, sent.Record(), x.row.Number)...)
}

// batching is a batch under way.
type batching struct {
	session *session.Session
	step    *sheet.Step
	sheet   *sheet.Sheet
	scope   *session.Values
	whole   *session.Prepared
	plans   []*session.Prepared
	parts   []odata.BatchPart
}

func (b *batching) plan(ctx context.Context) error {
	batch := b.step.Batch
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
	metadata, ok := c.Description.(*odata.Contract)
	if !ok {
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
		p, err := b.session.Prepare(ctx, part, b.scope, b.sheet.Names)
		if err != nil {
			return fmt.Errorf("%s: %w", part.Name, err)
		}
		writes = writes || p.Writes
		id := strconv.Itoa(i + 1)
		b.plans = append(b.plans, p)
		b.parts = append(b.parts, partOf(p, id, strings.TrimSuffix(root.Sent, "/")))
		for _, k := range part.Keep {
			if sheet.IsPlace(k) {
				b.scope.Kept[k.Name] = sheet.Place(id)
			}
		}
	}
	spec := b.step.Spec
	spec.Method, spec.Address, spec.HasBytes = http.MethodPost, session.JoinPath(address, value.Literal("/$batch")), true
	spec.StayOnRedirect, spec.HTTP = b.step.Stay, b.step.HTTP
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
	spec.Headers = session.MergeDefaults(own, spec.Headers)
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
	if match := sheet.PlaceForm.FindStringSubmatch(unescaped(p.Request.URL)); match != nil {
		part.Address = match[1] + match[2]
		return part
	}
	part.Address = strings.TrimPrefix(strings.TrimPrefix(address, root), "/")
	return part
}

func unescaped(u *url.URL) string { return u.Path }

// judge holds each answer against its part. One answer may stand for a whole
// change set that was refused.
func (b *batching) judge(answers []odata.BatchAnswer, whole *exchange.Record, number int) []*result.Step {
	byID := map[string]*odata.BatchAnswer{}
	for i := range answers {
		if answers[i].ID != "" {
			byID[answers[i].ID] = &answers[i]
		}
	}
	inOrder := len(byID) == 0 && len(answers) == len(b.parts)
	var results []*result.Step
	for i, part := range b.step.Batch.Parts {
		res := &result.Step{Name: b.step.Name + ": " + part.Name, Target: session.TargetOf(part), About: part.About, Outcome: result.Held}
		results = append(results, res)
		answer := byID[b.parts[i].ID]
		if inOrder {
			answer = &answers[i]
		}
		if answer == nil {
			res.Outcome, res.Reason = result.NotRun, b.unanswered(answers)
			for _, k := range part.Keep {
				delete(b.scope.Kept, k.Name)
			}
			continue
		}
		for _, k := range part.Keep {
			delete(b.scope.Kept, k.Name) // it stood for what is known now
		}
		record := &exchange.Record{Request: b.plans[i].Request, Started: whole.Started, Answer: &exchange.Answer{Status: answer.Status, Reason: answer.Reason,
			Proto: whole.Answer.Proto, Header: answer.Header, Body: answer.Body, Wire: int64(len(answer.Body))}}
		record.Phases.Total = whole.Phases.Total
		res.Exchanges = []*exchange.Record{record}
		res.Context = b.session.ContextOf(part, b.plans[i])
		re := b.plans[i].Read(record)
		of := judge.Case{Session: b.session, Step: part, Prepared: b.plans[i], Scope: b.scope, Names: b.sheet.Names}
		of.Judge(&login.Sent{Records: res.Exchanges}, re, res)
		if b.sheet.Rows != nil && number > 0 {
			res.Context.Row = fmt.Sprintf("%s row %d", b.sheet.Rows.From, number)
		}
	}
	return results
}

// unanswered says why a part has no answer of its own.
func (b *batching) unanswered(answers []odata.BatchAnswer) string {
	for _, a := range answers {
		if a.Status >= 400 {
			return fmt.Sprintf("the service did not answer it: the batch ended, or its change set was undone, at an answer %d: %s", a.Status, excerpt.Quote(strings.TrimSpace(string(a.Body))))
		}
	}
	return "the service did not answer it"
}
