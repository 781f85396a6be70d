package xsd

import (
	"fmt"
	"strings"

	"testbench/internal/xmlstream"
	"testbench/internal/xsd/datatype"
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

func compileFieldPaths(text string, field bool, names datatype.Namespaces) ([]fieldPath, error) {
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

func compileFieldPath(text string, field bool, names datatype.Namespaces) (fieldPath, error) {
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
			return p, fmt.Errorf("an attribute is allowed only at the end of a field")
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

func newPathStep(name string, names datatype.Namespaces, attribute bool) (pathStep, error) {
	prefix, local, qualified := strings.Cut(name, ":")
	switch {
	case name == "*":
		return pathStep{anySpace: true}, nil
	case !qualified && xmlstream.IsNCName(name):
		return pathStep{local: name}, nil // without a prefix is without a namespace
	case !qualified || !xmlstream.IsNCName(prefix) || local != "*" && !xmlstream.IsNCName(local):
		return pathStep{}, fmt.Errorf("%q is not a step that a key can use: names, *, . and @ are", name)
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
	table      map[string]bool // of keys
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

// Keys.

// beginKeys opens the scopes of the constraints that the element declares.
func (v *Validator) beginKeys(decl *Element, attrs attributesOf) {
	f := &v.frames[len(v.frames)-1]
	for _, c := range decl.Constraints {
		k := &keyScope{constraint: c, depth: len(v.names), table: map[string]bool{}}
		f.keys = append(f.keys, k)
		v.scopes = append(v.scopes, k)
		v.selectIn(k, attrs)
	}
}

// findTargets looks whether the element just opened is a target of a selector, or a field
// of a target.
func (v *Validator) findTargets(attrs attributesOf) {
	for _, k := range v.scopes {
		v.selectIn(k, attrs)
	}
}

func (v *Validator) selectIn(k *keyScope, attrs attributesOf) {
	depth := len(v.names)
	for i := range k.constraint.selector {
		if k.constraint.selector[i].leadsTo(v.names[k.depth:]) {
			k.targets = append(k.targets,
				&keyTarget{depth: depth, fields: make([]keyField, len(k.constraint.fields)), at: v.where()})
			break
		}
	}
	for _, target := range k.targets {
		for i, alternatives := range k.constraint.fields {
			for j := range alternatives {
				path := &alternatives[j]
				if path.attribute != nil && path.leadsTo(v.names[target.depth:]) {
					v.attributeField(k, target, i, path, attrs)
				}
			}
		}
	}
}

func (v *Validator) attributeField(k *keyScope, target *keyTarget, i int, path *fieldPath, attrs attributesOf) {
	t, _ := v.frames[len(v.frames)-1].typ.(*ComplexType)
	seen := false
	for n := range attrs.len() {
		name, text, declares := attrs.at(n)
		if declares || name.Space == InstanceNamespace || !path.attribute.matches(name) {
			continue
		}
		seen = true
		a := v.schema.Attributes[name]
		if t != nil && t.uses[name] != nil {
			a = t.uses[name].Attribute
		}
		typ := builtins["string"]
		if a != nil {
			typ = a.Type
		}
		if value, err := typ.Parse(text, v.lookup); err == nil {
			v.setField(k, target, i, value, text)
		}
	}
	if seen || t == nil {
		return
	}
	for _, use := range t.Attributes {
		byDefault := use.Default
		if use.Fixed != nil {
			byDefault = use.Fixed
		}
		if byDefault != nil && path.attribute.matches(use.Name) {
			if value, err := use.Type.Parse(*byDefault, nil); err == nil {
				v.setField(k, target, i, value, *byDefault)
			}
		}
	}
}

func (v *Validator) setField(k *keyScope, target *keyTarget, i int, value datatype.Value, text string) {
	if target.fields[i].found {
		v.fault("the field %s of %s %s is there more than once", k.constraint.fieldTexts[i], k.constraint.Kind,
			k.constraint.Name)
		return
	}
	target.fields[i] = keyField{found: true, key: value.Identity(), text: strings.TrimSpace(text)}
}

// endKeys takes the element's value for fields, and ends targets and scopes.
func (v *Validator) endKeys(f *frame, value datatype.Value, text string, hasValue bool) {
	depth := len(v.names)
	for _, k := range v.scopes {
		for _, target := range k.targets {
			for i, alternatives := range k.constraint.fields {
				for j := range alternatives {
					path := &alternatives[j]
					if path.attribute != nil || !path.leadsTo(v.names[target.depth:]) {
						continue
					}
					switch {
					case hasValue:
						v.setField(k, target, i, value, text)
					case f.isNil && k.constraint.Kind == "key":
						v.fault("the field %s of key %s cannot be nil", k.constraint.fieldTexts[i], k.constraint.Name)
						target.fields[i].found = true
					case f.mode == validated && f.simple == nil && !f.isNil:
						v.fault("the field %s of %s %s is not a simple value", k.constraint.fieldTexts[i],
							k.constraint.Kind, k.constraint.Name)
					}
				}
			}
		}
		// Targets are opened from the outside in, so those that end are the last.
		for n := len(k.targets); n > 0 && k.targets[n-1].depth == depth; n = len(k.targets) {
			v.endTarget(k, k.targets[n-1])
			k.targets = k.targets[:n-1]
		}
	}
	if len(f.keys) == 0 && f.tables == nil {
		return
	}
	v.endScopes(f)
}

func (v *Validator) endTarget(k *keyScope, target *keyTarget) {
	keys := make([]string, len(target.fields))
	for i, field := range target.fields {
		if !field.found {
			if k.constraint.Kind == "key" {
				v.faultAt(target.at, v.path(), "the field %s of key %s is missing", k.constraint.fieldTexts[i],
					k.constraint.Name)
			}
			return
		}
		keys[i] = field.key
	}
	key := strings.Join(keys, "\x01")
	if k.constraint.Kind == "keyref" {
		for _, other := range v.scopes { // most refer to what was before
			if other.constraint == k.constraint.refer && other.depth == k.depth && other.table[key] {
				return
			}
		}
		k.refs = append(k.refs, keyRef{key: key, words: target.words() + "\x00" + v.path(), at: target.at})
		return
	}
	if k.table[key] {
		v.faultAt(target.at, v.path(), "%s is there before, and must be one of a kind (%s %s)", target.words(),
			k.constraint.Kind, k.constraint.Name)
		return
	}
	k.table[key] = true
}

// endScopes resolves the references of an element and hands its keys on outward.
func (v *Validator) endScopes(f *frame) {
	for _, k := range f.keys {
		if k.constraint.Kind != "keyref" {
			if f.tables == nil {
				f.tables = map[*Constraint]map[string]bool{}
			}
			if f.tables[k.constraint] == nil {
				f.tables[k.constraint] = k.table
			} else {
				for key := range k.table {
					f.tables[k.constraint][key] = true
				}
			}
		}
	}
	for _, k := range f.keys {
		if k.constraint.Kind != "keyref" || k.constraint.refer == nil {
			continue
		}
		for _, ref := range k.refs {
			if !f.tables[k.constraint.refer][ref.key] {
				words, path, _ := strings.Cut(ref.words, "\x00")
				v.faultAt(ref.at, path, "%s is not a value of the key %s (keyref %s)", words, k.constraint.refer.Name,
					k.constraint.Name)
			}
		}
	}
	v.scopes = v.scopes[:len(v.scopes)-len(f.keys)]
	if len(v.frames) < 2 {
		return
	}
	parent := &v.frames[len(v.frames)-2]
	for c, table := range f.tables {
		if !v.schema.referred[c] {
			continue
		}
		if parent.tables == nil {
			parent.tables = map[*Constraint]map[string]bool{}
		}
		if parent.tables[c] == nil {
			parent.tables[c] = table
			continue
		}
		for key := range table {
			parent.tables[c][key] = true
		}
	}
}
