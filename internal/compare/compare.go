// Package compare finds what differs between two answers, by what is in them and not
// by how it is written: JSON and XML alike, lists by the keys of their elements or by
// what fits best, numbers and moments by their value. It says what differs; what that
// means is for others to say.
package compare

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
)

// Kind says in what way something differs.
type Kind string

// The ways in which something differs.
const (
	Changed Kind = "changed" // the value
	Added   Kind = "added"   // it is in the second alone
	Removed Kind = "removed" // it is in the first alone
	Moved   Kind = "moved"   // an element of a list is at another place
	Retyped Kind = "kind"    // the same words, as another kind: 5 and "5"
)

// Difference is one thing that differs.
type Difference struct {
	Kind Kind
	Path string         // elements that were matched by a key are named by it
	A, B *document.Node // what is there; nil where nothing does
	From int            // of an element that moved: its places
	To   int
	// Into is where it is in the second, of what was renamed, moved elsewhere, wrapped, split or joined; empty for
	// others.
	Into string
	Sure float64 // that it is the same, from 0 to 1; 0 for what is not a guess
	at   string  // the path with [*] for every element
}

// Options say what is not looked at, and how elements of lists are matched.
type Options struct {
	// Ignore are paths, with [*] for all elements, or without any index; what is below
	// them is passed over.
	Ignore []string
	// Kinds are passed over: values that are of one of them on both sides.
	Kinds []string
	// Keys are fields by which elements are matched: by the path of the list.
	Keys map[string]string
}

// Trees compares two documents.
func Trees(a, b *document.Node, o Options) []Difference {
	c := newComparing(o)
	c.node(Plain(a), Plain(b), "", "")
	return c.out
}

func newComparing(o Options) *comparing {
	c := &comparing{options: o}
	c.options.Ignore = nil
	for _, ignored := range o.Ignore {
		c.options.Ignore = append(c.options.Ignore, place(ignored))
	}
	keys := map[string]string{}
	for list, field := range o.Keys {
		keys[place(list)] = field
	}
	c.options.Keys = keys
	return c
}

type comparing struct {
	options Options
	out     []Difference
	sizes   map[string][2]int // how many members the objects at paths have; nil where nobody asks
}

// general writes a path without places in lists.
func general(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '[' {
			out.WriteByte(text[i])
			continue
		}
		end := strings.IndexByte(text[i:], ']')
		if end < 0 || i+1 < len(text) && text[i+1] == '"' {
			out.WriteByte(text[i])
			continue
		}
		i += end
	}
	return out.String()
}

// passedOver says whether a place is not looked at.
func (c *comparing) passedOver(at string) bool {
	for _, ignored := range c.options.Ignore {
		if rest, ok := strings.CutPrefix(at, ignored); ok && (rest == "" || rest[0] == '.' || rest[0] == '[') {
			return true
		}
	}
	return false
}

func (c *comparing) add(d Difference) {
	if d.Path == "" {
		d.Path = "answer"
	}
	c.out = append(c.out, d)
}

func (c *comparing) node(a, b *document.Node, where, at string) {
	if at != "" && c.passedOver(at) {
		return
	}
	switch {
	case a.Kind == document.Object && b.Kind == document.Object:
		c.object(a, b, where, at)
	case a.Kind == document.List && b.Kind == document.List:
		c.list(a, b, where, at)
	case a.Kind == document.List && isLone(b): // an element of XML that is there once
		c.list(a, document.NewList(b), where, at)
	case b.Kind == document.List && isLone(a):
		c.list(document.NewList(a), b, where, at)
	case a.IsScalar() && b.IsScalar() && (Same(a, b) || c.isOfKind(a, b)):
	case a.IsScalar() && b.IsScalar() && a.Text == b.Text && a.Kind != document.Null && b.Kind != document.Null:
		c.add(Difference{Kind: Retyped, Path: where, A: a, B: b, at: at})
	default:
		c.add(Difference{Kind: Changed, Path: where, A: a, B: b, at: at})
	}
}

// isLone says whether a value was an element of XML, which may be one of a list.
func isLone(n *document.Node) bool { return n.Line > 0 }

func (c *comparing) isOfKind(a, b *document.Node) bool {
	first := rule.KindOf(a)
	return slices.Contains(c.options.Kinds, first) && rule.KindOf(b) == first
}

func (c *comparing) object(a, b *document.Node, where, at string) {
	if c.sizes != nil {
		c.sizes[where] = [2]int{len(a.Members()), len(b.Members())}
	}
	for _, m := range a.Members() {
		other := b.Get(m.Key)
		if other != nil && m.Value.IsScalar() && other.IsScalar() && Same(m.Value, other) {
			continue // as nearly all are: no path is made for them
		}
		inA, inAt := path.Below(where, m.Key), path.Below(at, m.Key)
		if other != nil {
			c.node(m.Value, other, inA, inAt)
		} else if !c.passedOver(inAt) {
			c.add(Difference{Kind: Removed, Path: inA, A: m.Value, at: inAt})
		}
	}
	for _, m := range b.Members() {
		if inAt := path.Below(at, m.Key); a.Get(m.Key) == nil && !c.passedOver(inAt) {
			c.add(Difference{Kind: Added, Path: path.Below(where, m.Key), B: m.Value, at: inAt})
		}
	}
}

