package login_test

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/value"
)

// scope knows nothing and remembers what was hidden.
type scope struct {
	mutex  sync.Mutex
	hidden map[string]bool
}

func (s *scope) Lookup(string, string) (*document.Node, error) { return nil, value.ErrNothing }
func (s *scope) Hide(text string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.hidden == nil {
		s.hidden = map[string]bool{}
	}
	s.hidden[text] = true
}

// clock is a clock that tests set.
type clock struct{ atomic.Int64 }

func (c *clock) now() time.Time           { return time.Unix(c.Load(), 0) }
func (c *clock) forward(by time.Duration) { c.Add(int64(by / time.Second)) }

func newRequest(t *testing.T) *exchange.Request {
	t.Helper()
	u, err := url.Parse("http://127.0.0.1/lots?a=1")
	require.NoError(t, err)
	return &exchange.Request{Method: "GET", URL: u}
}

func keeper(t *testing.T, s *scope, c *clock, kinds map[string]login.Kind) *login.TokenManager {
	t.Helper()
	client, err := exchange.NewClient(exchange.Options{})
	require.NoError(t, err)
	t.Cleanup(client.Close)
	return login.NewTokenManager(login.Env{Scope: s, Sender: client, Now: c.now}, kinds)
}

func TestFixedKinds(t *testing.T) {
	lit := value.Literal
	cases := []struct {
		name           string
		kind           login.Kind
		header, text   string
		address, shown string
	}{
		// RFC 7617, section 2
		{
			name: "basic", kind: &login.Basic{User: lit("Aladdin"), Password: lit("open sesame")},
			header: "Authorization",
			text:   "Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==",
		},
		{
			name: "basic with an empty password", kind: &login.Basic{User: lit("a"), Password: lit("")},
			header: "Authorization", text: "Basic YTo=",
		},
		// RFC 7617, 2.1
		{
			name: "basic in UTF-8", kind: &login.Basic{User: lit("test"), Password: lit("123£")},
			header: "Authorization",
			text:   "Basic dGVzdDoxMjPCow==",
		},
		// RFC 6750, 2.1
		{
			name: "bearer", kind: &login.Bearer{Token: lit("mF_9.B5f-4.1JqM")}, header: "Authorization",
			text: "Bearer mF_9.B5f-4.1JqM",
		},
		{
			name: "key", kind: &login.Key{Key: lit("k-1"), Send: login.Send{Header: "X-Key"}}, header: "X-Key",
			text: "k-1",
		},
		{
			name:   "key with a word",
			kind:   &login.Key{Key: lit("k-1"), Send: login.Send{Header: "Authorization", Scheme: "Hive"}},
			header: "Authorization", text: "Hive k-1",
		},
		{
			name: "key in the query", kind: &login.Key{Key: lit("k 1&"), Send: login.Send{Query: "api key"}},
			address: "http://127.0.0.1/lots?a=1&api%20key=k%201%26",
			shown:   "http://127.0.0.1/lots?a=1&api%20key=[masked]",
		},
		{
			name: "key in a cookie", kind: &login.Key{Key: lit("k-1"), Send: login.Send{Cookie: "SID"}},
			header: "Cookie",
			text:   "SID=k-1",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s := &scope{}
			k := keeper(t, s, &clock{}, map[string]login.Kind{"l": c.kind})
			r := newRequest(t)
			token, err := k.Token(t.Context(), "l")
			require.NoError(t, err)
			require.NoError(t, k.ApplyToken("l", r, token))
			if c.header != "" {
				assert.Equal(t, c.text, r.GetHeader(c.header))
				assert.Contains(t, r.ShownField(c.header, c.text), "[masked]")
			}
			if c.address != "" {
				assert.Equal(t, c.address, r.URL.String())
				assert.Equal(t, c.shown, r.Shown())
			}
			assert.False(t, k.Refused("l", token), "there is no other to be had")
			assert.NoError(t, k.Close(t.Context()))
		})
	}
	k := keeper(t, &scope{}, &clock{},
		map[string]login.Kind{
			"colon": &login.Basic{User: lit("a:b"), Password: lit("c")},
			"lines": &login.Key{Key: lit("a\nb"), Send: login.Send{Header: "X"}},
		})
	_, err := k.Token(t.Context(), "colon")
	assert.ErrorContains(t, err, "cannot hold a colon")
	token, err := k.Token(t.Context(), "lines")
	require.NoError(t, err)
	assert.ErrorContains(t, k.ApplyToken("lines", newRequest(t), token), "line break")
	_, err = k.Token(t.Context(), "nobody")
	assert.ErrorContains(t, err, "there is no such login")
}

// issuer is a token endpoint whose tokens are numbered.
func issuer(t *testing.T, life int, refresh bool) (*httptest.Server, *atomic.Int32, *atomic.Int32) {
	t.Helper()
	var asked, refreshed atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		text := fmt.Sprintf("asked-%d", asked.Load()+1)
		if r.PostFormValue("grant_type") == "refresh_token" {
			if r.PostFormValue("refresh_token") != "again" {
				w.WriteHeader(http.StatusBadRequest)
				_, _ = fmt.Fprint(w, `{"error": "invalid_grant"}`)
				return
			}
			text = fmt.Sprintf("refreshed-%d", refreshed.Add(1))
		} else {
			asked.Add(1)
		}
		more := ""
		if refresh {
			more = `, "refresh_token": "again"`
		}
		_, _ = fmt.Fprintf(w, `{"access_token": %q, "token_type": "Bearer", "expires_in": %d, "scope": "a b"%s}`, text,
			life, more)
	}))
	t.Cleanup(server.Close)
	return server, &asked, &refreshed
}

