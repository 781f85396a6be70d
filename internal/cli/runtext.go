package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/secret"
	"testbench/internal/workbench"
)

// newObserver shows a run as it goes on: for people, or as a line of JSON an event.
func newObserver(s *session, o *runOptions) workbench.Observer {
	if s.common.json {
		return &jsonRun{session: s}
	}
	return &textRun{session: s, show: o.show, asked: o.tell, during: o.during}
}

// How much of a run is told.
const (
	tellSteps      = "steps"    // each step
	tellRows       = "rows"     // a line each row, and the steps of those that failed
	detailFailures = "failures" // what failed
	detailSummary  = "summary"  // nothing as it goes on, and what came of it at the end
)

// Up to so many rows, each step is told, or each row.
const (
	mostTold     = 25
	mostRowsTold = 500
)

// textRun shows a run for people.
type textRun struct {
	*session
	show, asked  string
	during       time.Duration
	level        string
	name, target int  // widths of columns
	isDense      bool // no more than a line of a sheet that passed
	// failures are those of the sheet: the same one is told once, and counted.
	failures report.Failures
	// told is the step of a dry run whose request was shown last.
	told string
}

func (r *textRun) SheetStarted(sheet *workbench.SheetResult) {
	r.level, r.failures = r.asked, report.Failures{}
	switch {
	case r.level != "":
	case sheet.Total > mostRowsTold || sheet.Repeated && sheet.Total == 0:
		r.level = detailFailures
	case sheet.Total > mostTold:
		r.level = tellRows
	default:
		r.level = tellSteps
	}
	if sheet.Total > 1 || sheet.Repeated {
		r.tell.startBar(sheet.Name, sheet.Total, r.during)
	}
	r.name, r.target = 4, 6
	for _, p := range sheet.Plan {
		r.name = max(r.name, len([]rune(p.Name)))
		r.target = max(r.target, len([]rune(p.Target)))
	}
	// What is left of the line belongs to status, time and outcome.
	const rest = 2 + 2 + 2 + 3 + 2 + 8 + 3 + 20
	free := max(min(r.tell.width, 160)-rest, 30)
	if r.name+r.target > free {
		r.name = min(r.name, max(free*2/5, 12))
		r.target = min(r.target, free-r.name)
	}
}

func (r *textRun) RowStarted(sheet *workbench.SheetResult, row *workbench.RowResult) {
	r.told = ""
	if r.level == tellSteps {
		r.head(sheet, row)
	}
}

func rowWords(t *printer, sheet *workbench.SheetResult, row *workbench.RowResult) string {
	words := row.Phase
	if row.Phase == "" && row.Number > 0 {
		words = fmt.Sprintf("row %d", row.Number)
		if sheet.RowCount > 0 {
			words += fmt.Sprintf(" of %d", sheet.RowCount)
		}
		if row.Label != "" {
			words += fmt.Sprintf(" (%s %s)", t.oneLine(row.Column), t.oneLine(row.Label))
		}
	}
	if row.Iteration > 0 {
		words = strings.TrimPrefix(fmt.Sprintf("%s, turn %d", words, row.Iteration), ", ")
	}
	return words
}

func (r *textRun) head(sheet *workbench.SheetResult, row *workbench.RowResult) {
	t := r.tell
	dot := t.sign(" · ", " - ")
	head := t.in(bold, t.visible(sheet.Name)) + dot + "site " + t.visible(sheet.Site)
	if words := rowWords(t, sheet, row); words != "" {
		head += dot + words
	}
	t.printf("%s\n", head)
}

func (r *textRun) StepDone(_ *workbench.SheetResult, _ *workbench.RowResult, step *workbench.StepResult) {
	if r.level == tellSteps {
		r.step(step)
	}
}

func (r *textRun) RowDone(sheet *workbench.SheetResult, row *workbench.RowResult) {
	t := r.tell
	failed := row.Outcome != workbench.Passed && row.Outcome != workbench.NotRun
	switch {
	case r.level == tellSteps || r.level == detailSummary:
	case failed && r.isNew(sheet, row):
		r.head(sheet, row)
		for _, step := range row.Steps {
			r.step(step)
		}
	case r.level == tellRows:
		style := green
		if failed {
			style = red
		}
		t.printf("%s%s%s  %s  %s\n", t.visible(sheet.Name), t.sign(" · ", " - "), rowWords(t, sheet, row),
			milliseconds(row.Took), t.in(style, fmt.Sprintf("%s %d", row.Outcome, len(row.Steps))))
	}
	t.stepBar(row.Outcome != workbench.Passed && row.Outcome != workbench.NotRun)
}

