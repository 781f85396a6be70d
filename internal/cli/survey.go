package cli

import (
	"context"
	"flag"
	"strings"

	"testbench"
	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/xsd"
)

type surveyOptions struct {
	logins     bool
	depth      int
	find, port string
	soap       string
}

func surveyCommand() *command {
	return &command{name: "survey", group: "finding out", purpose: "shows what a contract offers, or the fields of one operation", usage: "[SERVICE|FILE|ADDRESS [OPERATION]]",
		examples: []string{"testbench survey lab", "testbench survey lab GradeLot", "testbench survey -find moisture", "testbench survey lab -logins", "testbench survey contracts/lab.wsdl -find grade"},
		options: func(f *flag.FlagSet) any {
			o := &surveyOptions{}
			f.IntVar(&o.depth, "depth", 0, "show fields down to this `depth`; 0 shows all")
			f.StringVar(&o.find, "find", "", "show only what has this `text` in its name, type or documentation")
			f.BoolVar(&o.logins, "logins", false, "draft logins for what the contract says of security")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.StringVar(&o.soap, "soap", "", "the `version` of SOAP: 1.1 or 1.2")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			o := options.(*surveyOptions)
			if len(args) == 0 && o.find != "" {
				return s.surveyBench(ctx, o)
			}
			if len(args) == 0 || len(args) > 2 {
				return 0, usagef("testbench survey lab, testbench survey partner.wsdl", "survey what? A service of the bench, a file or an address")
			}
			if err := isSOAPVersion(o.soap); err != nil {
				return 0, err
			}
			source, operation := splitTarget(args)
			c, err := s.contract(ctx, source)
			if err != nil {
				return 0, err
			}
			if o.logins && operation != "" {
				return 0, usagef("testbench survey "+source+" -logins", "-logins goes with a contract as a whole, not with an operation")
			}
			if err := onlyWSDL(c, source, o.soap, o.port); err != nil {
				return 0, err
			}
			switch {
			case c.Description != nil && operation == "":
				return s.surveyDescription(source, c, o)
			case c.Description != nil:
				return s.surveyDescribed(source, c, o, operation)
			case c.JSON != nil:
				return s.surveyJSON(source, c, o)
			}
			if c.WSDL == nil {
				return s.surveySchema(c, o, operation)
			}
			if operation == "" {
				return s.surveyContract(source, c, o)
			}
			return s.surveyOperation(source, c, o, operation)
		}}
}

// surveyBench looks through every contract of the bench.
func (s *session) surveyBench(ctx context.Context, o *surveyOptions) (int, error) {
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	found := 0
	for _, service := range bench.Model().Services {
		if service.Contract == nil && len(service.Operations) == 0 {
			continue
		}
		c, err := bench.Contract(ctx, service.Name, s.stdin, s.options())
		if err != nil {
			s.tell.fail(err)
			continue
		}
		for _, f := range foundIn(c, o.find) {
			found++
			s.tell.printf("%s\n", s.tell.in(bold, s.tell.visible(service.Name+"/"+f.name)))
			s.rows(f.rows)
		}
	}
	if found == 0 {
		s.tell.printf("no operation of this bench has %q\n", o.find)
	}
	return ExitHeld, nil
}

// finding is an operation in which a text was found.
type finding struct {
	name string
	rows []xsd.Row // those of its fields that have it
}

// foundIn looks through all operations of a contract.
func foundIn(c *testbench.Contract, find string) []finding {
	var all []finding
	if c.Description != nil {
		for _, name := range c.Description.Names() {
			op, err := c.Description.Operation(name)
			if err != nil || op == nil {
				continue
			}
			rows := matchingRows(describedRows(op), find)
			if len(rows) > 0 || mentions(find, op.Name, op.About, op.Path) {
				all = append(all, finding{op.Name, rows})
			}
		}
		return all
	}
	for _, op := range c.WSDL.Operations() {
		rows := matchingRows(operationRows(c, op), find)
		if len(rows) > 0 || mentions(find, op.Name, op.Documentation) {
			all = append(all, finding{op.Name, rows})
		}
	}
	return all
}

