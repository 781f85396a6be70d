package main_test

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// echo tells what arrived, as a server's own decoders read it.
func echo(w http.ResponseWriter, r *http.Request) {
	seen := map[string]any{
		"method": r.Method, "path": r.URL.Path, "rawPath": r.URL.EscapedPath(),
		"query": r.URL.Query(), "proto": r.Proto, "host": r.Host,
	}
	headers := map[string]string{}
	for name := range r.Header {
		headers[name] = r.Header.Get(name)
	}
	seen["headers"] = headers
	cookies := map[string]string{}
	for _, c := range r.Cookies() {
		cookies[c.Name] = c.Value
	}
	seen["cookies"] = cookies
	switch contentType := r.Header.Get("Content-Type"); {
	case strings.HasPrefix(contentType, "application/json"):
		var v any
		if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
			seen["broken"] = err.Error()
		}
		seen["json"] = v
	case strings.HasPrefix(contentType, "application/xml"), strings.HasPrefix(contentType, "text/xml"),
		strings.HasPrefix(contentType, "application/soap"):
		var v struct {
			Inner string `xml:",innerxml"`
			Note  struct {
				Text  string `xml:",chardata"`
				About string `xml:"about,attr"`
			} `xml:"note"`
		}
		if err := xml.NewDecoder(r.Body).Decode(&v); err != nil {
			seen["broken"] = err.Error()
		}
		seen["text"], seen["attribute"] = v.Note.Text, v.Note.About
	case strings.HasPrefix(contentType, "multipart/"):
		_ = r.ParseMultipartForm(1 << 20)
		seen["form"] = r.MultipartForm.Value
		for name, files := range r.MultipartForm.File {
			f, _ := files[0].Open()
			data, _ := io.ReadAll(f)
			seen["file"] = map[string]string{
				"part": name, "name": files[0].Filename,
				"type": files[0].Header.Get("Content-Type"), "data": string(data),
			}
		}
	case strings.HasPrefix(contentType, "application/x-www-form-urlencoded"):
		_ = r.ParseForm()
		seen["form"] = r.PostForm
	default:
		data, _ := io.ReadAll(r.Body)
		seen["body"] = string(data)
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(seen)
}

// echoBench is a bench with one service, at the server.
func echoBench(t *testing.T, address string) *place {
	p := newPlace(t)
	p.write("bench.yaml", "bench: wire\nsites:\n  local:\n    set:\n      base: "+address+
		"\nservices:\n  echo:\n    address: ${base}\n")
	return p
}

