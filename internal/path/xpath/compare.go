package xpath

import "math"

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
			single := result{kind: textResult, text: ev.textOf(id)}
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
		texts[ev.textOf(id)] = true
	}
	for _, id := range right {
		there := texts[ev.textOf(id)]
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
		n := parseNumber(ev.textOf(id))
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
