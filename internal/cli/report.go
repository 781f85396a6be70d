package cli

import (
	"context"
	"flag"
	"fmt"
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
			f.BoolVar(&o.gather, "merge", false,
				"merge the shares of a run, as they were written with -out FILE.json")
			return o
		},
		run: func(_ context.Context, s *session, options any, args []string) (int, error) {
			return runReport(s, options.(*reportOptions), args)
		},
	}
}

func runReport(s *session, o *reportOptions, args []string) (int, error) {
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
		if err := showRun(s.tell, run); err != nil {
			return 0, err
		}
	}
	return workbench.Outcome(head.Outcome).ExitStatus(), nil
}

// toStandard says whether a report goes to standard output: -.md, where the ending says the format.
func toStandard(file string) bool { return strings.HasPrefix(file, standard+".") }

// storedRun opens a run of the history, by its number or as the last one; done deletes it.
func storedRun(s *session, name string) (run *history.Stored, done func(), err error) {
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

func gather(files []string) (history.Finished, error) {
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

// mostShownFailures is how many steps that failed are shown.
const mostShownFailures = 50

// showRun shows a past run: what failed, and the sum.
func showRun(t *printer, run history.Finished) error {
	head := run.Run()
	dot := t.sign(" · ", " - ")
	which := head.ID
	if head.Number > 0 {
		which = fmt.Sprintf("%d", head.Number)
	}
	t.printf("%s%s%s%s%s\n", t.in(bold, "run "+which), dot, t.visible(head.Bench), dot,
		head.Started.Format("2006-01-02 15:04:05 MST"))
	shown := 0
	var ofSheets []history.Check
	for i, sheet := range head.Sheets {
		outcome := t.in(green, sheet.Outcome)
		if sheet.Outcome != string(workbench.Passed) {
			outcome = t.in(red, sheet.Outcome)
		}
		t.printf("%s%ssite %s%s%s   %s\n", t.in(bold, t.visible(sheet.Sheet)), dot, t.visible(sheet.Site), dot,
			count(sheet.Counts.Rows, "row"), outcome)
		err := history.EachFailed(run, i, func(row *history.Row, step *history.Step) {
			if shown++; shown <= mostShownFailures {
				showFailed(t, row, step)
			}
		})
		if err != nil {
			return err
		}
		for _, c := range sheet.Checks {
			if !c.Passed {
				checkOfSheet(t, c)
			}
		}
		ofSheets = append(ofSheets, sheet.Checks...)
	}
	if shown > mostShownFailures {
		t.printf("  and %d more; -out FILE.html lists them\n", shown-mostShownFailures)
	}
	for _, why := range head.Broken {
		t.printf("%s\n", t.in(red, "not whole: "+t.visible(why)))
	}
	for _, note := range head.Notes {
		t.note("note: %s", t.visible(string(note)))
	}
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
	t.printf("%s\n", strings.Join(parts, dot))
	if !head.Ended && head.Number > 0 {
		t.note("the run was interrupted; next: testbench run -resume %d", head.Number)
	}
	return nil
}

// showFailed shows why a step of a past run failed.
func showFailed(t *printer, row *history.Row, step *history.Step) {
	where := ""
	if name := row.Name(); name != "" {
		where = t.sign(" · ", " - ") + t.oneLine(name)
	}
	t.printf("  %s%s  %s  %s\n", t.visible(step.Step), where, t.visible(step.Target), t.in(red, step.Outcome))
	if step.Reason != "" {
		t.printf("%s\n", t.wrap(string(step.Reason), t.width, 6))
	}
	for _, line := range report.Lines(step) {
		t.printf("%s\n", t.wrap(string(line), t.width, 6))
	}
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
	for _, file := range files {
		if toStandard(file) {
			if err := report.Write(s.tell.out, file, run, report.Options{Masker: s.masker, Full: s.full}); err != nil {
				return fmt.Errorf("the report: %w", err)
			}
			continue
		}
		if err := report.WriteFile(file, run, report.Options{Masker: s.masker, Full: s.full}); err != nil {
			return fmt.Errorf("the report: %w", err)
		}
		s.tell.note("written: %s", file)
	}
	return nil
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
