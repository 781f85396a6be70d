// Package report writes a finished run to a file: JSON for programs, JUnit XML
// for CI systems, HTML for people. Everything is masked once more on its way
// out. It judges nothing.
package report

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"testbench/internal/exchange"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/sheet"
	"testbench/internal/xmlstream"
)

// formats maps the endings of file names to what writes them.
var formats = map[string]func(*sheet.Result) (string, error){
	".json": JSON,
	".xml":  JUnit,
	".html": HTML,
}

// CheckName says whether a report can be written under the name: its ending
// says the format.
func CheckName(name string) error {
	if _, ok := formats[strings.ToLower(filepath.Ext(name))]; !ok {
		return fmt.Errorf("%s: the ending says the format, and there are .html, .xml (JUnit) and .json", name)
	}
	return nil
}

// WriteFile writes a run in the format that the file's ending names.
func WriteFile(name string, result *sheet.Result) error {
	if err := CheckName(name); err != nil {
		return err
	}
	text, err := formats[strings.ToLower(filepath.Ext(name))](result)
	if err != nil {
		return err
	}
	return safefile.Write(name, []byte(result.Masker.Text(text)), 0o644)
}

// mostBody is how much of a body goes into a report.
const mostBody = 64 << 10

// The JSON form of a run.
type (
	runJSON struct {
		Run     string       `json:"run"`
		Bench   string       `json:"bench"`
		Started time.Time    `json:"started"`
		Seconds float64      `json:"seconds"`
		Outcome string       `json:"outcome"`
		Counts  sheet.Counts `json:"counts"`
		Notes   []string     `json:"notes,omitempty"`
		Sheets  []sheetJSON  `json:"sheets"`
	}
	sheetJSON struct {
		Sheet   string    `json:"sheet"`
		File    string    `json:"file"`
		About   string    `json:"about,omitempty"`
		Site    string    `json:"site"`
		Outcome string    `json:"outcome"`
		Seconds float64   `json:"seconds"`
		Rows    []rowJSON `json:"rows"`
	}
	rowJSON struct {
		Row     int     `json:"row,omitempty"`
		Label   string  `json:"label,omitempty"`
		Phase   string  `json:"phase,omitempty"`
		Outcome string  `json:"outcome"`
		Steps   []*Step `json:"steps"`
	}
	// Step is the JSON form of a step's result.
	Step struct {
		Step      string         `json:"step"`
		Target    string         `json:"target"`
		About     string         `json:"about,omitempty"`
		Outcome   string         `json:"outcome"`
		Reason    string         `json:"reason,omitempty"`
		Checks    []checkJSON    `json:"checks,omitempty"`
		Kept      []string       `json:"kept,omitempty"`
		Says      string         `json:"says,omitempty"`
		Hints     []string       `json:"hints,omitempty"`
		Exchanges []exchangeJSON `json:"exchanges,omitempty"`
		Logins    []exchangeJSON `json:"logins,omitempty"`
	}
	checkJSON struct {
		Kind    string `json:"kind"`
		Subject string `json:"subject"`
		Held    bool   `json:"held"`
		Judged  bool   `json:"judged"`
		Wanted  string `json:"wanted,omitempty"`
		Got     string `json:"got,omitempty"`
		Where   string `json:"where,omitempty"`
		Note    string `json:"note,omitempty"`
	}
	exchangeJSON struct {
		Request      *Request            `json:"request"`
		Status       int                 `json:"status,omitempty"`
		Protocol     string              `json:"protocol,omitempty"`
		Headers      map[string][]string `json:"headers,omitempty"`
		Body         string              `json:"body,omitempty"`
		Failure      string              `json:"failure,omitempty"`
		Started      time.Time           `json:"started"`
		Milliseconds float64             `json:"milliseconds"`
		Phases       map[string]float64  `json:"phases,omitempty"`
		Notes        []string            `json:"notes,omitempty"`
	}
	// Request is the JSON form of a request.
	Request struct {
		Method  string              `json:"method"`
		Address string              `json:"address"`
		Headers map[string][]string `json:"headers,omitempty"`
		Body    string              `json:"body,omitempty"`
		// Signed are the texts that signatures of the request were made over.
		Signed []string `json:"signed,omitempty"`
	}
)

