package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/exchange"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// Prepared is a step that is ready to be sent, but for its credentials.
type Prepared struct {
	Request   *exchange.Request
	Service   *bench.Service     // nil for a plain address
	Operation contract.Operation // nil for a request without one
	// Envelope goes around the body; nil where the operation is not SOAP.
	Envelope *contract.Envelope
	// Led says that an answer says where the request goes, and Away that this is elsewhere
	// than the service.
	Led, Away bool
	// Contracted says that a contract describes the operation, and not the bench.
	Contracted bool
	// MessageID names the message where WS-Addressing goes with it.
	MessageID string
	// AnsweredElsewhere says that the answer is asked for at another address (WS-Addressing, ReplyTo).
	AnsweredElsewhere bool
	// withoutVersion says that the step sends no version: If-Match: null.
	withoutVersion bool
	Logins         []string
	Writes         bool
	Notes          []string
	filled         map[string]string
	Checks         []result.Check // what came of waiting
	// enveloped says that a SOAP message is sent.
	enveloped bool
	// refusal holds for the statuses that the step expects, where those are not successes;
	// else nil.
	refusal func(status int) bool
}

// ContractError says that a request breaks what is known of its operation.
type ContractError struct {
	Problems []string
	// Described says that a contract describes the operation, so that contract:
	// answer would send the request all the same.
	Described bool
}

func (e *ContractError) Error() string {
	return strings.ReplaceAll(strings.Join(e.Problems, "; "), "?;", "?")
}

// Planner is an action that makes a request: it says where it goes, and adds what it knows
// of it.
type Planner interface {
	Plan(ctx context.Context, s *Session, p *Prepared, step *sheet.Step, spec *request.Spec, scope *Values) error
}

// Prepare fills in a step that sends something.
func (s *Session) Prepare(ctx context.Context, step *sheet.Step, scope *Values,
	names map[string]string,
) (*Prepared, error) {
	p := &Prepared{}
	spec := step.Spec
	spec.StayOnRedirect = step.Stay
	spec.HTTP, spec.Timeout = step.HTTP, step.Timeout
	// What cannot be filled in is told where the answer is judged.
	if e, err := step.Expect.FilledIn(scope); err == nil && e.Status != nil && !e.Status.WantsSuccess() {
		p.refusal = e.Status.Holds
	}
	planner, ok := step.Action.(Planner)
	if !ok {
		return p, fmt.Errorf("the step %s sends no request of its own", step.Name)
	}
	err := planner.Plan(ctx, s, p, step, &spec, scope)
	if err != nil {
		return p, err
	}
	if p.Service != nil {
		s.AddService(p, &spec)
	}
	if err := p.AddSOAP(step, &spec); err != nil {
		return p, err
	}
	spec.Names = request.MergeNames(p.Prefixes(), s.Bench.Names, ServiceNames(p.Service), names, step.Names)
	if spec.Method == "" {
		spec.Method = "GET"
		if spec.Body != nil || spec.Text != nil || spec.HasBytes || len(spec.Form) > 0 || len(spec.Parts) > 0 ||
			spec.SOAP != nil {
			spec.Method = "POST"
		}
	}
	isRead := p.Operation != nil && (p.Operation.Facts().Reads || p.Contracted && p.Service.Reads(p.OperationName()))
	p.Writes = spec.Method != "GET" && spec.Method != "HEAD" && spec.Method != "OPTIONS" && !isRead
	p.Request, err = spec.Build(scope)
	if err != nil {
		return nil, err
	}
	p.Request.Cookies = scope.Cookies
	p.withoutVersion = slices.ContainsFunc(spec.Headers, func(h request.Pair) bool {
		return h.Value.Null && strings.EqualFold(h.Name, "If-Match")
	})
	if p.Service != nil && p.Service.Limit != nil && !p.Away {
		p.Request.Quotas = append(p.Request.Quotas, p.Service.Limit)
	}
	if s.Site.Limit != nil {
		p.Request.Quotas = append(p.Request.Quotas, s.Site.Limit)
	}
	s.ChooseLogins(p, step)
	if p.Led {
		dropForeignCredentials(s, p)
	}
	return p, nil
}

// dropForeignCredentials leaves out what belongs to a service where an answer led elsewhere: its logins, what
// it always sends, and the site's certificate.
func dropForeignCredentials(s *Session, p *Prepared) {
	p.Request.Foreign = p.Away || p.Service == nil && !isHome(s, p.Request.URL)
	if !p.Away {
		return
	}
	var left []string
	if len(p.Logins) > 0 {
		left = append(left, "the login")
	}
	if always := p.Service.Always; len(always.Headers)+len(always.Query)+len(always.Cookies) > 0 ||
		always.Blocks != nil {
		left = append(left, "what the service always sends")
	}
	if len(left) > 0 {
		left[0] += " was left out"
		p.Notes = append(p.Notes,
			fmt.Sprintf("the address leads to %s and not to %s: %s", exchange.Origin(p.Request.URL), p.Service.Name,
				strings.Join(left, ", and ")))
	}
	p.Logins = nil
}

