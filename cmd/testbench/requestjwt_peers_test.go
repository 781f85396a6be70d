//go:build peers

package main_test

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A JWT that is made for each request, with a hash of its body, is verified by PyJWT.
func TestRequestJWT(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	key, private := rsaKey(t)
	made, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "Bryony"}, NotAfter: time.Now().Add(time.Hour),
	}, &x509.Certificate{Subject: pkix.Name{CommonName: "Bryony"}}, &key.PublicKey, key)
	require.NoError(t, err)
	p.write("certs/key.pem", private)
	p.write("certs/own.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made})))
	p.write("data/lot.json", `{"lot": "L-1 äö"}`)
	const shared = "heather and linden and clover 41"
	port := freePort(t)
	serve(t, port, "/usr/bin/python3", "testdata/python/jwts.py", port, filepath.Join(p.dir, "certs/own.pem"), shared)
	p.env = append(p.env, "TESTBENCH_SEALED_SHARED="+shared)
	const claims = "    claims: {desk: {number: 7, open: true, names: [a, b]}}\n" +
		"    request claims: {digest: body hash sha256 hex, htm: method, target: target}\n"
	p.write("bench.yaml", "bench: b\nsites: {here: {}}\nservices:\n  hives: {address: \"http://127.0.0.1:"+port+"\"}\nlogins:\n"+
		"  rsa:\n    kind: jwt\n    key: certs/key.pem\n    certificate: certs/own.pem\n    certificate as: x5t#S256\n    key id: k1\n"+claims+
		"  pss:\n    kind: jwt\n    key: certs/key.pem\n    certificate: certs/own.pem\n    certificate as: x5c\n    algorithm: PS384\n"+claims+
		"  old:\n    kind: jwt\n    key: certs/key.pem\n    certificate: certs/own.pem\n    certificate as: x5t\n"+claims+
		"  shared:\n    kind: jwt\n    shared key: ${sealed.shared}\n    expires in: 9 min\n    send: {header: X-Desk-Token}\n"+claims)
	for login, says := range map[string]string{
		"rsa": "RS256\n[\"x5t#S256\"]\n", "pss": "PS384\n[\"x5c\"]\n", "old": "RS256\n[\"x5t\"]\n", "shared": "HS256\n[]\n",
	} {
		for _, args := range [][]string{{"GET", "/lots?a=b%20c"}, {"POST", "/lots", "-body", "data/lot.json"}} {
			call := append([]string{"call", "hives"}, args...)
			o := p.run(append(call, "-login", login, "-quiet", "-pick", "alg", "-pick", "named", "-pick", "desk", "-pick", "life")...)
			require.Equal(t, 0, o.status, "%s %v: %s", login, args, o.all())
			assert.Equal(t, says+`{"number":7,"open":true,"names":["a","b"]}`+"\n"+
				map[bool]string{true: "540", false: "120"}[login == "shared"]+"\n", o.stdout, login)
			for _, way := range []string{"tampered", "expired", "empty"} {
				assert.Equal(t, 1, p.run(append(call, "-login", login, "-spoil", way)...).status, "%s %s", login, way)
			}
		}
	}
}
