// Package pattern reads, matches and makes examples of the regular expressions of XML Schema.
package pattern

import (
	_ "embed" // blocks.txt
	"fmt"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"testbench/internal/xmlstream"
)

// A Pattern is a regular expression of XML Schema (Part 2, appendix F). It
// speaks of the whole value, and its dialect is its own: no anchors, class
// subtraction, \i and \c, categories and blocks of Unicode.
type Pattern struct {
	Source  string
	matcher *regexp.Regexp
	runs    []run // for most values; nil where the matcher is needed for all
	root    regexNode
}

// Match says whether the whole value matches.
func (p *Pattern) Match(value string) bool { return p.matcher.MatchString(value) }

// MatchBytes is Match for a text in bytes.
func (p *Pattern) MatchBytes(value []byte) bool {
	if p.runs != nil {
		if matches, known := matchRuns(p.runs, value); known {
			return matches
		}
	}
	return p.matcher.Match(value)
}

// Words lists the sources of patterns of which one must match.
func Words(alternatives []*Pattern) string {
	sources := make([]string, len(alternatives))
	for i, p := range alternatives {
		sources[i] = p.Source
	}
	return strings.Join(sources, " or ")
}

// The tree of an expression: it is written anew in the syntax of package
// regexp, whose time is linear in the value, and walked to make samples.

type regexNode interface{ write(w *regexWriter) }

type (
	regexSet    charSet
	regexSeq    []regexNode
	regexChoice []regexNode
	regexRepeat struct {
		inner    regexNode
		min, max int // max -1: any number
	}
)

// charSet is a set of characters: ranges in order, without overlaps.
type charSet []rune // from, to, from, to, ...

// Limits of an expression: what package regexp takes, and what memory allows.
const (
	maxPatternSize    = 200_000
	maxPatternNesting = 250
	maxNativeRepeat   = 1000
)

// Compile reads an expression. The error says where it goes wrong.
func Compile(source string) (*Pattern, error) {
	p := &regexParser{text: source}
	root, err := p.choice(0)
	if err == nil && p.pos < len(source) {
		err = p.fail("%q closes nothing", ")")
	}
	if err != nil {
		return nil, err
	}
	w := &regexWriter{}
	w.out.WriteString(`\A(?:`)
	root.write(w)
	w.out.WriteString(`)\z`)
	if w.size > maxPatternSize {
		return nil, fmt.Errorf("the pattern is too large: its repetitions come to more than %d characters",
			maxPatternSize)
	}
	matcher, err := regexp.Compile(w.out.String())
	if err != nil {
		return nil, fmt.Errorf("the pattern is too large: %w", err)
	}
	return &Pattern{Source: source, matcher: matcher, runs: runsOf(root), root: root}, nil
}

type regexWriter struct {
	out  strings.Builder
	size int
}

func (s regexSet) write(w *regexWriter) {
	if w.size++; w.size > maxPatternSize {
		return
	}
	if len(s) == 0 {
		w.out.WriteString(`[^\x{0}-\x{10FFFF}]`)
		return
	}
	if len(s) == 2 && s[0] == s[1] {
		w.out.WriteString(regexp.QuoteMeta(string(s[0])))
		return
	}
	w.out.WriteByte('[')
	for i := 0; i < len(s); i += 2 {
		fmt.Fprintf(&w.out, `\x{%X}-\x{%X}`, s[i], s[i+1])
	}
	w.out.WriteByte(']')
}

func (s regexSeq) write(w *regexWriter) {
	for _, n := range s {
		n.write(w)
	}
}

func (c regexChoice) write(w *regexWriter) {
	w.out.WriteString("(?:")
	for i, n := range c {
		if i > 0 {
			w.out.WriteByte('|')
		}
		n.write(w)
	}
	w.out.WriteByte(')')
}

