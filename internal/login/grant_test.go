package login_test

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	//lint:ignore SA1019 NTLM is made of it
	"golang.org/x/crypto/md4"

	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/value"
)

// The token requests of the standards' own examples, byte for byte but for the
// order of parameters: RFC 6749, 4.3.2, 4.4.2 and 6, RFC 7521, RFC 7522, 4,
// RFC 8693, 2.3, RFC 8707, 2.2.
func TestTokenRequests(t *testing.T) {
	lit := value.Literal
	var got *http.Request
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		got = r
		w.Header().Set("Content-Type", "application/json")
		_, _ = fmt.Fprint(w, `{"access_token": "2YotnFZFEjr1zCsicMWpAA", "token_type": "example", "expires_in": 3600}`)
	}))
	defer server.Close()
	const basic = "Basic czZCaGRSa3F0Mzo3RmpmcDBaQnIxS3REUmJuZlZkbUl3"
	cases := []struct {
		name          string
		login         login.OAuth2
		authorization string
		form          string
	}{
		{"client credentials", login.OAuth2{Grant: login.GrantClient}, basic, "grant_type=client_credentials"},
		{
			"password",
			login.OAuth2{Grant: login.GrantPassword, User: lit("johndoe"), Password: lit("A3ddj3w")},
			basic,
			"grant_type=password&username=johndoe&password=A3ddj3w",
		},
		{
			"refresh, client in the form",
			login.OAuth2{
				Grant: login.GrantRefresh, RefreshToken: lit("tGzv3JOkF0XG5Qx2TlKWIA"),
				ClientAuthentication: login.InForm,
			},
			"",
			"grant_type=refresh_token&refresh_token=tGzv3JOkF0XG5Qx2TlKWIA&client_id=s6BhdRkqt3&client_secret=7Fjfp0ZBr1KtDRbnfVdmIw",
		},
		{
			"an assertion that is there",
			login.OAuth2{
				Grant:     login.GrantJWTBearer,
				Assertion: lit("eyJhbGciOiJFUzI1NiIsImtpZCI6IjE2In0.eyJpc3Mi.J9l-ZhwP"),
			},
			basic,
			"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Ajwt-bearer&assertion=eyJhbGciOiJFUzI1NiIsImtpZCI6IjE2In0.eyJpc3Mi.J9l-ZhwP",
		},
		{
			"SAML",
			login.OAuth2{Grant: login.GrantSAMLBearer, Assertion: lit("<Assertion/>")},
			basic,
			"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Asaml2-bearer&assertion=PEFzc2VydGlvbi8-",
		},
		{
			"token exchange",
			login.OAuth2{
				Grant:     login.GrantTokenExchange,
				Subject:   login.TokenSource{Token: lit("accVkjcJyb4BWCxGsndESCJQbdFMogUC5PbRDqceLTC")},
				Requested: lit("saml2"), Resource: []*value.Template{lit("https://backend.example.com/api")},
			},
			basic,
			"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Atoken-exchange&resource=https%3A%2F%2Fbackend.example.com%2Fapi&subject_token=accVkjcJyb4BWCxGsndESCJQbdFMogUC5PbRDqceLTC&subject_token_type=urn%3Aietf%3Aparams%3Aoauth%3Atoken-type%3Aaccess_token&requested_token_type=urn%3Aietf%3Aparams%3Aoauth%3Atoken-type%3Asaml2",
		},
		{
			"on behalf",
			login.OAuth2{
				Grant:   login.GrantTokenExchange,
				Subject: login.TokenSource{Login: "other", Kind: lit("urn:x")},
				Actor:   login.TokenSource{Token: lit("a"), Kind: lit("id token")},
			},
			basic,
			"grant_type=urn%3Aietf%3Aparams%3Aoauth%3Agrant-type%3Atoken-exchange&subject_token=of-the-other&subject_token_type=urn%3Ax&actor_token=a&actor_token_type=urn%3Aietf%3Aparams%3Aoauth%3Atoken-type%3Aid_token",
		},
		{
			"scopes, audience, resources and more",
			login.OAuth2{
				Grant: login.GrantClient, Scope: lit("calendar contacts"), Audience: lit("hives"),
				Resource: []*value.Template{lit("https://a.example/"), lit("https://b.example/")},
				Extra:    []request.Pair{{Name: "lifetime", Value: request.Text(lit("60"), true)}},
			},
			basic,
			"grant_type=client_credentials&scope=calendar+contacts&audience=hives&resource=https%3A%2F%2Fa.example%2F&resource=https%3A%2F%2Fb.example%2F&lifetime=60",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			from, err := value.ParseAddress(server.URL)
			require.NoError(t, err)
			c.login.From, c.login.Client, c.login.ClientSecret = from, lit("s6BhdRkqt3"),
				value.SecretLiteral("7Fjfp0ZBr1KtDRbnfVdmIw")
			k := keeper(t, &scope{}, &clock{},
				map[string]login.Kind{"l": &c.login, "other": &login.Bearer{Token: lit("of-the-other")}})
			token, err := k.Token(t.Context(), "l")
			require.NoError(t, err)
			assert.Equal(t, "2YotnFZFEjr1zCsicMWpAA", token.Text)
			want, err := url.ParseQuery(c.form)
			require.NoError(t, err)
			assert.Equal(t, want, got.PostForm)
			assert.Equal(t, c.authorization, got.Header.Get("Authorization"))
			assert.Equal(t, "application/x-www-form-urlencoded", got.Header.Get("Content-Type"))
		})
	}
	// Both are form-encoded before they go into Basic (RFC 6749, 2.3.1).
	k := keeper(t, &scope{}, &clock{},
		map[string]login.Kind{"l": &login.OAuth2{
			Grant: login.GrantClient, From: lit(server.URL), Client: lit("a:b c"),
			ClientSecret: lit("ü&=%"),
		}})
	_, err := k.Token(t.Context(), "l")
	require.NoError(t, err)
	assert.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("a%3Ab+c:%C3%BC%26%3D%25")),
		got.Header.Get("Authorization"))
	k = keeper(t, &scope{}, &clock{},
		map[string]login.Kind{"l": &login.OAuth2{
			Grant: login.GrantClient, From: lit(server.URL), Client: lit("a b"), ClientSecret: lit("ü&=%"),
			ClientAuthentication: login.InRawBasic,
		}})
	_, err = k.Token(t.Context(), "l")
	require.NoError(t, err)
	assert.Equal(t, "Basic "+base64.StdEncoding.EncodeToString([]byte("a b:ü&=%")), got.Header.Get("Authorization"))
	// What is given back is both tokens (RFC 7009, 2.1).
	var revoked []string
	revocation := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/revoke" {
			revoked = append(revoked, r.PostFormValue("token_type_hint")+" "+r.PostFormValue("token"))
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = fmt.Fprint(w, `{"access_token": "a-1", "refresh_token": "r-1", "token_type": "Bearer"}`)
	}))
	defer revocation.Close()
	k = keeper(t, &scope{}, &clock{},
		map[string]login.Kind{"l": &login.OAuth2{
			Grant: login.GrantClient, From: lit(revocation.URL),
			Revocation: lit(revocation.URL + "/revoke"), Revokes: true, Client: lit("c"),
		}})
	_, err = k.Token(t.Context(), "l")
	require.NoError(t, err)
	require.NoError(t, k.Close(t.Context()))
	assert.ElementsMatch(t, []string{"refresh_token r-1", "access_token a-1"}, revoked)
	// Logins that need one another are told, not waited for.
	ring := func(of string) login.Kind {
		return &login.OAuth2{
			Grant: login.GrantTokenExchange, From: lit(server.URL), Client: lit("c"),
			Subject: login.TokenSource{Login: of},
		}
	}
	k = keeper(t, &scope{}, &clock{}, map[string]login.Kind{"a": ring("b"), "b": ring("a")})
	_, err = k.Token(t.Context(), "a")
	assert.ErrorContains(t, err, "in a circle: a needs b needs a")
}

