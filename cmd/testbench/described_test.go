package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// cases runs commands and looks for what they should say: what was asked wrongly, and that
// alone, is told on standard error.
func (p *place) cases(cases []commandCase) {
	p.t.Helper()
	for _, c := range cases {
		args := strings.Fields(c.args)
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], "~", " ")
		}
		o := p.run(args...)
		assert.Equal(p.t, c.status, o.status, "%s: %s", c.args, o.all())
		said := o.all()
		if c.status == 2 {
			said = o.stderr
		}
		for _, says := range c.says {
			assert.Contains(p.t, strings.Join(strings.Fields(said), " "), strings.Join(strings.Fields(says), " "),
				c.args)
		}
	}
}

type commandCase struct {
	args   string // with spaces between, and ~ for a blank within one
	status int
	says   []string
}

// A service is used by its WADL, with the schema of its grammars.
func TestWADL(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("odd.wadl", `<application xmlns="http://wadl.dev.java.net/2009/02" xmlns:xsd="http://www.w3.org/2001/XMLSchema">
<grammars><xsd:schema targetNamespace="urn:x"><xsd:element name="e" type="xsd:int"/></xsd:schema><include href="gone.xsd"/></grammars>
<resources base="http://127.0.0.1/"><resource path="a/{b}" type="#t"><param name="b" style="template" type="xsd:unheard"/><resource path="c"><method href="#m"/></resource></resource></resources>
<resource_type id="t"><param name="q" style="query" fixed="1"/><param name="m" style="matrix" repeating="true"/><param name="dry" style="matrix" type="xsd:boolean"/><param name="o" style="odd"/><method name="DELETE"/></resource_type>
<method id="m" name="POST"><request><representation mediaType="application/xml" element="x:e"/></request></method>
<resources base="http://127.0.0.1/"><resource path="in"><method id="post" name="POST"><request><representation mediaType="application/x-www-form-urlencoded"><param name="user" style="query" required="true"/><param name="age" style="query" type="xsd:int"/></representation></request></method></resource></resources></application>`)
	p.cases([]commandCase{
		{"survey index", 0, []string{
			"Heatherfold price index · WADL",
			"prices GET /prices.xml Prices of a range of days",
		}},
		{
			"survey index prices", 0,
			[]string{
				"fy year – its year", "kind a list of heather, clover, linden; may be left out", "@day date",
				"answer 400 text/plain", "request line GET /prices.xml?fd=1&fm=1&fy=2026",
			},
		},
		{"survey index -find month", 0, []string{"prices GET"}},
		{"survey odd.wadl", 0, []string{
			"delete_a_b DELETE /a/{b}{m}{dry}", "m POST /a/{b}{m}{dry}/c",
			"the grammar gone.xsd", "the type xsd:unheard is not known", "has the style odd",
			"the element x:e is not in the grammars",
		}},
		{"survey odd.wadl delete_a_b", 0, []string{"q always 1"}},
		{"draft odd.wadl delete_a_b", 0, []string{"DELETE /a/text;m=text;dry?q=1"}},
		{"draft odd.wadl delete_a_b -only required", 0, []string{"DELETE /a/text?q=1"}},
		{"draft odd.wadl post", 0, []string{"POST /in", "user=text&age=1"}},
		{"draft index price -answer", 0, []string{`xmlns="urn:heatherfold:index"`}},
		{"draft index prices -only required", 0, []string{"GET /prices.xml?fd=1&fm=1&fy=2026"}},
		{
			"call index/prices fd=1 fm=11 fy=2026 td=2 tm=11 ty=2026 kind.0=heather kind.1=linden -pick price[*].kind",
			0,
			[]string{`["heather","linden","heather","linden"]`},
		},
		{
			"call index/prices fd=one fm=11 fy=2026 kind=moss", 2,
			[]string{`fd "one" is not an integer`, `kind must be one of heather, clover, linden, and is "moss"`},
		},
		{"call index/prices fm=11 fy=2026", 2, []string{"index/prices needs fd"}},
		{"call index/price day=2026-11-23 -pick price[kind=clover]", 0, []string{"10.32"}},
		{
			"call index/price day=yesterday -contract answer", 1,
			[]string{`response from index: "There are no prices of yesterday"`},
		},
		{"call index/prices fd=31 fm=2 fy=2026", 1, []string{`response from index: "2026-02-31 is not a day"`}},
	})
	p.write("good.xml", `<prices xmlns="urn:heatherfold:index" currency="EUR"><price day="2026-11-23" kind="heather">9.5</price></prices>`)
	p.write("bad.xml", `<prices xmlns="urn:heatherfold:index"><price day="2026-11-31" kind="moss">cheap</price></prices>`)
	p.cases([]commandCase{
		{"validate index/price good.xml", 0, []string{"valid: the answer 200 of price"}},
		{"validate index/price bad.xml", 1, []string{"currency", "moss", "cheap", "2026-11-31"}},
	})
}

