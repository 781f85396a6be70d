package wssecurity

import (
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/keys"
)

// CertificateReferences lists the ways in which a message names a certificate (X.509 Token Profile 1.1, sections 3.1
// and 3.2): as a token of the header, alone or with those that vouch for it; by its issuer and number; by its key
// identifier; by its thumbprint; as a whole in a KeyIdentifier, which older toolkits write.
var CertificateReferences = []string{
	"token", "certificate path", "issuer", "key identifier", "thumbprint", "whole certificate",
}

// References lists the ways in which a message says which key signed it: those to a certificate, the public
// key itself (XML Signature 1.1, section 4.5.2), or the assertion in the header (SAML Token Profile 1.1, 3.4).
var References = append(slices.Clone(CertificateReferences), "key value", "assertion")

const (
	certificateType = x509Profile + "#X509v3"
	pathType        = x509Profile + "#X509PKIPathv1"
)

// keyInfo says which key signs, and gives the token that belongs into the header where the reference is to one.
func (m *Message) keyInfo(s Signing) (reference, token *document.Node, err error) {
	switch s.Reference {
	case "assertion":
		assertion := m.assertion()
		if assertion == nil {
			return nil, nil, errors.New("reference: assertion wants a SAML assertion in the header: put a saml login " +
				"before this one")
		}
		return assertionReference(assertion), nil, nil
	case "key value":
		public, ok := s.Pair.Key.Public().(*rsa.PublicKey)
		if !ok {
			return nil, nil, errors.New("reference: key value wants an RSA key")
		}
		return element(ds, "KeyValue", element(ds, "RSAKeyValue",
			element(ds, "Modulus", text(base64.StdEncoding.EncodeToString(public.N.Bytes()))),
			element(ds, "Exponent",
				text(base64.StdEncoding.EncodeToString(big.NewInt(int64(public.E)).Bytes()))))), nil, nil
	}
	if s.Pair.Leaf() == nil {
		return nil, nil, errors.New("there is no certificate of the key that signs")
	}
	return certificateReference(s.Pair.Chain, s.Reference)
}

// certificateReference makes a SecurityTokenReference to the first certificate of a chain, and the
// token that it refers to where it is one. how is of CertificateReferences; empty is token.
func certificateReference(chain []*x509.Certificate, how string) (reference, token *document.Node, err error) {
	certificate := chain[0]
	encode := base64.StdEncoding.EncodeToString
	identifier := func(value []byte, kind string) *document.Node {
		return with(element(wsse, "KeyIdentifier", text(encode(value))), "EncodingType",
			soapMessageSecurity+"#Base64Binary", "ValueType", kind)
	}
	binary := func(data []byte, kind string) *document.Node {
		token = with(element(wsse, "BinarySecurityToken", text(encode(data))), "EncodingType",
			soapMessageSecurity+"#Base64Binary", "ValueType", kind)
		return with(element(wsse, "Reference"), "URI", "#"+identify(token, "token"), "ValueType", kind)
	}
	var what *document.Node
	switch how {
	case "", "token":
		what = binary(certificate.Raw, certificateType)
	case "certificate path":
		path, err := writePath(chain)
		if err != nil {
			return nil, nil, err
		}
		what = binary(path, pathType)
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
	case "whole certificate":
		what = identifier(certificate.Raw, certificateType)
	default:
		return nil, nil, fmt.Errorf("there is no reference %q; there are: %s", how, strings.Join(References, ", "))
	}
	return element(wsse, "SecurityTokenReference", what), token, nil
}

// writePath writes a PkiPath: the certificates in a sequence, the key's own last (ITU-T X.509, clause 7.8).
func writePath(chain []*x509.Certificate) ([]byte, error) {
	var all []asn1.RawValue
	for _, certificate := range slices.Backward(chain) {
		all = append(all, asn1.RawValue{FullBytes: certificate.Raw})
	}
	return asn1.Marshal(all)
}

// readPath gives the last certificate of a PkiPath.
func readPath(data []byte) (*x509.Certificate, error) {
	var all []asn1.RawValue
	if _, err := asn1.Unmarshal(data, &all); err != nil || len(all) == 0 {
		return nil, errors.New("the path of certificates cannot be read")
	}
	return x509.ParseCertificate(all[len(all)-1].FullBytes)
}

