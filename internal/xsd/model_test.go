package xsd

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// randomModel makes a content model, and the regular expression over the letters
// of its elements that accepts the same contents.
type randomModel struct {
	random   *rand.Rand
	elements map[string]*Element
}

func (r *randomModel) occurs() (low, high int) {
	switch r.random.IntN(8) {
	case 0, 1, 2:
		return 1, 1
	case 3:
		return 0, 1
	case 4:
		return 0, Unbounded
	case 5:
		return 1 + r.random.IntN(3), Unbounded
	case 6:
		low = r.random.IntN(3)
		return low, max(1, low+r.random.IntN(3))
	}
	// So many that they are counted, not written out.
	low = r.random.IntN(4)
	return low, low + unrollTo + r.random.IntN(20)
}

func (r *randomModel) particle(depth int) (*Particle, string) {
	low, high := r.occurs()
	p := &Particle{Min: low, Max: high}
	expression := ""
	if kind := r.random.IntN(3); depth == 0 || kind == 0 {
		letter := string(rune('a' + r.random.IntN(4)))
		if r.elements[letter] == nil {
			r.elements[letter] = &Element{Name: Name{Local: letter}, Type: anyType}
		}
		p.Term, expression = r.elements[letter], letter
	} else {
		g := &Group{Kind: Sequence}
		separator := ""
		if kind == 1 {
			g.Kind, separator = Choice, "|"
		}
		var parts []string
		for range 1 + r.random.IntN(3) {
			inner, text := r.particle(depth - 1)
			g.Particles, parts = append(g.Particles, inner), append(parts, text)
		}
		p.Term, expression = g, "(?:"+strings.Join(parts, separator)+")"
	}
	if high == Unbounded {
		return p, fmt.Sprintf("(?:%s){%d,}", expression, low)
	}
	return p, fmt.Sprintf("(?:%s){%d,%d}", expression, low, high)
}

// accepts runs the automaton over the letters of a text.
func accepts(s *Schema, m *model, text string) bool {
	var st state
	for _, letter := range text {
		if _, _, ok := s.step(m, &st, Name{Local: string(letter)}); !ok {
			return false
		}
	}
	return m.mayEnd(&st)
}

// Automata accept what the regular expressions of the same models accept.
func TestModelsAgainstRegularExpressions(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 204))
	s := &Schema{}
	models, counted, accepted, refused, ambiguities := 0, 0, 0, 0, 0
	for models < 300 {
		r := &randomModel{random: random, elements: map[string]*Element{}}
		p, source := r.particle(3)
		expression, err := regexp.Compile(`\A` + source + `\z`)
		if err != nil {
			continue // numbers within numbers that package regexp will not count
		}
		m := newModel(p)
		if len(m.counters) > 1 || len(m.positions) > 24 {
			continue // counts within counts are followed only so far
		}
		s.prepare(m)
		if _, ambiguous := s.ambiguous(m, true); ambiguous {
			ambiguities++ // no reader has to take those, but they are followed all the same
		}
		models++
		if len(m.counters) > 0 {
			counted++
		}
		for range 40 {
			text := randomText(random, p, random.IntN(3) > 0)
			want := expression.MatchString(text)
			if want {
				accepted++
			} else {
				refused++
			}
			require.Equal(t, want, accepts(s, m, text), "%s on %q", source, text)
		}
	}
	t.Logf("%d models, %d with counters, %d ambiguous; %d texts accepted, %d refused", models, counted, ambiguities,
		accepted, refused)
	require.Greater(t, counted, 50)
	require.Greater(t, accepted, 4_000)
	require.Greater(t, refused, 4_000)
}

// randomText follows the model, and with a slip now and then.
func randomText(random *rand.Rand, p *Particle, follow bool) string {
	var out strings.Builder
	if follow {
		walk(random, p, &out)
	} else {
		for range random.IntN(8) {
			out.WriteByte(byte('a' + random.IntN(4)))
		}
	}
	text := out.String()
	if len(text) > 150 {
		text = text[:150]
	}
	if text != "" && random.IntN(3) == 0 {
		at := random.IntN(len(text))
		switch random.IntN(3) {
		case 0:
			return text[:at] + text[at+1:]
		case 1:
			return text[:at] + string(rune('a'+random.IntN(4))) + text[at:]
		}
		return text[:at] + string(rune('a'+random.IntN(4))) + text[at+1:]
	}
	return text
}

func walk(random *rand.Rand, p *Particle, out *strings.Builder) {
	times := p.Min
	switch {
	case p.Max == Unbounded:
		times += random.IntN(3)
	case p.Max > unrollTo && random.IntN(2) == 0:
		times = p.Max - random.IntN(2) + random.IntN(2)
	case p.Max > p.Min:
		times += random.IntN(min(p.Max-p.Min, 3) + 1)
	}
	for range times {
		if out.Len() > 150 {
			return
		}
		switch term := p.Term.(type) {
		case *Element:
			out.WriteString(term.Name.Local)
		case *Group:
			if term.Kind == Choice {
				walk(random, term.Particles[random.IntN(len(term.Particles))], out)
				continue
			}
			for _, inner := range term.Particles {
				walk(random, inner, out)
			}
		}
	}
}

// A bound of hundreds of thousands costs no more than one of two: neither memory nor time.
func TestLargeOccurs(t *testing.T) {
	s := &Schema{}
	e := &Element{Name: Name{Local: "a"}, Type: anyType}
	inner := &Particle{Min: 0, Max: 300_000, Term: e}
	outer := &Particle{Min: 299_999, Max: 2_000_000, Term: &Group{Particles: []*Particle{{Min: 1, Max: 1, Term: e}}}}
	for _, p := range []*Particle{inner, outer} {
		m := newModel(p)
		s.prepare(m)
		require.Len(t, m.positions, 1)
		var st state
		for range 300_000 {
			_, _, ok := s.step(m, &st, e.Name)
			require.True(t, ok)
		}
		require.True(t, m.mayEnd(&st))
		require.Len(t, st.configs, 1)
	}
	m := newModel(inner)
	s.prepare(m)
	var st state
	for range 300_000 {
		s.step(m, &st, e.Name)
	}
	_, _, ok := s.step(m, &st, e.Name)
	require.False(t, ok, "one too many")
}

// A choice of thousands that repeats is a model of thousands of positions, and
// not of millions of edges.
func TestLargeChoice(t *testing.T) {
	s := &Schema{}
	g := &Group{Kind: Choice}
	for i := range 3000 {
		g.Particles = append(g.Particles,
			&Particle{Min: 1, Max: 1, Term: &Element{Name: Name{Local: fmt.Sprint("e", i)}, Type: anyType}})
	}
	m := newModel(&Particle{Min: 0, Max: Unbounded, Term: g})
	s.prepare(m)
	sets := map[*edgeSet]bool{}
	for i := range m.positions {
		for _, set := range m.positions[i].sets {
			sets[set] = true
		}
	}
	require.LessOrEqual(t, len(sets), 2)
	var st state
	for _, i := range []int{0, 2999, 7, 7, 1500} {
		_, _, ok := s.step(m, &st, Name{Local: fmt.Sprint("e", i)})
		require.True(t, ok)
	}
}
