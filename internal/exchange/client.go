package exchange

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"testbench/internal/httpurl"
	"testbench/internal/keys"
)

// Limits and defaults.
const (
	DefaultTimeout = 30 * time.Second
	DefaultMaxBody = 64 << 20
	MaxRedirects   = 10
	MaxHeader      = 1 << 20
)

// Options say how a Client works. The zero value trusts the system's
// authorities and allows every host.
type Options struct {
	Timeout     time.Duration // for the whole exchange; 0 means DefaultTimeout
	MaxBody     int64         // bytes of a decoded body; 0 means DefaultMaxBody
	CA          string        // file of further authorities, PEM
	Certificate string        // file of the client certificate, PEM or PKCS#12
	Key         string        // file of its key, PEM; empty means it is in Certificate
	Password    string        // opens a locked key
	Insecure    bool          // server certificates are not checked
	// Proxy is asked in place of the one of the environment; its user and password, where it
	// has them, are shown to it alone.
	Proxy *url.URL
	// ProxyLogin gets in at Proxy; nil where it asks for nobody.
	ProxyLogin ProxyLogin
	// Allowed says whether requests may go to a host. nil allows all.
	Allowed func(host string) bool
	Log     *slog.Logger
	// Jobs is how many exchanges go on side by side: so many connections to a host stay open between them.
	Jobs int
}

// usualIdle is how many connections to a host stay open at least.
const usualIdle = 64

// Sender carries out exchanges: a Client, or what is in its place. It is safe for use by
// several goroutines.
type Sender interface {
	// Do carries out an exchange. It always gives a Record, with what went wrong.
	Do(ctx context.Context, r *Request) *Record
	// Single gives a sender that sends everything to one host over one connection, for
	// logins that authenticate the connection.
	Single() Sender
	// Close deletes idle connections.
	Close()
}

// Client sends requests over HTTP. It is safe for use by several goroutines.
type Client struct {
	options Options
	single  bool
	mutex   sync.Mutex
	pools   map[pool]*http.Transport
	tls     *tls.Config
}

// pool names connections that requests may share: those of one HTTP version, one client
// certificate, and the same bounds of where they lead.
type pool struct {
	version     string
	certificate *tls.Certificate
	outside     bool
	foreign     bool
}

// NewClient reads the certificates that the options name.
func NewClient(options Options) (*Client, error) {
	if options.Timeout == 0 {
		options.Timeout = DefaultTimeout
	}
	if options.MaxBody == 0 {
		options.MaxBody = DefaultMaxBody
	}
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	c := &Client{options: options, pools: map[pool]*http.Transport{}, tls: &tls.Config{MinVersion: tls.VersionTLS12}}
	if options.CA != "" {
		authorities, err := x509.SystemCertPool()
		if err != nil {
			authorities = x509.NewCertPool()
		}
		data, err := os.ReadFile(options.CA)
		if err != nil {
			return nil, fmt.Errorf("the file of authorities: %w", err)
		}
		if !authorities.AppendCertsFromPEM(data) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", options.CA)
		}
		c.tls.RootCAs = authorities
	}
	if options.Certificate != "" {
		pair, err := keys.ReadFiles(options.Certificate, options.Key, options.Password)
		if err != nil {
			return nil, err
		}
		c.tls.Certificates = []tls.Certificate{pair.TLS()}
	}
	c.tls.InsecureSkipVerify = options.Insecure
	return c, nil
}

// Single returns a client with the same options that sends everything to one
// host over one connection, for logins that authenticate the connection.
func (c *Client) Single() Sender {
	return &Client{options: c.options, single: true, pools: map[pool]*http.Transport{}, tls: c.tls}
}

// transport returns the connections that fit a request.
func (c *Client) transport(request *Request) *http.Transport {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	which := pool{request.HTTP, request.Certificate, request.Outside, request.Foreign}
	if c.single {
		which.version = "1.1"
	}
	if t, ok := c.pools[which]; ok {
		return t
	}
	protocols := new(http.Protocols)
	switch which.version {
	case "1.1":
		protocols.SetHTTP1(true)
	case "2":
		protocols.SetHTTP2(true)
		protocols.SetUnencryptedHTTP2(true)
	default:
		protocols.SetHTTP1(true)
		protocols.SetHTTP2(true)
	}
	t := &http.Transport{
		Proxy:                  c.proxy(),
		TLSClientConfig:        c.tls.Clone(),
		Protocols:              protocols,
		DisableCompression:     true, // undone here, so that its size is bounded and seen
		MaxIdleConnsPerHost:    max(c.options.Jobs, usualIdle),
		IdleConnTimeout:        30 * time.Second,
		MaxResponseHeaderBytes: MaxHeader,
		OnProxyConnectResponse: refusedByProxy,
	}
	if c.options.ProxyLogin != nil {
		t.DialContext = c.dialTunnel
	}
	if which.outside {
		t.DialContext = (&net.Dialer{ControlContext: onlyOutside}).DialContext
		t.Proxy = func(r *http.Request) (*url.URL, error) {
			through, err := c.options.Proxy, error(nil)
			if through == nil {
				through, err = http.ProxyFromEnvironment(r)
			}
			if err == nil && through != nil {
				err = errors.New("what lies outside only is not asked through a proxy: where that goes is not seen")
			}
			return nil, err
		}
	}
	if which.foreign {
		t.TLSClientConfig.Certificates = nil
	}
	if which.certificate != nil {
		t.TLSClientConfig.Certificates = []tls.Certificate{*which.certificate}
	}
	if c.single {
		t.MaxConnsPerHost = 1
	}
	c.pools[which] = t
	return t
}

