package run

import (
	"fmt"
	"slices"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
)

// serviceWithValues is an operation with the values of its parameters that hold placeholders.
func serviceWithValues(s *bench.Service, op *contract.Endpoint, scope *Values) (*contract.Endpoint, error) {
	filled := s.Filled[op.Name]
	if len(filled) == 0 {
		return op, nil
	}
	out := *op
	out.Parameters = slices.Clone(op.Parameters)
	for _, f := range filled {
		node, err := f.Tree.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("%s of %s: %w", f.Wire, op.Name, err)
		}
		for i := range out.Parameters {
			switch p := &out.Parameters[i]; {
			case p.In != f.In || p.Wire != f.Wire:
			case f.IsFixed:
				p.Fixed = node
			default:
				p.Default = node
			}
		}
	}
	return &out, nil
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

// templated makes a body of the template of its operation.
func (p *plan) templated(body *document.Node, scope *Values) (*document.Node, error) {
	t := p.service.Templates[p.op.Name]
	if t == nil || p.contracted {
		return body, nil
	}
	if body == nil {
		body = document.NewObject()
	}
	made, err := t.Node(fieldsScope{scope, body})
	if err != nil {
		return nil, fmt.Errorf("the template of %s: %w", p.op.Name, err)
	}
	return made, nil
}
