package step

import (
	"context"
	"fmt"
	"slices"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// SubSheet runs another sheet with values of its own. The steps of that sheet are in the
// row under the name of the step; what it kept is what the step answers with.
type SubSheet struct {
	single
	File  string
	Sheet *sheet.Sheet

	At *yamlfile.Node
}

var subSheetKind = sheet.Kind{
	Word: "sheet", What: "a step that runs a sheet", Common: mapping.KeysOf("fill, fills, keep, checks, fields, where",
		anyStep),
	Own: []mapping.Key[sheet.Step]{
		own("sheet", "another sheet to run, with fill: for what it takes",
			func(r *mapping.Reader, s *sheet.Step, sub *SubSheet, n *yamlfile.Node) {
				sub.File, sub.At = r.PlainText(n), n
				sub.Sheet = s.ReadSheet(r, sub.File, n)
			}),
	},
	New: func() sheet.Action { return &SubSheet{} },
}

// Check wants a sheet that could be read.
func (sub *SubSheet) Check(*mapping.Reader, *sheet.Step) bool { return sub.Sheet != nil }

// Target is the file of the sheet.
func (sub *SubSheet) Target() string { return "sheet " + sub.File }

// Inner is the sheet.
func (sub *SubSheet) Inner() ([]*sheet.Step, *sheet.Sheet) { return nil, sub.Sheet }

// Results are those of the steps of the sheet, then that of the step.
func (sub *SubSheet) Results(s *sheet.Step, name string) []result.Planned {
	return append(List(name+": ", sub.Sheet.AllSteps()), sub.single.Results(s, name)...)
}

// Vet looks at the sheet and at what it is filled with.
func (sub *SubSheet) Vet(v *Vetting, s *sheet.Step) {
	if problems := v.Inner(sub.Sheet).Serious(); len(problems) > 0 {
		v.report(sub.At, "", "%s is not right: %s", sub.File, problems[0].String())
	}
	var filled []string
	for _, f := range s.FillFields() {
		filled = append(filled, f.Name)
	}
	for _, name := range filled {
		if !slices.Contains(sub.Sheet.TakeNames(), name) {
			v.notThere(s.FillAt, "value that "+sub.File+" takes", name, sub.Sheet.TakeNames())
		}
	}
	for _, t := range sub.Sheet.Takes {
		if t.Required && !slices.Contains(filled, t.Name) {
			v.report(sub.At, "write fill: and below it "+t.Name+": VALUE", "%s must be given %s", sub.File, t.Name)
		}
	}
}

// Run runs the sheet, and judges what it kept.
func (sub *SubSheet) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	if outcome, isOut := leftOut(row, s, name); isOut {
		return outcome
	}
	res := &result.Step{Name: name, Target: s.Target(), About: s.About, Outcome: result.Passed}
	at, given, err := sub.fill(row, s)
	if err != nil {
		failed(ctx, res, err)
		return row.End(s, res.Outcome, res)
	}
	kept, outcome := row.Sheet(ctx, at.session, sub.Sheet, given, name)
	if row.IsDry() {
		return outcome
	}
	if outcome == result.Passed {
		at.judging(s, kept, nil).FinishPayload(res)
	} else {
		res.Outcome, res.Reason = result.NotRun, "the sheet "+string(outcome)
	}
	return result.Worst(outcome, row.End(s, outcome, res))
}

// fill gives the place of the step, whose session is that of the sheet's site, and what the
// sheet is given.
func (sub *SubSheet) fill(row Row, s *sheet.Step) (*place, map[string]*document.Node, error) {
	of, err := row.At("")
	if err != nil {
		return nil, nil, err
	}
	scope, _ := row.Begin(s, of)
	if of.Options.Site == "" { // else whoever asked for a site means all of it
		if of, err = row.At(sub.Sheet.Site); err != nil {
			return nil, nil, err
		}
	}
	values := map[string]*document.Node{}
	for _, f := range s.FillFields() {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, nil, fmt.Errorf("fill %s: %w", f.Name, err)
		}
		values[f.Name] = node
	}
	given, err := sub.Sheet.Given(values)
	return &place{row, of, scope}, given, err
}
