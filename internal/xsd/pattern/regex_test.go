package pattern

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPattern(t *testing.T) {
	for _, c := range []struct{ pattern, holds, falls string }{
		{`L-\d{4}`, "L-2201", "L-22011,xL-2201,L-220"},
		{`[A-Z]{2,3}`, "AB,ABC", "A,ABCD"},
		{`a|b`, "a,b", "ab,"},
		{`(ab){2,}c?`, "abab,ababab,ababc", "ab,abc"},
		{`[a-z-[aeiou]]+`, "bcd", "abc"},
		{`[^a-z-[0-9]]`, "A,-", "a,5"},
		{`[a-z-[b-y-[m]]]+`, "amz", "b"},
		{`[\d-[5]]`, "4", "5"},
		{`[+\-]?\d+`, "+1,-1,1", "*1"},
		{`[a\-z]`, "a,-,z", "b"},
		{`[-a]`, "-,a", "b"},
		{`[a-]`, "-,a", "b"},
		{`^a$`, "^a$", "a"},
		{`\i\c*`, "a:b,_x,ö1", "1a,-"},
		{`\I`, "1,-", "a"},
		{`\p{Lu}\p{Ll}+`, "Honey,Öl", "honey"},
		{`\P{L}`, "1", "a"},
		{`\p{IsBasicLatin}+`, "abc", "ö"},
		{`\P{IsGreek}`, "a", "α"},
		{`\w+`, "abc1,ö", "a b,a.b"},
		{`\s`, " ", "a"},
		{`.`, "a,ö,𝄞", "ab"},
		{`.*`, ",a", "a\nb"},
		{`\.`, ".", "a"},
		{`(a?)*`, ",a,aa", "b"},
		{`a{0}`, "", "a"},
		{`[0-9]{1500}`, strings.Repeat("7", 1500), strings.Repeat("7", 1499)},
		{`x{0,2500}`, "," + strings.Repeat("x", 2500), strings.Repeat("x", 2501)},
		{`([a-z]{100}){20}`, strings.Repeat("q", 2000), strings.Repeat("q", 1999)},
		{`[\w.]+@[\w.]+`, "a.b@c.example", "a@"},
		{`\-\[\]`, "-[]", "-"},
		{`a\|b`, "a|b", "a"},
		{`\p{Nd}`, "5,५", "V"},
		{`[&lt;]`, "l", "x"},
	} {
		p, err := Compile(c.pattern)
		require.NoError(t, err, c.pattern)
		for _, value := range strings.Split(c.holds, ",") {
			assert.True(t, p.Match(value), "%s holds %q", c.pattern, value)
		}
		for _, value := range strings.Split(c.falls, ",") {
			assert.False(t, p.Match(value), "%s does not hold %q", c.pattern, value)
		}
	}
}

func TestPatternMistakes(t *testing.T) {
	for pattern, want := range map[string]string{
		`(a`:                     "at character 3 of the pattern: a ) is missing",
		`a)`:                     `at character 2 of the pattern: ")" closes nothing`,
		`[a`:                     "at character 3 of the pattern: [ is not closed",
		`[]`:                     `at character 2 of the pattern: [] is empty; write \] for the character`,
		`*a`:                     `at character 1 of the pattern: there is nothing before '*' to repeat`,
		`a**`:                    `at character 3 of the pattern: there is nothing before '*' to repeat`,
		`a{2,1}`:                 "at character 2 of the pattern: {2,1} is not a number of repetitions",
		`a{x}`:                   "at character 2 of the pattern: {x} is not a number of repetitions",
		`[z-a]`:                  "at character 5 of the pattern: the range z-a runs backwards",
		`[+--]`:                  `at character 4 of the pattern: a range cannot end with -; write \- for the character`,
		`\d\b`:                   `at character 4 of the pattern: \b means nothing in a pattern of XML Schema`,
		`(?:a)`:                  `at character 2 of the pattern: there is nothing before '?' to repeat`,
		`\p{Xx}`:                 `at character 3 of the pattern: there is no category Xx in Unicode`,
		`\p{IsHoney}`:            `at character 3 of the pattern: there is no block Honey in Unicode`,
		`\`:                      "at character 2 of the pattern: nothing follows the backslash",
		`]`:                      `at character 1 of the pattern: ']' must be written \]`,
		`((a{999}){999}){999}`:   "the pattern is too large: its repetitions come to more than 200000 characters",
		strings.Repeat("(", 300): "at character 252 of the pattern: it is nested deeper than 250",
	} {
		_, err := Compile(pattern)
		assert.EqualError(t, err, want, pattern)
	}
}

func FuzzPattern(f *testing.F) {
	f.Add(`[a-z-[aeiou]]{2,3}|\p{Lu}`, "bc")
	f.Add(`(\i\c*)?[^\d]`, "a1")
	f.Fuzz(func(t *testing.T, pattern, value string) {
		if len(pattern) > 100 {
			return
		}
		if p, err := Compile(pattern); err == nil {
			p.Match(value)
			if sample, ok := p.Sample(0, -1); ok {
				require.True(t, p.Match(sample), "%q does not hold its own sample %q", pattern, sample)
			}
		}
	})
}

// Runs match what the expression matches, where they say so.
func TestRuns(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	pieces := []string{"[a-c]", "b", `\d`, "[^b]", "[b-d1]", "ö", `[\-.]`}
	counts := []string{"", "", "?", "*", "+", "{2}", "{1,2}", "{0,3}", "{2,}"}
	known, inRuns := 0, 0
	for range 2000 {
		source := ""
		for range 1 + random.IntN(4) {
			source += pieces[random.IntN(len(pieces))] + counts[random.IntN(len(counts))]
		}
		p, err := Compile(source)
		require.NoError(t, err, source)
		if p.runs == nil {
			continue
		}
		inRuns++
		for range 50 {
			value := ""
			for range random.IntN(7) {
				value += string([]rune("abbcd12-.ö")[random.IntN(10)])
			}
			matches, isKnown := matchRuns(p.runs, []byte(value))
			if isKnown {
				known++
				require.Equal(t, p.matcher.MatchString(value), matches, "%s of %q", source, value)
			}
			require.Equal(t, p.matcher.MatchString(value), p.MatchBytes([]byte(value)), "%s of %q", source, value)
		}
	}
	assert.Greater(t, inRuns, 500)
	assert.Greater(t, known, 10_000)
}
