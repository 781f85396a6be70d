package wssecurity

import (
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"testbench/internal/document"
)

func verifyBytes(uri string, public any, base, signature []byte) error {
	a, ok := signatureAlgorithms[uri]
	if !ok {
		return fmt.Errorf("the signature algorithm %q is not known here", uri)
	}
	h := a.hash.New()
	h.Write(base)
	sum := h.Sum(nil)
	switch key := public.(type) {
	case *rsa.PublicKey:
		if !a.curve && rsa.VerifyPKCS1v15(key, a.hash, sum, signature) == nil {
			return nil
		}
	case *ecdsa.PublicKey:
		half := len(signature) / 2
		if a.curve && half > 0 && len(signature) == 2*half && ecdsa.Verify(key, sum,
			new(big.Int).SetBytes(signature[:half]), new(big.Int).SetBytes(signature[half:])) {
			return nil
		}
	}
	return errors.New("the signature does not fit the key")
}

// Trust says whose signatures are accepted.
type Trust struct {
	// Certificates are those of the signers themselves; Roots those that vouch for
	// a signer. Where both are empty any certificate will do, and that is said.
	Certificates []*x509.Certificate
	Roots        *x509.CertPool
}

// Signature is what was found out about one signature of a message.
type Signature struct {
	Signer  *x509.Certificate // nil where the key is not known
	Covers  []string          // what it covers: body, time stamp, … or a local name
	Value   string
	Problem error // why it does not hold; nil where it does
	Unknown bool  // it holds, but nothing vouches for the signer
}

// mostReferences bounds what one signature or key may refer to, and mostSignatures
// how many there may be: each costs a pass over the message.
const (
	mostReferences = 200
	mostSignatures = 20
)

// Verify checks every signature of the header. What it covers is told by the
// place in the envelope, so that a copy of the signed element elsewhere deceives
// nobody.
func (m *Message) Verify(trust Trust) []Signature {
	var all []Signature
	if m.security == nil {
		return nil
	}
	ids, doubled := m.ids()
	for _, item := range m.security.Children() {
		if item.Name().Space == ds && item.Name().Local == "Signature" {
			if len(all) == mostSignatures {
				return append(all, Signature{Problem: fmt.Errorf("there are more than %d signatures", mostSignatures)})
			}
			s := Signature{Value: strings.Join(strings.Fields(ownText(find(item, ds, "SignatureValue"))), "")}
			s.Problem = m.verify(item, &s, trust, ids, doubled)
			all = append(all, s)
		}
	}
	return all
}

func ownText(n *document.Node) string {
	if n == nil {
		return ""
	}
	return n.OwnText()
}

// ids maps the ids of the message to their elements.
func (m *Message) ids() (map[string]*document.Node, string) {
	ids, doubled := map[string]*document.Node{}, ""
	var visit func(*document.Node)
	visit = func(n *document.Node) {
		if id := idOf(n); id != "" {
			if ids[id] != nil {
				doubled = id
			}
			ids[id] = n
		}
		for _, item := range n.Items() {
			if item.Kind == document.Element {
				visit(item)
			}
		}
	}
	visit(m.Root)
	return ids, doubled
}

func algorithmOf(n *document.Node) string {
	if n == nil {
		return ""
	}
	uri, _ := n.Attribute("Algorithm")
	return uri
}

func decode(text string) ([]byte, error) {
	return base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
}

func canonicalOf(method *document.Node) (document.Canonical, error) {
	how, ok := canonicalForms[algorithmOf(method)]
	if !ok {
		return how, fmt.Errorf("the canonical form %q is not known here", algorithmOf(method))
	}
	if list := find(method, exclusive, "InclusiveNamespaces"); list != nil && !how.Inclusive {
		prefixes, _ := list.Attribute("PrefixList")
		how.Prefixes = strings.Fields(prefixes)
	}
	return how, nil
}

