package soap

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
)

// AddressingNamespace is that of WS-Addressing 1.0 (Core, section 1.2), and AddressingOld that of its submission, which
// older services speak.
const (
	AddressingNamespace = "http://www.w3.org/2005/08/addressing"
	AddressingOld       = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
)

// AddressingVersions are the namespaces by the words for them.
var AddressingVersions = map[string]string{"1.0": AddressingNamespace, "2004/08": AddressingOld}

// Addressing are the message addressing properties of a request (WS-Addressing
// 1.0 Core, section 3). Of the empty ones ReplyTo means the same connection, and the others are left out.
type Addressing struct {
	To, Action, MessageID       string
	ReplyTo, FaultTo, RelatesTo string
	Version                     string // of AddressingVersions; "" is 1.0
}

// NewMessageID returns a name for a message that no other has.
func NewMessageID() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[6], b[8] = b[6]&0x0F|0x40, b[8]&0x3F|0x80 // RFC 9562, 5.4
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Blocks are the properties as header blocks.
func (a *Addressing) Blocks() []*document.Node {
	space, anonymous := AddressingNamespace, AddressingNamespace+"/anonymous"
	if a.Version != "" && AddressingVersions[a.Version] == AddressingOld {
		space, anonymous = AddressingOld, AddressingOld+"/role/anonymous"
	}
	block := func(local string, content ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Space: space, Local: local}, content...)
	}
	text := func(s string) *document.Node { return document.NewUntyped(s) }
	replyTo := a.ReplyTo
	if replyTo == "" {
		replyTo = anonymous
	}
	blocks := []*document.Node{
		block("To", text(a.To)), block("Action", text(a.Action)), block("MessageID", text(a.MessageID)),
		block("ReplyTo", block("Address", text(replyTo))),
	}
	if a.FaultTo != "" {
		blocks = append(blocks, block("FaultTo", block("Address", text(a.FaultTo))))
	}
	if a.RelatesTo != "" {
		blocks = append(blocks, block("RelatesTo", text(a.RelatesTo)))
	}
	return blocks
}

// IsAddressing says whether a namespace is one of WS-Addressing.
func IsAddressing(space string) bool {
	return slices.Contains([]string{AddressingNamespace, AddressingOld}, space)
}

// Property returns the text of an addressing property of a message that was read.
func (m *Message) Property(local string) (text string, there bool) {
	for _, b := range m.Blocks {
		if IsAddressing(b.Name().Space) && b.Name().Local == local {
			return strings.TrimSpace(b.OwnText()), true
		}
	}
	return "", false
}