// readToken reads the certificate of a BinarySecurityToken.
func readToken(token *document.Node) (*x509.Certificate, error) {
	kind, _ := token.Attribute("ValueType")
	if kind != pathType {
		return parseCertificate(ownText(token))
	}
	data, err := decode(ownText(token))
	if err != nil {
		return nil, errors.New("the path of certificates is not Base64")
	}
	return readPath(data)
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

// signer is whose key is said to have signed: a certificate, or a public key alone.
type signer struct {
	certificate *x509.Certificate
	public      any
}

// signerOf finds the key that is said to have signed.
func (m *Message) signerOf(info *document.Node, trust Trust, ids map[string]*document.Node) (signer, error) {
	of := func(certificate *x509.Certificate, err error) (signer, error) {
		if err != nil {
			return signer{}, err
		}
		return signer{certificate, certificate.PublicKey}, nil
	}
	if info == nil {
		if len(trust.Certificates) == 1 {
			return of(trust.Certificates[0], nil)
		}
		return signer{}, errors.New("it does not say whose key made it (no KeyInfo)")
	}
	if value := find(info, ds, "KeyValue"); value != nil {
		public, err := readKeyValue(value)
		if err != nil {
			return signer{}, err
		}
		for _, known := range trust.Certificates {
			if keys.SamePublic(known.PublicKey, public) {
				return signer{known, public}, nil
			}
		}
		return signer{public: public}, nil
	}
	reference := find(info, wsse, "SecurityTokenReference")
	if reference == nil {
		reference = info
	}
	return of(m.certificateOf(reference, trust, ids))
}

func readKeyValue(value *document.Node) (*rsa.PublicKey, error) {
	of := find(value, ds, "RSAKeyValue")
	modulus, err := decode(ownText(find(of, ds, "Modulus")))
	exponent, failed := decode(ownText(find(of, ds, "Exponent")))
	if of == nil || err != nil || failed != nil || len(exponent) > 4 || len(modulus) < 128 || len(modulus) > 2048 {
		return nil, errors.New("its KeyValue is not an RSA key of 1,024 bits or more")
	}
	return &rsa.PublicKey{N: new(big.Int).SetBytes(modulus), E: int(new(big.Int).SetBytes(exponent).Int64())}, nil
}

// certificateOf finds the certificate that a reference names.
func (m *Message) certificateOf(reference *document.Node, trust Trust, ids map[string]*document.Node,
) (*x509.Certificate, error) {
	if direct := find(reference, wsse, "Reference"); direct != nil {
		uri, _ := direct.Attribute("URI")
		token := ids[strings.TrimPrefix(uri, "#")]
		if token == nil || token.Name().Local != "BinarySecurityToken" {
			return nil, fmt.Errorf("it refers to the token %q, which is not in the message", uri)
		}
		return readToken(token)
	}
	data := find(reference, ds, "X509Data")
	if inline := find(data, ds, "X509Certificate"); inline != nil {
		return parseCertificate(ownText(inline))
	}
	if identifier := find(reference, wsse, "KeyIdentifier"); identifier != nil {
		if kind, _ := identifier.Attribute("ValueType"); kind == certificateType {
			return parseCertificate(ownText(identifier))
		}
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

// dereferenced is the token that a reference names, in canonical form, as the STR Dereference Transform gives it
// (WS-Security 1.1, section 8.3), with a name for it. A token that is not in the message is written as a
// BinarySecurityToken.
func (m *Message) dereferenced(reference *document.Node, how document.Canonical, trust Trust,
	ids map[string]*document.Node,
) (out []byte, name string, err error) {
	token, name := m.tokenOf(reference, ids)
	if token == nil {
		certificate, err := m.certificateOf(reference, trust, ids)
		if err != nil {
			return nil, "", err
		}
		prefix := reference.Name().Prefix
		token = document.NewElement(document.Name{Space: wsse, Prefix: prefix, Local: "BinarySecurityToken"},
			text(base64.StdEncoding.EncodeToString(certificate.Raw)))
		if prefix == "" {
			token.AppendAttributes(document.Attribute{Name: document.Name{Local: "xmlns"}, Value: wsse})
		} else {
			token.AppendAttributes(declaration(prefix, wsse))
		}
		out, name = document.CanonicalXML(token, with(token, "ValueType", certificateType), how), "certificate"
	} else {
		out = document.CanonicalXML(m.Root, token, how)
	}
	// The default namespace is written on the outermost element, though it is none.
	tag, _, _ := strings.Cut(string(out), ">")
	if !strings.Contains(tag, " xmlns=") {
		at := len(strings.SplitN(tag, " ", 2)[0])
		out = slices.Insert(out, at, []byte(` xmlns=""`)...)
	}
	return out, name, nil
}

// tokenOf is the token of the message that a reference names, or nil.
func (m *Message) tokenOf(reference *document.Node, ids map[string]*document.Node) (*document.Node, string) {
	uri := ""
	if direct := find(reference, wsse, "Reference"); direct != nil {
		uri, _ = direct.Attribute("URI")
		uri = strings.TrimPrefix(uri, "#")
	} else if identifier := find(reference, wsse, "KeyIdentifier"); identifier != nil {
		uri = strings.TrimSpace(identifier.OwnText())
	}
	token := ids[uri]
	if token == nil {
		return nil, ""
	}
	return token, m.nameOf(token)
}
