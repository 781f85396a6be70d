package sheet

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/nearest"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/safefile"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

func (r *reader) steps(n *yamlfile.Node) []*Step {
	var steps []*Step
	seen := map[string]bool{}
	for i, item := range r.list(n) {
		step := r.step(item, fmt.Sprintf("step %d", i+1))
		if step == nil {
			continue
		}
		if seen[step.Name] {
			r.file.Report(item, "", "a second step is named %q", step.Name)
		}
		seen[step.Name] = true
		steps = append(steps, step)
	}
	return steps
}

// step reads one step; nil where it is none.
func (r *reader) step(n *yamlfile.Node, otherwise string) *Step {
	step := &Step{at: n}
	inner := *r
	inner.uses = &step.uses
	readMapping(&inner, "a step", n, step, stepKeys)
	if n.Kind != yamlfile.Mapping {
		return nil
	}
	if step.Name == "" {
		step.Name = otherwise
		if step.Call != "" {
			step.Name = step.Call
		}
	}
	inner.finish(step)
	return step
}

// textFormat is the kind of a body given as text or file: that of the step's Content-Type,
// else of the file's ending, else of the first character.
func (s *Step) textFormat(file, text string) document.Format {
	format := map[string]document.Format{".json": document.JSON, ".xml": document.XML, ".txt": document.Plain, ".csv": document.Plain}[strings.ToLower(filepath.Ext(file))]
	for _, h := range s.Spec.Headers {
		if strings.EqualFold(h.Name, "Content-Type") && h.Value.Scalar != nil && h.Value.Scalar.IsLiteral() {
			format = document.FormatOf(h.Value.Scalar.LiteralText(), nil)
		}
	}
	if format == "" {
		return guessText(text)
	}
	return format
}

