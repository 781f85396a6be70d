package rule_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
)

// crossedValues are what rules are checked against; the last is not there.
var crossedValues = []string{
	`5`, `-1`, `0`, `5.0`, `12.50`, `1e3`, `"5"`, `""`, `"A"`, `"a b"`, `"ünder"`, `"2026-11-23"`,
	`"2026-11-23T08:30:00Z"`,
	`"08:30:00"`, `"5 s"`, `"2 kB"`, `true`, `false`, `null`, `[]`, `[5]`, `["A", "b"]`, `[1, 2, 2]`, `[3, 2, 1]`,
	`["2026-11-23", "b"]`, `["b", "9"]`, `{}`,
	`{"a": 5}`, `"lab@heatherfold.example"`, `"6b1f2a5e-0b7c-4c1f-9d55-0d8f3a1b2c3d"`, ``,
}

var crossedRules = []string{
	"5", "A", "null", "true", "equals 5", `equals "5"`, `"A"`, "not equals A", "one of A or 5", "not one of A or b",
	"contains a", "contains ü",
	"not contains a", "one of A, B", "starts with A", "ends with b", "starts with 2026", "matches ^[A-Z]$", "matches 5",
	"over 0", "over 4.99", "at least 5",
	"under 5", "at most 5.0", "over 2026-11-22", "at least 2026-11-23T08:30:00Z", "under 09:00:00", "over 4 s",
	"at most 5000 ms", "over 1 kB",
	"between 0 and 5", "between 5 and 12.5", "not between 0 and 4", "between 2026-01-01 and 2026-12-31",
	"about 5 within 1", "about 12 within 5 %",
	"about 5 s within 1 s", "is number", "is integer", "is text", "is boolean", "is list", "is object", "is date",
	"is datetime", "is time", "is uuid",
	"is email", "is present", "is absent", "is null", "is empty", "not is empty", "is unique", "is ascending",
	"is descending", "is decimal 2",
	"count 0", "count 1", "count over 1", "not count 2", "length 1", "length 5", "length over 2", "all over 0",
	"all is integer", "some over 2",
	"some equals A", "optional 5", "optional over 4", "optional is text", "not 5", "not null", "not over 4",
	"not is text", "not matches 5", "same as y",
	"not same as y", "at least A", "over A", "all length 1", "some is text", "all one of 1 or 2",
}

// Every rule is checked against every kind of value: what holds, what does not, and what is said of
// it. The golden file has a sign for each value in its order, + or - or ! for an error, and below
// it what is said, with the values of which it is said.
func TestCrossed(t *testing.T) {
	var out strings.Builder
	fmt.Fprintf(&out, "the values: %s\n", strings.Join(crossedValues, " · "))
	for _, text := range crossedRules {
		parsed, err := rule.Parse(text, false)
		if err != nil {
			fmt.Fprintf(&out, "%s\n  no rule: %v\n", text, err)
			continue
		}
		signs := ""
		said := map[string][]string{}
		var order []string
		for _, answer := range crossedValues {
			object := `{"y": 5}`
			if answer != "" {
				object = `{"x": ` + answer + `, "y": 5}`
			}
			found, roots := find(t, object, "x")
			verdict, err := parsed.Judge(found, roots, lookup)
			sign, note := "-", verdict.Note
			if verdict.Passed {
				sign = "+"
			}
			if err != nil {
				sign, note = "!", err.Error()
			}
			signs += sign
			if note != "" {
				note += " (got " + verdict.Got + ")"
				if len(said[note]) == 0 {
					order = append(order, note)
				}
				said[note] = append(said[note], answer)
			}
		}
		fmt.Fprintf(&out, "%s\n  %s\n", text, signs)
		for _, note := range order {
			fmt.Fprintf(&out, "    %s: %s\n", strings.Join(said[note], " · "), note)
		}
	}
	golden(t, "crossed.golden", out.String())
}

// golden holds a text against a file of testdata, which -update writes anew.
func golden(t *testing.T, name, text string) {
	t.Helper()
	file := "testdata/" + name
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	if string(want) != text {
		expected, got := strings.Split(string(want), "\n"), strings.Split(text, "\n")
		for i := range min(len(expected), len(got)) {
			require.Equal(t, expected[i], got[i], "line %d; go test ./internal/rule -update writes it anew", i+1)
		}
		assert.Len(t, got, len(expected))
	}
}

// Every function and operator of conditions is calculated with every kind of value, and says what
// it cannot do.
func TestCrossedConditions(t *testing.T) {
	var err error
	data := &rule.Data{
		Kept: document.NewObject().Set("k", document.NewNumber("2")), Scope: lookup,
		Row: document.NewObject().Set("u", document.NewUntyped("7")).Set("e", document.NewUntyped("")),
	}
	data.Roots = path.Roots{}
	data.Roots.Answer, err = document.ReadJSON([]byte(
		`{"n": 2.50, "t": "Clover", "list": [3, 1, 2], "lots": [{"kilos": 5}, {"kilos": 2.5}], "none": null, "at": "2026-11-23T08:30:00Z", "o": {"a": 1}}`))
	require.NoError(t, err)
	values := []string{
		"answer.n", "2", "-1.5", "row.u", "row.e", "answer.t", "'2026-11-30'", "answer.at", "answer.list", "[]",
		"answer.lots",
		"answer.o", "answer.none", "answer.nothing", "true", "date('2026-11-23')", "duration('90s')",
	}
	var out strings.Builder
	told := func(source string) {
		said := ""
		condition, err := rule.CompileCondition(source)
		if err == nil {
			var node *document.Node
			if node, err = condition.WorkOut(data); err == nil {
				said = fmt.Sprint(node.Kind) + " " + node.Describe()
			}
		}
		if err != nil {
			said = "! " + strings.ReplaceAll(err.Error(), "\n", " / ")
		}
		fmt.Fprintf(&out, "%s = %s\n", source, said)
	}
	for _, name := range rule.FunctionNames() {
		if slices.Contains([]string{"now", "today"}, name) {
			continue
		}
		for _, a := range values {
			told(name + "(" + a + ")")
		}
		for _, pair := range [][2]string{
			{"answer.n", "2"},
			{"answer.list", "1"},
			{"answer.t", "'o'"},
			{"answer.at", "duration('1h')"},
			{"answer.none", "1"},
		} {
			told(name + "(" + pair[0] + ", " + pair[1] + ")")
		}
	}
	for _, operator := range []string{"+", "-", "*", "/", "%", "==", "!=", "<", ">=", "in"} {
		for _, a := range values {
			for _, b := range []string{
				"2", "answer.n", "answer.t", "answer.list", "answer.none", "answer.nothing",
				"date('2026-11-22')", "duration('1h')",
			} {
				told(a + " " + operator + " " + b)
			}
		}
	}
	for _, a := range values {
		told("!" + a)
		told(a + " && true")
		told(a + "[0]")
		told(a + ".kilos")
		told("-" + a)
		told(a + " ? 1 : 2")
		told(a + ".all(x, x > 1)")
		told(a + ".map(x, x)")
	}
	golden(t, "conditions.golden", out.String())
}
