package jsonschema

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"testbench/internal/lazy"
	"time"
	"unicode/utf8"

	"github.com/dlclark/regexp2"
)

// pattern is a regular expression of ECMA-262, as JSON Schema asks for (2020-12, 6.4). One that Go's own reads alike
// takes linear time; others, with what looks ahead or back, are tried one way after the other, and their time is
// bounded.
type pattern struct {
	source string
	linear *regexp.Regexp // nil where only tried is right
	tried  *regexp2.Regexp
}

func compilePattern(source string) (*pattern, error) {
	if alike, ok := inGo(source); ok {
		if compiled, err := regexp.Compile(alike); err == nil {
			return &pattern{source: source, linear: compiled}, nil
		}
	}
	if anchor := foreignEscape().FindString(source); anchor != "" {
		return nil, fmt.Errorf(`the pattern %s holds %s, which ECMA-262 does not know; it has ^ and $`, source,
			anchor[len(anchor)-2:])
	}
	compiled, err := regexp2.Compile(source, regexp2.ECMAScript|regexp2.Unicode)
	if err != nil {
		// \p{L} and the like are of the u flag, which the option above does not know.
		compiled, err = regexp2.Compile(source, regexp2.None)
	}
	if err != nil {
		return nil, fmt.Errorf("the pattern %s is not a regular expression: %s", source,
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	compiled.MatchTimeout = time.Second
	return &pattern{source: source, tried: compiled}, nil
}

// foreignEscape finds the anchors of other languages.
var foreignEscape = lazy.Regexp(`^(?:[^\\]|\\[^AZzG])*\\[AZzG]`)

// What the classes and the dot of ECMA-262 hold (22.2.2.9), as Go writes it.
const (
	spacesOfECMA   = `\t\n\v\f\r \x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}\x{feff}`
	lineEndsOfECMA = `\n\r\x{2028}\x{2029}`
)

// inGo writes an expression of ECMA-262 as Go reads it; ok is false where it holds what Go does not know, or knows as
// something else.
func inGo(source string) (alike string, ok bool) {
	var out strings.Builder
	isClass := false
	for at := 0; at < len(source); at++ {
		switch c := source[at]; {
		case c == '\\':
			if at++; at == len(source) {
				return "", false
			}
			switch c := source[at]; {
			case c == 's' && isClass:
				out.WriteString(spacesOfECMA)
			case c == 's':
				out.WriteString("[" + spacesOfECMA + "]")
			case c == 'S' && !isClass:
				out.WriteString("[^" + spacesOfECMA + "]")
			case strings.IndexByte(`dDwWtnrfv^$\.*+?()[]{}|/-`, c) >= 0, (c == 'b' || c == 'B') && !isClass,
				(c == 'p' || c == 'P') && strings.HasPrefix(source[at+1:], "{"):
				out.WriteString(source[at-1 : at+1])
			default:
				return "", false
			}
		case isClass:
			isClass = c != ']'
			if c == '[' {
				out.WriteByte('\\') // Go knows classes by names in it
			}
			out.WriteByte(c)
		case c == '[':
			if isClass = true; strings.HasPrefix(source[at+1:], "]") || strings.HasPrefix(source[at+1:], "^]") {
				return "", false // an empty class, which Go does not know
			}
			out.WriteByte(c)
		case c == '(' && strings.HasPrefix(source[at+1:], "?") && !strings.HasPrefix(source[at+1:], "?:"):
			return "", false
		case c == '.':
			out.WriteString("[^" + lineEndsOfECMA + "]")
		default:
			out.WriteByte(c)
		}
	}
	return out.String(), !isClass
}

// isIn says whether the expression is found in a text; an error is that this takes too long.
func (p *pattern) isIn(text string) (bool, error) {
	if p.linear != nil {
		return p.linear.MatchString(text), nil
	}
	found, err := p.tried.MatchString(text)
	if err != nil {
		return false, fmt.Errorf("the pattern %s takes too long", p.source)
	}
	return found, nil
}

func (p *pattern) String() string { return p.source }

// patternSample makes a text that an expression is found in, "" where none is to
// be had simply.
func patternSample(source string, least, most int) (string, bool) {
	parsed, err := syntax.Parse(source, syntax.Perl)
	if err != nil {
		return "", false
	}
	compiled, err := compilePattern(source)
	if err != nil {
		return "", false
	}
	for extra := range 40 {
		s := &patternSampler{extra: extra, left: 5_000}
		s.write(parsed.Simplify())
		text := string(s.out)
		if length := utf8.RuneCountInString(text); length >= least && (most < 0 || length <= most) &&
			isFound(compiled, text) {
			return text, true
		}
	}
	return "", false
}

// isFound says whether an expression is found in a text, as far as that can be told in time.
func isFound(p *pattern, text string) bool {
	found, err := p.isIn(text)
	return err == nil && found
}

type patternSampler struct {
	out   []rune
	extra int // how often what may be repeated is repeated beyond its least
	left  int
}

func (s *patternSampler) write(re *syntax.Regexp) {
	if s.left--; s.left < 0 {
		return
	}
	repeat := func(least, most int) {
		times := least + s.extra
		if most >= 0 {
			times = min(times, most)
		}
		for range times {
			s.write(re.Sub[0])
		}
	}
	switch re.Op {
	case syntax.OpLiteral:
		s.out = append(s.out, re.Rune...)
	case syntax.OpCharClass:
		s.out = append(s.out, friendly(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		s.out = append(s.out, 'a')
	case syntax.OpConcat, syntax.OpCapture:
		for _, sub := range re.Sub {
			s.write(sub)
		}
	case syntax.OpAlternate:
		s.write(re.Sub[0])
	case syntax.OpStar:
		repeat(0, -1)
	case syntax.OpPlus:
		repeat(1, -1)
	case syntax.OpQuest:
		repeat(0, 1)
	case syntax.OpRepeat:
		repeat(re.Min, re.Max)
	}
}

// friendly chooses a character of a class that reads well.
func friendly(ranges []rune) rune {
	for _, expected := range "aA0b1" {
		for i := 0; i+1 < len(ranges); i += 2 {
			if expected >= ranges[i] && expected <= ranges[i+1] {
				return expected
			}
		}
	}
	for i := 0; i+1 < len(ranges); i += 2 {
		for c := max(ranges[i], '!'); c <= ranges[i+1] && c < 0x7f; c++ {
			return c
		}
	}
	if len(ranges) > 0 {
		return ranges[0]
	}
	return 'a'
}
