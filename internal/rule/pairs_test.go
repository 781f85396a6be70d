package rule_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/rule"
)

// pairs has for each rule word a rule with values in every place where one can stand, an
// answer for which it must pass, and one for which it must fail.
var pairs = []struct{ word, rule, pass, fail string }{
	{"equals", "equals ${a}", "3", "4"},
	{"over", "over ${a}", "4", "3"},
	{"under", "under ${b}", "6", "7"},
	{"at least", "at least ${a}", "3", "2"},
	{"at most", "at most ${b}", "7", "8"},
	{"between", "between ${a} and ${b}", "7", "8"},
	{"between", "between ${a} and ${b}", "3", "2"},
	{"between", "between ${longer} and ${b}", "5", "4"},
	{"about", "about ${a} within ${b}", "10", "11"},
	{"about", "about ${b} within ${a}", "10", "11"},
	{"about", "about ${b} within ${percent} %", "10.5", "10.6"},
	{"one of", "one of ${a} or ${b}", "7", "5"},
	{"one of", "one of ${a} or ${b} or ${longer}", "5", "4"},
	{"one of", `one of "${word}" or "${other}"`, `"north or south"`, `"north"`},
	{"contains", "contains ${word}", `"from east"`, `"from west"`},
	{"contains", "contains ${a}", `[1, 3]`, `[1, 33]`},
	{"starts with", "starts with ${word}", `"eastern"`, `"from east"`},
	{"ends with", "ends with ${word}", `"from east"`, `"eastern"`},
	{"matches", "matches ${word}-${a}.*", `"east-3b"`, `"east-7b"`},
	{"is", "is integer", "3", "3.5"},
	{"is", "is not empty", `"a"`, `""`},
	{"is", "is not null", `"a"`, `null`},
	{"is", "is decimal 2", "3.55", "3.555"},
	{"same as", "same as twins[k=${a}].v", "9", "8"},
	{"count", "count ${a}", "[1, 2, 3]", "[1, 2]"},
	{"count", "count between ${a} and ${b}", "[1, 2, 3]", "[1, 2]"},
	{"count", "count 3", "[1, 2, 3]", "[1, 2]"},
	{"length", "length ${a}", `"abc"`, `"ab"`},
	{"length", "length between ${a} and ${b}", `"abcdefg"`, `"abcdefgh"`},
	{"not", "not between ${a} and ${b}", "8", "7"},
	{"not", "not one of ${a} or ${b}", "5", "7"},
	{"not", "not over ${a}", "3", `"north"`},
	{"not", "not all over ${a}", "[3, 4]", `["north"]`},
	{"not", "not contains ${word}", `"west"`, `{"a": 1}`},
	{"all", "all between ${a} and ${b}", "[3, 7]", "[3, 8]"},
	{"some", "some between ${a} and ${b}", "[1, 7]", "[1, 8]"},
	{"some", "some over ${a}", `["x", 4]`, `["x", 3]`},
	{"optional", "optional between ${a} and ${b}", "nothing", "8"},
	{"null or", "null or between ${a} and ${b}", "null", "8"},
	{"null or", "optional null or over ${a}", "nothing", "2"},
	{"if any", "if any over ${a}", "4", "nothing"},
}

func TestEachRuleWordCanPassAndFail(t *testing.T) {
	values := scope{"a": "3", "b": "7", "longer": "5", "percent": "50", "word": "east", "other": "north or south"}
	seen := map[string]bool{}
	for _, c := range pairs {
		seen[c.word] = true
		t.Run(c.rule, func(t *testing.T) {
			parsed, err := rule.Parse(c.rule, false)
			require.NoError(t, err)
			for answer, want := range map[string]bool{c.pass: true, c.fail: false} {
				text := `{"x": ` + answer + `, "twins": [{"k": 1, "v": 8}, {"k": 3, "v": 9}]}`
				if answer == "nothing" {
					text = "{}"
				}
				found, roots := find(t, text, "x")
				verdict, err := parsed.Judge(found, roots, values)
				require.NoError(t, err)
				assert.Equal(t, want, verdict.Passed, "%s: %+v", text, verdict)
			}
		})
	}
	for _, word := range rule.Words {
		assert.True(t, seen[word], "the rule word %q has no pair", word)
	}
}

