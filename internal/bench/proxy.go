package bench

import (
	"fmt"
	"net/url"
	"strings"

	"testbench/internal/login"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Proxy is what requests of a site go through, in place of what the environment names.
type Proxy struct {
	Address *value.Template // http://host:port or https://host:port; nil for none
	Login   string          // shown to the proxy alone; empty for none

	at *yamlfile.Node
}

var proxyKeys = []mapping.Key[Proxy]{
	mapping.AddressKey("address", "http://host:port", func(p *Proxy) **value.Template { return &p.Address }),
	mapping.TextKey("login", "the login that the proxy asks for, of kind "+strings.Join(login.AtProxies, ", "),
		func(p *Proxy) *string { return &p.Login }),
}

func readProxy(r *mapping.Reader, n *yamlfile.Node, p *Proxy) {
	p.at = n
	mapping.Read(r, "proxy", n, p, proxyKeys)
	r.Needs(n, "address")
	if n.Kind == yamlfile.Mapping && n.Get("address") == nil {
		r.File.Report(n, "write address: http://host:port", "the proxy has no address:")
	}
}

// vetProxy says what is wrong with a site's proxy.
func vetProxy(b *Bench, s *Site) {
	if a := s.Proxy.Address; a != nil && a.IsLiteral() {
		if _, err := ProxyAddress(a.LiteralText(), a.LiteralText()); err != nil {
			b.Source.Report(s.Proxy.at.Get("address"), "", "%v", err)
		}
	}
	if s.Proxy.Login == "" {
		return
	}
	l := b.Login(s.Proxy.Login)
	if l == nil {
		notThereIn(b, s.Proxy.at.Get("login"), "login", s.Proxy.Login, b.LoginNames())
	} else if l.Kind != nil && !login.GoesToProxy(l.Kind) {
		b.Source.Report(s.Proxy.at.Get("login"),
			"write a login of one of these kinds: "+strings.Join(login.AtProxies, ", "),
			"a login of the kind of %s cannot be shown to a proxy", l.Name)
	}
}

// ProxyAddress reads what proxy: address: came to; shown is in errors.
func ProxyAddress(sent, shown string) (*url.URL, error) {
	at, err := url.Parse(sent)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" {
		return nil, fmt.Errorf("%q is not an address like http://127.0.0.1:3128", shown)
	}
	return at, nil
}
