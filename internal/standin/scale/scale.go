// Package scale is the RPC/encoded SOAP service of the stand-in.
package scale

import (
	"bytes"
	_ "embed" // the scale's contract
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"testbench/internal/contract/formats"
	"testbench/internal/document"
	"testbench/internal/simulation"
	"testbench/internal/soap"
	"testbench/internal/standin/lab"
)

// Service is the weighbridge: SOAP 1.1, one operation rpc/literal, which is simulated by its
// contract with tickets calculated here, and one rpc/encoded with arrays, whose answer refers
// to its values from the side as old servers do (SOAP 1.1, 5.2.1), and is written by hand.
type Service struct {
	tickets   atomic.Int64
	simulated *simulation.Service
}

//go:embed scale.wsdl
var scaleWSDL string

const scaleNamespace = "urn:heatherfold:scale"

// Register puts the weighbridge at its addresses.
func (s *Service) Register(mux *http.ServeMux) error {
	contract, err := formats.Read("scale.wsdl", []byte(scaleWSDL), nil)
	if err != nil {
		return err
	}
	if s.simulated, err = simulation.New(contract, simulation.Options{Answer: s.weigh}); err != nil {
		return err
	}
	mux.HandleFunc("GET /scale", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		scheme := "http"
		if r.TLS != nil {
			scheme = "https"
		}
		_, _ = io.WriteString(w, strings.ReplaceAll(scaleWSDL, "@BASE@", scheme+"://"+r.Host))
	})
	mux.HandleFunc("POST /scale", s.serve)
	return nil
}

func (s *Service) serve(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(data))
	root, err := document.ReadXML(data, "")
	if err != nil {
		s.simulated.ServeHTTP(w, r)
		return
	}
	message, ok := soap.Read(root)
	if !ok || message.Payload == nil || message.Payload.Name().Space != scaleNamespace ||
		message.Payload.Name().Local != "WeighAll" {
		s.simulated.ServeHTTP(w, r)
		return
	}
	answer, fault := s.weighAll(message.Payload.Child("loads"))
	if fault != nil {
		lab.WriteFault(w, soap.V11, fault)
		return
	}
	envelope := soap.Envelope(soap.V11, nil, answer)
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+document.WriteXML(envelope, document.Style{}))
}

func local(name string, content ...any) *document.Node {
	return lab.Named(document.Name{Local: name}, content...)
}

// weighed is what is on a ticket.
type weighed struct {
	number, plate string
	net           int
	at            string
}

const wrongLoad = "gross and tare must be whole kilograms, gross at least tare"

// ticket weighs a load.
func (s *Service) ticket(plate, gross, tare string) (weighed, bool) {
	full, err := strconv.Atoi(gross)
	empty, err2 := strconv.Atoi(tare)
	if err != nil || err2 != nil || full < empty {
		return weighed{}, false
	}
	return weighed{
		fmt.Sprintf("T-%04d", s.tickets.Add(1)), plate, full - empty,
		time.Now().UTC().Format("2006-01-02T15:04:05Z"),
	}, true
}

// weigh calculates the answer to Weigh.
func (s *Service) weigh(_ string, asked *document.Node) *simulation.Saying {
	load := asked.Get("load")
	t, ok := s.ticket(load.Get("plate").Text, load.Get("gross").Text, load.Get("tare").Text)
	if !ok {
		return &simulation.Saying{Fault: &simulation.Fault{Code: "Client", Text: wrongLoad}}
	}
	body, ticket := document.NewObject(), document.NewObject()
	ticket.Set("number", document.NewText(t.number))
	ticket.Set("plate", document.NewText(t.plate))
	ticket.Set("net", document.NewNumber(strconv.Itoa(t.net)))
	ticket.Set("weighedAt", document.NewText(t.at))
	body.Set("ticket", ticket)
	return &simulation.Saying{Body: body}
}

func (s *Service) weighAll(loads *document.Node) ([]*document.Node, *lab.Fault) {
	if loads == nil {
		return nil, &lab.Fault{Sender: true, Text: "the loads are missing"}
	}
	attribute := func(prefix, space, name, value string) document.Attribute {
		return document.Attribute{Name: document.Name{Space: space, Prefix: prefix, Local: name}, Value: value}
	}
	typed := func(n *document.Node, typ string) *document.Node {
		n.AppendAttributes(attribute("xsi", document.SchemaInstance, "type", typ))
		return n
	}
	tickets := local("tickets")
	var beside []*document.Node
	total := 0
	for i, load := range loads.Children() {
		t, ok := s.ticket(load.Child("plate").OwnText(), load.Child("gross").OwnText(), load.Child("tare").OwnText())
		if !ok {
			return nil, &lab.Fault{Sender: true, Text: wrongLoad}
		}
		content := []any{
			local("number", t.number), local("plate", t.plate), local("net", strconv.Itoa(t.net)),
			local("weighedAt", t.at),
		}
		for j, kind := range []string{"xsd:string", "s:Plate", "xsd:int", "xsd:dateTime"} {
			typed(content[j].(*document.Node), kind)
		}
		total += t.net
		id := fmt.Sprintf("t%d", i+1)
		item := local("item")
		item.SetAttributes([]document.Attribute{attribute("", "", "href", "#"+id)})
		tickets.AppendItems(item)
		value := typed(local("multiRef", content...), "s:Ticket")
		value.AppendAttributes(attribute("", "", "id", id))
		beside = append(beside, value)
	}
	tickets.SetAttributes([]document.Attribute{attribute("enc", soap.Encoding11, "arrayType",
		fmt.Sprintf("s:Ticket[%d]", len(beside)))})
	typed(tickets, "enc:Array")
	wrapper := lab.Named(document.Name{Space: scaleNamespace, Prefix: "s", Local: "WeighAllResponse"}, tickets,
		typed(local("total", strconv.Itoa(total)), "xsd:int"))
	answer := append([]*document.Node{wrapper}, beside...)
	for _, n := range answer {
		for prefix, space := range map[string]string{
			"s": scaleNamespace, "xsi": document.SchemaInstance,
			"xsd": "http://www.w3.org/2001/XMLSchema", "enc": soap.Encoding11,
		} {
			n.AppendAttributes(attribute("xmlns", "", prefix, space))
		}
	}
	return answer, nil
}
