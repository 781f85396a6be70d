package odata

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
)

// mostOperations bounds how many sets times navigation there are.
const mostOperations = 300_000

// plan lists the operations; each is made when it is asked for.
func (c *Contract) plan() error {
	m := c.model
	m.inSets = map[string]bool{}
	for _, s := range m.sets {
		m.inSets[m.resolve(s.typeName)] = !s.singleton || m.inSets[m.resolve(s.typeName)]
	}
	for _, s := range m.sets {
		t := m.find(s.typeName)
		if t == nil {
			c.head.Notes = append(c.head.Notes,
				"the set "+s.name+" is of the type "+s.typeName+", which is not in the metadata")
			continue
		}
		if c.planSet(s, t); len(c.names) > mostOperations {
			return fmt.Errorf("%s: its entity sets and their navigation properties give more than %d operations",
				c.head.Location, mostOperations)
		}
	}
	for _, f := range m.imports {
		name := overloadName(f.name, f, f.parameters, m.imports)
		c.add(name, func() *contract.Endpoint {
			o := m.unbound(f)
			o.Name = name
			return o
		})
	}
	return nil
}

func (c *Contract) add(name string, make func() *contract.Endpoint) {
	if c.plans[name] == nil {
		c.names = append(c.names, name)
	}
	c.plans[name] = make
}

// planSet adds what can be done with a set, unless its annotations say otherwise.
func (c *Contract) planSet(s *set, t *typeDef) {
	m := c.model
	add := func(verb string, make func(o *contract.Endpoint)) {
		name := s.name + "." + verb
		c.add(name, func() *contract.Endpoint {
			o := &contract.Endpoint{Name: name, About: s.about}
			make(o)
			return o
		})
	}
	if s.singleton {
		at := &at{m: m, s: s, t: t, path: "/" + s.name}
		add("read", at.read)
		if !s.marks.noUpdate {
			add("change", at.change)
		}
		c.planBound(s, t, at, true)
		c.planNavigation(s, t, at)
		return
	}
	whole := &at{m: m, s: s, t: t, path: "/" + s.name}
	_, key := m.all(t)
	one := &at{m: m, s: s, t: t, path: whole.path + m.predicate(t, key), keys: m.keys(t, key)}
	add("list", whole.list)
	add("read", one.read)
	if !s.marks.noInsert {
		add("create", whole.create)
	}
	if !s.marks.noUpdate {
		add("change", one.change)
		add("replace", one.replace)
	}
	if !s.marks.noDelete {
		add("remove", one.remove)
	}
	if !s.marks.noCount {
		add("count", whole.count)
	}
	c.planStreams(s, t, one)
	c.planNavigation(s, t, one)
	c.planBound(s, t, one, true)
	c.planBound(s, t, whole, false)
}

// planStreams adds what is done with the content of a media entity, and with the properties
// that are streams.
func (c *Contract) planStreams(s *set, t *typeDef, one *at) {
	add := func(name, below, about string) {
		stream := *one
		stream.path += "/" + below
		for _, each := range []struct {
			verb string
			make func(o *contract.Endpoint)
		}{{"read", stream.content}, {"replace", stream.keep}, {"remove", stream.remove}} {
			full := s.name + "." + name + "." + each.verb
			c.add(full, func() *contract.Endpoint {
				o := &contract.Endpoint{Name: full, About: about}
				each.make(o)
				return o
			})
		}
	}
	if t.stream {
		add("content", "$value", "its content")
	}
	properties, _ := c.model.all(t)
	for _, p := range properties {
		if p.typeName == "Edm.Stream" {
			add(p.name, p.name, p.about)
		}
	}
}

// planNavigation adds what a navigation property leads to.
func (c *Contract) planNavigation(s *set, t *typeDef, one *at) {
	m := c.model
	properties, _ := m.all(t)
	for _, p := range properties {
		target := m.find(p.typeName)
		if !p.navigation || target == nil {
			continue
		}
		name := s.name + "." + p.name
		// What cannot be reached in another way is read and changed from here.
		inner := p.contained || !m.hasSet(target)
		next := &at{m: m, s: &set{name: p.name}, t: target, path: one.path + "/" + p.name, keys: one.keys}
		add := func(verb string, make func(o *contract.Endpoint)) {
			full := name + "." + verb
			c.add(full, func() *contract.Endpoint {
				o := &contract.Endpoint{Name: full, About: p.about}
				make(o)
				return o
			})
		}
		if !p.collection {
			add("read", next.read)
			if inner {
				add("change", next.change)
			}
			continue
		}
		add("list", next.list)
		_, key := m.all(target)
		single := *next
		inner = inner && len(key) > 0
		if inner {
			single.path, single.keys = m.below(next, p, key)
			add("read", single.read)
		}
		add("create", next.create)
		if inner {
			add("change", single.change)
			add("replace", single.replace)
			add("remove", single.remove)
		}
		add("count", next.count)
	}
}

