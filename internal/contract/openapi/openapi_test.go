package openapi_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
	"testbench/internal/document"
	"testbench/internal/schema"
)

func read(t *testing.T, text string) *openapi.Contract {
	t.Helper()
	c, err := openapi.Read("contract.yaml", []byte(text), nil)
	require.NoError(t, err)
	return c
}

func operation(t *testing.T, text, name string) *contract.Endpoint {
	t.Helper()
	op, err := read(t, text).Operation(name)
	require.NoError(t, err)
	require.NotNil(t, op, name)
	return op
}

// written puts a request into one line.
func written(r *contract.Request) string {
	line := r.Method + " " + r.Path
	for i, p := range r.Query {
		line += map[bool]string{true: "?", false: "&"}[i == 0] + p.Text()
	}
	for _, h := range r.Headers {
		line += " | " + h.Name + ": " + h.Value.Text
	}
	for i, p := range r.Cookies {
		line += map[bool]string{true: " | Cookie: ", false: "; "}[i == 0] + p.Text()
	}
	if r.Type != "" {
		line += " | " + r.Type
	}
	for i, p := range r.Form {
		line += map[bool]string{true: " ", false: "&"}[i == 0] + p.Text()
	}
	for _, p := range r.Parts {
		line += fmt.Sprintf(" [%s %s %v %s", p.Name, p.Type, p.IsFile, document.WriteJSON(p.Value, document.Style{}))
		for _, h := range p.Headers {
			line += " " + h.Name + ": " + h.Value.Text
		}
		line += "]"
	}
	if r.Body != nil && r.Body.Kind == document.Element {
		document.Declare(r.Body)
		line += " " + document.WriteXML(r.Body, document.Style{})
	} else if r.Body != nil {
		line += " " + document.WriteJSON(r.Body, document.Style{})
	}
	return line
}

func fields(t *testing.T, text string) *document.Node {
	t.Helper()
	n, err := document.ReadYAML([]byte(text))
	require.NoError(t, err)
	return n
}

