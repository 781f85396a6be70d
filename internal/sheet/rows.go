package sheet

import (
	"context"
	"io"
	"iter"
	"os"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/table"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// rowsOf reads where the rows come from, and goes through them once: what is wrong in
// them is told before anything is sent.
func (r *reader) rowsOf(n *yamlfile.Node) *Rows {
	rows := &Rows{at: n}
	switch n.Kind {
	case yamlfile.Scalar:
		rows.From = r.plainText(n)
	case yamlfile.Sequence:
		rows.list = n
	default:
		readMapping(r, "rows", n, rows, rowsKeys)
		r.finishRowsKeys(n, rows)
	}
	var given []string
	for _, one := range []struct {
		word  string
		given bool
	}{{"from", rows.From != ""}, {"list", rows.list != nil}, {"numbers", rows.numbers != ""}, {"days", rows.days != ""}, {"sql", rows.query.sql != nil}} {
		if one.given {
			given = append(given, one.word)
		}
	}
	switch {
	case len(given) == 0:
		r.file.Report(n, "write rows: data/FILE.csv", "rows does not say where they come from")
		return rows
	case len(given) > 1:
		r.file.Report(n, "keep one of them", "rows come from one place: %s", strings.Join(given, " and "))
		return rows
	}
	err := rows.read(r)
	if rows.From == "" {
		rows.From = given[0]
	}
	if err != nil {
		r.file.Report(rows.at, "", "%s: %v", rows.From, err)
		return rows
	}
	if rows.source == nil {
		return rows // its columns are known when it is asked
	}
	if rows.Label != "" && !slices.Contains(rows.source.Columns, rows.Label) {
		r.notThere(rows.at, "column", rows.Label, rows.source.Columns)
	}
	for column := range rows.options.Kinds {
		if !slices.Contains(rows.source.Columns, column) {
			r.notThere(rows.at, "column", column, rows.source.Columns)
		}
	}
	return rows
}

// read gets the rows, but for those of a database.
func (rows *Rows) read(r *reader) (err error) {
	column := rows.column
	switch {
	case rows.query.sql != nil:
		return r.finishQuery(rows.at, &rows.query)
	case rows.list != nil:
		var items []*document.Node
		var t *table.Table
		if items, err = r.values(rows.list); err == nil {
			if t, err = table.Of(items, rows.options.Kinds); err == nil {
				rows.source = t.Source()
			}
		}
	case rows.numbers != "":
		if column == "" {
			column = "number"
		}
		rows.source, err = table.Numbers(rows.numbers, rows.step, column)
	case rows.days != "":
		if column == "" {
			column = "day"
		}
		rows.source, err = table.Days(rows.days, rows.step, column)
	default:
		rows.source, err = table.Open(rows.From, rows.open(r.dir), rows.options)
	}
	return err
}

// open opens the file of the rows.
func (rows *Rows) open(dir string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		full, err := fileInside(dir, rows.From)
		if err != nil {
			return nil, err
		}
		return os.Open(full)
	}
}

// isFile says whether the rows are those of a file of their own.
func (rows *Rows) isFile() bool {
	return rows.list == nil && rows.numbers == "" && rows.days == "" && rows.query.sql == nil
}

// columns are those of the rows; nil where they are not known before a database is
// asked.
func (rows *Rows) columns() []string {
	switch {
	case rows == nil:
		return nil
	case rows.source == nil:
		return rows.query.columns
	}
	return rows.source.Columns
}

// rowCount is how many rows there are; 0 without rows or where that is not known.
func (s *Sheet) rowCount() int {
	if s.Rows == nil || s.Rows.source == nil {
		return 0
	}
	return max(s.Rows.source.Count, 0)
}

// values are the items of a list in the file, without placeholders: they are known
// before anything is.
func (r *reader) values(n *yamlfile.Node) ([]*document.Node, error) {
	var items []*document.Node
	for _, item := range r.list(n) {
		tree := r.tree(item)
		if len(tree.Holes()) > 0 {
			r.file.Report(item, "", "a row of the file itself holds no placeholders")
			continue
		}
		node, err := tree.Node(value.NoNames{})
		if err != nil {
			return nil, err
		}
		items = append(items, node)
	}
	return items, nil
}

