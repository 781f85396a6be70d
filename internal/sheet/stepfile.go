package sheet

import (
	"path/filepath"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/login"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/safefile"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// TextFormat is the kind of a body given as text or file: that of the step's Content-Type,
// else of the file's ending, else of the first character.
func (s *Step) TextFormat(file, text string) document.Format {
	format := map[string]document.Format{
		".json": document.JSON, ".xml": document.XML, ".txt": document.Plain,
		".csv": document.Plain,
	}[strings.ToLower(filepath.Ext(file))]
	for _, h := range s.Spec.Headers {
		if strings.EqualFold(h.Name, "Content-Type") && h.Value.Scalar != nil && h.Value.Scalar.IsLiteral() {
			format = document.FormatOf(h.Value.Scalar.LiteralText(), nil)
		}
	}
	if format == "" {
		return mapping.GuessText(text)
	}
	return format
}

// finishText reads the body given as text or file.
func finishText(r *mapping.Reader, s *Step) {
	text := s.textAt.Text
	if s.TextFile != "" {
		r.Reading(s.TextFile)
		data, err := mapping.ReadInside(r.Dir, s.TextFile)
		if err != nil {
			r.File.Report(s.textAt, "", "%v", err)
			return
		}
		text = string(data)
	}
	format := s.TextFormat(s.TextFile, text)
	s.Spec.TextFormat = format
	t, err := value.ParseBody(text, format)
	if err != nil {
		if s.TextFile != "" {
			line, column := document.Position([]byte(text), err.(*value.Error).Offset)
			r.File.Report(s.textAt, err.(*value.Error).Try, "%s:%d:%d: %s", s.TextFile, line, column,
				err.(*value.Error).Message)
		} else {
			r.Mistake(s.textAt, 0, err)
		}
		t = value.Literal("")
	}
	r.Note(s.textAt, t.Placeholders())
	s.Spec.Text = t
}

// namingKeys is how many of the common keys stand first, and name a step.
const namingKeys = 2

// commonKeys are those that several kinds of steps have.
var commonKeys = []mapping.Key[Step]{
	mapping.TextKey("step", "the step's name", func(s *Step) *string { return &s.Name }),
	mapping.NewKey("about", "what it shows",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.About = r.Text(n) }),
	mapping.NewKey("skip", "why the step is left out for now", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		if s.Skip = r.PlainText(n); s.Skip == "" || s.Skip == "true" || s.Skip == "yes" {
			r.File.Report(n, "write skip: waits for the new scale", "skip: needs the reason in words")
		}
	}),
	mapping.YesKey("soft", "true: checks that fail are told, and the step passes",
		func(s *Step) *bool { return &s.Soft }),
	mapping.YesKey("once", "true: of several machines that share a run, only the first runs it (in first: and last:)",
		func(s *Step) *bool { return &s.Once }),
	mapping.NewKey("tags", "words by which steps are chosen (run -tag)",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Tags = r.Words(n) }),
	mapping.TimeoutKey("timeout", "how long an exchange may take: 5 s; that of the service unless said",
		func(s *Step) *time.Duration { return &s.Timeout }),
	mapping.NewKey("stream", mapping.StreamHelp,
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Spec.Stream = r.Stream(n) }),
	mapping.NewKey("answer as", mapping.AnswerAsHelp,
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Spec.AnswerAs = r.AnswerAs(n) }),
	mapping.NewKey("for each", "${list}, or name: ${list}: once for each item",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Each = readEach(r, n) }),
	mapping.NewKey("stop", "row or sheet: what ends where the step fails",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Stop = r.Choice(n, "end of a stop", "row", "sheet")
		}),
	mapping.NewKey("until", "path: rule: asks again until they hold",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.waiting().Until = ReadFieldRules(r, n, "")
		}),
	mapping.NewKey("every", "the pause between askings, or from and to: it grows; 200 ms to 5 s unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.waiting().Every = readPauses(r, n) }),
	mapping.NewKey("within", "how long is waited at most; 30 s unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.waiting().Within = r.Duration(n)
		}),
	mapping.NewKey("states", "the states on the way, in their order",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.waiting().States = readStates(r, n)
		}),
	mapping.NewKey("again", "how often it is tried, where it goes wrong",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Again = readAgain(r, n) }),
	mapping.NewKey("site", "another site for this step; that of the sheet unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Site, s.SiteAt = r.PlainText(n), n
		}),
	mapping.NewKey("login", "a login, several, none, or spoil: with how:",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Login = readLoginChoice(r, n) }),
	mapping.NewKey("contract", "what is checked against it: both, request, answer or off; both unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Contract = r.Choice(n, "part of an exchange", "both", "request", "answer", "off")
		}),
	mapping.NewKey("attach", "files that travel beside the envelope",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				var a request.Attachment
				mapping.Read(r, "an attachment", item, &a, attachKeys)
				r.Needs(item, "file")
				if a.File == "" {
					r.File.Report(item, "write file: NAME", "an attachment needs a file")
				}
				s.Spec.Attach = append(s.Spec.Attach, a)
			}
		}),
	mapping.NewKey("addressing", "true: WS-Addressing blocks go with it; or a mapping of how",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Addressing, s.Addressed = r.Addressing(n)
		}),
	mapping.NewKey("soap", "1.1 or 1.2; off for a body that goes without an envelope of ours",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.SOAP = soap.Version(r.Choice(n, "version of SOAP", "1.1", "1.2", SOAPOff))
		}),
	mapping.NewKey("port", "another port of the contract", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.Port = r.PlainText(n)
	}),
	mapping.TemplateKey("action", "the SOAP action", func(s *Step) **value.Template { return &s.SOAPAction }),
	mapping.NewKey("blocks", "SOAP header blocks", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.Spec.SOAP = &request.SOAP{Blocks: r.Tree(n)}
	}),
	mapping.NewKey("headers", "header fields; null for one that is not to go with it",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.Spec.Headers = r.Pairs(n, "headers") }),
	mapping.NewKey("query", "query values; null leaves one out", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.Spec.Query = r.Pairs(n, "query")
	}),
	mapping.NewKey("cookies", "cookies; null leaves one out", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.Spec.Cookies = r.Pairs(n, "cookies")
	}),
	mapping.NewKey("fill", "fields by name, or a list by position",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			if n.Kind == yamlfile.Sequence {
				r.List(n)
			} else {
				r.Entries(n, "fill")
			}
			s.Fill, s.FillAt = r.Tree(n), n
		}),
	mapping.NewKey("body", "a body as a tree", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		r.NotFile(n, "body", "write file: "+n.Text)
		s.Spec.Body = s.content(r, "body", r.Tree(n))
	}),
	mapping.NewKey("text", "a body as text, filled in and escaped", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		r.Text(n)
		r.NotFile(n, "text", "write file: "+n.Text)
		s.content(r, "text", nil)
		s.textAt = n
	}),
	mapping.NewKey("file", "a body from a file, filled in and escaped",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.content(r, "file", nil)
			s.textAt, s.TextFile = n, r.PlainText(n)
		}),
	mapping.NewKey("bytes", "a body from a file, untouched", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.content(r, "bytes", nil)
		r.Reading(n.Text)
		data, err := mapping.ReadInside(r.Dir, r.PlainText(n))
		if err != nil {
			r.File.Report(n, "", "%v", err)
		}
		s.Spec.Bytes, s.Spec.HasBytes = data, true
	}),
	mapping.NewKey("form", "form fields; null leaves one out", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.content(r, "form", nil)
		s.Spec.Form = r.Pairs(n, "form")
	}),
	mapping.NewKey("parts", "parts of a multipart body; of a batch, steps",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.content(r, "parts", nil)
			for _, item := range r.List(n) {
				p := request.Part{}
				mapping.Read(r, "a part", item, &p, partKeys)
				r.Needs(item, "name")
				if p.Name == "" || (p.Value == nil) == (p.File == "") {
					r.File.Report(item, "", "a part has a name: and either value: or file:")
				}
				s.Spec.Parts = append(s.Spec.Parts, p)
			}
		}),
	mapping.YesKey("drop empty", "true: fields without a value are left out",
		func(s *Step) *bool { return &s.Spec.DropEmpty }),
	mapping.NewKey("pages", "how many pages of a list are read, where an answer leads to the next one; 1 unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Pages = r.Whole(n, "pages")
		}),
	mapping.NewKey("redirects", "follow or off; follow unless said",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
			s.Stay = r.Choice(n, "way with redirects", "follow", "off") == "off"
		}),
	mapping.NewKey("http", "1.1 or 2", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.HTTP = r.Choice(n, "version of HTTP", "1.1", "2")
	}),
	mapping.NewKey("when", "a condition: the step is left out unless it holds",
		func(r *mapping.Reader, s *Step, n *yamlfile.Node) { s.When = r.Condition(n) }),
	mapping.NewKey("keep", "name: path", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		r.NotEmpty(n, "keep")
		for _, e := range r.Entries(n, "keep") {
			if k := readKeep(r, e); k != nil {
				s.Keep = append(s.Keep, *k)
			}
		}
	}),
	mapping.NewKey("expect", "what the reply must be", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		r.NotEmpty(n, "expect")
		mapping.Read(r, "expect", n, &s.Expect, expectKeys)
	}),
	mapping.NewKey("checks", "a check of the bench by name, or a list of them",
		func(r *mapping.Reader, _ *Step, n *yamlfile.Node) { r.Words(n) }),
	mapping.NewKey("fills", "a fill-in of the bench by name, or a list of them",
		func(r *mapping.Reader, _ *Step, n *yamlfile.Node) { r.Words(n) }),
	mapping.NewKey("fields", "path: rule", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		s.Fields = ReadFieldRules(r, n, "")
	}),
	mapping.NewKey("where", "conditions", func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
		r.NotEmpty(n, "where")
		for _, item := range r.List(n) {
			if c := r.Condition(item); c != nil {
				s.Where = append(s.Where, Condition{c, item})
			}
		}
	}),
}

