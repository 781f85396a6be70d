package rule_test

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/value"
)

// boundaries are rules with answers on both sides of where they change. Behind the answer
// stands whether it holds, and what is said where that is not plain.
const boundaries = `
over 5 | 5 | no
over 5 | 5.0000000000000000000000000001 | yes
under 5 | 5 | no
under 5 | 4.9999999999999999999999999999 | yes
at least 5 | 4.99 | no
at most 5 | 5.01 | no
between 5 and 5 | 5 | yes
between 5 and 6 | 6 | yes
between 5 and 6 | 6.01 | no
between 5 and 6 | 4.99 | no
between ${big} and ${small} | 5 | no; the rule's own values: nothing is between 9 and 2
not between ${big} and ${small} | 5 | no; the rule's own values: nothing is between 9 and 2
between ${small} and ${small} | 2 | yes
between ${word} and 9 | 5 | no; the rule's own value: "east" is not a number, date, time, duration or size
between 1 and ${span} | 5 | no; a number cannot be compared with a duration
over 5 | true | no; it cannot be put in order
over 5 | null | no; it cannot be put in order
over 5 | [6] | no; it cannot be put in order
over 5 | {"a": 6} | no; it cannot be put in order
about 10 within 1 | 9 | yes
about 10 within 1 | 8.99 | no
about 10 within 1 | 11 | yes
about -10 within 10 % | -11 | yes
about -10 within 10 % | -11.01 | no
about 10 within 10 % | 9 | yes
about 10 within ${word} | 10 | no; the rule's own value: "east" is not a number, date, time, duration or size
about 10 within ${day} | 10 | no; the tolerance is neither a number nor a duration
about 2026-11-23 within 5 % | "2026-11-23" | no; a date has no percent
about 2026-11-23 within 1 d | "2026-11-24" | yes
about 2026-11-23 within 1 d | "2026-11-25" | no
about 2026-11-23 within 1 | "2026-11-23" | no; a number cannot be the tolerance of a date
about 5 s within 1 s | "6 s" | yes
about 5 s within 1 s | "6001 ms" | no
about 5 s within 1 | "5 s" | no; a number cannot be the tolerance of a duration
about 5 within 1 | "5 s" | no; a duration cannot be compared with a number
at most 2 kB | 2000 | yes
at most 2 kB | 2001 | no
over PT1M | "PT1H" | yes
over PT1M | "-PT1H" | no
equals 1.0 | 1 | yes
equals 1 | "1" | yes
equals 1 | true | no
equals "1" | 1 | no
equals null | null | yes
equals null | "null" | yes
one of 1 or 2 | "1" | yes
one of null or 2 | null | yes
contains a | "ba" | yes
contains a | ["b", "a"] | yes
contains a | ["ba"] | no
contains a | {"a": 1} | no; it is not a text
contains a | null | no; it is not a text
starts with 1 | 12 | yes
starts with b | "ab" | no
ends with b | "ab" | yes
ends with a | "ab" | no
matches a+ | "aab" | no
matches a+ | "aa" | yes
matches [0-9]+ | 12 | yes
matches a | null | no; only a text can match
matches a | ["a"] | no; only a text can match
matches ${sign} | "a.c" | yes
matches ${sign} | "abc" | no
matches ${sign}|x | "x" | yes
length 2 | "é蜂" | yes
length 3 | "é蜂" | no; its length is 2
length 2 | [1, 2] | yes
length 0 | [] | yes
length 1 | {"a": 1} | no; only a text or a list has a length
length 0 | null | no; only a text or a list has a length
length at least 2 | 12 | yes
count 1 | {"a": 1} | yes
count 0 | [] | yes
count 2 | [1] | no; there are 1
count at most 2 | [1, 2] | yes
count over 2 | [1, 2] | no; there are 2
all over 1 | [2, 3] | yes
all over 1 | [] | yes
all over 1 | [2, "x"] | no; [1] is "x" ("x" is not a number, date, time, duration or size)
all is text | ["a", 1] | no; [1] is 1
all one of a or b | ["a", "b"] | yes
some over 1 | [] | no; none of 0 does
some over 1 | [0, 1] | no; none of 2 does
some over 1 | [0, 2] | yes
not some over 1 | [0, "x"] | no; "x" is not a number, date, time, duration or size
not some over 1 | [0, 1] | yes
not all over 1 | [2, 1] | yes
not all over 1 | [2, 3] | no
not count 1 | [1] | no
not length 1 | "a" | no
not matches a+ | "b" | yes
not is null | null | no
not is empty | [1] | yes
is not present | 1 | no
is not absent | 1 | yes
is present | null | yes
is absent | null | no
is null | 0 | no
is empty | {} | yes
is empty | {"a": 1} | no
is empty | [null] | no
is empty | null | no
is empty | 0 | no
is unique | [1, 1.0] | no; [0] and [1] are both 1.0
is unique | [1, "1"] | yes
is unique | [{"a": 1}, {"a": 1}] | no; [0] and [1] are both an object with a
is ascending | [1, 1, 2] | yes
is ascending | [2, 10] | yes
is ascending | ["b", "a"] | no; [0] is "b" and [1] is "a"
is ascending | [1, null] | no; [1] cannot be put in order
is ascending | [1, [2]] | no; [1] cannot be put in order
is ascending | [[1], 2] | no; [0] cannot be put in order
is ascending | ["9 kB", "1 MB"] | yes
is descending | [2, 1, 1] | yes
is descending | [1, 2] | no; [0] is 1 and [1] is 2
is descending | ["2026-11-24T00:00:00Z", "2026-11-24T00:30:00+01:00"] | yes
is integer | 5.0 | yes
is integer | 5.01 | no
is integer | "5" | no
is number | "5" | no
is boolean | "true" | no
is boolean | false | yes
is text | 5 | no
is text | null | no
is list | {} | no
is object | [] | no
is object | {} | yes
is decimal 2 | 5.50 | yes
is decimal 2 | 5.5 | yes
is decimal 2 | 5.555 | no
is decimal 0 | 5 | yes
is iban | "GB82WEST12345698765432" | yes
is iban | "GB82WEST12345698765433" | no
is iban | "AD1200012030200359100100" | yes
over	5 | 6 | yes
is iban | "GB82WEST123456" | no
is iban | "GBX2WEST12345698765432" | no
is iban | "1B82WEST12345698765432" | no
is gtin | "4006381333931" | yes
is gtin | "4006381333932" | no
is gtin | "400638133393" | no
is gtin | "96385074" | yes
is gtin | "9638507x" | no
is jwt | "eyJhIjoxfQ.e30." | yes
is jwt | "eyJhIjoxfQ.e30" | no
is jwt | "W10.e30.AA" | no
is jwt | "eyJhIjoxfQ.e3=.AA" | no
is hostname | "a-b.example." | yes
is hostname | "-a.example" | no
is hostname | "a-.example" | no
is hostname | "a..example" | no
is hostname | "a_b.example" | no
is hostname | "" | no
is uuid | "6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d" | yes
is uuid | "6b1f2a5e0b7c4c1f9d550d8f3a1b2c3d" | no
optional over 5 | nothing | yes
optional over 5 | 5 | no
optional not over 5 | nothing | yes
null or over 5 | null | yes
null or over 5 | nothing | no; answer has no x: it is an empty object
null or over 5 | 5 | no
if any over 5 | nothing | no; answer has no x: it is an empty object
not over 5 | nothing | no; answer has no x: it is an empty object
not is present | nothing | yes
not is absent | nothing | no; answer has no x: it is an empty object
not is null | nothing | no; answer has no x: it is an empty object
not is empty | nothing | no; answer has no x: it is an empty object
is unique | [5, "a", 5] | no; [0] and [2] are both 5
is hex | "0aff" | yes
is hex | "" | no
is hex | "0af" | no
is base64 | "YQ==" | yes
is base64 | "" | no
is base64 | "Y" | no
is currency | "EUR" | yes
is currency | "eur" | no
is currency | "EUX" | no
is country | "DE" | yes
is country | "de" | no
is country | "DEU" | no
is country | "XX" | no
is language | "de-AT" | yes
is language | "" | no
is iban | "NO9386011117947" | yes
is iban | "NO938601111794" | no
is iban | "GB82WEST1234569876543Z" | no
is iban | "82GBWEST12345698765432" | no
is iban | "GB82 WEST 1234 5698 7654 32" | yes
is iban | "GB82WEST12345698765432GB82WEST1234569" | no
is gtin | "40063813339316" | no
is gtin | "614141000036" | yes
is hostname | "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa.example" | yes
is hostname | "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa.example" | no
is hostname | "A9.Z0" | yes
equals nothing | nothing | no; answer has no x: it is an empty object
`

