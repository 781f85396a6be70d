package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/fields"
	"testbench/internal/report"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

type doubtOptions struct {
	least part
	most  int
	all   bool
	into  string
	out   list
}

// part is a part of a whole, in per cent, as an option takes it: 80%. The zero value asks for nothing.
type part float64

func (p *part) String() string { return "" }

// Set reads it.
func (p *part) Set(text string) error {
	number, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	if err != nil || number <= 0 || number > 100 {
		return fmt.Errorf("-least takes a part from 1%% to 100%%, not %q", text)
	}
	*p = part(number)
	return nil
}

func doubtCommand() *command {
	return &command{
		name: "doubt", group: "checking",
		purpose: "changes recorded answers, one thing at a time, and tells which changes no check would notice",
		usage:   "[RUN | SHEET...]",
		examples: []string{
			"testbench doubt sheets/01-search.yaml", "testbench doubt 17", "testbench doubt sheets/*.yaml -least 80%",
			"testbench doubt sheets/01-search.yaml -into sheets/01-search.yaml",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &doubtOptions{}
			f.Var(&o.least, "least", "exit status 1 where a smaller `part` of the changes of a sheet is noticed: 80%")
			f.IntVar(&o.most, "most", workbench.MostChanges,
				"try at most this `number` of changes of a sheet; of more, a sample")
			f.BoolVar(&o.all, "all", false, "show all fields with changes that nobody notices")
			f.Var(&o.out, "out", "the run as a `page` (.html) with this in it; repeatable")
			f.StringVar(&o.into, "into", "", "put the rules that would notice into this `sheet`")
			return o.run
		},
	}
}

