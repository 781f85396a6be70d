package hint

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/login"
	"testbench/internal/soap"
)

// loginRefused passes on what a login says when no token could be had.
func loginRefused(e *evidence) string {
	failure := e.Context.LoginFail
	if failure == nil {
		return ""
	}
	if failure.Try != "" {
		return failure.Try
	}
	if failure.Record != nil && failure.Record.Failure != nil {
		return Unreached(failure.Record)
	}
	return ""
}

func (e *evidence) challenges() []login.Challenge {
	return login.Challenges(e.answer.Status, e.answer.Header)
}

// schemes lists what the service asks for, by the schemes it names; without one, the header as
// it came.
func (e *evidence) schemes() string {
	var names []string
	for _, c := range e.challenges() {
		if isScheme(c) && !slices.Contains(names, c.Scheme) {
			names = append(names, c.Scheme)
		}
	}
	if len(names) == 0 && len(e.challenges()) > 0 {
		return fmt.Sprintf("a login without naming its scheme (WWW-Authenticate: %s)",
			strings.Join(e.answer.Header.Values("WWW-Authenticate"), ", "))
	}
	return strings.Join(names, " or ")
}

// registered are the schemes of the IANA registry (RFC 9110, 16.4.1) and two in wide use.
var registered = []string{
	"basic", "bearer", "concealed", "digest", "dpop", "gnap", "hoba", "mutual", "negotiate", "oauth",
	"privatetoken", "scram-sha-1", "scram-sha-256", "vapid", "ntlm", "kerberos",
}

// isScheme says whether a challenge names a scheme: some services write a sentence there.
func isScheme(c login.Challenge) bool {
	return len(c.Parameters) > 0 && looksLikeScheme().MatchString(c.Scheme) ||
		slices.Contains(registered, strings.ToLower(c.Scheme))
}

// sentAuthorization returns scheme word and rest of the Authorization field.
func (e *evidence) sentAuthorization() (word, rest string) {
	word, rest, found := strings.Cut(e.record.Request.GetHeader("Authorization"), " ")
	if !found {
		return "", word
	}
	return word, rest
}

// isRefusal says whether the answer refuses who asks: by status, or by a fault of
// WS-Security (1.1, section 12).
func (e *evidence) isRefusal() bool {
	if e.status(401, 403, 407) {
		return true
	}
	return e.securityFault() != ""
}

var securityFaults = []string{
	"UnsupportedSecurityToken", "UnsupportedAlgorithm", "InvalidSecurity",
	"InvalidSecurityToken", "FailedAuthentication", "FailedCheck", "SecurityTokenUnavailable", "MessageExpired",
}

// securityFault gives the fault code of WS-Security that came back, or "".
func (e *evidence) securityFault() string {
	if e.Reply == nil {
		return ""
	}
	fault := e.Reply.Fault()
	if fault == nil {
		return ""
	}
	for _, code := range securityFaults {
		if fault.Code == code || fault.Subcode == code {
			return code
		}
	}
	return ""
}

var wantsCertificate = lazy.Regexp(
	`(?i)no required SSL certificate|client certificate|SSL certificate (was )?(required|sent)`)

func noCertificate(e *evidence) string {
	if !e.status(400, 401, 403, 495, 496) || !wantsCertificate().Match(e.answer.Body) ||
		e.record.Request.Certificate != nil {
		return ""
	}
	return "the service wants a client certificate: a login of kind certificate, or tls: certificate: and key: at " +
		"the site"
}

func proxyLogin(e *evidence) string {
	if !e.status(http.StatusProxyAuthRequired) {
		return ""
	}
	return fmt.Sprintf("it is not the service but a proxy on the way that asks for %s: write proxy: with its "+
		"address: and login: at the site, or pass it by with NO_PROXY", e.schemes())
}

