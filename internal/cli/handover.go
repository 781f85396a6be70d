package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"testbench/internal/document"
	"testbench/internal/handover"
	"testbench/internal/path"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
)

type handoverOptions struct {
	callOptions
	as, out string
	picks   list
	row     int
}

func handoverCommand() *command {
	return &command{
		name: "handover", group: "handing over", purpose: "writes a request as a program that runs as it is",
		usage: "SERVICE/OPERATION [field=value ...] | SHEET STEP | RUN.EXCHANGE",
		examples: []string{
			"testbench handover stores/search grade=A -as python -pick lots.0.id",
			"testbench handover lab/GradeLot lot=L-2201 moisture=17 -as java -out Grade.java",
			"testbench handover sheets/01-search.yaml details -set lot=L-2201 -as go",
			"testbench handover sheets/04-rows.yaml grade -row 2 -as python",
			"testbench handover 18.3 -as shell",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &handoverOptions{}
			var names []string
			for _, l := range handover.Languages() {
				names = append(names, l.Name)
			}
			f.StringVar(&o.as, "as", "shell", "the `language`: "+strings.Join(names, ", "))
			f.StringVar(&o.out, "out", "", "write the program to a `file`")
			f.Var(&o.picks, "pick", "a `path` in the answer whose value the program prints; repeatable")
			f.IntVar(&o.row, "row", 0, "the `number` of the row whose values are sent, of a step of a sheet with rows")
			o.shape(f)
			return o.run
		},
	}
}

func (o *handoverOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if err := canWrite("out", o.out); err != nil {
		return 0, err
	}
	language := handover.Find(o.as)
	if language == nil {
		var names, titles []string
		for _, l := range handover.Languages() {
			names = append(names, l.Name)
			titles = append(titles, l.Name+" ("+l.Title+")")
		}
		return 0, usagef(firstOf(suggest.DidYouMean(o.as, names), "there are: "+strings.Join(titles, ", ")),
			"-as %s is not a language that programs are written in", o.as)
	}
	if len(args) == 0 {
		return 0, usagef("testbench handover stores/search grade=A -as python", "hand over which request?")
	}
	p, err := handoverProgram(ctx, s, o, args)
	if err != nil {
		return 0, err
	}
	text, err := language.Write(p)
	if err != nil {
		return 0, err
	}
	if o.out == "" || o.out == standard {
		s.tell.printf("%s", text)
	} else if err := safefile.Write(o.out, []byte(text), 0o755); err != nil {
		return 0, err
	}
	file := firstOf(strings.TrimPrefix(o.out, standard), "FILE"+language.Ending)
	var variables []string
	for _, one := range p.Secrets {
		variables = append(variables, one.Env)
	}
	s.tell.note("it runs by: %s", s.tell.visible(strings.ReplaceAll(language.Run, "FILE", file)))
	if len(variables) > 0 {
		s.tell.note("it reads from the environment: %s", strings.Join(variables, ", "))
	}
	return ExitPassed, nil
}

// needsRow refuses a step that sends values of a row where none is named.
func needsRow(step *sheet.Step) error {
	for _, used := range step.Uses {
		if used.Placeholder.Space == "row" {
			return usagef("-row 1", "the step sends values of a row: which one?")
		}
	}
	return nil
}

// handoverProgram makes what is handed over: of a past exchange, a step of a sheet, or a call.
func handoverProgram(ctx context.Context, s *session, o *handoverOptions, args []string) (*handover.Program, error) {
	if run, number, ok := exchangeName(args[0]); ok && len(args) == 1 {
		e, err := recordedExchange(s, run, number)
		if err != nil {
			return nil, err
		}
		p, err := workbench.HandoverOf(e)
		if err == nil {
			p.About = append([]string{fmt.Sprintf("%s %s", e.Request.Method, e.Request.Address)}, p.About...)
		}
		return p, err
	}
	bench, err := s.openOrNone()
	if err != nil {
		return nil, err
	}
	var takes []*path.Path
	for _, pick := range o.picks {
		compiled, err := path.Compile(pick)
		if err != nil {
			return nil, usagef("", "-pick %s: %v", pick, err)
		}
		takes = append(takes, compiled)
	}
	var step *sheet.Step
	var row *document.Node
	options := s.options()
	about := strings.Join(args, " ")
	if _, statErr := os.Stat(args[0]); statErr == nil &&
		(strings.HasSuffix(args[0], ".yaml") || strings.HasSuffix(args[0], ".yml")) {
		if len(args) != 2 {
			return nil, usagef("testbench handover "+args[0]+" STEP", "hand over which step of %s?", args[0])
		}
		step, err = workbench.StepOf(bench, args[0], args[1], options)
		about = args[1] + " of " + args[0]
		switch {
		case err != nil:
		case s.used.has("row"):
			row, err = workbench.RowOf(ctx, bench, args[0], o.row, options)
			about += fmt.Sprintf(", row %d", o.row)
		default:
			err = needsRow(step)
		}
	} else {
		step, options, err = prepareCall(s, bench, &o.callOptions, args)
	}
	if err != nil {
		return nil, err
	}
	p, err := workbench.Handover(ctx, bench, step, row, takes, options)
	if err != nil {
		return nil, err
	}
	p.About = append([]string{about}, p.About...)
	return p, nil
}
