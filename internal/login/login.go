// Package login puts credentials into requests: it gets tokens, keeps each for
// a run, renews it in time, and gives it back at the end. One file a kind. It
// knows nothing of sheets.
package login

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
)

// Kind is one way of getting in.
type Kind interface {
	// Obtain gets what is put into requests. before is the token that is to be
	// renewed, or nil. A failure is an *Error.
	Obtain(ctx context.Context, env *Env, before *Token) (*Token, error)
	// Put adds the token to a request.
	Put(r *exchange.Request, env *Env, t *Token) error
	// Holes lists the placeholders of the definition.
	Holes() []*value.Hole
}

// Verifier is a Kind that can ask the issuer whether a token is still good.
type Verifier interface {
	Verify(ctx context.Context, env *Env, t *Token) (*Standing, error)
}

// Returner is a Kind that gives its token back at the end.
type Returner interface {
	GiveBack(ctx context.Context, env *Env, t *Token) error
}

// Env is what a login works with.
type Env struct {
	Scope  value.Scope
	Client *exchange.Client
	// Observe is told of each exchange that a login makes; it may be nil.
	Observe func(login string, record *exchange.Record)
	// Now is the clock; nil means time.Now.
	Now func() time.Time

	login string // the name of the login at work, for Observe
}

func (e *Env) now() time.Time {
	if e.Now != nil {
		return e.Now()
	}
	return time.Now()
}

