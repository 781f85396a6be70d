// Package wssecurity protects SOAP envelopes as WS-Security 1.1 says, and checks
// and opens those that come back: user name tokens, time stamps, signatures by
// X.509 keys, encryption, SAML assertions. It works on trees and sends nothing.
package wssecurity

import (
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/soap"
)

// The namespaces (WS-Security 1.1, section 1; XML Signature, 1.3; XML Encryption, 1.3).
const (
	wsse   = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
	wsu    = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	wsse11 = "http://docs.oasis-open.org/wss/oasis-wss-wssecurity-secext-1.1.xsd"
	ds     = "http://www.w3.org/2000/09/xmldsig#"
	xenc   = "http://www.w3.org/2001/04/xmlenc#"
	xenc11 = "http://www.w3.org/2009/xmlenc11#"
	saml2  = "urn:oasis:names:tc:SAML:2.0:assertion"
	saml1  = "urn:oasis:names:tc:SAML:1.0:assertion"

	conversation = "http://docs.oasis-open.org/ws-sx/ws-secureconversation/200512"

	soapMessageSecurity = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0"
	messageSecurity11   = "http://docs.oasis-open.org/wss/oasis-wss-soap-message-security-1.1"
	userNameProfile     = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0"
	x509Profile         = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-x509-token-profile-1.0"
	samlProfile10       = "http://docs.oasis-open.org/wss/oasis-wss-saml-token-profile-1.0"
	samlProfile11       = "http://docs.oasis-open.org/wss/oasis-wss-saml-token-profile-1.1"
)

// prefixes are those that this package writes.
var prefixes = map[string]string{
	wsse: "wsse", wsu: "wsu", wsse11: "wsse11", ds: "ds", xenc: "xenc", xenc11: "xenc11", conversation: "wsc",
}

// Message is an envelope that is being protected, or was received.
type Message struct {
	Root     *document.Node
	version  soap.Version
	header   *document.Node
	body     *document.Node
	actor    string                    // whom the security block at hand is for; empty is the receiver
	security *document.Node            // the block for that actor; nil until something goes into it
	added    []*document.Node          // header blocks
	tokens   map[string]*document.Node // those that were added, by their text
	keys     sharedKeys                // those that the message was made with
}

// Parse reads an envelope. The error is for what is not a SOAP envelope.
func Parse(data []byte) (*Message, error) {
	root, err := document.ReadXML(data, "utf-8")
	if err != nil {
		return nil, fmt.Errorf("the message is %w", err)
	}
	return Of(root)
}

// Of takes an envelope that was read already.
func Of(root *document.Node) (*Message, error) {
	m := &Message{Root: root}
	switch {
	case root == nil || root.Name().Local != "Envelope":
		return nil, errors.New("the message is not a SOAP envelope")
	case root.Name().Space == soap.Namespace11:
		m.version = soap.V11
	case root.Name().Space == soap.Namespace12:
		m.version = soap.V12
	default:
		return nil, fmt.Errorf("the envelope is of no version of SOAP: %s", root.Name().Space)
	}
	for _, child := range root.Children() {
		if child.Name().Space != root.Name().Space {
			continue
		}
		switch child.Name().Local {
		case "Header":
			m.header = child
		case "Body":
			m.body = child
		}
	}
	if m.body == nil {
		return nil, errors.New("the envelope has no Body")
	}
	m.For("")
	return m, nil
}

// For goes on with the Security block for an actor (a role, in SOAP 1.2): a message has at most
// one for each (WS-Security 1.1, section 5). An empty actor is whoever receives the message.
func (m *Message) For(actor string) {
	m.actor, m.security = actor, m.blockFor(actor)
}

// blockFor returns the Security block for an actor, or nil.
func (m *Message) blockFor(actor string) *document.Node {
	for _, block := range m.securityBlocks() {
		if actorOf(block) == actor {
			return block
		}
	}
	return nil
}

func (m *Message) securityBlocks() []*document.Node {
	var blocks []*document.Node
	if m.header == nil {
		return nil
	}
	for _, block := range m.header.Children() {
		if block.Name().Space == wsse && block.Name().Local == "Security" {
			blocks = append(blocks, block)
		}
	}
	return blocks
}

// receivers are the actors and roles that every receiver plays (SOAP 1.1, 4.2.2; SOAP 1.2 Part 1, 2.2).
var receivers = []string{
	"http://schemas.xmlsoap.org/soap/actor/next",
	soap.Namespace12 + "/role/next", soap.Namespace12 + "/role/ultimateReceiver",
}

