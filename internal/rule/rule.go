// Package rule judges answers: rules in words on single fields (parse.go,
// judge.go), and conditions in CEL over whole answers (condition.go). It is
// given trees and says whether they hold and, if not, why; it sends nothing.
package rule

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/syntax"
	"testbench/internal/value"
)

// Error is a mistake in the text of a rule or condition.
type Error = syntax.Error

// Operand is a value inside a rule, known only when the rule is judged.
type Operand interface {
	Node(scope value.Scope) (*document.Node, error)
	Placeholders() []*value.Placeholder
	String() string
}

// textOperand is an operand written as text: typed where it stood in quotes.
type textOperand struct {
	template *value.Template
	typed    bool
}

func (o textOperand) Node(scope value.Scope) (*document.Node, error) {
	return o.template.Node(scope, o.typed)
}
func (o textOperand) Placeholders() []*value.Placeholder { return o.template.Placeholders() }
func (o textOperand) String() string {
	if o.typed {
		return document.QuoteJSON(o.template.Source)
	}
	return o.template.Source
}

// Rule is a parsed rule. It is safe for use by several goroutines.
type Rule struct {
	Source string
	leads
	test test
}

type operation string

const (
	opEquals     operation = "equals"
	opNot        operation = "not"
	opAll        operation = "all"
	opSome       operation = "some"
	opCount      operation = "count"
	opLength     operation = "length"
	opOver       operation = "over"
	opUnder      operation = "under"
	opAtLeast    operation = "at least"
	opAtMost     operation = "at most"
	opBetween    operation = "between"
	opAbout      operation = "about"
	opOneOf      operation = "one of"
	opContains   operation = "contains"
	opStartsWith operation = "starts with"
	opEndsWith   operation = "ends with"
	opMatches    operation = "matches"
	opIs         operation = "is"
	opSameAs     operation = "same as"
	opAllOf      operation = "all of"
	opAnyOf      operation = "any of"
)

// Words lists the words that begin a rule, longest first.
var Words = []string{
	"starts with", "ends with", "at least", "optional", "contains", "between", "matches", "at most", "same as",
	"null or", "equals", "one of", "length", "if any", "about", "count", "under", "some", "over", "not", "all", "is",
}

// leads are what a rule lets pass before it is judged: its words stand before all others.
type leads struct {
	optional bool // what is not there
	ifAny    bool // elements of an empty list
	orNull   bool // null
}

// leadWords are the words of leads.
var leadWords = []string{"optional", "if any", "null or"}

// of gives the place of a word; nil for one that is not a lead.
func (l *leads) of(word string) *bool {
	switch word {
	case "optional":
		return &l.optional
	case "if any":
		return &l.ifAny
	case "null or":
		return &l.orNull
	}
	return nil
}

// lets says whether a value passes unjudged.
func (l *leads) lets(m path.Match) bool {
	if m.Node == nil {
		return l.optional || l.ifAny && m.Miss != nil && m.Miss.IsEmpty
	}
	return l.orNull && m.Node.Kind == document.Null
}

// text is the words of the leads.
func (l *leads) text() string {
	text := ""
	for _, word := range leadWords {
		if *l.of(word) {
			text += word + " "
		}
	}
	return text
}

// test is one node of a rule's tree.
type test struct {
	op       operation
	operands []Operand
	inner    *test  // not, all, some, count, length
	tests    []test // all of, any of
	percent  bool   // about … within n %
	state    string // is present, …
	kind     string // is integer, …
	digits   int    // is decimal N
	re       *regexp.Regexp
	reSource *value.Template // matches with placeholders: compiled when judged
	path     *path.Path      // same as
	source   string
}

// Equals returns the rule that a value equals the operand, as a tree does.
func Equals(operand Operand) *Rule {
	return &Rule{
		Source: "equals " + operand.String(),
		test:   test{op: opEquals, operands: []Operand{operand}, source: "equals " + operand.String()},
	}
}

// OneOf returns the rule that a value equals one of the operands.
func OneOf(operands []Operand) *Rule {
	words := make([]string, len(operands))
	for i, o := range operands {
		words[i] = o.String()
	}
	source := "one of " + strings.Join(words, " or ")
	return &Rule{Source: source, test: test{op: opOneOf, operands: operands, source: source}}
}

// TextRule returns the rule of an operation that takes one text: contains,
// starts with, ends with.
func TextRule(word string, operand Operand) *Rule {
	source := word + " " + operand.String()
	return &Rule{Source: source, test: test{op: operation(word), operands: []Operand{operand}, source: source}}
}

// AllOf returns the rule that all the rules hold. It is optional if they all are.
func AllOf(rules []*Rule) *Rule { return joined(opAllOf, rules, " and ") }

// Opposed finds two texts among rules that all have to hold: no value equals both. ok is false where there are no such
// two. Texts with placeholders are known only later, and do not count.
func Opposed(rules []*Rule) (one, other string, ok bool) {
	var first *document.Node
	for _, r := range rules {
		if r.test.op != opEquals {
			continue
		}
		operand, isText := r.test.operands[0].(textOperand)
		if !isText || len(operand.Placeholders()) > 0 {
			continue
		}
		node, err := operand.Node(value.NoNames{})
		switch {
		case err != nil:
		case first == nil:
			first = node
		case !document.Equal(first, node):
			return first.Text, node.Text, true
		}
	}
	return "", "", false
}

