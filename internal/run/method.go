package run

import (
	"context"
	"fmt"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/rpc"
	"testbench/internal/sheet"
)

// planMethod makes the call of a method by JSON-RPC or XML-RPC.
func (s *Session) planMethod(ctx context.Context, p *plan, step *sheet.Step, spec *request.Spec, scope *Values, name string) error {
	op, err := p.service.Method(name)
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
	if len(step.Contents) > 0 {
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
	spec.Headers = mergeDefaults([]request.Pair{{Name: "Content-Type", Value: request.Fixed(document.NewUntyped(p.speaks.ContentType()))}}, spec.Headers)
	return nil
}
