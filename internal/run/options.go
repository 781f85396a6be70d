package run

import (
	"context"
	"fmt"
	"slices"
	"time"

	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/table"
)

// RunOptions say how sheets are run.
type RunOptions struct {
	Steps []string // only these; empty for all
	Tags  []string // only steps with one of them, or of a sheet with one; empty for all
	From  string   // the rows go on from this step; empty for all of them
	Rows  [][2]int // only these, from and to, from 1; empty for all
	Stop  bool     // at the first step that fails
	Dry   bool     // nothing is sent; what would be is reported

	Jobs   int           // rows and sheets at work side by side; 0 is 1
	Rate   float64       // rows begun in a second; 0 for as many as can be
	Repeat int           // how often the rows are run; 0 is once
	For    time.Duration // the rows are repeated until this is over; 0 for not
	Share  Share         // which part of the rows is run here

	Observer Observer           // may be nil
	Explain  func(*result.Step) // adds hints to a finished step; may be nil
	// Before is told of each step that talks, right before it does; nil for nobody.
	Before func(ctx context.Context, session *session.Session, step *sheet.Step, scope *session.Values)
	// Record takes rows as they finish, before RowDone is told of them; nil for none.
	Record func([]history.Entry) error
	// Forget deletes the rows when they were observed and recorded.
	Forget bool
}

// isChosen says whether a step is among those that are asked for by their names and tags.
func (o RunOptions) isChosen(step *sheet.Step, of *sheet.Sheet) bool {
	return (len(o.Steps) == 0 || slices.Contains(o.Steps, step.Name)) &&
		(len(o.Tags) == 0 || sheet.HasTag(of.Tags, o.Tags) || step.HasTag(o.Tags))
}

// isRun says whether a step of the sheet itself is run.
func (o RunOptions) isRun(step *sheet.Step, of *sheet.Sheet) bool {
	if !o.isChosen(step, of) {
		return false
	}
	if at := slices.IndexFunc(of.Steps, func(s *sheet.Step) bool { return s.Name == o.From }); at >= 0 {
		return !slices.Contains(of.Steps[:at], step)
	}
	return true
}

// Share is one of several parts of the rows: I of N. The zero value is all of them.
type Share struct{ I, N int }

// isMine says whether a row belongs to the share. It hangs on nothing but the names and the numbers, so that
// each machine knows it alone. Of as many rows in a row as there are machines each gets one; which one goes
// round by chance, so that a table in which every fourth row is slow is not slow on one machine.
func (s Share) isMine(file string, turn, number int) bool {
	if s.N < 2 {
		return true
	}
	round := table.Hash(fmt.Sprintf("%s/%d", file, turn), number/s.N) % uint64(s.N)
	return (uint64(number)+round)%uint64(s.N) == uint64(s.I-1)
}

// runs are the steps that the share runs of those before or after the rows: what is to be run once is for the
// first one.
func (s Share) runs(steps []*sheet.Step) []*sheet.Step {
	if s.N < 2 || s.I == 1 {
		return steps
	}
	return slices.DeleteFunc(slices.Clone(steps), func(step *sheet.Step) bool { return step.Once })
}

// onlyOnce are the steps that are run although none of the rows is the share's.
func (s Share) onlyOnce(steps []*sheet.Step) []*sheet.Step {
	if s.I != 1 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(steps), func(step *sheet.Step) bool { return !step.Once })
}

// around are the steps before and after the rows that the share runs; hasRows says whether any of the rows is its own.
func (s Share) around(of *sheet.Sheet, hasRows bool) (first, last []*sheet.Step) {
	first, last = s.runs(of.First), s.runs(of.Last)
	if !hasRows && s.N > 1 {
		return s.onlyOnce(first), s.onlyOnce(last)
	}
	return first, last
}

func (s Share) String() string {
	if s.N == 0 {
		return ""
	}
	return fmt.Sprintf("%d/%d", s.I, s.N)
}
