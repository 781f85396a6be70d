package document

import (
	"fmt"
	"sync"
)

// A large answer is a list of many alike, and a step asks for a few values of it. So of a large message what is in
// the items of lists, and in elements that come again, is only checked, as the rest is read, and made into nodes when
// somebody asks for it.

// largeMessage is from how many bytes on a message is read so, and a part of it again.
const largeMessage = 1 << 20

// leastUnread is how many bytes a part has at least that is left unread: the note of it takes as much as a few nodes.
const leastUnread = 64

// mostReadings bounds how often the same bytes are checked, in a message that holds large lists in large lists.
const mostReadings = 3

// unread is what is in a list, an object or an element that was checked and is not yet made into nodes.
type unread struct {
	once     sync.Once
	message  *message
	from, to int // of the message's text
	scope    *scope
}

// message is the text of what is left unread, and what reads it, one part at a time.
type message struct {
	mutex sync.Mutex
	text  []byte
	json  *jsonReader
	xml   *xmlReader
}

// leaving says how parts of a message are left unread.
type leaving struct {
	from     int  // of a text from how many bytes on; 0 for never
	least    int  // how many bytes a part has at least
	readings int  // how often the same bytes may still be checked
	isPart   bool // it is a part that is read, of which everything was counted
}

// ofMessages is how parts of messages are left unread.
var ofMessages = leaving{from: largeMessage, least: leastUnread, readings: mostReadings}

// applies says whether parts of a text of so many bytes are left unread.
func (l leaving) applies(size int) bool { return l.from > 0 && size >= l.from && l.readings > 0 }

// forParts is what applies to the parts that are left.
func (l leaving) forParts() leaving {
	return leaving{l.from, l.least, l.readings - 1, true}
}

// read makes the nodes that are in n.
func (u *unread) read(n *Node) {
	u.once.Do(func() {
		u.message.mutex.Lock()
		defer u.message.mutex.Unlock()
		read := u.message.json.part
		if u.message.xml != nil {
			read = u.message.xml.part
		}
		if err := read(u, n); err != nil {
			panic(fmt.Sprintf("a part of a message that was well-formed is not: %v", err))
		}
	})
}

// scope is an element that declares namespaces, with what holds outside of it.
type scope struct {
	outer      *scope
	of         *Node
	attributes []Attribute
}

// prefixes are all that hold, with their namespaces.
func (s *scope) prefixes() map[string]string {
	all := map[string]string{}
	for ; s != nil; s = s.outer {
		for _, a := range s.attributes {
			prefix := a.Name.Local
			if a.Name.Prefix == "" {
				prefix = ""
			}
			if _, inner := all[prefix]; a.IsDeclaration() && !inner {
				all[prefix] = a.Value
			}
		}
	}
	return all
}
