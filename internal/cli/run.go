package cli

import (
	"context"
	"flag"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
)

type runOptions struct {
	steps  list
	tags   list
	from   string
	rows   string
	stop   bool
	dry    bool
	out    list
	show   string
	full   bool
	tell   string
	jobs   int
	rate   string
	repeat int
	during time.Duration
	share  string
	of     string
	resume string
	listen string
	public string
}

func runCommand() *command {
	return &command{
		name: "run", group: "checking", purpose: "runs sheets and judges every answer", usage: "SHEET...",
		examples: []string{
			"testbench run sheets/search.yaml",
			"testbench run sheets/*.yaml -out report.html -out junit.xml",
			"testbench run sheets/rows.yaml -rows 3-5 -show all",
			"testbench run sheets/rows.yaml -repeat 100 -jobs 4 -rate 50/s",
		},
		options: func(f *flag.FlagSet) any {
			o := &runOptions{}
			f.Var(&o.tags, "tag", "only steps with this `word` among their tags, and sheets with it; repeatable")
			f.Var(&o.steps, "step", "only the step of this `name`; repeatable")
			f.StringVar(&o.from, "from", "",
				"go on from the step of this `name`, with what the last run of the sheet kept")
			f.StringVar(&o.rows, "rows", "", "only these `rows`: 3, 3-5, 1,4-6")
			f.BoolVar(&o.stop, "stop", false, "stop at the first step that fails")
			f.BoolVar(&o.dry, "dry", false, "show every request and send nothing")
			f.Var(&o.out, "out", "a report into a `file`: "+report.Endings+"; repeatable")
			f.StringVar(&o.show, "show", "", "also show `what` was exchanged: sent, received or all")
			f.BoolVar(&o.full, "full", false,
				"show bodies in full, however long, on a terminal too, and cookies and tokens that steps received in .html and .har")
			f.StringVar(&o.tell, "detail", "",
				"how much is told: steps, rows or failures (`what`; else by how many rows there are)")
			f.IntVar(&o.jobs, "jobs", 1, "how many rows and sheets are at work side by side")
			f.StringVar(&o.rate, "rate", "", "how many rows are begun in a time: 20/s, 100/min (`rows/time`)")
			f.IntVar(&o.repeat, "repeat", 1, "how often the rows are run")
			f.DurationVar(&o.during, "for", 0, "repeat the rows for this `time`, as 90s or 2m")
			f.StringVar(&o.share, "share", "", "only this machine's part of the rows: `I/N`, with I from 1")
			f.StringVar(&o.of, "of", "",
				"the `name` of the run that a share belongs to: the same on each machine, another for each run")
			f.StringVar(&o.resume, "resume", "", "go on with an interrupted `run`: its number, or last")
			f.StringVar(&o.listen, "listen", "", "where calls back come in: `host:port` (127.0.0.1 and a free port)")
			f.StringVar(&o.public, "callback", "",
				"the `address` under which others reach that, as https://tests.heatherfold.example/back")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.run(ctx, options.(*runOptions), args)
		},
	}
}

