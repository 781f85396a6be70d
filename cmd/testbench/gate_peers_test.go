//go:build peers

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

// A server by authlib gives a token for each grant and each way of a client to prove itself,
// verifies and takes back what it gave, and its refusals are told in its words.
func TestOAuth2ByAuthlib(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	port := p.knowing("gate.py")
	p.env = append(p.env, "TESTBENCH_SEALED_SECRET=comb & nectar/77 +%", "TESTBENCH_SEALED_WRONG=wrong-secret-9",
		"TESTBENCH_SEALED_PASSWORD=nectar & comb")
	login := func(name string, lines ...string) string {
		return "  " + name + ":\n    kind: oauth2\n    from: ${base}/token\n    introspection: ${base}/introspect\n    revocation: ${base}/revoke\n    " +
			strings.Join(lines, "\n    ") + "\n"
	}
	const desk, secret = "client: \"desk: ä\"\n    client authentication: form", "client secret: ${sealed.secret}"
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: \"http://127.0.0.1:"+port+"\"}}}\nservices:\n  me: {address: \"${base}\"}\nlogins:\n"+
		login("basic", "client: raw ä", secret, "client authentication: raw basic", "scope: honey wax gold")+ // it decodes nothing
		login("form", desk, secret, "revoke: revoke")+
		login("password", desk, secret, "grant: password", "user: Bryony Weiß", "password: ${sealed.password}")+
		login("key", "client: key", "client authentication: private key jwt", "key: certs/rsa.pem")+
		login("assertion", `client: "desk: ä"`, "grant: jwt bearer", "user: Bryony", "key: certs/rsa.pem", "scope: honey")+
		login("device", "client: scales", "grant: device", "device: ${base}/device", "scope: honey")+
		login("page", "client: scales", "grant: authorization code", "authorize: ${base}/authorize", "scope: honey")+
		login("wrong", desk, "client secret: ${sealed.wrong}")+
		login("stranger", desk, secret, "grant: password", "user: Bryony", "password: ${sealed.wrong}")+
		login("unknown", "client: nobody", secret))
	p.stdin = "anything"
	require.Equal(t, 0, p.run("secret", "set", "other").status)
	visit := func(address string, _ *os.Process) {
		answer, err := http.Get(address)
		if assert.NoError(t, err) {
			_, _ = io.Copy(io.Discard, answer.Body)
			_ = answer.Body.Close()
		}
	}
	for name, who := range map[string]string{
		"basic": `"client": "raw ä"`, "form": `"client": "desk: ä"`, "password": `"user": "Bryony Weiß"`,
		"key": `"client": "key"`, "assertion": `"user": "Bryony"`, "device": `"user": "Bryony"`, "page": `"user": "Bryony"`,
	} {
		t.Run(name, func(t *testing.T) {
			o := p.agreeing(visit, "token", name, "-verify")
			if name == "device" || name == "page" || name == "assertion" { // who shows no secret may not ask
				assert.Equal(t, 3, o.status, o.all())
				assert.Contains(t, o.stderr, "the introspection endpoint refused with 401 invalid_client")
			} else {
				assert.Equal(t, 0, o.status, o.all())
				assert.Contains(t, o.stdout, "the issuer says the token is good", o.all())
			}
			o = p.agreeing(visit, "call", "-login", name, "me", "GET", "/me")
			require.Equal(t, 0, o.status, o.all())
			assert.Contains(t, o.stdout, who)
			assert.NotContains(t, o.all(), "nectar")
		})
	}
	o := p.run("call", "-login", "basic", "me", "GET", "/me")
	assert.Contains(t, o.stdout, `"scope": "honey wax"`)
	for name, words := range map[string]string{
		"wrong": "invalid_client", "stranger": "invalid_", "unknown": "invalid_client",
	} {
		o := p.run("token", name)
		assert.Equal(t, 3, o.status, "%s: %s", name, o.all())
		assert.Contains(t, o.stderr, words, name)
		assert.NotContains(t, o.all(), "wrong-secret")
	}
}
