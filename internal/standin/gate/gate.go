// Package gate is the identity provider of the stand-in: OAuth 2.0 and OpenID Connect with all their
// flows, tickets and slips.
package gate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/keys"
	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
)

// Service gives tokens: OAuth 2.0 (RFC 6749) with signed JWTs, and two older
// desks, one for a ticket in JSON and one for a bare slip of text.
type Service struct {
	options service.Options
	issuer  string
	key     *ecdsa.PrivateKey
	bryony  *keys.Pair // the client's key, for assertions
	mutex   sync.Mutex
	tickets map[string]ticket
	refresh map[string]grant
	revoked map[string]bool
	codes   map[string]*code    // by code
	devices map[string]*waiting // by device code
	seen    map[string]bool     // ids of assertions and proofs, which are good once
	nonce   string              // that proofs must repeat
	asked   int                 // guarded requests so far
}

// New makes a gate that signs what it gives with a key of its own.
func New(issuer string, o service.Options) (*Service, error) {
	signing, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	bryony, err := demo.Pair(demo.BryonyCertificate, demo.BryonyKey)
	if err != nil {
		return nil, err
	}
	return &Service{
		options: o, issuer: issuer, key: signing, bryony: bryony, tickets: map[string]ticket{},
		refresh: map[string]grant{}, revoked: map[string]bool{},
		codes: map[string]*code{}, devices: map[string]*waiting{}, seen: map[string]bool{}, nonce: service.Random(),
	}, nil
}

type ticket struct {
	user    string
	expires time.Time
}

// grant is what a token was given for.
type grant struct {
	subject, client, scope string
	audience               string
	actor                  string
	key                    string // thumbprint of the key that tokens are bound to; empty for none
	lifetime               int
}

const (
	audience        = "heatherfold-services"
	defaultLifetime = 600 // seconds
	ticketLifetime  = 300
	keyID           = "gate-1"
)

var knownScopes = []string{"stores.read", "stores.write", "lab.grade", "ledger.post"}

// Register puts the gate at its addresses.
func (g *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("POST /gate/token", g.token)
	mux.HandleFunc("POST /gate/introspect", g.introspect)
	mux.HandleFunc("POST /gate/revoke", g.revoke)
	mux.HandleFunc("GET /gate/jwks", g.jwks)
	mux.HandleFunc("GET /.well-known/oauth-authorization-server/gate", g.metadata)
	mux.HandleFunc("GET /gate/.well-known/openid-configuration", g.metadata)
	mux.HandleFunc("GET /gate/authorize", g.authorize)
	mux.HandleFunc("POST /gate/authorize", g.decideCode)
	mux.HandleFunc("POST /gate/device", g.startDevice)
	mux.HandleFunc("GET /gate/device", g.devicePage)
	mux.HandleFunc("POST /gate/device/decide", g.decideDevice)
	mux.HandleFunc("POST /gate/ticket", g.openTicket)
	mux.HandleFunc("GET /gate/ticket", g.checkTicket)
	mux.HandleFunc("DELETE /gate/ticket", g.closeTicket)
	mux.HandleFunc("POST /gate/slip", g.slip)
}

func oauthError(w http.ResponseWriter, status int, code, description string) {
	w.Header().Set("Cache-Control", "no-store")
	service.WriteJSON(w, status, map[string]string{"error": code, "error_description": description})
}

