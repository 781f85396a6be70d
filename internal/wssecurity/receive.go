package wssecurity

import (
	"crypto"
	"crypto/rsa"
	"errors"
	"fmt"
	"maps"
	"strings"

	"testbench/internal/document"
)

// Received is what was found out about the protection of a message.
type Received struct {
	Opened     []string    // what was encrypted, by its name
	Signatures []Signature // in the order in which they were checked
	// Problem says why something encrypted could not be opened; nil where all of it was.
	Problem error
}

// Receive opens what was encrypted, in place, and checks every signature of the Security block. The order of the
// elements there says which comes first (WS-Security 1.1, section 5): what was signed and then encrypted is opened
// before its signature is checked, and the other way round. What a signature covers is told by the place in the
// envelope, so that a copy of the signed element elsewhere deceives nobody. key may be nil.
func (m *Message) Receive(key crypto.PrivateKey, trust Trust) Received {
	var got Received
	isEncrypted := m.IsEncrypted()
	if m.security == nil {
		if isEncrypted {
			got.Problem = errors.New("it is encrypted, but no Security header says by which key")
		}
		return got
	}
	keys := maps.Clone(trust.Keys)
	if keys == nil {
		keys = sharedKeys{}
	}
	// Opening puts other elements in the place of what is there.
	for i := 0; i < len(m.security.Items()) && got.Problem == nil && len(got.Signatures) <= mostSignatures; i++ {
		m.receive(m.security.Items()[i], key, trust, keys, &got)
	}
	if got.Problem == nil && isEncrypted && got.Opened == nil {
		got.Problem = errors.New("it is encrypted, but not by a key of the header")
	}
	if again, err := Of(m.Root); err == nil {
		again.For(m.actor)
		again.added, again.tokens, again.keys = m.added, m.tokens, m.keys
		*m = *again
	}
	return got
}

// lastKey names the encrypted key that came last, which opens what does not say its key.
const lastKey = "last"

// receive does what one element of the Security block asks for.
func (m *Message) receive(item *document.Node, key crypto.PrivateKey, trust Trust, keys sharedKeys, got *Received) {
	if item.Kind != document.Element {
		return
	}
	list := item
	var secret []byte
	switch name := item.Name(); {
	case name.Space == ds && name.Local == "Signature":
		got.Signatures = append(got.Signatures, m.checkSignature(item, trust, keys, len(got.Signatures)))
		return
	case isConversation(name.Space) && name.Local == contextToken:
		keys["#"+idOf(item)] = keys[contextOf(item)]
		return
	case isConversation(name.Space) && name.Local == derivedToken:
		derived, err := m.derived(item, keys)
		if err == nil {
			keys["#"+idOf(item)] = derived
		} else {
			got.Problem = err
		}
		return
	case name.Space == xenc && name.Local == "EncryptedKey":
		if secret, got.Problem = openKey(item, key); got.Problem != nil {
			return
		}
		wrapped, _ := decode(ownText(find(find(item, xenc, "CipherData"), xenc, "CipherValue")))
		keys["#"+idOf(item)], keys[hashOfKey(wrapped)], keys[lastKey] = secret, secret, secret
		if list = find(item, xenc, "ReferenceList"); list == nil {
			return
		}
	case name.Space == xenc && name.Local == "ReferenceList":
	default:
		return
	}
	if len(list.Items()) > mostReferences {
		got.Problem = fmt.Errorf("one key opens more than %d parts", mostReferences)
		return
	}
	for _, reference := range list.Children() {
		uri, _ := reference.Attribute("URI")
		name, err := m.open(strings.TrimPrefix(uri, "#"), secret, keys)
		if err != nil {
			got.Problem = err
			return
		}
		got.Opened = append(got.Opened, name)
	}
}

func openKey(encrypted *document.Node, key crypto.PrivateKey) ([]byte, error) {
	private, ok := key.(*rsa.PrivateKey)
	switch {
	case key == nil:
		return nil, errors.New("there is no key to decrypt it with; write key: at the login")
	case !ok:
		return nil, errors.New("messages are opened with an RSA key, and the one given is another")
	}
	return unwrap(private, encrypted)
}

// checkSignature checks one signature, unless there were too many before it.
func (m *Message) checkSignature(item *document.Node, trust Trust, keys sharedKeys, before int) Signature {
	if before >= mostSignatures {
		return Signature{Problem: fmt.Errorf("there are more than %d signatures", mostSignatures)}
	}
	s := Signature{Value: valueOf(item)}
	s.Problem = m.verify(item, &s, trust, keys)
	return s
}

func valueOf(signature *document.Node) string {
	return strings.Join(strings.Fields(ownText(find(signature, ds, "SignatureValue"))), "")
}

// SignatureValues lists the values of the signatures that the message has, for all actors.
func (m *Message) SignatureValues() []string {
	var values []string
	for _, block := range m.securityBlocks() {
		for _, item := range block.Children() {
			if item.Name().Space == ds && item.Name().Local == "Signature" {
				values = append(values, valueOf(item))
			}
		}
	}
	return values
}
