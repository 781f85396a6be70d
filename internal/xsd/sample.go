package xsd

import (
	"fmt"
	"math/big"
	"strings"

	"testbench/internal/document"
)

// SampleOptions say how much a sample holds.
type SampleOptions struct {
	// Optional asks for the parts that may be left out, too.
	Optional bool
	// MaxDepth bounds the nesting; 0 means 60.
	MaxDepth int
}

// Sample is a valid instance that was made from a schema, the same each time.
type Sample struct {
	Root *document.Node
	// Remarks tell for an element what its schema says of it: whether it may be
	// left out, what values it takes.
	Remarks map[*document.Node]string
	// Cut tells where a type that holds itself was not followed further although it
	// is mandatory: there the sample is not valid, as no finite one could be.
	Cut []string
}

// Sample makes an instance of an element.
func (s *Schema) Sample(e *Element, o SampleOptions) *Sample {
	if o.MaxDepth == 0 {
		o.MaxDepth = 60
	}
	m := &sampler{schema: s, options: o, sample: &Sample{Remarks: map[*document.Node]string{}}, onStack: map[Type]int{}}
	m.sample.Root = m.element(e, &Particle{Min: 1, Max: 1, Term: e})
	return m.sample
}

type sampler struct {
	schema  *Schema
	options SampleOptions
	sample  *Sample
	onStack map[Type]int
	depth   int
}

func (m *sampler) element(e *Element, p *Particle) *document.Node {
	if e.Abstract {
		if members := m.schema.Substitutes(e); len(members) > 0 {
			e = members[0]
		}
	}
	n := &document.Node{Kind: document.Element, Name: document.Name{Space: e.Name.Space, Local: e.Name.Local}}
	t := e.Type
	if c, ok := t.(*ComplexType); ok && c.Abstract {
		if derived := m.schema.Derived(c); len(derived) > 0 {
			t = derived[0]
			setType(n, derived[0].Name)
		}
	}
	remarks := []string{OccursWords(p)}
	m.depth++
	m.onStack[t]++
	switch t := t.(type) {
	case *SimpleType:
		remarks = append(remarks, notJustText(t))
		m.text(n, t, e.Default, e.Fixed)
	case *ComplexType:
		if t.ArrayOf != nil {
			m.array(n, t, &remarks)
			break
		}
		defer func() { m.attributes(n, t, &remarks); m.remark(n, remarks...) }()
		switch t.Content {
		case SimpleContent:
			remarks = append(remarks, notJustText(t.Simple))
			m.text(n, t.Simple, e.Default, e.Fixed)
		case ElementContent, MixedContent:
			switch {
			case t == anyType:
				remarks = append(remarks, "anything")
			case t.Content == MixedContent && e.Fixed != nil:
				n.Items = append(n.Items, document.NewUntyped(*e.Fixed))
			default:
				m.particle(n, t.Particle)
			}
		}
	}
	m.onStack[t]--
	m.depth--
	if e.Nillable {
		remarks = append(remarks, "may be null")
	}
	if names := m.schema.substituteNames(e); len(names) > 0 {
		remarks = append(remarks, "in its place may stand "+inWords(names, 8))
	}
	if c, ok := t.(*ComplexType); !ok || c.ArrayOf != nil {
		m.remark(n, remarks...)
	}
	return n
}

// array puts one item into an array of the SOAP encoding.
func (m *sampler) array(n *document.Node, t *ComplexType, remarks *[]string) {
	*remarks = append(*remarks, "array of "+t.ArrayOf.Item.Local)
	item := m.schema.typeOf(t.ArrayOf.Item)
	if item != nil && m.onStack[item] == 0 {
		n.Items = append(n.Items, m.element(&Element{Name: Name{Local: "item"}, Type: item}, &Particle{Min: 1, Max: 1}))
	}
}

// notJustText leaves out what goes without saying.
func notJustText(t *SimpleType) string {
	if words := t.FacetWords(); words != "text" {
		return words
	}
	return ""
}

