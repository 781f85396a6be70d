package ledger

import (
	"fmt"
	"math/big"
	"strings"
	"testbench/internal/lazy"
)

// parseFilter reads a $filter: comparisons, and, or, not, arithmetic, functions,
// any and all. It is what a small service would have, not all that there is.
func parseFilter(text string) (func(entity) (any, error), error) {
	p := &filterParser{words: filterWord().FindAllString(text, -1)}
	if joined := strings.Join(p.words, ""); strings.ReplaceAll(joined, " ", "") != strings.ReplaceAll(text, " ", "") {
		return nil, fmt.Errorf("something in %q has no meaning", text)
	}
	e, err := p.either()
	if err != nil {
		return nil, err
	}
	if p.at < len(p.words) {
		return nil, fmt.Errorf("%q stands where nothing is expected", p.words[p.at])
	}
	return func(one entity) (any, error) { return e(scope{"": one}) }, nil
}

var filterWord = lazy.Regexp(
	`(?:datetimeoffset|datetime|guid|time|[\w.]+)?'(?:[^']|'')*'|-?[0-9][\w:.+-]*|[\w$][\w.$/]*|[(),:]`)

// scope are the entity and the variables of any and all.
type scope map[string]any

type expression func(scope) (any, error)

type filterParser struct {
	words []string
	at    int
}

func (p *filterParser) next() string {
	if p.at < len(p.words) {
		return p.words[p.at]
	}
	return ""
}

func (p *filterParser) take(word string) bool {
	if p.next() == word {
		p.at++
		return true
	}
	return false
}

func (p *filterParser) either() (expression, error) {
	return p.joined("or", p.both, func(a, b any) any { return a == true || b == true })
}

func (p *filterParser) both() (expression, error) {
	return p.joined("and", p.compared, func(a, b any) any { return a == true && b == true })
}

func (p *filterParser) joined(word string, inner func() (expression, error),
	join func(a, b any) any,
) (expression, error) {
	left, err := inner()
	for err == nil && p.take(word) {
		var right expression
		if right, err = inner(); err != nil {
			break
		}
		before := left
		left = func(s scope) (any, error) {
			a, err := before(s)
			if err != nil {
				return nil, err
			}
			b, err := right(s)
			return join(a, b), err
		}
	}
	return left, err
}

func (p *filterParser) compared() (expression, error) {
	if p.take("not") {
		inner, err := p.compared()
		if err != nil {
			return nil, err
		}
		return func(s scope) (any, error) {
			v, err := inner(s)
			return v != true, err
		}, nil
	}
	left, err := p.value()
	if err != nil {
		return nil, err
	}
	operator := p.next()
	holds, ok := map[string]func(n int) bool{
		"eq": func(n int) bool { return n == 0 }, "ne": func(n int) bool { return n != 0 }, "gt": func(n int) bool {
			return n > 0
		},
		"ge": func(n int) bool { return n >= 0 }, "lt": func(n int) bool { return n < 0 }, "le": func(n int) bool {
			return n <= 0
		},
	}[operator]
	if !ok {
		return left, nil
	}
	p.at++
	right, err := p.value()
	if err != nil {
		return nil, err
	}
	return func(s scope) (any, error) {
		a, err := left(s)
		if err != nil {
			return nil, err
		}
		b, err := right(s)
		if a == nil || b == nil { // null is equal to null, and compares with nothing else
			return operator == "eq" && a == b || operator == "ne" && a != b, err
		}
		return holds(compareValues(a, b)), err
	}, nil
}

func (p *filterParser) value() (expression, error) {
	word := p.next()
	p.at++
	constant := func(v any) (expression, error) { return func(scope) (any, error) { return v, nil }, nil }
	switch {
	case word == "":
		return nil, fmt.Errorf("the filter ends too early")
	case word == "(":
		inner, err := p.either()
		if err == nil && !p.take(")") {
			err = fmt.Errorf("a parenthesis is not closed")
		}
		return inner, err
	case strings.HasSuffix(word, "'"):
		prefix, quoted, _ := strings.Cut(word, "'")
		text := strings.ReplaceAll(strings.TrimSuffix(quoted, "'"), "''", "'")
		if prefix == "datetime" || prefix == "datetimeoffset" {
			text = strings.TrimSuffix(text, "T00:00:00")
		}
		return constant(text)
	case word == "true" || word == "false":
		return constant(word == "true")
	case word == "null":
		return constant(nil)
	case word[0] == '-' || word[0] >= '0' && word[0] <= '9':
		number := strings.TrimRight(word, "MmLlDdFf")
		if r, ok := new(big.Rat).SetString(number); ok {
			return constant(r)
		}
		return constant(word) // a date
	case p.next() == "(":
		return p.call(word)
	}
	return func(s scope) (any, error) { return s.find(word) }, nil
}

