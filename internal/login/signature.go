package login

import (
	"context"
	"crypto"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

// Signature signs and encrypts envelopes by X.509 keys, and checks and opens
// those that come back (WS-Security X.509 Certificate Token Profile 1.1).
type Signature struct {
	Material
	KeyFrom   string   // a login whose token came with a key that signs; empty for none
	Derived   bool     // keys for signing and encrypting are derived from the shared one
	Sign      []string // parts; see wssecurity.Signing
	Reference string   // of wssecurity.References
	Algorithm string   // of wssecurity.SignatureAlgorithms
	Digest    string   // sha1 for old receivers
	Inclusive []string
	Stamp     time.Duration // life of the time stamp; 0 for none
	Actor     string        // whom the Security block is for; empty is the receiver
	Encrypt   *Encrypting   // nil: nothing is encrypted
	Answers   *Answers      // nil: answers are checked as far as they are protected
}

// Encrypting says what is encrypted, and for whom.
type Encrypting struct {
	For       *value.Template // the receiver's certificate; nil where the key comes from a login
	First     bool            // it is encrypted, and then signed
	Parts     []string
	Cipher    string
	Transport string
	Reference string
}

// Answers says how answers must be protected.
type Answers struct {
	Certificate *value.Template // who signs them
	CA          *value.Template // or who vouches for the one who does
	Signed      []string        // the parts that must be signed
	Encrypted   bool
	Confirmed   bool // they must confirm the request's signature
}

// signatureMaterial are the keys of a Signature.
type signatureMaterial struct {
	own      *keys.Pair
	from     *Token // of another login, whose key signs; nil for none
	receiver *x509.Certificate
	trust    wssecurity.Trust
}

// Place says that it signs what is in the envelope.
func (s *Signature) Place() Stage { return Signing }

// Obtain reads keys and certificates.
func (s *Signature) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	read := &signatureMaterial{}
	token := &Token{Kind: "signature", Obtained: env.now(), Fixed: true, material: read}
	var err error
	if s.Material.IsSet() {
		if s.Reference == "assertion" {
			read.own, err = s.Material.read(env)
		} else {
			read.own, err = s.Material.identity(env)
		}
		if err != nil {
			return nil, err
		}
		if leaf := read.own.Leaf(); leaf != nil {
			token.User, token.Expires = leaf.Subject.String(), leaf.NotAfter
			if now := env.now(); now.After(leaf.NotAfter) {
				return nil, &Error{Message: fmt.Sprintf("the certificate of %s ended on %s", leaf.Subject,
					leaf.NotAfter.Format("2006-01-02"))}
			}
		}
	}
	certificates := func(what string, t *value.Template) ([]*x509.Certificate, error) {
		data, err := env.piece(what, t)
		if err != nil {
			return nil, err
		}
		all, err := keys.Certificates(data)
		if err != nil {
			return nil, &Error{Message: what + ": " + err.Error()}
		}
		return all, nil
	}
	if s.KeyFrom != "" {
		from, err := env.other(ctx, s.KeyFrom)
		if err != nil {
			return nil, err
		}
		if from.Proof == nil {
			return nil, &Error{
				Message: fmt.Sprintf("the token of the login %s came without a key to sign with", s.KeyFrom),
				Try:     "write key type: shared at that login",
			}
		}
		read.from, token.Fixed, token.Expires = from, false, from.Expires
	}
	if s.Encrypt != nil && s.Encrypt.For != nil {
		all, err := certificates("encrypt for", s.Encrypt.For)
		if err != nil {
			return nil, err
		}
		read.receiver = all[0]
	}
	if s.Answers == nil {
		return token, nil
	}
	if s.Answers.Certificate != nil {
		if read.trust.Certificates, err = certificates("answers certificate", s.Answers.Certificate); err != nil {
			return nil, err
		}
	}
	if s.Answers.CA != nil {
		all, err := certificates("answers ca", s.Answers.CA)
		if err != nil {
			return nil, err
		}
		read.trust.Roots = x509.NewCertPool()
		for _, certificate := range all {
			read.trust.Roots.AddCert(certificate)
		}
	}
	return token, nil
}

