package vet_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/sheet"
	"testbench/internal/standin/demo"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// at says where the caret is put in a case below: the text before it is the
// file, without the mark.
const at = "¦"

// place takes the mark out of a text and says where it stood.
func place(text string) (clean string, line, column int) {
	before, after, found := strings.Cut(text, at)
	if !found {
		return text, 0, 0
	}
	start := strings.LastIndex(before, "\n") + 1
	return before + after, 1 + strings.Count(before, "\n"), 1 + len([]rune(before[start:]))
}

// A request has one body, whichever two of the keys for one stand together.
func TestOneBody(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.txt"), []byte("x"), 0o600))
	bench := bench.Read(dir, "bench.yaml", []byte("bench: b\n"))
	bodies := []string{
		"text: a", "file: in.txt", "bytes: in.txt", "body: {a: 1}", "form: {a: 1}",
		"parts: [{name: a, value: x}]",
	}
	for i, first := range bodies {
		for j, second := range bodies {
			text := "sheet: s\nsteps:\n  - step: it\n    request: POST http://127.0.0.1:1/\n    " + first + "\n"
			if i != j {
				text += "    " + second + "\n"
			}
			problems := vet.Sheet(sheet.Read(bench, "s.yaml", []byte(text), step.Kinds), vet.Options{}).Serious()
			if i == j {
				assert.Empty(t, problems, text)
				continue
			}
			require.Len(t, problems, 1, text)
			assert.Contains(t, problems[0].Message, "has more than one body")
		}
	}
}

