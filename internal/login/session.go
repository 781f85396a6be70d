package login

import (
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Session is opened by a call, kept by cookies, and closed at the end. Services
// that guard themselves against forged requests hand out a word that must be
// repeated in a header of every call that writes.
type Session struct {
	Open      *request.Spec // nil where asking for Echo opens it
	With      string        // another login that goes with the session's own calls
	Echo      *Echo         // nil for none
	ExpiresIn time.Duration // 0: not known
	Shut      *request.Spec // nil for none
}

// Echo is a header whose value must be asked for and repeated.
type Echo struct {
	Header  string
	Request *request.Spec
	Value   string // what is sent in the header to ask for a value
}

// in is the value that an answer gives to be repeated, empty for none. Some services give it in an answer that refuses
// the call.
func (e *Echo) in(answer *exchange.Answer) string {
	if text := answer.Header.Get(e.Header); !strings.EqualFold(text, "required") {
		return text
	}
	return ""
}

// sessionState holds the cookies, by the rules of RFC 6265.
type sessionState struct {
	jar   *cookiejar.Jar
	mutex sync.Mutex
	home  *url.URL // where it was opened
}

func (s *sessionState) cookies(u *url.URL) []*http.Cookie { return s.jar.Cookies(u) }

// Obtain opens the session and asks for the header to be repeated.
func (s *Session) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	state := &sessionState{jar: jar}
	token := &Token{
		Kind: "session", Obtained: env.now(), Cookies: map[string]string{}, Headers: map[string]string{},
		material: state,
	}
	if s.ExpiresIn > 0 {
		token.Expires = token.Obtained.Add(s.ExpiresIn)
	}
	if s.Open != nil {
		if _, err := s.call(ctx, env, s.Open, token, "opening the session"); err != nil {
			return nil, err
		}
	}
	if s.Echo != nil {
		ask := *s.Echo.Request
		ask.Headers = append(slices.Clone(ask.Headers), pair(s.Echo.Header, s.Echo.Value))
		re, err := s.call(ctx, env, &ask, token, "asking for "+s.Echo.Header)
		if re == nil {
			return nil, err
		}
		text := s.Echo.in(re.Record.Answer)
		if text == "" && err != nil {
			return nil, err
		}
		if text == "" {
			return nil, &Error{
				Message: fmt.Sprintf("asking for %s was answered with %d and no value in that header", s.Echo.Header,
					re.Record.Answer.Status), Record: re.Record,
				Try: "see with `testbench call` which header the service gives, and for which value of the request; " +
					"value: of the login says what is sent",
			}
		}
		token.Headers[s.Echo.Header] = text
	}
	return token, nil
}

// call makes one of the session's own calls. The reply is there beside an error, too, where the service refused it.
func (s *Session) call(ctx context.Context, env *Env, spec *request.Spec, t *Token,
	doing string,
) (*reply.Reply, error) {
	r, err := spec.Build(env.Scope)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	if err := env.with(ctx, s.With, r); err != nil {
		return nil, err
	}
	state := t.material.(*sessionState)
	if state.home == nil {
		state.home = r.URL
	}
	if err := s.Put(r, env, t); err != nil {
		return nil, err
	}
	re, err := env.do(ctx, r)
	if err != nil {
		return nil, err
	}
	state.learn(re.Record.Answer, t)
	hide(env, t)
	if status := re.Record.Answer.Status; status >= 400 {
		failed := &Error{
			Message: fmt.Sprintf("%s was answered with %d: %s", doing, status, answerInWords(re)),
			Record:  re.Record,
		}
		if s.With == "" && (status == http.StatusUnauthorized || status == http.StatusForbidden) {
			failed.Try = "write login: at the session: the login that goes with its own calls"
		}
		return re, failed
	}
	return re, nil
}

// learn takes the cookies of an answer.
func (s *sessionState) learn(answer *exchange.Answer, t *Token) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, set := range answer.SetOnWay {
		kept := exchange.WithoutFalsePrefixes(set.Cookies)
		s.jar.SetCookies(set.From, kept)
		for _, cookie := range kept {
			t.Cookies[cookie.Name] = cookie.Value
		}
	}
}

// Put adds the cookies, and to calls that write the header to be repeated.
func (s *Session) Put(r *exchange.Request, _ *Env, t *Token) error {
	state, ok := t.material.(*sessionState)
	if !ok {
		s.mark(r, t)
		return nil
	}
	cookies := state.cookies(r.URL)
	state.mutex.Lock()
	hasAny, home := len(t.Cookies) > 0, state.home
	state.mutex.Unlock()
	if len(cookies) == 0 && hasAny && t.Spoilt == "" && exchange.Origin(home) != exchange.Origin(r.URL) {
		return &Error{
			Message: fmt.Sprintf("the session was opened at %s, and none of its cookies goes to %s",
				exchange.Origin(home), exchange.Origin(r.URL)),
			Try: "use a login for the service's own address",
		}
	}
	var sent, shown []string
	if before := r.GetHeader("Cookie"); before != "" {
		sent, shown = append(sent, before), append(shown, r.ShownField("Cookie", before))
	}
	for _, cookie := range cookies {
		text := cookie.Value
		switch t.Spoilt {
		case Empty:
			continue
		case Tampered:
			if text != "" {
				text = tamper(text)
			}
		}
		if cookie.Quoted { // they belong to the value (RFC 6265, 4.1.1)
			text = `"` + text + `"`
		}
		sent, shown = append(sent, cookie.Name+"="+text), append(shown, cookie.Name+"="+value.Mask)
	}
	if len(sent) > 0 {
		r.SetHeader("Cookie", strings.Join(sent, "; "))
		r.Show("Cookie", strings.Join(shown, "; "))
	}
	if !writes(r) {
		return nil
	}
	for name, text := range t.Headers {
		if t.Spoilt == Empty {
			continue
		}
		r.SetHeader(name, text)
		r.Show(name, value.Mask)
	}
	return nil
}

