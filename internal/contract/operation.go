package contract

import (
	"net/url"

	"testbench/internal/document"
	"testbench/internal/rpc"
	"testbench/internal/schema"
	"testbench/internal/soap"
)

// Operation is one thing that a service does, as a contract of any format has it, or the
// bench, where it is described in bench.yaml.
type Operation interface {
	// Facts are what is known of it whatever the format.
	Facts() Facts
	// Build makes the request of a call from its fields, and tells what is wrong with them.
	Build(fields *document.Node, options BuildOptions) (*Request, []Problem)
	// Decode gives the body of an answer in the form that paths start from.
	Decode(body *document.Node) *document.Node
	// Hold says what is wrong with a request to an address.
	Hold(at *url.URL, r *Received) []string
	// Shape is that of the element in the envelope; nil where nothing is known of it.
	Shape() *schema.Shape
	// Judge holds an answer against what is said of answers.
	Judge(got Got) Judgement
	// Outline shows it with its fields down to a depth, 0 for all; Form is the same as
	// programs read it.
	Outline(depth int) *Outline
	Form(depth int) map[string]any
	// Parts are what of it a call can touch; without the fields of bodies unless these are asked for.
	Parts(fields bool) Parts
	// Draft writes the skeleton of a request or an answer.
	Draft(o DraftOptions) (*Draft, error)
	// Amend gives it with what a bench says of it beyond its contract.
	Amend(by *Endpoint) (Operation, error)
}

// Facts are what is known of an operation whatever its format.
type Facts struct {
	Name string
	// Method and Path are those of HTTP, empty where they are the same for all operations.
	Method, Path string
	Reads        bool // it changes nothing
	Deprecated   bool
	// OneWay says that nothing comes back.
	OneWay bool
	// BothVersions says that the contract has the service in the other version of SOAP, too.
	BothVersions bool
	// Endpoint is the operation by its parameters; nil for one of a WSDL.
	Endpoint *Endpoint
	// Versioned says that a change asks for the version that it is meant for, in
	// If-Match (RFC 9110, 13.1.1), and TakesVersion that it may carry one.
	Versioned, TakesVersion bool
	// Prefixes of XML are those that the contract declares.
	Prefixes map[string]string
	// ItemURL gives the address of one of the items that a list at an address holds, nil
	// where it is not known; it is nil for operations that read no list.
	ItemURL func(list *url.URL, item *document.Node) *url.URL
}

// Envelope is what a SOAP request has beside its body.
type Envelope struct {
	Version soap.Version // empty where the bench says it
	Action  string
	// AddressingAction is the action of WS-Addressing, where the contract tells one; "" for that of SOAP.
	AddressingAction string
	// Payload are the elements in the Body, nil where the step writes them. Element is
	// the name of one, as prefix:name, into which the body of the request goes.
	Payload []*document.Node
	Element string
	// Blocks are the header blocks that the fields of the call make.
	Blocks []*document.Node
	// Block makes a header block that the contract describes; nil for others.
	Block func(name string, content *document.Node) *document.Node
}

// Judgement is what came of holding an answer against its operation.
type Judgement struct {
	Judged bool     // something is said of such answers
	Wrong  []string // empty where the answer is as it should be
	Notes  []string // what is unusual and not wrong
}

// Facts are what is known of the operation.
func (o *Endpoint) Facts() Facts {
	return Facts{
		Name: o.Name, Method: o.Method, Path: o.Path, Reads: o.Reads, Deprecated: o.Deprecated,
		Versioned: o.Versioned, TakesVersion: o.TakesVersion, Endpoint: o, ItemURL: o.ItemURL,
	}
}

// Decode gives the body of an answer in the form that paths start from.
func (o *Endpoint) Decode(body *document.Node) *document.Node {
	if o.DecodeAnswer == nil {
		return body
	}
	return o.DecodeAnswer(body)
}

// Hold says what is wrong with a request to an address.
func (o *Endpoint) Hold(at *url.URL, r *Received) []string {
	pattern, names := PathPattern(o.Path)
	r.Path = map[string]string{}
	if found := pattern.FindStringSubmatch(at.EscapedPath()); found != nil {
		for i, name := range names {
			r.Path[name], _ = url.PathUnescape(found[i+1])
		}
	}
	r.Query = at.Query()
	_, wrong, _ := o.Receive(r)
	return wrong
}

// Shape is not known: a payload that is described in bench.yaml has no schema.
func (o *Endpoint) Shape() *schema.Shape { return nil }

// Method is an operation that is called by its name, by JSON-RPC or XML-RPC.
type Method struct {
	*Endpoint
	Kind rpc.Kind
}

// Build makes the call; its fields are the parameters.
func (m Method) Build(fields *document.Node, options BuildOptions) (*Request, []Problem) {
	atService := *m.Endpoint
	atService.Path = "" // all methods are called at the service's address
	r, problems := atService.Build(fields, options)
	r.Method = "POST"
	if options.Body != "" {
		return r, problems // the step writes the call itself
	}
	name, given := m.Name, r.Body
	if m.Call != "" {
		name = m.Call
	}
	if given == nil {
		given = document.NewObject()
	}
	var err error
	r.Type = m.Kind.ContentType()
	if r.Body, err = m.Kind.Call(name, given); err != nil {
		problems = append(problems, Problem{Message: "fill: " + err.Error()})
	}
	return r, problems
}
