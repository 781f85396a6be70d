package sheet

import (
	"fmt"
	"time"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// Limits are what is expected of the times of a sheet's steps, over all its rows.
type Limits struct {
	Rules []limit
	Steps map[string][]limit
	at    map[string]*yamlfile.Node
}

type limit struct {
	word string
	rule *rule.Rule
}

// limitWords are what times are summed up as.
var limitWords = []struct {
	word, holds string
	order       rule.Order
	value       func(*history.Times) string
}{
	{"p50", "half of the exchanges took no longer", rule.Durations, func(t *history.Times) string { return millisText(t.P50) }},
	{"p90", "nine of ten took no longer", rule.Durations, func(t *history.Times) string { return millisText(t.P90) }},
	{"p95", "19 of 20 took no longer", rule.Durations, func(t *history.Times) string { return millisText(t.P95) }},
	{"p99", "99 of 100 took no longer", rule.Durations, func(t *history.Times) string { return millisText(t.P99) }},
	{"max", "none took longer", rule.Durations, func(t *history.Times) string { return millisText(t.Max) }},
	{"per second", "how many there were in a second", rule.Numbers, func(t *history.Times) string { return fmt.Sprintf("%.1f", t.PerSecond) }},
}

func millisText(ms float64) string { return fmt.Sprintf("%.1f ms", ms) }

func limitKeys() []key[[]limit] {
	var keys []key[[]limit]
	for _, w := range limitWords {
		keys = append(keys, key[[]limit]{w.word, w.holds, func(r *reader, into *[]limit, n *yamlfile.Node) {
			if parsed := r.orderRule(n, w.order); parsed != nil {
				*into = append(*into, limit{w.word, parsed})
			}
		}})
	}
	return keys
}

// limits reads expect: of a sheet.
func (r *reader) limits(n *yamlfile.Node) *Limits {
	l := &Limits{Steps: map[string][]limit{}, at: map[string]*yamlfile.Node{}}
	var keys []key[Limits]
	for _, k := range limitKeys() {
		keys = append(keys, key[Limits]{k.name, k.holds, func(r *reader, l *Limits, n *yamlfile.Node) { k.read(r, &l.Rules, n) }})
	}
	keys = append(keys, key[Limits]{"steps", "step: limits of its own", func(r *reader, l *Limits, n *yamlfile.Node) {
		for _, e := range r.entries(n, "steps") {
			var some []limit
			readMapping(r, "what is expected of times", e.Value, &some, limitKeys())
			l.Steps[e.Key.Text], l.at[e.Key.Text] = some, e.Key
		}
	}})
	readMapping(r, "what is expected of times", n, l, keys)
	return l
}

// vetLimits checks that the steps are there whose times are limited.
func (s *Sheet) vetLimits() {
	if s.Limits == nil {
		return
	}
	var known []string
	plan := &SheetResult{}
	plan.plan("", s.allSteps())
	for _, p := range plan.Plan {
		known = append(known, item.ReplaceAllString(p.Name, ""))
	}
	for name, at := range s.Limits.at {
		found := false
		for _, k := range known {
			found = found || k == name
		}
		if !found {
			s.reader().notThere(at, "step", name, known)
		}
	}
}

// judgeTimes holds the times of one step against what is expected of them.
func (r *runner) judgeTimes(w *history.Watch, t *history.Times) {
	l := r.sheet.Limits
	if l == nil || r.options.Dry {
		return
	}
	for _, one := range append(append([]limit(nil), l.Rules...), l.Steps[w.Step()]...) {
		for _, word := range limitWords {
			if word.word == one.word {
				r.result.judgeTime(t.Step, one, word.value(t), r.session.Scope(nil, nil))
			}
		}
	}
}

func (result *SheetResult) judgeTime(step string, l limit, got string, scope *Scope) {
	node := document.NewUntyped(got)
	c := Check{Kind: "times", Subject: step + " " + l.word, Judged: true, Got: got}
	verdict, err := l.rule.Judge(path.Selection{Matches: []path.Match{{Where: c.Subject, Node: node}}}, path.Roots{}, scope)
	if err != nil {
		c.Wanted, c.Note = l.rule.Source, err.Error()
	} else {
		c.Held, c.Wanted, c.Note = verdict.Held, verdict.Wanted, verdict.Note
	}
	if c.Note == c.Got {
		c.Note = ""
	}
	result.Checks = append(result.Checks, c)
	result.Counts.Checks++
	if !c.Held {
		result.Counts.ChecksFell++
		result.Outcome = worst(result.Outcome, FellShort)
	}
}

// sinceText writes how long something took, as rules read it.
func sinceText(d time.Duration) string { return millisText(float64(d) / float64(time.Millisecond)) }
