package result

import (
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/secret"
)

// mostBody is how much of a body goes into the record.
const mostBody = 1 << 20

// How many characters are shown of what a service says is wrong, and of what was found where no
// exchange shows it.
const (
	mostSaid  = 300
	mostShown = 400
)

// Record gives a step's result in the form in which it is recorded: masked.
func (s *Step) Record(m *secret.Masker) *history.Step {
	out := s.Told(m)
	out.Judged, out.Sent = 0, 0
	for _, record := range s.Exchanges {
		out.Exchanges = append(out.Exchanges, exchangeRecord(record, m))
	}
	for _, record := range s.Logins {
		out.Logins = append(out.Logins, exchangeRecord(record, m))
	}
	return out
}

// Told is what is to be said of a step beside its exchanges, masked.
func (s *Step) Told(m *secret.Masker) *history.Step {
	out := s.brief(m)
	out.Response, out.Hints, out.Got = m.Show(s.Response).OneLine().Cut(mostSaid), m.Messages(s.Hints),
		m.Show(s.Got).Cut(mostShown)
	for _, c := range s.Checks {
		out.Checks = append(out.Checks, c.record(m))
	}
	return out
}

func (c Check) record(m *secret.Masker) history.Check {
	return history.Check{
		Kind: c.Kind, Subject: m.Show(c.Subject), Passed: c.Passed, Judged: c.Judged,
		Expected: m.Message(c.Expected), Got: m.Message(c.Got), Where: m.Show(c.Where), Note: m.Message(c.Note),
	}
}

