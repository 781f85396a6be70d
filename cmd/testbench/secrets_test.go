package main_test

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forms writes a secret in every way in which it may be in an output. The
// encodings are the standard library's, not those of the masker.
func forms(secret string) []string {
	quoted, _ := json.Marshal(secret)
	var escaped strings.Builder
	_ = xml.EscapeText(&escaped, []byte(secret))
	all := []string{
		secret, strings.Trim(string(quoted), `"`), escaped.String(), url.QueryEscape(secret), url.PathEscape(secret),
		strings.ReplaceAll(url.QueryEscape(secret), "+", "%20"), hex.EncodeToString([]byte(secret)),
		strings.ToUpper(hex.EncodeToString([]byte(secret))),
		base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)),
	}
	for _, user := range []string{"clerk", "honey-desk", "a", "ab"} {
		pair := base64.StdEncoding.EncodeToString([]byte(user + ":" + secret))
		all = append(all, pair, pair[len(pair)/2:])
	}
	return all
}

// With known secrets in every place where one can stand, no output, file or
// report holds one, in plain or encoded.
func TestSecretsAppearNowhere(t *testing.T) {
	t.Parallel()
	const token, refresh = "tok+en/with=odd&chars.1", "refresh-me \"please\""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/token":
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{
				"access_token": token, "token_type": "Bearer",
				"expires_in": 60, "refresh_token": refresh,
			})
			return
		case "/desk":
			_, _ = io.WriteString(w, "desk<token>&'quoted'\n")
			return
		case "/fail":
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			_ = json.NewEncoder(w).Encode(
				map[string]any{"error": map[string]string{"message": "bad: " + r.Header.Get("Authorization") + " " +
					string(body), "field": "note"}})
			return
		}
		// Everything comes back, as JSON, in a header, and encoded.
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("X-Echo",
			strings.NewReplacer("\r", "", "\n", "").Replace(r.Header.Get("Authorization")+r.URL.RawQuery))
		user, password, _ := r.BasicAuth()
		_ = json.NewEncoder(w).Encode(map[string]any{
			"headers": r.Header, "query": r.URL.Query(), "body": string(body), "user": user, "again": password,
			"packed": base64.StdEncoding.EncodeToString([]byte("x" + password + string(body))),
			"hex":    hex.EncodeToString([]byte(password)),
		})
	}))
	defer server.Close()

	secrets := map[string]string{
		"plain": "heather-Bell_4711", "odd": `q"u\o<t>e&'d/ +%20=ü`,
		"lines": "-----BEGIN KEY-----\nMIIBVQIBADANBgkqhkiG9w0BAQ\n-----END KEY-----", "short": "7x!q",
	}
	p := newPlace(t)
	p.seal(secrets)
	p.env = append(p.env, "TMPDIR="+filepath.Join(p.dir, "tmp"))
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "tmp"), 0o755))
	p.write("bench.yaml", `bench: secrets
sites:
  local:
    set:
      base: `+server.URL+`
services:
  s:
    address: ${base}
    login: oauth
logins:
  oauth:
    kind: oauth2
    grant: password
    from: ${base}/token
    client: honey-desk
    client secret: ${sealed.odd}
    user: clerk
    password: ${sealed.plain}
  desk:
    kind: login call
    request: POST ${base}/desk
    user: clerk
    password: ${sealed.short}
    token path: reply.text
  basic:
    kind: basic
    user: ab
    password: ${sealed.odd}
  shortbasic:
    kind: basic
    user: a
    password: ${sealed.short}
  query:
    kind: key
    key: ${sealed.odd}
    query: key
  shortquery:
    kind: key
    key: ${sealed.short}
    query: key
`)
	p.write("body.xml", `<a b="${sealed.odd}">${sealed.plain} ${sealed.short}</a>`)
	var steps strings.Builder
	steps.WriteString("sheet: secrets\nsteps:\n")
	for i, login := range []string{"oauth", "desk", "basic", "shortbasic", "query", "shortquery"} {
		fmt.Fprintf(&steps, `  - step: l%d
    request: s GET /echo
    login: %s
    fields:
      nothing: is present
      headers: count 99
`, i, login)
	}
	steps.WriteString(`  - step: everywhere
    request: s POST /echo?q=${sealed.odd}&s=${sealed.short}
    headers:
      X-One: ${sealed.plain}
      X-Two: before ${sealed.short} after
    query:
      r: ${sealed.odd}
      t: "<${sealed.short}>"
    cookies:
      c: ${sealed.plain}
    body:
      a: ${sealed.odd}
      b: "in ${sealed.short} text"
      c: ${sealed.lines}
      d: ${sealed.plain | base64}
      e: ${sealed.odd | upper | hex}
      f:
        as json text:
          g: ${sealed.odd}
    keep:
      again:
        at: query.r[0]
        secret: true
      open: body
    fields:
      body: equals nothing of it
      user: ${sealed.plain}
    where:
      - answer.body == "x"
  - step: xml
    request: s POST /echo
    file: body.xml
  - step: form
    request: s POST /echo
    form:
      a: ${sealed.odd}
      b: ${sealed.short}
  - step: parts
    request: s POST /echo
    parts:
      - name: a
        value: ${sealed.short}
  - step: fails
    request: s POST /fail
    body:
      note: ${again}
      open: ${sealed.plain}
  - step: unreachable
    request: GET http://127.0.0.1:1/?key=${sealed.odd}
    login: basic
  - step: spoilt
    request: s GET /echo
    login:
      spoil: oauth
      how: tampered
`)
	p.write("sheets/s.yaml", steps.String())
	p.write("sheets/derived.yaml",
		"sheet: derived\nsteps:\n  - step: derived\n    request: s POST /echo\n    body:\n      a: ${sealed.odd}\n")
	var output strings.Builder
	for _, args := range [][]string{
		{
			"run", "sheets/s.yaml", "-show", "all", "-out", "r.html", "-out", "r.json", "-out", "r.xml", "-log",
			"log.txt",
		},
		{"run", "sheets/s.yaml", "-json"},
		{"run", "sheets/s.yaml", "-dry"},
		{
			"call", "s", "POST", "/echo", "a=${sealed.odd}", "b=${sealed.short}", "-show", "all", "-in",
			"query.k=${sealed.odd}",
		},
		{"call", "s", "POST", "/echo", "a=${sealed.odd}", "-json", "-keep", "all=headers"},
		{"call", "s", "POST", "/fail", "a=${sealed.odd}", "-pick", "error.message"},
		{"call", "s", "GET", "/echo", "-login", "basic", "-dry"},
		{"call", "s", "GET", "/echo", "-login", "shortquery", "-dry", "-json"},
		{"token", "oauth"},
		{"token", "oauth", "-json"},
		{"token", "desk"},
		{"token", "basic"},
		{"token", "oauth", "-spoil", "tampered", "-verify"},
		{"vet"},
		{"history"},
		{"history", "1.1"},
		{"history", "2", "-json"},
		{"fields", "last"},
		{"fields", "1.8", "-as", "fields"},
		{"compare", "1.7", "1.8"},
		{"compare", "1.7", "1.8", "-json"},
		{"compare", "1", "2"},
		{"compare", "1", "2", "-values"},
		{"compare", "1", "2", "-values", "-json"},
		{"watch", "s", "POST", "/echo", "a=${sealed.odd}", "-times", "2", "-every", "10ms", "-pick", "body"},
		{"handover", "s", "POST", "/echo", "a=${sealed.odd}", "-as", "java"},
		{"handover", "s", "POST", "/echo", "a=${sealed.odd}", "-login", "basic"},
		{"handover", "1.8", "-as", "python"},
		{"probe", "s", "POST", "/echo", "a=${sealed.odd}", "-write", "local", "-out", "probe.html"},
		{
			"probe", "s", "POST", "/echo", "a=${sealed.odd}", "b=${sealed.short}", "-login", "basic", "-write", "local",
			"-json",
		},
		{"probe", "s", "POST", "/echo", "a=${sealed.odd}", "b=${sealed.short}", "-as", "sheet"},
		{"propose", "1.7", "1.7"},
		{"propose", "s", "POST", "/echo", "a=${sealed.odd}", "-times", "2"},
		{
			"propose", "s", "POST", "/echo", "a=${sealed.odd}", "-times", "2", "-into", "sheets/derived.yaml", "-step",
			"derived",
		},
	} {
		o := p.run(args...)
		require.NotContains(t, o.all(), "nothing was sent")
		output.WriteString("\n" + strings.Join(args, " ") + "\n" + o.all())
		require.NotContains(t, o.all(), "panic")
	}
	// On a terminal values are coloured and shortened.
	var env []string
	for _, e := range p.env {
		if e != "NO_COLOR=1" {
			env = append(env, e)
		}
	}
	q := *p
	q.env = env
	shown := q.onTerminal("", "", "testbench run sheets/s.yaml -show all")
	require.Contains(t, shown, "\x1b[")
	output.WriteString(shown)
	p.stdin = secrets["odd"]
	output.WriteString(p.run("secret", "set", "stored").all())
	output.WriteString(p.run("secret", "list").all())

	found := map[string]string{"the output": output.String()}
	require.NoError(t, filepath.WalkDir(p.dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		found[name] = string(data)
		return err
	}))
	require.Contains(t, output.String(), "[masked]")
	require.Greater(t, len(found), 6)
	checked := map[string]string{"token": token, "refresh": refresh, "desk token": "desk<token>&'quoted'"}
	for name, text := range secrets {
		if name != "short" { // see below
			checked[name] = text
		}
	}
	for where, text := range found {
		for name, secret := range checked {
			for _, form := range forms(secret) {
				if at := strings.Index(text, form); at >= 0 {
					t.Errorf("%s is in %s as %q: …%s…", name, where, form,
						text[max(0, at-60):min(len(text), at+len(form)+20)])
				}
			}
		}
	}
	// A short secret is masked where it was put in; what a server repeats of it
	// cannot be told from other text.
	for _, name := range []string{"r.json", "r.html"} {
		text := p.read(name)
		assert.NotContains(t, text, "before 7x!q after\"", name)
		assert.Contains(t, text, "before [masked] after", name)
	}
	assert.Contains(t, output.String(), "shorter than six characters")
	derived := p.read("sheets/derived.yaml")
	assert.Contains(t, derived, "body: is text\n", "a rule would tell the secret")
	assert.NotContains(t, derived, "[masked]")
	assert.Zero(t, p.run("run", "sheets/derived.yaml").status)

	o := p.run("token", "oauth", "-bare")
	assert.Equal(t, token+"\n", o.stdout, "asked for in so many words")
}
