package main_test

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"testbench/internal/keys"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

var promptedAddress = regexp.MustCompile(`https?://\S+`)

// agreeing runs a command that asks a person to open a page, and lets somebody
// see to it.
func (p *place) agreeing(agree func(address string, running *os.Process), args ...string) outcome {
	p.t.Helper()
	var stdout, stderr bytes.Buffer
	c := p.command(args...)
	c.Stdout = &stdout
	pipe, err := c.StderrPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, c.Start())
	timer := time.AfterFunc(time.Minute, func() { _ = c.Process.Kill() })
	defer timer.Stop()
	lines := bufio.NewScanner(pipe)
	for lines.Scan() {
		stderr.WriteString(lines.Text() + "\n")
		if address := promptedAddress.FindString(lines.Text()); address != "" && strings.HasPrefix(lines.Text(),
			"  http") {
			agree(address, c.Process)
		}
	}
	_ = c.Wait()
	return outcome{stdout: stdout.String(), stderr: stderr.String(), status: c.ProcessState.ExitCode()}
}

var hiddenFields = regexp.MustCompile(`name="([^"]*)" value="([^"]*)"`)

// press opens a page of the gate and presses one of its buttons.
func press(t *testing.T, address, button string) string {
	t.Helper()
	answer, err := http.Get(address)
	require.NoError(t, err)
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	_ = answer.Body.Close()
	form := url.Values{"decision": {button}}
	for _, field := range hiddenFields.FindAllStringSubmatch(string(body), -1) {
		if field[1] != "decision" {
			form.Set(field[1], strings.ReplaceAll(field[2], "&#43;", "+"))
		}
	}
	action := regexp.MustCompile(`action="([^"]*)"`).FindStringSubmatch(string(body))
	require.NotNil(t, action, string(body))
	at, err := answer.Request.URL.Parse(action[1])
	require.NoError(t, err)
	answer, err = http.PostForm(at.String(), form)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	body, err = io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(body)
}

// A person agrees or refuses; the token is kept, sealed, for later commands, until
// it is forgotten or the bench is another one.
func TestPersonsAndKeptTokens(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	agree := func(button string, said *string) func(string, *os.Process) {
		return func(address string, _ *os.Process) { *said = press(t, address, button) }
	}
	var said string
	o := p.agreeing(agree("refuse", &said), "token", "phone")
	assert.Equal(t, 3, o.status, o.all())
	assert.Contains(t, o.stderr, "the authorization server said no: access_denied: Bryony refused")
	assert.Contains(t, said, "There is no token")

	o = p.agreeing(agree("allow", &said), "token", "phone")
	require.Equal(t, 0, o.status, o.all())
	assert.Contains(t, said, "Test Bench has what it needs")
	kept := func() []string {
		files, err := filepath.Glob(filepath.Join(p.dir, ".testbench", "tokens", "local", "*"))
		require.NoError(t, err)
		return files
	}
	assert.Empty(t, kept(), "without an identity nothing is kept")

	p.stdin = "anything"
	require.Equal(t, 0, p.run("secret", "set", "other").status) // makes the identity
	o = p.agreeing(agree("allow", &said), "token", "phone")
	require.Equal(t, 0, o.status, o.all())
	require.Len(t, kept(), 1)
	assert.Contains(t, p.read(".testbench/tokens/local/phone.age"), "BEGIN AGE ENCRYPTED FILE")
	for range 2 {
		o = p.run("call", "stores/search", "-login", "phone")
		assert.Equal(t, 0, o.status, o.all())
		assert.NotContains(t, o.stderr, "somebody has to agree")
	}
	assert.Contains(t, p.run("token", "phone").stdout, "by an earlier command (-forget deletes it)")
	o = p.run("token", "phone", "-forget")
	assert.Contains(t, o.stderr, "forgotten")
	assert.Empty(t, kept())
	assert.Contains(t, p.run("token", "phone", "-forget").stderr, "no token of that login was kept")

	o = p.agreeing(agree("allow", &said), "token", "scales", "-verify")
	require.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "and type in the code ")
	assert.Contains(t, o.stdout, "the issuer says the token is good")
	p.write("bench.yaml", p.read("bench.yaml")+"# another bench\n")
	o = p.agreeing(agree("refuse", &said), "token", "scales")
	assert.Equal(t, 3, o.status, "a token of another bench is not used")
	assert.Contains(t, o.stderr, "access_denied")

	// Nobody comes: Ctrl-C ends the wait at once.
	for _, name := range []string{"phone", "scales"} {
		start := time.Now()
		o = p.agreeing(func(_ string, running *os.Process) { interrupt(t, running) }, "token", name)
		assert.Equal(t, 130, o.status, o.all())
		assert.Less(t, time.Since(start), 20*time.Second)
	}
	// Somebody else's answer is not taken, and the right one still is.
	o = p.agreeing(func(address string, _ *os.Process) {
		u, err := url.Parse(address)
		require.NoError(t, err)
		forged, err := http.Get(u.Query().Get("redirect_uri") + "?code=forged&state=guessed")
		require.NoError(t, err)
		_ = forged.Body.Close()
		assert.Equal(t, 404, forged.StatusCode)
		press(t, address, "allow")
	}, "token", "phone")
	assert.Equal(t, 0, o.status, o.all())
}

