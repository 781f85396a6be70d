package instance

import (
	"strings"

	"testbench/internal/document"
	"testbench/internal/xsd"
	"testbench/internal/xsd/datatype"
)

// Fields is the other way of Fill: it gives an instance as fields by name, with the kinds
// that the schema says. What may repeat is a list with one element too, nil is null, a
// number has all its digits, attributes are under their names (with @ where an element
// has the same), an element's own text beside attributes under ".". Where elements of
// several names repeat together, their order would be lost in an object, so they are a
// list of objects with one key each.
func Fields(s *xsd.Schema, e *xsd.Element, n *document.Node) *document.Node {
	return (&unfiller{s}).element(e, n)
}

type unfiller struct{ schema *xsd.Schema }

// instanceAttribute is an attribute of the schema-instance namespace.
func instanceAttribute(n *document.Node, local string) string {
	for _, a := range n.Attributes() {
		if a.Name.Space == xsd.InstanceNamespace && a.Name.Local == local {
			return a.Value
		}
	}
	return ""
}

func (u *unfiller) element(e *xsd.Element, n *document.Node) *document.Node {
	if isNil := instanceAttribute(n, "nil"); isNil == "true" || isNil == "1" {
		return &document.Node{Kind: document.Null}
	}
	t, named := e.Type, ""
	if text := strings.TrimSpace(instanceAttribute(n, "type")); text != "" {
		local := text[strings.IndexByte(text, ':')+1:]
		if other := u.derived(e.Type, local); other != nil && other != e.Type {
			t, named = other, local
		}
	}
	out := u.typed(t, n)
	if named != "" {
		if out.Kind != document.Object {
			out = document.NewObject().Set(".", out)
		}
		out.SetMembers(append([]document.Member{{Key: "@xsi:type", Value: document.NewText(named)}}, out.Members()...))
	}
	return out
}

// derived finds the type that xsi:type names: one that is derived from the declared type,
// or one of XML Schema itself.
func (u *unfiller) derived(base xsd.Type, local string) xsd.Type {
	for name, t := range u.schema.Types {
		if name.Local == local && xsd.DerivedFrom(t, base, 0) {
			return t
		}
	}
	if t := u.schema.Type(xsd.Name{Space: xsd.Namespace, Local: local}); t != nil && xsd.DerivedFrom(t, base, 0) {
		return t
	}
	return nil
}

func (u *unfiller) typed(t xsd.Type, n *document.Node) *document.Node {
	switch t := t.(type) {
	case *xsd.SimpleType:
		return simpleField(t, n.OwnText())
	case *xsd.ComplexType:
		if t == xsd.AnyType() {
			return u.untyped(n)
		}
		return u.complex(t, n)
	}
	return u.untyped(n)
}

func (u *unfiller) complex(t *xsd.ComplexType, n *document.Node) *document.Node {
	if t.ArrayOf != nil {
		list := document.NewList()
		for _, child := range n.Children() {
			if item := u.schema.ItemType(t.ArrayOf); item != xsd.Type(xsd.AnyType()) {
				list.AppendItems(u.element(&xsd.Element{Name: xsd.Name{Local: "item"}, Type: item, Nillable: true},
					child))
			} else {
				list.AppendItems(u.untyped(child))
			}
		}
		return list
	}
	w := &fieldWalk{shaper: &shaper{u.schema}, index: map[string]int{}}
	w.particle(t.Particle, true, "", 1)
	out := document.NewFields()
	for _, a := range n.Attributes() {
		if a.IsDeclaration() || a.Name.Space == xsd.InstanceNamespace {
			continue
		}
		key := a.Name.Local
		if _, both := w.index[key]; both {
			key = "@" + key
		}
		value := document.NewText(a.Value)
		for _, use := range t.Attributes {
			if use.Name.Local == a.Name.Local && use.Name.Space == a.Name.Space {
				value = simpleField(use.Type, a.Value)
			}
		}
		out.Set(key, value)
	}
	if t.Content == xsd.SimpleContent {
		value := simpleField(t.Simple, n.OwnText())
		if len(t.Attributes) == 0 && t.AnyAttribute == nil {
			return value
		}
		out.Set(".", value)
		return out.Object()
	}
	if text := strings.TrimSpace(n.OwnText()); t.Content == xsd.MixedContent && text != "" {
		out.Set(".", document.NewText(text))
	}
	if repeatsTogether(t.Particle) {
		list := document.NewList()
		for _, m := range out.Object().Members() {
			list.AppendItems(document.NewObject().Set("@"+strings.TrimPrefix(m.Key, "@"), m.Value))
		}
		for _, child := range n.Children() {
			list.AppendItems(document.NewObject().Set(child.Name().Local, u.child(t, child)))
		}
		return list
	}
	for _, child := range n.Children() {
		key := child.Name().Local
		value := u.child(t, child)
		at, known := w.index[key]
		switch before := out.Get(key); {
		case before != nil && before.Kind == document.List && (!known || w.fields[at].Max != 1):
			before.AppendItems(value)
		case before != nil:
			out.Set(key, document.NewList(before, value))
		case known && w.fields[at].Max != 1:
			out.Set(key, document.NewList(value))
		default:
			out.Set(key, value)
		}
	}
	return out.Object()
}

