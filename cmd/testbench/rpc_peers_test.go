//go:build peers

package main_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Methods are called by name on servers that are not ours.
func TestMethodsOfOthers(t *testing.T) {
	t.Parallel()
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	asJSON, asOld, asXML := freePort(t), freePort(t), freePort(t)
	serve(t, asXML, "node", "testdata/node/methods.cjs", asJSON, asOld, asXML, peers)
	p := newPlace(t)
	p.write("bench.yaml", `bench: t
sites:
  local:
    set:
      host: http://127.0.0.1
services:
  j:
    address: ${host}:`+asJSON+`
    protocol: json-rpc
  old:
    address: ${host}:`+asOld+`
    protocol: json-rpc 1.0
  x:
    address: ${host}:`+asXML+"\n    protocol: xml-rpc\n")
	p.cases([]commandCase{
		{"call j/grade moisture=17.4 -pick grade", 0, []string{"A"}},
		{"call j/grade moisture=23.1", 1, []string{"1422: too moist (field moisture)", "moisture was sent as 23.1"}},
		{"call j/sum 0=1 1=2 2=3 -pick answer", 0, []string{"6"}},
		{"call j/graed moisture=1", 1, []string{"-32601"}},
		{"call old/sum 0=1 1=2 2=3 -pick answer", 0, []string{"6"}},
		{"call old/graed 0=1", 1, []string{`response from old: "Method not found"`}},
		{"call old/sum x=1", 2, []string{"JSON-RPC 1.0 has parameters by position only"}},
		{
			"call x/grade moisture=17.4 lot=L-1 tags.0=a tags.1=b ripe=true", 0,
			[]string{
				`"lot": "L-1"`, `"tags": [ "a", "b" ]`, `"ripe": true`, `"moisture": 17.4`, `"day": "2026-11-23T`,
				`"raw": "aG9uZXk="`,
			},
		},
		{"call x/grade moisture=23.1", 1, []string{`response from x: "too moist"`}},
		{"call x/sum 0=1 1=2.5 -pick answer", 0, []string{"3.5"}},
	})
}
