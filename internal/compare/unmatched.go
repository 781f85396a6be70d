package compare

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/suggest"
)

// Seen are the places and kinds of values that were compared, so that what is asked for
// and matches none of them can be told. The zero value is ready for use.
type Seen struct {
	places map[string]bool
	kinds  map[string]bool
}

// Add takes a document.
func (s *Seen) Add(n *document.Node, o Options) {
	if s.places == nil {
		s.places, s.kinds = map[string]bool{}, map[string]bool{}
	}
	if n != nil && !s.isAll(o) {
		s.add(Plain(n), "", len(o.Kinds) > 0)
	}
}

func (s *Seen) add(n *document.Node, at string, kinds bool) {
	s.places[at] = true
	for _, m := range n.Members() {
		s.add(m.Value, path.Below(at, m.Key), kinds)
	}
	for _, item := range n.Items() {
		s.add(item, at, kinds)
	}
	if kinds && n.IsScalar() {
		s.kinds[rule.KindOf(n)] = true
	}
}

func (s *Seen) isAll(o Options) bool { return s.Unmatched(o) == nil }

// Unmatched tells of a path, a kind or a key that nothing that was compared has, or nil.
func (s *Seen) Unmatched(o Options) error {
	known := func() []string {
		var names []string
		for at := range s.places {
			names = append(names, at)
		}
		slices.Sort(names)
		return names
	}
	fail := func(option, text, at string) error {
		try := suggest.DidYouMean(at, known())
		if try == "" {
			try = "`testbench fields` shows the paths of an answer"
		}
		return fmt.Errorf("-%s %s matches nothing; %s", option, text, try)
	}
	for _, ignored := range o.Ignore {
		if at := place(ignored); !s.places[at] {
			return fail("ignore", ignored, at)
		}
	}
	for _, kind := range o.Kinds {
		if !s.kinds[kind] {
			return fmt.Errorf("-ignore \"is %s\" matches nothing: no value is of that kind", kind)
		}
	}
	for list, field := range o.Keys {
		at := place(list)
		if !s.places[path.Below(at, field)] && !s.places[strings.TrimPrefix(at+"."+field, ".")] {
			return fail("key", list+"="+field, strings.TrimPrefix(at+"."+field, "."))
		}
	}
	return nil
}

// place is a path as it is compared: without places in lists, from the payload on.
func place(path string) string {
	at := general(path)
	if at == "answer" {
		return ""
	}
	return strings.TrimPrefix(at, "answer.")
}
