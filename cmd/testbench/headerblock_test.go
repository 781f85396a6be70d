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

// Header blocks that a WSDL describes are fields of the call, at each of its ports.
func TestHeaderBlocksAsFields(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, _ *http.Request, _ string) {
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, weighed)
	})
	data, err := os.ReadFile("testdata/php/hive.wsdl")
	require.NoError(t, err)
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nservices:\n  hive: {contract: hive.wsdl, address: "+server.URL+"}\n  plain: "+
		"{address: "+server.URL+", operations: {get: {request: GET /}}}\n")
	keeper := `<xs:element name="Keeper" type="xs:string"/>`
	wsdl := replaced(string(data), `<port name="HivePort"`, `<port name="Other" binding="h:HiveSoap"><soap:address `+
		`location="http://127.0.0.1/other"/></port><port name="HivePort"`)
	p.write("hive.wsdl", wsdl)
	p.cases([]commandCase{
		{"call hive/Weigh hive=H1 frames=3", 0, []string{"describes the header block Keeper, and it is not given"}},
		{"call hive/Weigh hive=H1 frames=3 Keeper=Bryony -into sheets/a.yaml", 0, nil},
		{"run sheets/a.yaml", 0, nil},
		{"call hive/Weigh hive=H1 frames=3 Keeper=Bryony -port Other", 0, nil},
		{"call hive/Weigh hive=H1 frames=3 -port Othr", 2, []string{`no port "Othr"; did you mean "Other"?`}},
		{"call plain/get -port Other", 2, []string{"port: has no effect: no WSDL describes plain/get"}},
		{"call GET " + server.URL + " -port Other", 2, []string{"-port has no effect"}},
		{"draft hive Weigh -as step", 0, []string{"    Keeper: text\n"}},
		{"survey hive Weigh", 0, []string{"fill: a header block  {urn:heatherfold:hive}Keeper\n  Keeper  text; may be left out\n"}},
		{"survey hive Weigh -json", 0, []string{`"fill_blocks"`}},
	})
	got := seen.take()
	require.Len(t, got, 4)
	for i, one := range got {
		assert.Equal(t, i > 0, strings.Contains(one, `<Keeper xmlns="urn:heatherfold:hive">Bryony</Keeper>`), one)
	}
	p.write("sheets/b.yaml", "sheet: b\nsteps:\n  - step: a\n    call: hive/Weigh\n    blocks: {Keeper: x}\n"+
		"    fill: {hive: a, frames: 2, Keeper: y}\n  - step: b\n    call: hive/Weigh\n    fill: {hive: a, frames: 2}\n")
	o := p.run("vet")
	assert.Equal(t, 2, o.status)
	for _, says := range []string{"Keeper is given twice", "describes the header block Keeper"} {
		assert.Contains(t, o.stdout, says)
	}
	// What the service always has counts, and is not asked for again.
	p.write("bench.yaml", "bench: b\nservices:\n  hive: {contract: hive.wsdl, address: "+server.URL+", always: {blocks: {Keeper: Ansel}}}\n")
	o = p.run("call", "hive/Weigh", "hive=H1", "frames=3")
	require.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, o.all(), "describes the header block")
	assert.Contains(t, seen.take()[0], ">Ansel</Keeper>")
	p.write("bench.yaml", "bench: b\nservices:\n  hive: {contract: hive.wsdl, address: "+server.URL+"}\n")
	// One that is required is missed; one with parts is a field with parts.
	p.write("hive.wsdl", replaced(wsdl, "<soap:header ", `<soap:header xmlns:w="http://schemas.xmlsoap.org/wsdl/" w:required="true" `,
		keeper, `<xs:element name="Keeper"><xs:complexType><xs:sequence><xs:element name="id" type="xs:int"/>`+
			`</xs:sequence></xs:complexType></xs:element>`))
	p.cases([]commandCase{
		{"call hive/Weigh hive=H1 frames=3", 2, []string{"the header block Keeper is missing", "-contract answer"}},
		{"call hive/Weigh hive=H1 frames=3 Keeper.id=x", 2, []string{"Keeper.id"}},
		{"call hive/Weigh hive=H1 frames=3 Keeper.id=7 Keeper.@mustUnderstand=1", 0, nil},
		{"survey hive Weigh", 0, []string{"\n  Keeper\n    id  integer"}},
	})
	got = seen.take()
	require.Len(t, got, 1)
	assert.Contains(t, got[0], `soap:mustUnderstand="1"`)
	assert.Contains(t, got[0], "<id>7</id>")
	p.write("sheets/b.yaml", "sheet: b\nsteps:\n  - step: b\n    call: hive/Weigh\n    fill: {hive: a, frames: 2}\n")
	assert.Contains(t, p.run("vet", "sheets/b.yaml").stdout, "the header block Keeper is missing")
}
