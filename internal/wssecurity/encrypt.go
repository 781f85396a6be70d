package wssecurity

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
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
	name  string
	size  int // bytes of the key
	gcm   bool
	block func(key []byte) (cipher.Block, error)
}

// ciphers are the block ciphers by their identifiers (XML Encryption 1.1, 5.2).
var ciphers = map[string]cipherAlgorithm{
	xenc + "aes128-cbc":    {"aes128-cbc", 16, false, aes.NewCipher},
	xenc + "aes192-cbc":    {"aes192-cbc", 24, false, aes.NewCipher},
	xenc + "aes256-cbc":    {"aes256-cbc", 32, false, aes.NewCipher},
	xenc11 + "aes128-gcm":  {"aes128-gcm", 16, true, aes.NewCipher},
	xenc11 + "aes192-gcm":  {"aes192-gcm", 24, true, aes.NewCipher},
	xenc11 + "aes256-gcm":  {"aes256-gcm", 32, true, aes.NewCipher},
	xenc + "tripledes-cbc": {"tripledes-cbc", 24, false, des.NewTripleDESCipher},
}

// Ciphers lists the ciphers that can be asked for.
var Ciphers = []string{
	"aes256-gcm", "aes192-gcm", "aes128-gcm", "aes256-cbc", "aes192-cbc", "aes128-cbc", "tripledes-cbc",
}

// KeyTransports lists the ways in which the key travels: RSA-OAEP with SHA-1, as
// XML Encryption 1.0 has it, or with SHA-256 throughout (1.1, section 5.5.2), or the older RSA 1.5 (5.5.1).
var KeyTransports = []string{"rsa-oaep", "rsa-oaep-sha256", "rsa-1_5"}

// Weak says why an algorithm should not be used where the receiver takes another; empty for the others.
func Weak(algorithm string) string {
	switch algorithm {
	case "tripledes-cbc":
		return "tripledes-cbc has blocks of 64 bits (Sweet32)"
	case "rsa-1_5":
		return "a key that travels by rsa-1_5 can be found by asking the receiver many times (Bleichenbacher)"
	}
	return ""
}

// Encryption says how a message is encrypted.
type Encryption struct {
	For       *x509.Certificate // of the receiver; nil where the key is a shared one
	Shared    *SharedKey        // the key that encrypts; nil makes one for this alone
	Derived   bool              // encrypts by a key that is derived from the shared one
	Parts     []string          // as for Signing; of the body its content, of others the element
	Cipher    string            // of Ciphers; empty is aes256-gcm
	Transport string            // of KeyTransports; empty is rsa-oaep
	Reference string            // of CertificateReferences, how the receiver's key is named; empty is issuer
}

// Encrypt encrypts the parts by a shared key, or by one made for this message, which is added
// encrypted for the receiver (XML Encryption; WS-Security 1.1, section 9).
func (m *Message) Encrypt(e Encryption) error {
	uri, err := e.cipher()
	if err != nil {
		return err
	}
	m.secured()
	list := element(xenc, "ReferenceList")
	if e.Shared == nil {
		encrypted, secret, err := m.encryptedKey(e)
		if err != nil {
			return err
		}
		encrypted.AppendItems(list)
		return m.encryptParts(e, uri, secret, nil, list)
	}
	key := e.Shared
	if e.Derived {
		if key, err = m.derive(key, ciphers[uri].size); err != nil {
			return err
		}
	}
	m.insertAfter(key.element, declareHere(list, xenc))
	secret := key.secret
	if size := ciphers[uri].size; len(secret) != size {
		return fmt.Errorf("the shared key has %d bits, and %s wants %d: write derived keys: true, or another cipher",
			8*len(secret), ciphers[uri].name, 8*size)
	}
	return m.encryptParts(e, uri, secret, key.reference, list)
}

// cipher is the identifier of the block cipher.
func (e Encryption) cipher() (string, error) {
	name := cmp.Or(e.Cipher, "aes256-gcm")
	for uri, c := range ciphers {
		if c.name == name {
			return uri, nil
		}
	}
	return "", fmt.Errorf("there is no cipher %q; there are: %s", name, strings.Join(Ciphers, ", "))
}

// encryptParts encrypts each part, and lists them. key, where it is not nil, says on each which key opens it.
func (m *Message) encryptParts(e Encryption, uri string, secret []byte, key func() *document.Node,
	list *document.Node,
) error {
	for _, part := range e.Parts {
		n, err := m.part(part)
		if err != nil {
			return err
		}
		var named *document.Node
		if key != nil {
			named = key()
		}
		id, err := m.encryptPart(n, n == m.body, uri, secret, named)
		if err != nil {
			return err
		}
		list.AppendItems(with(element(xenc, "DataReference"), "URI", "#"+id))
	}
	return nil
}

// encryptedKey makes a key, and puts it into the Security block encrypted for the receiver.
func (m *Message) encryptedKey(e Encryption) (encrypted *document.Node, secret []byte, err error) {
	uri, err := e.cipher()
	if err != nil {
		return nil, nil, err
	}
	public, ok := e.For.PublicKey.(*rsa.PublicKey)
	if !ok {
		return nil, nil, errors.New("messages are encrypted for an RSA key, and the receiver's certificate has another")
	}
	secret = make([]byte, ciphers[uri].size)
	if _, err := rand.Read(secret); err != nil {
		return nil, nil, err
	}
	method, wrapped, err := e.wrap(public, secret)
	if err != nil {
		return nil, nil, err
	}
	reference, token, err := certificateReference([]*x509.Certificate{e.For}, cmp.Or(e.Reference, "issuer"))
	if err != nil {
		return nil, nil, err
	}
	info := declareHere(element(ds, "KeyInfo", reference), ds)
	encrypted = declareHere(element(xenc, "EncryptedKey", method, info, cipherData(wrapped)), xenc)
	m.prepend(with(encrypted, "Id", newID("key")))
	if token != nil {
		m.prepend(token)
	}
	m.keep(hashOfKey(wrapped), secret)
	return encrypted, secret, nil
}

