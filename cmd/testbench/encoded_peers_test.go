//go:build peers

package main_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A service of the older style, rpc with encoded values, by a toolkit of others is called by its own WSDL: structures,
// arrays, arrays of arrays, values that are sent once and referred to, null; and each draft is taken as it is.
func TestEncodedService(t *testing.T) {
	t.Parallel()
	base := javaService(t, "Depot", "axis", "axis-jaxrpc", "axis-saaj", "commons-logging", "commons-discovery", "wsdl4j",
		"javax.activation", "javax.mail")
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nservices: {depot: {contract: \""+base+"/axis/services/Depot?wsdl\", address: \""+base+
		"/axis/services/Depot\"}}\n")
	p.write("sheets/depot.yaml", `sheet: depot
steps:
  - step: text
    call: depot/greet
    fill: {name: "Añ & b", loud: true}
    fields: {greetReturn: "HELLO Añ & b"}
  - step: structure
    call: depot/weigh
    fill: {crate: {lot: L-1, frames: 3, kilos: 2.50, packed: "2026-05-01T10:00:00Z"}, more: 4}
    fields:
      weighReturn.lot: L-1
      weighReturn.frames: 7
      weighReturn.kilos: 5
      weighReturn.packed: "2026-05-01T10:00:00.000Z"
      weighReturn.inner: is null
  - step: structure within
    call: depot/weigh
    fill: {crate: {lot: L-1, frames: 3, inner: {lot: L-2, frames: 1}}, more: 1}
    fields: {weighReturn.inner.lot: L-2, weighReturn.frames: 4, weighReturn.kilos: is null}
  - step: sent once
    call: depot/twice
    fill: {crate: {lot: L-1, frames: 3}}
    fields: {twiceReturn.twiceReturn: count 2, "twiceReturn.twiceReturn[1].lot": L-1, "twiceReturn.twiceReturn[0].frames": 3}
  - step: array
    call: depot/sort
    fill: {lots: [b, a, c]}
    fields: {"sortReturn.sortReturn[0]": a, "sortReturn.sortReturn[2]": c}
  - step: arrays in an array
    call: depot/sum
    fill: {rows: [[1, 2], [3], [4, 5, 6]]}
    fields: {sumReturn: 21}
  - step: bytes
    call: depot/turn
    fill: {data: AQID}
    fields: {turnReturn: AwIB}
  - step: nothing
    call: depot/forget
  - step: fault
    call: depot/weigh
    fill: {crate: null, more: 1}
    expect: {fault: Server.userException}
`)
	o := p.run("run", "sheets/depot.yaml")
	require.Equal(t, 0, o.status, o.all())
	for _, operation := range []string{"greet", "weigh", "twice", "sort", "sum", "turn", "forget"} {
		draft := p.run("draft", "depot", operation)
		require.Equal(t, 0, draft.status, draft.all())
		assert.NotContains(t, draft.stdout, "href", operation)
		assert.Contains(t, draft.stdout, `encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"`, operation)
		p.write("drafts/"+operation+".xml", draft.stdout)
		o := p.run("call", "POST", base+"/axis/services/Depot", "-in", "header.SOAPAction=", "-in", "header.Content-Type=text/xml",
			"-body", "drafts/"+operation+".xml")
		assert.Equal(t, 0, o.status, "%s %s", operation, o.all())
		assert.NotContains(t, p.run("survey", "depot", operation).stdout, "@href", operation)
	}
}
