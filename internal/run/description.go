package run

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// operationOf finds an operation of a description.
func operationOf(d contract.Description, service *bench.Service, name string) (*contract.Endpoint, error) {
	op, err := d.Operation(name)
	if err == nil && op == nil {
		err = &bench.NotFoundError{What: "operation of " + service.Name, Name: name, Known: append(service.OperationNames(), d.Names()...)}
	}
	return op, err
}

// buildOptions are those that a step to a service asks for.
func buildOptions(s *sheet.Step, service *bench.Service) contract.BuildOptions {
	o := contract.BuildOptions{IsKind: rule.IsKind}
	if len(s.Contents) > 0 {
		o.Body = s.Contents[0]
	}
	for _, h := range s.Spec.Headers {
		if strings.EqualFold(h.Name, "Content-Type") && h.Value.Scalar != nil && h.Value.Scalar.IsLiteral() {
			o.Type = h.Value.Scalar.LiteralText()
		}
	}
	given := map[contract.In][]request.Pair{contract.InHeader: slices.Concat(service.Always.Headers, s.Spec.Headers),
		contract.InQuery: slices.Concat(service.Always.Query, s.Spec.Query), contract.InCookie: slices.Concat(service.Always.Cookies, s.Spec.Cookies),
		contract.InForm: s.Spec.Form}
	o.Elsewhere = func(p contract.Parameter) bool {
		return slices.ContainsFunc(given[p.In], func(pair request.Pair) bool {
			return pair.Name == p.Wire || p.In == contract.InHeader && strings.EqualFold(pair.Name, p.Wire)
		})
	}
	return o
}

