package sheet

import (
	"strings"
	"time"

	"testbench/internal/mapping"
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

const UsualWithin = 30 * time.Second

// States are those that something goes through, in the order in which it may.
type States struct {
	Source  string
	Path    *path.Path
	Allowed [][]string // one of each
	Failed  []string   // end the waiting
	Skips   bool       // what asking missed may be left out
}

// readPauses reads 500 ms, or 200 ms to 5 s.
func readPauses(r *mapping.Reader, n *yamlfile.Node) Pauses {
	first, longest, grows := strings.Cut(r.Text(n), " to ")
	one := *n
	one.Text = first
	p := Pauses{First: r.Duration(&one)}
	p.Longest = p.First
	if grows {
		one.Text = longest
		p.Longest = r.Duration(&one)
		if p.Longest < p.First {
			r.File.Report(n, "write the shorter one first", "the pauses are to grow, and %s is shorter than %s",
				longest, first)
		}
	}
	if p.First > 0 {
		return p
	}
	if d, err := rule.Duration(first); err == nil && d == 0 {
		r.File.Report(n, "every: 200 ms", "between askings there must be a pause")
	}
	return usualPauses
}

// waiting is the step's, made where a key of it is met.
func (s *Step) waiting() *Waiting {
	if s.Wait == nil {
		s.Wait = &Waiting{Every: usualPauses, Within: UsualWithin}
	}
	return s.Wait
}

var statesKeys = []mapping.Key[States]{
	mapping.NewKey("of", "path of the state", func(r *mapping.Reader, s *States, n *yamlfile.Node) {
		s.Source, s.Path = r.Text(n), r.Path(n)
	}),
	mapping.NewKey("allowed", "the states in their order; a list within it is one of several",
		func(r *mapping.Reader, s *States, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				var some []string
				if item.Kind == yamlfile.Sequence {
					for _, one := range r.List(item) {
						some = append(some, r.PlainText(one))
					}
				} else {
					some = []string{r.PlainText(item)}
				}
				s.Allowed = append(s.Allowed, some)
			}
		}),
	mapping.NewKey("failed", "states that end the waiting", func(r *mapping.Reader, s *States, n *yamlfile.Node) {
		for _, item := range r.List(n) {
			s.Failed = append(s.Failed, r.PlainText(item))
		}
	}),
	mapping.YesKey("skips", "true: states that asking missed may be left out",
		func(s *States) *bool { return &s.Skips }),
}

func readStates(r *mapping.Reader, n *yamlfile.Node) *States {
	s := &States{}
	mapping.Read(r, "states", n, s, statesKeys)
	r.Needs(n, "of", "allowed")
	if n.Kind == yamlfile.Mapping && (s.Path == nil || len(s.Allowed) == 0) {
		r.File.Report(n, "write of: PATH and allowed: [queued, running, done]", "states needs of: and allowed:")
		return nil
	}
	return s
}
