// Package hint says why a step failed and what to try, from what was
// really sent and received. What is not certain is said with "perhaps". It
// judges nothing and sends nothing.
package hint

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/lazy"
	"testbench/internal/login"
	"testbench/internal/result"
	"testbench/internal/soap"
	"testbench/internal/suggest"
)

// evidence is what a hint goes by.
type evidence struct {
	*result.Step
	record *exchange.Record
	answer *exchange.Answer // nil when none came
}

// rules are tried in order; the first few that have something to say are kept.
var rules = []func(*evidence) string{
	loginRefused, unreachable, notAllowed, wrongTLS, certificate, timedOut,
	noCertificate, proxyLogin, noCredentials, schemeWord, noSecurity, digestWanted, strayBlank, staleStamp, expired,
	notYet, wrongClaims, insufficientScope, signedOtherwise, wrongPassword, wentToTLS, loginPage,
	soapVersion, soapAction, mediaType, notAcceptable, doubleSlash, unknownPath, wrongMethod, conflict, tooMany,
	brokenBody, namedField, htmlAnswer, unreadable, errorUnderSuccess, redirectKept, redirectFollowed,
}

const mostHints = 3

// Explain adds hints to a step that failed, and what the service itself
// says. A step that passed gets none.
func Explain(step *result.Step) {
	if step.Outcome == result.Passed || step.Outcome == result.NotRun || step.Outcome == result.Interrupted {
		return
	}
	e := &evidence{Step: step, record: step.Last()}
	if e.record != nil && step.Reply == nil && e.record.Answer != nil {
		return // a call that came in: nothing answered us
	}
	if e.record != nil {
		e.answer = e.record.Answer
	}
	step.Response = says(e)
	for _, rule := range rules {
		if text := rule(e); text != "" {
			step.Hints = append(step.Hints, text)
			if len(step.Hints) == mostHints {
				return
			}
		}
	}
}

// Message is what an error answer says, wherever it says it.
type Message struct {
	Text, Field string
}

// ReadMessage gives the words of an error answer.
func ReadMessage(step *result.Step) Message {
	if step.Reply == nil {
		return Message{}
	}
	said := step.Reply.Error()
	if said == nil {
		return Message{}
	}
	return Message{Text: said.Text, Field: said.Target}
}

func says(e *evidence) string {
	if e.answer == nil || e.answer.Status < 400 && e.Reply.Error() == nil {
		return ""
	}
	m := ReadMessage(e.Step)
	if m.Text == "" {
		// RFC 6750, section 3: the challenge says what is wrong.
		for _, c := range login.Challenges(e.answer.Status, e.answer.Header) {
			if m.Text = c.Parameters["error_description"]; m.Text == "" {
				m.Text = c.Parameters["error"]
			}
		}
	}
	if m.Text == "" {
		return ""
	}
	text := fmt.Sprintf("response from %s: %q", cmp.Or(e.Context.Service, "the service"), m.Text)
	if m.Field != "" {
		text += fmt.Sprintf(" (field %s)", m.Field)
	}
	if said := e.Reply.Error(); said != nil {
		for i, d := range said.Details {
			if i == mostDetails {
				text += fmt.Sprintf("; and %d more", len(said.Details)-mostDetails)
				break
			}
			text += fmt.Sprintf("; %q", d.Text)
			if d.Target != "" {
				text += fmt.Sprintf(" (field %s)", d.Target)
			}
		}
	}
	return text
}

// mostDetails is how many mistakes of one answer are told.
const mostDetails = 5

func (e *evidence) status(codes ...int) bool {
	if e.answer == nil {
		return false
	}
	for _, code := range codes {
		if e.answer.Status == code {
			return true
		}
	}
	return false
}

// Connections

func unreachable(e *evidence) string {
	if e.record == nil || e.record.Failure == nil {
		return ""
	}
	return Unreached(e.record)
}

