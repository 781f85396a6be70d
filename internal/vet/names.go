package vet

import (
	"slices"

	"testbench/internal/bench"
	"testbench/internal/history"
	"testbench/internal/mapping"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/suggest"
)

// vetLimits checks that the steps are there whose times are limited, and that they have
// times.
func vetLimits(s *sheet.Sheet) {
	if s.Limits == nil {
		return
	}
	var known []string
	plan := step.List("", s.AllSteps())
	for _, p := range plan {
		known = append(known, history.StepOf(p.Name))
	}
	for name, at := range s.Limits.At {
		found := ""
		for i, k := range known {
			if k == name {
				found = plan[i].Target
			}
		}
		switch found {
		case "":
			bench.NotThere(readerOf(s), at, "step", name, known)
		case "set", "calculate", "listen":
			s.Source.Report(at, "take it out", "the step %q sends nothing whose time could be limited", name)
		}
	}
}

// callback checks that a step waits for the calls to an address.
func (v *Vetter) callback(u mapping.Use) {
	h := u.Placeholder
	switch {
	case len(v.listens) == 0:
		u.File.ReportInside(u.Node, h.Offset, "add a step with listen:", "%s: no step waits for a callback",
			h.Source)
	case h.Name == "" && len(v.listens) > 1:
		u.File.ReportInside(u.Node, h.Offset, "write ${callback."+v.listens[0]+"}",
			"%s: several steps wait for a callback: %s", h.Source, suggest.FewNames(v.listens))
	case h.Name != "" && !slices.Contains(v.listens, h.Name):
		u.File.ReportInside(u.Node, h.Offset, suggest.DidYouMean(h.Name, v.listens),
			"%s: no step with listen: has that name", h.Source)
	}
}

// StepNames lists the steps of a sheet.
func StepNames(s *sheet.Sheet) []string {
	return bench.Names(slices.Concat(s.First, s.Steps, s.Finally, s.Last), func(s *sheet.Step) string { return s.Name })
}

// UpTo lists the steps that are run for one of them: those before it, and those that a
// row begins and ends with.
func UpTo(s *sheet.Sheet, name string) []string {
	out := bench.Names(slices.Concat(s.First, s.Finally, s.Last), func(s *sheet.Step) string { return s.Name })
	for _, step := range s.Steps {
		out = append(out, step.Name)
		if holds(step, name) {
			break
		}
	}
	return out
}

// holds says whether a step is the one of a name, or has it in its group.
func holds(s *sheet.Step, name string) bool {
	group, isGroup := s.Action.(*step.Group)
	return s.Name == name || isGroup && slices.ContainsFunc(group.Steps, func(inner *sheet.Step) bool {
		return holds(inner, name)
	})
}
