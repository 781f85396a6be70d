// Package vet finds what is wrong with a bench, a sheet or the arguments of a command before
// anything is sent.
package vet

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
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
	listens   []string // the steps that wait to be called back
	kept      []string // kept, set or worked out before this place
}

// Vet finds what is wrong with the placeholders of the bench file, beside the
// problems that reading found.
func Bench(b *bench.Bench, options Options) yamlfile.Problems {
	before := b.Source.Problems
	b.Source.Problems = nil
	defer func() { b.Source.Problems = before }()
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
	return inOrder(append(slices.Clone(before), b.Source.Problems...))
}

// inOrder sorts problems by their place.
func inOrder(problems yamlfile.Problems) yamlfile.Problems {
	slices.SortStableFunc(problems, func(a, b yamlfile.Problem) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return problems
}

// Vet finds everything that is wrong with a sheet, without sending anything.
func Sheet(s *sheet.Sheet, options Options) yamlfile.Problems {
	if s.Source.Root == nil {
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
	v := &Vetter{Options: options, Site: site, isSheet: true, listens: s.Listens()}
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

// remarkDoubles remarks names that stand in two places.
func remarkDoubles(s *sheet.Sheet, site *bench.Site) {
	columns := s.Rows.Columns()
	if columns == nil {
		return
	}
	for _, step := range slices.Concat(s.First, s.Steps, s.Finally) {
		for _, name := range KeptBy(step) {
			switch {
			case slices.Contains(columns, name):
				s.Source.Remark(step.At, "%s is kept here and is a column of the rows too: ${%s} is the kept one, ${row.%s} the column", name, name, name)
			case site.Value(name) != nil:
				s.Source.Remark(step.At, "%s is kept here and set by the site too: ${%s} is the kept one, ${site.%s} the site's", name, name, name)
			}
		}
	}
	for _, column := range columns {
		if site.Value(column) != nil {
			s.Source.Remark(s.Rows.At, "%s is a column and set by the site too: ${%s} is the column, ${site.%s} the site's", column, column, column)
		}
	}
}

// KeptBy lists what a step keeps, sets and works out.
func KeptBy(s *sheet.Step) []string {
	var names []string
	for _, f := range s.Set {
		names = append(names, f.Name)
	}
	for _, e := range s.WorkOut {
		names = append(names, e.Name)
	}
	for _, k := range s.Keep {
		names = append(names, k.Name)
	}
	if s.Batch != nil {
		for _, part := range s.Batch.Parts {
			names = append(names, KeptBy(part)...)
		}
	}
	for _, inner := range s.Group {
		names = append(names, KeptBy(inner)...)
	}
	return names
}

// NamesFrom lists what the steps from one on keep, set and work out.
func NamesFrom(s *sheet.Sheet, step string) []string {
	var names []string
	reached := false
	for _, one := range s.AllSteps() {
		if reached = reached || one.Name == step; reached {
			names = append(names, KeptBy(one)...)
		}
	}
	return names
}

func vetSteps(s *sheet.Sheet, v *Vetter, steps []*sheet.Step) {
	for _, step := range steps {
		// Rules and conditions may use what the step itself keeps.
		before := v.kept
		requestNames := before
		if step.Each != nil {
			requestNames = append(slices.Clone(before), step.Each.Name)
		}
		own := append(slices.Clone(requestNames), KeptBy(step)...)
		v.kept = requestNames
		if len(step.Group) > 0 {
			vetSteps(s, v, step.Group)
		}
		v.kept = own
		v.Uses(step.Uses)
		v.kept = requestNames
		vetRequestUses(s, v, step)
		v.kept = own
		vetConditions(s, v, step)
		if step.Lookup != nil && step.Lookup.Database != "" {
			vetLookup(s, step)
		}
		if step.Sub != nil {
			vetSub(s, v, step)
		}
		vetTarget(s, v, step)
		if step.Batch != nil && step.Batch.At != nil {
			vetBatch(s, s.Bench, step.Batch)
			v.kept = requestNames
			vetSteps(s, v, step.Batch.Parts)
		}
		if step.Undo != nil {
			v.kept = own
			vetSteps(s, v, []*sheet.Step{step.Undo})
		}
		v.kept = append(slices.Clone(before), KeptBy(step)...) // an item is known within its step alone
	}
}

// vetRequestUses reports a name that the request needs and only the step's own
// answer could give.
func vetRequestUses(s *sheet.Sheet, v *Vetter, step *sheet.Step) {
	asked := map[*value.Placeholder]bool{}
	for _, h := range PlaceholdersOfRequest(step) {
		asked[h] = true
	}
	for _, u := range step.Uses {
		if asked[u.Placeholder] && (u.Placeholder.Space == "" || u.Placeholder.Space == "kept") && slices.Contains(KeptBy(step), u.Placeholder.Name) &&
			!v.defines(u.Placeholder) && len(step.Set) == 0 {
			u.File.ReportInside(u.Node, u.Placeholder.Offset, "", "%s is kept by this very step, so its request cannot use it", u.Placeholder.Name)
		}
	}
}

// PlaceholdersOfRequest lists the placeholders that the request is made of.
func PlaceholdersOfRequest(s *sheet.Step) []*value.Placeholder {
	placeholders := s.Spec.Placeholders()
	placeholders = append(placeholders, s.Fill.Placeholders()...)
	asked := []*value.Template{s.Follow, s.Action}
	if s.Lookup != nil {
		asked = append(asked, s.Lookup.Find, s.Lookup.Open)
	}
	for _, t := range asked {
		if t != nil {
			placeholders = append(placeholders, t.Placeholders()...)
		}
	}
	if s.Request != nil {
		placeholders = append(placeholders, s.Request.Path.Placeholders()...)
	}
	for _, f := range s.Set {
		placeholders = append(placeholders, f.Value.Placeholders()...)
	}
	return placeholders
}

func vetConditions(s *sheet.Sheet, v *Vetter, step *sheet.Step) {
	check := func(c *rule.Condition, at *yamlfile.Node) {
		if c == nil {
			return
		}
		for _, name := range c.KeptNames() {
			if !slices.Contains(v.kept, name) && !slices.Contains(v.Options.Kept, name) {
				s.Source.Report(at, suggest.DidYouMean(name, v.kept), "the condition asks for kept.%s, which nothing keeps before it", name)
			}
		}
	}
	check(step.When, step.At)
	if step.Again != nil {
		check(step.Again.When, step.At)
	}
	for _, e := range step.WorkOut {
		check(e.Condition, step.At)
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
	return set || v.anyColumn || slices.Contains(v.kept, h.Name) || slices.Contains(v.columns, h.Name) || v.Site.Value(h.Name) != nil
}

// known lists every plain name that may be asked for.
func (v *Vetter) known() []string {
	names := slices.Concat(slices.Sorted(maps.Keys(v.Options.Set)), v.kept, v.columns)
	for _, f := range v.Site.Set {
		names = append(names, f.Name)
	}
	return names
}

// Uses finds what is wrong with placeholders where they stand.
func (v *Vetter) Uses(uses []bench.Use) {
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
				u.File.ReportInside(u.Node, h.Offset, "add rows: data/FILE.csv to the sheet", "%s: the sheet has no rows here", h.Source)
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

func (v *Vetter) report(u bench.Use, what string, known []string) {
	err := &bench.NotFoundError{What: what, Name: u.Placeholder.Name, Known: known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	u.File.ReportInside(u.Node, u.Placeholder.Offset, try, "%s: %s", u.Placeholder.Source, message)
}

func (v *Vetter) undefined(u bench.Use) {
	h := u.Placeholder
	for _, f := range h.Filters {
		if f.Name == "default" && h.Space != "kept" {
			return
		}
	}
	known := v.known()
	try := suggest.DidYouMean(h.Name, append(known, "now", "today", "uuid"))
	if try == "" {
		try = "a name comes from -set, from keep: or set: of an earlier step, from a column of the rows, or from the site"
		if len(known) > 0 {
			try += "; there are: " + document.FewNames(known)
		}
	}
	u.File.ReportInside(u.Node, h.Offset, try, "nothing defines %s", h.Source)
}

func (v *Vetter) sealed(u bench.Use) {
	if v.Options.HasSecret == nil || v.Options.HasSecret(v.Site.Name, u.Placeholder.Name) {
		return
	}
	message := fmt.Sprintf("the secret %s is not there: `testbench secret set %s`, or the environment variable TESTBENCH_SEALED_%s", u.Placeholder.Name, u.Placeholder.Name, strings.ToUpper(u.Placeholder.Name))
	if v.Options.ForRun {
		u.File.ReportInside(u.Node, u.Placeholder.Offset, "", "%s", message)
		return
	}
	u.File.Remark(u.Node, "%s", message)
}

func fieldName[F interface{ FieldName() string }](f F) string { return f.FieldName() }

// vetTarget checks service, operation, login and the fields of a call.
func vetTarget(s *sheet.Sheet, v *Vetter, step *sheet.Step) {
	b := s.Bench
	if step.SiteAt != nil && b.Site(step.Site) == nil {
		readerOf(s).NotThere(step.SiteAt, "site", step.Site, b.SiteNames())
	}
	if step.Login != nil {
		for _, name := range step.Login.Names {
			if b.Login(name) == nil {
				readerOf(s).NotThere(step.Login.At, "login", name, b.LoginNames())
			}
		}
	}
	service, operation, _ := strings.Cut(step.Call, "/")
	at := step.CallAt
	if step.Request != nil {
		service = step.Request.Service
	}
	if step.Follow != nil && step.Service != "" {
		service, at = step.Service, step.ServiceAt
	}
	if service == "" {
		if method, talks := stepMethod(step); talks {
			vetSOAP(s, step, &session.Prepared{}, method)
		}
		return
	}
	found := b.Service(service)
	if found == nil {
		readerOf(s).NotThere(at, "service", service, b.ServiceNames())
		return
	}
	if step.Call == "" {
		method, _ := stepMethod(step)
		vetSOAP(s, step, &session.Prepared{Service: found}, method)
		return
	}
	vetOperation(s, b, found, step, operation)
}

// stepMethod is that of a request without an operation, empty where it hangs on the body; it
// says no of a step that makes none.
func stepMethod(s *sheet.Step) (method string, talks bool) {
	if s.Request != nil {
		return s.Request.Method, true
	}
	return "", s.Follow != nil
}

// vetSOAP reports what a step says of SOAP and cannot have.
func vetSOAP(s *sheet.Sheet, step *sheet.Step, p *session.Prepared, method string) {
	spec := step.Spec
	spec.Method = method
	err := p.AddSOAP(step, &spec)
	if wrong := (*session.TryError)(nil); errors.As(err, &wrong) {
		s.Source.Report(step.At, wrong.Try, "%s", wrong.Message)
	} else if err != nil {
		s.Source.Report(step.At, "", "%v", err)
	}
}

func readerOf(s *sheet.Sheet) *bench.Reader { return &bench.Reader{File: s.Source} }

// vetOperation finds what is wrong with a call by what is known of its operation without
// asking anybody.
func vetOperation(s *sheet.Sheet, b *bench.Bench, service *bench.Service, step *sheet.Step, name string) {
	op, contracted, err := knownOperation(b, service, step, name)
	var missing *bench.NotFoundError
	switch {
	case errors.As(err, &missing):
		readerOf(s).NotThere(step.CallAt, missing.What, missing.Name, missing.Known)
		return
	case err != nil:
		s.Source.Report(step.CallAt, "", "%v", err)
		return
	case op == nil:
		return
	}
	if contracted {
		vetAddress(s, b, service, step)
	}
	built, problems := session.KnownRequest(b, step, service, op)
	vetSOAP(s, step, &session.Prepared{Service: service, Operation: op, Envelope: built.Envelope}, built.Method)
	if contracted && op.Facts().Deprecated {
		s.Source.Remark(step.CallAt, "%s is deprecated by its contract", step.Call)
	}
	if !contracted || session.HoldsRequest(step) {
		reportProblems(s, step, problems)
	}
}

// knownOperation finds an operation without asking anybody; it is nil where only its contract,
// which lies at an address, could tell.
func knownOperation(b *bench.Bench, service *bench.Service, step *sheet.Step, name string) (op contract.Operation, contracted bool, err error) {
	endpoint, err := service.Described(name)
	switch {
	case err != nil:
		return nil, false, err
	case endpoint != nil:
		return session.ByHand(service, endpoint), false, nil
	case service.Contract == nil:
		return nil, false, &bench.NotFoundError{What: "operation of " + service.Name, Name: name, Known: service.OperationNames()}
	}
	c, err := b.Offline(service)
	if err != nil || c == nil {
		return nil, false, err
	}
	if !c.HasOperations() {
		return nil, false, errors.New("it is a schema alone, and has no operations")
	}
	op, err = session.OperationIn(c, service, step, name)
	return op, true, err
}

// vetAddress asks for an address where the contract's own is not trusted.
func vetAddress(s *sheet.Sheet, b *bench.Bench, service *bench.Service, step *sheet.Step) {
	if service.Address == nil && !b.SiteHasAddress(service.Name) {
		s.Source.Report(step.CallAt, "write address: ${base}/… at the service", "the contract of %s comes from a file, and where that sends is not trusted", service.Name)
	}
}

// reportProblems tells what is wrong with a call's fields where they stand.
func reportProblems(s *sheet.Sheet, step *sheet.Step, problems []contract.Problem) {
	var missing []string
	for _, p := range problems {
		if p.Missing != "" {
			missing = append(missing, p.Missing)
			continue
		}
		at, nearest := step.CallAt, ""
		if step.FillAt != nil {
			for _, e := range step.FillAt.Entries {
				if !isWithin(p.Field, e.Key.Text) || len(e.Key.Text) < len(nearest) {
					continue
				}
				at, nearest = e.Key, e.Key.Text
				if p.OfValue {
					at = e.Value
				}
			}
		}
		s.Source.Report(at, p.Try, "%s", p.Message)
	}
	if len(missing) > 0 {
		list := strings.Join(missing, ", ")
		s.Source.Report(step.CallAt, "add "+list, "%s needs %s", step.Call, list)
	}
}

// isWithin says whether a field is the one of a name, or stands below it.
func isWithin(field, name string) bool {
	rest, ok := strings.CutPrefix(field, name)
	return ok && (rest == "" || rest[0] == '.' || rest[0] == '[')
}
