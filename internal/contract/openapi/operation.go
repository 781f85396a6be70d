package openapi

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/jsonschema"
)

// reader makes the model of one operation.
type reader struct {
	c  *Contract
	op *contract.Endpoint
}

func (r *reader) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(r.op.Notes, text) {
		r.op.Notes = append(r.op.Notes, text)
	}
}

func (c *Contract) operation(f *found) *contract.Endpoint {
	n := f.at.Node
	op := &contract.Endpoint{
		Name: f.name, Method: f.method, Path: f.path, Deprecated: isTrue(n.Get("deprecated")),
		Reads: f.method == http.MethodGet || f.method == http.MethodHead || f.method == http.MethodOptions,
	}
	op.About = oneLine(text(n, "summary"))
	if about := oneLine(text(n, "description")); about != "" && about != op.About {
		op.About = strings.TrimSpace(op.About + "\n" + about)
	}
	r := &reader{c, op}
	r.parameters(f)
	r.server(f)
	if body := f.at.Below("requestBody"); body.Node != nil {
		r.body(c.follow(body))
	}
	if answers := f.at.Below("responses"); answers.Node != nil {
		for _, m := range answers.Node.Members() {
			if strings.HasPrefix(m.Key, "x-") {
				continue
			}
			if at := c.follow(answers.Below(m.Key)); at.Node != nil {
				op.Answers = append(op.Answers, r.answer(m.Key, at, f))
			}
		}
	}
	r.callbacks(f.at.Below("callbacks"))
	op.Security = c.security(n)
	op.Notes = append(op.Notes, newNotes(c, op)...)
	return op
}

// newNotes takes over what was noted of references while the operation was read.
func newNotes(c *Contract, op *contract.Endpoint) []string {
	var out []string
	for _, note := range c.head.Notes {
		if strings.Contains(note, "$ref") && !slices.Contains(op.Notes, note) {
			out = append(out, note)
		}
	}
	return out
}

func isTrue(n *document.Node) bool {
	return n != nil && n.Kind == document.Boolean && n.Text == "true"
}

// parameters gathers those of the operation and of its path; its own come before
// those of the path (3.1.0, 4.8.10.1).
func (r *reader) parameters(f *found) {
	seen := map[string]bool{}
	var form []jsonschema.Location
	for _, list := range []jsonschema.Location{f.at.Below("parameters"), f.item.Below("parameters")} {
		if list.Node == nil {
			continue
		}
		own := map[string]bool{}
		for i := range list.Node.Items() {
			at := r.c.follow(list.Below(fmt.Sprint(i)))
			if at.Node == nil {
				continue
			}
			name, in := text(at.Node, "name"), text(at.Node, "in")
			key := in + " " + name
			switch {
			case own[key]:
				r.note("the parameter %s is there twice in the %s", name, in)
				continue
			case seen[key]:
				continue
			}
			own[key], seen[key] = true, true
			switch in {
			case "body":
				r.bodyOf20(at, f)
			case "formData":
				form = append(form, at)
			case "path", "query", "header", "cookie":
				r.parameter(at, contract.In(in), name)
			default:
				r.note("the parameter %s is in %q, which is not a place for one", name, in)
			}
		}
	}
	if len(form) > 0 {
		r.formOf20(form, f)
	}
	inPath := contract.PathNames(r.op.Path)
	for _, p := range r.op.Parameters {
		if p.In == contract.InPath && !slices.Contains(inPath, p.Wire) {
			r.note("the path %s has no place for its parameter %s", r.op.Path, p.Wire)
		}
	}
	r.op.Parameters = slices.DeleteFunc(r.op.Parameters, func(p contract.Parameter) bool {
		return p.In == contract.InPath && !slices.Contains(inPath, p.Wire)
	})
	for _, name := range inPath {
		if !slices.ContainsFunc(r.op.Parameters, func(p contract.Parameter) bool {
			return p.In == contract.InPath && p.Wire == name
		}) {
			r.note("the path's parameter %s is not described", name)
			r.op.Parameters = append(r.op.Parameters,
				contract.Parameter{In: contract.InPath, Wire: name, Name: name, Required: true})
		}
	}
	slices.SortStableFunc(r.op.Parameters, func(a, b contract.Parameter) int {
		return slices.Index(contract.Places, a.In) - slices.Index(contract.Places, b.In)
	})
}

