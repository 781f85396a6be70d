package main_test

import (
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var promised = regexp.MustCompile("`(Test[A-Za-z0-9]+)`")

// Each promise of docs/security.md names its tests, and they are there.
func TestSecurityPromises(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/security.md")
	require.NoError(t, err)
	var tests strings.Builder
	require.NoError(t, filepath.WalkDir("../..", func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return fs.SkipDir
		}
		if err == nil && strings.HasSuffix(name, "_test.go") {
			data, err := os.ReadFile(name)
			tests.Write(data)
			return err
		}
		return err
	}))
	found := promised.FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(found), 12)
	for _, one := range found {
		assert.True(t, strings.Contains(tests.String(), "\nfunc "+one[1]+"(t *testing.T)"), "there is no %s", one[1])
	}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "- ") {
			assert.Regexp(t, promised, line, "a promise has a test")
		}
	}
}

// evil is what a terminal would obey: a title, a colour, a link, a bell, C1 controls, marks
// that turn the direction of writing.
const evil = "a\x1b]0;title\x07b\x1b[31mc\x1b]8;;http://x\x1b\\d\u009b2Je\u202ef\u2066g\rh\bi\u2028j"

// Nothing that an endpoint sends is obeyed by a terminal.
func TestNoEscapesFromAnswers(t *testing.T) {
	slow(t)
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/reason":
			hijacked, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				_, _ = io.WriteString(hijacked,
					"HTTP/1.1 400 "+strings.NewReplacer("\r", "", "\n", "").Replace(evil)+
						"\r\nContent-Type: text/plain\r\nContent-Length: 2\r\nConnection: close\r\n\r\nno")
				_ = hijacked.Close()
			}
		case "/xml":
			w.Header().Set("Content-Type", "text/xml")
			_, _ = io.WriteString(w,
				`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:Client</faultcode><faultstring>a&#x9b;2J`+"\u202e\u009b31m\u2028"+`</faultstring></e:Fault></e:Body></e:Envelope>`)
		case "/text":
			w.Header().Set("Content-Type", "text/plain; charset="+"\x01")
			_, _ = io.WriteString(w, evil)
		case "/html":
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(500)
			_, _ = io.WriteString(w, "<h1>"+evil+"</h1>")
		case "/openapi.json":
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w,
				`{"openapi":"3.1.0","info":{"title":`+jsonOf(evil)+`,"version":"1","description":`+jsonOf(evil)+
					`},"paths":{"/x":{"get":{"operationId":"op","summary":`+jsonOf(evil)+
					`,"parameters":[{"in":"query","name":`+jsonOf("p"+evil)+`,"description":`+jsonOf(evil)+
					`,"schema":{"type":"string","enum":[`+jsonOf(evil)+`]}}],"responses":{"200":{"description":`+
					jsonOf(evil)+`}}}}}}`)
		default:
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("X-Evil", strings.NewReplacer("\r", "", "\n", "").Replace(evil))
			if r.URL.Path == "/error" {
				w.WriteHeader(400)
			}
			_, _ = io.WriteString(w,
				`{"error": {"message": `+jsonOf(evil)+`, "field": `+jsonOf(evil)+`}, `+jsonOf("k"+evil)+`: [`+
					jsonOf(evil)+`]}`)
		}
	}))
	defer server.Close()
	p := newPlace(t)
	p.write("bench.yaml", "bench: evil\nsites:\n  local:\n    set: { base: \""+server.URL+
		"\" }\n  other:\n    set: { base: \""+server.URL+
		`" }
services:
  s: { address: "${base}" }
  d: { contract: "${base}/openapi.json", address: "${base}" }
`)
	p.write("sheets/s.yaml",
		`sheet: s
steps:
  - step: a
    request: s GET /x
    fields: { error.message: equals x, error.field: equals y }
    keep: { m: error.message }
  - step: b
    request: s GET /error
  - step: c
    request: s GET /reason
  - step: d
    request: s GET /xml
  - step: e
    request: s GET /html
  - step: f
    request: s GET /x?q=${m}
`)
	for _, command := range []string{
		"call s GET /x -show all -headers", "call s GET /error", "call s GET /reason", "call s GET /xml",
		"call s GET /text", "call s GET /html", "call s GET /x -pick error.message",
		"run sheets/s.yaml -show all", "history", "history 1.1", "report 1", "fields last", "fields 1.1",
		"fields 1.1 -tree", "propose s GET /x -times 2", "compare 1.1 1.2", "compare s GET /x -site local -site other",
		"watch s GET /x -times 1 -pick error.message",
		"survey d", "survey d op", "draft d op", "probe s GET /x", "probe d/op", "handover s GET /x -as shell",
		"add n " + server.URL + "/openapi.json",
	} {
		for _, shown := range []string{
			p.run(strings.Fields(command)...).all(),
			p.onTerminal("", "", "testbench "+command),
		} {
			plain := colours.ReplaceAllString(shown, "") // our own
			for _, r := range strings.ReplaceAll(strings.ReplaceAll(plain, "\r\n", "\n"), "\r", "") {
				isObeyed := r != '\n' && r != '\t' &&
					(unicode.IsControl(r) || r == 0x2028 || r == 0x2029 || r >= 0x202A && r <= 0x202E ||
						r >= 0x2066 && r <= 0x2069)
				if isObeyed {
					at := strings.IndexRune(plain, r)
					assert.Fail(t, "a control character comes through", "%s: %q: …%q", command, r,
						plain[max(0, at-60):min(len(plain), at+20)])
					break
				}
			}
		}
	}
}

