package mapping

import (
	"fmt"
	"os"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Template reads a text with placeholders.
func (r *Reader) Template(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.Parse)
}

// Address reads a template of an address.
func (r *Reader) Address(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.ParseAddress)
}

// Body reads a template of a whole document.
func (r *Reader) Body(n *yamlfile.Node, format document.Format) *value.Template {
	return r.parse(n, func(text string) (*value.Template, error) { return value.ParseBody(text, format) })
}

func (r *Reader) parse(n *yamlfile.Node, parse func(string) (*value.Template, error)) *value.Template {
	t, err := parse(r.Text(n))
	if err != nil {
		r.Mistake(n, 0, err)
		return value.Unreadable()
	}
	r.Note(n, t.Placeholders())
	return t
}

// otherSpellings are those of null, true and false that YAML takes too (YAML 1.2.2, 10.3.2). They are refused:
// they would be sent as texts, and nobody would be told. Who means the text puts it in quotes.
var otherSpellings = map[string]string{
	"~": "null", "Null": "null", "NULL": "null", "True": "true", "TRUE": "true", "False": "false", "FALSE": "false",
}

// Tree reads any value with placeholders.
func (r *Reader) Tree(n *yamlfile.Node) *request.Tree {
	r.takes(n, n.Kind, false, anySchema)
	t := &request.Tree{Line: n.Line, Column: n.Column}
	switch n.Kind {
	case yamlfile.Sequence:
		t.IsList = true
		for _, item := range n.Items {
			t.Items = append(t.Items, r.Tree(item))
		}
	case yamlfile.Mapping:
		if len(n.Entries) == 1 {
			switch n.Entries[0].Key.Text {
			case "as json text", "as xml text":
				t = r.Tree(n.Entries[0].Value)
				t.Encode = strings.Fields(n.Entries[0].Key.Text)[1]
				return t
			}
		}
		for _, e := range n.Entries {
			t.Fields = append(t.Fields, request.Field{Name: e.Key.Text, Value: r.Named(e), Line: e.Key.Line})
		}
	default:
		isPlain := !n.Quoted && !n.Block
		if n.Text == "null" && isPlain {
			t.Null = true
			return t
		}
		if word := otherSpellings[n.Text]; word != "" && isPlain {
			r.File.Report(n, fmt.Sprintf("write %s, or %q in quotes for a text", word, n.Text),
				"%s is not how %s is written here", n.Text, word)
			t.Scalar = value.Unreadable()
			return t
		}
		t.Scalar = r.Template(n)
		t.Typed = n.Quoted || n.Block
	}
	return t
}

// Named reads the value that a name has, and remarks on a credential that is there as
// anybody can read it.
func (r *Reader) Named(e yamlfile.Entry) *request.Tree {
	r.RemarkCredential(e.Key.Text, e.Value)
	return r.Tree(e.Value)
}

// RemarkCredential remarks on a credential that is in the file as anybody can read it.
func (r *Reader) RemarkCredential(name string, n *yamlfile.Node) {
	if n == nil || n.Kind != yamlfile.Scalar || strings.Contains(n.Text, "${") || !secret.IsCredential(name, n.Text) {
		return
	}
	r.File.Remark(n, "%s looks like a credential, and whoever reads the file reads it: seal it (testbench secret set "+
		"NAME), and write ${sealed.NAME} here", name)
	r.File.Problems[len(r.File.Problems)-1].Source = "" // the line would tell it
}

// checkPair reports what cannot be a header or a cookie, as far as it is in the file.
func (r *Reader) checkPair(e yamlfile.Entry, t *request.Tree, check func(name, text string) error) {
	if err := check(e.Key.Text, ""); err != nil {
		r.File.Report(e.Key, "", "%v", err)
		return
	}
	for _, one := range append([]*request.Tree{t}, t.Items...) {
		if one.Scalar != nil && one.Scalar.IsLiteral() {
			if err := check(e.Key.Text, one.Scalar.LiteralText()); err != nil {
				r.File.Report(e.Value, "", "%s: %v", e.Key.Text, err)
			}
		}
	}
}

