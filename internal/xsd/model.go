package xsd

// A model is a content model as an automaton: one position for each place where an
// element or wildcard is named, edges to what may follow (the construction of
// Glushkov). Small numbers of occurrences are written out; large ones are counted,
// so that maxOccurs="1000000" costs no more than maxOccurs="2".
type model struct {
	positions []position
	start     []*edgeSet // one, or none when nothing may be there
	empty     bool
	counters  []counter
	// several says that an element may lead to several positions at once: there are
	// counters, or copies of a particle between which only what follows decides.
	several  bool
	all      []*Particle // of an all group, which is not an automaton: it has a position for each, and one start
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
		first := &edgeSet{}
		for i, particle := range g.Particles {
			m.positions = append(m.positions, position{element: particle.Term.(*Element), origin: particle})
			first.edges = append(first.edges, edge{to: i})
		}
		m.start = []*edgeSet{first}
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
