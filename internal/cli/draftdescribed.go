package cli

import (
	"fmt"
	"strings"

	"testbench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
)

// bodyText writes a body for reading.
func bodyText(v *document.Node) string {
	if v.Kind == document.Element {
		document.Declare(v)
		return document.WriteXML(v, document.Style{Indent: "  "})
	}
	if v.IsScalar() && v.Kind != document.Null {
		return v.Text
	}
	return document.WriteJSON(v, document.Style{Indent: "  "})
}

// draftDescribed writes the skeleton of a request of a description: the body for
// a pipe, with the request line beside it, or the line where there is no body.
func (s *session) draftDescribed(source string, c *testbench.Contract, o *draftOptions, name string) (int, error) {
	if name == "" {
		return 0, usagef("`testbench survey "+source+"` lists the operations", "draft which operation?")
	}
	op, err := c.DescribedOperation(name)
	if err != nil {
		return 0, err
	}
	options := schema.SampleOptions{Optional: o.only == ""}
	if o.answer {
		return s.draftAnswer(op, options)
	}
	if o.as == "step" {
		made := op.SampleStep(options)
		s.tell.printf("%s", s.tell.visible(contract.StepText(source+"/"+op.Name, made)))
		s.omitted(made)
		return ExitHeld, nil
	}
	mediaType, err := bodyType(op, o.as)
	if err != nil {
		return 0, err
	}
	made := op.SampleStep(options)
	built, _ := op.Build(made.Root, contract.BuildOptions{Type: mediaType})
	lines := []string{built.Line()}
	for _, h := range built.Headers {
		lines = append(lines, h.Name+": "+h.Value.Text)
	}
	if built.Type != "" {
		lines = append(lines, "Content-Type: "+built.Type)
	}
	body := draftBody(built)
	tell := s.tell.note // beside the body, which may go into a pipe
	if body == "" {
		tell = func(format string, args ...any) { s.tell.printf(format+"\n", args...) }
	}
	for _, line := range lines {
		tell("%s", s.tell.visible(line))
	}
	if body != "" {
		s.tell.printf("%s\n", s.tell.visible(body))
	}
	s.omitted(made)
	return ExitHeld, nil
}

// omitted says that a draft is not all that could be sent.
func (s *session) omitted(made *schema.Sample) {
	if made.TooLarge {
		s.tell.note("note: the draft is cut at %d parts and not valid: the contract asks for more", schema.MostParts)
	}
	if made.Omitted > 0 {
		s.tell.note("note: %s that may be left out and stand deep in others are not in the draft", count(made.Omitted, "field"))
	}
}

// bodyType finds the media type that is asked for as xml or json among those that
// an operation takes; empty takes its own choice.
func bodyType(op *contract.Endpoint, as string) (string, error) {
	if as == "" || op.Body == nil {
		return "", nil
	}
	wanted := map[string]document.Format{"xml": document.XML, "json": document.JSON}[as]
	var types []string
	for _, content := range op.Body.Contents {
		if document.FormatOf(content.Type, nil) == wanted {
			return content.Type, nil
		}
		types = append(types, content.Type)
	}
	if len(types) == 0 {
		return "", nil
	}
	return "", usagef("leave -as out", "%s takes no %s; it takes %s", op.Name, strings.ToUpper(as), strings.Join(types, ", "))
}

func draftBody(built *contract.Request) string {
	switch {
	case built.Body != nil:
		return bodyText(built.Body)
	case len(built.Form) > 0:
		return contract.PairsText(built.Form)
	}
	var parts []string
	for _, p := range built.Parts {
		parts = append(parts, fmt.Sprintf("%s (%s): %s", p.Name, firstOf(p.Type, "text/plain"), bodyText(p.Value)))
	}
	return strings.Join(parts, "\n")
}

// draftAnswer writes an answer of success.
func (s *session) draftAnswer(op *contract.Endpoint, options schema.SampleOptions) (int, error) {
	for _, a := range op.Answers {
		if !strings.HasPrefix(a.Status, "2") && a.Status != "default" {
			continue
		}
		for _, c := range a.Contents {
			if c.Schema != nil {
				made := c.Schema.Sample(options)
				v := made.Root
				if c.Write != nil {
					v = c.Write(v)
				}
				s.tell.printf("%s\n", s.tell.visible(bodyText(v)))
				s.omitted(made)
				return ExitHeld, nil
			}
		}
	}
	return 0, fmt.Errorf("%s says nothing of what an answer holds", op.Name)
}
