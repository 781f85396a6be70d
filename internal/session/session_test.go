package session_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/result"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// sender answers in the place of every service, and remembers what was asked.
type sender struct {
	mutex  sync.Mutex
	asked  []string
	answer func(r *exchange.Request) *exchange.Answer
}

func (s *sender) Do(_ context.Context, r *exchange.Request) *exchange.Record {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.asked = append(s.asked, written(r))
	record := &exchange.Record{Request: r, Started: time.Now(), Answer: answered(200, `{}`)}
	if s.answer != nil {
		record.Answer = s.answer(r)
	}
	return record
}

func (s *sender) Single() exchange.Sender { return s }

func (s *sender) Close() {}

func answered(status int, body string, headers ...string) *exchange.Answer {
	a := &exchange.Answer{
		Status: status, Proto: "HTTP/1.1", Header: http.Header{"Content-Type": {"application/json"}},
		Body: []byte(body),
	}
	for i := 0; i < len(headers); i += 2 {
		a.Header.Set(headers[i], headers[i+1])
	}
	return a
}

// written is a request in one line, with the header fields that a step can have a say in.
func written(r *exchange.Request) string {
	out := r.Method + " " + r.URL.String()
	for _, name := range []string{"Accept", "Content-Type", "SOAPAction", "If-Match", "X-Depot", "Cookie", "Authorization"} {
		if v := r.GetHeader(name); v != "" {
			out += " | " + name + ": " + v
		}
	}
	if len(r.Body) > 0 {
		out += " | " + string(r.Body)
	}
	return out
}

const theBench = `bench: b
services:
  hand:
    address: http://h.example/api
    always:
      headers: {X-Depot: north}
    login: key
    operations:
      look: {request: "GET /lots/{lot}", query: {page: {default: 1}, depot: optional}}
      add: {request: POST /lots, template: {lot: "${fields.name}", by: "${now | format yyyy}"}}
      grade: {action: urn:grade, payload: "GradeLot"}
      made:
        request: GET /made
        inputs: {keeper: optional, no: optional}
        query:
          day: {name: d, default: may}
          made: {default: "${fields.keeper}-${fields.d}"}
          both: {default: "${fields.made}!"}
          fixed: {fixed: "x${fields.no}"}
          key: {default: "${machine.KEY}"}
      bad: {request: GET /bad, query: {a: {default: "${machine.GONE}"}}}
      send: {request: POST /send, form: {a: {default: 1}, b: optional}, headers: {Accept: {default: text/lot}}}
  old:
    address: http://m.example
    protocol: json-rpc 1.0
    operations:
      place: {body: {"0": {name: lot, required: true}, "1": {name: kilos, default: 5}}}
      made: {body: {lot: required}, template: {params: ["${fields.lot}", 7]}}
  cased:
    address: http://c.example
    always:
      headers: {X-Depot: north}
      query: {a: 1, b: 1}
      cookies: {c: 1, d: 1}
  open:
    contract: open.json
    address: http://o.example/v1/
    operations:
      sent: {headers: {X-Depot: {default: "${machine.KEY}"}}, query: {day: {default: "${fields.X-Depot}s"}}}
  lab:
    contract: lab.wsdl
    address: http://l.example/lab
  far:
    contract: http://far.example/lab.wsdl
  scale:
    address: http://s.example/rpc
    protocol: json-rpc
  ledger:
    contract: ledger.xml
    address: http://e.example/odata
logins:
  key:
    kind: key
    key: ${machine.KEY}
    header: Authorization
`

