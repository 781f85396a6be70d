package httpsign_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/dunglas/httpsfv"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/httpsign"
)

// request is the one of RFC 9421, appendix B.2.
func request(t *testing.T) *httpsign.Message {
	t.Helper()
	u, err := url.Parse("https://example.com/foo?param=Value&Pet=dog")
	require.NoError(t, err)
	return &httpsign.Message{Method: "POST", URL: u, Header: http.Header{
		"Date": {"Tue, 20 Apr 2021 02:07:55 GMT"}, "Content-Type": {"application/json"}, "Content-Length": {"18"},
		"Content-Digest": {"sha-512=:WZDPaVn/7XgHaAy8pmojAkGWoRx2UFChF41A2svX+TaPm+AbwAgBWnrIiYllu7BNNyealdVLvRwEmTHWXvJwew==:"},
	}}
}

func components(t *testing.T, names ...string) []httpsign.Component {
	t.Helper()
	var all []httpsign.Component
	for _, name := range names {
		c, err := httpsign.ParseComponent(name)
		require.NoError(t, err)
		all = append(all, c)
	}
	return all
}

func params(pairs ...any) *httpsfv.Params {
	p := httpsfv.NewParams()
	for i := 0; i < len(pairs); i += 2 {
		p.Add(pairs[i].(string), pairs[i+1])
	}
	return p
}

// Ed25519 gives the same bytes each time: those of RFC 9421, B.2.6.
func TestVector(t *testing.T) {
	raw, err := base64.StdEncoding.DecodeString("MC4CAQAwBQYDK2VwBCIEIJ+DYvh6SEqVTm50DFtMDoQikTmiCqirVv9mWG9qfSnF")
	require.NoError(t, err)
	key, err := x509.ParsePKCS8PrivateKey(raw)
	require.NoError(t, err)
	base, input, err := httpsign.Base(request(t),
		components(t, "date", "@method", "@path", "@authority", "content-type", "content-length"),
		params("created", int64(1618884473), "keyid", "test-key-ed25519"))
	require.NoError(t, err)
	assert.Equal(t, `("date" "@method" "@path" "@authority" "content-type" "content-length");created=1618884473;keyid="test-key-ed25519"`, input)
	assert.Equal(t, `"date": Tue, 20 Apr 2021 02:07:55 GMT
"@method": POST
"@path": /foo
"@authority": example.com
"content-type": application/json
"content-length": 18
"@signature-params": `+input, base)
	signature, err := httpsign.Sign("ed25519", key, []byte(base))
	require.NoError(t, err)
	assert.Equal(t, "wqcAqbmYJ2ji2glfAMaRy4gruYYnx2nEFN2HN6jrnDnQCK1u02Gb04v9EDgwUPiu4A0w6vuQv5lIp5WPpBKRCw==",
		base64.StdEncoding.EncodeToString(signature))
}

// The values of components, as in the examples of RFC 9421, sections 2.1 and 2.2.
func TestComponents(t *testing.T) {
	m := request(t)
	m.Header["X-Ows"] = []string{"  Leading and trailing.  "}
	m.Header["Cache-Control"] = []string{"max-age=60", "   must-revalidate"}
	m.Header["Example-Dict"] = []string{" a=1,    b=2;x=1;y=2,   c=(a   b   c), d"}
	m.Header["Example-Header"] = []string{"value, with, lots", "of, commas"}
	m.Header["Empty"] = []string{""}
	var err error
	m.URL, err = url.Parse("https://WWW.example.com:443/path?param=value&foo=bar&baz=bat%20man&qux=")
	require.NoError(t, err)
	for name, want := range map[string]string{
		"x-ows": "Leading and trailing.", "cache-control": "max-age=60, must-revalidate", "empty": "",
		"host":              "www.example.com",
		`"example-dict";sf`: "a=1, b=2;x=1;y=2, c=(a b c), d", `"example-dict";key="b"`: "2;x=1;y=2",
		`"example-dict";key="c"`: "(a b c)",
		`"example-header";bs`:    ":dmFsdWUsIHdpdGgsIGxvdHM=:, :b2YsIGNvbW1hcw==:",
		"@method":                "POST", "@authority": "www.example.com", "@scheme": "https", "@path": "/path",
		"@request-target": "/path?param=value&foo=bar&baz=bat%20man&qux=",
		"@query":          "?param=value&foo=bar&baz=bat%20man&qux=", `"@query-param";name="baz"`: "bat%20man",
		`"@query-param";name="qux"`: "",
	} {
		base, _, err := httpsign.Base(m, components(t, name), params())
		require.NoError(t, err, name)
		identifier := name
		if name[0] != '"' {
			identifier = `"` + name + `"`
		}
		assert.Equal(t, identifier+": "+want+"\n\"@signature-params\": ("+identifier+")", base)
	}
	for name, message := range map[string]string{
		"nothing": "no such field", "@status": "no status", `"@query-param";name="a"`: "has no a",
		`"@query-param"`:         "wants a parameter",
		`"example-dict";key="z"`: "no member z", `"x-ows";req`: "no request", `"x-ows";tr`: "trailers",
		`"date";sf`: "structured",
	} {
		_, _, err := httpsign.Base(request(t), components(t, name), params())
		assert.Error(t, err, message)
	}
	_, _, err = httpsign.Base(m, components(t, "date", "date"), params())
	assert.ErrorContains(t, err, "twice")
	for _, name := range []string{"@nothing", `"Upper"`, `"x`, ""} {
		_, err := httpsign.ParseComponent(name)
		assert.Error(t, err, name)
	}
}

