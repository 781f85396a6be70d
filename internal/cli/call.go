package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/callstep"
	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/path"
	"testbench/internal/report"
	"testbench/internal/result"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

type callOptions struct {
	workbench.Call
	in      list
	fill    string
	dry     bool
	headers bool
	show    string
	full    bool
	save    string
	picks   list
	keep    list
	into    string
}

func callCommand() *command {
	return &command{
		name: "call", group: "building and asking", purpose: "makes one exchange and shows the answer",
		usage: "SERVICE/OPERATION | SERVICE METHOD PATH | METHOD ADDRESS [field=value ...]",
		examples: []string{
			"testbench call stores/search grade=A",
			"testbench call stores GET /lots/L-2201 -pick barrels.0.kilos",
			"testbench call lab/ConvertIndex refractiveIndex=1.4940 -soap 1.2 -show all",
			"testbench call stores/search grade=B -keep lot=lots.0.id",
			"testbench call stores/lot id=kept:lot -into sheets/mine.yaml",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &callOptions{}
			o.shape(f)
			f.StringVar(&o.Spoil, "spoil", "", "spoil the login's token this `way`: "+strings.Join(login.Ways, ", "))
			f.StringVar(&o.HTTP, "http", "", "the `version` of HTTP: 1.1 or 2")
			f.StringVar(&o.As, "as", "", "read the answer as this `form`, whatever its media type says: "+
				strings.Join(document.Readings(), ", "))
			f.IntVar(&o.Pages, "pages", 1,
				"how many `pages` of a list are read, where the answer leads to the next one")
			f.BoolVar(&o.Stay, "stay", false, "do not follow redirects")
			f.BoolVar(&o.dry, "dry", false, "show what would be sent, masked, and send nothing")
			f.BoolVar(&o.headers, "headers", false, "show the answer's headers")
			f.StringVar(&o.show, "show", "",
				"show `what` was exchanged, with headers and where the time went: sent, received or all")
			f.BoolVar(&o.full, "full", false, "show bodies in full, however long, on a terminal too")
			f.StringVar(&o.save, "save", "",
				"save the answer's body to a `file`; - writes it alone to standard output, masked")
			f.Var(&o.picks, "pick", "print only the value at this `path`, bare, for the shell; repeatable")
			f.Var(&o.keep, "keep", "`name=path`: keep a value, sealed, for later calls; repeatable")
			f.StringVar(&o.into, "into", "", "append the call as a step to a `sheet`")
			return o.run
		},
	}
}

// shape are the options that say what is sent.
func (o *callOptions) shape(f *flag.FlagSet) {
	f.Var(&o.in, "in", "a value by its `place`: query.a=b, header.X=y, form.f=v, cookie.c=v, path.p=v; repeatable")
	f.StringVar(&o.fill, "fill", "", "many fields from a JSON or YAML `file`")
	f.StringVar(&o.Body, "body", "", "a body from a `file`, filled in and escaped")
	f.StringVar(&o.Bytes, "bytes", "", "a body from a `file`, untouched")
	f.StringVar(&o.Login, "login", "", "another login, by `name` (several with commas between), or none")
	f.StringVar(&o.SOAP, "soap", "", "the `version` of SOAP: 1.1 or 1.2")
	f.StringVar(&o.Port, "port", "", "another port of the WSDL, by its `name`")
	f.StringVar(&o.Action, "action", "", "the SOAP `action`")
	f.StringVar(&o.Contract, "contract", "", "what is checked against the contract: `both`, request, answer or off")
}

// effectless tells of options that have no effect beside others.
func (o *callOptions) effectless() error {
	switch {
	case o.dry && len(o.keep) > 0 && o.into == "":
		return usagef("take it out, or write the call down with -into",
			"-dry sends nothing, so that there is no answer to keep from")
	case o.dry && o.into == "" && (o.As != "" || o.Pages > 1 || o.Stay):
		return usagef("take it out, or write the call down with -into",
			"-dry sends nothing, so that -as, -pages and -stay have no effect: there is no answer")
	case o.show != "" && o.show != "sent" && o.show != "received" && o.show != "all":
		return usagef(suggest.DidYouMean(o.show, []string{"sent", "received", "all"}),
			"-show takes sent, received or all, not %q", o.show)
	case o.HTTP != "" && o.HTTP != "1.1" && o.HTTP != "2":
		return usagef("-http 2", "-http takes 1.1 or 2, not %q", o.HTTP)
	}
	return nil
}

