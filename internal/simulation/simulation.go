// Package simulation answers for a service by its contract alone: requests are held
// against it, answers are valid samples, and a script of its own form says where another
// answer is wanted. It fetches nothing and keeps no files.
package simulation

import (
	"encoding/json"
	"fmt"
	"io"
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
	"testbench/internal/document"
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
	op      *contract.Endpoint
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

func newRoute(op *contract.Endpoint) *route {
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