func newSession(t *testing.T, s *sender) (*session.Session, *bench.Bench) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"open.json": `{"openapi": "3.0.3", "info": {"title": "o", "version": "1"}, "paths": {"/lots/{id}": {"put": {"operationId": "change",
"parameters": [{"name": "id", "in": "path", "required": true, "schema": {"type": "integer"}}, {"name": "tags", "in": "query", "schema": {"type": "array", "items": {"type": "string"}}}],
"requestBody": {"content": {"application/json": {"schema": {"type": "object", "properties": {"kilos": {"type": "number"}}, "required": ["kilos"], "additionalProperties": false}}, "application/vnd.lot+json": {"schema": {"type": "object"}}}},
"responses": {"200": {"description": "ok", "content": {"application/json": {"schema": {"type": "object"}}}}}}}, "/moves": {"post": {"operationId": "move", "parameters": [
{"name": "X-Depot", "in": "header", "required": true, "schema": {"type": "string"}}, {"name": "day", "in": "query", "required": true, "schema": {"type": "string"}}], "responses": {"204": {"description": "done"}}}}, "/sent": {"post": {"operationId": "sent", "parameters": [{"name": "X-Depot", "in": "header", "schema": {"type": "string"}}, {"name": "day", "in": "query", "required": true, "schema": {"type": "string"}}], "responses": {"204": {"description": "done"}}}}, "/pictures": {"post": {"operationId": "picture",
"requestBody": {"content": {"multipart/form-data": {"schema": {"type": "object", "properties": {"file": {"type": "string", "format": "binary"}, "note": {"type": "string"}}}}}}, "responses": {"204": {"description": "done"}}}}, "/labels": {"post": {"operationId": "label",
"requestBody": {"content": {"application/vnd.label+json": {"schema": {"type": "object", "properties": {"lot": {"type": "string"}}}}}}, "responses": {"204": {"description": "done"}}}}}}`,
		"lab.wsdl": `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t">
<w:types><x:schema targetNamespace="urn:t" elementFormDefault="qualified"><x:element name="Q"><x:complexType><x:sequence><x:element name="n" type="x:int"/></x:sequence></x:complexType></x:element></x:schema></w:types>
<w:message name="Q"><w:part name="p" element="t:Q"/></w:message><w:portType name="P"><w:operation name="Ask"><w:input message="t:Q"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Ask"><s:operation soapAction="urn:ask"/><w:input><s:body use="literal"/></w:input></w:operation></w:binding>
<w:service name="S"><w:port name="P" binding="t:B"><s:address location="http://127.0.0.1:1/"/></w:port></w:service></w:definitions>`,
		"ledger.xml": `<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices><Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="L">
<EntityType Name="Lot"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.String" Nullable="false"/><Property Name="kilos" Type="Edm.Int32"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="Lots" EntityType="L.Lot"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	b := bench.Read(dir, "bench.yaml", []byte(theBench))
	require.Empty(t, b.Problems().Serious())
	made, err := session.NewSession(b, session.Options{
		Store: &secret.Store{}, Environ: func(name string) (string, bool) { return "opened", name != "GONE" }, Now: func() time.Time {
			return time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
		},
		Around: func(exchange.Sender) exchange.Sender { return s },
	})
	require.NoError(t, err)
	return made, b
}

func stepsOf(t *testing.T, b *bench.Bench, text string) []*sheet.Step {
	t.Helper()
	read := sheet.Read(b, filepath.Join(b.Dir, "s.yaml"),
		[]byte("sheet: s\nsteps:\n  - step: it\n    "+strings.ReplaceAll(text, "\n", "\n    ")+"\n"), step.Kinds)
	require.Empty(t, read.Source.Problems.Serious(), text)
	return read.Steps
}

// Whoever describes an operation, and however a request is written: this is what goes out.
func TestWhatIsSent(t *testing.T) {
	var all strings.Builder
	for _, c := range []struct{ name, step, sent string }{
		{
			"by hand", "call: hand/look\nfill: {lot: a b}",
			"GET http://h.example/api/lots/a%20b?page=1 | X-Depot: north | Authorization: opened",
		},
		{"by hand, with all", `call: hand/look
fill: {lot: L, page: 2, depot: ü}
headers: {X-Depot: south}
login: none`, "GET http://h.example/api/lots/L?page=2&depot=%C3%BC | X-Depot: south"},
		{"names that differ in case, and null", `request: cased GET /x
