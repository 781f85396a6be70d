package main_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Rows come from files of several kinds, from the sheet itself and from spans; some of
// them are taken.
func TestRows(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: http://127.0.0.1\nservices: {}\n")
	p.write("week.xml", `<week><lot no="1"><day>2026-11-03</day><kilos>12.50</kilos></lot><lot no="2"><day>2026-11-14</day><kilos>50</kilos></lot><lot no="3"><day>2026-11-05</day><kilos>x</kilos></lot></week>`)
	p.write("week.json", `{"lots": [{"no": 1, "day": "2026-11-03"}, {"no": 2, "day": "2026-11-14"}]}`)
	p.write("week.ndjson", `{"no": 1}`+"\n"+`{"no": 2}`+"\n")
	for i, c := range []struct {
		rows   string
		status int
		says   []string
	}{
		{
			"{from: week.xml, path: lot, label: no, limit: 2}", 0,
			[]string{"row 1 of 3 (no 1)", "row 2 of 3 (no 2)", "2 rows · 2 passed"},
		},
		{
			"{from: week.xml, path: lot, when: number(row.kilos) > 20, label: no}", 2,
			[]string{
				"row 2 of 3 (no 2)", `error the condition of the rows cannot be evaluated: "x" is not a number`,
				"1 passed · 1 failed",
			},
		},
		{
			"{from: week.json, path: lots, when: \"row.day > '2026-11-10'\"}", 0,
			[]string{"row 2 of 2 (no 2)", "1 passed"},
		},
		{"week.ndjson", 0, []string{"2 rows"}},
		{"[{no: 1}, {no: '007'}]", 0, []string{"(no 007)"}},
		{"[a, b]", 2, []string{`nothing defines ${no}`}},
		{"{numbers: 1 to 1000, as: no, sample: 3, seed: x}", 0, []string{"3 rows"}},
		{"{days: 2026-02-27 to 2026-03-01, by: 2, as: no}", 0, []string{"(no 2026-03-01)", "2 rows"}},
		{"{days: 2026-02-27 to 2026-02-30}", 2, []string{"days: ", "is not a span of days"}},
		{
			"{days: 2026-02-27 to 2026-02-28, numbers: 1 to 2}", 2,
			[]string{"rows come from one place: numbers and days"},
		},
		{"{from: week.json}", 2, []string{"week.json: it is an object", "say with path: where the list is"}},
		{"{from: week.xml, path: lot, label: n}", 2, []string{`there is no column "n"`}},
		{"{from: week.xml, path: lot, limit: 0}", 2, []string{"limit must be a whole number from 1"}},
		{"[{no: '${x}'}]", 2, []string{"holds no placeholders"}},
		{"{numbers: 1 to 3, as: no, when: row.no > 5}", 1, []string{"rows expected at least one, got none failed"}},
	} {
		name := fmt.Sprintf("s%d.yaml", i)
		p.write(name, "sheet: s\nrows: "+c.rows+
			`
steps:
  - step: show
    set:
      a: ${no}
      d: ${today | day}.${today | month}.${today | year}
`)
		o := p.run("run", name)
		assert.Equal(t, c.status, o.status, "%s: %s", c.rows, o.all())
		for _, says := range c.says {
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), says, c.rows)
		}
	}
}
