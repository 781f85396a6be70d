package report

import (
	"fmt"
	"strings"

	"testbench/internal/history"
	"testbench/internal/lazy"
	"testbench/internal/result"
)

// Failure is what made one or more steps fail in the same way, with the first of them.
type Failure struct {
	Sheet *history.Sheet
	Row   *history.Row
	Step  *history.Step // without its exchanges
	Count int           // how many steps
	Rows  []string      // where, the first of them; "" for a row without a name
	// Sheets and Steps are the names of all that it is of, the first of them.
	Sheets, Steps []string
	Number        int // of the first step, as whoever adds it counts
	key           string
}

// How many rows, sheets and steps of a failure are named.
const mostNamed = 5

// Failures puts what failed in the same way together. The zero value is ready to use.
type Failures struct {
	List []*Failure // in the order in which they came; at most mostFailed
	More int        // steps that failed in further ways
	all  map[string]*Failure
}

// Add takes a step that failed, and gives what it belongs to; nil where there are too many. It is the first
// of its kind where Count is 1.
func (f *Failures) Add(sheet *history.Sheet, row *history.Row, step *history.Step) *Failure {
	key := keyOf(sheet, step)
	one := f.all[key]
	if one == nil {
		if len(f.List) >= mostFailed {
			f.More++
			return nil
		}
		one = &Failure{Sheet: sheet, Row: row, Step: withoutExchanges(step), key: key}
		if f.all == nil {
			f.all = map[string]*Failure{}
		}
		f.all[key] = one
		f.List = append(f.List, one)
	}
	one.Count++
	one.Rows = addName(one.Rows, row.Name())
	one.Sheets = addName(one.Sheets, sheet.Sheet)
	one.Steps = addName(one.Steps, history.StepOf(step.Step))
	return one
}

// addName adds a name to some that are to be told, unless there are enough or it is there.
func addName(names []string, name string) []string {
	if len(names) > 0 && names[len(names)-1] == name || len(names) > mostNamed {
		return names
	}
	for _, other := range names {
		if other == name {
			return names
		}
	}
	return append(names, name)
}

// FailuresOf gathers what failed in a run.
func FailuresOf(run history.Finished) (*Failures, error) {
	f := &Failures{}
	for i, sheet := range run.Run().Sheets {
		err := history.EachFailed(run, i, func(row *history.Row, step *history.Step) { f.Add(sheet, row, step) })
		if err != nil {
			return nil, err
		}
	}
	return f, nil
}

// EachFailureOf gathers what failed in a run, each step by itself.
func EachFailureOf(run history.Finished) (*Failures, error) {
	all := &Failures{}
	for i, sheet := range run.Run().Sheets {
		err := history.EachFailed(run, i, func(row *history.Row, step *history.Step) {
			var one Failures
			one.Add(sheet, row, step)
			all.List = append(all.List, one.List...)
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// digits are what differs between failures that are the same but for the row.
var (
	digits  = lazy.Regexp(`\d+`)
	indexes = lazy.Regexp(`\[\d+\]`)
)

// keyOf says which failures are the same: what reached nobody hangs on the service and the reason, all else
// on the step, its status and which of its checks failed.
func keyOf(sheet *history.Sheet, step *history.Step) string {
	reason := digits().ReplaceAllString(string(step.Reason), "0")
	if isDown(step) {
		return strings.Join([]string{step.Outcome, sheet.Site, step.Service, reason}, "\x00")
	}
	parts := []string{
		step.Outcome, sheet.Site, sheet.File, sheet.Sheet, history.StepOf(step.Step),
		fmt.Sprint(step.Status), reason,
	}
	for _, c := range step.Checks {
		if c.Judged && !c.Passed {
			parts = append(parts, c.Kind, indexes().ReplaceAllString(string(c.Subject), "[*]"))
			if c.Kind == "contract" {
				parts = append(parts, digits().ReplaceAllString(string(c.Got), "0"))
			}
		}
	}
	return strings.Join(parts, "\x00")
}

// isDown says whether a step reached nobody, or got no login.
func isDown(step *history.Step) bool {
	return step.Outcome == string(result.Unreachable) || step.Outcome == string(result.LoginFailed)
}

// IsDown says whether it is that a service was not reached, or gave no login.
func (f *Failure) IsDown() bool { return isDown(f.Step) }

// Title names what failed: a step, or the service that was not reached by several.
func (f *Failure) Title() string {
	if isDown(f.Step) && len(f.Steps) > 1 && f.Step.Service != "" {
		return f.Step.Service
	}
	return f.Step.Step
}

// Where says of which sheets it is, and of how many steps and which rows where there are several.
func (f *Failure) Where() string {
	text := named(f.Sheets)
	switch {
	case f.Count == 1 && f.Row.Name() != "":
		return text + ", " + f.Row.Name()
	case f.Count == 1:
		return text
	case len(f.Steps) > 1 || len(f.Sheets) > 1:
		return fmt.Sprintf("%s; %d steps: %s", text, f.Count, named(f.Steps))
	case len(f.Rows) == 1 && f.Rows[0] == "":
		return fmt.Sprintf("%s, %d times", text, f.Count)
	case len(f.Rows) == 1:
		return fmt.Sprintf("%s, %s, %d times", text, f.Rows[0], f.Count)
	}
	return fmt.Sprintf("%s, %d rows: %s", text, f.Count, named(f.Rows))
}

// named lists the first of some names.
func named(names []string) string {
	if len(names) > mostNamed {
		return strings.Join(names[:mostNamed], ", ") + ", …"
	}
	return strings.Join(names, ", ")
}
