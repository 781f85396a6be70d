package compare

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// What became of something that is at another place in the second document.
const (
	Renamed   Kind = "renamed"   // it has another name, in the same object
	Wrapped   Kind = "wrapped"   // it is in an object or a list that is new
	Unwrapped Kind = "unwrapped" // the object or list that it was in is gone
	Split     Kind = "split"     // one text is several
	Joined    Kind = "joined"    // several texts are one
)

// Summary counts differences by their kinds, the kinds in the order in which they are told.
func Summary(differences []Difference) (kinds []Kind, counts map[Kind]int) {
	counts = map[Kind]int{}
	for _, d := range differences {
		counts[d.Kind]++
	}
	for _, kind := range []Kind{Changed, Retyped, Renamed, Moved, Split, Joined, Wrapped, Unwrapped, Removed, Added} {
		if counts[kind] > 0 {
			kinds = append(kinds, kind)
		}
	}
	return kinds, counts
}

// Related compares two documents as Trees does, and finds what is at another place in the second: what would be removed
// here and added there is told as renamed, moved, wrapped, split or joined, with how sure that is. What differs within
// it is told too.
func Related(a, b *document.Node, o Options) []Difference {
	c := newComparing(o)
	c.node(Plain(a), Plain(b), "", "")
	r := &relating{comparing: c}
	for _, d := range c.out {
		switch d.Kind {
		case Removed:
			r.gone = append(r.gone, spread(d.A, d.Path, d.at, nil)...)
		case Added:
			r.new = append(r.new, spread(d.B, d.Path, d.at, nil)...)
		}
	}
	found := c.out
	c.out = nil
	r.changedAround(found)
	r.groups()
	r.texts()
	r.pairs()
	r.leftOf(found)
	slices.SortStableFunc(c.out, func(x, y Difference) int { return cmp.Compare(orderOf(found, x), orderOf(found, y)) })
	return c.out
}

// orderOf is where the first difference at the path of another one is.
func orderOf(found []Difference, d Difference) int {
	for i, one := range found {
		if one.Path == d.Path || isBelow(d.Path, one.Path) || isBelow(d.Into, one.Path) || d.Into == one.Path {
			return i
		}
	}
	return len(found)
}

func isBelow(path, above string) bool {
	rest, ok := strings.CutPrefix(path, above)
	return ok && rest != "" && strings.ContainsAny(rest[:1], ".[")
}

// part is something that is in one document alone, or is in what is.
type part struct {
	node   *document.Node
	path   string
	at     string
	inside *part // what it is in, where that is in one document alone too
	used   bool
	size   int // how many single values
}

// mostParts bounds the parts that are held against each other, and deepest how far down they are looked for.
const (
	mostParts = 4_000
	deepest   = 4
)

// spread lists a node with what is in it.
func spread(n *document.Node, path, at string, inside *part) []*part {
	p := &part{node: n, path: path, at: at, inside: inside}
	out := []*part{p}
	depth := 0
	for above := inside; above != nil; above = above.inside {
		depth++
	}
	if depth < deepest {
		for _, m := range n.Members() {
			out = append(out, spread(m.Value, below(path, m.Key), below(at, m.Key), p)...)
		}
		for i, item := range n.Items() {
			out = append(out, spread(item, path+"["+strconv.Itoa(i)+"]", at, p)...)
		}
	}
	p.size = max(1, len(out)-1)
	return out
}

// top says whether it is itself what is in one document alone.
func (p *part) top() bool { return p.inside == nil }

// isFree says whether nothing was said of it yet, or of what it is in.
func (p *part) isFree() bool {
	for one := p; one != nil; one = one.inside {
		if one.used {
			return false
		}
	}
	return true
}

// parent is the path of what something is in, and the name that it has there.
func parent(path string) (above, name string) {
	if strings.HasSuffix(path, "]") {
		at := strings.LastIndexByte(path, '[')
		return path[:at], path[at:]
	}
	at := strings.LastIndexByte(path, '.')
	return path[:max(at, 0)], path[at+1:]
}

func isIndex(name string) bool { return strings.HasPrefix(name, "[") && !strings.HasPrefix(name, `["`) }

// relating finds what belongs together.
type relating struct {
	*comparing
	gone, new []*part
}

