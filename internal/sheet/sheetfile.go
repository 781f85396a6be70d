package sheet

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/nearest"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Sheet is a sheet file as it was read.
type Sheet struct {
	Name    string
	About   string
	Site    string
	Rows    *Rows
	First   []*Step // once, before the rows
	Steps   []*Step // for each row
	Finally []*Step // at the end of each row, whatever happened
	Last    []*Step // once, after the rows
	Names   map[string]string

	bench *Bench
	file  *yamlfile.File
	uses  []use
}

// Rows says where the inputs of a sheet come from.
type Rows struct {
	From  string
	Kinds map[string]string // column: kind
	Label string            // the column that names a row in output
	Limit int

	at    *yamlfile.Node
	table *Table
}

// Step is one step of a sheet. Exactly one of Call, Request, Follow, Set and
// WorkOut says what it does.
type Step struct {
	Name  string
	About string

	Call    string          // service/operation
	Request *requestLine    // SERVICE METHOD PATH, or METHOD and URL
	Follow  *value.Template // an address out of an answer
	Set     []request.Field
	WorkOut []expression

	Service string
	Site    string
	Login   *loginChoice // nil: the service's own
	SOAP    soap.Version
	Action  *value.Template
	Fill    *request.Tree
	Spec    request.Spec // headers, query, body and so on, as the step adds them
	Stay    bool         // redirects: off
	Timeout *yamlfile.Node
	Names   map[string]string
	HTTP    string

	When   *rule.Condition
	Keep   []Keep
	Expect Expect
	Fields []FieldRule
	Where  []condition

	at        *yamlfile.Node
	callAt    *yamlfile.Node
	serviceAt *yamlfile.Node
	siteAt    *yamlfile.Node
	fillAt    *yamlfile.Node
	contents  []string // the body keys that were given
	uses      []use
	textAt    *yamlfile.Node
	textFile  string
}

// requestLine is SERVICE METHOD PATH, or METHOD and URL.
type requestLine struct {
	service, method string
	path            *value.Template
	source          string
}

// loginChoice is what a step says about logins.
type loginChoice struct {
	names []string // empty: none
	spoil string   // how, where the login is spoilt
	at    *yamlfile.Node
}

type expression struct {
	name      string
	condition *rule.Condition
}

type condition struct {
	*rule.Condition
	at *yamlfile.Node
}

// Keep says which part of an answer is kept under which name.
type Keep struct {
	Name    string
	Source  string
	Path    *path.Path
	Filters *value.Template // ${it | filters}; nil without filters
	Default bool            // one of them is default
	Secret  bool
}

// FieldRule is a path with the rule that holds for it.
type FieldRule struct {
	Source string
	Path   *path.Path
	Rule   *rule.Rule
}

// Expect is what is expected of a reply as such.
type Expect struct {
	Status   *StatusRule
	Time     *rule.Rule
	Size     *rule.Rule
	Type     *rule.Rule
	Headers  []HeaderRule
	NoFault  bool
	Fault    []FieldRule // paths below reply.fault
	HasFault bool
	Refused  string
}

// HeaderRule is a rule for a header field.
type HeaderRule struct {
	Name string
	Rule *rule.Rule
}

// OpenSheet reads a sheet of a bench. Mistakes in it are given as problems.
func (b *Bench) OpenSheet(name string) (*Sheet, error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &NotFoundError{"sheet", name, sheetsNear(name)}
	}
	if err != nil {
		return nil, err
	}
	return b.ReadSheet(displayName(name), data), nil
}

// sheetsNear lists the sheets in the folder where one was looked for.
func sheetsNear(name string) []string {
	found, _ := filepath.Glob(filepath.Join(filepath.Dir(name), "*.yaml"))
	return slices.DeleteFunc(found, func(f string) bool { return filepath.Base(f) == BenchFile })
}