func (m *sampler) remark(n *document.Node, words ...string) {
	all := []string{}
	if before := m.sample.Remarks[n]; before != "" {
		all = append(all, before)
	}
	for _, w := range words {
		if w != "" {
			all = append(all, w)
		}
	}
	if len(all) > 0 {
		m.sample.Remarks[n] = strings.Join(all, "; ")
	}
}

// setType writes xsi:type; whoever writes the tree declares the prefix.
func setType(n *document.Node, name Name) {
	n.Attributes = append(n.Attributes, document.Attribute{
		Name:  document.Name{Space: InstanceNamespace, Prefix: "xsi", Local: "type"},
		Value: "{" + name.Space + "}" + name.Local,
	})
}

func (m *sampler) text(n *document.Node, t *SimpleType, byDefault, fixed *string) {
	text := ""
	switch {
	case fixed != nil:
		text = *fixed
	case byDefault != nil:
		text = *byDefault
	default:
		text = t.Sample()
	}
	if text != "" {
		n.Items = append(n.Items, document.NewUntyped(text))
	}
}

func (m *sampler) attributes(n *document.Node, t *ComplexType, remarks *[]string) {
	for _, use := range t.Attributes {
		if !use.Required && !m.options.Optional {
			continue
		}
		text := ""
		switch {
		case use.Fixed != nil:
			text = *use.Fixed
		case use.Default != nil:
			text = *use.Default
		default:
			text = use.Type.Sample()
		}
		n.Attributes = append(n.Attributes, document.Attribute{Name: document.Name{Space: use.Name.Space, Local: use.Name.Local}, Value: text})
		words := notJustText(use.Type)
		if !use.Required {
			words = strings.TrimSuffix("may be left out; "+words, "; ")
		}
		if words != "" {
			*remarks = append(*remarks, use.Name.Local+": "+words)
		}
	}
}

// particle adds what a content model asks for.
func (m *sampler) particle(parent *document.Node, p *Particle) {
	if p == nil {
		return
	}
	times := p.Min
	if times == 0 && m.options.Optional && !m.recurs(p, map[any]bool{}) && m.depth < m.options.MaxDepth/2 {
		times = 1
	}
	if times > 0 && m.depth >= m.options.MaxDepth {
		m.sample.Cut = append(m.sample.Cut, parent.Name.Local)
		return
	}
	for range min(times, 1000) {
		switch term := p.Term.(type) {
		case *Element:
			parent.Items = append(parent.Items, m.element(term, p))
		case *Wildcard:
			if times > 0 && p.Min > 0 {
				m.wildcard(parent, term)
			}
		case *Group:
			m.group(parent, term)
		}
	}
}

func (m *sampler) group(parent *document.Node, g *Group) {
	if g.Kind != Choice {
		for _, p := range g.Particles {
			m.particle(parent, p)
		}
		return
	}
	if len(g.Particles) == 0 {
		return
	}
	// The first branch, unless it leads back to where it comes from.
	branch := g.Particles[0]
	for _, p := range g.Particles {
		if !m.recurs(p, map[any]bool{}) {
			branch = p
			break
		}
	}
	before := len(parent.Items)
	once := *branch
	once.Min = max(1, once.Min)
	m.particle(parent, &once)
	if len(parent.Items) > before && len(g.Particles) > 1 {
		var words []string
		for _, p := range g.Particles {
			words = append(words, particleWords(p))
		}
		first := parent.Items[before]
		m.sample.Remarks[first] = strings.TrimSuffix("one of these: "+inWords(words, 12)+"; "+m.sample.Remarks[first], "; ")
	}
}

// particleWords names a branch by its first element.
func particleWords(p *Particle) string {
	switch term := p.Term.(type) {
	case *Element:
		return term.Name.Local
	case *Wildcard:
		return term.String()
	case *Group:
		var words []string
		for _, inner := range term.Particles {
			words = append(words, particleWords(inner))
		}
		separator := " with "
		if term.Kind == Choice {
			separator = " or "
		}
		return strings.Join(cut(words, 4), separator)
	}
	return ""
}

