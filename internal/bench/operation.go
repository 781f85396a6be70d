package bench

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/lazy"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/xsd/instance"
	"testbench/internal/yamlfile"
)

// description is an operation as it is described in bench.yaml.
type description struct {
	op       *contract.Endpoint
	explicit bool // a request line was given
	template *request.Template
	good     *rule.Status
	outcome  *Outcome
	answer   schema.Type // of what comes back; nil where nothing is said
	stream   *exchange.Stream
	answerAs string
	short    map[string]*path.Path
	filled   []filledParameter
	// templateAt is where the template is.
	templateAt *yamlfile.Node
}

// filledParameter is a parameter whose default or fixed value holds placeholders: what it
// is is known when a call is made.
type filledParameter struct {
	In      contract.In
	Wire    string
	Tree    *request.Tree
	IsFixed bool
	at      *yamlfile.Node
}

// parameter is a parameter as it is read.
type parameter struct {
	contract.Parameter
	fallback, fixed     *request.Tree
	fallbackAt, fixedAt *yamlfile.Node
	exampleAt           *yamlfile.Node
}

// mark is what a bench says of an operation that a contract describes.
type mark struct {
	at *yamlfile.Node
	op *contract.Endpoint
}

// isMark says whether the contract of the service describes the operation.
func (d *description) isMark() bool { return !d.op.SOAP && !d.explicit }

// readOperation reads one operation described in bench.yaml. For a SOAP service a
// payload takes the place of a request line.
func readOperation(r *mapping.Reader, e yamlfile.Entry, s *Service) *contract.Endpoint {
	d := &description{op: &contract.Endpoint{Name: e.Key.Text}}
	mapping.Read(r, "an operation", e.Value, d, operationKeys)
	op := d.op
	describeAnswers(d)
	if op.SOAP {
		op.Method = "POST"
	}
	checkComputed(r, d, e.Value)
	if d.template != nil {
		checkTemplate(r, d)
		if s.Templates == nil {
			s.Templates = map[string]*request.Template{}
		}
		s.Templates[op.Name] = d.template
	}
	if len(d.filled) > 0 {
		if s.Filled == nil {
			s.Filled = map[string][]filledParameter{}
		}
		s.Filled[op.Name] = d.filled
	}
	if d.stream != nil {
		if s.Streams == nil {
			s.Streams = map[string]*exchange.Stream{}
		}
		s.Streams[op.Name] = d.stream
	}
	if d.answerAs != "" {
		if s.AnswersAs == nil {
			s.AnswersAs = map[string]string{}
		}
		s.AnswersAs[op.Name] = d.answerAs
	}
	if d.short != nil {
		if s.Short == nil {
			s.Short = map[string]map[string]*path.Path{}
		}
		s.Short[op.Name] = d.short
	}
	if d.outcome != nil {
		if s.Outcomes == nil {
			s.Outcomes = map[string]*Outcome{}
		}
		s.Outcomes[op.Name] = d.outcome
	}
	if d.good != nil {
		if s.Good == nil {
			s.Good = map[string]*rule.Status{}
		}
		s.Good[op.Name] = d.good
	}
	if s.Speaks != "" {
		op.Method = "POST"
	} else if d.isMark() {
		// Beside a contract it may just say what the contract does not.
		s.marks = append(s.marks, mark{at: e.Key, op: op})
		return nil
	}
	for _, name := range contract.PathNames(op.Path) {
		if !slices.ContainsFunc(op.Parameters, func(p contract.Parameter) bool {
			return p.In == contract.InPath && p.Wire == name
		}) {
			op.Parameters = append(op.Parameters,
				contract.Parameter{In: contract.InPath, Wire: name, Name: name, Required: true})
		}
	}
	for _, group := range op.Needs {
		key := "needs"
		if slices.ContainsFunc(op.Apart, func(apart []string) bool { return slices.Equal(group, apart) }) {
			key = "exactly one of"
		}
		for _, name := range group {
			if op.Find(name) == nil {
				r.File.Report(e.Key, suggest.DidYouMean(name, op.FieldNames()),
					"%s: names %q, which is not a parameter of %s", key, name, op.Name)
			}
		}
	}
	return op
}

