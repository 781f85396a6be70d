package sheet

import (
	"errors"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/lookup"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/yamlfile"
)

// Query is a statement for a database, with what fills its parameters.
type Query struct {
	Database string
	Sql      *lookup.Statement
	SqlAt    *yamlfile.Node
	Fill     *request.Tree
	Columns  []string // as they are expected of rows; nil where nothing says
}

// Read reads a statement.
func (q *Query) Read(r *mapping.Reader, n *yamlfile.Node) {
	q.SqlAt = n
	text := r.Text(n)
	if at := strings.Index(text, "${"); at >= 0 {
		r.File.ReportInside(n, at, "write :name there, and under fill: name: ${…}",
			"a value is not pasted into SQL, it is bound")
	}
	statement, err := lookup.Parse(text)
	var wrong *lookup.SyntaxError
	if errors.As(err, &wrong) {
		r.File.ReportInside(n, wrong.Offset, "", "%s", wrong.Message)
		statement = &lookup.Statement{Source: text}
	}
	q.Sql = statement
}

// Check reports where a statement and what fills it do not fit.
func (q *Query) Check(r *mapping.Reader, at *yamlfile.Node) {
	if q.Database == "" {
		r.File.Report(at, "write database: NAME, one of the bench's databases",
			"the query does not say which database it is for")
	}
	var filled []string
	if q.Fill != nil {
		if len(q.Fill.Fields) == 0 {
			r.File.Report(at, "write NAME: VALUE below it", "the fill: of a query has the names of its parameters")
		}
		for _, f := range q.Fill.Fields {
			filled = append(filled, f.Name)
		}
	}
	for _, name := range q.Sql.Names {
		if !slices.Contains(filled, name) {
			r.File.Report(q.SqlAt, "write fill: and below it "+name+": VALUE", "the parameter :%s is not filled", name)
		}
	}
	for _, name := range filled {
		if !slices.Contains(q.Sql.Names, name) {
			bench.NotThere(r, q.SqlAt, "parameter of the query", name, q.Sql.Names)
		}
	}
}
