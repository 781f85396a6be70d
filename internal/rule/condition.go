package rule

import (
	"errors"
	"fmt"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	celparser "cel.dev/cel-go/parser"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/path"
	"testbench/internal/suggest"
	"testbench/internal/value"
)

// Condition is a compiled expression in CEL, the Common Expression Language,
// in which numbers are exact decimals and what is not there is absent. It is
// safe for use by several goroutines.
type Condition struct {
	Source  string
	program cel.Program
	tracked func() (cel.Program, error) // the same, remembering what each part came to
	ids     []int64                     // of a comparison: what stands left and right
	refs    []string                    // names under kept.
}

// ConditionRoots are the words that conditions may begin with.
var ConditionRoots = []string{"answer", "reply", "row", "site", "kept"}

var environment = sync.OnceValues(newEnvironment)

func newEnvironment() (*cel.Env, error) {
	options := []cel.EnvOption{
		cel.StdLib(),
		cel.ParserRecursionLimit(250),
		cel.ParserExpressionSizeLimit(100_000),
	}
	for _, root := range ConditionRoots {
		options = append(options, cel.Variable(root, cel.DynType))
	}
	// at() needs the roots of the one evaluation; it gets them as a variable
	// that no one can write, for it is not an identifier.
	options = append(options, cel.Variable(evaluationVariable, cel.DynType))
	return cel.NewEnv(append(options, functionOptions()...)...)
}

const evaluationVariable = "@evaluation"

// CompileCondition reads an expression. Errors are of type *Error.
func CompileCondition(source string) (*Condition, error) {
	if strings.TrimSpace(source) == "" {
		return nil, &Error{Message: "the condition is empty"}
	}
	if at := strings.Index(source, "${"); at >= 0 {
		return nil, &Error{
			Offset: at, Message: "a condition takes no placeholders",
			Try: "write row.x, kept.x or site.x",
		}
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	parsed, issues := env.Parse(source)
	if issues.Err() != nil {
		return nil, celError(source, issues)
	}
	c := &Condition{Source: source}
	rewrite(parsed.NativeRep(), []rune(source))
	c.remember(parsed.NativeRep())
	checked, issues := env.Check(parsed)
	if issues.Err() != nil {
		return nil, celError(source, issues)
	}
	if c.program, err = env.Program(checked, cel.CostLimit(costLimit), functionCosts()); err != nil {
		return nil, &Error{Message: err.Error()}
	}
	c.tracked = sync.OnceValues(func() (cel.Program, error) {
		return env.Program(checked, cel.CostLimit(costLimit), functionCosts(), cel.EvalOptions(cel.OptTrackState))
	})
	return c, nil
}

// rewritten maps the names of CEL's own operators and functions to ours, which
// compute with decimals and look through the values of answers.
var rewritten = map[string]string{
	"_==_": "@same", "_!=_": "@differ", "_<_": "@less", "_<=_": "@less_or_same", "_>_": "@more",
	"_>=_": "@more_or_same",
	"_+_":  "@add", "_-_": "@subtract", "_*_": "@multiply", "_/_": "@divide", "_%_": "@modulo", "-_": "@negate",
	"@in": "@within", "size": "@size", "int": "@int", "uint": "@int", "double": "number", "string": "text",
	"timestamp": "datetime", "duration": "@duration", "startsWith": "@startsWith", "endsWith": "@endsWith",
	"contains": "@contains", "matches": "@matches",
}

// rewrite replaces operators and number literals in the parsed tree, before
// types are checked.
func rewrite(parsed *ast.AST, source []rune) {
	factory := ast.NewExprFactory()
	next := ast.MaxID(parsed)
	newID := func(like int64) int64 {
		next++
		if r, ok := parsed.SourceInfo().GetOffsetRange(like); ok {
			parsed.SourceInfo().SetOffsetRange(next, r)
		}
		return next
	}
	ast.PostOrderVisit(parsed.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.LiteralKind:
			if _, ok := e.AsLiteral().(types.Double); !ok {
				return
			}
			if r, ok := parsed.SourceInfo().GetOffsetRange(e.ID()); ok {
				if text := numberAt(source, int(r.Start)); text != "" {
					e.SetKindCase(factory.NewCall(e.ID(), "@dec",
						factory.NewLiteral(newID(e.ID()), types.String(text))))
				}
			}
		case ast.CallKind:
			call := e.AsCall()
			args := call.Args()
			if len(args) > 0 && args[0].Kind() == ast.IdentKind && isAccumulator(args[0].AsIdent()) {
				return // map and filter gather their lists so; CEL does that without copying
			}
			if call.IsMemberFunction() {
				switch call.FunctionName() {
				case "startsWith", "endsWith", "contains", "matches", "size":
					args = append([]ast.Expr{call.Target()}, args...)
				default:
					return
				}
			}
			if call.FunctionName() == "_[_]" {
				if args[1].Kind() != ast.LiteralKind {
					e.SetKindCase(factory.NewCall(e.ID(), "@index", args...))
				}
				return
			}
			if call.FunctionName() == "at" && len(args) == 1 {
				args = append(args, factory.NewIdent(newID(e.ID()), evaluationVariable))
				e.SetKindCase(factory.NewCall(e.ID(), "at", args...))
				return
			}
			if name, ok := rewritten[call.FunctionName()]; ok {
				e.SetKindCase(factory.NewCall(e.ID(), name, args...))
			}
		}
	}))
}

