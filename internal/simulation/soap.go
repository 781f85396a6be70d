package simulation

import (
	"bytes"
	"cmp"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// soapCalls are the operations of a WSDL.
type soapCalls struct{ contract *wsdl.Contract }

func (c soapCalls) operations() []string {
	var names []string
	for _, op := range c.contract.Operations() {
		names = append(names, op.Name)
	}
	return names
}

func (c soapCalls) isContract(r *http.Request) bool {
	query := strings.ToLower(r.URL.RawQuery)
	return query == "wsdl" || query == "singlewsdl"
}

func (c soapCalls) at(text, base string) string {
	for _, service := range c.contract.Services {
		for _, p := range service.Ports {
			if p.Address != "" {
				text = strings.ReplaceAll(text, `"`+p.Address+`"`, `"`+base+"/"+p.Name+`"`)
			}
		}
	}
	return text
}

// answer answers a SOAP call.
func (c soapCalls) answer(s *Service, w http.ResponseWriter, r *http.Request, body []byte, asked *Asked) {
	version := soap.V11
	if strings.Contains(r.Header.Get("Content-Type"), "application/soap+xml") {
		version = soap.V12
	}
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", http.MethodPost)
		http.Error(w, "SOAP is asked for by POST; ?wsdl gives the contract", http.StatusMethodNotAllowed)
		return
	}
	if mediaType, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); mediaType != "text/xml" &&
		mediaType != "application/soap+xml" {
		// SOAP 1.1, 6; SOAP 1.2, Part 2, 7.1.4.
		asked.Wrong = []string{"a message comes as text/xml or application/soap+xml, not as " + mediaType}
		http.Error(w, asked.Wrong[0], http.StatusUnsupportedMediaType)
		return
	}
	message, op, wrong := c.read(r, body)
	if message != nil {
		version = message.Version
	}
	asked.Wrong = wrong
	if op != nil {
		asked.Operation = op.Name
	}
	if len(wrong) > 0 {
		writeFault(w, version, &Fault{Code: "Client", Text: strings.Join(wrong, "; ")})
		return
	}
	fields := document.NewObject()
	if message.Payload != nil {
		fields = instance.Fields(c.contract.Schema, op.Input.Wrapper(), message.Payload)
	}
	said := s.scripted(op.Name, fields, asked)
	if said != nil {
		s.options.Wait(r, said.After)
	}
	switch {
	case said != nil && said.Fault != nil:
		writeFault(w, version, said.Fault)
		return
	case op.Output == nil:
		w.WriteHeader(http.StatusAccepted)
		return
	}
	payload := c.payload(op, fields, said)
	if payload == nil {
		writeFault(w, version, &Fault{
			Code: "Server",
			Text: "the script's answer does not fit the contract: " + strings.Join(asked.Wrong, "; "),
		})
		return
	}
	status := http.StatusOK
	if said != nil {
		for name, text := range said.Headers {
			w.Header().Set(name, text)
		}
		status = cmp.Or(said.Status, status)
	}
	writeEnvelope(w, version, status, payload)
}

// read gives the message that came and the operation that it asks for, or what is wrong with it.
func (c soapCalls) read(r *http.Request, body []byte) (message *soap.Message, op *wsdl.Operation, wrong []string) {
	root, err := document.ReadXML(body, "")
	if err != nil {
		return nil, nil, []string{err.Error()}
	}
	message, ok := soap.Read(root)
	if !ok {
		return nil, nil, []string{"no SOAP envelope"}
	}
	var name xsd.Name
	if message.Payload != nil {
		name = xsd.Name{Space: message.Payload.Name().Space, Local: message.Payload.Name().Local}
	}
	op, wrong = c.requested(name, actionOf(r), body)
	switch {
	case op != nil:
		return message, op, wrong
	case message.Payload == nil:
		return message, nil, []string{"the contract has no request with an empty Body"}
	}
	return message, nil, []string{"the contract has no request " + name.Local}
}

// requested is the operation that a request is for: of several that share its payload and its action the one that it
// fits best; with what is wrong with the request.
func (c soapCalls) requested(name xsd.Name, action string, body []byte) (best *wsdl.Operation, wrong []string) {
	least := 0
	for _, op := range c.contract.Requested(name, action) {
		var found []string
		v, _ := c.contract.ValidateOf(op, bytes.NewReader(body), func(f xsd.Fault) {
			if len(found) < 20 {
				found = append(found, f.Text())
			}
		})
		if best == nil || v.Faults < least {
			best, wrong, least = op, found, v.Faults
		}
	}
	return best, wrong
}

// actionOf is what a request says that it is for: SOAPAction, or the parameter action of its type (RFC 3902).
func actionOf(r *http.Request) string {
	if action := r.Header.Get("SOAPAction"); action != "" {
		return strings.Trim(action, `"`)
	}
	_, parameters, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	return parameters["action"]
}

