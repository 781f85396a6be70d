package wsdl

import (
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
	"testbench/internal/yamlfile"
)

// Overview is what the contract offers, for those who look.
func (c *Contract) Overview() *contract.Overview {
	o := &contract.Overview{Head: *c.Head()}
	for _, service := range c.Services {
		t := contract.Table{Title: "service " + service.Name, About: service.Documentation}
		for _, p := range service.Ports {
			t.Rows = append(t.Rows, []string{p.Name, string(p.Binding.Protocol), p.Binding.Style, p.Address})
			if p.Security != nil {
				o.Security = append(o.Security, *p.Security)
			}
		}
		o.Places = append(o.Places, t)
	}
	for _, t := range c.PortTypes {
		one := contract.Table{Title: "port type " + t.Name.Local, About: t.Documentation}
		for _, op := range t.Operations {
			one.Rows = append(one.Rows, []string{op.Name, op.Documentation})
		}
		o.Places = append(o.Places, one)
	}
	for _, op := range c.Operations() {
		line := contract.Line{Operation: c.anywhere(op), Name: op.Name, About: op.Documentation}
		if op.Unusable != nil {
			line.Notes = append(line.Notes, "cannot be used")
		}
		if op.Output == nil {
			line.Notes = append(line.Notes, "not answered")
		}
		o.Operations = append(o.Operations, line)
	}
	for _, note := range c.Notes() {
		o.Notes = append(o.Notes, note.String())
	}
	return o
}

// anywhere binds an operation at the first port that has it.
func (c *Contract) anywhere(op *Operation) *Bound {
	for _, service := range c.Services {
		for _, p := range service.Ports {
			if slices.Contains(p.Binding.Operations, op) {
				return &Bound{Contract: c, Port: p, Operation: op, Version: p.Binding.Protocol.Version()}
			}
		}
	}
	return &Bound{
		Contract: c, Port: &Port{Binding: &Binding{Protocol: Other}},
		Operation: op,
	} // a binding that no port has
}

// Form is the contract as programs read it.
func (c *Contract) Form() map[string]any {
	o := c.Overview()
	services, operations := []any{}, []any{}
	for _, service := range c.Services {
		ports := []any{}
		for _, p := range service.Ports {
			ports = append(ports, map[string]string{
				"name": p.Name, "protocol": string(p.Binding.Protocol), "style": p.Binding.Style, "address": p.Address,
			})
		}
		services = append(services, map[string]any{"name": service.Name, "ports": ports})
	}
	for _, op := range c.Operations() {
		one := map[string]any{
			"name": op.Name, "about": op.Documentation, "action": op.Action, "answered": op.Output != nil,
		}
		if op.Unusable != nil {
			one["unusable"] = op.Unusable.String()
		}
		operations = append(operations, one)
	}
	return map[string]any{
		"name": o.Title, "location": o.Location, "about": o.About, "services": services, "operations": operations,
		"notes": append([]string{}, o.Notes...), "security": contract.SecurityForm(o.Security),
	}
}

// Outline shows the operation with its fields down to a depth; 0 shows all.
func (b *Bound) Outline(depth int) *contract.Outline {
	op := b.Operation
	out := &contract.Outline{
		Title: []string{op.Name, string(b.Port.Binding.Protocol), op.Style},
		About: op.Documentation,
	}
	if b.About != "" {
		out.About = b.About
	}
	if op.Input != nil && op.Input.Encoded {
		out.Title[2] += ", encoded"
	}
	if op.Action != "" {
		out.Title = append(out.Title, "action "+op.Action)
	}
	out.Sections = b.sections("fill", op.Input, depth)
	for i := range out.Sections {
		out.Sections[i].Rows = b.Overlay.Rows(out.Sections[i].Rows)
	}
	out.Sections = append(out.Sections, b.sections("answer", op.Output, depth)...)
	for _, f := range op.Faults {
		s := contract.Section{Title: "fault " + f.Name, About: f.Documentation}
		if f.Detail != nil {
			s.Rows = instance.Outline(b.Contract.Schema, f.Detail, depth)
		}
		out.Sections = append(out.Sections, s)
	}
	return out
}