var numberLiteral = lazy.Regexp(`^-?[0-9]*\.?[0-9]+(?:[eE][+-]?[0-9]+)?`)

// numberAt returns the number as the source wrote it, in JSON's grammar.
func numberAt(source []rune, offset int) string {
	if offset < 0 || offset >= len(source) {
		return ""
	}
	text := numberLiteral().FindString(string(source[offset:]))
	if strings.HasPrefix(text, ".") {
		text = "0" + text
	}
	if !document.IsNumber(text) {
		return ""
	}
	return text
}

var comparisons = map[string]bool{
	"@same": true, "@differ": true, "@less": true, "@less_or_same": true, "@more": true,
	"@more_or_same": true,
}

// remember notes what is needed later: the sides of a comparison for messages,
// and the kept names for vet.
func (c *Condition) remember(parsed *ast.AST) {
	root := parsed.Expr()
	if root.Kind() == ast.CallKind && comparisons[root.AsCall().FunctionName()] {
		for _, arg := range root.AsCall().Args() {
			c.ids = append(c.ids, arg.ID())
		}
	}
	ast.PostOrderVisit(root, ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.SelectKind {
			if operand := e.AsSelect().Operand(); operand.Kind() == ast.IdentKind && operand.AsIdent() == "kept" {
				c.refs = append(c.refs, e.AsSelect().FieldName())
			}
		}
	}))
}

// KeptNames lists the names that the condition asks for as kept.NAME.
func (c *Condition) KeptNames() []string { return c.refs }

var (
	undeclared    = lazy.Regexp(`undeclared reference to '([^']*)'`)
	singleEquals  = lazy.Regexp(`[^=!<>]=[^=]`)
	wordOperators = lazy.Regexp(`\b(and|or|not)\b`)
)

// celError puts CEL's messages into our words: those about syntax list the
// parser's tokens, which tell a tester nothing.
func celError(source string, issues *cel.Issues) error {
	first := issues.Errors()[0]
	offset := 0
	for i, line := range strings.SplitAfter(source, "\n") {
		if i+1 == first.Location.Line() {
			runes := []rune(line)
			offset += len(string(runes[:min(max(first.Location.Column(), 0), len(runes))]))
			break
		}
		offset += len(line)
	}
	e := &Error{Offset: offset, Message: first.Message}
	if m := undeclared().FindStringSubmatch(first.Message); m != nil {
		e.Message = fmt.Sprintf("%q is not known here", m[1])
		if strings.HasSuffix(source[:e.Offset], m[1]) {
			e.Offset -= len(m[1]) // a function is reported at its bracket
		}
		known := append(append([]string{}, ConditionRoots...), FunctionNames()...)
		e.Try = suggest.DidYouMean(m[1], known)
		if e.Try == "" {
			e.Try = "a condition begins with answer, reply, row, site or kept: kept." + m[1] +
				" for a kept value, answer." + m[1] + " for a field"
		}
		return e
	}
	if strings.Contains(first.Message, "Syntax error") {
		e.Message = "the condition cannot be read here"
		switch {
		case singleEquals().MatchString(source):
			e.Try = "equality is written =="
		case wordOperators().MatchString(source):
			e.Try = "write && for and, || for or, ! for not"
		case strings.Count(source, "(") != strings.Count(source, ")"):
			e.Try = "the brackets do not match"
		}
	}
	if strings.Contains(first.Message, "no matching overload") {
		e.Message = strings.ReplaceAll(strings.SplitN(first.Message, " applied to", 2)[0],
			"found no matching overload for", "there is no such use of")
	}
	return e
}

