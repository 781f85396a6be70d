package login

import (
	"context"
	"crypto"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"fmt"
	"hash"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

// OAuth1 signs requests by OAuth 1.0 (RFC 5849): with the client's credentials alone, with those of a token beside
// them, or with a token that a person agrees to (section 2).
type OAuth1 struct {
	Client, ClientSecret *value.Template
	Token, TokenSecret   *value.Template // nil for requests of the client alone, or where somebody agrees to one
	Key, Password        *value.Template // of the RSA methods
	Method               string          // of OAuth1Methods
	Into                 string          // of OAuth1Places
	Realm                *value.Template
	BodyHash             bool // oauth_body_hash of a body that is not a form
	// Block is the element of a signed token in the header of an envelope, as prefix:name, with the names of
	// prefixes in Names, for the account.
	Block   string
	Account *value.Template
	Names   map[string]string
	// TemporaryAt, AuthorizeAt and TokenAt are the addresses of section 2.
	TemporaryAt, AuthorizeAt, TokenAt *value.Template
	Redirect                          *value.Template
}

// OAuth1Methods are the signature methods (RFC 5849, 3.4; the SHA-2 forms are those that servers took up since).
var OAuth1Methods = []string{"HMAC-SHA1", "HMAC-SHA256", "HMAC-SHA512", "RSA-SHA1", "RSA-SHA256", "PLAINTEXT"}

// OAuth1Places are where the parameters go (RFC 5849, 3.5), and the header of an envelope.
var OAuth1Places = []string{"header", "query", "form", "block"}

// oauth1State is what signs: the credentials of the client and of the token.
type oauth1State struct {
	client, clientSecret, token, tokenSecret string
	key                                      *rsa.PrivateKey
}

// Place says that the signature covers what other logins put in, unless it is in the envelope.
func (o *OAuth1) Place() Stage {
	if o.Into == "block" {
		return InHeader
	}
	return Sealing
}

// Obtain reads the credentials, and lets somebody agree to a token where the definition has the addresses for that.
func (o *OAuth1) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	state, err := o.read(env)
	if err != nil {
		return nil, err
	}
	if o.TokenAt != nil {
		return o.agreed(ctx, env, state)
	}
	// All of its secrets are those of the bench, which are masked already.
	return &Token{Kind: "signature", Text: state.clientSecret, Obtained: env.now(), Fixed: true, material: state}, nil
}

// read fills the credentials in.
func (o *OAuth1) read(env *Env) (*oauth1State, error) {
	filled, err := env.texts("client", o.Client, "client secret", o.ClientSecret, "token", o.Token, "token secret",
		o.TokenSecret)
	if err != nil {
		return nil, err
	}
	state := &oauth1State{client: filled[0], clientSecret: filled[1], token: filled[2], tokenSecret: filled[3]}
	if !strings.HasPrefix(o.Method, "RSA") {
		return state, nil
	}
	pair, err := Material{Key: o.Key, Password: o.Password}.read(env)
	if err != nil {
		return nil, err
	}
	key, isRSA := pair.Key.(*rsa.PrivateKey)
	if !isRSA {
		return nil, &Error{Message: o.Method + " needs an RSA key under key:"}
	}
	state.key = key
	return state, nil
}

// stateOf is what signs with a token; one that an earlier command kept brings its own credentials along.
func (o *OAuth1) stateOf(env *Env, t *Token) (*oauth1State, error) {
	if state, ok := t.material.(*oauth1State); ok {
		return state, nil
	}
	state, err := o.read(env)
	if err != nil {
		return nil, err
	}
	state.token, state.tokenSecret = t.Text, t.Refresh
	return state, nil
}

// Put signs the request.
func (o *OAuth1) Put(r *exchange.Request, env *Env, t *Token) error {
	state, err := o.stateOf(env, t)
	if err != nil {
		return err
	}
	stamp := strconv.FormatInt(env.serverNow(r.URL.Host).Add(t.stampShift()).Unix(), 10)
	if o.Into == "block" {
		return o.putBlock(r, env, state, t, stamp)
	}
	return o.sign(r, env, state, t, [][2]string{{"oauth_timestamp", stamp}, {"oauth_nonce", randomText()}})
}

