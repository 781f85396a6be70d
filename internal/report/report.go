// Package report writes a finished run to a file: HTML and Markdown for people, JUnit
// XML for CI systems, HAR, JSON, lines of JSON and CSV for programs. Everything is masked once more on its way
// out. It judges nothing.
package report

import (
	"cmp"
	_ "embed"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/cover"
	"testbench/internal/doubt"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/table"
	"testbench/internal/xmlstream"
)

// the schema

// Endings are the formats that there are, in words.
const Endings = ".html, .xml (JUnit), .har, .md, .json, .ndjson, .csv; results.csv, .xlsx, .json and .ndjson are a " +
	"table, a line a row; crates.xlsx#results puts it into a sheet of a spreadsheet"

// ResultSchema is the JSON Schema of reports as .json and .ndjson, and of what a run tells
// as it goes on.
//
//go:embed result.schema.json
var ResultSchema string

// formats maps the endings of file names to what writes them.
var formats = map[string]func(io.Writer, history.Finished, Options) error{
	".html":   HTML,
	".xml":    plain(JUnit),
	".har":    plain(HAR),
	".md":     Markdown,
	".json":   plain(history.WriteJSON),
	".ndjson": plain(NDJSON),
	".csv":    plain(CSV),
}

// plain is a format that shows nothing but the run itself.
func plain(write func(io.Writer, history.Finished) error) func(io.Writer, history.Finished, Options) error {
	return func(to io.Writer, run history.Finished, _ Options) error { return write(to, run) }
}

// TellsTrends says whether a report of that name tells what changed since earlier runs.
func TellsTrends(name string) bool {
	return slices.Contains([]string{".html", ".md"}, strings.ToLower(filepath.Ext(name)))
}

// formatOf gives what writes a report of that name: by its ending, and results.csv and the like are tables of
// the rows; nil where there is none.
func formatOf(name string) func(io.Writer, history.Finished, Options) error {
	ending := strings.ToLower(filepath.Ext(name))
	if write := resultsFormats[ending]; isResults(name) && write != nil {
		return write
	}
	return formats[ending]
}

// CheckName says whether a report can be written under the name: its ending says the format. That is told
// before anything is sent, not after it.
func CheckName(name string) error {
	if file, sheet, is := table.SheetOf(name); is {
		return checkBook(file, sheet)
	}
	if formatOf(name) == nil {
		return fmt.Errorf("%s: the ending says the format, and there are %s", name, Endings)
	}
	return safefile.CheckPlace(name)
}

// Options say what a report shows.
type Options struct {
	Masker *secret.Masker // may be nil
	// Full shows in .har and .html what looks like a credential and is none of the bench's:
	// cookies and tokens that steps received.
	Full bool
	// Trends are how the steps of the run fared up to it; nil where that is not known.
	Trends *history.Trends
	// Doubted tells of the sheets what their checks would notice; empty where that was not asked for.
	Doubted []*doubt.Result
	// Covered tells what of contracts runs have touched; empty where that was not asked for.
	Covered []*cover.Service
	// received masks what steps received; nil where that is shown.
	received *secret.Masker
}

// mask masks a text that goes where no writer can: into a file that is packed.
func (o Options) mask(text string) string {
	for _, m := range []*secret.Masker{o.received, o.Masker} {
		if m != nil {
			text = m.Text(text)
		}
	}
	return text
}

// WriteFile writes a run in the format that the file's ending names, row by row.
func WriteFile(name string, run history.Finished, o Options) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if file, sheet, is := table.SheetOf(name); is {
		if !o.Full {
			var err error
			if o.received, err = received(run); err != nil {
				return err
			}
		}
		return addToBook(file, sheet, run, o)
	}
	return safefile.Stream(name, 0o644, func(to io.Writer) error { return Write(to, name, run, o) })
}

