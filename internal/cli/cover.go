package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"strings"

	"testbench/internal/cover"
	"testbench/internal/report"
	"testbench/internal/workbench"
)

type coverOptions struct {
	runs  int
	least part
	all   bool
	out   list
	into  string
}

func coverCommand() *command {
	return &command{
		name: "cover", group: "looking back",
		purpose: "tells what of the contracts recorded runs have touched, and where a contract is not as the " +
			"service is",
		usage: "[SERVICE ...]",
		examples: []string{
			"testbench cover", "testbench cover stores -runs 5", "testbench cover lab -all",
			"testbench cover -least 60%",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &coverOptions{}
			f.IntVar(&o.runs, "runs", 20, "look at this `number` of runs, the newest ones")
			f.Var(&o.least, "least", "exit status 1 where a smaller `part` of a contract was touched: 60%")
			f.StringVar(&o.into, "into", "",
				"put statuses that came into the operations that this `file` describes with statuses: bench.yaml")
			f.Var(&o.out, "out", "the newest of the runs as a `page` (.html) with this in it; repeatable")
			f.BoolVar(&o.all, "all", false, "list all that was never touched, and all remarks")
			return o.run
		},
	}
}

func (o *coverOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if o.runs < 1 {
		return 0, usagef("", "-runs takes a number from 1")
	}
	if o.into != "" && filepath.Base(o.into) != "bench.yaml" {
		return 0, usagef("-into bench.yaml",
			"-into %s: cover puts something into bench.yaml alone; contracts are others' files",
			o.into)
	}
	if err := pagesOnly(o.out); err != nil {
		return 0, err
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	covered, runs, err := bench.Cover(ctx, workbench.CoverOptions{Options: s.options(), Services: args, Runs: o.runs})
	if err != nil {
		return 0, err
	}
	if len(runs) > 0 {
		if err := writePages(s, o.out, runs[0].Number, report.Options{Covered: covered}); err != nil {
			return 0, err
		}
	}
	if o.into != "" {
		put, err := bench.PutStatuses(covered)
		if err != nil {
			return 0, err
		}
		s.tell.note("%d put into bench.yaml", put)
	}
	status := ExitPassed
	if s.common.json {
		if err := jsonList(s.tell, covered); err != nil {
			return 0, err
		}
	}
	for i, one := range covered {
		if !s.common.json {
			if i > 0 {
				s.tell.printf("\n")
			}
			showCovered(s.tell, one, o.all)
		}
		if one.Wrong != "" || 100*one.Share() < float64(o.least) {
			status = ExitFailed
		}
		if one.Wrong == "" && 100*one.Share() < float64(o.least) {
			s.tell.note("%s: touched %s, and -least asks for %g %%", one.Name, report.Percent(one.Share()), o.least)
		}
	}
	switch len(runs) {
	case 0:
		s.tell.note("no sheet was run yet")
	case 1:
		s.tell.note("by run %d", runs[0].Number)
	default:
		s.tell.note("by %d runs, %d to %d", len(runs), runs[len(runs)-1].Number, runs[0].Number)
	}
	return status, nil
}

// What is shown of a service, unless all is to be.
const (
	mostNever   = 12
	mostRemarks = 12
	mostIdle    = 40 // of more operations those that were never called are not in the table
)

// columns of the table of operations, with the kinds that they count.
var coverColumns = []struct {
	name string
	kind cover.Kind
}{
	{"answers", cover.Status},
	{"given", cover.Given},
	{"left out", cover.Left},
	{"values", cover.Value},
	{"came", cover.Came},
	{"judged", cover.Check},
}

func showCovered(t *printer, c *workbench.Covered, all bool) {
	dot := t.sign(" · ", " - ")
	if c.Wrong != "" {
		t.printf("%s%s%s\n", t.in(bold, t.visible(c.Name)), dot, t.in(red, "its contract cannot be read"))
		t.printf("%s\n", t.wrap(c.Wrong, t.width, 2))
		return
	}
	touched, of := c.Touched()
	t.printf("%s%s%s%stouched %d of %d (%s)\n", t.in(bold, t.visible(c.Name)), dot, t.visible(c.Contract), dot, touched,
		of, report.Percent(c.Share()))
	showOperations(t, c, all)
	list := func(title string, most int, lines []string) {
		for i, line := range lines {
			if i == 0 {
				t.printf("\n  %s\n", title)
			}
			if i == most && !all {
				t.printf("    and %d more; -all shows them\n", len(lines)-i)
				break
			}
			t.printf("%s\n", t.wrap(line, t.width, 4))
		}
	}
	var never, remarks []string
	for _, u := range c.Never() {
		line := u.Operation.Name + ": " + u.Thing.Words()
		if u.Thing.Kind == cover.Call {
			line = fmt.Sprintf("%s: never called   testbench draft %s %s -as step", u.Operation.Name, c.Name,
				u.Operation.Name)
		}
		never = append(never, line)
	}
	for _, r := range c.Remarks {
		remarks = append(remarks, strings.TrimSpace(fmt.Sprintf("%s %s: %s   %s", r.Operation, r.Of,
			strings.TrimSpace(r.Path+" "+r.What), r.Exchange)))
	}
	list("never touched, what matters most first", mostNever, never)
	list("where the contract is not as the service is", mostRemarks, remarks)
	list("requests that no operation describes", mostRemarks, c.Elsewhere)
	if c.Unseen > 0 {
		t.printf("\n%s\n", t.wrap(fmt.Sprintf("%s not looked at: recorded without what was sent",
			count(c.Unseen, "exchange")), t.width, 2))
	}
}

// showOperations shows a line for each operation: how often it was called, and how much of each kind was touched.
func showOperations(t *printer, c *workbench.Covered, all bool) {
	width := 9
	for _, o := range c.Operations {
		width = min(max(width, len([]rune(o.Name))), 28)
	}
	head := fmt.Sprintf("  %-*s  %5s", width, "operation", "calls")
	for _, column := range coverColumns {
		head += fmt.Sprintf("  %9s", column.name)
	}
	t.printf("%s\n", t.in(faint, head))
	left := 0
	for _, o := range c.Operations {
		if len(c.Operations) > mostIdle && o.Calls == 0 && !all {
			left++
			continue
		}
		line := fmt.Sprintf("  %s  %5d", t.fit(o.Name, width), o.Calls)
		for _, column := range coverColumns {
			cell := ""
			if touched, of := o.Touched(column.kind); of > 0 {
				cell = fmt.Sprintf("%d of %d", touched, of)
			}
			line += fmt.Sprintf("  %9s", cell)
		}
		style := ""
		if o.Calls == 0 {
			style = faint
		}
		t.printf("%s\n", t.in(style, strings.TrimRight(line, " ")))
	}
	if left > 0 {
		t.printf("  and %s more that were never called\n", count(left, "operation"))
	}
}