// find follows a path of names.
func (s scope) find(path string) (any, error) {
	names := strings.Split(path, "/")
	at := s[""]
	if v, ok := s[names[0]]; ok {
		at, names = v, names[1:]
	}
	for _, name := range names {
		one, ok := at.(entity)
		if !ok {
			return nil, nil
		}
		v, has := one[name]
		if !has {
			return nil, fmt.Errorf("there is no property %s", name)
		}
		at = v
	}
	return at, nil
}

func (p *filterParser) call(name string) (expression, error) {
	p.at++ // the parenthesis
	if path, ok := strings.CutSuffix(name, "/any"); ok {
		return p.every(path, false)
	}
	if path, ok := strings.CutSuffix(name, "/all"); ok {
		return p.every(path, true)
	}
	var arguments []expression
	for !p.take(")") {
		argument, err := p.either()
		if err != nil {
			return nil, err
		}
		arguments = append(arguments, argument)
		if !p.take(",") && p.next() != ")" {
			return nil, fmt.Errorf("the call of %s is not closed", name)
		}
	}
	do, ok := filterFunctions[name]
	if !ok {
		return nil, fmt.Errorf("there is no function %s", name)
	}
	if len(arguments) != do.arguments {
		return nil, fmt.Errorf("%s takes %d arguments", name, do.arguments)
	}
	return func(s scope) (any, error) {
		texts := make([]string, len(arguments))
		for i, a := range arguments {
			v, err := a(s)
			if err != nil {
				return nil, err
			}
			if v == nil {
				return nil, nil
			}
			texts[i] = fmt.Sprint(v)
		}
		return do.do(texts), nil
	}, nil
}

type filterFunction struct {
	arguments int
	do        func(texts []string) any
}

var filterFunctions = map[string]filterFunction{
	"contains":    {2, func(t []string) any { return strings.Contains(t[0], t[1]) }},
	"substringof": {2, func(t []string) any { return strings.Contains(t[1], t[0]) }},
	"startswith":  {2, func(t []string) any { return strings.HasPrefix(t[0], t[1]) }},
	"endswith":    {2, func(t []string) any { return strings.HasSuffix(t[0], t[1]) }},
	"tolower":     {1, func(t []string) any { return strings.ToLower(t[0]) }},
	"toupper":     {1, func(t []string) any { return strings.ToUpper(t[0]) }},
	"length":      {1, func(t []string) any { return big.NewRat(int64(len([]rune(t[0]))), 1) }},
	"year":        {1, func(t []string) any { r, _ := new(big.Rat).SetString(t[0][:4]); return r }},
}

// every holds a condition against the items of a list.
func (p *filterParser) every(path string, all bool) (expression, error) {
	variable := p.next()
	p.at++
	if !p.take(":") {
		return nil, fmt.Errorf("a variable and a colon are expected")
	}
	inner, err := p.either()
	if err != nil {
		return nil, err
	}
	if !p.take(")") {
		return nil, fmt.Errorf("a parenthesis is not closed")
	}
	return func(s scope) (any, error) {
		found, err := s.find(path)
		if err != nil {
			return nil, err
		}
		for _, one := range rowsOf(found) {
			with := scope{"": s[""], variable: one}
			v, err := inner(with)
			if err != nil {
				return nil, err
			}
			if (v == true) != all {
				return !all, nil
			}
		}
		return all, nil
	}, nil
}

// compareValues orders numbers as numbers, and everything else as texts.
func compareValues(a, b any) int {
	x, isNumber := rat(a)
	y, isToo := rat(b)
	if isNumber && isToo {
		return x.Cmp(y)
	}
	return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

func rat(v any) (*big.Rat, bool) {
	switch v := v.(type) {
	case *big.Rat:
		return v, true
	case fmt.Stringer: // json.Number
		return new(big.Rat).SetString(v.String())
	}
	return nil, false
}
