// Package keys reads keys and certificates as they are handed over: PEM in its
// several forms, PKCS#12 and JSON Web Keys. It signs and encrypts nothing.
package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"
)

// Pair is a private key with the certificates that vouch for it; either may be
// missing.
type Pair struct {
	Key crypto.Signer
	// Chain begins with the key's own certificate.
	Chain []*x509.Certificate
}

// Leaf returns the key's own certificate, or nil.
func (p *Pair) Leaf() *x509.Certificate {
	if len(p.Chain) == 0 {
		return nil
	}
	return p.Chain[0]
}

// TLS returns the pair as crypto/tls wants it.
func (p *Pair) TLS() tls.Certificate {
	c := tls.Certificate{PrivateKey: p.Key, Leaf: p.Leaf()}
	for _, certificate := range p.Chain {
		c.Certificate = append(c.Certificate, certificate.Raw)
	}
	return c
}

// errPassword says what to do about a key that is locked.
var errPassword = errors.New("the key is locked by a password (password: of the login)")

// Read reads a certificate and its key from one or two pieces, each PEM or
// PKCS#12. key may be empty where everything is in the first piece. The
// password opens a locked key (PKCS#8 with PBES2, PKCS#12).
func Read(certificate, key []byte, password string) (*Pair, error) {
	pair := &Pair{}
	if err := pair.add(certificate, password); err != nil {
		return nil, err
	}
	if len(key) > 0 {
		own := &Pair{}
		if err := own.add(key, password); err != nil {
			return nil, fmt.Errorf("the key: %w", err)
		}
		if own.Key == nil {
			return nil, errors.New("there is no private key where the key should be")
		}
		pair.Key = own.Key
	}
	return pair, pair.sort()
}

// ReadFiles reads a certificate with its key from files that Read understands.
// The key must be there and fit the certificate.
func ReadFiles(certificateFile, keyFile, password string) (*Pair, error) {
	certificate, err := os.ReadFile(certificateFile)
	if err != nil {
		return nil, fmt.Errorf("the client certificate: %w", err)
	}
	var key []byte
	if keyFile != "" {
		if key, err = os.ReadFile(keyFile); err != nil {
			return nil, fmt.Errorf("the client certificate's key: %w", err)
		}
	}
	pair, err := Read(certificate, key, password)
	if err == nil {
		err = pair.Complete()
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", certificateFile, err)
	}
	return pair, nil
}

// Complete says what is missing of a pair that is to prove who one is.
func (p *Pair) Complete() error {
	switch {
	case p.Leaf() == nil:
		return errors.New("there is no certificate")
	case p.Key == nil:
		return errors.New("the certificate comes without its key (key: of the login)")
	}
	return nil
}

// add takes everything that is in a piece.
func (p *Pair) add(data []byte, password string) error {
	if !bytes.Contains(data, []byte("-----BEGIN ")) {
		return p.addBinary(data, password)
	}
	for {
		var block *pem.Block
		block, data = pem.Decode(data)
		if block == nil {
			break
		}
		if err := p.addBlock(block, password); err != nil {
			return err
		}
	}
	if p.Key == nil && p.Chain == nil {
		return errors.New("there is neither a key nor a certificate in PEM form")
	}
	return nil
}

func (p *Pair) addBlock(block *pem.Block, password string) error {
	switch {
	case block.Type == "CERTIFICATE":
		certificate, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return fmt.Errorf("a certificate cannot be read: %w", err)
		}
		p.Chain = append(p.Chain, certificate)
		return nil
	case block.Headers["DEK-Info"] != "":
		return errOldLock
	case strings.HasSuffix(block.Type, "PRIVATE KEY"):
		key, err := privateKey(block, password)
		if err != nil {
			return err
		}
		p.Key = key
	}
	return nil // parameters and the like
}

