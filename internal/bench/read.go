package bench

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/suggest"
	"testbench/internal/syntax"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Key is one key of a mapping in a file: what it is called, what it holds and
// how it is read. The tables of keys are the file formats.
type Key[T any] struct {
	Name  string
	Holds string // in words, for messages and schemas
	Read  func(r *Reader, into *T, n *yamlfile.Node)
}

// NewKey returns a key of a table.
func NewKey[T any](name, holds string, read func(r *Reader, into *T, n *yamlfile.Node)) Key[T] {
	return Key[T]{name, holds, read}
}

// keysWithin gives the keys of a part of what a mapping is read into.
func keysWithin[T, U any](keys []Key[U], part func(*T) *U) []Key[T] {
	out := make([]Key[T], len(keys))
	for i, k := range keys {
		out[i] = Key[T]{k.Name, k.Holds, func(r *Reader, into *T, n *yamlfile.Node) { k.Read(r, part(into), n) }}
	}
	return out
}

// Reader reads one file and gathers what is wrong with it.
type Reader struct {
	File  *yamlfile.File
	Dir   string // the bench folder
	Uses  *[]Use // where placeholders are noted
	Bench *Bench // of a sheet
	// Within are the sheets that lead to the one that is read, and itself.
	Within []string
	Reads  *[]string // where the names of files are noted; nil for nowhere
	// logins notes the logins that a login names; nil where there can be none.
	logins *[]loginName
	// asked notes what is asked of values, where a schema is made of the readers; else nil.
	asked *asked
}

// loginName is a login that another one names.
type loginName struct {
	name string
	at   *yamlfile.Node
}

// Use is a placeholder with its place in a file.
type Use struct {
	File        *yamlfile.File
	Node        *yamlfile.Node
	Placeholder *value.Placeholder
}