// JSON writes a run as one JSON document.
func JSON(result *sheet.Result) (string, error) {
	out := runJSON{Run: result.Run, Bench: result.Bench, Started: result.Started.UTC(), Seconds: result.Took.Seconds(),
		Outcome: string(result.Outcome), Counts: result.Counts(), Notes: result.Notes, Sheets: []sheetJSON{}}
	for _, s := range result.Sheets {
		one := sheetJSON{Sheet: s.Name, File: s.File, About: s.About, Site: s.Site, Outcome: string(s.Outcome), Seconds: s.Took.Seconds(), Rows: []rowJSON{}}
		for _, row := range s.Rows {
			r := rowJSON{Row: row.Number, Label: row.Label, Phase: row.Phase, Outcome: string(row.Outcome), Steps: []*Step{}}
			for _, step := range row.Steps {
				r.Steps = append(r.Steps, StepJSON(step))
			}
			one.Rows = append(one.Rows, r)
		}
		out.Sheets = append(out.Sheets, one)
	}
	var text strings.Builder
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	err := encoder.Encode(out)
	return text.String(), err
}

// StepJSON gives a step's result in its JSON form.
func StepJSON(step *sheet.StepResult) *Step {
	out := &Step{Step: step.Name, Target: step.Target, About: step.About, Outcome: string(step.Outcome), Reason: step.Reason,
		Kept: step.Kept, Says: step.Says, Hints: step.Hints}
	for _, c := range step.Checks {
		out.Checks = append(out.Checks, checkJSON(c))
	}
	for _, record := range step.Exchanges {
		out.Exchanges = append(out.Exchanges, recordJSON(record))
	}
	for _, record := range step.Logins {
		out.Logins = append(out.Logins, recordJSON(record))
	}
	return out
}

// RequestJSON gives a request in its JSON form.
func RequestJSON(r *exchange.Request) *Request {
	headers := map[string][]string{}
	for name, values := range r.Header {
		for _, v := range values {
			headers[name] = append(headers[name], r.ShownField(name, v))
		}
	}
	return &Request{Method: r.Method, Address: r.Shown(), Headers: headers, Body: shownBody([]byte(r.BodyShown())), Signed: r.Signed}
}

func recordJSON(record *exchange.Record) exchangeJSON {
	out := exchangeJSON{Request: RequestJSON(record.Request), Started: record.Started.UTC(), Milliseconds: ms(record.Phases.Total), Notes: record.Notes}
	if a := record.Answer; a != nil {
		out.Status, out.Protocol, out.Headers = a.Status, a.Proto, a.Header
		out.Body = shownBody(a.Body)
		out.Phases = map[string]float64{"lookup": ms(record.Phases.Lookup), "connect": ms(record.Phases.Connect), "tls": ms(record.Phases.TLS),
			"waiting": ms(record.Phases.Waiting), "receiving": ms(record.Phases.Receiving)}
	}
	if record.Failure != nil {
		out.Failure = record.Failure.Message
	}
	return out
}

func ms(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Millisecond)
}

// shownBody bounds a body, and describes one that is no text.
func shownBody(body []byte) string {
	if !utf8.Valid(body) {
		return fmt.Sprintf("(%d bytes that are not UTF-8 text)", len(body))
	}
	if len(body) <= mostBody {
		return string(body)
	}
	cut := mostBody
	for !utf8.RuneStart(body[cut]) {
		cut--
	}
	return string(body[:cut]) + fmt.Sprintf("\n… (%d of %d bytes shown)", cut, len(body))
}

