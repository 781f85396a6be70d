package sheet

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/value"
)

// operationOf finds an operation of a description.
func operationOf(d contract.Description, service *Service, name string) (*contract.Operation, error) {
	op, err := d.Operation(name)
	if err == nil && op == nil {
		err = &NotFoundError{"operation of " + service.Name, name, append(service.OperationNames(), d.Names()...)}
	}
	return op, err
}

// mostPaths bounds how many paths of a contract are looked through for a hint.
const mostPaths = 500

// pathsOf lists the paths of a service, as far as they are known without asking
// anybody.
func (b *Bench) pathsOf(service *Service) []string {
	if known, ok := b.paths.Load(service); ok {
		return known.([]string)
	}
	paths := b.findPaths(service)
	b.paths.Store(service, paths)
	return paths
}

func (b *Bench) findPaths(service *Service) []string {
	var paths []string
	for _, op := range service.Operations {
		paths = append(paths, op.Path)
	}
	c, err := b.offline(service)
	if err != nil || c == nil || c.Description == nil {
		return paths
	}
	for _, name := range c.Description.Names()[:min(mostPaths, len(c.Description.Names()))] {
		if op, err := c.Description.Operation(name); err == nil && op != nil {
			paths = append(paths, op.Path)
		}
	}
	return paths
}

// buildOptions are those that a step to a service asks for.
func (s *Step) buildOptions(service *Service) contract.BuildOptions {
	o := contract.BuildOptions{IsKind: rule.IsKind}
	if len(s.contents) > 0 {
		o.Body = s.contents[0]
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
func (p *plan) fill(step *Step, scope *Scope) (*document.Node, error) {
	fields := document.NewObject()
	p.filled = map[string]string{}
	if step.Fill == nil {
		return fields, nil
	}
	for _, f := range step.fillFields() {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("fill %s: %w", f.Name, err)
		}
		fields.AppendMembers(document.Member{Key: f.Name, Value: node})
		if v := node.Value(); v != nil && v.IsScalar() && !v.Secret {
			p.filled[f.Name] = v.Text
		}
	}
	return step.fields(fields), nil
}

// fields are those of a call that are sent: without the empty ones, where the step says so.
func (s *Step) fields(all *document.Node) *document.Node {
	if s.Spec.DropEmpty {
		return request.DropEmpty(all)
	}
	return all
}

// build makes the request of an operation that is described by hand or by a
// contract that is no WSDL.
func (p *plan) build(step *Step, spec *request.Spec, scope *Scope, address *value.Template) error {
	fields, err := p.fill(step, scope)
	if err != nil {
		return err
	}
	op := p.op
	if !p.contracted {
		if op, err = p.service.withValues(op, scope); err != nil {
			return err
		}
	}
	built, problems := op.Build(fields, step.buildOptions(p.service))
	if len(problems) > 0 {
		e := &ContractError{Described: p.contracted, Problems: step.problemTexts(problems)}
		if !p.contracted || step.holdsRequest() {
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
	spec.Method, spec.Address = built.Method, behind(address, literal)
	spec.Query = append(pairsOf(built.Query), spec.Query...)
	spec.Headers = under(p.accept(built), append(pairsOf(built.Headers), spec.Headers...))
	spec.Cookies = append(pairsOf(built.Cookies), spec.Cookies...)
	if len(step.contents) > 0 && step.contents[0] != "form" {
		return nil
	}
	spec.Form = under(pairsOf(built.Form), spec.Form)
	if len(step.contents) > 0 {
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
		spec.Headers = under([]request.Pair{{Name: "Content-Type", Value: request.Fixed(document.NewUntyped(built.Type))}}, spec.Headers)
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
func descriptionProblems(d contract.Description, service *Service, step *Step, operation string) (*contract.Operation, []contract.Problem, error) {
	op, err := operationOf(d, service, operation)
	if err != nil || !step.holdsRequest() {
		return op, nil, err
	}
	return op, step.problems(service, op), nil
}

// fillFields are the fields of a call; of a list, by their place in it.
func (s *Step) fillFields() []request.Field {
	if !s.Fill.IsList {
		return s.Fill.Fields
	}
	var fields []request.Field
	for i, item := range s.Fill.Items {
		fields = append(fields, request.Field{Name: strconv.Itoa(i), Value: item})
	}
	return fields
}

// problems holds the fields of a call against its operation, as far as they are
// known without filling anything in.
func (s *Step) problems(service *Service, op *contract.Operation) []contract.Problem {
	fields := document.NewObject()
	if s.Fill != nil {
		for _, f := range s.fillFields() {
			fields.AppendMembers(document.Member{Key: f.Name, Value: f.Value.Known(schema.Unknown)})
		}
	}
	_, problems := op.Build(s.fields(fields), s.buildOptions(service))
	return problems
}

// vetDescription reports them at their fields.
func (s *Sheet) vetDescription(b *Bench, d contract.Description, service *Service, step *Step, operation string) {
	op, problems, err := descriptionProblems(d, service, step, operation)
	var missing *NotFoundError
	switch {
	case errors.As(err, &missing):
		s.reader().notThere(step.callAt, missing.What, missing.Name, missing.Known)
		return
	case err != nil:
		s.file.Report(step.callAt, "", "%v", err)
		return
	}
	s.vetAddress(b, service, step)
	s.vetSOAP(step, &plan{service: service, op: op}, op.Method)
	if op.Deprecated {
		s.file.Remark(step.callAt, "%s is deprecated by its contract", step.Call)
	}
	s.reportProblems(step, problems)
}

// problemTexts puts what is wrong with a call's fields into words, what is missing
// together.
func (s *Step) problemTexts(problems []contract.Problem) []string {
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
func (s *Sheet) reportProblems(step *Step, problems []contract.Problem) {
	var missing []string
	for _, p := range problems {
		if p.Missing != "" {
			missing = append(missing, p.Missing)
			continue
		}
		at := step.callAt
		if step.fillAt != nil {
			for _, e := range step.fillAt.Entries {
				if e.Key.Text == p.Field {
					at = e.Key
					if p.OfValue {
						at = e.Value
					}
				}
			}
		}
		s.file.Report(at, p.Try, "%s", p.Message)
	}
	if len(missing) > 0 {
		list := strings.Join(missing, ", ")
		s.file.Report(step.callAt, "add "+list, "%s needs %s", step.Call, list)
	}
}
