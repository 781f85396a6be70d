// Package wadl reads WADL (Web Application Description Language, W3C Member
// Submission of 31 August 2009) with the schemas of its grammars.
package wadl

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// Namespace is that of WADL; an older one differs only in its year.
const Namespace = "http://wadl.dev.java.net/2009/02"

// Is says whether a root element is that of a WADL.
func Is(root *document.Node) bool {
	return root.Name().Local == "application" && strings.HasPrefix(root.Name().Space, "http://wadl.dev.java.net/") ||
		root.Name().Space == "http://research.sun.com/wadl/2006/10"
}

// Contract is a WADL with its grammars.
type Contract struct {
	head       contract.Head
	operations []*contract.Endpoint
}

// Head is what the description says of itself.
func (c *Contract) Head() *contract.Head { return &c.head }

// Names lists the operations in the order of the description.
func (c *Contract) Names() []string {
	names := make([]string, len(c.operations))
	for i, op := range c.operations {
		names[i] = op.Name
	}
	return names
}

// Operation finds an operation by its name, or by method and path.
func (c *Contract) Operation(name string) (*contract.Endpoint, error) {
	for _, op := range c.operations {
		if op.Name == name || op.Method+" "+op.Path == name {
			return op, nil
		}
	}
	return nil, nil
}

// Fetch gets the document that base speaks of as location.
type Fetch = func(base, location string) (resolved string, data []byte, err error)

type reader struct {
	c        *Contract
	location string
	root     *document.Node
	byID     map[string]*document.Node
	schema   *xsd.Schema
	base     string
	parts    int            // resources, methods and parameters so far
	next     map[string]int // the number that the next operation of a name gets
}

// mostParts bounds what resource types that name resource types unfold to, in resources, methods and parameters.
const mostParts = 200_000

// unfold counts parts; false where they are too many.
func (r *reader) unfold(parts int) bool {
	r.parts += parts
	return r.parts <= mostParts
}

// Read reads a WADL. Fetch gets the grammars that it includes.
func Read(location string, root *document.Node, fetch Fetch) (*Contract, error) {
	r := &reader{
		c: &Contract{}, location: location, root: root, byID: map[string]*document.Node{},
		next: map[string]int{},
	}
	r.c.head = contract.Head{Format: "WADL", Location: location, Title: title(root), About: about(root)}
	r.index(root, 0)
	if err := r.grammars(fetch); err != nil {
		return nil, err
	}
	for _, resources := range children(root, "resources") {
		base, _ := resources.Attribute("base")
		if r.base == "" {
			r.base = base
		}
		if base != "" {
			r.c.head.Servers = append(r.c.head.Servers,
				contract.Server{Address: strings.TrimSuffix(base, "/"), About: title(resources)})
		}
		for _, resource := range children(resources, "resource") {
			r.resource(resource, "", r.own(resources, nil), 0)
		}
	}
	if r.parts > mostParts {
		return nil, fmt.Errorf("%s: its resources unfold to more than %d methods and parameters", location, mostParts)
	}
	if len(r.c.operations) == 0 {
		r.c.head.Notes = append(r.c.head.Notes, "the description has no method")
	}
	return r.c, nil
}

func (r *reader) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(r.c.head.Notes, text) {
		r.c.head.Notes = append(r.c.head.Notes, text)
	}
}

func children(n *document.Node, local string) []*document.Node {
	var out []*document.Node
	for _, child := range n.Children() {
		if child.Name().Local == local {
			out = append(out, child)
		}
	}
	return out
}

// title and about are what a doc element says (2.3).
func title(n *document.Node) string {
	if doc := n.Child("doc"); doc != nil {
		text, _ := doc.Attribute("title")
		return text
	}
	return ""
}

func about(n *document.Node) string {
	var words []string
	for _, doc := range children(n, "doc") {
		if text, _ := doc.Attribute("title"); text != "" && n.Name().Local != "application" {
			words = append(words, strings.TrimSuffix(text, ".")+".")
		}
		if text := strings.Join(strings.Fields(textOf(doc)), " "); text != "" {
			words = append(words, text)
		}
	}
	return strings.Join(words, " ")
}

func textOf(n *document.Node) string {
	var out strings.Builder
	for _, item := range n.Items() {
		if item.Kind == document.Element {
			out.WriteString(textOf(item))
		} else if item.IsScalar() {
			out.WriteString(item.Text)
		}
	}
	return out.String()
}