// prepareCall makes the step that the arguments describe.
func prepareCall(s *session, bench *workbench.Bench, o *callOptions,
	args []string,
) (*sheet.Step, workbench.Options, error) {
	options := s.options()
	if o.into != "" && (o.Body == standard || o.Bytes == standard) {
		return nil, options, usagef("save it in a file of the bench first",
			"a step that -into writes names the file of its body, and standard input is none")
	}
	if err := canWrite("save", o.save); err != nil {
		return nil, options, err
	}
	o.In = o.in
	o.ReadFile = func(name string) ([]byte, error) { return readFile(s, name) }
	o.Target, o.Fields = callstep.Split(args)
	if c := o.Contract; c != "" && c != "both" && c != "request" && c != "answer" && c != "off" {
		return nil, options, usagef("both, request, answer and off are there", "-contract %s is unknown", c)
	}
	err := isSOAPVersion(o.SOAP)
	if err != nil {
		return nil, options, err
	}
	if o.fill != "" {
		if o.Fill, err = readFill(s, o.fill); err != nil {
			return nil, options, err
		}
	}
	if o.Target != nil {
		if last := o.Target[len(o.Target)-1]; strings.Contains(last, "://") {
			// The command line names the host, so it is meant.
			options.Named = append(options.Named, hostOf(last))
		}
	}
	step, err := bench.Prepare(o.Call, options)
	return step, options, err
}

func (o *callOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	s.full = o.full
	bench, err := s.openOrNone()
	if err != nil {
		return 0, err
	}
	if o.Pages < 1 {
		return 0, usagef("-pages 5", "-pages %d is not a number of pages", o.Pages)
	}
	if err := checkSpoil(o.Spoil); err != nil {
		return 0, err
	}
	if o.Spoil != "" && o.Login == "" {
		return 0, usagef("-login NAME -spoil tampered", "-spoil needs the login whose token is spoilt")
	}
	if err := o.effectless(); err != nil {
		return 0, err
	}
	keeps, err := parseKeeps(o.keep)
	if err != nil {
		return 0, err
	}
	if len(keeps) > 0 && bench.Dir == "" {
		return 0, usagef("`testbench new DIR` starts a bench",
			"values are kept in a bench, and there is none here or above")
	}
	step, options, err := prepareCall(s, bench, o, args)
	if err != nil {
		return 0, err
	}
	var picked []*path.Path
	for _, source := range o.picks {
		one, err := path.Compile(source)
		if err != nil {
			return 0, usagef("", "-pick %s: %v", source, err)
		}
		picked = append(picked, one)
	}
	if o.dry {
		request, err := bench.Plan(ctx, step, options)
		if err != nil {
			return 0, err
		}
		if s.common.json {
			err = s.tell.json(result.RequestRecord(request, s.masker))
		} else {
			showRequest(s, request, 0)
		}
		if err == nil && o.into != "" {
			err = appendStep(ctx, s.tell, bench, step, o, options)
		}
		return ExitPassed, err
	}
	result, notes, err := bench.Do(ctx, step, options)
	if err != nil {
		return 0, err
	}
	for _, note := range notes {
		s.tell.note("note: %s", s.tell.visible(note))
	}
	status, err := finishCall(s, bench, o, result, picked, keeps)
	if record := result.Last(); o.into != "" && (record == nil || record.Answer == nil) {
		s.tell.note("nothing is written into %s: the call could not be made", o.into)
	} else if err == nil && o.into != "" {
		err = appendStep(ctx, s.tell, bench, step, o, options)
	}
	return status, err
}

func finishCall(s *session, bench *workbench.Bench, o *callOptions, result *workbench.StepResult, picked []*path.Path,
	keeps []keep,
) (int, error) {
	status := result.Outcome.ExitStatus()
	if o.save == standard && result.Last() != nil && result.Last().Answer != nil {
		s.tell.printf("%s", string(result.Last().Answer.Body))
		showOutcome(s, result)
		return status, nil
	}
	if o.save != "" && result.Last() != nil && result.Last().Answer != nil {
		if err := safefile.Write(o.save, result.Last().Answer.Body, 0o644); err != nil {
			return 0, err
		}
		s.tell.note("saved: %s (%s)", o.save, size(len(result.Last().Answer.Body)))
	}
	switch {
	case s.common.json:
		if err := s.tell.json(result.Record(s.masker)); err != nil {
			return 0, err
		}
	case len(picked) > 0:
		showOutcome(s, result)
		for _, p := range picked {
			if err := printPicked(s.tell, result, p); err != nil {
				s.tell.fail(err)
				status = max(status, ExitFailed)
			}
		}
	default:
		showCall(s, o, result)
	}
	for _, k := range keeps {
		node, err := findInAnswer(result, k.path)
		if err != nil {
			s.tell.fail(fmt.Errorf("-keep %s: %w", k.name, err))
			status = max(status, ExitFailed)
			continue
		}
		if err := bench.Keep(k.name, node); err != nil {
			return 0, err
		}
		s.tell.note("kept: %s (${kept.%s}, or kept:%s as a value)", k.name, k.name, k.name)
	}
	return status, nil
}

