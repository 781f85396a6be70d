package workbench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/bridge"
	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/session"
	"testbench/internal/soap"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// BridgeKeys opens the keys by which a bridge to a service is asked.
func BridgeKeys(b *Bench, service string) (*bridge.Keys, error) {
	found := b.inner.Service(service)
	if found == nil {
		return nil, &bench.NotFoundError{What: "service", Name: service, Known: b.inner.ServiceNames()}
	}
	return bridge.OpenKeys(filepath.Join(b.Dir, ".testbench", "bridge", service+".json"))
}

// Bridge offers the operations of a SOAP service as JSON. Logins, headers and time limits
// are those of the bench. The session is to be closed when nothing is asked any more.
func Bridge(ctx context.Context, b *Bench, service, port string, o bridge.Options,
	options Options,
) (*bridge.Handler, func() error, error) {
	c, err := b.Contract(ctx, service, nil, options)
	if err != nil {
		return nil, nil, err
	}
	described, ok := contract.Base(c.Contract).(*wsdl.Contract)
	if !ok || c.Service == nil {
		return nil, nil, fmt.Errorf("%s is not described by a WSDL: a bridge offers SOAP services as JSON", service)
	}
	if port == "" {
		port = c.Service.Port
	}
	p, err := described.Port(port, soap.Version(c.Service.SOAP))
	if err != nil {
		return nil, nil, err
	}
	o.Title, o.Schema = described.Name, described.Schema
	if o.Title == "" {
		o.Title = service
	}
	for _, op := range p.Binding.Operations {
		one := bridge.Operation{
			Name: op.Name, About: strings.Join(strings.Fields(op.Documentation), " "),
			Request: op.Input.Wrapper(),
		}
		if op.Output != nil {
			one.Answer = op.Output.Wrapper()
		}
		o.Operations = append(o.Operations, one)
	}
	if err := vet.CheckArguments(b.inner, arguments(options), nil, nil); err != nil {
		return nil, nil, err
	}
	options = completeOptions(b, options)
	o.Mask = options.Masker.Text
	session, err := session.NewSession(b.inner, options)
	if err != nil {
		return nil, nil, err
	}
	caller := &bridging{bench: b, session: session, service: service, options: options}
	o.Call = caller.call
	o.Healthy = caller.healthy
	h, err := bridge.New(o)
	if err != nil {
		_ = closeInTime(session)
		return nil, nil, err
	}
	return h, func() error { return closeInTime(session) }, nil
}

// bridging makes the calls of a bridge.
type bridging struct {
	bench   *Bench
	session *session.Session
	service string
	options Options
}

func (c *bridging) call(ctx context.Context, operation string, fields *document.Node) bridge.Result {
	call, err := c.bench.Prepare(Call{Target: []string{c.service + "/" + operation}, Fill: fields}, c.options)
	if err == nil {
		err = step.CheckCall(ctx, c.session, call)
	}
	if err != nil {
		return bridge.Result{Problem: wrongRequest([]string{err.Error()}, err)}
	}
	result := step.Ask(ctx, c.session, call, nil, map[string]*document.Node{})
	record := result.Last()
	switch {
	case record == nil && (result.Outcome == Unreachable || result.Outcome == LoginFailed):
		return bridge.Result{Problem: &bridge.Problem{
			Title: "no token", Status: http.StatusBadGateway,
			Detail: "the bridge could not log in at the service", Cause: result.Reason,
		}}
	case record == nil:
		var said []string
		for _, check := range result.Checks {
			if !check.Passed {
				said = append(said, check.Got)
			}
		}
		if len(said) == 0 {
			said = []string{result.Reason}
		}
		return bridge.Result{Problem: wrongRequest(said, nil)}
	case record.Failure != nil:
		return bridge.Result{Problem: unreached(record)}
	}
	return answered(result)
}

