package odata

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/schema"
	"testbench/internal/suggest"
)

// use says what a value is for.
type use uint8

const (
	forAnswer use = iota
	forCreate
	forChange
	forReplace
	forParameters // of an action: what must be there, must
)

// object is an entity, a complex value, or the parameters of an action, to those
// that use schemas.
type object struct {
	m   *model
	t   *typeDef
	use use
	// list says that it is a collection: in answers below value.
	list bool
	// marks are those of the set.
	marks marks
	// wrapper says that an answer is below value: a collection or a single value.
	wrapper bool
	single  *property
}

// Words says what the value is; an object says it by its fields.
func (o *object) Words() string {
	if o.single != nil && o.t == nil {
		return o.m.words(o.single)
	}
	return ""
}

// words are those of a property.
func (m *model) words(p *property) string {
	edm, enum, _ := m.primitive(p.typeName)
	f := m.bounds(p)
	var words []string
	switch {
	case p.navigation:
		words = append(words, local(p.typeName)+", where expanded")
	case enum != nil:
		var names []string
		for _, member := range enum.members {
			names = append(names, member.name)
		}
		word := "one of "
		if enum.flags {
			word = "some of "
		}
		words = append(words, word+suggest.FewNames(names))
	case edm != "":
		words = append(words, edmWords(edm))
	case m.find(p.typeName) == nil:
		words = append(words, p.typeName)
	}
	if f.maxLength > 0 {
		words = append(words, fmt.Sprintf("at most %d characters", f.maxLength))
	}
	if f.precision > 0 && edm == "Edm.Decimal" {
		words = append(words, fmt.Sprintf("at most %d digits", f.precision))
	}
	if f.scale > 0 {
		words = append(words, fmt.Sprintf("%d after the point", f.scale))
	}
	text := strings.Join(words, ", ")
	if p.collection {
		text = strings.TrimSpace("a list of " + text)
		if len(words) == 0 {
			text = "a list"
		}
	}
	if p.marks.unfilterable {
		text += ", cannot be filtered"
	}
	return text
}

var edmNames = map[string]string{
	"Edm.String": "text", "Edm.Boolean": "true or false", "Edm.Decimal": "decimal number", "Edm.Double": "number",
	"Edm.Single": "number",
	"Edm.Date":   "date", "Edm.DateTimeOffset": "time stamp with a zone", "Edm.DateTime": "time stamp",
	"Edm.TimeOfDay": "time", "Edm.Time": "time (PT8H)",
	"Edm.Duration": "duration", "Edm.Guid": "GUID", "Edm.Binary": "Base64", "Edm.Byte": "integer, 0 to 255",
	"Edm.SByte": "integer, -128 to 127",
	"Edm.Int16": "integer of 16 bits", "Edm.Int32": "integer", "Edm.Int64": "integer of 64 bits",
}

func edmWords(edm string) string {
	if words := edmNames[edm]; words != "" {
		return words
	}
	return strings.TrimPrefix(edm, "Edm.")
}

// words are those of a property where it is used.
func (o *object) words(p *property) string {
	words := o.m.words(p)
	if o.use != forAnswer {
		words = strings.TrimSuffix(words, ", where expanded")
	}
	return words
}

// isRequired says whether a property must be given.
func (o *object) isRequired(p *property, key []string) bool {
	switch {
	case p.navigation || p.marks.computed || p.marks.defaulted || p.fallback != "" || p.typeName == "Edm.Stream":
		return false
	case o.use == forParameters:
		return !p.nullable
	case o.use == forCreate && o.m.isAssigned(p, key):
		return slices.Contains(o.marks.notNull, p.name)
	case o.use == forCreate || o.use == forReplace:
		return !p.nullable && !p.collection && !slices.Contains(o.marks.notInsertable, p.name) &&
			(o.use == forCreate || !slices.Contains(key, p.name)) || slices.Contains(o.marks.notNull, p.name)
	}
	return o.use == forAnswer && !p.nullable
}