// Lists and objects are written in every style, as the table of OpenAPI 3.1.0,
// 4.8.12.4 has them; RFC 6570 decides what that table leaves open.
func TestStyles(t *testing.T) {
	const list, object, text = "color: [blue, black, brown]", "color: {R: 100, G: 200, B: 150}", "color: a b/c,d"
	const empty, one, reserved = `color: ""`, "color: blue", `color: ":/?#[]@!$&'()*+,;= %"`
	for _, c := range []struct{ in, style, explode, give, want string }{
		{"path", "matrix", "false", empty, "/x/;color"},
		{"path", "matrix", "true", empty, "/x/;color"},
		{"path", "matrix", "false", one, "/x/;color=blue"},
		{"path", "matrix", "true", one, "/x/;color=blue"},
		{"path", "matrix", "false", list, "/x/;color=blue,black,brown"},
		{"path", "matrix", "true", list, "/x/;color=blue;color=black;color=brown"},
		{"path", "matrix", "false", object, "/x/;color=R,100,G,200,B,150"},
		{"path", "matrix", "true", object, "/x/;R=100;G=200;B=150"},
		{"path", "matrix", "false", text, "/x/;color=a%20b%2Fc%2Cd"},
		{"path", "label", "false", empty, "/x/."},
		{"path", "label", "true", empty, "/x/."},
		{"path", "label", "false", one, "/x/.blue"},
		{"path", "label", "true", one, "/x/.blue"},
		{"path", "label", "false", list, "/x/.blue,black,brown"},
		{"path", "label", "true", list, "/x/.blue.black.brown"},
		{"path", "label", "false", object, "/x/.R,100,G,200,B,150"},
		{"path", "label", "true", object, "/x/.R=100.G=200.B=150"},
		{"path", "simple", "false", one, "/x/blue"},
		{"path", "simple", "true", one, "/x/blue"},
		{"path", "simple", "false", list, "/x/blue,black,brown"},
		{"path", "simple", "true", list, "/x/blue,black,brown"},
		{"path", "simple", "false", object, "/x/R,100,G,200,B,150"},
		{"path", "simple", "true", object, "/x/R=100,G=200,B=150"},
		{"path", "", "", text, "/x/a%20b%2Fc%2Cd"},
		{"path", "", "", reserved, "/x/:%2F%3F%23%5B%5D@%21$&%27%28%29%2A+%2C%3B=%20%25"},
		{"query", "form", "false", empty, "/x?color="},
		{"query", "form", "true", empty, "/x?color="},
		{"query", "form", "false", one, "/x?color=blue"},
		{"query", "form", "true", one, "/x?color=blue"},
		{"query", "form", "false", list, "/x?color=blue,black,brown"},
		{"query", "form", "true", list, "/x?color=blue&color=black&color=brown"},
		{"query", "form", "false", object, "/x?color=R,100,G,200,B,150"},
		{"query", "form", "true", object, "/x?R=100&G=200&B=150"},
		{"query", "", "", list, "/x?color=blue&color=black&color=brown"},
		{"query", "spaceDelimited", "false", list, "/x?color=blue%20black%20brown"},
		{"query", "spaceDelimited", "false", object, "/x?color=R%20100%20G%20200%20B%20150"},
		{"query", "pipeDelimited", "false", list, "/x?color=blue%7Cblack%7Cbrown"},
		{"query", "pipeDelimited", "false", object, "/x?color=R%7C100%7CG%7C200%7CB%7C150"},
		{"query", "deepObject", "true", object, "/x?color%5BR%5D=100&color%5BG%5D=200&color%5BB%5D=150"},
		{"query", "", "", text, "/x?color=a%20b%2Fc%2Cd"},
		{"query", "", "", reserved, "/x?color=%3A%2F%3F%23%5B%5D%40%21%24%26%27%28%29%2A%2B%2C%3B%3D%20%25"},
		{"query", "form", "true\n          allowReserved: true", reserved, "/x?color=:/?%23[]@!$&'()*+,;=%20%25"},
		{"query", "", "", "color: []", "/x"},
		{"header", "simple", "false", one, "/x | color: blue"},
		{"header", "simple", "true", one, "/x | color: blue"},
		{"header", "simple", "false", list, "/x | color: blue,black,brown"},
		{"header", "simple", "true", list, "/x | color: blue,black,brown"},
		{"header", "simple", "false", object, "/x | color: R,100,G,200,B,150"},
		{"header", "", "", list, "/x | color: blue,black,brown"},
		{"header", "simple", "true", object, "/x | color: R=100,G=200,B=150"},
		{"cookie", "form", "false", one, "/x | Cookie: color=blue"},
		{"cookie", "form", "false", list, "/x | Cookie: color=blue,black,brown"},
		{"cookie", "form", "false", object, "/x | Cookie: color=R,100,G,200,B,150"},
		{"cookie", "form", "true", object, "/x | Cookie: R=100; G=200; B=150"},
		{"cookie", "form", "true", text, "/x | Cookie: color=a%20b/c%2Cd"},
		{"cookie", "form", "true", reserved, "/x | Cookie: color=:/?#[]@!$&'()*+%2C%3B=%20%"},
	} {
		path := "/x"
		if c.in == "path" {
			path += "/{color}"
		}
		description := "openapi: 3.1.0\npaths:\n  " + path +
			":\n    get:\n      operationId: x\n      parameters:\n        - name: color\n          in: " + c.in +
			"\n          required: true\n          schema: {}\n"
		if c.style != "" {
			description += "          style: " + c.style + "\n"
		}
		if c.explode != "" {
			description += "          explode: " + c.explode + "\n"
		}
		built, problems := operation(t, description, "x").Build(fields(t, c.give), contract.BuildOptions{})
		assert.Empty(t, problems, c)
		assert.Equal(t, "GET "+c.want, written(built), "%+v", c)
	}
}

