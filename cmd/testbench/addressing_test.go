package main_test

import (
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// weighed answers Weigh of the contract of the hives.
const weighed = `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><WeighResponse ` +
	`xmlns="urn:heatherfold:hive"><hive>a</hive><kilos>3.5</kilos><keeper>b</keeper></WeighResponse></e:Body></e:Envelope>`

// The action of WS-Addressing is the one of the contract, by what it says or by the default pattern; answers and faults are
// asked for where the step says, in the version that it says.
func TestAddressingAsAsked(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if r.URL.Path == "/later" {
			w.WriteHeader(http.StatusAccepted)
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, weighed)
	})
	data, err := os.ReadFile("testdata/php/hive.wsdl")
	require.NoError(t, err)
	p := newPlace(t)
	wsdl := replaced(string(data), ` soapAction="urn:heatherfold:hive:Weigh"`, "")
	p.write("hive.wsdl", wsdl)
	bench := "bench: b\nsites: {here: {set: {base: \"" + server.URL + "\"}}}\nservices:\n" +
		"  hive: {contract: hive.wsdl, address: \"${base}\", addressing: true}\n" +
		"  later: {contract: hive.wsdl, address: \"${base}/later\", addressing: {version: 2004/08}}\n"
	p.write("bench.yaml", bench)
	weigh := func(service string) string {
		require.Equal(t, 0, p.run("call", service+"/Weigh", "hive=H", "frames=1", "Keeper=x").status)
		return seen.take()[0]
	}
	assert.Contains(t, weigh("hive"), ">urn:heatherfold:hive:Hive:WeighRequest</Action>", "the default pattern")
	p.write("hive.wsdl", replaced(wsdl, `<input message="h:In"/>`, `<input name="ToWeigh" message="h:In"/>`))
	assert.Contains(t, weigh("hive"), ">urn:heatherfold:hive:Hive:ToWeigh</Action>", "the name of the input")
	p.write("hive.wsdl", strings.ReplaceAll(wsdl, "urn:heatherfold:hive", "http://heatherfold.example/hive/"))
	assert.Equal(t, 1, p.run("call", "hive/Weigh", "hive=H", "frames=1", "Keeper=x").status) // the answer has other names
	assert.Contains(t, seen.take()[0], ">http://heatherfold.example/hive/Hive/WeighRequest</Action>", "an address")
	for _, space := range []string{
		"http://www.w3.org/2007/05/addressing/metadata", "http://www.w3.org/2006/05/addressing/wsdl",
	} {
		p.write("hive.wsdl", replaced(string(data), `<input message="h:In"/>`,
			`<input message="h:In" xmlns:a="`+space+`" a:Action="urn:as:said"/>`))
		assert.Contains(t, weigh("hive"), ">urn:as:said</Action>", space)
	}
	p.write("hive.wsdl", string(data))
	assert.Contains(t, weigh("hive"), ">urn:heatherfold:hive:Weigh</Action>", "that of SOAP")
	p.write("sheets/s.yaml", `sheet: s
steps:
  - step: asked elsewhere
    call: later/Weigh
    addressing:
      reply to: http://desk.example/in
      fault to: http://desk.example/faults
      relates to: urn:uuid:7
    fill: {hive: H, frames: 1, Keeper: x}
    expect: {status: 202}
  - step: as of old
    call: later/Weigh
    fill: {hive: H, frames: 1, Keeper: x}
    contract: request
`)
	o := p.run("run", "sheets/s.yaml")
	require.Equal(t, 0, o.status, o.all())
	got := seen.take()
	for _, part := range []string{
		`<Address>http://desk.example/in</Address>`, `<FaultTo xmlns="http://www.w3.org/2005/08/addressing">`,
		`<Address>http://desk.example/faults</Address>`, `>urn:uuid:7</RelatesTo>`,
	} {
		assert.Contains(t, got[0], part)
	}
	const old = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
	assert.Contains(t, got[1], `<To xmlns="`+old+`">`)
	assert.Contains(t, got[1], `<Address>`+old+`/role/anonymous</Address>`)
	p.write("bench.yaml", replaced(bench, "version: 2004/08", "version: 2003"))
	assert.Contains(t, p.run("vet").stdout, `"2003" is not a version of WS-Addressing`)
}
