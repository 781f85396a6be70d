package xpath

import (
	"fmt"
	"math"
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

// MostVisits bounds the work of one evaluation, in nodes looked at: a second or two.
const MostVisits = 50_000_000

// What a text costs: as much as some nodes, and one more for each few bytes.
const (
	visitsToAText = 4
	bytesToAVisit = 4
)

// Evaluate evaluates the expression with the root as context node. Prefixes
// that are not given are taken as the document declares them first. Errors are
// of type *Error.
func (e *Expr) Evaluate(t *Tree, prefixes map[string]string) (Value, error) {
	return e.evaluate(t, prefixes, MostVisits)
}

func (e *Expr) evaluate(t *Tree, prefixes map[string]string, visits int) (Value, error) {
	ev := &evaluator{
		tree: t, left: visits, rooted: map[*location][]int32{},
		spaces: map[string]string{"xml": "http://www.w3.org/XML/1998/namespace"},
	}
	for prefix, at := range e.prefixes {
		space, known := prefixes[prefix]
		if !known {
			space, known = t.declared[prefix]
		}
		if !known && prefix != "xml" {
			return Value{}, &Error{
				Offset: at, Message: "the prefix " + prefix + " is not declared",
				Try: "declare it under names:, or use a prefix of the message",
			}
		}
		if known {
			ev.spaces[prefix] = space
		}
	}
	result := ev.eval(e.root, context{node: 0, position: 1, size: 1})
	if ev.left < 0 {
		return Value{}, &Error{
			Message: "it takes too long on a document of this size",
			Try:     "ask for less with //, preceding:: and following::",
		}
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
	left   int // of the visits
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
		nodes := merge(ev.eval(e.left, c).nodes, ev.eval(e.right, c).nodes)
		ev.left -= len(nodes)
		return result{kind: nodesResult, nodes: nodes}
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
		return ev.textOf(r.nodes[0])
	case numberResult:
		return formatNumber(r.number)
	case booleanResult:
		return strconv.FormatBool(r.boolean)
	}
	ev.left -= len(r.text) / bytesToAVisit
	return r.text
}

// textOf is a node's text; no more is put together once the work is too much.
func (ev *evaluator) textOf(id int32) string {
	if ev.left < 0 {
		return ""
	}
	text := ev.tree.text(id)
	ev.left -= visitsToAText + int(ev.tree.nodes[id].end-id) + len(text)/bytesToAVisit
	return text
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
