// Package result holds what judging makes and all others read: a run, its sheets, rows, steps
// and checks, with their outcomes, and the form in which the history keeps them, which is made of
// masked text. It judges nothing and writes nothing.
package result

import (
	"context"
	"errors"
	"io"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/secret"
)

// Outcome says what became of a step, a row, a sheet or a run.
type Outcome string

// The outcomes, in words as they are shown.
const (
	Passed      Outcome = "passed"
	Failed      Outcome = "failed"
	NotRun      Outcome = "not run"      // left out, or what it needs was not kept
	LoginFailed Outcome = "login failed" // who was asked for a token gave none
	Unreachable Outcome = "unreachable"  // no answer came
	Errored     Outcome = "error"        // the file's own fault: it could not be filled in
	Interrupted Outcome = "interrupted"
)

// worse orders outcomes: the outcome of a whole is the worst of its parts, by
// what the exit status goes after.
var worse = map[Outcome]int{NotRun: 0, Passed: 1, Failed: 2, LoginFailed: 3, Unreachable: 4, Errored: 5, Interrupted: 6}

// Worst is the worse of two outcomes.
func Worst(a, b Outcome) Outcome {
	if worse[b] > worse[a] {
		return b
	}
	return a
}

// Check is one thing that was judged.
type Check struct {
	Kind     string // "expect", "field", "where", "keep", "contract"
	Subject  string // status, a path, a condition, a kept name
	Passed   bool
	Judged   bool // false where an earlier failure made judging it pointless
	Expected string
	Got      string
	Where    string // the place that failed, where it is not the subject
	Note     string
	Failure  string // "state NAME", "timed out": what a bench can call this failure; empty for none of its own
}

// Step is what came of a step.
type Step struct {
	Name    string
	Of      string // the step of the sheet that it is, without which item
	Target  string // what it calls, as the file writes it
	About   string
	Outcome Outcome
	Reason  string // why it was not run, or what went wrong before judging
	Checks  []Check
	// Exchanges are those of the step itself, the last one judged; Logins those
	// that logins made meanwhile.
	Exchanges []*exchange.Record
	Logins    []*exchange.Record
	Reply     *reply.Reply // of the last exchange; nil when there was none
	Context   Context
	Kept      []string                  // the names kept
	Values    map[string]*document.Node // what was kept under these
	Got       string                    // what was found, where no exchange shows it
	Notes     []string                  // what is to be said of a step without an exchange
	Took      time.Duration
	Tries     int      // where it was tried again; 0 for one
	Hints     []string // filled in by whoever explains; see package hint
	Response  string   // what the service says is wrong, in one line
}

// Context is what explains an exchange beside the exchange itself.
type Context struct {
	Service   string
	Login     string // the login used; empty for none
	LoginKind string
	Spoilt    string // how its token was spoilt on purpose; empty when it was not
	Token     *login.Token
	LoginFail *login.Error
	SOAP      string            // the version sent; empty for none
	Paths     []string          // the paths of the service's operations
	Sources   map[string]string // filled field: where its value came from
	Filled    map[string]string // filled field: the value that was sent
	BodyKind  string            // text, file, … as the step gave the body
	Row       string            // file and number of the row, where there is one
}

// Last returns the last exchange of the step, or nil.
func (s *Step) Last() *exchange.Record {
	if len(s.Exchanges) == 0 {
		return nil
	}
	return s.Exchanges[len(s.Exchanges)-1]
}

// ChecksSoft counts the checks that failed and let the step pass.
func (s *Step) ChecksSoft() int {
	soft := 0
	for _, c := range s.Checks {
		if s.Outcome == Passed && !c.Passed {
			soft++
		}
	}
	return soft
}

// ChecksFailed counts the checks that failed.
func (s *Step) ChecksFailed() int {
	count := 0
	for _, c := range s.Checks {
		if c.Judged && !c.Passed {
			count++
		}
	}
	return count
}

// Row is what came of one row.
type Row struct {
	Number    int            // from 1; 0 for a sheet without rows, and for first and last
	Iteration int            // from 1 where the rows are repeated; else 0
	Label     string         // the value that names the row
	Column    string         // the column it is from
	Inputs    *document.Node // its values, by the columns; nil for a sheet without rows
	Phase     string         // "first", "last", or empty
	Steps     []*Step
	Outcome   Outcome
	Took      time.Duration
	// Late is how long after its turn came the row was begun, where a rate says when
	// that is.
	Late time.Duration
}

