package jsonschema

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// Large descriptions are one net, and nobody fills in all that can be reached: what
// may be left out goes into a sample down to deepestOptional, and less deep where that
// makes more than mostParts.
const (
	deepestOptional = 5
	mostParts       = 2_000
)

// Sample makes a valid value, the same each time. Examples and defaults of the
// schema are used as far as they are valid themselves; what is read-only is left
// out of requests.
func (s *Schema) Sample(options schema.SampleOptions) *schema.Sample {
	// Examples of real descriptions are often wrong: then it goes without them.
	var made *sampler
	for _, own := range []bool{true, false} {
		for _, unlike := range []int{0, 1, 2} {
			var m *sampler
			for deepest := deepestOptional; m == nil || m.left < 0 && deepest >= 0; deepest-- {
				m = &sampler{
					optional: options.Optional, examples: own, choice: unlike,
					remarks: map[*document.Node]string{}, deepest: deepest, left: 10 * mostParts,
				}
				if deepest > 0 && options.Optional {
					m.left = mostParts
				}
				m.root = m.value(s, "", 0)
			}
			if m.left < 0 {
				return &schema.Sample{Root: m.root, Remarks: m.remarks, Cut: m.cut, Omitted: m.omitted, TooLarge: true}
			}
			if made == nil || len(s.Check(m.root)) == 0 {
				made = m
			}
			if len(s.Check(made.root)) == 0 {
				return &schema.Sample{Root: made.root, Remarks: made.remarks, Cut: made.cut, Omitted: made.omitted}
			}
		}
	}
	if options.Optional {
		if required := s.Sample(schema.SampleOptions{}); len(s.Check(required.Root)) == 0 {
			return required
		}
	}
	return &schema.Sample{Root: made.root, Remarks: made.remarks, Cut: made.cut, Omitted: made.omitted}
}

type sampler struct {
	root     *document.Node
	optional bool
	examples bool
	choice   int // which of several alternatives is taken
	remarks  map[*document.Node]string
	cut      []string
	omitted  int
	deepest  int // that holds what may be left out
	open     []*keywords
	left     int
	count    int // so that items of a list differ
}

// example is a value that the schema itself proposes.
func (m *sampler) example(s *Schema, h *shape) *document.Node {
	if !m.examples {
		return nil
	}
	for _, one := range h.all {
		source := one.at.Node
		for _, key := range []string{"example", "default"} {
			if v := source.Get(key); v != nil && s.fits(v) {
				return v
			}
		}
		if list := source.Get("examples"); list != nil && len(list.Items()) > 0 && s.fits(list.Items()[0]) {
			return list.Items()[0]
		}
	}
	return nil
}

// fits says whether a value may be in a sample.
func (s *Schema) fits(v *document.Node) bool {
	if len(s.Check(v)) > 0 {
		return false
	}
	if s.set.direction != Request {
		return true
	}
	for _, p := range s.properties() {
		if p.readOnly && v.Get(p.name) != nil {
			return false
		}
	}
	return true
}

func (m *sampler) value(s *Schema, path string, depth int) *document.Node {
	h := shapeOf(s.compiled)
	if m.left--; m.left < 0 || depth > 60 {
		return &document.Node{Kind: document.Null}
	}
	if v := m.example(s, h); v != nil {
		return v.Copy() // it is remarked on where it is
	}
	if allowed := h.allowed(); len(allowed) > 0 {
		return allowed[min(m.choice, len(allowed)-1)].Copy()
	}
	for len(h.alternatives) > 0 {
		group := h.alternatives[0]
		h.alternatives = h.alternatives[1:]
		h.add(group[min(m.choice, len(group)-1)])
		if allowed := h.allowed(); len(allowed) > 0 {
			return allowed[0].Copy()
		}
	}
	types := h.types()
	has := func(name string) bool { return slices.Contains(types, name) }
	switch {
	case has("object") || types == nil && m.saysObject(h):
		return m.object(s, h, path, depth)
	case has("array") || types == nil && saysList(h):
		return m.list(s, h, path, depth)
	case has("string"), types == nil && saysText(h):
		return document.NewText(m.text(h))
	case has("integer"), has("number"), types == nil && saysNumber(h):
		return document.NewNumber(m.number(h, has("integer") && !has("number")))
	case has("boolean"):
		return document.NewBoolean(true)
	case has("null"):
		return &document.Node{Kind: document.Null}
	}
	return document.NewText("text")
}

func (m *sampler) saysObject(h *shape) bool {
	return slices.ContainsFunc(h.all, func(s *keywords) bool { return len(s.properties) > 0 || len(s.required) > 0 })
}

