package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/workbench"
)

type reportOptions struct {
	out    list
	gather bool
	full   bool
	all    bool
}

func reportCommand() *command {
	return &command{
		name: "report", group: "looking back",
		purpose: "shows a past run, writes it in any format, merges shares", usage: "RUN, or -merge FILE...",
		examples: []string{
			"testbench report last", "testbench report 18 -out report.html",
			"testbench report -merge share-*.json -out whole.html",
		},
		options: func(f *flag.FlagSet) any {
			o := &reportOptions{}
			f.Var(&o.out, "out", "a report into a `file`: "+report.Endings+"; repeatable")
			f.BoolVar(&o.full, "full", false,
				"show cookies and tokens that steps received in .html and .har too; without it they are masked there")
			f.BoolVar(&o.all, "all", false,
				fmt.Sprintf("show all that failed, however much; without it at most %d lines", mostOfSummary))
			f.BoolVar(&o.gather, "merge", false,
				"merge the shares of a run, as they were written with -out FILE.json")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return runReport(ctx, s, options.(*reportOptions), args)
		},
	}
}

func runReport(ctx context.Context, s *session, o *reportOptions, args []string) (int, error) {
	s.full = o.full
	if o.full && !slices.ContainsFunc(o.out, report.MasksReceived) {
		return 0, usagef("name the file: -full -out report.html",
			"-full is about what is written into .html and .har files, and no -out names one")
	}
	if err := reportNames(o.out); err != nil {
		return 0, err
	}
	var run history.Finished
	switch {
	case o.gather:
		gathered, err := gather(args)
		if err != nil {
			return 0, err
		}
		if err := enterHistory(ctx, s, gathered); err != nil {
			return 0, err
		}
		run = gathered
	case len(args) != 1:
		return 0, usagef("testbench report last", "report which run?")
	default:
		stored, done, err := storedRun(s, args[0])
		if err != nil {
			return 0, err
		}
		defer done()
		run = stored
	}
	head := run.Run()
	if err := writeReports(s, o.out, run); err != nil {
		return 0, err
	}
	switch {
	case slices.ContainsFunc(o.out, toStandard): // which has the report
	case s.common.json:
		if err := history.WriteJSON(s.tell.out, run); err != nil {
			return 0, err
		}
	default:
		trends, err := trendsUpTo(s, head)
		if err != nil {
			return 0, err
		}
		if err := showRun(s.tell, run, trends, o.all); err != nil {
			return 0, err
		}
	}
	return workbench.Outcome(head.Outcome).ExitStatus(), nil
}

// toStandard says whether a report goes to standard output: -.md, where the ending says the format.
func toStandard(file string) bool { return strings.HasPrefix(file, standard+".") }

// enterHistory puts a run that was merged into the history of the bench, where there is one; one that was
// merged before is replaced.
func enterHistory(ctx context.Context, s *session, run *history.Gathered) error {
	bench, err := s.openOrNone()
	if err != nil || bench.Dir == "" {
		return err
	}
	store, err := bench.History()
	if err != nil {
		s.tell.note("note: the run is not in the history: %s", s.tell.message(err.Error()))
		return nil
	}
	number, _, err := store.Import(ctx, run, true)
	run.Run().Number = number
	return errors.Join(err, store.Close())
}

// storedRun opens a run: a file, or one of the history by its number or as the last one; done closes it.
func storedRun(s *session, name string) (run history.Finished, done func(), err error) {
	if isFile(name) {
		run, err := history.OpenFile(name)
		if err != nil {
			return nil, nil, err
		}
		return run, func() {}, nil
	}
	bench, err := s.open()
	if err != nil {
		return nil, nil, err
	}
	number, err := runNumber(bench, name)
	if err != nil {
		return nil, nil, err
	}
	store, err := bench.History()
	if err != nil {
		return nil, nil, err
	}
	if run, err = store.Get(number); err != nil {
		_ = store.Close()
		return nil, nil, err
	}
	return run, func() { _ = store.Close() }, nil
}

// isFile says whether a name of a run is that of a file: a number and last are of the history.
func isFile(name string) bool {
	if _, err := strconv.Atoi(name); err == nil || name == "last" {
		return false
	}
	info, err := os.Stat(name)
	return err == nil && !info.IsDir()
}

func gather(files []string) (*history.Gathered, error) {
	if len(files) == 0 {
		return nil, usagef("testbench report -merge share-*.json -out whole.html", "merge which shares?")
	}
	var shares []history.Finished
	for _, file := range files {
		share, err := history.OpenFile(file)
		if err != nil {
			return nil, err
		}
		shares = append(shares, share)
	}
	return history.Gather(shares)
}

