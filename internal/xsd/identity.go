package xsd

import (
	"fmt"
	"strings"

	"testbench/internal/nearest"
)

// Constraint is a key, unique or keyref (Part 1, 3.11).
type Constraint struct {
	Name Name
	Kind string // "key", "unique", "keyref"

	selector   []fieldPath
	fields     [][]fieldPath
	fieldTexts []string
	refer      *Constraint
}

// fieldPath is one alternative of a selector or field: the subset of XPath that
// Part 1, 3.11.6 allows.
type fieldPath struct {
	anywhere  bool // begins with .//
	steps     []pathStep
	attribute *pathStep
}

type pathStep struct {
	space    string
	local    string // "" for any
	anySpace bool
}

func (s pathStep) matches(name Name) bool {
	return (s.anySpace || s.space == name.Space) && (s.local == "" || s.local == name.Local)
}

func compileFieldPaths(text string, field bool, names scope) ([]fieldPath, error) {
	var paths []fieldPath
	for _, alternative := range strings.Split(text, "|") {
		path, err := compileFieldPath(strings.Join(strings.Fields(alternative), ""), field, names)
		if err != nil {
			return nil, fmt.Errorf("%q: %w", text, err)
		}
		paths = append(paths, path)
	}
	return paths, nil
}

func compileFieldPath(text string, field bool, names scope) (fieldPath, error) {
	p := fieldPath{}
	if rest, ok := strings.CutPrefix(text, ".//"); ok {
		p.anywhere, text = true, rest
	}
	parts := strings.Split(text, "/")
	for i, part := range parts {
		name, attribute := strings.CutPrefix(part, "@")
		if rest, ok := strings.CutPrefix(part, "attribute::"); ok {
			name, attribute = rest, true
		}
		name = strings.TrimPrefix(name, "child::")
		if name == "." && !attribute {
			continue
		}
		if attribute && (!field || i != len(parts)-1) {
			return p, fmt.Errorf("an attribute can stand only at the end of a field")
		}
		step, err := newPathStep(name, names, attribute)
		if err != nil {
			return p, err
		}
		if attribute {
			p.attribute = &step
		} else {
			p.steps = append(p.steps, step)
		}
	}
	return p, nil
}

func newPathStep(name string, names scope, attribute bool) (pathStep, error) {
	prefix, local, qualified := strings.Cut(name, ":")
	switch {
	case name == "*":
		return pathStep{anySpace: true}, nil
	case !qualified && isNCName(name):
		return pathStep{local: name}, nil // without a prefix is without a namespace
	case !qualified || !isNCName(prefix) || local != "*" && !isNCName(local):
		return pathStep{}, fmt.Errorf("%q is no step that a key can use: names, *, . and @ are", name)
	}
	space, known := names.Lookup(prefix)
	if !known {
		return pathStep{}, fmt.Errorf("the prefix %s is not declared there", prefix)
	}
	if local == "*" {
		local = ""
	}
	return pathStep{space: space, local: local}, nil
}

// leadsTo says whether the path leads to the element whose names below the
// starting point are given.
func (p *fieldPath) leadsTo(below []Name) bool {
	if len(below) < len(p.steps) || len(below) > len(p.steps) && !p.anywhere {
		return false
	}
	tail := below[len(below)-len(p.steps):]
	for i, step := range p.steps {
		if !step.matches(tail[i]) {
			return false
		}
	}
	return true
}

// keyScope is a constraint at work inside the element that declares it.
type keyScope struct {
	constraint *Constraint
	depth      int
	targets    []*keyTarget
	table      map[string]string // key to its words
	refs       []keyRef
}

// keyTarget is an element that a selector found, with its fields so far.
type keyTarget struct {
	depth  int
	fields []keyField
	at     place
}

type keyField struct {
	found bool
	key   string
	text  string
}

type keyRef struct {
	key, words string
	at         place
}

func (t *keyTarget) words() string {
	texts := make([]string, len(t.fields))
	for i, f := range t.fields {
		texts[i] = f.text
	}
	return strings.Join(texts, ", ")
}

func nearestTry(name string, known []string) string { return nearest.Try(name, known) }