// Values with every awkward character arrive unharmed wherever they are put.
func TestValuesArriveUnharmed(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(echo))
	defer server.Close()
	p := echoBench(t, server.URL)
	nasty := []string{
		`say "best" & <more>`, `a'b\c/d?e#f%20g+h`, "line\nbreak\tand tab", "Grüße, 蜂蜜 🐝",
		`${not} a {"placeholder"}`, " blanks ", "1e5", "]]>",
	}
	var rows strings.Builder
	rows.WriteString("n,value\n")
	for i, v := range nasty {
		fmt.Fprintf(&rows, "%d,\"%s\"\n", i, strings.ReplaceAll(v, `"`, `""`))
	}
	p.write("data/nasty.csv", rows.String())
	p.write("body.json", `{"note": "${row.value}", "whole": ${row.value}, "list": ["${row.value}"]}`)
	o := p.sheet(`sheet: nasty
rows: data/nasty.csv
steps:
  - step: as a tree
    request: echo POST /tree
    body:
      note: ${row.value}
      mixed: "<${row.value}>"
    fields:
      json.note: ${row.value}
      json.mixed: "<${row.value}>"
  - step: in JSON text
    request: echo POST /json
    file: body.json
    fields:
      json.note: ${row.value}
      json.whole: ${row.value}
      json.list[0]: ${row.value}
  - step: in XML text
    request: echo POST /xml
    text: |
      <a><note about="${row.value}">${row.value}</note></a>
    fields:
      text: ${row.value}
  - step: in single quotes
    request: echo POST /xml
    text: "<a><note about='${row.value}'><![CDATA[${row.value}]]></note></a>"
    fields:
      text: ${row.value}
      attribute: ${row.value}
  - step: in query, path, form and cookie
    request: echo POST /p/${row.value}/end?q=${row.value}
    query:
      r: ${row.value}
    form:
      f: ${row.value}
    fields:
      path: /p/${row.value}/end
      query.q[0]: ${row.value}
      query.r[0]: ${row.value}
      form.f[0]: ${row.value}
  - step: in parts
    request: echo POST /parts
    parts:
      - name: note
        value: ${row.value}
      - name: paper
        file: body.json
        type: application/json
    fields:
      form.note[0]: ${row.value}
      file.name: body.json
      file.type: application/json
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "8 rows · 8 passed")

	p.write("data/nasty.csv", "n,value\n1,\"break\nin it\"\n2,\x01\n")
	o = p.sheet(`sheet: refused
rows: data/nasty.csv
steps:
  - step: header
    request: echo GET /
    headers:
      X-Note: ${row.value}
  - step: xml
    request: echo POST /
    text: <a>${row.value}</a>
`)
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, "a header cannot hold a line break")
	assert.Contains(t, o.stdout, "a character that XML cannot carry")
}

func TestRequestShapes(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(echo))
	defer server.Close()
	p := echoBench(t, server.URL)
	p.write("raw.bin", "\x00\x01raw ${untouched}")
	p.env = append(p.env, "HIVE=seven")
	o := p.sheet(`sheet: shapes
names:
  h: urn:heatherfold:test
steps:
  - step: set
    set:
      id: ${uuid}
      empty: ""
      kinds:
        - heather
        - clover
      zip: "00123"
  - step: query
    request: echo GET /q
    drop empty: true
    query:
      kind: ${kinds}
      none: ${empty}
      zip: ${zip}
      day: ${today | format d}
    cookies:
      SID: abc
    headers:
      X-Hive: ${machine.HIVE | upper}
      X-Id: ${id}
    fields:
      query.kind: count 2
      query.none: is absent
      query.zip[0]: "00123"
      cookies.SID: abc
      headers.X-Hive: SEVEN
      headers.X-Id: ${id}
      headers.User-Agent: testbench
  - step: tree
    request: echo PUT /tree
    body:
      zip: ${zip}
      number: 1.10
      text: "7"
      truth: true
      nothing: null
      kinds: ${kinds}
      packed:
        as json text:
          a: 1
    fields:
      method: PUT
      json.zip: is text
      json.number: 1.1
      json.text: is text
      json.truth: is boolean
      json.nothing: is null
      json.kinds:
        equals:
          - heather
          - clover
      json.packed: '{"a":1}'
  - step: xml tree
    request: echo POST /xml
    headers:
      Content-Type: application/xml
    body:
      order:
        note:
          "@about": a
          .: b & c
    fields:
      text: b & c
      attribute: a
  - step: bytes
    request: echo POST /bytes
    bytes: raw.bin
    fields:
      headers.Content-Type: application/octet-stream
      body: contains raw $${untouched}
  - step: filters
    request: echo POST /f
    body:
      a: ${id | sha256 | upper}
      b: ${missing | default x}
      c: ${kinds.0 | base64}
      d: ${id | inside "-" "-"}
      e: ${run.id | hex | lower | trim}
      f: ${file:raw.bin | hex}
      g: $${id}
    fields:
      json.a: matches [0-9A-F]{64}
      json.b: x
      json.c: aGVhdGhlcg==
      json.d: length 4
      json.e: is hex
      json.f: starts with 0001
      json.g: $${id}
`)
	assert.Equal(t, 0, o.status, o.all())
}

func TestContentCodings(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		w.Header().Set("Content-Type", "application/json")
		switch coding := strings.Trim(r.URL.Path, "/"); coding {
		case "gzip":
			packed := gzip.NewWriter(&body)
			_, _ = packed.Write([]byte(`{"ok": true}`))
			_ = packed.Close()
			w.Header().Set("Content-Encoding", "gzip")
		case "deflate":
			packed := zlib.NewWriter(&body)
			_, _ = packed.Write([]byte(`{"ok": true}`))
			_ = packed.Close()
			w.Header().Set("Content-Encoding", "deflate")
		case "false":
			body.WriteString(`{"ok": true}`)
			w.Header().Set("Content-Encoding", "gzip")
		case "latin":
			w.Header().Set("Content-Type", "text/xml; charset=iso-8859-1")
			body.WriteString("<a><ok>Gr\xfc\xdfe</ok></a>")
		case "utf16":
			w.Header().Set("Content-Type", "application/xml")
			body.WriteString("\xff\xfe")
			for _, c := range `<?xml version="1.0" encoding="UTF-16"?><a><ok>true</ok></a>` {
				body.WriteByte(byte(c))
				body.WriteByte(0)
			}
		}
		_, _ = w.Write(body.Bytes())
	}))
	defer server.Close()
	p := echoBench(t, server.URL)
	for path, want := range map[string]string{
		"/gzip": "true\n", "/deflate": "true\n", "/latin": "Grüße\n",
		"/utf16": "true\n",
	} {
		o := p.run("call", "echo", "GET", path, "-pick", "ok")
		assert.Equal(t, want, o.stdout, "%s: %s", path, o.all())
	}
	o := p.run("call", "echo", "GET", "/false")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.all(), "says it is coded as gzip, and is not")
}

// Credentials never follow to another origin, whatever they are called.
func TestRedirectsAndCredentials(t *testing.T) {
	t.Parallel()
	var seen lines
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		told := r.URL.RawQuery + string(data)
		for _, name := range []string{"Authorization", "X-Hive-Key", "Cookie", "X-Other"} {
			told += r.Header.Get(name)
		}
		seen.add(told)
		echo(w, r)
	}))
	defer other.Close()
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, other.URL+"/landed", http.StatusFound)
		case "/away307":
			http.Redirect(w, r, other.URL+"/landed", http.StatusTemporaryRedirect)
		case "/token":
			http.Redirect(w, r, other.URL+"/token", http.StatusTemporaryRedirect)
		case "/near":
			http.SetCookie(w, &http.Cookie{Name: "SID", Value: "step"})
			http.Redirect(w, r, "/here", http.StatusSeeOther)
		default:
			echo(w, r)
		}
	}))
	defer home.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_KEY=comb-key-1234", "TESTBENCH_SEALED_WORD=drone word 88")
	p.write("bench.yaml", `bench: redirects
sites:
  local:
    set:
      base: `+home.URL+`
services:
  keyed:
    address: ${base}
    login: key
  named:
    address: ${base}
    login: basic
  asked:
    address: ${base}
    login: query
  tokened:
    address: ${base}
    login: oauth
logins:
  key:
    kind: key
    key: ${sealed.key}
    header: X-Hive-Key
  query:
    kind: key
    key: ${sealed.key}
    query: key
  basic:
    kind: basic
    user: clerk
    password: ${sealed.word}
  oauth:
    kind: oauth2
    from: ${base}/token
    client: x
    client secret: ${sealed.word}
`)
	for _, service := range []string{"keyed", "named", "asked"} {
		o := p.run("call", service, "GET", "/away", "-in", "cookie.SID=secret-session", "-in",
			"header.X-Other=also-secret")
		assert.Equal(t, 0, o.status, o.all())
		assert.Contains(t, o.all(), "led to another origin")
	}
	assert.Equal(t, []string{"", "", ""}, seen.read(), "neither keys nor bodies go to another origin")
	o := p.run("call", "keyed", "POST", "/away307", "note=x")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), "its body would go to another origin")
	o = p.run("call", "tokened", "GET", "/x")
	assert.Equal(t, 3, o.status)
	assert.Len(t, seen.read(), 3, "nothing more went to the other server")

	o = p.run("call", "keyed", "POST", "/near", "note=x", "-pick", "headers.X-Hive-Key")
	assert.Equal(t, 0, o.status)
	assert.Equal(t, "[masked]\n", o.stdout, "at home the key goes along, and is masked even when picked")
	o = p.run("call", "keyed", "GET", "/near", "-pick", "cookies.SID")
	assert.Equal(t, "step\n", o.stdout)
	o = p.run("call", "keyed", "GET", "/near", "-stay")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.stderr, "303 See Other")
}

// A followed address gets the login only at home.
func TestFollow(t *testing.T) {
	t.Parallel()
	other := httptest.NewServer(http.HandlerFunc(echo))
	defer other.Close()
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", "next?of=home")
		w.Header().Set("X-Away", other.URL+"/away")
		echo(w, r)
	}))
	defer home.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_KEY=comb-key-1234")
	p.write("bench.yaml", "bench: follow\nsites:\n  local:\n    set:\n      base: "+home.URL+
		`
services:
  echo:
    address: ${base}/at
    login: key
logins:
  key:
    kind: key
    key: ${sealed.key}
    header: X-Hive-Key
`)
	o := p.sheet(`sheet: follow
steps:
  - step: start
    request: echo GET /start
    keep:
      place: reply.headers.Location
      away: reply.headers.X-Away
  - step: home
    follow: ${place}
    service: echo
    fields:
      path: /at/next
      query.of[0]: home
      headers.X-Hive-Key: is present
  - step: away
    follow: ${away}
    service: echo
    fields:
      headers.X-Hive-Key: is absent
  - step: put
    follow: PUT ${place}
    service: echo
    body: {lot: L-1}
    fields:
      method: PUT
      path: /at/next
      headers.X-Hive-Key: is present
      json.lot: L-1
  - step: remove
    follow: DELETE ${place}
    service: echo
    fields:
      method: DELETE
      json: is absent
`)
	assert.Equal(t, 0, o.status, o.all())
	guarded := strings.Replace(p.read("bench.yaml"), "  local:\n", "  local:\n    guard: read only\n", 1)
	p.write("bench.yaml", guarded)
	o = p.run("run", "sheets/test.yaml")
	assert.Contains(t, o.all(), "this request could write", "PUT and DELETE write wherever they lead")
}

// One token serves a run; it is renewed before it ends, by the refresh token
// where there is one, and got anew once after a 401.
func TestTokenLife(t *testing.T) {
	t.Parallel()
	var asked, refreshed, refused atomic.Int32
	var life atomic.Int32
	life.Store(3600)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		switch {
		case r.URL.Path == "/token" && r.PostForm.Get("grant_type") == "refresh_token":
			refreshed.Add(1)
			_, _ = fmt.Fprintf(w, `{"access_token":"fresh-%d-token","token_type":"Bearer","expires_in":3600}`,
				refreshed.Load())
		case r.URL.Path == "/token":
			asked.Add(1)
			user, password, _ := r.BasicAuth()
			assert.Equal(t, "desk%2Fa", user, "form-encoded before Base64 (RFC 6749, 2.3.1)")
			assert.Equal(t, "p%26q+r", password)
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"access_token":"first-%d-token","token_type":"Bearer","expires_in":%d,"refresh_token":"again-and-again"}`, asked.Load(), life.Load())
		case r.URL.Path == "/once" && refused.Add(1) == 1, r.URL.Path == "/never":
			w.WriteHeader(http.StatusUnauthorized)
		default:
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"seen": %q}`, r.Header.Get("Authorization"))
		}
	}))
	defer server.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_S=p&q r")
	p.write("bench.yaml", "bench: life\nsites:\n  local:\n    set:\n      base: "+server.URL+
		`
