package bridge_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bridge"
	"testbench/internal/document"
	"testbench/internal/xsd"
)

func shapes(t testing.TB) *xsd.Schema {
	t.Helper()
	data, err := os.ReadFile("testdata/shapes.xsd")
	require.NoError(t, err)
	l := &xsd.Loader{}
	require.NoError(t, l.AddText("shapes.xsd", data))
	schema, err := l.Schema()
	require.NoError(t, err)
	return schema
}

// echo is a bridge to a service that answers what it is sent, as XML.
func echo(t testing.TB, o bridge.Options, spoil func(*bridge.Result)) *bridge.Handler {
	t.Helper()
	o.Schema = shapes(t)
	e := o.Schema.Element("urn:heatherfold:shapes", "Shapes")
	o.Title = "Shapes"
	o.Operations = []bridge.Operation{{Name: "Echo", Request: e, Answer: e}, {Name: "Tell", Request: e}}
	o.Call = func(ctx context.Context, operation string, fields *document.Node) bridge.Result {
		root, short := o.Schema.Fill(e, fields, xsd.FillOptions{})
		if len(short) > 0 {
			p := &bridge.Problem{Title: "the request does not fit", Status: http.StatusBadRequest}
			for _, s := range short {
				p.Errors = append(p.Errors, bridge.FieldProblem{Detail: s.String()})
			}
			return bridge.Result{Problem: p}
		}
		document.Declare(root)
		read, err := document.ReadXML([]byte(document.WriteXML(root, document.Style{})), "")
		if err != nil {
			return bridge.Result{Problem: &bridge.Problem{Title: err.Error(), Status: http.StatusBadGateway}}
		}
		result := bridge.Result{Answer: read}
		if spoil != nil {
			spoil(&result)
		}
		return result
	}
	h, err := bridge.New(o)
	require.NoError(t, err)
	return h
}

func ask(h http.Handler, method, path, body string, header ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

// maker makes values that a schema takes.
type maker struct {
	random *rand.Rand
	root   map[string]any
}

func (m *maker) value(schema map[string]any, depth int) any {
	pick := func(list []any) any { return list[m.random.IntN(len(list))] }
	if ref, ok := schema["$ref"].(string); ok {
		name := ref[strings.LastIndexByte(ref, '/')+1:]
		return m.value(m.root["components"].(map[string]any)["schemas"].(map[string]any)[name].(map[string]any), depth)
	}
	if all, ok := schema["allOf"].([]any); ok {
		out := map[string]any{}
		for i := len(all) - 1; i >= 0; i-- {
			if part, ok := m.value(all[i].(map[string]any), depth).(map[string]any); ok {
				for k, v := range part {
					out[k] = v
				}
			}
		}
		return out
	}
	if one, ok := schema["anyOf"].([]any); ok {
		return m.value(pick(one).(map[string]any), depth)
	}
	if values, ok := schema["enum"].([]any); ok {
		return pick(values)
	}
	if c, ok := schema["const"]; ok {
		return c
	}
	switch schema["type"] {
	case "null":
		return nil
	case "boolean":
		return m.random.IntN(2) == 0
	case "integer":
		return json.Number(fmt.Sprint(m.random.IntN(2_000_000_000) - 1_000_000_000))
	case "number":
		return json.Number(fmt.Sprintf("%d.%03d", m.random.IntN(1<<40)-1<<39, m.random.IntN(1000)))
	case "array":
		list := []any{}
		least, most := 0, 3
		if n, ok := schema["minItems"].(json.Number); ok {
			v, _ := n.Int64()
			least = int(v)
		}
		if n, ok := schema["maxItems"].(json.Number); ok {
			v, _ := n.Int64()
			most = int(v)
		}
		for range max(least, m.random.IntN(most+1)) {
			list = append(list, m.value(schema["items"].(map[string]any), depth+1))
		}
		return list
	case "object":
		out := map[string]any{}
		required := map[string]bool{}
		for _, name := range asList(schema["required"]) {
			required[name.(string)] = true
		}
		properties := schema["properties"].(map[string]any)
		if schema["maxProperties"] != nil {
			var names []any
			for name := range properties {
				names = append(names, name)
			}
			name := pick(names).(string)
			return map[string]any{name: m.value(properties[name].(map[string]any), depth+1)}
		}
		for name, p := range properties {
			if required[name] || name != "@xsi:type" && (required[name] || depth < 3 && m.random.IntN(2) == 0) {
				out[name] = m.value(p.(map[string]any), depth+1)
			}
		}
		return out
	case "string":
		switch about, _ := schema["description"].(string); {
		case schema["pattern"] != nil:
			return fmt.Sprintf("L-%04d", m.random.IntN(10000))
		case strings.HasPrefix(about, "date with"):
			return fmt.Sprintf("2026-11-%02dT08:30:00.%03dZ", 1+m.random.IntN(28), m.random.IntN(1000))
		case strings.HasPrefix(about, "date"):
			return fmt.Sprintf("2026-11-%02d", 1+m.random.IntN(28))
		}
		return pick([]any{"plain", "", "a <b> & \"c\"", "  blanks  ", "line\nbreak\tand tab", "Grüße, 蜂蜜 🐝", "]]>", "${sealed.x}", "12.50", "true", "null"})
	}
	return nil
}

func asList(v any) []any {
	list, _ := v.([]any)
	return list
}

// A thousand payloads that the published schema allows go to XML and back without loss.
func TestThereAndBack(t *testing.T) {
	h := echo(t, bridge.Options{}, nil)
	described := ask(h, "GET", "/openapi.json", "").Body.String()
	decoder := json.NewDecoder(strings.NewReader(described))
	decoder.UseNumber()
	var root map[string]any
	require.NoError(t, decoder.Decode(&root))
	compiler := jsonschema.NewCompiler()
	resource, err := jsonschema.UnmarshalJSON(strings.NewReader(described))
	require.NoError(t, err)
	require.NoError(t, compiler.AddResource("openapi.json", resource))
	schema, err := compiler.Compile("openapi.json#/paths/~1Echo/post/requestBody/content/application~1json/schema")
	require.NoError(t, err)
	m := &maker{rand.New(rand.NewPCG(7, 7)), root}
	whole := root["paths"].(map[string]any)["/Echo"].(map[string]any)["post"].(map[string]any)["requestBody"].(map[string]any)["content"].(map[string]any)["application/json"].(map[string]any)["schema"].(map[string]any)
	for i := range 1_000 {
		fields := m.value(whole, 0).(map[string]any)
		// Of a choice one is given, which no schema of JSON says here.
		if m.random.IntN(2) == 0 {
			delete(fields, "right")
			delete(fields, "further")
			fields["left"] = "l"
		} else {
			delete(fields, "left")
			fields["right"] = "r"
		}
		// A list without items is not there, in XML.
		var prune func(v any) any
		prune = func(v any) any {
			switch v := v.(type) {
			case map[string]any:
				for k, inner := range v {
					if list, ok := prune(inner).([]any); ok && len(list) == 0 && k != "numbers" {
						delete(v, k)
					}
				}
			case []any:
				for _, inner := range v {
					prune(inner)
				}
			}
			return v
		}
		prune(fields)
		sent, err := json.Marshal(fields)
		require.NoError(t, err)
		w := ask(h, "POST", "/Echo", string(sent))
		require.Equal(t, 200, w.Code, "%d: %s\n%s", i, sent, w.Body)
		require.JSONEq(t, string(sent), w.Body.String(), i)
		for _, exact := range []string{fmt.Sprint(fields["exact"])} {
			require.Contains(t, w.Body.String(), exact, "no digit is lost")
		}
		back, err := jsonschema.UnmarshalJSON(strings.NewReader(w.Body.String()))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(back), w.Body.String())
	}
}

