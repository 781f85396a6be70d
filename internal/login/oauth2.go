package login

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/mapping"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
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

// refusal puts an error answer of RFC 6749, section 5.2, into words.
func refusal(r *reply.Reply, endpoint string) *Error {
	answer := r.Record.Answer
	e := &Error{Record: r.Record}
	code := textOf(r.Payload.Get("error"))
	switch location := answer.Header.Get("Location"); {
	case code != "":
	case answer.Status >= 300 && answer.Status < 400 && location != "":
		e.Message = fmt.Sprintf("the endpoint answered %d and leads to %s, where credentials were not sent",
			answer.Status, location)
		e.Try = "if that is where it is now, write its address into the login"
		return e
	case r.Format == document.HTML:
		e.Message = fmt.Sprintf("the %s answered %d: %s", endpoint, answer.Status, answerInWords(r))
		e.Try = fmt.Sprintf("an HTML page comes from a login page or a proxy, not from the %s: check the address",
			endpoint)
		return e
	default:
		e.Message = fmt.Sprintf("the %s answered %d: %s", endpoint, answer.Status, answerInWords(r))
		return e
	}
	e.Message = fmt.Sprintf("the %s refused with %d %s", endpoint, answer.Status, code)
	if description := textOf(r.Payload.Get("error_description")); description != "" {
		e.Message += ": " + description
	}
	e.Try = errorWords[code]
	if skew := Skew(r.Record); skew != 0 {
		e.Try = strings.TrimPrefix(e.Try+"; "+SkewInWords(skew), "; ")
	}
	return e
}

// errorWords explain the error codes of RFC 6749 (4.1.2.1, 5.2), RFC 8628 (3.5),
// RFC 8707 (2) and RFC 9449 (5).
var errorWords = map[string]string{
	"invalid_client": "the client or its secret is wrong, or the endpoint wants them in another way: " +
		"client authentication: " + strings.Join(ClientWays, ", "),
	"invalid_grant": "the user, the password, the code, the assertion or the refresh token is wrong or " +
		"no longer good",
	"invalid_scope":             "the scope is unknown, or more than this client may have",
	"unauthorized_client":       "this client may not use this grant",
	"unsupported_grant_type":    "the endpoint does not know this grant",
	"invalid_request":           "a parameter is missing or is there twice",
	"access_denied":             "the person or the server said no",
	"expired_token":             "the code was not typed in in time: start again",
	"invalid_target":            "the resource or audience is unknown, or not for this client",
	"invalid_dpop_proof":        "the proof of the key was not accepted",
	"unsupported_response_type": "the server gives no codes to this client",
	"server_error":              "the server fell over; its own log would tell",
	"temporarily_unavailable":   "the server is too busy; try later",
}

// answerInWords says shortly what an answer was: in the service's words where it has some.
func answerInWords(r *reply.Reply) string {
	a := r.Record.Answer
	said := r.Error()
	switch {
	case said != nil && r.Format != document.HTML:
		return said.String()
	case len(a.Body) == 0:
		return "an empty answer"
	case r.Format == document.JSON && r.Payload != nil:
		return r.Payload.Describe()
	case r.Format == document.HTML:
		return "an HTML page"
	}
	return fmt.Sprintf("%d bytes of %s", len(a.Body), a.ContentType())
}

