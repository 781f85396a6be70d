// Package doubt tells what a green is worth: it changes recorded answers, one thing at a time, runs their sheet again
// with them, and sums up which changes the checks notice. Nothing is sent; the answers come from the record, and the
// time is that of the record. It judges nothing itself: the sheet is run as ever, with all checks and contracts.
package doubt

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/run"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// Subject is a sheet whose answers are doubted.
type Subject struct {
	Sheet *sheet.Sheet
	Bench *bench.Bench
	// Options are those of its session; what sends, reads a clock or opens secrets is replaced.
	Options session.Options
	RunID   string   // of the run whose answers are changed
	Steps   []string // only these were run, empty for all; Tags in the same way
	Tags    []string
	Rows    []*Recorded // whose answers are changed
	Others  []*Recorded // more rows, from whose answers is learnt what varies; may be empty
	Earlier []*Recorded // the same rows of earlier runs, the newest first; may be empty

	// Only are the values that the contract of a step takes alone: by the step, and by the path without elements.
	Only map[string]map[string][]string

	inner map[string][]string // of steps, the names that lead to what paths start from
}

// mask masks a text that is shown.
func (s *Subject) mask(text string) string { return s.Options.Masker.Text(text) }

// Options say how much is tried.
type Options struct {
	Most int           // changes; of more a sample is taken
	Time time.Duration // how long; what is not tried then is left out
}

// MostChanges is how many changes are tried of a sheet unless something else is asked for.
const MostChanges = 2_000

// MostTime is how long a sheet is doubted at most.
const MostTime = time.Minute

// mostOfStep bounds the changes of one answer.
const mostOfStep = 400

// tried is a change with what came of it.
type tried struct {
	row    *Recorded
	step   string // as results name it
	of     string // the step of the sheet
	at     answerPlace
	change Change

	verdict verdict
	by      []string // the checks that noticed it
	byRules bool     // the rules that are proposed would
}

// verdict is what came of a change.
type verdict int

const (
	untried verdict = iota
	noticed
	missed
	allowed
	unknown // a later step would ask for something else, whose answer nobody knows
)

// stepResult is what came of a step when a row was judged.
type stepResult struct {
	name, of string
	outcome  result.Outcome
	reason   string
	checks   []result.Check
	payload  *document.Node // of its answer, as paths see it
}

// baseline is a row as it comes out when nothing is changed.
type baseline struct {
	row      *Recorded
	steps    []stepResult
	expected map[answerPlace]ask
}

// worker runs rows again, one after the other.
type worker struct {
	subject *Subject
	replay  *replay
	session *session.Session
	job     *run.Job
}

func newWorker(s *Subject, contracts *bench.ContractCache) (*worker, error) {
	w := &worker{subject: s, replay: &replay{contracts: contracts, clock: &exchange.Clock{}}}
	o := s.Options
	o.Replay, o.Now, o.Tokens, o.Receiver, o.Prompter, o.Log = w.replay, w.replay.clock.Now, nil, nil, nil, nil
	o.Around = func(exchange.Sender) exchange.Sender { return nobody{} }
	var err error
	if w.session, err = session.NewSession(s.Bench, o); err != nil {
		return nil, err
	}
	w.session.RunID = s.RunID // requests may be made of it
	w.job = &run.Job{Session: w.session, Sheet: s.Sheet}
	return w, nil
}

// run runs a row, and gives what came of its steps in their order.
func (w *worker) run(ctx context.Context, row *Recorded, expected map[answerPlace]ask, at answerPlace,
	answer *exchange.Answer,
) []stepResult {
	w.replay.reset(row, expected, at, answer)
	ctx = exchange.WithClock(ctx, w.replay.clock)
	options := run.RunOptions{Steps: w.subject.Steps, Tags: w.subject.Tags}
	if row.Row > 0 {
		options.Rows = [][2]int{{row.Row, row.Row}}
	}
	var out []stepResult
	for _, of := range run.Run(ctx, ctx, []*run.Job{w.job}, options) {
		for _, row := range of.Rows {
			for _, step := range row.Steps {
				one := stepResult{
					name: step.Name, of: step.Of, outcome: step.Outcome, reason: step.Reason, checks: step.Checks,
				}
				if step.Reply != nil {
					one.payload = step.Reply.Payload
				}
				out = append(out, one)
			}
		}
	}
	return out
}

