package wssecurity

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/keys"
)

const exclusive = "http://www.w3.org/2001/10/xml-exc-c14n#"

// canonicalForms are the forms by their identifiers (XML Signature, 6.5; Exclusive
// XML Canonicalization, 4).
var canonicalForms = map[string]document.Canonical{
	exclusive:                  {},
	exclusive + "WithComments": {Comments: true},
	"http://www.w3.org/TR/2001/REC-xml-c14n-20010315":              {Inclusive: true},
	"http://www.w3.org/TR/2001/REC-xml-c14n-20010315#WithComments": {Inclusive: true, Comments: true},
}

// digests are the hashes by their identifiers (XML Encryption, 5.7; RFC 6931, 2.1).
var digests = map[string]func() hash.Hash{
	ds + "sha1":     sha1.New,
	xenc + "sha256": sha256.New,
	xenc + "sha512": sha512.New,
	"http://www.w3.org/2001/04/xmldsig-more#sha384": sha512.New384,
}

type signatureAlgorithm struct {
	name  string
	hash  crypto.Hash
	curve bool
}

// signatureAlgorithms are the algorithms by their identifiers (RFC 6931, 2.3).
var signatureAlgorithms = map[string]signatureAlgorithm{
	ds + "rsa-sha1": {"rsa-sha1", crypto.SHA1, false},
	"http://www.w3.org/2001/04/xmldsig-more#rsa-sha256":   {"rsa-sha256", crypto.SHA256, false},
	"http://www.w3.org/2001/04/xmldsig-more#rsa-sha384":   {"rsa-sha384", crypto.SHA384, false},
	"http://www.w3.org/2001/04/xmldsig-more#rsa-sha512":   {"rsa-sha512", crypto.SHA512, false},
	"http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256": {"ecdsa-sha256", crypto.SHA256, true},
	"http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384": {"ecdsa-sha384", crypto.SHA384, true},
	"http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha512": {"ecdsa-sha512", crypto.SHA512, true},
}

// SignatureAlgorithms lists the algorithms that can be asked for.
var SignatureAlgorithms = []string{
	"rsa-sha256", "rsa-sha384", "rsa-sha512", "rsa-sha1", "ecdsa-sha256", "ecdsa-sha384",
	"ecdsa-sha512",
}

// References lists the ways in which a message says which key signed it (X.509
// Token Profile 1.1, section 3.2; SAML Token Profile 1.1, 3.4): the certificate
// as a token of the header, its issuer and number, its key identifier, its
// thumbprint, the certificate itself, or the assertion in the header.
var References = []string{"token", "issuer", "key identifier", "thumbprint", "certificate", "assertion"}

// Signing says how a message is signed.
type Signing struct {
	Pair      *keys.Pair
	Parts     []string // body, time stamp, user, token, assertion, or a header block's local name
	Reference string   // of References; empty is token
	Algorithm string   // of SignatureAlgorithms; empty takes what fits the key
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
	info, err := m.keyInfo(s)
	if err != nil {
		return "", err
	}
	form := element(ds, "CanonicalizationMethod")
	with(form, "Algorithm", exclusive)
	signedInfo := element(ds, "SignedInfo", form, with(element(ds, "SignatureMethod"), "Algorithm", uri))
	for _, part := range s.Parts {
		n, err := m.part(part)
		if err != nil {
			return "", err
		}
		if refersByXOP(n) {
			return "", fmt.Errorf("%s refers to an attachment by XOP, and what is signed must be in the envelope: "+
				"send the file inside, or attach it without XOP", part)
		}
		signedInfo.AppendItems(m.reference(n, "part", s))
	}
	value := element(ds, "SignatureValue")
	signature := declareHere(with(element(ds, "Signature", signedInfo, value, info), "Id", newID("signature")), ds)
	m.security.AppendItems(signature)
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
		found = find(m.security, saml2, "Assertion")
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
	digest, newHash := xenc+"sha256", sha256.New
	if s.SHA1 {
		digest, newHash = ds+"sha1", sha1.New
	}
	transform := with(element(ds, "Transform"), "Algorithm", exclusive)
	how := document.Canonical{Prefixes: s.Inclusive}
	if len(s.Inclusive) > 0 {
		list := document.NewElement(document.Name{Space: exclusive, Prefix: "ec", Local: "InclusiveNamespaces"})
		list.SetAttributes([]document.Attribute{declaration("ec", exclusive)})
		transform.AppendItems(with(list, "PrefixList", strings.Join(s.Inclusive, " ")))
	}
	h := newHash()
	h.Write(document.CanonicalXML(m.Root, n, how))
	return with(element(ds, "Reference",
		element(ds, "Transforms", transform),
		with(element(ds, "DigestMethod"), "Algorithm", digest),
		element(ds, "DigestValue", text(base64.StdEncoding.EncodeToString(h.Sum(nil)))),
	), "URI", "#"+id)
}

