//go:build peers

package main_test

import (
	"crypto/md5"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// open lets everybody into the folder of a place, for servers that change their user.
func (p *place) open() {
	p.t.Helper()
	require.NoError(p.t, os.Chmod(p.dir, 0o755))
	for dir := filepath.Dir(p.dir); dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			require.NoError(p.t, os.Chmod(dir, info.Mode().Perm()|0o055))
		}
	}
}

func (p *place) must(name string, args ...string) {
	p.t.Helper()
	c := exec.Command(program(name), args...)
	c.Dir, c.Env = p.dir, p.env
	output, err := c.CombinedOutput()
	require.NoError(p.t, err, "%s: %s; scripts/test installs what it needs", name, output)
}

// newRealm starts a Kerberos realm with a user and a service on localhost.
func (p *place) newRealm(t *testing.T) (kdc string) {
	port := freePort(t)
	p.write("krb/krb5.conf", strings.NewReplacer("DIR", p.dir, "PORT", port).Replace(`[libdefaults]
  default_realm = HEATHERFOLD.EXAMPLE
  dns_lookup_kdc = false
  rdns = false
  dns_canonicalize_hostname = false
[realms]
  HEATHERFOLD.EXAMPLE = {
    kdc = 127.0.0.1:PORT
    database_module = files
  }
[dbmodules]
  files = {
    db_library = db2
    database_name = DIR/krb/principal
  }
`))
	p.write("krb/kdc.conf", strings.NewReplacer("DIR", p.dir, "PORT", port).Replace(`[kdcdefaults]
  kdc_listen = 127.0.0.1:PORT
  kdc_tcp_listen = 127.0.0.1:PORT
[realms]
  HEATHERFOLD.EXAMPLE = {
    database_name = DIR/krb/principal
    key_stash_file = DIR/krb/stash
    acl_file = DIR/krb/acl
    supported_enctypes = aes256-cts-hmac-sha1-96:normal
  }
[logging]
  kdc = FILE:DIR/krb/kdc.log
`))
	p.env = append(p.env, "KRB5_CONFIG="+filepath.Join(p.dir, "krb/krb5.conf"),
		"KRB5_KDC_PROFILE="+filepath.Join(p.dir, "krb/kdc.conf"))
	p.must("kdb5_util", "create", "-s", "-P", "master", "-r", "HEATHERFOLD.EXAMPLE")
	for _, query := range []string{
		"addprinc -pw smoked-larch-41 clerk", "addprinc -randkey HTTP/localhost",
		"ktadd -k " + p.dir + "/krb/http.keytab HTTP/localhost",
		"ktadd -norandkey -k " + p.dir + "/krb/clerk.keytab clerk",
	} {
		p.must("kadmin.local", "-r", "HEATHERFOLD.EXAMPLE", "-q", query)
	}
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "krb/http.keytab"), 0o644))
	serveWith(t, p.env, port, "krb5kdc", "-n", "-r", "HEATHERFOLD.EXAMPLE")
	return "127.0.0.1:" + port
}

