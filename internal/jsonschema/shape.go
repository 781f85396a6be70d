package jsonschema

import (
	"slices"

	"testbench/internal/document"
)

// shape is all that is said of one value: by its schema, by those that it refers
// to, and by its alternatives.
type shape struct {
	all          []*keywords
	alternatives [][]*keywords // of each group one holds
}

// shapeOf gathers what a schema says, with what it refers to.
func shapeOf(s *keywords) *shape {
	out := &shape{}
	out.add(s)
	return out
}

func (h *shape) add(s *keywords) {
	if s == nil || slices.Contains(h.all, s) {
		return
	}
	h.all = append(h.all, s)
	h.add(referred(s))
	h.add(dynamicallyReferred(s))
	for _, one := range s.allOf {
		h.add(one)
	}
	for _, group := range [][]*keywords{s.oneOf, s.anyOf} {
		left := slices.DeleteFunc(slices.Clone(group), isNull)
		switch {
		case len(left) == 1:
			h.add(left[0]) // it may be null, else it is this
		case len(left) > 1:
			h.alternatives = append(h.alternatives, left)
		}
	}
}

func isNull(s *keywords) bool {
	return slices.Equal(s.types, []string{"null"})
}

// types are those that a value may have; nil allows all.
func (h *shape) types() []string { return h.typesWithin(0) }

func (h *shape) typesWithin(depth int) []string {
	var types []string
	narrow := func(more []string) {
		if types == nil {
			types = more
			return
		}
		types = slices.DeleteFunc(slices.Clone(types), func(t string) bool {
			return !slices.Contains(more, t) && !(t == "integer" && slices.Contains(more, "number"))
		})
	}
	for _, s := range h.all {
		if s.types != nil {
			narrow(s.types)
		} else if values := enumerated(s); values != nil {
			narrow(typesOf(values))
		}
	}
	if types != nil || depth > 8 {
		return types
	}
	for _, group := range h.alternatives {
		var any []string
		for _, s := range group {
			inner := shapeOf(s).typesWithin(depth + 1)
			if inner == nil {
				return nil
			}
			any = append(any, inner...)
		}
		narrow(unique(any))
	}
	return types
}

func typesOf(values []*document.Node) []string {
	var types []string
	for _, v := range values {
		types = append(types, kindOf(v))
	}
	return unique(types)
}

// enumerated are the only values that a schema takes; nil for any.
func enumerated(s *keywords) []*document.Node {
	switch {
	case s.only != nil:
		return []*document.Node{s.only}
	case s.values != nil:
		return s.values.list
	}
	return nil
}

// allowed are the only values that are taken; nil for any.
func (h *shape) allowed() []*document.Node {
	for _, s := range h.all {
		if values := enumerated(s); values != nil {
			return values
		}
	}
	return nil
}

// only are the values that are taken alone, as texts; nil for any.
func (h *shape) only() []string {
	var only []string
	for _, v := range h.allowed() {
		if kindOf(v) == "string" {
			only = append(only, v.Text)
			continue
		}
		only = append(only, bare(v))
	}
	return only
}

// takes says whether values of a type are taken.
func (h *shape) takes(name string) bool {
	types := h.types()
	return types == nil || slices.Contains(types, name) || name == "integer" && slices.Contains(types, "number")
}

// isNullable says whether null is taken.
func (h *shape) isNullable(s *keywords) bool {
	if types := h.types(); types != nil && slices.Contains(types, "null") {
		return true
	}
	return slices.ContainsFunc(slices.Concat(s.oneOf, s.anyOf), isNull)
}

// property is a member of an object as its schema has it.
type property struct {
	name                string
	schema              *Schema
	required            bool
	readOnly, writeOnly bool
	maybe               bool // only one of several alternatives has it
}

// properties lists the members, in the order of the source.
func (s *Schema) properties() []property {
	if known, ok := s.set.members.Load(s.compiled); ok {
		return known.([]property)
	}
	made := s.propertiesOf(shapeOf(s.compiled), false, 0)
	s.set.members.Store(s.compiled, made)
	return made
}