// A server whose clock is an hour off lets every login in all the same: its
// answers tell the difference, and time stamps follow it.
func TestClockAnHourOff(t *testing.T) {
	t.Parallel()
	for _, offset := range []time.Duration{time.Hour, -time.Hour} {
		server, err := standin.Start("127.0.0.1:0", standin.Options{Offset: offset})
		require.NoError(t, err)
		p := newPlace(t)
		require.NoError(t, demo.Write(p.dir, "http://"+server.Address))
		p.seal(standin.Secrets)
		o := p.run("run", "sheets/07-getting-in.yaml")
		assert.Equal(t, 0, o.status, "%v: %s", offset, o.all())
		// The first step of its own, so that the difference is not known beforehand.
		for step, isStamped := range map[string]bool{
			"a password as digest": true, "signed envelope": true,
			"sealed envelope": true, "signed message": true, "by a key": false, "with a bound token": false,
		} {
			o := p.run("run", "sheets/07-getting-in.yaml", "-step", step)
			assert.Equal(t, 0, o.status, "%v: %s: %s", offset, step, o.all())
			if isStamped {
				assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "),
					"sent again with time stamps by the server's")
			}
		}
		server.Close()
	}
}

// A token that dies every second, or is refused now and then, costs no step.
func TestTokensThatDie(t *testing.T) {
	t.Parallel()
	for name, o := range map[string]standin.Options{"short": {Lifetime: 1}, "refused": {Refuse: 5}} {
		server, err := standin.Start("127.0.0.1:0", o)
		require.NoError(t, err)
		p := newPlace(t)
		require.NoError(t, demo.Write(p.dir, "http://"+server.Address))
		p.seal(standin.Secrets)
		rows := "n\n" + strings.Repeat("x\n", 40)
		p.write("data/rows.csv", rows)
		for _, login := range []string{"clerk", "clerk_in_person", "clerk_bound"} {
			got := p.sheet(`sheet: load
rows: data/rows.csv
steps:
  - step: search
    call: stores/search
    login: ` + login + "\n")
			assert.Equal(t, 0, got.status, "%s %s: %s", name, login, got.all())
			assert.Contains(t, got.stdout, "40 passed")
		}
		server.Close()
	}
}