// keysByAlgorithm makes a key for each algorithm: a crypto.Signer, or the bytes of a
// shared one.
func keysByAlgorithm(t *testing.T) map[string]any {
	t.Helper()
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	p256, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	p384, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return map[string]any{
		"rsa-pss-sha512": rsaKey, "rsa-v1_5-sha256": rsaKey, "ecdsa-p256-sha256": p256, "ecdsa-p384-sha384": p384,
		"ed25519":     ed,
		"hmac-sha256": []byte("a key that both sides know of"),
	}
}

// publicOf is what the other side checks with.
func publicOf(key any) any {
	if signer, ok := key.(crypto.Signer); ok {
		return signer.Public()
	}
	return key
}

// Every algorithm signs and verifies; a message that was changed does not hold,
// nor one that ended.
func TestSignAndCheck(t *testing.T) {
	now := time.Unix(1618884473, 0)
	keys := keysByAlgorithm(t)
	for algorithm, key := range keys {
		m := request(t)
		base, input, err := httpsign.Base(m, components(t, "@method", "@target-uri", "content-digest"),
			params("created", now.Unix(), "expires", now.Unix()+60, "alg", algorithm))
		require.NoError(t, err)
		signature, err := httpsign.Sign(algorithm, key, []byte(base))
		require.NoError(t, err, algorithm)
		m.Header.Set("Signature-Input", "sig1="+input)
		m.Header.Set("Signature", "sig1=:"+base64.StdEncoding.EncodeToString(signature)+":")
		read, err := httpsign.Read(m)
		require.NoError(t, err)
		require.Len(t, read, 1)
		public := publicOf(key)
		assert.NoError(t, read[0].Check(m, "", public, now), algorithm)
		assert.ErrorContains(t, read[0].Check(m, "", public, now.Add(2*time.Minute)), "ended 1m0s ago")
		m.Method = "PUT"
		assert.ErrorContains(t, read[0].Check(m, "", public, now), "does not fit", algorithm)
		_, err = httpsign.Sign(algorithm, "no key", []byte(base))
		assert.Error(t, err)
	}
	_, err := httpsign.Sign("ed25519", keys["ecdsa-p256-sha256"], nil)
	assert.Error(t, err)
	assert.Error(t, httpsign.Verify("ecdsa-p256-sha256", keys["ecdsa-p384-sha384"].(crypto.Signer).Public(), nil, nil))
}

func TestDigest(t *testing.T) {
	// The content and digest of RFC 9421, B.2.
	digest, err := httpsign.ContentDigest("sha-512", []byte(`{"hello": "world"}`))
	require.NoError(t, err)
	assert.Equal(t, request(t).Header.Get("Content-Digest"), digest)
	assert.NoError(t, httpsign.CheckDigest([]string{digest}, []byte(`{"hello": "world"}`)))
	assert.NoError(t, httpsign.CheckDigest([]string{"md5=:AAAA:, " + digest}, []byte(`{"hello": "world"}`)))
	assert.ErrorContains(t, httpsign.CheckDigest([]string{digest}, []byte(`{}`)), "is not that of the content")
	assert.ErrorContains(t, httpsign.CheckDigest([]string{"md5=:AAAA:"}, nil), "no known algorithm")
	assert.Error(t, httpsign.CheckDigest([]string{"?!"}, nil))
	_, err = httpsign.ContentDigest("md5", nil)
	assert.ErrorContains(t, err, "sha-256, sha-512")
}

func FuzzRead(f *testing.F) {
	f.Add(`sig1=("@method" "date";sf);created=1`, "sig1=:AAAA:")
	f.Fuzz(func(_ *testing.T, input, signature string) {
		m := &httpsign.Message{
			Method: "GET", URL: &url.URL{Scheme: "https", Host: "h"},
			Header: http.Header{"Signature-Input": {input}, "Signature": {signature}, "Date": {input}},
		}
		signatures, err := httpsign.Read(m)
		if err != nil {
			return
		}
		for _, s := range signatures {
			_ = s.Check(m, "", []byte("key"), time.Now())
		}
	})
}
