package login

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// HMAC signs requests by a shared key, in a form that the definition describes.
type HMAC struct {
	Sign   []SignedPart
	Join   string
	Hash   string // of HMACHashes
	Encode string // of Encodings
	Key    *value.Template
	KeyIs  string // how the key's text is read: as it is (""), or one of Encodings
	KeyID  *value.Template
	Into   Target
	Stamp  *Stamp  // nil for none
	Nonce  *Target // nil for none
	ID     *Target // where the key's name goes; nil for nowhere
	Body   *Target // where the body's hash goes; nil for nowhere
	BodyAs string  // how that is made: a hash and an encoding; "" for those of the signature
	// Canonical is a form of the request that is hashed before it is signed, its parts a line each; nil for none.
	Canonical []SignedPart
	Headers   []string // the header fields of header lines and signed headers, in small letters and sorted
	Derive    *Derivation
	// Write is what goes into Into: ${signature} and the names of parts stand for those; empty writes the signature
	// alone.
	Write string
}

// Derivation makes the key that signs in steps: each is the HMAC of a part by the key of the step before, the first by
// the shared key with Before in front of it.
type Derivation struct {
	Before string
	Steps  []SignedPart
}

// HMACHashes are the hashes by name.
var HMACHashes = map[string]func() hash.Hash{
	"sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New,
	"sha1": sha1.New, "md5": md5.New,
}

// Encodings are the ways to write bytes as text.
var Encodings = []string{"base64", "base64url", "hex", "HEX"}

// Target is a place in a request: a header or a query parameter.
type Target struct {
	In   string // "header" or "query"
	Name string
}

// Stamp is the time stamp of a request.
type Stamp struct {
	Target
	As string // of StampForms
}

// StampForms are the ways to write a time stamp.
var StampForms = []string{"seconds", "milliseconds", "date and time", "compact", "http"}

// SignedPart is one part of what is signed.
type SignedPart struct {
	What string // of SignedParts
	Name string // of the header or query parameter, or the literal text
}

// SignedParts lists what can be signed. header, named header, parameter and text
// are followed by a name or a text.
var SignedParts = []string{
	"method", "scheme", "host", "path", "target", "query", "sorted query", "address", "stamp",
	"nonce", "key id", "body", "body hash", "header", "named header", "parameter", "text",
	"escaped path", "stamp date", "scope", "header lines", "signed headers", "canonical hash",
}

// ParseSignedPart reads one part as a file writes it.
func ParseSignedPart(text string) (SignedPart, error) {
	text = strings.TrimSpace(text)
	if slices.Contains(SignedParts,
		text) && text != "header" && text != "named header" && text != "parameter" && text != "text" {
		return SignedPart{What: text}, nil
	}
	for _, what := range []string{"body hash", "canonical hash"} {
		if form, ok := strings.CutPrefix(text, what+" "); ok {
			if _, _, err := hashForm(form, "", ""); err != nil {
				return SignedPart{}, err
			}
			return SignedPart{What: what, Name: form}, nil
		}
	}
	for _, what := range []string{"named header", "header", "parameter", "text"} {
		if name, ok := strings.CutPrefix(text, what+" "); ok && strings.TrimSpace(name) != "" {
			return SignedPart{What: what, Name: strings.TrimSpace(name)}, nil
		}
	}
	return SignedPart{}, fmt.Errorf(
		"%q cannot be signed; there are: %s (a header, a named header, a parameter and a text with their name or "+
			"text after it)", text, strings.Join(SignedParts, ", "))
}

// hashForm reads how a hash is made: a hash, an encoding, or both ("sha256 hex"); what is not said is as given.
func hashForm(form, hash, encoding string) (ofHash, ofEncoding string, err error) {
	for word := range strings.FieldsSeq(form) {
		switch {
		case HMACHashes[word] != nil:
			hash = word
		case slices.Contains(Encodings, word):
			encoding = word
		default:
			return "", "", fmt.Errorf("%q is neither a hash nor an encoding; write it like sha256 hex", word)
		}
	}
	return hash, encoding, nil
}

// hashed is the hash of some bytes in a form.
func (h *HMAC) hashed(form string, data []byte) string {
	name, encoding, _ := hashForm(form, h.Hash, h.Encode) // it was read before
	sum := HMACHashes[name]()
	sum.Write(data)
	return encodeText(encoding, sum.Sum(nil))
}

