// Package simulation answers for a service by its contract alone: requests are held
// against it, answers are valid samples, and a script of its own form says where another
// answer is wanted. It fetches nothing and keeps no files.
package simulation

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/xsd"
)

// Asked is a call that came in, as it is recorded. Headers are left out: credentials
// stand there.
type Asked struct {
	At         time.Time       `json:"at"`
	Operation  string          `json:"operation,omitempty"`
	Method     string          `json:"method"`
	Path       string          `json:"path"`
	Query      string          `json:"query,omitempty"`
	Body       string          `json:"body,omitempty"`
	Status     int             `json:"status"`
	Wrong      []string        `json:"wrong,omitempty"` // by the contract
	AnsweredBy string          `json:"answered by"`     // sample, refused, contract, script line N, a past exchange
	Fields     json.RawMessage `json:"fields,omitempty"`
}

// Options say how a service is simulated.
type Options struct {
	Documents map[string][]byte // the contract and what it imports, by their names
	Main      string            // the name of the contract
	Base      string            // the address under which it answers
	Script    *Script           // nil for none
	// Answer gives the answers that a program works out, where the script says nothing;
	// nil, or nil of it, leaves the sample.
	Answer func(operation string, asked *document.Node) *Saying
	Played *Played     // past exchanges; nil for none
	Record func(Asked) // nil for nobody
	// Wait waits a time, or until the request is given up; nil takes time.After.
	Wait func(r *http.Request, d time.Duration)
}

// Service answers for a contract.
type Service struct {
	contract *formats.Contract
	options  Options
	routes   []*route
	prefix   string // of the paths, by the contract's own address
	mutex    sync.Mutex
	state    *document.Node
	calls    int
}

// route is an operation with what its paths look like.
type route struct {
	op      *contract.Operation
	pattern *regexp.Regexp
	names   []string
	literal int // how much of the path is no parameter: the most goes first
}