// actorOf tells whom a block is for; empty is the receiver.
func actorOf(block *document.Node) string {
	for _, a := range block.Attributes() {
		isNamed := a.Name.Space == soap.Namespace11 && a.Name.Local == "actor" ||
			a.Name.Space == soap.Namespace12 && a.Name.Local == "role"
		if actor := strings.TrimSpace(a.Value); isNamed && !slices.Contains(receivers, actor) {
			return actor
		}
	}
	return ""
}

// find returns the first child with the name, or nil.
func find(n *document.Node, space, local string) *document.Node {
	if n == nil {
		return nil
	}
	for _, item := range n.Items() {
		if item.Kind == document.Element && item.Name().Local == local && item.Name().Space == space {
			return item
		}
	}
	return nil
}

// Bytes writes the envelope. What was signed stays as it was: the form written
// is the canonical one.
func (m *Message) Bytes() []byte {
	return document.CanonicalXML(m.Root, m.Root, document.Canonical{Inclusive: true, Comments: true})
}

// Shown writes the envelope with its secrets hidden.
func (m *Message) Shown(hide string) string {
	return string(document.CanonicalXML(m.Root, m.Root,
		document.Canonical{Inclusive: true, Comments: true, Hide: hide}))
}

// TakeSecurity puts the Security blocks of another message in the place of its own,
// to show them.
func (m *Message) TakeSecurity(of *Message) {
	for _, block := range of.securityBlocks() {
		m.For(actorOf(block))
		m.secured().Become(block)
	}
}

// AddBlock adds a block after those that the header has.
func (m *Message) AddBlock(block *document.Node) {
	m.headed().AppendItems(block)
	m.added = append(m.added, block)
}

// TakeBlocks adds the blocks that were added to another message, to show them.
func (m *Message) TakeBlocks(of *Message) {
	for _, block := range of.added {
		m.headed().AppendItems(block)
	}
}

// headed returns the header of the envelope, and makes it when there is none.
func (m *Message) headed() *document.Node {
	if m.header == nil {
		envelope := m.Root.Name()
		m.header = document.NewElement(document.Name{Space: envelope.Space, Prefix: envelope.Prefix, Local: "Header"})
		at := 0
		for at < len(m.Root.Items()) && m.Root.Items()[at] != m.body {
			at++
		}
		m.Root.SetItems(append(m.Root.Items()[:at:at], append([]*document.Node{m.header}, m.Root.Items()[at:]...)...))
	}
	return m.header
}

// element makes an element of one of the namespaces above.
func element(space, local string, items ...*document.Node) *document.Node {
	return document.NewElement(document.Name{Space: space, Prefix: prefixes[space], Local: local}, items...)
}

func text(s string) *document.Node { return document.NewUntyped(s) }

// with adds attributes without a namespace: names and values in turn.
func with(n *document.Node, pairs ...string) *document.Node {
	for i := 0; i < len(pairs); i += 2 {
		n.AppendAttributes(document.Attribute{Name: document.Name{Local: pairs[i]}, Value: pairs[i+1]})
	}
	return n
}

// secured returns the Security block, and makes it when there is none.
func (m *Message) secured() *document.Node {
	if m.security != nil {
		return m.security
	}
	envelope := m.Root.Name()
	m.headed()
	m.security = element(wsse, "Security")
	for space, prefix := range prefixes {
		if space == wsse || space == wsu {
			m.security.AppendAttributes(declaration(prefix, space))
		}
	}
	prefix := envelope.Prefix
	if prefix == "" {
		prefix = "env" // an attribute without a prefix would have no namespace
		m.security.AppendAttributes(declaration(prefix, envelope.Space))
	}
	of := func(local, value string) document.Attribute {
		return document.Attribute{
			Name: document.Name{Space: envelope.Space, Prefix: prefix, Local: local}, Value: value,
		}
	}
	m.security.AppendAttributes(of("mustUnderstand",
		map[soap.Version]string{soap.V11: "1", soap.V12: "true"}[m.version]))
	if m.actor != "" {
		m.security.AppendAttributes(of(map[soap.Version]string{soap.V11: "actor", soap.V12: "role"}[m.version],
			m.actor))
	}
	m.header.SetItems(append([]*document.Node{m.security}, m.header.Items()...))
	return m.security
}

func declaration(prefix, space string) document.Attribute {
	return document.Attribute{Name: document.Name{Prefix: "xmlns", Local: prefix}, Value: space}
}

// prepend puts an element first into the Security block, as receivers expect
// (WS-Security 1.1, section 5).
func (m *Message) prepend(n *document.Node) {
	s := m.secured()
	s.SetItems(append([]*document.Node{n}, s.Items()...))
}