// sign adds the parameters of the protocol to those that are given, and the signature over all of them.
func (o *OAuth1) sign(r *exchange.Request, env *Env, state *oauth1State, t *Token, own [][2]string) error {
	own = append(own, [2]string{"oauth_consumer_key", state.client}, [2]string{"oauth_signature_method", o.Method},
		[2]string{"oauth_version", "1.0"})
	if state.token != "" {
		own = append(own, [2]string{"oauth_token", state.token})
	}
	if o.BodyHash && !isForm(r) {
		newHash := o.hash()
		sum := newHash()
		sum.Write(r.Body)
		own = append(own, [2]string{"oauth_body_hash", base64.StdEncoding.EncodeToString(sum.Sum(nil))})
	}
	base, err := oauth1Base(r, own)
	if err != nil {
		return err
	}
	r.Signed = append(r.Signed, base)
	signature, err := o.signature(state, base)
	if err != nil {
		return err
	}
	if o.Method != "PLAINTEXT" {
		raw, _ := base64.StdEncoding.DecodeString(signature) // it was encoded here
		signature = base64.StdEncoding.EncodeToString(t.spoilSignature(raw))
	} else if t.Spoilt != "" {
		signature = string(t.spoilSignature([]byte(signature)))
	}
	return o.put(r, env, append(own, [2]string{"oauth_signature", signature}))
}

// put writes the parameters where they go (RFC 5849, 3.5).
func (o *OAuth1) put(r *exchange.Request, env *Env, parameters [][2]string) error {
	switch o.Into {
	case "query":
		for _, p := range parameters {
			Target{In: "query", Name: p[0]}.put(r, p[1])
		}
		return nil
	case "form":
		if !isForm(r) && len(r.Body) > 0 || r.Method == http.MethodGet {
			return &Error{
				Message: "into: form puts the signature into the form of a request, and this one has none",
				Try:     "write into: header",
			}
		}
		pairs := make([]string, len(parameters))
		for i, p := range parameters {
			pairs[i] = escape3986(p[0]) + "=" + escape3986(p[1])
		}
		added := strings.Join(pairs, "&")
		if r.ShownBody != "" {
			r.ShownBody += "&" + added
		}
		r.Body = []byte(strings.TrimPrefix(string(r.Body)+"&"+added, "&"))
		r.SetHeader("Content-Type", "application/x-www-form-urlencoded")
		return nil
	}
	realm, err := env.text("realm", o.Realm)
	if err != nil {
		return err
	}
	var parts []string
	if realm != "" {
		parts = append(parts, `realm="`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(realm)+`"`)
	}
	for _, p := range parameters {
		parts = append(parts, escape3986(p[0])+`="`+escape3986(p[1])+`"`)
	}
	r.SetHeader("Authorization", "OAuth "+strings.Join(parts, ", "))
	return nil
}

// oauth1Base is the signature base string (RFC 5849, 3.4.1).
func oauth1Base(r *exchange.Request, own [][2]string) (string, error) {
	all := []string{r.URL.RawQuery}
	if isForm(r) {
		all = append(all, string(r.Body))
	}
	for _, p := range own {
		all = append(all, escape3986(p[0])+"="+escape3986(p[1]))
	}
	normalized, err := sortedQuery(strings.Join(all, "&"))
	if err != nil {
		return "", err
	}
	host := strings.ToLower(r.URL.Host)
	if at := r.GetHeader("Host"); at != "" {
		host = strings.ToLower(at)
	}
	host = strings.TrimSuffix(host, map[string]string{"http": ":80", "https": ":443"}[r.URL.Scheme]) // 3.4.1.2
	path := r.URL.EscapedPath()
	if path == "" {
		path = "/"
	}
	return strings.Join([]string{
		strings.ToUpper(r.Method), escape3986(strings.ToLower(r.URL.Scheme) + "://" + host +
			path), escape3986(normalized),
	}, "&"), nil
}

// isForm says whether the parameters of a body are signed (RFC 5849, 3.4.1.3.1).
func isForm(r *exchange.Request) bool {
	mediaType, _, _ := mime.ParseMediaType(r.GetHeader("Content-Type"))
	return mediaType == "application/x-www-form-urlencoded"
}

func (o *OAuth1) hash() func() hash.Hash {
	switch {
	case strings.HasSuffix(o.Method, "SHA256"):
		return sha256.New
	case strings.HasSuffix(o.Method, "SHA512"):
		return sha512.New
	}
	return sha1.New
}

