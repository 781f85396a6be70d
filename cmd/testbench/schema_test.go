package main_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// fileSchema gives a schema of the program to a validator that is not ours.
func fileSchema(t *testing.T, p *place, kind string) func(text string) error {
	t.Helper()
	o := p.run("schema", kind)
	require.Equal(t, 0, o.status, o.all())
	root, err := jsonschema.UnmarshalJSON(strings.NewReader(o.stdout))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource(kind+".json", root))
	schema, err := compiler.Compile(kind + ".json")
	require.NoError(t, err)
	return func(text string) error {
		node, err := document.ReadYAML([]byte(text))
		require.NoError(t, err, text)
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(document.WriteJSON(node, document.Style{})))
		require.NoError(t, err)
		return schema.Validate(v)
	}
}

const schemaBench = `bench: honey
sites:
  local: {set: {base: "http://a.example", depot: north}, guard: read only, timeout: 5 s, proxy: {address: "http://p:1"}}
services:
  stores:
    address: ${base}/stores
    soap: 1.1
    http: 1.1
    login: clerk
    always: {headers: {X-A: b}}
    timeout: 20 s
    operations:
      search: {request: GET /lots, query: {grade: optional, depot: {required: true}}, success: [200, 2xx], reads: true}
logins:
  clerk: {kind: basic, user: u, password: "${sealed.p}"}
  issued: {kind: oauth2, from: "${base}/t", grant: client credentials, client: c, client secret: "${sealed.p}"}
  key: {kind: key, key: "${sealed.p}", header: X-Key}
  ticket: {kind: login call, request: "POST ${base}/t", token path: t, expires in: 5 min, send: {header: Authorization}}
databases:
  books: {kind: sqlite, address: books.db}
checks:
  good: {expect: {status: 200, time: under 1 s}, fields: {n: is number}, where: 1 == 1}
fills:
  of_north: {depot: north}
names: {lab: "urn:lab"}
`

const schemaSheet = `sheet: search
about: looks
tags: [a, b]
rows: {from: data/a.csv, limit: 5}
takes: {lot: L-1}
expect: {p95: under 1 s}
first:
  - {step: before, pause: 1 s}
steps:
  - step: search
    call: stores/search
    fill: {grade: A, list: [1, 2]}
    fills: of_north
    checks: [good]
    login: {spoil: clerk, how: expired}
    timeout: 5 s
    until: {total: over 5}
    every: 1 s to 5 s
    within: 1 min
    states: {of: state, allowed: [a, b]}
    again: {times: 3, pause: 1 s, on: [503]}
    keep: {lot: "lots[0].id", token: {at: t, secret: true}}
    expect: {status: 200 or 201, time: under 1 s, headers: {X-A: b}, error: none}
    fields: {total: 5, "lots[0]": {equals: {a: 1}}, other: [is text, not is empty], none: null}
    where: [answer.a == 1]
    when: kept.a == 1
    soft: true
    contract: off
    redirects: off
    http: 2
    pages: 3
    undo: {request: "DELETE /x"}
  - {step: sent, request: stores POST /lots, body: {a: [1]}, headers: {X-A: null}, soap: off, attach: [{file: a.txt}]}
  - {step: values, set: {a: 1, b: [2]}}
  - {step: group, for each: "${lots}", steps: [{calculate: {n: 1 + 1}}]}
  - {step: back, listen: {method: POST, answer: {status: 202}}, within: 5 s}
  - {step: books, lookup: books, sql: select 1, fields: {n: 1}}
  - {step: many, batch: stores, as: json, parts: [{step: one, call: stores/search}]}
`

