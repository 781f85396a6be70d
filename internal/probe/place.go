package probe

import (
	"net/url"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/schema"
	"testbench/internal/soap"
)

// place is a field of the request, and how it is changed there. A change that makes no
// sense in the place is nil.
type place struct {
	path  string // as a tester writes it
	field schema.ShapeField
	shape *schema.Shape
	good  *document.Node // what is there; nil where the field was left out
	typed bool           // values have types of their own there, as in JSON
	// percent says that a zero byte is written as %00 there.
	percent bool
	// inPath says that it is part of what the address names.
	inPath bool

	set     func(v *document.Node) *exchange.Request
	raw     func(text string) *exchange.Request // as it is in the body, unescaped
	remove  func() *exchange.Request
	double  func() *exchange.Request
	null    func() *exchange.Request
	times   func(n int) *exchange.Request // so many items, or so many of the same name
	unknown func() *exchange.Request      // one more field in what is there
}

// name is the last part of the path, as somebody may name it who refuses it.
func (p *place) name() string {
	name := p.path[strings.LastIndexByte(p.path, '.')+1:]
	name, _, _ = strings.Cut(strings.TrimPrefix(name, "@"), "[")
	return name
}

// places finds the fields of the request.
func (m *maker) places() []*place {
	var out []*place
	if m.Operation != nil {
		for _, p := range matching(m.Operation, contract.InPath, contract.InQuery, contract.InHeader) {
			if found := m.parameter(p); found != nil {
				out = append(out, found)
			}
		}
	}
	return append(out, m.body()...)
}

// shapeOfParameter is what is known of a parameter.
func shapeOfParameter(p *contract.Parameter) *schema.Shape {
	if shaped, ok := p.Schema.(schema.Shaped); ok {
		return shaped.Shape()
	}
	shape := &schema.Shape{Only: slices.Clone(p.OneOf)}
	switch p.Kind {
	case "":
	case "text", "integer", "number", "boolean":
		shape.Kinds = []string{p.Kind}
	default:
		shape.Kinds, shape.Formats = []string{"text"}, []string{p.Kind}
	}
	return shape
}

func fieldOfParameter(p *contract.Parameter) schema.ShapeField {
	return schema.ShapeField{Name: p.Wire, Required: p.IsMandatory(), Max: 1, Shape: func() *schema.Shape {
		return shapeOfParameter(p)
	}}
}

// parameter is a field outside of the body.
func (m *maker) parameter(p *contract.Parameter) *place {
	if p.Fixed != nil || p.Content != "" || strings.EqualFold(p.Wire, "Prefer") {
		return nil // whoever does not understand a preference passes over it (RFC 7240, 2)
	}
	out := &place{
		path: p.Name, field: fieldOfParameter(p), shape: shapeOfParameter(p),
		percent: p.In != contract.InHeader && p.In != contract.InCookie,
	}
	if shape := out.shape; len(shape.Kinds) == 1 && shape.Kinds[0] == "list" && shape.Items != nil {
		if out.shape = shape.Items(); out.shape == nil { // one value may stand for a list of one
			out.shape = &schema.Shape{}
		}
		out.field.Max = -1
	}
	out.shape = widest(out.shape)
	if kinds := out.shape.Kinds; len(kinds) == 1 && kinds[0] == "object" {
		return nil
	}
	written := func(v *document.Node) string {
		if p.Write != nil && out.good != nil && strings.HasPrefix(out.good.Text, "'") {
			return "'" + strings.ReplaceAll(v.Text, "'", "''") + "'"
		}
		return v.Text
	}
	switch p.In {
	case contract.InPath:
		return m.inPath(p, out)
	case contract.InQuery:
		m.inQuery(p, out, written)
		if strings.HasPrefix(p.Wire, "$") {
			return nil // options of OData are languages of their own
		}
	case contract.InHeader:
		if text := m.Request.GetHeader(p.Wire); text != "" {
			out.good = document.NewUntyped(text)
			out.remove = func() *exchange.Request {
				r := m.Request.Clone()
				r.DeleteHeader(p.Wire)
				return r
			}
		}
		out.set = func(v *document.Node) *exchange.Request {
			r := m.Request.Clone()
			r.SetHeader(p.Wire, v.Text)
			return r
		}
	}
	return out
}

