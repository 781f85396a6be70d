// Package xpath evaluates XPath 1.0 over the trees of package document: the whole
// Recommendation but the namespace axis, the function id (there is no DTD to
// say what an id is) and variables. Expressions are compiled once and safe for
// use by several goroutines. It knows nothing of replies and rules.
package xpath

import (
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/suggest"
	"testbench/internal/syntax"
)

// Error is a mistake in an expression, or one that shows when it is evaluated.
type Error = syntax.Error

// Expr is a compiled expression.
type Expr struct {
	Source string
	root   expr
	// prefixes are those that name tests use, with where they are first.
	prefixes map[string]int
	// plain are the names without a prefix in name tests of elements.
	plain []string
}

// PlainNames are the element names that the expression asks for without a prefix.
func (e *Expr) PlainNames() []string { return e.plain }

const maxNesting = 200

// Compile reads an expression. Errors are of type *Error.
func Compile(source string) (*Expr, error) {
	tokens, err := scan(source)
	if err != nil {
		return nil, err
	}
	p := &parser{tokens: tokens, compiled: &Expr{Source: source, prefixes: map[string]int{}}}
	root, err := p.or()
	if err != nil {
		return nil, err
	}
	if t := p.peek(); t.kind != endToken {
		return nil, p.fail(t, "%s is not allowed here", t.quoted())
	}
	p.compiled.root = root
	return p.compiled, nil
}

// The expression tree. Every expression knows what it gives without being
// evaluated (section 3: a function's result type is fixed).

type resultKind uint8

const (
	nodesResult resultKind = iota
	numberResult
	textResult
	booleanResult
)

var resultNames = [...]string{"nodes", "a number", "a text", "a boolean"}

type expr interface{ gives() resultKind }

type (
	number  float64
	literal string
	negated struct{ operand expr }
	binary  struct {
		op          string
		left, right expr
	}
	union struct{ left, right expr }
	call  struct {
		function *function
		args     []expr
		at       int
	}
	// location is a path: from the root, from the context node, or from what an
	// expression gives.
	location struct {
		absolute bool
		from     expr // nil for the root or the context node
		filters  []expr
		steps    []*step
	}
	step struct {
		axis       axis
		test       nodeTest
		predicates []predicate
	}
	predicate struct {
		expr       expr
		positional bool // depends on position() or last()
	}
)

func (number) gives() resultKind    { return numberResult }
func (literal) gives() resultKind   { return textResult }
func (negated) gives() resultKind   { return numberResult }
func (union) gives() resultKind     { return nodesResult }
func (c *call) gives() resultKind   { return c.function.gives }
func (*location) gives() resultKind { return nodesResult }
func (b *binary) gives() resultKind {
	switch b.op {
	case "+", "-", "*", "div", "mod":
		return numberResult
	}
	return booleanResult
}

type axis uint8

const (
	childAxis axis = iota
	descendantAxis
	descendantOrSelfAxis
	parentAxis
	ancestorAxis
	ancestorOrSelfAxis
	followingSiblingAxis
	precedingSiblingAxis
	followingAxis
	precedingAxis
	attributeAxis
	selfAxis
)

var axes = map[string]axis{
	"child": childAxis, "descendant": descendantAxis, "descendant-or-self": descendantOrSelfAxis,
	"parent": parentAxis, "ancestor": ancestorAxis, "ancestor-or-self": ancestorOrSelfAxis,
	"following-sibling": followingSiblingAxis, "preceding-sibling": precedingSiblingAxis,
	"following": followingAxis, "preceding": precedingAxis, "attribute": attributeAxis, "self": selfAxis,
}

type nodeTest struct {
	kind   testKind
	prefix string // of a name
	local  string // "" for any
	target string // of a processing instruction
}

type testKind uint8

const (
	nameTest testKind = iota
	anyNode
	textTest
	commentTest
	instructionTest
)

type parser struct {
	tokens   []token
	pos      int
	depth    int
	compiled *Expr
}

