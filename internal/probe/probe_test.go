package probe

import (
	"errors"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/schema"
	"testbench/internal/soap"
)

func count(n int) *int { return &n }

// What a shape says is broken at its edge.
func TestWrongValues(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		shape *schema.Shape
		good  string
		typed bool
		want  []string // kind: value
	}{
		"integer": {
			&schema.Shape{
				Kinds: []string{"integer"}, Least: &schema.Limit{Text: "1"},
				Most: &schema.Limit{Text: "9", Exclusive: true},
			}, "5", true,
			[]string{"type: abc", "type: 1.5", "limits: 0", "limits: 9", "type: 5"},
		},
		"int": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"int", "long", "integer", "decimal"}},
			"5", false,
			[]string{"type: abc", "type: 1.5", "limits: -2147483649", "limits: 2147483648"},
		},
		"decimal": {
			&schema.Shape{
				Kinds: []string{"text"}, Formats: []string{"decimal"}, FractionDigits: count(2),
				TotalDigits: count(5), Most: &schema.Limit{Text: "30"},
			}, "17.4", false,
			[]string{"type: abc", "limits: 30.01", "limits: 17.001", "limits: 1000"},
		},
		"multiple": {
			&schema.Shape{Kinds: []string{"number"}, MultipleOf: "0.5"}, "", true,
			[]string{"limits: 0.5001"},
		},
		"date": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"date"}}, "2026-11-26", false,
			[]string{"type: soon", "type: 2026-02-30", "type: 30.11.2026"},
		},
		"moment": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"date-time"}}, "2026-11-26T00:00:00Z",
			true,
			[]string{"type: 2026-11-26T10:00:00+25:00", "type: 5"},
		},
		"boolean": {&schema.Shape{Kinds: []string{"boolean"}}, "true", true, []string{"type: perhaps"}},
		"values": {
			&schema.Shape{Kinds: []string{"text"}, Only: []string{"north", "south"}}, "north", false,
			[]string{"limits: none-of-these", "limits: NORTH"},
		},
		"length": {
			&schema.Shape{Kinds: []string{"text"}, MinLength: count(3), MaxLength: count(5)}, "honey", false,
			[]string{"limits: ho", "limits: honeyy"},
		},
		"pattern": {
			&schema.Shape{Kinds: []string{"text"}, Patterns: []string{"L-[0-9]{4}"}}, "L-2201", false,
			[]string{"limits: L-2201!", "identity: L-", "text: O'Brien"},
		},
		"list": {&schema.Shape{Kinds: []string{"list"}}, "", true, []string{"type: text"}},
		"clock": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"time"}}, "10:00:00", false,
			[]string{"type: 25:00:00"},
		},
		"hex": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"hexBinary"}}, "00", false,
			[]string{"type: § not encoded §"},
		},
		"old dates": {
			&schema.Shape{Kinds: []string{"text"}, Formats: []string{"Edm.DateTime"}}, "/Date(0)/", true,
			[]string{"type: soon"},
		},
	} {
		p := &place{path: "field", shape: c.shape, typed: c.typed}
		if c.good != "" {
			p.good = document.NewUntyped(c.good)
			if kind := c.shape.Kinds[0]; c.typed && (kind == "integer" || kind == "number") {
				p.good = document.NewNumber(c.good)
			}
		}
		var got []string
		for _, w := range wrongValues(p, rand.New(rand.NewPCG(1, 1))) {
			got = append(got, string(w.kind)+": "+w.value.Text[:min(len(w.value.Text), 60)])
		}
		for _, want := range c.want {
			assert.True(t, strings.Contains("\n"+strings.Join(got, "\n"), "\n"+want), "%s: %s is not among %q", name,
				want, got)
		}
	}
}

