package rule_test

import (
	"fmt"
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

// scope gives names their values from a map.
type scope map[string]string

func (s scope) Lookup(_, name string) (*document.Node, error) {
	if text, ok := s[name]; ok {
		return document.NewUntyped(text), nil
	}
	return nil, value.ErrNothing
}
func (scope) Hide(string) {}

var lookup = scope{"grade": "A", "limit": "20", "trick": "one of A or B", "signs": "a.c"}

func find(t *testing.T, text, source string) (path.Selection, path.Roots) {
	t.Helper()
	node, _, err := document.Read("", []byte(text))
	require.NoError(t, err)
	compiled, err := path.Compile(source)
	require.NoError(t, err)
	roots := path.Roots{Answer: node}
	found, err := compiled.Find(roots, lookup)
	require.NoError(t, err)
	return found, roots
}

const answer = `{"grade": "A", "n": 17.40, "s": "17.4", "zip": "00123", "empty": "", "none": null, "flag": true, "open": "not started",
 "list": [3, 1, 2], "up": [1, 2, 2, 10], "words": ["a","b","a"], "nolist": [], "object": {}, "lines": [{"p": 1},{"p": 2},{"q": 3}],
 "at": "2026-11-23T08:30:00Z", "local": "2026-11-23T08:30:00", "day": "2026-11-23", "took": "PT1M30S", "big": 123456789012345678901234567890.5,
 "id": "6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d", "mail": "lab@heatherfold.example", "iban": "GB82 WEST 1234 5698 7654 32", "gtin": "4006381333931"}`

func TestRules(t *testing.T) {
	passed := []string{
		"grade: A", "grade: equals A", "grade: one of A or B", "grade: not equals B", "n: 17.4", "n: 17.40",
		"n: equals 17.4",
		`s: equals "17.4"`, "s: 17.4", "n: over 17", "n: at most 17.4", "n: at least 17.40", "n: between 17.4 and 18",
		"n: about 17 within 0.4",
		"n: about 17 within 3 %", "n: is number", "n: is decimal 2", "n: not is integer", "zip: 00123", "zip: is text",
		"zip: length 5",
		"zip: length between 3 and 6", "empty: is empty", "none: is null", "none: is present", "nolist: is empty",
		"object: is empty",
		"nothing: is absent", "nothing: optional is number", "n: optional is number", "flag: true", "flag: is boolean",
		"open: equals not started",
		`open: one of "not started" or done`, "list: count 3", "list: count at least 2", "list: is unique",
		"list[*]: is integer", "list[*]: count 3",
		"up: is ascending", "up[*]: is ascending", "list: not is ascending", "list: all over 0", "list: some over 2",
		"list: contains 3", "words: not is unique",
		"grade: starts with A", "open: contains start", "open: ends with ted", "open: matches not .*",
		"open: not matches not", "at: is datetime",
		"at: over 2026-11-23T09:29:00+01:00", "at: under 2026-11-23T09:31:00+01:00", "day: over 2026-11-22",
		"day: is date",
		"took: under 2 min", "took: is duration", "at: about 2026-11-23T08:30:05Z within 10 s",
		"big: 123456789012345678901234567890.50",
		"id: is uuid", "mail: is email", "iban: is iban", "gtin: is gtin", "grade: ${grade}", "n: under ${limit}",
		"n: between 1 and ${limit}",
		"list[0]: same as list[0]", "grade: not equals ${trick}", "n: one of 1 or 17.4", "grade: is text",
		"lines: count 3", "lines[*]: count 3", "object: is object", "list: is list",
		"local: under 2026-11-23T08:30:01", "grade: all of A or B", "grade: call me",
	}
	passed = passed[:len(passed)-2]
	for _, c := range passed {
		t.Run(c, func(t *testing.T) {
			source, text, _ := strings.Cut(c, ": ")
			r, err := rule.Parse(text, false)
			require.NoError(t, err)
			found, roots := find(t, answer, source)
			verdict, err := r.Judge(found, roots, lookup)
			require.NoError(t, err)
			assert.True(t, verdict.Passed, "%+v", verdict)
		})
	}
	failed := []struct{ rule, where, got, note string }{
		{"grade: B", "grade", `"A"`, ""},
		{
			"grade: same as nowhere", "grade", `"A"`,
			"answer has no nowhere: it is an object with grade, n, s, zip, empty, none, flag, open and 15 more",
		},
		{`zip: equals "123"`, "zip", `"00123"`, ""},
		{"zip: 123", "zip", `"00123"`, ""},
		{"s: is number", "s", `"17.4"`, ""},
		{"n: is decimal 1", "n", "17.40", ""},
		{"grade: over 3", "grade", `"A"`, `"A" is not a number, date, time, duration or size`},
		{
			"local: under 2027-01-01T00:00:00Z", "local", `"2026-11-23T08:30:00"`,
			"a time without a zone cannot be compared with a time with a zone",
		},
		{
			"local: not under 2027-01-01T00:00:00Z", "local", `"2026-11-23T08:30:00"`,
			"a time without a zone cannot be compared with a time with a zone",
		},
		{
			"nothing: over 3", "nothing", "missing",
			"answer has no nothing: it is an object with grade, n, s, zip, empty, none, flag, open and 15 more",
		},
		{
			"nothing: not equals 3", "nothing", "missing",
			"answer has no nothing: it is an object with grade, n, s, zip, empty, none, flag, open and 15 more",
		},
		{"none: optional is number", "none", "null", ""},
		{"list: count 4", "list", "a list of 3", "there are 3"},
		{"list[*]: over 1", "list[1]", "1", ""},
		{"list: all over 1", "list", "a list of 3", "[1] is 1"},
		{"list: is ascending", "list", "a list of 3", "[0] is 3 and [1] is 1"},
		{"words[*]: is unique", "all of them", "a list of 3", `[0] and [2] are both "a"`},
		{"lines[*].p: is number", "lines[2].p", "missing", `lines[2] has no p: it is an object with q`},
		{"took: under 10", "took", `"PT1M30S"`, "a duration cannot be compared with a number"},
		{"n: about 17 within 1 s", "n", "17.40", "a duration cannot be the tolerance of a number"},
		{"open: matches not", "open", `"not started"`, ""},
		{"grade: matches ${signs}", "grade", `"A"`, ""},
		{"list[0]: same as list[1]", "list[0]", "3", "there it is 1"},
		{"flag: equals \"true\"", "flag", "true", ""},
		{"nolist[*]: over 1", "nolist[*]", "missing", "nolist has no [*]: it is an empty list"},
	}
	for _, c := range failed {
		t.Run(c.rule, func(t *testing.T) {
			source, text, _ := strings.Cut(c.rule, ": ")
			r, err := rule.Parse(text, false)
			require.NoError(t, err)
			found, roots := find(t, answer, source)
			verdict, err := r.Judge(found, roots, lookup)
			require.NoError(t, err)
			assert.False(t, verdict.Passed)
			assert.Equal(t, c.where, verdict.Where)
			assert.Equal(t, c.got, verdict.Got)
			assert.Equal(t, c.note, verdict.Note)
		})
	}
}

// Of a list of rules each is judged on what it is about: single elements, or all at once.
func TestListOfRules(t *testing.T) {
	const answer = `{"n": [1, 2, 3], "twice": [1, 2, 2], "mixed": [1, "b", "b"], "none": []}`
	for _, c := range []struct {
		path   string
		rules  []string
		where  string // empty where all hold
		reason string
	}{
		{"n[*]", []string{"is integer", "between 1 and 3", "is unique", "is ascending", "count 3"}, "", ""},
		{"twice[*]", []string{"is integer", "is unique"}, "all of them", "[1] and [2] are both 2"},
		{"mixed[*]", []string{"is unique", "is integer"}, "all of them", `[1] and [2] are both "b"`},
		{"mixed[*]", []string{"is integer", "is unique"}, "mixed[1]", "it is false that it is integer"},
		{"none[*]", []string{"optional is integer", "optional is unique"}, "", ""},
		{"none[*]", []string{"if any is integer", "if any is unique"}, "", ""},
		{"none[*].id", []string{"if any is integer"}, "", ""},
		{"n[*].id", []string{"if any is integer"}, "n[0].id", "n[0] has no id: it is 1"},
		{"n[*]", []string{"if any is text"}, "n[0]", ""},
		{"none[*]", []string{"optional is integer", "is unique"}, "none[*]", "none has no [*]: it is an empty list"},
	} {
		var parts []*rule.Rule
		for _, text := range c.rules {
			part, err := rule.Parse(text, false)
			require.NoError(t, err)
			parts = append(parts, part)
		}
		found, roots := find(t, answer, c.path)
		verdict, err := rule.AllOf(parts).Judge(found, roots, lookup)
		require.NoError(t, err)
		assert.Equal(t, []any{c.where == "", c.where, c.reason}, []any{verdict.Passed, verdict.Where, verdict.Note},
			"%s %v", c.path, c.rules)
	}
}

func TestRulesThatMislead(t *testing.T) {
	cases := map[string]string{
		"under the counter":          "did you mean `equals under the counter`?",
		"not started":                "did you mean `not equals started`, or for the text itself `equals not started`?",
		"Not started":                "equals Not started",
		"all active":                 "did you mean `all equals active`",
		"is bool":                    "did you mean `is boolean`",
		"betwen 1 and 5":             "did you mean `between 1 and 5`?",
		"betwen A and B":             "did you mean `between A and B`?",
		"betwee 1 and 5":             "did you mean `between 1 and 5`?",
		"One of A or B":              "did you mean `one of A or B`",
		">= 5":                       "did you mean `at least 5`?",
		"!= 5":                       "did you mean `not equals 5`?",
		"at laest 5":                 "did you mean `at least 5`?",
		"between 1":                  `"and" is missing`,
		"one of A or":                "a value is missing",
		"one of A, B or C":           "one of joins its values with or",
		"is decimal":                 "is decimal 2",
		"matches [":                  "not a regular expression",
		"equals a or b":              "left over",
		`equals "a`:                  "not closed",
		"count many":                 "is not a rule",
		"about 5":                    `"within" is missing`,
		"over ${x | uper}":           `did you mean "upper"?`,
		"grade ${":                   "names nothing",
		"same as lots[":              "missing",
		"optional":                   "a rule is missing",
		"under":                      "did you mean `equals under`?",
		"Not":                        "equals Not",
		"count":                      "equals count",
		"is":                         "a kind or a state is missing",
		"is not":                     "a kind or a state is missing",
		"about":                      `"within" is missing`,
		"between 50 and 1":           "did you mean `between 1 and 50`?",
		"between 5 and 1 s":          "cannot be compared",
		"contans x":                  "did you mean `contains x`?",
		"equls x":                    "did you mean `equals x`?",
		"mathces a+":                 "did you mean `matches a+`?",
		"greater than 5":             "did you mean `over 5`?",
		"Greater than 5":             "did you mean `over 5`?",
		"greater than or equal to 5": "did you mean `at least 5`?",
		"less than 3":                "did you mean `under 3`?",
		"equal to 3":                 "did you mean `equals 3`?",
		"not equal to 3":             "did you mean `not equals 3`?",
		"not greater than 3":         "did you mean `over 3`?",
		"includes x":                 "did you mean `contains x`?",
		"does not contain x":         "did you mean `not contains x`?",
		"in A or B":                  "",
		"any of A or B":              "did you mean `one of A or B`?",
		"none of A or B":             "did you mean `not one of A or B`?",
		"begins with x":              "did you mean `starts with x`?",
		"regex a+":                   "did you mean `matches a+`?",
		"exists":                     "did you mean `is present`?",
		"not exists":                 "did you mean `is absent`?",
		"isnull":                     "did you mean `is null`?",
		"not empty":                  "did you mean `not is empty`?",
		"after 2026-11-01":           "did you mean `over 2026-11-01`?",
		"max 5":                      "did you mean `at most 5`?",
		"more than ${limit}":         "did you mean `over ${limit}`?",
		"is an array":                "did you mean `is list`?",
		"is not a date":              "did you mean `is not date`?",
		"is string":                  "did you mean `is text`?",
		"each over 5":                "",
		"is true":                    "did you mean `equals true`?",
		"is present and blank":       "left over",
	}
	told := map[string]string{}
	for text, want := range cases {
		_, err := rule.Parse(text, false)
		if want == "" {
			assert.NoError(t, err, text)
		} else if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want, text)
			told[text] = err.Error()
		}
	}
	asWritten(t, "misleading", told)
	for _, plain := range []string{
		"note the date", "overt", "isn't", "A or B", "at home", "the rest", "allow all", "ist gut", "empty",
		"after the rain", "in transit", "max speed",
		"Patches welcome", "match day", "from Heather", "equality", "countess", "notes", "like new", "type A",
	} {
		_, err := rule.Parse(plain, false)
		assert.NoError(t, err, plain)
	}
}

