package login

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// LoginCall gets a token from any login call: a request of any shape, with the token
// anywhere in the reply.
type LoginCall struct {
	Request   *request.Spec
	TokenPath *path.Path // nil where Token is given
	// Token makes the token of several values of the answer, as ${answer.PATH} and ${reply.PATH}; nil where TokenPath
	// is given.
	Token  *value.Template
	Encode string // how the token is written: one of Encodings, or as it is (empty)
	// ExpiresPath leads to the token's life: a number of ExpiresUnit, or the instant
	// of its end where ExpiresUnit is 0. It may be nil.
	ExpiresPath *path.Path
	ExpiresUnit time.Duration
	ExpiresIn   time.Duration // a life that is known beforehand; 0 when it is not
	Send        Send
	StillGood   *request.Spec
	Revocation  *request.Spec
	With        string // another login that goes with the login call
}

// Obtain makes the login call.
func (d *LoginCall) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	asked, err := d.Request.Build(env.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	if err := env.with(ctx, d.With, asked); err != nil {
		return nil, err
	}
	r, err := env.do(ctx, asked)
	if err != nil {
		return nil, err
	}
	if status := r.Record.Answer.Status; status < 200 || status > 299 {
		return nil, &Error{
			Message: fmt.Sprintf("the login call was answered with %d: %s", status, answerInWords(r)), Record: r.Record,
			Try: "check user and password, and where the service wants them (headers, form, JSON, Basic)",
		}
	}
	text, err := d.token(env, r)
	if err != nil {
		return nil, err
	}
	token := &Token{Text: text, Kind: d.Send.Scheme, Obtained: env.now()}
	if end := expiry(text); !end.IsZero() {
		token.Expires = end.Add(-Skew(r.Record)) // the claim follows the server's clock
	}
	if d.ExpiresIn > 0 {
		token.Expires = token.Obtained.Add(d.ExpiresIn)
	}
	if d.ExpiresPath != nil {
		found, err := d.ExpiresPath.Find(r.Roots(nil), env.Scope)
		if err != nil {
			return nil, &Error{Message: err.Error()}
		}
		if token.Expires, err = d.end(found, token.Obtained); err != nil {
			return nil, &Error{Message: err.Error(), Record: r.Record}
		}
	}
	return token, nil
}

// token finds the token in the answer to the login call, or makes it of what is found there.
func (d *LoginCall) token(env *Env, r *reply.Reply) (string, error) {
	text, err := "", error(nil)
	if d.Token != nil {
		text, err = d.made(env, r)
	} else {
		text, err = d.found(env, r)
	}
	if err != nil || d.Encode == "" {
		return text, err
	}
	env.Scope.Hide(text)
	return encodeText(d.Encode, []byte(text)), nil
}

// found is the token at TokenPath.
func (d *LoginCall) found(env *Env, r *reply.Reply) (string, error) {
	found, err := d.TokenPath.Find(r.Roots(nil), env.Scope)
	if err != nil {
		return "", &Error{Message: err.Error()}
	}
	node := found.First()
	if isFilled(node) {
		return strings.TrimSpace(node.Value().Text), nil
	}
	why := "it is " + node.Describe()
	if miss := found.Missed(); miss != nil {
		why = miss.String()
	}
	return "", &Error{
		Message: fmt.Sprintf("there is no token at %s: %s", d.TokenPath.Source, why), Record: r.Record,
		Try: "see with `testbench call` what the login call answers, and correct token path:",
	}
}

// made is the token that Token makes. Each part has to be there: what lacks one is no token.
func (d *LoginCall) made(env *Env, r *reply.Reply) (string, error) {
	scope := answerScope{env.Scope, r}
	for _, part := range d.Token.Placeholders() {
		node, err := part.Alone().Node(scope, false)
		if err == nil && !isFilled(node) {
			err = fmt.Errorf("%s is %s", part.Source, node.Describe())
		}
		if err != nil {
			return "", &Error{
				Message: "no token was made: " + err.Error(), Record: r.Record,
				Try: "see with `testbench call` what the login call answers, and correct token:",
			}
		}
	}
	text, err := d.Token.Text(scope, value.Raw)
	return text.Sent, err
}

// isFilled says whether a value can be a token, or a part of one.
func isFilled(node *document.Node) bool {
	return node != nil && node.Value().IsScalar() && strings.TrimSpace(node.Value().Text) != ""
}

