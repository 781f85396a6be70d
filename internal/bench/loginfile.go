package bench

import (
	"slices"
	"strings"
	"time"

	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// loginKinds maps the kinds of logins to their readers.
var loginKinds = map[string]func(r *Reader, n *yamlfile.Node) login.Kind{
	"basic": func(r *Reader, n *yamlfile.Node) login.Kind {
		b := &login.Basic{}
		ReadMapping(r, "a basic login", n, b, basicKeys)
		r.need(n, "user", b.User, "password", b.Password)
		return b
	},
	"bearer": func(r *Reader, n *yamlfile.Node) login.Kind {
		b := &login.Bearer{}
		ReadMapping(r, "a bearer login", n, b, bearerKeys)
		r.need(n, "token", b.Token)
		return b
	},
	"key": func(r *Reader, n *yamlfile.Node) login.Kind {
		k := &login.Key{}
		ReadMapping(r, "a key login", n, k, keyKeys)
		r.Together(n, keyTogether)
		r.need(n, "key", k.Key)
		if k.Send == (login.Send{Scheme: k.Send.Scheme}) {
			r.File.Report(n, "write header: NAME, query: NAME or cookie: NAME",
				"a key login must say where the key goes")
		}
		return k
	},
	"digest": func(r *Reader, n *yamlfile.Node) login.Kind {
		d := &login.Digest{}
		ReadMapping(r, "a digest login", n, d, digestKeys)
		r.need(n, "user", d.User, "password", d.Password)
		return d
	},
	"ntlm": func(r *Reader, n *yamlfile.Node) login.Kind {
		k := &login.NTLM{}
		ReadMapping(r, "an ntlm login", n, k, ntlmKeys)
		r.need(n, "user", k.User, "password", k.Password)
		return k
	},
	"kerberos": (*Reader).kerberosLogin,
	"certificate": func(r *Reader, n *yamlfile.Node) login.Kind {
		c := &login.Certificate{}
		ReadMapping(r, "a certificate login", n, &c.Material, append(materialKeys, ignoreKind[login.Material]()))
		r.need(n, "certificate", c.Certificate)
		return c
	},
	"oauth2":         (*Reader).oauth2Login,
	"login call":     (*Reader).loginCallLogin,
	"session":        (*Reader).sessionLogin,
	"hmac":           (*Reader).hmacLogin,
	"http signature": (*Reader).httpSignatureLogin,
	"username token": func(r *Reader, n *yamlfile.Node) login.Kind {
		u := &login.UsernameToken{}
		ReadMapping(r, "a username token login", n, u, usernameTokenKeys)
		if u.Digest {
			r.Together(n, []Together{{"nonce", nil, []string{"digest"}}}) // a digest has one anyway
		}
		r.need(n, "user", u.User, "password", u.Password)
		return u
	},
	"signature": (*Reader).signatureLogin,
	"saml": func(r *Reader, n *yamlfile.Node) login.Kind {
		s := &login.SAML{}
		ReadMapping(r, "a saml login", n, s, samlKeys)
		r.Together(n, samlTogether)
		if s.From == "" {
			r.need(n, "assertion", s.Assertion)
		}
		return s
	},
}

// LoginKinds are the words of kind: at a login.
func LoginKinds() []string {
	var names []string
	for name := range loginKinds {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// login reads a login by its kind.
func (r *Reader) login(n *yamlfile.Node) login.Kind {
	if n.Kind != yamlfile.Mapping {
		r.File.Report(n, "write kind: and its settings below it", "a login must be a mapping, and is %s", n.Kind)
		return nil
	}
	kindAt := n.Get("kind")
	if kindAt == nil {
		r.File.Report(n, "there are: "+strings.Join(LoginKinds(), ", "), "the login does not say its kind")
		return nil
	}
	if read, ok := loginKinds[r.Choice(kindAt, "kind of login", LoginKinds()...)]; ok {
		return read(r, n)
	}
	return nil
}

// need reports settings that are missing; it takes names and templates in turn.
func (r *Reader) need(n *yamlfile.Node, settings ...any) {
	for i := 0; i < len(settings); i += 2 {
		if settings[i+1].(*value.Template) == nil {
			r.Needs(n, settings[i].(string))
			r.File.Report(n, "", "the login does not say %s:", settings[i])
		}
	}
}

func ignoreKind[T any]() Key[T] {
	return Key[T]{"kind", "the kind of login", func(*Reader, *T, *yamlfile.Node) {}}
}

var basicKeys = []Key[login.Basic]{
	ignoreKind[login.Basic](),
	{"user", "user name", func(r *Reader, b *login.Basic, n *yamlfile.Node) { b.User = r.Template(n) }},
	{"password", "password, from ${sealed.x}", func(r *Reader, b *login.Basic, n *yamlfile.Node) {
		b.Password = r.Secret(n)
	}},
}

var bearerKeys = []Key[login.Bearer]{
	ignoreKind[login.Bearer](),
	{"token", "the token, from ${sealed.x}", func(r *Reader, b *login.Bearer, n *yamlfile.Node) {
		b.Token = r.Secret(n)
	}},
}

var keyKeys = []Key[login.Key]{
	ignoreKind[login.Key](),
	{"key", "the key, from ${sealed.x}", func(r *Reader, k *login.Key, n *yamlfile.Node) { k.Key = r.Secret(n) }},
	{"header", "the header it goes into", func(r *Reader, k *login.Key, n *yamlfile.Node) {
		k.Send.Header = r.headerName(n)
	}},
	{"query", "the query name it goes under", func(r *Reader, k *login.Key, n *yamlfile.Node) {
		k.Send.Query = r.PlainText(n)
	}},
	{"cookie", "the cookie it goes into", func(r *Reader, k *login.Key, n *yamlfile.Node) {
		k.Send.Cookie = r.PlainText(n)
	}},
	{"scheme", "the scheme before it, as Bearer", func(r *Reader, k *login.Key, n *yamlfile.Node) {
		k.Send.Scheme = r.PlainText(n)
	}},
}

var sendKeys = []Key[login.Send]{
	{"header", "the header it goes into", func(r *Reader, s *login.Send, n *yamlfile.Node) {
		s.Header = r.headerName(n)
	}},
	{"scheme", "the scheme before it, as Bearer", func(r *Reader, s *login.Send, n *yamlfile.Node) {
		s.Scheme = r.PlainText(n)
	}},
	{"query", "the query name it goes under", func(r *Reader, s *login.Send, n *yamlfile.Node) {
		s.Query = r.PlainText(n)
	}},
	{"cookie", "the cookie it goes into", func(r *Reader, s *login.Send, n *yamlfile.Node) {
		s.Cookie = r.PlainText(n)
	}},
}

// asking is a login call while it is read.
type asking struct {
	spec           *request.Spec
	user, password *yamlfile.Node
	with           string
}

var askKeys = []Key[asking]{
	{"request", "method and address", func(r *Reader, a *asking, n *yamlfile.Node) {
		if spec := r.requestLine(n); spec != nil {
			a.spec.Method, a.spec.Address = spec.Method, spec.Address
		}
	}},
	{"headers", "header fields", func(r *Reader, a *asking, n *yamlfile.Node) {
		a.spec.Headers = r.Pairs(n, "headers")
	}},
	{"query", "query values", func(r *Reader, a *asking, n *yamlfile.Node) { a.spec.Query = r.Pairs(n, "query") }},
	{"form", "form fields", func(r *Reader, a *asking, n *yamlfile.Node) { a.spec.Form = r.Pairs(n, "form") }},
	{"body", "a JSON body", func(r *Reader, a *asking, n *yamlfile.Node) { a.spec.Body = r.Tree(n) }},
	{"text", "a body as text", func(r *Reader, a *asking, n *yamlfile.Node) {
		a.spec.TextFormat = GuessText(r.Text(n))
		a.spec.Text = r.body(n, a.spec.TextFormat)
	}},
	{"cookies", "cookies", func(r *Reader, a *asking, n *yamlfile.Node) { a.spec.Cookies = r.Pairs(n, "cookies") }},
	{"login", "another login that goes with the call", func(r *Reader, a *asking, n *yamlfile.Node) {
		a.with = r.otherLogin(n)
	}},
	{"user", "user name, sent as Basic", func(r *Reader, a *asking, n *yamlfile.Node) { a.user = n }},
	{"password", "password, sent as Basic", func(r *Reader, a *asking, n *yamlfile.Node) { a.password = n }},
}

// basicTemplate makes `Basic user:password` of the two settings.
func basicTemplate(r *Reader, n *yamlfile.Node, a *asking) *value.Template {
	if a.user == nil || a.password == nil {
		r.File.Report(n, "", "user: and password: go together")
		return value.Literal("")
	}
	user, password := r.Template(a.user), r.Secret(a.password)
	return value.BasicPair(user, password)
}

// requestLine reads METHOD ADDRESS.
func (r *Reader) requestLine(n *yamlfile.Node) *request.Spec {
	text := r.Text(n)
	method, address, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok || !IsMethod(method) {
		r.File.Report(n, "write it like POST ${base}/gate/ticket",
			"%q is not a request: a method and an address are expected", text)
		return nil
	}
	t, err := value.ParseAddress(strings.TrimSpace(address))
	if err != nil {
		r.Mistake(n, 0, err)
		return nil
	}
	r.Note(n, t.Placeholders())
	return &request.Spec{Method: method, Address: t}
}

var lifeUnits = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "min": time.Minute, "h": time.Hour,
	"d": 24 * time.Hour,
}

// lasts reads a duration, a path to an instant, or a path and a unit.
func (r *Reader) lasts(d *login.LoginCall, n *yamlfile.Node) {
	text := strings.TrimSpace(r.Text(n))
	if life, err := rule.Duration(text); err == nil {
		d.ExpiresIn = life
		return
	}
	if at := strings.LastIndexByte(text, ' '); at > 0 {
		unit, ok := lifeUnits[text[at+1:]]
		if !ok {
			r.File.ReportInside(n, at+1, "there are: ms, s, min, h, d", "%q is not a unit of time", text[at+1:])
			return
		}
		d.ExpiresUnit, text = unit, strings.TrimSpace(text[:at])
	}
	d.ExpiresPath = r.PathText(n, text, 0)
}

func (r *Reader) headerName(n *yamlfile.Node) string {
	name := r.PlainText(n)
	if err := request.CheckHeader(name, ""); err != nil {
		r.File.Report(n, "", "%v", err)
	}
	return name
}

// Secret reads a credential. One that is in the file is remarked: it would
// end up in version control.
func (r *Reader) Secret(n *yamlfile.Node) *value.Template {
	t := r.Template(n)
	if t.IsLiteral() && t.LiteralText() != "" {
		r.File.Remark(n, "a credential is in the file; seal it with `testbench secret set NAME` and write ${sealed.NAME}")
		return value.SecretLiteral(t.LiteralText())
	}
	return t
}