// ReadSheet reads a sheet from memory.
func (b *Bench) ReadSheet(name string, data []byte) *Sheet {
	s := &Sheet{bench: b, file: yamlfile.Read(name, data)}
	if s.file.Root == nil {
		return s
	}
	r := &reader{file: s.file, dir: b.Dir, uses: &s.uses}
	readMapping(r, "a sheet", s.file.Root, s, sheetKeys)
	if s.Name == "" {
		s.Name = strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	}
	if len(s.Steps) == 0 && s.file.Root.Get("steps") == nil {
		s.file.Report(s.file.Root, "write steps: and below it a step with - step: NAME", "the sheet has no steps")
	}
	return s
}

// Problems lists what is wrong with the sheet.
func (s *Sheet) Problems() yamlfile.Problems { return s.file.Problems }

// inside names a file relative to the bench folder, where it is in there.
func (b *Bench) inside(name string) string {
	dir, err := filepath.Abs(b.Dir)
	if err != nil {
		return name
	}
	full, err := filepath.Abs(name)
	if err != nil {
		return name
	}
	relative, err := filepath.Rel(dir, full)
	if err != nil || strings.HasPrefix(relative, "..") {
		return name
	}
	return filepath.ToSlash(relative)
}

// File returns the name of the sheet's file.
func (s *Sheet) File() string { return s.file.Name }

var sheetKeys = []key[Sheet]{
	{"sheet", "the sheet's name", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Name = r.plainText(n) }},
	{"about", "what it shows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.About = r.text(n) }},
	{"site", "the site, unless another is asked for", func(r *reader, s *Sheet, n *yamlfile.Node) {
		s.Site = r.plainText(n)
		if s.bench.Site(s.Site) == nil && s.Site != "" {
			r.notThere(n, "site", s.Site, s.bench.SiteNames())
		}
	}},
	{"names", "prefixes of XML names", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Names = r.names(n) }},
	{"rows", "the inputs: a CSV file, or from: with more keys", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Rows = r.rowsOf(n) }},
	{"first", "steps before the rows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.First = r.steps(n) }},
	{"steps", "steps for each row", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Steps = r.steps(n) }},
	{"finally", "steps at the end of each row, whatever happened", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Finally = r.steps(n) }},
	{"last", "steps after the rows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Last = r.steps(n) }},
}

func (r *reader) notThere(at *yamlfile.Node, what, name string, known []string) {
	err := &NotFoundError{what, name, known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	r.file.Report(at, try, "%s", message)
}

func (r *reader) rowsOf(n *yamlfile.Node) *Rows {
	rows := &Rows{at: n}
	if n.Kind == yamlfile.Scalar {
		rows.From = r.plainText(n)
	} else {
		readMapping(r, "rows", n, rows, rowsKeys)
	}
	if rows.From == "" {
		r.file.Report(n, "write rows: data/FILE.csv", "rows does not say where they come from")
		return rows
	}
	data, err := readInside(r.dir, rows.From)
	if err == nil {
		rows.table, err = ReadCSV(data, rows.Kinds)
	}
	if err != nil {
		r.file.Report(rows.at, "", "%s: %v", rows.From, err)
		return rows
	}
	if rows.Label != "" && !slices.Contains(rows.table.Columns, rows.Label) {
		r.notThere(rows.at, "column", rows.Label, rows.table.Columns)
	}
	for column := range rows.Kinds {
		if !slices.Contains(rows.table.Columns, column) {
			r.notThere(rows.at, "column", column, rows.table.Columns)
		}
	}
	return rows
}

var rowsKeys = []key[Rows]{
	{"from", "the file", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.From, rows.at = r.plainText(n), n }},
	{"kinds", "column: text, number or boolean", func(r *reader, rows *Rows, n *yamlfile.Node) {
		rows.Kinds = map[string]string{}
		for _, e := range r.entries(n, "kinds") {
			rows.Kinds[e.Key.Text] = r.choice(e.Value, "kind of a column", "text", "number", "boolean")
		}
	}},
	{"label", "the column that names a row in output", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.Label = r.plainText(n) }},
	{"limit", "how many rows at most", func(r *reader, rows *Rows, n *yamlfile.Node) {
		limit, err := strconv.Atoi(r.plainText(n))
		if err != nil || limit < 1 {
			r.file.Report(n, "", "a limit is a whole number from 1")
		}
		rows.Limit = limit
	}},
}