// child is a child element by its declaration, or by that of what it stands in for.
func (u *unfiller) child(t *xsd.ComplexType, child *document.Node) *document.Node {
	name := xsd.Name{Space: child.Name().Space, Local: child.Name().Local}
	var found *xsd.Element
	t.Particle.Elements(func(e *xsd.Element) {
		if e.Name == name && found == nil {
			found = e
		}
	})
	if found == nil {
		found = u.schema.Elements[name]
	}
	if found == nil {
		return u.untyped(child)
	}
	return u.element(found, child)
}

// untyped is an element that no schema speaks of.
func (u *unfiller) untyped(n *document.Node) *document.Node {
	if len(n.Children()) == 0 {
		return document.NewText(n.OwnText())
	}
	out := document.NewObject()
	for _, child := range n.Children() {
		value := u.untyped(child)
		if before := out.Get(child.Name().Local); before == nil {
			out.Set(child.Name().Local, value)
		} else if before.Kind == document.List {
			before.AppendItems(value)
		} else {
			out.Set(child.Name().Local, document.NewList(before, value))
		}
	}
	return out
}

// repeatsTogether says whether a group with elements of several names repeats.
func repeatsTogether(p *xsd.Particle) bool {
	if p == nil {
		return false
	}
	g, ok := p.Term.(*xsd.Group)
	if !ok {
		return false
	}
	if p.Max > 1 || p.Max == xsd.Unbounded {
		names := map[string]bool{}
		p.Elements(func(e *xsd.Element) { names[e.Name.Local] = true })
		if len(names) > 1 {
			return true
		}
	}
	for _, inner := range g.Particles {
		if repeatsTogether(inner) {
			return true
		}
	}
	return false
}

// kindOfValue is what JSON has for the values of a simple type: number, boolean, list or
// text.
func kindOfValue(t *xsd.SimpleType) document.Kind {
	switch {
	case t.Variety == xsd.List:
		return document.List
	case t.Variety == xsd.Union || t.Missing:
		return document.Text
	case t.Primitive == datatype.Decimal || t.Primitive == datatype.Double || t.Primitive == datatype.Float:
		return document.Number
	case t.Primitive == datatype.Boolean:
		return document.Boolean
	}
	return document.Text
}

func simpleField(t *xsd.SimpleType, text string) *document.Node {
	text = t.Normalize(text)
	switch kindOfValue(t) {
	case document.List:
		list := document.NewList()
		for _, item := range strings.Fields(text) {
			list.AppendItems(simpleField(t.Item, item))
		}
		return list
	case document.Number:
		if number := jsonNumber(text); number != "" {
			return document.NewNumber(number)
		}
	case document.Boolean:
		switch text {
		case "1", "true":
			return document.NewBoolean(true)
		case "0", "false":
			return document.NewBoolean(false)
		}
	}
	return document.NewText(text)
}

// jsonNumber writes a number of XML Schema as JSON has it, with all its digits: +5, 007,
// .5 and 5. are not numbers there. What is none at all (INF, NaN) gives "".
func jsonNumber(text string) string {
	sign, rest := "", text
	switch {
	case strings.HasPrefix(rest, "-"):
		sign, rest = "-", rest[1:]
	case strings.HasPrefix(rest, "+"):
		rest = rest[1:]
	}
	mantissa, exponent := rest, ""
	if at := strings.IndexAny(rest, "eE"); at >= 0 {
		mantissa, exponent = rest[:at], rest[at:]
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	if whole = strings.TrimLeft(whole, "0"); whole == "" {
		whole = "0"
	}
	out := sign + whole
	if fraction != "" {
		out += "." + fraction
	}
	out += exponent
	if !document.IsNumber(out) {
		return ""
	}
	return out
}