// showCall shows the answer for people.
func showCall(s *session, o *callOptions, result *workbench.StepResult) {
	t := s.tell
	record := result.Last()
	if record != nil && record.Answer != nil {
		a := record.Answer
		dot := t.sign(" · ", " - ")
		line := t.in(bold, t.statusLine(a)) + dot + milliseconds(record.Phases.Total) + dot + size(len(a.Body))
		if a.Wire != int64(len(a.Body)) && a.Wire > 0 {
			line += fmt.Sprintf(" (%s on the wire)", size(int(a.Wire)))
		}
		if a.ContentType() != "" {
			line += dot + t.visible(a.ContentType())
		}
		if place := a.Header.Get("Location"); place != "" && !o.headers {
			line += dot + "Location: " + t.visible(place)
		}
		if t.terminal {
			t.printf("%s\n", line)
		} else { // what reads the results wants the answer alone
			t.note("%s", line)
		}
		for _, hop := range record.Hops {
			t.printf("  %d: %s %s %s\n", hop.Status, t.visible(hop.From), t.sign("→", "->"), t.visible(hop.To))
		}
		if o.show != "" || o.headers {
			showTiming(s.tell, record, "  ")
		} else if record.TLS != nil {
			t.printf("  %s\n", t.in(faint, t.visible(record.TLS.Words())))
		}
		switch {
		case o.show != "":
			showExchange(s, record, result, o.show == "sent" || o.show == "all", o.show == "received" ||
				o.show == "all",
				false)
		default:
			if o.headers {
				for _, name := range sortedHeader(a.Header) {
					for _, v := range a.Header[name] {
						t.printf("  %s\n", t.in(faint, t.visible(name+": "+v)))
					}
				}
			}
			showBody(s, result, 0)
		}
	} else if record != nil && (o.show == "sent" || o.show == "all") {
		showExchange(s, record, result, true, false, false)
	}
	if result.Outcome != workbench.Passed {
		t.printf("%s\n", verdictOf(s.tell, result))
		showDetails(s, result)
	} else if record != nil {
		for _, note := range record.Notes {
			t.note("note: %s", t.visible(note))
		}
	}
}

func findInAnswer(result *workbench.StepResult, p *path.Path) (*document.Node, error) {
	if result.Reply == nil || result.Last() == nil || result.Last().Answer == nil {
		return nil, fmt.Errorf("there is no answer to look in")
	}
	found, err := p.Find(result.Reply.Roots(nil), nil)
	if err != nil {
		return nil, err
	}
	node := found.Whole()
	if node == nil {
		text := found.Missed().String()
		if other := result.Reply.LooksLike(); other != "" {
			text += fmt.Sprintf("; it looks like %s: -as %s reads it as that", other, other.Reading())
		}
		return nil, fmt.Errorf("%s", text)
	}
	if v := node.Value(); v.IsScalar() {
		node = v
	}
	return node, nil
}

// showOutcome says on standard error why a call failed.
func showOutcome(s *session, result *workbench.StepResult) {
	if result.Outcome != workbench.Passed {
		told := result.Told(s.masker)
		why := strings.TrimSpace(string(told.Reason + " " + told.Response))
		for _, c := range told.Checks {
			if why == "" && c.Judged && !c.Passed {
				why = string(report.CheckLine(c))
			}
		}
		s.tell.note("%s %s: %s", told.Target, result.Outcome, s.tell.visible(why))
		for _, text := range told.Hints {
			s.tell.note("  try: %s", s.tell.visible(string(text)))
		}
	}
}

