package login

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/value"
)

// personTime is how long somebody has to open a page and agree.
const personTime = 5 * time.Minute

// longestWait bounds what a server gives somebody to type a code in.
const longestWait = 30 * time.Minute

func nobody() *Error {
	return &Error{
		Message: "this login needs a person, and nobody is there to open a page",
		Try:     "run `testbench token LOGIN` on a terminal first; its token is kept, sealed, for later commands",
	}
}

func randomText() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

func hostOf(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Host
	}
	return ""
}

func seconds(n *document.Node, otherwise time.Duration) time.Duration {
	if n != nil {
		if d, ok := n.Decimal(); ok {
			if count, err := d.Float64(); err == nil && count >= 0 && count < 1e6 {
				return time.Duration(count * float64(time.Second))
			}
		}
	}
	return otherwise
}

// byDevice shows a code to type in elsewhere and waits until somebody did
// (RFC 8628).
func (o *OAuth2) byDevice(ctx context.Context, env *Env, s *oauthState) (*Token, error) {
	if env.Prompter == nil {
		return nil, nobody()
	}
	address, err := o.endpoint(env, s, o.DeviceAt, "device", "device_authorization_endpoint")
	if err != nil {
		return nil, err
	}
	re, err := o.askEndpoint(ctx, env, s, address, o.scoped(s))
	if err != nil {
		return nil, err
	}
	code, page := textOf(re.Payload.Get("device_code")), textOf(re.Payload.Get("verification_uri"))
	if re.Record.Answer.Status != 200 || re.Format != document.JSON || code == "" || page == "" {
		return nil, refusal(re, "device endpoint")
	}
	env.Scope.Hide(code)
	prompt := Prompt{
		Login: env.login, Address: page, Code: textOf(re.Payload.Get("user_code")),
		Until: time.Now().Add(min(seconds(re.Payload.Get("expires_in"), personTime), longestWait)),
	}
	if complete := textOf(re.Payload.Get("verification_uri_complete")); complete != "" {
		prompt.Address = complete
	}
	env.Prompter(prompt)
	pause := seconds(re.Payload.Get("interval"), 5*time.Second)
	for time.Now().Before(prompt.Until) {
		if err := wait(ctx, pause); err != nil {
			return nil, err
		}
		token, err := o.ask(ctx, env, s,
			o.targeted(pair("grant_type", "urn:ietf:params:oauth:grant-type:device_code"), pair("device_code", code)))
		var failure *Error
		if err == nil || !errors.As(err, &failure) || failure.Record == nil || failure.Record.Answer == nil {
			return token, err
		}
		// Section 3.5: which errors mean to go on asking.
		switch said, _, _ := document.Read("application/json", failure.Record.Answer.Body); textOf(said.Get("error")) {
		case "authorization_pending":
		case "slow_down":
			pause += 5 * time.Second
		default:
			return nil, err
		}
	}
	return nil, &Error{Asked: true, Message: "nobody typed the code in before it ended", Try: "start again"}
}

func wait(ctx context.Context, pause time.Duration) error {
	timer := time.NewTimer(pause)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return &Error{Message: "interrupted while waiting for somebody to agree", Cause: ctx.Err()}
	case <-timer.C:
		return nil
	}
}

// returned is what the browser brought back.
type returned struct {
	code string
	err  error
}

