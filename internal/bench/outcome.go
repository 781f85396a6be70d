package bench

import (
	"strings"

	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// Outcome is how a service tells success and errors in the bodies of its answers. Where there is one, the shapes
// of errors that are known are not looked for.
type Outcome struct {
	Success            *rule.Condition // holds for an answer that is a success; nil where nothing is said
	Error              *rule.Condition // holds for one that is an error; nil where nothing is said
	Code, Text, Target *path.Path      // where an error tells them; nil for nowhere
}

var errorKeys = []mapping.Key[Outcome]{
	mapping.NewKey("when", "a condition on the answer: it is an error where it holds",
		func(r *mapping.Reader, o *Outcome, n *yamlfile.Node) { o.Error = r.Condition(n) }),
	mapping.PathKey("code", "path of its code", func(o *Outcome) **path.Path { return &o.Code }),
	mapping.PathKey("text", "path of what it says", func(o *Outcome) **path.Path { return &o.Text }),
	mapping.PathKey("target", "path of the field it is about", func(o *Outcome) **path.Path { return &o.Target }),
}

// readError reads how errors are told into an outcome, which is made where there is none.
func readError(r *mapping.Reader, n *yamlfile.Node, into **Outcome) {
	if *into == nil {
		*into = &Outcome{}
	}
	r.NotEmpty(n, "error")
	mapping.Read(r, "error", n, *into, errorKeys)
}

// readSuccess reads the statuses of success, or a condition on the answer.
func readSuccess(r *mapping.Reader, n *yamlfile.Node, statuses **rule.Status, into **Outcome) {
	r.TakesOf(n, mapping.ConditionSchema)
	if n.Kind != yamlfile.Scalar || !strings.Contains(n.Text, "answer") && !strings.Contains(n.Text, "reply") {
		*statuses = r.Status(n)
		return
	}
	if *into == nil {
		*into = &Outcome{}
	}
	(*into).Success = r.Condition(n)
}

// OutcomeOf is how an operation tells success and errors: as the operation says it, else the service; nil where
// neither does.
func (s *Service) OutcomeOf(operation string) *Outcome {
	if own := s.Outcomes[operation]; own != nil {
		return own
	}
	if s.Outcome != nil && s.Good[operation] != nil { // its own statuses are what tells its success
		told := *s.Outcome
		told.Success = nil
		return &told
	}
	return s.Outcome
}

// GoodOf are the statuses of success of an operation; nil for 2xx.
func (s *Service) GoodOf(operation string) *rule.Status {
	if own := s.Good[operation]; own != nil {
		return own
	}
	return s.GoodAll
}
