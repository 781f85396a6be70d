package path

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/value"
)

// Match is one place that a path leads to. Node is nil where nothing is
// there, and then Miss says how far the path got.
type Match struct {
	Where string // the place with its indexes: lines[2].price
	Node  *document.Node
	Miss  *Miss
}

// Miss tells where a path ends in nothing.
type Miss struct {
	Reached string // the last place that exists
	Missing string // the step that leads nowhere from there
	There   string // what is there instead, in words
	Try     string // a name close to the missing one, or other advice; may be empty
	// IsEmpty says that it was an element of a list without any, or of null in place of one.
	IsEmpty bool
	// Unfit is what is there where such a path finds nothing, whatever the service says: text, a page, XML for
	// JSONPath. It is empty for others.
	Unfit string
}

func (m *Miss) String() string {
	text := fmt.Sprintf("%s has no %s: it is %s", m.Reached, strings.TrimPrefix(m.Missing, "."), m.There)
	if m.Try != "" {
		text += "; " + m.Try
	}
	return text
}

// Selection is what a path leads to. Of a path with [*], Matches holds one
// entry for each element; of any other path exactly one.
type Selection struct {
	Many    bool
	Matches []Match
}

// First returns the first node found, or nil.
func (s Selection) First() *document.Node {
	for _, m := range s.Matches {
		if m.Node != nil {
			return m.Node
		}
	}
	return nil
}

// Whole returns what the path leads to as one value: with [*] the list of all
// that was found. It is nil where nothing was found.
func (s Selection) Whole() *document.Node {
	if !s.Many {
		return s.First()
	}
	list := document.NewList()
	for _, m := range s.Matches {
		if m.Node != nil {
			list.AppendItems(m.Node)
		}
	}
	if len(list.Items()) == 0 {
		return nil
	}
	return list
}

// Missed returns the first miss, or nil.
func (s Selection) Missed() *Miss {
	for _, m := range s.Matches {
		if m.Node == nil {
			return m.Miss
		}
	}
	return nil
}

// Find follows the path. The scope fills placeholders in conditions; it may be
// nil for a path without any. An error comes only from such a placeholder, and
// from an XPath expression that fails.
func (p *Path) Find(roots Roots, scope value.Scope) (Selection, error) {
	if p.xpath != nil {
		return p.findXPath(roots)
	}
	if p.jsonpath != nil {
		return p.findJSONPath(roots)
	}
	p = p.lengthened(roots.Short)
	root, name := roots.of(p)
	f := finder{roots: roots, scope: scope, selection: Selection{Many: p.HasEach()}}
	if root == nil {
		f.unreadable()
		f.selection.Matches[0].Miss.Try = p.besideBody(roots)
		return f.selection, nil
	}
	if err := f.follow(root, name, p.steps); err != nil {
		return Selection{}, err
	}
	if len(p.stages) > 0 {
		return p.through(f.selection, roots, scope)
	}
	if f.selection.Many || len(f.selection.Matches) != 1 || f.selection.Matches[0].Node != nil {
		return f.selection, nil
	}
	switch miss := f.selection.Matches[0].Miss; {
	case p.reply && roots.Answer.Get("reply") != nil:
		miss.Try = "the answer has a field reply of its own: write answer." + p.Source
	case miss.Reached == name:
		miss.Try = cmp.Or(p.besideBody(roots), miss.Try)
	}
	return f.selection, nil
}

// besideBody says how a path is written that looks in the body and was probably meant for what is beside it; "" for
// others.
func (p *Path) besideBody(roots Roots) string {
	if p.isRooted || len(p.steps) == 0 {
		return ""
	}
	// Below reply is more, which answers often have too and where something else is missing.
	name := p.steps[0].name
	if !slices.Contains([]string{"status", "headers", "cookies"}, name) || roots.Around().Get(name) == nil {
		return ""
	}
	return fmt.Sprintf("write reply.%s for what is beside the body", p.Source)
}

type finder struct {
	roots     Roots
	scope     value.Scope
	selection Selection
}

func (f *finder) miss(reached, missing, there, try string) {
	miss := &Miss{Reached: shortWhere(reached), Missing: missing, There: there, Try: try}
	if reached == "answer" {
		miss.Unfit = f.roots.Shapeless
	}
	f.selection.Matches = append(f.selection.Matches, Match{Where: shortWhere(reached + missing), Miss: miss})
}