// Unreached says what to try where an exchange failed.
func Unreached(record *exchange.Record) string {
	host := record.Request.URL.Host
	switch record.Failure.Kind {
	case exchange.Refused:
		if strings.Contains(host, ":8720") {
			return "is the stand-in running? Start it with `testbench standin`"
		}
		return fmt.Sprintf(
			"is the service running, and is %s the right port? In a bench, the site's values say where it is", host)
	case exchange.NoProxy:
		return "check proxy: at the site, its address and its login; without one the environment names it " +
			"(HTTP_PROXY, HTTPS_PROXY, NO_PROXY)"
	case exchange.Unknown:
		return "check the host's name in the site's values; perhaps it is known only inside another network"
	case exchange.Reset:
		if record.Request.URL.Scheme == "https" {
			// In TLS 1.3 a missing certificate is told only after the handshake, and
			// often by closing the connection alone.
			return "perhaps the service wants a client certificate: tls: certificate: and key: at the site"
		}
		return "perhaps the port speaks another protocol, or the service fell over at this request; its own log " +
			"would tell"
	case exchange.CutOff:
		return "the service or something before it ended the connection: the length it promised and what it sent do " +
			"not agree"
	case exchange.TooLarge:
		return "save it to a file (call -save FILE), or allow more with -most"
	}
	return ""
}

func notAllowed(e *evidence) string {
	if e.record == nil || e.record.Failure == nil || e.record.Failure.Kind != exchange.NotAllowed {
		return ""
	}
	return "if it is right, name the host in the site's values or with -allow " + e.record.Request.URL.Hostname()
}

// plainToTLS matches what common servers say when plain HTTP reaches a port
// that speaks TLS.
var plainToTLS = lazy.Regexp(
	`(?i)HTTP request to an HTTPS server|plain HTTP to an SSL|plain HTTP request was sent to HTTPS`)

func wrongTLS(e *evidence) string {
	if e.status(400) && plainToTLS().Match(e.answer.Body) {
		return "the port speaks TLS: write https:// in the address"
	}
	if e.record == nil || e.record.Failure == nil || e.record.Failure.Kind != exchange.BadTLS {
		return ""
	}
	switch text := e.record.Failure.Message; {
	case strings.Contains(text, "plain HTTP on this port"), strings.Contains(text, "does not speak TLS"):
		return "write http:// in the address, or use the port that speaks TLS"
	case strings.Contains(text, "speaks TLS"):
		return "write https:// in the address"
	case strings.Contains(text, "certificate required"), strings.Contains(text, "bad certificate"),
		strings.Contains(text, "handshake failure"):
		return "perhaps the service wants a client certificate: tls: certificate: and key: at the site"
	}
	return ""
}

func certificate(e *evidence) string {
	if e.record == nil || e.record.Failure == nil || e.record.Failure.Kind != exchange.BadCertificate {
		return ""
	}
	switch text := e.record.Failure.Message; {
	case strings.Contains(text, "not known here"):
		return "if the authority is right, put its certificate into a file and name it: tls: ca: FILE at the site; " +
			"-insecure goes on without checking"
	case strings.Contains(text, "another name"):
		return "call the service by the name in its certificate, or have the certificate made for this one"
	}
	return "the service needs a new certificate; the clock here says " + e.record.Started.Format(time.RFC3339)
}

func timedOut(e *evidence) string {
	if e.record == nil || e.record.Failure == nil || e.record.Failure.Kind != exchange.TimedOut {
		return ""
	}
	if a := e.answer; a != nil && (strings.HasPrefix(a.ContentType(), "text/event-stream") || beginsWithLine(a.Body)) {
		return "the service keeps its stream open: stream: {quiet: 2 s} at the step or the operation takes what came"
	}
	return "if the service needs longer, raise timeout: at the step, the service or the site, or give -timeout"
}

// beginsWithLine says whether a body begins with a JSON object on a line of its own, as streams do.
func beginsWithLine(body []byte) bool {
	line, _, isWhole := bytes.Cut(bytes.TrimLeft(body, "\r\n"), []byte("\n"))
	return isWhole && bytes.HasPrefix(line, []byte("{")) && json.Valid(line)
}

