package syntax

import "strings"

// HasUser says whether an address of HTTP holds a user, with a password or without, before its host (RFC 3986,
// 3.2.1).
func HasUser(address string) bool {
	scheme, _, _ := strings.Cut(strings.ToLower(address), "://")
	_, found := userOf(address)
	return found && (scheme == "http" || scheme == "https")
}

// PasswordOf is the password that an address holds, as it is written there; "" for none.
func PasswordOf(address string) string {
	user, _ := userOf(address)
	_, password, _ := strings.Cut(user, ":")
	return password
}

func userOf(address string) (user string, found bool) {
	_, after, _ := strings.Cut(address, "://")
	if end := strings.IndexAny(after, "/?#"); end >= 0 {
		after = after[:end]
	}
	at := strings.LastIndexByte(after, '@')
	if at < 0 {
		return "", false
	}
	return after[:at], true
}

// ErrUser refuses such an address: what it holds goes into no request (RFC 9110, 4.2.4), and is no secret to
// whoever reads the address.
var ErrUser = &Error{
	Message: "the address holds a user or a password, and neither is sent from there",
	Try:     "seal the password (testbench secret set NAME), write a login of kind basic, and name it: login: NAME",
	Hidden:  true,
}
