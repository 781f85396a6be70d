package wssecurity

import (
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/rsa"
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
	case []byte:
		if a.key == sharedKind && hmac.Equal(macOf(a, key, base), signature) {
			return nil
		}
	case *rsa.PublicKey:
		if a.key == rsaKey && rsa.VerifyPKCS1v15(key, a.hash, sum, signature) == nil {
			return nil
		}
	case *ecdsa.PublicKey:
		half := len(signature) / 2
		if a.key == curveKey && half > 0 && len(signature) == 2*half && ecdsa.Verify(key, sum,
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
	// Keys are shared keys by what names them, as Message.Keys gives those of a request. A signature by one of
	// them is its receiver's.
	Keys map[string][]byte
}

// Signature is what was found out about one signature of a message.
type Signature struct {
	Signer  *x509.Certificate // nil where the key has none, or is not known
	By      string            // whose key it is, in words
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

// keyOf finds the key that signed, and says whose it is: a shared one, or a public one.
func (m *Message) keyOf(info *document.Node, out *Signature, trust Trust, ids map[string]*document.Node,
	keys sharedKeys,
) (any, error) {
	if reference := find(info, wsse, "SecurityTokenReference"); reference != nil {
		if secret, name, _ := m.sharedKey(reference, keys); secret != nil {
			out.By = "the shared key " + name
			return secret, nil
		}
	}
	from, err := m.signerOf(info, trust, ids)
	if err != nil {
		return nil, err
	}
	out.Signer, out.By = from.certificate, "a key without a certificate"
	if out.Signer != nil {
		out.By = out.Signer.Subject.String()
	}
	return from.public, nil
}

// verify checks one signature. keys are the shared keys that are known, by what names them.
func (m *Message) verify(signature *document.Node, out *Signature, trust Trust, keys sharedKeys) error {
	ids, doubled := m.ids()

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
			covered, err := m.checkReference(reference, trust, ids)
			if err != nil {
				return err
			}
			out.Covers = append(out.Covers, covered)
		}
	}
	if references == 0 {
		return errors.New("it covers nothing")
	}
	public, err := m.keyOf(find(signature, ds, "KeyInfo"), out, trust, ids, keys)
	if err != nil {
		return err
	}
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
	if _, isShared := public.([]byte); isShared {
		return nil
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
		if s.Signer != nil && known.Equal(s.Signer) {
			return nil
		}
	}
	if trust.Roots != nil && s.Signer != nil {
		_, err := s.Signer.Verify(x509.VerifyOptions{
			Roots:     trust.Roots,
			KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		})
		if err != nil {
			return fmt.Errorf("the signer %s is not vouched for: %w", s.Signer.Subject, err)
		}
		return nil
	}
	return fmt.Errorf("it was made by %s, whose certificate is not the one expected", s.By)
}

// checkReference recomputes a digest and says what is covered.
func (m *Message) checkReference(reference *document.Node, trust Trust, ids map[string]*document.Node) (string, error) {
	uri, _ := reference.Attribute("URI")
	n := ids[strings.TrimPrefix(uri, "#")]
	if !strings.HasPrefix(uri, "#") || n == nil {
		return "", fmt.Errorf("it covers %q, which is not in the message", uri)
	}
	canonical, name, err := m.transformed(find(reference, ds, "Transforms"), n, trust, ids)
	if err != nil {
		return "", err
	}
	newHash := digests[algorithmOf(find(reference, ds, "DigestMethod"))]
	if newHash == nil {
		return "", fmt.Errorf("the digest %q is not known here", algorithmOf(find(reference, ds, "DigestMethod")))
	}
	want, err := decode(ownText(find(reference, ds, "DigestValue")))
	if err != nil {
		return "", errors.New("a digest is not Base64")
	}
	h := newHash()
	h.Write(canonical)
	if subtle.ConstantTimeCompare(h.Sum(nil), want) != 1 {
		return "", fmt.Errorf("the %s was changed after it was signed: its digest is another", name)
	}
	return name, nil
}

// transformed is an element as the transforms of a reference make it, with its name.
func (m *Message) transformed(transforms, n *document.Node, trust Trust, ids map[string]*document.Node) ([]byte, string,
	error,
) {
	how := document.Canonical{Inclusive: true} // XML Signature, 4.3.3.2, where no transform says otherwise
	if transforms == nil {
		transforms = element(ds, "Transforms")
	}
	for _, transform := range transforms.Children() {
		method := transform
		isToken := algorithmOf(transform) == strTransform
		if isToken {
			method = find(find(transform, wsse, "TransformationParameters"), ds, "CanonicalizationMethod")
		}
		var err error
		if how, err = canonicalOf(method); err != nil {
			return nil, "", err
		}
		if isToken {
			return m.dereferenced(n, how, trust, ids)
		}
	}
	how.Comments = false // a reference #id leaves comments out (XML Signature, 4.3.3.3)
	return document.CanonicalXML(m.Root, n, how), m.nameOf(n), nil
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
		case "Signature":
			return "signature"
		}
		return n.Name().Local
	case m.header != nil && slices.Contains(m.header.Items(), n):
		return n.Name().Local
	}
	return "element " + n.Name().Local + " somewhere else"
}
