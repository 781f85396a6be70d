package step

import (
	"context"
	"fmt"

	"testbench/internal/bench"
	"testbench/internal/judge"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Set keeps values under names.
type Set struct {
	single
	Fields []request.Field
}

var setKind = sheet.Kind{
	Word: "set", What: "a step that sets values", Common: ofValues,
	Own: []mapping.Key[sheet.Step]{
		own("set", "values by name", func(r *mapping.Reader, _ *sheet.Step, set *Set, n *yamlfile.Node) {
			for _, e := range r.Entries(n, "set") {
				r.Identifier(e.Key, "a value")
				set.Fields = append(set.Fields, request.Field{Name: e.Key.Text, Value: r.Named(e)})
			}
		}),
	},
	Instead: insteadOfFields,
	New:     func() sheet.Action { return &Set{} },
}

// What the kinds that keep values without asking anybody have in common.
var (
	ofValues        = mapping.KeysOf("site, checks, where", anyStep)
	insteadOfFields = map[string]string{"fields": "write a condition under where:, as kept.NAME > 5"}
)

// Check wants values.
func (set *Set) Check(*mapping.Reader, *sheet.Step) bool { return len(set.Fields) > 0 }

// Target says that values are set.
func (set *Set) Target() string { return "set" }

// Sets are the names of the values.
func (set *Set) Sets() []string {
	return bench.Names(set.Fields, func(f request.Field) string { return f.Name })
}

// Asks are the placeholders of the values.
func (set *Set) Asks() ([]*value.Placeholder, []*rule.Condition) {
	var placeholders []*value.Placeholder
	for _, f := range set.Fields {
		placeholders = append(placeholders, f.Value.Placeholders()...)
	}
	return placeholders, nil
}

// Run fills the values in, each by those before it.
func (set *Set) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(_ context.Context, at *place, res *result.Step) {
		data := at.session.Data(at.scope, at.scope.Row, at.scope.Kept, nil, nil)
		for _, f := range set.Fields {
			node, err := f.Value.Node(at.scope)
			if err != nil {
				res.Outcome, res.Reason = result.Errored, fmt.Sprintf("set %s: %v", f.Name, err)
				return
			}
			at.scope.Kept[f.Name] = node
			data.Kept.Set(f.Name, node)
		}
		at.judgeKept(s, data, res)
	})
}

// judgeKept holds what a step set or calculated against its conditions.
func (at *place) judgeKept(s *sheet.Step, data *rule.Data, res *result.Step) {
	res.Kept = s.KeptNames()
	j := &judge.Judging{Step: s, Scope: at.scope, Data: data}
	j.Where()
	if res.Checks = j.Checks; res.ChecksFailed() > 0 {
		res.Outcome = result.Failed
	}
}