func writes(r *exchange.Request) bool {
	return r.Method != "GET" && r.Method != "HEAD" && r.Method != "OPTIONS"
}

// mark shows where cookies and header would go, for a session that is not open.
func (s *Session) mark(r *exchange.Request, t *Token) {
	r.SetHeader("Cookie", t.Text)
	r.Show("Cookie", "(the cookies of the session "+t.User+")")
	if s.Echo != nil && writes(r) {
		r.SetHeader(s.Echo.Header, t.Text)
		r.Show(s.Echo.Header, value.Mask)
	}
}

// Challenged keeps what an answer changes of the cookies.
func (s *Session) Challenged(answer *exchange.Answer, env *Env, t *Token) (*Token, bool, bool, error) {
	if len(answer.SetOnWay) > 0 && t.Spoilt == "" {
		t.material.(*sessionState).learn(answer, t)
		for _, set := range answer.SetOnWay {
			for _, cookie := range set.Cookies {
				env.Scope.Hide(cookie.Value)
			}
		}
	}
	return nil, false, false, nil
}

// refused says whether the session is over, or its header no longer good: another value is asked for, or given.
func (s *Session) refused(answer *exchange.Answer, t *Token) bool {
	if s.Echo == nil || answer.Status != http.StatusForbidden && answer.Status != http.StatusConflict {
		return answer.Status == http.StatusUnauthorized
	}
	said := answer.Header.Get(s.Echo.Header)
	return said != "" && t != nil && said != t.Headers[s.Echo.Header]
}

// RevokesToken says that sessions are closed; they are kept for one command alone.
func (s *Session) RevokesToken() bool { return s.Shut != nil }

// Revoke closes the session.
func (s *Session) Revoke(ctx context.Context, env *Env, t *Token) error {
	_, err := s.call(ctx, env, s.Shut, t, "closing the session")
	return err
}

// spoils says which ways there are: the cookies are spoilt while they are put in.
func (s *Session) spoils(way string) bool { return way == Tampered || way == Empty }

// Placeholders lists the placeholders.
func (s *Session) Placeholders() []*value.Placeholder {
	return placeholdersOf(s.specs())
}

func (s *Session) specs() []*request.Spec {
	var specs []*request.Spec
	for _, spec := range []*request.Spec{s.Open, s.Shut} {
		if spec != nil {
			specs = append(specs, spec)
		}
	}
	if s.Echo != nil && s.Echo.Request != nil {
		specs = append(specs, s.Echo.Request)
	}
	return specs
}

// Addresses are where the login itself sends requests.
func (s *Session) Addresses() []*value.Template { return addressesOf(s.specs()) }

func placeholdersOf(specs []*request.Spec) []*value.Placeholder {
	var all []*value.Placeholder
	for _, spec := range specs {
		all = append(all, spec.Placeholders()...)
	}
	return all
}

func addressesOf(specs []*request.Spec) []*value.Template {
	var all []*value.Template
	for _, spec := range specs {
		all = append(all, spec.Address)
	}
	return all
}

func readSession(r *mapping.Reader, n *yamlfile.Node) Kind {
	s := &Session{}
	mapping.Read(r, "a session login", n, s, sessionKeys)
	r.Together(n, sessionTogether)
	if s.Open == nil && s.Echo == nil {
		r.File.Report(n, "",
			"a session login needs open: (the call that opens it) or repeat: (a header that is asked for)")
	}
	return s
}

var sessionKeys = []mapping.Key[Session]{
	ignoreKind[Session](),
	mapping.NewKey("open", "the call that opens it", func(r *mapping.Reader, s *Session, n *yamlfile.Node) {
		var with string
		if s.Open, with = readLoginCall(r, n, "a login's call", askKeys); with != "" {
			s.With = with
		}
	}),
	mapping.NewKey(
		"with", "another login that goes with the session's own calls",
		func(r *mapping.Reader, s *Session, n *yamlfile.Node) { s.With = readOtherLogin(r, n) },
	),
	mapping.NewKey(
		"repeat", "a header that is asked for and repeated when writing",
		func(r *mapping.Reader, s *Session, n *yamlfile.Node) {
			s.Echo = &Echo{}
			mapping.Read(r, "repeat", n, s.Echo, echoKeys)
			if s.Echo.Header == "" || s.Echo.Request == nil {
				r.File.Report(n, "write header: NAME and request: GET ADDRESS",
					"repeat must say which header, and where its value is asked for")
				s.Echo = nil
			}
		},
	),
	mapping.DurationKey("expires in", "how long it is good", func(s *Session) *time.Duration { return &s.ExpiresIn }),
	mapping.NewKey("close", "the call that closes it", func(r *mapping.Reader, s *Session, n *yamlfile.Node) {
		s.Shut = readFurtherCall(r, n)
	}),
}

var echoKeys = []mapping.Key[Echo]{
	mapping.NewKey("header", "the header's name", func(r *mapping.Reader, e *Echo, n *yamlfile.Node) {
		e.Header = readHeaderName(r, n)
	}),
	mapping.NewKey("request", "the call whose response gives its value",
		func(r *mapping.Reader, e *Echo, n *yamlfile.Node) {
			e.Request = readFurtherCall(r, n)
		}),
	mapping.TextKey("value", "what is sent in the header to get it", func(e *Echo) *string { return &e.Value }),
}

var sessionTogether = []mapping.Together{
	{Key: "close", With: []string{"open"}},
	{Key: "expires in", With: []string{"open", "repeat"}},
}
