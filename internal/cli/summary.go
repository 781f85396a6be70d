package cli

import (
	"fmt"
	"strings"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/workbench"
)

// What a summary of a run has at most, in lines, so that it can be read in the log of a CI system.
const (
	mostOfSummary  = 40
	mostSheetLines = 8
	mostNewsLines  = 6
	mostEndLines   = 3 // of limits, of what is missing, and of notes, each
)

// showRun shows a run: what failed, what is new since earlier runs, and the sum. It is at most mostOfSummary long,
// unless all is to be shown.
func showRun(t *printer, run history.Finished, trends *history.Trends, all bool) error {
	failures, err := report.FailuresOf(run)
	if all {
		failures, err = report.EachFailureOf(run)
	}
	if err != nil {
		return err
	}
	head := run.Run()
	lines := append([]string{titleOfRun(t, head)}, sheetLines(t, head, all)...)
	end := endOfRun(t, head, trends, all)
	for i, one := range failures.List {
		text := failureLines(t, one)
		room := mostOfSummary - len(lines) - len(end) - 1
		if !all && len(text) > room {
			text = text[:min(len(text), 3)] // what failed, and the first reason
		}
		if !all && len(text) > room {
			lines = append(lines, fmt.Sprintf("  and %d failures of other kinds; -all shows them",
				len(failures.List)-i))
			break
		}
		lines = append(lines, text...)
	}
	for _, line := range append(lines, end...) {
		t.printf("%s\n", line)
	}
	if !head.Ended && head.Number > 0 {
		t.note("the run was interrupted; next: testbench run -resume %d", head.Number)
	}
	return nil
}

// titleOfRun says which run it is.
func titleOfRun(t *printer, head *history.Run) string {
	dot := t.sign(" · ", " - ")
	which := head.ID
	if head.Number > 0 {
		which = fmt.Sprintf("%d", head.Number)
	}
	return t.in(bold, "run "+t.visible(which)) + dot + t.visible(head.Bench) + dot +
		head.Started.Format("2006-01-02 15:04:05 MST")
}

// sheetLines tell of each sheet what came of it; where there are many, of those that did not pass.
func sheetLines(t *printer, head *history.Run, all bool) []string {
	dot := t.sign(" · ", " - ")
	var lines []string
	many := len(head.Sheets) > mostSheetLines && !all
	passed, left := 0, 0
	for _, sheet := range head.Sheets {
		style := red
		if sheet.Outcome == string(workbench.Passed) {
			style = green
			if passed++; many {
				continue
			}
		}
		if many && len(lines) == mostSheetLines-1 {
			left++
			continue
		}
		lines = append(lines, fmt.Sprintf("%s%ssite %s%s%s   %s", t.in(bold, t.visible(sheet.Sheet)), dot,
			t.visible(sheet.Site), dot, count(sheet.Counts.Rows, "row"), t.in(style, sheet.Outcome)))
	}
	if left > 0 {
		lines = append(lines, t.in(red, fmt.Sprintf("%s more that did not pass", count(left, "sheet"))))
	}
	if many && passed > 0 {
		lines = append(lines, t.in(green, count(passed, "sheet")+" passed"))
	}
	return lines
}

// failureLines tell why steps failed.
func failureLines(t *printer, f *report.Failure) []string {
	lines := strings.Split(t.wrap(fmt.Sprintf("%s  %s", f.Title(), f.Step.Target), t.width, 2), "\n")
	lines[0] += "  " + t.in(red, f.Step.Outcome)
	texts := []string{f.Where(), string(f.Step.Reason)}
	for _, text := range report.Lines(f.Step) {
		texts = append(texts, string(text))
	}
	for _, text := range texts {
		if text != "" {
			lines = append(lines, strings.Split(t.wrap(text, t.width, 6), "\n")...)
		}
	}
	return lines
}

// endOfRun tells of the run as a whole: limits, what is missing, what is new, notes, the sum.
func endOfRun(t *printer, head *history.Run, trends *history.Trends, all bool) []string {
	var ofSheets []history.Check
	var limits, broken, notes []string
	for _, sheet := range head.Sheets {
		ofSheets = append(ofSheets, sheet.Checks...)
		for _, note := range sheet.Notes {
			notes = append(notes, "note: "+t.oneLine(sheet.Sheet+": "+string(note)))
		}
	}
	for _, c := range ofSheets {
		if !c.Passed {
			limits = append(limits, checkLineOfSheet(t, c))
		}
	}
	for _, why := range head.Broken {
		broken = append(broken, t.in(red, "not whole: "+t.oneLine(why)))
	}
	for _, note := range head.Notes {
		notes = append(notes, "note: "+t.oneLine(string(note)))
	}
	var lines []string
	for _, part := range [][]string{limits, broken, notes} {
		lines = append(lines, atMost(part, mostEndLines, all)...)
	}
	lines = append(lines, atMost(newsOf(t, head, trends), mostNewsLines, all)...)
	dot := t.sign(" · ", " - ")
	c := head.Counts
	parts := []string{count(c.Sheets, "sheet"), count(c.Rows, "row"), fmt.Sprintf("%d passed", c.RowsPassed)}
	if c.RowsFailed > 0 {
		parts = append(parts, fmt.Sprintf("%d failed", c.RowsFailed))
	}
	parts = append(parts, failedOfSheets(t, ofSheets)...)
	parts = append(parts, count(c.Exchanges, "exchange"))
	if head.Share != "" {
		parts = append(parts, "share "+head.Share)
	}
	return append(lines, strings.Join(parts, dot))
}

// atMost cuts a list of lines down and says how many are left.
func atMost(lines []string, most int, all bool) []string {
	if all || len(lines) <= most {
		return lines
	}
	return append(lines[:most-1:most-1], fmt.Sprintf("and %d more; -all shows them", len(lines)-most+1))
}

// newsOf tells what a run has that runs before it had not: steps that newly fail, are flaky or slower.
func newsOf(t *printer, head *history.Run, trends *history.Trends) []string {
	var lines []string
	if trends == nil || len(trends.Runs) < 2 {
		return nil
	}
	for _, one := range report.Found(trends) {
		if one.Finding.Kind.IsBad() && (one.Finding.Since == head.Number || one.Finding.Kind != history.Flaky) {
			lines = append(lines, t.oneLine(fmt.Sprintf("%s (%s, site %s): %s", one.Trend.Step, one.Trend.File,
				one.Trend.Site, report.FindingWords(one.Finding))))
		}
	}
	return lines
}
