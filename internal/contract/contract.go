// Package contract models what is known of a service: its operations and
// their parameters, wherever that knowledge comes from. For now it comes from
// the bench file, where operations are described by hand; the subpackages for
// contract formats fill the same model.
package contract

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/nearest"
)

// In says where a parameter stands in a request.
type In string

// The places of a parameter.
const (
	InPath   In = "path"
	InQuery  In = "query"
	InHeader In = "header"
	InForm   In = "form"
	InBody   In = "body"
)

// Places lists the places in the order in which a name is looked for.
var Places = []In{InPath, InQuery, InHeader, InForm, InBody}

// Parameter is one value that an operation takes.
type Parameter struct {
	In       In
	Wire     string // the name in the request
	Name     string // the name a tester uses; the same unless said
	Required bool
	Kind     string   // integer, number, boolean, text, date, … or empty
	OneOf    []string // the allowed values; empty allows all
	Default  string   // sent when nothing else is; empty for none
	Fixed    string   // always sent; empty for none
	About    string
}

// Operation is one thing that a service does.
type Operation struct {
	Name       string
	Method     string // POST for SOAP
	Path       string // below the service's address, with {name} for path parameters
	Parameters []Parameter
	Needs      [][]string // of each group at least one must be given
	Reads      bool       // it changes nothing
	About      string

	SOAP    bool
	Action  string
	Payload string // the payload's element, as prefix:name
}

var pathParameter = regexp.MustCompile(`\{([^{}/]+)\}`)

// PathNames lists the names in braces of a path.
func PathNames(path string) []string {
	var names []string
	for _, m := range pathParameter.FindAllStringSubmatch(path, -1) {
		names = append(names, m[1])
	}
	return names
}

// FillPath puts texts, which must be escaped already, in place of the names in braces.
func FillPath(path string, with map[string]string) string {
	return pathParameter.ReplaceAllStringFunc(path, func(m string) string { return with[m[1:len(m)-1]] })
}

// Find returns the parameter that a field of a call means: by its name, or by
// place and name (query.x) where that is needed to tell two apart.
func (o *Operation) Find(field string) *Parameter {
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
func (o *Operation) IsOpen() bool {
	if o.Method == "GET" || o.Method == "HEAD" || o.Method == "DELETE" {
		return false
	}
	return !slices.ContainsFunc(o.Parameters, func(p Parameter) bool { return p.In == InBody || p.In == InForm })
}

// FieldNames lists the names of all parameters that a call may fill.
func (o *Operation) FieldNames() []string {
	var names []string
	for _, p := range o.Parameters {
		if p.Fixed == "" {
			names = append(names, p.Name)
		}
	}
	return names
}

// UnknownField describes a field that the operation does not have.
func (o *Operation) UnknownField(field string) (message, try string) {
	names := o.FieldNames()
	try = nearest.Try(field, names)
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
func (o *Operation) Missing(given func(name string) bool) []string {
	var missing []string
	for _, p := range o.Parameters {
		if p.Required && p.Default == "" && p.Fixed == "" && !given(p.Name) {
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

// Check holds a value against what is known of the parameter; it returns what
// is wrong with it, or "".
func (p *Parameter) Check(v *document.Node, isKind func(kind string, v *document.Node) bool) string {
	v = v.Value()
	if !v.IsScalar() {
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
		return fmt.Sprintf("%s must be %s, and is %s", p.Name, p.Kind, v.Describe())
	}
	return ""
}