const everything = `openapi: 3.0.3
info: {title: Hall}
servers:
  - url: https://{place}.heatherfold.example/{version}/
    variables:
      place: {default: hall, enum: [hall, shed]}
      version: {default: v2}
paths:
  /jobs/{id}:
    parameters:
      - {name: id, in: path, required: true, schema: {type: integer, format: int32}}
    get:
      operationId: job
      parameters:
        - {name: id, in: query, schema: {type: string}}
        - {name: when, in: query, required: true, deprecated: true, schema: {type: string, format: date}}
        - {name: filter, in: query, content: {application/json: {schema: {type: object, properties: {a: {type: integer}}}}}}
        - {name: free, in: query, allowReserved: true, schema: {type: string}}
        - {name: Accept, in: header, schema: {type: string}}
      responses:
        2XX:
          description: fine
          headers:
            X-Left: {required: true, schema: {type: integer, minimum: 0}}
          content:
            application/json: {schema: {$ref: "#/components/schemas/Job"}}
            text/*: {}
        "404": {description: none, content: {application/problem+json: {schema: {type: object, required: [title]}}}}
    put:
      operationId: replace
      requestBody:
        required: true
        content:
          application/json: {schema: {$ref: "#/components/schemas/Job"}}
          application/xml: {schema: {$ref: "#/components/schemas/Job"}}
          text/plain: {schema: {type: string, maxLength: 3}}
      responses: {"204": {description: done}}
  /pictures:
    post:
      operationId: picture
      requestBody:
        content:
          multipart/form-data:
            schema:
              type: object
              required: [file]
              properties:
                file: {type: string, format: binary}
                about: {type: object, properties: {by: {type: string}}}
                tags: {type: array, items: {type: string}}
            encoding:
              file:
                contentType: image/png, image/jpeg
                headers:
                  X-Size: {required: true, schema: {type: string, enum: [small]}}
                  X-Note: {schema: {type: string}}
              about: {headers: {X-Kind: {required: true, example: note, schema: {type: string}}}}
              tags: {contentType: text/*}
      responses: {default: {description: any}}
      callbacks:
        kept:
          "{$request.body#/notify}":
            post: {summary: The picture is kept., responses: {"200": {description: ok}}}
  /notes:
    post:
      requestBody:
        content:
          application/x-www-form-urlencoded:
            schema: {type: object, properties: {text: {type: string}, places: {type: array, items: {type: string}}, more: {type: object}}}
            encoding:
              places: {style: spaceDelimited, explode: false}
      responses: {default: {description: any}}
  /animals:
    post:
      operationId: animal
      requestBody:
        content:
          application/json:
            schema:
              oneOf:
                - $ref: "#/components/schemas/Bee"
                - $ref: "#/components/schemas/Wasp"
              discriminator: {propertyName: kind, mapping: {worker: "#/components/schemas/Bee"}}
      responses: {default: {description: any}}
components:
  schemas:
    Job:
      type: object
      required: [number, state, hive]
      xml: {name: job, namespace: "urn:hall", prefix: h}
      properties:
        number: {type: string, readOnly: true, xml: {attribute: true}}
        state: {type: string, enum: [queued, done, null], nullable: true}
        hive: {type: integer, minimum: 1, exclusiveMinimum: true, maximum: 9}
        secret: {type: string, writeOnly: true}
        next: {$ref: "#/components/schemas/Job"}
        frames: {type: array, items: {type: integer, xml: {name: frame}}, xml: {wrapped: true}}
    Bee: {type: object, required: [kind, sting], properties: {kind: {type: string}, sting: {type: boolean}}}
    Wasp: {type: object, required: [kind, nest], properties: {kind: {type: string}, nest: {type: string}}}
`

