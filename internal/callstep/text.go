package callstep

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/lazy"
	"testbench/internal/request"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/vet"
	"testbench/internal/yamlfile"
)

// Text writes a step as a sheet has it, in block style, with what it keeps as name=path.
// It refuses what a sheet cannot say: files outside of the bench.
func Text(b *bench.Bench, s *sheet.Step, name string, keep []string) (string, error) {
	w := &stepWriter{bench: b}
	w.line(0, "step", yamlfile.ScalarText(name))
	if to, ok := s.Action.(*step.Request); ok {
		w.line(0, "request", yamlfile.ScalarText(requestLineText(to)))
	} else {
		w.line(0, "call", yamlfile.ScalarText(s.Target()))
	}
	w.login(s.Login)
	answerAs := ""
	if s.Spec.AnswerAs != "" {
		answerAs = document.FormatOf(s.Spec.AnswerAs, nil).Reading()
	}
	for _, one := range []struct{ key, text string }{
		{"soap", string(s.SOAP)},
		{"port", s.Port},
		{"contract", s.Contract},
		{"http", s.HTTP},
		{"answer as", answerAs},
	} {
		if one.text != "" {
			w.line(0, one.key, yamlfile.ScalarText(one.text))
		}
	}
	if s.SOAPAction != nil {
		w.line(0, "action", yamlfile.ScalarText(s.SOAPAction.Source))
	}
	if s.Stay {
		w.line(0, "redirects", "off")
	}
	if s.Pages > 1 {
		w.line(0, "pages", fmt.Sprint(s.Pages))
	}
	w.pairs("headers", s.Spec.Headers)
	w.pairs("query", s.Spec.Query)
	w.pairs("cookies", s.Spec.Cookies)
	w.pairs("form", s.Spec.Form)
	w.tree("fill", s.Fill)
	w.tree("body", s.Spec.Body)
	if s.TextFile != "" {
		w.file("file", s.TextFile)
	}
	if s.BytesFile != "" {
		w.file("bytes", s.BytesFile)
	}
	if len(keep) > 0 {
		w.line(0, "keep", "")
		for _, k := range keep {
			name, path, _ := strings.Cut(k, "=")
			w.line(1, name, yamlfile.ScalarText(path))
		}
	}
	return w.out.String(), w.err
}

// requestLineText writes a request line as files do.
func requestLineText(l *step.Request) string {
	return strings.TrimSpace(strings.Join([]string{l.Service, l.Method, l.Path.Source}, " "))
}

type stepWriter struct {
	bench *bench.Bench
	out   strings.Builder
	err   error
}

func (w *stepWriter) line(indent int, key, text string) {
	w.out.WriteString(strings.Repeat("  ", indent) + key + ":")
	if text != "" {
		w.out.WriteString(" " + text)
	}
	w.out.WriteString("\n")
}

func (w *stepWriter) login(c *sheet.LoginChoice) {
	switch {
	case c == nil:
	case len(c.Names) == 0:
		w.line(0, "login", "none")
	case c.Spoil != "":
		w.line(0, "login", "")
		w.line(1, "spoil", yamlfile.ScalarText(c.Names[0]))
		w.line(1, "how", yamlfile.ScalarText(c.Spoil))
	case len(c.Names) == 1:
		w.line(0, "login", yamlfile.ScalarText(c.Names[0]))
	default:
		w.line(0, "login", "")
		for _, name := range c.Names {
			w.out.WriteString("  - " + yamlfile.ScalarText(name) + "\n")
		}
	}
}

// pairs writes names with values; what is given more than once becomes a list.
func (w *stepWriter) pairs(key string, pairs []request.Pair) {
	t := &request.Tree{}
	for _, p := range pairs {
		if at := slices.IndexFunc(t.Fields, func(f request.Field) bool { return f.Name == p.Name }); at >= 0 {
			t.Fields[at].Value = t.Fields[at].Value.Joined(p.Value)
		} else {
			t.Fields = append(t.Fields, request.Field{Name: p.Name, Value: p.Value})
		}
	}
	if len(pairs) > 0 {
		w.tree(key, t)
	}
}

func (w *stepWriter) tree(key string, t *request.Tree) {
	if t != nil {
		w.out.WriteString(key + ":")
		w.value(t, 1)
	}
}

