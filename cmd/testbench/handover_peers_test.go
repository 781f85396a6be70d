//go:build peers

package main_test

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oddSecret has every sign that some encoding or language treats in its own way.
const oddSecret = `p&s<w>"o'r%d+$x\ {#}` + "`é蜂@1"

// runners run a program in a file; what is in the list is installed by scripts/test.
var runners = map[string]func(dir, file string) *exec.Cmd{
	"shell":      func(_, file string) *exec.Cmd { return exec.Command("sh", file) },
	"go":         func(_, file string) *exec.Cmd { return exec.Command("go", "run", file) },
	"python":     func(_, file string) *exec.Cmd { return exec.Command("/usr/bin/python3", file) },
	"requests":   func(_, file string) *exec.Cmd { return exec.Command("/usr/bin/python3", file) },
	"javascript": func(_, file string) *exec.Cmd { return exec.Command("node", file) },
	"typescript": func(dir, file string) *exec.Cmd {
		return exec.Command("sh", "-c",
			"node "+peersFolder+"/node_modules/typescript/bin/tsc --strict --target es2022 --module nodenext --moduleResolution nodenext --typeRoots "+peersFolder+"/node_modules/@types --types node --outDir "+dir+" "+file+" && node "+strings.TrimSuffix(file, ".mts")+".mjs")
	},
	"java": func(_, file string) *exec.Cmd { return exec.Command("java", "-Dfile.encoding=UTF-8", file) },
	"kotlin": func(dir, file string) *exec.Cmd {
		return exec.Command("sh", "-c",
			"kotlinc "+file+" -include-runtime -d "+dir+
				"/h.jar && java -Dfile.encoding=UTF-8 -Dstdout.encoding=UTF-8 -jar "+dir+"/h.jar")
	},
	// There is no runtime for it here; its syntax is looked at.
	"csharp": func(_, file string) *exec.Cmd { return exec.Command("mcs", "--parse", file) },
	"php":    func(_, file string) *exec.Cmd { return exec.Command("php", file) },
	"ruby":   func(_, file string) *exec.Cmd { return exec.Command("ruby", file) },
	"perl":   func(_, file string) *exec.Cmd { return exec.Command("perl", file) },
}

var peersFolder, _ = filepath.Abs("../../scripts/peers")

var betweenTags = regexp.MustCompile(`>\s+<`)

// meaning is what a request says, however its values are encoded.
func meaning(r *http.Request, body []byte) string {
	out := []string{r.Method, r.URL.Path, fmt.Sprint(r.URL.Query())}
	for _, name := range []string{"Content-Type", "X-Odd", "SOAPAction"} {
		out = append(out, name+": "+r.Header.Get(name))
	}
	login := r.Header.Get("Authorization")
	if user, password, ok := r.BasicAuth(); ok {
		if login = user + ":" + password; r.URL.Path == "/token" {
			login, _ = url.QueryUnescape(login)
		}
	}
	// RFC 9110 section 8.6: a method that has a body says that it is empty
	if len(body) == 0 && r.Method != http.MethodGet {
		out = append(out, "Content-Length: "+r.Header.Get("Content-Length"))
	}
	text := strings.TrimSpace(betweenTags.ReplaceAllString(string(body), "><"))
	var value any
	switch {
	case json.Unmarshal(body, &value) == nil:
		text = fmt.Sprintf("%#v", value)
	case strings.Contains(r.Header.Get("Content-Type"), "form-urlencoded"):
		form, _ := url.ParseQuery(text)
		text = fmt.Sprint(form)
	case strings.Contains(r.Header.Get("Content-Type"), "xml"):
		text = html.UnescapeString(text)
	}
	return strings.Join(append(out, login, text), "\n")
}

