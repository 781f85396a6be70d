package rule

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/value"
)

// Verdict is what judging a rule came to.
type Verdict struct {
	Passed   bool
	Where    string // the place that failed, with its index
	Expected string // the rule, with its values put in
	Got      string // what was there, in words
	Note     string // why it failed where that is not plain; may be empty
	Secret   bool   // what was there came from a secret
	// Unclear says of a condition that it came to neither yes nor no.
	Unclear bool
}

// Judge holds what a path led to against the rule. An error means that the
// rule's own values are not there, not that the rule failed.
func (r *Rule) Judge(found path.Selection, roots path.Roots, scope value.Scope) (Verdict, error) {
	j := judge{roots: roots, scope: scope}
	verdict := Verdict{Passed: true, Expected: r.Source}
	fall := func(m path.Match, why string) {
		verdict.Passed = false
		verdict.Where = m.Where
		verdict.Got = m.Node.Describe()
		verdict.Note = why
		verdict.Secret = m.Node != nil && m.Node.Secret
		if m.Node == nil && m.Miss != nil {
			verdict.Note = m.Miss.String()
		}
	}
	parts := r.parts()
judging:
	for _, part := range parts {
		for _, m := range judged(part, found) {
			isUnfit := m.Miss != nil && m.Miss.Unfit != ""
			if r.lets(m) && !isUnfit {
				continue
			}
			passed, why, err := j.holds(part, m.Node)
			if cannot := (*cannotCompare)(nil); errors.As(err, &cannot) {
				why, err = cannot.reason, nil
			}
			if err != nil {
				return Verdict{}, err
			}
			if !passed && why == "" && len(parts) > 1 {
				why = part.notSo()
			}
			if !passed || isUnfit {
				fall(m, why)
				if passed || r.lets(m) { // that it is absent says nothing
					verdict.Got = m.Miss.Unfit
				}
				break judging
			}
		}
	}
	verdict.Expected = r.FilledIn(scope)
	if verdict.Passed {
		verdict.Got = came(judged(parts[0], found))
	}
	return verdict, nil
}

// notSo says that the rule does not hold.
func (t *test) notSo() string {
	if t.op == opEquals {
		return "it is not " + strings.TrimPrefix(t.source, "equals ")
	}
	return "it is false that it " + t.source
}

// parts are the rules of a list of rules, each of which is judged on what it is about:
// `is number` on each element, `is unique` on all at once.
func (r *Rule) parts() []*test {
	if r.test.op != opAllOf {
		return []*test{&r.test}
	}
	parts := make([]*test, len(r.test.tests))
	for i := range r.test.tests {
		parts[i] = &r.test.tests[i]
	}
	return parts
}

// judged is what of all that was found a rule is judged on.
func judged(t *test, found path.Selection) []path.Match {
	if found.Many && t.takesSequence() && found.Whole() != nil {
		return []path.Match{{Where: "all of them", Node: found.Whole()}}
	}
	return found.Matches
}

// came says what a rule that passed was judged on.
func came(matches []path.Match) string {
	if len(matches) == 1 {
		return matches[0].Node.Describe()
	}
	return fmt.Sprintf("%d values", len(matches))
}

// FilledIn writes the rule with its values; those that are secret are masked.
func (r *Rule) FilledIn(scope value.Scope) string {
	var pairs []string
	for _, h := range r.Placeholders() {
		if filled, err := h.Alone().Text(scope, value.Raw); err == nil {
			pairs = append(pairs, h.Source, filled.Shown)
		}
	}
	switch len(pairs) {
	case 0:
		return r.Source
	case 2: // making a replacer takes longer
		return strings.ReplaceAll(r.Source, pairs[0], pairs[1])
	}
	return strings.NewReplacer(pairs...).Replace(r.Source)
}

// takesSequence says whether the rule is about all that [*] found at once.
func (t *test) takesSequence() bool {
	switch t.op {
	case opCount, opAll, opSome, opSameAs:
		return true
	case opIs:
		return t.state == "unique" || t.state == "ascending" || t.state == "descending"
	case opNot:
		return t.inner.takesSequence()
	case opAllOf, opAnyOf:
		for i := range t.tests {
			if t.tests[i].takesSequence() {
				return true
			}
		}
	}
	return false
}

type judge struct {
	roots path.Roots
	scope value.Scope
}