// unfit is what a path finds in an answer that it does not read.
func (f *finder) unfit(p *Path, there, try string) {
	f.miss("answer", p.Source, f.roots.Answer.Describe(), try)
	miss := f.selection.Matches[0].Miss
	miss.Unfit = cmp.Or(miss.Unfit, there)
}

// unreadable is what a path finds where there is no answer to look into.
func (f *finder) unreadable() {
	const reply = "the reply"
	miss := &Miss{Reached: reply, Missing: "answer that can be read", There: "empty, or not well-formed"}
	f.selection.Matches = append(f.selection.Matches, Match{Where: reply, Miss: miss})
}

// shortWhere drops the word answer before a path, which goes without saying.
func shortWhere(where string) string {
	if rest, ok := strings.CutPrefix(where, "answer."); ok {
		return rest
	}
	return where
}

func (f *finder) follow(node *document.Node, where string, steps []step) error {
	for len(steps) > 0 {
		s := steps[0]
		switch s.kind {
		case each:
			items, ok := asList(node)
			if !ok || len(items) == 0 {
				try := ""
				if node.Kind == document.Object {
					try = "only a list has [*]"
				}
				f.miss(where, s.text(), node.Describe(), try)
				f.selection.Matches[len(f.selection.Matches)-1].Miss.IsEmpty = ok || node.Kind == document.Null
				return nil
			}
			for i, item := range items {
				if err := f.follow(item, where+"["+strconv.Itoa(i)+"]", steps[1:]); err != nil {
					return err
				}
			}
			return nil
		case span:
			items, ok := asList(node)
			from, to := s.bounds(len(items))
			if !ok || from >= to {
				f.miss(where, s.text(), node.Describe(), "")
				return nil
			}
			for i := from; i < to; i++ {
				if err := f.follow(items[i], where+"["+strconv.Itoa(i)+"]", steps[1:]); err != nil {
					return err
				}
			}
			return nil
		case byIndex:
			items, ok := asList(node)
			index := s.index
			if index < 0 {
				index += len(items)
			}
			if !ok || index < 0 || index >= len(items) {
				f.miss(where, s.text(), node.Describe(), "")
				return nil
			}
			node, where, steps = items[index], where+"["+strconv.Itoa(index)+"]", steps[1:]
		case byKey:
			next := node.Get(s.name)
			if next == nil {
				f.miss(where, s.text(), node.Describe(), suggest.DidYouMean(s.name, node.Names()))
				return nil
			}
			node, where, steps = next, where+s.text(), steps[1:]
		default:
			next, used, err := f.named(node, steps)
			if err != nil {
				return err
			}
			if next == nil {
				f.miss(where, s.text(), node.Describe(), f.advice(node, s))
				return nil
			}
			for _, step := range steps[:used] {
				where += step.text()
			}
			node, steps = next, steps[used:]
		}
	}
	if at := &f.selection.Matches; len(*at) == cap(*at) {
		*at = slices.Grow(*at, max(len(*at), 1)) // append leaves five times as much behind
	}
	f.selection.Matches = append(f.selection.Matches, Match{Where: shortWhere(where), Node: node})
	return nil
}

// bounds are those of a span in a list of a length (RFC 9535, 2.3.4.2).
func (s step) bounds(length int) (from, to int) {
	to = length
	for i, at := range []*int{&from, &to} {
		if bound := s.span[i]; bound != nil {
			if *at = *bound; *at < 0 {
				*at += length
			}
			*at = min(max(*at, 0), length)
		}
	}
	return from, to
}

func (f *finder) advice(node *document.Node, s step) string {
	if s.kind == where {
		return f.valuesThere(node, s)
	}
	if items, ok := asList(node); ok && node.Kind == document.List && len(items) > 0 {
		return "write [0] or [*] before " + s.text()
	}
	if node.Kind == document.Element && node.Name().Local == s.name {
		return "the path starts inside " + s.name + " already: leave it out"
	}
	return suggest.DidYouMean(s.name, node.Names())
}

// valuesThere lists what the left side of a condition is in the items, so that
// a reader sees which value would have matched.
func (f *finder) valuesThere(node *document.Node, s step) string {
	items, _ := asList(node)
	var there []string
	for _, item := range items {
		inner := finder{roots: Roots{Answer: item, Prefixes: f.roots.Prefixes}, scope: f.scope}
		if inner.follow(item, "answer", s.inner.steps) == nil && inner.selection.First() != nil {
			there = append(there, inner.selection.First().Describe())
		}
	}
	if len(there) == 0 {
		return "none of its elements has " + s.inner.Source
	}
	return s.inner.Source + " there is " + suggest.FewNames(there)
}

