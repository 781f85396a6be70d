package wssecurity

import (
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/keys"
)

const (
	exclusive    = "http://www.w3.org/2001/10/xml-exc-c14n#"
	strTransform = soapMessageSecurity + "#STR-Transform"
)

// canonicalForms are the forms by their identifiers (XML Signature, 6.5; Exclusive
// XML Canonicalization, 4).
var canonicalForms = map[string]document.Canonical{
	exclusive:                  {},
	exclusive + "WithComments": {Comments: true},
	"http://www.w3.org/TR/2001/REC-xml-c14n-20010315":              {Inclusive: true},
	"http://www.w3.org/TR/2001/REC-xml-c14n-20010315#WithComments": {Inclusive: true, Comments: true},
	"http://www.w3.org/2006/12/xml-c14n11":                         {Inclusive: true, Version11: true},
	"http://www.w3.org/2006/12/xml-c14n11#WithComments":            {Inclusive: true, Version11: true, Comments: true},
}

// digests are the hashes by their identifiers (XML Encryption, 5.7; RFC 6931, 2.1).
var digests = map[string]func() hash.Hash{
	ds + "sha1":     sha1.New,
	xenc + "sha256": sha256.New,
	xenc + "sha512": sha512.New,
	"http://www.w3.org/2001/04/xmldsig-more#sha384": sha512.New384,
}

// keyKind is what kind of key an algorithm takes.
type keyKind string

const (
	rsaKey     keyKind = "an RSA key"
	curveKey   keyKind = "a key on a curve"
	sharedKind keyKind = "a shared key"
)

type signatureAlgorithm struct {
	name string
	hash crypto.Hash
	key  keyKind
}

const more = "http://www.w3.org/2001/04/xmldsig-more#"

// signatureAlgorithms are the algorithms by their identifiers (RFC 6931, 2.2 and 2.3).
var signatureAlgorithms = map[string]signatureAlgorithm{
	ds + "rsa-sha1":       {"rsa-sha1", crypto.SHA1, rsaKey},
	more + "rsa-sha256":   {"rsa-sha256", crypto.SHA256, rsaKey},
	more + "rsa-sha384":   {"rsa-sha384", crypto.SHA384, rsaKey},
	more + "rsa-sha512":   {"rsa-sha512", crypto.SHA512, rsaKey},
	more + "ecdsa-sha256": {"ecdsa-sha256", crypto.SHA256, curveKey},
	more + "ecdsa-sha384": {"ecdsa-sha384", crypto.SHA384, curveKey},
	more + "ecdsa-sha512": {"ecdsa-sha512", crypto.SHA512, curveKey},
	ds + "hmac-sha1":      {"hmac-sha1", crypto.SHA1, sharedKind},
	more + "hmac-sha256":  {"hmac-sha256", crypto.SHA256, sharedKind},
}

// SignatureAlgorithms lists the algorithms that can be asked for.
var SignatureAlgorithms = []string{
	"rsa-sha256", "rsa-sha384", "rsa-sha512", "rsa-sha1", "ecdsa-sha256", "ecdsa-sha384", "ecdsa-sha512",
	"hmac-sha256", "hmac-sha1",
}

// IsShared says whether an algorithm signs by a key that both sides have.
func IsShared(algorithm string) bool { return strings.HasPrefix(algorithm, "hmac-") }

// Signing says how a message is signed: by the key of a pair, or by one that both sides have.
type Signing struct {
	Pair   *keys.Pair
	Shared *SharedKey
	// Derived signs by a key that is derived from the shared one.
	Derived bool
	// Parts are body, time stamp, user, token, assertion, reference (the token that the signature refers to,
	// wherever it is) or a header block's local name.
	Parts     []string
	Reference string // of References; empty is token
	Algorithm string // of SignatureAlgorithms; empty takes what fits the key
	// SHA1 makes digests by SHA-1, for old receivers.
	SHA1 bool
	// Inclusive names prefixes that stay in what is signed though not visibly used.
	Inclusive []string
	// Change may change the finished signature's bytes, to spoil it.
	Change func([]byte) []byte
}

