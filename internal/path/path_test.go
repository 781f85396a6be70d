package path_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
)

const lotsJSON = `{
  "lots": [
    {"id": "L-2201", "grade": "A", "prices": [{"kg": 1, "price": 12.50}, {"kg": 5, "price": 60}]},
    {"id": "L-2207", "grade": "B", "prices": []}
  ],
  "@odata.count": 2, "odata": {"count": "no"}, "a.b": {"c": "long"}, "a": {"b": {"c": "short"}},
  "a key with spaces": true, "0": "zero", "reply": {"own": 1}
}`

const measuresXML = `<h:GradeLotResponse xmlns:h="urn:heatherfold:lab" lot="L-1">
  <h:measure name="hmf" unit="mg/kg">14.2</h:measure>
  <h:measure name="diastase">9</h:measure>
  <h:remark lot="L-9"><h:lot>own</h:lot></h:remark>
  <h:single><h:line>only</h:line></h:single>
  <h:note xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>
</h:GradeLotResponse>`

const textsJSON = `{"json": "{\"lots\": [{\"id\": \"a\"}, {\"id\": \"b\"}]}", "plain": "no document", "list": ["[1]", "[2]"],
  "xml": "<?xml version=\"1.0\"?><lots><lot no=\"1\">a</lot><lot>b</lot></lots>"}`

func roots(t *testing.T, text string) path.Roots {
	t.Helper()
	node, _, err := document.Read("", []byte(text))
	require.NoError(t, err)
	reply := document.NewObject()
	reply.Set("status", document.NewNumber("200"))
	headers := document.NewObject()
	headers.FoldCase = true
	headers.Set("ETag", document.NewUntyped(`"7"`))
	reply.Set("headers", headers)
	return path.Roots{Answer: node, Reply: reply, Prefixes: map[string]string{"lab": "urn:heatherfold:lab"}}
}

