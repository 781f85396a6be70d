package bridge_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
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
	"testbench/internal/xsd/instance"
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
		root, short := instance.Fill(o.Schema, e, fields, instance.FillOptions{})
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
		return pick([]any{
			"plain", "", "a <b> & \"c\"", "  blanks  ", "line\nbreak\tand tab", "Grüße, 蜂蜜 🐝", "]]>",
			"${sealed.x}", "12.50", "true", "null",
		})
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
	all, err := keys.Issue("all", nil, nil, time.Time{})
	require.NoError(t, err)
	some, err := keys.Issue("some", []string{"Tell"}, nil, time.Time{})
	require.NoError(t, err)
	over, err := keys.Issue("over", nil, nil, now.Add(-time.Hour))
	require.NoError(t, err)
	gone, err := keys.Issue("gone", nil, nil, time.Time{})
	require.NoError(t, err)
	require.NoError(t, keys.Withdraw("gone"))
	assert.ErrorContains(t, keys.Withdraw("gone"), "there is no key gone that could be withdrawn")
	_, err = keys.Issue("all", nil, nil, time.Time{})
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
	h := echo(t, bridge.Options{
		Keep: map[string]time.Duration{"Echo": time.Hour}, PerSecond: 4, Hosts: []string{"example.com"},
		Mask: func(text string) string { return strings.ReplaceAll(text, "hidden", "[masked]") },
	}, func(*bridge.Result) { calls++ })
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

const goodShapes = `{"id": 1, "text": "t", "exact": 1.50, "yes": true, "grade": "A", "measure": [{"unit": "%", ".": 5}], "left": "l"}`

// A page of another origin makes the bridge do nothing, whatever it can send without asking; one
// of its own can, and so can what is not a browser.
func TestPagesOfElsewhere(t *testing.T) {
	calls := 0
	h := echo(t, bridge.Options{Hosts: []string{"127.0.0.1:8730", "localhost:8730"}}, func(*bridge.Result) { calls++ })
	for name, c := range map[string]struct {
		host    string
		headers []string
		body    string
		status  int
	}{
		"no browser": {
			"127.0.0.1:8730",
			[]string{"Content-Type", "application/json"},
			goodShapes,
			200,
		},
		"a page of its own": {
			"127.0.0.1:8730",
			[]string{
				"Content-Type", "application/json; charset=utf-8", "Origin", "http://127.0.0.1:8730",
				"Sec-Fetch-Site", "same-origin",
			},
			goodShapes, 200,
		},
		"one of its own, long ago": {
			"localhost:8730",
			[]string{"Content-Type", "application/json", "Origin", "http://localhost:8730"},
			goodShapes, 200,
		},
		"typed by hand": {
			"127.0.0.1:8730",
			[]string{"Content-Type", "application/json", "Sec-Fetch-Site", "none"},
			goodShapes, 200,
		},
		"another origin": {
			"127.0.0.1:8730",
			[]string{
				"Content-Type", "application/json", "Origin", "https://evil.example", "Sec-Fetch-Site",
				"cross-site",
			},
			goodShapes, 403,
		},
		"another port": {
			"127.0.0.1:8730",
			[]string{
				"Content-Type", "application/json", "Origin", "http://127.0.0.1:9999", "Sec-Fetch-Site",
				"same-site",
			},
			goodShapes, 403,
		},
		"another origin, long ago": {
			"127.0.0.1:8730",
			[]string{"Content-Type", "application/json", "Origin", "https://evil.example"},
			goodShapes, 403,
		},
		"an origin of null": {
			"127.0.0.1:8730",
			[]string{"Content-Type", "application/json", "Origin", "null"},
			goodShapes, 403,
		},
		"nothing, as a form sends it": {
			"127.0.0.1:8730",
			[]string{"Content-Type", "application/x-www-form-urlencoded"},
			"", 415,
		},
		"nothing, and no type": {"127.0.0.1:8730", nil, "", 415},
		"text":                 {"127.0.0.1:8730", []string{"Content-Type", "text/plain"}, goodShapes, 415},
		"a name of its own": {
			"evil.example:8730",
			[]string{"Content-Type", "application/json"},
			goodShapes,
			421,
		},
		"another port of the name": {"127.0.0.1:9999", []string{"Content-Type", "application/json"}, goodShapes, 421},
		"no port":                  {"127.0.0.1", []string{"Content-Type", "application/json"}, goodShapes, 421},
		"a longer name": {
			"127.0.0.1:8730.evil.example",
			[]string{"Content-Type", "application/json"},
			goodShapes, 421,
		},
	} {
		t.Run(name, func(t *testing.T) {
			before := calls
			r := httptest.NewRequest("POST", "/Echo", strings.NewReader(c.body))
			r.Host = c.host
			for i := 0; i+1 < len(c.headers); i += 2 {
				r.Header.Set(c.headers[i], c.headers[i+1])
			}
			w := httptest.NewRecorder()
			h.ServeHTTP(w, r)
			assert.Equal(t, c.status, w.Code, w.Body.String())
			assert.Equal(t, c.status == 200, calls > before, "the service was asked")
		})
	}
}

