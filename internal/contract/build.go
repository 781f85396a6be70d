package contract

import (
	"fmt"
	"maps"
	"mime"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// BuildOptions say how a request is built.
type BuildOptions struct {
	// Type is the media type that the tester asks for; empty takes the first that the
	// operation describes.
	Type string
	// Body says what the body is where the fields are not it: body, text, bytes, form, as
	// the tester gives it; empty where the fields make it. What is given as a form goes
	// with the fields of one.
	Body string
	// Elsewhere says that a parameter is given outside of the fields; nil says none is.
	Elsewhere func(p Parameter) bool
	// HasBlock says that a header block of a name is given outside of the fields; nil says none is.
	HasBlock func(local string) bool
	// Template makes the body of what the fields put there; nil leaves it as it is.
	Template func(body *document.Node) (*document.Node, error)
	// Prefixes are those of XML that names of fields may have; Attached gives what is in
	// a payload for an attachment of the name, nil for what is none.
	Prefixes map[string]string
	Attached func(name string) *document.Node
	// IsKind says whether a value is of a kind that rules know.
	IsKind func(kind string, v *document.Node) bool
}

// Request is a request as an operation has it, below the service's address.
type Request struct {
	Method  string
	Path    string // escaped
	Query   []Pair
	Headers []Pair
	Cookies []Pair
	// Of Body, Form and Parts at most one is set.
	Type  string         // the media type of the body; empty where nothing is said of it
	Body  *document.Node // JSON, XML (an Element), or a text
	Form  []Pair
	Parts []Part
	// Accept are the media types that may come back.
	Accept []string
	// Envelope is what goes around the body; nil where the request is not SOAP.
	Envelope *Envelope
	Notes    []string // what is unusual and not wrong
}

// Part is one part of a multipart body.
type Part struct {
	Name, Type string
	Value      *document.Node
	IsFile     bool
	Headers    []Pair
}

// Problem is something wrong with the fields of a call.
type Problem struct {
	Field   string // as it was given; empty where none was
	OfValue bool   // its value is wrong, and not its name
	Missing string // what is not given and must be; then Message says the same
	Message string
	Try     string
}

func (p Problem) String() string {
	if p.Try == "" {
		return p.Message
	}
	return p.Message + "; " + p.Try
}

// Build makes the request of a call from its fields, and tells what is wrong with
// them. A field is found by its name, or by place and name (query.x) where two
// have the same.
func (o *Endpoint) Build(fields *document.Node, options BuildOptions) (*Request, []Problem) {
	b := &builder{
		op: o, options: options, given: map[string]*document.Node{}, as: map[string]string{},
		aliases: map[string]*document.Node{}, body: document.NewObject(),
	}
	for _, m := range fields.Undotted(namesIn(o)).Members() {
		b.field(m.Key, m.Value)
	}
	b.parameters()
	b.together()
	withoutBody := options.Body != "" && !(options.Body == "form" && takesForm(o, options.Type))
	if withoutBody {
		b.dropped()
	} else {
		b.overlay()
		b.content()
	}
	for _, name := range missingFields(o, func(p Parameter) bool { return b.has(p) }, func(name string) bool {
		return b.isGiven(name)
	}, withoutBody) {
		b.problems = append(b.problems, Problem{Missing: name, Message: name + " is missing"})
	}
	for _, group := range o.Apart {
		given := slices.DeleteFunc(slices.Clone(group), func(name string) bool { return !b.isGiven(name) })
		if len(given) > 1 {
			b.fail(given[1], false, "", "give only one of %s", strings.Join(given, ", "))
		}
	}
	b.request.Method = o.Method
	b.request.Path = FillPath(o.Path, b.path)
	b.request.Accept = acceptOf(o)
	if o.SOAP {
		b.request.Envelope = &Envelope{Action: o.Action, Element: o.Payload}
	}
	if !withoutBody {
		b.finishBody()
	}
	return &b.request, b.problems
}

// together tells what is wrong with the parameters of the query beside each other.
func (b *builder) together() {
	if b.op.Together == nil {
		return
	}
	given := maps.Clone(b.aliases)
	for _, p := range b.op.Parameters {
		if v := b.given[key(p)]; v != nil && p.In == InQuery {
			given[p.Wire] = v
		}
	}
	wrong := b.op.Together(given)
	for _, wire := range slices.Sorted(maps.Keys(wrong)) {
		p := Parameter{In: InQuery, Wire: wire, Name: wire}
		if known := slices.IndexFunc(b.op.Parameters, func(p Parameter) bool {
			return p.In == InQuery && p.Wire == wire
		}); known >= 0 {
			p = b.op.Parameters[known]
		}
		if given[wire] == nil && b.has(p) {
			continue // it is given outside of the fields
		}
		for _, message := range wrong[wire] {
			b.fail(b.as[key(p)], given[wire] != nil, "", "%s %s", p.Name, message)
		}
	}
}

// acceptOf are the media types of the answers.
func acceptOf(o *Endpoint) []string {
	var types []string
	for _, a := range o.Answers {
		for _, c := range a.Contents {
			if c.Type != "" && !slices.Contains(types, c.Type) {
				types = append(types, c.Type)
			}
		}
	}
	return types
}

// finishBody makes the body by the template, and an empty one where an envelope wants it.
func (b *builder) finishBody() {
	body := b.request.Body
	if body == nil && (b.options.Template != nil || b.op.SOAP) {
		body = document.NewObject()
	}
	if b.options.Template != nil {
		made, err := b.options.Template(body)
		if err != nil {
			b.problems = append(b.problems, Problem{Message: fmt.Sprintf("the template of %s: %v", b.op.Name, err)})
		}
		body = made
	}
	b.request.Body = body
}

// namesIn lists those of all fields.
func namesIn(o *Endpoint) []string {
	names := bodyNamesOf(o)
	for _, p := range o.Parameters {
		names = append(names, p.Name, p.Wire)
	}
	return names
}

// takesForm says whether the body of an operation is a form.
func takesForm(o *Endpoint, expected string) bool {
	if c := o.Body.chosen(expected); c != nil {
		mediaType, _, _ := mime.ParseMediaType(c.Type)
		return mediaType == "application/x-www-form-urlencoded"
	}
	return o.Body == nil && slices.ContainsFunc(o.Parameters, func(p Parameter) bool { return p.In == InForm })
}

// dropped tells of fields of the body, which have no effect where it comes from elsewhere.
func (b *builder) dropped() {
	names := b.body.Names()
	if b.whole != nil {
		names = append(names, "body")
	}
	for _, p := range b.op.Parameters {
		if p.In == InForm && b.given[key(p)] != nil {
			names = append(names, p.Name)
		}
	}
	for _, name := range names {
		p := b.op.Find(name)
		if p != nil && b.given[key(*p)] == nil {
			continue // a default of the operation
		}
		b.fail(name, false, "keep one of them", "%s is a field of the body, and has no effect beside %s:", name,
			b.options.Body)
	}
}

func key(p Parameter) string { return string(p.In) + " " + p.Name }

type builder struct {
	op       *Endpoint
	options  BuildOptions
	given    map[string]*document.Node // by place and name
	as       map[string]string         // how the field was written, by the same
	aliases  map[string]*document.Node // values by the names that options have for them
	body     *document.Node
	whole    *document.Node // the body as one value
	path     map[string]string
	request  Request
	problems []Problem
}

func (b *builder) has(p Parameter) bool {
	return b.given[key(p)] != nil || b.options.Elsewhere != nil && b.options.Elsewhere(p)
}

func (b *builder) isGiven(name string) bool {
	for _, p := range b.op.Parameters {
		if p.Name == name && b.has(p) {
			return true
		}
	}
	return b.body.Get(name) != nil
}

func (b *builder) fail(field string, ofValue bool, try, format string, args ...any) {
	b.problems = append(b.problems,
		Problem{Field: field, OfValue: ofValue, Try: try, Message: fmt.Sprintf(format, args...)})
}

// field finds what a field means.
func (b *builder) field(name string, v *document.Node) {
	place, rest, qualified := strings.Cut(name, ".")
	if !qualified && v.Kind == document.Object && slices.Contains(Places, In(name)) && b.op.Find(name) == nil &&
		!slices.Contains(bodyNamesOf(b.op), name) {
		for _, m := range v.Members() {
			b.inPlace(In(name), m.Key, name+"."+m.Key, m.Value)
		}
		return
	}
	if qualified && slices.Contains(Places, In(place)) && b.op.Find(place) == nil &&
		!slices.Contains(bodyNamesOf(b.op), place) {
		b.inPlace(In(place), rest, name, v)
		return
	}
	if name == "body" && b.op.Body != nil && !slices.Contains(bodyNamesOf(b.op), "body") && b.op.Find("body") == nil {
		b.whole = v
		return
	}
	var found []Parameter
	for _, p := range b.op.Parameters {
		if p.Name == name {
			found = append(found, p)
		}
	}
	inBody := b.op.Body != nil && slices.Contains(bodyNamesOf(b.op), name)
	switch {
	case len(found) == 1 && !inBody:
		b.take(found[0], name, v)
	case len(found) > 0:
		var ways []string
		for _, p := range found {
			ways = append(ways, string(p.In)+"."+name)
		}
		if inBody {
			ways = append(ways, "body."+name)
		}
		b.fail(name, false, "write "+strings.Join(ways, " or "), "%s has %q in several places", b.op.Name, name)
	case inBody:
		b.body.AppendMembers(document.Member{Key: name, Value: v})
	default:
		if p := b.op.Find(name); p != nil {
			b.take(*p, name, v)
			return
		}
		// What is before the first dot may be the parameter.
		if p := b.op.Find(place); qualified && p != nil && v.IsScalar() {
			b.take(*p, name, v)
			return
		}
		b.unknown(name, v)
	}
}

func (b *builder) unknown(name string, v *document.Node) {
	if b.op.TakesAliases && strings.HasPrefix(name, "@") {
		if v != schema.Unknown && !v.IsScalar() { // OData 4.01 Part 2, 5.1.1.14: complex values and lists go as JSON
			v = &document.Node{Kind: document.Text, Text: document.WriteJSON(v, document.Style{}), Secret: hasSecret(v)}
		}
		b.aliases[name] = v
		if v != schema.Unknown {
			b.request.Query = append(b.request.Query, Pair{Name: name, Value: v})
		}
		return
	}
	if b.op.IsOpen() || b.op.Body != nil && b.op.Body.takes(name, v, b.options.Type) {
		// A name that is nearly one of the parameters' was most likely meant to be it.
		near := suggest.Closest(name, b.op.FieldNames())
		if b.op.Body == nil || near == "" || b.isGiven(near) {
			b.body.AppendMembers(document.Member{Key: name, Value: v})
			return
		}
	}
	message, try := b.op.UnknownField(name)
	b.fail(name, false, try, "%s", message)
	if b.op.Body == nil {
		b.body.AppendMembers(document.Member{Key: name, Value: v})
	}
}

func (b *builder) inPlace(place In, name, written string, v *document.Node) {
	for _, p := range b.op.Parameters {
		if p.In == place && (p.Name == name || p.Wire == name) {
			b.take(p, written, v)
			return
		}
	}
	switch place {
	case InBody:
		b.body.AppendMembers(document.Member{Key: name, Value: v})
		return
	case InForm:
		if b.op.Body != nil {
			b.body.AppendMembers(document.Member{Key: name, Value: v})
			return
		}
	}
	var names []string
	for _, p := range b.op.Parameters {
		if p.In == place {
			names = append(names, p.Name)
		}
	}
	try := suggest.DidYouMean(name, names)
	if try == "" {
		try = "there are: " + strings.Join(names, ", ")
	}
	if len(names) == 0 {
		try = "-in " + written + "=… sends it all the same"
	}
	b.fail(written, false, try, "%s has no field %q in the %s", b.op.Name, name, place)
}

// take holds a value against its parameter.
func (b *builder) take(p Parameter, written string, v *document.Node) {
	if p.Fixed != nil {
		b.fail(written, false, "take it out", "%s is always %q and cannot be filled", p.Name, p.Fixed.Text)
		return
	}
	if p.Schema != nil {
		filled, short := fillParameter(p, v)
		for _, s := range short {
			path := p.Name
			if s.Path != "" {
				path = schema.Below(p.Name, s.Path)
			}
			b.fail(written, true, "", "%s %s", path, s.Message)
		}
		v = filled
	}
	if b.options.IsKind != nil {
		if wrong := p.Check(v, b.options.IsKind); wrong != "" {
			b.fail(written, true, "", "%s", wrong)
		}
	}
	b.given[key(p)], b.as[key(p)] = v, written
}

// fillParameter gives a value its type. What a list takes may be given alone.
func fillParameter(p Parameter, v *document.Node) (*document.Node, []schema.FillError) {
	if v == schema.Unknown {
		return v, nil
	}
	if v.IsScalar() && p.In != InBody && v.Kind == document.Text {
		// What is sent as text has no type of its own any more.
		v = &document.Node{Kind: document.Untyped, Text: v.Text, Secret: v.Secret}
	}
	filled, short := p.Schema.Fill(v)
	if len(short) > 0 && v.IsScalar() {
		list, ofList := p.Schema.Fill(document.NewList(v))
		for i, s := range ofList {
			inner, isItem := strings.CutPrefix(s.Path, "[0]")
			if !isItem {
				return filled, short
			}
			ofList[i].Path = inner
		}
		return list, ofList
	}
	return filled, short
}

// parameters puts what was given where it is.
func (b *builder) parameters() {
	b.path = map[string]string{}
	for _, p := range b.op.Parameters {
		v := b.given[key(p)]
		switch {
		case p.Fixed != nil:
			v = p.Fixed
		case v == nil && p.Default != nil:
			v = p.Default
		}
		if v == nil || v == schema.Unknown {
			continue
		}
		v = p.typed(v)
		if p.Write != nil {
			v = &document.Node{Kind: document.Untyped, Text: p.Write(v.Value()), Secret: hasSecret(v)}
		}
		switch p.In {
		case InPath:
			if p.Style == MatrixFlag && v.Text != "true" && v.Text != "1" {
				continue
			}
			if text := p.inPath(v); text != "" {
				b.path[p.Wire] = text
			} else {
				b.fail(p.Name, true, "", "%s: a part of the path cannot be %s", p.Name, v.Describe())
			}
		case InQuery:
			b.request.Query = append(b.request.Query, p.pairs(v)...)
		case InHeader:
			b.request.Headers = append(b.request.Headers, Pair{Name: p.Wire, Value: p.inHeader(v)})
		case InCookie:
			for _, pair := range p.pairs(v) {
				if !pair.Raw {
					pair.Raw = true
					pair.Value = &document.Node{
						Kind: document.Untyped, Text: cookieText(pair.Value.Text), Secret: pair.Value.Secret,
					}
				}
				b.request.Cookies = append(b.request.Cookies, pair)
			}
		case InInput: // others are made of it
		case InForm:
			b.request.Form = append(b.request.Form, p.pairs(v)...)
		default:
			b.body.AppendMembers(document.Member{Key: p.Wire, Value: v})
		}
	}
}
