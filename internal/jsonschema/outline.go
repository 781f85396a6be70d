package jsonschema

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// mostRows bounds an outline: a schema can name the same parts over and over.
const mostRows = 20_000

// Words says in a few words what the value is, with its facets.
func (s *Schema) Words() string { return s.words(0) }

func (s *Schema) words(depth int) string {
	h := shapeOf(s.compiled)
	if allowed := h.allowed(); allowed != nil {
		if len(allowed) == 1 {
			return "always " + bare(allowed[0])
		}
		left := slices.DeleteFunc(slices.Clone(allowed), func(v *document.Node) bool { return v.Kind == document.Null })
		return "one of " + listed(left)
	}
	types := slices.DeleteFunc(slices.Clone(h.types()), func(t string) bool { return t == "null" })
	if len(types) == 1 && types[0] == "array" {
		words := "a list"
		if items := s.items(); items != nil && depth < 4 {
			if inner := items.words(depth + 1); inner != "" {
				words += " of " + inner
			} else {
				words += " of objects"
			}
		}
		return joinWords(append([]string{words}, countWords(h.all)...))
	}
	if types == nil && len(h.alternatives) > 0 {
		var words []string
		for _, one := range h.alternatives[0] {
			word := ""
			if depth < 4 && resolved(one) != resolved(s.compiled) { // it may be an alternative of itself
				word = (&Schema{set: s.set, compiled: one}).words(depth + 1)
			}
			if word == "" {
				word = s.nameOf(one)
			}
			if inner := (&Schema{set: s.set, compiled: one}); word == "" &&
				(len(inner.properties()) > 0 || slices.Equal(shapeOf(one).types(), []string{"object"})) {
				word = "an object"
			}
			words = append(words, cmp.Or(word, "anything"))
		}
		return strings.Join(unique(words), " or ")
	}
	if len(types) == 1 && types[0] == "object" || types == nil && len(s.properties()) > 0 {
		return ""
	}
	words := []string{inWords(types)}
	for _, one := range h.all {
		words = append(words, s.facets(one)...)
	}
	return joinWords(words)
}

func joinWords(words []string) string {
	return strings.Join(slices.DeleteFunc(unique(words), func(w string) bool { return w == "" }), ", ")
}

// nameOf is what a schema is called, where something refers to it.
func (s *Schema) nameOf(one *keywords) string {
	one = resolved(one)
	if one.title != "" {
		return one.title
	}
	pointer := one.at.Pointer
	name := unescapePointer(pointer[strings.LastIndexByte(pointer, '/')+1:])
	if _, err := strconv.Atoi(name); err == nil {
		return "" // a place in a list
	}
	return name
}

func (s *Schema) facets(one *keywords) []string {
	var words []string
	say := func(format string, args ...any) { words = append(words, fmt.Sprintf(format, args...)) }
	if format := one.at.Node.Get("format"); format != nil {
		words = append(words, format.Text)
	}
	switch {
	case one.minimum != nil && one.maximum != nil:
		say("%s to %s", one.minimum, one.maximum)
	case one.minimum != nil:
		say("%s or more", one.minimum)
	case one.maximum != nil:
		say("at most %s", one.maximum)
	}
	if one.over != nil {
		say("over %s", one.over)
	}
	if one.under != nil {
		say("under %s", one.under)
	}
	if one.multipleOf != nil {
		say("a multiple of %s", one.multipleOf)
	}
	switch {
	case one.minLength != nil && one.maxLength != nil && *one.minLength == *one.maxLength:
		say("exactly %d characters", *one.minLength)
	case one.minLength != nil && one.maxLength != nil:
		say("%d to %d characters", *one.minLength, *one.maxLength)
	case one.minLength != nil:
		say("%d characters or more", *one.minLength)
	case one.maxLength != nil:
		say("at most %d characters", *one.maxLength)
	}
	if one.pattern != nil {
		say("matches %s", one.pattern)
	}
	return words
}

func countWords(all []*keywords) []string {
	var words []string
	for _, one := range all {
		switch {
		case one.minItems != nil && one.maxItems != nil:
			words = append(words, fmt.Sprintf("%d to %d items", *one.minItems, *one.maxItems))
		case one.minItems != nil && *one.minItems > 0:
			words = append(words, fmt.Sprintf("%d or more items", *one.minItems))
		case one.maxItems != nil:
			words = append(words, fmt.Sprintf("at most %d items", *one.maxItems))
		}
		if one.uniqueItems {
			words = append(words, "no item twice")
		}
	}
	return words
}

// about is what the schema says of itself for people.
func (s *Schema) about() string {
	for _, one := range shapeOf(s.compiled).all {
		if one.description != "" {
			return strings.Join(strings.Fields(one.description), " ")
		}
	}
	return ""
}

func (s *Schema) isDeprecated() bool {
	return slices.ContainsFunc(shapeOf(s.compiled).all, func(one *keywords) bool { return one.deprecated })
}

func (s *Schema) defaultValue() *document.Node {
	for _, one := range shapeOf(s.compiled).all {
		if one.byDefault != nil {
			return one.byDefault
		}
	}
	return nil
}

// Outline lists the fields, in the order of the schema, down to a depth (0: all).
func (s *Schema) Outline(depth int) []schema.Row {
	o := &outliner{most: depth}
	o.inside(s, 0, "")
	return o.rows
}

type outliner struct {
	most int
	open []*keywords
	rows []schema.Row
}

func (o *outliner) inside(s *Schema, depth int, path string) {
	if o.most > 0 && depth >= o.most || len(o.rows) > mostRows || depth > 40 {
		return
	}
	o.open = append(o.open, resolved(s.compiled))
	defer func() { o.open = o.open[:len(o.open)-1] }()
	for _, p := range s.properties() {
		if p.readOnly && s.set.direction == Request || p.writeOnly && s.set.direction == Answer {
			continue // it does not go this way
		}
		h := shapeOf(p.schema.compiled)
		row := schema.Row{
			Depth: depth, Path: schema.Below(path, p.name), Name: p.name, Type: p.schema.Words(), Required: p.required,
			Nillable: h.isNullable(p.schema.compiled), About: p.schema.about(), Only: schema.OnlyOf(p.schema),
		}
		if !p.required {
			row.Occurs = "may be left out"
		}
		if p.maybe {
			row.Occurs = "in some of the alternatives"
		}
		if v := p.schema.defaultValue(); v != nil {
			row.Default = bare(v)
		}
		var words []string
		if p.readOnly {
			words = append(words, "read-only")
		}
		if p.writeOnly {
			words = append(words, "write-only")
		}
		if p.schema.isDeprecated() {
			words = append(words, "deprecated")
		}
		row.Type = joinWords(append([]string{row.Type}, words...))
		inner, innerPath := p.schema, row.Path
		for range 4 {
			items := inner.items()
			if items == nil {
				break
			}
			inner, innerPath = items, innerPath+"[0]"
		}
		row.Again = slices.Contains(o.open, resolved(inner.compiled)) && len(inner.properties()) > 0
		o.rows = append(o.rows, row)
		if !row.Again {
			o.inside(inner, depth+1, innerPath)
		}
	}
	items := s.items()
	if items != nil && len(s.properties()) == 0 && !slices.Contains(o.open, resolved(items.compiled)) {
		o.inside(items, depth, path+"[0]")
	}
}

// DefaultText is what is meant where the value is left out, "" where nothing is
// said of it.
func (s *Schema) DefaultText() string {
	if v := s.defaultValue(); v != nil {
		return bare(v)
	}
	return ""
}
