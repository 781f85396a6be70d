package sheet

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/nearest"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Expect is what is expected of a reply as such.
type Expect struct {
	Status   *StatusRule
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

	// statusText and refusedText hold placeholders: what they say is known when a reply
	// is judged.
	statusText, refusedText *value.Template
}

// filledIn is what is expected with the values of a row.
func (e *Expect) filledIn(scope value.Scope) (*Expect, error) {
	if e.statusText == nil && e.refusedText == nil {
		return e, nil
	}
	out := *e
	if e.statusText != nil {
		text, err := e.statusText.Text(scope, value.Raw)
		if err != nil {
			return nil, fmt.Errorf("status: %w", err)
		}
		if out.Status, err = ParseStatus(text.Sent); err != nil {
			return nil, fmt.Errorf("status: %w; write it like 201, 200 or 201, 2xx, not 5xx", err)
		}
	}
	if e.refusedText != nil {
		text, err := e.refusedText.Text(scope, value.Raw)
		if err != nil {
			return nil, fmt.Errorf("refused: %w", err)
		}
		if out.Refused = text.Sent; out.Refused != "" && !slices.Contains(refusals, out.Refused) {
			return nil, fmt.Errorf("refused: %q is not a kind of refusal; there are: %s, or nothing for an answer", out.Refused, strings.Join(refusals, ", "))
		}
	}
	return &out, nil
}

// refusals are the kinds of exchanges that do not come to an answer.
var refusals = []string{"tls", "certificate", "connection"}

// holesIn reads a text that may hold placeholders; nil where it holds none.
func (r *reader) holesIn(n *yamlfile.Node) *value.Template {
	if n.Kind != yamlfile.Scalar || !strings.Contains(n.Text, "${") {
		return nil
	}
	return r.template(n)
}

// HeaderRule is a rule for a header field.
type HeaderRule struct {
	Name string
	Rule *rule.Rule
}

var expectKeys = []key[Expect]{
	{"status", "201, 200 or 201, 2xx, not 5xx", func(r *reader, e *Expect, n *yamlfile.Node) {
		if e.statusText = r.holesIn(n); e.statusText != nil {
			return
		}
		status, err := ParseStatus(r.text(n))
		if err != nil {
			r.file.Report(n, "write it like 201, 200 or 201, 2xx, not 5xx", "%v", err)
			return
		}
		e.Status = status
	}},
	{"time", "a rule: under 800 ms", func(r *reader, e *Expect, n *yamlfile.Node) { e.Time = r.orderRule(n, rule.Durations) }},
	{"size", "a rule: under 20 kB", func(r *reader, e *Expect, n *yamlfile.Node) { e.Size = r.orderRule(n, rule.Sizes) }},
	{"type", "a media type, or a rule", func(r *reader, e *Expect, n *yamlfile.Node) { e.Type = r.rule(n) }},
	{"headers", "header: rule", func(r *reader, e *Expect, n *yamlfile.Node) {
		for _, entry := range r.entries(n, "headers") {
			if parsed := r.rule(entry.Value); parsed != nil {
				e.Headers = append(e.Headers, HeaderRule{entry.Key.Text, parsed})
			}
		}
	}},
	{"fault", "none, a rule for its code, or rules for code, subcode, text, role, detail", func(r *reader, e *Expect, n *yamlfile.Node) {
		e.NoFault, e.HasFault, e.Fault = r.told(n, "fault", "code", "subcode", "text", "role", "detail")
	}},
	{"error", "none, a rule for its code, or rules for code, text, target, details, however it is told", func(r *reader, e *Expect, n *yamlfile.Node) {
		e.NoError, e.HasError, e.Error = r.told(n, "error", "code", "text", "target", "details")
	}},
	{"refused", "tls, certificate or connection", func(r *reader, e *Expect, n *yamlfile.Node) {
		if e.refusedText = r.holesIn(n); e.refusedText == nil {
			e.Refused = r.choice(n, "kind of refusal", refusals...)
		}
	}},
}

// told reads what is expected of a fault or an error: none, a rule for its code, or rules
// for its parts.
func (r *reader) told(n *yamlfile.Node, word string, parts ...string) (none, some bool, rules []FieldRule) {
	if n.Kind == yamlfile.Scalar {
		if n.Text == "none" {
			return true, false, nil
		}
		p, err := path.Compile("reply." + word + ".code")
		if parsed := r.rule(n); parsed != nil && err == nil {
			rules = []FieldRule{{Source: "code", Path: p, Rule: parsed}}
		}
		return false, true, rules
	}
	for _, entry := range n.Entries {
		first, _, _ := strings.Cut(strings.NewReplacer("[", ".").Replace(entry.Key.Text), ".")
		if !slices.Contains(parts, first) {
			article := map[string]string{"fault": "a", "error": "an"}[word]
			r.file.Report(entry.Key, nearest.Try(first, parts), "%s %s has no %q", article, word, first)
		}
	}
	return false, true, r.fieldRules(n, "reply."+word+".")
}

// StatusRule is a rule for a status code.
type StatusRule struct {
	Source string
	not    bool
	any    []string // 201, or 2xx
}

// Single is the only status that the rule takes, if it takes just one.
func (r *StatusRule) Single() (status int, ok bool) {
	if r.not || len(r.any) != 1 {
		return 0, false
	}
	status, err := strconv.Atoi(r.any[0])
	return status, err == nil
}

// ParseStatus reads a rule for a status: codes and classes joined by or, with
// an optional not before them.
func ParseStatus(text string) (*StatusRule, error) {
	s := &StatusRule{Source: strings.TrimSpace(text)}
	rest := s.Source
	if after, ok := strings.CutPrefix(rest, "not "); ok {
		s.not, rest = true, strings.TrimSpace(after)
	}
	for _, part := range strings.Split(rest, " or ") {
		part = strings.TrimSpace(part)
		code, err := strconv.Atoi(part)
		isClass := len(part) == 3 && part[0] >= '1' && part[0] <= '5' && strings.EqualFold(part[1:], "xx")
		if !isClass && (err != nil || code < 100 || code > 599) {
			return nil, fmt.Errorf("%q is not a status", part)
		}
		s.any = append(s.any, strings.ToLower(part))
	}
	return s, nil
}

// Holds says whether a status is as the rule wants it.
func (s *StatusRule) Holds(status int) bool {
	text := strconv.Itoa(status)
	for _, one := range s.any {
		if one == text || one[1:] == "xx" && one[0] == text[0] {
			return !s.not
		}
	}
	return s.not
}

// wantsSuccess says whether the rule can hold for a success.
func (s *StatusRule) wantsSuccess() bool {
	return s.Holds(http.StatusOK) || s.Holds(http.StatusCreated) || s.Holds(http.StatusAccepted) || s.Holds(http.StatusNoContent)
}
