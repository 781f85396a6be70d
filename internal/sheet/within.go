package sheet

import (
	"fmt"
	"slices"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// MostDepth bounds sheets that run sheets.
const MostDepth = 8

// Param is a value that a sheet is given by whoever runs it.
type Param struct {
	Name     string
	Required bool
	Default  *document.Node
	At       *yamlfile.Node
}

// readTakes reads the values that a sheet is to be given: required, or what is meant
// without one.
func readTakes(r *mapping.Reader, n *yamlfile.Node) []Param {
	var out []Param
	for _, e := range r.Entries(n, "takes") {
		t := Param{Name: r.Identifier(e.Key, "a value"), At: e.Key}
		if e.Value.Kind == yamlfile.Scalar && e.Value.Text == "required" {
			t.Required = true
		} else if tree := r.Tree(e.Value); len(tree.Placeholders()) > 0 {
			r.File.Report(e.Value, "", "what is meant without a value holds no placeholders")
		} else if node, err := tree.Node(value.NoNames{}); err == nil {
			t.Default = node
		}
		out = append(out, t)
	}
	return out
}

func (s *Sheet) TakeNames() []string {
	var names []string
	for _, t := range s.Takes {
		names = append(names, t.Name)
	}
	return names
}

// Given are the values that a sheet begins with: what it is filled with, else what is
// meant without.
func (s *Sheet) Given(fill map[string]*document.Node) (map[string]*document.Node, error) {
	out := map[string]*document.Node{}
	for _, t := range s.Takes {
		switch node := fill[t.Name]; {
		case node != nil:
			out[t.Name] = node
		case t.Default != nil:
			out[t.Name] = t.Default
		case t.Required:
			return nil, fmt.Errorf("the sheet %s must be given %s; write it under fill:, or -set %s=VALUE", s.Name,
				t.Name, t.Name)
		}
	}
	return out, nil
}

// ReadSheet reads the sheet that a step runs, from a file that a node names; nil where it is
// none, which is reported.
func (s *Step) ReadSheet(r *mapping.Reader, file string, n *yamlfile.Node) *Sheet {
	if file == "" {
		return nil
	}
	full, err := mapping.FileInside(r.Dir, file)
	switch {
	case err != nil:
		r.File.Report(n, "sheets/NAME.yaml, as it is in the bench folder", "%v", err)
		return nil
	case slices.Contains(s.from.within, full):
		r.File.Report(n, "", "the sheets run one another in a circle: %s", file)
		return nil
	case len(s.from.within) > MostDepth:
		r.File.Report(n, "", "sheets run sheets at most %d deep", MostDepth)
		return nil
	}
	data, err := mapping.ReadInside(s.from.bench.Dir, Inside(s.from.bench, full))
	if err != nil {
		r.File.Report(n, "", "%v", err)
		return nil
	}
	from := s.from
	from.within = append(slices.Clone(from.within), full)
	return readSheet(bench.DisplayName(full), data, from)
}
