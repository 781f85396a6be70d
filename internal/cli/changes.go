package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/compare"
	"testbench/internal/history"
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
func compareRuns(s *session, o compare.RunOptions, full bool, args []string) (int, error) {
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
		err = s.tell.json(changes)
	} else {
		showStepChanges(s.tell, changes, full)
	}
	if err != nil || changes.Better() {
		return ExitPassed, err
	}
	return ExitFailed, nil
}

// mostPlacesShown is how many places of a change are shown, unless all are asked for.
const mostPlacesShown = 3

// showStepChanges shows what changed from one run to another, by kind.
func showStepChanges(t *printer, changes *compare.Changes, full bool) {
	if len(changes.List) == 0 {
		t.printf("%s\n", t.in(green, "no difference"))
	}
	kind := compare.ChangeKind("")
	for _, c := range changes.List {
		if c.Kind != kind {
			kind = c.Kind
			style := bold
			switch {
			case c.Kind == compare.FailsNow || c.Kind == compare.SlowerNow:
				style = red
			case c.Better:
				style = green
			}
			t.printf("%s\n", t.in(style, string(kind)))
		}
		showChange(t, c, full)
	}
	if changes.Before != changes.After {
		t.note("%s", t.wrap("before: "+countsInWords(changes.Before), t.width, 0))
		t.note("%s", t.wrap("now: "+countsInWords(changes.After), t.width, 0))
	}
	if changes.Unseen > 0 {
		t.note("%s", t.wrap(fmt.Sprintf("note: what was in %s was not recorded in full, and could not be compared",
			count(changes.Unseen, "answer")), t.width, 0))
	}
	if changes.Untimed > 0 {
		t.note("%s", t.wrap(fmt.Sprintf("note: the times of %s were not compared, for there are too few exchanges; "+
			"history -steps compares them over many runs", count(changes.Untimed, "step")), t.width, 0))
	}
	if len(changes.List) > 0 {
		text := count(len(changes.List), "difference")
		if changes.Better() {
			text += ", all for the better"
		}
		t.printf("%s\n", text)
	}
}

// showChange shows one thing that changed, and where.
func showChange(t *printer, c *compare.Change, full bool) {
	text := c.What
	switch c.Kind {
	case compare.OtherField, compare.OtherValue:
		text = strings.TrimSpace(c.What+" "+t.oneLine(c.Path)) + beforeAndNow(t, c.Before, c.After)
	case compare.SlowerNow, compare.FasterNow:
		text += beforeAndNow(t, c.Before, c.After)
	case compare.FailsNow, compare.OtherOutcome:
		if c.Why != "" {
			text = c.Why
			if c.Kind == compare.OtherOutcome {
				text = c.What + "; " + c.Why
			}
		}
	}
	if many := howMany(c); many != "" {
		text += "  (" + many + ")"
	}
	t.printf("%s\n", t.wrap(text, t.width, 2))
	places := c.Places
	if len(places) > mostPlacesShown && !full {
		places = places[:mostPlacesShown]
	}
	for _, p := range places {
		where := strings.Join(slices.DeleteFunc([]string{p.Step, p.Row, p.Sheet}, func(s string) bool {
			return s == ""
		}), ", ")
		if full && (p.Before != "" || p.After != "") && c.Count > 1 {
			where += beforeAndNow(t, p.Before, p.After)
		}
		t.printf("%s\n", t.in(faint, t.wrap(where, t.width, 6)))
	}
	switch more := c.Count - len(places); {
	case more > 0 && !full:
		t.printf("%s\n", t.in(faint, fmt.Sprintf("      and %d more; -full shows them", more)))
	case more > 0:
		t.printf("%s\n", t.in(faint, fmt.Sprintf("      and %d more", more)))
	}
}

// beforeAndNow says what was there and what is there now.
func beforeAndNow(t *printer, before, after string) string {
	switch {
	case before != "" && after != "":
		return fmt.Sprintf(": %s before, %s now", t.inOneLine(before), t.inOneLine(after))
	case after != "":
		return ": " + t.inOneLine(after)
	case before != "":
		return ": it was " + t.inOneLine(before)
	}
	return ""
}

// howMany says in how many steps of how many sheets something changed; "" for one place.
func howMany(c *compare.Change) string {
	switch {
	case c.Count == 1:
		return ""
	case c.Steps == 0 && c.Count == c.Sheets:
		return count(c.Sheets, "sheet")
	case c.Steps > 1 || c.Sheets > 1:
		return fmt.Sprintf("%s of %s, %d times", count(c.Steps, "step"), count(c.Sheets, "sheet"), c.Count)
	}
	return fmt.Sprintf("%d times", c.Count)
}

// countsInWords says how much there was of a run.
func countsInWords(c history.Counts) string {
	return fmt.Sprintf("%s, %s, %s, %s, %s", count(c.Sheets, "sheet"), count(c.Rows, "row"), count(c.Steps, "step"),
		count(c.Checks, "check"), count(c.Exchanges, "exchange"))
}
