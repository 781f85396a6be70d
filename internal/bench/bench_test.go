package bench_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/rule"
	"testbench/internal/session"
)

func TestStatusRules(t *testing.T) {
	cases := map[string]map[int]bool{
		"201": {201: true, 200: false}, "200 or 201": {200: true, 201: true, 204: false},
		"2xx": {204: true, 301: false}, "1xx": {100: true, 200: false}, "5xx": {599: true, 499: false},
		"100 or 599": {100: true, 599: true},
		"not 5xx":    {200: true, 404: true, 503: false}, "4xx or 503": {404: true, 503: true, 500: false},
		"not 200 or 201": {200: false, 202: true},
	}
	for text, statuses := range cases {
		r, err := rule.ParseStatus(text)
		require.NoError(t, err)
		for status, want := range statuses {
			assert.Equal(t, want, r.Holds(status), "%s %d", text, status)
		}
	}
	for _, text := range []string{"", "20", "99", "600", "0xx", "6xx", "ok", "200,201", "not", "2xxx"} {
		_, err := rule.ParseStatus(text)
		assert.Error(t, err, text)
	}
}

// What comes back belongs to the statuses of success that are listed and have a body.
func TestAnswersOfStatuses(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lot.json"), []byte(`{"type": "object"}`), 0o600))
	read := func(more string) []contract.Answer {
		b := bench.Read(dir, "bench.yaml", []byte(`bench: x
services:
  s:
    address: http://s.example
    operations:
      lot:
        request: GET /lot
        answer: lot.json
`+more))
		require.Empty(t, b.Problems().Serious())
		return b.Service("s").Operation("lot").Answers
	}
	got := map[string]int{}
	for _, a := range read("        statuses: {200: the lot, 2xx: more, 204: nothing, 404: none}\n") {
		got[a.Status+" "+a.About] = len(a.Contents)
	}
	assert.Equal(t, map[string]int{"200 the lot": 1, "2XX more": 1, "204 nothing": 0, "404 none": 0}, got)
	alone := read("")
	require.Len(t, alone, 2)
	assert.Len(t, alone[0].Contents, 1)
	assert.Equal(t, []string{"2XX", "default"}, []string{alone[0].Status, alone[1].Status})
}

// Sites are like others, and what they say themselves wins.
func TestSites(t *testing.T) {
	b := bench.Read("", "bench.yaml", []byte(`bench: x
sites:
  base:
    set:
      host: a
      base: http://${host}.example
      depot: north
    logins:
      clerk: base_clerk
  live:
    like: base
    guard: read only
    set:
      host: b
  ring:
    like: gnir
  gnir:
    like: ring
logins:
  clerk:
    kind: bearer
    token: ${sealed.x}
  base_clerk:
    kind: bearer
    token: ${sealed.y}
`))
	require.Len(t, b.Problems(), 2, "%v", b.Problems())
	assert.Contains(t, b.Problems()[0].Message, "in a circle")
	sess, err := session.NewSession(b, session.Options{Site: "live"})
	require.NoError(t, err)
	for name, want := range map[string]string{"base": "http://b.example", "depot": "north"} {
		node, err := sess.Scope(nil, nil).Lookup("", name)
		require.NoError(t, err)
		assert.Equal(t, want, node.Text)
	}
	assert.True(t, sess.Site.Reading)
	assert.Equal(t, "base_clerk", sess.Site.Logins["clerk"])
	_, err = b.At("lvie")
	assert.ErrorContains(t, err, `did you mean "live"?`)

	// A run in a bench without sites is recorded under a name, which leads back to it.
	b = bench.Read("", "bench.yaml", []byte("bench: x\n"))
	site, err := b.At("")
	require.NoError(t, err)
	_, err = b.At(site.Name)
	require.NoError(t, err)
	_, err = b.At("live")
	assert.ErrorContains(t, err, `there is no site "live"; there are none`)

	b = bench.Read("", "bench.yaml", []byte("bench: x\nsites:\n  a:\n    set:\n      x: ${y}\n      y: ${x}\n"))
	sess, err = session.NewSession(b, session.Options{})
	require.NoError(t, err)
	_, err = sess.Scope(nil, nil).Lookup("", "x")
	assert.ErrorContains(t, err, "in a circle")
}

// A schema alone says what an operation by hand answers; a contract belongs to the service.
func TestAnswerSchemas(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("lot.json", `{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "required": ["lot"]}`)
	write("lot.xsd", `<x:schema xmlns:x="http://www.w3.org/2001/XMLSchema"><x:element name="lot" type="x:string"/></x:schema>`)
	write("lab.json", `{"openapi": "3.0.3", "info": {"title": "lab", "version": "1"}, "paths": {}}`)
	write("half.json", `{"type": `)
	for name, want := range map[string]string{
		"lot.json": "", "lot.xsd": "", "lab.json": "lab.json is a contract", "half.json": "half.json",
		"none.json": "none.json", "../lot.json": "leads out of the bench folder",
	} {
		t.Run(name, func(t *testing.T) {
			b := bench.Read(dir, "bench.yaml",
				[]byte(`bench: b
services:
  a:
    address: http://127.0.0.1:1
    operations:
      x:
        request: GET /x
        answer: `+name+"\n"))
			assert.Equal(t, []string{name}, b.Reads, "what decides a run is noted")
			if want == "" {
				assert.Empty(t, b.Problems().Serious())
				return
			}
			require.Len(t, b.Problems().Serious(), 1)
			assert.Contains(t, b.Problems()[0].Message, want)
			assert.Equal(t, 8, b.Problems()[0].Line)
		})
	}
}

