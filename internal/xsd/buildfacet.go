package xsd

import (
	"strconv"
	"strings"

	"testbench/internal/xsd/datatype"
	"testbench/internal/xsd/pattern"
)

// Facets.

func (b *builder) facets(t, base *SimpleType, form xnode) {
	var patterns []*pattern.Pattern
	var values []EnumerationValue
	seen := map[string]bool{}
	for f := range form.children() {
		name := f.Name().Local
		text, given := f.attr("value")
		switch name {
		case "simpleType", "attribute", "attributeGroup", "anyAttribute", "sequence", "choice", "all", "group":
			continue
		case "encoding", "precision", "scale", "duration", "period": // of the drafts
			if oldNamespaces[f.Name().Space] {
				continue
			}
		}
		if !given {
			b.fail(f, "the facet %s has no value", name)
			continue
		}
		if seen[name] && name != "pattern" && name != "enumeration" {
			b.fail(f, "the facet %s is there twice", name)
		}
		seen[name] = true
		if base.fixed[name] && name != "fractionDigits" {
			b.checkFixedFacet(base, f, name, text)
		}
		if b.boolean(f, "fixed") {
			t.fixed[name] = true
		}
		switch name {
		case "pattern":
			p, err := pattern.Compile(text)
			if err != nil {
				b.fail(f, "%s", err)
				continue
			}
			patterns = append(patterns, p)
		case "enumeration":
			v, err := base.Parse(text, f.scope)
			if err != nil && !base.Missing {
				b.fail(f, "the value is not allowed in the enumeration: %s", err)
				continue
			}
			if base.Primitive == datatype.Notation && base.Variety == Atomic {
				b.checkNotation(f, text)
			}
			values = append(values,
				EnumerationValue{Text: base.Normalize(text), Documentation: f.documentation(), value: v})
		case "whiteSpace":
			b.whitespace(t, base, f, text)
		case "length", "minLength", "maxLength", "totalDigits", "fractionDigits":
			b.countFacet(t, f, name, strings.TrimSpace(text))
		case "minInclusive", "maxInclusive", "minExclusive", "maxExclusive":
			b.bound(t, base, f, name, text)
		default:
			b.fail(f, "%s is not a facet", name)
		}
	}
	if patterns != nil {
		t.Patterns = append(t.Patterns, patterns)
	}
	if values != nil {
		t.Enumeration = values
		t.index()
	}
	b.consistent(t, form)
}

// checkNotation checks that a notation in an enumeration is declared (Part 2, 3.2.19).
func (b *builder) checkNotation(f xnode, text string) {
	name, ok := b.qname(f, text)
	if _, declared := b.globals[global{"notation", name}]; ok && !declared {
		b.missing(f, "notation", name)
	}
}

func (b *builder) checkFixedFacet(base *SimpleType, f xnode, name, text string) {
	same := true
	equal := func(bound *Bound) bool {
		v, err := base.Parse(text, nil)
		return bound != nil && err == nil && v.Same(bound.value)
	}
	number, _ := strconv.Atoi(strings.TrimSpace(text))
	switch name {
	case "whiteSpace":
		same = text == [...]string{"preserve", "replace", "collapse"}[base.Whitespace]
	case "minInclusive":
		same = equal(base.MinInclusive)
	case "maxInclusive":
		same = equal(base.MaxInclusive)
	case "minExclusive":
		same = equal(base.MinExclusive)
	case "maxExclusive":
		same = equal(base.MaxExclusive)
	case "length":
		same = base.Length != nil && *base.Length == number
	case "minLength":
		same = base.MinLength != nil && *base.MinLength == number
	case "maxLength":
		same = base.MaxLength != nil && *base.MaxLength == number
	case "totalDigits":
		same = base.TotalDigits != nil && *base.TotalDigits == number
	}
	if !same {
		b.fail(f, "the facet %s is fixed in %s and cannot be changed", name, nameOr(base.Name, "the base type"))
	}
}

func (b *builder) whitespace(t, base *SimpleType, f xnode, text string) {
	kinds := map[string]Whitespace{"preserve": Preserve, "replace": Replace, "collapse": Collapse}
	kind, ok := kinds[text]
	switch {
	case !ok:
		b.fail(f, "whiteSpace can be preserve, replace or collapse, not %q", text)
	case kind < base.Whitespace:
		b.fail(f, "whiteSpace cannot be %s where the base type has more done to spaces", text)
	default:
		t.Whitespace = kind
	}
}

// countFacet is a facet that counts characters, items or digits (Part 2, 4.3.1 to 4.3.3, 4.3.11 and 4.3.12).
type countFacet struct {
	of       func(*SimpleType) **int
	isDigits bool
	// isWider says whether a value allows what that of the base type does not; in words, how.
	isWider func(n, base int) bool
	words   string
}