func (r *reader) parameter(at jsonschema.Location, in contract.In, name string) {
	// What HTTP itself has to say of the exchange is not a parameter (3.1.0, 4.8.12.1).
	if in == contract.InHeader && slices.Contains([]string{"accept", "content-type", "authorization"},
		strings.ToLower(name)) {
		return
	}
	p := r.described(at, r.c.requests)
	p.In, p.Wire, p.Name = in, name, name
	p.Required = p.Required || in == contract.InPath
	if in == contract.InPath && !isTrue(at.Node.Get("required")) {
		r.note("the path's parameter %s is not said to be required, and has to be", name)
	}
	r.op.Parameters = append(r.op.Parameters, p)
}

// described reads what parameters and headers have in common.
func (r *reader) described(at jsonschema.Location, set *jsonschema.Set) contract.Parameter {
	n := at.Node
	p := contract.Parameter{
		Required: isTrue(n.Get("required")), About: oneLine(text(n, "description")), Style: text(n, "style"),
		Reserved: isTrue(n.Get("allowReserved")), Deprecated: isTrue(n.Get("deprecated")),
	}
	in := text(n, "in")
	exploded := p.Style == "form" || p.Style == "" && (in == "query" || in == "cookie")
	if explode := n.Get("explode"); explode != nil {
		exploded = isTrue(explode)
	}
	p.Joined = !exploded
	if r.c.dialect == jsonschema.OpenAPI20 {
		p.Style, p.Joined = "", true
		switch text(n, "collectionFormat") {
		case "multi":
			p.Joined = false
		case "ssv":
			p.Style = "spaceDelimited"
		case "pipes":
			p.Style = "pipeDelimited"
		case "tsv":
			p.Style = "tabDelimited"
		}
		p.Schema = r.schema(at, set)
		return p
	}
	if inner := at.Below("schema"); inner.Node != nil {
		p.Schema = r.schema(inner, set)
		return p
	}
	if content := at.Below("content"); content.Node != nil && len(content.Node.Members()) > 0 {
		p.Content = content.Node.Members()[0].Key
		if inner := content.Below(p.Content).Below("schema"); inner.Node != nil {
			p.Schema = r.schema(inner, set)
		}
	}
	return p
}

// schema compiles a schema; one that cannot be used is noted, and says nothing.
func (r *reader) schema(at jsonschema.Location, set *jsonschema.Set) schemaType {
	s, err := set.Open(at)
	if err != nil {
		r.note("%v", err)
		return nil
	}
	return s
}

func (r *reader) body(at jsonschema.Location) {
	if at.Node == nil {
		return
	}
	b := &contract.Body{Required: isTrue(at.Node.Get("required")), About: oneLine(text(at.Node, "description"))}
	b.Contents = r.contents(at.Below("content"), r.c.requests)
	r.op.Body = b
}

// bodyOf20 reads the one body parameter of 2.0.
func (r *reader) bodyOf20(at jsonschema.Location, f *found) {
	b := &contract.Body{Required: isTrue(at.Node.Get("required")), About: oneLine(text(at.Node, "description"))}
	for _, mediaType := range r.mediaTypes(f, "consumes", "application/json") {
		b.Contents = append(b.Contents, r.content(mediaType, at, r.c.requests))
	}
	r.op.Body = b
}

// mediaTypes are those that an operation of 2.0 takes or gives.
func (r *reader) mediaTypes(f *found, key, otherwise string) []string {
	list := f.at.Node.Get(key)
	if list == nil {
		list = r.c.root.Node.Get(key)
	}
	var types []string
	if list != nil {
		for _, item := range list.Items() {
			types = append(types, item.Text)
		}
	}
	if len(types) == 0 {
		types = []string{otherwise}
	}
	return types
}

