package rule

import "slices"

// LetsAbsent says whether the rule lets a value be absent on purpose: optional, if any.
func (r *Rule) LetsAbsent() bool { return r.optional || r.ifAny }

// LetsNull says whether the rule lets a value be null on purpose: null or.
func (r *Rule) LetsNull() bool { return r.orNull }

// HasRoom says whether the rule names values of which several pass, so that another of them passes on purpose: one of,
// bounds, patterns, parts of a text. A kind (is number) names none.
func (r *Rule) HasRoom() bool { return r.test.hasRoom() }

// CountsWithRoom says whether the rule lets a list have more or fewer elements on purpose.
func (r *Rule) CountsWithRoom() bool {
	return slices.ContainsFunc(r.parts(), func(t *test) bool { return t.op == opCount && t.inner.hasRoom() })
}

func (t *test) hasRoom() bool {
	switch t.op {
	case opOver, opUnder, opAtLeast, opAtMost, opBetween, opAbout, opOneOf, opMatches, opStartsWith, opEndsWith,
		opContains, opNot, opSome:
		return true
	case opAll:
		return t.inner.hasRoom()
	case opAllOf, opAnyOf:
		return t.op == opAnyOf || slices.ContainsFunc(t.tests, func(one test) bool { return one.hasRoom() })
	}
	return false
}