// widest takes null out of the kinds of a parameter, where there is no null.
func widest(s *schema.Shape) *schema.Shape {
	out := *s
	out.Kinds = slices.DeleteFunc(slices.Clone(s.Kinds), func(kind string) bool { return kind == "null" })
	return &out
}

// inPath is a value in the path. It cannot be left out: that would be another address.
func (m *maker) inPath(p *contract.Parameter, out *place) *place {
	pattern, names := contract.PathPattern(m.Operation.Path)
	whole := m.Request.URL.EscapedPath()
	found := pattern.FindStringSubmatchIndex(whole)
	at := slices.Index(names, p.Wire)
	if found == nil || at < 0 {
		return nil
	}
	from, to := found[2*at+2], found[2*at+3]
	good, err := url.PathUnescape(whole[from:to])
	if err != nil {
		return nil
	}
	inner, isKey := strings.CutPrefix(good, "'") // a key of OData that is a text
	if isKey {
		inner = strings.ReplaceAll(strings.TrimSuffix(inner, "'"), "''", "'")
	}
	out.good = document.NewUntyped(inner)
	out.field.Required, out.inPath = true, true
	out.set = func(v *document.Node) *exchange.Request {
		text := v.Text
		if isKey {
			text = "'" + strings.ReplaceAll(text, "'", "''") + "'"
		}
		r := m.Request.Clone()
		r.URL.RawPath = whole[:from] + url.PathEscape(text) + whole[to:]
		r.URL.Path, err = url.PathUnescape(r.URL.RawPath)
		if err != nil || text == "" || text == "." || text == ".." {
			return nil
		}
		r.ShownURL = ""
		return r
	}
	return out
}

// inQuery is a value in the query.
func (m *maker) inQuery(p *contract.Parameter, out *place, written func(*document.Node) string) {
	var before, own []string
	for _, pair := range strings.FieldsFunc(m.Request.URL.RawQuery, func(r rune) bool { return r == '&' }) {
		name, text, _ := strings.Cut(pair, "=")
		name, _ = url.QueryUnescape(name)
		if name != p.Wire {
			before = append(before, pair)
			continue
		}
		own = append(own, pair)
		if text, err := url.QueryUnescape(text); err == nil && out.good == nil {
			out.good = document.NewUntyped(text)
		}
	}
	with := func(pairs ...string) *exchange.Request {
		r := m.Request.Clone()
		r.URL.RawQuery, r.ShownURL = strings.Join(append(slices.Clone(before), pairs...), "&"), ""
		return r
	}
	out.set = func(v *document.Node) *exchange.Request {
		return with(url.QueryEscape(p.Wire) + "=" + url.QueryEscape(written(v)))
	}
	if len(own) > 0 {
		out.remove = func() *exchange.Request { return with() }
		out.double = func() *exchange.Request { return with(own[0], own[0]) }
	}
}

// body finds the fields of the body.
func (m *maker) body() []*place {
	if m.Rebuild != nil {
		return m.templated()
	}
	if len(m.Request.Body) == 0 ||
		strings.HasPrefix(strings.ToLower(m.Request.GetHeader("Content-Type")), "multipart/") {
		return nil
	}
	shape := m.Payload
	if op := m.Operation; op != nil && op.Body != nil {
		if content := op.Body.ContentFor(m.Request.GetHeader("Content-Type")); content != nil {
			if shaped, ok := content.Schema.(schema.Shaped); ok {
				shape = shaped.Shape()
			}
		}
	}
	if op := m.Operation; shape == nil && op != nil {
		if described := matching(op, contract.InBody, contract.InForm); len(described) > 0 {
			shape = &schema.Shape{Kinds: []string{"object"}, Fields: func() (fields []schema.ShapeField) {
				for _, p := range described {
					fields = append(fields, fieldOfParameter(p))
				}
				return fields
			}}
		}
	}
	if shape == nil {
		return nil
	}
	b := &bodyPlaces{maker: m}
	root, inside := b.read()
	if root == nil {
		return nil
	}
	b.walk(shape, inside, "", nil, 0)
	return b.places
}