// value writes a value after its key or dash.
func (w *stepWriter) value(t *request.Tree, indent int) {
	lead := strings.Repeat("  ", indent)
	t = t.Written()
	switch {
	case t.Null:
		w.out.WriteString(" null\n")
	case t.Scalar != nil && t.Typed:
		w.out.WriteString(" " + document.QuoteJSON(t.Scalar.Source) + "\n")
	case t.Scalar != nil:
		w.out.WriteString(" " + yamlfile.ScalarText(t.Scalar.Source) + "\n")
	case t.IsList && len(t.Items) == 0:
		w.out.WriteString(" []\n")
	case !t.IsList && len(t.Fields) == 0:
		w.out.WriteString(" {}\n")
	default:
		w.out.WriteString("\n")
		for _, f := range t.Fields {
			w.out.WriteString(lead + yamlfile.ScalarText(f.Name) + ":")
			w.value(f.Value, indent+1)
		}
		for _, item := range t.Items {
			w.out.WriteString(lead + "-")
			w.value(item, indent+1)
		}
	}
}

// file writes the name of a file, which must be one of the bench.
func (w *stepWriter) file(key, name string) {
	if relative, ok := sheet.RelativeTo(w.bench.Dir, name); ok && w.bench.Dir != "" {
		w.line(0, key, yamlfile.ScalarText(relative))
		return
	}
	w.err = fmt.Errorf("a step of a sheet takes files of its bench only; copy %s into the bench folder first", name)
}

// Reread reads a step that was written with Text, as a run would.
func Reread(b *bench.Bench, text string, options vet.Options) (*sheet.Step, error) {
	source, err := yamlfile.AppendItem([]byte("sheet: written\nsteps:\n"), "steps", text)
	if err != nil {
		return nil, err
	}
	s := sheet.Read(b, filepath.Join(b.Dir, "sheets", "written.yaml"), source, step.Kinds)
	if problems := vet.Sheet(s, options).Serious(); len(problems) > 0 {
		return nil, errors.New(problems[0].Message)
	}
	if len(s.Steps) != 1 {
		return nil, errors.New("it is not one step")
	}
	return s.Steps[0], nil
}

// SameCall says how two steps differ in what they send or hold an answer against, or nil.
func SameCall(ctx context.Context, s *session.Session, a, b *sheet.Step) error {
	one, err := s.Preview(ctx, a)
	if err != nil {
		return err
	}
	other, err := s.Preview(ctx, b)
	if err != nil {
		return err
	}
	switch {
	case session.HoldsRequest(a) != session.HoldsRequest(b) || session.HoldsAnswer(a) != session.HoldsAnswer(b) ||
		max(a.Pages, 1) != max(b.Pages, 1):
		return errors.New("what is checked against the contract, or how many pages are read, is another")
	case (a.Login == nil) != (b.Login == nil) ||
		a.Login != nil && (!slices.Equal(a.Login.Names, b.Login.Names) || a.Login.Spoil != b.Login.Spoil):
		return errors.New("the login is another")
	}
	return sameRequest(one, other)
}

// chance is what is made by chance in a request, and so differs each time.
var chance = lazy.Regexp(`[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|[0-9a-f]{60}`)

func sameRequest(a, b *exchange.Request) error {
	plain := func(text string) string { return chance().ReplaceAllString(text, "…") }
	switch {
	case a.Method != b.Method:
		return fmt.Errorf("the method is %s, not %s", b.Method, a.Method)
	case plain(a.URL.String()) != plain(b.URL.String()):
		return errors.New("the address is another")
	case a.HTTP != b.HTTP || a.Timeout != b.Timeout || a.StayOnRedirect != b.StayOnRedirect ||
		a.AnswerAs != b.AnswerAs:
		return errors.New("the way it is sent is another")
	case !bytes.Equal([]byte(plain(string(a.Body))), []byte(plain(string(b.Body)))):
		return errors.New("the body is another")
	}
	for _, name := range slices.Sorted(maps.Keys(a.Header)) {
		if !slices.EqualFunc(a.Header[name], b.Header[name], func(x, y string) bool { return plain(x) == plain(y) }) {
			return fmt.Errorf("the header %s is another", name)
		}
	}
	if len(a.Header) != len(b.Header) {
		return errors.New("it has other headers")
	}
	return nil
}
