package wsdl

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/soap"
	"testbench/internal/xsd"
)

// services puts the ports together from what was collected.
func (l *loader) services() error {
	bindings := map[xsd.Name]*Binding{}
	for _, name := range l.order {
		b, err := l.binding(name, l.bindings[name])
		if err != nil {
			return err
		}
		bindings[name] = b
		l.contract.Bindings = append(l.contract.Bindings, b)
	}
	for _, e := range l.found {
		s := &Service{Name: e.value("name"), Documentation: e.documentation()}
		for p := range e.all(Namespace, "port") {
			name, err := l.name(p, p.value("binding"))
			if err != nil {
				return err
			}
			b := bindings[name]
			if b == nil {
				l.note(p, "the port %s has the binding %s, which is not declared", p.value("name"), name)
				continue
			}
			port := &Port{Name: p.value("name"), Documentation: p.documentation(), Binding: b}
			for _, item := range p.Children() {
				if item.Name().Local == "address" {
					port.Address = p.with(item).value("location")
				}
			}
			port.Security = l.security(e, p, l.bindings[name])
			s.Ports = append(s.Ports, port)
		}
		l.contract.Services = append(l.contract.Services, s)
	}
	if len(l.contract.Services) == 0 {
		l.contract.notes = append(l.contract.notes,
			xsd.Problem{Location: l.contract.Location, Message: "it has no service, so it says no address"})
	}
	for _, b := range l.contract.Bindings {
		l.contract.loose = append(l.contract.loose, &Port{Name: b.Name.Local, Binding: b})
	}
	if len(l.contract.Bindings) == 0 {
		l.abstract()
	}
	return nil
}

// abstract tells what a WSDL without a binding describes.
func (l *loader) abstract() {
	l.contract.notes = append(l.contract.notes, xsd.Problem{
		Location: l.contract.Location,
		Message:  "it has no binding, so nothing in it can be called; a WSDL that imports this one may have them",
	})
	for name, e := range l.portTypes {
		t := PortType{Name: name, Documentation: e.documentation()}
		for o := range e.all(Namespace, "operation") {
			t.Operations = append(t.Operations,
				AbstractOperation{Name: o.value("name"), Documentation: o.documentation()})
		}
		l.contract.PortTypes = append(l.contract.PortTypes, t)
	}
	slices.SortFunc(l.contract.PortTypes,
		func(a, b PortType) int { return strings.Compare(a.Name.Full(), b.Name.Full()) })
}

func (l *loader) binding(name xsd.Name, e element) (*Binding, error) {
	b := &Binding{Name: name, Protocol: Other, Style: "document"}
	for _, kind := range []struct {
		space    string
		protocol Protocol
	}{{SOAP11Namespace, SOAP11}, {SOAP12Namespace, SOAP12}} {
		for x := range e.all(kind.space, "binding") {
			b.Protocol, b.Transport = kind.protocol, x.value("transport")
			if style := x.value("style"); style != "" {
				b.Style = style
			}
			if b.Transport != "http://schemas.xmlsoap.org/soap/http" &&
				b.Transport != "http://www.w3.org/2003/05/soap/bindings/HTTP/" {
				l.note(x, "the binding %s has the transport %q; HTTP is spoken all the same (Basic Profile 1.1, R2702)",
					name, b.Transport)
			}
		}
	}
	for x := range e.all(HTTPNamespace, "binding") {
		b.Protocol = HTTPPost
		if strings.EqualFold(x.value("verb"), "GET") {
			b.Protocol = HTTPGet
		}
	}
	typeName, err := l.name(e, e.value("type"))
	if err != nil {
		return nil, err
	}
	portType, known := l.portTypes[typeName]
	if !known {
		l.note(e, "the binding %s is of the port type %s, which is not declared", name, typeName)
		return b, nil
	}
	named := map[string]int{}
	for o := range e.all(Namespace, "operation") {
		named[o.value("name")]++
	}
	abstract := map[string][]element{}
	for o := range portType.all(Namespace, "operation") {
		abstract[o.value("name")] = append(abstract[o.value("name")], o)
	}
	for o := range e.all(Namespace, "operation") {
		op, err := l.operation(b, typeName, o, abstract[o.value("name")])
		if err != nil {
			return nil, err
		}
		if op == nil {
			continue
		}
		if named[op.Wire] > 1 {
			l.note(o, "several operations are called %s (Basic Profile 1.1, R2304)", op.Wire)
			if in := o.children(Namespace, "input"); len(in) > 0 && in[0].value("name") != "" {
				op.Name = op.Wire + "(" + in[0].value("name") + ")"
			} else {
				op.Name = fmt.Sprintf("%s(%d)", op.Wire, len(b.Operations)+1)
			}
		}
		b.Operations = append(b.Operations, op)
	}
	return b, nil
}

