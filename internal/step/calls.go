package step

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/callback"
	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/judge"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// Calls are where the calls for a row come in, a box for each step that listens. They belong
// to one row, which shuts them when it has ended.
type Calls struct {
	row     Row
	sheet   *sheet.Sheet
	session *session.Session
	scope   func() *session.Values
	lead    string // before the names of steps
	mutex   sync.Mutex
	open    map[string]*opened
	order   []*opened
}

// NewCalls gives those of a row of a sheet, in which names lead to what scope gives.
func NewCalls(row Row, s *sheet.Sheet, of *session.Session, scope func() *session.Values, lead string) *Calls {
	return &Calls{row: row, sheet: s, session: of, scope: scope, lead: lead, open: map[string]*opened{}}
}

type opened struct {
	*callback.Box
	step    *sheet.Step
	listen  *Listen
	address string
	seen    map[[32]byte]time.Time // calls that were taken
	last    [32]byte               // the one that was taken last
	states  []judge.StateSeen
	start   time.Time
}

// AddressOf is where a step that listens is called; of the only one for "".
func (c *Calls) AddressOf(name string) (string, error) {
	o, err := c.of(name)
	if err != nil {
		return "", err
	}
	return o.address, nil
}

// of gives the box of a step, and makes it where it is first asked for.
func (c *Calls) of(name string) (*opened, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	steps := Listening(c.sheet)
	at := slices.IndexFunc(steps, func(s *sheet.Step) bool { return s.Name == name || name == "" })
	if at < 0 {
		return nil, fmt.Errorf("%w: no step waits for such a callback", value.ErrNothing)
	}
	s := steps[at]
	if o := c.open[s.Name]; o != nil {
		return o, nil
	}
	receiver := c.session.Options.Receiver
	if receiver == nil {
		return nil, fmt.Errorf("%w: nobody can call back here", value.ErrNothing)
	}
	// What is at the step is filled in as it is now, and asks for no address itself.
	scope := *c.scope()
	scope.Kept, scope.Listening = maps.Clone(scope.Kept), nil
	listen := s.Action.(*Listen)
	l, err := listen.ready(&scope)
	if err != nil {
		return nil, err
	}
	o := &opened{step: s, listen: listen, seen: map[[32]byte]time.Time{}, start: time.Now()}
	if o.Box, o.address, err = receiver.Open(l); err != nil {
		return nil, err
	}
	c.open[s.Name] = o
	c.order = append(c.order, o)
	return o, nil
}

// ready fills in which call is waited for.
func (l *Listen) ready(scope *session.Values) (*callback.Listener, error) {
	out := &callback.Listener{Method: l.Method, Signed: l.Signed, Answer: l.Answer, Header: http.Header{}}
	text := func(t *value.Template) (string, error) {
		if t == nil {
			return "", nil
		}
		filled, err := t.Text(scope, value.Raw)
		return filled.Sent, err
	}
	var err error
	if out.Path, err = text(l.Path); err != nil {
		return nil, err
	}
	out.Path = strings.Trim(out.Path, "/")
	if l.Signed != nil {
		key, err := text(l.Signed.Key)
		if err != nil {
			return nil, err
		}
		out.Key = []byte(key)
	}
	for _, h := range l.Answer.Headers {
		node, err := h.Value.Node(scope)
		if err != nil {
			return nil, err
		}
		out.Header.Add(h.Name, node.Text)
	}
	switch {
	case l.Answer.Body != nil:
		node, err := l.Answer.Body.Node(scope)
		if err != nil {
			return nil, err
		}
		out.Body = []byte(document.WriteJSON(node, document.Style{}))
		if out.Header.Get("Content-Type") == "" {
			out.Header.Set("Content-Type", "application/json")
		}
	case l.Answer.Text != nil:
		filled, err := text(l.Answer.Text)
		if err != nil {
			return nil, err
		}
		out.Body = []byte(filled)
	}
	if out.Answer.Status == 0 {
		out.Answer.Status = http.StatusOK
		if len(out.Body) == 0 {
			out.Answer.Status = http.StatusNoContent
		}
	}
	return out, nil
}