// asked makes the options of a run of those of the command line.
func (o *runOptions) asked() (workbench.RunOptions, error) {
	out := workbench.RunOptions{
		Steps: o.steps, Tags: o.tags, From: o.from, Stop: o.stop, Dry: o.dry, Jobs: o.jobs, Repeat: o.repeat,
		For: o.during, Listen: o.listen, Public: o.public, Of: o.of,
	}
	var err error
	if out.Rows, err = parseRows(o.rows); err != nil {
		return out, err
	}
	if out.Rate, err = parseRate(o.rate); err != nil {
		return out, err
	}
	if out.Share, err = parseShare(o.share); err != nil {
		return out, err
	}
	words := func(option, given string, words ...string) error {
		if given == "" || slices.Contains(words, given) {
			return nil
		}
		return usagef(suggest.DidYouMean(given, words), "-%s takes %s or %s, not %q", option,
			strings.Join(words[:len(words)-1], ", "), words[len(words)-1], given)
	}
	switch {
	case out.Share.N > 1 && o.of == "":
		return out, usagef("-share "+o.share+" -of nightly-17",
			"a share belongs to a run: -of gives it a name, the same on each machine and another for each run")
	case o.of != "" && out.Share.N < 2:
		return out, usagef("take it out, or write -share 1/4", "-of has no effect without -share")
	case o.jobs < 1 || o.jobs > mostJobs:
		return out, usagef("", "-jobs takes a number from 1 to %d, not %d", mostJobs, o.jobs)
	case o.repeat < 1:
		return out, usagef("", "-repeat takes a number from 1, not %d", o.repeat)
	case o.during < 0:
		return out, usagef("-for 2m", "-for takes a time, and %s is less than nothing", o.during)
	case o.during > 0 && o.repeat > 1:
		return out, usagef("take one of them out", "-for and -repeat both say how often the rows are run")
	}
	if u, err := url.Parse(o.public); o.public != "" &&
		(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		return out, usagef("-callback https://tests.heatherfold.example/back", "-callback takes an address, not %q",
			o.public)
	}
	if _, _, err := net.SplitHostPort(o.listen); o.listen != "" && err != nil {
		return out, usagef("-listen 127.0.0.1:8799", "-listen takes host:port, not %q", o.listen)
	}
	if err := words("show", o.show, "sent", "received", "all"); err != nil {
		return out, err
	}
	if err := words("detail", o.tell, "steps", "rows", "failures"); err != nil {
		return out, err
	}
	return out, reportNames(o.out)
}

// mostJobs bounds how much is at work side by side.
const mostJobs = 1000