headers: {x-depot: null}
query: {A: 2, b: null}
cookies: {C: 2, d: null}`, "GET http://c.example/x?a=1&A=2 | Cookie: c=1; C=2"},
		{"a method by position", "call: old/place\nfill: {lot: L}", `{"method":"place","params":["L",5],"id":1}`},
		{"a method by a list", "call: old/place\nfill: [L, 7]", `{"method":"place","params":["L",7],"id":1}`},
		{"a method by a template", "call: old/made\nfill: {lot: L}", `{"method":"made","params":["L",7],"id":1}`},
		{"by hand, without what goes unless said", "call: hand/look\nfill: {lot: L}\nquery: {page: null}",
			"GET http://h.example/api/lots/L | X-Depot: north | Authorization: opened"},
		{"by hand, with another value", "call: hand/look\nfill: {lot: L}\nquery: {page: 3}",
			"GET http://h.example/api/lots/L?page=3 | X-Depot: north | Authorization: opened"},
		{"by hand, without what it needs", "call: hand/look", "hand/look needs lot"},
		{
			"by hand, of another name", "call: hand/look\nfill: {lot: L, dept: n}",
			`look has no field "dept"; did you mean "depot"?`,
		},
		{
			"made of fields", "call: hand/made\nfill: {keeper: k}",
			"GET http://h.example/api/made?day=may&made=k-may&both=k-may%21&key=opened | X-Depot: north",
		},
		{
			"made of fields, with another default", "call: hand/made\nfill: {keeper: k, d: june, no: 7}",
			"GET http://h.example/api/made?day=june&made=k-june&both=k-june%21&fixed=x7&key=opened | X-Depot: north",
		},
		{
			"made of fields that are not given", "call: hand/made",
			"GET http://h.example/api/made?day=may&key=opened | X-Depot: north",
		},
		{
			"made of fields, given itself", "call: hand/made\nfill: {made: m, key: k2}",
			"GET http://h.example/api/made?day=may&made=m&both=m%21&key=k2 | X-Depot: north",
		},
		{"made of what is not there", "call: hand/bad", "a of bad: "},
		{
			"a form", "call: hand/send\nfill: {b: x y}",
			"POST http://h.example/api/send | Accept: text/lot | Content-Type: application/x-www-form-urlencoded | X-Depot: north | Authorization: opened | a=1&b=x+y",
		},
		{
			"a form of its own beside it", "call: hand/send\nfill: {b: x}\nform: {a: 2, c: 3}",
			"| b=x&a=2&c=3",
		},
		{
			"without what is empty", "call: hand/made\nfill: {keeper: \"\", made: \"\"}\ndrop empty: true",
			"GET http://h.example/api/made?day=may&key=opened | X-Depot: north",
		},
		{"a port by hand", "call: hand/look\nfill: {lot: L}\nport: P", "port: has no effect: no WSDL describes hand/look"},
		{"a port at OpenAPI", "call: open/change\nfill: {id: 7, kilos: 1}\nport: P", "port: has no effect: no WSDL describes open/change"},
		{
			"OpenAPI, made of fields by the bench", "call: open/sent",
			"POST http://o.example/v1/sent?day=openeds | X-Depot: opened",
		},
		{
			"OpenAPI, made of a field that is given", "call: open/sent\nfill: {X-Depot: n}",
			"POST http://o.example/v1/sent?day=ns | X-Depot: n",
		},
		{
			"OpenAPI, with what it needs beside the fields", "call: open/move\nheaders: {x-depot: n}\nquery: {day: may}",
			"POST http://o.example/v1/moves?day=may | X-Depot: n",
		},
		{
			"OpenAPI, with a query of another case", "call: open/move\nheaders: {X-Depot: n}\nquery: {Day: may}",
			"open/move needs day",
		},
		{"OpenAPI, of parts", "call: open/picture\nfill: {file: abc, note: n}", "filename=\"file\""},
		{"WSDL, at a port", "call: lab/Ask\nfill: {n: 5}\nport: P", "POST http://l.example/lab | Content-Type: text/xml"},
		{"WSDL, at no port", "call: lab/Ask\nfill: {n: 5}\nport: X", `the contract has no port "X"; there are: P`},
		{
			"WSDL, in another version", "call: lab/Ask\nfill: {n: 5}\nport: P\nsoap: 1.2",
			`POST http://l.example/lab | Content-Type: application/soap+xml; charset=utf-8; action="urn:ask"`,
		},
		{
			"a template", "call: hand/add\nfill: {name: L}",
			`POST http://h.example/api/lots | Content-Type: application/json | X-Depot: north | Authorization: opened | {"lot":"L","by":2026}`,
		},
		{
			"SOAP by hand", "call: hand/grade\nsoap: 1.1\nfill: {lot: L}",
			`SOAPAction: "urn:grade" | X-Depot: north | Authorization: opened | <?xml version="1.0" encoding="UTF-8"?>`,
		},
		{
			"OpenAPI", "call: open/change\nfill: {id: 7, tags: [a, b], kilos: 2.50}",
			`PUT http://o.example/v1/lots/7?tags=a&tags=b | Accept: application/json | Content-Type: application/json | {"kilos":2.50}`,
		},
		{
			"OpenAPI, with a type that is asked for",
			"call: open/change\nfill: {id: 7, more: 1}\nheaders: {X-Depot: n, Content-Type: application/vnd.lot+json}",
			`| Content-Type: application/vnd.lot+json | X-Depot: n | {"more":1}`,
		},
		{
			"OpenAPI, with a type that is filled in", "call: open/change\nfill: {id: 7, kilos: 1}\nheaders: {Content-Type: \"${machine.KEY}\"}",
			`| Content-Type: opened | {"kilos":1}`,
		},
		{
			"OpenAPI, with another header beside its type", "call: open/change\nfill: {id: 7, kilos: 1}\nheaders: {X-Depot: text/lot}",
			`| Content-Type: application/json | X-Depot: text/lot | {"kilos":1}`,
		},
		{
			"OpenAPI, of the only type that there is", "call: open/label\nfill: {lot: L}",
			`POST http://o.example/v1/labels | Content-Type: application/vnd.label+json | {"lot":"L"}`,
		},
		{"OpenAPI, broken", "call: open/change\nfill: {id: x, kilos: 2}", "id must be an integer"},
		{
			"OpenAPI, broken on purpose", "call: open/change\nfill: {id: x, kilos: 2}\ncontract: answer",
			"PUT http://o.example/v1/lots/x",
		},
		{
			"OpenAPI, with a body of its own", "call: open/change\nfill: {id: 7}\ntext: '{}'",
			`PUT http://o.example/v1/lots/7 | Accept: application/json | Content-Type: application/json | {}`,
		},
		{"OpenAPI, of another name", "call: open/chnge\nfill: {id: 7}", `"change"`},
		{
			"WSDL", "call: lab/Ask\nfill: {n: 5}",
			`POST http://l.example/lab | Content-Type: text/xml; charset=utf-8 | SOAPAction: "urn:ask" | <?xml version="1.0" encoding="UTF-8"?>`,
		},
		{"WSDL, broken", "call: lab/Ask\nfill: {n: five}", "n "},
		{"WSDL, plain and without a body", "call: lab/Ask\nsoap: off", "soap: off sends a body that the step writes"},
		{
			"WSDL, plain and with two", "call: lab/Ask\nsoap: off\nfill: {n: 5}\ntext: <a/>",
			"fill: has no effect beside text:",
		},
		{
			"a method by name", "call: scale/weigh\nfill: {lot: L}",
			`POST http://s.example/rpc | Content-Type: application/json | {"jsonrpc":"2.0","method":"weigh","params":{"lot":"L"},"id":`,
		},
		{
			"a request line", "request: hand GET /x?a=1\nquery: {b: 2}",
			"GET http://h.example/api/x?a=1&b=2 | X-Depot: north | Authorization: opened",
		},
		{
			"texts within a body",
			"request: PUT http://n.example/y\nbody: {a: {as json text: {b: 1}}, c: {as xml text: {r: {d: 2}}}, e: {f: 3}}", `PUT http://n.example/y | Content-Type: application/json | {"a":"{\"b\":1}","c":"<r><d>2</d></r>","e":{"f":3}}`,
		},
		{
			"an address", "request: PUT http://n.example/y\nbody: {a: 1}",
			`PUT http://n.example/y | Content-Type: application/json | {"a":1}`,
		},
		{
			"an answer that leads on", "follow: x/y?z=1\nservice: hand",
			"GET http://h.example/api/x/y?z=1 | X-Depot: north | Authorization: opened",
		},
		{"an answer that leads away", "follow: http://n.example/y#part\nservice: hand", "GET http://n.example/y"},
		{"an answer that leads nowhere", "follow: y", "is not a whole address"},
	} {
		t.Run(c.name, func(t *testing.T) {
			fake := &sender{}
			s, b := newSession(t, fake)
			step := stepsOf(t, b, c.step)[0]
			p, err := s.Prepare(t.Context(), step, s.Scope(nil, nil), nil)
			if err != nil {
				fmt.Fprintf(&all, "-- %s --\nnot sent: %s\n", c.name, err)
				assert.Contains(t, err.Error(), c.sent)
				assert.Empty(t, fake.asked)
				return
			}
			_, err = s.Send(t.Context(), step, p, &result.Step{})
			require.NoError(t, err)
			require.Len(t, fake.asked, 1)
			fmt.Fprintf(&all, "-- %s --\n%s\n%s", c.name, strings.ReplaceAll(boundary.ReplaceAllString(fake.asked[0], "BOUNDARY"), " | ", "\n"),
				strings.Join(append(p.Notes, ""), "\n"))
			assert.Contains(t, fake.asked[0], c.sent)
			if strings.Contains(c.name, "away") {
				assert.NotContains(t, fake.asked[0], "opened", "what belongs to a service goes nowhere else")
				assert.Contains(t, strings.Join(p.Notes, "\n"),
					"the login was left out, and what the service always sends")
			}
		})
	}
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile("testdata/sent.golden", []byte(all.String()), 0o644))
	}
	golden, err := os.ReadFile("testdata/sent.golden")
	require.NoError(t, err)
	assert.Equal(t, string(golden), all.String(), "go test ./internal/session -update writes it anew")
}

