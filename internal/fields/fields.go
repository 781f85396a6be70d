// Package fields finds one's way in an answer: every field with its path, its kind,
// how often it is there and what is in it. It goes through documents token by
// token and holds what it learnt of the fields, not the document. It judges nothing.
package fields

import (
	"cmp"
	"hash"
	"hash/fnv"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
)

// Field is one field of a document, or the same field of all elements of a list.
type Field struct {
	Path string `json:"path"`
	// text, integer, number, boolean, null, date, …, object, list; several with "or"
	Kind  string `json:"kind"`
	Count int    `json:"count"`              // how often it is there
	Of    int    `json:"of"`                 // how often it could be: in each element of the list that it belongs to
	Items []int  `json:"elements,omitempty"` // of a list: how many elements, the least and the most
	// Values are the first ones that differ; More says that there are others.
	Values []string `json:"values,omitempty"`
	More   bool     `json:"more,omitempty"`
	// Least and Most are the smallest and the largest, where there are several.
	Least string `json:"least,omitempty"`
	Most  string `json:"most,omitempty"`
	Depth int    `json:"-"`
	name  string
	steps []string // the names on the way, without lists
	stats *stats
	// isList says that it is a list of JSON, isElement that it is an element of XML that is repeated; lists and
	// empties are how often it is there as a list, and how often without elements.
	isList, isElement bool
	lists, empties    int
}

// Limits of what is learnt of a document.
const (
	mostFields = 20_000
	mostValues = 6   // of one field
	mostText   = 120 // characters of a value
)

// node is what was learnt of one field.
type node struct {
	name     string
	attr     bool
	parent   *node
	children []*node
	byName   map[string]*node
	element  *node // of a list
	count    int   // how often it is there
	lists    int   // how often as a list
	empties  int   // how often without elements
	least    int   // elements of a list
	most     int
	objects  int
	nulls    int
	values   int
	stats    stats
	// Of an element of XML: whether it is more than once in one parent, and how often in
	// those that have it.
	repeated              bool
	parents, fewest, many int
}

// stats is what was learnt of single values.
type stats struct {
	kinds  map[string]bool
	values []string
	times  []int // how often each of these came
	more   bool
	cut    bool // one is kept shortened
	hidden bool // one must not be shown
	texts  bool // they are texts of a type, not what has none
	order  order
	// What is so within each document: whether a value is there twice, whether each is
	// over the one before, and the fewest that there were.
	doc              int
	seen             map[string]bool
	last             string
	inDoc, fewest    int
	twice, unordered bool
	// How many values there are in documents whose values are not those of another one: a
	// call made twice does not make its answer twice as telling.
	fingerprint  hash.Hash64
	fingerprints map[uint64]bool
	telling      int
}

// mostSeen bounds the values among which doubles are looked for.
const mostSeen = 100_000

// Gatherer learns of fields as a document goes by.
type Gatherer struct {
	root   *node
	docs   int
	fields int
	rules  *Proposer // what rules need is learnt for it; nil where none are wanted
	// Full says that there were more fields than are told apart.
	Full bool
}

// NewGatherer begins to learn.
func NewGatherer() *Gatherer { return &Gatherer{root: &node{}} }

// child is a field below another, made where it is met.
func (g *Gatherer) child(n *node, name string, attr bool) *node {
	key := name
	if attr {
		key = "@" + name
	}
	if c := n.byName[key]; c != nil {
		return c
	}
	c := &node{name: name, attr: attr, parent: n}
	if g.fields >= mostFields {
		g.Full = true
		return c // learnt, and not told
	}
	g.fields++
	if n.byName == nil {
		n.byName = map[string]*node{}
	}
	n.byName[key] = c
	n.children = append(n.children, c)
	return c
}

func (n *node) item() *node {
	if n.element == nil {
		n.element = &node{parent: n}
	}
	return n.element
}

func (n *node) listed(count int) {
	if n.lists == 0 || count < n.least {
		n.least = count
	}
	n.most = max(n.most, count)
	n.lists++
	if count == 0 {
		n.empties++
	}
}

// occurred learns how often an element is in one parent.
func (n *node) occurred(times int) {
	if n.parents == 0 || times < n.fewest {
		n.fewest = times
	}
	n.many = max(n.many, times)
	n.parents++
	n.repeated = n.repeated || times > 1
}

// value learns of a single value.
func (g *Gatherer) value(n *node, v *document.Node) {
	n.values++
	n.stats.add(v)
	if g.rules != nil {
		n.stats.hidden = n.stats.hidden || g.rules.hidden(v.Text)
		n.stats.within(g.docs, v)
	}
}

// within learns how a value stands among those of the same document.
func (s *stats) within(doc int, v *document.Node) {
	if doc != s.doc || s.seen == nil {
		s.endDoc()
		s.doc, s.seen, s.inDoc, s.fingerprint = doc, map[string]bool{}, 0, fnv.New64a()
	}
	_, _ = s.fingerprint.Write([]byte(v.Text + "\x00"))
	if s.inDoc > 0 && !s.unordered {
		after := v.Text > s.last
		if document.IsNumber(v.Text) && document.IsNumber(s.last) {
			after = compareNumbers(v.Text, s.last) > 0
		}
		s.unordered = !after
	}
	if !s.twice {
		s.twice = s.seen[v.Text] || len(s.seen) >= mostSeen
		s.seen[v.Text] = true
	}
	s.last = v.Text
	s.inDoc++
}

