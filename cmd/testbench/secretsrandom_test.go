package main_test

import (
	"encoding/json"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oddCharacters are those that some form of output writes in another way.
var oddCharacters = []rune(`"'\\<>&%+/=?#;:,.|{}[]()$^~` + "`" + `!@*-_ ` + "\t" +
	"äßéñ蜂🐝\u0301\u200b\u202eABCdef0123456789")

// randomSecret makes a secret that is long enough to be found by searching.
func randomSecret(random *rand.Rand, header bool) string {
	var out strings.Builder
	for out.Len() < 8+random.IntN(24) {
		r := oddCharacters[random.IntN(len(oddCharacters))]
		if header && (r > '~' || r < ' ') {
			continue
		}
		out.WriteRune(r)
	}
	// Blanks at its ends are not part of a header field, or of a value in YAML.
	return "q" + out.String() + "z"
}

// Whatever secrets are made of, no output and no file holds one, plain or in any encoding.
func TestRandomSecretsAppearNowhere(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		user, password, _ := r.BasicAuth()
		w.Header().Set("X-Echo", r.Header.Get("X-Key")+" "+r.Header.Get("Authorization"))
		if r.URL.Path == "/xml" {
			w.Header().Set("Content-Type", "application/xml")
			_, _ = w.Write(body)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path == "/fail" {
			w.WriteHeader(http.StatusBadRequest)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{
			"query": r.URL.Query(), "raw": r.URL.RawQuery, "headers": r.Header,
			"body": string(body), "user": user, "password": password,
		})
	}))
	defer server.Close()
	random := rand.New(rand.NewPCG(20261126, 9))
	rounds := 4
	if testing.Short() {
		rounds = 1
	}
	for range rounds {
		p := newPlace(t)
		secrets := map[string]string{
			"body": randomSecret(random, false), "key": randomSecret(random, true),
			"word": randomSecret(random, false),
		}
		p.seal(secrets)
		p.write("bench.yaml", `bench: random
sites:
  local:
    set:
      base: `+server.URL+`
services:
  s:
    address: ${base}
    login: both
logins:
  both:
    kind: basic
    user: ab
    password: ${sealed.word}
  key:
    kind: key
    key: ${sealed.key}
    header: X-Key
  ask:
    kind: key
    key: ${sealed.body}
    query: k
`)
		p.write("body.xml", `<a b="${sealed.body}">${sealed.word}<!-- c --></a>`)
		p.write("sheets/s.yaml", `sheet: s
steps:
  - step: json
    request: s POST /json?q=${sealed.body}
    login: [both, key, ask]
    body: { a: "${sealed.body}", "${sealed.word}": in a name, b: "x${sealed.word}y" }
    keep: { again: { at: body, secret: true } }
    fields: { body: equals nothing, password: "${sealed.word}", raw: is absent }
  - step: form
    request: s POST /json
    form: { a: "${sealed.body}", b: "${sealed.word}" }
    fields: { body: equals nothing }
  - step: xml
    request: s POST /xml
    file: body.xml
    fields: { "@b": equals nothing, answer: equals nothing }
  - step: fails
    request: s POST /fail
    body: [ "${sealed.body}", "${again}" ]
  - step: nobody
    request: GET http://127.0.0.1:1/${sealed.body}?k=${sealed.word}
`)
		var output strings.Builder
		for _, args := range [][]string{
			{
				"run", "sheets/s.yaml", "-show", "all", "-out", "r.html", "-out", "r.json", "-out", "r.ndjson", "-out",
				"r.xml", "-out", "r.har", "-out", "r.md", "-out", "r.csv", "-log", "log.txt",
			},
			{"run", "sheets/s.yaml", "-json"},
			{"run", "sheets/s.yaml", "-dry"},
			{
				"call", "s", "POST", "/json", "a=${sealed.body}", "b=${sealed.word}", "-login", "both,key,ask", "-show",
				"all", "-save", "saved.json",
			},
			{"call", "s", "POST", "/fail", "a=${sealed.body}"},
			{"call", "s", "POST", "/json", "a=${sealed.body}", "-pick", "body"},
			{"history", "1.1"},
			{"history", "1", "-json"},
			{"report", "1"},
			{"report", "1", "-json"},
			{"fields", "1.1"},
			{"fields", "1.3", "-as", "fields"},
			{"compare", "1.1", "1.2"},
			{"watch", "s", "POST", "/json", "a=${sealed.body}", "-times", "1", "-pick", "body"},
			{"propose", "s", "POST", "/json", "a=${sealed.body}", "-times", "2"},
			{"probe", "s", "POST", "/json", "a=${sealed.body}", "-login", "both,key,ask", "-write", "local"},
			{"handover", "s", "POST", "/json", "a=${sealed.body}", "-as", "python"},
			{"handover", "1.1", "-as", "go"},
			{"token", "key"},
			{"vet"},
		} {
			o := p.run(args...)
			require.NotContains(t, o.all(), "nothing was sent", "%q", secrets)
			output.WriteString("\n" + strings.Join(args, " ") + "\n" + o.all())
		}
		require.Contains(t, output.String(), "[masked]")
		found := map[string]string{"the output": output.String()}
		require.NoError(t, filepath.WalkDir(p.dir, func(name string, d fs.DirEntry, err error) error {
			// What was saved on purpose is the answer as it came.
			if err != nil || d.IsDir() || d.Name() == "saved.json" {
				return err
			}
			data, err := os.ReadFile(name)
			found[name] = string(data)
			return err
		}))
		for where, text := range found {
			for name, secret := range secrets {
				for _, form := range forms(secret) {
					if at := strings.Index(text, form); at >= 0 {
						if where == "the output" {
							if before := strings.LastIndex(text[:at], "\n\n"); before >= 0 {
								where = text[before:min(at, before+80)]
							}
						}
						assert.Fail(t, "a secret is in "+where, "%s %q as %q: …%q…", name, secret, form,
							text[max(0, at-60):min(len(text), at+len(form)+20)])
					}
				}
			}
		}
	}
}
