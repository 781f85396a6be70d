package simulation

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/rule"
	"testbench/internal/schema"
)

// httpCalls are the operations of a description, by their methods and paths.
type httpCalls struct {
	format string // of the description
	routes []*route
	prefix string // of the paths, by the contract's own address
}

func newHTTPCalls(d contract.Description) *httpCalls {
	c := &httpCalls{format: d.Head().Format}
	if servers := d.Head().Servers; len(servers) > 0 {
		if u, err := url.Parse(servers[0].Address); err == nil {
			c.prefix = strings.TrimSuffix(u.Path, "/")
		}
	}
	for _, name := range d.Names() {
		if op, err := d.Operation(name); err == nil && op != nil {
			c.routes = append(c.routes, newRoute(op))
		}
	}
	slices.SortStableFunc(c.routes, func(a, b *route) int { return b.literal - a.literal })
	return c
}

func (c *httpCalls) operations() []string {
	var names []string
	for _, one := range c.routes {
		names = append(names, one.op.Name)
	}
	return names
}

func (c *httpCalls) isContract(r *http.Request) bool {
	switch name := path.Base(r.URL.Path); name {
	case "$metadata":
		return strings.HasPrefix(c.format, "OData")
	case "openapi.json", "openapi.yaml":
		return strings.HasPrefix(c.format, "OpenAPI")
	}
	return false
}

func (c *httpCalls) at(text, _ string) string { return text }

// route is an operation with what its paths look like.
type route struct {
	op      *contract.Endpoint
	pattern *regexp.Regexp
	names   []string
	literal int // how much of the path is not a parameter: the most goes first
}

// inPath are the values of the parameters in a path, by their names.
func (r *route) inPath(values []string) map[string]string {
	out := map[string]string{}
	for i, name := range r.names[:min(len(r.names), len(values))] {
		if text, err := url.PathUnescape(values[i]); err == nil {
			out[name] = text
		}
	}
	return out
}

func newRoute(op *contract.Endpoint) *route {
	r := &route{op: op, literal: len(contract.FillPath(strings.TrimSuffix(op.Path, "/"), map[string]string{}))}
	r.pattern, r.names = contract.PathPattern(op.Path)
	return r
}

// answer answers a call of a description.
func (c *httpCalls) answer(s *Service, w http.ResponseWriter, r *http.Request, body []byte, asked *Asked) {
	where, method := strings.TrimPrefix(r.URL.EscapedPath(), c.prefix), c.method(r)
	var found *route
	var values []string
	var allowed []string
	for _, one := range c.routes {
		match := one.pattern.FindStringSubmatch(where)
		if match == nil || match[0] != where {
			continue
		}
		allowed = append(allowed, one.op.Method)
		if one.op.Method == method && found == nil {
			found, values = one, match[1:]
		}
	}
	switch {
	case found == nil && len(allowed) > 0:
		w.Header().Set("Allow", strings.Join(slices.Compact(allowed), ", "))
		c.refuse(w, http.StatusMethodNotAllowed, []string{r.Method + " is not what the contract has here"}, asked)
		return
	case found == nil:
		c.refuse(w, http.StatusNotFound, []string{"the contract has no " + where}, asked)
		return
	}
	op := found.op
	asked.Operation = op.Name
	fields, wrong, status := op.Receive(&contract.Received{
		Path: found.inPath(values), Query: r.URL.Query(),
		Header: r.Header, Body: body, IsKind: rule.IsKind,
	})
	if len(wrong) > 0 {
		c.refuse(w, status, wrong, asked)
		return
	}
	said := s.scripted(op.Name, fields, asked)
	if said != nil {
		s.options.Wait(r, said.After)
	}
	c.say(w, op, fields, said)
}

// refuse tells what is wrong with a request.
func (c *httpCalls) refuse(w http.ResponseWriter, status int, wrong []string, asked *Asked) {
	asked.Wrong = wrong
	mediaType, body := c.errorBody(status, strings.Join(wrong, "; "))
	text, _ := json.Marshal(body)
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_, _ = w.Write(append(text, '\n'))
}

// say answers with what the script says, else with a sample.
func (c *httpCalls) say(w http.ResponseWriter, op *contract.Endpoint, fields *document.Node, said *Saying) {
	status, answer := goodAnswer(op)
	if said != nil && said.Status != 0 {
		status = said.Status
		answer = op.AnswerFor(status)
	}
	var body *document.Node
	mediaType := ""
	if answer != nil {
		for _, h := range answer.Headers {
			if h.Required && h.Schema != nil {
				w.Header().Set(h.Wire, h.Schema.Sample(schema.SampleOptions{}).Root.Text)
			}
		}
		if len(answer.Contents) > 0 {
			content := answer.Contents[0]
			mediaType = strings.Replace(strings.Replace(content.Type, "*/*", "application/json", 1), "/*", "/plain", 1)
			switch {
			case content.Schema != nil:
				body = c.counted(fields, content.Schema.Sample(schema.SampleOptions{Optional: true}).Root)
				if status < 300 {
					echo(body, fields, func(body *document.Node) bool { return len(content.Schema.Check(body)) == 0 })
				}
			case strings.HasPrefix(mediaType, "text/plain"):
				body = document.NewUntyped("1") // a number is a text too, and a count is nothing else
			}
		}
	}
	if said != nil {
		for name, text := range said.Headers {
			w.Header().Set(name, text)
		}
		switch {
		case said.Body != nil && body != nil && body.Kind == document.Object:
			body = over(body, said.Body)
		case said.Body != nil:
			body = said.Body
		case said.Text != "":
			if mediaType == "" {
				mediaType = "text/plain; charset=utf-8"
			}
			w.Header().Set("Content-Type", mediaType)
			w.WriteHeader(status)
			_, _ = io.WriteString(w, said.Text)
			return
		}
	}
	if body == nil {
		w.WriteHeader(status)
		return
	}
	if op.EncodeAnswer != nil && status < 300 {
		body = op.EncodeAnswer(body)
	}
	if mediaType == "" {
		mediaType = "application/json"
	}
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", mediaType)
	}
	w.WriteHeader(status)
	if body.IsScalar() && strings.HasPrefix(mediaType, "text/") {
		_, _ = io.WriteString(w, body.Text)
		return
	}
	if body.Kind == document.Element {
		document.Declare(body)
		_, _ = io.WriteString(w, document.WriteXML(body, document.Style{}))
		return
	}
	_, _ = io.WriteString(w, document.WriteJSON(body, document.Style{})+"\n")
}

// goodAnswer is the first answer of success that holds something, or else the first.
func goodAnswer(op *contract.Endpoint) (int, *contract.Answer) {
	first, best := 0, (*contract.Answer)(nil)
	for i := range op.Answers {
		a := &op.Answers[i]
		status := 0
		switch _, err := fmt.Sscanf(a.Status, "%d", &status); {
		case strings.EqualFold(a.Status, "2XX"), a.Status == "default" && best == nil:
			status = http.StatusOK
		case err != nil || status < 200 || status > 299:
			continue
		}
		if best == nil || len(best.Contents) == 0 && len(a.Contents) > 0 {
			first, best = status, a
		}
	}
	if best == nil {
		return http.StatusOK, nil
	}
	return first, best
}