func (r *reader) steps(n *yamlfile.Node) []*Step {
	var steps []*Step
	seen := map[string]bool{}
	for i, item := range r.list(n) {
		step := &Step{at: item}
		inner := *r
		inner.uses = &step.uses
		readMapping(&inner, "a step", item, step, stepKeys)
		if item.Kind != yamlfile.Mapping {
			continue
		}
		if step.Name == "" {
			step.Name = fmt.Sprintf("step %d", i+1)
			if step.Call != "" {
				step.Name = step.Call
			}
		}
		if seen[step.Name] {
			r.file.Report(item, "", "a second step is named %q", step.Name)
		}
		seen[step.Name] = true
		inner.finish(step)
		steps = append(steps, step)
	}
	return steps
}

// finish checks what only the whole step can tell, and reads bodies, whose
// format may hang on a header.
func (r *reader) finish(s *Step) {
	var does []string
	for _, d := range []struct {
		word  string
		given bool
	}{{"call", s.Call != ""}, {"request", s.Request != nil}, {"follow", s.Follow != nil}, {"set", len(s.Set) > 0}, {"work out", len(s.WorkOut) > 0}} {
		if d.given {
			does = append(does, d.word)
		}
	}
	switch {
	case len(does) == 0 && s.at.Get("call") == nil && s.at.Get("request") == nil && s.at.Get("follow") == nil && s.at.Get("set") == nil && s.at.Get("work out") == nil:
		if !slices.ContainsFunc(s.at.Entries, func(e yamlfile.Entry) bool { return later[e.Key.Text] || later["a step "+e.Key.Text] }) {
			r.file.Report(s.at, "write call:, request:, follow:, set: or work out:", "the step %q does nothing", s.Name)
		}
	case len(does) > 1:
		r.file.Report(s.at, "make two steps of it", "the step %q does more than one thing: %s", s.Name, strings.Join(does, " and "))
	}
	if len(s.contents) > 1 {
		r.file.Report(s.at, "keep one of them", "the step %q has more than one body: %s", s.Name, strings.Join(s.contents, ", "))
	}
	if s.textAt != nil {
		r.finishText(s)
	}
}

// finishText reads the body given as text or file. Its kind is the step's
// Content-Type, else the file's ending, else the first character.
func (r *reader) finishText(s *Step) {
	text := s.textAt.Text
	format := document.Format("")
	for _, h := range s.Spec.Headers {
		if strings.EqualFold(h.Name, "Content-Type") && h.Value.Scalar != nil && h.Value.Scalar.IsLiteral() {
			format = document.FormatOf(h.Value.Scalar.LiteralText(), nil)
		}
	}
	if s.textFile != "" {
		data, err := readInside(r.dir, s.textFile)
		if err != nil {
			r.file.Report(s.textAt, "", "%v", err)
			return
		}
		text = string(data)
		if format == "" {
			format = map[string]document.Format{".json": document.JSON, ".xml": document.XML, ".txt": document.Plain, ".csv": document.Plain}[strings.ToLower(filepath.Ext(s.textFile))]
		}
	}
	if format == "" {
		format = guessText(text)
	}
	s.Spec.TextFormat = format
	t, err := value.ParseBody(text, format)
	if err != nil {
		if s.textFile != "" {
			line, column := document.Position([]byte(text), err.(*value.Error).Offset)
			r.file.Report(s.textAt, err.(*value.Error).Try, "%s:%d:%d: %s", s.textFile, line, column, err.(*value.Error).Message)
		} else {
			r.valueError(s.textAt, err)
		}
		t = value.Literal("")
	}
	r.note(s.textAt, t.Holes())
	s.Spec.Text = t
}