// Every key can be got wrong, and each mistake has its place and a way out.
func TestEveryMistakeOfASheet(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, "http://127.0.0.1:1"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "half.txt"), []byte("a\nb ${lot"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.json"), []byte("{}"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sheets", "wrong.yaml"),
		[]byte("sheet: wrong\nsteps:\n  - step: a\n    call: stores/serch\n"), 0o600))
	bench, err := bench.Open(dir)
	require.NoError(t, err)
	written := func(rest string) string {
		return "sheet: s\nsteps:\n  - step: one\n    " + strings.ReplaceAll(rest, "\n", "\n    ") + "\n"
	}
	search := func(rest string) string { return written("call: stores/search\n" + rest) }
	cases := []struct{ text, message, try string }{
		{"sheet: s\nsteps:\n  - ¦7\n", "a step must be a mapping, and is a single value", "write its keys"},
		{"sheet: s\ntable: [¦lott]\nrows: {list: [{lot: L}]}\nsteps:\n  - step: a\n    request: GET ${base}/a\n", `there is no column "lott"`, `did you mean "lot"?`},
		{"sheet: s\ntable: {Lot: ¦rwo}\nsteps:\n  - step: a\n    request: GET ${base}/a\n", `there is no column "rwo"`, `did you mean "row"?`},
		{"sheet: s\ntable: [row, ¦row]\nsteps:\n  - step: a\n    request: GET ${base}/a\n", `two columns are named "row"`, "another name"},
		{"sheet: s\nsteps:\n  - ¦7\n", "a step must be a mapping", "step, about, call"},
		{search("fields: {'stores[0].lot': ¦if any over 3}"), "if any goes with a path of names and [*]", "or optional"},
		{search("fields: {'$.stores[*].lot': ¦if any is text}"), "if any goes with a path of names and [*]", ""},
		{search("expect: {headers: {ETag: ¦if any is text}}"), "if any goes with a path of names and [*]", ""},
		{search("expect: {time: ¦{if any: under 3 s}}"), "if any goes with a path of names and [*]", ""},
		{
			"sheet: s\nsite: ¦lokal\nsteps:\n  - step: a\n    call: stores/search\n", `there is no site "lokal"`,
			`did you mean "local"?`,
		},
		{
			"sheet: s\nrows: ¦data/intake.csv\nsteps:\n  - step: a\n    call: stores/search\n",
			"there is no file data/intake.csv in the bench folder", "",
		},
		{"sheet: s\nrows: ¦data\nsteps:\n  - step: a\n    call: stores/search\n", "data is a folder", ""},
		{
			`sheet: s
rows:
  from: ¦data/intakes.csv
  label: lott
steps:
  - step: a
    call: stores/search
`,
			`there is no column "lott"`, `did you mean "lot"?`,
		},
		{
			`sheet: s
rows:
  from: data/intakes.csv
  limit: ¦none
steps:
  - step: a
    call: stores/search
`,
			"limit must be a whole number from 1", "",
		},
		{`sheet: s
rows:
  from: ¦data/intakes.csv
  kinds:
    remark: number
steps:
  - step: a
    call: stores/search
`, `line 2, column remark: "clear" is not a number`, ""},
		{
			"sheet: s\nsteps:\n  - step: a\n    call: stores/search\n  - ¦step: a\n    call: stores/search\n",
			`a second step is named "a"`, "",
		},
		{"sheet: s\nsteps:\n  - ¦step: a\n", `the step "a" does nothing`, "call:, request:"},
		{"sheet: s\nsteps:\n  - pause: 1 ms\n  - ¦about: x\n", `the step "step 2" does nothing`, "call:, request:"},
		{written("request: stores POST /x\nfile: ¦half.txt"), "half.txt:2:3: ${ is not closed", "write }"},
		{
			"sheet: s\nsteps:\n  - ¦step: a\n    call: stores/search\n    set:\n      x: 1\n",
			"does more than one thing: call and set", "two steps",
		},
		{written("call: ¦search"), `"search" is not a service/operation`, "lab/GradeLot"},
		{written("call: ¦store/search"), `there is no service "store"`, `"stores"`},
		{written("call: ¦stores/serach"), `there is no operation of stores "serach"`, `"search"`},
		{written("request: ¦stores GETT /lots"), "is not a request", `"GET"`},
		{written("request: ¦stores GET lots"), "is not a request", ""},
		{written("follow: ¦put ${base}/lots"), `"put" is not a method`, "in capitals"},
		{written("follow: ¦PUTT ${base}/lots"), `"PUTT" is not a method`, "in capitals"},
		{written("follow: ¦DELETE"), "the address is missing after DELETE", "PUT ${place}"},
		{written("follow: PUT ¦${nowhere}"), "nothing defines ${nowhere}", ""},
		{written("request: ¦stors GET /lots"), `there is no service "stors"`, `"stores"`},
		{written("request: stores GET /lots/¦${x"), "${ is not closed", "write }"},
		{written("set:\n  1x: 2"), `"1x" cannot be the name of a value`, "starts with a letter"},
		{
			written("set:\n  ¦row: 2"), `"row" cannot be the name of a value: ${row} means something else`,
			"another name",
		},
		{written("calculate:\n  x: 1 +¦"), "the condition cannot be read here", ""},
		{written("calculate:\n  x: ¦foo(1)"), `"foo" is not known here`, ""},
		{search("login: ¦clrk"), `there is no login "clrk"`, `"clerk"`},
		{search("login:\n  ¦spoil: clerk"), "a spoilt login needs both", "how:"},
		{
			search("login:\n  spoil: clerk\n  how: ¦burnt"), `"burnt" is not a way to spoil a token`,
			"expired, tampered, other audience, empty",
		},
		{search("soap: ¦1.3"), `"1.3" is not a version of SOAP`, "1.1"},
		{search("http: ¦3"), `"3" is not a version of HTTP`, "1.1, 2"},
		{search("redirects: ¦none"), `"none" is not a way with redirects`, "follow, off"},
		{search("drop empty: ¦yes"), `"yes" is not an answer to yes or no`, ""},
		{search("headers:\n  ¦X Y: 1"), `"X Y" cannot be the name of a header`, ""},
		{search("headers:\n  X-Y: ¦\"a\\nb\""), "X-Y: a header cannot hold a line break", ""},
		{search("cookies:\n  ¦a;b: 1"), `"a;b" cannot be the name of a cookie`, ""},
		{search("cookies:\n  a: ¦b;c"), "a: a cookie cannot hold a semicolon or line break", ""},
		{search("headers:\n  X-Y:\n    ¦a: 1"), "headers X-Y cannot be a mapping", "a list to repeat"},
		{search("headers: ¦none"), "headers must be a mapping", ""},
		{search("fill:\n  ¦grad: A"), `search has no field "grad"`, `"grade"`},
		{search("fill:\n  grade: ¦X"), `grade must be one of A, B, C, and is "X"`, ""},
		{search("fill:\n  page: ¦True"), "True is not how true is written here", `write true, or "True" in quotes for a text`},
		{search("fill:\n  page: ¦~"), "~ is not how null is written here", `write null, or "~" in quotes for a text`},
		{search("fill:\n  page: ¦one"), `page must be an integer, and is "one"`, ""},
		{written("call: ¦stores/lot"), "stores/lot needs id", "add id"},
		{written("request: stores GET /lots\n¦fill:\n  a: 1"), "a request without an operation has no fill", "query:"},
		{search("file: ¦missing.json"), "there is no file missing.json", ""},
		{search("file: ¦../x.json"), "leads out of the bench folder", ""},
		{search("bytes: ¦/etc/passwd"), "relative to the bench folder", ""},
		{search("parts:\n  - ¦name: a"), "either value: or file:", ""},
		{search("text: ¦in.json"), "in.json is a file, and text: takes the content itself", "write file: in.json"},
		{search("body: ¦in.json"), "in.json is a file", "write file: in.json"},
		{search("parts:\n  - name: a\n    value: ¦in.json"), "in.json is a file", "write file: in.json"},
		{written("answer as: ¦jsn\nrequest: stores GET /lots"), `"jsn" is not a form of answers`, `did you mean "json"?`},
		{search("expect:\n  size: ¦2 kB"), "2 kB never equals a size", "write 2000, or a range as at most 2 kB"},
		{search("fields:\n  grade: ¦[A, B]"), "no value is both A and B", "write equals: [A, B] for a list"},
		{search("fields:\n  grade: {all of: ¦[over 3, 5, 5.0, 6]}"), "no value is both 5 and 6", "one of 5 or 6"},
		{search("fields:\n  grade: [B, {equals: \"${¦x}\"}, {equals: C}]"), "", ""},
		{written("listen: {answer: {text: ¦in.json}}"), "in.json is a file", "write what is in the file"},
		{search("fields:\n  grade: [5, 5.0, \"${¦x}\", not 7]"), "", ""},
		{search("text: <a b=${¦x}/>"), "", ""},
		{search("keep:\n  ¦a-b: id"), `"a-b" cannot be the name of a kept value`, "letters (A to Z"},
		{search("fields:\n  lots.¦*.kilos: 7"), "* is not a name", "a field of any name is for JSONPath"},
		{search("keep:\n  x: lots[¦"), "a name is missing", ""},
		{search("keep:\n  x: $.lots¦-a"), "is not allowed in a JSONPath here", ""},
		{search("keep:\n  x: //lot[¦) "), "\")\" found where a name or another step is expected", ""},
		{search("keep:\n  x: id | ¦uper"), `"uper" is not a filter`, `"upper"`},
		{search("keep:\n  x:\n    ¦secret: true"), "does not say where it is", "at: PATH"},
		{search("expect:\n  status: ¦2x"), `"2x" is not a status`, "2xx"},
		{search("expect:\n  time: under ¦soon"), `"soon" is not a number`, "equals under soon"},
		{search("expect:\n  fault: some¦"), "a rule is missing", "equals some"},
		{search("expect:\n  fault:\n    ¦txt: x"), `a fault has no "txt"`, `"text"`},
		{search("expect:\n  refused: ¦tsl"), `"tsl" is not a kind of refusal`, `"tls"`},
		{search("expect:\n  same as file: ¦../x.json"), "leads out of the bench folder", ""},
		{search("fields:\n  a: \"¦>= 5\""), `">= 5" is not a rule`, "`at least 5`"},
		{search("fields:\n  a: is ¦numbr"), `"numbr" is not a kind or a state`, "is number"},
		{search("fields:\n  a:\n    ¦equls: 5"), `"equls" is not a rule`, `"equals"`},
		{search("fields:\n  a:\n    ¦b: 5\n    c: 6"), "a rule as a mapping has exactly one key", "equals:"},
		{search("fields:\n  a: ¦[]"), "a list of rules cannot be empty", ""},
		{search("fields:\n  ¦[0: 1"), "", ""},
		{search("where:\n  - answer.x ¦= 1"), "the condition cannot be read here", "=="},
		{search("where:\n  - ¦anser.x == 1"), `"anser" is not known here`, `"answer"`},
		{search("where:\n  - answer.x == ¦${x}"), "a condition takes no placeholders", "row.x"},
		{written("calculate:\n  x: kept.y + 1"), "the condition asks for kept.y", ""},
		{search("again:\n  times: 2\n  when: kept.y == 1"), "the condition asks for kept.y", ""},
		{search("when: kept.y == 1"), "the condition asks for kept.y", ""},
		{
			"sheet: s\nrows:\n  from: data/intakes.csv\n  limit: ¦0\nsteps:\n  - step: a\n    call: stores/search\n",
			"limit must be a whole number from 1", "",
		},
		{search("text: ¦[1]"), "a single value is expected here", ""},
		{search("where:\n  - ¦kept.x == 1"), "the condition asks for kept.x", ""},
		{search("when: ¦${x}"), "a condition takes no placeholders", ""},
		{written("listen:\n  ¦a: 1"), `listen has no key "a"`, "match"},
		{written("listen: ¦PSOT"), `"PSOT" is not a method`, `"POST"`},
		{written("listen: POST\n¦headers:\n  A: b"), "a step that listens has no headers", "take it out"},
		{written("listen:\n  signed:\n    ¦header: X"), "signed needs header: and key:", "sealed"},
		{written("listen:\n  answer:\n    status: ¦99"), "from 200 to 599", ""},
		{search("query:\n  a: ¦${callback}"), "no step waits for a callback", "listen:"},
		{
			search("query:\n  a: ¦${callback}") + "  - {step: x, listen: POST, within: 1 s}\n  - {step: y, listen: POST, within: 1 s}\n",
			"several steps wait for a callback: x, y", "write ${callback.x}",
		},
		{
			search("query:\n  a: ¦${callback.z}") + "  - {step: x, listen: POST, within: 1 s}\n",
			"no step with listen: has that name", "",
		},
		{
			written("batch: stores\nparts:\n  - call: stores/search\n    ¦until: {a: 1}"), "a part of a batch has no until",
			"put it at the batch as a whole",
		},
		{search("query:\n  a: ¦${callback.it}"), "no step waits for a callback", "listen:"},
		{written("lookup: ¦boks\nsql: select 1"), `there is no database "boks"`, `"books"`},
		{written("lookup: books\nsql: select ¦${x}"), "a value is not pasted into SQL, it is bound", ":name"},
		{written("lookup: books\nsql: ¦select :x"), "the parameter :x is not filled", "x: VALUE"},
		{
			written("lookup: books\nsql: ¦select :lot\nfill:\n  lt: 1"), `there is no parameter of the query "lt"`,
			"there are: lot",
		},
		{written("lookup: ¦books\nsql: select 1\nfill: [a]"), "has the names of its parameters", "write NAME: VALUE"},
		{written("lookup: books\nsql: select ¦'a"), "is not closed", ""},
		{written("lookup: books\nsql: select 1; ¦drop table lots"), "a second statement", ""},
		{written("lookup: ¦books\nfind: x"), "books is a database and has no files", "sql:"},
		{written("lookup: inbox\nsql: ¦select 1"), "inbox is a folder and knows no SQL", "find:"},
		{written("lookup: ¦inbox"), "does not say what for", "sql:"},
		{written("lookup: inbox\nfind: x\nexpect:\n  ¦status: 200"), "only time: can be expected", "count 1"},
		{written("lookup: inbox\nfind: x\n¦headers:\n  A: b"), "a lookup has no headers", ""},
		{written("sheet: ¦sheets/none.yaml"), "there is no file sheets/none.yaml", ""},
		{
			"sheet: s\nexpect:\n  ¦p96: under 1 s\nsteps:\n  - step: a\n    pause: 1 ms\n",
			`what is expected of times has no key "p96"`, `"p90"`,
		},
		{
			"sheet: s\nexpect:\n  steps:\n    ¦b:\n      p95: under 1 s\nsteps:\n  - step: a\n    pause: 1 ms\n",
			`there is no step "b"`, "there are: a",
		},
		{
			"sheet: s\ntakes:\n  ¦a-b: required\nsteps:\n  - step: a\n    pause: 1 ms\n",
			`"a-b" cannot be the name of a value`, "",
		},
		{`sheet: s
rows:
  database: books
  sql: select lot from intake
  columns:
    - lot
steps:
  - step: a
    set:
      x: ¦${lott}
`, "nothing defines ${lott}", `"lot"`},
		{
			`sheet: s
rows:
  from: data/intakes.csv
  ¦columns:
    - lot
steps:
  - step: a
    pause: 1 ms
`,
			"columns: has no effect without sql:", "take it out",
		},
		{
			"sheet: s\nrows:\n  sql: ¦select 1\nsteps:\n  - step: a\n    pause: 1 ms\n", "does not say which database",
			"database:",
		},
		{search("query:\n  a: ¦${run.number}"), "there is no value of the run", "id"},
		{search("query:\n  a: ¦${site.bas}"), `there is no value of the site "bas"`, `"base"`},
		{search("query:\n  a: ¦${row.x}"), "the sheet has no rows here", "rows:"},
		{search("query:\n  a: ¦${dept}"), "nothing defines ${dept}", `"depot"`},
		{search("query:\n  a: ¦${x}\nkeep:\n  x: total"), "this step keeps x itself", ""},
		{search("again:\n  times: 2\n  grow: ¦11"), "pauses grow by a factor from 1 to 10", "grow: 2"},
		{search("again:\n  pause: 1 s"), "again does not say how often", "times: 3"},
		{written("pause: 1 ms\n¦again:\n  times: 2"), "a pause has no again", "goes with call, request, follow"},
		{
			written("pause: 1 ms\n¦until:\n  reply.status: 200"), "a pause has no until",
			"goes with call, request, follow, lookup, listen",
		},
		{search("pages: ¦0"), "pages must be a whole number from 1", "pages: 5"},
		{search("undo:\n  step: b\n  request: stores POST /${¦nothing}"), "", ""},
		{search("undo:\n  step: b\n  call: ¦stores/serch"), "there is no operation", "search"},
		{
			search("undo:\n  step: b\n  call: stores/search\n  undo:\n    step: c\n    call: stores/search"),
			"what takes something back is not taken back itself", "",
		},
		{search("attach:\n  - ¦name: a"), "an attachment needs a file", "file: NAME"},
		{
			written("listen:\n  answer:\n    body:\n      a: 1\n    text: x"), "the answer has a body: and a text:",
			"keep one of them",
		},
		{written("sql: select 1"), "does nothing", "sql: goes with lookup:"},
		{written("lookup: inbox\nfind: x\nopen: y"), "asks for", "two steps"},
		{written("lookup: inbox\nfind: x\nfill:\n  a: 1"), "a folder has no parameters", ""},
		{
			"sheet: s\nrows: ¦{}\nsteps:\n  - step: a\n    pause: 1 ms\n", "rows does not say where they come from",
			"rows: data/FILE.csv",
		},
		{
			"sheet: s\ntakes:\n  x: ¦${y}\nsteps:\n  - step: a\n    pause: 1 ms\n",
			"what is meant without a value holds no placeholders", "",
		},
		{written("batch: ¦stores\nparts:\n  - step: a\n    call: stores/search"), "a batch is a thing of OData", ""},
		{
			written(`batch: ¦mishaps
parts:
  - step: a
    request: mishaps GET /x`), "a batch is a thing of OData",
			"",
		},
		{search("query:\n  a: ¦${x | upper | cut ''}"), "", ""},
		{search("expect:\n  time: ¦under 500"), "500 has no unit", "500 ms"},
		{search("expect:\n  size: ¦over 5 s"), "a size cannot be compared with a duration", ""},
		{written("request: ¦stores PUT ${kept.x}/a"), "a service, a method and a path are expected", "write follow: PUT ${kept.x}/a"},
		{written("request: stores PUT /a\n¦as: xml"), "a request without an operation has no as", "write XML and all else under text:"},
		{search("fields:\n  a | parse json | ¦lot: 7"), `"lot" is not a filter`, "begins with a dot: | .lot"},
		{search("expect:\n  error: ¦is absent"), "error: is absent asks for an error without a code", "write none"},
		{search("expect:\n  fault: ¦is absent"), "fault: is absent asks for a fault without a code", "write none"},
		{search("¦host: x"), `a step has no key "host"`, "write request: METHOD ADDRESS"},
		{search("¦prefixes:\n  a: b"), `a step has no key "prefixes"`, "there are: "},
		{written("call: ¦/search"), `"/search" is not a service/operation`, "lab/GradeLot"},
		{written("call: ¦stores/"), `"stores/" is not a service/operation`, "lab/GradeLot"},
		{written("call: ¦stores"), `"stores" is not a service/operation`, "lab/GradeLot"},
		{
			written("listen:\n  answer:\n    status: 204\n¦for each: ${x}"), "has no for each",
			"make a step of its own for each call",
		},
		{
			written("set:\n  a: 1\n¦fields:\n  a: 1"), "has no fields",
			"write a condition under where:, as kept.NAME > 5",
		},
		{written("pause: 1 ms\n¦fields:\n  a: 1"), "a pause has no fields", "take it out"},
		{search("¦takes:\n  a: b"), `a step has no key "takes"`, "takes: is a key of a sheet"},
		{search("¦insecure: yes"), `a step has no key "insecure"`, ""},
		{search("¦retry: 3"), `a step has no key "retry"`, "write again: N"},
		{search("¦work out: 3"), `the key "work out" is called "calculate" now`, "write calculate:"},
		{search("skip: ¦yes"), "skip: needs the reason in words", ""},
		{search("timeout: ¦0 s"), "a timeout must be over 0", "5 s"},
		{search("tags: ¦[]"), "it is empty", "a list of them"},
		{search("tags: ¦\"\""), "it is empty", "a list of them"},
		{written("set: {x: 1}\nonce: ¦true"), "once: is for the steps of first: and last:", "take it out"},
		{written("set: {x: 1}\n¦soft: true"), "a step that sets values has no soft", "take it out"},
		{search("¦status: 200"), `a step has no key "status"`, "status: is a key of expect:"},
		{
			written("calculate:\n  a: 1 + 1\n¦fields:\n  a: 1"), "has no fields",
			"write a condition under where:, as kept.NAME > 5",
		},
		{written("set:\n  a: 1\n¦for each: ${x}"), "", ""},
		{
			written("request: GET http://127.0.0.1:1/\n¦contract: off"), "has no contract",
			"nothing describes the request",
		},
		{written("follow: http://127.0.0.1:1/\n¦contract: off"), "has no contract", "nothing describes the request"},
		{written("request: GET http://127.0.0.1:1/\n¦fill:\n  a: 1"), "has no fill", "write body:, form: or query:"},
		{
			`sheet: s
expect:
  times:
    max: ¦{not: {over: 5 s}}
steps:
  - step: a
    call: stores/search
`,
			"", "",
		},
		{search("until:\n  total: 1\nevery: ¦0 ms"), "between askings there must be a pause", "200 ms"},
		{search("until:\n  total: 1\nevery: ¦soon"), `"soon" is not a duration`, ""},
		{search("login:\n  ¦spoil: clerk"), "a spoilt login needs both", "how: expired"},
		{search("login:\n  ¦how: tampered"), "a spoilt login needs both", "spoil: LOGIN"},
		{written("calculate:\n  ¦1x: 1 + 1"), `"1x" cannot be the name of a value`, ""},
		{search("expect:\n  time: ¦about 500 ms within 10"), "10 has no unit", ""},
		{
			search("fill:\n  grade: ¦${k}\nkeep:\n  k: total"),
			"this step keeps k itself; only the steps after it can ask for k", "",
		},
		{
			search("fill:\n  grade: ¦${kept.k}\nkeep:\n  k: total"),
			"this step keeps k itself; only the steps after it can ask for k", "",
		},
		{search("¦sites: {}"), `a step has no key "sites"`, "sites: is a key of the bench"},
		{search("¦operations: {}"), `a step has no key "operations"`, "operations: is a key of a service"},
		{search("¦template: {}"), `a step has no key "template"`, "template: is a key of an operation"},
		{
			"sheet: s\n¦call: stores/search\nsteps:\n  - step: a\n    call: stores/search\n",
			`a sheet has no key "call"`,
			"call: is a key of a step",
		},
		{"sheet: s\nsteps:\n  - step: a\n    call: ¦[1]\n", "a single value is expected here", ""},
		{
			"sheet: s\nsteps:\n  - step: ¦a (1 of 3)\n    call: stores/search\n",
			`the name "a (1 of 3)" is like those that for each: gives`, `call the step "a"`,
		},
		{search("expect:\n  status: ¦20"), "is not a status", ""},
		{search("expect:\n  refused: ¦tsl"), "is not a kind of refusal", "tls"},
		{search("expect:\n  fault:\n    ¦cod: x"), "", ""},
		{
			search("expect:\n  refused: connection\n¦fields:\n  a: 1"), "where the connection is refused",
			"take one of them out",
		},
		{
			search("expect:\n  refused: connection\n¦keep:\n  a: b"), "where the connection is refused",
			"take one of them out",
		},
		{search("expect:\n  refused: tls\n  ¦status: 200"), "where the connection is refused", "take one of them out"},
		{
			search("again:\n  times: 2\n  on: ¦sometimes"), "says nothing that a step could be tried again on",
			"503, 5xx",
		},
		{
			search("again:\n  times: 2\n  on:\n    - 503\n    - ¦never"),
			"says nothing that a step could be tried again on", "refused",
		},
		{search("until:\n  a: 1\nevery: ¦5 s to 1 s"), "the pauses are to grow", "write the shorter one first"},
		{search("until:\n  a: 1\nevery: ¦0 s"), "between askings there mus", "every: 200 ms"},
		{search("¦within: 5 s"), "", "write until:"},
		{search("until:\n  a: 1\nstates: ¦\n  of: a"), "", "of: PATH and allowed:"},
		{search("fields:\n  a:\n    one of: ¦[]"), "a list of values cannot be empty", ""},
		{search("fields:\n  a: over ¦north"), "is not a number", ""},
		{search("fields:\n  a:\n    ¦sum: 3"), "", "equals:"},
		{search("text: a\nbody:\n  b: 1"), "has more than one body", "keep one of them"},
		{search("file: ¦nothing.txt"), "there is no file nothing.txt", ""},
		{written("step: x"), "", ""},
		{
			"sheet: s\nrows:\n  from: data/intakes.csv\n  ¦list:\n    - a: 1\nsteps:\n  - step: a\n    pause: 1 ms\n",
			"",
			"",
		},
		{
			"sheet: s\nrows:\n  list:\n    - ¦a: ${x}\nsteps:\n  - step: a\n    pause: 1 ms\n",
			"a row of the file itself holds no p", "",
		},
		{
			"sheet: s\nexpect:\n  steps:\n    ¦a:\n      p95: under 1 s\nsteps:\n  - step: a\n    set:\n      x: 1\n",
			"sends nothing", "take it out",
		},
		{"sheet: s\nexpect:\n  p95: ¦under 5\nsteps:\n  - step: a\n    call: stores/search\n", "5 has no unit", ""},
		{"sheet: s\nlogin: ¦nobody\nsteps:\n  - step: a\n    call: stores/search\n", "", ""},
		{"sheet: s\nsite: ¦nowhere\nsteps:\n  - step: a\n    call: stores/search\n", "there is no site", ""},
		{written("call: stores/search\nsite: ¦nowhere"), "there is no site", ""},
		{written("call: ¦stores/serch"), "there is no operation", "search"},
		{written("call: ¦stors/search"), "there is no service", "stores"},
		{
			written(`for each: lot in ¦${nothing}
steps:
  - step: x
    pause: 1 ms`), "nothing defines ${nothing}",
			"",
		},
		{written("steps:\n  - step: x\n    call: ¦stores/serch"), "there is no operation", "search"},
		{
			"sheet: s\nfirst:\n  - step: a\n    call: ¦stores/serch\nsteps:\n  - step: b\n    pause: 1 ms\n",
			"there is no operation", "search",
		},
		{
			"sheet: s\nsteps:\n  - step: b\n    pause: 1 ms\nfinally:\n  - step: a\n    call: ¦stores/serch\n",
			"there is no operation", "search",
		},
		{
			"sheet: s\nsteps:\n  - step: b\n    pause: 1 ms\nlast:\n  - step: a\n    call: ¦stores/serch\n",
			"there is no operation", "search",
		},
		{`sheet: s
rows:
  list:
    - n: 1
first:
  - step: a
    request: GET http://127.0.0.1:1/¦${row.n}
steps:
  - step: b
    pause: 1 ms
`, "", ""},
		{`sheet: s
rows:
  list:
    - n: 1
steps:
  - step: b
    pause: 1 ms
last:
  - step: a
    request: GET http://127.0.0.1:1/¦${row.n}
`, "", ""},
		{search("blocks: {a: 1}"), "blocks: goes with SOAP, which is sent by POST", "take it out"},
		{search("addressing: true"), "addressing: goes with SOAP, which is sent by POST", "take it out"},
		{
			written("call: lab/GradeLot\nfill:\n  lot: L-2201\n  moisture: 17\ntext: <a/>"),
			"fill: has no effect beside text:", "",
		},
		{
			written("request: POST http://127.0.0.1:1/x\naction: urn:a\nbody: {a: 1}"), "action: goes with SOAP",
			"soap: 1.1 or 1.2",
		},
		{`sheet: s
steps:
  - step: tell
    request: GET http://127.0.0.1:1/${callback.herd}
  - step: heard
    listen:
      answer:
        status: 204
`, "no step with listen: has that name", `"heard"`},
		{written("sheet: ¦sheets/wrong.yaml"), "sheets/wrong.yaml is not right", ""},
		{
			`sheet: s
rows:
  list:
    - n: 1
steps:
  - step: a
    request: GET http://127.0.0.1:1/¦${row.m}
`,
			`there is no column "m"`, "",
		},
		{
			"sheet: s\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/¦${row.m}\n",
			"the sheet has no rows here",
			"",
		},
		{"sheet: s\nsteps:\n  - step: ¦${row.m}\n    pause: 1 ms\n", "a placeholder is not allowed here", ""},
		{written("set: ¦{}"), "set: leaves the step with nothing to do", "take the step out"},
		{written("calculate: ¦{}"), "calculate: leaves the step with nothing to do", ""},
		{written("pause: ¦0 s"), "pause: leaves the step with nothing to do", ""},
		{written("follow: ¦''"), "follow: leaves the step with nothing to do", ""},
		{written("lookup: ¦''\nfind: x"), "lookup: leaves the step with nothing to do", ""},
		{written("sheet: ¦''"), "sheet: leaves the step with nothing to do", ""},
		{written("request: ¦''"), "is not a request", ""},
		{written("call: ¦''"), "is not a service/operation", ""},
		{"sheet: s\nsteps:\n  - ¦step: one\n    batch: ''\n    parts: []\n", "the batch has no parts", ""},
		{
			"sheet: s\nsteps:\n  - step: one\n    batch: ¦''\n    parts:\n      - step: a\n        request: a GET /\n",
			"batch: leaves the step with nothing to do", "",
		},
		{written("request: POST http://127.0.0.1:1/\ntext: a ¦${lost}"), "nothing defines ${lost}", ""},
		{
			"sheet: s\nrows:\n  list:\n    - n: 1\n  kinds: {m: text}\nsteps:\n  - step: a\n    pause: 1 ms\n",
			`there is no column "m"`, "",
		},
		{search("keep:\n  k: total\nfields:\n  total: ¦${k}"), "this step keeps k itself", ""},
		{search("keep:\n  k: total\nuntil:\n  total: ¦${kept.k}"), "this step keeps k itself", ""},
		{search("keep:\n  k: total\nwhere:\n  - ¦kept.k > 5"), "this step keeps k itself", ""},
		{
			`sheet: s
steps:
  - ¦step: one
    call: stores/search
    keep:
      k: total
    when: kept.k > 5
`,
			"this step keeps k itself", "",
		},
		{search("fields:\n  m: over ¦${lost}"), "nothing defines ${lost}", ""},
		{search("fields:\n  m: one of a or ¦${lost}"), "nothing defines ${lost}", ""},
		{search("fields:\n  m: equals \"x ¦${lost}\""), "nothing defines ${lost}", ""},
		{search("fields:\n  m: not between 1 and ¦${lost}"), "nothing defines ${lost}", ""},
		{search("fields:\n  m: matches ^¦${lost}$"), "nothing defines ${lost}", ""},
		{search("fields:\n  m: same as lots[id=¦${lost}].n"), "nothing defines ${lost}", ""},
		{search("fields:\n  lots[id=¦${lost}].n: 5"), "nothing defines ${lost}", ""},
		{search("expect:\n  error:\n    details[code=¦${lost}].text: x"), "nothing defines ${lost}", ""},
		{search("fields:\n  m:\n    one of:\n      - a\n      - ¦${lost}"), "nothing defines ${lost}", ""},
		{search("fields:\n  m:\n    over: ¦${lost}"), "nothing defines ${lost}", ""},
		{search("fields:\n  lots:\n    count: ¦1.5"), `"1.5" is not a rule`, ""},
		{search("fields:\n  lots:\n    length: ¦-1"), `"-1" is not a rule`, ""},
		{search("fields:\n  lots:\n    not:\n      count: ¦1e3"), `"1e3" is not a rule`, ""},
		{
			"sheet: s\nsteps:\n  - step: one\n    batch: ledger\n    parts:\n      - ¦step: a\n        pause: 1 ms\n",
			"a part of a batch is a call, a request, or follows a place", "",
		},
		{search("keep:\n  k: 'lots[id=¦${lost}].n'"), "nothing defines ${lost}", ""},
		{search("expect:\n  headers: ¦{}"), "headers is empty", ""},
		{search("expect:\n  error: ¦{}"), "the list of rules is empty", ""},
		{search("again:\n  times: 3\n  on: ¦[]"), "on is empty", ""},
		{search("login: ¦[]"), "login is empty", ""},
		{written("listen:\n  match: ¦{}"), "the list of rules is empty", ""},
		{"sheet: s\nexpect: ¦{}\nsteps:\n  - step: a\n    pause: 1 ms\n", "expect is empty", ""},
		{"sheet: s\nexpect:\n  steps: ¦{}\nsteps:\n  - step: a\n    pause: 1 ms\n", "steps is empty", ""},
		{
			"sheet: s\nexpect:\n  steps:\n    a: ¦{}\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/\n",
			"what is expected of a is empty", "",
		},
		{"sheet: s\nexpect:\n  p50: ¦[]\nsteps:\n  - step: a\n    pause: 1 ms\n", "p50 is empty", ""},
		{search("fields: ¦{}"), "the list of rules is empty, and has no effect", "take it out"},
		{search("where: ¦[]"), "where is empty", ""},
		{search("expect: ¦{}"), "expect is empty", ""},
		{search("keep: ¦{}"), "keep is empty", ""},
		{search("until: ¦{}"), "the list of rules is empty", ""},
		{written("steps: ¦[]"), "", "write a step with - step: NAME"},
		{search("query:\n  a: ¦${now | plus days}"), "", ""},
		{
			written("batch: ledger\nparts:\n  - ¦step: a\n    call: stores/search"),
			`the batch is sent to ledger, and its part a is for "stores"`, "",
		},
		{
			written("batch: ledger\nparts:\n  - ¦step: a\n    request: stores GET /x"),
			`the batch is sent to ledger, and its part a is for "stores"`, "",
		},
		{
			written("batch: ledger\nparts:\n  - ¦step: a\n    follow: x\n    service: stores"),
			`the batch is sent to ledger, and its part a is for "stores"`, "",
		},
		{
			written("batch: ledger\nparts:\n  - ¦step: a\n    request: GET http://127.0.0.1:1/x"),
			`the batch is sent to ledger, and its part a is for ""`, "",
		},
		{written("batch: ¦legder\nparts:\n  - step: a\n    request: ledger GET /x"), `there is no service "legder"`, "ledger"},
		{written("follow: x\nservice: ¦storse"), `there is no service "storse"`, "stores"},
		{written("follow: x\nservice: stores\n¦addressing: true\ntext: <a/>"), "", ""},
		{written("request: ¦storse GET /x"), `there is no service "storse"`, "stores"},
		{written("request: stores GET /x\n¦addressing: true"), "", ""},
		{written("call: ¦mishaps/nothing"), "", ""},
		{written("call: ¦stores/search\nport: P"), "port: has no effect: no WSDL describes stores/search; take it out", ""},
		{search("skip: ¦''"), "", ""},
		{search("skip: ¦true"), "", ""},
		{search("skip: ¦yes"), "", ""},
		{written("listen:\n  signed: ¦{header: X}"), "", ""},
		{written("listen:\n  signed: ¦{key: '${sealed.x}'}"), "", ""},
		{written("listen:\n  answer: {status: ¦199}"), "", ""},
		{written("listen:\n  answer: {status: ¦600}"), "", ""},
		{written("listen:\n  answer: {status: ¦ok}"), "", ""},
		{search("expect:\n  ¦except: [at]"), "", "same as file"},
		{search("expect:\n  headers: {X: ¦contans a}"), `"contans a" is not a rule`, "contains"},
		{search("keep: {a: {¦default: 1}}"), "", ""},
		{search("keep: {a: {at: ¦'lots['}}"), "", ""},
		{search("keep: {a: ¦'lots[x | upper'}"), "", ""},
		{search("keep: {a: {at: total, ¦defualt: 1}}"), `keep has no key "defualt"`, ""},
		{search("fill: ¦grade"), "", ""},
		{search("fill: ¦[a]"), "", ""},
		{search("login: {¦spoil: desk}"), "", ""},
		{written("call: lab/GradeLot\nfill: {lot: L-2201, moisture: 17}\nattach:\n  - ¦name: x"), "", ""},
		{written("request: POST http://127.0.0.1:1/\nparts:\n  - ¦value: x"), "", ""},
		{written("request: POST http://127.0.0.1:1/\nbytes: ¦data/nowhere.bin"), "", ""},
		{written("call: ¦ledger/nothing"), "", ""},
		{written("lookup: ¦nowhere/x"), "", ""},
		{written("set: {a: ¦'${nothing}'}"), "", ""},
		{written("call: stores/search\n¦until: 5"), "", ""},
		{
			"sheet: s\nrows: ¦{from: data/intakes.csv, days: 2026-01-01 to 2026-01-03}\nsteps:\n  - step: a\n    pause: 1 ms\n",
			"", "",
		},
	}
	var all strings.Builder
	for _, c := range cases {
		text, line, column := place(c.text)
		problems := vet.Sheet(sheet.Read(bench, "s.yaml", []byte(text), step.Kinds), vet.Options{}).Serious()
		fmt.Fprintln(&all, strings.ReplaceAll(problems.Error(), filepath.ToSlash(dir), "DIR"))
		if !assert.NotEmpty(t, problems, text) {
			continue
		}
		found := false
		for _, p := range problems {
			found = found || strings.Contains(p.Message,
				c.message) && strings.Contains(p.Try, c.try) &&
				(line == 0 || c.message == "" || p.Line == line && p.Column == column)
		}
		assert.True(t, found, "expected %d:%d %s (%s) in\n%s\ngot\n%s", line, column, c.message, c.try, text,
			problems.Error())
	}
	asWritten(t, "sheet", all.String())
}

