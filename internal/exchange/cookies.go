package exchange

import (
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// Cookies are those that answers set, for the requests after them, for each origin by itself: browsers carry them on to
// other ports and schemes of a host (RFC 6265, 8.5), which are other services to a tester. The zero value has none; it
// may be used by several goroutines.
type Cookies struct {
	mutex sync.Mutex
	jars  map[string]*cookiejar.Jar
	set   []SetCookies
}

// WithoutFalsePrefixes leaves cookies out whose names promise what they do not keep (RFC 6265bis, 4.1.3):
// __Secure- that they are secure, __Host- that they are for the whole of one host too.
func WithoutFalsePrefixes(cookies []*http.Cookie) []*http.Cookie {
	var out []*http.Cookie
	for _, c := range cookies {
		name := strings.ToLower(c.Name)
		isHost := strings.HasPrefix(name, "__host-")
		if (isHost || strings.HasPrefix(name, "__secure-")) && !c.Secure || isHost &&
			(c.Domain != "" || c.Path != "/") {
			continue
		}
		out = append(out, c)
	}
	return out
}

// take keeps what an answer set.
func (c *Cookies) take(u *url.URL, cookies []*http.Cookie) (err error) {
	cookies = WithoutFalsePrefixes(cookies)
	if len(cookies) == 0 {
		return nil
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	jar := c.jars[Origin(u)]
	if jar == nil {
		if jar, err = cookiejar.New(nil); err != nil {
			return err
		}
		if c.jars == nil {
			c.jars = map[string]*cookiejar.Jar{}
		}
		c.jars[Origin(u)] = jar
	}
	jar.SetCookies(u, cookies)
	c.set = append(c.set, SetCookies{u, cookies})
	return nil
}

// put puts those into a request that belong to its address and that it does not have itself, and gives their names.
func (c *Cookies) put(r *http.Request) []string {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	jar := c.jars[Origin(r.URL)]
	if jar == nil {
		return nil
	}
	var names []string
	own := r.Cookies()
	for _, cookie := range jar.Cookies(r.URL) {
		if !slices.ContainsFunc(own, func(o *http.Cookie) bool { return o.Name == cookie.Name }) {
			r.AddCookie(cookie)
			names = append(names, cookie.Name)
		}
	}
	return names
}

// Copy gives cookies of its own that begin with the same; nil has none.
func (c *Cookies) Copy() *Cookies {
	out := &Cookies{}
	if c == nil {
		return out
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, one := range c.set {
		_ = out.take(one.From, one.Cookies) // it was taken once before
	}
	return out
}
