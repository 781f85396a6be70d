// Package soap builds and reads SOAP messages of both versions: envelope,
// header blocks, payload and fault. It knows nothing of WSDL and sends nothing.
package soap

import (
	"fmt"
	"mime"
	"strings"

	"testbench/internal/document"
)

// Version is a version of SOAP.
type Version string

// The versions.
const (
	V11 Version = "1.1"
	V12 Version = "1.2"
)

// The namespaces of the envelope (SOAP 1.1, section 4; SOAP 1.2 Part 1, section 5).
const (
	Namespace11 = "http://schemas.xmlsoap.org/soap/envelope/"
	Namespace12 = "http://www.w3.org/2003/05/soap-envelope"
	// Encoding11 is the namespace of the encoding (SOAP 1.1, section 5).
	Encoding11 = "http://schemas.xmlsoap.org/soap/encoding/"
	// Security is the namespace whose fault codes WS-Security 1.1, section 12, lists.
	Security = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
)

// Namespace returns the version's envelope namespace.
func (v Version) Namespace() string {
	if v == V12 {
		return Namespace12
	}
	return Namespace11
}

// ContentType returns the media type of a message. In SOAP 1.2 the action is
// its parameter (RFC 3902); in SOAP 1.1 it is a header of its own.
func (v Version) ContentType(action string) string {
	if v == V12 {
		contentType := "application/soap+xml; charset=utf-8"
		if action != "" {
			contentType += `; action="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(action) + `"`
		}
		return contentType
	}
	return "text/xml; charset=utf-8"
}

// ActionHeader returns the SOAPAction field of a SOAP 1.1 request: the action
// in quotes, and an empty text in quotes where there is none (section 6.1.1).
func ActionHeader(action string) string { return `"` + action + `"` }

const envelopePrefix = "soap"

// IsEnvelope says whether a name is that of an envelope, of either version.
func IsEnvelope(n document.Name) bool {
	return n.Local == "Envelope" && (n.Space == Namespace11 || n.Space == Namespace12)
}

// Envelope puts header blocks and payload into an envelope. Either may be
// empty.
func Envelope(version Version, blocks []*document.Node, payload []*document.Node) *document.Node {
	name := func(local string) document.Name {
		return document.Name{Space: version.Namespace(), Prefix: envelopePrefix, Local: local}
	}
	envelope := document.NewElement(name("Envelope"))
	envelope.AppendAttributes(document.Attribute{
		Name:  document.Name{Prefix: "xmlns", Local: envelopePrefix},
		Value: version.Namespace(),
	})
	if len(blocks) > 0 {
		header := document.NewElement(name("Header"))
		for _, block := range blocks {
			header.AppendItems(forVersion(version, block))
		}
		envelope.AppendItems(header)
	}
	envelope.AppendItems(document.NewElement(name("Body"), payload...))
	return envelope
}

// forVersion turns the attributes mustUnderstand and role of a block, written
// without a prefix, into those of the version (SOAP 1.1, 4.2; SOAP 1.2, 5.2).
func forVersion(version Version, block *document.Node) *document.Node {
	changed := block.Copy()
	changed.SetAttributes(nil)
	for _, a := range block.Attributes() {
		if a.Name.Prefix == "" &&
			(a.Name.Local == "mustUnderstand" || a.Name.Local == "role" || a.Name.Local == "actor") {
			a.Name.Prefix, a.Name.Space = envelopePrefix, version.Namespace()
			switch {
			case a.Name.Local == "mustUnderstand":
				a.Value = mustUnderstand(version, a.Value)
			case version == V11:
				a.Name.Local = "actor"
			default:
				a.Name.Local = "role"
			}
		}
		changed.AppendAttributes(a)
	}
	return changed
}

// mustUnderstand writes the truth as the version does: 1.1 knows only 1 and 0.
func mustUnderstand(version Version, text string) string {
	switch {
	case version == V11 && text == "true":
		return "1"
	case version == V11 && text == "false":
		return "0"
	case version == V12 && text == "1":
		return "true"
	case version == V12 && text == "0":
		return "false"
	}
	return text
}

// Message is a SOAP message that was read.
type Message struct {
	Version Version
	Blocks  []*document.Node // the header blocks
	Payload *document.Node   // the first element inside the Body; nil when it is empty
	Fault   *Fault
	// Departures tell where the message departs from the standard, in words.
	Departures []string

	envelope, body *document.Node
}

// Prefixes are those that the envelope and its Body declare: they hold in the payload.
func (m *Message) Prefixes() map[string]string {
	prefixes := map[string]string{}
	for _, n := range []*document.Node{m.envelope, m.body} {
		if n == nil {
			continue
		}
		for _, a := range n.Attributes() {
			switch {
			case !a.IsDeclaration():
			case a.Name.Prefix == "":
				prefixes[""] = a.Value
			default:
				prefixes[a.Name.Local] = a.Value
			}
		}
	}
	return prefixes
}

// Fault is a fault of either version in one form.
type Fault struct {
	Code    string // the local part: Client, Server, Sender, Receiver, …
	Subcode string // SOAP 1.2 only, local part
	Text    string // faultstring, or the first Reason
	Role    string // faultactor, or Role
	Detail  *document.Node
}

// String says the fault in one line.
func (f *Fault) String() string {
	text := f.Code
	if f.Subcode != "" {
		text += "/" + f.Subcode
	}
	return text + ": " + f.Text
}

