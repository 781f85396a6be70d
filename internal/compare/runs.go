package compare

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/lazy"
)

// StepChange is what became of a step from one run to another.
type StepChange struct {
	Sheet  string `json:"sheet"`
	Row    string `json:"row,omitempty"`
	Step   string `json:"step,omitempty"` // empty for a whole sheet or row
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// ChangeKind is in what way something changed from one run to another.
type ChangeKind string

// The kinds of changes, the most important first.
const (
	FailsNow     ChangeKind = "newly failing"
	OtherOutcome ChangeKind = "outcome" // neither passed before nor now, or was not run
	NotRunNow    ChangeKind = "was not run"
	SlowerNow    ChangeKind = "slower"
	OtherStatus  ChangeKind = "status"
	OtherField   ChangeKind = "field" // which fields an answer has, and of what kind
	OtherValue   ChangeKind = "value"
	OtherChecks  ChangeKind = "checks" // how many were judged
	IsNew        ChangeKind = "new"
	PassesNow    ChangeKind = "passes now"
	FasterNow    ChangeKind = "faster"
)

var changeKinds = []ChangeKind{
	FailsNow, OtherOutcome, NotRunNow, SlowerNow, OtherStatus, OtherField, OtherValue, OtherChecks, IsNew, PassesNow,
	FasterNow,
}

// Change is one thing that changed, in one step or in many.
type Change struct {
	Kind ChangeKind `json:"kind"`
	What string     `json:"what"`           // in words
	Path string     `json:"path,omitempty"` // of a field or value, with [*] for every element
	// Before and After are what the first step had; of a field that is new there is nothing before.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	Why    string `json:"why,omitempty"` // the first thing that failed, of the first step
	Better bool   `json:"better,omitempty"`
	// Count is how many times it was seen, Steps and Sheets of how many steps of how many sheets.
	Count  int `json:"count"`
	Steps  int `json:"steps"`
	Sheets int `json:"sheets"`
	// Places are where, the first mostPlaces of them.
	Places []StepChange `json:"places"`

	steps, sheets map[string]bool
}

// mostPlaces is how many places of a change are listed.
const mostPlaces = 1_000

// RunOptions say how closely the answers of two runs are looked at.
type RunOptions struct {
	// Values says that values are compared too; else only which fields there are, and of
	// what kind.
	Values bool
	Options
}

// stepKey finds a step of one run in another.
type stepKey struct {
	sheet, row, step string
	time             int // of those of the same name in a row
}

type stepSeen struct {
	outcome, why, mediaType, body string
	status, checks                int
	seen                          bool
	unrecorded                    bool // an answer came, and what was in it was not recorded
}

// Changes are what became of one run in another.
type Changes struct {
	List []*Change `json:"changes"` // by kind, the most important first
	// Unseen is how many answers that came in both could not be compared, for at least one
	// of the runs did not record what was in it.
	Unseen int `json:"answers not compared,omitempty"`
	// Untimed is how many steps had too few exchanges for their times to be compared.
	Untimed int            `json:"times not compared,omitempty"`
	Before  history.Counts `json:"counts before"`
	After   history.Counts `json:"counts after"`
	Seen    Seen           `json:"-"`

	groups map[changeKey]*Change
}

// changeKey says which changes are the same.
type changeKey struct {
	kind                      ChangeKind
	what, path, outcomes, why string
}

// Better says whether there is no change but for the better.
func (c *Changes) Better() bool {
	return !slices.ContainsFunc(c.List, func(one *Change) bool { return !one.Better })
}

// digits differ between reasons that are the same but for the row.
var digits = lazy.Regexp(`\d+`)

// places are those of elements in a path, by their number or a key; names in quotes are none.
var places = lazy.Regexp(`\[[^\]"]*\]`)

// add takes a change of a step in.
func (c *Changes) add(key stepKey, one Change) {
	group := changeKey{kind: one.Kind, what: one.What, path: one.Path, why: digits().ReplaceAllString(one.Why, "0")}
	switch one.Kind {
	case OtherOutcome, OtherStatus, OtherChecks:
		group.outcomes = one.Before + " " + one.After
	case SlowerNow, FasterNow:
		group.path = key.sheet
	case NotRunNow, IsNew:
		if key.step+key.row != "" { // whole sheets are one change
			group.path = key.sheet
		}
	}
	if one.Kind == SlowerNow || one.Kind == FasterNow {
		group.what = key.step
	}
	all := c.groups[group]
	if all == nil {
		all = &one
		all.Better = one.Kind == PassesNow || one.Kind == FasterNow
		all.steps, all.sheets = map[string]bool{}, map[string]bool{}
		if c.groups == nil {
			c.groups = map[changeKey]*Change{}
		}
		c.groups[group] = all
		c.List = append(c.List, all)
	}
	all.Count++
	all.sheets[key.sheet] = true
	if key.step != "" {
		all.steps[key.sheet+"\x00"+history.StepOf(key.step)] = true
	}
	all.Sheets, all.Steps = len(all.sheets), len(all.steps)
	if len(all.Places) < mostPlaces {
		all.Places = append(all.Places, StepChange{key.sheet, key.row, key.name(), one.Before, one.After})
	}
}

// mostBodies bounds what is kept of the bodies of the earlier run, in bytes.
const mostBodies = 256 << 20

// Runs lists what became of the steps from one run to another: what is the same in many steps is one change.
// What both did not record of an answer is counted, and not compared. A sheet or a row that only one of them
// had is one change.
func Runs(before, after history.Finished, o RunOptions) (*Changes, error) {
	out := &Changes{List: []*Change{}, Before: before.Run().Counts, After: after.Run().Counts}
	old := map[stepKey]*stepSeen{}
	var order []stepKey
	earlier, later := whole{}, whole{}
	var times, timesNow stepTimes
	room := mostBodies
	err := eachStep(before, func(key stepKey, step *history.Step) {
		times.add(key, step)
		seen := seenOf(step)
		if room -= len(seen.body); room < 0 {
			seen.body, seen.unrecorded = "", true
		}
		old[key] = seen
		order = append(order, key)
		earlier.add(key)
	})
	if err != nil {
		return nil, err
	}
	err = eachStep(after, func(key stepKey, step *history.Step) {
		timesNow.add(key, step)
		first := later.add(key)
		a := old[key]
		if a != nil {
			a.seen = true
			out.compare(key, a, seenOf(step), o)
			return
		}
		if step.Failures() {
			out.add(key, Change{Kind: FailsNow, What: "is new, and fails", After: step.Outcome, Why: seenOf(step).why})
		}
		if alone := earlier.without(key); alone == nil {
			out.add(key, Change{Kind: IsNew, What: "is new", After: step.Outcome})
		} else if first[*alone] {
			out.add(*alone, Change{Kind: IsNew, What: alone.part() + " is new"})
		}
	})
	told := whole{}
	for _, key := range order {
		if a := old[key]; a.seen {
			continue
		} else if alone := later.without(key); alone == nil {
			out.add(key, Change{Kind: NotRunNow, What: "was not run", Before: a.outcome})
		} else if !told[*alone] {
			told[*alone] = true
			out.add(*alone, Change{Kind: NotRunNow, What: alone.part() + " was not run"})
		}
	}
	out.compareTimes(&times, &timesNow)
	slices.SortStableFunc(out.List, func(a, b *Change) int {
		return slices.Index(changeKinds, a.Kind) - slices.Index(changeKinds, b.Kind)
	})
	return out, err
}

// part names what a key without a step is of.
func (k stepKey) part() string {
	if k.row == "" {
		return "the whole sheet"
	}
	return "the whole row"
}

// stepTimes are how long the exchanges of each step took, in milliseconds.
type stepTimes struct {
	order []stepKey
	of    map[stepKey][]float64
}

func (t *stepTimes) add(key stepKey, step *history.Step) {
	if !step.IsMeasured() || step.Millis <= 0 {
		return
	}
	if t.of == nil {
		t.of = map[stepKey][]float64{}
	}
	key = stepKey{sheet: key.sheet, step: history.StepOf(key.step)}
	if t.of[key] == nil {
		t.order = append(t.order, key)
	}
	t.of[key] = append(t.of[key], step.Millis)
}

// What times must be compared by: with fewer exchanges nothing can be told of a median, and less than a tenth
// or a millisecond is of no interest.
const (
	leastTimes  = 7
	leastChange = 1.1
	leastMillis = 1.0
	surely      = 2.58 // standard deviations: 99 of 100 medians lie within
)

// compareTimes tells which steps take longer or less long than before, by more than chance.
func (c *Changes) compareTimes(before, after *stepTimes) {
	for _, key := range before.order {
		a, b := before.of[key], after.of[key]
		if len(b) == 0 {
			continue
		}
		if len(a) < leastTimes || len(b) < leastTimes {
			c.Untimed++
			continue
		}
		was, is := middleOf(a), middleOf(b)
		kind, what := SlowerNow, "slower"
		fast, slow := was, is
		if is.median < was.median {
			kind, what, fast, slow = FasterNow, "faster", is, was
		}
		if slow.from <= fast.to || slow.median < fast.median*leastChange || slow.median < fast.median+leastMillis {
			continue
		}
		c.add(key, Change{
			Kind: kind, What: fmt.Sprintf("%s: median %+.0f %%", what, (is.median/was.median-1)*100),
			Before: was.words(), After: is.words(),
		})
	}
}

// middle is the median of some times, where it may lie, and their 95th percentile.
type middle struct{ median, from, to, p95 float64 }

// middleOf sums times up. The median lies between two of the sorted times, by how many are expected to be
// below it.
func middleOf(times []float64) middle {
	slices.Sort(times)
	n := float64(len(times))
	reach := surely * math.Sqrt(n) / 2
	at := func(place float64) float64 { return times[min(max(int(place), 0), len(times)-1)] }
	return middle{at(n / 2), at(n/2 - reach), at(n/2 + reach), at(n * 0.95)}
}

func (m middle) words() string { return fmt.Sprintf("%.1f ms (p95 %.1f ms)", m.median, m.p95) }

// whole is which sheets and rows a run had, as keys without a step.
type whole map[stepKey]bool

// parts are the sheet of a step, and its row.
func (k stepKey) parts() [2]stepKey {
	return [2]stepKey{{sheet: k.sheet}, {sheet: k.sheet, row: k.row, time: -1}}
}

// add notes a step, and says which of its sheet and its row it is the first of.
func (w whole) add(key stepKey) map[stepKey]bool {
	first := map[stepKey]bool{}
	for _, part := range key.parts() {
		if !w[part] {
			w[part], first[part] = true, true
		}
	}
	return first
}

// without is the sheet or the row of a step, the larger of them, if the run had none of
// it; nil if it had.
func (w whole) without(key stepKey) *stepKey {
	for _, part := range key.parts() {
		if !w[part] {
			return &part
		}
	}
	return nil
}

func eachStep(run history.Finished, visit func(stepKey, *history.Step)) error {
	for i, sheet := range run.Run().Sheets {
		name := sheet.File
		if name == "" {
			name = sheet.Sheet
		}
		seen := map[string]int{}
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			is := nameOf(row)
			if seen[is]++; seen[is] > 1 {
				is += fmt.Sprintf(" (%d)", seen[is])
			}
			times := map[string]int{}
			for _, step := range row.Steps {
				times[step.Step]++
				visit(stepKey{name, is, step.Step, times[step.Step]}, step)
			}
		}
	}
	return nil
}

