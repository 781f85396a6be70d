package sheet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/nearest"
	"testbench/internal/value"
)

// Arguments are what a command line says beside its files, as far as it must have an
// effect on what is run.
type Arguments struct {
	Set    map[string]string
	Site   string
	Write  string // the guarded site that may be written to
	Rows   bool   // rows are chosen
	Listen bool   // it says where calls come in
	Steps  []string
}

// Check tells of arguments that have no effect on the sheets and on the step of a call,
// which may be nil.
func (b *Bench) Check(a Arguments, sheets []*Sheet, call *Step) error {
	for _, check := range []func(Arguments, []*Sheet, *Step) error{b.checkSet, b.checkWrite, b.checkRows, b.checkListen, b.checkSteps} {
		if err := check(a, sheets, call); err != nil {
			return err
		}
	}
	return nil
}

// everyStep goes through the steps of a sheet, with those within them.
func (s *Sheet) everyStep(do func(*Sheet, *Step)) {
	var each func(steps []*Step)
	each = func(steps []*Step) {
		for _, step := range steps {
			do(s, step)
			each(step.Group)
			if step.Batch != nil {
				each(step.Batch.Parts)
			}
			if step.Undo != nil {
				each([]*Step{step.Undo})
			}
			if step.Sub != nil {
				step.Sub.Sheet.everyStep(do)
			}
		}
	}
	each(s.allSteps())
}

// checkSet tells of a value that nothing asks for.
func (b *Bench) checkSet(a Arguments, sheets []*Sheet, call *Step) error {
	var known []string
	add := func(holes ...*value.Hole) {
		for _, h := range holes {
			if h.Space == "" || h.Space == "site" {
				known = append(known, h.Name)
			}
		}
	}
	uses := func(uses []use) {
		for _, u := range uses {
			add(u.hole)
		}
	}
	for _, s := range b.Sites {
		known = append(known, namesOf(s.Set, fieldName)...)
		uses(s.uses)
	}
	for _, s := range b.Services {
		uses(s.uses)
	}
	for _, l := range b.Logins {
		uses(l.uses)
	}
	for _, d := range b.Databases {
		uses(d.uses)
	}
	for _, s := range sheets {
		s.everyStep(func(of *Sheet, step *Step) {
			known = append(known, of.takeNames()...)
			uses(of.uses)
			uses(step.uses)
		})
	}
	if call != nil {
		add(call.requestHoles()...)
	}
	for name := range a.Set {
		if !slices.Contains(known, name) {
			slices.Sort(known)
			try := cmp.Or(nearest.Try(name, known), "there are: "+document.FewNames(slices.Compact(known)))
			return withTry(fmt.Sprintf("-set %s has no effect: nothing asks for a value of that name", name), try)
		}
	}
	return nil
}

// checkWrite tells of a site that may be written to and is not the one that is asked.
func (b *Bench) checkWrite(a Arguments, sheets []*Sheet, _ *Step) error {
	if a.Write == "" {
		return nil
	}
	if _, err := b.At(a.Write); err != nil {
		return fmt.Errorf("-write: %w", err)
	}
	var sites []string
	add := func(name string) {
		if at, err := b.At(name); err == nil && !slices.Contains(sites, at.Name) {
			sites = append(sites, at.Name)
		}
	}
	if a.Site != "" || len(sheets) == 0 {
		add(a.Site)
	}
	for _, s := range sheets {
		s.everyStep(func(of *Sheet, step *Step) {
			if a.Site == "" {
				add(of.Site)
			}
			if step.Site != "" {
				add(step.Site)
			}
		})
	}
	if !slices.Contains(sites, a.Write) {
		return fmt.Errorf("-write %s has no effect: what is asked is the site %s", a.Write, strings.Join(sites, ", "))
	}
	return nil
}

func (b *Bench) checkRows(a Arguments, sheets []*Sheet, _ *Step) error {
	if a.Rows && !slices.ContainsFunc(sheets, func(s *Sheet) bool { return s.Rows != nil }) {
		return fmt.Errorf("-rows has no effect: %s without rows", map[bool]string{true: "the sheet is", false: "the sheets are"}[len(sheets) == 1])
	}
	return nil
}

func (b *Bench) checkListen(a Arguments, sheets []*Sheet, _ *Step) error {
	listens := false
	for _, s := range sheets {
		s.everyStep(func(_ *Sheet, step *Step) { listens = listens || step.Listen != nil })
	}
	if a.Listen && !listens {
		return fmt.Errorf("-listen and -callback have no effect: no step waits to be called back (listen:)")
	}
	return nil
}

// checkSteps tells of a step that is in none of the sheets.
func (b *Bench) checkSteps(a Arguments, sheets []*Sheet, _ *Step) error {
	var known []string
	for _, s := range sheets {
		known = append(known, s.StepNames()...)
	}
	for _, name := range a.Steps {
		if !slices.Contains(known, name) {
			return &NotFoundError{"step", name, known}
		}
	}
	return nil
}