// formOf20 makes a body of the form parameters of 2.0, as 3.0 would have it.
func (r *reader) formOf20(places []jsonschema.Location, f *found) {
	properties, names := document.NewObject(), document.NewList()
	forms := map[string]contract.PartForm{}
	files := false
	for _, at := range places {
		name := text(at.Node, "name")
		own := document.NewObject()
		for _, m := range at.Node.Members() {
			if m.Key != "in" && m.Key != "name" && m.Key != "required" {
				own.Set(m.Key, m.Value)
			}
		}
		if text(at.Node, "type") == "file" {
			files = true
			own.Set("type", document.NewText("string")).Set("format", document.NewText("binary"))
		}
		properties.Set(name, own)
		if isTrue(at.Node.Get("required")) {
			names.AppendItems(document.NewText(name))
		}
		p := r.described(at, r.c.requests)
		forms[name] = contract.PartForm{Style: p.Style, Joined: p.Joined}
	}
	node := document.NewObject().Set("type", document.NewText("object")).Set("properties", properties)
	if len(names.Items()) > 0 {
		node.Set("required", names)
	}
	at := jsonschema.Location{Location: places[0].Location, Pointer: f.at.Pointer + "/form", Node: node}
	mediaType := r.mediaTypes(f, "consumes", "application/x-www-form-urlencoded")[0]
	if files {
		mediaType = "multipart/form-data"
	}
	b := &contract.Body{Required: len(names.Items()) > 0, Contents: []contract.Content{{Type: mediaType, Parts: forms}}}
	if s := r.schema(at, r.c.requests); s != nil {
		b.Contents[0].Schema = s
	}
	r.op.Body = b
}

func (r *reader) contents(at jsonschema.Location, set *jsonschema.Set) []contract.Content {
	if at.Node == nil {
		return nil
	}
	var out []contract.Content
	for _, m := range at.Node.Members() {
		out = append(out, r.content(m.Key, at.Below(m.Key), set))
	}
	return out
}

// content reads a body of one media type; at holds its schema.
func (r *reader) content(mediaType string, at jsonschema.Location, set *jsonschema.Set) contract.Content {
	c := contract.Content{Type: mediaType, Parts: map[string]contract.PartForm{}}
	at = r.c.follow(at)
	if inner := at.Below("schema"); inner.Node != nil {
		s := r.schema(inner, set)
		if s != nil {
			c.Schema = s
		}
		if document.FormatOf(mediaType, nil) == document.XML {
			if compiled, ok := s.(*jsonschema.Schema); ok {
				c.Write = func(v *document.Node) *document.Node { return element(compiled, compiled.Name(), v) }
				c.Schema = asXML{compiled, set == r.c.answers}
			}
		}
	}
	if encoding := at.Below("encoding"); encoding.Node != nil {
		for _, m := range encoding.Node.Members() {
			form := contract.PartForm{Type: text(m.Value, "contentType"), Style: text(m.Value, "style")}
			if explode := m.Value.Get("explode"); explode != nil {
				form.Joined = !isTrue(explode)
			} else {
				form.Joined = form.Style != "" && form.Style != "form"
			}
			if strings.HasPrefix(mediaType, "multipart/") {
				form.Headers = r.partHeaders(encoding.Below(m.Key).Below("headers"))
			}
			c.Parts[m.Key] = form
		}
	}
	c.Example = at.Node.Get("example")
	if examples := at.Below("examples"); examples.Node != nil && c.Example == nil && len(examples.Node.Members()) > 0 {
		if first := r.c.follow(examples.Below(examples.Node.Members()[0].Key)); first.Node != nil {
			c.Example = first.Node.Get("value")
		}
	}
	return c
}

