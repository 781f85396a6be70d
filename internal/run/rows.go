package run

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"testbench/internal/document"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/table"
)

// totalRows is how many rows are run; 0 where that is not known.
func totalRows(s *sheet.Sheet, o RunOptions) int {
	count := 1
	if s.Rows != nil {
		count = s.RowCount()
		if s.Rows.Sample > 0 {
			count = min(count, s.Rows.Sample)
		}
		if s.Rows.Limit > 0 {
			count = min(count, s.Rows.Limit)
		}
	}
	if len(o.Rows) > 0 {
		listed := 0
		for _, span := range o.Rows {
			listed += span[1] - span[0] + 1
		}
		count = min(count, listed)
	}
	if o.For > 0 {
		return 0
	}
	count *= max(o.Repeat, 1)
	if o.Share.N > 1 {
		count /= o.Share.N // about so many
	}
	return count
}

// takenRow is a row that is run. For one where the condition cannot be calculated, or
// that cannot be read, wrong says why.
type takenRow struct {
	number int
	values *document.Node
	wrong  string
}

// RowOf gives the values of one of the rows that are run, by its number from 1.
func RowOf(ctx context.Context, of *sheet.Sheet, s *session.Session, number int) (*document.Node, error) {
	last := 0
	for row := range takeRows(ctx, of.Rows, s) {
		if last = row.number; last != number {
			continue
		}
		if row.wrong != "" {
			return nil, errors.New(row.wrong)
		}
		return row.values, nil
	}
	return nil, fmt.Errorf("there is no row %d to run; the last is %d", number, last)
}

// takeRows goes through the rows that are run: those that the condition lets through, as
// far as sample and limit go.
func takeRows(ctx context.Context, rows *sheet.Rows, s *session.Session) iter.Seq[takenRow] {
	expected := filteredRows(ctx, rows, s)
	if rows.Sample > 0 {
		sample, ordinal := table.NewSample(rows.Sample, rows.Seed), 0
		for row := range expected {
			sample.Offer(ordinal, row.number)
			ordinal++
		}
		numbers, all := sample.Numbers(), expected
		expected = func(yield func(takenRow) bool) {
			for row := range all {
				if _, isTaken := slices.BinarySearch(numbers, row.number); isTaken && !yield(row) {
					return
				}
			}
		}
	}
	if rows.Limit == 0 {
		return expected
	}
	return func(yield func(takenRow) bool) {
		count := 0
		for row := range expected {
			if count++; !yield(row) || count == rows.Limit {
				return
			}
		}
	}
}

// filteredRows goes through the rows that the condition lets through.
func filteredRows(ctx context.Context, rows *sheet.Rows, s *session.Session) iter.Seq[takenRow] {
	return func(yield func(takenRow) bool) {
		source := rows.Source
		if source == nil {
			source = session.RowsOfQuery(ctx, s, &rows.Query)
		}
		scope := s.Scope(nil, nil)
		number := 0
		for values, err := range source.All() {
			row := takenRow{values: values}
			if number++; err != nil {
				row = takenRow{wrong: err.Error()}
			}
			row.number = number
			if rows.When != nil && err == nil {
				verdict := rows.When.Judge(s.Data(scope, values, nil, nil, nil))
				if verdict.Unclear {
					row.wrong = "the condition of the rows cannot be evaluated: " + verdict.Note
				} else if !verdict.Passed {
					continue
				}
			}
			if !yield(row) {
				return
			}
		}
	}
}