// ended closes the last document.
func (s *stats) ended() *stats {
	s.endDoc()
	return s
}

func (s *stats) endDoc() {
	if s.inDoc == 0 {
		return
	}
	if s.fewest == 0 || s.inDoc < s.fewest {
		s.fewest = s.inDoc
	}
	if s.fingerprints == nil {
		s.fingerprints = map[uint64]bool{}
	}
	if sum := s.fingerprint.Sum64(); !s.fingerprints[sum] {
		s.fingerprints[sum] = true
		s.telling += s.inDoc
	}
}

func (s *stats) add(v *document.Node) {
	s.texts = s.texts || v.Kind == document.Text
	if s.kinds == nil {
		s.kinds = map[string]bool{}
	}
	if len(s.kinds) < 8 {
		s.kinds[rule.KindOf(v)] = true
	}
	if !s.more {
		text := shortened(v.Text)
		s.cut = s.cut || text != v.Text
		switch at := slices.Index(s.values, text); {
		case at >= 0:
			s.times[at]++
		case len(s.values) < mostValues:
			s.values, s.times = append(s.values, text), append(s.times, 1)
		default:
			s.more = true
		}
	}
	s.order.add(v)
}

// order keeps the smallest and the largest of values: as numbers where all of them are
// numbers, else as texts.
type order struct {
	begun, numbers         bool
	least, most            string // as texts
	leastNumber, mostValue string
}

func (o *order) add(v *document.Node) {
	isNumber := v.Kind == document.Number || v.Kind == document.Untyped && document.IsNumber(v.Text)
	if !o.begun {
		*o = order{begun: true, numbers: isNumber, least: v.Text, most: v.Text, leastNumber: v.Text, mostValue: v.Text}
		return
	}
	o.numbers = o.numbers && isNumber
	if o.numbers {
		if compareNumbers(v.Text, o.leastNumber) < 0 {
			o.leastNumber = v.Text
		}
		if compareNumbers(v.Text, o.mostValue) > 0 {
			o.mostValue = v.Text
		}
	}
	o.least, o.most = min(o.least, v.Text), max(o.most, v.Text)
}

// compareNumbers compares by value; where floating point sees no difference, exactly.
func compareNumbers(a, b string) int {
	x, errX := strconv.ParseFloat(a, 64)
	y, errY := strconv.ParseFloat(b, 64)
	if errX == nil && errY == nil && x != y {
		return cmp.Compare(x, y)
	}
	if a == b {
		return 0
	}
	exactA, okA := document.Decimal(a)
	exactB, okB := document.Decimal(b)
	if !okA || !okB {
		return 0
	}
	return exactA.Cmp(exactB)
}

func (o *order) bounds() (least, most string) {
	if o.numbers {
		return o.leastNumber, o.mostValue
	}
	return shortened(o.least), shortened(o.most)
}

func shortened(text string) string {
	if len(text) <= mostText && !strings.ContainsAny(text, " \t\r\n") {
		return text
	}
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > mostText {
		return string(runes[:mostText]) + "…"
	}
	return text
}

// Fields lists what was learnt, in the order of the document.
func (g *Gatherer) Fields() []Field {
	var out []Field
	g.root.fields(&out, "", nil, max(g.root.count, 1), 0)
	return out
}

// fields adds a node and what is below it. Of is how often it could be there.
func (n *node) fields(out *[]Field, at string, steps []string, of, depth int) {
	if n.parent != nil || len(n.children) == 0 && n.element == nil {
		f := Field{Path: at, Kind: n.kind(), Count: n.count, Of: of, Depth: depth, name: n.name, steps: steps}
		if at == "" {
			f.Path = "answer"
		}
		if n.lists > 0 {
			f.Items, f.isList, f.lists, f.empties = []int{n.least, n.most}, true, n.lists, n.empties
		}
		if n.values > 0 {
			f.Values, f.More, f.stats = n.stats.values, n.stats.more, n.stats.ended()
			if len(f.Values) > 1 || f.More {
				f.Least, f.Most = n.stats.order.bounds()
			}
		}
		*out = append(*out, f)
	} else if n.lists > 0 {
		*out = append(*out, Field{
			Path: "answer", Kind: n.kind(), Count: n.count, Of: of, Items: []int{n.least, n.most},
			steps: steps, isList: true, lists: n.lists, empties: n.empties,
		})
	}
	if n.element != nil {
		n.element.below(out, each(at), steps, n.element.count, depth)
		return
	}
	n.below(out, at, steps, n.count, depth)
}

func each(at string) string {
	if at == "" {
		return "answer[*]"
	}
	return at + "[*]"
}

