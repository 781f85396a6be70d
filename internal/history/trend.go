package history

import (
	"encoding/json"
	"math"
	"slices"
	"time"
)

// Trends are how steps fared over several runs.
type Trends struct {
	Runs  []RunOf  `json:"runs"`  // the oldest first
	Steps []*Trend `json:"steps"` // by site and sheet, in the order of the newest run that had them
	Down  []Down   `json:"down"`  // in the order of the runs
	// Shares is how many runs were left out because they are parts of one that several machines share.
	Shares int `json:"shares left out,omitempty"`
}

// RunOf says which run it is, and where it ran.
type RunOf struct {
	Number  int       `json:"number"`
	ID      string    `json:"run"`
	Started time.Time `json:"started"`
	Sites   []string  `json:"sites"`
	Outcome string    `json:"outcome"`
}

// Down is a service that could not be reached in a run, or gave no login.
type Down struct {
	Run     int    `json:"run"`
	Site    string `json:"site"`
	Service string `json:"service,omitempty"` // empty where no service of the bench was called
	Outcome string `json:"outcome"`           // unreachable or login failed
	Why     string `json:"why"`               // of the first step
	Steps   int    `json:"steps"`             // over all rows
}

// Trend is how one step fared, at one site.
type Trend struct {
	Site     string    `json:"site"`
	File     string    `json:"file"`
	Step     string    `json:"step"`
	Nights   []Night   `json:"runs"` // those that had the step, the oldest first
	Findings []Finding `json:"findings,omitempty"`
}

// Night is how a step fared in one run, over all its rows.
type Night struct {
	Run     int    `json:"run"`
	Outcome string `json:"outcome"`
	Rows    int    `json:"rows"`             // that carried it out
	Failed  int    `json:"failed,omitempty"` // of these
	// Retried are the rows in which it passed, but not at the first try.
	Retried int     `json:"retried,omitempty"`
	Median  float64 `json:"median,omitempty"` // milliseconds; 0 where nothing was sent
	P95     float64 `json:"p95,omitempty"`    // milliseconds
}

// Trends follows each step over the newest runs that had sheets. A sheet or a site that no run has is an
// UnknownError.
func (s *Store) Trends(q RunQuery) (*Trends, error) {
	runs, shares, err := s.runsOf(q)
	if err != nil {
		return nil, err
	}
	t := &Trends{Runs: []RunOf{}, Steps: []*Trend{}, Down: []Down{}, Shares: shares}
	byName := map[[3]string]*Trend{}
	for _, run := range runs {
		if err := t.add(run, q, byName); err != nil {
			return nil, err
		}
	}
	t.order()
	for _, one := range t.Steps {
		one.Findings = one.find()
	}
	return t, nil
}

// order puts the steps of a sheet together, as the newest run has them.
func (t *Trends) order() {
	first := map[[2]string]int{}
	for i, one := range t.Steps {
		if key := [2]string{one.Site, one.File}; first[key] == 0 {
			first[key] = i + 1
		}
	}
	slices.SortStableFunc(t.Steps, func(a, b *Trend) int {
		return first[[2]string{a.Site, a.File}] - first[[2]string{b.Site, b.File}]
	})
}

// add takes the steps of a run in.
func (t *Trends) add(run *Stored, q RunQuery, byName map[[3]string]*Trend) error {
	head := run.head
	of := RunOf{Number: head.Number, ID: head.ID, Started: head.Started, Sites: []string{}, Outcome: head.Outcome}
	for i, sheet := range head.Sheets {
		if !q.wants(sheet) {
			continue
		}
		if !slices.Contains(of.Sites, sheet.Site) {
			of.Sites = append(of.Sites, sheet.Site)
		}
		sum, err := run.sum(i)
		if err != nil {
			return err
		}
		for _, down := range sum.Down {
			t.addDown(head.Number, sheet.Site, down)
		}
		for _, step := range sum.Steps {
			key := [3]string{sheet.Site, sheet.File, step.Step}
			one := byName[key]
			if one == nil {
				one = &Trend{Site: sheet.Site, File: sheet.File, Step: step.Step}
				byName[key] = one
				t.Steps = append(t.Steps, one)
			}
			step.Run = head.Number
			one.Nights = append(one.Nights, step.Night)
		}
	}
	t.Runs = append(t.Runs, of)
	return nil
}

