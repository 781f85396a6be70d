// Package history keeps what runs came to: every row that was finished is in a
// database in the bench folder before anybody is told of it, so that a run that is cut
// down can be read and gone on with. Nothing in it is secret: what it takes is masked
// already. The types are the form in which a finished run is known to reports; the
// package knows nothing of how sheets are run.
package history

import (
	"cmp"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/secret"
)

// Run is a run as it is known when it is over, but for its rows.
type Run struct {
	Number  int       `json:"number,omitempty"` // in the history; 0 where it is in none
	ID      string    `json:"run"`
	Bench   string    `json:"bench"`
	Started time.Time `json:"started"`
	Seconds float64   `json:"seconds"`
	Outcome string    `json:"outcome"`
	// Ended is false for an interrupted run, or one that goes on.
	Ended bool   `json:"ended"`
	Share string `json:"share,omitempty"` // I/N
	Of    string `json:"of,omitempty"`    // the run that a share belongs to, as whoever started it calls it
	// Broken tells why the run is not whole: it was interrupted, or shares are missing.
	Broken []string      `json:"broken,omitempty"`
	Counts Counts        `json:"counts"`
	Notes  []secret.Text `json:"notes,omitempty"`
	Sheets []*Sheet      `json:"sheets"`
	Order  RunRequest    `json:"order"`
}

// Order is what was asked for, as far as going on with it needs.
type RunRequest struct {
	Files  []string      `json:"files"`
	Site   string        `json:"site,omitempty"`
	Write  string        `json:"write,omitempty"`
	Steps  []string      `json:"steps,omitempty"`
	Tags   []string      `json:"tags,omitempty"`
	Rows   [][2]int      `json:"rows,omitempty"`
	Repeat int           `json:"turns,omitempty"`
	For    time.Duration `json:"for,omitempty"`
	Rate   float64       `json:"rate,omitempty"`
	Jobs   int           `json:"jobs,omitempty"`
	Set    bool          `json:"set,omitempty"` // values were set on the command line
	// Inputs are the digests of all that decides what is run and how it is judged: the
	// bench, the sheets, their rows, the files and contracts that they name, and the values
	// that were set.
	Inputs map[string]string `json:"inputs,omitempty"`
}

// Sheet is what came of a sheet, but for its rows.
type Sheet struct {
	Sheet    string   `json:"sheet"`
	File     string   `json:"file"`
	About    string   `json:"about,omitempty"`
	Site     string   `json:"site"`
	Outcome  string   `json:"outcome"`
	Seconds  float64  `json:"seconds"`
	RowCount int      `json:"rows to run,omitempty"`
	Counts   Counts   `json:"counts"`
	Times    []*Times `json:"times,omitempty"`
	Checks   []Check  `json:"checks,omitempty"` // of the sheet as a whole
	Limits   []Limit  `json:"limits,omitempty"`
	// Table are the columns of results as a table: pairs of a name and what it is; empty for all.
	Table [][2]string `json:"table,omitempty"`
	// Notes say what is to be known of its times: that a rate was not reached, that the machine was busy.
	Notes []string `json:"notes,omitempty"`
	// Started is when the first of its rows was begun, and Running for how many seconds
	// rows were run.
	Started time.Time `json:"started,omitzero"`
	Running float64   `json:"running,omitempty"`
}

// HasSheets says whether the run was one of sheets, and not a call or a probe.
func (r *Run) HasSheets() bool {
	return slices.ContainsFunc(r.Sheets, func(s *Sheet) bool { return s.File != "" })
}

// ResultColumns are the columns of results as a table beside those of the rows and what steps keep: which row it
// is, and what came of it.
var ResultColumns = []string{"sheet", "row", "outcome", "message", "milliseconds", "run", "moment"}

