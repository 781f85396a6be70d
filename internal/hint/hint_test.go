package hint_test

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/exchange"
	"testbench/internal/hint"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
)

// step is a finished step with one exchange, as the tests need it.
type step struct {
	method, address string
	sent            http.Header
	body            string
	status          int
	header          http.Header
	answer          string
	failure         *exchange.Failure
	context         result.Context
	signed          string
	hops            []exchange.Hop
	checks          []result.Check
}

func (s step) explain(t *testing.T) *result.Step {
	t.Helper()
	if s.method == "" {
		s.method = "GET"
	}
	if s.address == "" {
		s.address = "http://127.0.0.1:9/stores/lots"
	}
	u, err := url.Parse(s.address)
	require.NoError(t, err)
	record := &exchange.Record{
		Started: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), Failure: s.failure,
		Request: &exchange.Request{Method: s.method, URL: u, Header: s.sent, Body: []byte(s.body)}, Hops: s.hops,
	}
	if s.signed != "" {
		record.Request.Signed = []string{s.signed}
	}
	if s.status > 0 {
		if s.header == nil {
			s.header = http.Header{}
		}
		record.Answer = &exchange.Answer{Status: s.status, Header: s.header, Body: []byte(s.answer)}
	}
	result := &result.Step{
		Outcome: result.Failed, Exchanges: []*exchange.Record{record}, Reply: reply.Read(record),
		Context: s.context, Checks: s.checks,
	}
	hint.Explain(result)
	return result
}

func jwt(claims string) string {
	return "e30." + base64.RawURLEncoding.EncodeToString([]byte(claims)) + ".x"
}

func fault(code, text string) string {
	return `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd">w:` + code + `</faultcode><faultstring>` + text + `</faultstring></e:Fault></e:Body></e:Envelope>`
}

