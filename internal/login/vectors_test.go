package login

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/httpsign"
	"testbench/internal/keys"
	"testbench/internal/value"
)

// The examples of RFC 7616, 3.9, and of RFC 2617, 3.5, which it replaced.
func TestDigestVectors(t *testing.T) {
	const old = `Digest realm="testrealm@host.com", qop="auth,auth-int", nonce="dcd98b7102dd2f0e8b11d0f600bfb0c093", opaque="5ccc069c403ebaf9f0171e9517f40e41"`
	const both = `realm="http-auth@example.org", qop="auth, auth-int", nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS"`
	cases := []struct {
		challenges                   []string
		user, password, cnonce, want string
	}{
		{[]string{old}, "Mufasa", "Circle Of Life", "0a4f113b", `response="6629fae49393a05397450978507c4ef1"`},
		{
			[]string{"Digest " + both + ", algorithm=MD5"},
			"Mufasa", "Circle of Life",
			"f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ", `response="8ca523f5e9506fed4657c9700eebdbec"`,
		},
		{
			[]string{"Digest " + both + ", algorithm=MD5", "Digest " + both + ", algorithm=SHA-256"},
			"Mufasa", "Circle of Life", "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
			`response="753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"`,
		},
		{
			[]string{`Basic realm="x", ` + old + `, algorithm="md5-SESS"`},
			"Mufasa", "Circle Of Life", "0a4f113b",
			"algorithm=MD5-sess",
		},
		{
			[]string{`Digest realm=r, nonce=n`},
			"u", "p", "c",
			`username="u", realm="r", uri="/dir/index.html", nonce="n", response="`,
		},
		{
			[]string{`Digest realm="r", nonce="n", qop="auth-int", userhash=true, algorithm=SHA-256`},
			"u", "p", "c",
			`qop=auth-int`,
		},
	}
	for _, c := range cases {
		state := chooseDigest(Challenges(401, http.Header{"Www-Authenticate": c.challenges}))
		require.NotNil(t, state, c.challenges)
		got := state.answer("GET", "/dir/index.html", nil, c.user, c.password, c.cnonce)
		assert.Contains(t, got, c.want)
		if state.Parameters["opaque"] != "" {
			assert.Contains(t, got, `opaque="`+state.Parameters["opaque"])
			assert.Contains(t, got, "nc=00000001")
		}
		if state.Parameters["userhash"] == "true" {
			assert.NotContains(t, got, `username="u"`)
		}
	}
	assert.Nil(t, chooseDigest(Challenges(401,
		http.Header{"Www-Authenticate": {`Digest realm="r", nonce="n", algorithm=SHA-1024`, "Basic realm=x"}})))
}

func TestChallenges(t *testing.T) {
	cases := []struct {
		field string
		want  []Challenge
	}{
		{
			`Basic realm="simple", charset="UTF-8"`,
			[]Challenge{{"Basic", "", map[string]string{"realm": "simple", "charset": "UTF-8"}}},
		},
		// The field of RFC 9110, 11.6.1.
		{
			`Basic realm="simple", Newauth realm="apps", type=1, title="Login to \"apps\""`,
			[]Challenge{
				{"Basic", "", map[string]string{"realm": "simple"}},
				{"Newauth", "", map[string]string{"realm": "apps", "type": "1", "title": `Login to "apps"`}},
			},
		},
		{
			`Negotiate, NTLM TlRMTVNTUAACAAAA==, Bearer`,
			[]Challenge{
				{"Negotiate", "", map[string]string{}},
				{"NTLM", "TlRMTVNTUAACAAAA==", map[string]string{}},
				{"Bearer", "", map[string]string{}},
			},
		},
		{
			`, , Bearer error="invalid_token", scope = "a b"`,
			[]Challenge{{"Bearer", "", map[string]string{"error": "invalid_token", "scope": "a b"}}},
		},
		{
			`Bearer authorization_uri=https://login.example/x, realm=""`,
			[]Challenge{{
				"Bearer", "",
				map[string]string{"authorization_uri": "https://login.example/x", "realm": ""},
			}},
		},
		{`Basic realm="open`, []Challenge{{"Basic", "", map[string]string{}}}},
		{``, nil},
		{`"x"`, nil},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, Challenges(401, http.Header{"Www-Authenticate": {c.field}}), c.field)
	}
	assert.NotNil(t, Asks(Challenges(407, http.Header{"Proxy-Authenticate": {"Basic"}}), "basic"))
}

func FuzzChallenges(f *testing.F) {
	f.Add(`Basic realm="simple", Newauth realm="apps", type=1, NTLM abc==`)
	f.Fuzz(func(t *testing.T, field string) {
		for _, c := range readChallenges(field) {
			if c.Scheme == "" || strings.ContainsAny(c.Scheme, " \",") {
				t.Errorf("%q", c.Scheme)
			}
		}
	})
}

