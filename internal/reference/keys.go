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
	var entries []Entry
	seen := map[string]bool{}
	told := map[string]string{} // mappings that are told, with where
	alike := func(n *document.Node, path string) string {
		properties := n.Get("properties")
		if properties == nil || len(properties.Members()) < 3 || path == "" || isWholeLogin(path) {
			return ""
		}
		text := document.WriteJSON(n, document.Style{})
		if told[text] == "" {
			told[text] = path
			return ""
		}
		return told[text]
	}
	as := func(path, like string) {
		i := slices.IndexFunc(entries, func(e Entry) bool { return e.Form == path })
		if i < 0 { // what is below a name
			i = slices.IndexFunc(entries, func(e Entry) bool { return e.Form == strings.TrimSuffix(path, " > NAME") })
		}
		if i >= 0 && like != path {
			entries[i].Type += ": as at " + strings.TrimSuffix(like, " > NAME")
		}
	}
	var walk func(n *document.Node, path string)
	walk = func(n *document.Node, path string) {
		switch {
		case n == nil:
		case n.Kind == document.List:
			for _, item := range n.Items() {
				walk(item, path)
			}
		case n.Kind == document.Object:
			properties := n.Get("properties")
			if properties == nil {
				properties = document.NewObject()
			}
			if like := alike(n, path); like != "" {
				as(path, like)
				return
			}
			for _, m := range properties.Members() {
				at := strings.TrimPrefix(path+" > "+m.Key, " > ")
				about := ""
				if d := m.Value.Get("description"); d != nil {
					about = d.Text
				}
				kind := typeInWords(m.Value)
				if isWholeLogin(path) && m.Key == "kind" {
					kind = strings.TrimPrefix(path, ofLogin)
				}
				switch known := slices.IndexFunc(entries, func(e Entry) bool { return e.Form == at }); {
				case known < 0:
					entries = append(entries, Entry{Form: at, About: about, Type: kind})
				case entries[known].Type == anyValue: // it is said with a kind of step
					entries[known].Type = kind
				}
				walk(m.Value, at)
			}
			walk(n.Get("anyOf"), path)
			if all := n.Get("allOf"); all != nil {
				for _, one := range all.Items() {
					at := path // a kind of step
					if login := one.Get("if").Get("properties").Get("kind"); login != nil {
						at = ofLogin + login.Get("const").Text
					}
					walk(one.Get("then"), at)
				}
			}
			walk(n.Get("items"), path)
			if more := n.Get("additionalProperties"); more != nil && more.Kind == document.Object {
				walk(more, strings.TrimPrefix(path+" > NAME", " > "))
			}
			if ref := n.Get("$ref"); ref != nil && !seen[ref.Text] {
				seen[ref.Text] = true // it is told once, under its own name
				name := strings.TrimPrefix(ref.Text, "#/$defs/")
				walk(root.Get("$defs").Get(name), name)
			}
		}
	}
	walk(root, "")
	examples := examplesOf(entries)
	for i := range entries {
		e := &entries[i]
		e.Example = examples[e.Form]
		if at := strings.LastIndex(e.About, "; "); at >= 0 && strings.HasSuffix(e.About, unlessSaid) {
			e.About, e.Default = e.About[:at], strings.TrimSuffix(e.About[at+2:], unlessSaid)
		}
	}
	return entries
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
