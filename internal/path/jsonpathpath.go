package path

import (
	"testbench/internal/document"
	"testbench/internal/path/jsonpath"
)

func compileJSONPath(source string) (*Path, error) {
	compiled, err := jsonpath.Compile(source)
	if err != nil {
		return nil, err
	}
	return &Path{Source: source, jsonpath: compiled}, nil
}

// findJSONPath gives nodes as paths of names do: a query for one node as itself,
// others as many.
func (p *Path) findJSONPath(roots Roots) (Selection, error) {
	f := finder{roots: roots, selection: Selection{Many: !p.jsonpath.IsSingular()}}
	if roots.Answer == nil {
		f.unreadable()
		return f.selection, nil
	}
	if roots.Answer.Kind == document.Element {
		f.unfit(p, "XML", "JSONPath (a path that begins with $) reads JSON only: write names with dots, or XPath")
		return f.selection, nil
	}
	all, err := p.jsonpath.Find(roots.Answer)
	if err != nil {
		return Selection{}, err
	}
	for _, found := range all {
		f.selection.Matches = append(f.selection.Matches, Match{Where: found.Path, Node: found.Node})
	}
	if len(f.selection.Matches) == 0 {
		f.miss("answer", p.Source, roots.Answer.Describe(), "")
	}
	return f.selection, nil
}
