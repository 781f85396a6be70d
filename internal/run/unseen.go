package run

import (
	"fmt"
	"slices"

	"testbench/internal/sheet"
	"testbench/internal/step"
)

// Unseen tells what vetting a sheet could not look at without asking somebody, and why.
func Unseen(s *sheet.Sheet) []string {
	var out []string
	add := func(text string) {
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	if s.Rows != nil && s.Rows.Source == nil && s.Rows.Columns() == nil && s.Rows.Query.Sql != nil {
		add(fmt.Sprintf("the columns of the rows of %s: the database %s is not asked; columns: names them", s.Name,
			s.Rows.Query.Database))
	}
	s.EveryStep(func(_ *sheet.Sheet, one *sheet.Step) {
		call, isCall := one.Action.(*step.Call)
		if !isCall {
			return
		}
		service := s.Bench.Service(call.Service)
		if service == nil || service.Contract == nil || service.Operation(call.Operation) != nil {
			return
		}
		if c, err := s.Bench.Offline(service); c == nil && err == nil {
			add("the operations of " + call.Service +
				" and their fields: its contract is at an address, and vet asks " +
				"nobody; `testbench survey " + call.Service + "` fetches it")
		}
	})
	return out
}
