package contract

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// Overview is what a contract offers, for those who look.
type Overview struct {
	Head
	Places []Table // where it is offered: services with their ports, or servers
	// Groups are operations that belong together; nil where each stands for itself.
	Groups     []Group
	Operations []Line
}

// Table is a list with a title, and cells that are under one another.
type Table struct {
	Title, About string
	Rows         [][]string
}

// Line is an operation in an overview.
type Line struct {
	Operation Operation
	Name      string
	Cells     []string // its method and path, where it has its own
	About     string
	Notes     []string // a word or two each: deprecated, not answered
}

// Outline is what is known of one operation, for those who look.
type Outline struct {
	Title    []string // the name, then how it is called
	About    string
	Sections []Section
	Notes    []string // what of its description cannot be used
}

// Section is a part of an outline: what goes in, what comes back, and the like.
type Section struct {
	Title string // empty where it goes on with the section before
	Kind  string // media types, or the name of an element
	About string
	Words string // what the whole is, where it is more than its fields
	Lines []string
	Rows  []schema.Row
}

// Rows are all fields of the outline.
func (o *Outline) Rows() []schema.Row {
	var rows []schema.Row
	for _, s := range o.Sections {
		rows = append(rows, s.Rows...)
	}
	return rows
}

// OverviewOf is what a description offers.
func OverviewOf(d Description) *Overview {
	o := &Overview{Head: *d.Head()}
	if len(o.Servers) > 0 {
		servers := Table{Title: "servers"}
		for _, server := range o.Servers {
			servers.Rows = append(servers.Rows, []string{server.Address, server.About})
		}
		o.Places = []Table{servers}
	}
	if len(o.Webhooks) > 0 {
		sent := Table{Title: "webhooks", About: "The service sends these; a step with listen: takes one."}
		for _, one := range o.Webhooks {
			sent.Rows = append(sent.Rows, []string{one.Name, one.Method, one.About})
		}
		o.Places = append(o.Places, sent)
	}
	if grouped, ok := d.(Grouped); ok {
		o.Groups = grouped.Groups()
	}
	for _, name := range d.Names() {
		if op, err := d.Operation(name); err == nil && op != nil {
			line := Line{Operation: op, Name: op.Name, Cells: []string{op.Method, op.Path}}
			line.About, _, _ = strings.Cut(op.About, "\n")
			if op.Deprecated {
				line.Notes = []string{"deprecated"}
			}
			o.Operations = append(o.Operations, line)
		}
	}
	return o
}

// placeWords head the parameters of each place.
var placeWords = map[In]string{
	InPath: "in the path", InQuery: "in the query", InHeader: "in headers",
	InInput: "of which others are made", InForm: "in the form", InCookie: "in cookies", InBody: "in the body",
}

// Outline shows the operation with its fields down to a depth; 0 shows all.
func (o *Endpoint) Outline(depth int) *Outline {
	out := &Outline{Title: []string{o.Name, strings.TrimSpace(o.Method + " " + o.Path)}, About: o.About, Notes: o.Notes}
	if o.Call != "" {
		out.Title = append(out.Title, "calls "+o.Call)
	}
	if o.Deprecated {
		out.Title = append(out.Title, "deprecated")
	}
	for _, place := range Places {
		if rows := rowsIn(o, place, depth); len(rows) > 0 {
			out.Sections = append(out.Sections, Section{Title: "fill: " + placeWords[place], Rows: rows})
		}
	}
	for _, group := range o.Needs {
		if slices.ContainsFunc(o.Apart, func(other []string) bool { return slices.Equal(group, other) }) {
			out.Sections = append(out.Sections, Section{Lines: []string{"exactly one of " + strings.Join(group, ", ")}})
			continue
		}
		out.Sections = append(out.Sections, Section{Lines: []string{"at least one of " + strings.Join(group, ", ")}})
	}
	if o.Body != nil {
		word := "fill: the body"
		if !o.Body.Required {
			word += ", which may be left out"
		}
		out.Sections = append(out.Sections, contentSection(word, o.Body.About, o.Body.Contents, depth))
	}
	for _, a := range alike(o.Answers, depth) {
		out.Sections = append(out.Sections, contentSection("answer "+a.Status, a.About, a.Contents, depth))
		for _, h := range a.Headers {
			row := h.row()
			row.Name = "header " + h.Name
			out.Sections = append(out.Sections, Section{Rows: []schema.Row{row}})
		}
	}
	for _, one := range o.Callbacks {
		out.Sections = append(out.Sections,
			Section{Title: "calls back: " + one.Name, Kind: one.Method + " " + one.Address, About: one.About})
	}
	if len(o.Security) > 0 {
		out.Sections = append(out.Sections, Section{Title: "login  " + strings.Join(o.Security, " or ")})
	}
	if built, _ := o.Build(o.SampleFields(schema.SampleOptions{}), BuildOptions{}); built.Line() != "" {
		out.Sections = append(out.Sections, Section{Title: "request line  " + built.Line()})
	}
	return out
}

// rowsIn are the parameters of a place, each with what it holds.
func rowsIn(o *Endpoint, place In, depth int) []schema.Row {
	var rows []schema.Row
	for _, p := range o.Parameters {
		if p.In != place {
			continue
		}
		rows = append(rows, p.row())
		if p.Schema != nil {
			for _, inner := range p.Schema.Outline(depth) {
				inner.Depth++
				inner.Path = schema.Below(p.Name, inner.Path)
				rows = append(rows, inner)
			}
		}
	}
	return rows
}