// Row is what came of a row.
type Row struct {
	Number    int    `json:"row,omitempty"`
	Iteration int    `json:"turn,omitempty"` // from 1, where rows are repeated
	Label     string `json:"label,omitempty"`
	Column    string `json:"column,omitempty"`
	// Inputs are the values of the row by its columns, in their order: pairs of a name and a value, which is cut
	// where it is long.
	Inputs  [][2]secret.Text `json:"inputs,omitempty"`
	Phase   string           `json:"phase,omitempty"`
	Outcome string           `json:"outcome"`
	Seconds float64          `json:"seconds,omitempty"`
	// Late is by how many milliseconds the row was begun after its turn, where a rate says
	// when that is.
	Late  float64 `json:"late,omitempty"`
	Steps []*Step `json:"steps"`
}

// Name says which row it is, "" for the only one.
func (r *Row) Name() string {
	name := r.Phase
	if r.Number > 0 && r.Phase == "" {
		name = fmt.Sprintf("row %d", r.Number)
		if r.Label != "" {
			name += " · " + r.Label
		}
	}
	if r.Iteration > 0 {
		if name != "" {
			name += " · "
		}
		name += fmt.Sprintf("turn %d", r.Iteration)
	}
	return name
}

// Step is what came of a step.
type Step struct {
	Step    string        `json:"step"`
	Service string        `json:"service,omitempty"` // of the bench; empty where none is called
	Target  string        `json:"target"`
	About   string        `json:"about,omitempty"`
	Outcome string        `json:"outcome"`
	Reason  secret.Text   `json:"reason,omitempty"`
	Status  int           `json:"status,omitempty"` // of the last exchange
	Seconds float64       `json:"seconds"`
	Started time.Time     `json:"started,omitzero"`       // of the last exchange
	Millis  float64       `json:"milliseconds,omitempty"` // of the last exchange
	Checks  []Check       `json:"checks,omitempty"`
	Judged  int           `json:"judged,omitempty"` // how many checks, where they are not listed
	Tries   int           `json:"tries,omitempty"`  // where it was tried again; 0 for one
	Kept    []secret.Text `json:"kept,omitempty"`
	// Values are what was kept, by the names: single values as they are, others as JSON; cut where they are long.
	Values    map[string]secret.Text `json:"values,omitempty"`
	Got       secret.Text            `json:"got,omitempty"` // what was found, where no exchange shows it
	Notes     []secret.Text          `json:"notes,omitempty"`
	Response  secret.Text            `json:"response,omitempty"`
	Hints     []secret.Text          `json:"hints,omitempty"`
	Exchanges []Exchange             `json:"exchanges,omitempty"`
	Logins    []Exchange             `json:"logins,omitempty"`
	// Sent is how many exchanges there were, where they are not listed.
	Sent int `json:"sent,omitempty"`
}

// Check is one thing that was judged.
type Check struct {
	Kind     string      `json:"kind"`
	Subject  secret.Text `json:"subject"`
	Passed   bool        `json:"passed"`
	Judged   bool        `json:"judged"`
	Expected secret.Text `json:"expected,omitempty"`
	Got      secret.Text `json:"got,omitempty"`
	Where    secret.Text `json:"where,omitempty"`
	Note     secret.Text `json:"note,omitempty"`
}

// Compared says in words what was expected and what came instead.
func Compared[T ~string](expected, got T) T {
	switch {
	case strings.HasPrefix(string(got), "condition is") || strings.HasPrefix(string(got), "cannot be evaluated"):
		return got // it says itself what was expected
	case got == "missing":
		return "expected " + expected + ", missing"
	case expected == "":
		return "got " + got
	}
	return "expected " + expected + ", got " + got
}

// Exchange is one HTTP exchange.
type Exchange struct {
	Request      *Request                 `json:"request"`
	Status       int                      `json:"status,omitempty"`
	Reason       secret.Text              `json:"reason,omitempty"`
	Protocol     string                   `json:"protocol,omitempty"`
	Headers      map[string][]secret.Text `json:"headers,omitempty"`
	Body         secret.Text              `json:"body,omitempty"`
	Failure      secret.Text              `json:"failure,omitempty"`
	Started      time.Time                `json:"started"`
	Milliseconds float64                  `json:"milliseconds"`
	Phases       map[string]float64       `json:"phases,omitempty"` // milliseconds
	TLS          *exchange.TLS            `json:"tls,omitempty"`
	Notes        []secret.Text            `json:"notes,omitempty"`
	// ReadAs is the media type as which the body is read, whatever its Content-Type says; empty for that.
	ReadAs string `json:"readAs,omitempty"`
}