// A key counts from when it is issued; roles say for what; all of the bridge can be closed; a
// file that cannot be read opens nothing.
func TestKeysAndRoles(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys.json")
	keys, err := bridge.OpenKeys(file)
	require.NoError(t, err)
	h := echo(t, bridge.Options{Keys: keys}, nil)
	closed := echo(t, bridge.Options{Keys: keys, Closed: true, KeyHeader: "X-Hive-Key"}, nil)
	assert.Equal(t, 200, ask(h, "POST", "/Echo", goodShapes).Code, "no key was issued")
	assert.NotContains(t, ask(h, "GET", "/openapi.json", "").Body.String(), "securitySchemes")
	assert.Equal(t, 401, ask(closed, "GET", "/health", "").Code)

	elsewhere, err := bridge.OpenKeys(file) // another process
	require.NoError(t, err)
	require.NoError(t, elsewhere.SetRole("grader",
		bridge.Role{Operations: []string{"Echo"}, Methods: []string{"POST"}}))
	require.NoError(t, elsewhere.SetRole("reader", bridge.Role{Methods: []string{"GET"}}))
	assert.Equal(t, 200, ask(h, "POST", "/Echo", goodShapes).Code, "a role is not a key")
	issue := func(name string, roles ...string) string {
		key, err := elsewhere.Issue(name, nil, roles, time.Time{})
		require.NoError(t, err)
		return key
	}
	grader, reader, both, all := issue("grader", "grader"), issue("reader", "reader"), issue("both", "grader",
		"reader"), issue("all")
	_, err = elsewhere.Issue("x", nil, []string{"graders"}, time.Time{})
	assert.ErrorContains(t, err, `there is no role "graders"; did you mean "grader"?`)
	assert.Equal(t, 401, ask(h, "POST", "/Echo", goodShapes).Code, "it counts at once")
	assert.Contains(t, ask(h, "GET", "/openapi.json", "").Body.String(), `"scheme": "bearer"`)
	for _, c := range []struct {
		key              string
		echo, tell, page int
	}{
		{grader, 200, 403, 403},
		{reader, 403, 403, 200},
		{both, 200, 403, 200},
		{all, 200, 202, 200},
		{"key-of-nobody", 401, 401, 401},
	} {
		for _, word := range []string{"Bearer ", "bearer ", "BEARER  "} {
			assert.Equal(t, c.echo, ask(h, "POST", "/Echo", goodShapes, "Authorization", word+c.key).Code)
		}
		assert.Equal(t, c.tell, ask(h, "POST", "/Tell", goodShapes, "Authorization", "Bearer "+c.key).Code)
		assert.Equal(t, 200, ask(h, "GET", "/metrics", "").Code, "open unless it is closed")
		for _, path := range []string{"/", "/openapi.json", "/metrics", "/health"} {
			assert.Equal(t, c.page, ask(closed, "GET", path, "", "X-Hive-Key", c.key).Code, path)
			assert.Equal(t, 401, ask(closed, "GET", path, "", "Authorization", "Bearer "+c.key).Code,
				"by its own header alone")
		}
	}
	assert.Contains(t, ask(closed, "GET", "/openapi.json", "", "X-Hive-Key", all).Body.String(), `"name": "X-Hive-Key"`)
	assert.Equal(t, 401, ask(h, "POST", "/Echo", goodShapes, "Authorization", "Basic "+all).Code)
	require.NoError(t, elsewhere.Withdraw("all"))
	assert.Equal(t, 401, ask(h, "POST", "/Echo", goodShapes, "Authorization", "Bearer "+all).Code,
		"nor does a key that was withdrawn open it to all")
	require.NoError(t, os.WriteFile(file, []byte("{damaged"), 0o600))
	assert.Equal(t, 401, ask(h, "POST", "/Echo", goodShapes, "Authorization", "Bearer "+both).Code)
	assert.Equal(t, 401, ask(h, "POST", "/Echo", goodShapes).Code)
	require.NoError(t, os.WriteFile(file, []byte(`[{"name": "old", "hash": "00", "issued": "2026-11-29T00:00:00Z"}]`),
		0o600))
	require.Len(t, func() []*bridge.Key { k, err := bridge.OpenKeys(file); require.NoError(t, err); return k.List() }(),
		1, "as it was before there were roles")
}