// tell tells of two parts that belong together, and of what differs within them.
func (r *relating) tell(kind Kind, from, into *part, sure float64) {
	from.used, into.used = true, true
	r.add(Difference{
		Kind: kind, Path: from.path, Into: into.path, A: from.node, B: into.node, at: from.at,
		Sure: math.Round(100*min(sure, 1)) / 100,
	})
	if canonical(from.node) != canonical(into.node) {
		r.node(from.node, into.node, into.path, into.at)
	}
}

// changedAround finds values in place of which there is an object or a list with them in it, or the other way round.
func (r *relating) changedAround(found []Difference) {
	for i, d := range found {
		if d.Kind != Changed {
			continue
		}
		kind, outer, inner := Wrapped, d.B, d.A
		if d.A.Kind != document.Object && d.A.Kind != document.List {
		} else if d.B.IsScalar() || d.A.Kind != d.B.Kind && len(canonical(d.A)) > len(canonical(d.B)) {
			kind, outer, inner = Unwrapped, d.A, d.B
		}
		if outer.IsScalar() {
			continue
		}
		for _, p := range spread(outer, d.Path, d.at, nil)[1:] {
			score := alikeness(p.node, inner)
			if score <= 0.5 || p.node.IsScalar() && !inner.IsScalar() {
				continue
			}
			one := &part{node: inner, path: d.Path, at: d.at}
			found[i].Kind = "" // told
			if kind == Wrapped {
				r.tell(Wrapped, one, p, score)
			} else {
				r.tell(Unwrapped, p, one, score)
			}
			break
		}
	}
}

// groups finds members of an object that are together in a new one there, or were in one that is gone.
func (r *relating) groups() {
	r.group(r.gone, r.new, func(members []*part, around *part, sure float64) {
		for _, m := range members {
			m.used = true
		}
		around.used = true
		above, _ := parent(members[0].path)
		r.add(Difference{
			Kind: Wrapped, Path: cmp.Or(above, "answer"), Into: around.path, A: asObject(members), B: around.node,
			at: around.at, Sure: math.Round(100*sure) / 100,
		})
		r.node(asObject(members), around.node, around.path, around.at)
	})
	r.group(r.new, r.gone, func(members []*part, around *part, sure float64) {
		for _, m := range members {
			m.used = true
		}
		around.used = true
		above, _ := parent(members[0].path)
		r.add(Difference{
			Kind: Unwrapped, Path: around.path, Into: cmp.Or(above, "answer"), A: around.node, B: asObject(members),
			at: around.at, Sure: math.Round(100*sure) / 100,
		})
		r.node(around.node, asObject(members), above, around.at)
	})
}

// group looks for members of the same object, two or more, that are much like one thing on the other side in that
// object.
func (r *relating) group(members, others []*part, tell func(members []*part, around *part, sure float64)) {
	byParent := map[string][]*part{}
	for _, p := range members {
		if above, name := parent(p.path); p.top() && p.isFree() && !isIndex(name) {
			byParent[above] = append(byParent[above], p)
		}
	}
	for _, around := range others {
		above, name := parent(around.path)
		if !around.top() || !around.isFree() || isIndex(name) || around.node.Kind != document.Object {
			continue
		}
		inside := slices.DeleteFunc(slices.Clone(byParent[above]), func(p *part) bool {
			_, name := parent(p.path)
			return !p.isFree() || around.node.Get(name) == nil
		})
		if len(inside) < 2 {
			continue
		}
		if score := likeness(asObject(inside), around.node); score > 0.6 {
			tell(inside, around, score)
		}
	}
}

func asObject(members []*part) *document.Node {
	out := document.NewObject()
	for _, m := range members {
		_, name := parent(m.path)
		out.AppendMembers(document.Member{Key: name, Value: m.node})
	}
	return out
}

// separators are what is between the parts of a text that is split.
var separators = []string{" ", ", ", ",", "-", "/", " - ", ":", "T", ";", "; ", "_", ""}

// texts finds a text that is several on the other side, and several that are one.
func (r *relating) texts() {
	r.pieces(r.gone, r.new, Split)
	r.pieces(r.new, r.gone, Joined)
}