func (o *doubtOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	asked := workbench.DoubtOptions{Options: s.options(), Most: o.most}
	if o.most < 1 {
		return 0, usagef("", "-most takes a number from 1")
	}
	if err := pagesOnly(o.out); err != nil {
		return 0, err
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	number, numberErr := 0, error(nil)
	if len(args) == 1 {
		number, numberErr = strconv.Atoi(args[0])
	}
	switch {
	case len(args) == 1 && numberErr == nil && number < 1:
		return 0, usagef("testbench history lists them", "runs have numbers from 1")
	case len(args) == 1 && numberErr == nil:
		asked.Run = number
	case !slices.Equal(args, []string{"last"}):
		asked.Sheets = args
	}
	doubted, err := bench.Doubt(ctx, asked)
	if err != nil {
		return 0, err
	}
	if o.into != "" {
		if err := putDoubtedRules(s, bench, o.into, doubted); err != nil {
			return 0, err
		}
	}
	if len(doubted) > 0 {
		if err := writePages(s, o.out, doubted[0].Run, report.Options{Doubted: doubted}); err != nil {
			return 0, err
		}
	}
	if s.common.json {
		if err := jsonList(s.tell, doubted); err != nil {
			return 0, err
		}
	}
	status := ExitPassed
	for _, one := range doubted {
		if !s.common.json {
			showDoubted(s.tell, one, o.all)
		}
		if 100*one.Share() < float64(o.least) {
			status = ExitFailed
			s.tell.note("%s: noticed %s, and -least asks for %g %%", one.File, report.Percent(one.Share()), o.least)
		}
	}
	return status, nil
}

// mostDoubted is how many fields are shown of a sheet.
const mostDoubted = 12

// showDoubted tells what the checks of a sheet notice: first in a number, then the fields that matter most.
func showDoubted(t *printer, d *workbench.Doubted, all bool) {
	dot := t.sign(" · ", " - ")
	style := green
	if d.Missed > 0 {
		style = red
	}
	t.printf("%s%ssite %s%s%s\n", t.in(bold, t.visible(d.File)), dot, t.visible(d.Site), dot,
		t.in(style, fmt.Sprintf("noticed %d of %s (%s)", d.Noticed, count(d.Noticed+d.Missed, "change"),
			report.Percent(d.Share()))))
	var beside []string
	if d.Tried < d.Of {
		beside = append(beside, fmt.Sprintf("a sample of %d of %d", d.Tried, d.Of))
	}
	if d.Allowed > 0 {
		beside = append(beside, fmt.Sprintf("%d more may pass: a rule or the contract lets them, or the value is "+
			"new each time", d.Allowed))
	}
	if d.Unknown > 0 {
		beside = append(beside, fmt.Sprintf("%d not judged: a later step would ask for something else", d.Unknown))
	}
	for _, line := range beside {
		t.printf("%s\n", t.in(faint, t.wrap(line, t.width, 2)))
	}
	found := d.Findings()
	for i, f := range found {
		if i == mostDoubted && !all {
			t.printf("\n  and %s more; -all shows them\n", count(len(found)-i, "field"))
			break
		}
		name := f.Path
		if name == "" {
			name = "the answer as a whole"
		}
		t.printf("\n  %s%s%s\n", t.in(bold, t.visible(f.Step)), dot, t.in(bold, t.visible(name)))
		for _, words := range f.Words {
			t.printf("%s\n", t.wrap(words, t.width, 4))
		}
		if len(f.Rules) > 0 {
			more := ""
			if f.ByRules < f.Missed {
				more = fmt.Sprintf("   (%d of %d)", f.ByRules, f.Missed)
			}
			t.printf("%s\n", t.in(faint, t.wrap("would notice: "+strings.Join(f.Rules, "; ")+more, t.width, 4)))
		}
	}
	if d.ByRules > 0 {
		with := float64(d.Noticed+d.ByRules) / float64(d.Noticed+d.Missed)
		t.printf("\n%s\n", t.wrap(fmt.Sprintf("with these rules %s would be noticed; -into SHEET puts them into "+
			"the sheet", report.Percent(with)), t.width, 2))
	}
	lines := func(title string, all []string) {
		for i, one := range all {
			if i == 0 {
				t.printf("\n  %s\n", title)
			}
			t.printf("%s\n", t.wrap(one, t.width, 4))
		}
	}
	lines("checks that none of the changes made fail", d.Idle)
	var same []string
	for _, pair := range d.Same {
		same = append(same, pair[0]+dot+pair[1])
	}
	lines("checks that say the same", same)
	lines("what cannot be judged again", d.Notes)
}

// putDoubtedRules puts the rules that would notice into a sheet.
func putDoubtedRules(s *session, bench *workbench.Bench, into string, doubted []*workbench.Doubted) error {
	names, err := bench.SheetNames([]string{into})
	if err != nil {
		return err
	}
	of := slices.IndexFunc(doubted, func(d *workbench.Doubted) bool { return d.File == names[0] })
	if of < 0 {
		return usagef("testbench doubt "+into+" -into "+into, "-into %s is not a sheet that was doubted", into)
	}
	var steps []string
	proposals := map[string][]fields.Proposal{}
	for _, f := range doubted[of].Fields {
		if f.Missed == 0 || len(f.Rules) == 0 {
			continue
		}
		if proposals[f.Step] == nil {
			steps = append(steps, f.Step)
		}
		proposals[f.Step] = append(proposals[f.Step], fields.Proposal{Path: f.Path, Rules: f.Rules})
	}
	if len(steps) == 0 {
		s.tell.note("there is no rule to put into %s", into)
	}
	at := into
	if _, err := os.Stat(at); err != nil { // named as the bench does
		at = filepath.Join(bench.Dir, names[0])
	}
	source, err := os.ReadFile(at)
	if err != nil {
		return err
	}
	file := yamlfile.Read(at, source)
	for _, step := range steps {
		if stepNamed(file, step) == nil {
			s.tell.note("the step %q is not written in %s: its rules belong where it is", step, into)
			continue
		}
		if err := putRules(s.tell, at, step, proposals[step]); err != nil {
			// The other steps get theirs all the same.
			s.tell.note("step %q: %s", step, s.tell.message(err.Error()))
			s.tell.note("%s", s.tell.visible(strings.TrimRight(fields.AsRules(proposals[step]), "\n")))
		}
	}
	return nil
}
