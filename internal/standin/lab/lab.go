// Package lab is the SOAP service of the stand-in, with ports that want WS-Security.
package lab

import (
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/soap"
	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
)

// Service speaks SOAP of both versions, document/literal wrapped. Its second port
// asks for a UsernameToken of WS-Security.
type Service struct {
	security *guard
}

// New makes the lab.
func New(o service.Options) (*Service, error) {
	guard, err := newSecurity(o)
	return &Service{security: guard}, err
}

const labNamespace = "urn:heatherfold:lab"

// Register puts the lab at its addresses.
func (l *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("GET /lab", l.contract)
	mux.HandleFunc("POST /lab", l.serve)
	mux.HandleFunc("/lab", service.OnlyBy("GET, HEAD, POST"))
	for _, port := range []string{"guarded", "digested", "signed", "sealed"} {
		mux.HandleFunc("/lab/"+port, service.OnlyBy("GET, HEAD, POST"))
		mux.HandleFunc("GET /lab/"+port, l.contract)
		mux.HandleFunc("POST /lab/"+port, func(w http.ResponseWriter, r *http.Request) {
			answer := httptest.NewRecorder()
			l.serve(answer, r)
			l.security.protect(port, answer, w)
		})
	}
	mux.HandleFunc("/lab/", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNotFound) })
}

func (l *Service) contract(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	switch {
	case r.URL.Query().Has("wsdl"):
		_, _ = io.WriteString(w, strings.ReplaceAll(demo.LabWSDL, "@BASE@", scheme+"://"+r.Host))
	case r.URL.Query().Has("xsd"):
		_, _ = io.WriteString(w, demo.LabXSD)
	default:
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w,
			"<!doctype html><title>Heatherfold lab</title><p>The lab speaks SOAP by POST. Its contract is at <a "+
				"href=\"?wsdl\">?wsdl</a>.\n")
	}
}

// Fault is a fault before it takes the form of a version.
type Fault struct {
	Sender         bool
	security       string // a fault code of WS-Security; empty for none
	Text           string
	field, problem string
}

func (l *Service) serve(w http.ResponseWriter, r *http.Request) {
	version := soap.VersionOf(r.Header.Get("Content-Type"))
	if version == "" {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.WriteHeader(http.StatusUnsupportedMediaType)
		_, _ = fmt.Fprintf(w, "the lab takes text/xml (SOAP 1.1) or application/soap+xml (SOAP 1.2), not %q\n",
			r.Header.Get("Content-Type"))
		return
	}
	data, err := io.ReadAll(r.Body)
	if err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		return
	}
	_, attachments, packed, err := unpacked(r, &data)
	if err != nil {
		WriteFault(w, version, &Fault{Sender: true, Text: err.Error()})
		return
	}
	root, err := document.ReadXML(data, "")
	if err != nil {
		WriteFault(w, version, &Fault{Sender: true, Text: "the message is not well-formed: " + err.Error()})
		return
	}
	message, ok := soap.Read(root)
	if !ok {
		WriteFault(w, version, &Fault{Sender: true, Text: "the message is not a SOAP envelope"})
		return
	}
	if message.Version != version {
		writeVersionMismatch(w, version, message.Version)
		return
	}
	root, refused := l.security.check(strings.TrimPrefix(strings.TrimPrefix(r.URL.Path, "/lab"), "/"), root, message)
	if refused != nil {
		WriteFault(w, version, refused)
		return
	}
	message, _ = soap.Read(root) // what was encrypted can be read now
	payload := message.Payload
	if payload == nil || payload.Name().Space != labNamespace {
		WriteFault(w, version, &Fault{
			Sender: true,
			Text:   "the body must hold an element of the namespace " + labNamespace,
		})
		return
	}
	if fault := checkAction(r, version, payload.Name().Local); fault != nil {
		WriteFault(w, version, fault)
		return
	}
	var answer *document.Node
	var fault *Fault
	switch payload.Name().Local {
	case "GradeLot":
		answer, fault = gradeLot(payload)
	case "ConvertIndex":
		answer, fault = convertIndex(payload)
	case "FileCertificate":
		soap.Restore(payload, attachments)
		answer, fault = fileCertificate(payload, attachments)
	case "RegisterAnalysis":
		answer, fault = registerAnalysis(payload, message.Prefixes())
	default:
		fault = &Fault{
			Sender: true, Text: "there is no operation " + payload.Name().Local,
			field: payload.Name().Local, problem: "unknown operation",
		}
	}
	if fault != nil {
		WriteFault(w, version, fault)
		return
	}
	var blocks []*document.Node
	if id, asked := message.Property("MessageID"); asked {
		relates := Named(document.Name{Space: soap.AddressingNamespace, Prefix: "wsa", Local: "RelatesTo"}, id)
		relates.SetAttributes([]document.Attribute{{
			Name:  document.Name{Prefix: "xmlns", Local: "wsa"},
			Value: soap.AddressingNamespace,
		}})
		blocks = append(blocks, relates)
	}
	receipt := element("Receipt", element("serial", strconv.FormatInt(100_000+time.Now().UnixNano()%900_000, 10)))
	if packed {
		writePackage(w, version, append(blocks, receipt), answer)
		return
	}
	writeEnvelope(w, version, http.StatusOK, append(blocks, receipt), answer)
}

