package bench

import (
	"slices"
	"strings"
	"time"

	"testbench/internal/login"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

var usernameTokenKeys = []Key[login.UsernameToken]{
	ignoreKind[login.UsernameToken](),
	{"user", "user name", func(r *Reader, u *login.UsernameToken, n *yamlfile.Node) { u.User = r.Template(n) }},
	{"password", "password, from ${sealed.x}", func(r *Reader, u *login.UsernameToken, n *yamlfile.Node) {
		u.Password = r.Secret(n)
	}},
	{"digest", "true: the password is sent as a digest", func(r *Reader, u *login.UsernameToken, n *yamlfile.Node) {
		u.Digest = r.Yes(n)
	}},
	{
		"nonce", "true: with nonce and created beside a password in plain",
		func(r *Reader, u *login.UsernameToken, n *yamlfile.Node) { u.Nonce = r.Yes(n) },
	},
	{
		"stamp", "how long the message's time stamp is good; without it there is none",
		func(r *Reader, u *login.UsernameToken, n *yamlfile.Node) { u.Stamp = r.Duration(n) },
	},
}

var samlKeys = []Key[login.SAML]{
	ignoreKind[login.SAML](),
	{"assertion", "a SAML 2.0 assertion: file or ${sealed.x}", func(r *Reader, s *login.SAML, n *yamlfile.Node) {
		s.Assertion = r.Template(n)
	}},
	{"from", "another login, whose token the assertion is", func(r *Reader, s *login.SAML, n *yamlfile.Node) {
		s.From = r.otherLogin(n)
	}},
	{
		"stamp", "how long the message's time stamp is good; without it there is none",
		func(r *Reader, s *login.SAML, n *yamlfile.Node) { s.Stamp = r.Duration(n) },
	},
}

func (r *Reader) signatureLogin(n *yamlfile.Node) login.Kind {
	s := &login.Signature{Stamp: 5 * time.Minute}
	ReadMapping(r, "a signature login", n, s, signatureKeys)
	r.Together(n, signatureTogether)
	if s.Material.IsSet() && len(s.Sign) == 0 {
		s.Sign = []string{"body"}
		if s.Stamp > 0 {
			s.Sign = append(s.Sign, "time stamp")
		}
	}
	switch {
	case !s.Material.IsSet() && s.Encrypt == nil:
		r.File.Report(n, "write certificate: and key: to sign, or encrypt:", "a signature login must sign or encrypt")
	case s.Material.IsSet() && s.Reference == "assertion":
		r.need(n, "key", s.Material.Key)
	case s.Material.IsSet():
		r.need(n, "certificate", s.Material.Certificate)
	}
	return s
}

// texts reads a list of texts.
func (r *Reader) texts(n *yamlfile.Node) []string {
	var all []string
	for _, item := range r.List(n) {
		all = append(all, r.PlainText(item))
	}
	return all
}

var signatureKeys = slices.Concat([]Key[login.Signature]{
	ignoreKind[login.Signature](),
	{
		"sign", "what is signed: body, time stamp, user, token, assertion, or the name of a header block",
		func(r *Reader, s *login.Signature, n *yamlfile.Node) {
			s.Sign = r.texts(n)
		},
	},
	{
		"reference", "how the message names the key: " + strings.Join(wssecurity.References, ", "),
		func(r *Reader, s *login.Signature, n *yamlfile.Node) {
			s.Reference = r.Choice(n, "reference", wssecurity.References...)
		},
	},
	{
		"algorithm", strings.Join(wssecurity.SignatureAlgorithms, ", "),
		func(r *Reader, s *login.Signature, n *yamlfile.Node) {
			s.Algorithm = r.Choice(n, "algorithm", wssecurity.SignatureAlgorithms...)
		},
	},
	{"digest", "sha256 or sha1", func(r *Reader, s *login.Signature, n *yamlfile.Node) {
		s.Digest = r.Choice(n, "digest", "sha256", "sha1")
	}},
	{
		"inclusive", "prefixes that are signed though nothing seems to use them",
		func(r *Reader, s *login.Signature, n *yamlfile.Node) {
			s.Inclusive = r.texts(n)
		},
	},
	{"stamp", "how long the time stamp is good; none for none", func(r *Reader, s *login.Signature, n *yamlfile.Node) {
		if s.Stamp = 0; r.Text(n) != "none" {
			s.Stamp = r.Duration(n)
		}
	}},
	{"encrypt", "what is encrypted, and for whom", func(r *Reader, s *login.Signature, n *yamlfile.Node) {
		s.Encrypt = &login.Encrypting{}
		ReadMapping(r, "encrypt", n, s.Encrypt, encryptingKeys)
		r.need(n, "for", s.Encrypt.For)
		if len(s.Encrypt.Parts) == 0 {
			s.Encrypt.Parts = []string{"body"}
		}
	}},
	{"answers", "how answers must be protected", func(r *Reader, s *login.Signature, n *yamlfile.Node) {
		s.Answers = &login.Answers{}
		ReadMapping(r, "answers", n, s.Answers, answersKeys)
	}},
}, inside(materialKeys, func(s *login.Signature) *login.Material { return &s.Material }))

var encryptingKeys = []Key[login.Encrypting]{
	{"for", "the receiver's certificate: file or ${sealed.x}", func(r *Reader, e *login.Encrypting, n *yamlfile.Node) {
		e.For = r.Template(n)
	}},
	{"parts", "what is encrypted; the body unless said", func(r *Reader, e *login.Encrypting, n *yamlfile.Node) {
		e.Parts = r.texts(n)
	}},
	{"cipher", strings.Join(wssecurity.Ciphers, ", "), func(r *Reader, e *login.Encrypting, n *yamlfile.Node) {
		e.Cipher = r.Choice(n, "cipher", wssecurity.Ciphers...)
	}},
	{
		"transport", "how the key travels: " + strings.Join(wssecurity.KeyTransports, ", "),
		func(r *Reader, e *login.Encrypting, n *yamlfile.Node) {
			e.Transport = r.Choice(n, "way for a key to travel", wssecurity.KeyTransports...)
		},
	},
	{
		"reference", "how the receiver's key is named: " + strings.Join(wssecurity.References[:5], ", "),
		func(r *Reader, e *login.Encrypting, n *yamlfile.Node) {
			e.Reference = r.Choice(n, "reference", wssecurity.References[:5]...)
		},
	},
}

var answersKeys = []Key[login.Answers]{
	{
		"certificate", "the certificate of who signs them: file or ${sealed.x}",
		func(r *Reader, a *login.Answers, n *yamlfile.Node) { a.Certificate = r.Template(n) },
	},
	{"ca", "the authority that vouches for who signs them", func(r *Reader, a *login.Answers, n *yamlfile.Node) {
		a.CA = r.Template(n)
	}},
	{"signed", "the parts that must be signed", func(r *Reader, a *login.Answers, n *yamlfile.Node) {
		a.Signed = r.texts(n)
	}},
	{"encrypted", "true: they must be encrypted", func(r *Reader, a *login.Answers, n *yamlfile.Node) {
		a.Encrypted = r.Yes(n)
	}},
	{"confirmed", "true: they must confirm our signature", func(r *Reader, a *login.Answers, n *yamlfile.Node) {
		a.Confirmed = r.Yes(n)
	}},
}
