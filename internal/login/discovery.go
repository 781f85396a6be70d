package login

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"testbench/internal/document"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
)

// discover reads the issuer's metadata: by RFC 8414, section 3.1 (the well-known
// part is before the issuer's path), then by OpenID Connect Discovery 1.0,
// section 4.1 (it comes after it).
func (o *OAuth2) discover(ctx context.Context, env *Env) (*document.Node, error) {
	filled, err := o.Issuer.Text(env.Scope, value.Address)
	if err != nil {
		return nil, &Error{Message: "issuer: " + err.Error()}
	}
	issuer := strings.TrimSuffix(filled.Sent, "/")
	address, err := url.Parse(issuer)
	if err != nil || address.Host == "" {
		return nil, &Error{Message: fmt.Sprintf("issuer: %q is not an address", issuer)}
	}
	if known, ok := env.keeper.metadata.Load(issuer); ok {
		return known.(*document.Node), nil
	}
	origin := address.Scheme + "://" + address.Host
	var last *Error
	for _, at := range []string{
		origin + "/.well-known/oauth-authorization-server" + address.EscapedPath(),
		issuer + "/.well-known/openid-configuration",
	} {
		re, err := fetchJSON(ctx, env, at)
		if err != nil {
			return nil, err
		}
		if re.Record.Answer.Status != 200 || re.Format != document.JSON {
			last = &Error{
				Message: fmt.Sprintf("the issuer's metadata cannot be read: %s answered %d: %s", at,
					re.Record.Answer.Status, answerInWords(re)), Record: re.Record,
				Try: "check issuer:, or name the endpoints in the login (from:, …)",
			}
			continue
		}
		// Section 3.3 of RFC 8414: another issuer's metadata must not be used.
		if said := strings.TrimSuffix(textOf(re.Payload.Get("issuer")), "/"); said != issuer {
			return nil, &Error{
				Message: fmt.Sprintf("the metadata at %s is of another issuer: it says %q, and the login says %q", at,
					said, issuer), Record: re.Record,
				Try: "write issuer: just as the metadata says it, if that is the one you mean",
			}
		}
		env.keeper.metadata.Store(issuer, re.Payload)
		return re.Payload, nil
	}
	return nil, last
}

func fetchJSON(ctx context.Context, env *Env, address string) (*reply.Reply, error) {
	return env.send(ctx, &request.Spec{
		Method: "GET", Address: value.Literal(address),
		Headers: []request.Pair{pair("Accept", "application/json")},
	})
}
