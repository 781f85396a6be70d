//go:build peers

package main_test

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"mime"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asTold is what a server can tell of a request, in a form in which two clients can be held against each
// other: escaping that means the same is the same.
func asTold(r *http.Request) string {
	body, _ := io.ReadAll(r.Body)
	kind, params, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	said := string(body)
	switch {
	case kind == "application/x-www-form-urlencoded":
		said = pairsIn(said)
	case strings.HasPrefix(kind, "multipart/"):
		said = strings.ReplaceAll(said, params["boundary"], "B")
		var parts []string
		for part := range strings.SplitSeq(said, "--B") {
			head, content, _ := strings.Cut(strings.TrimPrefix(part, "\r\n"), "\r\n\r\n")
			lines := strings.Split(strings.ToLower(head), "\r\n")
			disposition, mediaType := "", ""
			for _, line := range lines {
				if rest, ok := strings.CutPrefix(line, "content-disposition: "); ok {
					disposition = rest
				}
				if rest, ok := strings.CutPrefix(line, "content-type: "); ok && !strings.HasPrefix(rest, "text/plain") &&
					rest != "application/octet-stream" {
					mediaType = rest // the others are what clients add by themselves
				}
			}
			parts = append(parts, disposition+"|"+mediaType+"|"+content)
		}
		said = strings.Join(parts, "\n")
	case strings.HasSuffix(kind, "json"):
		var v any
		if json.Unmarshal(body, &v) == nil {
			text, _ := json.Marshal(v)
			said = string(text)
		}
	}
	out := fmt.Sprintf("%s %s ? %s\ntype %s charset %s", r.Method, r.URL.Path, pairsIn(r.URL.RawQuery), kind, params["charset"])
	for _, name := range []string{"Authorization", "Cookie", "X-Depot", "X-Note", "Referer"} {
		out += "\n" + name + ": " + r.Header.Get(name)
	}
	if accept := r.Header.Get("Accept"); accept != "*/*" && accept != "" {
		out += "\nAccept: " + accept
	}
	return out + "\n" + said
}

func pairsIn(query string) string {
	var out []string
	for pair := range strings.SplitSeq(query, "&") {
		name, text, _ := strings.Cut(pair, "=")
		name, _ = url.QueryUnescape(name)
		text, _ = url.QueryUnescape(text)
		out = append(out, name+"="+text)
	}
	return strings.Join(out, " & ")
}

// A command line of curl becomes an operation whose call is what curl sends: curl itself is the judge, over
// random command lines.
func TestCommandLinesByCurl(t *testing.T) {
	t.Parallel()
	var seen lines
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen.add(asTold(r))
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, "{}")
	}))
	t.Cleanup(server.Close)
	const seed = 21 // another one finds more
	chance := rand.New(rand.NewPCG(seed, 7))
	one := func(words ...string) string { return words[chance.IntN(len(words))] }
	some := func(n int, words ...string) []string {
		chance.Shuffle(len(words), func(i, j int) { words[i], words[j] = words[j], words[i] })
		return words[:chance.IntN(min(n, len(words))+1)]
	}
	quoted := func(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
	for i := range 60 {
		p := newPlace(t)
		p.write("bench.yaml", "bench: b\nsites:\n  here:\n    set:\n      depot: north\nservices:\n  old:\n    address: http://127.0.0.1:1\n")
		p.write("note.txt", "two words\nand ümlauts & more\n")
		words := []string{"curl", "-sS"}
		words = append(words, some(3, "-H 'X-Depot: north'", "-H 'X-Note: a, b; c=\"d\"'", "-e http://h.example/x", "-u 'clerk:wo rd'",
			"-b 'a=1; b=zwei'", "-H 'Accept: application/xml;q=0.9'", "-k", "-L")...)
		path := one("/lots", "/lots/L-2201", "/h%C3%A4user/%E8%9C%82", "/a/b%20c/7", "/v2/lots/3f2c1a90-6b7d-4e58-9c01-2d3e4f506172.json", "/")
		query := one("", "?b=2&a=1", "?empty=&word=a%20b%26c", "?page.size=4&filter%5Bmin%5D=3", "?na%C3%AFf=%C3%A9")
		kind := chance.IntN(9)
		switch kind {
		case 1:
			words = append(words, "-d a=1", "-d", quoted("b=x y"), "--data-urlencode", quoted("c=ä & ö"))
		case 2:
			words = append(words, "--data-urlencode", one("note@note.txt", "'=plain'", "'x=1=2'"), "-d z=1")
		case 3:
			words = append(words, "--json", quoted(one(`{"lot": "L-2201", "kilos": 17.50, "sold": false}`,
				`{"who": {"name": "Bryony", "tags": ["a", "7"]}, "code": "007", "none": null}`, `{"deep": {"er": [{"a": 1}]}}`)))
		case 4:
			words = append(words, "-X", one("PUT", "PATCH"), "-H", quoted(one("Content-Type: application/json; charset=utf-8",
				"Content-Type: application/vnd.lot+json")), "-d", quoted(`{"a": {"b": [1, 2]}, "c": "x"}`))
		case 5:
			words = append(words, "-F lot=L-2201", "-F", one("note=@note.txt", "'note=@note.txt;type=text/markdown;filename=n.md'", "'note=<note.txt'"))
		case 6:
			words = append(words, "-G", "-d q=honey", "--data-urlencode", quoted("r=a b&c"))
		case 7:
			words = append(words, "-X", one("DELETE", "PUT", "OPTIONS"))
		case 8:
			words = append(words, "-d @note.txt", "-H 'Content-Type: text/plain; charset=utf-8'")
		}
		line := strings.Join(append(words, quoted(server.URL+path+query)), " ")
		curl := exec.Command("sh", "-c", line)
		curl.Dir = p.dir
		output, err := curl.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, output)
		want := taken(&seen)
		require.Len(t, want, 1, line)
		o := p.run("add", "it", "-from-shell", line)
		require.Equal(t, 0, o.status, "%s: %s", line, o.all())
		o2 := p.run("vet")
		require.Equal(t, 0, o2.status, "%s: %s", line, o2.all())
		if kind == 5 {
			o = p.run("run", "sheets/it.yaml")
		} else {
			operation := regexp.MustCompile(`operations:\n *([^:]+):`).FindStringSubmatch(o.stdout)
			require.NotNil(t, operation, o.all())
			args := []string{"call", "it/" + operation[1]}
			if body := regexp.MustCompile("-body (\\S+)`?").FindStringSubmatch(o.all()); body != nil {
				args = append(args, "-body", strings.Trim(body[1], "`"))
			}
			o = p.run(args...)
		}
		require.Equal(t, 0, o.status, "%d: %s: %s", i, line, o.all())
		assert.Equal(t, want, taken(&seen), "%d: %s\n%s", i, line, p.read("bench.yaml"))
	}
}