services:
  s:
    address: ${base}
    login: l
logins:
  l:
    kind: oauth2
    from: ${base}/token
    client: desk/a
    client secret: ${sealed.s}
`)
	steps := func(paths ...string) string {
		text := "sheet: life\nsteps:\n"
		for i, path := range paths {
			text += fmt.Sprintf("  - step: s%d\n    request: s GET %s\n", i, path)
		}
		return text
	}
	o := p.sheet(steps("/a", "/b", "/c"))
	assert.Equal(t, 0, o.status, o.all())
	assert.EqualValues(t, 1, asked.Load(), "one token a run")

	asked.Store(0)
	o = p.sheet(steps("/once", "/b"))
	assert.Equal(t, 0, o.status, o.all())
	assert.EqualValues(t, 2, asked.Load(), "got anew once after a 401")
	assert.Contains(t, o.stdout, "a new token was got and the request sent again")

	asked.Store(0)
	o = p.sheet(steps("/never"))
	assert.Equal(t, 1, o.status)
	assert.EqualValues(t, 2, asked.Load(), "and not more than once")

	life.Store(0)
	asked.Store(0)
	o = p.sheet(steps("/a", "/b"))
	assert.Equal(t, 0, o.status, o.all())
	assert.EqualValues(t, 1, refreshed.Load(), "renewed by the refresh token")
	assert.EqualValues(t, 1, asked.Load())
}

// certificates makes an authority and certificates signed by it.
type certificates struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	pem         string
}

func newCertificates(t *testing.T) *certificates {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "test authority"}, IsCA: true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &certificates{certificate, key, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}
}

func (c *certificates) issue(t *testing.T, name string) (certificate, key string) {
	return c.issueUntil(t, name, time.Now().Add(time.Hour))
}

func (c *certificates) issueUntil(t *testing.T, name string, until time.Time) (certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  until, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth},
		DNSNames:    []string{name},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, c.certificate, &private.PublicKey, c.key)
	require.NoError(t, err)
	encoded, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: encoded}))
}

func TestTLSAndHTTP2(t *testing.T) {
	t.Parallel()
	authority := newCertificates(t)
	pool := x509.NewCertPool()
	pool.AddCert(authority.certificate)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprintf(w, `{"proto": %q, "who": %q}`, r.Proto, r.TLS.PeerCertificates[0].Subject.CommonName)
	}))
	server.EnableHTTP2 = true
	server.TLS = &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool}
	server.StartTLS()
	defer server.Close()
	p := newPlace(t)
	certificate, key := authority.issue(t, "bryony")
	p.write("certs/client.pem", certificate)
	p.write("certs/client-key.pem", key)
	p.write("certs/ca.pem",
		string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})))
	bench := "bench: tls\nsites:\n  local:\n    set:\n      base: " + server.URL +
		"\n    tls:\n      ca: certs/ca.pem\nCERTservices:\n  s:\n    address: ${base}\n"
	p.write("bench.yaml", strings.Replace(bench, "CERT",
		"      certificate: certs/client.pem\n      key: certs/client-key.pem\n", 1))
	o := p.sheet(`sheet: tls
