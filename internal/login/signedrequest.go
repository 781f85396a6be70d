package login

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/document"
	"testbench/internal/keys"
)

// detailed adds what is asked for in parts to the parameters of a request (RFC 9396, 2).
func (o *OAuth2) detailed(env *Env) (string, error) {
	if o.Details == nil {
		return "", nil
	}
	node, err := o.Details.Node(env.Scope)
	if err != nil {
		return "", &Error{Message: "details: " + err.Error()}
	}
	return document.WriteJSON(node, document.Style{}), nil
}

// signed puts the parameters of an authorization request into a JWT that the client signs,
// where the definition or the server's metadata wants that (RFC 9101, 4 and 10.5); elsewhere
// they are the same.
func (o *OAuth2) signed(env *Env, s *oauthState, asked url.Values, page string) (url.Values, error) {
	if !o.SignedRequest && textOf(s.metadata.Get("require_signed_request_object")) != "true" {
		return asked, nil
	}
	client := asked.Get("client_id")
	now := env.serverNow(hostOf(page))
	claims := jwt.MapClaims{
		"iss": client, "aud": page, "jti": randomText(), "iat": now.Unix(), "nbf": now.Unix(),
		"exp": now.Add(assertionLife).Unix(),
	}
	if issuer := textOf(s.metadata.Get("issuer")); issuer != "" {
		claims["aud"] = issuer
	}
	for name, texts := range asked {
		switch {
		case name == "authorization_details":
			claims[name] = json.RawMessage(texts[0]) // RFC 9396, 3: as JSON, and not as a text
		case len(texts) == 1:
			claims[name] = texts[0]
		default:
			claims[name] = texts
		}
	}
	object, err := o.signWithClient(env, s, "oauth-authz-req+jwt", claims, "", false)
	if err != nil {
		return nil, err
	}
	return url.Values{"client_id": {client}, "request": {object}}, nil
}

// signedAnswer reads what the authorization server sends back in a JWT that it signed, for
// this client (JWT Secured Authorization Response Mode, 2.1 and 2.4).
type signedAnswer struct {
	keys   []keys.JWK
	issuer string
	client string
	env    *Env
}

// answers prepares for answers that are signed; nil where they are not.
func (o *OAuth2) answers(ctx context.Context, env *Env, s *oauthState, client string) (*signedAnswer, error) {
	if !o.SignedAnswer {
		return nil, nil
	}
	_, set, err := o.issuerKeys(ctx, env, s)
	if err != nil {
		return nil, err
	}
	return &signedAnswer{keys: set, issuer: textOf(s.metadata.Get("issuer")), client: client, env: env}, nil
}

// parameters are those of an answer. Their signature is checked by verify.
func (a *signedAnswer) parameters(came url.Values) url.Values {
	if a == nil {
		return came
	}
	out := url.Values{}
	for _, m := range Claims(came.Get("response")).Members() {
		out.Set(m.Key, textOf(m.Value))
	}
	return out
}

// verify says what is wrong with an answer, nil for nothing.
func (a *signedAnswer) verify(came url.Values) error {
	if a == nil {
		return nil
	}
	text := came.Get("response")
	wrong := func(format string, args ...any) error {
		return &Error{Asked: true, Message: "the signed answer of the authorization server is not good: " +
			fmt.Sprintf(format, args...)}
	}
	claims := Claims(text)
	if claims == nil {
		return wrong("it has no JWT in response")
	}
	standing := checkJWT(text, a.keys, a.issuer, a.env.serverNow(""))
	if !standing.Good {
		return wrong("%s", slices.Concat(standing.Also, []string{standing.Said})[0])
	}
	audience := []string{textOf(claims.Get("aud"))}
	for _, one := range claims.Get("aud").Items() {
		audience = append(audience, textOf(one))
	}
	if !slices.Contains(audience, a.client) {
		return wrong("it is for %q, not for %q", audience[len(audience)-1], a.client)
	}
	if textOf(claims.Get("exp")) == "" {
		return wrong("it does not say until when it is good (exp)")
	}
	return nil
}