// What is handed over sends what call sends and prints what it picks, in every language
// whose tools are there; with every odd sign in values and in secrets.
func TestHandedOver(t *testing.T) {
	t.Parallel()
	var seen lines
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		seen.add(meaning(r, body))
		w.Header().Set("X-Made", "by hand")
		switch {
		case strings.HasPrefix(r.URL.Path, "/token"):
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{"access_token": "tok+en/1=", "token_type": "Bearer"}`)
		case strings.HasPrefix(r.URL.Path, "/json"):
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w,
				`{"lots": [{"id": "L \"1\" \u00e9蜂\n", "kilos": 12.5}, {"id": "L-2", "kilos": 7, "list": [1, true, null]}]}`)
		case strings.HasPrefix(r.URL.Path, "/soap"):
			w.Header().Set("Content-Type", "text/xml; charset=utf-8")
			_, _ = io.WriteString(w,
				`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><a:R xmlns:a="urn:a"><a:lot no="1"><id>x &amp; y</id></a:lot><a:lot no="2"><id>&#233;</id></a:lot></a:R></s:Body></s:Envelope>`)
		case strings.HasPrefix(r.URL.Path, "/latin"): // as the header says, though the first line says otherwise
			w.Header().Set("Content-Type", "application/xml; charset=ISO-8859-1")
			_, _ = io.WriteString(w,
				"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<stock xmlns:x=\"urn:x\" place=\"K\xf6ln\"><lot no=\"1\" x:no=\"1\" id=\"\xe9\"><id>inside</id></lot><lot id=\"\xfc2\"><name>Bl\xfcte</name></lot></stock>")
		case strings.HasPrefix(r.URL.Path, "/prolog"): // as the first line says
			w.Header().Set("Content-Type", "application/xml")
			_, _ = io.WriteString(w,
				"<?xml version='1.0' encoding='ISO-8859-1'?><stock><lot id=\"\xfc2\"><name>Bl\xfcte</name></lot></stock>")
		case strings.HasPrefix(r.URL.Path, "/no"):
			w.WriteHeader(http.StatusTeapot)
			_, _ = io.WriteString(w, "no tea here")
		default:
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			_, _ = io.WriteString(w, "plain é")
		}
	}))
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_ODD="+oddSecret)
	p.write("bench.yaml", `bench: over
sites:
  local:
    set:
      base: `+server.URL+`
services:
  s:
    address: ${base}
  o:
    address: ${base}
    login: oauth
  x:
    address: ${base}/soap
    soap: 1.1
    login: none
logins:
  oauth:
    kind: oauth2
    grant: client credentials
    from: ${base}/token
    client: honey-desk
    client secret: ${sealed.odd}
    scope: a b
  basic:
    kind: basic
    user: clérk
    password: ${sealed.odd}
  query:
    kind: key
    key: ${sealed.odd}
    query: key
`)
	p.write("data.bin", "\x00\x01\xff binary")
	p.write("body.xml", `<a:Q xmlns:a="urn:a"><a:note>${note}</a:note><a:key b="${sealed.odd}">${sealed.odd}</a:key></a:Q>`)
	const nasty = `q"u'o\te $x ${y} {h} #{r} %s @z ` + "`b` é 蜂蜜 🐝 <t>&amp; \t\n end"
	cases := []struct {
		name string
		args []string
		pick []string
	}{
		{
			"JSON",
			[]string{"o", "POST", "/json", "note=" + nasty, "secret=${sealed.odd}"},
			[]string{"lots[1].kilos", "lots[0].id", "lots[1].list", "reply.headers.X-Made"},
		},
		{"query", []string{
			"s", "GET", "/text", "-in", "query.q=" + nasty, "-in",
			"header.X-Odd=a \"b\" 'c' $d `e` \\f #{g}", "-login", "basic",
		}, []string{"reply.text"}},
		{"form", []string{
			"s", "POST", "/text", "-in", "form.a=" + nasty, "-in", "form.b=${sealed.odd}", "-login",
			"query",
		}, nil},
		{"SOAP", []string{
			"s", "POST", "/soap", "-body", "body.xml", "-in", "header.Content-Type=text/xml", "-set",
			"note=" + nasty,
		}, []string{"lot[1].id", "lot[0].no", "lot[1].no"}},
		{
			"binary",
			[]string{"s", "PUT", "/text", "-bytes", "data.bin", "-in", "header.Content-Type=application/x-comb"},
			nil,
		},
		{
			"header's charset",
			[]string{"s", "GET", "/latin", "-in", "header.Accept=application/xml"},
			[]string{"@place", "lot[0].@id", "lot[0].id", "lot[1].@id", "lot[1].name"},
		},
		{"first line's charset", []string{"s", "POST", "/prolog"}, []string{"lot.@id", "reply.headers.X-Made"}},
		{"refused", []string{"s", "GET", "/no"}, nil},
		{"unreached", []string{"GET", "http://127.0.0.1:1/", "-allow", "127.0.0.1", "-login", "none"}, nil},
	}
	literal := strings.NewReplacer("${y}", "$${y}")
	for _, c := range cases {
		for i, arg := range c.args {
			c.args[i] = strings.ReplaceAll(arg, nasty, literal.Replace(nasty))
		}
		seen.reset()
		o := p.run(append([]string{"call"}, c.args...)...)
		want := seen.read()
		require.True(t, len(want) > 0 || c.name == "unreached", "%s: %s", c.name, o.all())
		picked := ""
		for _, pick := range c.pick {
			one := p.run(append([]string{"call", "-pick", pick}, c.args...)...)
			require.Equal(t, 0, one.status, "%s: %s", pick, one.all())
			picked += one.stdout
		}
		for _, language := range []string{
			"shell", "go", "python", "requests", "javascript", "typescript", "java",
			"kotlin", "csharp", "php", "ruby", "perl",
		} {
			if (language == "kotlin" || language == "typescript") && c.name != "JSON" && c.name != "SOAP" &&
				c.name != "header's charset" {
				continue // they take seconds each
			}
			t.Run(c.name+" "+language, func(t *testing.T) {
				dir := t.TempDir()
				ending := map[string]string{
					"shell": ".sh", "go": ".go", "javascript": ".mjs", "typescript": ".mts",
					"java": ".java", "kotlin": ".kt", "csharp": ".cs", "php": ".php", "ruby": ".rb",
					"perl": ".pl",
				}[language]
				if ending == "" {
					ending = ".py"
				}
				file := filepath.Join(dir, "Handover"+ending)
				args := append([]string{"handover", "-as", language, "-out", file}, c.args...)
				for _, pick := range c.pick {
					args = append(args, "-pick", pick)
				}
				o := p.run(args...)
				require.Equal(t, 0, o.status, o.all())
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				assert.NotContains(t, string(text), "p&s", "no secret is in a program")
				seen.reset()
				command := runners[language](dir, file)
				command.Env = append(os.Environ(), "SECRET_ODD="+oddSecret, "CGO_ENABLED=0", "LC_ALL=C.UTF-8")
				var stdout, stderr strings.Builder
				command.Stdout, command.Stderr = &stdout, &stderr
				began := time.Now()
				err = command.Run()
				if language == "csharp" {
					require.NoError(t, err, stdout.String()+stderr.String())
					return
				}
				if c.name == "unreached" {
					assert.Error(t, err)
					assert.NotEmpty(t, stderr.String())
					assert.Less(t, len(stderr.String()), 300, stderr.String())
					return
				}
				if c.name == "refused" {
					assert.Error(t, err)
					assert.Contains(t, stderr.String(), "418")
					assert.Contains(t, stderr.String(), "no tea here")
					return
				}
				require.NoError(t, err, "%s\n%s", stdout.String(), stderr.String())
				assert.Equal(t, want, seen.read())
				if c.pick == nil {
					assert.Equal(t, "plain é", strings.TrimSpace(stdout.String()))
				}
				got := stdout.String()
				for line := range strings.Lines(picked) {
					if value := strings.TrimSpace(line); value != "" {
						assert.Contains(t, strings.ReplaceAll(got, " ", ""), strings.ReplaceAll(value, " ", ""),
							fmt.Sprint(c.pick))
					}
				}
				t.Log(time.Since(began).Round(time.Millisecond))
			})
		}
	}
}