// isSettable says whether a request may give a property.
func (o *object) isSettable(p *property, key []string) bool {
	switch o.use {
	case forCreate:
		return !p.marks.computed && !slices.Contains(o.marks.notInsertable, p.name)
	case forChange, forReplace:
		return !p.marks.computed && !p.marks.immutable && !slices.Contains(o.marks.notUpdatable, p.name) &&
			!slices.Contains(key, p.name)
	}
	return true
}

// Outline lists the fields.
func (o *object) Outline(depth int) []schema.Row {
	var rows []schema.Row
	var open []*typeDef
	var inside func(t *typeDef, level int, path string, top bool)
	inside = func(t *typeDef, level int, path string, top bool) {
		if t == nil || depth > 0 && level >= depth || level > 12 || len(rows) > 5_000 {
			return
		}
		open = append(open, t)
		defer func() { open = open[:len(open)-1] }()
		properties, key := o.m.all(t)
		for _, p := range properties {
			if !o.isSettable(p, key) || p.navigation && o.use == forChange {
				continue
			}
			row := schema.Row{
				Depth: level, Path: schema.Below(path, p.name), Name: p.name, Type: o.words(p),
				Required: o.isRequired(p, key), Nillable: p.nullable && !p.navigation,
				Default: p.fallback, About: p.about,
			}
			if !row.Required && o.use != forAnswer {
				row.Occurs = "may be left out"
			}
			if slices.Contains(key, p.name) && top {
				row.Type += ", key"
				if o.use == forCreate && !row.Required {
					row.Type += " (the service may choose it)"
				}
			}
			inner := o.m.find(p.typeName)
			row.Again = slices.Contains(open, inner)
			rows = append(rows, row)
			// What navigation leads to is only asked for by expand, and given by deep insert.
			if inner != nil && inner.kind <= complexKind && !row.Again &&
				(!p.navigation || p.contained && o.use == forCreate || depth > level+1 && o.use == forAnswer) {
				at := row.Path
				if p.collection {
					at += "[0]"
				}
				inside(inner, level+1, at, false)
			}
		}
	}
	if o.single != nil && o.t == nil {
		return rows
	}
	path := ""
	if o.list && o.wrapper {
		path = "value[0]"
	}
	inside(o.t, 0, path, true)
	return rows
}

// Fill gives the values of a request the types that the metadata wants.
func (o *object) Fill(v *document.Node) (*document.Node, []schema.FillError) {
	f := &filler{m: o.m, o: o}
	if o.single != nil && o.t == nil {
		return f.value(o.single, v, ""), f.short
	}
	if v.Kind != document.Object {
		f.fail("", "must be an object, and is %s", v.Describe())
		return v, f.short
	}
	return f.object(o.t, v, "", nil), f.short
}

type filler struct {
	m     *model
	o     *object
	short []schema.FillError
}

func (f *filler) fail(path, format string, args ...any) {
	f.short = append(f.short, schema.FillError{Path: path, Message: fmt.Sprintf(format, args...)})
}

