package sheet

import (
	"slices"
	"strings"

	"testbench/internal/httpsign"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

var digestKeys = []key[login.Digest]{
	ignoreKind[login.Digest](),
	{"user", "user name", func(r *reader, d *login.Digest, n *yamlfile.Node) { d.User = r.template(n) }},
	{"password", "password, from ${sealed.x}", func(r *reader, d *login.Digest, n *yamlfile.Node) { d.Password = r.secret(n) }},
}

var ntlmKeys = []key[login.NTLM]{
	ignoreKind[login.NTLM](),
	{"user", `user name, also as DOMAIN\user`, func(r *reader, k *login.NTLM, n *yamlfile.Node) { k.User = r.template(n) }},
	{"password", "password, from ${sealed.x}", func(r *reader, k *login.NTLM, n *yamlfile.Node) { k.Password = r.secret(n) }},
	{"domain", "the user's domain", func(r *reader, k *login.NTLM, n *yamlfile.Node) { k.Domain = r.template(n) }},
}

func (r *reader) kerberosLogin(n *yamlfile.Node) login.Kind {
	k := &login.Kerberos{}
	readMapping(r, "a kerberos login", n, k, kerberosKeys)
	r.together(n, kerberosTogether)
	if k.Tickets == nil {
		r.need(n, "user", k.User)
		if k.Password == nil && k.KeyTab == nil {
			r.file.Report(n, "write password: ${sealed.x}, keytab: FILE or tickets: FILE", "a kerberos login must say what proves the user")
		}
		if k.Realm == nil && k.Config == nil {
			r.need(n, "realm", k.Realm)
		}
	}
	return k
}

var kerberosKeys = []key[login.Kerberos]{
	ignoreKind[login.Kerberos](),
	{"user", "the user's principal, without the realm", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.User = r.template(n) }},
	{"realm", "the realm", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.Realm = r.template(n) }},
	{"password", "password, from ${sealed.x}", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.Password = r.secret(n) }},
	{"keytab", "file with the user's keys", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.KeyTab = r.template(n) }},
	{"tickets", "file with tickets that were got before", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.Tickets = r.template(n) }},
	{"config", "a krb5.conf of the bench", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.Config = r.template(n) }},
	{"kdc", "host:port of the realm's server", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.KDC = r.template(n) }},
	{"service", "the service's principal; HTTP/host unless said", func(r *reader, k *login.Kerberos, n *yamlfile.Node) { k.Service = r.template(n) }},
}

// materialKeys name a certificate and its key.
var materialKeys = []key[login.Material]{
	{"certificate", "file (PEM, PKCS#12) or ${sealed.x} with PEM text", func(r *reader, m *login.Material, n *yamlfile.Node) { m.Certificate = r.template(n) }},
	{"key", "its private key: file or ${sealed.x}; left out where it stands beside the certificate", func(r *reader, m *login.Material, n *yamlfile.Node) { m.Key = r.template(n) }},
	{"password", "password of the key, from ${sealed.x}", func(r *reader, m *login.Material, n *yamlfile.Node) { m.Password = r.secret(n) }},
}

// inside makes keys of a part into keys of the whole.
func inside[W, P any](keys []key[P], part func(*W) *P) []key[W] {
	var all []key[W]
	for _, k := range keys {
		all = append(all, key[W]{k.name, k.holds, func(r *reader, w *W, n *yamlfile.Node) { k.read(r, part(w), n) }})
	}
	return all
}

// otherLogin reads the name of another login; that it exists is checked with the
// whole bench.
func (r *reader) otherLogin(n *yamlfile.Node) string {
	name := r.plainText(n)
	if r.logins != nil {
		*r.logins = append(*r.logins, loginName{name, n})
	}
	return name
}

