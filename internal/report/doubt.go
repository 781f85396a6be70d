package report

import (
	"fmt"
	"strings"

	"testbench/internal/cover"
	"testbench/internal/doubt"
)

// doubtedSheet is what the checks of a sheet notice, as the page shows it.
type doubtedSheet struct {
	*doubt.Result
	Steps []*doubtedStep
}

// Counted is how many changes count.
func (d doubtedSheet) Counted() int { return d.Noticed + d.Missed }

// doubtedStep is the answer of a step as a tree.
type doubtedStep struct {
	Step                     string
	Noticed, Missed, Counted int
	Fields                   []guardedField
}

// guardedField is a field of a tree with how well it is guarded.
type guardedField struct {
	*doubt.Field
	Label  string
	Indent float64 // rem
}

// Counted is how many of its changes count.
func (f guardedField) Counted() int { return f.Noticed + f.Missed }

// MayPass is how many of its changes are not held against anybody.
func (f guardedField) MayPass() int { return f.Allowed + f.Unknown }

// Said says what nobody notices.
func (f guardedField) Said() string { return strings.Join(f.Words, "; ") }

// WouldNotice are the rules that would.
func (f guardedField) WouldNotice() string { return strings.Join(f.Rules, "; ") }

// touched says how much of some kind of an operation was touched; empty where it has none.
func touched(o *cover.Operation, kind string) string {
	touched, of := o.Touched(cover.Kind(kind))
	if of == 0 {
		return ""
	}
	return fmt.Sprintf("%d of %d", touched, of)
}

// doubtedSheets lays results out as trees.
func doubtedSheets(all []*doubt.Result) []doubtedSheet {
	var out []doubtedSheet
	for _, one := range all {
		sheet := doubtedSheet{Result: one}
		steps := map[string]*doubtedStep{}
		for _, f := range one.Fields {
			step := steps[f.Step]
			if step == nil {
				step = &doubtedStep{Step: f.Step}
				steps[f.Step] = step
				sheet.Steps = append(sheet.Steps, step)
			}
			step.Noticed += f.Noticed
			step.Missed += f.Missed
			step.Counted += f.Noticed + f.Missed
			step.Fields = append(step.Fields, guardedField{Field: f})
		}
		for _, step := range sheet.Steps {
			layOutTree(step.Fields)
		}
		out = append(out, sheet)
	}
	return out
}

// layOutTree names each field below the one that it belongs to.
func layOutTree(fields []guardedField) {
	var above []string // the paths on the way to the field at hand
	for i := range fields {
		f := &fields[i]
		if f.Path == "" {
			f.Label = "the answer as a whole"
			continue
		}
		for len(above) > 0 && !isInside(f.Path, above[len(above)-1]) {
			above = above[:len(above)-1]
		}
		f.Label = f.Path
		if len(above) > 0 {
			f.Label = strings.TrimPrefix(f.Path[len(above[len(above)-1]):], ".")
		}
		f.Indent = 1.2 * float64(len(above))
		above = append(above, f.Path)
	}
}

// isInside says whether a path leads on from another.
func isInside(path, above string) bool {
	rest, ok := strings.CutPrefix(path, above)
	return ok && rest != "" && strings.ContainsAny(rest[:1], ".[")
}

// Percent writes which part of a sheet's changes was noticed.
func Percent(share float64) string {
	if share < 1 && share >= 0.995 {
		return "99 %" // not all of it
	}
	return fmt.Sprintf("%.0f %%", 100*share)
}

// Percent is which part of the changes was noticed.
func (d doubtedSheet) Percent() string { return Percent(d.Share()) }
