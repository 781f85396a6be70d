package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"iter"
	"slices"
	"time"

	"testbench/internal/document"
	"testbench/internal/result"
)

// inputRow is a row as it is to be run.
type inputRow struct {
	result *result.Row
	values *document.Node
	wrong  string // why it cannot be told whether the row is to be run, or what is wrong with it
}

// labelOf is a value as it names a row.
func labelOf(n *document.Node) string {
	if n == nil || !n.IsScalar() {
		return ""
	}
	return n.Text
}

// rows gives the rows to run, turn by turn; a sheet without rows has one, without
// values.
func (r *runner) rows(ctx context.Context) iter.Seq[inputRow] {
	turns := max(r.options.Repeat, 1)
	return func(yield func(inputRow) bool) {
		for turn := 1; turn <= turns || !r.until.IsZero(); turn++ {
			any := false
			for row := range r.iteration(ctx) {
				if !r.isRowChosen(row.result.Number) {
					continue
				}
				any = true
				if !r.until.IsZero() && !time.Now().Before(r.until) {
					return
				}
				if turns > 1 || !r.until.IsZero() {
					row.result.Iteration = turn
				}
				n := row.result.Number
				if !r.options.Share.isMine(r.result.File, row.result.Iteration, n) ||
					r.work.Done.Has("", row.result.Iteration, n) {
					continue
				}
				if !yield(row) {
					return
				}
			}
			if !any {
				return
			}
		}
	}
}

// isRowChosen says whether the command line has a row of the sheet run.
func (r *runner) isRowChosen(number int) bool {
	return r.sheet.Rows == nil || len(r.options.Rows) == 0 ||
		slices.ContainsFunc(r.options.Rows, func(span [2]int) bool { return number >= span[0] && number <= span[1] })
}

// iteration gives the rows of one time through.
func (r *runner) iteration(ctx context.Context) iter.Seq[inputRow] {
	input := r.sheet.Rows
	if input == nil {
		return func(yield func(inputRow) bool) { yield(inputRow{result: &result.Row{}}) }
	}
	return func(yield func(inputRow) bool) {
		var digest hash.Hash
		if input.Source == nil && r.options.Share.N > 1 && r.work.queried == "" {
			digest = sha256.New()
		}
		for row := range takeRows(ctx, input, r.session) {
			if digest != nil {
				digestRow(digest, row)
			}
			column := input.Label
			if column == "" && row.values != nil && len(row.values.Members()) > 0 {
				column = row.values.Members()[0].Key
			}
			if !yield(inputRow{
				values: row.values, wrong: row.wrong,
				result: &result.Row{Number: row.number, Column: column, Label: labelOf(row.values.Get(column)),
					Inputs: row.values},
			}) {
				return
			}
		}
		if digest != nil && ctx.Err() == nil {
			r.work.queried = hex.EncodeToString(digest.Sum(nil))
		}
	}
}

// digestRow adds a row to a digest of all.
func digestRow(digest hash.Hash, row takenRow) {
	values := ""
	if row.values != nil {
		values = document.WriteJSON(row.values, document.Style{})
	}
	_, _ = fmt.Fprintln(digest, row.number, values, row.wrong)
}
