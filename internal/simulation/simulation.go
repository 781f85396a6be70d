// Package simulation answers for a service by its contract alone: requests are checked
// against it, answers are valid samples, and a script of its own form says where another
// answer is wanted. It fetches nothing and keeps no files.
package simulation

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
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
	// Answer gives the answers that a program calculates, where the script says nothing;
	// nil, or nil of it, leaves the sample.
	Answer func(operation string, asked *document.Node) *Saying
	Played *Played     // past exchanges; nil for none
	Record func(Asked) // nil for nobody
	// Wait waits a time, or until the request is given up; nil takes time.After.
	Wait func(r *http.Request, d time.Duration)
}

// Service answers for a contract.
type Service struct {
	protocol protocol
	options  Options
	mutex    sync.Mutex
	state    *document.Node
	calls    int
}

// protocol is how a contract has its operations called.
type protocol interface {
	// operations lists their names.
	operations() []string
	// answer answers a call, and notes what came of it.
	answer(s *Service, w http.ResponseWriter, r *http.Request, body []byte, asked *Asked)
	// isContract says whether a request asks for the contract itself.
	isContract(r *http.Request) bool
	// at gives a document of the contract with the address under which it is answered for.
	at(text, base string) string
}

// New makes a service.
func New(c contract.Contract, o Options) (*Service, error) {
	s := &Service{options: o, state: document.NewObject()}
	if o.Wait == nil {
		s.options.Wait = func(r *http.Request, d time.Duration) {
			select {
			case <-time.After(d):
			case <-r.Context().Done():
			}
		}
	}
	switch c := contract.Base(c).(type) {
	case *wsdl.Contract:
		s.protocol = soapCalls{c}
	case *contract.Described:
		s.protocol = newHTTPCalls(c.Description)
	default:
		return nil, fmt.Errorf("a schema alone says of no operations; a service needs a WSDL, an OpenAPI, WADL or " +
			"OData description")
	}
	if o.Script != nil {
		for name, value := range o.Script.state {
			s.state.Set(name, value)
		}
		if err := o.Script.check(s.protocol.operations()); err != nil {
			return nil, err
		}
	}
	return s, nil
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
	asked := &Asked{
		At: time.Now().UTC().Round(time.Millisecond), Method: r.Method, Path: r.URL.Path,
		Query: r.URL.RawQuery, Body: string(body), AnsweredBy: "sample",
	}
	seen := &statusOf{ResponseWriter: w, status: http.StatusOK}
	if !s.document(seen, r) {
		if played := s.options.Played.next(r, body); played != nil {
			asked.AnsweredBy = "a past exchange"
			played.write(seen)
		} else {
			s.protocol.answer(s, seen, r, body, asked)
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
	name := path.Base(r.URL.Path)
	if s.protocol.isContract(r) {
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
	if s.options.Base != "" {
		text = s.protocol.at(text, s.options.Base)
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
		return &Saying{
			Status: http.StatusInternalServerError, Fault: &Fault{Code: "Server", Text: err.Error()},
			Text: err.Error(),
		}
	}
	if said == nil {
		return workedOut()
	}
	asked.AnsweredBy = fmt.Sprintf("script line %d", line)
	return said
}