func TestExplain(t *testing.T) {
	challenge := func(text string) http.Header { return http.Header{"Www-Authenticate": {text}} }
	with := func(name, text string) http.Header { return http.Header{name: {text}} }
	date := func(h http.Header, moment string) http.Header { h.Set("Date", moment); return h }
	cases := []struct {
		name string
		step step
		want string // "" means that nothing is said
	}{
		{"no credentials, no challenge", step{status: 401}, "no credentials were sent at all"},
		{
			"credentials, but no challenge",
			step{status: 401, sent: with("Authorization", "Bearer x"), context: result.Context{Login: "clerk"}},
			"",
		},
		{
			"expired by the service's clock",
			step{
				status: 401, sent: with("Authorization", "Bearer "+jwt(`{"exp": 1795420800}`)),
				header:  date(challenge("Bearer"), "Mon, 23 Nov 2026 09:00:00 GMT"),
				context: result.Context{Login: "c"},
			},
			"the token expired 1h0m0s before the call",
		},
		{"not expired", step{
			status: 401, sent: with("Authorization", "Bearer "+jwt(`{"exp": 4102444800}`)),
			header: challenge("Bearer"), context: result.Context{Login: "c"},
		}, ""},
		{
			"expired, and from the bench itself",
			step{
				status: 401, sent: with("Authorization", "Bearer "+jwt(`{"exp": 1}`)),
				context: result.Context{Login: "c", Token: &login.Token{Fixed: true}},
			},
			"get a new one and seal it",
		},
		{
			"an opaque token whose life is known",
			step{
				status: 401, sent: with("Authorization", "Ticket x"),
				context: result.Context{
					Login: "c",
					Token: &login.Token{Expires: time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC)},
				},
			},
			"expired 1h0m0s",
		},
		{"audience", step{
			status: 401, sent: with("Authorization", "Bearer "+jwt(`{"aud": "hives"}`)),
			header:  challenge(`Bearer error="invalid_token", error_description="wrong audience"`),
			context: result.Context{Login: "c"},
		}, `perhaps the token is for another audience: it says "hives"`},
		{
			"scope",
			step{
				status: 403, header: challenge(`Bearer scope="a b"`),
				context: result.Context{Login: "c", Token: &login.Token{Scope: []string{"x", "y"}}},
			},
			"lacks the scope a b (it has: x y)",
		},
		{
			"issuer",
			step{
				status: 401, sent: with("Authorization", "Bearer "+jwt(`{"iss": "urn:a"}`)),
				header: challenge(`Bearer error_description="unknown issuer"`), context: result.Context{Login: "c"},
			},
			`perhaps the token is of another issuer: it says "urn:a"`,
		},
		{
			"not yet good",
			step{
				status: 401, sent: with("Authorization", "Bearer "+jwt(`{"nbf": 1795424400, "iat": 1}`)),
				header: date(challenge("Bearer"), "Mon, 23 Nov 2026 08:00:00 GMT"), context: result.Context{Login: "c"},
			},
			"not good before 1h0m0s after the call",
		},
		{
			"another kind of login",
			step{
				status: 401, sent: with("Authorization", "Basic x"), header: challenge(`Digest realm="r", nonce="n"`),
				context: result.Context{Login: "c"},
			},
			"the service asks for Digest: use a login of kind digest",
		},
		{
			"the second challenge is the one",
			step{
				status: 401, sent: with("Authorization", "Basic x"),
				header:  http.Header{"Www-Authenticate": {"Negotiate", `Basic realm="r"`}},
				context: result.Context{Login: "c"},
			},
			"",
		},
		{
			"wrong password",
			step{
				status: 401, sent: with("Authorization", "Basic x"),
				header:  challenge(`Basic realm="r"`),
				context: result.Context{Login: "c", Token: &login.Token{User: "clerk", Text: "secret"}},
			},
			"the way in was right, so the user or password is wrong (user clerk)",
		},
		{
			"a blank in the password",
			step{
				status: 401, sent: with("Authorization", "Basic x"), header: challenge(`Basic realm="r"`),
				context: result.Context{Login: "c", Token: &login.Token{User: "clerk", Text: "secret "}},
			},
			"perhaps it was sealed with one too much",
		},
		{
			"a proxy",
			step{status: 407, header: with("Proxy-Authenticate", "Basic realm=x")},
			"a proxy on the way that asks for Basic",
		},
		{
			"a certificate is expected",
			step{status: 400, answer: "<title>400 No required SSL certificate was sent</title>"},
			"the service wants a client certificate",
		},
		{
			"stale by the clock",
			step{
				status: 403, signed: "GET",
				header: date(http.Header{}, "Mon, 23 Nov 2026 09:00:00 GMT"), context: result.Context{Login: "c"},
			},
			"the server's clock is 1h0m0s ahead of the one here: time stamps",
		},
		{"perhaps the clock", step{
			status: 401, header: date(http.Header{}, "Mon, 23 Nov 2026 07:00:00 GMT"),
			context: result.Context{Login: "c"},
		}, "perhaps it is the clock: the server's clock is 1h0m0s slow"},
		{
			"stale though the clocks agree",
			step{
				status: 403, signed: "GET", answer: `{"message": "stamp too old"}`,
				header:  date(with("Content-Type", "application/json"), "Mon, 23 Nov 2026 08:00:00 GMT"),
				context: result.Context{Login: "c"},
			},
			"the clocks agree",
		},
		{
			"another line was signed",
			step{
				status: 403, signed: "GET\nh\n/lots\na=1",
				answer: `{"message": "expected \"GET\nh\n/stores/lots\na=1\""}`,
				header: with("Content-Type", "application/json"), context: result.Context{Login: "c"},
			},
			`line 3 of what was signed is "/lots" here, and the service expected "/stores/lots"`,
		},
		{
			"a line too few was signed",
			step{
				status: 403, signed: "GET\n/lots", answer: "it should be 'GET\n/lots\nabcdef'",
				header: with("Content-Type", "text/html"), context: result.Context{Login: "c"},
			},
			`has a line more: "abcdef" (line 3)`,
		},
		{
			"a line too many was signed",
			step{
				status: 403, signed: "GET\n/stores/lots\nx", answer: "it should be 'GET\n/stores/lots'",
				header: with("Content-Type", "text/html"), context: result.Context{Login: "c"},
			},
			`has a line more than the service expected: "x" (line 3)`,
		},
		{
			"the same was signed",
			step{
				status: 403, signed: "GET\n/stores/lots", answer: "it should be 'GET\n/stores/lots'",
				header: with("Content-Type", "text/html"), context: result.Context{Login: "c"},
			},
			"perhaps the key is another",
		},
		{
			"what was signed",
			step{status: 403, signed: "GET\n/stores/lots", context: result.Context{Login: "c"}},
			`what was signed here is "GET\n/stores/lots"`,
		},
		{
			"a page to log in",
			step{
				status: 200, answer: `<form><input type="password"></form>`,
				header: with("Content-Type", "text/html"),
				hops:   []exchange.Hop{{From: "http://h/lots", To: "http://h/in"}},
			},
			"asks a person to log in, after a redirect from http://h/lots; no login was used",
		},
		{
			"a session that is over",
			step{
				status: 200, answer: `<form><input name=p type='password'></form>`,
				header: with("Content-Type", "text/html"), context: result.Context{Login: "office"},
			},
			"perhaps the login office is not what the service wants, or its session is over",
		},
		{
			"on the way to TLS",
			step{
				address: "http://h/lots", status: 401,
				hops:    []exchange.Hop{{From: "http://h/lots", To: "https://h/lots"}},
				context: result.Context{Login: "c"},
			},
			"the service leads from http to https, and credentials do not go along",
		},
		{"TLS is expected", step{status: 426, header: with("Upgrade", "TLS/1.2, HTTP/1.1")}, "the service wants TLS"},
		{
			"a header or cookie where Authorization is asked for",
			step{status: 401, header: challenge(`Bearer realm="r"`), context: result.Context{Login: "office"}},
			"the login office sends no Authorization, and the service asks for Bearer there",
		},
		{"emptied on purpose", step{
			status: 401, sent: with("Authorization", "Bearer"),
			header: challenge(`Bearer realm="r"`), context: result.Context{Login: "c", Spoilt: "empty"},
		}, ""},
		{
			"signed, but asked for something else",
			step{
				status: 401, signed: "GET", header: challenge(`Bearer realm="r"`),
				context: result.Context{Login: "c"},
			},
			"the service asks for Bearer there",
		},
		{
			"a redirect that was expected",
			step{
				status: 200, hops: []exchange.Hop{{Status: 302, From: "http://h/lots", To: "http://h/in?code=k"}},
				checks: []result.Check{{Kind: "expect", Subject: "status", Expected: "301 or 302", Got: "200", Judged: true}},
			},
			"the answer was 302, and its redirect was followed; write redirects: off at the step",
		},
		{
			"a stamp in what is quoted",
			step{
				status: 403, signed: "GET\n/stores/lots?Timestamp=1",
				answer: `expected "GET\n/stores/lots?Timestamp=1"`,
				header: with("Content-Type", "text/html"), context: result.Context{Login: "c"},
			},
			"perhaps the key is another",
		},
		{
			"no Security header",
			step{
				method: "POST", status: 500, answer: fault("InvalidSecurity", "no"),
				header: with("Content-Type", "text/xml"), context: result.Context{SOAP: "1.1"},
			},
			"the envelope had no Security header",
		},
		{"nothing encrypted", step{
			method: "POST", status: 500,
			body: `<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd">`, answer: fault("InvalidSecurity", "must be encrypted"), header: with("Content-Type", "text/xml"), context: result.Context{SOAP: "1.1"},
		}, "nothing in the envelope was encrypted"},
		{
			"a password in plain",
			step{
				method: "POST", status: 500,
				body: `<wsse:Security xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><wsse:Password Type="x#PasswordText">`, answer: fault("FailedAuthentication", "no"), header: with("Content-Type", "text/xml"), context: result.Context{SOAP: "1.1"},
			},
			"perhaps the service wants it as a digest",
		},
		{"a digest is expected", step{
			method: "POST", status: 500,
			body: `<wsse:Security xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><wsse:Password Type="x#PasswordText">`, answer: fault("FailedAuthentication", "a digest is needed"), header: with("Content-Type", "text/xml"), context: result.Context{SOAP: "1.1"},
		}, "and the service wants it as a digest"},
		{
			"a message that expired",
			step{
				method: "POST", status: 500, body: `<wsu:Created>2026`, answer: fault("MessageExpired", "too old"),
				header:  date(with("Content-Type", "text/xml"), "Mon, 23 Nov 2026 08:30:00 GMT"),
				context: result.Context{SOAP: "1.1"},
			},
			"the server's clock is 30m0s ahead",
		},
		{"415 without a type", step{method: "POST", status: 415, body: "x"}, "the request had no Content-Type"},
		{
			"415 without a body",
			step{method: "POST", status: 415, sent: with("Accept", "application/json")},
			"the request had no body",
		},
		{
			"415 for what is asked for",
			step{method: "GET", status: 415, sent: with("Accept", "text/plain")},
			"none of what Accept asks for (text/plain)",
		},
		{
			"SOAP 1.2 where 1.1 is spoken",
			step{
				method: "POST", status: 415, sent: with("Content-Type", "application/soap+xml"),
				context: result.Context{SOAP: "1.2"},
			},
			"perhaps the service speaks 1.1",
		},
		{"action empty", step{
			method: "POST", status: 500, answer: "unknown SOAPAction", sent: with("SOAPAction", `""`),
			context: result.Context{SOAP: "1.1"},
		}, "SOAPAction was sent empty"},
		{
			"action in 1.2",
			step{
				method: "POST", status: 500, answer: "no SOAP action",
				sent: with("Content-Type", "application/soap+xml"), context: result.Context{SOAP: "1.2"},
			},
			"the action goes into the content type",
		},
		{"an action of the trade in a fault", step{
			method: "POST", status: 500, answer: fault("Server", "this action is not allowed on a Sunday: transaction 7"),
			header: with("Content-Type", "text/xml"), sent: with("SOAPAction", `"urn:a"`),
			context: result.Context{SOAP: "1.1"},
		}, ""},
		{"action by WS-Addressing", step{
			method: "POST", status: 500, answer: fault("ActionNotSupported", "no"),
			header: with("Content-Type", "text/xml"), sent: with("SOAPAction", `"urn:a"`),
			context: result.Context{SOAP: "1.1"},
		}, `SOAPAction was sent as "urn:a"; the service wants another`},
		{
			"a sentence for a challenge",
			step{status: 401, header: challenge("Access denied")},
			"the service asks for a login without naming its scheme (WWW-Authenticate: Access denied)",
		},
		{"a sentence, and credentials", step{
			status: 401, sent: with("Authorization", "Bearer x"),
			header: challenge("Access denied"), context: result.Context{Login: "c"},
		}, ""},
		{"an empty 406", step{
			status: 406, header: with("Content-Type", "text/html"), sent: with("Accept", "application/json"),
		}, "the service has nothing in the form that Accept asks for (application/json)"},
		{"nothing is not a page", step{status: 410, header: with("Content-Type", "text/html")}, ""},
		{"406 without Accept", step{status: 406}, "no Accept was sent"},
		{"two slashes", step{
			status: 404, address: "http://h/api//lots", context: result.Context{Paths: []string{"/lots"}},
		}, "two slashes in a row (/api//lots)"},
		{"429", step{status: 429}, "perhaps a quota is used up; write again: {times: 5, pause: 1 s, on: [429]}"},
		{
			"503 with Retry-After",
			step{status: 503, header: with("Retry-After", "7")},
			"no more requests for now (Retry-After: 7); write again: {times: 5, pause: 1 s, on: [503]}",
		},
		{"503 without", step{status: 503}, ""},
		{"near path", step{
			status: 404, address: "http://h/lotz",
			context: result.Context{Paths: []string{"/lots", "/barrels"}},
		}, "perhaps /lots is meant"},
		{"no near path", step{status: 404, address: "http://h/x"}, "nothing is at /x"},
		{"405 without Allow", step{method: "DELETE", status: 405}, "the method DELETE is not allowed there"},
		{"412", step{method: "PUT", status: 412}, "read the record again"},
		{"428", step{method: "PUT", status: 428}, "the service wants If-Match"},
		{"field in the query", step{
			status: 400, address: "http://h/lots?grade=X",
			answer: `{"message": "bad", "field": "grade"}`,
		}, `grade was sent as "X"`},
		{
			"field with its place",
			step{status: 400, address: "http://h/lots?grade=X", answer: `{"message": "bad", "field": "query.grade"}`},
			`grade was sent as "X"`,
		},
		{
			"field deep in a body",
			step{
				method: "POST", status: 400, body: `{"moisture": 25}`,
				answer: `{"errors": [{"detail": "too high", "target": "intake/moisture"}]}`,
			},
			"moisture was sent as 25",
		},
		{
			"HTML without a title",
			step{status: 200, header: with("Content-Type", "text/html"), answer: "<html>"},
			"the answer is an HTML page, not data; perhaps",
		},
		{
			"JSON that is called text",
			step{status: 200, header: with("Content-Type", "application/json"), answer: "<a/>"},
			"but it looks like XML; write answer as: xml",
		},
		{
			"lines that are called JSON",
			step{status: 200, header: with("Content-Type", "application/json"), answer: "{\"lot\": 1}\n{\"lot\": 2}\n"},
			"but it looks like lines of JSON; write answer as: lines",
		},
		{
			"JSON that is called a page",
			step{status: 200, header: with("Content-Type", "text/html"), answer: `{"lot": "L-1"}`},
			"but it looks like JSON; write answer as: json",
		},
		{"an error under 200", step{
			status: 200, header: with("Content-Type", "application/json"),
			answer: `{"error": "locked"}`,
		}, "the body carries an error"},
		{"no error under 200", step{
			status: 200, header: with("Content-Type", "application/json"),
			answer: `{"error": null, "errors": [], "fault": ""}`,
		}, ""},
		{"refused", step{failure: &exchange.Failure{Kind: exchange.Refused}}, "is 127.0.0.1:9 the right port?"},
		{"the proxy", step{failure: &exchange.Failure{Kind: exchange.NoProxy}}, "check proxy: at the site"},
		{
			"refused by the stand-in",
			step{address: "http://127.0.0.1:8720/x", failure: &exchange.Failure{Kind: exchange.Refused}},
			"testbench standin",
		},
		{"unknown host", step{failure: &exchange.Failure{Kind: exchange.Unknown}}, "check the host's name"},
		{"reset", step{failure: &exchange.Failure{Kind: exchange.Reset}}, "another protocol"},
		{
			"reset over TLS",
			step{address: "https://h/", failure: &exchange.Failure{Kind: exchange.Reset}},
			"client certificate",
		},
		{
			"certificate for another name",
			step{failure: &exchange.Failure{Kind: exchange.BadCertificate, Message: "is for another name: x"}},
			"by the name in its certificate",
		},
		{
			"expired certificate",
			step{failure: &exchange.Failure{Kind: exchange.BadCertificate, Message: "expired on"}},
			"the clock here says 2026-11-23",
		},
		{"too slow", step{failure: &exchange.Failure{Kind: exchange.TimedOut}}, "raise timeout"},
		{
			"nginx on a TLS port",
			step{status: 400, answer: "The plain HTTP request was sent to HTTPS port"},
			"write https://",
		},
		{"the issuer is away", step{context: result.Context{LoginFail: &login.Error{Record: &exchange.Record{Request: &exchange.Request{URL: &url.URL{Host: "127.0.0.1:1"}}, Failure: &exchange.Failure{Kind: exchange.Refused}}}}}, "is 127.0.0.1:1 the right port?"},
		{
			"the issuer says why",
			step{context: result.Context{LoginFail: &login.Error{Try: "turn it round"}}},
			"turn it round",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := c.step.explain(t)
			if c.want == "" {
				assert.Empty(t, got.Hints)
				return
			}
			assert.Contains(t, strings.Join(got.Hints, "\n"), c.want)
			assert.LessOrEqual(t, len(got.Hints), 3)
		})
	}
}

