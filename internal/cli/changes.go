package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/compare"
	"testbench/internal/workbench"
)

// compareContracts tells what changed from one version of a contract to another, and
// whom it breaks.
func compareContracts(ctx context.Context, s *session, o *compareOptions, args []string) (int, error) {
	before, err := openContract(ctx, s, args[0])
	if err != nil {
		return 0, err
	}
	after, err := openContract(ctx, s, args[1])
	if err != nil {
		return 0, err
	}
	changes, err := before.Changes(after)
	if err != nil {
		return 0, err
	}
	if o.breaks {
		changes = slices.DeleteFunc(changes, func(c workbench.Change) bool { return !c.Callers && !c.Readers })
	}
	if s.common.json {
		err = jsonList(s.tell, changes)
	} else {
		showChanges(s.tell, changes)
	}
	if err != nil || len(changes) == 0 {
		return ExitPassed, err
	}
	return ExitFailed, nil
}

func showChanges(t *printer, changes []workbench.Change) {
	if len(changes) == 0 {
		t.printf("%s\n", t.in(green, "no difference"))
		return
	}
	width := 0
	for i := range changes {
		width = min(max(width, len([]rune(subjectOfChange(&changes[i])))), 34)
	}
	counts := map[string]int{}
	operation, first := "", true
	for i := range changes {
		c := &changes[i]
		if first || c.Operation != operation {
			t.printf("%s\n", t.in(bold, t.visible(firstOf(c.Operation, "the contract as a whole"))))
			operation, first = c.Operation, false
		}
		verdict := c.Verdict()
		counts[verdict]++
		word := t.fit(verdict, 14)
		if c.Callers || c.Readers {
			word = t.in(red, word)
		} else {
			word = t.in(faint, word)
		}
		subject := subjectOfChange(c)
		text := c.What
		switch {
		case c.Before != "" && c.After != "":
			text += fmt.Sprintf(": %s before, %s now", c.Before, c.After)
		case c.After != "":
			text += ": " + c.After
		case c.Before != "":
			text += ": it was " + c.Before
		}
		if len([]rune(subject)) > width || t.width < 80 {
			printLines(t, "  "+word+"  ", 18, strings.TrimSpace(subject+"   "+text))
			continue
		}
		printLines(t, "  "+word+"  "+t.fit(subject, width)+"  ", 18+width+2, text)
	}
	var words []string
	for _, verdict := range []string{"breaks both", "breaks callers", "breaks readers", "breaks nobody"} {
		if n := counts[verdict]; n > 0 {
			if n > 1 {
				verdict = strings.Replace(verdict, "breaks", "break", 1)
			}
			words = append(words, fmt.Sprintf("%d %s", n, verdict))
		}
	}
	t.printf("%s\n", t.wrap(count(len(changes), "change")+": "+strings.Join(words, ", "), t.width, 0))
}

// subjectOfChange says what it is that changed.
func subjectOfChange(c *workbench.Change) string {
	return strings.TrimSpace(c.Where + " " + c.Path)
}

// printLines writes a text after a lead that takes so many columns; on a narrow terminal
// below it.
func printLines(t *printer, lead string, width int, text string) {
	if t.width < width+20 {
		t.printf("%s\n%s\n", strings.TrimRight(lead, " "), t.wrap(text, t.width, 6))
		return
	}
	t.printf("%s%s\n", lead, strings.TrimLeft(t.wrap(text, t.width, width), " "))
}

// compareRuns tells what became of the steps from one run to another.
func compareRuns(s *session, o compare.RunOptions, args []string) (int, error) {
	before, done, err := storedRun(s, args[0])
	if err != nil {
		return 0, err
	}
	defer done()
	after, done, err := storedRun(s, args[1])
	if err != nil {
		return 0, err
	}
	defer done()
	changes, err := compare.Runs(before, after, o)
	if err != nil {
		return 0, err
	}
	if err := changes.Seen.Unmatched(o.Options); err != nil {
		return 0, err
	}
	if s.common.json {
		err = jsonList(s.tell, changes.Steps)
	} else {
		showStepChanges(s.tell, changes.Steps)
	}
	if changes.Unseen > 0 {
		s.tell.note("note: what was in %s was not recorded in full, and could not be compared",
			count(changes.Unseen, "answer"))
	}
	if err != nil || len(changes.Steps) == 0 {
		return ExitPassed, err
	}
	return ExitFailed, nil
}

func showStepChanges(t *printer, changes []compare.StepChange) {
	if len(changes) == 0 {
		t.printf("%s\n", t.in(green, "no difference"))
		return
	}
	sheet, row, newly := "", "", 0
	for i := range changes {
		c := &changes[i]
		if i == 0 || c.Sheet != sheet {
			t.printf("%s\n", t.in(bold, t.visible(firstOf(c.Sheet, "call"))))
			sheet, row = c.Sheet, ""
		}
		if c.Row != row {
			t.printf("  %s\n", t.visible(c.Row))
			row = c.Row
		}
		text := c.What
		switch {
		case c.Before != "" && c.After != "":
			text += fmt.Sprintf(": %s before, %s now", t.inOneLine(c.Before), t.inOneLine(c.After))
		case c.After != "":
			text += ": " + t.inOneLine(c.After)
		case c.Before != "":
			text += ": it was " + t.inOneLine(c.Before)
		}
		if c.Why != "" {
			text += "; " + c.Why
		}
		name := t.fit(c.Step, 22)
		if c.Step == "" {
			name = t.fit(map[bool]string{true: "the whole sheet", false: "the whole row"}[c.Row == ""], 22)
		}
		switch {
		case c.Newly:
			newly++
			name = t.in(red, name)
		case c.What == "passes now":
			name = t.in(green, name)
		}
		printLines(t, "  "+name+"  ", 26, text)
	}
	text := count(len(changes), "difference")
	if newly > 0 {
		text += ", " + count(newly, "step") + " newly failing"
	}
	t.printf("%s\n", text)
}
