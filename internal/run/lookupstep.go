package run

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/lookup"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/sheet"
	"testbench/internal/table"
	"testbench/internal/value"
)

// vetLookup checks that the database is there and can be asked so.
func vetLookup(s *sheet.Sheet, step *sheet.Step) {
	l := step.Lookup
	d := s.Bench.Database(l.Database)
	switch {
	case d == nil:
		readerOf(s).NotThere(l.At, "database", l.Database, s.Bench.DatabaseNames())
	case l.Sql != nil && d.Kind == lookup.Folder:
		s.Source.Report(l.SqlAt, "write find: or open:", "%s is a folder and knows no SQL", d.Name)
	case l.Sql == nil && d.Kind != lookup.Folder:
		s.Source.Report(l.At, "write sql:", "%s is a database and has no files", d.Name)
	}
}

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

// rowsOfQuery is the rows of a sheet that a database gives.
func (s *Session) rowsOfQuery(ctx context.Context, q *sheet.Query) *table.Source {
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
					err = fmt.Errorf("the query gives no column %s; there are: %s", column, document.FewNames(row.Names()))
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

// lookInto looks once.
func lookInto(l *sheet.Lookup, ctx context.Context, s *Session, scope *Values) (*document.Node, error) {
	d := s.Bench.Database(l.Database)
	if d == nil {
		return nil, &bench.NotFoundError{What: "database", Name: l.Database, Known: s.Bench.DatabaseNames()}
	}
	if d.Kind != lookup.Folder {
		db, err := s.database(l.Database)
		if err != nil {
			return nil, err
		}
		fill, err := queryParameters(&l.Query, scope)
		if err != nil {
			return nil, err
		}
		return db.List(ctx, l.Sql, fill)
	}
	settings, err := s.settings(d)
	if err != nil {
		return nil, err
	}
	t := l.Find
	if t == nil {
		t = l.Open
	}
	pattern, err := t.Text(scope, value.Raw)
	if err != nil {
		return nil, err
	}
	if l.Find != nil {
		return lookup.Find(settings.Address, pattern.Sent)
	}
	content, _, _, err := lookup.Content(settings.Address, pattern.Sent, l.Options)
	return content, err
}

// lookup carries out a step that looks into the other side.
func (x *rowRun) lookup(ctx context.Context, s *Session, step *sheet.Step, scope *Values, res *result.Step) {
	start := time.Now()
	took := time.Duration(0)
	ask := func(ctx context.Context) (*judging, error) {
		begun := time.Now()
		payload, err := lookInto(step.Lookup, ctx, s, scope)
		took = time.Since(begun)
		var missing *lookup.NotThereError
		if errors.As(err, &missing) && step.Wait != nil {
			payload, err = &document.Node{Kind: document.Null}, nil // it may come yet
		}
		if err != nil {
			return nil, err
		}
		return x.judgingOf(s, step, scope, payload, nil), nil
	}
	if x.options.Dry {
		res.Outcome, res.Reason = result.NotRun, "a dry run looks nothing up"
		return
	}
	j, err := ask(ctx)
	var note string
	var waited []result.Check
	if err == nil && step.Wait != nil {
		j, waited, note, err = untilMet(step.Wait, ctx, start, j, ask, nil)
	}
	if err != nil {
		x.failed(ctx, res, err)
		return
	}
	if note != "" {
		res.Notes = append(res.Notes, note)
	}
	j.out = waited
	if e := step.Expect.Time; e != nil {
		j.verdict("expect", "time", path.Selection{Matches: []path.Match{{Where: "time", Node: document.NewUntyped(sinceText(took))}}}, e)
	}
	j.finishPayload(res)
}

// failed says that a step could not be carried out.
func (x *rowRun) failed(ctx context.Context, res *result.Step, err error) {
	res.Outcome, res.Reason = result.Faulty, err.Error()
	var unreached *lookup.UnreachedError
	if errors.As(err, &unreached) {
		res.Outcome = result.Unreachable
	}
	if ctx.Err() != nil {
		res.Outcome, res.Reason = result.Interrupted, "interrupted"
	}
}

// judgingOf prepares judging something that is no reply of an exchange.
func (x *rowRun) judgingOf(s *Session, step *sheet.Step, scope *Values, payload, around *document.Node) *judging {
	re := reply.Of(payload, around)
	names := map[string]string{}
	for _, m := range []map[string]string{s.Bench.Names, x.sheet.Names, step.Names} {
		for prefix, space := range m {
			names[prefix] = space
		}
	}
	return &judging{step: step, reply: re, roots: re.Roots(names), scope: scope, data: s.data(scope, scope.row, scope.kept, re, names)}
}

// finishPayload judges fields and conditions, and keeps what is to be kept.
func (j *judging) finishPayload(res *result.Step) {
	isThere := !slices.ContainsFunc(j.out, func(c result.Check) bool { return !c.Held })
	start := len(j.out)
	j.fields()
	j.where()
	if isThere {
		j.keep()
	} else {
		// What was waited for did not come: nothing can be said of it.
		for i := range j.out[start:] {
			j.out[start+i].Judged = false
		}
	}
	res.Checks = j.out
	for _, c := range j.out {
		if c.Kind == "keep" && c.Held {
			res.Kept = append(res.Kept, c.Subject)
		}
	}
	switch {
	case j.err != nil:
		res.Outcome, res.Reason = result.Faulty, j.err.Error()
	case res.Fell() > 0:
		res.Outcome = result.FellShort
	}
	res.Got = shownPayload(j.reply.Payload)
}

// shownPayload is what was found, cut, for the record of a step without an exchange.
func shownPayload(n *document.Node) string {
	if n == nil {
		return ""
	}
	if hidesSecret(n) {
		return secret.Mask
	}
	text := document.WriteJSON(n, document.Style{})
	if n.Kind == document.Element {
		text = document.WriteXML(n, document.Style{})
	}
	return text
}

func hidesSecret(n *document.Node) bool {
	found := n.Secret
	n.Scalars(func(s *document.Node) { found = found || s.Secret })
	return found
}