func oauth(t *testing.T, address string) *login.OAuth2 {
	t.Helper()
	from, err := value.ParseAddress(address)
	require.NoError(t, err)
	return &login.OAuth2{
		Grant: "client credentials", From: from, Client: value.Literal("desk"),
		ClientSecret: value.SecretLiteral("desk-secret"),
	}
}

// A token is used until a tenth of its life, at most 30 seconds, is left.
func TestRenewal(t *testing.T) {
	server, asked, refreshed := issuer(t, 600, true)
	c := &clock{}
	k := keeper(t, &scope{}, c, map[string]login.Kind{"l": oauth(t, server.URL)})
	token := func() string {
		got, err := k.Token(t.Context(), "l")
		require.NoError(t, err)
		return got.Text
	}
	assert.Equal(t, "asked-1", token())
	c.forward(569 * time.Second)
	assert.Equal(t, "asked-1", token())
	c.forward(2 * time.Second)
	assert.Equal(t, "refreshed-1", token(), "30 seconds before its end")
	assert.EqualValues(t, 1, asked.Load())
	first, err := k.Token(t.Context(), "l")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, first.Scope)
	assert.True(t, k.Refused("l", first))
	assert.Equal(t, "asked-2", token(), "what was refused is not renewed but got anew")
	assert.True(t, k.Refused("l", first), "an older token's refusal does not harm the newer")
	assert.Equal(t, "asked-2", token())
	assert.EqualValues(t, 1, refreshed.Load())
}

// Many that need a token at once wait for the one that gets it.
func TestOneTokenForMany(t *testing.T) {
	server, asked, _ := issuer(t, 600, false)
	k := keeper(t, &scope{}, &clock{}, map[string]login.Kind{"l": oauth(t, server.URL)})
	var all sync.WaitGroup
	for range 200 {
		all.Go(func() {
			token, err := k.Token(t.Context(), "l")
			if assert.NoError(t, err) {
				assert.NoError(t, k.ApplyToken("l", newRequest(t), token))
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, asked.Load())
}

// What an issuer says instead of a token is told in words (RFC 6749, 5.2).
func TestRefusals(t *testing.T) {
	cases := []struct {
		status              int
		contentType, answer string
		message, try        string
	}{
		{
			400, "application/json", `{"error": "invalid_scope", "error_description": "no such scope"}`,
			"refused with 400 invalid_scope: no such scope", "more than this client may have",
		},
		{
			401, "application/json", `{"error": "invalid_client"}`, "refused with 401 invalid_client",
			"client authentication: basic, form",
		},
		{400, "application/json", `{"error": "unauthorized_client"}`, "unauthorized_client", "may not use this grant"},
		{
			400, "application/json", `{"error": "unsupported_grant_type"}`, "unsupported_grant_type",
			"does not know this grant",
		},
		{400, "application/json", `{"error": "custom"}`, "custom", ""},
		{500, "text/html", `<html>`, "answered 500: an HTML page", ""},
		{404, "text/plain", ``, "answered 404: an empty answer", ""},
		{
			200, "application/json", `{"token": "x"}`, "200 without an access_token (an object with token)",
			"RFC 6749, section 5.1",
		},
		{200, "text/html", `<html>`, "200 without an access_token (an HTML page)", ""},
		{200, "application/json", `{"access_token": ""}`, "without an access_token", ""},
	}
	for _, c := range cases {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", c.contentType)
			w.WriteHeader(c.status)
			_, _ = fmt.Fprint(w, c.answer)
		}))
		k := keeper(t, &scope{}, &clock{}, map[string]login.Kind{"l": oauth(t, server.URL)})
		_, err := k.Token(t.Context(), "l")
		var failure *login.Error
		require.ErrorAs(t, err, &failure)
		assert.Contains(t, failure.Error(), "login l: the token endpoint ")
		assert.Contains(t, failure.Message, c.message)
		assert.Contains(t, failure.Try, c.try)
		assert.NotNil(t, failure.Record)
		server.Close()
	}
	k := keeper(t, &scope{}, &clock{}, map[string]login.Kind{"l": oauth(t, "http://127.0.0.1:1/")})
	_, err := k.Token(t.Context(), "l")
	var failure *exchange.Failure
	require.ErrorAs(t, err, &failure)
	assert.Equal(t, exchange.Refused, failure.Kind)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = k.Token(ctx, "l")
	assert.True(t, errors.As(err, &failure) && failure.Kind == exchange.Interrupted)
}

func TestSpoil(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	body := base64.RawURLEncoding.EncodeToString([]byte(`{"exp":4102444800,"sub":"b"}`))
	bearer, good := &login.Bearer{}, &login.Token{Text: "e30." + body + ".AQID"}
	for way, want := range map[string]string{
		"empty": "", "tampered": "e30." + body + ".BQID",
		"expired": "e30." + base64.RawURLEncoding.EncodeToString([]byte(`{"exp":1799996400,"sub":"b"}`)) + ".AQID",
	} {
		spoilt, err := login.Spoil(bearer, good, way, now)
		require.NoError(t, err)
		assert.Equal(t, want, spoilt.Text, way)
		assert.Equal(t, way, spoilt.Spoilt)
		assert.Empty(t, good.Spoilt)
	}
	_, err := login.Spoil(bearer, good, "burnt", now)
	assert.ErrorContains(t, err, "expired, tampered, other audience, empty")
	_, err = login.Spoil(bearer, &login.Token{}, "tampered", now)
	assert.Error(t, err)
	for _, text := range []string{
		"", "a.b", "a.b.c",
		"a." + base64.RawURLEncoding.EncodeToString([]byte("[]")) + ".c",
	} {
		assert.Nil(t, login.Claims(text), text)
	}
}