// A call's fields go where the description has them; what is wrong is told before
// anything is sent.
func TestBuild(t *testing.T) {
	for _, c := range []struct{ name, give, mediaType, want, problems string }{
		{"job", "path.id: 7\nquery.id: x\nwhen: 2026-11-23", "", "GET /jobs/7?id=x&when=2026-11-23", ""},
		{
			"job", "path: {id: 7}\nwhen: 2026-11-23\nfilter: {a: 1}\nfree: a/b", "",
			"GET /jobs/7?when=2026-11-23&filter=%7B%22a%22%3A1%7D&free=a/b", "",
		},
		{
			"job", "id: 7", "", "",
			`job has "id" in several places; write path.id or query.id, id is missing, when is missing`,
		},
		{
			"job", "path.id: 3000000000\nwhen: soon\nfilter: {a: x}", "", "",
			`id is not an int32: it is too large: 3000000000, when is not a date (2026-11-23): "soon", filter.a must be an integer, and is "x"`,
		},
		{"job", "path.id: 7\nwhen: 2026-11-23\nwhn: 1", "", "", `job has no field "whn"; did you mean "when"?`},
		{"GET /jobs/{id}", "path.id: 7\nwhen: 2026-11-23", "", "GET /jobs/7?when=2026-11-23", ""},
		{
			"replace", "id: 7\nstate: done\nhive: 2\nframes: [1, 2]", "",
			`PUT /jobs/7 | application/json {"state":"done","hive":2,"frames":[1,2]}`, "",
		},
		{"replace", "id: 7\nstate: null\nhive: 2", "", `PUT /jobs/7 | application/json {"state":null,"hive":2}`, ""},
		{
			"replace", "id: 7\nstate: gone\nhive: 1\nnumber: x", "", "",
			`number is read-only: the service sets it, state must be one of queued, done, null, and is "gone", hive must be over 1, and is 1`,
		},
		{
			"replace", "id: 7\nhive: 10\nstat: done", "", "",
			`replace has no field "stat"; did you mean "state"?, state is missing, hive must be at most 9, and is 10`,
		},
		{
			"replace", "id: 7\nstate: done\nhive: 2\nframes: [1, 2]\nnext: {state: queued, hive: 3}", "application/xml",
			`PUT /jobs/7 | application/xml <h:job xmlns:h="urn:hall"><state>done</state><hive>2</hive><frames><frame>1</frame><frame>2</frame></frames><h:job><state>queued</state><hive>3</hive></h:job></h:job>`, "",
		},
		{"replace", "id: 7\nbody: hi", "text/plain", `PUT /jobs/7 | text/plain "hi"`, ""},
		{"replace", "id: 7\nbody: high", "text/plain", "", "must have at most 3 characters, and has 4"},
		{"replace", "id: 7", "", "", "state is missing, hive is missing"},
		{
			"picture", "file: abc\nabout: {by: me}\ntags: [a, b]", "",
			`POST /pictures | multipart/form-data [file image/png true "abc" X-Size: small] [about application/json false {"by":"me"} X-Kind: note] [tags  false "a"] [tags  false "b"]`, "",
		},
		{
			"post_notes", "text: a&b\nplaces: [x y, z]\nmore: {a: 1}", "",
			"POST /notes | application/x-www-form-urlencoded text=a%26b&places=x%20y%20z&more=%7B%22a%22%3A1%7D", "",
		},
		{
			"animal", "kind: worker\nsting: true", "",
			`POST /animals | application/json {"kind":"worker","sting":true}`,
			"",
		},
		{"animal", "kind: worker\nnest: big", "", "", "sting is missing"},
		{"animal", "kind: fly", "", "", `says by kind that it is "fly", and may be: worker, Wasp`},
	} {
		op := operation(t, everything, c.name)
		built, problems := op.Build(fields(t, c.give), contract.BuildOptions{Type: c.mediaType})
		var words []string
		for _, p := range problems {
			words = append(words, p.String())
		}
		assert.Equal(t, c.problems, strings.Join(words, ", "), c.give)
		if c.want != "" {
			assert.Equal(t, c.want, written(built))
		}
	}
	c := read(t, everything)
	assert.Equal(t, "https://hall.heatherfold.example/v2", c.Head().Servers[0].Address)
	assert.Empty(t, c.Head().Notes)
	assert.Equal(t, "{$request.body#/notify}", operation(t, everything, "picture").Callbacks[0].Address)
}

// Answers are checked against what is declared for their status.
func TestJudge(t *testing.T) {
	op := operation(t, everything, "job")
	for _, c := range []struct {
		status                int
		mediaType, left, body string
		want                  string
	}{
		{200, "application/json", "5", `{"number": "1", "state": null, "hive": 2}`, ""},
		{
			206, "application/json; charset=utf-8", "5",
			`{"number": "1", "state": "done", "hive": 2, "next": {"number": "2", "state": "queued", "hive": 3}}`, "",
		},
		{200, "application/json", "", `{"number": "1", "state": "done", "hive": 2}`, "the header X-Left is missing"},
		{
			200, "application/json", "-1", `{"number": "1", "state": "done", "hive": 2}`,
			"the header X-Left must be at least 0, and is -1",
		},
		{
			200, "application/json", "5",
			`{"state": "done", "hive": 2.5, "next": {"number": 1, "state": "done", "hive": 2}}`,
			"number is missing; hive must be an integer, and is 2.5; next.number must be text, and is 1",
		},
		{
			200, "application/json", "5", `{"number": "1", "state": "done", "hive": 2, "secret": "x"}`,
			"secret is write-only, and is in the answer",
		},
		{200, "text/html", "5", `{}`, ""},
		{
			200, "image/png", "5", `{}`,
			"the content type image/png is not described for 2XX; described are application/json, text/*",
		},
		{200, "application/json", "5", "", "the answer is empty, and application/json or text/* is declared for 2XX"},
		{404, "application/problem+json", "", `{}`, "title is missing"},
		{500, "application/json", "", `{}`, "the status 500 is not described; described are 2XX, 404"},
	} {
		got := contract.Got{Status: c.status, Header: http.Header{"Content-Type": {c.mediaType}}, Empty: c.body == ""}
		if c.left != "" {
			got.Header.Set("X-Left", c.left)
		}
		if c.body != "" {
			got.Body, _ = document.ReadJSON([]byte(c.body))
		}
		assert.Equal(t, c.want, strings.Join(op.Judge(got).Wrong, "; "), c.body)
	}
	xml := operation(t, everything, "replace").Body.Contents[1].Schema
	e, err := document.ReadXML(
		[]byte(`<h:job xmlns:h="urn:hall"><state>odd</state><hive>2</hive><frames><frame>x</frame></frames></h:job>`),
		"")
	require.NoError(t, err)
	var words []string
	for _, f := range xml.Check(e) {
		words = append(words, f.Text())
	}
	assert.Equal(t, `state must be one of queued, done, null, and is "odd"; frames[0] must be an integer, and is "x"`,
		strings.Join(words, "; "))
}