// AnyOf returns the rule that at least one of the rules holds.
func AnyOf(rules []*Rule) *Rule { return joined(opAnyOf, rules, ", or ") }

func joined(op operation, rules []*Rule, between string) *Rule {
	joined := &Rule{test: test{op: op}}
	var sources []string
	for i, r := range rules {
		for _, word := range leadWords {
			all := joined.of(word)
			switch {
			case op == opAnyOf && word != "optional": // one that lets it pass is enough
				*all = *all || *r.of(word)
			default:
				*all = (*all || i == 0) && *r.of(word)
			}
		}
		joined.test.tests = append(joined.test.tests, r.test)
		sources = append(sources, r.test.source)
	}
	joined.test.source = strings.Join(sources, between)
	joined.Source = joined.text() + joined.test.source
	return joined
}

// Prefixed returns the rule with not, all, some, count, length or one of the words of what passes unjudged put
// before it.
func Prefixed(word string, r *Rule) *Rule {
	lead := *r
	if is := lead.of(word); is != nil {
		*is, lead.Source = true, word+" "+r.Source
		return &lead
	}
	inner := r.test
	source := word + " " + inner.source
	return &Rule{Source: source, leads: r.leads, test: test{op: operation(word), inner: &inner, source: source}}
}

// Order is a kind of values that have an order.
type Order string

// What the parts of a reply that rules are written for are made of.
const (
	Durations Order = Order(aDuration)
	Sizes     Order = Order(aSize)
	Numbers   Order = Order(aNumber)
)

// Suits tells of a rule that no value of an order can meet: one that compares with another
// kind of value, or that a duration equals something to the digit. It is nil for others.
func (r *Rule) Suits(order Order) error { return r.test.suits(measureKind(order)) }

func (t *test) suits(kind measureKind) error {
	switch t.op {
	case opOver, opUnder, opAtLeast, opAtMost, opBetween, opAbout, opEquals, opOneOf:
		operands := t.operands
		if t.op == opAbout && t.percent {
			operands = operands[:1]
		}
		for _, o := range operands {
			if err := suits(t.op, o, kind); err != nil {
				return err
			}
		}
	}
	if t.inner != nil && (t.op == opNot || t.op == opAll || t.op == opSome) {
		return t.inner.suits(kind)
	}
	for i := range t.tests {
		if err := t.tests[i].suits(kind); err != nil {
			return err
		}
	}
	return nil
}

func suits(op operation, o Operand, kind measureKind) error {
	text := o.String()
	if len(o.Placeholders()) > 0 {
		return nil // what it will be is not known
	}
	m, err := readMeasure(text)
	if err != nil {
		return &Error{Message: fmt.Sprintf("%s is not %s", text, kind)}
	}
	if kind == aDuration && m.kind == aNumber {
		return &Error{
			Message: fmt.Sprintf("%s has no unit", text),
			Try:     fmt.Sprintf("did you mean %s ms, or %s s?", text, text),
		}
	}
	if _, err := compare(measure{kind: kind, number: new(apd.Decimal)}, m); err != nil {
		return &Error{Message: err.Error()}
	}
	if m.kind == aSize && (op == opEquals || op == opOneOf) {
		return &Error{
			Message: fmt.Sprintf("%s never equals a size, for a size is a number of bytes", text),
			Try:     fmt.Sprintf("write %s, or a range as at most %s", m.number.Text('f'), text),
		}
	}
	if kind == aDuration && (op == opEquals || op == opOneOf) {
		return &Error{
			Message: "no two durations are equal to the digit",
			Try:     fmt.Sprintf("did you mean `under %s`?", text),
		}
	}
	return nil
}

// CheckLead tells of if any where it would have no effect: at a path without [*], and where there is no path (nil).
func (r *Rule) CheckLead(p *path.Path) error {
	if !r.ifAny || p != nil && p.HasAll() {
		return nil
	}
	return &Error{
		Message: "if any goes with a path of names and [*], as lots[*].id",
		Try:     "write such a path, or optional for a value that may not be there",
	}
}

// Placeholders returns the placeholders of the rule.
func (r *Rule) Placeholders() []*value.Placeholder { return r.test.placeholders() }

func (t *test) placeholders() []*value.Placeholder {
	var placeholders []*value.Placeholder
	for _, o := range t.operands {
		placeholders = append(placeholders, o.Placeholders()...)
	}
	if t.reSource != nil {
		placeholders = append(placeholders, t.reSource.Placeholders()...)
	}
	if t.path != nil {
		placeholders = append(placeholders, t.path.Placeholders()...)
	}
	if t.inner != nil {
		placeholders = append(placeholders, t.inner.placeholders()...)
	}
	for i := range t.tests {
		placeholders = append(placeholders, t.tests[i].placeholders()...)
	}
	return placeholders
}
