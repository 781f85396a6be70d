package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/history"
	"testbench/internal/report"
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
	accept bool
	doubt  bool
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
		prepare: func(f *flag.FlagSet) action {
			o := &runOptions{}
			f.Var(&o.tags, "tag", "only steps with this `word` among their tags, and sheets with it; repeatable")
			f.Var(&o.steps, "step", "only the step of this `name`; repeatable")
			f.StringVar(&o.from, "from", "",
				"go on from the step of this `name`, with what the last run of the sheet kept")
			f.StringVar(&o.rows, "rows", "", "only these `rows`: 3, 3-5, 1,4-6")
			f.BoolVar(&o.stop, "stop", false, "stop at the first step that fails")
			f.BoolVar(&o.dry, "dry", false, "show every request and send nothing")
			f.BoolVar(&o.accept, "accept", false,
				"accept what comes: write the answers into the files that same as file: names")
			f.BoolVar(&o.doubt, "doubt", false, "at the end, tell which changes of the answers no check would notice")
			f.Var(&o.out, "out", "a report into a `file`: "+report.Endings+"; repeatable")
			f.StringVar(&o.show, "show", "", "also show `what` was exchanged: sent, received or all")
			f.BoolVar(&o.full, "full", false,
				"show bodies in full, however long, on a terminal too, and cookies and tokens that steps received in "+
					".html and .har")
			f.StringVar(&o.tell, "detail", "",
				fmt.Sprintf("how much is told: steps, rows, failures or summary (`what`; else by how many rows "+
					"there are); a summary has at most %d lines", mostOfSummary))
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
			return o.run
		},
	}
}

// asked makes the options of a run of those of the command line.
func (o *runOptions) asked() (workbench.RunOptions, error) {
	out := workbench.RunOptions{
		Steps: o.steps, Tags: o.tags, From: o.from, Stop: o.stop, Dry: o.dry, Accept: o.accept,
		Jobs: o.jobs, Repeat: o.repeat,
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
	case o.tell == detailSummary && o.show != "":
		return out, usagef("take one of them out", "-show has no effect with -detail summary")
	case o.doubt && o.from != "":
		return out, usagef("take one of them out", "-doubt judges whole rows again, and -from runs a part of them")
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
	if err := words("detail", o.tell, tellSteps, tellRows, detailFailures, detailSummary); err != nil {
		return out, err
	}
	return out, resultsAndReports(o.out)
}

// mostJobs bounds how much is at work side by side.
const mostJobs = 1000

func (o *runOptions) run(ctx context.Context, s *session, files []string) (int, error) {
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
	asked.Options, asked.Kill, asked.Forget, asked.Out = s.options(), s.kill, true, o.out
	asked.Observer = newObserver(s, o)
	var doubted []*workbench.Doubted
	if o.doubt {
		asked.Doubted = func(one *workbench.Doubted) { doubted = append(doubted, one) }
	}
	result, err := runOrResume(ctx, bench, o.resume, files, asked)
	if err != nil {
		return 0, err
	}
	defer func() { _ = result.Close() }()
	if o.dry {
		return ExitPassed, nil
	}
	if err := showResult(s, o, result, doubted); err != nil {
		return 0, err
	}
	return result.ExitStatus(), nil
}

// runOrResume runs sheets, or goes on with a run of the history.
func runOrResume(
	ctx context.Context, bench *workbench.Bench, resumed string, files []string, asked workbench.RunOptions,
) (*workbench.Result, error) {
	if resumed == "" {
		return bench.Run(ctx, files, asked)
	}
	store, err := bench.History()
	if err != nil {
		return nil, err
	}
	number, err := runNumber(store, resumed)
	if err := errors.Join(err, store.Close()); err != nil {
		return nil, err
	}
	return bench.Resume(ctx, number, asked)
}

// showResult says what came of a run as a whole, writes the reports, and says what can be done next.
func showResult(s *session, o *runOptions, result *workbench.Result, doubted []*workbench.Doubted) error {
	if o.tell == detailSummary {
		trends, err := trendsUpTo(s, result.Finished.Run())
		if err != nil {
			return err
		}
		if err := showRun(s.tell, result.Finished, trends, false); err != nil {
			return err
		}
	} else {
		showSummary(s, result)
	}
	for _, one := range doubted {
		if s.common.json {
			(&jsonRun{s}).event("doubted", map[string]any{"doubted": one})
			continue
		}
		s.tell.printf("\n")
		showDoubted(s.tell, one, false)
	}
	if err := writeReports(s, o.out, result.Finished, report.Options{Doubted: doubted}); err != nil {
		if result.Number > 0 {
			s.tell.note("next: testbench report %d -out FILE   (the run itself is in the history)", result.Number)
		}
		return err
	}
	if result.Outcome == workbench.NotRun {
		s.tell.note("nothing was run, so nothing passed")
	}
	if result.Outcome == workbench.Interrupted && result.Number > 0 {
		s.tell.note("next: testbench run -resume %d   (goes on with the rows that are not done)", result.Number)
	}
	if status := result.ExitStatus(); result.Exit > 0 && status == result.Exit && !s.common.json {
		s.tell.note("exit status %d: %s", status, s.tell.visible(result.ExitFor))
	}
	return nil
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

func showSummary(s *session, result *workbench.Result) {
	t := s.tell
	for _, note := range result.Notes {
		t.note("note: %s", t.visible(string(note)))
	}
	c := result.Counts()
	if s.common.json {
		fields := map[string]any{
			"outcome": result.Outcome, "counts": c, "seconds": result.Took.Round(time.Millisecond).Seconds(),
			"exit status": result.ExitStatus(),
		}
		fields["run"], fields["notes"] = result.Run, result.Notes
		if result.Exit > 0 {
			fields["exit for"] = t.shown(result.ExitFor)
		}
		if result.Number > 0 {
			fields["number"] = result.Number
		}
		(&jsonRun{s}).event("run done", fields)
		return
	}
	for i, gone := range s.gone {
		if gone.steps > 1 {
			if i == 0 {
				t.printf("\n")
			}
			t.printf("%s\n", t.wrap(fmt.Sprintf("%s: %s", count(gone.steps, "step"), gone.reason), t.width, 0))
		}
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
	parts = append(parts, failedOfSheets(t, ofSheets)...)
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

// benchAbove finds the bench of a sheet's own folder.
func benchAbove(file string) (string, error) { return findBench(filepath.Dir(file)) }