// Whatever is wrong is told as a problem, with the right status.
func TestProblems(t *testing.T) {
	now := time.Now()
	keys, err := bridge.OpenKeys(filepath.Join(t.TempDir(), "a", "keys.json"))
	require.NoError(t, err)
	all, err := keys.Issue("all", nil, time.Time{})
	require.NoError(t, err)
	some, err := keys.Issue("some", []string{"Tell"}, time.Time{})
	require.NoError(t, err)
	over, err := keys.Issue("over", nil, now.Add(-time.Hour))
	require.NoError(t, err)
	gone, err := keys.Issue("gone", nil, time.Time{})
	require.NoError(t, err)
	require.NoError(t, keys.Withdraw("gone"))
	assert.ErrorContains(t, keys.Withdraw("gone"), "there is no key gone that could be withdrawn")
	_, err = keys.Issue("all", nil, time.Time{})
	assert.ErrorContains(t, err, "there is a key all already")
	for _, key := range keys.List() {
		assert.NotContains(t, key.Hash, "key-")
	}
	h := echo(t, bridge.Options{Keys: keys, MaxBody: 2_000}, nil)
	const good = `{"id": 1, "text": "t", "exact": 1.50, "yes": true, "grade": "A", "measure": [{"unit": "%", ".": 5}], "left": "l"}`
	for _, c := range []struct {
		method, path, body, key string
		status                  int
		says                    string
	}{
		{"POST", "/Echo", good, all, 200, `"exact":1.50`},
		{"POST", "/Tell", good, some, 202, ""},
		{"POST", "/Echo", good, some, 403, "the key some is not for Echo"},
		{"POST", "/Echo", good, over, 401, "the key was good until"},
		{"POST", "/Echo", good, gone, 401, "the key was withdrawn"},
		{"POST", "/Echo", good, "key-of-nobody", 401, "the key is unknown"},
		{"POST", "/Echo", good, "", 401, "a key is asked for"},
		{"GET", "/Echo", "", all, 405, "by POST"},
		{"POST", "/Ech", good, all, 404, `did you mean \"Echo\"?`},
		{"GET", "/a/b", "", all, 404, "no such place"},
		{"POST", "/Echo", `{"id": 1`, all, 400, "not JSON"},
		{"POST", "/Echo", `"text"`, all, 400, "must be an object"},
		{"POST", "/Echo", `{"id": "x"}`, all, 400, "id"},
		{"POST", "/Echo", strings.Repeat(" ", 3_000), all, 413, "2000 bytes"},
		{"POST", "/Echo", "", all, 400, "is missing"},
		{"GET", "/health", "", "", 200, "up"},
	} {
		header := []string{}
		if c.key != "" {
			header = []string{"Authorization", "Bearer " + c.key}
		}
		w := ask(h, c.method, c.path, c.body, header...)
		assert.Equal(t, c.status, w.Code, "%s %s", c.path, c.body)
		assert.Contains(t, w.Body.String(), c.says)
		if c.status >= 400 {
			assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
			assert.Contains(t, w.Body.String(), fmt.Sprintf(`"status":%d`, c.status))
		}
	}
	w := ask(h, "POST", "/Echo", good, "Authorization", "Bearer "+all, "Content-Type", "text/xml")
	assert.Equal(t, 415, w.Code)
	// A key that is withdrawn elsewhere counts at once.
	other, err := bridge.OpenKeys(filepath.Join(t.TempDir(), "none.json"))
	require.NoError(t, err)
	assert.Empty(t, other.List())
	metrics := ask(h, "GET", "/metrics", "").Body.String()
	assert.Contains(t, metrics, `bridge_requests_total{operation="Echo",status="401"} 4`)
	assert.NotContains(t, metrics, "Ech\"")
}

