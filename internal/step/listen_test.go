package step

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/callback"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// calledRow is a row that can receive a callback.
type calledRow struct {
	*row
	calls *Calls
}

func (r *calledRow) Calls() *Calls { return r.calls }

// A step waits for a callback: which call it takes, what it answers, what it says of the others.
func TestListen(t *testing.T) {
	for _, c := range []struct {
		name, step string
		calls      []string // METHOD PATH BODY, one after the other
		answers    string   // what they are answered with
		told       string
		notes      string
		kept       string
		late       []string // calls that come when the step is over
		shut       string
	}{
		{
			name: "any call", step: "listen: POST\nkeep: {n: n}", calls: []string{`POST / {"n": 1}`}, answers: "204",
			told: "it: passed", kept: "1",
		},
		{
			name:  "an answer with all",
			step:  "listen:\n  answer:\n    status: 202\n    headers: {X-Seen: yes}\n    body: {taken: true}",
			calls: []string{`POST / {}`}, answers: `202 application/json yes {"taken":true}`, told: "it: passed",
		},
		{
			name:  "an answer of another type",
			step:  "listen:\n  answer:\n    headers: {Content-Type: application/honey+json}\n    body: {taken: true}",
			calls: []string{`POST / {}`}, answers: `200 application/honey+json {"taken":true}`, told: "it: passed",
		},
		{
			name: "an answer in text", step: "listen:\n  answer: {text: thanks}", calls: []string{`POST / {}`},
			answers: "200 thanks", told: "it: passed",
		},
		{
			name: "another method and another path", step: "listen: {method: PUT, path: done}",
			calls: []string{`POST /done {}`, `PUT /other {}`, `PUT /done {}`}, answers: "405 | 404 | 204",
			told:  "it: passed",
			notes: "a call by POST came and was refused: PUT is waited for; a call to /other came and was refused: /done is waited for",
		},
		{
			name: "one that does not match", step: "listen:\n  match: {n: 2}\nkeep: {n: n}",
			calls: []string{`POST / {"n": 1}`, `POST / {"n": 2}`}, answers: "204 | 204", told: "it: passed", kept: "2",
			notes: "a call that does not match came: n expected 2, got 1",
		},
		{
			name: "none", step: "listen: POST\nwithin: 1 ms",
			notes: "the address that was given out: http://",
			told:  "it: failed; call expected a call by POST within 1 ms, got none",
		},
		{
			name: "none that matches", step: "listen:\n  match: {n: 2}\nwithin: 50 ms",
			calls:   []string{`POST / {"n": 1}`},
			answers: "204", told: "it: failed; call expected a call by POST within 50 ms, got none that matches",
		},
		{
			name: "a field that is not so", step: "listen: POST\nfields: {n: 2}", calls: []string{`POST / {"n": 1}`},
			answers: "204", told: "it: failed; n expected 2, got 1",
		},
		{
			name: "the same call twice", step: "listen: POST\nuntil: {n: 2}",
			calls: []string{`POST / {"n": 1}`, `POST / {"n": 1}`, `POST / {"n": 2}`}, answers: "204 | 204 | 204",
			told: "it: passed", notes: "the same call came again",
		},
		{
			name: "until, too late", step: "listen: POST\nuntil: {n: 2}\nwithin: 50 ms",
			calls: []string{`POST / {"n": 1}`}, answers: "204", told: "it: failed; n expected 2, got 1",
		},
		{
			name: "states", step: "listen: POST\nuntil: {s: done}\nstates: {of: s, allowed: [new, open, done]}",
			calls:   []string{`POST / {"s": "new"}`, `POST / {"s": "open"}`, `POST / {"s": "done"}`},
			answers: "204 | 204 | 204", told: "it: passed", notes: "callback received 3 times",
		},
		{
			name:    "a state that comes again",
			step:    "listen: POST\nuntil: {s: done}\nstates: {of: s, allowed: [new, open, done]}",
			calls:   []string{`POST / {"s": "new"}`, `POST / {"s": "open"}`, `POST / {"s": "new"}`},
			answers: "204 | 204 | 204", told: "it: failed; s expected new, then open, then done",
		},
		{
			name:  "a state that fails",
			step:  "listen: POST\nuntil: {s: done}\nstates: {of: s, allowed: [new, done], failed: [lost]}",
			calls: []string{`POST / {"s": "new"}`, `POST / {"s": "lost"}`}, answers: "204 | 204",
			told: "it: failed; s expected not lost, got lost",
		},
		{
			name: "one more where nothing may come", step: "listen: {quiet: 1 s}",
			calls: []string{`POST / {"n": 1}`, `POST / {"n": 2}`}, answers: "204 | 204",
			told: "it: failed; quiet expected no more calls for 1 s, got one more",
		},
		{
			name: "none more", step: "listen: {quiet: 1 ms}", calls: []string{`POST / {"n": 1}`}, answers: "204",
			told: "it: passed",
		},
		{
			name: "a call that comes late", step: "listen: POST", calls: []string{`POST / {"n": 1}`}, answers: "204",
			told: "it: passed", late: []string{`POST / {"n": 1}`, `POST / {"n": 2}`},
			shut: "it: late: passed; the same call came again; a call came late",
		},
		{
			name:  "a state that comes late and is false",
			step:  "listen: POST\nuntil: {s: done}\nstates: {of: s, allowed: [new, done]}",
			calls: []string{`POST / {"s": "new"}`, `POST / {"s": "done"}`}, answers: "204 | 204", told: "it: passed",
			late: []string{`POST / {"s": "new"}`},
			shut: "it: late: failed; s expected new, then done, got a false change",
		},
		{
			name:  "a state that comes late and is in order",
			step:  "listen: POST\nuntil: {s: done}\nstates: {of: s, allowed: [new, done, closed]}",
			calls: []string{`POST / {"s": "new"}`, `POST / {"s": "done"}`}, answers: "204 | 204", told: "it: passed",
			late: []string{`POST / {"s": "closed"}`}, shut: `it: late: passed; late: "closed" came after`,
		},
		{
			name:  "one that is signed, after one that is not",
			step:  "listen:\n  signed: {header: X-Seal, key: orchard}\nkeep: {n: n}",
			calls: []string{`POST / {"n": 1}`, `SIGNED / {"n": 2}`}, answers: "401 | 204", told: "it: passed",
			kept:  "2",
			notes: "a call with a false signature came and was refused (header X-Seal)",
		},
		{name: "in a dry run", step: "listen: POST", told: "it: not run (a dry run waits for no call)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			receiver := &callback.Receiver{}
			t.Cleanup(func() { _ = receiver.Close() })
			r := &calledRow{row: newRow(t, &sender{})}
			r.of.Options.Receiver = receiver
			r.dry = strings.Contains(c.name, "dry")
			read := sheet.Read(r.of.Bench, filepath.Join(r.of.Bench.Dir, "s.yaml"),
				[]byte("sheet: s\nsteps:\n  - step: it\n    "+strings.ReplaceAll(c.step, "\n", "\n    ")+"\n"), Kinds)
			require.Empty(t, read.Problems().Serious())
			r.calls = NewCalls(r, read, r.of, func() *session.Values { return r.of.Scope(nil, r.kept) }, "")
			address, err := r.calls.AddressOf("it")
			require.NoError(t, err)
			call := func(lines []string) []string {
				var answers []string
				for _, line := range lines {
					words := strings.SplitN(line, " ", 3)
					request, err := http.NewRequestWithContext(t.Context(), words[0],
						address+strings.TrimSuffix(words[1], "/"), strings.NewReader(words[2]))
					require.NoError(t, err)
					request.Header.Set("Content-Type", "application/json")
					if words[0] == "SIGNED" {
						request.Method = http.MethodPost
						seal := hmac.New(sha256.New, []byte("orchard"))
						_, _ = seal.Write([]byte(words[2]))
						request.Header.Set("X-Seal", hex.EncodeToString(seal.Sum(nil)))
					}
					answer, err := http.DefaultClient.Do(request)
					require.NoError(t, err)
					text := make([]byte, 100)
					n, _ := answer.Body.Read(text)
					require.NoError(t, answer.Body.Close())
					said := answer.Status[:3]
					if answer.StatusCode < 300 && n > 0 {
						for _, name := range []string{"Content-Type", "X-Seen"} {
							if v := answer.Header.Get(name); v != "" && !strings.HasPrefix(v, "text/plain") {
								said += " " + v
							}
						}
						said += " " + string(text[:n])
					}
					answers = append(answers, said)
				}
				return answers
			}
			assert.Equal(t, c.answers, strings.Join(call(c.calls), " | "))
			Of(read.Steps[0]).Run(t.Context(), r, read.Steps[0], "it")
			told := r.told()
			assert.True(t, strings.HasPrefix(told, c.told), told)
			for _, note := range strings.Split(c.notes, "; ") {
				assert.Contains(t, strings.Join(r.results[0].Notes, "; "), note)
			}
			if !strings.Contains(c.step, "states:") {
				assert.NotContains(t, strings.Join(r.results[0].Notes, "; "), "callback received")
			}
			if c.kept != "" {
				assert.Equal(t, c.kept, r.kept["n"].Text)
			}
			r.results = nil
			call(c.late)
			r.calls.Shut()
			if c.shut == "" {
				assert.Empty(t, r.results)
				return
			}
			require.Len(t, r.results, 1)
			said := strings.Split(strings.TrimSpace(r.told()), "\n")[0] + "; " + strings.Join(r.results[0].Notes, "; ")
			for _, part := range strings.Split(c.shut, "; ") {
				assert.Contains(t, said, part)
			}
		})
	}
}