// object gives the members of an object their types; from leads to it, and is nil
// at the top.
func (f *filler) object(t *typeDef, v *document.Node, path string, from *property) *document.Node {
	top := from == nil
	if t == nil || v == schema.Unknown {
		return v
	}
	if v.Kind != document.Object {
		f.fail(path, "must be an object, and is %s", v.Describe())
		return v
	}
	// A derived type is named by @odata.type (OData JSON 4.01, 4.6.3).
	if said := v.Get("@odata.type"); said != nil {
		if derived := f.m.find(strings.TrimPrefix(said.Text, "#")); derived != nil {
			t = derived
		}
	}
	out := &document.Node{Kind: document.Object, Secret: v.Secret}
	properties, key := f.m.all(t)
	given := map[string]bool{}
	for _, m := range v.Members() {
		below := schema.Below(path, m.Key)
		name, control, isControl := strings.Cut(m.Key, "@")
		if isControl {
			if control == "odata.bind" || control == "bind" {
				given[name] = true
			}
			member := m.Value
			if member.Kind == document.Untyped {
				member = document.NewText(member.Text)
			}
			out.AppendMembers(document.Member{Key: m.Key, Value: member})
			continue
		}
		given[m.Key] = true
		p := f.m.property(t, m.Key)
		switch {
		case p == nil && !f.m.isOpen(t):
			f.unknown(below, m.Key, t)
			out.AppendMembers(m)
		case p == nil:
			out.AppendMembers(m)
		default:
			if top && !f.o.isSettable(p, key) || !top && p.marks.computed {
				f.fail(below, "is set by the service%s",
					map[bool]string{true: ", or cannot be changed", false: ""}[f.o.use != forCreate])
			}
			out.AppendMembers(document.Member{Key: m.Key, Value: f.value(p, m.Value, below)})
		}
	}
	inner := *f.o
	if !top && inner.use == forChange {
		return out
	}
	if !top {
		inner.marks = marks{}
	}
	for _, p := range properties {
		if inner.isRequired(p, key) && !given[p.name] {
			if !top && slices.Contains(f.m.fromParent(t, from), p.name) {
				continue
			}
			f.fail(schema.Below(path, p.name), "is missing")
		}
	}
	return out
}

// fromParent lists the properties that hold the key of what an entity is created
// together with (OData Protocol 4.01, 11.4.2.2): they are known when it is there.
func (m *model) fromParent(t *typeDef, from *property) []string {
	if !from.navigation {
		return nil
	}
	if back := m.property(t, from.partner); back != nil {
		return back.dependents
	}
	return from.fromHere
}

func (f *filler) unknown(path, name string, t *typeDef) {
	names := f.m.propertyNames(t)
	try := suggest.DidYouMean(name, names)
	if try == "" {
		try = local(t.name) + " has: " + suggest.FewNames(names)
	}
	f.fail(path, "is unknown; %s", try)
}

func (f *filler) value(p *property, v *document.Node, path string) *document.Node {
	if v == schema.Unknown {
		return v
	}
	if v.Kind == document.Null {
		if !p.nullable && !p.navigation {
			f.fail(path, "cannot be null")
		}
		return v
	}
	if p.collection {
		if v.Kind != document.List {
			f.fail(path, "must be a list, and is %s", v.Describe())
			return v
		}
		list := &document.Node{Kind: document.List, Secret: v.Secret}
		one := *p
		one.collection, one.nullable = false, false
		for i, item := range v.Items() {
			list.AppendItems(f.value(&one, item, path+"["+strconv.Itoa(i)+"]"))
		}
		return list
	}
	if t := f.m.find(p.typeName); t != nil && t.kind <= complexKind {
		return f.object(t, v, path, p)
	}
	if !v.IsScalar() {
		if !strings.HasPrefix(p.typeName, "Edm.Geo") && p.typeName != "Edm.Untyped" {
			f.fail(path, "must be a single value, and is %s", v.Describe())
		}
		return v
	}
	v = f.m.typed(p.typeName, v)
	if wrong := f.m.wrong(p, v); wrong != "" {
		f.fail(path, "%s", wrong)
	}
	return v
}

// typed gives a scalar the JSON type of its Edm type.
func (m *model) typed(typeName string, v *document.Node) *document.Node {
	if v.Kind != document.Untyped {
		return v
	}
	edm, _, _ := m.primitive(typeName)
	kind := document.Text
	switch {
	case isNumeric(edm) && document.IsNumber(v.Text):
		kind = document.Number
	case edm == "Edm.Boolean" && (v.Text == "true" || v.Text == "false"):
		kind = document.Boolean
	case edm == "" && m.find(typeName) == nil || edm == "Edm.Untyped":
		return v
	}
	return &document.Node{Kind: kind, Text: v.Text, Secret: v.Secret}
}