func jsonOf(text string) string {
	var out strings.Builder
	for _, r := range text {
		fmt.Fprintf(&out, `\u%04x`, r)
	}
	return `"` + out.String() + `"`
}

// What a contract names is read only where the contract itself came from.
func TestContractsLeadNowhere(t *testing.T) {
	t.Parallel()
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		t.Error("the other host was asked")
	}))
	defer other.Close()
	secret := filepath.Join(t.TempDir(), "secret.xsd")
	require.NoError(t, os.WriteFile(secret,
		[]byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="TOLD"/></xs:schema>`), 0o644))
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		where := r.URL.Query().Get("at")
		switch r.URL.Path {
		case "/wsdl":
			w.Header().Set("Content-Type", "text/xml")
			_, _ = fmt.Fprintf(w, `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" targetNamespace="urn:x"><import namespace="urn:y" location=%q/><types><xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:x"><xs:include schemaLocation=%q/></xs:schema></types></definitions>`, where, where)
		case "/openapi":
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/x":{"get":{"responses":{"200":{"description":"d","content":{"application/json":{"schema":{"$ref":%q}}}}}}}}}`, where)
		}
	}))
	defer home.Close()
	p := newPlace(t)
	for _, where := range []string{
		"file://" + secret, secret, "ftp://127.0.0.1/x", "gopher://127.0.0.1/x",
		other.URL + "/x", "//" + strings.TrimPrefix(other.URL, "http://") + "/x", "jar:file://" + secret + "!/x",
		`\\127.0.0.1\share\x`,
	} {
		for _, format := range []string{"wsdl", "openapi"} {
			o := p.run("survey", home.URL+"/"+format+"?at="+
				strings.NewReplacer("/", "%2F", ":", "%3A", `\`, "%5C").Replace(where), "-json")
			assert.NotContains(t, o.all(), "TOLD", "%s: %s", format, where)
			assert.NotContains(t, o.all(), "goroutine ")
		}
	}
}

// Files are written only where the command line says, whatever names an answer holds; and
// what holds more than a report is for its owner alone.
func TestWhereFilesAreWritten(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Disposition", `attachment; filename="../../evil.txt"`)
		switch r.URL.Path {
		case "/parts":
			w.Header().Set("Content-Type", `multipart/related; boundary=b; type="text/xml"; start="<root>"`)
			_, _ = io.WriteString(w,
				"--b\r\nContent-Type: text/xml\r\nContent-ID: <root>\r\n\r\n<e:Envelope xmlns:e=\"http://schemas.xmlsoap.org/soap/envelope/\"><e:Body><a/></e:Body></e:Envelope>\r\n--b\r\nContent-Type: text/plain\r\nContent-ID: <../../evil.txt>\r\nContent-Disposition: attachment; filename=\"../../../evil.txt\"\r\n\r\nevil\r\n--b--\r\n")
		default:
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"name": "../../evil.txt"}`)
		}
	}))
	defer server.Close()
	p := newPlace(t)
	deep := filepath.Join(p.dir, "a", "b", "c")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	p.write("a/b/c/bench.yaml", "bench: files\nsites:\n  local: {}\nservices:\n  s: { address: \""+server.URL+"\" }\n")
	p.write("a/b/c/sheets/s.yaml",
		`sheet: ../../../evil
steps:
  - step: ../../evil.txt
    request: s GET /parts
  - step: b
    request: s GET /x
    keep: { name: name }
  - step: c
    request: s GET /x?${name}
`)
	q := *p
	q.dir = deep
	for _, command := range []string{
		"call s GET /parts -save saved", "call s GET /x -save saved2 -log log.txt",
		"run sheets/s.yaml -out r.html -out r.har -out r.csv -out r.json", "history 1.1",
		"handover s GET /x -as go -out h.go",
	} {
		o := q.run(strings.Fields(command)...)
		assert.NotContains(t, o.all(), "goroutine ")
	}
	var names []string
	require.NoError(t, filepath.WalkDir(p.dir, func(name string, d fs.DirEntry, err error) error {
		if d.IsDir() && d.Name() == ".testbench" {
			info, err := d.Info()
			if runtime.GOOS != "windows" {
				assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm(), name)
			}
			return firstError(err, fs.SkipDir)
		}
		if !d.IsDir() {
			relative, _ := filepath.Rel(deep, name)
			names = append(names, filepath.ToSlash(relative))
		}
		return err
	}))
	assert.ElementsMatch(t,
		[]string{
			"bench.yaml", "sheets/s.yaml", "saved", "saved2", "log.txt", "r.html", "r.har", "r.csv", "r.json",
			"h.go", "../../../identity/identity.txt",
		}, names)
	needsUnix(t, "files of their owner alone")
	for _, name := range []string{"log.txt", "../../../identity/identity.txt"} {
		info, err := os.Stat(filepath.Join(deep, name))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), name)
	}
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// Who waits for a callback listens on this machine alone, hears what is addressed to it,
// and is not filled up.
func TestReceiverIsCareful(t *testing.T) {
	t.Parallel()
	told := make(chan string, 1)
	answers := make(chan string, 3)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if at := r.URL.Query().Get("tell"); at != "" {
			told <- at
		}
	}))
	defer server.Close()
	go func() {
		at := <-told
		ask := func(host, body string) {
			r, _ := http.NewRequest(http.MethodPost, at, strings.NewReader(body))
			if host != "" {
				r.Host = host
			}
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				answers <- err.Error()
				return
			}
			_ = answer.Body.Close()
			answers <- answer.Status
		}
		ask("rebound.example", `{"state":"forged"}`)
		ask("", strings.Repeat("x", 11<<20))
		ask("", `{"state":"done"}`)
	}()
	p := newPlace(t)
	p.write("bench.yaml", "bench: called\nsites:\n  local:\n    set: { base: \""+server.URL+"\" }\n")
	o := p.sheet(`sheet: s
steps:
  - step: ask
    request: GET ${base}/?tell=${callback}
  - step: told
    listen: POST
    fields: { state: done }
    within: 10 s
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, "421 Misdirected Request", <-answers)
	assert.Equal(t, "413 Request Entity Too Large", <-answers)
	assert.Equal(t, "204 No Content", <-answers)
}

// What lies after TLS does not follow to where there is none.
func TestCredentialsStayBehindTLS(t *testing.T) {
	t.Parallel()
	var seen lines
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.add(r.Header.Get("Authorization") + r.Header.Get("Cookie") + r.URL.RawQuery)
		_, _ = io.WriteString(w, "{}")
	}))
	defer plain.Close()
	locked := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, plain.URL+"/landed", http.StatusFound)
	}))
	defer locked.Close()
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_WORD=drone word 88")
	p.write("bench.yaml", "bench: locked\nsites:\n  local:\n    set: { base: \""+locked.URL+
		`" }
services:
  s: { address: "${base}", login: basic }
logins:
  basic: { kind: basic, user: clerk, password: "${sealed.word}" }
`)
	o := p.run("call", "s", "GET", "/x", "-insecure", "-in", "cookie.SID=session-1234")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, []string{""}, seen.read())
}

// A service whose header has no end takes no more than is allowed; one that speaks without
// being asked, as mail servers do, is told as that.
func TestAnswersThatAreNone(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	for says, answer := range map[string]func(c net.Conn){
		"the header of the answer": func(c net.Conn) {
			_, _ = c.Read(make([]byte, 1<<12))
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nX-Long: ")
			for err := error(nil); err == nil; {
				_, err = io.WriteString(c, strings.Repeat("x", 1<<16))
			}
		},
		"is not HTTP": func(c net.Conn) { _, _ = io.WriteString(c, "220 mail.heatherfold.example ready\r\n") },
	} {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = listener.Close() })
		go func() {
			for {
				c, err := listener.Accept()
				if err != nil {
					return
				}
				go func() {
					defer func() { _ = c.Close() }()
					_ = c.SetDeadline(time.Now().Add(20 * time.Second))
					answer(c)
					_, _ = io.Copy(io.Discard, c)
				}()
			}
		}()
		o := p.run("call", "GET", "http://"+listener.Addr().String()+"/x", "-timeout", "10s")
		assert.Equal(t, 3, o.status, o.all())
		assert.Contains(t, o.all(), says)
	}
}
