package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
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
		prepare: func(f *flag.FlagSet) action {
			o := &reportOptions{}
			f.Var(&o.out, "out", "a report into a `file`: "+report.Endings+"; repeatable")
			f.BoolVar(&o.full, "full", false,
				"show cookies and tokens that steps received in .html and .har too; without it they are masked there")
			f.BoolVar(&o.all, "all", false,
				fmt.Sprintf("show all that failed, however much; without it at most %d lines", mostOfSummary))
			f.BoolVar(&o.gather, "merge", false,
				"merge the shares of a run, as they were written with -out FILE.json")
			return o.run
		},
	}
}

func (o *reportOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	s.full = o.full
	if o.full && !slices.ContainsFunc(o.out, report.MasksReceived) {
		return 0, usagef("name the file: -full -out report.html",
			"-full is about what is written into .html and .har files, and no -out names one")
	}
	if o.all && slices.ContainsFunc(o.out, toStandard) {
		return 0, usagef("take one of them out", "-all is about the text, and the report takes its place")
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
	if err := writeReports(s, o.out, run, report.Options{}); err != nil {
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
	number, _, err := bench.Import(ctx, store, run, true)
	if err != nil {
		s.tell.note("note: the run is not in the history: %s", s.tell.message(err.Error()))
	}
	run.Run().Number = number
	return store.Close()
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

// pagesOnly refuses reports of a form that has no place for what a command tells beside the run.
func pagesOnly(files []string) error {
	for _, file := range files {
		if !strings.EqualFold(filepath.Ext(file), ".html") {
			return usagef("-out report.html", "-out %s: this is a part of the page, and the page is .html", file)
		}
	}
	return reportNames(files)
}

// writePages writes a run of the history as pages, with what the options hold beside it.
func writePages(s *session, files []string, number int, o report.Options) error {
	if len(files) == 0 {
		return nil
	}
	_, store, err := s.history()
	if err != nil {
		return err
	}
	defer func() { _ = store.Close() }()
	run, err := store.Get(number)
	if err != nil {
		return err
	}
	return writeReports(s, files, run, o)
}

// writeReports writes a run into files, with what the options hold beside it.
func writeReports(s *session, files []string, run history.Finished, o report.Options) error {
	o.Masker, o.Full = s.masker, s.full
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