// SOAP

func soapVersion(e *evidence) string {
	if e.answer == nil || e.Context.SOAP == "" {
		return ""
	}
	other := soap.V12
	if e.Context.SOAP == string(soap.V12) {
		other = soap.V11
	}
	mismatch := e.status(415)
	if fault := e.Reply.Fault(); fault != nil {
		mismatch = mismatch || fault.Code == "VersionMismatch"
	}
	if !mismatch {
		return ""
	}
	return fmt.Sprintf("the request was SOAP %s (%s); perhaps the service speaks %s: set soap: %s", e.Context.SOAP,
		e.record.Request.GetHeader("Content-Type"), other, other)
}

// namesAction matches what common servers say of an action that is not one of theirs. The word
// alone says nothing: a fault may speak of an action of the trade, or of a transaction.
var namesAction = lazy.Regexp(
	`(?i)\bsoap[ _-]?action\b|\bwsa:?[ _-]?action\b|ContractFilter|message with action\b|given action\b`)

func soapAction(e *evidence) string {
	if e.answer == nil || e.Context.SOAP == "" {
		return ""
	}
	fault := e.Reply.Fault()
	if fault == nil && e.answer.Status < 400 {
		return ""
	}
	// The code is that of WS-Addressing 1.0, SOAP Binding, section 6.4.2.6.
	isSaid := fault != nil && (fault.Code == "ActionNotSupported" || fault.Subcode == "ActionNotSupported")
	if !isSaid && !namesAction().MatchString(ReadMessage(e.Step).Text) {
		return ""
	}
	sent := e.record.Request.GetHeader("SOAPAction")
	if e.Context.SOAP == string(soap.V12) {
		return "the action goes into the content type in SOAP 1.2; sent was: " +
			e.record.Request.GetHeader("Content-Type")
	}
	if sent == `""` || sent == "" {
		return "SOAPAction was sent empty; set action: at the operation or the step"
	}
	return fmt.Sprintf("SOAPAction was sent as %s; the service wants another, as its contract says under soapAction",
		sent)
}

// Requests

func mediaType(e *evidence) string {
	if !e.status(415) || e.Context.SOAP != "" {
		return ""
	}
	sent := e.record.Request.GetHeader("Content-Type")
	method, accept := e.record.Request.Method, e.record.Request.GetHeader("Accept")
	switch {
	case sent == "" && len(e.record.Request.Body) == 0 && (method == "POST" || method == "PUT" || method == "PATCH"):
		return "the request had no body, and so no Content-Type; perhaps the service wants one"
	case sent == "" && len(e.record.Request.Body) == 0 && accept != "":
		return fmt.Sprintf("perhaps the service sends none of what Accept asks for (%s); it should say so with 406",
			accept)
	case sent == "":
		return "the request had no Content-Type; set it under headers:"
	}
	return fmt.Sprintf("the body was sent as %s; set another Content-Type under headers:, or give the body in "+
		"another form (body:, form:, text:)", sent)
}

// notAcceptable tells 406 (RFC 9110, 15.5.7).
func notAcceptable(e *evidence) string {
	if !e.status(406) {
		return ""
	}
	accept := e.record.Request.GetHeader("Accept")
	if accept == "" {
		return "no Accept was sent, and the service wants one it can serve: set Accept under headers:"
	}
	return fmt.Sprintf("the service has nothing in the form that Accept asks for (%s): set Accept under headers:",
		accept)
}

// doubleSlash tells an address that ends in a slash, before a path that begins with one.
func doubleSlash(e *evidence) string {
	if !e.status(400, 404, 405) || !strings.Contains(e.record.Request.URL.Path, "//") {
		return ""
	}
	return fmt.Sprintf("the path has two slashes in a row (%s): perhaps the address of the service ends in one; "+
		"take it away there, or in the site's value", e.record.Request.URL.Path)
}

