package history

import "slices"

// Trend is how one step fared over several runs, the oldest first.
type Trend struct {
	File, Step string
	Outcomes   []string  // of each run that had the step
	Times      []float64 // milliseconds, the median of each run; 0 where nothing was sent
}

// mostLookedAt bounds the runs and calls among which those with sheets are looked for.
const mostLookedAt = 1_000

// Trends follows each step over the newest runs that had sheets.
func (s *Store) Trends(most int) ([]*Trend, error) {
	runs, err := s.Recent(mostLookedAt)
	if err != nil {
		return nil, err
	}
	runs = slices.DeleteFunc(runs, func(r *Run) bool { return len(r.Order.Files) == 0 }) // calls
	runs = runs[:min(len(runs), most)]
	var trends []*Trend
	byName := map[[2]string]*Trend{}
	for _, run := range slices.Backward(runs) {
		stored := &Stored{store: s, head: run}
		for i, sheet := range run.Sheets {
			if sheet.File == "" {
				continue // a call
			}
			seen := map[string]*stepInRun{}
			var names []string
			for row, err := range stored.Rows(i) {
				if err != nil {
					return nil, err
				}
				for _, step := range row.Steps {
					if seen[step.Step] == nil {
						seen[step.Step] = &stepInRun{}
						names = append(names, step.Step)
					}
					seen[step.Step].add(step)
				}
			}
			for _, name := range names {
				key := [2]string{sheet.File, name}
				t := byName[key]
				if t == nil {
					t = &Trend{File: sheet.File, Step: name}
					byName[key] = t
					trends = append(trends, t)
				}
				t.Outcomes = append(t.Outcomes, seen[name].outcome)
				t.Times = append(t.Times, seen[name].median())
			}
		}
	}
	return trends, nil
}

// stepInRun is what a step came to in one run.
type stepInRun struct {
	outcome string
	times   []float64
}

func (s *stepInRun) add(step *Step) {
	s.outcome = Worst(s.outcome, step.Outcome)
	if step.Millis > 0 {
		s.times = append(s.times, step.Millis)
	}
}

func (s *stepInRun) median() float64 { return median(s.times) }

func median(times []float64) float64 {
	if len(times) == 0 {
		return 0
	}
	sorted := slices.Clone(times)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

// Word says what is to be noticed: what failed in the newest run alone, what came and went,
// what has failed for long; "" where nothing is.
func (t *Trend) Word() string {
	failed := func(outcome string) bool { return outcome != passed && outcome != notRun }
	changes, last := 0, failed(t.Outcomes[len(t.Outcomes)-1])
	for i := 1; i < len(t.Outcomes); i++ {
		if failed(t.Outcomes[i]) != failed(t.Outcomes[i-1]) {
			changes++
		}
	}
	switch {
	case changes > 1:
		return "comes and goes"
	case last && changes == 1 && !failed(t.Outcomes[max(len(t.Outcomes)-2, 0)]):
		return "newly failing"
	case last:
		return "failures"
	case changes == 1:
		return "passes again"
	}
	return ""
}

// Before is the median of the times before the newest run; 0 where there are none.
func (t *Trend) Before() float64 {
	var times []float64
	for _, ms := range t.Times[:len(t.Times)-1] {
		if ms > 0 {
			times = append(times, ms)
		}
	}
	return median(times)
}
