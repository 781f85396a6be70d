// Package yamlfile reads YAML in which nothing can mislead: every scalar keeps
// its source text, and what YAML would silently turn into something else (an
// empty value, a tag, a repeated key) is a problem with its place. It knows
// nothing of benches and sheets.
package yamlfile

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"testbench/internal/lazy"
	"testbench/internal/syntax"

	"go.yaml.in/yaml/v4"
)

// Kind says what a Node is.
type Kind uint8

// The kinds of a node.
const (
	Scalar Kind = iota
	Mapping
	Sequence
)

func (k Kind) String() string { return [...]string{"a single value", "a mapping", "a list"}[k] }

// Node is one value of a file.
type Node struct {
	Kind         Kind
	Text         string // Scalar: the text as written
	Quoted       bool   // Scalar: it stood in quotes
	Block        bool   // Scalar: it was a block text (| or >)
	Flow         bool   // Mapping, Sequence: it was written in brackets
	Line, Column int    // from 1; the column counts characters
	CutOff       string // the comment after it on its line
	IsShared     bool   // it has an anchor or is inside such a value: its aliases hold what is written here, too
	Entries      []Entry
	Items        []*Node
}

// Entry is one key of a mapping with its value.
type Entry struct {
	Key   *Node
	Value *Node
}

// Get returns the value under key, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for _, e := range n.Entries {
		if e.Key.Text == key {
			return e.Value
		}
	}
	return nil
}

// Key returns where a key of a mapping is, or nil.
func (n *Node) Key(name string) *Node {
	for _, e := range n.Entries {
		if e.Key.Text == name {
			return e.Key
		}
	}
	return nil
}

// Problem is one mistake in a file.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
	Try     string `json:"try,omitempty"`
	Source  string `json:"source,omitempty"` // the line itself
	Remark  bool   `json:"remark,omitempty"` // worth knowing, not a mistake

	caret int // where the place is in the text that is shown, from 0
}

// String writes the problem in a form that editors jump to, with the line and
// a caret under the place.
func (p Problem) String() string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s:%d:%d: ", p.File, p.Line, p.Column)
	if p.Remark {
		out.WriteString("remark: ")
	}
	out.WriteString(p.Message)
	if p.Source != "" {
		fmt.Fprintf(&out, "\n    %s\n    %s^", strings.ReplaceAll(p.Source, "\t", " "),
			strings.Repeat(" ", max(p.caret, 0)))
	}
	if p.Try != "" {
		out.WriteString("\n    " + p.Try)
	}
	return out.String()
}

// Problems is a list of problems, as an error.
type Problems []Problem

func (ps Problems) Error() string {
	texts := make([]string, len(ps))
	for i, p := range ps {
		texts[i] = p.String()
	}
	return strings.Join(texts, "\n")
}

// Serious leaves the remarks out.
func (ps Problems) Serious() Problems {
	var serious Problems
	for _, p := range ps {
		if !p.Remark {
			serious = append(serious, p)
		}
	}
	return serious
}

// File is a file that is being read; what is wrong with it is gathered here.
type File struct {
	Name     string
	Root     *Node
	Problems Problems
	lines    []string
	aliases  aliases
}

// Report adds a problem at a node.
func (f *File) Report(at *Node, try, format string, args ...any) {
	f.ReportAt(at.Line, at.Column, try, format, args...)
}

// ReportInside adds a problem at an offset (bytes) inside a scalar's text.
func (f *File) ReportInside(at *Node, offset int, try, format string, args ...any) {
	line, column := at.Line, at.Column
	if at.Kind == Scalar && offset <= len(at.Text) {
		before := at.Text[:max(offset, 0)]
		switch {
		case at.Block:
			line += 1 + strings.Count(before, "\n")
			last := before[strings.LastIndexByte(before, '\n')+1:]
			indent := 0
			if line <= len(f.lines) {
				indent = len(f.lines[line-1]) - len(strings.TrimLeft(f.lines[line-1], " "))
			}
			column = indent + 1 + utf8.RuneCountInString(last)
		case !strings.Contains(before, "\n"):
			column += utf8.RuneCountInString(before)
			if at.Quoted {
				column++
			}
		}
	}
	f.ReportAt(line, column, try, format, args...)
}