// Sign signs the parts and adds the signature (XML Signature 1.0; WS-Security 1.1,
// section 8). It returns what the signature was made over.
func (m *Message) Sign(s Signing) (signed string, err error) {
	uri, err := s.algorithm()
	if err != nil {
		return "", err
	}
	m.secured()
	named, at, err := m.signingKey(&s)
	if err != nil {
		return "", err
	}
	form := with(element(ds, "CanonicalizationMethod"), "Algorithm", exclusive)
	signedInfo := element(ds, "SignedInfo", form, with(element(ds, "SignatureMethod"), "Algorithm", uri))
	value := element(ds, "SignatureValue")
	signature := declareHere(with(element(ds, "Signature", signedInfo, value, element(ds, "KeyInfo", named)), "Id",
		newID("signature")), ds)
	if at == nil {
		m.security.AppendItems(signature)
	} else {
		m.insertAfter(at, signature)
	}
	for _, part := range s.Parts {
		var reference *document.Node
		if part == "reference" {
			reference, err = m.referenceByTransform(named, s)
		} else {
			reference, err = m.referenceTo(part, s)
		}
		if err != nil {
			return "", err
		}
		signedInfo.AppendItems(reference)
	}
	base := document.CanonicalXML(m.Root, signedInfo, document.Canonical{})
	raw, err := s.sign(uri, base)
	if err != nil {
		return "", err
	}
	if s.Change != nil {
		raw = s.Change(raw)
	}
	value.SetItems([]*document.Node{text(base64.StdEncoding.EncodeToString(raw))})
	return string(base), nil
}

// signingKey says which key signs, and after which element the signature stands; nil is the end, for
// nothing was encrypted before. What the key needs in the Security block is put there.
func (m *Message) signingKey(s *Signing) (named, at *document.Node, err error) {
	if s.Shared != nil {
		if s.Derived {
			if s.Shared, err = m.derive(s.Shared, signingSize); err != nil {
				return nil, nil, err
			}
		}
		return s.Shared.reference(), s.Shared.element, nil
	}
	named, token, err := m.keyInfo(*s)
	if err != nil {
		return nil, nil, err
	}
	encrypted := find(m.security, xenc, "EncryptedKey")
	if token == nil && encrypted != nil {
		// Nothing comes before the key that the receiver needs after the signature: a place is made.
		items := m.security.Items()
		if i := slices.Index(items, encrypted); i > 0 {
			return named, items[i-1], nil
		}
		token = find(m.security, wsu, "Timestamp")
		return named, token, nil
	}
	if token != nil {
		m.prepend(token)
	}
	if encrypted == nil {
		return named, nil, nil
	}
	return named, token, nil
}

// referenceTo makes the Reference to a part.
func (m *Message) referenceTo(part string, s Signing) (*document.Node, error) {
	n, err := m.part(part)
	if err != nil {
		return nil, err
	}
	if refersByXOP(n) {
		return nil, fmt.Errorf("%s refers to an attachment by XOP, and what is signed must be in the envelope: "+
			"send the file inside, or attach it without XOP", part)
	}
	return m.reference(n, "part", s), nil
}

// refersByXOP says whether a content is outside of the envelope.
func refersByXOP(n *document.Node) bool {
	if n.Name().Space == "http://www.w3.org/2004/08/xop/include" && n.Name().Local == "Include" {
		return true
	}
	return slices.ContainsFunc(n.Items(), func(item *document.Node) bool {
		return item.Kind == document.Element && refersByXOP(item)
	})
}

// part finds what is to be signed or encrypted.
func (m *Message) part(name string) (*document.Node, error) {
	var found *document.Node
	switch name {
	case "body":
		return m.body, nil
	case "time stamp":
		found = find(m.security, wsu, "Timestamp")
	case "user":
		found = find(m.security, wsse, "UsernameToken")
	case "token":
		found = find(m.security, wsse, "BinarySecurityToken")
	case "assertion":
		found = m.assertion()
	case "signature":
		found = find(m.security, ds, "Signature")
	default:
		_, local, ok := strings.Cut(name, ":")
		if !ok {
			local = name
		}
		if m.header != nil {
			found = m.header.Child(local)
		}
	}
	if found == nil {
		var there []string
		if m.header != nil {
			for _, block := range m.header.Children() {
				there = append(there, block.Name().Local)
			}
		}
		return nil, fmt.Errorf("there is no %s to sign or encrypt; the header has: %s", name, strings.Join(there, ", "))
	}
	return found, nil
}