// What the service sends of its own is told with the whole, also where it is described elsewhere.
func TestWebhooks(t *testing.T) {
	c, err := openapi.Read("hives.yaml", []byte(`openapi: 3.1.0
info: {title: t, version: "1"}
webhooks:
  graded: {post: {summary: A lot was graded., responses: {"200": {description: taken}}}}
  moved: {$ref: "#/components/pathItems/moved"}
components:
  pathItems: {moved: {put: {description: A hive was moved., responses: {"200": {description: taken}}}}}
`), nil)
	require.NoError(t, err)
	assert.Equal(t, []contract.Callback{
		{Name: "graded", Method: "POST", About: "A lot was graded."}, {Name: "moved", Method: "PUT", About: "A hive was moved."},
	}, c.Head().Webhooks)
	assert.Contains(t, contract.OverviewOf(c).Places, contract.Table{
		Title: "webhooks", About: "The service sends these; a step with listen: takes one.",
		Rows: [][]string{{"graded", "POST", "A lot was graded."}, {"moved", "PUT", "A hive was moved."}},
	})
}

// A header of a part that the contract asks for and gives no value for cannot be made up.
func TestHeaderOfAPart(t *testing.T) {
	op := operation(t, `openapi: 3.1.0
info: {title: t, version: "1"}
paths:
  /seals:
    post:
      operationId: seal
      requestBody:
        content:
          multipart/form-data:
            schema: {type: object, properties: {seal: {type: string}}}
            encoding: {seal: {headers: {X-Kind: {required: true, schema: {type: string}}}}}
      responses: {default: {description: any}}
`, "seal")
	_, problems := op.Build(fields(t, "seal: s"), contract.BuildOptions{})
	require.Len(t, problems, 1)
	assert.Equal(t, "seal must have the header X-Kind, and the contract gives no value for it; "+
		"write the request with parts: in a step, and headers: at the part", problems[0].String())
}