// hmacState is what was read for the login.
type hmacState struct {
	key []byte
	id  string
}

// Place says that the signature covers what other logins put in.
func (h *HMAC) Place() Stage { return Sealing }

// Obtain reads the key.
func (h *HMAC) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	filled, err := env.texts("key", h.Key, "key id", h.KeyID)
	if err != nil {
		return nil, err
	}
	state := &hmacState{key: []byte(filled[0]), id: filled[1]}
	if h.KeyIs != "" {
		if state.key, err = decodeText(h.KeyIs, filled[0]); err != nil {
			return nil, &Error{Message: fmt.Sprintf("the key is not written as %s", h.KeyIs)}
		}
	}
	return &Token{Kind: "signature", Text: filled[0], Obtained: env.now(), Fixed: true, material: state}, nil
}

func encodeText(encoding string, data []byte) string {
	switch encoding {
	case "hex":
		return hex.EncodeToString(data)
	case "HEX":
		return strings.ToUpper(hex.EncodeToString(data))
	case "base64url":
		return base64.RawURLEncoding.EncodeToString(data)
	}
	return base64.StdEncoding.EncodeToString(data)
}

func decodeText(encoding, text string) ([]byte, error) {
	text = strings.TrimSpace(text)
	switch encoding {
	case "hex", "HEX":
		return hex.DecodeString(text)
	case "base64url":
		return base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "="))
	}
	return base64.StdEncoding.DecodeString(text)
}

// put sets the place to a text.
func (t Target) put(r *exchange.Request, text string) {
	if t.In == "query" {
		query := r.URL.RawQuery
		if query != "" {
			query += "&"
		}
		added := escape3986(t.Name) + "=" + escape3986(text)
		if r.ShownURL != "" {
			separator := "?"
			if strings.Contains(r.ShownURL, "?") {
				separator = "&"
			}
			r.ShownURL += separator + added
		}
		r.URL.RawQuery = query + added
		return
	}
	r.SetHeader(t.Name, text)
}

// escape3986 leaves the unreserved characters of RFC 3986, section 2.3, alone.
func escape3986(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }

// Put adds time stamp and nonce, then signs.
func (h *HMAC) Put(r *exchange.Request, env *Env, t *Token) error {
	state := t.material.(*hmacState)
	made := map[string]string{"id": state.id}
	if h.Stamp != nil {
		at := env.serverNow(r.URL.Host).Add(t.stampShift())
		made["stamp"], made["stamp date"] = formatStamp(h.Stamp.As, at), at.UTC().Format("20060102")
		h.Stamp.put(r, made["stamp"])
	}
	if h.Nonce != nil {
		made["nonce"] = randomText()
		h.Nonce.put(r, made["nonce"])
	}
	if h.ID != nil {
		h.ID.put(r, state.id)
	}
	if h.Body != nil {
		h.Body.put(r, h.hashed(h.BodyAs, r.Body))
	}
	made["signed headers"] = strings.Join(h.Headers, ";")
	if h.Derive != nil {
		scope, err := h.texts(h.Derive.Steps, r, made)
		if err != nil {
			return err
		}
		made["scope"] = strings.Join(scope, "/")
	}
	if h.Canonical != nil {
		lines, err := h.texts(h.Canonical, r, made)
		if err != nil {
			return err
		}
		made["canonical"] = strings.Join(lines, "\n")
		r.Signed = append(r.Signed, made["canonical"])
	}
	parts, err := h.texts(h.Sign, r, made)
	if err != nil {
		return err
	}
	base := strings.Join(parts, h.Join)
	r.Signed = append(r.Signed, base)
	key, err := h.derived(state.key, r, made)
	if err != nil {
		return err
	}
	made["signature"] = encodeText(h.Encode, t.spoilSignature(h.mac(key, base)))
	h.Into.put(r, h.written(made))
	return nil
}

// written is what goes beside the signature.
func (h *HMAC) written(made map[string]string) string {
	if h.Write == "" {
		return made["signature"]
	}
	var pairs []string
	for _, name := range []string{"id", "signature", "stamp", "nonce", "scope", "signed headers", "stamp date"} {
		pairs = append(pairs, "${"+name+"}", made[name])
	}
	return strings.NewReplacer(pairs...).Replace(h.Write)
}

