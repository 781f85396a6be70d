package history

import (
	"iter"
	"slices"
	"time"

	"testbench/internal/secret"
)

// ValuesOf are values that one row of a run kept.
type ValuesOf struct {
	Run     int                    `json:"run"`
	Started time.Time              `json:"started"` // the run
	Site    string                 `json:"site"`
	File    string                 `json:"file"`
	Row     string                 `json:"row,omitempty"` // its name; empty for the only one
	Outcome string                 `json:"outcome"`
	Values  map[string]secret.Text `json:"values"` // of those asked for, the ones that were kept
}

// Values are what the rows of several runs kept.
type Values struct {
	Rows []ValuesOf `json:"rows"` // of the oldest run first
	// Shares is how many runs were left out because they are parts of one that several machines share.
	Shares int `json:"shares left out,omitempty"`
}

// Values lists what the rows of the runs kept under some names; rows that kept none of them are left out. What was
// kept more than once counts as it was at the end. A sheet, a site or a name that no run has is an UnknownError.
func (s *Store) Values(q RunQuery, names []string) (*Values, error) {
	runs, shares, err := s.runsOf(q)
	if err != nil {
		return nil, err
	}
	out := &Values{Rows: []ValuesOf{}, Shares: shares}
	var kept []string
	for _, run := range runs {
		for i, sheet := range run.head.Sheets {
			if !q.wants(sheet) {
				continue
			}
			for row, err := range run.Rows(i) {
				if err != nil {
					return nil, err
				}
				for name := range row.kept() {
					if !slices.Contains(kept, name) {
						kept = append(kept, name)
					}
				}
				if values := row.valuesOf(names); len(values) > 0 {
					out.Rows = append(out.Rows, ValuesOf{
						run.head.Number, run.head.Started, sheet.Site, sheet.File, row.Name(), row.Outcome, values,
					})
				}
			}
		}
	}
	return out, allKnown("value", names, kept)
}

// kept goes through what the steps of a row kept, in their order.
func (r *Row) kept() iter.Seq2[string, secret.Text] {
	return func(yield func(string, secret.Text) bool) {
		for _, step := range r.Steps {
			for name, value := range step.Values {
				if !yield(name, value) {
					return
				}
			}
		}
	}
}

// valuesOf gives what the row kept under some names.
func (r *Row) valuesOf(names []string) map[string]secret.Text {
	values := map[string]secret.Text{}
	for name, value := range r.kept() {
		if slices.Contains(names, name) {
			values[name] = value
		}
	}
	return values
}