// The older form says the same in other words.
func TestSwagger(t *testing.T) {
	const older = `swagger: "2.0"
host: hall.heatherfold.example
basePath: /v1
schemes: [https, http]
consumes: [application/json]
paths:
  /lots/{id}/{places}:
    get:
      operationId: get
      parameters:
        - {name: id, in: path, required: true, type: integer}
        - {name: places, in: path, required: true, type: array, items: {type: string}, collectionFormat: pipes}
        - {name: X-Sizes, in: header, type: array, items: {type: integer}, collectionFormat: ssv}
      responses: {default: {description: any}}
  /lots/{id}:
    post:
      operationId: post
      consumes: [multipart/form-data]
      parameters:
        - {name: id, in: path, required: true, type: integer}
        - {name: tags, in: query, type: array, items: {type: string}, collectionFormat: multi}
        - {name: more, in: query, type: array, items: {type: string}, collectionFormat: ssv}
        - {name: all, in: query, type: array, items: {type: string}}
        - {name: photo, in: formData, type: file, required: true}
        - {name: note, in: formData, type: string, maxLength: 3}
        - {name: kinds, in: formData, type: array, items: {type: string}, collectionFormat: tsv}
      responses: {"200": {description: ok, schema: {type: array, items: {$ref: "#/definitions/Lot"}}}}
    put:
      operationId: put
      parameters:
        - {name: id, in: path, required: true, type: integer}
        - {name: lot, in: body, required: true, schema: {$ref: "#/definitions/Lot"}}
      responses: {default: {description: any}}
definitions:
  Lot: {type: object, required: [kind], properties: {kind: {type: string, x-nullable: true}, size: {type: number, minimum: 0, exclusiveMinimum: true}}}
`
	op := operation(t, older, "post")
	built, problems := op.Build(fields(t, "id: 1\ntags: [a, b]\nmore: [a, b]\nall: [a, b]\nphoto: x\nnote: abc\nkinds: [a, b]"),
		contract.BuildOptions{})
	assert.Empty(t, problems)
	assert.Equal(t, `POST /lots/1?tags=a&tags=b&more=a%20b&all=a,b | multipart/form-data [photo application/octet-stream true "x"] [note  false "abc"] [kinds  false "a\tb"]`, written(built))
	built, problems = operation(t, older, "get").Build(fields(t, "id: 1\nplaces: [a b, c]\nX-Sizes: [1, 2]"), contract.BuildOptions{})
	assert.Empty(t, problems)
	assert.Equal(t, "GET /lots/1/a%20b%7Cc | X-Sizes: 1 2", written(built))
	put := operation(t, older, "put")
	built, problems = put.Build(fields(t, "id: 1\nkind: null\nsize: 0.5"), contract.BuildOptions{})
	assert.Empty(t, problems)
	assert.Equal(t, `PUT /lots/1 | application/json {"kind":null,"size":0.5}`, written(built))
	_, problems = put.Build(fields(t, "id: x\nsize: 0"), contract.BuildOptions{})
	assert.Equal(t, `[id must be an integer, and is "x" kind is missing size must be over 0, and is 0]`,
		fmt.Sprint(problems))
	body, _ := document.ReadJSON([]byte(`[{"kind": "a"}, {"size": 1}]`))
	assert.Equal(t, []string{"[1].kind is missing"},
		op.Judge(contract.Got{
			Status: 200, Header: http.Header{"Content-Type": {"application/json"}},
			Body: body,
		}).Wrong)
	servers := read(t, older).Head().Servers
	assert.Equal(t, "https://hall.heatherfold.example/v1", servers[0].Address)
}

// Descriptions of several files, in circles and with mistakes are read as far as
// they go, and what is wrong is told with its place.
func TestDocuments(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"main.yaml": `openapi: 3.1.0
paths:
  /lots:
    $ref: paths/lots.yaml
  /lots/{a}:
    get:
      operationId: lots
      parameters:
        - {name: b, in: path, required: true, schema: {type: string}}
        - {name: c, in: body, schema: {}}
        - {name: q, in: query, schema: {$ref: '#/components/schemas/None'}}
        - {name: q, in: query, schema: {type: string}}
        - {name: r, in: query, schema: {type: strin}}
        - $ref: '#/components/parameters/round'
      responses: {}
  /lots/{z}:
    delete: {responses: {}}
  away:
    get: {responses: {}}
components:
  parameters:
    round: {$ref: '#/components/parameters/round'}
`,
		"paths/lots.yaml": `get:
  operationId: lots
  responses:
    '200':
      description: x
      content:
        application/json:
          schema:
            $ref: ../schemas.json#/$defs/Lot
`,
		"schemas.json":   `{"$defs": {"Lot": {"type": "object", "properties": {"inner": {"$ref": "#/$defs/Lot"}, "size": {"$ref": "#size"}}}, "S": {"$anchor": "size", "type": "integer"}}}`,
		"elsewhere.yaml": "openapi: 3.1.0\npaths:\n  /a:\n    $ref: https://elsewhere.example/paths.yaml\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	fetch := func(base, location string) (string, []byte, error) {
		if strings.Contains(location, "://") {
			return "", nil, fmt.Errorf("leads to another host")
		}
		name := filepath.Join(filepath.Dir(base), location)
		data, err := os.ReadFile(name)
		return name, data, err
	}
	main := filepath.Join(dir, "main.yaml")
	data, err := os.ReadFile(main)
	require.NoError(t, err)
	c, err := openapi.Read(main, data, fetch)
	require.NoError(t, err)
	assert.Equal(t, []string{"lots", "get_lots_a", "delete_lots_z", "get_away"}, c.Names())
	op, err := c.Operation("lots")
	require.NoError(t, err)
	body, _ := document.ReadJSON([]byte(`{"inner": {"inner": {"size": "x"}}}`))
	assert.Equal(t, []string{`inner.inner.size must be an integer, and is "x"`},
		op.Judge(contract.Got{
			Status: 200, Header: http.Header{"Content-Type": {"application/json"}},
			Body: body,
		}).Wrong)
	broken, err := c.Operation("get_lots_a")
	require.NoError(t, err)
	notes := strings.Join(append(c.Head().Notes, broken.Notes...), "\n")
	for _, says := range []string{
		"two operations are called lots: GET /lots and GET /lots/{a}",
		"the paths /lots/{a} and /lots/{z} cannot be told apart", `the path "away" does not begin with /`,
		"goes round in a circle", "the path /lots/{a} has no place for its parameter b",
		"the path's parameter a is not described", `the parameter q is there twice in the query`,
		"$ref #/components/schemas/None leads to nowhere", `breaks its own rules: type must be one of`,
	} {
		assert.Contains(t, notes, says)
	}
	data, _ = os.ReadFile(filepath.Join(dir, "elsewhere.yaml"))
	c, err = openapi.Read(filepath.Join(dir, "elsewhere.yaml"), data, fetch)
	require.NoError(t, err)
	assert.Contains(t, c.Head().Notes[0],
		"elsewhere.yaml:4:5: $ref https://elsewhere.example/paths.yaml: leads to another host")
	bomb := "openapi: 3.1.0\nx0: &x0 [a, a, a, a, a, a, a, a, a, a]\n"
	for i := range 9 {
		bomb += fmt.Sprintf("x%d: &x%d [%s]\n", i+1, i+1,
			strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*x%d, ", i), 10), ", "))
	}
	for text, says := range map[string]string{
		"openapi: 2.5.0\n":             "2.0, 3.0 and 3.1 are read",
		"openapi: 3.1.0\na: &a [*a]\n": "is inside what it refers to", bomb: "aliases",
	} {
		_, err := openapi.Read("x", []byte(text), nil)
		assert.ErrorContains(t, err, says)
	}
}

