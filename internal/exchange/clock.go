package exchange

import (
	"context"
	"sync"
	"time"
)

// Clock is a time that passes by pauses alone, for answers that came before. It is safe for use by several goroutines.
type Clock struct {
	mutex sync.Mutex
	now   time.Time
}

// Now is its time.
func (c *Clock) Now() time.Time {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.now
}

// Set makes it a time, unless it is later already.
func (c *Clock) Set(now time.Time) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if now.After(c.now) {
		c.now = now
	}
}

// Reset makes it a time.
func (c *Clock) Reset(now time.Time) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.now = now
}

type clockKey struct{}

// WithClock gives a context whose pauses take no time but that of the clock.
func WithClock(ctx context.Context, c *Clock) context.Context {
	return context.WithValue(ctx, clockKey{}, c)
}

// Now is the time, by the clock of the context where it has one.
func Now(ctx context.Context) time.Time {
	if c, ok := ctx.Value(clockKey{}).(*Clock); ok {
		return c.Now()
	}
	return time.Now()
}

// Sleep waits, unless the run ends meanwhile.
func Sleep(ctx context.Context, pause time.Duration) error {
	if c, ok := ctx.Value(clockKey{}).(*Clock); ok {
		c.Set(c.Now().Add(pause))
		return ctx.Err()
	}
	timer := time.NewTimer(pause)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}