// A refresh token is given up when it is refused, not when nobody answers: a person
// would be asked in vain.
func TestRefreshOutlivesAnOutage(t *testing.T) {
	var status atomic.Int32
	status.Store(http.StatusOK)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(int(status.Load()))
		_, _ = fmt.Fprintf(w, `{"access_token": "by %s", "refresh_token": "r", "token_type": "Bearer", "expires_in": 60, "error": "invalid_grant"}`, r.PostFormValue("grant_type"))
	}))
	server.Start()
	c := &clock{}
	k := keeper(t, &scope{}, c,
		map[string]login.Kind{"l": &login.OAuth2{
			Grant: login.GrantPassword, From: value.Literal(server.URL),
			Client: value.Literal("c"), User: value.Literal("u"), Password: value.Literal("p"),
		}})
	got := func() string {
		token, err := k.Token(t.Context(), "l")
		if err != nil {
			return err.Error()
		}
		return token.Text
	}
	assert.Equal(t, "by password", got())
	address := server.Listener.Addr().String()
	server.Close()
	c.forward(time.Minute)
	assert.NotContains(t, got(), "by ")
	again := httptest.NewUnstartedServer(server.Config.Handler)
	require.NoError(t, again.Listener.Close())
	var err error
	again.Listener, err = net.Listen("tcp", address)
	require.NoError(t, err)
	again.Start()
	defer again.Close()
	assert.Equal(t, "by refresh_token", got())
	status.Store(http.StatusBadRequest)
	c.forward(time.Minute)
	assert.Contains(t, got(), "refused with 400 invalid_grant")
}