var operationKeys = []mapping.Key[description]{
	mapping.NewKey("request", "method and path: GET /lots/{id}",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			d.explicit = true
			line := r.PlainText(n)
			method, path, _ := strings.Cut(line, " ")
			path = strings.TrimSpace(path)
			switch {
			case !request.IsMethod(method):
				r.File.Report(n, "write it like GET /lots/{id}; "+suggest.DidYouMean(strings.ToUpper(method),
					request.Methods),
					"%q is not a request method", method)
			case !strings.HasPrefix(path, "/") && path != "":
				r.File.Report(n, "", "the path must begin with /: %q", path)
			}
			d.op.Method, d.op.Path = method, path
			d.op.Reads = d.op.Reads || method == "GET" || method == "HEAD" || method == "OPTIONS"
		}),
	mapping.TextKey("method",
		"of a service that speaks json-rpc or xml-rpc, what is called, where it is not the operation's "+
			"name", func(d *description) *string { return &d.op.Call }),
	mapping.NewKey("about", "what it does", func(r *mapping.Reader, d *description, n *yamlfile.Node) {
		d.op.About = r.Text(n)
	}),
	mapping.NewKey("path", "path parameters", parameters(contract.InPath)),
	mapping.NewKey("query", "query parameters", parameters(contract.InQuery)),
	mapping.NewKey("headers", "header parameters", parameters(contract.InHeader)),
	mapping.NewKey("form", "form parameters", parameters(contract.InForm)),
	mapping.NewKey("body", "fields of the body", parameters(contract.InBody)),
	mapping.NewKey("inputs",
		"fields that are not sent themselves: default: and fixed: of others are made of them, as ${fields.NAME | "+
			"FILTER}",
		parameters(contract.InInput)),
	mapping.NewKey(
		"template", "what the body is made of; ${fields} is replaced by the fields that are filled in",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			r.NotFile(n, "template", "write what is in the file below template:")
			inner := *r
			inner.Uses = new([]mapping.Use) // fields is known only while a call is built
			d.template = readTemplate(&inner, n)
			d.templateAt = n
		},
	),
	mapping.NewKey("success",
		"the statuses of success: 200 or 404, or a list; or a condition: answer.outcome == \"OK\"",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) { readSuccess(r, n, &d.good, &d.outcome) }),
	mapping.NewKey("error", "how answers tell of errors: when:, and the paths of code:, text:, target:",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) { readError(r, n, &d.outcome) }),
	mapping.NewKey(
		"answer", "a file with the schema of what comes back: JSON Schema or XML Schema",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			name := r.PlainText(n)
			if n.Kind != yamlfile.Scalar {
				return // it was told
			}
			r.Reading(name)
			answer, err := readAnswerSchema(r, name)
			if err != nil {
				r.File.Report(n, "", "%v", err)
				return
			}
			d.answer = answer
		},
	),
	mapping.NewKey("statuses", "what each status means: 404: no such lot; any other breaks the description",
		readStatuses),
	mapping.NewKey("stream", mapping.StreamHelp,
		func(r *mapping.Reader, d *description, n *yamlfile.Node) { d.stream = r.Stream(n) }),
	mapping.NewKey("answer as", mapping.AnswerAsHelp,
		func(r *mapping.Reader, d *description, n *yamlfile.Node) { d.answerAs = r.AnswerAs(n) }),
	mapping.NewKey("paths",
		"short names for paths of its answers: they stand for them in fields, keep and wherever a path is",
		readShort),
	mapping.NewKey("needs", "groups of which at least one must be given",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			d.op.Needs = append(d.op.Needs, readGroups(r, n)...)
		}),
	mapping.NewKey("exactly one of", "groups of which one must be given, and no more",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			groups := readGroups(r, n)
			d.op.Needs, d.op.Apart = append(d.op.Needs, groups...), append(d.op.Apart, groups...)
		}),
	mapping.YesKey("reads", "true: it changes nothing", func(d *description) *bool { return &d.op.Reads }),
	mapping.YesKey("deprecated", "true: it should not be used any more",
		func(d *description) *bool { return &d.op.Deprecated }),
	mapping.NewKey("action", "the SOAP action", func(r *mapping.Reader, d *description, n *yamlfile.Node) {
		d.op.SOAP, d.op.Action = true, r.PlainText(n)
	}),
	mapping.NewKey("payload", "the SOAP payload's element: prefix:Name",
		func(r *mapping.Reader, d *description, n *yamlfile.Node) {
			d.op.SOAP, d.op.Payload = true, r.PlainText(n)
		}),
}

