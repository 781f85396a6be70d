package history

import (
	"fmt"
	"slices"
	"time"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/secret"
)

// Limit is what is expected of the times of a step over all its rows. It is recorded with
// the run, so that it can be judged over the whole of it: after shares are put together
// and after a run was gone on with.
type Limit struct {
	Step string `json:"step,omitempty"` // empty for each step
	Word string `json:"of"`             // one of LimitWords
	Rule string `json:"rule"`           // in words, with its values put in
}

// LimitWord is a figure that times are summed up as.
type LimitWord struct {
	Word, About string
	Order       rule.Order
	of          func(*Times) string
}

// LimitWords are the figures that there are.
var LimitWords = []LimitWord{
	{"p50", "half of the exchanges took no longer", rule.Durations, func(t *Times) string { return millisText(t.P50) }},
	{"p90", "nine of ten took no longer", rule.Durations, func(t *Times) string { return millisText(t.P90) }},
	{"p95", "19 of 20 took no longer", rule.Durations, func(t *Times) string { return millisText(t.P95) }},
	{"p99", "99 of 100 took no longer", rule.Durations, func(t *Times) string { return millisText(t.P99) }},
	{"max", "none took longer", rule.Durations, func(t *Times) string { return millisText(t.Max) }},
	{"per second", "how many there were in a second", rule.Numbers, func(t *Times) string {
		return fmt.Sprintf("%.3f", t.PerSecond)
	}},
}

// exactMillis are the times that a histogram holds to the microsecond; longer ones stand for their neighbours.
const exactMillis = 2

func millisText(ms float64) string {
	if ms < exactMillis {
		return fmt.Sprintf("%.3f ms", ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}

// judge holds times against a limit.
func (l Limit) judge(t *Times) Check {
	c := Check{
		Kind: "times", Subject: secret.Plain(t.Step + " " + l.Word), Judged: true,
		Expected: secret.Plain(l.Rule),
	}
	at := slices.IndexFunc(LimitWords, func(w LimitWord) bool { return w.Word == l.Word })
	parsed, err := rule.Parse(l.Rule, false)
	if at < 0 || err != nil {
		c.Got, c.Note = "a limit that cannot be read", secret.Plain(fmt.Sprint(err))
		return c
	}
	got := LimitWords[at].of(t)
	c.Got = secret.Plain(got)
	verdict, err := parsed.Judge(path.Selection{Matches: []path.Match{{Node: document.NewUntyped(got)}}}, path.Roots{},
		nil)
	if err != nil {
		c.Note = secret.Plain(err.Error())
		return c
	}
	c.Passed = verdict.Passed
	if verdict.Note != got {
		c.Note = secret.Plain(verdict.Note)
	}
	return c
}

// JudgeLimits holds the times of a sheet against its limits. Where nothing was measured
// that a limit is for, that is told: what was not measured did not keep its limit.
func (s *Sheet) JudgeLimits() []Check {
	var out []Check
	judged := map[Limit]bool{}
	for _, t := range s.Times {
		for _, l := range s.Limits {
			if l.Step == "" || l.Step == t.Step {
				judged[l] = true
				out = append(out, l.judge(t))
			}
		}
	}
	for _, l := range s.Limits {
		if !judged[l] {
			step := l.Step
			if step == "" {
				step = s.Sheet
			}
			out = append(out, Check{
				Kind: "times", Subject: secret.Plain(step + " " + l.Word), Judged: true,
				Expected: secret.Plain(l.Rule), Got: "nothing was measured",
			})
		}
	}
	return out
}

// span is a time from when on and how long rows were run.
type span struct{ from, to time.Time }

func (s span) seconds() float64 { return s.to.Sub(s.from).Seconds() }

// with is the time from the beginning of the first to the end of the last.
func (s span) with(other span) span {
	if s.from.IsZero() || !other.from.IsZero() && other.from.Before(s.from) {
		s.from = other.from
	}
	if other.to.After(s.to) {
		s.to = other.to
	}
	return s
}

// span is when the rows of a sheet were run.
func (s *Sheet) span() span {
	return span{s.Started, s.Started.Add(time.Duration(s.Running * float64(time.Second)))}
}

// item is how the items of a step are told apart in its name.
var item = lazy.Regexp(` \(\d+ of \d+\)`)

// StepOf is the name of a step without which item of a list it was carried out for.
func StepOf(name string) string { return item().ReplaceAllString(name, "") }

// Measured gives the times of the rows of a sheet that are recorded, and how long these
// rows were run: what was done of a run before it is gone on with.
func (s *Stored) Measured(sheet int) ([]*Histogram, time.Duration, error) {
	watches := map[string]*Histogram{}
	var order []*Histogram
	var over span
	for row, err := range s.Rows(sheet) {
		if err != nil {
			return nil, 0, err
		}
		late := time.Duration(row.Late * float64(time.Millisecond))
		for _, step := range row.Steps {
			if !step.IsMeasured() {
				continue
			}
			took := time.Duration(step.Millis * float64(time.Millisecond))
			name := StepOf(step.Step)
			if watches[name] == nil {
				watches[name] = NewHistogram(name)
				order = append(order, watches[name])
			}
			watches[name].Add(Measure{
				Took: took, Late: late, Exchanges: len(step.Exchanges) + step.Sent, Tries: step.Tries,
			})
			late = 0
			if row.Phase == "" {
				over = over.with(span{step.Started, step.Started.Add(took)})
			}
		}
	}
	return order, over.to.Sub(over.from), nil
}

// IsMeasured says whether the time of a step counts: it was an exchange, and not one that
// somebody else began.
func (s *Step) IsMeasured() bool {
	return s.Outcome != notRun && s.Target != "listen" && !s.Started.IsZero()
}

// FailedOfSheets counts what failed of sheets as a whole: limits of times, and that there are
// rows.
func FailedOfSheets(checks []Check) (times, rows int) {
	for _, c := range checks {
		switch {
		case c.Passed:
		case c.Kind == "times":
			times++
		default:
			rows++
		}
	}
	return times, rows
}