func (s *Schema) propertiesOf(h *shape, maybe bool, depth int) []property {
	var out []property
	index := map[string]int{}
	put := func(p property) {
		if at, has := index[p.name]; has {
			out[at].required = out[at].required || p.required && !p.maybe
			return
		}
		index[p.name] = len(out)
		out = append(out, p)
	}
	for _, one := range h.all {
		for _, name := range one.names {
			inner := &Schema{set: s.set, compiled: one.properties[name]}
			p := property{name: name, schema: inner, maybe: maybe}
			for _, part := range shapeOf(inner.compiled).all {
				p.readOnly = p.readOnly || part.readOnly
				p.writeOnly = p.writeOnly || part.writeOnly
			}
			put(p)
		}
	}
	if depth < 8 {
		for _, group := range h.alternatives {
			for _, one := range group {
				for _, p := range s.propertiesOf(shapeOf(one), true, depth+1) {
					put(p)
				}
			}
		}
		for _, one := range h.all {
			for _, branch := range []*keywords{one.then, one.otherwise} {
				if branch != nil {
					for _, p := range s.propertiesOf(shapeOf(branch), true, depth+1) {
						put(p)
					}
				}
			}
		}
	}
	for i := range out {
		for _, one := range h.all {
			out[i].required = out[i].required || slices.Contains(one.required, out[i].name)
		}
	}
	return out
}

// property finds what a member of an object is, also one that is not named by
// the schema; nil where nothing is said of it.
func (s *Schema) property(name string) *Schema {
	for _, p := range s.properties() {
		if p.name == name {
			return p.schema
		}
	}
	for _, one := range shapeOf(s.compiled).all {
		for _, p := range one.patternProperties {
			if isFound(p.pattern, name) {
				return &Schema{set: s.set, compiled: p.schema}
			}
		}
		if inner := one.additionalProperties; inner != nil && inner.always == nil {
			return &Schema{set: s.set, compiled: inner}
		}
	}
	return nil
}

// isOpen says whether the schema itself says that members it does not name are
// taken.
func (s *Schema) isOpen() bool {
	h := shapeOf(s.compiled)
	named := len(h.alternatives) > 0
	for _, one := range h.all {
		if one.additionalProperties != nil && !one.additionalProperties.isNothing() || len(one.patternProperties) > 0 {
			return true
		}
		named = named || len(one.properties) > 0
	}
	return !named
}

// items is what the items of a list are; nil where nothing is said of them.
func (s *Schema) items() *Schema { return s.item(1 << 20) }

// item is what the item at an index is.
func (s *Schema) item(index int) *Schema {
	var find func(h *shape, depth int) *keywords
	find = func(h *shape, depth int) *keywords {
		for _, one := range h.all {
			if index < len(one.prefixItems) {
				return one.prefixItems[index]
			}
			if one.items != nil {
				return one.items
			}
		}
		for _, group := range h.alternatives {
			for _, one := range group {
				if depth < 8 {
					if found := find(shapeOf(one), depth+1); found != nil {
						return found
					}
				}
			}
		}
		return nil
	}
	found := find(shapeOf(s.compiled), 0)
	if found == nil {
		return nil
	}
	return &Schema{set: s.set, compiled: found}
}

// Property is what a member of an object is; nil where nothing is said of it.
func (s *Schema) Property(name string) *Schema { return s.property(name) }

// Items is what the items of a list are; nil where nothing is said of them.
func (s *Schema) Items() *Schema { return s.items() }

// Keyword is what a schema, or one that it refers to, says under a keyword that
// nothing here goes by; nil for nothing.
func (s *Schema) Keyword(name string) *document.Node {
	for _, one := range shapeOf(s.compiled).all {
		if found := one.at.Node.Get(name); found != nil {
			return found
		}
	}
	return nil
}

// Name is what the schema is called where something refers to it, or its title.
func (s *Schema) Name() string { return s.nameOf(s.compiled) }