// answerScope knows the answer to a login call, beside all else. What is taken of it is secret.
type answerScope struct {
	value.Scope
	reply *reply.Reply
}

func (s answerScope) Lookup(space, name string) (*document.Node, error) {
	if space != "" || name != "answer" && name != "reply" {
		return s.Scope.Lookup(space, name)
	}
	node := s.reply.Payload
	if name == "reply" {
		node = s.reply.Tree()
	}
	if node == nil {
		return nil, value.ErrNothing
	}
	node = node.Copy()
	node.Secret = true
	return node, nil
}

// tokenScope knows the token, beside all else: many a call that ends it names it.
type tokenScope struct {
	value.Scope
	token *Token
}

func (s tokenScope) Lookup(space, name string) (*document.Node, error) {
	if space != "" || name != "token" {
		return s.Scope.Lookup(space, name)
	}
	node := document.NewUntyped(s.token.Text)
	node.Secret = true
	return node, nil
}

func (d *LoginCall) end(found path.Selection, now time.Time) (time.Time, error) {
	node := found.First()
	if node == nil {
		return time.Time{}, fmt.Errorf("expires in: %s", found.Missed())
	}
	if d.ExpiresUnit == 0 {
		moment, _, err := value.Moment(node.Value().Text)
		if err != nil {
			return time.Time{}, fmt.Errorf(
				"expires in: %w; with a unit after the path (s, min, h) it is read as a duration", err)
		}
		return moment, nil
	}
	amount, ok := node.Decimal()
	if !ok {
		return time.Time{}, fmt.Errorf("expires in: %s is %s, not a number", d.ExpiresPath.Source, node.Describe())
	}
	count, err := amount.Float64()
	return now.Add(time.Duration(count * float64(d.ExpiresUnit))), err
}

// Place is where the token goes in.
func (d *LoginCall) Place() Stage { return d.Send.place() }

// Put sends the token as the services want it.
func (d *LoginCall) Put(r *exchange.Request, _ *Env, t *Token) error { return d.Send.put(r, t) }

// Verify makes the call that says whether a token is still valid.
func (d *LoginCall) Verify(ctx context.Context, env *Env, t *Token) (*Introspection, error) {
	if d.StillGood == nil {
		return nil, &Error{
			Message: "the login names no call that verifies a token",
			Try:     "add still good: GET ADDRESS to the login",
		}
	}
	status, details, err := d.with(ctx, env, d.StillGood, t)
	if err != nil {
		return nil, err
	}
	standing := &Introspection{Good: status >= 200 && status <= 299, Details: details}
	standing.Said = fmt.Sprintf("the service answered %d: the token is good", status)
	if !standing.Good {
		standing.Said = fmt.Sprintf("the service answered %d: the token is not good", status)
	}
	return standing, nil
}

// RevokesToken says whether a call ends a token's life.
func (d *LoginCall) RevokesToken() bool { return d.Revocation != nil }

// Revoke makes the call that ends a token's life.
func (d *LoginCall) Revoke(ctx context.Context, env *Env, t *Token) error {
	status, _, err := d.with(ctx, env, d.Revocation, t)
	if err == nil && status >= 400 {
		err = &Error{Message: fmt.Sprintf("giving the token back was answered with %d", status)}
	}
	return err
}

// with sends a call that carries the token.
func (d *LoginCall) with(ctx context.Context, env *Env, spec *request.Spec, t *Token) (int, *document.Node, error) {
	r, err := spec.Build(tokenScope{env.Scope, t})
	if err != nil {
		return 0, nil, &Error{Message: err.Error()}
	}
	if err := d.Send.put(r, t); err != nil {
		return 0, nil, err
	}
	re, err := env.do(ctx, r)
	if err != nil {
		return 0, nil, err
	}
	if re.Problem != nil {
		return re.Record.Answer.Status, nil, nil
	}
	return re.Record.Answer.Status, re.Body, nil
}

// Placeholders lists the placeholders.
func (d *LoginCall) Placeholders() []*value.Placeholder {
	return append(placeholdersOf(d.specs()), placeholders(d.Token)...)
}

func (d *LoginCall) specs() []*request.Spec {
	specs := []*request.Spec{d.Request}
	for _, spec := range []*request.Spec{d.StillGood, d.Revocation} {
		if spec != nil {
			specs = append(specs, spec)
		}
	}
	return specs
}

// Addresses are where the login itself sends requests.
func (d *LoginCall) Addresses() []*value.Template { return addressesOf(d.specs()) }

