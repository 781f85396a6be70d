package mapping

import (
	"slices"
	"strings"

	"testbench/internal/yamlfile"
)

// Together says of a key when it has an effect: only beside one of some keys, or never
// beside others. Tables of it stand with the tables of keys; what they rule out is a
// mistake, so that nothing that is written is passed over.
type Together struct {
	Key     string
	With    []string // one of these must be there; nil for none
	Without []string // none of these may be there
}

// Together reports the keys of a mapping that have no effect there.
func (r *Reader) Together(n *yamlfile.Node, table []Together) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	has := func(name string) bool { return n.Get(name) != nil }
	for _, t := range table {
		at := n.Key(t.Key)
		if at == nil {
			continue
		}
		if t.With != nil && !slices.ContainsFunc(t.With, has) {
			r.File.Report(at, "take it out, or write "+strings.Join(t.With, ": or ")+": too",
				"%s: has no effect without %s:", t.Key, strings.Join(t.With, ": or "))
		}
		if i := slices.IndexFunc(t.Without, has); i >= 0 {
			r.File.Report(at, "keep one of them", "%s: has no effect beside %s:", t.Key, t.Without[i])
		}
	}
}

// OnlyBeside reports the keys of a mapping that have no effect where another key has the
// value it has.
func (r *Reader) OnlyBeside(n *yamlfile.Node, what string, allowed map[string][]string, key, value string) {
	for _, e := range n.Entries {
		values, isBound := allowed[e.Key.Text]
		if isBound && !slices.Contains(values, value) {
			r.File.Report(e.Key, "take it out; it goes with "+key+": "+strings.Join(values, ", "),
				"%s: has no effect at %s", e.Key.Text, what)
		}
	}
}
