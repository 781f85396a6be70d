package exchange_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"testbench/internal/exchange"
)

var coders = map[string]func(io.Writer) io.WriteCloser{
	"gzip": func(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) },
	"br":   func(w io.Writer) io.WriteCloser { return brotli.NewWriter(w) },
	"zstd": func(w io.Writer) io.WriteCloser { z, _ := zstd.NewWriter(w); return z },
}

func coded(t *testing.T, text []byte, codings ...string) []byte {
	t.Helper()
	for _, coding := range codings {
		var out bytes.Buffer
		w := coders[coding](&out)
		_, err := w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		text = out.Bytes()
	}
	return text
}

// Content codings are undone, one over another too, and bounded by what they unfold to.
func TestCodings(t *testing.T) {
	serve := func(coding string, body []byte) string {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "gzip, deflate, br, zstd", r.Header.Get("Accept-Encoding"))
			w.Header().Set("Content-Encoding", coding)
			_, _ = w.Write(body)
		}))
		t.Cleanup(server.Close)
		return server.URL
	}
	text := bytes.Repeat([]byte("heather honey "), 1000)
	zeros := make([]byte, 64<<20)
	for _, c := range []struct {
		name, coding string
		body         []byte
		kind         exchange.FailureKind
		message      string
	}{
		{"gzip", "gzip", coded(t, text, "gzip"), "", ""},
		{"brotli", "br", coded(t, text, "br"), "", ""},
		{"Zstandard", "zstd", coded(t, text, "zstd"), "", ""},
		{"one over another", "br, zstd, gzip", coded(t, text, "br", "zstd", "gzip"), "", ""},
		{
			"too many", "gzip, gzip, gzip, gzip", coded(t, text, "gzip", "gzip", "gzip", "gzip"), exchange.BadCoding,
			"coded 4 times over",
		},
		{"a bomb of gzip", "gzip", coded(t, zeros, "gzip"), exchange.TooLarge, "larger than 1 MiB"},
		{"a bomb of brotli", "br", coded(t, zeros, "br"), exchange.TooLarge, "larger than 1 MiB"},
		{"a bomb of Zstandard", "zstd", coded(t, zeros, "zstd"), exchange.TooLarge, "larger than 1 MiB"},
		{"a bomb in a bomb", "gzip, gzip", coded(t, zeros, "gzip", "gzip"), exchange.TooLarge, "larger than 1 MiB"},
		{"a window of 2 GiB", "zstd", []byte("\x28\xb5\x2f\xfd\x00\xa8\x01\x00\x00"), exchange.BadCoding, "is damaged"},
		{"damaged brotli", "br", append(coded(t, text, "br")[:20], "damaged"...), exchange.BadCoding, "is damaged"},
		{
			"damaged Zstandard", "zstd", append(coded(t, text, "zstd")[:4], "damaged, whatever it says"...),
			exchange.BadCoding, "is damaged",
		},
		{"not known", "zipped", text, exchange.BadCoding, "coded as zipped"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := allocated()
			record := client(t, exchange.Options{MaxBody: 1 << 20, Timeout: 10 * time.Second}).Do(t.Context(),
				request(t, "GET", serve(c.coding, c.body)))
			assert.Less(t, allocated()-before, uint64(64<<20))
			if c.kind == "" {
				require.Nil(t, record.Failure, "%+v", record.Failure)
				assert.Equal(t, text, record.Answer.Body)
				return
			}
			require.NotNil(t, record.Failure)
			assert.Equal(t, c.kind, record.Failure.Kind, record.Failure.Message)
			assert.Contains(t, record.Failure.Message, c.message)
		})
	}
}

// allocated is what was allocated so far, in bytes.
func allocated() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.TotalAlloc
}

// speaks listens and hands each connection to a server of bad manners, until the test ends.
func speaks(t *testing.T, config *tls.Config, serve func(net.Conn)) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	scheme := "http://"
	if config != nil {
		listener, scheme = tls.NewListener(listener, config), "https://"
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				serve(conn)
			}()
		}
	}()
	return scheme + listener.Addr().String() + "/"
}

func readRequest(conn net.Conn) { _, _ = conn.Read(make([]byte, 64<<10)) }

