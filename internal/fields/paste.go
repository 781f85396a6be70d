package fields

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// AsKeep writes the single values as `keep:`, each under a short name of its own.
func AsKeep(found []Field) string {
	var out strings.Builder
	out.WriteString("keep:\n")
	names := shortNames(found)
	for i, f := range found {
		if f.IsValue() {
			fmt.Fprintf(&out, "  %s: %s\n", names[i], yamlfile.ScalarText(f.Path))
		}
	}
	return out.String()
}

// shortNames gives each field a name that a value can have: its own, with those on the
// way before it as far as it takes to tell it from others.
func shortNames(found []Field) []string {
	names := make([]string, len(found))
	for depth := 1; depth <= 20; depth++ {
		seen := map[string]int{}
		for i := range found {
			if names[i] == "" {
				seen[found[i].nameOf(depth)]++
			}
		}
		for i := range found {
			name := found[i].nameOf(depth)
			if names[i] == "" && found[i].IsValue() && (seen[name] == 1 || depth >= len(found[i].steps)) &&
				!slices.Contains(names, name) {
				names[i] = name
			}
		}
	}
	for i := range found {
		for n := 2; names[i] == ""; n++ {
			if name := fmt.Sprintf("%s_%d", found[i].nameOf(1), n); !slices.Contains(names, name) {
				names[i] = name
			}
		}
	}
	return names
}

// nameOf makes an identifier of the last names on the way to a field.
func (f *Field) nameOf(depth int) string {
	steps := f.steps
	if len(steps) > depth {
		steps = steps[len(steps)-depth:]
	}
	var out strings.Builder
	for _, r := range strings.Join(steps, "_") {
		if r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			out.WriteRune(r)
		} else if out.Len() > 0 && !strings.HasSuffix(out.String(), "_") {
			out.WriteByte('_')
		}
	}
	name := strings.Trim(out.String(), "_")
	if name == "" {
		name = "it"
	}
	if !value.IsIdentifier(name) || value.IsReserved(name) {
		name = "the_" + name
	}
	return name
}

// AsFields writes rules that hold for the document: kinds, and how many there are.
func AsFields(found []Field) string {
	var out strings.Builder
	out.WriteString("fields:\n")
	for _, f := range found {
		if rule := f.rule(); rule != "" {
			fmt.Fprintf(&out, "  %s: %s\n", yamlfile.ScalarText(f.Path), rule)
		}
	}
	return out.String()
}

// rule is a rule in words that holds for the field, or "" where nothing can be said.
func (f *Field) rule() string {
	rule := ""
	switch {
	case f.Kind == "list" && strings.Contains(f.Path, "[*]"):
		rule = "is list" // count would count those that there are
	case f.Kind == "list" && f.Items[0] == f.Items[1]:
		rule = fmt.Sprintf("count %d", f.Items[0])
	case f.Kind == "null":
		rule = "is null"
	case f.IsValue() && !strings.Contains(f.Kind, " or "):
		rule = "is " + f.Kind
	}
	if rule != "" && f.Count < f.Of {
		rule = "optional " + rule
	}
	return rule
}