func textOf(n *document.Node) string {
	if n == nil {
		return ""
	}
	return n.Value().Text
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

func readOAuth2(r *mapping.Reader, n *yamlfile.Node) Kind {
	o := &OAuth2{Grant: GrantClient}
	mapping.Read(r, "an oauth2 login", n, o, oauth2Keys)
	r.Together(n, oauth2Together)
	r.OnlyBeside(n, "the grant "+o.Grant, oauth2Grants, "grant", o.Grant)
	if o.From == nil && o.Issuer == nil {
		r.File.Report(n, "write from: with the token endpoint's address, or issuer:", "the login does not say from:")
	}
	needs := func(setting string, t *value.Template) {
		if o.Issuer == nil {
			needSettings(r, n, setting, t)
		}
	}
	switch o.Grant {
	case GrantClient:
		if o.ClientAuthentication == "" || o.ClientAuthentication == InBasic || o.ClientAuthentication == InRawBasic ||
			o.ClientAuthentication == InForm {
			needSettings(r, n, "client", o.Client, "client secret", o.ClientSecret)
		}
	case GrantPassword:
		needSettings(r, n, "user", o.User, "password", o.Password)
	case GrantRefresh:
		needSettings(r, n, "refresh token", o.RefreshToken)
	case GrantCode:
		needSettings(r, n, "client", o.Client)
		needs("authorize", o.AuthorizeAt)
	case GrantDevice:
		needSettings(r, n, "client", o.Client)
		needs("device", o.DeviceAt)
	case GrantSAMLBearer:
		needSettings(r, n, "assertion", o.Assertion)
	case GrantJWTBearer:
		if o.Assertion == nil && !o.Material.IsSet() && o.ClientSecret == nil {
			r.File.Report(n, "write key: to have one made, or assertion: with one",
				"a jwt bearer grant needs an assertion")
		}
	case GrantTokenExchange:
		if o.Subject.Token == nil && o.Subject.Login == "" {
			r.File.Report(n, "write subject: with login: NAME or token: ${sealed.x} below it",
				"a token exchange needs a token to begin with")
		}
	}
	switch o.ClientAuthentication {
	case InKeyJWT:
		needSettings(r, n, "client", o.Client, "key", o.Material.Key)
	case InSecretJWT:
		needSettings(r, n, "client", o.Client, "client secret", o.ClientSecret)
	case InCertificate:
		needSettings(r, n, "client", o.Client, "certificate", o.Material.Certificate)
	}
	return o
}

var oauth2Keys = slices.Concat([]mapping.Key[OAuth2]{
	ignoreKind[OAuth2](),
	mapping.NewKey("grant", strings.Join(Grants, ", ")+"; client credentials unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			if word := r.Choice(n, "grant that can be used", Grants...); word != "" {
				o.Grant = word
			}
		}),
	mapping.AddressKey("issuer", "the issuer; its metadata says where its endpoints are",
		func(o *OAuth2) **value.Template { return &o.Issuer }),
	mapping.AddressKey("from", "the token endpoint", func(o *OAuth2) **value.Template { return &o.From }),
	mapping.AddressKey("authorize", "the authorization endpoint",
		func(o *OAuth2) **value.Template { return &o.AuthorizeAt }),
	mapping.AddressKey("device", "the device authorization endpoint",
		func(o *OAuth2) **value.Template { return &o.DeviceAt }),
	mapping.AddressKey("introspection", "the endpoint that verifies",
		func(o *OAuth2) **value.Template { return &o.Introspection }),
	mapping.AddressKey("revocation", "the endpoint that withdraws",
		func(o *OAuth2) **value.Template { return &o.Revocation }),
	mapping.AddressKey("keys", "where the issuer publishes its keys",
		func(o *OAuth2) **value.Template { return &o.KeysAt }),
	mapping.TemplateKey("client", "the client's name", func(o *OAuth2) **value.Template { return &o.Client }),
	mapping.SecretKey("client secret", "its secret, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.ClientSecret }),
	mapping.NewKey("client authentication", strings.Join(ClientWays, ", ")+"; basic unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.ClientAuthentication = r.Choice(n, "place for the client's credentials", ClientWays...)
		}),
	mapping.TemplateKey("certificate", "the client's certificate: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Certificate }),
	mapping.TemplateKey("key", "the client's private key: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Key }),
	mapping.SecretKey("key password", "password of the key, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Password }),
	mapping.TemplateKey("key id", "the key's name at the issuer", func(o *OAuth2) **value.Template { return &o.KeyID }),
	mapping.NewKey("certificate as", "how what is signed names the certificate: x5t, x5t#S256, x5c",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.CertificateAs = r.Choice(n, "way to name a certificate", CertificateForms...)
		}),
	mapping.NewKey(
		"algorithm", "of what is signed; what fits the key unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Algorithm = r.Choice(n, "algorithm", Algorithms...)
		},
	),
	mapping.TemplateKey("user", "user name", func(o *OAuth2) **value.Template { return &o.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Password }),
	mapping.SecretKey("refresh token", "a refresh token, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.RefreshToken }),
	mapping.AddressKey("redirect", "where the browser comes back to, on this machine",
		func(o *OAuth2) **value.Template { return &o.Redirect }),
	mapping.TemplateKey("assertion", "an assertion: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Assertion }),
	mapping.NewKey("claims", "further claims of the assertion that is made",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Claims = readClaims(r, n)
		}),
	mapping.NewKey("subject", "the token to exchange", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		mapping.Read(r, "subject", n, &o.Subject, sourceKeys)
	}),
	mapping.NewKey("actor", "the token of who acts", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		mapping.Read(r, "actor", n, &o.Actor, sourceKeys)
	}),
	mapping.TemplateKey("requested", "the kind of token asked for",
		func(o *OAuth2) **value.Template { return &o.Requested }),
	mapping.TemplateKey("scope", "the scopes, with spaces between",
		func(o *OAuth2) **value.Template { return &o.Scope }),
	mapping.TemplateKey("audience", "whom the token is for", func(o *OAuth2) **value.Template { return &o.Audience }),
	mapping.NewKey("resource", "the service's address, or a list",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Resource = readTemplates(r, n)
		}),
	mapping.NewKey("details", "what access is asked for: a list of mappings, each with its type",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Details = readDetails(r, n)
		}),
	mapping.YesKey("signed request", "true: the request to the authorization page is signed with key:",
		func(o *OAuth2) *bool { return &o.SignedRequest }),
	mapping.YesKey("signed answer", "true: the answer of the authorization page comes signed, and is checked",
		func(o *OAuth2) *bool { return &o.SignedAnswer }),
	mapping.NewKey("extra", "further parameters", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		o.Extra = r.Pairs(n, "extra")
	}),
	mapping.NewKey("proof", "dpop: tokens are bound to a key", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		o.Proof = r.Choice(n, "proof", "dpop") != ""
	}),
	mapping.NewKey("revoke", "revoke: the token is withdrawn at the end",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Revokes = r.Choice(n, "way to revoke", "revoke") != ""
		}),
	mapping.NewKey("send", "where the token goes", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		readSend(r, n, &o.Send)
		r.Together(n, keyTogether)
	}),
})

