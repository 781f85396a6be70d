package login

import (
	"context"
	"crypto/tls"
	"fmt"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Certificate proves who one is by a client certificate (mutual TLS).
type Certificate struct {
	Material
}

// Obtain reads certificate and key.
func (c *Certificate) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	pair, err := c.Material.identity(env)
	if err != nil {
		return nil, err
	}
	leaf := pair.Leaf()
	if now := env.now(); now.After(leaf.NotAfter) || now.Before(leaf.NotBefore) {
		return nil, &Error{Message: fmt.Sprintf("the certificate of %s is good from %s to %s only", leaf.Subject,
			leaf.NotBefore.Format("2006-01-02"), leaf.NotAfter.Format("2006-01-02"))}
	}
	certificate := pair.TLS()
	return &Token{
		Kind: "certificate", User: leaf.Subject.String(), Obtained: env.now(), Expires: leaf.NotAfter,
		Fixed: true, material: &certificate,
	}, nil
}

// Put makes the connection show the certificate.
func (c *Certificate) Put(r *exchange.Request, _ *Env, t *Token) error {
	if t.Spoilt == "" {
		r.Certificate, _ = t.material.(*tls.Certificate)
	}
	return nil
}

func (c *Certificate) readsBench() bool { return true }

// spoils says which ways there are: it can be left out.
func (c *Certificate) spoils(way string) bool { return way == Empty }

// Placeholders lists the placeholders.
func (c *Certificate) Placeholders() []*value.Placeholder { return c.Material.placeholders() }

func readCertificate(r *mapping.Reader, n *yamlfile.Node) Kind {
	c := &Certificate{}
	mapping.Read(r, "a certificate login", n, &c.Material, append(materialKeys, ignoreKind[Material]()))
	needSettings(r, n, "certificate", c.Certificate)
	return c
}

// materialKeys name a certificate and its key.
var materialKeys = []mapping.Key[Material]{
	mapping.TemplateKey("certificate", "file (PEM, PKCS#12) or ${sealed.x} with PEM text",
		func(m *Material) **value.Template { return &m.Certificate }),
	mapping.TemplateKey("key", "its private key: file or ${sealed.x}; left out where it is beside the certificate",
		func(m *Material) **value.Template { return &m.Key }),
	mapping.SecretKey("password", "password of the key, from ${sealed.x}",
		func(m *Material) **value.Template { return &m.Password }),
}