// payload is a sample of the answer, with values of the request where the answer has
// fields of their names, and with what the script says in its place.
func (c soapCalls) payload(op *wsdl.Operation, asked *document.Node, said *Saying) *document.Node {
	wrapper := op.Output.Wrapper()
	if wrapper == nil {
		return document.NewObject()
	}
	sample := instance.Sample(c.contract.Schema, wrapper, schema.SampleOptions{Optional: true})
	fields := instance.Fields(c.contract.Schema, wrapper, sample.Root)
	fill := func(fields *document.Node) (*document.Node, bool) {
		filled, short := instance.Fill(c.contract.Schema, wrapper, fields, instance.FillOptions{})
		return filled, len(short) == 0
	}
	echo(fields, asked, func(fields *document.Node) bool {
		_, fits := fill(fields)
		return fits
	})
	payload, fits := fill(fields)
	if !fits {
		payload = sample.Root // it has what fields cannot say
	}
	if said != nil && said.Body != nil {
		// What the sample has beside what is said may not go with it.
		if payload, fits = fill(over(fields, said.Body)); !fits {
			if payload, fits = fill(said.Body); !fits {
				return nil
			}
		}
	}
	document.Declare(payload)
	return payload
}

// echo puts values of the request into an answer that has fields of their names, as far as
// the answer stays what the contract says.
func echo(answer, asked *document.Node, fits func(*document.Node) bool) {
	if answer.Kind != document.Object || asked.Kind != document.Object {
		return
	}
	for i, m := range answer.Members() {
		value := asked.Get(m.Key)
		if value == nil {
			continue
		}
		if m.Value.Kind == document.Number && document.IsNumber(value.Text) {
			value = document.NewNumber(value.Text) // a parameter of a path is a text
		}
		answer.Members()[i].Value = value
		if !fits(answer) {
			answer.Members()[i].Value = m.Value
		}
	}
}

// over puts what is said in place of what a sample has, member by member.
func over(sample, said *document.Node) *document.Node {
	if sample.Kind != document.Object || said.Kind != document.Object {
		return said
	}
	out := document.NewObject()
	out.SetMembers(slices.Clone(sample.Members()))
	for _, m := range said.Members() {
		if before := out.Get(m.Key); before != nil {
			out.Set(m.Key, over(before, m.Value))
		} else {
			out.Set(m.Key, m.Value)
		}
	}
	return out
}

func writeEnvelope(w http.ResponseWriter, version soap.Version, status int, payload *document.Node) {
	var inside []*document.Node
	if payload != nil && payload.Kind == document.Element {
		inside = []*document.Node{payload}
	}
	root := soap.Envelope(version, nil, inside)
	document.Declare(root)
	mediaType := "text/xml; charset=utf-8"
	if version == soap.V12 {
		mediaType = "application/soap+xml; charset=utf-8"
	}
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_, _ = io.WriteString(w, document.WriteXML(root, document.Style{}))
}

// Fault is a fault that is answered. Its code is Client or Server; version 1.2 calls them
// Sender and Receiver.
type Fault struct {
	Code, Text string
	Detail     *document.Node
}

// writeFault answers a fault by the rules of its version (SOAP 1.1, 4.4 and 6.2; SOAP 1.2,
// Part 1, 5.4, and Part 2, 7.5.2.2).
func writeFault(w http.ResponseWriter, version soap.Version, f *Fault) {
	element := func(name string, inside ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Local: name}, inside...)
	}
	text := func(s string) *document.Node { return document.NewUntyped(s) }
	space := version.Namespace()
	in := func(name string, inside ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Space: space, Prefix: "soap", Local: name}, inside...)
	}
	var detail []*document.Node
	if f.Detail != nil && f.Detail.Kind == document.Object {
		for _, m := range f.Detail.Members() {
			detail = append(detail, element(m.Key, text(m.Value.Text)))
		}
	}
	var fault *document.Node
	status := http.StatusInternalServerError
	if version == soap.V12 {
		code := map[string]string{"Client": "Sender", "Server": "Receiver"}[f.Code]
		if code == "Sender" {
			status = http.StatusBadRequest
		}
		reason := in("Text", text(f.Text))
		reason.SetAttributes([]document.Attribute{{Name: document.Name{
			Space:  "http://www.w3.org/XML/1998/namespace",
			Prefix: "xml", Local: "lang",
		}, Value: "en"}})
		fault = in("Fault", in("Code", in("Value", text("soap:"+code))), in("Reason", reason))
		if detail != nil {
			fault.AppendItems(in("Detail", detail...))
		}
	} else {
		fault = in("Fault", element("faultcode", text("soap:"+f.Code)), element("faultstring", text(f.Text)))
		if detail != nil {
			fault.AppendItems(element("detail", detail...))
		}
	}
	writeEnvelope(w, version, status, fault)
}
