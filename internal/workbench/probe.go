package workbench

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"testbench/internal/exchange"
	"testbench/internal/probe"
	"testbench/internal/probing"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/vet"
	"testbench/internal/yamlfile"
)

// ProbeOptions say how an operation is probed.
type ProbeOptions struct {
	Options              // Write names the site at which what could change something is sent
	Only    []probe.Kind // these kinds of changes; empty for all
	Seed    uint64       // the same seed makes the same requests
	Rate    float64      // requests in a second; 0 for one after the other
	Slow    time.Duration
	// Begun is told when the right request was taken, and how many wrong ones there are to
	// come; nil for nobody.
	Begun func(result *ProbeResult, cases int)
	// Told is told of each wrong request when it is judged; nil for nobody.
	Told func(*Probed)
}

// Probed is one wrong request, and how it was taken.
type Probed struct {
	*probe.Case
	probe.Judged
	Result *StepResult // nil where it was not sent
}

// ProbeResult is what came of a probe.
type ProbeResult struct {
	Target  string
	Site    string
	Good    *StepResult // the request as it is right
	Cases   []*Probed
	Number  int // in the history; 0 where it is not there
	Notes   []string
	Outcome Outcome
}

// Counts counts the verdicts of a kind; of all of them where it is empty.
func (r *ProbeResult) Counts(kind probe.Kind) map[probe.Verdict]int {
	counts := map[probe.Verdict]int{}
	for _, c := range r.Cases {
		if kind == "" || c.Kind == kind {
			counts[c.Verdict]++
		}
	}
	return counts
}

// ErrWrites says that an operation changes something, and that nobody said that it may.
var ErrWrites = errors.New("it changes something where it is taken, and so may each wrong request")

// NotGoodError says that the request is not even taken as it is right.
type NotGoodError struct{ Result *StepResult }

func (e *NotGoodError) Error() string {
	said := e.Result.Reason
	if last := e.Result.Last(); said == "" && last != nil && last.Failure != nil {
		said = last.Failure.Message
	} else if said == "" && last != nil {
		said = fmt.Sprintf("it is answered by %d", last.Answer.Status)
		if told := e.Result.Reply.Error(); told != nil {
			said += ": " + told.Text
		}
	}
	return "the request is not taken as it is right, and what a wrong one shows cannot be told: " + said
}

// Probe makes wrong requests of a prepared step, one change at a time, sends them, and
// judges how each is taken. What could create or change something is sent only where the
// options name the site to write to.
func Probe(ctx context.Context, b *Bench, step *sheet.Step, o ProbeOptions) (*ProbeResult, error) {
	session, err := session.NewSession(b.inner, completeOptions(b, o.Options))
	if err != nil {
		return nil, err
	}
	subject, err := probing.New(ctx, session, step, nil)
	if err != nil {
		_ = closeInTime(session)
		return nil, err
	}
	result, err := probeStep(ctx, b, session, subject, step, o)
	if closing := closeInTime(session); closing != nil && result != nil {
		result.Notes = append(result.Notes, "a token could not be given back: "+closing.Error())
	}
	return result, err
}

// ProbeStep probes a step of a sheet: the steps before it are run for the first row, and
// what undoes them afterwards.
func ProbeStep(ctx context.Context, b *Bench, file, name string, o ProbeOptions) (*ProbeResult, error) {
	result, err := (*ProbeResult)(nil),
		fmt.Errorf("the step %s of %s was not reached: a step before it failed, or its condition leaves it out",
			name, file)
	past := RunOptions{Options: o.Options, Rows: [][2]int{{1, 1}}, Unrecorded: true}
	if past.Steps, err = stepsUpTo(b, file, name, o.Options, err); past.Steps == nil {
		return nil, err
	}
	done := false
	past.before = func(ctx context.Context, session *session.Session, step *sheet.Step, scope *session.Values) {
		if step.Name != name || done {
			return
		}
		done = true
		var subject *probing.Subject
		if subject, err = probing.New(ctx, session, step, scope); err == nil {
			result, err = probeStep(ctx, b, session, subject, step, o)
		}
	}
	ran, failed := b.Run(ctx, []string{file}, past)
	if failed != nil {
		return nil, failed
	}
	_ = ran.Close()
	if result != nil {
		result.Notes = append(result.Notes, ran.Notes...)
	}
	return result, err
}

