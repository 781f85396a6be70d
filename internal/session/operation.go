package session

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// serviceWithValues is an operation with the values of its parameters that hold placeholders; those that are
// made of fields of the call go without one where the field is not given.
func serviceWithValues(s *bench.Service, op *contract.Endpoint, given *document.Node,
	scope *Values) (*contract.Endpoint,
	error,
) {
	filled := s.Filled[op.Name]
	if len(filled) == 0 {
		return op, nil
	}
	out := *op
	out.Parameters = slices.Clone(op.Parameters)
	fields := document.NewObject(given.Members()...)
	known := func(name string, v *document.Node) {
		if v != nil && fields.Get(name) == nil {
			fields.Set(name, v)
		}
	}
	for _, p := range out.Parameters {
		if p.Computed == "" {
			known(p.Name, p.Default)
		}
	}
	for _, f := range filled {
		i := slices.IndexFunc(out.Parameters,
			func(p contract.Parameter) bool { return p.In == f.In && p.Wire == f.Wire })
		node, err := f.Tree.Node(fieldsScope{scope, fields})
		switch {
		case errors.Is(err, value.ErrNothing) && isMadeOfFields(f.Tree):
			out.Parameters[i].Default, out.Parameters[i].Fixed = nil, nil
		case err != nil:
			return nil, fmt.Errorf("%s of %s: %w", f.Wire, op.Name, err)
		case f.IsFixed:
			out.Parameters[i].Fixed = node
		default:
			out.Parameters[i].Default = node
			known(out.Parameters[i].Name, node)
		}
	}
	return &out, nil
}

// isMadeOfFields says whether a value asks for fields of the call.
func isMadeOfFields(t *request.Tree) bool {
	return slices.ContainsFunc(t.Placeholders(),
		func(h *value.Placeholder) bool { return h.Space == "" && h.Name == "fields" })
}

// fieldsScope knows what is filled in, beside all else.
type fieldsScope struct {
	*Values
	fields *document.Node
}

func (s fieldsScope) Lookup(space, name string) (*document.Node, error) {
	if space == "" && name == "fields" {
		return s.fields, nil
	}
	return s.Values.Lookup(space, name)
}

// ByHand is an operation that the bench describes, as it is called.
func ByHand(service *bench.Service, endpoint *contract.Endpoint) contract.Operation {
	if service.Speaks != "" {
		return contract.Method{Endpoint: endpoint, Kind: service.Speaks}
	}
	return endpoint
}

// binding is how a step calls the operations of a service's contract.
func binding(service *bench.Service, step *sheet.Step) contract.Binding {
	as := service.Binding()
	if step.Port != "" {
		as = contract.Binding{Port: step.Port} // it has a version of its own
	}
	if step.SOAP != "" {
		as.Version = step.SOAP
	}
	return as
}

// WithoutPorts refuses a port for an operation that a WSDL does not describe.
func WithoutPorts(step *sheet.Step) error {
	if step.Port == "" {
		return nil
	}
	return WithTry("port: has no effect: no WSDL describes "+step.Target(), "take it out")
}

// OperationIn finds an operation of a service in its contract.
func OperationIn(c contract.Contract, service *bench.Service, step *sheet.Step,
	name string,
) (contract.Operation, error) {
	as := binding(service, step)
	if !c.HasPorts() {
		if err := WithoutPorts(step); err != nil {
			return nil, err
		}
	}
	op, err := c.Operation(name, as)
	if err == nil && op == nil {
		err = &bench.NotFoundError{
			What: "operation of " + service.Name, Name: name,
			Known: append(service.OperationNames(), c.Names(as)...),
		}
	}
	return op, err
}

// PlanOperation finds an operation of a service that a step calls, and makes its request.
func (s *Session) PlanOperation(ctx context.Context, p *Prepared, serviceName, name string, step *sheet.Step,
	spec *request.Spec, scope *Values,
) error {
	if p.Service = s.Bench.Service(serviceName); p.Service == nil {
		return &bench.NotFoundError{What: "service", Name: serviceName, Known: s.Bench.ServiceNames()}
	}
	as := binding(p.Service, step)
	endpoint, err := p.Service.Described(name)
	switch {
	case err != nil:
		return err
	case endpoint != nil:
		if err := WithoutPorts(step); err != nil {
			return err
		}
		given, err := p.fill(step, scope)
		if err != nil {
			return err
		}
		if endpoint, err = serviceWithValues(p.Service, endpoint, given, scope); err != nil {
			return err
		}
		p.Operation = ByHand(p.Service, endpoint)
	case p.Service.Contract == nil:
		return &bench.NotFoundError{What: "operation of " + serviceName, Name: name, Known: p.Service.OperationNames()}
	default:
		c, err := s.Contract(ctx, p.Service)
		if err != nil {
			return err
		}
		if c, err = s.withOverlay(c, p, name, step, scope); err != nil {
			return err
		}
		if p.Operation, err = OperationIn(c, p.Service, step, name); err != nil {
			return err
		}
		p.Contracted = true
		as = c.At(name, as)
	}
	address, err := addressAs(ctx, s, p.Service, as)
	if err != nil {
		return err
	}
	return buildOperation(s, p, step, spec, scope, address)
}