// signature signs a text (RFC 5849, 3.4.2 to 3.4.4).
func (o *OAuth1) signature(state *oauth1State, base string) (string, error) {
	key := escape3986(state.clientSecret) + "&" + escape3986(state.tokenSecret)
	if o.Method == "PLAINTEXT" {
		return key, nil
	}
	if state.key == nil {
		mac := hmac.New(o.hash(), []byte(key))
		mac.Write([]byte(base))
		return base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
	}
	digest, of := o.hash()(), crypto.SHA1
	if o.Method == "RSA-SHA256" {
		of = crypto.SHA256
	}
	digest.Write([]byte(base))
	signed, err := rsa.SignPKCS1v15(nil, state.key, of, digest.Sum(nil))
	if err != nil {
		return "", &Error{Message: err.Error()}
	}
	return base64.StdEncoding.EncodeToString(signed), nil
}

// putBlock puts a signed token into the header of the envelope: account, client, token, nonce and time stamp,
// joined by & as they are escaped, are what is signed.
func (o *OAuth1) putBlock(r *exchange.Request, env *Env, state *oauth1State, t *Token, stamp string) error {
	account, err := env.text("account", o.Account)
	if err != nil {
		return err
	}
	parts := []string{account, state.client, state.token, randomText(), stamp}
	escaped := make([]string, len(parts))
	for i, part := range parts {
		escaped[i] = escape3986(part)
	}
	base := strings.Join(escaped, "&")
	r.Signed = append(r.Signed, base)
	signature, err := o.signature(state, base)
	if err != nil {
		return err
	}
	raw, _ := base64.StdEncoding.DecodeString(signature) // it was encoded here
	signature = base64.StdEncoding.EncodeToString(t.spoilSignature(raw))
	prefix, local, _ := strings.Cut(o.Block, ":")
	space := o.Names[prefix]
	element := func(local string, items ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Space: space, Prefix: prefix, Local: local}, items...)
	}
	block := element(local)
	block.AppendAttributes(document.Attribute{Name: document.Name{Prefix: "xmlns", Local: prefix}, Value: space})
	for i, name := range []string{"account", "consumerKey", "token", "nonce", "timestamp"} {
		block.AppendItems(element(name, document.NewUntyped(parts[i])))
	}
	signed := element("signature", document.NewUntyped(signature))
	signed.AppendAttributes(document.Attribute{Name: document.Name{Local: "algorithm"}, Value: o.Method})
	block.AppendItems(signed)
	return protect(r, "", func(m *wssecurity.Message) error {
		m.AddBlock(block)
		return nil
	})
}

// agreed lets somebody agree to a token: temporary credentials, a page in the browser, and the credentials of a token
// for what that brings back (RFC 5849, 2.1 to 2.3).
func (o *OAuth1) agreed(ctx context.Context, env *Env, state *oauth1State) (*Token, error) {
	if env.Prompter == nil {
		return nil, nobody()
	}
	listener, redirect, err := listen(env, o.Redirect)
	if err != nil {
		return nil, err
	}
	defer func() { _ = listener.Close() }()
	temporary, err := o.ask(ctx, env, state, "temporary", o.TemporaryAt,
		[2]string{"oauth_callback", redirect.String()})
	if err != nil {
		return nil, err
	}
	page, err := env.text("authorize", o.AuthorizeAt)
	if err != nil {
		return nil, err
	}
	address, err := pageWith(page, url.Values{"oauth_token": {temporary.token}})
	if err != nil {
		return nil, err
	}
	verifier, err := cameBack(ctx, env, listener, redirect, address, func(came url.Values) (returned, bool) {
		if came.Get("oauth_token") != temporary.token {
			return returned{}, false
		}
		got := returned{code: came.Get("oauth_verifier")}
		if got.code == "" {
			got.err = &Error{Asked: true, Message: "the server sent the browser back without a verifier: nobody agreed"}
		}
		return got, true
	})
	if err != nil {
		return nil, err
	}
	env.Scope.Hide(verifier)
	of, err := o.ask(ctx, env, temporary, "from", o.TokenAt, [2]string{"oauth_verifier", verifier})
	if err != nil {
		return nil, err
	}
	return &Token{
		Kind: "OAuth 1.0", Text: of.token, Refresh: of.tokenSecret, Obtained: env.now(),
		Expires: env.now().Add(agreedFor), // nobody says when: it is kept for a day
	}, nil
}