// holds judges one value; node is nil where nothing is there. The error is a
// *cannotCompare where the value is of no kind that the rule is about: then neither the
// rule nor its opposite is so.
func (j *judge) holds(t *test, node *document.Node) (passed bool, why string, err error) {
	switch {
	case t.op == opAllOf:
		return j.holdsAll(t, node)
	case t.op == opAnyOf:
		return j.holdsAny(t, node)
	case t.op == opNot:
		if node == nil && !t.inner.isPresence() {
			return false, "nothing is there", nil
		}
		passed, _, err := j.holds(t.inner, node)
		return !passed && err == nil, "", err
	case t.op == opIs && t.state == "absent":
		return node == nil, "", nil
	case node == nil:
		return false, "", nil
	}
	v := node.Value()
	switch t.op {
	case opIs:
		return j.is(t, node, v)
	case opAll, opSome:
		return j.quantified(t, node)
	case opCount:
		items := sequence(node)
		passed, _, err := j.holds(t.inner, document.NewNumber(fmt.Sprint(len(items))))
		return passed, fmt.Sprintf("there are %d", len(items)), err
	case opLength:
		return j.length(t, v)
	case opSameAs:
		return j.sameAs(t, node)
	case opMatches:
		return j.matches(t, v)
	}
	return j.compared(t, node, v)
}

func (j *judge) holdsAll(t *test, node *document.Node) (passed bool, why string, err error) {
	for i := range t.tests {
		if passed, why, err := j.holds(&t.tests[i], node); err != nil || !passed {
			if why == "" {
				why = t.tests[i].notSo()
			}
			return passed, why, err
		}
	}
	return true, "", nil
}

// holdsAny gives the error of an alternative that cannot be judged only where no other one is met.
func (j *judge) holdsAny(t *test, node *document.Node) (passed bool, why string, err error) {
	var open error
	for i := range t.tests {
		passed, _, err := j.holds(&t.tests[i], node)
		if passed {
			return true, "", nil
		}
		open = cmp.Or(open, err)
	}
	return false, "none of the rules is met", open
}

// length judges how many characters a text has, or how many items a list.
func (j *judge) length(t *test, v *document.Node) (passed bool, why string, err error) {
	length := utf8.RuneCountInString(v.Text)
	if v.Kind == document.List {
		length = len(v.Items())
	} else if !v.IsScalar() || v.Kind == document.Null {
		return false, "", &cannotCompare{"only a text or a list has a length"}
	}
	passed, _, err = j.holds(t.inner, document.NewNumber(fmt.Sprint(length)))
	return passed, fmt.Sprintf("its length is %d", length), err
}

// sameAs compares with what is elsewhere.
func (j *judge) sameAs(t *test, node *document.Node) (passed bool, why string, err error) {
	other, err := t.path.Find(j.roots, j.scope)
	if err != nil {
		return false, "", err
	}
	if other.Whole() == nil {
		return false, other.Missed().String(), nil
	}
	return document.Equal(node, other.Whole()), "there it is " + other.Whole().Describe(), nil
}

// compared judges by the operands of a rule, which may have values in them.
func (j *judge) compared(t *test, node, v *document.Node) (passed bool, why string, err error) {
	operands := make([]*document.Node, len(t.operands))
	for i, o := range t.operands {
		if operands[i], err = o.Node(j.scope); err != nil {
			return false, "", err
		}
	}
	switch t.op {
	case opEquals, opOneOf:
		for _, o := range operands {
			if document.Equal(o, node) {
				return true, "", nil
			}
		}
		if v.Kind == document.Text && len(operands) == 1 && operands[0].Kind == document.Number &&
			document.Equal(document.NewUntyped(v.Text), operands[0]) {
			return false, "it is a text, not a number", nil
		}
		return false, "", nil
	case opContains, opStartsWith, opEndsWith:
		return text(t.op, v, operands[0])
	}
	passed, err = ordered(t, v, operands)
	return passed, "", err
}

func (t *test) isPresence() bool {
	return t.op == opIs && (t.state == "present" || t.state == "absent")
}

// sequence gives the items of a list; anything else is a list of itself, as an
// element is that XML wrote alone.
func sequence(node *document.Node) []*document.Node {
	if node.Kind == document.List {
		return node.Items()
	}
	return []*document.Node{node}
}