func saysList(h *shape) bool {
	return slices.ContainsFunc(h.all, func(s *keywords) bool {
		return s.items != nil || len(s.prefixItems) > 0 || s.minItems != nil
	})
}

func saysText(h *shape) bool {
	return slices.ContainsFunc(h.all, func(s *keywords) bool {
		return s.minLength != nil || s.pattern != nil || s.format != nil
	})
}

func saysNumber(h *shape) bool {
	return slices.ContainsFunc(h.all, func(s *keywords) bool {
		return s.minimum != nil || s.maximum != nil || s.over != nil || s.under != nil ||
			s.multipleOf != nil
	})
}

func (m *sampler) object(s *Schema, h *shape, path string, depth int) *document.Node {
	object := document.NewObject()
	// The alternatives that were not chosen count no more.
	chosen := s.propertiesOf(&shape{all: h.all}, false, 0)
	m.open = append(m.open, h.all...)
	defer func() { m.open = m.open[:len(m.open)-len(h.all)] }()
	for _, p := range chosen {
		inner := p.schema
		below := schema.Below(path, p.name)
		again := m.again(inner)
		switch {
		case p.readOnly && s.set.direction == Request, p.writeOnly && s.set.direction == Answer:
			continue
		case !p.required && (!m.optional || again || p.maybe):
			continue
		case !p.required && depth > m.deepest:
			m.omitted++
			continue
		case again && depth > 20:
			m.cut = append(m.cut, below)
			continue
		}
		v := m.value(inner, below, depth+1)
		if m.remarks[v] == "" && v != nil {
			v = v.Copy() // an example may be in several places
			m.remarks[v] = m.remark(p)
		}
		object.Set(p.name, v)
	}
	// Members that are demanded and not described hold anything.
	for _, one := range h.all {
		for _, name := range one.required {
			if object.Get(name) == nil && !slices.ContainsFunc(chosen, func(p property) bool {
				return p.name == name
			}) {
				inner := s.property(name)
				if inner == nil {
					object.Set(name, document.NewText("text"))
				} else {
					object.Set(name, m.value(inner, schema.Below(path, name), depth+1))
				}
			}
		}
		if one.minProperties != nil {
			for i := 1; len(object.Members()) < *one.minProperties && i < 20; i++ {
				name := fmt.Sprintf("name%d", i)
				if inner := s.property(name); inner != nil {
					object.Set(name, m.value(inner, schema.Below(path, name), depth+1))
				} else {
					object.Set(name, document.NewText("text"))
				}
			}
		}
	}
	m.word(s, h, object)
	return object
}

// word says by the discriminator which of the alternatives was chosen.
func (m *sampler) word(s *Schema, h *shape, object *document.Node) {
	for _, one := range h.all {
		source := one.at
		discriminator := source.Node.Get("discriminator")
		if discriminator == nil {
			continue
		}
		name := discriminator.Text // 2.0 has just the name
		if property := discriminator.Get("propertyName"); property != nil {
			name = property.Text
		}
		for _, other := range h.all {
			at := other.at
			target := unescapePointer(at.Pointer[strings.LastIndexByte(at.Pointer, '/')+1:])
			if other == one || !strings.HasSuffix(at.Pointer, "/schemas/"+target) {
				continue
			}
			word := target
			if mapping := discriminator.Get("mapping"); mapping != nil {
				for _, pair := range mapping.Members() {
					if pair.Value.Text == target || strings.HasSuffix(pair.Value.Text, "/"+target) {
						word = pair.Key
					}
				}
			}
			if v := object.Get(name); v == nil || v.Text != word {
				if inner := s.property(name); inner == nil || len(inner.Check(document.NewText(word))) == 0 {
					object.Set(name, document.NewText(word))
				}
			}
			return
		}
	}
}

// again says whether a part holds what it is in.
func (m *sampler) again(s *Schema) bool {
	for range 4 {
		if slices.ContainsFunc(shapeOf(s.compiled).all, func(one *keywords) bool {
			return slices.Contains(m.open, one)
		}) {
			return true
		}
		items := s.items()
		if items == nil {
			return false
		}
		s = items
	}
	return false
}

// remark says of a member what its schema does.
func (m *sampler) remark(p property) string {
	words := p.schema.Words()
	if !p.required {
		words = strings.TrimSuffix("may be left out; "+words, "; ")
	}
	return words
}

