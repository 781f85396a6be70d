package fields

import (
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"
	"unicode"

	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// Proposal is what all answers have in common at one place: rules that hold in each.
type Proposal struct {
	Path   string   `json:"path"`
	Rules  []string `json:"rules"`
	Remark string   `json:"remark,omitempty"` // what is to be known of them
}

// Proposer finds rules that hold in several documents.
type Proposer struct {
	gatherer *Gatherer
	hidden   func(text string) bool
}

// NewProposer makes a proposer. hidden says of a value that it must be in no rule.
func NewProposer(hidden func(text string) bool) *Proposer {
	p := &Proposer{NewGatherer(), hidden}
	p.gatherer.rules = p
	return p
}

// Add learns of one more document, as Read does.
func (p *Proposer) Add(from io.Reader, contentType string) error {
	_, err := p.gatherer.add(from, contentType)
	return err
}

// Tree learns of one more document that is a tree already.
func (p *Proposer) Tree(root *document.Node) { p.gatherer.Tree(root) }

// Full says that there were more fields than are told apart.
func (p *Proposer) Full() bool { return p.gatherer.Full }

// What is taken for a rule and not for chance: so many values for each of a few, so many elements in order in
// each list, and so many in all lists; so many answers for an order, and for a yes, a no or null that is
// always the same.
const (
	mostAlternatives = 5
	oftenEnough      = 3
	enoughInAll      = 5
	leastOrdered     = 5
	leastSure        = 8
	leastConstants   = 4
)

// Propose gives the rules that hold in all documents that went by: what is always the
// same, one of few, of a kind, within bounds with some room, as many, unique, in order;
// and what may be absent, null or without elements. Values that differ from answer to answer give their kind.
func (p *Proposer) Propose() []Proposal {
	var out []Proposal
	var loose, emptied []string // below these there may be nothing, or no element
	for _, f := range p.gatherer.Fields() {
		lead := ""
		switch {
		case f.Count < f.Of || isBelow(f.Path, loose):
			lead = "optional "
		case isBelow(f.Path, emptied):
			lead = "if any "
		}
		kind, isNull := strings.CutSuffix(f.Kind, " or null")
		if lead == "optional " || isNull && kind != "list" || f.isElement && f.Items != nil && f.Items[0] == 0 {
			loose = append(loose, f.Path)
		}
		if f.isList && (f.Items[0] == 0 || isNull) {
			emptied = append(emptied, f.Path)
		}
		if isNull {
			f.Kind, lead = kind, lead+"null or "
		}
		rules, remark := f.proposed(p.gatherer.docs)
		for i, rule := range rules {
			rules[i] = lead + rule
		}
		if f.isList && f.empties > 0 && f.empties < f.lists && !strings.Contains(f.Path, "[*]") {
			remark = fmt.Sprintf("it was empty in %d of %d answers; what is below it holds where it has elements",
				f.empties, f.lists)
		}
		if len(rules) > 0 {
			out = append(out, Proposal{f.Path, rules, remark})
		}
	}
	return out
}

// isBelow says whether a path leads on from one of some others.
func isBelow(path string, above []string) bool {
	return slices.ContainsFunc(above, func(one string) bool {
		below, ok := strings.CutPrefix(path, one)
		return ok && below != "" && strings.ContainsAny(below[:1], ".[")
	})
}

// proposed gives the rules of a field, and what is to be known of them.
func (f *Field) proposed(docs int) (rules []string, remark string) {
	inList := strings.Contains(f.Path, "[*]")
	switch {
	case f.isList && !inList:
		return []string{"is list", countRule(f.Items[0], f.Items[1], docs)}, ""
	case f.Kind == "list" && !inList:
		return []string{countRule(f.Items[0], f.Items[1], docs)}, ""
	case f.Kind == "null" && docs < leastSure: // what it is when it is something is not known
		return nil, ""
	case f.Kind == "list", f.Kind == "object", f.Kind == "null":
		return []string{"is " + f.Kind}, ""
	case !f.IsValue() || strings.Contains(f.Kind, " or ") || f.stats == nil:
		return nil, ""
	}
	s := f.stats
	if s.hidden {
		return []string{"is " + f.Kind}, ""
	}
	// Answers of the same second tell the same moment.
	isSure := f.Kind != "datetime" && (f.Kind != "boolean" || f.Count >= leastSure)
	if rule := s.constant(docs, f.Count); rule != "" && isSure {
		return []string{rule}, ""
	}
	telling := f.Count
	if inList {
		telling = s.telling
	}
	if rule := s.alternatives(telling); rule != "" && f.Kind == "text" {
		return []string{rule}, fmt.Sprintf("no other came in %d values; add those that may come", f.Count)
	}
	rules = []string{"is " + f.Kind}
	if f.Is("number") {
		if least, most, ok := room(telling, f.More || len(f.Values) > 1, s.order.bounds); ok {
			rules = append(rules, "between "+least+" and "+most)
		}
	}
	// That measures and days are not there twice is chance.
	if inList && s.fewest >= oftenEnough && s.telling >= enoughInAll {
		if !s.twice && (f.Kind == "text" || f.Kind == "integer" || f.Kind == "uuid") {
			rules = append(rules, "is unique")
		}
		if !s.unordered && f.Kind != "text" && docs >= leastOrdered {
			rules = append(rules, "is ascending")
		}
	}
	return rules, ""
}

// countRule says how many elements a list has: as many as always, else with room. That more than two are as
// many in each of few answers may be chance.
func countRule(least, most, docs int) string {
	if least == most && (docs >= leastOrdered || most <= 2) {
		return fmt.Sprintf("count %d", least)
	}
	return fmt.Sprintf("count between %d and %d", max(least/2, min(least, 1)), most+max(most/2, 2))
}

// constant is a rule for what is the same in all answers, if it is in all of them or in enough.
func (s *stats) constant(docs, count int) string {
	if s.more || len(s.values) != 1 || docs < 2 || count < min(docs, leastConstants) || s.cut {
		return ""
	}
	return "equals " + s.literal(s.values[0])
}

// alternatives is a rule for what is one of few, each of which came again; telling is how many values speak
// for it. One that came once tells that there are more that have not come yet.
func (s *stats) alternatives(telling int) string {
	n := len(s.values)
	if s.more || n < 2 || n > mostAlternatives || telling < oftenEnough*n || s.cut || slices.Contains(s.times, 1) {
		return ""
	}
	words := make([]string, n)
	for i, v := range slices.Sorted(slices.Values(s.values)) {
		words[i] = s.literal(v)
	}
	return "one of " + strings.Join(words, " or ")
}

// literal is a value as it is in a rule. Untyped ones are written plain where no word
// or sign of a rule can be read in them.
func (s *stats) literal(text string) string {
	if !s.texts && !strings.ContainsFunc(text, isSign) && text != "" {
		return text
	}
	return document.QuoteJSON(strings.ReplaceAll(text, "${", "$${"))
}

func isSign(c rune) bool {
	return !unicode.IsLetter(c) && !unicode.IsDigit(c) && !strings.ContainsRune("+-_.:", c)
}

// room widens bounds by a fifth of what lies between them, by more where few values made them, or by a part of
// the value where there is but one.
func room(values int, several bool, bounds func() (least, most string)) (from, to string, ok bool) {
	least, most := bounds()
	a, okA := new(big.Rat).SetString(least)
	b, okB := new(big.Rat).SetString(most)
	if !okA || !okB || len(least)+len(most) > 60 {
		return "", "", false
	}
	span := new(big.Rat).Sub(b, a)
	if span.Sign() == 0 {
		span.Abs(b)
	}
	part := big.NewRat(1, 5)
	if fewer := big.NewRat(roomOfFew, int64(max(values, 1))); several && fewer.Cmp(part) > 0 {
		part = fewer
	}
	span.Mul(span, part)
	half := new(big.Rat).Mul(new(big.Rat).Abs(b), big.NewRat(1, 2))
	if several && values < leastSure && span.Cmp(half) < 0 {
		span = half
	}
	digits := 0
	for _, text := range []string{least, most} {
		_, fraction, _ := strings.Cut(text, ".")
		digits = max(digits, len(fraction))
	}
	unit := new(big.Rat).SetFrac(big.NewInt(1), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(digits)), nil))
	if a.Cmp(b) == 0 && span.Cmp(unit) < 0 {
		span = unit
	}
	low, high := new(big.Rat).Sub(a, span), new(big.Rat).Add(b, span)
	if a.Sign() >= 0 && low.Sign() < 0 {
		low.SetInt64(0) // what was never below nothing is not to be
	}
	return low.FloatString(digits), high.FloatString(digits), true
}