func attribute(n *document.Node, name string) string {
	text, _ := n.Attribute(name)
	return text
}

func (r *reader) index(n *document.Node, depth int) {
	if id := attribute(n, "id"); id != "" && n.Name().Space == r.root.Name().Space {
		r.byID[id] = n
	}
	for _, child := range n.Children() {
		if depth < document.MaxDepth {
			r.index(child, depth+1)
		}
	}
}

// follow goes where an href leads, within the description (2.1).
func (r *reader) follow(n *document.Node) *document.Node {
	for range 10 {
		href := attribute(n, "href")
		if href == "" {
			return n
		}
		_, id, _ := strings.Cut(href, "#")
		next := r.byID[id]
		if next == nil || next == n {
			r.note("line %d: %s leads to nowhere", n.Line, href)
			return n
		}
		n = next
	}
	return n
}

// grammars reads the schemas that are included, and those that are inside (2.4).
func (r *reader) grammars(fetch Fetch) error {
	l := &xsd.Loader{Fetch: fetch}
	found := false
	for _, grammars := range children(r.root, "grammars") {
		for i, child := range grammars.Children() {
			switch {
			case child.Name().Local == "include":
				href := attribute(child, "href")
				if fetch == nil {
					r.note("the grammar %s cannot be read here", href)
					continue
				}
				resolved, data, err := fetch(r.location, href)
				if err != nil {
					r.note("the grammar %s: %v", href, err)
					continue
				}
				if document.Guess(data) != document.XML {
					r.note("the grammar %s is not XML Schema", href)
					continue
				}
				if err := l.AddText(resolved, data); err != nil {
					return err
				}
				found = true
			case child.Name().Local == "schema" && child.Name().Space == xsd.Namespace:
				if err := l.Add(fmt.Sprintf("%s#grammar%d", r.location, i), child,
					prefixes(r.root, grammars)); err != nil {
					return err
				}
				found = true
			}
		}
	}
	if !found {
		return nil
	}
	var err error
	r.schema, err = l.Schema()
	return err
}

// prefixes are those that elements around declare.
func prefixes(around ...*document.Node) map[string]string {
	out := map[string]string{}
	for _, n := range around {
		for _, a := range n.Attributes() {
			if a.IsDeclaration() && a.Name.Prefix == "xmlns" {
				out[a.Name.Local] = a.Value
			}
		}
	}
	return out
}

// resource reads a resource, and those within it. What a resource type has, it has
// too (2.6.1).
func (r *reader) resource(n *document.Node, path string, inherited []contract.Parameter, depth int) {
	if depth > 100 {
		r.note("the resources are nested deeper than 100")
		return
	}
	if !r.unfold(1 + len(inherited)) {
		return
	}
	own := strings.Trim(attribute(n, "path"), "/")
	if own != "" {
		path += "/" + own
	}
	sources := []*document.Node{n}
	for _, name := range strings.Fields(attribute(n, "type")) {
		_, id, _ := strings.Cut(name, "#")
		if t := r.byID[id]; t != nil {
			sources = append(sources, t)
		} else {
			r.note("line %d: the resource type %s is not there", n.Line, name)
		}
	}
	parameters := slices.Clone(inherited)
	for _, source := range sources {
		parameters = r.own(source, parameters)
		for _, p := range children(source, "param") {
			if name := attribute(r.follow(p), "name"); attribute(r.follow(p), "style") == "matrix" {
				path += "{" + name + "}" // after the part of this resource
			}
		}
	}
	for _, source := range sources {
		for _, method := range children(source, "method") {
			r.method(r.follow(method), path, parameters)
		}
	}
	for _, source := range sources {
		for _, inner := range children(source, "resource") {
			r.resource(inner, path, parameters, depth+1)
		}
	}
}

// own adds the parameters of an element to those that it inherits.
func (r *reader) own(n *document.Node, inherited []contract.Parameter) []contract.Parameter {
	out := slices.Clone(inherited)
	for _, p := range children(n, "param") {
		if !r.unfold(1) {
			break
		}
		if read, ok := r.param(r.follow(p)); ok {
			out = slices.DeleteFunc(out, func(other contract.Parameter) bool {
				return other.In == read.In && other.Name == read.Name
			})
			out = append(out, read)
		}
	}
	return out
}

// places are those of the styles of parameters (2.12.2).
var places = map[string]contract.In{
	"query": contract.InQuery, "header": contract.InHeader, "template": contract.InPath,
	"matrix": contract.InPath,
}