// addDown counts what could not be reached, over the sheets of a run.
func (t *Trends) addDown(run int, site string, down Down) {
	at := slices.IndexFunc(t.Down, func(d Down) bool { return d.Run == run && d.Site == site && d.isLike(down) })
	if at >= 0 {
		t.Down[at].Steps += down.Steps
		return
	}
	down.Run, down.Site = run, site
	t.Down = append(t.Down, down)
}

// isLike says whether two are the same service, or the same reason where it is not known.
func (d Down) isLike(o Down) bool {
	return d.Service == o.Service && d.Outcome == o.Outcome && (d.Service != "" || d.Why == o.Why)
}

// sheetSum is what the steps of a sheet came to in a run.
type sheetSum struct {
	Steps []stepNight `json:"steps"` // in the order in which they were first run
	Down  []Down      `json:"down,omitempty"`
}

type stepNight struct {
	Step string `json:"step"`
	Night
}

// sum gives what the steps of a sheet came to; it is kept for a run that has ended.
func (s *Stored) sum(sheet int) (*sheetSum, error) {
	sum := &sheetSum{}
	var text string
	// A history that can only be read may have no table of sums.
	if s.store.db.QueryRow("select body from sum where run = ? and sheet = ?", s.head.Number, sheet).
		Scan(&text) == nil && json.Unmarshal([]byte(text), sum) == nil {
		return sum, nil
	}
	sum = &sheetSum{}
	seen := map[string]*stepInRun{}
	var names []string
	for row, err := range s.trendRows(sheet) {
		if err != nil {
			return nil, err
		}
		for _, step := range row.Steps {
			name := StepOf(step.Step)
			if seen[name] == nil {
				seen[name] = &stepInRun{}
				names = append(names, name)
			}
			seen[name].add(&step)
			sum.noteDown(&step)
		}
	}
	for _, name := range names {
		sum.Steps = append(sum.Steps, stepNight{name, seen[name].night()})
	}
	if s.head.Ended {
		if text, err := json.Marshal(sum); err == nil {
			_, _ = s.store.db.Exec("insert or replace into sum (run, sheet, body) values (?, ?, ?)", s.head.Number,
				sheet, string(text)) // without it, it is made again
		}
	}
	return sum, nil
}

// noteDown counts a step that reached nobody.
func (s *sheetSum) noteDown(step *trendStep) {
	if !isDown(step.Outcome) {
		return
	}
	down := Down{Service: step.Service, Outcome: step.Outcome, Why: step.Reason, Steps: 1}
	if at := slices.IndexFunc(s.Down, down.isLike); at >= 0 {
		s.Down[at].Steps++
		return
	}
	s.Down = append(s.Down, down)
}

// isDown says whether an outcome tells more of a service than of the step: nobody was reached.
func isDown(outcome string) bool { return outcome == "unreachable" || outcome == "login failed" }

// trendRow is what trends need of a row.
type trendRow struct {
	Steps []trendStep `json:"steps"`
}

type trendStep struct {
	Step    string  `json:"step"`
	Service string  `json:"service"`
	Outcome string  `json:"outcome"`
	Reason  string  `json:"reason"`
	Millis  float64 `json:"milliseconds"`
	Tries   int     `json:"tries"`
}

// trendRows goes through the rows of a sheet without what was sent and received.
func (s *Stored) trendRows(sheet int) func(yield func(*trendRow, error) bool) {
	return func(yield func(*trendRow, error) bool) {
		for text, err := range s.bodies(sheet) {
			row := &trendRow{}
			if err == nil {
				err = json.Unmarshal(text, row)
			}
			if !yield(row, err) || err != nil {
				return
			}
		}
	}
}

// stepInRun is what a step came to in one run.
type stepInRun struct {
	counts  map[string]int // of each outcome
	retried int
	times   []float64
}

func (s *stepInRun) add(step *trendStep) {
	if s.counts == nil {
		s.counts = map[string]int{}
	}
	s.counts[step.Outcome]++
	if step.Outcome == passed && step.Tries > 1 {
		s.retried++
	}
	if step.Millis > 0 && !isDown(step.Outcome) {
		s.times = append(s.times, step.Millis)
	}
}

