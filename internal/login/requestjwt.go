package login

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// RequestJWT makes a JWT (RFC 7519) for each request, which may tell of the request itself: a hash of its body, its
// method.
type RequestJWT struct {
	Material
	Shared        *value.Template // a shared key in place of a pair
	KeyID         *value.Template
	Algorithm     string        // of Algorithms; "" takes what fits the key
	CertificateAs string        // of CertificateForms; "" names no certificate
	Claims        *request.Tree // nil for none
	OfRequest     []requestClaim
	ExpiresIn     time.Duration
	Send          Send
}

// requestClaim is a claim that says something of the request.
type requestClaim struct {
	name string
	part SignedPart
}

// CertificateForms are how a JWT names the certificate of its key (RFC 7515, 4.1.6 to 4.1.8).
var CertificateForms = []string{"x5t", "x5t#S256", "x5c"}

// Place says that it tells of what other logins put in, unless it is in the envelope itself.
func (j *RequestJWT) Place() Stage {
	if j.Send.Block != "" {
		return InHeader
	}
	return Sealing
}

// Obtain reads the key.
func (j *RequestJWT) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	state := &signatureState{}
	token := &Token{Kind: "signature", Obtained: env.now(), Fixed: true, material: state}
	var err error
	if state.id, err = env.text("key id", j.KeyID); err != nil {
		return nil, err
	}
	if j.Shared != nil {
		token.Text, err = env.text("shared key", j.Shared)
		state.key = []byte(token.Text)
		return token, err
	}
	pair, err := j.Material.read(env)
	if err != nil {
		return nil, err
	}
	if pair.Key == nil {
		return nil, &Error{Message: "there is no private key to sign with: name it under key:"}
	}
	state.key, state.answers = pair.Key, pair
	return token, nil
}

// Put makes the token and puts it in.
func (j *RequestJWT) Put(r *exchange.Request, env *Env, t *Token) error {
	state := t.material.(*signatureState)
	now := env.serverNow(r.URL.Host).Add(t.stampShift())
	claims := jwt.MapClaims{"jti": randomText(), "iat": now.Unix(), "exp": now.Add(j.ExpiresIn).Unix()}
	if err := addClaims(env, claims, j.Claims); err != nil {
		return err
	}
	parts := &HMAC{Hash: "sha256", Encode: "base64url"}
	for _, one := range j.OfRequest {
		text, err := parts.text(one.part, r, nil)
		if err != nil {
			return err
		}
		claims[one.name] = text
	}
	header := map[string]any{}
	if state.id != "" {
		header["kid"] = state.id
	}
	if pair, ok := state.answers.(*keys.Pair); ok {
		if err := nameCertificate(header, j.CertificateAs, pair); err != nil {
			return err
		}
	}
	text, err := sign(j.Algorithm, header, claims, state.key)
	if err != nil {
		return &Error{Message: "the token cannot be signed: " + err.Error()}
	}
	switch t.Spoilt {
	case Tampered:
		text = tamper(text)
	case Empty:
		text = ""
	}
	env.Scope.Hide(text)
	return j.Send.put(r, &Token{Text: text})
}

// nameCertificate names the certificate of a key in the header of a JWT; an empty form names none.
func nameCertificate(header map[string]any, form string, pair *keys.Pair) error {
	if form == "" {
		return nil
	}
	leaf := pair.Leaf()
	if leaf == nil {
		return &Error{Message: "there is no certificate to name in the token: name it under certificate:"}
	}
	switch form {
	case "x5t":
		sum := sha1.Sum(leaf.Raw)
		header[form] = base64.RawURLEncoding.EncodeToString(sum[:])
	case "x5t#S256":
		sum := sha256.Sum256(leaf.Raw)
		header[form] = base64.RawURLEncoding.EncodeToString(sum[:])
	default:
		var chain []string
		for _, certificate := range pair.Chain {
			chain = append(chain, base64.StdEncoding.EncodeToString(certificate.Raw)) // RFC 7515, 4.1.6: not base64url
		}
		header[form] = chain
	}
	return nil
}