var update = flag.Bool("update", false, "write what came as what is expected")

// asWritten compares all that was told with what is written down: no mistake is told twice,
// none is left out, and the words stay as they are until somebody changes them.
func asWritten(t *testing.T, name, told string) {
	t.Helper()
	file := filepath.Join("testdata", name+".golden")
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(told), 0o644))
	}
	golden, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(golden), told, "go test ./internal/vet -update writes it anew")
}

func TestEveryMistakeOfABench(t *testing.T) {
	with := func(rest string) string {
		return "bench: b\nsites:\n  s:\n    set:\n      base: http://127.0.0.1:1\n" + rest + "\n"
	}
	service := func(rest string) string {
		return with("services:\n  a:\n    address: ${base}\n    " + strings.ReplaceAll(rest, "\n", "\n    "))
	}
	login := func(rest string) string {
		return with("logins:\n  l:\n    " + strings.ReplaceAll(rest, "\n", "\n    "))
	}
	cases := []struct{ text, message, try string }{
		{with("¦servces: {}"), `the bench has no key "servces"`, `"services"`},
		{with("databases:\n  ¦a: {}"), "the database a needs kind: and address:", "postgres"},
		{
			with("databases:\n  a:\n    kind: ¦postgress\n    address: x"), `"postgress" is not a kind of database`,
			`"postgres"`,
		},
		{with("    ¦gaurd: reading"), `a site has no key "gaurd"`, `"guard"`},
		{with("    gaurd: ¦writing"), `"writing" is not a guard`, "read only"},
		{with("    timeout: ¦-5 s"), "is less than nothing", "800 ms"},
		{with("  other:\n    set:\n      x: ¦${nothing}"), "nothing defines ${nothing}", ""},
		{with("    guard: ¦writing"), `"writing" is not a guard`, "read only"},
		{with("    timeout: ¦soon"), `"soon" is not a duration`, "800 ms"},
		{with("    proxy:\n      login: ¦nobody\n      address: http://127.0.0.1:1"), `there is no login "nobody"`, ""},
		{with("    proxy:\n      ¦login: nobody"), "the proxy has no address", "http://host:port"},
		{with(`    proxy:
      address: http://127.0.0.1:1
      login: ¦k
logins:
  k:
    kind: key
    key: ${sealed.k}
    header: X-K`), "a login of the kind of k cannot be shown to a proxy", "basic, digest, ntlm, kerberos"},
		{with("    proxy:\n      address: ¦ftp://x"), `"ftp://x" is not an address like`, ""},
		{with("    proxy: ¦http://127.0.0.1:1"), "proxy must be a mapping", "write its keys below it: address, login"},
		{with("    tls:\n      insecure: ¦no"), "is not an answer to yes or no", ""},
		{with("    services:\n      nothing: http://x"), `there is no service "nothing"`, "there are none"},
		{with("    logins:\n      a: b"), `there is no login`, ""},
		{
			with("services:\n  ¦a:\n    address: ${base}\n    operations:\n      o: {request: GET /, query: {x: {name: z}, y: {name: z}}}"),
			`a/o has two fields named "z"`, "give one of them another name",
		},
		{with("services:\n  ¦a/b:\n    address: ${base}"), "it has a space or a slash", ""},
		{with("services:\n  a:\n    address: ¦${bsae}"), "nothing defines ${bsae}", `"base"`},
		{with("services:\n  a:\n    address: ¦${row.x}"), "there are no rows in the bench file", ""},
		{service("login: ¦nobody"), `there is no login "nobody"`, "there are none"},
		{
			service("protocol: json-rpc\noperations:\n  x:\n    ¦request: GET /x"),
			"has no effect: the service's methods are called by name",
			"write the parameters under body:",
		},
		{
			service("operations:\n  x:\n    request: GET /x\n    ¦method: y"), "method: has no effect",
			"protocol: json-rpc",
		},
		{service("operations:\n  x:\n    request: ¦GET /x\n    payload: q:Q"), "SOAP is sent by POST", ""},
		{
			service("contract: c.wsdl\noperations:\n  x:\n    ¦template:\n      a: ${fields}"),
			"has no effect: the contract describes x", "write request:",
		},
		{with(`databases:
  d:
    kind: sqlite
    address: a.db
    ¦user: x`), "user: has no effect at a database of kind sqlite", ""},
		{service("soap: ¦2"), `"2" is not a version of SOAP`, ""},
		{service("operations:\n  ¦x:\n    about: y"), "the operation x has no request line", "payload:"},
		{service("operations:\n  x:\n    request: ¦get /x"), `"get" is not a request method`, `"GET"`},
		{service("operations:\n  x:\n    request: GET /x\n    query:\n      a:\n        default: ¦${depto}"), "depto", ""},
		{
			service("operations:\n  x:\n    request: POST /x\n    body:\n      b: optional\n    template: ¦{a: \"${fields.c}\"}"),
			"${fields.c} in the template of x: there is no such field", "",
		},
		{
			service("operations:\n  x:\n    request: GET /x\n    query:\n      a:\n        fixed: ¦${fields.b}"),
			"there is no such field; write it below inputs:", "",
		},
		{service("operations:\n  x:\n    request: ¦GET x"), "the path must begin with /", ""},
		{
			service("operations:\n  x:\n    request: GET /x\n    query:\n      a: ¦maybe"), "described by a mapping",
			"required, optional",
		},
		{
			service("operations:\n  x:\n    request: GET /x\n    query:\n      a:\n        ¦requird: true"),
			`a parameter has no key "requird"`, `"required"`,
		},
		{
			service("operations:\n  x:\n    request: GET /x\n    query:\n      a:\n        kind: ¦int"),
			`"int" is not a kind`, `"integer"`,
		},
		{service("operations:\n  ¦x:\n    request: GET /x\n    needs:\n      - [a]"), `needs: names "a"`, ""},
		{with("services:\n  ¦a:\n    about: x"), "says neither address: nor contract:", "write address:"},
		{service("¦addressing: true"), "addressing: has no effect: the service is not SOAP", "soap: 1.1"},
		{service("¦always:\n  blocks:\n    a: 1"), "always: blocks: has no effect", "soap: 1.1"},
		{service("operations:\n  x:\n    request: ¦GET /x\n    payload:\n      a: 1"), "", "write request: POST"},
		{service(`operations:
  x:
    request: POST /x
    query:
      a:
        fixed: ¦1
        default: 2`), "a is always", "keep one of them"},
		{service(`operations:
  x:
    request: POST /x
    query:
      a:
        kind: integer
        default: ¦b`), "", ""},
		{service("operations:\n  x:\n    request: POST /x\n    success: ¦20x0"), "", "write it like 201"},
		{with("databases:\n  a:\n    kind: sqlite\n    address: ¦${bsae}"), "nothing defines ${bsae}", `"base"`},
		{with("databases:\n  a:\n    kind: postgres\n    address: h/b\n    user: ¦${bsae}"), "nothing defines ${bsae}", `"base"`},
		{with("    like: nowhere"), `there is no site "nowhere"`, "there are: s"},
		{with("services:\n  a:\n    address: ${base}\n    contract: c.wsdl\n    ¦type: x"), "", ""},
		{with("databases:\n  a:\n    kind: sqlite\n    address: a.db\n    ¦user: x"), "user: has no effect", ""},
		{with("databases:\n  a:\n    kind: folder\n    address: a\n    ¦password: x"), "password: has no effect", ""},
		{with("logins:\n  l: ¦basic"), "a login must be a mapping, and is", "kind:"},
		{login("¦user: x"), "does not say its kind", "basic, bearer"},
		{login("kind: ¦oath2"), `"oath2" is not a kind of login`, `"oauth2"`},
		{login("kind: ¦API key"), "is not a kind of login", "write key"},
		{login("kind: ¦client credentials"), "is not a kind of login", "oauth2, with grant: client credentials"},
		{login("kind: oauth2\n¦token url: http://x"), `has no key "token url"`, "write from: URL of the token endpoint"},
		{login("kind: basic\npassword: x\n¦username: x"), `has no key "username"`, "write user: NAME"},
		{login("kind: digst"), `"digst" is not a kind of login`, "digest"},
		{login("¦kind: digest\nuser: x"), "does not say password:", ""},
		{login("¦kind: ntlm\npassword: ${machine.X}"), "does not say user:", ""},
		{login("¦kind: kerberos\nuser: x\nrealm: R"), "what proves the user", "keytab: FILE"},
		{login("¦kind: certificate"), "does not say certificate:", ""},
		{login("¦kind: session"), "needs open:", ""},
		{login("kind: session\nrepeat:\n  ¦header: X"), "repeat must say which header", "request: GET"},
		{login("¦kind: hmac\nkey: ${machine.X}"), "what is signed, and where the signature goes", "sorted query"},
		{login("kind: hmac\nkey: ${machine.X}\ninto: header S\nsign:\n  - ¦metod"), `"metod" cannot be signed`, ""},
		{
			login("kind: hmac\nkey: ${machine.X}\ninto: ¦cookie S\nsign:\n  - method"), "not a place in a request",
			"header NAME",
		},
		{login("kind: hmac\nkey: ${machine.X}\ninto: header S\nsign: ¦{a: b}"), "a list is expected here, and this is a mapping", "with a dash before it"},
		{login("¦kind: http signature\nkey: k.pem"), "what is covered", "@target-uri"},
		{login("kind: http signature\nkey: k.pem\ncover:\n  - ¦\"@metod\""), "not a derived component", ""},
		{login("¦kind: username token\nuser: x"), "does not say password:", ""},
		{login("¦kind: signature"), "must sign or encrypt", "encrypt:"},
		{login("kind: signature\ncertificate: c.pem\nreference: ¦tokn"), `"tokn" is not a reference`, "token"},
		{login("kind: signature\nencrypt:\n  ¦cipher: aes256-gcm"), "does not say for:", ""},
		{
			login("kind: signature\ncertificate: c.pem\nkey: k.pem\n¦algorithm: hmac-sha1"),
			"signs by the key that is made for the message", "take certificate: and key: out",
		},
		{
			login("kind: signature\nencrypt: {for: c.pem}\nderived keys: true\n¦algorithm: rsa-sha1"),
			"rsa-sha1 does not go with a shared key", "hmac-sha256",
		},
		{
			login("kind: signature\nencrypt: {for: c.pem}\nalgorithm: hmac-sha1\n¦reference: issuer"),
			"has no effect where a shared key signs", "",
		},
		{login("kind: signature\nencrypt: {for: c.pem}\n¦sign: body"), "without a key that signs", "algorithm: hmac-sha256"},
		{login("kind: signature\nencrypt: {for: c.pem, ¦first: true}"), "has no effect where nothing is signed", ""},
		{login("kind: signature\nkey from: m\nencrypt: {¦for: c.pem}"), "has no effect beside key from:", ""},
		{login("kind: oauth2\nfrom: http://x/\nclient: c\nclient secret: ${sealed.s}\ndetails: ¦{type: lots}"), "must be a list of mappings", ""},
		{login("kind: oauth2\nfrom: http://x/\nclient: c\nclient secret: ${sealed.s}\ndetails: [¦{kind: lots}]"), "with a type", ""},
		{login("¦kind: ws-trust"), "does not say address:", ""},
		{login("kind: ws-trust\naddress: http://x/\nactor: ¦''"), "it is empty, and has no effect", "a name for the actor"},
		{login("kind: ws-trust\naddress: http://x/\n¦certificate: c.pem"), "without key type: public", "key type: public"},
		{login("¦kind: ws-trust\naddress: http://x/\nkey type: public"), "does not say certificate:", ""},
		{
			login("kind: ws-trust\naddress: http://x/\ntoken type: context\n¦key type: bearer"),
			"a context always has a shared key", "",
		},
		{login("kind: ws-trust\naddress: http://x/\ntoken type: ¦saml 3"), `"saml 3" is not a type of token`, "saml 2.0"},
		{login("¦kind: saml"), "does not say assertion:", ""},
		{login("kind: saml\nfrom: ¦nobody"), `there is no login "nobody"`, ""},
		{login("¦kind: oauth2\nclient: c\nclient secret: ${machine.X}"), "does not say from:", "issuer:"},
		{login("¦kind: oauth2\nfrom: http://127.0.0.1/t\ngrant: device\nclient: c"), "does not say device:", ""},
		{
			login("¦kind: oauth2\nfrom: http://127.0.0.1/t\ngrant: token exchange"), "needs a token to begin with",
			"login: NAME",
		},
		{login("¦kind: oauth2\nfrom: http://127.0.0.1/t\ngrant: jwt bearer"), "needs an assertion", "key:"},
		{
			login("¦kind: oauth2\nfrom: http://127.0.0.1/t\nclient authentication: private key jwt\nclient: c"),
			"does not say key:",
			"",
		},
		{login("kind: saml\nfrom: l"), "need one another in a circle", ""},
		{login("¦kind: basic\nuser: x"), "the login does not say password:", ""},
		{login("¦kind: key\nkey: ${sealed.x}"), "must say where the key goes", "header: NAME"},
		{login("kind: key\nkey: ${sealed.x}\nheader: ¦X Y"), "cannot be the name of a header", ""},
		{
			with("services:\n  a:\n    address: ¦http://anna:word@h"), "the address holds a user or a password",
			"write a login of kind basic",
		},
		{
			with("  other:\n    set:\n      base: http://anna:word@h\nservices:\n  a:\n    address: ¦${base}/b"),
			"the address holds a user or a password", "write a login of kind basic",
		},
		{
			with("services:\n  a:\n    address: ¦${base}/b?c=1\n    operations: {o: {request: GET /d}}"),
			"the address of the service holds a query (?), and a path comes after it", "always: query: NAME: VALUE",
		},
		{with("services:\n  a:\n    address: ¦stores.example"), `"stores.example" is not an address`, ""},
		{with("    services:\n      a: ¦${base}x y\nservices:\n  a:\n    address: ${base}"), "is not an address", ""},
		{
			with("  other:\n    set:\n      base: ${host}/v2\n      host: ftp://h\nservices:\n  a:\n    address: ¦${base}/b"),
			`"ftp://h/v2/b" is not an address: it must begin with http://`, "",
		},
		{
			service("operations:\n  o:\n    request: GET /a\n    headers:\n      ¦X-Clé: {default: a}"),
			"cannot be the name of a header", "",
		},
		{login("kind: key\nkey: ${sealed.x}\ncookie: ¦a b"), "cannot be the name of a cookie", ""},
		{login("¦kind: oauth2\nclient: x\nclient secret: ${sealed.x}"), "does not say from:", ""},
		{
			login("kind: oauth2\nfrom: ${base}\nclient: x\nclient secret: ${sealed.x}\ngrant: ¦implicit"),
			"is not a grant that can be used", "client credentials",
		},
		{
			login("¦kind: oauth2\nfrom: ${base}\nclient: x\nclient secret: ${sealed.x}\ngrant: password"),
			"does not say user:", "",
		},
		{
			"bench: b\nservices:\n  x:\n    address: http://127.0.0.1:1\n    always: {query: {a: ¦null}}\n",
			"null has no effect: nothing here sends \"a\"", "take it out",
		},
		{
			service("protocol: json-rpc 1.0\noperations:\n  x: {body: {\"0\": optional, ¦lot: required}}"),
			"JSON-RPC 1.0 has parameters by position only", `write "1": {name: lot}`,
		},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken path: a\nform: {a: ¦null}"),
			"null has no effect: nothing here sends \"a\"", "take it out",
		},
		{
			"bench: b\nservices:\n  x:\n    address: http://127.0.0.1:1\n    protocol: ¦json-rpc 2.0\n", "is not a way to call methods", "write json-rpc",
		},
		{
			"bench: b\nsites:\n  s:\n    ¦base: http://127.0.0.1:1\n", `a site has no key "base"`, "write set: with base: URL",
		},
		{login("¦kind: login call"), "does not say which request to make", ""},
		{login("kind: login call\nrequest: ¦${base}/x\ntoken at: a"), "a method and an address are expected", "POST"},
		{login("kind: login call\nrequest: GET ${base}/x\ntoken at: $.a[¦x]"), "is expected in brackets", ""},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken at: a\nlasts: b ¦weeks"),
			`"weeks" is not a unit of time`, "min",
		},
		{
			login("¦kind: login call\nrequest: GET ${base}/x\nuser: u\ntoken path: a"),
			"user: and password: go together", "",
		},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken path: a\n¦token: x ${answer.a}"), "token: has no effect beside token path:", "keep one of them",
		},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken: ¦x ${base}"), "no part of the token comes from the response",
			"${answer.PATH}",
		},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken: ${answer.a} ¦${nowhere}"), "nothing defines ${nowhere}", "",
		},
		{
			login("kind: login call\nrequest: GET ${base}/x\ntoken path: a\nencode: ¦base65"), "base65", "base64",
		},
		{
			login("kind: oauth2\nfrom: ${base}\nclient: x\nclient secret: ${sealed.x}\nsend: {header: A, ¦query: b}"),
			"query: has no effect beside header:", "keep one of them",
		},
	}
	var all strings.Builder
	dir := t.TempDir()
	for _, c := range cases {
		text, line, column := place(c.text)
		problems := vet.Bench(bench.Read(dir, "bench.yaml", []byte(text)), vet.Options{}).Serious()
		fmt.Fprintln(&all, strings.ReplaceAll(problems.Error(), filepath.ToSlash(dir), "DIR"))
		found := false
		for _, p := range problems {
			found = found || strings.Contains(p.Message,
				c.message) && strings.Contains(p.Try, c.try) && (line == 0 || p.Line == line && p.Column == column)
		}
		assert.True(t, found, "expected %d:%d %s (%s) in\n%s\ngot\n%s", line, column, c.message, c.try, text,
			problems.Error())
	}
	asWritten(t, "bench", all.String())
}