func (s *session) surveyContract(source string, c *testbench.Contract, o *surveyOptions) (int, error) {
	t, w := s.tell, c.WSDL
	if s.common.json {
		return ExitHeld, t.json(contractJSON(w))
	}
	t.printf("%s\n", t.in(bold, s.tell.visible(firstOf(w.Name, source)+t.sign(" · ", " - ")+"WSDL 1.1"+t.sign(" · ", " - ")+fromHere(w.Location))))
	if w.Documentation != "" {
		t.printf("%s\n", s.tell.wrap(w.Documentation, t.width, 0))
	}
	for _, service := range w.Services {
		t.printf("\nservice %s\n", s.tell.visible(service.Name))
		if service.Documentation != "" {
			t.printf("%s\n", s.tell.wrap(service.Documentation, t.width, 2))
		}
		rows := [][]string{}
		for _, p := range service.Ports {
			rows = append(rows, []string{p.Name, string(p.Binding.Protocol), p.Binding.Style, p.Address})
		}
		s.columns(rows, 2)
	}
	t.printf("\noperations\n")
	shown := 0
	rows := [][]string{}
	for _, op := range w.Operations() {
		if o.find != "" && !mentions(o.find, op.Name, op.Documentation) && len(matchingRows(operationRows(c, op), o.find)) == 0 {
			continue
		}
		shown++
		about := op.Documentation
		if op.Output == nil {
			about = strings.TrimSpace(about + " (not answered)")
		}
		rows = append(rows, []string{op.Name, about})
	}
	s.columns(rows, 2)
	if shown == 0 {
		t.printf("  none%s\n", map[bool]string{true: " with " + o.find, false: ""}[o.find != ""])
	}
	if o.find == "" {
		s.security(source, portsSecurity(w), o.logins)
	}
	s.contractNotes(w.Notes())
	if shown > 0 && o.find == "" {
		t.note("next: testbench survey %s %s", source, rows[0][0])
	}
	return ExitHeld, nil
}

func securityJSON(all []contract.Security) []any {
	out := []any{}
	for _, one := range all {
		out = append(out, map[string]any{"where": one.Where, "says": one.Says, "logins": contract.YAML(one.Logins)})
	}
	return out
}

// portsSecurity gathers what the ports of a contract ask for.
func portsSecurity(w *wsdl.Contract) []contract.Security {
	var all []contract.Security
	for _, service := range w.Services {
		for _, p := range service.Ports {
			if p.Security != nil {
				all = append(all, *p.Security)
			}
		}
	}
	return all
}

// security shows what a contract says of how to get in and, drafted, logins that
// would do.
func (s *session) security(source string, all []contract.Security, drafted bool) {
	if len(all) == 0 {
		return
	}
	t := s.tell
	t.printf("\nsecurity\n")
	rows := [][]string{}
	var logins []contract.Login
	for _, one := range all {
		rows = append(rows, []string{one.Where, strings.Join(one.Says, "; ")})
		logins = append(logins, one.Logins...)
	}
	s.columns(rows, 2)
	switch {
	case len(logins) == 0:
	case !drafted:
		t.note("next: testbench survey %s -logins drafts logins for it", source)
	default:
		t.printf("\nto paste below logins: of bench.yaml\n%s", t.visible(contract.YAML(logins)))
	}
}

func mentions(find string, texts ...string) bool {
	for _, text := range texts {
		if strings.Contains(strings.ToLower(text), strings.ToLower(find)) {
			return true
		}
	}
	return false
}

// operationRows are all fields of an operation, request and answer.
func operationRows(c *testbench.Contract, op *wsdl.Operation) []xsd.Row {
	var rows []xsd.Row
	for _, m := range []*wsdl.Message{op.Input, op.Output} {
		if m != nil {
			for _, e := range m.Payload {
				rows = append(rows, c.Schema.Outline(e, 0)...)
			}
		}
	}
	return rows
}

func matchingRows(rows []xsd.Row, find string) []xsd.Row {
	if find == "" {
		return rows
	}
	var found []xsd.Row
	for _, r := range rows {
		if mentions(find, r.Name, r.Type, r.About) {
			r.Name, r.Depth = r.Path, 0
			found = append(found, r)
		}
	}
	return found
}

func (s *session) surveyOperation(source string, c *testbench.Contract, o *surveyOptions, name string) (int, error) {
	port, op, err := c.Operation(name, o.port, o.soap)
	if err != nil {
		return 0, err
	}
	t := s.tell
	if s.common.json {
		return ExitHeld, t.json(operationJSON(c, port, op, o.depth))
	}
	dot := t.sign(" · ", " - ")
	head := op.Name + dot + string(port.Binding.Protocol) + dot + op.Style
	if op.Input != nil && op.Input.Encoded {
		head += ", encoded"
	}
	if op.Action != "" {
		head += dot + "action " + op.Action
	}
	t.printf("%s\n", t.in(bold, t.visible(head)))
	if op.Documentation != "" {
		t.printf("%s\n", t.wrap(op.Documentation, t.width, 0))
	}
	s.message("fill", c, op.Input, o)
	s.message("answer", c, op.Output, o)
	for _, f := range op.Faults {
		t.printf("\nfault %s\n", t.visible(f.Name))
		if f.Documentation != "" {
			t.printf("%s\n", t.wrap(f.Documentation, t.width, 2))
		}
		if f.Detail != nil {
			s.rows(matchingRows(c.Schema.Outline(f.Detail, o.depth), o.find))
		}
	}
	t.note("next: testbench draft %s %s", source, op.Name)
	return ExitHeld, nil
}

func (s *session) message(title string, c *testbench.Contract, m *wsdl.Message, o *surveyOptions) {
	t := s.tell
	if m == nil {
		t.printf("\n%s\n  nothing\n", title)
		return
	}
	if len(m.Headers) > 0 {
		t.printf("\n%s: header blocks\n", title)
		for _, h := range m.Headers {
			t.printf("  %s\n", t.visible(h.Element.Name.Full()))
			s.rows(matchingRows(c.Schema.Outline(h.Element, o.depth), o.find))
			for _, f := range h.Faults {
				t.printf("  %s, where that is at fault\n", t.visible(f.Name.Full()))
				s.rows(matchingRows(c.Schema.Outline(f, o.depth), o.find))
			}
		}
	}
	for _, e := range m.Payload {
		t.printf("\n%s  %s\n", title, t.in(faint, t.visible(e.Name.Full())))
		rows := c.Schema.Outline(e, o.depth)
		if simple, ok := e.Type.(*xsd.SimpleType); ok {
			t.printf("  . %s\n", t.visible(simple.FacetWords()))
		} else if e.Type == xsd.Type(xsd.AnyType()) {
			t.printf("  . anything: the contract does not say what it holds\n")
		} else if len(rows) == 0 {
			t.printf("  no fields\n")
		}
		s.rows(matchingRows(rows, o.find))
	}
	if len(m.Payload) == 0 {
		t.printf("\n%s\n  an empty Body\n", title)
	}
	for _, a := range m.Attachments {
		t.printf("  attachment %s  %s\n", t.visible(a.Part), t.visible(strings.Join(a.Types, ", ")))
	}
}

// rows prints an outline: the name, indented by depth, then what is known of it.
func (s *session) rows(rows []xsd.Row) {
	t := s.tell
	width := 0
	for _, r := range rows {
		width = min(max(width, 2*r.Depth+len([]rune(t.visible(r.Name)))), 40)
	}
	for _, r := range rows {
		lead := strings.Repeat("  ", r.Depth+1)
		var words []string
		for _, w := range []string{r.Type, r.Occurs} {
			if w != "" {
				words = append(words, w)
			}
		}
		if r.Choice != "" {
			words = append(words, "one of these: "+r.Choice)
		}
		if r.Nillable {
			words = append(words, "may be null")
		}
		if r.Default != "" {
			words = append(words, "default "+r.Default)
		}
		if r.Fixed != "" {
			words = append(words, "always "+r.Fixed)
		}
		if r.Again {
			words = append(words, "the same fields again")
		}
		text := strings.Join(words, "; ")
		if r.About != "" {
			text = strings.TrimPrefix(text+t.sign(" – ", " - ")+r.About, t.sign(" – ", " - "))
		}
		line := t.fit(lead+t.visible(r.Name), width+2)
		if r.Required {
			line = t.in(bold, line)
		}
		wrapped := strings.TrimLeft(t.wrap(text, max(t.width, width+40), width+4), " ")
		t.printf("%s\n", strings.TrimRight(line+"  "+wrapped, " "))
	}
}