func TestConditions(t *testing.T) {
	roots := path.Roots{}
	var err error
	roots.Answer, err = document.ReadJSON(
		[]byte(`{"total": 59.97, "lines": [{"amount": 19.99, "q": "3"},{"amount": 39.98}], "day": "2026-11-23", "name": "Clover", "big": 9007199254740993}`))
	require.NoError(t, err)
	xml, err := document.ReadXML([]byte(`<g><m n="hmf">14.2</m><lone><x>1</x></lone></g>`), "")
	require.NoError(t, err)
	roots.Reply = document.NewObject().Set("status", document.NewNumber("200")).Set("xml", xml)
	row := document.NewObject().Set("moisture", document.NewUntyped("17.4"))
	data := &rule.Data{
		Roots: roots, Row: row, Kept: document.NewObject().Set("limit", document.NewNumber("20")),
		Scope: lookup,
	}
	passed := []string{
		"0.1 + 0.2 == 0.3", "19.99 * 3 == 59.97", "answer.total == sum(answer.lines.map(l, l.amount))",
		"reply.status == 200",
		"number(row.moisture) * 1.05 + 0.2 == 18.47", "row.moisture < 18", "row.moisture > 9",
		"answer.lines.size() == 2", "size(answer.lines[0]) == 2", "size(answer) > 3", "size(answer.lines) == 2",
		"answer.lines[0].q == '3'", "answer.lines[0].q + 'x' == '3x'", "absent(answer.no.such.thing)",
		"!has(answer.nothing)", "has(answer.total)",
		"reply.xml.m.n == 'hmf'", "reply.xml.m + 1 == 15.2", "reply.xml.lone[0].x == 1", "size(reply.xml.lone) == 1",
		"reply.xml.lone.map(l, l.x) == [1]",
		"answer.lines[-1].amount == 39.98", "'hmf' in [reply.xml.m.n]", "answer.lines.exists(l, l.amount > 30)",
		"answer.lines.filter(l, l.amount > 30)[0].amount == 39.98",
		"[1, 2, 3][size(answer.lines)] == 3", "{'a': 5}['a'] == 5", "date('2026-12-01') - days(8) == date(answer.day)",
		"timestamp('2026-11-23T08:00:00Z') - duration('2h') == timestamp('2026-11-23T06:00:00Z')",
		"date(answer.day) + days(8) == date('2026-12-01')", "date('2026-12-01') - date(answer.day) == duration('192h')",
		"answer.day < '2026-12-01'",
		"round(2.345, 2) == 2.35", "max(answer.lines.map(l, l.amount)) == 39.98", "avg([1, 2, 4.5]) == 2.5",
		"10 / 4 == 2.5", "1 / 3 * 3 < 1", "-answer.total < 0",
		"answer.big == 9007199254740993", "answer.big + 1 == 9007199254740994", "answer.name.startsWith('Clo')",
		"answer.name.matches('^C.*r$')",
		"at('lines[amount=19.99].q') == '3'", "kept.limit >= row.moisture", "answer.lines[1 - 1].amount == 19.99",
		"answer.total > 50 ? true : false", "min(3, 1.5) == 1.5",
		"answer.lines.all(l, l.amount > 0) && 1e2 == 100", "string(answer.total * 2) == '119.94'",
		"string(1.50) == '1.50'", "string(answer.total) == '59.97'", "int(answer.total) == 59", "7 % 4 == 3",
	}
	names := rule.FunctionNames()
	assert.True(t, slices.IsSorted(names))
	assert.True(t, slices.IsSorted(rule.KindNames()))
	assert.Contains(t, names, "sum")
	assert.False(t, slices.ContainsFunc(names, func(name string) bool { return strings.HasPrefix(name, "@") }),
		"those cannot be called")
	for _, source := range passed {
		t.Run(source, func(t *testing.T) {
			c, err := rule.CompileCondition(source)
			require.NoError(t, err)
			verdict := c.Judge(data)
			assert.True(t, verdict.Passed, "%+v", verdict)
		})
	}
	failed := map[string]string{
		"duration('1h') - 5 > 0":    "cannot be taken from",
		"answer.total == 60":        "left is 59.97, right is 60",
		"answer.total + 1 < 60.0":   "left is 60.97, right is 60.0",
		"answer.total != 59.97":     "left is 59.97, right is 59.97",
		"answer.total <= 59":        "left is 59.97, right is 59",
		"answer.total > 59.97":      "left is 59.97, right is 59.97",
		"answer.total >= 60":        "left is 59.97, right is 60",
		"answer.nothing + 1 == 2":   "what is not there and 1 cannot be added",
		"answer.name * 2 == 1":      `"Clover" is not a number`,
		"1 / 0 == 1":                "division by zero",
		"answer.total":              "a condition must come to true or false",
		"answer.nothing == 1":       "left is missing, right is 1",
		"range(1) == 1":             "-",
		"answer.lines.foo(1) == 1":  "-",
		"answer.total = 5":          "equality is written ==",
		"answer.a and answer.b":     "write && for and",
		"anwser.total == 1":         `did you mean "answer"?`,
		"grade == 'A'":              "kept.grade",
		"${x} == 1":                 "takes no placeholders",
		"(answer.total == 1":        "brackets",
		"(1 + 1)[0] == 1":           "it has no 0",
		"sum(answer.total) == 1":    "59.97 is not a list",
		"[1,2].map(x, x + y) == []": `"y" is not known`,
		"[0,0,0,0,0,0,0,0,0,0,0,0].all(a,[0,0,0,0,0,0,0,0,0,0,0,0].all(b,[0,0,0,0,0,0,0,0,0,0,0,0].all(c,[0,0,0,0,0,0,0,0,0,0,0,0].all(d,[0,0,0,0,0,0,0,0,0,0,0,0].all(e,[0,0,0,0,0,0,0,0,0,0,0,0].all(f,a==b))))))": "too many steps",
	}
	for source, want := range failed {
		t.Run(source, func(t *testing.T) {
			c, err := rule.CompileCondition(source)
			if err != nil {
				if want != "-" {
					assert.Contains(t, err.Error(), want)
				}
				return
			}
			verdict := c.Judge(data)
			assert.False(t, verdict.Passed)
			assert.Equal(t, verdict.Got != "condition is false", verdict.Unclear, "it came to neither yes nor no")
			if want != "-" {
				assert.Contains(t, fmt.Sprint(verdict.Got, verdict.Note), want)
			}
		})
	}
	c, err := rule.CompileCondition("number(row.moisture) * 1.05 + 0.2")
	require.NoError(t, err)
	node, err := c.WorkOut(data)
	require.NoError(t, err)
	assert.Equal(t, "18.470", node.Text)
	assert.Equal(t, document.Number, node.Kind)
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{
		"one of A or B", "between 1 and ${x}", "not is present", "about 5 within 3 %",
		`contains "a\"b"`, "count at least 2", "optional matches a+", "betwen 1 and 2", "equals ${a | default x}",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		r, err := rule.Parse(source, false)
		if err != nil {
			return
		}
		// What was read judges any value without trouble.
		for _, node := range []*document.Node{document.NewNumber("5"), document.NewText("x"), document.NewList(), nil} {
			found := path.Selection{Matches: []path.Match{{Where: "x", Node: node, Miss: &path.Miss{}}}}
			_, _ = r.Judge(found, path.Roots{}, lookup)
		}
	})
}

func FuzzCondition(f *testing.F) {
	for _, seed := range []string{
		"answer.a == 1.5", "sum([1,2]) > 0", "at('a') == 1", "answer[-1].x", "-1.5 + .5",
		"[1].map(x, x)",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		c, err := rule.CompileCondition(source)
		if err == nil {
			c.Judge(&rule.Data{Roots: path.Roots{Answer: document.NewNumber("1")}, Scope: lookup})
		}
	})
}

// A rule for a status tells the one that it takes, where that is one.
func TestSingleStatus(t *testing.T) {
	for text, want := range map[string]int{
		"201": 201, "200 or 201": 0, "not 404": 0, "2xx": 0, "not 2xx": 0, "404": 404,
	} {
		s, err := rule.ParseStatus(text)
		require.NoError(t, err)
		status, ok := s.Single()
		assert.Equal(t, want, status, text)
		assert.Equal(t, want != 0, ok, text)
	}
}