// healthy asks for the service's address without a login: whatever it answers, it is there.
func (c *bridging) healthy(ctx context.Context) error {
	call, err := c.bench.Prepare(Call{Target: []string{c.service, "GET", ""}, Login: "none", SOAP: "off"}, c.options)
	if err != nil {
		return err
	}
	result := step.Ask(ctx, c.session, call, nil, map[string]*document.Node{})
	record := result.Last()
	switch {
	case record == nil:
		return errors.New(result.Reason)
	case record.Failure != nil && record.Answer == nil:
		return errors.New(record.Failure.Message)
	}
	return nil
}

// wrongRequest tells what is wrong with the fields of a request.
func wrongRequest(said []string, err error) *bridge.Problem {
	var broken *session.ContractError
	if errors.As(err, &broken) {
		said = broken.Problems
	}
	p := &bridge.Problem{
		Title: "the request does not fit", Status: http.StatusBadRequest,
		Detail: strings.Join(said, "; "),
	}
	for _, one := range said {
		p.Errors = append(p.Errors, bridge.FieldProblem{Detail: one})
	}
	return p
}

func unreached(record *exchange.Record) *bridge.Problem {
	// Which host it was is not for who asks.
	p := &bridge.Problem{
		Title: "the service was not reached", Status: http.StatusBadGateway,
		Detail: string(record.Failure.Kind), Cause: record.Failure.Message,
	}
	switch record.Failure.Kind {
	case exchange.TimedOut, exchange.Interrupted:
		p.Title, p.Status = "the service took too long", http.StatusGatewayTimeout
	}
	return p
}

// answered reads what the service answered.
func answered(result *StepResult) bridge.Result {
	re := result.Reply
	status := result.Last().Answer.Status
	problem := func(title, format string, args ...any) bridge.Result {
		return bridge.Result{Problem: &bridge.Problem{
			Title: title, Status: http.StatusBadGateway,
			Detail: fmt.Sprintf(format, args...),
		}}
	}
	switch {
	case re == nil || re.Problem != nil:
		return problem("the service answered what cannot be read", "status %d", status)
	case re.Message != nil && re.Message.Fault != nil:
		return bridge.Result{Problem: faultProblem(re.Message.Fault)}
	case re.Failed != nil: // as the bench says that the service tells it
		return bridge.Result{Problem: &bridge.Problem{
			Title: "the service refused the request", Status: http.StatusUnprocessableEntity, Detail: re.Failed.Text,
			Fault: &bridge.Fault{Code: re.Failed.Code, Text: re.Failed.Text},
		}}
	case re.IsSuccess() && re.Message != nil && re.Payload != nil:
		return bridge.Result{Answer: re.Payload}
	case status == http.StatusAccepted || status == http.StatusNoContent:
		return bridge.Result{}
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		return problem("the bridge was refused", "the service refused the login of the bridge (%d)", status)
	case status < 200 || status > 299:
		return problem("the service failed", "it answered %d", status)
	case re.Payload == nil || re.Payload.Kind != document.Element || re.Message == nil:
		return problem("the service answered no envelope", "status %d, %s", status, result.Last().Answer.ContentType())
	}
	for _, check := range result.Checks {
		if check.Judged && !check.Passed && check.Kind == "contract" {
			return problem("the service broke its contract", "%s", check.Got)
		}
	}
	return bridge.Result{Answer: re.Payload}
}

// faultProblem tells a fault: what the request is to blame for is unprocessable, all else
// the service's (SOAP 1.1, 4.4.1; SOAP 1.2, Part 1, 5.4.6).
func faultProblem(f *soap.Fault) *bridge.Problem {
	p := &bridge.Problem{
		Title: "the service refused the request", Status: http.StatusUnprocessableEntity,
		Detail: f.Text, Fault: &bridge.Fault{Code: f.Code, Subcode: f.Subcode, Text: f.Text},
	}
	if code, _, _ := strings.Cut(f.Code, "."); code != "Client" && code != "Sender" {
		p.Title, p.Status = "the service failed", http.StatusBadGateway
	}
	if f.Detail != nil {
		p.Fault.Detail = json.RawMessage(document.WriteJSON(f.Detail, document.Style{}))
	}
	return p
}