// typicalMistakes are made in one of the two files above: a text and what is written in its place.
var typicalMistakes = map[string][][2]string{
	"bench": {
		{"sites:", "site:"},
		{"set: {base", "sets: {base"},
		{"{base: \"http://a.example\", depot: north}", "[base, depot]"},
		{"depot: north}, guard", "\"de pot\": north}, guard"},
		{"guard: read only", "guard: readonly"},
		{"guard: read only", "guard: true"},
		{"timeout: 5 s,", "timeout: 5,"},
		{"timeout: 5 s,", "timeout: soon,"},
		{`proxy: {address: "http://p:1"}`, `proxy: "http://p:1"`},
		{`proxy: {address: "http://p:1"}`, "proxy: {login: clerk}"},
		{"services:\n  stores:", "services:\n  - name: stores"},
		{"address: ${base}/stores", "adress: ${base}/stores"},
		{"address: ${base}/stores", "url: ${base}/stores"},
		{"address: ${base}/stores", "address: [a, b]"},
		{"soap: 1.1", "soap: 1.3"},
		{"http: 1.1", "http: 3"},
		{"login: clerk", "login: {kind: basic}"},
		{"always: {headers: {X-A: b}}", "always: {header: {X-A: b}}"},
		{"always: {headers: {X-A: b}}", "always: {headers: [X-A]}"},
		{"request: GET /lots", "method: [GET], path: {x: {}}"},
		{"request: GET /lots", "requests: GET /lots"},
		{"depot: {required: true}", "depot: {require: true}"},
		{"depot: {required: true}", "depot: {required: maybe}"},
		{"reads: true", "reads: sometimes"},
		{"success: [200, 2xx]", "success: [20]"},
		{"success: [200, 2xx]", "success: ok"},
		{"kind: basic, user: u", "kind: basics, user: u"},
		{"kind: basic, user: u", "user: u"},
		{"kind: basic, user: u", "kind: basic"},
		{"kind: basic, user: u", "kind: basic, token: t, user: u"},
		{"grant: client credentials", "grant: client_credentials"},
		{"client: c, client secret", "client: c, client_secret"},
		{"key: {kind: key, key: \"${sealed.p}\", header", "key: {kind: key, header"},
		{"expires in: 5 min", "expires_in: 5 min"},
		{"send: {header: Authorization}", "send: Authorization"},
		{"books: {kind: sqlite, address: books.db}", "books: {kind: oracle, address: books.db}"},
		{"books: {kind: sqlite, address: books.db}", "books: {kind: sqlite}"},
		{"books: {kind", "the books: {kind"},
		{"where: 1 == 1}", "keep: {a: b}}"},
		{"of_north: {depot: north}", "of_north: north"},
	},
	"sheet": {
		{"steps:\n  - step: search", "stepz:\n  - step: search"},
		{"tags: [a, b]", "tags: {a: b}"},
		{"rows: {from: data/a.csv, limit: 5}", "rows: {from: data/a.csv, limit: few}"},
		{"rows: {from: data/a.csv, limit: 5}", "rows: {from: data/a.csv, maximum: 5}"},
		{"expect: {p95: under 1 s}", "expect: {p96: under 1 s}"},
		{"pause: 1 s}", "pause: a while}"},
		{"pause: 1 s}", "pause: 1 s, call: a/b}"},
		{"pause: 1 s}", "sleep: 1 s}"},
		{"pause: 1 s}", "pause: 1 s, expect: {status: 200}}"},
		{"call: stores/search\n", "call: {service: stores}\n"},
		{"call: stores/search\n", "about: nothing\n"},
		{"fill: {grade: A, list: [1, 2]}", "fill: grade"},
		{"checks: [good]", "checks: {good: true}"},
		{"how: expired", "how: broken"},
		{"spoil: clerk, how: expired", "spoil: clerk"},
		{"timeout: 5 s", "timeout: 5000"},
		{"until: {total: over 5}", "until: total over 5"},
		{"within: 1 min", "within: 60"},
		{"of: state, allowed", "allowed"},
		{"times: 3, pause", "pause"},
		{"times: 3,", "times: 0,"},
		{"keep: {lot: \"lots[0].id\"", "keep: {\"the lot\": \"lots[0].id\""},
		{"at: t, secret: true", "secret: true"},
		{"status: 200 or 201", "status: 200 and 201"},
		{"status: 200 or 201", "status: 600"},
		{"status: 200 or 201", "status: {min: 200}"},
		{"status: 200 or 201", "code: 200"},
		{"headers: {X-A: b}, error", "headers: [X-A], error"},
		{"fields: {total: 5", "fields: {total: {over: 1, under: 5}"},
		{"fields: {total: 5", "fields: {total: {more than: 5}"},
		{"where: [answer.a == 1]", "where: {a: 1}"},
		{"when: kept.a == 1", "when: [a, b]"},
		{"soft: true", "soft: sometimes"},
		{"contract: off", "contract: none"},
		{"redirects: off", "redirects: false"},
		{"http: 2", "http: 2.0.1"},
		{"pages: 3", "pages: all"},
		{`undo: {request: "DELETE /x"}`, "undo: DELETE /x"},
		{"attach: [{file: a.txt}]", "attach: [a.txt]"},
		{"attach: [{file: a.txt}]", "attach: [{name: a.txt}]"},
		{"set: {a: 1, b: [2]}", "set: [a]"},
		{"calculate: {n: 1 + 1}", "calculate: {n: [1]}"},
		{"method: POST, answer", "method: post, answer"},
		{"as: json", "as: yaml"},
		{"parts: [{step: one, call: stores/search}]", "parts: [stores/search]"},
	},
}

