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

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/secret"
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
		options: func(f *flag.FlagSet) any {
			o := &historyOptions{}
			f.IntVar(&o.most, "most", 0, "how many runs are looked at, the newest ones (20; with -steps and -export 30)")
			f.BoolVar(&o.steps, "steps", false,
				"how each step fared over the runs: what newly fails, is flaky or slower, and since when")
			f.Var(&o.carryIn, "import",
				"take in the runs of a `file` (.json or .ndjson) or of a folder; those that are here stay as they are")
			f.Var(&o.values, "values", "what the rows of the sheets kept under this `name`, over the runs; repeatable")
			f.Var(&o.out, "out", "these values into a `file`: "+report.SeriesEndings+"; repeatable")
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
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return runHistory(ctx, s, options.(*historyOptions), args)
		},
	}
}

func runHistory(ctx context.Context, s *session, o *historyOptions, args []string) (int, error) {
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
		if o.steps {
			return showTrends(s, store, o, files)
		}
		return showValues(s, store, o, files)
	case len(o.carryIn) > 0:
		return importRuns(ctx, s, store, o.carryIn)
	case o.export != "":
		return exportRuns(s, bench, store, o, args)
	}
	runs, err := store.RecentAt(o.most, s.common.sites)
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

// importRuns takes in runs that were written elsewhere.
func importRuns(ctx context.Context, s *session, store *history.Store, names []string) (int, error) {
	var runs []*history.File
	for _, name := range names {
		files, err := history.FilesOfRuns(name)
		if err != nil {
			return 0, usagef("", "-import: there is no file or folder %s", name)
		}
		for _, file := range files {
			run, err := history.OpenFile(file)
			if err != nil {
				return 0, err
			}
			runs = append(runs, run)
		}
	}
	// In the order in which they were run, so that their numbers go up.
	slices.SortStableFunc(runs, func(a, b *history.File) int { return a.Run().Started.Compare(b.Run().Started) })
	taken := 0
	for _, run := range runs {
		number, isNew, err := store.Import(ctx, run, false)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", run.Name, err)
		}
		if isNew {
			taken++
			s.tell.note("run %d: %s", number, run.Name)
		}
	}
	s.tell.note("%s taken in, %d were here", count(taken, "run"), len(runs)-taken)
	return ExitPassed, nil
}