// sections show a message: its header blocks, its payload and what is attached.
func (b *Bound) sections(title string, m *Message, depth int) []contract.Section {
	if m == nil {
		return []contract.Section{{Title: title, Lines: []string{"nothing"}}}
	}
	outline := func(e *xsd.Element) []schema.Row {
		rows := instance.Outline(b.Contract.Schema, e, depth)
		if m.Encoded { // they tell how values are written, and are none
			rows = slices.DeleteFunc(rows, func(r schema.Row) bool { return r.Name == "@id" || r.Name == "@href" })
		}
		return rows
	}
	var out []contract.Section
	for _, h := range m.Headers {
		rows := instance.OutlineBlock(b.Contract.Schema, h.Element, depth)
		if !h.Required {
			rows[0].Occurs, rows[0].Required = "may be left out", false
		}
		out = append(out, contract.Section{Title: title + ": a header block", Kind: h.Element.Name.Full(), Rows: rows})
		for _, f := range h.Faults {
			out = append(out, contract.Section{
				Lines: []string{f.Name.Full() + ", where that is at fault"},
				Rows:  outline(f),
			})
		}
	}
	for _, e := range m.Payload {
		s := contract.Section{Title: title, Kind: e.Name.Full(), Rows: outline(e)}
		if simple, ok := e.Type.(*xsd.SimpleType); ok {
			s.Words = simple.FacetWords()
		} else if e.Type == xsd.Type(xsd.AnyType()) {
			s.Words = "anything: the contract does not say what it holds"
		} else if len(s.Rows) == 0 {
			s.Lines = []string{"no fields"}
		}
		out = append(out, s)
	}
	if len(m.Payload) == 0 {
		out = append(out, contract.Section{Title: title, Lines: []string{"an empty Body"}})
	}
	for _, a := range m.Attachments {
		out = append(out, contract.Section{Lines: []string{"attachment " + a.Part + "  " + strings.Join(a.Types,
			", ")}})
	}
	return out
}

// Form is the outline as programs read it.
func (b *Bound) Form(depth int) map[string]any {
	op := b.Operation
	out := map[string]any{
		"name": op.Name, "port": b.Port.Name, "protocol": string(b.Port.Binding.Protocol),
		"style": op.Style, "action": op.Action, "about": op.Documentation,
	}
	for key, m := range map[string]*Message{"fill": op.Input, "answer": op.Output} {
		rows := []schema.Row{}
		if m != nil {
			blocks := []schema.Row{}
			for _, h := range m.Headers {
				blocks = append(blocks, instance.OutlineBlock(b.Contract.Schema, h.Element, depth)...)
			}
			if len(blocks) > 0 {
				out[key+"_blocks"] = blocks
			}
			for _, e := range m.Payload {
				rows = append(rows, instance.Outline(b.Contract.Schema, e, depth)...)
			}
		}
		out[key] = rows
	}
	out["fill"] = b.Overlay.Rows(out["fill"].([]schema.Row))
	faults := map[string]any{}
	for _, f := range op.Faults {
		rows := []schema.Row{}
		if f.Detail != nil {
			rows = append(rows, instance.Outline(b.Contract.Schema, f.Detail, depth)...)
		}
		faults[f.Name] = rows
	}
	out["faults"] = faults
	return out
}

// Draft writes the skeleton of a message.
func (b *Bound) Draft(o contract.DraftOptions) (*contract.Draft, error) {
	d, err := b.Contract.Draft(b.Port.Binding, b.Operation,
		DraftOptions{Version: b.Version, Required: o.Required, Answer: o.Answer, Overlay: b.Overlay})
	if err != nil {
		return nil, err
	}
	if b.Version == "" && !o.Answer && o.As != "step" && o.As != "json" && !b.Operation.Input.IsBody {
		request, _ := b.Build(d.Fields(), contract.BuildOptions{})
		return request.Draft(), nil
	}
	return d.as(o), nil
}

// as writes a draft in the form that is asked for.
func (d *Draft) as(o contract.DraftOptions) *contract.Draft {
	out := &contract.Draft{TooLarge: d.TooLarge, Cut: d.Cut}
	switch o.As {
	case "json":
		out.Text = document.WriteJSON(d.Fields(), document.Style{Indent: "  "}) + "\n"
	case "step":
		out.Text = d.Step(o.Target, yamlfile.ScalarText)
	default:
		out.Text = d.XML()
	}
	return out
}

// DraftElement writes an instance of an element of a schema.
func DraftElement(s *xsd.Schema, e *xsd.Element, o contract.DraftOptions) *contract.Draft {
	return draftElement(s, e, o.Required).as(o)
}
