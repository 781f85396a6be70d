package session

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
)

// RecordETag notes the versions that an answer tells.
func (s *Session) RecordETag(p *Prepared, scope *Values, record *exchange.Record, re *reply.Reply) {
	s.versionsFor(scope).record(p, record, re)
}

// SetIfMatch puts the version that a change is meant for into its request: the one
// that was seen last, else, where the service asks for one, the one that there is now.
func (s *Session) SetIfMatch(ctx context.Context, step *sheet.Step, p *Prepared, scope *Values, result *result.Step) {
	versions := s.versionsFor(scope)
	if p.Operation == nil || !p.Operation.Facts().TakesVersion || p.withoutVersion {
		return
	}
	switch p.Request.GetHeader("If-Match") {
	case "none":
		p.Request.DeleteHeader("If-Match")
		return
	case "":
	default:
		return
	}
	tag := versions.last(p.Request.URL)
	if tag == "" && p.Operation.Facts().Versioned {
		read := p.reading(p.Request.URL)
		sent, err := s.Send(ctx, step, read, result)
		if err != nil || sent.Record().Answer == nil {
			return // the change itself will tell why
		}
		versions.record(p, sent.Record(), p.Read(sent.Record()))
		if tag = versions.last(p.Request.URL); tag != "" {
			p.Notes = append(p.Notes, "read first for its version: "+tag)
		}
	}
	if tag != "" {
		p.Request.SetHeader("If-Match", tag)
	}
}

// reading is a plan that reads an address of the same service.
func (p *Prepared) reading(at *url.URL) *Prepared {
	read := *p
	read.Request = p.Request.Clone()
	read.Request.Method, read.Request.URL = http.MethodGet, at
	read.Request.Body, read.Request.ShownBody, read.Request.ShownURL = nil, "", ""
	for _, name := range []string{"Content-Type", "If-Match", "Prefer"} {
		read.Request.DeleteHeader(name)
	}
	return &read
}

// Read reads the answer of a record as the operation sees it.
func (p *Prepared) Read(record *exchange.Record) *reply.Reply {
	if a := record.Answer; a != nil {
		a.ReadAs = cmp.Or(p.Request.AnswerAs, p.protocolType(a), a.ReadAs)
	}
	re := reply.Read(record)
	if p.Service != nil {
		re.Short = p.Service.Short[p.OperationName()]
	}
	if p.Operation != nil && p.Service.Speaks != "" {
		if err := re.SeeRPC(p.Service.Speaks); err != nil {
			re.Problem = err
		}
		if re.Problem == nil && re.Failed == nil {
			p.tellOutcome(re)
		}
		return re
	}
	if p.Operation != nil && re.Problem == nil && re.Payload != nil {
		re.Payload = p.Operation.Decode(re.Payload)
	}
	p.tellOutcome(re)
	return re
}

// protocolType is the media type of the protocol by which methods are called, where an answer looks like that,
// whatever it says of itself: many services call JSON text. It is empty for others.
func (p *Prepared) protocolType(a *exchange.Answer) string {
	if p.Operation == nil || p.Service == nil || p.Service.Speaks == "" {
		return ""
	}
	mediaType := p.Service.Speaks.ContentType()
	if document.FormatOf(mediaType, nil) != document.Guess(a.Body) {
		return ""
	}
	return mediaType
}

