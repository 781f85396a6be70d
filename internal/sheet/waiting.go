package sheet

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// Waiting says how a step asks again until what it waits for is there.
type Waiting struct {
	Until  []FieldRule
	Every  Pauses
	Within time.Duration
	States *States
}

// Pauses grow from the first to the longest, by half each time.
type Pauses struct{ First, Longest time.Duration }

// What holds where a step does not say otherwise.
var usualPauses = Pauses{200 * time.Millisecond, 5 * time.Second}

const usualWithin = 30 * time.Second

// next is the pause behind one that was made; nothing was before the first.
func (p Pauses) next(before time.Duration) time.Duration {
	if before == 0 {
		return p.First
	}
	return min(before+before/2, p.Longest)
}

// States are those that something goes through, in the order in which it may.
type States struct {
	Source  string
	Path    *path.Path
	Allowed [][]string // one of each
	Failed  []string   // end the waiting
	Skips   bool       // what asking missed may be left out
}

// seen is a state with the time from when on it was seen.
type seen struct {
	state string
	after time.Duration
}

// place is where a state stands in the order, -1 for nowhere.
func (s *States) place(state string) int {
	return slices.IndexFunc(s.Allowed, func(some []string) bool { return slices.Contains(some, state) })
}

// wrong says what is wrong with going from one state to another; from is empty at
// the beginning.
func (s *States) wrong(from, to string) string {
	if slices.Contains(s.Failed, to) {
		return ""
	}
	at, before := s.place(to), -1
	if from != "" {
		before = s.place(from)
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
			return fmt.Sprintf("it began with %q, and must begin with %s (skips: true lets what asking missed be left out)", to, strings.Join(missed, " or "))
		}
		return fmt.Sprintf("%q came after %q, and %s must come between (skips: true lets what asking missed be left out)", to, from, strings.Join(missed, " or "))
	}
	return ""
}

// await asks again until what a step waits for is there, or it is clear that it will
// not be. What came of the waiting is among the checks of the plan.
func (s *Session) await(ctx context.Context, step *Step, p *plan, scope *Scope, names map[string]string, fresh *exchange.Request, sent *login.Sent, result *StepResult) (*login.Sent, error) {
	hold := func() *judging { return s.judging(step, p, scope, names, p.read(sent.Record())) }
	ask := func(ctx context.Context) (*judging, error) {
		p.request = fresh.Clone()
		again, err := s.send(ctx, step, p, result)
		if err != nil {
			return nil, err
		}
		sent = again
		return hold(), nil
	}
	_, checks, note, err := step.Wait.until(ctx, time.Now(), hold(), ask, func() time.Duration { return s.retryAfter(sent.Record()) })
	p.checks = append(p.checks, checks...)
	if note != "" {
		p.notes = append(p.notes, note)
	}
	return sent, err
}

