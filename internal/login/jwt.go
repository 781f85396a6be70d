package login

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/document"
	"testbench/internal/keys"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/yamlfile"
)

// Algorithms lists the signature algorithms of JWTs (RFC 7518, 3.1; RFC 8037, 3.1).
var Algorithms = []string{
	"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA",
	"HS256", "HS384", "HS512",
}

// assertionLife is how long an assertion made here is good.
const assertionLife = 2 * time.Minute

// algorithmFor gives the algorithm that fits a key.
func algorithmFor(key any) string {
	switch k := key.(type) {
	case *rsa.PrivateKey, *rsa.PublicKey:
		return "RS256"
	case *ecdsa.PrivateKey:
		return curveAlgorithm(k.Curve.Params().BitSize)
	case *ecdsa.PublicKey:
		return curveAlgorithm(k.Curve.Params().BitSize)
	case ed25519.PrivateKey, ed25519.PublicKey:
		return "EdDSA"
	}
	return "HS256"
}

func curveAlgorithm(bits int) string {
	return map[int]string{256: "ES256", 384: "ES384", 521: "ES512"}[bits]
}

// sign makes a JWT. key is a crypto.Signer, or the bytes of a shared secret.
func sign(algorithm string, header map[string]any, claims jwt.MapClaims, key any) (string, error) {
	if algorithm == "" {
		algorithm = algorithmFor(key)
	}
	method := jwt.GetSigningMethod(algorithm)
	if method == nil {
		return "", fmt.Errorf("there is no algorithm %q", algorithm)
	}
	token := jwt.NewWithClaims(method, claims)
	for name, text := range header {
		token.Header[name] = text
	}
	signed, err := token.SignedString(key)
	if errors.Is(err, jwt.ErrInvalidKeyType) || errors.Is(err, jwt.ErrInvalidKey) {
		if signer, ok := key.(crypto.Signer); ok {
			return "", fmt.Errorf("the algorithm %s does not go with the key (%s)", algorithm,
				keys.Describe(signer.Public()))
		}
	}
	return signed, err
}

// signWithClient makes an assertion by the client's key or, for HMAC, its secret.
// The kind is what it says it is (typ); empty for JWT.
func (o *OAuth2) signWithClient(env *Env, s *oauthState, kind string, claims jwt.MapClaims, secret string,
	shared bool,
) (string, error) {
	header := map[string]any{}
	if kind != "" {
		header["typ"] = kind
	}
	id, err := env.text("key id", o.KeyID)
	if err != nil {
		return "", err
	}
	if id != "" {
		header["kid"] = id
	}
	algorithm := o.Algorithm
	var key any
	switch {
	case shared:
		key = []byte(secret)
	case s.pair == nil || s.pair.Key == nil:
		return "", &Error{Message: "there is no private key to sign with: name it under key:"}
	default:
		key = s.pair.Key
		if err := nameCertificate(header, o.CertificateAs, s.pair); err != nil {
			return "", err
		}
	}
	signed, err := sign(algorithm, header, claims, key)
	if err != nil {
		return "", &Error{
			Message: "the assertion cannot be signed: " + err.Error(),
			Try:     "algorithm: names one that goes with the key, of " + strings.Join(Algorithms, ", "),
		}
	}
	return signed, nil
}

// clientAssertion makes what the client proves itself with (RFC 7523, section 3).
func (o *OAuth2) clientAssertion(env *Env, s *oauthState, client, secret, endpoint string) (string, error) {
	// The issuer's name is the audience that every server takes; without it, the token endpoint, whichever one is
	// asked.
	audience, err := o.endpoint(env, s, o.From, "from", "token_endpoint")
	if err != nil {
		audience = endpoint
	}
	if issuer := textOf(s.metadata.Get("issuer")); issuer != "" {
		audience = issuer
	}
	now := env.serverNow(hostOf(endpoint))
	claims := jwt.MapClaims{
		"iss": client, "sub": client, "aud": audience, "jti": randomText(), "iat": now.Unix(),
		"exp": now.Add(assertionLife).Unix(),
	}
	return o.signWithClient(env, s, "", claims, secret, o.ClientAuthentication == InSecretJWT)
}

// grantAssertion makes the assertion of the JWT bearer grant (RFC 7523, 2.1 and 3).
func (o *OAuth2) grantAssertion(env *Env, s *oauthState) (string, error) {
	filled, err := env.texts("client", o.Client, "user", o.User, "client secret", o.ClientSecret)
	if err != nil {
		return "", err
	}
	endpoint, err := o.endpoint(env, s, o.From, "from", "token_endpoint")
	if err != nil {
		return "", err
	}
	now := env.serverNow(hostOf(endpoint))
	claims := jwt.MapClaims{
		"iss": filled[0], "sub": filled[1], "aud": endpoint, "jti": randomText(), "iat": now.Unix(),
		"exp": now.Add(assertionLife).Unix(),
	}
	if filled[1] == "" {
		claims["sub"] = filled[0]
	}
	if err := addClaims(env, claims, o.Claims); err != nil {
		return "", err
	}
	return o.signWithClient(env, s, "", claims, filled[2], o.Material.Key == nil && o.Material.Certificate == nil)
}