func (h *HMAC) mac(key []byte, text string) []byte {
	mac := hmac.New(HMACHashes[h.Hash], key)
	mac.Write([]byte(text))
	return mac.Sum(nil)
}

// derived is the key that signs.
func (h *HMAC) derived(key []byte, r *exchange.Request, made map[string]string) ([]byte, error) {
	if h.Derive == nil {
		return key, nil
	}
	key = append([]byte(h.Derive.Before), key...)
	steps, err := h.texts(h.Derive.Steps, r, made)
	for _, step := range steps {
		key = h.mac(key, step)
	}
	return key, err
}

// texts are those of several parts.
func (h *HMAC) texts(parts []SignedPart, r *exchange.Request, made map[string]string) ([]string, error) {
	out := make([]string, len(parts))
	for i, p := range parts {
		var err error
		if out[i], err = h.text(p, r, made); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func formatStamp(form string, at time.Time) string {
	switch form {
	case "milliseconds":
		return strconv.FormatInt(at.UnixMilli(), 10)
	case "date and time":
		return at.UTC().Format("2006-01-02T15:04:05Z")
	case "compact":
		return at.UTC().Format("20060102T150405Z")
	case "http":
		return at.UTC().Format(http.TimeFormat)
	}
	return strconv.FormatInt(at.Unix(), 10)
}

// text gives one part of what is signed.
func (h *HMAC) text(p SignedPart, r *exchange.Request, made map[string]string) (string, error) {
	switch p.What {
	case "body hash":
		return h.hashed(p.Name, r.Body), nil
	case "canonical hash":
		return h.hashed(p.Name, []byte(made["canonical"])), nil
	case "escaped path":
		return strings.ReplaceAll(escape3986(pathOfURL(r)), "%2F", "/"), nil
	case "header lines":
		return h.headerLines(r)
	case "method":
		return r.Method, nil
	case "scheme":
		return r.URL.Scheme, nil
	case "host":
		if host := r.GetHeader("Host"); host != "" {
			return strings.ToLower(host), nil
		}
		return strings.ToLower(r.URL.Host), nil
	case "path":
		return pathOfURL(r), nil
	case "target":
		return r.URL.RequestURI(), nil
	case "query":
		return r.URL.RawQuery, nil
	case "sorted query":
		return sortedQuery(r.URL.RawQuery)
	case "address":
		return r.URL.String(), nil
	case "stamp", "stamp date", "nonce", "scope", "signed headers":
		return made[p.What], nil
	case "key id":
		return made["id"], nil
	case "body":
		return string(r.Body), nil
	case "header", "named header":
		if r.GetHeader(p.Name) == "" && !strings.EqualFold(p.Name, "Host") {
			return "", &Error{
				Message: fmt.Sprintf("the header %s is to be signed, and the request has none", p.Name),
				Try:     "set it at the step, or under always: of the service",
			}
		}
		text := strings.TrimSpace(r.GetHeader(p.Name))
		if text == "" {
			text = r.URL.Host
		}
		if p.What == "named header" {
			text = strings.ToLower(p.Name) + ":" + text
		}
		return text, nil
	case "parameter":
		return r.URL.Query().Get(p.Name), nil
	}
	return p.Name, nil
}

func pathOfURL(r *exchange.Request) string {
	if path := r.URL.EscapedPath(); path != "" {
		return path
	}
	return "/"
}

// headerLines are the header fields that are signed, a line each, their values without spaces around them and with one
// between words.
func (h *HMAC) headerLines(r *exchange.Request) (string, error) {
	var out strings.Builder
	for _, name := range h.Headers {
		text, err := h.text(SignedPart{What: "header", Name: name}, r, nil)
		if err != nil {
			return "", err
		}
		out.WriteString(name + ":" + strings.Join(strings.Fields(text), " ") + "\n")
	}
	return out.String(), nil
}

// sortedQuery writes the parameters anew by RFC 3986 and sorts them by byte,
// first their names and then their values.
func sortedQuery(raw string) (string, error) {
	type pair struct{ name, text string }
	var pairs []pair
	for part := range strings.SplitSeq(raw, "&") {
		if part == "" {
			continue
		}
		name, text, _ := strings.Cut(part, "=")
		var err error
		if name, err = url.QueryUnescape(name); err == nil {
			text, err = url.QueryUnescape(text)
		}
		if err != nil {
			return "", &Error{Message: fmt.Sprintf("the query cannot be signed: %q is not percent-encoded", part)}
		}
		pairs = append(pairs, pair{escape3986(name), escape3986(text)})
	}
	slices.SortStableFunc(pairs, func(a, b pair) int {
		if order := strings.Compare(a.name, b.name); order != 0 {
			return order
		}
		return strings.Compare(a.text, b.text)
	})
	var out bytes.Buffer
	for i, p := range pairs {
		if i > 0 {
			out.WriteByte('&')
		}
		out.WriteString(p.name + "=" + p.text)
	}
	return out.String(), nil
}

func (h *HMAC) readsBench() bool { return true }

// spoils says which ways there are.
func (h *HMAC) spoils(way string) bool {
	return way == Tampered || way == Empty || way == Expired && h.Stamp != nil
}

// Placeholders lists the placeholders.
func (h *HMAC) Placeholders() []*value.Placeholder { return placeholders(h.Key, h.KeyID) }

func readHMAC(r *mapping.Reader, n *yamlfile.Node) Kind {
	h := &HMAC{Join: "\n", Hash: "sha256", Encode: "base64"}
	mapping.Read(r, "an hmac login", n, h, hmacKeys)
	r.Together(n, hmacTogether)
	needSettings(r, n, "key", h.Key)
	h.checkUses(r, n)
	if len(h.Sign) == 0 || h.Into.Name == "" {
		r.File.Report(n, "write sign: with a list of "+strings.Join(SignedParts, ", ")+
			"; and into: header NAME or query NAME",
			"an hmac login must say what is signed, and where the signature goes")
	}
	return h
}

var hmacKeys = []mapping.Key[HMAC]{
	ignoreKind[HMAC](),
	mapping.NewKey("sign", "what is signed, in order", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		h.Sign = readSignedParts(r, n)
	}),
	mapping.NewKey("canonical", "a form of the request whose hash is signed (canonical hash), a line for each part",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) { h.Canonical = readSignedParts(r, n) }),
	mapping.NewKey("headers", "the header fields of the parts header lines and signed headers",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				h.Headers = append(h.Headers, strings.ToLower(readHeaderName(r, item)))
			}
			slices.Sort(h.Headers)
		}),
	mapping.NewKey("derive", "the key that signs is made in steps: before:, and steps: with parts",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			h.Derive = &Derivation{}
			mapping.Read(r, "derive", n, h.Derive, derivationKeys)
			if len(h.Derive.Steps) == 0 {
				r.File.Report(n, "write steps: [stamp date, text eu, text hives]", "derive: needs steps:")
			}
		}),
	mapping.TextKey("join", "what is between the parts; a line break unless said",
		func(h *HMAC) *string { return &h.Join }),
	mapping.NewKey("hash", "sha256, sha384, sha512, sha1, md5; sha256 unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			if word := r.Choice(n, "hash", "sha256", "sha384", "sha512", "sha1", "md5"); word != "" {
				h.Hash = word
			}
		}),
	mapping.NewKey("encode", strings.Join(Encodings, ", ")+"; base64 unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			if word := r.Choice(n, "encoding", Encodings...); word != "" {
				h.Encode = word
			}
		}),
	mapping.SecretKey("key", "the shared key, from ${sealed.x}", func(h *HMAC) **value.Template { return &h.Key }),
	mapping.NewKey(
		"key is", "how the key is written: base64, hex; as it is unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			h.KeyIs = r.Choice(n, "encoding", Encodings...)
		},
	),
	mapping.TemplateKey("key id", "the key's name", func(h *HMAC) **value.Template { return &h.KeyID }),
	mapping.NewKey("id", "where the key's name goes", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		h.ID = readTarget(r, n)
	}),
	mapping.NewKey("into", "where the signature goes: header NAME or query NAME",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			if t := readTarget(r, n); t != nil {
				h.Into = *t
			}
		}),
	mapping.NewKey(
		"write", "what is written there: ${signature}, ${id}, ${stamp}, ${stamp date}, ${nonce}, ${scope} and "+
			"${signed headers} stand for those",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) { h.Write = r.Text(n) },
	),
	mapping.NewKey("stamp", "where the time stamp goes", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		if t := readTarget(r, n); t != nil {
			if h.Stamp == nil {
				h.Stamp = &Stamp{}
			}
			h.Stamp.Target = *t
		}
	}),
	mapping.NewKey("stamp as", strings.Join(StampForms, ", ")+"; seconds unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			if h.Stamp == nil {
				h.Stamp = &Stamp{}
			}
			h.Stamp.As = r.Choice(n, "form of a time stamp", StampForms...)
		}),
	mapping.NewKey("nonce", "where a random word goes", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		h.Nonce = readTarget(r, n)
	}),
	mapping.NewKey("body hash as", "how it is made: sha256 hex; by hash: and encode: unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			h.BodyAs = r.PlainText(n)
			if _, _, err := hashForm(h.BodyAs, "", ""); err != nil {
				r.File.Report(n, "", "%v", err)
			}
		}),
	mapping.NewKey("body hash", "where the body's hash goes", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		h.Body = readTarget(r, n)
	}),
}

