package run

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/xsd"
)

// ContractPlace is where the contract of a service is: a file of the bench, or an address.
func (s *Session) ContractPlace(service *bench.Service) (string, error) {
	if service.Contract == nil {
		return "", fmt.Errorf("the service %s has no contract", service.Name)
	}
	text, err := service.Contract.Text(s.Scope(nil, nil), value.Address)
	if err != nil {
		return "", fmt.Errorf("the contract of %s: %w", service.Name, err)
	}
	return text.Sent, nil
}

// Contract reads the contract of a service, at most once a session unless it could not be
// fetched.
func (s *Session) Contract(ctx context.Context, service *bench.Service) (*formats.Contract, error) {
	place, err := s.ContractPlace(service)
	if err != nil {
		return nil, err
	}
	if !source.IsAddress(place) {
		if _, err := safefile.Inside(s.Bench.Dir, place); err != nil {
			return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
		}
	}
	contract, err := s.contracts.Get(place, s.Source(ctx).Fetch)
	if err == nil && contract.WSDL == nil && contract.Description == nil {
		err = errors.New("it is a schema alone, and has no operations")
	}
	if err != nil {
		return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
	}
	return contract, nil
}

// Source gets the documents of contracts with the session's connections.
func (s *Session) Source(ctx context.Context) *source.Source {
	return &source.Source{Dir: s.Bench.Dir, Allowed: func(host string) bool {
		return slices.ContainsFunc(s.options.Allow, func(allowed string) bool { return strings.EqualFold(allowed, host) })
	}, Get: func(address string, outside bool) ([]byte, bool, error) { return s.fetch(ctx, address, outside) }}
}

// fetch gets an address for what stands there, without a login, and says whether what
// answered is public.
func (s *Session) fetch(ctx context.Context, address string, outside bool) ([]byte, bool, error) {
	template := value.Literal(address)
	spec := request.Spec{Method: "GET", Address: template}
	r, err := spec.Build(s.Scope(nil, nil))
	if err != nil {
		return nil, false, err
	}
	r.Outside, r.Foreign = outside, outside || !s.isHome(r.URL)
	record := s.Client.Do(ctx, r)
	switch {
	case record.Failure != nil:
		return nil, false, &bench.FetchError{Record: record, Message: record.Failure.Message}
	case record.Answer.Status != 200:
		return nil, false, &bench.FetchError{Record: record, Message: fmt.Sprintf("the answer was %d %s", record.Answer.Status, record.Answer.Reason)}
	}
	return record.Answer.Body, !exchange.IsPrivate(record.Remote), nil
}

// isHome says whether an address is at an origin that the bench itself names for a service.
func (s *Session) isHome(at *url.URL) bool {
	scope := s.Scope(nil, nil)
	for _, service := range s.Bench.Services {
		for _, template := range []*value.Template{s.Site.Services[service.Name], service.Address, service.Contract} {
			if template == nil {
				continue
			}
			text, err := template.Text(scope, value.Address)
			if err != nil {
				continue
			}
			if home, err := url.Parse(text.Sent); err == nil && home.Host != "" && exchange.Origin(home) == exchange.Origin(at) {
				return true
			}
		}
	}
	return false
}

// described is an operation as a contract has it.
type described struct {
	contract  *wsdl.Contract
	port      *wsdl.Port
	operation *wsdl.Operation
	version   soap.Version // "" for a binding that is not SOAP
}

// describe finds an operation of a service in its contract.
func describe(c *wsdl.Contract, service *bench.Service, step *sheet.Step, operation string) (*described, error) {
	version := service.SOAP
	if step.SOAP != "" {
		version = step.SOAP
	}
	wanted := version
	if service.Port != "" {
		wanted = ""
	}
	port, err := c.Port(service.Port, wanted)
	if err != nil && service.Port == "" && version != "" {
		// A version that no port speaks can still be sent: the payload is the same.
		port, err = c.Port("", "")
	}
	if err != nil {
		return nil, err
	}
	d := &described{contract: c, port: port, operation: port.Binding.Operation(operation), version: port.Binding.Protocol.Version()}
	if d.operation == nil {
		return nil, &bench.NotFoundError{What: "operation of " + service.Name, Name: operation, Known: port.Binding.OperationNames()}
	}
	if port.Binding.Protocol == wsdl.Other {
		return nil, fmt.Errorf("the port %s of %s speaks neither SOAP nor plain HTTP", port.Name, service.Name)
	}
	if version != "" && d.version != "" {
		d.version = version
	}
	return d, nil
}