// What is drafted by a description passes against it.
func TestDrafts(t *testing.T) {
	for _, text := range []string{everything, stores} {
		c := read(t, text)
		for _, name := range c.Names() {
			op, err := c.Operation(name)
			require.NoError(t, err)
			for _, o := range []schema.SampleOptions{{}, {Optional: true}} {
				_, problems := op.Build(op.SampleFields(o), contract.BuildOptions{})
				assert.Empty(t, problems, name)
			}
		}
	}
	step := operation(t, everything, "replace").SampleStep(schema.SampleOptions{Optional: true})
	assert.Equal(t, `- step: replace
  call: hall/replace
  fill:
    id: 1  # integer, int32
    state: queued  # one of queued, done
    hive: 2  # integer, at most 9, over 1
    secret: text  # may be left out; text
    frames:  # may be left out; a list of integer
      - 1
`, contract.StepText("hall/replace", step))
}

// net is a description in which every schema leads to all others.
func net(schemas int) []byte {
	var paths, all strings.Builder
	for i := range schemas {
		fmt.Fprintf(&paths, `  /t%d/{id}:
    put:
      operationId: put%d
      parameters: [{name: id, in: path, required: true, schema: {type: integer}}]
`+
			"      requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/T%d'}}}}\n"+
			"      responses: {'200': {description: ok, content: {application/json: {schema: {$ref: '#/components/schemas/T%d'}}}}}\n", i, i, i, i)
		fmt.Fprintf(&all, `    T%d:
      type: object
      required: [id]
      properties:
        id: {type: integer, format: int64}
        next: {$ref: '#/components/schemas/T%d'}
`+
			"        all: {type: array, items: {$ref: '#/components/schemas/T%d'}}\n        kind: {type: string, enum: [heather, lime]}\n", i, (i+1)%schemas, (i*7+3)%schemas)
	}
	return []byte("openapi: 3.0.3\npaths:\n" + paths.String() + "components:\n  schemas:\n" + all.String())
}

// What leads everywhere is compiled as far as it is needed, and drafted as far as
// anybody would fill it in; what is wrong deep in it is told where it is met.
func TestNet(t *testing.T) {
	c, err := openapi.Read("net.yaml", net(300), nil)
	require.NoError(t, err)
	op, err := c.Operation("put7")
	require.NoError(t, err)
	made := op.SampleStep(schema.SampleOptions{Optional: true})
	_, problems := op.Build(made.Root, contract.BuildOptions{})
	assert.Empty(t, problems)
	assert.Positive(t, made.Omitted)
	assert.Less(t, len(document.WriteJSON(made.Root, document.Style{})), 10_000)
	broken := strings.Replace(string(net(30)),
		"properties:\n        id: {type: integer, format: int64}\n        next: {$ref: '#/components/schemas/T10'}",
		"properties:\n        next: {$ref: '#/components/schemas/None'}", 1)
	c, err = openapi.Read("net.yaml", []byte(broken), nil)
	require.NoError(t, err)
	op, err = c.Operation("put7")
	require.NoError(t, err)
	_, problems = op.Build(fields(t, "{path.id: 1, body.id: 1, next: {id: 2}}"), contract.BuildOptions{})
	assert.Empty(t, problems, "what is broken is not met")
	_, problems = op.Build(fields(t, "{path.id: 1, body.id: 1, next: {id: 2, next: {id: 3}}}"), contract.BuildOptions{})
	require.Len(t, problems, 1)
	assert.Equal(t, "next.next cannot be judged: $ref #/components/schemas/None leads to nowhere: there is no None in /components/schemas", problems[0].String())
}

