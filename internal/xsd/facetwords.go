package xsd

import (
	"fmt"
	"strings"

	"testbench/internal/suggest"
	"testbench/internal/xsd/datatype"
	"testbench/internal/xsd/pattern"
)

// ParticleWords names a branch by its first element.
func ParticleWords(p *Particle) string {
	switch term := p.Term.(type) {
	case *Element:
		return term.Name.Local
	case *Wildcard:
		return term.String()
	case *Group:
		var words []string
		for _, inner := range term.Particles {
			words = append(words, ParticleWords(inner))
		}
		separator := " with "
		if term.Kind == Choice {
			separator = " or "
		}
		return strings.Join(suggest.First(words, 4), separator)
	}
	return ""
}

// OccursWords says how often a particle may occur, "" for exactly once.
func OccursWords(p *Particle) string {
	switch {
	case p.Min == 1 && p.Max == 1:
		return ""
	case p.Min == 0 && p.Max == 1:
		return "may be left out"
	case p.Min == 0 && p.Max == Unbounded:
		return "any number of times"
	case p.Min == 1 && p.Max == Unbounded:
		return "once or more"
	case p.Max == Unbounded:
		return fmt.Sprintf("%d times or more", p.Min)
	case p.Min == p.Max:
		return fmt.Sprintf("%d times", p.Min)
	}
	return fmt.Sprintf("%d to %d times", p.Min, p.Max)
}

// FacetWords says in words what values the type takes: "decimal number, 0 to 100".
func (t *SimpleType) FacetWords() string {
	if t.Missing {
		return ""
	}
	var words []string
	kind := strings.TrimPrefix(strings.TrimPrefix(t.Words(), "a "), "an ")
	if len(t.Enumeration) > 0 {
		if len(t.Enumeration) == 1 {
			return "always " + t.Enumeration[0].Text
		}
		return "one of " + t.EnumerationWords(12)
	}
	words = append(words, kind)
	if r := t.rangeWords(); r != "" {
		words = append(words, r)
	}
	if t.FractionDigits != nil && *t.FractionDigits > 0 {
		words = append(words, "at most "+count(*t.FractionDigits, "digit")+" after the point")
	}
	if t.TotalDigits != nil {
		words = append(words, "at most "+count(*t.TotalDigits, "digit"))
	}
	unit := "character"
	if t.Variety == List {
		unit = "item"
	} else if t.Primitive == datatype.HexBinary || t.Primitive == datatype.Base64Binary {
		unit = "byte"
	}
	switch {
	case t.Length != nil:
		words = append(words, "exactly "+count(*t.Length, unit))
	case t.MinLength != nil && t.MaxLength != nil:
		words = append(words, fmt.Sprintf("%d to %s", *t.MinLength, count(*t.MaxLength, unit)))
	case t.MinLength != nil && t.Name.Space != Namespace:
		words = append(words, "at least "+count(*t.MinLength, unit))
	case t.MaxLength != nil:
		words = append(words, "at most "+count(*t.MaxLength, unit))
	}
	for _, alternatives := range t.Patterns {
		words = append(words, "matches "+pattern.Words(alternatives))
	}
	return strings.Join(words, ", ")
}

// rangeWords says the bounds, unless they are those that the built-in type has by itself.
func (t *SimpleType) rangeWords() string {
	b := t.Builtin()
	own := func(mine, builtin *Bound) bool {
		return mine != nil && (t == b || builtin == nil || mine.Text != builtin.Text)
	}
	low, high := "", ""
	switch {
	case t.Name.Space == Namespace:
		return ""
	case own(t.MinInclusive, b.MinInclusive):
		low = t.MinInclusive.Text
	case own(t.MinExclusive, nil):
		low = "over " + t.MinExclusive.Text
	}
	switch {
	case own(t.MaxInclusive, b.MaxInclusive):
		high = t.MaxInclusive.Text
	case own(t.MaxExclusive, nil):
		high = "under " + t.MaxExclusive.Text
	}
	switch {
	case low != "" && high != "" && t.MinInclusive != nil && t.MaxInclusive != nil:
		return low + " to " + high
	case low != "" && high != "":
		return low + " and " + high
	case low != "" && t.MinInclusive != nil:
		return "at least " + low
	case high != "" && t.MaxInclusive != nil:
		return "at most " + high
	}
	return low + high
}