// MediaType is what the body of the answer is read as. It is empty for one without a type.
func (e *Exchange) MediaType() string {
	return cmp.Or(e.ReadAs, string(Field(e.Headers, "Content-Type")))
}

// StatusLine is the first line of the answer.
func (e *Exchange) StatusLine() secret.Text {
	line := secret.Plain(fmt.Sprintf("%s %d", e.Protocol, e.Status)) + " " + e.Reason
	return line.Map(strings.TrimSpace)
}

// Field gives the first value of a header field, "" where it is not there.
func Field(headers map[string][]secret.Text, name string) secret.Text {
	for one, values := range headers {
		if strings.EqualFold(one, name) && len(values) > 0 {
			return values[0]
		}
	}
	return ""
}

// Request is a request as it may be shown.
type Request struct {
	Method  string                   `json:"method"`
	Address secret.Text              `json:"address"`
	Headers map[string][]secret.Text `json:"headers,omitempty"`
	Body    secret.Text              `json:"body,omitempty"`
	// Signed are the texts that signatures of the request were made over.
	Signed []secret.Text `json:"signed,omitempty"`
}

// MediaType is the Content-Type of the request, "" for none.
func (r *Request) MediaType() string { return string(Field(r.Headers, "Content-Type")) }

// Counts sum rows, steps, checks and exchanges up. A sheet without rows counts as one.
type Counts struct {
	Sheets       int `json:"sheets"`
	Rows         int `json:"rows"`
	RowsPassed   int `json:"rowsPassed"`
	RowsFailed   int `json:"rowsFailed"`
	Steps        int `json:"steps"`
	StepsPassed  int `json:"stepsPassed"`
	StepsFailed  int `json:"stepsFailed"`
	StepsNotRun  int `json:"stepsNotRun"`
	Checks       int `json:"checks"`
	ChecksFailed int `json:"checksFailed"`
	Exchanges    int `json:"exchanges"`
}

// Add adds other counts.
func (c *Counts) Add(o Counts) {
	c.Sheets += o.Sheets
	c.Rows += o.Rows
	c.RowsPassed += o.RowsPassed
	c.RowsFailed += o.RowsFailed
	c.Steps += o.Steps
	c.StepsPassed += o.StepsPassed
	c.StepsFailed += o.StepsFailed
	c.StepsNotRun += o.StepsNotRun
	c.Checks += o.Checks
	c.ChecksFailed += o.ChecksFailed
	c.Exchanges += o.Exchanges
}

// The outcomes as they are written.
const (
	passed = "passed"
	notRun = "not run"
)

// AddRow counts a row, unless it is one of steps before or after the rows.
func (c *Counts) AddRow(phase, outcome string) {
	if phase != "" {
		return
	}
	c.Rows++
	switch outcome {
	case passed:
		c.RowsPassed++
	case notRun:
	default:
		c.RowsFailed++
	}
}

// AddStep counts a step with how many of its checks were judged, how many of these failed, and how
// many exchanges it had.
func (c *Counts) AddStep(outcome string, judged, failed, exchanges int) {
	c.Steps++
	switch outcome {
	case passed:
		c.StepsPassed++
	case notRun:
		c.StepsNotRun++
	default:
		c.StepsFailed++
	}
	c.Checks += judged
	c.ChecksFailed += failed
	c.Exchanges += exchanges
}

// Counts counts what is in a row.
func (r *Row) Counts() Counts {
	var c Counts
	c.AddRow(r.Phase, r.Outcome)
	for _, step := range r.Steps {
		judged, failed := step.Judged, 0
		for _, check := range step.Checks {
			if !check.Judged {
				continue
			}
			if judged++; !check.Passed {
				failed++
			}
		}
		c.AddStep(step.Outcome, judged, failed, len(step.Exchanges)+len(step.Logins)+step.Sent)
	}
	return c
}

