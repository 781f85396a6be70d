package report

import (
	"bytes"
	_ "embed" // the page
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/sheet"
)

//go:embed report.html
var page string

// HTML writes a run as one page without outside references.
func HTML(result *sheet.Result) (string, error) {
	t, err := template.New("report").Funcs(template.FuncMap{
		"lines": Lines,
		"took": func(d time.Duration) string {
			if d < time.Second {
				return fmt.Sprintf("%d ms", d.Milliseconds())
			}
			return fmt.Sprintf("%.1f s", d.Seconds())
		},
		"ms":      func(d time.Duration) string { return fmt.Sprintf("%.1f ms", ms(d)) },
		"headers": headerLines,
		"request": func(r *exchange.Request) string { return laidOut(r.GetHeader("Content-Type"), []byte(r.BodyShown())) },
		"answer":  func(a *exchange.Answer) string { return laidOut(a.ContentType(), a.Body) },
		"fields":  requestHeaders,
		"mask":    result.Masker.Text,
		"class":   func(o sheet.Outcome) string { return strings.ReplaceAll(string(o), " ", "-") },
		"row":     rowName,
		"open":    func(o sheet.Outcome) bool { return o != sheet.Held && o != sheet.NotRun },
	}).Parse(page)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	err = t.Execute(&out, map[string]any{"Result": result, "Counts": result.Counts(), "Sentence": sentence(result), "Fallen": fallen(result)})
	return strings.Map(harmless, out.String()), err
}

// harmless puts a sign in place of control characters, which mean nothing in a
// page and obey nobody only in a browser.
func harmless(r rune) rune {
	if unicode.IsControl(r) && r != '\n' && r != '\t' {
		return unicode.ReplacementChar
	}
	return r
}

// sentence says the outcome as a whole.
func sentence(result *sheet.Result) string {
	c := result.Counts()
	switch {
	case result.Outcome == sheet.Interrupted:
		return fmt.Sprintf("The run was interrupted after %d steps.", c.Steps)
	case result.Outcome == sheet.Held:
		return fmt.Sprintf("All of it held: %d steps in %d sheets, %d checks.", c.Steps, c.Sheets, c.Checks)
	case c.StepsFell == 0:
		return "Nothing was run."
	}
	return fmt.Sprintf("%d of %d steps did not hold.", c.StepsFell, c.Steps)
}

type fallenStep struct {
	Sheet *sheet.SheetResult
	Row   *sheet.RowResult
	Step  *sheet.StepResult
}

// fallen lists the steps that did not hold.
func fallen(result *sheet.Result) []fallenStep {
	var steps []fallenStep
	for _, s := range result.Sheets {
		for _, row := range s.Rows {
			for _, step := range row.Steps {
				if step.Outcome != sheet.Held && step.Outcome != sheet.NotRun {
					steps = append(steps, fallenStep{s, row, step})
				}
			}
		}
	}
	return steps
}

func rowName(row *sheet.RowResult) string {
	switch {
	case row.Phase != "":
		return row.Phase
	case row.Number > 0:
		return strings.TrimSpace(fmt.Sprintf("row %d · %s", row.Number, row.Label))
	}
	return ""
}

func headerLines(header http.Header) string {
	var lines []string
	for name, values := range header {
		for _, v := range values {
			lines = append(lines, name+": "+v)
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func requestHeaders(r *exchange.Request) string {
	shown := http.Header{}
	for name, values := range r.Header {
		for _, v := range values {
			shown[name] = append(shown[name], r.ShownField(name, v))
		}
	}
	return headerLines(shown)
}

// laidOut writes a body for reading.
func laidOut(contentType string, body []byte) string {
	if len(body) <= mostBody {
		switch node, format, err := document.Read(contentType, body); {
		case err != nil || len(body) == 0:
		case format == document.JSON:
			return document.WriteJSON(node, document.Style{Indent: "  "})
		case format == document.XML:
			return document.WriteXML(node, document.Style{Indent: "  "})
		}
	}
	return shownBody(body)
}