// fill fills the fields of a call in, and remembers what was sent for hints.
func (p *plan) fill(step *sheet.Step, scope *Values) (*document.Node, error) {
	fields := document.NewObject()
	p.filled = map[string]string{}
	if step.Fill == nil {
		return fields, nil
	}
	for _, f := range fillFields(step) {
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

// build makes the request of an operation that is described by hand or by a
// contract that is no WSDL.
func (p *plan) build(step *sheet.Step, spec *request.Spec, scope *Values, address *value.Template) error {
	fields, err := p.fill(step, scope)
	if err != nil {
		return err
	}
	op := p.op
	if !p.contracted {
		if op, err = serviceWithValues(p.service, op, scope); err != nil {
			return err
		}
	}
	built, problems := op.Build(fields, buildOptions(step, p.service))
	if len(problems) > 0 {
		e := &ContractError{Described: p.contracted, Problems: problemTexts(step, problems)}
		if !p.contracted || holdsRequest(step) {
			return e
		}
		for _, text := range e.Problems {
			p.notes = append(p.notes, "sent against the contract: "+text)
		}
	}
	literal, err := value.ParsePath(strings.ReplaceAll(built.Path, "${", "$${"))
	if err != nil {
		return err
	}
	spec.Method, spec.Address = built.Method, joinPath(address, literal)
	spec.Query = append(pairsOf(built.Query), spec.Query...)
	spec.Headers = mergeDefaults(p.accept(built), append(pairsOf(built.Headers), spec.Headers...))
	spec.Cookies = append(pairsOf(built.Cookies), spec.Cookies...)
	if len(step.Contents) > 0 && step.Contents[0] != "form" {
		return nil
	}
	spec.Form = mergeDefaults(pairsOf(built.Form), spec.Form)
	if len(step.Contents) > 0 {
		return nil
	}
	for _, part := range built.Parts {
		one := request.Part{Name: part.Name, Type: part.Type, Value: request.Fixed(part.Value)}
		if part.IsFile {
			one.FileName = part.Name
		}
		spec.Parts = append(spec.Parts, one)
	}
	if built.Body, err = p.templated(built.Body, scope); err != nil {
		return err
	}
	if built.Body != nil || p.op.SOAP {
		body := built.Body
		if body == nil {
			body = document.NewObject()
		}
		spec.Body = request.Fixed(body)
	}
	if built.Type != "" && spec.Body != nil {
		spec.Headers = mergeDefaults([]request.Pair{{Name: "Content-Type", Value: request.Fixed(document.NewUntyped(built.Type))}}, spec.Headers)
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

// accept asks for what the contract says may come back.
func (p *plan) accept(built *contract.Request) []request.Pair {
	var types []string
	for _, a := range p.op.Answers {
		for _, c := range a.Contents {
			if c.Type != "" && !slices.Contains(types, c.Type) {
				types = append(types, c.Type)
			}
		}
	}
	if len(types) == 0 || slices.ContainsFunc(built.Headers, func(h contract.Pair) bool { return strings.EqualFold(h.Name, "Accept") }) {
		return nil
	}
	return []request.Pair{{Name: "Accept", Value: request.Fixed(document.NewUntyped(strings.Join(types, ", ")))}}
}

// descriptionProblems finds what is wrong with a step's fields, as far as they
// are known.
func descriptionProblems(d contract.Description, service *bench.Service, step *sheet.Step, operation string) (*contract.Endpoint, []contract.Problem, error) {
	op, err := operationOf(d, service, operation)
	if err != nil || !holdsRequest(step) {
		return op, nil, err
	}
	return op, stepProblems(step, service, op), nil
}

// fillFields are the fields of a call; of a list, by their place in it.
func fillFields(s *sheet.Step) []request.Field {
	if !s.Fill.IsList {
		return s.Fill.Fields
	}
	var fields []request.Field
	for i, item := range s.Fill.Items {
		fields = append(fields, request.Field{Name: strconv.Itoa(i), Value: item})
	}
	return fields
}

// stepProblems holds the fields of a call against its operation, as far as they are
// known without filling anything in.
func stepProblems(s *sheet.Step, service *bench.Service, op *contract.Endpoint) []contract.Problem {
	fields := document.NewObject()
	if s.Fill != nil {
		for _, f := range fillFields(s) {
			fields.AppendMembers(document.Member{Key: f.Name, Value: f.Value.Known(schema.Unknown)})
		}
	}
	_, problems := op.Build(stepFields(s, fields), buildOptions(s, service))
	return problems
}

// vetDescription reports them at their fields.
func vetDescription(s *sheet.Sheet, b *bench.Bench, d contract.Description, service *bench.Service, step *sheet.Step, operation string) {
	op, problems, err := descriptionProblems(d, service, step, operation)
	var missing *bench.NotFoundError
	switch {
	case errors.As(err, &missing):
		readerOf(s).NotThere(step.CallAt, missing.What, missing.Name, missing.Known)
		return
	case err != nil:
		s.Source.Report(step.CallAt, "", "%v", err)
		return
	}
	vetAddress(s, b, service, step)
	vetSOAP(s, step, &plan{service: service, op: op}, op.Method)
	if op.Deprecated {
		s.Source.Remark(step.CallAt, "%s is deprecated by its contract", step.Call)
	}
	reportProblems(s, step, problems)
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
		texts = append(texts, s.Call+" needs "+strings.Join(missing, ", "))
	}
	return texts
}

// reportProblems tells what is wrong with a call's fields where they stand.
func reportProblems(s *sheet.Sheet, step *sheet.Step, problems []contract.Problem) {
	var missing []string
	for _, p := range problems {
		if p.Missing != "" {
			missing = append(missing, p.Missing)
			continue
		}
		at := step.CallAt
		if step.FillAt != nil {
			for _, e := range step.FillAt.Entries {
				if e.Key.Text == p.Field {
					at = e.Key
					if p.OfValue {
						at = e.Value
					}
				}
			}
		}
		s.Source.Report(at, p.Try, "%s", p.Message)
	}
	if len(missing) > 0 {
		list := strings.Join(missing, ", ")
		s.Source.Report(step.CallAt, "add "+list, "%s needs %s", step.Call, list)
	}
}
