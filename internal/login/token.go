package login

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"testbench/internal/document"
)

// Token is what a login puts into requests. For kinds without a token of
// their own it holds the password or key.
type Token struct {
	Text     string
	Kind     string // Bearer, or what the issuer calls it
	Obtained time.Time
	Expires  time.Time // by the clock here; zero when not known
	Refresh  string
	Identity string // an ID token (OpenID Connect Core 1.0, section 2)
	Scope    []string
	User     string
	// Cookies and Headers go with each request beside the token (session).
	Cookies map[string]string `json:",omitempty"`
	Headers map[string]string `json:",omitempty"`
	Nonce   string            `json:",omitempty"` // what the server asked to be repeated
	// Proof is the key that came with a token which is proved by it (WS-Trust 1.3, section 4.4.5).
	Proof []byte `json:",omitempty"`
	// Attached is how a message refers to the token, as XML, where its issuer said so.
	Attached string `json:",omitempty"`
	Fixed    bool   // it comes from the bench itself and cannot be renewed
	Spoilt   string // how it was spoilt on purpose; empty when it was not
	Reused   bool   `json:"-"` // it was kept by an earlier command

	material any // what the kind read for it: keys, a challenge
}

// margin is how long before its end a token is renewed.
func (t *Token) margin() time.Duration {
	return min(30*time.Second, t.Expires.Sub(t.Obtained)/10)
}

// isStale says whether the token should be renewed before it is used.
func (t *Token) isStale(now time.Time) bool {
	return !t.Expires.IsZero() && now.After(t.Expires.Add(-t.margin()))
}

// secrets lists what must never be shown of it.
func (t *Token) secrets() []string {
	all := []string{t.Text, t.Refresh, t.Identity, t.Nonce}
	if t.Proof != nil {
		all = append(all, base64.StdEncoding.EncodeToString(t.Proof))
	}
	for _, m := range []map[string]string{t.Cookies, t.Headers} {
		for _, text := range m {
			all = append(all, text)
		}
	}
	return all
}

// The ways in which a token can be spoilt.
const (
	Expired       = "expired"
	Tampered      = "tampered"
	OtherAudience = "other audience"
	Empty         = "empty"
	MadeUp        = "made up"
)

// Ways lists the ways in which a token can be spoilt.
var Ways = []string{Expired, Tampered, OtherAudience, Empty, MadeUp}

// backdated is how far in the past a stale stamp is.
const backdated = -time.Hour

// stampShift is what is added to time stamps made with the token.
func (t *Token) stampShift() time.Duration {
	if t.Spoilt == Expired {
		return backdated
	}
	return 0
}

// spoilSignature breaks a finished signature where the token is spoilt.
func (t *Token) spoilSignature(signature []byte) []byte {
	switch {
	case t.Spoilt == Empty:
		return nil
	case t.Spoilt == Tampered && len(signature) > 0:
		signature[len(signature)/2] ^= 1
	}
	return signature
}

// Stamped is a Kind whose credentials carry a time stamp or a signature of
// their own: they are spoilt while they are made, not before.
type Stamped interface{ spoils(way string) bool }

// Spoil makes a bad token from a good one of a kind of login. expired and
// other audience work on a JWT (which also breaks its signature) and, expired,
// on what carries a time stamp.
func Spoil(kind Kind, token *Token, way string, now time.Time) (*Token, error) {
	spoilt := *token
	spoilt.Spoilt = way
	if stamped, ok := kind.(Stamped); ok {
		if !stamped.spoils(way) {
			return nil, fmt.Errorf("a login of this kind cannot be spoilt as %s", way)
		}
		return &spoilt, nil
	}
	switch way {
	case Empty:
		spoilt.Text, spoilt.Cookies, spoilt.Headers = "", nil, nil
	case MadeUp:
		spoilt.Text, spoilt.Cookies, spoilt.Headers = rand.Text(), nil, nil
	case Tampered:
		if token.Text == "" {
			return nil, errors.New("there is nothing in it to tamper with")
		}
		spoilt.Text = tamper(token.Text)
	case Expired, OtherAudience:
		claims := Claims(token.Text)
		if claims == nil {
			return nil, fmt.Errorf("only a JWT can be spoilt as %s; this token is none: use tampered or empty", way)
		}
		if way == Expired {
			claims.Set("exp", document.NewNumber(fmt.Sprint(now.Add(backdated).Unix())))
		} else {
			claims.Set("aud", document.NewText("urn:somebody:else"))
		}
		parts := strings.Split(token.Text, ".")
		parts[1] = base64.RawURLEncoding.EncodeToString([]byte(document.WriteJSON(claims, document.Style{})))
		spoilt.Text = strings.Join(parts, ".")
	default:
		return nil, fmt.Errorf("a token can be spoilt as %s, not as %q", strings.Join(Ways, ", "), way)
	}
	return &spoilt, nil
}

// WaysOf lists the ways in which the token of a kind of login can be spoilt, as far as its
// definition tells: whether a token is a JWT is known of OAuth 2.0 and bearers at best.
func WaysOf(kind Kind) []string {
	var ways []string
	for _, way := range Ways {
		stamped, isStamped := kind.(Stamped)
		_, isOAuth := kind.(*OAuth2)
		_, isBearer := kind.(*Bearer)
		switch {
		case isStamped && !stamped.spoils(way):
		case !isStamped && !isOAuth && !isBearer && (way == Expired || way == OtherAudience):
		default:
			ways = append(ways, way)
		}
	}
	return ways
}

// tamper changes one letter: of a JWT the first of its signature.
func tamper(text string) string {
	at := len(text) / 2
	if parts := strings.Split(text, "."); len(parts) == 3 && len(parts[2]) > 0 {
		at = len(text) - len(parts[2])
	}
	letter := byte('A')
	if text[at] == letter {
		letter = 'B'
	}
	return text[:at] + string(letter) + text[at+1:]
}

// Claims returns the claims of a token in the form of a JWT (RFC 7519), and
// nil for any other. The signature is not looked at.
func Claims(token string) *document.Node { return jwtPart(token, 1) }

// JOSEHeader returns the header of a token in the form of a JWT, and nil for any
// other.
func JOSEHeader(token string) *document.Node { return jwtPart(token, 0) }

func jwtPart(token string, index int) *document.Node {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return nil
	}
	data, err := base64.RawURLEncoding.DecodeString(parts[index])
	if err != nil {
		return nil
	}
	node, err := document.ReadJSON(data)
	if err != nil || node.Kind != document.Object {
		return nil
	}
	return node
}

// instant reads a claim that is a NumericDate (RFC 7519, section 2).
func instant(claims *document.Node, name string) time.Time {
	number, ok := claims.Get(name).Decimal()
	if !ok {
		return time.Time{}
	}
	seconds, err := number.Float64()
	if err != nil {
		return time.Time{}
	}
	return time.Unix(int64(seconds), 0)
}

// expiry returns the end of a token's life by its own claim (RFC 7519, 4.1.4).
func expiry(token string) time.Time { return instant(Claims(token), "exp") }
