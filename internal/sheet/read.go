// Package sheet reads bench and sheet files, finds what is wrong with them
// before anything is sent, and runs them. Reading: read.go, bench.go,
// loginfile.go, operation.go, sheetfile.go, stepfile.go, expect.go, rows.go, and
// a file a kind of step. Vetting: vet.go. Running: crew.go has rows side by side,
// with turns.go for which and clerk.go for their record; flow.go is one row, run.go
// one step, plan.go, session.go and judge.go one exchange; result.go is what came
// of it, recorded.go its form in the history. callstep.go makes steps of command
// lines. It shows nothing; results go to an Observer.
package sheet

import (
	"fmt"
	"os"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/mistake"
	"testbench/internal/nearest"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// key is one key of a mapping in a file: what it is called, what it holds and
// how it is read. The tables of keys are the file formats.
type key[T any] struct {
	name  string
	holds string // in words, for messages and schemas
	read  func(r *reader, into *T, n *yamlfile.Node)
}

// reader reads one file and gathers what is wrong with it.
type reader struct {
	file  *yamlfile.File
	dir   string // the bench folder
	uses  *[]use // where placeholders are noted
	bench *Bench // of a sheet
	// within are the sheets that lead to the one that is read, and itself.
	within []string
	reads  *[]string // where the names of files are noted; nil for nowhere
	// logins notes the logins that a login names; nil where there can be none.
	logins *[]loginName
}

// loginName is a login that another one names.
type loginName struct {
	name string
	at   *yamlfile.Node
}

// use is a placeholder with its place in a file.
type use struct {
	file *yamlfile.File
	node *yamlfile.Node
	hole *value.Hole
}

// readMapping reads the keys of a mapping by their table. An unknown key is
// reported with the nearest known one.
func readMapping[T any](r *reader, what string, n *yamlfile.Node, into *T, keys []key[T]) {
	if n.Kind != yamlfile.Mapping {
		r.file.Report(n, "write its keys below it: "+keyNames(keys, 6), "%s must be a mapping, and is %s", what, n.Kind)
		return
	}
next:
	for _, e := range n.Entries {
		for _, k := range keys {
			if k.name == e.Key.Text {
				k.read(r, into, e.Value)
				continue next
			}
		}
		names := make([]string, len(keys))
		for i, k := range keys {
			names[i] = k.name
		}
		meant := nearest.Of(e.Key.Text, names)
		if others := keysElsewhere[e.Key.Text]; len(others) > 0 {
			try := e.Key.Text + ": is a key of " + strings.Join(others, " and of ")
			if meant != "" {
				try += "; or " + nearest.Try(e.Key.Text, names)
			}
			r.file.Report(e.Key, try, "%s has no key %q", what, e.Key.Text)
			continue
		}
		if meant == "" {
			r.file.Report(e.Key, "there are: "+keyNames(keys, 40), "%s has no key %q", what, e.Key.Text)
			continue
		}
		r.file.Report(e.Key, nearest.Try(e.Key.Text, names), "%s has no key %q", what, e.Key.Text)
		if n.Get(meant) == nil {
			// What stands below it is read as if the key were right, so that its
			// mistakes are told as well, and nothing is missed for want of it.
			for _, k := range keys {
				if k.name == meant {
					k.read(r, into, e.Value)
				}
			}
		}
	}
}

// keysElsewhere says for the keys of the greater mappings whose they are: what stands at
// the wrong one is told where it belongs.
var keysElsewhere = map[string][]string{}

func init() {
	ofWhich("the bench", benchKeys)
	ofWhich("a site", siteKeys)
	ofWhich("a service", serviceKeys)
	ofWhich("an operation", operationKeys)
	ofWhich("a sheet", sheetKeys)
	ofWhich("a step", stepKeys)
	ofWhich("expect:", expectKeys)
}

func ofWhich[T any](what string, keys []key[T]) {
	for _, k := range keys {
		keysElsewhere[k.name] = append(keysElsewhere[k.name], what)
	}
}

func keyNames[T any](keys []key[T], most int) string {
	var names []string
	for _, k := range keys {
		if len(names) == most {
			names = append(names, "…")
			break
		}
		names = append(names, k.name)
	}
	return strings.Join(names, ", ")
}

// text reads a scalar as it is.
func (r *reader) text(n *yamlfile.Node) string {
	if n.Kind != yamlfile.Scalar {
		r.file.Report(n, "", "a single value is wanted here, and this is %s", n.Kind)
		return ""
	}
	return n.Text
}

// plainText reads a scalar in which placeholders make no sense.
func (r *reader) plainText(n *yamlfile.Node) string {
	text := r.text(n)
	if at := strings.Index(text, "${"); at >= 0 {
		r.file.ReportInside(n, at, "", "a placeholder cannot stand here")
	}
	return text
}

// choice reads one of several words.
func (r *reader) choice(n *yamlfile.Node, what string, words ...string) string {
	text := r.text(n)
	for _, w := range words {
		if text == w {
			return text
		}
	}
	if n.Kind == yamlfile.Scalar {
		try := nearest.Try(text, words)
		if try == "" {
			try = "there are: " + strings.Join(words, ", ")
		}
		r.file.Report(n, try, "%q is no %s", text, what)
	}
	return ""
}

func (r *reader) yes(n *yamlfile.Node) bool {
	return r.choice(n, "answer to yes or no (true or false)", "true", "false") == "true"
}

func (r *reader) list(n *yamlfile.Node) []*yamlfile.Node {
	if n.Kind != yamlfile.Sequence {
		r.file.Report(n, "write each item on a line of its own, with a dash before it", "a list is wanted here, and this is %s", n.Kind)
		return nil
	}
	return n.Items
}

// entries gives the entries of a mapping.
func (r *reader) entries(n *yamlfile.Node, what string) []yamlfile.Entry {
	if n.Kind != yamlfile.Mapping {
		r.file.Report(n, "", "%s must be a mapping of names to values, and is %s", what, n.Kind)
		return nil
	}
	return n.Entries
}

// identifier checks the name of something that placeholders can ask for.
func (r *reader) identifier(n *yamlfile.Node, what string) string {
	if !value.IsIdentifier(n.Text) {
		r.file.Report(n, "a name has letters, digits and _ and starts with a letter or _", "%q cannot be the name of %s", n.Text, what)
	}
	if value.IsReserved(n.Text) && what != "a login" {
		r.file.Report(n, "choose another name", "%q cannot be the name of %s: ${%s} means something else", n.Text, what, n.Text)
	}
	return n.Text
}

func (r *reader) duration(n *yamlfile.Node) time.Duration {
	text := r.text(n)
	d, err := rule.Duration(text)
	if err != nil && n.Kind == yamlfile.Scalar {
		r.file.Report(n, "write it like 800 ms, 5 s or 2 min", "%q is no duration", text)
	} else if d < 0 {
		r.file.Report(n, "write it like 800 ms, 5 s or 2 min", "%q is less than nothing", text)
		return 0
	}
	return d
}

// reading notes that a file of the bench is read.
func (r *reader) reading(name string) {
	if r.reads != nil {
		*r.reads = append(*r.reads, name)
	}
}

// note remembers the placeholders of a template with their place.
func (r *reader) note(n *yamlfile.Node, holes []*value.Hole) {
	for _, h := range holes {
		*r.uses = append(*r.uses, use{file: r.file, node: n, hole: h})
	}
}

// mistake reports what is wrong in the text of a scalar, at its place; the text
// that was read begins at the offset.
func (r *reader) mistake(n *yamlfile.Node, offset int, err error) {
	if e, ok := err.(*mistake.Error); ok {
		r.file.ReportInside(n, offset+e.Offset, e.Try, "%s", e.Message)
		return
	}
	r.file.Report(n, "", "%v", err)
}

// template reads a text with placeholders.
func (r *reader) template(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.Parse)
}