var derivationKeys = []mapping.Key[Derivation]{
	mapping.TextKey("before", "a text before the shared key", func(d *Derivation) *string { return &d.Before }),
	mapping.NewKey("steps", "the parts by which the key is made, one after the other",
		func(r *mapping.Reader, d *Derivation, n *yamlfile.Node) { d.Steps = readSignedParts(r, n) }),
}

// readSignedParts reads a list of parts.
func readSignedParts(r *mapping.Reader, n *yamlfile.Node) []SignedPart {
	var parts []SignedPart
	for _, item := range r.List(n) {
		part, err := ParseSignedPart(r.PlainText(item))
		if err != nil {
			r.File.Report(item, "", "%v", err)
		}
		parts = append(parts, part)
	}
	return parts
}

// readTarget reads `header NAME` or `query NAME`.
func readTarget(r *mapping.Reader, n *yamlfile.Node) *Target {
	in, name, _ := strings.Cut(r.PlainText(n), " ")
	name = strings.TrimSpace(name)
	if in != "header" && in != "query" || name == "" {
		r.File.Report(n, "write header NAME or query NAME", "%q is not a place in a request", r.PlainText(n))
		return nil
	}
	if in == "header" {
		if err := request.CheckHeader(name, ""); err != nil {
			r.File.Report(n, "", "%v", err)
		}
	}
	return &Target{In: in, Name: name}
}

