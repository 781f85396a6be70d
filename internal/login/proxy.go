package login

import (
	"context"
	"net/http"
	"net/url"
	"slices"

	"testbench/internal/exchange"
)

// AtProxies are the kinds of logins that a proxy can be shown.
var AtProxies = []string{"basic", "digest", "ntlm", "kerberos"}

// GoesToProxy says whether a login can be shown to a proxy.
func GoesToProxy(kind Kind) bool {
	switch kind.(type) {
	case *Basic, *Digest, *NTLM, *Kerberos:
		return true
	}
	return false
}

// proxyTalk says to a proxy what a login says to a service: under the names that a proxy has for the fields
// (RFC 9110, section 11.7).
type proxyTalk struct {
	manager *TokenManager
	name    string
	kind    Kind
	env     *Env
	token   *Token
	host    string // of the proxy, with its port
}

// AtProxy begins a talk with the proxy at a host and port by a login.
func (k *TokenManager) AtProxy(ctx context.Context, name, host string) (exchange.ProxyTalk, error) {
	token, err := k.Token(ctx, name)
	if err != nil {
		return nil, err
	}
	_, kind, env, err := k.slot(name)
	if err != nil {
		return nil, err
	}
	return &proxyTalk{manager: k, name: name, kind: kind, env: env, token: token, host: host}, nil
}

func (p *proxyTalk) IsOfConnection() bool {
	_, is := p.kind.(connected)
	return is
}

// Field is what the login would put into Authorization of a request whose line has the target.
func (p *proxyTalk) Field(method, target string, body []byte) (string, error) {
	r := &exchange.Request{Method: method, URL: &url.URL{Opaque: target, Host: p.host}, Body: body}
	if err := p.kind.Put(r, p.env, p.token); err != nil {
		return "", of(p.name, err)
	}
	field := r.GetHeader("Authorization")
	p.env.Scope.Hide(field)
	return field, nil
}

// Refused lets the login look at what the proxy asks for.
func (p *proxyTalk) Refused(header http.Header) (again bool, err error) {
	kind, ok := p.kind.(Challenged)
	if !ok {
		return false, nil
	}
	asked := &exchange.Answer{Status: http.StatusUnauthorized, Header: http.Header{
		"Www-Authenticate": slices.Clone(header.Values("Proxy-Authenticate")),
	}}
	next, again, keep, err := kind.Challenged(asked, p.env, p.token)
	if err != nil || next == nil {
		return false, of(p.name, err)
	}
	hide(p.env, next)
	if keep {
		p.manager.replace(p.name, p.token, next)
	}
	p.token = next
	return again, nil
}
