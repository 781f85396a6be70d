package doubt

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/lazy"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// Recorded is a row as it was run: what its steps were answered.
type Recorded struct {
	Row    int    // its number; 0 for a sheet without rows
	Name   string // which row it is; empty for the only one
	Inputs *document.Node
	Steps  map[string]*recordedStep // by their names
	// isMasked says that what is secret was taken out of it.
	isMasked bool
	begun    time.Time // when its first exchange was
	uuids    []string  // the identifiers that its requests had and no answer before them
}

// recordedStep is what came of a step.
type recordedStep struct {
	exchanges []*exchange.Record
	found     *document.Node // of one that looks into a database or a folder
	passed    bool
	isAround  bool // it is before or after the rows
	cut       bool // what it found, or was answered, was recorded in part only
}

// isThere says whether something came that could be judged again.
func (s *recordedStep) isThere() bool { return len(s.exchanges) > 0 || s.found != nil }

// passed says whether a step passed.
func (r *Recorded) passed(step string) bool { return r.Steps[step] != nil && r.Steps[step].passed }

// OfResult gives a row as it is in memory, with the steps before and after the rows.
func OfResult(rows ...*result.Row) *Recorded {
	out := &Recorded{Steps: map[string]*recordedStep{}}
	for _, row := range rows {
		if row.Phase == "" {
			out.Row, out.Inputs = row.Number, row.Inputs
			out.Name = (&history.Row{Number: row.Number, Label: row.Label}).Name()
		}
		for _, step := range row.Steps {
			one := &recordedStep{
				exchanges: judgedOnes(step.Exchanges), passed: step.Outcome == result.Passed, isAround: row.Phase != "",
			}
			if step.Got != "" {
				one.found, _, _ = document.Read("", []byte(step.Got))
			}
			out.Steps[step.Name] = one
		}
	}
	return out.learn()
}

// OfHistory gives a row as the history has it, with the steps before and after the rows. What is secret is masked
// there.
func OfHistory(rows ...*history.Row) *Recorded {
	out := &Recorded{Steps: map[string]*recordedStep{}, isMasked: true}
	for _, row := range rows {
		if row.Phase == "" {
			out.Row = row.Number
			out.Name = (&history.Row{Number: row.Number, Label: row.Label}).Name()
			if len(row.Inputs) > 0 {
				out.Inputs = document.NewObject()
				for _, input := range row.Inputs {
					out.Inputs.Set(string(input[0]), document.NewUntyped(string(input[1])))
				}
			}
		}
		for _, step := range row.Steps {
			one := &recordedStep{passed: step.Outcome == string(result.Passed), isAround: row.Phase != ""}
			for _, e := range step.Exchanges {
				one.cut = one.cut || !history.IsWhole(e.Body)
				one.exchanges = append(one.exchanges, e.Record())
			}
			one.exchanges = judgedOnes(one.exchanges)
			if step.Got != "" {
				var err error
				one.found, _, err = document.Read("", []byte(step.Got))
				one.cut = one.cut || err != nil
			}
			out.Steps[step.Step] = one
		}
	}
	return out.learn()
}

// judgedOnes are the exchanges that steps saw: of one that was asked for again with a login, the last.
func judgedOnes(all []*exchange.Record) []*exchange.Record {
	return slices.DeleteFunc(slices.Clone(all), func(e *exchange.Record) bool {
		next := slices.Index(all, e) + 1
		return e.Answer != nil && e.Answer.Status == http.StatusUnauthorized && next < len(all) &&
			all[next].Request.Method == e.Request.Method && all[next].Request.URL.String() == e.Request.URL.String()
	})
}

// answerPlace is an answer of a row: of a step, the one after so many others.
type answerPlace struct {
	step   string
	before int
}

// ask is what a step asked for, without what a login puts in.
type ask struct {
	line, body string
	varies     bool // the body is new each time
}

func (a ask) like(other ask) bool { return a.line == other.line && (a.varies || a.body == other.body) }

// replay answers from a row that was recorded, with one answer changed.
type replay struct {
	contracts *bench.ContractCache
	clock     *exchange.Clock

	mutex    sync.Mutex
	row      *Recorded
	expected map[answerPlace]ask // what was asked for when nothing was changed; nil while that is found out
	changed  answerPlace
	answer   *exchange.Answer // in that place; nil for none
	asked    map[answerPlace]ask
	uuids    int
	// astray is the first step that asked for what was not asked for before: what would be answered is not known.
	astray string
}

// reset makes it ready for a row from its beginning.
func (r *replay) reset(row *Recorded, expected map[answerPlace]ask, at answerPlace, answer *exchange.Answer) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.row, r.expected, r.changed, r.answer = row, expected, at, answer
	r.asked, r.uuids, r.astray = map[answerPlace]ask{}, 0, ""
	r.clock.Reset(r.row.begun)
}