var hmacTogether = []mapping.Together{
	{Key: "id", With: []string{"key id"}},
	{Key: "stamp as", With: []string{"stamp"}},
	{
		Key:  "key id",
		With: []string{"id", "write"},
	},
	{Key: "body hash as", With: []string{"body hash"}},
}

// checkUses reports parts without what they are made of, and what no part uses.
func (h *HMAC) checkUses(r *mapping.Reader, n *yamlfile.Node) {
	var all []SignedPart
	all = append(append(all, h.Sign...), h.Canonical...)
	if h.Derive != nil {
		all = append(all, h.Derive.Steps...)
	}
	uses := func(what ...string) bool {
		return slices.ContainsFunc(all, func(p SignedPart) bool { return slices.Contains(what, p.What) })
	}
	for _, one := range []struct {
		key   string
		given bool
		what  []string
	}{
		{"canonical", h.Canonical != nil, []string{"canonical hash"}},
		{"headers", h.Headers != nil, []string{"header lines", "signed headers"}},
		{"stamp", h.Stamp != nil, []string{"stamp date"}},
		{"derive", h.Derive != nil, []string{"scope"}},
	} {
		switch {
		case !one.given && uses(one.what...):
			r.File.Report(n, "write "+one.key+":", "the part %s needs %s:", one.what[0], one.key)
		case one.given && (one.key == "canonical" || one.key == "headers") && !uses(one.what...):
			r.File.Report(n.Key(one.key), "write "+one.what[0]+" among the parts, or take it out",
				"%s: has no effect: no part is made of it", one.key)
		}
	}
}
