package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"

	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// mostTold is how many failures a summary lists.
const mostTold = 50

// Markdown writes a summary for people who look at a CI system: the outcome in a
// sentence, a table of sheets, what failed.
func Markdown(to io.Writer, run history.Finished, o Options) error {
	w := &writer{to: to}
	head := run.Run()
	w.line("## %s", inMarkdown(sentence(head)))
	w.line("")
	which := head.ID
	if head.Number > 0 {
		which = strconv.Itoa(head.Number)
	}
	w.line("%s, run %s, %s, %s, %s", inMarkdown(head.Bench), which,
		head.Started.UTC().Format("2006-01-02 15:04:05 MST"), took(head.Seconds),
		count(head.Counts.Exchanges, "exchange"))
	for _, why := range head.Broken {
		w.line("")
		w.line("**Not whole**: %s", inMarkdown(why))
	}
	for _, note := range head.Notes {
		w.line("")
		w.line("Note: %s", inMarkdown(note))
	}
	w.line("")
	w.line("| sheet | site | rows | passed | failed | outcome |")
	w.line("| --- | --- | ---: | ---: | ---: | --- |")
	for _, s := range head.Sheets {
		w.line("| %s | %s | %d | %d | %d | %s |", inMarkdown(s.Sheet), inMarkdown(s.Site), s.Counts.Rows,
			s.Counts.RowsPassed, s.Counts.RowsFailed, s.Outcome)
	}
	for _, s := range head.Sheets {
		for _, note := range s.Notes {
			w.line("")
			w.line("Note of %s: %s", inMarkdown(s.Sheet), inMarkdown(note))
		}
	}
	w.trends(o.Trends)
	failures, err := FailuresOf(run)
	if err != nil {
		return err
	}
	for i, one := range failures.List[:min(len(failures.List), mostTold)] {
		if i == 0 {
			w.line("")
			w.line("### What failed")
		}
		w.failed(one)
	}
	more := failures.More
	for _, one := range failures.List[min(len(failures.List), mostTold):] {
		more += one.Count
	}
	if more > 0 {
		w.line("")
		w.line("And %d more.", more)
	}
	for _, s := range head.Sheets {
		for _, c := range s.Checks {
			if !c.Passed {
				w.line("")
				w.line("**%s**: %s %s", inMarkdown(s.Sheet), inMarkdown(ofSheet(c)),
					inMarkdown(history.Compared(c.Expected, c.Got)))
			}
		}
	}
	return w.err
}

// mostTrendsTold is how many lines of a summary tell what changed since earlier runs.
const mostTrendsTold = 20

// trends tells what changed since earlier runs; nothing where they are not known.
func (w *writer) trends(t *history.Trends) {
	if t == nil || len(t.Runs) < 2 {
		return
	}
	w.line("")
	w.line("### Compared with earlier runs")
	w.line("")
	found := Found(t)
	if len(found)+len(t.Down) == 0 {
		w.line("Nothing to notice in %s.", inMarkdown(runsWords(t)))
		return
	}
	w.line("In %s:", inMarkdown(runsWords(t)))
	w.line("")
	for _, one := range found[:min(len(found), mostTrendsTold)] {
		text := inMarkdown(FindingWords(one.Finding))
		if one.Finding.Kind.IsBad() {
			text = "**" + text + "**"
		}
		w.line("- %s (%s, %s): %s", inMarkdown(one.Trend.Step), inMarkdown(one.Trend.File), inMarkdown(one.Trend.Site),
			text)
	}
	down := DownLines(t.Down)
	for _, line := range down[:min(len(down), mostTrendsTold)] {
		w.line("- %s", inMarkdown(line))
	}
	if len(found) > mostTrendsTold {
		w.line("- and %d more, which `testbench history -steps` lists", len(found)-mostTrendsTold)
	}
}

// failed tells why steps failed.
func (w *writer) failed(f *Failure) {
	step := f.Step
	w.line("")
	w.line("**%s** (%s): %s", inMarkdown(f.Title()), inMarkdown(f.Where()), step.Outcome)
	w.line("")
	w.line("```text")
	for _, line := range append([]secret.Text{step.Reason}, Lines(step)...) {
		if line != "" {
			w.line("%s", strings.Map(harmless, strings.ReplaceAll(string(line), "```", "'''")))
		}
	}
	w.line("```")
	if f.Count > 1 {
		w.line("")
		w.line("All %d: `testbench report RUN -all`", f.Count)
	}
}