// reference makes a Reference to an element with its digest.
func (m *Message) reference(n *document.Node, what string, s Signing) *document.Node {
	id := identify(n, what)
	transform := with(element(ds, "Transform"), "Algorithm", exclusive)
	if len(s.Inclusive) > 0 {
		list := document.NewElement(document.Name{Space: exclusive, Prefix: "ec", Local: "InclusiveNamespaces"})
		list.SetAttributes([]document.Attribute{declaration("ec", exclusive)})
		transform.AppendItems(with(list, "PrefixList", strings.Join(s.Inclusive, " ")))
	}
	return s.reference(id, transform, document.CanonicalXML(m.Root, n, document.Canonical{Prefixes: s.Inclusive}))
}

// referenceByTransform makes a Reference to the token that a SecurityTokenReference names.
func (m *Message) referenceByTransform(named *document.Node, s Signing) (*document.Node, error) {
	if named.Name().Local != "SecurityTokenReference" {
		return nil, errors.New("what is signed has reference: no SecurityTokenReference says which key signs")
	}
	ids, _ := m.ids()
	trust := Trust{}
	if s.Pair != nil {
		trust.Certificates = s.Pair.Chain
	}
	token, _, err := m.dereferenced(named, document.Canonical{}, trust, ids)
	if err != nil {
		return nil, err
	}
	transform := with(element(ds, "Transform", element(wsse, "TransformationParameters",
		with(element(ds, "CanonicalizationMethod"), "Algorithm", exclusive))), "Algorithm", strTransform)
	return s.reference(identify(named, "reference"), transform, token), nil
}

// reference makes a Reference to what has an id, with the digest of its canonical form.
func (s Signing) reference(id string, transform *document.Node, canonical []byte) *document.Node {
	digest, newHash := xenc+"sha256", sha256.New
	if s.SHA1 {
		digest, newHash = ds+"sha1", sha1.New
	}
	h := newHash()
	h.Write(canonical)
	return with(element(ds, "Reference",
		element(ds, "Transforms", transform),
		with(element(ds, "DigestMethod"), "Algorithm", digest),
		element(ds, "DigestValue", text(base64.StdEncoding.EncodeToString(h.Sum(nil)))),
	), "URI", "#"+id)
}

func (s Signing) algorithm() (string, error) {
	kind, name, of := sharedKind, "hmac-sha256", "a shared key"
	if s.Shared == nil {
		if s.Pair == nil || s.Pair.Key == nil {
			return "", errors.New("there is no private key to sign with")
		}
		of = keys.Describe(s.Pair.Key.Public())
		switch s.Pair.Key.Public().(type) {
		case *ecdsa.PublicKey:
			kind, name = curveKey, "ecdsa-sha256"
		case *rsa.PublicKey:
			kind, name = rsaKey, "rsa-sha256"
		default:
			return "", fmt.Errorf("no signature algorithm goes with the key (%s)", of)
		}
	}
	name = cmp.Or(s.Algorithm, name)
	for uri, a := range signatureAlgorithms {
		switch {
		case a.name != name:
		case a.key != kind:
			return "", fmt.Errorf("the algorithm %s does not go with the key (%s)", name, of)
		default:
			return uri, nil
		}
	}
	return "", fmt.Errorf("there is no signature algorithm %q; there are: %s", name,
		strings.Join(SignatureAlgorithms, ", "))
}

func (s Signing) sign(uri string, base []byte) ([]byte, error) {
	a := signatureAlgorithms[uri]
	if s.Shared != nil {
		return macOf(a, s.Shared.secret, base), nil
	}
	h := a.hash.New()
	h.Write(base)
	sum := h.Sum(nil)
	if private, ok := s.Pair.Key.(*ecdsa.PrivateKey); ok {
		r, v, err := ecdsa.Sign(rand.Reader, private, sum)
		if err != nil {
			return nil, err
		}
		// r and s, one after the other (RFC 6931, section 2.3.6), not ASN.1.
		size := (private.Curve.Params().BitSize + 7) / 8
		return append(r.FillBytes(make([]byte, size)), v.FillBytes(make([]byte, size))...), nil
	}
	return s.Pair.Key.Sign(rand.Reader, sum, a.hash)
}

func macOf(a signatureAlgorithm, secret, base []byte) []byte {
	mac := hmac.New(a.hash.New, secret)
	mac.Write(base)
	return mac.Sum(nil)
}
