package compare

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
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
	c.sizes = map[string][2]int{}
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
	order := map[string]int{}
	for i, d := range slices.Backward(found) {
		order[d.Path] = i
	}
	slices.SortStableFunc(c.out, func(x, y Difference) int { return cmp.Compare(orderOf(order, x), orderOf(order, y)) })
	return c.out
}

// orderOf is where the first difference is at a path of another one, or at what that is in.
func orderOf(order map[string]int, d Difference) int {
	for _, path := range []string{d.Path, d.Into} {
		path, _, _ = strings.Cut(path, ", ")
		for ; path != ""; path, _ = parent(path) {
			if i, is := order[path]; is {
				return i
			}
		}
	}
	return len(order)
}

// part is something that is in one document alone, or is in what is.
type part struct {
	node   *document.Node
	path   string
	at     string
	inside *part   // what it is in, where that is in one document alone too
	parts  []*part // what is in it
	used   bool
	holds  bool // something in it is used
	size   int  // how many single values
}

// use notes that something was said of the part.
func (p *part) use() {
	p.used = true
	for above := p.inside; above != nil; above = above.inside {
		above.holds = true
	}
}

// mostParts bounds the parts that are held against each other, and deepest how far down they are looked for.
const (
	mostParts = 4_000
	deepest   = 4
)

// spread lists a node with what is in it.
func spread(n *document.Node, where, at string, inside *part) []*part {
	p := &part{node: n, path: where, at: at, inside: inside}
	out := []*part{p}
	depth := 0
	for above := inside; above != nil; above = above.inside {
		depth++
	}
	if depth < deepest {
		for _, m := range n.Members() {
			inner := spread(m.Value, path.Below(where, m.Key), path.Below(at, m.Key), p)
			p.parts, out = append(p.parts, inner[0]), append(out, inner...)
		}
		for i, item := range n.Items() {
			inner := spread(item, where+"["+strconv.Itoa(i)+"]", at, p)
			p.parts, out = append(p.parts, inner[0]), append(out, inner...)
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

// isKeyed says whether an element is named by its key: [id=L-1].
func isKeyed(name string) bool { return isIndex(name) && strings.Contains(name, "=") }

// relating finds what belongs together.
type relating struct {
	*comparing
	gone, new []*part
}

// tell tells of two parts that belong together, and of what differs within them.
func (r *relating) tell(kind Kind, from, into *part, sure float64) {
	from.use()
	into.use()
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
				r.besides(Added, p)
			} else {
				r.tell(Unwrapped, p, one, score)
				r.besides(Removed, p)
			}
			break
		}
	}
}

// besides tells of what is beside a part in what it is in, and in what that is in.
func (r *relating) besides(kind Kind, p *part) {
	if p.inside == nil {
		return
	}
	r.besides(kind, p.inside)
	for _, one := range spread(p.inside.node, p.inside.path, p.inside.at, nil)[1:] {
		if one.inside.top() && one.node != p.node {
			r.leftWhole(kind, one)
		}
	}
}

func (r *relating) leftWhole(kind Kind, p *part) {
	d := Difference{Kind: kind, Path: p.path, at: p.at}
	if kind == Added {
		d.B = p.node
	} else {
		d.A = p.node
	}
	r.add(d)
}

// groups finds members of an object that are together in a new one there, or were in one that is gone.
func (r *relating) groups() {
	r.group(r.gone, r.new, func(members []*part, around *part, sure float64) {
		for _, m := range members {
			m.use()
		}
		around.use()
		r.add(Difference{
			Kind: Wrapped, Path: r.together(members, 0), Into: around.path, A: asObject(members), B: around.node,
			at: around.at, Sure: math.Round(100*sure) / 100,
		})
		r.node(asObject(members), around.node, around.path, around.at)
	})
	r.group(r.new, r.gone, func(members []*part, around *part, sure float64) {
		for _, m := range members {
			m.use()
		}
		around.use()
		above, _ := parent(members[0].path)
		r.add(Difference{
			Kind: Unwrapped, Path: around.path, Into: r.together(members, 1), A: around.node, B: asObject(members),
			at: around.at, Sure: math.Round(100*sure) / 100,
		})
		r.node(around.node, asObject(members), above, around.at)
	})
}

