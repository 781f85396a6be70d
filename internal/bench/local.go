package bench

import (
	"errors"
	"os"
	"slices"

	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/safefile"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// LocalName is the file beside the bench file with what holds on this machine only: values of
// sites and addresses of services. It is not checked in.
const LocalName = "local.yaml"

// localKeys are what local.yaml may say of a site.
var localKeys = []mapping.Key[Site]{siteKey("set"), siteKey("services")}

func siteKey(name string) mapping.Key[Site] {
	return siteKeys[slices.IndexFunc(siteKeys, func(k mapping.Key[Site]) bool { return k.Name == name })]
}

// localFileKeys are the keys of local.yaml.
var localFileKeys = []mapping.Key[Bench]{
	mapping.NewKey("sites", "sites of the bench by name, with what is other here",
		func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
			for _, e := range r.Entries(n, "sites") {
				site := b.Site(e.Key.Text)
				if site == nil {
					NotThere(r, e.Key, "site", e.Key.Text, b.SiteNames())
					continue
				}
				here := &Site{at: e.Key}
				inner := *r
				inner.Uses = &here.Uses
				mapping.Read(&inner, "a site of "+LocalName, e.Value, here, localKeys)
				// Only what the bench file has can be other here: a word written wrong has no effect.
				merged, err := b.At(site.Name)
				if err != nil {
					continue // its like: is wrong, which is told
				}
				for _, entry := range entriesOf(e.Value.Get("set")) {
					if name := entry.Key.Text; merged.Value(name) == nil {
						NotThere(r, entry.Key, "value of the site", name,
							Names(merged.Set, func(f request.Field) string { return f.Name }))
					}
				}
				for _, entry := range entriesOf(e.Value.Get("services")) {
					if name := entry.Key.Text; b.Service(name) == nil {
						NotThere(r, entry.Key, "service", name, b.ServiceNames())
					}
				}
				site.override(here)
				site.Uses = append(site.Uses, here.Uses...)
			}
		}),
}

func entriesOf(n *yamlfile.Node) []yamlfile.Entry {
	if n == nil {
		return nil
	}
	return n.Entries
}

// readLocal reads local.yaml, where it is there, over the sites of the bench.
func readLocal(b *Bench) error {
	name, err := safefile.Inside(b.Dir, LocalName)
	if err != nil {
		return err
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	b.Local = yamlfile.Read(DisplayName(name), data)
	if b.Local.Root != nil {
		mapping.Read(&mapping.Reader{File: b.Local, Dir: b.Dir, Uses: new([]mapping.Use)}, LocalName, b.Local.Root, b,
			localFileKeys)
	}
	return nil
}

// override puts the values and addresses of another site over those of the site.
func (s *Site) override(other *Site) {
	s.Set = slices.Clone(s.Set)
	for _, f := range other.Set {
		s.set(f)
	}
	if s.Services == nil {
		s.Services = map[string]*value.Template{}
	}
	for name, address := range other.Services {
		s.Services[name] = address
	}
}

func (s *Site) set(f request.Field) {
	for i := range s.Set {
		if s.Set[i].Name == f.Name {
			s.Set[i] = f
			return
		}
	}
	s.Set = append(s.Set, f)
}