func queryEscape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

// callKeys is a login call while it is read.
type callKeys struct {
	spec           *request.Spec
	user, password *yamlfile.Node
	with           string
}

var askKeys = []mapping.Key[callKeys]{
	mapping.NewKey("request", "method and address", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		if spec := readRequestLine(r, n); spec != nil {
			a.spec.Method, a.spec.Address = spec.Method, spec.Address
		}
	}),
	mapping.NewKey("headers", "header fields", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.spec.Headers = r.Pairs(n, "headers")
	}),
	mapping.NewKey("query", "query values", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.spec.Query = r.Values(n, "query")
	}),
	mapping.NewKey("form", "form fields", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.spec.Form = r.Values(n, "form")
	}),
	mapping.NewKey("body", "a JSON body", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		r.NotFile(n, "body", "write what is in the file below body:")
		a.spec.Body = r.Tree(n)
	}),
	mapping.NewKey("text", "a body as text", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		r.NotFile(n, "text", "write what is in the file")
		a.spec.TextFormat = mapping.GuessText(r.Text(n))
		a.spec.Text = r.Body(n, a.spec.TextFormat)
	}),
	mapping.NewKey("cookies", "cookies", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.spec.Cookies = r.Values(n, "cookies")
	}),
	mapping.NewKey("login", "another login that goes with the call",
		func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
			a.with = readOtherLogin(r, n)
		}),
	mapping.NewKey("user", "user name, sent as Basic", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.user = n
	}),
	mapping.NewKey("password", "password, sent as Basic", func(r *mapping.Reader, a *callKeys, n *yamlfile.Node) {
		a.password = n
	}),
}

// basicTemplate makes `Basic user:password` of the two settings.
func basicTemplate(r *mapping.Reader, n *yamlfile.Node, a *callKeys) *value.Template {
	if a.user == nil || a.password == nil {
		r.File.Report(n, "", "user: and password: go together")
		return value.Literal("")
	}
	user, password := r.Template(a.user), r.Secret(a.password)
	return value.BasicPair(user, password)
}

// readRequestLine reads METHOD ADDRESS.
func readRequestLine(r *mapping.Reader, n *yamlfile.Node) *request.Spec {
	text := r.Text(n)
	method, address, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok || !request.IsMethod(method) {
		r.File.Report(n, "write it like POST ${base}/gate/ticket",
			"%q is not a request: a method and an address are expected", text)
		return nil
	}
	t, err := value.ParseAddress(strings.TrimSpace(address))
	if err != nil {
		r.Mistake(n, 0, err)
		return nil
	}
	r.Note(n, t.Placeholders())
	return &request.Spec{Method: method, Address: t}
}

var lifeUnits = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "min": time.Minute, "h": time.Hour,
	"d": 24 * time.Hour,
}

// readExpiry reads a duration, a path to an instant, or a path and a unit.
func readExpiry(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) {
	text := strings.TrimSpace(r.Text(n))
	if life, err := rule.Duration(text); err == nil {
		d.ExpiresIn = life
		return
	}
	if at := strings.LastIndexByte(text, ' '); at > 0 {
		unit, ok := lifeUnits[text[at+1:]]
		if !ok {
			r.File.ReportInside(n, at+1, "there are: ms, s, min, h, d", "%q is not a unit of time", text[at+1:])
			return
		}
		d.ExpiresUnit, text = unit, strings.TrimSpace(text[:at])
	}
	d.ExpiresPath = r.PathText(n, text, 0)
}

func readLoginCallLogin(r *mapping.Reader, n *yamlfile.Node) Kind {
	f := &loginCallFile{call: callKeys{spec: &request.Spec{}}}
	mapping.Read(r, "a login call", n, f, loginCallKeys)
	d := &f.login
	d.Request, d.With = finishLoginCall(r, n, &f.call)
	if d.TokenPath == nil && d.Token == nil {
		r.File.Report(n, "write token path: with the path to it, or reply.text",
			"a login call must say where the token is in the response")
	}
	r.Together(n, []mapping.Together{{Key: "token", Without: []string{"token path"}}})
	if d.Send == (Send{}) {
		d.Send = Send{Header: "Authorization", Scheme: "Bearer"}
	}
	return d
}

// loginCallFile is a login call as it is written: its request has its keys beside those of the login.
type loginCallFile struct {
	login LoginCall
	call  callKeys
}

