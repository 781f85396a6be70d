package xsd

import (
	"fmt"
	"strings"

	"testbench/internal/excerpt"
	"testbench/internal/suggest"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd/datatype"
)

func (v *Validator) undeclaredRoot(name Name) string {
	var same, all []string
	for declared := range v.schema.Elements {
		if declared.Local == name.Local {
			same = append(same, declared.Full())
		}
		all = append(all, declared.Local)
	}
	if len(same) > 0 {
		return fmt.Sprintf("%s is not declared; %s is", name.Full(), strings.Join(same, ", "))
	}
	return fmt.Sprintf("%s is not declared%s", name.Full(), suggest.Ending(name.Local, all))
}

// child finds what a parent's content model makes of a child.
func (v *Validator) child(parent *frame, name Name) (decl *Element, process Process, wild bool) {
	if parent.isNil {
		v.fault("%s is nil and must be empty", v.names[len(v.names)-2].Local)
		return nil, 0, false
	}
	if parent.model == nil {
		v.fault("%s is not allowed in %s, which holds %s", name.Local, v.names[len(v.names)-2].Local,
			parent.simple.Words())
		return nil, 0, false
	}
	before := parent.state
	taken, decl, ok := v.schema.step(parent.model, &parent.state, name)
	if !ok {
		expected := parent.model.expected(&before)
		message := v.unexpected(parent, name, expected)
		if taken, decl, ok = v.schema.jump(parent.model, &parent.state, name); !ok {
			message += v.otherNamespace(parent, name)
		}
		v.fault("%s", message)
		if !ok {
			return nil, 0, false
		}
	}
	if taken.wildcard != nil {
		return nil, taken.wildcard.Process, true
	}
	parent.many = taken.origin.Max > 1 || taken.origin.Max == Unbounded
	return decl, Strict, false
}

// unexpected says what should be in place of a child.
func (v *Validator) unexpected(parent *frame, name Name, expected []string) string {
	after := ""
	if parent.state.begun && len(v.names) > 1 {
		after = "after " + v.before(parent) + ": "
	}
	switch {
	case len(expected) == 0 && !parent.state.begun:
		return fmt.Sprintf("%s must be empty, found %s", v.names[len(v.names)-2].Local, name.Local)
	case len(expected) == 0:
		return fmt.Sprintf("%sthe end of %s expected, found %s", after, v.names[len(v.names)-2].Local, name.Local)
	case parent.model.mayEnd(&parent.state):
		return fmt.Sprintf("%s%s or the end of %s expected, found %s", after,
			strings.Join(suggest.First(expected, 8), ", "),
			v.names[len(v.names)-2].Local, name.Local)
	}
	return fmt.Sprintf("%s%s expected, found %s", after, suggest.OneOf(expected, 8), name.Local)
}

// before names the last child that the model took.
func (v *Validator) before(parent *frame) string {
	m, st := parent.model, &parent.state
	switch {
	case m.all != nil:
		return "what is there"
	case m.several && len(st.configs) > 0:
		return wordOf(&m.positions[st.configs[0].at])
	}
	return wordOf(&m.positions[st.at])
}

func wordOf(p *position) string {
	if p.element != nil {
		return p.element.Name.Local
	}
	return "the elements before"
}

// otherNamespace tells of a name that would do in another namespace.
func (v *Validator) otherNamespace(parent *frame, name Name) string {
	var names []string
	for i := range parent.model.positions {
		if e := parent.model.positions[i].element; e != nil {
			if e.Name.Local == name.Local && e.Name.Space != name.Space {
				return fmt.Sprintf(" in the namespace %q; it belongs in %q", name.Space, e.Name.Space)
			}
			names = append(names, e.Name.Local)
		}
	}
	return suggest.Ending(name.Local, names)
}

// Content.

