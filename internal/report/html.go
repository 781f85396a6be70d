package report

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"unicode"

	"testbench/internal/cover"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// the page

// The page: its text, its look, and what makes it answer.
var (
	//go:embed report.html
	pageText string
	//go:embed report.css
	pageStyle string
	//go:embed report.js
	pageScript string
)

// What a page holds at most, so that it opens at once: of failures that are told at its
// head, of steps, and of what is after them, in bytes.
const (
	mostFailed  = 500
	mostSteps   = 30_000
	mostDetails = 64 << 20
)

// HTML writes a run as one page without outside references. What comes after a step
// lies in it as data, and is laid out only when somebody opens it.
func HTML(to io.Writer, run history.Finished, o Options) error {
	t, err := template.New("report").Funcs(template.FuncMap{
		"took":    took,
		"ms":      func(ms float64) string { return fmt.Sprintf("%.1f ms", ms) },
		"count":   count,
		"class":   func(o string) string { return strings.ReplaceAll(o, " ", "-") },
		"sign":    signOf,
		"night":   nightSign,
		"subject": subjectOf,
		"percent": Percent,
		"touched": touched,
		"style":   func() template.CSS { return template.CSS(pageStyle) },
		"script":  func() template.JS { return template.JS(pageScript) },
	}).Parse(pageText)
	if err != nil {
		return err
	}
	p, err := newPage(run, o)
	if err != nil {
		return err
	}
	out := &harmlessWriter{to: to}
	if err := t.ExecuteTemplate(out, "head", p); err != nil {
		return err
	}
	if err := p.data(out, run); err != nil {
		return err
	}
	return t.ExecuteTemplate(out, "foot", p)
}

// page is a run as the page shows it.
type page struct {
	Run            *history.Run
	Sentence       string
	Tally          []string
	Limits         []fallenLimit
	Failures       Failures
	Trends         []trendLine
	TrendRuns      string // over which runs
	MoreTrends     int
	Down           []string
	Doubted        []doubtedSheet
	Covered        []*cover.Service
	Sheets         []*history.Sheet
	Timeline       template.HTML
	TimelineRemark string
	Timed          []timedSheet
	MoreSteps      int // that are not in the page
	Missing        int // steps whose exchanges are not

	index  index
	passed int
}

// index lists the steps for the script, in few bytes each.
type index struct {
	Sheets   []string `json:"sheets"`
	Outcomes []string `json:"outcomes"`
	Steps    [][]any  `json:"steps"` // sheet, row, step, target, status, milliseconds, outcome, checks
	places   [][3]int // of each step: sheet, row, step, as they are gone through
	moments  []moment // for the time line
}

type fallenLimit struct {
	Sheet *history.Sheet
	Check history.Check
}

// trendLine is what is to be noticed of a step over several runs.
type trendLine struct {
	Step, File, Site string
	Signs            []string // the outcome of each run; "" where it had no such step
	Words            string
	IsBad            bool
}

type timedSheet struct {
	*history.Sheet
	Plot template.HTML
}

// mostTrends is how many lines of a report tell what changed since earlier runs.
const mostTrends = 100

// addTrends tells what is to be noticed over several runs; there is nothing where they are not known.
func (p *page) addTrends(t *history.Trends) {
	if t == nil || len(t.Runs) < 2 {
		return
	}
	p.TrendRuns = runsWords(t)
	found := Found(t)
	p.MoreTrends = max(len(found)-mostTrends, 0)
	for _, one := range found[:len(found)-p.MoreTrends] {
		line := trendLine{
			Step: one.Trend.Step, File: one.Trend.File, Site: one.Trend.Site, Words: FindingWords(one.Finding),
			IsBad: one.Finding.Kind.IsBad(),
		}
		outcomes := map[int]string{}
		for _, night := range one.Trend.Nights {
			outcomes[night.Run] = night.Outcome
		}
		for _, r := range t.Runs {
			line.Signs = append(line.Signs, outcomes[r.Number])
		}
		p.Trends = append(p.Trends, line)
	}
	p.Down = DownLines(t.Down)
}

