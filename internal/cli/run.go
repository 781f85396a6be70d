package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"testbench"
	"testbench/internal/exchange"
	"testbench/internal/report"
)

type runOptions struct {
	steps list
	rows  string
	stop  bool
	dry   bool
	out   list
	show  string
}

func runCommand() *command {
	return &command{name: "run", group: "checking", purpose: "runs sheets and judges every answer", usage: "SHEET...", talks: true,
		examples: []string{"testbench run sheets/search.yaml", "testbench run sheets/*.yaml -out report.html -out junit.xml", "testbench run sheets/rows.yaml -rows 3-5 -show all"},
		options: func(f *flag.FlagSet) any {
			o := &runOptions{}
			f.Var(&o.steps, "step", "only the step of this `name`; may stand several times")
			f.StringVar(&o.rows, "rows", "", "only these `rows`: 3, 3-5, 1,4-6")
			f.BoolVar(&o.stop, "stop", false, "stop at the first step that falls short")
			f.BoolVar(&o.dry, "dry", false, "show every request and send nothing")
			f.Var(&o.out, "out", "a report into a `file`: .html, .xml (JUnit), .json; may stand several times")
			f.StringVar(&o.show, "show", "", "also show `what` was exchanged: sent, received or all")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.run(ctx, options.(*runOptions), args)
		}}
}