func noCredentials(e *evidence) string {
	if !e.status(401, 403) || e.record.Request.GetHeader("Authorization") != "" || e.Context.Spoilt != "" {
		return ""
	}
	schemes := e.schemes()
	switch {
	case e.Context.Login == "" && schemes == "":
		return "no login was used: no credentials were sent at all; add login: to the step or to the service (or " +
			"-login NAME)"
	case e.Context.Login == "":
		return "no login was used: no credentials were sent at all; the service asks for " + schemes +
			"; add login: to the step or to the service (or -login NAME)"
	case schemes != "":
		return fmt.Sprintf("the login %s sends no Authorization, and the service asks for %s there", e.Context.Login,
			schemes)
	}
	return ""
}

var looksLikeScheme = lazy.Regexp(`^[A-Za-z][A-Za-z0-9-]{2,19}$`)

func schemeWord(e *evidence) string {
	if !e.status(401) || e.record.Request.GetHeader("Authorization") == "" || e.Context.Spoilt != "" {
		return ""
	}
	word, _ := e.sentAuthorization()
	first := slices.IndexFunc(e.challenges(), isScheme)
	if first < 0 || login.Asks(e.challenges(), word) != nil {
		return ""
	}
	asked := e.challenges()[first].Scheme
	switch {
	case word == "":
		return fmt.Sprintf("Authorization was sent without a scheme; the service asks for %q before the token "+
			"(scheme: %s)", asked, asked)
	case kindOfScheme[asked] != "":
		return fmt.Sprintf("Authorization was sent with the scheme %q; the service asks for %s: use a login of kind %s",
			word, e.schemes(), kindOfScheme[asked])
	}
	return fmt.Sprintf("Authorization was sent with the scheme %q; the service asks for %q (scheme: %s)", word, asked,
		asked)
}

// kindOfScheme names the login for schemes that are more than a word.
var kindOfScheme = map[string]string{
	"Basic": "basic", "Digest": "digest", "Negotiate": "kerberos", "NTLM": "ntlm", "OAuth": "oauth1",
	"DPoP": "oauth2 with proof: dpop",
}

// noSecurity tells an envelope that goes without what WS-Security would put in.
func noSecurity(e *evidence) string {
	if e.securityFault() == "" || e.Context.Spoilt != "" {
		return ""
	}
	body := e.record.Request.Body
	switch {
	case !bytes.Contains(body, []byte(soap.Security)):
		return "the envelope had no Security header: use a login of kind username token, signature or saml " +
			"(testbench survey shows what the contract says)"
	case strings.Contains(strings.ToLower(ReadMessage(e.Step).Text),
		"encrypt") && !bytes.Contains(body, []byte("EncryptedData")):
		return "nothing in the envelope was encrypted: encrypt: at the login"
	}
	return ""
}

// digestWanted tells a password in plain where a digest was expected.
func digestWanted(e *evidence) string {
	if e.securityFault() == "" || !bytes.Contains(e.record.Request.Body, []byte("#PasswordText")) {
		return ""
	}
	text := "the password was sent in plain (PasswordText)"
	if strings.Contains(strings.ToLower(ReadMessage(e.Step).Text), "digest") {
		return text + ", and the service wants it as a digest (digest: true at the login)"
	}
	return text + "; perhaps the service wants it as a digest (digest: true at the login)"
}

// strayBlank tells a password that was sealed with a blank too much.
func strayBlank(e *evidence) string {
	if e.answer == nil || !e.isRefusal() || e.Context.Token == nil || e.Context.Spoilt != "" {
		return ""
	}
	if text := e.Context.Token.Text; text != strings.TrimSpace(text) {
		return "the password, key or token begins or ends with a space or a line break: perhaps it was sealed with " +
			"one too much"
	}
	return ""
}

// staleStamp tells time stamps that the service finds too old or too young.
func staleStamp(e *evidence) string {
	if e.Context.Spoilt != "" || e.answer == nil || !e.isRefusal() && !e.status(400) {
		return ""
	}
	skew := login.Skew(e.record)
	stamped := len(e.record.Request.Signed) > 0 || e.record.Request.GetHeader("DPoP") != "" ||
		bytes.Contains(e.record.Request.Body, []byte("<wsu:Created>"))
	// What is quoted is a part of the request, as a rule.
	said := strings.ToLower(quoted().ReplaceAllString(ReadMessage(e.Step).Text, ""))
	speaksOfTime := e.securityFault() == "MessageExpired" || strings.Contains(said, "stamp") ||
		strings.Contains(said, "expired") || strings.Contains(said, "nonce")
	switch {
	case skew != 0 && stamped:
		return login.SkewInWords(skew) + ": time stamps made here look wrong there; set the clock right"
	case skew != 0:
		return "perhaps it is the clock: " + login.SkewInWords(skew)
	case stamped && speaksOfTime:
		return "the clocks agree (by the answer's Date): perhaps the service allows less time, or the message took " +
			"long, or it was sent twice"
	}
	return ""
}