// byCode sends somebody to the authorization server and takes the code that the
// browser brings back to a loopback port (RFC 6749, 4.1; RFC 8252, 7.3), bound
// to this very request by PKCE (RFC 7636) and a state.
func (o *OAuth2) byCode(ctx context.Context, env *Env, s *oauthState) (*Token, error) {
	if env.Prompter == nil {
		return nil, nobody()
	}
	page, err := o.endpoint(env, s, o.AuthorizeAt, "authorize", "authorization_endpoint")
	if err != nil {
		return nil, err
	}
	listener, redirect, err := listen(env, o.Redirect)
	if err != nil {
		return nil, err
	}
	defer func() { _ = listener.Close() }()
	verifier, state := randomText()+randomText(), randomText()
	env.Scope.Hide(verifier)
	asked, err := o.authorization(env, redirect, verifier, state, s.details)
	if err != nil {
		return nil, err
	}
	signed, err := o.answers(ctx, env, s, asked.Get("client_id"))
	if err != nil {
		return nil, err
	}
	if asked, err = o.signed(env, s, asked, page); err != nil {
		return nil, err
	}
	if asked, err = o.pushed(ctx, env, s, asked); err != nil {
		return nil, err
	}
	address, err := pageWith(page, asked)
	if err != nil {
		return nil, err
	}
	issuer := textOf(s.metadata.Get("issuer"))
	code, err := cameBack(ctx, env, listener, redirect, address, func(came url.Values) (returned, bool) {
		parameters := signed.parameters(came)
		if parameters.Get("state") != state {
			return returned{}, false
		}
		if err := signed.verify(came); err != nil {
			return returned{err: err}, true
		}
		return codeIn(parameters, issuer), true
	})
	if err != nil {
		return nil, err
	}
	env.Scope.Hide(code)
	return o.ask(ctx, env, s,
		o.targeted(pair("grant_type", "authorization_code"), pair("code", code),
			pair("redirect_uri", redirect.String()), pair("code_verifier", verifier)))
}

// cameBack sends somebody to a page and waits for what the browser brings back to the listener, as read finds it; read
// says no to what belongs to another request.
func cameBack(ctx context.Context, env *Env, listener net.Listener, redirect *url.URL, address string,
	read func(came url.Values) (got returned, isOurs bool),
) (string, error) {
	came := make(chan returned, 1)
	server := &http.Server{
		ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 64 << 10, Handler: catcher(redirect, read, came),
	}
	go func() { _ = server.Serve(listener) }()
	defer func() {
		// The page that says that all is well must still reach the browser.
		bounded, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = server.Shutdown(bounded)
	}()
	until := time.Now().Add(personTime)
	env.Prompter(Prompt{Login: env.login, Address: address, Until: until})
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return "", &Error{Message: "interrupted while waiting for somebody to agree", Cause: ctx.Err()}
	case <-timer.C:
		return "", &Error{
			Asked:   true,
			Message: fmt.Sprintf("nobody came back from the authorization page within %v", personTime),
			Try:     "the server must know the redirect address " + redirect.String(),
		}
	case got := <-came:
		return got.code, got.err
	}
}

// listen opens the loopback port that the browser comes back to.
func listen(env *Env, at *value.Template) (net.Listener, *url.URL, error) {
	redirect := &url.URL{Scheme: "http", Host: "127.0.0.1:0", Path: "/back"}
	if at != nil {
		text, err := at.Text(env.Scope, value.Address)
		if err != nil {
			return nil, nil, &Error{Message: "redirect: " + err.Error()}
		}
		if redirect, err = url.Parse(text.Sent); err != nil || redirect.Scheme != "http" || redirect.Host == "" {
			return nil, nil, &Error{
				Message: fmt.Sprintf("redirect: %q is not an http address", text.Sent),
				Try:     "write it like http://127.0.0.1:8765/back",
			}
		}
	}
	host := redirect.Hostname()
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, nil, &Error{
			Message: fmt.Sprintf("redirect: %s is not on this machine's loopback", redirect.Host),
			Try:     "write it like http://127.0.0.1:8765/back",
		}
	}
	port := redirect.Port()
	if port == "" {
		port = "80"
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, nil, &Error{
			Message: fmt.Sprintf(
				"the port that the browser should come back to cannot be opened: %v", err),
			Try: "name another one under redirect:",
		}
	}
	if port == "0" {
		redirect.Host = listener.Addr().String()
	}
	return listener, redirect, nil
}