// token is the token endpoint (RFC 6749, 3.2).
func (g *Service) token(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		oauthError(w, http.StatusBadRequest, "invalid_request", "the form cannot be read")
		return
	}
	client, ok := g.client(w, r)
	if !ok {
		return
	}
	form := r.PostForm
	given := grant{
		client: client, scope: form.Get("scope"), audience: form.Get("audience"),
		lifetime: g.options.Lifetime,
	}
	if given.lifetime == 0 {
		given.lifetime = defaultLifetime
	}
	if given.scope == "" {
		given.scope = "stores.read"
	}
	for _, scope := range strings.Fields(given.scope) {
		if !slices.Contains(knownScopes, scope) {
			oauthError(w, http.StatusBadRequest, "invalid_scope",
				"the scope "+scope+" is not known; there are: "+strings.Join(knownScopes, " "))
			return
		}
	}
	if resource := form.Get("resource"); resource != "" && resource != "stores" &&
		!strings.HasSuffix(resource, "/stores") {
		oauthError(w, http.StatusBadRequest, "invalid_target", "the resource "+resource+" is not known") // RFC 8707, 2
		return
	}
	if text := form.Get("lifetime"); text != "" {
		seconds, err := strconv.Atoi(text)
		if err != nil || seconds < 0 || seconds > 86400 {
			oauthError(w, http.StatusBadRequest, "invalid_request", "lifetime is a number of seconds up to 86400")
			return
		}
		given.lifetime = seconds
	}
	if r.Header.Get("DPoP") != "" {
		if given.key, ok = g.proven(w, r, ""); !ok {
			return
		}
	}
	way, known := gateGrants[form.Get("grant_type")]
	switch {
	case form.Get("grant_type") == "":
		oauthError(w, http.StatusBadRequest, "invalid_request", "grant_type is missing")
	case !known:
		oauthError(w, http.StatusBadRequest, "unsupported_grant_type",
			"there are: "+strings.Join(slices.Sorted(maps.Keys(gateGrants)), ", "))
	default:
		way(g, w, r, given)
	}
}

// gateGrants are the grants by their names.
var gateGrants = map[string]func(g *Service, w http.ResponseWriter, r *http.Request, given grant){
	"client_credentials": func(g *Service, w http.ResponseWriter, _ *http.Request, given grant) {
		given.subject = given.client
		g.issue(w, given, false)
	},
	"password": func(g *Service, w http.ResponseWriter, r *http.Request, given grant) {
		if r.PostForm.Get("username") != "clerk" ||
			!service.Same(r.PostForm.Get("password"), service.Secrets["clerk"]) {
			oauthError(w, http.StatusBadRequest, "invalid_grant", "user or password is wrong")
			return
		}
		given.subject = "clerk"
		g.issue(w, given, true)
	},
	"refresh_token": func(g *Service, w http.ResponseWriter, r *http.Request, given grant) {
		g.mutex.Lock()
		before, ok := g.refresh[r.PostForm.Get("refresh_token")]
		delete(g.refresh, r.PostForm.Get("refresh_token"))
		g.mutex.Unlock()
		if !ok || before.key != given.key {
			oauthError(w, http.StatusBadRequest, "invalid_grant", "the refresh token is not known or was used before")
			return
		}
		g.issue(w, before, true)
	},
	"authorization_code":                              (*Service).redeemCode,
	"urn:ietf:params:oauth:grant-type:device_code":    (*Service).redeemDevice,
	"urn:ietf:params:oauth:grant-type:jwt-bearer":     (*Service).redeemAssertion,
	"urn:ietf:params:oauth:grant-type:saml2-bearer":   (*Service).redeemSAML,
	"urn:ietf:params:oauth:grant-type:token-exchange": (*Service).exchange,
}

func (g *Service) issue(w http.ResponseWriter, given grant, withRefresh bool) {
	now := g.options.Now()
	id := service.Random()
	if given.audience == "" {
		given.audience = audience
	}
	claims := jwt.MapClaims{
		"iss": g.issuer, "aud": given.audience, "sub": given.subject, "client_id": given.client, "scope": given.scope,
		"jti": id,
		"iat": now.Unix(), "exp": now.Add(time.Duration(given.lifetime) * time.Second).Unix(),
	}
	kind := "Bearer"
	if given.key != "" {
		claims["cnf"], kind = map[string]string{"jkt": given.key}, "DPoP" // RFC 9449, 6.1
	}
	if given.actor != "" {
		claims["act"] = map[string]string{"sub": given.actor} // RFC 8693, 4.1
	}
	token := jwt.NewWithClaims(jwt.SigningMethodES256, claims)
	token.Header["kid"] = keyID
	signed, err := token.SignedString(g.key)
	if err != nil {
		oauthError(w, http.StatusInternalServerError, "server_error", err.Error())
		return
	}
	body := map[string]any{
		"access_token": signed, "token_type": kind, "expires_in": given.lifetime,
		"scope": given.scope,
	}
	if withRefresh {
		refresh := service.Random()
		g.mutex.Lock()
		g.refresh[refresh] = given
		g.mutex.Unlock()
		body["refresh_token"] = refresh
	}
	w.Header().Set("Cache-Control", "no-store")
	service.WriteJSON(w, http.StatusOK, body)
}

