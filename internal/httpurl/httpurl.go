// Package httpurl knows what of the addresses of HTTP package net/url does not say: a user that is never sent, and what
// is escaped already. It sends nothing.
package httpurl

import (
	"fmt"
	"strings"

	"testbench/internal/syntax"
)

// HasUser says whether an address of HTTP holds a user, with a password or without, before its host (RFC 3986,
// 3.2.1).
func HasUser(address string) bool {
	scheme, _, _ := strings.Cut(strings.ToLower(address), "://")
	_, found := User(address)
	return found && (scheme == "http" || scheme == "https")
}

// User is what a text with an address of any scheme in it holds before the host: a user, or user:password.
func User(text string) (user string, found bool) {
	_, after, _ := strings.Cut(text, "://")
	if end := strings.IndexAny(after, "/?#"); end >= 0 {
		after = after[:end]
	}
	at := strings.LastIndexByte(after, '@')
	if at < 0 {
		return "", false
	}
	return after[:at], true
}

// ErrUser refuses such an address: what it holds goes into no request (RFC 9110, 4.2.4), and is not a secret to
// whoever reads the address.
var ErrUser = &syntax.Error{
	Message: "the address holds a user or a password, and neither is sent from there",
	Try:     "seal the password (testbench secret set NAME), write a login of kind basic, and name it: login: NAME",
	Hidden:  true,
}

// Escape escapes what cannot be in a path or a query as it is (RFC 3986, 3.3 and 3.4), so that what is escaped
// already stays as it is. Brackets stay: many services want them so. An address without a scheme begins with its path.
func Escape(address string) string {
	start := 0
	if scheme := strings.Index(address, "://"); scheme >= 0 {
		start = scheme + len("://")
		path := strings.IndexAny(address[start:], "/?")
		if path < 0 {
			return address
		}
		start += path
	}
	var out strings.Builder
	out.WriteString(address[:start])
	inQuery := false
	for i := start; i < len(address); i++ {
		c := address[i]
		inQuery = inQuery || c == '?'
		isEscape := c == '%' && i+2 < len(address) && isHex(address[i+1]) && isHex(address[i+2])
		switch {
		case isEscape, c == '%' && !inQuery, // in a path it is a mistake
			c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9',
			strings.IndexByte("-._~!$&'()*+,;=:@/?[]#", c) >= 0:
			out.WriteByte(c)
		default:
			fmt.Fprintf(&out, "%%%02X", c)
		}
	}
	return out.String()
}

func isHex(c byte) bool { return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' }