// withOverlay is the contract with what the bench says of an operation, its placeholders filled in.
func (s *Session) withOverlay(c contract.Contract, p *Prepared, name string, step *sheet.Step,
	scope *Values,
) (contract.Contract, error) {
	over := p.Service.Overlays()[name]
	if over == nil || len(p.Service.Filled[name]) == 0 {
		return c, nil
	}
	given, err := p.fill(step, scope)
	if err != nil {
		return nil, err
	}
	if over, err = serviceWithValues(p.Service, over, given, scope); err != nil {
		return nil, err
	}
	return contract.Amend(c, map[string]*contract.Endpoint{name: over}), nil
}

// buildOptions are those that a step to a service asks for.
func buildOptions(b *bench.Bench, s *sheet.Step, service *bench.Service) contract.BuildOptions {
	o := contract.BuildOptions{
		IsKind:   rule.IsKind,
		Prefixes: request.MergeNames(b.Names, service.Names, s.Names),
		Attached: func(name string) *document.Node { return includedIn(s, name) },
	}
	if len(s.Contents) > 0 {
		o.Body = s.Contents[0]
	}
	for _, h := range s.Spec.Headers {
		if strings.EqualFold(h.Name, "Content-Type") && h.Value.Scalar != nil && h.Value.Scalar.IsLiteral() {
			o.Type = h.Value.Scalar.LiteralText()
		}
	}
	given := map[contract.In][]request.Pair{
		contract.InHeader: slices.Concat(service.Always.Headers, s.Spec.Headers),
		contract.InQuery:  slices.Concat(service.Always.Query, s.Spec.Query),
		contract.InCookie: slices.Concat(service.Always.Cookies, s.Spec.Cookies),
		contract.InForm:   s.Spec.Form,
	}
	o.HasBlock = func(local string) bool {
		isIt := func(f request.Field) bool { return f.Name[strings.IndexByte(f.Name, ':')+1:] == local }
		return service.Always.Blocks != nil && slices.ContainsFunc(service.Always.Blocks.Fields, isIt) ||
			s.Spec.SOAP != nil && s.Spec.SOAP.Blocks != nil && slices.ContainsFunc(s.Spec.SOAP.Blocks.Fields, isIt)
	}
	o.Elsewhere = func(p contract.Parameter) bool {
		return slices.ContainsFunc(given[p.In], func(pair request.Pair) bool {
			return pair.Name == p.Wire || p.In == contract.InHeader && strings.EqualFold(pair.Name, p.Wire)
		})
	}
	return o
}

// fill fills the fields of a call in, and remembers what was sent for hints.
func (p *Prepared) fill(step *sheet.Step, scope *Values) (*document.Node, error) {
	fields := document.NewObject()
	p.filled = map[string]string{}
	if step.Fill == nil {
		return fields, nil
	}
	for _, f := range step.FillFields() {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("fill %s: %w", f.Name, err)
		}
		fields.AppendMembers(document.Member{Key: f.Name, Value: node})
		if v := node.Value(); v != nil && v.IsScalar() && !v.Secret {
			p.filled[f.Name] = v.Text
		}
	}
	return stepFields(step, fields), nil
}

// stepFields are those of a call that are sent: without the empty ones, where the step says so.
func stepFields(s *sheet.Step, all *document.Node) *document.Node {
	if s.Spec.DropEmpty {
		return request.DropEmpty(all)
	}
	return all
}

// buildOperation makes the request of a call.
func buildOperation(s *Session, p *Prepared, step *sheet.Step, spec *request.Spec, scope *Values,
	address *value.Template,
) error {
	fields, err := p.fill(step, scope)
	if err != nil {
		return err
	}
	options := buildOptions(s.Bench, step, p.Service)
	options.Attached = func(name string) *document.Node {
		include := includedIn(step, name)
		spec.XOP = spec.XOP || include != nil
		return include
	}
	if t := p.Service.Templates[p.OperationName()]; t != nil && !p.Contracted {
		options.Template = func(body *document.Node) (*document.Node, error) { return t.Node(fieldsScope{scope, body}) }
	}
	built, problems := p.Operation.Build(fields, options)
	if err := p.refuse(step, built, problems); err != nil {
		return err
	}
	literal, err := value.ParsePath(strings.ReplaceAll(built.Path, "${", "$${"))
	if err != nil {
		return err
	}
	p.Envelope = built.Envelope
	p.Notes = append(p.Notes, built.Notes...)
	spec.Method = built.Method
	if spec.Address, err = JoinPath(address, literal, scope); err != nil {
		return err
	}
	spec.Query = mergeValues(pairsOf(built.Query), spec.Query)
	spec.Headers = MergeHeaders(accept(built), append(pairsOf(built.Headers), spec.Headers...))
	spec.Cookies = mergeValues(pairsOf(built.Cookies), spec.Cookies)
	if len(step.Contents) > 0 && step.Contents[0] != "form" {
		return nil
	}
	spec.Form = mergeValues(pairsOf(built.Form), spec.Form)
	if len(step.Contents) > 0 {
		return nil
	}
	for _, part := range built.Parts {
		one := request.Part{
			Name: part.Name, Type: part.Type, Value: request.Fixed(part.Value), Headers: pairsOf(part.Headers),
		}
		if part.IsFile {
			one.FileName = part.Name
		}
		spec.Parts = append(spec.Parts, one)
	}
	if built.Envelope != nil {
		spec.Payload = built.Envelope.Payload
	}
	if built.Body != nil {
		spec.Body = request.Fixed(built.Body)
	}
	if built.Type != "" && spec.Body != nil {
		spec.Headers = MergeHeaders([]request.Pair{fixedHeader("Content-Type", built.Type)}, spec.Headers)
	}
	return nil
}

