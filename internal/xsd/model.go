package xsd

import (
	"encoding/binary"
	"strings"
)

// A model is a content model as an automaton: one position for each place where an
// element or wildcard is named, edges to what may follow (the construction of
// Glushkov). Small numbers of occurrences are written out; large ones are counted,
// so that maxOccurs="1000000" costs no more than maxOccurs="2".
type model struct {
	positions []position
	start     []*edgeSet // one, or none when nothing may stand there
	empty     bool
	counters  []counter
	// several says that an element may lead to several positions at once: there are
	// counters, or copies of a particle between which only what follows decides.
	several  bool
	all      []*Particle // of an all group, which is no automaton
	allEmpty bool        // the all group itself may be missing
}

type position struct {
	element  *Element
	wildcard *Wildcard
	origin   *Particle // positions written out of one particle are one to the author
	sets     []*edgeSet
	ends     guardSet // how the content may end here
	isEnd    bool
}

// edgeSet are edges that several positions share: of a choice of a thousand
// elements that repeats, each leads to all.
type edgeSet struct {
	edges []edge
	index map[Name]int // by name, where there are many
}

// edge leads to a position, if its guards hold.
type edge struct {
	to     int
	guards guardSet
	enters []int // counters that begin with 1
}

// guardSet are counters that must have reached their least, and at most one that
// must not have reached its most and goes one up.
type guardSet struct {
	done []int
	loop int // counter, or -1
}

type counter struct{ min, max int }

// unrollTo is how many positions a number of occurrences may come to before it
// is counted instead.
const unrollTo = 64

// part is what a particle comes to: its first and last positions.
type part struct {
	nullable bool
	first    []edge
	last     []lastPosition
}

type lastPosition struct {
	position int
	done     []int
}

func newModel(p *Particle) *model {
	m := &model{}
	if p == nil {
		m.empty = true
		return m
	}
	if g, ok := p.Term.(*Group); ok && g.Kind == All {
		m.all = g.Particles
		m.allEmpty = p.Min == 0
		return m
	}
	whole := m.particle(p)
	m.start = []*edgeSet{{edges: whole.first}}
	m.empty = whole.nullable
	for _, l := range whole.last {
		at := &m.positions[l.position]
		at.isEnd = true
		at.ends = guardSet{done: l.done, loop: -1}
	}
	return m
}

// particle builds a particle with its occurrences.
func (m *model) particle(p *Particle) part {
	low, high := p.Min, p.Max
	if high == 0 {
		return part{nullable: true}
	}
	switch {
	case low == 1 && high == 1:
		return m.term(p)
	case low == 0 && high == 1:
		once := m.term(p)
		once.nullable = true
		return once
	case low <= 1 && high == Unbounded:
		many := m.term(p)
		m.repeat(many, -1)
		many.nullable = many.nullable || low == 0
		return many
	}
	size := m.sizeOf(p)
	times := high
	if high == Unbounded {
		times = low
	}
	if times > unrollTo || size*times > unrollTo {
		return m.counted(p)
	}
	whole := part{nullable: true}
	for range low {
		whole = m.follow(whole, m.term(p))
	}
	if high == Unbounded {
		rest := m.term(p)
		m.repeat(rest, -1)
		rest.nullable = true
		return m.follow(whole, rest)
	}
	// x(x(x)?)? and not x?x?x?: each copy leads to the next alone.
	rest := part{nullable: true}
	for i := range high - low {
		once := m.term(p)
		if i > 0 {
			once = m.follow(once, rest)
		}
		once.nullable = true
		rest = once
	}
	return m.follow(whole, rest)
}

// counted repeats a particle with a counter.
func (m *model) counted(p *Particle) part {
	c := len(m.counters)
	m.counters = append(m.counters, counter{p.Min, p.Max})
	inner := m.term(p)
	if inner.nullable {
		m.counters[c].min = 0
	}
	m.repeat(inner, c)
	out := part{nullable: inner.nullable || p.Min == 0}
	for _, e := range inner.first {
		e.enters = append(append([]int(nil), e.enters...), c)
		out.first = append(out.first, e)
	}
	for _, l := range inner.last {
		out.last = append(out.last, lastPosition{l.position, append(append([]int(nil), l.done...), c)})
	}
	return out
}

// repeat lets the first follow the last, counted or not.
func (m *model) repeat(p part, loop int) { m.connect(p.last, p.first, loop) }