// nameOf is by what a row is found in another run: its label where it has one, for rows come and go, and those
// after them have other numbers then.
func nameOf(row *history.Row) string {
	if row.Label == "" {
		return row.Name()
	}
	unnumbered := *row
	unnumbered.Number = 0
	return strings.Trim(row.Label+" · "+unnumbered.Name(), " ·")
}

func seenOf(step *history.Step) *stepSeen {
	s := &stepSeen{outcome: step.Outcome, why: string(step.Reason), status: step.Status, checks: step.Judged}
	for _, c := range step.Checks {
		if c.Judged {
			s.checks++
		}
		if s.why == "" && c.Judged && !c.Passed {
			s.why = fmt.Sprintf("%s %s: %s", c.Kind, c.Subject, history.Compared(c.Expected, c.Got))
		}
	}
	s.unrecorded = len(step.Exchanges) == 0 && step.Status != 0
	if n := len(step.Exchanges); n > 0 {
		last := step.Exchanges[n-1]
		s.body = string(last.Body)
		s.mediaType = last.MediaType()
	}
	return s
}

// name is the step, with which one it is where a row has several of that name.
func (k stepKey) name() string {
	if k.time > 1 {
		return k.step + fmt.Sprintf(" (%d)", k.time)
	}
	return k.step
}