// The schemas take what the program takes, and refuse what it refuses.
func TestSchemas(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	demo, err := filepath.Glob(filepath.Join(p.dir, "sheets", "*.yaml"))
	require.NoError(t, err)
	for kind, files := range map[string][]string{"bench": {filepath.Join(p.dir, "bench.yaml")}, "sheet": demo} {
		valid := fileSchema(t, p, kind)
		for _, file := range files {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.NoError(t, valid(string(data)), file)
		}
		good := map[string]string{"bench": schemaBench, "sheet": schemaSheet}[kind]
		assert.NoError(t, valid(good), kind)
		seen := map[[2]string]bool{}
		for _, mistake := range typicalMistakes[kind] {
			require.Contains(t, good, mistake[0])
			require.False(t, seen[mistake], mistake)
			seen[mistake] = true
			bad := strings.Replace(good, mistake[0], mistake[1], 1)
			assert.Error(t, valid(bad), "%s: %s", kind, mistake[1])
			// The program finds a mistake more than there were.
			p.write("b/bench.yaml", schemaBench)
			args := []string{"vet", "-bench", "b"}
			if kind == "sheet" {
				p.write("b/s.yaml", good)
				args = append(args, "b/s.yaml")
			}
			before := p.run(args...).all()
			p.write(map[string]string{"bench": "b/bench.yaml", "sheet": "b/s.yaml"}[kind], bad)
			assert.NotEqual(t, before, p.run(args...).all(), "%s: %s", kind, mistake[1])
		}
	}
	require.GreaterOrEqual(t, len(typicalMistakes["bench"])+len(typicalMistakes["sheet"]), 60)
}

// Every block of YAML in the documents is what the program reads. A part of a file may name what
// stands in another part.
func TestYAMLOfDocuments(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	demo := p.read("bench.yaml")
	valid := map[string]func(string) error{"bench": fileSchema(t, p, "bench"), "sheet": fileSchema(t, p, "sheet")}
	mistakes := func(file string, elsewhere ...string) []string {
		var found []string
		for line := range strings.Lines(p.run("vet", "sheets/of_document.yaml").all()) {
			isElsewhere := func(text string) bool { return strings.Contains(line, text) }
			if strings.HasPrefix(line, file+":") && !strings.Contains(line, "remark:") && !slices.ContainsFunc(elsewhere, isElsewhere) {
				found = append(found, line)
			}
		}
		return found
	}
	files, err := filepath.Glob("../../docs/guide/*.md")
	require.NoError(t, err)
	for _, file := range append(files, "../../README.md") {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, block := range strings.Split(string(data), "```yaml\n")[1:] {
			block, _, _ = strings.Cut(block, "```")
			first, _, _ := strings.Cut(block, "\n")
			where := file + ": " + first
			switch key, _, _ := strings.Cut(first, ":"); key {
			case "test", "answers": // a job of a CI system; the answers of a simulation
			case "sites", "services", "logins", "databases", "checks", "fills":
				assert.NoError(t, valid["bench"]("bench: x\n"+block), where)
				p.write("bench.yaml", withSections(demo, block))
				p.write("sheets/of_document.yaml", "sheet: x\nsteps: [{set: {a: 1}}]\n")
				assert.Empty(t, mistakes("bench.yaml", "there is no login", "nothing defines"), where)
				p.write("bench.yaml", demo)
			case "sheet":
				assert.NoError(t, valid["sheet"](block), where)
				p.write("sheets/of_document.yaml", block)
				assert.Empty(t, mistakes("sheets/of_document.yaml"), where)
			case "  - step":
				block = "sheet: x\nsteps:\n" + block
				assert.NoError(t, valid["sheet"](block), where)
				p.write("sheets/of_document.yaml", block)
				assert.Empty(t, mistakes("sheets/of_document.yaml", "nothing defines", "there is no check"), where)
			default:
				assert.Fail(t, "nobody knows what this is", where)
			}
		}
	}
}

// withSections puts sections (services: and what is below it) in the place of those of a bench file.
func withSections(bench, sections string) string {
	isSection := func(line string) bool { return line[0] >= 'a' && line[0] <= 'z' }
	var out strings.Builder
	leaveOut := false
	for line := range strings.Lines(bench) {
		if isSection(line) {
			key, _, _ := strings.Cut(line, ":")
			leaveOut = strings.HasPrefix(sections, key+":") || strings.Contains(sections, "\n"+key+":")
		}
		if !leaveOut {
			out.WriteString(line)
		}
	}
	return out.String() + sections
}