// connect leads from each of the last to each of the first. Those that have no
// guards, or the same, share the edges.
func (m *model) connect(last []lastPosition, first []edge, loop int) {
	if len(first) == 0 {
		return
	}
	var shared *edgeSet
	var done []int
	for _, l := range last {
		if shared == nil || !sameCounters(done, l.done) {
			shared, done = &edgeSet{edges: make([]edge, len(first))}, l.done
			for i, f := range first {
				shared.edges[i] = edge{to: f.to, guards: guardSet{done: l.done, loop: loop}, enters: f.enters}
			}
		}
		at := &m.positions[l.position]
		at.sets = append(at.sets, shared)
	}
}

func sameCounters(a, b []int) bool { return len(a) == len(b) && sameCounts(a, b) }

func (m *model) follow(a, b part) part {
	m.connect(a.last, b.first, -1)
	out := part{nullable: a.nullable && b.nullable, first: a.first, last: b.last}
	if a.nullable {
		out.first = append(a.first[:len(a.first):len(a.first)], b.first...)
	}
	if b.nullable {
		out.last = append(a.last[:len(a.last):len(a.last)], b.last...)
	}
	return out
}

func (m *model) term(p *Particle) part {
	switch term := p.Term.(type) {
	case *Group:
		if term.Kind == Choice {
			var out part
			for _, inner := range term.Particles {
				one := m.particle(inner)
				out.nullable = out.nullable || one.nullable
				out.first = append(out.first, one.first...)
				out.last = append(out.last, one.last...)
			}
			return out
		}
		out := part{nullable: true}
		for _, inner := range term.Particles {
			out = m.follow(out, m.particle(inner))
		}
		return out
	case *Element:
		m.positions = append(m.positions, position{element: term, origin: p})
	case *Wildcard:
		m.positions = append(m.positions, position{wildcard: term, origin: p})
	}
	at := len(m.positions) - 1
	return part{first: []edge{{to: at, guards: guardSet{loop: -1}}}, last: []lastPosition{{position: at}}}
}

// sizeOf counts the positions of one occurrence.
func (m *model) sizeOf(p *Particle) int {
	g, ok := p.Term.(*Group)
	if !ok {
		return 1
	}
	size := 0
	for _, inner := range g.Particles {
		times := inner.Max
		if times == Unbounded {
			times = max(1, inner.Min)
		}
		if size += m.sizeOf(inner) * min(times, unrollTo); size > 1000 {
			break
		}
	}
	return size
}

// state is where in a model an element's content is. The zero value is the beginning.
type state struct {
	begun   bool
	at      int // with no counters: the position
	configs []config
	seen    []bool // of an all group
}

type config struct {
	at     int
	counts []int
}

// holds tells whether a position takes an element of that name, and which
// declaration that comes to: a member of a substitution group has its own.
func (s *Schema) holds(p *position, name Name) (*Element, bool) {
	if p.wildcard != nil {
		return nil, p.wildcard.Allows(name.Space)
	}
	if p.element.Name == name {
		return p.element, true
	}
	if p.element.Global {
		for _, member := range s.substitutes[p.element] {
			if member.Name == name {
				return member, true
			}
		}
	}
	return nil, false
}

// step moves on by an element. It gives the position that took it.
func (s *Schema) step(m *model, st *state, name Name) (taken *position, decl *Element, ok bool) {
	if m.all != nil {
		return s.stepAll(m, st, name)
	}
	if m.several {
		return s.stepSeveral(m, st, name)
	}
	for _, set := range m.sets(st) {
		if to, decl, ok := s.find(m, set, name); ok {
			st.begun, st.at = true, to
			return &m.positions[to], decl, true
		}
	}
	return nil, nil, false
}

// sets are the edges from where a state is that is in one place.
func (m *model) sets(st *state) []*edgeSet {
	if st.begun {
		return m.positions[st.at].sets
	}
	return m.start
}

// manyEdges is from how many edges on a look-up by name is worth its memory.
const manyEdges = 8

func (s *Schema) find(m *model, set *edgeSet, name Name) (to int, decl *Element, ok bool) {
	if set.index != nil {
		if to, ok := set.index[name]; ok {
			decl, _ := s.holds(&m.positions[to], name)
			return to, decl, true
		}
	}
	for i := range set.edges {
		p := &m.positions[set.edges[i].to]
		if set.index != nil && p.wildcard == nil {
			continue
		}
		if decl, ok := s.holds(p, name); ok {
			return set.edges[i].to, decl, true
		}
	}
	return 0, nil, false
}

