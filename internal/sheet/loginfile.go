package sheet

import (
	"slices"
	"strings"
	"time"

	"testbench/internal/login"
	"testbench/internal/nearest"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// loginKinds maps the kinds of logins to their readers.
var loginKinds = map[string]func(r *reader, n *yamlfile.Node) login.Kind{
	"basic": func(r *reader, n *yamlfile.Node) login.Kind {
		b := &login.Basic{}
		readMapping(r, "a basic login", n, b, basicKeys)
		r.need(n, "user", b.User, "password", b.Password)
		return b
	},
	"bearer": func(r *reader, n *yamlfile.Node) login.Kind {
		b := &login.Bearer{}
		readMapping(r, "a bearer login", n, b, bearerKeys)
		r.need(n, "token", b.Token)
		return b
	},
	"key": func(r *reader, n *yamlfile.Node) login.Kind {
		k := &login.Key{}
		readMapping(r, "a key login", n, k, keyKeys)
		r.together(n, keyTogether)
		r.need(n, "key", k.Key)
		if k.Send == (login.Send{Word: k.Send.Word}) {
			r.file.Report(n, "write header: NAME, query: NAME or cookie: NAME", "a key login must say where the key goes")
		}
		return k
	},
	"digest": func(r *reader, n *yamlfile.Node) login.Kind {
		d := &login.Digest{}
		readMapping(r, "a digest login", n, d, digestKeys)
		r.need(n, "user", d.User, "password", d.Password)
		return d
	},
	"ntlm": func(r *reader, n *yamlfile.Node) login.Kind {
		k := &login.NTLM{}
		readMapping(r, "an ntlm login", n, k, ntlmKeys)
		r.need(n, "user", k.User, "password", k.Password)
		return k
	},
	"kerberos": (*reader).kerberosLogin,
	"certificate": func(r *reader, n *yamlfile.Node) login.Kind {
		c := &login.Certificate{}
		readMapping(r, "a certificate login", n, &c.Material, append(materialKeys, ignoreKind[login.Material]()))
		r.need(n, "certificate", c.Certificate)
		return c
	},
	"oauth2":         (*reader).oauth2Login,
	"desk":           (*reader).deskLogin,
	"session":        (*reader).sessionLogin,
	"hmac":           (*reader).hmacLogin,
	"http signature": (*reader).httpSignatureLogin,
	"username token": func(r *reader, n *yamlfile.Node) login.Kind {
		u := &login.UsernameToken{}
		readMapping(r, "a username token login", n, u, usernameTokenKeys)
		if u.Digest {
			r.together(n, []together{{"nonce", nil, []string{"digest"}}}) // a digest has one anyway
		}
		r.need(n, "user", u.User, "password", u.Password)
		return u
	},
	"signature": (*reader).signatureLogin,
	"saml": func(r *reader, n *yamlfile.Node) login.Kind {
		s := &login.SAML{}
		readMapping(r, "a saml login", n, s, samlKeys)
		r.together(n, samlTogether)
		if s.From == "" {
			r.need(n, "assertion", s.Assertion)
		}
		return s
	},
}

func loginKindNames() []string {
	var names []string
	for name := range loginKinds {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// login reads a login by its kind.
func (r *reader) login(n *yamlfile.Node) login.Kind {
	if n.Kind != yamlfile.Mapping {
		r.file.Report(n, "write kind: and its settings below it", "a login must be a mapping, and is %s", n.Kind)
		return nil
	}
	kindAt := n.Get("kind")
	if kindAt == nil {
		r.file.Report(n, "there are: "+strings.Join(loginKindNames(), ", "), "the login does not say its kind")
		return nil
	}
	read, ok := loginKinds[kindAt.Text]
	switch {
	case ok:
		return read(r, n)
	default:
		try := nearest.Try(kindAt.Text, loginKindNames())
		if try == "" {
			try = "there are: " + strings.Join(loginKindNames(), ", ")
		}
		r.file.Report(kindAt, try, "%q is no kind of login", kindAt.Text)
	}
	return nil
}

// need reports settings that are missing; it takes names and templates in turn.
func (r *reader) need(n *yamlfile.Node, settings ...any) {
	for i := 0; i < len(settings); i += 2 {
		if settings[i+1].(*value.Template) == nil {
			r.file.Report(n, "", "the login does not say %s:", settings[i])
		}
	}
}

func ignoreKind[T any]() key[T] {
	return key[T]{"kind", "the kind of login", func(*reader, *T, *yamlfile.Node) {}}
}

var basicKeys = []key[login.Basic]{
	ignoreKind[login.Basic](),
	{"user", "user name", func(r *reader, b *login.Basic, n *yamlfile.Node) { b.User = r.template(n) }},
	{"password", "password, from ${sealed.x}", func(r *reader, b *login.Basic, n *yamlfile.Node) { b.Password = r.secret(n) }},
}

var bearerKeys = []key[login.Bearer]{
	ignoreKind[login.Bearer](),
	{"token", "the token, from ${sealed.x}", func(r *reader, b *login.Bearer, n *yamlfile.Node) { b.Token = r.secret(n) }},
}

var keyKeys = []key[login.Key]{
	ignoreKind[login.Key](),
	{"key", "the key, from ${sealed.x}", func(r *reader, k *login.Key, n *yamlfile.Node) { k.Key = r.secret(n) }},
	{"header", "the header it goes into", func(r *reader, k *login.Key, n *yamlfile.Node) { k.Send.Header = r.headerName(n) }},
	{"query", "the query name it goes under", func(r *reader, k *login.Key, n *yamlfile.Node) { k.Send.Query = r.plainText(n) }},
	{"cookie", "the cookie it goes into", func(r *reader, k *login.Key, n *yamlfile.Node) { k.Send.Cookie = r.plainText(n) }},
	{"word", "a word before it", func(r *reader, k *login.Key, n *yamlfile.Node) { k.Send.Word = r.plainText(n) }},
}

var sendKeys = []key[login.Send]{
	{"header", "the header it goes into", func(r *reader, s *login.Send, n *yamlfile.Node) { s.Header = r.headerName(n) }},
	{"word", "the word before it", func(r *reader, s *login.Send, n *yamlfile.Node) { s.Word = r.plainText(n) }},
	{"query", "the query name it goes under", func(r *reader, s *login.Send, n *yamlfile.Node) { s.Query = r.plainText(n) }},
	{"cookie", "the cookie it goes into", func(r *reader, s *login.Send, n *yamlfile.Node) { s.Cookie = r.plainText(n) }},
}

// asking is a login call while it is read.
type asking struct {
	spec           *request.Spec
	user, password *yamlfile.Node
	with           string
}

var askKeys = []key[asking]{
	{"request", "method and address", func(r *reader, a *asking, n *yamlfile.Node) {
		if spec := r.requestLine(n); spec != nil {
			a.spec.Method, a.spec.Address = spec.Method, spec.Address
		}
	}},
	{"headers", "header fields", func(r *reader, a *asking, n *yamlfile.Node) { a.spec.Headers = r.pairs(n, "headers") }},
	{"query", "query values", func(r *reader, a *asking, n *yamlfile.Node) { a.spec.Query = r.pairs(n, "query") }},
	{"form", "form fields", func(r *reader, a *asking, n *yamlfile.Node) { a.spec.Form = r.pairs(n, "form") }},
	{"body", "a JSON body", func(r *reader, a *asking, n *yamlfile.Node) { a.spec.Body = r.tree(n) }},
	{"text", "a body as text", func(r *reader, a *asking, n *yamlfile.Node) {
		a.spec.TextFormat = guessText(r.text(n))
		a.spec.Text = r.body(n, a.spec.TextFormat)
	}},
	{"cookies", "cookies", func(r *reader, a *asking, n *yamlfile.Node) { a.spec.Cookies = r.pairs(n, "cookies") }},
	{"login", "another login that goes with the call", func(r *reader, a *asking, n *yamlfile.Node) { a.with = r.otherLogin(n) }},
	{"user", "user name, sent as Basic", func(r *reader, a *asking, n *yamlfile.Node) { a.user = n }},
	{"password", "password, sent as Basic", func(r *reader, a *asking, n *yamlfile.Node) { a.password = n }},
}

// basicTemplate makes `Basic user:password` of the two settings.
func basicTemplate(r *reader, n *yamlfile.Node, a *asking) *value.Template {
	if a.user == nil || a.password == nil {
		r.file.Report(n, "", "user: and password: go together")
		return value.Literal("")
	}
	user, password := r.template(a.user), r.secret(a.password)
	return value.BasicPair(user, password)
}

// requestLine reads METHOD ADDRESS.
func (r *reader) requestLine(n *yamlfile.Node) *request.Spec {
	text := r.text(n)
	method, address, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok || !isMethod(method) {
		r.file.Report(n, "write it like POST ${base}/gate/ticket", "%q is no request: a method and an address are wanted", text)
		return nil
	}
	t, err := value.ParseAddress(strings.TrimSpace(address))
	if err != nil {
		r.mistake(n, 0, err)
		return nil
	}
	r.note(n, t.Holes())
	return &request.Spec{Method: method, Address: t}
}

var lifeUnits = map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "min": time.Minute, "h": time.Hour, "d": 24 * time.Hour}

// lasts reads a duration, a path to an instant, or a path and a unit.
func (r *reader) lasts(d *login.Desk, n *yamlfile.Node) {
	text := strings.TrimSpace(r.text(n))
	if life, err := rule.Duration(text); err == nil {
		d.Lasts = life
		return
	}
	if at := strings.LastIndexByte(text, ' '); at > 0 {
		unit, ok := lifeUnits[text[at+1:]]
		if !ok {
			r.file.ReportInside(n, at+1, "there are: ms, s, min, h, d", "%q is no unit of time", text[at+1:])
			return
		}
		d.LastsUnit, text = unit, strings.TrimSpace(text[:at])
	}
	d.LastsAt = r.pathText(n, text, 0)
}

func (r *reader) headerName(n *yamlfile.Node) string {
	name := r.plainText(n)
	if err := request.CheckHeader(name, ""); err != nil {
		r.file.Report(n, "", "%v", err)
	}
	return name
}

// secret reads a credential. One that stands in the file is remarked: it would
// end up in version control.
func (r *reader) secret(n *yamlfile.Node) *value.Template {
	t := r.template(n)
	if t.IsLiteral() && t.LiteralText() != "" {
		r.file.Remark(n, "a credential stands in the file; seal it with `testbench secret set NAME` and write ${sealed.NAME}")
		return value.SecretLiteral(t.LiteralText())
	}
	return t
}