func TestBoundaries(t *testing.T) {
	values := scope{"big": "9", "small": "2", "word": "east", "span": "5 s", "day": "2026-11-23", "sign": "a.c"}
	for _, line := range strings.Split(strings.TrimSpace(boundaries), "\n") {
		t.Run(line, func(t *testing.T) {
			last := strings.LastIndex(line, " | ")
			first := strings.LastIndex(line[:last], " | ")
			source, answer, want := line[:first], line[first+3:last], line[last+3:]
			text := `{"x": ` + answer + `}`
			if answer == "nothing" {
				text = "{}"
			}
			parsed, err := rule.Parse(source, false)
			require.NoError(t, err)
			for _, r := range []*rule.Rule{parsed, rule.AllOf([]*rule.Rule{parsed}), rule.AnyOf([]*rule.Rule{parsed})} {
				found, roots := find(t, text, "x")
				verdict, err := r.Judge(found, roots, values)
				require.NoError(t, err)
				word, note, _ := strings.Cut(want, "; ")
				assert.Equal(t, word == "yes", verdict.Passed, "%s: %+v", r.Source, verdict)
				if word == "no" && r == parsed {
					assert.Equal(t, note, verdict.Note)
				}
			}
			// Neither a rule nor its opposite holds where the value is of no kind that it is about.
			if opposite, err := rule.Parse("not "+source, false); err == nil && strings.Contains(want, "no; ") &&
				strings.Contains(want, "cannot") {
				found, roots := find(t, text, "x")
				verdict, err := opposite.Judge(found, roots, values)
				require.NoError(t, err)
				assert.False(t, verdict.Passed, "not %s", source)
			}
		})
	}
}