// Write writes a report in the format that the ending of a name says.
func Write(to io.Writer, name string, run history.Finished, o Options) error {
	var seen *secret.Masker
	if MasksReceived(name) && !o.Full {
		var err error
		if seen, err = received(run); err != nil {
			return err
		}
	}
	if strings.EqualFold(filepath.Ext(name), ".xlsx") {
		o.received = seen
		return formatOf(name)(to, run, o) // packed: nothing could be found in what is written
	}
	outer := secret.NewWriter(to, o.Masker)
	masked := secret.NewWriter(outer, seen)
	if err := formatOf(name)(masked, run, o); err != nil {
		return err
	}
	return cmp.Or(masked.Close(), outer.Close())
}

// mostBody is how much of a body is laid out for reading.
const mostBody = 64 << 10

// JUnit writes a run as JUnit XML, as CI systems read it: a suite a sheet, a
// case a step. A step that failed is a failure, one that had an error or
// reached nobody an error, one that was not run is skipped. The form has no standard: it
// is what the schema of the CI system allows that is read most widely, by which a reason
// to skip is text and the whole run has no count of what was skipped.
func JUnit(out io.Writer, run history.Finished) error {
	head := run.Run()
	_, _ = io.WriteString(out, `<?xml version="1.0" encoding="UTF-8"?>`+"\n")
	var suites []suite
	var all suite
	for i := range head.Sheets {
		one, err := suiteOf(run, i)
		if err != nil {
			return err
		}
		suites = append(suites, one)
		all = suite{
			all.tests + one.tests, all.failures + one.failures, all.errors + one.errors,
			all.skipped + one.skipped,
		}
	}
	broken := suite{tests: len(head.Broken), errors: len(head.Broken)}
	all.tests, all.errors = all.tests+broken.tests, all.errors+broken.errors
	_, _ = fmt.Fprintf(out, "<testsuites name=%s %s time=\"%.3f\">\n", attribute(head.Bench), all.failed(),
		head.Seconds)
	for i, s := range head.Sheets {
		_, _ = fmt.Fprintf(out, "  <testsuite name=%s %s time=\"%.3f\" timestamp=\"%s\">\n", attribute(s.Sheet),
			suites[i], s.Seconds, head.Started.UTC().Format("2006-01-02T15:04:05"))
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			for _, step := range row.Steps {
				writeCase(out, s, row, step)
			}
		}
		for _, c := range s.Checks {
			step := &history.Step{
				Step: string(ofSheet(c)), Outcome: string(result.Passed),
				Checks: []history.Check{c},
			}
			if !c.Passed {
				step.Outcome = string(result.Failed)
			}
			writeCase(out, s, &history.Row{}, step)
		}
		_, _ = io.WriteString(out, "  </testsuite>\n")
	}
	if len(head.Broken) > 0 {
		_, _ = fmt.Fprintf(out, "  <testsuite name=\"the run as a whole\" %s>\n", broken)
		for _, why := range head.Broken {
			writeCase(out, &history.Sheet{Sheet: "the run as a whole"}, &history.Row{},
				&history.Step{Step: why, Outcome: string(result.Interrupted), Reason: secret.Plain(why)})
		}
		_, _ = io.WriteString(out, "  </testsuite>\n")
	}
	_, err := io.WriteString(out, "</testsuites>\n")
	return err
}

// suite counts the cases of a sheet.
type suite struct{ tests, failures, errors, skipped int }

func (s suite) String() string {
	return fmt.Sprintf(`%s skipped="%d"`, s.failed(), s.skipped)
}

func (s suite) failed() string {
	return fmt.Sprintf(`tests="%d" failures="%d" errors="%d"`, s.tests, s.failures, s.errors)
}

func suiteOf(run history.Finished, i int) (suite, error) {
	var out suite
	add := func(outcome string) {
		out.tests++
		switch result.Outcome(outcome) {
		case result.Passed:
		case result.Failed:
			out.failures++
		case result.NotRun:
			out.skipped++
		default:
			out.errors++
		}
	}
	for row, err := range run.Rows(i) {
		if err != nil {
			return out, err
		}
		for _, step := range row.Steps {
			add(step.Outcome)
		}
	}
	for _, c := range run.Run().Sheets[i].Checks {
		outcome := result.Passed
		if !c.Passed {
			outcome = result.Failed
		}
		add(string(outcome))
	}
	return out, nil
}