func (v *Validator) characters(text []byte) {
	if len(v.frames) == 0 || len(text) == 0 {
		return
	}
	f := &v.frames[len(v.frames)-1]
	switch {
	case f.mode != validated:
		return
	case f.isNil:
		v.fault("%s is nil and must be empty", v.names[len(v.names)-1].Local)
		return
	case f.simple != nil:
		if len(v.text)-f.text+len(text) > maxText {
			return
		}
		v.text = append(v.text, text...)
		return
	}
	if c, ok := f.typ.(*ComplexType); ok && c.Content == MixedContent {
		f.hasText = f.hasText || len(text) > 0
		if f.decl != nil && (f.decl.Fixed != nil || f.decl.Default != nil) {
			v.text = append(v.text, text...)
		}
		return
	}
	if !xmlstream.IsBlank(text) && !f.hasText {
		f.hasText = true
		v.fault("%s holds elements, but here is the text %s", v.names[len(v.names)-1].Local,
			excerpt.Quote(strings.TrimSpace(string(text))))
	}
}

func (v *Validator) end() {
	f := &v.frames[len(v.frames)-1]
	value, text := datatype.Value{}, ""
	hasValue := false
	if f.mode == validated {
		switch {
		case f.isNil:
		case f.simple != nil:
			value, text, hasValue = v.simpleValue(f)
		case f.model != nil && !f.model.mayEnd(&f.state):
			v.incomplete(f)
		}
		if f.model != nil && f.decl != nil && f.decl.Fixed != nil && f.state.begun {
			v.fault("%s has a fixed value and cannot hold elements", f.decl.Name.Local)
		} else if f.model != nil && f.decl != nil && f.decl.Fixed != nil && f.hasText &&
			string(v.text[f.text:]) != *f.decl.Fixed {
			v.fault("%s must be %s", excerpt.Quote(string(v.text[f.text:])), excerpt.Quote(*f.decl.Fixed))
		}
	}
	if len(v.scopes) > 0 || f.tables != nil {
		v.endKeys(f, value, text, hasValue)
	}
	v.text = v.text[:f.text]
	v.names = v.names[:len(v.names)-1]
	v.frames = v.frames[:len(v.frames)-1]
}

// incomplete says what is missing at the end of an element.
func (v *Validator) incomplete(f *frame) {
	name := v.names[len(v.names)-1].Local
	expected := f.model.expected(&f.state)
	if m := f.model; m.all != nil {
		expected = nil
		for i, p := range m.all {
			if p.Min > 0 && (f.state.seen == nil || !f.state.seen[i]) {
				expected = append(expected, p.Term.(*Element).Name.Local)
			}
		}
		v.fault("%s is not complete: %s missing", name, suggest.OneOf(expected, 8))
		return
	}
	switch {
	case !f.state.begun && len(expected) > 0:
		v.fault("%s is empty: %s expected", name, suggest.OneOf(expected, 8))
	case len(expected) == 0:
		v.fault("%s is not complete", name)
	default:
		v.fault("%s is not complete: after %s, %s expected", name, v.before(f), suggest.OneOf(expected, 8))
	}
}

// simpleValue checks an element's text as a value of its type.
func (v *Validator) simpleValue(f *frame) (datatype.Value, string, bool) {
	plain := f.decl == nil || f.decl.Fixed == nil && f.decl.Default == nil
	if plain && len(v.scopes) == 0 && f.simple.surely(v.text[f.text:]) && !f.simple.mayIdentify() {
		return datatype.Value{}, "", false
	}
	text := string(v.text[f.text:])
	if text == "" && f.decl != nil {
		if f.decl.Fixed != nil {
			text = *f.decl.Fixed
		} else if f.decl.Default != nil {
			text = *f.decl.Default
		}
	}
	value, err := f.simple.Parse(text, v.lookup)
	if err != nil {
		v.faultAt(v.opened(), v.path(), "%s", err)
		return datatype.Value{}, text, false
	}
	if f.decl != nil && f.decl.Fixed != nil {
		if expected, err := f.simple.Parse(*f.decl.Fixed, v.lookup); err == nil && !expected.Same(value) {
			v.faultAt(v.opened(), v.path(), "%s must be %s", excerpt.Quote(text), excerpt.Quote(*f.decl.Fixed))
		}
	}
	if f.simple.mayIdentify() {
		v.identifier(f.simple, f.simple.Normalize(text), v.where(), v.path())
	}
	return value, text, true
}