// What can be wrong with a login is told in one message that says what to do.
func TestLoginsThatFail(t *testing.T) {
	t.Parallel()
	var elsewhere, leaked atomic.Bool
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		elsewhere.Store(true)
		if r.Header.Get("Authorization") != "" || r.ContentLength > 0 {
			leaked.Store(true)
		}
	}))
	defer other.Close()
	var issuer *httptest.Server
	issuer = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/moved":
			w.Header().Set("Location", other.URL+"/token")
			w.WriteHeader(http.StatusTemporaryRedirect)
		case "/html":
			w.Header().Set("Content-Type", "text/html")
			_, _ = io.WriteString(w, "<html><title>Sign in</title>")
		case "/.well-known/oauth-authorization-server/else":
			_, _ = fmt.Fprintf(w, `{"issuer": "https://else.example", "token_endpoint": "%s/token"}`, issuer.URL)
		case "/.well-known/oauth-authorization-server/poor":
			_, _ = fmt.Fprintf(w, `{"issuer": "%s/poor"}`, issuer.URL)
		case "/bearer":
			_, _ = io.WriteString(w, `{"access_token": "unbound", "token_type": "Bearer"}`)
		case "/slow":
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w,
				`{"device_code": "d", "user_code": "U", "verification_uri": "http://127.0.0.1/x", "expires_in": 1, "interval": 0}`)
		case "/pending":
			w.WriteHeader(http.StatusBadRequest)
			_, _ = io.WriteString(w, `{"error": "authorization_pending"}`)
		case "/word":
			w.Header().Set("Set-Cookie", "s=abcdef")
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	defer issuer.Close()
	p, server := newBench(t)
	p.write("certs/x.pem", "no certificate")
	bench := p.read("bench.yaml")
	oauth := func(name, rest string) string {
		return "  " + name + `:
    kind: oauth2
    client: honey-desk
    client secret: ${sealed.honey_desk}
    ` + rest + "\n"
	}
	p.write("bench.yaml", strings.Replace(bench, "logins:\n", "  elsewhere:\n    address: "+issuer.URL+"\nlogins:\n"+
		oauth("moved", "from: "+issuer.URL+"/moved")+oauth("html", "from: "+issuer.URL+"/html")+oauth("away",
		"from: http://127.0.0.1:1/token")+oauth("another", "issuer: "+issuer.URL+"/else")+oauth("poor",
		"issuer: "+issuer.URL+"/poor")+
		oauth("nowhere", "issuer: "+issuer.URL+"/nowhere")+oauth("unbound",
		"from: "+issuer.URL+"/bearer\n    proof: dpop")+
		oauth("endless", "grant: device\n    device: "+issuer.URL+"/slow\n    from: "+issuer.URL+"/pending")+
		oauth("wrong_kind", `issuer: ${base}/gate
    client authentication: private key jwt
    key: ${sealed.bryony_key}
    algorithm: ES256`)+
		oauth("far_redirect", "grant: authorization code\n    issuer: ${base}/gate\n    redirect: http://elsewhere.example/back")+
		"  no_key:\n    kind: certificate\n    certificate: certs/lab.pem\n"+
		"  no_pem:\n    kind: certificate\n    certificate: certs/x.pem\n"+
		"  no_file:\n    kind: certificate\n    certificate: certs/nowhere.pem\n"+
		"  others_key:\n    kind: signature\n    certificate: certs/lab.pem\n    key: ${sealed.bryony_key}\n"+
		"  no_word:\n    kind: session\n    repeat:\n      header: X-Word\n      request: GET "+issuer.URL+"/word\n"+
		`  no_header:
    kind: hmac
    key: ${sealed.courier}
    sign:
      - header X-Missing
    into: header S
`+
		"  no_assertion:\n    kind: saml\n    assertion: certs/x.pem\n", 1))
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"token moved", 3, "leads to " + other.URL + "/token, where credentials were not sent"},
		{"token html", 3, "without an access_token (an HTML page)"},
		{"token another", 3, `is of another issuer: it says "https://else.example"`},
		{"token poor", 2, "the issuer's metadata has no token_endpoint"},
		{"token nowhere", 3, "the issuer's metadata cannot be read"},
		{"token unbound", 3, "not bound to the key that was proven"},
		{"token endless", 3, "nobody typed the code in before it ended"},
		{"token wrong_kind", 2, "the algorithm ES256 does not go with the key (RSA 2048)"},
		{"token far_redirect", 2, "not on this machine's loopback"},
		{"token no_key", 2, "without its key"},
		{"token no_pem", 2, "neither PEM nor PKCS#12"},
		{"token no_file", 2, "there is no file certs/nowhere.pem"},
		{"token others_key", 2, "do not go together"},
		{"token no_word", 3, "no value in that header"},
		{
			"call courier/deliveries day=2026-09-01 -login no_header", 2,
			"the header X-Missing is to be signed, and the request has none",
		},
		{"token no_assertion", 2, "the assertion is not well-formed"},
		{"call stores/search -login lab_signature", 2, "the login puts something into a SOAP envelope"},
		{"call elsewhere POST /x -login office", 2, "none of its cookies goes to"},
		{"call stores/search -login clerk -spoil tampred", 2, `did you mean "tampered"?`},
		{"token courier -verify", 2, "testbench call SERVICE/OPERATION -login courier -spoil tampered"},
		{"token away", 3, "is the service running, and is 127.0.0.1:1 the right port?"},
		{"call lab_signed/ConvertIndex refractiveIndex=1.49 -login none", 1, "the envelope had no Security header"},
		{
			"call lab_sealed/ConvertIndex refractiveIndex=1.49 -login lab_signature", 1,
			"nothing in the envelope was encrypted",
		},
		{
			"call stores/search -login office", 1,
			"the login office sends no Authorization, and the service asks for Bearer there",
		},
		{"call courier/deliveries day=2026-09-01 -login courier -spoil empty", 1, "the request is not signed"},
		{"call courier/pickup lot=L-2201 -login courier_pickups -spoil tampered", 1, "does not fit"},
		{"call lab_digested/ConvertIndex refractiveIndex=1.49 -login lab_digest -spoil expired", 1, "MessageExpired"},
		{
			"call lab_digested/ConvertIndex refractiveIndex=1.49 -login lab_desk", 1,
			"the service wants it as a digest (digest: true at the login)",
		},
		{"call lab_signed/ConvertIndex refractiveIndex=1.49 -login lab_desk", 1, "InvalidSecurity"},
		{
			"call office/book lot=L-2207 grade=A kilos=1 moisture=17 -login office -spoil tampered", 1,
			"there is no session",
		},
	} {
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, c.args)
	}
	// A token that is refused, and none to be had in its place.
	p.stdin = "anything"
	require.Equal(t, 0, p.run("secret", "set", "other").status)
	require.Equal(t, 0, p.run("call", "stores/search", "-login", "clerk_in_person").status)
	server.Close()
	again, err := standin.Start(server.Address, standin.Options{})
	require.NoError(t, err)
	defer again.Close()
	env := p.env
	p.env = append(env[:len(env):len(env)], "TESTBENCH_SEALED_HONEY_DESK=wrong by now")
	o := p.run("call", "stores/search", "-login", "clerk_in_person")
	assert.Equal(t, 3, o.status, o.all())
	assert.Contains(t, o.stdout, "refused with 401 invalid_client")
	assert.False(t, elsewhere.Load() || leaked.Load(), "credentials went to another host")
}

