package instance

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/xsd"
)

// SOAP 1.1, section 5.

const soapEncodingNamespace = "http://schemas.xmlsoap.org/soap/encoding/"

// encodedType writes xsi:type, for a reader of encoded values may know no schema.
func (f *filler) encodedType(n *document.Node, t xsd.Type) {
	name := t.TypeName()
	for _, a := range n.Attributes() {
		if a.Name.Space == xsd.InstanceNamespace && a.Name.Local == "type" {
			return
		}
	}
	if s, ok := t.(*xsd.SimpleType); ok && name.Local == "" {
		name = s.Builtin().Name
	}
	if c, ok := t.(*xsd.ComplexType); ok && c.ArrayOf != nil && name.Local == "" {
		name = xsd.Name{Space: soapEncodingNamespace, Local: "Array"}
	}
	if name.Local != "" && t != xsd.Type(xsd.AnyType()) {
		f.instance(n, "type", f.qualified(name))
	}
}

// array writes an array (SOAP 1.1, 5.4.2).
func (f *filler) array(n *document.Node, t *xsd.ComplexType, given *document.Node, path string) {
	items := []*document.Node{given}
	if given.Kind == document.List {
		items = given.Items()
	} else if given.Kind == document.Object && len(given.Members()) == 0 {
		items = nil
	} else if given.Kind == document.Object && len(given.Members()) == 1 &&
		(given.Members()[0].Key == "item" || given.Members()[0].Value.Kind == document.List) {
		items = []*document.Node{given.Members()[0].Value} // under the name of the items
		if items[0].Kind == document.List {
			items = items[0].Items()
		}
	}
	item := f.schema.ItemType(t.ArrayOf)
	a := document.Attribute{
		Name:  document.Name{Space: soapEncodingNamespace, Local: "arrayType"},
		Value: fmt.Sprintf("%s%s[%d]", f.qualified(t.ArrayOf.Item), t.ArrayOf.Inner, len(items)),
	}
	a.Name.Prefix, _, _ = strings.Cut(f.qualified(xsd.Name{Space: soapEncodingNamespace, Local: "arrayType"}), ":")
	n.AppendAttributes(a)
	element := &xsd.Element{Name: xsd.Name{Local: "item"}, Type: item, Nillable: true}
	if t.Particle != nil && t.Particle.Term != nil {
		if g, ok := t.Particle.Term.(*xsd.Group); ok && len(g.Particles) == 1 {
			if e, ok := g.Particles[0].Term.(*xsd.Element); ok {
				element = e
			}
		}
	}
	for i, value := range items {
		n.AppendItems(f.element(element, value, fmt.Sprintf("%s[%d]", path, i)))
	}
}
