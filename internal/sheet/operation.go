package sheet

import (
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/nearest"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// description is an operation as it is described by hand.
type description struct {
	op       *contract.Operation
	explicit bool // a request line was given
}

// mark is what a bench says of an operation that a contract describes.
type mark struct {
	at *yamlfile.Node
	op *contract.Operation
}

// methods are the request methods that HTTP names (RFC 9110, 9; RFC 5789).
var methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"}

// isMethod says whether a word can be a request method. Others than those
// above may be meant (MERGE, PROPFIND), but not one that is nearly one of them.
func isMethod(word string) bool {
	if word == "" || strings.Trim(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ-") != "" {
		return false
	}
	return slices.Contains(methods, word) || nearest.Of(word, methods) == ""
}

// operation reads one operation described by hand. For a SOAP service a
// payload takes the place of a request line.
func (r *reader) operation(e yamlfile.Entry, s *Service) *contract.Operation {
	d := &description{op: &contract.Operation{Name: e.Key.Text}}
	readMapping(r, "an operation", e.Value, d, operationKeys)
	op := d.op
	if op.SOAP {
		op.Method = "POST"
	}
	if !op.SOAP && !d.explicit {
		// Beside a contract it may just say what the contract does not.
		s.marks = append(s.marks, mark{at: e.Key, op: op})
		return nil
	}
	for _, name := range contract.PathNames(op.Path) {
		if !slices.ContainsFunc(op.Parameters, func(p contract.Parameter) bool { return p.In == contract.InPath && p.Wire == name }) {
			op.Parameters = append(op.Parameters, contract.Parameter{In: contract.InPath, Wire: name, Name: name, Required: true})
		}
	}
	for _, group := range op.Needs {
		for _, name := range group {
			if op.Find(name) == nil {
				r.file.Report(e.Key, nearest.Try(name, op.FieldNames()), "needs names %q, which is no parameter of %s", name, op.Name)
			}
		}
	}
	return op
}

var operationKeys = []key[description]{
	{"request", "method and path: GET /lots/{id}", func(r *reader, d *description, n *yamlfile.Node) {
		d.explicit = true
		line := r.plainText(n)
		method, path, _ := strings.Cut(line, " ")
		path = strings.TrimSpace(path)
		switch {
		case !isMethod(method):
			r.file.Report(n, "write it like GET /lots/{id}; "+nearest.Try(strings.ToUpper(method), methods), "%q is no request method", method)
		case !strings.HasPrefix(path, "/") && path != "":
			r.file.Report(n, "", "the path must begin with /: %q", path)
		}
		d.op.Method, d.op.Path = method, path
		d.op.Reads = d.op.Reads || method == "GET" || method == "HEAD" || method == "OPTIONS"
	}},
	{"about", "what it does", func(r *reader, d *description, n *yamlfile.Node) { d.op.About = r.text(n) }},
	{"path", "path parameters", parameters(contract.InPath)},
	{"query", "query parameters", parameters(contract.InQuery)},
	{"headers", "header parameters", parameters(contract.InHeader)},
	{"form", "form parameters", parameters(contract.InForm)},
	{"body", "fields of the body", parameters(contract.InBody)},
	{"needs", "groups of which at least one must be given", func(r *reader, d *description, n *yamlfile.Node) {
		for _, group := range r.list(n) {
			var names []string
			for _, item := range r.list(group) {
				names = append(names, r.plainText(item))
			}
			d.op.Needs = append(d.op.Needs, names)
		}
	}},
	{"reads", "true: it changes nothing", func(r *reader, d *description, n *yamlfile.Node) { d.op.Reads = r.yes(n) }},
	{"action", "the SOAP action", func(r *reader, d *description, n *yamlfile.Node) { d.op.SOAP, d.op.Action = true, r.plainText(n) }},
	{"payload", "the SOAP payload's element: prefix:Name", func(r *reader, d *description, n *yamlfile.Node) {
		d.op.SOAP, d.op.Payload = true, r.plainText(n)
	}},
}

func parameters(in contract.In) func(*reader, *description, *yamlfile.Node) {
	return func(r *reader, d *description, n *yamlfile.Node) {
		for _, e := range r.entries(n, string(in)) {
			p := contract.Parameter{In: in, Wire: e.Key.Text, Name: e.Key.Text, Required: in == contract.InPath}
			switch {
			case e.Value.Kind == yamlfile.Mapping:
				readMapping(r, "a parameter", e.Value, &p, parameterKeys)
			case e.Value.Text == "required":
				p.Required = true
			case e.Value.Text != "optional":
				r.file.Report(e.Value, "write required, optional, or keys below it: "+keyNames(parameterKeys, 9), "a parameter is described by a mapping")
			}
			d.op.Parameters = append(d.op.Parameters, p)
		}
	}
}

var parameterKeys = []key[contract.Parameter]{
	{"name", "what a tester calls it", func(r *reader, p *contract.Parameter, n *yamlfile.Node) { p.Name = r.plainText(n) }},
	{"required", "true or false", func(r *reader, p *contract.Parameter, n *yamlfile.Node) { p.Required = r.yes(n) }},
	{"kind", "integer, number, date, …", func(r *reader, p *contract.Parameter, n *yamlfile.Node) {
		word, _, _ := strings.Cut(r.plainText(n), " ")
		if r.choice(&yamlfile.Node{Kind: n.Kind, Text: word, Line: n.Line, Column: n.Column}, "kind", rule.KindNames()...) != "" {
			p.Kind = n.Text
		}
	}},
	{"one of", "the allowed values", func(r *reader, p *contract.Parameter, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			p.OneOf = append(p.OneOf, r.plainText(item))
		}
	}},
	{"default", "sent when nothing else is", func(r *reader, p *contract.Parameter, n *yamlfile.Node) { p.Default = r.plainText(n) }},
	{"fixed", "always sent", func(r *reader, p *contract.Parameter, n *yamlfile.Node) { p.Fixed = r.plainText(n) }},
	{"about", "what it means", func(r *reader, p *contract.Parameter, n *yamlfile.Node) { p.About = r.text(n) }},
}