// What is right is not a mistake: the other side of each condition above.
func TestNoMistakes(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, "http://127.0.0.1:1"))
	opened, err := bench.Open(dir)
	require.NoError(t, err)
	for _, text := range []string{
		"call: stores/search\nexpect:\n  refused: connection",
		"call: stores/search\nexpect:\n  refused: connection\nagain: 2",
		"batch: ledger\nparts:\n  - step: a\n    request: ledger GET /Suppliers\n  - step: b\n    follow: Suppliers\n    service: ledger",
		"listen:\n  answer: {status: 200}",
		"listen:\n  answer: {status: 599}",
		"call: stores/search\nskip: not today",
		"call: stores/search\nkeep: {a: {at: total, secret: true}, b: total | default 1}",
		"request: stores GET /lots\nkeep: {a: reply.text}",
		"call: stores/search\nexpect:\n  status: 2xx\nfields:\n  total: over 1\nkeep:\n  a: total",
		"call: stores/search\nexpect:\n  time: under 500 ms\n  size: over 5",
		"call: stores/search\nexpect:\n  time: about 500 ms within 10 %",
		`call: stores/search
fields:
  lots:
    count: 3
  depot:
    length: 5
  total:
    not:
      equals: 4
  grades:
    count: over 2`,
		"call: stores/search\nagain:\n  times: 2\n  on:\n    - 503\n    - refused\n    - failed",
		"call: stores/search\nagain:\n  times: 2\n  when: reply.status == 202",
		"call: stores/search\nuntil:\n  total: 1\nevery: 1 s to 5 s\nwithin: 1 min",
		"call: stores/search\nuntil:\n  total: 1\nstates:\n  of: total\n  allowed:\n    - a\n    - [b, c]",
		"call: stores/search\nfields:\n  total:\n    one of:\n      - 1\n      - 2",
		"call: stores/search\nfields:\n  lots:\n    - count 2\n    - is list",
		"call: stores/search\nfields:\n  lots:\n    equals:\n      - a: 1",
		"call: stores/search\npages: 2",
		"listen: POST\nfields:\n  a: ${callback}",
		"call: stores/search\nlogin: none",
		"call: stores/search\ncontract: off\nfill:\n  nothing: 1",
		"request: stores POST /x\ntext: a",
		"request: stores POST /x\nbody:\n  a: 1\nheaders:\n  A: b\nquery:\n  c: d",
		"request: POST http://127.0.0.1:1/x\nsoap: 1.2\naction: urn:a\nbody:\n  a: 1\nblocks:\n  b: 2",
		"pause: 1 ms",
		"set:\n  a: 1",
		"set:\n  a: 1\nwhere:\n  - kept.a == 1",
		"steps:\n  - step: b\n    call: stores/search",
		"for each: depot\nsteps:\n  - step: b\n    set:\n      y: ${each.depot}",
		"call: stores/search\nfields:\n  depot: ${nothing | default north}",
	} {
		source := "sheet: s\nsteps:\n  - step: one\n    " + strings.ReplaceAll(text, "\n", "\n    ") + "\n"
		assert.Empty(t, vet.Sheet(sheet.Read(opened, "s.yaml", []byte(source), step.Kinds), vet.Options{}).Serious(),
			source)
	}
	for _, text := range []string{
		"    soap: 1.1\n    addressing: true\n    always:\n      blocks:\n        a: 1\n",
		"    operations:\n      x:\n        request: POST /x\n        payload: <a/>\n    addressing: true\n",
		`    operations:
      x:
        request: GET /x/{id}
        query:
          a:
            kind: integer
            default: 5
          b:
            fixed: 1
          c: optional
        needs:
          - [a, c]
        success: 2xx
`,
		"    always:\n      headers:\n        A: b\n    about: x\n",
		`    about: x
databases:
  d:
    kind: postgres
    address: 127.0.0.1:1
    user: x
    password: ${machine.HOME}
  e:
    kind: sqlite
    address: a.db
`,
	} {
		source := `bench: b
sites:
  s:
    set:
      base: http://127.0.0.1:1
  t:
    like: s
    guard: read only
services:
  a:
    address: ${base}
` + text
		assert.Empty(t, vet.Bench(bench.Read(t.TempDir(), "bench.yaml", []byte(source)), vet.Options{}).Serious(),
			source)
	}
}

