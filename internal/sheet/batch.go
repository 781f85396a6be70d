package sheet

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/contract/odata"
	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Batch is several requests that a step sends as one.
type Batch struct {
	Service  string
	JSON     bool // in JSON, not as multipart/mixed
	Together bool // changes are done as a whole or not at all
	Parts    []*Step

	at *yamlfile.Node
}

// batchKeys belong to a step; what reads the parts is set below, for steps hold
// steps.
var batchKeys = []key[Step]{
	{"batch", "a service: the parts are sent to it as one request", func(r *reader, s *Step, n *yamlfile.Node) {
		s.batch().Service, s.Batch.at = r.plainText(n), n
	}},
	{"as", "of a batch: multipart or json", func(r *reader, s *Step, n *yamlfile.Node) {
		s.batch().JSON = r.choice(n, "form of a batch", "multipart", "json") == "json"
	}},
	{"together", "of a batch: true where its changes are done as a whole or not at all", func(r *reader, s *Step, n *yamlfile.Node) {
		s.batch().Together = r.yes(n)
	}},
}

func (s *Step) batch() *Batch {
	if s.Batch == nil {
		s.Batch = &Batch{}
	}
	return s.Batch
}

func init() {
	stepKeys = append(stepKeys, batchKeys...)
	for i := range stepKeys {
		if stepKeys[i].name != "parts" {
			continue
		}
		ofBody := stepKeys[i].read
		stepKeys[i].holds = "parts of a multipart body; of a batch, steps"
		stepKeys[i].read = func(r *reader, s *Step, n *yamlfile.Node) {
			if s.at.Get("batch") == nil {
				ofBody(r, s, n)
				return
			}
			s.batch().Parts = r.steps(n)
			for _, part := range s.Batch.Parts {
				if part.Call == "" && part.Request == nil && part.Follow == nil || part.Batch != nil {
					r.file.Report(part.at, "", "a part of a batch is a call, a request, or follows a place")
				}
				for _, e := range part.at.Entries {
					if !slices.Contains(ofPart, e.Key.Text) && slices.ContainsFunc(stepKeys, func(k key[Step]) bool { return k.name == e.Key.Text }) {
						r.file.Report(e.Key, "put it at the batch as a whole, or make a step of the part", "a part of a batch has no %s", e.Key.Text)
					}
				}
			}
		}
	}
}

// finishBatch checks what only the whole step can tell.
func (r *reader) finishBatch(s *Step) {
	if len(s.Batch.Parts) == 0 {
		r.file.Report(s.at, "write parts: with a list of steps", "the batch has no parts")
	}
}

// vetBatch checks the service of a batch.
func (s *Sheet) vetBatch(b *Bench, batch *Batch) {
	service := b.Service(batch.Service)
	if service == nil {
		s.reader().notThere(batch.at, "service", batch.Service, b.ServiceNames())
		return
	}
	if service.Contract == nil {
		s.file.Report(batch.at, "give the service its metadata by contract:", "a batch is a thing of OData, and %s has no contract", service.Name)
	} else if c, err := b.offline(service); err == nil && c != nil {
		if _, ok := c.Description.(*odata.Contract); !ok {
			s.file.Report(batch.at, "", "a batch is a thing of OData, and %s is described otherwise", service.Name)
		}
	}
	for _, part := range batch.Parts {
		name, _, _ := strings.Cut(part.Call, "/")
		if part.Request != nil {
			name = part.Request.service
		} else if part.Follow != nil {
			name = part.Service
		}
		if name != batch.Service {
			s.file.Report(part.at, "", "the batch is sent to %s, and its part %s is for %q", batch.Service, part.Name, name)
		}
	}
}

// placeForm finds the mark of an earlier part in an address.
var placeForm = regexp.MustCompile(`/(\$[0-9]+)(/.*)?$`)

// place is what an earlier part of a batch will have made: the protocol calls it
// $1. It is known by that name until the batch is answered.
func place(id string) *document.Node { return document.NewUntyped("$" + id) }

// isPlace says whether a kept value is the address of what a part makes.
func isPlace(k Keep) bool {
	return k.Filters == nil && (strings.EqualFold(k.Source, "reply.headers.Location") || strings.HasSuffix(k.Source, "@odata.id"))
}