func (c *comparing) list(a, b *document.Node, where, at string) {
	m := match(a.Items(), b.Items(), c.options.Keys[at])
	name := func(items []*document.Node, i int) string {
		if m.key != "" {
			if v := items[i].Get(m.key); v != nil {
				return where + "[" + path.Segment(m.key) + "=" + literal(v.Text) + "]"
			}
		}
		return where + "[" + strconv.Itoa(i) + "]"
	}
	for i, j := range m.ofA {
		switch {
		case j < 0:
			c.add(Difference{Kind: Removed, Path: name(a.Items(), i), A: a.Items()[i], at: at})
		default:
			c.node(a.Items()[i], b.Items()[j], name(a.Items(), i), at)
			if m.moved[i] {
				c.add(Difference{
					Kind: Moved, Path: name(a.Items(), i), A: a.Items()[i], B: b.Items()[j], From: i,
					To: j, at: at,
				})
			}
		}
	}
	for j, i := range m.ofB {
		if i < 0 {
			c.add(Difference{Kind: Added, Path: name(b.Items(), j), B: b.Items()[j], at: at})
		}
	}
}

// literal is a value as it is in a path.
func literal(text string) string {
	if text != "" && !strings.ContainsAny(text, " \"[]()=") {
		return text
	}
	return document.QuoteJSON(text)
}

// Same says whether two single values are the same: numbers and moments by their value,
// what has no type of its own by what it is checked against.
func Same(a, b *document.Node) bool {
	switch {
	case a.Kind == document.Null || b.Kind == document.Null:
		return a.Kind == b.Kind
	case a.Kind == document.Boolean || b.Kind == document.Boolean:
		return a.Text == b.Text && (a.Kind == b.Kind || a.Kind == document.Untyped || b.Kind == document.Untyped)
	}
	numberA, numberB := isNumber(a), isNumber(b)
	if numberA && numberB && (a.Kind != document.Text && b.Kind != document.Text) {
		x, okX := document.Decimal(a.Text)
		y, okY := document.Decimal(b.Text)
		return okX && okY && x.Cmp(y) == 0 || a.Text == b.Text
	}
	if a.Kind == document.Number != (b.Kind == document.Number) {
		return false
	}
	return a.Text == b.Text || rule.SameMoment(a.Text, b.Text)
}

func isNumber(n *document.Node) bool {
	return n.Kind == document.Number || n.Kind == document.Untyped && document.IsNumber(n.Text)
}

// Plain is a document as objects, lists and single values: of XML, elements that are
// repeated become lists, attributes members.
func Plain(n *document.Node) *document.Node {
	if !hasElement(n) {
		return n
	}
	switch n.Kind {
	case document.Object:
		out := document.NewObject()
		for _, m := range n.Members() {
			out.AppendMembers(document.Member{Key: m.Key, Value: Plain(m.Value)})
		}
		return out
	case document.List:
		out := document.NewList()
		for _, item := range n.Items() {
			out.AppendItems(Plain(item))
		}
		return out
	case document.Element:
		return plainElement(n)
	}
	return n
}

func hasElement(n *document.Node) bool {
	return n.Kind == document.Element || slices.ContainsFunc(n.Items(), hasElement) ||
		slices.ContainsFunc(n.Members(), func(m document.Member) bool { return hasElement(m.Value) })
}

func plainElement(n *document.Node) *document.Node {
	out := document.NewObject()
	out.Line = max(n.Line, 1)
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() && a.Name.Local != "nil" {
			out.Set(a.Name.Local, document.NewUntyped(a.Value))
		}
	}
	children := n.Children()
	if len(children) == 0 {
		v := n.Value().Copy()
		if v.Kind == document.Element {
			v = document.NewUntyped(n.OwnText())
		}
		v.Line = out.Line
		if len(out.Members()) == 0 {
			return v
		}
		if v.Text != "" {
			out.Set(".", v)
		}
		return out
	}
	lists := map[string]bool{}
	for _, child := range children {
		name := child.Name().Local
		if out.Get(name) != nil && !lists[name] && isAttribute(n, name) && !lists["@"+name] {
			attribute := out.Get(name)
			out.Set("@"+name, attribute) // an element has the same name
			lists["@"+name] = true
			out.Set(name, plainElement(child))
			continue
		}
		switch before := out.Get(name); {
		case before == nil:
			out.Set(name, plainElement(child))
		case lists[name]:
			before.AppendItems(plainElement(child))
		default:
			out.Set(name, document.NewList(before, plainElement(child)))
			lists[name] = true
		}
	}
	return out
}