// write spells a repetition. Package regexp bounds the number, and the product
// of nested numbers, so a large one is written as several.
func (r regexRepeat) write(w *regexWriter) {
	if w.size > maxPatternSize {
		return
	}
	_, simple := r.inner.(regexSet)
	one := func(suffix string) {
		w.out.WriteString("(?:")
		r.inner.write(w)
		w.out.WriteString(")" + suffix)
	}
	switch {
	case r.max == 0:
		return
	case r.min == 0 && r.max == 1:
		one("?")
		return
	case r.min == 0 && r.max < 0:
		one("*")
		return
	case r.min == 1 && r.max < 0:
		one("+")
		return
	}
	native := func(min, max int) {
		if min == max {
			one("{" + strconv.Itoa(min) + "}")
		} else {
			one("{" + strconv.Itoa(min) + "," + strconv.Itoa(max) + "}")
		}
		w.size += max
	}
	if simple {
		left := r.min
		for ; left > maxNativeRepeat && w.size <= maxPatternSize; left -= maxNativeRepeat {
			native(maxNativeRepeat, maxNativeRepeat)
		}
		if left > 0 {
			native(left, left)
		}
		if r.max < 0 {
			one("*")
			return
		}
		left = r.max - r.min
		for ; left > maxNativeRepeat && w.size <= maxPatternSize; left -= maxNativeRepeat {
			native(0, maxNativeRepeat)
		}
		if left > 0 {
			native(0, left)
		}
		return
	}
	for range r.min {
		if w.size > maxPatternSize {
			return
		}
		one("")
	}
	if r.max < 0 {
		one("*")
		return
	}
	// x(x(x)?)? leaves less to try than x?x?x?.
	optional := min(r.max-r.min, maxNativeRepeat)
	if r.max-r.min > maxNativeRepeat {
		w.size = maxPatternSize + 1
		return
	}
	for range optional {
		if w.size > maxPatternSize {
			return
		}
		w.out.WriteString("(?:")
		r.inner.write(w)
	}
	w.out.WriteString(strings.Repeat(")?", optional))
}

type regexParser struct {
	text string
	pos  int
}

func (p *regexParser) fail(format string, args ...any) error {
	return fmt.Errorf("at character %d of the pattern: %s", utf8.RuneCountInString(p.text[:p.pos])+1,
		fmt.Sprintf(format, args...))
}

func (p *regexParser) peek() rune {
	if p.pos >= len(p.text) {
		return -1
	}
	r, _ := utf8.DecodeRuneInString(p.text[p.pos:])
	return r
}

func (p *regexParser) next() rune {
	r, size := utf8.DecodeRuneInString(p.text[p.pos:])
	p.pos += size
	return r
}

func (p *regexParser) choice(depth int) (regexNode, error) {
	if depth > maxPatternNesting {
		return nil, p.fail("it is nested deeper than %d", maxPatternNesting)
	}
	var branches regexChoice
	for {
		branch, err := p.branch(depth)
		if err != nil {
			return nil, err
		}
		branches = append(branches, branch)
		if p.peek() != '|' {
			break
		}
		p.next()
	}
	if len(branches) == 1 {
		return branches[0], nil
	}
	return branches, nil
}

func (p *regexParser) branch(depth int) (regexNode, error) {
	var pieces regexSeq
	for r := p.peek(); r != -1 && r != '|' && r != ')'; r = p.peek() {
		atom, err := p.atom(depth)
		if err != nil {
			return nil, err
		}
		if atom, err = p.quantified(atom); err != nil {
			return nil, err
		}
		pieces = append(pieces, atom)
	}
	return pieces, nil
}

func (p *regexParser) atom(depth int) (regexNode, error) {
	switch r := p.peek(); r {
	case '(':
		p.next()
		inner, err := p.choice(depth + 1)
		if err != nil {
			return nil, err
		}
		if p.peek() != ')' {
			return nil, p.fail("a ) is missing")
		}
		p.next()
		return inner, nil
	case '[':
		p.next()
		set, err := p.class(depth + 1)
		return regexSet(set), err
	case '.':
		p.next()
		return regexSet(invert(charSet{'\n', '\n', '\r', '\r'})), nil
	case '\\':
		set, err := p.escape()
		return regexSet(set), err
	case '*', '+', '?', '{':
		return nil, p.fail("there is nothing before %q to repeat", r)
	case ']', '}':
		return nil, p.fail("%q must be written \\%c", r, r)
	default:
		p.next()
		return regexSet{r, r}, nil
	}
}

func (p *regexParser) quantified(atom regexNode) (regexNode, error) {
	switch p.peek() {
	case '?':
		p.next()
		return regexRepeat{atom, 0, 1}, nil
	case '*':
		p.next()
		return regexRepeat{atom, 0, -1}, nil
	case '+':
		p.next()
		return regexRepeat{atom, 1, -1}, nil
	case '{':
		end := strings.IndexByte(p.text[p.pos:], '}')
		if end < 0 {
			return nil, p.fail("{ is not closed")
		}
		low, high, ranged := strings.Cut(p.text[p.pos+1:p.pos+end], ",")
		least, err := strconv.Atoi(low)
		if err != nil || least < 0 || low[0] == '+' {
			return nil, p.fail("{%s} is not a number of repetitions", p.text[p.pos+1:p.pos+end])
		}
		most := least
		if ranged && high == "" {
			most = -1
		} else if ranged {
			if most, err = strconv.Atoi(high); err != nil || most < least || high[0] == '+' {
				return nil, p.fail("{%s} is not a number of repetitions", p.text[p.pos+1:p.pos+end])
			}
		}
		p.pos += end + 1
		return regexRepeat{atom, least, most}, nil
	}
	return atom, nil
}