func guessText(text string) document.Format {
	switch trimmed := strings.TrimSpace(text); {
	case strings.HasPrefix(trimmed, "{"), strings.HasPrefix(trimmed, "["):
		// ${x} at the start is a placeholder, not JSON.
		return document.JSON
	case strings.HasPrefix(trimmed, "<"):
		return document.XML
	}
	return document.Plain
}

var stepKeys = []key[Step]{
	{"step", "the step's name", func(r *reader, s *Step, n *yamlfile.Node) { s.Name = r.plainText(n) }},
	{"about", "what it shows", func(r *reader, s *Step, n *yamlfile.Node) { s.About = r.text(n) }},
	{"call", "service/operation", func(r *reader, s *Step, n *yamlfile.Node) {
		s.Call, s.callAt = r.plainText(n), n
		if service, operation, ok := strings.Cut(s.Call, "/"); !ok || service == "" || operation == "" {
			r.file.Report(n, "write it like lab/GradeLot; a method with a path goes under request:", "%q is no service/operation", s.Call)
			s.Call = ""
		}
	}},
	{"request", "SERVICE METHOD PATH, or METHOD URL", func(r *reader, s *Step, n *yamlfile.Node) { s.Request, s.callAt = r.request(n), n }},
	{"follow", "an address out of an answer", func(r *reader, s *Step, n *yamlfile.Node) { s.Follow, s.callAt = r.address(n), n }},
	{"set", "values by name", func(r *reader, s *Step, n *yamlfile.Node) {
		for _, e := range r.entries(n, "set") {
			r.identifier(e.Key, "a value")
			s.Set = append(s.Set, request.Field{Name: e.Key.Text, Value: r.tree(e.Value)})
		}
	}},
	{"work out", "values by name, from CEL", func(r *reader, s *Step, n *yamlfile.Node) {
		for _, e := range r.entries(n, "work out") {
			r.identifier(e.Key, "a value")
			if c := r.condition(e.Value); c != nil {
				s.WorkOut = append(s.WorkOut, expression{e.Key.Text, c})
			}
		}
	}},
	{"service", "the service, for follow", func(r *reader, s *Step, n *yamlfile.Node) { s.Service, s.serviceAt = r.plainText(n), n }},
	{"site", "another site for this step", func(r *reader, s *Step, n *yamlfile.Node) { s.Site, s.siteAt = r.plainText(n), n }},
	{"login", "a login, several, none, or spoil: with how:", func(r *reader, s *Step, n *yamlfile.Node) { s.Login = r.loginChoice(n) }},
	{"soap", "1.1 or 1.2", func(r *reader, s *Step, n *yamlfile.Node) { s.SOAP = r.soapVersion(n) }},
	{"action", "the SOAP action", func(r *reader, s *Step, n *yamlfile.Node) { s.Action = r.template(n) }},
	{"blocks", "SOAP header blocks", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.SOAP = &request.SOAP{Blocks: r.tree(n)} }},
	{"headers", "header fields", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.Headers = r.pairs(n, "headers") }},
	{"query", "query values", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.Query = r.pairs(n, "query") }},
	{"cookies", "cookies", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.Cookies = r.pairs(n, "cookies") }},
	{"fill", "fields by name", func(r *reader, s *Step, n *yamlfile.Node) {
		r.entries(n, "fill")
		s.Fill, s.fillAt = r.tree(n), n
	}},
	{"body", "a body as a tree", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.Body = s.content(r, "body", r.tree(n)) }},
	{"text", "a body as text, filled in and escaped", func(r *reader, s *Step, n *yamlfile.Node) {
		r.text(n)
		s.content(r, "text", nil)
		s.textAt = n
	}},
	{"file", "a body from a file, filled in and escaped", func(r *reader, s *Step, n *yamlfile.Node) {
		s.content(r, "file", nil)
		s.textAt, s.textFile = n, r.plainText(n)
	}},
	{"bytes", "a body from a file, untouched", func(r *reader, s *Step, n *yamlfile.Node) {
		s.content(r, "bytes", nil)
		data, err := readInside(r.dir, r.plainText(n))
		if err != nil {
			r.file.Report(n, "", "%v", err)
		}
		s.Spec.Bytes, s.Spec.HasBytes = data, true
	}},
	{"form", "form fields", func(r *reader, s *Step, n *yamlfile.Node) {
		s.content(r, "form", nil)
		s.Spec.Form = r.pairs(n, "form")
	}},
	{"parts", "parts of a multipart body", func(r *reader, s *Step, n *yamlfile.Node) {
		s.content(r, "parts", nil)
		for _, item := range r.list(n) {
			p := request.Part{}
			readMapping(r, "a part", item, &p, partKeys)
			if p.Name == "" || (p.Value == nil) == (p.File == "") {
				r.file.Report(item, "", "a part has a name: and either value: or file:")
			}
			s.Spec.Parts = append(s.Spec.Parts, p)
		}
	}},
	{"drop empty", "true: fields without a value are left out", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.DropEmpty = r.yes(n) }},
	{"redirects", "follow or off", func(r *reader, s *Step, n *yamlfile.Node) {
		s.Stay = r.choice(n, "way with redirects", "follow", "off") == "off"
	}},
	{"http", "1.1 or 2", func(r *reader, s *Step, n *yamlfile.Node) { s.HTTP = r.choice(n, "version of HTTP", "1.1", "2") }},
	{"when", "a condition: the step is left out unless it holds", func(r *reader, s *Step, n *yamlfile.Node) { s.When = r.condition(n) }},
	{"keep", "name: path", func(r *reader, s *Step, n *yamlfile.Node) {
		for _, e := range r.entries(n, "keep") {
			if k := r.keep(e); k != nil {
				s.Keep = append(s.Keep, *k)
			}
		}
	}},
	{"expect", "what the reply must be", func(r *reader, s *Step, n *yamlfile.Node) { readMapping(r, "expect", n, &s.Expect, expectKeys) }},
	{"fields", "path: rule", func(r *reader, s *Step, n *yamlfile.Node) { s.Fields = r.fieldRules(n, "") }},
	{"where", "conditions", func(r *reader, s *Step, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			if c := r.condition(item); c != nil {
				s.Where = append(s.Where, condition{c, item})
			}
		}
	}},
}

