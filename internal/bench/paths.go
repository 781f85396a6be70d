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
	paths := findPaths(b, service)
	b.paths.Store(service, paths)
	return paths
}

func findPaths(b *Bench, service *Service) []string {
	var paths []string
	for _, op := range service.Operations {
		paths = append(paths, op.Path)
	}
	c, err := b.Offline(service)
	if err != nil || c == nil {
		return paths
	}
	names := c.Names(service.Binding())
	for _, name := range names[:min(mostPaths, len(names))] {
		if op, err := c.Operation(name, service.Binding()); err == nil && op != nil && op.Facts().Path != "" {
			paths = append(paths, op.Facts().Path)
		}
	}
	return paths
}

// Described finds what the bench says of an operation; nil where it says nothing. A method
// that is called by name may be called all the same, unless it looks like a slip.
func (s *Service) Described(name string) (*contract.Endpoint, error) {
	op := s.Operation(name)
	switch {
	case op != nil || s.Speaks == "":
		return op, nil
	case suggest.Closest(name, s.OperationNames()) != "":
		return nil, &NotFoundError{"operation of " + s.Name, name, s.OperationNames()}
	}
	return &contract.Endpoint{Name: name, Method: "POST"}, nil
}