// statusNames are how an answer is named in statuses:, as contracts name it (OpenAPI 3.1.0, 4.8.16).
var statusNames = lazy.Regexp(`^([1-5][0-9][0-9]|[1-5][xX][xX])$`)

// readStatuses reads what each status means.
func readStatuses(r *mapping.Reader, d *description, n *yamlfile.Node) {
	r.NotEmpty(n, "statuses")
	for _, e := range r.Entries(n, "statuses") {
		if !statusNames().MatchString(e.Key.Text) {
			r.File.Report(e.Key, "write it like 404 or 5xx", "%q is not a status", e.Key.Text)
		}
		d.op.Answers = append(d.op.Answers,
			contract.Answer{Status: strings.ToUpper(e.Key.Text), About: r.Text(e.Value)})
	}
}

// describeAnswers puts what comes back to the statuses of success. Where none are listed, nothing is said of errors.
func describeAnswers(d *description) {
	if d.answer == nil {
		return
	}
	contents := []contract.Content{{Schema: d.answer}}
	if len(d.op.Answers) == 0 {
		d.op.Answers = []contract.Answer{{Status: "2XX", Contents: contents}, {Status: "default"}}
		return
	}
	for i, a := range d.op.Answers {
		if a.Status[0] == '2' && a.Status != "204" {
			d.op.Answers[i].Contents = contents
		}
	}
}

// readShort reads paths by short names.
func readShort(r *mapping.Reader, d *description, n *yamlfile.Node) {
	r.NotEmpty(n, "paths")
	d.short = map[string]*path.Path{}
	for _, e := range r.Entries(n, "paths") {
		name := r.Identifier(e.Key, "a path")
		p := r.Path(e.Value)
		if p != nil && !p.IsPlain() {
			r.File.Report(e.Value, "write names with dots between", "%s: a short name stands for a path in the answer",
				name)
			continue
		}
		d.short[name] = p
	}
}

// readTemplate reads a tree, or a text that begins as JSON or XML.
func readTemplate(r *mapping.Reader, n *yamlfile.Node) *request.Template {
	if format := mapping.GuessText(n.Text); n.Kind == yamlfile.Scalar && format != document.Plain &&
		!strings.HasPrefix(n.Text, "${") {
		return &request.Template{Text: r.Body(n, format), Format: format}
	}
	return &request.Template{Tree: r.Tree(n)}
}

// checkTemplate reports fields that the operation does not have: a part without a value is left out, and
// one that is written wrong would always be.
func checkTemplate(r *mapping.Reader, d *description) {
	var names []string
	for _, p := range d.op.Parameters {
		if p.In == contract.InBody || p.In == contract.InForm {
			names = append(names, p.Name)
		}
	}
	elements := d.template.Elements()
	for _, h := range d.template.Placeholders() {
		if h.Space != "" || h.Name != "fields" || len(h.Tail) == 0 || d.op.IsOpen() ||
			slices.Contains(elements, h.Name) {
			continue
		}
		if name := h.Tail[0].Key; name != "" && !slices.Contains(names, name) {
			r.File.Report(d.templateAt, suggest.DidYouMean(name, names),
				"%s in the template of %s: there is no such field; write it below body:", h.Source, d.op.Name)
		}
	}
}