// The columns of a query are not known before its database is asked, unless they are named.
func TestColumnsOfQueries(t *testing.T) {
	opened := bench.Read(t.TempDir(), "bench.yaml",
		[]byte("bench: b\ndatabases:\n  stock:\n    kind: sqlite\n    address: a.db\n"))
	for columns, want := range map[string]string{
		"": "", "\n  columns: [lot]": "",
		"\n  columns: [jar]": `there is no column "lot"`,
	} {
		problems := vet.Sheet(sheet.Read(opened, "s.yaml",
			[]byte("sheet: s\nrows:\n  database: stock\n  sql: select * from lots"+columns+
				"\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/${row.lot}\n"), step.Kinds),
			vet.Options{}).Serious()
		require.Len(t, problems, map[bool]int{true: 0, false: 1}[want == ""], "%s: %v", columns, problems)
		if want != "" {
			assert.Contains(t, problems[0].Message, want)
		}
	}
}

// Rows of spans have a column of their own, or one of the name that is given.
func TestColumnsOfSpans(t *testing.T) {
	opened := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\n"))
	for rows, column := range map[string]string{
		"{numbers: 1 to 3}": "number", "{numbers: 1 to 3, as: n}": "n", "{days: 2026-11-01 to 2026-11-03}": "day",
		"{days: 2026-11-01 to 2026-11-03, as: d}": "d",
	} {
		for _, name := range []string{"number", "n", "day", "d"} {
			read := sheet.Read(opened, "s.yaml",
				[]byte("sheet: s\nrows: "+rows+"\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/${row."+name+
					"}\n"), step.Kinds)
			assert.Equal(t, name == column, len(vet.Sheet(read, vet.Options{}).Serious()) == 0, "%s %s", rows, name)
		}
	}
}

