// Package probe makes wrong requests out of a good one, one change at a time, by what the
// contract says of it, and judges how a service takes each. It sends nothing, and puts no
// credentials in: it only says which.
package probe

import (
	"math/rand/v2"
	"slices"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// Kind is a kind of change.
type Kind string

// The kinds, in the order in which they are tried.
const (
	Credentials Kind = "credentials" // none, made up, tampered with, expired
	Method      Kind = "method"      // another method
	Content     Kind = "content"     // the content type
	Envelope    Kind = "envelope"    // the message as a whole: not well-formed, empty, another version, another action
	Version     Kind = "version"     // of what is changed: If-Match
	Missing     Kind = "missing"     // a mandatory field left out
	Typed       Kind = "type"        // a value of another type
	Limits      Kind = "limits"      // a value just beyond what its facets allow
	Null        Kind = "null"        // null where it is not allowed
	Doubled     Kind = "doubled"     // a field that is there twice
	Lists       Kind = "list"        // too few items, or too many
	Unknown     Kind = "unknown"     // a field that there is not
	Texts       Kind = "text"        // quotes, markup, zero bytes, other scripts, very long
	Identity    Kind = "identity"    // the id of nobody
)

// Kinds lists the kinds.
var Kinds = []Kind{
	Credentials, Method, Content, Envelope, Version, Missing, Typed, Limits, Null, Doubled, Lists,
	Unknown, Texts, Identity,
}

// Target is what is probed.
type Target struct {
	// Request is good, and carries no credentials yet.
	Request *exchange.Request
	SOAP    soap.Version // "" for none
	// BothVersions says that the contract has the other version of SOAP, too.
	BothVersions bool
	// Operation is what is known of it where it is not SOAP; nil for nothing.
	Operation *contract.Endpoint
	// Payload is the element in the envelope; nil where nothing is known of it.
	Payload *schema.Shape
	// Hold says what of a request breaks the contract; nil where nobody knows.
	Hold func(*exchange.Request) []string
	// Rebuild makes the request with another value of a field of the body, without it where that is nil, where a
	// template makes the body of Fields; nil where fields are changed in the body itself. It may give nil.
	Rebuild func(field string, v *document.Node) *exchange.Request
	Fields  *document.Node
	// Methods are those that the contract has for the address beside the request's own.
	Methods []string
	// Logins are the logins that go with the request.
	Logins []Login
	// Writes says that the request creates or changes something.
	Writes bool
	// Only are the kinds that are asked for; empty for all.
	Only []Kind
	// Seed decides what is made up: the same seed makes the same requests.
	Seed uint64
}

// Login is a login that goes with a request.
type Login struct {
	Name string
	Ways []string // in which it can be spoilt; see login.WaysOf
	// Protects says that it signs or encrypts the message, which must be whole for that.
	Protects bool
}

// LoginChange is what becomes of the credentials.
type LoginChange struct {
	None  bool
	Login string
	Way   string // see login.Ways
}

// Case is one wrong request.
type Case struct {
	Kind    Kind
	Field   string // the path of the field that was changed; empty for none
	Changed string // what was changed, in words
	Request *exchange.Request
	Login   *LoginChange // nil: the credentials as they are
	// Breaks is what of it breaks the contract.
	Breaks []string
	// Allowed says that it may be taken: the contract allows it, or the standard leaves
	// it to the service.
	Allowed bool
	// Writes says that it could create or change something if it were taken.
	Writes bool
	// Clear are the statuses that refuse it clearly without more words.
	Clear []int
	// Versioned says that it carries the version of what it changes, or leaves it out on
	// purpose.
	Versioned bool

	name string // of the field, as it may be named
}

// mostCases bounds what is made of one request.
const mostCases = 3000

// Cases makes the wrong requests.
func (t *Target) Cases() []*Case {
	m := &maker{Target: t, random: rand.New(rand.NewPCG(t.Seed, 0x70726f6265))}
	m.credentials()
	m.methods()
	m.contentTypes()
	m.messages()
	m.versions()
	m.fields()
	slices.SortStableFunc(m.cases, func(a, b *Case) int {
		return slices.Index(Kinds, a.Kind) - slices.Index(Kinds, b.Kind)
	})
	return m.cases
}

// maker gathers cases.
type maker struct {
	*Target
	random *rand.Rand
	cases  []*Case
}

// shown is how a changed body is shown: not at all where the good one holds a secret that
// is too short to be found.
func (m *maker) shown() string {
	if m.Request.ShownBody != "" {
		return value.Mask
	}
	return ""
}

func (m *maker) wants(kind Kind) bool { return len(m.Only) == 0 || slices.Contains(m.Only, kind) }

// add adds a case; one without a request of its own sends the good one.
func (m *maker) add(c *Case) *Case {
	if c.Request == nil {
		c.Request = m.Request.Clone()
	}
	c.Writes = c.Writes || m.Writes
	if m.wants(c.Kind) && len(m.cases) < mostCases {
		m.cases = append(m.cases, c)
	}
	return c
}

// words are the ways to spoil a login, as they are told.
var wayWords = map[string]string{
	login.MadeUp: "with credentials that are made up", login.Tampered: "with a token that was tampered with",
	login.Expired:       "with a token that has expired",
	login.OtherAudience: "with a token for somebody else", login.Empty: "with an empty token",
}

func (m *maker) credentials() {
	if len(m.Logins) == 0 {
		return
	}
	refused := []int{401, 403} // RFC 9110, 15.5.2 and 15.5.4
	m.add(&Case{Kind: Credentials, Changed: "without credentials", Login: &LoginChange{None: true}, Clear: refused})
	for _, l := range m.Logins {
		for _, way := range []string{login.MadeUp, login.Tampered, login.Expired, login.OtherAudience, login.Empty} {
			if !slices.Contains(l.Ways, way) {
				continue
			}
			changed := wayWords[way]
			if len(m.Logins) > 1 {
				changed += ", " + l.Name
			}
			m.add(&Case{
				Kind: Credentials, Changed: changed, Login: &LoginChange{Login: l.Name, Way: way},
				Clear: refused,
			})
		}
	}
}

// unprotected leaves logins out that need a whole message.
func (m *maker) unprotected() *LoginChange {
	if slices.ContainsFunc(m.Logins, func(l Login) bool { return l.Protects }) {
		return &LoginChange{None: true}
	}
	return nil
}
