package jsonschema

import (
	"sync"

	js "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
)

// laterKeyword stands for $ref where a schema is compiled as part of a description.
// What it refers to is compiled when it is asked for: large descriptions are one net
// of schemas, and a call needs few of them.
const laterKeyword = "tb:ref"

// later is a reference to a schema that is compiled when it is asked for.
type later struct {
	set    *Set
	at     Location
	once   sync.Once
	target *Schema
	err    error

	bounded sync.Once
	large   error
}

// compile compiles what is referred to.
func (l *later) compile() error {
	l.once.Do(func() { l.target, l.err = l.set.Open(l.at) })
	return l.err
}

// open gives what is referred to, unless that unfolds to too much.
func (l *later) open() (*Schema, error) {
	if err := l.compile(); err != nil {
		return nil, err
	}
	l.bounded.Do(func() { l.large = l.set.unfolded.check(l.target.compiled) })
	return l.target, l.large
}

// referring is the vocabulary of the keyword.
func (s *Set) referring() *js.Vocabulary {
	return &js.Vocabulary{
		URL: "tb:referring",
		Compile: func(_ *js.CompilerContext, object map[string]any) (js.SchemaExt, error) {
			number, ok := object[laterKeyword].(string)
			if !ok {
				return nil, nil
			}
			at, _ := s.numbered(number)
			return &later{set: s, at: at}, nil
		},
	}
}

// Validate holds a value against what is referred to.
func (l *later) Validate(ctx *js.ValidatorContext, v any) {
	target, err := l.open()
	if err != nil {
		ctx.AddError(&unusable{err: err})
		return
	}
	if err := ctx.Validate(target.compiled, v, nil); err != nil {
		ctx.AddErr(err)
	}
}

// unusable is the error of a schema that cannot be compiled.
type unusable struct {
	*kind.Group
	err error
}

// referred is what a schema refers to; nil for nothing, or what cannot be used.
func referred(s *js.Schema) *js.Schema {
	for _, extension := range s.Extensions {
		if l, ok := extension.(*later); ok {
			if target, err := l.open(); err == nil {
				return target.compiled
			}
		}
	}
	return s.Ref
}

// resolved goes where references lead.
func resolved(s *js.Schema) *js.Schema {
	for range 8 {
		next := referred(s)
		if next == nil {
			break
		}
		s = next
	}
	return s
}