func TestFind(t *testing.T) {
	cases := []struct{ source, document, where, want, miss string }{
		{source: "lots[0].id", where: "lots[0].id", want: `"L-2201"`},
		{source: "lots.1.grade", where: "lots.1.grade", want: `"B"`},
		{source: "lots[-1].id", where: "lots[1].id", want: `"L-2207"`},
		{source: "answer.lots[0].id", where: "lots[0].id", want: `"L-2201"`},
		{source: "lots[id=L-2207].grade", want: `"B"`},
		{source: `lots[id="L-2207"].grade`, want: `"B"`},
		{source: "lots[0].prices[kg=5].price", want: "60"},
		{source: "lots[0].prices[kg=5.0].price", want: "60"},
		{source: "lots[*].prices[*].price", where: "lots[0].prices[0].price", want: "12.50"},
		{source: "@odata.count", want: "2"},
		{source: "a.b.c", want: `"long"`},
		{source: `["a key with spaces"]`, want: "true"},
		{source: `["0"]`, want: `"zero"`},
		{source: "0", want: `"zero"`},
		{source: "reply.status", where: "reply.status", want: "200"},
		{source: "reply.headers.etag", want: `"\"7\""`},
		{source: "answer.reply.own", want: "1"},
		{source: "answer", want: ""},
		{source: "lots.id", miss: "lots has no id: it is a list of 2; write [0] or [*] before .id"},
		{source: "headers.ETag", document: `{"a": 1}`, miss: "answer has no headers: it is an object with a; write reply.headers.ETag for what is beside the body"},
		{source: "answer.status", document: `{"a": 1}`, miss: "answer has no status: it is an object with a"},
		{source: "a.status", document: `{"a": {}}`, miss: "a has no status: it is an empty object"},
		{source: "status", document: `{"status": 3}`, want: "3"},
		{source: "lots[5].id", miss: "lots has no [5]: it is a list of 2"},
		{
			source: "lots[0].grad",
			miss:   `lots[0] has no grad: it is an object with id, grade, prices; did you mean "grade"?`,
		},
		{source: "lots[0].id.more", miss: `lots[0].id has no more: it is "L-2201"`},
		{source: "reply.own", miss: "reply has no own: it is an object with status, headers; the answer has a field reply of its own: write answer.reply.own"},
		{
			source: "lots[id=L-9].grade",
			miss:   "lots has no [id=L-9]: it is a list of 2; id there is \"L-2201\", \"L-2207\"",
		},
		{source: "lots[1].prices[*].price", miss: "lots[1].prices has no [*]: it is an empty list"},

		{source: "lots[1:].id", where: "lots[1].id", want: `"L-2207"`},
		{source: "lots[:1].id", where: "lots[0].id", want: `"L-2201"`},
		{source: "lots[-1:].grade", where: "lots[1].grade", want: `"B"`},
		{source: "lots[0:99].prices[-2:-1].price", where: "lots[0].prices[0].price", want: "12.50"},
		{source: "lots[2:5].id", miss: "lots has no [2:5]: it is a list of 2"},
		{source: "lots[1:1].id", miss: "lots has no [1:1]: it is a list of 2"},
		{source: "lots[0].id | lower", where: "lots[0].id | lower", want: `"l-2201"`},
		{source: "lots[*].id|lower | upper", want: `"L-2201"`},
		{source: "lots[*].id | join", where: "lots[1].id | join", want: `"L-2201L-2207"`},
		{source: `lots[*].id | join ", " | lower`, want: `"l-2201, l-2207"`},
		{source: "lots[*].prices[*].price | join", want: `"12.5060"`},
		{source: "lots[*].id | first", want: `"L-2201"`},
		{source: "lots | last | .grade", want: `"B"`},
		{source: "lots[*] | most by grade | .id", want: `"L-2207"`},
		{source: "lots | least by id | .grade", want: `"A"`},
		{source: "lots[0].prices | least by price | .price", want: "12.50"},
		{source: "lots | least by depot", miss: "lots has no | least by depot: it is a list of 2; least by: no item has the field depot"},
		{source: "lots | least by prices", miss: "lots has no | least by prices: it is a list of 2; least by: prices is a list of 2, and not a single value"},
		{source: "lots[1].prices | first", miss: "lots[1].prices has no | first: it is an empty list; first: the list is empty"},
		{document: measuresXML, source: "measure[*] | least by name", want: "9"},
		{document: measuresXML, source: "remark | most by lot", want: ""},
		{document: textsJSON, source: "json | parse json | .lots[1].id", where: "json | parse json | lots[1].id", want: `"b"`},
		{document: textsJSON, source: "json | parse json | .lots[*].id", want: `"a"`},
		{document: textsJSON, source: "json | parse json", want: `{"lots":[{"id":"a"},{"id":"b"}]}`},
		{document: textsJSON, source: "xml | parse xml | .lot[1]", want: `"b"`},
		{document: textsJSON, source: "xml | parse xml | .lot[0].@no", want: "1"},
		{document: textsJSON, source: "list[*] | parse json | [0]", want: "1"},
		{
			document: `{"token": "e30.eyJzdWIiOiAiw7zDuy/Dv8O_In0.c2ln"}`, want: `"üû/ÿÿ"`,
			source: `token | inside "." "." | parse base64 | parse json | .sub`,
		},
		{document: `{"a": "QQ==QQ"}`, source: "a | parse base64", miss: `a has no | parse base64: it is "QQ==QQ"; parse base64: it is not Base64`},
		{document: `{"a": "x!"}`, source: "a | parse base64", miss: `a has no | parse base64: it is "x!"; parse base64: it is not Base64`},
		{document: textsJSON, source: "json | parse json | .lots[0].nr", miss: `lots[0] has no nr: it is an object with id`},
		{
			document: textsJSON, source: "plain | parse json",
			miss: `plain has no | parse json: it is "no document"; parse json: not well-formed JSON at line 1, column 2: invalid character 'o' in literal null (expecting 'u')`,
		},

		{document: measuresXML, source: "measure[name=hmf]", want: "14.2"},
		{document: measuresXML, source: "measure[1]", want: "9"},
		{document: measuresXML, source: "measure[*].name", where: "measure[0].name", want: `"hmf"`},
		{document: measuresXML, source: "single.line[0]", want: `"only"`},
		{document: measuresXML, source: "single.line[*]", want: `"only"`},
		{document: measuresXML, source: "lot", want: `"L-1"`},
		{document: measuresXML, source: "/lab:GradeLotResponse/h:measure[@name='hmf']", want: "14.2"},
		{document: measuresXML, source: "//lab:measure", want: "[14.2,9]"},
		{document: measuresXML, source: "//lab:measure/@name", want: `["hmf","diastase"]`},
		{document: measuresXML, source: "//h:measure[. > 10] ", want: "14.2"},
		{
			document: measuresXML, source: "//measure",
			miss: "the answer has no //measure: it is an element with measure, remark, single, note, lot; measure is in the namespace urn:heatherfold:lab: write h:measure",
		},
		{source: "//lots", miss: "answer has no //lots: it is an object with lots, @odata.count, odata, a.b, a, a key with spaces, 0, reply; XPath (a path that begins with /) reads XML only: write names with dots"},
		{document: measuresXML, source: "remark.lot", want: `"own"`},
		{document: measuresXML, source: "remark.@lot", want: `"L-9"`},
		{document: measuresXML, source: "lab:single.h:line", want: `"only"`},
		{document: measuresXML, source: "note", want: "null"},
		{
			document: measuresXML, source: "other:single",
			miss: "answer has no other:single: it is an element with measure, remark, single, note, lot",
		},
		{
			document: measuresXML, source: "GradeLotResponse.lot",
			miss: "answer has no GradeLotResponse: it is an element with measure, remark, single, note, lot; the path starts inside GradeLotResponse already: leave it out",
		},
		{
			document: measuresXML, source: "measure.name",
			miss: "measure has no name: it is a list of 2; write [0] or [*] before .name",
		},
	}
	for _, c := range cases {
		t.Run(c.source, func(t *testing.T) {
			text := c.document
			if text == "" {
				text = lotsJSON
			}
			compiled, err := path.Compile(c.source)
			require.NoError(t, err)
			found, err := compiled.Find(roots(t, text), nil)
			require.NoError(t, err)
			require.NotEmpty(t, found.Matches)
			if c.miss != "" {
				require.Nil(t, found.First())
				assert.Equal(t, c.miss, found.Missed().String())
				return
			}
			require.NotNil(t, found.First(), "%v", found.Missed())
			if c.want != "" {
				assert.Equal(t, c.want, document.WriteJSON(found.First(), document.Style{}))
			}
			if c.where != "" {
				assert.Equal(t, c.where, found.Matches[0].Where)
			}
		})
	}
}