// now is the moment by the service's own clock, where it tells it.
func (e *evidence) now() time.Time {
	if date, err := http.ParseTime(e.answer.Header.Get("Date")); err == nil {
		return date
	}
	return e.record.Started
}

func (e *evidence) claims() *document.Node {
	_, token := e.sentAuthorization()
	return login.Claims(token)
}

func (e *evidence) claimTime(name string) time.Time {
	if seconds, ok := e.claims().Get(name).Decimal(); ok {
		if unix, err := seconds.Int64(); err == nil {
			return time.Unix(unix, 0)
		}
	}
	return time.Time{}
}

func expired(e *evidence) string {
	if !e.status(401) || e.Context.Spoilt != "" {
		return ""
	}
	ends := e.claimTime("exp")
	if ends.IsZero() && e.Context.Token != nil {
		ends = e.Context.Token.Expires
	}
	if ends.IsZero() || e.now().Before(ends) {
		return ""
	}
	text := fmt.Sprintf("the token expired %v before the call, by the service's clock",
		e.now().Sub(ends).Round(time.Second))
	if e.Context.Token != nil && e.Context.Token.Fixed {
		text += "; it is in the bench itself: get a new one and seal it"
	}
	return text
}

func notYet(e *evidence) string {
	if !e.status(401) || e.Context.Spoilt != "" {
		return ""
	}
	begins := e.claimTime("nbf")
	if issued := e.claimTime("iat"); begins.IsZero() {
		begins = issued
	}
	if begins.IsZero() || !e.now().Before(begins) {
		return ""
	}
	return fmt.Sprintf("the token is not good before %v after the call, by the service's clock: perhaps the clocks "+
		"of issuer and service differ", begins.Sub(e.now()).Round(time.Second))
}

// wrongClaims tells a token that is for somebody else or by somebody else, where
// the service speaks of that.
func wrongClaims(e *evidence) string {
	if !e.status(401, 403) || e.claims() == nil || e.Context.Spoilt != "" {
		return ""
	}
	said := strings.ToLower(strings.Join(e.answer.Header.Values("WWW-Authenticate"),
		" ") + " " + ReadMessage(e.Step).Text)
	for _, one := range []struct{ claim, word, means string }{
		{"aud", "audience", "is for another audience"},
		{"iss", "issuer", "is of another issuer"},
	} {
		if value := e.claims().Get(one.claim); value != nil && strings.Contains(said, one.word) {
			return fmt.Sprintf("perhaps the token %s: it says %s", one.means, value.Describe())
		}
	}
	return ""
}

func insufficientScope(e *evidence) string {
	if !e.status(403) || e.Context.Token == nil {
		return ""
	}
	for _, c := range e.challenges() {
		if expected := c.Parameters["scope"]; expected != "" {
			has := strings.Join(e.Context.Token.Scope, " ")
			if has == "" {
				has = "none"
			}
			return fmt.Sprintf("the token lacks the scope %s (it has: %s); add it to scope: of the login %s", expected,
				has, e.Context.Login)
		}
	}
	return ""
}

// quoted finds what a service says it expected to see signed: a longer text in
// quotes, or after a colon.
var quoted = lazy.Regexp("(?s)[\"“`']([^\"“”`]{12,})[\"”`']")