// ReportAt adds a problem at a place.
func (f *File) ReportAt(line, column int, try, format string, args ...any) {
	source, caret := f.excerpt(line, column)
	problem := Problem{
		File: f.Name, Line: line, Column: column,
		Message: fmt.Sprintf(format, args...), Try: try, Source: source, caret: caret,
	}
	if f.aliases.written > 0 && slices.Contains(f.Problems, problem) {
		return // it was told where the value is
	}
	f.Problems = append(f.Problems, problem)
}

// Remark adds something worth knowing.
func (f *File) Remark(at *Node, format string, args ...any) {
	source, caret := f.excerpt(at.Line, at.Column)
	f.Problems = append(f.Problems, Problem{
		File: f.Name, Line: at.Line, Column: at.Column,
		Message: fmt.Sprintf(format, args...), Source: source, Remark: true, caret: caret,
	})
}

// line is a whole line of the file.
func (f *File) line(number int) string {
	if number < 1 || number > len(f.lines) {
		return ""
	}
	return strings.TrimRight(f.lines[number-1], "\r")
}

// mostShown is how many characters of a line are shown.
const mostShown = 160

// excerpt is the part of a line around a column, and where in it the column is.
func (f *File) excerpt(line, column int) (text string, caret int) {
	const before = 100
	runes := []rune(f.line(line))
	caret = max(column-1, 0)
	if len(runes) <= mostShown {
		return string(runes), caret
	}
	from := 0
	if caret >= mostShown {
		from = min(caret, len(runes)) - before
	}
	to := min(from+mostShown, len(runes))
	text = string(runes[from:to])
	if to < len(runes) {
		text += "…"
	}
	if from > 0 {
		text, caret = "…"+text, caret-from+1
	}
	return text, caret
}

// MaxSize bounds a file; sheets are written by people.
const MaxSize = 8 << 20

// Read parses a file. What is wrong is in Problems; Root is nil where the
// text cannot be parsed at all.
func Read(name string, data []byte) *File {
	f := &File{Name: name, lines: strings.Split(string(data), "\n")}
	if len(data) > MaxSize {
		f.ReportAt(1, 1, "", "the file is larger than %d MiB", MaxSize>>20)
		return f
	}
	if !utf8.Valid(data) {
		f.invalidUTF8(data)
		return f
	}
	if line := syntax.Conflict(data); line > 0 {
		f.ReportAt(line, 1, syntax.ConflictTry, syntax.ConflictMessage)
		return f
	}
	if onlyComments(f.lines) {
		f.ReportAt(1, 1, "", "the file is empty")
		return f
	}
	var document yaml.Node
	if err := yaml.Load(data, &document); err != nil {
		f.syntax(err)
		return f
	}
	if len(document.Content) == 0 {
		f.ReportAt(1, 1, "", "the file is empty")
		return f
	}
	f.aliases.used = map[*yaml.Node]bool{}
	f.Root = f.convert(document.Content[0])
	f.unusedAnchors(document.Content[0])
	return f
}

func onlyComments(lines []string) bool {
	for _, line := range lines {
		if trimmed := strings.Trim(line, " \t\r\ufeff"); trimmed != "" && trimmed[0] != '#' {
			return false
		}
	}
	return true
}

func (f *File) invalidUTF8(data []byte) {
	for number, line := range bytes.Split(data, []byte("\n")) {
		if utf8.Valid(line) {
			continue
		}
		column := 1
		for rest := line; len(rest) > 0; column++ {
			r, size := utf8.DecodeRune(rest)
			if r == utf8.RuneError && size == 1 {
				break
			}
			rest = rest[size:]
		}
		f.lines[number] = strings.ToValidUTF8(f.lines[number], "\ufffd")
		f.ReportAt(number+1, column, "save the file as UTF-8", "the file is not UTF-8 here")
		return
	}
}

func (f *File) convert(y *yaml.Node) *Node {
	if y.Kind == yaml.AliasNode {
		return f.alias(y)
	}
	n := &Node{Line: y.Line, Column: y.Column, IsShared: y.Anchor != "" || len(f.aliases.open) > 0}
	if y.Anchor != "" {
		f.aliases.open = append(f.aliases.open, y)
		defer func() { f.aliases.open = f.aliases.open[:len(f.aliases.open)-1] }()
	}
	if f.aliases.written > 0 {
		f.aliases.written++
	}
	if y.Style&yaml.TaggedStyle != 0 {
		f.tag(n, y)
	}
	n.CutOff, n.Flow = strings.TrimSpace(y.LineComment), y.Style&yaml.FlowStyle != 0
	switch y.Kind {
	case yaml.MappingNode:
		n.Kind = Mapping
		f.mapping(n, y)
	case yaml.SequenceNode:
		n.Kind = Sequence
		for _, item := range y.Content {
			n.Items = append(n.Items, f.convert(item))
		}
	default:
		n.Text = y.Value
		n.Quoted = y.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0
		n.Block = y.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0
		if n.Block && blockHeader().MatchString(f.line(n.Line)) && strings.TrimSpace(n.Text) == "" {
			f.Report(n, f.quoted(n.Line, n.Column),
				"YAML reads this as the start of a text of several lines, which is empty")
		}
		if !n.Quoted && !n.Block && n.Text == "" && y.Style&yaml.TaggedStyle == 0 {
			f.Report(n, `write "" for an empty text, null for no value, or take the key away`, "there is no value")
		}
	}
	return n
}

