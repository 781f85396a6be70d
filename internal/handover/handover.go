// Package handover writes a request as a program that runs as it is: a template for
// each language and a few functions. What the program sends is said by a Program, in
// which secrets and tokens are names; no value of a secret ever comes here.
package handover

import (
	"embed"
	"encoding/base64"
	"fmt"
	"go/format"
	"slices"
	"strings"
	"testbench/internal/lazy"
	"text/template"
	"unicode/utf8"
)

// Program is what a program does: it gets a token where one is needed, sends a request,
// and takes values out of the answer.
type Program struct {
	// About says where it comes from, a line each.
	About   []string
	Secrets []Secret
	Token   *Token // nil where none is obtained
	Request Request
	// Least and Most are the statuses that are good.
	Least, Most int
	Takes       []Take
}

// Secret is read from the environment.
type Secret struct {
	Name string // honey_desk
	Env  string // SECRET_HONEY_DESK
}

// Token is a login call whose answer holds a token.
type Token struct {
	Request Request
	At      Take
}

// Request is a request as it is sent.
type Request struct {
	Method  string
	URL     []Piece
	Headers []Header
	Body    []Piece
	Bytes   []byte // in place of Body, where it is not text
}

// Header is a field of a request. The pair of Basic (RFC 7617) is put together by the
// program.
type Header struct {
	Name  string
	Value []Piece
	Basic bool // Value is user:password
}

// Piece is a text, or a value that the program knows by name.
type Piece struct {
	Text string
	Var  string // the name of a secret, or "token"; empty for a text
	// As says how the value is written where it is: "", url, json or xml.
	As string
}

// Take is a value that is taken out of an answer.
type Take struct {
	Name  string
	From  string // json, xml, text, header
	Steps []Step // of a header, its name
}

// Step is a member by its name, or an element of a list by its place from 0. In XML a
// name after @ is an attribute's.
type Step struct {
	Name    string
	Index   int
	IsIndex bool
}

// Language is one that programs are written in.
type Language struct {
	Name   string // as -as takes it
	Title  string
	Ending string // of a file
	Run    string // how a program is run, where FILE is the file

	template string
	quote    func(string) string
	join     string                   // between pieces that make one text
	variable func(name string) string // the variable of a secret or of the token
	escape   map[string]string        // how a value is written: a call with %s in it
}

//go:embed languages/*.tmpl
var files embed.FS

// Languages lists those that there are.
func Languages() []*Language { return languages }

// Find finds a language by its name; nil for none.
func Find(name string) *Language {
	for _, l := range languages {
		if l.Name == strings.ToLower(name) {
			return l
		}
	}
	return nil
}

// Write writes a program.
func (l *Language) Write(p *Program) (string, error) {
	t, err := template.New(l.template).Funcs(l.functions(p)).ParseFS(files, "languages/"+l.template,
		"languages/shared.tmpl")
	if err != nil {
		return "", err
	}
	var out strings.Builder
	if err := t.Execute(&out, p); err != nil {
		return "", err
	}
	text := out.String()
	switch l.Name {
	case "shell": // whose texts hold line breaks
	case "go":
		formatted, err := format.Source([]byte(text))
		return string(formatted), err
	case "python", "requests":
		text = manyBlanks().ReplaceAllString(text, "\n\n\n")
	default:
		text = blanks().ReplaceAllString(text, "\n\n")
	}
	return strings.TrimRight(text, "\n") + "\n", nil
}

// Blank lines that parts of a template leave where others are left out.
var (
	manyBlanks = lazy.Regexp(`\n{4,}`)
	blanks     = lazy.Regexp(`\n{3,}`)
)

func (l *Language) functions(p *Program) template.FuncMap {
	return template.FuncMap{
		"quote": l.quote,
		"var":   l.variable,
		"text":  func(pieces []Piece) string { return l.text(pieces, l.join) },
		"lines": func(indent string, pieces []Piece) string {
			return l.text(broken(pieces), strings.TrimRight(l.join, " ")+"\n"+indent)
		},
		"base64":  base64.StdEncoding.EncodeToString,
		"comment": func(text string) string { return strings.Map(printable, text) },
		"uses":    func(as string) bool { return p.uses(as) },
		"takes":   func(from string) bool { return p.takes(from) },
		"basic":   func() bool { return slices.ContainsFunc(p.requests(), (*Request).hasBasic) },
		"binary": func() bool {
			return slices.ContainsFunc(p.requests(), func(r *Request) bool { return r.Bytes != nil })
		},
		"hasBody": Request.hasBody,
		// RFC 9110 section 8.6: methods whose body means something say that it is empty.
		"emptyBody": func(r Request) bool {
			return !r.hasBody() && slices.Contains([]string{"POST", "PUT", "PATCH"}, r.Method)
		},
		"header": func(r Request, name string) bool {
			return slices.ContainsFunc(r.Headers, func(h Header) bool { return strings.EqualFold(h.Name, name) })
		},
		"step": func(s Step) string {
			if s.IsIndex {
				return fmt.Sprint(s.Index)
			}
			return l.quote(s.Name)
		},
		"jq":    jqPath,
		"xpath": xPath,
		"typed": func() bool { return l.Name == "typescript" },
		"add":   func(a, b int) int { return a + b },
		"camel": camel,
		"upper": strings.ToUpper,
		"title": func(name string) string { return strings.ToUpper(name[:1]) + camel(name)[1:] },
		"join":  strings.Join,
		"pair":  func(a, b any) []any { return []any{a, b} },
	}
}

