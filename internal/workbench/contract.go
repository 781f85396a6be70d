package workbench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"testbench/internal/addservice"
	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/contract/versions"
	"testbench/internal/hint"
	"testbench/internal/login"
	"testbench/internal/session"
	"testbench/internal/vet"
	"testbench/internal/xsd"
)

// Contract is what a description says, of any format.
type Contract struct {
	contract.Contract
	Service *bench.Service // where the contract is that of a service of the bench
}

// Try says what may help against an error of reading a contract or of a login; ""
// where nothing is known.
func Try(err error) string {
	var unreached *bench.FetchError
	var broken *session.ContractError
	var refused *login.Error
	switch {
	case errors.As(err, &refused) && refused.Try != "":
		return refused.Try
	case errors.As(err, &refused) && refused.Record != nil && refused.Record.Failure != nil:
		return hint.Unreached(refused.Record)
	case errors.As(err, &unreached) && unreached.Record.Failure != nil:
		return hint.Unreached(unreached.Record)
	case errors.As(err, &unreached) && (unreached.Record.Answer.Status == 401 || unreached.Record.Answer.Status == 403):
		return "if the service has a login, look at its user and secret. If not, write login: NAME at the service, " +
			"or `testbench add NAME ADDRESS -login LOGIN`: its contract is then fetched with the login, at the " +
			"service's own origin. A contract elsewhere: save it into the bench as a file"
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
		if len(service.Operations) == 0 && service.Speaks != "" {
			return nil, fmt.Errorf("the methods of %s are called by name (%s), and none is described; `testbench "+
				"call %s/METHOD name=value` calls one", name, service.Speaks, name)
		}
		if len(service.Operations) == 0 {
			return nil, fmt.Errorf("the service %s has no contract, and no operations are described; write contract: "+
				"or operations: at it", name)
		}
		byHand := contract.NewByHand(service.Name, b.inner.File(), service.Operations)
		return &Contract{Contract: contract.NewDescribed(byHand), Service: service}, nil
	}
	if source.IsAddress(name) {
		// The command line names the host, so it is meant.
		o.Named = append(o.Named, hostOf(name))
	}
	if err := vet.CheckArguments(b.inner, arguments(o), nil, nil); err != nil {
		return nil, err
	}
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, err
	}
	defer func() { _ = closeInTime(session) }()
	if service != nil {
		c, err := session.Contract(ctx, service)
		if err != nil {
			return nil, err
		}
		return &Contract{Contract: c.With(service.Operations), Service: service}, nil
	}
	from := session.Source(ctx)
	from.Dir, from.Standard = "", standard
	resolved, data, err := from.Fetch("", name)
	if err != nil {
		var missing *source.NoFileError
		if errors.As(err, &missing) && strings.Contains(name, "/") {
			files, _ := filepath.Glob(filepath.Join(filepath.Dir(name), "*"))
			for i, file := range files {
				files[i] = filepath.ToSlash(file)
			}
			return nil, &bench.NotFoundError{What: "file", Name: name, Known: files}
		}
		if errors.As(err, &missing) && len(b.inner.Services) > 0 {
			return nil, &bench.NotFoundError{What: "service, and no file,", Name: name, Known: b.inner.ServiceNames()}
		}
		return nil, err
	}
	c, err := formats.Read(resolved, data, from.Fetch)
	if err != nil {
		return nil, err
	}
	return &Contract{Contract: c}, nil
}

// Add puts a service into the bench file.
func (b *Bench) Add(ctx context.Context, a addservice.Addition, o Options) (*addservice.Added, error) {
	if source.IsAddress(a.Source) {
		o.Named = append(o.Named, hostOf(a.Source))
	}
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, err
	}
	defer func() { _ = closeInTime(session) }()
	var logins []string
	if a.Login != "" {
		logins = []string{a.Login}
	}
	from := session.SourceWith(ctx, a.Source, logins)
	from.Dir, from.Standard = "", b.Standard
	return addservice.Add(b.inner, from, a)
}

// TellsOperation says whether a message tells itself of which operation it is: an envelope
// does so, and what is checked against a schema alone belongs to none.
func (c *Contract) TellsOperation() bool { return c.HasPorts() || !c.HasOperations() }

// HasService says whether the bench has a service of that name.
func (b *Bench) HasService(name string) bool { return b.inner.Service(name) != nil }

// LooksLikeContract says whether a document, of which the start is enough, is surely a
// contract.
func LooksLikeContract(start []byte) bool { return formats.LooksLike(start) }

// Change is one thing that is not as it was in an earlier version of a contract.
type Change = versions.Change

// Changes lists what changed from this version of a contract to a later one, and whom
// each change breaks. It fails where they are not of one kind.
func (c *Contract) Changes(later *Contract) ([]Change, error) {
	return versions.Compare(c.Contract, later.Contract)
}

func hostOf(address string) string {
	host, _ := source.Host(address)
	return host
}

// Binding says which of the ports of a WSDL is meant, and in which version of SOAP.
type Binding = contract.Binding

// Operation finds an operation; in place of what the binding leaves open, the bench's own
// service says it.
func (c *Contract) Operation(name string, as Binding) (contract.Operation, error) {
	if !c.HasOperations() {
		return nil, errors.New("a schema has elements and no operations")
	}
	if c.Service != nil && as.Port == "" {
		as.Port = c.Service.Port
	}
	op, err := c.Contract.Operation(name, as)
	if err == nil && op == nil {
		err = &bench.NotFoundError{What: "operation", Name: name, Known: c.Names(as)}
	}
	return op, err
}

// Validation is what came of holding a message against a contract.
type Validation struct {
	What   string // what the message is, in words
	Faults []xsd.Fault
	Total  int // of faults, those beyond the limit too
	// Refused is what other toolkits refuse the schema for.
	Refused []xsd.Problem
}

// Validate holds a message against the contract in one pass: an envelope against a
// WSDL, any instance against a schema. Of the faults, the first most are
// returned (0: all). A message that is not well-formed is one fault.
func (c *Contract) Validate(in io.Reader, most int) (*Validation, error) {
	out := &Validation{Refused: c.Refused()}
	report := out.limited(most)
	var err error
	out.What, err = c.Contract.Validate(in, report)
	return out, err
}

// ValidateFor holds a body against what an operation of a description says of it:
// of the answer with a status, or of the request where the status is 0.
func (c *Contract) ValidateFor(operation string, status int, in io.Reader, most int) (*Validation, error) {
	found, err := c.Operation(operation, Binding{})
	if err != nil {
		return nil, err
	}
	op := found.Facts().Endpoint
	if op == nil {
		return nil, fmt.Errorf("an envelope of %s says itself what it is: validate it without -operation", operation)
	}
	out := &Validation{What: "the request of " + op.Name}
	if status != 0 {
		out.What = fmt.Sprintf("the answer %d of %s", status, op.Name)
	}
	report := out.limited(most)
	body, err := contract.ReadMessage(in, report)
	if body == nil || err != nil {
		return out, err
	}
	if status != 0 {
		body = op.Decode(body)
	}
	faults, err := op.Faults(status, body)
	for _, f := range faults {
		report(f)
	}
	return out, err
}

// limited counts the faults that it is told, and keeps the first.
func (v *Validation) limited(most int) func(xsd.Fault) {
	return func(f xsd.Fault) {
		if v.Total++; most == 0 || len(v.Faults) < most {
			v.Faults = append(v.Faults, f)
		}
	}
}