// operation joins an operation of a binding with that of the port type.
func (l *loader) operation(b *Binding, typeName xsd.Name, o element, abstracts []element) (*Operation, error) {
	op := &Operation{Name: o.value("name"), Wire: o.value("name"), Style: b.Style}
	abstract, found := matching(o, abstracts)
	if !found {
		l.note(o, "the binding has the operation %s, which its port type has not", op.Wire)
		return nil, nil
	}
	op.Documentation = abstract.documentation()
	if op.Documentation == "" {
		op.Documentation = o.documentation()
	}
	if x, ok := o.extension("operation"); ok {
		op.Action = x.value("soapAction")
		if style := x.value("style"); style != "" && style != b.Style {
			op.Style = style
			l.note(x, "%s is %s in a binding that is %s (Basic Profile 1.1, R2705)", op.Wire, style, b.Style)
		}
	}
	l.unusable = nil
	op.AddressingAction = addressingAction(op, typeName, abstract)
	for x := range o.all(HTTPNamespace, "operation") {
		op.Location = x.value("location")
	}
	var err error
	if op.Input, err = l.message(op, b, o, abstract, "input"); err != nil {
		return nil, err
	}
	if op.Output, err = l.message(op, b, o, abstract, "output"); err != nil {
		return nil, err
	}
	for f := range abstract.all(Namespace, "fault") {
		fault := &Fault{Name: f.value("name"), Documentation: f.documentation()}
		if parts, err := l.parts(f); err != nil {
			return nil, err
		} else if len(parts) > 0 {
			fault.Detail = parts[0].element
			if fault.Detail == nil {
				l.note(f, "the fault %s has a part with a type; it needs an element (Basic Profile 1.1, R2205)",
					fault.Name)
			}
		}
		op.Faults = append(op.Faults, fault)
	}
	if op.Unusable = l.unusable; op.Unusable != nil {
		l.note(o, "%s cannot be used: %s", op.Wire, op.Unusable)
	}
	return op, nil
}

// addressingNamespaces are those of the attribute Action: of WS-Addressing 1.0 Metadata, of the drafts that tools
// wrote before it, and of the submission.
var addressingNamespaces = []string{
	"http://www.w3.org/2007/05/addressing/metadata", "http://www.w3.org/2006/05/addressing/wsdl",
	soap.AddressingNamespace, soap.AddressingOld,
}

// addressingAction is the action of a request: the one that the contract says, else that of SOAP, else the default
// pattern of target namespace, port type and input (WS-Addressing 1.0 Metadata, 4.4).
func addressingAction(op *Operation, portType xsd.Name, abstract element) string {
	inputs := abstract.children(Namespace, "input")
	if len(inputs) == 0 {
		return op.Action
	}
	for _, a := range inputs[0].Attributes() {
		if a.Name.Local == "Action" && slices.Contains(addressingNamespaces, a.Name.Space) {
			return strings.TrimSpace(a.Value)
		}
	}
	if op.Action != "" {
		return op.Action
	}
	input := inputs[0].value("name")
	switch {
	case input != "":
	case len(abstract.children(Namespace, "output")) > 0: // WSDL 1.1, 2.4.5
		input = op.Wire + "Request"
	default:
		input = op.Wire
	}
	between := "/"
	if strings.HasPrefix(portType.Space, "urn:") {
		between = ":"
	}
	return strings.Join([]string{strings.TrimSuffix(portType.Space, between), portType.Local, input}, between)
}

// matching finds, of the operations of one name in a port type, the one that is
// meant: by the names of their input and output.
func matching(o element, abstracts []element) (element, bool) {
	if len(abstracts) == 0 {
		return element{}, false
	}
	if len(abstracts) > 1 {
		if i := slices.IndexFunc(abstracts, func(a element) bool { return sameNames(o, a) }); i >= 0 {
			return abstracts[i], true
		}
	}
	return abstracts[0], true
}