func newPage(run history.Finished, o Options) (*page, error) {
	p := &page{Run: run.Run()}
	p.addTrends(o.Trends)
	p.Doubted, p.Covered = doubtedSheets(o.Doubted), o.Covered
	p.Sheets = p.Run.Sheets
	p.Sentence, p.Tally = sentence(p.Run), tally(p.Run)
	for i, s := range p.Sheets {
		p.index.Sheets = append(p.index.Sheets, s.Sheet)
		for _, c := range s.Checks {
			if !c.Passed {
				p.Limits = append(p.Limits, fallenLimit{s, c})
			}
		}
		number := 0
		for row, err := range run.Rows(i) {
			if err != nil {
				return nil, err
			}
			for k, step := range row.Steps {
				p.add(i, number, k, row, step)
			}
			number++
		}
		plot, err := percentiles(s)
		if err != nil {
			return nil, err
		}
		hasLimits := slices.ContainsFunc(s.Checks, func(c history.Check) bool { return c.Kind == "times" })
		if plot != "" || len(s.Notes) > 0 || hasLimits {
			p.Timed = append(p.Timed, timedSheet{s, template.HTML(plot)}) //nolint:gosec // every text in it is escaped
		}
	}
	p.Sentence = p.precise(p.Sentence)
	line, remark, err := timeline(p.index.moments)
	p.Timeline, p.TimelineRemark = template.HTML(line), remark //nolint:gosec // as above
	return p, err
}

// precise says of what failed which step it was, or in how many sheets.
func (p *page) precise(sentence string) string {
	failed := 0
	for _, s := range p.Sheets {
		if s.Counts.StepsFailed > 0 {
			failed++
		}
	}
	switch {
	case len(p.Failures.List) == 1:
		f := p.Failures.List[0]
		return strings.TrimSuffix(sentence, ".") + fmt.Sprintf(": %s in %s.", f.Title(), f.Where())
	case failed > 0 && len(p.Sheets) > 1:
		return strings.TrimSuffix(sentence, ".") + fmt.Sprintf(", in %d of %s.", failed, count(len(p.Sheets), "sheet"))
	}
	return sentence
}

// add takes a step into the page.
func (p *page) add(sheetNumber, rowNumber, stepNumber int, row *history.Row, step *history.Step) {
	if !step.Started.IsZero() && step.Millis > 0 {
		p.index.moments = append(p.index.moments,
			moment{max(step.Started.Sub(p.Run.Started).Seconds(), 0), step.Millis, !step.Failures()})
	}
	if !step.Failures() {
		if p.passed >= mostSteps {
			p.MoreSteps++
			return
		}
		p.passed++
	}
	number := len(p.index.Steps)
	if step.Failures() {
		if one := p.Failures.Add(p.Sheets[sheetNumber], row, step); one != nil && one.Count == 1 {
			one.Number = number
		}
	}
	outcome := slices.Index(p.index.Outcomes, step.Outcome)
	if outcome < 0 {
		outcome = len(p.index.Outcomes)
		p.index.Outcomes = append(p.index.Outcomes, step.Outcome)
	}
	p.index.Steps = append(p.index.Steps,
		[]any{
			sheetNumber, row.Name(), step.Step, step.Target, step.Status, step.Millis, outcome,
			len(step.Checks) + step.Judged,
		})
	p.index.places = append(p.index.places, [3]int{sheetNumber, rowNumber, stepNumber})
}

// withoutExchanges is what the head of the page needs of a step.
func withoutExchanges(step *history.Step) *history.Step {
	out := *step
	out.Exchanges, out.Logins = nil, nil
	return &out
}

// data writes what the script shows: the list of steps, and for each what is shown below
// it. A second time through the rows keeps them out of memory.
func (p *page) data(out io.Writer, run history.Finished) error {
	if p.index.Steps == nil {
		p.index.Steps, p.index.Outcomes = [][]any{}, []string{}
	}
	if err := writeData(out, "index", p.index); err != nil {
		return err
	}
	next, room := 0, mostDetails
	for i := range p.Sheets {
		number := 0
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			for next < len(p.index.places) && p.index.places[next][0] == i && p.index.places[next][1] == number {
				text := []byte{}
				if d := detailOf(row.Steps[p.index.places[next][2]]); d != nil && room > 0 {
					if text, err = json.Marshal(d); err != nil {
						return err
					}
					room -= len(text)
				}
				if err := writeDetail(out, next, text); err != nil {
					return err
				}
				next++
			}
			number++
		}
	}
	if next%inChunk != 0 {
		_, err := io.WriteString(out, "</script>\n")
		return err
	}
	return nil
}

// inChunk is how many steps share an element of the page: an element each would take
// longer to read than all that is in them.
const inChunk = 128

