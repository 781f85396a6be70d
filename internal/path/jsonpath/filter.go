package jsonpath

import (
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"testbench/internal/document"
)

// logical is a condition of a filter.
type logical interface {
	holds(e *evaluation, at *document.Node) bool
}

type (
	anyOf []logical
	allOf []logical
	not   struct{ inner logical }
	// exists is the test that a query finds something.
	exists struct{ query *subquery }
	// truth is the result of a function that gives true or false.
	truth      struct{ call *call }
	comparison struct {
		sign        string
		left, right operand
	}
)

func (a anyOf) holds(e *evaluation, at *document.Node) bool {
	for _, one := range a {
		if one.holds(e, at) {
			return true
		}
	}
	return false
}

func (a allOf) holds(e *evaluation, at *document.Node) bool {
	for _, one := range a {
		if !one.holds(e, at) {
			return false
		}
	}
	return true
}

func (n not) holds(e *evaluation, at *document.Node) bool { return !n.inner.holds(e, at) }

func (x exists) holds(e *evaluation, at *document.Node) bool {
	found := false
	x.query.follow(e, at, func(*place) bool {
		found = true
		return false
	})
	return found
}

func (t truth) holds(e *evaluation, at *document.Node) bool {
	v := t.call.value(e, at)
	return v != nil && v.Text == "true"
}

// holds compares (2.3.5.2.2): nothing equals nothing, and only numbers with
// numbers and texts with texts have an order.
func (c *comparison) holds(e *evaluation, at *document.Node) bool {
	left, right := c.left.value(e, at), c.right.value(e, at)
	switch c.sign {
	case "==":
		return e.equal(left, right)
	case "!=":
		return !e.equal(left, right)
	case "<":
		return less(left, right)
	case ">":
		return less(right, left)
	case "<=":
		return less(left, right) || e.equal(left, right)
	}
	return less(right, left) || e.equal(left, right)
}

func (e *evaluation) equal(a, b *document.Node) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	if !e.spend(1 + min(len(a.Text), len(b.Text))/bytesToAStep) {
		return false
	}
	if a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case document.Null:
		return true
	case document.Number:
		if a.Text == b.Text {
			return true
		}
		e.spend(stepsToANumber)
		x, okX := a.Decimal()
		y, okY := b.Decimal()
		return okX && okY && x.Cmp(y) == 0
	case document.List:
		if len(a.Items()) != len(b.Items()) {
			return false
		}
		for i := range a.Items() {
			if !e.equal(a.Items()[i], b.Items()[i]) {
				return false
			}
		}
		return true
	case document.Object:
		if len(a.Members()) != len(b.Members()) {
			return false
		}
		others := make(map[string]*document.Node, len(b.Members()))
		for _, m := range b.Members() {
			others[m.Key] = m.Value
		}
		for _, m := range a.Members() {
			other := others[m.Key]
			if other == nil || !e.equal(m.Value, other) {
				return false
			}
		}
		return true
	}
	return a.Text == b.Text
}

func less(a, b *document.Node) bool {
	if a == nil || b == nil || a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case document.Number:
		x, okX := a.Decimal()
		y, okY := b.Decimal()
		return okX && okY && x.Cmp(y) < 0
	case document.Text:
		return a.Text < b.Text // by scalar values, which UTF-8 keeps in order
	}
	return false
}

// operand is what a comparison or a function takes. Its value is nil for Nothing.
type operand interface {
	value(e *evaluation, at *document.Node) *document.Node
}

type literal struct{ node *document.Node }

func (l literal) value(*evaluation, *document.Node) *document.Node { return l.node }

// What a query within a filter costs beside what it looks at, and two numbers that are compared.
const stepsToAQuery, stepsToANumber = 3, 4

// subquery is a query within a filter, from the root or from the current node.
type subquery struct {
	relative bool
	segments []segment
}

func (q *subquery) follow(e *evaluation, at *document.Node, visit visitor) {
	from := e.root
	if q.relative {
		from = at
	}
	if e.spend(stepsToAQuery) {
		e.follow(q.segments, &place{node: from}, visit)
	}
}

// value is the one node that is found; several are Nothing (2.4.8).
func (q *subquery) value(e *evaluation, at *document.Node) *document.Node {
	var only *document.Node
	q.follow(e, at, func(found *place) bool {
		if only != nil {
			only = nil
			return false
		}
		only = found.node
		return true
	})
	return only
}

type call struct {
	name      string
	function  function
	arguments []operand
}

func (c *call) value(e *evaluation, at *document.Node) *document.Node {
	return c.function.do(e, at, c.arguments)
}

// types are those of functions (2.4.1).
type types uint8

const (
	valueType types = iota
	logicalType
	nodesType
)

type function struct {
	takes  []types
	result types
	do     func(e *evaluation, at *document.Node, arguments []operand) *document.Node
}

// functions are those of sections 2.4.4 to 2.4.8.
var functions map[string]function