// recurs says whether a particle needs a type that is being written just now.
func (m *sampler) recurs(p *Particle, seen map[any]bool) bool {
	switch term := p.Term.(type) {
	case *Element:
		if m.onStack[term.Type] > 0 && term.Type != Type(anyType) {
			if _, complex := term.Type.(*ComplexType); complex {
				return true
			}
		}
		c, ok := term.Type.(*ComplexType)
		if !ok || seen[c] || c.Particle == nil {
			return false
		}
		seen[c] = true
		return c.Particle.Min > 0 && m.recurs(c.Particle, seen)
	case *Group:
		for _, inner := range term.Particles {
			needs := inner.Min > 0 && m.recurs(inner, seen)
			if term.Kind == Choice && !needs {
				return false
			}
			if term.Kind != Choice && needs {
				return true
			}
		}
		return term.Kind == Choice && len(term.Particles) > 0
	}
	return false
}

// wildcard puts in an element that the wildcard allows.
func (m *sampler) wildcard(parent *document.Node, w *Wildcard) {
	if w.Process == Strict {
		names := make([]Name, 0, len(m.schema.Elements))
		for name := range m.schema.Elements {
			names = append(names, name)
		}
		SortNames(names)
		for _, name := range names {
			e := m.schema.Elements[name]
			p := &Particle{Min: 1, Max: 1, Term: e}
			if w.Allows(name.Space) && !e.Abstract && !m.recurs(p, map[any]bool{}) {
				n := m.element(e, p)
				m.remark(n, "stands for "+w.String())
				parent.Items = append(parent.Items, n)
				return
			}
		}
	}
	space := "urn:example:any"
	if !w.any && w.not == nil && len(w.spaces) > 0 {
		space = w.spaces[0]
	}
	n := &document.Node{Kind: document.Element, Name: document.Name{Space: space, Local: "any"}}
	m.remark(n, "stands for "+w.String())
	parent.Items = append(parent.Items, n)
}

// OccursWords says how often a particle may stand, "" for exactly once.
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
	if t.missing {
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
	} else if t.primitive == hexBinaryType || t.primitive == base64BinaryType {
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
		words = append(words, "matches "+patternWords(alternatives))
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

// Sample gives a value of the type: the first of an enumeration, one that
// matches the patterns and lies in the bounds. Where none is found simply, the
// best guess is returned.
func (t *SimpleType) Sample() string {
	candidates := t.candidates()
	for _, c := range candidates {
		if t.Check(c, anyPrefix{}) == nil {
			return c
		}
	}
	if len(candidates) > 0 {
		return candidates[0]
	}
	return ""
}

// anyPrefix knows no prefix but the empty one, so that samples need none.
type anyPrefix struct{}

func (anyPrefix) Lookup(prefix string) (string, bool) { return "", prefix == "" }

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
	switch t.primitive {
	case decimalType, floatType, doubleType:
		out = append(out, t.numbers()...)
	case booleanType:
		out = append(out, "true", "false", "1", "0")
	case durationType:
		out = append(out, "P1D", "PT1H", "P1M", "P1Y")
	case dateTimeType:
		out = append(out, "2026-05-04T08:30:00Z", "2026-05-04T08:30:00", "1990-01-01T00:00:00Z", "2050-01-01T00:00:00Z")
	case timeType:
		out = append(out, "08:30:00", "00:00:00", "23:00:00")
	case dateType:
		out = append(out, "2026-05-04", "1990-01-01", "2050-01-01")
	case gYearMonthType:
		out = append(out, "2026-05", "1990-01", "2050-01")
	case gYearType:
		out = append(out, "2026", "1990", "2050")
	case gMonthDayType:
		out = append(out, "--05-04", "--12-31")
	case gDayType:
		out = append(out, "---04", "---31")
	case gMonthType:
		out = append(out, "--05", "--12")
	case hexBinaryType:
		out = append(out, t.sized("0F", 2)...)
	case base64BinaryType:
		out = append(out, "aG9uZXk=")
		out = append(out, t.sized("TWFu", 4)...)
		for n := range 12 {
			out = append(out, strings.Repeat("TWFu", n/3)+[]string{"", "TQ==", "TWE="}[n%3])
		}
	case anyURIType:
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
				if text, ok := p.sample(extra, most); ok {
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
