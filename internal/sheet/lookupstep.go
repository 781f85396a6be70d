package sheet

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/lookup"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/secret"
	"testbench/internal/table"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Database is another side that steps look into: a database, or a folder.
type Database struct {
	Name     string
	Kind     string
	Address  *value.Template
	User     *value.Template
	Password *value.Template

	at   *yamlfile.Node
	uses []use
}

var databaseKeys = []key[Database]{
	{"kind", strings.Join(lookup.Kinds, ", "), func(r *reader, d *Database, n *yamlfile.Node) {
		d.Kind = r.choice(n, "kind of a database", lookup.Kinds...)
	}},
	{"address", "postgres://host/name and so on; a file for SQLite; a folder", func(r *reader, d *Database, n *yamlfile.Node) { d.Address = r.address(n) }},
	{"user", "who asks", func(r *reader, d *Database, n *yamlfile.Node) { d.User = r.template(n) }},
	{"password", "the password, from ${sealed.x}", func(r *reader, d *Database, n *yamlfile.Node) { d.Password = r.secret(n) }},
	{"about", "what it is", func(r *reader, _ *Database, n *yamlfile.Node) { r.text(n) }},
}

func (r *reader) database(e yamlfile.Entry) *Database {
	d := &Database{Name: e.Key.Text, at: e.Key}
	inner := *r
	inner.uses = &d.uses
	r.identifier(e.Key, "a database")
	readMapping(&inner, "a database", e.Value, d, databaseKeys)
	r.onlyBeside(e.Value, "a database of kind "+d.Kind, databaseTogether, "kind", d.Kind)
	if e.Value.Kind == yamlfile.Mapping && (d.Kind == "" && e.Value.Get("kind") == nil || d.Address == nil) {
		r.file.Report(e.Key, "write kind: postgres and address: postgres://host/name", "the database %s needs kind: and address:", d.Name)
	}
	return d
}

// Database returns a database of the bench by its name, or nil.
func (b *Bench) Database(name string) *Database {
	for _, d := range b.Databases {
		if d.Name == name {
			return d
		}
	}
	return nil
}

// DatabaseNames lists the databases of the bench.
func (b *Bench) DatabaseNames() []string {
	var names []string
	for _, d := range b.Databases {
		names = append(names, d.Name)
	}
	return names
}

// query is a statement for a database, with what fills its parameters.
type query struct {
	database string
	sql      *lookup.Statement
	sqlAt    *yamlfile.Node
	fill     *request.Tree
	columns  []string // as they are expected of rows; nil where nothing says
}

func (q *query) read(r *reader, n *yamlfile.Node) {
	q.sqlAt = n
	text := r.text(n)
	if at := strings.Index(text, "${"); at >= 0 {
		r.file.ReportInside(n, at, "write :name there, and under fill: name: ${…}", "a value is not pasted into SQL, it is bound")
	}
	statement, err := lookup.Parse(text)
	var wrong *lookup.SyntaxError
	if errors.As(err, &wrong) {
		r.file.ReportInside(n, wrong.Offset, "", "%s", wrong.Message)
		statement = &lookup.Statement{Source: text}
	}
	q.sql = statement
}

// finishQuery checks that a statement and what fills it fit.
func (r *reader) finishQuery(at *yamlfile.Node, q *query) error {
	if q.database == "" {
		r.file.Report(at, "write database: NAME, one of the bench's databases", "the query does not say which database it is for")
	}
	var filled []string
	if q.fill != nil {
		for _, f := range q.fill.Fields {
			filled = append(filled, f.Name)
		}
	}
	for _, name := range q.sql.Names {
		if !slices.Contains(filled, name) {
			r.file.Report(q.sqlAt, "write fill: and below it "+name+": VALUE", "the parameter :%s is not filled", name)
		}
	}
	for _, name := range filled {
		if !slices.Contains(q.sql.Names, name) {
			r.notThere(q.sqlAt, "parameter of the query", name, q.sql.Names)
		}
	}
	return nil
}

// Lookup is what a step looks for on the other side.
type Lookup struct {
	query
	Find    *value.Template // a pattern of files: which there are
	Open    *value.Template // the file: what is in it
	options table.Options
	at      *yamlfile.Node
}

// looking is the step's lookup, made where a key of it is met.
func (s *Step) looking() *Lookup {
	if s.Lookup == nil {
		s.Lookup = &Lookup{}
	}
	return s.Lookup
}

// finishLookup checks that a lookup asks for something.
func (r *reader) finishLookup(s *Step) {
	l := s.Lookup
	var asks []string
	for _, one := range []struct {
		word  string
		given bool
	}{{"sql", l.sql != nil}, {"find", l.Find != nil}, {"open", l.Open != nil}} {
		if one.given {
			asks = append(asks, one.word)
		}
	}
	switch {
	case len(asks) == 0:
		r.file.Report(l.at, "write sql: for a database, find: or open: for a folder", "the lookup %q does not say what for", s.Name)
	case len(asks) > 1:
		r.file.Report(l.at, "make two steps of it", "the lookup %q asks for %s", s.Name, strings.Join(asks, " and "))
	case l.sql != nil:
		l.fill = s.Fill
		_ = r.finishQuery(l.at, &l.query)
	case s.Fill != nil:
		r.file.Report(s.fillAt, "", "fill: goes with sql:; a folder has no parameters")
	}
	if e := s.at.Get("expect"); e != nil && e.Kind == yamlfile.Mapping {
		for _, entry := range e.Entries {
			if entry.Key.Text != "time" {
				r.file.Report(entry.Key, "write a rule under fields:, as answer: count 1", "of a lookup only time: can be expected")
			}
		}
	}
}

