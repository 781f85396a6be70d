package login

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
)

// OAuth2 gets a token from an authorization server (RFC 6749) by one of Grants,
// and renews it by a refresh token where it was given one (section 6).
type OAuth2 struct {
	Grant string
	// Issuer is the server's name; what is not set of the endpoints is read from
	// its metadata (RFC 8414, OpenID Connect Discovery 1.0).
	Issuer        *value.Template
	From          *value.Template // the token endpoint
	AuthorizeAt   *value.Template // the authorization endpoint
	DeviceAt      *value.Template // the device authorization endpoint (RFC 8628)
	Introspection *value.Template // RFC 7662
	Revocation    *value.Template // RFC 7009
	KeysAt        *value.Template // the issuer's keys (RFC 7517)

	Client               *value.Template
	ClientSecret         *value.Template
	ClientAuthentication string // how the client proves who it is; see ClientWays
	Material                    // its key and certificate
	KeyID                *value.Template
	Algorithm            string // of what it signs; empty takes what fits the key

	User, Password *value.Template
	RefreshToken   *value.Template
	Redirect       *value.Template // of the authorization code; a loopback address
	Assertion      *value.Template // of the JWT and SAML bearer grants
	CertificateAs  string          // how an assertion names the certificate of its key, of CertificateForms
	Claims         *request.Tree   // further claims of an assertion made here
	Subject        TokenSource     // of a token exchange (RFC 8693)
	Actor          TokenSource
	Requested      *value.Template // the kind of token asked for

	Scope    *value.Template
	Audience *value.Template
	Resource []*value.Template // RFC 8707
	Details  *request.Tree     // what is asked for in parts, a list of objects (RFC 9396)
	Extra    []request.Pair    // further parameters of the token request
	// SignedRequest says that the authorization request is signed (RFC 9101), and SignedAnswer that its answer is
	// (JWT Secured Authorization Response Mode).
	SignedRequest, SignedAnswer bool
	Proof                       bool // tokens are bound to a key (DPoP, RFC 9449)
	Revokes                     bool // the token is revoked at the end
	Send                        Send
}

// TokenSource is a token that a token exchange starts from: a value, or the
// token of another login.
type TokenSource struct {
	Token *value.Template
	Login string
	Kind  *value.Template // its token type identifier (RFC 8693, section 3)
}

// The client's ways to prove who it is (RFC 6749, 2.3.1; RFC 7523, 2.2; RFC 8705, 2).
const (
	InBasic       = "basic"
	InRawBasic    = "raw basic" // neither part is encoded before, for servers that do not decode them
	InForm        = "form"
	InKeyJWT      = "private key jwt"
	InSecretJWT   = "client secret jwt"
	InCertificate = "certificate"
)

// ClientWays lists the client's ways to prove who it is.
var ClientWays = []string{InBasic, InForm, InRawBasic, InKeyJWT, InSecretJWT, InCertificate}

// oauthState is what an OAuth 2.0 login reads once: endpoints and keys.
type oauthState struct {
	metadata *document.Node
	pair     *keys.Pair
	prover   *prover
	details  string // what is asked for in parts, as JSON; empty for nothing
}

