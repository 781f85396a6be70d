package login

import (
	"slices"
	"strings"

	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

func readOAuth2(r *mapping.Reader, n *yamlfile.Node) Kind {
	o := &OAuth2{Grant: GrantClient}
	mapping.Read(r, "an oauth2 login", n, o, oauth2Keys)
	r.Together(n, oauth2Together)
	r.OnlyBeside(n, "the grant "+o.Grant, oauth2Grants, "grant", o.Grant)
	if o.From == nil && o.Issuer == nil {
		r.File.Report(n, "write from: with the token endpoint's address, or issuer:", "the login does not say from:")
	}
	needs := func(setting string, t *value.Template) {
		if o.Issuer == nil {
			needSettings(r, n, setting, t)
		}
	}
	switch o.Grant {
	case GrantClient:
		if o.ClientAuthentication == "" || o.ClientAuthentication == InBasic || o.ClientAuthentication == InRawBasic ||
			o.ClientAuthentication == InForm {
			needSettings(r, n, "client", o.Client, "client secret", o.ClientSecret)
		}
	case GrantPassword:
		needSettings(r, n, "user", o.User, "password", o.Password)
	case GrantRefresh:
		needSettings(r, n, "refresh token", o.RefreshToken)
	case GrantCode:
		needSettings(r, n, "client", o.Client)
		needs("authorize", o.AuthorizeAt)
	case GrantDevice:
		needSettings(r, n, "client", o.Client)
		needs("device", o.DeviceAt)
	case GrantSAMLBearer:
		needSettings(r, n, "assertion", o.Assertion)
	case GrantJWTBearer:
		if o.Assertion == nil && !o.Material.IsSet() && o.ClientSecret == nil {
			r.File.Report(n, "write key: to have one made, or assertion: with one",
				"a jwt bearer grant needs an assertion")
		}
	case GrantTokenExchange:
		if o.Subject.Token == nil && o.Subject.Login == "" {
			r.File.Report(n, "write subject: with login: NAME or token: ${sealed.x} below it",
				"a token exchange needs a token to begin with")
		}
	}
	switch o.ClientAuthentication {
	case InKeyJWT:
		needSettings(r, n, "client", o.Client, "key", o.Material.Key)
	case InSecretJWT:
		needSettings(r, n, "client", o.Client, "client secret", o.ClientSecret)
	case InCertificate:
		needSettings(r, n, "client", o.Client, "certificate", o.Material.Certificate)
	}
	return o
}

var oauth2Keys = slices.Concat([]mapping.Key[OAuth2]{
	ignoreKind[OAuth2](),
	mapping.NewKey("grant", strings.Join(Grants, ", ")+"; client credentials unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			if word := r.Choice(n, "grant that can be used", Grants...); word != "" {
				o.Grant = word
			}
		}),
	mapping.AddressKey("issuer", "the issuer; its metadata says where its endpoints are",
		func(o *OAuth2) **value.Template { return &o.Issuer }),
	mapping.AddressKey("from", "the token endpoint", func(o *OAuth2) **value.Template { return &o.From }),
	mapping.AddressKey("authorize", "the authorization endpoint",
		func(o *OAuth2) **value.Template { return &o.AuthorizeAt }),
	mapping.AddressKey("device", "the device authorization endpoint",
		func(o *OAuth2) **value.Template { return &o.DeviceAt }),
	mapping.AddressKey("introspection", "the endpoint that verifies",
		func(o *OAuth2) **value.Template { return &o.Introspection }),
	mapping.AddressKey("revocation", "the endpoint that withdraws",
		func(o *OAuth2) **value.Template { return &o.Revocation }),
	mapping.AddressKey("keys", "where the issuer publishes its keys",
		func(o *OAuth2) **value.Template { return &o.KeysAt }),
	mapping.TemplateKey("client", "the client's name", func(o *OAuth2) **value.Template { return &o.Client }),
	mapping.SecretKey("client secret", "its secret, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.ClientSecret }),
	mapping.NewKey("client authentication", strings.Join(ClientWays, ", ")+"; basic unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.ClientAuthentication = r.Choice(n, "place for the client's credentials", ClientWays...)
		}),
	mapping.TemplateKey("certificate", "the client's certificate: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Certificate }),
	mapping.TemplateKey("key", "the client's private key: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Key }),
	mapping.SecretKey("key password", "password of the key, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Material.Password }),
	mapping.TemplateKey("key id", "the key's name at the issuer", func(o *OAuth2) **value.Template { return &o.KeyID }),
	mapping.NewKey("certificate as", "how what is signed names the certificate: x5t, x5t#S256, x5c",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.CertificateAs = r.Choice(n, "way to name a certificate", CertificateForms...)
		}),
	mapping.NewKey(
		"algorithm", "of what is signed; what fits the key unless said",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Algorithm = r.Choice(n, "algorithm", Algorithms...)
		},
	),
	mapping.TemplateKey("user", "user name", func(o *OAuth2) **value.Template { return &o.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Password }),
	mapping.SecretKey("refresh token", "a refresh token, from ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.RefreshToken }),
	mapping.AddressKey("redirect", "where the browser comes back to, on this machine",
		func(o *OAuth2) **value.Template { return &o.Redirect }),
	mapping.TemplateKey("assertion", "an assertion: file or ${sealed.x}",
		func(o *OAuth2) **value.Template { return &o.Assertion }),
	mapping.NewKey("claims", "further claims of the assertion that is made",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Claims = readClaims(r, n)
		}),
	mapping.NewKey("subject", "the token to exchange", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		mapping.Read(r, "subject", n, &o.Subject, sourceKeys)
	}),
	mapping.NewKey("actor", "the token of who acts", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		mapping.Read(r, "actor", n, &o.Actor, sourceKeys)
	}),
	mapping.TemplateKey("requested", "the kind of token asked for",
		func(o *OAuth2) **value.Template { return &o.Requested }),
	mapping.TemplateKey("scope", "the scopes, with spaces between",
		func(o *OAuth2) **value.Template { return &o.Scope }),
	mapping.TemplateKey("audience", "whom the token is for", func(o *OAuth2) **value.Template { return &o.Audience }),
	mapping.NewKey("resource", "the service's address, or a list",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Resource = readTemplates(r, n)
		}),
	mapping.NewKey("details", "what access is asked for: a list of mappings, each with its type",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Details = readDetails(r, n)
		}),
	mapping.YesKey("signed request", "true: the request to the authorization page is signed with key:",
		func(o *OAuth2) *bool { return &o.SignedRequest }),
	mapping.YesKey("signed answer", "true: the answer of the authorization page comes signed, and is checked",
		func(o *OAuth2) *bool { return &o.SignedAnswer }),
	mapping.NewKey("extra", "further parameters", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		o.Extra = r.Values(n, "extra")
	}),
	mapping.NewKey("proof", "dpop: tokens are bound to a key", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		o.Proof = r.Choice(n, "proof", "dpop") != ""
	}),
	mapping.NewKey("revoke", "revoke: the token is withdrawn at the end",
		func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
			o.Revokes = r.Choice(n, "way to revoke", "revoke") != ""
		}),
	mapping.NewKey("send", "where the token goes", func(r *mapping.Reader, o *OAuth2, n *yamlfile.Node) {
		readSend(r, n, &o.Send)
	}),
})