// brief is the record of a step without its exchanges and checks, but with how many
// there were: enough of what passed, where there is much of it.
func (s *Step) brief(m *secret.Masker) *history.Step {
	out := &history.Step{
		Step: m.Text(s.Name), Service: s.Context.Service, Target: m.Text(s.Target), About: m.Text(s.About),
		Outcome: string(s.Outcome), Reason: m.Message(s.Reason), Tries: s.Tries,
		Kept: m.ShowAll(s.Kept), Notes: m.Messages(s.Notes), Seconds: seconds(s.Took),
		Sent: len(s.Exchanges) + len(s.Logins),
	}
	for name, node := range s.Values {
		if out.Values == nil {
			out.Values = map[string]secret.Text{}
		}
		out.Values[name] = valueRecord(node, m)
	}
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

// mostValue is how many characters of a kept value are recorded.
const mostValue = 200

// valueRecord is a kept value as it is recorded: a single one as it is, others as JSON.
func valueRecord(node *document.Node, m *secret.Masker) secret.Text {
	switch {
	case node.Secret:
		return secret.Mask
	case node.IsScalar():
		return m.Show(node.Text).Cut(mostValue)
	}
	text := document.WriteJSON(node, document.Style{})
	return m.Show(text).Cut(mostValue)
}

// Record gives a row's result in the form in which it is recorded.
func (r *Row) Record(brief bool, m *secret.Masker) *history.Row {
	out := &history.Row{
		Number: r.Number, Iteration: r.Iteration, Label: m.Text(r.Label), Column: m.Text(r.Column),
		Phase: r.Phase, Outcome: string(r.Outcome), Seconds: seconds(r.Took), Late: milliseconds(r.Late),
		Steps: []*history.Step{},
	}
	if r.Inputs != nil {
		for _, input := range r.Inputs.Members() {
			out.Inputs = append(out.Inputs, [2]secret.Text{m.Show(input.Key), valueRecord(input.Value, m)})
		}
	}
	for _, step := range r.Steps {
		if brief && step.Outcome == Passed {
			out.Steps = append(out.Steps, step.brief(m))
			continue
		}
		one := step.Record(m)
		if brief {
			one.Exchanges, one.Logins = nil, nil
			one.Sent = len(step.Exchanges) + len(step.Logins)
		}
		out.Steps = append(out.Steps, one)
	}
	return out
}

// Entry is the row on its way into the history, masked.
func (r *Row) Entry(sheet int, brief bool, masker *secret.Masker) history.Entry {
	text, err := json.Marshal(r.Record(brief, masker))
	if len(text) > history.MostRow { // what came of it is kept, without what was sent and received
		text, err = json.Marshal(r.Record(true, masker))
	}
	if err != nil { // there is nothing in it that could not be written
		text = []byte(`{"outcome":"error","steps":[]}`)
	}
	return history.Entry{
		Sheet: sheet, Phase: r.Phase, Iteration: r.Iteration, Row: r.Number,
		Outcome: string(r.Outcome), Body: text,
	}
}

// LooseEntry are steps outside of a sheet on their way into the history, masked, and what
// is to be counted of them.
func LooseEntry(steps []*Step, outcome Outcome, masker *secret.Masker) (history.Entry, Counts) {
	row := &Row{Outcome: outcome, Steps: steps}
	for _, step := range steps {
		row.Took += step.Took
	}
	counts := row.Counts()
	counts.Sheets = 1
	return row.Entry(0, false, masker), counts
}

// Record gives what came of a sheet, but for its rows.
func (s *Sheet) Record() *history.Sheet {
	out := &history.Sheet{
		Sheet: s.Name, File: s.File, About: s.About, Site: s.Site, Outcome: string(s.Outcome), Seconds: seconds(s.Took),
		RowCount: s.RowCount, Counts: s.Counts, Times: s.Times, Checks: s.Checks, Limits: s.Limits,
		Notes: s.Notes, Table: s.Table,
		Running: seconds(s.Running),
	}
	if !s.Started.IsZero() {
		out.Started = s.Started.UTC()
	}
	return out
}

// Record gives what came of a run, but for its rows.
func (r *Run) Record() *history.Run {
	out := &history.Run{
		Number: r.Number, ID: r.Run, Bench: r.Bench, Started: r.Started.UTC(), Seconds: seconds(r.Took),
		Outcome: string(r.Outcome), Counts: r.Counts(), Notes: r.Masker.Messages(r.Notes), Sheets: []*history.Sheet{},
	}
	for _, s := range r.Sheets {
		out.Sheets = append(out.Sheets, s.Record())
	}
	if r.Lost != "" {
		out.Broken = append(out.Broken, "the run was not recorded to its end: "+r.Masker.Text(r.Lost))
	}
	return out
}

// Memory gives a run whose rows are kept, masked, as reports want it.
func (r *Run) Memory() *history.MemoryRun {
	out := &history.MemoryRun{Head: r.Record()}
	out.Head.Ended = true
	for _, s := range r.Sheets {
		var rows []*history.Row
		for _, row := range s.Rows {
			rows = append(rows, row.Record(false, r.Masker))
		}
		out.Each = append(out.Each, rows)
	}
	return out
}

// RequestRecord gives a request as it may be shown.
func RequestRecord(r *exchange.Request, m *secret.Masker) *history.Request {
	headers := map[string][]secret.Text{}
	for name, values := range r.Header {
		for _, v := range values {
			headers[name] = append(headers[name], m.Show(r.ShownField(name, v)))
		}
	}
	return &history.Request{
		Method: r.Method, Address: m.Show(r.Shown()), Headers: headers,
		Body: shownBody([]byte(r.BodyShown()), m), Signed: m.ShowAll(r.Signed),
	}
}

func exchangeRecord(record *exchange.Record, m *secret.Masker) history.Exchange {
	out := history.Exchange{
		Request: RequestRecord(record.Request, m), Started: record.Started.UTC(),
		Milliseconds: milliseconds(record.Phases.Total), Notes: m.Messages(record.Notes),
	}
	if a := record.Answer; a != nil {
		out.Status, out.Reason, out.Protocol = a.Status, m.Show(a.Reason), a.Proto
		out.Headers = map[string][]secret.Text{}
		for name, values := range a.Header {
			for _, v := range values {
				out.Headers[m.Text(name)] = append(out.Headers[m.Text(name)], m.Show(v))
			}
		}
		out.Body = shownBody(a.Body, m)
		out.Phases, out.TLS = record.Phases.Record(), record.TLS
		out.ReadAs = a.ReadAs
	}
	if record.Failure != nil {
		out.Failure = m.Message(record.Failure.Message)
	}
	return out
}

func milliseconds(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Millisecond)
}

func seconds(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Second)
}

// shownBody bounds a body, and describes one that is not text.
func shownBody(body []byte, m *secret.Masker) secret.Text {
	if !utf8.Valid(body) {
		return secret.Plain(fmt.Sprintf("(%d bytes that are not UTF-8 text)", len(body)))
	}
	shown, more := m.ShowStart(body, mostBody)
	if more {
		shown += secret.Plain(fmt.Sprintf("\n… (%d of %d bytes shown)", len(shown), len(body)))
	}
	return shown
}
