package sheet

import (
	"testbench/internal/history"
	"testbench/internal/mapping"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// Limits are what is expected of the times of a sheet's steps, over all its rows.
type Limits struct {
	All []limit
	At  map[string]*yamlfile.Node // where a step is named
}

type limit struct {
	Step, Word string
	Rule       *rule.Rule
}

// limitsOf are the limits of one step, or of each, while they are read.
type limitsOf struct {
	step string
	into *Limits
}

func limitKeys() []mapping.Key[limitsOf] {
	var keys []mapping.Key[limitsOf]
	for _, w := range history.LimitWords {
		keys = append(keys, mapping.NewKey(w.Word, w.About, func(r *mapping.Reader, of *limitsOf, n *yamlfile.Node) {
			r.NotEmpty(n, w.Word)
			items := []*yamlfile.Node{n}
			if n.Kind == yamlfile.Sequence {
				items = r.List(n)
			}
			for _, item := range items {
				parsed := r.OrderRule(item, w.Order)
				if parsed == nil {
					continue
				}
				if _, err := rule.Parse(parsed.Source, false); err != nil {
					r.File.Report(item, "write it like under 800 ms; of several in a list all must be met",
						"a limit is a rule in words")
					continue
				}
				of.into.All = append(of.into.All, limit{of.step, w.Word, parsed})
			}
		}))
	}
	return keys
}

// readLimits reads expect: of a sheet.
func readLimits(r *mapping.Reader, n *yamlfile.Node) *Limits {
	r.NotEmpty(n, "expect")
	l := &Limits{At: map[string]*yamlfile.Node{}}
	keys := append(limitKeys(),
		mapping.NewKey("steps", "step: limits of its own", func(r *mapping.Reader, _ *limitsOf, n *yamlfile.Node) {
			r.NotEmpty(n, "steps")
			for _, e := range r.Entries(n, "steps") {
				r.NotEmpty(e.Value, "what is expected of "+e.Key.Text)
				l.At[e.Key.Text] = e.Key
				mapping.Read(r, "what is expected of times", e.Value, &limitsOf{e.Key.Text, l}, limitKeys())
			}
		}))
	mapping.Read(r, "what is expected of times", n, &limitsOf{"", l}, keys)
	return l
}
