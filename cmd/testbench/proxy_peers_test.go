//go:build peers

package main_test

import (
	"crypto/md5"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A proxy of others asks for a login, by each of its schemes: what goes to it in plain and what goes through a tunnel
// gets in, a wrong password does not, and no service sees any of it.
func TestSquidLogins(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	kdc := p.newRealm(t)
	const password = `bee: "k&y" 7`
	var seen lines
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		seen.add(r.Method + " " + string(body) + " " + r.Header.Get("Proxy-Authorization") +
			r.Header.Get("Authorization"))
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"lot": "L-2201"}`)
	})
	plain, guarded := httptest.NewServer(answer), httptest.NewTLSServer(answer)
	defer plain.Close()
	defer guarded.Close()
	sum := md5.Sum([]byte("clerk:hives:" + password))
	p.write("digests", "clerk:hives:"+hex.EncodeToString(sum[:])+"\n")
	p.must("htpasswd", "-cbm", "passwords", "clerk", password)
	p.write("ntlm.sh", "#!/bin/sh\nexec /usr/bin/ntlm_auth --helper-protocol=squid-2.5-ntlmssp --username=clerk "+
		"--domain=HIVES '--password="+
		password+"'\n")
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "ntlm.sh"), 0o755))
	p.open()
	ports := map[string]string{}
	for scheme, lines := range map[string]string{
		"basic": "auth_param basic program /usr/lib/squid/basic_ncsa_auth DIR/passwords\nauth_param basic realm " +
			"hives\n",
		"digest": "auth_param digest program /usr/lib/squid/digest_file_auth -c DIR/digests\nauth_param digest realm " +
			"hives\n",
		"ntlm": "auth_param ntlm program DIR/ntlm.sh\nauth_param ntlm keep_alive on\n",
		"kerberos": "auth_param negotiate program /usr/lib/squid/negotiate_kerberos_auth -k DIR/krb/http.keytab " +
			"-s HTTP/localhost@HEATHERFOLD.EXAMPLE\nauth_param negotiate keep_alive on\n",
	} {
		port := freePort(t)
		ports[scheme] = port
		text := `http_port 127.0.0.1:PORT
pid_filename none
cache deny all
shutdown_lifetime 0
visible_hostname squid
logformat seen %un %rm %ru %>Hs
access_log stdio:DIR/log/SCHEME.access logformat=seen
cache_log DIR/log/SCHEME.log
` + lines + `acl known proxy_auth REQUIRED
http_access allow known
http_access deny all
`
		if os.Geteuid() == 0 {
			text += "cache_effective_user proxy\n"
		}
		text = strings.NewReplacer("DIR", p.dir, "PORT", port, "SCHEME", scheme).Replace(text)
		p.write(scheme+".conf", text)
		require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "log"), 0o777))
		require.NoError(t, os.Chmod(filepath.Join(p.dir, "log"), 0o777))
		serveWith(t, append(os.Environ(), "KRB5_CONFIG="+filepath.Join(p.dir, "krb/krb5.conf")), port, "squid", "-N",
			"-f",
			filepath.Join(p.dir, scheme+".conf"))
	}
	p.env = append(p.env, "TESTBENCH_SEALED_BEES="+password, "TESTBENCH_SEALED_CLERK=smoked-larch-41",
		"TESTBENCH_SEALED_WRONG=not-the-password")
	for scheme, login := range map[string]string{
		"basic":    "{kind: basic, user: clerk, password: \"${sealed.bees}\"}",
		"digest":   "{kind: digest, user: clerk, password: \"${sealed.bees}\"}",
		"ntlm":     "{kind: ntlm, user: clerk, domain: HIVES, password: \"${sealed.bees}\"}",
		"kerberos": "{kind: kerberos, user: clerk, realm: HEATHERFOLD.EXAMPLE, password: \"${sealed.clerk}\", kdc: \"" + kdc + "\", service: HTTP/localhost}",
	} {
		t.Run(scheme, func(t *testing.T) {
			bench := "bench: b\nsites:\n  here:\n    tls: {insecure: true}\n    proxy: {address: \"http://127.0.0.1:" +
				ports[scheme] +
				"\", login: gate}\nservices:\n  plain: {address: \"" + plain.URL + "\"}\n  guarded: {address: \"" + guarded.URL +
				"\"}\nlogins:\n  gate: " + login + "\n"
			p.write("bench.yaml", bench)
			p.write("sheets/rows.yaml", `sheet: rows
rows:
  - {n: 1}
  - {n: 2}
  - {n: 3}
  - {n: 4}
  - {n: 5}
  - {n: 6}
steps:
  - {step: plain, request: plain POST /lots, body: {n: "${row.n}"}, expect: {status: 200}}
  - {step: guarded, request: guarded POST /lots, body: {n: "${row.n}"}, expect: {status: 200}}
`)
			o := p.run("run", "sheets/rows.yaml", "-jobs", "3")
			assert.Equal(t, 0, o.status, o.all()+p.read("log/"+scheme+".log"))
			got := seen.take()
			assert.Len(t, got, 12)
			for _, line := range got {
				assert.True(t, strings.HasSuffix(line, "} "), "the service sees no credential: "+line)
			}
			said := p.read("log/" + scheme + ".access")
			assert.Contains(t, strings.ToLower(said), "clerk")
			assert.Contains(t, said, "CONNECT "+strings.TrimPrefix(guarded.URL, "https://")+" 200")
			assert.NotContains(t, p.run("call", "guarded", "GET", "/", "-show", "all").all(), "smoked")
			seen.take()
			p.write("bench.yaml",
				replaced(replaced(bench, "sealed.bees", "sealed.wrong"), "sealed.clerk", "sealed.wrong"))
			for _, service := range []string{"plain", "guarded"} {
				o = p.run("call", service, "GET", "/")
				assert.NotEqual(t, 0, o.status)
				if scheme != "kerberos" {
					assert.Contains(t, o.all(), "407", service)
				}
			}
			assert.Empty(t, seen.take())
		})
	}
}
