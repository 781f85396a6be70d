package contract

import (
	"fmt"
	"mime"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// isJSON says whether a media type is one of JSON.
func isJSON(mediaType string) bool { return document.FormatOf(mediaType, []byte("x")) == document.JSON }

// chosen is the content that is sent: the one that was asked for, else JSON, else
// the first.
func (b *Body) chosen(expected string) *Content {
	if b == nil || len(b.Contents) == 0 {
		return nil
	}
	for i, c := range b.Contents {
		if expected != "" && MatchesType(c.Type, expected) {
			return &b.Contents[i]
		}
	}
	for i, c := range b.Contents {
		if isJSON(c.Type) {
			return &b.Contents[i]
		}
	}
	return &b.Contents[0]
}

// MatchesType says whether a media type is within a range (RFC 9110, 12.5.1);
// parameters count only where the range has some.
func MatchesType(pattern, got string) bool {
	expected, wantedParameters, err := mime.ParseMediaType(pattern)
	if err != nil {
		expected = strings.ToLower(strings.TrimSpace(pattern))
	}
	is, parameters, err := mime.ParseMediaType(got)
	if err != nil {
		is = strings.ToLower(strings.TrimSpace(strings.Split(got, ";")[0]))
	}
	for name, value := range wantedParameters {
		if name != "charset" && !strings.EqualFold(parameters[name], value) {
			return false
		}
	}
	kind, _, _ := strings.Cut(expected, "/")
	return expected == is || expected == "*/*" || strings.HasSuffix(expected, "/*") && strings.HasPrefix(is, kind+"/")
}

// content makes the body.
// overlay fills in what the bench says of the body beyond the contract, where there is one.
func (b *builder) overlay() {
	given := &b.body
	if b.whole != nil {
		given = &b.whole
	}
	if b.op.Overlay == nil || !b.op.Body.Required && b.whole == nil && len(b.body.Members()) == 0 {
		return
	}
	filled, problems := b.op.Overlay.Fill(*given, b.options.IsKind)
	*given, b.problems = filled, append(b.problems, problems...)
}

func (b *builder) content() {
	if b.op.Body == nil {
		if len(b.body.Members()) > 0 {
			b.request.Body = b.body
		}
		return
	}
	c := b.op.Body.chosen(b.options.Type)
	v := b.whole
	if v == nil && len(b.body.Members()) > 0 {
		v = b.body
	}
	if v == nil {
		if b.op.Body.Required {
			// An object without members is what a body of optional members may be.
			if c == nil || c.Schema == nil || len(c.Schema.Outline(1)) == 0 && !takesEmpty(c.Schema) {
				b.problems = append(b.problems, Problem{Missing: "body", Message: "the body is missing"})
				return
			}
			v = document.NewObject()
		} else {
			return
		}
	}
	if c == nil {
		b.request.Body = v
		return
	}
	b.request.Type = c.Type
	if strings.Contains(c.Type, "*") {
		b.request.Type = b.options.Type
	}
	if c.Schema != nil && v != schema.Unknown {
		filled, short := c.Schema.Fill(v)
		for _, s := range short {
			root, _, _ := strings.Cut(strings.SplitN(s.Path, "[", 2)[0], ".")
			if v.Get(root) == nil {
				if strings.HasPrefix(s.Message, "is missing") {
					b.problems = append(b.problems, Problem{Missing: s.Path, Message: s.String()})
					continue
				}
				root = "body"
			}
			b.problems = append(b.problems, Problem{Field: root, OfValue: true, Message: strings.TrimSpace(s.String())})
		}
		v = filled
	}
	mediaType, _, _ := mime.ParseMediaType(c.Type)
	switch {
	case mediaType == "application/x-www-form-urlencoded":
		b.form(c, v)
	case strings.HasPrefix(mediaType, "multipart/"):
		b.multipart(c, v)
	case c.Write != nil && v.Kind != document.Untyped && v.Kind != document.Text:
		b.request.Body = c.Write(v)
	default:
		b.request.Body = v
	}
}

// takesEmpty says whether an object without members is a value of a schema.
func takesEmpty(t schema.Type) bool {
	_, short := t.Fill(document.NewObject())
	return len(short) == 0
}

// form writes the members of an object as a form does; lists and objects as their
// encoding says (OpenAPI 3.1.0, 4.8.15.1).
func (b *builder) form(c *Content, v *document.Node) {
	for _, m := range v.Members() {
		if m.Value == schema.Unknown {
			continue
		}
		part := c.Parts[m.Key]
		p := Parameter{In: InForm, Wire: m.Key, Style: part.Style, Joined: part.Joined, Content: part.Type}
		if p.Style == "" && p.Content == "" && m.Value.Value().Kind == document.Object {
			p.Content = "application/json"
		}
		b.request.Form = append(b.request.Form, p.pairs(m.Value)...)
	}
}

// multipart writes each member as a part; a list as several (RFC 7578, 4.3).
func (b *builder) multipart(c *Content, v *document.Node) {
	files := map[string]bool{}
	if c.Schema != nil {
		for _, row := range c.Schema.Outline(1) {
			files[row.Name] = strings.Contains(row.Type, "binary") || strings.Contains(row.Type, "file")
		}
	}
	for _, m := range v.Members() {
		if m.Value == schema.Unknown {
			continue
		}
		form := c.Parts[m.Key]
		values := []*document.Node{m.Value}
		if m.Value.Kind == document.List {
			values = m.Value.Items()
			if form.Joined { // collectionFormat of 2.0
				p := Parameter{In: InForm, Style: form.Style}
				values = []*document.Node{document.NewText(joined(m.Value, p.separator(), false, asIs))}
			}
		}
		headers := b.partHeaders(m.Key, form)
		for _, one := range values {
			part := Part{Name: m.Key, Type: oneType(form.Type), Value: one.Value(), IsFile: files[m.Key],
				Headers: headers}
			if !one.Value().IsScalar() && part.Type == "" {
				part.Type = "application/json"
			}
			if part.IsFile && part.Type == "" {
				part.Type = "application/octet-stream"
			}
			b.request.Parts = append(b.request.Parts, part)
		}
	}
}

// partHeaders are the header fields of a part that the contract gives (OpenAPI 3.1.0, 4.8.15.1).
func (b *builder) partHeaders(name string, form PartForm) []Pair {
	var out []Pair
	for _, h := range form.Headers {
		switch {
		case h.Value != nil:
			out = append(out, Pair{Name: h.Name, Value: h.Value})
		case h.Required:
			b.problems = append(b.problems, Problem{
				Field: name,
				Message: fmt.Sprintf("%s must have the header %s, and the contract gives no value for it", name,
					h.Name),
				Try: "write the request with parts: in a step, and headers: at the part",
			})
		}
	}
	return out
}

// oneType is the first media type of a list; empty where it begins with a range.
func oneType(list string) string {
	first, _, _ := strings.Cut(list, ",")
	if strings.Contains(first, "*") {
		return ""
	}
	return strings.TrimSpace(first)
}

// bodyNamesOf lists the fields of the body, by its schema.
func bodyNamesOf(o *Endpoint) []string {
	if o.Body == nil {
		return nil
	}
	var names []string
	for _, c := range o.Body.Contents {
		if c.Schema == nil {
			continue
		}
		for _, row := range c.Schema.Outline(1) {
			if row.Depth == 0 && !strings.HasPrefix(row.Path, "[") {
				if name := strings.TrimPrefix(row.Name, "@"); !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
	}
	return names
}

// takes says whether a body of the media type that is asked for may have a field that its
// description does not name.
func (b *Body) takes(name string, v *document.Node, expected string) bool {
	c := b.chosen(expected)
	if c == nil || c.Schema == nil {
		return true
	}
	_, short := c.Schema.Fill(document.NewObject().Set(name, v))
	return !slices.ContainsFunc(short, func(s schema.FillError) bool {
		return s.Path == name &&
			(strings.HasPrefix(s.Message, "is unknown") || strings.HasPrefix(s.Message, "is not in the schema"))
	})
}
