package run

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/callback"
	"testbench/internal/judge"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// listen carries out a step that waits to be called back.
func (x *rowRun) listen(ctx context.Context, s *session.Session, step *sheet.Step, scope *session.Values, res *result.Step) {
	if x.options.Dry {
		res.Outcome, res.Reason = result.NotRun, "a dry run waits for no call"
		return
	}
	o, err := x.boxes.of(step.Name)
	if err != nil {
		x.failed(ctx, res, err)
		return
	}
	w := &sheet.Waiting{Within: sheet.UsualWithin}
	if step.Wait != nil {
		w = step.Wait
	}
	waiting := &calling{x: x, session: s, step: step, opened: o, scope: scope, wait: w, result: res, begun: time.Now()}
	j, err := waiting.run(ctx)
	if err != nil {
		x.failed(ctx, res, err)
		return
	}
	res.Notes = append(res.Notes, waiting.notes()...)
	if j == nil {
		res.Checks = waiting.checks
		res.Outcome = result.FellShort
		return
	}
	j.Checks = waiting.checks
	j.FinishPayload(res)
	res.Got = "" // the call shows it
}

// calling is the waiting for a call.
type calling struct {
	x       *rowRun
	session *session.Session
	step    *sheet.Step
	*opened
	scope   *session.Values
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
		if !slices.ContainsFunc(checks, func(k result.Check) bool { return !k.Held }) {
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
	j = c.x.judgingOf(c.session, c.step, c.scope, re.Payload, re.Tree())
	for _, f := range c.step.Listen.Match {
		j.Rule("match", f.Source, f.Path, f.Rule)
	}
	if j.Err != nil {
		return nil, false, j.Err
	}
	for _, check := range j.Checks {
		if !check.Held {
			c.lastBad = fmt.Sprintf("%s wanted %s, got %s", check.Subject, check.Wanted, check.Got)
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
	if c.step.Listen.Quiet == 0 {
		return nil
	}
	check := result.Check{Kind: "expect", Subject: "quiet", Judged: true, Wanted: "no more calls for " + judge.SpanText(c.step.Listen.Quiet), Got: "none", Held: true}
	got, err := c.next(ctx, time.Now().Add(c.step.Listen.Quiet))
	if err != nil {
		return err
	}
	if got != nil {
		check.Held, check.Got = false, "one more"
		c.result.Exchanges = append(c.result.Exchanges, got.Record(c.Listen))
		check.Note = c.late(got)
	}
	c.checks = append(c.checks, check)
	return nil
}

// late says what a call is that came when nothing was waited for any more.
func (c *calling) late(got *callback.Call) string {
	re := reply.OfCall(got.Method, got.URL, got.Header, got.Body)
	j := c.x.judgingOf(c.session, c.step, c.scope, re.Payload, re.Tree())
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
	check := result.Check{Kind: "expect", Subject: "call", Judged: true, Wanted: fmt.Sprintf("a call by %s within %s", c.step.Listen.Method, judge.SpanText(c.wait.Within)), Got: "none"}
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
		notes = append(notes, fmt.Sprintf("called %s: %s", session.HowOften(c.calls), judge.StatesText(c.states)))
	}
	return notes
}

// shut takes the row's boxes away, and tells of calls that nobody took.
func (b *boxes) shut() {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	for _, o := range b.order {
		b.x.session.Options.Receiver.Shut(o.Box)
		w := &sheet.Waiting{}
		if o.step.Wait != nil {
			w = o.step.Wait
		}
		res := &result.Step{Name: b.x.prefix + o.step.Name + ": late", Target: session.TargetOf(o.step), Outcome: result.Held, Notes: o.TakeNotes()}
		c := &calling{x: b.x, session: b.x.session, step: o.step, opened: o, scope: b.x.scope(b.x.session), wait: w, result: res}
		for got := o.Taken(); got != nil; got = o.Taken() {
			if again := o.again(got, w.States != nil); again != "" {
				res.Notes = append(res.Notes, again)
				continue
			}
			res.Exchanges = append(res.Exchanges, got.Record(o.Listen))
			said := c.late(got)
			if strings.HasPrefix(said, "false: ") {
				res.Outcome = result.FellShort
				res.Checks = append(res.Checks, result.Check{Kind: "states", Subject: w.States.Source, Judged: true, Wanted: judge.StateWords(w.States), Got: "a false change", Note: strings.TrimPrefix(said, "false: ")})
				continue
			}
			res.Notes = append(res.Notes, said)
		}
		if len(res.Notes) > 0 || len(res.Exchanges) > 0 {
			b.x.tell(res)
		}
	}
}
