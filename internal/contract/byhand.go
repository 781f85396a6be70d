package contract

// ByHand is the description of a service whose operations are in the bench.
type ByHand struct {
	head       Head
	operations []*Endpoint
}

// NewByHand makes a description of operations that are described in bench.yaml in a
// file.
func NewByHand(name, file string, operations []*Endpoint) *ByHand {
	return &ByHand{head: Head{Title: name, Format: "described in bench.yaml", Location: file}, operations: operations}
}

// Head is what is said of the service.
func (b *ByHand) Head() *Head { return &b.head }

// Names lists the operations.
func (b *ByHand) Names() []string {
	names := make([]string, len(b.operations))
	for i, op := range b.operations {
		names[i] = op.Name
	}
	return names
}

// Operation finds one by its name.
func (b *ByHand) Operation(name string) (*Endpoint, error) {
	for _, op := range b.operations {
		if op.Name == name {
			return op, nil
		}
	}
	return nil, nil
}

// merged is a contract's description with operations beside it that are in the
// bench; those win.
type merged struct {
	Description
	own *ByHand
}

// Merge puts operations of a bench before those of a description.
func Merge(operations []*Endpoint, d Description) Description {
	if len(operations) == 0 {
		return d
	}
	return &merged{d, &ByHand{operations: operations}}
}

// Names lists the operations, those of the bench first.
func (m *merged) Names() []string { return append(m.own.Names(), m.Description.Names()...) }

// Operation finds one by its name.
func (m *merged) Operation(name string) (*Endpoint, error) {
	if op, _ := m.own.Operation(name); op != nil {
		return op, nil
	}
	return m.Description.Operation(name)
}

// Groups are those of the description, with the bench's own operations before them;
// nil where the description has none.
func (m *merged) Groups() []Group {
	grouped, ok := m.Description.(Grouped)
	if !ok {
		return nil
	}
	var out []Group
	for _, op := range m.own.operations {
		about := op.About
		if about == "" {
			about = op.Method + " " + op.Path
		}
		out = append(out, Group{Name: op.Name, About: about})
	}
	return append(out, grouped.Groups()...)
}
