package contract

// ByHand is the description of a service whose operations stand in the bench.
type ByHand struct {
	head       Head
	operations []*Operation
}

// NewByHand makes a description of operations that are described by hand in a
// file.
func NewByHand(name, file string, operations []*Operation) *ByHand {
	return &ByHand{head: Head{Title: name, Format: "described by hand", Location: file}, operations: operations}
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
func (b *ByHand) Operation(name string) (*Operation, error) {
	for _, op := range b.operations {
		if op.Name == name {
			return op, nil
		}
	}
	return nil, nil
}