// Pairs reads names with values, for headers, query and forms.
func (r *Reader) Pairs(n *yamlfile.Node, what string) []request.Pair {
	var pairs []request.Pair
	for _, e := range r.Entries(n, what) {
		t := r.Named(e)
		if len(t.Fields) > 0 {
			r.File.Report(e.Value, "write a single value, or a list to repeat the name", "%s %s cannot be a mapping",
				what, e.Key.Text)
			continue
		}
		switch what {
		case "headers":
			r.checkPair(e, t, request.CheckHeader)
		case "cookies":
			r.checkPair(e, t, request.CheckCookie)
		}
		pairs = append(pairs, request.Pair{Name: e.Key.Text, Value: t})
	}
	return pairs
}

// Values reads names with values where nothing else could be sent that null would leave out.
func (r *Reader) Values(n *yamlfile.Node, what string) []request.Pair {
	for _, e := range n.Entries {
		if v := e.Value; v.Kind == yamlfile.Scalar && v.Text == "null" && !v.Quoted && !v.Block {
			r.File.Report(v, "take it out", "null has no effect: nothing here sends %q that it could leave out", e.Key.Text)
		}
	}
	return r.Pairs(n, what)
}

// Names reads prefixes of XML names.
func (r *Reader) Names(n *yamlfile.Node) map[string]string {
	names := map[string]string{}
	for _, e := range r.Entries(n, "names") {
		names[e.Key.Text] = r.PlainText(e.Value)
	}
	return names
}

// Path reads a path; nil where it is none.
func (r *Reader) Path(n *yamlfile.Node) *path.Path {
	p := r.PathText(n, r.Text(n), 0)
	return p
}

// PathText reads a path that is a part of a text, from the offset.
func (r *Reader) PathText(n *yamlfile.Node, text string, offset int) *path.Path {
	if n.Kind != yamlfile.Scalar {
		return nil // Text has said so
	}
	p, err := path.Compile(text)
	if err != nil {
		r.Mistake(n, offset, err)
		return nil
	}
	r.Note(n, p.Placeholders())
	return p
}

// Condition reads a condition; nil where it is none.
func (r *Reader) Condition(n *yamlfile.Node) *rule.Condition {
	text := r.Text(n)
	if n.Kind != yamlfile.Scalar {
		return nil
	}
	r.warnCutOff(n, "condition")
	c, err := rule.CompileCondition(text)
	if err != nil {
		r.Mistake(n, 0, err)
		return nil
	}
	return c
}

// warnCutOff remarks that a comment took the rest of a rule away.
func (r *Reader) warnCutOff(n *yamlfile.Node, what string) {
	if n.CutOff != "" && !n.Quoted {
		r.File.Remark(n, "the %s ends before %q, which YAML takes for a comment; if it belongs to the %s, put all of "+
			"it into quotes", what, n.CutOff, what)
	}
}

// GuessText tells the format of a body from its first character.
func GuessText(text string) document.Format {
	switch trimmed := strings.TrimSpace(text); {
	case strings.HasPrefix(trimmed, "{"), strings.HasPrefix(trimmed, "["):
		// ${x} at the start is a placeholder, not JSON.
		return document.JSON
	case strings.HasPrefix(trimmed, "<"):
		return document.XML
	}
	return document.Plain
}

// PlaceholdersIn reads a text that may hold placeholders; nil where it holds none.
func (r *Reader) PlaceholdersIn(n *yamlfile.Node) *value.Template {
	r.TakesOf(n, placeholderSchema)
	if n.Kind != yamlfile.Scalar || !strings.Contains(n.Text, "${") {
		return nil
	}
	return r.Template(n)
}

// Secret reads a credential. One that is in the file is remarked: it would
// end up in version control.
func (r *Reader) Secret(n *yamlfile.Node) *value.Template {
	t := r.Template(n)
	if t.IsLiteral() && t.LiteralText() != "" {
		r.File.Remark(n, "a credential is in the file; seal it with `testbench secret set NAME` and write "+
			"${sealed.NAME}")
		return value.SecretLiteral(t.LiteralText())
	}
	return t
}

// BenchFile reads the name of a file in the bench folder, which must be there.
func (r *Reader) BenchFile(n *yamlfile.Node) string {
	name := r.PlainText(n)
	if name == "" {
		return ""
	}
	r.Reading(name)
	full, err := safefile.Inside(r.Dir, name)
	if err == nil {
		_, err = os.Stat(full)
		if err != nil {
			err = fmt.Errorf("there is no file %s in the bench folder", name)
		}
	}
	if err != nil {
		r.File.Report(n, "", "%v", err)
	}
	return name
}