// vetLookup checks that the database is there and can be asked so.
func (s *Sheet) vetLookup(step *Step) {
	l := step.Lookup
	d := s.bench.Database(l.database)
	switch {
	case d == nil:
		s.reader().notThere(l.at, "database", l.database, s.bench.DatabaseNames())
	case l.sql != nil && d.Kind == lookup.Folder:
		s.file.Report(l.sqlAt, "write find: or open:", "%s is a folder and knows no SQL", d.Name)
	case l.sql == nil && d.Kind != lookup.Folder:
		s.file.Report(l.at, "write sql:", "%s is a database and has no files", d.Name)
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
		return nil, &NotFoundError{"database", name, s.Bench.DatabaseNames()}
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

func (s *Session) settings(d *Database) (lookup.Settings, error) {
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

// parameters fills in what a statement asks for.
func (q *query) parameters(scope *Scope) (map[string]*document.Node, error) {
	out := map[string]*document.Node{}
	if q.fill == nil {
		return out, nil
	}
	for _, f := range q.fill.Fields {
		node, err := f.Value.Node(scope)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		out[f.Name] = node
	}
	return out, nil
}

// rowsOfQuery is the rows of a sheet that a database gives.
func (s *Session) rowsOfQuery(ctx context.Context, q *query) *table.Source {
	return table.NewSource(nil, table.Unknown, func(yield func(*document.Node, error) bool) {
		db, err := s.database(q.database)
		var fill map[string]*document.Node
		if err == nil {
			fill, err = q.parameters(s.Scope(nil, nil))
		}
		if err != nil {
			yield(nil, err)
			return
		}
		for row, err := range db.Query(ctx, q.sql, fill) {
			for _, column := range q.columns {
				if err == nil && row.Get(column) == nil {
					err = fmt.Errorf("the query gives no column %s; there are: %s", column, document.FewNames(row.Names()))
				}
			}
			if err != nil {
				err = fmt.Errorf("the database %s: %w", q.database, err)
			}
			if !yield(row, err) {
				return
			}
		}
	})
}

// look looks once.
func (l *Lookup) look(ctx context.Context, s *Session, scope *Scope) (*document.Node, error) {
	d := s.Bench.Database(l.database)
	if d == nil {
		return nil, &NotFoundError{"database", l.database, s.Bench.DatabaseNames()}
	}
	if d.Kind != lookup.Folder {
		db, err := s.database(l.database)
		if err != nil {
			return nil, err
		}
		fill, err := l.parameters(scope)
		if err != nil {
			return nil, err
		}
		return db.List(ctx, l.sql, fill)
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
	content, _, _, err := lookup.Content(settings.Address, pattern.Sent, l.options)
	return content, err
}

// lookup carries out a step that looks into the other side.
func (x *rowRun) lookup(ctx context.Context, s *Session, step *Step, scope *Scope, result *StepResult) {
	start := time.Now()
	took := time.Duration(0)
	ask := func(ctx context.Context) (*judging, error) {
		begun := time.Now()
		payload, err := step.Lookup.look(ctx, s, scope)
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
		result.Outcome, result.Reason = NotRun, "a dry run looks nothing up"
		return
	}
	j, err := ask(ctx)
	var note string
	var waited []Check
	if err == nil && step.Wait != nil {
		j, waited, note, err = step.Wait.until(ctx, start, j, ask, nil)
	}
	if err != nil {
		x.failed(ctx, result, err)
		return
	}
	if note != "" {
		result.Notes = append(result.Notes, note)
	}
	j.out = waited
	if e := step.Expect.Time; e != nil {
		j.verdict("expect", "time", path.Selection{Matches: []path.Match{{Where: "time", Node: document.NewUntyped(sinceText(took))}}}, e)
	}
	j.finishPayload(result)
}

// failed says that a step could not be carried out.
func (x *rowRun) failed(ctx context.Context, result *StepResult, err error) {
	result.Outcome, result.Reason = Faulty, err.Error()
	var unreached *lookup.UnreachedError
	if errors.As(err, &unreached) {
		result.Outcome = Unreachable
	}
	if ctx.Err() != nil {
		result.Outcome, result.Reason = Interrupted, "interrupted"
	}
}

// judgingOf prepares judging something that is no reply of an exchange.
func (x *rowRun) judgingOf(s *Session, step *Step, scope *Scope, payload, around *document.Node) *judging {
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
func (j *judging) finishPayload(result *StepResult) {
	isThere := !slices.ContainsFunc(j.out, func(c Check) bool { return !c.Held })
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
	result.Checks = j.out
	for _, c := range j.out {
		if c.Kind == "keep" && c.Held {
			result.Kept = append(result.Kept, c.Subject)
		}
	}
	switch {
	case j.err != nil:
		result.Outcome, result.Reason = Faulty, j.err.Error()
	case result.Fell() > 0:
		result.Outcome = FellShort
	}
	result.Got = shownPayload(j.reply.Payload)
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
