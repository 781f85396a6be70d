package doubt

import "testbench/internal/exchange"

// Tried is a change with its verdict, for tests that make the same changes in another way.
type Tried struct {
	Step, Path, What string
	Asked            *exchange.Record
	Verdict          string
	Answer           func() *exchange.Answer
}

// Tried lists all changes that were tried.
func (r *Result) AllTried() []Tried {
	names := map[verdict]string{noticed: "noticed", missed: "missed", allowed: "missed", unknown: "unknown"}
	var out []Tried
	for _, f := range r.Fields {
		for _, t := range f.tried {
			out = append(out, Tried{
				t.step, t.change.Path, t.change.What, t.row.Steps[t.step].exchanges[t.at.before], names[t.verdict],
				t.change.answer,
			})
		}
	}
	return out
}