// literal is an operand that is a text and nothing else.
type literal string

func (l literal) Node(value.Scope) (*document.Node, error) {
	return document.NewUntyped(string(l)), nil
}
func (literal) Placeholders() []*value.Placeholder { return nil }
func (l literal) String() string                   { return string(l) }

// typed is an operand of a kind of its own.
type typed struct{ node *document.Node }

func (o typed) Node(value.Scope) (*document.Node, error) { return o.node, nil }
func (typed) Placeholders() []*value.Placeholder         { return nil }
func (o typed) String() string                           { return o.node.Text }

// Rules that are made by the program say what they are, and judge as if they were written.
func TestMadeRules(t *testing.T) {
	text := func(s string) rule.Operand { return literal(s) }
	holds := func(r *rule.Rule, answer string) bool {
		found, roots := find(t, `{"x": `+answer+`}`, "x")
		verdict, err := r.Judge(found, roots, lookup)
		require.NoError(t, err)
		return verdict.Passed
	}
	for _, c := range []struct {
		rule       *rule.Rule
		source     string
		pass, fail string
	}{
		{rule: rule.Equals(text("A")), source: "equals A", pass: `"A"`, fail: `"B"`},
		{
			rule: rule.OneOf([]rule.Operand{text("A"), text("B")}), source: "one of A or B", pass: `"B"`,
			fail: `"A or B"`,
		},
		{rule: rule.TextRule("contains", text("b")), source: "contains b", pass: `"abc"`, fail: `"ac"`},
		{rule: rule.TextRule("starts with", text("b")), source: "starts with b", pass: `"bc"`, fail: `"ab"`},
		{rule: rule.TextRule("ends with", text("b")), source: "ends with b", pass: `"ab"`, fail: `"bc"`},
		{rule: rule.Prefixed("not", rule.Equals(text("A"))), source: "not equals A", pass: `"B"`, fail: `"A"`},
		{
			rule:   rule.AnyOf([]*rule.Rule{rule.Equals(text("A")), rule.Equals(text("B"))}),
			source: "equals A, or equals B", pass: `"B"`, fail: `"C"`,
		},
		{
			rule: rule.AllOf([]*rule.Rule{
				rule.TextRule("contains", text("a")),
				rule.TextRule("contains", text("b")),
			}),
			source: "contains a and contains b", pass: `"ab"`, fail: `"a"`,
		},
	} {
		t.Run(c.source, func(t *testing.T) {
			assert.Equal(t, c.source, c.rule.Source)
			assert.True(t, holds(c.rule, c.pass))
			assert.False(t, holds(c.rule, c.fail))
		})
	}
	number, five := document.NewNumber("5"), document.NewText("5")
	for _, c := range []struct {
		operand *document.Node
		answer  string
		note    string
		passed  bool
	}{
		{number, `"5"`, "it is a text, not a number", false},
		{number, `"6"`, "", false},
		{number, "5.0", "", true},
		{five, "5", "", false},
		{five, `"5"`, "", true},
	} {
		found, roots := find(t, `{"x": `+c.answer+`}`, "x")
		verdict, err := rule.Equals(typed{c.operand}).Judge(found, roots, lookup)
		require.NoError(t, err)
		assert.Equal(t, c.passed, verdict.Passed, c.answer)
		assert.Equal(t, c.note, verdict.Note, c.answer)
	}
	found, roots := find(t, `{"x": "5"}`, "x")
	verdict, err := rule.OneOf([]rule.Operand{typed{number}, typed{number}}).Judge(found, roots, lookup)
	require.NoError(t, err)
	assert.Empty(t, verdict.Note, "of several values none is the one that was meant")
	secret := document.NewUntyped("hidden")
	secret.Secret = true
	verdict, err = rule.Equals(literal("x")).Judge(path.Selection{Matches: []path.Match{{Where: "x", Node: secret}}},
		roots, lookup)
	require.NoError(t, err)
	assert.True(t, verdict.Secret)
	verdict, err = rule.Equals(literal("x")).Judge(path.Selection{Matches: []path.Match{{
		Where: "x",
		Node:  document.NewUntyped("shown"),
	}}}, roots, lookup)
	require.NoError(t, err)
	assert.False(t, verdict.Secret)
	for _, c := range []struct {
		rule  *rule.Rule
		wrong bool
	}{
		{rule.AllOf([]*rule.Rule{rule.TextRule("over", literal("5 s")), rule.TextRule("under", literal("9"))}), true},
		{
			rule.AnyOf([]*rule.Rule{rule.TextRule("over", literal("5 s")), rule.TextRule("under", literal("9 s"))}),
			false,
		},
		{rule.Prefixed("all", rule.TextRule("under", literal("9"))), true},
		{rule.Prefixed("some", rule.TextRule("under", literal("9"))), true},
		{rule.Prefixed("count", rule.TextRule("under", literal("9"))), false},
	} {
		assert.Equal(t, c.wrong, c.rule.Suits(rule.Durations) != nil, c.rule.Source)
	}
	made := rule.AnyOf([]*rule.Rule{
		rule.Prefixed("count", rule.Equals(literal("2"))),
		rule.Prefixed("optional", rule.Equals(text("A"))),
	})
	found, roots = find(t, `{"x": ["a", "b"]}`, "x[*]")
	verdict, err = made.Judge(found, roots, lookup)
	require.NoError(t, err)
	assert.True(t, verdict.Passed, "a rule about all of them makes what it is joined with one about all of them")
}

