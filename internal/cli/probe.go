package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"testbench/internal/probe"
	"testbench/internal/report"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
)

type probeOptions struct {
	callOptions
	only, rate, as string
	seed           uint64
	within         time.Duration
	bad            bool
	out            list
}

func probeCommand() *command {
	return &command{
		name: "probe", group: "checking",
		purpose: "sends wrong requests on purpose, and says how the service takes each",
		usage:   "SERVICE/OPERATION [field=value ...] | SHEET STEP",
		examples: []string{
			"testbench probe lab/GradeLot lot=L-2201 moisture=17",
			"testbench probe stores/search grade=A -only credentials,limits",
			"testbench probe sheets/01-search.yaml details -bad",
			"testbench probe ledger/Suppliers.create name=Moor city=Heatherfold -write local -rate 20/s",
			"testbench probe stores/search grade=A -as sheet -out sheets/wrong-search.yaml",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &probeOptions{}
			var kinds []string
			for _, kind := range probe.Kinds {
				kinds = append(kinds, string(kind))
			}
			f.StringVar(&o.only, "only", "", "only these `kinds`, with commas between: "+strings.Join(kinds, ", "))
			f.Uint64Var(&o.seed, "seed", 1, "decides what is made up; the same `number` makes the same requests")
			f.StringVar(&o.rate, "rate", "", "how many requests go out in a time: 20/s, 100/min (`requests/time`)")
			f.DurationVar(&o.within, "within", 10*time.Second, "an answer that takes longer counts as broke")
			f.BoolVar(&o.bad, "bad", false, "show only what was not refused clearly and may not be taken either")
			f.StringVar(&o.as, "as", "", "send nothing and write the wrong requests as a `sheet`, to be kept and run")
			f.Var(&o.out, "out",
				"a report into a `file`: .html, .xml (JUnit), .har, .md, .json, .ndjson, .csv; repeatable. With -as "+
					"sheet, the sheet")
			o.shape(f)
			return o.run
		},
	}
}

// ask reads the options.
func (o *probeOptions) ask(options workbench.Options) (workbench.ProbeOptions, error) {
	out := workbench.ProbeOptions{Options: options, Seed: o.seed, Slow: o.within}
	if o.within <= 0 {
		return out, usagef("-within 5s", "-within %s is not a time", o.within)
	}
	var err error
	if out.Rate, err = parseRate(o.rate); err != nil {
		return out, err
	}
	var known []string
	for _, kind := range probe.Kinds {
		known = append(known, string(kind))
	}
	for name := range strings.SplitSeq(o.only, ",") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		if !slices.Contains(known, name) {
			return out, usagef(firstOf(suggest.DidYouMean(name, known), "there are: "+strings.Join(known, ", ")),
				"-only %s is not a kind of change", name)
		}
		out.Only = append(out.Only, probe.Kind(name))
	}
	if o.as != "" && o.as != "sheet" {
		return out, usagef("-as sheet", "-as %s is unknown", o.as)
	}
	if o.as == "sheet" {
		return out, nil
	}
	return out, resultsAndReports(o.out)
}

func (o *probeOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	bench, err := s.openOrNone()
	if err != nil {
		return 0, err
	}
	if len(args) == 0 {
		return 0, usagef("testbench probe stores/search grade=A", "probe which operation?")
	}
	asked, err := o.ask(s.options())
	if err != nil {
		return 0, err
	}
	if len(o.out) > 0 && o.as == "" && bench.Dir == "" {
		return 0, usagef("testbench new FOLDER starts a bench",
			"-out writes what the history of a bench holds, and there is no bench")
	}
	isSheet := false
	if _, statErr := os.Stat(args[0]); statErr == nil &&
		(strings.HasSuffix(args[0], ".yaml") || strings.HasSuffix(args[0], ".yml")) {
		if isSheet = true; len(args) != 2 {
			return 0, usagef("testbench probe "+args[0]+" STEP", "probe which step of %s?", args[0])
		}
	}
	var step *sheet.Step
	if !isSheet {
		if step, asked.Options, err = prepareCall(s, bench, &o.callOptions, args); err != nil {
			return 0, err
		}
	}
	if o.as == "sheet" {
		return probeSheet(ctx, s.tell, bench, o, step, args, asked)
	}
	table := &probeTable{out: s.tell, bad: o.bad}
	if !s.common.json {
		asked.Begun, asked.Told = table.begin, table.tell
	}
	var result *workbench.ProbeResult
	if isSheet {
		result, err = workbench.ProbeStep(ctx, bench, args[0], args[1], asked)
	} else {
		result, err = workbench.Probe(ctx, bench, step, asked)
	}
	var notGood *workbench.NotGoodError
	switch {
	case errors.Is(err, workbench.ErrWrites):
		return 0, usagef("-write SITE sends it, where that may be; -as sheet writes it down and sends nothing",
			"%s: %v", strings.Join(args, " "), err)
	case errors.As(err, &notGood):
		s.tell.fail(err)
		return max(ExitFailed, notGood.Result.Outcome.ExitStatus()), nil
	case err != nil:
		return 0, err
	}
	return finishProbe(s, bench, o, table, result)
}

