package testbench

import (
	"time"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// Result is what came of a run.
type Result struct {
	Number  int // in the history; 0 where it is in none
	Outcome Outcome
	Started time.Time
	Took    time.Duration
	Sheets  []SheetResult
	Notes   []string // as that a token could not be given back; may be nil
}

// SheetResult is what came of a sheet.
type SheetResult struct {
	Name, File, Site string
	Outcome          Outcome
	Rows             []RowResult // those of steps before and after the rows, too
	Checks           []Check     // of the sheet as a whole: its times, that it has rows; may be nil
}

// RowResult is what came of a row. A sheet without rows has one.
type RowResult struct {
	Number    int    // from 1; 0 for the only row, and for steps before and after the rows
	Iteration int    // from 1, where rows are repeated; else 0
	Label     string // what names the row in output; may be empty
	Phase     string // first or last, for steps before and after the rows; else empty
	Outcome   Outcome
	Steps     []StepResult
}

// Name says which row it is, as row 2 · L-2208; it is empty for the only one.
func (r *RowResult) Name() string {
	return (&history.Row{Number: r.Number, Iteration: r.Iteration, Label: r.Label, Phase: r.Phase}).Name()
}

// StepResult is what came of a step or of a call.
type StepResult struct {
	Name, Target string
	Outcome      Outcome
	Reason       string // why it was not run, or could not be carried out; may be empty
	Checks       []Check
	Kept         []string   // the names of what it kept; may be nil
	Exchanges    []Exchange // the last one is that which was judged; nil where nothing was sent
	Hints        []string   // what to try, where it failed; may be nil
	Notes        []string   // what else is to be said; may be nil
	Failures     []string   // what failed and what to try, in lines as the command shows them
}

// Check is one thing that was judged.
type Check struct {
	Kind     string // expect, field, where, keep, contract and the like
	Subject  string // status, a path, a condition, a kept name
	Passed   bool
	Judged   bool // false where an earlier failure made judging it pointless
	Expected string
	Got      string
	Where    string // the place that failed, where it is not the subject; else empty
	Note     string // may be empty
}

// Compared says in words what was expected and what came: "expected over 5, got 3".
func (c Check) Compared() string { return history.Compared(c.Expected, c.Got) }

// Exchange is one exchange of HTTP, with secrets masked.
type Exchange struct {
	Method, URL   string
	RequestHeader map[string][]string
	RequestBody   string // up to 1 MiB of it, as that of the answer
	Status        int    // 0 where no answer came
	Header        map[string][]string
	Body          string
	Failure       string // why no answer came; empty where one did
	Started       time.Time
	Took          time.Duration
}

func resultOf(r *result.Run) *Result {
	run := r.Memory()
	out := &Result{
		Number: run.Head.Number, Outcome: Outcome(run.Head.Outcome), Started: run.Head.Started,
		Took: seconds(run.Head.Seconds), Notes: plainTexts(run.Head.Notes),
	}
	for i, s := range run.Head.Sheets {
		sheet := SheetResult{
			Name: s.Sheet, File: s.File, Site: s.Site, Outcome: Outcome(s.Outcome),
			Checks: checksOf(s.Checks),
		}
		for _, row := range run.Each[i] {
			sheet.Rows = append(sheet.Rows, rowOf(row))
		}
		out.Sheets = append(out.Sheets, sheet)
	}
	return out
}

func rowOf(r *history.Row) RowResult {
	out := RowResult{
		Number: r.Number, Iteration: r.Iteration, Label: r.Label, Phase: r.Phase,
		Outcome: Outcome(r.Outcome),
	}
	for _, s := range r.Steps {
		out.Steps = append(out.Steps, stepOf(s))
	}
	return out
}

func stepOf(s *history.Step) StepResult {
	out := StepResult{
		Name: s.Step, Target: s.Target, Outcome: Outcome(s.Outcome), Reason: string(s.Reason),
		Checks: checksOf(s.Checks), Kept: plainTexts(s.Kept), Hints: plainTexts(s.Hints), Notes: plainTexts(s.Notes),
	}
	if out.Outcome != Passed && out.Outcome != NotRun {
		out.Failures = plainTexts(report.Lines(s))
	}
	for _, e := range s.Exchanges {
		out.Exchanges = append(out.Exchanges, exchangeOf(e))
	}
	return out
}

func checksOf(checks []history.Check) []Check {
	var out []Check
	for _, c := range checks {
		out = append(out, Check{
			Kind: c.Kind, Subject: string(c.Subject), Passed: c.Passed, Judged: c.Judged,
			Expected: string(c.Expected), Got: string(c.Got), Where: string(c.Where), Note: string(c.Note),
		})
	}
	return out
}

func exchangeOf(e history.Exchange) Exchange {
	return Exchange{
		Method: e.Request.Method, URL: string(e.Request.Address), RequestHeader: plainHeader(e.Request.Headers),
		RequestBody: string(e.Request.Body),
		Status:      e.Status, Header: plainHeader(e.Headers), Body: string(e.Body), Failure: string(e.Failure),
		Started: e.Started, Took: seconds(e.Milliseconds / 1000),
	}
}

func plainHeader(headers map[string][]secret.Text) map[string][]string {
	out := map[string][]string{}
	for name, values := range headers {
		out[name] = plainTexts(values)
	}
	return out
}

func plainTexts(texts []secret.Text) []string {
	var out []string
	for _, t := range texts {
		out = append(out, string(t))
	}
	return out
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