// What takes a step back is a step, which is read by the same keys.
func init() {
	commonKeys = append(commonKeys,
		mapping.NewKey("undo", "a step that takes it back, at the end of the row",
			func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
				s.Undo = readStep(r, n, "undo", s.from)
				if s.Undo != nil && s.Undo.Undo != nil {
					r.File.Report(n, "", "what takes something back is not taken back itself")
				}
			}))
}

// content notes that a body was given; it hands the tree through.
func (s *Step) content(_ *mapping.Reader, word string, t *request.Tree) *request.Tree {
	s.Contents = append(s.Contents, word)
	return t
}

var attachKeys = []mapping.Key[request.Attachment]{
	mapping.NewKey("file", "the file", func(r *mapping.Reader, a *request.Attachment, n *yamlfile.Node) {
		name := r.BenchFile(n)
		a.File, _ = safefile.Inside(r.Dir, name)
		if a.Name == "" {
			a.Name = filepath.Base(name)
		}
	}),
	mapping.TextKey("type", "its media type", func(a *request.Attachment) *string { return &a.Type }),
	mapping.TextKey("name", "how fields refer to it", func(a *request.Attachment) *string { return &a.Name }),
}

var partKeys = []mapping.Key[request.Part]{
	mapping.TextKey("name", "the part's name", func(p *request.Part) *string { return &p.Name }),
	mapping.NewKey("value", "its content", func(r *mapping.Reader, p *request.Part, n *yamlfile.Node) {
		r.NotFile(n, "value", "write file: "+n.Text)
		p.Value = r.Tree(n)
	}),
	mapping.NewKey("file", "the file with its content", func(r *mapping.Reader, p *request.Part, n *yamlfile.Node) {
		name := r.BenchFile(n)
		p.FileName = filepath.Base(name)
		p.File, _ = safefile.Inside(r.Dir, name)
	}),
	mapping.TextKey("file name", "the file name that is sent", func(p *request.Part) *string { return &p.FileName }),
	mapping.TextKey("type", "its media type", func(p *request.Part) *string { return &p.Type }),
	mapping.NewKey("headers", "further header fields of the part",
		func(r *mapping.Reader, p *request.Part, n *yamlfile.Node) { p.Headers = r.Values(n, "headers") }),
}

