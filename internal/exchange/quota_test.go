package exchange

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A quota lets at most so many requests out in any span, and waits as long as the service asks for.
func TestQuota(t *testing.T) {
	start := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		answers map[int]*Answer // what the request of a number is answered with
		want    []int           // when each goes out, in seconds
	}{
		"as many as there may be": {nil, []int{0, 0, 0, 60, 60, 60, 120}},
		"asked to be left alone": {
			map[int]*Answer{1: answer(429, "Retry-After", "90")},
			[]int{0, 0, 90, 90, 90, 150},
		},
		"until a moment": {
			map[int]*Answer{0: answer(503, "Retry-After", "Mon, 30 Nov 2026 08:00:30 GMT")},
			[]int{0, 30, 30, 60},
		},
		"not of a success":            {map[int]*Answer{0: answer(200, "Retry-After", "90")}, []int{0, 0, 0, 60}},
		"nothing left":                {map[int]*Answer{0: answer(200, "RateLimit", `"default";r=0;t=20`)}, []int{0, 20, 20, 60}},
		"nothing left, the other way": {map[int]*Answer{0: answer(200, "RateLimit", `"default";t=20;r=0`)}, []int{0, 20, 20, 60}},
		"something left":              {map[int]*Answer{0: answer(200, "RateLimit", `"default";r=7;t=20`)}, []int{0, 0, 0, 60}},
		"nothing left, in two fields": {map[int]*Answer{0: answer(200, "X-RateLimit-Remaining", "0",
			"X-RateLimit-Reset", "25")}, []int{0, 25, 25, 60}},
		"until seconds since 1970": {map[int]*Answer{0: answer(200, "RateLimit-Remaining", "0", "RateLimit-Reset",
			"1796025640")}, []int{0, 40, 40, 60}},
		"nonsense": {
			map[int]*Answer{0: answer(429, "Retry-After", "soon"), 1: nil},
			[]int{0, 0, 0, 60},
		},
	} {
		t.Run(name, func(t *testing.T) {
			now := start
			q := NewQuota(3, time.Minute)
			q.now = func() time.Time { return now }
			q.sleep = func(_ context.Context, pause time.Duration) error {
				now = now.Add(pause)
				return nil
			}
			var got []int
			for i := range c.want {
				q.wait(t.Context())
				got = append(got, int(now.Sub(start).Seconds()))
				q.heed(c.answers[i])
			}
			assert.Equal(t, c.want, got)
		})
	}
	// It ends when the run does.
	q := NewQuota(1, time.Hour)
	q.wait(t.Context())
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	q.wait(ctx)
}

func answer(status int, header ...string) *Answer {
	a := &Answer{Status: status, Header: http.Header{}}
	for i := 0; i < len(header); i += 2 {
		a.Header.Set(header[i], header[i+1])
	}
	return a
}
