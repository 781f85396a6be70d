package wssecurity

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"strings"

	"testbench/internal/document"
)

type cipherAlgorithm struct {
	name string
	size int // bytes of the key
	gcm  bool
}

// ciphers are the block ciphers by their identifiers (XML Encryption 1.1, 5.2).
var ciphers = map[string]cipherAlgorithm{
	xenc + "aes128-cbc":   {"aes128-cbc", 16, false},
	xenc + "aes192-cbc":   {"aes192-cbc", 24, false},
	xenc + "aes256-cbc":   {"aes256-cbc", 32, false},
	xenc11 + "aes128-gcm": {"aes128-gcm", 16, true},
	xenc11 + "aes192-gcm": {"aes192-gcm", 24, true},
	xenc11 + "aes256-gcm": {"aes256-gcm", 32, true},
}

// Ciphers lists the ciphers that can be asked for.
var Ciphers = []string{"aes256-gcm", "aes192-gcm", "aes128-gcm", "aes256-cbc", "aes192-cbc", "aes128-cbc"}

// KeyTransports lists the ways in which the key travels: RSA-OAEP with SHA-1, as
// XML Encryption 1.0 has it, or with SHA-256 throughout (1.1, section 5.5.2).
var KeyTransports = []string{"rsa-oaep", "rsa-oaep-sha256"}

// Encryption says how a message is encrypted.
type Encryption struct {
	For       *x509.Certificate // of the receiver
	Parts     []string          // as for Signing; of the body its content, of others the element
	Cipher    string            // of Ciphers; empty is aes256-gcm
	Transport string            // of KeyTransports; empty is rsa-oaep
	Reference string            // of References, how the receiver's key is named; empty is issuer
}

// Encrypt encrypts the parts by a key made for this message, and adds that key,
// encrypted for the receiver (XML Encryption; WS-Security 1.1, section 9).
func (m *Message) Encrypt(e Encryption) error {
	public, ok := e.For.PublicKey.(*rsa.PublicKey)
	if !ok {
		return errors.New("messages are encrypted for an RSA key, and the receiver's certificate has another")
	}
	name := e.Cipher
	if name == "" {
		name = "aes256-gcm"
	}
	uri := ""
	for candidate, c := range ciphers {
		if c.name == name {
			uri = candidate
		}
	}
	if uri == "" {
		return fmt.Errorf("there is no cipher %q; there are: %s", name, strings.Join(Ciphers, ", "))
	}
	key := make([]byte, ciphers[uri].size)
	if _, err := rand.Read(key); err != nil {
		return err
	}
	m.secured()
	list := element(xenc, "ReferenceList")
	for _, part := range e.Parts {
		n, err := m.part(part)
		if err != nil {
			return err
		}
		id, err := m.encryptPart(n, n == m.body, uri, key)
		if err != nil {
			return err
		}
		list.AppendItems(with(element(xenc, "DataReference"), "URI", "#"+id))
	}
	wrapped, err := e.wrap(public, key)
	if err != nil {
		return err
	}
	how := e.Reference
	if how == "" {
		how = "issuer"
	}
	reference, token, err := certificateReference(e.For, how)
	if err != nil {
		return err
	}
	info := declareHere(element(ds, "KeyInfo", reference), ds)
	encrypted := declareHere(element(xenc, "EncryptedKey", wrapped[0], info, wrapped[1], list), xenc)
	m.prepend(with(encrypted, "Id", newID("key")))
	if token != nil {
		m.prepend(token)
	}
	return nil
}