func (r *reader) oauth2Login(n *yamlfile.Node) login.Kind {
	o := &login.OAuth2{Grant: login.GrantClient}
	readMapping(r, "an oauth2 login", n, o, oauth2Keys)
	r.together(n, oauth2Together)
	r.onlyBeside(n, "the grant "+o.Grant, oauth2Grants, "grant", o.Grant)
	if o.From == nil && o.Issuer == nil {
		r.file.Report(n, "write from: with the token endpoint's address, or issuer:", "the login does not say from:")
	}
	needs := func(setting string, t *value.Template) {
		if o.Issuer == nil {
			r.need(n, setting, t)
		}
	}
	switch o.Grant {
	case login.GrantClient:
		if o.ClientIn == "" || o.ClientIn == login.InBasic || o.ClientIn == login.InForm {
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
			r.file.Report(n, "write key: to have one made, or assertion: with one", "a jwt bearer grant needs an assertion")
		}
	case login.GrantTokenExchange:
		if o.Subject.Token == nil && o.Subject.Login == "" {
			r.file.Report(n, "write subject: with login: NAME or token: ${sealed.x} below it", "a token exchange needs a token to begin with")
		}
	}
	switch o.ClientIn {
	case login.InKeyJWT:
		r.need(n, "client", o.Client, "key", o.Material.Key)
	case login.InSecretJWT:
		r.need(n, "client", o.Client, "client secret", o.ClientSecret)
	case login.InCertificate:
		r.need(n, "client", o.Client, "certificate", o.Material.Certificate)
	}
	return o
}

var oauth2Keys = slices.Concat([]key[login.OAuth2]{
	ignoreKind[login.OAuth2](),
	{"grant", strings.Join(login.Grants, ", "), func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		if word := r.choice(n, "grant that can be used", login.Grants...); word != "" {
			o.Grant = word
		}
	}},
	{"issuer", "the issuer; its metadata says where its endpoints are", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Issuer = r.address(n) }},
	{"from", "the token endpoint", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.From = r.address(n) }},
	{"authorize", "the authorization endpoint", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.AuthorizeAt = r.address(n) }},
	{"device", "the device authorization endpoint", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.DeviceAt = r.address(n) }},
	{"introspection", "the endpoint that verifies", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Introspection = r.address(n) }},
	{"revocation", "the endpoint that withdraws", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Revocation = r.address(n) }},
	{"keys", "where the issuer publishes its keys", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.KeysAt = r.address(n) }},
	{"client", "the client's name", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Client = r.template(n) }},
	{"client secret", "its secret, from ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.ClientSecret = r.secret(n) }},
	{"client in", strings.Join(login.ClientWays, ", "), func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		o.ClientIn = r.choice(n, "place for the client's credentials", login.ClientWays...)
	}},
	{"certificate", "the client's certificate: file or ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Material.Certificate = r.template(n) }},
	{"key", "the client's private key: file or ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Material.Key = r.template(n) }},
	{"key password", "password of the key, from ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Material.Password = r.secret(n) }},
	{"key id", "the key's name at the issuer", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.KeyID = r.template(n) }},
	{"algorithm", "of what is signed; what fits the key unless said", func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Algorithm = r.choice(n, "algorithm", login.Algorithms...)
	}},
	{"user", "user name", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.User = r.template(n) }},
	{"password", "password, from ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Password = r.secret(n) }},
	{"refresh token", "a refresh token, from ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.RefreshToken = r.secret(n) }},
	{"redirect", "where the browser comes back to, on this machine", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Redirect = r.address(n) }},
	{"assertion", "an assertion: file or ${sealed.x}", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Assertion = r.template(n) }},
	{"claims", "further claims of the assertion that is made", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Claims = r.pairs(n, "claims") }},
	{"subject", "the token to exchange", func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		readMapping(r, "subject", n, &o.Subject, sourceKeys)
	}},
	{"actor", "the token of who acts", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { readMapping(r, "actor", n, &o.Actor, sourceKeys) }},
	{"requested", "the kind of token asked for", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Requested = r.template(n) }},
	{"scope", "the scopes, with blanks between", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Scope = r.template(n) }},
	{"audience", "whom the token is for", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Audience = r.template(n) }},
	{"resource", "the service's address, or a list", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Resource = r.templates(n) }},
	{"extra", "further parameters", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Extra = r.pairs(n, "extra") }},
	{"proof", "dpop: tokens are bound to a key", func(r *reader, o *login.OAuth2, n *yamlfile.Node) { o.Proof = r.choice(n, "proof", "dpop") != "" }},
	{"give back", "revoke: the token is withdrawn at the end", func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		o.Revoke = r.choice(n, "way to give back", "revoke") != ""
	}},
	{"send", "where the token goes", func(r *reader, o *login.OAuth2, n *yamlfile.Node) {
		readMapping(r, "send", n, &o.Send, sendKeys)
		r.together(n, keyTogether)
	}},
})

