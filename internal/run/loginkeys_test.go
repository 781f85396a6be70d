package run_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/callstep"
	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
	"testbench/internal/step"
	"testbench/internal/vet"
)

// issuing is a server that takes every credential, gives tokens and writes down what it is
// asked, but for what is made by chance.
type issuing struct {
	mutex sync.Mutex
	seen  []string
}

// byChance are texts that are another one each time: keys, signatures, random words.
var byChance = regexp.MustCompile(
	`oauth_(?:signature|nonce)=[^,& ]+|eyJ[A-Za-z0-9_-]+|[A-Za-z0-9+/_-]{20,}={0,2}|\b[a-z]+-[A-Za-z0-9]{12}\b|127\.0\.0\.1:\d+`)

// lasting is a text without what is made by chance; of that stays how long it is, and of a
// signed token its head.
func lasting(text string) string {
	return byChance.ReplaceAllStringFunc(text, func(m string) string {
		if head, err := base64.RawURLEncoding.DecodeString(m); err == nil && strings.Contains(string(head), `"alg":`) &&
			!strings.Contains(string(head), "jwk") {
			return string(head)
		}
		if name, _, isParameter := strings.Cut(m, "="); isParameter && strings.HasPrefix(name, "oauth_") {
			return name + "=…" // how long it is escaped differs, too
		}
		return fmt.Sprintf("(%d)", len(m))
	})
}

