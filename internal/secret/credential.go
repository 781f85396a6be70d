package secret

import (
	"net/http"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
)

var (
	// credentialName are names of fields that hold a credential; mayBeName those that name other
	// things as often.
	credentialName = lazy.Regexp(
		`(?i)(^|[^a-z])(api[-_]?key|token|secret|password|passwd|passphrase|pwd|authorization|app[-_]?id` +
			`|session[-_]?id|jwt|assertion|code[-_]?verifier|private[-_]?key)$` +
			`|(access|refresh|id|device|bearer|csrf|xsrf|sso|auth|client|session)[-_]?(token|secret)$`)
	mayBeName = lazy.Regexp(`(?i)(^|[^a-z])(key|pass|pin|signature|sig|auth|credential|sid|otp|access[-_]?key)$`)
	camelName = lazy.Regexp(`[a-z](Password|Passwd|Passphrase|Secret|Token|ApiKey|AppId|SessionId|Pwd)$`)
	// jwt is the compact form of RFC 7515 and RFC 7516: parts in URL-safe Base64, the first of
	// which is JSON.
	jwt     = lazy.Regexp(`^eyJ[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]*){2,4}$`)
	longKey = lazy.Regexp(`^[A-Za-z0-9_\-+/=.~]{24,}$`)
)

// IsCredential says whether a field holds a credential: by its name, by the form of a JWT, or
// by a value that is long and of mixed letters and digits. What is too short to be searched
// for is none.
func IsCredential(name, text string) bool {
	return IsToken(name, text) || len(text) >= 6 && !strings.Contains(text, Mask) && isMixed(text)
}

// IsToken says so by the name and the form of a JWT alone.
func IsToken(name, text string) bool {
	switch {
	case len(text) < 6 || strings.Contains(text, Mask):
		return false
	case credentialName().MatchString(name), camelName().MatchString(name):
		return !strings.Contains(text, "\n")
	case mayBeName().MatchString(name):
		return !strings.ContainsAny(text, " \t\n") && (len(text) >= 20 || strings.ContainsAny(text, "0123456789"))
	}
	return IsJWT(text)
}

// IsJWT says whether a text has the form of a JSON Web Token.
func IsJWT(text string) bool { return jwt().MatchString(text) }

// isMixed says whether a text is as keys that were drawn by lot are: long, without blanks, of
// small and capital letters and digits that take turns.
func isMixed(text string) bool {
	if !longKey().MatchString(text) || strings.Contains(text, "://") {
		return false
	}
	kind := func(b byte) int {
		switch {
		case b >= '0' && b <= '9':
			return 1
		case b >= 'A' && b <= 'Z':
			return 2
		case b >= 'a' && b <= 'z':
			return 3
		}
		return 0
	}
	turns, seen := 0, [4]int{}
	for i := range len(text) {
		k := kind(text[i])
		seen[k]++
		if i > 0 && k != kind(text[i-1]) {
			turns++
		}
	}
	return seen[1] > 1 && seen[2] > 0 && seen[3] > 0 && 5*turns >= 2*len(text)
}

// Credentials gives what is a credential in a message by its name, its place or its form: values of
// cookies, of header fields and of fields of the body at any depth. A digest or a signature
// looks as one does, and is none. root is the body and may be nil.
func Credentials(header map[string][]string, root *document.Node) []string {
	var found []string
	add := func(name, text string) {
		if IsToken(name, text) {
			found = append(found, text)
		}
	}
	for name, values := range header {
		for _, v := range values {
			switch http.CanonicalHeaderKey(name) {
			case "Set-Cookie":
				if cookie, err := http.ParseSetCookie(v); err == nil {
					found = append(found, cookie.Value)
				}
			case "Cookie":
				cookies, _ := http.ParseCookie(v)
				for _, cookie := range cookies {
					found = append(found, cookie.Value)
				}
			case "Authorization", "Proxy-Authorization":
				if _, credential, ok := strings.Cut(v, " "); ok && !strings.Contains(v, Mask) {
					found = append(found, credential)
				}
			default:
				if v != "" && !strings.EqualFold(name, "ETag") && !strings.EqualFold(name, "Location") {
					add(name, v)
				}
			}
		}
	}
	Leaves(root, func(name string, leaf *document.Node) { add(name, leaf.Value().Text) })
	return found
}

// Leaves goes through the single values of a tree, with the name of the member, attribute or
// element that holds each; an item of a list has that of the list.
func Leaves(n *document.Node, visit func(name string, leaf *document.Node)) { leaves("", n, visit) }

func leaves(name string, n *document.Node, visit func(string, *document.Node)) {
	switch {
	case n == nil || n.Kind == document.Null:
		return
	case n.Kind == document.Element:
		name = n.Name().Local
		for i := range n.Attributes() {
			visit(n.Attributes()[i].Name.Local, document.NewUntyped(n.Attributes()[i].Value))
		}
	}
	if n.IsScalar() || n.Value() != nil && n.Value().IsScalar() && n.Kind == document.Element {
		visit(name, n)
		return
	}
	for _, m := range n.Members() {
		leaves(m.Key, m.Value, visit)
	}
	for _, item := range n.Items() {
		if item.Kind != document.Layout && item.Kind != document.Comment && item.Kind != document.Instruction {
			leaves(name, item, visit)
		}
	}
}
