package wsdl

import (
	"bytes"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// Bound is an operation at a port, as it is called in a version of SOAP, or by plain HTTP.
type Bound struct {
	Contract  *Contract
	Port      *Port
	Operation *Operation
	Version   soap.Version // empty for plain HTTP
	About     string       // what the bench says of the operation in place of the contract
	// Overlay is what the bench says of its fields beyond the contract.
	Overlay contract.Overlay
}

var _ contract.Operation = (*Bound)(nil)

// Bind finds an operation at a port, as PortOf chooses it. A version that the port does not speak can still be sent:
// the payload is the same. It gives nil where the port has no operation of the name.
func (c *Contract) Bind(operation, port string, version soap.Version) (*Bound, error) {
	p, err := c.PortOf(operation, port, version)
	if err != nil {
		return nil, err
	}
	o := p.Binding.Operation(operation)
	if o == nil {
		return nil, nil
	}
	if o.Unusable != nil {
		return nil, fmt.Errorf("%s cannot be used, for the contract is wrong in what it needs: %s", o.Name, o.Unusable)
	}
	if p.Binding.Protocol == Other {
		return nil, fmt.Errorf("the port %s speaks neither SOAP nor plain HTTP", p.Name)
	}
	b := &Bound{Contract: c, Port: p, Operation: o, Version: p.Binding.Protocol.Version()}
	if version != "" && b.Version != "" {
		b.Version = version
	}
	return b, nil
}

// PortOf is the port at which an operation is called: the one of a name; without one that of PortFor, or where that
// does not have the operation, the first that has it, one that speaks the version before others.
func (c *Contract) PortOf(operation, name string, version soap.Version) (*Port, error) {
	chosen, err := c.PortFor(name, version)
	if err != nil || name != "" || chosen.Binding.Operation(operation) != nil {
		return chosen, err
	}
	for _, expected := range []soap.Version{version, ""} {
		for _, p := range c.Ports() {
			if p.Binding.Operation(operation) != nil && (expected == "" || p.Binding.Protocol.Version() == expected) {
				return p, nil
			}
		}
	}
	return chosen, nil
}

// PortFor is the port of a name, or without one the first that speaks the version, or any.
func (c *Contract) PortFor(name string, version soap.Version) (*Port, error) {
	if name != "" {
		return c.Port(name, "")
	}
	if p, err := c.Port("", version); err == nil {
		return p, nil
	}
	return c.Port("", "")
}

// Facts are what is known of the operation.
func (b *Bound) Facts() contract.Facts {
	facts := contract.Facts{Name: b.Operation.Name, OneWay: b.Operation.Output == nil, Prefixes: b.Contract.Prefixes}
	for _, service := range b.Contract.Services {
		for _, port := range service.Ports {
			version := port.Binding.Protocol.Version()
			facts.BothVersions = facts.BothVersions || version != "" && version != b.Version
		}
	}
	return facts
}

// Hold says what is wrong with an envelope.
func (b *Bound) Hold(_ *url.URL, r *contract.Received) []string {
	var wrong []string
	if _, err := b.Contract.ValidateOf(b.Operation, bytes.NewReader(r.Body), func(f xsd.Fault) {
		wrong = append(wrong, f.Text())
	}); err != nil {
		wrong = append(wrong, err.Error())
	}
	return wrong
}

// Shape is that of the payload, where that is one element.
func (b *Bound) Shape() *schema.Shape {
	if input := b.Operation.Input; input != nil && len(input.Payload) == 1 {
		return b.Overlay.Shape(instance.Form(b.Contract.Schema, input.Payload[0]))
	}
	return nil
}

// Amend gives it with what a bench says of it beyond its contract: of the fields of its payload and its header blocks.
func (b *Bound) Amend(by *contract.Endpoint) (contract.Operation, error) {
	out := *b
	out.About, out.Overlay = by.About, by.Parameters
	var rows []schema.Row
	for _, s := range b.sections("fill", b.Operation.Input, 0) {
		rows = append(rows, s.Rows...)
	}
	for _, p := range by.Parameters {
		if p.In != contract.InBody {
			rows = nil
		}
	}
	return &out, out.Overlay.Within(b.Operation.Name, rows)
}

// Decode gives an answer as it is.
func (b *Bound) Decode(body *document.Node) *document.Node { return body }

// Build makes the envelope of a call, or the request of an HTTP binding (WSDL 1.1, 4).
func (b *Bound) Build(fields *document.Node, o contract.BuildOptions) (*contract.Request, []contract.Problem) {
	r := &contract.Request{Method: "POST"}
	if b.Version == "" {
		return r, b.plain(r, fields, o)
	}
	r.Envelope = &contract.Envelope{
		Version: b.Version, Action: b.Operation.Action,
		AddressingAction: b.Operation.AddressingAction, Block: b.block,
	}
	if o.Body != "" {
		return r, nil // the payload comes from elsewhere
	}
	fields, problems := b.Overlay.Fill(fields, o.IsKind)
	left, found := b.fillBlocks(r, fields, o)
	problems = append(problems, found...)
	payload, wrong := b.fill(left, o)
	r.Envelope.Payload = payload
	for _, f := range wrong {
		problems = append(problems, contract.Problem{Field: f.Path, Message: f.String()})
	}
	return r, problems
}

// fill makes the payload of a request from fields by name.
func (b *Bound) fill(fields *document.Node, o contract.BuildOptions) ([]*document.Node, []schema.FillError) {
	input := b.Operation.Input
	if input == nil || len(input.Payload) == 0 {
		if len(fields.Members()) > 0 {
			return nil, []schema.FillError{{
				Path:    fields.Members()[0].Key,
				Message: "is unknown: " + b.Operation.Name + " takes no fields",
			}}
		}
		return nil, nil
	}
	prefixes := map[string]string{}
	maps.Copy(prefixes, b.Contract.Prefixes)
	maps.Copy(prefixes, o.Prefixes)
	options := instance.FillOptions{Prefixes: prefixes, Encoded: input.Encoded, Attached: o.Attached}
	if len(input.Payload) == 1 {
		node, found := instance.Fill(b.Contract.Schema, input.Payload[0], fields, options)
		input.style(node, b.Version)
		return []*document.Node{node}, found
	}
	// Several elements are in the Body, each with its fields below its name.
	var payload []*document.Node
	var found []schema.FillError
	known := make([]string, len(input.Payload))
	for i, e := range input.Payload {
		known[i] = e.Name.Local
		node, short := instance.Fill(b.Contract.Schema, e, fields.Get(e.Name.Local), options)
		input.style(node, b.Version)
		payload = append(payload, node)
		for _, s := range short {
			s.Path = strings.Trim(e.Name.Local+"."+s.Path, ".")
			found = append(found, s)
		}
	}
	for _, m := range fields.Members() {
		if !slices.Contains(known, m.Key) {
			found = append(found, schema.FillError{
				Path:    m.Key,
				Message: "is unknown; " + suggest.DidYouMean(m.Key, known),
			})
		}
	}
	return payload, found
}

// Judge holds an answer against the operation.
func (b *Bound) Judge(got contract.Got) contract.Judgement {
	switch {
	case b.Version == "":
		return b.judgePlain(got)
	case got.Message == nil && b.Operation.Output == nil && got.Status < 300:
		return contract.Judgement{} // one way: nothing needs to come back (SOAP 1.1, 6; Basic Profile 1.1, R2714)
	case got.Message == nil:
		return contract.Judgement{Judged: true, Wrong: []string{"the answer is not a SOAP envelope, but " + got.What}}
	}
	out := contract.Judgement{Judged: true, Wrong: b.wrong(got.Message)}
	if words := b.undeclared(got.Message); words != "" {
		out.Notes = append(out.Notes, words)
	}
	return out
}

// wrong is what is wrong with an answer by the schema.
func (b *Bound) wrong(m *soap.Message) []string {
	var found []string
	v := xsd.NewValidator(b.Contract.Schema)
	v.Ignore = map[string]bool{soap.Namespace11: true, soap.Namespace12: true, soap.Encoding11: true}
	v.Report = func(f xsd.Fault) { found = append(found, f.Text()) }
	prefixes := m.Prefixes()
	for _, block := range m.Blocks {
		if decl := b.Contract.Schema.Element(block.Name().Space, block.Name().Local); decl != nil {
			v.Tree(block, decl, prefixes)
		}
	}
	if m.Fault != nil {
		b.checkDetail(v, m.Fault, prefixes)
		return found
	}
	output := b.Operation.Output
	switch {
	case output == nil && m.Payload != nil:
		return []string{b.Operation.Name + " is not answered by its contract, and here is " + m.Payload.Name().Local}
	case output == nil || len(output.Payload) == 0 && m.Payload == nil:
		return nil
	case m.Payload == nil:
		return []string{"the Body is empty; " + output.Payload[0].Name.Local + " expected"}
	}
	expected := output.Payload[0]
	if got := (xsd.Name{Space: m.Payload.Name().Space, Local: m.Payload.Name().Local}); got != expected.Name {
		// An encoded answer's wrapper has a name of the server's choice (SOAP 1.1, 7.1).
		if !output.Encoded {
			return []string{fmt.Sprintf("the Body holds %s, and the contract says %s", got.Full(),
				expected.Name.Full())}
		}
	}
	v.Encoded = output.Encoded
	v.Tree(m.Payload, expected, prefixes)
	return found
}

// checkDetail holds the detail of a fault against those that are declared.
func (b *Bound) checkDetail(v *xsd.Validator, fault *soap.Fault, prefixes map[string]string) {
	if fault.Detail == nil {
		return
	}
	for _, entry := range fault.Detail.Children() {
		name := xsd.Name{Space: entry.Name().Space, Local: entry.Name().Local}
		for _, f := range b.Operation.Faults {
			if f.Detail != nil && f.Detail.Name == name {
				v.Tree(entry, f.Detail, prefixes)
			}
		}
	}
}

// undeclared says of a fault that it is none of the declared ones, or "".
func (b *Bound) undeclared(m *soap.Message) string {
	if m.Fault == nil || m.Fault.Detail == nil || len(m.Fault.Detail.Children()) == 0 {
		return ""
	}
	var names []string
	for _, f := range b.Operation.Faults {
		if f.Detail == nil {
			return ""
		}
		for _, entry := range m.Fault.Detail.Children() {
			if entry.Name().Local == f.Detail.Name.Local && entry.Name().Space == f.Detail.Name.Space {
				return ""
			}
		}
		names = append(names, f.Detail.Name.Local)
	}
	entry := m.Fault.Detail.Children()[0].Name().Local
	if len(names) == 0 {
		return fmt.Sprintf("the detail holds %s; the contract declares no faults of %s", entry, b.Operation.Name)
	}
	return fmt.Sprintf("the detail holds %s; the contract declares for %s: %s", entry, b.Operation.Name,
		strings.Join(names, ", "))
}
