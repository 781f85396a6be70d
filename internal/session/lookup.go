package session

import (
	"context"
	"fmt"
	"path/filepath"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/lookup"
	"testbench/internal/sheet"
	"testbench/internal/table"
	"testbench/internal/value"
)

// database opens a database of the bench, once for the session.
func (s *Session) database(name string) (*lookup.Database, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if db := s.databases[name]; db != nil {
		return db, nil
	}
	d := s.Bench.Database(name)
	if d == nil {
		return nil, &bench.NotFoundError{What: "database", Name: name, Known: s.Bench.DatabaseNames()}
	}
	s.mutex.Unlock()
	settings, err := s.settings(d)
	s.mutex.Lock()
	if err != nil {
		return nil, fmt.Errorf("the database %s: %w", name, err)
	}
	db, err := lookup.Open(settings)
	if err != nil {
		return nil, fmt.Errorf("the database %s: %w", name, err)
	}
	if s.databases == nil {
		s.databases = map[string]*lookup.Database{}
	}
	s.databases[name] = db
	return db, nil
}

func (s *Session) settings(d *bench.Database) (lookup.Settings, error) {
	scope := s.Scope(nil, nil)
	text := func(t *value.Template) (string, error) {
		if t == nil {
			return "", nil
		}
		out, err := t.Text(scope, value.Raw)
		return out.Sent, err
	}
	out := lookup.Settings{Kind: d.Kind}
	var err error
	if out.Address, err = text(d.Address); err != nil {
		return out, err
	}
	if d.Kind == lookup.SQLite || d.Kind == lookup.Folder {
		if !filepath.IsAbs(out.Address) {
			out.Address = filepath.Join(s.Bench.Dir, out.Address)
		}
		return out, nil
	}
	if out.User, err = text(d.User); err != nil {
		return out, err
	}
	out.Password, err = text(d.Password)
	return out, err
}

// queryParameters fills in what a statement asks for.
func queryParameters(q *sheet.Query, scope *Values) (map[string]*document.Node, error) {
	out := map[string]*document.Node{}
	if q.Fill == nil {
		return out, nil
	}
	for _, f := range q.Fill.Fields {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		out[f.Name] = node
	}
	return out, nil
}

// RowsOfQuery is the rows of a sheet that a database gives.
func (s *Session) RowsOfQuery(ctx context.Context, q *sheet.Query) *table.Source {
	return table.NewSource(nil, table.Unknown, func(yield func(*document.Node, error) bool) {
		db, err := s.database(q.Database)
		var fill map[string]*document.Node
		if err == nil {
			fill, err = queryParameters(q, s.Scope(nil, nil))
		}
		if err != nil {
			yield(nil, err)
			return
		}
		for row, err := range db.Query(ctx, q.Sql, fill) {
			for _, column := range q.Columns {
				if err == nil && row.Get(column) == nil {
					err = fmt.Errorf("the query gives no column %s; there are: %s", column,
						document.FewNames(row.Names()))
				}
			}
			if err != nil {
				err = fmt.Errorf("the database %s: %w", q.Database, err)
			}
			if !yield(row, err) {
				return
			}
		}
	})
}

// List gives what a query finds.
func (s *Session) List(ctx context.Context, q *sheet.Query, scope *Values) (*document.Node, error) {
	db, err := s.database(q.Database)
	if err != nil {
		return nil, err
	}
	fill, err := queryParameters(q, scope)
	if err != nil {
		return nil, err
	}
	return db.List(ctx, q.Sql, fill)
}

// Folder is where a folder of the bench lies.
func (s *Session) Folder(d *bench.Database) (string, error) {
	settings, err := s.settings(d)
	return settings.Address, err
}