func readLoginChoice(r *mapping.Reader, n *yamlfile.Node) *LoginChoice {
	c := &LoginChoice{At: n}
	if n.Kind == yamlfile.Mapping {
		mapping.Read(r, "login", n, c, loginChoiceKeys)
		r.Needs(n, "spoil", "how")
		if len(c.Names) == 0 || c.Spoil == "" {
			r.File.Report(n, "write spoil: LOGIN and how: "+strings.Join(login.Ways, ", "), "a spoilt login needs both")
		}
		return c
	}
	r.NotEmpty(n, "login")
	c.Names = bench.ReadLoginNames(r, n)
	return c
}

var loginChoiceKeys = []mapping.Key[LoginChoice]{
	mapping.NewKey("spoil", "the login whose token is spoilt",
		func(r *mapping.Reader, c *LoginChoice, n *yamlfile.Node) {
			c.Names, c.At = []string{r.PlainText(n)}, n
		}),
	mapping.NewKey("how", strings.Join(login.Ways, ", "), func(r *mapping.Reader, c *LoginChoice, n *yamlfile.Node) {
		c.Spoil = r.Choice(n, "way to spoil a token", login.Ways...)
	}),
}

// readKeep reads `name: path | filters`, or a mapping with at: and secret:.
func readKeep(r *mapping.Reader, e yamlfile.Entry) *Keep {
	k := &Keep{Name: r.Identifier(e.Key, "a kept value")}
	at := e.Value
	if at.Kind == yamlfile.Mapping {
		inner := &keeping{}
		mapping.Read(r, "keep", at, inner, keepKeys)
		r.Needs(at, "at")
		k.Secret = inner.secret
		if at = inner.at; at == nil {
			r.File.Report(e.Value, "write at: PATH", "the kept value %s does not say where it is", k.Name)
			return nil
		}
	}
	k.Source = r.Text(at)
	source, filters, _ := path.CutBar(k.Source)
	if goesOn().MatchString(filters) { // into what a filter makes of it
		if k.Path = r.PathText(at, k.Source, 0); k.Path == nil {
			return nil
		}
		return k
	}
	if k.Path = r.PathText(at, strings.TrimSpace(source), 0); k.Path == nil {
		return nil
	}
	if filters != "" {
		t, err := value.Parse("${it |" + filters + "}")
		if err != nil {
			r.Mistake(at, len(source)-len("${it "), err)
			return nil
		}
		k.Filters = t
		for _, f := range t.Placeholders()[0].Filters {
			k.Default = k.Default || f.Name == "default"
		}
	}
	return k
}

