package sheet

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// plan is a step that is ready to be sent, but for its credentials.
type plan struct {
	request *exchange.Request
	service *Service            // nil for a plain address
	op      *contract.Operation // described by hand
	// described is the operation as the contract has it.
	described *described
	// messageID names the message where WS-Addressing goes with it.
	messageID string
	logins    []string
	writes    bool
	notes     []string
	filled    map[string]string
}

// ContractError says that a request breaks what is known of its operation.
type ContractError struct {
	Problems []string
	// Described says that a contract describes the operation, so that contract:
	// answer would send the request all the same.
	Described bool
}

func (e *ContractError) Error() string { return strings.Join(e.Problems, "; ") }

// plan fills a step in.
func (s *Session) plan(ctx context.Context, step *Step, scope *Scope, names map[string]string) (*plan, error) {
	p := &plan{}
	spec := step.Spec
	spec.StayOnRedirect = step.Stay
	spec.HTTP = step.HTTP
	var err error
	switch {
	case step.Call != "":
		err = s.planCall(ctx, p, step, &spec, scope)
	case step.Request != nil:
		err = s.planRequest(p, step, &spec)
	case step.Follow != nil:
		err = s.planFollow(p, step, &spec, scope)
	}
	if err != nil {
		return p, err
	}
	if p.service != nil {
		s.addService(p, step, &spec)
	}
	spec.Names = request.MergeNames(p.prefixes(), s.Bench.Names, serviceNames(p.service), names, step.Names)
	if spec.Method == "" {
		spec.Method = "GET"
		if spec.Body != nil || spec.Text != nil || spec.HasBytes || len(spec.Form) > 0 || len(spec.Parts) > 0 || spec.SOAP != nil {
			spec.Method = "POST"
		}
	}
	p.writes = spec.Method != "GET" && spec.Method != "HEAD" && spec.Method != "OPTIONS" && (p.op == nil || !p.op.Reads) &&
		(p.described == nil || !p.service.reads(p.described.operation.Name))
	p.request, err = spec.Build(scope)
	if err != nil {
		return nil, err
	}
	if step.Login != nil {
		p.logins = append([]string{}, step.Login.names...)
	}
	for i, name := range p.logins {
		if other, ok := s.Site.Logins[name]; ok {
			p.logins[i] = other
		}
	}
	if step.Follow != nil && p.service != nil {
		s.keepLoginAtHome(p)
	}
	return p, nil
}

// prefixes are those that the contract declares.
func (p *plan) prefixes() map[string]string {
	if p.described == nil {
		return nil
	}
	return p.described.contract.Prefixes
}

func serviceNames(s *Service) map[string]string {
	if s == nil {
		return nil
	}
	return s.Names
}

// address returns the template of a service's address at this site.
func (s *Session) address(service *Service) (*value.Template, error) {
	if t := s.Site.Services[service.Name]; t != nil {
		return t, nil
	}
	if service.Address == nil {
		return nil, fmt.Errorf("the service %s has no address; write address: at it", service.Name)
	}
	return service.Address, nil
}

// behind joins an address and a path, with one slash between.
func behind(address, path *value.Template) *value.Template {
	if strings.HasPrefix(path.Source, "/") && strings.HasSuffix(address.Source, "/") && address.IsLiteral() {
		address = value.Literal(strings.TrimSuffix(address.LiteralText(), "/"))
	}
	return value.Joined(address, path)
}

func (s *Session) planRequest(p *plan, step *Step, spec *request.Spec) error {
	spec.Method, spec.Address = step.Request.method, step.Request.path
	if step.Request.service == "" {
		return nil
	}
	p.service = s.Bench.Service(step.Request.service)
	if p.service == nil {
		return &NotFoundError{"service", step.Request.service, s.Bench.ServiceNames()}
	}
	address, err := s.address(p.service)
	if err == nil {
		spec.Address = behind(address, step.Request.path)
	}
	return err
}