// Planned is a step as it is known before it is run.
type Planned struct{ Name, Target string }

// Sheet is what came of one sheet.
type Sheet struct {
	Name, File, About, Site string
	Plan                    []Planned // the steps that there are
	RowCount                int       // how many rows there are to run; 0 without rows or where that is not known
	Total                   int       // how many rows are run, with all turns, as far as it is known
	Repeated                bool      // rows are run more than once, or by a rate
	Rows                    []*Row    // empty where the run is to forget them
	Counts                  Counts
	Times                   []*history.Times // how long the exchanges of each step took
	Checks                  []history.Check  // of the sheet as a whole
	Limits                  []history.Limit  // what is expected of the times
	Notes                   []string         // what is to be known of the times
	Table                   [][2]string      // the columns of results as a table; empty for all
	Started                 time.Time        // when the first row was begun; zero for none
	Running                 time.Duration    // from then to the end of the last row
	Outcome                 Outcome
	Took                    time.Duration
}

// Run is what came of a run.
type Run struct {
	// Lost tells why it was not recorded to its end; empty where it was, or was not to be.
	Lost    string
	Run     string // its id
	Number  int    // in the history; 0 where it is not there
	Bench   string
	Started time.Time
	Took    time.Duration
	Sheets  []*Sheet
	Outcome Outcome
	// Exit is the exit status that the bench gives to what failed, 0 for none; ExitFor says what that was, and where.
	Exit    int
	ExitFor string
	Notes   []string // loud ones: certificates unchecked, tokens not given back
	Masker  *secret.Masker
	// Finished leads to everything that a report has, also to rows that are not kept.
	Finished history.Finished
	// Total is the whole of a run that was gone on with; nil for others.
	Total *history.Run
}

// Close deletes the record.
func (r *Run) Close() error {
	if closer, ok := r.Finished.(io.Closer); ok {
		return closer.Close()
	}
	return nil
}

// Counts sums a run up.
type Counts = history.Counts

// Counts counts what is in a row.
func (r *Row) Counts() Counts {
	var c Counts
	c.AddRow(r.Phase, string(r.Outcome))
	for _, step := range r.Steps {
		judged := 0
		for _, check := range step.Checks {
			if check.Judged {
				judged++
			}
		}
		c.AddStep(string(step.Outcome), judged, step.ChecksFailed(), len(step.Exchanges)+len(step.Logins))
	}
	return c
}

// Counts counts sheets, rows, steps, checks and exchanges.
func (r *Run) Counts() Counts {
	if r.Total != nil {
		return r.Total.Counts
	}
	var c Counts
	for _, sheet := range r.Sheets {
		c.Add(sheet.Counts)
	}
	return c
}

// ExitStatus is the exit status that goes with the outcome.
func (o Outcome) ExitStatus() int {
	return map[Outcome]int{
		Passed: 0, Failed: 1, NotRun: 1, Errored: 2, LoginFailed: 3, Unreachable: 3, Interrupted: 130,
	}[o]
}

// ExitStatus is the exit status that goes with the run.
func (r *Run) ExitStatus() int {
	if r.Exit > 0 && r.Outcome != Interrupted {
		return r.Exit
	}
	return r.Outcome.ExitStatus()
}

// OfLogin is the outcome of what a login kept from being sent.
func OfLogin(failure *login.Error) Outcome {
	switch {
	case failure.Record != nil && failure.Record.Failure != nil:
		return Unreachable
	case failure.Record == nil && !failure.Asked:
		return Errored // nobody was asked: a secret or a setting is wrong
	}
	return LoginFailed
}

// NotSent says why the request of a step was not sent, or not to its end.
func (s *Step) NotSent(ctx context.Context, err error) {
	s.Outcome, s.Reason = Unreachable, err.Error()
	if errors.As(err, &s.Context.LoginFail) {
		s.Outcome = OfLogin(s.Context.LoginFail)
	}
	if ctx.Err() != nil {
		s.Outcome, s.Reason = Interrupted, "interrupted"
	}
}