// An answer is judged by its status, by whom a fault blames, and by what it names.
func TestVerdicts(t *testing.T) {
	t.Parallel()
	fault := func(code, text string) string {
		return `<e:Envelope xmlns:e="` + soap.Namespace11 + `"><e:Body><e:Fault><faultcode>e:` + code +
			`</faultcode><faultstring>` + text + `</faultstring></e:Fault></e:Body></e:Envelope>`
	}
	field := &Case{Kind: Typed, Field: "load.plate", name: "plate"}
	lock := &Case{Kind: Credentials, Clear: []int{401, 403}}
	for name, c := range map[string]struct {
		of     *Case
		status int
		body   string
		want   Verdict
		why    string
	}{
		"named":               {field, 400, `{"error": {"message": "the plate is none"}}`, Clearly, ""},
		"named as the target": {field, 422, `{"errors": [{"field": "load/plate", "message": "no"}]}`, Clearly, ""},
		"a word that holds it": {
			field, 400, `{"error": {"message": "the templates are wrong"}}`, Unclearly,
			"plate is not named",
		},
		"not a word":              {field, 400, ``, Unclearly, "no word more"},
		"a fault of the client's": {field, 500, fault("Client", "plate: no"), Clearly, ""},
		"an unclear one":          {field, 500, fault("Client", "no"), Unclearly, "plate is not named"},
		"a fault of the server's": {field, 500, fault("Server", "plate: no"), Broke, "itself is to blame"},
		"no fault":                {field, 500, "Stack trace", Broke, "server's own fault"},
		"taken":                   {field, 200, "{}", Accepted, ""},
		"an error under 200": {
			field, 200, `{"error": "the plate is none"}`, Unclearly,
			"under a status of success",
		},
		"elsewhere":                {field, 302, "", Unclearly, "leads elsewhere"},
		"let in":                   {lock, 200, "{}", LetIn, ""},
		"kept out":                 {lock, 401, "", Clearly, ""},
		"kept out by another name": {lock, 404, "", Unclearly, "401 or 403 would say it"},
		"kept out by a fault":      {lock, 500, fault("FailedAuthentication", "no"), Clearly, ""},
		"not possible":             {&Case{Kind: Method, Clear: []int{405, 501}}, 501, "", Clearly, ""},
		"another version": {
			&Case{Kind: Envelope, Clear: []int{400}}, 500, fault("VersionMismatch", "no"),
			Clearly, "",
		},
	} {
		header := http.Header{"Content-Type": {"application/json"}}
		if strings.HasPrefix(c.body, "<") {
			header.Set("Content-Type", "text/xml")
		}
		record := &exchange.Record{
			Request: &exchange.Request{Method: "POST", URL: &url.URL{}},
			Answer:  &exchange.Answer{Status: c.status, Header: header, Body: []byte(c.body)},
		}
		got := c.of.Judge(record, reply.Read(record), time.Second)
		assert.Equal(t, c.want, got.Verdict, "%s: %+v", name, got)
		assert.Contains(t, got.Why, c.why, name)
	}
	cut := &exchange.Record{Failure: &exchange.Failure{Kind: exchange.CutOff, Message: "cut", Cause: errors.New("cut")}}
	assert.Equal(t, Broke, field.Judge(cut, reply.Read(cut), 0).Verdict)
	late := &exchange.Record{
		Answer: &exchange.Answer{Status: 400, Header: http.Header{}},
		Phases: exchange.Phases{Total: 3 * time.Second},
	}
	assert.Equal(t, Broke, field.Judge(late, reply.Read(late), time.Second).Verdict)
}

