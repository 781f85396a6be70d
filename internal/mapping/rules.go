package mapping

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Rule reads a rule: in words, as a list of which all must hold, or as one of
// the keys that stand for words.
func (r *Reader) Rule(n *yamlfile.Node) *rule.Rule {
	switch n.Kind {
	case yamlfile.Sequence:
		return r.allOf(n)
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

// RuleAt reads a rule for what a path finds; nil for a value that no path finds.
func (r *Reader) RuleAt(p *path.Path, n *yamlfile.Node) *rule.Rule {
	parsed := r.Rule(n)
	if parsed == nil {
		return nil
	}
	if err := parsed.CheckLead(p); err != nil {
		r.Mistake(n, 0, err)
	}
	return parsed
}

// allOf reads rules that all have to hold.
func (r *Reader) allOf(n *yamlfile.Node) *rule.Rule {
	return r.joinedRule(n, func(rules []*rule.Rule) *rule.Rule {
		if one, other, ok := rule.Opposed(rules); ok {
			try := fmt.Sprintf("write equals: [%s, %s] for a list of these values, or one of %[1]s or %[2]s; "+
				"for a path with [*], write the path | join \", \" and one text", one, other)
			r.File.Report(n, try, "all rules of a list have to hold, and no value is both %s and %s", one, other)
		}
		return rule.AllOf(rules)
	})
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
	parsed := r.RuleAt(nil, n)
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
	"equals", "one of", "all of", "any of", "not", "all", "some", "count", "length", "optional", "if any", "null or",
	"over", "under", "at least", "at most", "contains", "starts with", "ends with", "matches", "is", "same as",
	"between", "about",
}

func (r *Reader) keyedRule(n *yamlfile.Node) *rule.Rule {
	if len(n.Entries) != 1 {
		r.File.Report(n, "write `equals:` above the fields if the tree itself is meant, or a list of rules of which "+
			"all must hold", "a rule as a mapping has exactly one key, and this one has %d", len(n.Entries))
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
		return r.allOf(content)
	case "any of":
		return r.joinedRule(content, rule.AnyOf)
	case "contains", "starts with", "ends with":
		return rule.TextRule(word.Text, treeOperand{r.Tree(content)})
	case "not", "all", "some", "count", "length", "optional", "if any", "null or":
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
	lead := len(text) - len(n.Text) // the word, which is not there
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

// Status reads statuses: a text (200 or 201), or a list of them.
func (r *Reader) Status(n *yamlfile.Node) *rule.Status {
	var text string
	r.TakesOf(n, statusSchema)
	if n.Kind == yamlfile.Sequence {
		parts := make([]string, 0, len(n.Items))
		for _, item := range r.List(n) {
			parts = append(parts, r.Text(item))
			r.TakesOf(item, statusSchema)
		}
		text = strings.Join(parts, " or ")
	} else {
		text = r.Text(n)
	}
	status, err := rule.ParseStatus(text)
	if err != nil {
		r.File.Report(n, "write it like 201, 200 or 201, [200, 201], 2xx, not 5xx", "%v", err)
		return nil
	}
	return status
}
