package xsd

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
