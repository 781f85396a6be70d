package path

import (
	"sync"

	"testbench/internal/document"
	"testbench/internal/path/xpath"
)

// Index is the answer prepared for XPath, made when it is first asked for.
type Index struct {
	once sync.Once
	tree *xpath.Tree
}

func (i *Index) of(root *document.Node) *xpath.Tree {
	if i == nil {
		return xpath.NewTree(root)
	}
	i.once.Do(func() { i.tree = xpath.NewTree(root) })
	return i.tree
}

func compileXPath(source string) (*Path, error) {
	compiled, err := xpath.Compile(source)
	if err != nil {
		return nil, err
	}
	return &Path{Source: source, xpath: compiled}, nil
}

// findXPath gives nodes as paths of names do: one as itself, several as a list.
func (p *Path) findXPath(roots Roots) (Selection, error) {
	f := finder{roots: roots}
	if roots.Answer == nil {
		f.unreadable()
		return f.selection, nil
	}
	if roots.Answer.Kind != document.Element {
		f.miss("answer", p.Source, roots.Answer.Describe(),
			"XPath (a path that begins with /) reads XML only: write names with dots")
		return f.selection, nil
	}
	found, err := p.xpath.Evaluate(roots.Index.of(roots.Answer), roots.Prefixes)
	if err != nil {
		return Selection{}, err
	}
	node := found.Single
	switch {
	case !found.IsNodes:
	case len(found.Nodes) == 1:
		node = found.Nodes[0]
	case len(found.Nodes) > 1:
		node = document.NewList(found.Nodes...)
	default:
		f.selection.Matches = []Match{{
			Where: p.Source,
			Miss: &Miss{
				Reached: "the answer", Missing: p.Source, There: roots.Answer.Describe(),
				Try: p.namespaceAdvice(roots),
			},
		}}
		return f.selection, nil
	}
	f.selection.Matches = []Match{{Where: p.Source, Node: node}}
	return f.selection, nil
}

// namespaceAdvice helps with what XPath is known to trip over: a name without
// a prefix is one without a namespace, whatever the document declares.
func (p *Path) namespaceAdvice(roots Roots) string {
	advice := ""
	var look func(n *document.Node)
	look = func(n *document.Node) {
		for _, name := range p.xpath.PlainNames() {
			if n.Kind == document.Element && n.Name().Local == name && n.Name().Space != "" && advice == "" {
				prefix := "p"
				if n.Name().Prefix != "" {
					prefix = n.Name().Prefix
				}
				advice = name + " is in the namespace " + n.Name().Space + ": write " + prefix + ":" + name
				if _, declared := roots.Index.of(roots.Answer).Declared(prefix); !declared {
					advice += " and names: {" + prefix + ": " + n.Name().Space + "}"
				}
			}
		}
		for _, item := range n.Items() {
			if advice == "" {
				look(item)
			}
		}
	}
	look(roots.Answer)
	return advice
}