// ChooseLogins takes the step's logins in place of the service's, and those that the site
// has in their place.
func (s *Session) ChooseLogins(p *Prepared, step *sheet.Step) {
	if step.Login != nil {
		p.Logins = append([]string{}, step.Login.Names...)
	}
	for i, name := range p.Logins {
		if other, ok := s.Site.Logins[name]; ok {
			p.Logins[i] = other
		}
	}
}

// OperationName is the name of the one that is called, "" for a request without one.
func (p *Prepared) OperationName() string {
	if p.Operation == nil {
		return ""
	}
	return p.Operation.Facts().Name
}

// Prefixes are those that the contract declares.
func (p *Prepared) Prefixes() map[string]string {
	if p.Operation == nil {
		return nil
	}
	return p.Operation.Facts().Prefixes
}

// ServiceNames are the prefixes of XML that a service has; nil for no service.
func ServiceNames(s *bench.Service) map[string]string {
	if s == nil {
		return nil
	}
	return s.Names
}

// JoinPath joins the address of a service and a path, with one slash between. An address with a query is refused: the
// path would become a part of the query.
func JoinPath(address, path *value.Template, scope value.Scope) (*value.Template, error) {
	if path.Source == "" {
		return address, nil
	}
	if text, err := address.Text(scope, value.Raw); err == nil {
		if err := bench.CheckBase(text.Sent); err != nil {
			return nil, err
		}
	}
	if strings.HasPrefix(path.Source, "/") && strings.HasSuffix(address.Source, "/") && address.IsLiteral() {
		address = value.Literal(strings.TrimSuffix(address.LiteralText(), "/"))
	}
	return value.Joined(address, path), nil
}

// AddService adds what goes into each request to the service.
func (s *Session) AddService(p *Prepared, spec *request.Spec) {
	p.Logins = append([]string{}, p.Service.Logins...)
	always := p.Service.Always
	if p.Away {
		always = bench.Defaults{}
	}
	spec.Headers = MergeHeaders(always.Headers, spec.Headers)
	spec.Query = mergeValues(always.Query, spec.Query)
	spec.Cookies = mergeValues(always.Cookies, spec.Cookies)
	if spec.HTTP == "" {
		spec.HTTP = p.Service.HTTP
	}
	if spec.Stream == nil {
		spec.Stream = p.Service.Streams[p.OperationName()]
	}
	spec.AnswerAs = cmp.Or(spec.AnswerAs, p.Service.AnswersAs[p.OperationName()], p.Service.AnswerAs)
	if spec.Timeout == 0 {
		spec.Timeout = p.Service.Timeout
	}
	if s.Options.Timeout > 0 { // the command line overrides the files
		spec.Timeout = 0
	}
}

// isSOAP says whether a request of a version of SOAP goes into an envelope.
func (p *Prepared) isSOAP(version soap.Version, method string) bool {
	return version != "" && version != sheet.SOAPOff && (method == "" || method == "POST") &&
		(p.Operation == nil || p.Envelope != nil)
}

// AddSOAP makes an envelope of the request, where it is SOAP. What a step says of SOAP is
// a mistake where it is not.
func (p *Prepared) AddSOAP(step *sheet.Step, spec *request.Spec) error {
	var service bench.Service // a plain address has nothing of its own
	if p.Service != nil {
		service = *p.Service
		if p.Away {
			service.Always = bench.Defaults{}
		}
	}
	version := service.SOAP
	if step.SOAP != "" {
		version = step.SOAP
	}
	if p.Envelope != nil && p.Envelope.Version != "" {
		version = p.Envelope.Version
	}
	if !p.isSOAP(version, spec.Method) {
		spec.SOAP = nil
		return withoutSOAP(step, spec.Method)
	}
	if err := checkEnvelope(step, &service); err != nil {
		return err
	}
	// A payload and blocks are the step's, or what the service always has.
	envelope := request.SOAP{Version: version, Action: step.SOAPAction, Blocks: service.Always.Blocks}
	if spec.SOAP != nil {
		envelope.Blocks = service.Always.Blocks.With(spec.SOAP.Blocks)
	}
	if addressesOf(step, &service) {
		p.MessageID = soap.NewMessageID()
		envelope.Addressing, envelope.Addressed = &soap.Addressing{MessageID: p.MessageID}, service.Addressed
		if step.Addressing == "true" && step.Addressed != (request.Addressed{}) {
			envelope.Addressed = step.Addressed
		}
		p.AnsweredElsewhere = envelope.Addressed.ReplyTo != nil
		if p.Envelope != nil && step.SOAPAction == nil {
			envelope.Addressing.Action = p.Envelope.AddressingAction
		}
	}
	if p.Envelope != nil {
		envelope.BlockOf, envelope.Made = p.Envelope.Block, p.Envelope.Blocks
		if envelope.Action == nil {
			envelope.Action = value.Literal(p.Envelope.Action)
		}
		if spec.Text == nil && len(step.Contents) == 0 {
			envelope.Payload = p.Envelope.Element
		}
	}
	spec.SOAP, p.enveloped = &envelope, true
	return nil
}

