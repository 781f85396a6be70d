package rule

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/nearest"
	"testbench/internal/path"
	"testbench/internal/value"
)

var states = []string{"present", "absent", "null", "empty", "unique", "ascending", "descending"}

// Parse reads a rule. quoted says that the text stood in quotes: as a plain
// value it is then a typed text. Errors are of type *Error.
func Parse(source string, quoted bool) (*Rule, error) {
	template, err := value.Parse(source)
	if err != nil {
		return nil, fromValue(err, 0)
	}
	if strings.ContainsRune(source, 0) {
		return nil, &Error{Message: "a rule cannot hold a zero byte"}
	}
	p := &parser{text: source}
	p.maskHoles(template)
	trimmed := strings.TrimSpace(p.text)
	if word := ruleWord(strings.ToLower(trimmed)); word == "" {
		if try := nearMiss(trimmed); try != "" {
			return nil, &Error{Message: fmt.Sprintf("%q is no rule", p.unmask(trimmed)), Try: try + plainAdvice(p.unmask(trimmed))}
		}
		operand := textOperand{template: template, typed: quoted}
		return &Rule{Source: operand.String(), test: test{op: opEquals, operands: []Operand{operand}, source: operand.String()}}, nil
	}
	r := &Rule{Source: source}
	p.pos = len(p.text) - len(strings.TrimLeft(p.text, " \t\n"))
	p.text = strings.TrimRight(p.text, " \t\n")
	if p.word("optional") {
		r.optional = true
	}
	if r.test, err = p.worded(); err != nil {
		return nil, p.explain(err, trimmed)
	}
	if p.pos < len(p.text) {
		return nil, p.explain(p.fail("%q is left over", p.unmask(strings.TrimSpace(p.text[p.pos:]))), trimmed)
	}
	return r, nil
}

// plainAdvice tells how the text is written when it is meant as a plain value.
func plainAdvice(text string) string {
	return fmt.Sprintf(" If the text itself is wanted: equals %s", text)
}

// explain adds to an error what would have been right: the word in lower case,
// or equals before a text that only looks like a rule.
func (p *parser) explain(err error, text string) error {
	e := err.(*Error)
	masked := text
	text = p.unmask(text)
	if word := ruleWord(strings.ToLower(masked)); !strings.HasPrefix(text, word) {
		e.Message = fmt.Sprintf("%q is no rule: rule words are written small", text)
		e.Try = fmt.Sprintf("did you mean `%s`, or `equals %s`?", word+text[len(word):], text)
		return e
	}
	if e.Try == "" {
		e.Try = fmt.Sprintf("did you mean `equals %s`?", text)
		if rest, ok := strings.CutPrefix(text, "not "); ok {
			e.Try = fmt.Sprintf("did you mean `equals %s`, or `not equals %s`?", text, rest)
		}
	}
	return e
}

// ruleWord returns the rule word that begins the text and has a blank behind it.
func ruleWord(text string) string {
	for _, word := range Words {
		if rest, ok := strings.CutPrefix(text, word); ok && rest != "" && (rest[0] == ' ' || rest[0] == '\t') {
			return word
		}
	}
	return ""
}

var operatorWords = []struct{ sign, word string }{
	{">=", "at least"}, {"<=", "at most"}, {"==", "equals"}, {"!=", "not equals"}, {"=~", "matches"},
	{"=", "equals"}, {">", "over"}, {"<", "under"}, {"!", "not equals"},
}

