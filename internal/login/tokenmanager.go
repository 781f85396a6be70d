package login

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/exchange"
)

// TokenManager holds the logins of a run, each with the one token it got. It is safe
// for use by several goroutines: of many that need a token at once, one gets
// it and the others wait.
type TokenManager struct {
	env    Env
	kinds  map[string]Kind
	slots  map[string]*slot
	mutex  sync.Mutex
	clocks clocks
	// metadata are the documents of issuers, by their names.
	metadata sync.Map
}

type slot struct {
	mutex    sync.Mutex
	token    *Token
	failure  error // why the last attempt failed, for those who waited for it
	failedAt time.Time
}

// NewTokenManager returns one for the logins by name.
func NewTokenManager(env Env, kinds map[string]Kind) *TokenManager {
	k := &TokenManager{env: env, kinds: kinds, slots: map[string]*slot{}}
	k.env.keeper = k
	return k
}

func (k *TokenManager) slot(name string) (*slot, Kind, *Env, error) {
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

// asking marks in a context which logins are being obtained, so that a ring of
// logins that need one another is told instead of waited for.
type asking struct{}

// Token returns the login's token, and gets or renews it where needed.
func (k *TokenManager) Token(ctx context.Context, name string) (*Token, error) {
	s, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	chain, _ := ctx.Value(asking{}).([]string)
	if slices.Contains(chain, name) {
		return nil, &Error{
			Login:   name,
			Message: "the logins need one another in a circle: " + strings.Join(append(chain, name), " needs "),
		}
	}
	came := time.Now()
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.failure != nil && s.failedAt.After(came) {
		return nil, s.failure
	}
	if s.token == nil && env.Kept != nil {
		if s.token = env.Kept.Load(name); s.token != nil {
			s.token.Reused = true
			hide(env, s.token)
		}
	}
	if s.token != nil && !s.token.isStale(env.now()) {
		return s.token, nil
	}
	token, err := kind.Obtain(context.WithValue(ctx, asking{}, append(slices.Clone(chain), name)), env, s.token)
	if err != nil {
		err = of(name, err)
		if ctx.Err() == nil {
			s.failure, s.failedAt = err, time.Now()
		}
		return nil, err
	}
	k.take(s, env, name, token)
	return token, nil
}

// take makes a token the login's own.
func (k *TokenManager) take(s *slot, env *Env, name string, token *Token) {
	hide(env, token)
	s.token, s.failure = token, nil
	// Without a known end, a token that is kept would be tried for ever.
	if returner, ok := k.kinds[name].(Revoker); (!ok || !returner.RevokesToken()) && env.Kept != nil && !token.Fixed &&
		token.material == nil && !token.Expires.IsZero() {
		env.Kept.Store(name, token)
	}
}

func hide(env *Env, token *Token) {
	for _, secret := range token.secrets() {
		env.Scope.Hide(secret)
	}
}

// Forget deletes a login's token, here and where it is kept between commands.
func (k *TokenManager) Forget(name string) error {
	s, _, env, err := k.slot(name)
	if err != nil {
		return err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.token = nil
	if env.Kept != nil {
		env.Kept.Forget(name)
	}
	return nil
}

// ApplyToken puts a given token into a request, in the login's way.
func (k *TokenManager) ApplyToken(name string, r *exchange.Request, token *Token) error {
	_, kind, env, err := k.slot(name)
	if err != nil {
		return err
	}
	return of(name, kind.Put(r, env, token))
}

// Refused tells the keeper that a service refused the token. It is forgotten,
// unless another has taken its place meanwhile. The result says whether trying
// again makes sense.
func (k *TokenManager) Refused(name string, token *Token) bool {
	s, _, env, err := k.slot(name)
	if err != nil || token == nil || token.Fixed || token.Spoilt != "" {
		return false
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	// A token that answered a challenge is a copy of the one that was got.
	if s.token != nil && s.token.Text == token.Text && s.token.Obtained.Equal(token.Obtained) {
		s.token = nil
		if env.Kept != nil {
			env.Kept.Forget(name)
		}
	}
	return true
}

// replace puts a token in the place of another that has not changed meanwhile.
func (k *TokenManager) replace(name string, before, token *Token) {
	s, _, env, err := k.slot(name)
	if err != nil {
		return
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.token == before {
		k.take(s, env, name, token)
	}
}

// Spoil makes a bad token of a login from a good one.
func (k *TokenManager) Spoil(name string, token *Token, way string) (*Token, error) {
	_, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	spoilt, err := Spoil(kind, token, way, env.now())
	if err != nil {
		return nil, &Error{Login: name, Message: err.Error()}
	}
	hide(env, spoilt)
	return spoilt, nil
}

// Verify asks the issuer about a token.
func (k *TokenManager) Verify(ctx context.Context, name string, token *Token) (*Introspection, error) {
	_, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	verifier, ok := kind.(Verifier)
	if !ok {
		return nil, &Error{
			Login: name, Message: "nobody can be asked about a token of this kind of login",
			Try: "see it let in, and spoilt refused, on a call: testbench call SERVICE/OPERATION -login " + name +
				" -spoil tampered",
		}
	}
	standing, err := verifier.Verify(ctx, env, token)
	return standing, of(name, err)
}

// Close gives back the tokens whose kind asks for that. It returns what failed.
func (k *TokenManager) Close(ctx context.Context) error {
	k.mutex.Lock()
	names := make([]string, 0, len(k.slots))
	for name := range k.slots {
		names = append(names, name)
	}
	k.mutex.Unlock()
	slices.Sort(names)
	var errs []error
	for _, name := range names {
		s, kind, env, err := k.slot(name)
		if err != nil {
			continue
		}
		s.mutex.Lock()
		token := s.token
		s.token = nil
		s.mutex.Unlock()
		if returner, ok := kind.(Revoker); ok && token != nil && returner.RevokesToken() {
			errs = append(errs, of(name, returner.Revoke(ctx, env, token)))
		}
	}
	return errors.Join(errs...)
}
