package run_test

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// change is a key of a mapping, with what shows that it has an effect: the same bench and
// sheet without it and with it. Of each the service x, the site and the sheet are written.
type change struct {
	service, with string // what is below the service x, without it and with it
	site          [2]string
	sheet         [2]string // the whole sheet; empty for one call of x/op
	database      [2]string
}

const op = "address: ${base}/echo\noperations:\n  op:\n    request: POST /it\n"

func ofService(with string) change { return change{service: op, with: op + with} }

// ofErrors is a service whose answers are errors; a key says where an error tells something, and the step looks.
func ofErrors(key string) change {
	sheet := "sheet: s\nsteps:\n  - step: it\n    call: x/op\n    expect:\n      error:\n        " + key + ": is present\n"
	return change{
		service: op + "error:\n  when: answer.n == 3\n", with: op + "error:\n  when: answer.n == 3\n  " + key + ": path\n",
		sheet: [2]string{sheet, sheet},
	}
}

func ofOperation(with string) change {
	return change{service: op, with: op + deeper(with, "    ")}
}

// looking is the change with a step that looks at a field.
func looking(c change) change {
	sheet := "sheet: s\nsteps:\n  - step: it\n    call: x/op\n    fields:\n      n: is present\n"
	c.sheet = [2]string{sheet, sheet}
	return c
}

// ofParameter is a parameter p of the body; the call fills in what is given.
func ofParameter(without, with, fill string) change {
	text := op + "    body:\n      p:\n"
	sheet := "sheet: s\nsteps:\n  - step: it\n    call: x/op\n" + fill
	return change{
		service: text + deeper(without, "        "), with: text + deeper(with, "        "),
		sheet: [2]string{sheet, sheet},
	}
}

func ofRows(without, with string) change {
	text := func(rows string) string {
		return "sheet: s\nrows:\n" + deeper(rows, "  ") +
			"steps:\n  - step: it\n    request: POST ${base}/echo/it\n    body:\n      row: ${row.n}\n"
	}
	return change{service: op, with: op, sheet: [2]string{text(without), text(with)}}
}

func ofStep(without, with string) change {
	text := func(step string) string { return "sheet: s\nsteps:\n  - step: it\n" + indented(step) }
	return change{service: op, with: op, sheet: [2]string{text(without), text(with)}}
}

func ofDatabase(without, with, lookup string) change {
	sheet := "sheet: s\nsteps:\n  - step: it\n    lookup: y\n" + lookup
	return change{service: op, with: op, database: [2]string{without, with}, sheet: [2]string{sheet, sheet}}
}

const soapy = "address: ${base}/echo\nsoap: 1.1\noperations:\n  op:\n    payload: lab:GradeLot\n"

