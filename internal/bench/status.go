package bench

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// PlaceholdersIn reads a text that may hold placeholders; nil where it holds none.
func (r *Reader) PlaceholdersIn(n *yamlfile.Node) *value.Template {
	r.takesOf(n, placeholderSchema)
	if n.Kind != yamlfile.Scalar || !strings.Contains(n.Text, "${") {
		return nil
	}
	return r.Template(n)
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

// Status reads statuses: a text (200 or 201), or a list of them.
func (r *Reader) Status(n *yamlfile.Node) *StatusRule {
	var text string
	r.takesOf(n, statusSchema)
	if n.Kind == yamlfile.Sequence {
		parts := make([]string, 0, len(n.Items))
		for _, item := range r.List(n) {
			parts = append(parts, r.Text(item))
			r.takesOf(item, statusSchema)
		}
		text = strings.Join(parts, " or ")
	} else {
		text = r.Text(n)
	}
	status, err := ParseStatus(text)
	if err != nil {
		r.File.Report(n, "write it like 201, 200 or 201, [200, 201], 2xx, not 5xx", "%v", err)
		return nil
	}
	return status
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

// WantsSuccess says whether the rule can hold for a success.
func (s *StatusRule) WantsSuccess() bool {
	return s.Holds(http.StatusOK) || s.Holds(http.StatusCreated) || s.Holds(http.StatusAccepted) ||
		s.Holds(http.StatusNoContent)
}
