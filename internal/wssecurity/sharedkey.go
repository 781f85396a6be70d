package wssecurity

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// sharedKeys are keys that both sides have, by what refers to them: the id of an element (#id), the
// hash of an encrypted key, the identifier of an assertion or of a security context.
type sharedKeys map[string][]byte

// SharedKey is a key that both sides have, with what names it in the Security block.
type SharedKey struct {
	secret    []byte
	element   *document.Node
	reference func() *document.Node // a SecurityTokenReference to it
}

// NewKey makes a key for the message and adds it, encrypted for the receiver (XML Encryption 1.1,
// section 3.5). Its signature and what is encrypted by it refer to it.
func (m *Message) NewKey(e Encryption) (*SharedKey, error) {
	encrypted, secret, err := m.encryptedKey(e)
	if err != nil {
		return nil, err
	}
	id := identify(encrypted, "key")
	return &SharedKey{secret: secret, element: encrypted, reference: func() *document.Node {
		return tokenType(messageSecurity11+"#EncryptedKey",
			directReference("#"+id, messageSecurity11+"#EncryptedKey"))
	}}, nil
}

// AddToken adds a token as it was issued; text is what tells it from other tokens.
func (m *Message) AddToken(text string, token *document.Node) {
	m.prepend(token)
	if m.tokens == nil {
		m.tokens = map[string]*document.Node{}
	}
	m.tokens[text] = token
}

// TokenKey is the key that came with a token that was added. attached is how a message refers to the token, as its
// issuer says; nil for an assertion or the token of a security context (WS-SecureConversation 1.3, section 2).
func (m *Message) TokenKey(text string, secret []byte, attached *document.Node) (*SharedKey, error) {
	token := m.tokens[text]
	if token == nil {
		return nil, errors.New("the header does not have the token whose key signs: put the login that adds it " +
			"beside this one")
	}
	key := &SharedKey{secret: secret, element: token}
	switch {
	case isAssertion(token):
		m.keep(idOf(token), secret)
		key.reference = func() *document.Node { return assertionReference(token) }
	case token.Name().Local == contextToken && isConversation(token.Name().Space):
		m.keep(contextOf(token), secret)
		id, kind := identify(token, "context"), token.Name().Space+"/sct"
		key.reference = func() *document.Node { return directReference("#"+id, kind) }
	case attached != nil:
		key.reference = attached.Copy
	default:
		return nil, fmt.Errorf("the token is the element %s, and its issuer does not say how to refer to it",
			token.Name().Local)
	}
	return key, nil
}

// keep remembers a key for the answer.
func (m *Message) keep(name string, secret []byte) {
	if m.keys == nil {
		m.keys = sharedKeys{}
	}
	m.keys[name] = secret
}

// Keys are the shared keys that the message was made with, for Trust of its answer.
func (m *Message) Keys() map[string][]byte { return m.keys }

func directReference(uri, kind string) *document.Node {
	return element(wsse, "SecurityTokenReference",
		with(element(wsse, "Reference"), "URI", uri, "ValueType", kind))
}