// content notes that a body was given; it hands the tree through.
func (s *Step) content(_ *reader, word string, t *request.Tree) *request.Tree {
	s.contents = append(s.contents, word)
	return t
}

var partKeys = []key[request.Part]{
	{"name", "the part's name", func(r *reader, p *request.Part, n *yamlfile.Node) { p.Name = r.plainText(n) }},
	{"value", "its content", func(r *reader, p *request.Part, n *yamlfile.Node) { p.Value = r.tree(n) }},
	{"file", "the file with its content", func(r *reader, p *request.Part, n *yamlfile.Node) {
		name := r.benchFile(n)
		p.FileName = filepath.Base(name)
		p.File, _ = insideBench(r.dir, name)
	}},
	{"file name", "the file name that is sent", func(r *reader, p *request.Part, n *yamlfile.Node) { p.FileName = r.plainText(n) }},
	{"type", "its media type", func(r *reader, p *request.Part, n *yamlfile.Node) { p.Type = r.plainText(n) }},
}

func (r *reader) request(n *yamlfile.Node) *requestLine {
	text := strings.TrimSpace(r.text(n))
	line := &requestLine{source: text}
	first, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	if isMethod(first) && (strings.Contains(rest, "://") || strings.HasPrefix(rest, "${")) {
		line.method = first
	} else {
		line.service = first
		line.method, rest, _ = strings.Cut(rest, " ")
		rest = strings.TrimSpace(rest)
		// Without a path the service's own address is meant, as for SOAP.
		if !isMethod(line.method) || rest != "" && rest[0] != '/' && rest[0] != '?' {
			try := "write it like stores GET /lots, or GET http://host/path"
			if meant := nearest.Of(strings.ToUpper(line.method), methods); meant != "" && !isMethod(line.method) {
				try = nearest.Try(line.method, []string{meant})
			}
			r.file.Report(n, try, "%q is no request: a service, a method and a path are wanted", text)
			return nil
		}
	}
	t, err := value.ParseAddress(rest)
	if err != nil {
		r.valueError(n, err)
		return nil
	}
	if line.service != "" {
		// The path stands behind the service's address: nothing in it is raw.
		if t, err = value.ParsePath(rest); err != nil {
			r.valueError(n, err)
			return nil
		}
	}
	line.path = t
	r.note(n, t.Holes())
	return line
}