// planBound adds the actions and functions that are bound to an entity, or to a
// collection of them.
func (c *Contract) planBound(s *set, t *typeDef, where *at, single bool) {
	var here []*function
	for _, f := range c.model.functions {
		if f.bound && len(f.parameters) > 0 && f.parameters[0].collection != single &&
			c.model.isDerived(t, c.model.resolve(f.parameters[0].typeName)) {
			here = append(here, f)
		}
	}
	for _, f := range here {
		name := overloadName(s.name+"."+local(f.name), f, f.parameters[1:], here)
		c.add(name, func() *contract.Endpoint {
			o := &contract.Endpoint{Name: name, About: f.about}
			where.invoke(o, f, f.parameters[1:], where.path+"/"+f.name)
			return o
		})
	}
}

// overloadName tells one of several functions that share a name by its parameters: Free(on,word)
// (CSDL XML 4.01, 12.4).
func overloadName(name string, f *function, parameters []*property, among []*function) string {
	if !slices.ContainsFunc(among, func(other *function) bool { return other != f && other.name == f.name }) {
		return name
	}
	var names []string
	for _, p := range parameters {
		names = append(names, p.name)
	}
	return name + "(" + strings.Join(names, ",") + ")"
}

// at is a place below the service: a set, or an entity of it.
type at struct {
	m    *model
	s    *set
	t    *typeDef
	path string
	keys []contract.Parameter
	// single is what a function gives back that is not an entity; nil for others.
	single *property
}

// predicate is the key as it is in a path: ({Number}), or (A={A},B={B}).
func (m *model) predicate(t *typeDef, key []string) string {
	if len(key) == 1 {
		return "({" + key[0] + "})"
	}
	var parts []string
	for _, k := range key {
		parts = append(parts, k+"={"+k+"}")
	}
	return "(" + strings.Join(parts, ",") + ")"
}

// below is the way to one of those that navigation leads to. A key that is called
// as one above it is told apart by the name of the navigation: lines and number
// make lines-number.
func (m *model) below(from *at, p *property, key []string) (string, []contract.Parameter) {
	keys := slices.Clone(from.keys)
	path := from.path + "("
	for i, k := range m.keys(from.t, key) {
		if slices.ContainsFunc(from.keys, func(above contract.Parameter) bool { return above.Name == k.Name }) {
			k.Name, k.Wire = p.name+"-"+k.Name, p.name+"-"+k.Wire
		}
		if i > 0 {
			path += ","
		}
		if len(key) > 1 {
			path += key[i] + "="
		}
		path += "{" + k.Wire + "}"
		keys = append(keys, k)
	}
	return path + ")", keys
}

func (m *model) keys(t *typeDef, key []string) []contract.Parameter {
	var out []contract.Parameter
	for _, name := range key {
		p := m.property(t, name)
		if p == nil {
			p = &property{name: name, typeName: "Edm.String", facets: noFacets}
		}
		out = append(out, m.pathParameter(p))
	}
	return out
}

// pathParameter writes a value of a property as a literal into a path.
func (m *model) pathParameter(p *property) contract.Parameter {
	required := *p
	required.nullable = false
	required.marks = marks{}
	return contract.Parameter{
		In: contract.InPath, Wire: p.name, Name: p.name, Required: true, About: p.about,
		Schema: &object{m: m, single: &required},
		Write:  func(v *document.Node) string { return m.literal(p.typeName, v.Text) },
	}
}

const jsonType = "application/json"

// answers are those of an operation that gives something back; what else comes
// back is an error of its form.
func (a *at) answers(result *object) []contract.Answer {
	content := contract.Content{Type: jsonType}
	if result != nil {
		result.m = a.m
		content.Schema = result
	}
	return []contract.Answer{
		{Status: "2XX", Contents: []contract.Content{content}},
		{Status: "default", About: "an error, with its code, message, target and details"},
	}
}