// What is wrong in alternatives within alternatives is told in time.
func TestAlternativesWithin(t *testing.T) {
	const nested = `openapi: 3.1.0
paths: {/x: {post: {operationId: x, requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/E'}}}}}}}
components: {schemas: {E: {anyOf: [{type: object, required: [n], properties: {n: {type: integer}, e: {$ref: '#/components/schemas/E'}}}, {type: boolean}]}}}
`
	text := "{n: 1}"
	for range 40 {
		text = "{n: 1, e: " + text + "}"
	}
	op := operation(t, nested, "x")
	_, problems := op.Build(fields(t, text), contract.BuildOptions{})
	assert.Empty(t, problems)
	_, problems = op.Build(fields(t, strings.Replace(text, "{n: 1}", "{n: one}", 1)), contract.BuildOptions{})
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].String(),
		strings.Repeat("e.", 40)+`n must be an integer, and is "one" (the nearest of 2 alternatives)`)
	assert.Equal(t, 1, strings.Count(problems[0].String(), "nearest"))
}

func BenchmarkNet(b *testing.B) {
	data := net(6000)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		c, err := openapi.Read("net.yaml", data, nil)
		if err != nil {
			b.Fatal(err)
		}
		op, err := c.Operation("put77")
		if err != nil {
			b.Fatal(err)
		}
		op.SampleFields(schema.SampleOptions{Optional: true})
	}
}

// Values that came a line each are held against the schema of all of them as a list, or of one, whichever the
// description means.
func TestJudgeLines(t *testing.T) {
	lot := `{type: object, required: [id], properties: {id: {type: integer}, kilos: {type: number}}}`
	for name, c := range map[string]struct{ schema, lines, want string }{
		"each is so":        {lot, `[{"id":1},{"id":2,"kilos":3.5}]`, ""},
		"one of them":       {lot, `[{"id":1},{"id":2,"kilos":"x"}]`, `[1].kilos must be a number, and is "x"`},
		"one lacks it":      {lot, `[{"kilos":1},{"id":1}]`, "[0].id is missing"},
		"a list of them":    {"{type: array, items: " + lot + "}", `[{"id":1},{"id":"b"}]`, `[1].id must be an integer, and is "b"`},
		"fewer than asked":  {"{type: array, minItems: 3, items: " + lot + "}", `[{"id":1}]`, "the body must have at least 3 items, and has 1"},
		"a list, none came": {"{type: array, minItems: 3, items: " + lot + "}", `[]`, "must have at least 3 items"},
		"one of a kind":     {lot, `[{"id":1},7]`, "[1]: must be an object, and is 7"},
		"none came":         {lot, `[]`, "the body must be an object, and is an empty list"},
		"without a kind":    {"{required: [id]}", `[{"id":1},{"kilos":2}]`, "[1].id is missing"},
		"a list, unsaid":    {"{minItems: 3}", `[{"id":1}]`, "the body must have at least 3 items"},
		"either":            {"{oneOf: [" + lot + ", {type: array, items: " + lot + "}]}", `[{"id":1},{"id":2}]`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			op := operation(t, `openapi: 3.0.3
info: {title: t, version: "1"}
paths:
  /lots:
    get: {operationId: lots, responses: {"200": {description: d, content: {application/json: {schema: `+c.schema+`}}}}}
`, "lots")
			body, err := document.ReadJSON([]byte(c.lines))
			require.NoError(t, err)
			got := op.Judge(contract.Got{
				Status: 200, Header: http.Header{"Content-Type": {"application/json"}}, Body: body, Lines: true,
			})
			assert.Contains(t, strings.Join(got.Wrong, "; "), c.want)
			assert.Equal(t, c.want == "", len(got.Wrong) == 0, got.Wrong)
		})
	}
}
