package login

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
	"sync/atomic"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Digest proves that one knows the password without sending it (RFC 7616; MD5
// and challenges without qop for servers of RFC 2617 and 2069).
type Digest struct {
	User, Password *value.Template
}

// digestState is a challenge with the count of its uses.
type digestState struct {
	Challenge
	algorithm string
	uses      atomic.Uint32
	refreshed bool // it was asked for because the one before was stale
}

// digestHashes are the hashes by name, the strongest first (section 6.1).
var digestHashes = []struct {
	name string
	make func() hash.Hash
}{{"SHA-512-256", sha512.New512_256}, {"SHA-256", sha256.New}, {"MD5", md5.New}}

// Obtain fills user and password in.
func (d *Digest) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	return env.credentials("Digest", d.User, d.Password)
}

// Put answers the challenge that is known; before there is one it adds nothing.
func (d *Digest) Put(r *exchange.Request, env *Env, t *Token) error {
	state, ok := t.material.(*digestState)
	if !ok {
		return nil
	}
	uri := r.URL.RequestURI()
	answer := state.answer(r.Method, uri, r.Body, t.User, t.Text, randomText())
	r.SetHeader("Authorization", answer)
	return nil
}

// answer makes the Authorization field (section 3.4).
func (s *digestState) answer(method, uri string, body []byte, user, password, cnonce string) string {
	base, session := strings.CutSuffix(s.algorithm, "-sess")
	var newHash func() hash.Hash
	for _, h := range digestHashes {
		if h.name == base {
			newHash = h.make
		}
	}
	sum := func(text string) string {
		h := newHash()
		h.Write([]byte(text))
		return hex.EncodeToString(h.Sum(nil))
	}
	p := s.Parameters
	count := fmt.Sprintf("%08x", s.uses.Add(1))
	a1 := user + ":" + p["realm"] + ":" + password
	if session {
		a1 = sum(a1) + ":" + p["nonce"] + ":" + cnonce
	}
	a2, qop := method+":"+uri, s.qop()
	if qop == "auth-int" {
		a2 += ":" + sum(string(body))
	}
	var response string
	if qop == "" {
		response = sum(sum(a1) + ":" + p["nonce"] + ":" + sum(a2)) // RFC 2069
	} else {
		response = sum(strings.Join([]string{sum(a1), p["nonce"], count, cnonce, qop, sum(a2)}, ":"))
	}
	var out strings.Builder
	quoted := func(name, text string) {
		fmt.Fprintf(&out, `, %s="%s"`, name, strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text))
	}
	if p["userhash"] == "true" {
		user = sum(user + ":" + p["realm"])
	}
	quoted("username", user)
	quoted("realm", p["realm"])
	quoted("uri", uri)
	if p["algorithm"] != "" {
		out.WriteString(", algorithm=" + s.algorithm)
	}
	quoted("nonce", p["nonce"])
	if qop != "" {
		fmt.Fprintf(&out, ", nc=%s", count)
		quoted("cnonce", cnonce)
		out.WriteString(", qop=" + qop)
	}
	quoted("response", response)
	if opaque, ok := p["opaque"]; ok {
		quoted("opaque", opaque)
	}
	if p["userhash"] == "true" {
		out.WriteString(", userhash=true")
	}
	return "Digest " + out.String()[2:]
}

// qop chooses the quality of protection: the plain one where there is a choice.
func (s *digestState) qop() string {
	offered := strings.FieldsFunc(s.Parameters["qop"], func(c rune) bool { return c == ',' || c == ' ' })
	chosen := ""
	for _, word := range offered {
		if word == "auth" {
			return "auth"
		}
		if word == "auth-int" {
			chosen = word
		}
	}
	return chosen
}

// Challenged takes the strongest challenge that is understood (section 3.3). An
// answer that was refused is not tried again with the same password, unless
// the server says that only the nonce was stale, or had been used before.
func (d *Digest) Challenged(answer *exchange.Answer, _ *Env, t *Token) (*Token, bool, bool, error) {
	before, _ := t.material.(*digestState)
	if answer.Status != 401 {
		if info := readChallenges("Digest " + answer.Header.Get("Authentication-Info")); before != nil &&
			len(info) == 1 && info[0].Parameters["nextnonce"] != "" {
			next := &digestState{Challenge: before.Challenge, algorithm: before.algorithm}
			next.Parameters = map[string]string{}
			for name, text := range before.Parameters {
				next.Parameters[name] = text
			}
			next.Parameters["nonce"] = info[0].Parameters["nextnonce"]
			return d.with(t, next), false, true, nil
		}
		return nil, false, false, nil
	}
	state := chooseDigest(Challenges(answer.Status, answer.Header))
	if state == nil || t.Spoilt == Empty {
		return nil, false, false, nil
	}
	isStale := strings.EqualFold(state.Parameters["stale"], "true")
	if before != nil && (before.refreshed || !isStale && before.uses.Load() <= 1) {
		return nil, false, false, nil
	}
	state.refreshed = before != nil
	return d.with(t, state), true, true, nil
}

func (d *Digest) with(t *Token, state *digestState) *Token {
	next := *t
	next.material = state
	return &next
}

func chooseDigest(challenges []Challenge) *digestState {
	for _, h := range digestHashes {
		for _, c := range challenges {
			if !strings.EqualFold(c.Scheme, "Digest") || c.Parameters["nonce"] == "" {
				continue
			}
			algorithm := c.Parameters["algorithm"]
			if algorithm == "" {
				algorithm = "MD5"
			}
			base := algorithm
			if len(base) > 5 && strings.EqualFold(base[len(base)-5:], "-sess") {
				base = base[:len(base)-5]
			}
			if strings.EqualFold(base, h.name) {
				return &digestState{Challenge: c, algorithm: h.name + strings.ToLower(algorithm[len(base):])}
			}
		}
	}
	return nil
}

// Placeholders lists the placeholders.
func (d *Digest) Placeholders() []*value.Placeholder { return placeholders(d.User, d.Password) }

func readDigest(r *mapping.Reader, n *yamlfile.Node) Kind {
	d := &Digest{}
	mapping.Read(r, "a digest login", n, d, digestKeys)
	needSettings(r, n, "user", d.User, "password", d.Password)
	return d
}

var digestKeys = []mapping.Key[Digest]{
	ignoreKind[Digest](),
	mapping.TemplateKey("user", "user name", func(d *Digest) **value.Template { return &d.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}",
		func(d *Digest) **value.Template { return &d.Password }),
}