func TestEachKeepsPlacesWithoutTheField(t *testing.T) {
	compiled, err := path.Compile("rows[*].price")
	require.NoError(t, err)
	found, err := compiled.Find(roots(t, `{"rows":[{"price":1},{},{"price":3}]}`), nil)
	require.NoError(t, err)
	require.Len(t, found.Matches, 3)
	assert.Nil(t, found.Matches[1].Node)
	assert.Equal(t, "rows[1]", found.Matches[1].Miss.Reached)
	assert.Len(t, found.Whole().Items(), 2)
}

func TestCompileErrors(t *testing.T) {
	cases := map[string]string{
		"":                  "the path is empty",
		"/lots/lot[":        "it ends where a name or another step should follow",
		"$.lots[":           "is expected in brackets",
		"lots[":             "a name is missing",
		"lots[0":            "[0] is neither",
		"lots[]":            "nothing is between",
		"lots..id":          "a name is missing",
		"lots.*.id":         "* is not a name",
		"sum(lots[*].kilos": `"sum(lots" is not a name`,
		"lots.length()":     `"length()" is not a name`,
		"lots.":             "a name is missing",
		"lots[id]":          "neither an index nor a condition",
		`lots["id]`:         "not closed",
		"lots id":           "is not allowed in a path here",
		"lots[a=${b c]":     "is not allowed in a placeholder",
		"lots]":             "is not allowed in a path here",
		"lots |":            "a filter is missing",
		"lots | uper":       "is not a filter",
		"lots | json | .a[": "a name is missing",
		"lots[1:x]":         "is not a span",
		"lots[1:2:3]":       "is not a span",
	}
	for source, want := range cases {
		_, err := path.Compile(source)
		if assert.Error(t, err, source) {
			assert.Contains(t, err.Error(), want, source)
		}
	}
}

func FuzzCompile(f *testing.F) {
	for _, seed := range []string{
		"lots[0].id", "a[b=c].d", `["x"]`, "a[*][-1]", "a[b=${c}]", "$.a", "reply.headers.X", "a[1:-2].b", "a | parse json | .b[0] | upper",
		"a[b[c=d]=e]",
	} {
		f.Add(seed)
	}
	node, err := document.ReadJSON([]byte(lotsJSON))
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, source string) {
		compiled, err := path.Compile(source)
		if err != nil {
			return
		}
		if len(compiled.Placeholders()) == 0 {
			if _, err := compiled.Find(path.Roots{Answer: node}, nil); err != nil {
				t.Fatalf("%q: %v", source, err)
			}
		}
	})
}