// addressesOf says whether WS-Addressing goes with a step to a service.
func addressesOf(s *sheet.Step, service *bench.Service) bool {
	return s.Addressing == "true" || s.Addressing == "" && service.Addressing
}

// withoutSOAP says what is wrong with a request that is not SOAP and says something that
// only SOAP has.
func withoutSOAP(s *sheet.Step, method string) error {
	said := strings.Join(s.SOAPWords(), ", ")
	switch {
	case said == "":
		return nil
	case method != "" && method != "POST":
		return WithTry(fmt.Sprintf("%s goes with SOAP, which is sent by POST, and this is %s", said, method),
			"take it out")
	case s.SOAP == "" && len(s.Spec.Attach) > 0:
		return WithTry("attach: goes with a SOAP envelope", "write soap: 1.1 or 1.2, or parts: for a form with files")
	case s.SOAP == "":
		return WithTry(said+" goes with SOAP, and the request is not SOAP", "write soap: 1.1 or 1.2, or take it out")
	}
	return WithTry(said+" goes with SOAP, and the operation is not SOAP", "take it out")
}

// checkEnvelope says what of a step cannot go into an envelope, or has no effect there.
func checkEnvelope(s *sheet.Step, service *bench.Service) error {
	headers := func(name string) bool {
		return slices.ContainsFunc(s.Spec.Headers, func(h request.Pair) bool { return strings.EqualFold(h.Name, name) })
	}
	content := ""
	if len(s.Contents) > 0 {
		content = s.Contents[0]
	}
	switch {
	case content == "form" || content == "parts":
		return WithTry(content+": does not go into a SOAP envelope", "soap: off sends it as it is")
	case s.Fill != nil && content != "":
		return WithTry("fill: has no effect beside "+content+":, which is the payload", "keep one of them")
	case content == "bytes" &&
		(s.Spec.SOAP != nil || len(s.Spec.Attach) > 0 || service.Always.Blocks != nil || addressesOf(s, service)):
		return WithTry("bytes: goes as it is, so that blocks, addressing and attachments cannot be added",
			"write text: or file:, or take them out")
	case s.SOAPAction != nil && headers("SOAPAction"):
		return WithTry("action: has no effect beside the header SOAPAction", "keep one of them")
	case s.SOAPAction != nil && s.SOAP != soap.V11 && service.SOAP == soap.V12 && headers("Content-Type"):
		return WithTry("action: has no effect beside the header Content-Type, which holds it in SOAP 1.2",
			"keep one of them")
	}
	return nil
}

// MergeHeaders puts header fields beneath others: those of the step win over those of the service with the same name,
// in small letters or capital ones (RFC 9110, 5.1).
func MergeHeaders(always, own []request.Pair) []request.Pair {
	return merge(always, own, strings.EqualFold)
}

// mergeValues puts values of a query, a form or cookies beneath others; their names are told apart by case.
func mergeValues(always, own []request.Pair) []request.Pair {
	return merge(always, own, func(a, b string) bool { return a == b })
}

func merge(always, own []request.Pair, isSame func(a, b string) bool) []request.Pair {
	var merged []request.Pair
	for _, a := range always {
		if !slices.ContainsFunc(own, func(o request.Pair) bool { return isSame(a.Name, o.Name) }) {
			merged = append(merged, a)
		}
	}
	return append(merged, own...)
}

// SOAPVersion tells which version a planned request speaks, or "".
func (p *Prepared) SOAPVersion() string {
	if !p.enveloped {
		return ""
	}
	return string(soap.VersionOf(p.Request.GetHeader("Content-Type")))
}

// Guarded says why a request may not be sent to a guarded site, or nil.
func (s *Session) Guarded(p *Prepared) error {
	if !s.Site.Reading || !p.Writes || s.Options.Write == s.Site.Name || s.Options.Replay != nil {
		return nil
	}
	return errors.New("the site " + s.Site.Name +
		" is guarded (guard: read only), and this request could write; run with -write " + s.Site.Name +
		" if it should")
}
