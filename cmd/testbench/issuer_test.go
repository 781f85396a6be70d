//go:build peers

package main_test

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const issuerSecret = "comb & nectar/77 with more than 32 letters"

// newIssuer starts the authorization server and a bench with a login for each of
// its grants and each way of a client to prove itself.
func newIssuer(t *testing.T) (p *place, ca []byte) {
	t.Helper()
	port := freePort(t)
	peersDir, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	p = newPlace(t)
	authority := newCertificates(t)
	serverCertificate, serverKey := authority.issue(t, "localhost")
	clientCertificate, clientKey := authority.issue(t, "bryony")
	for name, text := range map[string]string{
		"ca.pem": authority.pem, "server.pem": serverCertificate,
		"server-key.pem": serverKey, "client.pem": clientCertificate, "client-key.pem": clientKey,
	} {
		p.write("certs/"+name, text)
	}
	serve(t, port, "node", "testdata/node/issuer.mjs", port, peersDir, filepath.Join(p.dir, "certs"))
	p.env = append(p.env, "TESTBENCH_SEALED_SECRET="+issuerSecret, "TESTBENCH_SEALED_WRONG=wrong secret, wrong")
	login := func(name, client, more string) string {
		return "  " + name + ":\n    kind: oauth2\n    issuer: ${base}\n    client: " + client +
			"\n    scope: honey\n" + more
	}
	const secret = "    client secret: ${sealed.secret}\n"
	p.write("bench.yaml", "bench: issuer\nsites:\n  local:\n    set:\n      word: grade\n      base: https://localhost:"+port+
		"\n    tls:\n      ca: certs/ca.pem\nservices:\n  me:\n    address: ${base}\nlogins:\n"+
		login("basic", "basic", secret)+
		login("form", "form", secret+"    client authentication: form\n")+
		login("secret_jwt", "secret jwt", secret+"    client authentication: client secret jwt\n")+
		login("key_jwt", "key jwt",
			"    client authentication: private key jwt\n    key: certs/client-key.pem\n    key id: one\n")+
		login("key_jwt_pss", "key jwt",
			"    client authentication: private key jwt\n    key: certs/client-key.pem\n    algorithm: ES256\n")+
		login("certificate", "certificate",
			"    client authentication: certificate\n    certificate: certs/client.pem\n    key: certs/client-key.pem\n")+
		login("proven", "proven", secret+"    proof: dpop\n")+
		login("unproven", "proven", secret)+
		login("for_stores", "basic", secret+"    resource: https://stores.heatherfold.example/\n")+
		login("for_nobody", "basic", secret+"    resource: https://nobody.heatherfold.example/\n")+
		login("wrong", "basic", "    client secret: ${sealed.wrong}\n")+
		login("revoked", "basic", secret+"    revoke: revoke\n")+
		login("swap", "swap", secret+"    grant: token exchange\n    subject:\n      login: basic\n")+
		`  signing:
    kind: oauth2
    grant: authorization code
    issuer: ${base}
    client: signing
    client authentication: private key jwt
    key: certs/client-key.pem
    key id: one
    scope: openid offline_access honey
    signed request: true
    signed answer: true
    resource: https://stores.heatherfold.example/
    details: [{type: lots, actions: [read, "${word}"]}]
  unsigned: {kind: oauth2, grant: authorization code, issuer: "${base}", client: signing, client authentication: private key jwt, key: certs/client-key.pem, scope: openid}
  phone:
    kind: oauth2
    grant: authorization code
    issuer: ${base}
    client: phone
    scope: openid offline_access honey
`+
		`  scales:
    kind: oauth2
    grant: device
    issuer: ${base}
    client: scales
    scope: openid offline_access honey
`)
	return p, []byte(authority.pem)
}