// tooMany tells 429 (RFC 6585, section 4) and an overloaded service (RFC 9110, 15.6.4).
func tooMany(e *evidence) string {
	after := ""
	if e.answer != nil {
		after = e.answer.Header.Get("Retry-After")
	}
	text := "the service takes no more requests for now"
	switch {
	case e.status(429):
	case e.status(503) && after != "":
	default:
		return ""
	}
	if after != "" {
		text += fmt.Sprintf(" (Retry-After: %s)", after)
	}
	if e.status(429) {
		text += ": perhaps a quota is used up"
	}
	return text + fmt.Sprintf("; write again: {times: 5, pause: 1 s, on: [%d]} at the step: it waits as long as the "+
		"service asks",
		e.answer.Status)
}

func unknownPath(e *evidence) string {
	if !e.status(404) || doubleSlash(e) != "" {
		return ""
	}
	path := e.record.Request.URL.Path
	for _, known := range e.Context.Paths {
		if known != "" && pathForm(known).MatchString(path) {
			return "" // the path is right; what it names is not there
		}
	}
	if found := suggest.Closest(path, e.Context.Paths); found != "" {
		return fmt.Sprintf("the path was %s; perhaps %s is meant", path, found)
	}
	for _, known := range e.Context.Paths {
		if known != "" && len(path) > len(known) {
			if found := suggest.Closest(path[len(path)-len(known):], []string{known}); found != "" {
				return fmt.Sprintf("the path was %s; perhaps it should end in %s", path, found)
			}
		}
	}
	if ReadMessage(e.Step).Text != "" {
		return ""
	}
	return "nothing is at " + path + ": check the path, and the address of the service at this site"
}

// parameterForm finds what stands for a parameter in a path that was quoted.
var parameterForm = lazy.Regexp(`\\\{[^}]*\\\}`)

// pathForm matches the addresses that end in a path with parameters in braces.
func pathForm(path string) *regexp.Regexp {
	return regexp.MustCompile(parameterForm().ReplaceAllString(regexp.QuoteMeta(path), "[^/]+") + "$")
}

func wrongMethod(e *evidence) string {
	if !e.status(405) {
		return ""
	}
	allowed := e.answer.Header.Get("Allow")
	if allowed == "" {
		return "the method " + e.record.Request.Method + " is not allowed there"
	}
	return fmt.Sprintf("the method %s is not allowed there; allowed: %s", e.record.Request.Method, allowed)
}

func conflict(e *evidence) string {
	switch {
	case e.status(412) && e.record.Request.GetHeader("If-Match") == "":
		return "a condition of the request was not met (RFC 9110, 15.5.13), and no If-Match was sent: read the " +
			"record again, and send its version (reply.headers.ETag) as If-Match under headers:"
	case e.status(412):
		return "If-Match names a version that is not the present one: read the record again, keep reply.headers.ETag " +
			"and send that"
	case e.status(428):
		return "the service wants If-Match: keep reply.headers.ETag of a read and send it under headers:"
	}
	return ""
}

// brokenBody finds JSON that a value with quotes broke.
func brokenBody(e *evidence) string {
	if !e.status(400, 422, 500) || e.record.Request.Body == nil || e.Context.BodyKind == "body" {
		return ""
	}
	if document.FormatOf(e.record.Request.GetHeader("Content-Type"), e.record.Request.Body) != document.JSON {
		return ""
	}
	if _, err := document.ReadJSON(e.record.Request.Body); err != nil {
		text := "what was sent is " + err.Error()
		if strings.Contains(string(e.record.Request.Body), `"`) {
			text += "; perhaps a value with quotes was put in with | raw, which turns escaping off"
		}
		return text
	}
	return ""
}

// namedField says what was sent in the field that the service complains of.
// fieldPlace is where a field stood, as many services say it in front of the name.
var fieldPlace = lazy.Regexp(`^[./]?(body|query|params|path|headers?|cookies)[./]`)