// checkAction holds the action against the payload: the SOAPAction header in
// SOAP 1.1, the action parameter, if there is one, in 1.2.
func checkAction(r *http.Request, version soap.Version, operation string) *Fault {
	expected := labNamespace + ":" + operation
	if version == soap.V11 {
		values, given := r.Header["Soapaction"]
		if !given {
			return &Fault{Sender: true, Text: "the header SOAPAction is missing"}
		}
		if got := strings.Trim(values[0], `"`); got != expected && got != "" {
			return &Fault{Sender: true, Text: fmt.Sprintf("SOAPAction %q does not go with %s", got, operation)}
		}
		return nil
	}
	if m := actionParameter().FindStringSubmatch(r.Header.Get("Content-Type")); m != nil && m[1] != expected {
		return &Fault{Sender: true, Text: fmt.Sprintf("the action %q does not go with %s", m[1], operation)}
	}
	return nil
}

var (
	actionParameter = lazy.Regexp(`action="([^"]*)"`)
	lotID           = lazy.Regexp(`^L-[0-9]{4}$`)
)

// input reads the fields of a payload in their order; each is checked against its range.
type input struct {
	fields map[string]*document.Node
	fault  *Fault
}

func (in *input) fail(field, problem string) {
	if in.fault == nil {
		in.fault = &Fault{Sender: true, Text: fmt.Sprintf("%s: %s", field, problem), field: field, problem: problem}
	}
}

func readInput(payload *document.Node, order ...string) *input {
	in := &input{fields: map[string]*document.Node{}}
	last := -1
	for _, child := range payload.Children() {
		at := slices.Index(order, child.Name().Local)
		switch {
		case at < 0 || child.Name().Space != labNamespace:
			in.fail(child.Name().Local, "is not expected here")
		case at <= last:
			in.fail(child.Name().Local, "is there twice or out of order; the order is "+strings.Join(order, ", "))
		}
		last = at
		in.fields[child.Name().Local] = child
	}
	return in
}

func (in *input) decimal(name string, low, high string, required bool) *apd.Decimal {
	field := in.fields[name]
	if field == nil {
		if required {
			in.fail(name, "is mandatory")
		}
		return nil
	}
	d, ok := field.Decimal()
	if !ok {
		in.fail(name, fmt.Sprintf("%q is not a decimal", field.OwnText()))
		return nil
	}
	lowest, _ := document.Decimal(low)
	highest, _ := document.Decimal(high)
	if d.Cmp(lowest) < 0 || d.Cmp(highest) > 0 {
		in.fail(name, fmt.Sprintf("%s is out of range: %s to %s", strings.TrimSpace(field.OwnText()), low, high))
		return nil
	}
	return d
}

func gradeLot(payload *document.Node) (*document.Node, *Fault) {
	in := readInput(payload, "lot", "moisture", "hmf", "diastase", "remark")
	lot := strings.TrimSpace(in.fields["lot"].OwnText())
	if in.fields["lot"] == nil {
		in.fail("lot", "is mandatory")
	} else if !lotID().MatchString(lot) {
		in.fail("lot", fmt.Sprintf("%q is not of the form L-0000", lot))
	}
	moisture := in.decimal("moisture", "10", "30", true)
	hmf := in.decimal("hmf", "0", "200", false)
	diastase := in.decimal("diastase", "0", "60", false)
	if in.fault != nil {
		return nil, in.fault
	}
	atMost := func(d *apd.Decimal, limit string) bool {
		bound, _ := document.Decimal(limit)
		return d == nil || d.Cmp(bound) <= 0
	}
	grade := "C"
	switch {
	case atMost(moisture, "18") && atMost(hmf, "15") && (diastase == nil || !atMost(diastase, "7.99")):
		grade = "A"
	case atMost(moisture, "20") && atMost(hmf, "40"):
		grade = "B"
	}
	measures := element("measures", measure("moisture", "%", moisture))
	if hmf != nil {
		measures.AppendItems(measure("hmf", "mg/kg", hmf))
	}
	if diastase != nil {
		measures.AppendItems(measure("diastase", "DN", diastase))
	}
	answer := element("GradeLotResponse", element("lot", lot), element("grade", grade),
		element("gradedAt", time.Now().UTC().Format(time.RFC3339)), measures)
	if remark := in.fields["remark"]; remark != nil {
		answer.AppendItems(element("remark", remark.OwnText()))
	}
	return answer, nil
}

func measure(name, unit string, d *apd.Decimal) *document.Node {
	m := element("measure", document.FormatDecimal(d))
	m.SetAttributes([]document.Attribute{
		{Name: document.Name{Local: "name"}, Value: name},
		{Name: document.Name{Local: "unit"}, Value: unit},
	})
	return m
}

