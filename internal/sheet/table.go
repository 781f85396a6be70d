package sheet

import (
	"slices"

	"testbench/internal/bench"
	"testbench/internal/history"
	"testbench/internal/mapping"
	"testbench/internal/yamlfile"
)

// Column is one of the table that results are written as: what it is called, and which value it has.
type Column struct {
	Name string
	// Of is a column of the rows (row.NAME), a name that a step keeps (kept.NAME), or one of history.ResultColumns.
	Of string
	at *yamlfile.Node
}

// readTable reads columns: a list of them, or names of one's own with what they are.
func readTable(r *mapping.Reader, n *yamlfile.Node) []Column {
	var columns []Column
	if n.Kind != yamlfile.Mapping {
		for _, item := range r.List(n) {
			text := r.PlainText(item)
			columns = append(columns, Column{text, text, item})
		}
		return columns
	}
	for _, e := range r.Entries(n, "a table") {
		columns = append(columns, Column{e.Key.Text, r.PlainText(e.Value), e.Value})
	}
	return columns
}

// checkTable reports columns of the table that nothing fills.
func (s *Sheet) checkTable() {
	known := slices.Clone(history.ResultColumns)
	columns := s.Rows.Columns()
	if s.Rows != nil && columns == nil {
		return // a database says later which there are
	}
	add := func(lead string, names []string) {
		for _, name := range names {
			known = append(known, name, lead+name)
		}
	}
	add("row.", columns)
	s.EveryStep(func(_ *Sheet, step *Step) { add("kept.", step.KeptNames()) })
	seen := map[string]bool{}
	r := &mapping.Reader{File: s.Source}
	for _, c := range s.Table {
		if !slices.Contains(known, c.Of) {
			bench.NotThere(r, c.at, "column", c.Of, known)
		}
		if seen[c.Name] {
			s.Source.Report(c.at, "give one of them another name", "two columns are named %q", c.Name)
		}
		seen[c.Name] = true
	}
}
