package exchange_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/exchange"
)

func request(t *testing.T, method, address string) *exchange.Request {
	t.Helper()
	u, err := url.Parse(address)
	require.NoError(t, err)
	return &exchange.Request{Method: method, URL: u}
}

func client(t *testing.T, options exchange.Options) *exchange.Client {
	t.Helper()
	c, err := exchange.NewClient(options)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// raw is a server that writes bytes as they are, whatever it is sent.
func raw(t *testing.T, text string) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				buffer := make([]byte, 4096)
				_, _ = connection.Read(buffer)
				_, _ = io.WriteString(connection, text)
				_ = connection.Close()
			}()
		}
	}()
	return "http://" + listener.Addr().String()
}

func TestRecord(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		http.SetCookie(w, &http.Cookie{Name: "SID", Value: "7"})
		w.Header()["X-Two"] = []string{"a", "b"}
		w.WriteHeader(http.StatusCreated)
		_, _ = fmt.Fprintf(w, "%s %s %q %s", r.Method, r.Header.Get("X-One"), body, r.Host)
	}))
	defer server.Close()
	r := request(t, "PUT", server.URL+"/x")
	r.Body = []byte("honey")
	r.SetHeader("X-One", "first")
	r.SetHeader("x-one", "second")
	r.SetHeader("Host", "stores.heatherfold.example")
	record := client(t, exchange.Options{}).Do(t.Context(), r)
	require.Nil(t, record.Failure)
	assert.Equal(t, 201, record.Answer.Status)
	assert.Equal(t, "Created", record.Answer.Reason)
	assert.Equal(t, `PUT second "honey" stores.heatherfold.example`, string(record.Answer.Body))
	assert.Equal(t, []string{"a", "b"}, record.Answer.Header["X-Two"])
	assert.Equal(t, "7", record.Answer.Cookies[0].Value)
	assert.Positive(t, record.Phases.Total)
	assert.False(t, record.Answer.Partial)
}

func TestHeadersOfRequests(t *testing.T) {
	r := request(t, "GET", "http://127.0.0.1/")
	r.AddHeader("X-A", "1")
	r.AddHeader("x-a", "2")
	assert.Equal(t, []string{"1", "2"}, r.Header["X-A"])
	assert.Equal(t, "1", r.GetHeader("X-a"))
	c := r.Clone()
	c.SetHeader("X-A", "3")
	c.URL.Path = "/other"
	assert.Equal(t, "1", r.GetHeader("X-A"), "a clone is another request")
	assert.Equal(t, "/", r.URL.Path)
	r.Show("X-A", "[masked]")
	assert.Equal(t, "[masked]", r.ShownField("X-A", "1"))
	r.DeleteHeader("x-A")
	assert.Empty(t, r.GetHeader("X-A"))
}

