package xpath

import (
	"sort"
)

func merge(a, b []int32) []int32 {
	out := make([]int32, 0, len(a)+len(b))
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0] < b[0]:
			out, a = append(out, a[0]), a[1:]
		case a[0] > b[0]:
			out, b = append(out, b[0]), b[1:]
		default:
			out, a, b = append(out, a[0]), a[1:], b[1:]
		}
	}
	return append(append(out, a...), b...)
}

func (ev *evaluator) locate(l *location, c context) []int32 {
	nodes := []int32{c.node}
	switch {
	case l.absolute:
		if found, done := ev.rooted[l]; done {
			return found
		}
		nodes = []int32{0}
		defer func() { ev.rooted[l] = nodes }()
	case l.from != nil:
		nodes = ev.eval(l.from, c).nodes
		for _, filter := range l.filters {
			nodes = ev.filter(nodes, filter)
		}
	}
	for _, s := range l.steps {
		nodes = ev.step(s, nodes)
	}
	return nodes
}

// filter keeps the nodes for which a predicate holds; they are in the order in
// which positions count.
func (ev *evaluator) filter(nodes []int32, e expr) []int32 {
	if n, ok := e.(number); ok {
		if i := int(n); float64(i) == float64(n) && i >= 1 && i <= len(nodes) {
			return []int32{nodes[i-1]}
		}
		return nil
	}
	var kept []int32
	for i, id := range nodes {
		if ev.left < 0 {
			return nil
		}
		r := ev.eval(e, context{node: id, position: i + 1, size: len(nodes)})
		if r.kind == numberResult && r.number == float64(i+1) || r.kind != numberResult && ev.boolean(r) {
			kept = append(kept, id)
		}
	}
	return kept
}

// step goes one step from a set of nodes. Where no predicate counts positions
// it goes from all of them at once, so that no node is visited twice.
func (ev *evaluator) step(s *step, from []int32) []int32 {
	if s.positional() && len(from) > 0 {
		return ev.stepFromEach(s, from)
	}
	nodes := ev.walkAll(s, from)
	for _, pred := range s.predicates {
		nodes = ev.filter(nodes, pred.expr)
	}
	return nodes
}

func (ev *evaluator) stepFromEach(s *step, from []int32) []int32 {
	var all []int32
	for _, id := range from {
		if ev.left < 0 {
			return nil
		}
		var found []int32
		ev.walk(s, id, func(n int32) { found = append(found, n) })
		for _, pred := range s.predicates {
			found = ev.filter(found, pred.expr)
		}
		all = append(all, found...)
	}
	return inOrder(all)
}

// inOrder sorts into document order and drops repetitions.
func inOrder(nodes []int32) []int32 {
	sorted := true
	for i := 1; i < len(nodes); i++ {
		sorted = sorted && nodes[i-1] < nodes[i]
	}
	if sorted {
		return nodes
	}
	sort.Slice(nodes, func(i, j int) bool { return nodes[i] < nodes[j] })
	out := nodes[:0]
	for i, id := range nodes {
		if i == 0 || id != nodes[i-1] {
			out = append(out, id)
		}
	}
	return out
}

// walkAll collects what an axis leads to from all nodes of a set, which is in
// document order.
func (ev *evaluator) walkAll(s *step, from []int32) []int32 {
	t := ev.tree
	var found []int32
	collect := func(id int32) { found = append(found, id) }
	switch s.axis {
	case descendantAxis, descendantOrSelfAxis:
		passed := int32(-1)
		for _, id := range from {
			if id < passed {
				// Inside of what was walked already; only itself may be missing,
				// where it is an attribute.
				if s.axis == descendantOrSelfAxis && t.nodes[id].kind == attributeNode {
					ev.check(s, id, collect)
				}
				continue
			}
			ev.walk(s, id, collect)
			passed = t.nodes[id].end
		}
		return inOrder(found)
	case followingAxis:
		// What follows the one that ends first holds what follows the others.
		if len(from) == 0 {
			return nil
		}
		first := from[0]
		for _, id := range from {
			if t.nodes[id].end < t.nodes[first].end {
				first = id
			}
		}
		ev.walk(s, first, collect)
		return found
	case precedingAxis:
		if len(from) > 0 {
			ev.walk(s, from[len(from)-1], collect)
		}
		return inOrder(found)
	case ancestorAxis, ancestorOrSelfAxis:
		seen := map[int32]bool{}
		for _, id := range from {
			if s.axis == ancestorAxis {
				id = t.nodes[id].parent
			}
			for ; id >= 0 && !seen[id]; id = t.nodes[id].parent {
				seen[id] = true
				ev.check(s, id, collect)
			}
		}
		return inOrder(found)
	case followingSiblingAxis:
		seen := map[int32]bool{}
		for _, id := range from {
			if parent := t.nodes[id].parent; !seen[parent] && t.nodes[id].kind != attributeNode {
				seen[parent] = true
				ev.walk(s, id, collect)
			}
		}
		return inOrder(found)
	case precedingSiblingAxis:
		seen := map[int32]bool{}
		for i := len(from) - 1; i >= 0; i-- {
			if id := from[i]; !seen[t.nodes[id].parent] && t.nodes[id].kind != attributeNode {
				seen[t.nodes[id].parent] = true
				ev.walk(s, id, collect)
			}
		}
		return inOrder(found)
	}
	for _, id := range from {
		ev.walk(s, id, collect)
	}
	return inOrder(found)
}

