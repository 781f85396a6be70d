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

// Check holds a value against the schema.
func (s *Schema) Check(v *document.Node) []schema.Fault {
	faults := s.judge(v)
	if s.set.dialect != Alone {
		s.beyond(v, "", &faults, 0)
	}
	return faults
}

// judge asks first whether the value is valid, which most are, and tells only then what is wrong.
func (s *Schema) judge(v *document.Node) []schema.Fault {
	j := &judged{validator: &validator{set: s.set, root: v}, value: v.Value()}
	valid := j.holds(s.compiled)
	if valid && j.stuck == nil && j.broken == nil {
		return nil
	}
	if j.stuck == nil {
		var told []fault
		j.validator, j.told = &validator{set: s.set, root: v}, &told
		j.holds(s.compiled)
		if len(told) > 0 {
			faults := make([]schema.Fault, len(told))
			for i := range told {
				faults[i] = told[i].Fault
			}
			return inOrder(v, faults)
		}
	}
	return []schema.Fault{{
		Line: int(v.Line), Column: int(v.Column), Message: "cannot be judged: " + cmp.Or(j.stuck, j.broken).Error(),
	}}
}

// inOrder sorts faults by where they are.
func inOrder(root *document.Node, faults []schema.Fault) []schema.Fault {
	if len(faults) < 2 || root == nil {
		return faults
	}
	places := map[string]int{}
	var walk func(n *document.Node, path string)
	walk = func(n *document.Node, path string) {
		places[path] = len(places)
		for _, m := range n.Members() {
			walk(m.Value, memberPath(path, m.Key))
		}
		for i, item := range n.Items() {
			walk(item, path+"["+strconv.Itoa(i)+"]")
		}
	}
	walk(root, "")
	place := func(path string) int {
		for {
			if at, ok := places[path]; ok || path == "" {
				return at
			}
			path = path[:max(0, strings.LastIndexAny(path, ".["))] // to what holds it
		}
	}
	slices.SortStableFunc(faults, func(a, b schema.Fault) int { return place(a.Path) - place(b.Path) })
	return faults
}

// beyond finds what OpenAPI has rules for and JSON Schema has not: what is
// write-only and is in an answer (3.0.3, 4.7.24.1: it should not be sent), and
// a value that is not what its discriminator says (4.7.25).
func (s *Schema) beyond(v *document.Node, path string, faults *[]schema.Fault, depth int) {
	if depth > document.MaxDepth {
		return
	}
	switch v.Kind {
	case document.List:
		if items := s.items(); items != nil {
			for i, item := range v.Items() {
				items.beyond(item, path+"["+strconv.Itoa(i)+"]", faults, depth+1)
			}
		}
	case document.Object:
		s.pretended(v, path, faults)
		for _, p := range s.properties() {
			member := v.Get(p.name)
			below := schema.Below(path, p.name)
			switch {
			case member == nil:
			case p.writeOnly && s.set.direction == Answer:
				*faults = append(*faults,
					schema.Fault{Path: below, Message: below + " is write-only, and is in the answer"})
			case len(member.Members()) > 0 || len(member.Items()) > 0:
				p.schema.beyond(member, below, faults, depth+1)
			}
		}
	}
}

// pretended holds an object against the alternative that it says it is, and before 3.1 against the schema that
// inherits from the one at hand (2.0, Schema Object, discriminator; 3.0.3, 4.7.25).
func (s *Schema) pretended(v *document.Node, path string, faults *[]schema.Fault) {
	for _, one := range shapeOf(s.compiled).all {
		group, source := slices.Concat(one.oneOf, one.anyOf), one.at
		discriminator := source.Node.Get("discriminator")
		if discriminator == nil || len(*faults) > 0 {
			continue
		}
		if len(group) == 0 {
			if heir := s.heir(source, discriminator, v); heir != nil {
				*faults = append(*faults, heir.checkBelow(v, path)...)
			}
			continue
		}
		index, problem := meant(source, v)
		if problem != "" {
			*faults = append(*faults, schema.Fault{Path: path, Message: strings.TrimSpace(path + " " + problem)})
			continue
		}
		if index >= 0 && index < len(group) {
			*faults = append(*faults, (&Schema{set: s.set, compiled: group[index]}).checkBelow(v, path)...)
		}
	}
}

// checkBelow holds a value against the schema, and tells what is wrong by the path at which the value is.
func (s *Schema) checkBelow(v *document.Node, path string) []schema.Fault {
	faults := s.Check(v)
	for i := range faults {
		f := &faults[i]
		message := strings.TrimPrefix(f.Message, f.Path+" ")
		f.Path = strings.TrimSuffix(schema.Below(path, f.Path), ".")
		f.Message = strings.TrimSpace(f.Path + " " + message)
	}
	return faults
}

// heir is the schema that a value says it is, by a discriminator beside no alternatives; nil where that is the one at
// hand, or none that the description has.
func (s *Schema) heir(source Location, discriminator, v *document.Node) *Schema {
	name, where := discriminator.Get("propertyName"), "#/components/schemas/"
	switch s.set.dialect {
	case OpenAPI20:
		name, where = discriminator, "#/definitions/"
	case OpenAPI30:
	default:
		return nil // in 3.1 it does not change what is valid
	}
	if name == nil || v.Get(name.Text) == nil {
		return nil
	}
	word := v.Get(name.Text).Value().Text
	reference := where + word
	if mapped := discriminator.Get("mapping").Get(word); mapped != nil {
		if reference = mapped.Text; !strings.ContainsAny(reference, "#/.") {
			reference = where + reference
		}
	}
	place, err := s.set.docs.Resolve(source.Location, "", reference)
	if err != nil || place.String() == source.String() || place.String() == s.source.String() {
		return nil
	}
	heir, err := s.set.Open(place)
	if err != nil {
		return nil
	}
	return heir
}