// blockHeader matches a line that was meant as `over 5` but begins a folded text.
var blockHeader = lazy.Regexp(`[:-]\s*[>|][0-9+-]`)

func (f *File) mapping(n *Node, y *yaml.Node) {
	seen := map[string]*Node{}
	for i := 0; i+1 < len(y.Content); i += 2 {
		keyNode, valueNode := y.Content[i], y.Content[i+1]
		if keyNode.Kind != yaml.ScalarNode {
			f.ReportAt(keyNode.Line, keyNode.Column, f.quoted(keyNode.Line, keyNode.Column),
				"a key must be a single word or text; braces and brackets begin a mapping or list in YAML")
			continue
		}
		key := &Node{
			Text: keyNode.Value, Line: keyNode.Line, Column: keyNode.Column,
			Quoted: keyNode.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0,
		}
		if first, ok := seen[key.Text]; ok {
			f.Report(key, "put both values under one key, or take one away",
				"%q is here a second time (first in line %d)", key.Text, first.Line)
			continue
		}
		seen[key.Text] = key
		if key.Text == "<<" && !key.Quoted {
			n.Entries = append(n.Entries, f.merged(y, valueNode)...)
			continue
		}
		n.Entries = append(n.Entries, Entry{key, f.convert(valueNode)})
	}
}

// tag reports a YAML tag. It was most likely meant as a "not" in front of an
// expression, and may have swallowed what follows.
func (f *File) tag(n *Node, y *yaml.Node) {
	try := "put the value into double quotes"
	if strings.HasPrefix(y.Tag, "!") && !strings.HasPrefix(y.Tag, "!!") {
		try = f.quoted(n.Line, n.Column)
	}
	f.Report(n, try, "YAML takes %s for a tag, not for part of the value", y.Tag)
}

// quoted proposes the line with its value in quotes, from a column on.
func (f *File) quoted(line, column int) string {
	source := f.line(line)
	runes := []rune(source)
	at := min(max(column-1, 0), len(runes))
	head, tail := string(runes[:at]), strings.TrimSpace(string(runes[at:]))
	if tail == "" || len(runes) > mostShown {
		return "put the value into double quotes"
	}
	return "write: " + strings.TrimSpace(head+Quote(tail))
}

// Quote puts text into double quotes, as YAML wants it.
func Quote(text string) string {
	var out strings.Builder
	out.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			out.WriteByte('\\')
			out.WriteRune(r)
		case r == '\n':
			out.WriteString(`\n`)
		case r == '\t':
			out.WriteString(`\t`)
		case r == '\r':
			out.WriteString(`\r`)
		case r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff:
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteRune(r)
		}
	}
	out.WriteByte('"')
	return out.String()
}

var (
	keyAndValue = lazy.Regexp(`^(\s*(?:- )*[^\s#:"'][^:"]*?:\s+)(\S.*)$`)
	misleading  = "@`%{}[]*!>|&\"',"
)