// exportRuns writes runs into a folder: those that are named, or the newest ones that had sheets.
func exportRuns(s *session, bench *workbench.Bench, store *history.Store, o *historyOptions,
	names []string,
) (int, error) {
	var numbers []int
	for _, name := range names {
		number, err := runNumber(bench, name)
		if err != nil {
			return 0, err
		}
		numbers = append(numbers, number)
	}
	if len(names) == 0 {
		runs, err := store.Recent(o.most)
		if err != nil {
			return 0, err
		}
		for _, run := range runs {
			if len(run.Order.Files) > 0 {
				numbers = append(numbers, run.Number)
			}
		}
	}
	written := 0
	for _, number := range numbers {
		run, err := store.Get(number)
		if err != nil {
			return 0, err
		}
		_, isNew, err := history.Export(run, o.export)
		if err != nil {
			return 0, fmt.Errorf("-export: %w", err)
		}
		if isNew {
			written++
		}
	}
	s.tell.note("%s written into %s, %d were there", count(written, "run"), o.export, len(numbers)-written)
	return ExitPassed, nil
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

// pastRun shows a run with its exchanges, or one exchange in full.
func pastRun(s *session, name string) (int, error) {
	run, number, ok := exchangeName(name)
	if !ok {
		return 0, usagef("testbench history 18, testbench history 18.3, testbench history last",
			"%q is neither a run nor an exchange", name)
	}
	if name == "last" || strings.Contains(name, ".") {
		return pastExchange(s, run, number)
	}
	stored, done, err := storedRun(s, name)
	if err != nil {
		return 0, err
	}
	defer done()
	if s.common.json {
		return ExitPassed, history.WriteJSON(s.tell.out, stored)
	}
	t := s.tell
	head := stored.Run()
	t.printf("%s\n", t.in(bold,
		fmt.Sprintf("run %d", run))+t.sign(" · ", " - ")+head.Started.Local().Format("2006-01-02 15:04:05")+
		t.sign(" · ", " - ")+colouredOutcome(s.tell, head.Outcome, len(head.Outcome)))
	exchange := 0
	for i, sheet := range head.Sheets {
		t.printf("%s%ssite %s\n", t.in(bold, t.visible(sheet.Sheet)), t.sign(" · ", " - "), t.visible(sheet.Site))
		for row, err := range stored.Rows(i) {
			if err != nil {
				return 0, err
			}
			if row.Name() != "" {
				t.printf("  %s\n", t.oneLine(row.Name()))
			}
			for _, step := range row.Steps {
				which := ""
				if n := len(step.Exchanges) + step.Sent; n > 0 {
					which = fmt.Sprintf("%d.%d", run, exchange+n)
					exchange += n
				}
				status := "   "
				if step.Status > 0 {
					status = fmt.Sprintf("%3d", step.Status)
				}
				t.printf("  %s  %s  %s  %s  %s\n", t.fit(which, 8), t.fit(step.Step, 24), t.fit(step.Target, 28),
					status, colouredOutcome(s.tell, step.Outcome, 0+len(step.Outcome)))
			}
		}
	}
	t.note("next: testbench history %d.1   (an exchange in full)", run)
	return ExitPassed, nil
}

// pastExchange shows one exchange as it was.
func pastExchange(s *session, run, number int) (int, error) {
	e, err := recordedExchange(s, run, number)
	if err != nil {
		return 0, err
	}
	if s.common.json {
		return ExitPassed, s.tell.json(e)
	}
	t := s.tell
	lines := func(headers map[string][]secret.Text) {
		for _, name := range sortedHeader(headers) {
			for _, v := range headers[name] {
				t.printf("%s\n", t.in(faint, t.visible(name+": "+string(v))))
			}
		}
	}
	body := func(headers map[string][]secret.Text, text secret.Text) {
		if text == "" {
			return
		}
		mediaType := string(history.Field(headers, "Content-Type"))
		node, format, err := document.Read(mediaType, []byte(text))
		if err != nil {
			node = nil
		}
		t.printf("%s\n", bodyText(s, format, node, []byte(text), ""))
	}
	t.printf("%s %s\n", t.in(bold, t.visible(e.Request.Method)), t.visible(string(e.Request.Address)))
	lines(e.Request.Headers)
	body(e.Request.Headers, e.Request.Body)
	t.printf("\n")
	if e.Failure != "" {
		t.printf("%s\n", t.in(red, t.visible(string(e.Failure))))
	}
	if e.Status > 0 {
		dot := t.sign(" · ", " - ")
		t.printf("%s%s%.1f ms%s%s\n", t.in(bold, t.visible(string(e.StatusLine()))), dot, e.Milliseconds, dot,
			size(len(e.Body)))
		if words := exchange.PhasesOf(e.Phases).Words(); words != "" {
			t.printf("%s\n", t.in(faint, words))
		}
		if e.TLS != nil {
			t.printf("%s\n", t.in(faint, t.visible(e.TLS.Words())))
		}
		lines(e.Headers)
		body(e.Headers, e.Body)
	}
	for _, note := range e.Notes {
		t.printf("%s\n", t.wrap("note: "+string(note), t.width, 0))
	}
	return ExitPassed, nil
}

// mostStepsShown is up to how many steps each is shown; of more only those with something to notice.
const mostStepsShown = 200

// showTrends shows how each step fared over the runs, and at the end what is to be noticed.
func showTrends(s *session, store *history.Store, o *historyOptions, files []string) (int, error) {
	trends, err := store.Trends(history.TrendQuery{Most: o.most, Sites: s.common.sites, Files: files})
	if err != nil {
		return 0, err
	}
	t := s.tell
	if len(trends.Runs) == 0 && len(files)+len(s.common.sites) > 0 {
		return 0, usagef("testbench history -steps shows all sheets and sites",
			"no run in the history is of %s", strings.Join(slices.Concat(files, s.common.sites), " and "))
	}
	if len(trends.Runs) == 0 {
		t.note("no sheet was run yet")
		return ExitPassed, nil
	}
	if s.common.json {
		return ExitPassed, t.json(trends)
	}
	width := 4
	for _, trend := range trends.Steps {
		width = max(width, len([]rune(trend.Step)))
	}
	width = min(width, 30)
	head, left := "", 0
	for _, trend := range trends.Steps {
		if len(trends.Steps) > mostStepsShown && len(trend.Findings) == 0 {
			left++
			continue
		}
		if is := trend.File + t.sign(" · ", " - ") + "site " + trend.Site; is != head {
			head = is
			t.printf("%s\n", t.in(bold, t.visible(head)))
		}
		showTrend(t, trends.Runs, trend, width)
	}
	first, last := trends.Runs[0], trends.Runs[len(trends.Runs)-1]
	t.note("%s", t.wrap(fmt.Sprintf("%s, run %d of %s to run %d of %s, the newest at the right",
		count(len(trends.Runs), "run"), first.Number, first.Started.Local().Format("2006-01-02"), last.Number,
		last.Started.Local().Format("2006-01-02")), t.width, 0))
	t.note("%s", t.wrap(fmt.Sprintf("%s passed, %s failed, %s reached nobody, %s not run", t.sign("•", "+"),
		t.sign("✗", "x"), t.sign("○", "o"), t.sign("·", ".")), t.width, 0))
	if left > 0 {
		t.note("%s", t.wrap(count(left, "step")+" more with nothing to notice; name the sheet to see them", t.width, 0))
	}
	if trends.Shares > 0 {
		t.note("%s", t.wrap(count(trends.Shares, "share")+" left out: testbench report -merge makes one run of them",
			t.width, 0))
	}
	showFindings(t, trends)
	return ExitPassed, nil
}

// showTrend shows how a step fared, a sign for each of the runs.
func showTrend(t *printer, runs []history.RunOf, trend *history.Trend, width int) {
	outcomes := map[int]string{}
	for _, night := range trend.Nights {
		outcomes[night.Run] = night.Outcome
	}
	var signs strings.Builder
	for _, run := range runs {
		if outcome, had := outcomes[run.Number]; had {
			signs.WriteString(signOf(t, outcome))
		} else {
			signs.WriteByte(' ')
		}
	}
	took := ""
	if now := trend.Nights[len(trend.Nights)-1].Median; now > 0 {
		took = milliseconds(time.Duration(now * float64(time.Millisecond)))
	}
	t.printf("%s\n", strings.TrimRight("  "+t.fit(trend.Step, width)+"  "+signs.String()+"  "+took, " "))
}

// showValues shows what rows kept, over the runs: a line each.
func showValues(s *session, store *history.Store, o *historyOptions, files []string) (int, error) {
	for _, name := range o.out {
		if err := report.CheckSeriesName(name); err != nil {
			return 0, usagef("", "-out: %v", err)
		}
	}
	q := history.TrendQuery{Most: o.most, Sites: s.common.sites, Files: files}
	found, err := store.Values(q, o.values)
	if err != nil {
		return 0, err
	}
	if len(found) == 0 {
		return 0, usagef("a step keeps a value with keep: NAME: path", "no run in the history kept %s",
			strings.Join(o.values, " or "))
	}
	series := &report.Series{Of: "run", Title: strings.Join(o.values, ", "), Paths: o.values}
	for _, one := range found {
		point := report.Point{At: one.Started, Number: one.Run, Row: one.Row, Outcome: one.Outcome}
		for _, name := range o.values {
			point.Values = append(point.Values, string(one.Values[name]))
		}
		series.Add(point)
	}
	for _, name := range o.out {
		if err := series.WriteFile(name); err != nil {
			return 0, fmt.Errorf("-out: %w", err)
		}
		s.tell.note("written: %s", name)
	}
	if s.common.json {
		return ExitPassed, s.tell.json(found)
	}
	for _, one := range found {
		var shown []string
		for _, name := range o.values {
			shown = append(shown, name+" "+string(one.Values[name]))
		}
		for _, where := range []string{one.Row, one.File, one.Site} {
			if where != "" {
				shown = append(shown, where)
			}
		}
		s.tell.printf("%3d  %s  %s\n", one.Run, one.Started.Local().Format("2006-01-02 15:04:05"),
			strings.TrimLeft(s.tell.wrap(strings.Join(shown, s.tell.sign(" · ", " - ")), s.tell.width, 26), " "))
	}
	return ExitPassed, nil
}

// mostFindings is how many findings are told.
const mostFindings = 40

// showFindings tells what is to be noticed.
func showFindings(t *printer, trends *history.Trends) {
	found := report.Found(trends)
	for i, one := range found[:min(len(found), mostFindings)] {
		if i == 0 {
			t.printf("\n")
		}
		style := faint
		if slices.Contains([]history.FindingKind{history.NewlyFailing, history.Failing, history.Slower, history.Flaky},
			one.Finding.Kind) {
			style = red
		}
		t.printf("%s\n%s\n", t.in(style, t.visible(one.Trend.Step))+t.sign(" · ", " - ")+
			t.visible(one.Trend.File+t.sign(" · ", " - ")+"site "+one.Trend.Site),
			t.wrap(report.FindingWords(one.Finding), t.width, 4))
	}
	if more := len(found) - mostFindings; more > 0 {
		t.note("and %d more; -json has all", more)
	}
	for i, line := range report.DownLines(trends.Down) {
		if i == 0 {
			t.printf("\n")
		}
		t.printf("%s\n", t.wrap(line, t.width, 0))
	}
}

func signOf(t *printer, outcome string) string {
	switch outcome {
	case string(workbench.Passed):
		return t.in(green, t.sign("•", "+"))
	case string(workbench.NotRun), string(workbench.Interrupted):
		return t.in(faint, t.sign("·", "."))
	case string(workbench.Unreachable), string(workbench.LoginFailed):
		return t.in(red, t.sign("○", "o"))
	}
	return t.in(red, t.sign("✗", "x"))
}
