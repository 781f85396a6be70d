package httpsign

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"
)

// Algorithms lists the algorithms by the names of their registry (section 6.2).
var Algorithms = []string{
	"rsa-pss-sha512", "rsa-v1_5-sha256", "hmac-sha256", "ecdsa-p256-sha256", "ecdsa-p384-sha384",
	"ed25519",
}

// AlgorithmFor gives the algorithm that fits a key: a crypto.Signer, a public
// key or the bytes of a shared one. It is empty where none does.
func AlgorithmFor(key any) string {
	if signer, ok := key.(crypto.Signer); ok {
		key = signer.Public()
	}
	switch k := key.(type) {
	case []byte:
		return "hmac-sha256"
	case ed25519.PublicKey:
		return "ed25519"
	case *rsa.PublicKey:
		return "rsa-pss-sha512"
	case *ecdsa.PublicKey:
		return map[int]string{256: "ecdsa-p256-sha256", 384: "ecdsa-p384-sha384"}[k.Curve.Params().BitSize]
	}
	return ""
}

var errKey = errors.New("the key does not go with the algorithm")

// Sign signs a base (section 3.3).
func Sign(algorithm string, key any, base []byte) ([]byte, error) {
	if algorithm == "hmac-sha256" {
		shared, ok := key.([]byte)
		if !ok {
			return nil, errKey
		}
		mac := hmac.New(sha256.New, shared)
		mac.Write(base)
		return mac.Sum(nil), nil
	}
	signer, ok := key.(crypto.Signer)
	if !ok || !fits(algorithm, signer.Public()) {
		return nil, errKey
	}
	hash256, hash384, hash512 := sha256.Sum256(base), sha512.Sum384(base), sha512.Sum512(base)
	switch algorithm {
	case "rsa-pss-sha512":
		return signer.Sign(rand.Reader, hash512[:], &rsa.PSSOptions{SaltLength: 64, Hash: crypto.SHA512})
	case "rsa-v1_5-sha256":
		return signer.Sign(rand.Reader, hash256[:], crypto.SHA256)
	case "ed25519":
		return signer.Sign(rand.Reader, base, crypto.Hash(0))
	}
	digest := hash256[:]
	if algorithm == "ecdsa-p384-sha384" {
		digest = hash384[:]
	}
	private, ok := signer.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errKey
	}
	r, s, err := ecdsa.Sign(rand.Reader, private, digest)
	if err != nil {
		return nil, err
	}
	// The signature is r and s, one after the other (section 3.3.4).
	size := (private.Curve.Params().BitSize + 7) / 8
	return append(r.FillBytes(make([]byte, size)), s.FillBytes(make([]byte, size))...), nil
}

func fits(algorithm string, public any) bool {
	fitting := AlgorithmFor(public)
	return fitting == algorithm || strings.HasPrefix(fitting, "rsa-") && strings.HasPrefix(algorithm, "rsa-")
}

// Verify checks a signature of a base with a public or shared key.
func Verify(algorithm string, key any, base, signature []byte) error {
	wrong := errors.New("the signature does not fit: what it covers was changed, or another key signed it")
	if algorithm == "hmac-sha256" {
		want, err := Sign(algorithm, key, base)
		if err == nil && !hmac.Equal(want, signature) {
			err = wrong
		}
		return err
	}
	if !fits(algorithm, key) {
		return errKey
	}
	hash256, hash384, hash512 := sha256.Sum256(base), sha512.Sum384(base), sha512.Sum512(base)
	valid := false
	switch public := key.(type) {
	case ed25519.PublicKey:
		valid = ed25519.Verify(public, base, signature)
	case *rsa.PublicKey:
		if algorithm == "rsa-pss-sha512" {
			valid = rsa.VerifyPSS(public, crypto.SHA512, hash512[:], signature, &rsa.PSSOptions{SaltLength: 64}) == nil
			if !valid && rsa.VerifyPSS(public, crypto.SHA512, hash512[:], signature, nil) == nil {
				return errors.New("the signature fits but for its salt, which must have 64 octets (RFC 9421, 3.3.1)")
			}
		} else {
			valid = rsa.VerifyPKCS1v15(public, crypto.SHA256, hash256[:], signature) == nil
		}
	case *ecdsa.PublicKey:
		digest := hash256[:]
		if algorithm == "ecdsa-p384-sha384" {
			digest = hash384[:]
		}
		half := len(signature) / 2
		valid = half == (public.Curve.Params().BitSize+7)/8 && len(signature) == 2*half &&
			ecdsa.Verify(public, digest, new(big.Int).SetBytes(signature[:half]),
				new(big.Int).SetBytes(signature[half:]))
	}
	if !valid {
		return wrong
	}
	return nil
}

