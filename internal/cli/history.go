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
	"testbench/internal/secret"
	"testbench/internal/workbench"
)

type historyOptions struct {
	most  int
	steps bool
	full  bool
	prune *int // how many runs are kept; nil for all
}

func historyCommand() *command {
	return &command{
		name: "history", group: "looking back",
		purpose: "shows past runs and calls, an exchange of them in full, and how steps fared over time",
		usage:   "[RUN or RUN.EXCHANGE]",
		examples: []string{
			"testbench history", "testbench history 3", "testbench history 3.2",
			"testbench history -steps",
		},
		options: func(f *flag.FlagSet) any {
			o := &historyOptions{}
			f.IntVar(&o.most, "most", 20, "how many runs are looked at")
			f.BoolVar(&o.steps, "steps", false,
				"how each step fared over the runs: outcomes, times, what newly fails")
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
		run: func(_ context.Context, s *session, options any, args []string) (int, error) {
			return runHistory(s, options.(*historyOptions), args)
		},
	}
}

func runHistory(s *session, o *historyOptions, args []string) (int, error) {
	s.full = o.full
	if len(args) > 1 {
		return 0, usagef("testbench history 18, testbench history 18.3", "one run or exchange at a time")
	}
	if o.most < 1 {
		return 0, usagef("", "-most takes a number from 1")
	}
	if len(args) == 1 {
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
	if o.steps {
		return showTrends(s, store, o.most)
	}
	runs, err := store.Recent(o.most)
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
	if !narrow {
		t.printf("%s\n", t.in(faint,
			fmt.Sprintf("%3s  %-19s  %-12s  %4s  %9s  %8s  %s", "run", "when", "outcome", "rows", "exchanges", "time",
				"what")))
	}
	for _, run := range runs {
		if narrow {
			t.printf("%3d  %s  %s\n%s\n", run.Number, run.Started.Local().Format("2006-01-02 15:04:05"),
				colouredOutcome(s.tell, run.Outcome, len(run.Outcome)),
				t.wrap(fmt.Sprintf("%s, %s, %s: %s", count(run.Counts.Rows, "row"),
					count(run.Counts.Exchanges, "exchange"),
					milliseconds(time.Duration(run.Seconds*float64(time.Second))), t.visible(whatRan(store, run))),
					t.width, 5))
			continue
		}
		t.printf("%3d  %s  %s  %4d  %9d  %8s  %s\n", run.Number, run.Started.Local().Format("2006-01-02 15:04:05"),
			colouredOutcome(s.tell, run.Outcome, 12), run.Counts.Rows, run.Counts.Exchanges,
			milliseconds(time.Duration(run.Seconds*float64(time.Second))), t.visible(whatRan(store, run)))
	}
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

// showTrends shows how each step fared over the runs.
func showTrends(s *session, store *history.Store, most int) (int, error) {
	trends, err := store.Trends(most)
	if err != nil {
		return 0, err
	}
	if s.common.json {
		return ExitPassed, jsonList(s.tell, trends)
	}
	t := s.tell
	if len(trends) == 0 {
		t.note("no sheet was run yet")
		return ExitPassed, nil
	}
	width := 4
	for _, trend := range trends {
		width = max(width, len([]rune(trend.Step)))
	}
	width = min(width, 30)
	file := ""
	for _, trend := range trends {
		if trend.File != file {
			file = trend.File
			t.printf("%s\n", t.in(bold, t.visible(file)))
		}
		var signs strings.Builder
		for _, outcome := range trend.Outcomes {
			signs.WriteString(signOf(s.tell, outcome))
		}
		now, before := trend.Times[len(trend.Times)-1], trend.Before()
		took := ""
		if now > 0 {
			took = milliseconds(time.Duration(now * float64(time.Millisecond)))
		}
		if now > 0 && before > 0 {
			took += fmt.Sprintf("  (%s before)", milliseconds(time.Duration(before*float64(time.Millisecond))))
		}
		word := trend.Word()
		if slices.Contains([]string{"newly failing", "failures", "comes and goes"}, word) {
			word = t.in(red, word)
		}
		line := t.fit(trend.Step,
			width) + "  " + signs.String() + strings.Repeat(" ", max(min(most, 20)-len(trend.Outcomes), 0)) + "  "
		if word != "" {
			took = t.fit(took, 26) + "  " + word
		}
		t.printf("  %s\n", strings.TrimRight(line+took, " "))
	}
	t.note("%s passed, %s failed, %s not run; the newest at the right", t.sign("•", "+"), t.sign("✗", "x"),
		t.sign("·", "."))
	return ExitPassed, nil
}

func signOf(t *printer, outcome string) string {
	switch outcome {
	case string(workbench.Passed):
		return t.in(green, t.sign("•", "+"))
	case string(workbench.NotRun):
		return t.in(faint, t.sign("·", "."))
	}
	return t.in(red, t.sign("✗", "x"))
}
