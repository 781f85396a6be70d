package simulation

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/rule"
	"testbench/internal/schema"
)

// rest answers a call of a description.
func (s *Service) rest(w http.ResponseWriter, r *http.Request, body []byte, asked *Asked) {
	where, method := strings.TrimPrefix(r.URL.EscapedPath(), s.prefix), s.method(r)
	var found *route
	var values []string
	var allowed []string
	for _, one := range s.routes {
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
		s.refuse(w, http.StatusMethodNotAllowed, []string{r.Method + " is not what the contract has here"}, asked)
		return
	case found == nil:
		s.refuse(w, http.StatusNotFound, []string{"the contract has no " + where}, asked)
		return
	}
	op := found.op
	asked.Operation = op.Name
	fields, wrong, status := op.Receive(&contract.Received{Path: found.inPath(values), Query: r.URL.Query(), Header: r.Header, Body: body, IsKind: rule.IsKind})
	if len(wrong) > 0 {
		s.refuse(w, status, wrong, asked)
		return
	}
	said := s.scripted(op.Name, fields, asked)
	if said != nil {
		s.options.Wait(r, said.After)
	}
	s.sayREST(w, op, fields, said)
}

// refuse tells what is wrong with a request.
func (s *Service) refuse(w http.ResponseWriter, status int, wrong []string, asked *Asked) {
	asked.Wrong = wrong
	mediaType, body := s.errorBody(status, strings.Join(wrong, "; "))
	text, _ := json.Marshal(body)
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_, _ = w.Write(append(text, '\n'))
}

// sayREST answers with what the script says, else with a sample.
func (s *Service) sayREST(w http.ResponseWriter, op *contract.Endpoint, fields *document.Node, said *Saying) {
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
			c := answer.Contents[0]
			mediaType = strings.Replace(strings.Replace(c.Type, "*/*", "application/json", 1), "/*", "/plain", 1)
			switch {
			case c.Schema != nil:
				body = s.counted(fields, c.Schema.Sample(schema.SampleOptions{Optional: true}).Root)
				if status < 300 {
					echo(body, fields, func(body *document.Node) bool { return len(c.Schema.Check(body)) == 0 })
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
