package openapi

import (
	"cmp"
	"strings"

	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
)

// schemaType is what a schema is to those that use it.
type schemaType = schema.Type

// asXML holds XML against a schema of values: the element is read as the value
// that it stands for (OpenAPI 3.1.0, 4.8.26).
type asXML struct {
	*jsonschema.Schema
	answer bool
}

// Check holds an element, or a value, against the schema.
func (x asXML) Check(v *document.Node) []schema.Fault {
	if v.Kind == document.Element {
		v = valueOf(x.Schema, v)
	}
	return x.Schema.Check(v)
}

// xmlOf reads the XML Object of a schema.
func xmlOf(s *jsonschema.Schema) (name, prefix, namespace string, attribute, wrapped bool) {
	n := s.Keyword("xml")
	return text(n, "name"), text(n, "prefix"), text(n, "namespace"), isTrue(n.Get("attribute")),
		isTrue(n.Get("wrapped"))
}

// element writes a value as an element.
func element(s *jsonschema.Schema, name string, v *document.Node) *document.Node {
	full := document.Name{Local: name}
	if s != nil {
		if own, prefix, space, _, _ := xmlOf(s); own != "" || space != "" {
			full = document.Name{Local: cmp.Or(own, name), Prefix: prefix, Space: space}
		}
	}
	e := document.NewElement(full)
	e.Secret = v.Secret
	switch {
	case v.Kind == document.List:
		for _, item := range v.Items() {
			e.AppendItems(element(itemsOf(s), itemName(s, name), item))
		}
	case v.Kind == document.Object:
		for _, m := range v.Members() {
			member(e, s, m.Key, m.Value)
		}
	case v.Kind == document.Null:
		e.AppendAttributes(document.Attribute{Name: document.Name{
			Space: document.SchemaInstance, Prefix: "xsi",
			Local: "nil",
		}, Value: "true"})
	case v.Text != "":
		e.SetItems([]*document.Node{{Kind: document.Untyped, Text: v.Text, Secret: v.Secret}})
	}
	return e
}

func itemsOf(s *jsonschema.Schema) *jsonschema.Schema {
	if s == nil {
		return nil
	}
	return s.Items()
}

// itemName is that of a list's items: their own, else that of the list.
func itemName(s *jsonschema.Schema, name string) string {
	if items := itemsOf(s); items != nil {
		if own, _, _, _, _ := xmlOf(items); own != "" {
			return own
		}
	}
	return name
}

// member writes one member of an object into its element.
func member(e *document.Node, s *jsonschema.Schema, key string, v *document.Node) {
	var inner *jsonschema.Schema
	if s != nil {
		inner = s.Property(key)
	}
	var own string
	var attribute, wrapped bool
	if inner != nil {
		own, _, _, attribute, wrapped = xmlOf(inner)
	}
	switch {
	case attribute:
		name := key
		if own != "" {
			name = own
		}
		e.AppendAttributes(document.Attribute{Name: document.Name{Local: name}, Value: v.Text, Secret: v.Secret})
	case v.Kind == document.List && !wrapped:
		for _, item := range v.Items() {
			e.AppendItems(element(itemsOf(inner), itemName(inner, key), item))
		}
	default:
		e.AppendItems(element(inner, key, v))
	}
}

// valueOf reads an element as the value that a schema describes.
func valueOf(s *jsonschema.Schema, e *document.Node) *document.Node {
	if e.IsNil() {
		return &document.Node{Kind: document.Null}
	}
	if s == nil {
		return e.Value()
	}
	if items := s.Items(); items != nil {
		list := document.NewList()
		for _, child := range e.Children() {
			list.AppendItems(valueOf(items, child))
		}
		return list
	}
	rows := s.Outline(1)
	if len(rows) == 0 && len(e.Children()) == 0 {
		return s.Type(document.NewUntyped(e.OwnText()))
	}
	object := document.NewFields()
	taken := map[string]bool{}
	for _, row := range rows {
		inner := s.Property(row.Name)
		own, _, _, attribute, wrapped := xmlOf(inner)
		name := row.Name
		if own != "" {
			name = own
		}
		if attribute {
			if text, ok := e.Attribute(name); ok {
				object.Set(row.Name, inner.Type(document.NewUntyped(text)))
			}
			continue
		}
		items := inner.Items()
		if items != nil && !wrapped {
			list := document.NewList()
			name = itemName(inner, row.Name)
			for _, child := range e.Children() {
				if child.Name().Local == name {
					list.AppendItems(valueOf(items, child))
				}
			}
			taken[name] = true
			if len(list.Items()) > 0 || row.Required {
				object.Set(row.Name, list)
			}
			continue
		}
		taken[name] = true
		if child := e.Child(name); child != nil {
			object.Set(row.Name, valueOf(inner, child))
		}
	}
	for _, child := range e.Children() {
		if name := child.Name().Local; !taken[name] && !strings.HasPrefix(name, "xml") {
			object.Append(name, child.Value())
		}
	}
	return object.Object()
}
