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
	Encode string // of HMACEncodings
	Key    *value.Template
	KeyIs  string // how the key's text is read: as it is (""), or one of HMACEncodings
	KeyID  *value.Template
	Into   Target
	Stamp  *Stamp  // nil for none
	Nonce  *Target // nil for none
	ID     *Target // where the key's name goes; nil for nowhere
	Body   *Target // where the body's hash goes; nil for nowhere
	// Write is what goes into Into: ${id}, ${signature}, ${stamp} and ${nonce} stand
	// for those; empty writes the signature alone.
	Write string
}

// HMACHashes are the hashes by name.
var HMACHashes = map[string]func() hash.Hash{
	"sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New,
	"sha1": sha1.New, "md5": md5.New,
}

// HMACEncodings are the ways to write bytes as text.
var HMACEncodings = []string{"base64", "base64url", "hex", "HEX"}

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
}

// ParseSignedPart reads one part as a file writes it.
func ParseSignedPart(text string) (SignedPart, error) {
	text = strings.TrimSpace(text)
	if slices.Contains(SignedParts,
		text) && text != "header" && text != "named header" && text != "parameter" && text != "text" {
		return SignedPart{What: text}, nil
	}
	for _, what := range []string{"named header", "header", "parameter", "text"} {
		if name, ok := strings.CutPrefix(text, what+" "); ok && strings.TrimSpace(name) != "" {
			return SignedPart{What: what, Name: strings.TrimSpace(name)}, nil
		}
	}
	return SignedPart{}, fmt.Errorf(
		"%q cannot be signed; there are: %s (a header, a named header, a parameter and a text with their name or "+
			"text behind)", text, strings.Join(SignedParts, ", "))
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
		made["stamp"] = formatStamp(h.Stamp.As, env.serverNow(r.URL.Host).Add(t.stampShift()))
		h.Stamp.put(r, made["stamp"])
	}
	if h.Nonce != nil {
		made["nonce"] = randomText()
		h.Nonce.put(r, made["nonce"])
	}
	if h.ID != nil {
		h.ID.put(r, state.id)
	}
	newHash := HMACHashes[h.Hash]
	bodyHash := newHash()
	bodyHash.Write(r.Body)
	made["body hash"] = encodeText(h.Encode, bodyHash.Sum(nil))
	if h.Body != nil {
		h.Body.put(r, made["body hash"])
	}
	var parts []string
	for _, p := range h.Sign {
		text, err := p.text(r, made)
		if err != nil {
			return err
		}
		parts = append(parts, text)
	}
	base := strings.Join(parts, h.Join)
	r.Signed = append(r.Signed, base)
	mac := hmac.New(newHash, state.key)
	mac.Write([]byte(base))
	made["signature"] = encodeText(h.Encode, t.spoilSignature(mac.Sum(nil)))
	written := made["signature"]
	if h.Write != "" {
		written = strings.NewReplacer("${id}", made["id"], "${signature}", made["signature"], "${stamp}", made["stamp"],
			"${nonce}", made["nonce"]).Replace(h.Write)
	}
	h.Into.put(r, written)
	return nil
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
func (p SignedPart) text(r *exchange.Request, made map[string]string) (string, error) {
	switch p.What {
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
		if path := r.URL.EscapedPath(); path != "" {
			return path, nil
		}
		return "/", nil
	case "target":
		return r.URL.RequestURI(), nil
	case "query":
		return r.URL.RawQuery, nil
	case "sorted query":
		return sortedQuery(r.URL.RawQuery)
	case "address":
		return r.URL.String(), nil
	case "stamp", "nonce", "body hash":
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
		for _, item := range r.List(n) {
			part, err := ParseSignedPart(r.PlainText(item))
			if err != nil {
				r.File.Report(item, "", "%v", err)
			}
			h.Sign = append(h.Sign, part)
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
	mapping.NewKey("encode", strings.Join(HMACEncodings, ", ")+"; base64 unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			if word := r.Choice(n, "encoding", HMACEncodings...); word != "" {
				h.Encode = word
			}
		}),
	mapping.SecretKey("key", "the shared key, from ${sealed.x}", func(h *HMAC) **value.Template { return &h.Key }),
	mapping.NewKey(
		"key is", "how the key is written: base64, hex; as it is unless said",
		func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
			h.KeyIs = r.Choice(n, "encoding", HMACEncodings...)
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
		"write", "what is written there: ${id}, ${signature}, ${stamp} and ${nonce} stand for those",
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
	mapping.NewKey("body hash", "where the body's hash goes", func(r *mapping.Reader, h *HMAC, n *yamlfile.Node) {
		h.Body = readTarget(r, n)
	}),
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
	{Key: "id", With: []string{"key id"}}, {Key: "stamp as", With: []string{"stamp"}}, {
		Key:  "key id",
		With: []string{"id", "write"},
	},
}
