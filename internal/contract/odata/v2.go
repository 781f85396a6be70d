package odata

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/lazy"
)

// see turns an answer of 2.0 into what 4 would have sent: the wrapper d is taken
// off, what is said of an entity gets the names of 4, numbers are numbers and
// time stamps ISO 8601.
func (m *model) see(body *document.Node, t *typeDef, single *property) *document.Node {
	d := body.Get("d")
	if d == nil {
		return body
	}
	if d.Kind == document.List { // as 1.0 sends collections
		return document.NewObject().Set("value", m.seeList(d, t))
	}
	results := d.Get("results")
	if results == nil || results.Kind != document.List {
		// A service operation puts its result under its own name.
		if len(d.Members()) == 1 && t == nil {
			return document.NewObject().Set("value", m.seeValue(single, d.Members()[0].Value))
		}
		return m.seeEntity(d, t)
	}
	out := document.NewObject()
	if count := d.Get("__count"); count != nil && document.IsNumber(count.Text) {
		out.Set("@odata.count", document.NewNumber(count.Text))
	}
	out.Set("value", m.seeList(results, t))
	if next := d.Get("__next"); next != nil {
		out.Set("@odata.nextLink", next)
	}
	return out
}

func (m *model) seeList(list *document.Node, t *typeDef) *document.Node {
	out := document.NewList()
	for _, item := range list.Items() {
		if item.Kind == document.Object {
			item = m.seeEntity(item, t)
		}
		out.AppendItems(item)
	}
	return out
}

func (m *model) seeEntity(n *document.Node, t *typeDef) *document.Node {
	if n.Kind != document.Object {
		return m.seeValue(nil, n)
	}
	out := document.NewObject()
	for _, member := range n.Members() {
		v := member.Value
		if member.Key == "__metadata" {
			for _, pair := range [][2]string{{"uri", "@odata.id"}, {"type", "@odata.type"}, {"etag", "@odata.etag"}} {
				if said := v.Get(pair[0]); said != nil {
					text := said.Text
					if pair[0] == "type" {
						text = "#" + text
					}
					out.Set(pair[1], document.NewText(text))
				}
			}
			continue
		}
		var p *property
		if t != nil {
			p = m.property(t, member.Key)
		}
		switch deferred := v.Get("__deferred"); {
		case deferred != nil:
			out.Set(member.Key+"@odata.navigationLink", document.NewText(text(deferred, "uri")))
		case v.Get("results") != nil:
			out.Set(member.Key, m.seeList(v.Get("results"), m.typeOf(p)))
		case v.Kind == document.Object:
			out.Set(member.Key, m.seeEntity(v, m.typeOf(p)))
		case v.Kind == document.List:
			out.Set(member.Key, m.seeList(v, m.typeOf(p)))
		default:
			out.Set(member.Key, m.seeValue(p, v))
		}
	}
	return out
}

func (m *model) typeOf(p *property) *typeDef {
	if p == nil {
		return nil
	}
	return m.find(p.typeName)
}

// tickForm is the form of a time stamp in the JSON of 2.0: milliseconds since 1970,
// and minutes of the zone.
var tickForm = lazy.Regexp(`^/Date\((-?[0-9]+)([+-][0-9]{1,4})?\)/$`)

// seeValue reads a single value.
func (m *model) seeValue(p *property, v *document.Node) *document.Node {
	if v.Kind != document.Text {
		return v
	}
	edm := ""
	if p != nil {
		edm, _, _ = m.primitive(p.typeName)
	}
	if match := tickForm().FindStringSubmatch(v.Text); match != nil {
		ticks, err := strconv.ParseInt(match[1], 10, 64)
		if err != nil {
			return v
		}
		at := time.UnixMilli(ticks).UTC()
		layout := "2006-01-02T15:04:05.999"
		if edm == "Edm.DateTimeOffset" || match[2] != "" {
			minutes, _ := strconv.Atoi(match[2])
			at = at.In(time.FixedZone("", minutes*60))
			layout += "Z07:00"
		}
		return &document.Node{Kind: document.Text, Text: at.Format(layout), Secret: v.Secret}
	}
	if isNumeric(edm) && document.IsNumber(v.Text) {
		return &document.Node{Kind: document.Number, Text: v.Text, Secret: v.Secret}
	}
	return v
}

// unsee is the other way of see: an answer as 2.0 has it.
func (m *model) unsee(body *document.Node, t *typeDef) *document.Node {
	d := document.NewObject()
	value := body.Get("value")
	switch {
	case value != nil && value.Kind == document.List:
		results := document.NewList()
		for _, item := range value.Items() {
			results.AppendItems(m.wire(item, t))
		}
		d.Set("results", results)
		if count := body.Get("@odata.count"); count != nil {
			d.Set("__count", document.NewText(count.Text))
		}
	case value != nil && t == nil:
		d.Set("value", value)
	default:
		d = m.wire(body, t)
	}
	return document.NewObject().Set("d", d)
}

// wire writes the fields of a request as 2.0 has them.
func (m *model) wire(v *document.Node, t *typeDef) *document.Node {
	if v.Kind != document.Object {
		return v
	}
	out := &document.Node{Kind: document.Object, Secret: v.Secret}
	for _, member := range v.Members() {
		inner := member.Value
		var p *property
		if t != nil {
			p = m.property(t, member.Key)
		}
		switch {
		case inner.Kind == document.Object:
			inner = m.wire(inner, m.typeOf(p))
		case inner.Kind == document.List:
			list := &document.Node{Kind: document.List, Secret: inner.Secret}
			for _, item := range inner.Items() {
				list.AppendItems(m.wire(item, m.typeOf(p)))
			}
			inner = list
		case p != nil:
			inner = m.wireValue(p, inner)
		}
		out.AppendMembers(document.Member{Key: member.Key, Value: inner})
	}
	return out
}

func (m *model) wireValue(p *property, v *document.Node) *document.Node {
	edm, _, _ := m.primitive(p.typeName)
	as := func(text string) *document.Node {
		return &document.Node{Kind: document.Text, Text: text, Secret: v.Secret}
	}
	switch {
	case v.Kind == document.Number && (edm == "Edm.Int64" || slices.Contains(decimals, edm)):
		return as(v.Text)
	case edm != "Edm.DateTime" && edm != "Edm.DateTimeOffset" || strings.HasPrefix(v.Text, "/Date("):
		return v
	}
	for _, layout := range []string{
		time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02T15:04",
		time.DateOnly,
	} {
		if at, err := time.Parse(layout, v.Text); err == nil {
			_, offset := at.Zone()
			zone := ""
			if edm == "Edm.DateTimeOffset" {
				zone = fmt.Sprintf("%+05d", offset/60)
			}
			return as(fmt.Sprintf("/Date(%d%s)/", at.UnixMilli(), zone))
		}
	}
	return v
}
