package session

import (
	"net/http"
	"net/url"
	"strings"
	"sync"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
)

// etags are the versions of what is at addresses that were seen last.
type etags struct {
	mutex sync.Mutex
	seen  map[string]string // by address
}

// record notes which versions of what is at addresses were seen last: that of the
// answer, by its header or by what it holds, and of each item of a list.
func (e *etags) record(p *Prepared, record *exchange.Record, re *reply.Reply) {
	a := record.Answer
	if a == nil || a.Status < 200 || a.Status > 299 {
		return
	}
	at := record.Request.URL
	isRead := record.Request.Method == http.MethodGet || record.Request.Method == http.MethodHead
	if !isRead {
		e.drop(withoutQuery(at))
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
		e.saw(at, tag)
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
				e.saw(of, tag)
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

func (e *etags) saw(at *url.URL, tag string) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	if e.seen == nil {
		e.seen = map[string]string{}
	}
	e.seen[withoutQuery(at)] = tag
}

// last is the version of an address that was seen last, "" for none.
func (e *etags) last(at *url.URL) string {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	return e.seen[withoutQuery(at)]
}

// drop forgets the version of a place that was written to, and of what is above
// it: a line that is added changes its order, too.
func (e *etags) drop(written string) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	for address := range e.seen {
		if written == address || strings.HasPrefix(written, address+"/") {
			delete(e.seen, address)
		}
	}
}

func withoutQuery(u *url.URL) string {
	copied := *u
	copied.RawQuery, copied.Fragment = "", ""
	return copied.String()
}