// address reads a template of an address.
func (r *reader) address(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.ParseAddress)
}

// body reads a template of a whole document.
func (r *reader) body(n *yamlfile.Node, format document.Format) *value.Template {
	return r.parse(n, func(text string) (*value.Template, error) { return value.ParseBody(text, format) })
}

func (r *reader) parse(n *yamlfile.Node, parse func(string) (*value.Template, error)) *value.Template {
	t, err := parse(r.text(n))
	if err != nil {
		r.mistake(n, 0, err)
		return value.Unreadable()
	}
	r.note(n, t.Holes())
	return t
}

// tree reads any value with placeholders.
func (r *reader) tree(n *yamlfile.Node) *request.Tree {
	t := &request.Tree{Line: n.Line, Column: n.Column}
	switch n.Kind {
	case yamlfile.Sequence:
		t.IsList = true
		for _, item := range n.Items {
			t.Items = append(t.Items, r.tree(item))
		}
	case yamlfile.Mapping:
		if len(n.Entries) == 1 {
			switch n.Entries[0].Key.Text {
			case "as json text", "as xml text":
				t = r.tree(n.Entries[0].Value)
				t.Encode = strings.Fields(n.Entries[0].Key.Text)[1]
				return t
			}
		}
		for _, e := range n.Entries {
			t.Fields = append(t.Fields, request.Field{Name: e.Key.Text, Value: r.named(e), Line: e.Key.Line})
		}
	default:
		if n.Text == "null" && !n.Quoted && !n.Block {
			t.Null = true
			return t
		}
		t.Scalar = r.template(n)
		t.Typed = n.Quoted || n.Block
	}
	return t
}