// With every login of the demo and all that can be shown of it, no secret, token,
// cookie or key is in an output or a file.
func TestLoginsLeakNothing(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	p.stdin = "anything-at-all"
	require.Equal(t, 0, p.run("secret", "set", "other").status)
	p.env = append(p.env, "TMPDIR="+filepath.Join(p.dir, "tmp"))
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "tmp"), 0o755))
	var output strings.Builder
	keep := func(o outcome) { output.WriteString(o.all()) }
	keep(p.run("run", "sheets/07-getting-in.yaml", "-show", "all", "-out", "r.html", "-out", "r.json", "-out", "r.xml",
		"-log", "log.txt"))
	keep(p.run("run", "sheets/07-getting-in.yaml", "-json"))
	keep(p.run("run", "sheets/07-getting-in.yaml", "-dry"))
	tokens := map[string]string{}
	logins := []string{
		"clerk", "clerk_in_person", "clerk_by_key", "clerk_bound", "clerk_on_behalf", "old_desk",
		"slip_desk", "office", "courier", "courier_pickups", "lab_desk", "lab_digest", "lab_signature", "lab_envelope",
	}
	for _, name := range logins {
		bare := p.run("token", name, "-bare")
		require.Equal(t, 0, bare.status, bare.all())
		if text := strings.TrimSpace(bare.stdout); len(text) > 5 {
			tokens[name] = text
		}
		keep(p.run("token", name))
		keep(p.run("token", name, "-json"))
	}
	for _, args := range []string{
		"call stores/search -login clerk_bound -show all",
		"call office/book lot=L-2207 -show all -dry", "call lab_desk ConvertIndex -dry",
		"call lab_sealed/ConvertIndex refractiveIndex=1.49 -show all",
		"call lab/ConvertIndex refractiveIndex=1.49 -login lab_desk -show all -json",
	} {
		keep(p.run(strings.Fields(args)...))
	}
	keep(p.agreeing(func(address string, _ *os.Process) { press(t, address, "allow") }, "token", "phone"))
	found := map[string]string{"the output": output.String()}
	require.NoError(t, filepath.WalkDir(p.dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		found[name] = string(data)
		return err
	}))
	checked := map[string]string{}
	for name, text := range standin.Secrets {
		checked[name] = text
		if strings.Contains(text, "PRIVATE KEY") {
			checked[name] = strings.Split(text, "\n")[3] // a line of the key is as bad
		}
	}
	for name, text := range tokens {
		checked["token of "+name] = text
	}
	for where, text := range found {
		for name, secret := range checked {
			if strings.Contains(secret, "PRIVATE KEY") {
				continue
			}
			for _, form := range forms(secret) {
				if at := strings.Index(text, form); at >= 0 {
					t.Errorf("%s is in %s as %q: …%s…", name, where, form,
						text[max(0, at-60):min(len(text), at+len(form)+20)])
				}
			}
		}
	}
}

// Several logins go into one request where that makes sense: a certificate and a
// token, a user name that is signed along, a token and a signed request.
func TestLoginsTogether(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	answer, err := http.Get("http://" + server.Address + "/mishaps")
	require.NoError(t, err)
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	_ = answer.Body.Close()
	secure := regexp.MustCompile(`"client certificate": ?"([^"]+)"`).FindSubmatch(body)
	require.NotNil(t, secure, string(body))
	p.write("certs/ca.pem", string(server.CA))
	p.write("certs/bryony-key.pem", standin.Secrets["bryony_key"])
	bench := p.read("bench.yaml")
	bench = strings.Replace(bench, "      depot: north\n", "      depot: north\n    tls:\n      ca: certs/ca.pem\n", 1)
	bench = strings.Replace(bench, "logins:\n",
		"  secure:\n    address: "+string(secure[1])+
			"/stores\n    always:\n      headers:\n        X-Depot: north\nlogins:\n"+
			"  bryony:\n    kind: certificate\n    certificate: certs/bryony.pem\n    key: ${sealed.bryony_key}\n"+
			`  user_signed:
    kind: signature
    certificate: certs/bryony.pem
    key: ${sealed.bryony_key}
    sign:
      - body
      - time stamp
      - user
    reference: thumbprint
`, 1)
	p.write("bench.yaml", bench)
	o := p.sheet(`sheet: together
steps:
  - step: certificate and token
    request: secure GET /lots
    login:
      - bryony
      - clerk
  - step: without the certificate
    request: secure GET /lots
    login: clerk
    expect:
      refused: tls
  - step: a spoilt certificate is none
    request: secure GET /lots
    login:
      spoil: bryony
      how: empty
    expect:
      refused: tls
  - step: a user that is signed
    call: lab_signed/ConvertIndex
    login:
      - user_signed
      - lab_desk
    fill:
      refractiveIndex: 1.4940
  - step: a signed request with a token
    call: courier/deliveries
    fill:
      day: 2026-09-01
    login:
      - courier
      - clerk
`, "-show", "sent")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "(with the certificate of CN=bryony")
	user, signature := strings.Index(o.stdout, "<wsse:UsernameToken"), strings.Index(o.stdout, "<ds:Signature ")
	assert.True(t, user > 0 && signature > user, "what is signed comes before the signature")
	o = p.run("call", "secure", "GET", "/lots", "-login", "bryony,clerk", "-headers")
	assert.Equal(t, 0, o.status, o.all())
}

