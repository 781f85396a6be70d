package vet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/lazy"
	"testbench/internal/mapping"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/suggest"
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
	Tags   []string
	Fresh  bool // contracts are fetched again
	Shared bool // other machines run parts of the rows
}

// Check tells of arguments that have no effect on the sheets and on the step of a call,
// which may be nil.
func CheckArguments(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, call *sheet.Step) error {
	for _, check := range []func(*bench.Bench, Arguments, []*sheet.Sheet, *sheet.Step) error{
		checkSet, checkWrite,
		checkRows, checkListen, checkSteps, checkTags, checkFresh, checkShared,
	} {
		if err := check(b, a, sheets, call); err != nil {
			return err
		}
	}
	return nil
}

// checkSet tells of a value that nothing asks for.
func checkSet(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, call *sheet.Step) error {
	var known []string
	add := func(placeholders ...*value.Placeholder) {
		for _, h := range placeholders {
			if h.Space == "" || h.Space == "site" {
				known = append(known, h.Name)
			}
		}
	}
	uses := func(uses []mapping.Use) {
		for _, u := range uses {
			add(u.Placeholder)
		}
	}
	for _, s := range b.Sites {
		known = append(known, bench.Names(s.Set, fieldName)...)
		uses(s.Uses)
	}
	for _, s := range b.Services {
		uses(s.Uses)
	}
	for _, l := range b.Logins {
		uses(l.Uses)
	}
	for _, d := range b.Databases {
		uses(d.Uses)
	}
	for _, s := range sheets {
		s.EveryStep(func(of *sheet.Sheet, step *sheet.Step) {
			known = append(known, of.TakeNames()...)
			uses(of.Uses)
			uses(step.Uses)
		})
	}
	if call != nil {
		add(call.Placeholders()...)
	}
	for name := range a.Set {
		if !slices.Contains(known, name) {
			slices.Sort(known)
			try := cmp.Or(suggest.DidYouMean(name, known), "there are: "+suggest.FewNames(slices.Compact(known)))
			return session.WithTry(fmt.Sprintf("-set %s has no effect: nothing asks for a value of that name", name),
				try)
		}
	}
	return nil
}

// checkWrite tells of a site that may be written to and is not the one that is asked.
func checkWrite(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
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
		s.EveryStep(func(of *sheet.Sheet, step *sheet.Step) {
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

func checkRows(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
	if a.Rows && !slices.ContainsFunc(sheets, func(s *sheet.Sheet) bool { return s.Rows != nil }) {
		return fmt.Errorf("-rows has no effect: %s without rows",
			map[bool]string{true: "the sheet is", false: "the sheets are"}[len(sheets) == 1])
	}
	return nil
}

// ordered finds the order in which a database gives rows.
var ordered = lazy.Regexp(`(?i)\border\s+by\b`)

// checkShared tells of what machines that share a run could not do alike: rows whose order nobody says, and
// names that one machine alone would know.
func checkShared(_ *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
	if !a.Shared {
		return nil
	}
	for _, s := range sheets {
		if s.Rows != nil && s.Rows.Query.Sql != nil && !ordered().MatchString(s.Rows.Query.Sql.Source) {
			return session.WithTry(fmt.Sprintf("%s: with -share each machine takes rows by their number, and the "+
				"query does not say in which order the rows come", s.Source.Name),
				"end the query with order by, and a column that tells all rows apart")
		}
		for _, once := range s.AllSteps() {
			if !once.Once {
				continue
			}
			for _, other := range s.AllSteps() {
				for _, u := range other.Uses {
					if !other.Once && slices.Contains(once.KeptNames(), u.Placeholder.Name) &&
						(u.Placeholder.Space == "" || u.Placeholder.Space == "kept") {
						return session.WithTry(fmt.Sprintf("%s: %s is kept by %q, which the first machine alone "+
							"runs, and %q needs it on each", s.Source.Name, u.Placeholder.Name, once.Name, other.Name),
							"take once: out, or give the value to all machines with -set")
					}
				}
			}
		}
	}
	return nil
}

func checkListen(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
	listens := false
	for _, s := range sheets {
		s.EveryStep(func(_ *sheet.Sheet, one *sheet.Step) {
			_, isOne := one.Action.(*step.Listen)
			listens = listens || isOne
		})
	}
	if a.Listen && !listens {
		return fmt.Errorf("-listen and -callback have no effect: no step waits for a callback (listen:)")
	}
	return nil
}

// checkTags tells of a tag that none of the sheets has.
func checkTags(_ *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
	var known []string
	for _, s := range sheets {
		known = append(known, s.Tags...)
		for _, step := range s.AllSteps() {
			known = append(known, step.AllTags()...)
		}
	}
	for _, tag := range a.Tags {
		if !slices.Contains(known, tag) {
			return &bench.NotFoundError{What: "tag", Name: tag, Known: known}
		}
	}
	return nil
}

// checkFresh tells where no contract would be fetched.
func checkFresh(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, call *sheet.Step) error {
	services := b.Services
	if call != nil {
		services = nil
		if one, ok := call.Action.(*step.Call); ok {
			services = []*bench.Service{b.Service(one.Service)}
		}
	}
	if a.Fresh && (call != nil || len(sheets) > 0) &&
		!slices.ContainsFunc(services, (*bench.Service).IsContractFetched) {
		return fmt.Errorf("-fresh has no effect: no contract is at an address here")
	}
	return nil
}

// checkSteps tells of a step that is in none of the sheets.
func checkSteps(b *bench.Bench, a Arguments, sheets []*sheet.Sheet, _ *sheet.Step) error {
	var known []string
	for _, s := range sheets {
		known = append(known, StepNames(s)...)
	}
	for _, name := range a.Steps {
		if !slices.Contains(known, name) {
			return &bench.NotFoundError{What: "step", Name: name, Known: known}
		}
	}
	return nil
}