func (j *RequestJWT) readsBench() bool { return true }

// spoils says which ways there are.
func (j *RequestJWT) spoils(way string) bool {
	return way == Tampered || way == Empty || way == Expired
}

// Placeholders lists the placeholders.
func (j *RequestJWT) Placeholders() []*value.Placeholder {
	all := append(placeholders(j.Shared, j.KeyID), j.Material.placeholders()...)
	if j.Claims != nil {
		all = append(all, j.Claims.Placeholders()...)
	}
	return all
}

func readRequestJWT(r *mapping.Reader, n *yamlfile.Node) Kind {
	j := &RequestJWT{ExpiresIn: assertionLife, Send: Send{Header: "Authorization", Scheme: "Bearer"}}
	mapping.Read(r, "a jwt login", n, j, requestJWTKeys)
	r.Together(n, requestJWTTogether)
	if j.Shared == nil && !j.IsSet() {
		r.File.Report(n, "write key: with a private key, or shared key: ${sealed.NAME}",
			"a jwt login must say what it signs with")
	}
	return j
}

var requestJWTTogether = []mapping.Together{
	{Key: "shared key", Without: []string{"key", "certificate", "password"}},
	{Key: "password", With: []string{"key", "certificate"}},
	{Key: "certificate as", With: []string{"certificate"}},
}

var requestJWTKeys = []mapping.Key[RequestJWT]{
	ignoreKind[RequestJWT](),
	mapping.SecretKey("key", "the private key: a file of the bench, or ${sealed.x}",
		func(j *RequestJWT) **value.Template { return &j.Key }),
	mapping.TemplateKey("certificate", "its certificate",
		func(j *RequestJWT) **value.Template { return &j.Certificate }),
	mapping.SecretKey("password", "password of the key, from ${sealed.x}",
		func(j *RequestJWT) **value.Template { return &j.Password }),
	mapping.SecretKey("shared key", "a shared key in place of a pair, from ${sealed.x}",
		func(j *RequestJWT) **value.Template { return &j.Shared }),
	mapping.TemplateKey("key id", "the key's name", func(j *RequestJWT) **value.Template { return &j.KeyID }),
	mapping.NewKey("algorithm", "of the signature; what fits the key unless said",
		func(r *mapping.Reader, j *RequestJWT, n *yamlfile.Node) {
			j.Algorithm = r.Choice(n, "algorithm", Algorithms...)
		}),
	mapping.NewKey("certificate as", "how the certificate is named: x5t, x5t#S256, x5c",
		func(r *mapping.Reader, j *RequestJWT, n *yamlfile.Node) {
			j.CertificateAs = r.Choice(n, "way to name a certificate", CertificateForms...)
		}),
	mapping.NewKey("claims", "what it says, beside jti, iat and exp",
		func(r *mapping.Reader, j *RequestJWT, n *yamlfile.Node) { j.Claims = readClaims(r, n) }),
	mapping.NewKey("request claims",
		"claims about the request: digest: body hash sha256 hex; the parts are those of hmac",
		func(r *mapping.Reader, j *RequestJWT, n *yamlfile.Node) {
			for _, e := range r.Entries(n, "request claims") {
				part, err := ParseSignedPart(r.PlainText(e.Value))
				if err != nil {
					r.File.Report(e.Value, "", "%v", err)
				}
				j.OfRequest = append(j.OfRequest, requestClaim{e.Key.Text, part})
			}
		}),
	mapping.TimeoutKey("expires in", "how long it is good; 2 min unless said",
		func(j *RequestJWT) *time.Duration { return &j.ExpiresIn }),
	mapping.NewKey("send", "where it goes: header:, scheme:, query: or cookie:; Authorization with Bearer unless said",
		func(r *mapping.Reader, j *RequestJWT, n *yamlfile.Node) {
			readSend(r, n, &j.Send)
		}),
}
