package main_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// sentAs is a request as a server sees it, in a form in which two can be held against each other: what a
// document says, and not how it is written.
func sentAs(t *testing.T, method, target string, header http.Header, body string) string {
	out := []string{method + " " + target}
	for _, name := range []string{"Content-Type", "Depth", "If-Match", "Accept", "Soapaction"} {
		if v := header.Get(name); v != "" && v != "*/*" {
			out = append(out, name+": "+strings.ReplaceAll(strings.ToLower(v), `"`, ""))
		}
	}
	if form, err := url.ParseQuery(body); err == nil && strings.HasPrefix(header.Get("Content-Type"), "application/x-www-form") {
		body = form.Encode()
	}
	var v any
	switch {
	case json.Unmarshal([]byte(body), &v) == nil:
		text, err := json.Marshal(v)
		require.NoError(t, err)
		body = string(text)
	case strings.HasPrefix(body, "<"):
		root, err := document.ReadXML([]byte(body), "")
		require.NoError(t, err)
		body = expanded(root)
	}
	return strings.Join(append(out, body), "\n")
}

// expanded writes an element with its namespaces in place of prefixes.
func expanded(n *document.Node) string {
	var attributes []string
	for _, a := range n.Attributes() {
		if a.Name.Prefix != "xmlns" && a.Name.Local != "xmlns" && a.Name.Local != "encodingStyle" {
			attributes = append(attributes, " {"+a.Name.Space+"}"+a.Name.Local+"="+a.Value)
		}
	}
	slices.Sort(attributes)
	out := "<{" + n.Name().Space + "}" + n.Name().Local + strings.Join(attributes, "") + ">"
	if len(n.Children()) == 0 {
		out += strings.TrimSpace(n.OwnText())
	}
	for _, c := range n.Children() {
		out += expanded(c)
	}
	return out + "</>"
}

// Requests as public descriptions of protocols show them: each becomes an operation whose call is the
// request of the sample, whatever its shape.
func TestSamples(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("testdata/samples/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 10)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			var seen lines
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				seen.add(sentAs(t, r.Method, r.RequestURI, r.Header, string(body)))
				w.Header().Set("Content-Type", "text/plain")
			}))
			t.Cleanup(server.Close)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			host := strings.TrimPrefix(server.URL, "http://")
			text := strings.ReplaceAll(string(data), "HOST", host)
			p := newPlace(t)
			p.write("bench.yaml", "bench: b\nsites:\n  here:\n    set:\n      depot: north\nservices:\n  old:\n    address: http://127.0.0.1:1\n")
			p.write("sample.txt", text)
			o := p.run("add", "it", "-from-sample", "sample.txt")
			require.Equal(t, 0, o.status, o.all())
			o = p.run("vet")
			require.Equal(t, 0, o.status, o.all())
			o = p.run("survey", "it", "-json")
			require.Equal(t, 0, o.status, o.all())
			var said struct{ Operations []struct{ Name string } }
			require.NoError(t, json.Unmarshal([]byte(o.stdout), &said), o.stdout)
			require.Len(t, said.Operations, 1)
			o = p.run("call", "it/"+said.Operations[0].Name, "-into", "sheets/called.yaml")
			require.Contains(t, []int{0, 1}, o.status, o.all())
			head, body, _ := strings.Cut(text, "\n\n")
			if at := strings.Index(body, "\nHTTP/1.1"); at >= 0 {
				body = body[:at]
			}
			if filepath.Base(file) == "rpc.txt" {
				body, _, _ = strings.Cut(body, "\n")
			}
			header := http.Header{}
			first, rest, _ := strings.Cut(head, "\n")
			for line := range strings.Lines(rest) {
				name, v, _ := strings.Cut(line, ":")
				header.Set(name, strings.TrimSpace(v))
			}
			words := strings.Fields(first)
			want := sentAs(t, words[0], words[1], header, strings.TrimSpace(body))
			assert.Equal(t, []string{want}, taken(&seen), p.read("bench.yaml"))
			o = p.run("run", "sheets/called.yaml")
			require.Contains(t, []int{0, 1}, o.status, o.all())
			assert.Equal(t, []string{want}, taken(&seen), "what was written is the call that was made")
		})
	}
}