// night sums a step up. What failed counts for more than what reached nobody: that tells of the
// service.
func (s *stepInRun) night() Night {
	n := Night{Outcome: notRun, Retried: s.retried}
	for outcome, count := range s.counts {
		if outcome != notRun {
			n.Rows += count
		}
	}
	n.Failed = s.counts["failed"] + s.counts["error"]
	for _, outcome := range []string{"error", "failed", "unreachable", "login failed", "interrupted", passed} {
		if s.counts[outcome] > 0 {
			n.Outcome = outcome
			break
		}
	}
	slices.Sort(s.times)
	n.Median, n.P95 = quantile(s.times, 0.5), quantile(s.times, 0.95)
	return n
}

// quantile gives the value that so much of the sorted ones does not go beyond; 0 for none.
func quantile(sorted []float64, share float64) float64 {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(int(share*float64(len(sorted))), len(sorted)-1)]
}

// FindingKind is what a finding says.
type FindingKind string

// The kinds of findings, the most important first.
const (
	NewlyFailing FindingKind = "newly failing"
	Failing      FindingKind = "failing"      // in all the runs
	Slower       FindingKind = "slower"       // by more than the noise
	Flaky        FindingKind = "flaky"        // fails and passes again
	Retried      FindingKind = "second try"   // passed, but only after another try
	PassesAgain  FindingKind = "passes again" // after some runs that failed
	FailedOnce   FindingKind = "failed once"  // and neither before nor since
)

// FindingKinds are all of them, the most important first.
var FindingKinds = []FindingKind{NewlyFailing, Failing, Slower, Flaky, Retried, PassesAgain, FailedOnce}

// IsBad says whether the finding is a worry now, and not only something that was.
func (k FindingKind) IsBad() bool {
	return k == NewlyFailing || k == Failing || k == Slower || k == Flaky
}

// Finding is something to be noticed of a step.
type Finding struct {
	Kind FindingKind `json:"kind"`
	// Since is the run with which it began; of Flaky, Retried and FailedOnce the last that showed it.
	Since int `json:"since"`
	// Count is how many runs of Of failed, or passed at a later try; of NewlyFailing and PassesAgain how
	// many failed in a row.
	Count int `json:"count,omitempty"`
	Of    int `json:"of,omitempty"`
	// Earlier is how many runs failed before those that fail now.
	Earlier int `json:"failed before,omitempty"`
	// Slower is by how much, where that is the finding.
	Slower *Slowdown `json:"slower,omitempty"`
}

// Slowdown is how much longer the exchanges of a step take, in milliseconds.
type Slowdown struct {
	Before    float64 `json:"median before"` // half of the runs before had a lower median
	Now       float64 `json:"median now"`    // likewise of the runs since
	BeforeP95 float64 `json:"p95 before"`
	NowP95    float64 `json:"p95 now"`
	Noise     float64 `json:"noise"` // by what part of it the median before went up and down
}

// judgedNights are the runs whose outcome tells something of the step: it was run, and reached somebody.
func (t *Trend) judgedNights() []Night {
	var out []Night
	for _, n := range t.Nights {
		if n.Outcome != notRun && n.Outcome != "interrupted" && !isDown(n.Outcome) {
			out = append(out, n)
		}
	}
	return out
}

// chance is below what probability something is not taken for chance.
const chance = 0.05

// find says what is to be noticed.
func (t *Trend) find() []Finding {
	nights := t.judgedNights()
	var out []Finding
	if f := outcomeFinding(nights); f.Kind != "" {
		out = append(out, f)
	}
	if f := slowdown(nights); f != nil {
		out = append(out, *f)
	}
	retried, last := 0, 0
	for _, n := range nights {
		if n.Retried > 0 {
			retried, last = retried+1, n.Run
		}
	}
	if retried > 0 {
		out = append(out, Finding{Kind: Retried, Since: last, Count: retried, Of: len(nights)})
	}
	return out
}