// New makes a service.
func New(c *formats.Contract, o Options) (*Service, error) {
	s := &Service{contract: c, options: o, state: document.NewObject()}
	if o.Wait == nil {
		s.options.Wait = func(r *http.Request, d time.Duration) {
			select {
			case <-time.After(d):
			case <-r.Context().Done():
			}
		}
	}
	var names []string
	switch {
	case c.WSDL != nil:
		for _, op := range c.WSDL.Operations() {
			names = append(names, op.Name)
		}
	case c.Description != nil:
		if servers := c.Description.Head().Servers; len(servers) > 0 {
			if u, err := url.Parse(servers[0].Address); err == nil {
				s.prefix = strings.TrimSuffix(u.Path, "/")
			}
		}
		for _, name := range c.Description.Names() {
			op, err := c.Description.Operation(name)
			if err != nil || op == nil {
				continue
			}
			names = append(names, name)
			s.routes = append(s.routes, newRoute(op))
		}
		slices.SortStableFunc(s.routes, func(a, b *route) int { return b.literal - a.literal })
	default:
		return nil, fmt.Errorf("a schema alone says of no operations; a service needs a WSDL, an OpenAPI, WADL or OData description")
	}
	if o.Script != nil {
		for name, value := range o.Script.state {
			s.state.Set(name, value)
		}
		if err := o.Script.check(names); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// inPath are the values of the parameters in a path, by their names.
func (r *route) inPath(values []string) map[string]string {
	out := map[string]string{}
	for i, name := range r.names[:min(len(r.names), len(values))] {
		if text, err := url.PathUnescape(values[i]); err == nil {
			out[name] = text
		}
	}
	return out
}

func newRoute(op *contract.Operation) *route {
	r := &route{op: op, literal: len(contract.FillPath(strings.TrimSuffix(op.Path, "/"), map[string]string{}))}
	r.pattern, r.names = contract.PathPattern(op.Path)
	return r
}

// mostAsked bounds a request.
const mostAsked = 16 << 20

// ServeHTTP answers a call.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostAsked))
	if err != nil {
		http.Error(w, "the request is not whole, or too large", http.StatusRequestEntityTooLarge)
		return
	}
	asked := &Asked{At: time.Now().UTC().Round(time.Millisecond), Method: r.Method, Path: r.URL.Path, Query: r.URL.RawQuery, Body: string(body), AnsweredBy: "sample"}
	seen := &statusOf{ResponseWriter: w, status: http.StatusOK}
	if !s.document(seen, r) {
		if played := s.options.Played.next(r, body); played != nil {
			asked.AnsweredBy = "a past exchange"
			played.write(seen)
		} else if s.contract.WSDL != nil {
			s.soap(seen, r, body, asked)
		} else {
			s.rest(seen, r, body, asked)
		}
	} else {
		asked.AnsweredBy = "contract"
	}
	asked.Status = seen.status
	if len(asked.Wrong) > 0 && asked.AnsweredBy == "sample" {
		asked.AnsweredBy = "refused"
	}
	if s.options.Record != nil {
		s.options.Record(*asked)
	}
}

// statusOf notes the status of an answer.
type statusOf struct {
	http.ResponseWriter
	status int
}

func (s *statusOf) WriteHeader(status int) {
	s.status = status
	s.ResponseWriter.WriteHeader(status)
}

// document gives the contract itself to who asks for it, with the address under which it
// is answered for.
func (s *Service) document(w http.ResponseWriter, r *http.Request) bool {
	if r.Method != http.MethodGet {
		return false
	}
	query := strings.ToLower(r.URL.RawQuery)
	name := path.Base(r.URL.Path)
	switch {
	case s.contract.WSDL != nil && (query == "wsdl" || query == "singlewsdl"), strings.HasSuffix(r.URL.Path, "/$metadata") && s.contract.Description != nil && strings.HasPrefix(s.contract.Description.Head().Format, "OData"):
		name = s.options.Main
	case name == "openapi.json" || name == "openapi.yaml":
		if s.contract.Description == nil || !strings.HasPrefix(s.contract.Description.Head().Format, "OpenAPI") {
			return false
		}
		name = s.options.Main
	}
	data, ok := s.options.Documents[name]
	if !ok {
		return false
	}
	text := string(data)
	mediaType := "application/yaml"
	switch document.Guess(data) {
	case document.XML:
		mediaType = "text/xml; charset=utf-8"
		if strings.HasSuffix(r.URL.Path, "/$metadata") {
			mediaType = "application/xml"
		}
	case document.JSON:
		mediaType = "application/json"
	}
	if s.contract.WSDL != nil && s.options.Base != "" {
		for _, service := range s.contract.WSDL.Services {
			for _, p := range service.Ports {
				if p.Address != "" {
					text = strings.ReplaceAll(text, `"`+p.Address+`"`, `"`+s.options.Base+"/"+p.Name+`"`)
				}
			}
		}
	}
	w.Header().Set("Content-Type", mediaType)
	_, _ = io.WriteString(w, text)
	return true
}

// soap answers a SOAP call.
func (s *Service) soap(w http.ResponseWriter, r *http.Request, body []byte, asked *Asked) {
	version := soap.V11
	if strings.Contains(r.Header.Get("Content-Type"), "application/soap+xml") {
		version = soap.V12
	}
	if r.Method != http.MethodPost {
		w.Header().Set("Allow", http.MethodPost)
		http.Error(w, "SOAP is asked for by POST; ?wsdl gives the contract", http.StatusMethodNotAllowed)
		return
	}
	if mediaType, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); mediaType != "text/xml" && mediaType != "application/soap+xml" {
		// SOAP 1.1, 6; SOAP 1.2, Part 2, 7.1.4.
		asked.Wrong = []string{"a message comes as text/xml or application/soap+xml, not as " + mediaType}
		http.Error(w, asked.Wrong[0], http.StatusUnsupportedMediaType)
		return
	}
	root, err := document.ReadXML(body, "")
	if err != nil {
		asked.Wrong = []string{"not well-formed: " + err.Error()}
		writeFault(w, version, &Fault{Code: "Client", Text: asked.Wrong[0]})
		return
	}
	message, ok := soap.Read(root)
	if !ok || message.Payload == nil {
		asked.Wrong = []string{"no SOAP envelope, or one without a payload"}
		writeFault(w, version, &Fault{Code: "Client", Text: asked.Wrong[0]})
		return
	}
	version = message.Version
	op, answer, found := s.contract.WSDL.ByPayload(message.Payload.Name.Space, message.Payload.Name.Local)
	if !found || answer {
		asked.Wrong = []string{fmt.Sprintf("the contract has no request %s", message.Payload.Name.Local)}
		writeFault(w, version, &Fault{Code: "Client", Text: asked.Wrong[0]})
		return
	}
	asked.Operation = op.Name
	_, _ = s.contract.WSDL.Validate(strings.NewReader(string(body)), func(f xsd.Fault) {
		if len(asked.Wrong) < 20 {
			asked.Wrong = append(asked.Wrong, f.Text())
		}
	})
	if len(asked.Wrong) > 0 {
		writeFault(w, version, &Fault{Code: "Client", Text: strings.Join(asked.Wrong, "; ")})
		return
	}
	fields := s.contract.Schema.Fields(op.Input.Wrapper(), message.Payload)
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
	payload := s.soapPayload(op, fields, said)
	if payload == nil {
		writeFault(w, version, &Fault{Code: "Server", Text: "the script's answer does not fit the contract: " + strings.Join(asked.Wrong, "; ")})
		return
	}
	status := http.StatusOK
	if said != nil {
		for name, text := range said.Headers {
			w.Header().Set(name, text)
		}
		if said.Status != 0 {
			status = said.Status
		}
	}
	writeEnvelope(w, version, status, payload)
}

