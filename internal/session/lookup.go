package session

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/lookup"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/table"
	"testbench/internal/value"
)

// databases are those of a bench that were opened, each once for the session.
type databases struct {
	mutex sync.Mutex
	open  map[string]*lookup.Database
}

func (d *databases) get(s *Session, name string) (*lookup.Database, error) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if db := d.open[name]; db != nil {
		return db, nil
	}
	of := s.Bench.Database(name)
	if of == nil {
		return nil, &bench.NotFoundError{What: "database", Name: name, Known: s.Bench.DatabaseNames()}
	}
	settings, err := databaseSettings(s, of)
	if err != nil {
		return nil, fmt.Errorf("the database %s: %w", name, err)
	}
	db, err := lookup.Open(settings)
	if err != nil {
		return nil, fmt.Errorf("the database %s: %w", name, err)
	}
	if d.open == nil {
		d.open = map[string]*lookup.Database{}
	}
	d.open[name] = db
	return db, nil
}

func (d *databases) close() {
	for _, db := range d.open {
		_ = db.Close()
	}
}

func databaseSettings(s *Session, d *bench.Database) (lookup.Settings, error) {
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
		if !safefile.IsRooted(out.Address) {
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
func RowsOfQuery(ctx context.Context, s *Session, q *sheet.Query) *table.Source {
	return table.NewSource(nil, table.Unknown, func(yield func(*document.Node, error) bool) {
		if s.Options.Replay != nil {
			for _, row := range s.Options.Replay.Rows() {
				if !yield(row, nil) {
					return
				}
			}
			return
		}
		db, err := s.databases.get(s, q.Database)
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
						suggest.FewNames(row.Names()))
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

// ListOfQuery gives what a query finds.
func ListOfQuery(ctx context.Context, s *Session, q *sheet.Query, scope *Values) (*document.Node, error) {
	db, err := s.databases.get(s, q.Database)
	if err != nil {
		return nil, err
	}
	fill, err := queryParameters(q, scope)
	if err != nil {
		return nil, err
	}
	return db.List(ctx, q.Sql, fill)
}

// FolderOf is where a folder of the bench lies.
func FolderOf(s *Session, d *bench.Database) (string, error) {
	settings, err := databaseSettings(s, d)
	return settings.Address, err
}
