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
	Path  string   `json:"path"`
	Rules []string `json:"rules"`
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

// What is taken for a rule and not for chance: so many values for each that differs, so
// many elements in order in each list, and so many in all lists.
const (
	mostAlternatives = 5
	oftenEnough      = 3
	enoughInAll      = 5
)

// Propose gives the rules that hold in all documents that went by: what is always the
// same, one of few, of a kind, within bounds with some room, as many, unique, in order;
// and what may be absent. Values that differ from answer to answer give their kind.
func (p *Proposer) Propose() []Proposal {
	var out []Proposal
	var loose []string // below these there may be nothing
	for _, f := range p.gatherer.Fields() {
		isLoose := f.Count < f.Of || slices.ContainsFunc(loose, func(above string) bool {
			below, ok := strings.CutPrefix(f.Path, above)
			return ok && below != "" && strings.ContainsAny(below[:1], ".[")
		})
		if isLoose || f.Items != nil && f.Items[0] == 0 || strings.Contains(f.Kind, "null") {
			loose = append(loose, f.Path)
		}
		rules := f.proposed(p.gatherer.docs)
		if isLoose {
			for i, rule := range rules {
				rules[i] = "optional " + rule
			}
		}
		if len(rules) > 0 {
			out = append(out, Proposal{f.Path, rules})
		}
	}
	return out
}

func (f *Field) proposed(docs int) []string {
	inList := strings.Contains(f.Path, "[*]")
	switch {
	case f.Kind == "list" && !inList:
		return []string{countRule(f.Items[0], f.Items[1])}
	case f.Kind == "list", f.Kind == "object", f.Kind == "null":
		return []string{"is " + f.Kind}
	case !f.IsValue() || strings.Contains(f.Kind, " or ") || f.stats == nil:
		return nil
	}
	s := f.stats
	if s.hidden {
		return []string{"is " + f.Kind}
	}
	// Answers of the same second tell the same moment.
	if rule := s.constant(docs, f.Count); rule != "" && f.Kind != "datetime" {
		return []string{rule}
	}
	telling := f.Count
	if inList {
		telling = s.telling
	}
	if rule := s.alternatives(telling); rule != "" && f.Kind == "text" {
		return []string{rule}
	}
	rules := []string{"is " + f.Kind}
	if f.Is("number") {
		if least, most, ok := room(s.order.bounds()); ok {
			rules = append(rules, "between "+least+" and "+most)
		}
	}
	// That measures and days are not there twice is chance.
	if inList && s.fewest >= oftenEnough && s.telling >= enoughInAll {
		if !s.twice && (f.Kind == "text" || f.Kind == "integer" || f.Kind == "uuid") {
			rules = append(rules, "is unique")
		}
		if !s.unordered && f.Kind != "text" {
			rules = append(rules, "is ascending")
		}
	}
	return rules
}

// countRule says how many elements a list has: as many as always, else with room.
func countRule(least, most int) string {
	if least == most {
		return fmt.Sprintf("count %d", least)
	}
	return fmt.Sprintf("count between %d and %d", least/2, most+most/2)
}

// constant is a rule for what is the same in all answers.
func (s *stats) constant(docs, count int) string {
	if s.more || len(s.values) != 1 || docs < 2 || count < 2 || s.cut {
		return ""
	}
	return "equals " + s.literal(s.values[0])
}

// alternatives is a rule for what is one of few; telling is how many values speak for it.
func (s *stats) alternatives(telling int) string {
	n := len(s.values)
	if s.more || n < 2 || n > mostAlternatives || telling < oftenEnough*n || s.cut {
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

// room widens bounds by a fifth of what lies between them, or of the value where there is
// but one.
func room(least, most string) (from, to string, ok bool) {
	a, okA := new(big.Rat).SetString(least)
	b, okB := new(big.Rat).SetString(most)
	if !okA || !okB || len(least)+len(most) > 60 {
		return "", "", false
	}
	span := new(big.Rat).Sub(b, a)
	if span.Sign() == 0 {
		span.Abs(b)
	}
	span.Mul(span, big.NewRat(1, 5))
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

// AsRules writes proposals as the entries of `fields:`, without indentation.
func AsRules(proposals []Proposal) string {
	var out strings.Builder
	for _, p := range proposals {
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

// ruleText is a rule as a scalar of YAML; it is not text, so only what YAML itself would
// misread is quoted.
func ruleText(rule string) string {
	if strings.Contains(rule, ": ") || strings.Contains(rule, " #") || strings.HasSuffix(rule, ":") ||
		strings.ContainsAny(rule, "\\") {
		return document.QuoteJSON(rule)
	}
	return rule
}
