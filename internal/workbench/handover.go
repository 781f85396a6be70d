package workbench

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"sort"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/handover"
	"testbench/internal/history"
	"testbench/internal/path"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/value"
	"testbench/internal/vet"
)

// Handover makes a program of a prepared step, with the values of a row, nil for none: what it sends, with its
// token and its secrets by name, and what it keeps. Nothing of it is sent, no secret is opened; what has to be
// read beforehand (a contract, a version) is.
func Handover(ctx context.Context, b *Bench, step *sheet.Step, row *document.Node, takes []*path.Path,
	o Options,
) (*handover.Program, error) {
	marks := &marking{}
	o = completeOptions(b, o)
	o.Store, o.Tokens = &secret.Store{Environ: marks.environ}, nil
	token := marks.mark("token")
	capture := run.NewCapture(token)
	o.Around = capture.Around
	opened, err := session.NewSession(b.inner, o)
	if err != nil {
		return nil, err
	}
	captured, err := capture.Step(ctx, opened, step, row)
	if errors.Is(err, value.ErrNothing) {
		return nil, session.WithTry(err.Error(), "where a step before it keeps the value, give it by -set NAME=VALUE, "+
			"or hand over what a run sent: testbench handover RUN.EXCHANGE")
	}
	if err != nil {
		return nil, err
	}
	p := &handover.Program{Least: 200, Most: 299}
	if step.Expect.Status != nil {
		if status, ok := step.Expect.Status.Single(); ok {
			p.Least, p.Most = status, status
		}
	}
	if p.Request, err = marks.request(captured.Main); err != nil {
		return nil, err
	}
	for _, h := range p.Request.Headers {
		if !h.Basic && slices.ContainsFunc(h.Value, func(piece handover.Piece) bool {
			return strings.ContainsFunc(piece.Text, func(r rune) bool { return r > '~' })
		}) {
			p.About = append(p.About,
				"The header "+h.Name+" holds signs beyond ASCII, which RFC 9110, 5.5 leaves open: not every library "+
					"sends them alike.")
		}
	}
	if captured.Login != nil {
		asked, err := marks.request(captured.Login)
		if err != nil {
			return nil, err
		}
		at := takeOf("token", captured.TokenPath, captured.Reply, captured.Login)
		p.Token = &handover.Token{Request: asked, At: at}
	}
	for _, k := range step.Keep {
		if k.Filters == nil {
			takes = append(takes, k.Path)
		}
	}
	for _, t := range takes {
		steps, fromReply, ok := t.PlainSteps()
		if !ok || len(steps) == 0 || fromReply && steps[0].Name != "headers" && steps[0].Name != "text" {
			p.About = append(p.About, "(no code takes "+t.Source+" out of the answer)")
			continue
		}
		name := takeName(t, step)
		for i := 2; slices.ContainsFunc(p.Takes, func(known handover.Take) bool { return known.Name == name }); i++ {
			name = fmt.Sprintf("%s_%d", takeName(t, step), i)
		}
		p.Takes = append(p.Takes, takeOf(name, steps, fromReply, captured.Main))
	}
	p.Secrets, err = marks.secrets(p)
	return p, err
}

// StepOf finds a step of a sheet by its name, also within groups.
func StepOf(b *Bench, file, name string, o Options) (*sheet.Step, error) {
	opened, err := openSheet(b, file)
	if err != nil {
		return nil, err
	}
	if problems := vet.Sheet(opened, vetOptions(b, o, false)).Serious(); len(problems) > 0 {
		return nil, problems
	}
	if err := vet.CheckArguments(b.inner, arguments(o), []*sheet.Sheet{opened}, nil); err != nil {
		return nil, err
	}
	var names []string
	var find func(steps []*sheet.Step) *sheet.Step
	find = func(steps []*sheet.Step) *sheet.Step {
		for _, one := range steps {
			names = append(names, one.Name)
			if one.Name == name {
				return one
			}
			if group, ok := one.Action.(*step.Group); ok {
				if inner := find(group.Steps); inner != nil {
					return inner
				}
			}
		}
		return nil
	}
	if found := find(opened.AllSteps()); found != nil {
		return found, nil
	}
	return nil, &bench.NotFoundError{What: "step", Name: name, Known: names}
}

