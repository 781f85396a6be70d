package bench

import (
	"testbench/internal/contract"
	"testbench/internal/suggest"
)

// mostPaths bounds how many paths of a contract are looked through for a hint.
const mostPaths = 500

// PathsOf lists the paths of a service, as far as they are known without asking
// anybody.
func (b *Bench) PathsOf(service *Service) []string {
	if known, ok := b.paths.Load(service); ok {
		return known.([]string)
	}
	paths := b.findPaths(service)
	b.paths.Store(service, paths)
	return paths
}

func (b *Bench) findPaths(service *Service) []string {
	var paths []string
	for _, op := range service.Operations {
		paths = append(paths, op.Path)
	}
	c, err := b.Offline(service)
	if err != nil || c == nil || c.Description == nil {
		return paths
	}
	for _, name := range c.Description.Names()[:min(mostPaths, len(c.Description.Names()))] {
		if op, err := c.Description.Operation(name); err == nil && op != nil {
			paths = append(paths, op.Path)
		}
	}
	return paths
}

// Method finds what is described of a method that is called by name; one that
// nobody described may be called all the same, unless it looks like a slip.
func (s *Service) Method(name string) (*contract.Endpoint, error) {
	if op := s.Operation(name); op != nil {
		return op, nil
	}
	if suggest.Closest(name, s.OperationNames()) != "" {
		return nil, &NotFoundError{"operation of " + s.Name, name, s.OperationNames()}
	}
	return &contract.Endpoint{Name: name, Method: "POST"}, nil
}
