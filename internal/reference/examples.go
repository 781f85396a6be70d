package reference

import (
	"embed"
	"io/fs"
	"path"
	"strings"

	"testbench/internal/standin/demo"
	"testbench/internal/yamlfile"
)

// examples are a bench and sheets with what the demo bench does not have. Vet finds no mistake in them.
//
//go:embed examples
var examples embed.FS

// gathering finds examples of keys in files: of each key the shortest.
type gathering struct {
	known map[string]bool // the forms of the keys
	below map[string]bool // the forms with something below a NAME
	found map[string]string
}

// examplesOf are examples of keys by their form: KEY: VALUE.
func examplesOf(entries []Entry) map[string]string {
	g := &gathering{known: map[string]bool{}, below: map[string]bool{}, found: map[string]string{}}
	for _, e := range entries {
		g.known[e.Form] = true
		for at := 0; ; {
			next := strings.Index(e.Form[at:], " > NAME")
			if next < 0 {
				break
			}
			g.below[e.Form[:at+next]] = true
			at += next + len(" > NAME")
		}
	}
	for _, files := range []fs.FS{demo.Files(), examples} {
		_ = fs.WalkDir(files, ".", func(name string, entry fs.DirEntry, err error) error {
			isFile := path.Ext(name) == ".yaml" && !strings.Contains(name, "contracts/") &&
				!strings.Contains(name, "data/")
			if err != nil || entry.IsDir() || !isFile {
				return err
			}
			data, err := fs.ReadFile(files, name)
			if err == nil {
				g.look(yamlfile.Read(name, data).Root, "")
			}
			return err
		})
	}
	return g.found
}

// look goes through a value that is at a form.
func (g *gathering) look(n *yamlfile.Node, at string) {
	if n == nil {
		return
	}
	for _, item := range n.Items {
		g.look(item, at)
	}
	for _, e := range n.Entries {
		form := strings.TrimPrefix(at+" > "+e.Key.Text, " > ")
		g.note(form, e)
		if !g.known[form] && g.below[at] {
			form = at + " > NAME"
		}
		switch key := e.Key.Text; {
		case at == "" && (key == "steps" || key == "first" || key == "last" || key == "finally"),
			form == "step > steps", form == "step > undo", form == "step > parts" &&
				e.Value.Items[0].Get("step") != nil:
			g.look(e.Value, "step")
		case at == "logins" && e.Value.Get("kind") != nil:
			g.note("logins > NAME > kind", yamlfile.Entry{Key: e.Value.Key("kind"), Value: e.Value.Get("kind")})
			g.look(e.Value, "login: "+e.Value.Get("kind").Text)
		default:
			g.look(e.Value, form)
		}
	}
}

// note takes an entry as an example of a form, where there is no shorter one.
func (g *gathering) note(form string, e yamlfile.Entry) {
	text := flow(e.Key) + ": " + flow(e.Value)
	if len(text) > mostOfExample { // what is below it has examples of its own
		text = flow(e.Key) + ": " + flow(first(e.Value))
	}
	if old := g.found[form]; g.known[form] && (old == "" || len(text) < len(old)) {
		g.found[form] = text
	}
}

// mostOfExample is how long an example may be; of a longer one its first part is shown.
const mostOfExample = 90

// first is a value with the first of its parts alone, at every depth.
func first(n *yamlfile.Node) *yamlfile.Node {
	short := *n
	if len(n.Items) > 0 {
		short.Items = []*yamlfile.Node{first(n.Items[0])}
	}
	if len(n.Entries) > 0 {
		short.Entries = []yamlfile.Entry{{Key: n.Entries[0].Key, Value: first(n.Entries[0].Value)}}
	}
	return &short
}

// flow writes a value on one line.
func flow(n *yamlfile.Node) string {
	var parts []string
	switch n.Kind {
	case yamlfile.Sequence:
		for _, item := range n.Items {
			parts = append(parts, flow(item))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case yamlfile.Mapping:
		for _, e := range n.Entries {
			parts = append(parts, flow(e.Key)+": "+flow(e.Value))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	if n.Quoted || n.Block || strings.ContainsAny(n.Text, ",[]{}") {
		return yamlfile.Quote(n.Text)
	}
	return n.Text
}