const passed = "passed"

// compare tells what became of a step.
func (c *Changes) compare(key stepKey, a, b *stepSeen, o RunOptions) {
	if a.outcome != b.outcome {
		c.add(key, outcomeChange(a, b))
	}
	isBetter := a.outcome != passed && b.outcome == passed
	if a.status != b.status && !isBetter {
		c.add(key, Change{
			Kind: OtherStatus, What: fmt.Sprintf("status %d before, %d now", a.status, b.status),
			Before: strconv.Itoa(a.status), After: strconv.Itoa(b.status),
		})
	}
	if a.checks != b.checks && a.outcome == b.outcome {
		c.add(key, Change{
			Kind: OtherChecks, What: fmt.Sprintf("%d checks judged before, %d now", a.checks, b.checks),
			Before: strconv.Itoa(a.checks), After: strconv.Itoa(b.checks),
		})
	}
	// An answer of another class, an error for one, has other fields in any case.
	switch {
	case a.unrecorded || b.unrecorded:
		c.Unseen++
	case a.status/100 == b.status/100 && a.body != "" && b.body != "" &&
		(a.body != b.body || !c.Seen.isAll(o.Options)):
		c.compareFields(key, readPlain(a), readPlain(b), o)
	}
}

// outcomeChange says how another outcome is to be taken.
func outcomeChange(a, b *stepSeen) Change {
	change := Change{
		Kind: OtherOutcome, What: a.outcome + " before, " + b.outcome + " now", Before: a.outcome, After: b.outcome,
	}
	switch {
	case b.outcome == passed && a.outcome == "not run":
		change.Kind, change.What = PassesNow, "was not run before, and passes now"
	case b.outcome == passed:
		change.Kind, change.What = PassesNow, "passes now"
	case a.outcome == passed && b.outcome != "not run":
		change.Kind, change.What = FailsNow, "fails now"
	case b.outcome == "not run":
		change.Kind, change.What = NotRunNow, a.outcome+" before, not run now"
	}
	if b.outcome != passed {
		change.Why = b.why
	}
	return change
}