// wrap encrypts the key for the receiver, and says how.
func (e Encryption) wrap(public *rsa.PublicKey, key []byte) (method *document.Node, wrapped []byte, err error) {
	method = with(element(xenc, "EncryptionMethod",
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
	case "rsa-1_5":
		//lint:ignore SA1019 some services know no other
		wrapped, err = rsa.EncryptPKCS1v15(rand.Reader, public, key)
		return with(element(xenc, "EncryptionMethod"), "Algorithm", xenc+"rsa-1_5"), wrapped, err
	default:
		return nil, nil, fmt.Errorf("there is no key transport %q; there are: %s", e.Transport,
			strings.Join(KeyTransports, ", "))
	}
	wrapped, err = rsa.EncryptOAEP(options.Hash.New(), rand.Reader, public, key, nil)
	return method, wrapped, err
}

func cipherData(data []byte) *document.Node {
	return element(xenc, "CipherData", element(xenc, "CipherValue", text(base64.StdEncoding.EncodeToString(data))))
}

// encryptPart puts EncryptedData in the place of an element, or of a body's content.
func (m *Message) encryptPart(n *document.Node, content bool, uri string, key []byte, named *document.Node,
) (string, error) {
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
	data := declareHere(with(element(xenc, "EncryptedData", with(element(xenc, "EncryptionMethod"), "Algorithm", uri)),
		"Id", id, "Type", kind), xenc)
	if named != nil {
		// It may stand outside of the Security block, where nothing is declared.
		data.AppendItems(declareHere(element(ds, "KeyInfo", declareHere(named, wsse)), ds))
	}
	data.AppendItems(cipherData(sealed))
	if content {
		n.SetItems([]*document.Node{data})
		return id, nil
	}
	n.Become(data)
	return id, nil
}

func seal(a cipherAlgorithm, key, plain []byte) ([]byte, error) {
	block, err := a.block(key)
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
	size := block.BlockSize()
	padding := size - len(plain)%size
	padded := append(append([]byte{}, plain...), bytes.Repeat([]byte{byte(padding)}, padding)...)
	out := make([]byte, size+len(padded))
	if _, err := rand.Read(out[:size]); err != nil {
		return nil, err
	}
	cipher.NewCBCEncrypter(block, out[:size]).CryptBlocks(out[size:], padded)
	return out, nil
}

var errCiphertext = errors.New("the encrypted data was changed, or is for another key")

func unseal(a cipherAlgorithm, key, sealed []byte) ([]byte, error) {
	if len(key) != a.size {
		return nil, fmt.Errorf("the key has %d bits, and %s wants %d", 8*len(key), a.name, 8*a.size)
	}
	block, err := a.block(key)
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
	size := block.BlockSize()
	if len(sealed) < 2*size || len(sealed)%size != 0 {
		return nil, errCiphertext
	}
	plain := make([]byte, len(sealed)-size)
	cipher.NewCBCDecrypter(block, sealed[:size]).CryptBlocks(plain, sealed[size:])
	padding := int(plain[len(plain)-1])
	if padding == 0 || padding > size {
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

var errOtherKey = errors.New("the encrypted key does not open: it is for another certificate than ours")

// unwrap opens the key of the message (XML Encryption 1.1, section 5.5.2).
func unwrap(private *rsa.PrivateKey, encrypted *document.Node) ([]byte, error) {
	method := find(encrypted, xenc, "EncryptionMethod")
	wrapped, err := decode(ownText(find(find(encrypted, xenc, "CipherData"), xenc, "CipherValue")))
	if err != nil {
		return nil, errors.New("the encrypted key is not Base64")
	}
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
	case xenc + "rsa-1_5":
		//lint:ignore SA1019 some services know no other
		secret, err := rsa.DecryptPKCS1v15(nil, private, wrapped)
		if err != nil {
			return nil, errOtherKey
		}
		return secret, nil
	default:
		return nil, fmt.Errorf("the key travels by %q, which is not known here", uri)
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
		return nil, errOtherKey
	}
	return secret, nil
}

// open puts what was encrypted back in its place. key may be nil where the data says by which it was encrypted.
func (m *Message) open(id string, key []byte, keys sharedKeys) (string, error) {
	parent, at := m.parentOf(id)
	if parent == nil {
		return "", fmt.Errorf("the encrypted data %q is not in the message", id)
	}
	data := parent.Items()[at]
	reference := find(find(data, ds, "KeyInfo"), wsse, "SecurityTokenReference")
	if key == nil && reference == nil {
		key = keys[lastKey]
	}
	if key == nil {
		name := ""
		var err error
		switch key, name, err = m.sharedKey(reference, keys); {
		case err != nil:
			return "", err
		case key == nil:
			return "", fmt.Errorf("it is encrypted by the key %q, which is not known here", name)
		}
	}
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
