package path

import (
	"cmp"
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
		f.unfit(p, "JSON", "XPath (a path that begins with /) reads XML only: write names with dots")
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
		miss := &Miss{
			Reached: "the answer", Missing: p.Source, There: roots.Answer.Describe(), Try: p.namespaceAdvice(roots),
		}
		if miss.Try != "" {
			miss.Unfit = "an element of that name in a namespace"
		}
		f.selection.Matches = []Match{{Where: p.Source, Miss: miss}}
		return f.selection, nil
	}
	f.selection.Matches = []Match{{Where: p.Source, Node: node}}
	return f.selection, nil
}

// namespaceAdvice helps with what XPath is known to trip over: a name without a prefix is one without a namespace,
// whatever the document declares. It is about a name that elements have in a namespace only, and empty where none is.
func (p *Path) namespaceAdvice(roots Roots) string {
	found := map[string]document.Name{}
	var look func(n *document.Node)
	look = func(n *document.Node) {
		if n.Kind == document.Element {
			if known, ok := found[n.Name().Local]; !ok || known.Space != "" && n.Name().Space == "" {
				found[n.Name().Local] = n.Name()
			}
		}
		for _, item := range n.Items() {
			look(item)
		}
	}
	look(roots.Answer)
	for _, name := range p.xpath.PlainNames() {
		full := found[name]
		if full.Space == "" {
			continue
		}
		prefix := cmp.Or(full.Prefix, "p")
		advice := name + " is in the namespace " + full.Space + ": write " + prefix + ":" + name
		if _, declared := roots.Index.of(roots.Answer).Declared(prefix); !declared {
			advice += " and names: {" + prefix + ": " + full.Space + "}"
		}
		return advice
	}
	return ""
}