// An operation reads where its method is safe (RFC 9110, 9.2.1), or where the bench says so.
func TestReads(t *testing.T) {
	for line, want := range map[string]bool{
		"request: GET /a": true, "request: HEAD /a": true, "request: OPTIONS /a": true, "request: POST /a": false,
		"request: DELETE /a": false, "request: POST /a\n        reads: true": true,
		"reads: true\n        request: POST /a": true,
	} {
		b := bench.Read(t.TempDir(), "bench.yaml",
			[]byte("bench: b\nservices:\n  s:\n    address: http://127.0.0.1:1\n    operations:\n      o:\n        "+line+"\n"))
		require.Empty(t, b.Problems().Serious(), line)
		assert.Equal(t, want, b.Service("s").Operation("o").Reads, line)
	}
}

// What a service says and its contract knows nothing of has no effect, and is a mistake.
func TestContractsOfServices(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lab.json"),
		[]byte(`{"openapi": "3.0.3", "info": {"title": "lab", "version": "1"}, "paths": {"/lots": {"get": {"operationId": "lots", "responses": {"200": {"description": "all"}}}}}}`), 0o600))
	for rest, want := range map[string]string{
		"": "", "port: P": "port: has no effect at a", "soap: 1.1": "soap: has no effect at a",
		"addressing: true": "addressing: has no effect at a",
		"operations:\n      lots:\n        success: 200": "",
		"operations:\n      lost:\n        success: 200": `no operation of a "lost"`,
	} {
		t.Run(rest, func(t *testing.T) {
			b := bench.Read(dir, "bench.yaml",
				[]byte("bench: b\nservices:\n  a:\n    contract: lab.json\n    address: http://127.0.0.1:1\n    "+rest+
					"\n"))
			b.CheckContracts()
			if want == "" {
				assert.Empty(t, b.Problems().Serious())
				return
			}
			require.NotEmpty(t, b.Problems().Serious())
			assert.Contains(t, b.Problems().Error(), want)
		})
	}
}

// A service names one of the ports that its WSDL has.
func TestPortsOfServices(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lab.wsdl"), []byte(`<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t" targetNamespace="urn:t">
<w:message name="Q"/><w:portType name="P"><w:operation name="Ask"><w:input message="t:Q"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Ask"><s:operation soapAction="urn:ask"/><w:input><s:body use="literal"/></w:input></w:operation></w:binding>
<w:service name="S"><w:port name="North" binding="t:B"><s:address location="http://127.0.0.1:1/"/></w:port></w:service></w:definitions>`), 0o600))
	for port, want := range map[string]string{"": "", "port: North": "", "port: South": "South"} {
		b := bench.Read(dir, "bench.yaml",
			[]byte("bench: b\nservices:\n  a:\n    contract: lab.wsdl\n    address: http://127.0.0.1:1\n    "+port+
				"\n"))
		b.CheckContracts()
		if want == "" {
			assert.Empty(t, b.Problems().Serious(), port)
			continue
		}
		require.Len(t, b.Problems().Serious(), 1)
		assert.Contains(t, b.Problems().Error(), want)
	}
}

// What holds on one machine is beside the bench file, and can only change what is there.
func TestLocal(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("bench.yaml", `bench: x
sites:
  here: {set: {base: "http://a", user: ""}}
  there: {like: here, set: {base: "http://b"}}
services:
  stores: ${base}/stores
`)
	write("local.yaml", `sites:
  here: {set: {user: clerk}, services: {stores: "http://c"}}
  there: {set: {base: "http://d"}}
`)
	b, err := bench.Open(dir)
	require.NoError(t, err)
	require.Empty(t, b.Problems())
	for name, want := range map[string][]string{"here": {"http://a", "clerk"}, "there": {"http://d", "clerk"}} {
		at, err := b.At(name)
		require.NoError(t, err)
		for i, value := range []string{"base", "user"} {
			assert.Equal(t, want[i], at.Value(value).Scalar.LiteralText(), name)
		}
		assert.Equal(t, "http://c", at.Services["stores"].LiteralText(), name)
	}

	write("local.yaml", "sites:\n  hre: {}\n  here: {set: {bse: x}, services: {store: \"http://c\"}, tls: {}}\nlogins: {}\n")
	b, err = bench.Open(dir)
	require.NoError(t, err)
	var told []string
	for _, p := range b.Problems() {
		assert.Equal(t, "local.yaml", filepath.Base(p.File))
		told = append(told, p.Message)
	}
	assert.Equal(t, []string{
		`there is no site "hre"`, `a site of local.yaml has no key "tls"`, `there is no value of the site "bse"`,
		`there is no service "store"`, `local.yaml has no key "logins"`,
	}, told)
}