// memberPath is the path of a member: its name in quotes where paths mean something else by it.
func memberPath(path, name string) string {
	if strings.ContainsAny(name, ". []\"|=") || name == "" {
		return path + "[" + strconv.Quote(name) + "]"
	}
	return schema.Below(path, name)
}

// nearest tells of alternatives that none fit what is wrong with the one that was
// most likely meant: the one that the discriminator names, else the one that
// goes wrong deepest or least.
func (j *judged) nearest(s *keywords, wrong [][]fault) []fault {
	if s.at.Node.Get("discriminator") != nil {
		switch index, problem := meant(s.at, j.value); {
		case problem != "":
			return j.only("%s", problem)
		case index >= 0 && index < len(wrong):
			return wrong[index]
		}
	}
	best, bestScore := 0, -1
	var types []string
	for i, told := range wrong {
		score := max(1_000-len(told), 0)
		if missed := j.typesMissed(told); missed == nil {
			score += 10_000
		} else {
			types = append(types, missed...)
		}
		if score > bestScore {
			best, bestScore = i, score
		}
	}
	if len(wrong) == 1 {
		return wrong[0]
	}
	if bestScore < 10_000 { // each goes wrong at its type
		faults := j.only("must be %s, and is %s", kindsInWords(unique(types)), j.value.Describe())
		faults[0].types = unique(types)
		return faults
	}
	for i := range wrong[best] {
		f := &wrong[best][i]
		if strings.HasSuffix(f.Message, " alternatives)") {
			continue // said already of what is within
		}
		f.Message += fmt.Sprintf(" (the nearest of %d alternatives)", len(wrong))
	}
	return wrong[best]
}

// only is one thing that is wrong with the value.
func (j *judged) only(format string, args ...any) []fault {
	var told []fault
	inner := *j
	inner.told = &told
	inner.tell(format, args...)
	return told
}

// typesMissed are the types that the value would have to be; nil where its type is not what is wrong.
func (j *judged) typesMissed(told []fault) []string {
	var types []string
	for _, f := range told {
		if f.of == j.value {
			types = append(types, f.types...)
		}
	}
	return types
}

// meant is the index of the alternative that a value says it is, -1 where that
// cannot be told; problem is set where it says none of them.
func meant(source Location, v *document.Node) (index int, problem string) {
	discriminator := source.Node.Get("discriminator")
	property := discriminator.Get("propertyName")
	if property == nil || v == nil {
		return -1, ""
	}
	word := v.Get(property.Text)
	if word == nil {
		return -1, "must say by " + property.Text + " what it is"
	}
	key := "oneOf"
	if source.Node.Get(key) == nil {
		key = "anyOf"
	}
	var names []string
	for i, alternative := range source.Below(key).Node.Items() {
		ref := alternative.Get("$ref")
		if ref == nil {
			continue
		}
		name := ref.Text[strings.LastIndexByte(ref.Text, '/')+1:]
		own := []string{name}
		if mapping := discriminator.Get("mapping"); mapping != nil {
			for _, m := range mapping.Members() {
				if m.Value.Text == ref.Text || m.Value.Text == name {
					own = append([]string{m.Key}, own...)
				}
			}
		}
		names = append(names, own[0])
		if slices.Contains(own, word.Text) {
			return i, ""
		}
	}
	return -1, fmt.Sprintf("says by %s that it is %s, and may be: %s", property.Text, word.Describe(),
		strings.Join(names, ", "))
}

func unique(words []string) []string {
	var out []string
	for _, w := range words {
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

var typeWords = map[string]string{
	"string": "text", "array": "a list", "object": "an object", "null": "null",
	"integer": "integer", "number": "number", "boolean": "true or false",
}

// inWords are types as an outline shows them.
func inWords(types []string) string {
	words := make([]string, len(types))
	for i, name := range types {
		words[i] = typeWords[name]
		if words[i] == "" {
			words[i] = name
		}
	}
	return strings.Join(words, " or ")
}

// kindsInWords are types as messages ask for them.
func kindsInWords(types []string) string {
	return strings.NewReplacer("integer", "an integer", "number", "a number").Replace(inWords(types))
}

// formatWords are those of a format, for messages.
func formatWords(name string) string {
	switch name {
	case "date-time":
		return "date-time (2026-11-23T08:00:00Z)"
	case "date":
		return "date (2026-11-23)"
	case "time":
		return "time (08:00:00Z)"
	}
	return name
}

func listed(values []*document.Node) string {
	const most = 12
	words := []string{}
	for i, v := range values {
		if i == most {
			words = append(words, fmt.Sprintf("and %d more", len(values)-most))
			break
		}
		words = append(words, bare(v))
	}
	return strings.Join(words, ", ")
}

// bare writes a value as it is written in a list of words.
func bare(n *document.Node) string {
	if kindOf(n) == "string" && n.Text != "" && !strings.ContainsAny(n.Text, ", ") {
		return n.Text
	}
	return shown(n)
}

// shown writes a value as messages show it.
func shown(n *document.Node) string {
	if n = n.Value(); n.IsScalar() {
		return n.Describe()
	}
	return document.WriteJSON(n, document.Style{})
}
