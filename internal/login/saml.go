package login

import (
	"context"
	"fmt"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

// SAML puts a SAML assertion into the header of an envelope (SAML Token
// Profile 1.1).
type SAML struct {
	Assertion *value.Template // XML text or a file, or
	From      string          // a login whose token it is
	Stamp     time.Duration
	Actor     string // whom the Security block is for; empty is the receiver
}

// Place says that it goes into the header of the envelope.
func (s *SAML) Place() Stage { return InHeader }

// Obtain reads the assertion, or has it from another login.
func (s *SAML) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	token := &Token{Kind: "SAML", Obtained: env.now(), Fixed: s.From == ""}
	if s.From != "" {
		from, err := env.other(ctx, s.From)
		if err != nil {
			return nil, err
		}
		token.Text = from.Text
	} else {
		data, err := env.piece("assertion", s.Assertion)
		if err != nil {
			return nil, err
		}
		token.Text = strings.TrimSpace(string(data))
	}
	assertion, err := document.ReadXML([]byte(token.Text), "utf-8")
	if err != nil {
		return nil, &Error{Message: "the assertion is " + err.Error()}
	}
	from, until := wssecurity.AssertionLife(assertion)
	switch now := env.now(); {
	case !until.IsZero() && !now.Before(until) && s.From == "":
		return nil, &Error{
			Message: fmt.Sprintf("the assertion ended %v ago", now.Sub(until).Round(time.Second)),
			Try:     "get a new one and seal it",
		}
	case now.Before(from.Add(-stampLife)):
		return nil, &Error{Message: fmt.Sprintf("the assertion is not good before %v from now",
			from.Sub(now).Round(time.Second))}
	}
	token.Expires = until
	return token, nil
}

// Put adds the assertion to the envelope.
func (s *SAML) Put(r *exchange.Request, env *Env, t *Token) error {
	if t.Spoilt == Empty {
		return nil
	}
	assertion, err := document.ReadXML([]byte(t.Text), "utf-8")
	if err != nil {
		return &Error{Message: "the assertion is " + err.Error()}
	}
	if t.Spoilt == Tampered {
		spoilText(assertion)
	}
	assertion.MarkSecret()
	return protect(r, s.Actor, func(m *wssecurity.Message) error {
		if err := m.AddAssertion(t.Text, assertion); err != nil {
			return err
		}
		if s.Stamp > 0 {
			m.AddTimestamp(env.serverNow(r.URL.Host).Add(t.stampShift()), s.Stamp)
		}
		return nil
	})
}

// spoilText changes a letter of the first text below an element.
func spoilText(n *document.Node) bool {
	for _, item := range n.Items() {
		if item.Kind == document.Untyped && strings.TrimSpace(item.Text) != "" {
			item.Text = tamper(item.Text)
			return true
		}
		if item.Kind == document.Element && spoilText(item) {
			return true
		}
	}
	return false
}

// readsBench says whether the assertion is in the bench.
func (s *SAML) readsBench() bool { return s.From == "" }

// spoils says which ways there are.
func (s *SAML) spoils(way string) bool { return way == Tampered || way == Empty }

// Placeholders lists the placeholders.
func (s *SAML) Placeholders() []*value.Placeholder { return placeholders(s.Assertion) }

func readSAML(r *mapping.Reader, n *yamlfile.Node) Kind {
	s := &SAML{}
	mapping.Read(r, "a saml login", n, s, samlKeys)
	r.Together(n, samlTogether)
	if s.From == "" {
		needSettings(r, n, "assertion", s.Assertion)
	}
	return s
}

var samlKeys = []mapping.Key[SAML]{
	ignoreKind[SAML](),
	mapping.TemplateKey("assertion", "a SAML assertion, 2.0 or 1.1: file or ${sealed.x}",
		func(s *SAML) **value.Template { return &s.Assertion }),
	mapping.NewKey("from", "another login, whose token the assertion is",
		func(r *mapping.Reader, s *SAML, n *yamlfile.Node) {
			s.From = readOtherLogin(r, n)
		}),
	mapping.DurationKey("stamp", "how long the message's time stamp is good; without it there is none",
		func(s *SAML) *time.Duration { return &s.Stamp }),
	actorKey(func(s *SAML) *string { return &s.Actor }),
}

var samlTogether = []mapping.Together{{Key: "from", Without: []string{"assertion"}}}