// partHeaders reads the header fields of a part; its Content-Type is said elsewhere (3.1.0, 4.8.15.1).
func (r *reader) partHeaders(at jsonschema.Location) []contract.PartHeader {
	if at.Node == nil {
		return nil
	}
	var out []contract.PartHeader
	for _, m := range at.Node.Members() {
		h := r.c.follow(at.Below(m.Key))
		if h.Node == nil || strings.EqualFold(m.Key, "content-type") {
			continue
		}
		described := r.c.follow(h.Below("schema")).Node
		one := contract.PartHeader{Name: m.Key, Required: isTrue(h.Node.Get("required"))}
		if enum := described.Get("enum"); enum != nil && len(enum.Items()) == 1 {
			one.Value = enum.Items()[0]
		}
		for _, given := range []*document.Node{described.Get("const"), described.Get("default"),
			h.Node.Get("example")} {
			if one.Value == nil {
				one.Value = given
			}
		}
		out = append(out, one)
	}
	return out
}

func (r *reader) answer(status string, at jsonschema.Location, f *found) contract.Answer {
	a := contract.Answer{Status: status, About: oneLine(text(at.Node, "description"))}
	if headers := at.Below("headers"); headers.Node != nil {
		for _, m := range headers.Node.Members() {
			if h := r.c.follow(headers.Below(m.Key)); h.Node != nil {
				p := r.described(h, r.c.answers)
				p.In, p.Wire, p.Name = contract.InHeader, m.Key, m.Key
				a.Headers = append(a.Headers, p)
			}
		}
	}
	if r.c.dialect == jsonschema.OpenAPI20 {
		if at.Node.Get("schema") != nil {
			for _, mediaType := range r.mediaTypes(f, "produces", "application/json") {
				a.Contents = append(a.Contents, r.content(mediaType, at, r.c.answers))
			}
		}
		return a
	}
	a.Contents = r.contents(at.Below("content"), r.c.answers)
	return a
}

// callbacks lists the requests that the service sends of its own (3.1.0, 4.8.18).
func (r *reader) callbacks(at jsonschema.Location) {
	if at.Node == nil {
		return
	}
	for _, m := range at.Node.Members() {
		one := r.c.follow(at.Below(m.Key))
		if one.Node == nil {
			continue
		}
		for _, expression := range one.Node.Members() {
			item := r.c.follow(one.Below(expression.Key))
			if item.Node == nil {
				continue
			}
			r.op.Callbacks = append(r.op.Callbacks, requestsOf(item, m.Key, expression.Key)...)
		}
	}
}

// requestsOf lists the requests of a path item that the service sends of its own.
func requestsOf(item jsonschema.Location, name, address string) []contract.Callback {
	var out []contract.Callback
	for _, method := range item.Node.Members() {
		if !slices.Contains(methods, method.Key) {
			continue
		}
		about := text(method.Value, "summary")
		if about == "" {
			about = text(method.Value, "description")
		}
		out = append(out, contract.Callback{
			Name: name, Method: strings.ToUpper(method.Key), Address: address, About: oneLine(about),
		})
	}
	return out
}

// server takes a server of the operation's own into account: what it has beyond
// that of the description belongs to the path.
func (r *reader) server(f *found) {
	for _, n := range []*document.Node{f.at.Node, f.item.Node} {
		own := r.c.servers(n)
		if n.Get("servers") == nil || len(own) == 0 || r.c.dialect == jsonschema.OpenAPI20 {
			continue
		}
		for _, general := range r.c.head.Servers {
			if rest, ok := strings.CutPrefix(own[0].Address, general.Address); ok && (rest == "" || rest[0] == '/') {
				r.op.Path = rest + r.op.Path
				return
			}
		}
		r.note("it is offered at an address of its own, %s", own[0].Address)
		return
	}
}

// security puts what an operation asks for into words; each alternative is one.
func (c *Contract) security(n *document.Node) []string {
	list := n.Get("security")
	if list == nil {
		list = c.root.Node.Get("security")
	}
	if list == nil {
		return nil
	}
	var out []string
	for _, alternative := range list.Items() {
		var all []string
		for _, m := range alternative.Members() {
			word := m.Key
			var scopes []string
			for _, s := range m.Value.Items() {
				scopes = append(scopes, s.Text)
			}
			if len(scopes) > 0 {
				word += " (" + strings.Join(scopes, " ") + ")"
			}
			all = append(all, word)
		}
		if len(all) == 0 {
			all = []string{"none"}
		}
		out = append(out, strings.Join(all, " and "))
	}
	return out
}