func attribute[T ~string](text T) string { return `"` + xmlstream.Escape(string(text), true) + `"` }

func writeCase(out io.Writer, s *history.Sheet, row *history.Row, step *history.Step) {
	name := step.Step
	if which := row.Name(); which != "" {
		name += ", " + strings.ReplaceAll(which, " · ", " ")
	}
	// The class is the file: what CI systems group cases by, and the form has no other place for it.
	class := cmp.Or(strings.TrimSuffix(strings.TrimSuffix(s.File, ".yaml"), ".yml"), s.Sheet)
	_, _ = fmt.Fprintf(out, "    <testcase name=%s classname=%s time=\"%.3f\"", attribute(name), attribute(class),
		step.Seconds)
	element := map[result.Outcome]string{
		result.Failed: "failure",
		result.NotRun: "skipped",
	}[result.Outcome(step.Outcome)]
	if element == "" && step.Outcome != string(result.Passed) {
		element = "error"
	}
	if element == "" {
		_, _ = io.WriteString(out, "/>\n")
		return
	}
	lines := Lines(step)
	first := step.Reason
	if first == "" && len(lines) > 0 {
		first = lines[0]
	}
	start := fmt.Sprintf("%s message=%s type=%s", element, attribute(first), attribute(step.Outcome))
	if element == "skipped" {
		start, lines = element, []secret.Text{first}
	}
	if element != "skipped" {
		lines = append(lines, exchanged(step)...)
	}
	text := secret.Join(lines, "\n")
	_, _ = fmt.Fprintf(out, ">\n      <%s>%s</%s>\n    </testcase>\n", start, xmlstream.Escape(string(text), false),
		element)
}

// mostInCase is how much of each body a case of JUnit shows, in characters.
const mostInCase = 2 << 10

// exchanged is the message that a step sent last, and the one that came back.
func exchanged(step *history.Step) []secret.Text {
	if len(step.Exchanges) == 0 {
		return nil
	}
	last := step.Exchanges[len(step.Exchanges)-1]
	var lines []secret.Text
	if last.Request != nil {
		lines = append(lines, "", "sent: "+secret.Plain(last.Request.Method)+" "+last.Request.Address,
			last.Request.Body.Cut(mostInCase))
	}
	if last.Status > 0 {
		lines = append(lines, "received: "+last.StatusLine(), last.Body.Cut(mostInCase))
	}
	return slices.DeleteFunc(lines, func(line secret.Text) bool { return line == "" })
}

// Lines says why a step failed, a line each: what failed, what the
// service says, what to try.
func Lines(step *history.Step) []secret.Text {
	var lines []secret.Text
	for _, c := range step.Checks {
		if !c.Judged || c.Passed {
			continue
		}
		lines = append(lines, CheckLine(c))
		if c.Note != "" {
			lines = append(lines, "  "+c.Note)
		}
	}
	if step.Response != "" {
		lines = append(lines, step.Response)
	}
	for _, hint := range step.Hints {
		lines = append(lines, "try: "+hint)
	}
	return lines
}

// ofSheet names a check of a sheet as a whole.
func ofSheet(c history.Check) secret.Text {
	if c.Kind == "times" {
		return "times: " + c.Subject
	}
	return c.Subject
}

// CheckLine says in one line what was expected and what came.
func CheckLine(c history.Check) secret.Text {
	subject := secret.Plain(c.Kind) + " " + c.Subject
	switch c.Kind {
	case "field":
		subject = c.Subject
	case "contract":
		if c.Subject == "answer" {
			return "the answer breaks the contract: " + c.Got
		}
		return c.Got
	case "where":
		return subject + "   " + c.Got
	}
	text := subject + "   " + history.Compared(c.Expected, c.Got)
	if c.Where != "" {
		text += " at " + c.Where
	}
	return text
}
