package jsonpath

import (
	"regexp"
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

func (x exists) holds(e *evaluation, at *document.Node) bool { return len(x.query.nodes(e, at)) > 0 }

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
		return equal(left, right)
	case "!=":
		return !equal(left, right)
	case "<":
		return less(left, right)
	case ">":
		return less(right, left)
	case "<=":
		return less(left, right) || equal(left, right)
	}
	return less(right, left) || equal(left, right)
}

func equal(a, b *document.Node) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	if a.Kind != b.Kind {
		return false
	}
	switch a.Kind {
	case document.Null:
		return true
	case document.Number:
		x, okX := a.Decimal()
		y, okY := b.Decimal()
		return okX && okY && x.Cmp(y) == 0
	case document.List:
		if len(a.Items()) != len(b.Items()) {
			return false
		}
		for i := range a.Items() {
			if !equal(a.Items()[i], b.Items()[i]) {
				return false
			}
		}
		return true
	case document.Object:
		if len(a.Members()) != len(b.Members()) {
			return false
		}
		for _, m := range a.Members() {
			other := b.Get(m.Key)
			if other == nil || !equal(m.Value, other) {
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

// subquery is a query within a filter, from the root or from the current node.
type subquery struct {
	relative bool
	segments []segment
}

func (q *subquery) nodes(e *evaluation, at *document.Node) []Located {
	from := e.root
	if q.relative {
		from = at
	}
	return e.follow(q.segments, []Located{{"", from}})
}

func (q *subquery) value(e *evaluation, at *document.Node) *document.Node {
	if found := q.nodes(e, at); len(found) == 1 {
		return found[0].Node
	}
	return nil
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
		"length": {[]types{valueType}, valueType, func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
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
		}},
		"count": {[]types{nodesType}, valueType, func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
			return number(len(arguments[0].(*subquery).nodes(e, at)))
		}},
		"value": {[]types{nodesType}, valueType, func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
			return arguments[0].(*subquery).value(e, at)
		}},
		"match":  {[]types{valueType, valueType}, logicalType, expression(true)},
		"search": {[]types{valueType, valueType}, logicalType, expression(false)},
	}
}

// expression holds a text against an I-Regexp, as a whole or anywhere in it.
// What is no text or no I-Regexp gives false (2.4.6, 2.4.7).
func expression(whole bool) func(*evaluation, *document.Node, []operand) *document.Node {
	return func(e *evaluation, at *document.Node, arguments []operand) *document.Node {
		text, pattern := arguments[0].value(e, at), arguments[1].value(e, at)
		if text == nil || pattern == nil || text.Kind != document.Text || pattern.Kind != document.Text {
			return document.NewBoolean(false)
		}
		compiled := compiledRegexp(pattern.Text, whole)
		return document.NewBoolean(compiled != nil && compiled.MatchString(text.Text))
	}
}

type regexpKey struct {
	pattern string
	whole   bool
}

// regexps are those that were compiled, a bounded number of them.
var regexps struct {
	mutex sync.Mutex
	known map[regexpKey]*regexp.Regexp
}

func compiledRegexp(pattern string, whole bool) *regexp.Regexp {
	regexps.mutex.Lock()
	defer regexps.mutex.Unlock()
	key := regexpKey{pattern, whole}
	if found, ok := regexps.known[key]; ok {
		return found
	}
	if regexps.known == nil || len(regexps.known) > 1_000 {
		regexps.known = map[regexpKey]*regexp.Regexp{}
	}
	var compiled *regexp.Regexp
	if text, ok := fromIRegexp(pattern); ok {
		if whole {
			text = `^(?:` + text + `)$`
		}
		compiled, _ = regexp.Compile(text)
	}
	regexps.known[key] = compiled
	return compiled
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