// baseline runs a row twice without a change: what differs in what is asked for is new each time.
func (w *worker) baseline(ctx context.Context, row *Recorded) *baseline {
	b := &baseline{row: row, steps: w.run(ctx, row, nil, answerPlace{}, nil)}
	b.expected = w.replay.asked
	w.run(ctx, row, nil, answerPlace{}, nil)
	for at, before := range b.expected {
		again := w.replay.asked[at]
		before.varies = before.body != again.body
		b.expected[at] = before
	}
	return b
}

// Doubt changes the recorded answers of a sheet and tells what its checks notice.
func Doubt(ctx context.Context, s *Subject, o Options) (*Result, error) {
	begun := time.Now()
	s.inner = map[string][]string{}
	ctx, cancel := context.WithTimeout(ctx, o.Time)
	defer cancel()
	contracts := &bench.ContractCache{}
	workers := make([]*worker, runtime.GOMAXPROCS(0))
	for i := range workers {
		var err error
		if workers[i], err = newWorker(s, contracts); err != nil {
			return nil, err
		}
		defer func() { _ = workers[i].session.Close(context.WithoutCancel(ctx)) }()
	}
	r := newResult(s)
	var all []*tried
	bases := map[*Recorded]*baseline{}
	for _, row := range s.Rows {
		base := workers[0].baseline(ctx, row)
		bases[row] = base
		r.addBaseline(base)
		all = append(all, s.changesOf(base, r)...)
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("%s: judging the recorded answers once took longer than %s", r.File, o.Time)
	}
	sampled := sample(all, o.Most)
	each := func(some []*tried, do func(*worker, *tried)) { sideBySide(ctx, workers, some, do) }
	each(sampled, func(w *worker, t *tried) { t.verdict, t.by = w.try(ctx, bases[t.row], t) })
	r.sum(s, sampled, len(all))
	takeOut := s.putIn(r)
	for _, row := range s.Rows { // a rule that does not hold for what was recorded is none
		base := bases[row]
		for i, now := range workers[0].run(ctx, row, base.expected, answerPlace{}, nil) {
			r.dropRules(before(base.steps, i, now.name), now)
		}
	}
	takeOut()
	takeOut = s.putIn(r)
	each(r.missed(), func(w *worker, t *tried) {
		again, _ := w.try(ctx, bases[t.row], t)
		t.byRules = again == noticed
	})
	takeOut()
	r.sumRules()
	r.Seconds = time.Since(begun).Seconds()
	return r, nil
}

// sideBySide does something with changes, as many at once as there are workers.
func sideBySide(ctx context.Context, workers []*worker, some []*tried, do func(*worker, *tried)) {
	changes := make(chan *tried)
	var group sync.WaitGroup
	for _, w := range workers {
		group.Go(func() {
			for t := range changes {
				do(w, t)
			}
		})
	}
	for _, t := range some {
		if ctx.Err() != nil {
			break
		}
		changes <- t
	}
	close(changes)
	group.Wait()
}

// sample takes so many changes at most, by chance that is the same each time, and leaves them in their order.
func sample(all []*tried, most int) []*tried {
	if len(all) <= most {
		return all
	}
	numbers := rand.New(rand.NewPCG(1, uint64(len(all)))).Perm(len(all))[:most]
	slices.Sort(numbers)
	out := make([]*tried, most)
	for i, n := range numbers {
		out[i] = all[n]
	}
	return out
}