// A sheet that a step runs is given what it takes, and nothing else.
func TestSheetWithin(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "inner.yaml"),
		[]byte(`sheet: inner
takes:
  hive: required
  depot: north
steps:
  - step: a
    set: {x: '${hive}-${depot}'}
`), 0o600))
	opened := bench.Read(dir, "bench.yaml", []byte("bench: b\n"))
	for fill, want := range map[string]string{
		"{hive: 1}": "", "{hive: 1, depot: south}": "", "{depot: south}": "inner.yaml must be given hive",
		"{hive: 1, dept: south}": `there is no value that inner.yaml takes "dept"`,
	} {
		read := sheet.Read(opened, filepath.Join(dir, "s.yaml"),
			[]byte("sheet: s\nsteps:\n  - step: in\n    sheet: inner.yaml\n    fill: "+fill+"\n"), step.Kinds)
		problems := vet.Sheet(read, vet.Options{}).Serious()
		require.Len(t, problems, map[bool]int{true: 0, false: 1}[want == ""], fill)
		if want != "" {
			assert.Contains(t, problems[0].Message, want)
		}
	}
}

// Where a run goes on from a step, what the steps before it kept is known, and what comes of it
// and of those after it is not.
func TestNamesFrom(t *testing.T) {
	opened := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\n"))
	read := sheet.Read(opened, "s.yaml",
		[]byte(`sheet: s
steps:
  - step: one
    set: {a: 1}
  - step: two
    steps:
      - step: in
        set: {b: 1}
  - step: three
    calculate: {c: 1 + 1}
`), step.Kinds)
	for from, want := range map[string][]string{
		"one": {"a", "b", "c"}, "two": {"b", "c"}, "three": {"c"},
		"four": nil,
	} {
		assert.Equal(t, want, vet.NamesFrom(read, from), from)
	}
	assert.Equal(t, []string{"one", "two"}, vet.UpTo(read, "in"))
}