// printPicked prints one value bare.
func printPicked(t *printer, result *workbench.StepResult, p *path.Path) error {
	node, err := findInAnswer(result, p)
	if err != nil {
		return fmt.Errorf("-pick %s: %w", p.Source, err)
	}
	switch {
	case node.IsScalar() && node.Kind != document.Null:
		t.printf("%s\n", node.Text)
	case node.Kind == document.Element:
		t.printf("%s\n", document.WriteXML(node, document.Style{}))
	default:
		t.printf("%s\n", document.WriteJSON(node, document.Style{}))
	}
	return nil
}

type keep struct {
	name string
	path *path.Path
}

func parseKeeps(texts []string) ([]keep, error) {
	var keeps []keep
	for _, text := range texts {
		name, source, ok := strings.Cut(text, "=")
		if !ok || !value.IsIdentifier(name) {
			return nil, usagef("-keep lot=lots.0.id", "-keep %s: a name and a path are expected", text)
		}
		p, err := path.Compile(source)
		if err != nil {
			return nil, usagef("", "-keep %s: %v", text, err)
		}
		keeps = append(keeps, keep{name, p})
	}
	return keeps, nil
}

// readFill reads the fields of a call from a file.
func readFill(s *session, name string) (*document.Node, error) {
	data, err := readFile(s, name)
	if err != nil {
		return nil, err
	}
	if strings.EqualFold(filepath.Ext(name), ".json") {
		node, err := document.ReadJSON(data)
		if err == nil && node.Kind != document.Object {
			err = fmt.Errorf("an object of fields is expected, and this is %s", node.Describe())
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return node, nil
	}
	file := yamlfile.Read(name, data)
	if len(file.Problems) > 0 {
		return nil, file.Problems
	}
	if file.Root == nil || file.Root.Kind != yamlfile.Mapping {
		return nil, fmt.Errorf("%s: fields with their values are expected, as YAML (name: value) or, in a file that "+
			"ends in .json, as JSON", name)
	}
	return yamlNode(file.Root), nil
}

func yamlNode(n *yamlfile.Node) *document.Node {
	switch n.Kind {
	case yamlfile.Mapping:
		object := document.NewObject()
		for _, e := range n.Entries {
			object.AppendMembers(document.Member{Key: e.Key.Text, Value: yamlNode(e.Value)})
		}
		return object
	case yamlfile.Sequence:
		list := document.NewList()
		for _, item := range n.Items {
			list.AppendItems(yamlNode(item))
		}
		return list
	}
	if n.Quoted {
		return document.NewText(n.Text)
	}
	return document.NewUntyped(n.Text)
}

// appendStep adds the call as a step to a sheet, and leaves the rest of the
// file as it is.
func appendStep(ctx context.Context, t *printer, bench *workbench.Bench, step *sheet.Step, o *callOptions,
	options workbench.Options,
) error {
	unlock, err := safefile.Lock(o.into)
	if err != nil {
		return err
	}
	defer unlock()
	source, err := os.ReadFile(o.into)
	if os.IsNotExist(err) {
		source = []byte("sheet: " +
			yamlfile.ScalarText(strings.TrimSuffix(filepath.Base(o.into), filepath.Ext(o.into))) + "\nsteps:\n")
	} else if err != nil {
		return err
	}
	name := strings.Join(o.Target, " ")
	for n, taken := 2, stepNames(o.into, source); slices.Contains(taken, name); n++ {
		name = fmt.Sprintf("%s %d", strings.Join(o.Target, " "), n)
	}
	text, err := bench.StepText(ctx, step, name, o.keep, options)
	if err != nil {
		return err
	}
	changed, err := yamlfile.AppendItem(source, "steps", text)
	if err != nil {
		return fmt.Errorf("%s: %w", o.into, err)
	}
	if err := os.MkdirAll(filepath.Dir(o.into), 0o755); err != nil {
		return err
	}
	if err := safefile.Write(o.into, changed, 0o644); err != nil {
		return err
	}
	t.note("added to %s: step %q", o.into, name)
	return nil
}

func stepNames(name string, source []byte) []string {
	return stepNamesUnder(yamlfile.Read(name, source).Root, "steps")
}

func stepNamesUnder(root *yamlfile.Node, key string) []string {
	var names []string
	if steps := root.Get(key); steps != nil {
		for _, item := range steps.Items {
			if n := item.Get("step"); n != nil {
				names = append(names, n.Text)
			}
		}
	}
	return names
}

func hostOf(address string) string {
	_, rest, _ := strings.Cut(address, "://")
	host, _, _ := strings.Cut(rest, "/")
	host, _, _ = strings.Cut(host, "?")
	return host
}
