package rule_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
)

// What an expression comes to, or why it comes to nothing.
func TestFunctions(t *testing.T) {
	roots := path.Roots{Reply: document.NewObject()}
	var err error
	roots.Answer, err = document.ReadJSON(
		[]byte(`{"kilos": 12.50, "lots": [{"id": "L-1", "kilos": 3}, {"id": "L-2", "kilos": 4.5}], "day": "2026-11-23", "at": "2026-11-23T08:30:00+01:00", "keeper": "Bryony Marl", "none": [], "empty": null, "yes": true, "weight": "1.5 t", "owner": {"name": "Ansel"}}`))
	require.NoError(t, err)
	row := document.NewObject().Set("kilos", document.NewUntyped("17.4")).Set("day",
		document.NewUntyped("2026-11-30")).Set("note", document.NewUntyped("späte Ernte"))
	data := &rule.Data{Roots: roots, Row: row, Kept: document.NewObject(), Scope: lookup}
	for source, want := range map[string]string{
		// one of a list, and its neighbours
		"first(answer.lots.filter(l, l.kilos > 3)).id":                              "L-2",
		"absent(first(answer.lots.filter(l, l.kilos > 9)))":                         "true",
		"last(answer.lots).id":                                                      "L-2",
		"absent(last(answer.nothing))":                                              "true",
		"least(answer.lots, 'kilos').id":                                            "L-1",
		"most(answer.lots, 'kilos').id":                                             "L-2",
		"most(answer.lots.filter(l, l.kilos < 4), 'kilos').id":                      "L-1",
		"absent(most(answer.lots, 'size'))":                                         "true",
		"least(answer.kilos, 'a')":                                                  "it takes a list",
		"placed(answer.lots)[1].index":                                              "1",
		"placed(answer.lots)[1].previous.kilos":                                     "3",
		"placed(answer.lots)[0].next.kilos":                                         "4.5",
		"placed(answer.lots).map(p, present(p.previous) ? 1 : 0)":                   "a list of 2",
		"placed(answer.lots).all(p, p.index == 0 || p.it.kilos > p.previous.kilos)": "true",
		"size(placed(answer.none))":                                                 "0",
		"placed(answer.kilos)":                                                      "is not a list",
		// numbers
		"abs(-12.50)":                     "12.50",
		"abs(answer.keeper)":              `"Bryony Marl" is not a number`,
		"-answer.keeper":                  `"Bryony Marl" is not a number`,
		"1 * answer.keeper":               `"Bryony Marl" is not a number`,
		"round(2.5)":                      "3",
		"round(-2.5)":                     "-3",
		"round(1250, -2)":                 "1300",
		"round(1, 101)":                   "round takes from -100 to 100 digits",
		"round(1, 0.5)":                   "round takes from -100 to 100 digits",
		"size(string(round(1, 100)))":     "102",
		"round(1, -100) == 0":             "true",
		"round(1, -101)":                  "round takes from -100 to 100 digits",
		"round('x')":                      `"x" is not a number`,
		"round(1, 'x')":                   `"x" is not a number`,
		"7 % 0":                           "it cannot be calculated",
		"number('12.50')":                 "12.50",
		"number(answer.none)":             "is not a number",
		"int(-2.9)":                       "-2",
		"answer.kilos - 'x'":              `cannot be taken from`,
		"answer.kilos + answer":           "cannot be added",
		"1.10 + row.kilos":                "18.50",
		"answer.nothing + answer.lots":    "cannot be added",
		"answer.lots + answer.nothing":    "cannot be added",
		"answer.lots + 'x'":               "cannot be added",
		"answer.yes + 1":                  "cannot be added",
		"'x' + answer.lots":               "cannot be added",
		"size(answer.lots + answer.none)": "2",
		"row.kilos + row.kilos":           "34.8",
		"'' + row.kilos + 'x'":            "17.4x",
		"answer.kilos > 'x'":              "cannot be compared with",
		"row.kilos > 'x'":                 "false",
		"answer.kilos > '9'":              "true",
		"answer.none < 1":                 "cannot be compared with 1",
		"'900 ms' < '1 s'":                "true",
		"'2 MB' > '900 kB'":               "true",
		"'2 MB' > '900 ms'":               "",
		"'b' > 'a'":                       "true",
		"'b' < 'a'":                       "false",
		"true > false":                    "true",
		"[1] < [2]":                       "cannot be compared",
		"answer.yes < 2":                  "cannot be compared with 2",
		"false < true":                    "true",
		"answer.kilos >= 12.5":            "true",
		"answer.kilos <= 12.4":            "false",
		"answer.kilos <= 12.50":           "true",
		"answer.kilos < 12.50":            "false",
		"answer.kilos > 12.50":            "false",
		"answer.kilos >= 12.51":           "false",
		"answer.kilos != 12.5":            "false",

		// lists
		"sum(answer.none)":                         "0",
		"avg(answer.none)":                         "an empty list has no average",
		"sum(answer.lots)":                         "[0]:",
		"sum([1, 'x'])":                            `[1]: "x" is not a number`,
		"avg(answer.lots.map(l, l.kilos))":         "3.75",
		"max(answer.none)":                         "has no smallest or largest",
		"max(answer.kilos)":                        "has no smallest or largest",
		"max(1, 'b', answer.none)":                 "cannot be compared",
		"max('2026-11-23', row.day)":               "2026-11-30",
		"size(answer.lots + [1])":                  "3",
		"size(answer.lots + answer.lots)":          "4",
		"size(answer.nothing)":                     "0",
		"size(row.note)":                           "11",
		"size(answer.keeper)":                      "11",
		"size(answer.owner)":                       "1",
		"size(12)":                                 "has no size",
		"3 in answer.lots.map(l, l.kilos)":         "true",
		"5 in answer.lots.map(l, l.kilos)":         "false",
		"'name' in answer.owner":                   "true",
		"1 in 2":                                   "is not a list",
		"answer.lots.map(l, l.id).contains('L-2')": "true",
		"[1, 2, 3][1]":                             "2",
		"[1, 2, 3][row.kilos - 15.4]":              "3",
		"{'a': 5}['a']":                            "5",
		"answer.lots[7].id":                        "",
		"answer.lots.exists_one(l, l.kilos > 4)":   "true",
		"answer.lots.filter(l, l.id == 'L-2').map(l, l.id)[0]": "L-2",

		// texts
		"answer.keeper.startsWith('Bry')": "true",
		"answer.keeper.endsWith('x')":     "false",
		"answer.keeper.contains('ny M')":  "true",
		"answer.none.startsWith('x')":     "is not text",
		"answer.none.matches('x')":        "is not text",
		"answer.keeper.matches('[')":      "missing closing ]",
		"text(answer.kilos)":              "12.50",
		"text(answer.none)":               "is not a single value",
		"answer.keeper + '!'":             "Bryony Marl!",

		// days and times
		"date(answer.at)":                              "2026-11-23",
		"date(answer.keeper)":                          `"Bryony Marl" is not a date or time`,
		"datetime(answer.at) - duration('30m')":        "2026-11-23T08:00:00+01:00",
		"datetime(answer.at) - datetime('2026-11-23')": "27000 s",
		"date(answer.day) + days(7) == date(row.day)":  "true",
		"days('x')":                             `"x" is not a number`,
		"days(1e9)":                             "too long",
		"duration('2 min') == duration('PT2M')": "true",
		"duration('90 s') - duration('1m') == duration('30s')": "true",
		"duration('5 kg')":           "is not a duration (800 ms, 5 s, 2 min, PT5S)",
		"duration('999999999999 h')": "too long",
		"duration(answer.none)":      "is not a duration",

		// presence and paths
		"present(answer.kilos)":           "true",
		"present(answer.nothing)":         "false",
		"absent(answer.nothing)":          "true",
		"at('lots[id=L-2].kilos')":        "4.5",
		"at('lots[')":                     "a name is missing",
		"at('lots[*].kilos') == [3, 4.5]": "true",
		"at(answer.kilos)":                "at takes a path in quotes",
		"answer.yes ? 'yes' : 'no'":       "yes",
	} {
		t.Run(source, func(t *testing.T) {
			c, err := rule.CompileCondition(source)
			if err != nil {
				assert.Contains(t, err.Error(), want)
				return
			}
			node, err := c.WorkOut(data)
			switch {
			case err != nil && want == "":
				t.Log(err)
			case err != nil:
				assert.Contains(t, err.Error(), want)
			case node.IsScalar():
				assert.Equal(t, want, node.Text)
			default:
				assert.Equal(t, want, node.Describe())
			}
		})
	}
}

