package workbench

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"testbench/internal/bench"
	"testbench/internal/login"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/vet"
)

// keptTokens keeps the tokens of a site between commands: sealed to the user's
// own identity, beside the bench and not in version control.
type keptTokens struct {
	store *secret.Store
	// basis is what a token was got by: another bench file or other values on the
	// command line make it another token.
	basis string
}

// sealedToken is what is sealed.
type sealedToken struct {
	Basis string
	Token *login.Token
}

// tokensOf gives what keeps tokens; without an identity nothing is kept.
func tokensOf(b *Bench, set map[string]string) func(site string) login.KeptTokens {
	if b.Store == nil || !b.Store.HasIdentity() {
		return nil
	}
	hash := sha256.New()
	if data, err := os.ReadFile(filepath.Join(b.Dir, bench.FileName)); err == nil {
		hash.Write(data)
	}
	for _, name := range slices.Sorted(maps.Keys(set)) {
		hash.Write([]byte(name + "\x00" + set[name] + "\x00"))
	}
	basis := hex.EncodeToString(hash.Sum(nil))
	return func(site string) login.KeptTokens {
		return &keptTokens{basis: basis, store: b.Store.Beside(filepath.Join(b.Dir, ".testbench", "tokens", site))}
	}
}

func (k *keptTokens) Load(name string) *login.Token {
	text, err := k.store.Get("", name)
	if err != nil {
		return nil
	}
	var kept sealedToken
	if json.Unmarshal([]byte(text), &kept) != nil || kept.Basis != k.basis {
		return nil
	}
	return kept.Token
}

// Store does without where it cannot: a token can always be got anew.
func (k *keptTokens) Store(name string, t *login.Token) {
	if data, err := json.Marshal(sealedToken{k.basis, t}); err == nil {
		_, _ = k.store.Set("", name, string(data))
	}
}

func (k *keptTokens) Forget(name string) { _, _ = k.store.Remove("", name) }

// withoutCache passes over the kept token of one login.
func withoutCache(tokens func(string) login.KeptTokens, name string) func(string) login.KeptTokens {
	if tokens == nil {
		return nil
	}
	return func(site string) login.KeptTokens { return &newToken{tokens(site), name} }
}

type newToken struct {
	login.KeptTokens
	name string
}

func (n *newToken) Load(name string) *login.Token {
	if name == n.name {
		return nil
	}
	return n.KeptTokens.Load(name)
}

// Forget deletes the token that is kept of a login for later commands. It says
// whether one was there.
func Forget(ctx context.Context, b *Bench, name string, o Options) (bool, error) {
	o = completeOptions(b, o)
	if b.inner.Login(name) == nil {
		return false, &bench.NotFoundError{What: "login", Name: name, Known: b.inner.LoginNames()}
	}
	if err := vet.CheckArguments(b.inner, arguments(o), nil, nil); err != nil {
		return false, err
	}
	session, err := session.NewSession(b.inner, o)
	if err != nil {
		return false, err
	}
	defer session.Sender.Close()
	name = b.inner.LoginAt(o.Site, name)
	was := o.Tokens != nil && o.Tokens(session.Site.Name).Load(name) != nil
	return was, session.Logins.Forget(name)
}