// Times are how long the exchanges of a step took.
type Times struct {
	Step string `json:"step"`
	// Count is how many steps there were; each has one exchange or more: further pages, further looks while
	// it waited, further tries.
	Count     int64   `json:"count"`
	Exchanges int64   `json:"exchanges,omitempty"`
	Tries     int64   `json:"tries,omitempty"`
	PerSecond float64 `json:"per second"`
	P50       float64 `json:"p50"` // milliseconds, as all that follow
	P90       float64 `json:"p90"`
	P95       float64 `json:"p95"`
	P99       float64 `json:"p99"`
	Max       float64 `json:"max"`
	// Few are the times in microseconds, in order, where there are 100 at most; of more there is the spread.
	Few []int64 `json:"microseconds,omitempty"`
	// Spread is the histogram of microseconds (HdrHistogram V2, compressed, Base64),
	// so that the times of several shares can be put together.
	Spread []byte `json:"spread,omitempty"`
	// Own is the same without the time by which rows were begun late; nil where none was.
	Own *OwnTimes `json:"own,omitempty"`
}

// OwnTimes are how long exchanges took from when they were begun, not from when they were due.
type OwnTimes struct {
	P50    float64 `json:"p50"` // milliseconds, as all that follow
	P95    float64 `json:"p95"`
	Max    float64 `json:"max"`
	Few    []int64 `json:"microseconds,omitempty"`
	Spread []byte  `json:"spread,omitempty"`
}

// The times that are told apart: from a microsecond to an hour, by three digits.
const (
	longest = int64(time.Hour / time.Microsecond)
	digits  = 3
)

// Finished is a run with a way to its rows: out of a database, a file or memory.
type Finished interface {
	Run() *Run
	// Rows goes through the rows of a sheet in their order: what was before them, they
	// themselves, what was after them.
	Rows(sheet int) iter.Seq2[*Row, error]
}

// Passed is a finished run in memory.
type MemoryRun struct {
	Head *Run
	Each [][]*Row // of each sheet
}

// Run is the run.
func (h *MemoryRun) Run() *Run { return h.Head }

// Rows goes through the rows of a sheet.
func (h *MemoryRun) Rows(sheet int) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		for _, row := range h.Each[sheet] {
			if !yield(row, nil) {
				return
			}
		}
	}
}

// Exchanges goes through the exchanges of a run in their order, with where they belong.
// One that is recorded without what was sent has no request.
func Exchanges(run Finished) iter.Seq2[*Source, *Exchange] {
	return func(yield func(*Source, *Exchange) bool) {
		for i, sheet := range run.Run().Sheets {
			for row, err := range run.Rows(i) {
				if err != nil {
					return
				}
				for _, step := range row.Steps {
					for j := range step.Exchanges {
						if !yield(&Source{sheet, row, step}, &step.Exchanges[j]) {
							return
						}
					}
					for range step.Sent {
						if !yield(&Source{sheet, row, step},
							&Exchange{Status: step.Status, Milliseconds: step.Millis}) {
							return
						}
					}
				}
			}
		}
	}
}

// Source is where an exchange comes from.
type Source struct {
	Sheet *Sheet
	Row   *Row
	Step  *Step
}

// Failures says whether a step failed.
func (s *Step) Failures() bool { return s.Outcome != passed && s.Outcome != notRun }

// EachFailed goes through the steps of a sheet that failed.
func EachFailed(run Finished, sheet int, tell func(row *Row, step *Step)) error {
	for row, err := range run.Rows(sheet) {
		if err != nil {
			return err
		}
		for _, step := range row.Steps {
			if step.Failures() {
				tell(row, step)
			}
		}
	}
	return nil
}

// Worst is the outcome of a whole, by those of its parts.
func Worst(a, b string) string {
	order := []string{"", notRun, passed, "failed", "login failed", "unreachable", "error", "interrupted"}
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}