// sharesKey says whether one key that both sides have signs and encrypts: made for the message, or of another
// login's token.
func (s *Signature) sharesKey() bool {
	return s.KeyFrom != "" || s.Encrypt != nil && (s.Derived || wssecurity.IsShared(s.Algorithm))
}

// Put signs and encrypts, in the order that is asked for.
func (s *Signature) Put(r *exchange.Request, env *Env, t *Token) error {
	read := t.material.(*signatureMaterial)
	return protect(r, s.Actor, func(m *wssecurity.Message) error {
		if s.Stamp > 0 {
			m.AddTimestamp(env.serverNow(r.URL.Host).Add(t.stampShift()), s.Stamp)
		}
		var encryption wssecurity.Encryption
		if s.Encrypt != nil {
			encryption = wssecurity.Encryption{
				For: read.receiver, Parts: s.Encrypt.Parts, Cipher: s.Encrypt.Cipher, Derived: s.Derived,
				Transport: s.Encrypt.Transport, Reference: s.Encrypt.Reference,
			}
			noteWeak(r, s.Encrypt.Cipher, s.Encrypt.Transport)
		}
		var err error
		switch {
		case s.KeyFrom != "":
			encryption.Shared, err = tokenKey(m, read.from)
		case s.sharesKey():
			encryption.Shared, err = m.NewKey(encryption)
		}
		if err != nil {
			return err
		}
		encrypt := func() error {
			if s.Encrypt == nil {
				return nil
			}
			return m.Encrypt(encryption)
		}
		sign := func() error { return s.sign(m, r, t, encryption.Shared) }
		if s.Encrypt != nil && s.Encrypt.First {
			sign, encrypt = encrypt, sign
		}
		if err := sign(); err != nil {
			return err
		}
		return encrypt()
	})
}

// tokenKey is the key that came with a token which is in the message.
func tokenKey(m *wssecurity.Message, from *Token) (*wssecurity.SharedKey, error) {
	if from.Attached == "" {
		return m.TokenKey(from.Text, from.Proof, nil)
	}
	attached, err := document.ReadXML([]byte(from.Attached), "utf-8")
	if err != nil {
		return nil, fmt.Errorf("how to refer to the token is %w", err)
	}
	return m.TokenKey(from.Text, from.Proof, attached)
}

// noteWeak says of algorithms that are asked for which of them should not be used.
func noteWeak(r *exchange.Request, algorithms ...string) {
	for _, algorithm := range algorithms {
		if why := wssecurity.Weak(algorithm); why != "" {
			r.Notes = append(r.Notes, "WEAK: "+why+": use it only where the service takes no other")
		}
	}
}

// sign signs the parts, by the shared key or by our own.
func (s *Signature) sign(m *wssecurity.Message, r *exchange.Request, t *Token, shared *wssecurity.SharedKey) error {
	if len(s.Sign) == 0 || t.Spoilt == Empty {
		return nil
	}
	signing := wssecurity.Signing{
		Parts: s.Sign, Reference: s.Reference, Algorithm: s.Algorithm, SHA1: s.Digest == "sha1", Inclusive: s.Inclusive,
		Change: t.spoilSignature,
	}
	if s.Material.IsSet() {
		signing.Pair = t.material.(*signatureMaterial).own
	} else {
		signing.Shared, signing.Derived = shared, s.Derived
	}
	signed, err := m.Sign(signing)
	if err == nil {
		r.Signed = append(r.Signed, signed)
	}
	return err
}

