package instance

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd"
	"testbench/internal/xsd/datatype"
)

// FillOptions say how an instance is made.
type FillOptions struct {
	// Prefixes are those that names in the fields may use.
	Prefixes map[string]string
	// Encoded writes xsi:type at every element and arrays as SOAP 1.1, section 5
	// asks.
	Encoded bool
	// Attached gives what is in a payload for an attachment of that name; nil where
	// there is none.
	Attached func(name string) *document.Node
}

// Fill makes an instance of an element from fields by name, whatever their
// order. Fields are an object: names of child elements and attributes, "." for
// the element's own text, @xsi:type for a derived type, null for nil, a list for
// what repeats; a list of objects with one key each is content in exactly that
// order. What is missing, unknown or no value of its type is returned; the
// instance holds what was given all the same.
func Fill(s *xsd.Schema, e *xsd.Element, fields *document.Node, o FillOptions) (*document.Node, []schema.FillError) {
	f := &filler{schema: s, options: o, prefixOf: map[string]string{}}
	// Of several prefixes for one namespace the first in order is used, so that a
	// request is the same each time.
	for prefix, space := range o.Prefixes {
		if before := f.prefixOf[space]; prefix != "" && (before == "" || prefix < before) {
			f.prefixOf[space] = prefix
		}
	}
	root := f.element(e, fields, "")
	return root, f.found
}

// Unknown stands for a value that is not known yet: it is taken for any value.
var Unknown = schema.Unknown

type filler struct {
	schema   *xsd.Schema
	options  FillOptions
	root     *document.Node // where prefixes are declared
	prefixOf map[string]string
	found    []schema.FillError
	depth    int
}

func (f *filler) complain(path, format string, args ...any) {
	f.found = append(f.found, schema.FillError{Path: path, Message: fmt.Sprintf(format, args...)})
}