// RowOf gives the values of a row of a sheet, by its number from 1.
func RowOf(ctx context.Context, b *Bench, file string, number int, o Options) (*document.Node, error) {
	opened, err := openSheet(b, file)
	if err != nil {
		return nil, err
	}
	if opened.Rows == nil {
		return nil, session.WithTry(fmt.Sprintf("-row has no effect: %s has no rows", file), "take it out")
	}
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, err
	}
	return run.RowOf(ctx, opened, session, number)
}

// takeName is what a value that is taken out is called.
func takeName(t *path.Path, step *sheet.Step) string {
	for _, k := range step.Keep {
		if k.Path == t {
			return k.Name
		}
	}
	var out strings.Builder
	for _, r := range t.Source {
		switch {
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9':
			out.WriteRune(r)
		case out.Len() > 0 && !strings.HasSuffix(out.String(), "_"):
			out.WriteByte('_')
		}
	}
	return strings.Trim(out.String(), "_")
}

// takeOf says how a value is taken out of the answer to a request.
func takeOf(name string, steps []path.Plain, fromReply bool, r *exchange.Request) handover.Take {
	t := handover.Take{Name: name, From: "json"}
	if fromReply {
		t.From = steps[0].Name
		if t.From == "headers" {
			t.From = "header"
		}
		steps = steps[1:]
	} else if answersXML(r, steps) {
		t.From = "xml"
	}
	for _, s := range steps {
		t.Steps = append(t.Steps, handover.Step{Name: s.Name, Index: s.Index, IsIndex: s.Name == ""})
	}
	return t
}

// answersXML says whether the answer to a request will be XML: it asks for it, or is XML
// itself. Where neither says anything, a step @name does: a name in JSON that begins so
// has a dot in it (@odata.etag).
func answersXML(r *exchange.Request, steps []path.Plain) bool {
	accept := r.GetHeader("Accept")
	switch asksXML, asksJSON := strings.Contains(accept, "xml"), strings.Contains(accept, "json"); {
	case asksXML != asksJSON:
		return asksXML
	case len(r.Body) > 0:
		return document.FormatOf(r.GetHeader("Content-Type"), r.Body) == document.XML
	}
	return slices.ContainsFunc(steps, func(s path.Plain) bool {
		return strings.HasPrefix(s.Name, "@") && !strings.Contains(s.Name, ".")
	})
}

// marking gives marks for secrets while requests are made.
type marking struct{ marks []handover.Mark }

// mark is a text of letters and digits, which no encoding changes.
func (m *marking) mark(name string) string {
	for _, known := range m.marks {
		if known.Var == name {
			return known.Text
		}
	}
	text := fmt.Sprintf("Mq%dx%016xqM", len(m.marks), rand.Uint64())
	m.marks = append(m.marks, handover.Mark{Text: text, Var: name})
	return text
}

// environ answers the sealed store in place of the environment.
func (m *marking) environ(variable string) (string, bool) {
	name, ok := strings.CutPrefix(variable, "TESTBENCH_SEALED_")
	if !ok || strings.HasSuffix(name, "_FILE") {
		return "", false
	}
	return m.mark(strings.ToLower(name)), true
}

