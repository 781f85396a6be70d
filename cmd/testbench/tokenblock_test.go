package main_test

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A session that a login call opens goes into the header of envelopes, and its id appears nowhere.
func TestTokenInABlock(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if r.URL.Path == "/login" {
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"session": "S-heather-41&7", "seconds": 60}`)
			return
		}
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><ok/></e:Body></e:Envelope>`)
	})
	p := newPlace(t)
	bench := `bench: b
sites: {here: {set: {base: "` + server.URL + `"}}}
services:
  hive:
    address: ${base}/hive
    soap: 1.1
    login: session
    always: {blocks: {"d:Depot": north}}
    names: {d: "urn:d"}
    operations:
      weigh: {action: weigh, payload: "d:Weigh", body: {hive: required}}
logins:
  session:
    kind: login call
    request: POST ${base}/login
    token path: session
    expires in: seconds s
    send: {block: Session/Id, namespace: "urn:heatherfold:desk"}
`
	p.write("bench.yaml", bench)
	o := p.run("call", "hive/weigh", "hive=H", "-show", "sent")
	require.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, o.all(), "heather-41")
	assert.Contains(t, o.stdout, "Depot")
	assert.Contains(t, o.stdout, "[masked]")
	got := seen.take()
	require.Len(t, got, 2)
	assert.Contains(t, got[1], `urn:heatherfold:desk">`)
	assert.Contains(t, got[1], "Id>S-heather-41&amp;7</")
	o = p.run("call", "GET", server.URL+"/x", "-login", "session")
	assert.NotEqual(t, 0, o.status)
	assert.Contains(t, o.all(), "the login puts something into a SOAP envelope", "no envelope, no block")
	p.write("bench.yaml", replaced(bench, "block: Session/Id", "block: Session/1"))
	assert.Contains(t, p.run("vet").stdout, `"1" is not the name of an element`)
}
