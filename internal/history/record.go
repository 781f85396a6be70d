package history

import (
	"net/http"
	"net/url"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/lazy"
	"testbench/internal/secret"
)

// Record is the exchange as judging takes it. What is secret is masked in it, and a body that is long or no text is not
// whole. Its request always has an address.
func (e *Exchange) Record() *exchange.Record {
	r := &exchange.Record{
		Request: &exchange.Request{
			Method: e.Request.Method, Header: headersOf(e.Request.Headers), Body: []byte(e.Request.Body),
		},
		Started: e.Started, Phases: exchange.PhasesOf(e.Phases), TLS: e.TLS,
	}
	r.Phases.Total = time.Duration(e.Milliseconds * float64(time.Millisecond))
	if r.Request.URL, _ = url.Parse(string(e.Request.Address)); r.Request.URL == nil {
		r.Request.URL = &url.URL{}
	}
	if e.Failure != "" {
		r.Failure = &exchange.Failure{Kind: exchange.Unreachable, Message: string(e.Failure)}
	}
	if e.Status > 0 {
		r.Answer = &exchange.Answer{
			Status: e.Status, Reason: string(e.Reason), Proto: e.Protocol, Header: headersOf(e.Headers),
			Body: []byte(e.Body), ReadAs: e.ReadAs,
		}
	}
	return r
}

// inPart is what the history has of a body that is not text, or is long.
var inPart = lazy.Regexp(`^\(\d+ bytes that are not UTF-8 text\)$|\n… \(\d+ of \d+ bytes shown\)$`)

// IsWhole says whether a body of an exchange is recorded as it was, but for what is masked.
func IsWhole(body secret.Text) bool { return !inPart().MatchString(string(body)) }

func headersOf(masked map[string][]secret.Text) http.Header {
	out := http.Header{}
	for name, values := range masked {
		for _, value := range values {
			out.Add(name, string(value))
		}
	}
	return out
}
