// Package wsdl reads WSDL 1.1: services, ports, bindings and operations with
// the payloads that go in and out as elements of a schema. It sends and fetches
// nothing itself.
package wsdl

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/soap"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
)

// Namespaces of WSDL 1.1 and its bindings.
const (
	Namespace       = "http://schemas.xmlsoap.org/wsdl/"
	SOAP11Namespace = "http://schemas.xmlsoap.org/wsdl/soap/"
	SOAP12Namespace = "http://schemas.xmlsoap.org/wsdl/soap12/"
	HTTPNamespace   = "http://schemas.xmlsoap.org/wsdl/http/"
	MIMENamespace   = "http://schemas.xmlsoap.org/wsdl/mime/"
)

// Contract is a WSDL with all that it imports.
type Contract struct {
	Location      string
	Name          string
	Namespace     string
	Documentation string
	Services      []*Service
	Bindings      []*Binding
	Schema        *xsd.Schema
	// PortTypes are what it describes where it has no binding; nil for any other.
	PortTypes []PortType
	// Prefixes are those that the contract itself declares at its root.
	Prefixes map[string]string
	notes    []xsd.Problem
	loose    []*Port // the bindings, where no service has a port
}

// Notes tell where the contract departs from WSDL 1.1 or the WS-I Basic Profile
// 1.1, and what could not be loaded. It can be used all the same.
func (c *Contract) Notes() []xsd.Problem { return slices.Concat(c.notes, c.Schema.Warnings()) }

// Service is a group of ports.
type Service struct {
	Name          string
	Documentation string
	Ports         []*Port
}

// PortType is a group of operations of which no binding says how they are called.
type PortType struct {
	Name          xsd.Name
	Documentation string
	Operations    []AbstractOperation
}

// AbstractOperation is an operation of a port type.
type AbstractOperation struct{ Name, Documentation string }

// Port is an address where a binding is spoken.
type Port struct {
	Name          string
	Address       string
	Documentation string
	Binding       *Binding
	Security      *contract.Security // what its policies ask for; nil for nothing
}

// Protocol is what a binding speaks.
type Protocol string

// The protocols.
const (
	SOAP11   Protocol = "SOAP 1.1"
	SOAP12   Protocol = "SOAP 1.2"
	HTTPGet  Protocol = "HTTP GET"
	HTTPPost Protocol = "HTTP POST"
	Other    Protocol = "another protocol"
)

// Version returns the SOAP version, or "" for what is not SOAP.
func (p Protocol) Version() soap.Version {
	switch p {
	case SOAP11:
		return soap.V11
	case SOAP12:
		return soap.V12
	}
	return ""
}

// Binding says how the operations of a port type go over the wire.
type Binding struct {
	Name       xsd.Name
	Protocol   Protocol
	Transport  string
	Style      string // "document" or "rpc"
	Operations []*Operation
}

// Operation is an operation as a binding has it.
type Operation struct {
	// Name is how the operation is called by testers: its name, and where several
	// share one, with the name of its input after it: Grade(GradeByCode).
	Name          string
	Wire          string // the name as the contract has it
	Documentation string
	Style         string // "document" or "rpc"
	Action        string // of SOAP
	// AddressingAction is the action of WS-Addressing (1.0 Metadata, 4.4).
	AddressingAction string
	Location         string // of an HTTP binding, below the address
	// Replaces says that the parts of the input are written into the location, each in the
	// place of its name in parentheses (http:urlReplacement, WSDL 1.1, 4.5).
	Replaces bool
	Input    *Message
	Output   *Message // nil for one that is not answered
	Faults   []*Fault
	// Unusable says why it cannot be used: what it needs is wrong in the contract. nil where it can.
	Unusable *xsd.Problem
}

// Message is what goes one way.
type Message struct {
	Name          xsd.Name
	Documentation string
	// Payload are the elements inside the Body, in their order: usually one. Of rpc
	// it is one made of the parts.
	Payload []*xsd.Element
	Headers []*Header
	// Encoded says that values are written by SOAP 1.1, section 5.
	Encoded       bool
	EncodingStyle string
	// IsBody says that the payload is the whole body, without an envelope.
	IsBody bool
	// Types are the media types of a body without an envelope; empty where none is said.
	Types []string
	// Attachments are the parts that travel beside the envelope.
	Attachments []Attachment
}

// Header is a header block that a message may carry.
type Header struct {
	Element *xsd.Element
	Part    string
	// Required says that a message must have it (wsdl:required).
	Required bool
	// Faults are the blocks that come back where this one is at fault (WSDL 1.1, 3.7).
	Faults []*xsd.Element
}

// Attachment is a part of a MIME binding.
type Attachment struct {
	Part  string
	Types []string
}

// Fault is a fault that an operation declares.
type Fault struct {
	Name          string
	Documentation string
	Detail        *xsd.Element // nil where the contract does not say
}

// IsRPC says whether the operation's payload is made of its parts.
func (o *Operation) IsRPC() bool { return o.Style == "rpc" }

// Wrapper is the payload's element, nil where the Body is empty.
func (m *Message) Wrapper() *xsd.Element {
	if m == nil || len(m.Payload) == 0 {
		return nil
	}
	return m.Payload[0]
}

// style says on a payload how its values are encoded (SOAP 1.1, section 4.1.1; SOAP 1.2 Part 1, 5.1.1).
func (m *Message) style(payload *document.Node, version soap.Version) {
	if !m.Encoded || payload == nil {
		return
	}
	style := m.EncodingStyle
	if style == "" {
		style = soap.Encoding11
	}
	payload.AppendAttributes(document.Attribute{
		Name: document.Name{Space: version.Namespace(), Prefix: "soap", Local: "encodingStyle"}, Value: style,
	})
}

