package login

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/value"
)

// LoginCall gets a token from any login call: a request of any shape, with the token
// anywhere in the reply.
type LoginCall struct {
	Request   *request.Spec
	TokenPath *path.Path
	// ExpiresPath leads to the token's life: a number of ExpiresUnit, or the instant
	// of its end where ExpiresUnit is 0. It may be nil.
	ExpiresPath *path.Path
	ExpiresUnit time.Duration
	ExpiresIn   time.Duration // a life that is known beforehand; 0 when it is not
	Send        Send
	StillGood   *request.Spec
	Revocation  *request.Spec
	With        string // another login that goes with the login call
}

// Obtain makes the login call.
func (d *LoginCall) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	asked, err := d.Request.Build(env.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	if err := env.with(ctx, d.With, asked); err != nil {
		return nil, err
	}
	r, err := env.do(ctx, asked)
	if err != nil {
		return nil, err
	}
	if status := r.Record.Answer.Status; status < 200 || status > 299 {
		return nil, &Error{
			Message: fmt.Sprintf("the login call was answered with %d: %s", status, answerInWords(r)), Record: r.Record,
			Try: "check user and password, and where the service wants them (headers, form, JSON, Basic)",
		}
	}
	roots := r.Roots(nil)
	found, err := d.TokenPath.Find(roots, env.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	node := found.First()
	if node == nil || !node.Value().IsScalar() || strings.TrimSpace(node.Value().Text) == "" {
		why := "it is " + node.Describe()
		if miss := found.Missed(); miss != nil {
			why = miss.String()
		}
		return nil, &Error{
			Message: fmt.Sprintf("there is no token at %s: %s", d.TokenPath.Source, why), Record: r.Record,
			Try: "see with `testbench call` what the login call answers, and correct token path:",
		}
	}
	text := strings.TrimSpace(node.Value().Text)
	token := &Token{Text: text, Kind: d.Send.Scheme, Obtained: env.now()}
	if end := expiry(text); !end.IsZero() {
		token.Expires = end.Add(-Skew(r.Record)) // the claim follows the server's clock
	}
	if d.ExpiresIn > 0 {
		token.Expires = token.Obtained.Add(d.ExpiresIn)
	}
	if d.ExpiresPath != nil {
		found, err := d.ExpiresPath.Find(roots, env.Scope)
		if err != nil {
			return nil, &Error{Message: err.Error()}
		}
		if token.Expires, err = d.end(found, token.Obtained); err != nil {
			return nil, &Error{Message: err.Error(), Record: r.Record}
		}
	}
	return token, nil
}

func (d *LoginCall) end(found path.Selection, now time.Time) (time.Time, error) {
	node := found.First()
	if node == nil {
		return time.Time{}, fmt.Errorf("expires in: %s", found.Missed())
	}
	if d.ExpiresUnit == 0 {
		moment, _, err := value.Moment(node.Value().Text)
		if err != nil {
			return time.Time{}, fmt.Errorf(
				"expires in: %w; with a unit after the path (s, min, h) it is read as a duration", err)
		}
		return moment, nil
	}
	amount, ok := node.Decimal()
	if !ok {
		return time.Time{}, fmt.Errorf("expires in: %s is %s, not a number", d.ExpiresPath.Source, node.Describe())
	}
	count, err := amount.Float64()
	return now.Add(time.Duration(count * float64(d.ExpiresUnit))), err
}

// Put sends the token as the services want it.
func (d *LoginCall) Put(r *exchange.Request, _ *Env, t *Token) error { return d.Send.put(r, t) }

// Verify makes the call that says whether a token is still valid.
func (d *LoginCall) Verify(ctx context.Context, env *Env, t *Token) (*Introspection, error) {
	if d.StillGood == nil {
		return nil, &Error{
			Message: "the login names no call that verifies a token",
			Try:     "add still good: GET ADDRESS to the login",
		}
	}
	status, details, err := d.with(ctx, env, d.StillGood, t)
	if err != nil {
		return nil, err
	}
	standing := &Introspection{Good: status >= 200 && status <= 299, Details: details}
	standing.Said = fmt.Sprintf("the service answered %d: the token is good", status)
	if !standing.Good {
		standing.Said = fmt.Sprintf("the service answered %d: the token is not good", status)
	}
	return standing, nil
}

// RevokesToken says whether a call ends a token's life.
func (d *LoginCall) RevokesToken() bool { return d.Revocation != nil }

// Revoke makes the call that ends a token's life.
func (d *LoginCall) Revoke(ctx context.Context, env *Env, t *Token) error {
	status, _, err := d.with(ctx, env, d.Revocation, t)
	if err == nil && status >= 400 {
		err = &Error{Message: fmt.Sprintf("giving the token back was answered with %d", status)}
	}
	return err
}

// with sends a call that carries the token.
func (d *LoginCall) with(ctx context.Context, env *Env, spec *request.Spec, t *Token) (int, *document.Node, error) {
	r, err := spec.Build(env.Scope)
	if err != nil {
		return 0, nil, &Error{Message: err.Error()}
	}
	if err := d.Send.put(r, t); err != nil {
		return 0, nil, err
	}
	re, err := env.do(ctx, r)
	if err != nil {
		return 0, nil, err
	}
	record := re.Record
	node, _, err := document.Read(record.Answer.ContentType(), record.Answer.Body)
	if err != nil || len(record.Answer.Body) == 0 {
		node = nil
	}
	return record.Answer.Status, node, nil
}

// Placeholders lists the placeholders.
func (d *LoginCall) Placeholders() []*value.Placeholder {
	return placeholdersOf(d.specs())
}

func (d *LoginCall) specs() []*request.Spec {
	specs := []*request.Spec{d.Request}
	for _, spec := range []*request.Spec{d.StillGood, d.Revocation} {
		if spec != nil {
			specs = append(specs, spec)
		}
	}
	return specs
}

// Addresses are where the login itself sends requests.
func (d *LoginCall) Addresses() []*value.Template { return addressesOf(d.specs()) }

func queryEscape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }
