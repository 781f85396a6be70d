package cli

import (
	"fmt"
	"strings"

	"testbench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
)

// surveyDescription shows what a description of REST or of an ERP offers.
func (s *session) surveyDescription(source string, c *testbench.Contract, o *surveyOptions) (int, error) {
	t, head := s.tell, c.Description.Head()
	if s.common.json {
		return ExitHeld, t.json(descriptionJSON(c.Description))
	}
	dot := t.sign(" · ", " - ")
	t.printf("%s\n", t.in(bold, s.tell.visible(firstOf(head.Title, source)+dot+head.Format+dot+fromHere(head.Location))))
	if head.About != "" {
		t.printf("%s\n", s.tell.wrap(head.About, t.width, 0))
	}
	if len(head.Servers) > 0 {
		t.printf("\nservers\n")
		rows := [][]string{}
		for _, server := range head.Servers {
			rows = append(rows, []string{server.Address, server.About})
		}
		s.columns(rows, 2)
	}
	if groups := groupsOf(c.Description); groups != nil && o.find == "" {
		s.groups(source, groups)
		s.security(source, head.Security, o.logins)
		s.notes(head.Notes)
		return ExitHeld, nil
	}
	t.printf("\noperations\n")
	rows := [][]string{}
	for _, name := range c.Description.Names() {
		op, err := c.Description.Operation(name)
		if err != nil || op == nil {
			continue
		}
		if o.find != "" && !mentions(o.find, op.Name, op.About, op.Path) && len(matchingRows(describedRows(op), o.find)) == 0 {
			continue
		}
		about, _, _ := strings.Cut(op.About, "\n")
		if op.Deprecated {
			about = strings.TrimSpace("(deprecated) " + about)
		}
		rows = append(rows, []string{op.Name, op.Method, op.Path, about})
	}
	s.columns(rows, 2)
	if len(rows) == 0 {
		t.printf("  none%s\n", map[bool]string{true: " with " + o.find, false: ""}[o.find != ""])
	}
	if o.find == "" {
		s.security(source, head.Security, o.logins)
	}
	s.notes(head.Notes)
	if len(rows) > 0 && o.find == "" {
		t.note("next: testbench survey %s %s", source, rows[0][0])
	}
	return ExitHeld, nil
}

func groupsOf(d contract.Description) []contract.Group {
	if grouped, ok := d.(contract.Grouped); ok {
		return grouped.Groups()
	}
	return nil
}

// groups shows operations by what they belong to.
func (s *session) groups(source string, groups []contract.Group) {
	s.tell.printf("\noperations\n")
	rows := [][]string{}
	first := ""
	for _, g := range groups {
		words := g.Operations
		text := strings.Join(words, ", ")
		if g.About != "" {
			text = strings.TrimPrefix(text+s.tell.sign(" – ", " - ")+g.About, s.tell.sign(" – ", " - "))
		}
		rows = append(rows, []string{g.Name, text})
		if first == "" {
			first = g.Name
			if len(words) > 0 {
				first += "." + words[0]
			}
		}
	}
	s.columns(rows, 2)
	if first != "" {
		s.tell.note("next: testbench survey %s %s", source, first)
	}
}

func (s *session) notes(notes []string) {
	if len(notes) == 0 {
		return
	}
	s.tell.printf("\nnotes\n")
	for _, n := range notes {
		s.tell.printf("%s\n", s.tell.wrap(fromHere(n), s.tell.width, 2))
	}
}

// parameterRow is a parameter as a line of an outline.
func parameterRow(p contract.Parameter) schema.Row {
	row := schema.Row{Path: p.Name, Name: p.Name, Required: p.Required, Default: textOf(p.Default), Fixed: textOf(p.Fixed), About: p.About, Type: p.Kind}
	if len(p.OneOf) > 0 {
		row.Type = "one of " + strings.Join(p.OneOf, ", ")
	}
	if p.Schema != nil {
		row.Type = p.Schema.Words()
		if v := defaultOf(p.Schema); v != "" {
			row.Default = v
		}
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

// defaultOf is what a schema says is meant where a value is left out.
func defaultOf(t schema.Type) string {
	if d, ok := t.(interface{ DefaultText() string }); ok {
		return d.DefaultText()
	}
	return ""
}

// contentRows are the fields of a body.
func contentRows(contents []contract.Content, depth int) []schema.Row {
	for _, c := range contents {
		if c.Schema != nil {
			return c.Schema.Outline(depth)
		}
	}
	return nil
}

// describedRows are all fields of an operation, request and answers.
func describedRows(op *contract.Endpoint) []schema.Row {
	var rows []schema.Row
	for _, p := range op.Parameters {
		rows = append(rows, parameterRow(p))
	}
	if op.Body != nil {
		rows = append(rows, contentRows(op.Body.Contents, 0)...)
	}
	for _, a := range op.Answers {
		rows = append(rows, contentRows(a.Contents, 0)...)
	}
	return rows
}

// placeWords head the parameters of each place.
var placeWords = map[contract.In]string{contract.InPath: "in the path", contract.InQuery: "in the query", contract.InHeader: "in headers",
	contract.InForm: "in the form", contract.InCookie: "in cookies", contract.InBody: "in the body"}

// surveyDescribed shows one operation of a description.
func (s *session) surveyDescribed(source string, c *testbench.Contract, o *surveyOptions, name string) (int, error) {
	op, err := c.DescribedOperation(name)
	if err != nil {
		return 0, err
	}
	t := s.tell
	if s.common.json {
		return ExitHeld, t.json(describedJSON(op, o.depth))
	}
	dot := t.sign(" · ", " - ")
	line := op.Name + dot + strings.TrimSpace(op.Method+" "+op.Path)
	if op.Call != "" {
		line += dot + "calls " + op.Call
	}
	if op.Deprecated {
		line += dot + "deprecated"
	}
	t.printf("%s\n", t.in(bold, t.visible(line)))
	for paragraph := range strings.SplitSeq(op.About, "\n") {
		if paragraph != "" {
			t.printf("%s\n", t.wrap(paragraph, t.width, 0))
		}
	}
	for _, place := range contract.Places {
		var rows []schema.Row
		for _, p := range op.Parameters {
			if p.In != place {
				continue
			}
			row := parameterRow(p)
			rows = append(rows, row)
			if p.Schema != nil {
				for _, inner := range p.Schema.Outline(o.depth) {
					inner.Depth++
					inner.Path = schema.Below(p.Name, inner.Path)
					rows = append(rows, inner)
				}
			}
		}
		if rows = matchingRows(rows, o.find); len(rows) > 0 {
			t.printf("\nfill: %s\n", placeWords[place])
			s.rows(rows)
		}
	}
	for _, group := range op.Needs {
		t.printf("  at least one of %s\n", t.visible(strings.Join(group, ", ")))
	}
	if op.Body != nil {
		word := "fill: the body"
		if !op.Body.Required {
			word += ", which may be left out"
		}
		s.contents(word, op.Body.About, op.Body.Contents, o)
	}
	for _, a := range alike(op.Answers, o.depth) {
		s.contents("answer "+a.Status, a.About, a.Contents, o)
		for _, h := range a.Headers {
			row := parameterRow(h)
			row.Name = "header " + h.Name
			s.rows(matchingRows([]schema.Row{row}, o.find))
		}
	}
	for _, one := range op.Callbacks {
		t.printf("\ncalls back: %s  %s %s\n", t.visible(one.Name), one.Method, t.visible(one.Address))
		if one.About != "" {
			t.printf("%s\n", t.wrap(one.About, t.width, 2))
		}
	}
	if len(op.Security) > 0 {
		t.printf("\nlogin  %s\n", t.visible(strings.Join(op.Security, " or ")))
	}
	if example := exampleLine(op); example != "" && o.find == "" {
		t.printf("\nrequest line  %s\n", t.visible(example))
	}
	s.notes(op.Notes)
	t.note("next: testbench draft %s %s", source, op.Name)
	return ExitHeld, nil
}

// alike puts answers that differ only in their status together.
func alike(answers []contract.Answer, depth int) []contract.Answer {
	var out []contract.Answer
	seen := map[string]int{}
	for _, a := range answers {
		key := a.About
		for _, c := range a.Contents {
			key += fmt.Sprintf("|%s %v", c.Type, contentRows([]contract.Content{c}, depth))
		}
		for _, h := range a.Headers {
			key += fmt.Sprintf("|%s %v", h.Name, parameterRow(h))
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

// contents shows the bodies that go one way.
func (s *session) contents(title, about string, contents []contract.Content, o *surveyOptions) {
	t := s.tell
	var types []string
	for _, c := range contents {
		if c.Type != "" {
			types = append(types, c.Type)
		}
	}
	t.printf("\n%s  %s\n", t.visible(title), t.in(faint, t.visible(strings.Join(types, ", "))))
	if about != "" {
		t.printf("%s\n", t.wrap(about, t.width, 2))
	}
	for _, c := range contents {
		if c.Schema == nil {
			continue
		}
		rows := c.Schema.Outline(o.depth)
		if words := c.Schema.Words(); words != "" && o.find == "" {
			t.printf("  . %s\n", t.visible(words))
		}
		s.rows(matchingRows(rows, o.find))
		return
	}
}

// exampleLine is a request line with values that are valid.
func exampleLine(op *contract.Endpoint) string {
	built, _ := op.Build(op.SampleFields(schema.SampleOptions{}), contract.BuildOptions{})
	return built.Line()
}

// surveyJSON shows a JSON Schema alone.
func (s *session) surveyJSON(source string, c *testbench.Contract, o *surveyOptions) (int, error) {
	rows := c.JSON.Outline(o.depth)
	if s.common.json {
		return ExitHeld, s.tell.json(rowsJSON(rows))
	}
	s.tell.printf("%s\n", s.tell.in(bold, s.tell.visible(firstOf(c.JSON.Name(), fromHere(source))+s.tell.sign(" · ", " - ")+"JSON Schema")))
	if words := c.JSON.Words(); words != "" {
		s.tell.printf("  . %s\n", s.tell.visible(words))
	}
	s.rows(matchingRows(rows, o.find))
	return ExitHeld, nil
}

// JSON forms.

func descriptionJSON(d contract.Description) any {
	head := d.Head()
	var operations []any
	for _, name := range d.Names() {
		if op, err := d.Operation(name); err == nil && op != nil {
			operations = append(operations, map[string]any{"name": op.Name, "method": op.Method, "path": op.Path, "about": op.About, "deprecated": op.Deprecated})
		}
	}
	servers := []string{}
	for _, server := range head.Servers {
		servers = append(servers, server.Address)
	}
	notes := head.Notes
	if notes == nil {
		notes = []string{}
	}
	return map[string]any{"name": head.Title, "format": head.Format, "location": head.Location, "about": head.About, "servers": servers,
		"operations": operations, "notes": notes, "security": securityJSON(head.Security)}
}

func describedJSON(op *contract.Endpoint, depth int) any {
	parameters := []any{}
	for _, p := range op.Parameters {
		row := rowsJSON([]schema.Row{parameterRow(p)})[0]
		parameters = append(parameters, map[string]any{"in": string(p.In), "field": row})
	}
	out := map[string]any{"name": op.Name, "method": op.Method, "path": op.Path, "about": op.About, "deprecated": op.Deprecated, "parameters": parameters, "notes": op.Notes}
	bodies := func(contents []contract.Content) any {
		all := map[string]any{}
		for _, c := range contents {
			rows := []rowForm{}
			if c.Schema != nil {
				rows = rowsJSON(c.Schema.Outline(depth))
			}
			all[c.Type] = rows
		}
		return all
	}
	if op.Body != nil {
		out["body"] = map[string]any{"required": op.Body.Required, "contents": bodies(op.Body.Contents)}
	}
	answers := []any{}
	for _, a := range op.Answers {
		answers = append(answers, map[string]any{"status": a.Status, "about": a.About, "contents": bodies(a.Contents)})
	}
	out["answers"] = answers
	return out
}

// textOf is a value that a parameter has without being given one; an empty text is shown
// in quotes.
func textOf(v *document.Node) string {
	switch {
	case v == nil:
		return ""
	case v.Text == "":
		return `""`
	}
	return v.Text
}
