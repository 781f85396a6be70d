package session

import (
	"context"
	"fmt"
	"net/url"

	"testbench/internal/bench"
	"testbench/internal/exchange"
	"testbench/internal/value"
)

// proxyOf is the site's; nil for none.
func proxyOf(s *Session) (*url.URL, error) {
	p := s.Site.Proxy
	if p.Address == nil {
		return nil, nil
	}
	text, err := p.Address.Text(s.Scope(nil, nil), value.Address)
	if err != nil {
		return nil, fmt.Errorf("the proxy of the site %s: %w", s.Site.Name, err)
	}
	at, err := bench.ProxyAddress(text.Sent, text.Shown)
	if err != nil {
		return nil, fmt.Errorf("the proxy of the site %s: %w", s.Site.Name, err)
	}
	return at, nil
}

// proxyLogin gets in at the site's proxy by a login of the bench, whose manager there is later than the client.
type proxyLogin struct{ session *Session }

func (p proxyLogin) Talk(ctx context.Context, proxy *url.URL) (exchange.ProxyTalk, error) {
	return p.session.Logins.AtProxy(ctx, p.session.Site.Proxy.Login, proxy.Host)
}