// An answer is checked by what the login says of answers: one that was changed, is
// not signed, is signed by somebody else, or cannot be opened fails.
func TestProtectedAnswers(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	var mutex sync.Mutex
	var change func(string) string
	port := ""
	between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mutex.Lock()
		defer mutex.Unlock()
		forward, err := http.NewRequestWithContext(r.Context(), r.Method, "http://"+server.Address+"/lab/"+port, r.Body)
		if err != nil {
			panic(err)
		}
		forward.Header = r.Header
		answer, err := http.DefaultClient.Do(forward)
		if err != nil {
			panic(err)
		}
		defer func() { _ = answer.Body.Close() }()
		body, _ := io.ReadAll(answer.Body)
		w.Header().Set("Content-Type", answer.Header.Get("Content-Type"))
		w.WriteHeader(answer.StatusCode)
		_, _ = io.WriteString(w, change(string(body)))
	}))
	defer between.Close()
	bench := strings.Replace(p.read("bench.yaml"), "logins:\n",
		"  between:\n    contract: contracts/lab.wsdl\n    address: "+between.URL+"\nlogins:\n"+
			`  stranger:
    kind: signature
    certificate: certs/bryony.pem
    key: ${sealed.bryony_key}
    answers:
      certificate: certs/bryony.pem
`+
			`  authority:
    kind: signature
    certificate: certs/bryony.pem
    key: ${sealed.bryony_key}
    answers:
      ca: certs/lab.pem
      signed:
        - body
        - Receipt
`+
			`  confirming:
    kind: signature
    certificate: certs/bryony.pem
    key: ${sealed.bryony_key}
    answers:
      certificate: certs/lab.pem
      confirmed: true
`+
			"  easy:\n    kind: signature\n    certificate: certs/bryony.pem\n    key: ${sealed.bryony_key}\n", 1)
	p.write("bench.yaml", bench)
	security := regexp.MustCompile(`(?s)<wsse:Security.*</wsse:Security>`)
	for _, c := range []struct {
		name, login, port string
		change            func(string) string
		status            int
		says              string
	}{
		{"as it came", "lab_signature", "signed", nil, 0, ">17.02<"},
		{"nobody vouches for it", "easy", "signed", nil, 0, ">17.02<"},
		{"changed", "lab_signature", "signed", func(body string) string {
			return strings.Replace(body, ">17.02<", ">16.02<", 1)
		}, 1, "the body was changed after it was signed"},
		{"not signed", "lab_signature", "signed", func(body string) string {
			return security.ReplaceAllString(body, "")
		}, 1, "the answer has no signature"},
		{"by somebody else", "stranger", "signed", nil, 1, "whose certificate is not the one expected"},
		{"not all of it", "authority", "signed", nil, 1, "one over the Receipt, got it is not signed"},
		{"not confirmed", "confirming", "signed", nil, 1, "the answer does not confirm it"},
		{"sealed", "lab_envelope", "sealed", nil, 0, ">17.02<"},
		{"damaged", "lab_envelope", "sealed", func(body string) string {
			at := strings.LastIndex(body, "<xenc:CipherValue>") + 40
			return body[:at] + "AAAA" + body[at+4:]
		}, 1, "the encrypted data was changed, or is for another key"},
		{"not sealed", "lab_envelope", "sealed", func(string) string {
			return `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body/></soap:Envelope>`
		}, 1, "nothing in it is encrypted"},
		{"no envelope", "lab_envelope", "sealed", func(string) string { return "<html/>" }, 1, "not a SOAP envelope"},
	} {
		mutex.Lock()
		port, change = c.port, func(body string) string { return body }
		if c.change != nil {
			change = c.change
		}
		mutex.Unlock()
		o := p.run("call", "between/ConvertIndex", "refractiveIndex=1.4940", "-login", c.login)
		assert.Equal(t, c.status, o.status, "%s: %s", c.name, o.all())
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.says, c.name)
	}
}