// goesOn finds a path after a filter.
var goesOn = lazy.Regexp(`\|\s*[.\[]`)

type keeping struct {
	at     *yamlfile.Node
	secret bool
}

var keepKeys = []mapping.Key[keeping]{
	mapping.NewKey("at", "path of the value", func(_ *mapping.Reader, k *keeping, n *yamlfile.Node) { k.at = n }),
	mapping.YesKey("secret", "true: it is masked from then on", func(k *keeping) *bool { return &k.secret }),
}

// ReadFieldRules reads paths with rules; the paths are put after prefix.
func ReadFieldRules(r *mapping.Reader, n *yamlfile.Node, prefix string) []FieldRule {
	var rules []FieldRule
	r.NotEmpty(n, "the list of rules")
	for _, e := range r.Entries(n, "fields") {
		p, err := path.Compile(prefix + e.Key.Text)
		if err != nil {
			r.Mistake(e.Key, -len(prefix), err)
			continue
		}
		value.Shift(p.Placeholders(), -len(prefix))
		r.Note(e.Key, p.Placeholders())
		if parsed := r.RuleAt(p, e.Value); parsed != nil {
			rules = append(rules, FieldRule{Source: e.Key.Text, Path: p, Rule: parsed})
		}
	}
	return rules
}

func init() {
	mapping.RegisterKeys("a sheet", sheetKeys)
	mapping.RegisterKeys("expect:", expectKeys)
}

// SOAPOff stands where a version of SOAP would, for a body that is sent as it is.
const SOAPOff = "off"

// SOAPWords are the keys of a step that mean something for SOAP alone, as far as it has
// them.
func (s *Step) SOAPWords() []string {
	var words []string
	for _, one := range []struct {
		word  string
		given bool
	}{
		{"soap", s.SOAP != "" && s.SOAP != SOAPOff},
		{"action", s.SOAPAction != nil},
		{"blocks", s.Spec.SOAP != nil && s.Spec.SOAP.Blocks != nil},
		{"addressing", s.Addressing != ""},
		{"attach", len(s.Spec.Attach) > 0},
	} {
		if one.given {
			words = append(words, one.word+":")
		}
	}
	return words
}