// row is a parameter as a line of an outline.
func (p *Parameter) row() schema.Row {
	row := schema.Row{
		Path: p.Name, Name: p.Name, Required: p.Required, Type: p.Kind,
		Default: shown(p.Default), Fixed: shown(p.Fixed), Example: shown(p.Example), About: p.About, Only: p.OneOf,
	}
	switch {
	case p.Computed != "" && p.Fixed != nil:
		row.Fixed = p.Computed
	case p.Computed != "":
		row.Default = p.Computed
	}
	if len(p.OneOf) > 0 {
		row.Type = "one of " + strings.Join(p.OneOf, ", ")
	}
	if p.Schema != nil {
		row.Type, row.Only = p.Schema.Words(), schema.OnlyOf(p.Schema)
		if d, ok := p.Schema.(interface{ DefaultText() string }); ok && d.DefaultText() != "" {
			row.Default = d.DefaultText()
		}
	}
	if p.Joined && p.Schema == nil {
		row.Type = strings.TrimPrefix(row.Type+", a list is one value", ", ")
	}
	if p.Wire != p.Name {
		row.Type = strings.TrimSuffix("sent as "+p.Wire+", "+row.Type, ", ")
	}
	if !p.Required && p.Fixed == nil {
		row.Occurs = "may be left out"
	}
	if p.Deprecated {
		row.Type = strings.TrimPrefix(row.Type+", deprecated", ", ")
	}
	return row
}

// shown is a value that a parameter has without being given one; an empty text is shown
// in quotes.
func shown(v *document.Node) string {
	switch {
	case v == nil:
		return ""
	case !v.IsScalar():
		return document.WriteJSON(v, document.Style{})
	case v.Text == "":
		return `""`
	}
	return v.Text
}

// contentSection shows the bodies that go one way.
func contentSection(title, about string, contents []Content, depth int) Section {
	s := Section{Title: title, About: about}
	var types []string
	for _, c := range contents {
		if c.Type != "" {
			types = append(types, c.Type)
		}
	}
	s.Kind = strings.Join(types, ", ")
	if at := slices.IndexFunc(contents, func(c Content) bool { return c.Schema != nil }); at >= 0 {
		s.Words, s.Rows = contents[at].Schema.Words(), contents[at].Schema.Outline(depth)
	}
	return s
}

// alike puts answers that differ only in their status together.
func alike(answers []Answer, depth int) []Answer {
	var out []Answer
	seen := map[string]int{}
	for _, a := range answers {
		key := a.About
		for _, c := range a.Contents {
			key += fmt.Sprintf("|%s %v", c.Type, contentSection("", "", []Content{c}, depth).Rows)
		}
		for _, h := range a.Headers {
			key += fmt.Sprintf("|%s %v", h.Name, h.row())
		}
		if at, has := seen[key]; has {
			out[at].Status += ", " + a.Status
			continue
		}
		seen[key] = len(out)
		out = append(out, a)
	}
	return out
}

// Form is the outline as programs read it.
func (o *Endpoint) Form(depth int) map[string]any {
	parameters := []any{}
	for _, p := range o.Parameters {
		parameters = append(parameters, map[string]any{"in": string(p.In), "field": p.row()})
	}
	bodies := func(contents []Content) map[string]any {
		all := map[string]any{}
		for _, c := range contents {
			rows := []schema.Row{}
			if c.Schema != nil {
				rows = append(rows, c.Schema.Outline(depth)...)
			}
			all[c.Type] = rows
		}
		return all
	}
	answers := []any{}
	for _, a := range o.Answers {
		answers = append(answers, map[string]any{"status": a.Status, "about": a.About, "contents": bodies(a.Contents)})
	}
	out := map[string]any{
		"name": o.Name, "method": o.Method, "path": o.Path, "about": o.About, "deprecated": o.Deprecated,
		"parameters": parameters, "answers": answers, "notes": o.Notes,
	}
	if o.Body != nil {
		out["body"] = map[string]any{"required": o.Body.Required, "contents": bodies(o.Body.Contents)}
	}
	return out
}

// FormOf is a description as programs read it.
func FormOf(d Description) map[string]any {
	head := d.Head()
	operations := []any{}
	for _, name := range d.Names() {
		if op, err := d.Operation(name); err == nil && op != nil {
			operations = append(operations, map[string]any{
				"name": op.Name, "method": op.Method, "path": op.Path, "about": op.About, "deprecated": op.Deprecated,
			})
		}
	}
	servers := []string{}
	for _, server := range head.Servers {
		servers = append(servers, server.Address)
	}
	webhooks := []any{}
	for _, one := range head.Webhooks {
		webhooks = append(webhooks, map[string]any{"name": one.Name, "method": one.Method, "about": one.About})
	}
	return map[string]any{
		"webhooks": webhooks,
		"name":     head.Title, "format": head.Format, "location": head.Location, "about": head.About,
		"servers":    servers,
		"operations": operations, "notes": append([]string{}, head.Notes...), "security": SecurityForm(head.Security),
	}
}

// SecurityForm is what a contract says of how to get in, as programs read it.
func SecurityForm(all []Security) []any {
	out := []any{}
	for _, one := range all {
		out = append(out, map[string]any{"where": one.Where, "says": one.Says, "logins": YAML(one.Logins)})
	}
	return out
}
