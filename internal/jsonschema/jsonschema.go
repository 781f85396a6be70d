// Package jsonschema reads schemas of JSON Schema (2020-12, 2019-09, 7, 6, 4) and
// of the dialects of OpenAPI, and judges values by them. What a schema says in words, how
// a request is filled by it and a sample of it are made here, too.
package jsonschema

import (
	"sync"
)

// Set compiles the schemas of a description for one direction. It is safe for use
// by several goroutines.
type Set struct {
	docs      *Documents
	dialect   Dialect
	direction Direction

	mutex     sync.Mutex
	compiled  map[string]*keywords // by their places
	broken    map[string]error
	resources map[string]*resource // by their addresses
	roots     map[string]*resource // by the places of their roots
	pending   []*reference         // of schemas alone, which are compiled with all that they refer to
	opened    map[string]*Schema

	members sync.Map // *keywords: its []property

	unfolded budget
}

// NewSet prepares a set of the schemas of documents.
func NewSet(docs *Documents, dialect Dialect, direction Direction) *Set {
	return &Set{
		docs: docs, dialect: dialect, direction: direction,
		compiled: map[string]*keywords{}, broken: map[string]error{}, opened: map[string]*Schema{},
		resources: map[string]*resource{}, roots: map[string]*resource{},
	}
}

// Schema is one schema of a set.
type Schema struct {
	set      *Set
	compiled *keywords
	source   Location
}

// Open compiles the schema that is at a place.
func (s *Set) Open(at Location) (*Schema, error) {
	key := at.String()
	s.mutex.Lock()
	done := s.opened[key]
	s.mutex.Unlock()
	if done != nil {
		return done, nil
	}
	compiled, err := s.compileAt(at)
	if err == nil && s.dialect == Alone {
		if err = s.settle(compiled); err == nil {
			err = s.keepsRules()
		}
	}
	if err != nil {
		return nil, err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.opened[key] == nil {
		s.opened[key] = &Schema{set: s, compiled: compiled, source: at}
	}
	return s.opened[key], nil
}

// settle compiles all that a schema alone refers to, so that what is wrong is told at once.
func (s *Set) settle(compiled *keywords) error {
	for {
		s.mutex.Lock()
		pending := s.pending
		s.pending = nil
		s.mutex.Unlock()
		if len(pending) == 0 {
			return s.unfolded.check(compiled)
		}
		for _, r := range pending {
			if _, err := r.compile(); err != nil {
				return err
			}
		}
	}
}