// JUnit writes a run as JUnit XML, as CI systems read it: a suite a sheet, a
// case a step. A step that fell short is a failure, one that was faulty or
// reached nobody an error, one that was not run is skipped.
func JUnit(result *sheet.Result) (string, error) {
	var out strings.Builder
	c := result.Counts()
	out.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	failures, errors := 0, 0
	for _, s := range result.Sheets {
		f, e, _, _ := suiteCounts(s)
		failures, errors = failures+f, errors+e
	}
	fmt.Fprintf(&out, "<testsuites name=%s tests=\"%d\" failures=\"%d\" errors=\"%d\" skipped=\"%d\" time=\"%.3f\">\n",
		attribute(result.Bench), c.Steps, failures, errors, c.StepsNotRun, result.Took.Seconds())
	for _, s := range result.Sheets {
		failures, errors, skipped, tests := suiteCounts(s)
		fmt.Fprintf(&out, "  <testsuite name=%s tests=\"%d\" failures=\"%d\" errors=\"%d\" skipped=\"%d\" time=\"%.3f\" timestamp=\"%s\">\n",
			attribute(s.Name), tests, failures, errors, skipped, s.Took.Seconds(), result.Started.UTC().Format("2006-01-02T15:04:05"))
		for _, row := range s.Rows {
			for _, step := range row.Steps {
				writeCase(&out, result.Masker, s, row, step)
			}
		}
		out.WriteString("  </testsuite>\n")
	}
	out.WriteString("</testsuites>\n")
	return out.String(), nil
}

func suiteCounts(s *sheet.SheetResult) (failures, errors, skipped, tests int) {
	for _, row := range s.Rows {
		for _, step := range row.Steps {
			tests++
			switch step.Outcome {
			case sheet.Held:
			case sheet.FellShort:
				failures++
			case sheet.NotRun:
				skipped++
			default:
				errors++
			}
		}
	}
	return failures, errors, skipped, tests
}

func attribute(text string) string { return `"` + xmlstream.Escape(text, true) + `"` }

func writeCase(out *strings.Builder, masker *secret.Masker, s *sheet.SheetResult, row *sheet.RowResult, step *sheet.StepResult) {
	name := step.Name
	switch {
	case row.Phase != "":
		name += " [" + row.Phase + "]"
	case row.Number > 0:
		name += fmt.Sprintf(" [row %d %s]", row.Number, row.Label)
	}
	fmt.Fprintf(out, "    <testcase name=%s classname=%s time=\"%.3f\"", attribute(masker.Text(name)), attribute(s.Name), step.Took.Seconds())
	element := map[sheet.Outcome]string{sheet.FellShort: "failure", sheet.NotRun: "skipped"}[step.Outcome]
	if element == "" && step.Outcome != sheet.Held {
		element = "error"
	}
	if element == "" {
		out.WriteString("/>\n")
		return
	}
	lines := Lines(step)
	first := step.Reason
	if first == "" && len(lines) > 0 {
		first = lines[0]
	}
	fmt.Fprintf(out, ">\n      <%s message=%s", element, attribute(masker.Text(first)))
	if element != "skipped" {
		fmt.Fprintf(out, " type=%s", attribute(string(step.Outcome)))
	}
	if len(lines) > 0 && element != "skipped" {
		fmt.Fprintf(out, ">%s</%s>\n", xmlstream.Escape(masker.Text(strings.Join(lines, "\n")), false), element)
	} else {
		out.WriteString("/>\n")
	}
	out.WriteString("    </testcase>\n")
}

// Lines says why a step did not hold, a line each: what fell short, what the
// service says, what to try.
func Lines(step *sheet.StepResult) []string {
	var lines []string
	for _, c := range step.Checks {
		if !c.Judged || c.Held {
			continue
		}
		lines = append(lines, CheckLine(c))
		if c.Note != "" {
			lines = append(lines, "  "+c.Note)
		}
	}
	if step.Says != "" {
		lines = append(lines, step.Says)
	}
	for _, hint := range step.Hints {
		lines = append(lines, "try: "+hint)
	}
	return lines
}

// CheckLine says in one line what was wanted and what came.
func CheckLine(c sheet.Check) string {
	subject := c.Kind + " " + c.Subject
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
	text := fmt.Sprintf("%s   wanted %s, got %s", subject, c.Wanted, c.Got)
	if c.Where != "" {
		text += " at " + c.Where
	}
	return text
}