// What a summary of a run has at most, in lines, so that it can be read in the log of a CI system.
const (
	mostOfSummary  = 40
	mostSheetLines = 8
	mostNewsLines  = 6
	mostEndLines   = 3 // of limits, of what is missing, and of notes, each
)

// showRun shows a run: what failed, what is new since earlier runs, and the sum. It is at most mostOfSummary long,
// unless all is to be shown.
func showRun(t *printer, run history.Finished, trends *history.Trends, all bool) error {
	failures, err := report.FailuresOf(run)
	if all {
		failures, err = report.EachFailureOf(run)
	}
	if err != nil {
		return err
	}
	head := run.Run()
	lines := append([]string{titleOfRun(t, head)}, sheetLines(t, head, all)...)
	end := endOfRun(t, head, trends, all)
	for i, one := range failures.List {
		text := failureLines(t, one)
		room := mostOfSummary - len(lines) - len(end) - 1
		if !all && len(text) > room {
			text = text[:min(len(text), 3)] // what failed, and the first reason
		}
		if !all && len(text) > room {
			lines = append(lines, fmt.Sprintf("  and %d failures of other kinds; -all shows them", len(failures.List)-i))
			break
		}
		lines = append(lines, text...)
	}
	for _, line := range append(lines, end...) {
		t.printf("%s\n", line)
	}
	if !head.Ended && head.Number > 0 {
		t.note("the run was interrupted; next: testbench run -resume %d", head.Number)
	}
	return nil
}

// titleOfRun says which run it is.
func titleOfRun(t *printer, head *history.Run) string {
	dot := t.sign(" · ", " - ")
	which := head.ID
	if head.Number > 0 {
		which = fmt.Sprintf("%d", head.Number)
	}
	return t.in(bold, "run "+t.visible(which)) + dot + t.visible(head.Bench) + dot +
		head.Started.Format("2006-01-02 15:04:05 MST")
}

// sheetLines tell of each sheet what came of it; where there are many, of those that did not pass.
func sheetLines(t *printer, head *history.Run, all bool) []string {
	dot := t.sign(" · ", " - ")
	var lines []string
	many := len(head.Sheets) > mostSheetLines && !all
	passed, left := 0, 0
	for _, sheet := range head.Sheets {
		style := red
		if sheet.Outcome == string(workbench.Passed) {
			style = green
			if passed++; many {
				continue
			}
		}
		if many && len(lines) == mostSheetLines-1 {
			left++
			continue
		}
		lines = append(lines, fmt.Sprintf("%s%ssite %s%s%s   %s", t.in(bold, t.visible(sheet.Sheet)), dot,
			t.visible(sheet.Site), dot, count(sheet.Counts.Rows, "row"), t.in(style, sheet.Outcome)))
	}
	if left > 0 {
		lines = append(lines, t.in(red, fmt.Sprintf("%s more that did not pass", count(left, "sheet"))))
	}
	if many && passed > 0 {
		lines = append(lines, t.in(green, count(passed, "sheet")+" passed"))
	}
	return lines
}

// failureLines tell why steps failed.
func failureLines(t *printer, f *report.Failure) []string {
	lines := strings.Split(t.wrap(fmt.Sprintf("%s  %s", f.Title(), f.Step.Target), t.width, 2), "\n")
	lines[0] += "  " + t.in(red, f.Step.Outcome)
	texts := []string{f.Where(), string(f.Step.Reason)}
	for _, text := range report.Lines(f.Step) {
		texts = append(texts, string(text))
	}
	for _, text := range texts {
		if text != "" {
			lines = append(lines, strings.Split(t.wrap(text, t.width, 6), "\n")...)
		}
	}
	return lines
}

// endOfRun tells of the run as a whole: limits, what is missing, what is new, notes, the sum.
func endOfRun(t *printer, head *history.Run, trends *history.Trends, all bool) []string {
	var ofSheets []history.Check
	for _, sheet := range head.Sheets {
		ofSheets = append(ofSheets, sheet.Checks...)
	}
	var limits, broken, notes []string
	for _, c := range ofSheets {
		if !c.Passed {
			limits = append(limits, checkLineOfSheet(t, c))
		}
	}
	for _, why := range head.Broken {
		broken = append(broken, t.in(red, "not whole: "+t.oneLine(why)))
	}
	for _, note := range head.Notes {
		notes = append(notes, "note: "+t.oneLine(string(note)))
	}
	var lines []string
	for _, part := range [][]string{limits, broken, notes} {
		lines = append(lines, atMost(part, mostEndLines, all)...)
	}
	lines = append(lines, atMost(newsOf(t, head, trends), mostNewsLines, all)...)
	dot := t.sign(" · ", " - ")
	c := head.Counts
	parts := []string{count(c.Sheets, "sheet"), count(c.Rows, "row"), fmt.Sprintf("%d passed", c.RowsPassed)}
	if c.RowsFailed > 0 {
		parts = append(parts, fmt.Sprintf("%d failed", c.RowsFailed))
	}
	parts = append(parts, failedOfSheets(t, ofSheets)...)
	parts = append(parts, count(c.Exchanges, "exchange"))
	if head.Share != "" {
		parts = append(parts, "share "+head.Share)
	}
	return append(lines, strings.Join(parts, dot))
}