// Receive opens the answer, and judges its signature and time stamp.
func (s *Signature) Receive(r *exchange.Request, answer *exchange.Answer, env *Env, t *Token) []Finding {
	start, end := envelopeOf(answer.ContentType(), answer.Body)
	m, err := wssecurity.Parse(answer.Body[start:end])
	if err != nil {
		return nil // no envelope: that is told where the answer is judged
	}
	read := t.material.(*signatureMaterial)
	var findings []Finding
	note := func(subject, expected, got string, passed bool) {
		findings = append(findings, Finding{Subject: subject, Expected: expected, Got: got, Passed: passed})
	}
	expected := s.Answers
	if expected == nil {
		expected = &Answers{}
	}
	isEncrypted := m.IsEncrypted()
	trust := read.trust
	if sent, ok := r.Protected.(*wssecurity.Message); ok {
		trust.Keys = sent.Keys()
	}
	var own crypto.PrivateKey
	if read.own != nil {
		own = read.own.Key
	}
	got := m.Receive(own, trust)
	switch {
	case got.Problem != nil:
		note("encryption of the answer", "one that our key opens", got.Problem.Error(), false)
		return findings
	case isEncrypted:
		note("encryption of the answer", "one that our key opens", "opened: "+strings.Join(got.Opened, ", "), true)
		answer.Body = slices.Concat(answer.Body[:start], m.Bytes(), answer.Body[end:])
	case expected.Encrypted:
		note("encryption of the answer", "an encrypted one", "nothing in it is encrypted", false)
	}
	s.judgeSignatures(m, got.Signatures, expected, r, note)
	if there, err := m.CheckTimestamp(env.serverNow(r.URL.Host)); err != nil {
		note("time stamp of the answer", "one that is valid now", err.Error(), false)
	} else if there {
		note("time stamp of the answer", "one that is valid now", "it does", true)
	}
	return findings
}

func (s *Signature) judgeSignatures(m *wssecurity.Message, signatures []wssecurity.Signature, expected *Answers,
	r *exchange.Request, note func(subject, expected, got string, passed bool),
) {
	const subject = "signature of the answer"
	covered := map[string]bool{}
	for _, one := range signatures {
		switch {
		case one.Problem != nil:
			note(subject, "one that is valid", one.Problem.Error(), false)
			return
		case one.Unknown && s.Answers != nil:
			note(subject, "one by a certificate that is known",
				fmt.Sprintf("it is by %s, and the login names no certificate: or ca: under answers:",
					one.By), false)
			return
		}
		for _, part := range one.Covers {
			covered[part] = true
		}
		got := fmt.Sprintf("by %s, over %s", one.By, strings.Join(one.Covers, ", "))
		if one.Unknown {
			got += "; nothing vouches for that certificate (answers: names one)"
		}
		note(subject, "one that is valid", got, true)
	}
	for _, part := range expected.Signed {
		if !covered[part] {
			got := "it is not signed"
			if len(signatures) == 0 {
				got = "the answer has no signature"
			}
			note(subject, "one over the "+part, got, false)
		}
	}
	if !expected.Confirmed {
		return
	}
	for _, own := range ownSignatures(r) {
		if !slices.Contains(m.Confirmations(), own) {
			note("confirmation of our signature", "SignatureConfirmation with its value",
				"the answer does not confirm it", false)
			return
		}
	}
	note("confirmation of our signature", "SignatureConfirmation with its value", "it does", true)
}

// ownSignatures lists the values of the signatures that were sent.
func ownSignatures(r *exchange.Request) []string {
	start, end := envelopeOf(r.GetHeader("Content-Type"), r.Body)
	m, err := wssecurity.Parse(r.Body[start:end])
	if err != nil {
		return nil
	}
	return m.SignatureValues()
}

func (s *Signature) readsBench() bool { return true }

// spoils says which ways there are.
func (s *Signature) spoils(way string) bool {
	return way == Tampered || way == Empty || way == Expired && s.Stamp > 0
}

// Placeholders lists the placeholders.
func (s *Signature) Placeholders() []*value.Placeholder {
	all := s.Material.placeholders()
	if s.Encrypt != nil {
		all = append(all, placeholders(s.Encrypt.For)...)
	}
	if s.Answers != nil {
		all = append(all, placeholders(s.Answers.Certificate, s.Answers.CA)...)
	}
	return all
}

