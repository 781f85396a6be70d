package standin

import (
	_ "embed" // the scale's contract
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"testbench/internal/document"
	"testbench/internal/soap"
)

// scale is the weighbridge: SOAP 1.1, one operation rpc/literal, one
// rpc/encoded with arrays, whose answer refers to its values from the side as
// old servers do (SOAP 1.1, 5.2.1).
type scale struct{ tickets atomic.Int64 }

//go:embed scale.wsdl
var scaleWSDL string

const scaleNamespace = "urn:heatherfold:scale"

func (s *scale) register(mux *http.ServeMux) {
	mux.HandleFunc("GET /scale", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		scheme := "http"
		if r.TLS != nil {
			scheme = "https"
		}
		_, _ = io.WriteString(w, strings.ReplaceAll(scaleWSDL, "@BASE@", scheme+"://"+r.Host))
	})
	mux.HandleFunc("POST /scale", s.serve)
}

func (s *scale) serve(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		return
	}
	root, err := document.ReadXML(data, "")
	if err != nil {
		writeFault(w, soap.V11, &labFault{sender: true, text: "the message is not well-formed: " + err.Error()})
		return
	}
	message, ok := soap.Read(root)
	if !ok || message.Payload == nil || message.Payload.Name.Space != scaleNamespace {
		writeFault(w, soap.V11, &labFault{sender: true, text: "the Body must hold Weigh or WeighAll of the namespace " + scaleNamespace})
		return
	}
	var answer []*document.Node
	var fault *labFault
	switch message.Payload.Name.Local {
	case "Weigh":
		answer, fault = s.weigh(message.Payload.Child("load"))
	case "WeighAll":
		answer, fault = s.weighAll(message.Payload.Child("loads"))
	default:
		fault = &labFault{sender: true, text: "there is no operation " + message.Payload.Name.Local}
	}
	if fault != nil {
		writeFault(w, soap.V11, fault)
		return
	}
	envelope := soap.Envelope(soap.V11, nil, answer)
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+document.WriteXML(envelope, document.Style{}))
}

func local(name string, content ...any) *document.Node {
	return named(document.Name{Local: name}, content...)
}

// ticket weighs one load.
func (s *scale) ticket(load *document.Node) ([]any, int, *labFault) {
	if load == nil {
		return nil, 0, &labFault{sender: true, text: "the load is missing"}
	}
	gross, err := strconv.Atoi(load.Child("gross").OwnText())
	tare, err2 := strconv.Atoi(load.Child("tare").OwnText())
	if err != nil || err2 != nil || gross < tare {
		return nil, 0, &labFault{sender: true, text: "gross and tare must be whole kilograms, gross at least tare"}
	}
	number := fmt.Sprintf("T-%04d", s.tickets.Add(1))
	return []any{local("number", number), local("plate", load.Child("plate").OwnText()), local("net", strconv.Itoa(gross-tare)),
		local("weighedAt", time.Now().UTC().Format("2006-01-02T15:04:05Z"))}, gross - tare, nil
}

func (s *scale) weigh(load *document.Node) ([]*document.Node, *labFault) {
	content, _, fault := s.ticket(load)
	if fault != nil {
		return nil, fault
	}
	wrapper := named(document.Name{Space: scaleNamespace, Prefix: "s", Local: "WeighResponse"}, local("ticket", content...))
	wrapper.Attributes = append(wrapper.Attributes, document.Attribute{Name: document.Name{Prefix: "xmlns", Local: "s"}, Value: scaleNamespace})
	return []*document.Node{wrapper}, nil
}

func (s *scale) weighAll(loads *document.Node) ([]*document.Node, *labFault) {
	if loads == nil {
		return nil, &labFault{sender: true, text: "the loads are missing"}
	}
	attribute := func(prefix, space, name, value string) document.Attribute {
		return document.Attribute{Name: document.Name{Space: space, Prefix: prefix, Local: name}, Value: value}
	}
	typed := func(n *document.Node, typ string) *document.Node {
		n.Attributes = append(n.Attributes, attribute("xsi", document.SchemaInstance, "type", typ))
		return n
	}
	tickets := local("tickets")
	var beside []*document.Node
	total := 0
	for i, load := range loads.Children() {
		content, net, fault := s.ticket(load)
		if fault != nil {
			return nil, fault
		}
		for j, kind := range []string{"xsd:string", "s:Plate", "xsd:int", "xsd:dateTime"} {
			typed(content[j].(*document.Node), kind)
		}
		total += net
		id := fmt.Sprintf("t%d", i+1)
		item := local("item")
		item.Attributes = []document.Attribute{attribute("", "", "href", "#"+id)}
		tickets.Items = append(tickets.Items, item)
		value := typed(local("multiRef", content...), "s:Ticket")
		value.Attributes = append(value.Attributes, attribute("", "", "id", id))
		beside = append(beside, value)
	}
	tickets.Attributes = []document.Attribute{attribute("enc", soap.Encoding11, "arrayType", fmt.Sprintf("s:Ticket[%d]", len(beside)))}
	typed(tickets, "enc:Array")
	wrapper := named(document.Name{Space: scaleNamespace, Prefix: "s", Local: "WeighAllResponse"}, tickets, typed(local("total", strconv.Itoa(total)), "xsd:int"))
	answer := append([]*document.Node{wrapper}, beside...)
	for _, n := range answer {
		for prefix, space := range map[string]string{"s": scaleNamespace, "xsi": document.SchemaInstance, "xsd": "http://www.w3.org/2001/XMLSchema", "enc": soap.Encoding11} {
			n.Attributes = append(n.Attributes, attribute("xmlns", "", prefix, space))
		}
	}
	return answer, nil
}