// nearMiss finds what was probably meant as a rule: a sign in place of a word,
// or a mistyped word behind which the rest reads as that rule.
func nearMiss(text string) string {
	for _, o := range operatorWords {
		rest, ok := strings.CutPrefix(text, o.sign)
		if rest = strings.TrimSpace(rest); !ok || rest == "" {
			continue
		}
		// Text may begin with < or >; only before something that has an order do
		// they stand for a rule word.
		_, err := readMeasure(strings.Trim(rest, "\x00"))
		if strings.ContainsAny(o.sign, "=~!") || err == nil || strings.Trim(rest, "\x00") == "" {
			return fmt.Sprintf("did you mean `%s %s`?", o.word, strings.ReplaceAll(rest, "\x00", "…"))
		}
	}
	// Rule words have one or two words; both are tried.
	fields := strings.Fields(text)
	for _, count := range []int{2, 1} {
		if len(fields) <= count {
			continue
		}
		typed := strings.ToLower(strings.Join(fields[:count], " "))
		var candidates []string
		for _, word := range Words {
			if strings.Count(word, " ") == count-1 {
				candidates = append(candidates, word)
			}
		}
		if len(typed) < 3 {
			continue
		}
		meant := nearest.Of(typed, candidates)
		if meant == "" || strings.HasPrefix(meant, typed) && len(meant) > len(typed)+2 {
			continue
		}
		if count == 2 && nearest.Of(fields[1], []string{strings.Fields(meant)[1]}) == "" && strings.ToLower(fields[1]) != strings.Fields(meant)[1] {
			continue
		}
		proposal := meant + " " + strings.Join(fields[count:], " ")
		p := &parser{text: proposal}
		if p.word("optional") && ruleWord(p.text[p.pos:]) == "" {
			continue
		}
		_, err := p.worded()
		shaped := meant == "between" && strings.Contains(proposal, " and ") || meant == "about" && strings.Contains(proposal, " within ")
		if (err == nil && p.pos == len(p.text) || shaped) && !vague(meant) {
			return fmt.Sprintf("did you mean `%s`?", proposal)
		}
	}
	return ""
}

// vague says that any text may follow the word, so that a near miss of it
// proves nothing.
func vague(word string) bool {
	switch operation(word) {
	case opEquals, opContains, opMatches, opSameAs:
		return true
	}
	return false
}

func fromValue(err error, base int) error {
	if e, ok := err.(*Error); ok {
		return &Error{Offset: base + e.Offset, Message: e.Message, Try: e.Try}
	}
	return &Error{Offset: base, Message: err.Error()}
}

// parser reads a rule in which every placeholder has been replaced by as many
// zero bytes, so that nothing in a placeholder can look like part of the rule
// and all offsets stay as they were.
type parser struct {
	text   string
	source string
	pos    int
}

func (p *parser) maskHoles(t *value.Template) {
	p.source = p.text
	masked := []byte(p.text)
	for _, h := range t.Holes() {
		for i := h.Offset; i < h.Offset+len(h.Source); i++ {
			masked[i] = 0
		}
	}
	p.text = string(masked)
}

// unmask puts the placeholders back into a part of the text.
func (p *parser) unmask(part string) string {
	if p.source == "" || !strings.ContainsRune(part, 0) {
		return part
	}
	if at := strings.Index(p.text, part); at >= 0 {
		return p.source[at : at+len(part)]
	}
	return part
}

func (p *parser) fail(format string, args ...any) error {
	return &Error{Offset: p.pos, Message: fmt.Sprintf(format, args...)}
}

// word takes the word, which must be followed by a blank or the end.
func (p *parser) word(word string) bool {
	rest, ok := strings.CutPrefix(p.text[p.pos:], word)
	if !ok || rest != "" && rest[0] != ' ' && rest[0] != '\t' {
		return false
	}
	p.pos += len(word)
	p.blanks()
	return true
}

func (p *parser) blanks() {
	for p.pos < len(p.text) && (p.text[p.pos] == ' ' || p.text[p.pos] == '\t') {
		p.pos++
	}
}

func (p *parser) rest() string { return p.text[p.pos:] }

func (p *parser) worded() (test, error) {
	start := p.pos
	t, err := p.operation()
	if err == nil {
		t.source = p.text[start:p.pos]
		if p.source != "" {
			t.source = p.source[start:p.pos]
		}
		t.source = strings.TrimSpace(t.source)
	}
	return t, err
}

