package step

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/lookup"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/table"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Lookup looks into the other side: a database or a folder of the bench.
type Lookup struct {
	single
	sheet.Query
	Find *value.Template // a pattern of files: which there are
	Open *value.Template // the file: what is in it

	At *yamlfile.Node
}

var lookupKind = sheet.Kind{
	Word: "lookup", What: "a lookup",
	Common: mapping.KeysOf("fill, fills, site, until, every, within, states, keep, expect, checks, fields, where, soft",
		anyStep),
	Own: []mapping.Key[sheet.Step]{
		own("lookup", "a database or folder of the bench to look into",
			func(r *mapping.Reader, _ *sheet.Step, l *Lookup, n *yamlfile.Node) {
				l.Database, l.At = r.PlainText(n), n
			}),
		own("sql", "for lookup: a query, with parameters as :name that fill: fills",
			func(r *mapping.Reader, _ *sheet.Step, l *Lookup, n *yamlfile.Node) {
				l.Query.Read(r, n)
			}),
		own("find", "for lookup in a folder: a pattern of files that are to be there",
			func(r *mapping.Reader, _ *sheet.Step, l *Lookup, n *yamlfile.Node) {
				l.Find = r.Template(n)
			}),
		own("open", "for lookup in a folder: the file that is read",
			func(r *mapping.Reader, _ *sheet.Step, l *Lookup, n *yamlfile.Node) {
				l.Open = r.Template(n)
			}),
	},
	New: func() sheet.Action { return &Lookup{} },
}

// Check wants one thing that is asked for, with what fills it.
func (l *Lookup) Check(r *mapping.Reader, s *sheet.Step) bool {
	if l.Database == "" {
		return false
	}
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
		r.File.Report(l.At, "write sql: for a database, find: or open: for a folder",
			"the lookup %q does not say what for", s.Name)
	case len(asks) > 1:
		r.File.Report(l.At, "make two steps of it", "the lookup %q asks for %s", s.Name, strings.Join(asks, " and "))
	case l.Sql != nil:
		l.Fill = s.Fill
		l.Query.Check(r, l.At)
	case s.Fill != nil:
		r.File.Report(s.FillAt, "", "fill: goes with sql:; a folder has no parameters")
	}
	if e := s.At.Get("expect"); e != nil && e.Kind == yamlfile.Mapping {
		for _, entry := range e.Entries {
			if entry.Key.Text != "time" {
				r.File.Report(entry.Key, "write a rule under fields:, as answer: count 1",
					"of a lookup only time: can be expected")
			}
		}
	}
	return true
}

// Target names the database.
func (l *Lookup) Target() string { return "lookup " + l.Database }

// Asks are the placeholders of the names of files.
func (l *Lookup) Asks() ([]*value.Placeholder, []*rule.Condition) {
	var placeholders []*value.Placeholder
	for _, t := range []*value.Template{l.Find, l.Open} {
		if t != nil {
			placeholders = append(placeholders, t.Placeholders()...)
		}
	}
	return placeholders, nil
}

// Vet looks whether the database is there and can be asked so.
func (l *Lookup) Vet(v *Vetting, _ *sheet.Step) {
	b := v.Sheet.Bench
	d := b.Database(l.Database)
	switch {
	case d == nil:
		v.notThere(l.At, "database", l.Database, b.DatabaseNames())
	case l.Sql != nil && d.Kind == lookup.Folder:
		v.report(l.SqlAt, "write find: or open:", "%s is a folder and knows no SQL", d.Name)
	case l.Sql == nil && d.Kind != lookup.Folder:
		v.report(l.At, "write sql:", "%s is a database and has no files", d.Name)
	}
}

// Run looks, again where the step waits, and judges what is found.
func (l *Lookup) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(ctx context.Context, at *place, res *result.Step) {
		if at.IsDry() {
			res.Outcome, res.Reason = result.NotRun, "a dry run looks nothing up"
			return
		}
		start := exchange.Now(ctx)
		took := time.Duration(0)
		ask := func(ctx context.Context) (*judge.Judging, error) {
			begun := time.Now()
			payload, err := l.look(ctx, at, name)
			took = time.Since(begun)
			var missing *lookup.NotThereError
			if errors.As(err, &missing) && s.Wait != nil {
				payload, err = &document.Node{Kind: document.Null}, nil // it may come yet
			}
			if err != nil {
				return nil, err
			}
			return at.judging(s, payload, nil), nil
		}
		j, err := ask(ctx)
		var note string
		var waited []result.Check
		if err == nil && s.Wait != nil {
			j, waited, note, err = judge.UntilMet(ctx, s.Wait, start, j, ask, nil)
		}
		if err != nil {
			failed(ctx, res, err)
			return
		}
		if note != "" {
			res.Notes = append(res.Notes, note)
		}
		j.Checks = waited
		if e := s.Expect.Time; e != nil {
			j.Verdict("expect", "time",
				path.Selection{Matches: []path.Match{{Where: "time", Node: document.NewUntyped(sinceText(took))}}}, e)
		}
		j.FinishPayload(res)
	})
}

// look looks once.
func (l *Lookup) look(ctx context.Context, at *place, name string) (*document.Node, error) {
	if r := at.session.Options.Replay; r != nil {
		return r.Found(name)
	}
	b := at.session.Bench
	d := b.Database(l.Database)
	if d == nil {
		return nil, &bench.NotFoundError{What: "database", Name: l.Database, Known: b.DatabaseNames()}
	}
	if d.Kind != lookup.Folder {
		return session.ListOfQuery(ctx, at.session, &l.Query, at.scope)
	}
	folder, err := session.FolderOf(at.session, d)
	if err != nil {
		return nil, err
	}
	if l.Find != nil {
		pattern, err := l.Find.Text(at.scope, value.Raw)
		if err != nil {
			return nil, err
		}
		return lookup.Find(folder, pattern.Sent)
	}
	file, err := l.Open.Text(at.scope, value.Raw)
	if err != nil {
		return nil, err
	}
	content, _, _, err := lookup.Content(folder, file.Sent, table.Options{})
	return content, err
}

// sinceText writes how long something took, as rules read it.
func sinceText(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
}