// Apache lets in by Digest and by Kerberos tickets; a wrong password and a
// tampered ticket are refused, and it is said why.
func TestApacheLogins(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	kdc := p.newRealm(t)
	port := freePort(t)
	const password = `bee: "k&y" ü`
	sum := md5.Sum([]byte("clerk:hives:" + password))
	p.write("digests", "clerk:hives:"+hex.EncodeToString(sum[:])+"\n")
	p.write("www/digest/lots.json", `{"lots": ["L-2201"]}`)
	p.write("www/ticket/lots.json", `{"lots": ["L-2202"]}`)
	p.write("mime.types", "application/json json\n")
	p.write("apache.conf", strings.NewReplacer("DIR", p.dir, "PORT", port).Replace(`ServerRoot /usr/lib/apache2
ServerName localhost
PidFile DIR/apache.pid
ErrorLog DIR/apache-error.log
DocumentRoot DIR/www
DefaultRuntimeDir DIR
Listen 127.0.0.1:PORT
LoadModule mpm_event_module modules/mod_mpm_event.so
LoadModule authn_core_module modules/mod_authn_core.so
LoadModule authn_file_module modules/mod_authn_file.so
LoadModule authz_core_module modules/mod_authz_core.so
LoadModule authz_user_module modules/mod_authz_user.so
LoadModule auth_digest_module modules/mod_auth_digest.so
LoadModule auth_gssapi_module modules/mod_auth_gssapi.so
LoadModule mime_module modules/mod_mime.so
TypesConfig DIR/mime.types
<Directory DIR/www/digest>
  AuthType Digest
  AuthName "hives"
  AuthUserFile DIR/digests
  Require user clerk
</Directory>
<Directory DIR/www/ticket>
  AuthType GSSAPI
  AuthName "hives"
  GssapiCredStore keytab:DIR/krb/http.keytab
  Require valid-user
</Directory>
`))
	if os.Geteuid() == 0 {
		p.write("apache.conf", "User www-data\nGroup www-data\n"+p.read("apache.conf"))
	}
	p.open()
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(p.read("apache-error.log"))
		}
	})
	serve(t, port, "apache2", "-f", filepath.Join(p.dir, "apache.conf"), "-DFOREGROUND")
	p.must("kinit", "-k", "-t", "krb/clerk.keytab", "-c", "FILE:krb/tickets", "clerk")
	p.env = append(p.env, "TESTBENCH_SEALED_BEES="+password, "TESTBENCH_SEALED_CLERK=smoked-larch-41",
		"TESTBENCH_SEALED_WRONG=not the password")
	p.write("bench.yaml", strings.NewReplacer("PORT", port, "KDC", kdc).Replace(`bench: apache
sites:
  local:
    set:
      base: http://localhost:PORT
services:
  digest:
    address: ${base}/digest
    login: clerk
  ticket:
    address: ${base}/ticket
    login: by_password
logins:
  clerk:
    kind: digest
    user: clerk
    password: ${sealed.bees}
  wrong:
    kind: digest
    user: clerk
    password: ${sealed.wrong}
  by_password:
    kind: kerberos
    user: clerk
    realm: HEATHERFOLD.EXAMPLE
    kdc: KDC
    password: ${sealed.clerk}
  by_keytab:
    kind: kerberos
    user: clerk
    realm: HEATHERFOLD.EXAMPLE
    keytab: krb/clerk.keytab
    config: krb/krb5.conf
  by_ticket:
    kind: kerberos
    tickets: krb/tickets
    config: krb/krb5.conf
  wrong_password:
    kind: kerberos
    user: clerk
    realm: HEATHERFOLD.EXAMPLE
    kdc: KDC
    password: ${sealed.wrong}
  stranger:
    kind: kerberos
    user: nobody
    realm: HEATHERFOLD.EXAMPLE
    kdc: KDC
    password: ${sealed.wrong}
  other_service:
    kind: kerberos
    user: clerk
    realm: HEATHERFOLD.EXAMPLE
    kdc: KDC
    password: ${sealed.clerk}
    service: HTTP/elsewhere
`))
	o := p.sheet(`sheet: apache
steps:
  - step: digest
    request: digest GET /lots.json?a=b%20c
    fields:
      lots[0]: L-2201
  - step: digest again
    request: digest GET /lots.json
    where:
      - reply.status == 200
  - step: wrong digest
    request: digest GET /lots.json
    login: wrong
    expect:
      status: 401
  - step: ticket
    request: ticket GET /lots.json
    fields:
      lots[0]: L-2202
  - step: ticket of a key
    request: ticket GET /lots.json
    login: by_keytab
  - step: a ticket that is there already
    request: ticket GET /lots.json
    login: by_ticket
  - step: tampered ticket
    request: ticket GET /lots.json
    login:
      spoil: by_password
      how: tampered
    expect:
      status: not 2xx
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 2, strings.Count(o.stdout, "asked for Digest"),
		"only the first request of a login waits for the challenge: %s", o.stdout)
	o = p.run("call", "digest", "GET", "/lots.json", "-login", "wrong")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, o.stdout, "user or password is wrong", o.all())
	for name, message := range map[string]string{
		"wrong_password": "the password or key is wrong",
		"stranger":       "does not know this user", "other_service": "does not know the service",
	} {
		o = p.run("call", "ticket", "GET", "/lots.json", "-login", name)
		assert.NotEqual(t, 0, o.status)
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), message)
	}
	o = p.run("call", "ticket", "GET", "/lots.json", "-login", "none")
	assert.Contains(t, o.stdout, "the service asks for Negotiate")
}

// nginx: what can go wrong with TLS is told for what it is.
func TestNginxTLS(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	authority, stranger := newCertificates(t), newCertificates(t)
	write := func(name, certificate, key string) {
		p.write("certs/"+name+".pem", certificate)
		p.write("certs/"+name+"-key.pem", key)
	}
	good, goodKey := authority.issue(t, "localhost")
	write("good", good, goodKey)
	other, otherKey := authority.issue(t, "elsewhere.heatherfold.example")
	write("other", other, otherKey)
	old, oldKey := authority.issueUntil(t, "localhost", time.Now().Add(-24*time.Hour))
	write("old", old, oldKey)
	foreign, foreignKey := stranger.issue(t, "localhost")
	write("foreign", foreign, foreignKey)
	client, clientKey := authority.issue(t, "bryony")
	write("client", client, clientKey)
	p.write("certs/ca.pem", authority.pem)
	ports := map[string]string{}
	config := "daemon off;\nmaster_process off;\nerror_log " + p.dir + "/nginx.log;\npid " + p.dir +
		"/nginx.pid;\nevents {}\nhttp {\n  access_log off;\n"
	for _, folder := range []string{
		"client_body_temp_path", "proxy_temp_path", "fastcgi_temp_path", "uwsgi_temp_path",
		"scgi_temp_path",
	} {
		config += "  " + folder + " " + p.dir + "/" + folder + ";\n"
	}
	for name, more := range map[string]string{
		"good": "", "other": "", "old": "", "foreign": "",
		"ancient": "ssl_protocols TLSv1 TLSv1.1; ssl_ciphers ALL:@SECLEVEL=0;",
		"mutual":  "ssl_client_certificate " + p.dir + "/certs/ca.pem; ssl_verify_client on;",
	} {
		certificate := name
		if name == "ancient" || name == "mutual" {
			certificate = "good"
		}
		ports[name] = freePort(t)
		config += "  server { listen 127.0.0.1:" + ports[name] + " ssl; ssl_certificate " + p.dir + "/certs/" +
			certificate + ".pem; ssl_certificate_key " + p.dir + "/certs/" + certificate + "-key.pem; " + more +
			" location / { default_type application/json; return 200 '{\"by\": \"" + name + "\"}'; } }\n"
	}
	p.write("nginx.conf", config+"}\n")
	serve(t, ports["good"], "nginx", "-c", filepath.Join(p.dir, "nginx.conf"), "-p", p.dir)
	bench := "bench: nginx\nsites:\n  local:\n    set:\n"
	services := "services:\n"
	for name, port := range ports {
		bench += "      " + name + ": https://localhost:" + port + "\n"
		services += "  " + name + ":\n    address: ${" + name + "}\n"
	}
	p.write("bench.yaml", bench+"    tls:\n      ca: certs/ca.pem\n"+services+
		`logins:
  bryony:
    kind: certificate
    certificate: certs/client.pem
    key: certs/client-key.pem
  keyless:
    kind: certificate
    certificate: certs/client.pem
`)
	for _, c := range []struct {
		service, login string
		status         int
		says           []string
	}{
		{"good", "", 0, []string{`"by": "good"`}},
		{"mutual", "bryony", 0, []string{`"by": "mutual"`}},
		{"mutual", "", 1, []string{"400", "client certificate"}},
		{"mutual", "keyless", 2, []string{"without its key"}},
		{"other", "", 3, []string{"another name", "elsewhere.heatherfold.example"}},
		{"old", "", 3, []string{"expired", "needs a new certificate"}},
		{"foreign", "", 3, []string{"not known here", "tls: ca:"}},
		{"ancient", "", 3, []string{"protocol"}},
	} {
		args := []string{"call", c.service, "GET", "/"}
		if c.login != "" {
			args = append(args, "-login", c.login)
		}
		o := p.run(args...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.service, o.all())
		for _, text := range c.says {
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), text, c.service)
		}
	}
}