// A name that nothing defines is told with what there is, where there is something.
func TestNothingDefines(t *testing.T) {
	const asks = "sheet: s\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/${lot}\n"
	for text, want := range map[string]string{
		"bench: b\n": "or from the site",
		"bench: b\nsites:\n  s:\n    set: {depot: n}\n": "or from the site; there are: depot",
		"bench: b\nsites:\n  s:\n    set: {lots: n}\n":  `did you mean "lots"?`,
	} {
		problems := vet.Sheet(sheet.Read(bench.Read(t.TempDir(), "bench.yaml", []byte(text)), "s.yaml", []byte(asks),
			step.Kinds), vet.Options{}).Serious()
		require.Len(t, problems, 1)
		assert.True(t, strings.HasSuffix(problems[0].Try, want), problems[0].Try)
	}
}

// What looks like a credential is remarked where it is in the open.
func TestCredentialsInTheOpen(t *testing.T) {
	opened := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\nsites:\n  s:\n    set: {name: x}\n"))
	for field, remarked := range map[string]bool{
		"password: hunter22": true, "password: ${name}": false, "password: a${name}b": false,
		"password: [hunter22]": false, "lot: L-2201": false, "password: ''": false,
	} {
		problems := vet.Sheet(sheet.Read(opened, "s.yaml",
			[]byte("sheet: s\nsteps:\n  - step: a\n    request: POST http://127.0.0.1:1/\n    body:\n      "+field+
				"\n"), step.Kinds), vet.Options{})
		assert.Empty(t, problems.Serious(), field)
		assert.Len(t, problems, map[bool]int{true: 1, false: 0}[remarked], field)
	}
}

// A rule that a comment cut short is not a mistake, and is remarked; one in quotes is meant so.
func TestRulesCutShort(t *testing.T) {
	opened := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\n"))
	for rule, want := range map[string]string{
		"A # B": `the rule ends before "# B"`, `"A # B"`: "", `"A" # B`: "",
		"A": "", "A#B": "",
	} {
		problems := vet.Sheet(sheet.Read(opened, "s.yaml",
			[]byte("sheet: s\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/\n    fields:\n      n: "+rule+
				"\n"), step.Kinds), vet.Options{})
		require.Len(t, problems, map[bool]int{true: 0, false: 1}[want == ""], "%s: %v", rule, problems)
		if want != "" {
			assert.True(t, problems[0].Remark)
			assert.Contains(t, problems[0].Message, want)
		}
	}
}

// A name that is in two places is not a mistake, and is remarked.
func TestRemarks(t *testing.T) {
	bench := bench.Read(t.TempDir(), "bench.yaml",
		[]byte(`bench: b
sites:
  s:
    set:
      base: http://127.0.0.1:1
services:
  a:
    address: ${base}
`))
	for kept, column := range map[string]string{"n": "n", "base": "m", "other": "base", "one": "two"} {
		problems := vet.Sheet(sheet.Read(bench, "s.yaml",
			[]byte("sheet: s\nrows:\n  list:\n    - "+column+
				": 1\nsteps:\n  - step: a\n    request: a GET /\n    keep:\n      "+kept+": total\n"), step.Kinds),
			vet.Options{})
		want := map[string]string{
			"n":     "n is kept here and is a column of the rows too",
			"base":  "base is kept here and set by the site too",
			"other": "base is a column and set by the site too",
		}[kept]
		require.Len(t, problems, map[bool]int{true: 0, false: 1}[want == ""], kept)
		for _, p := range problems {
			assert.True(t, p.Remark)
			assert.Contains(t, p.Message, want)
		}
	}
}

// A value that was kept before is known by its full name, whoever kept it.
func TestKeptBefore(t *testing.T) {
	bench := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\n"))
	read := func(name string) *sheet.Sheet {
		return sheet.Read(bench, "s.yaml",
			[]byte("sheet: s\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/${"+name+
				"}\n    keep:\n      k: total\n  - step: b\n    request: GET http://127.0.0.1:1/${kept.k}/${k}\n"),
			step.Kinds)
	}
	before := vet.Options{Kept: []string{"old"}}
	assert.Empty(t, vet.Sheet(read("kept.old"), before).Serious())
	assert.NotEmpty(t, vet.Sheet(read("kept.old"), vet.Options{}).Serious())
	assert.NotEmpty(t, vet.Sheet(read("kept.other"), before).Serious())
	assert.NotEmpty(t, vet.Sheet(read("kept.other | default x"), before).Serious(),
		"a name that nothing keeps is a slip of the pen, whatever comes after it")
	assert.NotEmpty(t, vet.Sheet(read("old"), before).Serious())
	assert.Empty(t, vet.Sheet(read("old"), vet.Options{Set: map[string]string{"old": "1"}}).Serious())
}

// A sheet is looked at with the values of the site that it is for, and of another one where that is said.
func TestSiteOfASheet(t *testing.T) {
	bench := bench.Read(t.TempDir(), "bench.yaml",
		[]byte("bench: b\nsites:\n  north:\n    set:\n      depot: n\n  south:\n    set:\n      wharf: s\n"))
	read := sheet.Read(bench, "s.yaml",
		[]byte("sheet: s\nsite: south\nsteps:\n  - step: a\n    request: GET http://127.0.0.1:1/${wharf}\n"),
		step.Kinds)
	assert.Empty(t, vet.Sheet(read, vet.Options{}).Serious())
	assert.Empty(t, vet.Sheet(read, vet.Options{Site: "south"}).Serious())
	assert.NotEmpty(t, vet.Sheet(read, vet.Options{Site: "north"}).Serious())
}

// What is on a command line has an effect, or is refused.
func TestArgumentsHaveAnEffect(t *testing.T) {
	bench := bench.Read(t.TempDir(), "bench.yaml",
		[]byte(`bench: b
sites:
  s:
    set:
      base: http://127.0.0.1:1
      url: ${host}
  live:
    like: s
    guard: read only
services:
  a:
    address: ${base}/${part}
logins:
  l:
    kind: basic
    user: ${who}
    password: ${machine.PASS}
databases:
  d:
    kind: sqlite
    address: ${where}
`))
	plain := sheet.Read(bench, "s.yaml",
		[]byte(`sheet: s
steps:
  - step: one
    request: a GET /${lot}
    keep:
      k: total
  - step: undone
    request: a POST /x
    undo:
      step: back
      request: a DELETE /${gone}
`), step.Kinds)
	rows := sheet.Read(bench, "r.yaml",
		[]byte(`sheet: r
site: live
takes:
  depot: north
rows:
  list:
    - n: 1
steps:
  - step: two
    request: a GET /${row.n}
  - step: heard
    listen:
      answer:
        status: 204
    until:
      a: 1
`), step.Kinds)
	elsewhere := sheet.Read(bench, "t.yaml",
		[]byte(`sheet: t
site: s
steps:
  - step: a
    request: a GET /
  - step: b
    request: a POST /
    site: live
`), step.Kinds)
	set := func(name string) vet.Arguments { return vet.Arguments{Set: map[string]string{name: "1"}} }
	for _, c := range []struct {
		name   string
		a      vet.Arguments
		sheets []*sheet.Sheet
		wrong  string
	}{
		{"nothing", vet.Arguments{}, []*sheet.Sheet{plain}, ""},
		{"a value of a step", set("lot"), []*sheet.Sheet{plain}, ""},
		{"a value of what takes back", set("gone"), []*sheet.Sheet{plain}, ""},
		{"a value of a service", set("part"), []*sheet.Sheet{plain}, ""},
		{"a value that the site is made of", set("host"), []*sheet.Sheet{plain}, ""},
		{"a site that one of the steps asks", vet.Arguments{Write: "live"}, []*sheet.Sheet{elsewhere}, ""},
		{"a value of a login", set("who"), []*sheet.Sheet{plain}, ""},
		{"a value of a database", set("where"), []*sheet.Sheet{plain}, ""},
		{"a value of the site", set("base"), []*sheet.Sheet{plain}, ""},
		{"a value that the sheet takes", set("depot"), []*sheet.Sheet{rows}, ""},
		{"a value of another sheet", set("depot"), []*sheet.Sheet{plain}, "-set depot has no effect"},
		{"a value that nothing asks for", set("lott"), []*sheet.Sheet{plain}, `"lot"`},
		{"a site that is written to", vet.Arguments{Write: "live", Site: "live"}, []*sheet.Sheet{plain}, ""},
		{"the sheet's own site", vet.Arguments{Write: "live"}, []*sheet.Sheet{rows}, ""},
		{
			"another site",
			vet.Arguments{Write: "live", Site: "s"},
			[]*sheet.Sheet{rows},
			"-write live has no effect: what is asked is the site s",
		},
		{
			"another site than the first",
			vet.Arguments{Write: "live"},
			[]*sheet.Sheet{plain},
			"-write live has no effect: what is asked is the site s",
		},
		{"a site that is not there", vet.Arguments{Write: "liv"}, []*sheet.Sheet{rows}, "-write: "},
		{"rows", vet.Arguments{Rows: true}, []*sheet.Sheet{plain, rows}, ""},
		{"no rows", vet.Arguments{Rows: true}, []*sheet.Sheet{plain}, "-rows has no effect: the sheet is without rows"},
		{
			"no rows in any",
			vet.Arguments{Rows: true},
			[]*sheet.Sheet{plain, plain},
			"-rows has no effect: the sheets are without rows",
		},
		{"listening", vet.Arguments{Listen: true}, []*sheet.Sheet{rows}, ""},
		{"nobody listens", vet.Arguments{Listen: true}, []*sheet.Sheet{plain}, "-listen and -callback have no effect"},
		{"steps", vet.Arguments{Steps: []string{"one", "two"}}, []*sheet.Sheet{plain, rows}, ""},
		{
			"a step that is not there",
			vet.Arguments{Steps: []string{"one", "tow"}},
			[]*sheet.Sheet{plain, rows},
			`"two"`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			err := vet.CheckArguments(bench, c.a, c.sheets, nil)
			if c.wrong == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.wrong)
		})
	}
	called := sheet.Read(bench, "c.yaml",
		[]byte("sheet: c\nsteps:\n  - step: call\n    request: GET http://127.0.0.1:1/${lot}\n"), step.Kinds)
	require.NoError(t, vet.CheckArguments(bench, set("lot"), nil, called.Steps[0]))
	require.ErrorContains(t, vet.CheckArguments(bench, vet.Arguments{Fresh: true}, nil, called.Steps[0]), "-fresh has no effect")
	require.NoError(t, vet.CheckArguments(bench, vet.Arguments{Fresh: true}, nil, nil))
	require.ErrorContains(t, vet.CheckArguments(bench, set("lots"), nil, called.Steps[0]), `"lot"`)
}