// templated are the fields that a template makes the body of.
func (m *maker) templated() []*place {
	var out []*place
	for _, p := range matching(m.Operation, contract.InBody, contract.InForm) {
		if p.Fixed != nil {
			continue
		}
		one := &place{
			path: p.Name, field: fieldOfParameter(p), shape: shapeOfParameter(p), good: m.Fields.Get(p.Name),
			typed: true, set: func(v *document.Node) *exchange.Request { return m.Rebuild(p.Name, v) },
		}
		if one.good != nil {
			one.remove = func() *exchange.Request { return m.Rebuild(p.Name, nil) }
			one.null = func() *exchange.Request { return m.Rebuild(p.Name, &document.Node{Kind: document.Null}) }
		}
		out = append(out, one)
	}
	return out
}

// bodyPlaces finds places in a body that is read anew for each change.
type bodyPlaces struct {
	*maker
	places []*place
}

// read gives the body's tree, and what of it the fields stand in.
func (b *bodyPlaces) read() (root, inside *document.Node) {
	format := document.FormatOf(b.Request.GetHeader("Content-Type"), b.Request.Body)
	root, err := document.ReadAs(format, b.Request.GetHeader("Content-Type"), b.Request.Body)
	if err != nil {
		return nil, nil
	}
	if root.Kind != document.Element {
		return root, root
	}
	if message, ok := soap.Read(root); ok {
		return root, message.Payload
	}
	return root, root
}

// step leads from what holds a field to the field.
type step struct {
	name  string
	index int // among those of its name, or among the items
	item  bool
}

// follow goes to where steps lead; holder is what holds it.
func follow(at *document.Node, steps []step) (holder, found *document.Node) {
	for _, s := range steps {
		holder = at
		switch {
		case at == nil:
			return nil, nil
		case s.item && at.Kind == document.List:
			if s.index >= len(at.Items()) {
				return nil, nil
			}
			at = at.Items()[s.index]
		case at.Kind == document.Element:
			at = nthChild(holder, s.name, s.index)
		default:
			at = at.Get(s.name)
		}
	}
	return holder, at
}

// nthChild finds a child by its local name; an item of an array has any.
func nthChild(n *document.Node, name string, index int) *document.Node {
	for _, child := range n.Children() {
		if name == "" || child.Name().Local == name {
			if index == 0 {
				return child
			}
			index--
		}
	}
	return nil
}

// edit makes a request whose body is changed.
func (b *bodyPlaces) edit(steps []step, change func(holder, found *document.Node)) *exchange.Request {
	root, inside := b.read()
	holder, found := follow(inside, steps)
	if holder == nil && found == nil {
		return nil
	}
	change(holder, found)
	return b.with(root)
}

func (b *bodyPlaces) with(root *document.Node) *exchange.Request {
	r := b.Request.Clone()
	r.ShownBody = b.shown()
	switch {
	case root.Kind == document.Element:
		document.Declare(root)
		r.Body = []byte(document.WriteXML(root, document.Style{}))
	case document.FormatOf(b.Request.GetHeader("Content-Type"), b.Request.Body) == document.Form:
		var pairs []string
		for _, member := range root.Members() {
			for _, item := range append([]*document.Node{}, itemsOf(member.Value)...) {
				pairs = append(pairs, url.QueryEscape(member.Key)+"="+url.QueryEscape(item.Text))
			}
		}
		r.Body = []byte(strings.Join(pairs, "&"))
	default:
		r.Body = []byte(document.WriteJSON(root, document.Style{}))
	}
	return r
}