// What the bench or the protocol says of errors and successes goes before the status.
func TestVerdictsAsTold(t *testing.T) {
	t.Parallel()
	field := &Case{Kind: Typed, Field: "plate", name: "plate"}
	for _, c := range []struct {
		name      string
		of        *Case
		status    int
		failed    *reply.Error
		isSuccess bool
		want      Verdict
	}{
		{"an error that names the field", field, 200, &reply.Error{Text: "no such plate"}, false, Clearly},
		{"an error that does not", field, 200, &reply.Error{Text: "no"}, false, Unclearly},
		{"kept out", &Case{Kind: Credentials, Clear: []int{401}}, 200, &reply.Error{Text: "who are you?"}, false, Clearly},
		{"a success whatever its status is", field, 404, nil, true, Accepted},
		{"let in whatever its status is", &Case{Kind: Credentials}, 404, nil, true, LetIn},
	} {
		t.Run(c.name, func(t *testing.T) {
			record := &exchange.Record{Answer: &exchange.Answer{Status: c.status, Header: http.Header{}, Body: []byte("{}")}}
			re := reply.Read(record)
			re.Decide(c.failed, c.isSuccess)
			assert.Equal(t, c.want, c.of.Judge(record, re, 0).Verdict)
		})
	}
}

// Each change changes one thing, and leaves the right request as it was.
func TestCases(t *testing.T) {
	t.Parallel()
	at, err := url.Parse("http://127.0.0.1/hives/H-12?page=2&kind=a")
	require.NoError(t, err)
	good := &exchange.Request{
		Method: "PUT", URL: at,
		Header: http.Header{"Content-Type": {"application/json"}, "X-Keeper": {"Ada"}},
		Body:   []byte(`{"frames":[1,2],"queen":{"born":"2026-05-04"},"note":"a"}`),
	}
	op := &contract.Endpoint{Path: "/hives/{id}", Versioned: true, Parameters: []contract.Parameter{
		{In: contract.InPath, Wire: "id", Name: "id"},
		{In: contract.InQuery, Wire: "page", Name: "page", Kind: "integer", Required: true},
		{In: contract.InHeader, Wire: "X-Keeper", Name: "X-Keeper", Required: true},
	}}
	target := &Target{
		Request: good, Operation: op, Logins: []Login{{Name: "a", Ways: login.Ways}, {Name: "b"}},
		Seed: 1, Writes: true,
	}
	target.Operation.Body = &contract.Body{Contents: []contract.Content{{Type: "application/json", Schema: hive{}}}}
	seen := map[string]*Case{}
	for _, c := range target.Cases() {
		require.NotContains(t, seen, c.Changed)
		seen[c.Changed] = c
		assert.True(t, c.Writes || c.Kind == Method, c.Changed)
	}
	assert.Equal(t, "/hives/H-12", good.URL.Path)
	for changed, want := range map[string]string{
		"without page":                          "/hives/H-12?kind=a",
		`page with letters for a number: "abc"`: "/hives/H-12?kind=a&page=abc",
		"page twice":                            "/hives/H-12?kind=a&page=2&page=2",
		`id with quotes: "O'Brien said \"x\"; -- \\ {}"`: `/hives/O%27Brien%20said%20%22x%22%3B%20--%20%5C%20%7B%7D?page=2&kind=a`,
	} {
		if assert.Contains(t, seen, changed) {
			assert.Equal(t, want, seen[changed].Request.URL.RequestURI())
		}
	}
	for changed, want := range map[string]string{
		"without queen":               `{"frames":[1,2],"note":"a"}`,
		"without queen.born":          `{"frames":[1,2],"queen":{},"note":"a"}`,
		"frames null":                 `{"frames":null,"queen":{"born":"2026-05-04"},"note":"a"}`,
		"frames with 0, one too few":  `{"frames":[],"queen":{"born":"2026-05-04"},"note":"a"}`,
		"frames with 4, one too many": `{"frames":[1,1,1,1],"queen":{"born":"2026-05-04"},"note":"a"}`,
		"note twice":                  `{"frames":[1,2],"queen":{"born":"2026-05-04"},"note":"a","note":"a"}`,
		"note with a zero byte":       `{"frames":[1,2],"queen":{"born":"2026-05-04"},"note":"a\u0000b"}`,
		`queen.born on a day that there is not: "2026-02-30"`: `{"frames":[1,2],"queen":{"born":"2026-02-30"},"note":"a"}`,
		"with a field that there is not, in queen":            `{"frames":[1,2],"queen":{"born":"2026-05-04","unexpected":"surprise"},"note":"a"}`,
		"a list where an object belongs":                      `[{"frames":[1,2],"queen":{"born":"2026-05-04"},"note":"a"}]`,
	} {
		if assert.Contains(t, seen, changed) {
			assert.Equal(t, want, string(seen[changed].Request.Body))
		}
	}
	assert.Equal(t, &LoginChange{Login: "a", Way: login.Expired}, seen["with a token that has expired, a"].Login)
	assert.NotContains(t, seen, "with a token that has expired, b")
	assert.Equal(t, `"of-another-time"`, seen["for a version that there is not"].Request.GetHeader("If-Match"))
	assert.Empty(t, seen["without X-Keeper"].Request.GetHeader("X-Keeper"))
	target.Only = []Kind{Version}
	assert.Len(t, target.Cases(), 2)
}