// refuse says why a call is not sent, and notes what is wrong with one that is sent all the
// same.
func (p *Prepared) refuse(step *sheet.Step, built *contract.Request, problems []contract.Problem) error {
	if built.Envelope != nil && built.Envelope.Version == sheet.SOAPOff {
		switch {
		case len(step.Contents) == 0:
			return errors.New("soap: off sends a body that the step writes; write text:, file:, bytes: or body:, or " +
				"take soap: off out")
		case step.Fill != nil:
			return errors.New("fill: has no effect beside " + step.Contents[0] + ":; keep one of them")
		}
	}
	if len(problems) == 0 || step.Unchecked {
		return nil
	}
	e := &ContractError{Described: p.Contracted, Problems: problemTexts(step, problems)}
	if !p.Contracted || HoldsRequest(step) {
		return e
	}
	for _, text := range e.Problems {
		p.Notes = append(p.Notes, "sent against the contract: "+text)
	}
	return nil
}

func pairsOf(pairs []contract.Pair) []request.Pair {
	var out []request.Pair
	for _, p := range pairs {
		out = append(out, request.Pair{Name: p.Name, Value: request.Fixed(p.Value), Raw: p.Raw})
	}
	return out
}

func fixedHeader(name, text string) request.Pair {
	return request.Pair{Name: name, Value: request.Fixed(document.NewUntyped(text))}
}

// accept asks for what may come back, where the operation has no parameter for it.
func accept(built *contract.Request) []request.Pair {
	if len(built.Accept) == 0 || slices.ContainsFunc(built.Headers, func(h contract.Pair) bool {
		return strings.EqualFold(h.Name, "Accept")
	}) {
		return nil
	}
	return []request.Pair{fixedHeader("Accept", strings.Join(built.Accept, ", "))}
}

// includedIn is what is in a payload for a file that the step attaches.
func includedIn(s *sheet.Step, name string) *document.Node {
	for i, a := range s.Spec.Attach {
		if a.Name == name {
			return soap.Include(soap.AttachmentID(i + 1))
		}
	}
	return nil
}

// HoldsRequest says whether a request that breaks the contract is not sent.
func HoldsRequest(s *sheet.Step) bool { return s.Contract != "off" && s.Contract != "answer" }

// HoldsAnswer says whether an answer is checked against the contract.
func HoldsAnswer(s *sheet.Step) bool { return s.Contract != "off" && s.Contract != "request" }

// KnownRequest makes the request of a call, as far as its fields are known without filling
// anything in.
func KnownRequest(b *bench.Bench, s *sheet.Step, service *bench.Service,
	op contract.Operation,
) (*contract.Request, []contract.Problem) {
	fields := document.NewObject()
	for _, f := range s.FillFields() {
		fields.AppendMembers(document.Member{Key: f.Name, Value: f.Value.Known(schema.Unknown)})
	}
	options := buildOptions(b, s, service)
	if service.Templates[op.Facts().Name] != nil && service.Speaks != "" {
		// What it makes is known when it is filled in; a list is what every protocol takes.
		options.Template = func(*document.Node) (*document.Node, error) { return document.NewList(), nil }
	}
	return op.Build(stepFields(s, fields), options)
}

// CheckOperation holds a call of an operation against the contract of its service, before
// anything else is sent.
func (s *Session) CheckOperation(ctx context.Context, step *sheet.Step, service, name string) error {
	found := s.Bench.Service(service)
	if found == nil || found.Contract == nil || found.Operation(name) != nil {
		return nil
	}
	c, err := s.Contract(ctx, found)
	if err != nil {
		return err
	}
	op, err := OperationIn(c, found, step, name)
	if err != nil || !HoldsRequest(step) {
		return err
	}
	if _, problems := KnownRequest(s.Bench, step, found, op); len(problems) > 0 {
		return &ContractError{Described: true, Problems: problemTexts(step, problems)}
	}
	return nil
}

// problemTexts puts what is wrong with a call's fields into words, what is missing
// together.
func problemTexts(s *sheet.Step, problems []contract.Problem) []string {
	var texts, missing []string
	for _, p := range problems {
		if p.Missing != "" {
			missing = append(missing, p.Missing)
			continue
		}
		texts = append(texts, p.String())
	}
	if len(missing) > 0 {
		texts = append(texts, s.Target()+" needs "+strings.Join(missing, ", "))
	}
	return texts
}
