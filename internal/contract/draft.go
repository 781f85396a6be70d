package contract

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// DraftOptions say how a draft is made.
type DraftOptions struct {
	// As is the form: xml, json or step; empty takes what the operation takes.
	As       string
	Required bool   // leave out what may be left out
	Answer   bool   // the answer in place of the request
	Target   string // what a step calls: SERVICE/OPERATION
}

// Draft is the skeleton of a message, with values that are valid.
type Draft struct {
	Lines []string // beside the body: the request line and the header fields
	Text  string   // the body or the step; empty where there is none
	// Cut tells where it would have to go on without end; TooLarge that it was cut at
	// schema.MostParts; Omitted how many optional fields deep inside are left out.
	Cut      []string
	TooLarge bool
	Omitted  int
}

// UnknownFormError tells that an operation takes no body of a form.
type UnknownFormError struct {
	Operation, Form string
	Types           []string // those that it takes
}

func (e *UnknownFormError) Error() string {
	return fmt.Sprintf("%s takes no %s; it takes %s", e.Operation, strings.ToUpper(e.Form), strings.Join(e.Types, ", "))
}

// Draft writes the skeleton of a request or an answer.
func (o *Endpoint) Draft(d DraftOptions) (*Draft, error) {
	options := schema.SampleOptions{Optional: !d.Required}
	if d.Answer {
		return draftAnswer(o, options)
	}
	made := o.SampleStep(options)
	out := &Draft{TooLarge: made.TooLarge, Omitted: made.Omitted}
	if d.As == "step" {
		out.Text = StepText(d.Target, made)
		return out, nil
	}
	mediaType, err := bodyTypeAs(o, d.As)
	if err != nil {
		return nil, err
	}
	built, _ := o.Build(made.Root, BuildOptions{Type: mediaType})
	drafted := built.Draft()
	drafted.TooLarge, drafted.Omitted = out.TooLarge, out.Omitted
	return drafted, nil
}

// Draft is a request as the skeleton of one.
func (r *Request) Draft() *Draft {
	out := &Draft{Lines: []string{r.Line()}}
	for _, h := range r.Headers {
		out.Lines = append(out.Lines, h.Name+": "+h.Value.Text)
	}
	if r.Type != "" {
		out.Lines = append(out.Lines, "Content-Type: "+r.Type)
	}
	if body := r.bodyText(); body != "" {
		out.Text = body + "\n"
	}
	return out
}

// draftAnswer writes an answer of success.
func draftAnswer(o *Endpoint, options schema.SampleOptions) (*Draft, error) {
	for _, a := range o.Answers {
		if !strings.HasPrefix(a.Status, "2") && a.Status != "default" {
			continue
		}
		for _, c := range a.Contents {
			if c.Schema == nil {
				continue
			}
			made := c.Schema.Sample(options)
			v := made.Root
			if c.Write != nil {
				v = c.Write(v)
			}
			return &Draft{Text: BodyText(v) + "\n", TooLarge: made.TooLarge, Omitted: made.Omitted}, nil
		}
	}
	return nil, fmt.Errorf("%s says nothing of what an answer holds", o.Name)
}

// bodyTypeAs finds the media type that is asked for as xml or json among those that the
// operation takes; empty takes its own choice.
func bodyTypeAs(o *Endpoint, as string) (string, error) {
	if as == "" || o.Body == nil {
		return "", nil
	}
	expected := map[string]document.Format{"xml": document.XML, "json": document.JSON}[as]
	var types []string
	for _, content := range o.Body.Contents {
		if document.FormatOf(content.Type, nil) == expected {
			return content.Type, nil
		}
		types = append(types, content.Type)
	}
	if len(types) == 0 {
		return "", nil
	}
	return "", &UnknownFormError{o.Name, as, types}
}

// bodyText is the body of a request for reading.
func (r *Request) bodyText() string {
	switch {
	case r.Body != nil:
		return BodyText(r.Body)
	case len(r.Form) > 0:
		return PairsText(r.Form)
	}
	var parts []string
	for _, p := range r.Parts {
		mediaType := p.Type
		if mediaType == "" {
			mediaType = "text/plain"
		}
		parts = append(parts, fmt.Sprintf("%s (%s): %s", p.Name, mediaType, BodyText(p.Value)))
	}
	return strings.Join(parts, "\n")
}

// BodyText writes a body for reading.
func BodyText(v *document.Node) string {
	if v.Kind == document.Element {
		document.Declare(v)
		return document.WriteXML(v, document.Style{Indent: "  "})
	}
	if v.IsScalar() && v.Kind != document.Null {
		return v.Text
	}
	return document.WriteJSON(v, document.Style{Indent: "  "})
}
