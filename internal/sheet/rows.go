package sheet

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/table"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// readRows reads where the rows come from, and goes through them once: what is wrong in
// them is told before anything is sent.
func readRows(r *mapping.Reader, n *yamlfile.Node) *Rows {
	rows := &Rows{At: n}
	switch n.Kind {
	case yamlfile.Scalar:
		rows.From = r.PlainText(n)
	case yamlfile.Sequence:
		rows.list = n
	default:
		mapping.Read(r, "rows", n, rows, rowsKeys)
		checkRowsKeys(r, n, rows)
	}
	var given []string
	for _, one := range []struct {
		word  string
		given bool
	}{
		{"from", rows.From != ""},
		{"list", rows.list != nil},
		{"numbers", rows.numbers != ""},
		{"days", rows.days != ""},
		{"sql", rows.Query.Sql != nil},
	} {
		if one.given {
			given = append(given, one.word)
		}
	}
	switch {
	case len(given) == 0:
		r.File.Report(n, "write rows: data/FILE.csv", "rows does not say where they come from")
		return rows
	case len(given) > 1:
		r.File.Report(n, "keep one of them", "rows come from one place: %s", strings.Join(given, " and "))
		return rows
	}
	err := rows.read(r)
	if rows.From == "" {
		rows.From = given[0]
	}
	if err != nil {
		r.File.Report(rows.At, "", "%s: %v", rows.From, err)
		return rows
	}
	if rows.Source == nil {
		return rows // its columns are known when it is asked
	}
	if rows.Label != "" && !slices.Contains(rows.Source.Columns, rows.Label) {
		bench.NotThere(r, rows.At, "column", rows.Label, rows.Source.Columns)
	}
	for column := range rows.options.Kinds {
		if !slices.Contains(rows.Source.Columns, column) {
			bench.NotThere(r, rows.At, "column", column, rows.Source.Columns)
		}
	}
	return rows
}

// read gets the rows, but for those of a database.
func (rows *Rows) read(r *mapping.Reader) (err error) {
	column := rows.column
	switch {
	case rows.Query.Sql != nil:
		rows.Query.Check(r, rows.At)
	case rows.list != nil:
		var items []*document.Node
		var t *table.Table
		if items, err = readValues(r, rows.list); err == nil {
			if t, err = table.Of(items, rows.options.Kinds); err == nil {
				rows.Source = t.Source()
			}
		}
	case rows.numbers != "":
		if column == "" {
			column = "number"
		}
		rows.Source, err = table.Numbers(rows.numbers, rows.step, column)
	case rows.days != "":
		if column == "" {
			column = "day"
		}
		rows.Source, err = table.Days(rows.days, rows.step, column)
	default:
		rows.Source, err = table.Open(rows.From, rows.open(r.Dir), rows.options)
	}
	return err
}

// open opens the file of the rows.
func (rows *Rows) open(dir string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) {
		full, err := mapping.FileInside(dir, rows.From)
		if err != nil {
			return nil, err
		}
		return os.Open(full)
	}
}

// IsFile says whether the rows are those of a file of their own.
func (rows *Rows) IsFile() bool {
	return rows.From != "" && rows.list == nil && rows.numbers == "" && rows.days == "" && rows.Query.Sql == nil
}

// Columns are those of the rows; nil where they are not known before a database is
// asked.
func (rows *Rows) Columns() []string {
	switch {
	case rows == nil:
		return nil
	case rows.Source == nil:
		return rows.Query.Columns
	}
	return rows.Source.Columns
}

// RowCount is how many rows there are; 0 without rows or where that is not known.
func (s *Sheet) RowCount() int {
	if s.Rows == nil || s.Rows.Source == nil {
		return 0
	}
	return max(s.Rows.Source.Count, 0)
}