// Methods are called by name, in JSON and in XML; what the protocol tells of an
// error is told like any other.
func TestRPC(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.cases([]commandCase{
		{"survey ledger_json", 0, []string{"find POST Suppliers whose name holds a text."}},
		{"call ledger_json/find name=ansel -pick 0.number", 0, []string{"S-101"}},
		{"call ledger_json/find", 2, []string{"ledger_json/find needs name"}},
		{"survey ledger_json find", 0, []string{"find · POST · calls Suppliers.find"}},
		{"survey ledger_xml", 2, []string{"called by name (xml-rpc), and none is described"}},
		{
			"call ledger_json/find name=x -login none", 1,
			[]string{"failed 1 of 1", "expected 2xx, got 401", "the header Ledger-Key is missing"},
		},
		{"call ledger_xml/Suppliers.get 0=x -login none", 1, []string{"failed 1 of 1", "expected 2xx, got 401"}},
		{"call ledger_json/fnd name=x", 2, []string{`did you mean "find"?`}},
		{"call ledger_json/Orders.total currency=USD", 2, []string{"currency must be one of EUR, CHF"}},
		{"call ledger_json/Orders.total currency=EUR -pick answer", 0, []string{"1484.00"}},
		{"call ledger_json/Suppliers.get 0=S-102 -pick name", 0, []string{"Bryony Garrow"}},
		{
			"call ledger_json/Suppliers.get number=S-999", 1,
			[]string{
				"expect error expected none, got 1404: there is no supplier S-999 (field number)",
				"number was sent as S-999",
			},
		},
		{"call ledger_json/Nothing.there", 1, []string{"-32601: there is no method Nothing.there"}},
		{"call ledger_xml/Suppliers.find 0=ansel -pick [0].active", 0, []string{"true"}},
		{"call ledger_xml/Orders.create supplier=S-101 on=2026-11-23 lines.0.article=J lines.0.quantity=2 lines.0.price=1.5 -pick total", 0, []string{"3.00"}},
		{"call ledger_xml/Orders.total currency=EUR -pick answer", 0, []string{"1487.00"}},
		{"call ledger/OpenTotal currency=EUR -pick value", 0, []string{"1487.00"}},
		{
			"call ledger_xml/Suppliers.get number=S-999", 1,
			[]string{`response from ledger_xml: "there is no supplier S-999"`},
		},
	})
	o := p.sheet(`sheet: session
steps:
  - step: open
    call: ledger_json/Session.open
    fill:
      user: clerk
      password: ${sealed.clerk}
    keep:
      session:
        at: session
        secret: true
`+
		`  - step: order
    call: ledger_json/Orders.create
    fill:
      supplier: S-101
      "on": 2026-11-23
      lines:
        - article: J
          quantity: 1
          price: 2.5
    keep:
      order: number
`+
		`  - step: post
    call: ledger_xml/Orders.post
    fill:
      session: ${session}
      number: ${order}
    fields:
      state: posted
`+
		`  - step: again
    call: ledger_xml/Orders.post
    fill:
      session: ${session}
      number: ${order}
    expect:
      error:
        code: 1409
        text: contains posted already
`, "-show", "all")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.all(), "[masked]")
	for body, says := range map[string]string{
		`{"jsonrpc": "2.0", "id": 7, "result": 1}`:   "the answer is to the call 7",
		`{"id": 1, "result": 1}`:                     `does not say "jsonrpc": "2.0"`,
		`{"jsonrpc": "2.0", "id": 1}`:                "neither result nor error",
		`[1]`:                                        "not a JSON-RPC answer",
		`{"jsonrpc": "2.0", "error": "no", "id": 1}`: "expected none, got no",
		`<methodResponse/>`:                          "not a JSON-RPC answer",
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if body[0] != 60 {
				w.Header().Set("Content-Type", "application/json")
			}
			fmt.Fprint(w, body)
		}))
		p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+
			"\nservices:\n  r:\n    address: ${base}\n    protocol: json-rpc\n")
		o := p.run("call", "r/a.b")
		assert.Equal(t, 1, o.status, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), says)
		server.Close()
	}
}

// What nobody described is described in bench.yaml: a template for many methods, what a
// good status is, the schema of the answer.
func TestByHand(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	bench := p.read("bench.yaml")
	const balance = "        request: POST /rpc/stock/Balance/Read\n        reads: true\n"
	p.write("contracts/balance.json",
		`{"type": "object", "required": ["response", "error"], "properties": {"response": {"type": ["object", "null"], "properties": {"kilos": {"type": "string"}}}}}`)
	p.write("bench.yaml", strings.Replace(bench, balance,
		balance+`        answer: contracts/balance.json
      method:
        about: Any method.
        request: POST /rpc/{group}/{service}/{method}
        success: 200 or 404
        template:
          request: ${fields}
          desk: ${site.depot}
`, 1))
	p.cases([]commandCase{
		{"vet", 0, []string{"no mistakes"}},
		{"survey ledger", 0, []string{"method Any method.", "Suppliers list, read"}},
		{"survey ledger method", 0, []string{"method · POST /rpc/{group}/{service}/{method}"}},
		{
			"call ledger/method group=stock service=Balance method=Read lot=L-2201 -pick response.lot", 0,
			[]string{"L-2201"},
		},
		{
			"call ledger/method group=stock service=Balance method=Read lot=L-2201 -dry", 0,
			[]string{`"request": { "lot": "L-2201" }, "desk": "north"`},
		},
		{"call ledger/method group=stock service=Balance method=Burn", 0, []string{"404"}},
		{"call ledger/method group=stock service=Balance", 2, []string{"ledger/method needs method"}},
		{
			"call ledger/balance request.lot=L-2201", 1,
			[]string{"the answer breaks the contract: response.kilos must be text, and is 0.00"},
		},
		{
			"call ledger/method group=stock service=Balance method=Read lot=L-9", 0,
			[]string{"note: the status is 200, and the answer tells of an error: NOT_FOUND: lot"},
		},
	})
	for text, says := range map[string]string{
		"answer: contracts/stores.yaml": "is a contract; write it at the service",
		"answer: gone.json":             "there is no file", "success: fine": "status",
	} {
		p.write("bench.yaml", strings.Replace(bench, balance, balance+"        "+text+"\n", 1))
		o := p.run("vet")
		assert.Equal(t, 2, o.status, o.all())
		assert.Contains(t, o.all(), says)
	}
}
