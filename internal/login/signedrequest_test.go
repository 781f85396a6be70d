package login

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"net/url"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/keys"
)

// A signed answer is taken from the issuer, for this client, as long as it is good, and from
// nobody else (JWT Secured Authorization Response Mode, 2.4).
func TestSignedAnswers(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a := &signedAnswer{keys: []keys.JWK{{Public: &key.PublicKey}}, issuer: "https://gate.example", client: "desk", env: &Env{}}
	soon := time.Now().Add(time.Minute).Unix()
	for _, c := range []struct {
		name   string
		claims jwt.MapClaims
		key    *ecdsa.PrivateKey
		want   string
	}{
		{"good", jwt.MapClaims{"iss": "https://gate.example", "aud": "desk", "exp": soon}, key, ""},
		{"for several", jwt.MapClaims{"iss": "https://gate.example", "aud": []string{"x", "desk"}, "exp": soon}, key, ""},
		{"for another", jwt.MapClaims{"iss": "https://gate.example", "aud": "dusk", "exp": soon}, key, `it is for "dusk", not for "desk"`},
		{"by another", jwt.MapClaims{"iss": "https://gate.example", "aud": "desk", "exp": soon}, other, "the signature does not fit"},
		{"of another", jwt.MapClaims{"iss": "https://gait.example", "aud": "desk", "exp": soon}, key, "gait"},
		{"old", jwt.MapClaims{"iss": "https://gate.example", "aud": "desk", "exp": soon - 3600}, key, "it expired"},
		{"for ever", jwt.MapClaims{"iss": "https://gate.example", "aud": "desk"}, key, "it does not say until when it is good"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.claims["code"], c.claims["state"] = "C-1", "S-1"
			text, err := jwt.NewWithClaims(jwt.SigningMethodES256, c.claims).SignedString(c.key)
			require.NoError(t, err)
			came := url.Values{"response": {text}}
			assert.Equal(t, "C-1", a.parameters(came).Get("code"))
			assert.Equal(t, "S-1", a.parameters(came).Get("state"))
			if c.want == "" {
				assert.NoError(t, a.verify(came))
			} else {
				assert.ErrorContains(t, a.verify(came), c.want)
			}
		})
	}
	assert.ErrorContains(t, a.verify(url.Values{"code": {"C-1"}}), "it has no JWT in response")
	var none *signedAnswer
	assert.Equal(t, "C-1", none.parameters(url.Values{"code": {"C-1"}}).Get("code"))
	assert.NoError(t, none.verify(nil))
}
