package login

import (
	"context"
	"encoding/base64"
	"strings"

	"testbench/internal/request"
	"testbench/internal/value"
)

// The grants.
const (
	GrantClient        = "client credentials" // RFC 6749, 4.4
	GrantPassword      = "password"           // 4.3
	GrantRefresh       = "refresh"            // 6
	GrantCode          = "authorization code" // 4.1, with PKCE (RFC 7636)
	GrantDevice        = "device"             // RFC 8628
	GrantJWTBearer     = "jwt bearer"         // RFC 7523
	GrantSAMLBearer    = "saml bearer"        // RFC 7522
	GrantTokenExchange = "token exchange"     // RFC 8693
)

// Grants lists the grants that can be asked for.
var Grants = []string{
	GrantClient, GrantPassword, GrantRefresh, GrantCode, GrantDevice, GrantJWTBearer, GrantSAMLBearer,
	GrantTokenExchange,
}

// grants get a token, each in its own way.
var grants = map[string]func(o *OAuth2, ctx context.Context, env *Env, s *oauthState) (*Token, error){
	GrantClient: func(o *OAuth2, ctx context.Context, env *Env, s *oauthState) (*Token, error) {
		return o.ask(ctx, env, s, o.scoped(s, pair("grant_type", "client_credentials")))
	},
	GrantPassword: func(o *OAuth2, ctx context.Context, env *Env, s *oauthState) (*Token, error) {
		return o.ask(ctx, env, s,
			o.scoped(s, pair("grant_type", "password"), filled("username", o.User), filled("password", o.Password)))
	},
	GrantRefresh: func(o *OAuth2, ctx context.Context, env *Env, s *oauthState) (*Token, error) {
		return o.ask(ctx, env, s,
			o.scoped(s, pair("grant_type", "refresh_token"), filled("refresh_token", o.RefreshToken)))
	},
	GrantCode:          (*OAuth2).byCode,
	GrantDevice:        (*OAuth2).byDevice,
	GrantJWTBearer:     (*OAuth2).byJWT,
	GrantSAMLBearer:    (*OAuth2).bySAML,
	GrantTokenExchange: (*OAuth2).byExchange,
}

func filled(name string, t *value.Template) request.Pair {
	return request.Pair{Name: name, Value: request.Text(t, true)}
}

// scoped adds to the parameters of a token request what the definition asks for.
func (o *OAuth2) scoped(s *oauthState, form ...request.Pair) []request.Pair {
	if s.details != "" {
		form = append(form, pair("authorization_details", s.details))
	}
	if o.Scope != nil {
		form = append(form, filled("scope", o.Scope))
	}
	return o.targeted(form...)
}

// targeted adds whom the token is for.
func (o *OAuth2) targeted(form ...request.Pair) []request.Pair {
	if o.Audience != nil {
		form = append(form, filled("audience", o.Audience))
	}
	for _, resource := range o.Resource {
		form = append(form, filled("resource", resource))
	}
	return append(form, o.Extra...)
}

// byJWT gives an assertion of its own or the definition's (RFC 7523, 2.1).
func (o *OAuth2) byJWT(ctx context.Context, env *Env, s *oauthState) (*Token, error) {
	assertion, err := env.text("assertion", o.Assertion)
	if err == nil && assertion == "" {
		assertion, err = o.grantAssertion(env, s)
	}
	if err != nil {
		return nil, err
	}
	env.Scope.Hide(assertion)
	return o.ask(ctx, env, s,
		o.scoped(s, pair("grant_type", "urn:ietf:params:oauth:grant-type:jwt-bearer"),
			pair("assertion", strings.TrimSpace(assertion))))
}

// bySAML gives the definition's assertion (RFC 7522, 2.1): base64url of its XML;
// one that is encoded already is taken as it is.
func (o *OAuth2) bySAML(ctx context.Context, env *Env, s *oauthState) (*Token, error) {
	assertion, err := env.piece("assertion", o.Assertion)
	if err != nil {
		return nil, err
	}
	text := strings.TrimSpace(string(assertion))
	if strings.HasPrefix(text, "<") {
		env.Scope.Hide(text)
		text = base64.URLEncoding.EncodeToString([]byte(text))
	}
	env.Scope.Hide(text)
	return o.ask(ctx, env, s,
		o.scoped(s, pair("grant_type", "urn:ietf:params:oauth:grant-type:saml2-bearer"), pair("assertion", text)))
}

// accessTokenType is the kind of a subject token unless said otherwise (RFC 8693, 3).
const accessTokenType = "urn:ietf:params:oauth:token-type:access_token"

// byExchange swaps a token for another (RFC 8693, section 2.1).
func (o *OAuth2) byExchange(ctx context.Context, env *Env, s *oauthState) (*Token, error) {
	form := []request.Pair{pair("grant_type", "urn:ietf:params:oauth:grant-type:token-exchange")}
	for _, source := range []struct {
		name string
		TokenSource
	}{{"subject", o.Subject}, {"actor", o.Actor}} {
		if source.Token == nil && source.Login == "" {
			continue
		}
		text, err := env.text(source.name, source.Token)
		if err != nil {
			return nil, err
		}
		if source.Login != "" {
			token, err := env.other(ctx, source.Login)
			if err != nil {
				return nil, err
			}
			text = token.Text
		}
		kind, err := env.text("kind of the "+source.name, source.Kind)
		if err != nil {
			return nil, err
		}
		form = append(form, pair(source.name+"_token", text), pair(source.name+"_token_type", tokenType(kind)))
	}
	requested, err := env.text("requested", o.Requested)
	if err != nil {
		return nil, err
	}
	if requested != "" {
		form = append(form, pair("requested_token_type", tokenType(requested)))
	}
	return o.ask(ctx, env, s, o.scoped(s, form...))
}

// tokenType writes a short name as the identifier it stands for (section 3).
func tokenType(name string) string {
	switch {
	case name == "":
		return accessTokenType
	case strings.Contains(name, ":"):
		return name
	}
	return "urn:ietf:params:oauth:token-type:" + strings.ReplaceAll(name, " ", "_")
}