// planFollow takes an address out of an answer. A relative one is resolved
// against the service.
func (s *Session) planFollow(p *plan, step *Step, spec *request.Spec, scope *Scope) error {
	text, err := step.Follow.Text(scope, value.Address)
	if err != nil {
		return err
	}
	address := text.Sent
	if step.Service != "" {
		if p.service = s.Bench.Service(step.Service); p.service == nil {
			return &NotFoundError{"service", step.Service, s.Bench.ServiceNames()}
		}
		template, err := s.address(p.service)
		if err != nil {
			return err
		}
		base, err := template.Text(scope, value.Address)
		if err != nil {
			return err
		}
		if baseURL, err := url.Parse(base.Sent); err == nil {
			if resolved, err := baseURL.Parse(address); err == nil {
				address = resolved.String()
			}
		}
	}
	if !strings.Contains(address, "://") {
		return fmt.Errorf("follow: %q is no whole address; name the service: it belongs to", address)
	}
	spec.Address = value.Literal(address)
	return nil
}

// keepLoginAtHome drops the login where a followed address leads elsewhere
// than the service it is said to belong to.
func (s *Session) keepLoginAtHome(p *plan) {
	template, err := s.address(p.service)
	if err != nil || len(p.logins) == 0 {
		return
	}
	base, err := template.Text(s.Scope(nil, nil), value.Address)
	if err != nil {
		return
	}
	if home, err := url.Parse(base.Sent); err != nil || exchange.Origin(home) != exchange.Origin(p.request.URL) {
		p.notes = append(p.notes, fmt.Sprintf("the address leads to %s and not to %s: the login was left out", exchange.Origin(p.request.URL), p.service.Name))
		p.logins = nil
	}
}

// addService adds what goes into each request to the service.
func (s *Session) addService(p *plan, step *Step, spec *request.Spec) {
	p.logins = append([]string{}, p.service.Logins...)
	always := p.service.Always
	spec.Headers = under(always.Headers, spec.Headers)
	spec.Query = under(always.Query, spec.Query)
	spec.Cookies = under(always.Cookies, spec.Cookies)
	if spec.HTTP == "" {
		spec.HTTP = p.service.HTTP
	}
	version := p.service.SOAP
	if step.SOAP != "" {
		version = step.SOAP
	}
	if p.described != nil {
		version = p.described.version
	}
	isSOAP := version != "" && (spec.Method == "" || spec.Method == "POST") && (p.op == nil || p.op.SOAP)
	if !isSOAP {
		spec.SOAP = nil
		if step.Addressing == "true" {
			p.notes = append(p.notes, "addressing: goes with SOAP only and was passed over")
		}
		return
	}
	// A payload and blocks are the step's, or what the service always has.
	envelope := request.SOAP{Version: version, Action: step.Action, Blocks: always.Blocks}
	if spec.SOAP != nil {
		envelope.Blocks = spec.SOAP.Blocks
	}
	if step.Addressing == "true" || step.Addressing == "" && p.service.Addressing {
		p.messageID = soap.NewMessageID()
		envelope.Addressing = &soap.Addressing{MessageID: p.messageID}
	}
	if p.described != nil {
		envelope.BlockOf = p.described.block
	}
	if p.described != nil && envelope.Action == nil {
		envelope.Action = value.Literal(p.described.operation.Action)
	}
	if p.op != nil {
		if envelope.Action == nil {
			envelope.Action = value.Literal(p.op.Action)
		}
		if spec.Text == nil && len(step.contents) == 0 {
			envelope.Payload = p.op.Payload
		}
	}
	spec.SOAP = &envelope
}

// under puts pairs beneath others: those of the step win over those of the
// service with the same name.
func under(always, own []request.Pair) []request.Pair {
	var merged []request.Pair
	for _, a := range always {
		overridden := false
		for _, o := range own {
			overridden = overridden || strings.EqualFold(a.Name, o.Name)
		}
		if !overridden {
			merged = append(merged, a)
		}
	}
	return append(merged, own...)
}