// until asks again until what is waited for is there, or it is clear that it will not
// be. It gives the last judging, the checks that came of the waiting, and in a line how
// it went. Ask blocks where that is how it waits; left is how long a service wants to be
// left alone, and nil where nobody says.
func (w *Waiting) until(ctx context.Context, start time.Time, j *judging, ask func(context.Context) (*judging, error), left func() time.Duration) (*judging, []Check, string, error) {
	var states []seen
	var out []Check
	var pause time.Duration
	asked := 1
	for {
		if j.reply.Record.Failure != nil || j.reply.Record.Answer != nil && !j.isAsExpected() {
			if j.err != nil {
				return j, out, "", j.err
			}
			break // the judgement tells what it is
		}
		changed, wrong := w.States.look(j, states, time.Since(start))
		states = changed
		if wrong != nil {
			out = append(out, *wrong)
			break
		}
		checks := j.until(w.Until)
		if j.err != nil {
			return j, out, "", j.err
		}
		if len(w.Until) > 0 && !slices.ContainsFunc(checks, func(c Check) bool { return !c.Held }) {
			out = append(out, checks...)
			break
		}
		if n := len(states); n > 0 && slices.Contains(w.States.Failed, states[n-1].state) {
			out = append(out, Check{Kind: "states", Subject: w.States.Source, Judged: true, Wanted: "not " + strings.Join(w.States.Failed, " or "), Got: states[n-1].state})
			break
		}
		pause = w.Every.next(pause)
		if left != nil {
			pause = max(pause, left())
		}
		if time.Since(start)+pause > w.Within {
			out = append(out, w.tooLate(checks)...)
			break
		}
		if err := sleep(ctx, pause); err != nil {
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
		note = fmt.Sprintf("asked %s in %s", times(asked), spanText(time.Since(start)))
	}
	if len(states) > 0 {
		note += ": " + statesText(states)
	}
	return j, out, note, nil
}

// tooLate says of what was waited for that it did not come in time.
func (w *Waiting) tooLate(checks []Check) []Check {
	out := slices.Clone(checks)
	for i, c := range out {
		if !c.Held {
			out[i].Note = strings.TrimSuffix(fmt.Sprintf("not so within %s; %s", spanText(w.Within), c.Note), "; ")
		}
	}
	return out
}

// isAsExpected judges what must be so at each asking: the reply as such, and the
// contract.
func (j *judging) isAsExpected() bool {
	e, err := j.step.Expect.filledIn(j.scope)
	if err != nil {
		j.err = err
		return false
	}
	j.status(e)
	j.fault(e)
	j.errorForm(e)
	j.readable()
	j.contract()
	return !slices.ContainsFunc(j.out, func(c Check) bool { return !c.Held })
}

// until judges what is waited for.
func (j *judging) until(rules []FieldRule) []Check {
	before := len(j.out)
	for _, f := range rules {
		j.rule("until", f.Source, f.Path, f.Rule)
	}
	return slices.Clone(j.out[before:])
}

// look adds the state that a reply tells to those that were seen, and says where it
// may not be.
func (s *States) look(j *judging, states []seen, after time.Duration) ([]seen, *Check) {
	if s == nil {
		return states, nil
	}
	found, err := s.Path.Find(j.roots, j.scope)
	if err != nil {
		j.err = err
		return states, nil
	}
	c := Check{Kind: "states", Subject: s.Source, Judged: true, Wanted: s.words()}
	node := found.First().Value()
	if node == nil || !node.IsScalar() {
		c.Got = "nothing"
		if miss := found.Missed(); miss != nil {
			c.Note = miss.String()
		}
		return states, &c
	}
	from, state := "", node.Text
	if len(states) > 0 {
		from = states[len(states)-1].state
	}
	if state == from {
		return states, nil
	}
	states = append(states, seen{state, after})
	if c.Note = s.wrong(from, state); c.Note != "" {
		c.Got = statesText(states)
		return states, &c
	}
	return states, nil
}

// spanText writes how long something took.
func spanText(d time.Duration) string {
	switch {
	case d >= time.Second && d%time.Second == 0:
		return fmt.Sprintf("%d s", d/time.Second)
	case d < 10*time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// words are the states in their order.
func (s *States) words() string {
	var words []string
	for _, some := range s.Allowed {
		words = append(words, strings.Join(some, " or "))
	}
	return strings.Join(words, ", then ")
}

func statesText(states []seen) string {
	words := make([]string, len(states))
	for i, one := range states {
		words[i] = fmt.Sprintf("%s after %s", one.state, spanText(one.after))
		if i == 0 {
			words[i] = one.state + " at first"
		}
	}
	return strings.Join(words, ", ")
}

// pauses reads 500 ms, or 200 ms to 5 s.
func (r *reader) pauses(n *yamlfile.Node) Pauses {
	first, longest, grows := strings.Cut(r.text(n), " to ")
	one := *n
	one.Text = first
	p := Pauses{First: r.duration(&one)}
	p.Longest = p.First
	if grows {
		one.Text = longest
		p.Longest = r.duration(&one)
		if p.Longest < p.First {
			r.file.Report(n, "write the shorter one first", "the pauses are to grow, and %s is shorter than %s", longest, first)
		}
	}
	if p.First > 0 {
		return p
	}
	if d, err := rule.Duration(first); err == nil && d == 0 {
		r.file.Report(n, "every: 200 ms", "between askings there must be a pause")
	}
	return usualPauses
}

// waiting is the step's, made where a key of it is met.
func (s *Step) waiting() *Waiting {
	if s.Wait == nil {
		s.Wait = &Waiting{Every: usualPauses, Within: usualWithin}
	}
	return s.Wait
}

var statesKeys = []key[States]{
	{"of", "path of the state", func(r *reader, s *States, n *yamlfile.Node) { s.Source, s.Path = r.text(n), r.path(n) }},
	{"allowed", "the states in their order; a list within it is one of several", func(r *reader, s *States, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			var some []string
			if item.Kind == yamlfile.Sequence {
				for _, one := range r.list(item) {
					some = append(some, r.plainText(one))
				}
			} else {
				some = []string{r.plainText(item)}
			}
			s.Allowed = append(s.Allowed, some)
		}
	}},
	{"failed", "states that end the waiting", func(r *reader, s *States, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			s.Failed = append(s.Failed, r.plainText(item))
		}
	}},
	{"skips", "true: states that asking missed may be left out", func(r *reader, s *States, n *yamlfile.Node) { s.Skips = r.yes(n) }},
}

func (r *reader) states(n *yamlfile.Node) *States {
	s := &States{}
	readMapping(r, "states", n, s, statesKeys)
	if n.Kind == yamlfile.Mapping && (s.Path == nil || len(s.Allowed) == 0) {
		r.file.Report(n, "write of: PATH and allowed: [queued, running, done]", "states needs of: and allowed:")
		return nil
	}
	return s
}
