package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/workbench"
)

type historyOptions struct {
	most        int
	steps       bool
	full        bool
	prune       *int // how many runs are kept; nil for all
	carryIn     list
	export      string
	values, out list
	size        report.Size
}

func historyCommand() *command {
	return &command{
		name: "history", group: "looking back",
		purpose: "shows past runs and calls, an exchange of them in full, and how steps fared over time",
		usage:   "[RUN or RUN.EXCHANGE] | -steps [SHEET ...] | -values NAME [SHEET ...] | -export FOLDER [RUN ...]",
		examples: []string{
			"testbench history", "testbench history 3", "testbench history 3.2",
			"testbench history -steps -site south", "testbench history -import nights -import whole.json",
			"testbench history -export nights -most 30",
			"testbench history -values total -out totals.svg sheets/01-search.yaml",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &historyOptions{}
			f.IntVar(&o.most, "most", 0, "how many runs are looked at, the newest ones (20; with -steps and "+
				"-export 30)")
			f.BoolVar(&o.steps, "steps", false,
				"how each step fared over the runs: what newly fails, is flaky or slower, and since when")
			f.Var(&o.carryIn, "import",
				"take in the runs of a `file` (.json or .ndjson) or of a folder; those that are here stay as they are")
			f.Var(&o.values, "values", "what the rows of the sheets kept under this `name`, over the runs; repeatable")
			f.Var(&o.out, "out", "these values into a `file`: "+report.SeriesEndings+"; repeatable")
			f.Var(&o.size, "size", "the `size` of the picture in pixels (1280x480)")
			f.StringVar(&o.export, "export", "",
				"write runs into a `folder`, a file each; those that are there stay as they are")
			f.BoolVar(&o.full, "full", false, "show bodies in full, however long, on a terminal too")
			f.Func("prune", "keep only the newest `number` of runs", func(text string) error {
				most, err := strconv.Atoi(text)
				if err != nil || most < 0 {
					return errors.New("-prune takes how many runs are kept, from 0")
				}
				o.prune = &most
				return nil
			})
			return o.run
		},
	}
}

func (o *historyOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	s.full = o.full
	isOne := !o.steps && o.export == "" && len(o.values) == 0
	switch {
	case isOne && len(o.carryIn) == 0 && len(args) > 1:
		return 0, usagef("testbench history 18, testbench history 18.3", "one run or exchange at a time")
	case len(args) > 0 && len(o.carryIn) > 0:
		return 0, usagef("-import "+args[0], "-import takes its files one by one: -import A -import B")
	case o.most == 0 && s.used.has("most") || o.most < 0:
		return 0, usagef("", "-most takes a number from 1")
	case o.most == 0:
		o.most = map[bool]int{true: 20, false: runsOfTrends}[isOne]
	}
	if isOne && len(args) == 1 {
		return pastRun(s, args[0])
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	if o.prune != nil {
		gone, err := workbench.Prune(bench, *o.prune)
		if err != nil {
			return 0, err
		}
		s.tell.note("%s taken away", count(len(gone), "run"))
		return ExitPassed, nil
	}
	store, err := bench.History()
	if err != nil {
		return 0, err
	}
	defer func() { _ = store.Close() }()
	if store.Note != "" {
		s.tell.note("note: %s", s.tell.visible(store.Note))
	}
	switch {
	case o.steps, len(o.values) > 0:
		files, err := bench.SheetNames(args)
		if err != nil {
			return 0, err
		}
		q := history.RunQuery{Most: o.most, Sites: s.common.sites, Files: files}
		if o.steps {
			return showTrends(s, store, q)
		}
		return showValues(s, store, q, o)
	case len(o.carryIn) > 0:
		return importRuns(ctx, s, bench, store, o.carryIn)
	case o.export != "":
		return exportRuns(s, store, o, args)
	}
	return listRuns(s, store, o.most)
}

// listRuns lists the newest runs and calls, a line each.
func listRuns(s *session, store *history.Store, most int) (int, error) {
	runs, err := store.RecentAt(most, s.common.sites)
	if err != nil {
		return 0, err
	}
	if s.common.json {
		return ExitPassed, jsonList(s.tell, runs)
	}
	if len(runs) == 0 {
		s.tell.note("nothing was run yet")
		return ExitPassed, nil
	}
	t := s.tell
	narrow := t.width < 90
	site := 4
	for _, run := range runs {
		site = min(max(site, len([]rune(sitesOf(run)))), 16)
	}
	if !narrow {
		t.printf("%s\n", t.in(faint,
			fmt.Sprintf("%3s  %-19s  %-*s  %-12s  %4s  %9s  %8s  %s", "run", "when", site, "site", "outcome", "rows",
				"exchanges", "time", "what")))
	}
	for _, run := range runs {
		if narrow {
			t.printf("%3d  %s  %s\n%s\n", run.Number, run.Started.Local().Format("2006-01-02 15:04:05"),
				colouredOutcome(s.tell, run.Outcome, len(run.Outcome)),
				t.wrap(fmt.Sprintf("%s, %s, %s, %s: %s", sitesOf(run), count(run.Counts.Rows, "row"),
					count(run.Counts.Exchanges, "exchange"),
					milliseconds(time.Duration(run.Seconds*float64(time.Second))), t.visible(whatRan(store, run))),
					t.width, 5))
			continue
		}
		t.printf("%3d  %s  %s  %s  %4d  %9d  %8s  %s\n", run.Number,
			run.Started.Local().Format("2006-01-02 15:04:05"), t.fit(sitesOf(run), site),
			colouredOutcome(s.tell, run.Outcome, 12), run.Counts.Rows, run.Counts.Exchanges,
			milliseconds(time.Duration(run.Seconds*float64(time.Second))), t.visible(whatRan(store, run)))
	}
	return ExitPassed, nil
}

// sitesOf names the sites of a run.
func sitesOf(run *history.Run) string {
	var sites []string
	for _, sheet := range run.Sheets {
		if !slices.Contains(sites, sheet.Site) {
			sites = append(sites, sheet.Site)
		}
	}
	return strings.Join(sites, " ")
}

// colouredOutcome shows an outcome in its colour, in a column.
func colouredOutcome(t *printer, outcome string, width int) string {
	style := red
	switch outcome {
	case string(workbench.Passed):
		style = green
	case string(workbench.NotRun):
		style = faint
	}
	return t.in(style, t.fit(outcome, width))
}

// whatRan says in a line which sheets a run had, or which call it was.
func whatRan(store *history.Store, run *history.Run) string {
	var words []string
	for _, sheet := range run.Sheets {
		switch {
		case sheet.File != "":
			words = append(words, sheet.File)
		case sheet.Sheet != "call": // a probe
			words = append(words, sheet.Sheet)
		}
	}
	switch {
	case len(words) > 3:
		return fmt.Sprintf("%s and %d more sheets", words[0], len(words)-1)
	case len(words) > 0:
		return strings.Join(words, " ")
	}
	stored, err := store.Get(run.Number)
	if err != nil {
		return ""
	}
	for row, err := range stored.Rows(0) {
		if err == nil && len(row.Steps) > 0 {
			return "call " + row.Steps[0].Target
		}
	}
	return ""
}
