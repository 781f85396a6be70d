package login

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
)

// Grants lists the grants of OAuth 2.0 that can be asked for.
var Grants = []string{"client credentials", "password"}

// OAuth2 gets a token from a token endpoint (RFC 6749), by client credentials
// (section 4.4) or by user and password (4.3), and renews it by a refresh
// token where it was given one (section 6).
type OAuth2 struct {
	Grant         string
	From          *value.Template // the token endpoint
	Client        *value.Template
	ClientSecret  *value.Template
	ClientIn      string // "basic" or "form": where the client's credentials stand
	User          *value.Template
	Password      *value.Template
	Scope         *value.Template
	Extra         []request.Pair  // further parameters of the token request
	Introspection *value.Template // RFC 7662
	Send          Send
}

// Obtain asks the token endpoint.
func (o *OAuth2) Obtain(ctx context.Context, env *Env, before *Token) (*Token, error) {
	if before != nil && before.Refresh != "" {
		token, err := o.ask(ctx, env, []request.Pair{pair("grant_type", "refresh_token"), pair("refresh_token", before.Refresh)})
		if err == nil {
			if token.Refresh == "" {
				token.Refresh = before.Refresh
			}
			return token, nil
		}
		// A refresh token that is refused (section 5.2) is given up for a new start.
	}
	form := []request.Pair{pair("grant_type", strings.ReplaceAll(o.Grant, " ", "_"))}
	if o.Grant == "password" {
		form = append(form, request.Pair{Name: "username", Value: request.Text(o.User, true)}, request.Pair{Name: "password", Value: request.Text(o.Password, true)})
	}
	if o.Scope != nil {
		form = append(form, request.Pair{Name: "scope", Value: request.Text(o.Scope, true)})
	}
	return o.ask(ctx, env, append(form, o.Extra...))
}

func pair(name, text string) request.Pair {
	return request.Pair{Name: name, Value: request.Text(value.Literal(text), true)}
}

// clientRequest builds a request in which the client identifies itself
// (section 2.3.1: form-encoded before it goes into Basic).
func (o *OAuth2) clientRequest(env *Env, address *value.Template, form []request.Pair) (*request.Spec, error) {
	spec := &request.Spec{Method: "POST", Address: address, Form: form}
	spec.Headers = []request.Pair{pair("Accept", "application/json")}
	client, err := env.text("client", o.Client)
	if err != nil {
		return nil, err
	}
	secret, err := env.text("client secret", o.ClientSecret)
	if err != nil {
		return nil, err
	}
	switch {
	case client == "":
	case o.ClientSecret == nil:
		spec.Form = append(spec.Form, pair("client_id", client))
	case o.ClientIn == "form":
		spec.Form = append(spec.Form, pair("client_id", client), request.Pair{Name: "client_secret", Value: request.Text(o.ClientSecret, true)})
	default:
		credentials := basicCredentials(url.QueryEscape(client), url.QueryEscape(secret))
		env.Scope.Hide(credentials)
		spec.Headers = append(spec.Headers, pair("Authorization", "Basic "+credentials))
	}
	return spec, nil
}

func (o *OAuth2) ask(ctx context.Context, env *Env, form []request.Pair) (*Token, error) {
	spec, err := o.clientRequest(env, o.From, form)
	if err != nil {
		return nil, err
	}
	r, err := env.send(ctx, spec)
	if err != nil {
		return nil, err
	}
	if r.Format != document.JSON && document.Guess(r.Record.Answer.Body) == document.JSON {
		// Some endpoints call their JSON text; there is nothing else it could be.
		if node, err := document.ReadJSON(r.Record.Answer.Body); err == nil {
			r.Format, r.Payload = document.JSON, node
		}
	}
	if r.Record.Answer.Status != 200 {
		return nil, refusal(r)
	}
	text := r.Payload.Get("access_token")
	if r.Format != document.JSON || text == nil || text.Text == "" {
		return nil, &Error{Message: fmt.Sprintf("the token endpoint answered 200 without an access_token (%s)", answerInWords(r)), Record: r.Record,
			Try: "is from: the token endpoint? It should answer in JSON (RFC 6749, section 5.1)"}
	}
	now := env.now()
	token := &Token{Text: text.Text, Obtained: now, Kind: textOf(r.Payload.Get("token_type")), Refresh: textOf(r.Payload.Get("refresh_token")),
		Scope: strings.Fields(textOf(r.Payload.Get("scope"))), Expires: expiry(text.Text)}
	if life, ok := r.Payload.Get("expires_in").Decimal(); ok {
		if seconds, err := life.Float64(); err == nil {
			token.Expires = now.Add(time.Duration(seconds * float64(time.Second)))
		}
	}
	return token, nil
}

// refusal puts an error answer of RFC 6749, section 5.2, into words.
func refusal(r *reply.Reply) *Error {
	status := r.Record.Answer.Status
	e := &Error{Record: r.Record}
	code := textOf(r.Payload.Get("error"))
	if code == "" {
		e.Message = fmt.Sprintf("the token endpoint answered %d: %s", status, answerInWords(r))
		return e
	}
	e.Message = fmt.Sprintf("the token endpoint refused with %d %s", status, code)
	if description := textOf(r.Payload.Get("error_description")); description != "" {
		e.Message += ": " + description
	}
	e.Try = map[string]string{
		"invalid_client":         "the client or its secret is wrong, or the endpoint wants them in the form: client in: form",
		"invalid_grant":          "the user, the password or the refresh token is wrong or no longer good",
		"invalid_scope":          "the scope is unknown, or more than this client may have",
		"unauthorized_client":    "this client may not use this grant",
		"unsupported_grant_type": "the endpoint does not know this grant",
		"invalid_request":        "a parameter is missing or stands twice",
	}[code]
	return e
}

// answerInWords says shortly what an answer was.
func answerInWords(r *reply.Reply) string {
	a := r.Record.Answer
	switch {
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

// Put sets the Authorization field, or what Send says.
func (o *OAuth2) Put(r *exchange.Request, _ *Env, t *Token) error {
	send := o.Send
	if send == (Send{}) {
		send = Send{Header: "Authorization", Word: "Bearer"}
	}
	return send.put(r, t)
}

// Verify asks the introspection endpoint (RFC 7662, section 2).
func (o *OAuth2) Verify(ctx context.Context, env *Env, t *Token) (*Standing, error) {
	if o.Introspection == nil {
		return nil, &Error{Message: "the login names no introspection endpoint", Try: "add introspection: ADDRESS to the login"}
	}
	env.Scope.Hide(t.Text)
	spec, err := o.clientRequest(env, o.Introspection, []request.Pair{pair("token", t.Text), pair("token_type_hint", "access_token")})
	if err != nil {
		return nil, err
	}
	r, err := env.send(ctx, spec)
	if err != nil {
		return nil, err
	}
	active := r.Payload.Get("active")
	if r.Record.Answer.Status != 200 || active == nil {
		return nil, refusal(r)
	}
	standing := &Standing{Good: active.Text == "true", Details: r.Payload, Said: "the issuer says the token is good"}
	if !standing.Good {
		standing.Said = "the issuer says the token is not good (expired, withdrawn or unknown)"
	}
	return standing, nil
}

// Holes lists the placeholders.
func (o *OAuth2) Holes() []*value.Hole {
	all := holes(o.From, o.Client, o.ClientSecret, o.User, o.Password, o.Scope, o.Introspection)
	for _, p := range o.Extra {
		all = append(all, p.Value.Holes()...)
	}
	return all
}