// writeDetail writes what is after a step, a line in its chunk.
func writeDetail(out io.Writer, number int, text []byte) error {
	start, end := "", "\n"
	if number%inChunk == 0 {
		start = "<script type=\"application/x-ndjson\" class=\"details\">"
	}
	if number%inChunk == inChunk-1 {
		end = "</script>\n"
	}
	_, err := fmt.Fprintf(out, "%s%s%s", start, text, end)
	return err
}

// writeData writes data of the page. What could end it, or mean something to the page, is
// escaped by the encoder.
func writeData(out io.Writer, id string, v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = fmt.Fprintf(out, "<script type=\"application/json\" id=\"%s\">%s</script>\n", id, text)
	}
	return err
}

// detail is what is after a step.
type detail struct {
	About     string           `json:"about,omitempty"`
	Reason    secret.Text      `json:"reason,omitempty"`
	Response  secret.Text      `json:"response,omitempty"`
	Hints     []secret.Text    `json:"hints,omitempty"`
	Checks    [][6]secret.Text `json:"checks,omitempty"` // subject, expected, got, verdict, where, note
	Got       secret.Text      `json:"got,omitempty"`
	Kept      []secret.Text    `json:"kept,omitempty"`
	Notes     []secret.Text    `json:"notes,omitempty"`
	Logins    []detailExchange `json:"logins,omitempty"`
	Exchanges []detailExchange `json:"exchanges,omitempty"`
}

type detailExchange struct {
	Request    secret.Text   `json:"request,omitempty"`
	Head       secret.Text   `json:"head,omitempty"`
	Body       secret.Text   `json:"body,omitempty"`
	Failure    secret.Text   `json:"failure,omitempty"`
	Answer     secret.Text   `json:"answer,omitempty"`
	AnswerHead secret.Text   `json:"answerHead,omitempty"`
	AnswerBody secret.Text   `json:"answerBody,omitempty"`
	Took       string        `json:"took,omitempty"`
	TLS        string        `json:"tls,omitempty"`
	Notes      []secret.Text `json:"notes,omitempty"`
}

// detailOf gathers what is after a step; nil for nothing.
func detailOf(step *history.Step) *detail {
	if len(step.Exchanges)+len(step.Logins)+len(step.Checks)+len(step.Notes) == 0 && step.Reason+step.Got == "" {
		return nil
	}
	d := &detail{
		About: step.About, Reason: step.Reason, Response: step.Response, Hints: step.Hints, Got: step.Got,
		Kept: step.Kept, Notes: step.Notes,
	}
	for _, c := range step.Checks {
		var verdict secret.Text = "failed"
		switch {
		case !c.Judged:
			verdict = "not judged"
		case c.Passed:
			verdict = "passed"
		}
		d.Checks = append(d.Checks, [6]secret.Text{subjectOf(c), c.Expected, c.Got, verdict, c.Where, c.Note})
	}
	for i := range step.Logins {
		d.Logins = append(d.Logins, exchangeOf(&step.Logins[i]))
	}
	for i := range step.Exchanges {
		d.Exchanges = append(d.Exchanges, exchangeOf(&step.Exchanges[i]))
	}
	return d
}

func exchangeOf(e *history.Exchange) detailExchange {
	out := detailExchange{Failure: e.Failure, Notes: e.Notes}
	if r := e.Request; r != nil {
		out.Request = secret.Plain(r.Method) + " " + r.Address
		out.Head, out.Body = headerLines(r.Headers), laidOut(r.MediaType(), r.Body)
	}
	if e.Status > 0 {
		out.Answer = e.StatusLine()
		out.AnswerHead, out.AnswerBody = headerLines(e.Headers), laidOut(e.MediaType(), e.Body)
		out.Took = fmt.Sprintf("%.1f ms", e.Milliseconds)
		if words := exchange.PhasesOf(e.Phases).Words(); words != "" {
			out.Took += ": " + words
		}
		if e.TLS != nil {
			out.TLS = e.TLS.Words()
		}
	}
	return out
}

// subjectOf names what a check is about.
func subjectOf(c history.Check) secret.Text {
	kind := secret.Plain(c.Kind)
	switch {
	case c.Subject == "":
		return kind
	case c.Kind == "field":
		return c.Subject
	}
	return kind + " " + c.Subject
}