// state reads metadata and keys. It is made anew for each token.
func (o *OAuth2) state(ctx context.Context, env *Env) (*oauthState, error) {
	s := &oauthState{}
	var err error
	if o.Issuer != nil {
		if s.metadata, err = o.discover(ctx, env); err != nil {
			return nil, err
		}
	}
	if o.Material.IsSet() {
		if s.pair, err = o.Material.read(env); err != nil {
			return nil, err
		}
	}
	if s.details, err = o.detailed(env); err != nil {
		return nil, err
	}
	if o.Proof {
		if s.prover, err = newProver(); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// endpoint gives an address: the definition's own, or the metadata's.
func (o *OAuth2) endpoint(env *Env, s *oauthState, own *value.Template, setting, member string) (string, error) {
	if own != nil {
		text, err := own.Text(env.Scope, value.Address)
		if err != nil {
			return "", &Error{Message: setting + ": " + err.Error()}
		}
		return text.Sent, nil
	}
	if address := textOf(s.metadata.Get(member)); address != "" {
		return address, nil
	}
	message := "the login does not say " + setting + ":"
	if s.metadata != nil {
		message += ", and the issuer's metadata has no " + member
	}
	return "", &Error{Message: message}
}

// Obtain asks the authorization server.
func (o *OAuth2) Obtain(ctx context.Context, env *Env, before *Token) (*Token, error) {
	s, err := o.state(ctx, env)
	if err != nil {
		return nil, err
	}
	if before != nil && before.Refresh != "" && before.Spoilt == "" {
		if kept, ok := before.material.(*oauthState); ok {
			s.prover = kept.prover // the refresh token is bound to its key (RFC 9449, section 5)
		}
		token, err := o.ask(ctx, env, s,
			o.targeted(pair("grant_type", "refresh_token"), pair("refresh_token", before.Refresh)))
		if err == nil {
			if token.Refresh == "" {
				token.Refresh = before.Refresh
			}
			return token, nil
		}
		var failure *Error
		if !errors.As(err, &failure) || failure.Record == nil || failure.Record.Answer == nil {
			return nil, err // nobody answered
		}
		// A refresh token that is refused (section 5.2) is given up for a new start.
	}
	return grants[o.Grant](o, ctx, env, s)
}

func pair(name, text string) request.Pair {
	return request.Pair{Name: name, Value: request.Text(value.Literal(text), true)}
}

// clientRequest builds a request in which the client proves who it is.
func (o *OAuth2) clientRequest(env *Env, s *oauthState, address string,
	form []request.Pair,
) (*exchange.Request, error) {
	spec := &request.Spec{Method: "POST", Address: value.Literal(address), Form: form}
	spec.Headers = []request.Pair{pair("Accept", "application/json")}
	filled, err := env.texts("client", o.Client, "client secret", o.ClientSecret)
	if err != nil {
		return nil, err
	}
	client, secret := filled[0], filled[1]
	way := o.ClientAuthentication
	switch {
	case client == "":
		way = ""
	case way == "" && o.ClientSecret != nil:
		way = InBasic
	}
	switch way {
	case InForm:
		spec.Form = append(spec.Form, pair("client_id", client),
			request.Pair{Name: "client_secret", Value: request.Text(o.ClientSecret, true)})
	case InRawBasic:
		credentials := basicCredentials(client, secret)
		env.Scope.Hide(credentials)
		spec.Headers = append(spec.Headers, pair("Authorization", "Basic "+credentials))
	case InBasic:
		// Both are form-encoded before they go into Basic (section 2.3.1).
		credentials := basicCredentials(url.QueryEscape(client), url.QueryEscape(secret))
		env.Scope.Hide(credentials)
		spec.Headers = append(spec.Headers, pair("Authorization", "Basic "+credentials))
	case InKeyJWT, InSecretJWT:
		assertion, err := o.clientAssertion(env, s, client, secret, address)
		if err != nil {
			return nil, err
		}
		env.Scope.Hide(assertion)
		spec.Form = append(spec.Form, pair("client_id", client),
			pair("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"),
			pair("client_assertion", assertion))
	default:
		if client != "" {
			spec.Form = append(spec.Form, pair("client_id", client))
		}
	}
	r, err := spec.Build(env.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	if way == InBasic || way == InRawBasic {
		r.Show("Authorization", "Basic "+value.Mask)
	}
	return r, o.showCertificate(r, s)
}

// showCertificate makes the request carry the client's certificate where the
// client proves itself by it (RFC 8705), at its token endpoint and, as tokens
// are bound to it, at services (section 3).
func (o *OAuth2) showCertificate(r *exchange.Request, s *oauthState) error {
	if o.ClientAuthentication != InCertificate || s == nil || s.pair == nil {
		return nil
	}
	if err := s.pair.Complete(); err != nil {
		return &Error{Message: err.Error()}
	}
	certificate := s.pair.TLS()
	r.Certificate = &certificate
	return nil
}

// ask sends a token request and reads its answer (section 5.1).
func (o *OAuth2) ask(ctx context.Context, env *Env, s *oauthState, form []request.Pair) (*Token, error) {
	address, err := o.endpoint(env, s, o.From, "from", "token_endpoint")
	if err != nil {
		return nil, err
	}
	re, err := o.askEndpoint(ctx, env, s, address, form)
	if err != nil {
		return nil, err
	}
	if re.Record.Answer.Status != 200 {
		return nil, refusal(re, "token endpoint")
	}
	text := re.Payload.Get("access_token")
	if re.Format != document.JSON || text == nil || text.Text == "" {
		return nil, &Error{
			Message: fmt.Sprintf("the token endpoint answered 200 without an access_token (%s)", answerInWords(re)),
			Record:  re.Record,
			Try:     "is from: the token endpoint? It should answer in JSON (RFC 6749, section 5.1)",
		}
	}
	now := env.now()
	token := &Token{
		Text: text.Text, Obtained: now, Kind: textOf(re.Payload.Get("token_type")),
		Refresh:  textOf(re.Payload.Get("refresh_token")),
		Identity: textOf(re.Payload.Get("id_token")), Scope: strings.Fields(textOf(re.Payload.Get("scope"))),
		Expires: expiry(text.Text),
	}
	if !token.Expires.IsZero() {
		token.Expires = token.Expires.Add(-Skew(re.Record)) // the claim follows the server's clock
	}
	if life, ok := re.Payload.Get("expires_in").Decimal(); ok {
		if seconds, err := life.Float64(); err == nil {
			token.Expires = now.Add(time.Duration(seconds * float64(time.Second)))
		}
	}
	if s.prover != nil || o.ClientAuthentication == InCertificate {
		token.material = s
	}
	if s.prover != nil && !strings.EqualFold(token.Kind, "DPoP") {
		return nil, &Error{
			Record: re.Record, Message: fmt.Sprintf(
				"the token endpoint gave a token of type %q, which is not bound to the key that was proven (RFC "+
					"9449, section 5)", token.Kind),
			Try: "the server may not know DPoP; leave proof: dpop out to use its tokens all the same",
		}
	}
	return token, nil
}

// askEndpoint sends one request of the client, with a proof of its key where
// tokens are bound to one. A nonce that is asked for is given, once (RFC 9449, 8).
func (o *OAuth2) askEndpoint(ctx context.Context, env *Env, s *oauthState, address string,
	form []request.Pair,
) (*reply.Reply, error) {
	for attempt := 0; ; attempt++ {
		r, err := o.clientRequest(env, s, address, form)
		if err != nil {
			return nil, err
		}
		if s.prover != nil {
			if err := s.prover.put(r, env, "", 0); err != nil {
				return nil, err
			}
		}
		re, err := env.do(ctx, r)
		if err != nil {
			return nil, err
		}
		if re.Format != document.JSON && document.Guess(re.Record.Answer.Body) == document.JSON {
			// Some endpoints call their JSON text; there is nothing else it could be.
			if node, err := document.ReadJSON(re.Record.Answer.Body); err == nil {
				re.Format, re.Payload = document.JSON, node
			}
		}
		wantsNonce := s.prover != nil && s.prover.learn(re.Record.Answer, r.URL) &&
			textOf(re.Payload.Get("error")) == "use_dpop_nonce"
		// A server whose clock differs finds our assertions too old or too young.
		skewed := attempt == 0 && re.Record.Answer.Status >= 400 && Skew(re.Record) != 0 &&
			(o.ClientAuthentication == InKeyJWT || o.ClientAuthentication == InSecretJWT || s.prover != nil)
		if attempt > 0 || !wantsNonce && !skewed {
			return re, nil
		}
	}
}

// Place is where the token goes in.
func (o *OAuth2) Place() Stage { return o.Send.place() }

// Put sets the Authorization field, or what Send says.
func (o *OAuth2) Put(r *exchange.Request, env *Env, t *Token) error {
	send := o.Send
	if send == (Send{}) {
		send = Send{Header: "Authorization", Scheme: "Bearer"}
	}
	s, _ := t.material.(*oauthState)
	if err := o.understood(t); err != nil {
		return err
	}
	if o.Proof && send.Scheme == "Bearer" {
		send.Scheme = "DPoP"
	}
	if s != nil && s.prover != nil {
		if err := s.prover.put(r, env, t.Text, t.stampShift()); err != nil {
			return err
		}
	}
	if err := send.put(r, t); err != nil {
		return err
	}
	return o.showCertificate(r, s)
}

// understood refuses a token of a type that nobody here knows how to use (RFC 6749, 7.1), unless the definition
// says how it is sent. N_A is that of an exchange whose token is not an access token (RFC 8693, 2.2.1).
func (o *OAuth2) understood(t *Token) error {
	switch kind := strings.ToLower(t.Kind); {
	case o.Send != (Send{}) || o.Proof || kind == "" || kind == "bearer" || kind == "n_a":
		return nil
	case kind == "dpop":
		return &Error{
			Message: "the token is bound to a key (its type is DPoP), and the login proves none",
			Try:     "write proof: dpop at the login",
		}
	}
	return &Error{
		Message: fmt.Sprintf("the token is of type %q, and how that is used is not known here", t.Kind),
		Try:     "write send: with header: and scheme: at the login, if the service takes it so",
	}
}

// Challenged repeats the nonce that a service asks for (RFC 9449, section 9).
func (o *OAuth2) Challenged(answer *exchange.Answer, _ *Env, t *Token) (*Token, bool, bool, error) {
	s, _ := t.material.(*oauthState)
	if s == nil || s.prover == nil || answer.Header.Get("DPoP-Nonce") == "" {
		return nil, false, false, nil
	}
	isNew := s.prover.learnAt("", answer)
	next := *t
	next.Kind = "a nonce (DPoP)"
	again := isNew && answer.Status == 401 &&
		strings.Contains(strings.Join(answer.Header.Values("WWW-Authenticate"), " "), "use_dpop_nonce")
	if !again {
		return nil, false, false, nil
	}
	return &next, true, false, nil
}

// NeedsPerson says whether somebody has to open a page.
func (o *OAuth2) NeedsPerson() bool { return o.Grant == GrantCode || o.Grant == GrantDevice }

// Verify asks the introspection endpoint (RFC 7662, section 2), and checks the
// signature of a JWT by the issuer's keys.
func (o *OAuth2) Verify(ctx context.Context, env *Env, t *Token) (*Introspection, error) {
	env.Scope.Hide(t.Text)
	s, err := o.state(ctx, env)
	if err != nil {
		return nil, err
	}
	asked, refused := o.introspect(ctx, env, s, t)
	signed, err := o.checkSignature(ctx, env, s, t)
	switch {
	case err != nil:
		return nil, err
	case refused != nil && signed == nil:
		return nil, refused
	case refused != nil:
		// Some servers do not introspect tokens that can be checked without them.
		signed.Also = append(signed.Also, refused.Error())
		return signed, nil
	}
	switch {
	case asked == nil && signed == nil:
		return nil, &Error{
			Message: "nobody can be asked: the login names neither an introspection endpoint nor the issuer's keys",
			Try:     "add introspection: ADDRESS, or keys: ADDRESS for tokens that are JWTs, or issuer: to find both",
		}
	case asked == nil:
		return signed, nil
	case signed == nil:
		return asked, nil
	}
	asked.Good = asked.Good && signed.Good
	asked.Also = append(asked.Also, signed.Said)
	asked.Also = append(asked.Also, signed.Also...)
	return asked, nil
}

func (o *OAuth2) introspect(ctx context.Context, env *Env, s *oauthState, t *Token) (*Introspection, error) {
	if o.Introspection == nil && s.metadata.Get("introspection_endpoint") == nil {
		return nil, nil
	}
	address, err := o.endpoint(env, s, o.Introspection, "introspection", "introspection_endpoint")
	if err != nil {
		return nil, err
	}
	r, err := o.askEndpoint(ctx, env, &oauthState{metadata: s.metadata, pair: s.pair}, address,
		[]request.Pair{pair("token", t.Text), pair("token_type_hint", "access_token")})
	if err != nil {
		return nil, err
	}
	active := r.Payload.Get("active")
	if r.Record.Answer.Status != 200 || active == nil {
		return nil, refusal(r, "introspection endpoint")
	}
	standing := &Introspection{
		Good: active.Text == "true", Details: r.Payload,
		Said: "the issuer says the token is good",
	}
	if !standing.Good {
		standing.Said = "the issuer says the token is not good (expired, withdrawn or unknown)"
	}
	return standing, nil
}

// RevokesToken says whether the token is revoked at the end.
func (o *OAuth2) RevokesToken() bool { return o.Revokes }

// Revoke revokes the token (RFC 7009).
func (o *OAuth2) Revoke(ctx context.Context, env *Env, t *Token) error {
	if t.Text == "" {
		return nil
	}
	s, err := o.state(ctx, env)
	if err != nil {
		return err
	}
	address, err := o.endpoint(env, s, o.Revocation, "revocation", "revocation_endpoint")
	if err != nil {
		return err
	}
	s.prover = nil
	for hint, text := range map[string]string{"refresh_token": t.Refresh, "access_token": t.Text} {
		if text == "" {
			continue
		}
		r, err := o.askEndpoint(ctx, env, s, address,
			[]request.Pair{pair("token", text), pair("token_type_hint", hint)})
		if err != nil {
			return err
		}
		if r.Record.Answer.Status != 200 {
			return refusal(r, "revocation endpoint")
		}
	}
	return nil
}

// Placeholders lists the placeholders.
func (o *OAuth2) Placeholders() []*value.Placeholder {
	all := placeholders(append([]*value.Template{
		o.Issuer, o.From, o.AuthorizeAt, o.DeviceAt, o.Introspection, o.Revocation, o.KeysAt, o.Client, o.ClientSecret,
		o.KeyID,
		o.User, o.Password, o.RefreshToken, o.Redirect, o.Assertion, o.Subject.Token, o.Subject.Kind, o.Actor.Token,
		o.Actor.Kind, o.Requested,
		o.Scope, o.Audience,
	}, o.Resource...)...)
	all = append(all, o.Material.placeholders()...)
	if o.Claims != nil {
		all = append(all, o.Claims.Placeholders()...)
	}
	for _, p := range o.Extra {
		all = append(all, p.Value.Placeholders()...)
	}
	return all
}

// Addresses are where the login itself sends requests.
func (o *OAuth2) Addresses() []*value.Template {
	return []*value.Template{o.Issuer, o.From, o.AuthorizeAt, o.DeviceAt, o.Introspection, o.Revocation, o.KeysAt}
}
