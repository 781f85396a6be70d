package login

import (
	"context"
	"encoding/base64"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/xmlstream"
	"testbench/internal/yamlfile"
)

// Basic sends user and password with each request (RFC 7617).
type Basic struct {
	User, Password *value.Template
}

// Obtain fills user and password in.
func (b *Basic) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	token, err := env.credentials("Basic", b.User, b.Password)
	if err == nil && strings.Contains(token.User, ":") {
		return nil, &Error{Message: "a user name for Basic cannot hold a colon (RFC 7617, section 2)"}
	}
	return token, err
}

// Put sets the Authorization field.
func (b *Basic) Put(r *exchange.Request, env *Env, t *Token) error {
	credentials := basicCredentials(t.User, t.Text)
	env.Scope.Hide(credentials)
	r.SetHeader("Authorization", "Basic "+credentials)
	// Whatever the lengths, the pair is never shown.
	r.Show("Authorization", "Basic "+value.Mask)
	return nil
}

// Placeholders lists the placeholders.
func (b *Basic) Placeholders() []*value.Placeholder { return placeholders(b.User, b.Password) }

func basicCredentials(user, password string) string {
	return base64.StdEncoding.EncodeToString([]byte(user + ":" + password))
}

// Bearer sends a token that the bench knows (RFC 6750, section 2.1).
type Bearer struct {
	Token *value.Template
}

// Obtain fills the token in.
func (b *Bearer) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	text, err := env.text("token", b.Token)
	if err != nil {
		return nil, err
	}
	return &Token{Text: text, Kind: "Bearer", Obtained: env.now(), Expires: expiry(text), Fixed: true}, nil
}

// Put sets the Authorization field.
func (b *Bearer) Put(r *exchange.Request, _ *Env, t *Token) error {
	return Send{Header: "Authorization", Scheme: "Bearer"}.put(r, t)
}

// Placeholders lists the placeholders.
func (b *Bearer) Placeholders() []*value.Placeholder { return placeholders(b.Token) }

// Key sends a key in a header or in the query, with an optional word before it.
type Key struct {
	Key  *value.Template
	Send Send
}

// Obtain fills the key in.
func (k *Key) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	text, err := env.text("key", k.Key)
	if err != nil {
		return nil, err
	}
	return &Token{Text: text, Kind: "key", Obtained: env.now(), Fixed: true}, nil
}

// Put sets the header, query value or cookie.
func (k *Key) Put(r *exchange.Request, _ *Env, t *Token) error { return k.Send.put(r, t) }

// Placeholders lists the placeholders.
func (k *Key) Placeholders() []*value.Placeholder { return placeholders(k.Key) }

// Send says where a token goes in a request: into a header, with an optional
// word before it, into the query, into a cookie, or into a block in the header of an envelope.
type Send struct {
	Header, Scheme, Query, Cookie string
	// Block is the block's element, with a slash before each element within it; all are in the Namespace.
	Block, Namespace string
}

// place is the stage in which it goes in.
func (s Send) place() Stage {
	if s.Block != "" {
		return InHeader
	}
	return Beside
}

// putBlock puts a token into a block of its own in the header of the envelope.
func (s Send) putBlock(r *exchange.Request, text string) error {
	content := document.NewUntyped(text)
	content.Secret = true
	for _, name := range slices.Backward(strings.Split(s.Block, "/")) {
		content = document.NewElement(document.Name{Space: s.Namespace, Local: name}, content)
	}
	document.Declare(content)
	return protect(r, "", func(m *wssecurity.Message) error {
		m.AddBlock(content)
		return nil
	})
}

func (s Send) put(r *exchange.Request, t *Token) error {
	text, shown := t.Text, value.Mask
	if s.Scheme != "" {
		text, shown = s.Scheme+" "+text, s.Scheme+" "+shown
	}
	if t.Text == "" {
		shown = text
	}
	switch {
	case s.Block != "":
		return s.putBlock(r, text)
	case s.Query != "":
		before := r.Shown()
		query := r.URL.RawQuery
		if query != "" {
			query += "&"
		}
		r.URL.RawQuery = query + queryEscape(s.Query) + "=" + queryEscape(text)
		separator := "?"
		if strings.Contains(before, "?") {
			separator = "&"
		}
		r.ShownURL = before + separator + queryEscape(s.Query) + "=" + shown
	case s.Cookie != "":
		cookie := s.Cookie + "=" + text
		if before := r.GetHeader("Cookie"); before != "" {
			cookie = before + "; " + cookie
		}
		r.SetHeader("Cookie", cookie)
		r.Show("Cookie", s.Cookie+"="+shown)
	default:
		if strings.ContainsAny(text, "\r\n\x00") {
			return &Error{
				Message: "the token holds a line break, which a header cannot carry",
				Try:     "trim it where it is kept",
			}
		}
		r.SetHeader(s.Header, strings.TrimSpace(text))
		r.Show(s.Header, shown)
	}
	return nil
}

