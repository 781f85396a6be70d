package reference

import (
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/mapping"
)

// keysOf lists the keys of a schema with what they hold, each with the keys that lead to it.
func keysOf(schema string) []Entry {
	root, err := document.ReadJSON([]byte(schema))
	if err != nil {
		panic(err) // it is made here
	}
	w := &keyWalk{root: root, seen: map[string]bool{}, told: map[string]string{}}
	w.walk(root, "")
	examples := examplesOf(w.entries)
	for i := range w.entries {
		e := &w.entries[i]
		e.Example = examples[e.Form]
		if at := strings.LastIndex(e.About, "; "); at >= 0 && strings.HasSuffix(e.About, unlessSaid) {
			e.About, e.Default = e.About[:at], strings.TrimSuffix(e.About[at+2:], unlessSaid)
		}
	}
	return w.entries
}

// keyWalk goes through the schema of a file and gathers its keys.
type keyWalk struct {
	root    *document.Node
	entries []Entry
	seen    map[string]bool   // definitions that were gone through
	told    map[string]string // mappings that are told, with where
}

// walk takes the keys of a schema, which are below a path.
func (w *keyWalk) walk(n *document.Node, path string) {
	switch {
	case n == nil:
		return
	case n.Kind == document.List:
		for _, item := range n.Items() {
			w.walk(item, path)
		}
		return
	case n.Kind != document.Object:
		return
	}
	if like := w.alike(n, path); like != "" {
		w.refer(path, like)
		return
	}
	if properties := n.Get("properties"); properties != nil {
		for _, m := range properties.Members() {
			at := strings.TrimPrefix(path+" > "+m.Key, " > ")
			w.key(path, at, m)
			w.walk(m.Value, at)
		}
	}
	w.walk(n.Get("anyOf"), path)
	if all := n.Get("allOf"); all != nil {
		for _, one := range all.Items() {
			at := path // a kind of step
			if login := one.Get("if").Get("properties").Get("kind"); login != nil {
				at = ofLogin + login.Get("const").Text
			}
			w.walk(one.Get("then"), at)
		}
	}
	w.walk(n.Get("items"), path)
	if more := n.Get("additionalProperties"); more != nil && more.Kind == document.Object {
		w.walk(more, strings.TrimPrefix(path+" > NAME", " > "))
	}
	if ref := n.Get("$ref"); ref != nil && !w.seen[ref.Text] {
		w.seen[ref.Text] = true // it is told once, under its own name
		name := strings.TrimPrefix(ref.Text, "#/$defs/")
		w.walk(w.root.Get("$defs").Get(name), name)
	}
}

// key takes one key, which is at a place below a path.
func (w *keyWalk) key(path, at string, m document.Member) {
	about := ""
	if d := m.Value.Get("description"); d != nil {
		about = d.Text
	}
	kind := typeInWords(m.Value)
	if isWholeLogin(path) && m.Key == "kind" {
		kind = strings.TrimPrefix(path, ofLogin)
	}
	switch known := w.find(at); {
	case known < 0:
		w.entries = append(w.entries, Entry{Form: at, About: about, Type: kind})
	case w.entries[known].Type == anyValue: // it is said with a kind of step
		w.entries[known].Type = kind
	}
}

func (w *keyWalk) find(path string) int {
	return slices.IndexFunc(w.entries, func(e Entry) bool { return e.Form == path })
}

// alike gives where a mapping with the same keys is told, "" where it is not.
func (w *keyWalk) alike(n *document.Node, path string) string {
	properties := n.Get("properties")
	if properties == nil || len(properties.Members()) < 3 || path == "" || isWholeLogin(path) {
		return ""
	}
	text := document.WriteJSON(n, document.Style{})
	if w.told[text] == "" {
		w.told[text] = path
		return ""
	}
	return w.told[text]
}

// refer says of a key that it holds what another one holds.
func (w *keyWalk) refer(path, like string) {
	i := w.find(path)
	if i < 0 { // what is below a name
		i = w.find(strings.TrimSuffix(path, " > NAME"))
	}
	if i >= 0 && like != path {
		w.entries[i].Type += ": as at " + strings.TrimSuffix(like, " > NAME")
	}
}

// unlessSaid is after what holds where a file does not say a key, at the end of what the key holds.
const unlessSaid = " unless said"

// ofLogin is before the name of a kind of login.
const ofLogin = "login: "

// isWholeLogin says whether a form is that of a kind of login, and not of a key of it.
func isWholeLogin(form string) bool {
	return strings.HasPrefix(form, ofLogin) && !strings.Contains(form, ">")
}

// anyValue is the type of what may hold everything.
const anyValue = "any value"

// typeInWords says what a key may hold, by its schema.
func typeInWords(n *document.Node) string {
	if any := n.Get("anyOf"); any != nil {
		var all []string
		for _, one := range any.Items() {
			if text := typeInWords(one); !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
		return strings.Join(all, ", or ")
	}
	if enum := n.Get("enum"); enum != nil {
		var words []string
		for _, word := range enum.Items() {
			if !slices.Contains(words, word.Text) {
				words = append(words, word.Text)
			}
		}
		return strings.Join(words, ", ")
	}
	if about := mapping.FormInWords(n); about != "" {
		return about
	}
	kind := n.Get("type")
	if kind != nil && kind.Kind == document.List {
		kind = kind.Items()[0]
	}
	switch {
	case n.Get("$ref") != nil:
		return "a step"
	case kind == nil:
		return anyValue
	case kind.Text == "array":
		return "a list"
	case kind.Text == "object":
		return "a mapping"
	}
	return "text"
}
