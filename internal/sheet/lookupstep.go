package sheet

import (
	"errors"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/lookup"
	"testbench/internal/request"
	"testbench/internal/table"
	"testbench/internal/value"
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

func (q *Query) read(r *bench.Reader, n *yamlfile.Node) {
	q.SqlAt = n
	text := r.Text(n)
	if at := strings.Index(text, "${"); at >= 0 {
		r.File.ReportInside(n, at, "write :name there, and under fill: name: ${…}", "a value is not pasted into SQL, it is bound")
	}
	statement, err := lookup.Parse(text)
	var wrong *lookup.SyntaxError
	if errors.As(err, &wrong) {
		r.File.ReportInside(n, wrong.Offset, "", "%s", wrong.Message)
		statement = &lookup.Statement{Source: text}
	}
	q.Sql = statement
}

// finishQuery checks that a statement and what fills it fit.
func finishQuery(r *bench.Reader, at *yamlfile.Node, q *Query) error {
	if q.Database == "" {
		r.File.Report(at, "write database: NAME, one of the bench's databases", "the query does not say which database it is for")
	}
	var filled []string
	if q.Fill != nil {
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
			r.NotThere(q.SqlAt, "parameter of the query", name, q.Sql.Names)
		}
	}
	return nil
}

// Lookup is what a step looks for on the other side.
type Lookup struct {
	Query
	Find    *value.Template // a pattern of files: which there are
	Open    *value.Template // the file: what is in it
	Options table.Options
	At      *yamlfile.Node
}

// looking is the step's lookup, made where a key of it is met.
func (s *Step) looking() *Lookup {
	if s.Lookup == nil {
		s.Lookup = &Lookup{}
	}
	return s.Lookup
}

// finishLookup checks that a lookup asks for something.
func finishLookup(r *bench.Reader, s *Step) {
	l := s.Lookup
	var asks []string
	for _, one := range []struct {
		word  string
		given bool
	}{{"sql", l.Sql != nil}, {"find", l.Find != nil}, {"open", l.Open != nil}} {
		if one.given {
			asks = append(asks, one.word)
		}
	}
	switch {
	case len(asks) == 0:
		r.File.Report(l.At, "write sql: for a database, find: or open: for a folder", "the lookup %q does not say what for", s.Name)
	case len(asks) > 1:
		r.File.Report(l.At, "make two steps of it", "the lookup %q asks for %s", s.Name, strings.Join(asks, " and "))
	case l.Sql != nil:
		l.Fill = s.Fill
		_ = finishQuery(r, l.At, &l.Query)
	case s.Fill != nil:
		r.File.Report(s.FillAt, "", "fill: goes with sql:; a folder has no parameters")
	}
	if e := s.At.Get("expect"); e != nil && e.Kind == yamlfile.Mapping {
		for _, entry := range e.Entries {
			if entry.Key.Text != "time" {
				r.File.Report(entry.Key, "write a rule under fields:, as answer: count 1", "of a lookup only time: can be expected")
			}
		}
	}
}