// What a server does after it switched the protocol, or while an upload is under way, keeps
// nobody waiting.
func TestBadManners(t *testing.T) {
	for _, c := range []struct {
		name    string
		serve   func(net.Conn)
		body    int // bytes that are uploaded
		timeout time.Duration
		status  int
		kind    exchange.FailureKind
		note    string
	}{
		{"101 and silence", func(conn net.Conn) {
			readRequest(conn)
			_, _ = io.WriteString(conn,
				"HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: hive/1\r\n\r\n")
			_, _ = io.Copy(io.Discard, conn)
		}, 0, 30 * time.Second, 101, "", "goes on in another protocol (hive/1)"},
		{"101 and a flood", func(conn net.Conn) {
			readRequest(conn)
			_, _ = io.WriteString(conn,
				"HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: hive/1\r\n\r\n")
			for {
				if _, err := conn.Write(make([]byte, 64<<10)); err != nil {
					return
				}
			}
		}, 0, 30 * time.Second, 101, "", "goes on in another protocol"},
		{"an answer before the upload is over", func(conn net.Conn) {
			readRequest(conn)
			_, _ = io.WriteString(conn, "HTTP/1.1 413 Content Too Large\r\nContent-Length: 3\r\n\r\nno!")
			_, _ = io.Copy(io.Discard, conn)
		}, 32 << 20, 30 * time.Second, 413, "", ""},
		{"interim answers without end", func(conn net.Conn) {
			readRequest(conn)
			for {
				if _, err := io.WriteString(conn, "HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\n"); err != nil {
					return
				}
			}
		}, 0, 5 * time.Second, 0, "any", ""},
		{"trailers without end", func(conn net.Conn) {
			readRequest(conn)
			_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n1\r\nx\r\n0\r\n")
			for {
				if _, err := io.WriteString(conn, "X-Trailer: "+strings.Repeat("y", 1<<10)+"\r\n"); err != nil {
					return
				}
			}
		}, 0, 5 * time.Second, 0, "any", ""},
		{"a body that drips", func(conn net.Conn) {
			readRequest(conn)
			_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 1000000\r\n\r\n")
			for {
				if _, err := io.WriteString(conn, "."); err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond) // that it is slow is what is tried
			}
		}, 0, 300 * time.Millisecond, 0, exchange.TimedOut, ""},
		{"nothing is read of the upload", func(conn net.Conn) {
			<-t.Context().Done()
		}, 32 << 20, 300 * time.Millisecond, 0, exchange.TimedOut, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := allocated()
			r := request(t, "POST", speaks(t, nil, c.serve))
			r.Body = make([]byte, c.body)
			record := client(t, exchange.Options{Timeout: c.timeout, MaxBody: 1 << 20}).Do(t.Context(), r)
			assert.Less(t, record.Phases.Total, 10*time.Second)
			assert.Less(t, allocated()-before, uint64(128<<20))
			if c.kind != "" {
				require.NotNil(t, record.Failure)
				if c.kind != "any" {
					assert.Equal(t, c.kind, record.Failure.Kind, record.Failure.Message)
				}
				return
			}
			require.Nil(t, record.Failure)
			assert.Equal(t, c.status, record.Answer.Status)
			assert.Contains(t, strings.Join(record.Notes, "\n"), c.note)
		})
	}
}

