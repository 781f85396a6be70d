//go:build peers

package main_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rsaKey makes a key, and its PEM file of PKCS #8.
func rsaKey(t testing.TB) (*rsa.PrivateKey, string) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return key, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// knowing starts a program of testdata/python that knows the public part of a new key, which is in certs/rsa.pem.
func (p *place) knowing(program string) (port string) {
	p.t.Helper()
	key, private := rsaKey(p.t)
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(p.t, err)
	p.write("certs/rsa.pem", private)
	p.write("certs/public.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})))
	port = freePort(p.t)
	serve(p.t, port, "/usr/bin/python3", "testdata/python/"+program, port, filepath.Join(p.dir, "certs/public.pem"))
	return port
}

// A server of OAuth 1.0 by oauthlib lets each signature in, by each method and in each place, refuses each spoilt one,
// and gives a token to which somebody agrees.
func TestOAuth1ByOauthlib(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	port := p.knowing("oauth1.py")
	p.env = append(p.env, "TESTBENCH_SEALED_SECRET=hive & comb/41", "TESTBENCH_SEALED_GIVEN=T-given",
		"TESTBENCH_SEALED_GIVEN_SECRET=nectar+7 %")
	var logins strings.Builder
	names := map[string]string{}
	for _, method := range []string{"HMAC-SHA1", "HMAC-SHA256", "HMAC-SHA512", "RSA-SHA1", "RSA-SHA256", "PLAINTEXT"} {
		for _, into := range []string{"header", "query", "form"} {
			if method == "PLAINTEXT" && into != "header" {
				continue // oauthlib decodes it once too often there, and refuses its own client, too
			}
			name := strings.ToLower(strings.ReplaceAll(method, "-", "_")) + "_" + into
			names[name] = method
			secret := "    client secret: ${sealed.secret}\n"
			if strings.HasPrefix(method, "RSA") {
				secret = "    key: certs/rsa.pem\n"
			}
			logins.WriteString("  " + name + ":\n    kind: oauth1\n    client: desk-1\n    token: ${sealed.given}\n" +
				"    token secret: ${sealed.given_secret}\n    method: " + method + "\n    into: " + into + "\n" + secret)
		}
	}
	p.write("data/lot.json", `{"lot": "L-1"}`)
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: \"http://127.0.0.1:"+port+"\"}}}\nservices:\n  hives: {address: \"${base}\"}\nlogins:\n"+
		logins.String()+`  alone: {kind: oauth1, client: desk-1, client secret: "${sealed.secret}", realm: hives, body hash: true}
  person:
    kind: oauth1
    client: desk-1
    client secret: ${sealed.secret}
    temporary: ${base}/temporary
    authorize: ${base}/authorize
    from: ${base}/token
`)
	for name, method := range names {
		t.Run(name, func(t *testing.T) {
			for _, args := range [][]string{
				{"GET", "/protected?b5=%3D%253D&a3=a&c%40=&a2=r%20b&a3=2+q&é=ü&empty"},
				{"POST", "/protected?x=1", "-in", "form.c2=", "-in", "form.a3=2 q & é"},
				{"POST", "/protected", "-body", "data/lot.json"},
			} {
				if strings.HasSuffix(name, "form") && (args[0] == "GET" || args[len(args)-2] == "-body") {
					continue
				}
				call := append([]string{"call", "hives"}, args...)
				o := p.run(append(call, "-login", name, "-quiet", "-pick", "client", "-pick", "token", "-pick", "method")...)
				require.Equal(t, 0, o.status, "%v: %s", args, o.all())
				assert.Equal(t, "desk-1\n[masked]\n"+method+"\n", o.stdout, args)
				assert.Equal(t, 1, p.run(append(call, "-login", name, "-spoil", "tampered")...).status, args)
			}
		})
	}
	o := p.run("call", "hives", "POST", "/protected", "-body", "data/lot.json", "-login", "hmac_sha1_form")
	assert.Contains(t, o.all(), "into: form puts the signature into the form of a request")
	// Somebody agrees in a browser, and the next command asks nobody.
	p.stdin = "anything"
	require.Equal(t, 0, p.run("secret", "set", "other").status)
	open := func(address string, _ *os.Process) {
		answer, err := http.Get(address)
		if assert.NoError(t, err) {
			_ = answer.Body.Close()
		}
	}
	o = p.agreeing(open, "call", "hives", "GET", "/protected", "-login", "person", "-pick", "client", "-pick", "token")
	require.Equal(t, 0, o.status, o.all())
	again := p.run("call", "hives", "GET", "/protected", "-login", "person", "-pick", "client", "-pick", "token")
	require.Equal(t, 0, again.status, again.all())
	assert.Equal(t, o.stdout, again.stdout)
	assert.Equal(t, 1, p.run("call", "hives", "GET", "/protected", "-login", "alone").status, "no token is asked for")
}