// A locked identity is opened by its passphrase; a key is taken away again.
func TestLockAndWithdraw(t *testing.T) {
	slow(t)
	t.Parallel()
	p := newPlace(t)
	p.write("bench.yaml", `bench: b
sites:
  s:
    set:
      a: b
logins:
  k:
    kind: key
    key: ${sealed.word}
    header: X-Word
`)
	p.stdin = "queen excluder"
	require.Equal(t, 0, p.run("secret", "set", "word").status)
	bare := func() outcome { return p.run("token", "k", "-bare") }
	assert.Equal(t, "queen excluder\n", bare().stdout)
	o := p.run("secret", "lock")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "set TESTBENCH_PASSPHRASE where nobody can type")
	env := p.env
	p.env = append(env, "TESTBENCH_PASSPHRASE=seven skeps")
	o = p.run("secret", "lock")
	assert.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, p.read("identity/identity.txt"), "AGE-SECRET-KEY")
	assert.Equal(t, "queen excluder\n", bare().stdout)
	p.env = env
	assert.Contains(t, bare().stderr, "there is no terminal to ask at")
	p.env = append(env, "TESTBENCH_PASSPHRASE=seven skeps")
	assert.Equal(t, 0, p.run("secret", "unlock").status)
	p.env = env

	mate := &place{
		t: t, dir: p.dir,
		env: append(env[:len(env):len(env)], "TESTBENCH_IDENTITY="+filepath.Join(p.dir, "mate.txt")), stdin: "x",
	}
	require.Equal(t, 0, mate.run("secret", "set", "own").status)
	key := regexp.MustCompile(`age1\S+`).FindString(mate.run("secret", "list").stderr)
	require.NotEmpty(t, key)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "secrets", "own.age")))
	assert.Contains(t, mate.run("token", "k", "-bare").stderr, "is not sealed for your identity")
	o = p.run("secret", "share", key, "word")
	assert.Contains(t, o.stderr, "1 secret sealed anew; the key "+key+" opens it from now on")
	assert.Equal(t, "queen excluder\n", mate.run("token", "k", "-bare").stdout)
	o = p.run("secret", "share", key, "-withdraw")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "copies that were made before, also those in version control, stay readable")
	assert.Contains(t, mate.run("token", "k", "-bare").stderr, "is not sealed for your identity")
	assert.Contains(t, p.run("secret", "share", key, "wrod").stderr, `did you mean "word"?`)
	assert.Contains(t, p.run("secret", "set", "x", "-withdraw").stderr, "-withdraw has no effect in secret set")
	// Tampered with, a sealed file is refused.
	p.write("secrets/word.age", strings.Replace(p.read("secrets/word.age"), "\n-----END", "AAAA\n-----END", 1))
	assert.Contains(t, bare().stderr, "damaged or was tampered with")
	p.write("word.txt", "from a file\n")
	p.env = append(env, "TESTBENCH_SEALED_WORD_FILE="+filepath.Join(p.dir, "word.txt"))
	assert.Equal(t, "from a file\n", bare().stdout)
}

// lastBody is the last body that a server of a test was sent.
type lastBody struct {
	mutex sync.Mutex
	body  string
}

func (l *lastBody) take(r *http.Request) {
	data, _ := io.ReadAll(r.Body)
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.body = string(data)
}

func (l *lastBody) text() string {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	return l.body
}

