package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/suggest"
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
	p := newParser(source, template)
	p.blanks()
	start := p.pos
	word := ruleWord(strings.ToLower(p.text[start:]))
	if word == "" {
		if try := p.meant(start, nearMiss); try != "" {
			text := p.from(start)
			return nil, &Error{
				Message: fmt.Sprintf("%q is not a rule", text),
				Try:     strings.TrimSpace(try + plainAdvice(text)),
			}
		}
		if source == "null" && !quoted {
			return &Rule{Source: source, test: test{op: opIs, state: "null", source: source}}, nil
		}
		operand := textOperand{template: template, typed: quoted}
		return &Rule{
			Source: operand.String(),
			test:   test{op: opEquals, operands: []Operand{operand}, source: operand.String()},
		}, nil
	}
	r := &Rule{Source: source}
	p.leads(&r.leads)
	if r.test, err = p.worded(); err == nil && p.pos < len(p.text) {
		err = p.fail("%q is left over", p.from(p.pos))
	}
	if err != nil {
		if try := p.meant(start, synonym); try != "" {
			return nil, &Error{Offset: start, Message: fmt.Sprintf("%q is not a rule", p.from(start)), Try: try}
		}
		return nil, p.explain(err, p.from(start), word)
	}
	return r, nil
}

// plainAdvice tells how the text is written when it is meant as a plain value.
func plainAdvice(text string) string {
	return fmt.Sprintf(" If the text itself is expected: `equals %s`", text)
}

// explain adds to an error what would have been right: the word in lower case,
// or equals before a text that only looks like a rule.
func (p *parser) explain(err error, text, word string) error {
	e := err.(*Error)
	if !strings.HasPrefix(text, word) {
		e.Message = fmt.Sprintf("%q is not a rule: rule words are written in lower case", text)
		e.Try = fmt.Sprintf("did you mean `%s`, or `equals %s`?", word+text[len(word):], text)
		return e
	}
	if e.Try == "" {
		e.Try = fmt.Sprintf("did you mean `equals %s`?", text)
		// After not, optional and others a rule is expected, and a value alone is none.
		if at := len(text) - len(p.from(e.Offset)); at > 0 && word != "count" && word != "length" &&
			strings.HasSuffix(e.Message, " is not a rule") {
			e.Try = fmt.Sprintf("did you mean `%sequals %s`, or for the text itself `equals %s`?", text[:at], text[at:],
				text)
		}
	}
	return e
}

// ruleWord returns the rule word that begins the text, alone or before a blank.
func ruleWord(text string) string {
	for _, word := range Words {
		if rest, ok := strings.CutPrefix(text, word); ok && (rest == "" || rest[0] == ' ' || rest[0] == '\t') {
			return word
		}
	}
	return ""
}

func fromValue(err error, base int) error {
	if e, ok := err.(*Error); ok {
		return &Error{Offset: base + e.Offset, Message: e.Message, Try: e.Try}
	}
	return &Error{Offset: base, Message: err.Error()}
}

// parser reads a rule in which every placeholder has been replaced by as many
// zero bytes, so that nothing in a placeholder can look like part of the rule
// and all offsets stay as they were: text[i] stands for source[i].
type parser struct {
	text   string
	source string
	pos    int
}

func newParser(source string, template *value.Template) *parser {
	masked := []byte(source)
	for _, h := range template.Placeholders() {
		for i := h.Offset; i < h.Offset+len(h.Source); i++ {
			masked[i] = 0
		}
	}
	text := strings.TrimRight(string(masked), " \t\n")
	return &parser{text: text, source: source[:len(text)], pos: len(text) - len(strings.TrimLeft(text, " \t\n"))}
}

// from is the source from an offset on, without blanks around it.
func (p *parser) from(start int) string { return strings.TrimSpace(p.source[start:]) }