// Port finds a port of any service: by name, or without one the first that
// speaks SOAP in the wanted version ("" takes either). The error lists what
// there is.
func (c *Contract) Port(name string, version soap.Version) (*Port, error) {
	var names []string
	var other *Port
	for _, p := range c.Ports() {
		names = append(names, p.Name)
		switch {
		case name != "" && (p.Name == name || c.PortName(p) == name):
			return p, nil
		case name != "":
		case p.Binding.Protocol.Version() != "" && (version == "" || p.Binding.Protocol.Version() == version):
			return p, nil
		case other == nil:
			other = p
		}
	}
	switch {
	case name != "":
		try := suggest.DidYouMean(name, names)
		if try == "" {
			try = "there are: " + strings.Join(names, ", ")
		}
		return nil, fmt.Errorf("the contract has no port %q; %s", name, try)
	case len(names) == 0:
		return nil, fmt.Errorf("the contract %s has no service with a port", c.Location)
	case version != "":
		return nil, fmt.Errorf("the contract has no port that speaks SOAP %s; its ports are: %s", version,
			strings.Join(names, ", "))
	}
	return other, nil
}

// Ports are those of all services; where there are none the bindings stand for ports, which have no address.
func (c *Contract) Ports() []*Port {
	var all []*Port
	for _, s := range c.Services {
		all = append(all, s.Ports...)
	}
	if all == nil {
		return c.loose
	}
	return all
}

// PortName tells a port from all others: its service's name and its own.
func (c *Contract) PortName(p *Port) string {
	for _, s := range c.Services {
		if slices.Contains(s.Ports, p) {
			return s.Name + "/" + p.Name
		}
	}
	return p.Name
}

// Operation finds an operation by name.
func (b *Binding) Operation(name string) *Operation {
	for _, o := range b.Operations {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// OperationNames lists the operations' names.
func (b *Binding) OperationNames() []string {
	names := make([]string, len(b.Operations))
	for i, o := range b.Operations {
		names[i] = o.Name
	}
	return names
}

// Operations lists every operation once, whichever bindings have it, with the
// binding that has it first.
func (c *Contract) Operations() []*Operation {
	var all []*Operation
	seen := map[string]bool{}
	for _, b := range c.inUse() {
		for _, o := range b.Operations {
			if !seen[o.Name] {
				seen[o.Name] = true
				all = append(all, o)
			}
		}
	}
	return all
}

// inUse are the bindings of ports, SOAP first, or all where there is no port.
func (c *Contract) inUse() []*Binding {
	var used []*Binding
	seen := map[*Binding]bool{}
	for _, s := range c.Services {
		for _, p := range s.Ports {
			if !seen[p.Binding] {
				seen[p.Binding] = true
				used = append(used, p.Binding)
			}
		}
	}
	if len(used) == 0 {
		used = c.Bindings
	}
	sort.SliceStable(used, func(i, j int) bool {
		return used[i].Protocol.Version() != "" && used[j].Protocol.Version() == ""
	})
	return used
}

// ByPayload finds the operation that a payload belongs to, and whether it is the
// request or the answer.
func (c *Contract) ByPayload(space, local string) (o *Operation, answer, found bool) {
	name := xsd.Name{Space: space, Local: local}
	for _, b := range c.inUse() {
		for _, o := range b.Operations {
			for _, m := range []*Message{o.Input, o.Output} {
				if w := m.Wrapper(); w != nil && w.Name == name {
					return o, m == o.Output, true
				}
			}
		}
	}
	return nil, false, false
}

// with says whether a payload of the name is in the operation's request or its answer.
func (o *Operation) with(name xsd.Name) (found *Operation, answer, ok bool) {
	if o == nil {
		return nil, false, false
	}
	for _, m := range []*Message{o.Input, o.Output} {
		if w := m.Wrapper(); w != nil && w.Name == name {
			return o, m == o.Output, true
		}
	}
	return nil, false, false
}

// Requested lists the operations that a request can be for: by the name of its payload, which is zero for an empty
// Body, and of those the ones with its action, where there are some.
func (c *Contract) Requested(name xsd.Name, action string) []*Operation {
	var byName, byAction []*Operation
	for _, b := range c.inUse() {
		for _, o := range b.Operations {
			w := o.Input.Wrapper()
			isEmpty := o.Input != nil && w == nil && name == xsd.Name{}
			if !isEmpty && (w == nil || w.Name != name) {
				continue
			}
			byName = append(byName, o)
			if o.Action == action {
				byAction = append(byAction, o)
			}
		}
	}
	if byAction != nil {
		return byAction
	}
	return byName
}

// byPayloads finds the operation whose message has the payloads in this order, as
// far as they go; one that has no more of them is preferred.
func (c *Contract) byPayloads(names []xsd.Name) (o *Operation, answer, found bool) {
	for _, b := range c.inUse() {
		for _, candidate := range b.Operations {
			for _, m := range []*Message{candidate.Input, candidate.Output} {
				if m == nil || len(m.Payload) < len(names) {
					continue
				}
				same := true
				for i, name := range names {
					same = same && m.Payload[i].Name == name
				}
				if same && (!found || len(m.Payload) == len(names)) {
					o, answer, found = candidate, m == candidate.Output, true
					if len(m.Payload) == len(names) {
						return o, answer, true
					}
				}
			}
		}
	}
	return o, answer, found
}