func (s Signing) algorithm() (string, error) {
	if s.Pair == nil || s.Pair.Key == nil {
		return "", errors.New("there is no private key to sign with")
	}
	_, curve := s.Pair.Key.Public().(*ecdsa.PublicKey)
	name := s.Algorithm
	if name == "" {
		name = map[bool]string{false: "rsa-sha256", true: "ecdsa-sha256"}[curve]
	}
	for uri, a := range signatureAlgorithms {
		if a.name != name {
			continue
		}
		if _, isRSA := s.Pair.Key.Public().(*rsa.PublicKey); a.curve != curve || !a.curve && !isRSA {
			return "", fmt.Errorf("the algorithm %s does not go with the key (%s)", name,
				keys.Describe(s.Pair.Key.Public()))
		}
		return uri, nil
	}
	return "", fmt.Errorf("there is no signature algorithm %q; there are: %s", name,
		strings.Join(SignatureAlgorithms, ", "))
}

func (s Signing) sign(uri string, base []byte) ([]byte, error) {
	a := signatureAlgorithms[uri]
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

// keyInfo says which key signs; the certificate goes into the header where the
// reference is to a token.
func (m *Message) keyInfo(s Signing) (*document.Node, error) {
	how := s.Reference
	if how == "" {
		how = "token"
	}
	if how == "assertion" {
		assertion := find(m.security, saml2, "Assertion")
		if assertion == nil {
			return nil, errors.New("reference: assertion wants a SAML assertion in the header: put a saml login " +
				"before this one")
		}
		id := idOf(assertion)
		reference := declareHere(element(wsse, "SecurityTokenReference",
			with(element(wsse, "KeyIdentifier", text(id)), "ValueType", samlProfile11+"#SAMLID")), wsse11)
		reference.AppendAttributes(document.Attribute{Name: document.Name{
			Space: wsse11, Prefix: "wsse11",
			Local: "TokenType",
		}, Value: samlProfile11 + "#SAMLV2.0"})
		return element(ds, "KeyInfo", reference), nil
	}
	if s.Pair.Leaf() == nil {
		return nil, errors.New("there is no certificate of the key that signs")
	}
	reference, token, err := certificateReference(s.Pair.Leaf(), how)
	if err != nil {
		return nil, err
	}
	if token != nil {
		m.prepend(token)
	}
	return element(ds, "KeyInfo", reference), nil
}

// certificateReference makes a SecurityTokenReference to a certificate, and the
// token that it refers to where it is one.
func certificateReference(certificate *x509.Certificate, how string) (reference, token *document.Node, err error) {
	encode := base64.StdEncoding.EncodeToString
	identifier := func(value []byte, kind string) *document.Node {
		return with(element(wsse, "KeyIdentifier", text(encode(value))), "EncodingType",
			soapMessageSecurity+"#Base64Binary", "ValueType", kind)
	}
	var what *document.Node
	switch how {
	case "token":
		token = with(element(wsse, "BinarySecurityToken", text(encode(certificate.Raw))), "EncodingType",
			soapMessageSecurity+"#Base64Binary", "ValueType", x509Profile+"#X509v3")
		what = with(element(wsse, "Reference"), "URI", "#"+identify(token, "token"), "ValueType", x509Profile+"#X509v3")
	case "issuer":
		issuer, err := distinguishedName(certificate.RawIssuer)
		if err != nil {
			return nil, nil, err
		}
		what = element(ds, "X509Data", element(ds, "X509IssuerSerial",
			element(ds, "X509IssuerName", text(issuer)),
			element(ds, "X509SerialNumber", text(certificate.SerialNumber.String()))))
	case "key identifier":
		if len(certificate.SubjectKeyId) == 0 {
			return nil, nil, errors.New("the certificate has no key identifier: choose another reference")
		}
		what = identifier(certificate.SubjectKeyId, x509Profile+"#X509SubjectKeyIdentifier")
	case "thumbprint":
		sum := sha1.Sum(certificate.Raw)
		what = identifier(sum[:], messageSecurity11+"#ThumbprintSHA1")
	case "certificate":
		what = element(ds, "X509Data", element(ds, "X509Certificate", text(encode(certificate.Raw))))
	default:
		return nil, nil, fmt.Errorf("there is no reference %q; there are: %s", how, strings.Join(References, ", "))
	}
	return element(wsse, "SecurityTokenReference", what), token, nil
}
