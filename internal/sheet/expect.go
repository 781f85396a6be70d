package sheet

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/lazy"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Expect is what is expected of a reply as such.
type Expect struct {
	Status   *rule.Status
	Time     *rule.Rule
	Size     *rule.Rule
	Type     *rule.Rule
	Headers  []HeaderRule
	NoFault  bool
	Fault    []FieldRule // paths below reply.fault
	HasFault bool
	NoError  bool
	Error    []FieldRule // paths below reply.error
	HasError bool
	Refused  string
	// SameAs is the file of the bench that holds the answer as it must be, nil for none;
	// Except are paths in which the answer may be otherwise.
	SameAs *value.Template
	Except []string

	// statusText and refusedText hold placeholders: what they say is known when a reply
	// is judged.
	statusText, refusedText *value.Template
}

// FilledIn is what is expected with the values of a row.
func (e *Expect) FilledIn(scope value.Scope) (*Expect, error) {
	if e.statusText == nil && e.refusedText == nil {
		return e, nil
	}
	out := *e
	if e.statusText != nil {
		text, err := e.statusText.Text(scope, value.Raw)
		if err != nil {
			return nil, fmt.Errorf("status: %w", err)
		}
		if out.Status, err = rule.ParseStatus(text.Sent); err != nil {
			return nil, fmt.Errorf("status: %w; write it like 201, 200 or 201, 2xx, not 5xx", err)
		}
	}
	if e.refusedText != nil {
		text, err := e.refusedText.Text(scope, value.Raw)
		if err != nil {
			return nil, fmt.Errorf("refused: %w", err)
		}
		if out.Refused = text.Sent; out.Refused != "" && !slices.Contains(refusals, out.Refused) {
			return nil, fmt.Errorf("refused: %q is not a kind of refusal; there are: %s, or nothing for an answer",
				out.Refused, strings.Join(refusals, ", "))
		}
	}
	return &out, nil
}

// refusals are the kinds of exchanges that do not come to an answer.
var refusals = []string{"tls", "certificate", "connection"}

// loneWord is what neither a media type (RFC 9110, 8.3.1: type "/" subtype) nor a rule is.
var loneWord = lazy.Regexp(`^[\w.+-]+$`)

// HeaderRule is a rule for a header field.
type HeaderRule struct {
	Name string
	Rule *rule.Rule
}

var expectKeys = []mapping.Key[Expect]{
	mapping.NewKey("status", "201, 200 or 201, a list, 2xx, not 5xx",
		func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
			if e.statusText = r.PlaceholdersIn(n); e.statusText != nil {
				return
			}
			e.Status = r.Status(n)
		}),
	mapping.NewKey("time", "a rule: under 800 ms", func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
		e.Time = r.OrderRule(n, rule.Durations)
	}),
	mapping.NewKey("size", "a rule: under 20 kB", func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
		e.Size = r.OrderRule(n, rule.Sizes)
	}),
	mapping.NewKey("type", "a media type, or a rule", func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
		e.Type = r.RuleAt(nil, n)
		if n.Kind == yamlfile.Scalar && loneWord().MatchString(n.Text) {
			r.File.Report(n, "write both parts, like application/json, or a rule: contains "+n.Text,
				"%q is not a media type, so no answer can have it", n.Text)
		}
	}),
	mapping.NewKey("headers", "header: rule", func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
		r.NotEmpty(n, "headers")
		for _, entry := range r.Entries(n, "headers") {
			if parsed := r.RuleAt(nil, entry.Value); parsed != nil {
				e.Headers = append(e.Headers, HeaderRule{entry.Key.Text, parsed})
			}
		}
	}),
	mapping.NewKey("fault", "none, is present, a rule for its code, or rules for code, subcode, text, role, detail",
		func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
			e.NoFault, e.HasFault, e.Fault = readTold(r, n, "fault", "code", "subcode", "text", "role", "detail")
		}),
	mapping.NewKey("error",
		"none, is present, a rule for its code, or rules for code, text, target, details, however it is told",
		func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
			e.NoError, e.HasError, e.Error = readTold(r, n, "error", "code", "text", "target", "details")
		}),
	mapping.NewKey("same as file", "a file with the whole answer as it must be; run -accept writes it",
		func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
			if e.SameAs = r.Template(n); e.SameAs != nil && e.SameAs.IsLiteral() {
				if _, err := safefile.Inside(r.Dir, e.SameAs.LiteralText()); err != nil {
					r.File.Report(n, "", "%v", err)
				}
			}
		}),
	mapping.NewKey("except", "paths that same as file: does not compare; [*] for all elements",
		func(r *mapping.Reader, e *Expect, n *yamlfile.Node) { e.Except = r.Words(n) }),
	mapping.NewKey("refused", "tls, certificate or connection", func(r *mapping.Reader, e *Expect, n *yamlfile.Node) {
		if e.refusedText = r.PlaceholdersIn(n); e.refusedText == nil {
			e.Refused = r.Choice(n, "kind of refusal", refusals...)
		}
	}),
}

// readTold reads what is expected of a fault or an error: none, that there is one, a rule for its
// code, or rules for its parts.
func readTold(r *mapping.Reader, n *yamlfile.Node, word string, parts ...string) (none, some bool, rules []FieldRule) {
	if n.Kind == yamlfile.Scalar {
		switch n.Text {
		case "none":
			return true, false, nil
		case "is present":
			return false, true, nil // whether it has a code or none
		case "is absent":
			r.File.Report(n, "write none", "%s: is absent asks for %s without a code", word,
				map[string]string{"fault": "a fault", "error": "an error"}[word])
			return true, false, nil
		}
		p, err := path.Compile("reply." + word + ".code")
		if parsed := r.RuleAt(p, n); parsed != nil && err == nil {
			rules = []FieldRule{{Source: "code", Path: p, Rule: parsed}}
		}
		return false, true, rules
	}
	for _, entry := range n.Entries {
		first, _, _ := strings.Cut(strings.NewReplacer("[", ".").Replace(entry.Key.Text), ".")
		if !slices.Contains(parts, first) {
			article := map[string]string{"fault": "a", "error": "an"}[word]
			r.File.Report(entry.Key, suggest.DidYouMean(first, parts), "%s %s has no %q", article, word, first)
		}
	}
	return false, true, ReadFieldRules(r, n, "reply."+word+".")
}
