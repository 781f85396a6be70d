package contract

import (
	"slices"

	"testbench/internal/schema"
)

// Parts are what of an operation a call can touch.
type Parts struct {
	// Element is the local name of the element in the envelope; empty where there is none.
	Element string
	Given   []schema.Row // parameters, and fields of the body; by the names that a tester uses
	Answers []AnswerPart // in the order of the contract; empty where nothing is said of them
}

// AnswerPart is one answer that is described.
type AnswerPart struct {
	Status string // 200, 2XX, default; empty for what a WSDL describes
	Fault  string // the name of a fault of a WSDL; empty for others
	// Element is the local name of the element in the detail of a fault; empty for others.
	Element string
	Rows    []schema.Row
}

// Name is how the answer is called.
func (a AnswerPart) Name() string {
	switch {
	case a.Fault != "":
		return "fault " + a.Fault
	case a.Status == "":
		return "answer"
	}
	return a.Status
}

// Parts are the parameters, the fields of the body and the answers.
func (o *Endpoint) Parts(fields bool) Parts {
	var out Parts
	for _, p := range o.Parameters {
		out.Given = append(out.Given, p.row())
	}
	rows := func(contents []Content) []schema.Row {
		at := slices.IndexFunc(contents, func(c Content) bool { return c.Schema != nil })
		if at < 0 || !fields {
			return nil
		}
		return contents[at].Schema.Outline(0)
	}
	if o.Body != nil {
		out.Given = append(out.Given, rows(o.Body.Contents)...)
	}
	for _, a := range o.Answers {
		out.Answers = append(out.Answers, AnswerPart{Status: a.Status, Rows: rows(a.Contents)})
	}
	return out
}