func readSignature(r *mapping.Reader, n *yamlfile.Node) Kind {
	s := &Signature{Stamp: 5 * time.Minute}
	mapping.Read(r, "a signature login", n, s, signatureKeys)
	r.Together(n, signatureTogether)
	isShared := !s.Material.IsSet() && s.sharesKey()
	if (s.Material.IsSet() || isShared) && len(s.Sign) == 0 {
		s.Sign = []string{"body"}
		if s.Stamp > 0 {
			s.Sign = append(s.Sign, "time stamp")
		}
	}
	s.checkKeys(r, n)
	s.checkShared(r, n, isShared)
	return s
}

// checkKeys reports keys that are missing.
func (s *Signature) checkKeys(r *mapping.Reader, n *yamlfile.Node) {
	switch {
	case !s.Material.IsSet() && s.Encrypt == nil && s.KeyFrom == "":
		r.File.Report(n, "write certificate: and key: to sign, or encrypt:", "a signature login must sign or encrypt")
	case s.Material.IsSet() && (s.Reference == "assertion" || s.Reference == "key value"):
		needSettings(r, n, "key", s.Material.Key)
	case s.Material.IsSet():
		needSettings(r, n, "certificate", s.Material.Certificate)
	}
	if s.Encrypt != nil && s.KeyFrom == "" && s.Encrypt.For == nil {
		needSettings(r, n.Get("encrypt"), "for", s.Encrypt.For)
	}
}

// checkShared reports what has no effect, or cannot be, where one key that both sides have signs, and where none does.
func (s *Signature) checkShared(r *mapping.Reader, n *yamlfile.Node, isShared bool) {
	refuse := func(key, try, format string, args ...any) {
		if at := n.Key(key); at != nil {
			r.File.Report(at, try, format, args...)
		}
	}
	switch {
	case s.Material.IsSet() && wssecurity.IsShared(s.Algorithm):
		refuse("algorithm", "take certificate: and key: out, or choose an algorithm that goes with them",
			"%s signs by the key that is made for the message, not by key:", s.Algorithm)
	case isShared && s.Algorithm != "" && !wssecurity.IsShared(s.Algorithm):
		refuse("algorithm", "there are: hmac-sha256, hmac-sha1", "%s does not go with a shared key", s.Algorithm)
	case isShared:
		refuse("reference", "take it out", "reference: has no effect where a shared key signs")
	case !s.Material.IsSet():
		for _, key := range []string{"sign", "reference", "algorithm", "digest", "inclusive"} {
			refuse(key, "take it out, write certificate: and key:, or algorithm: hmac-sha256 to sign by the key that "+
				"encrypts",
				"%s: has no effect without a key that signs", key)
		}
	}
	if s.KeyFrom != "" && s.Encrypt != nil {
		for _, key := range []string{"for", "transport", "reference"} {
			if at := n.Get("encrypt").Key(key); at != nil {
				r.File.Report(at, "take it out", "%s: has no effect beside key from:", key)
			}
		}
	}
	if s.Encrypt != nil && s.Encrypt.First && len(s.Sign) == 0 {
		r.File.Report(n.Get("encrypt").Key("first"), "take it out", "first: has no effect where nothing is signed")
	}
}

