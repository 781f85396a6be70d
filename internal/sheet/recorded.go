package sheet

import (
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"

	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/secret"
)

// mostBody is how much of a body goes into the record.
const mostBody = 1 << 20

// Record gives a step's result in the form in which it is recorded. It is not masked.
func (s *StepResult) Record() *history.Step {
	out := s.brief()
	out.Judged, out.Sent = 0, 0
	out.Says, out.Hints, out.Got = s.Says, s.Hints, s.Got
	for _, c := range s.Checks {
		out.Checks = append(out.Checks, history.Check(c))
	}
	for _, record := range s.Exchanges {
		out.Exchanges = append(out.Exchanges, exchangeRecord(record))
	}
	for _, record := range s.Logins {
		out.Logins = append(out.Logins, exchangeRecord(record))
	}
	return out
}

// brief is the record of a step without its exchanges and checks, but with how many
// there were: enough of what held, where there is much of it.
func (s *StepResult) brief() *history.Step {
	out := &history.Step{Step: s.Name, Target: s.Target, About: s.About, Outcome: string(s.Outcome), Reason: s.Reason, Kept: s.Kept, Notes: s.Notes,
		Seconds: seconds(s.Took), Sent: len(s.Exchanges) + len(s.Logins)}
	for _, c := range s.Checks {
		if c.Judged {
			out.Judged++
		}
	}
	last := s.Last()
	if last == nil && len(s.Checks) > 0 {
		out.Millis = milliseconds(s.Took) // a look-up
	}
	if last != nil {
		out.Started, out.Millis = last.Started.UTC().Round(time.Millisecond), milliseconds(last.Phases.Total)
		if last.Answer != nil {
			out.Status = last.Answer.Status
		}
	}
	return out
}

// record gives a row's result in the form in which it is recorded.
func (r *RowResult) record(brief bool) *history.Row {
	out := &history.Row{Number: r.Number, Turn: r.Turn, Label: r.Label, Column: r.Column, Phase: r.Phase, Outcome: string(r.Outcome), Seconds: seconds(r.Took), Late: milliseconds(r.Late), Steps: []*history.Step{}}
	for _, step := range r.Steps {
		if brief && step.Outcome == Held {
			out.Steps = append(out.Steps, step.brief())
			continue
		}
		one := step.Record()
		if brief {
			one.Exchanges, one.Logins = nil, nil
			one.Sent = len(step.Exchanges) + len(step.Logins)
		}
		out.Steps = append(out.Steps, one)
	}
	return out
}

// entry is the row on its way into the history, masked.
func (r *RowResult) entry(sheet int, brief bool, masker *secret.Masker) history.Entry {
	text, err := json.Marshal(r.record(brief))
	if err != nil { // there is nothing in it that could not be written
		text = []byte(`{"outcome":"faulty","steps":[]}`)
	}
	return history.Entry{Sheet: sheet, Phase: r.Phase, Turn: r.Turn, Row: r.Number, Outcome: string(r.Outcome), Body: []byte(masker.Text(string(text)))}
}

// LooseEntry are steps outside of a sheet on their way into the history, masked, and what
// is to be counted of them.
func LooseEntry(steps []*StepResult, outcome Outcome, masker *secret.Masker) (history.Entry, Counts) {
	row := &RowResult{Outcome: outcome, Steps: steps}
	for _, step := range steps {
		row.Took += step.Took
	}
	counts := row.record(false).Counts()
	counts.Sheets = 1
	return row.entry(0, false, masker), counts
}

// Record gives what came of a sheet, but for its rows.
func (s *SheetResult) Record() *history.Sheet {
	out := &history.Sheet{Sheet: s.Name, File: s.File, About: s.About, Site: s.Site, Outcome: string(s.Outcome), Seconds: seconds(s.Took),
		RowCount: s.RowCount, Counts: s.Counts, Times: s.Times, Limits: s.Limits, Running: seconds(s.Running)}
	if !s.Started.IsZero() {
		out.Started = s.Started.UTC()
	}
	for _, c := range s.Checks {
		out.Checks = append(out.Checks, history.Check(c))
	}
	return out
}

// Record gives what came of a run, but for its rows.
func (r *Result) Record() *history.Run {
	out := &history.Run{Number: r.Number, ID: r.Run, Bench: r.Bench, Started: r.Started.UTC(), Seconds: seconds(r.Took), Outcome: string(r.Outcome), Counts: r.Counts(), Notes: r.Notes, Sheets: []*history.Sheet{}}
	for _, s := range r.Sheets {
		out.Sheets = append(out.Sheets, s.Record())
	}
	return out
}

// Memory gives a run whose rows are held, masked, as reports want it.
func (r *Result) Memory() *history.Held {
	out := &history.Held{Head: r.Record()}
	out.Head.Ended = true
	for _, s := range r.Sheets {
		var rows []*history.Row
		for _, row := range s.Rows {
			masked := &history.Row{}
			if err := json.Unmarshal(row.entry(0, false, r.Masker).Body, masked); err == nil {
				rows = append(rows, masked)
			}
		}
		out.Each = append(out.Each, rows)
	}
	return out
}

// RequestRecord gives a request as it may be shown.
func RequestRecord(r *exchange.Request) *history.Request {
	headers := map[string][]string{}
	for name, values := range r.Header {
		for _, v := range values {
			headers[name] = append(headers[name], r.ShownField(name, v))
		}
	}
	return &history.Request{Method: r.Method, Address: r.Shown(), Headers: headers, Body: shownBody([]byte(r.BodyShown())), Signed: r.Signed}
}

func exchangeRecord(record *exchange.Record) history.Exchange {
	out := history.Exchange{Request: RequestRecord(record.Request), Started: record.Started.UTC(), Milliseconds: milliseconds(record.Phases.Total), Notes: record.Notes}
	if a := record.Answer; a != nil {
		out.Status, out.Reason, out.Protocol, out.Headers = a.Status, a.Reason, a.Proto, a.Header
		out.Body = shownBody(a.Body)
		out.Phases, out.TLS = record.Phases.Record(), record.TLS
	}
	if record.Failure != nil {
		out.Failure = record.Failure.Message
	}
	return out
}

func milliseconds(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Millisecond)
}

func seconds(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Second)
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