// convertIndex computes moisture = (-0.2681 - log10(index - 1)) / 0.002243, the
// common conversion at 20 °C, rounded to two digits.
func convertIndex(payload *document.Node) (*document.Node, *Fault) {
	in := readInput(payload, "refractiveIndex")
	index := in.decimal("refractiveIndex", "1.4740", "1.5044", true)
	if in.fault != nil {
		return nil, in.fault
	}
	x, _ := index.Float64()
	moisture := (-0.2681 - math.Log10(x-1)) / 0.002243
	return element("ConvertIndexResponse", element("refractiveIndex", document.FormatDecimal(index)),
		element("moisture", strconv.FormatFloat(moisture, 'f', 2, 64))), nil
}

// element makes an element of the lab's namespace from texts and elements.
func element(name string, content ...any) *document.Node {
	return Named(document.Name{Space: labNamespace, Prefix: "lab", Local: name}, content...)
}

// Named makes an element of texts, attributes and elements.
func Named(name document.Name, content ...any) *document.Node {
	e := document.NewElement(name)
	for _, c := range content {
		switch c := c.(type) {
		case string:
			if c != "" {
				e.AppendItems(document.NewUntyped(c))
			}
		case *document.Node:
			e.AppendItems(c)
		}
	}
	return e
}

func writeEnvelope(w http.ResponseWriter, version soap.Version, status int, blocks []*document.Node,
	payload *document.Node,
) {
	envelope := soap.Envelope(version, blocks, []*document.Node{payload})
	envelope.AppendAttributes(document.Attribute{
		Name:  document.Name{Prefix: "xmlns", Local: "lab"},
		Value: labNamespace,
	})
	w.Header().Set("Content-Type", version.ContentType(""))
	w.WriteHeader(status)
	_, _ = io.WriteString(w,
		`<?xml version="1.0" encoding="UTF-8"?>`+"\n"+document.WriteXML(envelope, document.Style{})+"\n")
}

// writeFault writes a fault in the form of the version, under the status that
// its binding gives (SOAP 1.1, 6.2: 500; SOAP 1.2 Part 2, 7.5.2.2: 400 for Sender).
// securityCode declares the prefix of a code of WS-Security.
func securityCode(n *document.Node) *document.Node {
	n.SetAttributes([]document.Attribute{{
		Name:  document.Name{Prefix: "xmlns", Local: "wsse"},
		Value: "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd",
	}})
	return n
}

// WriteFault answers with a fault.
func WriteFault(w http.ResponseWriter, version soap.Version, f *Fault) {
	var detail *document.Node
	if f.field != "" {
		detail = element("LabFault", element("field", f.field), element("problem", f.problem))
	}
	plain := func(name string, content ...any) *document.Node {
		return Named(document.Name{Local: name}, content...)
	}
	envelopeElement := func(name string, content ...any) *document.Node {
		return Named(document.Name{Space: version.Namespace(), Prefix: "soap", Local: name}, content...)
	}
	if version == soap.V12 {
		code, status := "soap:Receiver", http.StatusInternalServerError
		if f.Sender {
			code, status = "soap:Sender", http.StatusBadRequest
		}
		text := envelopeElement("Text", f.Text)
		text.SetAttributes([]document.Attribute{{Name: document.Name{Prefix: "xml", Local: "lang"}, Value: "en"}})
		codes := envelopeElement("Code", envelopeElement("Value", code))
		if f.security != "" {
			codes.AppendItems(envelopeElement("Subcode", securityCode(envelopeElement("Value", "wsse:"+f.security))))
		}
		fault := envelopeElement("Fault", codes, envelopeElement("Reason", text))
		if detail != nil {
			fault.AppendItems(envelopeElement("Detail", detail))
		}
		writeEnvelope(w, version, status, nil, fault)
		return
	}
	code := "soap:Server"
	if f.Sender {
		code = "soap:Client"
	}
	codes := plain("faultcode", code)
	if f.security != "" {
		codes = securityCode(plain("faultcode", "wsse:"+f.security))
	}
	fault := envelopeElement("Fault", codes, plain("faultstring", f.Text))
	if detail != nil {
		fault.AppendItems(plain("detail", detail))
	}
	writeEnvelope(w, version, http.StatusInternalServerError, nil, fault)
}

// writeVersionMismatch answers an envelope of another version than the content
// type says (SOAP 1.1, 4.4.1; SOAP 1.2 Part 1, 5.4.7).
func writeVersionMismatch(w http.ResponseWriter, version, got soap.Version) {
	text := fmt.Sprintf("the content type says SOAP %s, the envelope is SOAP %s", version, got)
	fault := Named(document.Name{Space: soap.Namespace11, Prefix: "soap", Local: "Fault"},
		Named(document.Name{Local: "faultcode"}, "soap:VersionMismatch"),
		Named(document.Name{Local: "faultstring"}, text))
	writeEnvelope(w, soap.V11, http.StatusInternalServerError, nil, fault)
}