// The ways in that the demo bench does without: assertions made and given, SAML in
// the envelope, a key for its holder, PKCS#12, keys written as Base64, signed
// envelopes with attachments, and passwords too short to be searched for.
func TestMoreWaysIn(t *testing.T) {
	slow(t)
	t.Parallel()
	p, server := newBench(t)
	var sent lastBody
	echo := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sent.take(r)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w,
			`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body/></soap:Envelope>`)
	}))
	defer echo.Close()
	pair, err := keys.Read([]byte(p.read("certs/bryony.pem")), []byte(standin.Secrets["bryony_key"]), "")
	require.NoError(t, err)
	p12, err := pkcs12.Modern.Encode(pair.Key, pair.Leaf(), nil, "skep & comb")
	require.NoError(t, err)
	p.write("certs/bryony.p12", string(p12))
	p.write("certs/ca.pem", string(server.CA))
	assertion := func(until time.Duration) string {
		return `<saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="a1" Version="2.0"><saml:Issuer>urn:heatherfold:roster</saml:Issuer><saml:Subject><saml:NameID>bryony</saml:NameID></saml:Subject><saml:Conditions NotOnOrAfter="` +
			time.Now().Add(until).UTC().Format(time.RFC3339) + `"/></saml:Assertion>`
	}
	p.write("roster.xml", assertion(time.Hour))
	p.write("ended.xml", assertion(-time.Hour))
	p.env = append(p.env, "TESTBENCH_SEALED_P12=skep & comb", "TESTBENCH_SEALED_SHORT=b3e!",
		"TESTBENCH_SEALED_COURIER64="+base64.StdEncoding.EncodeToString([]byte(standin.Secrets["courier"])))
	answer, err := http.Get("http://" + server.Address + "/mishaps")
	require.NoError(t, err)
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	_ = answer.Body.Close()
	secure := string(regexp.MustCompile(`"client certificate": ?"([^"]+)"`).FindSubmatch(body)[1])
	bench := strings.Replace(p.read("bench.yaml"), "      depot: north\n",
		"      depot: north\n    tls:\n      ca: certs/ca.pem\n", 1)
	bench = strings.Replace(bench, "sites:\n",
		`sites:
  packed:
    like: local
    tls:
      certificate: certs/bryony.p12
      password: ${sealed.p12}
`, 1)
	oauth := "    kind: oauth2\n    issuer: ${base}/gate\n    scope: stores.read\n"
	bench = strings.Replace(bench, "logins:\n",
		"  secure:\n    address: "+secure+
			"/stores\n    always:\n      headers:\n        X-Depot: north\n  echo:\n    address: "+echo.URL+
			"\n    soap: 1.1\nlogins:\n"+
			"  by_assertion:\n"+oauth+
			`    grant: jwt bearer
    client: honey-key
    key: ${sealed.bryony_key}
    user: clerk
    claims:
      depot: north
      level: 3
      may:
        - read
`+
			"  by_shared:\n"+oauth+`    grant: jwt bearer
    client: honey-desk
    client secret: ${sealed.honey_desk}
    user: clerk
`+
			"  by_roster:\n"+oauth+`    grant: saml bearer
    client: honey-desk
    client secret: ${sealed.honey_desk}
    assertion: roster.xml
`+
			"  secret_jwt:\n"+oauth+
			"    client: honey-desk\n    client secret: ${sealed.honey_desk}\n    client authentication: client secret jwt\n"+
			"  roster:\n    kind: saml\n    assertion: roster.xml\n    stamp: 1 min\n"+
			"  ended:\n    kind: saml\n    assertion: ended.xml\n"+
			`  holder:
    kind: signature
    key: ${sealed.bryony_key}
    reference: assertion
    sign:
      - body
      - assertion
`+
			`  short:
    kind: username token
    user: bee
    password: ${sealed.short}
    nonce: true
    stamp: 1 min
`+
			"  packed:\n    kind: certificate\n    certificate: certs/bryony.p12\n    password: ${sealed.p12}\n"+
			`  courier64:
    kind: hmac
    sign:
      - method
      - host
      - path
      - sorted query
    key: ${sealed.courier64}
    key is: base64
    stamp: query Timestamp
    into: query Signature
`, 1)
	p.write("bench.yaml", bench)
	for name, says := range map[string]string{
		"by_assertion": "sub        clerk", "by_shared": "sub        clerk",
		"by_roster": "sub        bryony", "secret_jwt": "sub        honey-desk",
	} {
		o := p.run("token", name, "-verify", "-site", "local")
		assert.Equal(t, 0, o.status, "%s: %s", name, o.all())
		assert.Contains(t, o.stdout, says)
	}
	for _, args := range []string{
		"call secure GET /lots -login packed,clerk -site local",
		"call secure GET /lots -login clerk -site packed",
		"call courier/deliveries day=2026-09-01 -login courier64 -site local",
	} {
		o := p.run(strings.Fields(args)...)
		assert.Equal(t, 0, o.status, "%s: %s", args, o.all())
	}
	p.write("body.xml", `<a xmlns="urn:a">b</a>`)
	call := func(login string, more ...string) outcome {
		return p.run(append([]string{
			"call", "echo", "POST", "/", "-body", "body.xml", "-login", login, "-site",
			"local", "-show", "sent",
		}, more...)...)
	}
	o := call("holder,roster")
	assert.Equal(t, 0, o.status, o.all())
	for _, part := range []string{
		`<saml:NameID>bryony</saml:NameID>`, `#SAMLID">a1</wsse:KeyIdentifier>`, `URI="#a1"`,
		"<wsu:Expires>",
	} {
		assert.Contains(t, sent.text(), part)
	}
	assert.NotContains(t, o.all(), "bryony</saml:NameID>", "an assertion is a credential")
	assert.Equal(t, 0, call("roster", "-spoil", "tampered").status)
	assert.NotContains(t, sent.text(), "urn:heatherfold:roster<")
	assert.Equal(t, 0, call("roster", "-spoil", "empty").status)
	assert.NotContains(t, sent.text(), "Assertion")
	assert.Contains(t, call("ended").all(), "the assertion ended 1h0m")
	assert.Contains(t, strings.Join(strings.Fields(call("holder").all()), " "), "put a saml login before this one")
	o = call("short")
	assert.Contains(t, sent.text(), `#PasswordText">b3e!<`)
	assert.Contains(t, sent.text(), "<wsse:Nonce")
	assert.NotContains(t, o.all(), "b3e!")

	o = p.sheet(`sheet: attached
site: local
steps:
  - step: beside
    call: lab_signed/FileCertificate
    fill:
      lot: L-2201
      certificate: ${file:data/certificate.txt | base64}
  - step: with a user
    call: lab/FileCertificate
    login: lab_desk
    attach:
      - file: data/certificate.txt
        name: certificate
    fill:
      lot: L-2201
      certificate:
        attached: certificate
    fields:
      size: 118
  - step: by reference
    call: lab_signed/FileCertificate
    attach:
      - file: data/certificate.txt
        name: certificate
    fill:
      lot: L-2201
      certificate:
        attached: certificate
`)
	assert.Contains(t, o.stdout, "refers to an attachment by XOP", o.all())
	assert.Equal(t, 2, strings.Count(o.stdout, " passed\n"), o.stdout)
}