// asList gives the items of a list; an element alone, as XML writes a list of
// one, is a list of itself.
func asList(node *document.Node) ([]*document.Node, bool) {
	switch node.Kind {
	case document.List:
		return node.Items(), true
	case document.Element:
		return []*document.Node{node}, true
	}
	return nil, false
}

// named takes the first steps as a name or condition and says how many of them
// it took: the longest key that the steps spell with their dots wins.
func (f *finder) named(node *document.Node, steps []step) (*document.Node, int, error) {
	if steps[0].kind == where {
		next, err := f.selected(node, steps[0])
		return next, 1, err
	}
	longest := 1
	for longest < len(steps) && steps[longest].kind == byName {
		longest++
	}
	for used := longest; used > 0; used-- {
		name := steps[0].name
		for _, s := range steps[1:used] {
			name += "." + s.name
		}
		if used < len(steps) && steps[used].kind == byIndex {
			if one := f.nth(node, name, steps[used].index); one != nil {
				return one, used + 1, nil
			}
		}
		if next := f.child(node, name); next != nil {
			return next, used, nil
		}
	}
	if index, err := strconv.Atoi(steps[0].name); err == nil && index >= 0 && node.Kind == document.List &&
		index < len(node.Items()) {
		return node.Items()[index], 1, nil
	}
	if steps[0].name == "0" && node.Kind == document.Element {
		return node, 1, nil
	}
	return nil, 0, nil
}

// child gives what a name leads to: of elements that bear it a list.
func (f *finder) child(node *document.Node, name string) *document.Node {
	switch node.Kind {
	case document.Object:
		return node.Get(name)
	case document.Element:
		if attribute, ok := strings.CutPrefix(name, "@"); ok {
			return f.attribute(node, attribute)
		}
		var found []*document.Node
		for _, child := range node.Items() {
			if child.Kind == document.Element && f.nameIs(child.Name(), name) {
				found = append(found, child)
			}
		}
		switch len(found) {
		case 0:
			return f.attribute(node, name)
		case 1:
			return found[0]
		}
		return document.NewList(found...)
	}
	return nil
}

// nth is an element of a name by its number, from 0, without gathering those before it; nil where there is none.
func (f *finder) nth(node *document.Node, name string, index int) *document.Node {
	if node.Kind != document.Element {
		return nil
	}
	for _, child := range node.Items() {
		if child.Kind == document.Element && f.nameIs(child.Name(), name) {
			if index == 0 {
				return child
			}
			index--
		}
	}
	return nil
}

func (f *finder) attribute(node *document.Node, name string) *document.Node {
	for _, a := range node.Attributes() {
		if !a.IsDeclaration() && f.nameIs(a.Name, name) {
			return &document.Node{Kind: document.Untyped, Text: a.Value, Secret: a.Secret || node.Secret}
		}
	}
	return nil
}

func (f *finder) nameIs(name document.Name, expected string) bool {
	if name.Local == expected {
		return true
	}
	prefix, local, ok := strings.Cut(expected, ":")
	if !ok || local != name.Local {
		return false
	}
	if space, known := f.roots.Prefixes[prefix]; known {
		return space == name.Space
	}
	return prefix == name.Prefix
}

// selected gives the items for which the condition holds: one alone as itself,
// several as a list.
func (f *finder) selected(node *document.Node, s step) (*document.Node, error) {
	expected, err := s.equal.Node(f.scope, s.typed)
	if err != nil {
		return nil, err
	}
	if s.typed {
		expected.Kind = document.Untyped // XML text has no type to compare with
	}
	items, ok := asList(node)
	if !ok {
		return nil, nil
	}
	var found []*document.Node
	for _, item := range items {
		inner := finder{roots: Roots{
			Answer: item, Reply: f.roots.Reply, Later: f.roots.Later,
			Prefixes: f.roots.Prefixes,
		}, scope: f.scope}
		if err := inner.follow(item, "answer", s.inner.steps); err != nil {
			return nil, err
		}
		if left := inner.selection.First(); left != nil && document.Equal(expected, left) {
			found = append(found, item)
		}
	}
	switch len(found) {
	case 0:
		return nil, nil
	case 1:
		return found[0], nil
	}
	return document.NewList(found...), nil
}

// Child returns what a single name leads to in a node, as a step of a path
// would, or nil.
func Child(node *document.Node, name string) *document.Node {
	return new(finder).child(node, name)
}