func (i *issuing) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	var head []string
	for _, name := range slices.Sorted(maps.Keys(r.Header)) {
		head = append(head, fmt.Sprintf("%s: %v", name, r.Header[name]))
	}
	i.mutex.Lock()
	i.seen = append(i.seen, lasting(fmt.Sprintf("%s %s %v %s", r.Method, r.RequestURI, head, body)))
	i.mutex.Unlock()
	w.Header().Set("Content-Type", "application/json")
	base := "http://" + r.Host
	switch {
	case strings.HasPrefix(r.URL.Path, "/.well-known"), strings.HasSuffix(r.URL.Path, "/openid-configuration"),
		strings.HasSuffix(r.URL.Path, "oauth-authorization-server"):
		_, _ = fmt.Fprintf(w, `{"issuer": "%s", "token_endpoint": "%s/found", "jwks_uri": "%s/jwks", "introspection_endpoint": "%s/introspect"}`, base, base, base, base)
	case strings.HasPrefix(r.URL.Path, "/digest") && r.Header.Get("Authorization") == "":
		w.Header().Set("WWW-Authenticate", `Digest realm="r", nonce="n", qop="auth"`)
		w.WriteHeader(http.StatusUnauthorized)
	case strings.HasPrefix(r.URL.Path, "/word"):
		w.Header().Set("Word", "w1")
	case strings.HasPrefix(r.URL.Path, "/tokens"):
		w.Header().Set("Content-Type", "application/soap+xml")
		_, _ = io.WriteString(w,
			`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body><t:RequestSecurityTokenResponse xmlns:t="http://docs.oasis-open.org/ws-sx/ws-trust/200512"><t:RequestedSecurityToken><Assertion xmlns="urn:oasis:names:tc:SAML:2.0:assertion" ID="a" Version="2.0"/></t:RequestedSecurityToken></t:RequestSecurityTokenResponse></s:Body></s:Envelope>`)
	case strings.HasPrefix(r.URL.Path, "/soap"):
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><r/></s:Body></s:Envelope>`)
	default:
		_, _ = io.WriteString(w,
			`{"access_token": "eyJhbGciOiJSUzI1NiJ9.eyJzdWIiOiJjIn0.AAAA", "token_type": "Bearer", "expires_in": 600, "active": true, "keys": [], "token": "t2", "seconds": 60}`)
	}
}

func (i *issuing) take() []string {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	seen := i.seen
	i.seen = nil
	return seen
}

// loginCase is a kind of login as it is used, and what its other keys are written like.
type loginCase struct {
	kind    string
	target  string // where it is used; /echo unless said
	soap    bool
	base    map[string]string // key: value, as YAML after the colon
	more    map[string]string
	beside  map[string]map[string]string // of a key: what else is there, with it and without
	instead map[string][]string          // of a key: keys of the base that it replaces
}

// provedBy names the test that shows the effect of a key where a server that takes every
// credential cannot.
var provedBy = map[string]string{
	"kerberos": "TestApacheLogins", "ntlm": "TestNTLM", "certificate": "TestNginxTLS",
	"oauth1 temporary": "TestOAuth1ByOauthlib", "oauth1 authorize": "TestOAuth1ByOauthlib",
	"oauth1 from": "TestOAuth1ByOauthlib", "oauth1 redirect": "TestOAuth1ByOauthlib",
	"oauth1 block": "TestOAuth1Vectors", "oauth1 account": "TestOAuth1Vectors", "oauth1 names": "TestOAuth1Vectors",
	"oauth1 password": "TestIssuerClients", "jwt password": "TestIssuerClients", "jwt certificate": "TestRequestJWT", "jwt expires in": "TestRequestJWT",
	"oauth2 certificate as": "TestRequestJWT",
	"oauth2 authorize":      "TestIssuerPersons", "oauth2 redirect": "TestIssuerPersons",
	"oauth2 signed request": "TestIssuerPersons", "oauth2 signed answer": "TestIssuerPersons",
	"oauth2 device": "TestIssuerPersons", "oauth2 certificate": "TestIssuerClients",
	"oauth2 key password": "TestIssuerClients", "hmac key is": "TestHMACVectors",
	"http signature password": "TestIssuerClients", "signature password": "TestIssuerClients",
	"http signature answers": "TestProtectedAnswers", "signature answers": "TestProtectedAnswers",
	"signature inclusive": "TestSignAndVerify", "signature key from": "TestTrust",
	"signature derived keys": "TestTrust", "http signature algorithm": "TestAgainstNode",
	"session expires in": "TestSession",
	"hmac canonical":     "TestDerivedKeysByALibrary", "hmac headers": "TestDerivedKeysByALibrary",
	"hmac derive": "TestDerivedKeysByALibrary",
	"hmac hash":   "TestHMACVectors", "hmac encode": "TestHMACVectors", "hmac join": "TestSignedParts",
	"http signature certificate": "TestProtectedAnswers",
}

var loginCases = []loginCase{
	{kind: "basic", base: map[string]string{"user": "clerk", "password": "${sealed.clerk}"}},
	{kind: "bearer", base: map[string]string{"token": "${sealed.clerk}"}},
	{
		kind: "key", base: map[string]string{"key": "${sealed.clerk}", "header": "X-Key"},
		more:    map[string]string{"query": "k", "cookie": "k", "scheme": "Key"},
		instead: map[string][]string{"query": {"header"}, "cookie": {"header"}},
	},
	{kind: "digest", target: "/digest", base: map[string]string{"user": "clerk", "password": "${sealed.clerk}"}},
	{
		kind: "oauth1", base: map[string]string{"client": "c", "client secret": "${sealed.clerk}"},
		more: map[string]string{
			"token": "${sealed.press}", "token secret": "${sealed.press}", "method": "HMAC-SHA256", "into": "query",
			"key": "${sealed.bryony_key}", "realm": "hives", "body hash": "true",
		},
		beside: map[string]map[string]string{
			"token": {"token secret": "${sealed.press}"}, "token secret": {"token": "${sealed.press}"},
			"key": {"method": "RSA-SHA1"},
		},
		instead: map[string][]string{"key": {"client secret"}},
	},
	{
		kind: "oauth2", base: map[string]string{
			"from": "${base}/token", "client": "c",
			"client secret": "${sealed.clerk}",
		},
		more: map[string]string{
			"grant": "password", "issuer": "${base}", "introspection": "${base}/introspect2",
			"revocation": "${base}/revoke", "keys": "${base}/keys", "client authentication": "form",
			"key": "${sealed.bryony_key}", "key id": "k1", "algorithm": "RS512", "user": "u",
			"password": "${sealed.clerk}", "refresh token": "${sealed.clerk}", "assertion": "${sealed.clerk}",
			"claims": "{role: a}", "subject": "{token: \"${sealed.clerk}\"}", "actor": "{token: \"${sealed.clerk}\"}",
			"requested": "jwt", "scope": "a b", "audience": "aud", "resource": "urn:r",
			"details": "[{type: lots, actions: [read]}]",
			"extra":   "{x: y}", "proof": "dpop", "revoke": "revoke", "send": "{header: X-Token}",
		},
		beside: map[string]map[string]string{
			"user":     {"grant": "password", "password": "${sealed.clerk}"},
			"password": {"grant": "password", "user": "u"}, "grant": {"user!": "u", "password!": "${sealed.clerk}"},
			"refresh token": {"grant": "refresh"}, "assertion": {"grant": "saml bearer"},
			"claims": {"grant": "jwt bearer"}, "subject": {"grant": "token exchange"},
			"actor":     {"grant": "token exchange", "subject": "{token: \"${sealed.clerk}\"}"},
			"requested": {"grant": "token exchange", "subject": "{token: \"${sealed.clerk}\"}"},
			"revoke":    {"revocation": "${base}/revoke"}, "revocation": {"revoke": "revoke"},
			"key":       {"client authentication": "private key jwt"},
			"key id":    {"client authentication": "private key jwt", "key": "${sealed.bryony_key}", "verify": ""},
			"algorithm": {"client authentication": "private key jwt", "key": "${sealed.bryony_key}"},
		},
	},
	{
		kind: "login call", base: map[string]string{"request": "POST ${base}/ask", "token path": "token"},
		more: map[string]string{
			"expires in": "seconds s", "send": "{header: X-Token}", "encode": "base64", "token": "of ${answer.token}",
			"still good": "GET ${base}/good", "revoke": "DELETE ${base}/back", "login": "other",
			"headers": "{X-Of: us}", "query": "{of: us}", "form": "{of: us}", "body": "{of: us}", "text": "of us",
			"cookies": "{of: us}", "user": "clerk", "password": "${sealed.clerk}",
		},
		instead: map[string][]string{"token": {"token path"}},
		beside: map[string]map[string]string{
			"user": {"password": "${sealed.clerk}"}, "password": {"user": "u"},
		},
	},
	{
		kind: "session", base: map[string]string{"open": "POST ${base}/open"},
		more: map[string]string{
			"with": "other", "repeat": "{header: Word, request: \"GET ${base}/word\"}",
			"close": "DELETE ${base}/open",
		},
	},
	{
		kind: "hmac", base: map[string]string{
			"sign": "[method, path]", "key": "${sealed.clerk}",
			"into": "query Signature",
		},
		more: map[string]string{
			"key id": "k1", "id": "header X-Id", "write": "v1 ${signature}",
			"stamp": "header X-Stamp", "stamp as": "compact", "nonce": "header X-Nonce", "body hash": "header X-Hash",
			"body hash as": "sha1 hex",
		},
		beside: map[string]map[string]string{
			"body hash as": {"body hash": "header X-Hash"},
			"key id":       {"id": "header X-Id"}, "id": {"key id": "k1"},
			"stamp as": {"stamp": "header X-Stamp"},
		},
	},
	{
		kind: "jwt", base: map[string]string{"shared key": "${sealed.courier}"},
		more: map[string]string{
			"key": "${sealed.bryony_key}", "key id": "k1", "algorithm": "HS512", "claims": "{iss: desk}",
			"request claims": "{digest: body hash sha256 hex}", "expires in": "9 min", "send": "{header: X-Token}",
			"certificate as": "x5t",
		},
		beside: map[string]map[string]string{
			"certificate as": {"certificate": "certs/bryony.pem", "key": "${sealed.bryony_key}"},
		},
		instead: map[string][]string{"key": {"shared key"}, "certificate as": {"shared key"}},
	},
	{
		kind: "http signature", base: map[string]string{"cover": "[\"@method\"]", "shared key": "${sealed.courier}"},
		more: map[string]string{
			"key": "${sealed.bryony_key}", "key id": "k1", "algorithm": "hmac-sha256",
			"names algorithm": "true", "label": "mine", "expires in": "5 min", "nonce": "true", "tag": "a",
			"digest": "sha-512",
		},
		beside: map[string]map[string]string{
			"algorithm": {"names algorithm": "true"},
			"digest":    {"cover": "[\"@method\", content-digest]"},
		},
		instead: map[string][]string{"key": {"shared key"}},
	},
	{
		kind: "username token", soap: true, base: map[string]string{"user": "lab", "password": "${sealed.lab}"},
		more: map[string]string{"digest": "true", "nonce": "true", "stamp": "5 min", "actor": "urn:auditor"},
	},
	{
		kind: "signature", soap: true,
		base: map[string]string{"certificate": "certs/bryony.pem", "key": "${sealed.bryony_key}"},
		more: map[string]string{
			"sign": "[time stamp]", "reference": "thumbprint", "algorithm": "rsa-sha512",
			"digest": "sha1", "stamp": "none", "encrypt": "{for: certs/lab.pem}", "actor": "urn:auditor",
		},
	},
	{
		kind: "ws-trust", soap: true, base: map[string]string{"address": "${base}/tokens"},
		more: map[string]string{
			"login": "other", "version": "2005", "token type": "saml 1.1", "key type": "shared",
			"applies to": "${base}/soap", "on behalf of": "roster", "certificate": "certs/bryony.pem", "soap": "1.1",
			"actor": "urn:auditor",
		},
		beside: map[string]map[string]string{"certificate": {"key type!": "public"}},
	},
	{
		kind: "saml", soap: true, base: map[string]string{"assertion": "assertion.xml"},
		more:    map[string]string{"stamp": "5 min", "from": "other", "actor": "urn:auditor"},
		instead: map[string][]string{"from": {"assertion"}},
	},
}

func (c *loginCase) yaml(keys map[string]string) string {
	var out strings.Builder
	for _, name := range slices.Sorted(maps.Keys(keys)) {
		out.WriteString("    " + name + ": " + yamlScalar(keys[name]) + "\n")
	}
	return out.String()
}

func yamlScalar(text string) string {
	if strings.HasPrefix(text, "[") || strings.HasPrefix(text, "{") {
		return text
	}
	return fmt.Sprintf("%q", text)
}

// observe makes a call with a login, verifies its token, closes the session, and gives all
// that could be seen.
func (c *loginCase) observe(t *testing.T, dir string, service *issuing, base string, keys map[string]string) string {
	t.Helper()
	target := c.target
	if target == "" {
		target = "/echo"
	}
	request := "GET ${base}" + target
	text := "bench: b\nsites:\n  one:\n    set:\n      base: " + base +
		`
services:
  s:
    address: ${base}/soap
    soap: 1.1
logins:
  other:
    kind: login call
    request: GET ${base}/other
    token path: token
  roster: {kind: saml, assertion: assertion.xml}
  it:
    kind: ` + c.kind + "\n" + c.yaml(keys)
	bench := bench.Read(dir, "bench.yaml", []byte(text))
	if problems := slices.Concat(bench.Problems().Serious(),
		vet.Bench(bench, vet.Options{}).Serious()); len(problems) > 0 {
		return "mistake: " + problems[0].Message
	}
	session, err := session.NewSession(bench, session.Options{Now: func() time.Time {
		return time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	}, Store: &secret.Store{Environ: func(name string) (string, bool) {
		text, ok := standin.Secrets[strings.ToLower(strings.TrimPrefix(name, "TESTBENCH_SEALED_"))]
		return text, ok
	}}})
	require.NoError(t, err)
	call := callstep.Spec{Target: strings.SplitN(request, " ", 2), Login: "it"}
	if c.soap {
		body := filepath.Join(dir, "payload.xml")
		call = callstep.Spec{Target: []string{"s", "POST", ""}, Login: "it", Body: body}
	}
	prepared, err := callstep.Make(bench, call, vet.Options{})
	require.NoError(t, err)
	result := step.Ask(t.Context(), session, prepared, nil, map[string]*document.Node{})
	said := fmt.Sprintf("%s %s", result.Outcome, result.Reason)
	if token, err := session.Logins.Token(t.Context(), "it"); err == nil {
		said += fmt.Sprintf("\ntoken %s until %s", token.Kind, token.Expires)
		standing, err := session.Logins.Verify(t.Context(), "it", token)
		said += fmt.Sprintf("\nverified %+v %v", standing, err)
	}
	require.NoError(t, session.Close(context.WithoutCancel(t.Context())))
	return lasting(said) + "\n" + strings.Join(service.take(), "\n")
}

// Each key of a kind of login has an effect: what is sent, or what is found wrong, is
// another without it. The tables of the keys say which there are.
func TestEachKeyOfALoginHasAnEffect(t *testing.T) {
	service := &issuing{}
	server := httptest.NewServer(service)
	defer server.Close()
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, server.URL))
	for name, text := range map[string]string{
		"payload.xml":   "<n/>",
		"assertion.xml": `<Assertion xmlns="urn:oasis:names:tc:SAML:2.0:assertion" ID="a" Version="2.0"/>`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	tried := map[string]bool{}
	for _, c := range loginCases {
		tried[c.kind] = true
		for _, name := range login.Mappings()[c.kind] {
			if name == "kind" || provedBy[c.kind+" "+name] != "" {
				continue
			}
			t.Run(c.kind+" "+name, func(t *testing.T) {
				without := maps.Clone(c.base)
				for other, text := range c.beside[name] {
					if !strings.HasSuffix(other, "!") && other != "verify" {
						without[other] = text
					}
				}
				with := maps.Clone(without)
				for other, text := range c.beside[name] {
					if own, only := strings.CutSuffix(other, "!"); only {
						with[own] = text
					}
				}
				text, isMore := c.more[name]
				switch _, isBase := c.base[name]; {
				case isMore:
					with[name] = text
					for _, other := range c.instead[name] {
						delete(with, other)
					}
				case isBase:
					delete(without, name)
				default:
					t.Fatalf("the key has no value that is tried here")
				}
				a := c.observe(t, dir, service, server.URL, without)
				require.Equal(t, a, c.observe(t, dir, service, server.URL, without), "it comes out alike twice")
				b := c.observe(t, dir, service, server.URL, with)
				assert.NotContains(t, b, "mistake:")
				assert.NotEqual(t, a, b)
			})
		}
	}
	tests := allTests(t)
	for _, kind := range login.Kinds() {
		proof := provedBy[kind]
		assert.True(t, tried[kind] || proof != "", "the kind %s is not tried", kind)
	}
	for key, proof := range provedBy {
		assert.Contains(t, tests, "func "+proof+"(", "%s is proved by a test that there is not", key)
	}
}

// allTests is the source of all tests of the program.
func allTests(t *testing.T) string {
	t.Helper()
	var all strings.Builder
	require.NoError(t, filepath.WalkDir("../..", func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, "_test.go") {
			return err
		}
		data, err := os.ReadFile(name)
		all.Write(data)
		return err
	}))
	return all.String()
}