func (r *reader) param(n *document.Node) (contract.Parameter, bool) {
	style := attribute(n, "style")
	in, ok := places[style]
	if style == "" {
		in, ok = contract.InQuery, true
	}
	name := attribute(n, "name")
	if !ok {
		r.note("line %d: the parameter %s has the style %s, which is not written", n.Line, name, style)
		return contract.Parameter{}, false
	}
	p := contract.Parameter{
		In: in, Wire: name, Name: name, Required: attribute(n, "required") == "true" || style == "template",
		Fixed: fixed(n), About: about(n),
	}
	p.Schema = r.valueType(n)
	if style == "matrix" {
		p.Style = style
		if _, kind, _ := strings.Cut(attribute(n, "type"), ":"); kind == "boolean" {
			p.Style = contract.MatrixFlag
		}
	}
	if fallback := attribute(n, "default"); fallback != "" {
		p.About = strings.TrimSpace(p.About + " Without it, " + fallback + " is meant.")
		if in == contract.InPath {
			p.Default = document.NewUntyped(fallback)
		}
	}
	for _, option := range children(n, "option") {
		p.OneOf = append(p.OneOf, attribute(option, "value"))
	}
	if attribute(n, "repeating") == "true" {
		p.Schema = repeating{p.Schema, p.OneOf}
	} else if len(p.OneOf) > 0 {
		p.Schema = nil // the list says more
	}
	return p, true
}

// valueType is the simple type of a parameter: one of XML Schema, or of the grammars.
func (r *reader) valueType(n *document.Node) schema.Type {
	name := attribute(n, "type")
	if name == "" {
		return nil
	}
	prefix, local, has := strings.Cut(name, ":")
	if !has {
		prefix, local = "", name
	}
	space := r.space(prefix)
	if space == xsd.Namespace || space == "" {
		if t := xsd.BuiltinType(local); t != nil {
			return instance.ValueType{Simple: t}
		}
	}
	if r.schema != nil {
		if t, ok := r.schema.Type(xsd.Name{Space: space, Local: local}).(*xsd.SimpleType); ok && t != nil {
			return instance.ValueType{Simple: t}
		}
	}
	r.note("line %d: the type %s is not known", n.Line, name)
	return nil
}

func (r *reader) space(prefix string) string { return prefixes(r.root)[prefix] }

// method reads a method of a resource.
func (r *reader) method(n *document.Node, path string, inherited []contract.Parameter) {
	if !r.unfold(1 + len(inherited)) {
		return
	}
	op := &contract.Endpoint{Method: attribute(n, "name"), Path: path, About: about(n)}
	if op.Method == "" {
		r.note("line %d: a method has no name", n.Line)
		return
	}
	op.Reads = op.Method == http.MethodGet || op.Method == http.MethodHead || op.Method == http.MethodOptions
	if path == "" {
		op.Path = "/"
	}
	op.Name = attribute(n, "id")
	if op.Name == "" {
		plain := path
		for _, p := range inherited {
			if p.Style != "" {
				plain = strings.ReplaceAll(plain, "{"+p.Name+"}", "")
			}
		}
		op.Name = strings.ToLower(op.Method) + "_" +
			strings.Trim(strings.NewReplacer("/", "_", "{", "", "}", "", ".", "_").Replace(plain), "_")
	}
	for name := op.Name; r.next[op.Name] > 0; {
		r.next[name]++
		op.Name = fmt.Sprintf("%s_%d", name, r.next[name])
	}
	r.next[op.Name] = 1
	op.Parameters = slices.Clone(inherited)
	if request := n.Child("request"); request != nil {
		op.Parameters = r.own(request, op.Parameters)
		for _, representation := range children(request, "representation") {
			representation = r.follow(representation)
			if fields := r.form(representation); len(fields) > 0 {
				op.Parameters = append(op.Parameters, fields...)
				continue
			}
			if op.Body == nil {
				op.Body = &contract.Body{Required: true, About: about(representation)}
			}
			op.Body.Contents = append(op.Body.Contents, r.content(representation))
		}
	}
	for _, name := range contract.PathNames(path) {
		if !slices.ContainsFunc(op.Parameters, func(p contract.Parameter) bool {
			return p.In == contract.InPath && p.Wire == name
		}) {
			op.Parameters = append(op.Parameters,
				contract.Parameter{In: contract.InPath, Wire: name, Name: name, Required: true})
		}
	}
	op.Parameters = slices.DeleteFunc(op.Parameters, func(p contract.Parameter) bool {
		return p.In == contract.InPath && !slices.Contains(contract.PathNames(path), p.Wire)
	})
	slices.SortStableFunc(op.Parameters, func(a, b contract.Parameter) int {
		return slices.Index(contract.Places, a.In) - slices.Index(contract.Places, b.In)
	})
	for _, response := range children(n, "response") {
		r.response(op, response)
	}
	for _, fault := range children(n, "fault") { // of the older form
		op.Answers = append(op.Answers,
			contract.Answer{Status: attribute(fault, "status"), Contents: []contract.Content{r.content(fault)}})
	}
	r.c.operations = append(r.c.operations, op)
}

