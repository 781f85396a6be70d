package bench

import (
	"slices"
	"strings"

	"testbench/internal/httpsign"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

var digestKeys = []Key[login.Digest]{
	ignoreKind[login.Digest](),
	{"user", "user name", func(r *Reader, d *login.Digest, n *yamlfile.Node) { d.User = r.Template(n) }},
	{"password", "password, from ${sealed.x}", func(r *Reader, d *login.Digest, n *yamlfile.Node) {
		d.Password = r.Secret(n)
	}},
}

var ntlmKeys = []Key[login.NTLM]{
	ignoreKind[login.NTLM](),
	{"user", `user name, also as DOMAIN\user`, func(r *Reader, k *login.NTLM, n *yamlfile.Node) {
		k.User = r.Template(n)
	}},
	{"password", "password, from ${sealed.x}", func(r *Reader, k *login.NTLM, n *yamlfile.Node) {
		k.Password = r.Secret(n)
	}},
	{"domain", "the user's domain", func(r *Reader, k *login.NTLM, n *yamlfile.Node) { k.Domain = r.Template(n) }},
}

func (r *Reader) kerberosLogin(n *yamlfile.Node) login.Kind {
	k := &login.Kerberos{}
	ReadMapping(r, "a kerberos login", n, k, kerberosKeys)
	r.Together(n, kerberosTogether)
	if k.Tickets == nil {
		r.need(n, "user", k.User)
		if k.Password == nil && k.KeyTab == nil {
			r.File.Report(n, "write password: ${sealed.x}, keytab: FILE or tickets: FILE",
				"a kerberos login must say what proves the user")
		}
		if k.Realm == nil && k.Config == nil {
			r.need(n, "realm", k.Realm)
		}
	}
	return k
}

var kerberosKeys = []Key[login.Kerberos]{
	ignoreKind[login.Kerberos](),
	{"user", "the user's principal, without the realm", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.User = r.Template(n)
	}},
	{"realm", "the realm", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) { k.Realm = r.Template(n) }},
	{"password", "password, from ${sealed.x}", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.Password = r.Secret(n)
	}},
	{"keytab", "file with the user's keys", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.KeyTab = r.Template(n)
	}},
	{"tickets", "file with tickets that were got before", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.Tickets = r.Template(n)
	}},
	{"config", "a krb5.conf of the bench", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.Config = r.Template(n)
	}},
	{"kdc", "host:port of the realm's server", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.KDC = r.Template(n)
	}},
	{"service", "the service's principal; HTTP/host unless said", func(r *Reader, k *login.Kerberos, n *yamlfile.Node) {
		k.Service = r.Template(n)
	}},
}

// MaterialKeys name a certificate and its key.
var materialKeys = []Key[login.Material]{
	{
		"certificate", "file (PEM, PKCS#12) or ${sealed.x} with PEM text",
		func(r *Reader, m *login.Material, n *yamlfile.Node) { m.Certificate = r.Template(n) },
	},
	{
		"key", "its private key: file or ${sealed.x}; left out where it is beside the certificate",
		func(r *Reader, m *login.Material, n *yamlfile.Node) { m.Key = r.Template(n) },
	},
	{"password", "password of the key, from ${sealed.x}", func(r *Reader, m *login.Material, n *yamlfile.Node) {
		m.Password = r.Secret(n)
	}},
}

// inside makes keys of a part into keys of the whole.
func inside[W, P any](keys []Key[P], part func(*W) *P) []Key[W] {
	var all []Key[W]
	for _, k := range keys {
		all = append(all, Key[W]{k.Name, k.Holds, func(r *Reader, w *W, n *yamlfile.Node) { k.Read(r, part(w), n) }})
	}
	return all
}

// otherLogin reads the name of another login; that it exists is checked with the
// whole bench.
func (r *Reader) otherLogin(n *yamlfile.Node) string {
	name := r.PlainText(n)
	if r.logins != nil {
		*r.logins = append(*r.logins, loginName{name, n})
	}
	return name
}