func namedField(e *evidence) string {
	if e.answer == nil {
		return ""
	}
	field := ReadMessage(e.Step).Field
	if field == "" || e.status(401, 403, 404) {
		return ""
	}
	if strings.Contains(field, "[") {
		return "" // what was sent there is inside a list
	}
	field = fieldPlace().ReplaceAllString(field, "")
	last := field[strings.LastIndexAny(field, "./")+1:]
	sent, ok := e.Context.Filled[last]
	if !ok {
		if text := e.record.Request.GetHeader(field); text != "" {
			return fmt.Sprintf("the header %s was sent as %q", field, text)
		}
		if values, ok := e.record.Request.URL.Query()[field]; ok {
			return fmt.Sprintf("%s was sent as %q", field, strings.Join(values, ", "))
		}
		if node, err := document.ReadJSON(e.record.Request.Body); err == nil {
			if v := node.Get(last); v != nil {
				return fmt.Sprintf("%s was sent as %s", last, v.Describe())
			}
		}
		return fmt.Sprintf("%s was not sent", field)
	}
	text := fmt.Sprintf("%s was sent as %s", last, sent)
	source := e.Context.Sources[last]
	switch {
	case strings.HasPrefix(source, "${row.") && e.Context.Row != "":
		text += " from " + e.Context.Row
	case source != "":
		text += " from " + source
	}
	return text
}

// Answers

func htmlAnswer(e *evidence) string {
	if e.answer == nil || e.Reply.Format != document.HTML || loginPage(e) != "" || e.status(401, 407) ||
		len(e.answer.Body) == 0 || e.Reply.LooksLike() != "" {
		return ""
	}
	text := "the answer is an HTML page, not data"
	if title := htmlTitle().FindSubmatch(e.answer.Body); title != nil {
		text += fmt.Sprintf(" (its title is %q)", strings.TrimSpace(string(title[1])))
	}
	return text + "; perhaps the address leads to a page for people, a login or a proxy"
}

var htmlTitle = lazy.Regexp(`(?is)<title[^>]*>([^<]{1,80})`)

func unreadable(e *evidence) string {
	if e.answer == nil || e.Reply == nil {
		return ""
	}
	switch other := e.Reply.LooksLike(); {
	case other != "":
		return fmt.Sprintf("the service calls it %s, but it looks like %s; write answer as: %s (at the step, the "+
			"operation or the service), or -as %[3]s for a call", e.answer.ContentType(), other, other.Reading())
	case e.Reply.Problem != nil && e.record.Request != nil && e.record.Request.AnswerAs != "":
		return fmt.Sprintf("the service calls it %s, and answer as: (-as in a call) says that it is read as %s",
			cmp.Or(e.answer.ContentType(), "nothing"), e.Reply.Format)
	case e.Reply.Problem != nil:
		return "see the body with -show received"
	}
	return ""
}

func errorUnderSuccess(e *evidence) string {
	if e.answer == nil || e.answer.Status > 299 || e.Reply == nil || e.Reply.Failed != nil || e.Reply.Error() == nil {
		return ""
	}
	if slices.ContainsFunc(e.Checks, func(c result.Check) bool { return c.Subject == "error" }) {
		return "" // it was checked
	}
	return fmt.Sprintf("the status is %d, but the body carries an error; check it with expect: error: none",
		e.answer.Status)
}

func redirectKept(e *evidence) string {
	if e.answer == nil || e.answer.Status < 300 || e.answer.Status > 399 || len(e.record.Notes) == 0 {
		return ""
	}
	if !strings.Contains(strings.Join(e.record.Notes, " "), "names that host") {
		return ""
	}
	return "if the redirect is right, name its host in the site's values or with -allow HOST"
}

func redirectFollowed(e *evidence) string {
	for _, c := range e.Checks {
		if c.Kind != "expect" || c.Subject != "status" || c.Passed || e.record == nil {
			continue
		}
		for _, hop := range e.record.Hops {
			if strings.Contains(c.Expected, strconv.Itoa(hop.Status)) || strings.Contains(c.Expected, "3xx") {
				return fmt.Sprintf("the answer was %d, and its redirect was followed; write redirects: off at the "+
					"step to judge the redirect itself", hop.Status)
			}
		}
	}
	return ""
}