// finishText reads the body given as text or file.
func (r *reader) finishText(s *Step) {
	text := s.textAt.Text
	if s.textFile != "" {
		r.reading(s.textFile)
		data, err := readInside(r.dir, s.textFile)
		if err != nil {
			r.file.Report(s.textAt, "", "%v", err)
			return
		}
		text = string(data)
	}
	format := s.textFormat(s.textFile, text)
	s.Spec.TextFormat = format
	t, err := value.ParseBody(text, format)
	if err != nil {
		if s.textFile != "" {
			line, column := document.Position([]byte(text), err.(*value.Error).Offset)
			r.file.Report(s.textAt, err.(*value.Error).Try, "%s:%d:%d: %s", s.textFile, line, column, err.(*value.Error).Message)
		} else {
			r.mistake(s.textAt, 0, err)
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
			s.Set = append(s.Set, request.Field{Name: e.Key.Text, Value: r.named(e)})
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
	{"pause", "how long nothing is done", func(r *reader, s *Step, n *yamlfile.Node) { s.Pause = r.duration(n) }},
	{"for each", "${list}, or name: ${list}: once for each item", func(r *reader, s *Step, n *yamlfile.Node) { s.Each = r.each(n) }},
	{"stop", "row or sheet: what ends where the step falls short", func(r *reader, s *Step, n *yamlfile.Node) {
		s.Stop = r.choice(n, "end of a stop", "row", "sheet")
	}},
	{"until", "path: rule: asks again until they hold", func(r *reader, s *Step, n *yamlfile.Node) { s.waiting().Until = r.fieldRules(n, "") }},
	{"every", "the pause between askings; 200 ms to 5 s grows", func(r *reader, s *Step, n *yamlfile.Node) { s.waiting().Every = r.pauses(n) }},
	{"within", "how long is waited at most", func(r *reader, s *Step, n *yamlfile.Node) { s.waiting().Within = r.duration(n) }},
	{"states", "the states on the way, in their order", func(r *reader, s *Step, n *yamlfile.Node) { s.waiting().States = r.states(n) }},
	{"again", "how often it is tried, where it goes wrong", func(r *reader, s *Step, n *yamlfile.Node) { s.Again = r.again(n) }},
	{"lookup", "a database or folder of the bench to look into", func(r *reader, s *Step, n *yamlfile.Node) {
		s.looking().database, s.Lookup.at = r.plainText(n), n
	}},
	{"sql", "for lookup: a query, with parameters as :name that fill: fills", func(r *reader, s *Step, n *yamlfile.Node) { s.looking().read(r, n) }},
	{"find", "for lookup in a folder: a pattern of files that are to be there", func(r *reader, s *Step, n *yamlfile.Node) { s.looking().Find = r.template(n) }},
	{"open", "for lookup in a folder: the file that is read", func(r *reader, s *Step, n *yamlfile.Node) { s.looking().Open = r.template(n) }},
	{"service", "the service, for follow", func(r *reader, s *Step, n *yamlfile.Node) { s.Service, s.serviceAt = r.plainText(n), n }},
	{"site", "another site for this step", func(r *reader, s *Step, n *yamlfile.Node) { s.Site, s.siteAt = r.plainText(n), n }},
	{"login", "a login, several, none, or spoil: with how:", func(r *reader, s *Step, n *yamlfile.Node) { s.Login = r.loginChoice(n) }},
	{"contract", "what is held against it: both, request, answer or off", func(r *reader, s *Step, n *yamlfile.Node) {
		s.Contract = r.choice(n, "part of an exchange", "both", "request", "answer", "off")
	}},
	{"attach", "files that travel beside the envelope", func(r *reader, s *Step, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			var a request.Attachment
			readMapping(r, "an attachment", item, &a, attachKeys)
			if a.File == "" {
				r.file.Report(item, "write file: NAME", "an attachment needs a file")
			}
			s.Spec.Attach = append(s.Spec.Attach, a)
		}
	}},
	{"addressing", "true: WS-Addressing blocks go with it", func(r *reader, s *Step, n *yamlfile.Node) {
		s.Addressing = r.choice(n, "answer to yes or no (true or false)", "true", "false")
	}},
	{"soap", "1.1 or 1.2; off for a body that goes without an envelope of ours", func(r *reader, s *Step, n *yamlfile.Node) {
		s.SOAP = soap.Version(r.choice(n, "version of SOAP", "1.1", "1.2", soapOff))
	}},
	{"action", "the SOAP action", func(r *reader, s *Step, n *yamlfile.Node) { s.Action = r.template(n) }},
	{"blocks", "SOAP header blocks", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.SOAP = &request.SOAP{Blocks: r.tree(n)} }},
	{"headers", "header fields; null for one that is not to go with it", func(r *reader, s *Step, n *yamlfile.Node) { s.Spec.Headers = r.pairs(n, "headers") }},
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
		r.reading(n.Text)
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
	{"pages", "how many pages of a list are read, where an answer leads to the next one", func(r *reader, s *Step, n *yamlfile.Node) {
		pages, err := strconv.Atoi(r.plainText(n))
		if err != nil || pages < 1 {
			r.file.Report(n, "pages: 5", "pages must be a whole number from 1")
		}
		s.Pages = pages
	}},
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

// A group holds steps, which are read by the same keys.
func init() {
	stepKeys = append(stepKeys,
		key[Step]{"steps", "a group: steps one after the other", func(r *reader, s *Step, n *yamlfile.Node) { s.Group = r.steps(n) }},
		key[Step]{"sheet", "another sheet to run, with fill: for what it takes", func(r *reader, s *Step, n *yamlfile.Node) { s.Sub = r.sub(n) }},
		key[Step]{"listen", "waits to be called back: method, path, match, signed, answer", func(r *reader, s *Step, n *yamlfile.Node) { s.Listen = r.listen(n) }},
		key[Step]{"undo", "a step that takes it back, at the end of the row", func(r *reader, s *Step, n *yamlfile.Node) {
			s.Undo = r.step(n, "undo")
			if s.Undo != nil && s.Undo.Undo != nil {
				r.file.Report(n, "", "what takes something back is not taken back itself")
			}
		}})
}

// content notes that a body was given; it hands the tree through.
func (s *Step) content(_ *reader, word string, t *request.Tree) *request.Tree {
	s.contents = append(s.contents, word)
	return t
}

var attachKeys = []key[request.Attachment]{
	{"file", "the file", func(r *reader, a *request.Attachment, n *yamlfile.Node) {
		name := r.benchFile(n)
		a.File, _ = safefile.Inside(r.dir, name)
		if a.Name == "" {
			a.Name = filepath.Base(name)
		}
	}},
	{"type", "its media type", func(r *reader, a *request.Attachment, n *yamlfile.Node) { a.Type = r.plainText(n) }},
	{"name", "how fields refer to it", func(r *reader, a *request.Attachment, n *yamlfile.Node) { a.Name = r.plainText(n) }},
}

var partKeys = []key[request.Part]{
	{"name", "the part's name", func(r *reader, p *request.Part, n *yamlfile.Node) { p.Name = r.plainText(n) }},
	{"value", "its content", func(r *reader, p *request.Part, n *yamlfile.Node) { p.Value = r.tree(n) }},
	{"file", "the file with its content", func(r *reader, p *request.Part, n *yamlfile.Node) {
		name := r.benchFile(n)
		p.FileName = filepath.Base(name)
		p.File, _ = safefile.Inside(r.dir, name)
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
	parse := value.ParseAddress
	if line.service != "" {
		parse = value.ParsePath // it stands behind the service's address: nothing in it is raw
	}
	t, err := parse(rest)
	if err != nil {
		r.mistake(n, strings.LastIndex(n.Text, rest), err)
		return nil
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
			r.file.Report(n, "write spoil: LOGIN and how: "+strings.Join(login.Ways, ", "), "a spoilt login needs both")
		}
		return c
	}
	c.names = r.loginNames(n)
	return c
}

var loginChoiceKeys = []key[loginChoice]{
	{"spoil", "the login whose token is spoilt", func(r *reader, c *loginChoice, n *yamlfile.Node) { c.names, c.at = []string{r.plainText(n)}, n }},
	{"how", strings.Join(login.Ways, ", "), func(r *reader, c *loginChoice, n *yamlfile.Node) {
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
			r.mistake(at, len(source)-len("${it "), err)
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
			r.mistake(e.Key, -len(prefix), err)
			continue
		}
		r.note(e.Key, p.Holes())
		if parsed := r.rule(e.Value); parsed != nil {
			rules = append(rules, FieldRule{Source: e.Key.Text, Path: p, Rule: parsed})
		}
	}
	return rules
}
