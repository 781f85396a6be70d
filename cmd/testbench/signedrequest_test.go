package main_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"testing"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where the issuer's metadata wants it, the authorization request is signed without a word in the login: nothing of it
// stands beside the signed object (RFC 9101, 5 and 10.5). Without a key it is refused before anything is asked.
func TestSignedByMetadata(t *testing.T) {
	t.Parallel()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	var asked url.Values
	var issuer *httptest.Server
	issuer = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/.well-known/oauth-authorization-server":
			_, _ = fmt.Fprintf(w, `{"issuer": %q, "authorization_endpoint": "%[1]s/page", "token_endpoint": "%[1]s/token", "require_signed_request_object": true}`, issuer.URL)
		case "/page":
			asked = r.URL.Query()
			claims := jwt.MapClaims{}
			if _, err := jwt.ParseWithClaims(asked.Get("request"), claims, func(*jwt.Token) (any, error) {
				return &key.PublicKey, nil
			}, jwt.WithAudience(issuer.URL), jwt.WithIssuer("desk")); !assert.NoError(t, err) {
				return
			}
			assert.Equal(t, "lots", claims["scope"])
			assert.Equal(t, []any{map[string]any{"type": "lots"}}, claims["authorization_details"])
			http.Redirect(w, r, fmt.Sprint(claims["redirect_uri"], "?code=C-1&state=", claims["state"]), http.StatusFound)
		case "/token":
			_, _ = io.WriteString(w, `{"access_token": "T-1", "token_type": "Bearer"}`)
		}
	}))
	t.Cleanup(issuer.Close)
	p := newPlace(t)
	p.write("certs/key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	const login = "kind: oauth2, grant: authorization code, client: desk, scope: lots, details: [{type: lots}]"
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: \""+issuer.URL+"\"}}}\nservices:\n  s: {address: \"${base}\"}\nlogins:\n"+
		"  keyed: {"+login+", issuer: \"${base}\", key: certs/key.pem}\n  keyless: {"+login+", issuer: \"${base}\"}\n")
	o := p.agreeing(func(address string, _ *os.Process) {
		answer, err := http.Get(address)
		if assert.NoError(t, err) {
			_ = answer.Body.Close()
		}
	}, "token", "keyed")
	assert.Equal(t, 0, o.status, o.all())
	asked.Del("request")
	assert.Equal(t, url.Values{"client_id": {"desk"}}, asked)
	asked = nil
	o = p.run("token", "keyless")
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.stderr, "there is no private key to sign with: name it under key:")
	assert.Nil(t, asked)
}