func (r *reader) loginChoice(n *yamlfile.Node) *loginChoice {
	c := &loginChoice{at: n}
	if n.Kind == yamlfile.Mapping {
		readMapping(r, "login", n, c, loginChoiceKeys)
		if len(c.names) == 0 || c.spoil == "" {
			r.file.Report(n, "write spoil: LOGIN and how: expired, tampered or empty", "a spoilt login needs both")
		}
		return c
	}
	c.names = r.loginNames(n)
	return c
}

var loginChoiceKeys = []key[loginChoice]{
	{"spoil", "the login whose token is spoilt", func(r *reader, c *loginChoice, n *yamlfile.Node) { c.names, c.at = []string{r.plainText(n)}, n }},
	{"how", "expired, tampered or empty", func(r *reader, c *loginChoice, n *yamlfile.Node) {
		c.spoil = r.choice(n, "way to spoil a token", login.Ways...)
	}},
}

// keep reads `name: path | filters`, or a mapping with at: and secret:.
func (r *reader) keep(e yamlfile.Entry) *Keep {
	k := &Keep{Name: r.identifier(e.Key, "a kept value")}
	at := e.Value
	if at.Kind == yamlfile.Mapping {
		inner := &keeping{}
		readMapping(r, "keep", at, inner, keepKeys)
		k.Secret = inner.secret
		if at = inner.at; at == nil {
			r.file.Report(e.Value, "write at: PATH", "the kept value %s does not say where it stands", k.Name)
			return nil
		}
	}
	k.Source = r.text(at)
	source, filters := cutFilters(k.Source)
	if k.Path = r.pathText(at, strings.TrimSpace(source), 0); k.Path == nil {
		return nil
	}
	if filters != "" {
		t, err := value.Parse("${it |" + filters + "}")
		if err != nil {
			if e, ok := err.(*value.Error); ok {
				e.Offset += len(source) - len("${it ")
			}
			r.valueError(at, err)
			return nil
		}
		k.Filters = t
		for _, f := range t.Holes()[0].Filters {
			k.Default = k.Default || f.Name == "default"
		}
	}
	return k
}

// cutFilters cuts a path from the filters behind it; a bar in quotes or
// brackets belongs to the path.
func cutFilters(text string) (path, filters string) {
	quoted, depth := false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		case c == '|' && depth == 0:
			return text[:i], text[i+1:]
		}
	}
	return text, ""
}

type keeping struct {
	at     *yamlfile.Node
	secret bool
}

var keepKeys = []key[keeping]{
	{"at", "path of the value", func(_ *reader, k *keeping, n *yamlfile.Node) { k.at = n }},
	{"secret", "true: it is masked from then on", func(r *reader, k *keeping, n *yamlfile.Node) { k.secret = r.yes(n) }},
}

// fieldRules reads paths with rules; the paths are put behind prefix.
func (r *reader) fieldRules(n *yamlfile.Node, prefix string) []FieldRule {
	var rules []FieldRule
	for _, e := range r.entries(n, "fields") {
		p, err := path.Compile(prefix + e.Key.Text)
		if err != nil {
			if problem, ok := err.(*path.Error); ok {
				r.file.ReportInside(e.Key, problem.Offset-len(prefix), problem.Try, "%s", problem.Message)
			}
			continue
		}
		r.note(e.Key, p.Holes())
		if parsed := r.rule(e.Value); parsed != nil {
			rules = append(rules, FieldRule{Source: e.Key.Text, Path: p, Rule: parsed})
		}
	}
	return rules
}