// agreedFor is how long a token is kept to which somebody agreed; the protocol tells no end.
const agreedFor = 24 * time.Hour

// ask gets credentials for others, whose parameters it signs.
func (o *OAuth1) ask(ctx context.Context, env *Env, state *oauth1State, what string, at *value.Template,
	more [2]string,
) (*oauth1State, error) {
	r, err := (&request.Spec{Method: http.MethodPost, Address: at}).Build(env.Scope)
	if err != nil {
		return nil, &Error{Message: what + ": " + err.Error()}
	}
	stamp := strconv.FormatInt(env.serverNow(r.URL.Host).Unix(), 10)
	asking := *o
	asking.Into, asking.BodyHash = "header", false
	if err := asking.sign(r, env, state, &Token{}, [][2]string{
		{"oauth_timestamp", stamp}, {"oauth_nonce", randomText()}, more,
	}); err != nil {
		return nil, err
	}
	re, err := env.ask(ctx, r)
	if err != nil {
		return nil, err
	}
	got, err := credentialsIn(re, state)
	if err == nil {
		env.Scope.Hide(got.tokenSecret) // temporary credentials are named in the address of a page; their secret is not
	}
	return got, err
}

// credentialsIn reads the credentials of an answer (RFC 5849, 2.1 and 2.3), whatever media type it has: the form that
// they are in calls itself text in many places.
func credentialsIn(re *reply.Reply, state *oauth1State) (*oauth1State, error) {
	answer := re.Record.Answer
	form, err := url.ParseQuery(strings.TrimSpace(string(answer.Body)))
	if answer.Status != http.StatusOK || err != nil || form.Get("oauth_token") == "" {
		return nil, &Error{
			Record: re.Record,
			Message: fmt.Sprintf("the server answered with %d and without the credentials that were asked for: %s",
				answer.Status, answerInWords(re)),
			Try: "see that client and client secret are right, and that the server knows the address to come back to",
		}
	}
	got := *state
	got.token, got.tokenSecret = form.Get("oauth_token"), form.Get("oauth_token_secret")
	return &got, nil
}

func (o *OAuth1) readsBench() bool { return o.TokenAt == nil }

// spoils says which ways there are.
func (o *OAuth1) spoils(way string) bool { return way == Tampered || way == Empty || way == Expired }

// Placeholders lists the placeholders.
func (o *OAuth1) Placeholders() []*value.Placeholder {
	return placeholders(o.Client, o.ClientSecret, o.Token, o.TokenSecret, o.Key, o.Password, o.Realm, o.Account,
		o.TemporaryAt, o.AuthorizeAt, o.TokenAt, o.Redirect)
}

func readOAuth1(r *mapping.Reader, n *yamlfile.Node) Kind {
	o := &OAuth1{Method: "HMAC-SHA1", Into: "header"}
	mapping.Read(r, "an oauth1 login", n, o, oauth1Keys)
	r.Together(n, oauth1Together)
	needSettings(r, n, "client", o.Client)
	isRSA := strings.HasPrefix(o.Method, "RSA")
	switch {
	case isRSA && o.Key == nil:
		r.File.Report(n, "write key: with an RSA key", "%s signs with a key, and there is none", o.Method)
	case !isRSA && o.Key != nil:
		r.File.Report(n.Key("key"), "write method: RSA-SHA1, or take it out",
			"key: has no effect: %s signs with secrets", o.Method)
	case isRSA && o.ClientSecret != nil:
		r.File.Report(n.Key("client secret"), "take it out", "client secret: has no effect: %s signs with a key",
			o.Method)
	case !isRSA && o.ClientSecret == nil:
		r.File.Report(n, "write client secret: ${sealed.NAME}", "the login does not say client secret:")
	}
	if o.Into == "block" {
		o.checkBlock(r, n)
	}
	return o
}

