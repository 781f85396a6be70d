// Package jsonschema reads schemas of JSON Schema (2020-12, 2019-09, 7, 6, 4) and
// of the dialects of OpenAPI. A library judges; what a schema says in words, how
// a request is filled by it and a sample of it are made here.
package jsonschema

import (
	"fmt"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	js "github.com/santhosh-tekuri/jsonschema/v6"

	"testbench/internal/document"
)

// Set compiles the schemas of a description for one direction. It is safe for use
// by several goroutines.
type Set struct {
	docs      *Documents
	dialect   Dialect
	direction Direction

	mutex    sync.Mutex
	compiler *js.Compiler
	broken   map[string]error
	compiled map[string]*Schema
	lost     []error // references that lead to nowhere, met while compiling

	members sync.Map // *js.Schema: its []property

	placing sync.Mutex
	sources []Location     // of the resources tb:/0, tb:/1, …
	numbers map[string]int // place: its number in sources

	unfolded budget
	seen     map[*js.Schema]bool // by linear
}

// NewSet prepares a set of the schemas of documents.
func NewSet(docs *Documents, dialect Dialect, direction Direction) *Set {
	s := &Set{
		docs: docs, dialect: dialect, direction: direction, numbers: map[string]int{},
		compiled: map[string]*Schema{}, seen: map[*js.Schema]bool{}, broken: map[string]error{},
	}
	s.compiler = js.NewCompiler()
	s.compiler.DefaultDraft(js.Draft2020)
	s.compiler.AssertFormat()
	s.compiler.AssertVocabs()
	for _, f := range formats {
		s.compiler.RegisterFormat(f)
	}
	s.compiler.UseRegexpEngine(compilePattern)
	s.compiler.UseLoader(s)
	s.compiler.RegisterVocabulary(s.referring())
	return s
}

// Schema is one schema of a set.
type Schema struct {
	set      *Set
	compiled *js.Schema
	source   Location
}

// Open compiles the schema that is at a place.
func (s *Set) Open(at Location) (*Schema, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	key := at.String()
	if done := s.compiled[key]; done != nil || s.broken[key] != nil {
		return done, s.broken[key]
	}
	s.lost = nil
	address := s.address(at)
	compiled, err := s.compiler.Compile(address)
	if err != nil && len(s.lost) > 0 {
		err = s.lost[0]
	} else if err != nil {
		err = s.explain(at, err)
	}
	if err == nil {
		s.linear(compiled)
	}
	if err == nil && s.dialect == Alone { // all that it refers to is compiled with it
		err = s.unfolded.check(compiled)
	}
	if err != nil {
		s.broken[key] = err
		return nil, err
	}
	s.compiled[key] = &Schema{set: s, compiled: compiled, source: at}
	return s.compiled[key], nil
}

// address is what the compiler calls a place.
func (s *Set) address(at Location) string {
	if s.dialect == Alone {
		return fileAddress(at.Location) + "#" + at.Pointer
	}
	return "tb:/" + strconv.Itoa(s.number(at))
}

// number is that of a place among the sources.
func (s *Set) number(at Location) int {
	s.placing.Lock()
	defer s.placing.Unlock()
	key := at.String()
	number, known := s.numbers[key]
	if !known {
		number = len(s.sources)
		s.numbers[key] = number
		s.sources = append(s.sources, at)
	}
	return number
}

// numbered is the source of a number.
func (s *Set) numbered(text string) (Location, bool) {
	s.placing.Lock()
	defer s.placing.Unlock()
	number, err := strconv.Atoi(text)
	if err != nil || number < 0 || number >= len(s.sources) {
		return Location{}, false
	}
	return s.sources[number], true
}

// fileAddress writes a location as an absolute address.
func fileAddress(location string) string {
	if strings.Contains(location, "://") {
		return location
	}
	full, err := filepath.Abs(location)
	if err != nil {
		full = location
	}
	return (&url.URL{Scheme: "file", Path: filepath.ToSlash(full)}).String()
}

// Load gives the compiler what is at an address.
func (s *Set) Load(address string) (any, error) {
	if rest, ok := strings.CutPrefix(address, "tb:/"); ok {
		at, ok := s.numbered(rest)
		if !ok {
			return nil, fmt.Errorf("%s is not a schema", address)
		}
		w := &writer{set: s, at: at}
		return w.schema(at.Node, ""), nil
	}
	root, err := s.root(address)
	if err != nil {
		s.lost = append(s.lost, err)
		return nil, err
	}
	return value(root), nil
}

// root is the document at an absolute address.
func (s *Set) root(address string) (*document.Node, error) {
	s.docs.mutex.Lock()
	defer s.docs.mutex.Unlock()
	first := ""
	for location, root := range s.docs.roots {
		if fileAddress(location) == address {
			return root, nil
		}
		if first == "" || len(location) < len(first) {
			first = location
		}
	}
	expected := address
	if u, err := url.Parse(address); err == nil && u.Scheme == "file" {
		here, err := filepath.Abs(filepath.Dir(first))
		if err != nil {
			return nil, err
		}
		if expected, err = filepath.Rel(here, filepath.FromSlash(u.Path)); err != nil {
			return nil, err
		}
	}
	resolved, err := s.docs.file(first, expected)
	if err != nil {
		return nil, err
	}
	return s.docs.roots[resolved], nil
}

// sourceOf finds where a compiled schema is in its source.
func (s *Set) sourceOf(compiled *js.Schema) Location {
	address, pointer, _ := strings.Cut(compiled.Location, "#")
	if unescaped, err := url.PathUnescape(pointer); err == nil {
		pointer = unescaped
	}
	var at Location
	if rest, ok := strings.CutPrefix(address, "tb:/"); ok {
		if at, ok = s.numbered(rest); !ok {
			return at
		}
	} else {
		root, err := s.root(address)
		if err != nil {
			return at
		}
		at = Location{Location: address, Node: root}
	}
	if pointer == "" {
		return at
	}
	for _, name := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		at = at.Below(unescapePointer(name))
	}
	return at
}
