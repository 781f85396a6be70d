package session

import (
	"maps"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
)

// Versions are those of what is at addresses, as answers told them last: in a row its own, and those that were seen
// before the rows. The zero value has none. It is safe for use by several goroutines.
type Versions struct {
	mutex sync.Mutex
	seen  map[string]string // by address
}

// Copy gives versions of their own, which begin with the same ones; nil begins with none.
func (v *Versions) Copy() *Versions {
	if v == nil {
		return &Versions{}
	}
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return &Versions{seen: maps.Clone(v.seen)}
}

// versionsFor are those of a row, or of the session where there is none.
func (s *Session) versionsFor(scope *Values) *Versions {
	if scope != nil && scope.Versions != nil {
		return scope.Versions
	}
	return &s.versions
}

// record notes which versions of what is at addresses were seen last: that of the
// answer, by its header or by what it holds, and of each item of a list.
func (v *Versions) record(p *Prepared, record *exchange.Record, re *reply.Reply) {
	a := record.Answer
	if a == nil || a.Status < 200 || a.Status > 299 {
		return
	}
	at := record.Request.URL
	isRead := record.Request.Method == http.MethodGet || record.Request.Method == http.MethodHead
	if !isRead {
		v.drop(withoutQuery(at))
	}
	tag := a.Header.Get("ETag")
	if tag == "" {
		tag = versionIn(re.Payload)
	}
	if location := a.Header.Get("Location"); location != "" && record.Request.Method == http.MethodPost {
		if made, err := at.Parse(location); err == nil {
			at = made
		}
	}
	if tag != "" {
		v.saw(at, tag)
	}
	items := re.Payload
	if list := re.Payload.Get("value"); list != nil {
		items = list
	}
	if p.Operation == nil || !isRead || items == nil || items.Kind != document.List {
		return
	}
	for _, item := range items.Items() {
		if tag := versionIn(item); tag != "" {
			if of := placeOf(p, at, item); of != nil {
				v.saw(of, tag)
			}
		}
	}
}

// versionIn is the version that a record of OData says of itself (OData JSON Format 4.01,
// 4.6.9), "" for none.
func versionIn(n *document.Node) string {
	for _, name := range []string{"@odata.etag", "@etag"} {
		if said := n.Get(name); said != nil && said.IsScalar() {
			return said.Text
		}
	}
	return ""
}

// placeOf is the address of an item of a list: as it says itself (OData JSON Format 4.01,
// 4.6.8), else as the contract makes it of its key. It is nil where neither tells.
func placeOf(p *Prepared, list *url.URL, item *document.Node) *url.URL {
	for _, name := range []string{"@odata.id", "@id", "@odata.editLink", "@editLink"} {
		if said := item.Get(name); said != nil {
			if at, err := list.Parse(said.Text); err == nil {
				return at
			}
		}
	}
	if url := p.Operation.Facts().ItemURL; url != nil {
		return url(list, item)
	}
	return nil
}

func (v *Versions) saw(at *url.URL, tag string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.seen == nil {
		v.seen = map[string]string{}
	}
	v.seen[withoutQuery(at)] = tag
}

// last is the version of an address that was seen last, "" for none.
func (v *Versions) last(at *url.URL) string {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return v.seen[withoutQuery(at)]
}

// drop forgets the version of a place that was written to, and of what is above
// it: a line that is added changes its order, too.
func (v *Versions) drop(written string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for address := range v.seen {
		if written == address || strings.HasPrefix(written, address+"/") {
			delete(v.seen, address)
		}
	}
}

func withoutQuery(u *url.URL) string {
	copied := *u
	copied.RawQuery, copied.Fragment = "", ""
	return copied.String()
}
