package sheet

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Sub is another sheet that a step runs, with values of its own.
type Sub struct {
	File  string
	Sheet *Sheet
	at    *yamlfile.Node
}

// mostDepth bounds sheets that run sheets.
const mostDepth = 8

// sub reads the sheet that a step runs.
func (r *reader) sub(n *yamlfile.Node) *Sub {
	s := &Sub{File: r.plainText(n), at: n}
	if s.File == "" {
		return nil
	}
	full, err := fileInside(r.dir, s.File)
	if err != nil {
		r.file.Report(n, "sheets/NAME.yaml, as it stands in the bench folder", "%v", err)
		return nil
	}
	if slices.Contains(r.within, full) {
		r.file.Report(n, "", "the sheets run one another in a ring: %s", s.File)
		return nil
	}
	if len(r.within) > mostDepth {
		r.file.Report(n, "", "sheets run sheets at most %d deep", mostDepth)
		return nil
	}
	if s.Sheet, err = r.bench.openSheet(full, append(slices.Clone(r.within), full)); err != nil {
		r.file.Report(n, "", "%v", err)
		return nil
	}
	return s
}

// Take is a value that a sheet is given by whoever runs it.
type Take struct {
	Name     string
	Required bool
	Default  *document.Node
	at       *yamlfile.Node
}

// takes reads the values that a sheet is to be given: required, or what is meant
// without one.
func (r *reader) takes(n *yamlfile.Node) []Take {
	var out []Take
	for _, e := range r.entries(n, "takes") {
		t := Take{Name: r.identifier(e.Key, "a value"), at: e.Key}
		if e.Value.Kind == yamlfile.Scalar && e.Value.Text == "required" {
			t.Required = true
		} else if tree := r.tree(e.Value); len(tree.Holes()) > 0 {
			r.file.Report(e.Value, "", "what is meant without a value holds no placeholders")
		} else if node, err := tree.Node(value.NoNames{}); err == nil {
			t.Default = node
		}
		out = append(out, t)
	}
	return out
}

func (s *Sheet) takeNames() []string {
	var names []string
	for _, t := range s.Takes {
		names = append(names, t.Name)
	}
	return names
}

// given are the values that a sheet begins with: what it is filled with, else what is
// meant without.
func (s *Sheet) given(fill map[string]*document.Node) (map[string]*document.Node, error) {
	out := map[string]*document.Node{}
	for _, t := range s.Takes {
		switch node := fill[t.Name]; {
		case node != nil:
			out[t.Name] = node
		case t.Default != nil:
			out[t.Name] = t.Default
		case t.Required:
			return nil, fmt.Errorf("the sheet %s must be given %s; write it under fill:, or -set %s=VALUE", s.Name, t.Name, t.Name)
		}
	}
	return out, nil
}

// vetSub checks what the sheet is filled with, and the sheet itself.
func (s *Sheet) vetSub(v *vetter, step *Step) {
	inner := step.Sub.Sheet
	options := v.options
	options.given = inner.takeNames()
	options.Site = v.site.Name
	if problems := inner.Vet(options); len(problems.Serious()) > 0 {
		first := problems.Serious()[0]
		s.file.Report(step.Sub.at, "", "%s is not right: %s", step.Sub.File, first.String())
	}
	var filled []string
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			filled = append(filled, f.Name)
		}
	}
	for _, name := range filled {
		if !slices.Contains(inner.takeNames(), name) {
			s.reader().notThere(step.fillAt, "value that "+step.Sub.File+" takes", name, inner.takeNames())
		}
	}
	for _, t := range inner.Takes {
		if t.Required && !slices.Contains(filled, t.Name) {
			s.file.Report(step.Sub.at, "write fill: and below it "+t.Name+": VALUE", "%s must be given %s", step.Sub.File, t.Name)
		}
	}
}