// fill makes the payload of a request from fields by name.
func (d *described) fill(fields *document.Node, names map[string]string, attached func(string) *document.Node) ([]*document.Node, []xsd.FillError) {
	input := d.operation.Input
	if input == nil || len(input.Payload) == 0 {
		if len(fields.Members()) > 0 {
			return nil, []xsd.FillError{{Path: fields.Members()[0].Key, Message: "is unknown: " + d.operation.Name + " takes no fields"}}
		}
		return nil, nil
	}
	options := xsd.FillOptions{Prefixes: names, Encoded: input.Encoded, Attached: attached}
	if len(input.Payload) == 1 {
		node, found := d.contract.Schema.Fill(input.Payload[0], fields, options)
		return []*document.Node{node}, found
	}
	// Several elements stand in the Body, each with its fields below its name.
	var payload []*document.Node
	var found []xsd.FillError
	known := make([]string, len(input.Payload))
	for i, e := range input.Payload {
		known[i] = e.Name.Local
		node, short := d.contract.Schema.Fill(e, fields.Get(e.Name.Local), options)
		payload = append(payload, node)
		for _, s := range short {
			s.Path = strings.Trim(e.Name.Local+"."+s.Path, ".")
			found = append(found, s)
		}
	}
	for _, m := range fields.Members() {
		if !slices.Contains(known, m.Key) {
			found = append(found, xsd.FillError{Path: m.Key, Message: "is unknown; " + suggest.DidYouMean(m.Key, known)})
		}
	}
	return payload, found
}

// planDescribed makes the request of an operation that a WSDL describes.
func (s *Session) planDescribed(p *plan, c *wsdl.Contract, step *sheet.Step, spec *request.Spec, scope *Values, operation string) error {
	d, err := describe(c, p.service, step, operation)
	if err != nil {
		return err
	}
	p.described = d
	if d.port.Address == "" && p.service.Address == nil && source.IsAddress(c.Location) {
		return fmt.Errorf("the port %s says no address; write address: at the service %s", d.port.Name, p.service.Name)
	}
	address, err := s.describedAddress(p.service, c.Location, d.port.Address)
	if err != nil {
		return err
	}
	spec.Method, spec.Address = "POST", address
	fields, err := p.fill(step, scope)
	if err != nil {
		return err
	}
	if d.version == "" {
		return d.plain(spec, fields)
	}
	if len(step.Contents) > 0 && step.SOAP == sheet.SOAPOff && step.Fill != nil {
		return errors.New("fill: has no effect beside " + step.Contents[0] + ":; keep one of them")
	}
	if len(step.Contents) > 0 {
		return nil // the step writes the payload itself
	}
	if d.version == sheet.SOAPOff {
		return errors.New("soap: off sends a body that the step writes; write text:, file:, bytes: or body:, or take soap: off out")
	}
	names := request.MergeNames(c.Prefixes, s.Bench.Names, p.service.Names, step.Names)
	payload, found := d.fill(fields, names, func(name string) *document.Node {
		include := includedIn(step, name)
		spec.XOP = spec.XOP || include != nil
		return include
	})
	if holdsRequest(step) {
		if err := broken(found); err != nil {
			return err
		}
	}
	for _, short := range found {
		p.notes = append(p.notes, "sent against the contract: "+short.String())
	}
	spec.Payload = payload
	return nil
}

// block makes a header block of the operation by its name; nil for others. The
// attributes mustUnderstand and role are the envelope's, not the schema's.
func (d *described) block(name string, content *document.Node) *document.Node {
	if d.operation.Input == nil {
		return nil
	}
	_, local, qualified := strings.Cut(name, ":")
	if !qualified {
		local = name
	}
	for _, h := range d.operation.Input.Headers {
		if h.Element.Name.Local != local {
			continue
		}
		var own []document.Attribute
		fields := content
		if content.Kind == document.Object {
			fields = document.NewObject()
			for _, m := range content.Members() {
				switch m.Key {
				case "@mustUnderstand", "@role", "@actor":
					own = append(own, document.Attribute{Name: document.Name{Local: m.Key[1:]}, Value: m.Value.Text})
				default:
					fields.AppendMembers(m)
				}
			}
		}
		// What is wrong with it is the service's to say: blocks are held to nothing.
		block, _ := d.contract.Schema.Fill(h.Element, fields, xsd.FillOptions{})
		block.AppendAttributes(own...)
		return block
	}
	return nil
}

// includedIn is what stands in a payload for a file that the step attaches.
func includedIn(s *sheet.Step, name string) *document.Node {
	for i, a := range s.Spec.Attach {
		if a.Name == name {
			return soap.Include(soap.AttachmentID(i + 1))
		}
	}
	return nil
}

