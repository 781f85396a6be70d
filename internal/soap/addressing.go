package soap

import (
	"crypto/rand"
	"fmt"
	"strings"

	"testbench/internal/document"
)

// AddressingNamespace is that of WS-Addressing 1.0 (Core, section 1.2).
const AddressingNamespace = "http://www.w3.org/2005/08/addressing"

const anonymous = AddressingNamespace + "/anonymous"

// Addressing are the message addressing properties of a request (WS-Addressing
// 1.0 Core, section 3).
type Addressing struct {
	To        string
	Action    string
	MessageID string
}

// NewMessageID returns a name for a message that no other has.
func NewMessageID() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[6], b[8] = b[6]&0x0F|0x40, b[8]&0x3F|0x80 // RFC 9562, 5.4
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Blocks are the properties as header blocks; the answer is asked for on the
// same connection.
func (a *Addressing) Blocks() []*document.Node {
	block := func(local string, content ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Space: AddressingNamespace, Local: local}, content...)
	}
	text := func(s string) *document.Node { return document.NewUntyped(s) }
	return []*document.Node{
		block("To", text(a.To)), block("Action", text(a.Action)), block("MessageID", text(a.MessageID)),
		block("ReplyTo", block("Address", text(anonymous))),
	}
}

// Property returns the text of an addressing property of a message that was read.
func (m *Message) Property(local string) (text string, there bool) {
	for _, b := range m.Blocks {
		if b.Name().Space == AddressingNamespace && b.Name().Local == local {
			return strings.TrimSpace(b.OwnText()), true
		}
	}
	return "", false
}
