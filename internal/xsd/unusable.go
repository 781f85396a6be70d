package xsd

import (
	"strings"
)

// What is wrong in a schema costs, where a loader is tolerant, only the components that it is in and those that refer
// to them.

// kinds of references, by the attribute that holds them; ref goes by the element that it stands at.
var referenceKinds = map[string]string{
	"type": "type", "base": "type", "itemType": "type", "memberTypes": "type", "arrayType": "type",
	"substitutionGroup": "element",
}

// setAside takes out of the schema what is wrong and all that refers to it. Problems that are in no component become
// warnings.
func (b *builder) setAside() {
	unusable := map[global]Problem{}
	for _, p := range b.loader.problems {
		if g, inOne := b.holder(p); !inOne {
			b.loader.warnings = appendWarning(b.loader.warnings, p, "%s", p.Message)
		} else if _, known := unusable[g]; !known {
			unusable[g] = p
		}
	}
	users := map[global][]global{}
	for g, x := range b.globals {
		b.references(x, func(used global) { users[used] = append(users[used], g) })
		if original, redefined := b.originals[g]; redefined {
			b.references(original, func(used global) { users[used] = append(users[used], g) })
		}
	}
	open := make([]global, 0, len(unusable))
	for g := range unusable {
		open = append(open, g)
	}
	for len(open) > 0 {
		used := open[0]
		open = open[1:]
		for _, g := range users[used] {
			if _, known := unusable[g]; !known {
				unusable[g] = unusable[used]
				open = append(open, g)
			}
		}
	}
	b.schema.unusable = unusable
	for g := range unusable {
		switch g.kind {
		case "element":
			delete(b.schema.Elements, g.Name)
		case "type":
			delete(b.schema.Types, g.Name)
		case "attribute":
			delete(b.schema.Attributes, g.Name)
		}
	}
	for head, members := range b.schema.substitutes {
		var kept []*Element
		for _, e := range members {
			if _, isUnusable := unusable[global{"element", e.Name}]; !isUnusable {
				kept = append(kept, e)
			}
		}
		b.schema.substitutes[head] = kept
	}
}

// holder is the component of the whole schema that a problem is in.
func (b *builder) holder(p Problem) (holder global, inOne bool) {
	line, column := 0, 0
	begins := func(x xnode) bool { // before the problem, and behind all that did so far
		at := x.at()
		isBefore := at.Line < p.Line || at.Line == p.Line && at.Column <= p.Column
		return isBefore && (at.Line > line || at.Line == line && at.Column >= column)
	}
	for _, d := range b.loader.documents {
		if d.location != p.Location {
			continue
		}
		if begins(d.root) {
			line, column, inOne = int(d.root.Line), int(d.root.Column), false
		}
		for x := range d.root.children() {
			if !begins(x) {
				continue
			}
			line, column = int(x.Line), int(x.Column)
			holder = global{kindOf(x.Name().Local), Name{d.namespace, x.value("name")}}
			_, inOne = b.globals[holder]
		}
	}
	return holder, inOne
}

// references visits the components that one refers to.
func (b *builder) references(x xnode, visit func(global)) {
	for _, a := range x.Attributes() {
		kind := referenceKinds[a.Name.Local]
		if a.Name.Local == "ref" {
			kind = x.Name().Local
		}
		if kind == "" || a.IsDeclaration() {
			continue
		}
		for _, text := range strings.Fields(a.Value) {
			text, _, _ = strings.Cut(text, "[")
			prefix, local, qualified := strings.Cut(text, ":")
			if !qualified {
				prefix, local = "", text
			}
			space, _ := x.scope.Lookup(prefix)
			if space == "" && x.doc.chameleon {
				space = x.doc.namespace
			}
			visit(global{kind, Name{Current(space), local}})
		}
	}
	for child := range x.children() {
		b.references(child, visit)
	}
}

// UnusableElement tells why an element cannot be used though it is declared; nil where it can, or is not.
func (s *Schema) UnusableElement(name Name) *Problem { return s.unusableOf("element", name) }

// UnusableType tells why a type cannot be used though it is declared; nil where it can, or is not.
func (s *Schema) UnusableType(name Name) *Problem { return s.unusableOf("type", name) }

func (s *Schema) unusableOf(kind string, name Name) *Problem {
	if p, isUnusable := s.unusable[global{kind, name}]; isUnusable {
		return &p
	}
	return nil
}