// plain makes the request of an HTTP binding (WSDL 1.1, section 4).
func (d *described) plain(spec *request.Spec, fields *document.Node) error {
	spec.Address = value.Joined(spec.Address, value.Literal(d.operation.Location))
	var pairs []request.Pair
	for _, m := range fields.Members() {
		pairs = append(pairs, request.Pair{Name: m.Key, Value: request.Fixed(m.Value)})
	}
	if d.port.Binding.Protocol == wsdl.HTTPGet {
		spec.Method, spec.Query = "GET", append(pairs, spec.Query...)
		return nil
	}
	spec.Form = append(pairs, spec.Form...)
	return nil
}

// describedAddress is where an operation is called: what the bench says, or the
// contract's own address where the contract came from the same host.
func (s *Session) describedAddress(service *bench.Service, location, own string) (*value.Template, error) {
	if t := s.Site.Services[service.Name]; t != nil {
		return t, nil
	}
	if service.Address != nil {
		return service.Address, nil
	}
	if !source.IsAddress(location) {
		return nil, fmt.Errorf("the service %s needs an address: its contract comes from a file, and where that sends is not trusted", service.Name)
	}
	if own == "" {
		return nil, fmt.Errorf("the contract of %s says no address; write address: at the service", service.Name)
	}
	return value.Literal(own), nil
}

// holdsRequest says whether a request that breaks the contract is held back.
func holdsRequest(s *sheet.Step) bool { return s.Contract != "off" && s.Contract != "answer" }

func holdsAnswer(s *sheet.Step) bool { return s.Contract != "off" && s.Contract != "request" }

// contractFaults holds an answer against the contract.
func (d *described) contractFaults(re *reply.Reply) []string {
	m := re.Message
	if m == nil {
		return nil
	}
	var found []string
	v := xsd.NewValidator(d.contract.Schema)
	v.Ignore = map[string]bool{soap.Namespace11: true, soap.Namespace12: true, soap.Encoding11: true}
	v.Report = func(f xsd.Fault) {
		found = append(found, f.Text())
	}
	prefixes := m.Prefixes()
	for _, block := range m.Blocks {
		if decl := d.contract.Schema.Element(block.Name().Space, block.Name().Local); decl != nil {
			v.Tree(block, decl, prefixes)
		}
	}
	if m.Fault != nil {
		d.checkDetail(v, m, prefixes)
		return found
	}
	output := d.operation.Output
	switch {
	case output == nil && m.Payload != nil:
		return []string{d.operation.Name + " is not answered by its contract, and here is " + m.Payload.Name().Local}
	case output == nil || len(output.Payload) == 0 && m.Payload == nil:
		return nil
	case m.Payload == nil:
		return []string{"the Body is empty; " + output.Payload[0].Name.Local + " expected"}
	}
	wanted := output.Payload[0]
	if got := (xsd.Name{Space: m.Payload.Name().Space, Local: m.Payload.Name().Local}); got != wanted.Name {
		// An encoded answer's wrapper has a name of the server's choice (SOAP 1.1, 7.1).
		if !output.Encoded {
			return []string{fmt.Sprintf("the Body holds %s, and the contract says %s", got.Full(), wanted.Name.Full())}
		}
	}
	v.Encoded = output.Encoded
	v.Tree(m.Payload, wanted, prefixes)
	return found
}

// checkDetail holds the detail of a fault against those that are declared.
func (d *described) checkDetail(v *xsd.Validator, m *soap.Message, prefixes map[string]string) {
	if m.Fault.Detail == nil {
		return
	}
	for _, entry := range m.Fault.Detail.Children() {
		name := xsd.Name{Space: entry.Name().Space, Local: entry.Name().Local}
		for _, f := range d.operation.Faults {
			if f.Detail != nil && f.Detail.Name == name {
				v.Tree(entry, f.Detail, prefixes)
			}
		}
	}
}

// undeclared says of a fault that it is none of the declared ones, or "".
func (d *described) undeclared(m *soap.Message) string {
	if m == nil || m.Fault == nil || m.Fault.Detail == nil || len(m.Fault.Detail.Children()) == 0 {
		return ""
	}
	var names []string
	for _, f := range d.operation.Faults {
		if f.Detail == nil {
			return ""
		}
		for _, entry := range m.Fault.Detail.Children() {
			if entry.Name().Local == f.Detail.Name.Local && entry.Name().Space == f.Detail.Name.Space {
				return ""
			}
		}
		names = append(names, f.Detail.Name.Local)
	}
	entry := m.Fault.Detail.Children()[0].Name().Local
	if len(names) == 0 {
		return fmt.Sprintf("the detail holds %s; the contract declares no faults of %s", entry, d.operation.Name)
	}
	return fmt.Sprintf("the detail holds %s; the contract declares for %s: %s", entry, d.operation.Name, strings.Join(names, ", "))
}

