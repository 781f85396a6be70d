package cli

import (
	"cmp"
	"context"
	"flag"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/workbench"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

type surveyOptions struct {
	logins     bool
	depth      int
	find, port string
	soap       string
}

func (o *surveyOptions) binding() workbench.Binding {
	return workbench.Binding{Port: o.port, Version: soap.Version(o.soap)}
}

func surveyCommand() *command {
	return &command{
		name: "survey", group: "finding out", purpose: "shows what a contract offers, or the fields of one operation",
		usage: "[SERVICE|FILE|ADDRESS [OPERATION]]",
		examples: []string{
			"testbench survey lab", "testbench survey lab GradeLot", "testbench survey -find moisture",
			"testbench survey lab -logins", "testbench survey contracts/lab.wsdl -find grade",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &surveyOptions{}
			f.IntVar(&o.depth, "depth", 0, "show fields down to this `depth`; 0 shows all")
			f.StringVar(&o.find, "find", "", "show only what has this `text` in its name, type or documentation")
			f.BoolVar(&o.logins, "logins", false, "draft logins for what the contract says of security")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.StringVar(&o.soap, "soap", "", "the `version` of SOAP: 1.1 or 1.2")
			return o.run
		},
	}
}

func (o *surveyOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) == 0 && o.find != "" {
		return surveyBench(ctx, s, o)
	}
	if len(args) == 0 || len(args) > 2 {
		return 0, usagef("testbench survey lab, testbench survey partner.wsdl",
			"survey what? A service of the bench, a file or an address")
	}
	source, operation := splitTarget(args)
	c, err := openContract(ctx, s, source)
	if err != nil {
		return 0, err
	}
	if err := checkInForm(s, surveyForm(c, operation, o.logins)); err != nil {
		return 0, err
	}
	if err := cmp.Or(isSOAPVersion(o.soap), onlyWSDL(c, source, o.soap, o.port)); err != nil {
		return 0, err
	}
	switch alone := c.Contract.(type) {
	case *contract.JSONSchema:
		return surveyJSON(s, source, alone.Schema, o, operation)
	case *contract.XMLSchema:
		return surveySchema(s, alone.Schema, o, operation)
	}
	if operation == "" {
		return surveyContract(s, source, c, o)
	}
	return surveyOperation(s, source, c, o, operation)
}

// surveyForm is what is surveyed, by the name of its form.
func surveyForm(c *workbench.Contract, operation string, logins bool) string {
	switch {
	case !c.HasOperations():
		return "of a schema"
	case operation != "":
		return "of an operation"
	case logins:
		return "with -logins"
	}
	return "of a whole contract"
}

// surveyBench looks through every contract of the bench.
func surveyBench(ctx context.Context, s *session, o *surveyOptions) (int, error) {
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
		for _, line := range c.Overview().Operations {
			if rows, ok := foundIn(line, o.find); ok {
				found++
				s.tell.printf("%s\n", s.tell.in(bold, s.tell.visible(service.Name+"/"+line.Name)))
				showRows(s.tell, rows)
			}
		}
	}
	if found == 0 {
		s.tell.printf("no operation of this bench has %q\n", o.find)
	}
	return ExitPassed, nil
}

// foundIn says whether an operation has the text that is looked for in its name or its
// documentation, and gives those of its fields that have it.
func foundIn(line contract.Line, find string) (rows []schema.Row, ok bool) {
	rows = matchingRows(line.Operation.Outline(0).Rows(), find)
	return rows, len(rows) > 0 || mentions(find, append(line.Cells, line.Name, line.About)...)
}

// surveyContract shows what a contract offers.
func surveyContract(s *session, source string, c *workbench.Contract, o *surveyOptions) (int, error) {
	t := s.tell
	if s.common.json {
		return ExitPassed, t.json(c.Form())
	}
	all := c.Overview()
	dot := t.sign(" · ", " - ")
	t.printf("%s\n", t.in(bold, t.visible(firstOf(all.Title, source)+dot+all.Format+dot+fromHere(all.Location))))
	if all.About != "" {
		t.printf("%s\n", t.wrap(all.About, t.width, 0))
	}
	for _, place := range all.Places {
		t.printf("\n%s\n", t.visible(place.Title))
		if place.About != "" {
			t.printf("%s\n", t.wrap(place.About, t.width, 2))
		}
		printColumns(s.tell, place.Rows, 2)
	}
	t.printf("\noperations\n")
	var rows [][]string
	switch {
	case o.find != "":
		for _, line := range all.Operations {
			if _, ok := foundIn(line, o.find); ok {
				rows = append(rows, operationCells(line))
			}
		}
	case all.Groups != nil:
		rows = groupRows(s.tell, all.Groups)
	default:
		for _, line := range all.Operations {
			rows = append(rows, operationCells(line))
		}
	}
	printColumns(s.tell, rows, 2)
	if len(rows) == 0 {
		t.printf("  none%s\n", map[bool]string{true: " with " + o.find, false: ""}[o.find != ""])
	}
	if o.find == "" {
		showSecurity(s.tell, source, all.Security, o.logins)
	}
	showNotes(s.tell, all.Notes)
	if len(all.Operations) > 0 && o.find == "" {
		t.note("next: testbench survey %s %s", source, firstOperation(all))
	}
	return ExitPassed, nil
}

func operationCells(line contract.Line) []string {
	about := line.About
	for _, note := range line.Notes {
		about = strings.TrimSpace(about + " (" + note + ")")
	}
	return append(append([]string{line.Name}, line.Cells...), about)
}

