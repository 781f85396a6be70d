package sheet

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/nearest"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// check finds what is wrong inside the bench file, as far as that can be told
// without knowing the site or the command line.
func (b *Bench) check() {
	for _, s := range b.Sites {
		b.checkSite(s)
		b.vetProxy(s)
	}
	b.checkLogins()
	for _, s := range b.Services {
		if s.Address == nil && s.Contract == nil {
			b.file.Report(s.at, "write address: ${base}/…", "the service %s says neither address: nor contract:", s.Name)
		}
		for _, m := range s.marks {
			if s.Contract == nil || len(m.op.Parameters) > 0 {
				b.file.Report(m.at, "write request: GET /path, or payload: prefix:Name for SOAP", "the operation %s has no request line", m.op.Name)
			}
		}
		for _, name := range s.Logins {
			if b.Login(name) == nil {
				b.notThere(s.loginAt, "login", name, b.LoginNames())
			}
		}
		seen := map[string]bool{}
		for _, op := range s.Operations {
			for _, p := range op.Parameters {
				if seen[op.Name+"\x00"+string(p.In)+p.Name] {
					b.file.Report(s.at, "give one of them another name:", "%s/%s has two fields named %q", s.Name, op.Name, p.Name)
				}
				seen[op.Name+"\x00"+string(p.In)+p.Name] = true
			}
			if op.SOAP && s.SOAP == "" {
				s.SOAP = "1.1"
			}
		}
	}
}

// checkLogins looks for logins that others need and that are not there, or that
// need one another.
func (b *Bench) checkLogins() {
	for _, l := range b.Logins {
		for _, other := range l.names {
			if b.Login(other.name) == nil {
				b.notThere(other.at, "login", other.name, b.LoginNames())
			}
		}
		if ring := b.ring(l, nil); ring != nil {
			b.file.Report(l.at, "", "the logins %s need one another in a ring", strings.Join(ring, ", "))
		}
	}
}

// ring follows what a login needs and returns the names that lead back to it.
func (b *Bench) ring(l *Login, seen []string) []string {
	if l == nil {
		return nil
	}
	if len(seen) > 0 && seen[0] == l.Name {
		return append(seen, l.Name)
	}
	if slices.Contains(seen, l.Name) {
		return nil
	}
	for _, other := range l.names {
		if found := b.ring(b.Login(other.name), append(seen, l.Name)); found != nil {
			return found
		}
	}
	return nil
}

func (b *Bench) checkSite(s *Site) {
	if s.Like != "" {
		if b.Site(s.Like) == nil {
			b.notThere(s.at, "site", s.Like, b.SiteNames())
		}
		for next, seen := b.Site(s.Like), []string{s.Name}; next != nil; next = b.Site(next.Like) {
			if slices.Contains(seen, next.Name) {
				b.file.Report(s.at, "", "the sites %s are like one another in a ring", strings.Join(append(seen, next.Name), ", "))
				break
			}
			seen = append(seen, next.Name)
		}
	}
	for name, other := range s.Logins {
		for _, login := range []string{name, other} {
			if b.Login(login) == nil {
				b.notThere(s.at, "login", login, b.LoginNames())
			}
		}
	}
	for name := range s.Services {
		if b.Service(name) == nil {
			b.notThere(s.at, "service", name, b.ServiceNames())
		}
	}
}

func (b *Bench) notThere(at *yamlfile.Node, what, name string, known []string) {
	(&reader{file: b.file}).notThere(at, what, name, known)
}