// Check holds an answer against the metadata.
func (o *object) Check(v *document.Node) []schema.Fault {
	c := &checker{m: o.m, named: selectedBy(v)}
	if o.wrapper {
		value := v.Get("value")
		switch {
		case v.Kind != document.Object || value == nil:
			c.fail(v, "", "has no member value, which holds what was asked for")
		case o.list && value.Kind != document.List:
			c.fail(value, "value", "must be a list, and is %s", value.Describe())
		case o.list && o.t != nil:
			for i, item := range value.Items() {
				c.object(o.t, item, "value["+strconv.Itoa(i)+"]")
			}
		case o.single != nil:
			c.value(o.single, value, "value")
		}
		return c.faults
	}
	if o.t != nil {
		c.object(o.t, v, "")
	} else if o.single != nil {
		c.value(o.single, v, "")
	}
	return c.faults
}

type checker struct {
	m      *model
	named  map[string]bool // what the answer itself says that there is, beyond the metadata
	faults []schema.Fault
}

// nameForm is a simple identifier (OData ABNF 4.01, odataIdentifier).
var nameForm = lazy.Regexp(`[\pL_][\pL\pN_]*`)

// selectedBy are the names in the select list of an answer's context URL: what was selected,
// with the values that $compute and $apply made (OData 4.01 Part 1, 10.7 and 10.8; Data
// Aggregation 4.0, 3.4). nil where it has none.
func selectedBy(v *document.Node) map[string]bool {
	context := v.Get("@odata.context")
	if context == nil {
		context = v.Get("@context")
	}
	if context == nil {
		return nil
	}
	_, fragment, _ := strings.Cut(context.Text, "#")
	_, list, _ := strings.Cut(strings.TrimSuffix(fragment, "/$entity"), "(")
	if !strings.HasSuffix(list, ")") {
		return nil
	}
	named := map[string]bool{}
	for _, name := range nameForm().FindAllString(list, -1) {
		named[name] = true
	}
	return named
}

func (c *checker) fail(at *document.Node, path, format string, args ...any) {
	f := schema.Fault{Path: path, Message: strings.TrimSpace(path + " " + fmt.Sprintf(format, args...))}
	if at != nil {
		f.Line, f.Column = int(at.Line), int(at.Column)
	}
	c.faults = append(c.faults, f)
}

func (c *checker) object(t *typeDef, v *document.Node, path string) {
	if t == nil || v.Kind == document.Null {
		return
	}
	if v.Kind != document.Object {
		c.fail(v, path, "must be an object, and is %s", v.Describe())
		return
	}
	for _, key := range []string{"@odata.type", "@type"} {
		if said := v.Get(key); said != nil {
			derived := c.m.find(strings.TrimPrefix(said.Text[strings.LastIndexByte(said.Text, '#')+1:], "#"))
			if derived != nil && !c.m.isDerived(derived, t.name) {
				c.fail(said, schema.Below(path, key), "says %s, which is not a %s", local(derived.name), local(t.name))
			} else if derived != nil {
				t = derived
			}
		}
	}
	for _, m := range v.Members() {
		if strings.Contains(m.Key, "@") {
			continue // control information (OData JSON 4.01, 4.6)
		}
		below := schema.Below(path, m.Key)
		p := c.m.property(t, m.Key)
		if p == nil {
			if !c.m.isOpen(t) && !c.named[m.Key] {
				c.fail(m.Value, below, "is not in the metadata of %s", local(t.name))
			}
			continue
		}
		c.value(p, m.Value, below)
	}
}

