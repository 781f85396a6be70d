package main_test

import (
	"encoding/json"
	"encoding/xml"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/secret/secrettest"
)

// window is how many characters of a secret are a leak.
const window = 12

// leaks are pieces of what a server sent that come from a secret, by their length.
type leaks struct {
	mutex sync.Mutex
	of    map[int]map[string]string
}

// add takes up the pieces of an encoded text that come from the secret in it: those that are
// not there where another is in its place. What both have a part in is not a leak.
func (l *leaks) add(name, before, secret, after string, encode func(string) string) string {
	text := encode(before + secret + after)
	length := window * (1 + len(text)/len(before+secret+after))
	other := map[string]bool{}
	for _, fill := range []string{"w", "7"} {
		filled := encode(before + strings.Repeat(fill, len(secret)) + after)
		for i := 0; i+length <= len(filled); i++ {
			other[filled[i:i+length]] = true
		}
	}
	var own []string
	for i := 0; i+length <= len(text); i++ {
		if piece := text[i : i+length]; !other[piece] {
			own = append(own, piece)
		}
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.of[length] == nil {
		l.of[length] = map[string]string{}
	}
	for i := length; i+length < len(own); i++ {
		l.of[length][own[i]] = name
	}
	return text
}

// find gives the pieces that are in a text, with what they come from.
func (l *leaks) find(text string) map[string]string {
	found := map[string]string{}
	for length, pieces := range l.of {
		for i := 0; i+length <= len(text); i++ {
			if name := pieces[text[i:i+length]]; name != "" {
				found[name] = text[max(0, i-80):min(len(text), i+length+80)]
			}
		}
	}
	return found
}

// A service that sends back what it was sent, encoded in whatever way and in whatever place, does
// not make any output or file tell a part of it: not where a message, a cell or a line is cut
// or folded.
func TestReflectedSecretsAppearNowhere(t *testing.T) {
	slow(t)
	t.Parallel()
	random := rand.New(rand.NewPCG(18, 1))
	names := slices.Sorted(maps.Keys(secrettest.Encodings))
	letters := []rune("abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789")
	made := func(n int) string {
		out := make([]rune, n)
		for i := range out {
			out[i] = letters[random.IntN(len(letters))]
		}
		return string(out)
	}
	secrets := map[string]string{
		"token":  made(200),
		"phrase": made(9) + " " + made(7) + "  " + made(11) + " " + made(8), "word": made(14),
	}
	found := &leaks{of: map[int]map[string]string{}}
	for name, text := range secrets {
		found.add(name, strings.Repeat(" ", window), text, strings.Repeat(" ", window), func(s string) string {
			return s
		})
	}
	var mutex sync.Mutex
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		mutex.Lock()
		defer mutex.Unlock()
		q := r.URL.Query()
		said := func() string {
			chain := make([]string, 1+random.IntN(3))
			for i := range chain {
				chain[i] = names[random.IntN(len(names))]
			}
			name := slices.Sorted(maps.Keys(secrets))[random.IntN(3)]
			before := strings.Repeat("honey ", random.IntN(20))
			return found.add(name+" as "+strings.Join(chain, " in "), before, secrets[name], " of the hive",
				func(s string) string {
					for _, one := range chain {
						s = secrettest.Encodings[one](s)
					}
					return s
				})
		}
		if text := said(); !strings.ContainsAny(text, "\r\n") {
			w.Header().Set("X-Said", text)
		}
		w.Header().Add("Set-Cookie", "c="+secrets["word"])
		if q.Get("fail") != "" {
			w.WriteHeader(http.StatusBadRequest)
		}
		switch q.Get("in") {
		case "xml":
			w.Header().Set("Content-Type", "application/xml")
			var text strings.Builder
			_ = xml.EscapeText(&text, []byte(said()))
			_, _ = io.WriteString(w,
				`<error><message kind="`+secrets["word"]+`">`+text.String()+`</message><code>`+secrets["token"]+
					`</code></error>`)
		case "text":
			w.Header().Set("Content-Type", "text/plain")
			_, _ = io.WriteString(w, secrets["token"]+" "+said()+"\n"+secrets["phrase"])
		case "html":
			w.Header().Set("Content-Type", "text/html")
			_, _ = io.WriteString(w,
				"<html><title>"+secrets["phrase"]+"</title><h1>"+secrets["phrase"]+" "+secrets["token"]+"</h1></html>")
		case "broken":
			w.Header().Set("Content-Type", "application/xml")
			_, _ = io.WriteString(w, secrets["token"]+said())
		default:
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{
				"said": said(), "token": secrets["token"], "phrase": "it is " + secrets["phrase"] + ".",
				secrets["word"]: 1, "list": []string{said(), said()},
				"error": map[string]string{
					"message": "no: " + secrets["phrase"] + "\n" + said(),
					"code":    secrets["word"],
				},
			})
		}
	}))
	defer server.Close()
	p := newPlace(t)
	p.seal(secrets)
	p.write("schema.json", `{"type": "object", "additionalProperties": false, "properties": {"said": {"type": "integer"}, "token": {"enum": ["a", "b"]}, "phrase": {"type": "string", "pattern": "^[0-9]+$", "maxLength": 3}}}`)
	p.write("bench.yaml", `bench: reflected
sites:
  local:
    set:
      base: `+server.URL+`
services:
  s:
    address: ${base}
    login: [token, word]
    operations:
      told:
        request: POST /
        headers:
          X-Phrase: required
        answer: schema.json
logins:
  token:
    kind: key
    key: ${sealed.token}
    header: X-Token
  word:
    kind: key
    key: ${sealed.word}
    query: k
`)
	rules := `    fields:
      said: equals nothing
      token: one of a or b
      phrase: is number
      list[*]: is empty
      error.message: matches ^x$
      error.code: over 5
    where:
      - answer.token + answer.phrase == "x"
      - number(answer.token) > 1
    keep:
      a: token | number
      b: nothing.here
`
	p.write("sheets/s.yaml", `sheet: s
steps:
  - step: contract
    call: s/told
    fill:
      X-Phrase: ${sealed.phrase}
  - step: json
    request: s POST /?in=json&q=${sealed.phrase}
`+rules+`  - step: xml
    request: s POST /?in=xml&q=${sealed.phrase}
    fields: { message: equals nothing, "message.@kind": is number, code: is number }
  - step: text
    request: s POST /?in=text&q=${sealed.phrase}
    fields: { answer: equals nothing }
    expect: { headers: { X-Said: equals nothing, Set-Cookie: is number }, type: application/json }
  - step: html
    request: s POST /?in=html&fail=yes&q=${sealed.phrase}
  - step: broken
    request: s POST /?in=broken&q=${sealed.phrase}
    fields: { a: 1 }
  - step: refused
    request: s POST /?in=json&fail=yes&q=${sealed.phrase}
  - step: expected
    request: s POST /?in=json&q=${sealed.phrase}
    expect: { error: { code: X, text: is number } }
  - step: again
    request: s POST /?in=json&q=${sealed.phrase}
    until: { token: 1 }
    every: 5 ms
    within: 20 ms
`)
	p.write("sheets/ok.yaml", `sheet: ok
steps:
  - step: json
    request: s POST /?in=json&q=${sealed.phrase}
    fields: { phrase: is text, list: count 2 }
    keep: { said: said, phrase: phrase }
  - step: xml
    request: s POST /?in=xml&q=${sealed.phrase}
    expect: { error: { code: is text } }
`)
	var output strings.Builder
	post := []string{"s", "POST", "/?in=json", "a=${sealed.phrase}"}
	for _, args := range [][]string{
		{
			"run", "sheets/s.yaml", "-show", "all", "-out", "r.html", "-out", "r.json", "-out", "r.ndjson", "-out",
			"r.xml", "-out", "r.har", "-out", "r.md", "-out", "r.csv", "-log", "log.txt",
		},
		{"run", "sheets/s.yaml", "-json", "-repeat", "3"},
		append([]string{"call"}, append(post, "-show", "all")...), append([]string{"call"}, append(post, "-json")...),
		append([]string{"call"}, append(post, "-pick", "token")...),
		{"call", "s", "POST", "/?in=text", "a=${sealed.phrase}"},
		{"call", "s", "POST", "/?in=html&fail=1", "a=${sealed.phrase}"},
		{"call", "s", "POST", "/?in=broken", "a=${sealed.phrase}", "-pick", "x"},
		{"run", "sheets/ok.yaml", "-doubt", "-out", "doubt.html"},
		{"run", "sheets/ok.yaml", "-doubt", "-json"},
		{"doubt", "sheets/ok.yaml", "-all", "-out", "doubted.html"},
		{"doubt", "sheets/ok.yaml", "-json", "-into", "sheets/ok.yaml"},
		{"cover", "s", "-all", "-out", "cover.html"},
		{"cover", "s", "-json"},
		{"compare", "1.2", "1.7", "-out", "sides.html", "-full"},
		{"history", "-values", "said", "-values", "phrase", "-out", "values.csv"},
		{"history", "1.2"},
		{"history", "1", "-json"},
		{"report", "1"},
		{"fields", "1.2"},
		{"fields", "1.3"},
		{"fields", "1.2", "-as", "fields"},
		{"compare", "1.2", "1.7"},
		{"compare", "1", "2", "-values"},
		append([]string{"watch"},
			append(post, "-times", "3", "-every", "1ms", "-pick", "token", "-pick", "phrase", "-pick", "said")...),
		append([]string{"propose"}, append(post, "-times", "3")...),
		append([]string{"probe"}, append(post, "-write", "local")...),
		append([]string{"handover"}, append(post, "-as", "python")...),
		{"handover", "1.2", "-as", "go"},
	} {
		o := p.run(args...)
		require.NotContains(t, o.all(), "nothing was sent", "%q", args)
		output.WriteString("\n" + strings.Join(args, " ") + "\n" + o.all())
	}
	for _, width := range []string{"40", "80", "160"} {
		output.WriteString(p.onTerminal("", "", "stty cols "+width+"; testbench run sheets/s.yaml -show all"))
	}
	texts := map[string]string{"the output": output.String()}
	require.Contains(t, output.String(), "[masked]")
	require.Contains(t, output.String(), " changes (", "answers were doubted")
	require.NoError(t, filepath.WalkDir(p.dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		texts[name] = string(data)
		return err
	}))
	for where, text := range texts {
		for name, around := range found.find(text) {
			assert.Fail(t, "a part of a secret is in "+where, "%s: …%s…", name, around)
		}
	}
}
