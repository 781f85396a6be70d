package sheet

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract/source"
)

// Unseen tells what vetting a sheet could not look at without asking somebody, and why.
func (s *Sheet) Unseen() []string {
	var out []string
	add := func(text string) {
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	if s.Rows != nil && s.Rows.source == nil && s.Rows.columns() == nil && s.Rows.query.sql != nil {
		add(fmt.Sprintf("the columns of the rows of %s: the database %s is not asked; columns: names them", s.Name, s.Rows.query.database))
	}
	s.everyStep(func(_ *Sheet, step *Step) {
		name, operation, isCall := strings.Cut(step.Call, "/")
		service := s.bench.Service(name)
		if !isCall || service == nil || service.Contract == nil || service.Operation(operation) != nil {
			return
		}
		if !service.Contract.IsLiteral() || source.IsAddress(service.Contract.LiteralText()) {
			add("the operations of " + name + " and their fields: its contract is at an address, and vet asks nobody; `testbench run -dry` looks at them")
		}
	})
	return out
}
