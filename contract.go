package testbench

import (
	"context"
	"errors"
	"fmt"
	"io"

	"testbench/internal/contract/openapi"
	"testbench/internal/contract/source"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/hint"
	"testbench/internal/login"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/xsd"
)

// Contract is what a description says: a WSDL, an XML Schema alone, or the
// security part of an OpenAPI description.
type Contract struct {
	WSDL    *wsdl.Contract // nil for a schema alone
	Schema  *xsd.Schema
	OpenAPI *openapi.Contract // what an OpenAPI description says of how to get in
	Service *sheet.Service    // where the contract is that of a service of the bench
}

// ContractError tells that a description cannot be used.
type ContractError struct{ Err error }

func (e *ContractError) Error() string { return e.Err.Error() }
func (e *ContractError) Unwrap() error { return e.Err }

// Try says what may help against an error of reading a contract or of a login; ""
// where nothing is known.
func Try(err error) string {
	var unreached *sheet.FetchError
	var broken *sheet.ContractError
	var refused *login.Error
	switch {
	case errors.As(err, &refused) && refused.Try != "":
		return refused.Try
	case errors.As(err, &refused) && refused.Record != nil && refused.Record.Failure != nil:
		return hint.Unreached(refused.Record)
	case errors.As(err, &unreached) && unreached.Record.Failure != nil:
		return hint.Unreached(unreached.Record)
	case errors.As(err, &broken) && broken.Described:
		return "-contract answer sends it all the same"
	}
	return ""
}

// Contract reads a description: of a service of the bench by its name, from a
// file, an address, or the standard input (-).
func (b *Bench) Contract(ctx context.Context, name string, standard io.Reader, o Options) (*Contract, error) {
	service := b.inner.Service(name)
	if service != nil && service.Contract == nil {
		return nil, fmt.Errorf("the service %s has no contract; its operations are described by hand", name)
	}
	if source.IsAddress(name) {
		// The command line names the host, so it is meant.
		o.Allow = append(o.Allow, hostOf(name))
	}
	session, err := sheet.NewSession(b.inner, b.complete(o))
	if err != nil {
		return nil, err
	}
	defer func() { _ = closeInTime(session) }()
	if service != nil {
		c, err := session.Contract(ctx, service)
		if err != nil {
			return nil, &ContractError{err}
		}
		return &Contract{WSDL: c, Schema: c.Schema, Service: service}, nil
	}
	from := session.Source(ctx)
	from.Dir, from.Standard = "", standard
	resolved, data, err := from.Fetch("", name)
	if err != nil {
		var missing *source.NoFileError
		if errors.As(err, &missing) && len(b.inner.Services) > 0 {
			return nil, &sheet.NotFoundError{What: "service, and no file,", Name: name, Known: b.inner.ServiceNames()}
		}
		return nil, &ContractError{err}
	}
	c, err := readContract(resolved, data, from)
	if err != nil {
		return nil, &ContractError{err}
	}
	return c, nil
}

// readContract tells the formats apart by the root element.
func readContract(location string, data []byte, from *source.Source) (*Contract, error) {
	if openapi.Is(data) {
		c, err := openapi.Read(location, data)
		return &Contract{OpenAPI: c}, err
	}
	root, err := document.ReadXML(data, "")
	var syntax *document.Error
	if errors.As(err, &syntax) {
		return nil, &xsd.SchemaError{Problems: []xsd.Problem{{Location: location, Line: syntax.Line, Column: syntax.Column, Message: "not well-formed XML: " + syntax.Message}}}
	}
	if err != nil {
		return nil, err
	}
	if root.Name.Local == "schema" {
		l := &xsd.Loader{Fetch: from.Fetch}
		if err := l.AddText(location, data); err != nil {
			return nil, err
		}
		schema, err := l.Schema()
		return &Contract{Schema: schema}, err
	}
	c, err := wsdl.Read(location, data, from.Fetch)
	if err != nil {
		return nil, err
	}
	return &Contract{WSDL: c, Schema: c.Schema}, nil
}

func hostOf(address string) string {
	host, _ := source.Host(address)
	return host
}

// Operation finds an operation of a WSDL, at a port and in a version of SOAP
// where those are given.
func (c *Contract) Operation(name, port, version string) (*wsdl.Port, *wsdl.Operation, error) {
	if c.WSDL == nil {
		return nil, nil, errors.New("a schema has elements and no operations")
	}
	if c.Service != nil && port == "" {
		port = c.Service.Port
	}
	p, err := c.WSDL.Port(port, soap.Version(version))
	if err != nil {
		return nil, nil, err
	}
	o := p.Binding.Operation(name)
	if o == nil {
		return nil, nil, &sheet.NotFoundError{What: "operation", Name: name, Known: p.Binding.OperationNames()}
	}
	return p, o, nil
}

// Validation is what came of holding a message against a contract.
type Validation struct {
	What   string // what the message is, in words
	Faults []xsd.Fault
	Total  int // of faults, those beyond the limit too
}

// Validate holds a message against the contract in one pass: an envelope against a
// WSDL, any instance against a schema. Of the faults, the first most are
// returned (0: all). A message that is not well-formed is one fault.
func (c *Contract) Validate(in io.Reader, most int) (*Validation, error) {
	out := &Validation{What: "an instance of the schema"}
	report := func(f xsd.Fault) {
		if out.Total++; most == 0 || len(out.Faults) < most {
			out.Faults = append(out.Faults, f)
		}
	}
	var err error
	if c.WSDL != nil {
		var verdict *wsdl.Verdict
		verdict, err = c.WSDL.Validate(in, report)
		out.What = verdict.String()
	} else {
		v := xsd.NewValidator(c.Schema)
		v.Report = report
		err = v.Validate(in, "")
	}
	if fault, ok := xsd.SyntaxFault(err); ok {
		report(fault)
		return out, nil
	}
	return out, err
}
