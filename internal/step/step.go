// Package step has the kinds of steps, a file each: a type with its keys, how it is vetted,
// planned and run, and how it is named in results. kinds.go is the table of all. What steps
// have in common is package sheet's, and the rows in which they run are package run's.
package step

import (
	"context"
	"errors"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/lookup"
	"testbench/internal/mapping"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Action is what a step of one kind does.
type Action interface {
	sheet.Action
	// Vet reports what is wrong with the step in its sheet, without asking anybody.
	Vet(v *Vetting, s *sheet.Step)
	// Run carries the step out under a name and tells the row what came of it.
	Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome
	// Results lists what results will hold of the step under a name.
	Results(s *sheet.Step, name string) []result.Planned
}

// Of is the action of a step; nil where the step has none, which is a problem of its sheet.
func Of(s *sheet.Step) Action {
	action, _ := s.Action.(Action) // all kinds of the table are one
	return action
}

// Row is the row of a sheet in which steps run.
type Row interface {
	// At is the session for a site, or the row's own for "".
	At(site string) (*session.Session, error)
	// Begin gives what the names of the step lead to, and why it is left out, or "".
	Begin(s *sheet.Step, of *session.Session) (scope *session.Values, leftOut string)
	// End takes what came of a step, as a whole and in results, the step's own first: it goes
	// into the record, and what takes the step back is remembered.
	End(s *sheet.Step, came result.Outcome, results ...*result.Step) result.Outcome
	// Tell puts what came of something beside the steps into the record.
	Tell(res *result.Step)
	// Skip tells that a step is not carried out.
	Skip(s *sheet.Step, name string, outcome result.Outcome, reason string) result.Outcome
	// Carry carries out a step within the step, under a name.
	Carry(ctx context.Context, inner *sheet.Step, name string) result.Outcome
	// Sheet runs another sheet with what it is given, and gives what it kept.
	Sheet(ctx context.Context, s *session.Session, inner *sheet.Sheet, given map[string]*document.Node, name string) (
		kept *document.Node, outcome result.Outcome)
	// IsOver says that nothing more is to be begun.
	IsOver(ctx context.Context) bool
	// IsDry says that nothing is sent; WouldSend then tells what would be, or why it is not
	// known.
	IsDry() bool
	WouldSend(res *result.Step, r *exchange.Request, reason string)
	// Names are the prefixes of XML that the sheet has.
	Names() map[string]string
	// Place names the row in its source; "" where there are no rows.
	Place() string
	// Before is called with a step before its request is made.
	Before(ctx context.Context, of *session.Session, s *sheet.Step, scope *session.Values)
	// Calls are where the calls for the row come in.
	Calls() *Calls
}

// Vetting is what a step is vetted with.
type Vetting struct {
	Sheet *sheet.Sheet
	// Inner finds what is wrong with a sheet that is run with values of its names given.
	Inner func(*sheet.Sheet) yamlfile.Problems
}

func (v *Vetting) report(at *yamlfile.Node, try, format string, args ...any) {
	v.Sheet.Source.Report(at, try, format, args...)
}

func (v *Vetting) notThere(at *yamlfile.Node, what, name string, known []string) {
	bench.NotThere(&mapping.Reader{File: v.Sheet.Source}, at, what, name, known)
}

// single is embedded by actions that have nothing to vet and are in results once.
type single struct{ sheet.Simple }

// Vet finds nothing wrong.
func (single) Vet(*Vetting, *sheet.Step) {}

// Results lists the step itself, and what takes it back.
func (single) Results(s *sheet.Step, name string) []result.Planned {
	planned := []result.Planned{{Name: name, Target: s.Target()}}
	if s.Undo != nil {
		planned = append(planned, result.Planned{Name: "undo " + name, Target: s.Undo.Target()})
	}
	return planned
}

// List lists what results will hold of steps; lead is before their names.
func List(lead string, steps []*sheet.Step) []result.Planned {
	var all []result.Planned
	for _, s := range steps {
		action := Of(s)
		if action == nil {
			continue
		}
		name := lead + s.Name
		if s.Each != nil {
			name += " (10 of 10)" // about so long; how many there are is not known yet
		}
		all = append(all, action.Results(s, name)...)
	}
	return all
}

// place is where a step is carried out: its session, and what its names lead to.
type place struct {
	Row
	session *session.Session
	scope   *session.Values
}

// once carries out a step that is in results once.
func once(ctx context.Context, row Row, s *sheet.Step, name string,
	do func(ctx context.Context, at *place, res *result.Step),
) result.Outcome {
	res := &result.Step{Name: name, Target: s.Target(), About: s.About, Outcome: result.Passed}
	start := time.Now()
	if at := begin(row, s, res); at != nil {
		do(ctx, at, res)
	}
	res.Took = time.Since(start)
	return row.End(s, res.Outcome, res)
}

// begin gives the place of a step, or nil where the result says why it is not carried out.
func begin(row Row, s *sheet.Step, res *result.Step) *place {
	of, err := row.At(s.Site)
	if err != nil {
		res.Outcome, res.Reason = result.Errored, err.Error()
		return nil
	}
	scope, leftOut := row.Begin(s, of)
	if leftOut != "" {
		res.Outcome, res.Reason = result.NotRun, leftOut
		row.WouldSend(res, nil, leftOut)
		return nil
	}
	return &place{row, of, scope}
}

// failed says that a step could not be carried out.
func failed(ctx context.Context, res *result.Step, err error) {
	res.Outcome, res.Reason = result.Errored, err.Error()
	var unreached *lookup.UnreachedError
	if errors.As(err, &unreached) {
		res.Outcome = result.Unreachable
	}
	if ctx.Err() != nil {
		res.Outcome, res.Reason = result.Interrupted, "interrupted"
	}
}

// judging prepares judging something that is not a reply of an exchange.
func (at *place) judging(s *sheet.Step, payload, around *document.Node) *judge.Judging {
	re := reply.Of(payload, around)
	names := request.MergeNames(at.session.Bench.Names, at.Names(), s.Names)
	data := at.session.Data(at.scope, at.scope.Row, at.scope.Kept, re, names)
	return &judge.Judging{Step: s, Reply: re, Roots: re.Roots(names), Scope: at.scope, Data: data}
}