func (p *parser) peek() token { return p.tokens[p.pos] }

func (p *parser) next() token {
	t := p.tokens[p.pos]
	if t.kind != endToken {
		p.pos++
	}
	return t
}

func (p *parser) take(text string) bool {
	if t := p.peek(); t.kind == signToken && t.text == text {
		p.pos++
		return true
	}
	return false
}

func (p *parser) fail(t token, format string, args ...any) error {
	return &Error{Offset: t.at, Message: fmt.Sprintf(format, args...)}
}

func (p *parser) expect(text, where string) error {
	if !p.take(text) {
		return p.fail(p.peek(), "%s is missing %s; there is %s", text, where, p.peek().quoted())
	}
	return nil
}

// leftToRight parses operators of one precedence.
func (p *parser) leftToRight(operand func() (expr, error), ops ...string) (expr, error) {
	left, err := operand()
	for err == nil {
		t := p.peek()
		found := ""
		for _, op := range ops {
			if t.kind == operatorToken && t.text == op {
				found = op
			}
		}
		if found == "" {
			return left, nil
		}
		p.next()
		var right expr
		if right, err = operand(); err == nil {
			left = &binary{op: found, left: left, right: right}
		}
	}
	return nil, err
}

func (p *parser) or() (expr, error) {
	if p.depth++; p.depth > maxNesting {
		return nil, p.fail(p.peek(), "it is nested deeper than %d", maxNesting)
	}
	defer func() { p.depth-- }()
	return p.leftToRight(p.and, "or")
}

func (p *parser) and() (expr, error)      { return p.leftToRight(p.equality, "and") }
func (p *parser) equality() (expr, error) { return p.leftToRight(p.relational, "=", "!=") }
func (p *parser) relational() (expr, error) {
	return p.leftToRight(p.additive, "<", "<=", ">", ">=")
}
func (p *parser) additive() (expr, error)       { return p.leftToRight(p.multiplicative, "+", "-") }
func (p *parser) multiplicative() (expr, error) { return p.leftToRight(p.unary, "*", "div", "mod") }

func (p *parser) unary() (expr, error) {
	minus := 0
	for t := p.peek(); t.kind == operatorToken && t.text == "-"; t = p.peek() {
		p.next()
		minus++
	}
	operand, err := p.union()
	if err != nil || minus == 0 {
		return operand, err
	}
	// An even number of signs still makes a number of it.
	operand = negated{operand}
	if minus%2 == 0 {
		operand = negated{operand}
	}
	return operand, nil
}

func (p *parser) union() (expr, error) {
	left, err := p.path()
	for err == nil {
		t := p.peek()
		if t.kind != operatorToken || t.text != "|" {
			return left, nil
		}
		p.next()
		var right expr
		if right, err = p.path(); err != nil {
			break
		}
		for _, side := range []expr{left, right} {
			if side.gives() != nodesResult {
				return nil, p.fail(t, "| joins nodes, and one side of it is %s", resultNames[side.gives()])
			}
		}
		left = union{left, right}
	}
	return nil, err
}

// path parses PathExpr (production 19).
func (p *parser) path() (expr, error) {
	t := p.peek()
	switch {
	case t.kind == numberToken:
		value, err := strconv.ParseFloat(t.text, 64)
		if err != nil && value == 0 {
			return nil, p.fail(t, "%s is not a number", t.text)
		}
		p.next()
		return p.filtered(number(value))
	case t.kind == textToken:
		p.next()
		return p.filtered(literal(t.text))
	case t.kind == signToken && t.text == "$":
		return nil, &Error{Offset: t.at, Message: "variables cannot be used here", Try: "put a value in with ${name}"}
	case t.kind == signToken && t.text == "(":
		p.next()
		inner, err := p.or()
		if err != nil {
			return nil, err
		}
		if err := p.expect(")", "after the bracketed expression"); err != nil {
			return nil, err
		}
		return p.filtered(inner)
	case t.kind == functionToken && !isNodeType(t.text):
		c, err := p.call()
		if err != nil {
			return nil, err
		}
		return p.filtered(c)
	}
	return p.location()
}