func (r *Reader) oauth2Login(n *yamlfile.Node) login.Kind {
	o := &login.OAuth2{Grant: login.GrantClient}
	ReadMapping(r, "an oauth2 login", n, o, oauth2Keys)
	r.Together(n, oauth2Together)
	r.OnlyBeside(n, "the grant "+o.Grant, oauth2Grants, "grant", o.Grant)
	if o.From == nil && o.Issuer == nil {
		r.File.Report(n, "write from: with the token endpoint's address, or issuer:", "the login does not say from:")
	}
	needs := func(setting string, t *value.Template) {
		if o.Issuer == nil {
			r.need(n, setting, t)
		}
	}
	switch o.Grant {
	case login.GrantClient:
		if o.ClientAuthentication == "" || o.ClientAuthentication == login.InBasic ||
			o.ClientAuthentication == login.InForm {
			r.need(n, "client", o.Client, "client secret", o.ClientSecret)
		}
	case login.GrantPassword:
		r.need(n, "user", o.User, "password", o.Password)
	case login.GrantRefresh:
		r.need(n, "refresh token", o.RefreshToken)
	case login.GrantCode:
		r.need(n, "client", o.Client)
		needs("authorize", o.AuthorizeAt)
	case login.GrantDevice:
		r.need(n, "client", o.Client)
		needs("device", o.DeviceAt)
	case login.GrantSAMLBearer:
		r.need(n, "assertion", o.Assertion)
	case login.GrantJWTBearer:
		if o.Assertion == nil && !o.Material.IsSet() && o.ClientSecret == nil {
			r.File.Report(n, "write key: to have one made, or assertion: with one",
				"a jwt bearer grant needs an assertion")
		}
	case login.GrantTokenExchange:
		if o.Subject.Token == nil && o.Subject.Login == "" {
			r.File.Report(n, "write subject: with login: NAME or token: ${sealed.x} below it",
				"a token exchange needs a token to begin with")
		}
	}
	switch o.ClientAuthentication {
	case login.InKeyJWT:
		r.need(n, "client", o.Client, "key", o.Material.Key)
	case login.InSecretJWT:
		r.need(n, "client", o.Client, "client secret", o.ClientSecret)
	case login.InCertificate:
		r.need(n, "client", o.Client, "certificate", o.Material.Certificate)
	}
	return o
}

var oauth2Keys = slices.Concat([]Key[login.OAuth2]{
	ignoreKind[login.OAuth2](),
	{"grant", strings.Join(login.Grants, ", "), func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		if word := r.Choice(n, "grant that can be used", login.Grants...); word != "" {
			o.Grant = word
		}
	}},
	{
		"issuer", "the issuer; its metadata says where its endpoints are",
		func(r *Reader, o *login.OAuth2, n *yamlfile.Node) { o.Issuer = r.Address(n) },
	},
	{"from", "the token endpoint", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) { o.From = r.Address(n) }},
	{"authorize", "the authorization endpoint", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.AuthorizeAt = r.Address(n)
	}},
	{"device", "the device authorization endpoint", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.DeviceAt = r.Address(n)
	}},
	{"introspection", "the endpoint that verifies", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Introspection = r.Address(n)
	}},
	{"revocation", "the endpoint that withdraws", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Revocation = r.Address(n)
	}},
	{"keys", "where the issuer publishes its keys", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.KeysAt = r.Address(n)
	}},
	{"client", "the client's name", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) { o.Client = r.Template(n) }},
	{"client secret", "its secret, from ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.ClientSecret = r.Secret(n)
	}},
	{"client authentication", strings.Join(login.ClientWays, ", "), func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.ClientAuthentication = r.Choice(n, "place for the client's credentials", login.ClientWays...)
	}},
	{
		"certificate", "the client's certificate: file or ${sealed.x}",
		func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
			o.Material.Certificate = r.Template(n)
		},
	},
	{"key", "the client's private key: file or ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Material.Key = r.Template(n)
	}},
	{"key password", "password of the key, from ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Material.Password = r.Secret(n)
	}},
	{"key id", "the key's name at the issuer", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.KeyID = r.Template(n)
	}},
	{
		"algorithm", "of what is signed; what fits the key unless said",
		func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
			o.Algorithm = r.Choice(n, "algorithm", login.Algorithms...)
		},
	},
	{"user", "user name", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) { o.User = r.Template(n) }},
	{"password", "password, from ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Password = r.Secret(n)
	}},
	{"refresh token", "a refresh token, from ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.RefreshToken = r.Secret(n)
	}},
	{
		"redirect", "where the browser comes back to, on this machine",
		func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
			o.Redirect = r.Address(n)
		},
	},
	{"assertion", "an assertion: file or ${sealed.x}", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Assertion = r.Template(n)
	}},
	{"claims", "further claims of the assertion that is made", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Claims = r.Pairs(n, "claims")
	}},
	{"subject", "the token to exchange", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		ReadMapping(r, "subject", n, &o.Subject, sourceKeys)
	}},
	{"actor", "the token of who acts", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		ReadMapping(r, "actor", n, &o.Actor, sourceKeys)
	}},
	{"requested", "the kind of token asked for", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Requested = r.Template(n)
	}},
	{"scope", "the scopes, with spaces between", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Scope = r.Template(n)
	}},
	{"audience", "whom the token is for", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Audience = r.Template(n)
	}},
	{"resource", "the service's address, or a list", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Resource = r.templates(n)
	}},
	{"extra", "further parameters", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Extra = r.Pairs(n, "extra")
	}},
	{"proof", "dpop: tokens are bound to a key", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Proof = r.Choice(n, "proof", "dpop") != ""
	}},
	{"revoke", "revoke: the token is withdrawn at the end", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Revokes = r.Choice(n, "way to revoke", "revoke") != ""
	}},
	{"send", "where the token goes", func(r *Reader, o *login.OAuth2, n *yamlfile.Node) {
		ReadMapping(r, "send", n, &o.Send, sendKeys)
		r.Together(n, keyTogether)
	}},
})

