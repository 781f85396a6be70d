package cli

import (
	"fmt"
	"slices"
	"strings"

	"testbench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/sheet"
)

func findBench(dir string) (string, error) { return sheet.FindBench(dir) }

// showRequest shows a request as it is sent, masked.
func (s *session) showRequest(r *exchange.Request, indent int) {
	t := s.tell
	lead := strings.Repeat(" ", indent)
	t.printf("%s%s %s\n", lead, r.Method, visible(r.Shown()))
	for _, name := range sortedHeader(r.Header) {
		for _, v := range r.Header[name] {
			t.printf("%s%s\n", lead, t.in(faint, visible(name+": "+r.ShownField(name, v))))
		}
	}
	defer s.showSigned(r, lead)
	if r.Certificate != nil && r.Certificate.Leaf != nil {
		t.printf("%s%s\n", lead, t.in(faint, "(with the certificate of "+visible(r.Certificate.Leaf.Subject.String())+")"))
	}
	if len(r.Body) == 0 {
		return
	}
	body := []byte(r.BodyShown())
	node, format, err := document.Read(r.GetHeader("Content-Type"), body)
	if err != nil {
		node = nil
	}
	if format == document.Binary && r.ShownBody != "" {
		format = document.Plain // what stands for the parts of it is text
	}
	t.printf("%s\n", indented(layOut(format, node, body), lead))
}

// showSigned shows what signatures of the request were made over.
func (s *session) showSigned(r *exchange.Request, lead string) {
	for _, text := range r.Signed {
		if strings.HasPrefix(text, "<") {
			continue // the SignedInfo of an envelope, which stands in it
		}
		s.tell.printf("%s%s\n%s\n", lead, s.tell.in(bold, "signed over"), indented(text, lead+"  "))
	}
}

func sortedHeader(header map[string][]string) []string {
	names := make([]string, 0, len(header))
	for name := range header {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func indented(text, lead string) string {
	lines := strings.Split(strings.TrimRight(visible(text), "\n"), "\n")
	return lead + strings.Join(lines, "\n"+lead)
}

// showExchange shows what was sent and received.
func (s *session) showExchange(record *exchange.Record, step *testbench.StepResult, sent, received, nested bool) {
	t := s.tell
	indent := 0
	if nested {
		indent = 6
	}
	lead := strings.Repeat(" ", indent)
	if sent {
		t.printf("%s%s\n", lead, t.in(bold, "sent"))
		s.showRequest(record.Request, indent+2)
	}
	if !received || record.Answer == nil {
		return
	}
	a := record.Answer
	t.printf("%s%s %s\n", lead, t.in(bold, "received"), statusLine(a))
	for _, name := range sortedHeader(a.Header) {
		for _, v := range a.Header[name] {
			t.printf("%s  %s\n", lead, t.in(faint, visible(name+": "+v)))
		}
	}
	s.showBody(step, indent+2)
}

func statusLine(a *exchange.Answer) string {
	return strings.TrimSpace(fmt.Sprintf("%s %d %s", a.Proto, a.Status, visible(a.Reason)))
}

func (s *session) showBody(step *testbench.StepResult, indent int) {
	a := step.Last().Answer
	if a == nil || len(a.Body) == 0 {
		return
	}
	lead := strings.Repeat(" ", indent)
	s.tell.printf("%s\n", indented(shorten(s.bodyOf(step), s.tell.terminal), lead))
	for _, attached := range step.Reply.Attachments {
		s.tell.printf("%s(attached: %s, %s, %s)\n", lead, visible(firstOf(attached.Name, attached.ID)), visible(attached.Type), size(len(attached.Content)))
	}
	if a.Partial {
		s.tell.note("%s(the answer is not whole)", lead)
	}
}

// bodyOf lays the body of an answer out; where it was put together or turned into
// another form, in that form, which paths start from.
func (s *session) bodyOf(step *testbench.StepResult) string {
	re := step.Reply
	if re.Body != re.Payload && re.Message == nil && re.Payload != nil && re.Problem == nil && re.Failed == nil {
		return layOut(document.JSON, re.Payload, nil)
	}
	return layOut(re.Format, re.Body, step.Last().Answer.Body)
}

// mostLines is how much of a body a terminal is shown.
const mostLines = 200

func shorten(text string, terminal bool) string {
	if !terminal {
		return text
	}
	lines := strings.Split(text, "\n")
	if len(lines) <= mostLines {
		return text
	}
	return strings.Join(lines[:mostLines], "\n") + fmt.Sprintf("\n… %d more lines; -save FILE writes all of it", len(lines)-mostLines)
}