func (s *session) run(ctx context.Context, o *runOptions, files []string) (int, error) {
	if len(files) == 0 {
		return 0, usagef("testbench run sheets/*.yaml", "run which sheets?")
	}
	rows, err := parseRows(o.rows)
	if err != nil {
		return 0, err
	}
	switch o.show {
	case "", "sent", "received", "all":
	default:
		return 0, usagef("", "-show takes sent, received or all, not %q", o.show)
	}
	for _, file := range o.out {
		if err := report.CheckName(file); err != nil {
			return 0, usagef("", "-out: %v", err)
		}
	}
	if s.common.bench == "" {
		// A sheet belongs to the bench above it, wherever the program is run.
		if dir, err := benchAbove(files[0]); err == nil && dir != "" {
			s.common.bench = dir
		}
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	result, err := bench.Run(ctx, files, testbench.RunOptions{Options: s.options(), Steps: o.steps, Rows: rows, Stop: o.stop, Dry: o.dry,
		Observer: s.observer(o.show), Kill: s.kill})
	if err != nil {
		return 0, err
	}
	if o.dry {
		return ExitHeld, nil
	}
	s.summary(result)
	for _, file := range o.out {
		if err := report.WriteFile(file, result); err != nil {
			return 0, fmt.Errorf("the report: %w", err)
		}
		s.tell.note("written: %s", file)
	}
	if result.Outcome == testbench.NotRun {
		s.tell.note("nothing was run, so nothing held")
	}
	return result.Outcome.ExitStatus(), nil
}

// parseRows reads 3, 3-5 and lists of them.
func parseRows(text string) ([][2]int, error) {
	if text == "" {
		return nil, nil
	}
	var rows [][2]int
	for _, part := range strings.Split(text, ",") {
		first, last, isSpan := strings.Cut(strings.TrimSpace(part), "-")
		from, err := strconv.Atoi(first)
		to := from
		if err == nil && isSpan {
			to, err = strconv.Atoi(last)
		}
		if err != nil || from < 1 || to < from {
			return nil, usagef("-rows 3, -rows 3-5 or -rows 1,4-6", "%q names no rows", part)
		}
		rows = append(rows, [2]int{from, to})
	}
	return rows, nil
}

// observer shows a run as it goes on: for people, or as a line of JSON an event.
func (s *session) observer(show string) testbench.Observer {
	if s.common.json {
		return &jsonRun{session: s}
	}
	return &textRun{session: s, show: show}
}

// textRun shows a run for people.
type textRun struct {
	*session
	show         string
	name, target int // widths of columns
}

func (r *textRun) SheetStarted(sheet *testbench.SheetResult) {
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

func (r *textRun) RowStarted(sheet *testbench.SheetResult, row *testbench.RowResult) {
	t := r.tell
	dot := t.sign(" · ", " - ")
	head := t.in(bold, visible(sheet.Name)) + dot + "site " + visible(sheet.Site)
	switch {
	case row.Phase != "":
		head += dot + row.Phase
	case row.Number > 0:
		head += dot + fmt.Sprintf("row %d of %d", row.Number, sheet.RowCount)
		if row.Label != "" {
			head += fmt.Sprintf(" (%s %s)", visible(row.Column), visible(row.Label))
		}
	}
	t.printf("%s\n", head)
}

func (r *textRun) StepDone(_ *testbench.SheetResult, _ *testbench.RowResult, step *testbench.StepResult) {
	t := r.tell
	lead := "  " + fit(step.Name, r.name) + "  "
	if step.Outcome == testbench.NotRun {
		t.printf("%s%s\n", lead, t.in(faint, visible("not run: "+step.Reason)))
		return
	}
	status := "   "
	if record := step.Last(); record != nil && record.Answer != nil {
		status = fmt.Sprintf("%3d", record.Answer.Status)
	}
	took := ""
	if len(step.Exchanges) > 0 {
		took = milliseconds(step.Last().Phases.Total)
	}
	t.printf("%s%s  %s  %8s   %s\n", lead, fit(step.Target, r.target), status, took, r.verdict(step))
	r.details(step)
	if record := step.Last(); record != nil && r.show != "" {
		r.showExchange(record, step, r.show == "sent" || r.show == "all", r.show == "received" || r.show == "all", true)
	}
}

func (s *session) verdict(step *testbench.StepResult) string {
	t := s.tell
	switch step.Outcome {
	case testbench.Held:
		if judged := len(step.Checks); judged > 0 {
			return t.in(green, fmt.Sprintf("held %d", judged))
		}
		return t.in(green, "done")
	case testbench.FellShort:
		return t.in(red, fmt.Sprintf("fell short %d of %d", step.Fell(), len(step.Checks)))
	case testbench.Interrupted:
		return t.in(red, "interrupted")
	}
	return t.in(red, string(step.Outcome))
}

// details says why a step did not hold: wanted and got, what the service says,
// and what to try.
func (s *session) details(step *testbench.StepResult) {
	t := s.tell
	line := func(text string) { t.printf("%s\n", wrap(visible(text), t.width, 6)) }
	if step.Reason != "" && step.Outcome != testbench.Held && step.Outcome != testbench.Interrupted {
		line(step.Reason)
	}
	for _, c := range step.Checks {
		if !c.Judged || c.Held {
			continue
		}
		line(report.CheckLine(c))
		if c.Note != "" {
			t.printf("%s\n", wrap(visible(c.Note), t.width, 8))
		}
	}
	if step.Says != "" {
		line(step.Says)
	}
	for _, text := range step.Hints {
		line("try: " + text)
	}
	if record := step.Last(); record != nil {
		for _, note := range record.Notes {
			line("note: " + note)
		}
	}
}

func (r *textRun) RowDone(*testbench.SheetResult, *testbench.RowResult) {}

func (r *textRun) SheetDone(*testbench.SheetResult) { r.tell.printf("\n") }

func (r *textRun) WouldSend(_ *testbench.RowResult, step *testbench.StepResult, request *exchange.Request, reason string) {
	t := r.tell
	if request == nil {
		t.printf("  %s  %s\n", fit(step.Name, r.name), t.in(faint, visible("not known yet: "+reason)))
		return
	}
	t.printf("  %s  %s\n", fit(step.Name, r.name), fit(step.Target, r.target))
	s := r.session
	s.showRequest(request, 6)
}

func (s *session) summary(result *testbench.Result) {
	t := s.tell
	for _, note := range result.Notes {
		t.note("note: %s", visible(note))
	}
	if s.common.json {
		return
	}
	c := result.Counts()
	dot := t.sign(" · ", " - ")
	parts := []string{count(c.Sheets, "sheet")}
	if c.Rows > c.Sheets {
		parts = append(parts, count(c.Rows, "row"))
	}
	parts = append(parts, t.in(green, fmt.Sprintf("%d held", c.RowsHeld)))
	if c.RowsFell > 0 {
		parts = append(parts, t.in(red, fmt.Sprintf("%d fell short", c.RowsFell)))
	}
	if c.StepsNotRun > 0 {
		parts = append(parts, count(c.StepsNotRun, "step")+" not run")
	}
	parts = append(parts, count(c.Exchanges, "exchange"), milliseconds(result.Took), "run "+result.Run)
	t.printf("%s\n", strings.Join(parts, dot))
}

// jsonRun writes a line of JSON an event.
type jsonRun struct{ *session }

func (r *jsonRun) event(kind string, fields map[string]any) {
	fields["event"] = kind
	_ = r.tell.jsonLine(fields)
}

func (r *jsonRun) SheetStarted(sheet *testbench.SheetResult) {
	r.event("sheet started", map[string]any{"sheet": sheet.Name, "file": sheet.File, "site": sheet.Site, "rows": sheet.RowCount})
}
func (r *jsonRun) RowStarted(*testbench.SheetResult, *testbench.RowResult) {}
func (r *jsonRun) StepDone(sheet *testbench.SheetResult, row *testbench.RowResult, step *testbench.StepResult) {
	r.event("step done", map[string]any{"sheet": sheet.Name, "row": row.Number, "step": report.StepJSON(step)})
}
func (r *jsonRun) RowDone(sheet *testbench.SheetResult, row *testbench.RowResult) {
	r.event("row done", map[string]any{"sheet": sheet.Name, "row": row.Number, "label": row.Label, "phase": row.Phase, "outcome": row.Outcome})
}
func (r *jsonRun) SheetDone(sheet *testbench.SheetResult) {
	r.event("sheet done", map[string]any{"sheet": sheet.Name, "outcome": sheet.Outcome, "seconds": sheet.Took.Round(time.Millisecond).Seconds()})
}
func (r *jsonRun) WouldSend(_ *testbench.RowResult, step *testbench.StepResult, request *exchange.Request, reason string) {
	fields := map[string]any{"step": step.Name}
	if request != nil {
		fields["request"] = report.RequestJSON(request)
	} else {
		fields["unknown"] = reason
	}
	r.event("would send", fields)
}

// benchAbove finds the bench of a sheet's own folder.
func benchAbove(file string) (string, error) { return findBench(filepath.Dir(file)) }