func (s *session) run(ctx context.Context, o *runOptions, files []string) (int, error) {
	s.full = o.full
	if len(files) == 0 && o.resume == "" {
		return 0, usagef("testbench run sheets/*.yaml", "run which sheets?")
	}
	if len(files) > 0 && o.resume != "" {
		return 0, usagef("leave the sheets out", "-resume goes on with the sheets of the run")
	}
	asked, err := o.asked()
	if err != nil {
		return 0, err
	}
	if s.common.bench == "" && len(files) > 0 {
		// A sheet belongs to the bench above it, wherever the program is run.
		if dir, err := benchAbove(files[0]); err == nil && dir != "" {
			s.common.bench = dir
		}
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	asked.Options, asked.Kill, asked.Forget = s.options(), s.kill, true
	asked.Observer = s.observer(o)
	var result *workbench.Result
	if o.resume != "" {
		number, err := runNumber(bench, o.resume)
		if err != nil {
			return 0, err
		}
		result, err = bench.Resume(ctx, number, asked)
		if err != nil {
			return 0, err
		}
	} else if result, err = bench.Run(ctx, files, asked); err != nil {
		return 0, err
	}
	defer func() { _ = result.Close() }()
	if o.dry {
		return ExitPassed, nil
	}
	s.summary(result)
	if err := s.writeReports(o.out, result.Finished); err != nil {
		if result.Number > 0 {
			s.tell.note("next: testbench report %d -out FILE   (the run itself is in the history)", result.Number)
		}
		return 0, err
	}
	if result.Outcome == workbench.NotRun {
		s.tell.note("nothing was run, so nothing passed")
	}
	if result.Outcome == workbench.Interrupted && result.Number > 0 {
		s.tell.note("next: testbench run -resume %d   (goes on with the rows that are not done)", result.Number)
	}
	return result.Outcome.ExitStatus(), nil
}

// parseRate reads 20/s, 100/min, 5/h, or 20 for that many in a second.
func parseRate(text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	number, unit, _ := strings.Cut(text, "/")
	rate, err := strconv.ParseFloat(number, 64)
	seconds, ok := map[string]float64{"": 1, "s": 1, "min": 60, "h": 3600}[unit]
	if err != nil || !ok || rate <= 0 || rate > 1e6 {
		return 0, usagef("-rate 20/s, -rate 100/min", "%q is not a rate", text)
	}
	return rate / seconds, nil
}

// parseShare reads I/N.
func parseShare(text string) (workbench.Share, error) {
	var share workbench.Share
	if text == "" {
		return share, nil
	}
	first, last, ok := strings.Cut(text, "/")
	i, err := strconv.Atoi(first)
	n, wrong := strconv.Atoi(last)
	switch {
	case !ok || err != nil || wrong != nil:
		return share, usagef("-share 2/5", "%q is not a share", text)
	case n < 1 || i < 1 || i > n || n > 10_000:
		return share, usagef("the shares of 5 machines are 1/5 to 5/5", "there is no share %s", text)
	}
	return workbench.Share{I: i, N: n}, nil
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
func (s *session) observer(o *runOptions) workbench.Observer {
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
	// told is the step of a dry run whose request was shown last.
	told string
}

func (r *textRun) SheetStarted(sheet *workbench.SheetResult) {
	r.level = r.asked
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

func (t *printer) rowWords(sheet *workbench.SheetResult, row *workbench.RowResult) string {
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
	if words := t.rowWords(sheet, row); words != "" {
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
	if r.level != tellSteps {
		if row.Outcome != workbench.Passed && row.Outcome != workbench.NotRun {
			r.head(sheet, row)
			for _, step := range row.Steps {
				r.step(step)
			}
		} else if r.level == tellRows {
			t.printf("%s%s%s  %s  %s\n", t.visible(sheet.Name), t.sign(" · ", " - "), t.rowWords(sheet, row),
				milliseconds(row.Took), t.in(green, fmt.Sprintf("%s %d", row.Outcome, len(row.Steps))))
		}
	}
	t.stepBar(row.Outcome != workbench.Passed && row.Outcome != workbench.NotRun)
}

func (r *textRun) RecordLost(err error) {
	r.tell.note("note: the run is not recorded from here on: %s", r.tell.message(err.Error()))
}

func (r *textRun) SheetDone(sheet *workbench.SheetResult) {
	t := r.tell
	t.endBar()
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
	if len(sheet.Times) > 0 {
		t.printf("%s  %s\n", t.fit("times", r.name+2),
			t.in(faint, "calls    per s       p50       p90       p95       p99       max"))
	}
	for _, one := range sheet.Times {
		line := fmt.Sprintf("  %s  %5d  %7.1f", t.fitItem(one.Step, r.name), one.Count, one.PerSecond)
		for _, ms := range []float64{one.P50, one.P90, one.P95, one.P99, one.Max} {
			line += fmt.Sprintf("  %8s", milliseconds(time.Duration(ms*float64(time.Millisecond))))
		}
		t.printf("%s\n", line)
	}
	for _, c := range sheet.Checks {
		t.checkOfSheet(c)
	}
}

// checkOfSheet shows a check of a sheet as a whole.
func (t *printer) checkOfSheet(c history.Check) {
	outcome := t.in(green, "passed")
	if !c.Passed {
		outcome = t.in(red, "failed")
	}
	t.printf("  %s  %s   %s\n", t.visible(string(c.Subject)),
		t.visible(string(history.Compared(c.Expected, c.Got))), outcome)
}

// failedOfSheets says for a summary what failed of sheets as a whole; nothing where all passed.
func (t *printer) failedOfSheets(checks []history.Check) []string {
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
	t.printf("%s%s  %s  %8s   %s\n", lead, t.fit(step.Target, r.target), status, took, r.verdict(step))
	r.details(step)
	if step.Got != "" && step.Outcome == workbench.Passed && (r.show == "received" || r.show == "all") {
		t.printf("%s\n", t.wrap("found: "+step.Got, t.width, 6))
	}
	if record := step.Last(); record != nil && r.show != "" {
		r.showExchange(record, step, r.show == "sent" || r.show == "all", r.show == "received" || r.show == "all", true)
	}
}

func (s *session) verdict(step *workbench.StepResult) string {
	t := s.tell
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

// details says why a step failed: expected and got, what the service says,
// and what to try.
func (s *session) details(step *workbench.StepResult) {
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
	s.showRequest(request, 6)
}

func (s *session) summary(result *workbench.Result) {
	t := s.tell
	for _, note := range result.Notes {
		t.note("note: %s", t.visible(string(note)))
	}
	c := result.Counts()
	if s.common.json {
		fields := map[string]any{
			"outcome": result.Outcome, "counts": c, "seconds": result.Took.Round(time.Millisecond).Seconds(),
			"exit status": result.Outcome.ExitStatus(),
		}
		fields["run"], fields["notes"] = result.Run, result.Notes
		if result.Number > 0 {
			fields["number"] = result.Number
		}
		(&jsonRun{s}).event("run done", fields)
		return
	}
	dot := t.sign(" · ", " - ")
	parts := []string{count(c.Sheets, "sheet")}
	if c.Rows > c.Sheets {
		parts = append(parts, count(c.Rows, "row"))
	}
	parts = append(parts, t.in(green, fmt.Sprintf("%d passed", c.RowsPassed)))
	if c.RowsFailed > 0 {
		parts = append(parts, t.in(red, fmt.Sprintf("%d failed", c.RowsFailed)))
	}
	if c.StepsNotRun > 0 {
		parts = append(parts, count(c.StepsNotRun, "step")+" not run")
	}
	var ofSheets []history.Check
	for _, sheet := range result.Sheets {
		ofSheets = append(ofSheets, sheet.Checks...)
	}
	parts = append(parts, t.failedOfSheets(ofSheets)...)
	if result.Outcome == workbench.Interrupted {
		parts = append(parts, t.in(red, "interrupted"))
	}
	parts = append(parts, count(c.Exchanges, "exchange"), milliseconds(result.Took))
	switch {
	case result.Lost != "":
		parts = append(parts, t.in(red, fmt.Sprintf("run %d, not recorded to its end", result.Number)))
	case result.Number > 0:
		parts = append(parts, fmt.Sprintf("run %d", result.Number))
	default:
		parts = append(parts, "run "+result.Run)
	}
	t.printf("%s\n", strings.Join(parts, dot))
}

// jsonRun writes a line of JSON an event.
type jsonRun struct{ *session }

func (r *jsonRun) event(kind string, fields map[string]any) {
	fields["event"] = kind
	_ = r.tell.jsonLine(fields)
}

func (r *jsonRun) SheetStarted(sheet *workbench.SheetResult) {
	r.event("sheet started",
		map[string]any{"sheet": sheet.Name, "file": sheet.File, "site": sheet.Site, "rows": sheet.RowCount})
}

func (r *jsonRun) RowStarted(*workbench.SheetResult, *workbench.RowResult) {}

func (r *jsonRun) StepDone(sheet *workbench.SheetResult, row *workbench.RowResult, step *workbench.StepResult) {
	r.event("step done", map[string]any{
		"sheet": sheet.Name, "row": row.Number, "turn": row.Iteration,
		"step": step.Record(r.masker),
	})
}

func (r *jsonRun) RowDone(sheet *workbench.SheetResult, row *workbench.RowResult) {
	r.event("row done", map[string]any{
		"sheet": sheet.Name, "row": row.Number, "turn": row.Iteration,
		"label": row.Label, "phase": row.Phase, "outcome": row.Outcome,
	})
}

func (r *jsonRun) RecordLost(err error) {
	r.event("record lost", map[string]any{"reason": r.tell.message(err.Error())})
}

func (r *jsonRun) SheetDone(sheet *workbench.SheetResult) {
	record := sheet.Record()
	r.event("sheet done", map[string]any{
		"sheet": sheet.Name, "outcome": sheet.Outcome,
		"seconds": sheet.Took.Round(time.Millisecond).Seconds(), "counts": record.Counts, "times": record.Times,
		"checks": record.Checks,
	})
}

func (r *jsonRun) WouldSend(_ *workbench.RowResult, step *workbench.StepResult, request *exchange.Request,
	reason string,
) {
	fields := map[string]any{"step": step.Name}
	if request != nil {
		fields["request"] = result.RequestRecord(request, r.masker)
	} else {
		fields["unknown"] = reason
	}
	r.event("would send", fields)
}

// benchAbove finds the bench of a sheet's own folder.
func benchAbove(file string) (string, error) { return findBench(filepath.Dir(file)) }