// A secret that is not there is a mistake for a run and a remark for vet.
func TestMissingSecrets(t *testing.T) {
	b := bench.Read("", "bench.yaml",
		[]byte(`bench: b
sites:
  s:
    set:
      base: http://127.0.0.1:1
services:
  a:
    address: ${base}
`))
	s := sheet.Read(b, "s.yaml",
		[]byte("sheet: s\nsteps:\n  - step: one\n    request: a GET /\n    headers:\n      X-Key: ${sealed.key}\n"),
		step.Kinds)
	has := map[string]bool{}
	options := vet.Options{HasSecret: func(site, name string) bool { return has[site+"/"+name] }}
	for _, forRun := range []bool{false, true} {
		options.ForRun = forRun
		problems := vet.Sheet(s, options)
		require.Len(t, problems, 1)
		assert.Equal(t, !forRun, problems[0].Remark)
		assert.Contains(t, problems[0].Message, "TESTBENCH_SEALED_KEY")
	}
	has["s/key"] = true
	assert.Empty(t, vet.Sheet(s, options))
}

// What the bench names is read where it is named: mistakes are told once, and what a step says
// itself goes before.
func TestNamedChecks(t *testing.T) {
	const head = `sites: {s: {set: {base: "http://a"}}}
services:
  lab:
    address: ${base}
    operations:
      get: {request: "GET /{id}"}
checks:
  good: {expect: {status: 200, type: application/json}, fields: {id: is text}, where: reply.status > 1}
  quick: {expect: {time: under 1 s}, where: [reply.status > 2, reply.status > 3]}
  strict: {expect: {status: 201}}
fills:
  seven: {id: 7}
  eight: {id: 8}
`
	read := func(bench, step string) (*sheet.Step, []string) {
		s, problems := vetted(t, bench, "steps:\n  - step: a\n    call: lab/get\n"+step)
		return s.Steps[0], problems
	}
	step, problems := read(head, "    fills: seven\n    checks: [good, quick]\n    expect: {status: 204}\n    where: reply.status > 4\n")
	require.Empty(t, problems)
	status, _ := step.Expect.Status.Single()
	assert.Equal(t, 204, status)
	assert.NotNil(t, step.Expect.Type)
	assert.NotNil(t, step.Expect.Time)
	assert.Len(t, step.Fields, 1)
	assert.Len(t, step.Where, 4)
	assert.Equal(t, "7", step.Fill.Get("id").Scalar.LiteralText())
	step, problems = read(head, "    fills: [seven]\n    fill: {id: 9}\n")
	require.Empty(t, problems)
	assert.Equal(t, "9", step.Fill.Get("id").Scalar.LiteralText())

	// What is only remarked is taken in all the same.
	step, problems = read(strings.Replace(head, "seven: {id: 7}", "seven: {id: 7, password: hunter2hunter2}", 1), "    fills: seven\n")
	assert.NotNil(t, step.Fill.Get("id"))
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], `get has no field "password"`)

	for name, c := range map[string]struct{ bench, step, told string }{
		"an empty fill-in":      {strings.Replace(head, "{id: 8}", "{}", 1), "    fills: seven\n", "the fill-in eight is empty"},
		"two that say the same": {head, "    fills: seven\n    checks: [good, strict]\n", "sheet:5:20: good and strict both say status of expect:"},
		"two fill-ins":          {head, "    fills: [seven, eight]\n", "sheet:4:20: seven and eight both say id of fill:"},
		"none of the name":      {head, "    fills: seven\n    checks: goood\n", `sheet:5:13: there is no check "goood"`},
		"a kind without":        {head, "    fills: seven\n  - pause: 1 s\n    checks: good\n", "sheet:6:5: a pause has no checks"},
		"a row without rows":    {head + "  of_row: {id: \"${row.n}\"}\n", "    fills: of_row\n", "sheet:4:13: ${row.n}: the sheet has no rows here"},
		"a mistake in a check": {
			strings.Replace(head, "is text", "betwen 1 and 2", 1), "    fills: seven\n    checks: [good]\n",
			`bench.yaml:8:`,
		},
		"a key that checks do not have": {
			strings.Replace(head, "fields: {id: is text}", "keep: {a: b}", 1), "    fills: seven\n", `a check has no key "keep"`,
		},
		"an empty check": {strings.Replace(head, "{expect: {status: 201}}", "{}", 1), "    fills: seven\n", "the check strict is empty"},
	} {
		t.Run(name, func(t *testing.T) {
			_, problems := read(c.bench, c.step)
			require.Len(t, problems, 1)
			assert.Contains(t, problems[0], c.told)
		})
	}
}

// vetted reads and vets a bench and a sheet as the program does; mistakes begin with their places.
func vetted(t *testing.T, benchText, sheetText string) (*sheet.Sheet, []string) {
	t.Helper()
	b := bench.Read(t.TempDir(), "bench.yaml", []byte(benchText))
	sheet.CheckNamed(b)
	problems := vet.Bench(b, vet.Options{}).Serious()
	s := sheet.Read(b, "sheet", []byte(sheetText), step.Kinds)
	problems = append(problems, vet.Sheet(s, vet.Options{}).Serious()...)
	var told []string
	for _, p := range problems {
		told = append(told, fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message))
	}
	return s, told
}

// An attachment is known by the name of its file, unless it has one.
func TestAttachmentNames(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), nil, 0o600))
	s := sheet.Read(bench.Read(dir, "bench.yaml", []byte("bench: b\n")), filepath.Join(dir, "s.yaml"),
		[]byte("steps:\n  - request: POST http://a/\n    attach: [{file: a.txt}, {name: b, file: a.txt}, {file: a.txt, name: c}]\n"), step.Kinds)
	require.Empty(t, s.Problems().Serious())
	var names []string
	for _, a := range s.Steps[0].Spec.Attach {
		names = append(names, a.Name)
	}
	assert.Equal(t, []string{"a.txt", "b", "c"}, names)
}

// A value that a sheet must be given is missed by a run alone, which can be given it.
func TestRequiredValues(t *testing.T) {
	b := bench.Read(t.TempDir(), "bench.yaml", []byte("bench: b\nsites: {s: {set: {a: b}}}\n"))
	for name, c := range map[string]struct {
		options vet.Options
		isWrong bool
	}{
		"looked at":            {vet.Options{}, false},
		"run without":          {vet.Options{ForRun: true}, true},
		"run with":             {vet.Options{ForRun: true, Set: map[string]string{"lot": "1"}}, false},
		"looked at with":       {vet.Options{Set: map[string]string{"lot": "1"}}, false},
		"run with another one": {vet.Options{ForRun: true, Set: map[string]string{"lots": "1"}}, true},
	} {
		s := sheet.Read(b, "s", []byte("takes: {lot: required, day: monday}\nsteps: [{set: {x: \"${lot} ${day}\"}}]\n"), step.Kinds)
		assert.Equal(t, c.isWrong, len(vet.Sheet(s, c.options).Serious()) > 0, name)
	}
}

// What is wrong deep in a field is told where the field stands, and not at one whose name begins alike.
func TestPlacesOfFields(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "c.yaml"), []byte(`openapi: 3.0.3
info: {title: c, version: "1"}
paths:
  /x:
    post:
      operationId: x
      requestBody:
        content:
          application/json:
            schema:
              type: object
              properties:
                line: {type: string}
                lines: {type: array, items: {type: object, properties: {n: {type: integer}}}}
                inner: {type: object, properties: {n: {type: integer}}}
      responses: {"200": {description: ok}}
`), 0o600))
	b := bench.Read(dir, "bench.yaml", []byte("bench: b\nservices: {c: {contract: c.yaml, address: \"http://a\"}}\n"))
	for fill, column := range map[string]int{
		`{line: a, lines: [{n: x}]}`: 26,
		`{lines: [{n: x}], line: a}`: 17,
		`{line: a, inner: {n: x}}`:   26,
		`{line: [], inner: {n: 1}}`:  16,
	} {
		s := sheet.Read(b, "s", []byte("steps:\n- call: c/x\n  fill: "+fill+"\n"), step.Kinds)
		problems := vet.Sheet(s, vet.Options{}).Serious()
		if assert.Len(t, problems, 1, fill) {
			assert.Equal(t, column, problems[0].Column, "%s: %s", fill, problems[0])
		}
	}
}