// form are the fields of a representation that is a form (2.11.2).
func (r *reader) form(n *document.Node) []contract.Parameter {
	if document.FormatOf(attribute(n, "mediaType"), nil) != document.Form {
		return nil
	}
	var fields []contract.Parameter
	for _, p := range children(n, "param") {
		if read, ok := r.param(r.follow(p)); ok {
			read.In = contract.InForm
			fields = append(fields, read)
		}
	}
	return fields
}

// response reads what comes back; without a status it is any of success (2.9).
func (r *reader) response(op *contract.Endpoint, n *document.Node) {
	answer := contract.Answer{About: about(n)}
	for _, p := range children(n, "param") {
		if read, ok := r.param(r.follow(p)); ok && read.In == contract.InHeader {
			answer.Headers = append(answer.Headers, read)
		}
	}
	for _, representation := range children(n, "representation") {
		answer.Contents = append(answer.Contents, r.content(r.follow(representation)))
	}
	statuses := strings.Fields(attribute(n, "status"))
	if len(statuses) == 0 {
		statuses = []string{"2XX"}
	}
	for _, status := range statuses {
		answer.Status = status
		op.Answers = append(op.Answers, answer)
	}
}

func (r *reader) content(n *document.Node) contract.Content {
	c := contract.Content{Type: attribute(n, "mediaType")}
	name := attribute(n, "element")
	if name == "" || r.schema == nil {
		return c
	}
	prefix, local, has := strings.Cut(name, ":")
	if !has {
		prefix, local = "", name
	}
	declared := r.schema.Element(r.space(prefix), local)
	if declared == nil {
		r.note("line %d: the element %s is not in the grammars", n.Line, name)
		return c
	}
	c.Schema = instance.ElementType{Schema: r.schema, Declared: declared}
	return c
}

// repeating is a parameter that repeatable.
type repeating struct {
	item  schema.Type
	oneOf []string
}

// Words says what may be repeated.
func (t repeating) Words() string {
	words := "a list"
	if len(t.oneOf) > 0 {
		words += " of " + strings.Join(t.oneOf, ", ")
	} else if t.item != nil {
		words += " of " + t.item.Words()
	}
	return words
}

// Outline has no fields.
func (t repeating) Outline(int) []schema.Row { return nil }

// Fill holds each item against its type.
func (t repeating) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	items := []*document.Node{v}
	if v.Kind == document.List {
		items = v.Items()
	}
	var short []schema.FillError
	for _, item := range items {
		if len(t.oneOf) > 0 && item != schema.Unknown && !slices.Contains(t.oneOf, item.Text) {
			short = append(short, schema.FillError{Message: "must be one of " + strings.Join(t.oneOf, ", ") +
				", and is " + item.Describe()})
		} else if t.item != nil && len(t.oneOf) == 0 {
			_, found := t.item.Fill(item)
			short = append(short, found...)
		}
	}
	return v, short
}

// Check says nothing: what is repeated is in requests.
func (t repeating) Check(*document.Node) []schema.Fault { return nil }

// Sample gives one item.
func (t repeating) Sample(o schema.SampleOptions) *schema.Sample {
	switch {
	case len(t.oneOf) > 0:
		return &schema.Sample{Root: document.NewUntyped(t.oneOf[0])}
	case t.item != nil:
		return t.item.Sample(o)
	}
	return &schema.Sample{Root: document.NewText("text")}
}

// fixed is what a parameter always is; nil where it does not say.
func fixed(n *document.Node) *document.Node {
	if text := attribute(n, "fixed"); text != "" {
		return document.NewUntyped(text)
	}
	return nil
}