// tellOutcome says of an answer whether it is a success or an error, where the bench says how that is told.
func (p *Prepared) tellOutcome(re *reply.Reply) {
	if p.Service == nil || re.Record == nil || re.Record.Answer == nil {
		return
	}
	told := p.Service.OutcomeOf(p.OperationName())
	if told == nil {
		return
	}
	roots := re.Roots(nil)
	holds := func(c *rule.Condition) bool { return c.Judge(&rule.Data{Roots: roots}).Passed }
	isError := told.Error != nil && holds(told.Error)
	isSuccess := told.Success != nil && holds(told.Success) && !isError
	if told.Error == nil && told.Success == nil { // only where its parts are is said
		isError = re.Record.Answer.Status >= http.StatusBadRequest
	}
	if !isError && (told.Success == nil || isSuccess) {
		re.Decide(nil, isSuccess)
		return
	}
	text := func(at *path.Path) string {
		if at == nil {
			return ""
		}
		found, err := at.Find(roots, nil)
		if err != nil || found.Whole() == nil {
			return ""
		}
		return found.Whole().Value().Text
	}
	failed := &reply.Error{Code: text(told.Code), Text: text(told.Text), Target: text(told.Target)}
	if failed.Code+failed.Text+failed.Target == "" {
		if told.Error == nil && told.Success == nil {
			return
		}
		failed.Text = "the answer is not a success"
	}
	re.Decide(failed, false)
}

// Bounds of what is followed by itself.
const (
	mostWaiting  = time.Minute
	firstWaiting = 100 * time.Millisecond
	mostPause    = 5 * time.Second
)

// WaitFor follows an answer that was put off, as the request allowed by its
// preference (RFC 7240, 4.1; OData 4.01, 11.6), until it is there.
func (s *Session) WaitFor(ctx context.Context, step *sheet.Step, p *Prepared, sent *login.Sent,
	result *result.Step,
) (*login.Sent, error) {
	record := sent.Record()
	if !strings.Contains(p.Request.GetHeader("Prefer"), "respond-async") || record.Answer == nil ||
		record.Answer.Status != http.StatusAccepted {
		return sent, nil
	}
	end := exchange.Now(ctx).Add(mostWaiting)
	pause := firstWaiting
	asked := 0
	for record.Answer != nil && record.Answer.Status == http.StatusAccepted {
		place := record.Answer.Header.Get("Location")
		if place == "" {
			return sent, nil
		}
		at, err := record.Request.URL.Parse(place)
		if err != nil || exchange.Origin(at) != exchange.Origin(p.Request.URL) {
			p.Notes = append(p.Notes,
				"the answer was put off, and is to be had at "+place+", which is another host and not asked")
			return sent, nil
		}
		if after := s.RetryAfter(record); after > 0 {
			pause = min(after, mostPause)
		}
		if exchange.Now(ctx).Add(pause).After(end) {
			p.Notes = append(p.Notes, fmt.Sprintf("the answer was put off, and was not there after %s", mostWaiting))
			return sent, nil
		}
		if err := exchange.Sleep(ctx, pause); err != nil {
			return sent, err
		}
		pause = min(pause*2, mostPause)
		asked++
		if sent, err = s.Send(ctx, step, p.reading(at), result); err != nil {
			return sent, err
		}
		record = sent.Record()
	}
	unwrap(record)
	p.Notes = append(p.Notes, fmt.Sprintf("the response came later: polled %s", HowOften(asked)))
	return sent, nil
}

// HowOften writes a number of times: once, 3 times.
func HowOften(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// unwrap puts the answer that was waited for in place of the one that carries it.
func unwrap(record *exchange.Record) {
	a := record.Answer
	if a == nil {
		return
	}
	if status, err := strconv.Atoi(a.Header.Get("AsyncResult")); err == nil {
		a.Status, a.Reason = status, http.StatusText(status)
		return
	}
	if strings.HasPrefix(a.ContentType(), "application/http") {
		if inner, err := readHTTP(a.Body, record.Request.Method); err == nil {
			inner.Proto, inner.Wire = a.Proto, a.Wire
			record.Answer = inner
		}
	}
}

// readHTTP reads an answer that is inside another.
func readHTTP(data []byte, method string) (*exchange.Answer, error) {
	response, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(data)), &http.Request{Method: method})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil && len(body) == 0 {
		return nil, err
	}
	_, reason, _ := strings.Cut(response.Status, " ")
	return &exchange.Answer{
		Status: response.StatusCode, Reason: reason, Proto: response.Proto, Header: response.Header,
		Body: body, Wire: int64(len(body)),
	}, nil
}