// readValues are the items of a list in the file, without placeholders: they are known
// before anything is.
func readValues(r *mapping.Reader, n *yamlfile.Node) ([]*document.Node, error) {
	var items []*document.Node
	for _, item := range r.List(n) {
		tree := r.Tree(item)
		if len(tree.Placeholders()) > 0 {
			r.File.Report(item, "", "a row of the file itself holds no placeholders")
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

var rowsKeys = []mapping.Key[Rows]{
	mapping.NewKey("from", "the file: "+strings.Join(table.Endings, ", "),
		func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) { rows.From, rows.At = r.PlainText(n), n }),
	mapping.PathKey("path", "where the list or the repeated element is, in JSON and XML",
		func(rows *Rows) **path.Path { return &rows.options.Path }),
	mapping.TextKey("sheet", "the sheet of a spreadsheet; the first unless said",
		func(rows *Rows) *string { return &rows.options.Sheet }),
	mapping.NewKey("header", "the row of a spreadsheet that names the columns; 1 unless said",
		func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) { rows.options.Header = r.Whole(n, "header") }),
	mapping.NewKey("list", "the rows themselves",
		func(_ *mapping.Reader, rows *Rows, n *yamlfile.Node) { rows.list = n }),
	mapping.TextKey("numbers", "a span: 1 to 100", func(rows *Rows) *string { return &rows.numbers }),
	mapping.TextKey("days", "a span: 2026-11-01 to 2026-11-30", func(rows *Rows) *string { return &rows.days }),
	mapping.NewKey("by", "the step of a span; 1 unless said", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.step = r.Whole(n, "by")
	}),
	mapping.NewKey("as", "the column of a span", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.column = r.Identifier(n, "a column")
	}),
	mapping.NewKey("kinds", "column: text, number or boolean", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.options.Kinds = table.Kinds{}
		for _, e := range r.Entries(n, "kinds") {
			rows.options.Kinds[e.Key.Text] = r.Choice(e.Value, "kind of a column", "text", "number", "boolean")
		}
	}),
	mapping.NewKey("when", "a condition: only the rows for which it holds",
		func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) { rows.When = r.Condition(n) }),
	mapping.NewKey("sql", "a query of a database", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.Query.Read(r, n)
		rows.At = n
	}),
	mapping.TextKey("database", "the database that the query is for",
		func(rows *Rows) *string { return &rows.Query.Database }),
	mapping.NewKey("columns", "those that a query gives, so that they are known before it is asked",
		func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				rows.Query.Columns = append(rows.Query.Columns, r.PlainText(item))
			}
		}),
	mapping.TreeKey("fill", "the parameters of the query", func(rows *Rows) **request.Tree { return &rows.Query.Fill }),
	mapping.TextKey("label", "the column that names a row in output; the first unless said",
		func(rows *Rows) *string { return &rows.Label }),
	mapping.NewKey("sample", "how many rows, by chance", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.Sample = r.Whole(n, "sample")
	}),
	mapping.TextKey("seed", "decides which rows a sample takes", func(rows *Rows) *string { return &rows.Seed }),
	mapping.NewKey("limit", "how many rows at most", func(r *mapping.Reader, rows *Rows, n *yamlfile.Node) {
		rows.Limit = r.Whole(n, "limit")
	}),
}

var (
	rowsTogether = []mapping.Together{
		{Key: "path", With: []string{"from"}, Without: nil},
		{Key: "sheet", With: []string{"from"}, Without: nil},
		{Key: "header", With: []string{"from"}, Without: nil},
		{Key: "kinds", With: []string{"from", "list"}, Without: nil},
		{Key: "by", With: []string{"numbers", "days"}, Without: nil},
		{Key: "as", With: []string{"numbers", "days"}, Without: nil},
		{Key: "database", With: []string{"sql"}, Without: nil},
		{Key: "fill", With: []string{"sql"}, Without: nil},
		{Key: "columns", With: []string{"sql"}, Without: nil},
		{Key: "seed", With: []string{"sample"}, Without: nil},
	}

	// rowsEndings are the keys of rows that belong to some kinds of files.
	rowsEndings = map[string][]string{"path": {".json", ".xml"}, "sheet": {".xlsx"}, "header": {".xlsx"}}
)

// checkRowsKeys reports keys of rows that have no effect for where the rows come from.
func checkRowsKeys(r *mapping.Reader, n *yamlfile.Node, rows *Rows) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	r.Together(n, rowsTogether)
	if rows.IsFile() {
		r.OnlyBeside(n, "rows of "+rows.From, rowsEndings, "from", strings.ToLower(filepath.Ext(rows.From)))
	}
}

// IsOf says whether the rows are those of a sheet of a spreadsheet, which is their file.
func (rows *Rows) IsOf(file, sheet string) bool {
	name := rows.options.Sheet
	if name == "" {
		name = table.FirstSheet(file)
	}
	return strings.EqualFold(name, sheet)
}