// planCall puts the fields of a call into the places that the operation's
// description gives them.
func (s *Session) planCall(ctx context.Context, p *plan, step *Step, spec *request.Spec, scope *Scope) error {
	serviceName, operation, _ := strings.Cut(step.Call, "/")
	if p.service = s.Bench.Service(serviceName); p.service == nil {
		return &NotFoundError{"service", serviceName, s.Bench.ServiceNames()}
	}
	if p.op = p.service.Operation(operation); p.op == nil && p.service.Contract != nil {
		return s.planDescribed(ctx, p, step, spec, scope, operation)
	} else if p.op == nil {
		return &NotFoundError{"operation of " + serviceName, operation, p.service.OperationNames()}
	}
	address, err := s.address(p.service)
	if err != nil {
		return err
	}
	placed, err := placeFields(p.op, step, scope)
	if err != nil {
		return err
	}
	p.filled = placed.filled
	path := contract.FillPath(p.op.Path, placed.path)
	literal, err := value.ParsePath(strings.ReplaceAll(path, "${", "$${"))
	if err != nil {
		return err
	}
	spec.Method, spec.Address = p.op.Method, behind(address, literal)
	spec.Query = append(placed.query, spec.Query...)
	spec.Headers = append(placed.headers, spec.Headers...)
	if len(placed.form) > 0 {
		spec.Form = append(placed.form, spec.Form...)
	}
	if len(step.contents) == 0 && (len(placed.body.Members) > 0 || p.op.SOAP) {
		spec.Body = request.Fixed(placed.body)
	}
	return nil
}

// placed are the fields of a call, each where it stands in the request.
type placed struct {
	path                 map[string]string
	query, headers, form []request.Pair
	body                 *document.Node
	filled               map[string]string
}

// placeFields fills the fields in and holds them against the description.
func placeFields(op *contract.Operation, step *Step, scope *Scope) (*placed, error) {
	out := &placed{path: map[string]string{}, body: document.NewObject(), filled: map[string]string{}}
	given := map[string]bool{}
	values := map[string]*document.Node{}
	var problems []string
	var fields []request.Field
	if step.Fill != nil {
		fields = step.Fill.Fields
	}
	for _, f := range fields {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("fill %s: %w", f.Name, err)
		}
		if v := node.Value(); v != nil && v.IsScalar() && !v.Secret {
			out.filled[f.Name] = v.Text
		}
		parameter := op.Find(fieldRoot(op, f.Name))
		if parameter == nil {
			if !op.IsOpen() {
				message, try := op.UnknownField(f.Name)
				problems = append(problems, message+" ("+try+")")
			}
			out.body.Members = append(out.body.Members, document.Member{Key: f.Name, Value: node})
			continue
		}
		if wrong := parameter.Check(node, rule.IsKind); wrong != "" {
			problems = append(problems, wrong)
		}
		given[parameter.Name] = true
		values[string(parameter.In)+" "+parameter.Name] = node
	}
	if len(step.contents) == 0 {
		for _, name := range op.Missing(func(name string) bool { return given[name] }) {
			problems = append(problems, name+" is missing")
		}
	}
	if len(problems) > 0 {
		return nil, &ContractError{Problems: problems}
	}
	for _, parameter := range op.Parameters {
		node := values[string(parameter.In)+" "+parameter.Name]
		switch {
		case parameter.Fixed != "":
			node = document.NewUntyped(parameter.Fixed)
		case node == nil && parameter.Default != "":
			node = document.NewUntyped(parameter.Default)
		case node == nil:
			continue
		}
		if err := out.place(parameter, node); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (out *placed) place(parameter contract.Parameter, node *document.Node) error {
	pair := request.Pair{Name: parameter.Wire, Value: request.Fixed(node)}
	switch parameter.In {
	case contract.InPath:
		v := node.Value()
		if !v.IsScalar() || v.Text == "" {
			return fmt.Errorf("fill %s: a part of the path cannot be %s", parameter.Name, node.Describe())
		}
		out.path[parameter.Wire] = url.PathEscape(v.Text)
	case contract.InQuery:
		out.query = append(out.query, pair)
	case contract.InHeader:
		out.headers = append(out.headers, pair)
	case contract.InForm:
		out.form = append(out.form, pair)
	default:
		out.body.Members = append(out.body.Members, document.Member{Key: parameter.Wire, Value: node})
	}
	return nil
}

// soapVersion tells which version a planned request speaks, or "".
func (p *plan) soapVersion() string {
	if p.service == nil || p.service.SOAP == "" && p.op == nil && p.described == nil {
		return ""
	}
	return string(soap.VersionOf(p.request.GetHeader("Content-Type")))
}

// guarded says why a request may not be sent to a guarded site, or nil.
func (s *Session) guarded(p *plan) error {
	if !s.Site.Reading || !p.writes || s.options.Write == s.Site.Name {
		return nil
	}
	return errors.New("the site " + s.Site.Name + " is guarded (guard: reading), and this request could write; run with -write " + s.Site.Name + " if it should")
}