// below adds what is below a node, and the values of a list of single ones.
func (n *node) below(out *[]Field, at string, steps []string, of, depth int) {
	if n.parent != nil && n.parent.element == n && (n.values > 0 || n.lists > 0 || n.nulls > 0) {
		f := Field{
			Path: at, Kind: n.kind(), Count: n.count, Of: of, Depth: depth + 1, name: n.parent.name,
			steps: steps, Values: n.stats.values, More: n.stats.more, stats: n.stats.ended(),
		}
		if n.lists > 0 {
			f.Items, f.isList, f.lists, f.empties = []int{n.least, n.most}, true, n.lists, n.empties
		}
		if len(f.Values) > 1 || f.More {
			f.Least, f.Most = n.stats.order.bounds()
		}
		*out = append(*out, f)
	}
	if n.element != nil {
		n.element.below(out, at+"[*]", steps, n.element.count, depth+1)
	}
	for _, c := range n.children {
		where := path.Segment(c.name)
		if c.attr && n.byName[c.name] != nil {
			where = "@" + where // an element has the same name
		}
		if at != "" && !strings.HasPrefix(where, "[") {
			where = at + "." + where
		} else {
			where = at + where
		}
		if c.repeated {
			c.asList(out, where, append(slices.Clone(steps), c.name), of, depth)
			continue
		}
		c.fields(out, where, append(slices.Clone(steps), c.name), of, depth+1)
	}
}

// asList adds an element of XML that is repeated: the list, then its elements.
func (n *node) asList(out *[]Field, at string, steps []string, of, depth int) {
	*out = append(*out, Field{
		Path: at, Kind: "list", Count: n.parents, Of: of, Items: []int{n.fewest, n.many},
		Depth: depth + 1, name: n.name, steps: steps, isElement: true,
	})
	if n.values > 0 {
		f := Field{
			Path: at + "[*]", Kind: n.kind(), Count: n.values, Of: n.count, Values: n.stats.values,
			More: n.stats.more, Depth: depth + 2, name: n.name, steps: steps, stats: n.stats.ended(),
		}
		if len(f.Values) > 1 || f.More {
			f.Least, f.Most = n.stats.order.bounds()
		}
		*out = append(*out, f)
	}
	n.below(out, at+"[*]", steps, n.count, depth+1)
}

// kind says what a field is, in all that it was.
func (n *node) kind() string {
	var words []string
	add := func(word string, is bool) {
		if is && !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	add("list", n.lists > 0)
	add("object", n.objects > 0)
	for _, kind := range rule.Merged(n.stats.kinds) {
		add(kind, true)
	}
	add("null", n.nulls > 0)
	if len(words) == 0 {
		return "empty"
	}
	return strings.Join(words, " or ")
}

// Is says whether a field is of a kind, or has it among others.
func (f *Field) Is(kind string) bool {
	return slices.Contains(strings.Split(f.Kind, " or "), kind) ||
		kind == "number" && strings.Contains(f.Kind, "integer") ||
		kind == "text" && !slices.ContainsFunc(strings.Split(f.Kind, " or "), func(k string) bool {
			return slices.Contains([]string{"integer", "number", "boolean", "null", "list", "object", "empty"}, k)
		})
}

// Has says whether a text is in the path or in a value, without regard to case.
func (f *Field) Has(text string) bool {
	text = strings.ToLower(text)
	holds := func(s string) bool { return strings.Contains(strings.ToLower(s), text) }
	return holds(f.Path) || slices.ContainsFunc(f.Values, holds) || holds(f.Least) || holds(f.Most)
}

// IsValue says whether the field is a single value, or one in each element of a list.
func (f *Field) IsValue() bool {
	return !f.Is("list") && !f.Is("object") && f.Kind != "empty"
}

// Short is the last step of the path, as a tree shows it.
func (f *Field) Short() string {
	short := f.Path
	if len(f.steps) > 0 {
		short = path.Segment(f.steps[len(f.steps)-1])
	}
	if strings.HasSuffix(f.Path, "[*]") {
		short += "[*]"
	}
	return short
}

// Span says in words what is in the field.
func (f *Field) Span() string {
	switch {
	case f.Items != nil && f.Items[0] == f.Items[1]:
		return elements(f.Items[0])
	case f.Items != nil:
		return strconv.Itoa(f.Items[0]) + " to " + elements(f.Items[1])
	case len(f.Values) == 0:
		return ""
	case f.More:
		return f.quoted(f.Least) + " to " + f.quoted(f.Most)
	}
	quoted := make([]string, len(f.Values))
	for i, v := range f.Values {
		quoted[i] = f.quoted(v)
	}
	return strings.Join(quoted, ", ")
}

// quoted puts texts into quotes, and leaves numbers as they are.
func (f *Field) quoted(text string) string {
	if !f.Is("text") && (f.Is("number") || f.Is("boolean")) {
		return text
	}
	return document.QuoteJSON(text)
}

func elements(n int) string {
	if n == 1 {
		return "1 element"
	}
	return strconv.Itoa(n) + " elements"
}
