package contract

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// Pair is a name with its value.
type Pair struct {
	Name  string
	Value *document.Node
	// Raw says that name and value are escaped already.
	Raw bool
}

// escape writes a text for an address. Reserved characters stay where a parameter
// wants them to (RFC 3986, 2.2), but for the one that would end the query.
func escape(text string, reserved bool) string {
	escaped := strings.ReplaceAll(url.QueryEscape(text), "+", "%20")
	if !reserved {
		return escaped
	}
	for _, c := range ":/?[]@!$&'()*+,;=" {
		escaped = strings.ReplaceAll(escaped, url.QueryEscape(string(c)), string(c))
	}
	return escaped
}

// scalarText is a value as it is in an address or a header.
func scalarText(v *document.Node) string {
	v = v.Value()
	if !v.IsScalar() {
		return document.WriteJSON(v, document.Style{})
	}
	return v.Text
}

// parts are the values of a list, or the names and values of an object in turn;
// what is null is left out.
func parts(v *document.Node) (names, values []string) {
	for i, item := range v.Items() {
		if item.Value().Kind != document.Null {
			names = append(names, strconv.Itoa(i))
			values = append(values, scalarText(item))
		}
	}
	for _, m := range v.Members() {
		if m.Value.Value().Kind != document.Null {
			names = append(names, m.Key)
			values = append(values, scalarText(m.Value))
		}
	}
	return names, values
}

// style is how a parameter's lists and objects are written (OpenAPI 3.1.0,
// 4.8.12.2): the default goes by the place.
func (p *Parameter) style() string {
	switch {
	case p.Style != "":
		return p.Style
	case p.In == InQuery || p.In == InCookie || p.In == InForm:
		return "form"
	}
	return "simple"
}

// separator is what stands between the parts of a value that is joined.
func (p *Parameter) separator() string {
	switch p.style() {
	case "spaceDelimited":
		return " "
	case "pipeDelimited":
		return "|"
	case "tabDelimited":
		return "\t"
	}
	return ","
}

func asIs(text string) string { return text }

// joined writes a list or an object as one text, its parts escaped and joined.
func joined(v *document.Node, separator string, exploded bool, escape func(string) string) string {
	names, values := parts(v)
	var out []string
	for i, text := range values {
		switch {
		case v.Kind == document.List:
			out = append(out, escape(text))
		case exploded:
			out = append(out, escape(names[i])+"="+escape(text))
		default:
			out = append(out, escape(names[i]), escape(text))
		}
	}
	return strings.Join(out, separator)
}

// pairs writes a query, form or cookie parameter.
func (p *Parameter) pairs(v *document.Node) []Pair {
	v = v.Value()
	if p.Content != "" && !v.IsScalar() {
		return []Pair{{
			Name: p.Wire,
			Value: &document.Node{
				Kind: document.Text, Text: document.WriteJSON(v, document.Style{}),
				Secret: hasSecret(v),
			},
		}}
	}
	if v.IsScalar() {
		if v.Kind == document.Null {
			return nil
		}
		if p.Reserved {
			return []Pair{{
				Name: escape(p.Wire, false), Raw: true,
				Value: &document.Node{Kind: document.Untyped, Text: escape(v.Text, true), Secret: v.Secret},
			}}
		}
		return []Pair{{Name: p.Wire, Value: v}}
	}
	names, values := parts(v)
	raw := func(name, text string) Pair {
		return Pair{
			Name: escape(name, false), Raw: true,
			Value: &document.Node{Kind: document.Untyped, Text: text, Secret: hasSecret(v)},
		}
	}
	encode := func(text string) string { return escape(text, p.Reserved) }
	var out []Pair
	switch style := p.style(); {
	case style == "deepObject":
		for _, leaf := range leaves(p.Wire, v) {
			out = append(out, raw(leaf[0], encode(leaf[1])))
		}
	case !p.Joined && style == "form" && v.Kind == document.List:
		for _, text := range values {
			out = append(out, raw(p.Wire, encode(text)))
		}
	case !p.Joined && style == "form":
		for i, text := range values {
			out = append(out, raw(names[i], encode(text)))
		}
	case len(values) > 0:
		separator := p.separator()
		if separator != "," {
			separator = escape(separator, false)
		}
		out = append(out, raw(p.Wire, joined(v, separator, false, encode)))
	}
	return out
}

// cookieText writes a value for a cookie: what a cookie cannot hold is percent-encoded (RFC
// 6265, 4.1.1), and the rest is as it is: tokens that are not decoded anywhere go in cookies.
func cookieText(text string) string {
	var out strings.Builder
	for _, c := range []byte(text) {
		if c <= ' ' || c >= 0x7f || strings.IndexByte(`",;\`, c) >= 0 {
			fmt.Fprintf(&out, "%%%02X", c)
		} else {
			out.WriteByte(c)
		}
	}
	return out.String()
}

// leaves are the single values of an object with names like filter[from][day].
func leaves(name string, v *document.Node) [][2]string {
	if v = v.Value(); v.IsScalar() {
		return [][2]string{{name, v.Text}}
	}
	var out [][2]string
	for i, item := range v.Items() {
		out = append(out, leaves(name+"["+strconv.Itoa(i)+"]", item)...)
	}
	for _, m := range v.Members() {
		out = append(out, leaves(name+"["+m.Key+"]", m.Value)...)
	}
	return out
}

// inPath writes a path parameter, escaped (RFC 6570 by way of OpenAPI 3.1.0,
// 4.8.12.3).
func (p *Parameter) inPath(v *document.Node) string {
	v = v.Value()
	encode := func(text string) string {
		if p.Reserved {
			return strings.ReplaceAll(escape(text, true), "?", "%3F") // it would end the path
		}
		return url.PathEscape(text)
	}
	if v.IsScalar() {
		if p.Write != nil { // quotes and commas of a literal may be (RFC 3986, 3.3)
			return strings.NewReplacer("%27", "'", "%2C", ",").Replace(encode(v.Text))
		}
		switch p.style() {
		case "label":
			return "." + encode(v.Text)
		case "matrix":
			if v.Text == "" {
				return ";" + escape(p.Wire, false) // RFC 6570, 3.2.7
			}
			return ";" + escape(p.Wire, false) + "=" + encode(v.Text)
		case MatrixFlag:
			return ";" + escape(p.Wire, false)
		}
		return encode(v.Text)
	}
	switch p.style() {
	case "label":
		separator := "."
		if p.Joined {
			separator = ","
		}
		return "." + joined(v, separator, !p.Joined, encode)
	case "matrix":
		name := ";" + escape(p.Wire, false) + "="
		switch {
		case p.Joined:
			return name + joined(v, ",", false, encode)
		case v.Kind == document.List:
			return name + joined(v, name, true, encode)
		}
		return ";" + joined(v, ";", true, encode)
	}
	separator := p.separator() // of collectionFormat in 2.0
	if separator != "," {
		separator = url.PathEscape(separator)
	}
	return joined(v, separator, !p.Joined, encode)
}

// inHeader writes a header parameter.
func (p *Parameter) inHeader(v *document.Node) *document.Node {
	v = v.Value()
	if v.IsScalar() {
		return v
	}
	text := joined(v, p.separator(), !p.Joined, asIs)
	if p.Content != "" {
		text = document.WriteJSON(v, document.Style{})
	}
	return &document.Node{Kind: document.Untyped, Text: text, Secret: hasSecret(v)}
}

func hasSecret(v *document.Node) bool {
	found := v.Secret
	v.Scalars(func(n *document.Node) { found = found || n.Secret })
	return found
}