// changesOf are the changes of all answers of a row.
func (s *Subject) changesOf(b *baseline, r *Result) []*tried {
	var out []*tried
	for _, step := range b.steps {
		recorded := b.row.Steps[step.name]
		if recorded == nil || !recorded.isThere() || recorded.isAround && b.row != s.Rows[0] {
			continue
		}
		at, answer := answerPlace{step.name, ofFound}, b.row.lastAnswer(step.name)
		if len(recorded.exchanges) > 0 {
			at.before = len(recorded.exchanges) - 1
		}
		switch {
		case step.outcome != result.Passed && step.outcome != result.Failed:
			r.leave("%s: %s: it cannot be judged again: %s", step.name, step.outcome, step.reason)
			continue
		case answer == nil:
			continue
		case recorded.cut:
			r.leave("%s: its answer is recorded in part only; run -doubt has it whole", step.name)
			continue
		}
		if s.inner[step.of] == nil {
			s.inner[step.of] = wayTo(b.row.payload(step.name, nil), step.payload)
		}
		var of []*tried
		all := append(changes(answer, s.inner[step.of], s.values(step), s.mask),
			s.otherAnswers(b.row, step.name, answer)...)
		if at.before == ofFound { // it has no status, and no header fields
			all = slices.DeleteFunc(all, func(c Change) bool { return c.Path == "" && c.Kind != Row })
		}
		for _, change := range all {
			of = append(of, &tried{
				row: b.row, step: step.name, of: step.of, at: at, change: change,
			})
		}
		out = append(out, sample(of, mostOfStep)...)
	}
	return out
}

// values are what other answers of a step had in its fields, and what its contract takes.
func (s *Subject) values(step stepResult) values {
	c := &changer{values: map[string][]string{}}
	for _, other := range slices.Concat(s.Rows, s.Others, s.Earlier) {
		if payload := other.payload(step.name, s.inner[step.of]); payload != nil && other.passed(step.name) {
			c.gather(payload, "")
		}
	}
	return values{c.values, s.Only[lastName(step.of)]}
}

// otherAnswers are whole answers that came elsewhere: in another row, of another step, in an earlier run.
func (s *Subject) otherAnswers(row *Recorded, step string, answer *exchange.Answer) []Change {
	var out []Change
	add := func(kind Kind, what string, other *exchange.Answer) {
		// After a 401 a login asks again, and gets another answer.
		if other != nil && other.Status != http.StatusUnauthorized && len(other.Body) > 0 &&
			string(other.Body) != string(answer.Body) {
			out = append(out, Change{Kind: kind, What: what, answer: func() *exchange.Answer { return other }})
		}
	}
	for _, other := range s.Rows {
		if other != row {
			add(Row, "the answer of "+other.Name, other.lastAnswer(step))
			break
		}
	}
	for _, earlier := range s.Earlier {
		if earlier.Row == row.Row && earlier.Name == row.Name {
			add(Previous, "the answer of an earlier run", earlier.lastAnswer(step))
			break
		}
	}
	if exchanges := row.Steps[step].exchanges; len(exchanges) > 1 {
		add(Previous, "the first of its answers again", exchanges[0].Answer)
	}
	for _, name := range row.names() {
		if other := row.lastAnswer(name); name != step && other != nil &&
			other.ContentType() == answer.ContentType() {
			add(Step, "the answer of "+name, other)
			break
		}
	}
	return out
}

// lastAnswer is the answer of a step that was judged; nil for none.
func (r *Recorded) lastAnswer(step string) *exchange.Answer {
	recorded := r.Steps[step]
	switch {
	case recorded == nil || !recorded.isThere():
		return nil
	case len(recorded.exchanges) == 0:
		return answerOf(recorded.found)
	}
	return recorded.exchanges[len(recorded.exchanges)-1].Answer
}