// stepsUpTo lists the steps of a sheet that are run for one of them.
func stepsUpTo(b *Bench, file, name string, o Options, missing error) ([]string, error) {
	if _, err := StepOf(b, file, name, o); err != nil {
		return nil, err
	}
	opened, err := openSheet(b, file)
	if err != nil {
		return nil, err
	}
	return vet.UpTo(opened, name), missing
}

func probeStep(ctx context.Context, b *Bench, session *session.Session, subject *probing.Subject, step *sheet.Step,
	o ProbeOptions,
) (*ProbeResult, error) {
	target := subject.Target
	target.Only, target.Seed = o.Only, o.Seed
	if target.Writes && o.Write != session.Site.Name {
		return nil, ErrWrites
	}
	probed := &ProbeResult{
		Target: step.Name, Site: session.Site.Name, Good: probing.Probe(ctx, session, subject, nil),
		Outcome: Passed,
	}
	if step.Name == "call" {
		probed.Target = probed.Good.Target
	}
	if !isGood(probed.Good) {
		if probed.Good.Outcome != Passed || probed.Good.Last().Failure != nil {
			probed.Good.Outcome = result.Worst(Unreachable, probed.Good.Outcome)
		}
		return probed, &NotGoodError{probed.Good}
	}
	var limit *rate.Limiter
	if o.Rate > 0 {
		limit = rate.NewLimiter(rate.Limit(o.Rate), 1)
	}
	steps := []*StepResult{probed.Good}
	cases := target.Cases()
	if o.Begun != nil {
		o.Begun(probed, len(cases))
	}
	for _, c := range cases {
		one := &Probed{Case: c}
		if c.Writes && o.Write != session.Site.Name {
			one.Judged = probe.Judged{
				Verdict: probe.NotSent,
				Why:     "it could change something: -write " + session.Site.Name + " sends it",
			}
		} else if limit == nil || limit.Wait(ctx) == nil {
			probeOne(ctx, b, session, subject, one, o.Slow)
		}
		if ctx.Err() != nil {
			probed.Outcome = Interrupted
			break
		}
		if one.Result != nil {
			steps = append(steps, one.Result)
		}
		probed.Cases = append(probed.Cases, one)
		if one.Verdict.IsBad() {
			probed.Outcome = Failed
		}
		if o.Told != nil {
			o.Told(one)
		}
		if isGone(one) {
			probed.Outcome = Unreachable
			probed.Notes = append(probed.Notes,
				"the service is not reached any more; what would have come next was not sent")
			break
		}
	}
	var err error
	if probed.Number, err = recordSteps(b, session, "probe "+probed.Target, steps...); err != nil {
		probed.Notes = append(probed.Notes, "the probe is not recorded: "+err.Error())
	}
	probed.Notes = append(append(probed.Notes, session.Notes...), subject.Notes...)
	return probed, nil
}

// probeOne sends a wrong request and judges how it is taken.
func probeOne(ctx context.Context, b *Bench, session *session.Session, subject *probing.Subject, one *Probed,
	slow time.Duration,
) {
	within := ctx
	if slow > 0 {
		var cancel context.CancelFunc
		within, cancel = context.WithTimeout(ctx, slow)
		defer cancel()
	}
	one.Result = probing.Probe(within, session, subject, one.Case)
	last := one.Result.Last()
	switch {
	case last == nil && one.Result.Context.LoginFail != nil && one.Login != nil:
		one.Judged = probe.Judged{Verdict: probe.NotSent, Why: one.Result.Context.LoginFail.Message}
	case last == nil && within.Err() == nil:
		one.Judged = probe.Judged{Verdict: probe.NotSent, Why: one.Result.Reason}
	case last == nil || last.Failure != nil && within.Err() != nil:
		one.Judged = probe.Judged{
			Verdict: probe.Broke, Said: string(exchange.TimedOut),
			Why: "no answer within " + slow.String(),
		}
	default:
		one.Judged = one.Case.Judge(last, one.Result.Reply, slow)
	}
	one.Result.Outcome = Passed
	probing.Judged(one.Result, one.Judged)
}

