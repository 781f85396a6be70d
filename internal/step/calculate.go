package step

import (
	"context"
	"fmt"

	"testbench/internal/bench"
	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Calculate calculates values by expressions of CEL.
type Calculate struct {
	single
	Expressions []Expression
}

// Expression is what one value is calculated by.
type Expression struct {
	Name      string
	Condition *rule.Condition
}

var calculateKind = sheet.Kind{
	Word: "calculate", What: "a step that calculates values", Common: ofValues,
	Own: []mapping.Key[sheet.Step]{
		own("calculate", "values by name, from CEL",
			func(r *mapping.Reader, _ *sheet.Step, c *Calculate, n *yamlfile.Node) {
				for _, e := range r.Entries(n, "calculate") {
					r.Identifier(e.Key, "a value")
					if condition := r.Condition(e.Value); condition != nil {
						c.Expressions = append(c.Expressions, Expression{e.Key.Text, condition})
					}
				}
			}),
	},
	Instead: insteadOfFields,
	New:     func() sheet.Action { return &Calculate{} },
}

// Check wants expressions.
func (c *Calculate) Check(*mapping.Reader, *sheet.Step) bool { return len(c.Expressions) > 0 }

// Target says that values are calculated.
func (c *Calculate) Target() string { return "calculate" }

// Sets are the names of the values.
func (c *Calculate) Sets() []string {
	return bench.Names(c.Expressions, func(e Expression) string { return e.Name })
}

// Asks are the expressions.
func (c *Calculate) Asks() ([]*value.Placeholder, []*rule.Condition) {
	var conditions []*rule.Condition
	for _, e := range c.Expressions {
		conditions = append(conditions, e.Condition)
	}
	return nil, conditions
}

// Run works the values out, each by those before it.
func (c *Calculate) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(_ context.Context, at *place, res *result.Step) {
		data := at.session.Data(at.scope, at.scope.Row, at.scope.Kept, nil, nil)
		for _, e := range c.Expressions {
			node, err := e.Condition.WorkOut(data)
			if err != nil {
				res.Outcome, res.Reason = result.Errored, fmt.Sprintf("calculate %s: %v", e.Name, err)
				return
			}
			at.scope.Kept[e.Name] = node
			data.Kept.Set(e.Name, node)
		}
		at.judgeKept(s, data, res)
	})
}
