// Package testbench is Test Bench for Go programs: it opens a bench, finds what is wrong with
// it, runs its sheets and makes single calls. Package benchtest makes subtests of sheets. The
// command testbench can do more, and is on the same core.
//
//	bench, err := testbench.Open("testdata/bench")
//	if err != nil { … }
//	result, err := bench.Run(ctx, []string{"sheets/intake.yaml"}, testbench.RunOptions{})
//	if err != nil { … }
//	fmt.Println(result.Outcome)
//
// In all that is returned secrets are masked. The module has no public address: a program
// that uses it names a checkout, with `replace testbench => ../testbench` in its go.mod, or
// a vendored copy.
package testbench

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

// Bench is an opened bench: its folder, what is in bench.yaml, and the sealed store
// beside it. Secrets may also be in the environment, as TESTBENCH_SEALED_NAME. It may be
// used by several goroutines.
type Bench struct{ core *workbench.Bench }

// Open opens the bench in a folder. What is wrong with its file is reported by Vet and by
// what would use it, not here.
func Open(dir string) (*Bench, error) {
	core, err := workbench.Open(dir)
	if err != nil {
		return nil, errorOf(err)
	}
	return &Bench{core}, nil
}

// Sheets lists the sheets of the bench: the YAML files of its folder sheets, in order. It is
// empty where there are none.
func (b *Bench) Sheets() ([]string, error) { return b.core.SheetFiles() }

// Options say where something is done, and with which values. The zero value is the first
// site of the bench, with its own values.
type Options struct {
	Site    string            // empty: the sheet's, or the first of the bench
	Write   string            // the guarded site that may be written to; empty for none
	Set     map[string]string // values that win over all others; may be nil
	Timeout time.Duration     // of one exchange; 0 is 30 seconds
}

func (o Options) core() workbench.Options {
	return workbench.Options{Site: o.Site, Write: o.Write, Set: o.Set, Timeout: o.Timeout, Masker: &secret.Masker{}}
}

// RunOptions say how sheets are run. The zero value runs all rows once, one after the other,
// and leaves a record in the history of the bench.
type RunOptions struct {
	Options
	Steps      []string      // only these; empty for all
	Rows       [][2]int      // only these, from and to, from 1; empty for all
	Jobs       int           // rows and sheets at work side by side; 0 is 1
	Repeat     int           // how often the rows are run; 0 is once
	For        time.Duration // rows are repeated for so long; 0 is not at all
	Rate       float64       // rows begun in a second; 0 for as many as can be
	Stop       bool          // ends at the first step that fails
	Unrecorded bool          // the run does not go into the history of the bench
}

// Vetted is what vetting found, and what it could not look at without asking somebody, with
// the reasons. Both may be nil.
type Vetted struct {
	Problems Problems
	Unseen   []string
}

// Vet finds what is wrong with the bench and with sheets, all of the bench's where none are
// named, without sending anything. The error is of what could not be read at all.
func (b *Bench) Vet(ctx context.Context, sheets []string, o Options) (*Vetted, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	vetted, err := b.core.Vet(sheets, o.core())
	if err != nil {
		return nil, errorOf(err)
	}
	return &Vetted{problemsOf(vetted.Problems), vetted.Unseen}, nil
}

// Run runs sheets. Mistakes in the bench or in a sheet are returned as Problems, before
// anything is sent. A cancelled context ends the run in order: the result is complete to
// that point, and there is no error.
func (b *Bench) Run(ctx context.Context, sheets []string, o RunOptions) (*Result, error) {
	came, err := b.core.Run(ctx, sheets, workbench.RunOptions{
		Options: o.core(), Steps: o.Steps, Rows: o.Rows, Jobs: o.Jobs, Repeat: o.Repeat,
		For: o.For, Rate: o.Rate, Stop: o.Stop, Unrecorded: o.Unrecorded,
	})
	if err != nil {
		return nil, errorOf(err)
	}
	defer came.Close()
	return resultOf(came), nil
}

