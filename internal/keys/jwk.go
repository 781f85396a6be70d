package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"

	"testbench/internal/document"
)

// JWK is a JSON Web Key (RFC 7517).
type JWK struct {
	ID, Use, Algorithm string
	// Public is an *rsa.PublicKey, *ecdsa.PublicKey or ed25519.PublicKey; for a
	// shared key (oct) it is the []byte itself.
	Public any
	// Private is nil for a public key.
	Private crypto.Signer
}

// ReadJWKs reads a JWK set (RFC 7517, section 5), or a single key. Keys of
// kinds or curves that are not known are passed over, as section 5 says.
func ReadJWKs(data []byte) ([]JWK, error) {
	root, err := document.ReadJSON(data)
	if err != nil {
		return nil, err
	}
	list := []*document.Node{root}
	if set := root.Get("keys"); set != nil {
		list = set.Items()
	} else if root.Get("kty") == nil {
		return nil, errors.New("it holds no keys (RFC 7517, section 5): neither keys nor kty is there")
	}
	var all []JWK
	for i, node := range list {
		key, err := readJWK(node)
		if err != nil {
			return nil, fmt.Errorf("key %d: %w", i+1, err)
		}
		if key.Public != nil {
			all = append(all, key)
		}
	}
	return all, nil
}

var curves = map[string]elliptic.Curve{"P-256": elliptic.P256(), "P-384": elliptic.P384(), "P-521": elliptic.P521()}

func member(n *document.Node, name string) string {
	if v := n.Get(name); v != nil {
		return v.Text
	}
	return ""
}

// number reads a Base64urlUInt (RFC 7518, section 2).
func number(n *document.Node, name string) (*big.Int, error) {
	data, err := base64.RawURLEncoding.DecodeString(member(n, name))
	if err != nil || len(data) == 0 {
		return nil, fmt.Errorf("%s is missing or no base64url", name)
	}
	return new(big.Int).SetBytes(data), nil
}

func readJWK(n *document.Node) (JWK, error) {
	key := JWK{ID: member(n, "kid"), Use: member(n, "use"), Algorithm: member(n, "alg")}
	var err error
	switch member(n, "kty") {
	case "RSA":
		err = key.readRSA(n)
	case "EC":
		err = key.readEC(n)
	case "OKP":
		if member(n, "crv") == "Ed25519" {
			err = key.readEd25519(n)
		}
	case "oct":
		key.Public, err = base64.RawURLEncoding.DecodeString(member(n, "k"))
	}
	return key, err
}

// mostBits bounds the RSA keys that somebody else chooses.
const mostBits = 16384

// readRSA reads RFC 7518, section 6.3.
func (k *JWK) readRSA(n *document.Node) error {
	modulus, err := number(n, "n")
	if err != nil {
		return err
	}
	exponent, err := number(n, "e")
	if err != nil || !exponent.IsInt64() || exponent.Int64() > 1<<31-1 {
		return errors.New("e is not an exponent")
	}
	if modulus.BitLen() > mostBits {
		return fmt.Errorf("n has %d bits, and more than %d take too long to compute with", modulus.BitLen(), mostBits)
	}
	public := &rsa.PublicKey{N: modulus, E: int(exponent.Int64())}
	k.Public = public
	if n.Get("d") == nil {
		return nil
	}
	d, errD := number(n, "d")
	p, errP := number(n, "p")
	q, errQ := number(n, "q")
	if err := errors.Join(errD, errP, errQ); err != nil {
		return err
	}
	private := &rsa.PrivateKey{PublicKey: *public, D: d, Primes: []*big.Int{p, q}}
	if err := private.Validate(); err != nil {
		return err
	}
	private.Precompute()
	k.Private = private
	return nil
}

// readEC reads RFC 7518, section 6.2.
func (k *JWK) readEC(n *document.Node) error {
	curve := curves[member(n, "crv")]
	if curve == nil {
		return nil
	}
	size := (curve.Params().BitSize + 7) / 8
	x, errX := number(n, "x")
	y, errY := number(n, "y")
	if errX != nil || errY != nil || x.BitLen() > 8*size || y.BitLen() > 8*size {
		return errors.New("x or y is not a coordinate of " + member(n, "crv"))
	}
	point := append([]byte{4}, append(x.FillBytes(make([]byte, size)), y.FillBytes(make([]byte, size))...)...)
	public, err := ecdsa.ParseUncompressedPublicKey(curve, point)
	if err != nil {
		return err
	}
	k.Public = public
	if n.Get("d") == nil {
		return nil
	}
	d, err := number(n, "d")
	if err != nil || d.BitLen() > 8*size {
		return errors.New("d is not a private key of " + member(n, "crv"))
	}
	private, err := ecdsa.ParseRawPrivateKey(curve, d.FillBytes(make([]byte, size)))
	if err != nil {
		return err
	}
	k.Private = private
	return nil
}

// readEd25519 reads RFC 8037, section 2.
func (k *JWK) readEd25519(n *document.Node) error {
	x, err := base64.RawURLEncoding.DecodeString(member(n, "x"))
	if err != nil || len(x) != ed25519.PublicKeySize {
		return errors.New("x is not a public key of Ed25519")
	}
	k.Public = ed25519.PublicKey(x)
	if d, err := base64.RawURLEncoding.DecodeString(member(n, "d")); err == nil && len(d) == ed25519.SeedSize {
		k.Private = ed25519.NewKeyFromSeed(d)
	}
	return nil
}

// PublicJWK writes a public key with its required members alone, in the order
// in which a thumbprint wants them (RFC 7638, section 3.2).
func PublicJWK(public any) (*document.Node, error) {
	b64 := base64.RawURLEncoding.EncodeToString
	node := document.NewObject()
	set := func(pairs ...string) *document.Node {
		for i := 0; i < len(pairs); i += 2 {
			node.Set(pairs[i], document.NewText(pairs[i+1]))
		}
		return node
	}
	switch key := public.(type) {
	case *rsa.PublicKey:
		return set("e", b64(big.NewInt(int64(key.E)).Bytes()), "kty", "RSA", "n", b64(key.N.Bytes())), nil
	case *ecdsa.PublicKey:
		point, err := key.Bytes()
		if err != nil {
			return nil, err
		}
		size := (len(point) - 1) / 2
		return set("crv", key.Curve.Params().Name, "kty", "EC", "x", b64(point[1:1+size]), "y", b64(point[1+size:])),
			nil
	case ed25519.PublicKey:
		return set("crv", "Ed25519", "kty", "OKP", "x", b64(key)), nil
	case *ecdh.PublicKey:
		return nil, errors.New("a key for agreement signs nothing")
	}
	return nil, fmt.Errorf("a key of kind %T has no form as a JWK here", public)
}

// Thumbprint is the SHA-256 thumbprint of a public key (RFC 7638).
func Thumbprint(public any) (string, error) {
	node, err := PublicJWK(public)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(bytes.TrimSpace([]byte(document.WriteJSON(node, document.Style{}))))
	return base64.RawURLEncoding.EncodeToString(sum[:]), nil
}