// authorization are the parameters of what is asked for (RFC 6749, 4.1.1).
func (o *OAuth2) authorization(env *Env, redirect *url.URL, verifier, state, details string) (url.Values, error) {
	filled, err := env.texts("client", o.Client, "scope", o.Scope, "audience", o.Audience)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(verifier))
	asked := url.Values{
		"response_type": {"code"}, "client_id": {filled[0]}, "redirect_uri": {redirect.String()}, "state": {state},
		"code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"},
	}
	for name, text := range map[string]string{"scope": filled[1], "audience": filled[2]} {
		if text != "" {
			asked.Set(name, text)
		}
	}
	for _, resource := range o.Resource {
		text, err := env.text("resource", resource)
		if err != nil {
			return nil, err
		}
		asked.Add("resource", text)
	}
	if o.SignedAnswer {
		asked.Set("response_mode", "jwt")
	}
	if details != "" {
		asked.Set("authorization_details", details)
	}
	return asked, nil
}

// pushed hands the parameters over beforehand where the server wants that, and gives those that are left for the page
// (RFC 9126, 2 and 4); where it does not, they are the same.
func (o *OAuth2) pushed(ctx context.Context, env *Env, s *oauthState, asked url.Values) (url.Values, error) {
	if textOf(s.metadata.Get("require_pushed_authorization_requests")) != "true" {
		return asked, nil
	}
	address, err := o.endpoint(env, s, nil, "pushed", "pushed_authorization_request_endpoint")
	if err != nil {
		return nil, err
	}
	var form []request.Pair
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		for _, text := range asked[name] {
			if name != "client_id" { // it goes with how the client proves itself
				form = append(form, pair(name, text))
			}
		}
	}
	re, err := o.askEndpoint(ctx, env, s, address, form)
	if err != nil {
		return nil, err
	}
	name := textOf(re.Payload.Get("request_uri"))
	if status := re.Record.Answer.Status; status != http.StatusCreated && status != http.StatusOK || name == "" {
		return nil, refusal(re, "endpoint for pushed requests")
	}
	return url.Values{"client_id": asked["client_id"], "request_uri": {name}}, nil
}

// pageWith is a page with parameters beside those that its address has.
func pageWith(page string, parameters url.Values) (string, error) {
	address, err := url.Parse(page)
	if err != nil {
		return "", &Error{Message: fmt.Sprintf("authorize: %q is not an address", page)}
	}
	query := address.Query()
	maps.Copy(query, parameters)
	address.RawQuery = query.Encode()
	return address.String(), nil
}

// codeIn reads what the authorization server sends back (RFC 6749, 4.1.2).
func codeIn(query url.Values, issuer string) returned {
	got := returned{code: query.Get("code")}
	switch code := query.Get("error"); {
	case code != "":
		message := "the authorization server said no: " + code
		if description := query.Get("error_description"); description != "" {
			message += ": " + description
		}
		got.err = &Error{Asked: true, Message: message, Try: errorWords[code]}
	case query.Has("iss") && issuer != "" && query.Get("iss") != issuer:
		// RFC 9207, section 2.4: another server answered in the place of ours.
		got.err = &Error{
			Asked:   true,
			Message: fmt.Sprintf("the answer came from another issuer: %q, not %q", query.Get("iss"), issuer),
		}
	case got.code == "":
		got.err = &Error{Asked: true, Message: "the authorization server sent the browser back without a code"}
	}
	return got
}

// catcher answers the browser that comes back, and nobody else.
func catcher(redirect *url.URL, read func(url.Values) (returned, bool), came chan<- returned) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got, isOurs := read(r.URL.Query())
		if r.Method != http.MethodGet || r.URL.Path != redirect.Path || !isOurs {
			// Somebody else's request, or a forged one: the wait goes on.
			http.Error(w, "this is not the answer that is waited for", http.StatusNotFound)
			return
		}
		said := "Test Bench has what it needs. This page can be closed."
		if got.err != nil {
			said = "There is no token; the terminal says why. This page can be closed."
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Referrer-Policy", "no-referrer")
		_, _ = fmt.Fprintf(w,
			"<!doctype html><html lang=en><meta charset=utf-8><title>Test "+
				"Bench</title><p>%s</p></html>\n", strings.TrimSpace(said))
		select {
		case came <- got:
		default: // it came twice
		}
	})
}