// boundary is between the parts of a body, another one each time.
var boundary = regexp.MustCompile(`[0-9a-f]{60}`)

var update = flag.Bool("update", false, "write what came as what is expected")

// What was filled in is remembered for hints, but for what is secret and for whole trees.
func TestFilledForHints(t *testing.T) {
	s, b := newSession(t, &sender{})
	key := document.NewText("honey-key")
	key.MarkSecret()
	kept := map[string]*document.Node{
		"key": key, "lot": document.NewText("L-1"),
		"tags": document.NewList(document.NewText("a")),
	}
	one := stepsOf(t, b, "call: open/change\nfill: {id: 7, kilos: 2.5, tags: '${tags}'}")[0]
	p, err := s.Prepare(t.Context(), one, s.Scope(nil, kept), nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"id": "7", "kilos": "2.5"}, s.ContextOf(one, p).Filled)
	one = stepsOf(t, b, "call: hand/look\nfill: {lot: '${key}', depot: '${lot}'}")[0]
	p, err = s.Prepare(t.Context(), one, s.Scope(nil, kept), nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"depot": "L-1"}, s.ContextOf(one, p).Filled)
	assert.Equal(t, "${lot}", s.ContextOf(one, p).Sources["depot"])
}

// A contract that came from an address says itself where its ports are: the one that speaks the
// version of the step is asked.
func TestAddressOfAPort(t *testing.T) {
	const soap12 = "http://schemas.xmlsoap.org/wsdl/soap12/"
	fake := &sender{}
	s, b := newSession(t, fake)
	one, err := os.ReadFile(filepath.Join(b.Dir, "lab.wsdl"))
	require.NoError(t, err)
	text := strings.Replace(string(one), "http://127.0.0.1:1/", "http://far.example/old", 1)
	binding := text[strings.Index(text, "<w:binding"):strings.Index(text, "<w:service")]
	newer := strings.NewReplacer(`name="B"`, `name="C"`, "<s:", "<n:", "</s:", "</n:", "<w:binding ",
		`<w:binding xmlns:n="`+soap12+`" `).Replace(binding)
	text = strings.Replace(text, "<w:service", newer+"<w:service", 1)
	text = strings.Replace(text, "</w:service>",
		`<w:port name="N" binding="t:C"><n:address xmlns:n="`+soap12+
			`" location="http://far.example/new"/></w:port></w:service>`, 1)
	fake.answer = func(r *exchange.Request) *exchange.Answer { return answered(200, text, "Content-Type", "text/xml") }
	for step, want := range map[string]string{
		"call: far/Ask\nfill: {n: 5}":            "POST http://far.example/old | Content-Type: text/xml",
		"call: far/Ask\nfill: {n: 5}\nsoap: 1.2": "POST http://far.example/new | Content-Type: application/soap+xml",
	} {
		p, err := s.Prepare(t.Context(), stepsOf(t, b, step)[0], s.Scope(nil, nil), nil)
		require.NoError(t, err)
		assert.Contains(t, written(p.Request), want)
	}
}