var sourceKeys = []Key[login.TokenSource]{
	{"token", "a token, from ${sealed.x}", func(r *Reader, s *login.TokenSource, n *yamlfile.Node) {
		s.Token = r.Secret(n)
	}},
	{"login", "another login, whose token is taken", func(r *Reader, s *login.TokenSource, n *yamlfile.Node) {
		s.Login = r.otherLogin(n)
	}},
	{
		"kind", "access token, id token, jwt, saml2, or an identifier",
		func(r *Reader, s *login.TokenSource, n *yamlfile.Node) { s.Kind = r.Template(n) },
	},
}

// templates reads a text or a list of texts.
func (r *Reader) templates(n *yamlfile.Node) []*value.Template {
	var all []*value.Template
	for _, item := range r.List(n) {
		all = append(all, r.Template(item))
	}
	return all
}

func (r *Reader) loginCallLogin(n *yamlfile.Node) login.Kind {
	f := &loginCallFile{call: asking{spec: &request.Spec{}}}
	ReadMapping(r, "a login call", n, f, loginCallKeys)
	d := &f.login
	d.Request, d.With = r.finishCall(n, &f.call)
	if d.TokenPath == nil {
		r.File.Report(n, "write token path: with the path to it, or reply.text",
			"a login call must say where the token is in the response")
	}
	if d.Send == (login.Send{}) {
		d.Send = login.Send{Header: "Authorization", Scheme: "Bearer"}
	}
	return d
}

// loginCallFile is a login call as it is written: its request has its keys beside those of the login.
type loginCallFile struct {
	login login.LoginCall
	call  asking
}

var loginCallKeys = slices.Concat(
	keysWithin(askKeys, func(f *loginCallFile) *asking { return &f.call }),
	keysWithin(loginCallOwnKeys, func(f *loginCallFile) *login.LoginCall { return &f.login }))

var loginCallOwnKeys = []Key[login.LoginCall]{
	ignoreKind[login.LoginCall](),
	{"token path", "path to the token, or reply.text", func(r *Reader, d *login.LoginCall, n *yamlfile.Node) {
		d.TokenPath = r.Path(n)
	}},
	{
		"expires in", "how long it is good: 300 s, or a path with a unit",
		func(r *Reader, d *login.LoginCall, n *yamlfile.Node) { r.lasts(d, n) },
	},
	{"send", "how it is sent", func(r *Reader, d *login.LoginCall, n *yamlfile.Node) {
		ReadMapping(r, "send", n, &d.Send, sendKeys)
		r.Together(n, keyTogether)
	}},
	{"still good", "the call that verifies it", func(r *Reader, d *login.LoginCall, n *yamlfile.Node) {
		d.StillGood = r.callAlone(n)
	}},
	{"revoke", "the call that ends it", func(r *Reader, d *login.LoginCall, n *yamlfile.Node) {
		d.Revocation = r.callAlone(n)
	}},
}

// loginCall reads a call of a login: its request line alone, or all of it.
func (r *Reader) loginCall(n *yamlfile.Node) (spec *request.Spec, with string) {
	if n.Kind != yamlfile.Mapping {
		return r.requestLine(n), ""
	}
	a := &asking{spec: &request.Spec{}}
	ReadMapping(r, "a login's call", n, a, askKeys)
	return r.finishCall(n, a)
}

