package main_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Streams that the service keeps open end where the bench says so, and their texts are joined.
func TestEndlessStreams(t *testing.T) {
	t.Parallel()
	open := map[string]struct{ mediaType, text string }{
		"/chat":  {"text/event-stream", "event: part\ndata: {\"delta\": {\"text\": \"Hea\"}}\n\n: still here\n\ndata: {\"delta\": {\"text\": \"ther\"}}\r\n\r\ndata: [DONE]\n\n"},
		"/lines": {"application/x-ndjson", "{\"n\": 1}\n{\"n\": 2}\n{\"n\": 3}\n"},
		// As those do that speak JSON to who cannot speak gRPC.
		"/watch":     {"application/json", "{\"result\": {\"n\": 1}}\n{\"result\": {\"token\": \"comb-token-77\"}}\n"},
		"/watch/one": {"application/json", "{\"result\": {\"n\": 1}}\n"},
		"/nothing":   {"application/json", ""},
	}
	ended := map[string]struct {
		status int
		text   string
	}{
		"/ended":    {200, "{\"n\": 1}\n{\"n\": 2}"},
		"/document": {200, "{\n  \"n\": [\n    1,\n    2\n  ]\n}\n"},
		"/line":     {200, "{\"n\": 1}\n"},
		"/slow":     {200, "{\"n\": PAUSE1}"},
		"/refused":  {400, "{\"code\": 3}\n"},
		"/plain":    {200, "[]"},
	}
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		if document, ok := ended[r.URL.Path]; ok {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(document.status)
			first, rest, _ := strings.Cut(document.text, "PAUSE")
			_, _ = io.WriteString(w, first)
			if rest != "" {
				_ = http.NewResponseController(w).Flush()
				<-time.After(100 * time.Millisecond) // longer than the steps take for the end of a stream
				_, _ = io.WriteString(w, rest)
			}
			return
		}
		w.Header().Set("Content-Type", open[r.URL.Path].mediaType)
		_, _ = io.WriteString(w, open[r.URL.Path].text)
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done() // it stays open until the other side leaves
	})
	p := newPlace(t)
	p.write("bench.yaml", `bench: b
services:
  bees:
    address: `+server.URL+`
    operations:
      chat: {request: GET /chat, stream: {end: "[DONE]"}}
      lines: {request: GET /lines, stream: {most: 2}}
      plain: {request: GET /plain, stream: {most: 2}}
      open: {request: GET /chat}
      watch: {request: GET /watch, stream: {most: 2}}
`)
	p.write("sheets/s.yaml", `sheet: s
steps:
  - step: chat
    call: bees/chat
    fields: {"[*].data.delta.text | join": Heather, "[0].event": part}
    keep: {said: '[*].data.delta.text | join "-"'}
  - step: said
    set: {x: "${said}"}
    where: ['kept.said == "Hea-ther"']
  - step: quiet
    call: bees/open
    stream: {quiet: 50 ms}
    fields: {answer: count 3}
  - step: lines
    call: bees/lines
    fields: {answer: count 2, "[1].n": 2}
  - step: watch
    call: bees/watch
    fields: {answer: count 2, "[0].result.n": 1, "[1].result.token": is present}
  - step: one
    request: bees GET /watch/one
    stream: {quiet: 50 ms}
    fields: {answer: count 1, "[0].result.n": 1}
  - step: nothing
    request: bees GET /nothing
    stream: {quiet: 50 ms}
    expect: {status: 200}
  - step: line
    request: bees GET /line
    stream: {quiet: 20 s}
    fields: {n: 1}
  - step: slow
    request: bees GET /slow
    stream: {quiet: 20 ms}
    fields: {n: 1}
  - step: ended
    request: bees GET /ended
    stream: {end: never}
    fields: {answer: count 2, "[1].n": 2}
  - step: document
    request: bees GET /document
    stream: {most: 2}
    fields: {n: count 2}
  - step: refused
    request: bees GET /refused
    stream: {most: 1}
    expect: {status: 400}
    fields: {code: 3}
`)
	p.cases([]commandCase{
		{"run sheets/s.yaml", 0, nil},
		{"fields 1.4", 0, []string{"[*].result.n"}},
		{"history 1.4", 0, []string{`{"result": {"n": 1}}`}},
		{"compare 1.4 1.4", 0, nil},
		{"report 1 -out r.har", 0, nil},
		{"call bees GET /watch -timeout 80ms", 3, []string{"within 80ms", "stream: {quiet: 2 s}"}},
		{"call bees/chat", 0, []string{"the stream was left: its last event came"}},
		{"call bees/lines", 0, []string{"the stream was left: 2 events came"}},
		{"call bees/plain", 0, []string{"the answer is not a stream of events: stream: has no effect"}},
		{"call bees/open -timeout 80ms", 3, []string{"within 80ms", "stream: {quiet: 2 s}"}},
	})
	assert.NotContains(t, p.read("r.har"), "comb-token-77", "what looks like a token is masked in each line")
	assert.Equal(t, "Heather\n", p.run("call", "bees/chat", "-pick", "[*].data.delta.text | join").stdout)
	p.write("sheets/s.yaml", "sheet: s\nsteps:\n  - step: a\n    call: bees/open\n    stream: {}\n  - step: b\n    call: bees/open\n    stream: {most: 0}\n")
	assert.Equal(t, 2, p.run("vet").status)
}