var sourceKeys = []mapping.Key[TokenSource]{
	mapping.SecretKey("token", "a token, from ${sealed.x}", func(s *TokenSource) **value.Template { return &s.Token }),
	mapping.NewKey("login", "another login, whose token is taken",
		func(r *mapping.Reader, s *TokenSource, n *yamlfile.Node) {
			s.Login = readOtherLogin(r, n)
		}),
	mapping.TemplateKey("kind", "access token, id token, jwt, saml2, or an identifier",
		func(s *TokenSource) **value.Template { return &s.Kind }),
}

var oauth2Together = []mapping.Together{
	{Key: "key password", With: []string{"key", "certificate"}},
	{Key: "key id", With: []string{"key", "certificate", "client secret"}},
	{Key: "certificate as", With: []string{"certificate"}},
	{Key: "actor", With: []string{"subject"}},
	{Key: "claims", Without: []string{"assertion"}},
	{Key: "revoke", With: []string{"revocation", "issuer"}},
	{Key: "client authentication", With: []string{"client"}},
	{Key: "signed request", With: []string{"key"}},
	{Key: "signed answer", With: []string{"keys", "issuer"}},
}

// readDetails reads the parts of what is asked for (RFC 9396, 2): each has a type.
func readDetails(r *mapping.Reader, n *yamlfile.Node) *request.Tree {
	if n.Kind != yamlfile.Sequence || len(n.Items) == 0 {
		r.File.Report(n, "write - type: …", "details must be a list of mappings")
		return nil
	}
	for _, item := range n.Items {
		if item.Kind != yamlfile.Mapping || item.Get("type") == nil {
			r.File.Report(item, "", "each of details must be a mapping with a type (RFC 9396, 2)")
		}
	}
	return r.Tree(n)
}

// oauth2Grants are the keys that belong to some grants alone.
var oauth2Grants = map[string][]string{
	"authorize": {GrantCode}, "redirect": {GrantCode}, "device": {GrantDevice},
	"signed request": {GrantCode}, "signed answer": {GrantCode},
	"user": {GrantPassword, GrantJWTBearer}, "password": {GrantPassword},
	"refresh token": {GrantRefresh},
	"assertion":     {GrantSAMLBearer, GrantJWTBearer}, "claims": {GrantJWTBearer},
	"subject": {GrantTokenExchange}, "actor": {GrantTokenExchange},
	"requested": {GrantTokenExchange},
}