// Answers are kept for a time, and asked for anew by who wants to; who asks too often is
// told; a host that the bridge is not for is refused; secrets are masked.
func TestKeepingAndBounds(t *testing.T) {
	calls := 0
	h := echo(t, bridge.Options{Keep: map[string]time.Duration{"Echo": time.Hour}, PerSecond: 4, Hosts: []string{"example.com"},
		Mask: func(text string) string { return strings.ReplaceAll(text, "hidden", "[masked]") }}, func(*bridge.Result) { calls++ })
	const good = `{"id": 1, "text": "hidden", "exact": 1.50, "yes": true, "grade": "A", "measure": [{"unit": "%", ".": 5}], "left": "l"}`
	first := ask(h, "POST", "/Echo", good)
	assert.Empty(t, first.Header().Get("Age"))
	assert.Contains(t, first.Body.String(), "[masked]")
	again := ask(h, "POST", "/Echo", good)
	assert.NotEmpty(t, again.Header().Get("Age"))
	assert.Equal(t, first.Body.String(), again.Body.String())
	assert.Equal(t, 1, calls)
	ask(h, "POST", "/Echo", good, "Cache-Control", "no-cache")
	assert.Equal(t, 2, calls)
	statuses := map[int]int{}
	for range 12 {
		w := ask(h, "POST", "/Echo", good)
		statuses[w.Code]++
	}
	assert.Positive(t, statuses[429])
	assert.Equal(t, "1", ask(h, "POST", "/Echo", good).Header().Get("Retry-After"))
	r := httptest.NewRequest("GET", "http://evil.example/", nil)
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	assert.Equal(t, 421, w.Code)
	_, err := bridge.New(bridge.Options{Schema: shapes(t), Keep: map[string]time.Duration{"None": time.Second}})
	assert.ErrorContains(t, err, `there is no operation "None"`)
}

func BenchmarkAnswer(b *testing.B) {
	h := echo(b, bridge.Options{}, nil)
	const good = `{"id": 1, "text": "t", "exact": 1.50, "yes": true, "grade": "A", "measure": [{"unit": "%", ".": 5}], "left": "l"}`
	for b.Loop() {
		if w := ask(h, "POST", "/Echo", good); w.Code != 200 {
			b.Fatal(w.Body)
		}
	}
}

// FuzzAsk asks a bridge for anything: what it answers is JSON, and never its own fault.
func FuzzAsk(f *testing.F) {
	for _, seed := range []string{`{}`, `{"name":"a","list":["x"]}`, `[1]`, `{"@id":"1","list":null}`, `null`, `{"a":{"b":{"c":1e999}}}`, `{"name":"\ud800"}`} {
		f.Add("/Echo", seed)
	}
	f.Add("/Tell", "x")
	h := echo(f, bridge.Options{}, nil)
	f.Fuzz(func(t *testing.T, path, body string) {
		if _, err := url.ParseRequestURI(path); err != nil || strings.ContainsAny(path, " ") {
			return
		}
		w := ask(h, http.MethodPost, path, body)
		if w.Code >= 500 && w.Code != http.StatusBadGateway {
			t.Fatalf("%d for %s %q: %s", w.Code, path, body, w.Body)
		}
		if w.Code == http.StatusOK && w.Body.Len() > 0 && !json.Valid(w.Body.Bytes()) {
			t.Fatalf("no JSON for %q: %s", body, w.Body)
		}
	})
}
