package main_test

import (
	"encoding/json"
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Fields that a template makes a body of are probed one by one, as the service sees them.
func TestProbeOfATemplate(t *testing.T) {
	t.Parallel()
	server, seen := moor(t, func(w http.ResponseWriter, _ *http.Request, body string) {
		var got struct {
			Booking struct {
				Lot   any `json:"lot"`
				Kilos any `json:"kilos"`
			} `json:"booking"`
		}
		w.Header().Set("Content-Type", "application/json")
		_, isNumber := any(nil), false
		if json.Unmarshal([]byte(body), &got) == nil {
			_, isNumber = got.Booking.Kilos.(float64)
		}
		switch {
		case got.Booking.Lot == nil:
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, `{"error": "lot is missing"}`)
		case !isNumber:
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, `{"error": "kilos must be a number"}`)
		default:
			_, _ = io.WriteString(w, `{}`)
		}
	})
	p := newPlace(t)
	p.write("bench.yaml", `bench: b
sites: {here: {}}
services:
  ledger:
    address: `+server.URL+`
    operations:
      book:
        request: POST /bookings
        body:
          lot: {required: true}
          kilos: {kind: number, required: true}
          grade: {one of: [A, B]}
        template:
          booking: {lot: "${fields.lot}", kilos: "${fields.kilos}", grade: "${fields.grade}"}
`)
	o := p.run("probe", "ledger/book", "lot=L-1", "kilos=12", "-only", "missing,type,limits,null", "-write", "here")
	require.Equal(t, 0, o.status, o.all())
	for _, says := range []string{
		"without lot", "without kilos", "kilos with letters for a number", "kilos null", "grade with none of its values", "though the contract forbids it",
	} {
		assert.Contains(t, o.stdout, says)
	}
	sent := seen.take()
	assert.Contains(t, sent, `POST /bookings {"booking":{"kilos":12}}`)
	assert.Contains(t, sent, `POST /bookings {"booking":{"lot":"L-1"}}`)
}
