package jsonschema

import (
	"fmt"
	"sync"
)

// mostUnfolded is how many schemas may hold for one value: those that refer to others twice
// double with each.
const mostUnfolded = 100_000

// budget counts what schemas unfold to.
type budget struct {
	mutex sync.Mutex
	known map[*keywords]int
}

// check is an error for a schema that unfolds to more than mostUnfolded.
func (b *budget) check(s *keywords) error {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.of(s) > mostUnfolded {
		return fmt.Errorf("the schema unfolds to more than %d parts for one value, and is not used", mostUnfolded)
	}
	return nil
}

// of counts the schemas that hold for one value by a schema, up to mostUnfolded.
func (b *budget) of(s *keywords) int {
	if s == nil {
		return 0
	}
	if size, ok := b.known[s]; ok {
		return size
	}
	if b.known == nil {
		b.known = map[*keywords]int{}
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
func inPlace(s *keywords) []*keywords {
	all := []*keywords{s.not, s.when, s.then, s.otherwise}
	for _, r := range []*reference{s.ref, s.dynamicRef} {
		if r != nil {
			if target, err := r.compile(); err == nil {
				all = append(all, target)
			}
		}
	}
	for _, list := range [][]*keywords{s.allOf, s.anyOf, s.oneOf} {
		all = append(all, list...)
	}
	for _, d := range s.dependent {
		all = append(all, d.schema)
	}
	return all
}