func itemsOf(n *document.Node) []*document.Node {
	if n.Kind == document.List {
		return n.Items()
	}
	return []*document.Node{n}
}

// mostDeep bounds how deep a body is followed.
const mostDeep = 25

// walk finds the fields below a place.
func (b *bodyPlaces) walk(shape *schema.Shape, at *document.Node, path string, steps []step, depth int) {
	if at == nil || shape == nil || depth > mostDeep || len(b.places) > mostCases {
		return
	}
	if shape.Items != nil &&
		(at.Kind == document.List ||
			slices.Contains(shape.Kinds, "list") && at.Kind == document.Element && len(at.Children()) > 0) {
		b.item(shape, at, path, steps, depth)
		return
	}
	if shape.Fields == nil || at.IsScalar() {
		return
	}
	if path != "" || len(steps) == 0 {
		b.opened(path, steps)
	}
	for _, f := range shape.Fields() {
		if name, isAttribute := strings.CutPrefix(f.Name, "@"); isAttribute {
			b.attribute(f, name, at, path, steps)
			continue
		}
		b.field(f, at, path, steps, depth)
	}
}

// item goes into the first item of a list.
func (b *bodyPlaces) item(shape *schema.Shape, at *document.Node, path string, steps []step, depth int) {
	next := step{item: true}
	_, found := follow(at, []step{next})
	if items := shape.Items(); items != nil {
		b.walk(items, found, path+"[0]", append(slices.Clone(steps), next), depth+1)
		if found != nil && found.IsScalar() {
			own := append(slices.Clone(steps), next)
			p := &place{path: path + "[0]", shape: items, good: found, typed: at.Kind == document.List}
			p.set = func(v *document.Node) *exchange.Request {
				return b.edit(own, func(_, found *document.Node) { found.Become(v) })
			}
			b.places = append(b.places, p)
		}
	}
}

// opened is the object or element itself, which may be given a field that there is not.
func (b *bodyPlaces) opened(path string, steps []step) {
	p := &place{path: path, shape: &schema.Shape{}}
	p.unknown = func() *exchange.Request {
		root, inside := b.read()
		_, at := follow(inside, steps)
		if len(steps) == 0 {
			at = inside
		}
		if at == nil {
			return nil
		}
		if at.Kind == document.Element {
			name := document.Name{Local: "unexpected"}
			if children := at.Children(); len(children) > 0 {
				name.Space, name.Prefix = children[0].Name().Space, children[0].Name().Prefix
			}
			at.AppendItems(document.NewElement(name, document.NewUntyped("surprise")))
		} else {
			at.AppendMembers(document.Member{Key: "unexpected", Value: document.NewText("surprise")})
		}
		return b.with(root)
	}
	b.places = append(b.places, p)
}

func (b *bodyPlaces) attribute(f schema.ShapeField, name string, at *document.Node, path string, steps []step) {
	text, there := at.Attribute(name)
	if !there {
		return
	}
	p := &place{path: schema.Below(path, f.Name), field: f, shape: f.Shape(), good: document.NewUntyped(text)}
	change := func(with func(holder *document.Node, at int)) *exchange.Request {
		root, inside := b.read()
		_, holder := follow(inside, steps)
		if len(steps) == 0 {
			holder = inside
		}
		if holder == nil {
			return nil
		}
		index := slices.IndexFunc(holder.Attributes(), func(a document.Attribute) bool {
			return a.Name.Local == name && !a.IsDeclaration()
		})
		if index < 0 {
			return nil
		}
		with(holder, index)
		return b.with(root)
	}
	p.set = func(v *document.Node) *exchange.Request {
		return change(func(holder *document.Node, at int) { holder.Attributes()[at].Value = v.Text })
	}
	p.remove = func() *exchange.Request {
		return change(func(holder *document.Node, at int) {
			holder.SetAttributes(slices.Delete(holder.Attributes(), at, at+1))
		})
	}
	b.places = append(b.places, p)
}