// readClaims reads claims of any kind that JSON has.
func readClaims(r *mapping.Reader, n *yamlfile.Node) *request.Tree {
	r.Entries(n, "claims")
	return r.Tree(n)
}

// addClaims adds those of a definition, nil for none.
func addClaims(env *Env, claims jwt.MapClaims, more *request.Tree) error {
	if more == nil {
		return nil
	}
	node, err := more.Node(env.Scope)
	if err != nil {
		return &Error{Message: "claims: " + err.Error()}
	}
	for _, m := range node.Members() {
		claims[m.Key] = json.RawMessage(document.WriteJSON(m.Value, document.Style{}))
	}
	return nil
}

// checkSignature holds a JWT against the issuer's keys (RFC 7515, 5.2; RFC 7519,
// 7.2). It returns nil where the token is not a JWT or no keys are known.
func (o *OAuth2) checkSignature(ctx context.Context, env *Env, s *oauthState, t *Token) (*Introspection, error) {
	if Claims(t.Text) == nil || o.KeysAt == nil && s.metadata.Get("jwks_uri") == nil {
		return nil, nil
	}
	address, set, err := o.issuerKeys(ctx, env, s)
	if err != nil {
		return nil, err
	}
	return checkJWT(t.Text, set, textOf(s.metadata.Get("issuer")), env.serverNow(hostOf(address))), nil
}

// issuerKeys reads the issuer's keys (RFC 7517), and says where.
func (o *OAuth2) issuerKeys(ctx context.Context, env *Env, s *oauthState) (string, []keys.JWK, error) {
	address, err := o.endpoint(env, s, o.KeysAt, "keys", "jwks_uri")
	if err != nil {
		return "", nil, err
	}
	re, err := fetchJSON(ctx, env, address)
	if err != nil {
		return "", nil, err
	}
	if re.Record.Answer.Status != 200 {
		return "", nil, &Error{Message: fmt.Sprintf("the issuer's keys cannot be read: %s answered %d: %s", address,
			re.Record.Answer.Status, answerInWords(re)), Record: re.Record}
	}
	set, err := keys.ReadJWKs(re.Record.Answer.Body)
	if err != nil {
		return "", nil, &Error{
			Message: fmt.Sprintf("the issuer's keys at %s cannot be read: %v", address, err),
			Record:  re.Record,
		}
	}
	return address, set, nil
}

// checkJWT says what a token's signature and claims are worth.
func checkJWT(text string, set []keys.JWK, issuer string, now time.Time) *Introspection {
	header := JOSEHeader(text)
	id, algorithm := textOf(header.Get("kid")), textOf(header.Get("alg"))
	bad := func(format string, args ...any) *Introspection {
		return &Introspection{Said: fmt.Sprintf(format, args...)}
	}
	if algorithm == "" || strings.EqualFold(algorithm, "none") {
		return bad("the token is not signed (alg %q)", algorithm)
	}
	if !slices.Contains(Algorithms, algorithm) {
		return bad("the token is signed by %q, which is not known here", algorithm)
	}
	var candidates []any
	var ids []string
	for _, key := range set {
		ids = append(ids, key.ID)
		if key.Use == "enc" || id != "" && key.ID != "" && key.ID != id ||
			key.Algorithm != "" && key.Algorithm != algorithm {
			continue
		}
		candidates = append(candidates, key.Public)
	}
	if len(candidates) == 0 {
		return bad("the token is signed by key %q (%s), and the issuer's keys have none for that; they are: %s", id,
			algorithm, strings.Join(ids, ", "))
	}
	parser := jwt.NewParser(jwt.WithValidMethods([]string{algorithm}), jwt.WithoutClaimsValidation())
	var claims jwt.MapClaims
	var failure error
	for _, key := range candidates {
		claims = jwt.MapClaims{}
		if _, failure = parser.ParseWithClaims(text, claims, func(*jwt.Token) (any, error) {
			return key, nil
		}); failure == nil {
			break
		}
	}
	if failure != nil {
		return bad("the signature does not fit the issuer's key: the token was changed, or another signed it")
	}
	standing := &Introspection{
		Good: true,
		Said: fmt.Sprintf("the signature fits the issuer's key %s (%s)", id, algorithm),
	}
	all := Claims(text)
	for _, wrong := range wrongClaims(all, issuer, now) {
		standing.Good = false
		standing.Also = append(standing.Also, wrong)
	}
	return standing
}

// wrongClaims says what makes a token bad by its own claims (RFC 7519, 4.1).
func wrongClaims(claims *document.Node, issuer string, now time.Time) []string {
	var wrong []string
	if exp := instant(claims, "exp"); !exp.IsZero() && !now.Before(exp) {
		wrong = append(wrong, fmt.Sprintf("it expired %v ago", now.Sub(exp).Round(time.Second)))
	}
	if nbf := instant(claims, "nbf"); now.Before(nbf) {
		wrong = append(wrong, fmt.Sprintf("it is not good before %v from now", nbf.Sub(now).Round(time.Second)))
	}
	if said := textOf(claims.Get("iss")); issuer != "" && said != "" && strings.TrimSuffix(said,
		"/") != strings.TrimSuffix(issuer, "/") {
		wrong = append(wrong, fmt.Sprintf("it is of another issuer: it says %q, not %q", said, issuer))
	}
	return wrong
}
