package bench

import (
	"strings"

	"testbench/internal/lookup"
	"testbench/internal/mapping"
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
	Uses []mapping.Use
}

var databaseKeys = []mapping.Key[Database]{
	mapping.NewKey("kind", strings.Join(lookup.Kinds, ", "), func(r *mapping.Reader, d *Database, n *yamlfile.Node) {
		d.Kind = r.Choice(n, "kind of database", lookup.Kinds...)
	}),
	mapping.AddressKey("address", "postgres://host/name and so on; a file for SQLite; a folder",
		func(d *Database) **value.Template { return &d.Address }),
	mapping.TemplateKey("user", "who asks", func(d *Database) **value.Template { return &d.User }),
	mapping.SecretKey("password", "the password, from ${sealed.x}",
		func(d *Database) **value.Template { return &d.Password }),
	mapping.NewKey("about", "what it is", func(r *mapping.Reader, _ *Database, n *yamlfile.Node) { r.Text(n) }),
}

func readDatabase(r *mapping.Reader, e yamlfile.Entry) *Database {
	d := &Database{Name: e.Key.Text, at: e.Key}
	inner := *r
	inner.Uses = &d.Uses
	r.Identifier(e.Key, "a database")
	mapping.Read(&inner, "a database", e.Value, d, databaseKeys)
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