// filtered goes on after a primary expression: predicates and steps may follow
// what gives nodes.
func (p *parser) filtered(from expr) (expr, error) {
	t := p.peek()
	sign := ""
	if t.kind == signToken {
		sign = t.text
	}
	if sign != "[" && sign != "/" && sign != "//" {
		return from, nil
	}
	if from.gives() != nodesResult {
		return nil, p.fail(t, "%s can follow nodes, and this is %s", sign, resultNames[from.gives()])
	}
	l := &location{from: from}
	for p.peek().kind == signToken && p.peek().text == "[" {
		pred, err := p.predicate()
		if err != nil {
			return nil, err
		}
		l.filters = append(l.filters, pred.expr)
	}
	switch {
	case p.take("/"):
	case p.take("//"):
		l.steps = append(l.steps, anyDescendant())
	default:
		return l, nil
	}
	return l, p.steps(l)
}

func anyDescendant() *step {
	return &step{axis: descendantOrSelfAxis, test: nodeTest{kind: anyNode}}
}

// location parses LocationPath (productions 1 to 3).
func (p *parser) location() (expr, error) {
	l := &location{}
	switch {
	case p.take("/"):
		l.absolute = true
		if !p.startsStep() {
			return l, nil
		}
	case p.take("//"):
		l.absolute = true
		l.steps = append(l.steps, anyDescendant())
	}
	return l, p.steps(l)
}

func (p *parser) startsStep() bool {
	t := p.peek()
	switch t.kind {
	case nameToken, functionToken, axisToken:
		return true
	case signToken:
		return t.text == "." || t.text == ".." || t.text == "@" || t.text == "*"
	}
	return false
}

func (p *parser) steps(l *location) error {
	for {
		s, err := p.step()
		if err != nil {
			return err
		}
		l.steps = append(l.steps, s)
		switch {
		case p.take("/"):
		case p.take("//"):
			l.steps = append(l.steps, anyDescendant())
		default:
			l.steps = shorten(l.steps)
			return nil
		}
	}
}

// shorten makes descendant-or-self::node()/child::x one step descendant::x where
// no predicate counts positions: it finds the same nodes and visits each once.
func shorten(steps []*step) []*step {
	var short []*step
	for _, s := range steps {
		if last := len(short) - 1; last >= 0 && s.axis == childAxis && !s.positional() {
			before := short[last]
			if before.axis == descendantOrSelfAxis && before.test.kind == anyNode && len(before.predicates) == 0 {
				joined := *s
				joined.axis = descendantAxis
				short[last] = &joined
				continue
			}
		}
		short = append(short, s)
	}
	return short
}

func (s *step) positional() bool {
	for _, pred := range s.predicates {
		if pred.positional {
			return true
		}
	}
	return false
}

func (p *parser) step() (*step, error) {
	s := &step{}
	t := p.next()
	switch {
	case t.kind == signToken && t.text == ".":
		s.axis, s.test.kind = selfAxis, anyNode
		return s, nil
	case t.kind == signToken && t.text == "..":
		s.axis, s.test.kind = parentAxis, anyNode
		return s, nil
	case t.kind == signToken && t.text == "@":
		s.axis = attributeAxis
		t = p.next()
	case t.kind == axisToken:
		a, ok := axes[t.text]
		if t.text == "namespace" {
			return nil, p.fail(t, "the namespace axis cannot be used")
		}
		if !ok {
			known := make([]string, 0, len(axes))
			for name := range axes {
				known = append(known, name)
			}
			return nil, &Error{
				Offset: t.at, Message: "there is no axis " + t.text,
				Try: suggest.DidYouMean(t.text, known),
			}
		}
		s.axis = a
		t = p.next()
	}
	if err := p.nodeTest(s, t); err != nil {
		return nil, err
	}
	for p.peek().kind == signToken && p.peek().text == "[" {
		pred, err := p.predicate()
		if err != nil {
			return nil, err
		}
		s.predicates = append(s.predicates, pred)
	}
	return s, nil
}

