package session

import (
	"fmt"
	"net/url"

	"testbench/internal/bench"
	"testbench/internal/login"
	"testbench/internal/value"
)

// proxyOf is the site's, with its user and password; nil for none.
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
	if l := s.Bench.Login(p.Login); l != nil {
		basic, ok := l.Kind.(*login.Basic)
		if !ok {
			return nil, fmt.Errorf("the proxy of the site %s is shown a login of kind basic, and %s is another",
				s.Site.Name, l.Name)
		}
		user, err := basic.User.Text(s.Scope(nil, nil), value.Raw)
		if err != nil {
			return nil, fmt.Errorf("the login of the proxy: %w", err)
		}
		password, err := basic.Password.Text(s.Scope(nil, nil), value.Raw)
		if err != nil {
			return nil, fmt.Errorf("the login of the proxy: %w", err)
		}
		s.Options.Masker.Hide(password.Sent)
		at.User = url.UserPassword(user.Sent, password.Sent)
	}
	return at, nil
}