// wrap encrypts the key for the receiver: the method and the cipher data.
func (e Encryption) wrap(public *rsa.PublicKey, key []byte) ([]*document.Node, error) {
	method := with(element(xenc, "EncryptionMethod",
		declareHere(with(element(ds, "DigestMethod"), "Algorithm", ds+"sha1"), ds)), "Algorithm", xenc+"rsa-oaep-mgf1p")
	options := &rsa.OAEPOptions{Hash: crypto.SHA1}
	switch e.Transport {
	case "", "rsa-oaep":
	case "rsa-oaep-sha256":
		method = with(element(xenc, "EncryptionMethod",
			declareHere(with(element(ds, "DigestMethod"), "Algorithm", xenc+"sha256"), ds),
			declareHere(with(element(xenc11, "MGF"), "Algorithm", xenc11+"mgf1sha256"), xenc11)), "Algorithm",
			xenc11+"rsa-oaep")
		options.Hash = crypto.SHA256
	default:
		return nil, fmt.Errorf("there is no key transport %q; there are: %s", e.Transport,
			strings.Join(KeyTransports, ", "))
	}
	wrapped, err := rsa.EncryptOAEP(options.Hash.New(), rand.Reader, public, key, nil)
	if err != nil {
		return nil, err
	}
	return []*document.Node{method, cipherData(wrapped)}, nil
}

func cipherData(data []byte) *document.Node {
	return element(xenc, "CipherData", element(xenc, "CipherValue", text(base64.StdEncoding.EncodeToString(data))))
}

// encryptPart puts EncryptedData in the place of an element, or of a body's content.
func (m *Message) encryptPart(n *document.Node, content bool, uri string, key []byte) (string, error) {
	var plain []byte
	kind := xenc + "Element"
	if content {
		kind = xenc + "Content"
		for _, item := range n.Items() {
			switch item.Kind {
			case document.Element:
				// Namespaces around it must hold where it is read again.
				plain = append(plain, document.CanonicalXML(m.Root, item,
					document.Canonical{Inclusive: true, Comments: true, Undone: true})...)
			case document.Comment, document.Instruction:
			default:
				plain = append(plain, document.CanonicalXML(n, element("", "t", item), document.Canonical{})[3:]...)
				plain = plain[:len(plain)-4]
			}
		}
	} else {
		plain = document.CanonicalXML(m.Root, n, document.Canonical{Inclusive: true, Comments: true, Undone: true})
	}
	sealed, err := seal(ciphers[uri], key, plain)
	if err != nil {
		return "", err
	}
	id := newID("data")
	data := declareHere(with(element(xenc, "EncryptedData", with(element(xenc, "EncryptionMethod"), "Algorithm", uri),
		cipherData(sealed)), "Id", id, "Type", kind), xenc)
	if content {
		n.SetItems([]*document.Node{data})
		return id, nil
	}
	n.Become(data)
	return id, nil
}

func seal(a cipherAlgorithm, key, plain []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if a.gcm {
		gcm, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		nonce := make([]byte, gcm.NonceSize())
		if _, err := rand.Read(nonce); err != nil {
			return nil, err
		}
		return gcm.Seal(nonce, nonce, plain, nil), nil
	}
	// The last byte tells how many were added (XML Encryption, section 5.2.1).
	padding := aes.BlockSize - len(plain)%aes.BlockSize
	padded := append(append([]byte{}, plain...), bytes.Repeat([]byte{byte(padding)}, padding)...)
	out := make([]byte, aes.BlockSize+len(padded))
	if _, err := rand.Read(out[:aes.BlockSize]); err != nil {
		return nil, err
	}
	cipher.NewCBCEncrypter(block, out[:aes.BlockSize]).CryptBlocks(out[aes.BlockSize:], padded)
	return out, nil
}

var errCiphertext = errors.New("the encrypted data was changed, or is for another key")