func (c *checker) value(p *property, v *document.Node, path string) {
	switch t := c.m.find(p.typeName); {
	case v.Kind == document.Null:
		if !p.nullable && !p.navigation || p.collection {
			c.fail(v, path, "is null, and cannot be")
		}
	case p.collection:
		if v.Kind != document.List {
			c.fail(v, path, "must be a list, and is %s", v.Describe())
			return
		}
		one := *p
		one.collection = false
		for i, item := range v.Items() {
			c.value(&one, item, path+"["+strconv.Itoa(i)+"]")
		}
	case t != nil && t.kind <= complexKind:
		c.object(t, v, path)
	case !v.IsScalar():
		if !strings.HasPrefix(p.typeName, "Edm.Geo") && p.typeName != "Edm.Untyped" && p.typeName != "Edm.Stream" {
			c.fail(v, path, "must be a single value, and is %s", v.Describe())
		}
	default:
		if wrong := c.m.wrong(p, v); wrong != "" {
			c.fail(v, path, "%s", wrong)
		}
	}
}

// edmSamples are values of the Edm types.
var edmSamples = map[string]*document.Node{
	"Edm.Boolean": document.NewBoolean(true), "Edm.Date": document.NewText("2026-11-23"),
	"Edm.DateTimeOffset": document.NewText("2026-11-23T08:00:00Z"),
	"Edm.DateTime":       document.NewText("2026-11-23T08:00:00"), "Edm.TimeOfDay": document.NewText("08:00:00"),
	"Edm.Time":     document.NewText("PT8H"),
	"Edm.Duration": document.NewText("P1D"), "Edm.Guid": document.NewText("3f2c1a90-6b7d-4e58-9c01-2d3e4f506172"),
	"Edm.Binary": document.NewText("aG9uZXk="),
}

func (m *model) sample(p *property) *document.Node {
	edm, enum, _ := m.primitive(p.typeName)
	f := m.bounds(p)
	switch {
	case enum != nil && len(enum.members) > 0:
		return document.NewText(enum.members[0].name)
	case p.fallback != "":
		return m.typed(p.typeName, document.NewUntyped(p.fallback))
	case isNumeric(edm):
		return document.NewNumber("1")
	case edmSamples[edm] != nil:
		return edmSamples[edm].Copy()
	}
	text := "text"
	if f.maxLength > 0 && f.maxLength < len(text) {
		text = text[:f.maxLength]
	}
	return document.NewText(text)
}

// Sample makes a value with what must be given, or all.
func (o *object) Sample(options schema.SampleOptions) *schema.Sample {
	s := &schema.Sample{Remarks: map[*document.Node]string{}}
	var open []*typeDef
	parts := 0
	var made func(t *typeDef, top bool) *document.Node
	made = func(t *typeDef, top bool) *document.Node {
		open = append(open, t)
		defer func() { open = open[:len(open)-1] }()
		v := document.NewObject()
		properties, key := o.m.all(t)
		for _, p := range properties {
			required := o.isRequired(p, key)
			inner := o.m.find(p.typeName)
			deep := inner != nil && inner.kind <= complexKind
			if !o.isSettable(p, key) || p.marks.computed && o.use != forAnswer || !required && !options.Optional ||
				p.navigation && !(p.contained && o.use == forCreate) ||
				deep && (slices.Contains(open, inner) || inner.abstract) || p.typeName == "Edm.Stream" ||
				strings.HasPrefix(p.typeName, "Edm.Geo") {
				continue
			}
			if parts++; parts > schema.MostParts {
				s.TooLarge = true
				return v
			}
			value := o.m.sample(p)
			if deep {
				value = made(inner, false)
			}
			if p.collection {
				value = document.NewList(value)
			}
			words := o.words(p)
			if !required {
				words = strings.TrimSuffix("may be left out; "+words, "; ")
			}
			s.Remarks[value] = words
			v.Set(p.name, value)
		}
		return v
	}
	switch {
	case o.t == nil && o.single != nil:
		s.Root = o.m.sample(o.single)
	case o.t != nil:
		s.Root = made(o.t, true)
	default:
		s.Root = document.NewObject()
	}
	if o.wrapper {
		value := s.Root
		if o.list {
			value = document.NewList(value)
		}
		s.Root = document.NewObject().Set("value", value)
	}
	return s
}