// hive is a schema of a body.
type hive struct{ schema.Type }

func (hive) Shape() *schema.Shape {
	text := func() *schema.Shape { return &schema.Shape{Kinds: []string{"text"}} }
	born := func() *schema.Shape { return &schema.Shape{Kinds: []string{"text"}, Formats: []string{"date"}} }
	return &schema.Shape{Kinds: []string{"object"}, Fields: func() []schema.ShapeField {
		return []schema.ShapeField{
			{Name: "frames", Shape: func() *schema.Shape {
				return &schema.Shape{
					Kinds: []string{"list"}, MinLength: count(1), MaxLength: count(3),
					Items: func() *schema.Shape { return &schema.Shape{Kinds: []string{"integer"}} },
				}
			}},
			{Name: "queen", Required: true, Shape: func() *schema.Shape {
				return &schema.Shape{
					Kinds: []string{"object"}, Members: schema.Closed,
					Fields: func() []schema.ShapeField {
						return []schema.ShapeField{{Name: "born", Required: true, Shape: born}}
					},
				}
			}},
			{Name: "note", Shape: text},
		}
	}}
}

// FuzzCases makes wrong requests out of any body.
func FuzzCases(f *testing.F) {
	f.Add("application/json", `{"frames":[1,2],"queen":{"born":"2026-05-04"},"note":"a"}`, "/hives/H-12?page=2")
	f.Add("text/xml", `<e:Envelope xmlns:e="`+soap.Namespace11+
		`"><e:Body><hive xmlns="urn:x" a="b"><frames>1</frames><queen><born>2026</born></queen><note/></hive></e:Body></e:Envelope>`, "/hives/7")
	f.Add("application/x-www-form-urlencoded", "frames=1&note=2", "/hives/%27a%27?&=&x")
	f.Fuzz(func(t *testing.T, mediaType, body, path string) {
		at, err := url.Parse("http://127.0.0.1" + path)
		if err != nil {
			return
		}
		good := &exchange.Request{
			Method: "POST", URL: at, Header: http.Header{"Content-Type": {mediaType}},
			Body: []byte(body),
		}
		op := &contract.Endpoint{
			Path: "/hives/{id}", Parameters: []contract.Parameter{
				{In: contract.InPath, Wire: "id", Name: "id"},
				{In: contract.InQuery, Wire: "page", Name: "page", Kind: "integer"},
			},
			Body: &contract.Body{Contents: []contract.Content{{Schema: hive{}}}},
		}
		for _, version := range []soap.Version{"", soap.V11, soap.V12} {
			target := &Target{
				Request: good, Operation: op, SOAP: version, Payload: hive{}.Shape(),
				Logins: []Login{{Name: "a", Ways: login.Ways, Protects: true}},
			}
			for _, c := range target.Cases() {
				if c.Request == good || c.Request.URL == at {
					t.Fatalf("%s changes the right request", c.Changed)
				}
			}
		}
		if string(good.Body) != body {
			t.Fatal("the right body was changed")
		}
	})
}
