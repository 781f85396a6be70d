package contract

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
)

// Got is what came back, as far as a contract judges it.
type Got struct {
	Status  int
	Header  http.Header
	Empty   bool           // there is no body
	What    string         // what the body is, in a few words
	Message *soap.Message  // nil where it is not an envelope
	Body    *document.Node // nil where it could not be read
	Lines   bool           // the body is a list of values that came a line each
}

// AnswerFor finds what is said of a status: by itself, by its class, or by default
// (OpenAPI 3.1.0, 4.8.16); nil where nothing is.
func (o *Endpoint) AnswerFor(status int) *Answer {
	var class, fallback *Answer
	for i, a := range o.Answers {
		switch {
		case a.Status == fmt.Sprint(status):
			return &o.Answers[i]
		case strings.EqualFold(a.Status, fmt.Sprintf("%dXX", status/100)):
			class = &o.Answers[i]
		case a.Status == "default":
			fallback = &o.Answers[i]
		}
	}
	if class != nil {
		return class
	}
	return fallback
}

// Judge holds an answer against the operation.
func (o *Endpoint) Judge(got Got) Judgement {
	if len(o.Answers) == 0 {
		return Judgement{}
	}
	return Judgement{Judged: true, Wrong: wrongIn(o, got)}
}

func wrongIn(o *Endpoint, got Got) []string {
	a := o.AnswerFor(got.Status)
	if a == nil {
		var statuses []string
		for _, one := range o.Answers {
			statuses = append(statuses, one.Status)
		}
		return []string{fmt.Sprintf("the status %d is not described; described are %s", got.Status,
			strings.Join(statuses, ", "))}
	}
	var out []string
	for _, h := range a.Headers {
		out = append(out, h.judge(got.Header)...)
	}
	return append(out, a.judgeBody(got)...)
}

// judge holds a header of an answer against its description.
func (p *Parameter) judge(header http.Header) []string {
	values := header.Values(p.Wire)
	if strings.EqualFold(p.Wire, "Content-Type") {
		return nil // what is said of it stands with the body (OpenAPI 3.1.0, 4.8.17)
	}
	switch {
	case len(values) == 0 && p.Required:
		return []string{"the header " + p.Wire + " is missing"}
	case len(values) == 0 || p.Schema == nil:
		return nil
	}
	text := strings.Join(values, ",")
	_, short := p.Schema.Fill(document.NewUntyped(text))
	if len(short) > 0 {
		// A list stands with commas between.
		list := document.NewList()
		for item := range strings.SplitSeq(text, ",") {
			list.AppendItems(document.NewUntyped(strings.TrimSpace(item)))
		}
		if _, none := p.Schema.Fill(list); len(none) == 0 {
			return nil
		}
	}
	var out []string
	for _, s := range short {
		out = append(out, strings.Join(strings.Fields("the header "+p.Wire+" "+s.Path+" "+s.Message), " "))
	}
	return out
}

func (a *Answer) judgeBody(got Got) []string {
	if len(a.Contents) == 0 || got.Status == http.StatusNotModified {
		return nil
	}
	mediaType := got.Header.Get("Content-Type")
	var types []string
	for _, c := range a.Contents {
		types = append(types, c.Type)
	}
	if got.Empty {
		if got.Status == http.StatusNoContent || got.Status == http.StatusAccepted && a.Status != "202" {
			return nil
		}
		return []string{fmt.Sprintf("the answer is empty, and %s is declared for %s", strings.Join(types, " or "),
			a.Status)}
	}
	at := slices.IndexFunc(a.Contents, func(c Content) bool { return c.Type == "" || MatchesType(c.Type, mediaType) })
	if at < 0 {
		if mediaType == "" {
			mediaType = "(none)"
		}
		return []string{fmt.Sprintf("the content type %s is not described for %s; described are %s", mediaType,
			a.Status,
			strings.Join(types, ", "))}
	}
	c := a.Contents[at]
	if c.Schema == nil || got.Body == nil {
		return nil
	}
	var out []string
	for _, fault := range c.faults(got) {
		if fault.Path == "" {
			fault.Message = "the body " + fault.Message
		}
		out = append(out, fault.Text())
	}
	return out
}

// faults holds a body against the schema. Of values a line each it is that of all as a list (OpenAPI 3.2.0, Sequential
// Media Types), or that of one, as descriptions of earlier versions have it; where it names no kind, both have to hold.
func (c *Content) faults(got Got) []schema.Fault {
	if !got.Lines || len(got.Body.Items()) == 0 {
		return c.Schema.Check(got.Body)
	}
	var kinds []string
	if shaped, ok := c.Schema.(schema.Shaped); ok {
		kinds = shaped.Shape().Kinds
	}
	if slices.Contains(kinds, "list") {
		return c.Schema.Check(got.Body)
	}
	var out []schema.Fault
	if len(kinds) == 0 {
		out = c.Schema.Check(got.Body)
	}
	for i, item := range got.Body.Items() {
		for _, fault := range c.Schema.Check(item) {
			out = append(out, within(fmt.Sprintf("[%d]", i), fault))
		}
	}
	return out
}

// within is a fault of a part as one of the whole.
func within(part string, fault schema.Fault) schema.Fault {
	at := part
	if fault.Path != "" && fault.Path[0] != '[' {
		at += "."
	}
	if fault.Path != "" && strings.HasPrefix(fault.Message, fault.Path+" ") {
		fault.Message = at + fault.Message
	}
	fault.Path = at + fault.Path
	return fault
}

// Faults holds a body against what the operation says of the body of a status, or
// of its request (status 0).
func (o *Endpoint) Faults(status int, body *document.Node) ([]schema.Fault, error) {
	var contents []Content
	switch {
	case status == 0 && o.Body != nil:
		contents = o.Body.Contents
	case status != 0:
		a := o.AnswerFor(status)
		if a == nil {
			return nil, fmt.Errorf("%s declares no answer of status %d", o.Name, status)
		}
		contents = a.Contents
	}
	for _, c := range contents {
		isXML := body.Kind == document.Element
		if c.Schema != nil && (isXML == (document.FormatOf(c.Type, nil) == document.XML) || c.Type == "") {
			return c.Schema.Check(body), nil
		}
	}
	return nil, fmt.Errorf("%s says nothing of such a body", o.Name)
}