func TestWhatIsNoRule(t *testing.T) {
	told := map[string]string{}
	for source, want := range map[string]string{
		"contains \x00":            "a rule cannot hold a zero byte",
		"about 5 within x %":       `"x" is not a number`,
		"about 5 within 3 s %":     `"3 s" is not a number of percent`,
		"about 5":                  `"within" is missing`,
		"between 5":                `"and" is missing`,
		"between 5 and":            `"and" is missing`,
		"between 9 and 5":          "nothing is between 9 and 5: the lower value comes first",
		"between 9 and 5 s":        "a number cannot be compared with a duration",
		"one of A, B":              "one of joins its values with or",
		"one of A or":              "a value is missing after or",
		`one of "A" or B"`:         "double quotes in the middle of",
		`equals "A"B`:              `"B" comes right after the closing quotes`,
		`contains "A`:              "the double quotes are not closed",
		`equals "A\`:               "the double quotes are not closed",
		"matches [":                "not a regular expression (RE2)",
		"eqals A":                  "did you mean `equals A`",
		"containz A":               "did you mean `contains A`",
		"betwe 1 and 2":            "did you mean `between 1 and 2`",
		"betwen A and B":           "did you mean `between A and B`",
		"abuot A within B":         "did you mean `about A within B`",
		"betwen 1 and 3":           "did you mean `between 1 and 3`",
		"start with A":             "did you mean `starts with A`",
		"one off A or B":           "did you mean `one of A or B`",
		"= 5":                      "did you mean",
		"> 5":                      "did you mean `over 5`",
		">= ${a}":                  "did you mean `at least ${a}`",
		"greater than ${a} ":       "did you mean `over ${a}`?",
		"betwen ${a} and ${b}${c}": "did you mean `between ${a} and ${b}${c}`?",
		"not > ${a | upper}":       "did you mean `over ${a | upper}`?",
		"!= A":                     "did you mean `not equals A`",
		"< 5 s":                    "did you mean `under 5 s`",
		"bigger than 5":            "did you mean `over 5`",
		"ovr 5":                    "did you mean `over 5`",
		"is integar":               "did you mean `is integer`",
		"is":                       "is",
		"is decimal":               "is decimal needs the number of digits after the point",
		"is decimal -1":            "is decimal needs the number of digits after the point",
		"over":                     "",
		"over north":               `"north" is not a number, date, time, duration or size`,
		"count x":                  "",
		"not":                      "",
		"same as lots[":            "",
		"contains ${a | nofilter}": "nofilter",
		"over ${":                  "the placeholder names nothing",
		"optional":                 "",
		"optionl is number":        "did you mean `optional is number`",
		"ends wiht A":              "did you mean `ends with A`",
		"atleast 5":                "did you mean `at least 5`",
		"startsWith A b":           "did you mean `starts with A b`",
		"ends_with A":              "did you mean `ends with A`",
		"equals ${a":               "is not closed",
		"is integer 5":             "5",
		"is present or absent":     "or absent",
		"between ${a} and north":   `"north" is not a number, date, time, duration or size`,
		"length":                   "",
		"some":                     "",
		"all":                      "",
		"one of":                   "",
	} {
		t.Run(source, func(t *testing.T) {
			parsed, err := rule.Parse(source, false)
			require.Error(t, err, "%+v", parsed)
			wrong := err.(*rule.Error)
			assert.Contains(t, wrong.Message+" "+wrong.Try, want)
			assert.LessOrEqual(t, wrong.Offset, len(source))
			told[source] = fmt.Sprintf("%d: %s; %s", wrong.Offset, wrong.Message, wrong.Try)
		})
	}
	asWritten(t, "norules", told)
}

var update = flag.Bool("update", false, "write what came as what is expected")

// asWritten compares what was told of each rule with what is written down.
func asWritten(t *testing.T, name string, told map[string]string) {
	t.Helper()
	var all strings.Builder
	for _, source := range slices.Sorted(maps.Keys(told)) {
		fmt.Fprintf(&all, "%q\n    %s\n", source, told[source])
	}
	file := filepath.Join("testdata", name+".golden")
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(all.String()), 0o644))
	}
	golden, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(golden), all.String(), "go test ./internal/rule -update writes it anew")
}

// Texts that are near to a rule and are none.
func TestWhatIsAText(t *testing.T) {
	for _, source := range []string{
		"<b>bold</b>", "> quoted", "overview of lots", "counter 5 is open", "almost",
		"matching colours", "5 > 3", "begin", "anyone of us", "oven 5 is hot", "at noon 5", "overall 5", "underway",
		"notable", "containsnothing", "isolated", "one officer",
	} {
		parsed, err := rule.Parse(source, false)
		require.NoError(t, err)
		found, roots := find(t, `{"x": `+document.QuoteJSON(source)+`}`, "x")
		verdict, err := parsed.Judge(found, roots, lookup)
		require.NoError(t, err)
		assert.True(t, verdict.Passed, source)
	}
}

func TestKindsOfValues(t *testing.T) {
	for answer, want := range map[string]string{
		"5": "integer", "-5": "integer", "5.5": "number", "1e3": "integer", "true": "boolean", "null": "null",
		`"a"`: "text", `""`: "text",
		`"2026-11-23T08:30:00Z"`: "datetime", `"2026-11-23T08:30:00"`: "datetime", `"2026-11-23"`: "date",
		`"2026-13-23"`: "text", `"2026-11-23T99"`: "text",
		`"6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d"`: "uuid", `"6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3x"`: "text",
		`"eyJhIjoxfQ.e30.AA"`: "jwt", `"eyJhIjoxfQ"`: "text",
		`"lab@heatherfold.example"`: "email", `"lab@"`: "text", `"https://heatherfold.example/a"`: "uri",
		`"urn:heatherfold:lab"`: "uri", `"127.0.0.1"`: "ipv4", `"127.0.0.256"`: "text", `"1.2.3.4"`: "ipv4",
	} {
		node, err := document.ReadJSON([]byte(answer))
		require.NoError(t, err)
		assert.Equal(t, want, rule.KindOf(node), answer)
	}
	assert.Equal(t, "integer", rule.KindOf(document.NewUntyped("12")))
	assert.Equal(t, "boolean", rule.KindOf(document.NewUntyped("true")))
	assert.Equal(t, "text", rule.KindOf(document.NewText("12")))
	for _, c := range []struct {
		of, want []string
	}{
		{[]string{"integer"}, []string{"integer"}},
		{[]string{"integer", "number"}, []string{"number"}},
		{[]string{"boolean", "number"}, []string{"boolean", "number"}},
		{[]string{"date", "datetime"}, []string{"text"}},
		{[]string{"date"}, []string{"date"}},
		{[]string{"date", "text"}, []string{"text"}},
		{[]string{"date", "integer"}, []string{"integer", "text"}},
		{nil, nil},
	} {
		of := map[string]bool{}
		for _, name := range c.of {
			of[name] = true
		}
		assert.Equal(t, c.want, rule.Merged(of), "%v", c.of)
	}
	assert.True(t, rule.SameMoment("2026-11-23T08:30:00Z", "2026-11-23T09:30:00.000+01:00"))
	assert.False(t, rule.SameMoment("2026-11-23T08:30:00Z", "2026-11-23T08:30:01Z"))
	assert.False(t, rule.SameMoment("2026-11-23T08:30:00Z", "2026-11-23T08:30Z"))
	assert.False(t, rule.SameMoment("x026-11-23T08:30:00Z", "2026-11-23T08:30:00Z"))
	assert.False(t, rule.SameMoment("2026-11-23T08:30:00Z", "not a moment at all!"))
	assert.Contains(t, rule.Forms(), "uuid")
}

// What conditions come to, and of which kind it is when it is kept.
func TestWorkedOut(t *testing.T) {
	data := &rule.Data{
		Kept: document.NewObject().Set("limit", document.NewNumber("20")),
		Row:  document.NewObject().Set("n", document.NewUntyped("7")).Set("e", document.NewUntyped("")), Scope: lookup,
	}
	var err error
	data.Roots.Answer, err = document.ReadJSON(
		[]byte(`{"n": 2.50, "list": [1, "b", null], "none": null, "name": "Clover", "owner": {"a": 1, "b": [2]}, "at": "2026-11-23T08:30:00Z", "yes": true, "no": false}`))
	require.NoError(t, err)
	for source, want := range map[string]string{
		"answer.n":                            "number 2.50",
		"'5' + 5":                             "text 55",
		"5 + '5'":                             "text 55",
		"row.n + row.n":                       "number 14",
		"row.n + '1'":                         "text 71",
		"[1, 2, 3][1]":                        "number 2",
		"answer.n * 2":                        "number 5.00",
		"1.5":                                 "number 1.5",
		"7u":                                  "number 7",
		"size(answer.list)":                   "number 3",
		"answer.name":                         "text Clover",
		"'a' + answer.name":                   "text aClover",
		"answer.none":                         "null ",
		"null":                                "null ",
		"answer.yes && !answer.no":            "boolean true",
		"answer.no || answer.n > 2":           "boolean true",
		"row.n":                               "untyped 7",
		"row.n + 1":                           "number 8",
		"string(row.n) + '1'":                 "text 71",
		"string(answer.yes)":                  "text true",
		"int(row.n) + 1":                      "number 8",
		"[1, answer.none, answer.nothing][1]": "null ",
		"[1, answer.name, answer.none]":       `list [1, "Clover", null]`,
		"answer.owner":                        `object {"a": 1, "b": [2]}`,
		"answer.list":                         `list [1, "b", null]`,
		"duration('90s')":                     "untyped 90 s",
		"date(answer.at) + days(1)":           "untyped 2026-11-24",
		"answer.nothing":                      "! it comes to something that is not there",
		"answer.list[5]":                      "! it comes to something that is not there",
		"answer.list[0.5]":                    "! 0.5 is not an index",
		"answer.list[-1]":                     "null ",
		"answer.list[-4]":                     "! it comes to something that is not there",
		"answer.owner[0]":                     "! it comes to something that is not there",
		"answer.owner['a']":                   "number 1",
		"answer.owner[answer.yes]":            "! is neither a name nor a number",
		"{'a': 1}":                            "! cannot be kept",
		"answer.owner.map(k, k)":              `list ["a", "b"]`,
		"'b' in answer.list":                  "boolean true",
		"'c' in answer.list":                  "boolean false",
		"answer.none in answer.list":          "boolean true",
		"1 in answer.list":                    "boolean true",
		"'a' in answer.owner":                 "boolean true",
		"answer.list == [1, 'b', null]":       "boolean true",
		"answer.list == [1, 'b']":             "boolean false",
		"answer.list != answer.owner":         "boolean true",
		"answer.none == null":                 "boolean true",
		"answer.nothing == null":              "boolean false",
		"answer.nothing == answer.more":       "boolean true",
		"answer.n == answer.nothing":          "boolean false",
		"answer.n == '2.5'":                   "boolean false",
		"row.n == '7'":                        "boolean true",
		"row.n == 7":                          "boolean true",
		"date(answer.at) == date('2026-11-23T09:30:00+01:00')":           "boolean true",
		"date(answer.at) == date('2026-11-24T09:30:01+01:00')":           "boolean false",
		"timestamp(answer.at) == timestamp('2026-11-23T09:30:00+01:00')": "boolean true",
		"timestamp(answer.at) == timestamp('2026-11-23T09:30:01+01:00')": "boolean false",
		"timestamp(answer.at) == answer.at":                              "boolean true",
		"date(answer.at) == 'x'":                                         "boolean false",
		"1.5 == 1.50":                                                    "boolean true",
		"1u == 1":                                                        "boolean true",
		"kept.limit - 1":                                                 "number 19",
		"kept.nothing":                                                   "! not there",
		"has(answer.none)":                                               "boolean true",
		"has(answer.owner.c)":                                            "boolean false",
		"absent(answer.none)":                                            "boolean false",
		"[1, 2].exists_one(x, x > 1)":                                    "boolean true",
		"[answer.n, 3].filter(x, x > 2.6)":                               "list [3]",
		"answer.list.filter(x, x == 'b')":                                `list ["b"]`,
		"answer.name.size() + 1":                                         "number 7",
		"row.e == ''":                                                    "boolean true",
		"answer.yes + 1":                                                 "! cannot be added",
		"answer.name < 5":                                                "! cannot be compared with",
	} {
		t.Run(source, func(t *testing.T) {
			c, err := rule.CompileCondition(source)
			require.NoError(t, err)
			node, err := c.WorkOut(data)
			if wrong, ok := strings.CutPrefix(want, "! "); ok {
				require.Error(t, err, "%+v", node)
				assert.Contains(t, err.Error(), wrong)
				return
			}
			require.NoError(t, err)
			kind, text, _ := strings.Cut(want, " ")
			got := map[document.Kind]string{
				document.Number: "number", document.Text: "text",
				document.Boolean: "boolean", document.Null: "null", document.Untyped: "untyped", document.List: "list",
				document.Object: "object",
			}[node.Kind]
			shown := node.Text
			if !node.IsScalar() {
				shown = strings.NewReplacer(",", ", ", ":", ": ").Replace(document.WriteJSON(node, document.Style{}))
			}
			assert.Equal(t, kind+" "+strings.TrimSpace(text), got+" "+strings.TrimSpace(shown))
		})
	}
	for source, names := range map[string][]string{
		"kept.a + kept.b > 1": {"a", "b"}, "answer.a > 1": nil,
		"has(kept.a)": {"a"}, "answer.kept.a > 1": nil,
	} {
		c, err := rule.CompileCondition(source)
		require.NoError(t, err)
		assert.Equal(t, names, c.KeptNames(), source)
	}
	_, err = rule.CompileCondition("  ")
	assert.EqualError(t, err, "the condition is empty")
}