func (j *judge) quantified(t *test, node *document.Node) (bool, string, error) {
	items := sequence(node)
	var open error
	for i, item := range items {
		passed, why, err := j.holds(t.inner, item)
		if cannot := (*cannotCompare)(nil); errors.As(err, &cannot) {
			why = cannot.reason
		}
		if passed && t.op == opSome {
			return true, "", nil
		}
		if !passed && t.op == opAll {
			text := fmt.Sprintf("[%d] is %s", i, item.Describe())
			if why != "" {
				text += " (" + why + ")"
				if err != nil {
					err = &cannotCompare{text}
				}
			}
			return false, text, err
		}
		open = cmp.Or(open, err)
	}
	if t.op == opSome {
		return false, fmt.Sprintf("none of %d does", len(items)), open
	}
	return true, "", nil
}

func (j *judge) matches(t *test, v *document.Node) (bool, string, error) {
	re := t.re
	if re == nil {
		// Values put into an expression are data: their signs mean themselves.
		quoted, err := quotedExpression(t.reSource, j.scope)
		if err != nil {
			return false, "", err
		}
		if re, err = wholeExpression(quoted); err != nil {
			return false, "", fmt.Errorf("matches %s: %w", t.reSource.Source, err)
		}
	}
	if !v.IsScalar() || v.Kind == document.Null {
		return false, "", &cannotCompare{"only a text can match"}
	}
	return re.MatchString(v.Text), "", nil
}

func text(op operation, v, operand *document.Node) (bool, string, error) {
	if op == opContains && v.Kind == document.List {
		for _, item := range v.Items() {
			if document.Equal(operand, item) {
				return true, "", nil
			}
		}
		return false, "", nil
	}
	if !v.IsScalar() || v.Kind == document.Null {
		return false, "", &cannotCompare{"it is not a text"}
	}
	expected := operand.Value().Text
	switch op {
	case opStartsWith:
		return strings.HasPrefix(v.Text, expected), "", nil
	case opEndsWith:
		return strings.HasSuffix(v.Text, expected), "", nil
	}
	return strings.Contains(v.Text, expected), "", nil
}

// cannotCompare says that two values are of kinds that have no order.
type cannotCompare struct{ reason string }

func (e *cannotCompare) Error() string { return e.reason }

func ordered(t *test, v *document.Node, operands []*document.Node) (bool, error) {
	if !v.IsScalar() || v.Kind == document.Null || v.Kind == document.Boolean {
		return false, &cannotCompare{"it cannot be put in order"}
	}
	subject, err := readMeasure(v.Text)
	if err != nil {
		return false, &cannotCompare{err.Error()}
	}
	bounds := make([]measure, len(operands))
	for i, o := range operands {
		if bounds[i], err = readMeasure(o.Value().Text); err != nil {
			return false, &cannotCompare{fmt.Sprintf("the rule's own value: %v", err)}
		}
	}
	if t.op == opAbout {
		return about(t, subject, bounds)
	}
	first, err := compare(subject, bounds[0])
	if err != nil {
		return false, &cannotCompare{err.Error()}
	}
	switch t.op {
	case opOver:
		return first > 0, nil
	case opUnder:
		return first < 0, nil
	case opAtLeast:
		return first >= 0, nil
	case opAtMost:
		return first <= 0, nil
	}
	if order, err := compare(bounds[0], bounds[1]); err == nil && order > 0 {
		return false, &cannotCompare{fmt.Sprintf("the rule's own values: nothing is between %s and %s",
			operands[0].Value().Text, operands[1].Value().Text)}
	}
	second, err := compare(subject, bounds[1])
	if err != nil {
		return false, &cannotCompare{err.Error()}
	}
	return first >= 0 && second <= 0, nil
}

func about(t *test, subject measure, bounds []measure) (bool, error) {
	middle, tolerance := bounds[0], bounds[1]
	apart, err := distance(subject, middle)
	if err != nil {
		return false, &cannotCompare{err.Error()}
	}
	if tolerance.number == nil {
		return false, &cannotCompare{"the tolerance is neither a number nor a duration"}
	}
	allowed := new(apd.Decimal).Set(tolerance.number)
	if t.percent {
		if middle.number == nil {
			return false, &cannotCompare{"a date has no percent"}
		}
		if _, err := exact.Mul(allowed, allowed, middle.number); err != nil {
			return false, err
		}
		if _, err := exact.Mul(allowed, allowed, apd.New(1, -2)); err != nil {
			return false, err
		}
		allowed.Negative = false
	} else if isTime := middle.number == nil || middle.kind == aDuration; isTime != (tolerance.kind == aDuration) {
		return false, &cannotCompare{fmt.Sprintf("%s cannot be the tolerance of %s", tolerance.kind, middle.kind)}
	}
	return apart.Cmp(allowed) <= 0, nil
}