// names are those of the steps, in the order of the alphabet.
func (r *Recorded) names() []string {
	var names []string
	for name := range r.Steps {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// payload is what the answer of a step holds, from where paths start; nil where it cannot be read.
func (r *Recorded) payload(step string, inner []string) *document.Node {
	answer := r.lastAnswer(step)
	if answer == nil {
		return nil
	}
	return follow(reply.Read(&exchange.Record{Answer: answer}).Payload, inner)
}

// follow gives what is below names; nil where they lead nowhere.
func follow(n *document.Node, names []string) *document.Node {
	for _, name := range names {
		n = n.Get(name)
	}
	return n
}

// wayTo gives the names that lead from a payload to what paths start from, where a protocol has something around it:
// the d of OData 2.0. It is empty where nothing is around it.
func wayTo(n, payload *document.Node) []string {
	if n == nil || payload == nil || payload.Kind == document.Element {
		return []string{}
	}
	text := document.WriteJSON(payload, document.Style{})
	var look func(n *document.Node, way []string) []string
	look = func(n *document.Node, way []string) []string {
		if document.WriteJSON(n, document.Style{}) == text {
			return way
		}
		for _, m := range n.Members() {
			if len(way) < 2 && !m.Value.IsScalar() {
				if found := look(m.Value, append(slices.Clone(way), m.Key)); found != nil {
					return found
				}
			}
		}
		return nil
	}
	if way := look(n, []string{}); way != nil {
		return way
	}
	return []string{}
}

// try judges a change, and names the checks that noticed it.
func (w *worker) try(ctx context.Context, b *baseline, t *tried) (verdict, []string) {
	results := w.run(ctx, b.row, b.expected, t.at, t.change.answer())
	if ctx.Err() != nil {
		return untried, nil
	}
	for i, now := range results {
		if now.name == w.replay.astray {
			return unknown, nil
		}
		by := worse(before(b.steps, i, now.name), now)
		if len(by) == 0 {
			continue
		}
		for i := range by {
			by[i] = w.subject.mask(by[i])
		}
		return noticed, by
	}
	if w.replay.astray != "" {
		return unknown, nil
	}
	return missed, nil
}

// putIn puts the rules that are proposed into the steps of the sheet; takeOut takes them out again.
func (s *Subject) putIn(r *Result) (takeOut func()) {
	before := map[*sheet.Step][]sheet.FieldRule{}
	s.Sheet.EveryStep(func(_ *sheet.Sheet, step *sheet.Step) {
		for _, f := range r.Fields {
			if lastName(f.Step) != step.Name {
				continue
			}
			at, err := path.Compile(f.Path)
			for _, text := range f.Rules {
				one, ruleErr := rule.Parse(text, false)
				if err != nil || ruleErr != nil {
					continue // it is not proposed then: it notices nothing
				}
				if _, was := before[step]; !was {
					before[step] = step.Fields
				}
				step.Fields = append(slices.Clip(step.Fields), sheet.FieldRule{Source: f.Path, Path: at, Rule: one})
			}
		}
	})
	return func() {
		for step, fields := range before {
			step.Fields = fields
		}
	}
}

// before is what came of the same step when nothing was changed; nil where it was not run then.
func before(steps []stepResult, i int, name string) *stepResult {
	if i < len(steps) && steps[i].name == name {
		return &steps[i]
	}
	at := slices.IndexFunc(steps, func(s stepResult) bool { return s.name == name })
	if at < 0 {
		return nil
	}
	return &steps[at]
}

// worse lists what of a step came out worse than before: checks, or the step itself.
func worse(was *stepResult, now stepResult) []string {
	var by []string
	for i, c := range now.checks {
		if c.Passed || !c.Judged {
			continue
		}
		if was == nil || !failedBefore(was.checks, i, c) {
			by = append(by, checkName(now.of, c))
		}
	}
	isBad := func(o result.Outcome) bool { return o != result.Passed && o != result.NotRun }
	if now.outcome == result.Failed && len(by) == 0 {
		return nil // by the checks that failed before too
	}
	if len(by) == 0 && isBad(now.outcome) && (was == nil || !isBad(was.outcome)) {
		by = append(by, now.of+": "+string(now.outcome))
	}
	if isBad(now.outcome) {
		return by
	}
	return nil // a soft step passes all the same
}

// failedBefore says whether the same check failed when nothing was changed.
func failedBefore(checks []result.Check, i int, c result.Check) bool {
	same := func(one result.Check) bool { return one.Kind == c.Kind && one.Subject == c.Subject && !one.Passed }
	return i < len(checks) && same(checks[i]) || slices.ContainsFunc(checks, same)
}

// checkName is a check in words, with its step.
func checkName(step string, c result.Check) string {
	return fmt.Sprintf("%s: %s %s", step, c.Kind, strings.TrimSpace(c.Subject+": "+c.Expected))
}