// group looks for members of the same object, two or more, that are much like one thing on the other side in that
// object.
func (r *relating) group(members, others []*part, tell func(members []*part, around *part, sure float64)) {
	byPath := map[string]*part{}
	for _, p := range members {
		if p.top() && p.isFree() {
			byPath[p.path] = p
		}
	}
	for _, around := range others {
		above, name := parent(around.path)
		if !around.top() || !around.isFree() || isIndex(name) || around.node.Kind != document.Object {
			continue
		}
		var inside []*part
		for _, m := range around.node.Members() {
			if p := byPath[path.Below(above, m.Key)]; p != nil && p.isFree() {
				inside = append(inside, p)
			}
		}
		if len(inside) < 2 {
			continue
		}
		if score := likeness(asObject(inside), around.node); score > 0.6 {
			tell(inside, around, score)
		}
	}
}

// together says where members of an object are: at its path, where they are all that it has on their side.
func (r *relating) together(members []*part, side int) string {
	if above, _ := parent(members[0].path); r.sizes[above][side] == len(members) {
		return cmp.Or(above, "answer")
	}
	return pathsOf(members)
}

// pathsOf lists where parts are.
func pathsOf(members []*part) string {
	var all []string
	for _, m := range members {
		all = append(all, m.path)
	}
	return strings.Join(all, ", ")
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
	gone, added := r.gone[:min(len(r.gone), mostParts)], r.new[:min(len(r.new), mostParts)]
	r.pieces(gone, added, Split)
	r.pieces(added, gone, Joined)
}

func (r *relating) pieces(wholes, parts []*part, kind Kind) {
	for _, whole := range wholes {
		text := whole.node.Text
		if !whole.node.IsScalar() || len(text) < 3 || !whole.isFree() {
			continue
		}
		above, _ := parent(whole.path)
		for i, first := range parts {
			if !first.node.IsScalar() || !first.isFree() || first.node.Text == "" || first.node.Text == text ||
				!strings.HasPrefix(text, first.node.Text) {
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
			whole.use()
			for _, p := range found {
				p.use()
			}
			d := Difference{
				Kind: kind, Path: whole.path, Into: pathsOf(found), A: whole.node, B: asObject(found),
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
		at, name := parent(p.path)
		if at == above && !isIndex(name) && p.isFree() && p.node.IsScalar() && p.node.Text != "" &&
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

// pair is two parts that may belong together.
type pair struct {
	from, into *part
	kind       Kind
	sure       float64
	score      float64 // by which the surest is taken: names and places count too
}

// pairs finds parts that are the same or much alike, the surest and largest first.
func (r *relating) pairs() {
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
		for _, into := range candidates[:min(len(candidates), mostCompared-compared)] {
			if p, ok := pairOf(from, into); ok {
				all = append(all, p)
			}
		}
		compared += min(len(candidates), mostCompared-compared)
	}
	slices.SortStableFunc(all, func(x, y pair) int {
		return cmp.Or(
			cmp.Compare(y.from.size, x.from.size), cmp.Compare(y.score, x.score),
			cmp.Compare(len(x.into.path), len(y.into.path)))
	})
	for _, p := range all {
		if p.from.isFree() && p.into.isFree() && !p.from.holds && !p.into.holds {
			r.tell(p.kind, p.from, p.into, p.sure)
		}
	}
}

// pairOf says whether two parts may belong together, and how sure that is.
func pairOf(from, into *part) (pair, bool) {
	above, name := parent(from.path)
	otherAbove, otherName := parent(into.path)
	isBeside := above == otherAbove && from.top() && into.top() && !isIndex(name) && !isIndex(otherName)
	hasName := name == otherName && !isIndex(name)
	score := alikeness(from.node, into.node)
	switch {
	case score <= 0.5,
		above == otherAbove && isKeyed(name) && isKeyed(otherName), // two things, by their key
		!tells(from.node) && !hasName && !isBeside,
		!from.top() && !into.top() && alikeness(from.inside.node, into.inside.node) > 0.5: // what they are in is paired
		return pair{}, false
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
	return p, true
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
	tops := map[Kind]map[string]*part{Removed: {}, Added: {}}
	for kind, parts := range map[Kind][]*part{Removed: r.gone, Added: r.new} {
		for _, p := range parts {
			if p.top() {
				tops[kind][p.path] = p
			}
		}
	}
	for _, d := range found {
		p := tops[d.Kind][d.Path]
		switch {
		case d.Kind == "":
			continue
		case p == nil:
			r.add(d)
			continue
		}
		r.left(d.Kind, p)
	}
}

// left tells of a part of which nothing was said, or of what in it nothing was said of.
func (r *relating) left(kind Kind, p *part) {
	switch {
	case p.used:
	case !p.holds:
		r.leftWhole(kind, p)
	default:
		for _, inner := range p.parts {
			r.left(kind, inner)
		}
	}
}