// changes have every key of every mapping of the bench and of sheets, but for those of steps
// and logins, which have tests of their own.
var changes = map[string]change{
	"service contract": {
		service: "address: ${base}/lab\nsoap: 1.1\noperations:\n  op:\n    payload: lab:GradeLot",
		with: `address: ${base}/lab
contract: contracts/lab.wsdl
soap: 1.1
operations:
  op:
    payload: lab:GradeLot`, sheet: [2]string{`sheet: s
steps:
  - step: it
    call: x/GradeLot
    fill:
      lot: L-2201
      moisture: 17
`, `sheet: s
steps:
  - step: it
    call: x/GradeLot
    fill:
      lot: L-2201
      moisture: 17
`},
	},
	"service address":    {service: op, with: strings.Replace(op, "/echo", "/echo/other", 1)},
	"service login":      ofService("login: clerk\n"),
	"service always":     ofService("always:\n  headers:\n    X-Odd: a\n"),
	"service addressing": {service: soapy, with: soapy + "addressing: true\n"},
	"service protocol": {
		service: "address: ${base}/echo\nprotocol: json-rpc",
		with:    "address: ${base}/echo\nprotocol: xml-rpc",
	},
	"service port": {
		service: "contract: ${base}/scale?wsdl",
		with:    "contract: ${base}/scale?wsdl\nport: ConvoyPort",
		sheet: [2]string{
			"sheet: s\nsteps:\n  - step: it\n    call: x/Weigh\n",
			"sheet: s\nsteps:\n  - step: it\n    call: x/Weigh\n",
		},
	},
	"service soap": {service: soapy, with: strings.Replace(soapy, "1.1", "1.2", 1)},
	"service http": ofService("http: 2\n"), "service timeout": ofService("timeout: 0.001 ms\n"),
	"service answer as": looking(ofService("answer as: text\n")),
	"service names": {
		service: strings.Replace(soapy, "lab:", "odd:", 1),
		with:    strings.Replace(soapy, "lab:", "odd:", 1) + "names:\n  odd: urn:odd\n",
	},
	"service operations": {service: "address: ${base}/echo", with: op},
	"always headers":     ofService("always:\n  headers:\n    X-Odd: a\n"),
	"always query":       ofService("always:\n  query:\n    q: a\n"),
	"always cookies":     ofService("always:\n  cookies:\n    c: a\n"),
	"always blocks":      {service: soapy, with: soapy + "always:\n  blocks:\n    lab:Odd: a\n"},

	"operation request": {service: op, with: strings.Replace(op, "POST /it", "PUT /it/more", 1)},
	"operation method": {
		service: "address: ${base}/echo\nprotocol: json-rpc\noperations:\n  op:\n    reads: true",
		with:    "address: ${base}/echo\nprotocol: json-rpc\noperations:\n  op:\n    reads: true\n    method: Other.name",
	},
	"operation path": {
		service: strings.Replace(op, "/it", "/it/{id}", 1),
		with:    strings.Replace(op, "/it", "/it/{id}", 1) + "    path:\n      id:\n        default: a\n",
	},
	"operation inputs":   ofOperation("inputs:\n  i:\n    default: a\nquery:\n  q:\n    fixed: ${fields.i | upper}\n"),
	"operation query":    ofOperation("query:\n  q:\n    default: a\n"),
	"operation headers":  ofOperation("headers:\n  X-Odd:\n    default: a\n"),
	"operation form":     ofOperation("form:\n  f:\n    default: a\n"),
	"operation body":     ofOperation("body:\n  b:\n    default: a\n"),
	"operation template": ofOperation("template:\n  wrapped: ${fields}\n"),
	"operation success":  ofOperation("success: 201\n"),
	"operation error":    ofOperation("error:\n  when: answer.n == 3\n"),
	"service success":    ofService("success: answer.n == 4\n"),
	"service error":      ofService("error:\n  when: answer.n == 3\n"),
	"error when":         ofService("error:\n  when: answer.n == 3\n"),
	"error code":         ofErrors("code"), "error text": ofErrors("text"), "error target": ofErrors("target"),
	"operation statuses":       ofOperation("statuses:\n  201: made\n"),
	"operation answer":         ofOperation("answer: strict.json\n"),
	"operation stream":         ofOperation("stream: {most: 1}\n"),
	"operation answer as":      looking(ofOperation("answer as: text\n")),
	"operation needs":          ofOperation("query:\n  a: optional\n  b: optional\nneeds:\n  -\n    - a\n    - b\n"),
	"operation exactly one of": ofOperation("query:\n  a: {default: x}\n  b: optional\nexactly one of: [a, b]\n"),
	"operation reads": {
		service: op, with: op + "    reads: true\n",
		site: [2]string{"guard: read only", "guard: read only"},
	},
	"operation action":  {service: soapy, with: soapy + "    action: urn:odd\n"},
	"operation payload": {service: soapy, with: strings.Replace(soapy, "GradeLot", "Other", 1)},

	"parameter name":     ofParameter("name: p", "name: q", "    fill:\n      q: a\n"),
	"parameter required": ofParameter("required: false", "required: true", ""),
	"parameter kind":     ofParameter("about: x", "kind: text", "    fill:\n      p: 3\n"),
	"parameter one of":   ofParameter("about: x", "one of:\n  - a\n  - b", "    fill:\n      p: c\n"),
	"parameter default":  ofParameter("about: x", "default: \"\"", ""),
	"parameter fixed":    ofParameter("about: x", "fixed: ${site.depot}", ""),

	"site like": {service: op, with: op, site: [2]string{"", "like: other_site"}},
	"site set": {
		service: op + "always:\n  headers:\n    X-Depot: ${depot}\n",
		with:    op + "always:\n  headers:\n    X-Depot: ${depot}\n", site: [2]string{"", "set:\n  depot: west"},
	},
	"site guard":   {service: op, with: op, site: [2]string{"", "guard: read only"}},
	"site timeout": {service: op, with: op, site: [2]string{"", "timeout: 1 ms"}, sheet: [2]string{slow, slow}},
	"site tls":     {service: op, with: op, site: [2]string{"", "tls:\n  ca: b.txt"}},
	"site logins": {
		service: op + "login: ledger_key\n", with: op + "login: ledger_key\n",
		site: [2]string{"", "logins:\n  ledger_key: lab_desk"},
	},
	"site services": {service: op, with: op, site: [2]string{"", "services:\n  x: ${base}/echo/here"}},
	"proxy address": {service: op, with: op, site: [2]string{"", "proxy:\n  address: http://127.0.0.1:1"}},
	"proxy login": {
		service: op, with: op,
		site: [2]string{
			"proxy:\n  address: http://127.0.0.1:1",
			"proxy:\n  address: http://127.0.0.1:1\n  login: nobody",
		},
	},
	"site proxy":      {service: op, with: op, site: [2]string{"", "proxy:\n  address: http://127.0.0.1:1"}},
	"tls ca":          {service: op, with: op, site: [2]string{"", "tls:\n  ca: b.txt"}},
	"tls certificate": {service: op, with: op, site: [2]string{"", "tls:\n  certificate: b.txt"}},
	"tls key": {
		service: op, with: op,
		site: [2]string{
			"tls:\n  certificate: certs/bryony.pem",
			"tls:\n  certificate: certs/bryony.pem\n  key: b.txt",
		},
	},
	"tls password": {service: op, with: op, site: [2]string{"", "tls:\n  password: ${sealed.clerk}"}},
	"tls insecure": {service: op, with: op, site: [2]string{"", "tls:\n  insecure: true"}},

	"rows from":     ofRows("list:\n  - n: 9", "from: data/two.csv"),
	"rows path":     ofRows("from: deep.json", "from: deep.json\npath: inner"),
	"rows sheet":    ofRows("from: data/two.csv", "from: data/two.csv\nsheet: a"),
	"rows header":   ofRows("from: data/two.csv", "from: data/two.csv\nheader: 2"),
	"rows list":     ofRows("from: data/two.csv", "list:\n  - n: 9"),
	"rows numbers":  ofRows("list:\n  - n: 9", "numbers: 1 to 2\nas: n"),
	"rows days":     ofRows("list:\n  - n: 9", "days: 2026-11-01 to 2026-11-02\nas: n"),
	"rows by":       ofRows("numbers: 1 to 4\nas: n", "numbers: 1 to 4\nas: n\nby: 2"),
	"rows as":       ofRows("numbers: 1 to 2", "numbers: 1 to 2\nas: n"),
	"rows kinds":    ofRows("from: data/two.csv", "from: data/two.csv\nkinds:\n  n: text"),
	"rows when":     ofRows("from: data/two.csv", "from: data/two.csv\nwhen: number(row.n) > 1"),
	"rows sql":      ofRows("list:\n  - n: 9", "sql: select 5 as n\ndatabase: z\ncolumns:\n  - n"),
	"rows database": ofRows("sql: select 5 as n\ncolumns:\n  - n", "sql: select 5 as n\ndatabase: z\ncolumns:\n  - n"),
	"rows columns":  ofRows("sql: select 5 as n\ndatabase: z", "sql: select 5 as n\ndatabase: z\ncolumns:\n  - m"),
	"rows fill":     ofRows("sql: select :v as n\ndatabase: z", "sql: select :v as n\ndatabase: z\nfill:\n  v: 7"),
	"rows label":    ofRows("from: data/two.csv", "from: data/two.csv\nlabel: m"),
	"rows sample":   ofRows("from: data/two.csv", "from: data/two.csv\nsample: 1"),
	"rows seed":     ofRows("numbers: 1 to 100\nas: n\nsample: 3", "numbers: 1 to 100\nas: n\nsample: 3\nseed: odd"),
	"rows limit":    ofRows("from: data/two.csv", "from: data/two.csv\nlimit: 1"),

	"database kind": ofDatabase("kind: sqlite\naddress: data", "kind: folder\naddress: data",
		"    find: two.csv\n"),
	"database address": ofDatabase("kind: folder\naddress: data", "kind: folder\naddress: sheets",
		"    find: two.csv\n    fields:\n      answer: count 1\n"),
	"database user": ofDatabase("kind: folder\naddress: data", "kind: folder\naddress: data\nuser: a",
		"    find: two.csv\n"),
	"database password": ofDatabase("kind: folder\naddress: data",
		"kind: folder\naddress: data\npassword: ${sealed.clerk}", "    find: two.csv\n"),

	"again times": ofStep(again+"  times: 2\n", again+"  times: 3\n"),
	"again pause": ofStep(again+"  times: 3\n  pause: 0 ms\nstop: row", again+"  times: 3\n  pause: soon\nstop: row"),
	"again grow":  ofStep(again+"  times: 3\n", again+"  times: 3\n  grow: 99\n"),
	"again on":    ofStep(again+"  times: 3\n", again+"  times: 3\n  on: 599\n"),
	"again when": ofStep("request: POST ${base}/echo/it\nagain:\n  times: 2\n",
		"request: POST ${base}/echo/it\nagain:\n  times: 2\n  pause: 1 ms\n  when: answer.n == 3\n"),

	"states of":      ofStep(states+"  of: n\n  allowed:\n    - 3", states+"  of: m\n  allowed:\n    - 3"),
	"states allowed": ofStep(states+"  of: n\n  allowed:\n    - 3", states+"  of: n\n  allowed:\n    - 4"),
	"states failed": ofStep(states+"  of: n\n  allowed:\n    - 3",
		strings.Replace(states, "n: 3", "n: 4", 1)+"  of: n\n  allowed:\n    - 4\n  failed:\n    - 3"),
	"states skips": ofStep(states+"  of: n\n  allowed:\n    - 2\n    - 3",
		states+"  of: n\n  allowed:\n    - 2\n    - 3\n  skips: true"),

	"listen method": ofCallback("method: POST", "method: PUT"),
	"listen path":   ofCallback("method: POST", "method: POST\npath: /deeper"),
	"listen match":  ofCallback("method: POST", "method: POST\nmatch:\n  n: 4"),
	"listen signed": ofCallback("method: POST", "method: POST\nsigned:\n  header: X-Sign\n  key: ${sealed.clerk}"),
	"listen answer": ofCallback("method: POST", "method: POST\nanswer:\n  status: 202"),
	"listen quiet":  ofCallback("method: POST", "method: POST\nquiet: 5 ms"),
}