// done are the answers of an operation that may give nothing back.
func (a *at) done(result *object) []contract.Answer {
	return append([]contract.Answer{{Status: "204", About: "done"}}, a.answers(result)...)
}

// finish adds what all operations have in common.
func (a *at) finish(o *contract.Endpoint, see bool) {
	o.Parameters = append(o.Parameters, a.m.common()...)
	if slices.ContainsFunc(o.Parameters, func(p contract.Parameter) bool { return strings.HasPrefix(p.Wire, "$") }) &&
		o.Reads {
		q := queryChecker{m: a.m, t: a.t, marks: a.s.marks}
		o.TakesAliases = !a.m.isV2()
		o.Together = func(given map[string]*document.Node) map[string][]string {
			wrong := q.together(given)
			if o.TakesAliases {
				maps.Copy(wrong, aliased(given))
			}
			return wrong
		}
	}
	if a.m.isV2() && see {
		o.DecodeAnswer = func(body *document.Node) *document.Node { return a.m.see(body, a.t, a.single) }
		o.EncodeAnswer = func(body *document.Node) *document.Node { return a.m.unsee(body, a.t) }
	}
}

func (m *model) common() []contract.Parameter {
	if m.isV2() {
		return []contract.Parameter{{
			In: contract.InHeader, Wire: "MaxDataServiceVersion",
			Name: "MaxDataServiceVersion", Fixed: document.NewUntyped("2.0"),
		}}
	}
	return []contract.Parameter{
		{In: contract.InHeader, Wire: "OData-MaxVersion", Name: "OData-MaxVersion", Fixed: document.NewUntyped("4.0")},
		{
			In: contract.InHeader, Wire: "Prefer", Name: "prefer", Schema: &option{words: "a preference"},
			About: "respond-async, return=minimal, …",
		},
	}
}

func (a *at) query(name string, t schema.Type, about string) contract.Parameter {
	wire := "$" + name
	return contract.Parameter{In: contract.InQuery, Wire: wire, Name: name, Schema: t, Joined: true, About: about}
}

// narrowing are the parameters that say what of an entity comes back.
func (a *at) narrowing() []contract.Parameter {
	out := []contract.Parameter{a.query("select", &option{words: "properties, with commas"},
		"only these properties")}
	if !a.s.marks.noExpand {
		out = append(out, a.query("expand", &option{words: "what navigation leads to, with commas"},
			"what is related, in the same answer"))
	}
	if !a.m.isV2() {
		out = append(out, a.query("compute", &option{words: "an expression as a name: total mul 2 as double"},
			"values that the service calculates"))
	}
	return out
}

// filters are the parameters that say which entities are meant.
func (a *at) filters() []contract.Parameter {
	q := &queryChecker{m: a.m, t: a.t, marks: a.s.marks}
	var out []contract.Parameter
	if !a.s.marks.unfilterable {
		about := "which of them"
		if len(a.s.marks.filterNeeded) > 0 {
			about += "; it must name " + strings.Join(a.s.marks.filterNeeded, ", ")
		}
		p := a.query("filter", &option{words: "a condition: Name eq 'x' and Total gt 5"}, about)
		p.Write = func(v *document.Node) string { return q.written(v.Text) }
		p.Required = len(a.s.marks.filterNeeded) > 0
		out = append(out, p)
	}
	if !a.s.marks.noSearch && !a.m.isV2() {
		out = append(out, a.query("search", &option{words: "words"}, "what they mention"))
	}
	return out
}

func (a *at) list(o *contract.Endpoint) {
	o.Method, o.Path, o.Reads = http.MethodGet, a.path, true
	o.Parameters = append(slices.Clone(a.keys), a.filters()...)
	o.Parameters = append(o.Parameters, a.narrowing()...)
	if !a.s.marks.unsortable {
		o.Parameters = append(o.Parameters,
			a.query("orderby", &option{words: "properties, each with asc or desc after it"}, ""))
	}
	if !a.m.isV2() {
		o.Parameters = append(o.Parameters,
			a.query("apply", &option{words: "transformations: groupby((Name),aggregate(Total with sum as All))"},
				"how they are grouped and summed first"))
	}
	o.Parameters = append(o.Parameters, a.query("skiptoken", &option{words: "a token"},
		"where the next page begins, as the service told it"))
	whole := counting{&object{m: a.m, single: &property{typeName: "Edm.Int32", facets: noFacets}}}
	if !a.s.marks.noTop {
		o.Parameters = append(o.Parameters, a.query("top", whole, "how many"))
	}
	if !a.s.marks.noSkip {
		o.Parameters = append(o.Parameters, a.query("skip", whole, "how many are passed over first"))
	}
	if !a.s.marks.noCount {
		count := a.query("count", &object{m: a.m, single: &property{typeName: "Edm.Boolean", facets: noFacets}},
			"true: @odata.count tells how many there are")
		if a.m.isV2() {
			count.Wire = "$inlinecount"
			count.Write = func(v *document.Node) string {
				return map[bool]string{true: "allpages", false: "none"}[v.Text == "true"]
			}
		}
		o.Parameters = append(o.Parameters, count)
	}
	o.Answers = a.answers(&object{t: a.t, list: true, wrapper: true})
	a.finish(o, true)
}

