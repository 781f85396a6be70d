// Package contract models what is known of a service: its operations, their
// parameters, and what comes back, wherever that knowledge comes from: the bench
// file, where operations are described in bench.yaml, or the subpackages for contract
// formats, which fill the same model. It builds requests by it and judges
// answers by it; it sends nothing.
package contract

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// In says where a parameter is in a request.
type In string

// The places of a parameter.
const (
	InPath   In = "path"
	InQuery  In = "query"
	InHeader In = "header"
	InForm   In = "form"
	InCookie In = "cookie"
	InBody   In = "body"
	// InInput is a field that is not sent itself: others are made of it.
	InInput In = "input"
)

// MatrixFlag is the style of a flag in the path: ;name where it is true, and nothing
// else (WADL, 2.12.2).
const MatrixFlag = "matrixFlag"

// Places lists the places in the order in which a name is looked for.
var Places = []In{InInput, InPath, InQuery, InHeader, InForm, InCookie, InBody}

// Parameter is one value that an operation takes, or a header of an answer.
type Parameter struct {
	In       In
	Wire     string // the name in the request
	Name     string // the name a tester uses; the same unless said
	Required bool
	Kind     string   // integer, number, boolean, text, date, … or empty
	OneOf    []string // the allowed values; empty allows all
	// Default is sent when nothing else is, and Fixed always, empty texts too; nil for none.
	Default, Fixed *document.Node
	About          string
	Example        *document.Node // one that it may have; nil for none

	// Schema says more of the value than Kind and OneOf do; nil where nothing else is
	// known.
	Schema schema.Type
	// Style says how a list or an object is written, as OpenAPI names it (3.1.0,
	// 4.8.12): form, simple, label, matrix, spaceDelimited, pipeDelimited, deepObject,
	// and tabDelimited of 2.0; empty takes what the place has.
	Style string
	// Joined says that a list or an object is one value, not one for each part.
	Joined bool
	// Reserved lets the reserved characters of RFC 3986, 2.2 stand as they are.
	Reserved bool
	// Content is the media type in which the value is written; empty for none.
	Content    string
	Deprecated bool
	// Write writes a value as it is in the request, not yet escaped; nil takes it
	// as it is.
	Write func(v *document.Node) string
	// Computed is how a default or a fixed value is written that is known only when a call is made; "" for others.
	Computed string
}

// Content is a body of one media type.
type Content struct {
	Type   string // the media type, or a range: image/*
	Schema schema.Type
	// Parts says for fields of a form or a multipart body how each is written.
	Parts map[string]PartForm
	// Write writes a value as the media type has it: as an element, or in the JSON
	// of a protocol; nil takes it as it is.
	Write func(v *document.Node) *document.Node
	// Decode is the other way of Write, for those who answer; nil takes it as it is.
	Decode func(v *document.Node) *document.Node
	// Example is one that the contract gives; nil for none.
	Example *document.Node
}

// PartForm is how one field of a form or a multipart body is written.
type PartForm struct {
	Type    string // media type, a range, or several with commas between; empty takes what the value suggests
	Style   string
	Joined  bool
	Headers []PartHeader
}

// PartHeader is a header field of a part.
type PartHeader struct {
	Name     string
	Value    *document.Node // the one that the contract gives; nil for none
	Required bool
}

// Body is what a request carries.
type Body struct {
	Required bool
	About    string
	Contents []Content
}

// Answer is what may come back.
type Answer struct {
	Status   string // 200, 2XX, or default
	About    string
	Headers  []Parameter
	Contents []Content
}

// Callback is a request that the service itself sends.
type Callback struct {
	Name, Method, Address string // the address as an expression: {$request.body#/notify}
	About                 string
}

// Endpoint is an operation by its method, its path and its parameters: one of a contract of
// HTTP, or one that is described in bench.yaml, of SOAP too.
type Endpoint struct {
	Name       string
	Method     string // POST for SOAP
	Path       string // below the service's address, with {name} for path parameters
	Parameters []Parameter
	Needs      [][]string // of each group at least one must be given
	Apart      [][]string // of each group no two may be given
	Reads      bool       // it changes nothing
	About      string
	Deprecated bool

	Body      *Body   // nil where nothing is said of one
	Overlay   Overlay // what a bench says of its fields beyond the contract
	Answers   []Answer
	Callbacks []Callback
	Security  []string // what it asks for, each a way in of its own
	Notes     []string // what of its description cannot be used

	// Versioned says that a change asks for the version that it is meant for, in
	// If-Match (RFC 9110, 13.1.1).
	Versioned bool
	// TakesVersion says that a change may carry the version, asked for or not (OData
	// Protocol 4.01, 8.2.4): one that an answer named goes along.
	TakesVersion bool
	// DecodeAnswer turns the body of an answer into the form that paths start from; nil takes
	// it as it is.
	DecodeAnswer func(body *document.Node) *document.Node
	// EncodeAnswer is the other way of DecodeAnswer, for those who answer; nil sends it as it is.
	EncodeAnswer func(body *document.Node) *document.Node

	// Together tells what is wrong with parameters of the query beside each other, by their
	// names on the wire; given has what each is. nil says that each stands for itself.
	Together func(given map[string]*document.Node) map[string][]string
	// TakesAliases says that a name with @ before it is the alias of a value, in the query
	// (OData 4.01 Part 2, 5.1.1.14).
	TakesAliases bool

	// ItemURL is that of Facts.
	ItemURL func(list *url.URL, item *document.Node) *url.URL

	Call    string // the method that is called by name, where it is not Name
	SOAP    bool
	Action  string
	Payload string // the payload's element, as prefix:name
}