func isNodeType(name string) bool {
	return name == "node" || name == "text" || name == "comment" || name == "processing-instruction"
}

func (p *parser) nodeTest(s *step, t token) error {
	switch {
	case t.kind == signToken && t.text == "*":
		return nil
	case t.kind == nameToken:
		prefix, local, qualified := strings.Cut(t.text, ":")
		if !qualified {
			prefix, local = "", t.text
			if s.axis != attributeAxis {
				p.compiled.plain = append(p.compiled.plain, local)
			}
		}
		if local == "*" {
			local = ""
		}
		s.test = nodeTest{prefix: prefix, local: local}
		if _, met := p.compiled.prefixes[prefix]; prefix != "" && !met {
			p.compiled.prefixes[prefix] = t.at
		}
		return nil
	case t.kind == functionToken && isNodeType(t.text):
		p.next() // the opening bracket, which made it a function
		switch t.text {
		case "node":
			s.test.kind = anyNode
		case "text":
			s.test.kind = textTest
		case "comment":
			s.test.kind = commentTest
		default:
			s.test.kind = instructionTest
			if name := p.peek(); name.kind == textToken {
				s.test.target = p.next().text
			}
		}
		return p.expect(")", "after "+t.text+"(")
	case t.kind == functionToken:
		return p.fail(t, "the function %s is not allowed as a step", t.text)
	case t.kind == endToken:
		return p.fail(t, "it ends where a name or another step should follow")
	}
	return p.fail(t, "%s found where a name or another step is expected", t.quoted())
}

func (p *parser) predicate() (predicate, error) {
	p.next()
	e, err := p.or()
	if err != nil {
		return predicate{}, err
	}
	return predicate{expr: e, positional: e.gives() == numberResult || usesPosition(e)},
		p.expect("]", "after a condition")
}

// usesPosition says whether the value depends on position() or last() of its
// own context; those inside of deeper predicates have contexts of their own.
func usesPosition(e expr) bool {
	switch e := e.(type) {
	case negated:
		return usesPosition(e.operand)
	case *binary:
		return usesPosition(e.left) || usesPosition(e.right)
	case union:
		return usesPosition(e.left) || usesPosition(e.right)
	case *call:
		if e.function.positional {
			return true
		}
		for _, arg := range e.args {
			if usesPosition(arg) {
				return true
			}
		}
	case *location:
		return e.from != nil && usesPosition(e.from)
	}
	return false
}

func (p *parser) call() (expr, error) {
	t := p.next()
	f := functions[t.text]
	if f == nil {
		if t.text == "id" {
			return nil, &Error{
				Offset: t.at, Message: "id() cannot be used: without a DTD nothing says what an id is",
				Try: "write //*[@id='...']",
			}
		}
		known := make([]string, 0, len(functions))
		for name := range functions {
			known = append(known, name)
		}
		return nil, &Error{
			Offset: t.at, Message: "XPath 1.0 has no function " + t.text,
			Try: suggest.DidYouMean(t.text, known),
		}
	}
	c := &call{function: f, at: t.at}
	p.next()
	for !p.take(")") {
		if len(c.args) > 0 && !p.take(",") {
			return nil, p.fail(p.peek(), ") or , is missing in the call of %s; there is %s", t.text, p.peek().quoted())
		}
		arg, err := p.or()
		if err != nil {
			return nil, err
		}
		c.args = append(c.args, arg)
	}
	if len(c.args) < f.least || f.most >= 0 && len(c.args) > f.most {
		return nil, p.fail(t, "%s takes %s, not %d", t.text, f.arity(), len(c.args))
	}
	if f.wantsNodes {
		for _, arg := range c.args {
			if arg.gives() != nodesResult {
				return nil, p.fail(t, "%s takes nodes, not %s", t.text, resultNames[arg.gives()])
			}
		}
	}
	return c, nil
}