// A site may use other logins, also in exchange for one another, and for logins
// that others need; -dry shows each login's place and asks nobody.
func TestLoginsOfASite(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	bench := p.read("bench.yaml")
	bench = strings.Replace(bench, "  south:\n    like: local\n",
		"  south:\n    like: local\n    logins:\n      clerk: clerk_in_person\n      clerk_in_person: clerk\n", 1)
	bench = strings.Replace(bench, "logins:\n  clerk:\n",
		"logins:\n  given:\n    kind: saml\n    from: clerk\n  clerk:\n", 1)
	p.write("bench.yaml", bench)
	for args, sub := range map[string]string{
		"clerk -site local": "honey-desk", "clerk -site south": "clerk",
		"clerk_in_person -site south": "honey-desk", "clerk_on_behalf -site local": "clerk",
		"clerk_on_behalf -site south": "honey-desk",
	} {
		o := p.run(append([]string{"token"}, strings.Fields(args)...)...)
		assert.Contains(t, o.stdout, "sub        "+sub+"\n", "%s: %s", args, o.all())
	}
	server.Close()
	for login, shown := range map[string]string{
		"clerk": "Authorization: Bearer [masked]", "clerk_bound": "Authorization: DPoP [masked]",
		"phone": "Authorization: Bearer [masked]", "old_desk": "Authorization: Ticket [masked]",
		"office":     "Cookie: (the cookies of the session office)\nLedger-Word: [masked]",
		"ledger_key": "Ledger-Key: [masked]", "courier": "signed over\n", "courier_pickups": "Signature-Input: sig1=",
	} {
		o := p.run("call", "courier/pickup", "lot=L-2201", "-login", login, "-dry")
		assert.Equal(t, 0, o.status, o.all())
		assert.Contains(t, o.stdout, shown, login)
	}
	for login, shown := range map[string]string{
		"lab_desk": "<wsse:UsernameToken>", "lab_signature": "<ds:Signature ",
		"lab_envelope": "<xenc:EncryptedData", "given": "signed over\n  (not made: login given",
	} {
		o := p.run("call", "lab/ConvertIndex", "refractiveIndex=1.4940", "-login", login, "-dry")
		assert.Equal(t, 0, o.status, o.all())
		assert.Contains(t, o.stdout, shown, login)
	}
}

// A secret that others can open is not replaced by the way; a colleague's own is outside of
// the bench, in place of the shared one of its name.
func TestSecretsOfOnesOwn(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write("bench.yaml", `bench: b
sites:
  local: {}
logins:
  l:
    kind: key
    key: ${sealed.clerk}
    header: X-Key
`)
	config := t.TempDir()
	as := func(who, stdin string, args ...string) outcome {
		q := *p
		q.env = append(slices.Clone(p.env), "TESTBENCH_IDENTITY="+filepath.Join(config, who, "identity.txt"))
		q.stdin = stdin
		return q.run(args...)
	}
	o := as("ansel", "shared-secret-1", "secret", "set", "clerk")
	require.Zero(t, o.status, o.all())
	require.Zero(t, as("ansel", "shared-secret-2", "secret", "set", "clerk").status, "nobody else opens it")
	require.Zero(t, as("bryony", "x-own-secret", "secret", "set", "made").status, "an identity of her own")
	key := regexp.MustCompile(`age1[a-z0-9]+`).FindString(as("bryony", "", "secret", "list").stderr)

	o = as("bryony", "hers", "secret", "set", "clerk")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "clerk is sealed for 1 key that you are not one of")
	assert.Contains(t, o.stderr, "-mine keeps one for you alone; -replace replaces it for all")
	require.Zero(t, as("bryony", "", "secret", "remove", "made").status)
	require.Zero(t, as("ansel", "", "secret", "share", key).status)
	for _, who := range []string{"ansel", "bryony"} {
		o = as(who, "other", "secret", "set", "clerk")
		assert.Equal(t, 2, o.status)
		assert.Contains(t, o.stderr, "clerk is sealed for 1 key beside yours")
	}
	o = as("bryony", "her-own-secret", "secret", "set", "clerk", "-mine")
	require.Zero(t, o.status, o.all())
	assert.NotContains(t, o.stderr, p.dir, "it lies outside of the bench")
	assert.Regexp(t, `clerk +every site.*yours alone\n`, as("bryony", "", "secret", "list").stdout)
	assert.Contains(t, as("bryony", "", "secret", "list", "-json").stdout, `"mine": true`)
	assert.Equal(t, "her-own-secret\n", as("bryony", "", "token", "l", "-bare").stdout)
	assert.Equal(t, "shared-secret-2\n", as("ansel", "", "token", "l", "-bare").stdout)
	require.Zero(t, as("bryony", "for-local", "secret", "set", "clerk", "-mine", "-site", "local").status)
	assert.Equal(t, "for-local\n", as("bryony", "", "token", "l", "-bare", "-site", "local").stdout)
	require.Zero(t, as("bryony", "", "secret", "remove", "clerk", "-mine", "-site", "local").status)
	require.Zero(t, as("bryony", "", "secret", "remove", "clerk", "-mine").status)
	assert.Equal(t, "shared-secret-2\n", as("bryony", "", "token", "l", "-bare").stdout)
	require.Zero(t, as("bryony", "replaced-by-her", "secret", "set", "clerk", "-replace").status)
	assert.Equal(t, "replaced-by-her\n", as("ansel", "", "token", "l", "-bare").stdout)
	// Somebody at a terminal is asked.
	q := *p
	q.env = append(slices.Clone(p.env), "TESTBENCH_IDENTITY="+filepath.Join(config, "ansel", "identity.txt"))
	said := q.onTerminal("(yes or no", "no\n", "testbench secret set clerk")
	assert.Contains(t, said, "clerk was left as it is")
	assert.Equal(t, "replaced-by-her\n", as("ansel", "", "token", "l", "-bare").stdout)
}
