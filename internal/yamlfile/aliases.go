package yamlfile

import (
	"slices"

	"go.yaml.in/yaml/v4"
)

// aliases are the values of a file that stand in several places (YAML 1.2.2, 7.1).
type aliases struct {
	open    []*yaml.Node        // the anchors whose values are being read
	used    map[*yaml.Node]bool // the anchors that an alias names
	written int                 // how many values aliases have been written out to
}

// mostAliased bounds the values that the aliases of a file stand for: a list of aliases of
// lists of aliases grows without end.
const mostAliased = 100_000

// unusedAnchors reports anchors that no alias names: most likely the sign was meant as a part
// of the value, which lost its first word.
func (f *File) unusedAnchors(y *yaml.Node) {
	if y.Anchor != "" && !f.aliases.used[y] {
		f.ReportAt(y.Line, y.Column, "put the value into quotes, or use the anchor: *"+y.Anchor,
			"YAML takes &%s for an anchor, which nothing uses", y.Anchor)
	}
	for _, inner := range y.Content {
		f.unusedAnchors(inner)
	}
}

// alias gives what an alias stands for, nil where that is refused.
func (f *File) alias(y *yaml.Node) *Node {
	f.aliases.used[y.Alias] = true
	refuse := func(format string, args ...any) *Node {
		f.ReportAt(y.Line, y.Column, "write the value out", format, args...)
		return &Node{Line: y.Line, Column: y.Column}
	}
	if slices.Contains(f.aliases.open, y.Alias) {
		return refuse("the alias *%s stands inside the value it stands for", y.Value)
	}
	if f.aliases.written > mostAliased {
		return refuse("the aliases of this file stand for more than %d values", mostAliased)
	}
	f.aliases.written++
	return f.convert(y.Alias)
}

// merged gives the entries that a merge key (<<, of YAML 1.1) brings into a mapping: those of a
// mapping, or of a list of mappings, the first one first. What the mapping says itself is before
// them.
func (f *File) merged(into, from *yaml.Node) []Entry {
	seen := map[string]bool{}
	for i := 0; i+1 < len(into.Content); i += 2 {
		seen[into.Content[i].Value] = true
	}
	value := f.convert(from)
	all := []*Node{value}
	if value.Kind == Sequence {
		all = value.Items
	}
	var entries []Entry
	for _, one := range all {
		if one.Kind != Mapping {
			f.ReportAt(from.Line, from.Column, "write <<: *NAME, where NAME is the anchor of a mapping",
				"<< takes in a mapping or a list of mappings, and this is %s", one.Kind)
			continue
		}
		for _, entry := range one.Entries {
			if !seen[entry.Key.Text] {
				seen[entry.Key.Text] = true
				entries = append(entries, entry)
			}
		}
	}
	return entries
}
