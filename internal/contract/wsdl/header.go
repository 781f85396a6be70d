package wsdl

import (
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/xsd/instance"
)

// fillBlocks makes the header blocks of a request from the fields that have their names, and gives the fields
// that are left for the payload, whose own names come first. A message has all the blocks that its binding
// describes (Basic Profile 1.1, R2738), and services take them less strictly: one that is left out is a mistake
// where wsdl:required says so (WSDL 1.1, 2.5), and else noted. Those of WS-Security and WS-Addressing are put in by a
// login and by addressing.
func (b *Bound) fillBlocks(r *contract.Request, fields *document.Node, o contract.BuildOptions) (left *document.Node,
	problems []contract.Problem,
) {
	left = fields
	if b.Operation.Input == nil || len(b.Operation.Input.Headers) == 0 {
		return left, nil
	}
	inPayload := b.payloadNames()
	for _, h := range b.Operation.Input.Headers {
		name := h.Element.Name.Local
		isElsewhere := o.HasBlock != nil && o.HasBlock(name)
		given := fields.Get(name)
		switch {
		case slices.Contains(inPayload, name):
			continue
		case given != nil && isElsewhere:
			left = without(left, name)
			problems = append(problems, contract.Problem{
				Field: name, Message: "the header block " + name + " is given twice, as a field and in " +
					"blocks:", Try: "keep one of them",
			})
		case given != nil:
			left = without(left, name)
			block, found := b.fillBlock(h, given)
			r.Envelope.Blocks = append(r.Envelope.Blocks, block)
			for _, f := range found {
				f.Path = strings.TrimSuffix(name+"."+f.Path, ".")
				problems = append(problems, contract.Problem{Field: f.Path, Message: f.String()})
			}
		case isElsewhere || h.Element.Name.Space == soap.Security || soap.IsAddressing(h.Element.Name.Space):
		case h.Required:
			problems = append(problems, contract.Problem{
				Message: "the header block " + name + " is missing", Try: "give it as a field: " + name,
			})
		default:
			r.Notes = append(r.Notes, "the contract describes the header block "+name+
				", and it is not given (Basic Profile 1.1, R2738); it can be given as a field")
		}
	}
	return left, problems
}

// without gives the fields but one.
func without(fields *document.Node, name string) *document.Node {
	left := document.NewObject()
	for _, m := range fields.Members() {
		if m.Key != name {
			left.AppendMembers(m)
		}
	}
	return left
}

// payloadNames are the names of the fields of the payload.
func (b *Bound) payloadNames() []string {
	var names []string
	if shape := b.Shape(); shape != nil && shape.Fields != nil {
		for _, f := range shape.Fields() {
			names = append(names, f.Name)
		}
		return names
	}
	for _, e := range b.Operation.Input.Payload {
		names = append(names, e.Name.Local)
	}
	return names
}

// block makes a header block of the operation by its name; nil for others.
func (b *Bound) block(name string, content *document.Node) *document.Node {
	if b.Operation.Input == nil {
		return nil
	}
	_, local, qualified := strings.Cut(name, ":")
	if !qualified {
		local = name
	}
	for _, h := range b.Operation.Input.Headers {
		if h.Element.Name.Local == local {
			// What is wrong with it is the service's to say: blocks: are checked against nothing.
			block, _ := b.fillBlock(h, content)
			return block
		}
	}
	return nil
}

// fillBlock makes a header block. The attributes mustUnderstand and role are the envelope's, not the schema's.
func (b *Bound) fillBlock(h *Header, content *document.Node) (*document.Node, []schema.FillError) {
	var own []document.Attribute
	fields := content
	if content.Kind == document.Object {
		fields = document.NewObject()
		for _, m := range content.Members() {
			switch m.Key {
			case "@mustUnderstand", "@role", "@actor":
				own = append(own, document.Attribute{Name: document.Name{Local: m.Key[1:]}, Value: m.Value.Text})
			default:
				fields.AppendMembers(m)
			}
		}
	}
	block, found := instance.Fill(b.Contract.Schema, h.Element, fields, instance.FillOptions{})
	block.AppendAttributes(own...)
	return block, found
}
