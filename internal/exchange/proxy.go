package exchange

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ProxyLogin gets in at a proxy.
type ProxyLogin interface {
	// Talk begins the talk with a proxy for one request, or for one tunnel.
	Talk(ctx context.Context, proxy *url.URL) (ProxyTalk, error)
}

// ProxyTalk says what the proxy is told, message by message.
type ProxyTalk interface {
	// Field is the value of Proxy-Authorization for a request: its method and target as the request line has them
	// (RFC 9112, section 3.2). It is empty where nothing is to be said.
	Field(method, target string, body []byte) (string, error)
	// Refused takes an answer of 407, and says whether there is something else to say.
	Refused(header http.Header) (again bool, err error)
	// IsOfConnection says whether all of it has to be said over one connection.
	IsOfConnection() bool
}

// mostTalk bounds how often a proxy is told something for one request.
const mostTalk = 4

const proxyField = "Proxy-Authorization"

func (c *Client) proxy() func(*http.Request) (*url.URL, error) {
	switch {
	case c.options.Proxy == nil:
		return http.ProxyFromEnvironment
	case c.options.ProxyLogin == nil:
		return http.ProxyURL(c.options.Proxy)
	}
	return func(r *http.Request) (*url.URL, error) {
		if r.URL.Scheme == "https" {
			return nil, nil // through a tunnel
		}
		return c.options.Proxy, nil
	}
}

// refusedByProxy tells a proxy that does not let a connection through (RFC 9110, 9.3.6).
func refusedByProxy(_ context.Context, proxy *url.URL, asked *http.Request, answer *http.Response) error {
	if answer.StatusCode >= 200 && answer.StatusCode <= 299 {
		return nil
	}
	message := fmt.Sprintf("the proxy %s did not let the connection to %s through: %s", proxy.Host, asked.Host,
		answer.Status)
	if scheme := answer.Header.Get("Proxy-Authenticate"); answer.StatusCode == http.StatusProxyAuthRequired &&
		scheme != "" {
		if word, rest, _ := strings.Cut(scheme, " "); !strings.ContainsAny(rest, `", `) {
			scheme = word // what is behind it is a message of a talk, another one each time
		}
		message += " (it asks for a login: " + scheme + ")"
	}
	return &Failure{Kind: NoProxy, Message: message}
}

// throughProxy sends a request that goes to a proxy as it is, and says to the proxy what it asks for. What is said
// over one connection gets a connection of its own.
func (c *Client) throughProxy(t *http.Transport, r *http.Request, body []byte) (*http.Response, error) {
	if c.options.ProxyLogin == nil || r.URL.Scheme == "https" {
		return t.RoundTrip(r)
	}
	talk, err := c.options.ProxyLogin.Talk(r.Context(), c.options.Proxy)
	if err != nil {
		return nil, err
	}
	if talk.IsOfConnection() {
		t = t.Clone()
		t.MaxConnsPerHost = 1
		context.AfterFunc(r.Context(), t.CloseIdleConnections) // it ends with the exchange
	}
	for said := 0; ; said++ {
		field, err := talk.Field(r.Method, r.URL.String(), body)
		if err != nil {
			return nil, err
		}
		one := r.Clone(r.Context())
		if one.GetBody != nil {
			if one.Body, err = one.GetBody(); err != nil {
				return nil, err
			}
		}
		if field != "" {
			one.Header.Set(proxyField, field)
		}
		answer, err := t.RoundTrip(one)
		if err != nil || answer.StatusCode != http.StatusProxyAuthRequired || said == mostTalk {
			return answer, err
		}
		again, err := talk.Refused(answer.Header)
		if err != nil || !again {
			return answer, err
		}
		_, _ = io.CopyN(io.Discard, answer.Body, MaxHeader) // the connection goes on
		_ = answer.Body.Close()
	}
}

