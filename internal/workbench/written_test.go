package workbench_test

import (
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/standin/demo"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

// recorder is a service that writes down what it is sent.
type recorder struct {
	mutex sync.Mutex
	seen  []string
}

func (r *recorder) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	body, _ := io.ReadAll(request.Body)
	var out strings.Builder
	fmt.Fprintf(&out, "%s %s %s\n", request.Method, request.RequestURI, request.Proto)
	for _, name := range slices.Sorted(maps.Keys(request.Header)) {
		fmt.Fprintf(&out, "%s: %q\n", name, request.Header[name])
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.seen = append(r.seen, out.String()+"\n"+string(body))
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, "{}")
}

func (r *recorder) take() []string {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	seen := r.seen
	r.seen = nil
	return seen
}

// A call that is written into a sheet is the call that was made, byte for byte, or it is
// refused: checked against calls made at random.
func TestWrittenCallsAreTheCallsThatWereMade(t *testing.T) {
	service := &recorder{}
	server := httptest.NewServer(service)
	defer server.Close()
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, server.URL))
	files := map[string]string{
		"b.json": `{"a": "x", "n": 03}`, "b.xml": "<n><a>x &amp; y</a></n>",
		"b.bin": "\x00\xff${x}", "b.txt": "plain $${text}", "b.csv": "a,b\n1,2\n",
	}
	for name, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	outside := filepath.Join(t.TempDir(), "outside.json")
	require.NoError(t, os.WriteFile(outside, []byte("{}"), 0o600))
	bench, err := workbench.Open(dir)
	require.NoError(t, err)

	targets := []string{
		"stores/search", "stores/lot", "lab/GradeLot", "lab/ConvertIndex", "ledger/Suppliers.list",
		"ledger/Suppliers.read", "index/prices",
		"stores POST /lots", "stores GET /lots?q=a b", "lab POST", "POST " + server.URL + "/x?y=1&z",
		"GET " + server.URL + "/${site.depot}", "PUT " + server.URL + "/ä/%41",
	}
	names := []string{
		"grade", "id", "lot", "moisture", "refractiveIndex", "top", "from_day", "a", "page.size",
		"lines.0.sku", "@x", ".", "true", "a b", "-",
	}
	texts := []string{
		"A", "3", "03", "1e3", "true", "null", "~", "yes", "", " lead", "trail ", "a: b", "a #b", "http://x/y", "/z",
		"$${x}", "${site.depot}", "é", "[1]", "{a: 1}",
		"#x", `'q"`, "- d", "*a", "&b", "!c", "%41", "two\nlines", "tab\t", "L-2201", "17.0", "A,B", "> x", "| y", "@z",
		"`w`", "\u2028", "=", "0x1F", "2026-11-29",
	}
	pick := func(r *rand.Rand, from []string) string { return from[r.IntN(len(from))] }
	written, refused := 0, map[string]int{}
	for seed := range uint64(map[bool]int{true: 150, false: 600}[testing.Short()]) {
		r := rand.New(rand.NewPCG(seed, 17))
		c := workbench.Call{
			Target: strings.SplitN(pick(r, targets), " ", 3), Login: "none",
			Contract: pick(r, []string{"", "off", "answer", "both"}),
		}
		if first := c.Target[0]; first == "POST" || first == "GET" || first == "PUT" {
			c.Target = []string{first, strings.Join(c.Target[1:], " ")}
		}
		for range r.IntN(4) {
			c.Fields = append(c.Fields, pick(r, names)+"="+pick(r, texts))
		}
		for range r.IntN(3) {
			c.In = append(c.In, pick(r,
				[]string{"query.q", "query.a.b", "header.X-Odd", "header.Accept", "cookie.c", "form.f", "query.q"})+"="+
				pick(r, texts))
		}
		switch r.IntN(8) {
		case 0:
			c.Body = pick(r, []string{
				filepath.Join(dir, "b.json"), filepath.Join(dir, "b.xml"),
				filepath.Join(dir, "b.txt"), filepath.Join(dir, "b.csv"), outside,
			})
		case 1:
			c.Bytes = filepath.Join(dir, "b.bin")
		case 2:
			c.Fill = document.NewObject().Set("a", document.NewText(pick(r, texts))).Set("n",
				document.NewNumber("1.50")).Set("e", document.NewList()).
				Set("o", document.NewObject()).Set("z", &document.Node{Kind: document.Null}).Set("u",
				document.NewUntyped(pick(r, texts)))
		case 3:
			c.SOAP = pick(r, []string{"1.1", "1.2", "off"})
		case 4:
			c.Action = "urn:heatherfold:odd"
			c.SOAP = pick(r, []string{"", "1.2"})
		case 5:
			c.Stay, c.HTTP, c.Pages = true, "1.1", 2
		}
		o := workbench.Options{}
		step, err := bench.Prepare(c, o)
		if err != nil {
			continue
		}
		_, _, err = bench.Do(t.Context(), step, o)
		made := service.take()
		if err != nil || len(made) == 0 {
			continue
		}
		text, err := bench.StepText(t.Context(), step, "written", nil, o)
		if err != nil {
			refused[err.Error()]++
			continue
		}
		written++
		source, err := yamlfile.AppendItem([]byte("sheet: written\nsteps:\n"), "steps", text)
		require.NoError(t, err)
		name := filepath.Join(dir, "sheets", "written.yaml")
		require.NoError(t, os.WriteFile(name, source, 0o600))
		result, err := bench.Run(t.Context(), []string{name}, workbench.RunOptions{Unrecorded: true})
		require.NoError(t, err, "seed %d: %+v\n%s", seed, c, source)
		require.NoError(t, result.Close())
		require.Equal(t, made, service.take(), "seed %d: %+v\n%s", seed, c, source)
	}
	t.Logf("%d calls were written, these were refused: %v", written, refused)
	require.Greater(t, written, map[bool]int{true: 25, false: 100}[testing.Short()])
}