func privateKey(block *pem.Block, password string) (crypto.Signer, error) {
	var key any
	var err error
	switch block.Type {
	case "OPENSSH PRIVATE KEY":
		return nil, errOpenSSH
	case "RSA PRIVATE KEY":
		key, err = x509.ParsePKCS1PrivateKey(block.Bytes)
	case "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(block.Bytes)
	case "ENCRYPTED PRIVATE KEY":
		if password == "" {
			return nil, errPassword
		}
		key, err = openPKCS8(block.Bytes, password)
	default:
		key, err = x509.ParsePKCS8PrivateKey(block.Bytes)
	}
	if err != nil {
		return nil, fmt.Errorf("the private key cannot be read: %w", err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("a key of kind %T cannot sign", key)
	}
	return signer, nil
}

// Keys in forms that are not read here, with the commands that convert them.
var (
	errOldLock = errors.New("the key is locked in an old way that protects badly (RFC 1423, or PBES1 of RFC 8018): " +
		"convert it with: openssl pkcs8 -topk8 -v2 aes256 -in OLD -out NEW.pem")
	errKeyStore = errors.New("this is a Java key store (JKS): convert it with: keytool -importkeystore " +
		"-srckeystore OLD -destkeystore NEW.p12 -deststoretype PKCS12")
	errOpenSSH = errors.New("this is a key of OpenSSH's own form: convert a copy of it with: " +
		"ssh-keygen -p -m PKCS8 -f COPY")
)

// lockOf is how a PKCS#8 key is locked (RFC 5958, section 3).
type lockOf struct {
	Algorithm struct {
		ID         asn1.ObjectIdentifier
		Parameters asn1.RawValue `asn1:"optional"`
	}
	Data []byte
}

// isOldLock says whether a key is locked by PBES1, or by a scheme of PKCS#12 (RFC 8018, A.3; RFC 7292, C).
func isOldLock(id asn1.ObjectIdentifier) bool {
	text := id.String()
	return strings.HasPrefix(text, "1.2.840.113549.1.5.") && text != "1.2.840.113549.1.5.13" ||
		strings.HasPrefix(text, "1.2.840.113549.1.12.1.")
}

func openPKCS8(data []byte, password string) (any, error) {
	var lock lockOf
	if _, err := asn1.Unmarshal(data, &lock); err == nil && isOldLock(lock.Algorithm.ID) {
		return nil, errOldLock
	}
	key, err := pkcs8.ParsePKCS8PrivateKey(data, []byte(password))
	if err != nil {
		return nil, fmt.Errorf("perhaps the password is wrong: %w", err)
	}
	return key, nil
}

func (p *Pair) addBinary(data []byte, password string) error {
	if certificate, err := x509.ParseCertificate(data); err == nil {
		p.Chain = append(p.Chain, certificate)
		return nil
	}
	if kind := kindOfDER(data); kind != "" {
		key, err := privateKey(&pem.Block{Type: kind, Bytes: data}, password)
		p.Key = key
		return err
	}
	if bytes.HasPrefix(data, []byte{0xFE, 0xED, 0xFE, 0xED}) || bytes.HasPrefix(data, []byte{0xCE, 0xCE, 0xCE, 0xCE}) {
		return errKeyStore
	}
	key, certificate, authorities, err := pkcs12.DecodeChain(data, password)
	switch {
	case errors.Is(err, pkcs12.ErrIncorrectPassword) && password == "":
		return errPassword
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		return errors.New("the password of the PKCS#12 file is wrong")
	case err != nil:
		return fmt.Errorf("this is neither PEM nor PKCS#12 (%w)", err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return fmt.Errorf("a key of kind %T cannot sign", key)
	}
	p.Key = signer
	p.Chain = append(append(p.Chain, certificate), authorities...)
	return nil
}

// kindOfDER is the kind of PEM block that would hold a key in DER form; empty where it is none.
func kindOfDER(data []byte) string {
	if _, err := x509.ParsePKCS1PrivateKey(data); err == nil {
		return "RSA PRIVATE KEY"
	}
	if _, err := x509.ParseECPrivateKey(data); err == nil {
		return "EC PRIVATE KEY"
	}
	if _, err := x509.ParsePKCS8PrivateKey(data); err == nil {
		return "PRIVATE KEY"
	}
	var lock lockOf
	if rest, err := asn1.Unmarshal(data, &lock); err == nil && len(rest) == 0 {
		return "ENCRYPTED PRIVATE KEY"
	}
	return ""
}

// sort puts the key's own certificate first.
func (p *Pair) sort() error {
	if p.Key == nil || len(p.Chain) == 0 {
		return nil
	}
	for i, certificate := range p.Chain {
		if SamePublic(certificate.PublicKey, p.Key.Public()) {
			p.Chain[0], p.Chain[i] = p.Chain[i], p.Chain[0]
			return nil
		}
	}
	return errors.New("certificate and key do not go together: the certificate is of another key")
}

// SamePublic says whether two public keys are the same.
func SamePublic(a, b any) bool {
	comparable, ok := a.(interface{ Equal(crypto.PublicKey) bool })
	return ok && comparable.Equal(b)
}

// Describe names a key's kind and size: RSA 2048, EC P-256, Ed25519.
func Describe(public any) string {
	switch key := public.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", key.N.BitLen())
	case *ecdsa.PublicKey:
		return "EC " + key.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	case []byte:
		return fmt.Sprintf("a shared key of %d bits", 8*len(key))
	}
	return fmt.Sprintf("%T", public)
}

// Certificates reads every certificate of a piece in PEM form, or the one of a
// piece in DER form.
func Certificates(data []byte) ([]*x509.Certificate, error) {
	pair := &Pair{}
	if err := pair.add(data, ""); err != nil {
		return nil, err
	}
	if len(pair.Chain) == 0 {
		return nil, errors.New("there is no certificate")
	}
	return pair.Chain, nil
}