var expectKeys = []key[Expect]{
	{"status", "201, 200 or 201, 2xx, not 5xx", func(r *reader, e *Expect, n *yamlfile.Node) {
		status, err := ParseStatus(r.text(n))
		if err != nil {
			r.file.Report(n, "write it like 201, 200 or 201, 2xx, not 5xx", "%v", err)
			return
		}
		e.Status = status
	}},
	{"time", "a rule: under 800 ms", func(r *reader, e *Expect, n *yamlfile.Node) { e.Time = r.rule(n) }},
	{"size", "a rule: under 20 kB", func(r *reader, e *Expect, n *yamlfile.Node) { e.Size = r.rule(n) }},
	{"type", "a media type, or a rule", func(r *reader, e *Expect, n *yamlfile.Node) { e.Type = r.rule(n) }},
	{"headers", "header: rule", func(r *reader, e *Expect, n *yamlfile.Node) {
		for _, entry := range r.entries(n, "headers") {
			if parsed := r.rule(entry.Value); parsed != nil {
				e.Headers = append(e.Headers, HeaderRule{entry.Key.Text, parsed})
			}
		}
	}},
	{"fault", "none, or rules for code, text, role, detail", func(r *reader, e *Expect, n *yamlfile.Node) {
		if n.Kind == yamlfile.Scalar {
			e.NoFault = r.choice(n, "fault: write none, or a mapping of code, text and detail to rules", "none") != ""
			return
		}
		for _, entry := range n.Entries {
			first, _, _ := strings.Cut(strings.NewReplacer("[", ".").Replace(entry.Key.Text), ".")
			if !slices.Contains([]string{"code", "subcode", "text", "role", "detail"}, first) {
				r.file.Report(entry.Key, nearest.Try(first, []string{"code", "subcode", "text", "role", "detail"}), "a fault has no %q", first)
			}
		}
		e.HasFault = true
		e.Fault = r.fieldRules(n, "reply.fault.")
	}},
	{"refused", "tls, certificate or connection", func(r *reader, e *Expect, n *yamlfile.Node) {
		e.Refused = r.choice(n, "kind of refusal", "tls", "certificate", "connection")
	}},
}

// StatusRule is a rule for a status code.
type StatusRule struct {
	Source string
	not    bool
	any    []string // 201, or 2xx
}

// ParseStatus reads a rule for a status: codes and classes joined by or, with
// an optional not before them.
func ParseStatus(text string) (*StatusRule, error) {
	s := &StatusRule{Source: strings.TrimSpace(text)}
	rest := s.Source
	if after, ok := strings.CutPrefix(rest, "not "); ok {
		s.not, rest = true, strings.TrimSpace(after)
	}
	for _, part := range strings.Split(rest, " or ") {
		part = strings.TrimSpace(part)
		code, err := strconv.Atoi(part)
		isClass := len(part) == 3 && part[0] >= '1' && part[0] <= '5' && strings.EqualFold(part[1:], "xx")
		if !isClass && (err != nil || code < 100 || code > 599) {
			return nil, fmt.Errorf("%q is no status", part)
		}
		s.any = append(s.any, strings.ToLower(part))
	}
	return s, nil
}

// Holds says whether a status is as the rule wants it.
func (s *StatusRule) Holds(status int) bool {
	text := strconv.Itoa(status)
	for _, one := range s.any {
		if one == text || one[1:] == "xx" && one[0] == text[0] {
			return !s.not
		}
	}
	return s.not
}

// wantsSuccess says whether the rule can hold for a success.
func (s *StatusRule) wantsSuccess() bool {
	return s.Holds(http.StatusOK) || s.Holds(http.StatusCreated) || s.Holds(http.StatusAccepted) || s.Holds(http.StatusNoContent)
}