func placeholders(templates ...*value.Template) []*value.Placeholder {
	var all []*value.Placeholder
	for _, t := range templates {
		if t != nil {
			all = append(all, t.Placeholders()...)
		}
	}
	return all
}

func readBasic(r *mapping.Reader, n *yamlfile.Node) Kind {
	b := &Basic{}
	mapping.Read(r, "a basic login", n, b, basicKeys)
	needSettings(r, n, "user", b.User, "password", b.Password)
	return b
}

var basicKeys = []mapping.Key[Basic]{
	ignoreKind[Basic](),
	mapping.TemplateKey("user", "user name", func(b *Basic) **value.Template { return &b.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}", func(b *Basic) **value.Template { return &b.Password }),
}

func readBearer(r *mapping.Reader, n *yamlfile.Node) Kind {
	b := &Bearer{}
	mapping.Read(r, "a bearer login", n, b, bearerKeys)
	needSettings(r, n, "token", b.Token)
	return b
}

var bearerKeys = []mapping.Key[Bearer]{
	ignoreKind[Bearer](),
	mapping.SecretKey("token", "the token, from ${sealed.x}", func(b *Bearer) **value.Template { return &b.Token }),
}

func readKey(r *mapping.Reader, n *yamlfile.Node) Kind {
	k := &Key{}
	mapping.Read(r, "a key login", n, k, keyKeys)
	r.Together(n, keyTogether)
	needSettings(r, n, "key", k.Key)
	if k.Send == (Send{Scheme: k.Send.Scheme}) {
		r.File.Report(n, "write header: NAME, query: NAME or cookie: NAME",
			"a key login must say where the key goes")
	}
	return k
}

var keyKeys = []mapping.Key[Key]{
	ignoreKind[Key](),
	mapping.SecretKey("key", "the key, from ${sealed.x}", func(k *Key) **value.Template { return &k.Key }),
	mapping.NewKey("header", "the header it goes into", func(r *mapping.Reader, k *Key, n *yamlfile.Node) {
		k.Send.Header = readHeaderName(r, n)
	}),
	mapping.TextKey("query", "the query name it goes under", func(k *Key) *string { return &k.Send.Query }),
	mapping.NewKey("cookie", "the cookie it goes into", func(r *mapping.Reader, k *Key, n *yamlfile.Node) {
		k.Send.Cookie = readCookieName(r, n)
	}),
	mapping.TextKey("scheme", "the scheme before it, as Bearer", func(k *Key) *string { return &k.Send.Scheme }),
}

var sendKeys = []mapping.Key[Send]{
	mapping.NewKey("header", "the header it goes into", func(r *mapping.Reader, s *Send, n *yamlfile.Node) {
		s.Header = readHeaderName(r, n)
	}),
	mapping.TextKey("scheme", "the scheme before it, as Bearer", func(s *Send) *string { return &s.Scheme }),
	mapping.TextKey("query", "the query name it goes under", func(s *Send) *string { return &s.Query }),
	mapping.NewKey("cookie", "the cookie it goes into", func(r *mapping.Reader, s *Send, n *yamlfile.Node) {
		s.Cookie = readCookieName(r, n)
	}),
	mapping.NewKey("block", "the block in the header of an envelope, and the element within it: Session/Id",
		func(r *mapping.Reader, s *Send, n *yamlfile.Node) {
			s.Block = r.PlainText(n)
			for part := range strings.SplitSeq(s.Block, "/") {
				if !xmlstream.IsNCName(part) {
					r.File.Report(n, "write it like Session or Session/Id; namespace: says theirs",
						"%q is not the name of an element", part)
				}
			}
		}),
	mapping.TextKey("namespace", "the namespace of block", func(s *Send) *string { return &s.Namespace }),
}

// readSend reads where a token goes; with nothing but a scheme it is the Authorization field (RFC 9110, 11.6.2).
func readSend(r *mapping.Reader, n *yamlfile.Node, into *Send) {
	*into = Send{}
	mapping.Read(r, "send", n, into, sendKeys)
	r.Together(n, slices.Concat(keyTogether, []mapping.Together{
		{Key: "block", Without: []string{"header", "scheme", "query", "cookie"}},
		{Key: "namespace", With: []string{"block"}},
	}))
	if *into == (Send{Scheme: into.Scheme}) && into.Scheme != "" {
		into.Header = "Authorization"
	}
}

var keyTogether = []mapping.Together{
	{Key: "header", Without: []string{"query", "cookie"}},
	{Key: "query", Without: []string{"header", "cookie"}},
	{Key: "cookie", Without: []string{"header", "query"}},
}