// prepare makes the indexes of sets with many edges, and finds out whether one place
// is enough to know.
func (s *Schema) prepare(m *model) {
	_, overlapping := s.ambiguous(m, false)
	m.several = len(m.counters) > 0 || overlapping
	index := func(set *edgeSet) {
		if len(set.edges) <= manyEdges || set.index != nil {
			return
		}
		set.index = make(map[Name]int, len(set.edges))
		add := func(name Name, to int) {
			if _, met := set.index[name]; !met {
				set.index[name] = to
			}
		}
		for _, e := range set.edges {
			if element := m.positions[e.to].element; element != nil {
				add(element.Name, e.to)
				for _, member := range s.substitutes[element] {
					add(member.Name, e.to)
				}
			}
		}
	}
	for _, set := range m.start {
		index(set)
	}
	for i := range m.positions {
		for _, set := range m.positions[i].sets {
			index(set)
		}
	}
}

func (s *Schema) stepAll(m *model, st *state, name Name) (*position, *Element, bool) {
	if st.seen == nil {
		st.seen = make([]bool, len(m.all))
	}
	for i, particle := range m.all {
		p := position{element: particle.Term.(*Element), origin: particle}
		if decl, ok := s.holds(&p, name); ok && !st.seen[i] {
			st.seen[i], st.begun = true, true
			return &p, decl, true
		}
	}
	return nil, nil, false
}

// stepSeveral follows every way that is open: which count or copy an element
// belongs to may show only later.
func (s *Schema) stepSeveral(m *model, st *state, name Name) (taken *position, decl *Element, ok bool) {
	next := configSet{}
	try := func(counts []int, edges []edge) {
		for _, e := range edges {
			p := &m.positions[e.to]
			d, holds := s.holds(p, name)
			if !holds || !m.open(e.guards, counts) {
				continue
			}
			if taken == nil {
				taken, decl, ok = p, d, true
			}
			next.add(config{at: e.to, counts: m.passed(e, counts)})
		}
	}
	if !st.begun {
		for _, set := range m.start {
			try(make([]int, len(m.counters)), set.edges)
		}
	} else {
		for _, c := range st.configs {
			for _, set := range m.positions[c.at].sets {
				try(c.counts, set.edges)
			}
		}
	}
	if ok {
		st.begun, st.configs = true, next.list
	}
	return taken, decl, ok
}

// mostConfigs bounds how many ways are followed side by side; beyond it, which
// takes counts within counts, the first ones stand for all.
const mostConfigs = 2048

// configSet are different configurations, in the order in which they were met.
type configSet struct {
	list []config
	seen map[string]bool // when there are many
}

func (s *configSet) add(c config) {
	const few = 16
	if len(s.list) >= mostConfigs {
		return
	}
	if len(s.list) < few {
		for _, other := range s.list {
			if other.at == c.at && sameCounts(other.counts, c.counts) {
				return
			}
		}
		s.list = append(s.list, c)
		return
	}
	if s.seen == nil {
		s.seen = map[string]bool{}
		for _, other := range s.list {
			s.seen[other.key()] = true
		}
	}
	if key := c.key(); !s.seen[key] {
		s.seen[key] = true
		s.list = append(s.list, c)
	}
}

func (c config) key() string {
	key := binary.AppendUvarint(make([]byte, 0, 16), uint64(c.at))
	for _, n := range c.counts {
		key = binary.AppendUvarint(key, uint64(n))
	}
	return string(key)
}