// readGroups reads groups of fields: a list of lists, or one list.
func readGroups(r *mapping.Reader, n *yamlfile.Node) [][]string {
	items := r.List(n)
	if !slices.ContainsFunc(items, func(item *yamlfile.Node) bool { return item.Kind == yamlfile.Sequence }) &&
		len(items) > 0 {
		items = []*yamlfile.Node{n}
	}
	var groups [][]string
	for _, item := range items {
		groups = append(groups, r.Texts(item))
	}
	return groups
}

// checkComputed reports fields that parameters are made of and that the operation does not have, and inputs of which
// nothing is made.
func checkComputed(r *mapping.Reader, d *description, n *yamlfile.Node) {
	names := d.op.FieldNames()
	used := map[string]bool{}
	for _, f := range d.filled {
		own := slices.IndexFunc(d.op.Parameters,
			func(p contract.Parameter) bool { return p.In == f.In && p.Wire == f.Wire })
		for _, h := range f.Tree.Placeholders() {
			if h.Space != "" || h.Name != "fields" {
				continue
			}
			name := nameOfField(h)
			used[name] = true
			if !slices.Contains(names, name) || name == d.op.Parameters[own].Name {
				missing := "there is no such field; write it below inputs:"
				if d.isMark() {
					missing = "name that field of the contract here, too"
				}
				r.File.Report(f.at, suggest.DidYouMean(name, names), "%s in %s of %s: %s", h.Source, f.Wire, d.op.Name,
					missing)
			}
		}
	}
	for _, p := range d.op.Parameters {
		if p.In == contract.InInput && !used[p.Name] {
			r.File.Report(n.Get("inputs").Key(p.Wire),
				"write ${fields."+p.Name+"} in default: or fixed: of a parameter",
				"the input %s of %s has no effect: no parameter is made of it", p.Name, d.op.Name)
		}
	}
}

// readComputed reads a value that may be made of the fields of a call, which are known only while it is built.
func readComputed(r *mapping.Reader, n *yamlfile.Node) (t *request.Tree) {
	r.Knowing([]string{"fields"}, func(inner *mapping.Reader) { t = inner.Tree(n) })
	return t
}

// nameOfField is the field that ${fields.NAME} asks for.
func nameOfField(h *value.Placeholder) string {
	if len(h.Tail) == 0 {
		return ""
	}
	return h.Tail[0].Key
}

func parameters(in contract.In) func(*mapping.Reader, *description, *yamlfile.Node) {
	keys := parameterKeys
	if in == contract.InQuery || in == contract.InForm {
		keys = listedKeys
	}
	return func(r *mapping.Reader, d *description, n *yamlfile.Node) {
		for _, e := range r.Entries(n, string(in)) {
			p := parameter{Parameter: contract.Parameter{
				In: in, Wire: e.Key.Text, Name: e.Key.Text,
				Required: in == contract.InPath,
			}}
			if in == contract.InHeader {
				if err := request.CheckHeader(e.Key.Text, ""); err != nil {
					r.File.Report(e.Key, "", "%v", err)
				}
			}
			r.TakesOf(e.Value, func() *document.Node { return mapping.EnumSchema("required", "optional") })
			switch {
			case e.Value.Kind == yamlfile.Mapping:
				mapping.Read(r, "a parameter", e.Value, &p, keys)
			case e.Value.Text == "required":
				p.Required = true
			case e.Value.Text != "optional" || e.Value.Kind == yamlfile.Sequence:
				r.File.Report(e.Value, "write required, optional, or keys below it: "+
					strings.Join(suggest.First(mapping.KeyNames(keys), 9), ", "),
					"a parameter is described by a mapping")
			}
			finishParameter(r, d, &p)
			d.op.Parameters = append(d.op.Parameters, p.Parameter)
		}
	}
}

