package simulation_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract/formats"
	"testbench/internal/simulation"
)

const hives = `openapi: 3.1.0
info: {title: hives, version: "1"}
paths:
  /hives/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: string, pattern: "^H-[0-9]+$"}}]
    get:
      operationId: hive
      responses:
        "200": {description: one, content: {application/json: {schema: {$ref: "#/components/schemas/Hive"}}}}
    put:
      operationId: keep
      requestBody: {required: true, content: {application/json: {schema: {$ref: "#/components/schemas/Hive"}}}}
      responses:
        "200": {description: kept, content: {application/json: {schema: {$ref: "#/components/schemas/Hive"}}}}
        "409": {description: not now}
components:
  schemas:
    Hive: {type: object, required: [id, frames], properties: {id: {type: string}, frames: {type: integer, maximum: 12}, queen: {type: string}}}
`

func service(t testing.TB, script string) *simulation.Service {
	t.Helper()
	contract, err := formats.Read("hives.yaml", []byte(hives), nil)
	require.NoError(t, err)
	var o simulation.Options
	if script != "" {
		o.Script, err = simulation.ReadScript("script.yaml", []byte(script))
		require.NoError(t, err)
	}
	s, err := simulation.New(contract, o)
	require.NoError(t, err)
	return s
}

func ask(s http.Handler, method, path, body string) string {
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	w := httptest.NewRecorder()
	s.ServeHTTP(w, r)
	return w.Result().Status + " " + strings.Join(strings.Fields(w.Body.String()), "")
}

// What was asked comes back where the answer has fields of its names and stays valid; what
// breaks the contract is refused with its status.
func TestAnswers(t *testing.T) {
	t.Parallel()
	s := service(t, "")
	for _, c := range []struct{ method, path, body, want string }{
		{"GET", "/hives/H-7", "", `200 OK {"id":"H-7","frames":1,"queen":"text"}`},
		{"PUT", "/hives/H-7", `{"id":"H-8","frames":9}`, `200 OK {"id":"H-8","frames":9,"queen":"text"}`},
		{"PUT", "/hives/H-7", `{"id":"H-8","frames":13}`, `"status":400`},
		{"PUT", "/hives/H-7", ``, `thebodyismissing`},
		{"PUT", "/hives/H-7", `{"id"`, `400 Bad Request`},
		{"GET", "/hives/7", "", `400 Bad Request`},
		{"DELETE", "/hives/H-7", "", `405 Method Not Allowed`},
		{"GET", "/frames", "", `404 Not Found`},
	} {
		assert.Contains(t, ask(s, c.method, c.path, c.body), c.want, "%s %s %s", c.method, c.path, c.body)
	}
}

// A script answers in the order of its entries, as often as they say, and remembers.
func TestScript(t *testing.T) {
	t.Parallel()
	s := service(t, `state: {kept: none}
answers:
  - operation: keep
    while: {kept: H-8}
    says: {status: 409, text: "${state.kept} is kept; call ${number}"}
  - operation: keep
    from now: {kept: "${asked.id}"}
  - operation: hive
    times: 1
    says: {body: {queen: "${state.kept}"}, headers: {X-Seen: "yes"}}
`)
	assert.Contains(t, ask(s, "GET", "/hives/H-7", ""), `"queen":"none"`)
	assert.Contains(t, ask(s, "GET", "/hives/H-7", ""), `"queen":"text"`, "its one time is over")
	assert.Contains(t, ask(s, "PUT", "/hives/H-7", `{"id":"H-8","frames":9}`), "200 OK")
	assert.Equal(t, "409 Conflict H-8iskept;call4", ask(s, "PUT", "/hives/H-7", `{"id":"H-8","frames":9}`))
}

// FuzzReadScript reads any script and answers by it.
func FuzzReadScript(f *testing.F) {
	for _, seed := range []string{
		"answers: []", `state: {a: 1}
answers:
  - operation: hive
    asked: {id: matches H}
    says: {status: 404}`,
		`answers:
  - says: {fault: {code: Server, text: "${asked.id | upper}"}}
    after: 0 s
    from now: {x: [1, {y: null}]}
    times: 2`,
	} {
		f.Add(seed, `{"id":"H-1","frames":2}`)
	}
	contract, err := formats.Read("hives.yaml", []byte(hives), nil)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text, body string) {
		script, err := simulation.ReadScript("script.yaml", []byte(text))
		if err != nil {
			return
		}
		s, err := simulation.New(contract,
			simulation.Options{Script: script, Wait: func(*http.Request, time.Duration) {}})
		if err != nil {
			return
		}
		ask(s, "GET", "/hives/H-1", "")
		ask(s, "PUT", "/hives/H-1", body)
	})
}
