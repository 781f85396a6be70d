// Package mapping reads the mappings of a file by tables of their keys: what a key is called, what
// it holds and how it is read. The tables are the file formats, and the schemas are made of them.
// It has the readers that all files share (texts, times, templates, trees, paths, rules), and
// knows no file itself.
package mapping

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/rule"
	"testbench/internal/suggest"
	"testbench/internal/syntax"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Reader reads one file and gathers what is wrong with it.
type Reader struct {
	File  *yamlfile.File
	Dir   string    // the bench folder
	Uses  *[]Use    // where placeholders are noted
	Reads *[]string // where the names of files are noted; nil for nowhere
	// Logins notes the logins that a login names; nil where there can be none.
	Logins *[]Mention
	// asked notes what is asked of values, where a schema is made of the readers; else nil.
	asked *asked
}

// Mention is a name of something else in the file.
type Mention struct {
	Name string
	At   *yamlfile.Node
}

// Use is a placeholder with its place in a file.
type Use struct {
	File        *yamlfile.File
	Node        *yamlfile.Node
	Placeholder *value.Placeholder
}

// Read reads the keys of a mapping by their table. An unknown key is
// reported with the nearest known one.
func Read[T any](r *Reader, what string, n *yamlfile.Node, into *T, keys []Key[T]) {
	r.takes(n, yamlfile.Mapping, true, func() *document.Node { return KeySchema(keys, nil) })
	if n.Kind != yamlfile.Mapping {
		r.takesNot(n)
		try := "write its keys below it: " + strings.Join(suggest.First(KeyNames(keys), 6), ", ")
		if key, text, ok := strings.Cut(n.Text, ":"); ok && n.Kind == yamlfile.Scalar && text != "" &&
			slices.Contains(KeyNames(keys), key) {
			try = fmt.Sprintf("a space is missing after %s: write %s: %s", key, key, text)
		}
		r.File.Report(n, try, "%s must be a mapping, and is %s", what, n.Kind)
		return
	}
	names := KeyNames(keys)
	for _, e := range n.Entries {
		at := slices.Index(names, e.Key.Text)
		if at < 0 {
			// What is below a key that is surely meant is read as if the key were right, so that its
			// mistakes are told as well, and nothing is missed for want of it.
			if meant := unknownKey(r, what, e.Key, names); meant != "" && n.Get(meant) == nil {
				at = slices.Index(names, meant)
			}
		}
		if at >= 0 {
			keys[at].Read(r, into, e.Value)
		}
	}
}

// Text reads a scalar as it is.
func (r *Reader) Text(n *yamlfile.Node) string {
	r.takes(n, yamlfile.Scalar, false, scalarSchema)
	if n.Kind != yamlfile.Scalar {
		r.takesNot(n)
		try := ""
		if n.Flow && n.Kind == yamlfile.Sequence {
			try = "put it in quotes if it is meant as a text"
		}
		r.File.Report(n, try, "a single value is expected here, and this is %s", n.Kind)
		return ""
	}
	return n.Text
}

// PlainText reads a scalar in which placeholders make no sense.
func (r *Reader) PlainText(n *yamlfile.Node) string {
	text := r.Text(n)
	if at := strings.Index(text, "${"); at >= 0 {
		r.File.ReportInside(n, at, "", "a placeholder is not allowed here")
	}
	return text
}

// Choice reads one of several words.
func (r *Reader) Choice(n *yamlfile.Node, what string, words ...string) string {
	text := r.Text(n)
	r.TakesOf(n, func() *document.Node { return EnumSchema(words...) })
	for _, w := range words {
		if text == w {
			return text
		}
	}
	if n.Kind == yamlfile.Scalar {
		try := suggest.DidYouMean(text, words)
		if name := NewName(text, words); name != "" {
			try = "it is called " + name + " now"
		} else if write := toWrite(wordsBroughtAlong, ",", text, words); write != "" {
			try = "write " + write
		} else if try == "" {
			try = "there are: " + strings.Join(words, ", ")
		}
		r.File.Report(n, try, "%q is not %s", text, suggest.Article(what))
	}
	return ""
}

// Yes reads true or false.
func (r *Reader) Yes(n *yamlfile.Node) bool {
	return r.Choice(n, "answer to yes or no (true or false)", "true", "false") == "true"
}

// List reads a list; one value alone is a list of one.
func (r *Reader) List(n *yamlfile.Node) []*yamlfile.Node {
	r.takes(n, yamlfile.Sequence, false, nil)
	if n.Kind == yamlfile.Scalar && n.Text != "" {
		return []*yamlfile.Node{n}
	}
	if n.Kind != yamlfile.Sequence {
		r.takesNot(n)
		r.File.Report(n, "write each item on a line of its own, with a dash before it",
			"a list is expected here, and this is %s", n.Kind)
		return nil
	}
	return n.Items
}

// Words reads a list of words, at least one.
func (r *Reader) Words(n *yamlfile.Node) []string {
	items := []*yamlfile.Node{n}
	if n.Kind != yamlfile.Scalar {
		items = r.List(n)
	}
	var words []string
	for _, item := range items {
		if word := r.PlainText(item); word != "" {
			words = append(words, word)
		}
	}
	if len(words) == 0 {
		r.File.Report(n, "write one, or a list of them", "it is empty")
	}
	return words
}

// Timeout reads how long an exchange may take, which is more than no time.
func (r *Reader) Timeout(n *yamlfile.Node) time.Duration {
	problems := len(r.File.Problems)
	d := r.Duration(n)
	if d <= 0 && len(r.File.Problems) == problems {
		r.File.Report(n, "write how long an exchange may take: 5 s", "a timeout must be over 0")
	}
	return d
}