// template reads the source between two offsets, without blanks around it, as a text with
// placeholders; text is the same part with the placeholders masked.
func (p *parser) template(start, end int) (t *value.Template, text string, err error) {
	for start < end && isBlank(p.text[start]) {
		start++
	}
	for end > start && isBlank(p.text[end-1]) {
		end--
	}
	if t, err = value.Parse(p.source[start:end]); err != nil {
		return t, p.text[start:end], fromValue(err, start)
	}
	value.Shift(t.Placeholders(), start)
	return t, p.text[start:end], nil
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' }

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

// leads reads the words of what passes unjudged.
func (p *parser) leads(into *leads) {
	for _, word := range leadWords {
		if p.word(word) {
			*into.of(word) = true
			p.leads(into)
			return
		}
	}
}

func (p *parser) blanks() {
	for p.pos < len(p.text) && isBlank(p.text[p.pos]) {
		p.pos++
	}
}

func (p *parser) rest() string { return p.text[p.pos:] }

func (p *parser) worded() (test, error) {
	start := p.pos
	t, err := p.operation()
	if err == nil {
		t.source = strings.TrimSpace(p.source[start:p.pos])
	}
	return t, err
}

func (p *parser) operation() (test, error) {
	for _, word := range Words {
		if slices.Contains(leadWords, word) || !p.word(word) {
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
			compiled, err := path.Compile(p.from(p.pos))
			if err != nil {
				return test{}, fromValue(err, p.pos)
			}
			value.Shift(compiled.Placeholders(), p.pos)
			p.pos = len(p.text)
			return test{op: op, path: compiled}, nil
		}
	}
	if p.rest() == "" {
		return test{}, p.fail("a rule is missing")
	}
	if try := p.meant(p.pos, nearMiss); try != "" {
		return test{}, &Error{Offset: p.pos, Message: fmt.Sprintf("%q is not a rule", p.from(p.pos)), Try: try}
	}
	first, _, _ := strings.Cut(p.rest(), " ")
	e := &Error{Offset: p.pos, Message: fmt.Sprintf("%q is not a rule", p.source[p.pos:p.pos+len(first)])}
	if meant := suggest.Closest(first, Words); meant != "" {
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
	template, text, err := p.template(p.pos, p.pos+end)
	if err != nil {
		return nil, err
	}
	if text == "" {
		return nil, p.fail("a number, date, duration or size is missing")
	}
	if template.IsLiteral() {
		if _, err := readMeasure(text); err != nil {
			return nil, p.fail("%q is not a number, date, time, duration or size", text)
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
	start := p.pos
	high, err := p.ordered("")
	if err == nil {
		if reason := reversed(low, high); reason != "" {
			return test{}, &Error{
				Offset: start, Message: reason,
				Try: fmt.Sprintf("did you mean `between %s and %s`?", high, low),
			}
		}
	}
	return test{op: opBetween, operands: []Operand{low, high}}, err
}

// reversed says why nothing can be between two bounds, or "" where something can or one
// of them is not known yet.
func reversed(low, high Operand) string {
	first, err := readMeasure(low.String())
	last, wrong := readMeasure(high.String())
	if err != nil || wrong != nil {
		return ""
	}
	order, err := compare(first, last)
	switch {
	case err != nil:
		return err.Error()
	case order > 0:
		return fmt.Sprintf("nothing is between %s and %s: the lower value comes first", low, high)
	}
	return ""
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
		p.source = p.source[:len(p.text)]
		p.pos = min(p.pos, len(p.text))
	}
	tolerance, err := p.ordered("")
	if err == nil && t.percent {
		if text := tolerance.String(); !document.IsNumber(text) && !strings.Contains(text, "${") {
			return test{}, p.fail("%q is not a number of percent", text)
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
			return t, p.fail("a value is missing after or")
		}
	}
	for _, operand := range t.operands {
		bare, ok := operand.(textOperand)
		if ok && !bare.typed && strings.Contains(bare.String(), ",") && p.rest() == "" &&
			(len(t.operands) < 2 || strings.Contains(bare.String(), ", ")) {
			return t, &Error{
				Offset: p.pos, Message: "one of joins its values with or",
				Try: "write one of A or B or C; a value with a comma is written in double quotes",
			}
		}
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
			text.WriteByte(p.source[p.pos])
			p.pos++
		}
		if p.pos >= len(p.text) {
			p.pos = start
			return nil, p.fail("the double quotes are not closed")
		}
		p.pos++
		if p.pos < len(p.text) && p.text[p.pos] != ' ' {
			return nil, p.fail("%q comes right after the closing quotes", p.rest())
		}
		p.blanks()
		template, err := value.Parse(text.String())
		if err != nil {
			return nil, fromValue(err, start)
		}
		value.Shift(template.Placeholders(), start+1) // after the quotes
		return textOperand{template: template, typed: true}, nil
	}
	end := len(p.rest())
	if at := strings.Index(p.rest(), " or "); at >= 0 {
		end = at
	} else if bare, ok := strings.CutSuffix(p.rest(), " or"); ok {
		end = len(bare)
	}
	template, text, err := p.template(p.pos, p.pos+end)
	switch {
	case err != nil:
		return nil, err
	case text == "":
		return nil, p.fail("a value is missing")
	case strings.Contains(text, `"`):
		return nil, p.fail("double quotes in the middle of %s: put all of it into quotes, with \\\" inside", text)
	}
	p.pos += end
	p.blanks()
	return textOperand{template: template}, nil
}

func (p *parser) matches() (test, error) {
	template, _, err := p.template(p.pos, len(p.text))
	if err != nil {
		return test{}, err
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
	start := p.pos
	if p.word("not") {
		inner, err := p.is()
		inner.source = "is " + strings.TrimSpace(p.source[min(start+len("not "), p.pos):p.pos])
		return test{op: opNot, inner: &inner}, err
	}
	if p.rest() == "" {
		return test{}, p.fail("a kind or a state is missing: is integer, is present")
	}
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
		e := &Error{Offset: p.pos, Message: fmt.Sprintf("%q is not a kind or a state", p.source[p.pos:p.pos+len(word)])}
		if try := p.meant(p.pos, func(text string) string { return nearMiss("is " + text) }); try != "" {
			e.Try = try
			return test{}, e
		}
		if meant := suggest.Closest(word, names); meant != "" {
			e.Try = fmt.Sprintf("did you mean `is %s`, or for the text `equals %s`?", meant, p.source)
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
			return test{}, &Error{
				Offset: p.pos, Message: "is decimal needs the number of digits after the point",
				Try: "write is decimal 2",
			}
		}
		t.digits = count
		p.pos += len(digits)
		p.blanks()
	}
	return t, nil
}