// Pages reads the pages that follow an answer, as many as the step wants, and
// puts what they list together. It goes to no other host, and to no page twice.
func (s *Session) Pages(ctx context.Context, step *sheet.Step, p *Prepared, sent *login.Sent, re *reply.Reply,
	result *result.Step,
) (*login.Sent, *reply.Reply) {
	if step.Pages < 2 || re.Problem != nil {
		return sent, re
	}
	seen := map[string]bool{p.Request.URL.String(): true}
	first := re
	for page := 1; ; page++ {
		next := nextPage(re)
		if next == "" {
			if page > 1 {
				p.Notes = append(p.Notes, fmt.Sprintf("%d pages were read", page))
			}
			break
		}
		at, err := re.Record.Request.URL.Parse(next)
		stop := ""
		switch {
		case page == step.Pages:
			stop = fmt.Sprintf("%d pages were read; there are more", page)
		case err != nil:
			stop = fmt.Sprintf("the next page is at %q, which is not an address", next)
		case exchange.Origin(at) != exchange.Origin(p.Request.URL):
			stop = "the next page is at " + exchange.Origin(at) + ", which is another host and not asked"
		case seen[at.String()]:
			stop = "the next page was read already: the links go round in a circle"
		}
		if stop == "" {
			seen[at.String()] = true
			more, err := s.Send(ctx, step, p.reading(at), result)
			if err != nil || more.Record().Answer == nil || more.Record().Answer.Status != http.StatusOK {
				stop = fmt.Sprintf("page %d could not be read", page+1)
				if err == nil && more.Record().Answer != nil {
					sent, re = more, p.Read(more.Record())
				}
			} else {
				sent, re = more, p.Read(more.Record())
				join(first, re)
				continue
			}
		}
		p.Notes = append(p.Notes, stop)
		break
	}
	if re.Record.Answer != nil && re.Record.Answer.Status == http.StatusOK {
		re.Payload = first.Payload
	}
	return sent, re
}

// nextPage is where the next page is said to be: a next link of OData, or a link
// of RFC 8288.
func nextPage(re *reply.Reply) string {
	for _, name := range []string{"@odata.nextLink", "@nextLink"} {
		if link := re.Payload.Get(name); link != nil {
			return link.Text
		}
	}
	if re.Record.Answer == nil {
		return ""
	}
	for _, field := range re.Record.Answer.Header.Values("Link") {
		for link := range strings.SplitSeq(field, ",") {
			target, parameters, ok := strings.Cut(strings.TrimSpace(link), ">")
			if ok && strings.HasPrefix(target, "<") && slices.ContainsFunc(strings.Split(parameters, ";"),
				func(p string) bool {
					name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
					return strings.EqualFold(name,
						"rel") && slices.Contains(strings.Fields(strings.Trim(value, `"`)), "next")
				}) {
				return target[1:]
			}
		}
	}
	return ""
}

// join puts what a page lists after what the first one does.
func join(first, page *reply.Reply) {
	whole, more := first.Payload, page.Payload
	if whole.Kind == document.List && more.Kind == document.List {
		first.Payload = document.NewList(slices.Concat(whole.Items(), more.Items())...)
		return
	}
	list, added := whole.Get("value"), more.Get("value")
	if list == nil || added == nil {
		return
	}
	joined := document.NewObject()
	for _, m := range whole.Members() {
		switch m.Key {
		case "value":
			joined.Set("value", document.NewList(slices.Concat(list.Items(), added.Items())...))
		case "@odata.nextLink", "@nextLink":
		default:
			joined.Set(m.Key, m.Value)
		}
	}
	for _, name := range []string{"@odata.nextLink", "@nextLink"} {
		if link := more.Get(name); link != nil {
			joined.Set(name, link)
		}
	}
	first.Payload = joined
}
