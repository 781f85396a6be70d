package jsonpath_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path/jsonpath"
)

const depots = `{"depots": [
 {"name": "north", "lots": [{"id": "L-1", "kilos": 40, "grade": "A", "tags": ["heather", "old"]}, {"id": "L-2", "kilos": 4e1, "grade": "B"}, {"id": "L-3", "kilos": 12.5}]},
 {"name": "south", "lots": [{"id": "L-4", "kilos": null, "grade": ""}], "a b": {"'": 1, "\\": 2, "\n": 3, "☺": 4, "\u000b": 5}}],
 "keeper": {"name": "Ansel", "lots": 4}, "none": null, "yes": true, "n": [0, 1, 2, 3, 4, 5, 6]}`

func find(t *testing.T, query, text string) (values, paths string) {
	t.Helper()
	q, err := jsonpath.Compile(query)
	require.NoError(t, err, query)
	root, err := document.ReadJSON([]byte(text))
	require.NoError(t, err)
	located, err := q.Find(root)
	require.NoError(t, err, query)
	var v, p []string
	for _, found := range located {
		v = append(v, document.WriteJSON(found.Node, document.Style{}))
		p = append(p, found.Path)
	}
	return strings.Join(v, " "), strings.Join(p, " ")
}

// Each section of RFC 9535 has its cases: what is selected, and in which order.
func TestFind(t *testing.T) {
	for _, c := range []struct{ section, query, want string }{
		{"2.3.1 name", "$.keeper.name", `"Ansel"`},
		{"2.3.1 name in brackets", `$['keeper']["name"]`, `"Ansel"`},
		{"2.3.1 name of nothing", "$.keeper.nmae", ""},
		{"2.3.1 name of a list", "$.depots.name", ""},
		{"2.3.1 null is a value", "$.none", "null"},
		{"2.3.1 escapes", `$.depots[1]['a b']['\'','\\','\n','\u263a','\u000B',"'"]`, "1 2 3 4 5 1"},
		{"2.3.2 wildcard", "$.keeper.*", `"Ansel" 4`},
		{"2.3.2 wildcard of a list", "$.depots[*].name", `"north" "south"`},
		{"2.3.2 wildcard of a value", "$.keeper.name.*", ""},
		{"2.3.3 index", "$.n[2]", "2"},
		{"2.3.3 index from the end", "$.n[-1]", "6"},
		{"2.3.3 index beyond", "$.n[7]", ""},
		{"2.3.3 index beyond the start", "$.n[-8]", ""},
		{"2.3.3 index of an object", "$.keeper[0]", ""},
		{"2.3.4 slice", "$.n[1:3]", "1 2"},
		{"2.3.4 slice from", "$.n[5:]", "5 6"},
		{"2.3.4 slice to", "$.n[:-5]", "0 1"},
		{"2.3.4 slice with step", "$.n[1:6:2]", "1 3 5"},
		{"2.3.4 slice backwards", "$.n[5:1:-2]", "5 3"},
		{"2.3.4 slice reversed", "$.n[::-1]", "6 5 4 3 2 1 0"},
		{"2.3.4 slice with step 0", "$.n[1:2:0]", ""},
		{"2.3.4 slice beyond", "$.n[-100:100:3]", "0 3 6"},
		{"2.3.4 slice with a large step", "$.n[0:5:9007199254740991]", "0"},
		{"2.3.4 slice backwards beyond", "$.n[100:-100:-3]", "6 3 0"},
		{"2.3.5 exists", "$.depots[*].lots[?@.grade].id", `"L-1" "L-2" "L-4"`},
		{"2.3.5 not exists", "$.depots[*].lots[?!@.grade].id", `"L-3"`},
		{"2.3.5 null exists", "$.depots[*].lots[?@.kilos == null].id", `"L-4"`},
		{"2.3.5 equal numbers", "$.depots[0].lots[?@.kilos == 40.0].id", `"L-1" "L-2"`},
		{"2.3.5 order of numbers", "$.depots[*].lots[?@.kilos < 40].id", `"L-3"`},
		{"2.3.5 order of texts", "$.depots[*].lots[?@.grade > 'A'].id", `"L-2"`},
		{"2.3.5 no order between kinds", "$.depots[*].lots[?@.kilos < 'a' || @.kilos >= 'a'].id", ""},
		{"2.3.5 nothing equals nothing", "$.depots[*].lots[?@.x == @.y].id", `"L-1" "L-2" "L-3" "L-4"`},
		{"2.3.5 nothing is at most nothing", "$.depots[*].lots[?@.x <= @.y].id", `"L-1" "L-2" "L-3" "L-4"`},
		{"2.3.5 nothing is not null", "$.depots[*].lots[?@.grade == null].id", ""},
		{"2.3.5 nothing differs", "$.depots[*].lots[?@.grade != 'A'].id", `"L-2" "L-3" "L-4"`},
		{"2.3.5 and before or", "$.n[?@ == 1 || @ == 2 && @ == 3]", "1"},
		{"2.3.5 parentheses", "$.n[?(@ == 1 || @ == 2) && @ > 1]", "2"},
		{"2.3.5 not of parentheses", "$.n[?!(@ > 1)]", "0 1"},
		{"2.3.5 true and false", "$[?@ == true]", "true"},
		{"2.3.5 deep", "$.depots[?@.lots[?@.kilos > 20 && @.tags[?@ == 'old']]].name", `"north"`},
		{
			"2.3.5 from the root", "$.depots[*].lots[?@.kilos > $.keeper.lots && @.id == $.depots[0].lots[0].id].kilos",
			"40",
		},
		{"2.3.5 members of an object", "$.keeper[?@ == 4]", "4"},
		{"2.3.5 whole objects", `$.depots[?@.name == $.depots[1]['name']].lots[0].id`, `"L-4"`},
		{"2.4.4 length", "$.depots[?length(@.lots) == 3].name", `"north"`},
		{"2.4.4 length of a text in characters", `$.depots[1]['a b'][?length('☺') == 1 && @ == 4]`, "4"},
		{"2.4.4 length of a number is nothing", "$.n[?length(@) == length($.none)]", "0 1 2 3 4 5 6"},
		{"2.4.5 count", "$.depots[?count(@.lots[*]) == 1].name", `"south"`},
		{"2.4.6 match is whole", `$.depots[*].lots[?match(@.id, 'L-[12]')].id`, `"L-1" "L-2"`},
		{"2.4.6 match of a part", `$.depots[*].lots[?match(@.id, '[12]')].id`, ""},
		{"2.4.6 no match of nothing", `$.depots[*].lots[?match(@.x, '.*')].id`, ""},
		{"2.4.6 no I-Regexp", `$.depots[*].lots[?match(@.id, '\\d')].id`, ""},
		{"2.4.6 the dollar stands for itself", `$.depots[*].lots[?search(@.id, '1$')].id`, ""},
		{"2.4.7 search", `$.depots[*].lots[?search(@.id, '[3-9]')].id`, `"L-3" "L-4"`},
		{"2.4.7 the dot is not a line end", `$.depots[1]['a b'][?search('a\nb', 'a.b')]`, ""},
		{
			"2.4.7 classes of characters", `$.depots[*].lots[?search(@.id, '\\p{Lu}-\\p{Nd}{1}')].id`,
			`"L-1" "L-2" "L-3" "L-4"`,
		},
		{"2.4.8 value", "$.depots[?value(@.lots[*].kilos) == null].name", `"south"`},
		{"2.4.8 value of several is nothing", "$.depots[?value(@.lots[*].id) == 'L-1'].name", ""},
		{"2.5.1 several selectors", "$.n[0, 0, 5:, -7]", "0 0 5 6 0"},
		{"2.5.1 blanks", "$ .keeper\n[ 'name' , 'lots' ]", `"Ansel" 4`},
		{"2.5.1 names beyond ASCII", `$.depots[1]["a b"].☺`, "4"},
		{"2.5.2 descendants", "$..id", `"L-1" "L-2" "L-3" "L-4"`},
		{"2.5.2 descendants by index", "$..[0].id", `"L-1" "L-4"`},
		{"2.5.2 descendants, all", "$.keeper..*", `"Ansel" 4`},
		{"2.5.2 in the order of documents", "$..name", `"north" "south" "Ansel"`},
		{"2.5.2 of descendants", "$.depots..lots..tags[1]", `"old"`},
	} {
		got, _ := find(t, c.query, depots)
		assert.Equal(t, c.want, got, "%s: %s", c.section, c.query)
	}
	for query, want := range map[string]string{
		"$": "$", "$.depots[-1].name": "$['depots'][1]['name']",
		"$..tags[::-1]":        "$['depots'][0]['lots'][0]['tags'][1] $['depots'][0]['lots'][0]['tags'][0]",
		`$.depots[1]["a b"].*`: `$['depots'][1]['a b']['\''] $['depots'][1]['a b']['\\'] $['depots'][1]['a b']['\n'] $['depots'][1]['a b']['☺'] $['depots'][1]['a b']['\u000b']`,
	} {
		_, got := find(t, query, depots)
		assert.Equal(t, want, got, query)
	}
}

