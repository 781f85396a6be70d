package jsonschema

import (
	"math/big"
	"sync"

	"testbench/internal/document"
)

// keywords is a schema as it was compiled: what it says, keyword by keyword. Nil is what it does not say.
type keywords struct {
	at       Location
	resource *resource // that it is part of
	draft    draft

	always *bool // true or false in place of a schema

	ref, dynamicRef *reference
	dynamicName     string // the anchor that dynamicRef names (2020-12, 8.2.3.2)
	isRecursive     bool   // of 2019-09, 8.2.4.2.1: dynamicRef leads to the resource at hand

	types  []string
	values *valueSet // enum
	only   *document.Node

	not, when, then, otherwise *keywords
	allOf, anyOf, oneOf        []*keywords
	dependent                  []dependency

	properties            map[string]*keywords
	names                 []string // of properties, in their order
	patternProperties     []patternProperty
	additionalProperties  *keywords
	unevaluatedProperties *keywords
	propertyNames         *keywords
	required              []string
	minProperties         *int
	maxProperties         *int

	prefixItems      []*keywords
	items            *keywords // those after prefixItems
	takesNoMore      bool      // additionalItems: false
	unevaluatedItems *keywords
	contains         *keywords
	minContains      *int
	maxContains      *int
	minItems         *int
	maxItems         *int
	uniqueItems      bool

	minimum, maximum, over, under, multipleOf *bound
	minLength, maxLength                      *int
	pattern                                   *pattern
	format                                    *format

	title, description              string
	byDefault                       *document.Node
	deprecated, readOnly, writeOnly bool
}

// isNothing says whether no value fits.
func (s *keywords) isNothing() bool { return s != nil && s.always != nil && !*s.always }

// dependency is what holds where a member is there (2020-12, 10.2.2.4; Validation 6.5.4).
type dependency struct {
	name     string
	required []string
	schema   *keywords
}

type patternProperty struct {
	pattern *pattern
	schema  *keywords
}

// bound is a number that values are compared with.
type bound struct {
	exact *big.Rat
	// whole is the number where it is one of 64 bits.
	whole   int64
	isWhole bool
}

func newBound(r *big.Rat) *bound {
	b := &bound{exact: r}
	if r.IsInt() && r.Num().IsInt64() {
		b.whole, b.isWhole = r.Num().Int64(), true
	}
	return b
}

// String writes it exactly, and without a fraction bar where that is possible.
func (b *bound) String() string { return number(b.exact) }

// number writes an exact number without its fraction bar.
func number(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	digits, exact := r.FloatPrec()
	if !exact {
		return r.RatString()
	}
	return r.FloatString(digits)
}

// valueSet are the values of enum.
type valueSet struct {
	list  []*document.Node
	known map[string]bool // as canonical writes them
}

// reference is a schema that another refers to. It is compiled when it is asked for: large descriptions are one
// net of schemas, and a call needs few of them.
type reference struct {
	set    *Set
	at     Location
	once   sync.Once
	target *keywords
	err    error

	bounded sync.Once
	large   error
}

// compile compiles what is referred to.
func (r *reference) compile() (*keywords, error) {
	r.once.Do(func() { r.target, r.err = r.set.compileAt(r.at) })
	return r.target, r.err
}

// open gives what is referred to, unless that unfolds to too much.
func (r *reference) open() (*keywords, error) {
	target, err := r.compile()
	if err != nil {
		return nil, err
	}
	r.bounded.Do(func() { r.large = r.set.unfolded.check(target) })
	return target, r.large
}

// referred is what a schema refers to; nil for nothing, or what cannot be used.
func referred(s *keywords) *keywords {
	if s.ref == nil {
		return nil
	}
	target, err := s.ref.open()
	if err != nil {
		return nil
	}
	return target
}

// dynamicallyReferred is where a dynamic reference leads without a dynamic scope.
func dynamicallyReferred(s *keywords) *keywords {
	if s.dynamicRef == nil {
		return nil
	}
	target, err := s.dynamicRef.open()
	if err != nil {
		return nil
	}
	return target
}

// resolved goes where references lead.
func resolved(s *keywords) *keywords {
	for range 8 {
		next := referred(s)
		if next == nil {
			break
		}
		s = next
	}
	return s
}