var loginCallKeys = slices.Concat(
	mapping.KeysWithin(askKeys, func(f *loginCallFile) *callKeys { return &f.call }),
	mapping.KeysWithin(loginCallOwnKeys, func(f *loginCallFile) *LoginCall { return &f.login }))

// ofAnswer are the names by which a token is made of the answer.
var ofAnswer = []string{"answer", "reply"}

// readMadeToken reads a token that is made of the answer to a login call.
func readMadeToken(r *mapping.Reader, n *yamlfile.Node) (t *value.Template) {
	r.Knowing(ofAnswer, func(inner *mapping.Reader) { t = inner.Template(n) })
	if !slices.ContainsFunc(t.Placeholders(), func(h *value.Placeholder) bool {
		return h.Space == "" && slices.Contains(ofAnswer, h.Name) && len(h.Tail) > 0
	}) {
		r.File.Report(n, "write ${answer.PATH} for a value of the body, ${reply.headers.NAME} for one beside it; a "+
			"token that is known beforehand is a login of kind key or bearer", "no part of the token comes from the response")
	}
	return t
}

var loginCallOwnKeys = []mapping.Key[LoginCall]{
	ignoreKind[LoginCall](),
	mapping.PathKey("token path", "path to the token, or reply.text",
		func(d *LoginCall) **path.Path { return &d.TokenPath }),
	mapping.NewKey("token",
		"the token, where it is made of several values of the response: ${answer.PATH}, ${reply.PATH}",
		func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) { d.Token = readMadeToken(r, n) }),
	mapping.NewKey("encode", "how the token is written: "+strings.Join(Encodings, ", ")+"; as it is unless said",
		func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) {
			d.Encode = r.Choice(n, "encoding", Encodings...)
		}),
	mapping.NewKey(
		"expires in", "how long it is good: 300 s, or a path with a unit",
		func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) { readExpiry(r, d, n) },
	),
	mapping.NewKey("send", "how it is sent", func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) {
		readSend(r, n, &d.Send)
	}),
	mapping.NewKey("still good", "the call that verifies it; ${token} in it is the token",
		func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) { d.StillGood = readCallOfToken(r, n) }),
	mapping.NewKey("revoke", "the call that ends it; ${token} in it is the token",
		func(r *mapping.Reader, d *LoginCall, n *yamlfile.Node) { d.Revocation = readCallOfToken(r, n) }),
}

// readCallOfToken reads a call that may name the token as ${token}.
func readCallOfToken(r *mapping.Reader, n *yamlfile.Node) (spec *request.Spec) {
	r.Knowing([]string{"token"}, func(inner *mapping.Reader) { spec = readFurtherCall(inner, n) })
	return spec
}

// furtherKeys are those of a call of a login beside its first: no other login goes with it.
var furtherKeys = slices.DeleteFunc(slices.Clone(askKeys),
	func(k mapping.Key[callKeys]) bool { return k.Name == "login" })

// readLoginCall reads a call of a login by its keys: its request line alone, or all of it.
func readLoginCall(r *mapping.Reader, n *yamlfile.Node, what string, keys []mapping.Key[callKeys],
) (spec *request.Spec, with string) {
	if n.Kind != yamlfile.Mapping {
		return readRequestLine(r, n), ""
	}
	a := &callKeys{spec: &request.Spec{}}
	mapping.Read(r, what, n, a, keys)
	return finishLoginCall(r, n, a)
}

// readFurtherCall reads a call of a login beside its first.
func readFurtherCall(r *mapping.Reader, n *yamlfile.Node) *request.Spec {
	spec, _ := readLoginCall(r, n, "a further call of a login", furtherKeys)
	return spec
}

// finishLoginCall checks what was read of a call, and the login that goes with it.
func finishLoginCall(r *mapping.Reader, n *yamlfile.Node, a *callKeys) (spec *request.Spec, with string) {
	r.Together(n, askTogether)
	if a.spec.Address == nil {
		r.File.Report(n, "write request: POST ADDRESS", "the call does not say which request to make")
		a.spec.Address = value.Literal("")
	}
	if a.user != nil || a.password != nil {
		a.spec.Headers = append(a.spec.Headers,
			request.Pair{Name: "Authorization", Value: request.Text(basicTemplate(r, n, a), true)})
	}
	return a.spec, a.with
}

var askTogether = []mapping.Together{
	{Key: "form", Without: []string{"body", "text"}},
	{Key: "body", Without: []string{"form", "text"}},
	{Key: "text", Without: []string{"form", "body"}},
}
