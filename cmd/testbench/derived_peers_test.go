//go:build peers

package main_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A scheme with a hashed canonical request and a key that is derived in four steps is written as a recipe; a signing library
// of the registry makes the same signature of each of many random requests.
func TestDerivedKeysByALibrary(t *testing.T) {
	t.Parallel()
	const secret = "comb/heather+41"
	p := newPlace(t)
	port := freePort(t)
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	serve(t, port, "node", "testdata/node/derived.cjs", port, peers, secret)
	answer, err := http.Get("http://127.0.0.1:" + port + "/words")
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	var words struct{ Name, Before, Last, Stamp string } // those of the library's scheme
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&words))
	p.env = append(p.env, "TESTBENCH_SEALED_KEY="+secret)
	p.write("bench.yaml", strings.NewReplacer("NAME", words.Name, "BEFORE", words.Before, "LAST", words.Last, "STAMP",
		words.Stamp).Replace(`bench: b
sites: {here: {}}
services:
  hives: {address: "http://127.0.0.1:`+port+`", login: derived}
logins:
  derived:
    kind: hmac
    key: ${sealed.key}
    key id: HONEYDESK
    encode: hex
    stamp: header STAMP
    stamp as: compact
    headers: [host, STAMP, content-type, x-lot]
    canonical: [method, escaped path, sorted query, header lines, signed headers, body hash]
    sign: [text NAME, stamp, scope, canonical hash]
    derive:
      before: BEFORE
      steps: [stamp date, text eu-moor-1, text hives, text LAST]
    into: header Authorization
    write: NAME Credential=${id}/${scope}, SignedHeaders=${signed headers}, Signature=${signature}
`))
	random := rand.New(rand.NewPCG(20261201, 22))
	word := func(letters string) string {
		var out strings.Builder
		for range 1 + random.IntN(8) {
			runes := []rune(letters)
			out.WriteRune(runes[random.IntN(len(runes))])
		}
		return out.String()
	}
	var steps strings.Builder
	for i := range 60 {
		var path, query []string
		for range random.IntN(4) {
			path = append(path, url.PathEscape(word("abcXYZ019-_~ äø%&=+,;:@")))
		}
		for range random.IntN(4) {
			query = append(query, url.QueryEscape(word("abc"))+"="+strings.ReplaceAll(url.QueryEscape(word("abc Äß*~'()!&=+/")), "+", "%20"))
		}
		address := "/" + strings.Join(path, "/")
		if len(query) > 0 {
			address += "?" + strings.Join(query, "&")
		}
		method := []string{"GET", "POST", "PUT", "DELETE"}[random.IntN(4)]
		fmt.Fprintf(&steps, "  - step: s%d\n    request: %q\n    headers: {Content-Type: text/plain, X-Lot: %q}\n", i,
			"hives "+method+" "+address, word("ab  cd, \"e")+"x")
		if method == "POST" || method == "PUT" {
			fmt.Fprintf(&steps, "    text: %q\n", word("äb c\n{}<>"))
		}
	}
	p.write("sheets/s.yaml", "sheet: s\nsteps:\n"+steps.String())
	o := p.run("run", "sheets/s.yaml", "-detail", "failures")
	require.Equal(t, 0, o.status, "%.3000s", o.all())
	o = p.run("call", "hives", "GET", "/a%20b?x=1", "-in", "header.X-Lot=1", "-in", "header.Content-Type=text/plain", "-dry")
	assert.Contains(t, o.stdout, "GET\n  /a%2520b\n  x=1\n  content-type:text/plain\n", "each stage is shown")
	assert.Contains(t, o.stdout, words.Name+"\n")
	assert.Equal(t, 1, p.run("call", "hives", "GET", "/", "-in", "header.X-Lot=1", "-in", "header.Content-Type=text/plain",
		"-login", "derived", "-spoil", "tampered").status)
}
