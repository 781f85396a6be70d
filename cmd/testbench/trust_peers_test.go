//go:build peers

package main_test

import (
	"bufio"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"
)

// javaService compiles and starts a program of testdata/java that prints its port, with a key of its own in service.p12. The
// libraries are named without .jar.
func javaService(t *testing.T, program string, libraries ...string) (base string) {
	t.Helper()
	dir := t.TempDir()
	key, _ := rsaKey(t)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(77), Subject: pkix.Name{CommonName: "tokens"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	raw, err := x509.CreateCertificate(nil, template, template, key.Public(), key)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	store, err := pkcs12.Modern.Encode(key, certificate, nil, "heather")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "service.p12"), store, 0o600))
	for i, name := range libraries {
		libraries[i] = "/usr/share/java/" + name + ".jar"
	}
	path := strings.Join(libraries, ":")
	// One of the toolkits reads no class files of later versions.
	compiler := exec.Command("javac", "-nowarn", "-Xlint:-options", "-g", "--release", "8", "-cp", path, "-d", dir,
		"testdata/java/"+program+".java")
	output, err := compiler.CombinedOutput()
	require.NoError(t, err, "%s", output)
	command := exec.Command("java", "-cp", path+":"+dir, program, dir)
	command.Stderr = os.Stderr
	in, err := command.StdinPipe()
	require.NoError(t, err)
	out, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	t.Cleanup(func() {
		_ = in.Close()
		_ = command.Wait()
	})
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return "http://127.0.0.1:" + strings.TrimSpace(port)
}

// A security token service by others gives each kind of token, and a service takes it: assertions of both versions
// that are proved by nothing, by a public key and by a shared one, and security contexts whose keys sign and encrypt.
func TestTrust(t *testing.T) {
	t.Parallel()
	base := javaService(t, "TokenService", "wss4j", "xmlsec", "commons-logging", "slf4j-api", "slf4j-nop")
	p := newPlace(t)
	key, private := rsaKey(t)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(5), Subject: pkix.Name{CommonName: "keeper"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}
	raw, err := x509.CreateCertificate(nil, template, template, key.Public(), key)
	require.NoError(t, err)
	p.write("certs/keeper.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})))
	p.write("certs/key.pem", private)
	p.env = append(p.env, "TESTBENCH_SEALED_KEEPER=clover & heather 7", "TESTBENCH_SEALED_WRONG=clover & heather 8")
	var logins, services strings.Builder
	services.WriteString("services:\n")
	service := func(name, soap, logins string) {
		services.WriteString("  " + name + ":\n    address: ${base}/ledger\n    soap: \"" + soap + "\"\n    login: [" + logins +
			"]\n    names: {l: \"urn:ledger\"}\n    operations: {book: {action: \"urn:book\", payload: \"l:Book\", body: {what: required}}}\n")
	}
	trust := func(name string, keys ...string) {
		logins.WriteString("  " + name + ":\n    kind: ws-trust\n    address: ${base}/tokens\n    login: keeper\n" +
			"    applies to: ${base}/ledger\n    " + strings.Join(keys, "\n    ") + "\n")
	}
	wants := map[string]string{}
	for _, version := range []string{"1.3", "2005"} {
		for soap, word := range map[string]string{"1.1": "older", "1.2": "newer"} {
			name := strings.ReplaceAll(version, ".", "") + "_" + word
			of := []string{"version: \"" + version + "\"", "soap: \"" + soap + "\""}
			trust("bearer_"+name, of...)
			service("bearer_"+name, soap, "bearer_"+name)
			wants["bearer_"+name] = "SAML 2.0 bearer"
			trust("old_"+name, append(of, "token type: saml 1.1")...)
			service("old_"+name, soap, "old_"+name)
			wants["old_"+name] = "SAML 1.1 bearer"
			trust("public_"+name, append(of, "key type: public", "certificate: certs/keeper.pem")...)
			service("public_"+name, soap, "public_"+name+", holder")
			wants["public_"+name] = "SAML 2.0 public"
			trust("shared_"+name, append(of, "key type: shared", "token type: saml 1.1")...)
			logins.WriteString("  shared_key_" + name + ": {kind: signature, key from: shared_" + name + "}\n")
			service("shared_"+name, soap, "shared_"+name+", shared_key_"+name)
			wants["shared_"+name] = "SAML 1.1 shared"
			trust("context_"+name, append(of, "token type: context")...)
			logins.WriteString("  context_key_" + name + ": {kind: signature, key from: context_" + name +
				", encrypt: {cipher: aes256-cbc}, answers: {signed: body, encrypted: true}}\n")
			service("context_"+name, soap, "context_"+name+", context_key_"+name)
			wants["context_"+name] = "context itself"
			logins.WriteString("  derived_key_" + name + ": {kind: signature, key from: context_" + name +
				", derived keys: true, encrypt: {cipher: aes128-cbc}, answers: {signed: body, encrypted: true}}\n")
			service("derived_"+name, soap, "context_"+name+", derived_key_"+name)
			wants["derived_"+name] = "context derived"
		}
	}
	for name, login := range map[string]string{
		"stranger": "wrong_user", "elsewhere": "elsewhere", "from": "from", "unproved": "shared_13_newer",
		"other_key": "public_13_newer, shared_key_13_newer", "no_key": "bearer_13_newer, bearer_key",
		"weak": "weak",
	} {
		service(name, "1.2", login)
	}
	p.write("bench.yaml", "bench: b\nsites: {here: {set: {base: \""+base+"\"}}}\n"+services.String()+
		"logins:\n"+`  keeper: {kind: username token, user: keeper, password: "${sealed.keeper}", digest: true, stamp: 5 min}
  stranger: {kind: username token, user: keeper, password: "${sealed.wrong}", digest: true}
  holder: {kind: signature, key: certs/key.pem, reference: assertion}
  wrong_user: {kind: ws-trust, address: "${base}/tokens", login: stranger}
  elsewhere: {kind: ws-trust, address: "${base}/tokens", login: keeper, applies to: "http://127.0.0.1:9/nothing"}
  weak: {kind: signature, encrypt: {for: certs/keeper.pem, cipher: tripledes-cbc, transport: rsa-1_5}}
  bearer_key: {kind: signature, key from: bearer_13_newer}
  from: {kind: saml, from: bearer_13_newer}
`+logins.String())
	for name, want := range wants {
		t.Run(name, func(t *testing.T) {
			o := p.run("call", name+"/book", "what=heather & co")
			assert.Equal(t, 0, o.status, o.all())
			assert.Contains(t, o.stdout, want)
			assert.Contains(t, o.stdout, "heather &amp; co")
			if strings.Contains(want, "bearer") {
				spoilt := p.run("call", name+"/book", "what=1", "-login", name, "-spoil", "tampered")
				assert.Contains(t, spoilt.all(), "the assertion is not one of ours")
			}
		})
	}
	for name, want := range map[string]string{
		"stranger": "the token service refused: Sender: ", "elsewhere": "the token service refused: Sender: nothing is known of",
		"unproved": "the token must be proved by a signature", "other_key": "the header does not have the token whose key signs",
		"no_key": "came without a key to sign with", "weak": "WEAK: tripledes-cbc has blocks of 64 bits",
	} {
		t.Run(name, func(t *testing.T) {
			o := p.run("call", name+"/book", "what=1")
			assert.NotEqual(t, 0, o.status)
			assert.Contains(t, o.all(), want)
		})
	}
	assert.Contains(t, p.run("call", "from/book", "what=1").stdout, "SAML 2.0 bearer")
}