// soapPayload is a sample of the answer, with values of the request where the answer has
// fields of their names, and with what the script says in its place.
func (s *Service) soapPayload(op *wsdl.Operation, asked *document.Node, said *Saying) *document.Node {
	wrapper := op.Output.Wrapper()
	if wrapper == nil {
		return document.NewObject()
	}
	sample := s.contract.Schema.Sample(wrapper, schema.SampleOptions{Optional: true})
	fields := s.contract.Schema.Fields(wrapper, sample.Root)
	fill := func(fields *document.Node) (*document.Node, bool) {
		filled, short := s.contract.Schema.Fill(wrapper, fields, xsd.FillOptions{})
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
	for i, m := range answer.Members {
		value := asked.Get(m.Key)
		if value == nil {
			continue
		}
		if m.Value.Kind == document.Number && document.IsNumber(value.Text) {
			value = document.NewNumber(value.Text) // a parameter of a path is a text
		}
		answer.Members[i].Value = value
		if !fits(answer) {
			answer.Members[i].Value = m.Value
		}
	}
}

// over puts what is said in place of what a sample has, member by member.
func over(sample, said *document.Node) *document.Node {
	if sample.Kind != document.Object || said.Kind != document.Object {
		return said
	}
	out := document.NewObject()
	out.Members = slices.Clone(sample.Members)
	for _, m := range said.Members {
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
		return &document.Node{Kind: document.Element, Name: document.Name{Local: name}, Items: inside}
	}
	text := func(s string) *document.Node { return document.NewUntyped(s) }
	space := version.Namespace()
	in := func(name string, inside ...*document.Node) *document.Node {
		n := element(name, inside...)
		n.Name.Space, n.Name.Prefix = space, "soap"
		return n
	}
	var detail []*document.Node
	if f.Detail != nil && f.Detail.Kind == document.Object {
		for _, m := range f.Detail.Members {
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
		reason.Attributes = []document.Attribute{{Name: document.Name{Space: "http://www.w3.org/XML/1998/namespace", Prefix: "xml", Local: "lang"}, Value: "en"}}
		fault = in("Fault", in("Code", in("Value", text("soap:"+code))), in("Reason", reason))
		if detail != nil {
			fault.Items = append(fault.Items, in("Detail", detail...))
		}
	} else {
		fault = in("Fault", element("faultcode", text("soap:"+f.Code)), element("faultstring", text(f.Text)))
		if detail != nil {
			fault.Items = append(fault.Items, element("detail", detail...))
		}
	}
	writeEnvelope(w, version, status, fault)
}

// rest answers a call of a description.
func (s *Service) rest(w http.ResponseWriter, r *http.Request, body []byte, asked *Asked) {
	where, method := strings.TrimPrefix(r.URL.EscapedPath(), s.prefix), s.method(r)
	var found *route
	var values []string
	var allowed []string
	for _, one := range s.routes {
		match := one.pattern.FindStringSubmatch(where)
		if match == nil || match[0] != where {
			continue
		}
		allowed = append(allowed, one.op.Method)
		if one.op.Method == method && found == nil {
			found, values = one, match[1:]
		}
	}
	switch {
	case found == nil && len(allowed) > 0:
		w.Header().Set("Allow", strings.Join(slices.Compact(allowed), ", "))
		s.refuse(w, http.StatusMethodNotAllowed, []string{r.Method + " is not what the contract has here"}, asked)
		return
	case found == nil:
		s.refuse(w, http.StatusNotFound, []string{"the contract has no " + where}, asked)
		return
	}
	op := found.op
	asked.Operation = op.Name
	fields, wrong, status := op.Receive(&contract.Received{Path: found.inPath(values), Query: r.URL.Query(), Header: r.Header, Body: body, IsKind: rule.IsKind})
	if len(wrong) > 0 {
		s.refuse(w, status, wrong, asked)
		return
	}
	said := s.scripted(op.Name, fields, asked)
	if said != nil {
		s.options.Wait(r, said.After)
	}
	s.sayREST(w, op, fields, said)
}

// refuse tells what is wrong with a request.
func (s *Service) refuse(w http.ResponseWriter, status int, wrong []string, asked *Asked) {
	asked.Wrong = wrong
	mediaType, body := s.errorBody(status, strings.Join(wrong, "; "))
	text, _ := json.Marshal(body)
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_, _ = w.Write(append(text, '\n'))
}

// sayREST answers with what the script says, else with a sample.
func (s *Service) sayREST(w http.ResponseWriter, op *contract.Operation, fields *document.Node, said *Saying) {
	status, answer := goodAnswer(op)
	if said != nil && said.Status != 0 {
		status = said.Status
		answer = op.AnswerFor(status)
	}
	var body *document.Node
	mediaType := ""
	if answer != nil {
		for _, h := range answer.Headers {
			if h.Required && h.Schema != nil {
				w.Header().Set(h.Wire, h.Schema.Sample(schema.SampleOptions{}).Root.Text)
			}
		}
		if len(answer.Contents) > 0 {
			c := answer.Contents[0]
			mediaType = strings.Replace(strings.Replace(c.Type, "*/*", "application/json", 1), "/*", "/plain", 1)
			switch {
			case c.Schema != nil:
				body = s.counted(fields, c.Schema.Sample(schema.SampleOptions{Optional: true}).Root)
				if status < 300 {
					echo(body, fields, func(body *document.Node) bool { return len(c.Schema.Check(body)) == 0 })
				}
			case strings.HasPrefix(mediaType, "text/plain"):
				body = document.NewUntyped("1") // a number is a text too, and a count is nothing else
			}
		}
	}
	if said != nil {
		for name, text := range said.Headers {
			w.Header().Set(name, text)
		}
		switch {
		case said.Body != nil && body != nil && body.Kind == document.Object:
			body = over(body, said.Body)
		case said.Body != nil:
			body = said.Body
		case said.Text != "":
			if mediaType == "" {
				mediaType = "text/plain; charset=utf-8"
			}
			w.Header().Set("Content-Type", mediaType)
			w.WriteHeader(status)
			_, _ = io.WriteString(w, said.Text)
			return
		}
	}
	if body == nil {
		w.WriteHeader(status)
		return
	}
	if op.Wire != nil && status < 300 {
		body = op.Wire(body)
	}
	if mediaType == "" {
		mediaType = "application/json"
	}
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", mediaType)
	}
	w.WriteHeader(status)
	if body.IsScalar() && strings.HasPrefix(mediaType, "text/") {
		_, _ = io.WriteString(w, body.Text)
		return
	}
	if body.Kind == document.Element {
		document.Declare(body)
		_, _ = io.WriteString(w, document.WriteXML(body, document.Style{}))
		return
	}
	_, _ = io.WriteString(w, document.WriteJSON(body, document.Style{})+"\n")
}

// goodAnswer is the first answer of success that holds something, or else the first.
func goodAnswer(op *contract.Operation) (int, *contract.Answer) {
	first, best := 0, (*contract.Answer)(nil)
	for i := range op.Answers {
		a := &op.Answers[i]
		status := 0
		switch _, err := fmt.Sscanf(a.Status, "%d", &status); {
		case strings.EqualFold(a.Status, "2XX"), a.Status == "default" && best == nil:
			status = http.StatusOK
		case err != nil || status < 200 || status > 299:
			continue
		}
		if best == nil || len(best.Contents) == 0 && len(a.Contents) > 0 {
			first, best = status, a
		}
	}
	if best == nil {
		return http.StatusOK, nil
	}
	return first, best
}

// scripted finds what the script says to a call; nil for nothing.
func (s *Service) scripted(operation string, fields *document.Node, asked *Asked) *Saying {
	asked.Fields = json.RawMessage(document.WriteJSON(fields, document.Style{}))
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.calls++
	workedOut := func() *Saying {
		if s.options.Answer == nil {
			return nil
		}
		return s.options.Answer(operation, fields)
	}
	if s.options.Script == nil {
		return workedOut()
	}
	said, line, err := s.options.Script.say(operation, fields, s.state, s.calls)
	if err != nil {
		asked.Wrong = append(asked.Wrong, err.Error())
		return &Saying{Status: http.StatusInternalServerError, Fault: &Fault{Code: "Server", Text: err.Error()}, Text: err.Error()}
	}
	if said == nil {
		return workedOut()
	}
	asked.AnsweredBy = fmt.Sprintf("script line %d", line)
	return said
}