// field is a member of an object, or a child element.
func (b *bodyPlaces) field(f schema.ShapeField, at *document.Node, path string, steps []step, depth int) {
	isXML := at.Kind == document.Element
	own := append(slices.Clone(steps), step{name: f.Name})
	_, found := follow(at, own[len(own)-1:])
	if found == nil && isXML {
		return // where it would have to stand among the others is not known
	}
	shape := f.Shape()
	p := &place{
		path: schema.Below(path, f.Name), field: f, shape: shape, good: found,
		typed: !isXML && at.Kind == document.Object && b.isJSON(),
	}
	if value := found.Value(); value != nil && value.IsScalar() {
		p.good = value
	}
	p.set = func(v *document.Node) *exchange.Request {
		root, inside := b.read()
		holder, found := follow(inside, own)
		switch {
		case holder == nil:
			return nil
		case !isXML:
			holder.Set(f.Name, v)
		case v.Kind == document.Null:
			found.SetItems(nil)
			found.AppendAttributes(nilled)
		default:
			found.SetItems([]*document.Node{document.NewUntyped(v.Text)})
		}
		return b.with(root)
	}
	if found == nil {
		b.places = append(b.places, p)
		return
	}
	p.percent = !isXML && !b.isJSON()
	p.raw = func(text string) *exchange.Request {
		const mark = "HERE-IT-STANDS"
		r := p.set(document.NewText(mark))
		if r != nil {
			r.Body = []byte(strings.Replace(string(r.Body), mark, text, 1))
		}
		return r
	}
	p.remove = func() *exchange.Request {
		return b.edit(own, func(holder, found *document.Node) { without(holder, found, f.Name) })
	}
	p.null = func() *exchange.Request { return p.set(&document.Node{Kind: document.Null}) }
	if !isXML && !b.isJSON() {
		p.null = nil
	}
	p.double = func() *exchange.Request {
		return b.edit(own, func(holder, found *document.Node) { again(holder, found, f.Name, 2) })
	}
	if isXML || found.Kind == document.List {
		p.times = func(n int) *exchange.Request {
			return b.edit(own, func(holder, found *document.Node) { b.repeat(holder, found, f.Name, n) })
		}
	}
	b.places = append(b.places, p)
	b.walk(shape, found, p.path, own, depth+1)
}

func (b *bodyPlaces) isJSON() bool {
	return document.FormatOf(b.Request.GetHeader("Content-Type"), b.Request.Body) == document.JSON
}

var nilled = document.Attribute{
	Name:  document.Name{Space: document.SchemaInstance, Prefix: "xsi", Local: "nil"},
	Value: "true",
}

// without takes a field out of what holds it.
func without(holder, found *document.Node, name string) {
	if holder.Kind == document.Element {
		holder.SetItems(slices.DeleteFunc(holder.Items(), func(item *document.Node) bool {
			return item.Kind == document.Element && item.Name().Local == found.Name().Local
		}))
		return
	}
	holder.SetMembers(slices.DeleteFunc(holder.Members(), func(m document.Member) bool { return m.Key == name }))
}

// again puts a field in so many times.
func again(holder, found *document.Node, name string, times int) {
	if holder.Kind == document.Element {
		at := slices.Index(holder.Items(), found)
		for range times - 1 {
			holder.SetItems(slices.Insert(holder.Items(), at, found))
		}
		return
	}
	for range times - 1 {
		holder.AppendMembers(document.Member{Key: name, Value: found})
	}
}

// repeat makes a list of so many items, all like the first.
func (b *bodyPlaces) repeat(holder, found *document.Node, name string, times int) {
	if found.Kind == document.List {
		var items []*document.Node
		for range times {
			items = append(items, found.Items()[0])
		}
		found.SetItems(items)
		return
	}
	at := slices.Index(holder.Items(), found)
	first := found.Copy()
	without(holder, found, name)
	for range times {
		holder.SetItems(slices.Insert(holder.Items(), at, first))
	}
}

// describe says where a place is.
func (p *place) describe() string {
	if p.path == "" {
		return "the message"
	}
	return p.path
}