var sourceKeys = []key[login.TokenSource]{
	{"token", "a token, from ${sealed.x}", func(r *reader, s *login.TokenSource, n *yamlfile.Node) { s.Token = r.secret(n) }},
	{"login", "another login, whose token is taken", func(r *reader, s *login.TokenSource, n *yamlfile.Node) { s.Login = r.otherLogin(n) }},
	{"kind", "access token, id token, jwt, saml2, or an identifier", func(r *reader, s *login.TokenSource, n *yamlfile.Node) { s.Kind = r.template(n) }},
}

// templates reads a text or a list of texts.
func (r *reader) templates(n *yamlfile.Node) []*value.Template {
	if n.Kind != yamlfile.Sequence {
		return []*value.Template{r.template(n)}
	}
	var all []*value.Template
	for _, item := range n.Items {
		all = append(all, r.template(item))
	}
	return all
}

func (r *reader) deskLogin(n *yamlfile.Node) login.Kind {
	d := &login.Desk{}
	readMapping(r, "a desk login", n, d, deskKeys)
	if d.Ask == nil || d.TokenAt == nil {
		r.file.Report(n, "", "a desk login needs ask: (the login call) and token at: (where the token stands in the reply)")
		if d.Ask == nil {
			d.Ask = &request.Spec{Address: value.Literal("")}
		}
	}
	if d.Send == (login.Send{}) {
		d.Send = login.Send{Header: "Authorization", Word: "Bearer"}
	}
	return d
}

var deskKeys = []key[login.Desk]{
	ignoreKind[login.Desk](),
	{"ask", "the login call", func(r *reader, d *login.Desk, n *yamlfile.Node) { d.Ask, d.With = r.loginCall(n) }},
	{"token at", "path to the token, or reply.text", func(r *reader, d *login.Desk, n *yamlfile.Node) { d.TokenAt = r.path(n) }},
	{"lasts", "how long it is good: 300 s, or a path with a unit", func(r *reader, d *login.Desk, n *yamlfile.Node) { r.lasts(d, n) }},
	{"send", "how it is sent", func(r *reader, d *login.Desk, n *yamlfile.Node) {
		readMapping(r, "send", n, &d.Send, sendKeys)
		r.together(n, keyTogether)
	}},
	{"still good", "the call that verifies it", func(r *reader, d *login.Desk, n *yamlfile.Node) { d.StillGood = r.callAlone(n) }},
	{"give back", "the call that ends it", func(r *reader, d *login.Desk, n *yamlfile.Node) { d.Return = r.callAlone(n) }},
}

// loginCall reads a call of a login: its request line alone, or all of it.
func (r *reader) loginCall(n *yamlfile.Node) (spec *request.Spec, with string) {
	if n.Kind != yamlfile.Mapping {
		return r.requestLine(n), ""
	}
	a := &asking{spec: &request.Spec{}}
	readMapping(r, "a login's call", n, a, askKeys)
	r.together(n, askTogether)
	if a.spec.Address == nil {
		r.file.Report(n, "write request: POST ADDRESS", "the call does not say which request to make")
		a.spec.Address = value.Literal("")
	}
	if a.user != nil || a.password != nil {
		a.spec.Headers = append(a.spec.Headers, request.Pair{Name: "Authorization", Value: request.Text(basicTemplate(r, n, a), true)})
	}
	return a.spec, a.with
}

// callAlone reads a call of a login with which no other login goes.
func (r *reader) callAlone(n *yamlfile.Node) *request.Spec {
	spec, with := r.loginCall(n)
	if with != "" {
		r.file.Report(keyOf(n, "login"), "write it at the first call of the login", "login: has no effect at this call of a login")
	}
	return spec
}

