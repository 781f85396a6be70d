package jsonschema

import (
	"fmt"
	"sync"

	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// mostUnfolded is how many schemas may hold for one value: those that refer to others twice
// double with each.
const mostUnfolded = 100_000

// budget counts what schemas unfold to.
type budget struct {
	mutex sync.Mutex
	known map[*js.Schema]int
}

// check is an error for a schema that unfolds to more than mostUnfolded.
func (b *budget) check(s *js.Schema) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.of(s) > mostUnfolded {
		return fmt.Errorf("the schema unfolds to more than %d parts for one value, and is not used", mostUnfolded)
	}
	return nil
}

// of counts the schemas that hold for one value by a schema, up to mostUnfolded.
func (b *budget) of(s *js.Schema) int {
	if s == nil {
		return 0
	}
	if size, ok := b.known[s]; ok {
		return size
	}
	if b.known == nil {
		b.known = map[*js.Schema]int{}
	}
	b.known[s] = 1 // where it holds itself it is counted once
	size := 1
	for _, inner := range inPlace(s) {
		size = min(size+b.of(inner), mostUnfolded+1)
	}
	b.known[s] = size
	return size
}

// inPlace lists what holds for the same value as a schema does (JSON Schema 2020-12, 10.2).
func inPlace(s *js.Schema) []*js.Schema {
	all := []*js.Schema{s.Ref, s.RecursiveRef, s.Not, s.If, s.Then, s.Else}
	for _, extension := range s.Extensions {
		if l, ok := extension.(*later); ok && l.compile() == nil {
			all = append(all, l.target.compiled)
		}
	}
	if s.DynamicRef != nil {
		all = append(all, s.DynamicRef.Ref)
	}
	for _, list := range [][]*js.Schema{s.AllOf, s.AnyOf, s.OneOf} {
		all = append(all, list...)
	}
	for _, one := range s.DependentSchemas {
		all = append(all, one)
	}
	for _, one := range s.Dependencies {
		if inner, ok := one.(*js.Schema); ok {
			all = append(all, inner)
		}
	}
	return all
}