func below(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

// element makes an element of what is given for it.
func (f *filler) element(e *xsd.Element, given *document.Node, path string) *document.Node {
	n := document.NewElement(document.Name{Space: e.Name.Space, Local: e.Name.Local})
	if f.root == nil {
		f.root = n
	}
	f.depth++
	defer func() { f.depth-- }()
	if f.depth > document.MaxDepth {
		f.complain(path, "is nested deeper than %d", document.MaxDepth)
		return n
	}
	if e.Abstract {
		f.complain(path, "is abstract: give one of its substitutes in its place%s",
			suggest.After(": ", f.schema.SubstituteNames(e)))
	}
	if given == Unknown {
		return n
	}
	if given == nil {
		given = document.NewObject()
	}
	if given.Kind == document.Null {
		if !e.Nillable {
			f.complain(path, "cannot be null")
		}
		f.instance(n, "nil", "true")
		return n
	}
	t := f.derived(n, e, given, path)
	if f.options.Encoded {
		f.encodedType(n, t)
	}
	if f.attached(n, t, given, path) {
		return n
	}
	switch t := t.(type) {
	case *xsd.SimpleType:
		f.simple(n, t, e, given, path)
	case *xsd.ComplexType:
		f.complex(n, t, e, given, path)
	}
	return n
}

// attached puts in an attachment, where the field says {attached: NAME} and the
// type is one of binary values.
func (f *filler) attached(n *document.Node, t xsd.Type, given *document.Node, path string) bool {
	name := given.Get("attached")
	if name == nil || f.options.Attached == nil || !isBinary(t) {
		return false
	}
	include := f.options.Attached(name.Text)
	if include == nil {
		f.complain(path, "asks for the attachment %s, which the step does not attach", name.Text)
		return true
	}
	n.AppendItems(include)
	return true
}

func isBinary(t xsd.Type) bool {
	if c, ok := t.(*xsd.ComplexType); ok && c.Content == xsd.SimpleContent {
		t = c.Simple
	}
	s, ok := t.(*xsd.SimpleType)
	return ok && s.Variety == xsd.Atomic && (s.Primitive == datatype.Base64Binary || s.Primitive == datatype.HexBinary)
}

// instance adds an attribute of the schema-instance namespace.
func (f *filler) instance(n *document.Node, local, value string) {
	declare(f.root, "xsi", xsd.InstanceNamespace)
	n.AppendAttributes(document.Attribute{
		Name:  document.Name{Space: xsd.InstanceNamespace, Prefix: "xsi", Local: local},
		Value: value,
	})
}

// qualified writes a name with a prefix, which it declares on the root.
func (f *filler) qualified(name xsd.Name) string {
	if name.Space == "" {
		return name.Local
	}
	prefix := f.prefixOf[name.Space]
	if prefix == "" {
		prefix = "t"
		if name.Space == xsd.Namespace {
			prefix = "xs"
		}
		for i := 1; f.taken(prefix); i++ {
			prefix = fmt.Sprintf("t%d", i)
		}
		f.prefixOf[name.Space] = prefix
	}
	declare(f.root, prefix, name.Space)
	return prefix + ":" + name.Local
}

func (f *filler) taken(prefix string) bool {
	for _, other := range f.prefixOf {
		if other == prefix {
			return true
		}
	}
	return false
}

func declare(n *document.Node, prefix, space string) {
	for _, a := range n.Attributes() {
		if a.Name.Prefix == "xmlns" && a.Name.Local == prefix {
			return
		}
	}
	n.AppendAttributes(document.Attribute{Name: document.Name{
		Space: xmlstream.XMLNSSpace, Prefix: "xmlns",
		Local: prefix,
	}, Value: space})
}

// derived takes the type that @xsi:type names, or the declared one.
func (f *filler) derived(n *document.Node, e *xsd.Element, given *document.Node, path string) xsd.Type {
	named := given.Get("@xsi:type")
	if named == nil {
		named = given.Get("xsi:type")
	}
	if named == nil {
		if c, ok := e.Type.(*xsd.ComplexType); ok && c.Abstract {
			f.complain(path, "has an abstract type: write @xsi:type with one of %s",
				strings.Join(f.schema.DerivedNames(c), ", "))
		}
		return e.Type
	}
	prefix, local, qualified := strings.Cut(named.Text, ":")
	if !qualified {
		local = named.Text
	}
	var names []string
	for _, t := range f.schema.Types {
		if !xsd.DerivedFrom(t, e.Type, 0) {
			continue
		}
		name := t.TypeName()
		if name.Local == local && (!qualified || f.options.Prefixes[prefix] == name.Space) {
			f.instance(n, "type", f.qualified(name))
			return t
		}
		names = append(names, name.Local)
	}
	if space, known := f.options.Prefixes[prefix]; prefix == "xs" || prefix == "xsd" || known {
		if !known {
			space = xsd.Namespace
		}
		if t := f.schema.Type(xsd.Name{Space: space, Local: local}); t != nil && xsd.DerivedFrom(t, e.Type, 0) {
			f.instance(n, "type", f.qualified(xsd.Name{Space: space, Local: local}))
			return t
		}
	}
	f.complain(path, "cannot be of the type %s%s", named.Text, suggest.Ending(local, names))
	return e.Type
}

// text makes the text of a value. What has a type of its own in YAML is written
// as the schema writes it: 1e3 as 1000 where only digits may stand.
func (f *filler) text(n *document.Node, t *xsd.SimpleType, given *document.Node, path string) string {
	if given == Unknown {
		return ""
	}
	text := given.Text
	switch {
	case given.Kind == document.List && t.Variety == xsd.List:
		items := make([]string, len(given.Items()))
		for i, item := range given.Items() {
			items[i] = f.text(n, t.Item, item, fmt.Sprintf("%s[%d]", path, i))
		}
		text = strings.Join(items, " ")
	case !given.IsScalar():
		f.complain(path, "is %s, not %s", given.Describe(), t.Words())
		return ""
	}
	names := prefixScope{f.options.Prefixes}
	err := t.Check(text, names)
	if err != nil && (given.Kind == document.Number || given.Kind == document.Untyped) {
		if d, ok := given.Decimal(); ok {
			plain := document.FormatDecimal(d)
			for _, text := range []string{plain, strings.TrimSuffix(strings.TrimRight(plain, "0"), ".")} {
				if (text == plain || strings.Contains(plain, ".")) && t.Check(text, names) == nil {
					return text
				}
			}
		}
	}
	if err != nil {
		f.complain(path, "%s", err)
	}
	if prefix, _, qualified := strings.Cut(text, ":"); qualified &&
		(t.Primitive == datatype.QName || t.Primitive == datatype.Notation) && t.Variety == xsd.Atomic {
		if space, known := f.options.Prefixes[prefix]; known {
			declare(n, prefix, space)
		}
	}
	return text
}

// prefixScope knows the prefixes that fields may use.
type prefixScope struct{ prefixes map[string]string }

// Lookup implements scope.
func (p prefixScope) Lookup(prefix string) (string, bool) {
	space, known := p.prefixes[prefix]
	return space, known || prefix == ""
}

func (f *filler) simple(n *document.Node, t *xsd.SimpleType, e *xsd.Element, given *document.Node, path string) {
	if given.Kind == document.Object {
		for _, m := range given.Members() {
			if m.Key != "." && m.Key != "@xsi:type" && m.Key != "xsi:type" {
				way := ""
				if path == "" {
					way = `; its value is the field "."` // the payload itself is the value
				}
				f.complain(below(path, m.Key), "is unknown: %s holds %s%s", e.Name.Local, t.Words(), way)
			}
		}
		given = given.Get(".")
		if given == nil {
			if e.Default == nil && e.Fixed == nil && t.Check("", nil) != nil {
				f.complain(path, "has no value: it is %s", t.FacetWords())
			}
			return
		}
	}
	if given.Kind == document.Element || given.Kind == document.Object {
		n.AppendItems(given)
		return
	}
	text := f.text(n, t, given, path)
	if e.Fixed != nil && given != Unknown && text != *e.Fixed {
		if want, err := t.Parse(*e.Fixed, nil); err == nil {
			if v, err := t.Parse(text, prefixScope{f.options.Prefixes}); err != nil || !v.Same(want) {
				f.complain(path, "must be %s", excerpt.Quote(*e.Fixed))
			}
		}
	}
	if text != "" {
		n.AppendItems(&document.Node{Kind: document.Untyped, Text: text, Secret: given.Secret})
	}
}

func (f *filler) complex(n *document.Node, t *xsd.ComplexType, e *xsd.Element, given *document.Node, path string) {
	if f.options.Encoded && t.ArrayOf != nil {
		f.array(n, t, given, path)
		return
	}
	if given.Kind == document.List {
		f.inOrder(n, t, given, path)
		return
	}
	if given.IsScalar() {
		given = document.NewObject().Set(".", given)
	}
	if given.Kind == document.Element {
		n.AppendItems(given)
		return
	}
	pool := newPool(given.Undotted(t.FieldNames()))
	f.attributes(n, t, pool, path)
	own := pool.take(".")
	switch t.Content {
	case xsd.SimpleContent:
		if own == nil {
			own = document.NewUntyped("")
			if e.Default == nil && e.Fixed == nil && t.Simple.Check("", nil) != nil {
				f.complain(below(path, "."), "has no value: it is %s", t.Simple.FacetWords())
			} else {
				own = nil
			}
		}
		if own != nil && own.Text != "" {
			n.AppendItems(&document.Node{
				Kind: document.Untyped, Text: f.text(n, t.Simple, own, path),
				Secret: own.Secret,
			})
		}
	case xsd.EmptyContent:
		if own != nil {
			f.complain(path, "must be empty, and is %s", own.Describe())
		}
	default:
		if own != nil && own.Text != "" {
			if t.Content != xsd.MixedContent {
				f.complain(path, "is %s, not fields by name: %s", own.Describe(),
					strings.Join(suggest.First(t.FieldNames(), 12), ", "))
			}
			n.AppendItems(&document.Node{Kind: document.Untyped, Text: own.Text, Secret: own.Secret})
		}
		f.particle(n, t.Particle, pool, path, true)
	}
	f.leftOver(n, t, pool, path)
}

func (f *filler) attributes(n *document.Node, t *xsd.ComplexType, p *pool, path string) {
	elements := map[string]bool{}
	t.Particle.Elements(func(e *xsd.Element) { elements[e.Name.Local] = true })
	for _, use := range t.Attributes {
		value := p.take("@" + use.Name.Local)
		if value == nil && !elements[use.Name.Local] {
			if key, ok := p.key(use.Name, f.options.Prefixes); ok {
				value = p.take(key)
			}
		}
		at := below(path, use.Name.Local)
		switch {
		case value == nil && use.Fixed != nil && use.Required:
			f.setAttribute(n, use.Name, *use.Fixed, false)
		case value == nil && use.Required:
			f.complain(at, "is missing: it is mandatory%s", withWords(use.Type.FacetWords()))
		case value != nil && value.Kind != document.Null:
			text := f.text(n, use.Type, value, at)
			if value != Unknown && use.Fixed != nil && text != *use.Fixed {
				f.complain(at, "must be %s", excerpt.Quote(*use.Fixed))
			}
			f.setAttribute(n, use.Name, text, value.Secret)
		}
	}
	if t.AnyAttribute == nil {
		return
	}
	for _, key := range p.order {
		name, isAttribute := strings.CutPrefix(key, "@")
		value := p.values[key]
		if !isAttribute || value == nil || !value.IsScalar() {
			continue
		}
		attribute := xsd.Name{Local: name}
		if prefix, local, qualified := strings.Cut(name, ":"); qualified {
			attribute = xsd.Name{Space: f.options.Prefixes[prefix], Local: local}
		}
		if t.AnyAttribute.Allows(attribute.Space) {
			p.take(key)
			f.setAttribute(n, attribute, value.Text, value.Secret)
		}
	}
}

func withWords(words string) string {
	if words == "" {
		return ""
	}
	return ", " + words
}

func (f *filler) setAttribute(n *document.Node, name xsd.Name, text string, secret bool) {
	a := document.Attribute{Name: document.Name{Space: name.Space, Local: name.Local}, Value: text, Secret: secret}
	switch name.Space {
	case "":
	case xmlstream.XMLSpace:
		a.Name.Prefix = "xml"
	default:
		prefix, _, _ := strings.Cut(f.qualified(name), ":")
		a.Name.Prefix = prefix
	}
	n.AppendAttributes(a)
}
