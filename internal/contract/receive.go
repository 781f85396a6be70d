package contract

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"testbench/internal/document"
)

// Received is a request as it comes in at a service.
type Received struct {
	Path   map[string]string // the values in the path, by the names of their parameters
	Query  url.Values
	Header http.Header
	Body   []byte
	// IsKind says whether a value is of a kind of parameter.
	IsKind func(kind string, v *document.Node) bool
}

// Receive holds a request against its operation, and gathers its fields by name. What is
// wrong comes with the status that a service refuses it with: 400, or 415 for the type of
// a body that is not described (RFC 9110, 15.5.1 and 15.5.16).
func (o *Endpoint) Receive(r *Received) (fields *document.Node, wrong []string, status int) {
	fields = document.NewObject()
	for i := range o.Parameters {
		p := &o.Parameters[i]
		given, isPlace := r.given(p)
		switch {
		case !isPlace:
		case len(given) > 0:
			node := p.received(given)
			fields.Set(p.Name, node)
			wrong = append(wrong, p.wrong(node, r.IsKind)...)
		case p.IsMandatory():
			wrong = append(wrong, fmt.Sprintf("%s %s is missing", p.In, p.Wire))
		}
	}
	wrong = append(wrong, o.wrongTogether(r.Query)...)
	if len(wrong) > 0 {
		return fields, wrong, http.StatusBadRequest
	}
	wrong, status = receiveBody(o, r, fields)
	return fields, wrong, status
}

// wrongTogether is what is wrong with the parameters of a query beside each other.
func (o *Endpoint) wrongTogether(query url.Values) []string {
	if o.Together == nil {
		return nil
	}
	given := map[string]*document.Node{}
	for name, texts := range query {
		given[name] = document.NewUntyped(strings.Join(texts, ","))
	}
	found := o.Together(given)
	var wrong []string
	for _, wire := range slices.Sorted(maps.Keys(found)) {
		for _, message := range found[wire] {
			wrong = append(wrong, "query "+wire+" "+message)
		}
	}
	return wrong
}

// given are the texts that a request has for a parameter.
func (r *Received) given(p *Parameter) (given []string, isPlace bool) {
	switch p.In {
	case InPath:
		if text, ok := r.Path[p.Wire]; ok {
			given = []string{strings.Trim(text, "'")} // a key of OData is in quotes
		}
	case InQuery:
		given = r.Query[p.Wire]
	case InHeader:
		given = r.Header.Values(p.Wire)
	case InCookie:
		if c, err := (&http.Request{Header: r.Header}).Cookie(p.Wire); err == nil {
			given = []string{c.Value}
			if decoded, err := url.PathUnescape(c.Value); err == nil {
				given[0] = decoded
			}
		}
	default:
		return nil, false
	}
	return given, true
}

// received is the value of a parameter, a list where it is there several times.
func (p *Parameter) received(given []string) *document.Node {
	if len(given) == 1 && (!p.Joined || !strings.Contains(given[0], ",")) {
		return document.NewUntyped(given[0])
	}
	if len(given) == 1 {
		given = strings.Split(given[0], ",")
	}
	node := document.NewList()
	for _, one := range given {
		node.AppendItems(document.NewUntyped(one))
	}
	return node
}

func (p *Parameter) wrong(node *document.Node, isKind func(string, *document.Node) bool) []string {
	if p.Write != nil && (p.In != InPath || strings.Contains(node.Text, "'")) {
		return nil // it is in a form of its own, which is not read back
	}
	if said := p.Check(node, isKind); said != "" {
		return []string{said}
	}
	if p.Schema == nil {
		return nil
	}
	_, short := p.Schema.Fill(node)
	if len(short) > 0 && node.Kind != document.List {
		// One value may stand for a list of one.
		_, ofList := p.Schema.Fill(document.NewList(node))
		if len(ofList) == 0 {
			return nil
		}
		if strings.Contains(short[0].Message, "must be a list") {
			short = ofList
		}
	}
	var wrong []string
	for _, one := range short {
		wrong = append(wrong, strings.Join(strings.Fields(string(p.In)+" "+p.Wire+" "+one.Path+" "+one.Message), " "))
	}
	return wrong
}

func receiveBody(o *Endpoint, r *Received, fields *document.Node) (wrong []string, status int) {
	switch {
	case o.Body == nil:
		return nil, 0
	case len(r.Body) == 0 && o.Body.Required:
		return []string{"the body is missing"}, http.StatusBadRequest
	case len(r.Body) == 0:
		return nil, 0
	}
	mediaType := r.Header.Get("Content-Type")
	content := o.Body.ContentFor(mediaType)
	if content == nil && len(o.Body.Contents) > 0 {
		return []string{fmt.Sprintf("the content type %s is none that the contract has", mediaType)},
			http.StatusUnsupportedMediaType
	}
	format := document.FormatOf(mediaType, r.Body)
	read, err := document.ReadAs(format, mediaType, r.Body)
	if err != nil {
		return []string{err.Error()}, http.StatusBadRequest
	}
	if content != nil && content.Decode != nil {
		read = content.Decode(read)
	}
	if read.Kind == document.Object {
		for _, m := range read.Members() {
			fields.Set(m.Key, m.Value)
		}
	} else {
		fields.Set("body", read)
	}
	if content != nil && content.Schema != nil && (format == document.JSON || format == document.XML) {
		for _, f := range content.Schema.Check(read) {
			wrong = append(wrong, f.Text())
		}
	}
	return wrong, http.StatusBadRequest
}

// ContentFor finds what is said of a body of a media type; nil where nothing is.
func (b *Body) ContentFor(mediaType string) *Content {
	at := slices.IndexFunc(b.Contents, func(c Content) bool { return c.Type == "" || MatchesType(c.Type, mediaType) })
	if at < 0 {
		return nil
	}
	return &b.Contents[at]
}

// PathPattern matches paths of the operation, and gives the parameters' values, as they
// are escaped, in the order of the names.
func PathPattern(path string) (pattern *regexp.Regexp, names []string) {
	names = PathNames(path)
	text := regexp.QuoteMeta(strings.TrimSuffix(path, "/"))
	for _, name := range names {
		text = strings.Replace(text, regexp.QuoteMeta("{"+name+"}"), "([^/]+?)", 1)
	}
	return regexp.MustCompile(text + "/?$"), names
}