// Node returns the fault as a tree: code, subcode, text, role, detail.
func (f *Fault) Node() *document.Node {
	node := document.NewObject()
	node.Set("code", document.NewUntyped(f.Code))
	if f.Subcode != "" {
		node.Set("subcode", document.NewUntyped(f.Subcode))
	}
	node.Set("text", document.NewUntyped(f.Text))
	if f.Role != "" {
		node.Set("role", document.NewUntyped(f.Role))
	}
	if f.Detail != nil {
		node.Set("detail", f.Detail)
	}
	return node
}

// Read takes an envelope apart. ok is false where the element is not an envelope.
func Read(envelope *document.Node) (message *Message, ok bool) {
	if envelope == nil || envelope.Kind != document.Element || envelope.Name().Local != "Envelope" {
		return nil, false
	}
	m := &Message{envelope: envelope}
	switch envelope.Name().Space {
	case Namespace11:
		m.Version = V11
	case Namespace12:
		m.Version = V12
	default:
		return nil, false
	}
	body := envelope.Child("Body")
	if body == nil {
		m.Departures = append(m.Departures, "the envelope has no Body")
		return m, true
	}
	m.body = body
	if header := envelope.Child("Header"); header != nil {
		m.Blocks = header.Children()
	}
	if children := resolve(body); len(children) > 0 {
		m.Payload = children[0]
		if m.Payload.Name().Local == "Fault" &&
			(m.Payload.Name().Space == Namespace11 || m.Payload.Name().Space == Namespace12) {
			m.readFault(m.Payload)
		}
	}
	return m, true
}

// readFault reads both shapes, whichever the envelope's version asks for:
// servers mix them.
func (m *Message) readFault(fault *document.Node) {
	f := &Fault{}
	shape := V11
	if code := fault.Child("Code"); code != nil {
		shape = V12
		f.Code = m.faultCode(code.Child("Value"), code, fault)
		if sub := code.Child("Subcode"); sub != nil {
			f.Subcode = localPart(sub.Child("Value").OwnText())
		}
		if reason := fault.Child("Reason"); reason != nil {
			f.Text = reason.Child("Text").OwnText()
		}
		f.Role = fault.Child("Role").OwnText()
		f.Detail = fault.Child("Detail")
	} else {
		f.Code = m.faultCode(fault.Child("faultcode"), fault)
		if code := fault.Child("faultcode"); code != nil && code.Name().Space != "" {
			m.depart("the parts of a fault of SOAP 1.1 are in no namespace, and faultcode is in %s", code.Name().Space)
		}
		f.Text = fault.Child("faultstring").OwnText()
		f.Role = fault.Child("faultactor").OwnText()
		f.Detail = fault.Child("detail")
	}
	f.Text = strings.TrimSpace(f.Text)
	if shape != m.Version {
		m.Departures = append(m.Departures,
			fmt.Sprintf("the envelope is SOAP %s, the fault in it has the shape of %s", m.Version, shape))
	}
	if f.Detail != nil && len(f.Detail.Children()) == 0 && strings.TrimSpace(f.Detail.OwnText()) != "" {
		m.depart("the detail of the fault is bare text, not an element: %s", strings.TrimSpace(f.Detail.OwnText()))
	}
	m.Fault = f
}

func (m *Message) depart(format string, args ...any) {
	m.Departures = append(m.Departures, fmt.Sprintf(format, args...))
}

// faultCode reads a code, which is a qualified name (SOAP 1.1, 4.4.1; SOAP 1.2
// Part 1, 5.4.1). What is wrong with its prefix is a departure, no obstacle.
func (m *Message) faultCode(code *document.Node, around ...*document.Node) string {
	text := strings.TrimSpace(code.OwnText())
	prefix, local, qualified := strings.Cut(text, ":")
	if code == nil || text == "" {
		m.depart("the fault has no code")
		return ""
	}
	if !qualified {
		return text
	}
	prefixes := m.Prefixes()
	for _, n := range append(around, code) {
		for _, a := range n.Attributes() {
			if a.IsDeclaration() && a.Name.Prefix != "" {
				prefixes[a.Name.Local] = a.Value
			}
		}
	}
	switch space, bound := prefixes[prefix]; {
	case !bound:
		m.depart("the prefix of the fault code %s is not declared", text)
	case space == Security || IsAddressing(space): // they list codes of their own
	case space != Namespace11 && space != Namespace12:
		m.depart("the fault code %s is a name of the service's own, in %s", text, space)
	case space != m.Version.Namespace():
		m.depart("the fault code %s is one of the other version of SOAP", text)
	}
	return local
}

func localPart(name string) string {
	name = strings.TrimSpace(name)
	return name[strings.LastIndexByte(name, ':')+1:]
}

// VersionOf tells the version that a content type stands for, or "".
func VersionOf(contentType string) Version {
	mediaType, parameters, err := mime.ParseMediaType(contentType)
	switch {
	case err != nil:
		return ""
	case mediaType == "application/soap+xml":
		return V12
	case mediaType == "text/xml":
		return V11
	case mediaType == "multipart/related" && parameters["start-info"] != "":
		return VersionOf(parameters["start-info"])
	case mediaType == "multipart/related":
		return VersionOf(parameters["type"])
	}
	return ""
}
