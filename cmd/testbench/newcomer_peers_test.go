//go:build peers

package main_test

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A service that nobody here wrote, at a host that the bench does not know, whose contracts name yet another
// one: from its address to a step of a sheet that sends what was sent. It is described in six ways.
func TestNewcomer(t *testing.T) {
	t.Parallel()
	port := freePort(t)
	serve(t, port, "node", "testdata/node/newcomer.cjs", port)
	base := "http://127.0.0.1:" + port
	seen := func() string {
		answer, err := http.Get(base + "/seen")
		require.NoError(t, err)
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return string(body)
	}
	for name, c := range map[string]struct {
		contract, survey, operation string
		fields                      []string
		sent                        []string
	}{
		"WSDL": {
			"/service.svc?wsdl", "Weigh", "Weigh",
			[]string{"skep=S 1", "day=2026-11-30"},
			[]string{`"POST","/service.svc","text/xml`, `<skep>S 1</skep>`},
		},
		"OpenAPI 2": {
			"/swagger/v1/doc.json", "/skeps/{skep}/weights", "weights",
			[]string{"skep=S 1", "day=2026-11-30"},
			[]string{`"GET","/v2/skeps/S%201/weights?day=2026-11-30"`},
		},
		"OpenAPI 3": {
			"/api-docs", "/weighings", "weigh",
			[]string{"skep=S 1", "day=2026-11-30"},
			[]string{`"POST","/v3/weighings","application/json"`, `{\"skep\":\"S 1\",\"day\":\"2026-11-30\"}`},
		},
		"WADL": {
			"/rest/application.wadl", "/weights", "weights", []string{"skep=S 1"}, []string{`"GET","/rest/weights?skep=S%201"`},
		},
		"OData 2": {
			"/odata/v2/$metadata", "Weights", "Weights.read", []string{"Skep=S 1"}, []string{`"GET","/odata/v2/Weights('S%201')`},
		},
		"OData 4": {
			"/odata/v4/$metadata", "Weights", "Weights.read", []string{"Skep=S 1"}, []string{`"GET","/odata/v4/Weights('S%201')`},
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			require.Equal(t, 0, p.run("new", "own").status)
			p.dir += "/own"
			o := p.run("add", "skeps", base+c.contract)
			require.Equal(t, 0, o.status, o.all())
			assert.NotContains(t, p.read("bench.yaml"), "address: http", "what is at a site is a value of the site")
			o = p.run("survey", "skeps")
			require.Equal(t, 0, o.status, o.all())
			assert.Contains(t, o.stdout, c.survey)
			seen()
			call := append([]string{"call", "skeps/" + c.operation}, c.fields...)
			o = p.run(append(call, "-into", "sheets/skeps.yaml")...)
			require.Equal(t, 0, o.status, o.all())
			assert.Contains(t, o.stdout, "2450")
			first := seen()
			for _, part := range c.sent {
				assert.Contains(t, first, part)
			}
			o = p.run("vet")
			require.Equal(t, 0, o.status, o.all())
			o = p.run("run", "sheets/skeps.yaml")
			require.Equal(t, 0, o.status, o.all())
			assert.Equal(t, first, seen(), "what was written is the call that was made")
		})
	}
}