// calling is the waiting for a call.
type calling struct {
	at *place
	*opened
	wait    *sheet.Waiting
	result  *result.Step
	begun   time.Time
	checks  []result.Check
	said    []string
	calls   int
	lastBad string // why the last call that came is not the one
}

// run waits; it gives the judging of the call that is judged, nil where none came.
func (c *calling) run(ctx context.Context) (*judge.Judging, error) {
	deadline := c.begun.Add(c.wait.Within)
	var last *judge.Judging
	var open []result.Check // of the last call, what until wants and is not so
	for {
		got, err := c.next(ctx, deadline)
		if err != nil {
			return nil, err
		}
		if got == nil {
			if last == nil {
				c.none()
				return nil, nil
			}
			c.checks = append(c.checks, judge.TooLate(c.wait, open)...)
			return last, nil
		}
		j, isOver, err := c.judge(got)
		if err != nil {
			return nil, err
		}
		if j == nil {
			continue
		}
		last = j
		if isOver {
			return last, c.quiet(ctx)
		}
		checks := j.Until(c.wait.Until)
		if j.Err != nil {
			return nil, j.Err
		}
		open = checks
		if !slices.ContainsFunc(checks, func(k result.Check) bool { return !k.Passed }) {
			c.checks = append(c.checks, checks...)
			return last, c.quiet(ctx)
		}
		if failed := judge.FailedState(c.wait.States, c.states); failed != nil {
			c.checks = append(c.checks, *failed)
			return last, nil
		}
	}
}

// next takes the next call that did not come before.
func (c *calling) next(ctx context.Context, deadline time.Time) (*callback.Call, error) {
	for {
		got, err := c.opened.Next(ctx, deadline)
		if got == nil || err != nil {
			return nil, err
		}
		if again := c.again(got, c.wait.States != nil); again != "" {
			c.said = append(c.said, again)
			continue
		}
		return got, nil
	}
}

// again says that a call was taken before, or "" where it was not. Where states are looked
// at, only the last call counts: what was so once and comes again is a change.
func (o *opened) again(got *callback.Call, isState bool) string {
	before, known := o.seen[got.Digest]
	isLast := got.Digest == o.last
	o.seen[got.Digest], o.last = got.At, got.Digest
	if !known || isState && !isLast {
		return ""
	}
	return fmt.Sprintf("the same call came again, %s after the one before", judge.SpanText(got.At.Sub(before)))
}

// judge looks at a call: nil says that it is not the one; isOver that a state came that
// may not come.
func (c *calling) judge(got *callback.Call) (j *judge.Judging, isOver bool, err error) {
	re := reply.OfCall(got.Method, got.URL, got.Header, got.Body)
	j = c.at.judging(c.step, re.Payload, re.Tree())
	for _, f := range c.listen.Match {
		j.Rule("match", f.Source, f.Path, f.Rule)
	}
	if j.Err != nil {
		return nil, false, j.Err
	}
	for _, check := range j.Checks {
		if !check.Passed {
			c.lastBad = fmt.Sprintf("%s %s", check.Subject, history.Compared(check.Expected, check.Got))
			c.said = append(c.said, "a call that does not match came: "+c.lastBad)
			return nil, false, nil
		}
	}
	c.checks = append(c.checks, j.Checks...)
	j.Checks = nil
	c.calls++
	c.result.Exchanges = append(c.result.Exchanges, got.Record(c.Listen))
	states, wrong := judge.LookAtState(c.wait.States, j, c.states, got.At.Sub(c.start))
	c.states = states
	if wrong != nil {
		c.checks = append(c.checks, *wrong)
	}
	return j, wrong != nil, j.Err
}