var signatureKeys = slices.Concat([]mapping.Key[Signature]{
	ignoreKind[Signature](),
	mapping.TextsKey("sign",
		"what is signed: body, time stamp, user, token, assertion, reference (the token that says which key signs, "+
			"wherever it is), or the name of a header block",
		func(s *Signature) *[]string { return &s.Sign }),
	mapping.NewKey(
		"reference", "how the message names the key: "+strings.Join(wssecurity.References, ", ")+"; token unless said",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
			s.Reference = r.Choice(n, "reference", wssecurity.References...)
		},
	),
	mapping.NewKey(
		"algorithm", strings.Join(wssecurity.SignatureAlgorithms, ", ")+"; what fits the key unless said",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
			s.Algorithm = r.Choice(n, "algorithm", wssecurity.SignatureAlgorithms...)
		},
	),
	mapping.NewKey("digest", "sha256 or sha1; sha256 unless said",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
			s.Digest = r.Choice(n, "digest", "sha256", "sha1")
		}),
	mapping.TextsKey("inclusive", "prefixes that are signed though nothing seems to use them",
		func(s *Signature) *[]string { return &s.Inclusive }),
	mapping.NewKey("stamp", "how long the time stamp is good, or none; 5 min unless said",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
			if s.Stamp = 0; r.Text(n) != "none" {
				s.Stamp = r.Duration(n)
			}
		}),
	actorKey(func(s *Signature) *string { return &s.Actor }),
	mapping.NewKey("key from", "another login, whose token came with the key that signs and encrypts",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) { s.KeyFrom = readOtherLogin(r, n) }),
	mapping.YesKey("derived keys", "true: signs and encrypts by keys derived from the one that both sides have",
		func(s *Signature) *bool { return &s.Derived }),
	mapping.NewKey("encrypt", "what is encrypted, and for whom",
		func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
			s.Encrypt = &Encrypting{}
			mapping.Read(r, "encrypt", n, s.Encrypt, encryptingKeys)
			if len(s.Encrypt.Parts) == 0 {
				s.Encrypt.Parts = []string{"body"}
			}
		}),
	mapping.NewKey("answers", "how answers must be protected", func(r *mapping.Reader, s *Signature, n *yamlfile.Node) {
		s.Answers = &Answers{}
		mapping.Read(r, "answers", n, s.Answers, answersKeys)
	}),
}, mapping.KeysWithin(materialKeys, func(s *Signature) *Material { return &s.Material }))

var encryptingKeys = []mapping.Key[Encrypting]{
	mapping.TemplateKey("for", "the receiver's certificate: file or ${sealed.x}",
		func(e *Encrypting) **value.Template { return &e.For }),
	mapping.YesKey("first", "true: encrypts first and signs what is encrypted; otherwise it is the other way round",
		func(e *Encrypting) *bool { return &e.First }),
	mapping.TextsKey("parts", "what is encrypted: as for sign, or signature; the body unless said",
		func(e *Encrypting) *[]string { return &e.Parts }),
	mapping.NewKey("cipher", strings.Join(wssecurity.Ciphers, ", ")+"; aes256-gcm unless said",
		func(r *mapping.Reader, e *Encrypting, n *yamlfile.Node) {
			e.Cipher = r.Choice(n, "cipher", wssecurity.Ciphers...)
		}),
	mapping.NewKey(
		"transport", "how the key travels: "+strings.Join(wssecurity.KeyTransports, ", ")+"; rsa-oaep unless said",
		func(r *mapping.Reader, e *Encrypting, n *yamlfile.Node) {
			e.Transport = r.Choice(n, "way for a key to travel", wssecurity.KeyTransports...)
		},
	),
	mapping.NewKey(
		"reference", "how the receiver's key is named: "+strings.Join(wssecurity.CertificateReferences,
			", ")+"; issuer unless said",
		func(r *mapping.Reader, e *Encrypting, n *yamlfile.Node) {
			e.Reference = r.Choice(n, "reference", wssecurity.CertificateReferences...)
		},
	),
}

var answersKeys = []mapping.Key[Answers]{
	mapping.TemplateKey("certificate", "the certificate of who signs them: file or ${sealed.x}",
		func(a *Answers) **value.Template { return &a.Certificate }),
	mapping.TemplateKey("ca", "the authority that vouches for who signs them",
		func(a *Answers) **value.Template { return &a.CA }),
	mapping.TextsKey("signed", "the parts that must be signed", func(a *Answers) *[]string { return &a.Signed }),
	mapping.YesKey("encrypted", "true: they must be encrypted", func(a *Answers) *bool { return &a.Encrypted }),
	mapping.YesKey("confirmed", "true: they must confirm our signature",
		func(a *Answers) *bool { return &a.Confirmed }),
}

var signatureTogether = []mapping.Together{
	{Key: "password", With: []string{"certificate", "key"}},
	{Key: "derived keys", With: []string{"encrypt", "key from"}, Without: []string{"certificate"}},
	{Key: "key from", Without: []string{"certificate", "key"}},
}