func (p *parser) operation() (test, error) {
	for _, word := range Words {
		if word == "optional" || !p.word(word) {
			continue
		}
		op := operation(word)
		switch op {
		case opNot, opAll, opSome:
			inner, err := p.worded()
			return test{op: op, inner: &inner}, err
		case opCount, opLength:
			return p.counted(op)
		case opOver, opUnder, opAtLeast, opAtMost:
			operand, err := p.ordered("")
			return test{op: op, operands: []Operand{operand}}, err
		case opBetween:
			return p.between()
		case opAbout:
			return p.about()
		case opOneOf:
			return p.oneOf()
		case opEquals, opContains, opStartsWith, opEndsWith:
			operand, err := p.val()
			return test{op: op, operands: []Operand{operand}}, err
		case opMatches:
			return p.matches()
		case opIs:
			return p.is()
		case opSameAs:
			compiled, err := path.Compile(p.unmask(p.rest()))
			if err != nil {
				return test{}, &Error{Offset: p.pos, Message: err.Error()}
			}
			p.pos = len(p.text)
			return test{op: op, path: compiled}, nil
		}
	}
	if p.rest() == "" {
		return test{}, p.fail("a rule is missing")
	}
	first, _, _ := strings.Cut(p.rest(), " ")
	e := &Error{Offset: p.pos, Message: fmt.Sprintf("%q is no rule", p.unmask(first))}
	if meant := nearest.Of(first, Words); meant != "" {
		e.Try = fmt.Sprintf("did you mean `%s`?", meant)
	}
	return test{}, e
}

func (p *parser) counted(op operation) (test, error) {
	digits := 0
	for digits < len(p.rest()) && p.rest()[digits] >= '0' && p.rest()[digits] <= '9' {
		digits++
	}
	if digits > 0 && (digits == len(p.rest()) || p.rest()[digits] == ' ') {
		number := value.Literal(p.rest()[:digits])
		p.pos += digits
		p.blanks()
		inner := test{op: opEquals, operands: []Operand{textOperand{template: number}}, source: number.Source}
		return test{op: op, inner: &inner}, nil
	}
	if strings.HasPrefix(p.rest(), "\x00") {
		operand, err := p.val()
		inner := test{op: opEquals, operands: []Operand{operand}}
		if err == nil {
			inner.source = operand.String()
		}
		return test{op: op, inner: &inner}, err
	}
	inner, err := p.worded()
	return test{op: op, inner: &inner}, err
}

// ordered reads a number, date, time, duration or size up to the word until.
func (p *parser) ordered(until string) (Operand, error) {
	end := len(p.rest())
	if until != "" {
		at := strings.Index(p.rest(), " "+until+" ")
		if at < 0 {
			return nil, p.fail("%q is missing", until)
		}
		end = at
	}
	text := strings.TrimSpace(p.rest()[:end])
	if text == "" {
		return nil, p.fail("a number, date, duration or size is missing")
	}
	template, err := value.Parse(p.unmask(text))
	if err != nil {
		return nil, fromValue(err, p.pos)
	}
	if template.IsLiteral() {
		if _, err := readMeasure(text); err != nil {
			return nil, p.fail("%q is no number, date, time, duration or size", text)
		}
	}
	p.pos += end
	p.blanks()
	if until != "" {
		p.word(until)
	}
	return textOperand{template: template}, nil
}

func (p *parser) between() (test, error) {
	low, err := p.ordered("and")
	if err != nil {
		return test{}, err
	}
	high, err := p.ordered("")
	return test{op: opBetween, operands: []Operand{low, high}}, err
}

func (p *parser) about() (test, error) {
	middle, err := p.ordered("within")
	if err != nil {
		return test{}, err
	}
	t := test{op: opAbout}
	if rest, ok := strings.CutSuffix(p.text, "%"); ok {
		t.percent = true
		p.text = strings.TrimRight(rest, " ")
		p.pos = min(p.pos, len(p.text))
	}
	tolerance, err := p.ordered("")
	if err == nil && t.percent {
		if text := tolerance.String(); !document.IsNumber(text) && !strings.Contains(text, "${") {
			return test{}, p.fail("%q is no number of percent", text)
		}
	}
	t.operands = []Operand{middle, tolerance}
	return t, err
}

func (p *parser) oneOf() (test, error) {
	t := test{op: opOneOf}
	for {
		operand, err := p.val()
		if err != nil {
			return t, err
		}
		t.operands = append(t.operands, operand)
		if !p.word("or") {
			break
		}
		if p.rest() == "" {
			return t, p.fail("a value is missing behind or")
		}
	}
	if len(t.operands) < 2 && p.rest() == "" && strings.Contains(t.operands[0].String(), ",") {
		return t, &Error{Offset: p.pos, Message: "one of joins its values with or", Try: "write one of A or B"}
	}
	return t, nil
}