func printable(r rune) rune {
	if r < ' ' || r == 0x7f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
		return ' '
	}
	return r
}

func (p *Program) requests() []*Request {
	all := []*Request{&p.Request}
	if p.Token != nil {
		all = append(all, &p.Token.Request)
	}
	return all
}

func (r Request) hasBody() bool { return len(r.Body) > 0 || r.Bytes != nil }

func (r *Request) hasBasic() bool {
	return slices.ContainsFunc(r.Headers, func(h Header) bool { return h.Basic })
}

// uses says whether a value is written in a way somewhere.
func (p *Program) uses(as string) bool {
	return p.has(func(piece Piece) bool { return piece.Var != "" && piece.As == as })
}

func (p *Program) has(what func(Piece) bool) bool {
	return slices.ContainsFunc(p.requests(), func(r *Request) bool {
		all := slices.Concat(r.URL, r.Body)
		for _, h := range r.Headers {
			all = append(all, h.Value...)
		}
		return slices.ContainsFunc(all, what)
	})
}

// Uses says whether a program has need of a secret or of the token.
func (p *Program) Uses(name string) bool {
	return p.has(func(piece Piece) bool { return piece.Var == name })
}

// takes says whether something is taken out of answers of a kind.
func (p *Program) takes(from string) bool {
	return p.Token != nil && p.Token.At.From == from || slices.ContainsFunc(p.Takes, func(t Take) bool {
		return t.From == from
	})
}

// text writes pieces as an expression.
func (l *Language) text(pieces []Piece, join string) string {
	var parts []string
	for _, piece := range pieces {
		switch {
		case piece.Var == "":
			parts = append(parts, l.quote(piece.Text))
		case l.escape[piece.As] != "":
			parts = append(parts, fmt.Sprintf(l.escape[piece.As], l.variable(piece.Var)))
		default:
			parts = append(parts, l.variable(piece.Var))
		}
	}
	if len(parts) == 0 {
		return l.quote("")
	}
	return strings.Join(parts, join)
}

// broken breaks long texts at the ends of lines, so that they can be read.
func broken(pieces []Piece) []Piece {
	var out []Piece
	for _, piece := range pieces {
		if piece.Var != "" {
			out = append(out, piece)
			continue
		}
		for line := range strings.Lines(piece.Text) {
			out = append(out, Piece{Text: line})
		}
	}
	return out
}

// camel writes a name with capitals in place of low lines.
func camel(name string) string {
	words := strings.Split(name, "_")
	for i, w := range words[1:] {
		if w != "" {
			words[i+1] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, "")
}

// jqPath writes steps as jq takes them.
func jqPath(steps []Step) string {
	var out strings.Builder
	out.WriteString(".")
	for _, s := range steps {
		if s.IsIndex {
			fmt.Fprintf(&out, "[%d]", s.Index)
		} else {
			out.WriteString("[" + jsonQuote(s.Name) + "]")
		}
	}
	return strings.Replace(out.String(), ".[", ".[", 1)
}

// xPath writes a take as an XPath expression that passes over namespaces.
func xPath(t Take) string {
	out := `(/*[local-name()="Envelope"]/*[local-name()="Body"]/* | /*[local-name()!="Envelope"])`
	for i, s := range t.Steps {
		switch {
		case s.IsIndex && i > 0 && !t.Steps[i-1].IsIndex:
			// taken with the name before it
		case s.IsIndex:
			out += fmt.Sprintf("/*[%d]", s.Index+1)
		case strings.HasPrefix(s.Name, "@"):
			out += fmt.Sprintf("/@*[local-name()=%q]", s.Name[1:])
		default:
			at := 1
			if i+1 < len(t.Steps) && t.Steps[i+1].IsIndex {
				at = t.Steps[i+1].Index + 1
			}
			if i == len(t.Steps)-1 { // it may be an attribute, if no element has the name
				out += fmt.Sprintf(`/*[local-name()=%[1]q][%[2]d]`+
					` | %[3]s/@*[local-name()=%[1]q][not(../*[local-name()=%[1]q])]`, s.Name, at, out)
				continue
			}
			out += fmt.Sprintf(`/*[local-name()=%q][%d]`, s.Name, at)
		}
	}
	return "string(" + out + ")"
}

// Mark is a text in place of a secret or a token while a request is made; it is
// made of letters and digits, which no encoding changes.
type Mark struct{ Text, Var string }

// Split takes a text apart at the marks in it.
func Split(text string, marks []Mark, as string) []Piece {
	var out []Piece
	for text != "" {
		at, found := -1, Mark{}
		for _, m := range marks {
			if i := strings.Index(text, m.Text); i >= 0 && (at < 0 || i < at) {
				at, found = i, m
			}
		}
		if at < 0 {
			break
		}
		if at > 0 {
			out = append(out, Piece{Text: text[:at]})
		}
		out = append(out, Piece{Var: found.Var, As: as})
		text = text[at+len(found.Text):]
	}
	if text != "" {
		out = append(out, Piece{Text: text})
	}
	return out
}

// IsText says whether a body can be in a program as a text.
func IsText(body []byte) bool { return utf8.Valid(body) && !slices.Contains(body, 0) }