// Entries gives the entries of a mapping.
func (r *Reader) Entries(n *yamlfile.Node, what string) []yamlfile.Entry {
	r.takes(n, yamlfile.Mapping, false, nil)
	if n.Kind != yamlfile.Mapping {
		r.takesNot(n)
		r.File.Report(n, "", "%s must be a mapping of names to values, and is %s", what, n.Kind)
		return nil
	}
	return n.Entries
}

// NotEmpty reports a mapping or a list that is empty, though it says what must be so
// or what is done.
func (r *Reader) NotEmpty(n *yamlfile.Node, what string) {
	if n.Kind != yamlfile.Scalar && len(n.Entries)+len(n.Items) == 0 {
		r.File.Report(n, "write what belongs there, or take it out", "%s is empty, and has no effect", what)
	}
}

// Identifier checks the name of something that placeholders can ask for.
func (r *Reader) Identifier(n *yamlfile.Node, what string) string {
	r.TakesOf(n, nameSchema)
	if !value.IsIdentifier(n.Text) {
		r.File.Report(n, "a name has letters (A to Z, a to z), digits and _, and starts with a letter or _",
			"%q cannot be the name of %s", n.Text, what)
	}
	if value.IsReserved(n.Text) && what != "a login" {
		r.File.Report(n, "choose another name", "%q cannot be the name of %s: ${%s} means something else", n.Text, what,
			n.Text)
	}
	return n.Text
}

// Duration reads 500 ms, 5 s, 2 min; 0 where it is none.
func (r *Reader) Duration(n *yamlfile.Node) time.Duration {
	text := r.Text(n)
	r.TakesOf(n, durationSchema)
	d, err := rule.Duration(text)
	if err != nil && n.Kind == yamlfile.Scalar {
		r.File.Report(n, "write it like 800 ms, 5 s or 2 min", "%q is not a duration", text)
	} else if d < 0 {
		r.File.Report(n, "write it like 800 ms, 5 s or 2 min", "%q is less than nothing", text)
		return 0
	}
	return d
}

// Whole reads a whole number from 1; 0 where it is none.
func (r *Reader) Whole(n *yamlfile.Node, key string) int {
	text := r.PlainText(n)
	r.TakesOf(n, wholeSchema)
	number, err := strconv.Atoi(text)
	if err != nil || number < 1 {
		r.File.Report(n, "write "+key+": 5", "%s must be a whole number from 1", key)
		return 0
	}
	return number
}

// Reading notes that a file of the bench is read.
func (r *Reader) Reading(name string) {
	if r.Reads != nil {
		*r.Reads = append(*r.Reads, name)
	}
}

// Note remembers the placeholders of a template with their place.
func (r *Reader) Note(n *yamlfile.Node, placeholders []*value.Placeholder) {
	for _, h := range placeholders {
		*r.Uses = append(*r.Uses, Use{File: r.File, Node: n, Placeholder: h})
	}
}

// Knowing reads what may hold names that have a value only later: placeholders of them are not noted as uses.
func (r *Reader) Knowing(names []string, read func(*Reader)) {
	inner := *r
	inner.Uses = new([]Use)
	read(&inner)
	for _, use := range *inner.Uses {
		if (use.Placeholder.Space != "" || !slices.Contains(names, use.Placeholder.Name)) && r.Uses != nil {
			*r.Uses = append(*r.Uses, use)
		}
	}
}

// Mistake reports what is wrong in the text of a scalar, at its place; the text
// that was read begins at the offset.
func (r *Reader) Mistake(n *yamlfile.Node, offset int, err error) {
	if e, ok := err.(*syntax.Error); ok {
		r.File.ReportInside(n, offset+e.Offset, e.Try, "%s", e.Message)
		if e.Hidden {
			r.File.Problems[len(r.File.Problems)-1].Source = ""
		}
		return
	}
	r.File.Report(n, "", "%v", err)
}

// Texts reads a list of texts.
func (r *Reader) Texts(n *yamlfile.Node) []string {
	var all []string
	for _, item := range r.List(n) {
		all = append(all, r.PlainText(item))
	}
	return all
}

// Together says of a key when it has an effect: only beside one of some keys, or never
// beside others. Tables of it stand with the tables of keys; what they rule out is a
// mistake, so that nothing that is written is passed over.
type Together struct {
	Key     string
	With    []string // one of these must be there; nil for none
	Without []string // none of these may be there
}

// Together reports the keys of a mapping that have no effect there.
func (r *Reader) Together(n *yamlfile.Node, table []Together) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	has := func(name string) bool { return n.Get(name) != nil }
	for _, t := range table {
		at := n.Key(t.Key)
		if at == nil {
			continue
		}
		if t.With != nil && !slices.ContainsFunc(t.With, has) {
			r.File.Report(at, "take it out, or write "+strings.Join(t.With, ": or ")+": too",
				"%s: has no effect without %s:", t.Key, strings.Join(t.With, ": or "))
		}
		if i := slices.IndexFunc(t.Without, has); i >= 0 {
			r.File.Report(at, "keep one of them", "%s: has no effect beside %s:", t.Key, t.Without[i])
		}
	}
}

// OnlyBeside reports the keys of a mapping that have no effect where another key has the
// value it has.
func (r *Reader) OnlyBeside(n *yamlfile.Node, what string, allowed map[string][]string, key, value string) {
	for _, e := range n.Entries {
		values, isBound := allowed[e.Key.Text]
		if isBound && !slices.Contains(values, value) {
			r.File.Report(e.Key, "take it out; it goes with "+key+": "+strings.Join(values, ", "),
				"%s: has no effect at %s", e.Key.Text, what)
		}
	}
}
