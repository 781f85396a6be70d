// Package vet finds what is wrong with a bench, a sheet or the arguments of a command before
// anything is sent.
package vet

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/mapping"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// VetOptions say what is known from outside of the files.
type Options struct {
	Site string            // empty: the sheet's, or the first
	Set  map[string]string // -set
	// HasSecret says whether a secret is there for a site; nil skips the check.
	HasSecret func(site, name string) bool
	// Kept are the names kept by earlier calls.
	Kept  []string
	given []string // what a sheet is given by the one that runs it
	// ForRun makes a missing secret a mistake; otherwise it is a remark.
	ForRun bool
}

// Vetter knows which names may be asked for at a place.
type Vetter struct {
	Options Options
	Site    *bench.Site
	columns []string
	// anyColumn says that the columns are not known before a database is asked.
	anyColumn bool
	isSheet   bool
	listens   []string // the steps that wait for a callback
	kept      []string // kept, set or calculated before this place
}

// Vet finds what is wrong with the placeholders of the bench file, beside the
// problems that reading found.
func Bench(b *bench.Bench, options Options) yamlfile.Problems {
	before := b.Problems()
	for _, file := range b.Files() {
		old := file.Problems
		file.Problems = nil
		defer func() { file.Problems = old }()
	}
	b.CheckContracts()
	names := b.SiteNames()
	if options.Site != "" {
		names = []string{options.Site}
	}
	for _, name := range names {
		merged, err := b.At(name)
		if err != nil {
			continue
		}
		v := &Vetter{Options: options, Site: merged}
		if s := b.Site(name); s != nil {
			v.Uses(s.Uses)
		}
		b.CheckAddresses(merged, options.Set)
	}
	merged, err := b.At(options.Site)
	if err == nil {
		v := &Vetter{Options: options, Site: merged}
		for _, s := range b.Services {
			v.Uses(s.Uses)
		}
		for _, l := range b.Logins {
			v.Uses(l.Uses)
		}
		for _, d := range b.Databases {
			v.Uses(d.Uses)
		}
	}
	return inOrder(append(before, b.Problems()...))
}