func TestFailures(t *testing.T) {
	hanging := make(chan struct{})
	hang := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hanging }))
	defer hang.Close()
	half := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = io.WriteString(w, "half")
		w.(http.Flusher).Flush()
		<-hanging
	}))
	defer half.Close()
	large := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, strings.Repeat("x", 5000))
	}))
	defer large.Close()
	defer close(hanging) // before the servers close, which wait for their handlers
	cases := []struct {
		name, address string
		options       exchange.Options
		kind          exchange.FailureKind
		refusal       string
		message       string
	}{
		{"nobody", "http://127.0.0.1:1/", exchange.Options{}, exchange.Refused, "connection", "nothing listens there"},
		{
			"unknown host", "http://nowhere.heatherfold.invalid/",
			exchange.Options{Timeout: 5 * time.Second},
			exchange.Unknown, "connection", "is not known",
		},
		{
			"hang", hang.URL,
			exchange.Options{Timeout: 100 * time.Millisecond},
			exchange.TimedOut, "",
			"no answer within 100ms",
		},
		{
			"half, then nothing", half.URL,
			exchange.Options{Timeout: time.Second}, // the half has to come in it on a busy machine too
			exchange.TimedOut, "",
			"the whole answer did not come within 1s (4 bytes did)",
		},
		{
			"cut", raw(t, "HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nshort"),
			exchange.Options{},
			exchange.CutOff, "",
			"5 bytes did",
		},
		{"closed", raw(t, ""), exchange.Options{}, exchange.Reset, "connection", "without an answer"},
		{"not HTTP", raw(t, "SSH-2.0-hive\r\n"), exchange.Options{}, exchange.NotHTTP, "", "is not HTTP"},
		{
			"bad chunk", raw(t, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n"),
			exchange.Options{},
			exchange.NotHTTP, "", "",
		},
		{
			"endless header", raw(t, "HTTP/1.1 200 OK\r\nX: "+strings.Repeat("y", 2<<20)+"\r\n\r\n"),
			exchange.Options{},
			exchange.TooLarge, "", "larger than 1 MiB",
		},
		{"large", large.URL, exchange.Options{MaxBody: 1000}, exchange.TooLarge, "", "larger than"},
		{
			"plain where TLS was meant", strings.Replace(large.URL, "http:", "https:", 1),
			exchange.Options{},
			exchange.BadTLS, "tls", "does not speak TLS",
		},
		{
			"not allowed", "http://127.0.0.1:1/",
			exchange.Options{Allowed: func(string) bool { return false }},
			exchange.NotAllowed, "", "are not allowed",
		},
		{
			"unknown coding", raw(t, "HTTP/1.1 200 OK\r\nContent-Encoding: br\r\nContent-Length: 2\r\n\r\nxx"),
			exchange.Options{},
			exchange.BadCoding, "", "coded as br",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			record := client(t, c.options).Do(t.Context(), request(t, "GET", c.address))
			require.NotNil(t, record.Failure)
			assert.Equal(t, c.kind, record.Failure.Kind, record.Failure.Message)
			assert.Equal(t, c.refusal, record.Failure.Refusal())
			assert.Contains(t, record.Failure.Message, c.message)
			assert.Less(t, record.Phases.Total, 10*time.Second)
		})
	}
	odd := request(t, "GET", hang.URL)
	odd.SetHeader("X-A", "a\x01b")
	record := client(t, exchange.Options{}).Do(t.Context(), odd)
	assert.Equal(t, exchange.Unwritable, record.Failure.Kind)
	assert.Contains(t, record.Failure.Message, `cannot be written: invalid header field value for "X-A"`)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	record = client(t, exchange.Options{}).Do(ctx, request(t, "GET", hang.URL))
	assert.Equal(t, exchange.Interrupted, record.Failure.Kind)
}

// Only the methods and statuses that RFC 9110 says so turn a POST into a GET.
func TestRedirectMethods(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/end" {
			body, _ := io.ReadAll(r.Body)
			_, _ = fmt.Fprintf(w, "%s %s", r.Method, body)
			return
		}
		switch r.URL.Path {
		case "/escapes":
			w.Header().Set("Location", "/a%2Fb/é")
			w.WriteHeader(http.StatusFound)
			return
		case "/a/b/é":
			_, _ = fmt.Fprintf(w, "%s %s", r.Method, r.RequestURI)
			return
		}
		w.Header().Set("Location", "/end")
		status := 0
		_, _ = fmt.Sscanf(r.URL.Path, "/%d", &status)
		w.WriteHeader(status)
	}))
	defer server.Close()
	for path, want := range map[string]string{
		"POST /301": "GET ", "POST /302": "GET ", "POST /303": "GET ",
		"PUT /303": "GET ", "POST /307": "POST body", "PUT /308": "PUT body", "PUT /301": "PUT body",
		"GET /302": "GET body",
	} {
		method, target, _ := strings.Cut(path, " ")
		r := request(t, method, server.URL+target)
		r.Body = []byte("body")
		record := client(t, exchange.Options{}).Do(t.Context(), r)
		require.Nil(t, record.Failure)
		assert.Equal(t, want, string(record.Answer.Body), path)
		assert.Len(t, record.Hops, 1)
	}
	escapes := request(t, "GET", server.URL+"/escapes")
	assert.Equal(t, "GET /a%2Fb/%C3%A9", string(client(t, exchange.Options{}).Do(t.Context(), escapes).Answer.Body))
	r := request(t, "GET", server.URL+"/302")
	r.StayOnRedirect = true
	assert.Equal(t, 302, client(t, exchange.Options{}).Do(t.Context(), r).Answer.Status)
}

// A user in an address goes nowhere: a request with one is refused, and a redirect is followed without.
func TestUserInAddress(t *testing.T) {
	t.Parallel()
	asked := 0
	var server *httptest.Server
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked++; r.URL.Path == "/away" {
			w.Header().Set("Location", strings.Replace(server.URL, "://", "://anna:secretive@", 1)+"/end")
			w.WriteHeader(http.StatusFound)
		}
		assert.Empty(t, r.Header.Get("Authorization"))
	}))
	defer server.Close()
	r := request(t, "GET", server.URL+"/away")
	record := client(t, exchange.Options{}).Do(t.Context(), r)
	require.Nil(t, record.Failure)
	assert.Equal(t, []string{"the redirect holds a user, who is left out"}, record.Notes)
	assert.Equal(t, server.URL+"/end", record.Hops[0].To)
	assert.Equal(t, 2, asked)
	r.URL.User = url.UserPassword("anna", "secretive")
	record = client(t, exchange.Options{}).Do(t.Context(), r)
	require.NotNil(t, record.Failure)
	assert.NotContains(t, record.Failure.Message, "secretive")
	assert.Equal(t, 2, asked)
}