// secrets lists the secrets that a program needs. One that was asked for and is in
// none of its requests went in changed, and no code is made of that.
func (m *marking) secrets(p *handover.Program) ([]handover.Secret, error) {
	var out []handover.Secret
	for _, one := range m.marks {
		switch {
		case one.Var == "token":
		case !p.Uses(one.Var):
			return nil, fmt.Errorf("the secret %s is encoded, signed or encrypted before it is sent, of which no "+
				"code is made; hand over with -login none, or with another login", one.Var)
		default:
			out = append(out, handover.Secret{Name: one.Var, Env: handover.EnvName(one.Var)})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// notHanded are headers that every client makes itself.
var notHanded = []string{"Host", "Content-Length", "Connection", "Transfer-Encoding"}

// request takes a request apart at the marks in it.
func (m *marking) request(r *exchange.Request) (handover.Request, error) {
	out := handover.Request{Method: r.Method, URL: handover.Split(r.URL.String(), m.marks, "url")}
	names := make([]string, 0, len(r.Header))
	for name := range r.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if slices.Contains(notHanded, http.CanonicalHeaderKey(name)) {
			continue
		}
		for _, text := range r.Header[name] {
			out.Headers = append(out.Headers, m.header(name, text, r.Login))
		}
	}
	switch {
	case len(r.Body) == 0:
	case !handover.IsText(r.Body):
		out.Bytes = r.Body
		for _, mark := range m.marks {
			if strings.Contains(string(r.Body), mark.Text) {
				return out, errors.New("a secret is within a body that is not text, of which no code is made")
			}
		}
	default:
		as := ""
		switch format := document.FormatOf(r.GetHeader("Content-Type"), r.Body); format {
		case document.JSON:
			as = "json"
		case document.XML:
			as = "xml"
		case document.Form:
			as = "url"
		}
		out.Body = handover.Split(legible(r, as), m.marks, as)
	}
	return out, nil
}

// legible lays an envelope out, which means the same; all else is as it is sent.
func legible(r *exchange.Request, as string) string {
	if as != "xml" || !result.IsEnvelope(r) || strings.Contains(string(r.Body), "Signature") {
		return string(r.Body)
	}
	root, err := document.ReadXML(r.Body, "")
	if err != nil {
		return string(r.Body)
	}
	return document.WriteXML(root, document.Style{Indent: "  "}) + "\n"
}

// header takes a header apart. The pair of Basic lies in Base64; that of an OAuth 2.0
// client is form-encoded before (RFC 6749, 2.3.1).
func (m *marking) header(name, text string, isLogin bool) handover.Header {
	pair, isBasic := strings.CutPrefix(text, "Basic ")
	if plain, err := base64.StdEncoding.DecodeString(pair); isBasic && err == nil && strings.EqualFold(name,
		"Authorization") {
		as := ""
		if isLogin {
			as = "url"
		}
		return handover.Header{Name: name, Value: handover.Split(string(plain), m.marks, as), Basic: true}
	}
	return handover.Header{Name: name, Value: handover.Split(text, m.marks, "")}
}

// HandoverOf makes a program of an exchange of the history. What was masked there is read
// from the environment.
func HandoverOf(e *history.Exchange) (*handover.Program, error) {
	if e.Request == nil {
		return nil, errors.New("the exchange was not recorded in full")
	}
	p := &handover.Program{Least: 200, Most: 299}
	masked := 0
	split := func(text, as string) []handover.Piece {
		var out []handover.Piece
		for text != "" {
			before, after, found := strings.Cut(text, value.Mask)
			if before != "" {
				out = append(out, handover.Piece{Text: before})
			}
			if !found {
				break
			}
			masked++
			name := fmt.Sprintf("masked_%d", masked)
			p.Secrets = append(p.Secrets, handover.Secret{Name: name, Env: handover.EnvName(name)})
			out = append(out, handover.Piece{Var: name, As: as})
			text = after
		}
		return out
	}
	p.Request = handover.Request{Method: e.Request.Method, URL: split(string(e.Request.Address), "url")}
	names := make([]string, 0, len(e.Request.Headers))
	for name := range e.Request.Headers {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, text := range e.Request.Headers[name] {
			if !slices.Contains(notHanded, http.CanonicalHeaderKey(name)) {
				p.Request.Headers = append(p.Request.Headers,
					handover.Header{Name: name, Value: split(string(text), "")})
			}
		}
	}
	if e.Request.Body != "" {
		as := map[document.Format]string{
			document.JSON: "json", document.XML: "xml",
			document.Form: "url",
		}[document.FormatOf(e.Request.MediaType(),
			[]byte(e.Request.Body))]
		p.Request.Body = split(string(e.Request.Body), as)
	}
	if masked > 0 {
		p.About = append(p.About, "What the history keeps masked is read from the environment, as it was sent.")
	}
	return p, nil
}