// quiet holds that nothing more comes for as long as the step says.
func (c *calling) quiet(ctx context.Context) error {
	if c.listen.Quiet == 0 {
		return nil
	}
	check := result.Check{
		Kind: "expect", Subject: "quiet", Judged: true,
		Expected: "no more calls for " + judge.SpanText(c.listen.Quiet), Got: "none", Passed: true,
	}
	got, err := c.next(ctx, time.Now().Add(c.listen.Quiet))
	if err != nil {
		return err
	}
	if got != nil {
		check.Passed, check.Got = false, "one more"
		c.result.Exchanges = append(c.result.Exchanges, got.Record(c.Listen))
		check.Note = c.late(got)
	}
	c.checks = append(c.checks, check)
	return nil
}

// late says what a call is that came when nothing was waited for any more.
func (c *calling) late(got *callback.Call) string {
	re := reply.OfCall(got.Method, got.URL, got.Header, got.Body)
	j := c.at.judging(c.step, re.Payload, re.Tree())
	after := judge.SpanText(got.At.Sub(c.start))
	if c.wait.States == nil {
		return "a call came late, after " + after
	}
	states, wrong := judge.LookAtState(c.wait.States, j, c.states, got.At.Sub(c.start))
	if wrong != nil {
		return "false: " + wrong.Note
	}
	if len(states) > len(c.states) {
		return fmt.Sprintf("late: %q came after %s", states[len(states)-1].State, after)
	}
	return "a call came late, after " + after
}

// none says that no call came that matches.
func (c *calling) none() {
	check := result.Check{
		Kind: "expect", Subject: "call", Judged: true,
		Expected: fmt.Sprintf("a call by %s within %s", c.listen.Method, judge.SpanText(c.wait.Within)), Got: "none",
	}
	if c.lastBad != "" {
		check.Got = "none that matches"
	}
	c.checks = append(c.checks, check)
	if c.lastBad == "" {
		c.said = append(c.said, "the address that was given out: "+c.address)
	}
}

// notes say how the waiting went.
func (c *calling) notes() []string {
	notes := append(c.TakeNotes(), c.said...)
	if len(c.states) > 0 {
		notes = append(notes, fmt.Sprintf("callback received %s: %s", session.HowOften(c.calls),
			judge.StatesText(c.states)))
	}
	return notes
}

// Shut takes the boxes away, and tells of calls that nobody took.
func (c *Calls) Shut() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, o := range c.order {
		c.session.Options.Receiver.Shut(o.Box)
		w := &sheet.Waiting{}
		if o.step.Wait != nil {
			w = o.step.Wait
		}
		res := &result.Step{
			Name: c.lead + o.step.Name + ": late", Target: o.step.Target(), Outcome: result.Passed,
			Notes: o.TakeNotes(),
		}
		late := &calling{at: &place{c.row, c.session, c.scope()}, opened: o, wait: w, result: res}
		for got := o.Taken(); got != nil; got = o.Taken() {
			late.tell(got)
		}
		if len(res.Notes) > 0 || len(res.Exchanges) > 0 {
			c.row.Tell(res)
		}
	}
}

// tell tells of a call that came when nothing was waited for any more.
func (c *calling) tell(got *callback.Call) {
	res := c.result
	if again := c.again(got, c.wait.States != nil); again != "" {
		res.Notes = append(res.Notes, again)
		return
	}
	res.Exchanges = append(res.Exchanges, got.Record(c.Listen))
	said := c.late(got)
	wrong, isFalse := strings.CutPrefix(said, "false: ")
	if !isFalse {
		res.Notes = append(res.Notes, said)
		return
	}
	res.Outcome = result.Failed
	res.Checks = append(res.Checks,
		result.Check{
			Kind: "states", Subject: c.wait.States.Source, Judged: true,
			Expected: judge.StateWords(c.wait.States), Got: "a false change", Note: wrong,
		})
}