func finishProbe(s *session, bench *workbench.Bench, o *probeOptions, table *probeTable,
	result *workbench.ProbeResult,
) (int, error) {
	if s.common.json {
		if err := s.tell.json(result.Record()); err != nil {
			return 0, err
		}
	} else {
		table.end(result)
	}
	for _, note := range result.Notes {
		s.tell.note("note: %s", s.tell.visible(note))
	}
	if result.Number > 0 {
		if !s.common.json {
			s.tell.note("%s", s.tell.wrap(fmt.Sprintf("recorded as run %d: testbench report %d -out probe.html",
				result.Number, result.Number), s.tell.width, 0))
		}
		for _, file := range o.out {
			run, done, err := storedRun(s, fmt.Sprint(result.Number))
			if err == nil {
				err = writeReports(s, []string{file}, run, report.Options{})
				done()
			}
			if err != nil {
				return 0, err
			}
		}
	}
	return result.Outcome.ExitStatus(), nil
}

// probeSheet writes the wrong requests down.
func probeSheet(ctx context.Context, t *printer, bench *workbench.Bench, o *probeOptions, step *sheet.Step,
	args []string, asked workbench.ProbeOptions,
) (int, error) {
	if step == nil {
		found, err := workbench.StepOf(bench, args[0], args[1], asked.Options)
		if err != nil {
			return 0, err
		}
		step = found
	}
	text, count, err := workbench.ProbeSheet(ctx, bench, step, strings.Join(args, " "), asked)
	if err != nil {
		return 0, err
	}
	if len(o.out) == 0 {
		t.printf("%s", text)
		return ExitPassed, nil
	}
	for _, file := range o.out {
		if err := safefile.Write(file, []byte(text), 0o644); err != nil {
			return 0, err
		}
		t.note("%d wrong requests are in %s: testbench run %s", count, file, file)
	}
	return ExitPassed, nil
}

// probeTable shows how wrong requests are taken, as they are.
type probeTable struct {
	out   *printer
	bad   bool
	kind  probe.Kind
	why   string // told last
	width int    // of the column of what was changed
}

func (t *probeTable) begin(result *workbench.ProbeResult, cases int) {
	dot := t.out.sign(" · ", " - ")
	of := dot
	if t.out.width < narrowProbe {
		of = "\n"
	}
	t.out.printf("%s%ssite %s%s%s\n", t.out.in(bold, "probe "+t.out.visible(result.Target)),
		of, t.out.visible(result.Site), dot, count(cases, "wrong request"))
	if last := result.Good.Last(); last != nil && last.Answer != nil {
		t.out.printf("%s\n",
			t.out.in(faint,
				fmt.Sprintf("as it is right: %d in %s", last.Answer.Status, milliseconds(last.Phases.Total))))
	}
	t.width = min(max(t.out.width-48, 30), 70)
}

var verdictStyles = map[probe.Verdict]string{
	probe.Clearly: green, probe.Unclearly: bold, probe.Accepted: bold,
	probe.Broke: red, probe.LetIn: red, probe.NotSent: faint,
}