// class reads a character class after its [ (productions 12 to 21).
func (p *regexParser) class(depth int) (charSet, error) {
	if depth > maxPatternNesting {
		return nil, p.fail("it is nested deeper than %d", maxPatternNesting)
	}
	negative := p.peek() == '^'
	if negative {
		p.next()
	}
	var set charSet
	empty := true
	finish := func() charSet {
		if negative {
			return invert(set)
		}
		return set
	}
	for {
		switch r := p.peek(); {
		case r == -1:
			return nil, p.fail("[ is not closed")
		case r == ']' && empty:
			return nil, p.fail("[] is empty; write \\] for the character")
		case r == ']':
			p.next()
			return finish(), nil
		case r == '[':
			return nil, p.fail("[ inside of [ ] must be written \\[")
		case r == '-' && strings.HasPrefix(p.text[p.pos:], "-[") && !empty:
			p.pos += 2
			minus, err := p.class(depth + 1)
			if err != nil {
				return nil, err
			}
			if p.peek() != ']' {
				return nil, p.fail("a class ends after what is taken from it: ] is missing")
			}
			p.next()
			return subtract(finish(), minus), nil
		}
		part, err := p.rangeOrEscape()
		if err != nil {
			return nil, err
		}
		set, empty = join(set, part), false
	}
}

// rangeOrEscape reads a-z, a single character, or an escape.
func (p *regexParser) rangeOrEscape() (charSet, error) {
	from, set, err := p.classCharacter()
	if err != nil || set != nil {
		return set, err
	}
	rest := p.text[p.pos:]
	if !strings.HasPrefix(rest, "-") || strings.HasPrefix(rest, "-]") || strings.HasPrefix(rest, "-[") {
		return charSet{from, from}, nil
	}
	p.next()
	if p.peek() == '-' { // production 17: it is written as such only where a class begins or ends
		return nil, p.fail("a range cannot end with -; write \\- for the character")
	}
	to, set, err := p.classCharacter()
	if err != nil {
		return nil, err
	}
	if set != nil {
		return nil, p.fail("a range must end with one character")
	}
	if to < from {
		return nil, p.fail("the range %c-%c runs backwards", from, to)
	}
	return charSet{from, to}, nil
}

// classCharacter reads one character, or the set that an escape stands for.
func (p *regexParser) classCharacter() (rune, charSet, error) {
	r := p.peek()
	if r == -1 {
		return 0, nil, p.fail("[ is not closed")
	}
	if r != '\\' {
		p.next()
		return r, nil, nil
	}
	set, err := p.escape()
	if err == nil && len(set) == 2 && set[0] == set[1] {
		return set[0], nil, nil
	}
	return 0, set, err
}

// escape reads a backslash and what follows (productions 23 to 37).
func (p *regexParser) escape() (charSet, error) {
	p.next()
	r := p.peek()
	if r == -1 {
		return nil, p.fail("nothing follows the backslash")
	}
	at := p.pos
	p.next()
	switch r {
	case 'n':
		return charSet{'\n', '\n'}, nil
	case 'r':
		return charSet{'\r', '\r'}, nil
	case 't':
		return charSet{'\t', '\t'}, nil
	case '\\', '|', '.', '?', '*', '+', '(', ')', '{', '}', '-', '[', ']', '^':
		return charSet{r, r}, nil
	case 'p', 'P':
		set, err := p.property()
		if r == 'P' {
			set = invert(set)
		}
		return set, err
	}
	if set, ok := multiEscapes()[unicode.ToLower(r)]; ok {
		if unicode.IsUpper(r) {
			return invert(set), nil
		}
		return set, nil
	}
	p.pos = at
	return nil, p.fail(`\%c means nothing in a pattern of XML Schema`, r)
}

