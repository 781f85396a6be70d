package compare

import (
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/history"
)

// StepChange is what became of a step from one run to another.
type StepChange struct {
	Sheet  string `json:"sheet"`
	Row    string `json:"row,omitempty"`
	Step   string `json:"step,omitempty"` // empty for a whole sheet or row
	What   string `json:"what"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	Why    string `json:"why,omitempty"` // the first thing that failed
	// Newly says that it passed before and does not now.
	Newly bool `json:"newly failing,omitempty"`
}

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
	status                        int
	seen                          bool
	unrecorded                    bool // an answer came, and what was in it was not recorded
}

// Changes are what became of the steps from one run to another.
type Changes struct {
	Steps []StepChange
	// Unseen is how many answers that came in both could not be compared, for at least one
	// of the runs did not record what was in it.
	Unseen int
	Seen   Seen
}

// mostBodies bounds what is kept of the bodies of the earlier run, in bytes.
const mostBodies = 256 << 20

// Runs lists what became of the steps from one run to another, in the order of the
// second. What both did not record of an answer is counted, and not compared. A sheet or a
// row that only one of them had is one change.
func Runs(before, after history.Finished, o RunOptions) (*Changes, error) {
	out := &Changes{}
	old := map[stepKey]*stepSeen{}
	var order []stepKey
	earlier, later := whole{}, whole{}
	room := mostBodies
	err := eachStep(before, func(key stepKey, step *history.Step) {
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
	var changes []StepChange
	err = eachStep(after, func(key stepKey, step *history.Step) {
		first := later.add(key)
		a := old[key]
		if a != nil {
			a.seen = true
			changes = append(changes, key.compare(a, seenOf(step), o, out)...)
		} else if alone := earlier.without(key); alone == nil {
			changes = append(changes, key.change("is new", "", step.Outcome))
		} else if first[*alone] {
			changes = append(changes, alone.change("is new", "", ""))
		}
	})
	told := whole{}
	for _, key := range order {
		if a := old[key]; a.seen {
			continue
		} else if alone := later.without(key); alone == nil {
			changes = append(changes, key.change("was not run", a.outcome, ""))
		} else if !told[*alone] {
			told[*alone] = true
			changes = append(changes, alone.change("was not run", "", ""))
		}
	}
	out.Steps = changes
	return out, err
}

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
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			times := map[string]int{}
			for _, step := range row.Steps {
				times[step.Step]++
				visit(stepKey{name, row.Name(), step.Step, times[step.Step]}, step)
			}
		}
	}
	return nil
}

func seenOf(step *history.Step) *stepSeen {
	s := &stepSeen{outcome: step.Outcome, why: string(step.Reason), status: step.Status}
	for _, c := range step.Checks {
		if s.why == "" && c.Judged && !c.Passed {
			s.why = fmt.Sprintf("%s %s: %s", c.Kind, c.Subject, history.Compared(c.Expected, c.Got))
		}
	}
	s.unrecorded = len(step.Exchanges) == 0 && step.Status != 0
	if n := len(step.Exchanges); n > 0 {
		last := step.Exchanges[n-1]
		s.body = string(last.Body)
		s.mediaType = string(history.Field(last.Headers, "Content-Type"))
	}
	return s
}

func (k stepKey) change(what, before, after string) StepChange {
	step := k.step
	if k.time > 1 {
		step += fmt.Sprintf(" (%d)", k.time)
	}
	return StepChange{Sheet: k.sheet, Row: k.row, Step: step, What: what, Before: before, After: after}
}

const passed = "passed"

func (k stepKey) compare(a, b *stepSeen, o RunOptions, all *Changes) []StepChange {
	var out []StepChange
	if a.outcome != b.outcome {
		what := "came out in another way"
		switch {
		case a.outcome == passed:
			what = "fails now"
		case b.outcome == passed:
			what = "passes now"
		}
		change := k.change(what, a.outcome, b.outcome)
		if b.outcome != passed {
			change.Why = b.why
		}
		change.Newly = a.outcome == passed && b.outcome != "not run"
		out = append(out, change)
	}
	if a.status != b.status {
		out = append(out, k.change("status", strconv.Itoa(a.status), strconv.Itoa(b.status)))
	}
	if a.unrecorded || b.unrecorded {
		all.Unseen++
		return out
	}
	if a.body == "" || b.body == "" || a.body == b.body && all.Seen.isAll(o.Options) {
		return out
	}
	old, now := readPlain(a), readPlain(b)
	all.Seen.Add(old, o.Options)
	all.Seen.Add(now, o.Options)
	if old == nil || now == nil {
		return out
	}
	for _, d := range Trees(old, now, o.Options) {
		// Elements of lists come and go with what is there; of what kind they are stays.
		if !o.Values && (d.Kind == Changed && (d.A.IsScalar() == d.B.IsScalar()) && !isOtherKind(d) ||
			d.Kind == Moved || strings.HasSuffix(d.Path, "]")) {
			continue
		}
		out = append(out, k.change(string(d.Kind)+" "+d.Path, inShort(d.A), inShort(d.B)))
	}
	return out
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
