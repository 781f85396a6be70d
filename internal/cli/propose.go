package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"testbench/internal/fields"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

type proposeOptions struct {
	into, step string
	times      int
}

func proposeCommand() *command {
	return &command{
		name: "propose", group: "finding one's way in answers",
		purpose: "derives rules from good answers: what they have in common",
		usage:   "SOURCE ... | TARGET [field=value ...] -times N",
		examples: []string{
			"testbench propose monday.json tuesday.json", "testbench propose 17.2 18.2 last",
			"testbench propose stores/search grade=A -times 2",
			"testbench propose stores/search grade=A -times 2 -into sheets/01-search.yaml -step \"the lots\"",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &proposeOptions{}
			f.IntVar(&o.times, "times", 0, "how many times a call is made; its responses are taken")
			f.StringVar(&o.into, "into", "", "put the rules into a step of this `sheet`; rules that are there stay")
			f.StringVar(&o.step, "step", "", "the `name` of the step for -into")
			return o.run
		},
	}
}

func (o *proposeOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	switch {
	case len(args) == 0:
		return 0, usagef("testbench propose monday.json tuesday.json, testbench propose 17.2 18.2, testbench propose "+
			"TARGET -times 2", "rules from which answers?")
	case o.times < 0 || o.times == 1:
		return 0, usagef("-times 2", "what varies shows only when a call is made at least twice")
	case (o.into == "") != (o.step == ""):
		return 0, usagef("-into SHEET -step NAME", "-into and -step go together")
	}
	p := fields.NewProposer(func(text string) bool { return strings.Contains(s.masker.Text(text), secret.Mask) })
	status, err := ExitPassed, error(nil)
	if o.times > 0 {
		status, err = gatherCalls(ctx, s, p, args, o.times)
	} else {
		err = gatherSources(s, p, args)
	}
	if err != nil || status != ExitPassed {
		return status, err
	}
	proposals := p.Propose()
	if p.Full() {
		s.tell.note("note: there are more fields than are told apart")
	}
	switch {
	case len(proposals) == 0:
		s.tell.note("there is nothing that could be a rule")
		return ExitFailed, nil
	case o.into != "":
		return ExitPassed, putRules(s.tell, o.into, o.step, proposals)
	case s.common.json:
		return ExitPassed, s.tell.json(proposals)
	}
	s.tell.printf("fields:\n")
	for line := range strings.Lines(fields.AsRules(proposals)) {
		s.tell.printf("  %s", s.tell.visible(line))
	}
	if o.times == 0 && len(args) == 1 {
		s.tell.note("note: what stays the same shows only in several answers; give more of them, or a call with " +
			"-times 2")
	}
	return ExitPassed, nil
}

func gatherSources(s *session, p *fields.Proposer, args []string) error {
	for _, name := range args {
		from, mediaType, err := openSource(s, name)
		if usage := (*usageError)(nil); errors.As(err, &usage) && filepath.Ext(name) == "" {
			usage.try += "; of a call: testbench propose " + strings.Join(args, " ") + " -times 2"
		}
		if err != nil {
			return err
		}
		err = p.Add(from, mediaType)
		_ = from.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// gatherCalls makes a call several times and learns of each answer. A status other than
// that of success ends it: of an answer that is not good nothing is to be learnt.
func gatherCalls(ctx context.Context, s *session, p *fields.Proposer, args []string, times int) (int, error) {
	bench, err := s.openOrNone()
	if err != nil {
		return 0, err
	}
	for n := 1; n <= times; n++ {
		result, notes, err := oneCall(ctx, s, bench, args)
		if err != nil {
			return 0, err
		}
		for _, note := range notes {
			if n == 1 {
				s.tell.note("note: %s", s.tell.visible(note))
			}
		}
		switch {
		case result.Outcome != workbench.Passed:
			s.tell.note("call %d is not a good answer to learn from:", n)
			showDetails(s, result)
			return result.Outcome.ExitStatus(), nil
		case result.Reply == nil || result.Reply.Payload == nil:
			return 0, fmt.Errorf("the answer of call %d has no content", n)
		}
		p.Tree(result.Reply.Payload)
	}
	return ExitPassed, nil
}

// putRules puts rules into a step of a sheet; a field that has rules keeps them.
func putRules(t *printer, into, name string, proposals []fields.Proposal) error {
	unlock, err := safefile.Lock(into)
	if err != nil {
		return err
	}
	defer unlock()
	source, err := os.ReadFile(into)
	if safefile.IsMissing(err) {
		return usagef("-into takes a sheet that is there; testbench new starts a bench with one",
			"there is no sheet %s", into)
	}
	if err != nil {
		return err
	}
	file := yamlfile.Read(into, source)
	if problems := file.Problems.Serious(); len(problems) > 0 {
		return problems
	}
	step := stepNamed(file, name)
	if step == nil {
		return usagef("it has: "+strings.Join(stepNames(into, source), ", "), "%s has no step %q", into, name)
	}
	var missing []fields.Proposal
	var kept []string
	for _, p := range proposals {
		if step.Get("fields").Get(p.Path) == nil {
			missing = append(missing, p)
		} else {
			kept = append(kept, p.Path)
		}
	}
	if len(missing) > 0 {
		changed, err := yamlfile.InsertInto(source, step, "fields", fields.AsRules(missing))
		if err != nil {
			return fmt.Errorf("%s: %w", into, err)
		}
		if problems := yamlfile.Read(into, changed).Problems.Serious(); len(problems) > 0 {
			return fmt.Errorf("%s is written in a way that rules cannot be put into; paste them by hand", into)
		}
		if err := safefile.Write(into, changed, 0o644); err != nil {
			return err
		}
	}
	t.note("rules for %s put into step %q of %s", count(len(missing), "field"), name, into)
	if len(kept) > 0 {
		t.note("%s", t.wrap(fmt.Sprintf("%s had rules and kept them: %s", count(len(kept), "field"),
			strings.Join(kept, ", ")), t.width, 0))
	}
	return nil
}

// stepNamed finds a step of a sheet by its name: of the rows, before or after them, and in groups, where the names of
// these are before its own. It is nil where there is none.
func stepNamed(file *yamlfile.File, name string) *yamlfile.Node {
	var look func(steps *yamlfile.Node, lead string) *yamlfile.Node
	look = func(steps *yamlfile.Node, lead string) *yamlfile.Node {
		if steps == nil {
			return nil
		}
		for _, item := range steps.Items {
			n := item.Get("step")
			if n == nil {
				continue
			}
			if lead+n.Text == name {
				return item
			}
			if found := look(item.Get("steps"), lead+n.Text+": "); found != nil {
				return found
			}
		}
		return nil
	}
	for _, part := range []string{"steps", "first", "finally", "last"} {
		if found := look(file.Root.Get(part), ""); found != nil {
			return found
		}
	}
	return nil
}