// isNew says whether something failed in a row in a way in which nothing did in the rows before.
func (r *textRun) isNew(sheet *workbench.SheetResult, row *workbench.RowResult) bool {
	of := &history.Sheet{Sheet: sheet.Name, File: sheet.File, Site: sheet.Site}
	as := &history.Row{Number: row.Number, Iteration: row.Iteration, Label: row.Label, Phase: row.Phase}
	isNew := false
	for _, step := range row.Steps {
		if told := step.Told(r.masker); told.Failures() {
			one := r.failures.Add(of, as, told)
			isNew = isNew || one != nil && one.Count == 1
		}
	}
	if isNew {
		return true
	}
	for _, step := range row.Steps {
		isToldBefore(r.session, step) // it counts
	}
	return false
}

// counted tells how often failures came again that were told once.
func (r *textRun) counted() {
	for _, one := range r.failures.List {
		if one.Count > 1 && !one.IsDown() {
			r.tell.printf("%s\n", r.tell.wrap(fmt.Sprintf("the same in all of these: %s, in %s (report last -all "+
				"shows each)", one.Title(), one.Where()), r.tell.width, 2))
		}
	}
	if r.failures.More > 0 {
		r.tell.printf("  and %s in further ways\n", count(r.failures.More, "step"))
	}
}

func (r *textRun) RecordLost(err error) {
	r.tell.note("note: the run is not recorded from here on: %s", r.tell.message(err.Error()))
}

func (r *textRun) SheetDone(sheet *workbench.SheetResult) {
	t := r.tell
	t.endBar()
	if r.level == detailSummary {
		return
	}
	r.counted()
	if r.level == detailFailures {
		dot := t.sign(" · ", " - ")
		c := sheet.Counts
		sum := t.in(bold, t.visible(sheet.Name)) + dot + "site " + t.visible(sheet.Site) + dot + count(c.Rows, "row") +
			dot + t.in(green, fmt.Sprintf("%d passed", c.RowsPassed))
		if c.RowsFailed > 0 {
			sum += dot + t.in(red, fmt.Sprintf("%d failed", c.RowsFailed))
		}
		t.printf("%s\n", sum)
	} else if len(sheet.Checks) > 0 && sheet.Counts.Steps == 0 {
		r.head(sheet, &workbench.RowResult{})
	}
	if r.isDense && sheet.Outcome == workbench.Passed {
		return
	}
	if sheet.Repeated || len(sheet.Checks) > 0 || sheet.Counts.Rows > mostTold {
		r.times(sheet)
	}
	r.tell.printf("\n")
}

// demoRun shows the first sheet in full, and of the others a line each and what failed.
type demoRun struct{ *textRun }

func (r *demoRun) SheetDone(sheet *workbench.SheetResult) {
	r.textRun.SheetDone(sheet)
	r.asked, r.isDense = detailFailures, true
}

// times shows how long the exchanges of each step took, and what is said of that.
func (r *textRun) times(sheet *workbench.SheetResult) {
	t := r.tell
	// Where each step is one exchange, one number says it.
	more := slices.ContainsFunc(sheet.Times, func(one *history.Times) bool {
		return one.Exchanges != one.Count || one.Tries != one.Count
	})
	counts := map[bool]string{true: "exchanges  tries  "}[more]
	if len(sheet.Times) > 0 {
		t.printf("%s  %s\n", t.fit("times", r.name+2),
			t.in(faint, "steps  "+counts+"  per s       p50       p90       p95       p99       max"))
	}
	for _, one := range sheet.Times {
		line := fmt.Sprintf("  %s  %5d", t.fitItem(one.Step, r.name), one.Count)
		if more {
			line += fmt.Sprintf("  %9d  %5d", one.Exchanges, one.Tries)
		}
		line += fmt.Sprintf("  %7.1f", one.PerSecond)
		for _, ms := range []float64{one.P50, one.P90, one.P95, one.P99, one.Max} {
			line += fmt.Sprintf("  %8s", milliseconds(time.Duration(ms*float64(time.Millisecond))))
		}
		t.printf("%s\n", line)
	}
	for _, c := range sheet.Checks {
		checkOfSheet(t, c)
	}
	for _, note := range sheet.Notes {
		t.note("%s", t.wrap("note: "+sheet.Name+": "+note, t.width, 0))
	}
}

// checkOfSheet shows a check of a sheet as a whole.
func checkOfSheet(t *printer, c history.Check) { t.printf("%s\n", checkLineOfSheet(t, c)) }

func checkLineOfSheet(t *printer, c history.Check) string {
	outcome := t.in(green, "passed")
	if !c.Passed {
		outcome = t.in(red, "failed")
	}
	return fmt.Sprintf("  %s  %s   %s", t.visible(string(c.Subject)),
		t.visible(string(history.Compared(c.Expected, c.Got))), outcome)
}

