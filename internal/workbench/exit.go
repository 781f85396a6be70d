package workbench

import (
	"fmt"
	"slices"

	"testbench/internal/bench"
	"testbench/internal/result"
	"testbench/internal/run"
)

// exitChooser passes a run on to its observer, and finds the exit status that the bench gives to what failed.
type exitChooser struct {
	run.Observer
	exits  []bench.Exit
	chosen int    // index of the exit that counts, len(exits) for none yet
	reason string // what failed, and where
}

// StepDone looks at the step's failures, and passes it on.
func (c *exitChooser) StepDone(s *result.Sheet, row *result.Row, step *result.Step) {
	c.failed(step.FailureNames(), fmt.Sprintf("step %s of sheet %s", step.Name, s.Name))
	c.Observer.StepDone(s, row, step)
}

// failed takes the first of the bench's exits that has one of the names, if it comes before the one that counts yet.
func (c *exitChooser) failed(names []string, where string) {
	at := slices.IndexFunc(c.exits[:c.chosen], func(e bench.Exit) bool { return slices.Contains(names, e.Name) })
	if at >= 0 {
		c.chosen, c.reason = at, c.exits[at].Name+", "+where
	}
}

// give gives the run the exit status that was found. What failed as a whole, as for a limit of times, counts too.
func (c *exitChooser) give(r *Result) {
	if r.Outcome != Passed {
		c.failed([]string{string(r.Outcome)}, "the run")
	}
	if c.chosen < len(c.exits) {
		r.Exit, r.ExitFor = c.exits[c.chosen].Status, c.reason
	}
}