// finishCall checks what was read of a call, and the login that goes with it.
func (r *Reader) finishCall(n *yamlfile.Node, a *asking) (spec *request.Spec, with string) {
	r.Together(n, askTogether)
	if a.spec.Address == nil {
		r.File.Report(n, "write request: POST ADDRESS", "the call does not say which request to make")
		a.spec.Address = value.Literal("")
	}
	if a.user != nil || a.password != nil {
		a.spec.Headers = append(a.spec.Headers,
			request.Pair{Name: "Authorization", Value: request.Text(basicTemplate(r, n, a), true)})
	}
	return a.spec, a.with
}

// callAlone reads a call of a login with which no other login goes.
func (r *Reader) callAlone(n *yamlfile.Node) *request.Spec {
	spec, with := r.loginCall(n)
	if with != "" {
		r.File.Report(keyOf(n, "login"), "write it at the first call of the login",
			"login: has no effect at this call of a login")
	}
	return spec
}

func (r *Reader) sessionLogin(n *yamlfile.Node) login.Kind {
	s := &login.Session{}
	ReadMapping(r, "a session login", n, s, sessionKeys)
	r.Together(n, sessionTogether)
	if s.Open == nil && s.Echo == nil {
		r.File.Report(n, "", "a session login needs open: (the call that opens it) or repeat: (a header that is asked for)")
	}
	return s
}

var sessionKeys = []Key[login.Session]{
	ignoreKind[login.Session](),
	{"open", "the call that opens it", func(r *Reader, s *login.Session, n *yamlfile.Node) {
		var with string
		if s.Open, with = r.loginCall(n); with != "" {
			s.With = with
		}
	}},
	{
		"with", "another login that goes with the session's own calls",
		func(r *Reader, s *login.Session, n *yamlfile.Node) { s.With = r.otherLogin(n) },
	},
	{
		"repeat", "a header that is asked for and repeated when writing",
		func(r *Reader, s *login.Session, n *yamlfile.Node) {
			s.Echo = &login.Echo{}
			ReadMapping(r, "repeat", n, s.Echo, echoKeys)
			if s.Echo.Header == "" || s.Echo.Request == nil {
				r.File.Report(n, "write header: NAME and request: GET ADDRESS",
					"repeat must say which header, and where its value is asked for")
				s.Echo = nil
			}
		},
	},
	{"expires in", "how long it is good", func(r *Reader, s *login.Session, n *yamlfile.Node) {
		s.ExpiresIn = r.Duration(n)
	}},
	{"close", "the call that closes it", func(r *Reader, s *login.Session, n *yamlfile.Node) {
		s.Shut = r.callAlone(n)
	}},
}

var echoKeys = []Key[login.Echo]{
	{"header", "the header's name", func(r *Reader, e *login.Echo, n *yamlfile.Node) { e.Header = r.headerName(n) }},
	{"request", "the call whose response gives its value", func(r *Reader, e *login.Echo, n *yamlfile.Node) {
		e.Request = r.callAlone(n)
	}},
	{"value", "what is sent in the header to get it", func(r *Reader, e *login.Echo, n *yamlfile.Node) {
		e.Value = r.PlainText(n)
	}},
}

func (r *Reader) hmacLogin(n *yamlfile.Node) login.Kind {
	h := &login.HMAC{Join: "\n", Hash: "sha256", Encode: "base64"}
	ReadMapping(r, "an hmac login", n, h, hmacKeys)
	r.Together(n, hmacTogether)
	r.need(n, "key", h.Key)
	if len(h.Sign) == 0 || h.Into.Name == "" {
		r.File.Report(n, "write sign: with a list of "+strings.Join(login.SignedParts, ", ")+
			"; and into: header NAME or query NAME",
			"an hmac login must say what is signed, and where the signature goes")
	}
	return h
}

