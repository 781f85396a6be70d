package login

import (
	"fmt"
	"strings"

	"testbench/internal/document"
	"testbench/internal/reply"
)

// refusal puts an error answer of RFC 6749, section 5.2, into words.
func refusal(r *reply.Reply, endpoint string) *Error {
	answer := r.Record.Answer
	e := &Error{Record: r.Record}
	code := textOf(r.Payload.Get("error"))
	switch location := answer.Header.Get("Location"); {
	case code != "":
	case answer.Status >= 300 && answer.Status < 400 && location != "":
		e.Message = fmt.Sprintf("the endpoint answered %d and leads to %s, where credentials were not sent",
			answer.Status, location)
		e.Try = "if that is where it is now, write its address into the login"
		return e
	case r.Format == document.HTML:
		e.Message = fmt.Sprintf("the %s answered %d: %s", endpoint, answer.Status, answerInWords(r))
		e.Try = fmt.Sprintf("an HTML page comes from a login page or a proxy, not from the %s: check the address",
			endpoint)
		return e
	default:
		e.Message = fmt.Sprintf("the %s answered %d: %s", endpoint, answer.Status, answerInWords(r))
		return e
	}
	e.Message = fmt.Sprintf("the %s refused with %d %s", endpoint, answer.Status, code)
	if description := textOf(r.Payload.Get("error_description")); description != "" {
		e.Message += ": " + description
	}
	e.Try = errorWords[code]
	if skew := Skew(r.Record); skew != 0 {
		e.Try = strings.TrimPrefix(e.Try+"; "+SkewInWords(skew), "; ")
	}
	return e
}

// errorWords explain the error codes of RFC 6749 (4.1.2.1, 5.2), RFC 8628 (3.5),
// RFC 8707 (2) and RFC 9449 (5).
var errorWords = map[string]string{
	"invalid_client": "the client or its secret is wrong, or the endpoint wants them in another way: " +
		"client authentication: " + strings.Join(ClientWays, ", "),
	"invalid_grant": "the user, the password, the code, the assertion or the refresh token is wrong or " +
		"no longer good",
	"invalid_scope":             "the scope is unknown, or more than this client may have",
	"unauthorized_client":       "this client may not use this grant",
	"unsupported_grant_type":    "the endpoint does not know this grant",
	"invalid_request":           "a parameter is missing or is there twice",
	"access_denied":             "the person or the server said no",
	"expired_token":             "the code was not typed in in time: start again",
	"invalid_target":            "the resource or audience is unknown, or not for this client",
	"invalid_dpop_proof":        "the proof of the key was not accepted",
	"unsupported_response_type": "the server gives no codes to this client",
	"server_error":              "the server fell over; its own log would tell",
	"temporarily_unavailable":   "the server is too busy; try later",
}

// answerInWords says shortly what an answer was: in the service's words where it has some.
func answerInWords(r *reply.Reply) string {
	a := r.Record.Answer
	said := r.Error()
	switch {
	case said != nil && r.Format != document.HTML:
		return said.String()
	case len(a.Body) == 0:
		return "an empty answer"
	case r.Format == document.JSON && r.Payload != nil:
		return r.Payload.Describe()
	case r.Format == document.HTML:
		return "an HTML page"
	}
	return fmt.Sprintf("%d bytes of %s", len(a.Body), a.ContentType())
}

func textOf(n *document.Node) string {
	if n == nil {
		return ""
	}
	return n.Value().Text
}