func (m *Message) verify(signature *document.Node, out *Signature, trust Trust, ids map[string]*document.Node,
	doubled string,
) error {
	if doubled != "" {
		return fmt.Errorf("the id %q is there twice, so that nobody can say what is signed", doubled)
	}
	info := find(signature, ds, "SignedInfo")
	if info == nil {
		return errors.New("it has no SignedInfo")
	}
	if len(info.Items()) > mostReferences {
		return fmt.Errorf("it covers more than %d parts", mostReferences)
	}
	references := 0
	for _, reference := range info.Children() {
		if reference.Name().Space == ds && reference.Name().Local == "Reference" {
			references++
			covered, err := m.checkReference(reference, ids)
			if err != nil {
				return err
			}
			out.Covers = append(out.Covers, covered)
		}
	}
	if references == 0 {
		return errors.New("it covers nothing")
	}
	var public any
	certificate, err := m.signer(find(signature, ds, "KeyInfo"), trust, ids)
	if err != nil {
		return err
	}
	out.Signer, public = certificate, certificate.PublicKey
	how, err := canonicalOf(find(info, ds, "CanonicalizationMethod"))
	if err != nil {
		return err
	}
	value, err := decode(out.Value)
	if err != nil {
		return errors.New("its value is not Base64")
	}
	if err := verifyBytes(algorithmOf(find(info, ds, "SignatureMethod")), public,
		document.CanonicalXML(m.Root, info, how), value); err != nil {
		return err
	}
	return out.judgeSigner(trust)
}

// judgeSigner says whether somebody vouches for the signer.
func (s *Signature) judgeSigner(trust Trust) error {
	if len(trust.Certificates) == 0 && trust.Roots == nil {
		s.Unknown = true
		return nil
	}
	for _, known := range trust.Certificates {
		if known.Equal(s.Signer) {
			return nil
		}
	}
	if trust.Roots != nil {
		_, err := s.Signer.Verify(x509.VerifyOptions{
			Roots:     trust.Roots,
			KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		})
		if err != nil {
			return fmt.Errorf("the signer %s is not vouched for: %w", s.Signer.Subject, err)
		}
		return nil
	}
	return fmt.Errorf("it was made by %s, whose certificate is not the one expected", s.Signer.Subject)
}

// checkReference recomputes a digest and says what is covered.
func (m *Message) checkReference(reference *document.Node, ids map[string]*document.Node) (string, error) {
	uri, _ := reference.Attribute("URI")
	n := ids[strings.TrimPrefix(uri, "#")]
	if !strings.HasPrefix(uri, "#") || n == nil {
		return "", fmt.Errorf("it covers %q, which is not in the message", uri)
	}
	how := document.Canonical{Inclusive: true} // XML Signature, 4.3.3.2, where no transform says otherwise
	if transforms := find(reference, ds, "Transforms"); transforms != nil {
		for _, transform := range transforms.Children() {
			if algorithmOf(transform) == soapMessageSecurity+"#STR-Transform" {
				return "", errors.New("it dereferences a token (STR-Transform), which is not known here")
			}
			var err error
			if how, err = canonicalOf(transform); err != nil {
				return "", err
			}
		}
	}
	how.Comments = false // a reference #id leaves comments out (XML Signature, 4.3.3.3)
	newHash := digests[algorithmOf(find(reference, ds, "DigestMethod"))]
	if newHash == nil {
		return "", fmt.Errorf("the digest %q is not known here", algorithmOf(find(reference, ds, "DigestMethod")))
	}
	want, err := decode(ownText(find(reference, ds, "DigestValue")))
	if err != nil {
		return "", errors.New("a digest is not Base64")
	}
	h := newHash()
	h.Write(document.CanonicalXML(m.Root, n, how))
	name := m.nameOf(n)
	if subtle.ConstantTimeCompare(h.Sum(nil), want) != 1 {
		return "", fmt.Errorf("the %s was changed after it was signed: its digest is another", name)
	}
	return name, nil
}