// Many workers share a login whose tokens die all the time; each of their requests
// is let in.
func TestDyingTokensUnderLoad(t *testing.T) {
	var made atomic.Int64
	var mutex sync.Mutex
	ends := map[string]time.Time{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		if r.URL.Path == "/token" {
			text := fmt.Sprintf("token-%d", made.Add(1))
			ends[text] = time.Now().Add(time.Second)
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"access_token": %q, "token_type": "Bearer", "expires_in": 1}`, text)
			return
		}
		if end := ends[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]; time.Now().After(end) {
			w.WriteHeader(http.StatusUnauthorized)
		}
	}))
	defer server.Close()
	client, err := exchange.NewClient(exchange.Options{})
	require.NoError(t, err)
	defer client.Close()
	kind := oauth(t, server.URL+"/token")
	k := login.NewTokenManager(login.Env{Scope: &scope{}, Sender: client}, map[string]login.Kind{"l": kind})
	u, err := url.Parse(server.URL + "/lots")
	require.NoError(t, err)
	var all sync.WaitGroup
	var refused, done atomic.Int64
	for range 20 {
		all.Go(func() {
			for start := time.Now(); time.Since(start) < 2500*time.Millisecond; {
				sent, err := k.Send(t.Context(), &exchange.Request{Method: "GET", URL: u},
					login.Use{Names: []string{"l"}})
				if err != nil || sent.Record().Answer == nil || sent.Record().Answer.Status != 200 {
					refused.Add(1)
				}
				done.Add(1)
			}
		})
	}
	all.Wait()
	assert.Zero(t, refused.Load(), "of %d", done.Load())
	assert.Less(t, made.Load(), int64(10), "tokens are shared")
	assert.Greater(t, made.Load(), int64(1), "and they died")
}

// The three messages of NTLM go over one connection, and the answer to the
// challenge is right by the published computation (MS-NLMP, 3.3.2).
func TestNTLM(t *testing.T) {
	utf16le := func(text string) []byte {
		var out []byte
		for _, unit := range utf16.Encode([]rune(text)) {
			out = binary.LittleEndian.AppendUint16(out, unit)
		}
		return out
	}
	mac := func(key []byte, parts ...[]byte) []byte {
		h := hmac.New(md5.New, key)
		for _, part := range parts {
			h.Write(part)
		}
		return h.Sum(nil)
	}
	challenge, _ := hex.DecodeString("0123456789abcdef")
	target := utf16le("HIVES")
	info := append(append([]byte{2, 0, byte(len(target)), 0}, target...), 0, 0, 0, 0)
	message := append([]byte("NTLMSSP\x00"), 2, 0, 0, 0)
	field := func(length, offset int) []byte {
		return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(nil,
			uint16(length)), uint16(length)), uint32(offset))
	}
	message = append(message, field(len(target), 56)...)
	message = binary.LittleEndian.AppendUint32(message, 0x00828201|0x00000004|0x20000000)
	message = append(append(message, challenge...), make([]byte, 8)...)
	message = append(append(message, field(len(info), 56+len(target))...), 10, 0, 0, 0, 0, 0, 0, 15)
	message = append(append(message, target...), info...)
	connections := map[string]bool{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		connections[r.RemoteAddr] = true
		raw, _ := base64.StdEncoding.DecodeString(strings.TrimPrefix(r.Header.Get("Authorization"), "NTLM "))
		switch {
		case len(raw) < 12:
			w.Header().Set("WWW-Authenticate", "NTLM")
			w.WriteHeader(401)
		case raw[8] == 1:
			w.Header().Set("WWW-Authenticate", "NTLM "+base64.StdEncoding.EncodeToString(message))
			w.WriteHeader(401)
		default:
			at := func(i int) []byte {
				length, offset := binary.LittleEndian.Uint16(raw[i:]), binary.LittleEndian.Uint32(raw[i+4:])
				return raw[offset : offset+uint32(length)]
			}
			response, domain, user := at(20), at(28), at(36)
			hash := md4.New()
			hash.Write(utf16le("smoked-larch-41"))
			key := mac(hash.Sum(nil), utf16le("CLERK"), domain)
			if string(user) != string(utf16le("clerk")) ||
				!hmac.Equal(response[:16], mac(key, challenge, response[16:])) {
				w.Header().Set("WWW-Authenticate", "NTLM")
				w.WriteHeader(401)
			}
		}
	}))
	defer server.Close()
	client, err := exchange.NewClient(exchange.Options{})
	require.NoError(t, err)
	defer client.Close()
	kind := func(password string) login.Kind {
		return &login.NTLM{
			User: value.Literal("clerk"), Domain: value.Literal("HIVES"),
			Password: value.Literal(password),
		}
	}
	k := login.NewTokenManager(login.Env{Scope: &scope{}, Sender: client},
		map[string]login.Kind{"right": kind("smoked-larch-41"), "wrong": kind("smoked-larch-42")})
	u, err := url.Parse(server.URL)
	require.NoError(t, err)
	for name, status := range map[string]int{"right": 200, "wrong": 401} {
		clear(connections)
		sent, err := k.Send(t.Context(), &exchange.Request{Method: "POST", URL: u, Body: []byte("lots")},
			login.Use{Names: []string{name}})
		require.NoError(t, err)
		assert.Equal(t, status, sent.Record().Answer.Status, name)
		assert.Len(t, sent.Records, 3)
		assert.Len(t, connections, 1, "one connection")
	}
}

// A token of a type that is not known is not sent (RFC 6749, 7.1), unless the definition says how.
func TestTokenTypes(t *testing.T) {
	for _, c := range []struct {
		name, kind string
		send       login.Send
		want, says string
	}{
		{"as is usual", "Bearer", login.Send{}, "Bearer t-1", ""},
		{"in small letters", "bearer", login.Send{}, "Bearer t-1", ""},
		{"without one", "", login.Send{}, "Bearer t-1", ""},
		{"one of an exchange", "N_A", login.Send{}, "Bearer t-1", ""},
		{"an unknown one", "mac", login.Send{}, "", `the token is of type "mac", and how that is used is not known here`},
		{"an unknown one as is said", "mac", login.Send{Header: "X-Token", Scheme: "MAC"}, "MAC t-1", ""},
		{"one that is bound to a key", "DPoP", login.Send{}, "", "the token is bound to a key"},
	} {
		t.Run(c.name, func(t *testing.T) {
			at, err := url.Parse("http://stores.example/")
			require.NoError(t, err)
			r := &exchange.Request{URL: at}
			err = (&login.OAuth2{Send: c.send}).Put(r, &login.Env{}, &login.Token{Text: "t-1", Kind: c.kind})
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, r.GetHeader("Authorization")+r.GetHeader("X-Token"))
		})
	}
}