func (r *reader) sessionLogin(n *yamlfile.Node) login.Kind {
	s := &login.Session{}
	readMapping(r, "a session login", n, s, sessionKeys)
	r.together(n, sessionTogether)
	if s.Open == nil && s.Echo == nil {
		r.file.Report(n, "", "a session login needs open: (the call that opens it) or repeat: (a header that is asked for)")
	}
	return s
}

var sessionKeys = []key[login.Session]{
	ignoreKind[login.Session](),
	{"open", "the call that opens it", func(r *reader, s *login.Session, n *yamlfile.Node) {
		var with string
		if s.Open, with = r.loginCall(n); with != "" {
			s.With = with
		}
	}},
	{"with", "another login that goes with the session's own calls", func(r *reader, s *login.Session, n *yamlfile.Node) { s.With = r.otherLogin(n) }},
	{"repeat", "a header that is asked for and repeated when writing", func(r *reader, s *login.Session, n *yamlfile.Node) {
		s.Echo = &login.Echo{}
		readMapping(r, "repeat", n, s.Echo, echoKeys)
		if s.Echo.Header == "" || s.Echo.Ask == nil {
			r.file.Report(n, "write header: NAME and ask: GET ADDRESS", "repeat must say which header, and where its value is asked for")
			s.Echo = nil
		}
	}},
	{"lasts", "how long it is good", func(r *reader, s *login.Session, n *yamlfile.Node) { s.Lasts = r.duration(n) }},
	{"close", "the call that closes it", func(r *reader, s *login.Session, n *yamlfile.Node) { s.Shut = r.callAlone(n) }},
}

var echoKeys = []key[login.Echo]{
	{"header", "the header's name", func(r *reader, e *login.Echo, n *yamlfile.Node) { e.Header = r.headerName(n) }},
	{"ask", "the call whose answer gives its value", func(r *reader, e *login.Echo, n *yamlfile.Node) { e.Ask = r.callAlone(n) }},
	{"word", "what is sent in the header to ask", func(r *reader, e *login.Echo, n *yamlfile.Node) { e.Word = r.plainText(n) }},
}

func (r *reader) hmacLogin(n *yamlfile.Node) login.Kind {
	h := &login.HMAC{Join: "\n", Hash: "sha256", Encode: "base64"}
	readMapping(r, "an hmac login", n, h, hmacKeys)
	r.together(n, hmacTogether)
	r.need(n, "key", h.Key)
	if len(h.Sign) == 0 || h.Into.Name == "" {
		r.file.Report(n, "write sign: with a list of "+strings.Join(login.SignedParts, ", ")+"; and into: header NAME or query NAME", "an hmac login must say what is signed, and where the signature goes")
	}
	return h
}

var hmacKeys = []key[login.HMAC]{
	ignoreKind[login.HMAC](),
	{"sign", "what is signed, in order", func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		for _, item := range r.items(n, "sign") {
			part, err := login.ParseSignedPart(r.plainText(item))
			if err != nil {
				r.file.Report(item, "", "%v", err)
			}
			h.Sign = append(h.Sign, part)
		}
	}},
	{"join", "what stands between the parts", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.Join = r.plainText(n) }},
	{"hash", "sha256, sha384, sha512, sha1, md5", func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		if word := r.choice(n, "hash", "sha256", "sha384", "sha512", "sha1", "md5"); word != "" {
			h.Hash = word
		}
	}},
	{"encode", strings.Join(login.HMACEncodings, ", "), func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		if word := r.choice(n, "encoding", login.HMACEncodings...); word != "" {
			h.Encode = word
		}
	}},
	{"key", "the shared key, from ${sealed.x}", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.Key = r.secret(n) }},
	{"key is", "how the key is written: base64, hex; as it is unless said", func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		h.KeyIs = r.choice(n, "encoding", login.HMACEncodings...)
	}},
	{"key id", "the key's name", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.KeyID = r.template(n) }},
	{"id", "where the key's name goes", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.ID = r.target(n) }},
	{"into", "where the signature goes: header NAME or query NAME", func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		if t := r.target(n); t != nil {
			h.Into = *t
		}
	}},
	{"write", "what is written there: ${id}, ${signature}, ${stamp} and ${nonce} stand for those", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.Write = r.text(n) }},
	{"stamp", "where the time stamp goes", func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		if t := r.target(n); t != nil {
			if h.Stamp == nil {
				h.Stamp = &login.Stamp{}
			}
			h.Stamp.Target = *t
		}
	}},
	{"stamp as", strings.Join(login.StampForms, ", "), func(r *reader, h *login.HMAC, n *yamlfile.Node) {
		if h.Stamp == nil {
			h.Stamp = &login.Stamp{}
		}
		h.Stamp.As = r.choice(n, "form of a time stamp", login.StampForms...)
	}},
	{"nonce", "where a random word goes", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.Nonce = r.target(n) }},
	{"body hash", "where the body's hash goes", func(r *reader, h *login.HMAC, n *yamlfile.Node) { h.Body = r.target(n) }},
}

