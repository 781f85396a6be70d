//go:build peers

package main_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Services by JAX-WS, found by the contracts that they publish: both versions of SOAP, addressing that they insist on,
// faults with detail, calls that are not answered, and rpc.
func TestServicesByJAXWS(t *testing.T) {
	t.Parallel()
	base := javaService(t, "Weigh", "jaxws-api", "jaxws-rt", "jaxb-api", "jaxb-runtime", "jaxb-core", "jws-api", "javax.activation")
	p := newPlace(t)
	services := ""
	for _, name := range []string{"plain", "addressed", "twelve", "careless", "rpc", "attached"} {
		path, addressing := name, ""
		switch name {
		case "careless":
			path = "addressed"
		case "addressed", "twelve":
			addressing = ", addressing: true"
		}
		services += "  " + name + `: {contract: "${base}/` + path + `?wsdl", address: "${base}/` + path + `"` + addressing + "}\n"
	}
	p.write("bench.yaml", "bench: waage\nsites: {here: {set: {base: \""+base+"\"}}}\nservices:\n"+services)
	sheet := "sheet: scales\nsteps:\n"
	for _, name := range []string{"plain", "addressed", "twelve"} {
		sheet += "  - step: " + name + ` weighs
    call: ` + name + `/weigh
    fill: {name: Größe, kilos: "12.50", at: "2026-12-01T08:00:00Z", "@depot": Süd, marks: [a, b]}
    fields: {name: Größe, kilos: 37.5, "@depot": Süd, marks: count 2}
  - step: ` + name + ` is too heavy
    call: ` + name + `/weigh
    fill: {name: B, kilos: 600, "@depot": N, marks: [a]}
    expect: {fault: {text: "zu schwer: B", detail: is present}}
  - step: ` + name + ` adds
    call: ` + name + `/total
    fill: {kilos: [1.5, 2.25]}
    fields: {answer: 3.75}
  - step: ` + name + ` notes
    call: ` + name + `/note
    fill: {.: "hello & goodbye"}
    expect: {status: 202}
`
	}
	p.write("sheets/scales.yaml", sheet+`  - step: careless
    call: careless/total
    fill: {kilos: 1}
    expect: {fault: {text: contains Message Addressing Property}}
  - step: by rpc
    call: rpc/add
    fill: {a: 2, b: 40}
    fields: {sum: 42}
  - step: turned
    call: attached/turn
    fill: {.: AAEC}
    fields: {answer: AgEA}
`)
	o := p.run("run", "sheets/scales.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, o.all(), "note:", "nothing departs from the standards")
	o = p.run("call", "-dry", "plain/note", "note=hello")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stderr, `note is unknown: note holds a text; its value is the field "."`)
	assert.Equal(t, 0, p.run("call", "-dry", "plain/note", ".=hello").status)
}
