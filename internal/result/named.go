package result

import (
	"slices"
	"strings"

	"testbench/internal/exchange"
)

// FailureNames are what a step that did not pass can be called where a bench gives it an exit status: its
// outcome, "timed out", "failed state" and "state NAME", "error CODE".
func (s *Step) FailureNames() []string {
	if s.Outcome == Passed || s.Outcome == NotRun || s.Outcome == Interrupted {
		return nil
	}
	names := []string{string(s.Outcome)}
	if slices.ContainsFunc(s.Exchanges, func(r *exchange.Record) bool {
		return r.Failure != nil && r.Failure.Kind == exchange.TimedOut
	}) {
		names = append(names, "timed out")
	}
	for _, c := range s.Checks {
		if c.Failure == "" {
			continue
		}
		names = append(names, c.Failure)
		if strings.HasPrefix(c.Failure, "state ") {
			names = append(names, "failed state")
		}
	}
	if s.Reply != nil {
		if said := s.Reply.AnyError(); said != nil && said.Code != "" {
			names = append(names, "error "+said.Code)
		}
	}
	return names
}
