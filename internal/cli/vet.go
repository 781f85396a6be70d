package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"testbench/internal/bench"
	"testbench/internal/workbench"
)

func vetCommand() *command {
	return &command{
		name: "vet", group: "checking", purpose: "finds mistakes in bench and sheets without sending anything",
		usage:    "[SHEET...]",
		examples: []string{"testbench vet", "testbench vet sheets/intake.yaml -site live"},
		prepare:  noOptions(runVet),
	}
}

func runVet(_ context.Context, s *session, args []string) (int, error) {
	if s.common.bench == "" && len(args) > 0 {
		if dir, err := benchAbove(args[0]); err == nil && dir != "" {
			s.common.bench = dir
		}
	}
	opened, err := s.open()
	if err != nil {
		return 0, err
	}
	var sheets []string
	for _, arg := range args {
		if filepath.Base(arg) != bench.FileName {
			sheets = append(sheets, arg)
		}
	}
	vetted, err := opened.Vet(sheets, s.options())
	if err != nil {
		return 0, err
	}
	return showProblems(s, vetted)
}

func showProblems(s *session, vetted *workbench.Vetted) (int, error) {
	problems := vetted.Problems
	for _, text := range vetted.Unseen {
		s.tell.note("not looked at: %s", s.tell.visible(text))
	}
	serious := len(problems.Serious())
	status := ExitPassed
	if serious > 0 {
		status = ExitWrong
	}
	if s.common.json {
		if problems == nil {
			problems = workbench.Problems{}
		}
		return status, s.tell.json(problems)
	}
	t := s.tell
	for _, p := range problems {
		t.printf("%s\n", t.visible(p.String()))
	}
	summary := t.in(green, "no mistakes")
	if len(vetted.Unseen) > 0 {
		summary = t.in(green, "no mistakes in what was looked at")
	}
	if serious > 0 {
		summary = t.in(red, count(serious, "mistake"))
	}
	if remarks := len(problems) - serious; remarks > 0 {
		summary += fmt.Sprintf(", %s", count(remarks, "remark"))
	}
	t.printf("%s\n", summary)
	return status, nil
}