// Answer gives the recorded answer, whatever is asked; but it is noted where something else is asked than before.
func (r *replay) Answer(step string, before int, request *exchange.Request) *exchange.Record {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	recorded := r.row.Steps[step]
	if recorded == nil || len(recorded.exchanges) == 0 {
		r.astray = cmp.Or(r.astray, step)
		return &exchange.Record{Request: request, Started: r.clock.Now(), Failure: &exchange.Failure{
			Kind: exchange.Unreachable, Message: "there is no recorded answer",
		}}
	}
	// Whoever asks on gets the last answer again.
	at := answerPlace{step, min(before, len(recorded.exchanges)-1)}
	wants := ask{line: request.Method + " " + request.URL.String(), body: string(request.Body)}
	r.asked[at] = wants
	if expected, is := r.expected[at]; r.expected != nil && (!is || !expected.like(wants)) {
		r.astray = cmp.Or(r.astray, step)
	}
	was := recorded.exchanges[at.before]
	r.clock.Set(was.Started.Add(was.Phases.Total))
	record := *was
	record.Request, record.Notes = request, slices.Clone(was.Notes)
	if was.Answer != nil {
		answer := *was.Answer
		record.Answer = &answer
	}
	if r.answer != nil && at == r.changed {
		answer := *r.answer
		record.Answer, record.Failure = &answer, nil
	}
	return &record
}

// Found gives what was found then.
func (r *replay) Found(step string) (*document.Node, error) {
	recorded := r.row.Steps[step]
	switch {
	case recorded == nil || recorded.found == nil && !recorded.cut:
		return nil, errors.New("there is no record of what was found")
	case recorded.cut:
		return nil, errors.New("what was found is recorded in part only; run -doubt has it whole")
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.answer != nil && r.changed == (answerPlace{step, ofFound}) {
		changed, _, err := document.Read(jsonType, r.answer.Body)
		return changed, err
	}
	return recorded.found, nil
}

// ofFound is where an answerPlace has what a step found in a database or a folder.
const ofFound = -1

const jsonType = "application/json"

// answerOf is what a step found, in the form of an answer.
func answerOf(found *document.Node) *exchange.Answer {
	return &exchange.Answer{
		Status: http.StatusOK, Header: http.Header{"Content-Type": {jsonType}},
		Body: []byte(document.WriteJSON(found, document.Style{})),
	}
}

// Rows is the row alone, in its place.
func (r *replay) Rows() []*document.Node {
	rows := make([]*document.Node, r.row.Row)
	for i := range rows {
		rows[i] = cmp.Or(r.row.Inputs, document.NewObject())
	}
	return rows
}

var uuidForm = lazy.Regexp(`[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}`)

// UUID gives those again that were sent then, in the order of the requests; where there are no more of them, ones of
// its own.
func (r *replay) UUID() string {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.uuids++
	if r.uuids <= len(r.row.uuids) {
		return r.row.uuids[r.uuids-1]
	}
	return fmt.Sprintf("00000000-0000-4000-8000-%012x", r.uuids)
}

// learn finds out when the row was run, and which identifiers were new in it.
func (r *Recorded) learn() *Recorded {
	var all []*exchange.Record
	for _, step := range r.Steps {
		all = append(all, step.exchanges...)
	}
	slices.SortStableFunc(all, func(a, b *exchange.Record) int { return a.Started.Compare(b.Started) })
	var came bytes.Buffer
	for i, e := range all {
		if i == 0 {
			r.begun = e.Started
		}
		text := e.Request.URL.String() + "\n" + string(e.Request.Body)
		for _, values := range e.Request.Header {
			text += "\n" + strings.Join(values, "\n")
		}
		for _, found := range uuidForm().FindAllString(text, -1) {
			if !slices.Contains(r.uuids, found) && !bytes.Contains(came.Bytes(), []byte(found)) {
				r.uuids = append(r.uuids, found)
			}
		}
		if e.Answer != nil {
			came.Write(e.Answer.Body)
		}
	}
	return r
}

// Sealed is the mask, which is in the history in place of secrets; in memory they are as they are.
func (r *replay) Sealed() (string, bool) { return secret.Mask, r.row.isMasked }

// Contracts are those that all replays share.
func (r *replay) Contracts() *bench.ContractCache { return r.contracts }

// nobody sends nothing.
type nobody struct{}

// Do says so.
func (nobody) Do(_ context.Context, r *exchange.Request) *exchange.Record {
	return &exchange.Record{Request: r, Failure: &exchange.Failure{
		Kind: exchange.NotAllowed, Message: "nothing is sent while recorded answers are judged",
	}}
}

// Single is itself.
func (n nobody) Single() exchange.Sender { return n }

// Close has nothing to do.
func (nobody) Close() {}
