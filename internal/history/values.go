package history

import (
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

// Values lists what the rows of the runs kept under some names, the oldest run first; rows that kept none of
// them are left out. What was kept more than once counts as it was at the end.
func (s *Store) Values(q TrendQuery, names []string) ([]ValuesOf, error) {
	runs, err := s.Recent(mostLookedAt)
	if err != nil {
		return nil, err
	}
	runs = slices.DeleteFunc(runs, func(r *Run) bool { return !slices.ContainsFunc(r.Sheets, q.wants) })
	if q.Most > 0 {
		runs = runs[:min(len(runs), q.Most)]
	}
	out := []ValuesOf{}
	for _, run := range slices.Backward(runs) {
		stored := &Stored{store: s, head: run}
		for i, sheet := range run.Sheets {
			if !q.wants(sheet) {
				continue
			}
			for row, err := range stored.Rows(i) {
				if err != nil {
					return nil, err
				}
				values := row.ValuesOf(names)
				if len(values) == 0 {
					continue
				}
				out = append(out, ValuesOf{
					run.Number, run.Started, sheet.Site, sheet.File, row.Name(), row.Outcome, values,
				})
			}
		}
	}
	return out, nil
}

// ValuesOf gives what the row kept under some names.
func (r *Row) ValuesOf(names []string) map[string]secret.Text {
	values := map[string]secret.Text{}
	for _, step := range r.Steps {
		for _, name := range names {
			if value, kept := step.Values[name]; kept {
				values[name] = value
			}
		}
	}
	return values
}
