package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// limitsWithValues are the limits with the values of a site put in, as they are recorded.
func limitsWithValues(l *sheet.Limits, scope value.Scope) []history.Limit {
	if l == nil {
		return nil
	}
	var out []history.Limit
	for _, one := range l.All {
		out = append(out, history.Limit{Step: one.Step, Word: one.Word, Rule: one.Rule.FilledIn(scope)})
	}
	return out
}

// judgeLimits holds the times of the sheet against its limits, unless this is a part of the
// run: then whoever puts the parts together does. Steps that were left out on the command
// line have no times.
func (r *runner) judgeLimits(ctx context.Context) {
	if r.options.Dry || r.options.Share.N > 1 || ctx.Err() != nil {
		return
	}
	whole := &history.Sheet{Sheet: r.result.Name, Times: r.result.Times}
	for _, l := range r.result.Limits {
		if l.Step == "" || r.isChosen(l.Step) {
			whole.Limits = append(whole.Limits, l)
		}
	}
	for _, c := range whole.JudgeLimits() {
		r.addCheck(c)
	}
}

// What is said of a sheet that has no rows.
const (
	someRows = "at least one"
	noRows   = "none"
)

// judgeRows checks that there were rows, and those that were chosen: a sheet whose inputs are
// gone shows nothing.
func (r *runner) judgeRows(ctx context.Context) {
	o := r.options
	if r.sheet.Rows == nil || r.result.Counts.Rows > 0 || o.Share.N > 1 || r.work.Done != nil || o.Dry ||
		r.isOver(ctx) {
		return
	}
	check := history.Check{Kind: "expect", Subject: "rows", Judged: true, Expected: someRows, Got: noRows}
	if len(o.Rows) > 0 {
		total := r.sheet.RowCount()
		if total == 0 || slices.ContainsFunc(o.Rows, func(span [2]int) bool { return span[0] <= total }) {
			return
		}
		check.Expected = secret.Plain(fmt.Sprintf("row %d", o.Rows[0][0]))
		check.Got = secret.Plain(fmt.Sprintf("a table of %d rows", total))
	}
	r.addCheck(check)
}

// addCheck adds one that is of the sheet as a whole.
func (r *runner) addCheck(c history.Check) {
	r.result.Checks = append(r.result.Checks, c)
	r.result.Counts.Checks++
	if !c.Passed {
		r.result.Counts.ChecksFailed++
		r.result.Outcome = result.Worst(r.result.Outcome, result.Failed)
	}
}

// isChosen says whether the command line has a step run.
func (r *runner) isChosen(step string) bool {
	for _, one := range r.sheet.AllSteps() {
		isIt := one.Name == step || strings.HasPrefix(step, one.Name+":")
		if isIt {
			return r.options.isRun(one, r.sheet)
		}
	}
	return true
}