// outcomeFinding says what is to be noticed of the outcomes; the zero value for nothing.
func outcomeFinding(nights []Night) Finding {
	failed, streaks, longest, lastFailed := 0, 0, 0, -1
	streak := 0 // the failures in a row that the list ends with
	for i, n := range nights {
		if n.Outcome == passed {
			streak = 0
			continue
		}
		if streak++; streak == 1 {
			streaks++
		}
		failed, longest, lastFailed = failed+1, max(longest, streak), i
	}
	all := len(nights)
	flaky := func() Finding {
		return Finding{Kind: Flaky, Since: nights[lastFailed].Run, Count: failed, Of: all}
	}
	switch before := all - streak; {
	case failed == 0:
		return Finding{}
	case streak == all:
		return Finding{Kind: Failing, Since: nights[0].Run, Count: all, Of: all}
	case streak > 0:
		// One that fails now and then would not have failed so often in a row by chance.
		rate := float64(failed-streak) / float64(before)
		if math.Pow(rate, float64(streak)) < chance {
			return Finding{
				Kind: NewlyFailing, Since: nights[before].Run, Count: streak, Of: all,
				Earlier: failed - streak,
			}
		}
		return flaky()
	case streaks > 1:
		return flaky()
	case longest > 1:
		return Finding{Kind: PassesAgain, Since: nights[lastFailed+1].Run, Count: longest, Of: all}
	}
	return Finding{Kind: FailedOnce, Since: nights[lastFailed].Run, Count: 1, Of: all}
}

// What a step must be slower by, and how many runs there must be before to know its noise.
const (
	leastRuns    = 5
	leastSlower  = 1.1    // times what it took before
	leastMillis  = 1.0    // more
	surely       = 4.5    // how many times their own error the two middles lie apart
	errorOfMid   = 1.2533 // the error of a median, as a part of that of a mean
	smallSamples = 4.0    // the noise of few runs is taken for larger than it looks
)

// slowdown finds since when a step has taken longer than before by more than its noise; nil for not. It looks
// at the logarithms of the medians, for times go up by a part of themselves, and takes the run from which on
// before and after are each most alike. A few bad nights change neither the medians nor their deviation.
func slowdown(nights []Night) *Finding {
	nights = slices.DeleteFunc(slices.Clone(nights), func(n Night) bool { return n.Median <= 0 })
	begin, least := -1, math.Inf(1)
	for start := leastRuns; start < len(nights); start++ {
		before, after := nights[:start], nights[start:]
		if left := deviation(before) + deviation(after); left < least {
			begin, least = start, left
		}
	}
	if begin < 0 {
		return nil
	}
	before, after := nights[:begin], nights[begin:]
	base := middleOf(before, logMedian)
	noise := noiseOf(before, base)
	middleError := errorOfMid * max(noise, leastNoise) * (1 + smallSamples/float64(len(before))) *
		math.Sqrt(1/float64(len(before))+1/float64(len(after)))
	if middleOf(after, logMedian)-base < surely*middleError {
		return nil
	}
	median := func(n Night) float64 { return n.Median }
	p95 := func(n Night) float64 { return n.P95 }
	s := &Slowdown{
		Before: middleOf(before, median), Now: middleOf(after, median), BeforeP95: middleOf(before, p95),
		NowP95: middleOf(after, p95), Noise: math.Exp(noise) - 1,
	}
	if s.Now < s.Before*leastSlower || s.Now < s.Before+leastMillis {
		return nil
	}
	return &Finding{Kind: Slower, Since: after[0].Run, Of: len(nights), Count: len(after), Slower: s}
}

// leastNoise is the noise of times that are all the same, as they can only be where they are made up.
const leastNoise = 0.001

// usualNights are the part of the runs whose deviations make the noise: a few bad nights are none of it. The mean
// deviation of these is meanOfUsual of the standard deviation, where the noise is normal.
const (
	usualNights = 0.9
	meanOfUsual = 0.6573
)

// noiseOf is the standard deviation of the logarithms of medians.
func noiseOf(nights []Night, middle float64) float64 {
	deviations := make([]float64, len(nights))
	for i, n := range nights {
		deviations[i] = math.Abs(logMedian(n) - middle)
	}
	slices.Sort(deviations)
	usual, sum := deviations[:int(math.Ceil(usualNights*float64(len(deviations))))], 0.0
	for _, d := range usual {
		sum += d
	}
	return sum / float64(len(usual)) / meanOfUsual
}

// deviation is by how much the medians of some runs differ from their middle, all together.
func deviation(nights []Night) (sum float64) {
	middle := middleOf(nights, logMedian)
	for _, n := range nights {
		sum += math.Abs(logMedian(n) - middle)
	}
	return sum
}

func logMedian(n Night) float64 { return math.Log(n.Median) }

// middleOf is the median of something of some runs.
func middleOf(nights []Night, of func(Night) float64) float64 {
	values := make([]float64, len(nights))
	for i, n := range nights {
		values[i] = of(n)
	}
	slices.Sort(values)
	return quantile(values, 0.5)
}
