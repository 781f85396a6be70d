package login

import (
	"net/http"
	"strings"
)

// Challenge is one way in that a service names (RFC 9110, section 11.6.1).
type Challenge struct {
	Scheme     string
	Token      string            // what is after the scheme in place of parameters
	Parameters map[string]string // by name in lower case
}

// Challenges reads the fields WWW-Authenticate of an answer, or those of
// Proxy-Authenticate for a 407. What cannot be read ends the list.
func Challenges(status int, header http.Header) []Challenge {
	name := "WWW-Authenticate"
	if status == http.StatusProxyAuthRequired {
		name = "Proxy-Authenticate"
	}
	var all []Challenge
	for _, field := range header.Values(name) {
		all = append(all, readChallenges(field)...)
	}
	return all
}

// Asks returns the first challenge of a scheme, or nil.
func Asks(challenges []Challenge, scheme string) *Challenge {
	for i := range challenges {
		if strings.EqualFold(challenges[i].Scheme, scheme) {
			return &challenges[i]
		}
	}
	return nil
}

type challengeReader struct {
	text string
	pos  int
}

func readChallenges(field string) []Challenge {
	r := &challengeReader{text: field}
	var all []Challenge
	for {
		r.skip(" \t,")
		word := r.word()
		if word == "" {
			return all
		}
		blanks := r.skip(" \t")
		if r.peek() == '=' && len(all) > 0 && !strings.HasPrefix(r.text[r.pos:], "==") {
			r.pos++
			r.skip(" \t")
			text, ok := r.value()
			if !ok {
				return all
			}
			all[len(all)-1].Parameters[strings.ToLower(word)] = text
			continue
		}
		c := Challenge{Scheme: word, Parameters: map[string]string{}}
		if blanks > 0 {
			c.Token = r.token68()
		}
		all = append(all, c)
	}
}

func (r *challengeReader) peek() byte {
	if r.pos < len(r.text) {
		return r.text[r.pos]
	}
	return 0
}

func (r *challengeReader) skip(set string) int {
	start := r.pos
	for r.pos < len(r.text) && strings.IndexByte(set, r.text[r.pos]) >= 0 {
		r.pos++
	}
	return r.pos - start
}

func isTokenByte(c byte) bool {
	return c > ' ' && c < 0x7f && strings.IndexByte(`"(),/:;<=>?@[\]{}`, c) < 0
}

func (r *challengeReader) word() string {
	start := r.pos
	for r.pos < len(r.text) && isTokenByte(r.text[r.pos]) {
		r.pos++
	}
	return r.text[start:r.pos]
}

// value reads a token or a quoted text.
func (r *challengeReader) value() (string, bool) {
	if r.peek() != '"' {
		start := r.pos
		// Some servers leave the quotes out where a slash or colon stands.
		for r.pos < len(r.text) && r.text[r.pos] > ' ' && r.text[r.pos] != ',' {
			r.pos++
		}
		return r.text[start:r.pos], true
	}
	var out strings.Builder
	for r.pos++; r.pos < len(r.text); r.pos++ {
		switch c := r.text[r.pos]; {
		case c == '"':
			r.pos++
			return out.String(), true
		case c == '\\' && r.pos+1 < len(r.text):
			r.pos++
			out.WriteByte(r.text[r.pos])
		default:
			out.WriteByte(c)
		}
	}
	return "", false
}

// token68 reads what may be after a scheme in place of parameters, as the
// messages of NTLM and Negotiate do.
func (r *challengeReader) token68() string {
	end := r.pos
	for end < len(r.text) && (isTokenByte(r.text[end]) || r.text[end] == '/') {
		end++
	}
	for end < len(r.text) && r.text[end] == '=' {
		end++
	}
	text := r.text[r.pos:end]
	rest := strings.TrimLeft(r.text[end:], " \t")
	if text == "" || rest != "" && rest[0] != ',' ||
		strings.HasSuffix(text, "=") && !strings.HasSuffix(text, "==") && len(text)%4 != 0 {
		return ""
	}
	r.pos = end
	return text
}
