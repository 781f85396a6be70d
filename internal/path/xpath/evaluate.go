package xpath

import (
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// Value is what an expression gives: nodes in document order, or a single value.
type Value struct {
	IsNodes bool
	Nodes   []*document.Node
	// Single is a number, text or boolean when IsNodes is false.
	Single *document.Node
}

// mostVisits bounds the work of one evaluation, in nodes looked at.
const mostVisits = 2_000_000_000

// Evaluate evaluates the expression with the root as context node. Prefixes
// that are not given are taken as the document declares them first. Errors are
// of type *Error.
func (e *Expr) Evaluate(t *Tree, prefixes map[string]string) (Value, error) {
	ev := &evaluator{tree: t, rooted: map[*location][]int32{}, spaces: map[string]string{"xml": "http://www.w3.org/XML/1998/namespace"}}
	for prefix, at := range e.prefixes {
		space, known := prefixes[prefix]
		if !known {
			space, known = t.declared[prefix]
		}
		if !known && prefix != "xml" {
			return Value{}, &Error{Offset: at, Message: "the prefix " + prefix + " is not declared", Try: "declare it under names:, or use a prefix of the message"}
		}
		if known {
			ev.spaces[prefix] = space
		}
	}
	result := ev.eval(e.root, context{node: 0, position: 1, size: 1})
	if ev.visits > mostVisits {
		return Value{}, &Error{Message: "it takes too long on a document of this size", Try: "ask for less with //, preceding:: and following::"}
	}
	switch result.kind {
	case nodesResult:
		value := Value{IsNodes: true}
		for _, id := range result.nodes {
			value.Nodes = append(value.Nodes, t.value(id))
		}
		return value, nil
	case numberResult:
		text := formatNumber(result.number)
		if math.IsNaN(result.number) || math.IsInf(result.number, 0) {
			return Value{Single: document.NewText(text)}, nil
		}
		return Value{Single: document.NewNumber(text)}, nil
	case booleanResult:
		return Value{Single: document.NewBoolean(result.boolean)}, nil
	}
	return Value{Single: document.NewUntyped(result.text)}, nil
}

type result struct {
	kind    resultKind
	nodes   []int32 // in document order, each once
	number  float64
	text    string
	boolean bool
}

type context struct {
	node           int32
	position, size int
}

type evaluator struct {
	tree   *Tree
	spaces map[string]string
	visits int
	// rooted keeps what paths from the root lead to: in a condition they would
	// be followed anew for every node.
	rooted map[*location][]int32
}

func (ev *evaluator) eval(e expr, c context) result {
	switch e := e.(type) {
	case number:
		return result{kind: numberResult, number: float64(e)}
	case literal:
		return result{kind: textResult, text: string(e)}
	case negated:
		return result{kind: numberResult, number: -ev.number(ev.eval(e.operand, c))}
	case union:
		return result{kind: nodesResult, nodes: merge(ev.eval(e.left, c).nodes, ev.eval(e.right, c).nodes)}
	case *call:
		args := make([]result, len(e.args))
		for i, arg := range e.args {
			args[i] = ev.eval(arg, c)
		}
		return e.function.apply(ev, c, args)
	case *location:
		return result{kind: nodesResult, nodes: ev.locate(e, c)}
	}
	return ev.binary(e.(*binary), c)
}

func (ev *evaluator) binary(e *binary, c context) result {
	switch e.op {
	case "or":
		return boolean(ev.boolean(ev.eval(e.left, c)) || ev.boolean(ev.eval(e.right, c)))
	case "and":
		return boolean(ev.boolean(ev.eval(e.left, c)) && ev.boolean(ev.eval(e.right, c)))
	}
	left, right := ev.eval(e.left, c), ev.eval(e.right, c)
	switch e.op {
	case "=", "!=", "<", "<=", ">", ">=":
		return boolean(ev.compare(e.op, left, right))
	}
	a, b := ev.number(left), ev.number(right)
	switch e.op {
	case "+":
		a += b
	case "-":
		a -= b
	case "*":
		a *= b
	case "div":
		a /= b
	case "mod":
		a = math.Mod(a, b)
	}
	return result{kind: numberResult, number: a}
}

func boolean(b bool) result { return result{kind: booleanResult, boolean: b} }

// compare follows section 3.4: with nodes it is enough that one of them compares.
func (ev *evaluator) compare(op string, left, right result) bool {
	if left.kind != nodesResult && right.kind == nodesResult {
		return ev.compare(mirrored(op), right, left)
	}
	equality := op == "=" || op == "!="
	switch {
	case left.kind == nodesResult && right.kind == nodesResult:
		return ev.compareNodes(op, left.nodes, right.nodes)
	case left.kind == nodesResult && right.kind == booleanResult:
		return ev.compareSingles(op, boolean(len(left.nodes) > 0), right)
	case left.kind == nodesResult:
		for _, id := range left.nodes {
			single := result{kind: textResult, text: ev.tree.text(id)}
			ev.visits += int(ev.tree.nodes[id].end - id)
			if equality && right.kind == textResult && (single.text == right.text) == (op == "=") {
				return true
			}
			if (!equality || right.kind == numberResult) && ev.compareSingles(op, single, right) {
				return true
			}
		}
		return false
	}
	return ev.compareSingles(op, left, right)
}

func mirrored(op string) string {
	switch op {
	case "<":
		return ">"
	case "<=":
		return ">="
	case ">":
		return "<"
	case ">=":
		return "<="
	}
	return op
}

// compareNodes compares two sets without looking at every pair.
func (ev *evaluator) compareNodes(op string, left, right []int32) bool {
	if len(left) == 0 || len(right) == 0 {
		return false
	}
	if op != "=" && op != "!=" {
		a, b := ev.extremes(left), ev.extremes(right)
		if op[0] == '<' {
			return compareNumbers(op, a.least, b.most)
		}
		return compareNumbers(op, a.most, b.least)
	}
	texts := make(map[string]bool, len(left))
	for _, id := range left {
		texts[ev.tree.text(id)] = true
	}
	for _, id := range right {
		there := texts[ev.tree.text(id)]
		if op == "=" && there || op == "!=" && (!there || len(texts) > 1) {
			return true
		}
	}
	return false
}

type extremes struct{ least, most float64 }

func (ev *evaluator) extremes(nodes []int32) extremes {
	e := extremes{math.NaN(), math.NaN()}
	for _, id := range nodes {
		n := parseNumber(ev.tree.text(id))
		if math.IsNaN(e.least) || n < e.least {
			e.least = n
		}
		if math.IsNaN(e.most) || n > e.most {
			e.most = n
		}
	}
	return e
}

func (ev *evaluator) compareSingles(op string, left, right result) bool {
	if op == "=" || op == "!=" {
		equal := false
		switch {
		case left.kind == booleanResult || right.kind == booleanResult:
			equal = ev.boolean(left) == ev.boolean(right)
		case left.kind == numberResult || right.kind == numberResult:
			equal = ev.number(left) == ev.number(right)
		default:
			equal = ev.text(left) == ev.text(right)
		}
		return equal == (op == "=")
	}
	return compareNumbers(op, ev.number(left), ev.number(right))
}

func compareNumbers(op string, a, b float64) bool {
	switch op {
	case "<":
		return a < b
	case "<=":
		return a <= b
	case ">":
		return a > b
	default:
		return a >= b
	}
}

// Conversions (section 4).

func (ev *evaluator) boolean(r result) bool {
	switch r.kind {
	case nodesResult:
		return len(r.nodes) > 0
	case numberResult:
		return r.number != 0 && !math.IsNaN(r.number)
	case textResult:
		return r.text != ""
	}
	return r.boolean
}

func (ev *evaluator) text(r result) string {
	switch r.kind {
	case nodesResult:
		if len(r.nodes) == 0 {
			return ""
		}
		ev.visits += int(ev.tree.nodes[r.nodes[0]].end - r.nodes[0])
		return ev.tree.text(r.nodes[0])
	case numberResult:
		return formatNumber(r.number)
	case booleanResult:
		return strconv.FormatBool(r.boolean)
	}
	return r.text
}

func (ev *evaluator) number(r result) float64 {
	switch r.kind {
	case numberResult:
		return r.number
	case booleanResult:
		if r.boolean {
			return 1
		}
		return 0
	}
	return parseNumber(ev.text(r))
}

// parseNumber reads a Number (production 30) with blanks around and a sign before it.
func parseNumber(text string) float64 {
	text = strings.Trim(text, " \t\r\n")
	digits := strings.TrimPrefix(text, "-")
	whole, fraction, _ := strings.Cut(digits, ".")
	if whole == "" && fraction == "" || strings.Trim(whole+fraction, "0123456789") != "" {
		return math.NaN()
	}
	n, _ := strconv.ParseFloat(text, 64) // what is too large becomes infinite
	return n
}

func formatNumber(n float64) string {
	switch {
	case math.IsNaN(n):
		return "NaN"
	case math.IsInf(n, 1):
		return "Infinity"
	case math.IsInf(n, -1):
		return "-Infinity"
	case n == 0:
		return "0"
	}
	return strconv.FormatFloat(n, 'f', -1, 64)
}

// Nodes.

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
		if ev.visits > mostVisits {
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
		if ev.visits > mostVisits {
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
	ev.visits++
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
		holds = n.kind == instructionNode && (s.test.target == "" || n.source.Name.Local == s.test.target)
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

func (f *function) arity() string {
	plural := func(n int) string {
		if n == 1 {
			return "1 argument"
		}
		return fmt.Sprintf("%d arguments", n)
	}
	switch {
	case f.most < 0:
		return "at least " + plural(f.least)
	case f.least == f.most:
		return plural(f.least)
	}
	return fmt.Sprintf("%d to %s", f.least, plural(f.most))
}