// withdrawn counts guarded requests, and refuses older tokens now and then where
// the stand-in was told so.
func (g *Service) withdrawn(claims jwt.MapClaims) bool {
	if g.options.Refuse == 0 {
		return false
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.asked++
	if id, _ := claims["jti"].(string); g.asked%g.options.Refuse == 0 {
		g.revoked[id] = true
		return true
	}
	return false
}

// verify checks signature, issuer, audience, life and revocation.
func (g *Service) verify(text string) (jwt.MapClaims, error) {
	claims := jwt.MapClaims{}
	_, err := jwt.NewParser(jwt.WithValidMethods([]string{"ES256"}), jwt.WithIssuer(g.issuer),
		jwt.WithAudience(audience), jwt.WithExpirationRequired(), jwt.WithTimeFunc(g.options.Now)).
		ParseWithClaims(text, claims, func(*jwt.Token) (any, error) { return &g.key.PublicKey, nil })
	if err != nil {
		return nil, err
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if id, _ := claims["jti"].(string); g.revoked[id] {
		return nil, errors.New("the token was withdrawn")
	}
	return claims, nil
}

// stale are the claims of a token that has expired, whoever signed it; nil for others.
func (g *Service) stale(text string) jwt.MapClaims {
	claims := jwt.MapClaims{}
	if _, _, err := jwt.NewParser().ParseUnverified(text, claims); err != nil {
		return nil
	}
	if expires, err := claims.GetExpirationTime(); err != nil || expires == nil || expires.After(g.options.Now()) {
		return nil
	}
	return claims
}

// Guard asks for a bearer token with a scope and says in WWW-Authenticate what
// is wrong (RFC 6750, section 3).
func (g *Service) Guard(scope string, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		refuse := func(status int, code, description string) {
			challenge := `Bearer realm="stores"`
			if code != "" {
				challenge += fmt.Sprintf(`, error=%q, error_description=%q`, code, description)
			}
			if status == http.StatusForbidden {
				challenge += fmt.Sprintf(`, scope=%q`, scope)
			}
			w.Header().Set("WWW-Authenticate", challenge)
			service.Problem(w, status, code, "", description)
		}
		text, ok := service.Credential(r, "Bearer")
		if proven, isProven := service.Credential(r, "DPoP"); isProven {
			if text = proven; !g.provenToken(w, r, text) {
				return
			}
			ok = true
		}
		if !ok {
			refuse(http.StatusUnauthorized, "", "a bearer token is needed")
			return
		}
		claims, err := g.verify(text)
		if stale := g.stale(text); err != nil && g.options.Weak && stale != nil {
			err, claims = nil, stale
		}
		if err == nil && g.withdrawn(claims) {
			err = errors.New("withdrawn")
		}
		switch {
		case err == nil && claims["cnf"] != nil && r.Header.Get("DPoP") == "":
			refuse(http.StatusUnauthorized, "invalid_token", "the token is bound to a key: a proof is needed")
		case errors.Is(err, jwt.ErrTokenInvalidAudience):
			refuse(http.StatusUnauthorized, "invalid_token", "the token is for another audience")
		case errors.Is(err, jwt.ErrTokenExpired):
			refuse(http.StatusUnauthorized, "invalid_token", "the token has expired")
		case err != nil:
			refuse(http.StatusUnauthorized, "invalid_token", "the token is not one of ours")
		case !slices.Contains(strings.Fields(fmt.Sprint(claims["scope"])), scope):
			refuse(http.StatusForbidden, "insufficient_scope", "the token lacks the scope "+scope)
		default:
			next(w, r)
		}
	}
}

// introspect tells of a token (RFC 7662).
func (g *Service) introspect(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	if _, ok := g.client(w, r); !ok {
		return
	}
	claims, err := g.verify(r.PostForm.Get("token"))
	if err != nil {
		service.WriteJSON(w, http.StatusOK, map[string]any{"active": false})
		return
	}
	claims["active"] = true
	claims["token_type"] = "Bearer"
	if claims["cnf"] != nil {
		claims["token_type"] = "DPoP"
	}
	service.WriteJSON(w, http.StatusOK, claims)
}

// revoke withdraws a token (RFC 7009).
func (g *Service) revoke(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	if _, ok := g.client(w, r); !ok {
		return
	}
	if claims, err := g.verify(r.PostForm.Get("token")); err == nil {
		id, _ := claims["jti"].(string)
		g.mutex.Lock()
		g.revoked[id] = true
		g.mutex.Unlock()
	}
	w.WriteHeader(http.StatusOK)
}

// jwks publishes the signing key (RFC 7517).
func (g *Service) jwks(w http.ResponseWriter, _ *http.Request) {
	public, err := g.key.PublicKey.ECDH()
	if err != nil {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	point := public.Bytes() // 0x04, x, y
	encode := base64.RawURLEncoding.EncodeToString
	service.WriteJSON(w, http.StatusOK, map[string]any{"keys": []any{map[string]string{
		"kty": "EC", "crv": "P-256", "alg": "ES256", "use": "sig", "kid": keyID, "x": encode(point[1:33]),
		"y": encode(point[33:]),
	}}})
}

// openTicket is the desk that takes user and password in header fields.
func (g *Service) openTicket(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("User") != "clerk" || !service.Same(r.Header.Get("Password"), service.Secrets["clerk"]) {
		service.Problem(w, http.StatusUnauthorized, "refused", "", "User or Password is wrong")
		return
	}
	text := hex.EncodeToString([]byte(service.Random()))
	g.mutex.Lock()
	g.tickets[text] = ticket{user: "clerk", expires: time.Now().Add(ticketLifetime * time.Second)}
	g.mutex.Unlock()
	service.WriteJSON(w, http.StatusOK,
		map[string]any{"ticket": map[string]any{"value": text, "seconds": ticketLifetime}})
}

func (g *Service) findTicket(r *http.Request) (string, bool) {
	text, ok := service.Credential(r, "Ticket")
	g.mutex.Lock()
	defer g.mutex.Unlock()
	t, known := g.tickets[text]
	return text, ok && known && time.Now().Before(t.expires)
}

func (g *Service) checkTicket(w http.ResponseWriter, r *http.Request) {
	if _, ok := g.findTicket(r); !ok {
		w.Header().Set("WWW-Authenticate", `Ticket realm="gate"`)
		service.Problem(w, http.StatusUnauthorized, "refused", "", "the ticket is not good")
		return
	}
	service.WriteJSON(w, http.StatusOK, map[string]any{"good": true, "user": "clerk"})
}

func (g *Service) closeTicket(w http.ResponseWriter, r *http.Request) {
	text, ok := g.findTicket(r)
	if !ok {
		w.Header().Set("WWW-Authenticate", `Ticket realm="gate"`)
		service.Problem(w, http.StatusUnauthorized, "refused", "", "the ticket is not good")
		return
	}
	g.mutex.Lock()
	delete(g.tickets, text)
	g.mutex.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// slip is the desk that takes a form and answers with the bare token.
func (g *Service) slip(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	if r.PostForm.Get("user") != "clerk" || !service.Same(r.PostForm.Get("password"), service.Secrets["clerk"]) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		w.WriteHeader(http.StatusForbidden)
		_, _ = w.Write([]byte("refused\n"))
		return
	}
	text := service.Random()
	g.mutex.Lock()
	g.tickets[text] = ticket{user: "clerk", expires: time.Now().Add(ticketLifetime * time.Second)}
	g.mutex.Unlock()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = w.Write([]byte(text + "\n"))
}