// total is how many rows are run; 0 where that is not known.
func (s *Sheet) total(o RunOptions) int {
	count := 1
	if s.Rows != nil {
		count = s.rowCount()
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
	count *= max(o.Turns, 1)
	if o.Share.N > 1 {
		count /= o.Share.N // about so many
	}
	return count
}

// takenRow is a row that is run. For one where the condition cannot be worked out, or
// that cannot be read, wrong says why.
type takenRow struct {
	number int
	values *document.Node
	wrong  string
}

// take goes through the rows that are run: those that the condition lets through, as
// far as sample and limit go.
func (rows *Rows) take(ctx context.Context, s *Session) iter.Seq[takenRow] {
	wanted := rows.filtered(ctx, s)
	if rows.Sample > 0 {
		sample, ordinal := table.NewSample(rows.Sample, rows.Seed), 0
		for row := range wanted {
			sample.Offer(ordinal, row.number)
			ordinal++
		}
		numbers, all := sample.Numbers(), wanted
		wanted = func(yield func(takenRow) bool) {
			for row := range all {
				if _, isTaken := slices.BinarySearch(numbers, row.number); isTaken && !yield(row) {
					return
				}
			}
		}
	}
	if rows.Limit == 0 {
		return wanted
	}
	return func(yield func(takenRow) bool) {
		count := 0
		for row := range wanted {
			if count++; !yield(row) || count == rows.Limit {
				return
			}
		}
	}
}

// filtered goes through the rows that the condition lets through.
func (rows *Rows) filtered(ctx context.Context, s *Session) iter.Seq[takenRow] {
	return func(yield func(takenRow) bool) {
		source := rows.source
		if source == nil {
			source = s.rowsOfQuery(ctx, &rows.query)
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
				verdict := rows.When.Judge(s.data(scope, values, nil, nil, nil))
				if verdict.Unclear {
					row.wrong = "the condition of the rows cannot be worked out: " + verdict.Note
				} else if !verdict.Held {
					continue
				}
			}
			if !yield(row) {
				return
			}
		}
	}
}

var rowsKeys = []key[Rows]{
	{"from", "the file: " + strings.Join(table.Endings, ", "), func(r *reader, rows *Rows, n *yamlfile.Node) { rows.From, rows.at = r.plainText(n), n }},
	{"path", "where the list or the repeated element stands, in JSON and XML", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.options.Path = r.path(n) }},
	{"sheet", "the sheet of a spreadsheet", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.options.Sheet = r.plainText(n) }},
	{"header", "the row of a spreadsheet that names the columns", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.options.Header = r.whole(n, "a row") }},
	{"list", "the rows themselves", func(_ *reader, rows *Rows, n *yamlfile.Node) { rows.list = n }},
	{"numbers", "a span: 1 to 100", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.numbers = r.plainText(n) }},
	{"days", "a span: 2026-11-01 to 2026-11-30", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.days = r.plainText(n) }},
	{"by", "the step of a span", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.step = r.whole(n, "a step") }},
	{"as", "the column of a span", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.column = r.identifier(n, "a column") }},
	{"kinds", "column: text, number or boolean", func(r *reader, rows *Rows, n *yamlfile.Node) {
		rows.options.Kinds = table.Kinds{}
		for _, e := range r.entries(n, "kinds") {
			rows.options.Kinds[e.Key.Text] = r.choice(e.Value, "kind of a column", "text", "number", "boolean")
		}
	}},
	{"when", "a condition: only the rows for which it holds", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.When = r.condition(n) }},
	{"sql", "a query of a database", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.query.read(r, n); rows.at = n }},
	{"database", "the database that the query is for", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.query.database = r.plainText(n) }},
	{"columns", "those that a query gives, so that they are known before it is asked", func(r *reader, rows *Rows, n *yamlfile.Node) {
		for _, item := range r.list(n) {
			rows.query.columns = append(rows.query.columns, r.plainText(item))
		}
	}},
	{"fill", "the parameters of the query", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.query.fill = r.tree(n) }},
	{"label", "the column that names a row in output", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.Label = r.plainText(n) }},
	{"sample", "how many rows, by chance", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.Sample = r.whole(n, "a sample") }},
	{"seed", "decides which rows a sample takes", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.Seed = r.plainText(n) }},
	{"limit", "how many rows at most", func(r *reader, rows *Rows, n *yamlfile.Node) { rows.Limit = r.whole(n, "a limit") }},
}

// whole reads a whole number from 1.
func (r *reader) whole(n *yamlfile.Node, what string) int {
	number, err := strconv.Atoi(r.plainText(n))
	if err != nil || number < 1 {
		r.file.Report(n, "", "%s is a whole number from 1", what)
	}
	return number
}