// An address is that of a step by its name, or of the only one; nobody can call where nothing
// receives.
func TestAddresses(t *testing.T) {
	r := newRow(t, &sender{})
	read := sheet.Read(r.of.Bench, "s.yaml",
		[]byte("sheet: s\nsteps:\n  - step: a\n    listen: POST\n  - steps:\n      - step: b\n        listen: PUT\n"),
		Kinds)
	calls := func() *Calls {
		return NewCalls(r, read, r.of, func() *session.Values { return r.of.Scope(nil, nil) }, "")
	}
	_, err := calls().AddressOf("a")
	require.ErrorContains(t, err, "nobody can call back here")
	receiver := &callback.Receiver{}
	t.Cleanup(func() { _ = receiver.Close() })
	r.of.Options.Receiver = receiver
	open := calls()
	addresses := map[string]bool{}
	for _, name := range []string{"a", "b", "a", ""} {
		address, err := open.AddressOf(name)
		require.NoError(t, err)
		addresses[address] = true
	}
	assert.Len(t, addresses, 2, "each has one, and keeps it")
	_, err = open.AddressOf("c")
	require.ErrorContains(t, err, "no step waits for such a callback")
	open.Shut()
	assert.Empty(t, r.results)
	client := http.Client{Timeout: 5 * time.Second}
	for address := range addresses {
		answer, err := client.Post(address, "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		assert.Equal(t, http.StatusGone, answer.StatusCode)
	}
}