func (r *relating) pieces(wholes, parts []*part, kind Kind) {
	for _, whole := range wholes {
		text := whole.node.Text
		if !whole.node.IsScalar() || len(text) < 3 || !whole.isFree() {
			continue
		}
		above, _ := parent(whole.path)
		for i, first := range parts {
			if !first.node.IsScalar() || !first.isFree() || first.node.Text == "" || first.node.Text == text {
				continue
			}
			firstAbove, _ := parent(first.path)
			if outer, _ := parent(firstAbove); firstAbove != above && outer != above {
				continue
			}
			found := piecesOf(text, parts[i:], firstAbove)
			if found == nil {
				continue
			}
			whole.used = true
			var names []string
			for _, p := range found {
				p.used = true
				names = append(names, p.path)
			}
			d := Difference{
				Kind: kind, Path: whole.path, Into: strings.Join(names, ", "), A: whole.node, B: asObject(found),
				at: whole.at, Sure: 1,
			}
			if kind == Joined {
				d.Path, d.Into, d.A, d.B = d.Into, d.Path, d.B, d.A
			}
			r.add(d)
			break
		}
	}
}

// piecesOf are the parts in a row, of one object, that make up a text with something between them, in any order;
// nil where they do not.
func piecesOf(text string, parts []*part, above string) []*part {
	var siblings []*part
	for _, p := range parts {
		if at, name := parent(p.path); at == above && p.node.IsScalar() && p.isFree() && p.node.Text != "" && !isIndex(name) &&
			strings.Contains(text, p.node.Text) {
			siblings = append(siblings, p)
		}
	}
	if len(siblings) < 2 || len(siblings) > 5 {
		return nil
	}
	slices.SortStableFunc(siblings, func(x, y *part) int {
		return cmp.Compare(strings.Index(text, x.node.Text), strings.Index(text, y.node.Text))
	})
	for n := len(siblings); n >= 2; n-- {
		for _, separator := range separators {
			var texts []string
			for _, p := range siblings[:n] {
				texts = append(texts, p.node.Text)
			}
			if strings.Join(texts, separator) == text {
				return siblings[:n]
			}
		}
	}
	return nil
}

// alikeness is how much two values are alike, from 0 to 1: single ones that are the same, others by their content.
func alikeness(a, b *document.Node) float64 {
	switch {
	case a.IsScalar() != b.IsScalar():
		return 0
	case a.IsScalar():
		if Same(a, b) {
			return 1
		}
		return 0
	case canonical(a) == canonical(b):
		return 1
	case a.Kind == document.List && len(a.Items()) > 0 && len(b.Items()) > 0:
		return max(likeness(a, b), listLikeness(a, b))
	}
	return likeness(a, b)
}

// listLikeness is how much the elements of two lists are alike, as they are at their places.
func listLikeness(a, b *document.Node) float64 {
	if a.Kind != b.Kind {
		return 0
	}
	sum := 0.0
	for i := range min(len(a.Items()), len(b.Items())) {
		if !a.Items()[i].IsScalar() {
			sum += likeness(a.Items()[i], b.Items()[i])
		}
	}
	return sum / float64(max(len(a.Items()), len(b.Items())))
}

// tells says whether a value is one that hardly comes twice by chance.
func tells(n *document.Node) bool {
	if !n.IsScalar() {
		return len(n.Members())+len(n.Items()) > 0
	}
	return n.Kind != document.Boolean && n.Kind != document.Null && len(n.Text) >= 3
}

