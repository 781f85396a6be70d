package bench

import (
	"strings"

	"testbench/internal/lookup"
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
	Uses []Use
}

var databaseKeys = []Key[Database]{
	{"kind", strings.Join(lookup.Kinds, ", "), func(r *Reader, d *Database, n *yamlfile.Node) {
		d.Kind = r.Choice(n, "kind of database", lookup.Kinds...)
	}},
	{
		"address", "postgres://host/name and so on; a file for SQLite; a folder",
		func(r *Reader, d *Database, n *yamlfile.Node) { d.Address = r.Address(n) },
	},
	{"user", "who asks", func(r *Reader, d *Database, n *yamlfile.Node) { d.User = r.Template(n) }},
	{"password", "the password, from ${sealed.x}", func(r *Reader, d *Database, n *yamlfile.Node) {
		d.Password = r.Secret(n)
	}},
	{"about", "what it is", func(r *Reader, _ *Database, n *yamlfile.Node) { r.Text(n) }},
}

func (r *Reader) database(e yamlfile.Entry) *Database {
	d := &Database{Name: e.Key.Text, at: e.Key}
	inner := *r
	inner.Uses = &d.Uses
	r.Identifier(e.Key, "a database")
	ReadMapping(&inner, "a database", e.Value, d, databaseKeys)
	r.Needs(e.Value, "kind", "address")
	r.OnlyBeside(e.Value, "a database of kind "+d.Kind, databaseTogether, "kind", d.Kind)
	if e.Value.Kind == yamlfile.Mapping && (d.Kind == "" && e.Value.Get("kind") == nil || d.Address == nil) {
		r.File.Report(e.Key, "write kind: postgres and address: postgres://host/name",
			"the database %s needs kind: and address:", d.Name)
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