// syntax reports what the parser stumbled over. Most often a value begins with
// a sign that means something in YAML, or holds ": "; then the line is shown as
// it should be written.
func (f *File) syntax(err error) {
	var load *yaml.LoadError
	line, column, message := 1, 1, err.Error()
	if errors.As(err, &load) {
		line, column, message = max(load.Mark.Line, 1), max(load.Mark.Column, 1), load.Message
		if load.ContextMark.Line > 0 && strings.TrimSpace(f.line(line)) == "" {
			line, column = load.ContextMark.Line, max(load.ContextMark.Column, 1)
		}
	}
	message = strings.TrimPrefix(message, "yaml: ")
	if strings.HasPrefix(message, "control characters") { // the parser does not say where
		for number, text := range f.lines {
			if at := strings.IndexFunc(text, isControl); at >= 0 {
				sign, _ := utf8.DecodeRuneInString(text[at:])
				f.ReportAt(number+1, utf8.RuneCountInString(text[:at])+1,
					fmt.Sprintf(`take it out, or write "\u%04X" in double quotes`, sign),
					"not valid YAML: a control character (U+%04X) is here", sign)
				return
			}
		}
	}
	if f.spaceMissing(line, contextLine(load)) || f.indentedOtherwise(line) {
		return
	}
	if !strings.Contains(message, "exceeded") && // too deep or too long: quotes would not help
		(f.neverClosed(load) || f.quoteLeftOpen(load, line) || f.needsQuotes(load, line, column, message)) {
		return
	}
	try := ""
	if m := quotedTwice().FindStringSubmatch(f.line(line)); m != nil {
		try = "in single quotes a quote is written twice, or the text goes into double quotes: " +
			strings.TrimSpace(m[1]+Quote(m[2]))
	}
	if strings.Contains(f.line(line), "\t") {
		try = "YAML is indented with spaces, not with tabs"
	}
	f.ReportAt(line, column, try, "not valid YAML: %s", message)
}

// bareInBraces finds a value with a placeholder that stands without quotes inside braces or brackets,
// where its own brace ends them.
var bareInBraces = lazy.Regexp(`([{\[,:] *)([^\s,:\[\]{}"'$]*\$\{[^}]*\}[^\s,\]}"']*)`)

// unclosed are the signs that open what must be closed, with what they are called and what closes them.
var unclosed = map[byte][2]string{
	'"': {"quote", `"`}, '\'': {"quote", "'"}, '[': {"bracket", "]"}, '{': {"bracket", "}"},
}

// needsQuotes reports a value that quotes would mend, in the line of a mistake or in that where its mapping begins.
func (f *File) needsQuotes(load *yaml.LoadError, line, column int, message string) bool {
	for _, candidate := range []int{line, contextLine(load)} {
		m := keyAndValue().FindStringSubmatch(f.line(candidate))
		if m == nil {
			continue
		}
		value := strings.Trim(m[2], " \t") // other blanks are what is wrong with it
		isMisleading := strings.ContainsAny(value[:1], misleading) && !balanced(value)
		if !isMisleading && !strings.Contains(value, ": ") && !strings.ContainsAny(value[:1], "@`%!*&") {
			continue
		}
		try, words := "write: "+strings.TrimSpace(m[1]+Quote(value)), "this value needs quotes ("+message+")"
		if quoted := bareInBraces().ReplaceAllString(value, `$1"$2"`); quoted != value {
			try, words = "write: "+strings.TrimSpace(m[1]+quoted), "in braces and brackets a value with "+
				"${...} needs quotes"
		} else if operator, ok := comparison(value); ok {
			try = "write: " + strings.TrimSpace(m[1]+operator)
		} else if strings.ContainsAny(value[:1], "{[") && balanced(value) {
			f.ReportAt(line, column, tryInBraces(message), "not valid YAML: %s", message)
			return true
		}
		f.ReportAt(candidate, utf8.RuneCountInString(m[1])+1, try, "%s", words)
		return true
	}
	return false
}

// tryInBraces says what to try where what is in braces or brackets cannot be read.
func tryInBraces(message string) string {
	if strings.Contains(message, "cannot start any token") {
		return "put the value into quotes; a comparison is written in words: over 5, at most 5"
	}
	return "divide what is in braces and brackets by commas, and put a text that holds such signs into quotes"
}

// neverClosed reports the quote or bracket at which a mistake began, where nothing after it closes it.
func (f *File) neverClosed(load *yaml.LoadError) bool {
	if load == nil {
		return false
	}
	line, column := load.ContextMark.Line, load.ContextMark.Column
	text := []rune(f.line(line))
	if column < 1 || column > len(text) {
		return false
	}
	before, value := string(text[:column-1]), string(text[column-1:])
	opened, ok := unclosed[value[0]]
	if !ok || closes(value[:1], opened[1], value[1:]+"\n"+strings.Join(f.lines[line:], "\n")) {
		return false
	}
	try := "write " + opened[1] + " at its end"
	if m := keyAndValue().FindStringSubmatch(before + "x"); m != nil && m[2] == "x" {
		try += "; or, where it is a part of the value, " + strings.TrimSpace(before+Quote(value))
	}
	f.ReportAt(line, column, try, "the %s %s is opened and never closed", opened[0], value[:1])
	return true
}

