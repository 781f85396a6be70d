package xsd

import (
	"encoding/binary"
)

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
	to, decl, ok := s.find(m, m.start[0], name)
	if ok && st.seen[to] {
		to, decl, ok = s.again(m, st, to, name)
	}
	if !ok {
		return nil, nil, false
	}
	st.seen[to], st.begun = true, true
	return &m.positions[to], decl, true
}

// again finds, in a group of all that has a name twice though it should not, the next element of that name.
func (s *Schema) again(m *model, st *state, after int, name Name) (to int, decl *Element, ok bool) {
	for to = after + 1; to < len(m.all); to++ {
		if decl, ok = s.holds(&m.positions[to], name); ok && !st.seen[to] {
			return to, decl, true
		}
	}
	return 0, nil, false
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

// passed gives the counts after an edge.
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
		for i := range m.all {
			if st.seen == nil || !st.seen[i] {
				add(&m.positions[i])
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
// so that what follows is checked against what should follow.
func (s *Schema) jump(m *model, st *state, name Name) (*position, *Element, bool) {
	if m.all != nil {
		to, decl, ok := s.find(m, m.start[0], name)
		if !ok {
			return nil, nil, false
		}
		return &m.positions[to], decl, true
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