// inOrder sorts problems by their place.
func inOrder(problems yamlfile.Problems) yamlfile.Problems {
	slices.SortStableFunc(problems, func(a, b yamlfile.Problem) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return problems
}

// SameNames finds sheets that have the name of another: in results nobody could tell them apart. One that is
// run twice is not another.
func SameNames(sheets []*sheet.Sheet) yamlfile.Problems {
	var problems yamlfile.Problems
	first := map[string]*sheet.Sheet{}
	for _, s := range sheets {
		other := first[s.Name]
		if other == nil {
			first[s.Name] = s
			continue
		}
		if s.Source.Root == nil || other.File() == s.File() {
			continue
		}
		at := s.Source.Root
		if name := at.Get("sheet"); name != nil {
			at = name
		}
		before := s.Source.Problems
		s.Source.Problems = nil
		s.Source.Report(at, "give one of them another name", "%s has the name %q too", other.Source.Name, s.Name)
		problems = append(problems, s.Source.Problems...)
		s.Source.Problems = before
	}
	return problems
}

// Sheet finds everything that is wrong with a sheet, without sending anything. In a bench that cannot be read
// this is what the sheet alone tells.
func Sheet(s *sheet.Sheet, options Options) yamlfile.Problems {
	if s.Source.Root == nil || s.Bench.IsUnreadable() {
		return s.Source.Problems
	}
	before := s.Source.Problems
	s.Source.Problems = nil
	defer func() { s.Source.Problems = before }()
	if options.Site == "" {
		options.Site = s.Site
	}
	site, err := s.Bench.At(options.Site)
	if err != nil {
		site = &bench.Site{}
	}
	v := &Vetter{
		Options: options, Site: site, isSheet: true,
		listens: bench.Names(step.Listening(s), func(s *sheet.Step) string { return s.Name }),
	}
	for _, t := range s.Takes {
		_, set := options.Set[t.Name]
		if t.Required && !set && options.ForRun && !slices.Contains(options.given, t.Name) {
			s.Source.Report(t.At, "-set "+t.Name+"=VALUE", "the sheet must be given %s", t.Name)
		}
	}
	v.kept = s.TakeNames()
	v.Uses(s.Uses)
	vetSteps(s, v, s.First)
	v.columns = s.Rows.Columns()
	v.anyColumn = s.Rows != nil && s.Rows.Source == nil && v.columns == nil
	outside := slices.Clone(v.kept)
	vetSteps(s, v, s.Steps)
	vetSteps(s, v, s.Finally)
	v.columns, v.kept, v.anyColumn = nil, outside, false
	vetSteps(s, v, s.Last)
	remarkDoubles(s, site)
	vetLimits(s)
	return inOrder(append(slices.Clone(before), s.Source.Problems...))
}

// remarkDoubles remarks names that are in two places.
func remarkDoubles(s *sheet.Sheet, site *bench.Site) {
	columns := s.Rows.Columns()
	if columns == nil {
		return
	}
	for _, step := range slices.Concat(s.First, s.Steps, s.Finally) {
		for _, name := range step.KeptNames() {
			switch {
			case slices.Contains(columns, name):
				s.Source.Remark(step.At,
					"%s is kept here and is a column of the rows too: ${%s} is the kept one, ${row.%s} the column",
					name, name, name)
			case site.Value(name) != nil:
				s.Source.Remark(step.At,
					"%s is kept here and set by the site too: ${%s} is the kept one, ${site.%s} the site's", name, name,
					name)
			}
		}
	}
	for _, column := range columns {
		if site.Value(column) != nil {
			s.Source.Remark(s.Rows.At,
				"%s is a column and set by the site too: ${%s} is the column, ${site.%s} the site's", column, column,
				column)
		}
	}
}

// NamesFrom lists what the steps from one on keep, set and calculate.
func NamesFrom(s *sheet.Sheet, step string) []string {
	var names []string
	reached := false
	for _, one := range s.AllSteps() {
		if reached = reached || one.Name == step; reached {
			names = append(names, one.KeptNames()...)
		}
	}
	return names
}

func vetSteps(s *sheet.Sheet, v *Vetter, steps []*sheet.Step) {
	for _, one := range steps {
		before := v.kept
		known := slices.Clone(before)
		if one.Each != nil {
			known = append(known, one.Each.Name) // within its step alone
		}
		v.kept = known
		inner, _ := one.Inner()
		vetSteps(s, v, inner)
		// What the step keeps of its answer is known from the next one on: its own rules see
		// what was kept before.
		v.kept = known
		if one.Action != nil {
			v.kept = append(slices.Clone(known), one.Action.Sets()...)
		}
		v.usesOf(one)
		vetConditions(s, v, one)
		vetNamed(s, one)
		if action := step.Of(one); action != nil {
			action.Vet(&step.Vetting{Sheet: s, Inner: v.inner}, one)
		}
		if one.Undo != nil {
			v.kept = append(slices.Clone(known), one.KeptNames()...)
			vetSteps(s, v, []*sheet.Step{one.Undo})
		}
		v.kept = append(slices.Clone(before), one.KeptNames()...)
	}
}

// inner finds what is wrong with a sheet that is run by a step, which gives it its values.
func (v *Vetter) inner(s *sheet.Sheet) yamlfile.Problems {
	options := v.Options
	options.given = s.TakeNames()
	options.Site = v.Site.Name
	return Sheet(s, options)
}

// keptItself is said of a name that a step asks for and keeps.
const keptItself = "this step keeps %s itself; only the steps after it can ask for %s"

// usesOf finds what is wrong with the placeholders of a step.
func (v *Vetter) usesOf(step *sheet.Step) {
	for _, u := range step.Uses {
		h := u.Placeholder
		if (h.Space == "" || h.Space == "kept") && !v.defines(h) && isKept(step, h.Name) {
			u.File.ReportInside(u.Node, h.Offset, "", keptItself, h.Name, h.Name)
			continue
		}
		v.Uses([]mapping.Use{u})
	}
}

// isKept says whether a name is known only when the step has its answer.
func isKept(s *sheet.Step, name string) bool {
	return slices.Contains(s.KeptNames(), name) && (s.Action == nil || !slices.Contains(s.Action.Sets(), name))
}

func vetConditions(s *sheet.Sheet, v *Vetter, step *sheet.Step) {
	check := func(c *rule.Condition, at *yamlfile.Node) {
		if c == nil {
			return
		}
		for _, name := range c.KeptNames() {
			switch {
			case slices.Contains(v.kept, name), slices.Contains(v.Options.Kept, name):
			case isKept(step, name):
				s.Source.Report(at, "", keptItself, name, name)
			default:
				s.Source.Report(at, suggest.DidYouMean(name, v.kept),
					"the condition asks for kept.%s, which nothing keeps before it", name)
			}
		}
	}
	check(step.When, step.At)
	if step.Again != nil {
		check(step.Again.When, step.At)
	}
	if step.Action != nil {
		_, asked := step.Action.Asks()
		for _, c := range asked {
			check(c, step.At)
		}
	}
	for _, c := range step.Where {
		check(c.Condition, c.At)
	}
}

func (v *Vetter) defines(h *value.Placeholder) bool {
	if h.Space == "kept" {
		return slices.Contains(v.kept, h.Name) || slices.Contains(v.Options.Kept, h.Name)
	}
	_, set := v.Options.Set[h.Name]
	return set || v.anyColumn || slices.Contains(v.kept, h.Name) || slices.Contains(v.columns, h.Name) ||
		v.Site.Value(h.Name) != nil
}

// known lists every plain name that may be asked for.
func (v *Vetter) known() []string {
	names := slices.Concat(slices.Sorted(maps.Keys(v.Options.Set)), v.kept, v.columns)
	for _, f := range v.Site.Set {
		names = append(names, f.Name)
	}
	return names
}

// Uses finds what is wrong with placeholders where they are.
func (v *Vetter) Uses(uses []mapping.Use) {
	for _, u := range uses {
		h := u.Placeholder
		switch h.Space {
		case "", "kept":
			if !v.defines(h) {
				v.undefined(u)
			}
		case "row":
			switch {
			case !v.isSheet:
				u.File.ReportInside(u.Node, h.Offset, "", "%s: there are no rows in the bench file", h.Source)
			case v.anyColumn:
			case len(v.columns) == 0:
				u.File.ReportInside(u.Node, h.Offset, "add rows: data/FILE.csv to the sheet",
					"%s: the sheet has no rows here", h.Source)
			case !slices.Contains(v.columns, h.Name):
				v.report(u, "column", v.columns)
			}
		case "site":
			if v.Site.Value(h.Name) == nil {
				v.report(u, "value of the site", bench.Names(v.Site.Set, fieldName))
			}
		case "sealed":
			v.sealed(u)
		case "run":
			if h.Name != "id" {
				v.report(u, "value of the run", []string{"id"})
			}
		case "callback":
			v.callback(u)
		}
	}
}

func (v *Vetter) report(u mapping.Use, what string, known []string) {
	err := &bench.NotFoundError{What: what, Name: u.Placeholder.Name, Known: known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	u.File.ReportInside(u.Node, u.Placeholder.Offset, try, "%s: %s", u.Placeholder.Source, message)
}

func (v *Vetter) undefined(u mapping.Use) {
	h := u.Placeholder
	for _, f := range h.Filters {
		if f.Name == "default" && h.Space != "kept" {
			return
		}
	}
	known := v.known()
	try := suggest.DidYouMean(h.Name, append(known, "now", "today", "uuid"))
	if name, ok := strings.CutPrefix(strings.Trim(h.Source, "${}"), "env."); ok {
		try = "environment variables are ${machine." + name + "}"
	}
	if try == "" {
		try = "a name comes from -set, from keep: or set: of an earlier step, from a column of the rows, or from the " +
			"site"
		if len(known) > 0 {
			try += "; there are: " + suggest.FewNames(known)
		}
	}
	u.File.ReportInside(u.Node, h.Offset, try, "nothing defines %s", h.Source)
}

func (v *Vetter) sealed(u mapping.Use) {
	if v.Options.HasSecret == nil || v.Options.HasSecret(v.Site.Name, u.Placeholder.Name) {
		return
	}
	message := fmt.Sprintf("the secret %s is not there: `testbench secret set %s`, or the environment variable "+
		"TESTBENCH_SEALED_%s", u.Placeholder.Name, u.Placeholder.Name, strings.ToUpper(u.Placeholder.Name))
	if v.Options.ForRun {
		u.File.ReportInside(u.Node, u.Placeholder.Offset, "", "%s", message)
		return
	}
	u.File.Remark(u.Node, "%s", message)
}

func fieldName[F interface{ FieldName() string }](f F) string { return f.FieldName() }

// vetNamed looks for the site and the logins that a step names.
func vetNamed(s *sheet.Sheet, step *sheet.Step) {
	b := s.Bench
	if step.SiteAt != nil && b.Site(step.Site) == nil {
		bench.NotThere(readerOf(s), step.SiteAt, "site", step.Site, b.SiteNames())
	}
	if step.Login == nil {
		return
	}
	for _, name := range step.Login.Names {
		if b.Login(name) == nil {
			bench.NotThere(readerOf(s), step.Login.At, "login", name, b.LoginNames())
		}
	}
}

func readerOf(s *sheet.Sheet) *mapping.Reader { return &mapping.Reader{File: s.Source} }