func sameCounts(a, b []int) bool {
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// open says whether the guards hold.
func (m *model) open(g guardSet, counts []int) bool {
	for _, c := range g.done {
		if counts[c] < m.counters[c].min {
			return false
		}
	}
	return g.loop < 0 || m.counters[g.loop].max == Unbounded || counts[g.loop] < m.counters[g.loop].max
}

// passed gives the counts behind an edge.
func (m *model) passed(e edge, counts []int) []int {
	after := append([]int(nil), counts...)
	for _, c := range e.guards.done {
		if c != e.guards.loop {
			after[c] = 0
		}
	}
	if c := e.guards.loop; c >= 0 {
		// Without a bound it is enough to know that the least is reached.
		if after[c]++; m.counters[c].max == Unbounded {
			after[c] = min(after[c], m.counters[c].min)
		}
	}
	for _, c := range e.enters {
		after[c] = 1
	}
	return after
}

// mayEnd says whether the content is complete.
func (m *model) mayEnd(st *state) bool {
	switch {
	case m.all != nil:
		if !st.begun && m.allEmpty {
			return true
		}
		for i, p := range m.all {
			if p.Min > 0 && (st.seen == nil || !st.seen[i]) {
				return false
			}
		}
		return true
	case !st.begun:
		return m.empty
	case !m.several:
		return m.positions[st.at].isEnd
	}
	for _, c := range st.configs {
		if p := &m.positions[c.at]; p.isEnd && m.open(p.ends, c.counts) {
			return true
		}
	}
	return false
}

// expected lists in words what may come next.
func (m *model) expected(st *state) []string {
	var words []string
	seen := map[string]bool{}
	add := func(p *position) {
		word := ""
		if p.wildcard != nil {
			word = p.wildcard.String()
		} else {
			word = p.element.Name.Local
		}
		if !seen[word] {
			seen[word] = true
			words = append(words, word)
		}
	}
	switch {
	case m.all != nil:
		for i, particle := range m.all {
			if st.seen == nil || !st.seen[i] {
				add(&position{element: particle.Term.(*Element)})
			}
		}
	case !m.several || !st.begun:
		for _, set := range m.sets(st) {
			for _, e := range set.edges {
				add(&m.positions[e.to])
			}
		}
	default:
		for _, c := range st.configs {
			for _, set := range m.positions[c.at].sets {
				for _, e := range set.edges {
					if m.open(e.guards, c.counts) {
						add(&m.positions[e.to])
					}
				}
			}
		}
	}
	return words
}

// jump goes to the place where an element of that name stands, after an error,
// so that what follows is held against what should follow.
func (s *Schema) jump(m *model, st *state, name Name) (*position, *Element, bool) {
	if m.all != nil {
		for _, particle := range m.all {
			p := position{element: particle.Term.(*Element), origin: particle}
			if decl, ok := s.holds(&p, name); ok {
				return &p, decl, true
			}
		}
		return nil, nil, false
	}
	from := 0
	if st.begun && !m.several {
		from = st.at
	}
	order := make([]int, 0, len(m.positions))
	for i := range m.positions {
		order = append(order, (from+1+i)%len(m.positions))
	}
	for _, at := range order {
		p := &m.positions[at]
		if p.element == nil {
			continue
		}
		decl, ok := s.holds(p, name)
		if !ok {
			continue
		}
		st.begun, st.at = true, at
		counts := make([]int, len(m.counters))
		for i := range counts {
			counts[i] = max(1, m.counters[i].min)
		}
		st.configs = []config{{at: at, counts: counts}}
		return p, decl, true
	}
	return nil, nil, false
}

// model gives the automaton of a type, made when it is first needed.
func (s *Schema) model(t *ComplexType) *model {
	if m := t.automaton.Load(); m != nil {
		return m
	}
	m := newModel(t.Particle)
	s.prepare(m)
	t.automaton.CompareAndSwap(nil, m)
	return t.automaton.Load()
}

// ambiguous finds two particles of which a reader could not tell which an
// element belongs to (Part 1, 3.8.6: Unique Particle Attribution). Copies of one
// particle are one to the author, and count as several only if asked for.
func (s *Schema) ambiguous(m *model, ofAuthor bool) (words string, found bool) {
	checked := map[*edgeSet]bool{}
	check := func(sets []*edgeSet) bool {
		if len(sets) == 1 {
			if checked[sets[0]] {
				return false
			}
			checked[sets[0]] = true
		}
		byName := map[Name]*Particle{}
		var wildcards []*position
		var edges []edge
		for _, set := range sets {
			edges = append(edges, set.edges...)
		}
		for _, e := range edges {
			p := &m.positions[e.to]
			if p.wildcard != nil {
				wildcards = append(wildcards, p)
				continue
			}
			names := []Name{p.element.Name}
			if p.element.Global {
				for _, member := range s.substitutes[p.element] {
					names = append(names, member.Name)
				}
			}
			for _, name := range names {
				if other := byName[name]; other != nil && (other != p.origin || !ofAuthor) {
					words = name.Local + " could belong to two places of the content model"
					return true
				}
				byName[name] = p.origin
			}
		}
		for i, w := range wildcards {
			for name := range byName {
				if w.wildcard.Allows(name.Space) {
					words = name.Local + " could be meant itself, or as " + w.wildcard.String()
					return true
				}
			}
			for _, other := range wildcards[:i] {
				if (other.origin != w.origin || !ofAuthor) && overlap(other.wildcard, w.wildcard) {
					words = "an element could belong to two wildcards"
					return true
				}
			}
		}
		return false
	}
	if check(m.start) {
		return words, true
	}
	for i := range m.positions {
		if check(m.positions[i].sets) {
			return words, true
		}
	}
	return "", false
}

func overlap(a, b *Wildcard) bool {
	both := a.intersect(b)
	return both.any || both.not != nil || len(both.spaces) > 0
}

// behind puts alternatives behind a message, if there are some.
func behind(separator string, words []string) string {
	if len(words) == 0 {
		return ""
	}
	return separator + inWords(words, 8)
}

// inWords joins alternatives for a message.
func inWords(words []string, most int) string {
	if len(words) > most {
		words = append(append([]string(nil), words[:most]...), "or one of others")
		return strings.Join(words, ", ")
	}
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