// writer writes lines; the first error stays.
type writer struct {
	to  io.Writer
	err error
}

func (w *writer) line(format string, args ...any) {
	if w.err == nil {
		_, w.err = fmt.Fprintf(w.to, format+"\n", args...)
	}
}

// inMarkdown is a text of which nothing is markup.
func inMarkdown[T ~string](text T) string {
	plain := strings.Map(harmless, strings.Join(strings.Fields(string(text)), " "))
	return strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", "&lt;", ">",
		"&gt;", "|", `\|`, "#", `\#`, "~", `\~`).Replace(plain)
}

// NDJSON writes lines of JSON: the run first, then each row with its sheet, then the sheets as they
// ended.
func NDJSON(to io.Writer, run history.Finished) error {
	encoder := json.NewEncoder(to)
	encoder.SetEscapeHTML(false)
	head := *run.Run()
	sheets := head.Sheets
	head.Sheets = nil
	if err := encoder.Encode(map[string]any{"kind": "run", "run": head}); err != nil {
		return err
	}
	for i, s := range sheets {
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			if err := encoder.Encode(map[string]any{
				"kind": "row", "sheet": s.Sheet, "file": s.File,
				"row": row,
			}); err != nil {
				return err
			}
		}
		if err := encoder.Encode(map[string]any{"kind": "sheet", "sheet": s}); err != nil {
			return err
		}
	}
	return nil
}

// CSV writes the checks of a run, a line each (RFC 4180, with a header).
func CSV(to io.Writer, run history.Finished) error {
	w := csv.NewWriter(to)
	w.UseCRLF = true
	write := func(cells ...string) {
		for i, cell := range cells {
			cells[i] = inCell(cell)
		}
		_ = w.Write(cells) // Error tells
	}
	write("run", "sheet", "site", "row", "label", "turn", "step", "target", "status", "milliseconds", "check",
		"subject", "outcome", "expected", "got", "note")
	head := run.Run()
	which := head.ID
	if head.Number > 0 {
		which = strconv.Itoa(head.Number)
	}
	for i, s := range head.Sheets {
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			number, turn := row.Phase, ""
			if row.Number > 0 {
				number = strconv.Itoa(row.Number)
			}
			if row.Iteration > 0 {
				turn = strconv.Itoa(row.Iteration)
			}
			for _, step := range row.Steps {
				status, ms := "", ""
				if step.Status > 0 {
					status = strconv.Itoa(step.Status)
				}
				if step.Millis > 0 {
					ms = strconv.FormatFloat(step.Millis, 'f', -1, 64)
				}
				lead := []string{which, s.Sheet, s.Site, number, row.Label, turn, step.Step, step.Target, status, ms}
				if len(step.Checks) == 0 {
					write(append(lead, "", "", step.Outcome, "", "", string(step.Reason))...)
				}
				for _, c := range step.Checks {
					write(append(lead, c.Kind, string(c.Subject), checkOutcome(c), string(c.Expected), string(c.Got),
						string(c.Note))...)
				}
			}
		}
		for _, c := range s.Checks {
			write(which, s.Sheet, s.Site, "", "", "", "", "", "", "", c.Kind, string(c.Subject), checkOutcome(c),
				string(c.Expected), string(c.Got), string(c.Note))
		}
	}
	for _, why := range head.Broken {
		write(which, "", "", "", "", "", "the run as a whole", "", "", "", "", "", string(result.Interrupted), "", "",
			why)
	}
	w.Flush()
	return w.Error()
}

func checkOutcome(c history.Check) string {
	switch {
	case !c.Judged:
		return "not judged"
	case c.Passed:
		return string(result.Passed)
	}
	return string(result.Failed)
}

// inCell is a text that no spreadsheet takes for a formula; a number below zero is none.
func inCell(text string) string {
	text = strings.Map(harmless, text)
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}