func init() {
	number := func(n int) *document.Node { return document.NewNumber(strconv.Itoa(n)) }
	functions = map[string]function{
		"length": {
			[]types{valueType},
			valueType,
			func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
				v := arguments[0].value(e, at)
				switch {
				case v == nil:
					return nil
				case v.Kind == document.Text || v.Kind == document.Untyped:
					return number(utf8.RuneCountInString(v.Text))
				case v.Kind == document.List:
					return number(len(v.Items()))
				case v.Kind == document.Object:
					return number(len(v.Members()))
				}
				return nil
			},
		},
		"count": {
			[]types{nodesType},
			valueType,
			func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
				count := 0
				arguments[0].(*subquery).follow(e, at, func(*place) bool {
					count++
					return true
				})
				return number(count)
			},
		},
		"value": {
			[]types{nodesType},
			valueType,
			func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
				return arguments[0].(*subquery).value(e, at)
			},
		},
		"match":  {[]types{valueType, valueType}, logicalType, expression(true)},
		"search": {[]types{valueType, valueType}, logicalType, expression(false)},
	}
}

// expression holds a text against an I-Regexp, as a whole or anywhere in it.
// What is not text or no I-Regexp gives false (2.4.6, 2.4.7).
func expression(whole bool) func(*evaluation, *document.Node, []operand) *document.Node {
	return func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
		text, pattern := arguments[0].value(e, at), arguments[1].value(e, at)
		if text == nil || pattern == nil || text.Kind != document.Text || pattern.Kind != document.Text {
			return document.NewBoolean(false)
		}
		compiled := e.compiledRegexp(pattern.Text, whole)
		if compiled == nil || !e.spend(1+compiled.states*(1+len(text.Text))/(bytesToAStep*bytesToAStep)) {
			return document.NewBoolean(false)
		}
		return document.NewBoolean(compiled.MatchString(text.Text))
	}
}

type regexpKey struct {
	pattern string
	whole   bool
}

// sizedRegexp is an expression with the number of its states: each is tried at each
// character, at worst.
type sizedRegexp struct {
	*regexp.Regexp
	states int
}

// regexps are those that were compiled, a bounded number of them; nil for what is none.
var regexps struct {
	mutex sync.Mutex
	known map[regexpKey]*sizedRegexp
}

// stepsToCompile is what it costs to compile an expression, and each byte of it.
const stepsToCompile, stepsToCompileAByte = 1_000, 20

func (e *evaluation) compiledRegexp(pattern string, whole bool) *sizedRegexp {
	regexps.mutex.Lock()
	defer regexps.mutex.Unlock()
	key := regexpKey{pattern, whole}
	if found, ok := regexps.known[key]; ok {
		return found
	}
	if !e.spend(stepsToCompile + stepsToCompileAByte*len(pattern)) {
		return nil
	}
	if regexps.known == nil || len(regexps.known) > 1_000 {
		regexps.known = map[regexpKey]*sizedRegexp{}
	}
	var compiled *sizedRegexp
	if text, ok := fromIRegexp(pattern); ok {
		if whole {
			text = `^(?:` + text + `)$`
		}
		compiled = compileRegexp(text)
	}
	regexps.known[key] = compiled
	return compiled
}

func compileRegexp(text string) *sizedRegexp {
	parsed, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil
	}
	program, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return nil
	}
	compiled, err := regexp.Compile(text)
	if err != nil {
		return nil
	}
	return &sizedRegexp{compiled, len(program.Inst)}
}

// fromIRegexp writes an I-Regexp (RFC 9485) as the regexp package reads it: ^ and $
// stand for themselves, and the dot does not match line ends (section 5.1).
func fromIRegexp(pattern string) (string, bool) {
	var out strings.Builder
	inClass := false
	for i := 0; i < len(pattern); {
		r, size := utf8.DecodeRuneInString(pattern[i:])
		i += size
		switch {
		case r == '\\':
			if i >= len(pattern) {
				return "", false
			}
			next, size := utf8.DecodeRuneInString(pattern[i:])
			i += size
			switch {
			case next == 'p' || next == 'P':
				end := strings.IndexByte(pattern[i:], '}')
				if end < 0 || pattern[i] != '{' {
					return "", false
				}
				out.WriteString(`\` + string(next) + pattern[i:i+end+1])
				i += end + 1
			case strings.ContainsRune(`nrt()*+-.?[\]^{|}`, next):
				out.WriteString(`\` + string(next))
			default: // \d, \w, \b and back references are none of I-Regexp
				return "", false
			}
		case inClass:
			if r == ']' {
				inClass = false
			}
			if r == '[' {
				return "", false
			}
			out.WriteRune(r)
		case r == '[':
			inClass = true
			out.WriteRune(r)
			if strings.HasPrefix(pattern[i:], "^") {
				out.WriteByte('^')
				i++
			}
		case r == '.':
			out.WriteString(`[^\n\r]`)
		case r == '^' || r == '$':
			out.WriteString(`\` + string(r))
		case r == '?' && i >= 2 && strings.ContainsRune("*+?}", rune(pattern[i-2])):
			return "", false // nothing is lazy in I-Regexp
		case r == '(' && strings.HasPrefix(pattern[i:], "?"):
			return "", false
		default:
			out.WriteRune(r)
		}
	}
	return out.String(), !inClass
}
