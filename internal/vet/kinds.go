package vet

import (
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract/odata"
	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/lookup"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
)

// vetBatch checks the service of a batch.
func vetBatch(s *sheet.Sheet, b *bench.Bench, batch *sheet.Batch) {
	service := b.Service(batch.Service)
	if service == nil {
		readerOf(s).NotThere(batch.At, "service", batch.Service, b.ServiceNames())
		return
	}
	if service.Contract == nil {
		s.Source.Report(batch.At, "give the service its metadata by contract:", "a batch is a thing of OData, and %s has no contract", service.Name)
	} else if c, err := b.Offline(service); err == nil && c != nil {
		if _, ok := c.Description.(*odata.Contract); !ok {
			s.Source.Report(batch.At, "", "a batch is a thing of OData, and %s is described otherwise", service.Name)
		}
	}
	for _, part := range batch.Parts {
		name, _, _ := strings.Cut(part.Call, "/")
		if part.Request != nil {
			name = part.Request.Service
		} else if part.Follow != nil {
			name = part.Service
		}
		if name != batch.Service {
			s.Source.Report(part.At, "", "the batch is sent to %s, and its part %s is for %q", batch.Service, part.Name, name)
		}
	}
}

// vetSub checks what the sheet is filled with, and the sheet itself.
func vetSub(s *sheet.Sheet, v *Vetter, step *sheet.Step) {
	inner := step.Sub.Sheet
	options := v.Options
	options.given = inner.TakeNames()
	options.Site = v.Site.Name
	if problems := Sheet(inner, options); len(problems.Serious()) > 0 {
		first := problems.Serious()[0]
		s.Source.Report(step.Sub.At, "", "%s is not right: %s", step.Sub.File, first.String())
	}
	var filled []string
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			filled = append(filled, f.Name)
		}
	}
	for _, name := range filled {
		if !slices.Contains(inner.TakeNames(), name) {
			readerOf(s).NotThere(step.FillAt, "value that "+step.Sub.File+" takes", name, inner.TakeNames())
		}
	}
	for _, t := range inner.Takes {
		if t.Required && !slices.Contains(filled, t.Name) {
			s.Source.Report(step.Sub.At, "write fill: and below it "+t.Name+": VALUE", "%s must be given %s", step.Sub.File, t.Name)
		}
	}
}

// vetLimits checks that the steps are there whose times are limited, and that they have
// times.
func vetLimits(s *sheet.Sheet) {
	if s.Limits == nil {
		return
	}
	var known []string
	plan := &result.Sheet{}
	session.ListSteps(plan, "", s.AllSteps())
	for _, p := range plan.Plan {
		known = append(known, history.StepOf(p.Name))
	}
	for name, at := range s.Limits.At {
		found := ""
		for i, k := range known {
			if k == name {
				found = plan.Plan[i].Target
			}
		}
		switch found {
		case "":
			readerOf(s).NotThere(at, "step", name, known)
		case "set", "work out", "listen":
			s.Source.Report(at, "take it out", "the step %q sends nothing whose time could be limited", name)
		}
	}
}

// vetLookup checks that the database is there and can be asked so.
func vetLookup(s *sheet.Sheet, step *sheet.Step) {
	l := step.Lookup
	d := s.Bench.Database(l.Database)
	switch {
	case d == nil:
		readerOf(s).NotThere(l.At, "database", l.Database, s.Bench.DatabaseNames())
	case l.Sql != nil && d.Kind == lookup.Folder:
		s.Source.Report(l.SqlAt, "write find: or open:", "%s is a folder and knows no SQL", d.Name)
	case l.Sql == nil && d.Kind != lookup.Folder:
		s.Source.Report(l.At, "write sql:", "%s is a database and has no files", d.Name)
	}
}

// callback checks that a step waits for the calls to an address.
func (v *Vetter) callback(u bench.Use) {
	h := u.Placeholder
	switch {
	case len(v.listens) == 0:
		u.File.ReportInside(u.Node, h.Offset, "add a step with listen:", "%s: no step waits to be called back", h.Source)
	case h.Name == "" && len(v.listens) > 1:
		u.File.ReportInside(u.Node, h.Offset, "write ${callback."+v.listens[0]+"}", "%s: several steps wait to be called back: %s", h.Source, document.FewNames(v.listens))
	case h.Name != "" && !slices.Contains(v.listens, h.Name):
		u.File.ReportInside(u.Node, h.Offset, suggest.DidYouMean(h.Name, v.listens), "%s: no step with listen: has that name", h.Source)
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
	return s.Name == name || slices.ContainsFunc(s.Group, func(inner *sheet.Step) bool { return holds(inner, name) })
}
