package wsdl

import (
	"testbench/internal/contract"
	"testbench/internal/schema"
	"testbench/internal/xsd/instance"
)

// Parts are the fields of the request, the answer and the faults.
func (b *Bound) Parts(fields bool) contract.Parts {
	rows := func(m *Message) []schema.Row {
		var all []schema.Row
		if !fields {
			return nil
		}
		for _, s := range b.sections("", m, 0) {
			all = append(all, s.Rows...)
		}
		return all
	}
	out := contract.Parts{Given: rows(b.Operation.Input)}
	if in := b.Operation.Input; in != nil && len(in.Payload) > 0 {
		out.Element = in.Payload[0].Name.Local
	}
	if b.Operation.Output != nil {
		out.Answers = append(out.Answers, contract.AnswerPart{Rows: rows(b.Operation.Output)})
	}
	for _, f := range b.Operation.Faults {
		part := contract.AnswerPart{Fault: f.Name}
		if f.Detail != nil && fields {
			part.Element = f.Detail.Name.Local
			part.Rows = instance.Outline(b.Contract.Schema, f.Detail, 0)
		}
		out.Answers = append(out.Answers, part)
	}
	return out
}
