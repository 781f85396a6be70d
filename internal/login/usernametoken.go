package login

import (
	"context"
	"crypto/rand"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

// UsernameToken names user and password in the header of an envelope
// (WS-Security UsernameToken Profile 1.1).
type UsernameToken struct {
	User, Password *value.Template
	Digest         bool
	Nonce          bool          // also with a password in plain
	Stamp          time.Duration // life of a time stamp of the message; 0 for none
	Actor          string        // whom the Security block is for; empty is the receiver
}

// Place says that it goes into the header of the envelope.
func (u *UsernameToken) Place() Stage { return InHeader }

// Obtain fills user and password in.
func (u *UsernameToken) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	return env.credentials("username token", u.User, u.Password)
}

// Put adds the token to the envelope.
func (u *UsernameToken) Put(r *exchange.Request, env *Env, t *Token) error {
	return protect(r, u.Actor, func(m *wssecurity.Message) error {
		now := env.serverNow(r.URL.Host).Add(t.stampShift())
		token := wssecurity.UsernameToken{User: t.User, Password: t.Text, Digest: u.Digest}
		switch t.Spoilt {
		case Tampered:
			token.Password = tamper(t.Text)
		case Empty:
			token.Password = ""
		}
		if u.Digest || u.Nonce {
			token.Nonce = make([]byte, 16)
			if _, err := rand.Read(token.Nonce); err != nil {
				return err
			}
			token.Created = now
		}
		m.AddUsernameToken(token)
		if u.Stamp > 0 {
			m.AddTimestamp(now, u.Stamp)
		}
		return nil
	})
}

func (u *UsernameToken) readsBench() bool { return true }

// spoils says which ways there are.
func (u *UsernameToken) spoils(way string) bool {
	return way == Tampered || way == Empty || way == Expired && (u.Digest || u.Nonce || u.Stamp > 0)
}

// Placeholders lists the placeholders.
func (u *UsernameToken) Placeholders() []*value.Placeholder { return placeholders(u.User, u.Password) }

func readUsernameToken(r *mapping.Reader, n *yamlfile.Node) Kind {
	u := &UsernameToken{}
	mapping.Read(r, "a username token login", n, u, usernameTokenKeys)
	if u.Digest {
		r.Together(n, []mapping.Together{{Key: "nonce", Without: []string{"digest"}}}) // a digest has one anyway
	}
	needSettings(r, n, "user", u.User, "password", u.Password)
	return u
}

var usernameTokenKeys = []mapping.Key[UsernameToken]{
	ignoreKind[UsernameToken](),
	mapping.TemplateKey("user", "user name", func(u *UsernameToken) **value.Template { return &u.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}",
		func(u *UsernameToken) **value.Template { return &u.Password }),
	mapping.YesKey("digest", "true: the password is sent as a digest",
		func(u *UsernameToken) *bool { return &u.Digest }),
	mapping.YesKey("nonce", "true: with nonce and created beside a password in plain",
		func(u *UsernameToken) *bool { return &u.Nonce }),
	mapping.DurationKey("stamp", "how long the message's time stamp is good; without it there is none",
		func(u *UsernameToken) *time.Duration { return &u.Stamp }),
	actorKey(func(u *UsernameToken) *string { return &u.Actor }),
}
