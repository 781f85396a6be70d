package step

import (
	"context"
	"errors"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Call calls an operation of a service.
type Call struct {
	asking
	Service, Operation string

	At *yamlfile.Node // nil for one of a command line
}

var callKind = sheet.Kind{
	Word: "call", What: "a call", Common: mapping.KeysOf("fill, fills, contract, port", ofAsking),
	Own: []mapping.Key[sheet.Step]{
		own("call", "service/operation", func(r *mapping.Reader, _ *sheet.Step, c *Call, n *yamlfile.Node) {
			text := r.PlainText(n)
			c.At = n
			var ok bool
			if c.Service, c.Operation, ok = strings.Cut(text, "/"); !ok || c.Service == "" || c.Operation == "" {
				r.File.Report(n, "write it like lab/GradeLot; a method with a path goes under request:",
					"%q is not a service/operation", text)
				c.Service, c.Operation = "", ""
			}
		}),
	},
	New: func() sheet.Action { return &Call{} },
}

// Target is service/operation.
func (c *Call) Target() string { return c.Service + "/" + c.Operation }

// Check names a step that has no name by what it calls.
func (c *Call) Check(_ *mapping.Reader, s *sheet.Step) bool {
	if c.Operation == "" {
		return false
	}
	if n := s.At.Get("step"); n == nil || n.Text == "" {
		s.Name = c.Target()
	}
	return true
}

// Plan finds the operation, and makes its request of the fields.
func (c *Call) Plan(ctx context.Context, of *session.Session, p *session.Prepared, s *sheet.Step, spec *request.Spec,
	scope *session.Values,
) error {
	return of.PlanOperation(ctx, p, c.Service, c.Operation, s, spec, scope)
}

// CheckCall holds a step that calls an operation against the contract of its service, before
// anything else is sent. Of other steps it says nothing.
func CheckCall(ctx context.Context, of *session.Session, s *sheet.Step) error {
	if c, ok := s.Action.(*Call); ok {
		return of.CheckOperation(ctx, s, c.Service, c.Operation)
	}
	return nil
}

// Vet holds the call against what is known of its operation.
func (c *Call) Vet(v *Vetting, s *sheet.Step) {
	service := vetService(v, c.Service, c.At)
	if service == nil {
		return
	}
	op, contracted, err := c.known(v.Sheet.Bench, service, s)
	var missing *bench.NotFoundError
	switch {
	case errors.As(err, &missing):
		v.notThere(c.At, missing.What, missing.Name, missing.Known)
		return
	case err != nil:
		v.report(c.At, "", "%v", err)
		return
	case op == nil:
		return
	}
	if contracted && !service.IsContractFetched() && service.Address == nil &&
		!v.Sheet.Bench.SiteHasAddress(service.Name) {
		v.report(c.At, "write address: ${base}/… at the service",
			"the contract of %s comes from a file, and where that sends is not trusted", service.Name)
	}
	built, problems := session.KnownRequest(v.Sheet.Bench, s, service, op)
	vetSOAP(v, s, &session.Prepared{Service: service, Operation: op, Envelope: built.Envelope}, built.Method)
	if contracted && op.Facts().Deprecated {
		v.Sheet.Source.Remark(c.At, "%s is deprecated by its contract", c.Target())
	}
	if !contracted || session.HoldsRequest(s) {
		for _, note := range built.Notes {
			v.Sheet.Source.Remark(c.At, "%s", note)
		}
		c.report(v, s, problems)
	}
}

// known finds the operation without asking anybody; it is nil where only its contract,
// which lies at an address, could tell.
func (c *Call) known(b *bench.Bench, service *bench.Service,
	s *sheet.Step,
) (op contract.Operation, contracted bool, err error) {
	endpoint, err := service.Described(c.Operation)
	switch {
	case err != nil:
		return nil, false, err
	case endpoint != nil:
		return session.ByHand(service, endpoint), false, session.WithoutPorts(s)
	case service.Contract == nil:
		return nil, false, &bench.NotFoundError{
			What: "operation of " + service.Name, Name: c.Operation,
			Known: service.OperationNames(),
		}
	}
	described, err := b.Offline(service)
	if err != nil || described == nil {
		return nil, false, err
	}
	if !described.HasOperations() {
		return nil, false, errors.New("it is a schema alone, and has no operations")
	}
	op, err = session.OperationIn(described, service, s, c.Operation)
	return op, true, err
}

// report tells what is wrong with the fields of a call where they are.
func (c *Call) report(v *Vetting, s *sheet.Step, problems []contract.Problem) {
	var missing []string
	for _, p := range problems {
		if p.Missing != "" {
			missing = append(missing, p.Missing)
			continue
		}
		at, nearest := c.At, ""
		if s.FillAt != nil {
			for _, e := range s.FillAt.Entries {
				if !isWithin(p.Field, e.Key.Text) || len(e.Key.Text) < len(nearest) {
					continue
				}
				at, nearest = e.Key, e.Key.Text
				if p.OfValue {
					at = e.Value
				}
			}
		}
		v.report(at, p.Try, "%s", p.Message)
	}
	if len(missing) > 0 {
		list := strings.Join(missing, ", ")
		v.report(c.At, "add "+list, "%s needs %s", c.Target(), list)
	}
}

// isWithin says whether a field is the one of a name, or is below it.
func isWithin(field, name string) bool {
	rest, ok := strings.CutPrefix(field, name)
	return ok && (rest == "" || rest[0] == '.' || rest[0] == '[')
}