// nameOf tells an element by its place, in the words of Signing.Parts.
func (m *Message) nameOf(n *document.Node) string {
	switch {
	case n == m.body:
		return "body"
	case m.security != nil && slices.Contains(m.security.Items(), n):
		switch n.Name().Local {
		case "Timestamp":
			return "time stamp"
		case "UsernameToken":
			return "user"
		case "BinarySecurityToken":
			return "token"
		case "Assertion":
			return "assertion"
		case "SignatureConfirmation":
			return "signature confirmation"
		}
		return n.Name().Local
	case m.header != nil && slices.Contains(m.header.Items(), n):
		return n.Name().Local
	}
	return "element " + n.Name().Local + " somewhere else"
}

// signer finds the certificate whose key is said to have signed.
func (m *Message) signer(info *document.Node, trust Trust, ids map[string]*document.Node) (*x509.Certificate, error) {
	if info == nil {
		if len(trust.Certificates) == 1 {
			return trust.Certificates[0], nil
		}
		return nil, errors.New("it does not say whose key made it (no KeyInfo)")
	}
	reference := find(info, wsse, "SecurityTokenReference")
	if reference == nil {
		reference = info
	}
	if direct := find(reference, wsse, "Reference"); direct != nil {
		uri, _ := direct.Attribute("URI")
		token := ids[strings.TrimPrefix(uri, "#")]
		if token == nil || token.Name().Local != "BinarySecurityToken" {
			return nil, fmt.Errorf("it refers to the token %q, which is not in the message", uri)
		}
		return parseCertificate(ownText(token))
	}
	data := find(reference, ds, "X509Data")
	if inline := find(data, ds, "X509Certificate"); inline != nil {
		return parseCertificate(ownText(inline))
	}
	matches, described, err := matcher(reference, data)
	if err != nil {
		return nil, err
	}
	for _, certificate := range trust.Certificates {
		if matches(certificate) {
			return certificate, nil
		}
	}
	return nil, fmt.Errorf("it was made by the key of %s, whose certificate is not known here (answers: of the login)",
		described)
}

func parseCertificate(text string) (*x509.Certificate, error) {
	raw, err := decode(text)
	if err != nil {
		return nil, errors.New("the certificate is not Base64")
	}
	certificate, err := x509.ParseCertificate(raw)
	if err != nil {
		return nil, fmt.Errorf("the certificate cannot be read: %w", err)
	}
	return certificate, nil
}

// matcher says how to tell the certificate that a reference describes.
func matcher(reference, data *document.Node) (func(*x509.Certificate) bool, string, error) {
	if serial := find(data, ds, "X509IssuerSerial"); serial != nil {
		issuer, number := ownText(find(serial, ds,
			"X509IssuerName")), strings.TrimSpace(ownText(find(serial, ds, "X509SerialNumber")))
		return func(c *x509.Certificate) bool {
			return c.SerialNumber.String() == number && sameName(c.RawIssuer, issuer)
		}, issuer + ", number " + number, nil
	}
	if identifier := find(reference, wsse, "KeyIdentifier"); identifier != nil {
		kind, _ := identifier.Attribute("ValueType")
		value, err := decode(ownText(identifier))
		if err != nil {
			return nil, "", errors.New("the key identifier is not Base64")
		}
		switch {
		case strings.HasSuffix(kind, "#ThumbprintSHA1"):
			return func(c *x509.Certificate) bool {
				sum := sha1.Sum(c.Raw)
				return slices.Equal(sum[:], value)
			}, "the thumbprint " + ownText(identifier), nil
		case strings.HasSuffix(kind, "#X509SubjectKeyIdentifier"):
			return func(c *x509.Certificate) bool {
				return slices.Equal(c.SubjectKeyId, value)
			}, "the key identifier " + ownText(identifier), nil
		}
		return nil, "", fmt.Errorf("the key is referred to as %q, which is not known here", kind)
	}
	return nil, "", errors.New("the way in which it refers to its key is not known here")
}