func isAttribute(n *document.Node, name string) bool {
	return slices.ContainsFunc(n.Attributes(), func(a document.Attribute) bool {
		return a.Name.Local == name && !a.IsDeclaration()
	})
}

// matching says which elements of two lists belong together: ofA[i] is the place in the
// second of what is at i in the first, or -1.
type matching struct {
	key      string
	ofA, ofB []int
	moved    map[int]bool // in the first
}

// keyNames are names that fields by which things are known often have.
var keyNames = []string{"id", "key", "number", "no", "code", "name", "uuid"}

func match(a, b []*document.Node, key string) *matching {
	m := &matching{ofA: make([]int, len(a)), ofB: make([]int, len(b)), moved: map[int]bool{}}
	for i := range m.ofA {
		m.ofA[i] = -1
	}
	for j := range m.ofB {
		m.ofB[j] = -1
	}
	if key == "" {
		key = commonKey(a, b)
	}
	if key != "" {
		m.byKey(a, b, key)
	} else {
		m.byContent(a, b)
	}
	m.order()
	return m
}

// commonKey finds a field that every element of both lists has, each with another value.
func commonKey(a, b []*document.Node) string {
	if len(a) == 0 || len(b) == 0 || a[0].Kind != document.Object {
		return ""
	}
	var names []string
	for _, m := range a[0].Members() {
		lower := strings.ToLower(m.Key)
		if m.Value.IsScalar() &&
			(slices.Contains(keyNames, lower) || strings.HasSuffix(lower, "id") || strings.HasSuffix(lower, "number")) {
			names = append(names, m.Key)
		}
	}
	slices.SortStableFunc(names, func(x, y string) int { return cmp.Compare(rank(x), rank(y)) })
	for _, name := range names {
		if isKey(a, name) && isKey(b, name) {
			return name
		}
	}
	return ""
}

func rank(name string) int {
	if i := slices.Index(keyNames, strings.ToLower(name)); i >= 0 {
		return i
	}
	return len(keyNames)
}

func isKey(items []*document.Node, name string) bool {
	seen := map[string]bool{}
	for _, item := range items {
		v := item.Get(name)
		if v == nil || !v.IsScalar() || v.Kind == document.Null || seen[v.Text] {
			return false
		}
		seen[v.Text] = true
	}
	return true
}

func (m *matching) byKey(a, b []*document.Node, key string) {
	m.key = key
	places := map[string][]int{}
	for j, item := range b {
		if v := item.Get(key); v != nil && v.IsScalar() {
			places[v.Text] = append(places[v.Text], j)
		}
	}
	for i, item := range a {
		v := item.Get(key)
		if v == nil || len(places[v.Text]) == 0 {
			continue
		}
		m.pair(i, places[v.Text][0])
		places[v.Text] = places[v.Text][1:]
	}
}

func (m *matching) pair(i, j int) { m.ofA[i], m.ofB[j] = j, i }

// byContent pairs elements that are the same, then those that are most alike, then what
// is left at the same place.
func (m *matching) byContent(a, b []*document.Node) {
	places := map[string][]int{}
	texts := make([]string, len(b))
	for j, item := range b {
		texts[j] = canonical(item)
		places[texts[j]] = append(places[texts[j]], j)
	}
	for i, item := range a {
		text := canonical(item)
		if i < len(b) && texts[i] == text && m.ofB[i] < 0 {
			m.pair(i, i)
			places[text] = slices.DeleteFunc(places[text], func(j int) bool { return j == i })
		}
	}
	for i, item := range a {
		if text := canonical(item); m.ofA[i] < 0 && len(places[text]) > 0 {
			if j := places[text][0]; m.ofB[j] < 0 {
				m.pair(i, j)
			}
			places[text] = places[text][1:]
		}
	}
	m.alike(a, b)
	m.byPlace(a, b)
	next := 0
	for i := range a {
		if m.ofA[i] >= 0 {
			continue
		}
		for next < len(b) && m.ofB[next] >= 0 {
			next++
		}
		if next < len(b) && a[i].IsScalar() && b[next].IsScalar() && i == next {
			m.pair(i, next)
		}
	}
}

// byPlace pairs objects of which each value is another, where they have the same fields: in their order.
func (m *matching) byPlace(a, b []*document.Node) {
	next := 0
	for i, x := range a {
		if m.ofA[i] >= 0 || x.Kind != document.Object {
			continue
		}
		for j := next; j < len(b); j++ {
			if m.ofB[j] < 0 && b[j].Kind == document.Object && shapeLikeness(x, b[j]) >= 0.6 {
				m.pair(i, j)
				next = j + 1
				break
			}
		}
	}
}