func isUnder(n, base int) bool { return n < base }
func isOver(n, base int) bool  { return n > base }
func isOther(n, base int) bool { return n != base }

var countFacets = map[string]countFacet{
	"length":         {func(t *SimpleType) **int { return &t.Length }, false, isOther, "is not"},
	"minLength":      {func(t *SimpleType) **int { return &t.MinLength }, false, isUnder, "is under"},
	"maxLength":      {func(t *SimpleType) **int { return &t.MaxLength }, false, isOver, "is over"},
	"totalDigits":    {func(t *SimpleType) **int { return &t.TotalDigits }, true, isOver, "is over"},
	"fractionDigits": {func(t *SimpleType) **int { return &t.FractionDigits }, true, isOver, "is over"},
}

// hasLength are the primitive types whose values have a length.
var hasLength = map[datatype.Primitive]bool{
	datatype.String: true, datatype.HexBinary: true, datatype.Base64Binary: true, datatype.AnyURI: true,
	datatype.QName: true, datatype.Notation: true,
}

func (b *builder) countFacet(t *SimpleType, f xnode, name, text string) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || name == "totalDigits" && n == 0 {
		b.fail(f, "%s is a number, not %q", name, text)
		return
	}
	facet := countFacets[name]
	fits := t.Variety == List || t.Variety == Atomic && hasLength[t.Primitive]
	if facet.isDigits {
		fits = t.Variety == Atomic && t.Primitive == datatype.Decimal
	}
	if !fits && !t.Missing {
		b.fail(f, "the facet %s cannot be used with this type", name)
		return
	}
	at := facet.of(t)
	if *at != nil && facet.isWider(n, **at) {
		b.fail(f, "%s %d %s the %d of the base type", name, n, facet.words, **at)
	}
	*at = &n
}

func (b *builder) bound(t, base *SimpleType, f xnode, name, text string) {
	if base.Missing {
		return
	}
	ordered := t.Variety == Atomic && t.Primitive >= datatype.Decimal && t.Primitive <= datatype.GMonth
	if !ordered {
		b.fail(f, "the facet %s cannot be used with this type", name)
		return
	}
	// A bound must be a value of the base type, but for those exclusive ones that
	// repeat its own.
	v, err := datatype.Parse(base.Primitive, collapse(text), f.scope)
	if err == nil {
		if rangeErr := base.facets(collapse(text), v); rangeErr != nil && !repeatsBound(base, name, v) {
			err = rangeErr
		}
	}
	if err != nil {
		b.fail(f, "%s: %s", name, err)
		return
	}
	bound := boundOf(collapse(text), v)
	switch name {
	case "minInclusive":
		t.MinInclusive, t.MinExclusive = bound, nil
	case "minExclusive":
		t.MinExclusive, t.MinInclusive = bound, nil
	case "maxInclusive":
		t.MaxInclusive, t.MaxExclusive = bound, nil
	case "maxExclusive":
		t.MaxExclusive, t.MaxInclusive = bound, nil
	}
}

func repeatsBound(base *SimpleType, name string, v datatype.Value) bool {
	return name == "minExclusive" && base.MinExclusive != nil && base.MinExclusive.value.Same(v) ||
		name == "maxExclusive" && base.MaxExclusive != nil && base.MaxExclusive.value.Same(v)
}

// consistent checks facets against one another (Part 2, 4.3).
func (b *builder) consistent(t *SimpleType, form xnode) {
	if t.MinLength != nil && t.MaxLength != nil && *t.MinLength > *t.MaxLength {
		b.fail(form, "minLength %d is over maxLength %d", *t.MinLength, *t.MaxLength)
	}
	if t.Length != nil && (t.MinLength != nil && *t.MinLength > *t.Length ||
		t.MaxLength != nil && *t.MaxLength < *t.Length) {
		b.fail(form, "length %d contradicts minLength or maxLength", *t.Length)
	}
	if t.TotalDigits != nil && t.FractionDigits != nil && *t.FractionDigits > *t.TotalDigits {
		b.fail(form, "fractionDigits %d is over totalDigits %d", *t.FractionDigits, *t.TotalDigits)
	}
	low, high := t.MinInclusive, t.MaxInclusive
	strict := t.MinExclusive != nil && t.MaxInclusive != nil || t.MaxExclusive != nil && t.MinInclusive != nil
	if t.MinExclusive != nil {
		low = t.MinExclusive
	}
	if t.MaxExclusive != nil {
		high = t.MaxExclusive
	}
	if low != nil && high != nil {
		if order, ok := low.value.Compare(high.value); ok && (order > 0 || order == 0 && strict) {
			b.fail(form, "the least value %s is not under the most, %s", low.Text, high.Text)
		}
	}
}