// What is not a query is told with its place.
func TestMistakes(t *testing.T) {
	for query, says := range map[string]string{
		"":                                 "begins with $",
		"depots":                           "begins with $",
		"$.":                               "a name is expected",
		"$.1a":                             "a name is expected",
		"$.a-b":                            `"-b" is not allowed`,
		"$a":                               "is not allowed",
		"$ ":                               `" " is not allowed`,
		" $":                               "begins with $",
		"$[":                               "is expected in brackets",
		"$[]":                              "is expected in brackets",
		"$[a]":                             "is expected in brackets",
		"$['a'":                            "a comma or ]",
		"$['a]":                            "is not closed",
		`$["\q"]`:                          `\q is not an escape`,
		`$['\"']`:                          `\" is not an escape`,
		`$["\ud800"]`:                      "surrogate",
		`$["\udc00"]`:                      "surrogate",
		`$["\u12"]`:                        "four digits",
		"$['\n']":                          "must be escaped",
		"$[01]":                            "without leading zeros",
		"$[-0]":                            "without leading zeros",
		"$[9007199254740992]":              "too large",
		"$[1:2:3:4]":                       "a comma or ]",
		"$[?]":                             "is expected",
		"$[?@.a = 1]":                      "write ==",
		"$[?@.a == ]":                      "is expected",
		"$[?1]":                            "a value alone is not a condition",
		"$[?@.* == 1]":                     "may find several",
		"$[?@..a == 1]":                    "may find several",
		"$[?@[0:1] == 1]":                  "may find several",
		"$[?!@.a == 1]":                    "put the comparison into parentheses",
		"$[?(@.a]":                         ") is expected",
		"$[?@.a == 01]":                    "is not a number",
		"$[?@.a == 1.]":                    "is not a number",
		"$[?leng(@.a) == 1]":               "there is no function leng",
		"$[?length(@.a)]":                  "must be compared",
		"$[?length(@.*) == 1]":             "takes a single value",
		"$[?count(1) == 1]":                "takes a query",
		"$[?count(@.a, 1) == 1]":           "takes 1 arguments",
		"$[?match(@.a) == true]":           "takes 2 arguments",
		"$[?match(@.a, 'a') == true]":      "cannot be compared",
		"$[?length(match(@.a, 'a')) == 1]": "takes a single value",
		"$[?length (@.a) == 1]":            "is expected",
		"$..":                              "a name is expected",
		"$...a":                            "a name is expected",
		"$" + strings.Repeat("[?@", 200):   "nested deeper",
	} {
		_, err := jsonpath.Compile(query)
		var mistake *jsonpath.Error
		require.ErrorAs(t, err, &mistake, query)
		assert.Contains(t, err.Error()+mistake.Message+mistake.Try, says, query)
	}
}

