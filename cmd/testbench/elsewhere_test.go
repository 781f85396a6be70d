package main_test

import (
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever leads to another origin, a redirect of each status, a next page, a link that is
// followed, or an answer that was put off: no credential of any kind is shown there, though the
// host is one that may be asked. Where it stays at home, the certificate goes along.
func TestCredentialsGoNowhereElse(t *testing.T) {
	t.Parallel()
	var seen lines
	tell := func(where string, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		var certificate string
		if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
			certificate = r.TLS.PeerCertificates[0].Subject.CommonName
		}
		seen.add(fmt.Sprintf("%s %s?%s cert=%q auth=%q cookie=%q key=%q always=%q body=%q", where, r.URL.Path,
			r.URL.RawQuery, certificate,
			r.Header.Get("Authorization"), r.Header.Get("Cookie"), r.Header.Get("X-Key"), r.Header.Get("X-Always"),
			body))
	}
	start := func(handler http.HandlerFunc, secure bool) *httptest.Server {
		server := httptest.NewUnstartedServer(handler)
		if !secure {
			server.Start()
		} else {
			server.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
			server.StartTLS()
		}
		t.Cleanup(server.Close)
		return server
	}
	elsewhere := func(w http.ResponseWriter, r *http.Request) {
		tell("away", r)
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"value": [1]}`)
	}
	otherPort, plain := start(elsewhere, true), start(elsewhere, false)
	home := start(func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		to := map[string]string{
			"home": "https://" + r.Host, "port": otherPort.URL, "scheme": plain.URL,
			"host": "https://" + strings.Replace(r.Host, "127.0.0.1", "localhost", 1),
		}[q.Get("to")]
		tell("home", r)
		http.SetCookie(w, &http.Cookie{Name: "way", Value: "set-on-the-way", Path: "/"})
		w.Header().Set("Content-Type", "application/json")
		switch q.Get("by") {
		case "redirect":
			w.Header().Set("Location", to+"/landed")
			status := 0
			_, _ = fmt.Sscan(q.Get("status"), &status)
			w.WriteHeader(status)
		case "next":
			w.Header().Set("Link", "<"+to+"/landed>; rel=\"next\"")
			_, _ = io.WriteString(w, `[1]`)
		case "later":
			w.Header().Set("Location", to+"/landed")
			w.WriteHeader(http.StatusAccepted)
		case "link":
			_, _ = fmt.Fprintf(w, `{"at": %q}`, to+"/landed")
		default:
			_, _ = io.WriteString(w, `{"value": [1]}`)
		}
	}, true)
	p := newPlace(t)
	certificate, key := newCertificates(t).issue(t, "client")
	p.write("client.pem", certificate)
	p.write("client.key", key)
	p.env = append(p.env, "TESTBENCH_SEALED_WORD=sealed-word-1", "TESTBENCH_SEALED_KEY=sealed-key-1",
		"TESTBENCH_SEALED_ALWAYS=sealed-always-1")
	p.write("bench.yaml", `bench: elsewhere
sites:
  local:
    tls:
      insecure: true
      certificate: client.pem
      key: client.key
services:
  s:
    address: `+home.URL+`
    login: [basic, key, query]
    always:
      headers:
        X-Always: ${sealed.always}
      cookies:
        kept: ${sealed.always}
logins:
  basic: {kind: basic, user: clerk, password: "${sealed.word}"}
  key: {kind: key, key: "${sealed.key}", header: X-Key}
  query: {kind: key, key: "${sealed.key}", query: k}
`)
	allow := []string{"-allow", "127.0.0.1", "-allow", "localhost"}
	for _, to := range []string{"home", "port", "scheme", "host"} {
		if testing.Short() && to != "home" && to != "port" {
			continue
		}
		for name, step := range map[string]string{
			"redirect 301": "request: s GET /?by=redirect&status=301&to=" + to,
			"redirect 302": "request: s GET /?by=redirect&status=302&to=" + to,
			"redirect 303": "request: s POST /?by=redirect&status=303&to=" + to,
			"redirect 307": "request: s GET /?by=redirect&status=307&to=" + to,
			"redirect 308": "request: s GET /?by=redirect&status=308&to=" + to,
			"redirect 302 of a POST": "request: s POST /?by=redirect&status=302&to=" + to +
				"\n    body: {word: \"${sealed.word}\"}",
			"redirect 307 of a POST": "request: s POST /?by=redirect&status=307&to=" + to +
				"\n    body: {word: \"${sealed.word}\"}",
			"next page": "request: s GET /?by=next&to=" + to + "\n    pages: 3",
			"put off":   "request: s GET /?by=later&to=" + to + "\n    headers: {Prefer: respond-async}",
			"link, of the service": "request: s GET /?by=link&to=" + to +
				"\n    keep: {at: at}\n  - step: follows\n    follow: ${at}\n    service: s",
			"link, of nobody": "request: s GET /?by=link&to=" + to +
				"\n    keep: {at: at}\n  - step: follows\n    follow: ${at}",
		} {
			t.Run(to+", "+name, func(t *testing.T) {
				p.write("sheets/one.yaml", "sheet: one\nsteps:\n  - step: it\n    "+step+"\n")
				seen.take()
				o := p.run(append([]string{"run", "sheets/one.yaml"}, allow...)...)
				landed := 0
				for _, line := range seen.take() {
					if to == "home" || !strings.Contains(line, "/landed") {
						assert.Contains(t, line, `cert="client"`, o.all())
					}
					if !strings.Contains(line, "/landed") {
						continue
					}
					landed++
					for _, credential := range []string{
						`cert="client"`, `auth="Basic`, "sealed-key-1",
						"sealed-always-1", "sealed-word-1", "set-on-the-way",
					} {
						if to != "home" {
							assert.NotContains(t, line, credential)
						}
					}
				}
				assert.LessOrEqual(t, landed, 1)
				if to == "home" {
					assert.Equal(t, 1, landed, o.all())
				}
			})
		}
	}
	// A contract at home is fetched with the certificate, one elsewhere without.
	for server, want := range map[*httptest.Server]bool{home: true, otherPort: false} {
		seen.take()
		p.run(append([]string{"survey", server.URL + "/contract"}, allow...)...)
		lines := seen.take()
		require.NotEmpty(t, lines)
		assert.Equal(t, want, strings.Contains(lines[0], `cert="client"`), lines[0])
	}
}