// signedOtherwise shows what was signed beside what the service says it expected.
func signedOtherwise(e *evidence) string {
	if e.answer == nil || len(e.record.Request.Signed) == 0 || e.Context.Spoilt != "" ||
		!e.isRefusal() && !e.status(400) {
		return ""
	}
	ours := e.record.Request.Signed[len(e.record.Request.Signed)-1]
	if strings.HasPrefix(ours, "<") || len(e.challenges()) > 0 {
		return "" // an envelope's, or the service asks for something else
	}
	for _, match := range quoted().FindAllStringSubmatch(e.said(), -1) {
		theirs := strings.NewReplacer(`\n`, "\n", `\u0026`, "&").Replace(match[1])
		if theirs == ours {
			return "what was signed here is what the service says it expected: perhaps the key is another, or its " +
				"encoding (key is: base64)"
		}
		if difference := firstDifference(ours, theirs); difference != "" {
			return difference
		}
	}
	return fmt.Sprintf("what was signed here is %q; check it against the service's documentation, then key, hash and "+
		"encoding", ours)
}

// said is all that the service says, unshortened.
func (e *evidence) said() string {
	text := ReadMessage(e.Step).Text
	if text == "" {
		text = string(e.answer.Body)
	}
	return text
}

// firstDifference compares two texts that were to be signed, line by line. It is
// empty where they have nothing to do with one another.
func firstDifference(ours, theirs string) string {
	a, b := strings.Split(ours, "\n"), strings.Split(theirs, "\n")
	same := 0
	for i := range min(len(a), len(b)) {
		if a[i] == b[i] {
			same++
		}
	}
	if same == 0 {
		return ""
	}
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			return fmt.Sprintf("what the service expected signed has a line more: %q (line %d)", b[i], i+1)
		case i >= len(b):
			return fmt.Sprintf("what was signed here has a line more than the service expected: %q (line %d)", a[i],
				i+1)
		case a[i] != b[i]:
			return fmt.Sprintf("line %d of what was signed is %q here, and the service expected %q", i+1, a[i], b[i])
		}
	}
	return ""
}

// wrongPassword says so where the way in was the one that was asked for.
func wrongPassword(e *evidence) string {
	if e.answer == nil || e.Context.Token == nil || e.Context.Token.User == "" || e.Context.Spoilt != "" ||
		digestWanted(e) != "" {
		return ""
	}
	word, _ := e.sentAuthorization()
	switch {
	case e.status(401) && (strings.EqualFold(word, "Basic") || strings.EqualFold(word, "Digest")) &&
		login.Asks(e.challenges(), word) != nil:
	case e.securityFault() == "FailedAuthentication":
	default:
		return ""
	}
	return fmt.Sprintf("the way in was right, so the user or password is wrong (user %s)", e.Context.Token.User)
}

// wentToTLS tells credentials that were lost on the way to TLS.
func wentToTLS(e *evidence) string {
	if e.answer == nil {
		return ""
	}
	to := e.answer.Header.Get("Location")
	for _, hop := range e.record.Hops {
		if strings.HasPrefix(hop.From, "http://") && strings.HasPrefix(hop.To, "https://") {
			to = hop.To
		}
	}
	isPlain := e.record.Request.URL.Scheme == "http"
	switch {
	case isPlain && strings.HasPrefix(to, "https://") && (e.status(301, 302, 303, 307, 308) || e.isRefusal()):
		return "the service leads from http to https, and credentials do not go along: write https:// in the address"
	case isPlain && e.status(http.StatusUpgradeRequired) &&
		strings.Contains(strings.ToUpper(e.answer.Header.Get("Upgrade")), "TLS"):
		return "the service wants TLS: write https:// in the address"
	}
	return ""
}

var passwordField = lazy.Regexp(`(?i)<input[^>]+type=["']?password`)

// loginPage tells a page that asks a person to log in.
func loginPage(e *evidence) string {
	if e.answer == nil || e.Reply.Format != document.HTML || !passwordField().Match(e.answer.Body) {
		return ""
	}
	text := "the answer is a page that asks a person to log in"
	if len(e.record.Hops) > 0 {
		text += ", after a redirect from " + e.record.Hops[len(e.record.Hops)-1].From
	}
	if e.Context.Login == "" {
		return text + "; no login was used: perhaps the service wants one, of kind session or oauth2"
	}
	return text + "; perhaps the login " + e.Context.Login + " is not what the service wants, or its session is over"
}
