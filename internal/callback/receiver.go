// Package callback listens for the calls that services make back: each step that waits for one has
// an address of its own, and what comes there waits in its box until the step takes it.
package callback

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Receiver takes the calls that services make back. It listens from the moment on when
// an address of it is first asked for, on loopback unless told otherwise.
type Receiver struct {
	// Listen is where it listens; empty is 127.0.0.1 with a port that is free.
	Listen string
	// Public is the address under which others reach it; empty is where it listens.
	Public string

	mutex    sync.Mutex
	server   *http.Server
	served   chan struct{} // closed when nobody serves any more
	loopback bool          // nobody else can reach it
	base     string
	boxes    map[string]*Box // by the token in their address
}

// Limits of what comes in.
const (
	MostCallBody = 10 << 20
	MostCalls    = 1_000 // that wait in one box
)

// Call is one call that came in.
type Call struct {
	At       time.Time
	Method   string
	URL      *url.URL
	Header   http.Header
	Body     []byte
	answered int
	Digest   [sha256.Size]byte // of all that tells calls apart
}

// Box is where the calls for one step of one row come in.
type Box struct {
	token  string
	Listen *Listener
	mutex  sync.Mutex
	calls  []*Call
	notes  []string // calls that are not what is waited for
	came   chan struct{}
	closed bool
}

// start begins to listen.
func (r *Receiver) start() error {
	if r.server != nil {
		return nil
	}
	where := r.Listen
	if where == "" {
		where = "127.0.0.1:0"
	}
	listener, err := net.Listen("tcp", where)
	if err != nil {
		return fmt.Errorf("nobody can call back: %w", err)
	}
	if at, ok := listener.Addr().(*net.TCPAddr); ok {
		r.loopback = at.IP.IsLoopback()
	}
	r.base = strings.TrimSuffix(r.Public, "/")
	if r.base == "" {
		host, port, _ := net.SplitHostPort(listener.Addr().String())
		if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
			host = "127.0.0.1"
		}
		r.base = "http://" + net.JoinHostPort(host, port)
	}
	r.boxes = map[string]*Box{}
	r.server = &http.Server{
		Handler: r, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, MaxHeaderBytes: 64 << 10,
	}
	r.served = make(chan struct{})
	go func() {
		defer close(r.served)
		_ = r.server.Serve(listener)
	}()
	return nil
}

// Open makes a box with an address of its own.
func (r *Receiver) Open(l *Listener) (*Box, string, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if err := r.start(); err != nil {
		return nil, "", err
	}
	token := make([]byte, 16)
	_, _ = rand.Read(token)
	b := &Box{token: hex.EncodeToString(token), Listen: l, came: make(chan struct{}, 1)}
	r.boxes[b.token] = b
	return b, r.base + "/" + b.token, nil
}

// Shut takes a box away: later calls are refused.
func (r *Receiver) Shut(b *Box) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	delete(r.boxes, b.token)
	b.mutex.Lock()
	defer b.mutex.Unlock()
	b.closed = true
}

// Close ends listening.
func (r *Receiver) Close() error {
	if r == nil {
		return nil
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.server == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	err := r.server.Shutdown(ctx)
	if err != nil {
		err = r.server.Close()
	}
	<-r.served
	return err
}

// isMeant says whether a call names a host by which the receiver is known. Where others can
// reach it, they may have any name for it.
func (r *Receiver) isMeant(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	if ip := net.ParseIP(host); !r.loopback || strings.EqualFold(host, "localhost") || ip != nil && ip.IsLoopback() {
		return true
	}
	public, err := url.Parse(r.Public)
	return err == nil && strings.EqualFold(public.Hostname(), host)
}

// ServeHTTP takes a call and answers as the step that waits for it says.
func (r *Receiver) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	if !r.isMeant(request.Host) {
		// A page that names this machine by a name of its own is not to get through
		// (RFC 9110, 15.5.20).
		http.Error(w, "this is not asked by that name", http.StatusMisdirectedRequest)
		return
	}
	token, rest, _ := strings.Cut(strings.TrimPrefix(request.URL.Path, "/"), "/")
	r.mutex.Lock()
	b := r.boxes[token]
	r.mutex.Unlock()
	if b == nil {
		http.Error(w, "nobody waits for a call here, or not any more", http.StatusGone)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, request.Body, MostCallBody))
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		b.note("a call was larger than %d MiB, and refused", MostCallBody>>20)
		http.Error(w, "too large", http.StatusRequestEntityTooLarge)
		return
	}
	if err != nil {
		b.note("a call was cut off: %v", err)
		return
	}
	c := &Call{
		At: time.Now(), Method: request.Method,
		URL:    &url.URL{Scheme: "http", Host: request.Host, Path: request.URL.Path, RawQuery: request.URL.RawQuery},
		Header: request.Header, Body: body,
	}
	sum := sha256.New()
	for _, part := range [][]byte{[]byte(c.Method), []byte(rest), []byte(c.URL.RawQuery), body} {
		_, _ = fmt.Fprintf(sum, "%d:", len(part))
		_, _ = sum.Write(part)
	}
	sum.Sum(c.Digest[:0])
	b.Listen.take(w, b, c, rest)
}

func (b *Box) note(format string, args ...any) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if len(b.notes) < 20 {
		b.notes = append(b.notes, fmt.Sprintf(format, args...))
	}
}

// add puts a call into the box; it says whether there was room.
func (b *Box) add(c *Call) bool {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if b.closed || len(b.calls) >= MostCalls {
		return false
	}
	b.calls = append(b.calls, c)
	select {
	case b.came <- struct{}{}:
	default:
	}
	return true
}

// Next takes the next call, waiting until it comes; nil where none came in time.
func (b *Box) Next(ctx context.Context, until time.Time) (*Call, error) {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	for {
		if c := b.Taken(); c != nil {
			return c, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-timer.C:
			return b.Taken(), nil
		case <-b.came:
		}
	}
}

// Taken takes the next call that is there; nil where none is.
func (b *Box) Taken() *Call {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if len(b.calls) == 0 {
		return nil
	}
	c := b.calls[0]
	b.calls = b.calls[1:]
	return c
}

// TakeNotes gives what is to be said of calls that were not waited for.
func (b *Box) TakeNotes() []string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	notes := b.notes
	b.notes = nil
	return notes
}