func sameNames(o, abstract element) bool {
	for _, way := range []string{"input", "output"} {
		ours, theirs := o.children(Namespace, way), abstract.children(Namespace, way)
		if len(ours) > 0 && len(theirs) > 0 && ours[0].value("name") != "" &&
			ours[0].value("name") != theirs[0].value("name") {
			return false
		}
	}
	return true
}

// part is a part of an abstract message.
type part struct {
	name    string
	element *xsd.Element
	typ     xsd.Type
	at      element
}

// parts gives those of the message that an input, output or fault names.
func (l *loader) parts(of element) ([]part, error) {
	return l.partsOf(of, of.value("message"))
}

func (l *loader) partsOf(of element, reference string) ([]part, error) {
	name, err := l.name(of, reference)
	if err != nil {
		return nil, err
	}
	message, known := l.messages[name]
	if !known {
		var others []xsd.Name
		for other := range l.messages {
			if other.Local == name.Local {
				others = append(others, other)
			}
		}
		if len(others) != 1 {
			l.note(of, "the message %s is not declared", name.Full())
			return nil, nil
		}
		// Some tools write the namespace of what is in the message.
		l.note(of, "the message %s is not declared; %s is taken for it", name.Full(), others[0].Full())
		message = l.messages[others[0]]
	}
	var parts []part
	for p := range message.all(Namespace, "part") {
		one := part{name: p.value("name"), at: p}
		if reference := p.value("element"); reference != "" {
			name, err := l.name(p, reference)
			if err != nil {
				return nil, err
			}
			one.element = l.contract.Schema.Elements[name]
			if unusable := l.contract.Schema.UnusableElement(name); unusable != nil {
				l.unusable, one.element = unusable, &xsd.Element{Name: name, Type: xsd.AnyType()}
			}
			if one.element == nil {
				l.note(p, "the part %s is the element %s, which is not declared; anything is taken for it", one.name,
					name.Full())
				one.element = &xsd.Element{Name: name, Type: xsd.AnyType()}
			}
		} else if reference := p.value("type"); reference != "" {
			name, err := l.name(p, reference)
			if err != nil {
				return nil, err
			}
			name.Space = xsd.Current(name.Space)
			one.typ = l.contract.Schema.Type(name)
			if unusable := l.contract.Schema.UnusableType(name); unusable != nil {
				l.unusable, one.typ = unusable, xsd.AnyType()
			}
			if one.typ == nil {
				l.note(p, "the part %s has the type %s, which is not declared; anything is taken for it", one.name,
					name.Full())
				one.typ = xsd.AnyType()
			}
		} else {
			l.note(p, "the part %s has neither an element nor a type; anything is taken for it", one.name)
			one.typ = xsd.AnyType()
		}
		parts = append(parts, one)
	}
	return parts, nil
}

// message reads the input or output of an operation.
func (l *loader) message(op *Operation, b *Binding, o, abstract element, way string) (*Message, error) {
	abstracts := abstract.children(Namespace, way)
	if len(abstracts) == 0 {
		return nil, nil
	}
	parts, err := l.parts(abstracts[0])
	if err != nil {
		return nil, err
	}
	m := &Message{Documentation: abstracts[0].documentation()}
	if m.Name, err = l.name(abstracts[0], abstracts[0].value("message")); err != nil {
		return nil, err
	}
	var expected []string // the parts that the body names
	listed, namespace := false, ""
	concretes := o.children(Namespace, way)
	if b.Protocol.isPlain() {
		l.plainMessage(m, op, concretes, parts, way)
		return m, nil
	}
	if len(concretes) > 0 {
		concrete := concretes[0]
		if err := l.mime(m, &concrete); err != nil {
			return nil, err
		}
		if body, ok := concrete.extension("body"); ok {
			namespace = body.value("namespace")
			m.Encoded = body.value("use") == "encoded"
			m.EncodingStyle = body.value("encodingStyle")
			for _, a := range body.Attributes() {
				if a.Name.Local == "parts" {
					expected, listed = strings.Fields(a.Value), true
				}
			}
			if m.Encoded {
				l.note(o, "%s is encoded (SOAP 1.1, section 5), which the Basic Profile 1.1 leaves out (R2706)",
					op.Wire)
			}
		}
		if err := l.headers(m, concrete); err != nil {
			return nil, err
		}
	}
	taken := parts[:0:0]
	for _, p := range parts {
		attached := false
		for _, a := range m.Attachments {
			attached = attached || a.Part == p.name
		}
		inHeader := false
		for _, h := range m.Headers {
			inHeader = inHeader || h.Part == p.name && h.Element == p.element
		}
		if !attached && (!listed && !inHeader || slices.Contains(expected, p.name)) {
			taken = append(taken, p)
		}
	}
	l.payload(m, op, b, taken, namespace, way)
	return m, nil
}

