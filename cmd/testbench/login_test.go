package main_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A desk is any login call: credentials in headers, form, JSON or Basic; the
// token found by a path, in a header, a cookie or as the whole text; its life
// in seconds, as an instant or fixed; sent after any word, in the query or as
// a cookie; and given back at the end.
func TestDesks(t *testing.T) {
	t.Parallel()
	const password = `s&cret "word"`
	var returned atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(strings.NewReader(string(data)))
		refuse := func() { w.WriteHeader(http.StatusForbidden) }
		switch r.URL.Path {
		case "/headers":
			if r.Header.Get("X-User") != "clerk" || r.Header.Get("X-Word") != password {
				refuse()
				return
			}
			w.Header().Set("X-Ticket", "ticket-in-header")
		case "/form":
			if r.PostFormValue("user") != "clerk" || r.PostFormValue("word") != password {
				refuse()
				return
			}
			_, _ = io.WriteString(w, "  ticket-as-text\n")
		case "/json":
			var body struct{ User, Word string }
			if json.Unmarshal(data, &body) != nil || body.Word != password {
				refuse()
				return
			}
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"session": {"id": "ticket-in-json", "until": %q}}`,
				time.Now().Add(time.Hour).UTC().Format(time.RFC3339))
		case "/xml":
			w.Header().Set("Content-Type", "text/xml")
			_, _ = io.WriteString(w, `<login><ticket kind="x">ticket-in-xml</ticket><minutes>5</minutes></login>`)
		case "/basic":
			if user, word, _ := r.BasicAuth(); user != "clerk" || word != password {
				refuse()
				return
			}
			http.SetCookie(w, &http.Cookie{Name: "SID", Value: "ticket-in-cookie"})
		case "/back":
			if r.Method == "DELETE" && r.Header.Get("Authorization") == "Hive ticket-in-json" &&
				string(data) == `{"ticket":"ticket-in-json"}` {
				returned.Add(1)
				return
			}
			refuse()
		default:
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{
				"authorization": r.Header.Get("Authorization"),
				"ticket":        r.Header.Get("X-Ticket"), "query": r.URL.Query(), "cookie": r.Header.Get("Cookie"),
			})
		}
	}))
	defer server.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_WORD="+password)
	p.write("bench.yaml", `bench: desks
sites:
  local:
    set:
      base: `+server.URL+`
  other:
    like: local
    logins:
      headers: json
services:
  s:
    address: ${base}
logins:
  headers:
    kind: login call
    request: POST ${base}/headers
    headers:
      X-User: clerk
      X-Word: ${sealed.word}
    token path: reply.headers.X-Ticket
    expires in: 5 min
    send:
      header: X-Ticket
  form:
    kind: login call
    request: POST ${base}/form
    form:
      user: clerk
      word: ${sealed.word}
    token path: reply.text
    send:
      query: ticket
  json:
    kind: login call
    request: POST ${base}/json
    body:
      user: clerk
      word: ${sealed.word}
    token path: session.id
    expires in: session.until
    send:
      header: Authorization
      scheme: Hive
    revoke: {request: "DELETE ${base}/back", body: {ticket: "${token}"}}
  text:
    kind: login call
    request: POST ${base}/json
    text: '{"user": "clerk", "word": "${sealed.word}"}'
    token path: session.id
  made:
    kind: login call
    request: POST ${base}/json
    body: {user: clerk, word: "${sealed.word}"}
    token: clerk:${answer.session.id}:${reply.status}
    encode: base64
    send: {scheme: Hive}
  hollow:
    kind: login call
    request: POST ${base}/json
    body: {word: "${sealed.word}"}
    token: clerk:${answer.session}
  half:
    kind: login call
    request: GET ${base}/xml
    token: clerk:${answer.tickett}
  xml:
    kind: login call
    request: GET ${base}/xml
    token path: ticket
    expires in: minutes min
    send:
      header: Authorization
      scheme: Hive
  basic:
    kind: login call
    request: POST ${base}/basic
    user: clerk
    password: ${sealed.word}
    token path: reply.cookies.SID
    send:
      cookie: SID
  nowhere:
    kind: login call
    request: GET ${base}/xml
    token path: tickett
  wrong:
    kind: login call
    request: POST ${base}/basic
    user: clerk
    password: nothing right
    token path: reply.cookies.SID
  key:
    kind: key
    key: ${sealed.word}
    header: X-Key
    scheme: Hive
`)
	wants := map[string]string{
		"headers": "ticket: ticket-in-header", "form": "query.ticket[0]: ticket-as-text",
		"json": "authorization: Hive ticket-in-json",
		"text": "authorization: Bearer ticket-in-json", "xml": "authorization: Hive ticket-in-xml",
		"basic": "cookie: SID=ticket-in-cookie",
		"made":  "authorization: Hive " + base64.StdEncoding.EncodeToString([]byte("clerk:ticket-in-json:200")),
	}
	for login, want := range wants {
		o := p.sheet("sheet: desk\nsteps:\n  - step: one\n    request: s GET /\n    login: " + login +
			"\n    fields:\n      " + want + "\n")
		assert.Equal(t, 0, o.status, "%s: %s", login, o.all())
		assert.NotContains(t, o.all(), "ticket-in-j")
	}
	assert.EqualValues(t, 1, returned.Load(), "given back at the end of the run")
	for login, want := range map[string]string{
		"headers": "5 min", "json": "59 min", "xml": "4 min 59 s",
		"form": "not known",
	} {
		o := p.run("token", login)
		assert.Equal(t, 0, o.status)
		assert.Contains(t, strings.ReplaceAll(strings.ReplaceAll(o.stdout, "5 min,", "4 min 59 s, 5 min"), "1 h,",
			"59 min"), want, login)
	}
	o := p.run("token", "nowhere")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr,
		`there is no token at tickett: answer has no tickett: it is an element with ticket, minutes; did you mean "ticket"?`)
	o = p.run("token", "half")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "no token was made: ${answer.tickett}: has no value: it is an element with ticket, minutes")
	o = p.run("token", "hollow")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "no token was made: ${answer.session} is an object with id, until")
	o = p.run("token", "wrong")
	assert.Equal(t, 3, o.status)
	assert.Contains(t, o.stderr, "the login call was answered with 403")
	o = p.run("token", "key", "-verify")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "nobody can be asked")
	o = p.run("token", "form", "-verify")
	assert.Contains(t, o.stderr, "still good: GET ADDRESS")

	// A site may use another login under the same name; several go together.
	o = p.sheet(`sheet: other
site: other
steps:
  - step: one
    request: s GET /
    login: headers
    fields:
      authorization: Hive ticket-in-json
  - step: two
    request: s GET /
    login:
      - xml
      - form
    fields:
      authorization: Hive ticket-in-xml
      query.ticket[0]: ticket-as-text
`)
	assert.Equal(t, 0, o.status, o.all())
}

// A spoilt token is sent as it was spoilt.
func TestSpoilt(t *testing.T) {
	t.Parallel()
	token := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." +
		base64.RawURLEncoding.EncodeToString([]byte(`{"sub":"bee","exp":4102444800}`)) + ".signature"
	var seen atomic.Value
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.Store(r.Header.Get("Authorization"))
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer server.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_TOKEN="+token, "TESTBENCH_SEALED_OPAQUE=opaque-token-1")
	p.write("bench.yaml", "bench: spoilt\nsites:\n  local:\n    set:\n      base: "+server.URL+
		`
services:
  s:
    address: ${base}
logins:
  jwt:
    kind: bearer
    token: ${sealed.token}
  opaque:
    kind: bearer
    token: ${sealed.opaque}
`)
	o := p.run("call", "s", "GET", "/", "-login", "jwt", "-spoil", "tampered")
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, "Bearer "+strings.Replace(token, ".signature", ".Aignature", 1), seen.Load())
	p.run("call", "s", "GET", "/", "-login", "jwt", "-spoil", "expired")
	parts := strings.Split(seen.Load().(string), ".")
	claims, err := base64.RawURLEncoding.DecodeString(parts[1])
	assert.NoError(t, err)
	var read struct {
		Sub string
		Exp int64
	}
	assert.NoError(t, json.Unmarshal(claims, &read))
	assert.Equal(t, "bee", read.Sub)
	assert.Less(t, read.Exp, time.Now().Unix())
	p.run("call", "s", "GET", "/", "-login", "jwt", "-spoil", "empty")
	assert.Equal(t, "Bearer", seen.Load())
	o = p.run("call", "s", "GET", "/", "-login", "opaque", "-spoil", "expired")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "only a JWT can be spoilt as expired")
	o = p.run("token", "jwt")
	assert.Contains(t, o.stdout, "4102444800 (2100-01-01T00:00:00Z, in ")
	o = p.run("call", "s", "GET", "/", "-spoil", "empty")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "-spoil needs the login")
}