// Signature is one signature of a message.
type Signature struct {
	Label      string
	Components []Component
	Params     *httpsfv.Params
	Bytes      []byte
}

// Read finds the signatures of a message in its fields Signature-Input and
// Signature (section 4).
func Read(m *Message) ([]Signature, error) {
	inputs, err := httpsfv.UnmarshalDictionary(m.Header.Values("Signature-Input"))
	if err != nil {
		return nil, fmt.Errorf("Signature-Input cannot be read: %w", err)
	}
	signatures, err := httpsfv.UnmarshalDictionary(m.Header.Values("Signature"))
	if err != nil {
		return nil, fmt.Errorf("Signature cannot be read: %w", err)
	}
	var all []Signature
	for _, label := range inputs.Names() {
		member, _ := inputs.Get(label)
		list, ok := member.(httpsfv.InnerList)
		if !ok {
			return nil, fmt.Errorf("the signature %s has no list of components", label)
		}
		signature := Signature{Label: label, Params: list.Params}
		for _, item := range list.Items {
			name, ok := item.Value.(string)
			if !ok || name == "" {
				return nil, fmt.Errorf("the signature %s covers something without a name", label)
			}
			signature.Components = append(signature.Components, Component{item})
		}
		member, _ = signatures.Get(label)
		item, _ := member.(httpsfv.Item)
		if signature.Bytes, ok = item.Value.([]byte); !ok {
			return nil, fmt.Errorf("the signature %s is not there", label)
		}
		all = append(all, signature)
	}
	return all, nil
}

// Check checks one signature of a message with a key, at a moment. algorithm is
// what the receiver expects; empty takes what the signature says or what fits
// the key (section 3.2).
func (s *Signature) Check(m *Message, algorithm string, key any, now time.Time) error {
	if said, ok := s.Params.Get("alg"); ok {
		text, _ := said.(string)
		if algorithm != "" && text != algorithm || !slices.Contains(Algorithms, text) {
			return fmt.Errorf("it was made by %v, and %s is expected", said, algorithm)
		}
		algorithm = text
	}
	if algorithm == "" {
		algorithm = AlgorithmFor(key)
	}
	if expires, ok := s.Params.Get("expires"); ok {
		if at, ok := expires.(int64); ok && now.After(time.Unix(at, 0)) {
			return fmt.Errorf("it ended %v ago", now.Sub(time.Unix(at, 0)).Round(time.Second))
		}
	}
	base, _, err := Base(m, s.Components, s.Params)
	if err != nil {
		return err
	}
	return Verify(algorithm, key, []byte(base), s.Bytes)
}

// SignInto signs components, as ParseComponent reads them, and adds the fields to
// the message's header.
func (m *Message) SignInto(label, algorithm string, key any, names []string, now time.Time) error {
	var components []Component
	for _, name := range names {
		c, err := ParseComponent(name)
		if err != nil {
			return err
		}
		components = append(components, c)
	}
	params := httpsfv.NewParams()
	params.Add("created", now.Unix())
	base, input, err := Base(m, components, params)
	if err != nil {
		return err
	}
	signature, err := Sign(algorithm, key, []byte(base))
	if err != nil {
		return err
	}
	m.Header.Set("Signature-Input", label+"="+input)
	m.Header.Set("Signature", label+"=:"+base64.StdEncoding.EncodeToString(signature)+":")
	return nil
}