func TestCertificateFiles(t *testing.T) {
	for name, options := range map[string]exchange.Options{
		"no file":     {CA: "testdata/nothing.pem"},
		"no PEM":      {CA: "exchange_test.go"},
		"no client":   {Certificate: "testdata/nothing.pem"},
		"client text": {Certificate: "exchange_test.go"},
	} {
		_, err := exchange.NewClient(options)
		assert.Error(t, err, name)
	}
}

func TestOrigin(t *testing.T) {
	for address, want := range map[string]string{
		"http://A.example/x":    "http://a.example:80",
		"https://a.example:443": "https://a.example:443", "https://a.example": "https://a.example:443",
		"http://[::1]:8080/": "http://::1:8080",
	} {
		u, err := url.Parse(address)
		require.NoError(t, err)
		assert.Equal(t, want, exchange.Origin(u))
	}
}

// The program's own cost beside net/http alone.
func BenchmarkDo(b *testing.B) {
	body := []byte(strings.Repeat(`{"id": "L-2201"}`, 100))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write(body)
	}))
	defer server.Close()
	u, err := url.Parse(server.URL)
	require.NoError(b, err)
	b.Run("exchange", func(b *testing.B) {
		c, err := exchange.NewClient(exchange.Options{})
		require.NoError(b, err)
		for b.Loop() {
			c.Do(b.Context(), &exchange.Request{Method: "GET", URL: u})
		}
	})
	b.Run("net/http", func(b *testing.B) {
		for b.Loop() {
			response, err := http.Get(server.URL)
			require.NoError(b, err)
			_, _ = io.Copy(io.Discard, response.Body)
			_ = response.Body.Close()
		}
	})
}

// What may go outside only reaches nothing private, whatever its name resolves to.
func TestOnlyOutside(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was asked") }))
	defer server.Close()
	c := client(t, exchange.Options{})
	for _, host := range []string{"127.0.0.1", "localhost"} {
		u, err := url.Parse(strings.Replace(server.URL, "127.0.0.1", host, 1))
		require.NoError(t, err)
		record := c.Do(t.Context(), &exchange.Request{Method: "GET", URL: u, Outside: true})
		require.NotNil(t, record.Failure)
		assert.Equal(t, exchange.NotAllowed, record.Failure.Kind)
		assert.Contains(t, record.Failure.Message, "private network")
	}
	for text, want := range map[string]bool{
		"127.0.0.1": true, "10.1.2.3": true, "172.16.0.1": true, "192.168.0.1": true, "169.254.169.254": true,
		"100.64.0.1": true, "0.0.0.0": true, "::1": true, "fe80::1": true, "fd00::1": true,
		"::ffff:10.0.0.1": true, "224.0.0.1": true, "255.255.255.255": true, "93.184.216.34": false,
		"2606:2800:220:1::1": false,
	} {
		assert.Equal(t, want, exchange.IsPrivate(netip.MustParseAddr(text)), text)
	}
	assert.True(t, exchange.IsPrivate(netip.Addr{}))
}

// As many connections as there are jobs stay open between exchanges.
func TestIdleConnections(t *testing.T) {
	const jobs, rounds = 90, 3
	var made atomic.Int64
	var arrived sync.WaitGroup
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		arrived.Done()
		arrived.Wait() // all of a round are open at once
		w.WriteHeader(http.StatusNoContent)
	}))
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			made.Add(1)
		}
	}
	server.Start()
	defer server.Close()
	c := client(t, exchange.Options{Jobs: jobs})
	for range rounds {
		arrived.Add(jobs)
		var all sync.WaitGroup
		for range jobs {
			all.Go(func() { assert.NotNil(t, c.Do(t.Context(), request(t, "GET", server.URL)).Answer) })
		}
		all.Wait()
	}
	// One that is not idle yet when the next round begins is not missed. Of 64 alone there would be 142.
	assert.Less(t, made.Load(), int64(jobs+jobs/2))
}