// checkBlock says what is missing for a token in the header of an envelope.
func (o *OAuth1) checkBlock(r *mapping.Reader, n *yamlfile.Node) {
	prefix, local, qualified := strings.Cut(o.Block, ":")
	switch {
	case !qualified || local == "":
		r.File.Report(n, "write block: prefix:name", "into: block needs the element that the token is in")
	case o.Names[prefix] == "":
		r.File.Report(n.Key("block"), "write names: {"+prefix+": NAMESPACE}", "the prefix %s is not known here", prefix)
	case o.Account == nil:
		r.File.Report(n, "write account: NAME", "into: block needs the account")
	case o.Method == "PLAINTEXT":
		r.File.Report(n.Key("method"), "write method: HMAC-SHA256",
			"a token in a block is signed, and PLAINTEXT signs nothing")
	}
}

var oauth1Together = []mapping.Together{
	{Key: "token", With: []string{"token secret"}},
	{Key: "token secret", With: []string{"token"}},
	{Key: "token", Without: []string{"from"}},
	{Key: "password", With: []string{"key"}},
	{Key: "temporary", With: []string{"from"}},
	{Key: "authorize", With: []string{"from"}},
	{Key: "from", With: []string{"temporary"}},
	{Key: "from", With: []string{"authorize"}},
	{Key: "redirect", With: []string{"from"}},
	{Key: "block", With: []string{"account"}},
	{Key: "account", With: []string{"block"}},
	{
		Key:  "names",
		With: []string{"block"},
	},
}

var oauth1Keys = []mapping.Key[OAuth1]{
	ignoreKind[OAuth1](),
	mapping.TemplateKey("client", "the client's name (consumer key)",
		func(o *OAuth1) **value.Template { return &o.Client }),
	mapping.SecretKey("client secret", "the client's secret, from ${sealed.x}",
		func(o *OAuth1) **value.Template { return &o.ClientSecret }),
	mapping.SecretKey("token", "the token, from ${sealed.x}; without one the client alone asks",
		func(o *OAuth1) **value.Template { return &o.Token }),
	mapping.SecretKey("token secret", "the token's secret, from ${sealed.x}",
		func(o *OAuth1) **value.Template { return &o.TokenSecret }),
	mapping.NewKey("method", strings.Join(OAuth1Methods, ", ")+"; HMAC-SHA1 unless said",
		func(r *mapping.Reader, o *OAuth1, n *yamlfile.Node) {
			if word := r.Choice(n, "signature method", OAuth1Methods...); word != "" {
				o.Method = word
			}
		}),
	mapping.SecretKey("key", "the RSA key: a file of the bench, or ${sealed.x}",
		func(o *OAuth1) **value.Template { return &o.Key }),
	mapping.SecretKey("password", "the password of the key, from ${sealed.x}",
		func(o *OAuth1) **value.Template { return &o.Password }),
	mapping.NewKey("into",
		"where the parameters go: header, query, form, or block: the header of an envelope; header unless said",
		func(r *mapping.Reader, o *OAuth1, n *yamlfile.Node) {
			if word := r.Choice(n, "place", OAuth1Places...); word != "" {
				o.Into = word
			}
		}),
	mapping.TemplateKey("realm", "the realm in the header", func(o *OAuth1) **value.Template { return &o.Realm }),
	mapping.YesKey("body hash", "true: the hash of a body that is not a form is signed too (oauth_body_hash)",
		func(o *OAuth1) *bool { return &o.BodyHash }),
	mapping.TextKey("block", "the element of the token in the header of an envelope: prefix:name",
		func(o *OAuth1) *string { return &o.Block }),
	mapping.TemplateKey("account", "the account in that element",
		func(o *OAuth1) **value.Template { return &o.Account }),
	mapping.NewKey("names", "prefixes of XML names", func(r *mapping.Reader, o *OAuth1, n *yamlfile.Node) {
		o.Names = r.Names(n)
	}),
	mapping.TemplateKey("temporary", "where temporary credentials are given, for a person to agree to",
		func(o *OAuth1) **value.Template { return &o.TemporaryAt }),
	mapping.TemplateKey("authorize", "the page where the person agrees",
		func(o *OAuth1) **value.Template { return &o.AuthorizeAt }),
	mapping.TemplateKey("from", "where the token is given", func(o *OAuth1) **value.Template { return &o.TokenAt }),
	mapping.TemplateKey("redirect", "where the browser comes back to, on this machine; a free port unless said",
		func(o *OAuth1) **value.Template { return &o.Redirect }),
}
