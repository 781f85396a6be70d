// Package login puts credentials into requests: it gets tokens, keeps each for
// a run, renews it in time, signs what is sent, answers what a service asks
// back, and gives tokens back at the end. One file a kind. It knows nothing of
// sheets.
package login

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/secret"
	"testbench/internal/value"
)

// Kind is one way of getting in.
type Kind interface {
	// Obtain gets what is put into requests. before is the token that is to be
	// renewed, or nil. A failure is an *Error.
	Obtain(ctx context.Context, env *Env, before *Token) (*Token, error)
	// Put adds the token to a request, or signs the request with it.
	Put(r *exchange.Request, env *Env, t *Token) error
	// Placeholders lists the placeholders of the definition.
	Placeholders() []*value.Placeholder
}

// Verifier is a Kind that can ask the issuer whether a token is still valid.
type Verifier interface {
	Verify(ctx context.Context, env *Env, t *Token) (*Introspection, error)
}

// Revoker is a Kind that gives its token back at the end.
type Revoker interface {
	// RevokesToken says whether the definition asks for that.
	RevokesToken() bool
	Revoke(ctx context.Context, env *Env, t *Token) error
}

// Challenged is a Kind that can answer what a service asks back. It returns
// the token to go on with, or nil where the answer asks nothing of it; again
// says that the request should be sent once more. keep says that the token is
// good for later requests too.
type Challenged interface {
	Challenged(answer *exchange.Answer, env *Env, t *Token) (next *Token, again, keep bool, err error)
}

// Receiver is a Kind that also protects answers: it checks their signature,
// and undoes their encryption in place.
type Receiver interface {
	Receive(r *exchange.Request, answer *exchange.Answer, env *Env, t *Token) []Finding
}

// Finding is one thing found out about the protection of an answer.
type Finding struct {
	Subject  string // signature, encryption, time stamp
	Passed   bool
	Expected string
	Got      string
}

// Stage orders the logins of one request: what signs comes after what it signs.
type Stage int

// The stages, in the order in which they are put in.
const (
	Beside   Stage = iota // a header, a cookie, the connection
	InHeader              // a token in the Security header of an envelope
	Signing               // a signature in the envelope, and its encryption
	Sealing               // a signature over the request as a whole
)

// readsBench is a Kind whose token may be read from the bench alone: its requests
// can be shown as they would be sent, without asking anybody.
type readsBench interface{ readsBench() bool }

// Placed is a Kind that is not put in Beside.
type Placed interface{ Place() Stage }

// Env is what a login works with.
type Env struct {
	Scope  value.Scope
	Sender exchange.Sender
	// Observe is told of each exchange that a login makes, with the context of whoever
	// needed it; it may be nil.
	Observe func(ctx context.Context, record *exchange.Record)
	// Now is the clock; nil means time.Now.
	Now func() time.Time
	// ReadFile reads a file of the bench; nil means there are none.
	ReadFile func(name string) ([]byte, error)
	// Prompter shows somebody what to do, for logins that need a person; nil means
	// that nobody is there.
	Prompter func(Prompt)
	// Kept keeps tokens between commands; it may be nil.
	Kept KeptTokens
	// Substitutes names, for a login that another one needs, the one that is used in its
	// place.
	Substitutes map[string]string

	login  string // the name of the login at work
	keeper *TokenManager
}

// Prompt asks a person to let the program in.
type Prompt struct {
	Login   string
	Address string // to be opened in a browser
	Code    string // to be typed in there; empty where none is needed
	Until   time.Time
}

// KeptTokens keeps tokens between commands, sealed.
type KeptTokens interface {
	Load(login string) *Token
	Store(login string, t *Token)
	Forget(login string)
}

func (e *Env) now() time.Time {
	if e.Now != nil {
		return e.Now()
	}
	return time.Now()
}

// other gives the token of a login that this one needs.
func (e *Env) other(ctx context.Context, name string) (*Token, error) {
	return e.keeper.Token(ctx, e.instead(name))
}

// with puts the credentials of a login that this one needs into a request.
func (e *Env) with(ctx context.Context, name string, r *exchange.Request) error {
	if name == "" {
		return nil
	}
	_, err := e.keeper.use(ctx, e.instead(name), r, "", nil)
	return err
}

func (e *Env) instead(name string) string {
	if other, ok := e.Substitutes[name]; ok {
		return other
	}
	return name
}

// credentials fills in a user with a password, for kinds that need no more.
func (e *Env) credentials(kind string, user, password *value.Template) (*Token, error) {
	filled, err := e.texts("user", user, "password", password)
	if err != nil {
		return nil, err
	}
	return &Token{Text: filled[1], User: filled[0], Kind: kind, Obtained: e.now(), Fixed: true}, nil
}

// serverNow is the time by the clock of the server that an address leads to, as
// far as its answers told it.
func (e *Env) serverNow(host string) time.Time {
	if e.keeper == nil {
		return e.now()
	}
	return e.now().Add(e.keeper.clocks.offset(host))
}