// dialTunnel connects to an address through the proxy (RFC 9110, section 9.3.6); to the proxy itself it connects
// directly.
func (c *Client) dialTunnel(ctx context.Context, network, address string) (net.Conn, error) {
	proxy := c.options.Proxy
	at := proxy.Host
	if proxy.Port() == "" {
		at = net.JoinHostPort(proxy.Hostname(), map[string]string{"http": "80", "https": "443"}[proxy.Scheme])
	}
	if address == at {
		return (&net.Dialer{}).DialContext(ctx, network, at)
	}
	ctx, cancel := context.WithTimeout(ctx, c.options.Timeout)
	defer cancel()
	talk, err := c.options.ProxyLogin.Talk(ctx, proxy)
	if err != nil {
		return nil, err
	}
	tunnel := &tunnel{client: c, at: at, target: address, talk: talk}
	for said := 0; ; said++ {
		again, err := tunnel.ask(ctx, network, said < mostTalk)
		if err != nil {
			tunnel.close()
			return nil, err
		}
		if !again {
			return tunnel.conn, tunnel.conn.SetDeadline(time.Time{})
		}
	}
}

// tunnel is a connection through a proxy while it is asked for.
type tunnel struct {
	client     *Client
	at, target string
	talk       ProxyTalk
	conn       net.Conn // nil where the proxy closed it
	in         *bufio.Reader
}

func (t *tunnel) close() {
	if t.conn != nil {
		_ = t.conn.Close()
		t.conn = nil
	}
}

// open connects to the proxy, unless the connection is there still.
func (t *tunnel) open(ctx context.Context, network string) error {
	if t.conn != nil {
		return nil
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, network, t.at)
	if err != nil {
		return &net.OpError{Op: "proxyconnect", Net: network, Addr: nil, Err: err}
	}
	if deadline, ok := ctx.Deadline(); ok {
		if err := conn.SetDeadline(deadline); err != nil {
			return errors.Join(err, conn.Close())
		}
	}
	if proxy := t.client.options.Proxy; proxy.Scheme == "https" {
		settings := t.client.tls.Clone()
		settings.ServerName, settings.Certificates = proxy.Hostname(), nil
		conn = tls.Client(conn, settings)
	}
	t.conn, t.in = conn, bufio.NewReader(conn)
	return nil
}

// ask asks the proxy for the tunnel once; again says that it has to be asked once more, with what it wants to hear.
func (t *tunnel) ask(ctx context.Context, network string, mayTalk bool) (again bool, err error) {
	if err := t.open(ctx, network); err != nil {
		return false, err
	}
	r := &http.Request{
		Method: http.MethodConnect, URL: &url.URL{Opaque: t.target}, Host: t.target,
		Header: http.Header{"User-Agent": {"testbench"}},
	}
	field, err := t.talk.Field(r.Method, t.target, nil)
	if err != nil {
		return false, err
	}
	if field != "" {
		r.Header.Set(proxyField, field)
	}
	defer context.AfterFunc(ctx, func() { _ = t.conn.SetDeadline(time.Unix(1, 0)) })()
	if err := r.Write(t.conn); err != nil {
		return false, err
	}
	answer, err := http.ReadResponse(t.in, r)
	if err != nil {
		return false, &Failure{
			Kind:    NoProxy,
			Message: fmt.Sprintf("the proxy %s did not answer as a proxy does: %v", t.at, err),
		}
	}
	if answer.StatusCode != http.StatusProxyAuthRequired || !mayTalk {
		return false, refusedByProxy(ctx, t.client.options.Proxy, r, answer)
	}
	if again, err = t.talk.Refused(answer.Header); err != nil || !again {
		return false, errors.Join(err, refusedByProxy(ctx, t.client.options.Proxy, r, answer))
	}
	read, err := io.CopyN(io.Discard, answer.Body, MaxHeader)
	if answer.Close || !errors.Is(err, io.EOF) || read == MaxHeader {
		t.close() // it is asked over a new one
	}
	return true, nil
}