// operationsOf says for a message what a service offers, as far as that is known
// without asking anybody.
func operationsOf(b *bench.Bench, service *bench.Service) string {
	names := b.OperationsIn(service)
	if len(names) == 0 {
		return "`testbench survey " + service.Name + "` lists them"
	}
	return "There are: " + document.FewNames(names)
}

// broken makes an error of what is wrong with a request, nil of nothing.
func broken(found []xsd.FillError) error {
	if len(found) == 0 {
		return nil
	}
	e := &ContractError{Described: true}
	for _, short := range found {
		e.Problems = append(e.Problems, short.String())
	}
	return e
}

// CheckCall holds a call against the contract of its service, before anything
// else is sent.
func (s *Session) CheckCall(ctx context.Context, step *sheet.Step) error {
	service, operation, isCall := strings.Cut(step.Call, "/")
	found := s.Bench.Service(service)
	if !isCall || found == nil || found.Contract == nil || found.Operation(operation) != nil {
		return nil
	}
	c, err := s.Contract(ctx, found)
	if err != nil {
		return err
	}
	if c.Description != nil {
		_, problems, err := descriptionProblems(c.Description, found, step, operation)
		if err != nil || len(problems) == 0 {
			return err
		}
		return &ContractError{Described: true, Problems: problemTexts(step, problems)}
	}
	problems, err := describedProblems(s.Bench, c.WSDL, found, step, operation)
	if err != nil {
		return err
	}
	return broken(problems)
}

// describedProblems finds what is wrong with a step's fields by the contract of
// its service, as far as both are known.
func describedProblems(b *bench.Bench, c *wsdl.Contract, service *bench.Service, step *sheet.Step, operation string) ([]xsd.FillError, error) {
	d, err := describe(c, service, step, operation)
	if err != nil || d.version == "" || !holdsRequest(step) || len(step.Contents) > 0 {
		return nil, err
	}
	fields := document.NewObject()
	if step.Fill != nil {
		fields = stepFields(step, step.Fill.Known(xsd.Unknown))
	}
	_, found := d.fill(fields, request.MergeNames(c.Prefixes, b.Names, service.Names, step.Names), func(name string) *document.Node { return includedIn(step, name) })
	return found, nil
}

// vetDescribed reports them at their fields.
func vetDescribed(s *sheet.Sheet, b *bench.Bench, service *bench.Service, step *sheet.Step, operation string) {
	c, err := b.Offline(service)
	if err == nil && c == nil {
		return
	}
	if err == nil && c.Description != nil {
		vetDescription(s, b, c.Description, service, step, operation)
		return
	}
	var problems []xsd.FillError
	if err == nil && c.WSDL == nil {
		err = errors.New("it is a schema alone, and has no operations")
	}
	if err == nil {
		problems, err = describedProblems(b, c.WSDL, service, step, operation)
	}
	var missing *bench.NotFoundError
	if errors.As(err, &missing) {
		readerOf(s).NotThere(step.CallAt, missing.What, missing.Name, missing.Known)
		return
	}
	if err != nil {
		s.Source.Report(step.CallAt, "", "%v", err)
		return
	}
	vetAddress(s, b, service, step)
	if d, err := describe(c.WSDL, service, step, operation); err == nil {
		vetSOAP(s, step, &plan{service: service, described: d}, "POST")
	}
	for _, p := range problems {
		at := step.CallAt
		if step.FillAt != nil {
			for _, e := range step.FillAt.Entries {
				if rest, ok := strings.CutPrefix(p.Path, e.Key.Text); ok && (rest == "" || rest[0] == '.' || rest[0] == '[') {
					at = e.Key
				}
			}
		}
		s.Source.Report(at, "", "%s", p)
	}
}

// vetAddress asks for an address where the contract's own is not trusted.
func vetAddress(s *sheet.Sheet, b *bench.Bench, service *bench.Service, step *sheet.Step) {
	if service.Address == nil && !b.SiteHasAddress(service.Name) {
		s.Source.Report(step.CallAt, "write address: ${base}/… at the service", "the contract of %s comes from a file, and where that sends is not trusted", service.Name)
	}
}