// shapeLikeness is which part of the fields of two objects both have, with values of the same kind.
func shapeLikeness(a, b *document.Node) float64 {
	same, all := 0, len(b.Members())
	for _, m := range a.Members() {
		other := b.Get(m.Key)
		switch {
		case other == nil:
			all++
		case other.Kind == m.Value.Kind:
			same++
		}
	}
	return float64(same) / float64(max(all, 1))
}

// mostCompared bounds the pairs of elements that are checked against each other.
const mostCompared = 250_000

// alike pairs objects and lists that have most in common, more than half of it.
func (m *matching) alike(a, b []*document.Node) {
	type pair struct {
		i, j  int
		score float64
	}
	var pairs []pair
	compared := 0
	for i, x := range a {
		if m.ofA[i] >= 0 || x.IsScalar() {
			continue
		}
		for j, y := range b {
			if m.ofB[j] >= 0 || y.IsScalar() || compared >= mostCompared {
				continue
			}
			compared++
			if score := likeness(x, y); score > 0.5 {
				pairs = append(pairs, pair{i, j, score})
			}
		}
	}
	slices.SortStableFunc(pairs, func(x, y pair) int {
		return cmp.Or(cmp.Compare(y.score, x.score), cmp.Compare(distance(x.i, x.j), distance(y.i, y.j)))
	})
	for _, p := range pairs {
		if m.ofA[p.i] < 0 && m.ofB[p.j] < 0 {
			m.pair(p.i, p.j)
		}
	}
}

func distance(i, j int) int { return max(i-j, j-i) }

// likeness is how much of two objects or lists is the same, from 0 to 1.
func likeness(a, b *document.Node) float64 {
	if a.Kind != b.Kind {
		return 0
	}
	same, all := 0, 0
	if a.Kind == document.Object {
		for _, m := range a.Members() {
			all++
			other := b.Get(m.Key)
			switch {
			case other == nil:
			case m.Value.IsScalar() && other.IsScalar() && Same(m.Value, other),
				!m.Value.IsScalar() && canonical(m.Value) == canonical(other):
				same += 2
			case m.Value.Kind == other.Kind:
				same++
			}
		}
		for _, m := range b.Members() {
			if a.Get(m.Key) == nil {
				all++
			}
		}
		return float64(same) / float64(max(2*all, 1))
	}
	seen := map[string]int{}
	for _, item := range a.Items() {
		seen[canonical(item)]++
	}
	for _, item := range b.Items() {
		if text := canonical(item); seen[text] > 0 {
			seen[text]--
			same++
		}
	}
	return float64(2*same) / float64(max(len(a.Items())+len(b.Items()), 1))
}

// canonical is the same text for the same value.
func canonical(n *document.Node) string {
	var out strings.Builder
	write(&out, n)
	return out.String()
}

func write(out *strings.Builder, n *document.Node) {
	switch n.Kind {
	case document.Object:
		members := slices.Clone(n.Members())
		slices.SortFunc(members, func(a, b document.Member) int { return cmp.Compare(a.Key, b.Key) })
		out.WriteByte('{')
		for _, m := range members {
			out.WriteString(document.QuoteJSON(m.Key))
			write(out, m.Value)
		}
		out.WriteByte('}')
	case document.List:
		out.WriteByte('[')
		for _, item := range n.Items() {
			write(out, item)
			out.WriteByte(',')
		}
		out.WriteByte(']')
	case document.Null:
		out.WriteString("null")
	case document.Text:
		out.WriteString(document.QuoteJSON(n.Text))
	default:
		if d, ok := document.Decimal(n.Text); ok {
			reduced, _ := d.Reduce(d)
			out.WriteString(reduced.Text('G'))
			return
		}
		out.WriteString(document.QuoteJSON(n.Text))
	}
}

// order finds which of the elements that belong together are at another place: as few
// as can be, so that one that goes to the front does not move all others.
func (m *matching) order() {
	// The longest run of places that ascends stays; all others moved.
	var tails, before []int
	last := map[int]int{}
	for i, j := range m.ofA {
		if j < 0 {
			continue
		}
		at, _ := slices.BinarySearchFunc(tails, j, func(k, j int) int { return cmp.Compare(m.ofA[k], j) })
		if at == len(tails) {
			tails = append(tails, i)
		} else {
			tails[at] = i
		}
		if at > 0 {
			last[i] = tails[at-1] + 1
		}
		before = append(before, i)
	}
	stays := map[int]bool{}
	if len(tails) > 0 {
		for i := tails[len(tails)-1]; ; i = last[i] - 1 {
			stays[i] = true
			if last[i] == 0 {
				break
			}
		}
	}
	for _, i := range before {
		if !stays[i] {
			m.moved[i] = true
		}
	}
}
