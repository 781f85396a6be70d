package login

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/spnego"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Kerberos gets service tickets from a realm and sends them by SPNEGO (RFC 4559).
type Kerberos struct {
	User, Realm *value.Template
	// One of these proves who the user is: the password, a file of keys, or a file
	// of tickets that kinit has got.
	Password, KeyTab, Tickets *value.Template
	Config                    *value.Template // a krb5.conf; empty: the machine's own, or KDC
	KDC                       *value.Template // host and port of the realm's key distribution centre
	Service                   *value.Template // the service's principal; empty: HTTP/host
}

// kerberosState is a client that holds tickets. Its library is not made for use
// by several goroutines while it gets them.
type kerberosState struct {
	mutex   sync.Mutex
	client  *client.Client
	service string
}

// Obtain gets a ticket-granting ticket.
func (k *Kerberos) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	filled, err := env.texts("user", k.User, "realm", k.Realm, "password", k.Password, "kdc", k.KDC, "service",
		k.Service)
	if err != nil {
		return nil, err
	}
	user, realm, password, service := filled[0], filled[1], filled[2], filled[4]
	settings, err := k.settings(env, realm, filled[3])
	if err != nil {
		return nil, err
	}
	if realm == "" {
		realm = settings.LibDefaults.DefaultRealm
	}
	var c *client.Client
	switch {
	case k.Tickets != nil:
		c, err = k.fromTickets(env, settings)
	case k.KeyTab != nil:
		c, err = k.fromKeyTab(env, settings, user, realm)
	default:
		c = client.NewWithPassword(user, realm, password, settings, client.DisablePAFXFAST(true))
	}
	if err != nil {
		return nil, err
	}
	if k.Tickets == nil {
		if err := c.Login(); err != nil {
			return nil, kerberosError(err, realm)
		}
	}
	return &Token{
		User: user + "@" + realm, Kind: "Negotiate", Obtained: env.now(), Fixed: true,
		material: &kerberosState{client: c, service: service},
	}, nil
}

func (k *Kerberos) settings(env *Env, realm, kdc string) (*config.Config, error) {
	if k.Config != nil {
		data, err := env.piece("config", k.Config)
		if err != nil {
			return nil, err
		}
		settings, err := config.NewFromString(string(data))
		if err != nil {
			return nil, &Error{Message: "config: " + err.Error()}
		}
		return settings, nil
	}
	if kdc == "" {
		settings, err := config.Load("/etc/krb5.conf")
		if err != nil {
			return nil, &Error{
				Message: "the machine's own settings of Kerberos cannot be read: " + err.Error(),
				Try:     "name the realm's server under kdc:, or a krb5.conf of the bench under config:",
			}
		}
		return settings, nil
	}
	settings := config.New()
	settings.LibDefaults.DefaultRealm = realm
	settings.LibDefaults.UDPPreferenceLimit = 1 // TCP: its failures are told at once
	settings.LibDefaults.DNSLookupKDC = false
	settings.Realms = []config.Realm{{Realm: realm, KDC: []string{kdc}}}
	return settings, nil
}

func (k *Kerberos) fromTickets(env *Env, settings *config.Config) (*client.Client, error) {
	data, err := env.piece("tickets", k.Tickets)
	if err != nil {
		return nil, err
	}
	cache := &credentials.CCache{}
	if err := cache.Unmarshal(data); err != nil {
		return nil, &Error{Message: "tickets: this is not a file of tickets: " + err.Error()}
	}
	c, err := client.NewFromCCache(cache, settings, client.DisablePAFXFAST(true))
	if err != nil {
		return nil, &Error{Message: "tickets: " + err.Error(), Try: "get new ones with kinit"}
	}
	return c, nil
}

func (k *Kerberos) fromKeyTab(env *Env, settings *config.Config, user, realm string) (*client.Client, error) {
	data, err := env.piece("keytab", k.KeyTab)
	if err != nil {
		return nil, err
	}
	table := keytab.New()
	if err := table.Unmarshal(data); err != nil {
		return nil, &Error{Message: "keytab: this is not a file of keys: " + err.Error()}
	}
	return client.NewWithKeytab(user, realm, table, settings, client.DisablePAFXFAST(true)), nil
}