// walk visits what an axis leads to from one node, in the order in which
// positions count (section 2.2).
func (ev *evaluator) walk(s *step, id int32, visit func(int32)) {
	t := ev.tree
	n := &t.nodes[id]
	switch s.axis {
	case selfAxis:
		ev.check(s, id, visit)
	case childAxis:
		for child := t.firstChild(id); child < n.end; child = t.nodes[child].end {
			ev.check(s, child, visit)
		}
	case attributeAxis:
		for a := id + 1; a < n.end && t.nodes[a].kind == attributeNode && t.nodes[a].parent == id; a++ {
			ev.check(s, a, visit)
		}
	case parentAxis:
		if n.parent >= 0 {
			ev.check(s, n.parent, visit)
		}
	case ancestorAxis, ancestorOrSelfAxis:
		if s.axis == ancestorAxis {
			id = n.parent
		}
		for ; id >= 0; id = t.nodes[id].parent {
			ev.check(s, id, visit)
		}
	case descendantAxis, descendantOrSelfAxis:
		if s.axis == descendantOrSelfAxis {
			ev.check(s, id, visit)
		}
		for d := id + 1; d < n.end; d++ {
			if t.nodes[d].kind != attributeNode {
				ev.check(s, d, visit)
			}
		}
	case followingAxis:
		from := n.end
		for f := from; int(f) < len(t.nodes); f++ {
			if t.nodes[f].kind != attributeNode {
				ev.check(s, f, visit)
			}
		}
	case precedingAxis:
		if n.kind == attributeNode {
			id = n.parent
		}
		above := t.nodes[id].parent
		for p := id - 1; p > 0; p-- {
			if p == above {
				above = t.nodes[p].parent
				continue
			}
			if t.nodes[p].kind != attributeNode {
				ev.check(s, p, visit)
			}
		}
	case followingSiblingAxis:
		if n.parent >= 0 && n.kind != attributeNode {
			for f := n.end; f < t.nodes[n.parent].end; f = t.nodes[f].end {
				ev.check(s, f, visit)
			}
		}
	case precedingSiblingAxis:
		if n.parent < 0 || n.kind == attributeNode {
			return
		}
		var before []int32
		for p := t.firstChild(n.parent); p < id; p = t.nodes[p].end {
			before = append(before, p)
		}
		for i := len(before) - 1; i >= 0; i-- {
			ev.check(s, before[i], visit)
		}
	}
}

// check applies the node test (section 2.3).
func (ev *evaluator) check(s *step, id int32, visit func(int32)) {
	ev.left--
	n := &ev.tree.nodes[id]
	holds := false
	switch s.test.kind {
	case anyNode:
		holds = true
	case textTest:
		holds = n.kind == textNode
	case commentTest:
		holds = n.kind == commentNode
	case instructionTest:
		holds = n.kind == instructionNode && (s.test.target == "" || n.source.Name().Local == s.test.target)
	case nameTest:
		// The principal node type of an axis: attributes, or else elements.
		if s.axis == attributeAxis && n.kind == attributeNode || s.axis != attributeAxis && n.kind == elementNode {
			name, _ := ev.tree.name(id)
			switch {
			case s.test.local != "" && name.Local != s.test.local:
			case s.test.prefix != "":
				holds = name.Space == ev.spaces[s.test.prefix]
			case s.test.local == "":
				holds = true
			default:
				holds = name.Space == ""
			}
		}
	}
	if holds {
		visit(id)
	}
}