// An answer has as many items and as long texts as a stranger likes: what a condition takes is
// counted by them, and what can be done in one pass is done.
func TestConditionsThatTakeLong(t *testing.T) {
	lots, err := document.ReadJSON([]byte(`{"lots": [` + strings.Repeat(`{"n": 1, "t": "heather"},`, 20_000) +
		`{}], "big": "` + strings.Repeat("x", 1_000_000) + `", "digits": ` + strings.Repeat("7", 1_000_000) + `}`))
	require.NoError(t, err)
	rows, err := document.ReadXML([]byte("<r>"+strings.Repeat("<a><b>1</b></a>", 20_000)+"</r>"), "")
	require.NoError(t, err)
	const tooMany = "it takes too many steps"
	for source, want := range map[string]string{
		"answer.lots.filter(x, present(x.n)).all(x, x.n == 1)":               "",
		"answer.lots.all(x, answer.lots.size() > 1)":                         "",
		"answer.lots.exists(x, x.t.matches('^h+e') && x.n > 1) || true":      "",
		"sum(answer.lots.map(x, absent(x.n) ? 0 : x.n)) == 20000":            "",
		"[1, 2, 3].all(x, answer.big.contains('xx'))":                        "",
		"at('a[7].b') == '1' && answer.a.all(x, at('//a[last()]/b') == x.b)": "",
		"size(answer.a) == 20000":                                            "",
		"answer.digits > 5":                                                  "more than 100,000 digits",

		"answer.lots.all(x, answer == answer)":                      tooMany,
		"answer.lots.all(x, !('y' in answer.lots.map(y, y.t)))":     tooMany,
		"answer.lots.exists(x, x.n == sum(answer.lots.map(y, 1)))":  tooMany,
		"size(answer.lots.map(x, answer.big + 'x')) > 1":            tooMany,
		"size(answer.lots.map(x, answer.lots + [x])) > 1":           tooMany,
		"answer.lots.exists(x, answer.big.matches('(x+x+)+y'))":     tooMany,
		"answer.big.matches('(x{30}){30}y')":                        tooMany,
		"!answer.big.matches('xxxxxxxxxxxy')":                       "",
		"answer.lots.exists(x, text(answer.big) == '')":             tooMany,
		"answer.lots.exists(x, min(answer.big, answer.big) == 'y')": tooMany,
		"answer.a.all(x, x.b == answer.a[0].b)":                     tooMany,
	} {
		answer := lots
		if strings.Contains(source, "answer.a") {
			answer = rows
		}
		condition, err := rule.CompileCondition(source)
		require.NoError(t, err, source)
		verdict := condition.Judge(&rule.Data{
			Roots: path.Roots{Answer: answer, Reply: document.NewObject()},
			Scope: lookup,
		})
		if want == "" {
			assert.True(t, verdict.Passed, "%s: %s", source, verdict.Note)
			continue
		}
		assert.Contains(t, verdict.Note, want, source)
	}
}