// compareFields tells what is other in an answer; nil is one that cannot be read.
func (c *Changes) compareFields(key stepKey, old, now *document.Node, o RunOptions) {
	c.Seen.Add(old, o.Options)
	c.Seen.Add(now, o.Options)
	if old == nil || now == nil {
		return
	}
	for _, d := range Trees(old, now, o.Options) {
		isValue := d.Kind == Changed && d.A.IsScalar() == d.B.IsScalar() && !isOtherKind(d) || d.Kind == Moved
		// Elements of lists come and go with what is there; of what kind they are stays.
		if !o.Values && (isValue || strings.HasSuffix(d.Path, "]")) {
			continue
		}
		change := Change{
			Kind: OtherField, What: string(d.Kind), Path: places().ReplaceAllString(d.Path, "[*]"),
			Before: inShort(d.A), After: inShort(d.B),
		}
		if isValue {
			change.Kind = OtherValue
		}
		c.add(key, change)
	}
}

// isOtherKind says whether a value that changed is of another kind, not counting null.
func isOtherKind(d Difference) bool {
	return d.A.Kind != d.B.Kind && d.A.Kind != document.Untyped && d.B.Kind != document.Untyped
}

func readPlain(s *stepSeen) *document.Node {
	node, format, err := document.Read(s.mediaType, []byte(s.body))
	if err != nil || format != document.JSON && format != document.XML {
		return nil
	}
	return Plain(node)
}

func inShort(n *document.Node) string {
	if n == nil {
		return ""
	}
	return document.WriteJSON(n, document.Style{})
}