steps:
  - step: two
    request: s GET /
    headers:
      Accept: application/json
    where:
      - reply.protocol == 'HTTP/2.0' && reply.text.contains('bryony')
  - step: one
    request: s GET /
    http: 1.1
    where:
      - reply.protocol == 'HTTP/1.1'
`)
	assert.Equal(t, 0, o.status, o.all())

	p.write("bench.yaml", strings.Replace(bench, "CERT", "", 1))
	o = p.run("call", "s", "GET", "/")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), "perhaps the service wants a client certificate")
	p.write("certs/client-key.pem", "no key")
	p.write("bench.yaml", strings.Replace(bench, "CERT",
		"      certificate: certs/client.pem\n      key: certs/client-key.pem\n", 1))
	o = p.run("call", "s", "GET", "/")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "neither PEM nor PKCS#12")
	_, other := authority.issue(t, "other")
	p.write("certs/client-key.pem", other)
	o = p.run("call", "s", "GET", "/")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "do not go together")
}

func TestProxy(t *testing.T) {
	t.Parallel()
	var asked atomic.Value
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Store(r.URL.String())
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"by": "the proxy"}`)
	}))
	defer proxy.Close()
	p := echoBench(t, "http://services.heatherfold.example")
	p.env = append(p.env, "HTTP_PROXY="+proxy.URL)
	o := p.run("call", "echo", "GET", "/lots", "-pick", "by")
	assert.Equal(t, "the proxy\n", o.stdout, o.all())
	assert.Equal(t, "http://services.heatherfold.example/lots", asked.Load())
	p.env = append(p.env, "NO_PROXY=*")
	o = p.run("call", "echo", "GET", "/lots", "-timeout", "2s")
	assert.Equal(t, 3, o.status, o.all())
}

