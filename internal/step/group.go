package step

import (
	"cmp"
	"context"

	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Group carries out steps one after the other.
type Group struct {
	single
	Steps []*sheet.Step
}

var groupKind = sheet.Kind{
	Word: "steps", What: "a group", Common: anyStep,
	Own: []mapping.Key[sheet.Step]{
		own("steps", "a group: steps one after the other",
			func(r *mapping.Reader, s *sheet.Step, g *Group, n *yamlfile.Node) {
				g.Steps = s.ReadSteps(r, n)
			}),
	},
	Instead: map[string]string{"": "put it into the steps of the group"},
	New:     func() sheet.Action { return &Group{} },
}

// Check wants steps. A group is known by them: what it shows is said of them.
func (g *Group) Check(r *mapping.Reader, s *sheet.Step) bool {
	if n := s.At.Get("steps"); n.Kind == yamlfile.Sequence && len(n.Items) == 0 {
		r.File.Report(n, "write a step with - step: NAME", "the group %q has no steps", s.Name)
	}
	for _, inner := range g.Steps {
		inner.About = cmp.Or(inner.About, s.About)
	}
	return len(g.Steps) > 0
}

// Target says that it is a group.
func (g *Group) Target() string { return "group" }

// Inner are its steps.
func (g *Group) Inner() ([]*sheet.Step, *sheet.Sheet) { return g.Steps, nil }

// Results are those of its steps.
func (g *Group) Results(_ *sheet.Step, name string) []result.Planned { return List(name+": ", g.Steps) }

// Run carries the steps out.
func (g *Group) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	if outcome, isOut := leftOut(row, s, name); isOut {
		return outcome
	}
	outcome := result.NotRun
	for _, inner := range g.Steps {
		if row.IsOver(ctx) {
			break
		}
		outcome = result.Worst(outcome, row.Carry(ctx, inner, name+": "+inner.Name))
	}
	return outcome
}

// leftOut skips a step that holds others where it is left out.
func leftOut(row Row, s *sheet.Step, name string) (result.Outcome, bool) {
	of, err := row.At(s.Site)
	if err != nil {
		return row.Skip(s, name, result.Errored, err.Error()), true
	}
	if _, reason := row.Begin(s, of); reason != "" {
		return row.Skip(s, name, result.NotRun, reason), true
	}
	return "", false
}
