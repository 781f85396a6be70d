package sheet

import (
	"context"
	"fmt"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/nearest"
	"testbench/internal/request"
	"testbench/internal/rpc"
)

// method finds what is described of a method that is called by name; one that
// nobody described may be called all the same, unless it looks like a slip.
func (s *Service) method(name string) (*contract.Operation, error) {
	if op := s.Operation(name); op != nil {
		return op, nil
	}
	if nearest.Of(name, s.OperationNames()) != "" {
		return nil, &NotFoundError{"operation of " + s.Name, name, s.OperationNames()}
	}
	return &contract.Operation{Name: name, Method: "POST"}, nil
}

// planMethod makes the call of a method by JSON-RPC or XML-RPC.
func (s *Session) planMethod(ctx context.Context, p *plan, step *Step, spec *request.Spec, scope *Scope, name string) error {
	op, err := p.service.method(name)
	if err != nil {
		return err
	}
	p.op, p.speaks = op, p.service.Speaks
	address, err := s.address(ctx, p.service)
	if err != nil {
		return err
	}
	called := *op
	called.Path = ""
	p.op = &called
	if err := p.build(step, spec, scope, address); err != nil {
		return err
	}
	p.op = op
	spec.Method, spec.Address = "POST", address
	if len(step.contents) > 0 {
		return nil // the step writes the call itself
	}
	fields := document.NewObject()
	if spec.Body != nil {
		if fields, err = spec.Body.Node(scope); err != nil {
			return err
		}
	}
	wire := op.Name
	if op.Call != "" {
		wire = op.Call
	}
	call := rpc.CallJSON(wire, rpc.Parameters(fields))
	if p.speaks == rpc.XML {
		if call, err = rpc.CallXML(wire, rpc.Parameters(fields)); err != nil {
			return fmt.Errorf("fill: %w", err)
		}
	}
	spec.Body = request.Fixed(call)
	spec.Headers = under([]request.Pair{{Name: "Content-Type", Value: request.Fixed(document.NewUntyped(p.speaks.ContentType()))}}, spec.Headers)
	return nil
}
