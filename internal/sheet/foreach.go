package sheet

import (
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/yamlfile"
)

// Each says that a step is carried out once for each item of a list.
type Each struct {
	Name string // what an item is known as
	List *request.Tree
}

// readEach reads `for each: ${list}`, or a mapping of a name to a list.
func readEach(r *mapping.Reader, n *yamlfile.Node) *Each {
	e := &Each{Name: request.EachName}
	list := n
	if n.Kind == yamlfile.Mapping {
		if len(n.Entries) != 1 {
			r.File.Report(n, "write for each: ${lots}, or for each: and below it lot: ${lots}",
				"for each names one list")
			return nil
		}
		e.Name, list = r.Identifier(n.Entries[0].Key, "an item"), n.Entries[0].Value
	}
	e.List = r.Tree(list)
	return e
}