func (a *at) count(o *contract.Endpoint) {
	o.Method, o.Path, o.Reads = http.MethodGet, a.path+"/$count", true
	o.Parameters = append(slices.Clone(a.keys), a.filters()...)
	o.Answers = []contract.Answer{{
		Status: "2XX", About: "the number, as text",
		Contents: []contract.Content{{Type: "text/plain"}},
	}, {Status: "default"}}
	// Some services refuse a request for text alone: they send their number as JSON.
	o.Parameters = append(o.Parameters,
		contract.Parameter{
			In: contract.InHeader, Wire: "Accept", Name: "Accept",
			Fixed: document.NewUntyped("text/plain, */*;q=0.1"),
		})
	a.finish(o, false)
}

func (a *at) read(o *contract.Endpoint) {
	o.Method, o.Path, o.Reads = http.MethodGet, a.path, true
	o.Parameters = append(slices.Clone(a.keys), a.narrowing()...)
	o.Answers = a.done(&object{t: a.t})
	a.finish(o, true)
}

// body is what a request carries.
func (a *at) body(use use) *contract.Body {
	content := contract.Content{Type: jsonType, Schema: &object{m: a.m, t: a.t, use: use, marks: a.s.marks}}
	if a.m.isV2() {
		content.Write = func(v *document.Node) *document.Node { return a.m.wire(v, a.t) }
		content.Decode = func(v *document.Node) *document.Node { return a.m.seeEntity(v, a.t) }
	}
	return &contract.Body{Required: true, Contents: []contract.Content{content}}
}

// anyBody is a body of whatever media type.
func anyBody() *contract.Body {
	return &contract.Body{Required: true, Contents: []contract.Content{{Type: "*/*"}}}
}

// content reads a stream; keep writes one (OData 4.01 Part 1, 11.2.4 and 11.4.7).
func (a *at) content(o *contract.Endpoint) {
	o.Method, o.Path, o.Reads = http.MethodGet, a.path, true
	o.Parameters = slices.Clone(a.keys)
	o.Answers = []contract.Answer{
		{Status: "204", About: "nothing is there"},
		{Status: "2XX", Contents: []contract.Content{{Type: "*/*"}}},
		{Status: "default"},
	}
	a.finish(o, false)
}

func (a *at) keep(o *contract.Endpoint) {
	a.changing(o, http.MethodPut)
	o.Body = anyBody()
}

func (a *at) create(o *contract.Endpoint) {
	o.Method, o.Path = http.MethodPost, a.path
	o.Parameters = slices.Clone(a.keys)
	if a.m.version == "4.01" { // OData 4.01 Part 2, 5.1.11
		o.Parameters = append(o.Parameters, a.query("index",
			&object{m: a.m, single: &property{typeName: "Edm.Int32", facets: noFacets}},
			"the place in an ordered list, from 0 on; -1 is the last"))
	}
	o.Body = a.body(forCreate)
	if a.t.stream {
		o.Body = anyBody() // OData 4.01 Part 1, 11.4.7.1
	}
	o.Answers = a.done(&object{t: a.t})
	a.finish(o, true)
}

// etag is the version that a change is meant for.
func (a *at) etag() contract.Parameter {
	about := "the version that is meant; without it, the one that was read last"
	if !a.m.isConcurrent(a.s, a.t) {
		about = "the version that is meant"
	}
	return contract.Parameter{
		In: contract.InHeader, Wire: "If-Match", Name: "etag",
		Schema: &option{words: "a version"}, About: about,
	}
}

// isConcurrent says whether changes ask for the version that they are meant for.
func (m *model) isConcurrent(s *set, t *typeDef) bool {
	properties, _ := m.all(t)
	return s.marks.concurrency || t.marks.concurrency || slices.ContainsFunc(properties, func(p *property) bool {
		return p.marks.concurrency
	})
}