// Head is what a description says of itself.
type Head struct {
	Format   string // OpenAPI 3.1.0
	Location string
	Title    string
	About    string
	Servers  []Server
	Security []Security
	// Webhooks are requests that the service sends to whoever has told it where; their Address is empty.
	Webhooks []Callback
	// Notes tell what of the description is wrong or cannot be used.
	Notes []string
}

// Group is several operations that belong together, for those who look.
type Group struct {
	Name       string
	Operations []string // their names without that of the group
	About      string
}

// Grouped is a description whose operations come in groups.
type Grouped interface{ Groups() []Group }

// Server is an address where a service is offered.
type Server struct{ Address, About string }

// Description is a contract of any format but WSDL, which has a model of its own.
type Description interface {
	Head() *Head
	// Names lists the operations in the order of the contract.
	Names() []string
	// Operation finds one by its name; nil where there is none.
	Operation(name string) (*Endpoint, error)
}

var pathParameter = lazy.Regexp(`\{([^{}/]+)\}`)

// PathNames lists the names in braces of a path.
func PathNames(path string) []string {
	var names []string
	for _, m := range pathParameter().FindAllStringSubmatch(path, -1) {
		names = append(names, m[1])
	}
	return names
}

// FillPath puts texts, which must be escaped already, in place of the names in braces.
func FillPath(path string, with map[string]string) string {
	return pathParameter().ReplaceAllStringFunc(path, func(m string) string { return with[m[1:len(m)-1]] })
}

// Find returns the parameter that a field of a call means: by its name, or by
// place and name (query.x) where that is needed to tell two apart.
func (o *Endpoint) Find(field string) *Parameter {
	for _, p := range o.Parameters {
		if p.Name == field || string(p.In)+"."+p.Name == field {
			return &p
		}
	}
	for _, p := range o.Parameters {
		if p.Wire == field {
			return &p
		}
	}
	return nil
}

// IsOpen says whether the operation takes fields that are not described: a
// body that nobody described holds whatever is filled in.
func (o *Endpoint) IsOpen() bool {
	if o.Method == "GET" || o.Method == "HEAD" || o.Method == "DELETE" {
		return false
	}
	return o.Body == nil && !slices.ContainsFunc(o.Parameters, func(p Parameter) bool {
		return p.In == InBody || p.In == InForm
	})
}

// FieldNames lists the names of all parameters that a call may fill.
func (o *Endpoint) FieldNames() []string {
	var names []string
	for _, p := range o.Parameters {
		if p.Fixed == nil {
			names = append(names, p.Name)
		}
	}
	return names
}

// UnknownField describes a field that the operation does not have.
func (o *Endpoint) UnknownField(field string) (message, try string) {
	names := append(o.FieldNames(), bodyNamesOf(o)...)
	try = suggest.DidYouMean(field, names)
	if try == "" {
		try = "it takes no fields"
		if len(names) > 0 {
			try = "its fields are: " + strings.Join(names, ", ")
		}
	}
	return fmt.Sprintf("%s has no field %q", o.Name, field), try
}

// Missing lists what a call leaves out that it must give: names, and groups of
// which one is needed as "a, b or c".
func (o *Endpoint) Missing(given func(name string) bool) []string {
	return missingFields(o, func(p Parameter) bool { return given(p.Name) }, given, false)
}

func missingFields(o *Endpoint, has func(p Parameter) bool, given func(name string) bool, withoutBody bool) []string {
	var missing []string
	for _, p := range o.Parameters {
		if withoutBody && (p.In == InBody || p.In == InForm) {
			continue
		}
		if p.IsMandatory() && !has(p) {
			missing = append(missing, p.Name)
		}
	}
	for _, group := range o.Needs {
		if !slices.ContainsFunc(group, given) {
			missing = append(missing, strings.Join(group, " or "))
		}
	}
	return missing
}

// IsMandatory says whether a call must give the parameter.
func (p *Parameter) IsMandatory() bool { return p.Required && p.Default == nil && p.Fixed == nil }

// typed gives a value of a body the type that its kind says; what is written anywhere else
// has none.
func (p *Parameter) typed(v *document.Node) *document.Node {
	if p.In != InBody || p.Kind == "" || v.Kind != document.Untyped {
		return v
	}
	kind := document.Text
	switch word, _, _ := strings.Cut(p.Kind, " "); word {
	case "integer", "number", "decimal":
		kind = document.Number
	case "boolean":
		kind = document.Boolean
	case "list", "object":
		return v
	}
	return &document.Node{Kind: kind, Text: v.Text, Secret: v.Secret}
}

// Check holds a value against what is known of the parameter; it returns what
// is wrong with it, or "".
func (p *Parameter) Check(v *document.Node, isKind func(kind string, v *document.Node) bool) string {
	v = v.Value()
	if p.Kind != "list" {
		for _, item := range v.Items() {
			if wrong := p.Check(item, isKind); wrong != "" {
				return wrong
			}
		}
	}
	if !v.IsScalar() || v == schema.Unknown {
		return ""
	}
	if len(p.OneOf) > 0 && !slices.Contains(p.OneOf, v.Text) {
		return fmt.Sprintf("%s must be one of %s, and is %s", p.Name, strings.Join(p.OneOf, ", "), v.Describe())
	}
	// What is sent as text has no type of its own any more.
	if p.In != InBody && v.Kind == document.Text {
		v = document.NewUntyped(v.Text)
	}
	if p.Kind != "" && !isKind(p.Kind, v) {
		kind := p.Kind
		if kind != "text" {
			kind = suggest.Article(kind)
		}
		return fmt.Sprintf("%s must be %s, and is %s", p.Name, kind, v.Describe())
	}
	return ""
}