func unseal(a cipherAlgorithm, key, sealed []byte) ([]byte, error) {
	if len(key) != a.size {
		return nil, fmt.Errorf("the key has %d bits, and %s wants %d", 8*len(key), a.name, 8*a.size)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if a.gcm {
		gcm, err := cipher.NewGCM(block)
		if err != nil || len(sealed) < gcm.NonceSize() {
			return nil, errCiphertext
		}
		plain, err := gcm.Open(nil, sealed[:gcm.NonceSize()], sealed[gcm.NonceSize():], nil)
		if err != nil {
			return nil, errCiphertext
		}
		return plain, nil
	}
	if len(sealed) < 2*aes.BlockSize || len(sealed)%aes.BlockSize != 0 {
		return nil, errCiphertext
	}
	plain := make([]byte, len(sealed)-aes.BlockSize)
	cipher.NewCBCDecrypter(block, sealed[:aes.BlockSize]).CryptBlocks(plain, sealed[aes.BlockSize:])
	padding := int(plain[len(plain)-1])
	if padding == 0 || padding > aes.BlockSize {
		return nil, errCiphertext
	}
	return plain[:len(plain)-padding], nil
}

// IsEncrypted says whether anything in the message is encrypted.
func (m *Message) IsEncrypted() bool {
	var visit func(*document.Node) bool
	visit = func(n *document.Node) bool {
		if n.Name().Space == xenc && n.Name().Local == "EncryptedData" {
			return true
		}
		for _, item := range n.Items() {
			if item.Kind == document.Element && visit(item) {
				return true
			}
		}
		return false
	}
	return visit(m.Root)
}

// Decrypt opens everything that was encrypted for the key, in place, and says
// what that was.
func (m *Message) Decrypt(key crypto.PrivateKey) ([]string, error) {
	private, ok := key.(*rsa.PrivateKey)
	if !ok {
		return nil, errors.New("messages are opened with an RSA key, and the one given is another")
	}
	if m.security == nil {
		return nil, errors.New("it is encrypted, but no Security header says by which key")
	}
	var opened []string
	for _, item := range m.security.Children() {
		if item.Name().Space != xenc || item.Name().Local != "EncryptedKey" {
			continue
		}
		secret, err := unwrap(private, item)
		if err != nil {
			return opened, err
		}
		list := find(item, xenc, "ReferenceList")
		if list == nil {
			list = find(m.security, xenc, "ReferenceList")
		}
		if list == nil {
			return opened, errors.New("the encrypted key does not say what it opens (no ReferenceList)")
		}
		if len(list.Items()) > mostReferences {
			return opened, fmt.Errorf("the encrypted key opens more than %d parts", mostReferences)
		}
		for _, reference := range list.Children() {
			uri, _ := reference.Attribute("URI")
			name, err := m.open(strings.TrimPrefix(uri, "#"), secret)
			if err != nil {
				return opened, err
			}
			opened = append(opened, name)
		}
	}
	if opened == nil {
		return nil, errors.New("it is encrypted, but not by a key of the header")
	}
	again, err := Of(m.Root)
	if err == nil {
		*m = *again
	}
	return opened, err
}

// unwrap opens the key of the message (XML Encryption 1.1, section 5.5.2).
func unwrap(private *rsa.PrivateKey, encrypted *document.Node) ([]byte, error) {
	method := find(encrypted, xenc, "EncryptionMethod")
	var newHash func() hash.Hash
	mask := crypto.SHA1
	switch uri := algorithmOf(method); uri {
	case xenc + "rsa-oaep-mgf1p", xenc11 + "rsa-oaep":
		newHash = sha1.New
		if digest := find(method, ds, "DigestMethod"); digest != nil {
			if newHash = digests[algorithmOf(digest)]; newHash == nil {
				return nil, fmt.Errorf("the key travels with the digest %q, which is not known here",
					algorithmOf(digest))
			}
		}
		if mgf := find(method, xenc11, "MGF"); mgf != nil {
			switch strings.TrimPrefix(algorithmOf(mgf), xenc11) {
			case "mgf1sha1":
			case "mgf1sha256":
				mask = crypto.SHA256
			default:
				return nil, fmt.Errorf("the key travels with the mask %q, which is not known here", algorithmOf(mgf))
			}
		}
	default:
		return nil, fmt.Errorf("the key travels by %q, which is not known here", uri)
	}
	wrapped, err := decode(ownText(find(find(encrypted, xenc, "CipherData"), xenc, "CipherValue")))
	if err != nil {
		return nil, errors.New("the encrypted key is not Base64")
	}
	var label []byte
	if p := find(method, xenc, "OAEPparams"); p != nil {
		if label, err = decode(p.OwnText()); err != nil {
			return nil, errors.New("the parameters of the encrypted key are not Base64")
		}
	}
	sum := map[int]crypto.Hash{
		20: crypto.SHA1, 32: crypto.SHA256, 48: crypto.SHA384,
		64: crypto.SHA512,
	}[newHash().Size()]
	secret, err := private.Decrypt(nil, wrapped, &rsa.OAEPOptions{Hash: sum, MGFHash: mask, Label: label})
	if err != nil {
		return nil, errors.New("the encrypted key does not open: it is for another certificate than ours")
	}
	return secret, nil
}

// open puts what was encrypted back in its place.
func (m *Message) open(id string, key []byte) (string, error) {
	parent, at := m.parentOf(id)
	if parent == nil {
		return "", fmt.Errorf("the encrypted data %q is not in the message", id)
	}
	data := parent.Items()[at]
	a, ok := ciphers[algorithmOf(find(data, xenc, "EncryptionMethod"))]
	if !ok {
		return "", fmt.Errorf("the cipher %q is not known here", algorithmOf(find(data, xenc, "EncryptionMethod")))
	}
	sealed, err := decode(ownText(find(find(data, xenc, "CipherData"), xenc, "CipherValue")))
	if err != nil {
		return "", errors.New("the encrypted data is not Base64")
	}
	plain, err := unseal(a, key, sealed)
	if err != nil {
		return "", err
	}
	items, err := m.fragment(parent, plain)
	if err != nil {
		return "", fmt.Errorf("what was encrypted cannot be read: %w", err)
	}
	parent.SetItems(append(parent.Items()[:at:at], append(items, parent.Items()[at+1:]...)...))
	switch {
	case parent == m.body:
		return "body", nil
	case len(items) > 0 && items[0].Kind == document.Element:
		return items[0].Name().Local, nil
	}
	return parent.Name().Local, nil
}

func (m *Message) parentOf(id string) (*document.Node, int) {
	var parent *document.Node
	at := 0
	var visit func(*document.Node)
	visit = func(n *document.Node) {
		for i, item := range n.Items() {
			if item.Kind != document.Element {
				continue
			}
			if item.Name().Space == xenc && item.Name().Local == "EncryptedData" && idOf(item) == id && parent == nil {
				parent, at = n, i
			}
			visit(item)
		}
	}
	visit(m.Root)
	return parent, at
}

// fragment reads content with the namespaces that hold where it stood.
func (m *Message) fragment(parent *document.Node, plain []byte) ([]*document.Node, error) {
	wrapper := document.NewElement(document.Name{Local: "content"})
	declared := map[string]bool{}
	// The innermost declaration of a prefix holds.
	var around []*document.Node
	for n := parent; n != nil; n = m.above(n) {
		around = append(around, n)
	}
	for _, n := range around {
		for _, a := range n.Attributes() {
			if a.IsDeclaration() && !declared[a.Name.String()] {
				declared[a.Name.String()] = true
				wrapper.AppendAttributes(a)
			}
		}
	}
	opening := document.CanonicalXML(wrapper, wrapper, document.Canonical{Inclusive: true})
	start, end, _ := strings.Cut(string(opening), "></")
	root, err := document.ReadXML([]byte(start+">"+string(plain)+"</"+end), "utf-8")
	if err != nil {
		return nil, err
	}
	return root.Items(), nil
}

func (m *Message) above(expected *document.Node) *document.Node {
	var found *document.Node
	var visit func(*document.Node)
	visit = func(n *document.Node) {
		for _, item := range n.Items() {
			if item == expected {
				found = n
			}
			if item.Kind == document.Element {
				visit(item)
			}
		}
	}
	visit(m.Root)
	return found
}
