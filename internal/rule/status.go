package rule

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
)

// Status is a rule for a status code.
type Status struct {
	Source string
	not    bool
	any    []string // 201, or 2xx
}

// Single is the only status that the rule takes, if it takes just one.
func (r *Status) Single() (status int, ok bool) {
	if r.not || len(r.any) != 1 {
		return 0, false
	}
	status, err := strconv.Atoi(r.any[0])
	return status, err == nil
}

// ParseStatus reads a rule for a status: codes and classes joined by or, with
// an optional not before them.
func ParseStatus(text string) (*Status, error) {
	s := &Status{Source: strings.TrimSpace(text)}
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
func (s *Status) Holds(status int) bool {
	text := strconv.Itoa(status)
	for _, one := range s.any {
		if one == text || one[1:] == "xx" && one[0] == text[0] {
			return !s.not
		}
	}
	return s.not
}

// WantsSuccess says whether the rule can hold for a success.
func (s *Status) WantsSuccess() bool {
	return s.Holds(http.StatusOK) || s.Holds(http.StatusCreated) || s.Holds(http.StatusAccepted) ||
		s.Holds(http.StatusNoContent)
}