// sub runs another sheet as a step. Its steps stand in the row under the step's name;
// what it kept is what the step answers with.
func (x *rowRun) sub(ctx context.Context, step *Step, name string) Outcome {
	if reason := x.leftOut(step); reason != "" {
		return x.leave(step, name, NotRun, reason)
	}
	inner := step.Sub.Sheet
	result := &StepResult{Name: name, Target: step.target(), About: step.About, Outcome: Held}
	session, err := x.session.at(inner.Site)
	if x.session.options.Site != "" {
		session, err = x.session, nil // whoever asked for a site means all of it
	}
	var given map[string]*document.Node
	if err == nil {
		given, err = x.fillSub(step, inner)
	}
	if err != nil {
		x.failed(ctx, result, err)
		x.forget(step, string(result.Outcome))
		x.tell(result)
		return result.Outcome
	}
	r := &runner{crew: x.crew, session: session, sheet: inner, work: &Work{Session: session, Sheet: inner}, index: x.index, result: x.result, outside: given}
	s := &subRun{outer: x, runner: r, name: name, kept: document.NewObject()}
	outcome := s.run(ctx)
	if x.options.Dry {
		return outcome
	}
	j := x.judgingOf(session, step, x.scope(x.session), s.kept, nil)
	if outcome == Held {
		j.finishPayload(result)
	} else {
		result.Outcome, result.Reason = NotRun, "the sheet "+string(outcome)
	}
	x.forget(step, string(outcome))
	x.tell(result)
	return worst(outcome, result.Outcome)
}

func (x *rowRun) fillSub(step *Step, inner *Sheet) (map[string]*document.Node, error) {
	scope := x.scope(x.session)
	fill := map[string]*document.Node{}
	if step.Fill != nil {
		for _, f := range step.Fill.Fields {
			node, err := f.Value.Node(scope)
			if err != nil {
				return nil, fmt.Errorf("fill %s: %w", f.Name, err)
			}
			fill[f.Name] = node
		}
	}
	return inner.given(fill)
}

// subRun is a sheet under way within a row of another one.
type subRun struct {
	*runner
	outer *rowRun
	name  string
	kept  *document.Node
}

func (s *subRun) run(ctx context.Context) Outcome {
	outcome := NotRun
	phase := func(ctx context.Context, values *document.Node, kept map[string]*document.Node, steps, finally []*Step, undos []undoing, words string) *rowRun {
		x := &rowRun{runner: s.runner, events: s.outer.events, row: &RowResult{Number: s.outer.row.Number, Turn: s.outer.row.Turn, Phase: words}, values: values, kept: kept, prefix: s.name + ": ", undos: undos, outer: s.outer}
		x.run(ctx, s.kill, steps, finally)
		outcome = worst(outcome, x.row.Outcome)
		return x
	}
	var undos []undoing
	if len(s.sheet.First) > 0 {
		undos = phase(ctx, nil, s.outside, s.sheet.First, nil, nil, "first").undos
	}
	rows := 0
	for row := range s.turn() {
		if ctx.Err() != nil || s.isStopped() || s.outer.isOver(ctx) {
			break
		}
		if row.wrong != "" {
			s.outer.tell(&StepResult{Name: s.name + ": rows", Target: "rows", Outcome: Faulty, Reason: row.wrong})
			outcome = worst(outcome, Faulty)
			continue
		}
		kept := maps.Clone(s.outside)
		phase(ctx, row.values, kept, s.sheet.Steps, s.sheet.Finally, nil, "")
		rows++
		s.collect(kept, rows)
	}
	if len(s.sheet.Last) > 0 || len(undos) > 0 {
		phase(s.kill, nil, s.outside, s.sheet.Last, nil, undos, "last")
	}
	return outcome
}

// collect adds what a row of the sheet kept: of one row the values, of several lists.
func (s *subRun) collect(kept map[string]*document.Node, rows int) {
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		switch before := s.kept.Get(name); {
		case s.sheet.Rows == nil:
			s.kept.Set(name, kept[name])
		case before == nil:
			list := document.NewList()
			for range rows - 1 {
				list.AppendItems(&document.Node{Kind: document.Null})
			}
			list.AppendItems(kept[name])
			s.kept.Set(name, list)
		default:
			before.AppendItems(kept[name])
		}
	}
}

// openSheet reads a sheet; within are the files that lead to it.
func (b *Bench) openSheet(full string, within []string) (*Sheet, error) {
	data, err := readInside(b.Dir, b.relative(full))
	if err != nil {
		return nil, err
	}
	return b.readSheet(displayName(full), data, within), nil
}

// relative is a file of the bench by its name in there.
func (b *Bench) relative(full string) string {
	relative, err := filepath.Rel(b.Dir, full)
	if err != nil || strings.HasPrefix(relative, "..") {
		return full
	}
	return filepath.ToSlash(relative)
}