func signOf(outcome string) string {
	switch result.Outcome(outcome) {
	case result.Passed:
		return "•"
	case result.NotRun:
		return "·"
	}
	return "✗"
}

// nightSign is the sign of an outcome in a row of runs; a blank for a run that had no such step.
func nightSign(outcome string) string {
	switch result.Outcome(outcome) {
	case "":
		return " "
	case result.Unreachable, result.LoginFailed:
		return "○"
	}
	return signOf(outcome)
}

func took(seconds float64) string {
	if seconds < 1 {
		return fmt.Sprintf("%.0f ms", seconds*1000)
	}
	return fmt.Sprintf("%.1f s", seconds)
}

// harmlessWriter puts a sign in place of control characters, which mean nothing in a
// page and obey nobody only in a browser.
type harmlessWriter struct{ to io.Writer }

func (w *harmlessWriter) Write(p []byte) (int, error) {
	_, err := io.WriteString(w.to, strings.Map(harmless, string(p)))
	return len(p), err
}

func harmless(r rune) rune {
	isDirection := r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069 // turns the text after it round
	if unicode.IsControl(r) && r != '\n' && r != '\t' || isDirection {
		return unicode.ReplacementChar
	}
	return r
}

// count says how many there are of something.
func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// failedOfSheets says what failed of sheets as a whole.
func failedOfSheets(run *history.Run) string {
	var checks []history.Check
	for _, s := range run.Sheets {
		checks = append(checks, s.Checks...)
	}
	times, others := history.FailedOfSheets(checks)
	var parts []string
	if times > 0 {
		parts = append(parts, count(times, "limit")+" of times did not")
	}
	if others > 0 {
		parts = append(parts, count(others, "sheet")+" had no rows")
	}
	return strings.Join(parts, " and ")
}

// sentence says the outcome as a whole.
func sentence(run *history.Run) string {
	c := run.Counts
	switch {
	case result.Outcome(run.Outcome) == result.Interrupted:
		return fmt.Sprintf("The run was interrupted after %s.", count(c.Steps, "step"))
	case result.Outcome(run.Outcome) == result.Passed:
		return fmt.Sprintf("All passed: %s in %s, %s.", count(c.Steps, "step"), count(c.Sheets, "sheet"),
			count(c.Checks, "check"))
	case c.StepsFailed == 0 && c.ChecksFailed > 0:
		return fmt.Sprintf("%s passed, and %s.", count(c.Steps, "step"), failedOfSheets(run))
	case c.StepsFailed == 0:
		return "Nothing was run."
	}
	return fmt.Sprintf("%d of %d steps failed.", c.StepsFailed, c.Steps)
}

// tally sums up what there was.
func tally(run *history.Run) []string {
	c := run.Counts
	with := func(all string, failed, without int) string {
		var more []string
		if failed > 0 {
			more = append(more, fmt.Sprintf("%d failed", failed))
		}
		if without > 0 {
			more = append(more, fmt.Sprintf("%d not run", without))
		}
		if len(more) > 0 {
			all += " (" + strings.Join(more, ", ") + ")"
		}
		return all
	}
	return []string{
		count(c.Sheets, "sheet"), with(count(c.Rows, "row"), c.RowsFailed, 0),
		with(count(c.Steps, "step"), c.StepsFailed, c.StepsNotRun),
		with(count(c.Checks, "check"), c.ChecksFailed, 0), count(c.Exchanges, "exchange"),
	}
}

func headerLines(header map[string][]secret.Text) secret.Text {
	var lines []secret.Text
	for name, values := range header {
		for _, v := range values {
			lines = append(lines, secret.Plain(name)+": "+v)
		}
	}
	slices.Sort(lines)
	return secret.Join(lines, "\n")
}

// laidOut writes a body for reading.
func laidOut(contentType string, body secret.Text) secret.Text {
	if len(body) > mostBody {
		return body.Map(func(text string) string { return strings.ToValidUTF8(text[:mostBody], "") }) +
			secret.Plain(fmt.Sprintf("\n… (%d of %d bytes shown)", mostBody, len(body)))
	}
	return body.Map(func(text string) string {
		switch node, format, err := document.Read(contentType, []byte(text)); {
		case err != nil || text == "":
		case format == document.JSON:
			return document.WriteJSON(node, document.Style{Indent: "  "})
		case format == document.XML:
			return document.WriteXML(node, document.Style{Indent: "  "})
		}
		return text
	})
}