// Data is what a condition is judged on. Any part may be nil.
type Data struct {
	path.Roots
	Row, Site, Kept *document.Node
	Scope           value.Scope
}

func (d *Data) activation() map[string]any {
	b := &budget{costLimit, d.Answer, d.Shapeless}
	return map[string]any{
		"answer": b.wrap(d.Answer), "reply": b.wrap(d.Around()), "row": b.wrap(d.Row), "site": b.wrap(d.Site),
		"kept":             b.wrap(d.Kept),
		evaluationVariable: evaluation{nodeValue{budget: b}, d, map[string]*document.Node{}},
	}
}

// Judge evaluates the condition as a yes or no.
func (c *Condition) Judge(data *Data) Verdict {
	verdict := Verdict{Expected: c.Source}
	result, _, err := c.program.Eval(data.activation())
	switch {
	case err != nil:
		verdict.Got = "cannot be evaluated"
		verdict.Note, verdict.Unclear = evalError(err), true
	case result == types.True:
		verdict.Passed = true
	case result == types.False:
		verdict.Got = "condition is false"
		verdict.Note = c.explain(data)
	default:
		node, _ := unwrap(result)
		verdict.Got = node.Describe()
		verdict.Note, verdict.Unclear = "a condition must come to true or false", true
	}
	return verdict
}

// explain says what the two sides of a comparison came to.
func (c *Condition) explain(data *Data) string {
	if len(c.ids) != 2 {
		return ""
	}
	program, err := c.tracked()
	if err != nil {
		return ""
	}
	_, details, _ := program.Eval(data.activation())
	if details == nil || details.State() == nil {
		return ""
	}
	var sides []string
	for _, id := range c.ids {
		side, ok := details.State().Value(id)
		if !ok {
			return ""
		}
		node, err := unwrap(side)
		if err != nil {
			return ""
		}
		sides = append(sides, node.Describe())
	}
	return fmt.Sprintf("left is %s, right is %s", sides[0], sides[1])
}

// WorkOut evaluates the expression to a value.
func (c *Condition) WorkOut(data *Data) (*document.Node, error) {
	result, _, err := c.program.Eval(data.activation())
	if err != nil {
		return nil, errors.New(evalError(err))
	}
	node, err := unwrap(result)
	if err == nil && node == nil {
		err = errors.New("it comes to something that is not there")
	}
	return node, err
}

func evalError(err error) string {
	message := err.Error()
	if strings.Contains(message, errTooMany) {
		return "it takes too many steps"
	}
	if strings.Contains(message, "no such overload") {
		return "the kinds of its values do not go together"
	}
	if strings.Contains(message, "expected iterable type") {
		return "all, exists, filter and map go through a list, and this is none"
	}
	if key, ok := strings.CutPrefix(message, "no such key: "); ok {
		return "it has no " + key + ": it is a single value"
	}
	return message
}

// unwrap turns a result into a tree; what is absent gives nil.
func unwrap(result ref.Val) (*document.Node, error) {
	switch v := result.(type) {
	case nodeValue:
		return v.node, nil
	case decimalValue:
		return document.NewNumber(document.FormatDecimal(v.decimal)), nil
	case types.Bool:
		return document.NewBoolean(bool(v)), nil
	case types.Int:
		return document.NewNumber(fmt.Sprint(int64(v))), nil
	case types.Uint:
		return document.NewNumber(fmt.Sprint(uint64(v))), nil
	case types.Double:
		return document.NewNumber(fmt.Sprint(float64(v))), nil
	case types.String:
		return document.NewText(string(v)), nil
	case types.Null:
		return &document.Node{Kind: document.Null}, nil
	case types.Timestamp:
		return document.NewUntyped(formatMoment(v.Time)), nil
	case types.Duration:
		return document.NewUntyped(formatSpan(v.Duration)), nil
	}
	if items, ok := elements(result); ok {
		list := document.NewList()
		for _, item := range items {
			node, err := unwrap(item)
			if err != nil {
				return nil, err
			}
			if node == nil {
				node = &document.Node{Kind: document.Null}
			}
			list.AppendItems(node)
		}
		return list, nil
	}
	return nil, fmt.Errorf("a value of type %s cannot be kept", result.Type().TypeName())
}

// isAccumulator says whether a name is the one that CEL's macros gather results under.
func isAccumulator(name string) bool {
	return name == celparser.AccumulatorName || name == celparser.HiddenAccumulatorName
}