// Before anything is sent, a call is checked against the contract of its service.
func TestCheckCall(t *testing.T) {
	for text, want := range map[string]string{
		"call: open/change\nfill: {id: 7, kilos: 2}":         "",
		"call: open/change\nfill: {id: x, kilos: 2}":         "id must be an integer",
		"call: open/change\nfill: {id: 7}\ncontract: answer": "",
		"call: open/change\nfill: {kilos: 2}":                "open/change needs id",
		"call: open/other":                                   "no operation of open",
		"call: lab/Ask\nfill: {n: x}":                        "n ",
		"call: hand/look":                                    "", "request: hand GET /": "", "call: gone/x": "",
		"call: open/move\nheaders: {x-depot: north}\nquery: {day: monday}":  "",
		"call: open/move\nheaders: {x-depots: north}\nquery: {day: monday}": "open/move needs X-Depot",
		"call: open/move\nheaders: {X-Depot: north}\nquery: {Day: monday}":  "open/move needs day",
	} {
		s, b := newSession(t, &sender{})
		err := step.CheckCall(t.Context(), s, stepsOf(t, b, text)[0])
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		assert.ErrorContains(t, err, want, text)
	}
}

// The version of a record that was read goes along when it is changed, and is forgotten then.
func TestVersions(t *testing.T) {
	tag := 0
	fake := &sender{answer: func(r *exchange.Request) *exchange.Answer {
		switch {
		case strings.HasSuffix(r.URL.Path, "/Lots"):
			return answered(200, `{"value": [{"id": "a", "@odata.etag": "of-a"}, {"id": "b", "@odata.etag": "of-b"}]}`)
		case r.Method == http.MethodGet:
			tag++
			return answered(200, `{"id": "c"}`, "ETag", fmt.Sprintf("%q", fmt.Sprint(tag)))
		}
		return answered(204, "")
	}}
	s, b := newSession(t, fake)
	var scope *session.Values // nil outside of sheets
	send := func(text string) string {
		step := stepsOf(t, b, text)[0]
		p, err := s.Prepare(t.Context(), step, s.Scope(nil, nil), nil)
		require.NoError(t, err)
		s.SetIfMatch(t.Context(), step, p, scope, &result.Step{})
		sent, err := s.Send(t.Context(), step, p, &result.Step{})
		require.NoError(t, err)
		s.RecordETag(p, scope, sent.Record(), p.Read(sent.Record()))
		_, version, _ := strings.Cut(fake.asked[len(fake.asked)-1], "If-Match: ")
		version, _, _ = strings.Cut(version, " ")
		return version
	}
	change := func(id string) string { return "call: ledger/Lots.change\nfill: {id: " + id + ", kilos: 5}" }
	assert.Empty(t, send(change("b")), "nothing was read yet")
	assert.Empty(t, send("call: ledger/Lots.list"))
	assert.Equal(t, "of-b", send(change("b")), "an item of a list says its version")
	assert.Empty(t, send(change("b")), "it changed")
	assert.Equal(t, "of-a", send(change("a")))
	send("call: ledger/Lots.read\nfill: {id: c}")
	assert.Equal(t, `"1"`, send(change("c")), "that of the header")
	send("call: ledger/Lots.read\nfill: {id: c}")
	assert.Empty(t, send(change("c")+"\nheaders: {If-Match: null}"), "the step wants none")
	send("call: ledger/Lots.read\nfill: {id: c}")
	assert.Equal(t, "mine", send(change("c")+"\nheaders: {If-Match: mine}"), "the step's own wins")

	// A row goes by what it saw itself, and by what was seen before the rows.
	before, one, other := s.Scope(nil, nil), s.Scope(nil, nil), s.Scope(nil, nil)
	before.Versions = &session.Versions{}
	scope = before
	send("call: ledger/Lots.list")
	one.Versions, other.Versions = before.Versions.Copy(), before.Versions.Copy()
	scope = one
	assert.Equal(t, "of-a", send(change("a")))
	send("call: ledger/Lots.read\nfill: {id: c}")
	scope = other
	assert.Empty(t, send(change("c")), "the other row read it")
	assert.Equal(t, "of-a", send(change("a")), "and changed this one")
}

