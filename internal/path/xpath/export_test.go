package xpath

// EvaluateWithin evaluates with fewer visits than there are, so that a test of too many takes no seconds.
func (e *Expr) EvaluateWithin(visits int, t *Tree) (Value, error) { return e.evaluate(t, nil, visits) }