// A proxy that asks for a login gets the one of the site, and nobody else does.
func TestProxyOfASite(t *testing.T) {
	t.Parallel()
	var seen lines
	service := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		seen.add("service " + r.Header.Get("Proxy-Authorization"))
	}))
	defer service.Close()
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.add("proxy " + r.Header.Get("Proxy-Authorization") + " " + r.URL.Host)
		if r.Header.Get("Proxy-Authorization") == "" {
			w.Header().Set("Proxy-Authenticate", "Basic realm=gate")
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		r.RequestURI = ""
		r.Header.Del("Proxy-Authorization")
		answer, err := http.DefaultTransport.RoundTrip(r)
		if err == nil {
			w.WriteHeader(answer.StatusCode)
			_ = answer.Body.Close()
		}
	}))
	defer proxy.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_WORD=sealed-word-1")
	bench := "bench: b\nsites:\n  local:\n    proxy:\n      address: " + proxy.URL +
		"\nLOGINservices:\n  s:\n    address: " + service.URL +
		"\nlogins:\n  gate: {kind: basic, user: clerk, password: \"${sealed.word}\"}\n"
	p.write("bench.yaml", strings.Replace(bench, "LOGIN", "      login: gate\n", 1))
	o := p.run("call", "s", "GET", "/", "-show", "all")
	require.Zero(t, o.status, o.all())
	assert.Equal(t, []string{
		"proxy Basic Y2xlcms6c2VhbGVkLXdvcmQtMQ== " + strings.TrimPrefix(service.URL, "http://"),
		"service ",
	}, seen.take())
	assert.NotContains(t, o.all(), "sealed-word-1")
	p.write("bench.yaml", strings.Replace(bench, "LOGIN", "", 1))
	o = p.run("call", "s", "GET", "/")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.all(), "407")
	p.write("bench.yaml", strings.Replace(strings.Replace(bench, "LOGIN", "", 1), proxy.URL, "http://127.0.0.1:1", 1))
	o = p.run("call", "s", "GET", "/")
	assert.Contains(t, o.all(), "the proxy 127.0.0.1:1, through which")
	p.write("bench.yaml", strings.Replace(strings.Replace(bench, "LOGIN", "", 1), proxy.URL, "nowhere", 1))
	assert.Contains(t, p.run("call", "s", "GET", "/").all(), `"nowhere" is not an address like http://127.0.0.1:3128`)
}
