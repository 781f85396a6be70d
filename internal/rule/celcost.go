package rule

import (
	"regexp/syntax"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/cost"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"testbench/internal/document"
)

// costLimit bounds how long an expression may run, in steps of CEL; see the grammar's decisions.
// CEL counts those of its own operators. What our functions and fields take is counted here: an
// answer has as many items as a stranger likes.
const costLimit = 1_000_000

// What is as much work as a step of CEL.
const (
	bytesToAStep   = 64
	itemsToAStep   = 4
	membersToAStep = 32 // an object is searched by name
	stepsToAPath   = 5_000
)

// budget is what fields may still cost in one evaluation.
type budget struct {
	left      int
	answer    *document.Node // what answer is, and
	shapeless string         // what kind of an answer, where it has no fields
}

// spend takes steps; false ends the evaluation.
func (b *budget) spend(steps int) bool {
	b.left -= steps
	return b.left >= 0
}

// errTooMany is the message that evalError knows as CEL's own.
const errTooMany = "actual cost limit exceeded"

// functionCosts count the functions by what they look at and what they make.
func functionCosts() cel.ProgramOption {
	var trackers []cost.TrackerOption
	for name, f := range functions() {
		of := f.cost
		if of == nil {
			of = costOfArguments
		}
		for _, arity := range f.arities {
			trackers = append(trackers,
				cost.OverloadTracker(overloadID(name, arity), func(args []ref.Val, result ref.Val) *uint64 {
					steps := uint64(1 + of(args) + costOf(result, false))
					return &steps
				}))
		}
	}
	return cel.CostTrackerOptions(trackers...)
}

func costOfArguments(args []ref.Val) int {
	steps := 0
	for _, arg := range args {
		steps += costOf(arg, false)
	}
	return steps
}

func costOfSize([]ref.Val) int { return 0 }

// costOfComparing counts all that two trees hold.
func costOfComparing(args []ref.Val) int {
	steps := 0
	for _, arg := range args {
		steps += costOf(arg, true)
	}
	return steps
}

// costOfMatching counts each state of the expression for each character.
func costOfMatching(args []ref.Val) int {
	text, _ := toText(args[0])
	pattern, _ := toText(args[1])
	states := len(pattern)
	if parsed, err := syntax.Parse(pattern, syntax.Perl); err == nil {
		if program, err := syntax.Compile(parsed.Simplify()); err == nil {
			states = len(program.Inst)
		}
	}
	return (len(text) + len(pattern) + 1) * states / bytesToAStep
}

// costOf is what it takes to look through a value, through all below it where that is compared.
func costOf(v ref.Val, deep bool) int {
	switch v := v.(type) {
	case types.String:
		return len(v) / bytesToAStep
	case nodeValue:
		switch {
		case v.node == nil:
			return 0
		case v.node.Value().IsScalar():
			return len(v.node.Value().Text) / bytesToAStep
		case deep:
			return parts(v.node) / itemsToAStep
		}
		return (len(v.node.Items()) + len(v.node.Members())) / itemsToAStep
	case traits.Lister:
		size, _ := v.Size().(types.Int)
		if !deep {
			return int(size) / itemsToAStep
		}
		steps := int(size) / itemsToAStep
		for i := range size {
			steps += costOf(v.Get(i), true)
		}
		return steps
	}
	return 0
}

// parts counts a node and all below it.
func parts(n *document.Node) int {
	count := 1
	for _, item := range n.Items() {
		count += parts(item)
	}
	for _, m := range n.Members() {
		count += parts(m.Value)
	}
	return count
}