// HTTP/2 servers that stall, reset or flood cost little and end in time, over TLS.
func TestBadMannersOfHTTP2(t *testing.T) {
	certificate := httptest.NewTLSServer(nil)
	config := &tls.Config{Certificates: certificate.TLS.Certificates, NextProtos: []string{"h2"}}
	certificate.Close()
	// each is told the stream of the first request.
	for name, misbehave := range map[string]func(*http2.Framer, uint32) error{
		"stalls": func(*http2.Framer, uint32) error { <-t.Context().Done(); return nil },
		"resets": func(f *http2.Framer, stream uint32) error {
			return f.WriteRSTStream(stream, http2.ErrCodeInternal)
		},
		"goes away": func(f *http2.Framer, stream uint32) error { return f.WriteGoAway(stream, http2.ErrCodeNo, nil) },
		"floods settings": func(f *http2.Framer, _ uint32) error {
			return f.WriteSettings(http2.Setting{ID: http2.SettingInitialWindowSize, Val: 1 << 16})
		},
		"floods pings":   func(f *http2.Framer, _ uint32) error { return f.WritePing(false, [8]byte{1}) },
		"floods windows": func(f *http2.Framer, stream uint32) error { return f.WriteWindowUpdate(stream, 1) },
		"promises": func(f *http2.Framer, stream uint32) error {
			return f.WritePushPromise(http2.PushPromiseParam{StreamID: stream, PromiseID: 2, EndHeaders: true})
		},
		"continues": func(f *http2.Framer, stream uint32) error {
			if err := f.WriteHeaders(http2.HeadersFrameParam{
				StreamID: stream, BlockFragment: hpackOf(":status", "200"),
				EndHeaders: false,
			}); err != nil {
				return err
			}
			for {
				if err := f.WriteContinuation(stream, false,
					hpackOf("x-more", strings.Repeat("y", 1<<12))); err != nil {
					return err
				}
			}
		},
		"sends empty frames": func(f *http2.Framer, stream uint32) error {
			_ = f.WriteHeaders(http2.HeadersFrameParam{
				StreamID: stream, BlockFragment: hpackOf(":status", "200"),
				EndHeaders: true,
			})
			for {
				if err := f.WriteData(stream, false, nil); err != nil {
					return err
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			address := speaks(t, config, func(conn net.Conn) {
				_, _ = io.ReadFull(conn, make([]byte, len(http2.ClientPreface)))
				f := http2.NewFramer(conn, conn)
				_ = f.WriteSettings()
				stream := uint32(0)
				for stream == 0 {
					frame, err := f.ReadFrame()
					if err != nil {
						return
					}
					if h, ok := frame.(*http2.HeadersFrame); ok {
						stream = h.StreamID
					}
				}
				go func() { _, _ = io.Copy(io.Discard, conn) }()
				for misbehave(f, stream) == nil && t.Context().Err() == nil {
				}
			})
			before := allocated()
			record := client(t, exchange.Options{Timeout: time.Second, Insecure: true, MaxBody: 1 << 20}).Do(
				t.Context(), request(t, "GET", address))
			require.NotNil(t, record.Failure)
			assert.Less(t, record.Phases.Total, 5*time.Second)
			assert.Less(t, allocated()-before, uint64(256<<20))
		})
	}
}

func hpackOf(name, text string) []byte {
	var out bytes.Buffer
	_ = hpack.NewEncoder(&out).WriteField(hpack.HeaderField{Name: name, Value: text})
	return out.Bytes()
}

// A proxy that cannot be reached, or refuses, is told as the proxy.
func TestProxies(t *testing.T) {
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Proxy-Authenticate", `Basic realm="gate"`)
		w.WriteHeader(http.StatusProxyAuthRequired)
	}))
	defer refusing.Close()
	for name, c := range map[string]struct{ proxy, message string }{
		"nobody there": {
			"http://127.0.0.1:1",
			"the proxy 127.0.0.1:1, through which h.example is asked, cannot be reached",
		},
		"refuses": {
			refusing.URL,
			`the proxy ` + strings.TrimPrefix(refusing.URL, "http://") +
				` did not let the connection to h.example:443 through: 407 Proxy Authentication Required (it asks for a login: Basic realm="gate")`,
		},
	} {
		t.Run(name, func(t *testing.T) {
			proxy, err := url.Parse(c.proxy)
			require.NoError(t, err)
			record := client(t, exchange.Options{Proxy: proxy}).Do(t.Context(), request(t, "GET", "https://h.example/"))
			require.NotNil(t, record.Failure)
			assert.Contains(t, record.Failure.Message, c.message)
			assert.Empty(t, record.Failure.Refusal(), "the service itself refused nothing")
		})
	}
	asked := ""
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = r.Header.Get("Proxy-Authorization")
		_, _ = fmt.Fprint(w, r.URL)
	}))
	defer plain.Close()
	proxy, err := url.Parse(plain.URL)
	require.NoError(t, err)
	proxy.User = url.UserPassword("clerk", "sealed-word")
	record := client(t, exchange.Options{Proxy: proxy}).Do(context.Background(),
		request(t, "GET", "http://h.example/x"))
	require.Nil(t, record.Failure)
	assert.Equal(t, "http://h.example/x", string(record.Answer.Body))
	assert.Equal(t, "Basic Y2xlcms6c2VhbGVkLXdvcmQ=", asked)
}
