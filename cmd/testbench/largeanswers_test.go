package main_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The whole process takes a small multiple of a large answer, whatever it holds: read, judged by
// paths, rules and conditions, and recorded. What is densest, {} after {}, has three bytes to a value.
func TestMemoryOfLargeAnswers(t *testing.T) {
	slow(t)
	t.Parallel()
	const own, megabyte = 64, 1 << 20 // of the program itself, in MB
	list := func(one string, megabytes int) string {
		return "[" + strings.Repeat(one+",", megabytes*megabyte/len(one)) + one + "]"
	}
	lot := `{"lot":"HF-0000001","grade":"A","weight":12.5,"moisture":17.2,"apiary":"Upper Moor","checked":true}`
	for name, c := range map[string]struct {
		contentType, body, judged string
		multiple                  int
	}{
		"rows, taken apart": {"application/json", list(lot, 24), "fields:\n      '[0].lot': HF-0000001", 10},
		"rows, each judged": {
			"application/json", list(lot, 24),
			"fields:\n      '[*].grade': A\n      '[*].weight': over 3\n    where:\n      - size(answer) > 1000", 15,
		},
		"XML, each judged": {
			"text/xml",
			"<lots>" + strings.Repeat(`<lot id="1"><grade>A</grade><weight>12.5</weight></lot>`, 16*megabyte/55) +
				"</lots>", "fields:\n      lot[*].grade: A\n      //lot[last()]/grade: A", 30,
		},
		"a long list of {}": {"application/json", list("{}", 7), "fields:\n      '[0]': is present", 30},
		"many lines of {}": {
			"application/x-ndjson", strings.Repeat("{}\n", 2*megabyte),
			"fields:\n      '[0]': is present", 26,
		},
		"numbers": {"application/json", list("7", 3), "fields:\n      '[0]': 7", 42},
		"a long text": {
			"application/json", `["` + strings.Repeat("honey ", 8*megabyte) + `"]`,
			"fields:\n      '[0]': contains honey", 6,
		},
		"a form of one field": {
			"application/x-www-form-urlencoded", "a=1" + strings.Repeat("&a=1", 4*megabyte),
			"fields:\n      a[0]: '1'", 28,
		},
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", c.contentType)
				_, _ = w.Write([]byte(c.body))
			}))
			defer server.Close()
			p := newPlace(t)
			p.write("bench.yaml", "bench: large answers\n")
			p.write("large.yaml", "sheet: large\nsteps:\n  - step: one\n    request: GET "+server.URL+"/\n    "+
				c.judged+
				"\n")
			m := p.measured("run", "large.yaml", "-allow", "127.0.0.1")
			assert.Zero(t, m.status, m.said)
			most, megabytes := c.multiple, len(c.body)/megabyte
			if raceEnabled {
				most *= 12
			}
			assert.Less(t, m.megabytes, own+most*megabytes, "for a body of %d MB", megabytes)
		})
	}
}
