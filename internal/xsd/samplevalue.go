package xsd

import (
	"math/big"
	"strings"

	"testbench/internal/xsd/datatype"
)

// Sample gives a value of the type: the first of an enumeration, one that
// matches the patterns and lies in the bounds. Where none is found simply, the
// best guess is returned.
func (t *SimpleType) Sample() string {
	candidates := t.candidates()
	for _, c := range candidates {
		if t.Check(c, NoPrefix{}) == nil {
			return c
		}
	}
	if len(candidates) > 0 {
		return candidates[0]
	}
	return ""
}

// NoPrefix knows no prefix but the empty one, so that samples need none.
type NoPrefix struct{}

func (NoPrefix) Lookup(prefix string) (string, bool) { return "", prefix == "" }

func (t *SimpleType) candidates() []string {
	var out []string
	for _, e := range t.Enumeration {
		out = append(out, e.Text)
	}
	switch t.Variety {
	case Union:
		for _, m := range t.Members {
			out = append(out, m.Sample())
		}
		return append(out, t.byPattern()...)
	case List:
		least := 1
		if t.MinLength != nil {
			least = max(1, *t.MinLength)
		}
		if t.Length != nil {
			least = *t.Length
		}
		items := make([]string, min(least, 1000))
		for i := range items {
			items[i] = t.Item.Sample()
		}
		return append(append(out, strings.Join(items, " "), ""), t.byPattern()...)
	}
	out = append(out, t.byPattern()...)
	switch t.Primitive {
	case datatype.Decimal, datatype.Float, datatype.Double:
		out = append(out, t.numbers()...)
	case datatype.Boolean:
		out = append(out, "true", "false", "1", "0")
	case datatype.Duration:
		out = append(out, "P1D", "PT1H", "P1M", "P1Y")
	case datatype.DateTime:
		out = append(out, "2026-05-04T08:30:00Z", "2026-05-04T08:30:00", "1990-01-01T00:00:00Z", "2050-01-01T00:00:00Z")
	case datatype.Time:
		out = append(out, "08:30:00", "00:00:00", "23:00:00")
	case datatype.Date:
		out = append(out, "2026-05-04", "1990-01-01", "2050-01-01")
	case datatype.GYearMonth:
		out = append(out, "2026-05", "1990-01", "2050-01")
	case datatype.GYear:
		out = append(out, "2026", "1990", "2050")
	case datatype.GMonthDay:
		out = append(out, "--05-04", "--12-31")
	case datatype.GDay:
		out = append(out, "---04", "---31")
	case datatype.GMonth:
		out = append(out, "--05", "--12")
	case datatype.HexBinary:
		out = append(out, t.sized("0F", 2)...)
	case datatype.Base64Binary:
		out = append(out, "aG9uZXk=")
		out = append(out, t.sized("TWFu", 4)...)
		for n := range 12 {
			out = append(out, strings.Repeat("TWFu", n/3)+[]string{"", "TQ==", "TWE="}[n%3])
		}
	case datatype.AnyURI:
		out = append(out, "http://heatherfold.example/")
		out = append(out, t.sized("x", 1)...)
	default:
		switch {
		case t.isA("language"):
			out = append(out, "en")
		case t.isA("ID"):
			out = append(out, "id1")
		default:
			out = append(out, "text")
		}
		out = append(out, t.sized("text", 1)...)
	}
	for _, b := range []*Bound{t.MinInclusive, t.MaxInclusive, t.MinExclusive, t.MaxExclusive} {
		if b != nil {
			out = append(out, b.Text)
		}
	}
	return out
}

func (t *SimpleType) byPattern() []string {
	least, most := 0, -1
	if t.MinLength != nil {
		least = *t.MinLength
	}
	if t.MaxLength != nil {
		most = *t.MaxLength
	}
	if t.Length != nil {
		least, most = *t.Length, *t.Length
	}
	var out []string
	for i := len(t.Patterns) - 1; i >= 0; i-- {
		for _, p := range t.Patterns[i] {
			for _, extra := range []int{least, least + 1, least + 2, least + 3} {
				if text, ok := p.Sample(extra, most); ok {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

// sized repeats a unit so that the lengths hold; the unit is of so many characters.
func (t *SimpleType) sized(unit string, of int) []string {
	sizes := []int{}
	for _, n := range []*int{t.Length, t.MinLength, t.MaxLength} {
		if n != nil {
			sizes = append(sizes, min(*n, 1<<20))
		}
	}
	var out []string
	for _, n := range sizes {
		if of == 1 && unit != "x" {
			text := strings.Repeat(unit, n/len(unit)+1)
			out = append(out, text[:n])
			continue
		}
		out = append(out, strings.Repeat(unit, n))
	}
	return out
}

// numbers gives numbers within the bounds, pleasant ones first.
func (t *SimpleType) numbers() []string {
	out := []string{"1", "10", "0", "0.5", "100", "1000", "-1"}
	rat := func(b *Bound) *big.Rat {
		if b == nil {
			return nil
		}
		r, ok := new(big.Rat).SetString(b.Text)
		if !ok {
			return nil
		}
		return r
	}
	low, high := rat(t.MinInclusive), rat(t.MaxInclusive)
	if low == nil {
		low = rat(t.MinExclusive)
	}
	if high == nil {
		high = rat(t.MaxExclusive)
	}
	digits := 6
	if t.FractionDigits != nil {
		digits = min(*t.FractionDigits, 30)
	}
	unit := new(big.Rat).SetFrac(big.NewInt(1), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(digits)), nil))
	add := func(r *big.Rat) {
		text := r.FloatString(digits)
		if strings.Contains(text, ".") {
			text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
		}
		out = append(out, text)
	}
	if low != nil && high != nil {
		add(new(big.Rat).Quo(new(big.Rat).Add(low, high), big.NewRat(2, 1)))
	}
	if low != nil {
		add(low)
		add(new(big.Rat).Add(low, big.NewRat(1, 1)))
		add(new(big.Rat).Add(low, unit))
	}
	if high != nil {
		add(high)
		add(new(big.Rat).Sub(high, big.NewRat(1, 1)))
		add(new(big.Rat).Sub(high, unit))
	}
	return out
}
