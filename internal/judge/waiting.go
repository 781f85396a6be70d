package judge

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// nextOfPauses is the pause after one that was made; nothing was before the first.
func nextOfPauses(p sheet.Pauses, before time.Duration) time.Duration {
	if before == 0 {
		return p.First
	}
	return min(before+before/2, p.Longest)
}

// StateSeen is a state with the time from when on it was seen.
type StateSeen struct {
	State string
	after time.Duration
}

// placeOfState is where a state is in the order, -1 for nowhere.
func placeOfState(s *sheet.States, state string) int {
	return slices.IndexFunc(s.Allowed, func(some []string) bool { return slices.Contains(some, state) })
}

// wrongState says what is wrong with going from one state to another; from is empty at
// the beginning.
func wrongState(s *sheet.States, from, to string) string {
	if slices.Contains(s.Failed, to) {
		return ""
	}
	at, before := placeOfState(s, to), -1
	if from != "" {
		before = placeOfState(s, from)
	}
	switch {
	case at < 0:
		return fmt.Sprintf("%q is none of the states that are allowed", to)
	case slices.Contains(s.Failed, from):
		return fmt.Sprintf("%q came after %q, which is the end", to, from)
	case at < before:
		return fmt.Sprintf("%q came after %q, and may only come before it", to, from)
	case at == before && from != to:
		return fmt.Sprintf("%q came after %q, and only one of them may come", to, from)
	case at > before+1 && !s.Skips:
		missed := s.Allowed[before+1]
		if from == "" {
			return fmt.Sprintf("it began with %q, and must begin with %s (skips: true lets what asking missed be "+
				"left out)", to, strings.Join(missed, " or "))
		}
		return fmt.Sprintf("%q came after %q, and %s must come between (skips: true lets what asking missed be left "+
			"out)", to, from, strings.Join(missed, " or "))
	}
	return ""
}

// UntilMet asks again until what is waited for is there, or it is clear that it will not
// be. It gives the last judging, the checks that came of the waiting, and in a line how
// it went. Ask blocks where that is how it waits; left is how long a service wants to be
// left alone, and nil where nobody says.
func UntilMet(ctx context.Context, w *sheet.Waiting, start time.Time, j *Judging,
	ask func(context.Context) (*Judging, error), left func() time.Duration,
) (*Judging, []result.Check, string, error) {
	var states []StateSeen
	var out []result.Check
	var pause time.Duration
	asked := 1
	for {
		if j.Reply.Record.Failure != nil || j.Reply.Record.Answer != nil && !j.isAsExpected() {
			if j.Err != nil {
				return j, out, "", j.Err
			}
			break // the judgement tells what it is
		}
		changed, wrong := LookAtState(w.States, j, states, exchange.Now(ctx).Sub(start))
		states = changed
		if wrong != nil {
			out = append(out, *wrong)
			break
		}
		checks := j.Until(w.Until)
		if j.Err != nil {
			return j, out, "", j.Err
		}
		if !slices.ContainsFunc(checks, func(c result.Check) bool { return !c.Passed }) {
			out = append(out, checks...)
			break
		}
		if failed := FailedState(w.States, states); failed != nil {
			out = append(out, *failed)
			break
		}
		pause = nextOfPauses(w.Every, pause)
		if left != nil {
			pause = max(pause, left())
		}
		if exchange.Now(ctx).Sub(start)+pause > w.Within {
			out = append(out, TooLate(w, checks)...)
			break
		}
		if err := exchange.Sleep(ctx, pause); err != nil {
			return j, out, "", err
		}
		next, err := ask(ctx)
		if err != nil {
			return j, out, "", err
		}
		j = next
		asked++
	}
	note := ""
	if asked > 1 || len(states) > 0 {
		note = fmt.Sprintf("polled %s in %s", session.HowOften(asked), SpanText(exchange.Now(ctx).Sub(start)))
	}
	if len(states) > 0 {
		note += ": " + StatesText(states)
	}
	return j, out, note, nil
}

// FailedState is the check of the last state that was seen, where it is one of those that will
// not come right; nil for others.
func FailedState(s *sheet.States, states []StateSeen) *result.Check {
	if len(states) == 0 {
		return nil
	}
	last := states[len(states)-1].State
	if !slices.Contains(s.Failed, last) {
		return nil
	}
	return &result.Check{
		Kind: "states", Subject: s.Source, Judged: true,
		Expected: "not " + strings.Join(s.Failed, " or "), Got: last, Failure: "state " + last,
	}
}

// TooLate says of what was waited for that it did not come in time.
func TooLate(w *sheet.Waiting, checks []result.Check) []result.Check {
	out := slices.Clone(checks)
	for i, c := range out {
		if !c.Passed {
			out[i].Failure = "timed out"
			out[i].Note = strings.TrimSuffix(fmt.Sprintf("not so within %s; %s", SpanText(w.Within), c.Note), "; ")
		}
	}
	return out
}

// isAsExpected judges what must be so at each asking: the reply as such, and the
// contract.
func (j *Judging) isAsExpected() bool {
	e, err := j.Step.Expect.FilledIn(j.Scope)
	if err != nil {
		j.Err = err
		return false
	}
	j.status(e)
	j.fault(e)
	j.errorForm(e)
	j.readable()
	j.contract()
	return !slices.ContainsFunc(j.Checks, func(c result.Check) bool { return !c.Passed })
}

// Until judges what is waited for.
func (j *Judging) Until(rules []sheet.FieldRule) []result.Check {
	before := len(j.Checks)
	for _, f := range rules {
		j.Rule("until", f.Source, f.Path, f.Rule)
	}
	return slices.Clone(j.Checks[before:])
}

// LookAtState adds the state that a reply tells to those that were seen, and says where it
// may not be.
func LookAtState(s *sheet.States, j *Judging, states []StateSeen, after time.Duration) ([]StateSeen, *result.Check) {
	if s == nil {
		return states, nil
	}
	found, err := s.Path.Find(j.Roots, j.Scope)
	if err != nil {
		j.Err = err
		return states, nil
	}
	c := result.Check{Kind: "states", Subject: s.Source, Judged: true, Expected: StateWords(s)}
	node := found.First().Value()
	if node == nil || !node.IsScalar() {
		c.Got = "missing"
		if miss := found.Missed(); miss != nil {
			c.Note = miss.String()
		}
		return states, &c
	}
	from, state := "", node.Text
	if len(states) > 0 {
		from = states[len(states)-1].State
	}
	if state == from {
		return states, nil
	}
	states = append(states, StateSeen{state, after})
	if c.Note = wrongState(s, from, state); c.Note != "" {
		c.Got = StatesText(states)
		return states, &c
	}
	return states, nil
}

// SpanText writes how long something took.
func SpanText(d time.Duration) string {
	switch {
	case d >= time.Second && d%time.Second == 0:
		return fmt.Sprintf("%d s", d/time.Second)
	case d < 10*time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// StateWords are the states in their order.
func StateWords(s *sheet.States) string {
	var words []string
	for _, some := range s.Allowed {
		words = append(words, strings.Join(some, " or "))
	}
	return strings.Join(words, ", then ")
}

// StatesText writes the states that were seen, each with when.
func StatesText(states []StateSeen) string {
	words := make([]string, len(states))
	for i, one := range states {
		words[i] = fmt.Sprintf("%s after %s", one.State, SpanText(one.after))
		if i == 0 {
			words[i] = one.State + " at first"
		}
	}
	return strings.Join(words, ", ")
}
