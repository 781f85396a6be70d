package contract

import (
	"fmt"
	"net/url"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/yamlfile"
)

// SampleFields makes the fields of a call, with values that are valid: those that
// must be given, or all.
func (o *Endpoint) SampleFields(options schema.SampleOptions) *document.Node {
	return o.SampleStep(options).Root
}

// SampleStep makes the fields of a call, with what is to be remarked of them.
func (o *Endpoint) SampleStep(options schema.SampleOptions) *schema.Sample {
	fields := document.NewObject()
	remarks := map[*document.Node]string{}
	made := &schema.Sample{Root: fields, Remarks: remarks}
	names := bodyNamesOf(o)
	taken := map[string]int{}
	for _, p := range o.Parameters {
		taken[p.Name]++
	}
	for _, name := range names {
		taken[name]++
	}
	needed := map[string]bool{}
	for _, group := range o.Needs {
		needed[group[0]] = true
	}
	for _, p := range o.Parameters {
		if p.Fixed != nil || p.Computed != "" || p.Deprecated && !p.Required || !p.Required && !options.Optional &&
			!needed[p.Name] {
			continue
		}
		name := p.Name
		if taken[name] > 1 {
			name = string(p.In) + "." + name
		}
		v := p.sample(options)
		if !p.Required && v.Kind == document.Text && v.Text == "" {
			continue
		}
		if !p.Required {
			remarks[v] = strings.TrimSuffix("may be left out; "+p.words(), "; ")
		} else {
			remarks[v] = p.words()
		}
		fields.AppendMembers(document.Member{Key: name, Value: v})
	}
	if c := o.Body.chosen(""); c != nil && (o.Body.Required || options.Optional) {
		v := c.sample(options, made)
		switch {
		case v == nil:
		case v.Kind == document.Object:
			for _, m := range v.Members() {
				name := m.Key
				if taken[name] > 1 {
					name = "body." + name
				}
				fields.AppendMembers(document.Member{Key: name, Value: m.Value})
			}
		default:
			fields.AppendMembers(document.Member{Key: "body", Value: v})
		}
	}
	return made
}

func (p *Parameter) words() string {
	switch {
	case p.Schema != nil:
		return p.Schema.Words()
	case len(p.OneOf) > 0:
		return "one of " + strings.Join(p.OneOf, ", ")
	}
	return p.Kind
}

// kindSamples are values of the kinds that operations described in bench.yaml name.
var kindSamples = map[string]string{
	"integer": "1", "number": "1", "decimal": "1.5", "boolean": "true", "date": "2026-11-23", "time": "08:00:00",
	"datetime": "2026-11-23T08:00:00Z", "uuid": "3f2c1a90-6b7d-4e58-9c01-2d3e4f506172",
	"email": "desk@heatherfold.example", "uri": "https://heatherfold.example/",
	"currency": "EUR", "country": "DE", "language": "en", "duration": "P1D", "hostname": "heatherfold.example",
	"ipv4": "192.0.2.1", "ipv6": "2001:db8::1",
}

func (p *Parameter) sample(options schema.SampleOptions) *document.Node {
	kind, _, _ := strings.Cut(p.Kind, " ")
	switch {
	case p.Example != nil:
		return p.Example
	case p.Default != nil:
		return p.Default
	case p.Schema != nil:
		return p.Schema.Sample(options).Root
	case len(p.OneOf) > 0:
		return document.NewUntyped(p.OneOf[0])
	case kindSamples[kind] != "":
		return document.NewUntyped(kindSamples[kind])
	}
	return document.NewText("text")
}

// sample makes a body: the example of the contract where that is valid.
func (c *Content) sample(options schema.SampleOptions, whole *schema.Sample) *document.Node {
	if c.Schema == nil {
		if c.Example != nil {
			return c.Example
		}
		return nil
	}
	if c.Example != nil && options.Optional && c.Example.Kind != document.Element {
		if _, short := c.Schema.Fill(c.Example); len(short) == 0 {
			return c.Example
		}
	}
	made := c.Schema.Sample(options)
	for n, remark := range made.Remarks {
		whole.Remarks[n] = remark
	}
	whole.Omitted += made.Omitted
	whole.TooLarge = whole.TooLarge || made.TooLarge
	return made.Root
}

// Text writes a pair as it is in a query.
func (p Pair) Text() string {
	if p.Raw {
		return p.Name + "=" + p.Value.Text
	}
	return strings.ReplaceAll(url.QueryEscape(p.Name), "%24",
		"$") + "=" + strings.ReplaceAll(url.QueryEscape(scalarText(p.Value)), "+", "%20")
}

// PairsText writes pairs as a query or a form has them.
func PairsText(pairs []Pair) string {
	texts := make([]string, len(pairs))
	for i, p := range pairs {
		texts[i] = p.Text()
	}
	return strings.Join(texts, "&")
}

// Line is the request line: method, path and query.
func (r *Request) Line() string {
	line := strings.TrimSpace(r.Method + " " + r.Path)
	if len(r.Query) > 0 {
		line += "?" + PairsText(r.Query)
	}
	return line
}

// StepText writes a call as a step to put into a sheet.
func StepText(target string, sample *schema.Sample) string {
	fields, remarks := sample.Root, sample.Remarks
	var out strings.Builder
	fmt.Fprintf(&out, "- step: %s\n  call: %s\n", yamlfile.ScalarText(target[strings.IndexByte(target, '/')+1:]),
		yamlfile.ScalarText(target))
	if len(fields.Members()) > 0 {
		out.WriteString("  fill:\n")
		writeFields(&out, fields, remarks, "    ")
	}
	return out.String()
}

func writeFields(out *strings.Builder, v *document.Node, remarks map[*document.Node]string, lead string) {
	for _, m := range v.Members() {
		out.WriteString(lead + yamlfile.ScalarText(m.Key) + ":")
		writeValue(out, m.Value, remarks, lead)
	}
	for _, item := range v.Items() {
		if len(item.Members()) == 0 {
			out.WriteString(lead + "-")
			writeValue(out, item, remarks, lead)
			continue
		}
		var inner strings.Builder
		writeFields(&inner, item, remarks, lead+"  ")
		out.WriteString(lead + "- " + strings.TrimPrefix(inner.String(), lead+"  "))
	}
}

func writeValue(out *strings.Builder, v *document.Node, remarks map[*document.Node]string, lead string) {
	remark := remarks[v]
	if remark != "" {
		remark = "  # " + strings.Join(strings.Fields(remark), " ")
	}
	switch {
	case len(v.Members()) > 0 || len(v.Items()) > 0:
		out.WriteString(remark + "\n")
		writeFields(out, v, remarks, lead+"  ")
	case v.Kind == document.Object:
		out.WriteString(" {}" + remark + "\n")
	case v.Kind == document.List:
		out.WriteString(" []" + remark + "\n")
	case v.Kind == document.Null:
		out.WriteString(" null" + remark + "\n")
	case v.Kind == document.Text &&
		(document.IsNumber(v.Text) || v.Text == "true" || v.Text == "false" || v.Text == "null"):
		out.WriteString(" " + yamlfile.Quote(v.Text) + remark + "\n") // it is a text all the same
	default:
		out.WriteString(" " + yamlfile.ScalarText(v.Text) + remark + "\n")
	}
}