// pairs finds parts that are the same or much alike, the surest and largest first.
func (r *relating) pairs() {
	type pair struct {
		from, into *part
		score      float64
		sure       float64
		kind       Kind
	}
	var all []pair
	byText := map[string][]*part{}
	objects := []*part{}
	for _, p := range r.new[:min(len(r.new), mostParts)] {
		if !p.isFree() {
			continue
		}
		byText[canonical(p.node)] = append(byText[canonical(p.node)], p)
		if !p.node.IsScalar() {
			objects = append(objects, p)
		}
	}
	compared := 0
	for _, from := range r.gone[:min(len(r.gone), mostParts)] {
		if !from.isFree() {
			continue
		}
		candidates := byText[canonical(from.node)]
		if !from.node.IsScalar() {
			candidates = append(slices.Clone(candidates), objects...)
		}
		for _, into := range candidates {
			if compared++; compared > mostCompared {
				break
			}
			above, name := parent(from.path)
			otherAbove, otherName := parent(into.path)
			isBeside := above == otherAbove && from.top() && into.top() && !isIndex(name) && !isIndex(otherName)
			score := alikeness(from.node, into.node)
			hasName := name == otherName && !isIndex(name)
			switch {
			case score <= 0.5,
				!tells(from.node) && !hasName && !isBeside,
				isIndex(name) && isIndex(otherName) && !tells(from.node),
				!from.top() && !into.top() && from.inside != nil && into.inside != nil &&
					alikeness(from.inside.node, into.inside.node) > 0.5: // what they are in is paired
				continue
			}
			p := pair{from: from, into: into, score: score, sure: score, kind: kindOf(from, into, isBeside)}
			if !tells(from.node) {
				p.sure *= 0.7
			}
			if hasName {
				p.score += 0.2
			}
			if isBeside {
				p.score += 0.1 + 0.1*sharedStart(name, otherName)
			}
			all = append(all, p)
		}
	}
	slices.SortStableFunc(all, func(x, y pair) int {
		return cmp.Or(
			cmp.Compare(y.from.size, x.from.size), cmp.Compare(y.score, x.score),
			cmp.Compare(len(x.into.path), len(y.into.path)))
	})
	for _, p := range all {
		if p.from.isFree() && p.into.isFree() && !hasUsed(r.gone, p.from) && !hasUsed(r.new, p.into) {
			r.tell(p.kind, p.from, p.into, p.sure)
		}
	}
}

// hasUsed says whether something within a part was told of already.
func hasUsed(parts []*part, of *part) bool {
	return slices.ContainsFunc(parts, func(p *part) bool {
		if !p.used || p == of {
			return false
		}
		for above := p.inside; above != nil; above = above.inside {
			if above == of {
				return true
			}
		}
		return false
	})
}

// sharedStart is how much of two names is the same at their beginning, from 0 to 1.
func sharedStart(a, b string) float64 {
	a, b = strings.ToLower(a), strings.ToLower(b)
	n := 0
	for n < min(len(a), len(b)) && a[n] == b[n] {
		n++
	}
	return float64(n) / float64(max(len(a), len(b), 1))
}

// kindOf says what became of a part.
func kindOf(from, into *part, isBeside bool) Kind {
	above, _ := parent(from.path)
	otherAbove, _ := parent(into.path)
	outer, _ := parent(otherAbove)
	was, _ := parent(above)
	single := func(p *part) bool {
		return p.inside != nil && p.inside.top() && len(p.inside.node.Members())+len(p.inside.node.Items()) == 1
	}
	switch {
	case isBeside:
		return Renamed
	case from.top() && single(into) && outer == above:
		return Wrapped
	case into.top() && single(from) && was == otherAbove:
		return Unwrapped
	}
	return Moved
}

// leftOf tells of what nothing else was said of: what differs, and what is left of what is in one document alone.
func (r *relating) leftOf(found []Difference) {
	byPath := map[string]*part{}
	for _, p := range slices.Concat(r.gone, r.new) {
		if p.top() {
			byPath[p.path+map[bool]string{true: "\x00"}[slices.Contains(r.new, p)]] = p
		}
	}
	for _, d := range found {
		var p *part
		switch d.Kind {
		case "":
			continue
		case Removed:
			p = byPath[d.Path]
		case Added:
			p = byPath[d.Path+"\x00"]
		}
		if p == nil {
			r.add(d)
			continue
		}
		all := r.gone
		if d.Kind == Added {
			all = r.new
		}
		r.left(d.Kind, p, all)
	}
}

// left tells of a part of which nothing was said, or of what in it nothing was said of.
func (r *relating) left(kind Kind, p *part, all []*part) {
	switch {
	case p.used:
	case !hasUsed(all, p):
		d := Difference{Kind: kind, Path: p.path, at: p.at}
		if kind == Added {
			d.B = p.node
		} else {
			d.A = p.node
		}
		r.add(d)
	default:
		for _, inner := range all {
			if inner.inside == p {
				r.left(kind, inner, all)
			}
		}
	}
}