// VetOptions say what is known from outside of the files.
type VetOptions struct {
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

// vetter knows which names may be asked for at a place.
type vetter struct {
	options VetOptions
	site    *Site
	columns []string
	// anyColumn says that the columns are not known before a database is asked.
	anyColumn bool
	isSheet   bool
	listens   []string // the steps that wait to be called back
	kept      []string // kept, set or worked out before this place
}

// Vet finds what is wrong with the placeholders of the bench file, beside the
// problems that reading found.
func (b *Bench) Vet(options VetOptions) yamlfile.Problems {
	before := b.file.Problems
	b.file.Problems = nil
	defer func() { b.file.Problems = before }()
	b.checkContracts()
	names := b.SiteNames()
	if options.Site != "" {
		names = []string{options.Site}
	}
	for _, name := range names {
		merged, err := b.At(name)
		if err != nil {
			continue
		}
		v := &vetter{options: options, site: merged}
		if s := b.Site(name); s != nil {
			v.uses(s.uses)
		}
	}
	merged, err := b.At(options.Site)
	if err == nil {
		v := &vetter{options: options, site: merged}
		for _, s := range b.Services {
			v.uses(s.uses)
		}
		for _, l := range b.Logins {
			v.uses(l.uses)
		}
		for _, d := range b.Databases {
			v.uses(d.uses)
		}
	}
	return inOrder(append(slices.Clone(before), b.file.Problems...))
}

// inOrder sorts problems by their place.
func inOrder(problems yamlfile.Problems) yamlfile.Problems {
	slices.SortStableFunc(problems, func(a, b yamlfile.Problem) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return problems
}

// Vet finds everything that is wrong with a sheet, without sending anything.
func (s *Sheet) Vet(options VetOptions) yamlfile.Problems {
	if s.file.Root == nil {
		return s.file.Problems
	}
	before := s.file.Problems
	s.file.Problems = nil
	defer func() { s.file.Problems = before }()
	if options.Site == "" {
		options.Site = s.Site
	}
	site, err := s.bench.At(options.Site)
	if err != nil {
		site = &Site{}
	}
	v := &vetter{options: options, site: site, isSheet: true, listens: s.listens()}
	for _, t := range s.Takes {
		_, set := options.Set[t.Name]
		if t.Required && !set && options.ForRun && !slices.Contains(options.given, t.Name) {
			s.file.Report(t.at, "-set "+t.Name+"=VALUE", "the sheet must be given %s", t.Name)
		}
	}
	v.kept = s.takeNames()
	v.uses(s.uses)
	s.vetSteps(v, s.First)
	v.columns = s.Rows.columns()
	v.anyColumn = s.Rows != nil && s.Rows.source == nil && v.columns == nil
	outside := slices.Clone(v.kept)
	s.vetSteps(v, s.Steps)
	s.vetSteps(v, s.Finally)
	v.columns, v.kept, v.anyColumn = nil, outside, false
	s.vetSteps(v, s.Last)
	s.remarkDoubles(site)
	s.vetLimits()
	return inOrder(append(slices.Clone(before), s.file.Problems...))
}

// remarkDoubles remarks names that stand in two places.
func (s *Sheet) remarkDoubles(site *Site) {
	columns := s.Rows.columns()
	if columns == nil {
		return
	}
	for _, step := range slices.Concat(s.First, s.Steps, s.Finally) {
		for _, name := range step.names() {
			switch {
			case slices.Contains(columns, name):
				s.file.Remark(step.at, "%s is kept here and is a column of the rows too: ${%s} is the kept one, ${row.%s} the column", name, name, name)
			case site.value(name) != nil:
				s.file.Remark(step.at, "%s is kept here and set by the site too: ${%s} is the kept one, ${site.%s} the site's", name, name, name)
			}
		}
	}
	for _, column := range columns {
		if site.value(column) != nil {
			s.file.Remark(s.Rows.at, "%s is a column and set by the site too: ${%s} is the column, ${site.%s} the site's", column, column, column)
		}
	}
}

// names lists what a step keeps, sets and works out.
func (s *Step) names() []string {
	var names []string
	for _, f := range s.Set {
		names = append(names, f.Name)
	}
	for _, e := range s.WorkOut {
		names = append(names, e.name)
	}
	for _, k := range s.Keep {
		names = append(names, k.Name)
	}
	if s.Batch != nil {
		for _, part := range s.Batch.Parts {
			names = append(names, part.names()...)
		}
	}
	for _, inner := range s.Group {
		names = append(names, inner.names()...)
	}
	return names
}

// NamesFrom lists what the steps from one on keep, set and work out.
func (s *Sheet) NamesFrom(step string) []string {
	var names []string
	reached := false
	for _, one := range s.allSteps() {
		if reached = reached || one.Name == step; reached {
			names = append(names, one.names()...)
		}
	}
	return names
}

func (s *Sheet) vetSteps(v *vetter, steps []*Step) {
	for _, step := range steps {
		// Rules and conditions may use what the step itself keeps.
		before := v.kept
		requestNames := before
		if step.Each != nil {
			requestNames = append(slices.Clone(before), step.Each.Name)
		}
		own := append(slices.Clone(requestNames), step.names()...)
		v.kept = requestNames
		if len(step.Group) > 0 {
			s.vetSteps(v, step.Group)
		}
		v.kept = own
		v.uses(step.uses)
		v.kept = requestNames
		s.vetRequestUses(v, step)
		v.kept = own
		s.vetConditions(v, step)
		if step.Lookup != nil && step.Lookup.database != "" {
			s.vetLookup(step)
		}
		if step.Sub != nil {
			s.vetSub(v, step)
		}
		s.vetTarget(v, step)
		if step.Batch != nil && step.Batch.at != nil {
			s.vetBatch(s.bench, step.Batch)
			v.kept = requestNames
			s.vetSteps(v, step.Batch.Parts)
		}
		if step.Undo != nil {
			v.kept = own
			s.vetSteps(v, []*Step{step.Undo})
		}
		v.kept = append(slices.Clone(before), step.names()...) // an item is known within its step alone
	}
}

// vetRequestUses reports a name that the request needs and only the step's own
// answer could give.
func (s *Sheet) vetRequestUses(v *vetter, step *Step) {
	requestHoles := map[*value.Hole]bool{}
	for _, h := range step.requestHoles() {
		requestHoles[h] = true
	}
	for _, u := range step.uses {
		if requestHoles[u.hole] && (u.hole.Space == "" || u.hole.Space == "kept") && slices.Contains(step.names(), u.hole.Name) &&
			!v.defines(u.hole) && len(step.Set) == 0 {
			u.file.ReportInside(u.node, u.hole.Offset, "", "%s is kept by this very step, so its request cannot use it", u.hole.Name)
		}
	}
}

// requestHoles lists the placeholders that the request is made of.
func (s *Step) requestHoles() []*value.Hole {
	holes := s.Spec.Holes()
	holes = append(holes, s.Fill.Holes()...)
	asked := []*value.Template{s.Follow, s.Action}
	if s.Lookup != nil {
		asked = append(asked, s.Lookup.Find, s.Lookup.Open)
	}
	for _, t := range asked {
		if t != nil {
			holes = append(holes, t.Holes()...)
		}
	}
	if s.Request != nil {
		holes = append(holes, s.Request.path.Holes()...)
	}
	for _, f := range s.Set {
		holes = append(holes, f.Value.Holes()...)
	}
	return holes
}

func (s *Sheet) vetConditions(v *vetter, step *Step) {
	check := func(c *rule.Condition, at *yamlfile.Node) {
		if c == nil {
			return
		}
		for _, name := range c.KeptNames() {
			if !slices.Contains(v.kept, name) && !slices.Contains(v.options.Kept, name) {
				s.file.Report(at, nearest.Try(name, v.kept), "the condition asks for kept.%s, which nothing keeps before it", name)
			}
		}
	}
	check(step.When, step.at)
	if step.Again != nil {
		check(step.Again.When, step.at)
	}
	for _, e := range step.WorkOut {
		check(e.condition, step.at)
	}
	for _, c := range step.Where {
		check(c.Condition, c.at)
	}
}

func (v *vetter) defines(h *value.Hole) bool {
	if h.Space == "kept" {
		return slices.Contains(v.kept, h.Name) || slices.Contains(v.options.Kept, h.Name)
	}
	_, set := v.options.Set[h.Name]
	return set || v.anyColumn || slices.Contains(v.kept, h.Name) || slices.Contains(v.columns, h.Name) || v.site.value(h.Name) != nil
}

// known lists every plain name that may be asked for.
func (v *vetter) known() []string {
	names := slices.Concat(slices.Sorted(maps.Keys(v.options.Set)), v.kept, v.columns)
	for _, f := range v.site.Set {
		names = append(names, f.Name)
	}
	return names
}

func (v *vetter) uses(uses []use) {
	for _, u := range uses {
		h := u.hole
		switch h.Space {
		case "", "kept":
			if !v.defines(h) {
				v.undefined(u)
			}
		case "row":
			switch {
			case !v.isSheet:
				u.file.ReportInside(u.node, h.Offset, "", "%s: there are no rows in the bench file", h.Source)
			case v.anyColumn:
			case len(v.columns) == 0:
				u.file.ReportInside(u.node, h.Offset, "add rows: data/FILE.csv to the sheet", "%s: the sheet has no rows here", h.Source)
			case !slices.Contains(v.columns, h.Name):
				v.report(u, "column", v.columns)
			}
		case "site":
			if v.site.value(h.Name) == nil {
				v.report(u, "value of the site", namesOf(v.site.Set, fieldName))
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

func (v *vetter) report(u use, what string, known []string) {
	err := &NotFoundError{what, u.hole.Name, known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	u.file.ReportInside(u.node, u.hole.Offset, try, "%s: %s", u.hole.Source, message)
}

func (v *vetter) undefined(u use) {
	h := u.hole
	for _, f := range h.Filters {
		if f.Name == "default" && h.Space != "kept" {
			return
		}
	}
	known := v.known()
	try := nearest.Try(h.Name, append(known, "now", "today", "uuid"))
	if try == "" {
		try = "a name comes from -set, from keep: or set: of an earlier step, from a column of the rows, or from the site"
		if len(known) > 0 {
			try += "; there are: " + document.FewNames(known)
		}
	}
	u.file.ReportInside(u.node, h.Offset, try, "nothing defines %s", h.Source)
}

func (v *vetter) sealed(u use) {
	if v.options.HasSecret == nil || v.options.HasSecret(v.site.Name, u.hole.Name) {
		return
	}
	message := fmt.Sprintf("the secret %s is not there: `testbench secret set %s`, or the environment variable TESTBENCH_SEALED_%s", u.hole.Name, u.hole.Name, strings.ToUpper(u.hole.Name))
	if v.options.ForRun {
		u.file.ReportInside(u.node, u.hole.Offset, "", "%s", message)
		return
	}
	u.file.Remark(u.node, "%s", message)
}

func fieldName[F interface{ FieldName() string }](f F) string { return f.FieldName() }

// vetTarget checks service, operation, login and the fields of a call.
func (s *Sheet) vetTarget(v *vetter, step *Step) {
	b := s.bench
	if step.siteAt != nil && b.Site(step.Site) == nil {
		s.reader().notThere(step.siteAt, "site", step.Site, b.SiteNames())
	}
	if step.Login != nil {
		for _, name := range step.Login.names {
			if b.Login(name) == nil {
				s.reader().notThere(step.Login.at, "login", name, b.LoginNames())
			}
		}
	}
	service, operation, _ := strings.Cut(step.Call, "/")
	at := step.callAt
	if step.Request != nil {
		service = step.Request.service
	}
	if step.Follow != nil && step.Service != "" {
		service, at = step.Service, step.serviceAt
	}
	if service == "" {
		if method, talks := step.method(); talks {
			s.vetSOAP(step, &plan{}, method)
		}
		return
	}
	found := b.Service(service)
	if found == nil {
		s.reader().notThere(at, "service", service, b.ServiceNames())
		return
	}
	if step.Call == "" {
		method, _ := step.method()
		s.vetSOAP(step, &plan{service: found}, method)
		return
	}
	op := found.Operation(operation)
	if found.Speaks != "" {
		var err error
		if op, err = found.method(operation); err != nil {
			s.reader().notThere(at, "operation of "+service, operation, found.OperationNames())
			return
		}
	}
	if op == nil && found.Contract != nil {
		s.vetDescribed(b, found, step, operation)
		return
	}
	if op == nil {
		s.reader().notThere(at, "operation of "+service, operation, found.OperationNames())
		return
	}
	s.vetSOAP(step, &plan{service: found, op: op}, op.Method)
	s.reportProblems(step, step.problems(found, op))
}

// method is that of a request without an operation, empty where it hangs on the body; it
// says no of a step that makes none.
func (s *Step) method() (method string, talks bool) {
	if s.Request != nil {
		return s.Request.method, true
	}
	return "", s.Follow != nil
}

// vetSOAP reports what a step says of SOAP and cannot have.
func (s *Sheet) vetSOAP(step *Step, p *plan, method string) {
	spec := step.Spec
	spec.Method = method
	err := p.addSOAP(step, &spec)
	if wrong := (*tryError)(nil); errors.As(err, &wrong) {
		s.file.Report(step.at, wrong.try, "%s", wrong.message)
	} else if err != nil {
		s.file.Report(step.at, "", "%v", err)
	}
}

func (s *Sheet) reader() *reader { return &reader{file: s.file} }