// kerberosError puts what a realm answers into words.
func kerberosError(err error, realm string) *Error {
	e := &Error{Message: fmt.Sprintf("no ticket of the realm %s: %s", realm, lastPart(err.Error())), Cause: err}
	switch text := err.Error(); {
	case strings.Contains(text, "KDC_ERR_PREAUTH_FAILED"), strings.Contains(text, "integrity"):
		e.Try = "the password or key is wrong"
	case strings.Contains(text, "KDC_ERR_C_PRINCIPAL_UNKNOWN"):
		e.Try = "the realm does not know this user; names are told apart by case"
	case strings.Contains(text, "KDC_ERR_S_PRINCIPAL_UNKNOWN"):
		e.Try = "the realm does not know the service: name its principal under service: (HTTP/host as the realm has it)"
	case strings.Contains(text, "KRB_AP_ERR_SKEW"):
		e.Try = "the clock here and that of the realm differ too much"
	case strings.Contains(text, "dial"), strings.Contains(text, "refused"), strings.Contains(text, "communicat"):
		e.Try = "is kdc: the realm's server, and its port the right one (88 is usual)?"
	}
	return e
}

// lastPart takes the library's chain of causes down to what happened.
func lastPart(text string) string {
	if at := strings.LastIndex(text, "< "); at >= 0 {
		text = text[at+2:]
	}
	return strings.TrimSpace(text)
}

// Put adds a ticket for the service.
func (k *Kerberos) Put(r *exchange.Request, env *Env, t *Token) error {
	state, ok := t.material.(*kerberosState)
	if !ok || t.Spoilt == Empty {
		return nil
	}
	service := state.service
	if service == "" {
		service = "HTTP/" + r.URL.Hostname()
	}
	carrier := &http.Request{Header: http.Header{}, URL: &url.URL{}}
	state.mutex.Lock()
	err := spnego.SetSPNEGOHeader(state.client, carrier, service)
	state.mutex.Unlock()
	if err != nil {
		return kerberosError(err, "that knows "+service)
	}
	text := strings.TrimPrefix(carrier.Header.Get("Authorization"), "Negotiate ")
	if t.Spoilt == Tampered {
		text = tamper(text)
	}
	env.Scope.Hide(text)
	r.SetHeader("Authorization", "Negotiate "+text)
	return nil
}

// spoils says which ways there are.
func (k *Kerberos) spoils(way string) bool { return way == Tampered || way == Empty }

// Placeholders lists the placeholders.
func (k *Kerberos) Placeholders() []*value.Placeholder {
	return placeholders(k.User, k.Realm, k.Password, k.KeyTab, k.Tickets, k.Config, k.KDC, k.Service)
}

func readKerberos(r *mapping.Reader, n *yamlfile.Node) Kind {
	k := &Kerberos{}
	mapping.Read(r, "a kerberos login", n, k, kerberosKeys)
	r.Together(n, kerberosTogether)
	if k.Tickets == nil {
		needSettings(r, n, "user", k.User)
		if k.Password == nil && k.KeyTab == nil {
			r.File.Report(n, "write password: ${sealed.x}, keytab: FILE or tickets: FILE",
				"a kerberos login must say what proves the user")
		}
		if k.Realm == nil && k.Config == nil {
			needSettings(r, n, "realm", k.Realm)
		}
	}
	return k
}

var kerberosKeys = []mapping.Key[Kerberos]{
	ignoreKind[Kerberos](),
	mapping.TemplateKey("user", "the user's principal, without the realm",
		func(k *Kerberos) **value.Template { return &k.User }),
	mapping.TemplateKey("realm", "the realm", func(k *Kerberos) **value.Template { return &k.Realm }),
	mapping.SecretKey("password", "password, from ${sealed.x}",
		func(k *Kerberos) **value.Template { return &k.Password }),
	mapping.TemplateKey("keytab", "file with the user's keys", func(k *Kerberos) **value.Template { return &k.KeyTab }),
	mapping.TemplateKey("tickets", "file with tickets that were got before",
		func(k *Kerberos) **value.Template { return &k.Tickets }),
	mapping.TemplateKey("config", "a krb5.conf of the bench", func(k *Kerberos) **value.Template { return &k.Config }),
	mapping.TemplateKey("kdc", "host:port of the realm's server", func(k *Kerberos) **value.Template { return &k.KDC }),
	mapping.TemplateKey("service", "the service's principal; HTTP/host unless said",
		func(k *Kerberos) **value.Template { return &k.Service }),
}

var kerberosTogether = []mapping.Together{
	{Key: "tickets", Without: []string{"password", "keytab", "user"}}, {Key: "keytab", Without: []string{"password"}},
}