// atMost cuts a list of lines down and says how many are left.
func atMost(lines []string, most int, all bool) []string {
	if all || len(lines) <= most {
		return lines
	}
	return append(lines[:most-1:most-1], fmt.Sprintf("and %d more; -all shows them", len(lines)-most+1))
}

// newsOf tells what a run has that runs before it had not: steps that newly fail, are flaky or slower.
func newsOf(t *printer, head *history.Run, trends *history.Trends) []string {
	var lines []string
	if trends == nil || len(trends.Runs) < 2 {
		return nil
	}
	for _, one := range report.Found(trends) {
		if one.Finding.Kind.IsBad() && (one.Finding.Since == head.Number || one.Finding.Kind != history.Flaky) {
			lines = append(lines, t.oneLine(fmt.Sprintf("%s (%s, site %s): %s", one.Trend.Step, one.Trend.File,
				one.Trend.Site, report.FindingWords(one.Finding))))
		}
	}
	return lines
}

// reportNames says whether reports can be written under the names, before anything is run
// for them.
func reportNames(files []string) error {
	for _, file := range files {
		if file == standard {
			return usagef("testbench report last -out -.md",
				"-out -: the ending says the format, also for standard output: -.html, -.json")
		}
		if err := report.CheckName(file); err != nil {
			return usagef("", "-out: %v", err)
		}
	}
	return nil
}

// resultsAndReports checks the names of reports where standard output has the results.
func resultsAndReports(files []string) error {
	if slices.ContainsFunc(files, toStandard) {
		return usagef("testbench report last -out -.md",
			"standard output has the results; a report goes there from testbench report")
	}
	return reportNames(files)
}

// writeReports writes a run into files.
func writeReports(s *session, files []string, run history.Finished) error {
	o := report.Options{Masker: s.masker, Full: s.full}
	if slices.ContainsFunc(files, report.TellsTrends) {
		var err error
		if o.Trends, err = trendsUpTo(s, run.Run()); err != nil {
			s.tell.note("note: what changed since earlier runs is not in the report: %s", s.tell.message(err.Error()))
		}
	}
	for _, file := range files {
		if toStandard(file) {
			if err := report.Write(s.tell.out, file, run, o); err != nil {
				return fmt.Errorf("the report: %w", err)
			}
			continue
		}
		if err := report.WriteFile(file, run, o); err != nil {
			return fmt.Errorf("the report: %w", err)
		}
		s.tell.note("written: %s", file)
	}
	return nil
}

// runsOfTrends is how many runs trends look back at.
const runsOfTrends = 30

// trendsUpTo tells how the steps of a run fared in the runs up to it; nil where it is in no history.
func trendsUpTo(s *session, run *history.Run) (*history.Trends, error) {
	if run.Number == 0 {
		return nil, nil
	}
	bench, err := s.open()
	if err != nil {
		return nil, err
	}
	store, err := bench.History()
	if err != nil {
		return nil, err
	}
	q := history.TrendQuery{Most: runsOfTrends, Until: run.Number}
	for _, sheet := range run.Sheets {
		q.Sites, q.Files = append(q.Sites, sheet.Site), append(q.Files, sheet.File)
	}
	trends, err := store.Trends(q)
	return trends, errors.Join(err, store.Close())
}

// runNumber finds a run of the history: by its number, or the last one.
func runNumber(bench *workbench.Bench, text string) (int, error) {
	if text == "last" {
		store, err := bench.History()
		if err != nil {
			return 0, err
		}
		defer func() { _ = store.Close() }()
		number, err := store.Last()
		if err == nil && number == 0 {
			err = &history.NotThereError{}
		}
		return number, err
	}
	number, err := strconv.Atoi(text)
	if err != nil || number < 1 {
		return 0, usagef("write its number, or last", "%q is not a run", text)
	}
	return number, nil
}