// What a service says is found wherever it says it.
func TestSays(t *testing.T) {
	cases := []struct{ contentType, answer, want string }{
		{
			"application/json", `{"error": {"code": "x", "message": "too moist", "field": "moisture"}}`,
			`response from ledger: "too moist" (field moisture)`,
		},
		{"application/problem+json", `{"title": "Bad", "detail": "too moist"}`, `response from ledger: "too moist"`},
		{
			"application/json", `{"error": "invalid_grant", "error_description": "wrong password"}`,
			`response from ledger: "wrong password"`,
		},
		{
			"application/json", `[{"message": "first"}, {"message": "second"}]`,
			`response from ledger: "first"; "second"`,
		},
		{"text/plain", "too moist\nand more", `response from ledger: "too moist"`},
		{"text/plain", strings.Repeat("long ", 100), ""},
		{"application/xml", "<e><message>too moist</message></e>", `response from ledger: "too moist"`},
		{"application/json", `{}`, ""},
		{"application/json", `{"a": {"b": {"c": {"d": {"e": {"f": {"g": {"message": "too deep"}}}}}}}}`, ""},
	}
	for _, c := range cases {
		got := step{
			status: 422, header: http.Header{"Content-Type": {c.contentType}}, answer: c.answer,
			context: result.Context{Service: "ledger"},
		}.explain(t)
		assert.Equal(t, c.want, got.Response, c.answer)
	}
	passed := &result.Step{Outcome: result.Passed}
	hint.Explain(passed)
	assert.Empty(t, passed.Hints)
	alone := &result.Step{Outcome: result.Errored, Reason: fmt.Sprint(errors.New("x"))}
	hint.Explain(alone)
	assert.Empty(t, alone.Hints)
}
