// Package formats tells the formats of contracts apart by what they hold, and
// reads them.
package formats

import (
	"errors"
	"io"
	"regexp"
	"slices"

	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/soap"
	"testbench/internal/xsd"
)

// Fetch gets the document that base speaks of as location; an empty base is the
// tester.
type Fetch = func(base, location string) (resolved string, data []byte, err error)

// Contract is what a document was read as: one of these is set, and with a WSDL
// its schema.
type Contract struct {
	WSDL        *wsdl.Contract
	Schema      *xsd.Schema
	JSON        *jsonschema.Schema
	Description contract.Description
	// Overlays are what a bench says of operations beyond the contract, by their names.
	Overlays map[string]*contract.Endpoint
}

// Binding says which of the ports of a WSDL is meant, and in which version of SOAP it is
// called; empty ones take what there is. Contracts of other formats have none.
type Binding struct {
	Port    string
	Version soap.Version
}

// HasOperations says whether the contract is more than a schema.
func (c *Contract) HasOperations() bool { return c.WSDL != nil || c.Description != nil }

// Format is what the contract is, in words.
func (c *Contract) Format() string {
	switch {
	case c.HasOperations():
		return c.Overview().Format
	case c.JSON != nil:
		return "JSON Schema"
	}
	return "XML Schema"
}

// With puts operations that the bench describes before those of the contract.
func (c *Contract) With(operations []*contract.Endpoint) *Contract {
	if c.Description == nil {
		return c
	}
	with := *c
	with.Description = contract.Merge(operations, c.Description)
	return &with
}

// Amended is the contract with what a bench says of its operations.
func (c *Contract) Amended(by map[string]*contract.Endpoint) *Contract {
	if len(by) == 0 {
		return c
	}
	out := *c
	out.Overlays = by
	return &out
}

// TellsOperation says whether a message tells itself of which operation it is: an envelope
// does so, and what is checked against a schema alone belongs to none.
func (c *Contract) TellsOperation() bool { return c.Description == nil }

// Validate holds a message against the contract in one pass, and says what it is: an
// envelope of a WSDL, or an instance of an XML Schema.
func (c *Contract) Validate(in io.Reader, report func(xsd.Fault)) (what string, err error) {
	if c.WSDL != nil {
		verdict, err := c.WSDL.Validate(in, report)
		return verdict.String(), err
	}
	v := xsd.NewValidator(c.Schema)
	v.Report = report
	return "an instance of the schema", v.Validate(in, "")
}

// HasPorts says whether it is a WSDL, whose operations are called at ports.
func (c *Contract) HasPorts() bool { return c.WSDL != nil }

// Operation finds an operation by its name, with what a bench says of it; nil where there is none.
func (c *Contract) Operation(name string, as Binding) (contract.Operation, error) {
	op, err := c.operation(name, as)
	if by := c.Overlays[name]; by != nil && op != nil {
		return op.Amend(by)
	}
	return op, err
}

func (c *Contract) operation(name string, as Binding) (contract.Operation, error) {
	switch {
	case c.WSDL != nil:
		b, err := c.WSDL.Bind(name, as.Port, as.Version)
		if b == nil || err != nil {
			return nil, err // and not an interface that holds nil
		}
		return b, nil
	case c.Description != nil:
		op, err := c.Description.Operation(name)
		if op == nil || err != nil {
			return nil, err
		}
		return op, nil
	}
	return nil, nil
}

// CheckBinding says what is wrong with a port or a version of SOAP that is asked for.
func (c *Contract) CheckBinding(as Binding) error {
	if c.WSDL != nil {
		_, err := c.WSDL.Port(as.Port, as.Version)
		return err
	}
	if as != (Binding{}) {
		return errors.New("ports and versions of SOAP belong to a WSDL, and it is none")
	}
	return nil
}

// Overview shows what the contract offers; nil for a schema alone. Form is the same as
// programs read it.
func (c *Contract) Overview() *contract.Overview {
	switch {
	case c.WSDL != nil:
		return c.WSDL.Overview()
	case c.Description != nil:
		return contract.OverviewOf(c.Description)
	}
	return nil
}

func (c *Contract) Form() map[string]any {
	if c.WSDL != nil {
		return c.WSDL.Form()
	}
	return contract.FormOf(c.Description)
}

// Names lists the operations.
func (c *Contract) Names(as Binding) []string {
	switch {
	case c.Description != nil:
		return c.Description.Names()
	case c.WSDL != nil:
		port, err := c.WSDL.PortFor(as.Port, as.Version)
		if err != nil {
			return nil
		}
		names := port.Binding.OperationNames()
		if as.Port != "" {
			return names
		}
		for _, other := range c.WSDL.Ports() {
			for _, name := range other.Binding.OperationNames() {
				if !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
		return names
	}
	return nil
}

// Faulty lists the operations that cannot be used, for the contract is wrong in what they need.
func (c *Contract) Faulty() []string {
	var names []string
	if c.WSDL == nil {
		return nil
	}
	for _, op := range c.WSDL.Operations() {
		if op.Faulty != nil {
			names = append(names, op.Name)
		}
	}
	return names
}

// Refused is what other toolkits refuse the contract for, though it does no harm here.
func (c *Contract) Refused() []xsd.Problem {
	switch {
	case c.WSDL != nil:
		return c.WSDL.Schema.Refused()
	case c.Schema != nil:
		return c.Schema.Refused()
	}
	return nil
}

// At says at which port an operation is called, where that is open.
func (c *Contract) At(operation string, as Binding) Binding {
	if c.WSDL == nil || as.Port != "" {
		return as
	}
	p, err := c.WSDL.PortOf(operation, "", as.Version)
	if err != nil {
		return as
	}
	as.Port = c.WSDL.PortName(p)
	return as
}

// Address is where the contract itself says that its service is, empty where it does not,
// and Location where the contract came from.
func (c *Contract) Address(as Binding) string {
	switch {
	case c.Description != nil && len(c.Description.Head().Servers) > 0:
		return c.Description.Head().Servers[0].Address
	case c.WSDL != nil:
		if port, err := c.WSDL.PortFor(as.Port, as.Version); err == nil {
			return port.Address
		}
	}
	return ""
}

func (c *Contract) Location() string {
	switch {
	case c.Description != nil:
		return c.Description.Head().Location
	case c.WSDL != nil:
		return c.WSDL.Location
	}
	return ""
}

// Load gets a contract and reads it.
func Load(location string, fetch Fetch) (*Contract, error) {
	resolved, data, err := fetch("", location)
	if err != nil {
		return nil, err
	}
	return Read(resolved, data, fetch)
}

// LooksLike says whether a document, of which the start is enough, is surely a contract.
// A JSON Schema that does not say so itself could be any JSON.
func LooksLike(start []byte) bool {
	if openapi.Is(start) {
		return true
	}
	if document.Guess(start) == document.XML {
		return rootOfContract.Match(start)
	}
	return jsonOfContract.Match(start)
}

// How contracts begin that are not OpenAPI.
var (
	rootOfContract = regexp.MustCompile(
		`^(?s)(?:[^<]*<(?:\?|!--|!DOCTYPE).*?>)*[^<]*<(?:[\w.-]+:)?(?:definitions|schema|application|Edmx)[\s>]`)
	jsonOfContract = regexp.MustCompile(`^\s*\{\s*(?:"\$id"[^,]*,\s*)?"(?:\$schema|\$Version)"\s*:`)
)
