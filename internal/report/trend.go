package report

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/history"
)

// FindingWords says in a line what is to be noticed of a step over several runs.
func FindingWords(f history.Finding) string {
	switch f.Kind {
	case history.NewlyFailing:
		text := fmt.Sprintf("newly failing since run %d", f.Since)
		if f.Count > 1 {
			text += fmt.Sprintf(", %d runs in a row", f.Count)
		}
		if f.Earlier > 0 {
			return text + fmt.Sprintf("; before that it failed in %d of %s", f.Earlier, count(f.Of-f.Count, "run"))
		}
		return text + fmt.Sprintf("; it passed in %s before", count(f.Of-f.Count, "run"))
	case history.Failing:
		if f.Of == 1 {
			return fmt.Sprintf("failed in run %d, the only one", f.Since)
		}
		return fmt.Sprintf("failed in all %s since run %d", count(f.Of, "run"), f.Since)
	case history.Slower:
		s := f.Slower
		return fmt.Sprintf("slower since run %d: median %s before, %s now (+%.0f %%, noise %.0f %%); p95 %s "+
			"before, %s now",
			f.Since, span(s.Before), span(s.Now), (s.Now/s.Before-1)*100, s.Noise*100, span(s.BeforeP95),
			span(s.NowP95))
	case history.Flaky:
		return fmt.Sprintf("flaky: failed in %d of %s, last in run %d", f.Count, count(f.Of, "run"), f.Since)
	case history.Retried:
		return fmt.Sprintf("passed only at a later try in %d of %s, last in run %d", f.Count, count(f.Of, "run"),
			f.Since)
	case history.PassesAgain:
		return fmt.Sprintf("passes since run %d, after it failed in %s", f.Since, count(f.Count, "run"))
	}
	return fmt.Sprintf("failed in run %d, and in no other of %s", f.Since, count(f.Of, "run"))
}

// DownLines say what could not be reached, a line for each run and site, the newest first.
func DownLines(all []history.Down) []string {
	type place struct {
		run           int
		site, outcome string
	}
	var order []place
	of := map[place][]history.Down{}
	for _, d := range all {
		at := place{d.Run, d.Site, d.Outcome}
		if of[at] == nil {
			order = append(order, at)
		}
		of[at] = append(of[at], d)
	}
	var lines []string
	for _, at := range slices.Backward(order) {
		var services []string
		steps := 0
		for _, d := range of[at] {
			steps += d.Steps
			if d.Service != "" {
				services = append(services, d.Service)
			}
		}
		what := strings.Join(services, ", ")
		switch {
		case what == "":
			what = "a service"
		case len(services) < len(of[at]):
			what += " and others"
		}
		lines = append(lines, fmt.Sprintf("%s %s in run %d at site %s (%s); %s", what, at.outcome, at.run, at.site,
			count(steps, "step"), of[at][0].Why))
	}
	return lines
}

// span is a time in milliseconds as people read it.
func span(ms float64) string {
	switch {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 10_000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// runsWords says over which runs trends are.
func runsWords(t *history.Trends) string {
	first, last := t.Runs[0], t.Runs[len(t.Runs)-1]
	return fmt.Sprintf("%s, from run %d of %s to run %d of %s", count(len(t.Runs), "run"), first.Number,
		first.Started.UTC().Format("2006-01-02"), last.Number, last.Started.UTC().Format("2006-01-02"))
}

// StepFinding is a finding with the step that it is of.
type StepFinding struct {
	Trend   *history.Trend
	Finding history.Finding
}

// Found lists what is to be noticed, the most important first; of one kind the newest first.
func Found(t *history.Trends) []StepFinding {
	var out []StepFinding
	for _, kind := range history.FindingKinds {
		at := len(out)
		for _, step := range t.Steps {
			for _, f := range step.Findings {
				if f.Kind == kind {
					out = append(out, StepFinding{step, f})
				}
			}
		}
		slices.SortStableFunc(out[at:], func(a, b StepFinding) int { return b.Finding.Since - a.Finding.Since })
	}
	return out
}