// failedOfSheets says for a summary what failed of sheets as a whole; nothing where all passed.
func failedOfSheets(t *printer, checks []history.Check) []string {
	var parts []string
	times, rows := history.FailedOfSheets(checks)
	if times > 0 {
		parts = append(parts, t.in(red, count(times, "limit")+" of times failed"))
	}
	if rows > 0 {
		parts = append(parts, t.in(red, count(rows, "sheet")+" without rows"))
	}
	return parts
}

func (r *textRun) step(step *workbench.StepResult) {
	t := r.tell
	if r.told != "" && r.told == step.Name && (step.Outcome == workbench.Passed || step.Outcome == workbench.NotRun) {
		return // all that a dry run has to say of it is said
	}
	lead := "  " + t.fitItem(step.Name, r.name) + "  "
	if step.Outcome == workbench.NotRun {
		t.printf("%s%s\n", lead, t.in(faint, t.visible("not run: "+step.Reason)))
		return
	}
	status := "   "
	if record := step.Last(); record != nil && record.Answer != nil {
		status = fmt.Sprintf("%3d", record.Answer.Status)
	}
	took := ""
	if len(step.Exchanges) > 0 && step.Last().Phases.Total > 0 {
		took = milliseconds(step.Last().Phases.Total)
	}
	if strings.HasPrefix(step.Target, "lookup ") {
		took = milliseconds(step.Took)
	}
	t.printf("%s%s  %s  %8s   %s\n", lead, t.fit(step.Target, r.target), status, took, verdictOf(r.tell, step))
	if !isToldBefore(r.session, step) {
		showDetails(r.session, step)
	}
	if step.Got != "" && step.Outcome == workbench.Passed && (r.show == "received" || r.show == "all") {
		t.printf("%s\n", t.wrap("found: "+step.Got, t.width, 6))
	}
	if record := step.Last(); record != nil && r.show != "" {
		showExchange(r.session, record, step, r.show == "sent" || r.show == "all", r.show == "received" ||
			r.show == "all", true)
	}
}

// isToldBefore says whether an earlier step reached nobody for the same reason: a service that is
// down is explained once, and counted after.
func isToldBefore(s *session, step *workbench.StepResult) bool {
	if step.Outcome != workbench.Unreachable && step.Outcome != workbench.LoginFailed {
		return false
	}
	reason := step.Told(s.masker).Reason
	for i := range s.gone {
		if s.gone[i].reason == reason {
			s.gone[i].steps++
			return true
		}
	}
	s.gone = append(s.gone, goneService{reason, 1})
	return false
}

// goneService is why steps reached nobody, and how many did not.
type goneService struct {
	reason secret.Text
	steps  int
}

func verdictOf(t *printer, step *workbench.StepResult) string {
	switch step.Outcome {
	case workbench.Passed:
		switch all, soft := len(step.Checks), step.ChecksSoft(); {
		case soft > 0:
			return t.in(green, fmt.Sprintf("%d of %d checks passed", all-soft, all))
		case all > 0:
			return t.in(green, count(all, "check")+" passed")
		}
		return t.in(green, "done")
	case workbench.Failed:
		return t.in(red, fmt.Sprintf("failed %d of %d", step.ChecksFailed(), len(step.Checks)))
	case workbench.Interrupted:
		return t.in(red, "interrupted")
	}
	return t.in(red, string(step.Outcome))
}

// showDetails says why a step failed: expected and got, what the service says,
// and what to try.
func showDetails(s *session, step *workbench.StepResult) {
	t := s.tell
	told := step.Told(s.masker)
	line := func(text secret.Text) { t.printf("%s\n", t.wrap(string(text), t.width, 6)) }
	if told.Reason != "" && step.Outcome != workbench.Passed && step.Outcome != workbench.Interrupted {
		line(told.Reason)
	}
	for _, c := range told.Checks {
		if !c.Judged || c.Passed {
			continue
		}
		line(report.CheckLine(c))
		if c.Note != "" {
			t.printf("%s\n", t.wrap(string(c.Note), t.width, 8))
		}
	}
	if told.Response != "" {
		line(told.Response)
	}
	for _, text := range told.Hints {
		line("try: " + text)
	}
	if told.Got != "" && step.Outcome == workbench.Failed {
		line("found: " + told.Got)
	}
	notes := told.Notes
	if record := step.Last(); record != nil {
		notes = append(notes, s.masker.Messages(record.Notes)...)
	}
	for _, note := range notes {
		line("note: " + note)
	}
}

func (r *textRun) WouldSend(_ *workbench.RowResult, step *workbench.StepResult, request *exchange.Request,
	reason string,
) {
	t := r.tell
	r.told = step.Name
	if request == nil {
		t.printf("  %s  %s\n", t.fitItem(step.Name, r.name), t.in(faint, t.visible("not known yet: "+reason)))
		return
	}
	t.printf("  %s  %s\n", t.fitItem(step.Name, r.name), t.fit(step.Target, r.target))
	s := r.session
	showRequest(s, request, 6)
}