// Parameters sorted and encoded as RFC 5849, 3.4.1.3.2, has them.
func TestSortedQuery(t *testing.T) {
	got, err := sortedQuery("b5=%3D%253D&a3=a&c%40=&a2=r%20b&c2&a3=2+q")
	require.NoError(t, err)
	assert.Equal(t, "a2=r%20b&a3=2%20q&a3=a&b5=%3D%253D&c%40=&c2=", got)
	_, err = sortedQuery("a=%zz")
	assert.ErrorContains(t, err, "not percent-encoded")
	assert.Equal(t, "~-._%20%2B%2F%C3%A4", escape3986("~-._ +/ä"))
}

// The hash of an access token that a proof repeats (RFC 9449, 4.2 and 7.1).
func TestAccessTokenHash(t *testing.T) {
	sum := sha256.Sum256([]byte("Kz~8mXK1EalYznwH-LC-1fBAo.4Ljp~zsPE_NeO.gxU"))
	assert.Equal(t, "fUHyO2r2Z3DZ53EsNrWBb0xWXoaNy59IiKCAqksmQEo", base64.RawURLEncoding.EncodeToString(sum[:]))
}

// The keyed hashes of RFC 4231, 4.3, and RFC 2202, 2 and 3, through a login that
// signs just that text.
func TestHMACVectors(t *testing.T) {
	for _, c := range []struct{ hash, encode, key, text, want string }{
		{
			"sha256", "hex", "Jefe", "what do ya want for nothing?",
			"5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
		},
		{
			"sha256", "HEX", "Jefe", "what do ya want for nothing?",
			"5BDCC146BF60754E6A042426089575C75A003F089D2739839DEC58B964EC3843",
		},
		{
			"sha384", "hex", "Jefe", "what do ya want for nothing?",
			"af45d2e376484031617f78d2b58a6b1b9c7ef464f5a01b47e42ec3736322445e8e2240ca5e69e2c78b3239ecfab21649",
		},
		{"sha1", "hex", "Jefe", "what do ya want for nothing?", "effcdf6ae5eb2fa2d27416d5f184df9c259a7c79"},
		{"md5", "hex", "Jefe", "what do ya want for nothing?", "750c783e6ab0b503eaa86e310a5db738"},
		{"md5", "base64", "Jefe", "what do ya want for nothing?", "dQx4PmqwtQPqqG4xCl23OA=="},
		{"md5", "base64url", "Jefe", "what do ya want for nothing?", "dQx4PmqwtQPqqG4xCl23OA"},
	} {
		h := &HMAC{
			Sign: []SignedPart{{What: "text", Name: c.text}}, Hash: c.hash, Encode: c.encode,
			Into: Target{"header", "Signature"},
		}
		u, err := url.Parse("http://127.0.0.1/")
		require.NoError(t, err)
		r := &exchange.Request{Method: "GET", URL: u}
		require.NoError(t, h.Put(r, &Env{}, &Token{material: &hmacState{key: []byte(c.key)}}))
		assert.Equal(t, c.want, r.GetHeader("Signature"), c.hash)
		assert.Equal(t, []string{c.text}, r.Signed)
	}
}

// Every part that can be signed, in the order asked for.
func TestSignedParts(t *testing.T) {
	u, err := url.Parse("https://Courier.example:8443/a%20b/c?z=1&a=%C3%A4&a=b")
	require.NoError(t, err)
	h := &HMAC{
		Join: "|", Hash: "sha256", Encode: "base64", Into: Target{"header", "Authorization"},
		Stamp: &Stamp{Target{"header", "X-Stamp"}, "compact"}, Nonce: &Target{"header", "X-Nonce"},
		ID: &Target{"header", "X-Id"}, Body: &Target{"header", "X-Body"},
		Write: "Hive ${id}:${signature};${stamp};${nonce}",
	}
	for _, text := range []string{
		"method", "scheme", "host", "path", "target", "query", "sorted query", "address",
		"stamp", "key id", "body", "body hash", "header Content-Type", "named header Content-Type", "parameter z",
		"text v1",
	} {
		part, err := ParseSignedPart(text)
		require.NoError(t, err)
		h.Sign = append(h.Sign, part)
	}
	r := &exchange.Request{
		Method: "POST", URL: u, Body: []byte("lots"),
		Header: http.Header{"Content-Type": {"text/plain"}},
	}
	now := time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC)
	require.NoError(t, h.Put(r, &Env{Now: func() time.Time { return now }},
		&Token{material: &hmacState{key: []byte("k"), id: "bee"}}))
	parts := strings.Split(r.Signed[0], "|")
	assert.Equal(t, []string{
		"POST", "https", "courier.example:8443", "/a%20b/c", "/a%20b/c?z=1&a=%C3%A4&a=b", "z=1&a=%C3%A4&a=b",
		"a=%C3%A4&a=b&z=1", "https://Courier.example:8443/a%20b/c?z=1&a=%C3%A4&a=b",
		"20260901T080000Z", "bee", "lots", r.GetHeader("X-Body"), "text/plain", "content-type:text/plain", "1", "v1",
	}, parts)
	assert.Regexp(t, `^Hive bee:[\w+/=]+;20260901T080000Z;`+r.GetHeader("X-Nonce")+`$`, r.GetHeader("Authorization"))
	assert.Equal(t, "20260901T080000Z", r.GetHeader("X-Stamp"))
	for form, want := range map[string]string{
		"": "1788249600", "milliseconds": "1788249600000",
		"date and time": "2026-09-01T08:00:00Z", "http": "Tue, 01 Sep 2026 08:00:00 GMT",
	} {
		assert.Equal(t, want, formatStamp(form, now))
	}
}

