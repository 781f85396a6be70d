package mapping

import (
	"os"

	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// asked notes what readers ask of values. The schemas of the files are made of it: each key is
// read once for every kind of value, and its schema is what its reader took.
type asked struct {
	forms   map[*yamlfile.Node][]form
	refused map[*yamlfile.Node]bool     // those that are of a kind that is not read there
	needs   map[*yamlfile.Node][]string // keys that a mapping must have
}

// form is what a value may be. A special one counts before the others that were asked of the
// same value: a text that is one of some words is no longer any text.
type form struct {
	special bool
	schema  func() *document.Node // nil for a mapping or list of what its values are asked for
}

// takes notes that a value of a kind is read in a form.
func (r *Reader) takes(n *yamlfile.Node, kind yamlfile.Kind, special bool, schema func() *document.Node) {
	if r.asked != nil && n.Kind == kind {
		r.asked.forms[n] = append(r.asked.forms[n], form{special, schema})
	}
}

// TakesOf notes that a single value is one of a special form.
func (r *Reader) TakesOf(n *yamlfile.Node, schema func() *document.Node) {
	r.takes(n, yamlfile.Scalar, true, schema)
}

// takesNot notes that a value that was read cannot be of its kind after all.
func (r *Reader) takesNot(n *yamlfile.Node) {
	if r.asked != nil {
		r.asked.refused[n] = true
	}
}

// Needs notes the keys that a mapping must have; that one is missing is told by who reads it.
func (r *Reader) Needs(n *yamlfile.Node, keys ...string) {
	if r.asked != nil && n.Kind == yamlfile.Mapping {
		r.asked.needs[n] = append(r.asked.needs[n], keys...)
	}
}

// TextList is a list of texts, as `enum` and `required` have it.
func TextList(all []string) *document.Node {
	list := document.NewList()
	for _, text := range all {
		list.AppendItems(document.NewText(text))
	}
	return list
}

// keyedRuleSchema is a rule as a mapping of one key.
func keyedRuleSchema() *document.Node {
	return document.NewObject().Set("type", document.NewText("object")).
		Set("minProperties", document.NewNumber("1")).Set("maxProperties", document.NewNumber("1")).
		Set("propertyNames", EnumSchema(ruleKeys...))
}

// Schemas of single values, as YAML's core schema reads them: 5 is a number, and 1.0 is another
// way to write 1.

func anySchema() *document.Node { return document.NewObject() }

const (
	wholePattern  = `^[0-9]+$`
	statusPattern = `^\s*(not )?\s*[1-5]([0-9]{2}|[xX]{2})(\s+or\s+[1-5]([0-9]{2}|[xX]{2}))*\s*$`
)

func typeSchema(names ...string) *document.Node {
	return document.NewObject().Set("type", TextList(names))
}

func scalarSchema() *document.Node { return typeSchema("string", "number", "boolean") }

// ruleSchema is a rule in words, or a value that is to be equal.
func ruleSchema() *document.Node { return typeSchema("string", "number", "boolean", "null") }

// PatternSchema is a text of a pattern (ECMA-262).
func PatternSchema(pattern string) *document.Node {
	return typeSchema("string").Set("pattern", document.NewText(pattern))
}

func placeholderSchema() *document.Node { return PatternSchema(`\$\{`) }

func durationSchema() *document.Node { return PatternSchema(`^\s*([0-9][0-9.]*\s*[a-z]+|P.+)\s*$`) }

// ConditionSchema is a condition on an answer, beside other texts.
func ConditionSchema() *document.Node { return PatternSchema(`answer|reply`) }

func nameSchema() *document.Node { return PatternSchema(`^[A-Za-z_][A-Za-z0-9_]*$`) }

func wholeSchema() *document.Node {
	return anyOf([]*document.Node{wholeNumber(), PatternSchema(wholePattern)})
}

func wholeNumber() *document.Node {
	return document.NewObject().Set("type", document.NewText("integer")).Set("minimum", document.NewNumber("1"))
}

func statusCode() *document.Node {
	return document.NewObject().Set("type", document.NewText("integer")).
		Set("minimum", document.NewNumber("100")).Set("maximum", document.NewNumber("599"))
}

func statusSchema() *document.Node {
	return anyOf([]*document.Node{statusCode(), PatternSchema(statusPattern)})
}

// FormInWords names a form that has a pattern or a range; "" for any other.
func FormInWords(n *document.Node) string {
	bare := document.NewObject()
	for _, m := range n.Members() {
		if m.Key != "description" {
			bare.AppendMembers(m)
		}
	}
	text := document.WriteJSON(bare, document.Style{})
	for _, one := range []struct {
		schema *document.Node
		words  string
	}{
		{placeholderSchema(), "a placeholder"},
		{durationSchema(), "a time: 5 s"},
		{ConditionSchema(), "a condition"},
		{nameSchema(), "a name"},
		{wholeNumber(), "a whole number"},
		{PatternSchema(wholePattern), "a whole number"},
		{PatternSchema(statusPattern), "a status"},
		{keyedRuleSchema(), "a mapping"},
		{ruleSchema(), "a rule"},
		{statusCode(), "a status"},
	} {
		if document.WriteJSON(one.schema, document.Style{}) == text {
			return one.words
		}
	}
	return ""
}

// EnumSchema is one of the words, as text or as what YAML makes of it.
func EnumSchema(words ...string) *document.Node {
	list := document.NewList()
	for _, w := range words {
		list.AppendItems(document.NewText(w))
		switch {
		case w == "true" || w == "false":
			list.AppendItems(document.NewBoolean(w == "true"))
		case document.IsNumber(w):
			list.AppendItems(document.NewNumber(w))
		}
	}
	return document.NewObject().Set("enum", list)
}

// anyOf is one of several forms, each once.
func anyOf(forms []*document.Node) *document.Node {
	var all []*document.Node
	seen := map[string]bool{}
	for _, one := range forms {
		text := document.WriteJSON(one, document.Style{})
		if text == "{}" {
			return one
		}
		if !seen[text] {
			seen[text] = true
			all = append(all, one)
		}
	}
	switch len(all) {
	case 0:
		return anySchema()
	case 1:
		return all[0]
	}
	return document.NewObject().Set("anyOf", document.NewList(all...))
}

// formOf is what a key may hold: its reader is given a single value, a list and a mapping, each
// with values of every kind in it.
func formOf[T any](key Key[T]) *document.Node {
	kinds := []yamlfile.Kind{yamlfile.Scalar, yamlfile.Sequence, yamlfile.Mapping}
	var forms []*document.Node
	for _, outer := range kinds {
		var inside []*document.Node // what is taken in a list or a mapping
		var names *document.Node    // what the keys of a mapping are
		isTaken, isWhole := false, false
		for _, inner := range kinds {
			below, name := &yamlfile.Node{Kind: inner, Text: "x"}, &yamlfile.Node{Text: "x"}
			n := &yamlfile.Node{Kind: outer, Text: "x"}
			switch outer {
			case yamlfile.Sequence:
				n.Items = []*yamlfile.Node{below}
			case yamlfile.Mapping:
				n.Entries = []yamlfile.Entry{{Key: name, Value: below}}
			}
			a := ask(func(r *Reader) { key.Read(r, new(T), n) })
			if whole := a.of(n); whole != nil {
				forms = append(forms, whole)
				isWhole = true
				break // what is in it does not matter
			}
			isTaken = isTaken || a.isTaken(n)
			names = a.of(name)
			switch part := a.of(below); {
			case !a.isTaken(n):
			case part != nil:
				inside = append(inside, part)
			case a.isTaken(below):
				inside = append(inside, typeSchema(map[yamlfile.Kind]string{
					yamlfile.Sequence: "array", yamlfile.Mapping: "object",
				}[inner]))
			}
		}
		switch {
		case isWhole || !isTaken:
		case outer == yamlfile.Sequence:
			forms = append(forms, ListSchema(anyOf(inside)))
		case outer == yamlfile.Mapping:
			mapping := MapSchema(anyOf(inside))
			if names != nil {
				mapping.Set("propertyNames", names)
			}
			forms = append(forms, mapping)
		}
	}
	return anyOf(forms)
}

// ask runs a reader for what it asks alone: what it finds wrong is not told, and that it misses what
// is around it, in a file, does not matter.
func ask(read func(*Reader)) (a *asked) {
	a = &asked{
		forms: map[*yamlfile.Node][]form{}, refused: map[*yamlfile.Node]bool{},
		needs: map[*yamlfile.Node][]string{},
	}
	defer func() { _ = recover() }()
	// No file is in such a folder: what a key names is not read.
	read(&Reader{File: &yamlfile.File{}, Dir: os.DevNull, Uses: new([]Use), asked: a})
	return a
}

// isTaken says whether a value was read as one of its kind.
func (a *asked) isTaken(n *yamlfile.Node) bool { return len(a.forms[n]) > 0 && !a.refused[n] }

// of is the schema of a value that was taken, nil where it was not, or as a list or a mapping of
// other values.
func (a *asked) of(n *yamlfile.Node) *document.Node {
	if a.refused[n] {
		return nil
	}
	var special, plain []*document.Node
	isOthers := false
	for _, f := range a.forms[n] {
		switch {
		case f.schema == nil:
			isOthers = true
		case f.special:
			special = append(special, f.schema())
		default:
			plain = append(plain, f.schema())
		}
	}
	switch {
	case len(special) > 0 && len(a.needs[n]) > 0:
		return anyOf(special).Set("required", TextList(a.needs[n]))
	case len(special) > 0:
		return anyOf(special)
	case len(plain) > 0 && !isOthers:
		return anyOf(plain)
	}
	return nil
}

// NeedsOf are the keys that a mapping must have, by what a reader of it says.
func NeedsOf(n *yamlfile.Node, read func(*Reader)) []string { return ask(read).needs[n] }