// What the parts of a call's command line make of its request, and what is refused of them.
func TestCallLine(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	base := "http://" + server.Address
	p.write("f.json", `{"lot": "L-2201", "moisture": 17}`)
	p.write("f.yaml", "lot: L-2201\nmoisture: \"17\"\nremark: a\n")
	p.write("list.json", `[1]`)
	p.write("b.csv", "x,y\n")
	p.write("b.xml", "<a/>")
	p.write("b.json", `{"a":1.50}`)
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"lab/GradeLot -fill f.json", 0, "<moisture>17</moisture>"},
		{"lab/GradeLot -fill f.yaml", 0, "<remark>a</remark>"},
		{"lab/GradeLot -fill f.json moisture=18.5", 0, "<moisture>18.5</moisture>"},
		{"lab/GradeLot -fill list.json", 2, "an object of fields is expected, and this is a list"},
		{"lab/GradeLot -fill b.csv", 2, "b.csv: fields with their values are expected"},
		{"lab/GradeLot -fill none.json", 2, "none.json"},
		{"lab/GradeLot -fill f.json -action urn:other", 0, `SOAPAction: "urn:other"`},
		{
			"lab/GradeLot -fill f.json -soap 1.2", 0,
			`application/soap+xml; charset=utf-8; action="urn:heatherfold:lab:GradeLot"`,
		},
		{"lab/GradeLot -fill f.json -soap 2", 2, "1.1 and 1.2 are there"},
		{"GET BASE/x a=1 b=ü", 0, "/x?a=1&b=%C3%BC"},
		{"DELETE BASE/x a=1", 0, "/x?a=1"},
		{"BASE/x", 0, "GET BASE/x"},
		{"POST BASE/x a=1 b.c=2", 0, `"c": 2`},
		{"POST BASE/x -in form.a=1 -in form.b=ü", 0, "\na=1&b=%C3%BC\n"},
		{"POST BASE/x -bytes b.csv", 0, "Content-Type: application/octet-stream\nx,y"},
		{"POST BASE/x -body b.xml", 0, "Content-Type: application/xml; charset=utf-8\n<a/>"},
		{"POST BASE/x -body b.json", 0, "\"a\": 1.50"},
		{"POST BASE/x -body b.csv -in header.Content-Type=text/csv", 0, "Content-Type: text/csv"},
		{"POST BASE/x -bytes none", 2, "none"},
		{"POST BASE/x -body b.xml -bytes b.csv", 2, "more than one body"},
		{"GET BASE/x -in cookie.a=b -in header.X-A=1 -in query.q=2", 0, "/x?q=2\nCookie: a=b\nX-A: 1"},
		{"GET BASE/x/{id} -in path.id=1", 2, "goes with an operation that has {id} in its path"},
		{"stores/lot -in path.id=L-2201", 0, "/stores/lots/L-2201"},
		{"GET BASE/x -in hedder.a=b", 2, `did you mean "header"?`},
		{"GET BASE/x -in a", 2, "write it like query.grade=A"},
		{"POST BASE/x =1", 2, "fields are written name=value"},
		{"get BASE/x", 2, "methods are written in capitals: GET"},
		{"GTE BASE/x", 2, `did you mean "GET"?`},
		{"GET x", 2, "it must begin with http:// or https://"},
		{"stores GET lots", 2, "must begin with /"},
		{"nobody GET /x", 2, `there is no service "nobody"`},
		{"stors/lot", 2, `did you mean "stores"?`},
		{"stores/lott", 2, `did you mean "lot"?`},
		{"stores", 2, "call which operation of stores?"},
		{"stores GET /lots much", 2, "fields are written name=value"},
		{"stores GET /lots/kept:lot", 2, "nothing defines ${kept.lot}"},
	} {
		args := strings.Fields(strings.ReplaceAll(c.args, "BASE", base))
		o := p.run(append(append([]string{"call"}, args...), "-dry")...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		assert.Contains(t, o.all(), strings.ReplaceAll(c.says, "BASE", base), c.args)
	}
}