func (a *at) changing(o *contract.Endpoint, method string) {
	o.Method, o.Path = method, a.path
	o.Parameters = append(slices.Clone(a.keys), a.etag())
	o.Answers = a.done(&object{t: a.t})
	o.Versioned, o.TakesVersion = a.m.isConcurrent(a.s, a.t), true
	a.finish(o, true)
}

func (a *at) change(o *contract.Endpoint) {
	method := http.MethodPatch
	if a.m.isV2() {
		method = "MERGE" // OData 2.0 Operations, 2.6
	}
	o.Body = a.body(forChange)
	a.changing(o, method)
}

func (a *at) replace(o *contract.Endpoint) {
	o.Body = a.body(forReplace)
	a.changing(o, http.MethodPut)
}

func (a *at) remove(o *contract.Endpoint) { a.changing(o, http.MethodDelete) }

// invoke calls an action or a function.
func (a *at) invoke(o *contract.Endpoint, f *function, parameters []*property, path string) {
	o.Parameters = slices.Clone(a.keys)
	var result *object
	if f.returns != nil {
		t := a.m.find(f.returns.typeName)
		if t != nil && t.kind > complexKind {
			t = nil
		}
		one := *f.returns
		result = &object{t: t, single: &one, list: f.returns.collection, wrapper: f.returns.collection || t == nil}
		if t != nil {
			result.single = nil
		}
	}
	switch {
	case f.action && a.m.isV2():
		o.Method, o.Path = f.method, path
		o.Parameters = append(o.Parameters, a.inQuery(parameters)...)
	case f.action:
		o.Method, o.Path = http.MethodPost, path
		if len(parameters) > 0 {
			t := &typeDef{kind: complexKind, name: f.name, properties: parameters}
			t.index()
			o.Body = &contract.Body{
				Required: true,
				Contents: []contract.Content{{Type: jsonType, Schema: &object{m: a.m, t: t, use: forParameters}}},
			}
		}
	case a.m.isV2():
		o.Method, o.Path, o.Reads = http.MethodGet, path, true
		o.Parameters = append(o.Parameters, a.inQuery(parameters)...)
	default:
		o.Method, o.Reads = http.MethodGet, true
		o.Path = path + a.inParentheses(o, parameters)
	}
	o.Answers = a.done(result)
	inner := *a
	if result != nil {
		inner.t, inner.single = result.t, result.single
	}
	inner.finish(o, true)
}

// inQuery are the parameters of a service operation of 2.0.
func (a *at) inQuery(parameters []*property) []contract.Parameter {
	var out []contract.Parameter
	for _, p := range parameters {
		q := a.m.pathParameter(p)
		q.In, q.Required = contract.InQuery, !p.nullable
		out = append(out, q)
	}
	return out
}

// inParentheses writes the parameters of a function: simple ones in place, others
// by an alias in the query (OData URL Conventions 4.01, 5.1.1.14.2).
func (a *at) inParentheses(o *contract.Endpoint, parameters []*property) string {
	var parts []string
	for _, p := range parameters {
		edm, enum, _ := a.m.primitive(p.typeName)
		if !p.collection && (edm != "" || enum != nil) {
			q := a.m.pathParameter(p)
			parts = append(parts, p.name+"={"+p.name+"}")
			o.Parameters = append(o.Parameters, q)
			continue
		}
		parts = append(parts, p.name+"=@"+p.name)
		one := *p
		t := a.m.find(p.typeName)
		s := &object{m: a.m, t: t, single: &one, use: forParameters}
		if p.collection {
			s.t = nil
		}
		o.Parameters = append(o.Parameters, contract.Parameter{
			In: contract.InQuery, Wire: "@" + p.name, Name: p.name, Required: true, About: p.about, Schema: s,
			Write: func(v *document.Node) string { return document.WriteJSON(v, document.Style{}) },
		})
	}
	return "(" + strings.Join(parts, ",") + ")"
}

// unbound makes the operation of an import.
func (m *model) unbound(f *function) *contract.Endpoint {
	o := &contract.Endpoint{Name: f.name, About: f.about}
	a := &at{m: m, s: &set{name: f.name}}
	a.invoke(o, f, f.parameters, "/"+f.name)
	if !f.action && !m.isV2() && len(f.parameters) == 0 {
		o.Path = "/" + f.name + "()"
	}
	return o
}
