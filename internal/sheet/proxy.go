package sheet

import (
	"fmt"
	"net/url"

	"testbench/internal/login"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Proxy is what requests of a site go through, in place of what the environment names.
type Proxy struct {
	Address *value.Template // http://host:port or https://host:port; nil for none
	Login   string          // of kind basic, shown to the proxy alone; empty for none

	at *yamlfile.Node
}

var proxyKeys = []key[Proxy]{
	{"address", "http://host:port", func(r *reader, p *Proxy, n *yamlfile.Node) { p.Address = r.address(n) }},
	{"login", "the login of kind basic that the proxy asks for", func(r *reader, p *Proxy, n *yamlfile.Node) { p.Login = r.plainText(n) }},
}

func (r *reader) proxy(n *yamlfile.Node, p *Proxy) {
	p.at = n
	readMapping(r, "proxy", n, p, proxyKeys)
	if n.Kind == yamlfile.Mapping && n.Get("address") == nil {
		r.file.Report(n, "write address: http://host:port", "the proxy has no address:")
	}
}

// vetProxy says what is wrong with a site's proxy.
func (b *Bench) vetProxy(s *Site) {
	if a := s.Proxy.Address; a != nil && a.IsLiteral() {
		if _, err := proxyAddress(a.LiteralText(), a.LiteralText()); err != nil {
			b.file.Report(s.Proxy.at.Get("address"), "", "%v", err)
		}
	}
	if s.Proxy.Login == "" {
		return
	}
	l := b.Login(s.Proxy.Login)
	if l == nil {
		b.notThere(s.Proxy.at.Get("login"), "login", s.Proxy.Login, b.LoginNames())
	} else if _, ok := l.Kind.(*login.Basic); !ok {
		b.file.Report(s.Proxy.at.Get("login"), "write a login of kind: basic", "a proxy is shown a login of kind basic, and %s is another", l.Name)
	}
}

// proxy is the site's, with its user and password; nil for none.
func (s *Session) proxy() (*url.URL, error) {
	p := s.Site.Proxy
	if p.Address == nil {
		return nil, nil
	}
	text, err := p.Address.Text(s.Scope(nil, nil), value.Address)
	if err != nil {
		return nil, fmt.Errorf("the proxy of the site %s: %w", s.Site.Name, err)
	}
	at, err := proxyAddress(text.Sent, text.Shown)
	if err != nil {
		return nil, fmt.Errorf("the proxy of the site %s: %w", s.Site.Name, err)
	}
	if l := s.Bench.Login(p.Login); l != nil {
		basic, ok := l.Kind.(*login.Basic)
		if !ok {
			return nil, fmt.Errorf("the proxy of the site %s is shown a login of kind basic, and %s is another", s.Site.Name, l.Name)
		}
		user, err := basic.User.Text(s.Scope(nil, nil), value.Raw)
		if err != nil {
			return nil, fmt.Errorf("the login of the proxy: %w", err)
		}
		password, err := basic.Password.Text(s.Scope(nil, nil), value.Raw)
		if err != nil {
			return nil, fmt.Errorf("the login of the proxy: %w", err)
		}
		s.options.Masker.Hide(password.Sent)
		at.User = url.UserPassword(user.Sent, password.Sent)
	}
	return at, nil
}

func proxyAddress(sent, shown string) (*url.URL, error) {
	at, err := url.Parse(sent)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" {
		return nil, fmt.Errorf("%q is not an address like http://127.0.0.1:3128", shown)
	}
	return at, nil
}
