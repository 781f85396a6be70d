package main_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A limit counts calls, over all rows and jobs and tries, and a service that asks to be left alone is. The
// server's own clock is the judge.
func TestLimitsOfCalls(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it waits for limits; the whole tests run it")
	}
	var mutex sync.Mutex
	var came []time.Time
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		came = append(came, time.Now())
		n := len(came)
		mutex.Unlock()
		w.Header().Set("Content-Type", "application/json")
		if strings.HasPrefix(r.URL.Path, "/busy") && n == 1 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
		}
		_, _ = io.WriteString(w, "{}")
	}))
	t.Cleanup(server.Close)
	for name, limits := range map[string][2]string{"of the service": {"", "    limit: 4/500 ms\n"}, "of the site": {"    limit: 4/500 ms\n", ""}} {
		t.Run(name, func(t *testing.T) {
			came = nil
			p := newPlace(t)
			p.write("bench.yaml", "bench: b\nsites:\n  here:\n    set: {base: "+server.URL+"}\n"+limits[0]+"services:\n  s:\n    address: ${base}\n"+limits[1]+
				"    operations: {a: {request: GET /a}, busy: {request: GET /busy}}\n")
			o := p.sheet("sheet: s\nrows: {numbers: 1 to 5, as: n}\nsteps:\n  - step: a\n    call: s/a\n  - step: b\n    call: s/a\n", "-jobs", "5")
			assert.Equal(t, 0, o.status, o.all())
			assert.Len(t, came, 10)
			for i := 4; i < len(came); i++ {
				// Both ends are seen a little late: the span between them is what the limit says, or nearly.
				assert.Greater(t, came[i].Sub(came[i-4]), 450*time.Millisecond, "five in less than the span")
			}
			came = nil
			o = p.sheet("sheet: s\nsteps:\n  - step: a\n    call: s/busy\n    again: {times: 2, pause: 1 ms}\n")
			assert.Equal(t, 0, o.status, o.all())
			if assert.Len(t, came, 2) {
				assert.Greater(t, came[1].Sub(came[0]), 950*time.Millisecond)
			}
		})
	}
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nservices:\n  s: {address: 'http://127.0.0.1:1', limit: often}\n")
	o := p.run("vet")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stdout, `"often" is not a limit of calls`)
}