// The tokens and keys of RFC 7515, A.1 and A.3, and what makes a token bad.
func TestCheckJWT(t *testing.T) {
	const payload = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ"
	const shared = "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9." + payload +
		".dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	const curve = "eyJhbGciOiJFUzI1NiJ9." + payload +
		".DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
	set, err := keys.ReadJWKs([]byte(`{"keys": [
		{"kty":"oct","kid":"s","k":"AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow"},
		{"kty":"EC","crv":"P-256","alg":"ES256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}]}`))
	require.NoError(t, err)
	now := time.Unix(1300819300, 0)
	signed := func(header map[string]any, claims jwt.MapClaims) string {
		text, err := sign("HS256", header, claims, set[0].Public)
		require.NoError(t, err)
		return text
	}
	for _, c := range []struct {
		name, token, issuer string
		now                 time.Time
		good                bool
		says                string
	}{
		{"shared", shared, "joe", now, true, "fits the issuer's key  (HS256)"},
		{"curve", curve, "", now, true, "(ES256)"},
		{"expired", curve, "", now.Add(time.Hour), false, "it expired 58m40s ago"},
		{"of another issuer", curve, "jim", now, false, `it says "joe", not "jim"`},
		{
			"not yet", signed(nil, jwt.MapClaims{"nbf": now.Add(time.Minute).Unix()}), "", now, false,
			"not good before 1m0s from now",
		},
		{"changed", curve[:len(curve)-4] + "AAAA", "", now, false, "the signature does not fit"},
		{"not signed", "eyJhbGciOiJub25lIn0." + payload + ".x", "", now, false, "the token is not signed"},
		{"an unheard-of algorithm", "eyJhbGciOiJYUzI1NiJ9." + payload + ".x", "", now, false, "not known here"},
		{"by another key", signed(map[string]any{"kid": "elsewhere"}, jwt.MapClaims{}), "", now, false, ""},
	} {
		standing := checkJWT(c.token, set, c.issuer, c.now)
		assert.Equal(t, c.good, standing.Good && c.good, c.name)
		assert.Contains(t, standing.Said+strings.Join(standing.Also, "; "), c.says, c.name)
	}
	for algorithm, key := range map[string]any{"RS256": set[1].Public, "nothing": set[0].Public} {
		_, err := sign(algorithm, nil, jwt.MapClaims{}, key)
		assert.Error(t, err, algorithm)
	}
}

