package jsonpath

import "testbench/internal/document"

// FindWithin finds with fewer steps than there are, so that a test of too many takes no seconds.
func (q *Query) FindWithin(steps int, root *document.Node) ([]Located, error) {
	return q.find(root, steps)
}