// Every way of a client to prove itself is let in, and the server that gave the
// token says that it is good.
func TestIssuerClients(t *testing.T) {
	t.Parallel()
	p, _ := newIssuer(t)
	for _, name := range []string{
		"basic", "form", "secret_jwt", "key_jwt", "key_jwt_pss", "certificate", "proven",
		"for_stores", "swap", "revoked",
	} {
		o := p.run("token", name, "-verify")
		assert.Equal(t, 0, o.status, "%s: %s", name, o.all())
		if name != "for_stores" { // a JWT, which this server does not introspect
			assert.Contains(t, o.stdout, "the issuer says the token is good", name)
		}
		assert.NotContains(t, o.all(), issuerSecret)
	}
	o := p.run("token", "for_stores", "-verify")
	assert.Contains(t, o.stdout, "the signature fits the issuer's key")
	assert.Contains(t, o.stdout, "aud        stores")
	o = p.run("token", "for_stores", "-spoil", "tampered")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "the signature does not fit")
	o = p.run("token", "proven")
	assert.Contains(t, o.stdout, "kind       DPoP")
	for name, message := range map[string]string{
		"wrong": "refused with 401 invalid_client", "unproven": "refused with 400 invalid_grant",
		"for_nobody": "refused with 400 invalid_target",
	} {
		o := p.run("token", name)
		assert.Equal(t, 3, o.status, "%s: %s", name, o.all())
		assert.Contains(t, o.stderr, message)
	}
}

var (
	formAction  = regexp.MustCompile(`(?s)<form[^>]*action="([^"]*)"(.*?)</form>`)
	hiddenField = regexp.MustCompile(`<input[^>]*type="hidden"[^>]*name="([^"]*)"[^>]*value="([^"]*)"`)
)

// browse opens a page and agrees to whatever it asks, until it leads away from
// the issuer or has nothing more to ask.
func browse(t *testing.T, ca []byte, address string) string {
	t.Helper()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(ca)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	client := &http.Client{
		Jar: jar, Timeout: 10 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}},
	}
	answer, err := client.Get(address)
	require.NoError(t, err)
	for range 8 {
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		_ = answer.Body.Close()
		form := formAction.FindStringSubmatch(string(body))
		if form == nil {
			return string(body)
		}
		fields := url.Values{"login": {"bryony"}, "password": {"anything"}}
		for _, hidden := range hiddenField.FindAllStringSubmatch(form[2], -1) {
			fields.Set(hidden[1], hidden[2])
		}
		if strings.Contains(form[2], "user_code") && fields.Get("user_code") == "" {
			fields.Set("user_code", answer.Request.URL.Query().Get("user_code"))
		}
		action, err := answer.Request.URL.Parse(strings.ReplaceAll(form[1], "&amp;", "&"))
		require.NoError(t, err)
		answer, err = client.PostForm(action.String(), fields)
		require.NoError(t, err)
	}
	t.Fatal("the pages go on for ever")
	return ""
}

// Somebody agrees in a browser, or types a code in; the token is kept sealed for
// the next command, which asks nobody, and renewed by its refresh token.
func TestIssuerPersons(t *testing.T) {
	t.Parallel()
	p, ca := newIssuer(t)
	// An identity is what tokens are kept by.
	p.stdin = "anything"
	require.Equal(t, 0, p.run("secret", "set", "other").status)
	for _, name := range []string{"phone", "scales"} {
		o := p.agreeing(func(address string, _ *os.Process) { browse(t, ca, address) }, "token", name, "-verify")
		require.Equal(t, 0, o.status, o.all())
		assert.Contains(t, o.stdout, "renewal    by a refresh token", o.all())
		assert.Contains(t, o.stdout, "identity token")
		again := p.run("token", name)
		assert.Equal(t, 0, again.status, again.all())
		assert.Contains(t, again.stdout, "by an earlier command")
		assert.Equal(t, 0, p.run("token", name, "-forget").status)
	}
	// What is asked for is signed, in parts, and what comes back is signed too (RFC 9101, RFC 9396).
	o := p.agreeing(func(address string, _ *os.Process) { browse(t, ca, address) }, "token", "signing", "-verify", "-json")
	require.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "grade")
	o = p.run("token", "unsigned")
	assert.Equal(t, 3, o.status, o.all())
	assert.Contains(t, o.all(), "request")
}