// Pages are read as long as an answer leads on, to the same service and to none twice.
func TestPages(t *testing.T) {
	for _, c := range []struct {
		name  string
		pages int
		next  map[string]string // of each page
		read  int
		note  string
	}{
		{"all of them", 9, map[string]string{"1": "/api/lots?p=2", "2": "?p=3"}, 3, "3 pages were read"},
		{"as many as are expected", 2, map[string]string{"1": "?p=2", "2": "?p=3"}, 2, ""},
		{"one", 1, map[string]string{"1": "?p=2"}, 1, ""},
		{"a ring", 9, map[string]string{"1": "?p=2", "2": "?p=1"}, 2, "was read already"},
		{"another host", 9, map[string]string{"1": "http://n.example/?p=2"}, 1, "another host and not asked"},
	} {
		t.Run(c.name, func(t *testing.T) {
			fake := &sender{answer: func(r *exchange.Request) *exchange.Answer {
				page := r.URL.Query().Get("p")
				body := map[string]any{"value": []string{page}}
				if next := c.next[page]; next != "" {
					body["@odata.nextLink"] = next
				}
				text, _ := json.Marshal(body)
				return answered(200, string(text))
			}}
			s, b := newSession(t, fake)
			step := stepsOf(t, b, fmt.Sprintf("request: hand GET /lots?p=1\npages: %d", c.pages))[0]
			p, err := s.Prepare(t.Context(), step, s.Scope(nil, nil), nil)
			require.NoError(t, err)
			sent, err := s.Send(t.Context(), step, p, &result.Step{})
			require.NoError(t, err)
			_, re := s.Pages(t.Context(), step, p, sent, p.Read(sent.Record()), &result.Step{})
			assert.Len(t, fake.asked, c.read)
			assert.Len(t, re.Payload.Get("value").Items(), c.read)
			assert.Contains(t, strings.Join(p.Notes, "\n"), c.note)
		})
	}
}

// Where a name leads: what the command line says wins over what was kept, that over the row,
// and that over the site.
func TestValues(t *testing.T) {
	s, _ := newSession(t, &sender{})
	row := document.NewObject().Set("a", document.NewText("row")).Set("b", document.NewText("row"))
	scope := s.Scope(row, map[string]*document.Node{"b": document.NewText("kept")})
	for name, want := range map[string]string{
		"a": "row", "b": "kept", "row.b": "row", "kept.b": "kept",
		"machine.KEY": "opened", "now": "2026-11-30T08:00:00Z", "today": "2026-11-30",
	} {
		space, name, qualified := strings.Cut(name, ".")
		if !qualified {
			space, name = "", space
			if name == "now" || name == "today" {
				space, name = name, ""
			}
		}
		node, err := scope.Lookup(space, name)
		require.NoError(t, err, name)
		assert.Equal(t, want, node.Text, name)
	}
	_, err := scope.Lookup("", "c")
	assert.Error(t, err)
	_, err = scope.Lookup("callback", "it")
	assert.ErrorContains(t, err, "only a step of a sheet can receive a callback")
}