// hashOfKey names an encrypted key by its octets (WS-Security 1.1, section 7.3).
func hashOfKey(encrypted []byte) string {
	sum := sha1.Sum(encrypted)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// Derived keys (WS-SecureConversation 1.3, section 7).

const (
	contextToken = "SecurityContextToken"
	derivedToken = "DerivedKeyToken"
	// derivedLabel is that of either side, one after the other, where none is written.
	derivedLabel = "WS-SecureConversation"
	// signingSize is the size of a derived key that signs, in bytes (WS-SecurityPolicy 1.3, section 6.1,
	// the suites of 256 bits).
	signingSize = 24
	// mostDerived bounds how far into the stream a key may lie, and how long it may be.
	mostDerived = 4096
)

// isConversation tells the namespaces of WS-SecureConversation, 1.3 and the one of 2005 before it.
func isConversation(space string) bool {
	return space == conversation || space == "http://schemas.xmlsoap.org/ws/2005/02/sc"
}

func contextOf(token *document.Node) string {
	return strings.TrimSpace(ownText(find(token, token.Name().Space, "Identifier")))
}

// PSHA1 is the function P_SHA-1 of TLS 1.0 (RFC 2246, section 5): size bytes from a secret and a seed.
func PSHA1(secret, seed []byte, size int) []byte {
	hash := func(parts ...[]byte) []byte {
		mac := hmac.New(sha1.New, secret)
		for _, part := range parts {
			mac.Write(part)
		}
		return mac.Sum(nil)
	}
	var out []byte
	for a := seed; len(out) < size; {
		a = hash(a)
		out = append(out, hash(a, seed)...)
	}
	return out[:size]
}

// derive makes a key of its own for one use, and adds the token that tells the receiver how.
func (m *Message) derive(from *SharedKey, size int) (*SharedKey, error) {
	nonce := make([]byte, 16)
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	token := declareHere(element(conversation, derivedToken, from.reference(),
		element(conversation, "Offset", text("0")),
		element(conversation, "Length", text(strconv.Itoa(size))),
		element(conversation, "Nonce", text(base64.StdEncoding.EncodeToString(nonce)))), conversation)
	id := identify(token, "derived")
	m.insertAfter(from.element, token)
	seed := append([]byte(derivedLabel+derivedLabel), nonce...)
	return &SharedKey{secret: PSHA1(from.secret, seed, size), element: token, reference: func() *document.Node {
		return directReference("#"+id, conversation+"/dk")
	}}, nil
}

// derived makes the key again that a token describes.
func (m *Message) derived(token *document.Node, keys sharedKeys) ([]byte, error) {
	part := func(name string) *document.Node { return find(token, token.Name().Space, name) }
	for _, a := range token.Attributes() {
		if a.Name.Local == "Algorithm" && !strings.HasSuffix(a.Value, "/dk/p_sha1") {
			return nil, fmt.Errorf("a key is derived by %q, which is not known here", a.Value)
		}
	}
	secret, name, err := m.sharedKey(find(token, wsse, "SecurityTokenReference"), keys)
	switch {
	case err != nil:
		return nil, err
	case secret == nil:
		return nil, fmt.Errorf("a key is derived from %s, which is not known here", name)
	}
	number := func(name string, otherwise int) (int, error) {
		n := part(name)
		if n == nil {
			return otherwise, nil
		}
		i, err := strconv.Atoi(strings.TrimSpace(n.OwnText()))
		if err != nil || i < 0 || i > mostDerived {
			return 0, fmt.Errorf("the %s of a derived key is %q: it must be a number up to %d", name, n.OwnText(),
				mostDerived)
		}
		return i, nil
	}
	size, err := number("Length", 32)
	if err != nil {
		return nil, err
	}
	offset, err := number("Offset", 0)
	if err != nil {
		return nil, err
	}
	generation, err := number("Generation", 0)
	if err != nil {
		return nil, err
	}
	offset += generation * size
	if offset+size > mostDerived {
		return nil, fmt.Errorf("a derived key ends at byte %d, and %d are the most", offset+size, mostDerived)
	}
	label := derivedLabel + derivedLabel
	if n := part("Label"); n != nil {
		label = n.OwnText()
	}
	nonce, err := decode(ownText(part("Nonce")))
	if err != nil {
		return nil, errors.New("the nonce of a derived key is not Base64")
	}
	return PSHA1(secret, append([]byte(label), nonce...), offset+size)[offset:], nil
}

// sharedKey finds the shared key that a reference names; nil where it names none that is known.
// The name is for messages.
func (m *Message) sharedKey(reference *document.Node, keys sharedKeys) (secret []byte, name string, err error) {
	if reference == nil {
		return nil, "", errors.New("nothing says which key it is")
	}
	if direct := find(reference, wsse, "Reference"); direct != nil {
		name, _ = direct.Attribute("URI")
	} else if identifier := find(reference, wsse, "KeyIdentifier"); identifier != nil {
		name = strings.TrimSpace(identifier.OwnText())
	}
	return keys[name], name, nil
}
