package login_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/value"
)

// A session is opened once, also after a redirect that sets the cookie; its
// cookies follow what answers change; one that is over, or whose word is no longer
// good, is opened anew; and it is closed at the end.
func TestSession(t *testing.T) {
	var mutex sync.Mutex
	opened, closed, cookie, word := 0, 0, "", ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		set := func() {
			cookie = fmt.Sprintf("cookie-%d-%d", opened, len(cookie))
			http.SetCookie(w, &http.Cookie{Name: "sid", Value: cookie, Path: "/"})
		}
		sent, _ := r.Cookie("sid")
		inside := sent != nil && sent.Value == cookie && cookie != ""
		switch {
		case r.URL.Path == "/open":
			opened++
			word = fmt.Sprintf("word-%d", opened)
			set()
			http.Redirect(w, r, "/welcome", http.StatusSeeOther)
		case r.URL.Path == "/welcome" && inside:
			if r.Header.Get("X-Word") == "please" {
				w.Header().Set("X-Word", word)
			}
		case r.URL.Path == "/refusing":
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusForbidden)
			_, _ = w.Write([]byte(`{"error": {"code": "D7", "message": "the desk is closed"}}`))
		case r.URL.Path == "/close":
			closed++
			cookie = ""
		case !inside:
			w.WriteHeader(http.StatusUnauthorized)
		case r.Method != "GET" && r.Header.Get("X-Word") != word:
			w.Header().Set("X-Word", "Required")
			w.WriteHeader(http.StatusForbidden)
		case r.URL.Path == "/rotate":
			set()
		}
	}))
	defer server.Close()
	spec := func(method, path string) *request.Spec {
		return &request.Spec{Method: method, Address: value.Literal(server.URL + path)}
	}
	client, err := exchange.NewClient(exchange.Options{})
	require.NoError(t, err)
	defer client.Close()
	hidden := &scope{}
	k := login.NewTokenManager(login.Env{Scope: hidden, Sender: client}, map[string]login.Kind{"s": &login.Session{
		Open: spec("POST", "/open"),
		Echo: &login.Echo{Header: "X-Word", Request: spec("GET", "/welcome"), Value: "please"},
		Shut: spec("DELETE", "/close"),
	}})
	send := func(method, path string) (int, []string) {
		u, err := url.Parse(server.URL + path)
		require.NoError(t, err)
		sent, err := k.Send(t.Context(), &exchange.Request{Method: method, URL: u}, login.Use{Names: []string{"s"}})
		require.NoError(t, err)
		return sent.Record().Answer.Status, sent.Notes
	}
	expect := func(method, path string, notes int, what string) {
		status, got := send(method, path)
		assert.Equal(t, 200, status, what)
		assert.Len(t, got, notes, what)
	}
	change := func(to func()) {
		mutex.Lock()
		defer mutex.Unlock()
		to()
	}
	expect("GET", "/lots", 0, "opened")
	expect("POST", "/lots", 0, "with the word")
	expect("GET", "/rotate", 0, "the cookie changes")
	expect("GET", "/lots", 0, "with the new cookie")
	change(func() { assert.Equal(t, 1, opened) })
	change(func() { cookie = "over" })
	expect("GET", "/lots", 1, "the session was over: opened anew")
	change(func() { word = "another" })
	expect("POST", "/lots", 1, "the word was no longer good: opened anew")
	change(func() { assert.Equal(t, 3, opened) })
	assert.True(t, hidden.hidden["word-3"] && hidden.hidden["cookie-1-0"], "%v", hidden.hidden)
	require.NoError(t, k.Close(t.Context()))
	change(func() { assert.Equal(t, 1, closed) })

	refused := login.NewTokenManager(login.Env{Scope: hidden, Sender: client}, map[string]login.Kind{"s": &login.Session{
		Echo: &login.Echo{Header: "X-Word", Request: spec("GET", "/refusing"), Value: "please"},
	}})
	_, err = refused.Token(t.Context(), "s")
	assert.ErrorContains(t, err, "asking for X-Word was answered with 403: D7: the desk is closed")
}

// Some services refuse each call without the word that they give along with that, also when the word changes; a
// refusal that gives the same word is about something else.
func TestWordOfARefusal(t *testing.T) {
	word, asked := "one", 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.Header().Set("X-Word", word)
		if r.Header.Get("X-Word") != word || r.URL.Path == "/taken" {
			w.WriteHeader(http.StatusConflict)
		}
	}))
	defer server.Close()
	client, err := exchange.NewClient(exchange.Options{})
	require.NoError(t, err)
	defer client.Close()
	k := login.NewTokenManager(login.Env{Scope: &scope{}, Sender: client}, map[string]login.Kind{"s": &login.Session{
		Echo: &login.Echo{Header: "X-Word", Request: &request.Spec{Method: "POST", Address: value.Literal(server.URL)}},
	}})
	for _, c := range []struct {
		name, path, word string
		status, asked    int
	}{
		{"asked for first", "/lots", "one", 200, 2},
		{"repeated", "/lots", "one", 200, 1},
		{"another word", "/lots", "two", 200, 3},
		{"refused for itself", "/taken", "two", 409, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			word, asked = c.word, 0
			u, err := url.Parse(server.URL + c.path)
			require.NoError(t, err)
			sent, err := k.Send(t.Context(), &exchange.Request{Method: "POST", URL: u}, login.Use{Names: []string{"s"}})
			require.NoError(t, err)
			assert.Equal(t, c.status, sent.Record().Answer.Status)
			assert.Equal(t, c.asked, asked)
		})
	}
}