func (m *sampler) list(s *Schema, h *shape, path string, depth int) *document.Node {
	count := 1
	for _, one := range h.all {
		if one.minItems != nil {
			count = max(count, min(*one.minItems, 100))
		}
		if one.maxItems != nil {
			count = min(count, *one.maxItems)
		}
		count = max(count, len(one.prefixItems))
	}
	list := document.NewList()
	if items := s.items(); items != nil && !m.optional && m.again(items) {
		count = 0
		for _, one := range h.all {
			if one.minItems != nil {
				count = *one.minItems
			}
		}
	}
	for i := range count {
		m.count = i
		item := s.item(i)
		if item == nil {
			list.AppendItems(document.NewText(fmt.Sprintf("item %d", i+1)))
			continue
		}
		if m.again(item) && depth > 20 {
			m.cut = append(m.cut, path)
			break
		}
		list.AppendItems(m.value(item, path+"[0]", depth+1))
	}
	m.count = 0
	return list
}

// formatSamples are texts of the formats that JSON Schema and OpenAPI name.
var formatSamples = map[string]string{
	"date-time": "2026-11-23T08:00:00Z", "date": "2026-11-23", "time": "08:00:00Z", "duration": "P1D",
	"email":     "desk@heatherfold.example",
	"idn-email": "desk@heatherfold.example", "hostname": "heatherfold.example", "idn-hostname": "heatherfold.example",
	"ipv4": "192.0.2.1",
	"ipv6": "2001:db8::1", "uri": "https://heatherfold.example/", "uri-reference": "/lots",
	"iri":           "https://heatherfold.example/",
	"iri-reference": "/lots", "uri-template": "/lots/{id}", "uuid": "3f2c1a90-6b7d-4e58-9c01-2d3e4f506172",
	"json-pointer":          "/lots/0",
	"relative-json-pointer": "0", "regex": "^a$", "byte": "aG9uZXk=", "url": "https://heatherfold.example/",
	"period": "2026-11-23T08:00:00Z/P1D", "semver": "1.0.0",
}

func (m *sampler) text(h *shape) string {
	least, most := 0, -1
	for _, one := range h.all {
		if one.minLength != nil {
			least = max(least, *one.minLength)
		}
		if one.maxLength != nil && (most < 0 || *one.maxLength < most) {
			most = *one.maxLength
		}
	}
	for _, one := range h.all {
		if one.pattern != nil {
			if text, ok := patternSample(one.pattern.String(), least, most); ok {
				return text
			}
		}
	}
	for _, one := range h.all {
		if one.format != nil && formatSamples[one.format.name] != "" {
			return formatSamples[one.format.name]
		}
	}
	text := "text"
	if m.count > 0 {
		text = fmt.Sprintf("text%d", m.count+1)
	}
	if most >= 0 && len(text) > most {
		text = text[:most]
	}
	if len(text) < least {
		text += strings.Repeat("x", min(least, 1<<16)-len(text))
	}
	return text
}

// number chooses a number within the bounds: the least that is not negative where
// that is possible.
func (m *sampler) number(h *shape, whole bool) string {
	low, high := (*big.Rat)(nil), (*big.Rat)(nil)
	step := big.NewRat(1, 1)
	stepped := whole
	over, under := false, false
	for _, one := range h.all {
		if one.minimum != nil && (low == nil || one.minimum.exact.Cmp(low) > 0) {
			low, over = one.minimum.exact, false
		}
		if one.over != nil && (low == nil || one.over.exact.Cmp(low) >= 0) {
			low, over = one.over.exact, true
		}
		if one.maximum != nil && (high == nil || one.maximum.exact.Cmp(high) < 0) {
			high, under = one.maximum.exact, false
		}
		if one.under != nil && (high == nil || one.under.exact.Cmp(high) <= 0) {
			high, under = one.under.exact, true
		}
		if one.multipleOf != nil {
			step, stepped = one.multipleOf.exact, true
		}
	}
	expected := big.NewRat(int64(1+m.count), 1)
	if low != nil && expected.Cmp(low) < 0 {
		expected = new(big.Rat).Add(low, big.NewRat(int64(m.count), 1))
	}
	if low != nil && over && expected.Cmp(low) <= 0 {
		expected = new(big.Rat).Add(low, step)
	}
	if high != nil && (expected.Cmp(high) > 0 || under && expected.Cmp(high) == 0) {
		expected = high
		switch {
		case low != nil && !stepped:
			expected = new(big.Rat).Quo(new(big.Rat).Add(low, high), big.NewRat(2, 1))
		case under:
			expected = new(big.Rat).Sub(high, step)
		}
	}
	if stepped && step.Sign() != 0 {
		// The next multiple upward, or the one below where that is too much.
		times := new(big.Rat).Quo(expected, step)
		count := new(big.Int).Quo(times.Num(), times.Denom())
		multiple := new(big.Rat).Mul(new(big.Rat).SetInt(count), step)
		if multiple.Cmp(expected) < 0 && (high == nil || new(big.Rat).Add(multiple, step).Cmp(high) <= 0) {
			multiple.Add(multiple, step)
		}
		expected = multiple
	}
	return number(expected)
}