// Rules that are joined hold and fall as their words say, also one within another.
func TestJoinedRules(t *testing.T) {
	one := func(source string) *rule.Rule {
		parsed, err := rule.Parse(source, false)
		require.NoError(t, err)
		return parsed
	}
	between := rule.AllOf([]*rule.Rule{one("over 1"), one("under 3")})
	for name, c := range map[string]struct {
		rule   *rule.Rule
		passes []string
		fails  []string
	}{
		"all of": {between, []string{"2", "1.5"}, []string{"1", "3", `"x"`}},
		"any of": {
			rule.AnyOf([]*rule.Rule{one("1"), one("over 8")}),
			[]string{"1", "9"},
			[]string{"8", "2"},
		},
		"all of within any of": {
			rule.AnyOf([]*rule.Rule{one("7"), between}),
			[]string{"7", "2"},
			[]string{"1", "3", "8"},
		},
		"any of within all of": {rule.AllOf([]*rule.Rule{
			one("under 9"),
			rule.AnyOf([]*rule.Rule{one("over 7"), one("1")}),
		}), []string{"8", "1"}, []string{"9", "7", "2"}},
		"not of all of":         {rule.Prefixed("not", between), []string{"1", "3"}, []string{"2"}},
		"all of them in a list": {rule.Prefixed("all", between), []string{"[2, 1.5]"}, []string{"[2, 3]"}},
		"some of them":          {rule.Prefixed("some", between), []string{"[9, 2]"}, []string{"[9, 3]"}},
	} {
		t.Run(name, func(t *testing.T) {
			for want, answers := range map[bool][]string{true: c.passes, false: c.fails} {
				for _, answer := range answers {
					found, roots := find(t, `{"x": `+answer+`}`, "x")
					verdict, err := c.rule.Judge(found, roots, scope{})
					require.NoError(t, err)
					assert.Equal(t, want, verdict.Passed, "%s: %+v", answer, verdict)
				}
			}
		})
	}
}

// A rule is shown with its values, whatever these look like.
func TestFilledInOnce(t *testing.T) {
	parsed, err := rule.Parse("between ${a} and ${b}", false)
	require.NoError(t, err)
	found, roots := find(t, `{"x": 5}`, "x")
	verdict, err := parsed.Judge(found, roots, scope{"a": "${b}", "b": "9"})
	require.NoError(t, err)
	assert.Equal(t, "between ${b} and 9", verdict.Expected)
}

func TestRulesForWhatHasAnOrder(t *testing.T) {
	for _, c := range []struct {
		rule  string
		order rule.Order
		wrong string
	}{
		{"under 800 ms", rule.Durations, ""},
		{"between 5 ms and 1 s", rule.Durations, ""},
		{"under ${limit}", rule.Durations, ""},
		{"under 500", rule.Durations, "500 has no unit; did you mean 500 ms, or 500 s?"},
		{"not over 500", rule.Durations, "500 has no unit; did you mean 500 ms, or 500 s?"},
		{"under 20 kB", rule.Durations, "a duration cannot be compared with a size"},
		{"500 ms", rule.Durations, "no two durations are equal to the digit; did you mean `under 500 ms`?"},
		{"fast", rule.Durations, "fast is not a duration"},
		{"under 20 kB", rule.Sizes, ""},
		{"under 20", rule.Sizes, ""},
		{"under 20 s", rule.Sizes, "a size cannot be compared with a duration"},
		{"at least 5", rule.Numbers, ""},
		{"at least 5 s", rule.Numbers, "a number cannot be compared with a duration"},
	} {
		t.Run(c.rule+" for "+string(c.order), func(t *testing.T) {
			parsed, err := rule.Parse(c.rule, false)
			require.NoError(t, err)
			if err = parsed.Suits(c.order); c.wrong == "" {
				assert.NoError(t, err)
			} else {
				assert.EqualError(t, err, c.wrong)
			}
		})
	}
}

func TestNullIsARule(t *testing.T) {
	parsed, err := rule.Parse("null", false)
	require.NoError(t, err)
	for text, want := range map[string]bool{"null": true, `"null"`: false} {
		node, err := document.ReadJSON([]byte(`{"x": ` + text + `}`))
		require.NoError(t, err)
		found, roots := find(t, document.WriteJSON(node, document.Style{}), "x")
		verdict, err := parsed.Judge(found, roots, lookup)
		require.NoError(t, err)
		assert.Equal(t, want, verdict.Passed)
	}
}