// The examples of RFC 5849, 1.2 and 3.4.1.1, and a token in the header of an envelope.
func TestOAuth1Vectors(t *testing.T) {
	ask := func(method, address, contentType, body string) *exchange.Request {
		at, err := url.Parse(address)
		require.NoError(t, err)
		r := &exchange.Request{Method: method, URL: at, Body: []byte(body)}
		if contentType != "" {
			r.SetHeader("Content-Type", contentType)
		}
		return r
	}
	const form = "application/x-www-form-urlencoded"
	base, err := oauth1Base(ask("POST", "http://example.com:80/request?b5=%3D%253D&a3=a&c%40=&a2=r%20b", form, "c2&a3=2+q"),
		[][2]string{
			{"oauth_consumer_key", "9djdj82h48djs9d2"},
			{"oauth_token", "kkk9d7dh3k39sjv7"},
			{"oauth_signature_method", "HMAC-SHA1"},
			{"oauth_timestamp", "137131201"},
			{"oauth_nonce", "7d8f3e4a"},
		})
	require.NoError(t, err)
	assert.Equal(t, "POST&http%3A%2F%2Fexample.com%2Frequest&a2%3Dr%2520b%26a3%3D2%2520q%26a3%3Da%26b5%3D%253D%25253D%26c%2540"+
		"%3D%26c2%3D%26oauth_consumer_key%3D9djdj82h48djs9d2%26oauth_nonce%3D7d8f3e4a%26oauth_signature_method%3DHMAC-SHA1"+
		"%26oauth_timestamp%3D137131201%26oauth_token%3Dkkk9d7dh3k39sjv7", base)
	for _, c := range []struct {
		name, method, address, token, secret, stamp, nonce, more, value, want string
	}{
		{
			"a token", "POST", "https://photos.example.net/token", "hh5s93j4hdidpola", "hdhd0244k9j7ao03", "137131201", "walatlh",
			"oauth_verifier", "hfdp7dh39dks9884", "gKgrFCywp7rO0OXSjdot/IHF7IU=",
		},
		{
			"a picture", "GET", "http://photos.example.net/photos?file=vacation.jpg&size=original", "nnch734d00sl2jdk",
			"pfkkdhi9sl3r4s00", "137131202", "chapoH", "", "", "MdpQcU8iPSUjWoN/UDMsK2sui9I=",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			own := [][2]string{
				{"oauth_consumer_key", "dpf43f3p2l4k3l03"},
				{"oauth_signature_method", "HMAC-SHA1"},
				{"oauth_timestamp", c.stamp},
				{"oauth_nonce", c.nonce},
			}
			for _, p := range [][2]string{{"oauth_token", c.token}, {c.more, c.value}} {
				if p[1] != "" {
					own = append(own, p)
				}
			}
			base, err := oauth1Base(ask(c.method, c.address, "", ""), own)
			require.NoError(t, err)
			got, err := (&OAuth1{Method: "HMAC-SHA1"}).signature(&oauth1State{
				clientSecret: "kd94hf93k423kf44", tokenSecret: c.secret,
			}, base)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
	o := &OAuth1{
		Method: "HMAC-SHA256", Into: "block", Block: "p:passport", Names: map[string]string{"p": "urn:heatherfold:desk"},
		Account: value.Literal("hive 7"),
	}
	r := ask("POST", "http://desk.example/", "text/xml",
		`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><a/></e:Body></e:Envelope>`)
	token := &Token{material: &oauth1State{client: "c/1", clientSecret: "s", token: "t", tokenSecret: "u"}}
	require.NoError(t, o.Put(r, &Env{}, token))
	root, err := document.ReadXML(r.Body, "")
	require.NoError(t, err)
	block := root.Child("Header").Child("passport")
	require.NotNil(t, block, string(r.Body))
	require.Len(t, r.Signed, 1)
	parts := strings.Split(r.Signed[0], "&")
	require.Len(t, parts, 5)
	assert.Equal(t, []string{"hive%207", "c%2F1", "t"}, parts[:3])
	for i, name := range []string{"account", "consumerKey", "token", "nonce", "timestamp"} {
		assert.Equal(t, "urn:heatherfold:desk", block.Child(name).Name().Space)
		assert.Equal(t, parts[i], escape3986(block.Child(name).OwnText()), name)
	}
	mac := hmac.New(sha256.New, []byte("s&u"))
	mac.Write([]byte(r.Signed[0]))
	assert.Equal(t, base64.StdEncoding.EncodeToString(mac.Sum(nil)), block.Child("signature").OwnText())
	algorithm, _ := block.Child("signature").Attribute("algorithm")
	assert.Equal(t, "HMAC-SHA256", algorithm)
}

// A signature covers the length of the body, which goes along without being asked for (RFC 9421, 2.1).
func TestSignedLength(t *testing.T) {
	length, err := httpsign.ParseComponent("content-length")
	require.NoError(t, err)
	for _, c := range []struct {
		method, body, want string // what is signed of the length; empty for a refusal
	}{
		{"POST", "honey", `"content-length": 5`}, {"PUT", "", `"content-length": 0`}, {"GET", "", ""},
	} {
		at, err := url.Parse("http://desk.example/")
		require.NoError(t, err)
		r := &exchange.Request{Method: c.method, URL: at, Body: []byte(c.body)}
		h := &HTTPSignature{Cover: []httpsign.Component{length}, Label: "sig1"}
		err = h.Put(r, &Env{}, &Token{material: &signatureState{key: []byte("comb")}})
		if c.want == "" {
			assert.ErrorContains(t, err, "content-length")
			continue
		}
		require.NoError(t, err)
		assert.Contains(t, r.Signed[0], c.want)
		assert.Empty(t, r.GetHeader("Content-Length"), "the connection sends it")
	}
}