// roomOfFew is how much wider the bounds of few values are made: of ten further ones none is to be beyond those
// of four.
const roomOfFew = 10

// AsRules writes proposals as the entries of `fields:`, without indentation.
func AsRules(proposals []Proposal) string {
	var out strings.Builder
	for _, p := range proposals {
		if p.Remark != "" {
			fmt.Fprintf(&out, "# %s: %s\n", strings.Map(unfolded, p.Path), p.Remark)
		}
		if len(p.Rules) == 1 {
			fmt.Fprintf(&out, "%s: %s\n", yamlfile.ScalarText(p.Path), ruleText(p.Rules[0]))
			continue
		}
		fmt.Fprintf(&out, "%s:\n", yamlfile.ScalarText(p.Path))
		for _, rule := range p.Rules {
			fmt.Fprintf(&out, "  - %s\n", ruleText(rule))
		}
	}
	return out.String()
}

// unfolded keeps a path on its line.
func unfolded(c rune) rune {
	if unicode.IsControl(c) {
		return ' '
	}
	return c
}

// ruleText is a rule as a scalar of YAML; it is not text, so only what YAML itself would
// misread is quoted.
func ruleText(rule string) string {
	if strings.Contains(rule, ": ") || strings.Contains(rule, " #") || strings.HasSuffix(rule, ":") ||
		strings.ContainsAny(rule, "\\") {
		return document.QuoteJSON(rule)
	}
	return rule
}
