package wsdl

import (
	"io"
	"slices"

	"testbench/internal/contract"
	"testbench/internal/xsd"
)

var _ contract.Contract = (*Contract)(nil)

// Head is what is said of it as a whole.
func (c *Contract) Head() *contract.Head {
	return &contract.Head{Format: "WSDL 1.1", Location: c.Location, Title: c.Name, About: c.Documentation}
}

// HasOperations is true: it is more than a schema.
func (c *Contract) HasOperations() bool { return true }

// HasPorts is true: operations are called at ports.
func (c *Contract) HasPorts() bool { return true }

// Operation finds an operation at a port; nil where there is none.
func (c *Contract) Operation(name string, as contract.Binding) (contract.Operation, error) {
	b, err := c.Bind(name, as.Port, as.Version)
	if b == nil || err != nil {
		return nil, err // and not an interface that holds nil
	}
	return b, nil
}

// CheckBinding says what is wrong with a port or a version of SOAP that is asked for.
func (c *Contract) CheckBinding(as contract.Binding) error {
	_, err := c.Port(as.Port, as.Version)
	return err
}

// Names lists the operations: those of the port that is meant, and where none is named, then those of the others.
func (c *Contract) Names(as contract.Binding) []string {
	port, err := c.PortFor(as.Port, as.Version)
	if err != nil {
		return nil
	}
	names := port.Binding.OperationNames()
	if as.Port != "" {
		return names
	}
	for _, other := range c.Ports() {
		for _, name := range other.Binding.OperationNames() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// Unusable lists the operations that cannot be used, for the contract is wrong in what they need.
func (c *Contract) Unusable() []string {
	var names []string
	for _, op := range c.Operations() {
		if op.Unusable != nil {
			names = append(names, op.Name)
		}
	}
	return names
}

// Refused is what other toolkits refuse the contract for, though it does no harm here.
func (c *Contract) Refused() []xsd.Problem { return c.Schema.Refused() }

// At says at which port an operation is called, where that is open.
func (c *Contract) At(operation string, as contract.Binding) contract.Binding {
	if as.Port != "" {
		return as
	}
	p, err := c.PortOf(operation, "", as.Version)
	if err != nil {
		return as
	}
	as.Port = c.PortName(p)
	return as
}

// Address is that of the port; "" where there is none.
func (c *Contract) Address(as contract.Binding) string {
	port, err := c.PortFor(as.Port, as.Version)
	if err != nil {
		return ""
	}
	return port.Address
}

// Validate holds a message against the contract in one pass, and says what it is.
func (c *Contract) Validate(in io.Reader, report func(xsd.Fault)) (what string, err error) {
	v, err := c.Judge(in, report)
	return v.String(), xsd.ReportSyntax(err, report)
}

// With is the contract itself: what a bench describes beside a WSDL is amended.
func (c *Contract) With([]*contract.Endpoint) contract.Contract { return c }