// items reads a list.
func (r *reader) items(n *yamlfile.Node, what string) []*yamlfile.Node {
	if n.Kind != yamlfile.Sequence {
		r.file.Report(n, "write a list: each item on a line of its own that begins with -", "%s must be a list, and is %s", what, n.Kind)
		return nil
	}
	return n.Items
}

// target reads `header NAME` or `query NAME`.
func (r *reader) target(n *yamlfile.Node) *login.Target {
	in, name, _ := strings.Cut(r.plainText(n), " ")
	name = strings.TrimSpace(name)
	if in != "header" && in != "query" || name == "" {
		r.file.Report(n, "write header NAME or query NAME", "%q is no place in a request", r.plainText(n))
		return nil
	}
	if in == "header" {
		if err := request.CheckHeader(name, ""); err != nil {
			r.file.Report(n, "", "%v", err)
		}
	}
	return &login.Target{In: in, Name: name}
}

func (r *reader) httpSignatureLogin(n *yamlfile.Node) login.Kind {
	h := &login.HTTPSignature{}
	readMapping(r, "an http signature login", n, h, httpSignatureKeys)
	r.together(n, httpSignatureTogether)
	if h.Shared == nil {
		r.need(n, "key", h.Material.Key)
	}
	if len(h.Cover) == 0 {
		r.file.Report(n, `write cover: with a list like "@method", "@target-uri", content-digest`, "an http signature login must say what is covered")
	}
	return h
}

var httpSignatureKeys = slices.Concat([]key[login.HTTPSignature]{
	ignoreKind[login.HTTPSignature](),
	{"cover", "the components that are covered", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) {
		for _, item := range r.items(n, "cover") {
			component, err := httpsign.ParseComponent(r.plainText(item))
			if err != nil {
				r.file.Report(item, "", "%v", err)
				continue
			}
			h.Cover = append(h.Cover, component)
		}
	}},
	{"shared key", "a shared key, from ${sealed.x}, in place of key:", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Shared = r.secret(n) }},
	{"key id", "the key's name", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.KeyID = r.template(n) }},
	{"algorithm", strings.Join(httpsign.Algorithms, ", "), func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Algorithm = r.choice(n, "algorithm", httpsign.Algorithms...)
	}},
	{"names algorithm", "true: the signature says its algorithm", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.NamesAlgorithm = r.yes(n) }},
	{"label", "the signature's label; sig1 unless said", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Label = r.plainText(n) }},
	{"lasts", "how long it is good", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Lasts = r.duration(n) }},
	{"nonce", "true: with a random word", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Nonce = r.yes(n) }},
	{"tag", "what the signature is for", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) { h.Tag = r.plainText(n) }},
	{"digest", strings.Join(httpsign.Digests, " or ") + ", of the content", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) {
		h.Digest = r.choice(n, "digest", httpsign.Digests...)
	}},
	{"answers", "certificate: or key: of who signs the answers", func(r *reader, h *login.HTTPSignature, n *yamlfile.Node) {
		readMapping(r, "answers", n, &h.Answers, materialKeys)
	}},
}, inside(materialKeys, func(h *login.HTTPSignature) *login.Material { return &h.Material }))