// send fills a login call in, sends it and reads the answer.
func (e *Env) send(ctx context.Context, spec *request.Spec) (*reply.Reply, error) {
	r, err := spec.Build(e.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	r.Login = true
	record := e.Client.Do(ctx, r)
	if e.Observe != nil {
		e.Observe(e.login, record)
	}
	if record.Failure != nil {
		return nil, &Error{Message: record.Failure.Message, Record: record, Cause: record.Failure}
	}
	return reply.Read(record), nil
}

// text fills in one setting of a login.
func (e *Env) text(what string, t *value.Template) (string, error) {
	if t == nil {
		return "", nil
	}
	text, err := t.Text(e.Scope, value.Raw)
	if err != nil {
		return "", &Error{Message: what + ": " + err.Error()}
	}
	return text.Sent, nil
}

// Error says why no token could be had.
type Error struct {
	Login   string
	Message string
	Try     string
	Record  *exchange.Record // the exchange that failed; nil when none was made
	Cause   error
}

func (e *Error) Error() string {
	if e.Login != "" {
		return "login " + e.Login + ": " + e.Message
	}
	return e.Message
}
func (e *Error) Unwrap() error { return e.Cause }

// Token is what a login puts into requests. For kinds without a token of
// their own it holds the password or key.
type Token struct {
	Text     string
	Kind     string // Bearer, or what the issuer calls it
	Obtained time.Time
	Expires  time.Time // zero when not known
	Refresh  string
	Scope    []string
	User     string // basic only
	Fixed    bool   // it comes from the bench itself and cannot be renewed
	Spoilt   bool
}

// margin is how long before its end a token is renewed.
func (t *Token) margin() time.Duration {
	return min(30*time.Second, t.Expires.Sub(t.Obtained)/10)
}

// isStale says whether the token should be renewed before it is used.
func (t *Token) isStale(now time.Time) bool {
	return !t.Expires.IsZero() && now.After(t.Expires.Add(-t.margin()))
}

// Standing is what an issuer says of a token.
type Standing struct {
	Good    bool
	Details *document.Node // the issuer's answer; may be nil
	Said    string         // in words
}

// Keeper holds the logins of a run, each with the one token it got. It is safe
// for use by several goroutines: of many that need a token at once, one gets
// it and the others wait.
type Keeper struct {
	env   Env
	kinds map[string]Kind
	slots map[string]*slot
	mutex sync.Mutex
}

type slot struct {
	mutex sync.Mutex
	token *Token
}

// NewKeeper returns a keeper of the logins by name.
func NewKeeper(env Env, kinds map[string]Kind) *Keeper {
	return &Keeper{env: env, kinds: kinds, slots: map[string]*slot{}}
}

func (k *Keeper) slot(name string) (*slot, Kind, *Env, error) {
	kind, ok := k.kinds[name]
	if !ok {
		return nil, nil, nil, &Error{Login: name, Message: "there is no such login"}
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	s, ok := k.slots[name]
	if !ok {
		s = &slot{}
		k.slots[name] = s
	}
	env := k.env
	env.login = name
	return s, kind, &env, nil
}

// Token returns the login's token, and gets or renews it where needed.
func (k *Keeper) Token(ctx context.Context, name string) (*Token, error) {
	s, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.token != nil && !s.token.isStale(env.now()) {
		return s.token, nil
	}
	token, err := kind.Obtain(ctx, env, s.token)
	if err != nil {
		var failure *Error
		if errors.As(err, &failure) && failure.Login == "" {
			failure.Login = name
		}
		return nil, err
	}
	for _, secret := range []string{token.Text, token.Refresh} {
		env.Scope.Hide(secret)
	}
	s.token = token
	return token, nil
}

// ApplyToken puts a given token into a request, in the login's way.
func (k *Keeper) ApplyToken(name string, r *exchange.Request, token *Token) error {
	_, kind, env, err := k.slot(name)
	if err != nil {
		return err
	}
	return kind.Put(r, env, token)
}

// Refused tells the keeper that a service refused the token. It is forgotten,
// unless another has taken its place meanwhile. The result says whether trying
// again makes sense.
func (k *Keeper) Refused(name string, token *Token) bool {
	s, _, _, err := k.slot(name)
	if err != nil || token == nil || token.Fixed || token.Spoilt {
		return false
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.token == token {
		s.token = nil
	}
	return true
}

// Verify asks the issuer about a token.
func (k *Keeper) Verify(ctx context.Context, name string, token *Token) (*Standing, error) {
	_, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	verifier, ok := kind.(Verifier)
	if !ok {
		return nil, &Error{Login: name, Message: "nobody can be asked about a token of this kind of login"}
	}
	return verifier.Verify(ctx, env, token)
}

// Close gives back the tokens whose kind asks for that. It returns the first
// failure.
func (k *Keeper) Close(ctx context.Context) error {
	k.mutex.Lock()
	names := make([]string, 0, len(k.slots))
	for name := range k.slots {
		names = append(names, name)
	}
	k.mutex.Unlock()
	slices.Sort(names)
	var first error
	for _, name := range names {
		s, kind, env, err := k.slot(name)
		if err != nil {
			continue
		}
		s.mutex.Lock()
		token := s.token
		s.token = nil
		s.mutex.Unlock()
		if returner, ok := kind.(Returner); ok && token != nil {
			if err := returner.GiveBack(ctx, env, token); err != nil && first == nil {
				first = err
			}
		}
	}
	return first
}

// Ways lists the ways in which a token can be spoilt.
var Ways = []string{"expired", "tampered", "empty"}

// Spoil makes a bad token from a good one. "expired" works on a JWT alone: its
// exp is put into the past, which also breaks the signature.
func Spoil(token *Token, way string, now time.Time) (*Token, error) {
	spoilt := *token
	spoilt.Spoilt = true
	switch way {
	case "empty":
		spoilt.Text = ""
	case "tampered":
		if token.Text == "" {
			return nil, errors.New("there is nothing in it to tamper with")
		}
		at := len(token.Text) / 2
		if parts := strings.Split(token.Text, "."); len(parts) == 3 && len(parts[2]) > 0 {
			at = len(token.Text) - len(parts[2]) // the signature's first letter
		}
		letter := byte('A')
		if token.Text[at] == letter {
			letter = 'B'
		}
		spoilt.Text = token.Text[:at] + string(letter) + token.Text[at+1:]
	case "expired":
		claims := Claims(token.Text)
		if claims == nil {
			return nil, errors.New("only a JWT can be made to look expired; this token is none: use tampered or empty")
		}
		claims.Set("exp", document.NewNumber(fmt.Sprint(now.Add(-time.Hour).Unix())))
		parts := strings.Split(token.Text, ".")
		parts[1] = base64.RawURLEncoding.EncodeToString([]byte(document.WriteJSON(claims, document.Style{})))
		spoilt.Text = strings.Join(parts, ".")
	default:
		return nil, fmt.Errorf("a token can be spoilt as %s, not as %q", strings.Join(Ways, ", "), way)
	}
	return &spoilt, nil
}

// Claims returns the claims of a token in the form of a JWT (RFC 7519), and
// nil for any other. The signature is not looked at.
func Claims(token string) *document.Node {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return nil
	}
	data, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil
	}
	claims, err := document.ReadJSON(data)
	if err != nil || claims.Kind != document.Object {
		return nil
	}
	return claims
}

// expiry returns the end of a token's life by its own claim (RFC 7519, 4.1.4).
func expiry(token string) time.Time {
	exp, ok := Claims(token).Get("exp").Decimal()
	if !ok {
		return time.Time{}
	}
	seconds, err := exp.Float64()
	if err != nil {
		return time.Time{}
	}
	return time.Unix(int64(seconds), 0)
}