func (s *session) surveySchema(c *testbench.Contract, o *surveyOptions, name string) (int, error) {
	var names []xsd.Name
	for n := range c.Schema.Elements {
		if name == "" || n.Local == name {
			names = append(names, n)
		}
	}
	xsd.SortNames(names)
	t := s.tell
	if len(names) == 0 && name != "" {
		return 0, noElement(c, name)
	}
	if s.common.json {
		out := map[string]any{}
		for _, n := range names {
			out[n.Full()] = rowsJSON(c.Schema.Outline(c.Schema.Elements[n], o.depth))
		}
		return ExitHeld, t.json(out)
	}
	for i, n := range names {
		e := c.Schema.Elements[n]
		if name == "" {
			if mentions(o.find, n.Local, e.Documentation) {
				t.printf("%s\n", t.visible(strings.TrimSpace(n.Full()+"  "+e.Documentation)))
			}
			continue
		}
		if i > 0 {
			t.printf("\n")
		}
		t.printf("%s\n", t.in(bold, t.visible(n.Full())))
		s.rows(matchingRows(c.Schema.Outline(e, o.depth), o.find))
	}
	s.contractNotes(c.Schema.Warnings())
	return ExitHeld, nil
}

// JSON forms.

type rowForm struct {
	Path     string `json:"path"`
	Type     string `json:"type,omitempty"`
	Occurs   string `json:"occurs,omitempty"`
	Required bool   `json:"required"`
	OneOf    string `json:"one_of,omitempty"`
	Nullable bool   `json:"nullable,omitempty"`
	Default  string `json:"default,omitempty"`
	Fixed    string `json:"fixed,omitempty"`
	About    string `json:"about,omitempty"`
}

func rowsJSON(rows []xsd.Row) []rowForm {
	out := make([]rowForm, len(rows))
	for i, r := range rows {
		out[i] = rowForm{r.Path, r.Type, r.Occurs, r.Required, r.Choice, r.Nillable, r.Default, r.Fixed, r.About}
	}
	return out
}

func contractJSON(w *wsdl.Contract) any {
	out := map[string]any{"name": w.Name, "location": w.Location, "about": w.Documentation}
	var services []any
	for _, service := range w.Services {
		var ports []any
		for _, p := range service.Ports {
			ports = append(ports, map[string]string{"name": p.Name, "protocol": string(p.Binding.Protocol), "style": p.Binding.Style, "address": p.Address})
		}
		services = append(services, map[string]any{"name": service.Name, "ports": ports})
	}
	out["services"] = services
	var operations []any
	for _, op := range w.Operations() {
		operations = append(operations, map[string]any{"name": op.Name, "about": op.Documentation, "action": op.Action, "answered": op.Output != nil})
	}
	out["operations"] = operations
	notes := []string{}
	for _, n := range w.Notes() {
		notes = append(notes, n.String())
	}
	out["notes"] = notes
	out["security"] = securityJSON(portsSecurity(w))
	return out
}

func operationJSON(c *testbench.Contract, port *wsdl.Port, op *wsdl.Operation, depth int) any {
	out := map[string]any{"name": op.Name, "port": port.Name, "protocol": string(port.Binding.Protocol), "style": op.Style, "action": op.Action, "about": op.Documentation}
	for key, m := range map[string]*wsdl.Message{"fill": op.Input, "answer": op.Output} {
		rows := []rowForm{}
		if m != nil {
			for _, e := range m.Payload {
				rows = append(rows, rowsJSON(c.Schema.Outline(e, depth))...)
			}
		}
		out[key] = rows
	}
	faults := map[string]any{}
	for _, f := range op.Faults {
		rows := []rowForm{}
		if f.Detail != nil {
			rows = rowsJSON(c.Schema.Outline(f.Detail, depth))
		}
		faults[f.Name] = rows
	}
	out["faults"] = faults
	return out
}
