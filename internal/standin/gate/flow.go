package gate

import (
	"crypto/sha256"
	"encoding/base64"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/standin/service"
	"testbench/internal/wssecurity"
)

// code is an authorization that somebody gave, waiting to be redeemed.
type code struct {
	grant
	redirect, challenge string
	expires             time.Time
}

// waiting is a device that waits for somebody to agree.
type waiting struct {
	grant
	userCode string
	expires  time.Time
	decided  string // "", "allow" or "refuse"
	asked    time.Time
	pause    time.Duration
}

// devicePause is how often a device may ask.
const devicePause = time.Second

var agreePage = template.Must(template.New("agree").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Heatherfold gate</title>
<style>
body{font:1.1rem/1.5 system-ui,sans-serif;max-width:32rem;margin:4rem auto;padding:0 1rem}
button{font:inherit;padding:.4rem 1.2rem;margin-right:.5rem}input{font:inherit}
</style>
<h1>Heatherfold gate</h1>
{{if .Said}}<p role="status">{{.Said}}</p>{{else}}
<p><b>{{.Client}}</b> asks for: {{.Scope}}.</p>
<form method="post" action="{{.Action}}">
{{range $name, $text := .Hidden}}<input type="hidden" name="{{$name}}" value="{{$text}}">
{{end}}{{if .AskCode}}<p><label>The code that the device shows:
<input name="user_code" value="{{.Code}}" autocomplete="off"></label></p>
{{end}}<p><button name="decision" value="allow">Allow</button><button name="decision" value="refuse">Refuse</button></p>
</form>{{end}}
</html>
`))

type agreement struct {
	Said, Client, Scope, Action, Code string
	AskCode                           bool
	Hidden                            map[string]string
}

func showPage(w http.ResponseWriter, status int, a agreement) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = agreePage.Execute(w, a)
}

// authorize is the authorization endpoint (RFC 6749, 4.1.1; RFC 7636, 4.3).
func (g *Service) authorize(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	switch {
	case query.Get("client_id") != phoneClient && query.Get("client_id") != deskClient:
		showPage(w, http.StatusBadRequest, agreement{Said: "This client is not known."})
		return
	case !service.IsLoopback(query.Get("redirect_uri")):
		showPage(w, http.StatusBadRequest, agreement{Said: "The address to come back to is not one of this client."})
		return
	}
	back := func(code string) {
		http.Redirect(w, r, withQuery(query.Get("redirect_uri"), "error", code, "state", query.Get("state"), "iss",
			g.issuer), http.StatusFound)
	}
	switch {
	case query.Get("response_type") != "code":
		back("unsupported_response_type")
	case query.Get("code_challenge") == "" || query.Get("code_challenge_method") != "S256":
		back("invalid_request")
	default:
		hidden := map[string]string{}
		for _, name := range []string{"client_id", "redirect_uri", "state", "code_challenge", "scope", "audience"} {
			hidden[name] = query.Get(name)
		}
		showPage(w, http.StatusOK,
			agreement{
				Client: query.Get("client_id"), Scope: query.Get("scope"), Action: "/gate/authorize",
				Hidden: hidden,
			})
	}
}

func withQuery(address string, pairs ...string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	query := u.Query()
	for i := 0; i < len(pairs); i += 2 {
		query.Set(pairs[i], pairs[i+1])
	}
	u.RawQuery = query.Encode()
	return u.String()
}

// decideCode is what the page sends.
func (g *Service) decideCode(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	form := r.PostForm
	redirect := form.Get("redirect_uri")
	if !service.IsLoopback(redirect) {
		showPage(w, http.StatusBadRequest, agreement{Said: "The address to come back to is not one of this client."})
		return
	}
	if form.Get("decision") != "allow" {
		http.Redirect(w, r, withQuery(redirect, "error", "access_denied", "error_description", "Bryony refused",
			"state", form.Get("state"), "iss", g.issuer), http.StatusFound)
		return
	}
	text := service.Random()
	g.mutex.Lock()
	g.codes[text] = &code{
		grant: grant{
			subject: "clerk", client: form.Get("client_id"), scope: form.Get("scope"),
			audience: form.Get("audience"),
		},
		redirect: redirect, challenge: form.Get("code_challenge"), expires: time.Now().Add(time.Minute),
	}
	g.mutex.Unlock()
	http.Redirect(w, r, withQuery(redirect, "code", text, "state", form.Get("state"), "iss", g.issuer),
		http.StatusFound)
}

func (g *Service) redeemCode(w http.ResponseWriter, r *http.Request, given grant) {
	form := r.PostForm
	g.mutex.Lock()
	c := g.codes[form.Get("code")]
	delete(g.codes, form.Get("code"))
	g.mutex.Unlock()
	sum := sha256.Sum256([]byte(form.Get("code_verifier")))
	switch {
	case c == nil || time.Now().After(c.expires):
		oauthError(w, http.StatusBadRequest, "invalid_grant", "the code is not known or was used before")
	case c.client != given.client || c.redirect != form.Get("redirect_uri"):
		oauthError(w, http.StatusBadRequest, "invalid_grant", "the code is for another client or address")
	case base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge:
		oauthError(w, http.StatusBadRequest, "invalid_grant", "code_verifier does not fit code_challenge")
	default:
		g.issue(w, g.completed(c.grant, given), true)
	}
}

// completed joins what somebody agreed to with what the token request says.
func (g *Service) completed(agreed, given grant) grant {
	agreed.lifetime, agreed.key = given.lifetime, given.key
	if agreed.scope == "" {
		agreed.scope = given.scope
	}
	return agreed
}

// startDevice is the device authorization endpoint (RFC 8628, 3.1).
func (g *Service) startDevice(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	client, ok := g.client(w, r)
	if !ok {
		return
	}
	device, userCode := service.Random(),
		strings.ToUpper(strings.NewReplacer("-", "B", "_", "C").Replace(service.Random()[:8]))
	userCode = userCode[:4] + "-" + userCode[4:]
	g.mutex.Lock()
	g.devices[device] = &waiting{
		grant:    grant{subject: "clerk", client: client, scope: r.PostForm.Get("scope")},
		userCode: userCode, expires: time.Now().Add(5 * time.Minute), pause: devicePause,
	}
	g.mutex.Unlock()
	service.WriteJSON(w, http.StatusOK, map[string]any{
		"device_code": device, "user_code": userCode, "verification_uri": g.issuer + "/device",
		"verification_uri_complete": g.issuer + "/device?user_code=" + userCode, "expires_in": 300,
		"interval": int(devicePause / time.Second),
	})
}

func (g *Service) devicePage(w http.ResponseWriter, r *http.Request) {
	showPage(w, http.StatusOK,
		agreement{
			Client: phoneClient, Scope: "what it needs", Action: "/gate/device/decide", AskCode: true,
			Code: r.URL.Query().Get("user_code"),
		})
}

func (g *Service) decideDevice(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	g.mutex.Lock()
	defer g.mutex.Unlock()
	for _, d := range g.devices {
		if d.userCode == strings.ToUpper(strings.TrimSpace(r.PostForm.Get("user_code"))) {
			d.decided = r.PostForm.Get("decision")
			showPage(w, http.StatusOK, agreement{Said: "Noted. The device goes on by itself."})
			return
		}
	}
	showPage(w, http.StatusNotFound, agreement{Said: "This code is not known."})
}

// redeemDevice answers a device that asks again (RFC 8628, 3.5).
func (g *Service) redeemDevice(w http.ResponseWriter, r *http.Request, given grant) {
	g.mutex.Lock()
	d := g.devices[r.PostForm.Get("device_code")]
	if d == nil || d.client != given.client {
		g.mutex.Unlock()
		oauthError(w, http.StatusBadRequest, "invalid_grant", "the device code is not known")
		return
	}
	tooSoon := !d.asked.IsZero() && time.Since(d.asked) < d.pause-50*time.Millisecond
	d.asked = time.Now()
	decided, agreed := d.decided, d.grant
	if decided != "" {
		delete(g.devices, r.PostForm.Get("device_code"))
	}
	g.mutex.Unlock()
	switch {
	case tooSoon:
		oauthError(w, http.StatusBadRequest, "slow_down", "the device asks too often")
	case decided == "":
		oauthError(w, http.StatusBadRequest, "authorization_pending", "nobody has agreed yet")
	case decided != "allow":
		oauthError(w, http.StatusBadRequest, "access_denied", "Bryony refused")
	default:
		g.issue(w, g.completed(agreed, given), true)
	}
}

// redeemAssertion takes a JWT that a client signed (RFC 7523, 2.1).
func (g *Service) redeemAssertion(w http.ResponseWriter, r *http.Request, given grant) {
	claims, err := g.assertion(r.PostForm.Get("assertion"), "")
	if err != nil {
		oauthError(w, http.StatusBadRequest, "invalid_grant", "the assertion is not good: "+err.Error())
		return
	}
	given.subject, _ = claims["sub"].(string)
	g.issue(w, given, false)
}

// redeemSAML takes an assertion of the co-operative's own issuer (RFC 7522, 2.1).
func (g *Service) redeemSAML(w http.ResponseWriter, r *http.Request, given grant) {
	refuse := func(why string) { oauthError(w, http.StatusBadRequest, "invalid_grant", why) }
	raw, err := base64.URLEncoding.DecodeString(r.PostForm.Get("assertion"))
	if err != nil {
		refuse("the assertion is not base64url")
		return
	}
	assertion, err := document.ReadXML(raw, "")
	if err != nil || assertion.Name().Local != "Assertion" {
		refuse("the assertion is not a SAML assertion")
		return
	}
	_, until := wssecurity.AssertionLife(assertion)
	subject := strings.TrimSpace(assertion.Child("Subject").Child("NameID").OwnText())
	switch {
	case assertion.Child("Issuer").OwnText() != "urn:heatherfold:roster":
		refuse("the assertion is of an issuer that is not known")
	case !until.IsZero() && g.options.Now().After(until):
		refuse("the assertion has ended")
	case subject == "":
		refuse("the assertion names nobody")
	default:
		given.subject = subject
		g.issue(w, given, false)
	}
}

// exchange swaps one of its own tokens for another (RFC 8693).
func (g *Service) exchange(w http.ResponseWriter, r *http.Request, given grant) {
	form := r.PostForm
	if form.Get("subject_token_type") != "urn:ietf:params:oauth:token-type:access_token" {
		oauthError(w, http.StatusBadRequest, "invalid_request", "subject_token_type must be that of an access token")
		return
	}
	claims, err := g.verify(form.Get("subject_token"))
	if err != nil {
		oauthError(w, http.StatusBadRequest, "invalid_request", "the subject token is not good")
		return
	}
	given.subject, _ = claims["sub"].(string)
	given.actor = given.client
	g.issue(w, given, false)
}