// What would take for ever is refused, and not cut short in silence; what takes its time once
// for each node is done.
func TestWork(t *testing.T) {
	flat := "[" + strings.Repeat(`{"a": {"b": 1, "c": "xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx"}, "p": "(x+x+)+y"},`, 5_000) +
		"0]"
	deep := strings.Repeat(`[`, 400) + "1" + strings.Repeat("]", 400)
	var members strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&members, `, "k%d": 1`, i)
	}
	wide := `{"o": {"k": 1` + members.String() + `}}`
	for _, c := range []struct {
		document, query string
		found           int // -1: refused
	}{
		{flat, "$..b", 5_000},
		{flat, "$[?@.a.b == 1]", 5_000},
		{flat, "$[?@ == $[0]].a.c", 5_000},
		{flat, "$[?search(@.a.c, 'x{3}')].p", 5_000},
		{flat, "$[?search(@.a.c, @.p)]", 0},
		{flat, "$[?$[?@.a.b == 2]]", -1},
		{flat, "$[?$ == $]", -1},
		{flat, "$[?search(@.a.c, 'x{900}x*x*x*y')]", -1},
		{flat, "$[?count($..*) > 1]", -1},
		{deep, "$..*", 400},
		{"[" + strings.Repeat("[[1]],", 1000) + "1]", "$..*..*", 3000},
		{deep, "$..*..*..*", -1}, // their paths alone are gigabytes
		{deep, "$..[?@..[?@..[?@..[?@..*]]]]", 396},
		{deep, "$..[?count(@..*) > count($..*)]", 0},
		{deep, "$..[?@..[?@ == 2]]", 0},
		{wide, "$[?@ == $.o]", 1},
		{wide, "$.o[?$.o.k19999 == @]", -1},
	} {
		root, err := document.ReadJSON([]byte(c.document))
		require.NoError(t, err)
		q, err := jsonpath.Compile(c.query)
		require.NoError(t, err, c.query)
		found, err := q.FindWithin(2_000_000, root)
		if c.found < 0 {
			assert.ErrorIs(t, err, jsonpath.ErrTooMuch, c.query)
			continue
		}
		assert.NoError(t, err, c.query)
		assert.Len(t, found, c.found, c.query)
	}
}

func FuzzCompile(f *testing.F) {
	root, _ := document.ReadJSON([]byte(depots))
	f.Add("$.depots[?@.lots[0].kilos >= 4 && match(@.name, 'n.*')]..id[1:2:-1]")
	f.Add(`$["\ud83d\ude00"]..*[?count($..*) < 5]`)
	f.Fuzz(func(_ *testing.T, text string) {
		if len(text) > 200 {
			return
		}
		if q, err := jsonpath.Compile(text); err == nil {
			_, _ = q.Find(root)
		}
	})
}