var sourceKeys = []mapping.Key[TokenSource]{
	mapping.SecretKey("token", "a token, from ${sealed.x}", func(s *TokenSource) **value.Template { return &s.Token }),
	mapping.NewKey("login", "another login, whose token is taken",
		func(r *mapping.Reader, s *TokenSource, n *yamlfile.Node) {
			s.Login = readOtherLogin(r, n)
		}),
	mapping.TemplateKey("kind", "access token, id token, jwt, saml2, or an identifier",
		func(s *TokenSource) **value.Template { return &s.Kind }),
}

var oauth2Together = []mapping.Together{
	{Key: "key password", With: []string{"key", "certificate"}},
	{Key: "key id", With: []string{"key", "certificate", "client secret"}},
	{Key: "certificate as", With: []string{"certificate"}},
	{Key: "actor", With: []string{"subject"}},
	{Key: "claims", Without: []string{"assertion"}},
	{Key: "revoke", With: []string{"revocation", "issuer"}},
	{Key: "client authentication", With: []string{"client"}},
	{Key: "signed request", With: []string{"key"}},
	{Key: "signed answer", With: []string{"keys", "issuer"}},
}

// readDetails reads the parts of what is asked for (RFC 9396, 2): each has a type.
func readDetails(r *mapping.Reader, n *yamlfile.Node) *request.Tree {
	if n.Kind != yamlfile.Sequence || len(n.Items) == 0 {
		r.File.Report(n, "write - type: …", "details must be a list of mappings")
		return nil
	}
	for _, item := range n.Items {
		if item.Kind != yamlfile.Mapping || item.Get("type") == nil {
			r.File.Report(item, "", "each of details must be a mapping with a type (RFC 9396, 2)")
		}
	}
	return r.Tree(n)
}

// oauth2Grants are the keys that belong to some grants alone.
var oauth2Grants = map[string][]string{
	"authorize": {GrantCode}, "redirect": {GrantCode}, "device": {GrantDevice},
	"signed request": {GrantCode}, "signed answer": {GrantCode},
	"user": {GrantPassword, GrantJWTBearer}, "password": {GrantPassword},
	"refresh token": {GrantRefresh},
	"assertion":     {GrantSAMLBearer, GrantJWTBearer}, "claims": {GrantJWTBearer},
	"subject": {GrantTokenExchange}, "actor": {GrantTokenExchange},
	"requested": {GrantTokenExchange},
}
