package gate

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/keys"
	"testbench/internal/standin/service"
)

// The clients: honey-desk has a secret, honey-key a key, honey-phone neither.
const (
	deskClient  = "honey-desk"
	keyClient   = "honey-key"
	phoneClient = "honey-phone"
)

// metadata tells what the gate can do (RFC 8414, section 2).
func (g *Service) metadata(w http.ResponseWriter, _ *http.Request) {
	grants := []string{}
	for name := range gateGrants {
		grants = append(grants, name)
	}
	slices.Sort(grants)
	service.WriteJSON(w, http.StatusOK, map[string]any{
		"issuer": g.issuer, "token_endpoint": g.issuer + "/token", "authorization_endpoint": g.issuer + "/authorize",
		"device_authorization_endpoint": g.issuer + "/device",
		"introspection_endpoint":        g.issuer + "/introspect", "revocation_endpoint": g.issuer + "/revoke",
		"jwks_uri":              g.issuer + "/jwks",
		"grant_types_supported": grants, "response_types_supported": []string{"code"},
		"code_challenge_methods_supported": []string{"S256"}, "scopes_supported": knownScopes,
		"token_endpoint_auth_methods_supported": []string{
			"client_secret_basic", "client_secret_post",
			"client_secret_jwt", "private_key_jwt", "none",
		},
		"dpop_signing_alg_values_supported": []string{"ES256"}, "authorization_response_iss_parameter_supported": true,
	})
}

// client checks who asks: Basic, form-encoded, or the form (RFC 6749, 2.3.1), an
// assertion (RFC 7523, 2.2), or a client that has nothing to prove itself with.
func (g *Service) client(w http.ResponseWriter, r *http.Request) (string, bool) {
	name, secret, ok := r.BasicAuth()
	if ok {
		name, _ = url.QueryUnescape(name)
		secret, _ = url.QueryUnescape(secret)
	} else {
		name, secret = r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	}
	refuse := func(why string) (string, bool) {
		w.Header().Set("WWW-Authenticate", `Basic realm="gate"`)
		oauthError(w, http.StatusUnauthorized, "invalid_client", why)
		return "", false
	}
	if assertion := r.PostForm.Get("client_assertion"); assertion != "" {
		claims, err := g.assertion(assertion, name)
		if err != nil {
			return refuse("the client's assertion is not good: " + err.Error())
		}
		return fmt.Sprint(claims["sub"]), true
	}
	switch {
	case name == phoneClient && secret == "",
		name == keyClient && secret == "" && strings.HasSuffix(r.PostForm.Get("grant_type"), "jwt-bearer"):
		return name, true
	case name != deskClient || !service.Same(secret, service.Secrets["honey_desk"]):
		return refuse("the client is not known or its secret is wrong")
	}
	return name, true
}

// assertion checks a JWT that a client signed: honey-key by its key, honey-desk by
// its secret (RFC 7523, section 3).
func (g *Service) assertion(text, client string) (jwt.MapClaims, error) {
	claims := jwt.MapClaims{}
	_, err := jwt.NewParser(jwt.WithValidMethods([]string{"RS256", "PS256", "HS256"}), jwt.WithExpirationRequired(),
		jwt.WithIssuedAt(), jwt.WithTimeFunc(g.options.Now)).
		ParseWithClaims(text, claims, func(t *jwt.Token) (any, error) {
			_, shared := t.Method.(*jwt.SigningMethodHMAC)
			switch issuer := fmt.Sprint(claims["iss"]); {
			case client != "" && issuer != client:
				return nil, errors.New("it is of another client")
			case issuer == deskClient && shared:
				return []byte(service.Secrets["honey_desk"]), nil
			case issuer == keyClient && !shared:
				return g.bryony.Key.Public(), nil
			}
			return nil, errors.New("its key is not known")
		})
	if err != nil {
		return nil, err
	}
	audiences, _ := claims.GetAudience()
	if !slices.Contains(audiences, g.issuer) && !slices.Contains(audiences, g.issuer+"/token") {
		return nil, fmt.Errorf("its audience is %v, and not %s", audiences, g.issuer)
	}
	if id, _ := claims["jti"].(string); id != "" && !g.once(id) {
		return nil, errors.New("it was used before")
	}
	return claims, nil
}