// payload makes the elements that are inside the Body (WSDL 1.1, 3.5).
func (l *loader) payload(m *Message, op *Operation, b *Binding, parts []part, namespace, way string) {
	if op.Style != "rpc" && b.Protocol.Version() != "" {
		for _, p := range parts {
			if p.element != nil {
				m.Payload = append(m.Payload, p.element)
				continue
			}
			l.note(p.at, "the part %s of a document has a type; it needs an element (Basic Profile 1.1, R2204)", p.name)
			m.Payload = append(m.Payload, &xsd.Element{Name: xsd.Name{Local: p.name}, Type: p.typ})
		}
		if len(parts) > 1 {
			l.note(parts[1].at, "%s has several elements in its Body (Basic Profile 1.1, R2210)", op.Wire)
		}
		return
	}
	wrapper := xsd.Name{Space: namespace, Local: op.Wire}
	if way == "output" {
		wrapper.Local += "Response"
	}
	group := &xsd.Group{Kind: xsd.Sequence}
	if m.Encoded {
		group.Kind = xsd.All // the order of accessors says nothing (SOAP 1.1, 5.1)
	}
	for _, p := range parts {
		accessor := &xsd.Element{Name: xsd.Name{Local: p.name}, Type: p.typ, Nillable: m.Encoded}
		if p.element != nil {
			if !b.Protocol.isPlain() {
				l.note(p.at, "the part %s of an rpc message is an element; it needs a type (Basic Profile 1.1, R2203)",
					p.name)
			}
			accessor.Type = p.element.Type
		}
		group.Particles = append(group.Particles, &xsd.Particle{Min: 1, Max: 1, Term: accessor})
	}
	t := &xsd.ComplexType{Base: xsd.AnyType(), Content: xsd.EmptyContent}
	if len(parts) > 0 {
		t.Content, t.Particle = xsd.ElementContent, &xsd.Particle{Min: 1, Max: 1, Term: group}
	}
	m.Payload = []*xsd.Element{{Name: wrapper, Type: t, Global: true, Documentation: m.Documentation}}
}

func (l *loader) headers(m *Message, concrete element) error {
	for _, space := range []string{SOAP11Namespace, SOAP12Namespace} {
		for h := range concrete.all(space, "header") {
			parts, err := l.partsOf(h, h.value("message"))
			if err != nil {
				return err
			}
			for _, p := range parts {
				if p.name != h.value("part") {
					continue
				}
				block := &Header{Element: p.element, Part: p.name, Required: h.isRequired()}
				if block.Element == nil {
					block.Element = &xsd.Element{
						Name: xsd.Name{Space: h.value("namespace"), Local: p.name},
						Type: p.typ,
					}
				}
				for f := range h.all(space, "headerfault") {
					faults, err := l.partsOf(f, f.value("message"))
					if err != nil {
						return err
					}
					for _, fault := range faults {
						if fault.name == f.value("part") && fault.element != nil {
							block.Faults = append(block.Faults, fault.element)
						}
					}
				}
				m.Headers = append(m.Headers, block)
			}
		}
	}
	return nil
}

// mime looks into a multipart binding: the body is in one of its parts.
func (l *loader) mime(m *Message, concrete *element) error {
	for related := range concrete.all(MIMENamespace, "multipartRelated") {
		for p := range related.all(MIMENamespace, "part") {
			if _, ok := p.extension("body"); ok {
				*concrete = p
				continue
			}
			for content := range p.all(MIMENamespace, "content") {
				name := content.value("part")
				added := false
				for i := range m.Attachments {
					if m.Attachments[i].Part == name {
						m.Attachments[i].Types = append(m.Attachments[i].Types, content.value("type"))
						added = true
					}
				}
				if !added {
					m.Attachments = append(m.Attachments,
						Attachment{Part: name, Types: []string{content.value("type")}})
				}
			}
		}
	}
	return nil
}
