package cover_test

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/cover"
	"testbench/internal/exchange"
)

const ferries = `openapi: 3.0.3
info: {title: Ferries, version: "1"}
paths:
  /sailings:
    get:
      operationId: list
      parameters:
        - {name: harbour, in: query, required: true, schema: {type: string, enum: [Lervik, "Ile d'Yeu"]}}
        - {name: days, in: query, schema: {type: array, items: {type: string, enum: [mo, tu, we]}}}
      responses:
        "200":
          description: ok
          content:
            application/json:
              schema:
                type: object
                required: [sailings]
                properties:
                  sailings:
                    type: array
                    items:
                      type: object
                      required: [id, boat]
                      properties: {id: {type: integer}, boat: {type: string}, note: {type: string}}
        4XX: {description: refused}
  /sailings/{id}:
    get:
      operationId: one
      parameters: [{name: id, in: path, required: true, schema: {type: integer}}]
      responses: {"200": {description: ok, content: {application/json: {schema: {type: object, properties: {id: {type: integer}}}}}}}
  /sailings/next:
    get:
      operationId: next
      responses: {default: {description: ok}}
  /bookings:
    post:
      operationId: book
      requestBody:
        content:
          application/json:
            schema: {type: object, required: [sailing], properties: {sailing: {type: integer}, cabin: {type: string, enum: [in, out]}}}
      responses: {"201": {description: ok}}
`

// ofContract are the operations of a contract.
type ofContract struct{ contract.Contract }

func (c ofContract) Names() []string { return c.Contract.Names(contract.Binding{}) }

func (c ofContract) Operation(name string) (contract.Operation, error) {
	return c.Contract.Operation(name, contract.Binding{})
}

func read(t testing.TB, name, text string) ofContract {
	t.Helper()
	c, err := formats.Read(name, []byte(text), nil)
	require.NoError(t, err)
	return ofContract{c}
}

// use is an exchange of a step.
func use(number int, operation, method, address, body string, status int, answer string, judged ...string) cover.Use {
	at, _ := url.Parse("http://ferry.example:8443/v2" + address)
	return cover.Use{
		Name: fmt.Sprintf("1.%d", number), Target: method + " " + address, Operation: operation, Status: status, Judged: judged,
		Record: &exchange.Record{
			Request: &exchange.Request{Method: method, URL: at, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)},
			Answer: &exchange.Answer{
				Status: status, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(answer),
			},
		},
	}
}

// Counted by hand: what four operations had of some exchanges, what was never touched, and where the contract is wrong.
func TestCover(t *testing.T) {
	uses := []cover.Use{
		use(1, "list", "GET", "/sailings?harbour=Lervik&days=mo&days=tu", "", 200,
			`{"sailings": [{"id": 7, "boat": "Skua"}, {"id": 8, "boat": "Tern", "berth": 4}]}`, "sailings[*].id", "sailings"),
		use(2, "", "GET", "/sailings?harbour=Ile%20d%27Yeu", "", 200, `{"sailings": [{"id": "9", "boat": "Skua"}]}`),
		use(3, "list", "GET", "/sailings", "", 422, `{}`),
		use(4, "list", "GET", "/sailings?harbour=Lervik", "", 503, `{}`),
		use(5, "list", "GET", "/sailings?harbour=Lervik", "", 200, `{"sailings": []}`),
		use(6, "", "GET", "/sailings/7", "", 200, `{"id": 7}`, "answer.id"),
		use(7, "", "GET", "/sailings/next", "", 200, `{"id": 8}`),
		use(8, "", "DELETE", "/sailings/7", "", 204, ""),
		{Name: "1.9", Target: "ferry GET /sailings", Status: 200},
	}
	s := cover.Of("ferry", "ferries.yaml", read(t, "ferries.yaml", ferries), uses)
	counts := map[string]string{}
	for _, o := range s.Operations {
		for _, kind := range []cover.Kind{cover.Call, cover.Status, cover.Given, cover.Left, cover.Value, cover.Came, cover.Check} {
			touched, of := o.Touched(kind)
			counts[o.Name] += fmt.Sprintf("%d/%d ", touched, of)
		}
	}
	assert.Equal(t, map[string]string{
		// the operation, answers, given, left out, values, came, judged
		"list": "1/1 2/2 2/2 1/1 4/5 3/4 2/4 ",
		"one":  "1/1 1/1 1/1 0/0 0/0 1/1 1/1 ",
		"next": "1/1 1/1 0/0 0/0 0/0 0/0 0/0 ",
		"book": "0/1 0/1 0/0 0/0 0/0 0/0 0/0 ",
	}, counts)
	assert.Equal(t, []string{"DELETE /sailings/7"}, s.Elsewhere)
	assert.Equal(t, 1, s.Unseen)
	var remarks, never []string
	for _, r := range s.Remarks {
		remarks = append(remarks, strings.Join([]string{r.Operation, r.Of, r.Path, r.What, r.Exchange}, "|"))
	}
	assert.Equal(t, []string{
		"list|200|sailings.berth|came and is not described|1.1",
		"list|200||sailings[*].id must be an integer, and is \"9\"|1.2",
		"list|503||is not described|1.4",
		"list|200|sailings.note|is described and came in none of 3 answers|",
	}, remarks)
	for _, u := range s.Never() {
		never = append(never, u.Operation.Name+" "+u.Thing.Words())
	}
	assert.Equal(t, []string{"book the operation", "list days = we", "list sailings.boat in 200 judged by a check", "list sailings.note in 200"}, never)
	touched, of := s.Touched()
	assert.InDelta(t, float64(touched)/float64(of), s.Share(), 0.001)
	assert.InDelta(t, 1, cover.Of("x", "", read(t, "x.yaml", "openapi: 3.0.3\ninfo: {title: x, version: '1'}\npaths: {}\n"), nil).Share(), 0)
}