// batchStep runs a batch: one result for it, and one for each part.
func (x *rowRun) batchStep(ctx context.Context, step *Step) []*StepResult {
	start := time.Now()
	result := &StepResult{Name: step.Name, Target: "batch " + step.Batch.Service, About: step.About, Outcome: Held}
	defer func() { result.Took = time.Since(start) }()
	fail := func(outcome Outcome, reason string) []*StepResult {
		result.Outcome, result.Reason = outcome, reason
		return []*StepResult{result}
	}
	session, err := x.session.at(step.Site)
	if err != nil {
		return fail(Faulty, err.Error())
	}
	scope := x.scope(session)
	b := &batching{session: session, step: step, sheet: x.sheet, scope: scope}
	if err := b.plan(ctx); err != nil {
		var broken *ContractError
		if errors.As(err, &broken) {
			result.Checks = append(result.Checks, Check{Kind: "contract", Subject: "request", Judged: true, Wanted: "as the operations are described", Got: err.Error()})
			return fail(FellShort, "not sent")
		}
		return fail(Faulty, err.Error())
	}
	result.Context = Context{Service: step.Batch.Service, Sources: map[string]string{}}
	if x.options.Dry {
		session.showLogin(b.whole)
		x.wouldSend(result, b.whole.request, "")
		return []*StepResult{result}
	}
	if err := session.guarded(b.whole); err != nil {
		return fail(Faulty, err.Error())
	}
	logins := &asked{}
	sent, err := session.send(context.WithValue(ctx, askedKey{}, logins), step, b.whole, result)
	result.Logins = logins.take()
	if err != nil {
		return fail(Unreachable, err.Error())
	}
	session.judge(step, b.whole, scope, x.sheet.Names, sent, b.whole.read(sent.Record()), result)
	if result.Outcome != Held {
		return []*StepResult{result}
	}
	answers, err := odata.ReadBatch(sent.Record().Answer.ContentType(), sent.Record().Answer.Body)
	if err != nil {
		result.Checks = append(result.Checks, Check{Kind: "expect", Subject: "answer", Judged: true, Wanted: "a batch", Got: err.Error()})
		return fail(FellShort, "")
	}
	return append([]*StepResult{result}, b.judge(answers, sent.Record(), x.row.Number)...)
}

// batching is a batch under way.
type batching struct {
	session *Session
	step    *Step
	sheet   *Sheet
	scope   *Scope
	whole   *plan
	plans   []*plan
	parts   []odata.BatchPart
}

func (b *batching) plan(ctx context.Context) error {
	batch := b.step.Batch
	service := b.session.Bench.Service(batch.Service)
	if service == nil {
		return &NotFoundError{"service", batch.Service, b.session.Bench.ServiceNames()}
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
	address, err := b.session.serverOf(service, metadata.Head())
	if err != nil {
		return err
	}
	root, err := address.Text(b.scope, value.Address)
	if err != nil {
		return err
	}
	writes := false
	for i, part := range batch.Parts {
		p, err := b.session.plan(ctx, part, b.scope, b.sheet.Names)
		if err != nil {
			return fmt.Errorf("%s: %w", part.Name, err)
		}
		writes = writes || p.writes
		id := strconv.Itoa(i + 1)
		b.plans = append(b.plans, p)
		b.parts = append(b.parts, partOf(p, id, strings.TrimSuffix(root.Sent, "/")))
		for _, k := range part.Keep {
			if isPlace(k) {
				b.scope.kept[k.Name] = place(id)
			}
		}
	}
	spec := b.step.Spec
	spec.Method, spec.Address, spec.HasBytes = http.MethodPost, behind(address, value.Literal("/$batch")), true
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
	spec.Headers = under(own, spec.Headers)
	b.whole = &plan{service: service, writes: writes}
	b.session.addService(b.whole, &spec)
	b.session.chooseLogins(b.whole, b.step)
	b.whole.request, err = spec.Build(b.scope)
	return err
}

// partOf writes a planned request as a part, its address below the service's.
func partOf(p *plan, id, root string) odata.BatchPart {
	part := odata.BatchPart{ID: id, Method: p.request.Method, Header: p.request.Header, Body: p.request.Body}
	address := p.request.URL.String()
	if match := placeForm.FindStringSubmatch(unescaped(p.request.URL)); match != nil {
		part.Address = match[1] + match[2]
		return part
	}
	part.Address = strings.TrimPrefix(strings.TrimPrefix(address, root), "/")
	return part
}

func unescaped(u *url.URL) string { return u.Path }

// judge holds each answer against its part. One answer may stand for a whole
// change set that was refused.
func (b *batching) judge(answers []odata.BatchAnswer, whole *exchange.Record, number int) []*StepResult {
	byID := map[string]*odata.BatchAnswer{}
	for i := range answers {
		if answers[i].ID != "" {
			byID[answers[i].ID] = &answers[i]
		}
	}
	inOrder := len(byID) == 0 && len(answers) == len(b.parts)
	var results []*StepResult
	for i, part := range b.step.Batch.Parts {
		result := &StepResult{Name: b.step.Name + ": " + part.Name, Target: part.target(), About: part.About, Outcome: Held}
		results = append(results, result)
		answer := byID[b.parts[i].ID]
		if inOrder {
			answer = &answers[i]
		}
		if answer == nil {
			result.Outcome, result.Reason = NotRun, b.unanswered(answers)
			for _, k := range part.Keep {
				delete(b.scope.kept, k.Name)
			}
			continue
		}
		for _, k := range part.Keep {
			delete(b.scope.kept, k.Name) // it stood for what is known now
		}
		record := &exchange.Record{Request: b.plans[i].request, Started: whole.Started, Answer: &exchange.Answer{Status: answer.Status, Reason: answer.Reason,
			Proto: whole.Answer.Proto, Header: answer.Header, Body: answer.Body, Wire: int64(len(answer.Body))}}
		record.Phases.Total = whole.Phases.Total
		result.Exchanges = []*exchange.Record{record}
		result.Context = b.session.context(part, b.plans[i])
		re := b.plans[i].read(record)
		b.session.judge(part, b.plans[i], b.scope, b.sheet.Names, &login.Sent{Records: result.Exchanges}, re, result)
		if b.sheet.Rows != nil && number > 0 {
			result.Context.Row = fmt.Sprintf("%s row %d", b.sheet.Rows.From, number)
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