// insertAfter puts elements behind another of the Security block: what is nearer to the front is
// processed first, so that what was done last comes before what was done earlier.
func (m *Message) insertAfter(before *document.Node, added ...*document.Node) {
	items := m.secured().Items()
	at := slices.Index(items, before) + 1
	m.security.SetItems(slices.Insert(slices.Clone(items), at, added...))
}

// declareHere adds declarations that an element needs on itself.
func declareHere(n *document.Node, spaces ...string) *document.Node {
	for _, space := range spaces {
		n.AppendAttributes(declaration(prefixes[space], space))
	}
	return n
}

// newID makes an id that no other element has.
func newID(what string) string {
	b := make([]byte, 9)
	_, _ = rand.Read(b)
	return what + "-" + strings.NewReplacer("-", "a", "_", "b").Replace(base64.RawURLEncoding.EncodeToString(b))
}

// idOf gives an element's id: wsu:Id, the Id of signature and encryption
// elements, or the ID of an assertion (WS-Security 1.1, section 4.2).
func idOf(n *document.Node) string {
	for _, a := range n.Attributes() {
		switch {
		case a.Name.Space == wsu && a.Name.Local == "Id",
			a.Name.Space == "" && a.Name.Local == "Id" &&
				(n.Name().Space == ds || n.Name().Space == xenc || n.Name().Space == wsse),
			a.Name.Space == "" && a.Name.Local == "ID" && n.Name().Space == saml2,
			a.Name.Space == "" && a.Name.Local == "AssertionID" && n.Name().Space == saml1,
			a.Name.Space == "http://www.w3.org/XML/1998/namespace" && a.Name.Local == "id":
			return a.Value
		}
	}
	return ""
}

// identify returns an element's id, and gives it one when it has none.
func identify(n *document.Node, what string) string {
	if id := idOf(n); id != "" {
		return id
	}
	id := newID(what)
	if n.Name().Space == ds || n.Name().Space == xenc {
		n.AppendAttributes(document.Attribute{Name: document.Name{Local: "Id"}, Value: id})
		return id
	}
	n.AppendAttributes(declaration(prefixes[wsu], wsu),
		document.Attribute{Name: document.Name{Space: wsu, Prefix: prefixes[wsu], Local: "Id"}, Value: id})
	return id
}

const stampFormat = "2006-01-02T15:04:05.000Z"

// AddTimestamp says when the message was made and when it ends (section 10).
// A message has at most one; that which is there stays.
func (m *Message) AddTimestamp(created time.Time, life time.Duration) {
	if find(m.security, wsu, "Timestamp") != nil {
		return
	}
	stamp := element(wsu, "Timestamp", element(wsu, "Created", text(created.UTC().Format(stampFormat))))
	if life > 0 {
		stamp.AppendItems(element(wsu, "Expires", text(created.Add(life).UTC().Format(stampFormat))))
	}
	m.prepend(stamp)
}

// UsernameToken names a user (UsernameToken Profile 1.1).
type UsernameToken struct {
	User, Password string
	Digest         bool
	// Nonce and Created guard against repetition; a digest is made over them too.
	Nonce   []byte
	Created time.Time
}

// PasswordDigest is Base64(SHA-1(nonce + created + password)) (UsernameToken
// Profile 1.1, section 3.1).
func PasswordDigest(nonce []byte, created, password string) string {
	hash := sha1.New()
	hash.Write(nonce)
	hash.Write([]byte(created + password))
	return base64.StdEncoding.EncodeToString(hash.Sum(nil))
}

// AddUsernameToken adds the token.
func (m *Message) AddUsernameToken(t UsernameToken) {
	token := element(wsse, "UsernameToken", element(wsse, "Username", text(t.User)))
	created := ""
	if !t.Created.IsZero() {
		created = t.Created.UTC().Format(stampFormat)
	}
	password, kind := text(t.Password), "#PasswordText"
	if t.Digest {
		password, kind = text(PasswordDigest(t.Nonce, created, t.Password)), "#PasswordDigest"
	}
	password.Secret = true
	token.AppendItems(with(element(wsse, "Password", password), "Type", userNameProfile+kind))
	if t.Nonce != nil {
		token.AppendItems(with(element(wsse, "Nonce", text(base64.StdEncoding.EncodeToString(t.Nonce))), "EncodingType",
			soapMessageSecurity+"#Base64Binary"))
	}
	if created != "" {
		token.AppendItems(element(wsu, "Created", text(created)))
	}
	m.prepend(token)
}
