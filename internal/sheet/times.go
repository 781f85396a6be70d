package sheet

import (
	"fmt"
	"time"

	"testbench/internal/history"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Limits are what is expected of the times of a sheet's steps, over all its rows.
type Limits struct {
	all []limit
	at  map[string]*yamlfile.Node // where a step is named
}

type limit struct {
	step, word string
	rule       *rule.Rule
}

// limitsOf are the limits of one step, or of each, while they are read.
type limitsOf struct {
	step string
	into *Limits
}

func limitKeys() []key[limitsOf] {
	var keys []key[limitsOf]
	for _, w := range history.LimitWords {
		keys = append(keys, key[limitsOf]{w.Word, w.About, func(r *reader, of *limitsOf, n *yamlfile.Node) {
			items := []*yamlfile.Node{n}
			if n.Kind == yamlfile.Sequence {
				items = r.list(n)
			}
			for _, item := range items {
				parsed := r.orderRule(item, w.Order)
				if parsed == nil {
					continue
				}
				if _, err := rule.Parse(parsed.Source, false); err != nil {
					r.file.Report(item, "write it like under 800 ms; of several in a list all must be met", "a limit is a rule in words")
					continue
				}
				of.into.all = append(of.into.all, limit{of.step, w.Word, parsed})
			}
		}})
	}
	return keys
}

// limits reads expect: of a sheet.
func (r *reader) limits(n *yamlfile.Node) *Limits {
	l := &Limits{at: map[string]*yamlfile.Node{}}
	keys := append(limitKeys(), key[limitsOf]{"steps", "step: limits of its own", func(r *reader, _ *limitsOf, n *yamlfile.Node) {
		for _, e := range r.entries(n, "steps") {
			l.at[e.Key.Text] = e.Key
			readMapping(r, "what is expected of times", e.Value, &limitsOf{e.Key.Text, l}, limitKeys())
		}
	}})
	readMapping(r, "what is expected of times", n, &limitsOf{"", l}, keys)
	return l
}

// withValues are the limits with the values of a site put in, as they are recorded.
func (l *Limits) withValues(scope value.Scope) []history.Limit {
	if l == nil {
		return nil
	}
	var out []history.Limit
	for _, one := range l.all {
		out = append(out, history.Limit{Step: one.step, Word: one.word, Rule: one.rule.FilledIn(scope)})
	}
	return out
}

// vetLimits checks that the steps are there whose times are limited, and that they have
// times.
func (s *Sheet) vetLimits() {
	if s.Limits == nil {
		return
	}
	var known []string
	plan := &SheetResult{}
	plan.plan("", s.allSteps())
	for _, p := range plan.Plan {
		known = append(known, history.StepOf(p.Name))
	}
	for name, at := range s.Limits.at {
		found := ""
		for i, k := range known {
			if k == name {
				found = plan.Plan[i].Target
			}
		}
		switch found {
		case "":
			s.reader().notThere(at, "step", name, known)
		case "set", "work out", "listen":
			s.file.Report(at, "take it out", "the step %q sends nothing whose time could be limited", name)
		}
	}
}

// judgeLimits holds the times of the sheet against its limits, unless this is a part of the
// run: then whoever puts the parts together does. Steps that were left out on the command
// line have no times.
func (r *runner) judgeLimits() {
	if r.options.Dry || r.options.Share.N > 1 || r.ctx.Err() != nil {
		return
	}
	whole := &history.Sheet{Sheet: r.result.Name, Times: r.result.Times}
	for _, l := range r.result.Limits {
		if l.Step == "" || r.isChosen(l.Step) {
			whole.Limits = append(whole.Limits, l)
		}
	}
	for _, c := range whole.JudgeLimits() {
		r.result.Checks = append(r.result.Checks, c)
		r.result.Counts.Checks++
		if !c.Held {
			r.result.Counts.ChecksFell++
			r.result.Outcome = worst(r.result.Outcome, FellShort)
		}
	}
}

// isChosen says whether the command line has a step run.
func (r *runner) isChosen(step string) bool {
	for _, one := range r.sheet.allSteps() {
		isIt := one.Name == step || len(step) > len(one.Name) && step[:len(one.Name)+1] == one.Name+":"
		if isIt {
			return r.options.isRun(one, r.sheet)
		}
	}
	return true
}

// sinceText writes how long something took, as rules read it.
func sinceText(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
}