// send fills a login call in, sends it and reads the answer.
func (e *Env) send(ctx context.Context, spec *request.Spec) (*reply.Reply, error) {
	r, err := spec.Build(e.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	return e.do(ctx, r)
}

// do sends a request of the login's own, and masks what it gives.
func (e *Env) do(ctx context.Context, r *exchange.Request) (*reply.Reply, error) {
	re, err := e.ask(ctx, r)
	if err == nil {
		e.hideAnswered(re)
	}
	return re, err
}

// ask sends a request of the login's own. Its redirects lead to no other origin.
func (e *Env) ask(ctx context.Context, r *exchange.Request) (*reply.Reply, error) {
	r.Login = true
	record := e.Sender.Do(ctx, r)
	if e.keeper != nil {
		e.keeper.clocks.note(record)
	}
	if e.Observe != nil {
		e.Observe(ctx, record)
	}
	if record.Failure != nil {
		return nil, &Error{Message: record.Failure.Message, Record: record, Cause: record.Failure}
	}
	// What is taken out of it is asked for by name: JSON is that also where it is called text, or a page.
	if a := record.Answer; a != nil && document.Guess(a.Body) == document.JSON {
		a.ReadAs = document.ReadingType("json")
	}
	return reply.Read(record), nil
}

// hideAnswered masks what a login call gave: the cookies it set, and each token of its answer,
// at whatever depth.
func (e *Env) hideAnswered(re *reply.Reply) {
	for _, set := range re.Record.Answer.SetOnWay {
		for _, cookie := range set.Cookies {
			e.Scope.Hide(cookie.Value)
		}
	}
	secret.Leaves(re.Body, func(name string, leaf *document.Node) {
		if text := leaf.Value().Text; secret.IsToken(name, text) {
			e.Scope.Hide(text)
		}
	})
}

// text fills in one setting of a login.
func (e *Env) text(what string, t *value.Template) (string, error) {
	if t == nil {
		return "", nil
	}
	text, err := t.Text(e.Scope, value.Raw)
	if err != nil {
		return "", &Error{Message: what + ": " + err.Error()}
	}
	return text.Sent, nil
}

// texts fills in several settings: names and templates in turn, the results in
// the order given.
func (e *Env) texts(settings ...any) ([]string, error) {
	var filled []string
	for i := 0; i < len(settings); i += 2 {
		text, err := e.text(settings[i].(string), settings[i+1].(*value.Template))
		if err != nil {
			return nil, err
		}
		filled = append(filled, text)
	}
	return filled, nil
}

// Material is a key with its certificate, as a definition names them: files of
// the bench, or PEM text, as a sealed value holds it.
type Material struct {
	Certificate, Key, Password *value.Template
}

// IsSet says whether anything is named.
func (m Material) IsSet() bool { return m.Certificate != nil || m.Key != nil }

// piece reads one setting: PEM, JSON and XML text as it is, anything else
// as the name of a file.
func (e *Env) piece(what string, t *value.Template) ([]byte, error) {
	text, err := e.text(what, t)
	if err != nil || text == "" {
		return nil, err
	}
	if strings.Contains(text, "-----BEGIN ") || strings.HasPrefix(strings.TrimSpace(text), "{") ||
		strings.HasPrefix(strings.TrimSpace(text), "<") {
		return []byte(text), nil
	}
	if e.ReadFile == nil {
		return nil, &Error{Message: fmt.Sprintf("%s: there is no bench to take the file %s from", what, text)}
	}
	data, err := e.ReadFile(text)
	if err != nil {
		return nil, &Error{
			Message: what + ": " + err.Error(),
			Try:     "name a file of the bench folder, or ${sealed.NAME} that holds the text of a PEM file",
		}
	}
	return data, nil
}

// read reads the key and certificate that a definition names.
func (m Material) read(e *Env) (*keys.Pair, error) {
	certificate, err := e.piece("certificate", m.Certificate)
	if err != nil {
		return nil, err
	}
	key, err := e.piece("key", m.Key)
	if err != nil {
		return nil, err
	}
	password, err := e.text("password", m.Password)
	if err != nil {
		return nil, err
	}
	if len(certificate) == 0 {
		certificate, key = key, nil
	}
	pair, err := keys.Read(certificate, key, password)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	return pair, nil
}

// identity reads a pair that must be complete.
func (m Material) identity(e *Env) (*keys.Pair, error) {
	pair, err := m.read(e)
	if err == nil {
		if err = pair.Complete(); err != nil {
			err = &Error{Message: err.Error()}
		}
	}
	return pair, err
}

func (m Material) placeholders() []*value.Placeholder {
	return placeholders(m.Certificate, m.Key, m.Password)
}

// Error says why no token could be had.
type Error struct {
	Login   string
	Message string
	Try     string
	Record  *exchange.Record // the exchange that failed; nil when none was made
	Asked   bool             // somebody was asked, though no exchange tells of it
	Cause   error
}

func (e *Error) Error() string {
	if e.Login != "" {
		return "login " + e.Login + ": " + e.Message
	}
	return e.Message
}

func (e *Error) Unwrap() error { return e.Cause }

// of names the login in an error that does not.
func of(login string, err error) error {
	var failure *Error
	if errors.As(err, &failure) && failure.Login == "" {
		failure.Login = login
	}
	return err
}

// Introspection is what is known of a token's goodness.
type Introspection struct {
	Good    bool
	Details *document.Node // the issuer's answer; may be nil
	Said    string         // in words
	Also    []string       // further findings, in words
}
