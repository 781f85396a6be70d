package main_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A contract behind a login is fetched with the login of its service, with what it imports, and nowhere
// else. It is kept for a time, then asked for by its version.
func TestContractBehindALogin(t *testing.T) {
	t.Parallel()
	var asked lines
	const wsdl = `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t">
<w:types><x:schema><x:import namespace="urn:t" schemaLocation="skep.xsd"/></x:schema></w:types>
<w:message name="Q"><w:part name="p" element="t:Q"/></w:message><w:portType name="P"><w:operation name="Ask"><w:input message="t:Q"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Ask"><s:operation soapAction=""/><w:input><s:body use="literal"/></w:input></w:operation></w:binding>
<w:service name="S"><w:port name="P" binding="t:B"><s:address location="BASE/ask"/></w:port></w:service></w:definitions>`
	const xsd = `<x:schema xmlns:x="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t"><x:element name="Q" type="x:string"/></x:schema>`
	serve := func(w http.ResponseWriter, r *http.Request) {
		asked.add(fmt.Sprintf("%s %s auth=%t version=%s", r.Method, r.URL.Path, r.Header.Get("Authorization") != "",
			r.Header.Get("If-None-Match")))
		if user, password, _ := r.BasicAuth(); user != "clerk" || password != "in-the-hive" {
			w.Header().Set("WWW-Authenticate", `Basic realm="skeps"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		w.Header().Set("ETag", `"v1"`)
		if r.Header.Get("If-None-Match") == `"v1"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		text := map[string]string{"/doc/skeps.wsdl": wsdl, "/doc/skep.xsd": xsd}[r.URL.Path]
		_, _ = io.WriteString(w, strings.ReplaceAll(text, "BASE", "http://"+r.Host))
	}
	server := httptest.NewServer(http.HandlerFunc(serve))
	t.Cleanup(server.Close)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Authorization"), "another origin is shown no login")
		serve(w, r)
	}))
	t.Cleanup(other.Close)
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_CLERK=in-the-hive")
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: "+server.URL+", other: "+other.URL+`}}}
services:
  old: {address: "${base}/old", operations: {look: {request: GET /x}}}
  elsewhere: {contract: "${other}/doc/skeps.wsdl", address: "${base}/ask", login: clerk}
logins:
  clerk: {kind: basic, user: clerk, password: "${sealed.clerk}"}
  stamped: {kind: username token, user: clerk, password: "${sealed.clerk}"}
`)
	address := server.URL + "/doc/skeps.wsdl"
	p.cases([]commandCase{
		{"add skeps " + address, 3, []string{"401 Unauthorized", "write login: NAME at the service", "add NAME ADDRESS -login LOGIN"}},
		{"add skeps " + address + " -login nobody", 2, []string{`there is no login "nobody"`, "clerk"}},
		{"add skeps " + address + " -login clerk -example", 2, []string{"-login"}},
		{"add skeps " + address + " -login clerk", 0, []string{"contract: ${base}/doc/skeps.wsdl", "login: clerk"}},
		{"survey elsewhere", 3, []string{"401 Unauthorized"}},
		{"call old/look -fresh -dry", 2, []string{"-fresh has no effect: no contract is at an address here"}},
		{"call GET " + server.URL + "/x -fresh -dry", 2, []string{"-fresh has no effect"}},
	})
	taken(&asked)
	p.cases([]commandCase{{"survey skeps", 0, []string{"Ask"}}, {"draft skeps Ask", 0, []string{"urn:t"}}})
	assert.Empty(t, taken(&asked), "what was fetched a moment ago is good enough")
	p.write("sheets/a.yaml", "sheet: a\nsteps:\n  - step: it\n    call: skeps/Asc\n")
	o := p.run("vet")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, `there is no operation of skeps "Asc"`)
	assert.Empty(t, taken(&asked), "vet asks nobody")
	p.cases([]commandCase{{"survey skeps -fresh", 0, []string{"Ask"}}})
	assert.Equal(t, []string{
		"GET /doc/skeps.wsdl auth=false version=", "GET /doc/skeps.wsdl auth=true version=",
		"GET /doc/skep.xsd auth=false version=", "GET /doc/skep.xsd auth=true version=",
	}, taken(&asked))
	kept, err := filepath.Glob(filepath.Join(p.dir, ".testbench", "contracts", "*.json"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	for _, name := range kept {
		name = ".testbench/contracts/" + filepath.Base(name)
		text := p.read(name)
		p.write(name, strings.Replace(text, `"Fetched":"2`, `"Fetched":"1`, 1)) // long ago
	}
	p.cases([]commandCase{{"survey skeps", 0, []string{"Ask"}}})
	assert.Equal(t, []string{
		"GET /doc/skeps.wsdl auth=false version=\"v1\"", "GET /doc/skeps.wsdl auth=true version=\"v1\"",
		"GET /doc/skep.xsd auth=false version=\"v1\"", "GET /doc/skep.xsd auth=true version=\"v1\"",
	}, taken(&asked))
	p.cases([]commandCase{{"survey skeps", 0, []string{"Ask"}}})
	assert.Empty(t, taken(&asked), "a version that is still good is good for as long again")
}

// taken are the lines since the last time.
func taken(l *lines) []string {
	defer l.reset()
	return l.read()
}