// named reads the value that a name has, and remarks on a credential that stands there as
// anybody can read it.
func (r *reader) named(e yamlfile.Entry) *request.Tree {
	r.remarkCredential(e.Key.Text, e.Value)
	return r.tree(e.Value)
}

func (r *reader) remarkCredential(name string, n *yamlfile.Node) {
	if n == nil || n.Kind != yamlfile.Scalar || strings.Contains(n.Text, "${") || !secret.IsCredential(name, n.Text) {
		return
	}
	r.file.Remark(n, "%s looks like a credential, and whoever reads the file reads it: seal it (testbench secret set NAME), and write ${sealed.NAME} here", name)
	r.file.Problems[len(r.file.Problems)-1].Source = "" // the line would tell it
}

// pairs reads names with values, for headers, query and forms.
func (r *reader) pairs(n *yamlfile.Node, what string) []request.Pair {
	var pairs []request.Pair
	for _, e := range r.entries(n, what) {
		t := r.named(e)
		if len(t.Fields) > 0 {
			r.file.Report(e.Value, "write a single value, or a list to repeat the name", "%s %s cannot be a mapping", what, e.Key.Text)
			continue
		}
		if what == "headers" {
			if err := request.CheckHeader(e.Key.Text, ""); err != nil {
				r.file.Report(e.Key, "", "%v", err)
			}
		}
		pairs = append(pairs, request.Pair{Name: e.Key.Text, Value: t})
	}
	return pairs
}

// names reads prefixes of XML names.
func (r *reader) names(n *yamlfile.Node) map[string]string {
	names := map[string]string{}
	for _, e := range r.entries(n, "names") {
		names[e.Key.Text] = r.plainText(e.Value)
	}
	return names
}

func (r *reader) path(n *yamlfile.Node) *path.Path {
	p := r.pathText(n, r.text(n), 0)
	return p
}

func (r *reader) pathText(n *yamlfile.Node, text string, offset int) *path.Path {
	p, err := path.Compile(text)
	if err != nil {
		r.mistake(n, offset, err)
		return nil
	}
	r.note(n, p.Holes())
	return p
}

func (r *reader) condition(n *yamlfile.Node) *rule.Condition {
	text := r.text(n)
	if n.Kind != yamlfile.Scalar {
		return nil
	}
	r.warnCutOff(n, "condition")
	c, err := rule.CompileCondition(text)
	if err != nil {
		r.mistake(n, 0, err)
		return nil
	}
	return c
}

// warnCutOff remarks that a comment took the rest of a rule away.
func (r *reader) warnCutOff(n *yamlfile.Node, what string) {
	if n.CutOff != "" && !n.Quoted {
		r.file.Remark(n, "the %s ends before %q, which YAML takes for a comment; if it belongs to the %s, put all of it into quotes", what, n.CutOff, what)
	}
}

// rule reads a rule: in words, as a list of which all must hold, or as one of
// the keys that stand for words.
func (r *reader) rule(n *yamlfile.Node) *rule.Rule {
	switch n.Kind {
	case yamlfile.Sequence:
		return r.joinedRule(n, rule.AllOf)
	case yamlfile.Mapping:
		return r.keyedRule(n)
	}
	r.warnCutOff(n, "rule")
	parsed, err := rule.Parse(n.Text, n.Quoted || n.Block)
	if err != nil {
		r.mistake(n, 0, err)
		return nil
	}
	r.note(n, parsed.Holes())
	return parsed
}

