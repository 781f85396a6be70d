package contract

import (
	"errors"
	"io"

	"testbench/internal/jsonschema"
	"testbench/internal/soap"
	"testbench/internal/xsd"
)

// Contract is what is known of a service or of its messages, whatever it was read from.
type Contract interface {
	// Head is what is said of it as a whole.
	Head() *Head
	// HasOperations says whether it is more than a schema.
	HasOperations() bool
	// Names lists the operations.
	Names(as Binding) []string
	// Operation finds one by its name; nil where there is none.
	Operation(name string, as Binding) (Operation, error)
	// Overview shows what it offers; nil for a schema alone. Form is the same as programs read it.
	Overview() *Overview
	Form() map[string]any
	// Address is where the contract itself says that its service is; "" where it does not.
	Address(as Binding) string
	// HasPorts says whether its operations are called at ports, as those of a WSDL are.
	HasPorts() bool
	// CheckBinding says what is wrong with a port or a version of SOAP that is asked for.
	CheckBinding(as Binding) error
	// At says at which port an operation is called, where that is open.
	At(operation string, as Binding) Binding
	// Validate holds a message against the contract in one pass, and says what it is: an envelope of a WSDL, or an
	// instance of a schema. A message that is not well-formed is a fault.
	Validate(in io.Reader, report func(xsd.Fault)) (what string, err error)
	// Unusable lists the operations that cannot be used, for the contract is wrong in what they need.
	Unusable() []string
	// Refused is what other toolkits refuse the contract for, though it does no harm here.
	Refused() []xsd.Problem
	// With puts operations that the bench describes before those of the contract.
	With(operations []*Endpoint) Contract
}

// Binding says which of the ports of a WSDL is meant, and in which version of SOAP it is
// called; empty ones take what there is. Contracts of other formats have none.
type Binding struct {
	Port    string
	Version soap.Version
}

// withoutPorts is what contracts without ports have in common.
type withoutPorts struct{}

func (withoutPorts) HasPorts() bool                  { return false }
func (withoutPorts) At(_ string, as Binding) Binding { return as }
func (withoutPorts) Unusable() []string              { return nil }
func (withoutPorts) CheckBinding(as Binding) error {
	if as != (Binding{}) {
		return errors.New("only a WSDL has ports and versions of SOAP, and this contract is not one")
	}
	return nil
}

// Described is a contract whose operations are endpoints: of OpenAPI, WADL, OData, or of a bench.
type Described struct {
	withoutPorts
	Description
}

var _ Contract = (*Described)(nil)

// NewDescribed makes a contract of a description.
func NewDescribed(d Description) *Described { return &Described{Description: d} }

// HasOperations is true, though their list may be empty.
func (d *Described) HasOperations() bool { return true }

// Names lists the operations.
func (d *Described) Names(Binding) []string { return d.Description.Names() }

// Operation finds one by its name; nil where there is none.
func (d *Described) Operation(name string, _ Binding) (Operation, error) {
	op, err := d.Description.Operation(name)
	if op == nil || err != nil {
		return nil, err // and not an interface that holds nil
	}
	return op, nil
}

// Overview shows what it offers.
func (d *Described) Overview() *Overview { return OverviewOf(d.Description) }

// Form is the same as programs read it.
func (d *Described) Form() map[string]any { return FormOf(d.Description) }

// Address is the first of its servers.
func (d *Described) Address(Binding) string {
	if servers := d.Head().Servers; len(servers) > 0 {
		return servers[0].Address
	}
	return ""
}

// Validate refuses: a body does not say of which operation it is.
func (d *Described) Validate(io.Reader, func(xsd.Fault)) (string, error) {
	return "", errors.New("of which operation is it? A body of REST does not say it")
}

// Refused is nothing.
func (d *Described) Refused() []xsd.Problem { return nil }

// With puts operations that the bench describes before those of the contract.
func (d *Described) With(operations []*Endpoint) Contract {
	return NewDescribed(Merge(operations, d.Description))
}

// withoutOperations is what schemas alone have in common.
type withoutOperations struct{ withoutPorts }

func (withoutOperations) HasOperations() bool                          { return false }
func (withoutOperations) Names(Binding) []string                       { return nil }
func (withoutOperations) Operation(string, Binding) (Operation, error) { return nil, nil }
func (withoutOperations) Overview() *Overview                          { return nil }
func (withoutOperations) Form() map[string]any                         { return nil }
func (withoutOperations) Address(Binding) string                       { return "" }

// instanceOf says what a message is that a schema alone describes.
const instanceOf = "an instance of the schema"

// XMLSchema is an XML Schema alone.
type XMLSchema struct {
	withoutOperations
	Schema *xsd.Schema
}

var _ Contract = (*XMLSchema)(nil)

// Head says the format.
func (s *XMLSchema) Head() *Head { return &Head{Format: "XML Schema"} }

// Validate holds an instance against the schema in one pass.
func (s *XMLSchema) Validate(in io.Reader, report func(xsd.Fault)) (string, error) {
	v := xsd.NewValidator(s.Schema)
	v.Report = report
	return instanceOf, xsd.ReportSyntax(v.Validate(in, ""), report)
}

// Refused is what other toolkits refuse the schema for.
func (s *XMLSchema) Refused() []xsd.Problem { return s.Schema.Refused() }

// With is the schema itself.
func (s *XMLSchema) With([]*Endpoint) Contract { return s }

// JSONSchema is a JSON Schema alone.
type JSONSchema struct {
	withoutOperations
	Schema *jsonschema.Schema
}

var _ Contract = (*JSONSchema)(nil)

// Head says the format.
func (s *JSONSchema) Head() *Head { return &Head{Format: "JSON Schema"} }

// Validate holds an instance against the schema.
func (s *JSONSchema) Validate(in io.Reader, report func(xsd.Fault)) (string, error) {
	body, err := ReadMessage(in, report)
	if body == nil {
		return instanceOf, err
	}
	for _, fault := range s.Schema.Check(body) {
		report(fault)
	}
	return instanceOf, nil
}

// Refused is nothing.
func (s *JSONSchema) Refused() []xsd.Problem { return nil }

// With is the schema itself.
func (s *JSONSchema) With([]*Endpoint) Contract { return s }

// amendedContract is a contract with what a bench says of its operations, by their names.
type amendedContract struct {
	Contract
	by map[string]*Endpoint
}

// Amend gives a contract with what a bench says of its operations beyond it, by their names, in place of what it
// said before.
func Amend(c Contract, by map[string]*Endpoint) Contract {
	if len(by) == 0 {
		return c
	}
	return &amendedContract{Base(c), by}
}

// Base is a contract without what a bench says beyond it.
func Base(c Contract) Contract {
	if a, ok := c.(*amendedContract); ok {
		return a.Contract
	}
	return c
}

// Operation finds an operation by its name, with what the bench says of it; nil where there is none.
func (a *amendedContract) Operation(name string, as Binding) (Operation, error) {
	op, err := a.Contract.Operation(name, as)
	if by := a.by[name]; by != nil && op != nil {
		return op.Amend(by)
	}
	return op, err
}

// With puts operations that the bench describes before those of the contract.
func (a *amendedContract) With(operations []*Endpoint) Contract {
	return &amendedContract{a.Contract.With(operations), a.by}
}