// groupRows shows operations by what they belong to.
func groupRows(t *printer, groups []contract.Group) [][]string {
	var rows [][]string
	for _, g := range groups {
		text := strings.Join(g.Operations, ", ")
		if g.About != "" {
			dash := t.sign(" – ", " - ")
			text = strings.TrimPrefix(text+dash+g.About, dash)
		}
		rows = append(rows, []string{g.Name, text})
	}
	return rows
}

// firstOperation is the one that is proposed to look at next.
func firstOperation(all *contract.Overview) string {
	if len(all.Groups) == 0 {
		return all.Operations[0].Name
	}
	first := all.Groups[0]
	if len(first.Operations) == 0 {
		return first.Name
	}
	return first.Name + "." + first.Operations[0]
}

func showNotes(t *printer, notes []string) {
	if len(notes) == 0 {
		return
	}
	t.printf("\nnotes\n")
	for _, n := range notes {
		t.printf("%s\n", t.wrap(fromHere(n), t.width, 2))
	}
}

// showSecurity shows what a contract says of how to get in and, drafted, logins that
// would do.
func showSecurity(t *printer, source string, all []contract.Security, drafted bool) {
	if len(all) == 0 {
		return
	}
	t.printf("\nsecurity\n")
	rows := [][]string{}
	var logins []contract.Login
	for _, one := range all {
		rows = append(rows, []string{one.Where, strings.Join(one.Says, "; ")})
		logins = append(logins, one.Logins...)
	}
	printColumns(t, rows, 2)
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

func matchingRows(rows []schema.Row, find string) []schema.Row {
	if find == "" {
		return rows
	}
	var found []schema.Row
	for _, r := range rows {
		if mentions(find, r.Name, r.Type, r.About) {
			r.Name, r.Depth = r.Path, 0
			found = append(found, r)
		}
	}
	return found
}

// surveyOperation shows one operation.
func surveyOperation(s *session, source string, c *workbench.Contract, o *surveyOptions, name string) (int, error) {
	if err := c.CheckBinding(o.binding()); err != nil {
		return 0, err
	}
	op, err := c.Operation(name, o.binding())
	if err != nil {
		return 0, err
	}
	t := s.tell
	if s.common.json {
		return ExitPassed, t.json(op.Form(o.depth))
	}
	outline := op.Outline(o.depth)
	t.printf("%s\n", t.in(bold, t.visible(strings.Join(outline.Title, t.sign(" · ", " - ")))))
	for paragraph := range strings.SplitSeq(outline.About, "\n") {
		if paragraph != "" {
			t.printf("%s\n", t.wrap(paragraph, t.width, 0))
		}
	}
	if o.find != "" && len(matchingRows(outline.Rows(), o.find)) == 0 {
		t.printf("\nno field has %q\n", o.find)
	}
	for _, section := range outline.Sections {
		showSection(s.tell, section, o.find)
	}
	showNotes(s.tell, outline.Notes)
	t.note("next: testbench draft %s %s", source, op.Facts().Name)
	return ExitPassed, nil
}

// showSection shows a part of an outline; of one in which a text is looked for, what has it.
func showSection(t *printer, section contract.Section, find string) {
	rows := matchingRows(section.Rows, find)
	if find != "" && len(rows) == 0 {
		return
	}
	if section.Title != "" {
		t.printf("\n%s\n", strings.TrimRight(t.visible(section.Title)+"  "+t.in(faint, t.visible(section.Kind)), " "))
	}
	if section.About != "" {
		t.printf("%s\n", t.wrap(section.About, t.width, 2))
	}
	if section.Words != "" && find == "" {
		t.printf("  . %s\n", t.visible(section.Words))
	}
	for _, line := range section.Lines {
		t.printf("  %s\n", t.visible(line))
	}
	showRows(t, rows)
}

// showRows prints an outline: the name, indented by depth, then what is known of it.
func showRows(t *printer, rows []schema.Row) {
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
		if r.Example != "" {
			words = append(words, "for example "+r.Example)
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

func surveySchema(s *session, alone *xsd.Schema, o *surveyOptions, name string) (int, error) {
	var names []xsd.Name
	for n := range alone.Elements {
		if name == "" || n.Local == name {
			names = append(names, n)
		}
	}
	xsd.SortNames(names)
	t := s.tell
	if len(names) == 0 && name != "" {
		return 0, noElement(alone, name)
	}
	if s.common.json {
		out := map[string]any{}
		for _, n := range names {
			out[n.Full()] = append([]schema.Row{}, instance.Outline(alone, alone.Elements[n], o.depth)...)
		}
		return ExitPassed, t.json(out)
	}
	for i, n := range names {
		e := alone.Elements[n]
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
		showRows(s.tell, matchingRows(instance.Outline(alone, e, o.depth), o.find))
	}
	var notes []string
	for _, warning := range alone.Warnings() {
		notes = append(notes, warning.String())
	}
	showNotes(s.tell, notes)
	return ExitPassed, nil
}

// surveyJSON shows a JSON Schema alone.
func surveyJSON(s *session, source string, alone *jsonschema.Schema, o *surveyOptions, name string) (int, error) {
	if err := onlyType(source, name); err != nil {
		return 0, err
	}
	rows := alone.Outline(o.depth)
	if s.common.json {
		return ExitPassed, s.tell.json(append([]schema.Row{}, rows...))
	}
	s.tell.printf("%s\n", s.tell.in(bold,
		s.tell.visible(firstOf(alone.Name(), fromHere(source))+s.tell.sign(" · ", " - ")+"JSON Schema")))
	if words := alone.Words(); words != "" {
		s.tell.printf("  . %s\n", s.tell.visible(words))
	}
	showRows(s.tell, matchingRows(rows, o.find))
	return ExitPassed, nil
}
