package jsonschema

import (
	"fmt"
	"regexp/syntax"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dlclark/regexp2"
	js "github.com/santhosh-tekuri/jsonschema/v6"
)

// pattern is a regular expression of ECMA-262, as JSON Schema asks for (2020-12,
// 6.4). It goes back and forth, so its time is bounded.
type pattern struct {
	source   string
	compiled *regexp2.Regexp
}

func compilePattern(source string) (js.Regexp, error) {
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
	return &pattern{source, compiled}, nil
}

// MatchString says whether the expression is found in a text. One that takes too
// long counts as not found.
func (p *pattern) MatchString(text string) bool {
	found, err := p.compiled.MatchString(text)
	return err == nil && found
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
			compiled.MatchString(text) {
			return text, true
		}
	}
	return "", false
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