// finishParameter checks what a parameter is without being given one, and remembers what is
// known only when a call is made.
func finishParameter(r *mapping.Reader, d *description, p *parameter) {
	if p.fixed != nil && (p.fallback != nil || len(p.OneOf) > 0 || p.Example != nil) {
		r.File.Report(p.fixedAt, "keep one of them",
			"%s is always the same: default:, one of: and example: have no effect beside fixed:", p.Name)
	}
	if p.Example != nil {
		if wrong := p.Check(p.Example, rule.IsKind); wrong != "" {
			r.File.Report(p.exampleAt, "", "%s", wrong)
		}
	}
	for _, one := range []struct {
		tree    *request.Tree
		at      *yamlfile.Node
		into    **document.Node
		isFixed bool
	}{{p.fallback, p.fallbackAt, &p.Default, false}, {p.fixed, p.fixedAt, &p.Fixed, true}} {
		if one.tree == nil {
			continue
		}
		r.RemarkCredential(p.Name, one.at)
		*one.into = one.tree.Known(schema.Unknown)
		if len(one.tree.Placeholders()) > 0 {
			p.Computed = one.tree.String()
			d.filled = append(d.filled, filledParameter{p.In, p.Wire, one.tree, one.isFixed, one.at})
		} else if wrong := p.Check(*one.into, rule.IsKind); wrong != "" {
			r.File.Report(one.at, "", "%s", wrong)
		}
	}
}

var parameterKeys = []mapping.Key[parameter]{
	mapping.TextKey("name", "what a tester calls it", func(p *parameter) *string { return &p.Name }),
	mapping.YesKey("required", "true or false", func(p *parameter) *bool { return &p.Required }),
	mapping.NewKey("kind", "integer, number, date, …", func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
		word, _, _ := strings.Cut(r.PlainText(n), " ")
		if r.Choice(&yamlfile.Node{Kind: n.Kind, Text: word, Line: n.Line, Column: n.Column}, "kind",
			rule.KindNames()...) != "" {
			p.Kind = n.Text
		}
	}),
	mapping.NewKey("one of", "the allowed values", func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
		for _, item := range r.List(n) {
			p.OneOf = append(p.OneOf, r.PlainText(item))
		}
	}),
	mapping.NewKey("default", "sent when nothing else is", func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
		p.fallback, p.fallbackAt = readComputed(r, n), n
	}),
	mapping.NewKey("fixed", "always sent", func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
		p.fixed, p.fixedAt = readComputed(r, n), n
	}),
	mapping.NewKey("about", "what it means", func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
		p.About = r.Text(n)
	}),
	mapping.NewKey("example", "a value that it may have: drafts are made with it",
		func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
			p.Example, p.exampleAt = r.Tree(n).Known(schema.Unknown), n
		}),
	mapping.YesKey("deprecated", "true: it should not be used any more",
		func(p *parameter) *bool { return &p.Deprecated }),
}

// listedKeys are those of a parameter in a place where a list can be written in several ways.
var listedKeys = append(slices.Clip(parameterKeys),
	mapping.NewKey("list", "how a list is written: repeated, commas, spaces, bars, tabs; repeated unless said",
		func(r *mapping.Reader, p *parameter, n *yamlfile.Node) {
			form := r.Choice(n, "way to write a list", slices.Sorted(maps.Keys(listStyles))...)
			p.Style, p.Joined = listStyles[form], form != "repeated"
		}),
)

// listStyles are the styles of lists in query and form (OpenAPI 3.1.0, 4.8.12.3) by the word of a bench.
var listStyles = map[string]string{
	"repeated": "form", "commas": "form", "spaces": "spaceDelimited", "bars": "pipeDelimited", "tabs": "tabDelimited",
}

// readAnswerSchema reads a schema alone.
func readAnswerSchema(r *mapping.Reader, name string) (schema.Type, error) {
	if _, err := safefile.Inside(r.Dir, name); err != nil {
		return nil, err
	}
	c, err := formats.Load(name, (&source.Source{Dir: r.Dir}).Fetch)
	if err != nil {
		return nil, err
	}
	switch c := c.(type) {
	case *contract.JSONSchema:
		return c.Schema, nil
	case *contract.XMLSchema:
		return instance.ElementType{Schema: c.Schema}, nil
	}
	return nil, fmt.Errorf("%s is a contract; write it at the service: contract: %s", name, name)
}
