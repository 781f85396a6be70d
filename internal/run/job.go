package run

import (
	"maps"
	"slices"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// Work is a sheet to be run, and the session that it is run in.
type Job struct {
	Session *session.Session
	Sheet   *sheet.Sheet
	// Done are the rows that an earlier run finished; nil for none.
	Done *history.Done
	// Kept gives what an earlier run kept in a row; nil for nothing.
	Kept func(phase string, turn, number int) map[string]*document.Node
	// Before are the times of the rows that an earlier run finished, and BeforeTook how long
	// these were run.
	Before     []*history.Histogram
	BeforeTook time.Duration
	// Keep takes what was kept in a row, and before the rows, from several goroutines;
	// it may be nil.
	Keep func(row *result.Row, kept map[string]*document.Node)

	queried string // the digest of the rows that a database gave
}

// File is the sheet's file as the bench names it.
func (w *Job) File() string { return sheet.Inside(w.Session.Bench, w.Sheet.File()) }

// Head is what is known of the sheet before it is run.
func (w *Job) Head() *history.Sheet {
	return &history.Sheet{
		Sheet: w.Sheet.Name, File: w.File(), About: w.Sheet.About, Site: w.Session.Site.Name,
		Outcome: string(result.NotRun), RowCount: w.Sheet.RowCount(), Table: w.table(),
	}
}

// table are the columns of results as a table, with what they are.
func (w *Job) table() [][2]string {
	var columns [][2]string
	for _, c := range w.Sheet.Table {
		columns = append(columns, [2]string{c.Name, c.Of})
	}
	return columns
}

// Inputs are the files that decide what is run and how it is judged, by their names in the
// bench, with where they are: the bench, the sheet and those that it runs, their rows, and
// all files and contracts that are named in them.
func (w *Job) Inputs() map[string]string {
	b := w.Session.Bench
	inputs := map[string]string{w.File(): w.Sheet.File()}
	for _, name := range sheetInputs(w.Sheet) {
		if full, err := mapping.FileInside(b.Dir, name); err == nil {
			inputs[name] = full
		}
	}
	return inputs
}

// sheetInputs are the names of the files of the bench that decide what a sheet comes to.
func sheetInputs(s *sheet.Sheet) []string {
	names := slices.Concat([]string{bench.FileName, bench.LocalName}, s.Bench.Reads, s.Reads)
	if s.Rows != nil && s.Rows.Source != nil && s.Rows.IsFile() {
		names = append(names, s.Rows.From)
	}
	for _, service := range s.Bench.Services {
		if c, err := s.Bench.Offline(service); err == nil && c != nil {
			names = append(names, s.Bench.Contracts.Files(service.Contract.LiteralText())...)
		}
	}
	s.EveryStep(func(_ *sheet.Sheet, step *sheet.Step) {
		for _, u := range step.Uses {
			if u.Placeholder.Space == "file" {
				names = append(names, u.Placeholder.Name)
			}
		}
		if _, other := step.Inner(); other != nil {
			names = append(append(names, sheet.Inside(s.Bench, other.File())), sheetInputs(other)...)
		}
	})
	return names
}

// Fetched are digests of what was fetched: of contracts by their addresses, and of the rows that a database
// gave a share, which must be the same for all machines.
func (w *Job) Fetched() map[string]string {
	fetched := maps.Clone(w.Session.Contracts.Fetched())
	if w.queried != "" {
		if fetched == nil {
			fetched = map[string]string{}
		}
		fetched["the answer of sql://"+w.Sheet.Rows.Query.Database+" for "+w.File()] = w.queried
	}
	return fetched
}