// joinedRule makes one rule of a list of rules.
func (r *reader) joinedRule(n *yamlfile.Node, join func([]*rule.Rule) *rule.Rule) *rule.Rule {
	items := r.list(n)
	if n.Kind == yamlfile.Sequence && len(items) == 0 {
		r.file.Report(n, "", "a list of rules cannot be empty")
	}
	if rules := r.rules(items); len(rules) > 0 {
		return join(rules)
	}
	return nil
}

// orderRule reads a rule for what is always of one order, as times are.
func (r *reader) orderRule(n *yamlfile.Node, order rule.Order) *rule.Rule {
	parsed := r.rule(n)
	if parsed == nil {
		return nil
	}
	if err := parsed.Suits(order); err != nil {
		r.mistake(n, 0, err)
	}
	return parsed
}

func (r *reader) rules(items []*yamlfile.Node) []*rule.Rule {
	var rules []*rule.Rule
	for _, item := range items {
		if parsed := r.rule(item); parsed != nil {
			rules = append(rules, parsed)
		}
	}
	return rules
}

var ruleKeys = []string{"equals", "one of", "all of", "any of", "not", "all", "some", "count", "length", "optional", "over", "under",
	"at least", "at most", "contains", "starts with", "ends with", "matches", "is", "same as", "between", "about"}

func (r *reader) keyedRule(n *yamlfile.Node) *rule.Rule {
	if len(n.Entries) != 1 {
		r.file.Report(n, "write `equals:` above the fields if the tree itself is wanted, or a list of rules of which all must hold", "a rule as a mapping has exactly one key, and this one has %d", len(n.Entries))
		return nil
	}
	word, content := n.Entries[0].Key, n.Entries[0].Value
	switch word.Text {
	case "equals":
		return rule.Equals(treeOperand{r.tree(content)})
	case "one of":
		var operands []rule.Operand
		for _, item := range r.list(content) {
			operands = append(operands, treeOperand{r.tree(item)})
		}
		if len(operands) == 0 {
			r.file.Report(content, "", "a list of values cannot be empty")
			return nil
		}
		return rule.OneOf(operands)
	case "all of":
		return r.joinedRule(content, rule.AllOf)
	case "any of":
		return r.joinedRule(content, rule.AnyOf)
	case "contains", "starts with", "ends with":
		return rule.TextRule(word.Text, treeOperand{r.tree(content)})
	case "not", "all", "some", "count", "length", "optional":
		if content.Kind == yamlfile.Scalar && (word.Text == "count" || word.Text == "length") && document.IsNumber(content.Text) {
			return r.wordedRule(content, word.Text+" "+content.Text)
		}
		inner := r.rule(content)
		if inner == nil {
			return nil
		}
		return rule.Prefixed(word.Text, inner)
	case "over", "under", "at least", "at most", "matches", "is", "same as", "between", "about":
		return r.wordedRule(content, word.Text+" "+r.text(content))
	}
	try := nearest.Try(word.Text, ruleKeys)
	if try == "" {
		try = "write `equals:` above it if the tree itself is wanted"
	}
	r.file.Report(word, try, "%q is no rule", word.Text)
	return nil
}

func (r *reader) wordedRule(n *yamlfile.Node, text string) *rule.Rule {
	parsed, err := rule.Parse(text, false)
	if err != nil {
		r.mistake(n, 0, err)
		return nil
	}
	r.note(n, parsed.Holes())
	return parsed
}

// treeOperand lets a tree of a file stand in a rule.
type treeOperand struct{ tree *request.Tree }

func (o treeOperand) Node(scope value.Scope) (*document.Node, error) { return o.tree.Node(scope) }
func (o treeOperand) Holes() []*value.Hole                           { return nil } // noted where the tree was read
func (o treeOperand) String() string                                 { return o.tree.String() }

// maxInput bounds the files that requests are made of.
const maxInput = 256 << 20

func readInside(dir, name string) ([]byte, error) {
	full, err := fileInside(dir, name)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(full); err == nil && info.Size() > maxInput {
		return nil, fmt.Errorf("%s is larger than %d MiB", name, maxInput>>20)
	}
	return os.ReadFile(full)
}

// fileInside resolves the name of a file that must be there.
func fileInside(dir, name string) (string, error) {
	full, err := safefile.Inside(dir, name)
	if err != nil {
		return "", err
	}
	switch info, err := os.Stat(full); {
	case err != nil:
		return "", fmt.Errorf("there is no file %s in the bench folder", name)
	case info.IsDir():
		return "", fmt.Errorf("%s is a folder", name)
	}
	return full, nil
}
