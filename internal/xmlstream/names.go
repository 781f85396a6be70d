package xmlstream

// Well-known namespaces (Namespaces in XML 1.0, section 3).
const (
	XMLSpace   = "http://www.w3.org/XML/1998/namespace"
	XMLNSSpace = "http://www.w3.org/2000/xmlns/"
)

// Name is an expanded name with its prefix as written.
type Name struct {
	Space, Prefix, Local string
}

// String returns the name as the document writes it.
func (n Name) String() string {
	if n.Prefix == "" {
		return n.Local
	}
	return n.Prefix + ":" + n.Local
}

// entry is one name as written, kept once however often it occurs: names are
// few, and making a string of each would cost more than all the rest.
type entry struct {
	raw      string
	hash     uint32
	prefix   *prefix // of an element, or of an attribute with a prefix
	local    string
	declares bool  // xmlns or xmlns:...
	name     *Name // of the last element of that name; nil before the first
	tag      int64 // the last tag with an attribute of that name: the offset after its <
}

// prefix is a prefix with what it stands for at this place in the document.
type prefix struct {
	text  string
	space string
	bound bool
}

// binding remembers what a prefix stood for outside of the element that
// declares it anew.
type binding struct {
	prefix *prefix
	space  string
	bound  bool
}

// mostNames bounds the table: a document of nothing but different names must
// not fill the memory.
const mostNames = 1 << 15

// names is a hash table from the bytes of names to their entries.
type names struct {
	slots    []*entry
	count    int
	prefixes map[string]*prefix
	none     *prefix // that of names without one
	spaces   map[string]string
}

func (n *names) reset(bindings ...binding) {
	n.slots, n.count = make([]*entry, 256), 0
	if n.none == nil {
		n.none = &prefix{}
	}
	kept := map[string]*prefix{
		"":    n.none,
		"xml": {text: "xml", space: XMLSpace, bound: true},
	}
	// What is in scope must stay one and the same entry.
	for _, b := range bindings {
		kept[b.prefix.text] = b.prefix
	}
	n.prefixes = kept
	n.spaces = map[string]string{}
}

// find returns the entry of a name, or nil when it was not met before.
func (n *names) find(raw []byte, hash uint32) *entry {
	mask := uint32(len(n.slots) - 1)
	for i := hash & mask; n.slots[i] != nil; i = (i + 1) & mask {
		if e := n.slots[i]; e.hash == hash && e.raw == string(raw) {
			return e
		}
	}
	return nil
}

func (n *names) add(e *entry) {
	if 2*n.count >= len(n.slots) {
		old := n.slots
		n.slots = make([]*entry, 2*len(old))
		for _, e := range old {
			if e != nil {
				n.place(e)
			}
		}
	}
	n.place(e)
	n.count++
}

func (n *names) place(e *entry) {
	mask := uint32(len(n.slots) - 1)
	i := e.hash & mask
	for n.slots[i] != nil {
		i = (i + 1) & mask
	}
	n.slots[i] = e
}

func (n *names) prefix(text string) *prefix {
	p := n.prefixes[text]
	if p == nil {
		p = &prefix{text: text}
		n.prefixes[text] = p
	}
	return p
}

// space gives one string for all equal namespace names.
func (n *names) space(uri []byte) string {
	if s, ok := n.spaces[string(uri)]; ok {
		return s
	}
	s := string(uri)
	if len(n.spaces) < mostNames {
		n.spaces[s] = s
	}
	return s
}