// isGood says whether the right request was taken.
func isGood(r *StepResult) bool {
	last := r.Last()
	return r.Outcome == Passed && last != nil && last.Failure == nil && last.Answer.Status < 300 &&
		r.Reply.Error() == nil
}

// isGone says whether nobody is there any more.
func isGone(one *Probed) bool {
	if one.Result == nil || one.Result.Last() == nil || one.Result.Last().Failure == nil {
		return false
	}
	switch one.Result.Last().Failure.Kind {
	case exchange.Refused, exchange.Unknown, exchange.Unreachable, exchange.NoProxy:
		return true
	}
	return false
}

// ProbeSheet writes the wrong requests of a step as a sheet to be kept, and gives how many
// there are. What may be taken is left out. Nothing is sent and no secret is opened:
// placeholders stand for them.
func ProbeSheet(ctx context.Context, b *Bench, step *sheet.Step, about string,
	o ProbeOptions,
) (text string, count int, err error) {
	marks := &marking{}
	options := completeOptions(b, o.Options)
	options.Store, options.Tokens = &secret.Store{Environ: marks.environ}, nil
	session, err := session.NewSession(b.inner, options)
	if err != nil {
		return "", 0, err
	}
	subject, err := probing.New(ctx, session, step, nil)
	if err != nil {
		return "", 0, err
	}
	subject.Target.Only, subject.Target.Seed = o.Only, o.Seed
	spell := func(text string) string {
		text = strings.ReplaceAll(text, "${", "$${")
		for _, mark := range marks.marks {
			text = strings.ReplaceAll(text, mark.Text, "${sealed."+mark.Var+"}")
		}
		return text
	}
	var out strings.Builder
	var left int
	for _, c := range subject.Target.Cases() {
		step, err := probing.StepText(ctx, session, subject, c, spell)
		if c.Allowed || err != nil {
			left++
			continue
		}
		count++
		lead := "  - "
		for line := range strings.Lines(step) {
			if line != "\n" {
				out.WriteString(lead)
			}
			out.WriteString(line)
			lead = "    "
		}
	}
	head := fmt.Sprintf("sheet: %s\nabout: %s\n", yamlfile.ScalarText(probing.Unfilled("wrong "+about)),
		yamlfile.ScalarText(fmt.Sprintf(
			"Wrong requests, one change each, that are to be refused; %d more may be taken and are left out.", left)))
	if count == 0 {
		return "", 0, errors.New("nothing of it would have to be refused")
	}
	return head + "steps:\n" + out.String(), count, nil
}

// probeRecord is a probe as programs read it.
type probeRecord struct {
	Target  string                `json:"target"`
	Site    string                `json:"site"`
	Run     int                   `json:"run,omitempty"`
	Outcome Outcome               `json:"outcome"`
	Counts  map[probe.Verdict]int `json:"counts"`
	Cases   []probedRecord        `json:"cases"`
	Notes   []string              `json:"notes,omitempty"`
}

type probedRecord struct {
	Kind    probe.Kind    `json:"kind"`
	Field   string        `json:"field,omitempty"`
	Changed string        `json:"changed"`
	Breaks  []string      `json:"breaks,omitempty"`
	Allowed bool          `json:"allowed,omitempty"`
	Said    string        `json:"said,omitempty"`
	Millis  float64       `json:"ms,omitempty"`
	Verdict probe.Verdict `json:"verdict"`
	Why     string        `json:"why,omitempty"`
}

// Record gives the probe in the form in which programs read it.
func (r *ProbeResult) Record() any {
	out := probeRecord{
		Target: r.Target, Site: r.Site, Run: r.Number, Outcome: r.Outcome, Counts: r.Counts(""),
		Cases: []probedRecord{}, Notes: r.Notes,
	}
	for _, c := range r.Cases {
		one := probedRecord{
			Kind: c.Kind, Field: c.Field, Changed: c.Changed, Breaks: c.Breaks, Allowed: c.Allowed,
			Said: c.Said, Verdict: c.Verdict, Why: c.Why,
		}
		if c.Result != nil && c.Result.Last() != nil {
			one.Millis = float64(c.Result.Last().Phases.Total.Round(10*time.Microsecond)) / float64(time.Millisecond)
		}
		out.Cases = append(out.Cases, one)
	}
	return out
}