var hmacKeys = []Key[login.HMAC]{
	ignoreKind[login.HMAC](),
	{"sign", "what is signed, in order", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		for _, item := range r.List(n) {
			part, err := login.ParseSignedPart(r.PlainText(item))
			if err != nil {
				r.File.Report(item, "", "%v", err)
			}
			h.Sign = append(h.Sign, part)
		}
	}},
	{"join", "what is between the parts", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		h.Join = r.PlainText(n)
	}},
	{"hash", "sha256, sha384, sha512, sha1, md5", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		if word := r.Choice(n, "hash", "sha256", "sha384", "sha512", "sha1", "md5"); word != "" {
			h.Hash = word
		}
	}},
	{"encode", strings.Join(login.HMACEncodings, ", "), func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		if word := r.Choice(n, "encoding", login.HMACEncodings...); word != "" {
			h.Encode = word
		}
	}},
	{"key", "the shared key, from ${sealed.x}", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		h.Key = r.Secret(n)
	}},
	{
		"key is", "how the key is written: base64, hex; as it is unless said",
		func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
			h.KeyIs = r.Choice(n, "encoding", login.HMACEncodings...)
		},
	},
	{"key id", "the key's name", func(r *Reader, h *login.HMAC, n *yamlfile.Node) { h.KeyID = r.Template(n) }},
	{"id", "where the key's name goes", func(r *Reader, h *login.HMAC, n *yamlfile.Node) { h.ID = r.target(n) }},
	{"into", "where the signature goes: header NAME or query NAME", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		if t := r.target(n); t != nil {
			h.Into = *t
		}
	}},
	{
		"write", "what is written there: ${id}, ${signature}, ${stamp} and ${nonce} stand for those",
		func(r *Reader, h *login.HMAC, n *yamlfile.Node) { h.Write = r.Text(n) },
	},
	{"stamp", "where the time stamp goes", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		if t := r.target(n); t != nil {
			if h.Stamp == nil {
				h.Stamp = &login.Stamp{}
			}
			h.Stamp.Target = *t
		}
	}},
	{"stamp as", strings.Join(login.StampForms, ", "), func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		if h.Stamp == nil {
			h.Stamp = &login.Stamp{}
		}
		h.Stamp.As = r.Choice(n, "form of a time stamp", login.StampForms...)
	}},
	{"nonce", "where a random word goes", func(r *Reader, h *login.HMAC, n *yamlfile.Node) { h.Nonce = r.target(n) }},
	{"body hash", "where the body's hash goes", func(r *Reader, h *login.HMAC, n *yamlfile.Node) {
		h.Body = r.target(n)
	}},
}

// target reads `header NAME` or `query NAME`.
func (r *Reader) target(n *yamlfile.Node) *login.Target {
	in, name, _ := strings.Cut(r.PlainText(n), " ")
	name = strings.TrimSpace(name)
	if in != "header" && in != "query" || name == "" {
		r.File.Report(n, "write header NAME or query NAME", "%q is not a place in a request", r.PlainText(n))
		return nil
	}
	if in == "header" {
		if err := request.CheckHeader(name, ""); err != nil {
			r.File.Report(n, "", "%v", err)
		}
	}
	return &login.Target{In: in, Name: name}
}

func (r *Reader) httpSignatureLogin(n *yamlfile.Node) login.Kind {
	h := &login.HTTPSignature{}
	ReadMapping(r, "an http signature login", n, h, httpSignatureKeys)
	r.Together(n, httpSignatureTogether)
	if h.Shared == nil {
		r.need(n, "key", h.Material.Key)
	}
	if len(h.Cover) == 0 {
		r.File.Report(n, `write cover: with a list like "@method", "@target-uri", content-digest`,
			"an http signature login must say what is covered")
	}
	return h
}

var httpSignatureKeys = slices.Concat([]Key[login.HTTPSignature]{
	ignoreKind[login.HTTPSignature](),
	{"cover", "the components that are covered", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		for _, item := range r.List(n) {
			component, err := httpsign.ParseComponent(r.PlainText(item))
			if err != nil {
				r.File.Report(item, "", "%v", err)
				continue
			}
			h.Cover = append(h.Cover, component)
		}
	}},
	{
		"shared key", "a shared key, from ${sealed.x}, in place of key:",
		func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Shared = r.Secret(n) },
	},
	{"key id", "the key's name", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) { h.KeyID = r.Template(n) }},
	{"algorithm", strings.Join(httpsign.Algorithms, ", "), func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Algorithm = r.Choice(n, "algorithm", httpsign.Algorithms...)
	}},
	{
		"names algorithm", "true: the signature says its algorithm",
		func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) { h.NamesAlgorithm = r.Yes(n) },
	},
	{"label", "the signature's label; sig1 unless said", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Label = r.PlainText(n)
	}},
	{"expires in", "how long it is good", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.ExpiresIn = r.Duration(n)
	}},
	{"nonce", "true: with a random word", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Nonce = r.Yes(n)
	}},
	{"tag", "what the signature is for", func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Tag = r.PlainText(n)
	}},
	{
		"digest", strings.Join(httpsign.Digests, " or ") + ", of the content",
		func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
			h.Digest = r.Choice(n, "digest", httpsign.Digests...)
		},
	},
	{
		"answers", "certificate: or key: of who signs the answers",
		func(r *Reader, h *login.HTTPSignature, n *yamlfile.Node) {
			ReadMapping(r, "answers", n, &h.Answers, materialKeys)
		},
	},
}, inside(materialKeys, func(h *login.HTTPSignature) *login.Material { return &h.Material }))