// ReadMapping reads the keys of a mapping by their table. An unknown key is
// reported with the nearest known one.
func ReadMapping[T any](r *Reader, what string, n *yamlfile.Node, into *T, keys []Key[T]) {
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
		r.File.Report(n, "", "a single value is expected here, and this is %s", n.Kind)
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
	r.takesOf(n, func() *document.Node { return EnumSchema(words...) })
	for _, w := range words {
		if text == w {
			return text
		}
	}
	if n.Kind == yamlfile.Scalar {
		try := suggest.DidYouMean(text, words)
		if name := NewName(text, words); name != "" {
			try = "it is called " + name + " now"
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

// NotEmpty reports a mapping or a list in which nothing stands, though it says what must be so
// or what is done.
func (r *Reader) NotEmpty(n *yamlfile.Node, what string) {
	if n.Kind != yamlfile.Scalar && len(n.Entries)+len(n.Items) == 0 {
		r.File.Report(n, "write what belongs there, or take it out", "%s is empty, and has no effect", what)
	}
}

// Identifier checks the name of something that placeholders can ask for.
func (r *Reader) Identifier(n *yamlfile.Node, what string) string {
	r.takesOf(n, nameSchema)
	if !value.IsIdentifier(n.Text) {
		r.File.Report(n, "a name has letters, digits and _ and starts with a letter or _",
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
	r.takesOf(n, durationSchema)
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
	r.takesOf(n, wholeSchema)
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

// Mistake reports what is wrong in the text of a scalar, at its place; the text
// that was read begins at the offset.
func (r *Reader) Mistake(n *yamlfile.Node, offset int, err error) {
	if e, ok := err.(*syntax.Error); ok {
		r.File.ReportInside(n, offset+e.Offset, e.Try, "%s", e.Message)
		return
	}
	r.File.Report(n, "", "%v", err)
}

// Template reads a text with placeholders.
func (r *Reader) Template(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.Parse)
}

// Address reads a template of an address.
func (r *Reader) Address(n *yamlfile.Node) *value.Template {
	return r.parse(n, value.ParseAddress)
}

// body reads a template of a whole document.
func (r *Reader) body(n *yamlfile.Node, format document.Format) *value.Template {
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
		if n.Text == "null" && !n.Quoted && !n.Block {
			t.Null = true
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
	r.remarkCredential(e.Key.Text, e.Value)
	return r.Tree(e.Value)
}

func (r *Reader) remarkCredential(name string, n *yamlfile.Node) {
	if n == nil || n.Kind != yamlfile.Scalar || strings.Contains(n.Text, "${") || !secret.IsCredential(name, n.Text) {
		return
	}
	r.File.Remark(n, "%s looks like a credential, and whoever reads the file reads it: seal it (testbench secret set NAME), and write ${sealed.NAME} here", name)
	r.File.Problems[len(r.File.Problems)-1].Source = "" // the line would tell it
}

// Pairs reads names with values, for headers, query and forms.
func (r *Reader) Pairs(n *yamlfile.Node, what string) []request.Pair {
	var pairs []request.Pair
	for _, e := range r.Entries(n, what) {
		t := r.Named(e)
		if len(t.Fields) > 0 {
			r.takesNot(e.Value)
			r.File.Report(e.Value, "write a single value, or a list to repeat the name", "%s %s cannot be a mapping",
				what, e.Key.Text)
			continue
		}
		if what == "headers" {
			if err := request.CheckHeader(e.Key.Text, ""); err != nil {
				r.File.Report(e.Key, "", "%v", err)
			}
		}
		pairs = append(pairs, request.Pair{Name: e.Key.Text, Value: t})
	}
	return pairs
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
		r.File.Remark(n, "the %s ends before %q, which YAML takes for a comment; if it belongs to the %s, put all of it into quotes", what, n.CutOff, what)
	}
}

// Rule reads a rule: in words, as a list of which all must hold, or as one of
// the keys that stand for words.
func (r *Reader) Rule(n *yamlfile.Node) *rule.Rule {
	switch n.Kind {
	case yamlfile.Sequence:
		return r.joinedRule(n, rule.AllOf)
	case yamlfile.Mapping:
		r.takes(n, yamlfile.Mapping, false, keyedRuleSchema)
		return r.keyedRule(n)
	}
	r.takes(n, yamlfile.Scalar, false, ruleSchema)
	r.warnCutOff(n, "rule")
	parsed, err := rule.Parse(n.Text, n.Quoted || n.Block)
	if err != nil {
		r.Mistake(n, 0, err)
		return nil
	}
	r.Note(n, parsed.Placeholders())
	return parsed
}

// joinedRule makes one rule of a list of rules.
func (r *Reader) joinedRule(n *yamlfile.Node, join func([]*rule.Rule) *rule.Rule) *rule.Rule {
	items := r.List(n)
	if n.Kind == yamlfile.Sequence && len(items) == 0 {
		r.File.Report(n, "", "a list of rules cannot be empty")
	}
	if rules := r.rules(items); len(rules) > 0 {
		return join(rules)
	}
	return nil
}

// OrderRule reads a rule for what is always of one order, as times are.
func (r *Reader) OrderRule(n *yamlfile.Node, order rule.Order) *rule.Rule {
	parsed := r.Rule(n)
	if parsed == nil {
		return nil
	}
	if err := parsed.Suits(order); err != nil {
		r.Mistake(n, 0, err)
	}
	return parsed
}

func (r *Reader) rules(items []*yamlfile.Node) []*rule.Rule {
	var rules []*rule.Rule
	for _, item := range items {
		if parsed := r.Rule(item); parsed != nil {
			rules = append(rules, parsed)
		}
	}
	return rules
}

var ruleKeys = []string{
	"equals", "one of", "all of", "any of", "not", "all", "some", "count", "length", "optional", "over", "under",
	"at least", "at most", "contains", "starts with", "ends with", "matches", "is", "same as", "between", "about",
}

func (r *Reader) keyedRule(n *yamlfile.Node) *rule.Rule {
	if len(n.Entries) != 1 {
		r.File.Report(n, "write `equals:` above the fields if the tree itself is meant, or a list of rules of which all must hold", "a rule as a mapping has exactly one key, and this one has %d", len(n.Entries))
		return nil
	}
	word, content := n.Entries[0].Key, n.Entries[0].Value
	switch word.Text {
	case "equals":
		return rule.Equals(treeOperand{r.Tree(content)})
	case "one of":
		var operands []rule.Operand
		for _, item := range r.List(content) {
			operands = append(operands, treeOperand{r.Tree(item)})
		}
		if len(operands) == 0 {
			r.File.Report(content, "", "a list of values cannot be empty")
			return nil
		}
		return rule.OneOf(operands)
	case "all of":
		return r.joinedRule(content, rule.AllOf)
	case "any of":
		return r.joinedRule(content, rule.AnyOf)
	case "contains", "starts with", "ends with":
		return rule.TextRule(word.Text, treeOperand{r.Tree(content)})
	case "not", "all", "some", "count", "length", "optional":
		if content.Kind == yamlfile.Scalar && (word.Text == "count" || word.Text == "length") &&
			document.IsNumber(content.Text) {
			return r.wordedRule(content, word.Text+" "+content.Text)
		}
		inner := r.Rule(content)
		if inner == nil {
			return nil
		}
		return rule.Prefixed(word.Text, inner)
	case "over", "under", "at least", "at most", "matches", "is", "same as", "between", "about":
		return r.wordedRule(content, word.Text+" "+r.Text(content))
	}
	try := suggest.DidYouMean(word.Text, ruleKeys)
	if try == "" {
		try = "write `equals:` above it if the tree itself is meant"
	}
	r.File.Report(word, try, "%q is not a rule", word.Text)
	return nil
}

// wordedRule reads a rule whose word is above its value.
func (r *Reader) wordedRule(n *yamlfile.Node, text string) *rule.Rule {
	lead := len(text) - len(n.Text) // the word, which does not stand there
	parsed, err := rule.Parse(text, false)
	if err != nil {
		r.Mistake(n, -lead, err)
		return nil
	}
	value.Shift(parsed.Placeholders(), -lead)
	r.Note(n, parsed.Placeholders())
	return parsed
}

// treeOperand lets a tree of a file be a part of a rule.
type treeOperand struct{ tree *request.Tree }

func (o treeOperand) Node(scope value.Scope) (*document.Node, error) { return o.tree.Node(scope) }

func (o treeOperand) Placeholders() []*value.Placeholder { return nil } // noted where the tree was read

func (o treeOperand) String() string { return o.tree.String() }

// maxInput bounds the files that requests are made of.
const maxInput = 256 << 20

// ReadInside reads a file of the bench folder; a name or a link that leads out of it is an error.
func ReadInside(dir, name string) ([]byte, error) {
	full, err := FileInside(dir, name)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(full); err == nil && info.Size() > maxInput {
		return nil, fmt.Errorf("%s is larger than %d MiB", name, maxInput>>20)
	}
	return os.ReadFile(full)
}

// FileInside resolves the name of a file that must be there.
func FileInside(dir, name string) (string, error) {
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

// KeysOf lists keys: names with commas between, and those that several mappings have.
func KeysOf(names string, shared ...[]string) []string {
	return append(strings.Split(names, ", "), slices.Concat(shared...)...)
}