func (p *regexParser) property() (charSet, error) {
	end := strings.IndexByte(p.text[p.pos:], '}')
	if p.peek() != '{' || end < 0 {
		return nil, p.fail(`\p needs a name in { }`)
	}
	name := p.text[p.pos+1 : p.pos+end]
	if block, ok := strings.CutPrefix(name, "Is"); ok {
		r, known := blocks()[block]
		if !known {
			return nil, p.fail("there is no block %s in Unicode", block)
		}
		p.pos += end + 1
		return charSet{r[0], r[1]}, nil
	}
	table := unicode.Categories[name]
	if table == nil || len(name) > 2 || name == "Cs" || name == "LC" {
		if name == "Cn" {
			p.pos += end + 1
			return invert(assigned()), nil
		}
		return nil, p.fail("there is no category %s in Unicode", name)
	}
	p.pos += end + 1
	set := fromTable(table)
	if name == "C" {
		set = join(set, invert(assigned()))
	}
	return set, nil
}

// assigned are the characters that have a category.
var assigned = sync.OnceValue(func() charSet {
	var all charSet
	for _, name := range []string{"L", "M", "N", "P", "S", "Z", "Cc", "Cf", "Co", "Cs"} {
		all = join(all, fromTable(unicode.Categories[name]))
	}
	return all
})

// blockList names the blocks of Unicode as patterns write them, without blanks, with
// those names that older versions of Unicode gave some of them.
//
//go:embed blocks.txt
var blockList string

var blocks = sync.OnceValue(func() map[string][2]rune {
	all := map[string][2]rune{}
	for line := range strings.Lines(blockList) {
		var name string
		var from, to rune
		if _, err := fmt.Sscanf(line, "%s %X %X", &name, &from, &to); err == nil {
			all[name] = [2]rune{from, to}
		}
	}
	return all
})

func fromTable(table *unicode.RangeTable) charSet {
	var set charSet
	add := func(lo, hi, stride rune) {
		if stride == 1 {
			set = append(set, lo, hi)
			return
		}
		for r := lo; r <= hi; r += stride {
			set = append(set, r, r)
		}
	}
	for _, r := range table.R16 {
		add(rune(r.Lo), rune(r.Hi), rune(r.Stride))
	}
	for _, r := range table.R32 {
		add(rune(r.Lo), rune(r.Hi), rune(r.Stride))
	}
	return tidy(set)
}

// multiEscapes are \s \i \c \d \w (production 37).
var multiEscapes = sync.OnceValue(func() map[rune]charSet {
	var initial, name charSet
	for _, bounds := range [][2]rune{{0, 0x3FF}, {0x1F00, 0x30FF}, {0xD700, 0x10FFF}} {
		for r := bounds[0]; r <= bounds[1]; r++ {
			if xmlstream.IsNameStart(r) {
				initial = append(initial, r, r)
			}
			if xmlstream.IsNameChar(r) {
				name = append(name, r, r)
			}
		}
	}
	// Between those bounds and above them all characters are alike.
	for _, alike := range [][2]rune{{0x400, 0x1EFF}, {0x3100, 0xD6FF}, {0x11000, 0xEFFFF}} {
		initial, name = append(initial, alike[0], alike[1]), append(name, alike[0], alike[1])
	}
	var notWord charSet
	for _, category := range []string{"P", "Z"} {
		notWord = join(notWord, fromTable(unicode.Categories[category]))
	}
	notWord = join(join(notWord, fromTable(unicode.Categories["C"])), invert(assigned()))
	return map[rune]charSet{
		's': {'\t', '\n', '\r', '\r', ' ', ' '},
		'i': tidy(initial),
		'c': tidy(name),
		'd': fromTable(unicode.Categories["Nd"]),
		'w': invert(notWord),
	}
})

// Sets.

func tidy(set charSet) charSet {
	type span struct{ from, to rune }
	spans := make([]span, 0, len(set)/2)
	for i := 0; i < len(set); i += 2 {
		spans = append(spans, span{set[i], set[i+1]})
	}
	sort.Slice(spans, func(i, j int) bool { return spans[i].from < spans[j].from })
	var out charSet
	for _, s := range spans {
		if n := len(out); n > 0 && s.from <= out[n-1]+1 {
			out[n-1] = max(out[n-1], s.to)
			continue
		}
		out = append(out, s.from, s.to)
	}
	return out
}

func join(a, b charSet) charSet { return tidy(append(append(charSet(nil), a...), b...)) }

func invert(set charSet) charSet {
	var out charSet
	next := rune(0)
	for i := 0; i < len(set); i += 2 {
		if set[i] > next {
			out = append(out, next, set[i]-1)
		}
		next = set[i+1] + 1
	}
	if next <= unicode.MaxRune {
		out = append(out, next, unicode.MaxRune)
	}
	return out
}

func subtract(a, b charSet) charSet { return invert(join(invert(a), b)) }