const (
	again  = "request: POST ${base}/echo/it\nheaders:\n  X-Say: busy\nagain:\n"
	states = "request: POST ${base}/echo/it\nuntil:\n  n: 3\nevery: 5 ms\nwithin: 20 ms\nstates:\n"
	slow   = "sheet: s\nsteps:\n  - step: it\n    call: x/op\n    headers:\n      X-Say: slow\n"
)

func ofCallback(without, with string) change {
	text := func(listen string) string {
		return `sheet: s
steps:
  - step: ask for a call
    request: POST ${base}/callme
    body:
      url: ${callback.it}
      body: "{\"n\": 3}"
  - step: it
    within: 60 ms
    listen:
` + deeper(listen, "      ")
	}
	return change{service: op, with: op, sheet: [2]string{text(without), text(with)}}
}

// told are keys whose effect is that something can be read where the bench is looked at.
var told = []string{
	"service about", "operation about", "parameter about", "operation deprecated", "parameter deprecated", "parameter example", "site about", "database about", "expect ",
	"limits ", "oauth2 ",
}

// elsewhere names the tests that show the effect of keys that change nothing but when something is sent.
var elsewhere = map[string]string{
	"parameter list": "TestInputs", "operation paths": "TestShortNames", "addressing reply to": "TestAddressingAsAsked",
	"addressing fault to": "TestAddressingAsAsked", "addressing relates to": "TestAddressingAsAsked",
	"addressing version": "TestAddressingAsAsked", "a stream end": "TestEndlessStreams", "a stream quiet": "TestEndlessStreams", "a stream most": "TestEndlessStreams", "service limit": "TestLimitsOfCalls", "site limit": "TestLimitsOfCalls",
}