// onlyOutside keeps a connection from a private network, once it is known where a name
// leads.
func onlyOutside(_ context.Context, _, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err == nil && !IsPrivate(at.Addr()) {
		return nil
	}
	return &Failure{
		Kind:    NotAllowed,
		Message: address + " is an address of a private network, which what came from outside is not to lead to",
	}
}

// shared is what carriers share among their customers (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// IsPrivate says whether an address is one of a private network, of this machine, or of
// no machine at all (RFC 1918, 4193, 6598, 6890).
func IsPrivate(a netip.Addr) bool {
	a = a.Unmap()
	return !a.IsValid() || a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsUnspecified() ||
		a.IsMulticast() || a.IsInterfaceLocalMulticast() || shared.Contains(a) ||
		a.Is4() && (a.As4()[0] == 0 || a.As4()[0] >= 240)
}

// Close deletes idle connections.
func (c *Client) Close() {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, t := range c.pools {
		t.CloseIdleConnections()
	}
}

func (c *Client) timeout(r *Request) time.Duration { return cmp.Or(r.Timeout, c.options.Timeout) }

// Do carries out the exchange. It always returns a Record; what went wrong
// is in its Failure.
func (c *Client) Do(ctx context.Context, request *Request) *Record {
	for _, q := range request.Quotas {
		q.wait(ctx)
	}
	record := &Record{Request: request, Started: time.Now(), Notes: append([]string(nil), request.Notes...)}
	defer func() {
		for _, q := range request.Quotas {
			q.heed(record.Answer)
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, c.timeout(request))
	defer cancel()
	err := c.follow(ctx, record)
	record.Phases.Total = time.Since(record.Started)
	if err != nil {
		record.Failure = c.explain(ctx, record, err)
	}
	if !c.options.Log.Enabled(ctx, slog.LevelInfo) {
		return record
	}
	attributes := []any{"method", request.Method, "address", record.Request.Shown(), "time", record.Phases.Total}
	if record.Answer != nil {
		attributes = append(attributes, "status", record.Answer.Status, "bytes", len(record.Answer.Body))
	}
	if record.Failure != nil {
		attributes = append(attributes, "failure", record.Failure.Message)
	}
	c.options.Log.Info("exchange", attributes...)
	return record
}

// Shown returns the address as it may be shown.
func (r *Request) Shown() string {
	if r.ShownURL != "" {
		return r.ShownURL
	}
	return r.URL.String()
}

// follow sends the request and follows redirects (RFC 9110, 15.4). Cookies set
// on the way are carried along within the one exchange.
func (c *Client) follow(ctx context.Context, record *Record) error {
	current := record.Request
	if current.URL.User != nil {
		return &Failure{Kind: NotAllowed, Message: httpurl.ErrUser.Error()}
	}
	cookies := record.Request.Cookies
	if cookies == nil {
		cookies = &Cookies{}
	}
	for {
		if c.options.Allowed != nil && !c.options.Allowed(current.URL.Hostname()) {
			return &Failure{
				Kind: NotAllowed,
				Message: fmt.Sprintf("requests to %s are not allowed: neither the bench nor the command line names "+
					"that host", current.URL.Hostname()),
			}
		}
		if err := c.once(ctx, record, current, cookies); err != nil {
			return err
		}
		location := record.Answer.Header.Get("Location")
		status := record.Answer.Status
		isRedirect := status == 301 || status == 302 || status == 303 || status == 307 || status == 308
		if !isRedirect || location == "" || record.Request.StayOnRedirect {
			return nil
		}
		target, err := current.URL.Parse(httpurl.Escape(location))
		if err != nil || target.Scheme != "http" && target.Scheme != "https" {
			record.note("the redirect to %q was not followed: it is not an address", location)
			return nil
		}
		if target.User != nil {
			record.note("the redirect holds a user, who is left out")
			target.User = nil
		}
		next, why := c.redirected(current, target, status)
		if next == nil {
			record.note("the redirect to %s was not followed: %s", target.Redacted(), why)
			return nil
		}
		if Origin(next.URL) != Origin(current.URL) {
			record.note("the redirect led to another origin, %s: no credentials were sent there", Origin(next.URL))
		}
		if len(record.Hops) == MaxRedirects {
			return &Failure{
				Kind:    Redirects,
				Message: fmt.Sprintf("redirected more than %d times, last to %s", MaxRedirects, target.Redacted()),
			}
		}
		record.Hops = append(record.Hops, Hop{Status: status, From: current.Shown(), To: target.String()})
		current = next
	}
}

func (r *Record) note(format string, args ...any) {
	r.Notes = append(r.Notes, fmt.Sprintf(format, args...))
}

// harmless are the header fields that may go along to another origin; anything
// else may hold credentials under a name of its own.
var harmless = map[string]bool{
	"accept": true, "accept-encoding": true, "accept-language": true, "content-type": true,
	"user-agent": true,
}

// redirected gives the request to send to the target, or says why none may be.
func (c *Client) redirected(from *Request, target *url.URL, status int) (next *Request, why string) {
	if c.options.Allowed != nil && !c.options.Allowed(target.Hostname()) {
		return nil, "neither the bench nor the command line names that host"
	}
	next = from.Clone()
	next.URL = target
	next.ShownURL = ""
	if status == 303 && from.Method != "HEAD" || (status == 301 || status == 302) && from.Method == "POST" {
		next.Method, next.Body, next.ShownBody = "GET", nil, ""
		next.DeleteHeader("Content-Type")
	}
	if Origin(target) == Origin(from.URL) {
		return next, ""
	}
	if from.Login {
		return nil, "a login does not go to another origin"
	}
	if len(next.Body) > 0 {
		return nil, "its body would go to another origin"
	}
	next.Certificate, next.Foreign = nil, true
	for name := range next.Header {
		if !harmless[strings.ToLower(name)] {
			delete(next.Header, name)
		}
	}
	return next, ""
}

// once sends one request and reads its answer.
func (c *Client) once(ctx context.Context, record *Record, request *Request, kept *Cookies) error {
	watch := &stopwatch{}
	// The address is put in as it is: written as text, it would be parsed once more for each call.
	sent, err := http.NewRequestWithContext(httptrace.WithClientTrace(ctx, watch.trace()), request.Method, "",
		bytes.NewReader(request.Body))
	if err != nil {
		return err
	}
	sent.URL, sent.Host = request.URL, strings.TrimSuffix(request.URL.Host, ":")
	if len(request.Body) == 0 {
		sent.Body = http.NoBody
		sent.GetBody = func() (io.ReadCloser, error) { return http.NoBody, nil }
		// A writing method without a body says so, for some servers wait for it.
		if request.Method == "POST" || request.Method == "PUT" || request.Method == "PATCH" {
			sent.Body, sent.ContentLength = http.NoBody, 0
		}
	}
	for name, values := range request.Header {
		if strings.EqualFold(name, "Host") {
			sent.Host = values[0]
			continue
		}
		sent.Header[name] = values
	}
	setDefault(sent.Header, "User-Agent", "testbench")
	setDefault(sent.Header, "Accept-Encoding", "gzip, deflate, br, zstd")
	if names := kept.put(sent); len(names) > 0 && record.Request.Cookies != nil {
		record.note("cookies of the row went with it: %s", strings.Join(names, ", "))
	}
	received, err := c.throughProxy(c.transport(request), sent, request.Body)
	phases, reused, times := watch.read()
	record.Phases, record.Reused, record.Remote = phases, reused, watch.remote
	if times > 1 {
		// net/http does that for methods that may be repeated, on connections that
		// were open already (RFC 9110, 9.2.2).
		record.note("the connection was closed while the request was under way: it went out %d times", times)
	}
	if err != nil {
		return err
	}
	// Whatever the connection has become, it is deleted when the time is over.
	defer context.AfterFunc(ctx, func() { _ = received.Body.Close() })()
	defer func() { _ = received.Body.Close() }()
	cookies := received.Cookies()
	if err := kept.take(request.URL, cookies); err != nil {
		return err
	}
	answer := &Answer{
		Status: received.StatusCode, Proto: received.Proto, Header: received.Header, Cookies: cookies,
		Reason: strings.TrimSpace(strings.TrimPrefix(received.Status, strconv.Itoa(received.StatusCode))),
	}
	if record.Answer != nil {
		answer.SetOnWay = record.Answer.SetOnWay
	}
	if len(answer.Cookies) > 0 {
		answer.SetOnWay = append(answer.SetOnWay, SetCookies{request.URL, answer.Cookies})
	}
	record.Answer = answer
	record.TLS = describeTLS(received.TLS, c.options.Insecure)
	if received.StatusCode == http.StatusSwitchingProtocols {
		// What follows is of another protocol (RFC 9110, 15.2.2), and nobody asked for one.
		record.note("the service goes on in another protocol (%s), though nobody asked for it: nothing of that was "+
			"read", received.Header.Get("Upgrade"))
		return nil
	}
	start := time.Now()
	err = c.readBody(ctx, record, received)
	record.Phases.Receiving = time.Since(start)
	return err
}

func setDefault(header http.Header, name, text string) {
	for key := range header {
		if strings.EqualFold(key, name) {
			return
		}
	}
	header[name] = []string{text}
}

func describeTLS(state *tls.ConnectionState, unchecked bool) *TLS {
	if state == nil {
		return nil
	}
	t := &TLS{Version: tls.VersionName(state.Version), Unchecked: unchecked}
	if len(state.PeerCertificates) > 0 {
		leaf := state.PeerCertificates[0]
		t.Subject, t.Issuer, t.Expires = leaf.Subject.String(), leaf.Issuer.String(), leaf.NotAfter
	}
	return t
}