func (t *probeTable) tell(one *workbench.Probed) {
	isFine := one.Verdict == probe.Clearly || one.Verdict == probe.Accepted && one.Allowed
	if t.bad && (isFine || one.Verdict == probe.NotSent) {
		return
	}
	tell := t.out
	if one.Kind != t.kind {
		t.kind = one.Kind
		tell.printf("\n%s\n", tell.in(bold, string(one.Kind)))
	}
	style := verdictStyles[one.Verdict]
	if one.Verdict == probe.Accepted && one.Allowed {
		style = faint
	}
	took := ""
	if one.Result != nil && one.Result.Last() != nil {
		took = milliseconds(one.Result.Last().Phases.Total)
	}
	words := strings.TrimRight(tell.fit(tell.oneLine(one.Changed), mostOfProbe), " ")
	if tell.width < narrowProbe {
		dot := tell.sign(" · ", " - ")
		said := strings.Join(slices.DeleteFunc([]string{one.Said, took}, func(s string) bool { return s == "" }), dot)
		if said != "" {
			said += dot
		}
		tell.printf("%s\n    %s%s\n", tell.wrap(words, tell.width, 2), tell.visible(said),
			tell.in(style, string(one.Verdict)))
		t.why = ""
		return
	}
	lines := strings.Split(tell.wrap(words, t.width, 0), "\n")
	tell.printf("  %s  %s %s  %s\n", tell.fit(lines[0], t.width), tell.fit(one.Said, 20), tell.fit(took, 8),
		tell.in(style, string(one.Verdict)))
	for _, line := range lines[1:] {
		tell.printf("    %s\n", line)
	}
	why := one.Why
	if one.Verdict == probe.Accepted && !one.Allowed && len(one.Breaks) > 0 {
		why = "though the contract forbids it: " + one.Breaks[0]
	}
	if why != "" && !(isFine && one.Verdict == probe.Accepted) && (one.Verdict != probe.NotSent || why != t.why) {
		tell.printf("%s\n", tell.in(faint, tell.wrap(tell.oneLine(why), max(tell.width, 40), 6)))
	}
	t.why = why
}

// narrowProbe is the width below which a table does not fit.
const narrowProbe = 80

// mostOfProbe is how many characters of what was changed are shown: some of it is long on purpose.
const mostOfProbe = 160

// end sums up by kind.
func (t *probeTable) end(result *workbench.ProbeResult) {
	tell := t.out
	if tell.width < narrowProbe {
		for _, kind := range append(slices.Clone(probe.Kinds), "") {
			var words []string
			for _, verdict := range probe.Verdicts {
				if n := result.Counts(kind)[verdict]; n > 0 {
					words = append(words, fmt.Sprintf("%d %s", n, verdict))
				}
			}
			if len(words) > 0 {
				tell.printf("%s\n", tell.wrap(firstOf(string(kind), "all")+": "+strings.Join(words, ", "), tell.width,
					0))
			}
		}
		t.verdict(result)
		return
	}
	heads := []string{"refused clearly", "unclearly", "accepted", "broke", "let in", "not sent"}
	tell.printf("\n%s", tell.fit("", 11))
	for _, head := range heads {
		tell.printf("  %*s", len(head), head)
	}
	tell.printf("\n")
	row := func(name string, counts map[probe.Verdict]int) {
		tell.printf("%s", tell.fit(name, 11))
		for i, verdict := range probe.Verdicts {
			text := fmt.Sprintf("%*d", len(heads[i]), counts[verdict])
			switch {
			case counts[verdict] == 0:
				text = tell.in(faint, fmt.Sprintf("%*s", len(heads[i]), tell.sign("·", "-")))
			case verdict.IsBad():
				text = tell.in(red, text)
			}
			tell.printf("  %s", text)
		}
		tell.printf("\n")
	}
	for _, kind := range probe.Kinds {
		if counts := result.Counts(kind); len(counts) > 0 {
			row(string(kind), counts)
		}
	}
	row("all", result.Counts(""))
	t.verdict(result)
}

// verdict is the last word.
func (t *probeTable) verdict(result *workbench.ProbeResult) {
	tell, all, may, gap := t.out, result.Counts(""), 0, " "
	if tell.width < narrowProbe {
		gap = "\n"
	}
	for _, one := range result.Cases {
		if one.Verdict == probe.Accepted && one.Allowed {
			may++
		}
	}
	tell.printf("\n")
	if may > 0 {
		tell.printf("%d of those accepted are allowed\n", may)
	}
	switch {
	case all[probe.Broke]+all[probe.LetIn] > 0:
		tell.printf("%s:%s%d broke it, %d let in without the right\n", tell.in(red, "failed"), gap,
			all[probe.Broke], all[probe.LetIn])
	default:
		tell.printf("%s:%snothing broke it, and nothing was let in\n", tell.in(green, "passed"), gap)
	}
}
