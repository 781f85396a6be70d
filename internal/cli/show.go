package cli

import (
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/workbench"
)

func findBench(dir string) (string, error) { return bench.Find(dir) }

// showRequest shows a request as it is sent, masked.
func showRequest(s *session, r *exchange.Request, indent int) {
	t := s.tell
	lead := strings.Repeat(" ", indent)
	t.printf("%s%s %s\n", lead, r.Method, t.visible(r.Shown()))
	for _, name := range sortedHeader(r.Header) {
		for _, v := range r.Header[name] {
			t.printf("%s%s\n", lead, t.in(faint, t.visible(name+": "+r.ShownField(name, v))))
		}
	}
	defer showSigned(s.tell, r, lead)
	if r.Certificate != nil && r.Certificate.Leaf != nil {
		t.printf("%s%s\n", lead,
			t.in(faint, "(with the certificate of "+t.visible(r.Certificate.Leaf.Subject.String())+")"))
	}
	if len(r.Body) == 0 {
		return
	}
	body := []byte(r.BodyShown())
	node, format, err := document.Read(r.GetHeader("Content-Type"), body)
	if err != nil || format == document.Form {
		node = nil // a form is shown as it goes out
	}
	if format == document.Binary && r.ShownBody != "" {
		format = document.Plain // what stands for the parts of it is text
	}
	t.printf("%s\n", bodyText(s, format, node, body, lead))
}

// showSigned shows what signatures of the request were made over.
func showSigned(t *printer, r *exchange.Request, lead string) {
	for _, text := range r.Signed {
		if strings.HasPrefix(text, "<") {
			continue // the SignedInfo of an envelope, which is in it
		}
		t.printf("%s%s\n%s\n", lead, t.in(bold, "signed over"), t.indented(text, lead+"  "))
	}
}

func sortedHeader[T ~string](header map[string][]T) []string {
	names := make([]string, 0, len(header))
	for name := range header {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// showExchange shows what was sent and received.
func showExchange(s *session, record *exchange.Record, step *workbench.StepResult, sent, received, nested bool) {
	t := s.tell
	indent := 0
	if nested {
		indent = 6
	}
	lead := strings.Repeat(" ", indent)
	if sent {
		t.printf("%s%s\n", lead, t.in(bold, "sent"))
		showRequest(s, record.Request, indent+2)
	}
	if !received || record.Answer == nil {
		return
	}
	a := record.Answer
	t.printf("%s%s %s\n", lead, t.in(bold, "received"), t.statusLine(a))
	if nested {
		showTiming(s.tell, record, lead+"  ")
	}
	for _, name := range sortedHeader(a.Header) {
		for _, v := range a.Header[name] {
			t.printf("%s  %s\n", lead, t.in(faint, t.visible(name+": "+v)))
		}
	}
	showBody(s, step, indent+2)
}

// showTiming shows where the time went, and what the encrypted connection was like.
func showTiming(t *printer, record *exchange.Record, lead string) {
	if words := record.Phases.Words(); words != "" {
		t.printf("%s%s\n", lead, t.in(faint, words))
	}
	if record.TLS != nil {
		t.printf("%s%s\n", lead, t.in(faint, t.visible(record.TLS.Words())))
	}
}

func showBody(s *session, step *workbench.StepResult, indent int) {
	a := step.Last().Answer
	if a == nil || len(a.Body) == 0 {
		return
	}
	lead := strings.Repeat(" ", indent)
	re := step.Reply
	// What was put together or turned into another form is shown in that form, which paths
	// start from.
	if re.Body != re.Payload && re.Message == nil && re.Payload != nil && re.Problem == nil && re.Failed == nil {
		s.tell.printf("%s\n", bodyText(s, document.JSON, re.Payload, nil, lead))
	} else {
		s.tell.printf("%s\n", bodyText(s, re.Format, re.Body, a.Body, lead))
	}
	for _, attached := range step.Reply.Attachments {
		s.tell.printf("%s(attached: %s, %s, %s)\n", lead, s.tell.visible(firstOf(attached.Name, attached.ID)),
			s.tell.visible(attached.Type), size(len(attached.Content)))
	}
	if a.Partial {
		s.tell.note("%s(the answer is not whole)", lead)
	}
}
