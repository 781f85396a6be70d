package exchange

import (
	"crypto/tls"
	"net/http/httptrace"
	"net/netip"
	"sync"
	"time"
)

// stopwatch takes the times of an exchange's parts. The transport calls back
// from goroutines of its own, some of them after the answer has begun (a second
// connection that came too late), so all of it is guarded by a lock.
type stopwatch struct {
	remote netip.Addr // of the connection
	mutex  sync.Mutex
	starts [4]time.Time // of lookup, connect, TLS, and the moment the request was written
	first  time.Time    // the answer's first byte
	phases Phases
	reused bool
	sent   int // how often the request went out
}

const (
	lookingUp = iota
	connecting
	shaking
	written
)

func (w *stopwatch) start(part int) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.starts[part] = time.Now()
}

func (w *stopwatch) stop(part int, into *time.Duration) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	*into = time.Since(w.starts[part])
}

func (w *stopwatch) trace() *httptrace.ClientTrace {
	return &httptrace.ClientTrace{
		DNSStart:          func(httptrace.DNSStartInfo) { w.start(lookingUp) },
		DNSDone:           func(httptrace.DNSDoneInfo) { w.stop(lookingUp, &w.phases.Lookup) },
		ConnectStart:      func(string, string) { w.start(connecting) },
		ConnectDone:       func(string, string, error) { w.stop(connecting, &w.phases.Connect) },
		TLSHandshakeStart: func() { w.start(shaking) },
		TLSHandshakeDone:  func(tls.ConnectionState, error) { w.stop(shaking, &w.phases.TLS) },
		WroteRequest: func(info httptrace.WroteRequestInfo) {
			w.start(written)
			w.mutex.Lock()
			defer w.mutex.Unlock()
			if info.Err == nil {
				w.sent++
			}
		},
		GotConn: func(info httptrace.GotConnInfo) {
			w.mutex.Lock()
			defer w.mutex.Unlock()
			w.reused = info.Reused
			if at, err := netip.ParseAddrPort(info.Conn.RemoteAddr().String()); err == nil {
				w.remote = at.Addr()
			}
		},
		GotFirstResponseByte: func() {
			w.mutex.Lock()
			defer w.mutex.Unlock()
			w.first = time.Now()
		},
	}
}

// read gives the times taken so far.
func (w *stopwatch) read() (phases Phases, reused bool, sent int) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	phases = w.phases
	if !w.first.IsZero() && !w.starts[written].IsZero() {
		phases.Waiting = max(w.first.Sub(w.starts[written]), 0)
	}
	return phases, w.reused, w.sent
}