// opensQuote finds a value that begins with a quote, in a line of its own or in braces and brackets. One inside a
// text without quotes is a letter of it.
var opensQuote = lazy.Regexp(`^\s*(- )*([^\s#:"'][^:"]*:\s+)?("|[{\[].*[:,\[{]\s*")`)

// quoteLeftOpen reports the first line, of those before the last, that opens a quote and does not close it: what
// closes it there is the opening quote of another value.
func (f *File) quoteLeftOpen(load *yaml.LoadError, last int) bool {
	for line := max(contextLine(load), 1); line < last; line++ {
		text := strings.ReplaceAll(f.line(line), `\"`, "  ")
		if strings.Count(text, `"`)%2 == 1 && opensQuote().MatchString(text) {
			at := utf8.RuneCountInString(text[:strings.LastIndexByte(text, '"')]) + 1
			f.ReportAt(line, at, `write " at its end`, `the quote " is opened and not closed on its line`)
			return true
		}
	}
	return false
}

// closes says whether a text closes the sign that was opened before it. What is opened in it closes first.
func closes(opening, closing, text string) bool {
	for depth, rest := 1, text; ; {
		at := strings.IndexAny(rest, opening+closing)
		switch {
		case at < 0:
			return false
		case strings.HasPrefix(rest[at:], closing): // a quote closes with the sign that opens it
			depth--
		default:
			depth++
		}
		if depth == 0 {
			return true
		}
		rest = rest[at+1:]
	}
}

// comparison writes a value that begins with a sign of comparison as the rule that it means.
func comparison(value string) (rule string, ok bool) {
	for _, sign := range [][2]string{
		{">=", "at least"},
		{"<=", "at most"},
		{"=>", "at least"},
		{"=<", "at most"},
		{"!=", "not equals"},
		{">", "over"},
		{"<", "under"},
	} {
		if operand, found := strings.CutPrefix(value, sign[0]); found && strings.TrimSpace(operand) != "" {
			return sign[1] + " " + strings.TrimSpace(operand), true
		}
	}
	return "", false
}

var quotedTwice = lazy.Regexp(`^(\s*(?:- )*[^\s#:"'][^:"]*?:\s+)'(.*'.*)'\s*$`)

var keyWithoutSpace = lazy.Regexp(`^(\s*(?:- )?)([a-z][a-z ]*):([^\s:/"'].*)$`)

// spaceMissing reports a key whose value follows without a space, which YAML takes for a text.
func (f *File) spaceMissing(lines ...int) bool {
	for _, line := range lines {
		for _, at := range []int{line, line - 1} {
			if m := keyWithoutSpace().FindStringSubmatch(f.line(at)); m != nil {
				f.ReportAt(at, utf8.RuneCountInString(m[1]+m[2])+1, "write: "+m[2]+": "+m[3],
					"a space is missing after %s:", m[2])
				return true
			}
		}
	}
	return false
}

// indentedOtherwise reports a key that is indented by a little more or less than the one above it.
func (f *File) indentedOtherwise(line int) bool {
	indent := func(text string) int { return len(text) - len(strings.TrimLeft(text, " ")) }
	above := line - 1
	for above > 0 && strings.TrimSpace(f.line(above)) == "" {
		above--
	}
	here, there := indent(f.line(line)), indent(f.line(above))
	if trimmed := strings.TrimLeft(f.line(above), " "); strings.HasPrefix(trimmed, "- ") {
		there += 2
	}
	m := keyAndValue().FindStringSubmatch(f.line(line) + " x")
	if above == 0 || m == nil || here == there || max(here-there, there-here) > 1 {
		return false
	}
	f.ReportAt(line, here+1, fmt.Sprintf("indent it by %d", there),
		"it is indented by %d, and the line above by %d (spaces)", here, there)
	return true
}

// isControl says whether a character may not be in YAML (1.2.2, 5.1).
func isControl(r rune) bool {
	return r < 0x20 && r != '\t' && r != '\r' || r >= 0x7f && r < 0xa0 && r != 0x85
}

func balanced(value string) bool {
	last := value[len(value)-1]
	switch value[0] {
	case '"', '\'':
		return len(value) > 1 && last == value[0]
	case '[':
		return last == ']'
	case '{':
		return last == '}'
	}
	return false
}

func contextLine(load *yaml.LoadError) int {
	if load == nil {
		return 0
	}
	return load.ContextMark.Line
}