// once says whether an id was not seen before.
func (g *Service) once(id string) bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if g.seen[id] {
		return false
	}
	g.seen[id] = true
	return true
}

// proven checks a proof of a key (RFC 9449, 4.3) and gives its thumbprint. token
// is the one that it goes with, empty at the token endpoint.
func (g *Service) proven(w http.ResponseWriter, r *http.Request, token string) (string, bool) {
	thumbprint, err := g.checkProof(r, token)
	if err == nil {
		return thumbprint, true
	}
	code := "invalid_dpop_proof"
	if errors.Is(err, errNonce) {
		code = "use_dpop_nonce"
		w.Header().Set("DPoP-Nonce", g.nonce)
	}
	if token == "" {
		oauthError(w, http.StatusBadRequest, code, err.Error())
	} else {
		w.Header().Set("WWW-Authenticate",
			fmt.Sprintf(`DPoP error=%q, error_description=%q, algs="ES256"`, code, err.Error()))
		service.Problem(w, http.StatusUnauthorized, code, "", err.Error())
	}
	return "", false
}

var errNonce = errors.New("the proof must repeat the nonce")

func (g *Service) checkProof(r *http.Request, token string) (string, error) {
	var thumbprint string
	claims := jwt.MapClaims{}
	parsed, err := jwt.NewParser(jwt.WithValidMethods([]string{"ES256"})).ParseWithClaims(r.Header.Get("DPoP"), claims,
		func(t *jwt.Token) (any, error) {
			raw, err := json.Marshal(t.Header["jwk"])
			if err != nil {
				return nil, err
			}
			set, err := keys.ReadJWKs(raw)
			if err != nil || len(set) != 1 || set[0].Private != nil {
				return nil, errors.New("it holds no public key")
			}
			thumbprint, err = keys.Thumbprint(set[0].Public)
			return set[0].Public, err
		})
	if err != nil {
		return "", err
	}
	issued, err := claims.GetIssuedAt()
	id, _ := claims["jti"].(string)
	sum := sha256.Sum256([]byte(token))
	switch {
	case err != nil || issued == nil || g.options.Now().Sub(issued.Time).Abs() > time.Minute:
		return "", errors.New("the proof is too old or too young")
	case parsed.Header["typ"] != "dpop+jwt":
		return "", errors.New("the proof's typ is not dpop+jwt")
	case claims["htm"] != r.Method || claims["htu"] != "http://"+r.Host+r.URL.Path:
		return "", errors.New("the proof is for another request")
	case token != "" && claims["ath"] != base64.RawURLEncoding.EncodeToString(sum[:]):
		return "", errors.New("the proof is for another token")
	case claims["nonce"] != g.nonce:
		return "", errNonce
	case id == "" || !g.once(id):
		return "", errors.New("the proof was used before")
	}
	return thumbprint, nil
}

// provenToken checks the proof that goes with a token, and that both are of the
// same key.
func (g *Service) provenToken(w http.ResponseWriter, r *http.Request, token string) bool {
	thumbprint, ok := g.proven(w, r, token)
	if !ok {
		return false
	}
	claims, err := g.verify(token)
	if err != nil {
		return true // told where tokens are
	}
	if bound, _ := claims["cnf"].(map[string]any); bound["jkt"] != thumbprint {
		w.Header().Set("WWW-Authenticate",
			`DPoP error="invalid_token", error_description="the token is bound to another key"`)
		service.Problem(w, http.StatusUnauthorized, "invalid_token", "", "the token is bound to another key")
		return false
	}
	return true
}