// Call is one exchange outside of a sheet.
type Call struct {
	// Target is service/operation; or service, method and path; or method and address.
	Target []string
	Fields map[string]string // by name, in the order of their names; a name with dots is a path
	Login  string            // a name, or none; empty is the service's own
	SOAP   string            // 1.1, 1.2 or off; empty is the service's own
	// Contract says what is checked against it: both, request, answer or off; empty is both.
	Contract string
}

// Call makes a call, with the login of its service, and judges the answer by the contract.
// A call that fails is not an error.
func (b *Bench) Call(ctx context.Context, c Call, o Options) (*StepResult, error) {
	spec := workbench.Call{Target: c.Target, Login: c.Login, SOAP: c.SOAP, Contract: c.Contract}
	for _, name := range slices.Sorted(maps.Keys(c.Fields)) {
		spec.Fields = append(spec.Fields, name+"="+c.Fields[name])
	}
	options := o.core()
	prepared, err := b.core.Prepare(spec, options)
	if err != nil {
		return nil, errorOf(err)
	}
	came, notes, err := b.core.Do(ctx, prepared, options)
	if err != nil {
		return nil, errorOf(err)
	}
	one := stepOf(came.Record(options.Masker))
	one.Notes = append(one.Notes, plainTexts(options.Masker.Messages(notes))...)
	return &one, nil
}

// Outcome is what came of a step, a row, a sheet or a run.
type Outcome string

// The outcomes.
const (
	Passed      Outcome = Outcome(result.Passed)
	Failed      Outcome = Outcome(result.Failed)
	NotRun      Outcome = Outcome(result.NotRun)
	Unreachable Outcome = Outcome(result.Unreachable)
	Errored     Outcome = Outcome(result.Errored)
	Interrupted Outcome = Outcome(result.Interrupted)
)

// Problem is one thing that is wrong in a file.
type Problem struct {
	File         string
	Line, Column int // from 1
	Message      string
	Try          string // what to write instead; may be empty
	Source       string // the line itself; empty where it is not known
	IsRemark     bool   // worth knowing, and no mistake
}

// Problems are what is wrong with a bench and its sheets. As an error they are the mistakes.
type Problems []Problem

// Error is the problems, one below the other, with their places.
func (p Problems) Error() string {
	var lines yamlfile.Problems
	for _, one := range p {
		lines = append(lines, yamlfile.Problem{
			File: one.File, Line: one.Line, Column: one.Column, Message: one.Message,
			Try: one.Try, Source: one.Source, Remark: one.IsRemark,
		})
	}
	return lines.Error()
}

func problemsOf(found yamlfile.Problems) Problems {
	var out Problems
	for _, p := range found {
		out = append(out, Problem{
			File: p.File, Line: p.Line, Column: p.Column, Message: p.Message, Try: p.Try, Source: p.Source,
			IsRemark: p.Remark,
		})
	}
	return out
}

// Error is why something could not be done: bad input, a secret that is missing, a contract
// that cannot be read.
type Error struct {
	Message string
	Try     string // what may help; may be empty
	cause   error
}

// Error is the message, and what may help.
func (e *Error) Error() string {
	if e.Try == "" {
		return e.Message
	}
	return e.Message + "; " + e.Try
}

// Unwrap gives what the error came of, as context.Canceled.
func (e *Error) Unwrap() error { return e.cause }

func errorOf(err error) error {
	var problems yamlfile.Problems
	var withTry *session.TryError
	var missing *bench.NotFoundError
	switch {
	case errors.As(err, &problems):
		return problemsOf(problems)
	case errors.As(err, &withTry):
		return &Error{withTry.Message, withTry.Try, err}
	case errors.As(err, &missing):
		message, try, _ := strings.Cut(missing.Error(), "; ")
		return &Error{message, try, err}
	}
	return &Error{err.Error(), workbench.Try(err), err}
}