// Health says whether the service answers; why it does not is for whoever runs the bridge.
func TestHealth(t *testing.T) {
	var log strings.Builder
	asked := 0
	down := echo(t, bridge.Options{Log: slog.New(slog.NewJSONHandler(&log, nil)), Healthy: func(context.Context) error {
		asked++
		return errors.New("10.1.2.3:443 refused the connection")
	}}, func(r *bridge.Result) {
		*r = bridge.Result{Problem: &bridge.Problem{
			Title: "the service was not reached", Status: 502,
			Detail: "connection refused", Cause: "inner.heatherfold.example refused the connection",
		}}
	})
	for range 3 {
		w := ask(down, "GET", "/health", "")
		assert.Equal(t, 503, w.Code)
		assert.JSONEq(t, `{"status": "up", "service": "down"}`, w.Body.String())
	}
	assert.Equal(t, 1, asked, "it is not asked for each who asks")
	w := ask(down, "POST", "/Echo", goodShapes)
	assert.Equal(t, 502, w.Code)
	assert.NotContains(t, w.Body.String(), "inner.heatherfold.example")
	assert.Contains(t, log.String(), "inner.heatherfold.example")
	assert.Contains(t, log.String(), "10.1.2.3")
	w = ask(echo(t, bridge.Options{Healthy: func(context.Context) error { return nil }}, nil), "GET", "/health", "")
	assert.Equal(t, 200, w.Code)
	assert.JSONEq(t, `{"status": "up", "service": "up"}`, w.Body.String())
}

// What is kept is bounded in bytes.
func TestKeptBytes(t *testing.T) {
	h := echo(t, bridge.Options{Keep: map[string]time.Duration{"Echo": time.Hour}, MaxBody: 16 << 20}, nil)
	of := func(n, size int) string {
		return strings.Replace(goodShapes, `"t"`, fmt.Sprintf(`"%d %s"`, n, strings.Repeat("x", size)), 1)
	}
	isKept := func(body string) bool { return ask(h, "POST", "/Echo", body).Header().Get("Age") != "" }
	isKept(of(0, 5<<20))
	assert.False(t, isKept(of(0, 5<<20)), "it would take too much of all")
	for n := range 40 {
		isKept(of(n, 1<<20))
	}
	assert.True(t, isKept(of(39, 1<<20)))
	assert.False(t, isKept(of(0, 1<<20)), "64 MiB fail 40 of 2 MiB: the oldest go first")
	assert.True(t, isKept(of(20, 1<<20)))
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
	for _, seed := range []string{
		`{}`, `{"name":"a","list":["x"]}`, `[1]`, `{"@id":"1","list":null}`, `null`,
		`{"a":{"b":{"c":1e999}}}`, `{"name":"\ud800"}`,
	} {
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