// val reads a quoted text, or bare text up to " or ".
func (p *parser) val() (Operand, error) {
	if strings.HasPrefix(p.rest(), `"`) {
		start := p.pos
		p.pos++
		var text strings.Builder
		for p.pos < len(p.text) && p.text[p.pos] != '"' {
			if p.text[p.pos] == '\\' && p.pos+1 < len(p.text) {
				p.pos++
			}
			text.WriteByte(p.sourceByte(p.pos))
			p.pos++
		}
		if p.pos >= len(p.text) {
			p.pos = start
			return nil, p.fail("the double quotes are not closed")
		}
		p.pos++
		if p.pos < len(p.text) && p.text[p.pos] != ' ' {
			return nil, p.fail("%q stands right behind the closing quotes", p.rest())
		}
		p.blanks()
		template, err := value.Parse(text.String())
		if err != nil {
			return nil, fromValue(err, start)
		}
		return textOperand{template: template, typed: true}, nil
	}
	end := len(p.rest())
	if at := strings.Index(p.rest(), " or "); at >= 0 {
		end = at
	} else if bare, ok := strings.CutSuffix(p.rest(), " or"); ok {
		end = len(bare)
	}
	text := strings.TrimSpace(p.rest()[:end])
	if text == "" {
		return nil, p.fail("a value is missing")
	}
	if strings.Contains(text, `"`) {
		return nil, p.fail("double quotes stand in the middle of %s: put all of it into quotes, with \\\" inside", text)
	}
	template, err := value.Parse(p.unmask(text))
	if err != nil {
		return nil, fromValue(err, p.pos)
	}
	p.pos += end
	p.blanks()
	return textOperand{template: template}, nil
}

func (p *parser) sourceByte(i int) byte {
	if p.source != "" {
		return p.source[i]
	}
	return p.text[i]
}

func (p *parser) matches() (test, error) {
	text := p.unmask(p.rest())
	template, err := value.Parse(text)
	if err != nil {
		return test{}, fromValue(err, p.pos)
	}
	t := test{op: opMatches}
	if template.IsLiteral() {
		if t.re, err = wholeExpression(template.LiteralText()); err != nil {
			return test{}, p.fail("not a regular expression (RE2): %v", err)
		}
	} else {
		t.reSource = template
	}
	p.pos = len(p.text)
	return t, nil
}

// wholeExpression compiles an expression that must match the whole value.
func wholeExpression(text string) (*regexp.Regexp, error) {
	if text == "" {
		return nil, fmt.Errorf("it is empty")
	}
	if _, err := regexp.Compile(text); err != nil {
		return nil, err
	}
	return regexp.Compile(`\A(?:` + text + `)\z`)
}

func (p *parser) is() (test, error) {
	word, _, _ := strings.Cut(p.rest(), " ")
	for _, state := range states {
		if word == state {
			p.pos += len(word)
			p.blanks()
			return test{op: opIs, state: state}, nil
		}
	}
	known, ok := kinds[word]
	if !ok {
		names := append(append([]string{}, states...), KindNames()...)
		e := &Error{Offset: p.pos, Message: fmt.Sprintf("%q is no kind and no state", word)}
		if meant := nearest.Of(word, names); meant != "" {
			e.Try = fmt.Sprintf("did you mean `is %s`, or for the text `equals %s`?", meant, p.unmask(p.text))
		}
		return test{}, e
	}
	p.pos += len(word)
	p.blanks()
	t := test{op: opIs, kind: word}
	if known.takesDigits {
		digits, _, _ := strings.Cut(p.rest(), " ")
		count, err := strconv.Atoi(digits)
		if err != nil || count < 0 {
			return test{}, &Error{Offset: p.pos, Message: "is decimal needs the number of digits after the point", Try: "write is decimal 2"}
		}
		t.digits = count
		p.pos += len(digits)
		p.blanks()
	}
	return t, nil
}
