package exchange

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"testbench/internal/lazy"
	"time"
)

// Quota bounds how many requests go out: at most so many in any span of time. It also waits as long as a
// service asks for. It is safe for use by several goroutines.
type Quota struct {
	span time.Duration

	mutex sync.Mutex
	sent  []time.Time // when the last requests went out, the oldest at next
	next  int
	until time.Time // before which the service wants none

	now   func() time.Time
	sleep func(context.Context, time.Duration) error
}

// NewQuota returns one that lets at most so many requests out in any span.
func NewQuota(most int, span time.Duration) *Quota {
	return &Quota{span: span, sent: make([]time.Time, most), now: time.Now, sleep: Sleep}
}

// wait waits until one more request may go out, or until ctx ends.
func (q *Quota) wait(ctx context.Context) {
	for {
		q.mutex.Lock()
		now := q.now()
		at := q.sent[q.next].Add(q.span)
		if q.sent[q.next].IsZero() {
			at = now
		}
		if at.Before(q.until) {
			at = q.until
		}
		if !at.After(now) {
			q.sent[q.next] = now
			q.next = (q.next + 1) % len(q.sent)
			q.mutex.Unlock()
			return
		}
		q.mutex.Unlock()
		if q.sleep(ctx, at.Sub(now)) != nil {
			return
		}
	}
}

// rateLimit finds what is left and for how long in a RateLimit field
// (draft-ietf-httpapi-ratelimit-headers, 4).
var rateLimit = lazy.Regexp(`;\s*r=0\b.*;\s*t=([0-9]+)|;\s*t=([0-9]+).*;\s*r=0\b`)

// heed takes what a service says of its own limits: Retry-After with 429 and 503 (RFC 9110, 10.2.3), and
// fields that tell that nothing is left.
func (q *Quota) heed(a *Answer) {
	if a == nil {
		return
	}
	seconds := func(text string) time.Duration {
		n, err := strconv.ParseInt(text, 10, 64)
		switch {
		case err != nil || n < 0:
			return 0
		case n > 1_000_000_000: // a moment, in seconds since 1970
			return time.Unix(n, 0).Sub(q.now())
		}
		return time.Duration(n) * time.Second
	}
	var pause time.Duration
	if a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable {
		pause = seconds(a.Header.Get("Retry-After"))
		if at, err := http.ParseTime(a.Header.Get("Retry-After")); err == nil {
			pause = at.Sub(q.now())
		}
	}
	for _, prefix := range []string{"RateLimit-", "X-RateLimit-"} {
		if a.Header.Get(prefix+"Remaining") == "0" {
			pause = max(pause, seconds(a.Header.Get(prefix+"Reset")))
		}
	}
	if m := rateLimit().FindStringSubmatch(a.Header.Get("RateLimit")); m != nil {
		pause = max(pause, seconds(m[1]+m[2]))
	}
	q.mutex.Lock()
	defer q.mutex.Unlock()
	if until := q.now().Add(pause); pause > 0 && until.After(q.until) {
		q.until = until
	}
}
