package main_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each hint is made from what was really sent and received.
func TestHints(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/media":
			w.WriteHeader(http.StatusUnsupportedMediaType)
		case "/method":
			w.Header().Set("Allow", "GET, PUT")
			w.WriteHeader(http.StatusMethodNotAllowed)
		case "/ticket":
			w.Header().Set("WWW-Authenticate", `Ticket realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
		case "/json":
			http.Error(w, "cannot read that", http.StatusBadRequest)
		case "/text":
			w.Header().Set("Content-Type", "text/plain")
			_, _ = w.Write([]byte(`{"a": 1}`))
		}
	}))
	defer server.Close()
	p, _ := newBench(t)
	bench := p.read("bench.yaml")
	bench = strings.Replace(bench, "    scope: stores.read\n    introspection",
		"    scope: ledger.post\n    introspection", 1)
	bench = strings.Replace(bench, "logins:\n", `  other:
    address: `+server.URL+`
    operations:
      near:
        request: GET /media
logins:
  short:
    kind: oauth2
    from: ${base}/gate/token
    client: honey-desk
    client secret: ${sealed.honey_desk}
    extra:
      lifetime: 0
  fixed:
    kind: key
    key: ${sealed.ledger_key}
    header: Authorization
  worded:
    kind: key
    key: ${sealed.ledger_key}
    header: Authorization
    scheme: Bearer
  wrong:
    kind: oauth2
    from: ${base}/gate/token
    client: honey-desk
    client secret: ${sealed.clerk}
  away:
    kind: oauth2
    from: http://127.0.0.1:1/token
    client: honey-desk
    client secret: ${sealed.clerk}
  page:
    kind: oauth2
    from: ${base}/mishaps/page
    client: honey-desk
    client secret: ${sealed.clerk}
`, 1)
	p.write("bench.yaml", bench)
	p.write("quotes.csv", "v\n\"say \"\"hi\"\"\"\n")
	cases := []struct{ name, step, want string }{
		{
			"no credentials", "request: stores GET /lots\n    login: none",
			"no login was used: no credentials were sent at all; the service asks for Bearer",
		},
		{
			"scheme missing", "request: other GET /ticket\n    login: fixed",
			`Authorization was sent without a scheme; the service asks for "Ticket" before the token`,
		},
		{
			"scheme unlike", "request: other GET /ticket\n    login: worded",
			`was sent with the scheme "Bearer"; the service asks for "Ticket"`,
		},
		{"expired", "request: stores GET /lots\n    login: short", "the token expired"},
		{
			"scope", "request: stores GET /lots\n    login: clerk",
			"the token lacks the scope stores.read (it has: ledger.post)",
		},
		{"wrong secret", "request: stores GET /lots\n    login: wrong", "the client or its secret is wrong"},
		{
			"issuer away", "request: stores GET /lots\n    login: away",
			"is the service running, and is 127.0.0.1:1 the right port?",
		},
		{"issuer answers HTML", "request: stores GET /lots\n    login: page", "without an access_token (an HTML page)"},
		{
			"media type", "request: other POST /media\n    form:\n      a: 1",
			"the body was sent as application/x-www-form-urlencoded; set another Content-Type",
		},
		{"SOAP version", `call: lab/GradeLot
    soap: 1.2
    headers:
      Content-Type: text/xml
    fill:
      lot: L-2201
      moisture: 17`, "perhaps the service speaks 1.2"},
		{"SOAP media type", `call: lab/GradeLot
    headers:
      Content-Type: application/json
    fill:
      lot: L-2201
      moisture: 17`, `the lab takes text/xml (SOAP 1.1)`},
		{
			"action wrong", `call: lab/GradeLot
    action: urn:other
    fill:
      lot: L-2201
      moisture: 17`,
			`SOAPAction was sent as "urn:other"`,
		},
		{"near path", "request: other GET /medai\n    expect:\n      status: 404\n    fields:\n      a: 1", ""},
		{"unknown path", "request: stores GET /lotz\n    login: none", "perhaps it should end in /lots"},
		{"method", "request: other DELETE /method", "allowed: GET, PUT"},
		{"no version", "request: ledger PUT /Intakes/IN-1\n    body:\n      lot: L-2201", `there is no intake IN-1`},
		{"field", `call: ledger/book
    fill:
      lot: L-2201
      grade: A
      kilos: 10
      moisture: 25`, "moisture was sent as 25"},
		{
			"field missing", "call: ledger/book\n    fill:\n      lot: L-2201\n      grade: A\n      kilos: 10",
			"moisture was not sent",
		},
		{
			"header missing", `request: stores GET /lots
    login: clerk_in_person
    headers:
      X-Depot: west`,
			`the header X-Depot was sent as "west"`,
		},
		{
			"HTML", "request: mishaps GET /page\n    fields:\n      lots: count 1",
			`the answer is an HTML page, not data (its title is "Please sign in")`,
		},
		{"error in 200", `call: ledger/balance
    fill:
      request:
        lot: L-1
    fields:
      response.kilos: 1`, "the status is 200, but the body carries an error"},
		{"error in 200 says", `call: ledger/balance
    fill:
      request:
        lot: L-1
    fields:
      response.kilos: 1`, `response from ledger: "lot \"L-1\" is not in the stores"`},
		{
			"broken by quotes", "request: other POST /json\n    text: '{\"a\": \"${row.v | raw}\"}'",
			"perhaps a value with quotes was put in with | raw",
		},
		{
			"text that is JSON", "request: other GET /text\n    fields:\n      a: 1",
			`answer has no a: it is "{\"a\": 1}"`,
		},
		{
			"not allowed", "request: GET http://elsewhere.heatherfold.example/x",
			"name the host in the site's values or with -allow elsewhere.heatherfold.example",
		},
		{
			"fault", "call: lab/GradeLot\n    contract: answer\n    fill:\n      lot: L-2201\n      moisture: 45",
			`response from lab: "moisture: 45 is out of range: 10 to 30" (field moisture)`,
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := p.sheet(fmt.Sprintf("sheet: hints\nrows: quotes.csv\nsteps:\n  - step: one\n    %s\n", c.step))
			assert.NotEqual(t, 0, o.status, o.all())
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), strings.Join(strings.Fields(c.want), " "))
		})
	}
	// A token that was spoilt on purpose needs no explanation.
	o := p.sheet(`sheet: spoilt
steps:
  - step: one
    request: stores GET /lots
    login:
      spoil: clerk
      how: expired
`)
	assert.Equal(t, 1, o.status)
	assert.NotContains(t, o.stdout, "expired 1h")
}