// Each key of each mapping has an effect: without it what is found wrong, sent or judged is
// another.
func TestEachKeyOfTheFilesHasAnEffect(t *testing.T) {
	e := newEffects(t)
	for name, text := range map[string]string{
		"strict.json": `{"type": "object", "required": ["never"]}`,
		"deep.json":   `{"n": 0, "inner": [{"n": 4}]}`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(e.dir, name), []byte(text), 0o600))
	}
	file := filepath.Join(e.dir, "bench.yaml")
	original, err := os.ReadFile(file)
	require.NoError(t, err)
	of := func(t *testing.T, c change, i int) string {
		t.Helper()
		service := []string{c.service, c.with}[i]
		text := strings.Replace(string(original), "\nservices:\n", "\nservices:\n  x:\n"+deeper(service, "    "), 1)
		site := "  test:\n    like: local\n"
		if c.site[i] != "" {
			site += deeper(c.site[i], "    ")
		}
		site = strings.Replace(site, "    like: local\n    like: other_site", "    like: other_site", 1)
		text = strings.Replace(text, "\nsites:\n",
			"\nsites:\n  other_site:\n    like: local\n    set:\n      base: "+e.URL+"/echo/elsewhere\n"+site, 1)
		database := "  z:\n    kind: sqlite\n    address: z.db\n"
		if c.database[i] != "" {
			database += "  y:\n" + deeper(c.database[i], "    ")
		}
		text = strings.Replace(text, "\ndatabases:", "\ndatabases_:", 1)
		text = strings.Replace(text, "\ndatabases_:                      # other sides to look into\n",
			"\ndatabases:\n"+database, 1)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		sheet := c.sheet[i]
		if sheet == "" {
			sheet = "sheet: s\nsteps:\n  - step: it\n    call: x/op\n"
		}
		said, _ := e.of(t, strings.Replace(sheet, "\n", "\nsite: test\n", 1))
		return said
	}
	require.NoError(t, os.WriteFile(filepath.Join(e.dir, "z.db"), nil, 0o600))
	tables := bench.Mappings()
	maps.Copy(tables, sheet.Mappings())
	maps.Copy(tables, step.Mappings())
	for table, keys := range tables {
		for _, key := range keys {
			name := table + " " + key
			if elsewhere[name] != "" || slices.ContainsFunc(told, func(one string) bool {
				return name == one || strings.HasSuffix(one, " ") && strings.HasPrefix(name, one)
			}) {
				continue
			}
			t.Run(name, func(t *testing.T) {
				c, ok := changes[name]
				require.True(t, ok, "the key has no effect that is tried here")
				assert.NotEqual(t, of(t, c, 0), of(t, c, 1))
			})
		}
	}
	// What can be expected is checked against answers in the test of checks.
	for _, key := range sheet.Mappings()["expect"] {
		assert.True(t, key == "refused" || slices.ContainsFunc(checksOfReplies, func(c check) bool {
			return strings.Contains(c.text, "  "+key+":")
		}), "expect: %s: has no pair", key)
	}
}
