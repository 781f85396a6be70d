package xpath

import (
	"math"
	"strings"
	"unicode/utf8"
)

// function is one of the core library (section 4).
type function struct {
	gives       resultKind
	least, most int // number of arguments; most -1 is any
	wantsNodes  bool
	positional  bool
	apply       func(ev *evaluator, c context, args []result) result
}

func text(s string) result     { return result{kind: textResult, text: s} }
func numeric(n float64) result { return result{kind: numberResult, number: n} }

// orContext gives the argument, or the context node where it is left out.
func orContext(c context, args []result) result {
	if len(args) > 0 {
		return args[0]
	}
	return result{kind: nodesResult, nodes: []int32{c.node}}
}

var functions map[string]*function

func init() {
	functions = map[string]*function{
		"last": {gives: numberResult, positional: true, apply: func(_ *evaluator, c context, _ []result) result {
			return numeric(float64(c.size))
		}},
		"position": {gives: numberResult, positional: true, apply: func(_ *evaluator, c context, _ []result) result {
			return numeric(float64(c.position))
		}},
		"count": {
			gives: numberResult, least: 1, most: 1, wantsNodes: true,
			apply: func(_ *evaluator, _ context, args []result) result {
				return numeric(float64(len(args[0].nodes)))
			},
		},
		"sum": {
			gives: numberResult, least: 1, most: 1, wantsNodes: true,
			apply: func(ev *evaluator, _ context, args []result) result {
				sum := 0.0
				for _, id := range args[0].nodes {
					sum += parseNumber(ev.textOf(id))
				}
				return numeric(sum)
			},
		},
		"local-name":    nameFunction(func(_, local, _ string) string { return local }),
		"namespace-uri": nameFunction(func(space, _, _ string) string { return space }),
		"name":          nameFunction(func(_, _, written string) string { return written }),
		"string": {gives: textResult, most: 1, apply: func(ev *evaluator, c context, args []result) result {
			return text(ev.text(orContext(c, args)))
		}},
		"concat": {gives: textResult, least: 2, most: -1, apply: func(ev *evaluator, _ context, args []result) result {
			var all strings.Builder
			for _, arg := range args {
				all.WriteString(ev.text(arg))
			}
			return text(all.String())
		}},
		"starts-with": textTestFunction(strings.HasPrefix),
		"contains":    textTestFunction(strings.Contains),
		"substring-before": {
			gives: textResult, least: 2, most: 2,
			apply: func(ev *evaluator, _ context, args []result) result {
				before, _, found := strings.Cut(ev.text(args[0]), ev.text(args[1]))
				if !found {
					return text("")
				}
				return text(before)
			},
		},
		"substring-after": {
			gives: textResult, least: 2, most: 2,
			apply: func(ev *evaluator, _ context, args []result) result {
				_, after, _ := strings.Cut(ev.text(args[0]), ev.text(args[1]))
				return text(after)
			},
		},
		"substring": {gives: textResult, least: 2, most: 3, apply: substring},
		"string-length": {gives: numberResult, most: 1, apply: func(ev *evaluator, c context, args []result) result {
			return numeric(float64(utf8.RuneCountInString(ev.text(orContext(c, args)))))
		}},
		"normalize-space": {gives: textResult, most: 1, apply: func(ev *evaluator, c context, args []result) result {
			blank := func(r rune) bool { return r == ' ' || r == '\t' || r == '\r' || r == '\n' }
			return text(strings.Join(strings.FieldsFunc(ev.text(orContext(c, args)), blank), " "))
		}},
		"translate": {gives: textResult, least: 3, most: 3, apply: translate},
		"boolean": {
			gives: booleanResult, least: 1, most: 1,
			apply: func(ev *evaluator, _ context, args []result) result {
				return boolean(ev.boolean(args[0]))
			},
		},
		"not": {gives: booleanResult, least: 1, most: 1, apply: func(ev *evaluator, _ context, args []result) result {
			return boolean(!ev.boolean(args[0]))
		}},
		"true":  {gives: booleanResult, apply: func(*evaluator, context, []result) result { return boolean(true) }},
		"false": {gives: booleanResult, apply: func(*evaluator, context, []result) result { return boolean(false) }},
		"lang":  {gives: booleanResult, least: 1, most: 1, apply: lang},
		"number": {gives: numberResult, most: 1, apply: func(ev *evaluator, c context, args []result) result {
			return numeric(ev.number(orContext(c, args)))
		}},
		"floor":   numberFunction(math.Floor),
		"ceiling": numberFunction(math.Ceil),
		// Halves round up, also below zero (section 4.4).
		"round": numberFunction(func(n float64) float64 {
			if math.Abs(n) >= 1<<52 || math.IsNaN(n) {
				return n
			}
			return math.Floor(n + 0.5)
		}),
	}
}

func nameFunction(part func(space, local, written string) string) *function {
	return &function{
		gives: textResult, most: 1, wantsNodes: true,
		apply: func(ev *evaluator, c context, args []result) result {
			nodes := orContext(c, args).nodes
			if len(nodes) == 0 {
				return text("")
			}
			name, _ := ev.tree.name(nodes[0])
			return text(part(name.Space, name.Local, name.String()))
		},
	}
}

func textTestFunction(test func(s, part string) bool) *function {
	return &function{
		gives: booleanResult, least: 2, most: 2,
		apply: func(ev *evaluator, _ context, args []result) result {
			return boolean(test(ev.text(args[0]), ev.text(args[1])))
		},
	}
}

func numberFunction(change func(float64) float64) *function {
	return &function{
		gives: numberResult, least: 1, most: 1,
		apply: func(ev *evaluator, _ context, args []result) result {
			return numeric(change(ev.number(args[0])))
		},
	}
}

// substring counts characters from 1 and rounds both bounds (section 4.2).
func substring(ev *evaluator, _ context, args []result) result {
	round := functions["round"].apply
	from := round(ev, context{}, args[1:2]).number
	to := math.Inf(1)
	if len(args) == 3 {
		to = from + round(ev, context{}, args[2:3]).number
	}
	var out strings.Builder
	position := 0.0
	for _, r := range ev.text(args[0]) {
		if position++; position >= from && position < to {
			out.WriteRune(r)
		}
	}
	return text(out.String())
}

func translate(ev *evaluator, _ context, args []result) result {
	from, to := []rune(ev.text(args[1])), []rune(ev.text(args[2]))
	mapped := make(map[rune]rune, len(from))
	for i, r := range from {
		if _, met := mapped[r]; met {
			continue
		}
		mapped[r] = -1
		if i < len(to) {
			mapped[r] = to[i]
		}
	}
	return text(strings.Map(func(r rune) rune {
		if other, ok := mapped[r]; ok {
			return other
		}
		return r
	}, ev.text(args[0])))
}

// lang looks at the nearest xml:lang (section 4.3).
func lang(ev *evaluator, c context, args []result) result {
	expected := strings.ToLower(ev.text(args[0]))
	for id := c.node; id > 0; id = ev.tree.nodes[id].parent {
		ev.left--
		n := ev.tree.nodes[id]
		if n.kind != elementNode {
			continue
		}
		for _, a := range n.source.Attributes() {
			if a.Name.Prefix == "xml" && a.Name.Local == "lang" {
				found := strings.ToLower(a.Value)
				return boolean(found == expected || strings.HasPrefix(found, expected+"-"))
			}
		}
	}
	return boolean(false)
}
